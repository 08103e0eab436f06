//go:build unix

package jump

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/route"
	"gentle-harbor/internal/route/jump/jumptest"
	"gentle-harbor/internal/route/routetest"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/target"
)

const canary = "canary-7d41"

// bench is what a hop's test has: a real server, a home, and a hop that knows the server.
type bench struct {
	t    *testing.T
	sshd *jumptest.Server
	home string
	env  map[string]string
}

func newBench(t *testing.T, lines []string, keys ...string) *bench {
	b := &bench{t: t, sshd: jumptest.Start(t, lines, keys...), home: t.TempDir(), env: map[string]string{}}
	kind := "ed25519"
	if len(keys) > 0 {
		kind = keys[0]
	}
	write(t, filepath.Join(b.home, ".ssh", "known_hosts"), b.sshd.KnownLine(kind))
	return b
}

func (b *bench) key(name, kind, passphrase string) jumptest.Key {
	return jumptest.NewKey(b.t, filepath.Join(b.home, ".ssh", name), kind, passphrase)
}

func (b *bench) hop() *Hop {
	world := World{Home: b.home, User: b.sshd.User, Host: "here", Env: func(name string) (string, bool) {
		v, ok := b.env[name]
		return v, ok
	}, Environ: os.Environ()}
	return &Hop{Hop: target.Hop{Host: "127.0.0.1", Port: b.sshd.Port},
		Config: Config{User: filepath.Join(b.home, ".ssh", "config"), World: world},
		Own:    filepath.Join(b.home, "own-known")}
}

// through logs in and sends some bytes to an address through the hop; it gives the code of what
// failed, "" for nothing.
func (b *bench) through(h *Hop, via route.Dialer, to string) (code, saw string, p *finding.Problem) {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(b.t.Context(), 10*time.Second)
	defer cancel()
	passed, err := h.Through(ctx, via)
	if err == nil {
		defer passed.Close()
		saw = passed.Saw
		if to == "" {
			return "", saw, nil
		}
		var conn net.Conn
		network := "tcp"
		if strings.HasPrefix(to, "/") {
			network = "unix"
		}
		if conn, err = passed.DialContext(ctx, network, to); err == nil {
			defer conn.Close()
			_, _ = conn.Write([]byte("hut"))
			got := make([]byte, 3)
			if _, err := io.ReadFull(conn, got); err != nil || string(got) != "hut" {
				b.t.Errorf("what comes back: %q, %v", got, err)
			}
			return "", saw, nil
		}
	}
	if !errors.As(err, &p) {
		return err.Error(), saw, nil
	}
	if strings.Contains(fmt.Sprint(p.Facts, p.Words, p.Err, p.Tried), canary) {
		b.t.Errorf("a secret is shown: %v", p.Facts)
	}
	return string(p.Code), saw, p
}

