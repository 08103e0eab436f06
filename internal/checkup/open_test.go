package checkup

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"net"
	"slices"
	"strings"
	"testing"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/route"
	"gentle-harbor/internal/target"
)

// far is what is on the far side of fake hops: which server is at which address.
type far map[string]*fakeServer

// fakeServer is a server: whether it connects, and what it is.
type fakeServer struct {
	problem string // the code of what goes wrong there
	replica bool
	leads   string // the address that it leads to, "" for none
	logins  int
}

// log is what happened on a walk, in order.
type log struct{ lines []string }

func (l *log) add(format string, more ...any) {
	l.lines = append(l.lines, fmt.Sprintf(format, more...))
}

// fakeHop is one machine on the route.
type fakeHop struct {
	name, problem string
	log           *log
	world         far
}

func (h fakeHop) Through(_ context.Context, via route.Dialer) (*route.Passed, error) {
	from := "here"
	if before, ok := via.(fakeHop); ok {
		from = before.name
	}
	h.log.add("%s from %s", h.name, from)
	if h.problem != "" {
		return nil, &finding.Problem{Code: finding.Code(h.problem)}
	}
	return &route.Passed{Dialer: h, Close: h.Close, Saw: h.name + " lets us in"}, nil
}

func (h fakeHop) Close() error { h.log.add("%s closed", h.name); return nil }

func (h fakeHop) DialContext(_ context.Context, _, address string) (net.Conn, error) {
	h.log.add("%s dials %s", h.name, address)
	s, known := h.world[address]
	if !known || s.problem == "port.refused" {
		return nil, &finding.Problem{Code: "port.refused"}
	}
	client, server := net.Pipe()
	_ = server.Close()
	return client, nil
}

// fakeLocator gives addresses; each time that it locates, the next list.
type fakeLocator struct {
	lists [][]route.Address
	fails error
	times *int
}

func (fakeLocator) Legs() []string { return []string{"alias", "name"} }

func (l fakeLocator) Locate(_ context.Context, _ route.Dialer, note route.Note) iter.Seq2[route.Address, error] {
	return func(yield func(route.Address, error) bool) {
		if l.fails != nil {
			yield(route.Address{}, l.fails)
			return
		}
		list := l.lists[min(*l.times, len(l.lists)-1)]
		*l.times++
		note("alias", fmt.Sprint(len(list))+" addresses")
		for _, each := range list {
			if !yield(each, nil) {
				return
			}
		}
	}
}

// fakeEngine logs in to fake servers.
type fakeEngine struct{ world far }

func (e fakeEngine) Open(ctx context.Context, end engine.Endpoint, _ engine.Login,
	watch engine.Watch) (engine.Session, error) {
	line, err := end.Connect(ctx, end.At)
	if err != nil {
		return nil, err
	}
	s := e.world[end.At.String()]
	if s.leads != "" { // it says where to go instead
		_ = line.Close()
		host, port, _ := strings.Cut(s.leads, ":")
		at := route.Address{Network: "tcp", Host: host}
		_, _ = fmt.Sscan(port, &at.Port)
		if line, err = end.Connect(ctx, at); err != nil {
			return nil, err
		}
		s = e.world[s.leads]
	}
	watch("greeting", "a fake server")
	if s.problem != "" {
		return nil, &finding.Problem{Code: finding.Code(s.problem)}
	}
	s.logins++
	watch("login", map[bool]string{true: "may show", false: "may not show"}[line.MayShow])
	return fakeSession{s, line}, nil
}

func (fakeEngine) Info() engine.Info                     { return engine.Info{Name: "fake"} }
func (fakeEngine) Identify([]byte) (engine.Answer, bool) { return engine.Answer{}, false }
func (fakeEngine) Advice(engine.Subject) engine.Advice   { return engine.Advice{} }

type fakeSession struct {
	server *fakeServer
	line   engine.Line
}

func (s fakeSession) Facts(context.Context) (engine.Facts, error) {
	return engine.Facts{ReadOnly: &s.server.replica}, nil
}
func (fakeSession) Ask(context.Context) error { return nil }
func (s fakeSession) Close()                  { _ = s.line.Close() }

