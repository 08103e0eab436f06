//go:build unix

package main

import (
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"gentle-harbor/internal/standin"
)

// sleeping counts the sessions of a real server that run a statement with a word in it.
func sleeping(t *testing.T, engine string, w *world, admin string, word string) int {
	t.Helper()
	statement := "select count(*) as n from pg_stat_activity where query like '%" + word +
		"%' and state = 'active' and pid <> pg_backend_pid()"
	if engine == "mariadb" {
		statement = "select count(*) as n from information_schema.processlist where info like '%" + word +
			"%' and id <> connection_id()"
	}
	out := w.must(0, "run", admin, statement, "--as", "csv").out
	n := 0
	if _, err := fmt.Sscanf(out, "n\n%d", &n); err != nil {
		t.Fatalf("%q", out)
	}
	return n
}

// TestInterruptEndsTheStatement interrupts a statement: it is ended at the server, also through
// two hops.
func TestInterruptEndsTheStatement(t *testing.T) {
	t.Parallel()
	h := newHopped(t, nil, "PW="+canary)
	for name, statement := range map[string]string{"postgres": "select pg_sleep(40), '%s'",
		"mariadb": "select sleep(40), '%s'"} {
		s := realMariaDB(t)
		if name == "postgres" {
			s = realPostgres(t)
		}
		p := h.save(name, name, s.warden()...)
		ways := map[string][]string{"straight": nil, "hops": {"--via", h.via, "--via", h.via}}
		if name == "postgres" { // the pooler passes it on
			at := fmt.Sprint(pooler(t, "transaction"))
			ways["pooler"], ways["pooler-role"] = []string{"--port", at}, []string{"--port", at, "--role", "helper"}
		}
		for way, flags := range ways {
			word := "word-" + name + way
			cmd := h.command(append([]string{"run", p, fmt.Sprintf(statement, word)}, flags...)...)
			var said strings.Builder
			cmd.Stdout, cmd.Stderr = &said, &said
			must(t, cmd.Start())
			seen := func(n int) bool {
				for end := time.Now().Add(10 * time.Second); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
					if sleeping(t, name, h.world, p, word) == n {
						return true
					}
				}
				return false
			}
			if !seen(1) {
				t.Fatalf("%s, %s: the statement does not run: %s", name, way, said.String())
			}
			_ = cmd.Process.Signal(os.Interrupt)
			_ = cmd.Wait()
			if cmd.ProcessState.ExitCode() != 130 || strings.Contains(said.String(), "finding") ||
				!strings.HasSuffix(said.String(), "gharbor: interrupted\n") {
				t.Errorf("%s, %s: exit %d: %s", name, way, cmd.ProcessState.ExitCode(), said.String())
			}
			if !seen(0) {
				t.Errorf("%s, %s: the statement goes on at the server", name, way)
			}
		}
	}
}

// TestWhatEndedARun has each signal be named that is not a person's Ctrl-C.
func TestWhatEndedARun(t *testing.T) {
	t.Parallel()
	s := practice(t, standin.Config{Engine: "postgres", Faults: standin.Faults{Stall: true}})
	w := newWorld(t, "PW="+canary)
	w.wardens("p", "postgres", s, "--timeout", "60s")
	for signal, says := range map[syscall.Signal]string{syscall.SIGINT: "gharbor: interrupted\n",
		syscall.SIGTERM: "gharbor: interrupted (SIGTERM)\n", syscall.SIGHUP: "gharbor: interrupted (SIGHUP)\n"} {
		cmd, said := w.command("test", "p"), &buffer{}
		cmd.Stderr = said
		must(t, cmd.Start())
		eventually(t, "it tests", func() bool { return s.Connections() > 0 })
		must(t, cmd.Process.Signal(signal))
		if _ = cmd.Wait(); cmd.ProcessState.ExitCode() != 130 || said.String() != says {
			t.Errorf("%s: exit %d, %q", signal, cmd.ProcessState.ExitCode(), said.String())
		}
		eventually(t, "it has gone", func() bool { return s.Connections() == 0 })
	}
}

// TestABalancerMeetsTheWrongServer has two servers behind one address: the statement's own does
// not answer a second time, so nothing is ended, and that is said.
func TestABalancerMeetsTheWrongServer(t *testing.T) {
	t.Parallel()
	for engine, statement := range map[string]string{"mariadb": "select sleep(9), 'word-balanced'",
		"postgres": "select pg_sleep(9), 'word-balanced'"} {
		t.Run(engine, func(t *testing.T) { balanced(t, engine, statement) })
	}
}

func balanced(t *testing.T, engine, statement string) {
	w := newWorld(t, "PW="+canary)
	s := realMariaDB(t)
	if engine == "postgres" {
		s = realPostgres(t)
	}
	other := practice(t, standin.Config{Engine: engine, Login: "mysql_native_password"})
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	must(t, err)
	defer listener.Close()
	var late atomic.Bool // the session runs; others may have looked at this port before
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			to := fmt.Sprintf("127.0.0.1:%d", s.port)
			if late.Load() {
				to = other.Address()
			}
			go func() {
				defer conn.Close()
				server, err := net.Dial("tcp", to)
				if err != nil {
					return
				}
				defer server.Close()
				go func() { _, _ = io.Copy(server, conn); _ = server.Close() }()
				_, _ = io.Copy(conn, server)
			}()
		}
	}()
	p := w.save("p", engine, s.warden()...)
	cmd := w.command("run", p, statement, "--host", "127.0.0.1", "--port", fmt.Sprint(listener.Addr().(*net.TCPAddr).Port))
	var said strings.Builder
	cmd.Stdout, cmd.Stderr = &said, &said
	must(t, cmd.Start())
	for range 100 {
		if sleeping(t, engine, w, p, "word-balanced") == 1 {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	late.Store(true)
	_ = cmd.Process.Signal(os.Interrupt)
	_ = cmd.Wait()
	has(t, said.String(), "the statement may go on at the server")
	if sleeping(t, engine, w, p, "word-balanced") != 1 {
		t.Error("the statement is gone, which nobody was asked for")
	}
}

// TestNothingElseIsCancelled has a session of another that sleeps: an interrupt ends your own
// alone.
func TestNothingElseIsCancelled(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "PW="+canary)
	s := realPostgres(t)
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	conn, err := pgconn.Connect(ctx, fmt.Sprintf("host=127.0.0.1 port=%d user=warden_app password=%s "+
		"dbname=bunkhouse sslmode=disable",
		s.port, canary))
	must(t, err)
	defer conn.Close(ctx)
	done := make(chan error, 1)
	go func() { _, err := conn.Exec(ctx, "select pg_sleep(3), 'word-other'").ReadAll(); done <- err }()
	p := w.save("p", "postgres", s.warden()...)
	cmd := w.command("run", p, "select pg_sleep(30)")
	must(t, cmd.Start())
	eventually(t, "the statement runs", func() bool { return sleeping(t, "postgres", w, p, "pg_sleep(30)") == 1 })
	_ = cmd.Process.Signal(os.Interrupt)
	_ = cmd.Wait()
	if err := <-done; err != nil {
		t.Errorf("another's statement was ended: %v", err)
	}
}
