package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"runtime"
	"strings"

	"gentle-harbor/internal/profile"
)

// commands lists every command, in the order of help.
func commands() []*command {
	return []*command{
		&addCommand, &listCommand, &showCommand, &removeCommand,
		&testCommand, &runCommand, &surveyCommand,
		&demoCommand, &helpCommand, &versionCommand,
	}
}

func find(name string) *command {
	for _, cmd := range commands() {
		if cmd.name == name {
			return cmd
		}
	}
	return nil
}

func commandNames() []string {
	var names []string
	for _, cmd := range commands() {
		names = append(names, cmd.name)
	}
	return names
}

var helpCommand = command{
	name: "help", synopsis: "[COMMAND]", about: "show this, or all about one command",
	examples: []string{"gharbor help test"},
}

var versionCommand = command{
	name: "version", about: "print the program's version", json: true,
	examples: []string{"gharbor version"},
	run: func(_ context.Context, c *call) error {
		if c.json {
			return writeJSON(c.Stdout, map[string]string{"version": Version, "go": runtime.Version(), "system": runtime.GOOS + "/" + runtime.GOARCH})
		}
		_, err := fmt.Fprintf(c.Stdout, "gharbor %s (%s, %s/%s)\n", Version, runtime.Version(), runtime.GOOS, runtime.GOARCH)
		return err
	},
}

func init() {
	helpCommand.run = func(_ context.Context, c *call) error {
		if len(c.names) == 0 {
			c.App.help(c.Stdout)
			return nil
		}
		cmd := find(c.names[0])
		if cmd == nil {
			return usage("there is no command %q; gharbor help lists all", clip(c.names[0]))
		}
		cmd.help(c.Stdout)
		return nil
	}
}

// help prints the overview.
func (a *App) help(w io.Writer) {
	fmt.Fprint(w, `gharbor keeps named ways into database servers, tests them leg by leg, and says where one failed, why,
what proves it, and what to try next. No password is ever kept in a profile or shown.

  gharbor COMMAND [names] [--flags]

Commands:
`)
	for _, cmd := range commands() {
		fmt.Fprintf(w, "  %-8s  %s\n", cmd.name, cmd.about)
	}
	fmt.Fprint(w, `
gharbor help COMMAND tells all about one, with examples. gharbor demo shows the tool at work on practice servers.

Profiles are files in the folder gentle-harbor of your configuration folder; GHARBOR_HOME names another folder.
GHARBOR_PROFILE names the profile of a command without one. GHARBOR_HOST, GHARBOR_PORT, GHARBOR_USER and the like
override one setting for every run of a shell.

Exit: 0 done; 2 wrong usage; 3 settings or files; 4 secret; 5 not reached; 6 login; 7 database or statement;
130 interrupted; 1 several profiles that failed in different ways.
`)
}

// help prints all about a command.
func (cmd *command) help(w io.Writer) {
	fmt.Fprintf(w, "gharbor %s", cmd.name)
	if cmd.synopsis != "" {
		fmt.Fprint(w, " "+cmd.synopsis)
	}
	fmt.Fprintf(w, " [--flags]\n\n%s.\n", strings.ToUpper(cmd.about[:1])+cmd.about[1:])
	if cmd.text != "" {
		fmt.Fprintf(w, "\n%s\n", cmd.text)
	}
	fmt.Fprint(w, "\nExamples:\n")
	for _, example := range cmd.examples {
		fmt.Fprintf(w, "  %s\n", example)
	}
	c := &call{command: cmd, set: profile.Layer{}}
	fs := flag.NewFlagSet("", flag.ContinueOnError)
	if cmd.flags != nil {
		cmd.flags(fs, c)
	}
	if cmd.json {
		fs.Bool("json", false, "print JSON")
	}
	first := true
	fs.VisitAll(func(f *flag.Flag) {
		if first {
			fmt.Fprint(w, "\nFlags:\n")
			first = false
		}
		fmt.Fprintf(w, "  --%-28s %s\n", f.Name, f.Usage)
	})
	if !cmd.settings {
		return
	}
	fmt.Fprint(w, "\nSettings:\n")
	for _, s := range profile.Settings {
		fmt.Fprintf(w, "  --%-28s %s (default: %s)\n", s.Flag+" "+s.Value, s.About, s.Default)
	}
}
