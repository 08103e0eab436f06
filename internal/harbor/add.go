package harbor

import (
	"context"
	"fmt"
	"os"
	"strings"

	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/profile"
)

// Add makes a profile. Where there is a person, and settings leave something to ask for, it asks,
// tests, and offers to change, test again, save or leave after a failure; nothing that was typed
// is lost. Settings that say it all are saved as they are.
func (n Making) Add(ctx context.Context) error {
	d, err := n.draft()
	if err != nil {
		return err
	}
	if n.FromClouds && !n.Run.Who.Here() {
		return world.Usage("--cloud without a server lets you choose one at a terminal, and there is none here. " +
			"To see the servers: gharbor cloud servers")
	}
	if n.Source != "" {
		if _, err := os.Stat(n.Run.Path(n.Source)); err == nil && !profile.IsConnectionString(n.Source) {
			return world.Usage("%s is a file. To read it: gharbor import %s %s", world.Clip(n.Source), n.Name,
				world.Clip(n.Source))
		}
		if n.Source != "-" && !profile.IsConnectionString(n.Source) && !strings.ContainsAny(n.Source, " \t\n:=") {
			return world.Usage("what follows the name is not a connection string; it begins with a scheme, such "+
				"as %s://user@host/database",
				profile.Schemes()[0])
		}
		if d.parsed, err = n.Run.taken(ctx, n.Source, ""); err != nil {
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
			return world.Doing("read the base "+base, err)
		}
	}
	if n.Run.Who.Here() && (n.Test || n.Source != "" || n.FromClouds || !d.whole()) {
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
			return world.Error{Code: report.Exit,
				Message: d.at.Name + " was not saved, since its test failed; without --test it is saved as it is"}
		}
		return d.saveAndKeep(ctx)
	}
	if n.Run.Keep == "wallet" {
		return d.saveAndKeep(ctx)
	}
	return d.save(ctx)
}

// Import makes a profile from details that are elsewhere.
func (n Making) Import(ctx context.Context) error {
	d, err := n.draft()
	if err != nil {
		return err
	}
	if d.parsed, err = n.Run.takeIn(ctx, n.Source, n.Variable); err != nil {
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
	if n.Run.Keep == "wallet" {
		return d.saveAndKeep(ctx)
	}
	return d.save(ctx)
}

// severalHosts makes an alias of the profile's name of a connection string with several hosts,
// unless a flag says which one is meant.
func (d *draft) severalHosts(ctx context.Context) error {
	if len(d.parsed.Hosts) < 2 && d.parsed.SRV == "" || profile.AddressOf(d.Set) != "" {
		return nil
	}
	name := d.at.Name[strings.LastIndexByte(d.at.Name, '/')+1:]
	in, err := d.edits().AliasFile(d.at.Store.Project)
	if err != nil {
		return err
	}
	layer, what := profile.Layer{"addresses": profile.ListValue(d.parsed.Hosts,
		profile.Origin{})}, fmt.Sprintf("its %d hosts are", len(d.parsed.Hosts))
	if d.parsed.SRV != "" {
		layer, what = profile.Layer{"srv": {Text: d.parsed.SRV}},
			"the servers that the SRV records of "+d.parsed.SRV+" name are"
	}
	if engine := d.parsed.Layer["engine"]; engine.Text != "" {
		layer["engine"] = engine
	}
	if d.parsed.Wants != "" {
		layer["wants"] = profile.Value{Text: d.parsed.Wants}
	}
	if err := d.edits().PutAlias(ctx, in, name, layer, d.Replace); err != nil {
		return err
	}
	d.Note("%s the alias %s, in %s", what, name, in.Path)
	d.parsed.Layer["alias"], d.parsed.Hosts, d.parsed.SRV = profile.Value{Text: name,
		Origin: profile.Origin{Layer: profile.LayerImport}}, nil, ""
	return nil
}
