//go:build unix

package main

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	driver "github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5/pgconn"
	_ "github.com/lib/pq"
	"golang.org/x/crypto/ssh"

	"gentle-harbor/internal/route/jump/jumptest"
	"gentle-harbor/internal/standin"
)

// opened is a door as hold --json prints it.
type opened struct {
	URI    string `json:"uri"`
	Host   string `json:"host"`
	Port   int    `json:"port"`
	Socket string `json:"socket"`
}

// open holds a door to a profile, and gives it as it is printed, with what ends it.
func (w *world) open(args ...string) (opened, *exec.Cmd, *buffer) {
	w.Helper()
	return w.opened(w.command(append([]string{"hold", "--json"}, args...)...))
}

// opened starts a hold, and waits for its one door.
func (w *world) opened(cmd *exec.Cmd) (opened, *exec.Cmd, *buffer) {
	w.Helper()
	out, err := cmd.StdoutPipe()
	must(w.T, err)
	errs := &buffer{}
	cmd.Stderr = errs
	must(w.T, cmd.Start())
	w.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	var all struct {
		Doors []opened `json:"doors"`
	}
	var text bytes.Buffer
	if err := json.NewDecoder(io.TeeReader(out, &text)).Decode(&all); err != nil || len(all.Doors) != 1 {
		w.Fatalf("%v: %v, %s\n%s", cmd.Args, err, &text, errs)
	}
	go func() { _, _ = io.Copy(io.Discard, out) }()
	return all.Doors[0], cmd, errs
}

// with puts a password into a connection string.
func withPassword(t *testing.T, uri, password string) string {
	t.Helper()
	u, err := url.Parse(uri)
	must(t, err)
	u.User = url.UserPassword(u.User.Username(), password)
	return u.String()
}

// driverDSN makes go-sql-driver's own form of a connection string.
func driverDSN(t *testing.T, uri string) string {
	t.Helper()
	u, err := url.Parse(uri)
	must(t, err)
	c := driver.NewConfig()
	c.User, c.DBName, c.Net, c.Addr = u.User.Username(), strings.TrimPrefix(u.Path, "/"), "tcp", u.Host
	c.Passwd, _ = u.User.Password()
	if socket := u.Query().Get("socket"); socket != "" {
		c.Net, c.Addr = "unix", socket
	}
	return c.FormatDSN()
}

// nodeModules gives the folder with the Node clients that scripts/test installs.
func nodeModules(t *testing.T) string {
	t.Helper()
	cache, err := os.UserCacheDir()
	must(t, err)
	folder := filepath.Join(cache, "gharbor-tests", "node", "node_modules")
	for _, name := range []string{"pg", "mysql2"} {
		if _, err := os.Stat(filepath.Join(folder, name)); err != nil {
			missing(t, "the Node client "+name)
		}
	}
	tool(t, "node")
	return folder
}

// systemPython gives a Python that has a binding of libpq.
func systemPython(t *testing.T) string {
	t.Helper()
	for _, path := range []string{"/usr/bin/python3", "python3"} {
		if exec.Command(path, "-c", "import psycopg2").Run() == nil {
			return path
		}
	}
	missing(t, "python3-psycopg2")
	return ""
}

// Programs as others write them: each reads DATABASE_URL, and nothing else.
const (
	nodePostgres = `const { Client } = require('pg'); (async () => { const c = new Client({ connectionString: process.env.DATABASE_URL }); await c.connect(); const r = await c.query('select current_user as u'); console.log(r.rows[0].u); await c.end() })().catch(e => { console.error(String(e)); process.exit(1) })`
	nodeMySQL    = `const m = require('mysql2/promise'); (async () => { const u = new URL(process.env.DATABASE_URL); const s = u.searchParams.get('socket'); const c = await m.createConnection(Object.assign({ user: decodeURIComponent(u.username), password: decodeURIComponent(u.password), database: u.pathname.slice(1) }, s ? { socketPath: s } : { host: u.hostname, port: +u.port })); const [r] = await c.query('select 1 as one'); console.log(r[0].one); await c.end() })().catch(e => { console.error(String(e)); process.exit(1) })`
	pythonLibpq  = "import os, psycopg2\nc = psycopg2.connect(os.environ['DATABASE_URL'])\nk = " +
		"c.cursor()\nk.execute('select current_user')\nprint(k.fetchone()[0])"
)

