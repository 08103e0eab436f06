//go:build unix

package main

import (
	"crypto/tls"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"gentle-harbor/internal/standin"
)

// Real servers, started once for all tests, in a temporary folder on free ports.

var (
	realFolder string
	running    []*exec.Cmd
	runningMu  sync.Mutex
)

func stopReal() {
	runningMu.Lock()
	defer runningMu.Unlock()
	for _, cmd := range running {
		_ = cmd.Process.Signal(syscall.SIGINT)
	}
	for _, cmd := range running {
		done := make(chan struct{})
		go func() { _ = cmd.Wait(); close(done) }()
		select {
		case <-done:
		case <-time.After(5 * time.Second):
			_ = cmd.Process.Kill()
		}
	}
}

// missing skips a test for want of a real server; where CI runs, that is a failure.
func missing(t *testing.T, what string) {
	t.Helper()
	if os.Getenv("CI") == "true" {
		t.Fatalf("%s is missing", what)
	}
	t.Skipf("skipped for want of %s", what)
}

func freePort(t *testing.T) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}

// encrypting gives an authority that is new, and what a server of it needs to encrypt under some
// names, from an hour ago for two hours.
func encrypting(t *testing.T, names ...string) (*standin.Authority, *tls.Config) {
	t.Helper()
	authority, err := standin.NewAuthority("practice")
	must(t, err)
	config, err := authority.Serve(time.Now().Add(-time.Hour), time.Now().Add(time.Hour), names...)
	must(t, err)
	return authority, config
}

// closedPort gives a port at which nothing listens, and that nobody takes before the test ends:
// it is bound.
func closedPort(t *testing.T) int {
	t.Helper()
	fd, err := syscall.Socket(syscall.AF_INET, syscall.SOCK_STREAM, 0)
	must(t, err)
	t.Cleanup(func() { _ = syscall.Close(fd) })
	must(t, syscall.Bind(fd, &syscall.SockaddrInet4{Addr: [4]byte{127, 0, 0, 1}}))
	at, err := syscall.Getsockname(fd)
	must(t, err)
	return at.(*syscall.SockaddrInet4).Port
}

// program finds a server's program on the path or where distributions hide it.
func program(name string, places ...string) string {
	if path, err := exec.LookPath(name); err == nil {
		return path
	}
	for _, pattern := range places {
		if found, _ := filepath.Glob(filepath.Join(pattern, name)); len(found) > 0 {
			return found[len(found)-1]
		}
	}
	return ""
}

// as makes a command run as an account, where this process may choose.
func as(account string, cmd *exec.Cmd) *exec.Cmd {
	if who, err := user.Lookup(account); err == nil && os.Geteuid() == 0 {
		uid, _ := strconv.ParseUint(who.Uid, 10, 32)
		gid, _ := strconv.ParseUint(who.Gid, 10, 32)
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}}
	}
	cmd.Dir = "/"
	cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "LC_ALL=C"}
	return cmd
}

func launch(t *testing.T, cmd *exec.Cmd, log string) {
	t.Helper()
	file, err := os.Create(log)
	if err != nil {
		t.Fatal(err)
	}
	cmd.Stdout, cmd.Stderr = file, file
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	runningMu.Lock()
	running = append(running, cmd)
	runningMu.Unlock()
}

func until(t *testing.T, what, log string, ready func() bool) {
	t.Helper()
	for end := time.Now().Add(30 * time.Second); time.Now().Before(end); time.Sleep(30 * time.Millisecond) {
		if ready() {
			return
		}
	}
	text, _ := os.ReadFile(log)
	t.Fatalf("%s did not start:\n%s", what, text)
}

// server is a real server.
type server struct {
	port   int
	socket string // the socket's file
	folder string
	ca     string // the authority of its certificate
}

func (s *server) at(host string) []string {
	return []string{"--host", host, "--port", fmt.Sprint(s.port)}
}

// certificates writes a server's certificate, key and authority into a folder.
func certificates(t *testing.T, folder string) {
	t.Helper()
	authority, err := standin.NewAuthority("Fellside Huts test authority")
	if err != nil {
		t.Fatal(err)
	}
	for name, span := range map[string][2]time.Duration{"server": {-time.Hour, time.Hour},
		"expired": {-2 * time.Hour, -time.Hour}, "future": {time.Hour, 2 * time.Hour},
		"client": {-time.Hour, time.Hour}} {
		names := []string{"db.fellside.example", "127.0.0.1"}
		if name == "client" {
			names = []string{"carded"}
		}
		cert, key, err := authority.Issue(time.Now().Add(span[0]), time.Now().Add(span[1]), names...)
		if err != nil {
			t.Fatal(err)
		}
		put(t, filepath.Join(folder, name+".crt"), cert)
		put(t, filepath.Join(folder, name+".key"), key)
	}
	put(t, filepath.Join(folder, "ca.pem"), authority.PEM)
}

