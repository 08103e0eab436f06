package harbor

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"maps"
	"os"
	"slices"
	"strings"

	"gentle-harbor/internal/agree"
	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/files"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/person"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/secret"
)

// New says what a new profile is to be, beside the settings of [Run.Set].
type New struct {
	Name     string
	Source   string // a connection string, or "-"; for an import also a file or a folder; "" for none
	Variable string // for an import, the variable that holds the connection string; "" for any
	Project  bool   // in the project's folder, not among the user's own
	Replace  bool   // overwrite a profile of that name
	Test     bool   // save only when a test passes
	// References says that references to secrets, statements and paths that an imported file says are wanted.
	References bool

	// Began is called before the first question, Shown with each test, Saved when the profile is written.
	Began func(name string)
	Shown func(profile.Effective, *checkup.Report)
	Saved func(Place)
}

// draft is a profile that is being made.
type draft struct {
	*Run
	New
	at     Place
	layer  profile.Layer // what will be saved
	parsed profile.Parsed
	saved  bool
}

// Add makes a profile. Where there is a person, it asks for what is missing, tests, and offers to change, test again,
// save or leave after a failure; nothing that was typed is lost.
func (r *Run) Add(ctx context.Context, n New) error {
	d, err := r.draft(n)
	if err != nil {
		return err
	}
	if n.Source != "" {
		if _, err := os.Stat(r.Path(n.Source)); err == nil && !profile.IsConnectionString(n.Source) {
			return Usage("%s is a file; gharbor import %s %s reads it", Clip(n.Source), n.Name, Clip(n.Source))
		}
		if n.Source != "-" && !strings.ContainsAny(n.Source, " \t\n:=") {
			return Usage("what follows the name is not a connection string; it begins with a scheme, as in %s://user@host/database", profile.Schemes()[0])
		}
		if d.parsed, err = r.taken(ctx, n.Source, ""); err != nil {
			return err
		}
		if !profile.IsConnectionString(n.Source) {
			if err := d.confirm(ctx); err != nil {
				return err
			}
		}
	}
	if err := d.fill(); err != nil {
		return err
	}
	if base := d.layer["base"].Text; base != "" {
		if err := d.at.Library.CheckBase(d.at.Store, d.at.Name, base); err != nil {
			return Wrong("%v", err)
		}
	}
	if r.Who.Here() {
		return d.converse(ctx)
	}
	if err := d.complete(); err != nil {
		return err
	}
	if n.Test {
		report, err := d.tryOut(ctx)
		if err != nil {
			return err
		}
		if !report.OK {
			return Error{report.Exit, d.at.Name + " was not saved, since its test failed; without --test it is saved as it is"}
		}
		return d.saveAndKeep(ctx)
	}
	if r.Keep == "wallet" {
		return d.saveAndKeep(ctx)
	}
	return d.save(ctx)
}

// Import makes a profile from details that are elsewhere.
func (r *Run) Import(ctx context.Context, n New) error {
	d, err := r.draft(n)
	if err != nil {
		return err
	}
	if d.parsed, err = r.takeIn(ctx, n.Source, n.Variable); err != nil {
		return err
	}
	if !profile.IsConnectionString(n.Source) {
		if err := d.confirm(ctx); err != nil {
			return err
		}
	}
	if err := d.severalHosts(ctx); err != nil {
		return err
	}
	if err := d.fill(); err != nil {
		return err
	}
	if err := d.complete(); err != nil {
		return err
	}
	if r.Keep == "wallet" {
		return d.saveAndKeep(ctx)
	}
	return d.save(ctx)
}

// severalHosts makes an alias of the profile's name of a connection string with several hosts, unless a flag says which one is meant.
func (d *draft) severalHosts(ctx context.Context) error {
	if len(d.parsed.Hosts) < 2 || addressOf(d.Set) != "" {
		return nil
	}
	name := d.at.Name[strings.LastIndexByte(d.at.Name, '/')+1:]
	in, err := d.AliasFile(d.at.Store.Project)
	if err != nil {
		return err
	}
	layer := profile.Layer{"addresses": profile.ListValue(d.parsed.Hosts, profile.Origin{})}
	if engine := d.parsed.Layer["engine"]; engine.Text != "" {
		layer["engine"] = engine
	}
	if d.parsed.Wants != "" {
		layer["wants"] = profile.Value{Text: d.parsed.Wants}
	}
	if err := d.PutAlias(ctx, in, name, layer, d.Replace); err != nil {
		return err
	}
	d.Note("its %d hosts are the alias %s, in %s", len(d.parsed.Hosts), name, in.Path)
	d.parsed.Layer["alias"], d.parsed.Hosts = profile.Value{Text: name, Origin: profile.Origin{Layer: profile.LayerImport}}, nil
	return nil
}

