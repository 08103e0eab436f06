package standin

import (
	"crypto/ed25519"
	"crypto/rand"
	"io"
	"sync"

	"golang.org/x/crypto/ssh"
)

// fickle is a host key that is another one from its second use on.
type fickle struct {
	ssh.Signer
	mu   sync.Mutex
	used bool
	next ssh.Signer
}

// newSigner makes a key.
func newSigner() ssh.Signer {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		panic(err) // the system's random numbers never fail
	}
	signer, err := ssh.NewSignerFromKey(private)
	if err != nil {
		panic(err)
	}
	return signer
}

func (f *fickle) now() ssh.Signer {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.used {
		return f.next
	}
	return f.Signer
}

// PublicKey gives the public part of the key of the moment.
func (f *fickle) PublicKey() ssh.PublicKey { return f.now().PublicKey() }

// Sign signs with it; from then on it is the other one.
func (f *fickle) Sign(rand io.Reader, data []byte) (*ssh.Signature, error) {
	signature, err := f.now().Sign(rand, data)
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.next == nil {
		f.next = newSigner()
	}
	f.used = true
	return signature, err
}

// What OpenSSH calls the announcement of host keys, and the request to prove them (its PROTOCOL,
// section 2.5).
const (
	announcing = "hostkeys-00@openssh.com"
	proof      = "hostkeys-prove-00@openssh.com"
)

// announce sends host keys after a login, and gives them all.
func (j *Jump) announce(conn ssh.Conn) map[string]ssh.Signer {
	keys := map[string]ssh.Signer{}
	go func() {
		for range j.config.Faults.Announce {
			key := newSigner()
			blob := key.PublicKey().Marshal()
			j.mu.Lock()
			keys[string(blob)] = key
			j.mu.Unlock()
			if _, _, err := conn.SendRequest(announcing, false, ssh.Marshal(struct{ Key []byte }{blob})); err != nil {
				return
			}
		}
	}()
	return keys
}

// answer proves the keys that it is asked for, or leaves every request without an answer.
func (j *Jump) answer(conn ssh.Conn, requests <-chan *ssh.Request, keys map[string]ssh.Signer) {
	for request := range requests {
		if request.Type != proof || !j.config.Faults.Proves {
			continue
		}
		j.mu.Lock()
		j.tried = append(j.tried, "asked for a proof")
		j.mu.Unlock()
		var answer []byte
		for rest := request.Payload; len(rest) > 0; {
			var one struct {
				Key  []byte
				Rest []byte `ssh:"rest"`
			}
			if ssh.Unmarshal(rest, &one) != nil {
				break
			}
			rest = one.Rest
			j.mu.Lock()
			key := keys[string(one.Key)]
			j.mu.Unlock()
			if key == nil {
				break
			}
			signature, err := key.Sign(rand.Reader, ssh.Marshal(struct {
				Request string
				Session []byte
				Key     []byte
			}{proof, conn.SessionID(), one.Key}))
			if err != nil {
				break
			}
			answer = append(answer, ssh.Marshal(struct{ Signature []byte }{ssh.Marshal(signature)})...)
		}
		_ = request.Reply(true, answer)
	}
}