func put(t *testing.T, path string, data []byte) {
	t.Helper()
	if err := os.WriteFile(path, data, 0o600); err != nil {
		t.Fatal(err)
	}
}

func give(t *testing.T, account, folder string) {
	t.Helper()
	if os.Geteuid() != 0 {
		return
	}
	if out, err := exec.Command("chown", "-R", account, folder).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
}

// hba is the real server's access rules: which accounts come in how. "fenced" has none.
const hba = `
local all overseer trust
local all peer_only peer
local all all scram-sha-256
host all clearly 127.0.0.1/32 password
host all clearly ::1/128 password
hostssl all onlytls 127.0.0.1/32 scram-sha-256
hostssl all carded 127.0.0.1/32 cert
host all digest 127.0.0.1/32 md5
host all kerb 127.0.0.1/32 gss
host all trusted,ghost 127.0.0.1/32 trust
host all warden_app,reader,busy,nologin,overseer,onlyone,no_such 127.0.0.1/32 scram-sha-256
hostssl all causes_card 127.0.0.1/32 cert
host all causes_ident 127.0.0.1/32 ident
host all causes_reject 127.0.0.0/8 reject
host all causes_reject,causes_late,causes_limit,causes_nologin,causes_md5,causes_nopw,crossing_late 127.0.0.1/32 scram-sha-256
host causes_base +causes_members 127.0.0.1/32 scram-sha-256
hostssl all +guest all scram-sha-256
host all warden_app ::1/128 scram-sha-256
host all +awkward 127.0.0.1/32 scram-sha-256
`

var (
	postgresServer server
	postgresMu     sync.Mutex
	mariaServer    server
	mariaMu        sync.Mutex
)

// realServer gives the running server of an engine, starting it at first.
func realServer(t *testing.T, engine string) *server {
	t.Helper()
	if engine == "mariadb" {
		return realMariaDB(t)
	}
	return realPostgres(t)
}

