//go:build unix

package main

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"gentle-harbor/internal/standin"
)

// setting gives a setting's value and origin as show --json gives them.
func (w *world) setting(name, setting string, args ...string) (value, origin string) {
	w.Helper()
	var show struct {
		Settings []struct {
			Name, Layer, File, From string
			Value                   any
			Line                    int
		}
	}
	r := w.must(0, append([]string{"show", "--json", name}, args...)...)
	if err := json.Unmarshal([]byte(r.out), &show); err != nil {
		w.Fatal(err)
	}
	for _, s := range show.Settings {
		if s.Name == setting {
			origin := s.Layer
			if s.File != "" {
				origin += fmt.Sprintf(" %s:%d", filepath.Base(s.File), s.Line)
			}
			return fmt.Sprint(s.Value), strings.TrimSpace(origin + " " + s.From)
		}
	}
	return "", ""
}

func TestLayersOfTheBuiltProgram(t *testing.T) {
	w := newWorld(t)
	w.write("gharbor/profiles/huts/staging.yaml", "base: common/server\nport: 3\n")
	w.write("gharbor/profiles/common/server.yaml", "engine: postgres\nport: 4\nhost: db.fellside.example\n")
	w.write("gharbor/profiles/huts/group.yaml", "port: 5\nuser: warden_app\n")
	w.write("gharbor/profiles/group.yaml", "note: everywhere\nuser: nobody\n")
	// Which layer wins over which is in the tests of internal/profile; these are those of a run.
	for _, c := range []struct {
		setting, value, origin string
		args, environ          []string
	}{
		{"port", "1", "flag --port", []string{"--port", "1"}, []string{"GHARBOR_PORT=2"}},
		{"port", "2", "environment GHARBOR_PORT", nil, []string{"GHARBOR_PORT=2"}},
		{"port", "3", "profile staging.yaml:2", nil, nil},
		{"port", "3", "profile staging.yaml:2", []string{"--host", "other"}, nil},
		{"note", "", "", []string{"--note", ""}, nil},
	} {
		v := &world{T: t, home: w.home, environ: append(w.environ[:len(w.environ):len(w.environ)], c.environ...)}
		if value, origin := v.setting("huts/staging", c.setting, c.args...); value != c.value || origin != c.origin {
			t.Errorf("%s %v %v: %q from %q", c.setting, c.args, c.environ, value, origin)
		}
	}
	has(t, w.must(0, "show", "huts/staging", "--hidden").out, "hides", "4", "5", "nobody")
}

