package jump

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"strconv"
	"strings"

	"golang.org/x/crypto/ssh"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/route"
)

// connect opens the connection to the hop: through the hop before it, by the configuration's own
// command, or directly.
func (a *attempt) connect(via route.Dialer) (net.Conn, error) {
	address := net.JoinHostPort(a.host, strconv.Itoa(a.port))
	if via != nil {
		conn, err := via.DialContext(a.ctx, "tcp", address)
		if err != nil {
			return nil, a.unreached(err)
		}
		return conn, nil
	}
	line, word, err := a.commandLine()
	if err != nil {
		return nil, err
	}
	if line != "" {
		return a.command(line, word)
	}
	var dialer net.Dialer
	if word := a.settings.One["bindaddress"]; word.Text != "" {
		ip := net.ParseIP(word.Text)
		if ip == nil {
			return nil, broken(word, "%q is no address", word.Text)
		}
		dialer.LocalAddr = &net.TCPAddr{IP: ip}
	}
	network := map[string]string{"inet": "tcp4", "inet6": "tcp6"}[strings.ToLower(a.settings.text("addressfamily"))]
	if network == "" {
		network = "tcp"
	}
	resolver := a.Resolver
	if resolver == nil {
		resolver = net.DefaultResolver
	}
	found, err := route.Addresses(a.ctx, resolver, a.host)
	if err != nil {
		return nil, a.unreached(err)
	}
	var addresses []string
	for _, addr := range found {
		if network == "tcp" || (network == "tcp4") == addr.Is4() {
			addresses = append(addresses, net.JoinHostPort(addr.String(), strconv.Itoa(a.port)))
		}
	}
	conn, last := route.DialEach(a.ctx, addresses, func(ctx context.Context, address string) (net.Conn, error) {
		return dialer.DialContext(ctx, network, address)
	})
	if conn != nil {
		if at, err := netip.ParseAddrPort(conn.RemoteAddr().String()); err == nil {
			if err := a.checkAddress(at.Addr().Unmap()); err != nil {
				_ = conn.Close()
				return nil, err
			}
		}
		return conn, nil
	}
	if last == nil {
		return nil, a.problem(finding.TunnelHopNotFound,
			finding.Facts{finding.FactDetail: "It has no address of the family that " +
				a.settings.One["addressfamily"].Place() + " asks for."})
	}
	return nil, a.unreached(route.PortProblem(a.ctx, "tcp", address, last))
}

// checkAddress notes what is known of the host's address, where the configuration wants it to be
// held against the name's keys (ssh_config(5), CheckHostIP). It has no part in a connection to
// this machine, or under another name.
func (a *attempt) checkAddress(addr netip.Addr) (err error) {
	if strings.EqualFold(a.settings.text("checkhostip"), "yes") && !addr.IsLoopback() &&
		a.settings.text("hostkeyalias") == "" && a.host != addr.String() {
		if a.trust.address, err = a.theirs.Of(hostName(addr.String(), a.port)); err != nil {
			return a.problem(finding.TunnelKnownHosts,
				finding.Facts{finding.FactFile: strings.Join(a.userFiles, ", "), finding.FactDetail: err.Error()})
		}
	}
	return nil
}

// unreached words what kept a connection to the hop from being made: the problem of a name or a
// port, or the words of the hop before.
func (a *attempt) unreached(err error) error {
	var p *finding.Problem
	if errors.As(err, &p) {
		code := map[finding.Code]finding.Code{
			finding.NameNotFound: finding.TunnelHopNotFound, finding.NameSilent: finding.TunnelSilent,
			finding.NameLookupFailed: finding.TunnelHopNotFound,
			finding.PortRefused:      finding.TunnelRefused, finding.PortSilent: finding.TunnelSilent,
			finding.PortUnreachable: finding.TunnelUnreachable, finding.PortReset: finding.TunnelDropped,
			finding.PortNotOpened: finding.TunnelNotOpened, finding.PortNoFiles: finding.TunnelNoFiles,
		}[p.Code]
		switch {
		case p.Code.Leg() == "tunnel":
			return p
		case code == "":
			code = finding.TunnelUnknown
		}
		made := a.problem(code, nil)
		made.Err, made.Words = err, p.Words
		return made
	}
	made := a.problem(finding.TunnelUnknown, nil)
	made.Err, made.Words = err, outside.Said(err.Error())
	return made
}

