package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"gentle-harbor/internal/secret/keep/credentials"
	"gentle-harbor/internal/target"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/secret"
)

// credentialsAction makes an action of the command credentials; each takes --file.
func credentialsAction(name, synopsis, about, text string, examples []string, flags func(*flag.FlagSet, *call), run func(context.Context, *call, string) error) *command {
	return &command{
		name: "credentials " + name, synopsis: synopsis, about: about, text: text, examples: examples,
		json: name == "list" || name == "why" || name == "check",
		flags: func(fs *flag.FlagSet, c *call) {
			fs.StringVar(&c.to, "file", "", "another credential file than the one in your own folder")
			if flags != nil {
				flags(fs, c)
			}
		},
		run: func(ctx context.Context, c *call) error {
			home, err := c.Home()
			if err != nil {
				return err
			}
			if most := map[string]int{"why": 1}[name]; len(c.names) > most {
				return usage("credentials %s takes no %q", name, clip(c.names[most]))
			}
			path, of := filepath.Join(home, "credentials"), c.way.profile
			if name == "why" && len(c.names) == 1 {
				of = c.names[0]
			}
			switch ref := c.refOf(of); {
			case c.to != "":
				path = c.Path(c.to)
			case ref.Kind == secret.Credentials && ref.Of != "":
				path = ref.Of // the file that the profile names
			}
			return c.failed(run(ctx, c, path))
		},
	}
}

var credentialsCommand = command{
	name: "credentials", synopsis: "ACTION", about: "keep passwords in a plain text file that you alone can read",
	text: `The file "credentials" in your own folder holds passwords in clear, a block for each place:

  # gentle-harbor credentials 1
  at db.fellside.example:5432
    warden_app on bunkhouse: plain words may have spaces
    warden_app: "quotes for # or \u00e9 or a leading space "
  at *.fellside.example tls encrypt
    reader: another
    guest without password

The most specific entry serves: by host, then by port, then by database. A password is sent only to the place that its
block names, off this machine only over a verified connection unless "tls" says otherwise. In quotes, \" \\ \n \r \t
\xHH and \uHHHH stand for what they say. A wallet (gharbor help wallet) keeps the same encrypted.`,
	examples: []string{"gharbor credentials add --profile huts/staging", "gharbor credentials why huts/staging", "gharbor credentials check"},
}

func init() {
	credentialsCommand.subs = []*command{
		credentialsAction("list", "", "show the entries, without the passwords", "", []string{"gharbor credentials list"}, nil, credentialsList),
		credentialsAction("why", "NAME", "tell which entry serves a profile, and why the others do not",
			"When none serves, what comes nearest is named with all that is different.", []string{"gharbor credentials why huts/staging"}, nil, credentialsWhy),
		credentialsAction("add", "", "put an entry in, or change it", "It asks for the password twice. Every other line of the file stays as it is.",
			[]string{"gharbor credentials add --profile huts/staging", "gharbor credentials add --for '*.fellside.example' --user reader --secret-file -"},
			func(fs *flag.FlagSet, c *call) { c.declareWay(fs); c.declareNew(fs) }, credentialsAdd),
		credentialsAction("remove", "", "take an entry out", "", []string{"gharbor credentials remove --for db.fellside.example:5432 --user reader"},
			func(fs *flag.FlagSet, c *call) { c.declareWay(fs); yesFlag(fs, c) }, credentialsRemove),
		credentialsAction("check", "", "find mistakes, entries that can never serve, and unsafe modes",
			"Exit code 4 when the file cannot be used, or an entry cannot.", []string{"gharbor credentials check"}, nil, credentialsCheck),
	}
}

// credentialRow is an entry as list and why report it.
type credentialRow struct {
	Line     int      `json:"line"`
	For      string   `json:"for"`
	User     string   `json:"user"`
	Database string   `json:"database,omitempty"`
	Password bool     `json:"password"`
	TLS      string   `json:"weakest_tls"`
	Serves   *bool    `json:"serves,omitempty"`
	Differs  []string `json:"differs,omitempty"`
}

