package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/harbor/edits"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/report"
)

var addCommand = command{
	name: "add", synopsis: "NAME [CONNECTION-STRING | -]",
	about: "save how to connect to a database, under a name",
	text: `At a terminal it offers the servers that listen on this machine, asks for what is missing, tests, and saves. After a
failure you can change one value, test again, save as it is, or leave. Who leaves gets the command that goes on from there.
Flags that say it all are saved unasked, and without a terminal they must; --test tests first.

A connection string looks like postgres://USER@HOST:PORT/DATABASE (also postgresql, mysql, mariadb, and with jdbc: before
or +DRIVER in the scheme), or like "host=HOST dbname=DATABASE user=USER". Labelled parts do as well: "Host: db Port: 6021".
With --cloud and nothing after it, you choose account, server, database and replica from lists of what your clouds have.
With - it is read from standard input. A password in it is used for a test and never saved: a profile only says where its
password comes from (--secret).`,
	examples: []string{
		"gharbor add huts/local --engine postgres --database bunkhouse --user warden_app --secret env:HUT_PASSWORD",
		"gharbor add archive/ledger mysql://reader@127.0.0.1:3391/bunkhouse --test",
	},
	settings: true,
	options:  optionsOf[addOptions],
}

// newProfile is the flags of a command that makes a profile.
type newProfile struct{ harbor.Making }

func (o *newProfile) flags(fs flagSet, _ *harbor.Run) {
	fs.onFlag("project", &o.Project)
	fs.onFlag("replace", &o.Replace)
}

// printing has what comes of the new profile printed.
func (o *newProfile) printing(c *call) harbor.Making {
	n := o.Making
	n.Run = c.Run
	n.Began = func(name string) {
		fmt.Fprintf(c.Stderr, "%s\n", paint(c.Stderr, strong, "A new profile: "+name))
	}
	n.Shown = func(e profile.Effective, r *checkup.Report) { report.Test(c.Stderr, e, r) }
	n.Saved = func(p edits.Place) { fmt.Fprintf(c.Stdout, "Saved %s in %s\n", p.Name, p.File()) }
	return n
}

type addOptions struct{ newProfile }

func (o *addOptions) choose(args []string) []string {
	args, o.FromClouds = bareCloud(args)
	return args
}

func (o *addOptions) flags(fs flagSet, run *harbor.Run) {
	fs.onFlag("test", &o.Test)
	o.newProfile.flags(fs, run)
	secretFlags(fs, run)
	storeFlag(fs, run)
}

func (o *addOptions) run(ctx context.Context, c *call) error {
	switch len(c.names) {
	case 0:
		// A name after a bare --cloud is taken for the server.
		if text := c.Set["cloud"].Text; text != "" && !slices.Contains(c.CloudNames(), strings.SplitN(text, "/", 2)[0]) {
			return usage("--cloud took %s for the server, and there is no such cloud account; to choose from "+
				"lists, put --cloud after the name: gharbor add %s --cloud", clip(text),
				clip(text))
		}
		if !c.Who.Here() {
			return usage("add needs a name for the profile: gharbor add huts/local")
		}
		name, err := c.Who.Ask(ctx, "Name of the profile, such as huts/local: ")
		if err != nil {
			return err
		}
		o.Name = name
	case 1, 2:
		o.Name = c.names[0]
		if len(c.names) == 2 {
			o.Source = c.names[1]
		}
	default:
		return usage("add takes a name and at most one connection string: %s", c.command.examples[1])
	}
	return c.failed(o.printing(c).Add(ctx))
}

var importCommand = command{
	name: "import", synopsis: "NAME SOURCE",
	about: "make a profile from connection details in a file, a folder or a string",
	text: `SOURCE is a connection string, a file, a folder, or - for standard input. A file, or what is read, has a connection
string, labelled parts (Host: db.fellside.example, Port: 6021, or a table's cells), NAME=VALUE lines of which one is a
connection string or several are its parts, or the JSON that export writes. Other variables are passed over; where there are
several connections, --variable NAME says which. A folder is a service binding (servicebinding.io).

A parameter that makes a connection stricter becomes a setting. Where there is no setting for it, nothing is imported,
unless you agree at a terminal to go on without it.

A password that is found is not saved in the profile; --store wallet puts it into the wallet, and --secret says where the
profile's password comes from. What is not understood is named in the profile's note. Settings given as flags win over what
is read.

A file that names a source for a password, a path or a statement makes this machine read or run something when the profile
is used. Such settings are shown first, and taken over when you agree, or with --with-references.`,
	examples: []string{"gharbor import huts/local .env --variable DATABASE_URL --secret env:HUT_PASSWORD",
		"gharbor import huts/live ./bindings/bookings",
		"gharbor import huts/staging - --engine postgres < details.txt"},
	settings: true,
	options:  optionsOf[importOptions],
}

type importOptions struct{ newProfile }

func (o *importOptions) flags(fs flagSet, run *harbor.Run) {
	fs.textFlag("variable", &o.Variable)
	o.newProfile.flags(fs, run)
	fs.onFlag("with-references", &o.References)
	walletFlags(fs, run)
	fs.wordFlag("store", []string{"wallet", "no"}, "", &run.Keep)
}

func (o *importOptions) run(ctx context.Context, c *call) error {
	if len(c.names) != 2 {
		return usage("import needs a name and where to read: a connection string, a file, a folder, or -")
	}
	o.Name, o.Source = c.names[0], c.names[1]
	return c.failed(o.printing(c).Import(ctx))
}