// Try, Pass and Fail make a log a Watch.
func (l *log) Try(at route.Address) (context.Context, error) {
	l.add("try %s", at)
	return context.Background(), nil
}
func (l *log) Miss(at route.Address) { l.add("miss %s", at.Written) }
func (l *log) Lead(to route.Address) (route.Address, error) {
	l.add("lead %s", to)
	return to, nil
}
func (l *log) Pass(leg, saw string)             { l.add("%s: %s", leg, saw) }
func (l *log) Fail(at route.Address, err error) { l.add("%s failed: %v", at, err) }

func tcp(texts ...string) []route.Address {
	var list []route.Address
	for _, text := range texts {
		host, port, _ := strings.Cut(text, ":")
		at := route.Address{Network: "tcp", Host: host}
		_, _ = fmt.Sscan(port, &at.Port)
		list = append(list, at)
	}
	return list
}

// TestOpenOverARoute walks routes of fake hops and locators, so that what comes later has its
// place.
func TestOpenOverARoute(t *testing.T) {
	servers := func() far {
		return far{"db1:1": {problem: "port.refused"}, "db2:1": {replica: true}, "db3:1": {}, "moved:1": {},
			"balancer:1": {leads: "db3:1"}, "refuses:1": {problem: "login.refused"},
			"forged:1": {problem: "tls.untrusted"}, "starts:1": {problem: "database.starting-up"},
			"web:1": {problem: "greeting.not-a-database"}, "stream": {}}
	}
	for _, c := range []struct {
		name  string
		hops  []string
		lists [][]route.Address
		wants Role
		times int // how often a session is opened over the path
		code  string
		log   []string
	}{
		{"two hops, and the third of three addresses", []string{"gate", "inner"},
			[][]route.Address{tcp("db1:1", "web:1", "db3:1")}, AnyRole, 1, "", []string{
				"gate from here", "inner from gate", "tunnel: gate lets us in; inner lets us in",
				"alias: 3 addresses", "try db1:1", "inner dials db1:1", "db1:1 failed: port.refused",
				"try web:1", "inner dials web:1", "port: web:1 accepts the connection",
				"greeting: a fake server", "web:1 failed: greeting.not-a-database", "try db3:1",
				"inner dials db3:1", "port: db3:1 accepts the connection", "greeting: a fake server",
				"login: may not show", "inner closed", "gate closed"}},
		{"a role that does not fit", []string{"gate"}, [][]route.Address{tcp("db2:1", "db3:1")}, Primary, 1, "", []string{
			"gate from here", "tunnel: gate lets us in", "alias: 2 addresses", "try db2:1", "gate dials db2:1",
			"port: db2:1 accepts the connection", "greeting: a fake server", "login: may not show",
			"db2:1 failed: alias.no-primary",
			"try db3:1", "gate dials db3:1", "port: db3:1 accepts the connection", "greeting: a fake server",
			"login: may not show", "gate closed"}},
		{"no server of the role", []string{"gate"}, [][]route.Address{tcp("db3:1")}, Replica, 1, "alias.no-replica", nil},
		{"a login is tried once", []string{"gate"}, [][]route.Address{tcp("refuses:1", "db3:1")}, AnyRole, 1,
			"login.refused", nil},
		{"a certificate is not asked of another", []string{"gate"}, [][]route.Address{tcp("forged:1", "db3:1")},
			AnyRole, 1, "tls.untrusted", nil},
		{"a server that is starting", []string{"gate"}, [][]route.Address{tcp("starts:1", "db3:1")}, AnyRole, 1, "", nil},
		{"an address that changes", []string{"gate"}, [][]route.Address{tcp("db3:1"), tcp("moved:1")}, AnyRole,
			2, "", []string{
				"gate from here", "tunnel: gate lets us in", "alias: 1 addresses", "try db3:1", "gate dials db3:1",
				"port: db3:1 accepts the connection", "greeting: a fake server", "login: may not show",
				"alias: 1 addresses", "try moved:1", "gate dials moved:1", "port: moved:1 accepts the connection",
				"greeting: a fake server", "login: may not show", "gate closed"}},
		{"a server that leads elsewhere", []string{"gate"}, [][]route.Address{tcp("balancer:1")}, AnyRole, 1, "", []string{
			"gate from here", "tunnel: gate lets us in", "alias: 1 addresses", "try balancer:1",
			"gate dials balancer:1", "port: balancer:1 accepts the connection", "gate dials db3:1",
			"greeting: a fake server", "login: may not show", "gate closed"}},
		{"no address at all", []string{"gate"}, [][]route.Address{nil}, AnyRole, 1, "name.not-found", nil},
	} {
		l, world, times := &log{}, servers(), 0
		r := route.Route{Locator: fakeLocator{lists: c.lists, times: &times}}
		for _, name := range c.hops {
			r.Hops = append(r.Hops, fakeHop{name: name, log: l, world: world})
		}
		if legs := r.Legs(); !slices.Equal(legs, []string{"tunnel", "alias", "name", "port"}) {
			t.Errorf("%s: the legs %v", c.name, legs)
		}
		path, err := r.Open(t.Context(), l.Pass)
		must(t, err)
		to := target.Target{Hops: c.hops, Endpoint: target.Endpoint{Host: "localhost"}, TLS: "off"}
		lines := func(_ route.Address, met target.Reached) engine.Line { return engine.Line{MayShow: to.MayShow(met)} }
		for range c.times {
			session, err := Open(t.Context(), path, engine.Guarded(fakeEngine{world}), engine.Login{}, lines, c.wants, l)
			var p *finding.Problem
			if errors.As(err, &p); c.code == "" && err != nil || c.code != "" && (p == nil || string(p.Code) != c.code) {
				t.Errorf("%s: %v", c.name, err)
			}
			if session != nil {
				session.Close()
			}
		}
		_ = path.Close()
		if c.log != nil && !slices.Equal(l.lines, c.log) {
			t.Errorf("%s:\n%s", c.name, strings.Join(l.lines, "\n"))
		}
		if c.code == "login.refused" && world["db3:1"].logins > 0 {
			t.Errorf("%s: the next address was tried", c.name)
		}
	}
}

