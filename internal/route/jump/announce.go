package jump

import (
	"context"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
)

// announcing is the request with which a hop announces its keys after a login, and proving the
// one that asks it to prove that it has them (OpenSSH's PROTOCOL, section 2.5).
const (
	announcing = "hostkeys-00@openssh.com"
	proving    = "hostkeys-prove-00@openssh.com"
)

// maxAnnounced is how many keys a hop may announce.
const maxAnnounced = 16

// announced learns the further keys of a hop that was proven by a key which the user's or this
// program's own file has, once the hop has proved that it has them: then a later change of its
// keys raises no alarm. A hop that was proven by a certificate teaches nothing: its plain key
// would be believed after the certificate has ended. A connection has one announcement; what
// comes after it is dropped.
func (a *attempt) announced(payload []byte, conn ssh.Conn) {
	if a.heard || !a.teaches || a.Own == "" ||
		slices.Contains([]string{"no", "ask"}, strings.ToLower(a.settings.text("updatehostkeys"))) {
		return
	}
	a.heard = true
	var fresh []ssh.PublicKey
	var ask []byte
	for rest := payload; len(rest) > 0 && len(fresh) < maxAnnounced; {
		var one struct {
			Key  []byte
			Rest []byte `ssh:"rest"`
		}
		if ssh.Unmarshal(rest, &one) != nil {
			return
		}
		rest = one.Rest
		key, err := ssh.ParsePublicKey(one.Key)
		if err != nil || !a.learnable(key) {
			continue
		}
		fresh = append(fresh, key)
		ask = append(ask, ssh.Marshal(struct{ Key []byte }{one.Key})...)
	}
	if len(fresh) == 0 {
		return
	}
	limit := a.ProofTime
	if limit <= 0 {
		limit = proofTime
	}
	ctx, cancel := context.WithTimeout(context.Background(), limit)
	go func() { // the answer comes over the same connection, whose requests are read by the caller
		defer cancel()
		ok, answer, err := conn.SendRequest(proving, true, ask)
		if err != nil || !ok || ctx.Err() != nil {
			return
		}
		var lines []string
		for _, key := range fresh {
			var one struct {
				Signature []byte
				Rest      []byte `ssh:"rest"`
			}
			var signature ssh.Signature
			if ssh.Unmarshal(answer, &one) != nil || ssh.Unmarshal(one.Signature, &signature) != nil {
				return
			}
			answer = one.Rest
			signed := ssh.Marshal(struct {
				Request string
				Session []byte
				Key     []byte
			}{proving, conn.SessionID(), key.Marshal()})
			if key.Verify(signed, &signature) == nil {
				lines = append(lines, Line(a.chain, key, noteAnnounced+" "+a.now().UTC().Format(time.RFC3339)))
			}
		}
		if len(lines) > 0 {
			_ = learnAnnounced(ctx, a.Own, a.chain, lines)
		}
	}()
}

// proofTime is how long a hop may take to prove the keys that it announces.
const proofTime = 10 * time.Second

// learnable reports whether an announced key would be of use: a plain one, of an algorithm that
// is accepted, not known and not revoked, and of a type about which the user's and the system's
// files say nothing.
func (a *attempt) learnable(key ssh.PublicKey) bool {
	if _, certified := key.(*ssh.Certificate); certified {
		return false
	}
	if accepted := a.trust.algorithms; accepted != nil &&
		!slices.ContainsFunc(accepted, func(name string) bool { return keyFormat(name) == key.Type() }) {
		return false
	}
	if verdict := a.trust.judge(key, a.now()).Verdict; verdict != Unknown && verdict != Changed {
		return false
	}
	return !slices.ContainsFunc(marked(a.trust.theirs, ""), func(line KnownKey) bool {
		return line.Key.Type() == key.Type()
	})
}
