package cli

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"strings"

	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/secret"
)

var exportCommand = command{
	name: "export", synopsis: "NAME", about: "write a profile in a form that programs read",
	text: `--as uri       a connection string
--as env       lines for a shell that set the variables GHARBOR_HOST and so on
--as dotenv    DATABASE_URL, DATABASE_HOST and so on, a line each
--as binding   a folder with a file for each entry (servicebinding.io); --to names it
--as json      all that the profile says

A password leaves only with --with-secret, and then only into a new file that --to names, made for you alone, or into a
pipe. What a form cannot carry is named.`,
	examples: []string{"gharbor export huts/local --as uri", "gharbor export huts/local --as dotenv --to .env --with-secret", "gharbor export huts/local --as binding --to bindings/bookings"},
	settings: true, connects: true,
	options: optionsOf[exportOptions],
}

type exportOptions struct {
	as, to     string
	withSecret bool
}

func (o *exportOptions) flags(fs flagSet, _ *harbor.Run) {
	fs.wordFlag("as", report.ProfileForms, "", &o.as)
	fs.textFlag("to", &o.to)
	fs.onFlag("with-secret", &o.withSecret)
}

func (o *exportOptions) run(ctx context.Context, c *call) error {
	name, err := c.profile()
	switch {
	case err != nil:
		return err
	case o.as == "":
		return usage("export needs a form, such as --as uri")
	case o.as == "binding" && o.to == "":
		return usage("a binding is a folder, such as --to ./binding")
	case o.withSecret && o.to == "" && !pipe(c.Stdout):
		return usage("a password is written only into a new file or a pipe, such as --to ./huts.env")
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