func TestProjectIsAStranger(t *testing.T) {
	s := practice(t, standin.Config{Engine: "postgres", Faults: standin.Faults{AskClear: true}})
	author := newWorld(t)
	folder := t.TempDir()
	author.home = folder // where it works
	has(t, author.must(0, "add", "huts/shared", "--project", "--engine", "postgres", "--host", "127.0.0.1",
		"--port", fmt.Sprint(s.Port()), "--user", "warden_app", "--database", "bunkhouse",
		"--secret", "env:PW").err, "commit it")
	if text, err := os.ReadFile(filepath.Join(folder, ".gentle-harbor", "README.md")); err != nil ||
		strings.Count(string(text), "\n") != 2 {
		t.Errorf("README: %q, %v", text, err)
	}
	author.environ = append(author.environ, "PW="+canary)
	if !author.report("huts/shared").OK {
		t.Error("who wrote it has to agree to it")
	}
	shown := len(s.Shown())

	w := newWorld(t, "PW="+canary)
	w.home = filepath.Join(folder, "src", "deep")
	must(t, os.MkdirAll(w.home, 0o755))
	has(t, w.must(0, "list").out, "huts/", "shared", "project")
	f := w.fails("settings.not-agreed", "huts/shared")
	has(t, tries(f)[0], "gharbor agree huts/shared")
	for _, args := range [][]string{{"run", "huts/shared", "select 1"}, {"survey", "huts/shared", "databases"},
		{"export", "huts/shared", "--as", "uri", "--with-secret", "--to", "out"},
		{"copy", "huts/shared", "mine:taken"}} {
		if r := w.must(3, args...); strings.Contains(r.out+r.err, canary) {
			t.Errorf("%v shows the password", args)
		}
	}
	has(t, w.must(2, "agree", "huts/shared").out, "host: 127.0.0.1", "secret: env:PW", "user: warden_app")
	has(t, w.must(0, "agree", "huts/shared", "--yes").out, "Agreed")
	has(t, w.must(0, "agree", "--list").out, "huts/shared")
	if !w.report("huts/shared").OK {
		t.Error("agreed, and not in")
	}
	if len(s.Shown()) != shown+1 {
		t.Errorf("the password was shown %d times", len(s.Shown())-shown)
	}
	// The author leads it elsewhere: whoever agreed is asked again, and nothing goes there before.
	trap := practice(t, standin.Config{Engine: "postgres", Faults: standin.Faults{AskClear: true}})
	author.must(0, "change", "huts/shared", "--port", fmt.Sprint(trap.Port()))
	has(t, w.fails("settings.not-agreed", "huts/shared").Cause, "changed since")
	if len(trap.Shown()) > 0 {
		t.Error("the password went to the other server")
	}
	p := w.sit("test", "huts/shared")
	p.Answers("Agree to this?", "no")
	p.Reads("settings.not-agreed")
	p = w.sit("test", "huts/shared")
	p.Answers("Agree to this?", "yes")
	p.Reads("You are in")
	has(t, w.must(0, "agree", "huts/shared", "--withdraw").out, "Withdrawn")
	w.fails("settings.not-agreed", "huts/shared")

	// A variant of your own: what the project says counts, and what it says is agreed to.
	own := newWorld(t, "PW="+canary)
	own.home = w.home
	author.must(0, "change", "huts/shared", "--port", fmt.Sprint(s.Port()))
	own.must(0, "add", "huts/shared", "--base", "project:huts/shared", "--secret", "env:PW", "--note", "mine")
	if value, _ := own.setting("huts/shared", "note"); value != "mine" {
		t.Errorf("the variant's note is %q", value)
	}
	own.fails("settings.not-agreed", "huts/shared")
	own.must(0, "agree", "huts/shared", "--yes")
	if !own.report("huts/shared").OK {
		t.Error("the variant does not get in")
	}
	author.must(0, "add", "project:huts/other", "mysql://u@h")
	for _, text := range []string{"engine: mysql\nuser: u\nnote: \"password=" + canary + "\"\n",
		"base: mine:huts/other\n"} {
		if err := os.WriteFile(filepath.Join(folder, ".gentle-harbor", "profiles", "bad.yaml"), []byte(text),
			0o644); err != nil {
			t.Fatal(err)
		}
		if r := own.must(3, "test", "bad"); strings.Contains(r.out+r.err, canary) {
			t.Error("the refusal shows the password")
		}
	}
	if os.Geteuid() == 0 {
		must(t, os.Chown(filepath.Join(folder, ".gentle-harbor"), 12345, 12345))
		has(t, own.must(3, "show", "project:huts/other").err, "passed over", "another user")
	}
}

func TestChangeCopyRename(t *testing.T) {
	w := newWorld(t)
	path := w.write("gharbor/profiles/huts/local.yaml",
		"# mine\r\nengine: postgres # kind\r\nhost: db\r\nport: 1\r\nuser: a\r\nnote: x\r\ntls:\r\n  ca: ca.pem\r\n")
	w.must(0, "change", "huts/local", "--port", "6021", "--unset", "note", "--label", "season=winter", "--tls", "verify")
	text, err := os.ReadFile(path)
	if want := "# mine\r\nengine: postgres # kind\r\nhost: db\r\nport: 6021\r\nuser: a\r\ntls:\r\n  ca: " +
		"ca.pem\r\n  mode: verify\r\nlabels:\r\n  season: winter\r\n"; err != nil ||
		string(text) != want {
		t.Errorf("%q, %v", text, err)
	}
	has(t, w.must(3, "change", "huts/loca", "--port", "1").err, "did you mean huts/local")
	w.must(0, "copy", "huts/local", "far/away/copy")
	has(t, w.must(3, "copy", "huts/local", "far/away/copy").err, "already")
	w.must(0, "add", "child", "--base", "huts/local", "--note", "y")
	has(t, w.must(0, "rename", "huts/local", "huts/home").err, "child.yaml:1 says base: huts/local",
		"write base: huts/home")
	w.must(0, "rename", "huts/home", "huts/local")
	has(t, w.must(0, "meaning", "secret.not-kept", "cloud.copy-unknown").out, "secret.not-stored",
		"cloud.replica-unknown")
	has(t, w.must(0, "rename", "huts/local", "huts/cabin", "--everywhere").out, "Changed the base of child to huts/cabin")
	w.must(0, "show", "child")
	has(t, w.must(0, "remove", "huts/cabin", "--yes").err, "child.yaml:1")
}