// confirm shows what an imported file would make this machine do when the profile is used, and asks whether it is wanted:
// read a file or a variable as a password and send it to a server that the file names, run a program or a statement.
func (d *draft) confirm(ctx context.Context) error {
	var reach []string
	for _, name := range d.parsed.Layer.Names() {
		if _, said := d.Set[name]; said {
			continue // a flag says otherwise
		}
		v := d.parsed.Layer[name]
		s, _ := profile.Find(name)
		ref, _ := secret.ParseReference(v.Text)
		switch {
		case s.Type == profile.SecretRef && (ref.Of != "" || len(ref.Args) > 0), s.Type == profile.Path, s.Type == profile.Maps, s.Name == "hand-over.", s.Statements:
			reach = append(reach, outside.Cell(strings.ReplaceAll(name, ".", " ")+": "+v.Text))
		}
	}
	if len(reach) == 0 || d.References {
		return nil
	}
	if !d.Who.Here() {
		return Usage("what is imported names more than a server, and is taken over only when you want that; add --with-references for:\n  %s", strings.Join(reach, "\n  "))
	}
	d.Who.Say("What is imported names more than a server:\n  " + strings.Join(reach, "\n  "))
	yes, err := person.Yes(ctx, d.Who, "Take these over?", false)
	if err != nil || yes {
		return err
	}
	return Error{Code: ExitSettings, Message: d.at.Name + " was not made; give these settings as flags, or leave them out of the file"}
}

// draft finds the place of a new profile, which must be free.
func (r *Run) draft(n New) (*draft, error) {
	if profile.IsConnectionString(n.Name) {
		return nil, Usage("the name comes before the connection string: gharbor add NAME CONNECTION-STRING")
	}
	p, err := r.NewPlace(n.Name, n.Project)
	if err != nil {
		return nil, err
	}
	d := &draft{Run: r, New: n, at: p, layer: profile.Layer{}}
	if n.Replace {
		return d, nil
	}
	_, err = d.at.Store.Load(d.at.Name)
	if open := (*files.OpenError)(nil); errors.As(err, &open) {
		return nil, Wrong("%s could not be saved: %v", d.at.Name, err)
	}
	if !errors.Is(err, profile.ErrUnknown) {
		return nil, Wrong("there is a profile %s already; --replace overwrites it, gharbor show %s shows it", d.at.Name, d.at.Name)
	}
	return d, nil
}

// fill puts what was read into the layer, and the flags over it.
func (d *draft) fill() error {
	if err := d.ChooseHost(&d.parsed); err != nil {
		return err
	}
	maps.Copy(d.layer, d.parsed.Layer)
	if addressOf(d.Set) != "" {
		for _, name := range profile.AddressParts() {
			delete(d.layer, name)
		}
	}
	maps.Copy(d.layer, d.Set)
	d.parsed.NoteLeft()
	if note, ok := d.parsed.Layer["note"]; ok && d.Set["note"].Text == "" {
		d.layer["note"] = note
	}
	for _, note := range d.parsed.Notes {
		d.Note("%s", note)
	}
	return nil
}

// effective gives the profile as it would count when it were saved.
func (d *draft) effective() profile.Effective {
	return d.at.Library.Draft(d.at.Store, d.at.Name, d.layer).Resolve()
}

// complete names what is missing or wrong, where nobody can be asked.
func (d *draft) complete() error {
	var missing []string
	for _, problem := range d.effective().Problems {
		if !problem.Missing {
			return Wrong("%s", problem.Text)
		}
		s, _ := profile.Find(problem.Setting)
		missing = append(missing, "--"+s.Flag+" "+s.Value)
	}
	if len(missing) > 0 {
		return Usage("%s cannot be made yet; missing: %s", d.at.Name, strings.Join(missing, ", "))
	}
	return nil
}

func (d *draft) tryOut(ctx context.Context) (*checkup.Report, error) {
	e := d.effective()
	checker := d.Checker(d.parsed.Secret)
	// The profile is not saved yet, so a remedy is the same add with what fixes it.
	checker.Flags, checker.Unsaved = append(AsFlags(d.layer), []string{"--test"}), true
	if d.Replace {
		checker.Flags = append(checker.Flags, []string{"--replace"})
	}
	if d.Project {
		checker.Flags = append(checker.Flags, []string{"--project"})
	}
	gate, err := d.Gate(d.at.Library)
	if err != nil {
		return nil, err
	}
	var report *checkup.Report
	admitted, err := gate.Try(ctx, d.at.Library.Draft(d.at.Store, d.at.Name, d.layer))
	var refused *agree.Refused
	switch {
	case errors.As(err, &refused):
		of := d.layer["base"].Text
		if of == "" {
			of = d.at.Name
		}
		report = checkup.NotAgreed(e, refused.Why)
		report.Finding.Try = []finding.Remedy{{Say: "See what its base or its group does, and agree to it if you trust it", Run: []string{"agree", of}}}
	case err != nil:
		return nil, err
	default:
		if report, err = checker.Test(ctx, admitted); err != nil {
			return nil, err
		}
	}
	d.Shown(e, report)
	return report, nil
}

