//go:build unix

package main

import (
	"crypto/tls"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"gentle-harbor/internal/realtest"
	"gentle-harbor/internal/standin"
)

// The real servers of these tests, started once for all of them.

// realFolder is the folder of all that these tests start.
var realFolder string

// What starts what is real, by the names that these tests have for it.
var (
	missing    = realtest.Missing
	freePort   = realtest.FreePort
	closedPort = realtest.ClosedPort
	silent     = realtest.SilentPort
	program    = realtest.Program
	as         = realtest.As
	launch     = realtest.Launch
	until      = realtest.Until
)

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

// server is a real server.
type server struct {
	port   int
	socket string // the socket's file
	folder string
	ca     string // the authority of its certificate
}

// warden gives where the server is at 127.0.0.1, and how warden_app logs in, as flags have it.
func (s *server) warden() []string {
	return append(s.at("127.0.0.1"), "--user", "warden_app", "--database", "bunkhouse", "--secret", "env:PW")
}

func (s *server) at(host string) []string {
	return []string{"--host", host, "--port", fmt.Sprint(s.port)}
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
	realMu      sync.Mutex
	realServers = map[string]*server{}
)

// realServer gives the running server of an engine, starting it at first.
func realServer(t *testing.T, engine string) *server {
	t.Helper()
	realMu.Lock()
	defer realMu.Unlock()
	if s := realServers[engine]; s != nil {
		return s
	}
	var made *realtest.Server
	if engine == "mariadb" {
		made = realtest.MariaDB(t, filepath.Join(realFolder, "maria"))
		at := made.Folder + "/"
		made.Certificates(t)
		made.Start(t, "--skip-name-resolve", "--ssl-ca="+at+"ca.pem", "--ssl-cert="+at+"server.crt",
			"--ssl-key="+at+"server.key")
		made.Do(t, mariaAccounts...)
	} else {
		made = realtest.Postgres(t, filepath.Join(realFolder, "pg"))
		made.Certificates(t)
		made.Put(t, "pg_hba.conf", hba)
		// What a test changes is in a file: the command line would win over what the server reads anew.
		made.Configure(t, fmt.Sprintf("ssl=on\nssl_cert_file='%[1]s/server.crt'\nssl_key_file='%[1]s/server.key'\n",
			made.Folder))
		made.Start(t, "-c", "listen_addresses=127.0.0.1,::1", "-c", "ssl_ca_file="+made.Folder+"/ca.pem",
			"-c", "max_connections=30")
		made.Do(t, postgresAccounts...)
	}
	s := &server{port: made.Port, socket: made.Socket, folder: made.Folder, ca: made.Folder + "/ca.pem"}
	realServers[engine] = s
	return s
}

func realPostgres(t *testing.T) *server { t.Helper(); return realServer(t, "postgres") }

func realMariaDB(t *testing.T) *server { t.Helper(); return realServer(t, "mariadb") }

// The accounts and databases of the real servers.
var (
	postgresAccounts = []string{
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
		"create role digest login password 'md5" + md5Of("digest-pwdigest") + "'",
	}
	mariaAccounts = []string{
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
	}
)

func put(t *testing.T, path string, data []byte) {
	t.Helper()
	must(t, os.WriteFile(path, data, 0o600))
}
