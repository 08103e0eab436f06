package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"gentle-harbor/internal/alias"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/harbor/edits"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/report"
)

var aliasCommand = command{
	name: "alias", synopsis: "ACTION", about: "name a server once, with its spare addresses, for many profiles",
	text: `A file of aliases maps a short name to a server: where it is, how to get there, and who is trusted there.

  bookings-staging:
    engine: postgres
    addresses: [db1.fellside.example:5432, db2.fellside.example, {socket: /run/bunk}]
    database: bunkhouse
    wants: primary            # primary, replica or either
    pick: in-order            # or random
    tls: {mode: verify, ca: certs/fellside-ca.pem}
    via: [ops@gate.fellside.example]
  ledger: {same-as: ledger-main}
  harbour-web: {engine: postgres, srv: _postgresql._tcp.fellside.example}

A profile names it with the setting alias. The file is aliases.yaml in your own folder, and in the project's; the files that --aliases or
GHARBOR_ALIASES name come before them. The addresses are tried in order: the next one after no answer, a server that is starting, closing or
full, or one of another role; never after a refused login or a certificate that is not valid.`,
	examples: []string{"gharbor alias add bookings --engine postgres --address db1.fellside.example --address " +
		"db2.fellside.example --wants primary",
		"gharbor alias probe bookings",
		"gharbor add huts/staging --alias bookings --database bunkhouse --user warden_app"},
	subs: []*command{
		actionOf[ofAliases, aliasList, struct{}]("alias list", "[WORD]",
			"list the aliases, and the files that they come from", "", "gharbor alias list"),
		actionOf[ofAliases, aliasShow, struct{}]("alias show", "NAME",
			"show one alias, where it is said, and where else its name is", "", "gharbor alias show bookings"),
		actionOf[ofAliases, aliasAdd, struct{}]("alias add", "NAME", "write an alias down", "",
			"gharbor alias add bookings --address db1.fellside.example:5432 --address db2.fellside.example",
			"gharbor alias add ledger --same-as ledger-main"),
		actionOf[ofAliases, aliasChange, struct{}]("alias change", "NAME", "change settings of an alias", "",
			"gharbor alias change bookings --address db3.fellside.example",
			"gharbor alias change bookings --unset via"),
		actionOf[ofAliases, aliasRename, struct{}]("alias rename", "NAME NEW-NAME",
			"give an alias another name", "", "gharbor alias rename bookings bookings-main --everywhere"),
		actionOf[ofAliases, aliasCopy, struct{}]("alias copy", "NAME NEW-NAME", "copy an alias", "",
			"gharbor alias copy bookings bookings-test"),
		actionOf[ofAliases, aliasRemove, struct{}]("alias remove", "NAME", "remove an alias", "",
			"gharbor alias remove bookings --yes"),
		actionOf[ofAliases, aliasCheck, struct{}]("alias check", "",
			"find the mistakes in all files of aliases", "", "gharbor alias check"),
		actionOf[ofAliases, aliasProbe, struct{}]("alias probe", "NAME…",
			"ask each address whether a server greets there, without a login, and how fast", "",
			"gharbor alias probe bookings ledger --repeat 10"),
		actionOf[ofAliases, aliasUsers, struct{}]("alias users", "NAME",
			"list the profiles, aliases and stored passwords that use an alias", "", "gharbor alias users bookings"),
		actionOf[ofAliases, aliasImport, struct{}]("alias import", "FILE", "take aliases in from JSON, such as "+
			"a script makes, or from an engine's file of names; - reads standard input", `A file of names is one such as clients of Oracle Database have: NAME = (DESCRIPTION = …). Its addresses and their order, the service or the
instance, and the encryption become an alias; what else it says is named and left out. A further file that it names is read only where it is
in the same folder.`, "gharbor alias import servers.json", "gharbor alias import names.ora"),
		actionOf[ofAliases, aliasExport, struct{}]("alias export", "[NAME…]",
			"write aliases as JSON, or as descriptions", "", "gharbor alias export > servers.json",
			"gharbor alias export census --as description"),
	},
}

// ofAliases is what the actions of the command alias have in common.
type ofAliases struct{}

func (ofAliases) flags(fs flagSet, run *harbor.Run, _ any) { aliasFilesFlag(fs, run) }

