package harbor

import (
	"context"
	"errors"
	"io/fs"
	"maps"
	"strings"
	"time"

	"gentle-harbor/internal/agree"
	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/files"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor/edits"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/secret"
)

// Making makes a new profile, of the settings of Run.Set and what else it says.
type Making struct {
	Run      Run
	Name     string
	Source   string // a connection string, or "-"; for an import also a file or a folder; "" for none
	Variable string // for an import, the variable that holds the connection string; "" for any
	Project  bool   // in the project's folder, not among the user's own
	Replace  bool   // overwrite a profile of that name
	Test     bool   // save only when a test passes
	// FromClouds has the person choose a cloud's server from lists.
	FromClouds bool
	// References says that references to secrets, statements and paths that an imported file says
	// are wanted.
	References bool
	// Look is how long servers to offer are looked for, two seconds for 0.
	Look time.Duration

	// Began is called before the first question, Shown with each test, Saved when the profile is
	// written.
	Began func(name string)
	Shown func(profile.Effective, *checkup.Report)
	Saved func(edits.Place)
}

// draft is a profile that is being made.
type draft struct {
	Run
	Making
	at     edits.Place
	layer  profile.Layer // what will be saved
	parsed profile.Parsed
	saved  bool
}

// confirm shows what an imported file would make this machine do when the profile is used, and
// asks whether it is wanted: read a file or a variable as a password and send it to a server that
// the file names, run a program or a statement.
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
		case s.Type == profile.SecretRef && (ref.Of != "" || len(ref.Args) > 0), s.Type == profile.Path,
			s.Type == profile.Maps, s.Name == "hand-over.", s.Statements:
			reach = append(reach, outside.Cell(strings.ReplaceAll(name, ".", " ")+": "+v.Text))
		}
	}
	if len(reach) == 0 || d.References {
		return nil
	}
	if !d.Who.Here() {
		return world.Usage("this names more than a server. To take that over too, add --with-references:\n  %s",
			strings.Join(reach, "\n  "))
	}
	d.Who.Say("What is imported names more than a server:\n  " + strings.Join(reach, "\n  "))
	yes, err := world.Yes(ctx, d.Who, "Take these over?", false)
	if err != nil || yes {
		return err
	}
	return world.Error{Code: world.ExitSettings,
		Message: d.at.Name + " was not made; give these settings as flags, or leave them out of the file"}
}

// draft finds the place of a new profile, which must be free.
func (n Making) draft() (*draft, error) {
	if profile.IsConnectionString(n.Name) {
		return nil, world.Usage("the name comes before the connection string: gharbor add NAME CONNECTION-STRING")
	}
	if layer, name := profile.SplitLayer(n.Name); (n.Project || layer == "project") && !n.Replace {
		if err := n.notYours(name); err != nil { // before the project's folder is made for it
			return nil, err
		}
	}
	p, err := n.Run.edits().NewPlace(n.Name, n.Project)
	if err != nil {
		return nil, err
	}
	d := &draft{Run: n.Run, Making: n, at: p, layer: profile.Layer{}}
	if n.Replace {
		return d, nil
	}
	_, err = d.at.Store.Load(d.at.Name)
	if open := (*files.OpenError)(nil); errors.As(err, &open) {
		return nil, world.Wrong("%s could not be saved: %v", d.at.Name, err)
	}
	if errors.Is(err, fs.ErrPermission) {
		return nil, world.Wrong("whether there is a profile %s already cannot be seen: its file, or its folder, "+
			"is not readable for you: %v",
			d.at.Name, err)
	}
	if !errors.Is(err, profile.ErrUnknown) {
		return nil, world.Wrong("there is a profile %s already; --replace overwrites it, gharbor show %s shows it",
			d.at.Name, d.at.Name)
	}
	return d, nil
}

// notYours refuses a project's profile of a name that is one of the user's own, and says how that
// is shared.
func (n Making) notYours(name string) error {
	library, err := n.Run.Library()
	if err != nil {
		return err
	}
	if _, _, err := library.Find("mine:" + name); err != nil {
		return nil
	}
	return world.Wrong("there is a profile %s of your own. To share it with the project: gharbor copy %s project:%s",
		name, name, name)
}

// fill puts what was read into the layer, and the flags over it.
func (d *draft) fill() error {
	var err error
	if d.Run, err = d.chosenHost(&d.parsed); err != nil {
		return err
	}
	maps.Copy(d.layer, d.parsed.Layer)
	if profile.AddressOf(d.Set) != "" {
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
			return world.Wrong("%s", problem.Text)
		}
		s, _ := profile.Find(problem.Setting)
		missing = append(missing, "--"+s.Flag+" "+s.Value)
	}
	if len(missing) > 0 {
		return world.Usage("%s cannot be made yet; missing: %s", d.at.Name, strings.Join(missing, ", "))
	}
	return nil
}

func (d *draft) tryOut(ctx context.Context) (*checkup.Report, error) {
	e := d.effective()
	checker := d.Checker(Aim{Known: d.parsed.Secret})
	// The profile is not saved yet, so a remedy is the same add with what fixes it.
	checker.Command.Flags, checker.Command.Unsaved = append(AsFlags(d.layer), []string{"--test"}), true
	if d.Replace {
		checker.Command.Flags = append(checker.Command.Flags, []string{"--replace"})
	}
	if d.Project {
		checker.Command.Flags = append(checker.Command.Flags, []string{"--project"})
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
		report.Finding.Try = []finding.Remedy{{Say: "See what its base or its group does, and agree to it if you trust it",
			Run: []string{"agree", of}}}
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
		return world.Wrong("another gharbor has just made a profile %s; --replace overwrites it", d.at.Name)
	}
	if err != nil {
		return world.Wrong("%s could not be saved: %v", d.at.Name, err)
	}
	d.saved = true
	d.Saved(d.at)
	if d.at.Store.Project {
		data, err := profile.Render(d.layer)
		if err == nil {
			err = d.edits().AgreeToOwn(ctx, d.at, data)
		}
		if err != nil {
			return err
		}
	}
	if d.parsed.Secret.Given() && d.layer["secret"].Text == "" && d.Keep == "" && !d.Who.Here() {
		d.Note("the password in the connection string was not saved. gharbor asks for it at each run; to store "+
			"it encrypted: gharbor wallet add %s (or say --store wallet here)",
			d.at.Name)
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