func TestEdit(t *testing.T) {
	w := newWorld(t)
	path := w.write("gharbor/profiles/p.yaml", "engine: postgres\nuser: a\n")
	editor := w.write("editor", "#!/bin/sh\nsed -i \"$CHANGE\" \"$1\"\n")
	must(t, os.Chmod(editor, 0o700))
	with := func(change string) *world {
		return &world{T: t, home: w.home,
			environ: append(w.environ[:len(w.environ):len(w.environ)], "EDITOR="+editor, "CHANGE="+change)}
	}
	has(t, with("s/user: a/user: b # me/").must(0, "edit", "p").out, "Changed p")
	r := with("s/user: b/usr: b/").must(3, "edit", "p")
	has(t, r.err, "did you mean user", "what you wrote is in")
	_ = os.RemoveAll(filepath.Dir(strings.TrimSpace(r.err[strings.LastIndex(r.err, " in ")+4:])))
	v := with("s/user/usr/;t;s/usr/user/;s/: b/: c/")
	p := v.sit("edit", "p")
	p.Answers("(back, leave) [back] ", "")
	p.Reads("Changed p")
	if text, _ := os.ReadFile(path); string(text) != "engine: postgres\nuser: c # me\n" {
		t.Errorf("%q", text)
	}
}

func TestImportAndExport(t *testing.T) {
	w := newWorld(t, "PW="+canary)
	w.must(0, "add", "p", "--engine", "postgres", "--host", "2001:db8::7", "--port", "6021", "--user", "a b",
		"--database", "d/ü", "--secret", "env:PW", "--tls", "encrypt", "--role", "r", "--on-open", "set x = 1",
		"--on-open", "set y = 2", "--note", "it's\na note")
	uri := strings.TrimSpace(w.must(0, "export", "p", "--as", "uri").out)
	if uri != "postgres://a%20b@[2001:db8::7]:6021/d%2F%C3%BC?options=-c%20role%3Dr&sslmode=require" {
		t.Errorf("%s", uri)
	}
	has(t, w.must(0, "export", "p", "--as", "uri").err, "cannot carry on-open")
	// A shell takes the variables, and the program takes them from the shell.
	script := exec.Command("sh", "-c", `eval "$("$0" export p --as env)" && "$0" show p --json`, gharbor)
	script.Dir, script.Env = w.home, w.environ
	r := w.finish(script)
	has(t, r.out, "GHARBOR_USER", "it's\\na note")
	for _, form := range []string{"uri", "env", "dotenv", "json", "binding"} {
		to := "out-" + form
		w.must(0, "export", "p", "--as", form, "--to", to, "--with-secret")
		has(t, w.must(3, "export", "p", "--as", form, "--to", to).err, "not overwritten")
		found := false
		_ = filepath.WalkDir(filepath.Join(w.home, to), func(path string, entry os.DirEntry, err error) error {
			if err != nil || entry.IsDir() {
				return err
			}
			info, _ := entry.Info()
			text, _ := os.ReadFile(path)
			if found = found || strings.Contains(string(text), canary); info.Mode().Perm() != 0o600 {
				t.Errorf("%s has mode %v", path, info.Mode())
			}
			return nil
		})
		if !found {
			t.Errorf("%s: no password in it", form)
		}
		r := w.must(0, "import", "back/"+form, to, "--replace", "--with-references")
		has(t, r.err, "password")
		for _, setting := range []string{"host", "port", "user", "database", "tls.mode", "role"} {
			a, _ := w.setting("p", setting)
			if b, _ := w.setting("back/"+form, setting); a != b {
				t.Errorf("%s: %s %q comes back as %q", form, setting, a, b)
			}
		}
		if text, _ := os.ReadFile(filepath.Join(w.home, "gharbor", "profiles", "back",
			form+".yaml")); strings.Contains(string(text), canary) {
			t.Errorf("%s: the password was saved", form)
		}
	}
	has(t, w.must(0, "export", "p", "--as", "uri", "--with-secret").out, canary) // the test reads through a pipe
	p := w.sit("export", "p", "--as", "uri", "--with-secret")
	p.Reads("only into a new file")
	if p.Ends(); strings.Contains(p.Screen(), canary) {
		t.Error("the terminal shows the password")
	}
	kept, err := os.Create(filepath.Join(w.home, "redirected"))
	must(t, err)
	cmd := w.command("export", "p", "--as", "uri", "--with-secret")
	cmd.Stdout = kept
	if err := cmd.Run(); err == nil {
		t.Error("the password goes to a file that others may read")
	}

	w.write(".env", "A_URL=postgres://u:"+canary+"@a/d\nB_URL=mysql://u@b:1,c:2/d?strange=1\n")
	has(t, w.must(3, "import", "e", ".env").err, "A_URL, B_URL", "--variable")
	has(t, w.must(0, "import", "fs", ".env", "--variable", "B_URL").err, "its 2 hosts are the alias fs")
	for _, args := range [][]string{{"import", "h", "none.txt"}, {"import", "h", "-", "--variable", "X"}} {
		if r := w.must(3, args...); strings.Contains(r.out+r.err, canary) {
			t.Errorf("%v shows the password", args)
		}
	}
	w.must(2, "export", "p", "--as", "xml")
	w.must(2, "export", "p", "--as", "binding")
}

