package doors

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/harbor/worldtest"
	"gentle-harbor/internal/standin"
)

// TestHanded opens two doors, says what a program is told of them, and has another process release
// them.
func TestHanded(t *testing.T) {
	w, _, notes := worldtest.New(t)
	for name, engine := range map[string]string{"live": "postgres", "ledger": "mariadb"} {
		s, err := standin.Start(standin.Config{Engine: engine,
			Accounts: map[string]string{"warden_app": worldtest.Canary}})
		must(t, err)
		t.Cleanup(s.Close)
		worldtest.Save(t, w, name, fmt.Sprintf("engine: %s\nhost: 127.0.0.1\nport: %d\nuser: warden_app\n"+
			"database: bunkhouse\nsecret: env:PW\nhand-over: {HUT_PASSWORD: secret, HUT_HOST: host}\n", engine, s.Port()))
	}
	r := harbor.New(w)
	r.Connects = true
	over, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := (Opening{Run: r}).Open(over, []string{"live"}); !errors.Is(err, context.Canceled) {
		t.Errorf("a run that has ended: %v", err)
	}
	if _, err := (Opening{Run: r}).Open(t.Context(), []string{"live", "nowhere"}); err == nil {
		t.Error("a door to a profile that is not there")
	}
	if list, err := Opened(t.Context(), w); len(list) > 0 || err != nil {
		t.Errorf("%+v is left open, %v", list, err)
	}
	doors, err := (Opening{Run: r}).Open(t.Context(), []string{"live", "ledger"})
	must(t, err)
	defer doors.Close(0)
	port := fmt.Sprint(doors.List[0].Port)
	got := doors.Environment([]string{"PATH=/bin", "GHARBOR_PORT=1", "GHARBOR_HOME=/h", "PORT=2"})
	for _, want := range []string{"PATH=/bin", "GHARBOR_HOME=/h", "PORT=2", "GHARBOR_DOOR_HOST=127.0.0.1",
		"GHARBOR_DOOR_PORT=" + port, "GHARBOR_DOOR_USER=warden_app", "GHARBOR_DOOR_DATABASE=bunkhouse",
		fmt.Sprint("GHARBOR_DOOR_2_PORT=", doors.List[1].Port), "HUT_PASSWORD=" + worldtest.Canary, "HUT_HOST=127.0.0.1"} {
		if !slices.Contains(got, want) {
			t.Errorf("%s is not handed over", strings.ReplaceAll(want, worldtest.Canary, "CANARY"))
		}
	}
	if slices.Contains(got, "GHARBOR_PORT=1") {
		t.Error("what overrides a setting is handed on")
	}
	for _, pair := range doors.Handed() {
		if name, _, _ := strings.Cut(pair, "="); strings.HasPrefix(name, "GHARBOR_") && !IsVariable(name) {
			t.Errorf("%s is no variable of a door", name)
		}
	}
	for _, name := range []string{"GHARBOR_DOOR_SECRET", "GHARBOR_DOOR_2_", "GHARBOR_DOOR_x_HOST", "GHARBOR_DOOR_host"} {
		if IsVariable(name) {
			t.Errorf("%s is a variable of a door", name)
		}
	}
	args, err := doors.Fill([]string{"{host}", "--port={port}", "x{user}", "{secret}", "{database}"})
	if err != nil || !slices.Equal(args, []string{"127.0.0.1", "--port=" + port, "x{user}", "{secret}", "bunkhouse"}) {
		t.Errorf("%q %v", args, err)
	}
	doors.List[0].Profile.Database = "a b; c"
	if _, err := doors.Fill([]string{"{database}"}); err == nil ||
		!strings.Contains(err.Error(), "GHARBOR_DOOR_DATABASE") {
		t.Errorf("what a shell would part: %v", err)
	}
	if uri := doors.List[1].URI(doors.List[1].Password); !strings.Contains(uri, "://warden_app:"+worldtest.Canary+"@") {
		t.Error("the connection string has no password")
	}

	list, err := Opened(t.Context(), w)
	if err != nil || len(list) != 2 {
		t.Fatalf("%+v %v", list, err)
	}
	for name, want := range map[string]int{"live": 1, "nowhere": 0} {
		if n, err := Release(t.Context(), w, name); n != want || err != nil {
			t.Errorf("%q: %d doors, %v", name, n, err)
		}
	}
	if n, err := Release(t.Context(), w, ""); n != 1 || err != nil {
		t.Errorf("all that is left: %d doors, %v", n, err)
	}
	select {
	case <-doors.Released():
	case <-time.After(20 * time.Second):
		t.Error("nobody is told that all doors are released")
	}
	if text := strings.Join(*notes, "\n"); strings.Contains(text, worldtest.Canary) {
		t.Error("a note shows the password")
	}
}

func must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}
