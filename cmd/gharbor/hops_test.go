//go:build unix

package main

import (
	"fmt"

	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/route/jump/jumptest"
	"gentle-harbor/internal/standin"
)

// hopped is a home with a key, and a real OpenSSH server that lets it in.
type hopped struct {
	*world
	sshd *jumptest.Server
	key  jumptest.Key
	via  string
}

func newHopped(t *testing.T, lines []string, environ ...string) *hopped {
	t.Helper()
	w := newWorld(t, environ...)
	h := &hopped{world: w, sshd: jumptest.Start(t, lines),
		key: jumptest.NewKey(t, filepath.Join(w.home, ".ssh", "id_ed25519"), "ed25519", "")}
	h.sshd.Admit(h.key.Public)
	h.write(".ssh/known_hosts", h.sshd.KnownLine("ed25519"))
	h.via = fmt.Sprintf("127.0.0.1:%d", h.sshd.Port)
	return h
}

// TestThroughAHop tests, lists, shows and runs through a real hop, with practice servers behind it.
func TestThroughAHop(t *testing.T) {
	t.Parallel()
	h := newHopped(t, nil, "PW="+canary)
	for _, engine := range []string{"postgres", "mysql", "oracle", "mongodb"} {
		s := practice(t, standin.Config{Engine: engine})
		p := engine
		h.must(0, "add", p, "--engine", engine, "--host", "localhost", "--port", fmt.Sprint(s.Port()),
			"--user", "warden_app", "--database", "bunkhouse", "--secret", "env:PW", "--via", h.via)
		r := h.report(p)
		if !r.OK || len(r.Legs) < 5 || r.Legs[2].Name != "tunnel" ||
			!strings.Contains(r.Legs[2].Saw, "host key ssh-ed25519 SHA256:") ||
			!strings.Contains(r.Legs[2].Saw, "with the key "+h.key.Path) {
			t.Errorf("%s: %+v", engine, r)
		}
		h.crossedBy(engine, p)
		has(t, h.must(0, "show", p).out, h.via, "this machine → "+h.via)
		has(t, h.must(0, "test", p).out, "this machine → "+h.via)
		// Without the hop for one run.
		if r := h.must(0, "test", p, "--via", ""); strings.Contains(r.out, "tunnel") {
			t.Errorf("%s", r.out)
		}
		// What is not behind it.
		f := h.fails("port.refused", p, "--port", fmt.Sprint(closedPort(t)))
		if !strings.Contains(strings.Join(f.Seen, "\n"), "the hop "+h.via+" said: Connection refused") ||
			strings.Contains(fmt.Sprint(f.Try), "127.0.0.1 --") {
			t.Errorf("%+v", f)
		}
		h.fails("name.not-found", p, "--host", "no-such-host.invalid", "--tls", "off")
	}
	for _, c := range []struct {
		code finding.Code
		args []string
		says string
	}{
		{finding.TunnelRefused, []string{"--via", fmt.Sprintf("127.0.0.1:%d", closedPort(t))}, "Nothing listens at the hop"},
		{finding.TunnelHopNotFound, []string{"--via", "no-such-hop.invalid"}, "no-such-hop.invalid"},
		{finding.TunnelLoginRefused, []string{"--via", "nobody-here@" + h.via}, "does not let nobody-here in"},
		{finding.TunnelLoginRefused, []string{"--via", "warden_app@" + h.via}, "does not let warden_app in"},
		{finding.TunnelKeyMissing, []string{"--via", "{host: 127.0.0.1, port: " + fmt.Sprint(h.sshd.Port) +
			", key: /no/such}"}, "/no/such"},
	} {
		f := h.fails(string(c.code), append([]string{"postgres"}, c.args...)...)
		if !strings.Contains(f.Cause, c.says) {
			t.Errorf("%s: %s", c.code, f.Cause)
		}
		if strings.Contains(c.args[1], "warden_app") &&
			!strings.Contains(fmt.Sprint(f.Try), "warden_app is the user of the database") {
			t.Errorf("the likely mistake is not said: %+v", f.Try)
		}
	}
	// An unknown key: the remedy accepts it, and it is known then.
	must(t, os.Remove(filepath.Join(h.home, ".ssh/known_hosts")))
	f := h.fails("tunnel.host-key-unknown", "postgres")
	print := ssh.FingerprintSHA256(h.sshd.Keys["ed25519"])
	if !strings.Contains(fmt.Sprint(f.Try), "gharbor test postgres --accept-host-key "+print) {
		t.Errorf("%+v", f.Try)
	}
	// One that was given for another key is said; one that is none is refused.
	other := jumptest.NewKey(t, filepath.Join(h.home, "other"), "ed25519", "")
	wrong := ssh.FingerprintSHA256(other.Public)
	has(t, strings.Join(h.fails("tunnel.host-key-unknown", "postgres", "--accept-host-key", wrong).Seen, "\n"),
		"given for another key: "+wrong)
	for _, none := range []string{"SHA256:wrong", strings.TrimPrefix(print, "SHA256:"), print + "=", ""} {
		has(t, h.must(2, "test", "postgres", "--accept-host-key", none).err, "--accept-host-key: a fingerprint is SHA256:")
	}
	h.must(0, "test", "postgres", "--accept-host-key", print)
	h.must(0, "test", "postgres")
	has(t, h.must(0, "hops", "list").out, print, h.via)
	h.must(0, "hops", "forget", h.via)
	h.fails("tunnel.host-key-unknown", "postgres")
	h.write(".ssh/known_hosts", fmt.Sprintf("[127.0.0.1]:%d %s", h.sshd.Port, ssh.MarshalAuthorizedKey(other.Public)))
	f = h.fails("tunnel.host-key-changed", "postgres", "--accept-host-key", print)
	if !strings.Contains(strings.Join(f.Seen, "\n"), ssh.FingerprintSHA256(other.Public)) ||
		!strings.Contains(fmt.Sprint(f.Try), ".ssh/known_hosts:1") {
		t.Errorf("%+v", f)
	}
}

