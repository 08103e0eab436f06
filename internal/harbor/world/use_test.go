package world

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"gentle-harbor/internal/profile"
)

// nobody is a person who is not there.
type nobody struct{}

func (nobody) Here() bool                                     { return false }
func (nobody) Say(string)                                     {}
func (nobody) Ask(context.Context, string) (string, error)    { return "", ErrLeft }
func (nobody) Hidden(context.Context, string) (string, error) { return "", ErrLeft }

// small gives a world of files alone, in which nobody is asked.
func small(t *testing.T) *World {
	t.Helper()
	home := t.TempDir()
	return &World{Environ: []string{"GHARBOR_HOME=" + filepath.Join(home, "own"), "HOME=" + home}, Dir: home,
		Who: nobody{}, Say: func(string) {}}
}

func write(t *testing.T, path, text string) {
	t.Helper()
	must(t, errors.Join(os.MkdirAll(filepath.Dir(path), 0o700), os.WriteFile(path, []byte(text), 0o600)))
}

// TestAProjectsProfileIsAdmitted holds a project's profile back until the user has agreed to it, and
// again when it has changed. What is the user's own needs no agreement.
func TestAProjectsProfileIsAdmitted(t *testing.T) {
	w := small(t)
	theirs := filepath.Join(w.Dir, ".gentle-harbor/profiles/live.yaml")
	write(t, theirs, "engine: postgres\nhost: db.fellside.example\nuser: warden_app\nsecret: env:PW\n")
	write(t, filepath.Join(w.Dir, "own/profiles/mine.yaml"), "engine: postgres\nhost: h\nsecret: wallet\n")
	for _, step := range []struct {
		about  string
		before func(r Reach)
		admits bool
	}{
		{"at first", nil, false},
		{"agreed", func(r Reach) {
			_, terms, err := r.TermsOf("live")
			all, err2 := r.Agreements()
			must(t, errors.Join(err, err2, all.Agree(t.Context(), terms, time.Now())))
		}, true},
		{"changed", func(Reach) {
			write(t, theirs, "engine: postgres\nhost: db2.fellside.example\nuser: warden_app\nsecret: env:PW\n")
		}, false},
	} {
		if step.before != nil {
			step.before(ReachOf(w))
		}
		e, err := ReachOf(w).Admitted(t.Context(), "live")
		agreed := ReachOf(w).AgreedProfiles()
		var said Error
		if step.admits != (err == nil) || step.admits != slices.Contains(agreed, "live") ||
			step.admits && e.Host != "db.fellside.example" ||
			!step.admits && (!errors.As(err, &said) || said.Code != ExitSettings ||
				!strings.Contains(said.Message, "gharbor agree live")) {
			t.Errorf("%s: %s, %v, agreed to %q", step.about, e.Host, err, agreed)
		}
	}
	r := ReachOf(w)
	if _, err := r.Admitted(t.Context(), "mine"); err != nil {
		t.Errorf("your own: %v", err)
	}
	if _, _, err := r.TermsOf("mine"); err == nil || !strings.Contains(err.Error(), "all your own") {
		t.Errorf("terms of your own: %v", err)
	}
	if _, err := r.Admitted(t.Context(), "lve"); err == nil || !strings.Contains(err.Error(), "did you mean live") {
		t.Errorf("a name that is not there: %v", err)
	}
	if ref := r.Reference("mine"); ref.Kind != "wallet" {
		t.Errorf("%+v", ref)
	}
	var names []string
	for _, user := range r.Users() {
		names = append(names, user.Name)
	}
	if slices.Sort(names); !slices.Equal(names, []string{"live", "mine"}) {
		t.Errorf("%q", names)
	}
}

// TestFilesThatAreMade makes new files and folders for their owner alone, and none over another.
func TestFilesThatAreMade(t *testing.T) {
	w := small(t)
	pairs := []profile.Pair{{Name: "host", Value: "h"}, {Name: "password", Value: "x"}}
	for _, again := range []bool{false, true} {
		_, folder := w.NewFolder("binding", pairs)
		for what, err := range map[string]error{"a file": w.NewFile("new", "text"), "a folder": folder} {
			if (err != nil) != again || again && !strings.Contains(err.Error(), "is not overwritten") {
				t.Errorf("%s, again %v: %v", what, again, err)
			}
		}
	}
	for name, mode := range map[string]fs.FileMode{"new": 0o600, "binding": 0o700 | fs.ModeDir, "binding/password": 0o600} {
		if info, err := os.Stat(w.Path(name)); err != nil || info.Mode() != mode {
			t.Errorf("%s: %v %v", name, info, err)
		}
	}
	if err := w.NewFile("nowhere/new", ""); err == nil {
		t.Error("a file in a folder that is not there")
	}
	write(t, w.Path("old"), "old")
	must(t, os.Symlink(w.Path("old"), w.Path("report")))
	must(t, w.ReplaceFile("report", "new"))
	for name, want := range map[string]string{"old": "old", "report": "new"} {
		if data, err := os.ReadFile(w.Path(name)); err != nil || string(data) != want {
			t.Errorf("%s: %q %v", name, data, err)
		}
	}
}

// TestDoing says what was being done where the system's error does not.
func TestDoing(t *testing.T) {
	_, missing := os.Open(filepath.Join(t.TempDir(), "none"))
	closed := &fs.PathError{Op: "open", Path: "f", Err: fs.ErrPermission}
	for _, c := range []struct {
		err  error
		want string
		code int
		of   bool
	}{
		{missing, "to open a door: open ", ExitSettings, false},
		{closed, "to open a door: open f", ExitSettings, true},
		{errors.New("the door is shut"), "the door is shut", ExitSettings, false},
		{Usage("no %s", "name"), "no name", ExitUsage, false},
	} {
		err := Doing("open a door", c.err)
		var said Error
		if !errors.As(err, &said) || said.Code != c.code || !strings.HasPrefix(said.Message, c.want) ||
			OfSystem(c.err) != c.of {
			t.Errorf("%v: %v", c.err, err)
		}
	}
	if _, err := small(t).Consent(t.Context(), false, "Do it?", "nothing is done"); err == nil ||
		!strings.Contains(err.Error(), "--yes") {
		t.Errorf("nobody is there to say yes: %v", err)
	}
	if yes, err := small(t).Consent(t.Context(), true, "Do it?", ""); !yes || err != nil {
		t.Errorf("%v %v", yes, err)
	}
}

func must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}
