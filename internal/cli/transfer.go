package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/files"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/shell"
)

var importCommand = command{
	name: "import", synopsis: "NAME SOURCE", about: "make a profile from details that stand elsewhere",
	text: `SOURCE is a connection string, a file, a folder, or - for standard input. A file, or what is read, holds a connection
string, lines of labelled parts (Host: db.fellside.example, Port: 6021), NAME=VALUE lines of which one is a connection
string (--variable says which) or several are its parts, or the JSON that export writes. A folder is a service binding
(servicebinding.io).

A password that is found is not saved; --secret says where it is to be had. What is not understood is named in the
profile's note. Settings given as flags win over what is read.`,
	examples: []string{"gharbor import huts/local .env --variable DATABASE_URL --secret env:HUT_PASSWORD", "gharbor import huts/live /bindings/bookings", "gharbor import huts/staging - < details.txt"},
	settings: true,
	flags: func(fs *flag.FlagSet, c *call) {
		fs.StringVar(&c.named, "variable", "", "the variable that holds the connection string")
		fs.BoolVar(&c.project, "project", false, "write it into the project's folder .gentle-harbor, to be shared")
		fs.BoolVar(&c.replace, "replace", false, "overwrite a profile of that name")
	},
	run: runImport,
}

func runImport(ctx context.Context, c *call) error {
	if len(c.names) != 2 {
		return usage("import takes a name and where to read: a connection string, a file, a folder, or -")
	}
	library, err := c.Library()
	if err != nil {
		return err
	}
	d := draft{call: c, library: library, layer: profile.Layer{}}
	if d.store, d.name, err = c.place(library, c.names[0]); err != nil {
		return err
	}
	if err := d.free(); err != nil {
		return err
	}
	if d.parsed, err = c.takeIn(ctx, c.names[1]); err != nil {
		return err
	}
	if err := c.ChooseHost(&d.parsed); err != nil {
		return err
	}
	d.parsed.NoteLeft()
	maps.Copy(d.layer, d.parsed.Layer)
	if whereOf(c.Set) != "" {
		for _, name := range append([]string{"port"}, profile.Where...) {
			delete(d.layer, name)
		}
	}
	maps.Copy(d.layer, c.Set)
	for _, note := range d.parsed.Notes {
		fmt.Fprintln(c.Stderr, "note: "+note)
	}
	if err := d.complete(); err != nil {
		return err
	}
	return d.save(ctx)
}

// takeIn reads connection details from where a word says.
func (c *call) takeIn(ctx context.Context, word string) (profile.Parsed, error) {
	if profile.IsConnectionString(word) {
		return c.ConnectionString(word)
	}
	var text string
	if word == "-" {
		all, err := c.ReadAll(profile.MaxFile)
		if err != nil {
			return profile.Parsed{}, wrong("standard input could not be read: %v", err)
		}
		text = all
	} else {
		path := word
		if c.Dir != "" && !filepath.IsAbs(path) {
			path = filepath.Join(c.Dir, path)
		}
		info, err := os.Stat(path)
		if errors.Is(err, fs.ErrNotExist) {
			return profile.Parsed{}, wrong("%s is neither a connection string (scheme://…) nor a file or folder", clip(word))
		}
		if err != nil {
			return profile.Parsed{}, wrong("%s cannot be read: %v", clip(word), err)
		}
		if info.IsDir() {
			parsed, err := profile.TakeBinding(path)
			if err != nil {
				return parsed, wrong("%s: %v", clip(word), err)
			}
			return parsed, nil
		}
		data, err := files.ReadNamed(ctx, path, profile.MaxFile)
		if err != nil {
			return profile.Parsed{}, wrong("%s cannot be read: %v", clip(word), err)
		}
		text = string(data)
	}
	parsed, err := profile.TakeIn(text, c.named)
	if err != nil {
		return parsed, wrong("%s: %v", clip(word), err)
	}
	return parsed, nil
}

var exportCommand = command{
	name: "export", synopsis: "NAME", about: "write a profile in a form that programs read",
	text: `--as uri       a connection string
--as env       lines for a shell that set the variables GHARBOR_HOST and so on
--as dotenv    DATABASE_URL, DATABASE_HOST and so on, a line each
--as binding   a folder with a file for each entry (servicebinding.io); --to names it
--as json      all that the profile says

A password leaves only with --with-secret, and then only to a file that --to names and that is made anew for you
alone, or into a pipe. What a form cannot carry is named.`,
	examples: []string{"gharbor export huts/local --as uri", "gharbor export huts/local --as dotenv --to .env --with-secret", "gharbor export huts/local --as binding --to bindings/bookings"},
	settings: true, connects: true,
	flags: func(fs *flag.FlagSet, c *call) {
		fs.Func("as", "uri, env, dotenv, binding or json", func(text string) error {
			if !slices.Contains([]string{"uri", "env", "dotenv", "binding", "json"}, text) {
				return errors.New(harbor.FlagMark + "--as takes uri, env, dotenv, binding or json")
			}
			c.as = text
			return nil
		})
		fs.StringVar(&c.to, "to", "", "the file, or for a binding the folder, to make")
		fs.BoolVar(&c.secret, "with-secret", false, "write the password too")
	},
	run: runExport,
}

