// Package discover looks at what is on this machine: which ports and sockets are open, and which
// of them greet as a database server.
//
// It connects only to addresses of this machine and, where one has just failed, to the address
// that did. It says little, waits little, and never logs in.
package discover

import (
	"context"
	"io/fs"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	psnet "github.com/shirou/gopsutil/v4/net"
	"golang.org/x/sync/errgroup"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/route"
)

// Found is something that listens on this machine.
type Found struct {
	Address netip.AddrPort // where it can be connected to, for a port
	Socket  string         // the path, for a Unix socket
	Answer  engine.Answer
}

// Place gives where it listens, for people.
func (f Found) Place() string {
	if f.Socket != "" {
		return f.Socket
	}
	return f.Address.String()
}

// Bounds of one look around.
const (
	maxPorts  = 256
	atOnce    = 32
	firstWord = 120 * time.Millisecond // how long a server may take to greet by itself
	reply     = 250 * time.Millisecond // and to answer what it is asked
	// a connection on this machine takes; one whose server accepts no more would take minutes
	connects = 500 * time.Millisecond
)

// Databases finds the database servers that greet on this machine's ports and sockets, until ctx
// ends. What cannot be seen is left out.
func Databases(ctx context.Context) []Found {
	places := listening(ctx)
	answers := make([]Found, len(places))
	var group errgroup.Group
	group.SetLimit(atOnce)
	for i, place := range places {
		group.Go(func() error {
			answers[i] = Found{Address: place, Answer: greetsAsDatabase(ctx, "tcp", place.String())}
			return nil
		})
	}
	var behind []Found
	group.Go(func() error {
		behind = OnSockets(ctx)
		return nil
	})
	_ = group.Wait()
	answers = slices.DeleteFunc(answers, func(f Found) bool { return !known.Database(f.Answer) })
	return append(answers, behind...)
}

// listening lists where on this machine TCP connections are accepted, lowest port first, each once.
func listening(ctx context.Context) []netip.AddrPort {
	type result struct {
		stats []psnet.ConnectionStat
		err   error
	}
	done := make(chan result, 1)
	go func() {
		stats, err := psnet.ConnectionsWithoutUidsWithContext(ctx, "tcp")
		done <- result{stats, err}
	}()
	var stats []psnet.ConnectionStat
	select {
	case r := <-done:
		stats = r.stats
	case <-ctx.Done():
		return nil
	}
	seen := map[netip.AddrPort]bool{}
	var places []netip.AddrPort
	for _, stat := range stats {
		place, ok := placeOf(stat)
		if !ok {
			continue
		}
		if !seen[place] {
			seen[place] = true
			places = append(places, place)
		}
	}
	slices.SortFunc(places, func(a, b netip.AddrPort) int {
		if d := int(a.Port()) - int(b.Port()); d != 0 {
			return d
		}
		return a.Addr().Compare(b.Addr())
	})
	return places[:min(len(places), maxPorts)]
}

// placeOf gives the address at which a listening port can be connected to.
func placeOf(stat psnet.ConnectionStat) (netip.AddrPort, bool) {
	addr, err := netip.ParseAddr(stat.Laddr.IP)
	if stat.Status != "LISTEN" || err != nil || stat.Laddr.Port == 0 || stat.Laddr.Port > 65535 {
		return netip.AddrPort{}, false
	}
	addr = addr.Unmap().WithZone("")
	if addr.IsUnspecified() {
		addr = netip.AddrFrom4([4]byte{127, 0, 0, 1})
	}
	return netip.AddrPortFrom(addr, uint16(stat.Laddr.Port)), true
}

// maxSockets is how many sockets are asked.
const maxSockets = 64

// sockets lists the database sockets in the places where distributions put them, and those
// elsewhere that the system shows.
func sockets() []socketPlace {
	var places []socketPlace
	add := func(path string, info engine.Info) {
		real, err := filepath.EvalSymlinks(path)
		if err == nil && !strings.HasSuffix(real, ".lock") && len(places) < maxSockets &&
			!slices.ContainsFunc(places, func(p socketPlace) bool { return p.path == real }) {
			places = append(places, socketPlace{real, info})
		}
	}
	for _, info := range known.Infos() {
		for _, pattern := range info.Sockets {
			found, _ := filepath.Glob(pattern)
			for _, path := range found {
				add(path, info)
			}
		}
	}
	for _, each := range listeningSockets() {
		add(each.path, each.info)
	}
	return places
}

// OnSockets finds the database servers behind sockets: those in the usual places, and those
// elsewhere that the system shows. It looks at no port.
func OnSockets(ctx context.Context) []Found {
	places := sockets()
	found := make([]Found, len(places))
	var group errgroup.Group
	group.SetLimit(atOnce)
	for i, place := range places {
		group.Go(func() error {
			found[i] = Found{Socket: place.path,
				Answer: known.Identify(ask(ctx, from("unix", place.path), nil, place.info.Opening))}
			return nil
		})
	}
	_ = group.Wait()
	return slices.DeleteFunc(found, func(f Found) bool { return !known.Database(f.Answer) })
}

// Beside finds the database servers behind the other sockets in the folder of a socket, or in the
// folder itself where the path is one.
func Beside(ctx context.Context, path string) []Found {
	folder := filepath.Dir(path)
	if info, err := os.Stat(path); err == nil && info.IsDir() {
		folder = path
	}
	var found []Found
	entries, _ := os.ReadDir(folder)
	for _, entry := range entries[:min(len(entries), maxPorts)] {
		if entry.Type()&fs.ModeSocket == 0 || len(found) == atOnce {
			continue
		}
		beside := filepath.Join(folder, entry.Name())
		if a := greetsAsDatabase(ctx, "unix", beside); known.Database(a) {
			found = append(found, Found{Socket: beside, Answer: a})
		}
	}
	return found
}