func (ofAliases) about(*call, any) (none struct{}, err error) { return none, nil }

func (ofAliases) failed(c *call, _ struct{}, err error) error { return c.failed(err) }

// aliasSettings are flags of what an alias says.
type aliasSettings struct{ layer profile.Layer }

func (o *aliasSettings) flags(fs flagSet, _ *harbor.Run) {
	o.layer = profile.Layer{}
	for _, s := range append(slices.Clone(profile.AliasSettings), profile.Settings...) {
		if !profile.InAlias(s) {
			continue
		}
		fs.settingFlag(s, func(text string) error {
			return harbor.Take(o.layer, s, text, profile.Origin{Layer: profile.LayerFlag, Name: "--" + s.Flag})
		})
	}
}

// inProject is the flag that names the project's file.
type inProject struct{ project bool }

func (o *inProject) flags(fs flagSet, _ *harbor.Run) {
	fs.onFlag("project", &o.project)
}

// aliasRow is an alias as list and show report it.
type aliasRow struct {
	Name      string   `json:"alias"`
	Engine    string   `json:"engine,omitempty"`
	Addresses []string `json:"addresses,omitempty"`
	SRV       string   `json:"srv,omitempty"`
	SameAs    string   `json:"same_as,omitempty"`
	Database  string   `json:"database,omitempty"`
	Service   string   `json:"service,omitempty"`
	Instance  string   `json:"instance,omitempty"`
	Wants     string   `json:"wants,omitempty"`
	Pick      string   `json:"pick,omitempty"`
	TLS       string   `json:"tls,omitempty"`
	Via       []string `json:"via,omitempty"`
	Note      string   `json:"note,omitempty"`
	Owner     string   `json:"owner"` // mine, project or named
	File      string   `json:"file"`
	Line      int      `json:"line"`
	Broken    string   `json:"broken,omitempty"`
	// Others is where else the name is, which does not count.
	Others []string `json:"others,omitempty"`
}

func aliasRowOf(e alias.Entry) aliasRow {
	text := func(name string) string { return e.Layer[name].Text }
	row := aliasRow{Name: e.Name, Engine: text("engine"), Addresses: e.Layer["addresses"].List,
		SRV: text("srv"), SameAs: text("same-as"), Database: text("database"), Service: text("service"),
		Instance: text("instance"), Wants: text("wants"), Pick: text("pick"),
		TLS: text("tls.mode"), Via: e.Layer["via"].List, Note: text("note"), Owner: e.Source.Layer(),
		File: e.Source.Path, Line: e.Line}
	if e.Err != nil {
		row.Broken = e.Err.Error()
	}
	return row
}

func (r aliasRow) where() string {
	switch {
	case r.Broken != "":
		return "(broken)"
	case r.SRV != "":
		return "SRV records of " + r.SRV
	case r.SameAs != "":
		return "same as " + r.SameAs
	}
	return strings.Join(r.Addresses, ", ")
}

type aliasList struct {
	noFlags
	inJSON
}

func (aliasList) work(_ context.Context, c *call, _ struct{}) error {
	book, _, err := c.Aliases()
	if err != nil {
		return err
	}
	entries, broken := book.List()
	word := strings.ToLower(strings.Join(c.names, ""))
	rows := []aliasRow{}
	seen := map[string]bool{}
	for _, e := range entries {
		row := aliasRowOf(e)
		if !strings.Contains(strings.ToLower(e.Name+" "+row.where()+" "+row.Note), word) {
			continue
		}
		rows = append(rows, row)
	}
	if c.json {
		if err := report.JSON(c.Stdout, map[string]any{"aliases": rows}); err != nil {
			return err
		}
	} else if len(rows) == 0 {
		fmt.Fprintln(c.Stdout, map[bool]string{true: "No aliases yet. Make one with: gharbor alias add NAME " +
			"--address HOST:PORT",
			false: "None of the aliases matches."}[len(entries) == 0])
	} else {
		var cells [][]string
		for _, row := range rows {
			name := row.Name
			if seen[name] {
				name += " (does not count)"
			}
			seen[row.Name] = true
			line := []string{name, row.Engine, row.where(), row.Database, row.Wants, fmt.Sprintf("%s:%d", row.File, row.Line)}
			for i := range line {
				line[i] = outside.Cell(line[i])
			}
			cells = append(cells, line)
		}
		report.Table(c.Stdout, []string{"alias", "engine", "addresses", "database", "wants", "file"}, cells, nil)
	}
	for _, row := range rows {
		if row.Broken != "" && !c.json {
			fmt.Fprintf(c.Stderr, "gharbor: %s\n", outside.Text(row.Broken))
		}
	}
	for _, err := range broken {
		return world.Error{Code: exitSettings, Message: err.Error()}
	}
	return nil
}

