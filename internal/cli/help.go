package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/report/keys"
)

var helpCommand = command{
	name: "help", synopsis: "[COMMAND [ACTION] | settings | environment | exit | json]",
	about: "show this, or all about one command",
	text: `settings are those of a profile, each with its flag, its variable and its default; environment are the variables and folders that
gharbor reads; exit are the exit codes; json are the keys of --json.

With --man a page is written as a manual page, for the program man; with --man FOLDER one page for each command and action is written
there.`,
	examples: []string{"gharbor help test", "gharbor help wallet add", "gharbor help --all",
		"gharbor help settings", "gharbor help test --man > gharbor-test.1", "gharbor help --man ./man1"},
	options: optionsOf[helpOptions],
}

type helpOptions struct{ man, all bool }

func (o *helpOptions) flags(fs flagSet, _ *harbor.Run) {
	fs.onFlag("all", &o.all)
	fs.onFlag("man", &o.man)
}

func (o *helpOptions) run(_ context.Context, c *call) error {
	if o.man && len(c.names) == 1 && c.find(c.names[0]) == nil && topicPages[c.names[0]] == nil {
		return c.manuals(c.names[0])
	}
	m, err := o.wanted(c)
	if err != nil {
		return err
	}
	if !o.man {
		return printPage(c.Stdout, m.page)
	}
	m.write(data(c.Stdout))
	return nil
}

// wanted gives the page that is asked for.
func (o *helpOptions) wanted(c *call) (manualPage, error) {
	switch {
	case len(c.names) > 2:
		return manualPage{}, usage("help takes one command, or a command and its action: gharbor help wallet add")
	case o.all && len(c.names) > 0:
		return manualPage{}, usage("help --all lists every command; leave out %s: gharbor help --all",
			clip(strings.Join(c.names, " ")))
	case o.all:
		return manualPage{page: c.allCommands}, nil
	case len(c.names) == 0 && o.man:
		return c.wholeManual(), nil
	case len(c.names) == 0:
		return manualPage{page: c.App.help}, nil
	}
	if topic := topicPages[c.names[0]]; topic != nil && len(c.names) == 1 {
		return manualPage{"gharbor-" + c.names[0], topicAbout[c.names[0]], topic}, nil
	}
	cmd := c.find(c.names[0])
	if cmd == nil {
		words := append(c.commandNames(), topicNames...)
		if near := profile.Nearest(c.names[0], words); near != "" {
			return manualPage{}, usage("there is no command %q; did you mean %s?", clip(c.names[0]), near)
		}
		return manualPage{}, usage("there is no command %q. To see them all: gharbor help --all", clip(c.names[0]))
	}
	if len(c.names) == 2 {
		sub := cmd.sub(c.names[1])
		if sub == nil {
			return manualPage{}, usage("%s has no action %q. To see them all: gharbor help %s", c.names[0],
				clip(c.names[1]), c.names[0])
		}
		cmd = sub
	}
	return cmd.asManual(), nil
}

// manualPage is a page of help with what a manual page needs more.
type manualPage struct {
	name, about string
	page        func(io.Writer)
}

// write writes it as a manual page.
func (m manualPage) write(w io.Writer) {
	var text strings.Builder
	m.page(&text)
	roffPage(w, m.name, m.about, text.String())
}

func (cmd *command) asManual() manualPage {
	return manualPage{"gharbor-" + strings.ReplaceAll(cmd.name, " ", "-"), cmd.about, cmd.help}
}

// wholeManual gives the page about all of the program.
func (a *App) wholeManual() manualPage {
	return manualPage{"gharbor", "keep profiles of connections to database servers, and test them", func(w io.Writer) {
		a.allCommands(w)
		for _, name := range topicNames {
			fmt.Fprintln(w)
			topicPages[name](w)
		}
	}}
}

// manuals writes every manual page into a folder, which is made where there is none.
func (c *call) manuals(folder string) error {
	dir := c.Path(folder)
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return wrong("the folder %s could not be made: %s", clip(folder), systemWord(err))
	}
	pages := []manualPage{c.wholeManual()}
	for _, cmd := range c.commands {
		pages = append(pages, cmd.asManual())
		for _, sub := range cmd.subs {
			pages = append(pages, sub.asManual())
		}
	}
	for _, m := range pages {
		var text strings.Builder
		m.write(&text)
		if err := files.Write(filepath.Join(dir, m.name+".1"), []byte(text.String()), 0o644); err != nil {
			return wrong("the manual pages could not be written: %s", systemWord(err))
		}
	}
	_, err := fmt.Fprintf(c.Stdout, "Wrote %d manual pages to %s\n", len(pages), outside.Text(dir))
	return err
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
		of := builtFrom()
		if c.json {
			all := map[string]any{"version": Version, "go": runtime.Version(), "system": runtime.GOOS + "/" + runtime.GOARCH}
			if of.commit != "" {
				all["commit"], all["date"], all["changed"] = of.commit, of.date, of.changed
			}
			return report.JSON(c.Stdout, all)
		}
		from := ""
		if of.commit != "" {
			from = "commit " + of.commit[:min(12, len(of.commit))] + " of " + of.date
			if of.changed {
				from += " with changes"
			}
			from += ", "
		}
		_, err := fmt.Fprintf(c.Stdout, "gharbor %s (%s%s, %s/%s)\n", Version, from, runtime.Version(),
			runtime.GOOS, runtime.GOARCH)
		return err
	}),
}

