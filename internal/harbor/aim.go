package harbor

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"runtime"
	"strings"

	"golang.org/x/sync/errgroup"

	"gentle-harbor/internal/agree"
	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/secret"
)

// Load reads a saved profile with its bases and groups, and puts the environment and this
// command's flags over it. Several says that the command takes more than one profile, which the
// environment then may not override.
func (r Run) Load(ctx context.Context, name string, several bool) (to Aim, err error) {
	l, err := r.loader()
	if err != nil {
		return to, err
	}
	return l.load(ctx, name, several)
}

// loader reads saved profiles.
type loader struct {
	Run
	library profile.Library
	over    profile.Layer // the environment's
	read    map[string]stacked
	changed *changed // collects what flags change, where there are several profiles; nil remarks it for each
}

// changed is what flags change for several profiles of one run: it is remarked once for those
// that it is the same for.
type changed struct {
	order []string
	names map[string][]string
}

// collect takes what is changed in a profile.
func (t *changed) collect(name, text string) {
	if t.names == nil {
		t.names = map[string][]string{}
	}
	if t.names[text] == nil {
		t.order = append(t.order, text)
	}
	t.names[text] = append(t.names[text], name)
}

// remark prints what was collected.
func (t *changed) remark(r Run) {
	for _, text := range t.order {
		if names := t.names[text]; len(names) == 1 {
			r.Note("for this run, %s has %s", names[0], text)
		} else {
			r.Note("for this run, %d profiles have %s", len(names), text)
		}
	}
}

// stacked is a profile that was read, and what it comes to.
type stacked struct {
	profile.Stack
	effective profile.Effective
	err       error
}

// loader gives what reads profiles: the library as it is now, and the environment.
func (r Run) loader() (l loader, err error) {
	l = loader{Run: r, read: map[string]stacked{}}
	if l.library, err = r.Library(); err != nil {
		return l, err
	}
	l.over, err = r.FromVariables()
	return l, err
}

// stack reads one profile. It is safe for several at the same time.
func (l loader) stack(name string) (s stacked) {
	if s.Stack, s.err = l.library.Load(name); s.err == nil {
		s.effective = s.Resolve(l.Set, l.over)
	}
	return s
}

// ahead reads profiles side by side, before they are loaded one after the other.
func (l loader) ahead(names []string) {
	read := make([]stacked, len(names))
	var group errgroup.Group
	group.SetLimit(runtime.GOMAXPROCS(0))
	for i, name := range names {
		group.Go(func() error {
			read[i] = l.stack(name)
			return nil
		})
	}
	_ = group.Wait()
	for i, name := range names {
		l.read[name] = read[i]
	}
}

func (l loader) load(ctx context.Context, name string, several bool) (to Aim, err error) {
	s, read := l.read[name]
	if !read {
		s = l.stack(name)
	}
	delete(l.read, name) // it is let go
	if s.err != nil {
		return to, l.LoadError(l.library, name, s.err)
	}
	if several && len(l.over) > 0 {
		return to, world.Usage("the environment variable %s would change every profile of this command; unset "+
			"it, or name one profile",
			l.over[l.over.Names()[0]].Origin.Name)
	}
	to.Effective, to.File = s.effective, s.Store.Path(s.Bare)
	if !l.Connects {
		return to, nil
	}
	if text := overrides(to.Effective, l.Set, l.over); text != "" {
		if l.changed != nil {
			l.changed.collect(name, text)
		} else {
			l.Note("for this run, %s has %s", name, text)
		}
	}
	if l.Harmless {
		return to, nil
	}
	gate, err := l.Gate(l.library)
	if err != nil {
		return to, err
	}
	to.Admitted, err = gate.Admit(ctx, s.Stack, l.Set, l.over)
	var refused *agree.Refused
	if errors.As(err, &refused) {
		to.NotAgreed, err = refused.Why, nil
	}
	if err == nil && to.Admitted.OK() { // one copy of the settings: of many profiles two would be a lot
		to.Effective = to.Admitted.Profile()
	}
	return to, err
}

