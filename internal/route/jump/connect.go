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

// connect opens the connection to the hop: through the hop before it, by the configuration's own command, or directly.
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
		return nil, a.problem(finding.TunnelHopNotFound, finding.Facts{finding.FactDetail: "It has no address of the family that " + a.settings.One["addressfamily"].Place() + " asks for."})
	}
	return nil, a.unreached(route.PortProblem(a.ctx, "tcp", address, last))
}

// checkAddress notes what is known of the host's address, where the configuration wants it to be held against the name's keys
// (ssh_config(5), CheckHostIP). It has no part in a connection to this machine, or under another name.
func (a *attempt) checkAddress(addr netip.Addr) (err error) {
	if strings.EqualFold(a.settings.text("checkhostip"), "yes") && !addr.IsLoopback() && a.settings.text("hostkeyalias") == "" && a.host != addr.String() {
		if a.trust.address, err = a.theirs.Of(hostName(addr.String(), a.port)); err != nil {
			return a.problem(finding.TunnelKnownHosts, finding.Facts{finding.FactFile: strings.Join(a.userFiles, ", "), finding.FactDetail: err.Error()})
		}
	}
	return nil
}

// unreached words what kept a connection to the hop from being made: the problem of a name or a port, or the words of the hop before.
func (a *attempt) unreached(err error) error {
	var p *finding.Problem
	if errors.As(err, &p) {
		code := map[finding.Code]finding.Code{
			finding.NameNotFound: finding.TunnelHopNotFound, finding.NameSilent: finding.TunnelSilent, finding.NameLookupFailed: finding.TunnelHopNotFound,
			finding.PortRefused: finding.TunnelRefused, finding.PortSilent: finding.TunnelSilent, finding.PortUnreachable: finding.TunnelUnreachable, finding.PortReset: finding.TunnelDropped,
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

// DialContext connects from the hop, to a TCP address or to a socket there. Its error is a *finding.Problem: what the hop said of the
// address, or that it forbids forwarding.
func (c *client) DialContext(ctx context.Context, network, address string) (net.Conn, error) {
	conn, err := c.client.DialContext(ctx, network, address)
	if stream, is := conn.(route.Stream); err == nil && is { // a channel of the library's has no deadlines, and its Close wakes nobody
		return route.NewTimed(stream, conn.LocalAddr(), conn.RemoteAddr()), nil
	}
	if err == nil {
		_ = conn.Close()
		err = errors.New("a forwarded connection of an unknown kind")
	}
	return nil, c.hop.forwarded(ctx, network, address, err)
}

// forwarded says what a hop's refusal of a forward means (RFC 4254, section 5.1). Which of several reasons it is, only the words tell.
func (a *attempt) forwarded(ctx context.Context, network, address string, err error) error {
	var refusal *ssh.OpenChannelError
	if !errors.As(err, &refusal) {
		if ctx.Err() != nil {
			return &finding.Problem{Code: finding.PortSilent, Err: err, Facts: finding.Facts{finding.FactBehind: a.Hop.String()}}
		}
		p := a.problem(finding.TunnelLost, nil)
		p.Err, p.Words = err, a.said(outside.Said(err.Error()))
		return p
	}
	words := strings.ToLower(refusal.Message)
	code := finding.PortUnknown
	switch {
	case refusal.Reason == ssh.Prohibited, refusal.Reason == ssh.UnknownChannelType:
		code = finding.TunnelForwardingForbidden
	case strings.Contains(words, "refused"):
		code = finding.PortRefused
	case strings.Contains(words, "timed out"), strings.Contains(words, "timeout"):
		code = finding.PortSilent
	case strings.Contains(words, "unreachable"), strings.Contains(words, "no route"):
		code = finding.PortUnreachable
	case strings.Contains(words, "name or service"), strings.Contains(words, "name resolution"), strings.Contains(words, "no address"), strings.Contains(words, "unknown host"),
		strings.Contains(words, "not known"), strings.Contains(words, "no such host"):
		code = finding.NameNotFound
	case network == "unix":
		code = finding.PortSocketMissing
	case refusal.Reason == ssh.ConnectionFailed:
		code = finding.PortRefused
	}
	p := &finding.Problem{Code: code, Err: err, Words: a.said(outside.Said(refusal.Message)), Facts: finding.Facts{finding.FactBehind: a.Hop.String()}}
	if code == finding.TunnelForwardingForbidden {
		p.Facts = a.problem(code, finding.Facts{finding.FactTo: address}).Facts
	}
	return p
}
