package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"maps"
	"slices"
	"strings"

	"gentle-harbor/internal/agree"
	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/shell"
)

var addCommand = command{
	name: "add", synopsis: "NAME [CONNECTION-STRING | -]",
	about: "write down how to get into a database, under a name",
	text: `At a terminal it asks for what is missing, tests, and saves; after a failure you can change one value, test again,
save as it is, or leave, and nothing that was typed is lost. Without a terminal the flags say it all.

A connection string looks like postgres://USER@HOST:PORT/DATABASE (also postgresql, mysql, mariadb); - reads it from
standard input. A password in it is used for a test and never saved: a profile holds only where a password is to be
had (--secret).`,
	examples: []string{
		"gharbor add huts/local --engine postgres --database bunkhouse --user warden_app --secret env:HUT_PASSWORD",
		"gharbor add archive/ledger mysql://reader@127.0.0.1:3391/bunkhouse --test",
	},
	settings: true,
	flags: func(fs *flag.FlagSet, c *call) {
		fs.BoolVar(&c.test, "test", false, "save only when a test of the profile passes")
		fs.BoolVar(&c.project, "project", false, "write it into the project's folder .gentle-harbor, to be shared")
		fs.BoolVar(&c.replace, "replace", false, "overwrite a profile of that name")
		c.declareSecrets(fs)
		c.declareKeep(fs)
	},
	run: runAdd,
}

// draft is a profile that is being made.
type draft struct {
	*call
	name    string
	store   profile.Store
	library profile.Library
	layer   profile.Layer // what will be saved
	parsed  profile.Parsed
}

func runAdd(ctx context.Context, c *call) error {
	d := draft{call: c, layer: profile.Layer{}}
	var err error
	if d.library, err = c.Library(); err != nil {
		return err
	}
	if err := d.arguments(ctx); err != nil {
		return err
	}
	if d.store, d.name, err = c.place(d.library, d.name); err != nil {
		return err
	}
	if err := profile.CheckName(d.name); err != nil {
		return usage("%v", err)
	}
	if err := d.free(); err != nil {
		return err
	}
	maps.Copy(d.layer, d.parsed.Layer)
	if where := whereOf(c.Set); where != "" {
		for _, name := range append([]string{"port"}, profile.Where...) {
			delete(d.layer, name)
		}
	}
	maps.Copy(d.layer, c.Set)
	d.parsed.NoteLeft()
	if note, ok := d.parsed.Layer["note"]; ok && c.Set["note"].Text == "" {
		d.layer["note"] = note
	}
	if base := d.layer["base"].Text; base != "" {
		if err := d.library.CheckBase(d.store, d.name, base); err != nil {
			return wrong("%v", err)
		}
	}
	for _, note := range d.parsed.Notes {
		fmt.Fprintln(c.Stderr, "note: "+note)
	}
	if c.Who.Here() {
		return d.converse(ctx)
	}
	if err := d.complete(); err != nil {
		return err
	}
	if c.test {
		report, err := d.tryOut(ctx)
		if err != nil {
			return err
		}
		if !report.OK {
			fmt.Fprintf(c.Stderr, "gharbor: %s was not saved, since its test failed; without --test it is saved as it is\n", d.name)
			return exit{Code: report.Exit}
		}
		return d.saveAndKeep(ctx)
	}
	if d.Keep == "wallet" {
		return d.saveAndKeep(ctx)
	}
	return d.save(ctx)
}

// saveAndKeep saves a profile whose test was good, and then its password, where that is wanted.
func (d *draft) saveAndKeep(ctx context.Context) error {
	if err := d.save(ctx); err != nil {
		return err
	}
	return d.offerKeeping(ctx, d.effective(), d.parsed.Secret)
}

func whereOf(layer profile.Layer) string {
	for _, name := range profile.Where {
		if layer[name].Text != "" {
			return name
		}
	}
	return ""
}

// arguments reads the name and the connection string, asking for a missing name at a terminal.
func (d *draft) arguments(ctx context.Context) (err error) {
	switch len(d.names) {
	case 0:
		if !d.Who.Here() {
			return usage("add wants a name for the profile: gharbor add NAME")
		}
		if d.name, err = d.Who.Ask(ctx, "Name of the profile, such as huts/local: "); err != nil {
			return err
		}
		return nil
	case 1, 2:
	default:
		return usage("add takes a name and at most one connection string")
	}
	d.name = d.names[0]
	if profile.IsConnectionString(d.name) {
		return usage("the name comes before the connection string: gharbor add NAME CONNECTION-STRING")
	}
	if len(d.names) == 1 {
		return nil
	}
	if d.names[1] != "-" && !profile.IsConnectionString(d.names[1]) {
		return usage("what follows the name is not a connection string; it begins with a scheme, as in %s://user@host/database", profile.Schemes()[0])
	}
	if d.parsed, err = d.ConnectionString(d.names[1]); err != nil {
		return err
	}
	return d.ChooseHost(&d.parsed)
}