// TestDoorsForEveryClient goes through doors to real servers that let nobody in without TLS: with
// the engines' Go drivers, with Node's, and with a binding of libpq; at a port and at a socket,
// with and without a hop. Each uses the string that is handed out, as it is.
func TestDoorsForEveryClient(t *testing.T) {
	t.Parallel()
	pg, maria := realPostgres(t), realMariaDB(t)
	h := newHopped(t, nil, "PW="+canary)
	modules, python := nodeModules(t), systemPython(t)
	h.environ = append(h.environ, "NODE_PATH="+modules)
	add := func(name, engine string, s *server, user string, more ...string) {
		h.must(0, append([]string{"add", name, "--engine", engine, "--host", "db.fellside.example",
			"--port", fmt.Sprint(s.port), "--user", user, "--database", "bunkhouse", "--secret", "env:PW",
			"--tls", "verify", "--tls-ca", s.ca, "--host", "127.0.0.1"}, more...)...)
	}
	h.must(0, "run", "postgres://overseer@"+strings.ReplaceAll(pg.socket, "/", "%2F"),
		"alter role onlytls password '"+canary+"'")
	owner := "mysql://root@" + strings.ReplaceAll(maria.socket, "/", "%2F")
	h.must(0, "run", owner, "create user if not exists veiled@127.0.0.1 identified by '"+canary+"' require ssl")
	h.must(0, "run", owner, "grant all on bunkhouse.* to veiled@127.0.0.1")
	add("pg/near", "postgres", pg, "onlytls")
	add("pg/far", "postgres", pg, "onlytls", "--via", h.via)
	add("my/near", "mariadb", maria, "veiled")
	add("my/far", "mariadb", maria, "veiled", "--via", h.via)
	for _, name := range []string{"pg/near", "pg/far", "my/near", "my/far"} {
		for _, form := range [][]string{nil, {"--door-socket"}} {
			d, cmd, errs := h.open(append([]string{name, "--expect", "encrypted=true"}, form...)...)
			uri := withPassword(t, d.URI, canary)
			if strings.Contains(uri, "db.fellside") || strings.Contains(uri, "ca.pem") || strings.Contains(uri, "hostaddr") {
				t.Errorf("%s: the string leads past the door: %s", name, d.URI)
			}
			if strings.HasPrefix(name, "pg/") {
				conn, err := pgconn.Connect(t.Context(), uri)
				if err != nil {
					t.Errorf("%s %v: pgx: %v\n%s", name, form, err, errs)
				} else {
					_ = conn.Close(t.Context())
				}
				db, err := sql.Open("postgres", uri)
				must(t, err)
				if err := db.Ping(); err != nil {
					t.Errorf("%s %v: lib/pq: %v\n%s", name, form, err, errs)
				}
				_ = db.Close()
			} else {
				db, err := sql.Open("mysql", driverDSN(t, uri))
				must(t, err)
				if err := db.Ping(); err != nil {
					t.Errorf("%s %v: go-sql-driver: %v\n%s", name, form, err, errs)
				}
				_ = db.Close()
			}
			_ = cmd.Process.Signal(os.Interrupt)
			_ = cmd.Wait()
			programs := map[string][]string{"node": {"node", "-e", nodeMySQL}}
			if strings.HasPrefix(name, "pg/") {
				programs = map[string][]string{"node": {"node", "-e", nodePostgres}, "libpq": {python, "-c", pythonLibpq}}
			}
			for what, program := range programs {
				r := h.run(append(append([]string{"with", name}, form...), append([]string{"--"}, program...)...)...)
				if r.code != 0 || strings.TrimSpace(r.out) != map[bool]string{true: "onlytls",
					false: "1"}[strings.HasPrefix(name, "pg/")] {
					t.Errorf("%s %v: %s: exit %d %s%s", name, form, what, r.code, r.out, r.err)
				}
			}
		}
	}
}

