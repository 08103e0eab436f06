package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"slices"
	"strings"

	"gentle-harbor/internal/agree"
	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/secret"
)

// declareSettings makes a flag of each setting.
func (c *call) declareSettings(fs *flag.FlagSet) {
	fs.Func("expect", "a fact that a test must show, such as superuser=false; may be repeated", func(text string) error {
		if err := takeExpectation(c.set, text); err != nil {
			return fmt.Errorf("%s--expect: %v", flagMark, err)
		}
		return nil
	})
	for _, s := range profile.Settings {
		if s.Flag == "expect" {
			continue
		}
		if s.Kind == profile.Own && c.command.connects || s.Name == "labels." && c.command.chooses() {
			continue // a run has no labels of its own; there --label chooses profiles
		}
		fs.Func(s.Flag, s.About, func(text string) error {
			if err := take(c.set, s, text, profile.Origin{Layer: "flag", Name: "--" + s.Flag}); err != nil {
				return fmt.Errorf("%s--%s: %v", flagMark, s.Flag, err)
			}
			return nil
		})
	}
}

// takeExpectation reads NAME=VALUE; a list's items stand between commas, or in flags of their own.
func takeExpectation(layer profile.Layer, text string) error {
	name, value, ok := strings.Cut(text, "=")
	s, known := profile.Find("expect." + strings.TrimSpace(name))
	if !ok || !known {
		var names []string
		for _, s := range profile.Settings {
			if rest, ok := strings.CutPrefix(s.Name, "expect."); ok {
				names = append(names, rest)
			}
		}
		return fmt.Errorf("wants NAME=VALUE, NAME being one of %s", strings.Join(names, ", "))
	}
	origin := profile.Origin{Layer: "flag", Name: "--expect"}
	if s.Kind != profile.Listed {
		return take(layer, s, value, origin)
	}
	for item := range strings.SplitSeq(value, ",") {
		if err := take(layer, s, strings.TrimSpace(item), origin); err != nil {
			return err
		}
	}
	return nil
}

// take checks a setting's value, as given outside of files, and puts it into a layer. A host that was pasted
// with a port behind it is taken apart; a key of a free map is written NAME=VALUE.
func take(layer profile.Layer, s profile.Setting, text string, origin profile.Origin) error {
	name := s.Name
	if group, free := strings.CutSuffix(s.Name, "."); free {
		key, value, ok := strings.Cut(text, "=")
		if !ok || key == "" {
			return fmt.Errorf("wants NAME=VALUE")
		}
		name, text = group+"."+key, value
		if _, known := profile.Find(name); !known {
			return fmt.Errorf("wants NAME=VALUE, and its NAME %s", profile.KeyRule)
		}
	}
	if s.Name == "host" && text != "" {
		host, port, err := profile.SplitHost(text)
		if err != nil {
			return err
		}
		if port != "" {
			if given, ok := layer["port"]; ok && given.Text != port {
				return fmt.Errorf("names the port %s, and --port names %s; keep one of them", port, given.Text)
			}
			layer["port"] = profile.Value{Text: port, Origin: origin}
		}
		text = host
	}
	if s.Name == "port" {
		if given, ok := layer["port"]; ok && given.Origin.Name != origin.Name && given.Text != text {
			return fmt.Errorf("says %s, and the host was given with the port %s; keep one of them", clip(text), given.Text)
		}
	}
	if text != "" {
		if err := s.Check(text); err != nil {
			return err
		}
	}
	if s.Kind == profile.Listed {
		var items []string
		if text != "" {
			items = append(layer[name].List, text)
		}
		layer[name] = profile.ListValue(items, origin)
		return nil
	}
	layer[name] = profile.Value{Text: text, Origin: origin}
	return nil
}

// reserved are the variables that are no settings.
var reserved = []string{"GHARBOR_HOME", "GHARBOR_PROFILE", "GHARBOR_WALLET"}

// fromVariables reads the settings that the environment overrides.
func (a *App) fromVariables() (profile.Layer, error) {
	layer := profile.Layer{}
	for _, s := range profile.Settings {
		name := s.Variable()
		text, set := a.env(name)
		if name == "" || !set || text == "" {
			continue
		}
		if err := take(layer, s, text, profile.Origin{Layer: "environment", Name: name}); err != nil {
			return nil, wrong("the environment variable %s: %v", name, err)
		}
	}
	return layer, nil
}