// free refuses a name that is taken.
func (d *draft) free() error {
	if d.replace {
		return nil
	}
	if _, err := d.store.Load(d.name); !errors.Is(err, profile.ErrUnknown) {
		return wrong("there is a profile %s already; --replace overwrites it, gharbor show %s shows it", d.name, d.name)
	}
	return nil
}

// effective gives the profile as it would count when it were saved.
func (d *draft) effective() profile.Effective {
	return d.library.Draft(d.store, d.name, d.layer).Resolve()
}

// complete names what is missing or wrong, for a run without a terminal.
func (d *draft) complete() error {
	var missing []string
	for _, problem := range d.effective().Problems {
		if !problem.Missing {
			return wrong("%s", problem.Text)
		}
		s, _ := profile.Find(problem.Setting)
		missing = append(missing, "--"+s.Flag+" "+s.Value)
	}
	if len(missing) > 0 {
		return usage("%s cannot be made yet; missing: %s", d.name, strings.Join(missing, ", "))
	}
	return nil
}

func (d *draft) tryOut(ctx context.Context) (*checkup.Report, error) {
	e := d.effective()
	checker := d.Checker(d.parsed.Secret)
	// The profile is not saved yet, so a remedy is the same add with what mends it.
	checker.Overrides = harbor.AsFlags(d.layer) + "--test\n"
	for flag, given := range map[string]bool{"--replace\n": d.replace, "--project\n": d.project} {
		if given {
			checker.Overrides += flag
		}
	}
	gate, err := d.Gate(d.library)
	if err != nil {
		return nil, err
	}
	var report *checkup.Report
	admitted, err := gate.Try(ctx, d.library.Draft(d.store, d.name, d.layer))
	var refused *agree.Refused
	switch {
	case errors.As(err, &refused):
		report = checkup.NotAgreed(e, refused.Why)
		report.Finding.Try = []string{"See what its base or its group does, and agree to it if you trust it: gharbor agree " + shell.Word(orText(d.layer["base"].Text, d.name))}
	case err != nil:
		return nil, err
	default:
		if report, err = checker.Test(ctx, admitted); err != nil {
			return nil, err
		}
	}
	if report.Finding != nil && refused == nil {
		report.Finding.Try = unsavedRemedies(report.Finding.Try, shell.Word(d.name))
	}
	printReport(d.Stderr, e, report)
	return report, nil
}

func orText(text, otherwise string) string {
	if text == "" {
		return otherwise
	}
	return text
}

// unsavedRemedies makes the remedies fit a profile that is being added: a test of it is an add, and what needs
// it to be there already is left out.
func unsavedRemedies(try []string, name string) []string {
	kept := []string{}
	for _, line := range try {
		line = strings.ReplaceAll(line, "gharbor test "+name, "gharbor add "+name)
		if !slices.ContainsFunc([]string{"show", "survey", "run", "edit", "expect", "agree"}, func(command string) bool {
			return strings.Contains(line, "gharbor "+command+" "+name)
		}) && !strings.Contains(line, "--profile "+name) && !strings.Contains(line, "why "+name) {
			kept = append(kept, line)
		}
	}
	return kept
}

func (d *draft) save(ctx context.Context) error {
	err := d.store.Save(ctx, d.name, d.layer, d.replace)
	if errors.Is(err, profile.ErrExists) {
		return wrong("another gharbor has just made a profile %s; --replace overwrites it", d.name)
	}
	if err != nil {
		return wrong("%s could not be saved: %v", d.name, err)
	}
	fmt.Fprintf(d.Stdout, "Saved %s in %s\n", d.name, d.store.Path(d.name))
	if err := d.agreeToOwn(ctx, d.library, d.store, d.name); err != nil {
		return err
	}
	if d.parsed.Secret.Given() && d.layer["secret"].Text == "" && d.Keep == "" && !d.Who.Here() {
		fmt.Fprintf(d.Stderr, "note: the password in the connection string was not saved. gharbor asks for it at each run; to keep it encrypted: gharbor wallet put --profile %s (or say --keep wallet here)\n", d.name)
	}
	return nil
}

// asked lists what is asked for, in this order, where neither flags nor a connection string said it.
var asked = []string{"engine", "host", "port", "database", "user", "secret"}

