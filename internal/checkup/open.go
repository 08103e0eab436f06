package checkup

import (
	"context"
	"errors"
	"maps"
	"net"
	"slices"
	"strconv"
	"strings"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/route"
	"gentle-harbor/internal/target"
)

// Role is what a server must be to do, where several stand for one another.
type Role string

// The roles. A server's own word decides, after the login.
const (
	AnyRole Role = ""
	Primary Role = "primary" // it takes changes
	Replica Role = "replica" // it can only be read from
)

// Watch is told how the opening of a session goes.
type Watch interface {
	// Try is told of the address that is tried next. It gives the context of the attempt, or why
	// it is not made.
	Try(at route.Address) (context.Context, error)
	// Pass is told of each leg that passed, and of what was seen in passing.
	Pass(leg, saw string)
	// Miss is told of an address that was not found, as it is written.
	Miss(at route.Address)
	// Lead is asked where a server leads that hands a connection on: it gives the address, or why
	// the connection does not go there.
	Lead(to route.Address) (route.Address, error)
	// Fail is told why an address did not do, when another is tried.
	Fail(at route.Address, err error)
}

// Lines gives what may be sent over a connection to an address, by what was met at its other end.
// Its Conn is not set.
type Lines func(at route.Address, met target.Reached) engine.Line

// Open opens a session over a path: it tries one address after the other, until one lets it in or
// no other may be tried, and asks the server for its role after the login. Its error is a
// *finding.Problem, or what the path's locator gave.
func Open(ctx context.Context, path *route.Path, e engine.Engine, login engine.Login, lines Lines, wants Role,
	watch Watch) (engine.Session, error) {
	var failed []failure
	led := map[string]bool{} // where servers said that their primary is
	told := 0                // how many failures watch was told of
	tell := func() {
		if n := len(failed); n > told {
			watch.Fail(failed[n-1].at, failed[n-1].err)
			told = n
		}
	}
	for at, err := range path.Each(ctx, watch.Pass) {
		tell()
		if err != nil {
			// One of several addresses was not found; the others may be.
			failed = append(failed, failure{at, err, AnyRole})
			if at.Written.Name != "" {
				watch.Miss(at)
				tell() // its time ends here, before the next one is looked up
			}
			continue
		}
		for leads := false; ; leads = true {
			session, is, primary, err := attempt(path, e, at, login, lines, wants, watch)
			if err == nil && (wants == AnyRole || is == wants) {
				return session, nil
			}
			if err != nil {
				if failed = append(failed, failure{at, err, AnyRole}); !elsewhere(err) {
					return nil, err
				}
				break
			}
			session.Close()
			failed = append(failed, failure{at,
				&finding.Problem{Code: otherRole(wants),
					Facts: finding.Facts{finding.FactWants: string(wants),
						finding.FactServers: at.String() + " is a " + string(is)}}, is})
			// Where the server says who is the primary, that one is asked, once: as any server that
			// another leads to, by the path's own rule and by the binding of the password.
			next, known := ledTo(primary, at)
			if wants != Primary || leads || !known || led[next.String()] || login.Options[e.Info().Stays()] == "true" {
				break
			}
			led[next.String()] = true
			tell()
			at = next
		}
	}
	if len(failed) == 0 {
		return nil, &finding.Problem{Code: finding.NameNotFound}
	}
	if len(failed) > 1 {
		tell() // what is said is about all of them
	}
	return nil, named(together(failed, wants), led, e.Info().Stays())
}

// ledTo gives the address of the primary that a server names.
func ledTo(primary string, from route.Address) (route.Address, bool) {
	host, text, err := net.SplitHostPort(primary)
	port, bad := strconv.Atoi(text)
	if err != nil || bad != nil {
		return route.Address{}, false
	}
	return route.Address{Network: "tcp", Host: host, Port: port, Led: from.String(),
		Written: target.Address{Kind: target.Host, Name: host, Port: port}}, true
}

// named adds to a problem of roles where the servers say that their primary is, and the option that
// has nobody go there.
func named(err error, led map[string]bool, stays string) error {
	var p *finding.Problem
	if errors.As(err, &p) && p.Code == finding.AliasNoPrimary && len(led) > 0 {
		p.Set(finding.FactLedTo, strings.Join(slices.Sorted(maps.Keys(led)), ", "))
		p.Set(finding.FactStays, stays)
	}
	return err
}

// failure is why an address did not do: an error, or the role that its server has.
type failure struct {
	at  route.Address
	err error
	is  Role
}

