package cli

import (
	"context"
	"errors"
	"flag"
	"io"
	"slices"
	"strings"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/harbor/clouds"
	"gentle-harbor/internal/harbor/edits"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/report"
)

// find gives a command by its name, nil when there is none.
func (a *App) find(name string) *command {
	for _, cmd := range a.commands {
		if cmd.name == name {
			return cmd
		}
	}
	return nil
}

func (a *App) commandNames() []string {
	var names []string
	for _, cmd := range a.commands {
		names = append(names, cmd.name)
	}
	return names
}

// newCall makes a call of a command, whose arguments are still to be parsed.
func (a *App) newCall(cmd *command) *call {
	c := &call{App: a, Run: harbor.New(a.world), command: cmd}
	if cmd.options != nil {
		c.options = cmd.options()
	}
	return c
}

// parse takes flags and names in any order; "--" ends the flags.
func (c *call) parse(args []string) error {
	fs := flag.NewFlagSet(c.command.name, flag.ContinueOnError)
	fs.SetOutput(io.Discard)
	c.declare(flagSet{fs})
	if of, is := c.options.(choosing); is {
		args = of.choose(args)
	}
	for {
		// The flag package would echo a flag's value in its error, and the value may be a secret
		// in a wrong place; errors of settings' flags come from declare and name no value that
		// they should not.
		if err := fs.Parse(args); err != nil {
			if wrong := args[len(args)-len(fs.Args())-1]; strings.Contains(err.Error(), "not defined") && isComment(wrong) {
				c.names, args = append(c.names, wrong), fs.Args()
				continue
			}
			return c.flagError(fs, err)
		}
		rest := fs.Args()
		ended := len(rest) < len(args) && args[len(args)-len(rest)-1] == "--"
		if ended && c.command.program {
			c.after = rest
			return nil
		}
		if len(rest) == 0 || ended {
			c.names = append(c.names, rest...)
			return nil
		}
		c.names = append(c.names, rest[0])
		args = rest[1:]
	}
}

// inForms are the options of a command that has --json and --as: --json is --as json.
type inForms interface{ form() *string }

// oneForm makes --json and --as json the same, and refuses two forms.
func (c *call) oneForm() error {
	forms, is := c.options.(inForms)
	if !is {
		return nil
	}
	as := forms.form()
	if c.json && *as != "" && *as != "json" {
		return usage("--json is --as json, and --as %s is another form; write one of them: --json", *as)
	}
	if c.json {
		*as = "json"
	}
	c.json = *as == "json"
	return nil
}

// choosing are the options of a command that lets a person choose where a flag has no value;
// choose takes such flags out of arguments.
type choosing interface{ choose(args []string) []string }

// bareCloud takes --cloud without a value out of arguments: it lets a person choose. It is bare
// as the last word, or before another flag.
func bareCloud(args []string) ([]string, bool) {
	for i, word := range args {
		if word == "--" {
			break
		}
		if word == "--cloud" && (i+1 == len(args) || strings.HasPrefix(args[i+1], "--")) {
			return slices.Delete(slices.Clone(args), i, i+1), true
		}
	}
	return args, false
}

// isComment reports whether a word is a statement that begins with a comment of SQL's, and no flag.
func isComment(word string) bool {
	text, is := strings.CutPrefix(word, "--")
	return is && text != "" && strings.ContainsAny(text[:1], " \t\r\n")
}

// declare makes all flags of the command.
func (c *call) declare(fs flagSet) {
	if c.command.settings {
		declareSettings(fs, c.command, c.Set)
	}
	if c.command.settings || c.command.name == "list" || c.command.name == "show" {
		aliasFilesFlag(fs, &c.Run)
	}
	c.declareOwn(fs)
}

// declareOwn makes the flags of the command that are no settings.
func (c *call) declareOwn(fs flagSet) {
	if c.command.connects {
		secretFlags(fs, &c.Run)
	}
	if c.command.json {
		fs.onFlag("json", &c.json)
	}
	if c.options != nil {
		c.options.flags(fs, &c.Run)
	}
}

// errDoorSocket answers who writes for a door what is about the server.
var errDoorSocket = usage("--socket is the server's socket in other commands; for a door that is a socket, " +
	"write: --door-socket")

func (c *call) flagError(fs *flag.FlagSet, err error) error {
	if errors.Is(err, flag.ErrHelp) {
		return err
	}
	text := err.Error()
	if name, ok := strings.CutPrefix(text, "flag provided but not defined: -"); ok {
		var known []string
		fs.VisitAll(func(f *flag.Flag) { known = append(known, f.Name) })
		name, _, _ = strings.Cut(strings.TrimLeft(name, "-"), "=")
		word := strings.ToLower(strings.ReplaceAll(name, "_", "-"))
		if means := meansFlag(word, known); means != "" {
			return usage("%s has no flag --%s; the flag is --%s%s, such as %s", c.command.name, clip(name),
				means, flagMeanings[means].hint, exampleOf(fs.Lookup(means)))
		}
		if why := noFlagFor[word]; why != "" {
			return usage("%s has no flag --%s: %s", c.command.name, clip(name), why)
		}
		if near := profile.Nearest(name, known); near != "" {
			return usage("%s has no flag --%s; did you mean --%s?", c.command.name, clip(name), near)
		}
		if len(name) == 1 {
			return usage("%s has no flag -%s, since flags are whole words. To see them all: gharbor help %s",
				c.command.name, clip(name), c.command.name)
		}
		return usage("%s has no flag --%s. To see them all: gharbor help %s", c.command.name, clip(name), c.command.name)
	}
	if name, ok := strings.CutPrefix(text, "flag needs an argument: -"); ok {
		if _, door := c.options.(interface{ ofDoor() }); door && name == "socket" {
			return errDoorSocket
		}
		return usage("--%s needs a value after it, such as %s", clip(name), exampleOf(fs.Lookup(name)))
	}
	if _, after, ok := strings.Cut(text, ": "+world.FlagMark); ok {
		return world.Error{Code: exitUsage, Message: after}
	}
	if _, after, ok := strings.Cut(text, " for "); ok {
		name, _, _ := strings.Cut(strings.TrimPrefix(strings.TrimPrefix(after, "flag "), "-"), ":")
		return usage("--%s takes no value; write it alone: --%s", clip(name), clip(name))
	}
	return usage("a flag could not be read")
}

