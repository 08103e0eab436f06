//go:build unix

package realtest

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	_ "github.com/go-sql-driver/mysql" // its driver, under the name mysql
	"github.com/jackc/pgx/v5/pgconn"

	"gentle-harbor/internal/standin"
)

// Server is a server in a folder of its own. Its owner, overseer or root, logs in without a password.
type Server struct {
	Folder string // of the socket, the log and the certificates
	Data   string // the folder of its data
	Port   int
	Socket string // the socket's file
	Log    string

	account, program string
	flags            []string
}

// Postgres makes a PostgreSQL server in a folder, which is made where it is not there.
func Postgres(t *testing.T, folder string) *Server {
	t.Helper()
	initdb := Program("initdb", "/usr/lib/postgresql/*/bin", "/opt/homebrew/opt/postgresql*/bin")
	if initdb == "" {
		Missing(t, "PostgreSQL")
	}
	s := newServer(t, folder, "postgres", filepath.Join(filepath.Dir(initdb), "postgres"))
	s.made(t, initdb, "-D", s.Data, "-U", "overseer", "-N", "-A", "trust", "--locale=C", "-E", "UTF8")
	s.Listens(FreePort(t))
	return s
}

// MariaDB makes a MariaDB server in a folder, which is made where it is not there.
func MariaDB(t *testing.T, folder string) *Server {
	t.Helper()
	install, daemon := Program("mariadb-install-db"), Program("mariadbd", "/usr/sbin", "/usr/libexec")
	if install == "" || daemon == "" {
		Missing(t, "MariaDB")
	}
	s := newServer(t, folder, "mysql", daemon)
	s.made(t, install, "--no-defaults", "--datadir="+s.Data, "--auth-root-authentication-method=normal")
	s.Listens(FreePort(t))
	return s
}

func newServer(t *testing.T, folder, account, program string) *Server {
	t.Helper()
	must(t, os.MkdirAll(folder, 0o755))
	must(t, os.Chmod(folder, 0o755))
	Give(t, account, folder)
	return &Server{Folder: folder, Data: filepath.Join(folder, "data"), Log: filepath.Join(folder, "log"),
		account: account, program: program}
}

func (s *Server) made(t *testing.T, program string, args ...string) {
	t.Helper()
	if out, err := As(s.account, exec.Command(program, args...)).CombinedOutput(); err != nil {
		t.Fatalf("%s: %v\n%s", program, err, out)
	}
}

// Listens has the server be at a port of 127.0.0.1, and at the socket that goes with it, once it is
// started.
func (s *Server) Listens(port int) {
	s.Port = port
	if s.account == "postgres" {
		s.Socket = filepath.Join(s.Folder, fmt.Sprint(".s.PGSQL.", port))
		s.flags = []string{"-D", s.Data, "-p", fmt.Sprint(port), "-k", s.Folder, "-c", "fsync=off",
			"-c", "listen_addresses=127.0.0.1"}
		return
	}
	s.Socket = filepath.Join(s.Folder, "s")
	s.flags = []string{"--no-defaults", "--datadir=" + s.Data, fmt.Sprint("--port=", port), "--bind-address=127.0.0.1",
		"--socket=" + s.Socket, "--pid-file=" + s.Folder + "/pid", "--innodb-flush-log-at-trx-commit=0"}
}

// Copied gives another server with what is in the folder of this one's data, which does not run.
func (s *Server) Copied(t *testing.T, name string) *Server {
	t.Helper()
	other := *s
	other.Data, other.Log = filepath.Join(s.Folder, name), filepath.Join(s.Folder, name+".log")
	if out, err := exec.Command("cp", "-a", s.Data, other.Data).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	other.Listens(FreePort(t))
	return &other
}

// Put writes a file that the server reads; a name that is not whole is one of its data.
func (s *Server) Put(t *testing.T, name, text string) {
	t.Helper()
	if !filepath.IsAbs(name) {
		name = filepath.Join(s.Data, name)
	}
	must(t, os.WriteFile(name, []byte(text), 0o600))
	Give(t, s.account, name)
}

// Configure appends lines to what PostgreSQL reads at its start.
func (s *Server) Configure(t *testing.T, lines string) {
	t.Helper()
	file, err := os.OpenFile(filepath.Join(s.Data, "postgresql.conf"), os.O_APPEND|os.O_WRONLY, 0)
	must(t, err)
	defer file.Close()
	_, err = file.WriteString("\n" + lines)
	must(t, err)
}

// Command gives the command that runs the server, with more flags.
func (s *Server) Command(flags ...string) *exec.Cmd {
	return As(s.account, exec.Command(s.program, append(append([]string{}, s.flags...), flags...)...))
}

// Launch starts the server, and does not wait for it. It runs until [Stop].
func (s *Server) Launch(t *testing.T, flags ...string) *exec.Cmd {
	t.Helper()
	cmd := s.Command(flags...)
	Launch(t, cmd, s.Log)
	return cmd
}

// Start starts the server, and waits until it answers. It runs until [Stop].
func (s *Server) Start(t *testing.T, flags ...string) *exec.Cmd {
	t.Helper()
	cmd := s.Launch(t, flags...)
	Until(t, s.program, s.Log, func() bool { _, err := s.Ask("select 1"); return err == nil })
	return cmd
}

// Ask runs a statement as the owner, over the socket, and gives the first value of what it gives.
func (s *Server) Ask(statement string) (first string, err error) {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	if s.account == "postgres" {
		conn, err := pgconn.Connect(ctx, fmt.Sprintf("host=%s port=%d user=overseer dbname=postgres", s.Folder, s.Port))
		if err != nil {
			return "", err
		}
		defer conn.Close(ctx)
		results, err := conn.Exec(ctx, statement).ReadAll()
		if err == nil && len(results) > 0 && len(results[0].Rows) > 0 {
			first = string(results[0].Rows[0][0])
		}
		return first, err
	}
	db, err := sql.Open("mysql", "root@unix("+s.Socket+")/")
	if err != nil {
		return "", err
	}
	defer db.Close()
	rows, err := db.QueryContext(ctx, statement)
	if err != nil {
		return "", err
	}
	defer rows.Close()
	if rows.Next() {
		err = rows.Scan(&first)
	}
	return first, err
}

// Do runs statements as the owner. What fails is named by its number, since it may have a password
// in it.
func (s *Server) Do(t *testing.T, statements ...string) {
	t.Helper()
	for i, statement := range statements {
		if _, err := s.Ask(statement); err != nil {
			t.Fatalf("the statement %d of the set-up failed", i+1)
		}
	}
}

// Certificates writes into the server's folder an authority, ca.pem, and certificates with keys of
// it: server, expired and future for the server's names, and client for the account carded.
func (s *Server) Certificates(t *testing.T) {
	t.Helper()
	authority, err := standin.NewAuthority("Fellside Huts test authority")
	must(t, err)
	for name, span := range map[string][2]time.Duration{"server": {-time.Hour, time.Hour},
		"expired": {-2 * time.Hour, -time.Hour}, "future": {time.Hour, 2 * time.Hour},
		"client": {-time.Hour, time.Hour}} {
		names := []string{"db.fellside.example", "127.0.0.1"}
		if name == "client" {
			names = []string{"carded"}
		}
		cert, key, err := authority.Issue(time.Now().Add(span[0]), time.Now().Add(span[1]), names...)
		must(t, err)
		s.Put(t, filepath.Join(s.Folder, name+".crt"), string(cert))
		s.Put(t, filepath.Join(s.Folder, name+".key"), string(key))
	}
	s.Put(t, filepath.Join(s.Folder, "ca.pem"), string(authority.PEM))
}
