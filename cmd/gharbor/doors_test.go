//go:build unix

package main

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"

	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	_ "github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5/pgconn"

	"gentle-harbor/internal/door"
	"gentle-harbor/internal/standin"
)

// held starts gharbor hold, and gives its doors once they are open, and what ends it.
func (w *world) held(args ...string) (doors []door.Record, cmd *exec.Cmd, errs *buffer) {
	w.Helper()
	cmd = w.command(append([]string{"hold", "--json"}, args...)...)
	out, err := cmd.StdoutPipe()
	must(w.T, err)
	errs = &buffer{}
	cmd.Stderr = errs
	must(w.T, cmd.Start())
	w.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	var all struct {
		Doors []door.Record `json:"doors"`
	}
	var said bytes.Buffer
	if err := json.NewDecoder(io.TeeReader(out, &said)).Decode(&all); err != nil || len(all.Doors) == 0 {
		w.Fatalf("hold %v: %v, %s\n%s", args, err, &said, errs)
	}
	go func() { _, _ = io.Copy(io.Discard, out) }()
	return all.Doors, cmd, errs
}

// buffer can be written to and read by several.
type buffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (b *buffer) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.b.Write(p)
}

func (b *buffer) String() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.b.String()
}

// asks logs in through a door with a driver, and gives the number that comes back.
func logsIn(port int) error {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	conn, err := pgconn.Connect(ctx, fmt.Sprintf("host=127.0.0.1 port=%d user=warden_app password=%s "+
		"dbname=bunkhouse sslmode=disable",
		port, canary))
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, "select 1").ReadAll()
	return err
}