// TestASignatureAtADoor logs in often by MariaDB's signature, each time with another challenge:
// what fails for some of them alone is seen. The driver itself fails for one in 256, whose
// challenge ends in zero: one failure is let pass.
func TestASignatureAtADoor(t *testing.T) {
	t.Parallel()
	s := realMariaDB(t)
	w := newWorld(t, "PW="+canary)
	for _, tls := range []string{"off", "encrypt"} {
		name := w.save("curve-"+tls, "mariadb",
			append(s.at("127.0.0.1"), "--user", "curve", "--secret", "env:PW", "--tls", tls)...)
		d, _, _ := w.open(name)
		failed := 0
		for range 30 {
			db, err := sql.Open("mysql", driverDSN(t, withPassword(t, d.URI, canary)))
			must(t, err)
			if db.Ping() != nil {
				failed++
			}
			_ = db.Close()
		}
		if failed > 1 {
			t.Errorf("tls %s: %d of 30 logins through the door failed", tls, failed)
		}
		for range 15 {
			w.must(0, "test", name) // the program's own logins: none fails
		}
	}
}

// TestADoorWithACertificate logs in with the profile's client certificate: the door is a socket
// by itself, a port is refused, and with --pass-through the certificate is the client's affair.
func TestADoorWithACertificate(t *testing.T) {
	t.Parallel()
	pg := realPostgres(t)
	w := newWorld(t)
	w.must(0, "add", "carded", "--engine", "postgres", "--host", "127.0.0.1", "--port", fmt.Sprint(pg.port),
		"--user", "carded", "--database", "postgres", "--secret", "none",
		"--tls", "verify", "--tls-ca", pg.ca, "--tls-cert", pg.folder+"/client.crt", "--tls-key", pg.folder+"/client.key")
	if r := w.run("test", "carded"); r.code != 0 {
		t.Skipf("the certificate does not let in: %s", r.out)
	}
	d, _, errs := w.open("carded")
	if d.Socket == "" || d.Port != 0 {
		t.Fatalf("%+v", d)
	}
	conn, err := pgconn.Connect(t.Context(), d.URI)
	if err != nil {
		t.Fatalf("%v\n%s", err, errs)
	}
	_ = conn.Close(t.Context())
	w.must(0, "release", "carded")
	has(t, w.must(3, "hold", "carded", "--door", fmt.Sprint(freePort(t))).err, "client certificate",
		"--door-socket", "--pass-through")
	passing := w.must(0, "hold", "carded", "--pass-through", "--for", "10ms")
	has(t, passing.out, "sslcert", "Each client encrypts by itself")
}

// TestADoorWithFewDescriptors fills doors that may open few files: who finds no place is told so
// in the engine's form, hold says it with the cause, and whoever is in stays in.
func TestADoorWithFewDescriptors(t *testing.T) {
	t.Parallel()
	for _, engine := range []string{"postgres", "mariadb", "mysql"} {
		s := practice(t, standin.Config{Engine: engine})
		w := newWorld(t, "PW="+canary)
		w.wardens("p", engine, s)
		cmd := w.command("hold", "--json", "p")
		cmd.Args = append([]string{"sh", "-c", `ulimit -n 130 && exec "$@"`, "sh"}, cmd.Args...)
		cmd.Path = "/bin/sh"
		d, _, errs := w.opened(cmd)
		in := func() error {
			if engine == "postgres" {
				conn, err := pgconn.Connect(t.Context(), withPassword(t, d.URI, canary))
				if err == nil {
					t.Cleanup(func() { _ = conn.Close(context.Background()) })
				}
				return err
			}
			db, err := sql.Open("mysql", driverDSN(t, withPassword(t, d.URI, canary)))
			must(t, err)
			t.Cleanup(func() { _ = db.Close() })
			return db.PingContext(t.Context())
		}
		for n := range 5 {
			if err := in(); err != nil {
				t.Fatalf("%s: client %d: %v\n%s", engine, n+1, err, errs)
			}
		}
		if err := in(); err == nil || !strings.Contains(err.Error(), "the door is full: it has 5 clients") ||
			!strings.Contains(err.Error(), map[string]string{"postgres": "08001"}[engine]) {
			t.Errorf("%s: the sixth: %v", engine, err)
		}
		eventually(t, "hold says it", func() bool {
			return strings.Contains(errs.String(), "may not open more files (ulimit -n says")
		})
	}
}

// bothVerified saves profiles of two real servers, p and m, that encrypt and are verified.
func (w *world) bothVerified(pg, maria *server) {
	w.Helper()
	w.save("p", "postgres", append(pg.warden(), "--tls", "verify", "--tls-ca", pg.ca)...)
	w.save("m", "mariadb", append(maria.warden(), "--tls", "verify", "--tls-ca", maria.ca)...)
}