// builtOf is what a program was built from: a commit, its day, and whether there were changes
// that it does not have. The zero value is not known.
type builtOf struct {
	commit, date string
	changed      bool
}

// builtFrom gives what this program was built from, as Go has noted it (debug.BuildInfo).
func builtFrom() (of builtOf) {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return of
	}
	for _, s := range info.Settings {
		switch s.Key {
		case "vcs.revision":
			of.commit = s.Value
		case "vcs.time":
			of.date, _, _ = strings.Cut(s.Value, "T")
		case "vcs.modified":
			of.changed = s.Value == "true"
		}
	}
	return of
}

// helpGroups are the commands by what people want of them.
var helpGroups = []struct {
	heading  string
	commands []string
}{
	{"start", []string{"demo", "find", "add", "import"}},
	{"every day", []string{"list", "show", "test", "run", "load", "talk", "with"}},
	{"look", []string{"survey"}},
	{"when it fails", []string{"await", "history", "meaning", "audit"}},
	{"change", []string{"change", "edit", "copy", "rename", "remove", "export", "expect"}},
	{"passwords and trust", []string{"wallet", "credentials", "agree", "hops"}},
	{"servers by another name", []string{"alias", "cloud"}},
	{"doors", []string{"hold", "doors", "release"}},
	{"the tool", []string{"help", "version", "completion"}},
}

// help prints the overview, on one screen.
func (a *App) help(w io.Writer) {
	fmt.Fprint(w, `gharbor keeps connections to database servers by name, and tests them leg by leg: where one failed, why, what proves
it, and what to try next. No password is ever stored in a profile or shown.

  gharbor COMMAND [names] [--flags]

`)
	for _, group := range helpGroups {
		fmt.Fprintf(w, "  %-24s  %s\n", group.heading, strings.Join(group.commands, "  "))
	}
	fmt.Fprint(w, `
To begin:
  gharbor demo              see it at work on practice servers
  gharbor find              see the database servers on this machine
  gharbor add NAME          save a connection under a name
  gharbor test NAME         walk the connection, and say where it fails

More:
  gharbor help COMMAND      all about one command, with examples
  gharbor help --all        every command, in a line each
  gharbor help settings     what a profile can say
  gharbor help environment  the variables and folders that gharbor reads
  gharbor help exit         the exit codes
  gharbor help json         the keys of --json
`)
}

// allCommands prints every command with what it does.
func (a *App) allCommands(w io.Writer) {
	fmt.Fprint(w, "gharbor keeps connections to database servers by name, and tests them leg by leg.\n\n  "+
		"gharbor COMMAND [names] [--flags]\n")
	for _, group := range helpGroups {
		fmt.Fprintf(w, "\n%s:\n", strings.ToUpper(group.heading[:1])+group.heading[1:])
		for _, name := range group.commands {
			fmt.Fprintf(w, "  %-11s  %s\n", name, a.find(name).about)
		}
	}
	fmt.Fprint(w, "\ngharbor help COMMAND shows all about one, with examples.\n")
}

// The pages that are about no command.
var (
	topicNames = []string{"settings", "environment", "exit", "json"}
	topicAbout = map[string]string{
		"settings": "what a profile can say", "environment": "the variables and folders that gharbor reads",
		"exit": "the exit codes of gharbor", "json": "the keys of --json",
	}
	topicPages = map[string]func(io.Writer){"settings": settingsPage, "environment": environmentPage, "exit": exitPage, "json": keys.Help}
)

// settingsPage prints the settings of profiles.
func settingsPage(w io.Writer) {
	fmt.Fprint(w, `Settings of a profile. Each is a key of the profile's file, and a flag: of add and change for good, of a command that
connects for that run. A setting with a variable is also taken from the environment, GHARBOR_PORT for --port.

`)
	for _, s := range profile.Settings {
		line := s.Meaning()
		if s.Default != "none" {
			line += " (default: " + s.Otherwise() + ")"
		}
		if name := s.Variable(); name != "" {
			line += "; " + name
		}
		fmt.Fprintf(w, "  --%-30s  %s\n", s.Flag+" "+s.Value, line)
	}
	fmt.Fprint(w, "\nAn empty value ('') takes a setting away. docs/profiles.md has the file's form and all the rules.\n")
}