// TestHold opens doors to practice servers, with and without a hop, uses them with the drivers,
// and ends them in each way.
func TestHold(t *testing.T) {
	t.Parallel()
	h := newHopped(t, nil, "PW="+canary)
	pg, my := practice(t, standin.Config{Engine: "postgres"}), practice(t, standin.Config{Engine: "mysql"})
	for name, args := range map[string][]string{
		"far":   {"--engine", "postgres", "--host", "localhost", "--port", fmt.Sprint(pg.Port()), "--via", h.via},
		"near":  {"--engine", "postgres", "--host", "127.0.0.1", "--port", fmt.Sprint(pg.Port())},
		"other": {"--engine", "mysql", "--host", "localhost", "--port", fmt.Sprint(my.Port()), "--via", h.via},
	} {
		h.must(0, append([]string{"add", name, "--user", "warden_app", "--database", "bunkhouse",
			"--secret", "env:PW"}, args...)...)
	}
	has(t, h.must(0, "doors").out, "No door is open")
	doors, cmd, errs := h.held("far", "near", "other")
	if len(doors) != 3 || doors[0].Host != "127.0.0.1" || doors[0].State != door.Open ||
		doors[0].PID != cmd.Process.Pid || len(doors[0].Target.Hops) != 1 {
		t.Errorf("%+v", doors)
	}
	for _, d := range doors[:2] {
		if err := logsIn(d.Port); err != nil {
			t.Errorf("%s: %v", d.Profile, err)
		}
	}
	db, err := sql.Open("mysql", fmt.Sprintf("warden_app:%s@tcp(127.0.0.1:%d)/bunkhouse", canary, doors[2].Port))
	must(t, err)
	if err := db.Ping(); err != nil {
		t.Errorf("mysql: %v", err)
	}
	_ = db.Close()
	list := h.must(0, "doors").out
	has(t, list, "far", "near", "other", "127.0.0.1:"+strconv.Itoa(doors[0].Port), "via "+h.via, "open")
	if r := h.run("hold", "far"); r.code != 3 || !strings.Contains(r.err, "has a door already") {
		t.Errorf("%d %s", r.code, r.err)
	}
	if r := h.run("hold", "near", "--door", strconv.Itoa(doors[0].Port)); r.code != 3 {
		t.Errorf("%d %s", r.code, r.err)
	}
	has(t, h.must(0, "release", "near").out, "Closed 1 door")
	if err := logsIn(doors[1].Port); err == nil {
		t.Error("the door is still open")
	}
	// An exact port that is taken names who has it; --near takes the next.
	if r := h.run("hold", "near", "--door", strconv.Itoa(doors[0].Port)); r.code != 3 ||
		!strings.Contains(r.err, "by the door of far") {
		t.Errorf("%d %s", r.code, r.err)
	}
	has(t, h.must(0, "hold", "near", "--door", strconv.Itoa(doors[0].Port), "--near", "--for", "10ms").out,
		"is taken by the door of far", "so the next free one is used")
	next, second, _ := h.held("near", "--door", strconv.Itoa(doors[0].Port), "--near")
	if next[0].Port <= doors[0].Port || next[0].Port > doors[0].Port+100 {
		t.Errorf("%+v", next)
	}
	must(t, second.Process.Signal(os.Interrupt))
	if err := second.Wait(); err != nil {
		t.Errorf("Ctrl-C: %v", err)
	}
	has(t, h.must(0, "release", "--all").out, "Closed 2 doors")
	if err := cmd.Wait(); err != nil || !strings.Contains(errs.String(), "released") {
		t.Errorf("%v %s", err, errs)
	}
	// A socket is for this account alone.
	socket, third, _ := h.held("near", "--door-socket")
	info, err := os.Stat(filepath.Dir(socket[0].Socket))
	if err != nil || info.Mode().Perm() != 0o700 || !strings.HasSuffix(socket[0].Socket, "/.s.PGSQL.5432") {
		t.Errorf("%+v %v", socket, err)
	}
	conn, err := pgconn.Connect(t.Context(),
		"host="+filepath.Dir(socket[0].Socket)+" user=warden_app dbname=bunkhouse password="+canary)
	if err != nil {
		t.Error(err)
	} else {
		_ = conn.Close(t.Context())
	}
	// One that is killed is noticed, and taken away.
	must(t, third.Process.Kill())
	_ = third.Wait()
	has(t, h.must(0, "doors").out, "near", "gone")
	has(t, h.must(0, "doors").out, "No door is open")
	// It ends by itself.
	_, fourth, told := h.held("near", "--for", "1s")
	if err := fourth.Wait(); err != nil || !strings.Contains(told.String(), "closed after 1s") {
		t.Errorf("%v %s", err, told)
	}
	// In the background.
	r := h.must(0, "hold", "far", "--background")
	has(t, r.out, "127.0.0.1", "string", "postgres://warden_app@127.0.0.1:")
	has(t, r.err, "in the background")
	has(t, h.must(0, "doors").out, "far")
	h.must(0, "release", "far")
	for range 100 {
		if out := h.must(0, "doors").out; strings.Contains(out, "No door") {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	entries, err := os.ReadDir(filepath.Join(h.home, "gharbor/state/doors"))
	for _, each := range entries {
		if !strings.HasPrefix(each.Name(), "at-") {
			t.Errorf("%s is left, %v", each.Name(), err)
		}
	}
	if r := h.run("hold", "far", "--background", "--door", strconv.Itoa(h.sshd.Port)); r.code != 3 {
		t.Errorf("exit %d: %s%s", r.code, r.out, r.err)
	}
	h.fails("login.refused", "near", "--secret", "env:HOME")
	if r := h.run("hold", "nosuch"); r.code != 3 {
		t.Errorf("%+v", r)
	}
}

// TestWith runs programs with doors: what they get, how they end, and that nothing is left.
func TestWith(t *testing.T) {
	t.Parallel()
	h := newHopped(t, nil, "PW="+canary, "GHARBOR_TIMEOUT=7s")
	pg := practice(t, standin.Config{Engine: "postgres"})
	add := []string{"--engine", "postgres", "--host", "localhost", "--port", fmt.Sprint(pg.Port()),
		"--user", "warden_app", "--database", "bunkhouse", "--secret", "env:PW", "--via", h.via}
	h.must(0, append([]string{"add", "p", "--hand-over", "BOOKING_DB_URL=uri",
		"--hand-over", "BOOKING_PORT=port"}, add...)...)
	h.must(0, append([]string{"add", "q"}, add...)...)
	h.environ = h.environ[:len(h.environ)-1]
	r := h.must(0, "with", "p,q", "--", "sh", "-c",
		`echo "$GHARBOR_DOOR_HOST $GHARBOR_DOOR_USER $GHARBOR_DOOR_DATABASE ${GHARBOR_DOOR_2_PORT:+two} ${BOOKING_PORT:+booked} [$GHARBOR_TIMEOUT] $0 $1"; test "$BOOKING_PORT" = "$GHARBOR_DOOR_PORT" && case "$BOOKING_DB_URL$DATABASE_URL" in *:$PW@*) echo has it;; esac`,
		"{port}", "--to={host}")
	if f := strings.Fields(r.out); len(f) < 8 || f[0] != "127.0.0.1" || f[1] != "warden_app" ||
		f[2] != "bunkhouse" || f[3] != "two" || f[4] != "booked" || f[5] != "[]" || f[7] != "--to=127.0.0.1" ||
		!strings.Contains(r.out, "has it") {
		t.Errorf("%s%s", r.out, r.err)
	}
	if strings.Contains(r.out+r.err, canary) {
		t.Error("the password is shown")
	}
	if r := h.run("with", "p", "--", "sh", "-c", "exit 7"); r.code != 7 {
		t.Errorf("exit %d", r.code)
	}
	if r := h.run("with", "p", "--", "sh", "-c", "kill -9 $$"); r.code != 137 {
		t.Errorf("exit %d", r.code)
	}
	if r := h.run("with", "p", "--", "no-such-program"); r.code != 3 {
		t.Errorf("exit %d", r.code)
	}
	if r := h.run("with", "p"); r.code != 2 {
		t.Errorf("exit %d", r.code)
	}
	// A signal goes to the program, which ends in its own way.
	cmd := h.command("with", "p", "--", "sh", "-c",
		`trap "echo bye; exit 3" TERM; echo ready; while :; do sleep 0.05; done`)
	out, err := cmd.StdoutPipe()
	must(t, err)
	must(t, cmd.Start())
	first := make([]byte, 6)
	_, err = io.ReadFull(out, first)
	must(t, err)
	must(t, cmd.Process.Signal(syscall.SIGTERM))
	rest, _ := io.ReadAll(out)
	if err := cmd.Wait(); cmd.ProcessState.ExitCode() != 3 || !strings.Contains(string(rest), "bye") {
		t.Errorf("%v %q", err, rest)
	}
	has(t, h.must(0, "doors").out, "No door is open")
}

// TestADoorThatCannotReach answers clients in their engine's own form of error when the server is
// away, and is there again when it is.
func TestADoorThatCannotReach(t *testing.T) {
	h := newHopped(t, nil, "PW="+canary)
	pg := practice(t, standin.Config{Engine: "postgres"})
	h.must(0, "add", "p", "--engine", "postgres", "--host", "localhost", "--port", fmt.Sprint(pg.Port()),
		"--user", "warden_app", "--database", "bunkhouse", "--secret", "env:PW", "--via", h.via)
	doors, _, errs := h.held("p")
	must(t, logsIn(doors[0].Port))
	pg.Close()
	if err := logsIn(doors[0].Port); err == nil || !strings.Contains(err.Error(), "port.refused") ||
		!strings.Contains(err.Error(), "08001") {
		t.Errorf("%v", err)
	}
	// The hop dies with all of its sessions, and comes back: so does the door.
	h.sshd.Stop()
	var state string
	for range 200 {
		if state = h.must(0, "doors").out; strings.Contains(state, "reconnecting") {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	has(t, state, "reconnecting")
	h.sshd.Restart()
	for range 300 {
		if state = h.must(0, "doors").out; strings.Contains(state, " open") {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	has(t, state, " open")
	has(t, errs.String(), "p: reconnecting", "p: open")
	// A login that is refused now is not sent again.
	h.sshd.Forget()
	h.sshd.Stop()
	h.sshd.Restart()
	for range 300 {
		if state = h.must(0, "doors").out; strings.Contains(state, "needs-you") {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	has(t, state, "needs-you", "tunnel.login-refused")
	before := -1
	eventually(t, "what was on its way has come", func() bool {
		was := before
		time.Sleep(300 * time.Millisecond)
		before = strings.Count(h.sshd.Log(), "Failed publickey")
		return was == before
	})
	time.Sleep(1500 * time.Millisecond)
	if after := strings.Count(h.sshd.Log(), "Failed publickey"); after != before {
		t.Errorf("%d more logins were tried", after-before)
	}
	if err := logsIn(doors[0].Port); err == nil || !strings.Contains(err.Error(), "tunnel.login-refused") {
		t.Errorf("%v", err)
	}
}