// TestTakenIn asks about what is taken in and is not one thing. What people have at hand is read in
// the tests of internal/profile.
func TestTakenIn(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "PW="+canary)
	has(t, w.must(2, "add", "file", w.write(".env", "DB_HOST=db\n")).err, "gharbor import file "+w.home+"/.env")
	has(t, w.must(3, "add", "none", "what is this").err, "Host: db.fellside.example")
	// What makes it stricter is kept or refused; a person may do without.
	strict := "postgres://warden_app@db/bunkhouse?sslcrl=%2Fx"
	for _, args := range [][]string{{"add", "crl", strict}, {"test", strict}} {
		has(t, w.must(3, append(args, "--secret", "env:PW")...).err, "sslcrl makes the connection stricter")
	}
	p := w.sit("import", "crl", strict, "--secret", "env:PW")
	p.Reads("sslcrl makes the connection stricter")
	p.Answers("Go on without? (yes, no) [no] ", "yes")
	p.Reads("Saved crl")
	p.Ends()
	// Several are named, or asked for.
	w.write("two.env", "A_DB_HOST=a\nA_DB_USER=u\nB_DB_HOST=b\nB_DB_USER=u\n")
	has(t, w.must(3, "import", "two", "two.env", "--engine", "mysql").err, "A_DB_HOST, B_DB_HOST", "--variable NAME")
	p = w.sit("import", "two", "two.env", "--engine", "mysql", "--secret", "none")
	p.Answers("Which one, by its variable [A_DB_HOST]: ", "B_DB_HOST")
	p.Reads("Saved two")
	p.Ends()
	if got, _ := w.setting("two", "host"); got != "b" {
		t.Errorf("host %q", got)
	}
}

