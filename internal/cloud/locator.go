package cloud

import (
	"cmp"
	"context"
	"crypto/x509"
	"fmt"
	"iter"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/route"
	"gentle-harbor/internal/target"
)

func joined(list []string) string { return strings.Join(list[:min(len(list), 12)], ", ") }

func cloudWord(text string) bool { return target.IsCloudWord(text) }

// near adds the names that come near one to facts.
func (c *Client) near(facts finding.Facts, name string, names []string) finding.Facts {
	if near := cmp.Or(profile.Nearest(name, names), prefixed(name, names)); near != "" && cloudWord(near) {
		facts[finding.FactNearServer] = c.Account.Name + "/" + near
	}
	if len(names) > 0 {
		facts[finding.FactNames] = joined(names)
	}
	return facts
}

// prefixed gives the only name that begins or ends with a word.
func prefixed(word string, names []string) string {
	var found []string
	for _, name := range names {
		if strings.HasPrefix(name, word) || strings.HasSuffix(name, word) || strings.HasPrefix(word, name) {
			found = append(found, name)
		}
	}
	if len(found) == 1 || len(names) == 1 && len(found) == 0 {
		return append(found, names...)[0]
	}
	return ""
}

// Found is a server that a cloud has found, at one of its addresses.
type Found struct {
	Server
	Client *Client
	Host   string
	Port   int
	// Authorities verify the server; nil for the system's.
	Authorities *x509.CertPool
	// CertificateName is the name that the server's certificate must hold.
	CertificateName string
	when            time.Time
}

// Located gives where the server is, for its profile.
func (f *Found) Located() profile.Located {
	return profile.Located{ID: f.ID, Host: f.Host, Port: f.Port}
}

// Saw is a line for people.
func (f *Found) Saw(want target.Clouded) string {
	name := f.Name
	if want.Replica != "" {
		name = "the replica " + want.Replica + " of " + name
	}
	saw := fmt.Sprintf("%s (%s) is %s", name, f.ID, f.State)
	if f.Region != "" {
		saw += " in " + f.Region
	}
	saw += "; its " + cmp.Or(want.Address, target.PublicAddress) + " address is " +
		target.Endpoint{Host: f.Host, Port: f.Port}.Place()
	if f.Authorities != nil {
		return saw + ", verified by the cloud's authority for the name " + f.CertificateName
	}
	return saw + ", verified by the system's authorities for the name " + f.CertificateName
}

// fresh is how long what a cloud said serves for further connections.
const fresh = 30 * time.Second

// Locator finds where a cloud's server is. It implements [route.Locator].
type Locator struct {
	Want target.Clouded
	Info engine.Info
	// Client gives the account's client; its error is a *finding.Problem, or that of asking a person.
	Client func(ctx context.Context) (*Client, error)
	// Resolver looks the server's name up, where the cloud gives a name.
	Resolver route.Resolver
	Origin   func(string, []netip.Addr) string

	// Memory is shared by the locators of one server; nil for a memory of its own.
	Memory *Memory
}

// Memory is what a cloud said last of a server. Its zero value is empty.
type Memory struct {
	// Now is the clock; nil for the system's.
	Now func() time.Time

	mu     sync.Mutex // held for moments, never over a request
	last   *Found
	asking flight[*Found]
}

func (l *Locator) memory() *Memory {
	if l.Memory == nil {
		l.Memory = &Memory{}
	}
	return l.Memory
}

func (m *Memory) now() time.Time {
	if m.Now != nil {
		return m.Now()
	}
	return time.Now()
}

// Last gives what was found last, nil for nothing.
func (l *Locator) Last() *Found {
	m := l.memory()
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.last
}

// Find asks the cloud for the server, unless it has just said. While the cloud cannot be asked,
// what it said before goes on to serve. The error is a *finding.Problem, or that of asking a
// person.
func (l *Locator) Find(ctx context.Context) (*Found, error) {
	m, last := l.memory(), l.Last()
	if last != nil && m.now().Sub(last.when) < fresh {
		return last, nil
	}
	found, err := m.asking.do(ctx, l.find)
	if err != nil && ctx.Err() != nil {
		if c, bad := l.Client(ctx); bad == nil {
			err = c.ended(ctx, err)
		}
	}
	if p, _ := finding.AsProblem(err); p != nil && last != nil &&
		slices.Contains([]finding.Code{finding.CloudUnreachable, finding.CloudSilent, finding.CloudDown,
			finding.CloudRateLimited}, p.Code) {
		return last, nil
	}
	if err == nil {
		m.mu.Lock()
		defer m.mu.Unlock()
		m.last = found
	}
	return found, err
}