// converse asks for what is missing, tests, and saves, at a terminal.
func (d *draft) converse(ctx context.Context) error {
	fmt.Fprintf(d.Stderr, "%s\n", paint(d.Stderr, strong, "A new profile: "+d.name))
	first := true
	for _, name := range asked {
		if _, said := d.layer[name]; said || d.needless(name) {
			continue
		}
		if first {
			fmt.Fprintln(d.Stderr, "Enter alone takes the value in brackets.")
			first = false
		}
		if err := d.question(ctx, name); err != nil {
			return err
		}
	}
	for {
		report, err := d.tryOut(ctx)
		if err != nil {
			return err
		}
		if report.OK {
			return d.saveAndKeep(ctx)
		}
		if report.Finding.Leg == "login" || report.Finding.Leg == "secret" {
			d.Typed.Forget()
		}
		again, err := d.afterFailure(ctx, report)
		if err != nil || !again {
			return err
		}
	}
}

// needless tells whether a question makes no sense with what is known.
func (d *draft) needless(name string) bool {
	socket := d.layer["socket"].Text != ""
	return socket && (name == "host" || name == "port") || name == "secret" && d.parsed.Secret.Given()
}

// question asks for one setting until the answer is usable.
func (d *draft) question(ctx context.Context, name string) error {
	s, _ := profile.Find(name)
	for {
		otherwise := d.effective().Values[name].Text
		prompt := "  " + strings.ReplaceAll(name, ".", " ")
		switch name {
		case "engine":
			prompt += " (" + strings.Join(known.Names(), ", ") + ")"
		case "secret":
			prompt += " (" + secret.Forms + ")"
			if otherwise == "" {
				prompt += " [found, or asked for]"
			}
		}
		if otherwise != "" {
			prompt += " [" + otherwise + "]"
		}
		text, err := d.Who.Ask(ctx, prompt+": ")
		if err != nil {
			return err
		}
		if text == "" && (otherwise != "" || name == "secret" || name == "database") {
			return nil
		}
		if text == "" {
			fmt.Fprintf(d.Stderr, "    There is no default for it: %s.\n", s.About)
			continue
		}
		if name == "host" && strings.HasPrefix(text, "/") {
			s, _ = profile.Find("socket")
		}
		if name == "host" || name == "socket" {
			for _, place := range append([]string{"port"}, profile.Where...) {
				delete(d.layer, place)
			}
		}
		if err := harbor.Take(d.layer, s, text, profile.Origin{Layer: "answer"}); err != nil {
			fmt.Fprintf(d.Stderr, "    %s.\n", strings.TrimPrefix(err.Error(), harbor.FlagMark))
			continue
		}
		return nil
	}
}

// suspects names the setting that a leg's failure is most likely mended by.
var suspects = map[string]string{
	"name": "host", "port": "port", "greeting": "port", "tls": "tls", "login": "user", "database": "database", "secret": "secret",
}

// afterFailure asks what to do after a failed test; again tells whether to test once more.
func (d *draft) afterFailure(ctx context.Context, report *checkup.Report) (again bool, err error) {
	for {
		answer, err := d.Who.Ask(ctx, "What now: change one value, test again, save it as it is, or leave? [change] ")
		if err != nil {
			return false, err
		}
		switch answer {
		case "test", "t", "again":
			return true, nil
		case "save", "s":
			return false, d.save(ctx)
		case "leave", "l":
			fmt.Fprintf(d.Stderr, "%s was not saved.\n", d.name)
			return false, exit{Code: report.Exit}
		case "", "change", "c":
			return true, d.changeOne(ctx, suspects[report.Finding.Leg])
		}
		fmt.Fprintln(d.Stderr, "  Type change, test, save or leave.")
	}
}

// changeOne asks which setting is to change, and to what.
func (d *draft) changeOne(ctx context.Context, suspect string) error {
	for {
		prompt := "  Which setting"
		if suspect != "" {
			prompt += " [" + suspect + "]"
		}
		word, err := d.Who.Ask(ctx, prompt+": ")
		if err != nil {
			return err
		}
		if word == "" {
			word = suspect
		}
		var names []string
		for _, s := range profile.Settings {
			names = append(names, s.Flag)
			if s.Flag != word || strings.HasSuffix(s.Name, ".") {
				continue
			}
			return d.replaceOne(ctx, s)
		}
		fmt.Fprintf(d.Stderr, "  There is no setting of that name; there are %s.\n", strings.Join(names, ", "))
	}
}

func (d *draft) replaceOne(ctx context.Context, s profile.Setting) error {
	if s.Name != "host" && s.Name != "socket" {
		old, had := d.layer[s.Name]
		err := d.question(ctx, s.Name)
		if _, has := d.layer[s.Name]; had && !has {
			d.layer[s.Name] = old
		}
		return err
	}
	return d.question(ctx, s.Name)
}
