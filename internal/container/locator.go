package container

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"iter"
	"net"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/route"
	"gentle-harbor/internal/target"
)

// Locator finds the address of a container's server. It implements [route.Locator], and keeps
// what it found for who asks afterwards.
type Locator struct {
	Want target.Contained
	// Port is the port inside, and Info the profile's database engine.
	Port int
	Info engine.Info
	// Folder is the folder of the Compose project where Want leaves the project out.
	Folder string
	// Engines gives the container engines to ask; its error says what is wrong with the choice.
	Engines func() ([]Engine, error)

	mu   sync.Mutex
	last *Lookup
}

// Lookup is a container that was found, and who said so.
type Lookup struct {
	*Container
	Client *Client
	// Streamed says that the address that is tried is inside the container.
	Streamed bool
	of       *Locator
}

// Last gives what was found last, nil for nothing. It is of the connection that was made last;
// one walk makes one after the other.
func (l *Locator) Last() *Lookup {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.last
}

// Defined gives the definition of the container that was found.
func (l *Lookup) Defined() target.Definition {
	return target.ContainerFacts{Engine: l.Client.Engine.ID(), Repository: l.Repository, Project: l.Project, Folder: l.Folder, Start: l.Start}.Define()
}

// marks say which container it is, for who connects to it again.
func (l *Lookup) marks() string {
	return route.Marks(route.Mark{What: "the container engine", Value: l.Client.Engine.ID()},
		route.Mark{What: "the container's image", Value: l.Repository},
		route.Mark{What: "the container's Compose project", Value: l.Project},
		route.Mark{What: "the folder of the container's Compose project", Value: l.Folder},
		route.Mark{What: "the container's entrypoint or command", Value: strings.Join(l.Start, "\x02")})
}

// Legs names the leg "container".
func (l *Locator) Legs() []string { return []string{"container"} }

// Locate looks the container up, and gives the addresses of its server: the ports that are
// published on the engine's host, else its own address on a network of this machine's, else a
// stream, where that is allowed.
func (l *Locator) Locate(ctx context.Context, via route.Dialer, note route.Note) iter.Seq2[route.Address, error] {
	return func(yield func(route.Address, error) bool) {
		found, err := l.find(ctx, via)
		l.mu.Lock()
		l.last = found
		l.mu.Unlock()
		if found != nil {
			defer found.Client.Close()
		}
		if err != nil {
			yield(route.Address{}, err)
			return
		}
		addresses, err := found.addresses()
		if err != nil {
			yield(route.Address{}, err)
			return
		}
		note("container", found.saw(addresses))
		marks := found.marks()
		for _, each := range addresses {
			found.Streamed, each.Marks = each.Dial != nil, marks
			if !yield(each, nil) {
				return
			}
		}
	}
}

// saw is a line for people.
func (l *Lookup) saw(addresses []route.Address) string {
	saw := l.Name + " runs, with the image " + l.Image
	if l.Health != "" {
		saw += " (" + l.Health + ")"
	}
	var at []string
	for _, each := range addresses {
		at = append(at, each.From)
	}
	return saw + "; " + strings.Join(at, ", or ") + "; container engine: " + l.Client.Engine.Place() + ", " +
		l.Client.Engine.From
}

// find asks the engines, one after the other. The error is a *finding.Problem; what was found is
// given even where it cannot serve.
func (l *Locator) find(ctx context.Context, via route.Dialer) (*Lookup, error) {
	engines, err := l.Engines()
	if errors.Is(err, ErrNone) {
		return nil, &finding.Problem{Code: finding.ContainerNoEngine, Err: err}
	}
	if err != nil {
		return nil, &finding.Problem{Code: finding.ContainerEngineChoice, Err: err,
			Facts: finding.Facts{finding.FactWrong: err.Error()}}
	}
	var failed error
	var near []*Container
	var asked []string
	for _, e := range engines {
		client, err := Connect(ctx, e, via)
		if err == nil {
			var found *Container
			if found, err = client.Find(ctx, l.Want, l.Folder); found != nil {
				lookup := &Lookup{Container: found, Client: client, of: l}
				return lookup, lookup.judge(ctx)
			}
			if err == nil {
				asked = append(asked, e.Place()+" ("+e.From+")")
				list, _ := client.List(ctx)
				near = append(near, list...)
			}
			client.Close()
		}
		failed = cmp.Or(failed, err)
	}
	if failed != nil {
		return nil, failed
	}
	return nil, l.unknown(near, asked)
}

