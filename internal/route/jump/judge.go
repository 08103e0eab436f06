package jump

import (
	"bytes"
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
	"gentle-harbor/internal/shell"
)

// knownHosts reads what is known of the host's keys, from all files together, and how strict the
// configuration is about them.
func (a *attempt) knownHosts() error {
	host, alias := strings.ToLower(a.host), a.settings.text("hostkeyalias")
	name, bare := hostName(host, a.port), host
	a.trust = trust{principal: host, bits: leastRSA,
		signing: chosen(a.settings.text("casignaturealgorithms"), signing, ssh.InsecureAlgorithms().PublicKeyAuths)}
	if alias != "" {
		name, bare, a.trust.principal = strings.ToLower(alias), "", alias
	}
	if word := a.settings.One["requiredrsasize"]; word.Text != "" {
		bits, err := strconv.Atoi(word.Text)
		if err != nil || bits < leastRSA {
			return broken(word, "RequiredRSASize is a number of bits from %d", leastRSA)
		}
		a.trust.bits = bits
	}
	if word := a.settings.One["hostkeyalgorithms"]; word.Text != "" {
		a.trust.algorithms = chosen(word.Text, ssh.SupportedAlgorithms().HostKeys, ssh.InsecureAlgorithms().HostKeys)
	}
	a.chain = a.ownName()
	dir := filepath.Join(a.Config.World.Home, ".ssh")
	user, err := a.filesOf("userknownhostsfile", filepath.Join(dir, "known_hosts"), filepath.Join(dir, "known_hosts2"))
	if err != nil {
		return err
	}
	global, err := a.filesOf("globalknownhostsfile", a.Config.World.machine("ssh_known_hosts"),
		a.Config.World.machine("ssh_known_hosts2"))
	if err != nil {
		return err
	}
	if a.KnownHosts != "" {
		user = []string{a.KnownHosts}
	}
	a.userFiles = user
	for _, path := range slices.Concat(user, global) {
		if err := a.theirs.Read(path); err != nil {
			return a.problem(finding.TunnelKnownHosts, finding.Facts{finding.FactFile: path, finding.FactDetail: err.Error()})
		}
	}
	var own HostKeys
	if a.Own != "" {
		if err := own.ReadLearned(a.Own); err != nil {
			// It matters only for a host that the other files do not know.
			a.ownUnread = a.problem(finding.TunnelKnownHosts,
				finding.Facts{finding.FactFile: a.Own, finding.FactDetail: err.Error()})
		}
	}
	for _, each := range []struct {
		keys HostKeys
		name string
		into *[]KnownKey
	}{{a.theirs, name, &a.trust.theirs}, {own, a.chain, &a.trust.own}, {a.theirs, bare, &a.trust.bare}} {
		if each.name == "" || each.into == &a.trust.bare && bare == name {
			continue
		}
		if *each.into, err = each.keys.Of(each.name); err != nil {
			return a.problem(finding.TunnelKnownHosts,
				finding.Facts{finding.FactFile: strings.Join(user, ", "), finding.FactDetail: err.Error()})
		}
	}
	return nil
}

// ownName gives the host's name in this program's own file.
func (a *attempt) ownName() string { return chained(strings.ToLower(hostNameOf(a)), a.Before) }

// filesOf gives the files of known hosts that a directive names. Each word is a path, no matter
// which spaces it has in quotation marks.
func (a *attempt) filesOf(directive string, usual ...string) ([]string, error) {
	word, said := a.settings.One[directive]
	if !said {
		return usual, nil
	}
	var paths []string
	for _, each := range word.Args {
		if strings.EqualFold(each, "none") {
			continue
		}
		path := each
		if directive == "userknownhostsfile" { // the other one has no tokens in OpenSSH
			var err error
			if path, err = a.Config.World.expand(each, a.tokens()); err != nil {
				return nil, broken(word, "%v", err)
			}
		}
		if !filepath.IsAbs(path) {
			return nil, broken(word, "%q is no absolute path, so that it would be another file in each folder", path)
		}
		paths = append(paths, path)
	}
	return paths, nil
}

// pinned judges the key that a host shows first, and from then on lets no other one pass: a key
// exchange in the middle of a connection is no time for questions, and no new trust comes of it.
func (a *attempt) pinned(key ssh.PublicKey, via route.Dialer) error {
	blob := key.Marshal()
	if a.pin == nil {
		if err := a.judge(key, via); err != nil {
			return err
		}
		a.pin = blob
		return nil
	}
	if !bytes.Equal(a.pin, blob) {
		return errOtherKey
	}
	return nil
}

var errOtherKey = errors.New("the hop showed another host key in the middle of the connection")

func (a *attempt) now() time.Time {
	if a.Clock != nil {
		return a.Clock()
	}
	return time.Now()
}