// Connect makes one connection to what is asked.
type Connect func(ctx context.Context) (net.Conn, error)

// Greet says what answers a connection: first what it says by itself, then what it answers to the
// opening of each engine, and to a web browser's question. Each question is asked over a
// connection of its own; connect may be called several times side by side.
func Greet(ctx context.Context, connect Connect) engine.Answer {
	return greet(ctx, connect, []byte("HEAD / HTTP/1.0\r\n\r\n"))
}

// greet asks with the openings of engines, and then with others. The first listens before it says
// anything: what is silent then is asked all the rest side by side, so that many questions take
// no longer than one.
func greet(ctx context.Context, connect Connect, others ...[]byte) engine.Answer {
	questions := append(openings(), others...)
	if a := known.Identify(ask(ctx, connect, nil, questions[0])); a.Kind != "" {
		return a
	}
	answers := make([]engine.Answer, len(questions)-1)
	var group sync.WaitGroup
	for i, question := range questions[1:] {
		group.Go(func() { answers[i] = known.Identify(ask(ctx, connect, question, nil)) })
	}
	group.Wait()
	for _, a := range answers {
		if a.Kind != "" {
			return a
		}
	}
	return engine.Answer{}
}

// greetsAsDatabase is Greet for a place that nobody named: it says nothing but the openings of
// engines.
func greetsAsDatabase(ctx context.Context, network, address string) engine.Answer {
	return GreetsAsDatabase(ctx, from(network, address))
}

// from connects from this machine.
func from(network, address string) Connect {
	return func(ctx context.Context) (net.Conn, error) {
		ctx, cancel := context.WithTimeout(ctx, connects)
		defer cancel()
		return dial(ctx, network, address)
	}
}

// GreetsAsDatabase is [Greet] with the openings of engines alone.
func GreetsAsDatabase(ctx context.Context, connect Connect) engine.Answer {
	return greet(ctx, connect)
}

// openings are what is said to servers that greet only when they are spoken to.
func openings() [][]byte {
	var list [][]byte
	for _, info := range known.Infos() {
		if info.Opening != nil {
			list = append(list, info.Opening)
		}
	}
	return list
}

// dial connects to an address. Nothing is said to a socket, and it is not told of, when the
// process behind it is nobody's whose server it could be.
func dial(ctx context.Context, network, address string) (net.Conn, error) {
	if network != "unix" {
		var dialer net.Dialer
		return dialer.DialContext(ctx, network, address)
	}
	var trust route.Trust
	for _, info := range known.Infos() {
		trust.Accounts = append(trust.Accounts, info.Accounts...)
	}
	conn, _, err := route.DialSocket(ctx, address, trust)
	return conn, err
}

// ask connects, says first when there is something to say, and gives what comes back; when
// nothing does, it says then and listens once more.
func ask(ctx context.Context, connect Connect, first, then []byte) []byte {
	conn, err := connect(ctx)
	if err != nil {
		return nil
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	words := make([]byte, 512)
	limit := firstWord
	if first != nil {
		_, _ = conn.Write(first)
		limit = reply
	}
	for _, say := range [][]byte{nil, then} {
		if say != nil {
			_, _ = conn.Write(say)
			limit = reply
		}
		_ = conn.SetReadDeadline(time.Now().Add(limit))
		if n, _ := conn.Read(words); n > 0 || then == nil {
			if say == nil && first == nil {
				leave(ctx, conn, words[:n])
			}
			return words[:n]
		}
		if ctx.Err() != nil {
			return nil
		}
	}
	return nil
}

// leave ends the handshake of a server that spoke by itself: some count those that are aborted,
// and then refuse the whole machine.
func leave(ctx context.Context, conn net.Conn, words []byte) {
	e := known.Engine(known.Identify(words).Kind)
	if e == nil {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, reply)
	defer cancel()
	_ = conn.SetReadDeadline(time.Time{})
	_, _ = engine.Knock(ctx, e, engine.Login{}, route.Address{Network: "tcp", Host: "192.0.2.1", Port: 1},
		func(context.Context, route.Address) (net.Conn, error) {
			return &begun{conn, words}, nil
		})
}

// begun is a connection of which some bytes were read already.
type begun struct {
	net.Conn
	words []byte
}

// Read gives the bytes that were read already, then what comes.
func (b *begun) Read(p []byte) (int, error) {
	if len(b.words) == 0 {
		return b.Conn.Read(p)
	}
	n := copy(p, b.words)
	b.words = b.words[n:]
	return n, nil
}

// Port gives the port of a found server as text, "" for a socket.
func (f Found) Port() string {
	if f.Socket != "" {
		return ""
	}
	return strconv.Itoa(int(f.Address.Port()))
}

// OnNetworkOf reports whether one of this machine's own networks holds an address.
func OnNetworkOf(addr netip.Addr) bool {
	own, err := net.InterfaceAddrs()
	if err != nil {
		return true // nothing is known against it
	}
	return slices.ContainsFunc(own, func(a net.Addr) bool {
		prefix, err := netip.ParsePrefix(a.String())
		return err == nil && prefix.Masked().Contains(addr.Unmap())
	})
}