func (l *Locator) find(ctx context.Context) (*Found, error) {
	c, err := l.Client(ctx)
	if err != nil {
		return nil, err
	}
	ctx, cancel, err := c.walk(ctx, c.limit()) // a leg's time
	if err != nil {
		return nil, err
	}
	defer cancel()
	s, err := c.Server(ctx, l.Want.Server)
	if err != nil {
		return nil, err
	}
	found := &Found{Server: s, Client: c, when: l.memory().now()}
	fail := func(code finding.Code, more ...string) (*Found, error) {
		facts := finding.Facts{finding.FactCloudName: s.Name,
			finding.FactCloudTitle: "The " + strings.TrimPrefix(l.Want.Title(), "the "),
			finding.FactState:      string(found.State)}
		for i := 0; i+1 < len(more); i += 2 {
			facts[finding.Fact(more[i])] = more[i+1]
		}
		return nil, c.fail(ctx, &finding.Problem{Code: code, Facts: facts})
	}
	addresses, name := s.Addresses, s.CertificateName
	if l.Want.Replica != "" {
		i := slices.IndexFunc(s.Replicas, func(each Replica) bool { return each.Name == l.Want.Replica })
		if i < 0 {
			var names []string
			for _, each := range s.Replicas {
				names = append(names, each.Name)
			}
			other := l.Want
			if other.Replica = cmp.Or(profile.Nearest(l.Want.Replica, names),
				prefixed(l.Want.Replica, names)); other.Replica == "" && len(names) > 0 {
				other.Replica = names[0]
			}
			return fail(finding.CloudReplicaUnknown, string(finding.FactReplica), l.Want.Replica,
				string(finding.FactNames), joined(names), string(finding.FactNearServer), profile.CloudText(other))
		}
		addresses, name, found.State = s.Replicas[i].Addresses,
			cmp.Or(s.Replicas[i].CertificateName, s.CertificateName), s.Replicas[i].State
		found.Region = cmp.Or(s.Replicas[i].Region, s.Region)
	}
	if f := family(s.Engine); f != "" && f != l.Info.Family {
		return fail(finding.CloudOtherEngine, string(finding.FactFound), s.Engine, string(finding.FactFoundEngine), s.Engine)
	}
	switch found.State {
	case Running:
	case Starting:
		return fail(finding.CloudStarting)
	default:
		return fail(finding.CloudStopped)
	}
	kind := cmp.Or(l.Want.Address, target.PublicAddress)
	i := slices.IndexFunc(addresses, func(a Address) bool { return a.Kind == kind })
	if i < 0 {
		other := l.Want
		if kind == target.PublicAddress {
			other.Address = target.PrivateAddress
			more := []string{string(finding.FactPrivateServer), profile.CloudText(other)}
			if len(addresses) > 0 {
				more = append(more, string(finding.FactAddress), addresses[0].Host)
			}
			return fail(finding.CloudPrivateOnly, more...)
		}
		other.Address = ""
		return fail(finding.CloudNoPrivate, string(finding.FactPublicServer), profile.CloudText(other))
	}
	found.Host, found.Port = strings.ToLower(addresses[i].Host), addresses[i].Port
	found.CertificateName = cmp.Or(name, found.Host)
	if addr, err := netip.ParseAddr(found.Host); err == nil || target.IsLoopback(found.Host) {
		if why := l.refused(c, addr, err == nil); why != "" {
			return fail(finding.CloudAddressRefused, string(finding.FactAddress), found.Host, string(finding.FactWrong), why)
		}
	}
	if s.Authority != "" {
		found.Authorities = x509.NewCertPool()
		if !found.Authorities.AppendCertsFromPEM([]byte(s.Authority)) {
			return nil, c.fail(ctx, malformed("the authority of the server %s is no certificate in PEM form", s.ID))
		}
	}
	return found, nil
}

// refused says why an address that a cloud names is not connected to, "" for one that is. A cloud
// does not choose which of this machine's services, or its neighbours', are connected to. One on
// this machine itself may: it is a practice cloud, or an adapter of your own.
func (l *Locator) refused(c *Client, addr netip.Addr, literal bool) string {
	breadth := target.Judge(addr)
	switch {
	case c.Account.Origin.Loopback():
		return ""
	case !literal, breadth == target.Own:
		return "it is this machine's own, or a hop's."
	case breadth == target.LinkLocal, breadth == target.Several:
		return "it is of this machine's own network, or of several machines."
	case route.Own(target.Canonical(addr)):
		return "it is this machine's own."
	case l.Want.Address == target.PrivateAddress && breadth != target.Private:
		return "the profile asks for a private address, and this is none."
	case l.Want.Address != target.PrivateAddress && breadth == target.Private:
		return "it is an address of a private network, so a neighbour's of this machine may have it; a profile " +
			"that wants it says address: private."
	}
	return ""
}

// Legs names the leg "name": the leg "cloud" is walked before the secret, which is kept for what
// the cloud finds.
func (l *Locator) Legs() []string { return []string{"name"} }

// Locate gives the addresses of the server.
func (l *Locator) Locate(ctx context.Context, via route.Dialer, note route.Note) iter.Seq2[route.Address, error] {
	return func(yield func(route.Address, error) bool) {
		found, err := l.Find(ctx)
		if err != nil {
			yield(route.Address{}, err)
			return
		}
		if _, literal := route.Literal(found.Host); literal {
			note("name", "the cloud says the address itself")
		}
		at := route.AtHost{Host: found.Host, Port: found.Port, Resolver: l.Resolver, Origin: l.Origin}
		for each, err := range at.Locate(ctx, via, note) {
			if addr, literal := route.Literal(each.Host); err == nil && (literal || target.IsLoopback(each.Host)) {
				if why := l.refused(found.Client, addr, literal); why != "" {
					err = found.Client.fail(ctx, &finding.Problem{Code: finding.CloudAddressRefused, Facts: finding.Facts{
						finding.FactCloudTitle: "The " + strings.TrimPrefix(l.Want.Title(), "the "),
						finding.FactAddress:    each.Host, finding.FactWrong: "its name leads there, and " + why}})
				}
			}
			each.ServerName = found.CertificateName
			each.Marks = route.Marks(route.Mark{What: "the cloud's server", Value: found.ID},
				route.Mark{What: "the authority of the cloud's server", Value: found.Server.Authority})
			if !yield(each, err) || err != nil {
				return
			}
		}
	}
}