type aliasShow struct {
	noFlags
	inJSON
}

func (aliasShow) work(_ context.Context, c *call, _ struct{}) error {
	e, others, err := c.edits().Alias(c.names[0])
	if err != nil {
		return err
	}
	row := aliasRowOf(e)
	for _, other := range others {
		row.Others = append(row.Others, other.At())
	}
	if e.Err != nil {
		return world.Doing("read the alias "+e.Name, e.Err)
	}
	if c.json {
		return report.JSON(c.Stdout, row)
	}
	w := c.Stdout
	fmt.Fprintf(w, "%s  %s\n\n", paint(w, strong, row.Name), outside.Cell(e.At()))
	for _, name := range e.Layer.Names() {
		fmt.Fprintf(w, "  %-15s %s\n", strings.ReplaceAll(name, ".", " "), outside.Cell(e.Layer[name].Text))
	}
	for _, other := range row.Others {
		fmt.Fprintf(w, "\n  The name is in %s too, which does not count.\n", outside.Cell(other))
	}
	if row.SameAs != "" {
		to, err := c.AliasTarget(c.names[0], nil)
		if err != nil {
			return err
		}
		fmt.Fprintf(w, "\n  It leads to %s (%s).\n", outside.Cell(placesOf(to)), outside.Cell(to.AliasAt.String()))
	}
	return nil
}

func placesOf(e profile.Effective) string {
	if e.SRV != "" {
		return "the SRV records of " + e.SRV
	}
	var list []string
	for _, a := range e.Addresses {
		list = append(list, a.String())
	}
	return strings.Join(list, ", ")
}

type aliasAdd struct {
	aliasSettings
	inProject
	replace bool
}

func (o *aliasAdd) flags(fs flagSet, run *harbor.Run) {
	o.aliasSettings.flags(fs, run)
	o.inProject.flags(fs, run)
	fs.onFlag("replace", &o.replace)
}

func (o *aliasAdd) work(ctx context.Context, c *call, _ struct{}) error {
	in, err := c.edits().AliasFile(o.project)
	if err != nil {
		return err
	}
	if err := c.edits().PutAlias(ctx, in, c.names[0], o.layer, o.replace); err != nil {
		return err
	}
	fmt.Fprintf(c.Stdout, "Saved the alias %s in %s\n", c.names[0], in.Path)
	return nil
}

type aliasChange struct {
	aliasSettings
	unset []string
}

func (o *aliasChange) flags(fs flagSet, run *harbor.Run) {
	o.aliasSettings.flags(fs, run)
	fs.listFlag("unset", &o.unset)
}

func (o *aliasChange) work(ctx context.Context, c *call, _ struct{}) error {
	var unset []string
	for _, text := range o.unset {
		name, ok := settingNamed(text)
		if text == "address" {
			name, ok = "addresses", true
		}
		if s, known := profile.Find(name); !ok || !known || !profile.InAlias(s) {
			return usage("--unset %s: an alias has no such setting. To see an alias: gharbor alias show bookings", clip(text))
		}
		unset = append(unset, name)
	}
	if len(o.layer) == 0 && len(unset) == 0 {
		return usage("alias change needs a setting to change, such as --address db.fellside.example:5432")
	}
	for name, v := range o.layer {
		if v.Text == "" {
			delete(o.layer, name)
			unset = append(unset, name)
		}
	}
	e, err := c.edits().ChangeAlias(ctx, c.names[0], o.layer, unset)
	if err != nil {
		return err
	}
	fmt.Fprintf(c.Stdout, "Changed the alias %s in %s\n", e.Name, e.Source.Path)
	return nil
}

type aliasRename struct{ references bool }

