package jump

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/secret"
)

// maxBanner bounds what is kept of a hop's banner.
const maxBanner = 2 << 10

// maxAnswers is how many questions of a hop are answered.
const maxAnswers = 10

// config prepares the login: its algorithms, and what is offered one after the other.
func (a *attempt) config(p *purse) (*ssh.ClientConfig, error) {
	good, old := ssh.SupportedAlgorithms(), ssh.InsecureAlgorithms()
	a.banner = outside.NewHead(maxBanner)
	config := &ssh.ClientConfig{User: a.user, ClientVersion: "SSH-2.0-GentleHarbor",
		BannerCallback: func(text string) error {
			_, _ = io.WriteString(a.banner, text)
			return nil
		}}
	for _, each := range []struct {
		directive string
		into      *[]string
		good, old []string
	}{
		{"ciphers", &config.Ciphers, good.Ciphers, old.Ciphers}, {"macs", &config.MACs, good.MACs, old.MACs},
		{"kexalgorithms", &config.KeyExchanges, good.KeyExchanges, old.KeyExchanges},
		{"hostkeyalgorithms", &config.HostKeyAlgorithms, good.HostKeys, old.HostKeys},
	} {
		word := a.settings.One[each.directive]
		*each.into = chosen(word.Text, each.good, each.old)
		if len(*each.into) == 0 {
			return nil, a.problem(finding.TunnelNoAlgorithm,
				finding.Facts{finding.FactDetail: each.directive,
					finding.FactWanted: word.Text + " (" + word.Place() + ")",
					finding.FactFound:  strings.Join(each.good, ", ")})
		}
	}
	if !said(a.settings, "hostkeyalgorithms") {
		config.HostKeyAlgorithms = algorithms(a.trust.deciding(), preferred(config.HostKeyAlgorithms))
	}
	if limit := a.settings.One["rekeylimit"]; len(limit.Args) > 0 {
		config.RekeyThreshold = size(limit.Args[0])
	}
	config.AuthCallback = func(at *ssh.ClientAuthContext) (ssh.AuthMethod, error) { return a.next(at, p) }
	return config, nil
}

func said(s Settings, directive string) bool { _, is := s.One[directive]; return is }

// size reads a number of bytes with K, M or G behind it; 0 for what is none.
func size(text string) uint64 {
	unit := uint64(1)
	if n := len(text); n > 0 {
		switch text[n-1] {
		case 'k', 'K':
			unit = 1 << 10
		case 'm', 'M':
			unit = 1 << 20
		case 'g', 'G':
			unit = 1 << 30
		}
		if unit > 1 {
			text = text[:n-1]
		}
	}
	n, err := strconv.ParseUint(text, 10, 32)
	if err != nil {
		return 0
	}
	return n * unit
}

// errNothing ends a login for which nothing is left to offer.
var errNothing = errors.New("there is nothing left to offer")

// next gives what is offered next, of the methods that the hop takes now.
func (a *attempt) next(at *ssh.ClientAuthContext, p *purse) (ssh.AuthMethod, error) {
	a.wants = at.AllowedMethods
	if a.failure != nil {
		return nil, a.failure
	}
	order := []string{"publickey", "keyboard-interactive", "password"}
	if text := a.settings.text("preferredauthentications"); text != "" {
		order = strings.Split(text, ",")
	}
	for _, method := range order {
		if !slices.Contains(at.AllowedMethods, method) || a.off(method) {
			continue
		}
		switch method {
		case "publickey":
			for len(p.list) > 0 {
				c := p.list[0]
				p.list = p.list[1:]
				if c.open != nil {
					var err error
					if c.signer, err = c.open(); err != nil {
						a.failure = err
						return nil, err
					}
				}
				if c.signer = a.narrowed(c.signer); c.signer == nil {
					continue
				}
				a.offered = append(a.offered, c.from+" ("+c.signer.PublicKey().Type()+" "+Fingerprint(c.signer.PublicKey())+")")
				a.how = c.from
				return ssh.PublicKeys(c.signer), nil
			}
		case "keyboard-interactive":
			if slices.Contains(at.TriedMethods, method) || a.answer() == nil && a.Password == nil {
				continue
			}
			a.how = "answers to its questions"
			return ssh.KeyboardInteractive(a.answers()), nil
		case "password":
			if slices.Contains(at.TriedMethods, method) || a.Password == nil {
				continue
			}
			word, source, err := a.password()
			if err != nil {
				return nil, err
			}
			if !word.Given() {
				continue
			}
			a.offered = append(a.offered, "the password, "+source.String())
			a.how = "a password"
			return ssh.Password(word.Reveal()), nil
		}
	}
	return nil, errNothing
}

// answer asks a person a question of the hop's; nil where nobody is to be asked.
func (a *attempt) answer() func(ctx context.Context, question string, shown bool) (secret.Secret, error) {
	if a.asksNobody() {
		return nil
	}
	return a.Answer
}

