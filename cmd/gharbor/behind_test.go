//go:build unix

package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"

	"gentle-harbor/internal/route/jump/jumptest"
)

// TestWhatAHopSaysOfIt has a real OpenSSH server refuse to connect for each of its reasons: what
// is said is what its words say, and it is about the hop's network and not about this machine's.
func TestWhatAHopSaysOfIt(t *testing.T) {
	t.Parallel()
	h := newHopped(t, nil, "PW="+canary)
	closed := jumptest.Start(t, []string{"AllowTcpForwarding no", "AllowStreamLocalForwarding no"})
	closed.Admit(h.key.Public)
	h.write(".ssh/known_hosts", h.sshd.KnownLine("ed25519")+closed.KnownLine("ed25519"))
	other := fmt.Sprintf("127.0.0.1:%d", closed.Port)
	socket := filepath.Join(t.TempDir(), ".s.PGSQL.5432")
	h.must(0, "add", "p", "--engine", "postgres", "--host", "127.0.0.1", "--user", "warden_app",
		"--database", "bunkhouse", "--secret", "env:PW", "--via", h.via)
	for _, c := range []struct {
		code string
		args []string
		says string // in the finding, its evidence and its remedies
	}{
		{"port.refused", []string{"--port", fmt.Sprint(closedPort(t))}, "behind " + h.via},
		// OpenSSH says no more
		{"port.not-opened", []string{"--host", "255.255.255.255", "--tls", "off"}, "The hop may have no route there"},
		{"port.silent", []string{"--port", fmt.Sprint(silentPort(t)), "--timeout", "2s"},
			"between the hop " + h.via + " and it"},
		{"name.not-found", []string{"--host", "no-such-host.invalid", "--tls", "off"},
			"The name service of the hop " + h.via},
		{"port.not-opened", []string{"--socket", socket}, "ls -l " + socket},
		{"port.not-opened", []string{"--socket", socket, "--via", other}, "open failed"},
		{"tunnel.forwarding-forbidden", []string{"--via", other}, "does not let it go on to 127.0.0.1:5432"},
		// The second hop is reached from the first.
		{"tunnel.refused", []string{"--via", h.via, "--via", fmt.Sprintf("127.0.0.1:%d", closedPort(t))},
			"Nothing listens at the hop"},
		{"tunnel.not-opened", []string{"--via", h.via, "--via", "255.255.255.255"},
			"The hop " + h.via + " did not open a connection to the hop 255.255.255.255"},
		{"tunnel.silent", []string{"--via", h.via, "--via", fmt.Sprintf("127.0.0.1:%d", silentPort(t)),
			"--timeout", "2s"}, "did not answer the hop " + h.via},
		{"tunnel.hop-not-found", []string{"--via", h.via, "--via", "no-such-hop.invalid"},
			"The name service of the hop " + h.via},
		{"tunnel.forwarding-forbidden", []string{"--via", other, "--via", h.via}, "The hop " + other + " let "},
	} {
		f := h.fails(c.code, append([]string{"p"}, c.args...)...)
		all := f.Cause + "\n" + strings.Join(f.Seen, "\n") + "\n" + fmt.Sprint(f.Try)
		has(t, all, c.says)
		for _, ours := range []string{"this machine", "your address", "office, VPN"} {
			if strings.Contains(all, ours) {
				t.Errorf("%s %v is about %s:\n%s", c.code, c.args, ours, all)
			}
		}
	}
	// And without a hop it is about this machine.
	for code, args := range map[string][]string{
		"port.unreachable": {"--host", "255.255.255.255", "--tls", "off"},
		"port.silent":      {"--port", fmt.Sprint(silentPort(t)), "--timeout", "500ms"},
	} {
		f := h.fails(code, append([]string{"p", "--via", ""}, args...)...)
		has(t, f.Cause+fmt.Sprint(f.Try), "this machine")
	}
}

// TestASocketForLocalhost has a real MariaDB server know an account for localhost alone, and see
// who connects over TCP come from 127.0.0.1: the remedy with the socket, run to the letter, lets
// the account in, and none is given where it cannot help.
func TestASocketForLocalhost(t *testing.T) {
	t.Parallel()
	m := realMariaDB(t)
	w := newWorld(t, "X=x", "W=wrong")
	w.must(0, "add", "p", "--engine", "mariadb", "--host", "127.0.0.1", "--port", fmt.Sprint(m.port),
		"--user", "localish", "--secret", "env:X", "--tls", "off")
	// The server hides that there is no such account: it answers as it would for one of its
	// others, which other tests make.
	f := w.usualSocket(m.socket, "login.not-from-here login.refused", "p")
	all := strings.Join(tries(f), "\n")
	has(t, all, "socket you come from localhost")
	w.follows(tries(f), " --socket ")
	if strings.Contains(all, "--host ::1") {
		t.Errorf("nothing listens there: %s", all)
	}
	if f := w.usualSocket(m.socket, "login.refused", "p", "--socket", m.socket,
		"--secret", "env:W"); strings.Contains(fmt.Sprint(f.Try), "come from") {
		t.Errorf("the socket is used already: %v", f.Try)
	}
}