// client is a login to a hop: it dials from there.
type client struct {
	hop    *attempt
	client *ssh.Client
	lost   chan struct{}
}

// Close ends the login.
func (c *client) Close() error {
	err := c.client.Close()
	if errors.Is(err, net.ErrClosed) {
		return nil
	}
	return err
}

// DialContext connects from the hop, to a TCP address or to a socket there. Its error is a
// *finding.Problem: what the hop said of the address, or that it forbids forwarding.
func (c *client) DialContext(ctx context.Context, network, address string) (net.Conn, error) {
	conn, err := c.client.DialContext(ctx, network, address)
	// a channel of the library's has no deadlines, and its Close wakes nobody
	if stream, is := conn.(route.Stream); err == nil && is {
		return route.NewTimed(stream, conn.LocalAddr(), conn.RemoteAddr()), nil
	}
	if err == nil {
		_ = conn.Close()
		err = errors.New("a forwarded connection of an unknown kind")
	}
	return nil, c.hop.forwarded(ctx, network, address, err)
}

// refusals are words of hops about a connection that they did not open, and what they mean, for a
// network address and for a socket: those of strerror(3) and gai_strerror(3), which OpenSSH
// sends, and of other servers. The first that is found counts.
var refusals = []struct {
	words        string
	port, socket finding.Code
}{
	{"connection refused", finding.PortRefused, finding.PortSocketRefused},
	{"refused", finding.PortRefused, finding.PortSocketRefused},
	{"timed out", finding.PortSilent, finding.PortSilent},
	{"timeout", finding.PortSilent, finding.PortSilent},
	{"unreachable", finding.PortUnreachable, ""},
	{"no route", finding.PortUnreachable, ""},
	{"host is down", finding.PortUnreachable, ""},
	{"reset", finding.PortReset, finding.PortReset},
	{"temporary failure in name", finding.NameLookupFailed, ""},
	{"non-recoverable failure in name", finding.NameLookupFailed, ""},
	{"no such file", "", finding.PortSocketMissing},
	{"permission denied", "", finding.PortSocketNotPermitted},
	{"name or service", finding.NameNotFound, ""},
	{"nodename nor servname", finding.NameNotFound, ""},
	{"name does not resolve", finding.NameNotFound, ""},
	{"name resolution", finding.NameNotFound, ""},
	{"no address", finding.NameNotFound, ""},
	{"unknown host", finding.NameNotFound, ""},
	{"not known", finding.NameNotFound, ""},
	{"no such host", finding.NameNotFound, ""},
}

// meant gives what a hop's refusal means, as far as its words go: OpenSSH's "open failed" says
// nothing but that.
func meant(network string, refusal *ssh.OpenChannelError) finding.Code {
	if refusal.Reason == ssh.Prohibited || refusal.Reason == ssh.UnknownChannelType {
		return finding.TunnelForwardingForbidden
	}
	words := strings.ToLower(refusal.Message)
	for _, each := range refusals {
		code := each.port
		if network == "unix" {
			code = each.socket
		}
		if code != "" && strings.Contains(words, each.words) {
			return code
		}
	}
	return finding.PortNotOpened
}

// forwarded says what a hop's refusal of a forward means (RFC 4254, section 5.1). Which of
// several reasons it is, only the words tell.
func (a *attempt) forwarded(ctx context.Context, network, address string, err error) error {
	var refusal *ssh.OpenChannelError
	if !errors.As(err, &refusal) {
		if ctx.Err() != nil {
			return &finding.Problem{Code: finding.PortSilent, Err: err}
		}
		p := a.problem(finding.TunnelLost, nil)
		p.Err, p.Words = err, a.said(outside.Said(err.Error()))
		return p
	}
	p := &finding.Problem{Code: meant(network, refusal), Err: err, Words: a.said(outside.Said(refusal.Message))}
	switch {
	case p.Code == finding.TunnelForwardingForbidden:
		p.Facts = a.problem(p.Code, finding.Facts{finding.FactTo: address}).Facts
	case p.Code == finding.PortNotOpened && network == "unix":
		p.Set(finding.FactHopSocket, address)
	}
	return p
}
