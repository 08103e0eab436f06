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
)

// commands lists every command, in the order of help.
func commands() []*command {
	return []*command{
		&addCommand, &changeCommand, &editCommand, &copyCommand, &renameCommand, &removeCommand, &listCommand, &showCommand,
		&testCommand, &awaitCommand, &expectCommand, &historyCommand, &meaningCommand, &runCommand, &surveyCommand,
		&walletCommand, &credentialsCommand, &auditCommand, &agreeCommand, &importCommand, &exportCommand,
		&demoCommand, &helpCommand, &versionCommand, &completionCommand,
	}
}

// chooses tells whether the command takes flags that choose profiles, --label among them.
func (cmd *command) chooses() bool { return cmd.name == "test" || cmd.name == "await" }

func find(name string) *command {
	for _, cmd := range commands() {
		if cmd.name == name {
			return cmd
		}
	}
	return nil
}

// sub gives the action of a command by its word, nil when there is none.
func (cmd *command) sub(word string) *command {
	for _, each := range cmd.subs {
		if each.name == cmd.name+" "+word {
			return each
		}
	}
	return nil
}

// actions lists the words of a command's actions.
func (cmd *command) actions() []string {
	var words []string
	for _, each := range cmd.subs {
		words = append(words, strings.TrimPrefix(each.name, cmd.name+" "))
	}
	return words
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
	text:     "With --man it is written as a manual page, for the program man.",
	examples: []string{"gharbor help test", "gharbor help --man > gharbor.1", "gharbor help test --man > gharbor-test.1"},
	flags:    func(fs *flag.FlagSet, c *call) { fs.BoolVar(&c.man, "man", false, "write a manual page") },
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
		if len(c.names) > 2 {
			return usage("help takes one command")
		}
		page, name := c.App.help, "gharbor"
		if len(c.names) > 0 {
			cmd := find(c.names[0])
			if cmd != nil && len(c.names) == 2 {
				if cmd = cmd.sub(c.names[1]); cmd == nil {
					return usage("%s has no action %q; gharbor help %s lists those it has", c.names[0], clip(c.names[1]), c.names[0])
				}
			}
			if cmd == nil {
				return usage("there is no command %q; gharbor help lists all", clip(c.names[0]))
			}
			page, name = cmd.help, "gharbor-"+strings.ReplaceAll(cmd.name, " ", "-")
		}
		if !c.man {
			page(c.Stdout)
			return nil
		}
		var text strings.Builder
		page(&text)
		manual(c.Stdout, name, text.String())
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
		fmt.Fprintf(w, "  %-11s  %s\n", cmd.name, cmd.about)
	}
	fmt.Fprint(w, `
gharbor help COMMAND tells all about one, with examples. gharbor demo shows the tool at work on practice servers.

Profiles are files in the folder gentle-harbor of your configuration folder; GHARBOR_HOME names another folder. A
project shares its own in .gentle-harbor/, which is found from any folder below; you agree to one before it is used.
GHARBOR_PROFILE names the profile of a command without one, GHARBOR_WALLET a wallet that lies elsewhere; GHARBOR_HOST,
GHARBOR_PORT, GHARBOR_USER and the like override one setting for every run of a shell.

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
		fmt.Fprintf(w, "\ngharbor help %s ACTION tells all about one.\n", cmd.name)
	}
	fmt.Fprint(w, "\nExamples:\n")
	for _, example := range cmd.examples {
		fmt.Fprintf(w, "  %s\n", example)
	}
	c := &call{App: &App{Run: &harbor.Run{Set: profile.Layer{}}}, command: cmd}
	fs := flag.NewFlagSet("", flag.ContinueOnError)
	if cmd.flags != nil {
		cmd.flags(fs, c)
	}
	if cmd.connects {
		c.declareSecrets(fs)
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
		if s.Kind == profile.Own && cmd.connects || s.Name == "labels." && cmd.chooses() {
			continue
		}
		fmt.Fprintf(w, "  --%-28s %s (default: %s)\n", s.Flag+" "+s.Value, s.About, s.Default)
	}
}

// manual writes help as a manual page (man macros of roff): paragraphs as they are, headings from lines that
// end in a colon.
func manual(w io.Writer, name, text string) {
	fmt.Fprintf(w, ".TH %s 1 \"\" \"gharbor %s\"\n.SH NAME\n%s\n.SH DESCRIPTION\n.nf\n", strings.ToUpper(name), Version, name)
	for line := range strings.Lines(text) {
		line = strings.TrimSuffix(line, "\n")
		if heading, ok := strings.CutSuffix(line, ":"); ok && !strings.ContainsAny(heading, " ") && heading != "" {
			fmt.Fprintf(w, ".fi\n.SH %s\n.nf\n", strings.ToUpper(heading))
			continue
		}
		line = strings.NewReplacer(`\`, `\e`, "-", `\-`).Replace(line)
		if strings.HasPrefix(line, ".") || strings.HasPrefix(line, "'") {
			line = `\&` + line
		}
		for _, r := range line {
			if r > 0x7e {
				line = strings.ReplaceAll(line, string(r), fmt.Sprintf(`\[u%04X]`, r))
			}
		}
		fmt.Fprintln(w, line)
	}
	fmt.Fprintln(w, ".fi")
}
