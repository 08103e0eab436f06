package container

import (
	"context"
	"net/netip"
)

// Here lists the containers of the engines on this machine, as a list has them; what cannot be
// asked has none.
func Here(ctx context.Context, engines []Engine) (all []*Container) {
	for _, e := range engines {
		if !e.Local() {
			continue
		}
		client, err := Connect(ctx, e, nil)
		if err != nil {
			continue
		}
		list, _ := client.List(ctx)
		client.Close()
		for _, each := range list {
			each.at = e
		}
		all = append(all, list...)
	}
	return all
}

// PublishedBy gives the running container that publishes an address of this machine, and the port
// inside; nil for none that is listed. A port on all addresses counts for each.
func PublishedBy(list []*Container, at netip.AddrPort) (*Container, int) {
	for _, each := range list {
		for _, p := range each.Published {
			here := p.Address == at.Addr() || p.Address.IsUnspecified() || at.Addr().IsUnspecified() ||
				p.Address.IsLoopback() && at.Addr().IsLoopback()
			if each.Running() && p.Port == int(at.Port()) && here {
				return each, p.Inside
			}
		}
	}
	return nil, 0
}

// mostUnknown is how many containers of images that nobody knows are looked at for their variables.
const mostUnknown = 16

// OfFamily gives those of the containers that are servers of a family of engines: by their
// well-known image, or by variables that such an image is set up with. A container that was made
// to run one command is none.
func OfFamily(ctx context.Context, list []*Container, family string) (servers []*Container) {
	looked := 0
	for _, each := range list {
		if each.OneOff {
			continue
		}
		info, known := EngineOf(each.Repository)
		if !known && looked < mostUnknown && ctx.Err() == nil {
			looked++
			if client, err := Connect(ctx, each.at, nil); err == nil {
				if whole, err := client.Inspect(ctx, each.ID); err == nil && whole != nil {
					info, known = EngineByVariables(whole.Variables())
				}
				client.Close()
			}
		}
		if known && info.Family == family {
			servers = append(servers, each)
		}
	}
	return servers
}
