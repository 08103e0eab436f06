package alias

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"maps"
	"math/rand/v2"
	"net"
	"net/netip"
	"net/url"
	"slices"
	"strings"

	"golang.org/x/net/publicsuffix"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/route"
	"gentle-harbor/internal/target"
)

// Services looks SRV records up (RFC 2782), as net.Resolver does: in the order of their priority,
// and by weight in it. TXT records (RFC 1035) are each one text.
type Services interface {
	LookupTXT(ctx context.Context, name string) ([]string, error)
	LookupSRV(ctx context.Context, service, proto, name string) (string, []*net.SRV, error)
}

// Locator finds the addresses of an alias. It implements [route.Locator].
type Locator struct {
	Name string
	// Addresses are where the server is, and SRV the name whose records say it instead.
	Addresses []target.Address
	SRV       string
	Random    bool // the order in which they are tried is drawn anew each time
	// NamedServer says that the name in the server's certificate is written, so that a record may
	// lead to another domain.
	NamedServer bool
	// Options are what the TXT record of the SRV records' host may say, and what each is called
	// here; none is asked for where there are none. Said takes what it says.
	Options  map[string]string
	Said     func(options map[string]string)
	Resolver route.Resolver // nil for the system's
	Services Services       // nil for the system's
	// Origin says where a name's addresses come from; it may be nil.
	Origin func(host string, addrs []netip.Addr) string
	// Seen is told of the targets that the SRV records name; it may be nil.
	Seen func(targets []target.Address)
	// Socket gives the socket that a path means; nil for the path itself.
	Socket func(path string) string
}

// Legs names the leg "alias", and "name" where a name is looked up.
func (l Locator) Legs() []string {
	named := l.SRV != "" || slices.ContainsFunc(l.Addresses, func(a target.Address) bool {
		return a.Kind == target.Host && len(route.AtHost{Host: a.Name}.Legs()) > 0
	})
	if named {
		return []string{"alias", "name"}
	}
	return []string{"alias"}
}

// Locate gives the addresses in the order in which they are to be tried. One whose name is not
// found is an error with that address, and the sequence goes on.
func (l Locator) Locate(ctx context.Context, via route.Dialer, note route.Note) iter.Seq2[route.Address, error] {
	return func(yield func(route.Address, error) bool) {
		list, saw, marks := slices.Clone(l.Addresses), count(len(l.Addresses)), ""
		if l.SRV != "" {
			var err error
			if list, err = l.services(ctx); err != nil {
				yield(route.Address{}, err)
				return
			}
			if l.Seen != nil {
				l.Seen(slices.Clone(list))
			}
			marks = route.Marks(route.Mark{What: "the list of targets in the SRV records of " + l.SRV, Value: inOrder(list)})
			options, err := l.options(ctx)
			if err != nil {
				yield(route.Address{}, err)
				return
			}
			saw = count(len(list)) + " by the SRV records of " + l.SRV
			if len(options) > 0 {
				l.Said(options)
				saw += ", and its TXT record says " + said(options)
			}
			if via != nil {
				saw += ", asked of this machine's name service"
			}
		}
		if l.Random {
			rand.Shuffle(len(list), func(i, j int) { list[i], list[j] = list[j], list[i] })
		}
		note("alias", l.Name+" has "+saw)
		noted := len(l.Legs()) == 1
		for _, written := range list {
			if written.Kind == target.Socket {
				path := written.Name
				if l.Socket != nil {
					path = l.Socket(path)
				}
				if !yield(route.Address{Network: "unix", Host: path, Written: written}, nil) {
					return
				}
				continue
			}
			named := func(leg, text string) {
				if !noted { // a leg of the route is walked once
					noted = true
					note(leg, text)
				}
			}
			for at, err := range (route.AtHost{Host: written.Name, Port: written.Port, Resolver: l.Resolver,
				Origin: l.Origin}).Locate(ctx, via, named) {
				at.Written, at.ServerName, at.Marks = written, written.Name, marks
				if err == nil && l.SRV != "" {
					err = l.judged(at)
				}
				if !yield(at, err) {
					return
				}
			}
		}
	}
}

// judged refuses an address that whoever answers for SRV records must not choose: this machine's
// own network has services that ask for no password, such as those that give a machine its
// secrets. A loopback address stays: what is sent there is decided by the name, which is not this
// machine's.
func (l Locator) judged(at route.Address) error {
	addr, literal := route.Literal(at.Host)
	if breadth := target.Judge(addr); !literal || breadth != target.LinkLocal && breadth != target.Several {
		return nil
	}
	return &finding.Problem{Code: finding.AliasAddressRefused,
		Facts: finding.Facts{finding.FactName: l.SRV, finding.FactHost: at.ServerName, finding.FactAddress: at.Host,
			finding.FactWrong: "it is of this machine's own network, or of several machines."}}
}

// inOrder writes addresses in an order of their own, since SRV records come in any.
func inOrder(list []target.Address) string {
	names := make([]string, len(list))
	for i, each := range list {
		names[i] = strings.ToLower(strings.TrimSuffix(each.Name, ".")) + " " + each.String()
	}
	slices.Sort(names)
	return strings.Join(names, "\x02")
}

// Written gives the addresses as they are written, or as the SRV records have them. The error is
// a *finding.Problem.
func (l Locator) Written(ctx context.Context) ([]target.Address, error) {
	if l.SRV != "" {
		return l.services(ctx)
	}
	return l.Addresses, nil
}

func count(n int) string {
	if n == 1 {
		return "1 address"
	}
	return fmt.Sprintf("%d addresses", n)
}