// warnOfVariables tells of variables that look like ours and are not known: a misspelt one would silently do
// nothing.
func (a *App) warnOfVariables() {
	known := slices.Clone(reserved)
	for _, s := range profile.Settings {
		if name := s.Variable(); name != "" {
			known = append(known, name)
		}
	}
	for _, pair := range a.Environ {
		name, _, _ := strings.Cut(pair, "=")
		if !strings.HasPrefix(name, "GHARBOR_") || slices.Contains(known, name) {
			continue
		}
		hint := ""
		if near := profile.Nearest(name, known); near != "" {
			hint = "; did you mean " + near + "?"
		}
		fmt.Fprintf(a.Stderr, "gharbor: the environment variable %s has no meaning here%s\n", clip(name), hint)
	}
}

// load reads a saved profile with its bases and groups, and puts the environment and this command's flags over
// it. Several tells that the command takes more than one profile, which the environment then may not override.
func (c *call) load(ctx context.Context, name string, several bool) (to aim, err error) {
	library, err := c.library()
	if err != nil {
		return to, err
	}
	stack, err := library.Load(name)
	if err != nil {
		return to, c.loadError(library, name, err)
	}
	over, err := c.fromVariables()
	if err != nil {
		return to, err
	}
	if several && len(over) > 0 {
		return to, usage("the environment variable %s would change every profile of this command; unset it, or name one profile", over[over.Names()[0]].Origin.Name)
	}
	to.Effective, to.File = stack.Resolve(c.set, over), stack.Store.Path(stack.Bare)
	if !c.command.connects {
		return to, nil
	}
	c.tellOverrides(name, c.set, over)
	if c.harmless {
		return to, nil
	}
	gate, err := c.gate(library)
	if err != nil {
		return to, err
	}
	to.admitted, err = gate.Admit(ctx, stack, c.set, over)
	var refused *agree.Refused
	if errors.As(err, &refused) {
		to.notAgreed, err = refused.Why, nil
	}
	return to, err
}

func (c *call) tellOverrides(name string, layers ...profile.Layer) {
	var told []string
	for _, layer := range layers {
		for _, setting := range layer.Names() {
			v := layer[setting]
			told = append(told, fmt.Sprintf("%s %s (%s)", strings.ReplaceAll(setting, ".", " "), v.Text, v.Origin.Name))
		}
	}
	if len(told) > 0 {
		fmt.Fprintf(c.Stderr, "note: for this run, %s has %s\n", name, strings.Join(told, ", "))
	}
}

func (c *call) loadError(library profile.Library, name string, err error) error {
	if !errors.Is(err, profile.ErrUnknown) {
		return wrong("%v", err)
	}
	if layer, _ := profile.SplitLayer(name); layer == "project" && library.Project.Dir == "" {
		return wrong("there is no project in or above the current folder, and so no profile %s", clip(name))
	}
	entries, _ := library.List()
	var names []string
	for _, entry := range entries {
		names = append(names, entry.Name)
	}
	if len(names) == 0 {
		return wrong("there is no profile %s, and none yet at all; make one with gharbor add %s", clip(name), clip(name))
	}
	if near := profile.Nearest(name, names); near != "" {
		return wrong("there is no profile %s; did you mean %s?", clip(name), near)
	}
	return wrong("there is no profile %s; gharbor list shows those there are", clip(name))
}

// unsaved takes a connection string apart for a command that connects with it, as given or, for "-", from
// standard input. Its password is used for this run.
func (c *call) unsaved(word string) (aim, error) {
	parsed, err := c.connectionString(word)
	if err != nil {
		return aim{}, err
	}
	if err := c.chooseHost(&parsed); err != nil {
		return aim{}, err
	}
	over, err := c.fromVariables()
	if err != nil {
		return aim{}, err
	}
	layers := []profile.Layer{c.set, over, parsed.Layer}
	for _, note := range parsed.Notes {
		fmt.Fprintln(c.Stderr, "note: "+note)
	}
	admitted, err := agree.Own("", layers...)
	return aim{Effective: admitted.Profile(), admitted: admitted, known: parsed.Secret}, err
}