// TestLogins logs in to a real server in each way that needs keys.
func TestLogins(t *testing.T) {
	port := routetest.Echo(t, "")
	to := fmt.Sprintf("127.0.0.1:%d", port)
	authority := jumptest.NewKey(t, filepath.Join(t.TempDir(), "ca"), "ed25519", "")
	authorityFile := write(t, filepath.Join(t.TempDir(), "ca.pub"), string(ssh.MarshalAuthorizedKey(authority.Public)))
	b := newBench(t, []string{"TrustedUserCAKeys " + authorityFile, "PasswordAuthentication no"})
	certificate := func(key jumptest.Key, from, until time.Duration, principals ...string) string {
		cert := &ssh.Certificate{Key: key.Public, CertType: ssh.UserCert, ValidPrincipals: principals,
			ValidAfter: uint64(time.Now().Add(from).Unix()), ValidBefore: uint64(time.Now().Add(until).Unix()),
			KeyId:       "test",
			Permissions: ssh.Permissions{Extensions: map[string]string{"permit-port-forwarding": ""}}}
		must(t, cert.SignCert(zeroReader{}, authority.Signer))
		return string(ssh.MarshalAuthorizedKey(cert))
	}
	phrase := func(word string) func(context.Context, string, bool) (secret.Secret, error) {
		return func(context.Context, string, bool) (secret.Secret, error) { return secret.New(word), nil }
	}
	for _, c := range []struct {
		name string
		make func(h *Hop)
		code string
		saw  string
	}{
		{"a usual key", func(h *Hop) {
			b.sshd.Admit(b.key("id_ed25519", "ed25519", "").Public)
		}, "", "with the key HOME/.ssh/id_ed25519"},
		{"an RSA key", func(h *Hop) { b.sshd.Admit(b.key("id_rsa", "rsa", "").Public) }, "", "id_rsa"},
		{"an ECDSA key that the hop names", func(h *Hop) {
			k := b.key("k", "ecdsa", "")
			b.sshd.Admit(k.Public)
			h.Key = k.Path
		}, "", "with the key HOME/.ssh/k"},
		{"a key of the configuration", func(h *Hop) {
			b.sshd.Admit(b.key("conf", "ed25519", "").Public)
			write(t, filepath.Join(b.home, ".ssh/config"), "IdentityFile ~/.ssh/conf\n")
		}, "", "HOME/.ssh/conf"},
		{"a key with a passphrase", func(h *Hop) {
			k := b.key("locked", "ed25519", canary)
			b.sshd.Admit(k.Public)
			h.Key, h.Passphrase = k.Path, phrase(canary)
		}, "", "locked"},
		{"a locked key in PEM's older form", func(h *Hop) {
			k := b.key("locked", "rsa", canary)
			b.sshd.Admit(k.Public)
			h.Key, h.Passphrase = k.Path, phrase(canary)
		}, "", "locked"},
		{"a wrong passphrase", func(h *Hop) {
			k := b.key("locked", "ed25519", canary)
			b.sshd.Admit(k.Public)
			h.Key, h.Passphrase = k.Path, phrase("wrong-"+canary)
		}, "tunnel.key-passphrase", ""},
		{"nobody to ask for the passphrase", func(h *Hop) {
			k := b.key("locked", "ed25519", canary)
			b.sshd.Admit(k.Public)
			h.Key = k.Path
		},
			"tunnel.key-passphrase", ""},
		{"a locked key that the hop does not know is not asked for", func(h *Hop) {
			b.key("id_ed25519", "ed25519", canary)
			h.Passphrase = func(context.Context, string, bool) (secret.Secret, error) {
				t.Error("it was asked for")
				return secret.Secret{}, nil
			}
		}, "tunnel.login-refused", ""},
		{"a key that nobody knows", func(h *Hop) { b.key("id_ed25519", "ed25519", "") }, "tunnel.login-refused", ""},
		{"no key at all", func(h *Hop) {}, "tunnel.login-refused", ""},
		{"a key file that is not there", func(h *Hop) { h.Key = "/no/such" }, "tunnel.key-missing", ""},
		{"a key that is open to others", func(h *Hop) {
			k := b.key("open", "ed25519", "")
			b.sshd.Admit(k.Public)
			h.Key = k.Path
			_ = os.Chmod(k.Path, 0o644)
		}, "tunnel.key-unsafe", ""},
		{"a usual key that is open to others", func(h *Hop) {
			k := b.key("id_ed25519", "ed25519", "")
			b.sshd.Admit(k.Public)
			_ = os.Chmod(k.Path, 0o644)
		}, "tunnel.key-unsafe", ""},
		{"no key in the file", func(h *Hop) { h.Key = write(t, filepath.Join(b.home, "text"), canary) },
			"tunnel.key-invalid", ""},
		{"a certificate", func(h *Hop) {
			k := b.key("carded", "ed25519", "")
			write(t, k.Path+"-cert.pub", certificate(k, -time.Hour, time.Hour, b.sshd.User))
			h.Key = k.Path
		}, "", "with the certificate HOME/.ssh/carded-cert.pub"},
		{"a certificate that is over", func(h *Hop) {
			k := b.key("carded", "ed25519", "")
			write(t, k.Path+"-cert.pub", certificate(k, -2*time.Hour, -time.Hour, b.sshd.User))
			h.Key = k.Path
		}, "tunnel.certificate", ""},
		{"a certificate that is not valid yet", func(h *Hop) {
			k := b.key("carded", "ed25519", "")
			write(t, k.Path+"-cert.pub", certificate(k, time.Hour, 2*time.Hour, b.sshd.User))
			h.Key = k.Path
		}, "tunnel.certificate", ""},
		{"a certificate for another", func(h *Hop) {
			k := b.key("carded", "ed25519", "")
			write(t, k.Path+"-cert.pub", certificate(k, -time.Hour, time.Hour, "steward"))
			h.Key = k.Path
		}, "tunnel.certificate", ""},
		{"an agent", func(h *Hop) {
			k := b.key("elsewhere", "ed25519", "")
			b.sshd.Admit(k.Public)
			b.env["SSH_AUTH_SOCK"] = jumptest.Agent(t, k)
		}, "", "with the agent's key"},
		{"a public key whose private one the agent has", func(h *Hop) {
			k := b.key("elsewhere", "rsa", "")
			b.sshd.Admit(k.Public)
			b.env["SSH_AUTH_SOCK"] = jumptest.Agent(t, b.key("wrong", "ed25519", ""), k)
			_ = os.Remove(k.Path)
			h.Key = k.Path + ".pub"
		}, "", "with the agent's key"},
		{"ten keys in an agent, the right one last", func(h *Hop) {
			var keys []jumptest.Key
			for i := range 10 {
				keys = append(keys, b.key(fmt.Sprintf("k%d", i), "ed25519", ""))
			}
			b.sshd.Admit(keys[9].Public)
			b.env["SSH_AUTH_SOCK"] = jumptest.Agent(t, keys...)
		}, "tunnel.too-many-keys", ""},
		{"the same, and the right one named", func(h *Hop) {
			var keys []jumptest.Key
			for i := range 10 {
				keys = append(keys, b.key(fmt.Sprintf("k%d", i), "ed25519", ""))
			}
			b.sshd.Admit(keys[9].Public)
			b.env["SSH_AUTH_SOCK"] = jumptest.Agent(t, keys...)
			h.Key = keys[9].Path + ".pub"
		}, "", "with the agent's key"},
		{"an empty agent", func(h *Hop) { b.env["SSH_AUTH_SOCK"] = jumptest.Agent(t) }, "tunnel.agent-empty", ""},
		{"no agent", func(h *Hop) { b.env["SSH_AUTH_SOCK"] = "/no/such/agent" }, "tunnel.agent-missing", ""},
		{"an agent that refuses to sign", func(h *Hop) {
			k := jumptest.NewKey(t, filepath.Join(t.TempDir(), "elsewhere"), "ed25519", "")
			b.sshd.Admit(k.Public)
			b.env["SSH_AUTH_SOCK"] = jumptest.AgentThatRefuses(t, k)
		}, "tunnel.agent-refused", ""},
		{"an agent that refuses to sign, and another key", func(h *Hop) {
			k := jumptest.NewKey(t, filepath.Join(t.TempDir(), "elsewhere"), "ed25519", "")
			b.sshd.Admit(k.Public)
			second := b.key("second", "ed25519", "")
			b.sshd.Admit(second.Public)
			b.env["SSH_AUTH_SOCK"] = jumptest.AgentThatRefuses(t, k)
			write(t, filepath.Join(b.home, ".ssh/config"), "IdentityFile "+k.Path+".pub\nIdentityFile "+second.Path+"\n")
		}, "", "second"},
		{"an agent that is switched off", func(h *Hop) {
			k := b.key("elsewhere", "ed25519", "")
			b.sshd.Admit(k.Public)
			b.env["SSH_AUTH_SOCK"] = jumptest.Agent(t, k)
			h.Agent = "none"
		}, "tunnel.login-refused", ""},
		{"a program of the configuration", func(h *Hop) {
			b.sshd.Admit(b.key("id_ed25519", "ed25519", "").Public)
			write(t, filepath.Join(b.home, ".ssh/config"),
				fmt.Sprintf("Host gate\n  HostName 127.0.0.1\n  Port %d\n  ProxyCommand /bin/bash -c 'exec "+
					"3<>/dev/tcp/%%h/%%p; cat <&3 & cat >&3'\n",
					b.sshd.Port))
			h.Host, h.Hop.Port = "gate", 0
		}, "", "gate in "},
		{"a key with limits that allow this", func(h *Hop) {
			b.sshd.Admit(b.key("id_ed25519", "ed25519", "").Public, "restrict", "port-forwarding", `permitopen="`+to+`"`)
		}, "", ""},
		{"a key with limits that allow another", func(h *Hop) {
			b.sshd.Admit(b.key("id_ed25519", "ed25519", "").Public, "restrict", "port-forwarding", `permitopen="10.0.0.1:1"`)
		}, "tunnel.forwarding-forbidden", ""},
		{"RekeyLimit, ciphers and others", func(h *Hop) {
			b.sshd.Admit(b.key("id_ed25519", "ed25519", "").Public)
			write(t, filepath.Join(b.home, ".ssh/config"),
				"RekeyLimit 16M\nCiphers aes128-ctr\nMACs +hmac-sha2-512\nKexAlgorithms "+
					"^curve25519-sha256\nPubkeyAcceptedAlgorithms -ssh-rsa\nAddressFamily inet\nBindAddress 127.0.0.1\n")
		}, "", ""},
		{"no cipher in common", func(h *Hop) {
			write(t, filepath.Join(b.home, ".ssh/config"), "Ciphers no-such-cipher\n")
		},
			"tunnel.no-common-algorithm", ""},
	} {
		b.sshd.Forget()
		must(t, os.RemoveAll(filepath.Join(b.home, ".ssh")))
		write(t, filepath.Join(b.home, ".ssh", "known_hosts"), b.sshd.KnownLine("ed25519"))
		clear(b.env)
		h := b.hop()
		c.make(h)
		code, saw, p := b.through(h, nil, to)
		if code != c.code || c.saw != "" && !strings.Contains(strings.ReplaceAll(saw, b.home, "HOME"), c.saw) {
			t.Errorf("%s: %q instead of %q, saw %q, %+v", c.name, code, c.code, saw, p)
		}
		if p != nil && p.Facts[finding.FactHop] == "" {
			t.Errorf("%s: the hop is not named: %v", c.name, p.Facts)
		}
	}
}

