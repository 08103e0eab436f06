package edits

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"gentle-harbor/internal/harbor/stores"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/harbor/worldtest"
	"gentle-harbor/internal/profile"
)

func nothing() {}

// of gives the edits of a world.
func of(w *world.World) Edits { return Edits{stores.Of(w)} }

// set makes a layer as flags do.
func set(pairs ...string) profile.Layer {
	layer := profile.Layer{}
	for i := 0; i < len(pairs); i += 2 {
		layer[pairs[i]] = profile.Value{Text: pairs[i+1], Origin: profile.Origin{Layer: profile.LayerFlag}}
	}
	return layer
}

func TestChange(t *testing.T) {
	const before = "# by hand\nengine: postgres\nhost: a\nport: 6021 # kept\nuser: u\nlabels: {x: y, z: w}\n"
	for _, c := range []struct {
		name  string
		set   []string
		unset []string
		want  []string // what the file has afterwards
		gone  []string
		says  string
	}{
		{name: "one value", set: []string{"user", "v"}, want: []string{"# by hand", "port: 6021 # kept", "user: v"}},
		{name: "another host takes the port out", set: []string{"host", "b"}, want: []string{"host: b"},
			gone: []string{"port:"}},
		{name: "the same host keeps it", set: []string{"host", "a"}, want: []string{"port: 6021"}},
		{name: "a socket instead of a host", set: []string{"socket", "/run/x"},
			want: []string{"socket: /run/x"}, gone: []string{"host:", "port:"}},
		{name: "an empty value", set: []string{"user", ""}, gone: []string{"user:"}},
		{name: "a whole map", unset: []string{"labels."}, gone: []string{"x: y", "z: w"}},
		{name: "nothing", says: "a setting to change"},
		{name: "a base that is not there", set: []string{"base", "none"}, says: "none"},
	} {
		w, _, _ := worldtest.New(t)
		r := of(w)
		worldtest.Save(t, w, "p", before)
		p, err := r.Existing("p")
		must(t, err)
		err = r.Change(t.Context(), p, set(c.set...), c.unset, nothing)
		if (err != nil) != (c.says != "") || err != nil && !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", c.name, err)
		}
		after := worldtest.Text(t, w, "p")
		if err != nil && after != before {
			t.Errorf("%s: it failed and wrote:\n%s", c.name, after)
		}
		for _, want := range c.want {
			if !strings.Contains(after, want) {
				t.Errorf("%s: %q is missing in\n%s", c.name, want, after)
			}
		}
		for _, gone := range c.gone {
			if strings.Contains(after, gone) {
				t.Errorf("%s: %q is left in\n%s", c.name, gone, after)
			}
		}
	}
}

// TestCopyRenameRemove moves profiles about: paths lead to the same files, bases follow, and
// nothing is lost.
func TestCopyRenameRemove(t *testing.T) {
	w, _, notes := worldtest.New(t)
	r := of(w)
	worldtest.Save(t, w, "p", "engine: postgres\nuser: u\nhost: h\ntls: {mode: verify, ca: ca.pem}\n")
	worldtest.Save(t, w, "child", "base: p\n")
	if _, _, err := r.Copy(t.Context(), "p", "deep/q", false); err != nil {
		t.Fatal(err)
	}
	if text := worldtest.Text(t, w, "deep/q"); !strings.Contains(text, "ca: ../ca.pem") {
		t.Errorf("the path leads elsewhere:\n%s", text)
	}
	for _, c := range [][3]string{{"p", "deep/q", "already"}, {"p", "p", "the same profile"},
		{"nope", "x", "there is no profile"}, {"p", "a name", "name"}} {
		if _, _, err := r.Copy(t.Context(), c[0], c[1], false); err == nil || !strings.Contains(err.Error(), c[2]) {
			t.Errorf("%v: %v", c, err)
		}
	}
	renamed := 0
	if err := r.Rename(t.Context(), "p", "new", false, false, func() { renamed++ }, nil); err != nil || renamed != 1 {
		t.Errorf("%v, %d", err, renamed)
	}
	if !strings.Contains((*notes)[len(*notes)-1], "says base: p, which is gone; write base: new") {
		t.Errorf("%q", *notes)
	}
	worldtest.Save(t, w, "child", "base: new\n")
	var followed []string
	if err := r.Rename(t.Context(), "new", "newer", false, true, nothing, func(name, base string) {
		followed = append(followed, name+" "+base)
	}); err != nil || !slices.Equal(followed, []string{"child newer"}) {
		t.Errorf("%v, %v", err, followed)
	}
	if text := worldtest.Text(t, w, "child"); text != "base: newer\n" {
		t.Errorf("%q", text)
	}
	if err := r.Remove(t.Context(), []string{"newer", "nope"}, func(string) {}); err == nil {
		t.Error("a name that is not there is passed over")
	}
	var removed []string
	if err := r.Remove(t.Context(), []string{"newer", "deep/q"}, func(name string) {
		removed = append(removed, name)
	}); err != nil || len(removed) != 2 {
		t.Errorf("%v, %v", err, removed)
	}
	if !strings.Contains((*notes)[len(*notes)-1], "says base: newer, which is gone now") {
		t.Errorf("%q", *notes)
	}
}