func (o *aliasRename) flags(fs flagSet, _ *harbor.Run) {
	fs.onFlag("everywhere", &o.references)
}

func (o *aliasRename) work(ctx context.Context, c *call, _ struct{}) error {
	e, users, err := c.edits().RenameAlias(ctx, c.names[0], c.names[1], o.references)
	if err != nil {
		return err
	}
	fmt.Fprintf(c.Stdout, "Renamed the alias %s to %s in %s\n", e.Name, c.names[1], e.Source.Path)
	for _, user := range users {
		switch user.Kind {
		case "profile", "alias":
			fmt.Fprintf(c.Stdout, "Changed the %s %s\n", user.Kind, outside.Cell(user.Name))
		default:
			fmt.Fprintf(c.Stderr, "note: the password of %s in %s is stored for the old name; put it again for the new one\n",
				outside.Cell(user.Name), outside.Cell(user.At))
		}
	}
	return nil
}

type aliasCopy struct {
	inProject
	replace bool
}

func (o *aliasCopy) flags(fs flagSet, run *harbor.Run) {
	o.inProject.flags(fs, run)
	fs.onFlag("replace", &o.replace)
}

func (o *aliasCopy) work(ctx context.Context, c *call, _ struct{}) error {
	e, _, err := c.edits().Alias(c.names[0])
	if err != nil {
		return err
	}
	if e.Err != nil {
		return world.Doing("read the alias "+e.Name, e.Err)
	}
	in, err := c.edits().AliasFile(o.project)
	if err != nil {
		return err
	}
	if err := c.edits().PutAlias(ctx, in, c.names[1], e.Moved(in), o.replace); err != nil {
		return err
	}
	fmt.Fprintf(c.Stdout, "Copied the alias %s to %s in %s\n", e.Name, c.names[1], in.Path)
	return nil
}

type aliasRemove struct{ consent }

func (o *aliasRemove) work(ctx context.Context, c *call, _ struct{}) error {
	e, _, err := c.edits().Alias(c.names[0])
	if err != nil {
		return err
	}
	users, _, err := c.edits().AliasUsers(ctx, e)
	if err != nil {
		return err
	}
	question := "Remove the alias " + e.Name + "?"
	if len(users) > 0 {
		question = fmt.Sprintf("%s is used by %d profiles, aliases and stored passwords (gharbor alias users %s). Remove it?",
			e.Name, len(users), e.Name)
	}
	meant, err := c.Consent(ctx, o.yes, question, "alias remove would delete "+e.Name)
	if err != nil {
		return err
	}
	if !meant {
		fmt.Fprintln(c.Stderr, "Nothing was removed.")
		return nil
	}
	if err := c.edits().RemoveAlias(ctx, e); err != nil {
		return err
	}
	fmt.Fprintf(c.Stdout, "Removed the alias %s from %s\n", e.Name, e.Source.Path)
	return nil
}

type aliasCheck struct {
	noFlags
	inJSON
}

// aliasProblem is what is wrong in a file of aliases, with the file and the line.
type aliasProblem struct {
	What string `json:"what"`
}

func (aliasCheck) work(_ context.Context, c *call, _ struct{}) error {
	book, _, err := c.Aliases()
	if err != nil {
		return err
	}
	entries, broken := book.List()
	mistakes := []aliasProblem{}
	for _, err := range broken {
		mistakes = append(mistakes, aliasProblem{err.Error()})
	}
	for _, e := range entries {
		if e.Err != nil {
			for line := range strings.SplitSeq(e.Err.Error(), "\n") {
				mistakes = append(mistakes, aliasProblem{line})
			}
			continue
		}
		to, err := c.AliasTarget(e.Qualified(), profile.Layer{"user": {Text: "u"}})
		if err != nil {
			mistakes = append(mistakes, aliasProblem{e.At() + ": " + err.Error()})
			continue
		}
		for _, p := range to.Problems {
			if !p.Missing {
				mistakes = append(mistakes, aliasProblem{e.At() + ": " + p.Text})
			}
		}
	}
	var read []string
	for _, s := range book.Files() {
		read = append(read, s.Path)
	}
	if c.json {
		err = report.JSON(c.Stdout, map[string]any{"files": read, "checked": len(entries), "problems": mistakes})
	} else {
		for _, each := range mistakes {
			fmt.Fprintln(c.Stdout, outside.Text(each.What))
		}
		fmt.Fprintf(c.Stdout, "%s in %s: %s.\n", report.Count(int64(len(entries)), "alias"),
			report.Count(int64(len(read)), "file"), report.Count(int64(len(mistakes)), "problem"))
	}
	if err == nil && len(mistakes) > 0 {
		return world.Error{Code: exitSettings}
	}
	return err
}

