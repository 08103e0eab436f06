package clouds

import (
	"context"
	"slices"

	"gentle-harbor/internal/cloud"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/target"
)

// NameOrID gives how a profile names a server: by its name where that is one and no other has it,
// else by its id.
func NameOrID(s cloud.Server, list []cloud.Server) string {
	same := 0
	for _, each := range list {
		if each.Name == s.Name || each.ID == s.Name {
			same++
		}
	}
	if same == 1 && target.IsCloudWord(s.Name) {
		return s.Name
	}
	return s.ID
}

// NamedServer finds the server that the pages of a cloud call by a connection name, among those
// of the user's clouds that are signed in. The profile then names the cloud's server instead of
// what the page said of its address.
func (r Clouds) NamedServer(ctx context.Context, p *profile.Parsed) error {
	if p.Connection == "" {
		return nil
	}
	for _, name := range r.CloudNames() {
		c, err := r.CloudClient(name)
		if err != nil {
			continue
		}
		if _, in, err := c.Session.Who(); err != nil || !in {
			continue
		}
		list, err := c.Servers(ctx, "")
		if ctx.Err() != nil {
			return ctx.Err()
		}
		i := slices.IndexFunc(list, func(s cloud.Server) bool { return s.ProviderName == p.Connection })
		if err != nil || i < 0 {
			continue
		}
		for _, setting := range append(profile.AddressParts(), "tls.mode", "tls.ca", "tls.server-name") {
			delete(p.Layer, setting)
		}
		chosen := target.Clouded{Account: name, Server: NameOrID(list[i], list)}
		p.Layer["cloud"] = profile.Value{Text: profile.CloudText(chosen), Origin: profile.Origin{Layer: profile.LayerImport}}
		if _, said := p.Layer["engine"]; !said {
			p.Layer["engine"] = profile.Value{Text: list[i].Engine, Origin: profile.Origin{Layer: profile.LayerImport}}
		}
		p.Notes = append(p.Notes, "the connection name "+outside.Cell(p.Connection)+" is the server "+chosen.String()+" of your cloud account; the cloud says its address at each connection")
		return nil
	}
	if profile.AddressOf(p.Layer) == "" {
		return world.Wrong("the connection name %s says to its cloud alone where the server is. Sign in to the "+
			"cloud first (gharbor cloud add NAME URL, gharbor cloud sign-in), or give the host too",
			outside.Cell(p.Connection))
	}
	p.Notes = append(p.Notes, "the connection name "+outside.Cell(p.Connection)+" was left out: none of your "+
		"clouds that are signed in has such a server")
	return nil
}