// environmentPage prints what the program reads of its environment.
func environmentPage(w io.Writer) {
	fmt.Fprint(w, `Variables:

  GHARBOR_HOME       the folder of profiles, aliases, wallet and state, instead of the usual ones
  GHARBOR_PROFILE    the profile for commands that are given none
  GHARBOR_WALLET     the folder of another wallet than your own
  GHARBOR_ALIASES    files of aliases that count before the usual ones, with the system's separator of paths between them
  GHARBOR_OWNER      one more account that is you, as for root in a container; files of others are refused
  GHARBOR_SHELL      the shell that you use (sh, bash, zsh, fish, powershell or cmd): command lines are shown as it reads them;
                     without it PowerShell on Windows, else a POSIX shell
  GHARBOR_HOST, GHARBOR_PORT, GHARBOR_USER and others override one setting for every run of a shell: gharbor help settings
  DOCKER_HOST        where the container engine is; DOCKER_CONTEXT and its own settings count too
  SSH_AUTH_SOCK      the agent with your SSH keys
  SSL_CERT_FILE, SSL_CERT_DIR   the authorities to trust, instead of the system's; a test says when they decide
  VISUAL, EDITOR     the editor of gharbor edit
  NO_COLOR           set to anything: no colours

Folders:

  profiles   gentle-harbor in your configuration folder (XDG_CONFIG_HOME on Linux)
  state      gentle-harbor in your state folder (XDG_STATE_HOME on Linux): history, doors, host keys that you accepted
  project    the nearest .gentle-harbor at or above the current folder; you agree to a profile of it before it is used

No other variable or file changes a connection.
`)
}

// exitPage prints the exit codes.
func exitPage(w io.Writer) {
	fmt.Fprint(w, `Exit codes:

  0    done
  1    several profiles that failed in different ways, or audit that found something serious
  2    wrong usage, or a flag that is missing
  3    settings, files, an unknown name
  4    a password, a passphrase, a sign-in
  5    not reached: cloud, alias, container, name, tunnel, port, greeting, tls
  6    the login was refused
  7    the database, or a statement
  8    an expectation that is not met
  130  interrupted, by Ctrl-C or by the signal that the message names
  141  whoever read the output has gone

gharbor with gives the exit code of its program.
`)
}

// help prints all about a command.
func (cmd *command) help(w io.Writer) {
	before, program, isProgram := strings.Cut(cmd.synopsis, " -- ")
	if !isProgram {
		before = cmd.synopsis
	}
	fmt.Fprintln(w, strings.Join(slices.DeleteFunc([]string{"gharbor", cmd.name, before, "[--flags]"},
		func(word string) bool { return word == "" }), " ")+
		map[bool]string{true: " -- " + program}[isProgram])
	fmt.Fprintf(w, "\n%s.\n", strings.ToUpper(cmd.about[:1])+cmd.about[1:])
	if cmd.text != "" {
		fmt.Fprintf(w, "\n%s\n", cmd.text)
	}
	if len(cmd.subs) > 0 {
		fmt.Fprint(w, "\nActions:\n")
		for _, each := range cmd.subs {
			fmt.Fprintf(w, "  %-42s  %s\n",
				strings.TrimSpace(strings.TrimPrefix(each.name, cmd.name+" ")+" "+each.synopsis), each.about)
		}
		fmt.Fprintf(w, "\ngharbor help %s ACTION shows all about one.\n", cmd.name)
	}
	fmt.Fprint(w, "\nExamples:\n")
	for _, example := range cmd.examples {
		fmt.Fprintf(w, "  %s\n", example)
	}
	fs := flag.NewFlagSet("", flag.ContinueOnError)
	sample(cmd).declareOwn(flagSet{fs})
	first := true
	fs.VisitAll(func(f *flag.Flag) {
		if first {
			fmt.Fprint(w, "\nFlags:\n")
			first = false
		}
		value, about := described(f)
		fmt.Fprintf(w, "  --%-30s  %s\n", strings.TrimSpace(f.Name+" "+value), about)
	})
	if cmd.settings {
		fmt.Fprint(w, "\n", settingsLine(cmd), "\n")
	}
}

// settingsLine says that a command takes the settings of profiles as flags.
func settingsLine(cmd *command) string {
	if cmd.connects {
		return "Settings of the profile, such as --host, --port and --user, can be given as flags for this run: " +
			"gharbor help settings"
	}
	return "The settings of the profile are flags, such as --host, --port and --user: gharbor help settings"
}

// sample is a call of a command that is never run, for its flags.
func sample(cmd *command) *call {
	return new(App).newCall(cmd)
}