// TestStreamWithoutAnAddress reaches a server by a dialer of the address's own.
func TestStreamWithoutAnAddress(t *testing.T) {
	l, times := &log{}, 0
	world := far{"stream": {}}
	stream := route.Address{Network: "stream", Host: "stream",
		Dial: fakeHop{name: "engine", log: l, world: world}, From: "the container's own words"}
	path, err := route.Route{Locator: fakeLocator{lists: [][]route.Address{{stream}},
		times: &times}}.Open(t.Context(), l.Pass)
	must(t, err)
	session, err := Open(t.Context(), path, fakeEngine{world}, engine.Login{},
		func(route.Address, target.Reached) engine.Line { return engine.Line{} }, AnyRole, l)
	if err != nil || !slices.Contains(l.lines, "engine dials stream") {
		t.Errorf("%v %v", l.lines, err)
	}
	session.Close()
}

// TestAHopThatFails ends the hops before it.
func TestAHopThatFails(t *testing.T) {
	l := &log{}
	r := route.Route{Hops: []route.Hop{fakeHop{name: "gate", log: l},
		fakeHop{name: "inner", log: l, problem: "tunnel.refused"}}, Locator: route.AtHost{Host: "db", Port: 1}}
	_, err := r.Open(t.Context(), l.Pass)
	var p *finding.Problem
	if !errors.As(err, &p) || p.Code != "tunnel.refused" ||
		strings.Join(l.lines, "; ") != "gate from here; inner from gate; gate closed" {
		t.Errorf("%v, %v", err, l.lines)
	}
	if legs := r.Legs(); !slices.Equal(legs, []string{"tunnel", "name", "port"}) {
		t.Errorf("%v", legs)
	}
}

// TestOneOrderOfLegs has every kind of route walk its legs in the order of the one list.
func TestOneOrderOfLegs(t *testing.T) {
	for _, where := range [][]string{{"host", "h"}, {"socket", "/run/s"}, {"container", "hutdb"},
		{"cloud", "fellside/bunkhouse"}, {"alias", "bookings"}} {
		for _, hops := range []bool{false, true} {
			pairs := append([]string{"engine", "postgres", "user", "u", "database", "d", "secret", "none"}, where...)
			a := settings(pairs...)
			w := Checker{}.walk(t.Context(), a)
			if hops {
				w.route.Hops = []route.Hop{fakeHop{}}
			}
			legs := append(w.beforeAddress(), w.atAddress()...)
			w.stop()
			at := -1
			for _, leg := range legs {
				i := slices.Index(LegNames, leg)
				if i <= at {
					t.Errorf("%v, hops %v: %s is out of order in %v", where, hops, leg, legs)
				}
				at = i
			}
		}
	}
}
