package cli

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"strings"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/secret"
)

var exportCommand = command{
	name: "export", synopsis: "NAME|GROUP/", about: "write a profile in a form that programs read",
	text: `--as uri          a connection string
--as bare         //HOST:PORT/SERVICE, for an engine with a listener
--as description  where the service is, in brackets, as that engine's files of names have it
--as env          lines for a shell that set the variables GHARBOR_HOST and so on
--as dotenv       DATABASE_URL, DATABASE_HOST and so on, a line each
--as binding      a folder with a file for each entry (servicebinding.io); --to names it
--as json         all that the profile says

A password leaves only with --with-secret, and then only into a new file that --to names, made for you alone, or into a
pipe. What a form cannot carry is named. Several, by a GROUP/ or with --all, are one list with --as json, and a folder each with
--as binding.`,
	examples: []string{"gharbor export huts/local --as uri",
		"gharbor export huts/local --as dotenv --to .env --with-secret",
		"gharbor export huts/local --as binding --to bindings/bookings",
		"gharbor export archive/ --as json --to profiles.json"},
	settings: true, connects: true,
	options: optionsOf[exportOptions],
}

type exportOptions struct {
	as, to          string
	withSecret, all bool
}

func (o *exportOptions) flags(fs flagSet, _ *harbor.Run) {
	fs.wordFlag("as", report.ProfileForms, "", &o.as)
	fs.textFlag("to", &o.to)
	fs.onFlag("with-secret", &o.withSecret)
	fs.onFlag("all", &o.all)
}

func (o *exportOptions) run(ctx context.Context, c *call) error {
	name, err := "", error(nil)
	several := o.all || len(c.names) == 1 && strings.HasSuffix(c.names[0], "/")
	if !several {
		name, err = c.profile()
	}
	switch {
	case err != nil:
		return err
	case o.all && len(c.names) > 0:
		return usage("--all needs no name: gharbor export --all --as json")
	case several && o.as != "json" && o.as != "binding":
		return usage("several profiles are exported as json or binding: gharbor export --all --as json")
	case o.as == "":
		return usage("export needs a form, such as --as uri")
	case o.as == "binding" && o.to == "":
		return usage("a binding is a folder, such as --to ./binding")
	case o.withSecret && o.to == "" && !pipe(c.Stdout):
		return usage("a password is written only into a new file or a pipe, such as --to ./huts.env")
	}
	if several {
		return o.manyOf(ctx, c)
	}
	c.about = name
	e, password, err := c.Export(ctx, name, o.withSecret)
	if err != nil {
		return err
	}
	if o.as == "binding" {
		return o.binding(c, e, password)
	}
	text, left, err := report.Profile(o.as, e, password)
	if errors.Is(err, report.ErrNoForm) {
		return world.Wrong("%s cannot be written so: %v; for any engine: gharbor export %s --as uri", name, err, name)
	}
	if err != nil {
		return err
	}
	c.warnOfLeft(left)
	if o.to == "" {
		_, err := fmt.Fprint(data(c.Stdout), text)
		return err
	}
	return c.NewFile(o.to, text)
}

// manyOf writes the profiles of a group, or all of the user's own.
func (o *exportOptions) manyOf(ctx context.Context, c *call) error {
	names, err := c.Choose(c.names, harbor.Choice{All: o.all})
	if err != nil {
		return err
	}
	list := []json.RawMessage{}
	left := 0
	for _, name := range names {
		c.about = name
		e, password, err := c.Export(ctx, name, o.withSecret)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		// a container that does not run, or a cloud that nobody is signed in to, keeps no other
		// profile from being written
		if err != nil {
			left++
			why := err.Error()
			if p, _ := finding.AsProblem(err); p != nil {
				why = c.finding(p).Cause
			}
			c.Note("%s was left out: %s", name, why)
			continue
		}
		if o.as == "binding" {
			one := *o
			one.to = filepath.Join(o.to, filepath.FromSlash(strings.NewReplacer(":", "/").Replace(name)))
			if err := one.binding(c, e, password); err != nil {
				return err
			}
			continue
		}
		data, err := e.JSON(password)
		if err != nil {
			return err
		}
		list = append(list, data)
	}
	var some error
	if left > 0 {
		some = world.Error{Code: finding.ExitMixed, Message: fmt.Sprintf("%d of %d profiles were left out", left, len(names))}
	}
	if o.as == "binding" {
		return some
	}
	var text bytes.Buffer
	if err := report.JSON(&text, map[string]any{"profiles": list}); err != nil {
		return err
	}
	if o.to == "" {
		_, err := data(c.Stdout).Write(text.Bytes())
		return cmp.Or(err, some)
	}
	return cmp.Or(c.NewFile(o.to, text.String()), some)
}

func (o *exportOptions) binding(c *call, e profile.Effective, password secret.Secret) error {
	entries, left := e.Binding(password)
	c.warnOfLeft(left)
	folder, err := c.NewFolder(o.to, entries)
	if err == nil {
		fmt.Fprintf(c.Stdout, "Made %s\n", folder)
	}
	return err
}

func (c *call) warnOfLeft(left []string) {
	if len(left) > 0 {
		fmt.Fprintf(c.Stderr, "note: this form cannot carry %s\n", strings.Join(left, ", "))
	}
}

// pipe reports whether a stream is a pipe, which nobody sees.
func pipe(stream io.Writer) bool {
	file, ok := report.File(stream)
	if !ok {
		return false
	}
	info, err := file.Stat()
	return err == nil && info.Mode()&fs.ModeNamedPipe != 0
}