// profiles gives the names that a command is about: its names, or the one that GHARBOR_PROFILE
// names.
func (c *call) profiles() ([]string, error) {
	if len(c.names) > 0 {
		return c.names, nil
	}
	if name, ok := c.Env("GHARBOR_PROFILE"); ok && name != "" {
		return []string{name}, nil
	}
	return nil, usage("%s needs the name of a profile. To see them all: gharbor list", c.command.name)
}

// profile gives the one name that a command is about.
func (c *call) profile() (string, error) {
	names, err := c.profiles()
	if err == nil && len(names) != 1 {
		err = usage("%s takes one name", c.command.name)
	}
	if err != nil {
		return "", err
	}
	return names[0], nil
}

// problem prints why a secret cannot be had as a finding, and gives the exit code.
func (c *call) problem(p *finding.Problem) error {
	f := c.finding(p)
	if c.json {
		_ = report.JSON(c.Stdout, map[string]any{"finding": f, "exit": finding.ExitSecret})
	}
	report.Finding(c.Stderr, f, c.about)
	return world.Error{Code: finding.ExitSecret}
}

// finding words why a secret cannot be had.
func (c *call) finding(p *finding.Problem) finding.Finding {
	facts := finding.Facts{finding.FactBeforeLogin: "tls"}
	for name, value := range p.Facts {
		facts[name] = outside.Text(value)
	}
	facts[finding.FactFix], facts[finding.FactWallet] = p.Facts[finding.FactFix], p.Facts[finding.FactWallet]
	about := finding.About{Facts: facts}
	if c.about != "" {
		facts[finding.FactProfile], about.Again.Name = c.about, c.about
		if c.command.name != "wallet add" && c.command.name != "credentials add" {
			about.Keep = []string{"wallet", "add", c.about}
			if strings.HasPrefix(c.command.name, "credentials") {
				about.Keep = []string{"credentials", "add", c.about}
			}
		}
	}
	var tried []string
	if len(p.Tried) > 1 { // a single one says what the detail says
		for _, line := range p.Tried {
			tried = append(tried, outside.Text(line))
		}
	}
	return finding.Make(p.Code, about, tried...)
}

// failed makes an error of the core one for the command line: a problem of secrets becomes a
// finding.
func (c *call) failed(err error) error {
	var p *finding.Problem
	var e world.Error
	switch {
	case err == nil, errors.As(err, &e), errors.Is(err, context.Canceled), errors.Is(err, world.ErrLeft):
		return err
	case errors.As(err, &p):
		return c.problem(p)
	}
	return world.Doing("carry out gharbor "+c.command.name, err)
}

const (
	exitUsage       = world.ExitUsage
	exitSettings    = world.ExitSettings
	exitInterrupted = world.ExitInterrupted
)

func usage(format string, args ...any) error { return world.Usage(format, args...) }
func wrong(format string, args ...any) error { return world.Wrong(format, args...) }
func clip(word string) string                { return world.Clip(word) }

func (c *call) clouds() clouds.Clouds { return clouds.Clouds{Stores: c.Stores} }

func (c *call) edits() edits.Edits { return edits.Edits{Stores: c.Stores} }

// withExample has every error of usage end with what works: one that ends with nothing of that
// kind gets the command's first example.
func (cmd *command) withExample(err error) error {
	var e world.Error
	if !errors.As(err, &e) || e.Code != exitUsage || e.Message == "" || endsWell(e.Message) {
		return err
	}
	e.Message = strings.TrimRight(e.Message, ".") + ". For example: " +
		cmd.examples[max(0, slices.IndexFunc(cmd.examples, func(line string) bool {
			return strings.HasPrefix(line, "gharbor ")
		}))]
	return e
}

// endsWell reports whether a message ends with a command, a flag, or a question that names the
// right word.
func endsWell(message string) bool {
	_, last, more := cutLast(message, ": gharbor ")
	_, value, such := cutLast(message, "such as ")
	_, flag, alone := cutLast(message, ": --")
	_, word, near := cutLast(message, "did you mean ")
	switch {
	case strings.Contains(message, "\n"): // a list is its end
		return true
	case more && !strings.Contains(last, ". "), such && !strings.ContainsAny(value, ",;"),
		alone && !strings.ContainsAny(flag, ",;"):
		return true
	}
	return near && strings.HasSuffix(word, "?")
}

// carriedOut runs the command, and says in JSON too what kept it from ending well.
func (c *call) carriedOut(ctx context.Context) error {
	err := c.command.withExample(c.options.run(ctx, c))
	var p *finding.Problem
	if errors.As(err, &p) {
		err = c.problem(p)
	}
	var e world.Error
	if c.json && errors.As(err, &e) && e.Message != "" {
		_ = report.JSON(c.Stdout, map[string]any{"error": e.Message, "exit": e.Code})
	}
	return err
}

// cutLast cuts a text around the last separator in it.
func cutLast(text, separator string) (before, after string, found bool) {
	i := strings.LastIndex(text, separator)
	if i < 0 {
		return text, "", false
	}
	return text[:i], text[i+len(separator):], true
}