type aliasUsers struct {
	noFlags
	inJSON
}

func (aliasUsers) work(ctx context.Context, c *call, _ struct{}) error {
	e, _, err := c.edits().Alias(c.names[0])
	if err != nil {
		return err
	}
	users, closed, err := c.edits().AliasUsers(ctx, e)
	if err != nil {
		return err
	}
	if c.json {
		if users == nil {
			users = []edits.AliasUser{}
		}
		return report.JSON(c.Stdout, map[string]any{"alias": e.Name, "users": users, "not_looked_into": closed})
	}
	var rows [][]string
	for _, u := range users {
		rows = append(rows, []string{u.Kind, outside.Cell(u.Name), outside.Cell(u.At)})
	}
	if len(rows) == 0 {
		fmt.Fprintf(c.Stdout, "Nothing uses the alias %s.\n", e.Name)
	} else {
		report.Table(c.Stdout, []string{"kind", "name", "where"}, rows, nil)
	}
	for _, dir := range closed {
		fmt.Fprintf(c.Stderr, "note: the wallet %s opens with its passphrase only, and was not looked into\n",
			outside.Cell(dir))
	}
	return nil
}

type aliasProbe struct {
	inJSON
	count, parallel int
	timeout         time.Duration
}

func (o *aliasProbe) flags(fs flagSet, run *harbor.Run) {
	o.count, o.parallel = 5, 128
	fs.numberFlag("repeat", 1, 1000, 5, &o.count)
	fs.numberFlag("parallel", 1, 1000, 128, &o.parallel)
	fs.spanFlag("timeout", 5*time.Second, &o.timeout)
	hostKeyFlag(fs, run)
}

func (o *aliasProbe) work(ctx context.Context, c *call, _ struct{}) error {
	done := c.Run.Working
	if done == nil || c.json {
		done = func(string) func() { return func() {} }
	}
	stop := done("asking")
	list, err := c.ProbeAliases(ctx, c.names, o.count, o.parallel, o.timeout)
	stop()
	if err != nil {
		return err
	}
	answers := 0
	for _, p := range list {
		for _, each := range p.Addresses {
			if each.Answers {
				answers++
			}
		}
	}
	if c.json {
		err = report.JSON(c.Stdout, map[string]any{"aliases": list})
	} else {
		report.Probes(c.Stdout, list)
	}
	if err == nil && answers == 0 {
		return world.Error{Code: finding.ExitNotReached}
	}
	return err
}

type aliasImport struct {
	inProject
	replace bool
}

func (o *aliasImport) flags(fs flagSet, run *harbor.Run) {
	o.inProject.flags(fs, run)
	fs.onFlag("replace", &o.replace)
}

func (o *aliasImport) work(ctx context.Context, c *call, _ struct{}) error {
	in, err := c.edits().AliasFile(o.project)
	if err != nil {
		return err
	}
	names, err := c.edits().ImportAliases(ctx, c.names[0], in, o.replace)
	if err != nil {
		return err
	}
	fmt.Fprintf(c.Stdout, "Saved %s in %s\n", report.Count(int64(len(names)), "alias"), in.Path)
	return nil
}

type aliasExport struct{ as string }

// aliasForms are the forms in which aliases are written.
var aliasForms = []string{"json", "description"}

func (o *aliasExport) flags(fs flagSet, _ *harbor.Run) { fs.wordFlag("as", aliasForms, "json", &o.as) }

func (o *aliasExport) work(_ context.Context, c *call, _ struct{}) error {
	if o.as == "description" {
		text, err := c.ExportNames(c.names)
		if err == nil {
			_, err = fmt.Fprint(data(c.Stdout), text)
		}
		return err
	}
	text, err := c.edits().ExportAliases(c.names)
	if err != nil {
		return err
	}
	return report.JSON(c.Stdout, text)
}
