//go:build unix

package jump

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh/knownhosts"

	"gentle-harbor/internal/finding"
)

func write(t testing.TB, path, text string) string {
	t.Helper()
	must(t, errors.Join(os.MkdirAll(filepath.Dir(path), 0o700), os.WriteFile(path, []byte(text), 0o600)))
	return path
}

// asks gives what OpenSSH itself makes of a configuration for a host: ssh -G.
func asks(t *testing.T, file, host string) map[string][]string {
	t.Helper()
	out, err := exec.Command("ssh", "-G", "-F", file, host).CombinedOutput()
	if err != nil {
		return nil
	}
	all := map[string][]string{}
	for line := range strings.Lines(string(out)) {
		name, value, _ := strings.Cut(strings.TrimSuffix(line, "\n"), " ")
		all[name] = append(all[name], value)
	}
	return all
}

// TestAsOpenSSHReadsIt generates configurations and holds what is read against what OpenSSH says
// of them, for each of several hosts.
func TestAsOpenSSHReadsIt(t *testing.T) {
	if _, err := exec.LookPath("ssh"); err != nil {
		if os.Getenv("CI") == "true" {
			t.Fatal("openssh-client is not installed")
		}
		t.Skip("skipped for want of ssh")
	}
	r := rand.New(rand.NewPCG(1, 2))
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	hosts := []string{"gate", "gate.fellside.example", "db1", "DB2", "other"}
	directive := func() string {
		name := pick("HostName", "User", "Port", "IdentityFile", "CertificateFile", "IdentityAgent",
			"IdentitiesOnly", "ProxyJump", "ProxyCommand", "HostKeyAlias", "AddressFamily", "BindAddress",
			"UserKnownHostsFile", "StrictHostKeyChecking", "LogLevel", "PreferredAuthentications")
		value := map[string]string{
			"HostName": pick("h1.fellside.example", "10.0.0.1", "%h.fellside.example"),
			"User":     pick("ops", "steward", `"two"`), "Port": pick("22", "2222", "6022"),
			"IdentityFile":    pick("/k/a", "/k/b", "none", `"/k/with space"`),
			"CertificateFile": pick("/c/a", "/c/b"), "IdentityAgent": pick("none", "/run/agent"),
			"IdentitiesOnly": pick("yes", "no"), "ProxyJump": pick("jump1", "ops@jump2:2022", "none"),
			"ProxyCommand": pick("none", "nc %h %p", `connect "a b" %h`),
			"HostKeyAlias": pick("alias1", "alias2"), "AddressFamily": pick("inet", "any"),
			"BindAddress":           pick("127.0.0.1", "127.0.0.2"),
			"UserKnownHostsFile":    pick("/k/known", "/k/known /k/more"),
			"StrictHostKeyChecking": pick("yes", "no", "ask"), "LogLevel": "INFO",
			"PreferredAuthentications": pick("publickey", "password,publickey"),
		}[name]
		return pick("  ", "\t", "") + pick(name, strings.ToLower(name), strings.ToUpper(name)) + pick(" ", "  ",
			"=", " = ", "\t") + value + pick("", " ", "")
	}
	compared, differ := 0, 0
	for n := range 120 {
		folder := t.TempDir()
		var lines []string
		for range 1 + r.IntN(4) {
			lines = append(lines, pick("Host gate", "Host *", "Host gate*", "Host *.example !gate.*",
				"Host db? other", "Match host gate", "Match all", "Match originalhost db1 user nobody",
				"Match host=*.fellside.example", "Match !host gate", "# Host gate", "", `Host "gate"`,
				"host=gate other", "Match localuser no-such-account"))
			for range 1 + r.IntN(4) {
				lines = append(lines, directive())
			}
			if r.IntN(6) == 0 {
				lines = append(lines,
					"Include "+write(t, filepath.Join(folder, fmt.Sprintf("more%d", n)),
						pick("Host db1\n", "")+directive()+"\n"+directive()+"\n"))
			}
		}
		file := write(t, filepath.Join(folder, "config"), strings.Join(lines, "\n")+"\n")
		for _, host := range hosts {
			want := asks(t, file, host)
			got, err := Config{User: file, World: World{Home: folder, User: "root"}}.For(host, "")
			if want == nil {
				continue // OpenSSH refuses it
			}
			if err != nil {
				t.Errorf("%s: %v\n%s", host, problem(err), strings.Join(lines, "\n"))
				continue
			}
			for name, word := range got.One {
				value := strings.ReplaceAll(word.Text, "%h", host)
				if name == "proxyjump" && value == "none" || name == "proxycommand" && value == "none" {
					value = ""
				}
				if name == "addressfamily" || name == "loglevel" || name == "hostname" || name == "hostkeyalias" {
					value = strings.ToLower(value)
				}
				has := strings.Join(want[name], " ")
				if name == "proxycommand" {
					has, value = strings.ReplaceAll(has, host, "%h"), word.Text
					if value == "none" {
						value = ""
					}
				}
				if name == "stricthostkeychecking" {
					has = map[string]string{"true": "yes", "false": "no"}[has] + map[string]string{"ask": "ask"}[has]
				}
				if name == "hostname" || name == "hostkeyalias" {
					has = strings.ToLower(has)
				}
				compared++
				if has != value && differ < 10 {
					differ++
					t.Errorf("%s %s: %q, and OpenSSH has %q\n%s", host, name, value, has, strings.Join(lines, "\n"))
				}
			}
			for _, name := range []string{"identityfile", "certificatefile"} {
				var mine []string
				for _, word := range got.Many[name] {
					mine = append(mine, word.Text)
				}
				if len(mine) > 0 && !slices.Equal(mine, want[name]) && differ < 10 {
					differ++
					t.Errorf("%s %s: %q, and OpenSSH has %q\n%s", host, name, mine, want[name], strings.Join(lines, "\n"))
				}
				compared++
			}
		}
	}
	t.Logf("%d values compared", compared)
	if compared < 800 {
		t.Error("that is too few")
	}
}