// aim is what a connecting command connects to.
type aim struct {
	profile.Effective
	// admitted is the profile as it may be used; its zero value when it may not, and notAgreed says why.
	admitted  agree.Admitted
	notAgreed string
	// File is where the profile is kept, "" for one that is not saved.
	File string
	// known is the password that came with a connection string.
	known secret.Secret
	// before is the secret that was found before a run of several tests
	before *checkup.Found
}

// chooseHost takes the one of several hosts that --host names; the flag has done its work then, unless --port
// names another port. A host that is none of them stays what the flag says.
func (c *call) chooseHost(parsed *profile.Parsed) error {
	host := c.set["host"].Text
	switch {
	case len(parsed.Hosts) == 0:
	case parsed.Choose(host):
		if c.set["port"].Text == "" {
			delete(c.set, "host")
		}
	case host == "":
		return wrong("there are several hosts (%s); say which with --host", strings.Join(parsed.Hosts, ", "))
	}
	return nil
}

func (c *call) connectionString(word string) (profile.Parsed, error) {
	text := word
	if word == "-" {
		line, err := c.readAll(profile.MaxFile)
		if err != nil {
			return profile.Parsed{}, wrong("standard input could not be read: %v", err)
		}
		text = strings.TrimSpace(line)
	}
	parsed, err := profile.ParseConnectionString(text)
	if err != nil {
		return parsed, wrong("%v", err)
	}
	if word != "-" && parsed.Secret.Given() && parsed.Secret.Reveal() != "" {
		fmt.Fprintln(c.Stderr, "note: other users of this machine could have seen the password in this command; give - instead and pass the connection string on standard input")
	}
	return parsed, nil
}

// target gives what a connecting command's word means: a saved profile, or a connection string.
func (c *call) target(ctx context.Context, word string, several bool) (to aim, err error) {
	if err := c.inputs(word); err != nil {
		return aim{}, err
	}
	if several && (c.secretFile != "" || c.keep != "") {
		return aim{}, usage("--secret-file and --keep are for one profile: a password is one account's at one place")
	}
	if word == "-" || profile.IsConnectionString(word) {
		to, err = c.unsaved(word)
	} else {
		to, err = c.load(ctx, word, several)
	}
	if err == nil && c.secretFile != "" && to.Secret.Kind != secret.Search && to.Secret.Kind != secret.Ask {
		fmt.Fprintf(c.Stderr, "note: --secret-file is not read, since the profile takes its password from elsewhere (%s); add --secret ask to use the file\n", outside.Cell(to.Secret.String()))
	}
	if err != nil || to.User != "" || !to.admitted.OK() {
		return to, err
	}
	if user, from, err := c.userFromWallet(ctx, to.Effective); err != nil {
		c.about = word
		return to, c.failed(err)
	} else if user != "" {
		answer := profile.Layer{"user": {Text: user, Origin: profile.Origin{Layer: "wallet", Name: from}}}
		return to.over(answer), nil
	}
	if !c.who.Here() {
		return to, nil
	}
	return c.askUser(ctx, to)
}

// over gives what is connected to with an answer of the user's over it.
func (to aim) over(answer profile.Layer) aim {
	to.admitted = to.admitted.Over(answer)
	to.Effective = to.admitted.Profile()
	return to
}

// askUser asks whom to log in as, for a profile that does not say.
func (c *call) askUser(ctx context.Context, to aim) (aim, error) {
	user, err := c.who.Ask(ctx, "User at "+to.Place()+": ")
	if err != nil {
		return to, err
	}
	setting, _ := profile.Find("user")
	if err := setting.Check(user); err != nil || user == "" {
		return to, nil // the leg "settings" says what is missing
	}
	return to.over(profile.Layer{"user": {Text: user, Origin: profile.Origin{Layer: "answer"}}}), nil
}

// profiles gives the names that a command is about: its names, or the one that GHARBOR_PROFILE names.
func (c *call) profiles() ([]string, error) {
	if len(c.names) > 0 {
		return c.names, nil
	}
	if name, ok := c.env("GHARBOR_PROFILE"); ok && name != "" {
		return []string{name}, nil
	}
	return nil, usage("%s wants the name of a profile; gharbor list shows those there are", c.command.name)
}
