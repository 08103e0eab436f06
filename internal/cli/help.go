package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"runtime"
	"strings"

	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/report"
)

var helpCommand = command{
	name: "help", synopsis: "[COMMAND]", about: "show this, or all about one command",
	text:     "With --man it is written as a manual page, for the program man.",
	examples: []string{"gharbor help test", "gharbor help --man > gharbor.1", "gharbor help test --man > gharbor-test.1"},
	options:  of[helpOptions],
}

type helpOptions struct{ man bool }

func (o *helpOptions) flags(fs *flag.FlagSet, _ *harbor.Run) {
	fs.BoolVar(&o.man, "man", false, "write a manual page")
}

func (o *helpOptions) run(_ context.Context, c *call) error {
	if len(c.names) > 2 {
		return usage("help takes one command")
	}
	page, name, about := c.App.help, "gharbor", "keep profiles of connections to database servers, and test them"
	if len(c.names) > 0 {
		cmd := c.find(c.names[0])
		if cmd != nil && len(c.names) == 2 {
			if cmd = cmd.sub(c.names[1]); cmd == nil {
				return usage("%s has no action %q; gharbor help %s lists those it has", c.names[0], clip(c.names[1]), c.names[0])
			}
		}
		if cmd == nil {
			return usage("there is no command %q; gharbor help lists all", clip(c.names[0]))
		}
		page, name, about = cmd.help, "gharbor-"+strings.ReplaceAll(cmd.name, " ", "-"), cmd.about
	}
	if !o.man {
		return printPage(c.Stdout, page)
	}
	var text strings.Builder
	page(&text)
	manual(data(c.Stdout), name, about, text.String())
	return nil
}

// printPage prints what writes a page of help.
func printPage(w io.Writer, page func(io.Writer)) error {
	var text strings.Builder
	page(&text)
	return report.Page(w, text.String())
}

var versionCommand = command{
	name: "version", about: "print the program's version", json: true,
	examples: []string{"gharbor version"},
	options: without(func(_ context.Context, c *call) error {
		if c.json {
			return report.JSON(c.Stdout, map[string]string{"version": Version, "go": runtime.Version(), "system": runtime.GOOS + "/" + runtime.GOARCH})
		}
		_, err := fmt.Fprintf(c.Stdout, "gharbor %s (%s, %s/%s)\n", Version, runtime.Version(), runtime.GOOS, runtime.GOARCH)
		return err
	}),
}

// topics are the headings of the overview, each with its commands.
var topics = []struct {
	heading  string
	commands []string
}{
	{"Profiles", []string{"add", "change", "edit", "copy", "rename", "remove", "list", "show", "alias", "cloud", "find", "import", "export"}},
	{"Tests", []string{"test", "await", "expect", "history", "meaning", "hops"}},
	{"Work on a server", []string{"run", "survey"}},
	{"For other programs", []string{"hold", "with", "doors", "release"}},
	{"Secrets and safety", []string{"wallet", "credentials", "audit", "agree"}},
	{"The tool", []string{"demo", "help", "version", "completion"}},
}

// help prints the overview.
func (a *App) help(w io.Writer) {
	fmt.Fprint(w, `gharbor keeps profiles of connections to database servers. It tests a connection leg by leg, and says where it failed,
why, what proves it, and what to try next. No password is ever kept in a profile or shown.

  gharbor COMMAND [names] [--flags]
`)
	for _, topic := range topics {
		fmt.Fprintf(w, "\n%s\n", topic.heading)
		for _, name := range topic.commands {
			fmt.Fprintf(w, "  %-11s  %s\n", name, a.find(name).about)
		}
	}
	fmt.Fprint(w, `
gharbor help COMMAND shows all about one, with examples. gharbor demo shows the tool at work on practice servers.

Profiles are files in the folder gentle-harbor of your configuration folder; GHARBOR_HOME names another folder. A
project shares its own in .gentle-harbor/, which is found from any folder below; you agree to one before it is used.
Files that another account owns, or others can write to, are refused; GHARBOR_OWNER names one more account that is you,
as for root in a container.
GHARBOR_PROFILE names the profile for commands that are given none, GHARBOR_WALLET another wallet than your own;
GHARBOR_HOST, GHARBOR_PORT, GHARBOR_USER and others override one setting for every run of a shell.

Exit: 0 done; 2 wrong usage; 3 settings or files; 4 secret; 5 not reached; 6 login; 7 database or statement;
8 an expectation; 130 interrupted; 1 several profiles that failed in different ways, or audit that found something serious.
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
	if len(cmd.subs) > 0 {
		fmt.Fprint(w, "\nActions:\n")
		for _, each := range cmd.subs {
			fmt.Fprintf(w, "  %-42s  %s\n", strings.TrimSpace(strings.TrimPrefix(each.name, cmd.name+" ")+" "+each.synopsis), each.about)
		}
		fmt.Fprintf(w, "\ngharbor help %s ACTION shows all about one.\n", cmd.name)
	}
	fmt.Fprint(w, "\nExamples:\n")
	for _, example := range cmd.examples {
		fmt.Fprintf(w, "  %s\n", example)
	}
	fs := flag.NewFlagSet("", flag.ContinueOnError)
	sample(cmd).declareOwn(fs)
	first := true
	fs.VisitAll(func(f *flag.Flag) {
		if first {
			fmt.Fprint(w, "\nFlags:\n")
			first = false
		}
		fmt.Fprintf(w, "  --%-28s  %s\n", f.Name, f.Usage)
	})
	if !cmd.settings {
		return
	}
	fmt.Fprint(w, "\nSettings:\n")
	for _, s := range profile.Settings {
		if cmd.takes(s) {
			line := fmt.Sprintf("  --%-28s  %s", s.Flag+" "+s.Value, s.About)
			if s.Default != "none" {
				line += " (default: " + s.Default + ")"
			}
			fmt.Fprintln(w, line)
		}
	}
}

// sample is a call of a command that is never run, for its flags.
func sample(cmd *command) *call {
	return new(App).newCall(cmd)
}