// realPostgres gives the running PostgreSQL server, starting it at first.
func realPostgres(t *testing.T) *server {
	t.Helper()
	postgresMu.Lock()
	defer postgresMu.Unlock()
	s := &postgresServer
	if s.port != 0 {
		return s
	}
	initdb := program("initdb", "/usr/lib/postgresql/*/bin", "/opt/homebrew/opt/postgresql*/bin")
	if initdb == "" {
		missing(t, "PostgreSQL")
	}
	folder := filepath.Join(realFolder, "pg")
	if err := os.Mkdir(folder, 0o755); err != nil {
		t.Fatal(err)
	}
	certificates(t, folder)
	give(t, "postgres", folder)
	data := filepath.Join(folder, "data")
	if out, err := as("postgres", exec.Command(initdb, "-D", data, "-U", "overseer", "-N", "-A", "trust",
		"--locale=C", "-E", "UTF8")).CombinedOutput(); err != nil {
		t.Fatalf("initdb: %v\n%s", err, out)
	}
	put(t, filepath.Join(data, "pg_hba.conf"), []byte(hba))
	give(t, "postgres", data)
	port := freePort(t)
	cmd := as("postgres", exec.Command(filepath.Join(filepath.Dir(initdb), "postgres"), "-D", data, "-p",
		fmt.Sprint(port), "-k", folder,
		"-c", "listen_addresses=127.0.0.1,::1", "-c", "fsync=off", "-c", "ssl_ca_file="+folder+"/ca.pem", "-c",
		"max_connections=30"))
	// What a test changes is in a file: the command line would win over what the server reads anew.
	conf, err := os.OpenFile(filepath.Join(data, "postgresql.conf"), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	fmt.Fprintf(conf, "\nssl=on\nssl_cert_file='%s/server.crt'\nssl_key_file='%s/server.key'\n", folder, folder)
	_ = conf.Close()
	log := filepath.Join(folder, "log")
	launch(t, cmd, log)
	socket := filepath.Join(folder, ".s.PGSQL."+fmt.Sprint(port))
	w := newWorld(t)
	until(t, "PostgreSQL", log, func() bool {
		return w.run("run", "postgres://overseer@"+strings.ReplaceAll(socket, "/", "%2F"), "select 1").code == 0
	})
	s.port, s.socket, s.folder, s.ca = port, socket, folder, filepath.Join(folder, "ca.pem")
	for _, statement := range []string{
		"create role warden_app login password '" + canary + "'", "create role reader login password 'reader'",
		"create role clearly login password '" + canary + "'", "create role onlytls login password 'x'",
		"create role carded login",
		"create role trusted login", "create role fenced login", "create role peer_only login",
		"create role nologin password 'x'", "create role busy login password 'busy' connection limit 0",
		"create role awkward", "create role guest", "create role helper", "grant helper to warden_app",
		"alter role overseer password 'overseer'",
		"create database bunkhouse owner warden_app", "create database private",
		"revoke connect on database private from public",
		"create database closed", "alter database closed allow_connections false",
	} {
		w.must(0, "run", "postgres://overseer@"+strings.ReplaceAll(socket, "/", "%2F"), statement)
	}
	w.must(0, "run", "postgres://overseer@"+strings.ReplaceAll(socket, "/", "%2F"),
		"create role digest login password 'md5"+md5Of("digest-pwdigest")+"'")
	return s
}

// realMariaDB gives the running MariaDB server, starting it at first.
func realMariaDB(t *testing.T) *server {
	t.Helper()
	mariaMu.Lock()
	defer mariaMu.Unlock()
	s := &mariaServer
	if s.port != 0 {
		return s
	}
	install, daemon := program("mariadb-install-db"), program("mariadbd", "/usr/sbin", "/usr/libexec")
	if install == "" || daemon == "" {
		missing(t, "MariaDB")
	}
	folder := filepath.Join(realFolder, "maria")
	if err := os.Mkdir(folder, 0o755); err != nil {
		t.Fatal(err)
	}
	certificates(t, folder)
	give(t, "mysql", folder)
	data := filepath.Join(folder, "data")
	if out, err := as("mysql", exec.Command(install, "--no-defaults", "--datadir="+data,
		"--auth-root-authentication-method=normal")).CombinedOutput(); err != nil {
		t.Fatalf("mariadb-install-db: %v\n%s", err, out)
	}
	port := freePort(t)
	s.socket = filepath.Join(folder, "s")
	cmd := as("mysql", exec.Command(daemon, "--no-defaults", "--datadir="+data, "--port="+fmt.Sprint(port),
		"--bind-address=127.0.0.1",
		"--socket="+s.socket, "--pid-file="+folder+"/pid", "--innodb-flush-log-at-trx-commit=0", "--skip-name-resolve",
		"--ssl-ca="+folder+"/ca.pem", "--ssl-cert="+folder+"/server.crt", "--ssl-key="+folder+"/server.key"))
	log := filepath.Join(folder, "log")
	launch(t, cmd, log)
	w := newWorld(t)
	owner := "mysql://root@" + strings.ReplaceAll(s.socket, "/", "%2F")
	until(t, "MariaDB", log, func() bool { return w.run("run", owner, "select 1").code == 0 })
	s.port, s.folder, s.ca = port, folder, filepath.Join(folder, "ca.pem")
	for _, statement := range []string{
		"create database bunkhouse", "create database private", "create table bunkhouse.hut (name varchar(40), height int)",
		"insert into bunkhouse.hut values ('Greystone', 812), ('Larkrise', null)",
		"create user warden_app@127.0.0.1 identified by '" + canary + "'", "grant all on bunkhouse.* to warden_app@127.0.0.1",
		"create user socketeer@localhost identified via unix_socket", "create user localish@localhost identified by 'x'",
		"create user locked@127.0.0.1 identified by 'x' account lock",
		"create user expired@127.0.0.1 identified by 'x' password expire",
		"create user busy@127.0.0.1 identified by 'x' with max_user_connections 1",
		"create user onlytls@127.0.0.1 identified by 'x' require ssl",
		"create user nopass@127.0.0.1", "create role helper", "grant helper to warden_app@127.0.0.1",
		"install soname 'auth_ed25519'",
		"create user curve@127.0.0.1 identified via ed25519 using password('" + canary + "')",
	} {
		w.must(0, "run", owner, statement)
	}
	return s
}