// TestClientsThatDemand has clients that insist on TLS or on channel binding: each is refused in
// its engine's form, and hold says why.
func TestClientsThatDemand(t *testing.T) {
	t.Parallel()
	pg, maria := realPostgres(t), realMariaDB(t)
	w := newWorld(t, "PW="+canary)
	w.bothVerified(pg, maria)
	d, _, errs := w.open("p")
	if _, err := pgconn.Connect(t.Context(),
		strings.Replace(withPassword(t, d.URI, canary), "sslmode=disable", "sslmode=require", 1)); err == nil {
		t.Error("a client has TLS that ends at the door")
	}
	eventually(t, "a client that asks for TLS is told of", func() bool {
		return strings.Contains(errs.String(), "insists on encrypting by itself")
	})
	raw, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", d.Port))
	must(t, err)
	startup := "user\x00warden_app\x00database\x00bunkhouse\x00\x00"
	_, _ = raw.Write(append(binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(nil,
		uint32(8+len(startup))), 3<<16), startup...))
	head := make([]byte, 512)
	n, err := raw.Read(head)
	if err != nil || head[0] != 'R' || strings.Contains(string(head[:n]), "SCRAM-SHA-256-PLUS") ||
		!strings.Contains(string(head[:n]), "SCRAM-SHA-256\x00") {
		t.Errorf("the methods: %q %v", head[:n], err)
	}
	first := "SCRAM-SHA-256-PLUS\x00\x00\x00\x00\x05hello"
	_, _ = raw.Write(append(binary.BigEndian.AppendUint32([]byte{'p'}, uint32(4+len(first))), first...))
	rest, _ := io.ReadAll(raw)
	if len(rest) == 0 || rest[0] != 'E' || !strings.Contains(string(rest), "C08001") ||
		!strings.Contains(string(rest), "channel binding") {
		t.Errorf("it is told %q", rest)
	}
	eventually(t, "a client that asks for binding is told of", func() bool {
		return strings.Contains(errs.String(), "channel binding")
	})
	d, _, errs = w.open("m")
	raw, err = net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", d.Port))
	must(t, err)
	if _, err = raw.Read(head); err != nil {
		t.Error(err)
	}
	// an SSL request, no matter what the greeting offered
	_, _ = raw.Write(append([]byte{32, 0, 0, 1, 0, 0x0a, 0, 0}, make([]byte, 28)...))
	rest, _ = io.ReadAll(raw)
	if len(rest) < 5 || rest[3] != 2 || rest[4] != 0xff || !strings.Contains(string(rest), "#HY000") {
		t.Errorf("it is told %q", rest)
	}
	eventually(t, "a client that asks for TLS is told of", func() bool {
		return strings.Contains(errs.String(), "insists on encrypting by itself")
	})
}

// eventually waits for what happens in another process.
func eventually(t *testing.T, what string, is func() bool) {
	t.Helper()
	for end := time.Now().Add(time.Minute); time.Now().Before(end); time.Sleep(10 * time.Millisecond) {
		if is() {
			return
		}
	}
	t.Errorf("%s: not in a minute", what)
}

