//go:build unix

package main

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"gentle-harbor/internal/standin"
)

// TestCanary gives a password in every way there is, lets things go right and wrong, and then looks for it
// in everything that was printed and in every file that was left.
func TestCanary(t *testing.T) {
	w := newWorld(t, "PW="+canary)
	temp := t.TempDir()
	w.environ = append(w.environ, "TMPDIR="+temp)
	kept := w.write("pw", canary+"\n")
	var printed strings.Builder
	for _, engine := range []string{"postgres", "mysql", "mariadb"} {
		for _, faults := range []standin.Faults{{}, {Locked: true, Echo: true}, {ErrorText: "no", Echo: true}, {TooMany: true, Echo: true}, {StartingUp: true, Echo: true}, {HangupQuery: true}} {
			s := practice(t, standin.Config{Engine: engine, Faults: faults})
			plain := fmt.Sprintf("%s://warden_app@127.0.0.1:%d/bunkhouse", engine, s.Port())
			holding := fmt.Sprintf("%s://warden_app:%s@127.0.0.1:%d/bunkhouse", engine, canary, s.Port())
			name := "p/" + engine
			for _, c := range []struct {
				stdin string
				args  []string
			}{
				{"", []string{"add", name, plain, "--secret", "env:PW", "--replace"}},
				{"", []string{"add", name, plain, "--secret", "env:PW", "--replace", "--test"}},
				{"", []string{"add", name, plain, "--secret", "file:" + kept, "--replace", "--test"}},
				{holding, []string{"add", name + "-s", "-", "--replace", "--test"}},
				{"", []string{"add", name + "-a", holding, "--replace"}},
				{"", []string{"add", name + "-a", holding, "--replace", "--test"}},
				{"", []string{"test", name}}, {"", []string{"test", name, "--json"}},
				{holding, []string{"test", "-"}}, {holding, []string{"test", "-", "--json"}}, {"", []string{"test", holding}},
				{holding, []string{"test", "-", "--port", "1"}}, {holding, []string{"test", "-", "--tls", "verify"}},
				{holding, []string{"test", "-", "--database", "none"}}, {holding, []string{"test", "-", "--engine", "postgres"}},
				{holding, []string{"run", "-", "select name from hut"}}, {holding, []string{"run", "-", "selec", "--json"}},
				{holding, []string{"survey", "-", "databases"}}, {holding + "x/y@z", []string{"test", "-"}},
				{"", []string{"test", name, "--secret", canary}}, {"", []string{"test", name, "--password", canary}}, {"", []string{"test", name, "--password=" + canary}},
				{"", []string{"test", name, "--port", canary}}, {"", []string{"test", "postgres://a:" + canary + "@b:" + canary}},
				{"", []string{"test", name, "--as", "junit"}}, {"", []string{"test", "p/", "--as", "tap"}}, {"", []string{"test", name, "--repeat", "2"}},
				{"", []string{"await", name, "--for", "150ms", "--every", "50ms"}}, {"", []string{"history", name}}, {"", []string{"history", name, "--json"}},
				{"", []string{"expect", name, "--from-now"}}, {"", []string{"change", name, "--secret", canary}}, {"", []string{"copy", name, name + "-c", "--replace"}},
				{"", []string{"export", name, "--as", "uri"}}, {"", []string{"export", name, "--as", "env"}}, {"", []string{"export", name, "--as", "json"}},
				{holding, []string{"import", name + "-i", "-", "--replace"}}, {"Host: h\nUser: u\nEngine: mysql\nPassword: " + canary, []string{"import", name + "-l", "-", "--replace"}},
				{"X_HOST=h\nX_USER=u\nX_PASSWORD=" + canary + "\nX_TYPE=mysql\n", []string{"import", name + "-v", "-", "--replace"}},
				{"", []string{"list"}}, {"", []string{"list", "--json"}}, {"", []string{"show", name}}, {"", []string{"show", name + "-a", "--json"}},
			} {
				w.stdin = c.stdin
				r := w.run(c.args...)
				if strings.Contains(r.out+r.err, canary) && !strings.Contains(strings.Join(c.args, " "), "--port "+canary) {
					t.Errorf("%s %+v: gharbor %s shows the password:\n%s%s", engine, faults, strings.ReplaceAll(strings.Join(c.args, " "), canary, "CANARY"), r.out, r.err)
				}
				printed.WriteString(r.out)
			}
		}
	}
	if !strings.Contains(printed.String(), "You are in") || !strings.Contains(printed.String(), "Greystone") {
		t.Error("no command went right")
	}
	for _, folder := range []string{w.home, temp} {
		err := filepath.WalkDir(folder, func(path string, entry fs.DirEntry, err error) error {
			if err != nil || entry.IsDir() || path == kept {
				return err
			}
			text, err := os.ReadFile(path)
			if strings.Contains(string(text), canary) {
				t.Errorf("%s holds the password", path)
			}
			return err
		})
		if err != nil {
			t.Error(err)
		}
	}
}