// overrides says what layers over a profile change in it, "" for nothing.
func overrides(e profile.Effective, layers ...profile.Layer) string {
	var told []string
	for _, layer := range layers {
		for _, setting := range layer.Names() {
			v := layer[setting]
			told = append(told, fmt.Sprintf("%s %s (%s)", strings.ReplaceAll(setting, ".", " "), v.Text, v.Origin.Name))
		}
	}
	if kept := e.KeptPort(); kept != "" {
		told = append(told, kept)
	}
	return strings.Join(told, ", ")
}

// unsaved takes a connection string apart for a command that connects with it, as given or, for
// "-", from standard input. Its password is used for this run.
func (r Run) unsaved(ctx context.Context, word string) (Aim, error) {
	parsed, err := r.given(ctx, word, func(text string, how profile.Reading) (profile.Parsed, error) {
		return profile.ParseConnectionString(text, how.Without...)
	})
	if err != nil {
		return Aim{}, err
	}
	if r, err = r.chosenHost(&parsed); err != nil {
		return Aim{}, err
	}
	over, err := r.FromVariables()
	if err != nil {
		return Aim{}, err
	}
	layers := []profile.Layer{r.Set, over, parsed.Layer}
	for _, note := range parsed.Notes {
		r.Note("%s", note)
	}
	library, err := r.Library()
	if err != nil {
		return Aim{}, err
	}
	admitted, err := agree.Own(library, "", layers...)
	if err != nil {
		return Aim{}, err
	}
	to := Aim{Effective: admitted.Profile(), Admitted: admitted, Known: parsed.Secret, Set: r.Set,
		Again: withoutPassword(profile.Resolve(r.Account(), "", parsed.Layer), parsed.Secret)}
	if kept := to.KeptPort(); kept != "" {
		r.Note("for this run, the host %s (%s) has %s", to.Host, to.Values["host"].Origin.Name, kept)
	}
	// The password belongs to the string's own account at its own address.
	own, here := profile.Resolve(r.Account(), "", parsed.Layer).Target(), to.Target()
	if to.Known.Given() && (own.Place() != here.Place() || own.User != here.User) {
		to.Known = secret.Secret{}
		r.Note("the password in the connection string is of %s at %s, and is not sent to %s at %s",
			orNobody(own.User), own.Place(), orNobody(here.User), here.Place())
	}
	return to, nil
}

// withoutPassword writes the profile of a connection string as one that has no password, "" where
// that would not mean the same.
func withoutPassword(p profile.Effective, s secret.Secret) string {
	text, left := p.URI(secret.Secret{})
	bare, err := url.PathUnescape(text) // a user of the same name as the password may be written with escapes
	if len(left) > 0 || err != nil ||
		s.Given() && s.Reveal() != "" && (strings.Contains(bare, s.Reveal()) || strings.Contains(text, s.Reveal())) {
		return ""
	}
	return text
}

func orNobody(user string) string {
	if user == "" {
		return "no user"
	}
	return user
}

// Aim is what a connecting command connects to.
type Aim struct {
	profile.Effective
	// Admitted is the profile when it may be used; its zero value when it may not, and NotAgreed
	// says why.
	Admitted  agree.Admitted
	NotAgreed string
	// File is where the profile is kept, "" for one that is not saved.
	File string
	// Known is the password that came with a connection string.
	Known secret.Secret
	// Again is a connection string that means the same and has no password, for commands that are
	// proposed; "" where there is none.
	Again string
	// Set has the flags that hold for it, where they are others than those of the use case: one
	// of them may have done its work.
	Set profile.Layer
	// Before is the secret that was found before a run of several tests
	Before *checkup.Found
}