// TestAwaitAtAHop has await end after one test at what a hop will not let pass however long one
// waits, with a real OpenSSH server, and go on at what may come.
func TestAwaitAtAHop(t *testing.T) {
	t.Parallel()
	h := newHopped(t, nil, "PW="+canary)
	closed := jumptest.Start(t, []string{"AllowTcpForwarding no"})
	closed.Admit(h.key.Public)
	h.write(".ssh/known_hosts", h.sshd.KnownLine("ed25519")+closed.KnownLine("ed25519"))
	h.must(0, "add", "p", "--engine", "postgres", "--host", "127.0.0.1", "--port", fmt.Sprint(closedPort(t)),
		"--user", "warden_app", "--secret", "env:PW", "--via", h.via)
	key := func(path string) string {
		return fmt.Sprintf("{host: 127.0.0.1, port: %d, key: %s}", h.sshd.Port, path)
	}
	wide := h.write(".ssh/wide", "x")
	must(t, os.Chmod(wide, 0o644))
	for code, via := range map[string]string{
		"tunnel.login-refused":        "nobody-here@" + h.via,
		"tunnel.key-missing":          key("/no/such"),
		"tunnel.key-unsafe":           key(wide),
		"tunnel.forwarding-forbidden": fmt.Sprintf("127.0.0.1:%d", closed.Port),
	} {
		r := h.must(5, "await", "p", "--for", "60s", "--via", via)
		has(t, r.err, "p ended after 1 test: waiting does not help with "+code)
	}
	has(t, h.must(5, "await", "p", "--for", "300ms", "--every", "50ms").err, "the time was over", "port.refused")
	h.write(".ssh/known_hosts", fmt.Sprintf("[127.0.0.1]:%d %s", h.sshd.Port,
		ssh.MarshalAuthorizedKey(jumptest.NewKey(t, filepath.Join(h.home, "other"), "ed25519", "").Public)))
	has(t, h.must(5, "await", "p", "--for", "60s").err,
		"p ended after 1 test: waiting does not help with tunnel.host-key-changed")
}

// TestAHostOfARunKeepsThePort has a flag and a variable name another host of a real server, whose
// port the profile or the string says: that port is kept, and the run says so. A port beside what
// is no host is refused.
func TestAHostOfARunKeepsThePort(t *testing.T) {
	t.Parallel()
	pg := realPostgres(t)
	w := newWorld(t, "PW="+canary)
	w.must(0, append([]string{"add", "p", "--engine", "postgres", "--user", "warden_app",
		"--database", "bunkhouse", "--secret", "env:PW"}, pg.at("127.0.0.1")...)...)
	kept := fmt.Sprintf("port %d, from the profile", pg.port)
	has(t, w.must(0, "test", "p", "--host", "localhost").err, "for this run, p has host localhost (--host), "+kept)
	r := *w
	r.environ = append(r.environ, "GHARBOR_HOST=localhost")
	has(t, r.must(0, "test", "p").err, "host localhost (GHARBOR_HOST), "+kept)
	has(t, w.must(0, "test", fmt.Sprintf("postgres://warden_app@127.0.0.1:%d/bunkhouse", pg.port),
		"--host", "localhost", "--secret", "env:PW").err, fmt.Sprintf("port %d, from the connection string", pg.port))
	w.fails("port.refused", "p", "--host", "localhost", "--port", fmt.Sprint(closedPort(t)))
	w.write("gharbor/aliases.yaml", fmt.Sprintf("bookings: {engine: postgres, addresses: ['127.0.0.1:%d'], tls: "+
		"{mode: 'off'}}\n",
		pg.port))
	w.must(0, "add", "a", "--alias", "bookings", "--user", "warden_app", "--database", "bunkhouse", "--secret", "env:PW")
	w.must(0, "test", "a")
	has(t, w.fails("settings.invalid", "a", "--port", "1").Cause, "take the port out")
}