// services asks for the SRV records.
func (l Locator) services(ctx context.Context) ([]target.Address, error) {
	resolver := l.Services
	if resolver == nil {
		resolver = net.DefaultResolver
	}
	_, records, err := resolver.LookupSRV(ctx, "", "", l.SRV)
	facts := finding.Facts{finding.FactName: l.SRV}
	var failed *net.DNSError
	switch {
	case errors.As(err, &failed) && failed.IsNotFound, err == nil && len(records) == 0:
		return nil, &finding.Problem{Code: finding.AliasNoRecord, Facts: facts, Err: err}
	case err != nil && len(records) == 0:
		return nil, unanswered(ctx, l.SRV, err)
	}
	var list []target.Address
	var foreign []string
	for _, each := range records {
		name := strings.ToLower(strings.TrimSuffix(each.Target, "."))
		switch {
		case name == "":
			return nil, &finding.Problem{Code: finding.AliasNoService, Facts: facts}
		case !l.NamedServer && !within(name, l.SRV):
			foreign = append(foreign, name)
		case len(list) < maxRecords:
			list = append(list, target.Address{Kind: target.Host, Name: name, Port: int(each.Port)})
		}
	}
	if len(list) == 0 {
		facts[finding.FactServers] = strings.Join(foreign, ", ")
		return nil, &finding.Problem{Code: finding.AliasSRVForeign, Facts: facts}
	}
	return list, nil
}

// maxRecords is how many SRV records are tried.
const maxRecords = 64

// within reports whether a target may be named by a name's SRV records: whoever can answer for the
// records must not be able to send a connection to any other (compare RFC 6125, section 6.5.1). It
// must be in the domain that the host of the records is in, the host without its first label; where
// that is no domain that people register names in, in the one that is.
func within(target, srv string) bool {
	host, target := hostOf(srv), strings.ToLower(strings.TrimSuffix(target, "."))
	registered, err := publicsuffix.EffectiveTLDPlusOne(host)
	if err != nil {
		return false
	}
	if _, parent, _ := strings.Cut(host, "."); len(parent) > len(registered) {
		registered = parent
	}
	return target == registered || strings.HasSuffix(target, "."+registered)
}

// hostOf gives the host that a name with SRV records is of: what comes after the labels of the service
// and its protocol (RFC 2782).
func hostOf(srv string) string {
	labels := strings.Split(strings.ToLower(strings.TrimSuffix(srv, ".")), ".")
	for i, label := range slices.Backward(labels) {
		if strings.HasPrefix(label, "_") {
			return strings.Join(labels[i+1:], ".")
		}
	}
	return strings.Join(labels, ".")
}

// plain are the characters that a value in a TXT record may have. A name with another one can mean more
// than a name, such as accounts that log in in clear; who answers for DNS does not decide that.
const plain = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_."

// mostSaid is how many bytes a TXT record with options may have.
const mostSaid = 1024

// options asks for the TXT record, and gives what it says by the names that are used here. What is
// not on the list is refused with all the rest: it is written for clients that would obey it.
func (l Locator) options(ctx context.Context) (map[string]string, error) {
	if len(l.Options) == 0 || l.Said == nil {
		return nil, nil
	}
	resolver := l.Services
	if resolver == nil {
		resolver = net.DefaultResolver
	}
	host := hostOf(l.SRV)
	refused := func(format string, args ...any) error {
		return &finding.Problem{Code: finding.AliasOptionsRefused,
			Facts: finding.Facts{finding.FactName: host, finding.FactWrong: fmt.Sprintf(format, args...)}}
	}
	records, err := resolver.LookupTXT(ctx, host)
	var failed *net.DNSError
	switch {
	case errors.As(err, &failed) && failed.IsNotFound, err == nil && len(records) == 0:
		return nil, nil
	case err != nil:
		return nil, unanswered(ctx, host, err)
	case len(records) > 1:
		return nil, refused("there are %d of them, and one is the most", len(records))
	case len(records[0]) > mostSaid:
		return nil, refused("it has more than %d bytes", mostSaid)
	}
	values, err := url.ParseQuery(records[0])
	if err != nil {
		return nil, refused("it is not written as options, such as NAME=VALUE&NAME=VALUE")
	}
	options := map[string]string{}
	for name, list := range values {
		ours, is := "", false
		for theirs, called := range l.Options {
			if strings.EqualFold(theirs, name) {
				ours, is = called, true
			}
		}
		_, twice := options[ours]
		switch {
		case !is:
			return nil, refused("it says %s, and it may say %s alone", outside.Text(name),
				strings.Join(slices.Sorted(maps.Keys(l.Options)), " and "))
		case twice || len(list) > 1:
			return nil, refused("it says %s twice", outside.Text(name))
		case list[0] == "" || strings.Trim(list[0], plain) != "":
			return nil, refused("the value of %s cannot be used", outside.Text(name))
		}
		options[ours] = list[0]
	}
	return options, nil
}

// said writes options for people.
func said(options map[string]string) string {
	var list []string
	for _, name := range slices.Sorted(maps.Keys(options)) {
		list = append(list, name+" "+options[name])
	}
	return strings.Join(list, " and ")
}

// unanswered is the problem of a name that could not be looked up.
func unanswered(ctx context.Context, name string, err error) *finding.Problem {
	facts := finding.Facts{finding.FactHost: name}
	if finding.Silent(ctx, err) {
		return &finding.Problem{Code: finding.NameSilent, Facts: facts, Err: err}
	}
	return &finding.Problem{Code: finding.NameLookupFailed, Facts: facts, Err: err, Words: outside.Said(err.Error())}
}