func (f failure) place() string {
	if f.at.Written.Name != "" && f.at.Host == "" {
		return f.at.Written.String()
	}
	return f.at.String()
}

// otherRole is the finding of a server that is not what is wanted.
func otherRole(wants Role) finding.Code {
	if wants == Replica {
		return finding.AliasNoReplica
	}
	return finding.AliasNoPrimary
}

// together words the failures of all addresses as one: which role each server has, where that is
// what failed, else, for an alias, each cause with its addresses. A single failure stays what it
// is.
func together(failed []failure, wants Role) error {
	last := failed[len(failed)-1]
	var servers []string
	causes, order := map[string][]string{}, []string{}
	role := false
	var of []finding.Code
	for _, each := range failed {
		words := "is a " + string(each.is)
		var p *finding.Problem
		if role = role || each.is != AnyRole; each.is == AnyRole {
			if !errors.As(each.err, &p) {
				return last.err // asking a person, or the end of the run
			}
			words = "failed with " + string(p.Code)
			of = append(of, p.Code)
		}
		if causes[words] == nil {
			order = append(order, words)
		}
		causes[words] = append(causes[words], each.place())
	}
	for _, words := range order {
		servers = append(servers, strings.Join(causes[words], " and ")+" "+words)
	}
	facts := finding.Facts{finding.FactWants: string(wants), finding.FactServers: strings.Join(servers, "; ")}
	switch {
	case role:
		return &finding.Problem{Code: otherRole(wants), Facts: facts}
	case len(failed) == 1 || last.at.Written.Name == "":
		return last.err
	}
	return &finding.Problem{Code: finding.AliasAllFailed, Facts: facts, Err: last.err, Of: of}
}

// attempt opens a session at one address, and asks for its role where one is wanted.
func attempt(path *route.Path, e engine.Engine, at route.Address, login engine.Login, lines Lines, wants Role,
	watch Watch) (_ engine.Session, is Role, primary string, err error) {
	ctx, err := watch.Try(at)
	if err != nil {
		return nil, AnyRole, "", err
	}
	connected := false
	session, err := e.Open(ctx, engine.Endpoint{At: at,
		Connect: func(ctx context.Context, to route.Address) (_ engine.Line, err error) {
			if to.Led != "" {
				if to, err = watch.Lead(to); err != nil {
					return engine.Line{}, err
				}
			}
			conn, met, peer, err := path.Connect(ctx, to)
			if err != nil {
				return engine.Line{}, err
			}
			if !connected { // a server may lead elsewhere; that is one leg
				connected = true
				saw := to.String() + " accepts the connection"
				if to.Dial != nil && to.From != "" {
					saw += " (" + to.From + ")"
				}
				if peer.Shown {
					saw += "; the process behind it is " + peer.Who() + "'s"
				}
				watch.Pass("port", saw)
			}
			line := lines(to, met)
			line.Conn = conn
			return line, nil
		}}, login, watch.Pass)
	if err != nil || wants == AnyRole {
		return session, AnyRole, "", err
	}
	if is, primary, err = roleOf(ctx, session); err != nil {
		session.Close()
		return nil, AnyRole, "", err
	}
	return session, is, primary, nil
}

// lettingNobodyIn are findings of a server that lets nobody in now, whoever asks: another address
// may.
var lettingNobodyIn = []finding.Code{finding.DatabaseStartingUp, finding.DatabaseShuttingDown,
	finding.DatabaseTooManyConnections, finding.DatabaseNotReady}

// elsewhere reports whether another address of the same server may do better: not once a login
// was tried.
func elsewhere(err error) bool {
	var problem *finding.Problem
	if !errors.As(err, &problem) {
		return false
	}
	switch problem.Code.Leg() {
	case "name", "port", "greeting", "alias", "container":
		return problem.Code != finding.GreetingTooManyFailures
	}
	return slices.Contains(lettingNobodyIn, problem.Code)
}

// roleOf asks a server what it is, and where it says that its primary is.
func roleOf(ctx context.Context, session engine.Session) (is Role, primary string, err error) {
	facts, err := session.Facts(ctx)
	switch {
	case err != nil:
		return AnyRole, "", err
	case facts.Follows != nil && *facts.Follows, facts.Follows == nil && facts.ReadOnly != nil && *facts.ReadOnly:
		return Replica, facts.Primary, nil
	}
	return Primary, "", nil
}
