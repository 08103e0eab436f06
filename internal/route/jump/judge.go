package jump

import (
	"context"
	"errors"
	"fmt"
	"net"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/route"
)

// knownHosts reads what is known of the host's keys, from all files together.
func (a *attempt) knownHosts() error {
	name := a.host
	if alias := a.settings.text("hostkeyalias"); alias != "" {
		name = strings.ToLower(alias)
	} else {
		name = hostName(name, a.port)
	}
	a.chain = chained(name, a.Before)
	list := func(directive string, usual ...string) ([]string, error) {
		word, said := a.settings.One[directive]
		if !said {
			return usual, nil
		}
		if strings.EqualFold(word.Text, "none") {
			return nil, nil
		}
		var paths []string
		for _, each := range strings.Fields(word.Text) {
			path, err := a.Config.World.expand(each, a.tokens())
			if err != nil {
				return nil, broken(word, "%v", err)
			}
			paths = append(paths, path)
		}
		return paths, nil
	}
	dir := filepath.Join(a.Config.World.Home, ".ssh")
	user, err := list("userknownhostsfile", filepath.Join(dir, "known_hosts"), filepath.Join(dir, "known_hosts2"))
	if err != nil {
		return err
	}
	global, err := list("globalknownhostsfile", "/etc/ssh/ssh_known_hosts", "/etc/ssh/ssh_known_hosts2")
	if err != nil {
		return err
	}
	if a.KnownHosts != "" {
		user = []string{a.KnownHosts}
	}
	var theirs, own HostKeys
	for _, path := range append(user, global...) {
		if err := theirs.Read(path); err != nil {
			return a.problem(finding.TunnelKnownHosts, finding.Facts{finding.FactFile: path, finding.FactDetail: err.Error()})
		}
	}
	if a.Own != "" {
		if err := own.Read(a.Own); err != nil {
			return a.problem(finding.TunnelKnownHosts, finding.Facts{finding.FactFile: a.Own, finding.FactDetail: err.Error()})
		}
	}
	a.lines = append(theirs.Of([]string{name}), own.Of([]string{a.chain})...)
	if len(a.lines) == 0 && strings.HasPrefix(name, "[") {
		// As in OpenSSH, a key that is known for the host's usual port is the host's.
		for _, line := range theirs.Of([]string{strings.ToLower(a.host)}) {
			if line.Marker == "" {
				a.lines = append(a.lines, line)
			}
		}
	}
	return nil
}

// judge decides whether a host's key is the right one. It runs before anything secret is sent.
func (a *attempt) judge(key ssh.PublicKey, via route.Dialer) error {
	a.key = key
	facts := finding.Facts{finding.FactFingerprint: key.Type() + " " + ssh.FingerprintSHA256(key)}
	if rsa, ok := key.(ssh.CryptoPublicKey); ok && key.Type() == ssh.KeyAlgoRSA {
		if bits, least := rsaBits(rsa), atoi(a.settings.text("requiredrsasize")); bits < least {
			facts[finding.FactDetail] = fmt.Sprintf("It is an RSA key of %d bits, and %s wants %d.", bits, a.settings.One["requiredrsasize"].Place(), least)
			return a.problem(finding.TunnelHostKeyRevoked, facts)
		}
	}
	principal := a.host
	if alias := a.settings.text("hostkeyalias"); alias != "" {
		principal = alias
	}
	verdict, lines := Judge(a.lines, principal, key, time.Now())
	for _, line := range lines {
		facts[finding.FactKnownKeys] += fmt.Sprintf("%s %s (%s:%d)", line.Key.Type(), ssh.FingerprintSHA256(line.Key), line.File, line.Line)
		facts[finding.FactKnownKeys] += "; "
	}
	facts[finding.FactKnownKeys] = strings.TrimSuffix(facts[finding.FactKnownKeys], "; ")
	switch verdict {
	case Known:
		a.known = true
		return nil
	case Revoked:
		return a.problem(finding.TunnelHostKeyRevoked, facts)
	case Changed:
		facts[finding.FactFile] = lines[0].File + ":" + strconv.Itoa(lines[0].Line)
		facts[finding.FactSince] = lines[0].Note
		return a.problem(finding.TunnelHostKeyChanged, facts)
	}
	if cert, ok := key.(*ssh.Certificate); ok {
		key = cert.Key // nobody knows its authority; its key is what can be known
		a.key = key
	}
	print := ssh.FingerprintSHA256(key)
	facts[finding.FactFingerprint] = key.Type() + " " + print
	facts[finding.FactAccept] = print
	if strict := a.settings.One["stricthostkeychecking"]; strings.EqualFold(strict.Text, "yes") {
		facts[finding.FactDetail] = "The configuration accepts no new keys (StrictHostKeyChecking yes, " + strict.Place() + ")."
		facts[finding.FactAccept] = ""
		return a.problem(finding.TunnelHostKeyUnknown, facts)
	}
	if slices.Contains(a.Accepted, print) {
		return a.learned(key)
	}
	question := HostKey{Hop: a.Hop.String(), Fingerprint: print, Type: key.Type(), Others: a.others(key, via)}
	facts[finding.FactOthers] = strings.Join(question.Others, "; ")
	if a.Accept == nil {
		return a.problem(finding.TunnelHostKeyUnknown, facts)
	}
	defer a.pause()()
	yes, err := a.Accept(a.asking(), question)
	if err != nil {
		a.failure = err
		return err
	}
	if !yes {
		return a.problem(finding.TunnelHostKeyUnknown, facts)
	}
	return a.learned(key)
}

// learned notes a key that was accepted.
func (a *attempt) learned(key ssh.PublicKey) error {
	if a.Own == "" {
		return nil
	}
	if err := learn(a.ctx, a.Own, Line(a.chain, key, "accepted "+time.Now().UTC().Format(time.RFC3339))); err != nil {
		return a.problem(finding.TunnelKnownHosts, finding.Facts{finding.FactFile: a.Own, finding.FactDetail: err.Error()})
	}
	return nil
}

// others asks a host for its keys of other types, by one further handshake for each, which ends once the key was shown.
func (a *attempt) others(seen ssh.PublicKey, via route.Dialer) []string {
	ctx, cancel := context.WithTimeout(a.ctx, 2*time.Second)
	defer cancel()
	var list []string
	for _, algorithm := range []string{ssh.KeyAlgoED25519, ssh.KeyAlgoECDSA256, ssh.KeyAlgoRSASHA512} {
		if keyFormat(algorithm) == seen.Type() || ctx.Err() != nil {
			continue
		}
		again := *a
		again.ctx = ctx
		conn, err := again.connect(via)
		if err != nil {
			return list
		}
		stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
		enough := errors.New("seen")
		config := &ssh.ClientConfig{HostKeyAlgorithms: []string{algorithm}, HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			list = append(list, key.Type()+" "+ssh.FingerprintSHA256(key))
			return enough
		}}
		_, _, _, _ = ssh.NewClientConn(conn, a.host, config)
		stop()
		_ = conn.Close()
	}
	return list
}

func atoi(text string) int {
	n, _ := strconv.Atoi(text)
	return n
}

func rsaBits(key ssh.CryptoPublicKey) int {
	type sized interface{ Size() int }
	if k, ok := key.CryptoPublicKey().(sized); ok {
		return 8 * k.Size()
	}
	return 1 << 20
}