// unknown is the problem of a container that no engine has, with what comes near.
func (l *Locator) unknown(all []*Container, asked []string) *finding.Problem {
	facts := finding.Facts{finding.FactContainer: l.Want.Words(), finding.FactContainerTitle: l.Want.Title(),
		finding.FactEngine: strings.Join(asked, ", ")}
	var names, words, there []string
	for _, each := range all {
		if info, known := EngineOf(each.Repository); each.OneOff || known && info.Family != l.Info.Family {
			continue
		}
		word := each.Words().Words()
		switch { // the same service in another project is as near as can be
		case l.Want.Service != "" && each.Service == l.Want.Service, l.Want.Name != "" && each.Service == l.Want.Name:
			there = append([]string{word}, there...)
		default:
			there = append(there, word)
		}
		names, words = append(names, each.Name), append(words, word)
	}
	word, others := cmp.Or(l.Want.Name, l.Want.Service), append(slices.Clone(names), words...)
	near := cmp.Or(profile.Nearest(word, others), nearest(word, others))
	if near == "" && len(there) > 0 && l.Want.Service != "" && strings.HasPrefix(there[0], l.Want.Service+"@") {
		near = there[0]
	}
	if near == "" && len(there) == 1 {
		near = there[0]
	}
	if near != "" {
		facts[finding.FactNearContainer] = near
	}
	if len(there) > 0 {
		facts[finding.FactNames] = strings.Join(there[:min(len(there), 12)], ", ")
	}
	return &finding.Problem{Code: finding.ContainerUnknown, Facts: facts}
}

// judge says what keeps the container that was found from serving. The error is a *finding.Problem.
func (l *Lookup) judge(ctx context.Context) error {
	c := l.Container
	facts := finding.Facts{finding.FactContainer: c.Name, finding.FactImage: c.Image,
		finding.FactEngine: l.Client.Engine.Place()}
	if info, known := EngineOf(c.Repository); known && info.Family != l.of.Info.Family {
		facts[finding.FactFound], facts[finding.FactFoundEngine] = info.Title, info.Name
		return &finding.Problem{Code: finding.ContainerOtherEngine, Facts: facts}
	}
	p := &finding.Problem{Facts: facts}
	switch c.State {
	case "running":
		return nil
	case "created":
		p.Code = finding.ContainerNotStarted
	case "paused":
		p.Code = finding.ContainerPaused
	case "restarting":
		p.Code = finding.ContainerRestarting
	default:
		p.Code = finding.ContainerStopped
	}
	if p.Code == finding.ContainerStopped || p.Code == finding.ContainerRestarting {
		facts[finding.FactExit] = strconv.Itoa(c.ExitCode)
		if !c.Ended.IsZero() {
			facts[finding.FactSince] = c.Ended.Local().Format("2006-01-02 15:04:05")
		}
		veil := outside.Veil{Secrets: c.Hidden()}
		for _, line := range l.Client.Logs(ctx, c, 5) {
			p.Tried = append(p.Tried, "its log: "+veil.Short(line, 300))
		}
	}
	return p
}

// addresses gives where the container's server can be reached. The error is a *finding.Problem.
func (l *Lookup) addresses() ([]route.Address, error) {
	c, e, inside, want := l.Container, l.Client.Engine, l.of.Port, l.of.Want
	met := target.Reached{Contained: e.Sure()}
	if c.HostNetwork {
		host := cmp.Or(e.Host(), "127.0.0.1")
		// Any process of that host can be at the port: nothing shows that it is the container's.
		return l.alsoInside([]route.Address{{Network: "tcp", Host: host, Port: inside, ServerName: e.Host(),
			From: "it has the host's own network"}}, target.Reached{}), nil
	}
	var list []route.Address
	var elsewhere, others []string
	for _, p := range c.Published {
		if p.Inside != inside {
			others = append(others, fmt.Sprint(p.Inside))
			continue
		}
		host, ok := l.hostOf(p.Address)
		if !ok {
			elsewhere = append(elsewhere, netip.AddrPortFrom(p.Address, uint16(p.Port)).String())
			continue
		}
		if slices.ContainsFunc(list, func(a route.Address) bool { return a.Port == p.Port && p.Address.IsUnspecified() }) {
			continue // the same port, for both kinds of address
		}
		from := fmt.Sprintf("its port %d is published at %s", inside, net.JoinHostPort(host, fmt.Sprint(p.Port)))
		at := route.Address{Network: "tcp", Host: host, Port: p.Port, ServerName: cmp.Or(e.Host(), host),
			Met: met, From: from}
		if addr, err := netip.ParseAddr(host); err == nil && e.Local() {
			at.Shown = func() bool { return forwarder(netip.AddrPortFrom(addr, uint16(p.Port))) }
		}
		list = append(list, at)
	}
	if len(list) == 0 && e.Local() {
		if i := slices.IndexFunc(c.Networks, func(n Network) bool { return n.Gateway.IsValid() && bridged(n) }); i >= 0 {
			n := c.Networks[i]
			list = append(list, route.Address{Network: "tcp", Host: n.Address.String(), Port: inside,
				ServerName: n.Address.String(), Met: met,
				From: fmt.Sprintf("no port is published, and its address %s is on this machine's network %s", n.Address, n.Name)})
		}
	}
	if list = l.alsoInside(list, met); len(list) > 0 {
		return list, nil
	}
	facts := finding.Facts{finding.FactContainer: c.Name, finding.FactContainerPort: fmt.Sprint(inside),
		finding.FactEngine: e.Place(), finding.FactReach: reachOf(want, target.ReachExec)}
	switch {
	case len(elsewhere) > 0:
		facts[finding.FactServers] = strings.Join(elsewhere, ", ")
		if !e.Local() {
			facts[finding.FactReach] = reachOf(want, target.ReachPublished)
			return nil, &finding.Problem{Code: finding.ContainerPublishedFar, Facts: facts}
		}
		return nil, &finding.Problem{Code: finding.ContainerPublishedElsewhere, Facts: facts}
	case len(others) > 0:
		facts[finding.FactOthers], facts[finding.FactFoundPort] = strings.Join(others, ", "), others[0]
		other := want
		other.Port, _ = strconv.Atoi(others[0])
		facts[finding.FactNearContainer] = other.String()
		return nil, &finding.Problem{Code: finding.ContainerOtherPort, Facts: facts}
	}
	return nil, &finding.Problem{Code: finding.ContainerPortNotPublished, Facts: facts}
}