// judge decides whether a host's key is the right one. It runs before anything secret is sent.
func (a *attempt) judge(key ssh.PublicKey, via route.Dialer) error {
	a.key = key
	found := a.trust.judge(key, a.now())
	facts := finding.Facts{finding.FactFingerprint: kind(key) + " " + Fingerprint(key), finding.FactDetail: found.why}
	var known []string
	for _, line := range found.by {
		known = append(known, fmt.Sprintf("%s %s (%s:%d)", line.Key.Type(), Fingerprint(line.Key), line.File, line.Line))
	}
	facts[finding.FactKnownKeys] = strings.Join(known, "; ")
	if code := map[Verdict]finding.Code{
		Revoked: finding.TunnelHostKeyRevoked, Weak: finding.TunnelHostKeyRevoked,
		CertificateEnded: finding.TunnelHostCertificateEnded, CertificateName: finding.TunnelHostCertificateName,
		CertificateStrange: finding.TunnelHostCertificateAuthority, CertificateUnfit: finding.TunnelHostCertificateUnfit,
	}[found.Verdict]; code != "" {
		facts[finding.FactFile] = a.certificateFile()
		return a.problem(code, facts)
	}
	switch found.Verdict {
	case Known:
		a.known = !a.News.has(plain(key))
		line := found.by[0]
		_, certified := key.(*ssh.Certificate)
		a.teaches = a.known && !certified && (line.File == a.Own || slices.Contains(a.userFiles, line.File))
		return nil
	case Changed:
		line := found.by[0]
		facts[finding.FactFile] = line.File + ":" + strconv.Itoa(line.Line)
		facts[finding.FactSince] = line.Note
		if line.File == a.Own {
			facts[finding.FactForget] = HopOf(a.chain)
		} else {
			facts[finding.FactForgetElsewhere] = "ssh-keygen -f " + shell.Word(line.File) + " -R " + shell.Word(hostNameOf(a))
		}
		return a.problem(finding.TunnelHostKeyChanged, facts)
	}
	if a.ownUnread != nil {
		return a.ownUnread
	}
	print := Fingerprint(key)
	facts[finding.FactAccept] = print
	if strict := a.settings.One["stricthostkeychecking"]; strings.EqualFold(strict.Text, "yes") {
		facts[finding.FactDetail] = "The configuration accepts no new keys (StrictHostKeyChecking yes, " +
			strict.Place() + ")."
		facts[finding.FactAccept] = ""
		return a.problem(finding.TunnelHostKeyUnknown, facts)
	}
	if slices.Contains(a.Accepted, print) {
		return a.learned(key)
	}
	facts[finding.FactAcceptedOthers] = strings.Join(a.Accepted, ", ")
	question := HostKey{Hop: a.Hop.String(), Fingerprint: print, Type: key.Type(), Others: a.others(key, via),
		Given: a.Accepted}
	facts[finding.FactOthers] = strings.Join(question.Others, "; ")
	if a.Accept == nil || a.asksNobody() {
		return a.problem(finding.TunnelHostKeyUnknown, facts)
	}
	defer a.pause()()
	ctx, cancel := a.asking()
	defer cancel()
	yes, err := a.Accept(ctx, question)
	if err == nil {
		err = a.ctx.Err() // an answer that came too late
	}
	if err != nil {
		if a.ctx.Err() == nil { // else the handshake has failed meanwhile, and that is what is said
			a.failure = err
		}
		return err
	}
	if !yes {
		return a.problem(finding.TunnelHostKeyUnknown, facts)
	}
	return a.learned(key)
}

// kind gives the type of a key, for a certificate that of the key in it.
func kind(key ssh.PublicKey) string { return plain(key).Type() }

// hostNameOf gives the name that a hop has in the user's files of known hosts.
func hostNameOf(a *attempt) string {
	if alias := a.settings.text("hostkeyalias"); alias != "" {
		return alias
	}
	return hostName(a.host, a.port)
}

// certificateFile gives the file in which the authority of the hop's certificates would be said.
func (a *attempt) certificateFile() string {
	if len(a.userFiles) > 0 {
		return a.userFiles[0]
	}
	return a.Own
}

// learned notes a key that was accepted.
func (a *attempt) learned(key ssh.PublicKey) error {
	a.News.add(key)
	if a.Own == "" {
		return nil
	}
	if err := learn(a.ctx, a.Own, Line(a.chain, key, noteAccepted+" "+a.now().UTC().Format(time.RFC3339))); err != nil {
		return a.problem(finding.TunnelKnownHosts, finding.Facts{finding.FactFile: a.Own, finding.FactDetail: err.Error()})
	}
	return nil
}

// others asks a host for its keys of other types, by one further handshake for each, which ends
// once the key was shown.
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
		turn, enough := &turn{}, errors.New("seen")
		config := &ssh.ClientConfig{HostKeyAlgorithms: []string{algorithm},
			HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
				return turn.take(func() error {
					list = append(list, key.Type()+" "+Fingerprint(key))
					return enough
				})
			}}
		_, _, _, _ = ssh.NewClientConn(conn, a.host, config)
		turn.end()
		stop()
		_ = conn.Close()
	}
	return list
}