// TestAProjectIsAgreedToByItsWriter writes into a project, and copies out of one that nobody
// agreed to.
func TestAProjectIsAgreedToByItsWriter(t *testing.T) {
	w, _, notes := worldtest.New(t)
	r := of(w)
	w.Dir = t.TempDir()
	worldtest.Save(t, w, "p", "engine: postgres\nuser: u\nhost: h\n")
	if _, to, err := r.Copy(t.Context(), "p", "project:p", false); err != nil || !to.Store.Project || !r.agreedNow(to) {
		t.Fatalf("%v", err)
	}
	if !strings.Contains((*notes)[0], "commit it with the rest") {
		t.Errorf("%q", *notes)
	}
	p, err := r.Existing("project:p")
	must(t, err)
	if err := r.Change(t.Context(), p, set("note", "x"), nil, nothing); err != nil || !r.agreedNow(p) {
		t.Errorf("the writer's own change is not agreed to: %v", err)
	}
	must(t, os.WriteFile(p.File(), []byte("engine: postgres\nuser: u\nhost: elsewhere\n"), 0o600))
	if _, _, err := r.Copy(t.Context(), "project:p", "mine:stolen", false); err == nil ||
		!strings.Contains(err.Error(), "gharbor agree") {
		t.Errorf("%v", err)
	}
	if err := r.Change(t.Context(), p, set("note", "y"), nil, nothing); err != nil || r.agreedNow(p) {
		t.Errorf("a change agreed to what someone else had changed before: %v", err)
	}
}

func TestEdit(t *testing.T) {
	const before, good, bad = "engine: postgres\nuser: u\nhost: h\n", "engine: postgres\nuser: v\nhost: h\n", "engine: nonsense\n"
	writing := func(texts ...string) func(string) error {
		return func(path string) error {
			text := texts[0]
			if len(texts) > 1 {
				texts = texts[1:]
			}
			return os.WriteFile(path, []byte(text), 0o600)
		}
	}
	for _, c := range []struct {
		name    string
		editor  func(string) error
		answers [][2]string
		how     Edited
		fails   string
		after   string
		kept    bool // whether the draft is
	}{
		{"a good change", writing(good), nil, Changed, "", good, false},
		{"no change", writing(before), nil, Unchanged, "", before, false},
		{"a mistake that is corrected", writing(bad, good), [][2]string{{"Go back", ""}}, Changed, "", good, false},
		{"a mistake that is left", writing(bad), [][2]string{{"Go back", "leave"}}, Left, "", before, true},
		{"an editor that fails", func(string) error { return errors.New("it failed") }, nil, Unchanged,
			"it failed", before, true},
	} {
		w, who, _ := worldtest.New(t, c.answers...)
		r := of(w)
		worldtest.Save(t, w, "p", before)
		p, err := r.Existing("p")
		must(t, err)
		how, draft, err := r.Edit(t.Context(), p, c.editor, nothing)
		if how != c.how || (err != nil) != (c.fails != "") ||
			err != nil && !strings.Contains(err.Error(), c.fails) || who.Wrong != "" {
			t.Errorf("%s: %v, %v, %s", c.name, how, err, who.Wrong)
		}
		if text := worldtest.Text(t, w, "p"); text != c.after {
			t.Errorf("%s: the file is %q", c.name, text)
		}
		if _, err := os.Stat(draft); (err == nil) != c.kept {
			t.Errorf("%s: the draft is kept: %v", c.name, err == nil)
		}
		_ = os.RemoveAll(filepath.Dir(draft))
	}
}

func must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}
