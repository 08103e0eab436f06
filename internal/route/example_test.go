package route_test

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/route"
)

// names is a name service with one name.
type names struct{}

func (names) LookupNetIP(_ context.Context, _, host string) ([]netip.Addr, error) {
	if host != "db.fellside.example" {
		return nil, &net.DNSError{Err: "no such host", Name: host, IsNotFound: true}
	}
	return []netip.Addr{netip.MustParseAddr("2001:db8::7"), netip.MustParseAddr("192.0.2.7")}, nil
}

// A locator says where a server is: the addresses in the order in which they are to be tried. What
// it cannot find is a finding of its leg.
func ExampleAtHost() {
	note := func(leg, saw string) { fmt.Println(leg+":", saw) }
	for at, err := range (route.AtHost{Host: "db.fellside.example", Port: 5432,
		Resolver: names{}}).Locate(context.Background(), nil, note) {
		fmt.Println(at, err)
	}
	for _, err := range (route.AtHost{Host: "hut.fellside.example", Port: 5432,
		Resolver: names{}}).Locate(context.Background(), nil, note) {
		var p *finding.Problem
		fmt.Println(errors.As(err, &p), p.Code)
	}
	// Output:
	// name: db.fellside.example is 2001:db8::7, 192.0.2.7
	// [2001:db8::7]:5432 <nil>
	// 192.0.2.7:5432 <nil>
	// true name.not-found
}

// Own says which addresses are this machine's: what others name must not lead there.
func ExampleOwn() {
	for _, text := range []string{"127.0.0.1", "::1", "192.0.2.7"} {
		fmt.Println(text, route.Own(netip.MustParseAddr(text)))
	}
	// Output:
	// 127.0.0.1 true
	// ::1 true
	// 192.0.2.7 false
}