type zeroReader struct{}

func (zeroReader) Read(p []byte) (int, error) { clear(p); return len(p), nil }

func must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// TestTooManyStarting has a real server drop a connection since another one has not logged in yet.
func TestTooManyStarting(t *testing.T) {
	b := newBench(t, []string{"MaxStartups 1:100:1"})
	b.sshd.Admit(b.key("id_ed25519", "ed25519", "").Public)
	conn, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", b.sshd.Port))
	must(t, err)
	defer conn.Close()
	_, _ = conn.Read(make([]byte, 1)) // it has begun
	if code, _, p := b.through(b.hop(), nil, ""); code != "tunnel.dropped" {
		t.Errorf("%q: %+v", code, p)
	}
	_ = conn.Close()
	for range 100 {
		if code, _, _ := b.through(b.hop(), nil, ""); code == "" {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	t.Error("it does not let anybody in any more")
}

// TestHostKeys meets a real server whose keys are known, unknown, others, and revoked, in each
// form in which a file can have them.
func TestHostKeys(t *testing.T) {
	b := newBench(t, nil, "ed25519", "ecdsa", "rsa")
	b.sshd.Admit(b.key("id_ed25519", "ed25519", "").Public)
	other := jumptest.NewKey(t, filepath.Join(t.TempDir(), "other"), "ed25519", "")
	name := fmt.Sprintf("[127.0.0.1]:%d", b.sshd.Port)
	line := func(kind string) string { return b.sshd.KnownLine(kind) }
	plain := func(key ssh.PublicKey) string { return string(ssh.MarshalAuthorizedKey(key)) }
	print := ssh.FingerprintSHA256(b.sshd.Keys["ed25519"])
	yes := func(context.Context, HostKey) (bool, error) { return true, nil }
	for _, c := range []struct {
		name, known, config string
		make                func(h *Hop)
		code                string
	}{
		{"known", line("ed25519"), "", nil, ""},
		{"another of its keys known", line("rsa"), "", nil, ""},
		{"a third", line("ecdsa"), "", nil, ""},
		{"one of several", name + " " + plain(other.Public) + line("ed25519"), "", nil, ""},
		{"a bad line before", "no key at all\n|1|x|y ssh-rsa z\n" + line("ed25519"), "", nil, ""},
		{"a pattern", fmt.Sprintf("[127.0.0.*]:%d %s", b.sshd.Port, plain(b.sshd.Keys["ed25519"])), "", nil, ""},
		{"an excluded pattern", fmt.Sprintf("!%s,[127.0.0.*]:%d %s", name, b.sshd.Port,
			plain(b.sshd.Keys["ed25519"])), "", nil, "tunnel.host-key-unknown"},
		{"hashed", "HASHED", "", nil, ""},
		{"by an alias", "alias " + plain(b.sshd.Keys["ed25519"]), "HostKeyAlias alias\n", nil, ""},
		{"for the usual port", "127.0.0.1 " + plain(b.sshd.Keys["ed25519"]), "", nil, ""},
		{"in another file", "", "UserKnownHostsFile ~/more\n", func(h *Hop) {
			write(t, filepath.Join(b.home, "more"), line("ed25519"))
		}, ""},
		{"in the hop's own file", "", "", func(h *Hop) {
			h.KnownHosts = write(t, filepath.Join(b.home, "more"), line("ed25519"))
		}, ""},
		{"unknown, nobody to ask", "", "", nil, "tunnel.host-key-unknown"},
		{"unknown, accepted beforehand", "", "", func(h *Hop) { h.Accepted = []string{print} }, ""},
		{"unknown, another accepted beforehand", "", "", func(h *Hop) {
			h.Accepted = []string{ssh.FingerprintSHA256(other.Public)}
		}, "tunnel.host-key-unknown"},
		{"unknown, accepted by a person", "", "", func(h *Hop) { h.Accept = yes }, ""},
		{"unknown, refused by a person", "", "", func(h *Hop) {
			h.Accept = func(context.Context, HostKey) (bool, error) { return false, nil }
		},
			"tunnel.host-key-unknown"},
		{"the configuration would accept anything", "", "StrictHostKeyChecking no\n", nil, "tunnel.host-key-unknown"},
		{"the configuration accepts nothing", "", "StrictHostKeyChecking yes\n", func(h *Hop) {
			h.Accept, h.Accepted = yes, []string{print}
		}, "tunnel.host-key-unknown"},
		{"changed", name + " " + plain(other.Public), "", func(h *Hop) {
			h.Accept, h.Accepted = yes, []string{print}
		}, "tunnel.host-key-changed"},
		{"changed, the configuration does not mind", name + " " + plain(other.Public),
			"StrictHostKeyChecking no\n", nil, "tunnel.host-key-changed"},
		{"revoked", "@revoked * " + plain(b.sshd.Keys["ed25519"]) + line("ed25519"), "", func(h *Hop) {
			h.Accept = yes
		}, "tunnel.host-key-revoked"},
		{"open to others", line("ed25519"), "", func(h *Hop) {
			_ = os.Chmod(filepath.Join(b.home, ".ssh/known_hosts"), 0o666)
		}, "tunnel.known-hosts"},
	} {
		_ = os.Remove(filepath.Join(b.home, "own-known"))
		known := c.known
		if known == "HASHED" {
			known = hash(t, name) + " " + plain(b.sshd.Keys["ed25519"])
		}
		_ = os.Remove(filepath.Join(b.home, ".ssh/known_hosts"))
		write(t, filepath.Join(b.home, ".ssh/known_hosts"), known)
		write(t, filepath.Join(b.home, ".ssh/config"), c.config)
		h := b.hop()
		if c.make != nil {
			c.make(h)
		}
		code, saw, p := b.through(h, nil, "")
		if code != c.code {
			t.Errorf("%s: %q instead of %q, %+v", c.name, code, c.code, p)
		}
		if strings.Contains(c.name, "accepted b") && code == "" {
			// What was accepted is known the next time.
			again := b.hop()
			if code, saw, p := b.through(again, nil, ""); code != "" || strings.Contains(saw, "just now") {
				t.Errorf("%s, again: %q %s %v", c.name, code, saw, p)
			}
			if !strings.Contains(saw, "just now") {
				t.Errorf("%s: %s", c.name, saw)
			}
		}
	}
	// A person is shown the other keys too.
	must(t, os.Remove(filepath.Join(b.home, ".ssh/known_hosts")))
	_ = os.Remove(filepath.Join(b.home, "own-known"))
	h := b.hop()
	var asked HostKey
	h.Accepted = []string{ssh.FingerprintSHA256(b.sshd.Keys["rsa"])}
	h.Accept = func(_ context.Context, key HostKey) (bool, error) { asked = key; return false, nil }
	_, _, _ = b.through(h, nil, "")
	if asked.Fingerprint != print || !slices.Equal(asked.Given, h.Accepted) || len(asked.Others) != 2 ||
		!strings.Contains(strings.Join(asked.Others, " "), ssh.FingerprintSHA256(b.sshd.Keys["rsa"])) {
		t.Errorf("%+v", asked)
	}
}

func hash(t *testing.T, name string) string {
	t.Helper()
	return knownHash(name)
}

// TestChains goes through one, two and three real servers, and learns the same address behind two
// gates as two hosts.
func TestChains(t *testing.T) {
	port := routetest.Echo(t, "")
	first := newBench(t, nil)
	key := first.key("id_ed25519", "ed25519", "")
	first.sshd.Admit(key.Public)
	var before []target.Hop
	var via route.Dialer
	ctx := t.Context()
	for i := range 3 {
		b := first
		if i > 0 {
			b = &bench{t: t, sshd: jumptest.Start(t, nil), home: first.home, env: first.env}
			b.sshd.Admit(key.Public)
		}
		h := b.hop()
		h.Before = before
		h.Accepted = []string{ssh.FingerprintSHA256(b.sshd.Keys["ed25519"])}
		passed, err := h.Through(ctx, via)
		if err != nil {
			t.Fatalf("hop %d: %v", i+1, problem(err))
		}
		defer passed.Close()
		conn, err := passed.DialContext(ctx, "tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err != nil {
			t.Fatalf("behind hop %d: %v", i+1, problem(err))
		}
		_ = conn.Close()
		// What is not there is said by the hop.
		if _, err := passed.DialContext(ctx, "tcp",
			fmt.Sprintf("127.0.0.1:%d", jumptest.FreePort(t))); !strings.HasPrefix(problem(err), "port.refused") {
			t.Errorf("hop %d: %v", i+1, problem(err))
		}
		if _, err := passed.DialContext(ctx, "tcp", "no-such-host.invalid:1"); !strings.HasPrefix(problem(err),
			"name.not-found") {
			t.Errorf("hop %d: %v", i+1, problem(err))
		}
		before, via = append(before, h.Hop), passed
	}
	own, err := os.ReadFile(filepath.Join(first.home, "own-known"))
	if err != nil || strings.Count(string(own), "@") < 2 ||
		!strings.Contains(string(own), "@"+before[1].String()+"@"+before[0].String()+" ssh-ed25519 ") {
		t.Errorf("%s %v", own, err)
	}
}

// TestNoHop meets what is no SSH server, and hops that cannot be reached.
func TestNoHop(t *testing.T) {
	serve := func(do func(net.Conn)) int {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		must(t, err)
		t.Cleanup(func() { _ = l.Close() })
		go func() {
			for {
				conn, err := l.Accept()
				if err != nil {
					return
				}
				go do(conn)
			}
		}()
		return l.Addr().(*net.TCPAddr).Port
	}
	for _, c := range []struct {
		name, host string
		port       int
		code       string
	}{
		{"nothing listens", "127.0.0.1", jumptest.FreePort(t), "tunnel.refused"},
		{"no such name", "no-such-hop.invalid", 22, "tunnel.hop-not-found"},
		{"a web server", "127.0.0.1", serve(func(c net.Conn) {
			_, _ = c.Write([]byte("HTTP/1.1 400 Bad Request\r\n\r\n"))
			time.Sleep(50 * time.Millisecond)
			_ = c.Close()
		}), "tunnel.not-ssh"},
		{"silent", "127.0.0.1", serve(func(c net.Conn) { <-t.Context().Done(); _ = c.Close() }), "tunnel.stalled"},
		{"ends immediately", "127.0.0.1", serve(func(c net.Conn) { _ = c.Close() }), "tunnel.dropped"},
		{"too many are starting", "127.0.0.1",
			serve(func(c net.Conn) { _, _ = c.Write([]byte("Exceeded MaxStartups\r\n")); _ = c.Close() }),
			"tunnel.dropped"},
		{"words without an end", "127.0.0.1", serve(func(c net.Conn) {
			for {
				if _, err := c.Write([]byte(strings.Repeat("x", 1000) + "\n")); err != nil {
					return
				}
			}
		}), "tunnel.not-ssh"},
	} {
		ctx, cancel := context.WithTimeout(t.Context(), time.Second)
		h := &Hop{Hop: target.Hop{Host: c.host, Port: c.port}, Config: Config{World: World{Home: t.TempDir(), User: "w"}}}
		_, err := h.Through(ctx, nil)
		if got, _, _ := strings.Cut(problem(err), " "); got != c.code {
			t.Errorf("%s: %v instead of %s", c.name, problem(err), c.code)
		}
		cancel()
	}
}