func TestListFindsAndGroups(t *testing.T) {
	w := newWorld(t)
	for i, name := range []string{"huts/local", "huts/staging", "huts/far/live", "archive/ledger", "alone"} {
		w.must(0, "add", name, "--engine", "mysql", "--user", "u", "--host", fmt.Sprintf("h%d", i),
			"--label", fmt.Sprintf("n=%d", i), "--note", "Note "+name)
	}
	r := w.must(0, "list")
	for _, line := range []string{"alone  ", "archive/\n", "  ledger  ", "huts/\n", "  far/\n", "    live  ",
		"  local  "} {
		has(t, r.out, "\n"+line)
	}
	has(t, w.must(0, "list", "--flat").out, "\nhuts/far/live ")
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"--labelled", "n=2"}, "huts/far/live"}, {[]string{"LEDGER"}, "archive/ledger"},
		{[]string{"h4"}, "alone"}, {[]string{"--labelled", "none"}, ""}, {[]string{"xyzzy"}, ""},
	} {
		var list struct{ Profiles []struct{ Profile string } }
		must(t, json.Unmarshal([]byte(w.must(0, append([]string{"list", "--json"}, c.args...)...).out), &list))
		if got := strings.Trim(strings.ReplaceAll(fmt.Sprint(list.Profiles), "{", ""), "[]}"); got != c.want {
			t.Errorf("%v: %s", c.args, got)
		}
	}
}

// TestManyAtOnce has two hundred commands change one group together, and some of them killed
// meanwhile.
func TestManyAtOnce(t *testing.T) {
	w := newWorld(t)
	w.write("gharbor/profiles/g/one.yaml", "# kept\nengine: mysql\nuser: u\n")
	var group sync.WaitGroup
	limit := make(chan bool, 16)
	done := func(args ...string) { // one that gave up waiting for the others says so, and is run again
		for range 6 {
			if r := w.run(args...); r.code == 0 || !strings.Contains(r.err, "another gharbor has used") {
				return
			}
		}
	}
	for i := range 200 {
		limit <- true
		group.Go(func() {
			defer func() { <-limit }()
			switch i % 4 {
			case 0:
				done("add", fmt.Sprintf("g/p%d", i), "mysql://u@h")
			case 3:
				cmd := w.command("change", "g/one", "--label", fmt.Sprintf("killed%d=x", i))
				if cmd.Start() == nil {
					time.Sleep(time.Duration(i%20) * 600 * time.Microsecond)
					_ = cmd.Process.Kill()
					_ = cmd.Wait()
				}
			default:
				done("change", "g/one", "--label", fmt.Sprintf("l%d=x", i))
			}
		})
	}
	group.Wait()
	var list struct {
		Profiles []struct {
			Profile, Broken string
			Labels          map[string]string
		}
	}
	must(t, json.Unmarshal([]byte(w.must(0, "list", "--json").out), &list))
	if len(list.Profiles) != 51 {
		t.Errorf("%d profiles", len(list.Profiles))
	}
	for _, p := range list.Profiles {
		if p.Profile == "g/one" {
			for i := range 200 {
				if _, ok := p.Labels[fmt.Sprintf("l%d", i)]; (i%4 == 1 || i%4 == 2) && !ok {
					t.Errorf("the change %d is lost", i)
				}
			}
		}
	}
	text, _ := os.ReadFile(filepath.Join(w.home, "gharbor", "profiles", "g", "one.yaml"))
	has(t, string(text), "# kept\nengine: mysql\n")
}

// TestNamesThatTravel refuses names for a project that another system cannot hold, remarks them
// among your own, and finds those that are there.
func TestNamesThatTravel(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	at := []string{"--engine", "mysql", "--host", "h", "--user", "u", "--secret", "none"}
	add := func(code int, name string, more ...string) result {
		t.Helper()
		return w.must(code, append(append([]string{"add", name}, at...), more...)...)
	}
	if r := add(3, "aux", "--project"); !strings.Contains(r.err, "Take another, such as aux-db") ||
		strings.Contains(r.err, "made ") {
		t.Error(r.err)
	}
	add(0, "huts/a", "--project")
	for name, other := range map[string]string{"Huts/b": "huts/b", "huts/A": "huts/a-db",
		"huts/con.txt": "huts/db-con.txt", "LPT1": "lpt1-db"} {
		r := add(3, name, "--project")
		has(t, r.err, "cannot be a name here")
		_, named, _ := strings.Cut(r.err, "such as ")
		if named = strings.TrimSpace(named); named != other {
			t.Errorf("%s: another name is %s", name, named)
		}
		r = add(0, strings.ReplaceAll(name, "huts/A", "Alone/x"))
		if name != "huts/A" && name != "Huts/b" {
			has(t, r.err, "note: "+name)
		}
	}
	add(0, "huts/own")
	has(t, w.must(0, "copy", "huts/own", "nul").err, "Windows keeps the name nul")
	has(t, w.must(0, "rename", "nul", "com3").err, "Windows keeps the name com3")
	// What is there already, as another system left it, is found; it works.
	w.write(".gentle-harbor/profiles/prn.yaml", "engine: mysql\nhost: h\nuser: u\n")
	out := w.run("audit").out
	has(t, out, "its name does not travel: Windows keeps the name prn", "gharbor rename project:prn NEW-NAME",
		"Windows keeps the name com3", "huts/ and Huts/ are one")
	w.must(0, "show", "com3")
}