func rowOf(each credentials.Entry) credentialRow {
	return credentialRow{Line: each.Line, For: each.Way.Place(), User: each.Way.User, Database: each.Way.Database, Password: each.Secret.Given(), TLS: each.Way.TLS}
}

func credentialsList(_ context.Context, c *call, path string) error {
	list, err := credentials.Read(path)
	if err != nil {
		return err
	}
	rows := []credentialRow{}
	for _, each := range list {
		rows = append(rows, rowOf(each))
	}
	if c.json {
		return writeJSON(c.Stdout, map[string]any{"file": path, "entries": rows})
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
		cells = append(cells, []string{fmt.Sprint(r.Line), outside.Cell(r.For), outside.Cell(who), outside.Cell(r.Database), r.TLS})
	}
	rowsTable(c.Stdout, []string{"line", "for", "user", "database", "at least"}, cells, map[int]bool{0: true})
	return nil
}

func credentialsWhy(ctx context.Context, c *call, path string) error {
	names, err := c.profiles()
	if err != nil {
		return err
	}
	e, err := c.ofProfile(ctx, names[0])
	if err != nil {
		return err
	}
	c.about = names[0]
	way := e.Target()
	if way.User == "" {
		return wrong("%s says no user, so that no entry can serve it; say one with gharbor change %s --user NAME", names[0], names[0])
	}
	list, err := credentials.Read(path)
	if err != nil {
		return err
	}
	best, problem := credentials.Match(path, way)
	var rows []credentialRow
	for _, each := range list {
		row := rowOf(each)
		row.Differs = each.Way.Differs(way)
		serves := problem == nil && each.Line == best.Line
		row.Serves = &serves
		if len(row.Differs) == 0 && !serves && problem == nil {
			row.Differs = []string{fmt.Sprintf("line %d is more specific", best.Line)}
		}
		if each.Way.User == way.User || each.Way.Place() == way.Place() || len(row.Differs) < 2 {
			rows = append(rows, row)
		}
	}
	if c.json && problem == nil {
		return writeJSON(c.Stdout, map[string]any{"file": path, "profile": names[0], "serves": best.Line, "entries": rows})
	}
	if problem == nil {
		fmt.Fprintf(c.Stdout, "%s, as %s at %s, is served by line %d of %s.\n", names[0], outside.Cell(way.User), outside.Cell(way.Place()), best.Line, path)
	}
	if e.Secret.Kind != secret.Search && e.Secret.Kind != secret.Credentials && !c.json {
		fmt.Fprintf(c.Stderr, "note: the profile does not look there: its secret is %s\n", outside.Cell(e.Secret.String()))
	}
	if !c.json {
		for _, row := range rows {
			mark, why := "serves", ""
			if !*row.Serves {
				mark, why = "not", strings.Join(row.Differs, "; ")
			}
			place := row.For
			if row.Database != "" {
				place += ", database " + row.Database
			}
			wrapped(c.Stdout, fmt.Sprintf("  %6s  line %-5d ", mark, row.Line), strings.Repeat(" ", 20), outside.Cell(row.User+" at "+place)+dash(outside.Cell(why)))
		}
		if problem != nil {
			fmt.Fprintln(c.Stdout)
		}
	}
	var p *finding.Problem
	if errors.As(problem, &p) {
		p.Tried = nil // the lines above say it
	}
	return problem
}

func dash(text string) string {
	if text == "" {
		return ""
	}
	return " – " + text
}

// changing reads a credential file, lets change do its work on it, and writes it, while no other gharbor does.
func (c *call) changing(ctx context.Context, path string, change func(data []byte) ([]byte, error)) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	if p := secret.GuardFolder(filepath.Dir(path)); p != nil {
		return p
	}
	unlock, err := files.Lock(ctx, filepath.Join(filepath.Dir(path), ".lock"))
	if err != nil {
		return err
	}
	defer unlock()
	// What a writer that was killed has left holds passwords too.
	left, _ := filepath.Glob(filepath.Join(filepath.Dir(path), ".new-*"))
	for _, each := range left {
		_ = os.Remove(each)
	}
	var data []byte
	if _, err := os.Lstat(path); !errors.Is(err, fs.ErrNotExist) {
		if data, err = secret.ReadGuarded(path, credentials.MaxSize); err != nil {
			return err
		}
		if len(data) == 0 {
			data = []byte(credentials.Header + "\n")
		}
	}
	changed, err := change(data)
	if err != nil {
		return err
	}
	if err := files.Write(path, changed, 0o600); err != nil {
		return wrong("%s could not be written, and stands as it was: %v", path, err)
	}
	return nil
}

