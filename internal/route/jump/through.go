package jump

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/route"
)

// Through logs in to the hop. Its error is a *finding.Problem of the leg "tunnel", or that of
// asking a person.
func (h *Hop) Through(ctx context.Context, via route.Dialer) (*route.Passed, error) {
	began := time.Now()
	a := &attempt{Hop: h, ctx: ctx}
	var asked time.Duration
	if pause := h.Pause; pause != nil {
		counting := *h
		counting.Pause = func() func() {
			from, resume := time.Now(), pause()
			return func() { asked += time.Since(from); resume() }
		}
		a.Hop = &counting
	}
	client, err := a.login(via)
	if err != nil {
		var p *finding.Problem
		if errors.As(err, &p) && p.Facts[finding.FactHop] == "" {
			named := *p
			named.Facts = a.problem(p.Code, p.Facts).Facts
			return nil, &named
		}
		return nil, err
	}
	saw := fmt.Sprintf("%s in %d ms, host key %s %s, as %s with %s", h.String(),
		(time.Since(began) - asked).Milliseconds(), kind(a.key), Fingerprint(a.key), a.user, a.how)
	if !a.known {
		saw += " (the host key was accepted just now)"
	}
	return &route.Passed{Dialer: client, Close: client.Close, Lost: client.lost, Name: h.String(), Saw: saw,
		Known: a.known}, nil
}

// login connects, and logs in.
func (a *attempt) login(via route.Dialer) (*client, error) {
	if err := a.decide(); err != nil {
		return nil, err
	}
	conn, err := a.connect(via)
	if err != nil {
		return nil, err
	}
	met := &recorded{Conn: conn}
	stop := context.AfterFunc(a.ctx, func() { _ = conn.Close() })
	defer stop()
	purse := &purse{hop: a, settings: a.settings, user: a.user, tokens: a.tokens()}
	if err := purse.fill(a.ctx); err != nil {
		_ = conn.Close()
		purse.close()
		return nil, err
	}
	defer purse.close()
	config, err := a.config(purse)
	if err != nil {
		_ = conn.Close()
		return nil, err
	}
	turn, whole := &turn{}, a.ctx
	config.HostKeyCallback = func(_ string, _ net.Addr, key ssh.PublicKey) error {
		return turn.take(func() error { return a.pinned(key, via) })
	}
	var cancel context.CancelFunc
	a.ctx, cancel = context.WithCancel(whole)
	session, channels, requests, err := ssh.NewClientConn(met, net.JoinHostPort(a.host, strconv.Itoa(a.port)), config)
	cancel() // a question that is still asked has no use
	if err != nil {
		_ = conn.Close()
		turn.end()
		a.ctx = whole
		return nil, a.means(err, met, purse, via)
	}
	a.ctx = whole
	none := make(chan *ssh.Request) // we answer the hop's requests ourselves
	close(none)
	return newClient(a, ssh.NewClient(session, channels, none), requests, session), nil
}

// decide reads the configuration for the hop, and what is known of its keys.
func (a *attempt) decide() error {
	if err := a.aim(); err != nil {
		return err
	}
	return a.knownHosts()
}

// aim reads where the configuration leads to: host, port and user.
func (a *attempt) aim() error {
	var err error
	if a.settings, err = a.Config.For(a.Host, a.User); err != nil {
		return err
	}
	a.host, a.port, a.user = a.Host, a.Hop.Port, a.User
	if word := a.settings.One["hostname"]; word.Text != "" {
		name, err := a.Config.World.expand(word.Text, map[byte]string{'h': a.Host, 'n': a.Host})
		if err != nil {
			return broken(word, "%v", err)
		}
		a.host = name
	}
	if word := a.settings.One["port"]; a.port == 0 && word.Text != "" {
		if a.port, err = strconv.Atoi(word.Text); err != nil || a.port < 1 || a.port > 65535 {
			return broken(word, "%q is no port", word.Text)
		}
	}
	if a.port == 0 {
		a.port = 22
	}
	if a.user == "" {
		a.user = a.settings.text("user")
	}
	if a.user == "" {
		a.user = a.Config.World.User
	}
	return nil
}

// maxFirst is how many of a server's first bytes are looked at, and at most how long lines before
// its version may be.
const maxFirst = 8 << 10

// recorded is a connection whose first bytes are kept, and that ends when a server never comes to
// its version.
type recorded struct {
	net.Conn
	mu    sync.Mutex
	first *outside.Head
}

// Read reads.
func (r *recorded) Read(p []byte) (int, error) {
	n, err := r.Conn.Read(p)
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.first == nil {
		r.first = outside.NewHead(maxFirst)
	}
	_, _ = r.first.Write(p[:n])
	if r.first.Full() && !speaksSSH(r.first.Raw()) {
		return 0, errNotSSH
	}
	return n, err
}

func (r *recorded) begin() outside.Raw {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.first == nil {
		return outside.Raw{}
	}
	return r.first.Raw()
}

var errNotSSH = errors.New("no version of SSH came")