// TestGroupsAreAgreedToAndExported shows each profile of a project's group and agrees to those
// that were shown, and exports several profiles together.
func TestGroupsAreAgreedToAndExported(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "PW="+canary)
	for _, name := range []string{"huts/a", "huts/b", "huts/in/c", "other/d"} {
		w.write(".gentle-harbor/profiles/"+name+".yaml", "engine: mysql\nhost: h\nuser: u\nsecret: env:PW\n")
	}
	has(t, w.must(2, "agree", "huts/").err, "--yes")
	r := w.must(0, "agree", "huts/", "--yes")
	has(t, r.out, "huts/a  of the project", "huts/b  of the project", "huts/in/c  of the project",
		"Agreed: huts/in/c may be used")
	if strings.Contains(r.out, "other/d") {
		t.Error(r.out)
	}
	has(t, w.must(3, "agree", "none/", "--yes").err, "the project has no profiles in none/")
	has(t, w.must(3, "test", "other/d").out, "settings.not-agreed")
	p := w.sit("agree", "other/")
	p.Reads("other/d")
	p.Types("n\n")
	if code, _ := p.Ends(); code != 3 {
		t.Errorf("exit %d: %s", code, p.Screen())
	}
	w.must(0, "add", "own", "--engine", "postgres", "--host", "h2", "--user", "u2", "--secret", "env:PW")
	var list struct {
		Profiles []struct {
			Profile  string
			Password string
			Settings map[string]any
		}
	}
	must(t, json.Unmarshal([]byte(w.must(0, "export", "huts/", "--as", "json").out), &list))
	if len(list.Profiles) != 3 || list.Profiles[0].Profile != "huts/a" ||
		list.Profiles[0].Settings["host"] != "h" || list.Profiles[0].Password != "" {
		t.Errorf("%+v", list)
	}
	to := filepath.Join(w.home, "out.json")
	w.must(0, "export", "huts/", "--as", "json", "--with-secret", "--to", to)
	info, err := os.Stat(to)
	must(t, err)
	data, err := os.ReadFile(to)
	must(t, err)
	if must(t, json.Unmarshal(data, &list)); info.Mode().Perm() != 0o600 || list.Profiles[2].Password != canary {
		t.Error("the file is open, or has no password")
	}
	has(t, w.must(2, "export", "--all", "--as", "uri").err, "as json or binding")
	has(t, w.must(2, "export", "--all", "own", "--as", "json").err, "--all needs no name")
	w.must(0, "export", "huts/", "--as", "binding", "--to", w.home+"/bindings")
	if _, err := os.Stat(w.home + "/bindings/huts/in/c/host"); err != nil {
		t.Error(err)
	}
	has(t, w.must(0, "export", "--all", "--as", "json").out, `"profile": "own"`)
	// One that cannot be written now keeps no other from it.
	practiceEngine(t, w)
	w.must(0, "add", "inside", "--engine", "postgres", "--container", "gone", "--user", "u", "--secret", "none")
	r = w.must(1, "export", "--all", "--as", "json")
	has(t, r.out, `"profile": "own"`)
	has(t, r.err, "inside was left out: ", "1 of 2 profiles were left out")
}