// off reports whether the configuration switches a method off.
func (a *attempt) off(method string) bool {
	for directive, of := range map[string]string{"pubkeyauthentication": "publickey",
		"passwordauthentication": "password", "kbdinteractiveauthentication": "keyboard-interactive",
		"challengeresponseauthentication": "keyboard-interactive"} {
		if of == method && strings.EqualFold(a.settings.text(directive), "no") {
			return true
		}
	}
	return false
}

// narrowed gives a signer that uses the algorithms which the configuration accepts, and keys of a
// size that it accepts; nil where it accepts none of this key's.
func (a *attempt) narrowed(signer ssh.Signer) ssh.Signer {
	if signer == nil {
		return nil
	}
	if bits := bitsOf(signer.PublicKey()); bits > 0 && bits < a.trust.bits {
		return nil
	}
	text := a.settings.text("pubkeyacceptedalgorithms")
	if text == "" {
		text = a.settings.text("pubkeyacceptedkeytypes")
	}
	if text == "" {
		return signer
	}
	var use []string
	for _, name := range chosen(text, certifiable(ssh.SupportedAlgorithms().PublicKeyAuths),
		certifiable(ssh.InsecureAlgorithms().PublicKeyAuths)) {
		if keyFormat(name) == signer.PublicKey().Type() {
			use = append(use, name)
		}
	}
	if len(use) == 0 {
		return nil
	}
	if many, ok := signer.(ssh.AlgorithmSigner); ok && keyFormat(use[0]) == ssh.KeyAlgoRSA {
		if narrow, err := ssh.NewSignerWithAlgorithms(many, use); err == nil {
			return narrow
		}
	}
	return signer
}

// password asks for the hop's password. One that nobody has is none.
func (a *attempt) password() (secret.Secret, secret.Source, error) {
	ctx, cancel := a.asking()
	defer cancel()
	resume := a.pause()
	word, source, err := a.Password(ctx, a.user, a.port)
	resume()
	var p *finding.Problem
	if errors.As(err, &p) {
		if p.Code == finding.SecretNone || p.Code == finding.SecretNobodyToAsk {
			return secret.Secret{}, secret.Source{}, nil
		}
		a.failure = p
		return word, source, p
	}
	if err != nil {
		a.failure = err
	}
	a.sent = append(a.sent, word)
	return word, source, err
}

// answers answers the hop's questions: a single hidden one with the password that is kept, others
// by a person.
func (a *attempt) answers() ssh.KeyboardInteractiveChallenge {
	asked, used := 0, false
	return func(name, instruction string, questions []string, shown []bool) ([]string, error) {
		if asked += len(questions); asked > maxAnswers {
			return nil, fmt.Errorf("the hop asks too many questions")
		}
		answers := make([]string, len(questions))
		for i, question := range questions {
			if !shown[i] && len(questions) == 1 && !used && a.Password != nil {
				used = true
				word, source, err := a.password()
				if err != nil {
					return nil, err
				}
				if word.Given() {
					a.offered = append(a.offered, "the password, "+source.String())
					answers[i] = word.Reveal()
					continue
				}
			}
			if a.answer() == nil {
				return nil, errNothing
			}
			text := strings.TrimSpace(a.veil().Text(name) + " " + a.veil().Text(instruction) + " " + a.veil().Text(question))
			ctx, cancel := a.asking()
			resume := a.pause()
			word, err := a.Answer(ctx, a.Hop.String()+" asks: "+clip(text), shown[i])
			resume()
			cancel()
			if err != nil {
				a.failure = err
				return nil, err
			}
			answers[i] = word.Reveal()
			if !shown[i] {
				a.sent = append(a.sent, word)
			}
		}
		if len(questions) > 0 {
			a.offered = append(a.offered, "answers to its questions")
		}
		return answers, nil
	}
}

func clip(text string) string {
	if r := []rune(text); len(r) > 300 {
		return string(r[:300]) + "…"
	}
	return text
}

// Keeping alive: a login that does not answer for as long as three of these is taken for lost.
const (
	heartbeat = 10 * time.Second
	heartMax  = 15 * time.Second
)

// newClient watches over a login until it ends.
func newClient(a *attempt, inner *ssh.Client, requests <-chan *ssh.Request, conn ssh.Conn) *client {
	c := &client{hop: a, client: inner, lost: make(chan struct{})}
	go func() { // the hop's own requests, such as its keys after the login
		for r := range requests {
			if r.Type == announcing {
				a.announced(r.Payload, conn)
			}
			if r.WantReply {
				_ = r.Reply(false, nil)
			}
		}
	}()
	go func() {
		_ = inner.Wait()
		close(c.lost)
	}()
	go c.beat()
	return c
}

// beat asks the hop for a sign of life, and ends the login when none comes.
func (c *client) beat() {
	ticker := time.NewTicker(heartbeat)
	defer ticker.Stop()
	for {
		select {
		case <-c.lost:
			return
		case <-ticker.C:
		}
		timer := time.AfterFunc(heartMax, func() { _ = c.client.Close() })
		_, _, err := c.client.SendRequest("keepalive@openssh.com", true, nil)
		timer.Stop()
		if err != nil {
			_ = c.client.Close()
			return
		}
	}
}
