package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/harbor/stores"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/secret/keep/credentials"
	"gentle-harbor/internal/secret/keep/wallet"
)

var credentialsCommand = command{
	name: "credentials", synopsis: "ACTION", about: "store passwords in a plain text file that you alone can read",
	text: `The file "credentials" in your own folder has passwords in clear, a block for each server:

  # gentle-harbor credentials 1
  at db.fellside.example:5432
    warden_app on bunkhouse: plain words may have spaces
    warden_app: "quotes for # or \u00e9 or a leading space "
  at *.fellside.example tls encrypt
    reader: another
    guest without password

The most specific entry serves: by host, then by port, then by database. A password is sent only to the server that its
block names, off this machine only over a verified connection unless "tls" says otherwise. In quotes, \" \\ \n \r \t
\xHH and \uHHHH stand for what they say. A wallet (gharbor help wallet) stores the same encrypted.`,
	examples: []string{"gharbor credentials add huts/staging", "gharbor credentials why huts/staging",
		"gharbor credentials check"},
	subs: []*command{
		actionOf[ofFile, credentialsList, string]("credentials list", "",
			"show the entries, without the passwords", "", "gharbor credentials list"),
		actionOf[ofFile, credentialsWhy, string]("credentials why", "NAME",
			"say which entry serves a profile, and why the others do not",
			"When none serves, what comes nearest is named with all that is different.", "gharbor credentials why huts/staging"),
		actionOf[ofFile, credentialsAdd, string]("credentials add", "[NAME]", "add an entry, or change it",
			"It asks for the password twice. Every other line of the file stays as it is. An entry for the same "+
				"user and server is replaced when you say so, or with --replace.",
			"gharbor credentials add huts/staging",
			"gharbor credentials add --server '*.fellside.example' --user reader --secret-file -"),
		actionOf[ofFile, credentialsRemove, string]("credentials remove", "[NAME]", "remove an entry", "",
			"gharbor credentials remove --server db.fellside.example:5432 --user reader"),
		actionOf[ofFile, credentialsConfirm, string]("credentials confirm", "ALIAS",
			"let what is stored for an alias go where it leads now", "", "gharbor credentials confirm bookings"),
		actionOf[ofFile, credentialsCheck, string]("credentials check", "",
			"find mistakes, entries that can never serve, and unsafe modes",
			"Exit code 4 when the file cannot be used, or an entry cannot.", "gharbor credentials check"),
	},
}

// ofFile is what the actions of the command credentials have in common: the file that they are
// about.
type ofFile struct{ file string }

func (o *ofFile) flags(fs flagSet, _ *harbor.Run, _ any) {
	fs.textFlag("file", &o.file)
}

// about gives the file's path.
func (o *ofFile) about(c *call, own any) (string, error) {
	if b, ok := own.(interface{ profileName() string }); ok {
		c.about = b.profileName()
	} else if len(c.names) == 1 {
		c.about = c.names[0]
	}
	return c.CredentialFile(o.file, c.about)
}

func (*ofFile) failed(c *call, _ string, err error) error { return c.failed(err) }

// credentialRow is an entry as list and why report it.
type credentialRow struct {
	Line     int      `json:"line"`
	For      string   `json:"server"`
	User     string   `json:"user"`
	Database string   `json:"database,omitempty"`
	Password bool     `json:"password"`
	TLS      string   `json:"at_least"`
	Serves   *bool    `json:"serves,omitempty"`
	Differs  []string `json:"differs,omitempty"`
}

func rowOf(each credentials.Entry) credentialRow {
	return credentialRow{Line: each.Line, For: each.Target.Place(), User: each.Target.User,
		Database: each.Target.Database, Password: each.Secret.Given(), TLS: each.Target.TLS}
}

type credentialsConfirm struct{ noFlags }

func (credentialsConfirm) work(ctx context.Context, c *call, path string) error {
	n, err := c.ConfirmAlias(ctx, c.names[0], wallet.Wallet{}, path)
	return c.confirmed(n, err)
}

type credentialsList struct {
	noFlags
	inJSON
}

func (credentialsList) work(_ context.Context, c *call, path string) error {
	list, err := credentials.Read(path)
	if err != nil {
		return err
	}
	rows := []credentialRow{}
	for _, each := range list {
		rows = append(rows, rowOf(each))
	}
	if c.json {
		return report.JSON(c.Stdout, map[string]any{"file": path, "entries": rows})
	}
	var cells [][]string
	for _, r := range rows {
		who := r.User
		if !r.Password {
			who += " (no password)"
		}
		if r.Database == "" {
			r.Database = "(any)"
		}
		cells = append(cells, []string{fmt.Sprint(r.Line), outside.Cell(r.For), outside.Cell(who),
			outside.Cell(r.Database), r.TLS})
	}
	report.Table(c.Stdout, []string{"line", "server", "user", "database", "at least"}, cells, map[int]bool{0: true})
	return nil
}

type credentialsWhy struct {
	noFlags
	inJSON
}

func (credentialsWhy) ofProfile() {}