// TestAColdCache logs in to servers that ask for the whole password: by sha256_password, and by
// caching_sha2_password where the server does not know the account yet. A client without TLS
// sends it with a key of the door's own, over a socket in clear; the server gets it encrypted. A
// server that may not see a password gets none, and the client is told.
func TestAColdCache(t *testing.T) {
	t.Parallel()
	authority, encryption := encrypting(t, "127.0.0.1", "localhost")
	h := newHopped(t, nil, "PW="+canary)
	ca := h.write("ca.pem", string(authority.PEM))
	logsIn := func(uri, user, password string) error {
		u, err := url.Parse(uri)
		must(t, err)
		u.User = url.UserPassword(user, password)
		db, err := sql.Open("mysql", driverDSN(t, u.String()))
		must(t, err)
		defer db.Close()
		return db.Ping()
	}
	for _, login := range []string{"caching_sha2_password", "sha256_password"} {
		s := practice(t, standin.Config{Engine: "mysql", TLS: encryption, Login: login})
		h.must(0, "add", login, "--engine", "mysql", "--host", "localhost", "--port", fmt.Sprint(s.Port()),
			"--user", "warden_app", "--database", "bunkhouse", "--secret", "env:PW", "--tls", "verify",
			"--tls-ca", ca, "--via", h.via)
		for _, form := range []string{"", "--door-socket"} {
			d, cmd, errs := h.open(strings.Fields(login + " " + form)...)
			user, word := "cold"+form+login[:4], "word-of-"+form
			s.Let(user, word)
			if err := logsIn(d.URI, user, word); err != nil || !slices.Contains(s.Shown(), word) {
				t.Errorf("%s %s: %v, the server was shown %q\n%s", login, form, err, s.Shown(), errs)
			}
			if err := logsIn(d.URI, user, "another"); err == nil || !strings.Contains(err.Error(), "1045") {
				t.Errorf("%s %s: a wrong password: %v", login, form, err)
			}
			_ = cmd.Process.Signal(os.Interrupt)
			_ = cmd.Wait()
		}
		if login != "caching_sha2_password" {
			continue
		}
		// The hop's key was accepted a moment ago, so that whoever answers behind it may be shown
		// no password. The profile's own account is known to the server by now.
		h.write(".ssh/known_hosts", "")
		d, _, errs := h.open(login, "--tls", "encrypt", "--tls-ca", "",
			"--accept-host-key", ssh.FingerprintSHA256(h.sshd.Keys["ed25519"]))
		s.Let("later", "never-shown")
		if err := logsIn(d.URI, "later", "never-shown"); err == nil ||
			!strings.Contains(err.Error(), "login.would-show-password") || slices.Contains(s.Shown(), "never-shown") {
			t.Errorf("not verified: %v, the server was shown %q\n%s", err, s.Shown(), errs)
		}
		h.write(".ssh/known_hosts", h.sshd.KnownLine("ed25519"))
	}
}

// TestCancelThroughADoor ends a statement at the server through a door that encrypts.
func TestCancelThroughADoor(t *testing.T) {
	t.Parallel()
	pg := realPostgres(t)
	h := newHopped(t, nil, "PW="+canary)
	h.must(0, "run", "postgres://overseer@"+strings.ReplaceAll(pg.socket, "/", "%2F"),
		"alter role onlytls password '"+canary+"'")
	h.must(0, "add", "p", "--engine", "postgres", "--host", "127.0.0.1", "--port", fmt.Sprint(pg.port),
		"--user", "onlytls", "--database", "bunkhouse", "--secret", "env:PW", "--tls", "verify",
		"--tls-ca", pg.ca, "--via", h.via)
	d, _, _ := h.open("p")
	conn, err := pgconn.Connect(t.Context(), withPassword(t, d.URI, canary))
	must(t, err)
	defer conn.Close(t.Context())
	ended := make(chan error, 1)
	began := time.Now()
	go func() { _, err := conn.Exec(t.Context(), "select pg_sleep(60)").ReadAll(); ended <- err }()
	for {
		ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
		_ = conn.CancelRequest(ctx)
		cancel()
		select {
		case err := <-ended:
			if err == nil || !strings.Contains(err.Error(), "57014") || time.Since(began) > 20*time.Second {
				t.Errorf("%v after %s", err, time.Since(began))
			}
			return
		case <-time.After(100 * time.Millisecond):
			if time.Since(began) > 25*time.Second {
				t.Fatal("it was not cancelled")
			}
		}
	}
}