func (d *draft) save(ctx context.Context) error {
	d.layer = d.at.Store.Placed(d.layer, d.at.File(), d.Dir)
	err := d.at.Store.Save(ctx, d.at.Name, d.layer, d.Replace)
	if errors.Is(err, profile.ErrExists) {
		return Wrong("another gharbor has just made a profile %s; --replace overwrites it", d.at.Name)
	}
	if err != nil {
		return Wrong("%s could not be saved: %v", d.at.Name, err)
	}
	d.saved = true
	d.Saved(d.at)
	if d.at.Store.Project {
		data, err := profile.Render(d.layer)
		if err == nil {
			err = d.agreeToOwn(ctx, d.at, data)
		}
		if err != nil {
			return err
		}
	}
	if d.parsed.Secret.Given() && d.layer["secret"].Text == "" && d.Keep == "" && !d.Who.Here() {
		d.Note("the password in the connection string was not saved. gharbor asks for it at each run; to keep it encrypted: gharbor wallet put --profile %s (or say --keep wallet here)", d.at.Name)
	}
	return nil
}

// saveAndKeep saves a profile whose test was good, and then its password, where that is wanted.
func (d *draft) saveAndKeep(ctx context.Context) error {
	if err := d.save(ctx); err != nil {
		return err
	}
	return d.OfferKeeping(ctx, d.effective(), d.parsed.Secret)
}

// takeIn reads connection details from where a word says: a file or a folder, or what [Run.taken] takes.
func (r *Run) takeIn(ctx context.Context, word, variable string) (profile.Parsed, error) {
	if word == "-" || profile.IsConnectionString(word) {
		return r.taken(ctx, word, variable)
	}
	path := r.Path(word)
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return profile.Parsed{}, Wrong("%s is neither a connection string (scheme://…) nor a file or folder", Clip(word))
	}
	if err != nil {
		return profile.Parsed{}, Wrong("%s cannot be read: %v", Clip(word), err)
	}
	if info.IsDir() {
		return r.answered(ctx, Clip(word), func(how profile.Reading) (profile.Parsed, error) { return profile.TakeBinding(path, how) })
	}
	data, err := files.ReadNamed(ctx, path, profile.MaxFile)
	if err != nil {
		return profile.Parsed{}, Wrong("%s cannot be read: %v", Clip(word), err)
	}
	return r.answered(ctx, Clip(word), func(how profile.Reading) (profile.Parsed, error) {
		how.Variable = cmp.Or(how.Variable, variable)
		return profile.TakeIn(string(data), how)
	})
}

// taken takes the details of a connection that a word holds, or standard input where it is "-".
func (r *Run) taken(ctx context.Context, word, variable string) (profile.Parsed, error) {
	return r.given(ctx, word, func(text string, how profile.Reading) (profile.Parsed, error) {
		how.Variable = cmp.Or(how.Variable, variable)
		return profile.TakeIn(text, how)
	})
}

// given has details read that a word holds, or standard input where it is "-". A password in a word is warned of.
func (r *Run) given(ctx context.Context, word string, read func(text string, how profile.Reading) (profile.Parsed, error)) (profile.Parsed, error) {
	text, about := word, "what was given"
	if word == "-" {
		all, err := r.ReadAll(profile.MaxFile)
		if err != nil {
			return profile.Parsed{}, Wrong("standard input could not be read: %v", err)
		}
		text, about = strings.TrimSpace(all), "standard input"
	}
	parsed, err := r.answered(ctx, about, func(how profile.Reading) (profile.Parsed, error) { return read(text, how) })
	if err == nil && word != "-" && parsed.Secret.Given() && parsed.Secret.Reveal() != "" {
		r.Note("other users of this machine could have seen the password in this command; give - instead and pass the connection string on standard input")
	}
	return parsed, err
}

// answered reads details, and asks a person what must be decided: which of several connections is meant, and whether to do without a parameter
// that makes the connection stricter. Where nobody can be asked, that is an error.
func (r *Run) answered(ctx context.Context, from string, read func(profile.Reading) (profile.Parsed, error)) (profile.Parsed, error) {
	var how profile.Reading
	for {
		parsed, err := read(how)
		var several *profile.Several
		var stricter *profile.Stricter
		switch {
		case err == nil:
			return parsed, nil
		case r.Who.Here() && errors.As(err, &several):
			r.Who.Say("There are several connections: " + outside.Cell(strings.Join(several.Names, ", ")) + ".")
			for how.Variable = ""; !slices.Contains(several.Names, how.Variable); {
				if how.Variable, err = r.Who.Ask(ctx, "Which one, by its variable ["+outside.Cell(several.Names[0])+"]: "); err != nil {
					return parsed, err
				}
				how.Variable = cmp.Or(how.Variable, several.Names[0])
			}
		case r.Who.Here() && errors.As(err, &stricter):
			r.Who.Say(outside.Cell(stricter.Error()) + ".")
			yes, err := person.Yes(ctx, r.Who, "Go on without?", false)
			if err != nil {
				return parsed, err
			}
			if !yes {
				return parsed, Wrong("%s: %v", from, stricter)
			}
			how.Without = append(how.Without, stricter.Names...)
		default:
			return parsed, Wrong("%s: %v", from, err)
		}
	}
}