func problem(err error) string {
	var p *finding.Problem
	if errors.As(err, &p) {
		return fmt.Sprintf("%s %v", p.Code, p.Facts)
	}
	return fmt.Sprint(err)
}

// TestWhatCannotBeHonoured ends the leg for what applies to the hop, with file and line, and not
// for what does not.
func TestWhatCannotBeHonoured(t *testing.T) {
	for _, c := range []struct {
		name, text, want string // want is "" or the code and the place
	}{
		{"a Match that needs a program", "Match exec \"true\"\n  User ops\n", "tunnel.config-unsupported:1"},
		{"the same for another host", "Match host other exec \"true\"\n  User ops\n", ""},
		{"the same, and nothing in it counts", "Host gate\n  User a\nMatch exec true\n  User b\n", ""},
		{"the same with a harmless line", "Match exec true\n  LogLevel DEBUG\n", ""},
		{"names that are made canonical", "CanonicalizeHostname yes\n", "tunnel.config-unsupported:1"},
		{"the same switched off", "CanonicalizeHostname no\n", ""},
		{"the same for another host", "Host other\n  CanonicalizeHostname yes\n", ""},
		{"a program that knows hosts", "\nKnownHostsCommand /bin/true\n", "tunnel.config-unsupported:2"},
		{"a list of revoked keys", "RevokedHostKeys /k\n", "tunnel.config-unsupported:1"},
		{"a device", "PKCS11Provider /lib/x.so\n", "tunnel.config-unsupported:1"},
		{"what nobody knows", "FutureDirective yes\n", "tunnel.config-unsupported:1"},
		{"what is to be passed over", "IgnoreUnknown Future*\nFutureDirective yes\n", ""},
		{"what nobody knows, for another host", "Host other\nFutureDirective yes\n", ""},
		{"a missing value", "User\n", "tunnel.config-broken:1"},
		{"an open quotation mark", "\n\nUser \"a\n", "tunnel.config-broken:3"},
		{"a file that includes itself", "Include HOME/.ssh/config\n", "tunnel.config-broken:1"},
		{"a file that is not there", "Include /no/such/*\nUser a\n", ""},
		{"an agent forwarded", "ForwardAgent yes\n", ""},
	} {
		home := t.TempDir()
		file := write(t, filepath.Join(home, ".ssh", "config"), strings.ReplaceAll(c.text, "HOME", home))
		_, err := Config{User: file, World: World{Home: home, User: "w"}}.For("gate", "")
		var p *finding.Problem
		got := ""
		if errors.As(err, &p) {
			got = string(p.Code) + strings.TrimPrefix(p.Facts[finding.FactOrigin], file)
		} else if err != nil {
			got = err.Error()
		}
		if got != c.want {
			t.Errorf("%s: %q instead of %q", c.name, got, c.want)
		}
	}
	home := t.TempDir()
	file := write(t, filepath.Join(home, "config"), "User a\n")
	must(t, os.Chmod(file, 0o666))
	if _, err := (Config{User: file}).For("gate", ""); err == nil || !strings.Contains(problem(err), "config-broken") {
		t.Errorf("one that others can write to: %v", err)
	}
}

func FuzzConfig(f *testing.F) {
	for _, seed := range []string{"Host gate\n  User \"a b\"\n", "Match host gate exec x\nPort 1", "Include *",
		"ProxyCommand nc %h \"a\"\n", "x=\"", "Host !a *\nUser=b#c"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		file := write(t, filepath.Join(t.TempDir(), "config"), text)
		settings, err := Config{User: file, World: World{Home: filepath.Dir(file), User: "w"}}.For("gate", "")
		if err == nil {
			for name, word := range settings.One {
				if word.Line < 1 || name == "" {
					t.Errorf("%q: %+v", text, word)
				}
			}
		}
	})
}

func knownHash(name string) string { return knownhosts.HashHostname(name) }