// TestRogueClients has clients that send what none sends, send slowly, too much or nothing, and
// end at every byte: none holds anything up for a good one, and none is led to the server.
func TestRogueClients(t *testing.T) {
	t.Parallel()
	pg, maria := realPostgres(t), realMariaDB(t)
	w := newWorld(t, "PW="+canary)
	w.bothVerified(pg, maria)
	long := func(size, code uint32) []byte {
		return binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(nil, size), code)
	}
	const sslRequest, gssRequest, cancelRequest = 80877103, 80877104, 80877102
	startup := append(long(uint32(8+len("user\x00warden_app\x00\x00")), 3<<16), "user\x00warden_app\x00\x00"...)
	for name, rogues := range map[string]map[string][]byte{
		"p": {
			"a TLS greeting":     []byte("\x16\x03\x01\x02\x00\x01\x00\x01\xfc\x03\x03"),
			"early bytes":        append(long(8, sslRequest), "early"...),
			"SSL asked twice":    append(long(8, sslRequest), long(8, sslRequest)...),
			"GSS with a payload": append(long(12, gssRequest), "more"...),
			"a giant start-up":   long(1<<30, 3<<16), "a giant cancel": long(1<<20, cancelRequest),
			"a key of nobody's": append(long(16, cancelRequest), "12345678"...),
			"no length":         long(0, 3<<16), "version 2": append(long(296, 2<<16), make([]byte, 288)...),
			"words":                   []byte("GET / HTTP/1.1\r\n\r\n"),
			"a query without a login": append(startup, "Q\x00\x00\x00\x0dselect 1\x00"...), "nothing": {},
		},
		"m": {
			"a giant packet": {0xff, 0xff, 0xff, 1}, "a wrong number": {40, 0, 0, 9},
			"an old login":       append([]byte{40, 0, 0, 1, 0, 0, 0, 0}, make([]byte, 36)...),
			"no end of the user": append([]byte{60, 0, 0, 1, 0, 0xa2, 0, 0}, []byte(strings.Repeat("x", 56))...),
			"an answer beyond its packet": append(append([]byte{38, 0, 0, 1, 0, 0xa2, 0x20, 0},
				make([]byte, 28)...), 'u', 0, 200, 1, 1, 1), "words": []byte("hello hello hello"), "nothing": {},
		},
	} {
		d, cmd, errs := w.open(name)
		address := fmt.Sprintf("127.0.0.1:%d", d.Port)
		var all sync.WaitGroup
		defer all.Wait()
		good := func(after string) {
			t.Helper()
			began := time.Now()
			var err error
			if name == "p" {
				var conn *pgconn.PgConn
				if conn, err = pgconn.Connect(t.Context(), withPassword(t, d.URI, canary)); err == nil {
					_ = conn.Close(t.Context())
				}
			} else {
				db, _ := sql.Open("mysql", driverDSN(t, withPassword(t, d.URI, canary)))
				err = db.Ping()
				_ = db.Close()
			}
			if err != nil || time.Since(began) > 5*time.Second {
				t.Errorf("%s after %s: %v, %s\n%s", name, after, err, time.Since(began), errs)
			}
		}
		for what, words := range rogues {
			conn, err := net.Dial("tcp", address)
			must(t, err)
			_, _ = conn.Write(words)
			if len(words) > 0 && what != "a giant start-up" && what != "a query without a login" {
				_ = conn.SetReadDeadline(time.Now().Add(10 * time.Second))
				if rest, err := io.ReadAll(conn); err != nil && !strings.Contains(err.Error(), "reset") {
					t.Errorf("%s: %s is not sent away: %q %v", name, what, rest, err)
				}
				_ = conn.Close()
			} else {
				defer conn.Close()
			}
		}
		good("rogues")
		// A good login, cut at each byte, and a byte at a time.
		whole := startup
		if name == "m" {
			whole = append([]byte{60, 0, 0, 1, 0, 0xa2, 0, 0}, make([]byte, 56)...)
		}
		for n := range whole {
			conn, err := net.Dial("tcp", address)
			must(t, err)
			_, _ = conn.Write(whole[:n])
			_ = conn.Close()
		}
		all.Go(func() {
			conn, err := net.Dial("tcp", address)
			if err != nil {
				return
			}
			defer conn.Close()
			for i := range whole {
				_, _ = conn.Write(whole[i : i+1])
				time.Sleep(20 * time.Millisecond)
			}
		})
		good("cut logins")
		eventually(t, "nothing is left", func() bool {
			return len(w.must(0, "doors", "--json").out) > 0 && descriptors(cmd.Process.Pid) < 60
		})
	}
}