func runExport(ctx context.Context, c *call) error {
	names, err := c.profiles()
	if err != nil {
		return err
	}
	switch {
	case len(names) != 1:
		return usage("export takes one name")
	case c.as == "":
		return usage("export wants to know the form: --as uri, env, dotenv, binding or json")
	case c.as == "binding" && c.to == "":
		return usage("a binding is a folder; say which with --to FOLDER")
	case c.secret && c.to == "" && !pipe(c.Stdout):
		return usage("a password leaves only to a file that is made for it (--to FILE) or into a pipe")
	}
	c.Harmless = !c.secret
	e, err := c.Load(ctx, names[0], false)
	if err != nil {
		return err
	}
	var password secret.Secret
	if c.secret {
		if !e.Admitted.OK() {
			return wrong("%s comes from a project, and %s See it with gharbor agree %s", e.Name, e.NotAgreed, e.Name)
		}
		var found checkup.Found
		found, err = c.Checker(secret.Secret{}).Find(ctx, e.Admitted)
		password = found.Secret
		var problem *finding.Problem
		if errors.As(err, &problem) {
			c.about = names[0]
			return c.problem(problem)
		}
		if err != nil {
			return err
		}
	}
	return c.export(e.Effective, password)
}

func (c *call) export(e profile.Effective, password secret.Secret) error {
	var text string
	var left []string
	switch c.as {
	case "uri":
		text, left = e.URI(password)
		text += "\n"
	case "env":
		var pairs []profile.Pair
		pairs, left = e.Variables(password)
		for _, p := range pairs {
			text += "export " + p.Name + "=" + shell.Word(p.Value) + "\n"
		}
	case "dotenv":
		var pairs []profile.Pair
		pairs, left = e.DatabaseVariables(password)
		var unwritten []string
		text, unwritten = profile.Dotenv(pairs)
		left = append(left, unwritten...)
	case "binding":
		entries, left := e.Binding(password)
		c.tellLeft(left)
		return c.makeFolder(entries)
	case "json":
		data, err := e.JSON(password)
		if err != nil {
			return err
		}
		text = string(escaped(data)) + "\n"
	}
	c.tellLeft(left)
	if c.to == "" {
		_, err := fmt.Fprint(c.data(), text)
		return err
	}
	return c.makeFile(c.to, text)
}

func (c *call) tellLeft(left []string) {
	if len(left) > 0 {
		fmt.Fprintf(c.Stderr, "note: this form cannot carry %s\n", strings.Join(left, ", "))
	}
}

// makeFile makes a file that was not there, for its owner alone.
func (c *call) makeFile(path, text string) error {
	if c.Dir != "" && !filepath.IsAbs(path) {
		path = filepath.Join(c.Dir, path)
	}
	file, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return wrong("%s is there already, and is not overwritten; name another file", path)
	}
	if err != nil {
		return wrong("%s could not be made: %v", path, err)
	}
	_, err = file.WriteString(text)
	if e := file.Close(); err == nil {
		err = e
	}
	if err != nil {
		_ = os.Remove(path)
		return wrong("%s could not be written: %v", path, err)
	}
	return nil
}

func (c *call) makeFolder(entries []profile.Pair) error {
	folder := c.to
	if c.Dir != "" && !filepath.IsAbs(folder) {
		folder = filepath.Join(c.Dir, folder)
	}
	if err := os.MkdirAll(filepath.Dir(folder), 0o755); err != nil {
		return wrong("%s could not be made: %v", folder, err)
	}
	if err := os.Mkdir(folder, 0o700); errors.Is(err, fs.ErrExist) {
		return wrong("%s is there already, and is not overwritten; name another folder", folder)
	} else if err != nil {
		return wrong("%s could not be made: %v", folder, err)
	}
	for _, entry := range entries {
		if err := c.makeFile(filepath.Join(folder, entry.Name), entry.Value); err != nil {
			return err
		}
	}
	fmt.Fprintf(c.Stdout, "Made %s\n", folder)
	return nil
}

// pipe tells whether a stream is a pipe, which nobody sees.
func pipe(stream io.Writer) bool {
	file, ok := bare(stream).(*os.File)
	if !ok {
		return false
	}
	info, err := file.Stat()
	return err == nil && info.Mode()&fs.ModeNamedPipe != 0
}
