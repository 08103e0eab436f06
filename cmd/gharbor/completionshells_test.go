//go:build unix

package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// TestNothingRunsAtATab has every byte that a shell could read as more than a letter in a
// profile's label, a group's, an alias's and a stranger's project's words, and presses the tab
// key in real shells: nothing runs, and nothing but whole plain words is inserted.
func TestNothingRunsAtATab(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.must(0, "add", "mild", "--engine", "mysql", "--host", "h", "--user", "u", "--secret", "none",
		"--label", "zone=plain")
	ran := filepath.Join(w.home, "ran")
	for b := 1; b < 256; b++ {
		c := string([]byte{byte(b)})
		if b < 32 || b >= 127 || strings.ContainsAny(c, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789") {
			continue
		}
		for n, value := range []string{c + "touch " + ran + c, "x" + c, "$(touch " + ran + ")" + c,
			"`touch " + ran + "`" + c} {
			w.write(fmt.Sprintf("gharbor/profiles/p%d-%d.yaml", b, n),
				"engine: mysql\nhost: h\nuser: u\nsecret: none\nlabels:\n  zone: '"+strings.ReplaceAll(value,
					"'", "''")+"'\n")
		}
	}
	w.write("clone/.gentle-harbor/profiles/strange.yaml", "engine: mysql\nhost: h\nuser: u\nlabels:\n  zone: strange\n")
	w.write("clone/.gentle-harbor/aliases.yaml", "stranger: {engine: mysql, addresses: [h]}\n")
	bin := t.TempDir()
	must(t, os.Symlink(gharbor, filepath.Join(bin, "gharbor")))
	in := func(line string) []string {
		cmd := w.command("completion", "words", "--")
		cmd.Args = append(cmd.Args, strings.Split(line, " ")...)
		cmd.Dir = filepath.Join(w.home, "clone")
		return strings.Fields(w.finish(cmd).out)
	}
	for line, want := range map[string]string{"list --labelled zone=": "zone=plain", "show str": "",
		"test --alias str": "", "agree str": ""} {
		for _, word := range in(line) {
			if strings.Trim(word, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_@%+=:,./-") != "" ||
				want == "" || strings.Contains(word, "strange") {
				t.Errorf("%s offers %q", line, word)
			}
		}
	}
	for shell, start := range map[string][]string{
		"bash": {"--norc", "-i"}, "zsh": {"-f", "-i"}, "fish": {"--no-config", "-i"},
	} {
		began := time.Now()
		path := tool(t, shell)
		cmd := w.command()
		cmd.Path, cmd.Args = path, append([]string{shell}, start...)
		cmd.Env = append(cmd.Env, "PATH="+bin+":/usr/bin:/bin", "PS1=> ", "INPUTRC=/dev/null", "TERM=dumb")
		p := w.atTerminal(100, cmd)
		switch shell {
		case "bash":
			p.Types("eval \"$(gharbor completion bash)\"; echo rea''dy\n")
		case "zsh":
			p.Types("autoload -U compinit && compinit -u -D; PS1='> '; eval \"$(gharbor completion zsh)\"; echo rea''dy\n")
		case "fish":
			p.Types("gharbor completion fish | source; echo rea''dy\n")
		}
		p.Reads("ready")
		// All of them, twice, and then one that is alone; what is inserted is shown by echo, as
		// the shell has it.
		p.Types("gharbor list --labelled zone=\t\t")
		time.Sleep(700 * time.Millisecond)
		p.Types("\x15echo gone\n") // the line is taken back
		p.Reads("gone")
		p.Types("gharbor list --labelled zone=pl\t --json; echo do''ne\n")
		p.Reads("done")
		if _, err := os.Stat(ran); err == nil {
			t.Fatalf("%s: a label ran", shell)
		}
		p.Types("exit\n")
		t.Logf("%s took %s", shell, time.Since(began))
	}
}

// shellAt starts a shell at a terminal, with completion and a function of the program's name that
// only shows its arguments.
func shellAt(t *testing.T, w *world, shell, bin string) *person {
	t.Helper()
	start := map[string][]string{"bash": {"--norc", "-i"}, "zsh": {"-f", "-i"}, "fish": {"--no-config", "-i"}}[shell]
	cmd := w.command()
	cmd.Path, cmd.Args = tool(t, shell), append([]string{shell}, start...)
	cmd.Env = append(cmd.Env, "PATH="+bin+":/usr/bin:/bin", "PS1=> ", "INPUTRC=/dev/null", "TERM=dumb")
	p := w.atTerminal(200, cmd)
	shows := "gharbor() { printf 'args:'; printf '[%s]' \"$@\"; printf ':end\\n'; }; echo rea''dy\n"
	switch shell {
	case "bash":
		p.Types("eval \"$(gharbor completion bash)\"; " + shows)
	case "zsh":
		p.Types("autoload -U compinit && compinit -u -D; PS1='> '; eval \"$(gharbor completion zsh)\"; " + shows)
	case "fish":
		p.Types("gharbor completion fish | source; function gharbor; printf 'args:'; printf '[%s]' $argv; " +
			"printf ':end\\n'; end; echo rea''dy\n")
	}
	p.Reads("ready")
	return p
}

// TestCompletionInEachShell types lines with a tab in them in three real shells, and looks at the
// arguments that come of it: a z behind the tab shows whether a space was put there.
func TestCompletionInEachShell(t *testing.T) {
	t.Parallel()
	for _, shell := range []string{"bash", "zsh", "fish"} {
		t.Run(shell, func(t *testing.T) {
			t.Parallel()
			w := newWorld(t)
			w.must(0, "add", "huts/local", "--engine", "mysql", "--host", "h", "--user", "u", "--secret", "none")
			w.must(0, "add", "spare", "--engine", "mysql", "--host", "h", "--user", "u", "--secret", "none")
			w.write(".ssh/config", "Host gate *.inner\n  User ops\n")
			w.write("passfile.txt", "x")
			bin := t.TempDir()
			must(t, os.Symlink(gharbor, filepath.Join(bin, "gharbor")))
			must(t, os.Symlink("/bin/true", filepath.Join(bin, "zebra-runner")))
			p := shellAt(t, w, shell, bin)
			for _, c := range [][2]string{
				{"show hu\tz", "[show][huts/local][z]"},
				{"list hu\tz", "[list][huts/z]"},
				{"show nothing\tz", "[show][nothingz]"},
				{"test spare --secret en\tz", "[test][spare][--secret][env:z]"},
				{"test spare --tls=ver\tz", "[test][spare][--tls=verify][z]"},
				{"test spare --secret-file passf\tz", "[test][spare][--secret-file][passfile.txt][z]"},
				{"test spare --tls-ca=passf\tz", "[test][spare][--tls-ca=passfile.txt][z]"},
				{"import x passf\tz", "[import][x][passfile.txt][z]"},
				{"await spare --for passf\tz", "[await][spare][--for][passfz]"},
				{"await spare --for hu\tz", "[await][spare][--for][huz]"},
				{"hops forget hu\tz", "[hops][forget][huz]"},
				{"with spare,hu\tz", "[with][spare,huts/local][z]"},
				{"with spare -- zebra-r\tz", "[with][spare][--][zebra-runner][z]"},
				{"test mine:hu\tz", "[test][mine:huts/local][z]"},
				{"test spare --expect superu\ttrue", "[test][spare][--expect][superuser=true]"},
				{"test spare --via ga\tz", "[test][spare][--via][gate][z]"},
				{"add y --option search_p\tz", "[add][y][--option][search_path=z]"},
				{"show \"hu\tz", "[show][huts/local][z]"},
				{"show 'hu\tz", "[show][huts/local][z]"},
			} {
				p.Types("gharbor " + c[0])
				time.Sleep(300 * time.Millisecond) // the shell asks the program
				p.Types("\n")
				p.Reads("args:")
				p.Reads(":end")
				said := p.Read()
				said = said[strings.LastIndex(said, "args:"):]
				if got := strings.TrimSuffix(strings.TrimPrefix(said, "args:"), ":end"); got != c[1] {
					t.Errorf("%q gives %s, and %s was expected", c[0], got, c[1])
				}
			}
			p.Types("exit\n")
		})
	}
}