// TestWithUsesAHeldDoor runs programs beside a door that is held: the same settings share it,
// others do not; a release is done when it answers, and each profile has a folder of its own.
func TestWithUsesAHeldDoor(t *testing.T) {
	t.Parallel()
	s := practice(t, standin.Config{Engine: "postgres"})
	w := newWorld(t, "PW="+canary)
	w.wardens("p", "postgres", s)
	d, cmd, _ := w.open("p")
	r := w.must(0, "with", "p", "--", "printenv", "GHARBOR_DOOR_PORT")
	has(t, r.out, fmt.Sprint(d.Port))
	has(t, r.err, fmt.Sprintf("the door that process %d holds", cmd.Process.Pid))
	for _, other := range [][]string{{"--database", "postgres"}, {"--pass-through"},
		{"--door", fmt.Sprint(freePort(t))}, {"--door-socket"}} {
		if r := w.must(0, append(append([]string{"with", "p"}, other...), "--", "printenv",
			"GHARBOR_DOOR_PORT")...); strings.TrimSpace(r.out) == fmt.Sprint(d.Port) {
			t.Errorf("%v: the held door is used", other)
		}
	}
	has(t, w.must(0, "doors", "p").out, "route", "this machine → ", "state", "open since", "clients", "encrypted no")
	has(t, w.must(2, "hold", "p", "--port", "6000").err, "--door 6020")
	has(t, w.must(2, "with", "p", "--socket", "/x", "--", "true").err, "--door-socket")
	has(t, w.must(2, "hold", "p", "--socket").err, "--door-socket")
	has(t, w.must(2, "hold", "--socket", "p").err, "--door-socket")
	// Release answers when the door is closed.
	w.must(0, "release", "p")
	if conn, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", d.Port)); err == nil {
		_ = conn.Close()
		t.Error("release has answered, and the door is open")
	}
	// A program of ours that runs with a door is not warned of its variables.
	if r := w.must(0, "with", "p", "--", gharbor, "version"); strings.Contains(r.err, "has no meaning") {
		t.Errorf("%s", r.err)
	}
	// Names that differ in a slash have doors of their own.
	for _, name := range []string{"a/b", "a-b"} {
		w.must(0, "copy", "p", name)
	}
	one, _, _ := w.open("a/b", "--door-socket")
	two, _, _ := w.open("a-b", "--door-socket")
	if one.Socket == two.Socket {
		t.Errorf("both are at %s", one.Socket)
	}
	for _, each := range []opened{one, two} {
		if _, err := pgconn.Connect(t.Context(), withPassword(t, each.URI, canary)); err != nil {
			t.Error(err)
		}
	}
}

// TestADoorComesBackByItself has a hop answer with another key, so that its door waits for a
// person, and then with the known one again.
func TestADoorComesBackByItself(t *testing.T) {
	t.Parallel()
	h := newHopped(t, nil, "PW="+canary)
	s := practice(t, standin.Config{Engine: "postgres"})
	h.wardens("p", "postgres", s, "--via", h.via)
	d, _, errs := h.open("p")
	path := filepath.Join(h.sshd.Dir, "host_ed25519")
	known, err := os.ReadFile(path)
	must(t, err)
	h.sshd.Stop()
	jumptest.NewKey(t, path, "ed25519", "")
	h.sshd.Restart()
	eventually(t, "needs-you", func() bool { return strings.Contains(h.must(0, "doors").out, "needs-you") })
	has(t, h.must(0, "doors", "p").out, "needs-you since", "another host key", "gharbor test p")
	if err := logsIn(d.Port); err == nil || !strings.Contains(err.Error(), "tunnel.host-key-changed") {
		t.Errorf("%v", err)
	}
	h.sshd.Stop()
	must(t, os.WriteFile(path, known, 0o600))
	h.sshd.Restart()
	for range 100 {
		if strings.Contains(h.must(0, "doors").out, " open") {
			break
		}
		time.Sleep(200 * time.Millisecond)
	}
	if err := logsIn(d.Port); err != nil {
		t.Errorf("it does not come back: %v\n%s", err, errs)
	}
	has(t, errs.String(), "p: reconnecting: ", "p: needs-you: ", "p: open")
}

// TestMigrations runs the README's example with a program as people write one: it reads
// DATABASE_URL, and makes a table.
func TestMigrations(t *testing.T) {
	t.Parallel()
	pg := realPostgres(t)
	h := newHopped(t, nil, "PW="+canary)
	program := h.write("migrate", "#!"+systemPython(t)+"\nimport os, sys, psycopg2\nassert sys.argv[1] == "+
		"'up'\nc = psycopg2.connect(os.environ['DATABASE_URL'])\nwith c, c.cursor() as k:\n    "+
		"k.execute('create table if not exists snow_depth (hut text, cm int)')\nprint('migrated')\n")
	must(t, os.Chmod(program, 0o755))
	h.must(0, "add", "huts/staging", "--engine", "postgres", "--host", "127.0.0.1",
		"--port", fmt.Sprint(pg.port), "--database", "bunkhouse", "--user", "warden_app", "--via", h.via,
		"--secret", "env:PW", "--tls", "verify", "--tls-ca", pg.ca)
	r := h.must(0, "with", "huts/staging", "--", "./migrate", "up")
	has(t, r.out, "migrated")
}
