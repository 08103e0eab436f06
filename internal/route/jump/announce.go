package jump

import (
	"bytes"
	"context"
	"time"

	"golang.org/x/crypto/ssh"
)

// announced is the request with which a hop tells its keys after a login, and proving the one that asks it to prove that it has them
// (OpenSSH's PROTOCOL, section 2.5).
const (
	announced = "hostkeys-00@openssh.com"
	proving   = "hostkeys-prove-00@openssh.com"
)

// maxAnnounced is how many keys a hop may announce.
const maxAnnounced = 16

// announced learns the further keys of a hop whose key was known, once the hop has proved that it has them: then a later change of
// its keys raises no alarm.
func (a *attempt) announced(payload []byte, conn ssh.Conn) {
	if !a.known || a.Own == "" {
		return
	}
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
		if err != nil {
			continue
		}
		if verdict, _ := Judge(a.lines, a.host, key, time.Now()); verdict == Known || verdict == Revoked {
			continue
		}
		fresh = append(fresh, key)
		ask = append(ask, ssh.Marshal(struct{ Key []byte }{one.Key})...)
	}
	if len(fresh) == 0 {
		return
	}
	go func() { // the answer comes over the same connection, whose requests are read by the caller
		ok, answer, err := conn.SendRequest(proving, true, ask)
		if err != nil || !ok {
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
			if key.Verify(signed, &signature) != nil || bytes.Equal(key.Marshal(), a.key.Marshal()) {
				continue
			}
			lines = append(lines, Line(a.chain, key, "announced "+time.Now().UTC().Format(time.RFC3339)))
		}
		if len(lines) > 0 {
			_ = learn(context.Background(), a.Own, lines...)
		}
	}()
}