// TestForwardingForbidden has a hop that lets us in and not on.
func TestForwardingForbidden(t *testing.T) {
	t.Parallel()
	h := newHopped(t, []string{"AllowTcpForwarding no"}, "PW="+canary)
	s := practice(t, standin.Config{Engine: "postgres"})
	h.must(0, "add", "p", "--engine", "postgres", "--host", "127.0.0.1", "--port", fmt.Sprint(s.Port()),
		"--user", "warden_app", "--secret", "env:PW", "--via", h.via)
	if f := h.fails("tunnel.forwarding-forbidden", "p"); !strings.Contains(f.Cause,
		fmt.Sprintf("127.0.0.1:%d", s.Port())) {
		t.Errorf("%+v", f)
	}
}

// TestAKeptPasswordIsForOneRoute keeps a password for a route with a hop, and one for the hop
// itself: neither serves another, nor each other.
func TestAKeptPasswordIsForOneRoute(t *testing.T) {
	t.Parallel()
	h := newHopped(t, nil)
	s := practice(t, standin.Config{Engine: "postgres"})
	phrase := h.write("phrase", "a sentence for tests\n")
	pw := h.write("pw", canary+"\n")
	h.must(0, "wallet", "create", "--passphrase-file", phrase)
	h.must(0, "wallet", "unattended", "on", "--passphrase-file", phrase, "--yes")
	h.must(0, "add", "p", "--engine", "postgres", "--host", "127.0.0.1", "--port", fmt.Sprint(s.Port()),
		"--user", "warden_app", "--database", "bunkhouse", "--secret", "wallet", "--via", h.via)
	h.must(0, "wallet", "add", "p", "--secret-file", pw, "--passphrase-file", phrase)
	h.must(0, "test", "p")
	if f := h.fails("secret.bound-elsewhere", "p",
		"--via", ""); !strings.Contains(f.Cause+strings.Join(f.Seen, ""), "through "+h.via) {
		t.Errorf("%+v", f)
	}
	h.must(0, "wallet", "add", "--server", "ssh:"+h.via, "--user", "warden_app", "--secret-file", pw,
		"--passphrase-file", phrase)
	has(t, h.must(0, "wallet", "list").out, "ssh "+h.via)
	h.must(0, "wallet", "remove", "p", "--passphrase-file", phrase, "--yes")
	f := h.fails("secret.not-stored", "p")
	if strings.Contains(fmt.Sprint(f), canary) {
		t.Error("the password is shown")
	}
}