// chosenHost takes the one of several hosts that --host names, and gives the use case without
// that flag: it has done its work then, unless --port names another port. A host that is none of
// them stays what the flag says.
func (r Run) chosenHost(parsed *profile.Parsed) (Run, error) {
	host := r.Set["host"].Text
	switch {
	case parsed.SRV != "" && host == "":
		return r, world.Wrong("the connection string names its servers by the SRV records of %s. To make an "+
			"alias and a profile of it: gharbor import NAME CONNECTION. For one server alone, say which with --host",
			parsed.SRV)
	case len(parsed.Hosts) == 0:
	case parsed.Choose(host):
		if r.Set["port"].Text == "" {
			r.Set = maps.Clone(r.Set)
			delete(r.Set, "host")
		}
	case host == "":
		return r, world.Wrong("there are several hosts (%s); say which with --host, or make an alias of them: "+
			"gharbor import NAME CONNECTION",
			strings.Join(parsed.Hosts, ", "))
	}
	return r, nil
}

// Aim gives what a connecting command's word means: a saved profile, or a connection string.
func (r Run) Aim(ctx context.Context, word string, several bool) (to Aim, err error) {
	return r.aim(ctx, word, several, func() (Aim, error) { return r.Load(ctx, word, several) })
}

// aim is Aim, with what loads a saved profile.
func (r Run) aim(ctx context.Context, word string, several bool, load func() (Aim, error)) (to Aim, err error) {
	if err := r.Inputs(word); err != nil {
		return Aim{}, err
	}
	if several && (r.SecretFile != "" || r.Keep != "") {
		return Aim{}, world.Usage("--secret-file and --store are for one profile: a password belongs to one " +
			"account at one server")
	}
	if word == "-" || profile.IsConnectionString(word) {
		to, err = r.unsaved(ctx, word)
	} else {
		to, err = load()
	}
	if err == nil && r.SecretFile != "" && to.Secret.Kind != secret.Search && to.Secret.Kind != secret.Ask {
		r.Note("--secret-file is not read, since the profile takes its password from elsewhere (%s); add "+
			"--secret ask to use the file", outside.Cell(to.Secret.String()))
	}
	if err != nil || to.User != "" || to.TakesLogin() || to.NobodyLogsIn() || !to.Admitted.OK() ||
		!checkup.LogsIn(r.Until) {
		return to, err
	}
	if user, from, err := r.userFromWallet(ctx, to.Effective); err != nil {
		return to, err
	} else if user != "" {
		answer := profile.Layer{"user": {Text: user, Origin: profile.Origin{Layer: profile.LayerWallet, Name: from}}}
		return to.over(answer), nil
	}
	if !r.Who.Here() {
		return to, nil
	}
	return r.askUser(ctx, to)
}

// usable says why a project's profile may not be used, nil where it may.
func (to Aim) usable() error {
	if to.Admitted.OK() {
		return nil
	}
	return world.NotAgreed(to.Name, to.NotAgreed)
}

// over gives what is connected to with an answer of the user's over it.
func (to Aim) over(answer profile.Layer) Aim {
	to.Admitted = to.Admitted.Over(answer)
	to.Effective = to.Admitted.Profile()
	return to
}

// askUser asks the user to log in as, for a profile that does not say.
func (r Run) askUser(ctx context.Context, to Aim) (Aim, error) {
	user, err := r.Who.Ask(ctx, "User at "+to.Place()+": ")
	if err != nil {
		return to, err
	}
	setting, _ := profile.Find("user")
	if err := setting.Check(user); err != nil || user == "" {
		return to, nil // the leg "settings" says what is missing
	}
	return to.over(profile.Layer{"user": {Text: user, Origin: profile.Origin{Layer: profile.LayerAnswer}}}), nil
}

// DefinitionOf gives what the alias of a saved profile stands for now, read anew.
func (r Run) DefinitionOf(name string) (string, error) {
	library, err := r.Library()
	if err != nil {
		return "", err
	}
	if library.Aliases != nil {
		library.Aliases = library.Aliases.Fresh()
	}
	stack, err := library.Load(name)
	if err != nil {
		return "", err
	}
	return stack.Resolve(r.Set).Target().Defined.String(), nil
}