func (credentialsWhy) work(ctx context.Context, c *call, path string) error {
	name, err := c.profile()
	if err != nil {
		return err
	}
	c.about = name
	e, err := c.Admitted(ctx, name)
	if err != nil {
		return err
	}
	judged, serves, problem, err := c.JudgeCredentials(path, name, e)
	if err != nil {
		return err
	}
	to := e.Target()
	if c.json {
		if problem != nil {
			return problem
		}
		rows := []credentialRow{}
		for _, each := range judged {
			row := rowOf(each.Entry)
			row.Serves, row.Differs = &each.Serves, each.Differs
			rows = append(rows, row)
		}
		return report.JSON(c.Stdout, map[string]any{"file": path, "profile": name, "serves": serves, "entries": rows})
	}
	if problem == nil {
		fmt.Fprintf(c.Stdout, "%s, as %s at %s, is served by line %d of %s.\n", name, outside.Cell(to.User),
			outside.Cell(to.Place()), serves, path)
	}
	if e.Secret.Kind != secret.Search && e.Secret.Kind != secret.Credentials {
		c.Note("the profile does not look there: its secret is %s", outside.Cell(e.Secret.String()))
	}
	printJudged(c, judged)
	var p *finding.Problem
	if errors.As(problem, &p) {
		fmt.Fprintln(c.Stdout)
		p.Tried = nil // the lines above say it
	}
	return problem
}

// mostJudged is how many entries are shown; the others are counted.
const mostJudged = 8

// printJudged prints why an entry serves a profile or does not: the one that serves first, then
// those that differ least.
func printJudged(c *call, judged []stores.Judged) {
	near := slices.DeleteFunc(slices.Clone(judged), func(each stores.Judged) bool { return !each.Near && !each.Serves })
	slices.SortStableFunc(near, func(a, b stores.Judged) int {
		if a.Serves != b.Serves {
			return map[bool]int{true: -1, false: 1}[a.Serves]
		}
		return len(a.Differs) - len(b.Differs)
	})
	near = near[:min(len(near), mostJudged)]
	if more := len(judged) - len(near); more > 0 {
		defer func() {
			fmt.Fprintf(c.Stdout, "  and %s that differ as much or more; --json shows all\n", report.Count(int64(more), "line"))
		}()
	}
	for _, each := range near {
		mark, why := "serves", ""
		if !each.Serves {
			mark = "not"
			if len(each.Differs) > 0 {
				why = " – " + outside.Cell(strings.Join(each.Differs, "; "))
			}
		}
		address := each.Target.Place()
		if each.Target.Database != "" {
			address += ", database " + each.Target.Database
		}
		report.Wrapped(c.Stdout, fmt.Sprintf("  %6s  line %-5d ", mark, each.Line), strings.Repeat(" ", 20),
			outside.Cell(each.Target.User+" at "+address)+why)
	}
}

type credentialsAdd struct{ fresh }

func (o *credentialsAdd) work(ctx context.Context, c *call, path string) error {
	to, err := c.Bind(ctx, c.command.name, o.Binding)
	if err != nil {
		return err
	}
	s, err := c.NewSecret(ctx, to, o.from)
	if err != nil {
		return err
	}
	was, err := o.stored(ctx, c, to, func(replace bool) (bool, error) {
		return c.AddCredential(ctx, path, to, s, replace)
	})
	if err != nil {
		return err
	}
	fmt.Fprintf(c.Stdout, "%s the password of %s for %s in %s.\n", kept(was), outside.Cell(to.User),
		outside.Cell(to.Endpoint.String()), path)
	c.Note("it is there in clear, readable by you alone; a wallet stores it encrypted (gharbor help wallet)")
	return nil
}

type credentialsRemove struct{ removal }

func (o *credentialsRemove) work(ctx context.Context, c *call, path string) error {
	to, err := c.Bind(ctx, c.command.name, o.Binding)
	if err != nil {
		return err
	}
	if _, err := credentials.Read(path); err != nil {
		return err
	}
	what, yes, err := o.agreed(ctx, c, to, "credentials remove", path)
	if err != nil || !yes {
		return err
	}
	if err = c.RemoveCredential(ctx, path, to); err == nil {
		fmt.Fprintf(c.Stdout, "Removed %s from %s.\n", what, path)
	}
	return err
}

type credentialsCheck struct {
	noFlags
	inJSON
}

func (credentialsCheck) work(_ context.Context, c *call, path string) error {
	entries, list, err := stores.CheckCredentials(path)
	if err != nil {
		return err
	}
	type problem struct {
		Line int    `json:"line"`
		What string `json:"what"`
	}
	rows := []problem{}
	for _, each := range list {
		rows = append(rows, problem{each.Line, each.What})
	}
	if c.json {
		if err := report.JSON(c.Stdout, map[string]any{"file": path, "checked": entries, "problems": rows}); err != nil {
			return err
		}
	} else {
		for _, each := range rows {
			fmt.Fprintf(c.Stdout, "%s:%d: %s\n", path, each.Line, each.What)
		}
		if len(rows) == 0 {
			fmt.Fprintf(c.Stdout, "%s can be used: %d entries, safe mode and owner, in a safe folder.\n", path, entries)
			if !files.Checked {
				c.Note("this system has no modes, so whether others can read it was not checked")
			}
		}
	}
	if len(rows) > 0 {
		return world.Error{Code: finding.ExitSecret}
	}
	return nil
}