func credentialsAdd(ctx context.Context, c *call, path string) error {
	way, err := c.bound(ctx)
	if err != nil {
		return err
	}
	s, err := c.newSecret(ctx, way)
	if err != nil {
		return err
	}
	was, err := c.addCredential(ctx, path, way, s)
	if err != nil {
		return err
	}
	word := "Kept"
	if was {
		word = "Changed"
	}
	fmt.Fprintf(c.Stdout, "%s the password of %s for %s in %s.\n", word, outside.Cell(way.User), outside.Cell(way.Endpoint.String()), path)
	fmt.Fprintln(c.Stderr, "note: it stands there in clear, readable by you alone; a wallet keeps it encrypted (gharbor help wallet)")
	return nil
}

func (c *call) addCredential(ctx context.Context, path string, way target.Target, s secret.Secret) (was bool, err error) {
	err = c.changing(ctx, path, func(data []byte) (changed []byte, err error) {
		changed, was, err = credentials.Add(data, path, way, s)
		return changed, err
	})
	return was, err
}

func credentialsRemove(ctx context.Context, c *call, path string) error {
	way, err := c.bound(ctx)
	if err != nil {
		return err
	}
	what := fmt.Sprintf("the password of %s for %s", outside.Cell(way.User), outside.Cell(way.Endpoint.String()))
	if _, err := credentials.Read(path); err != nil {
		return err
	}
	yes, err := c.agreed(ctx, "Remove "+what+" from "+path+"?", "credentials remove would take out "+what)
	if err != nil || !yes {
		return err
	}
	err = c.changing(ctx, path, func(data []byte) ([]byte, error) {
		changed, removed, err := credentials.Remove(data, path, way)
		if err == nil && removed == 0 {
			err = wrong("%s keeps nothing for %s at %s; gharbor credentials list shows what it keeps", path, way.User, way.Endpoint)
		}
		return changed, err
	})
	if err == nil {
		fmt.Fprintf(c.Stdout, "Removed %s from %s.\n", what, path)
	}
	return err
}

func credentialsCheck(_ context.Context, c *call, path string) error {
	data, err := secret.ReadGuarded(path, credentials.MaxSize)
	var problem *finding.Problem
	if errors.As(err, &problem) && problem.Code == "secret.file-missing" {
		problem.Code, problem.Facts["detail"] = "secret.credentials-missing", strings.Replace(problem.Facts["detail"], "no file", "no credential file", 1)
	}
	if err != nil {
		return err
	}
	entries, list, err := credentials.Check(data, path)
	if err != nil {
		return err
	}
	type trouble struct {
		Line int    `json:"line"`
		What string `json:"what"`
	}
	rows := []trouble{}
	for _, each := range list {
		rows = append(rows, trouble{each.Line, each.What})
	}
	if c.json {
		if err := writeJSON(c.Stdout, map[string]any{"file": path, "entries": entries, "troubles": rows}); err != nil {
			return err
		}
	} else {
		for _, each := range rows {
			fmt.Fprintf(c.Stdout, "%s:%d: %s\n", path, each.Line, each.What)
		}
		if len(rows) == 0 {
			fmt.Fprintf(c.Stdout, "%s can be used: %d entries, safe mode and owner, in a safe folder.\n", path, entries)
			if !secret.Checked {
				fmt.Fprintln(c.Stderr, "note: this system has no modes, so whether others can read it was not checked")
			}
		}
	}
	if len(rows) > 0 {
		return exit{Code: 4}
	}
	return nil
}