// alsoInside adds the way through the container engine to addresses, where the profile allows it.
// It comes last: the server sees such a connection come from itself.
func (l *Lookup) alsoInside(list []route.Address, met target.Reached) []route.Address {
	if l.of.Want.Reach != target.ReachExec {
		return list
	}
	return append(list, route.Address{Network: "tcp", Host: "127.0.0.1", Port: l.of.Port,
		ServerName: "localhost", Met: met, Dial: streams{l},
		From: "reached from inside, through the container engine"})
}

// Inside writes the container with the way through its engine allowed, as a flag has it; "" where
// that way was tried.
func (l *Lookup) Inside() string {
	if l.of.Want.Reach == target.ReachExec {
		return ""
	}
	return reachOf(l.of.Want, target.ReachExec)
}

// reachOf writes a container that may be reached in another way, as a flag has it.
func reachOf(c target.Contained, reach string) string {
	c.Reach = reach
	return profile.ContainerText(c)
}

// hostOf gives where a published address is connected to, false where that is on another machine
// than the engine's. An engine on another machine does not choose which host is connected to: its
// ports are on its own host, and on another address only where the profile says so.
func (l *Lookup) hostOf(published netip.Addr) (string, bool) {
	e := l.Client.Engine
	loopback, all := published.IsLoopback(), !published.IsValid() || published.IsUnspecified()
	_, _, ssh := e.Hop()
	switch {
	case e.Far() && loopback:
		return "", false
	case e.Far() && all:
		return e.Host(), true
	case all && published.Is6():
		return "::1", true
	case all:
		return "127.0.0.1", true
	case e.Local() && (loopback || route.Own(published)), ssh && loopback:
		return published.String(), true
	case e.Local():
		return "", false
	}
	host, _ := netip.ParseAddr(e.Host())
	breadth := target.Judge(published)
	far := l.of.Want.Reach == target.ReachPublished && (breadth == target.Public || breadth == target.Private)
	return published.String(), far || e.Far() && host.IsValid() && host.Unmap() == published
}

// forwarder reports whether what listens at a published port is shown to be the engine's: root's,
// or your own where the engine runs without root. When an engine's forwarder has gone, any
// account's program can take the port.
func forwarder(at netip.AddrPort) bool {
	account, shown := listener(at)
	return shown && (account == 0 || account == os.Geteuid())
}

// bridged reports whether a container's address is on a network of which this machine is the
// gateway. The address must be of that very network: a lying engine could name any other one
// beside a gateway of ours.
func bridged(n Network) bool {
	own, err := net.InterfaceAddrs()
	return err == nil && slices.ContainsFunc(own, func(a net.Addr) bool {
		prefix, err := netip.ParsePrefix(a.String())
		return err == nil && prefix.Addr().Unmap() == n.Gateway.Unmap() && prefix.Masked().Contains(n.Address.Unmap())
	})
}

// streams dials ports inside the container.
type streams struct{ of *Lookup }

// DialContext opens a stream.
func (s streams) DialContext(ctx context.Context, _, _ string) (net.Conn, error) {
	return s.of.Client.Stream(ctx, s.of.Container, s.of.of.Port)
}

// nearest gives the name that a word was probably meant for, "" for none.
func nearest(word string, names []string) string {
	for _, name := range names {
		if strings.EqualFold(word, name) || strings.HasSuffix(strings.ToLower(name), strings.ToLower(word)) ||
			strings.HasPrefix(name, word) && len(word) > 2 {
			return name
		}
	}
	return ""
}

// SettingUp reports whether the container's server is still setting itself up, as its processes
// show.
func (l *Lookup) SettingUp(ctx context.Context) bool {
	defer l.Client.Close()
	for _, line := range l.Client.Processes(ctx, l.Container) {
		for _, word := range l.of.Info.Image.Setting {
			if strings.Contains(line+" ", word) {
				return true
			}
		}
	}
	return false
}