// speaksSSH reports whether first bytes have a line with SSH's version (RFC 4253, section 4.2).
func speaksSSH(first outside.Raw) bool {
	return strings.HasPrefix(first.Bare(), "SSH-") || strings.Contains(first.Bare(), "\nSSH-")
}

// means says what the error of a handshake or a login is about.
func (a *attempt) means(err error, met *recorded, purse *purse, via route.Dialer) error {
	if a.failure != nil {
		return a.failure
	}
	var known *finding.Problem
	if errors.As(err, &known) {
		return known
	}
	first, text := met.begin(), err.Error()
	if a.ctx.Err() != nil {
		did := "accepts connections, and then says nothing"
		switch {
		case speaksSSH(first):
			did = "says that it is an SSH server, and does not go on"
		case first.Empty():
			if p := a.other(first, via); p != nil {
				return p
			}
		}
		p := a.problem(finding.TunnelStalled, finding.Facts{finding.FactWhat: did})
		p.Err = err
		return p
	}
	var none *ssh.AlgorithmNegotiationError
	switch {
	case first.Empty():
		if p := a.other(first, via); p != nil {
			return p
		}
		return a.problem(finding.TunnelDropped, nil)
	case !speaksSSH(first):
		shown := a.veil().Short(first, 80)
		if strings.Contains(shown, "MaxStartups") || strings.Contains(strings.ToLower(shown), "not allowed at this time") {
			return a.problem(finding.TunnelDropped, finding.Facts{finding.FactDetail: shown})
		}
		p := a.other(first, via)
		if p == nil {
			p = a.problem(finding.TunnelNotSSH, finding.Facts{finding.FactWhat: "no SSH server"})
		}
		p.Set(finding.FactFirst, fmt.Sprintf("%q", shown))
		return p
	case errors.As(err, &none):
		return a.problem(finding.TunnelNoAlgorithm,
			finding.Facts{finding.FactDetail: none.What,
				finding.FactWanted: strings.Join(none.SupportedAlgorithms, ", "),
				finding.FactFound:  strings.Join(none.RequestedAlgorithms, ", ")})
	case strings.Contains(text, "Too many authentication failures"):
		return a.refused(finding.TunnelTooManyKeys, text, purse)
	case purse.agentRefuse != "":
		return a.refused(finding.TunnelAgentRefused, purse.agentRefuse, purse)
	case a.wants != nil:
		code := finding.TunnelLoginRefused
		p := a.refused(code, "", purse)
		if len(purse.troubles) > 0 {
			// What kept a key or a certificate from being offered is the better explanation.
			worst := purse.troubles[0]
			for name, value := range worst.Facts {
				p.Facts[name] = value
			}
			p.Code = worst.Code
		}
		return p
	}
	p := a.problem(finding.TunnelLost, nil)
	p.Err, p.Words = err, a.said(outside.Said(text))
	return p
}

// otherTime is how long what does not speak SSH is asked what it is.
const otherTime = 900 * time.Millisecond

// other is the problem of a service of another kind at the hop's address, nil where that is not
// known. Where it said nothing it is asked once more, after the time of the leg too, but not for
// a person who does not wait for it, and not through a program that leads to the hop.
func (a *attempt) other(first outside.Raw, via route.Dialer) *finding.Problem {
	line, _, err := a.commandLine()
	if a.Who == nil || errors.Is(context.Cause(a.ctx), context.Canceled) || err != nil ||
		line != "" && via == nil && first.Empty() {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(a.ctx), otherTime)
	defer cancel()
	who := a.Who(ctx, first.Bare(), func(ctx context.Context) (net.Conn, error) {
		again := *a
		again.ctx = ctx
		return again.connect(via)
	})
	if who == "" {
		return nil
	}
	p := a.problem(finding.TunnelNotSSH,
		finding.Facts{finding.FactFound: who, finding.FactWhat: who + ", not an SSH server"})
	if first.Empty() {
		p.Tried = []string{"it did not answer the words of SSH; asked in the words of another protocol, it answers as " + who}
	}
	return p
}

// refused describes a login that the hop did not accept.
func (a *attempt) refused(code finding.Code, words string, purse *purse) *finding.Problem {
	offered := strings.Join(a.offered, "; ")
	if offered == "" {
		offered = "nothing, since no key, no agent and no password was found"
		if len(purse.troubles) > 0 {
			offered = "nothing, since what was found could not be used"
		}
	}
	p := a.problem(code, finding.Facts{finding.FactWants: strings.Join(a.wants, ", "), finding.FactOffered: offered})
	p.Words = a.said(outside.Said(words))
	if a.banner != nil && !a.banner.Raw().Empty() {
		p.Facts[finding.FactBanner] = a.veil().Words(a.banner.Raw())
	}
	for _, each := range purse.troubles {
		p.Tried = append(p.Tried, strings.TrimSpace(each.Facts[finding.FactFile]+" was not offered: "+each.Facts[finding.FactDetail]))
	}
	return p
}
