package secret

import (
	"bytes"
	"context"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"reflect"
	"runtime"
	"strings"
	"testing"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/target"

	"go.yaml.in/yaml/v3"
)

const canary = "canary-5b2f"

type shown struct{ S Secret }

// holder has a secret where reflection alone reaches it.
type holder struct {
	Open   Secret
	hidden Secret
	list   []Secret
}

func TestSecretNeverPrints(t *testing.T) {
	s := New(canary)
	h := holder{s, s, []Secret{s}}
	printed := map[string]string{}
	for _, verb := range []string{"%v", "%+v", "%#v", "%s", "%q", "%x", "%X", "%d", "%T", "%p", "%08.3f"} {
		printed["secret "+verb] = fmt.Sprintf(verb, s)
		printed["pointer "+verb] = fmt.Sprintf(verb, &s)
		printed["holder "+verb] = fmt.Sprintf(verb, h)
		printed["map "+verb] = fmt.Sprintf(verb, map[string]Secret{"a": s})
	}
	j, err := json.Marshal(map[string]any{"s": s, "h": h, "p": &s})
	must(t, err)
	printed["json"] = string(j)
	y, err := yaml.Marshal(map[string]any{"s": s})
	must(t, err)
	printed["yaml"] = string(y)
	x, err := xml.Marshal(shown{s})
	must(t, err)
	printed["xml"] = string(x)
	var log bytes.Buffer
	slog.New(slog.NewJSONHandler(&log, nil)).Info("x", "s", s, "h", h, "e", fmt.Errorf("%w %v", errors.New("e"), s))
	slog.New(slog.NewTextHandler(&log, nil)).Info("x", "s", s, "h", h)
	printed["slog"] = log.String()
	for how, text := range printed {
		if strings.Contains(text, canary) || strings.Contains(text, fmt.Sprintf("%x", canary)) {
			t.Errorf("%s shows the secret", how)
		}
	}
	if got := fmt.Sprint(s); got != Mask {
		t.Errorf("a secret prints as %q", got)
	}
	if s.Reveal() != canary {
		t.Error("Reveal does not give the text")
	}
}

func TestGivenAndEmptyAreTwoThings(t *testing.T) {
	for name, c := range map[string]struct {
		s     Secret
		given bool
	}{"zero": {Secret{}, false}, "empty": {New(""), true}, "text": {New("a"), true}} {
		if c.s.Given() != c.given {
			t.Errorf("%s: Given is %v", name, c.s.Given())
		}
	}
}

func TestParseReference(t *testing.T) {
	for text, want := range map[string]Reference{
		"none": {Kind: None}, "empty": {Kind: Empty}, "ask": {Kind: Ask},
		"env:HUT_PASSWORD": {Kind: Variable, Of: "HUT_PASSWORD"}, "file:~/x y": {Kind: File, Of: "~/x y"},
		"file:a:b": {Kind: File, Of: "a:b"},
		"wallet":   {Kind: Wallet}, "wallet:team-1": {Kind: Wallet, Of: "team-1"},
		"credentials": {Kind: Credentials}, "credentials:~/c": {Kind: Credentials, Of: "~/c"},
		"keyring":                      {Kind: Keyring},
		`command: [keeper, "a b", -x]`: {Kind: Command, Args: []string{"keeper", "a b", "-x"}},
	} {
		got, err := ParseReference(text)
		if err != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("%s: %v, %v", text, got, err)
		}
		if again, err := ParseReference(got.String()); err != nil || !reflect.DeepEqual(again, want) {
			t.Errorf("%s is written back as %s", text, got)
		}
	}
	for _, text := range []string{"", "None", canary, "env:", "env:A B", "env:1A", "file:", "none:x",
		"file:\x00", "wallet:", "wallet:../x", "wallet:a b", "credentials:", "keyring:x", "pass:" + canary,
		"command:", "command: []", "command: {a: b}", "command: x y]"} {
		got, err := ParseReference(text)
		if err == nil {
			t.Errorf("%q is taken for %v", text, got)
		} else if strings.Contains(err.Error(), canary) {
			t.Error("the error repeats what may be a password")
		}
	}
}

func FuzzParseReference(f *testing.F) {
	for _, seed := range []string{"none", "env:A", "file:/x", "ask:", ":", "file:~", "wallet", "wallet:team",
		"credentials:~/x", "keyring", "command: [keeper, \"a b\"]"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		r, err := ParseReference(text)
		if err != nil {
			return
		}
		if again, err := ParseReference(r.String()); err != nil || !reflect.DeepEqual(again, r) {
			t.Errorf("%q is written back as %q: %v", text, r, err)
		}
	})
}

func TestReadFile(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("modes are not checked on Windows")
	}
	folder := t.TempDir()
	write := func(name, text string, mode os.FileMode) string {
		path := filepath.Join(folder, name)
		must(t, os.WriteFile(path, []byte(text), 0o600))
		must(t, os.Chmod(path, mode))
		return path
	}
	open := filepath.Join(folder, "open")
	must(t, os.Mkdir(open, 0o700))
	inOpen := filepath.Join(open, "x")
	must(t, os.WriteFile(inOpen, []byte(canary), 0o600))
	must(t, os.Chmod(open, 0o777))
	link := func(name, to string) string {
		path := filepath.Join(folder, name)
		must(t, os.Symlink(to, path))
		return path
	}
	must(t, os.Mkdir(filepath.Join(open, "closed"), 0o700))
	below := filepath.Join(open, "closed", "x")
	must(t, os.WriteFile(below, []byte(canary), 0o600))
	for _, c := range []struct {
		name, path, want, code string
	}{
		{"a link", link("l1", write("good", canary, 0o600)), canary, ""},
		{"a link into an open folder", link("l2", "open/x"), "", "secret.folder-unsafe"},
		{"a link to below an open folder", link("l3", below), "", "secret.folder-unsafe"},
		{"below an open folder", below, "", "secret.folder-unsafe"},
		{"a link that climbs out of one", link("l4", "open/closed/../../good"), "", "secret.folder-unsafe"},
		{"a link to a link", link("l5", "l2"), "", "secret.folder-unsafe"},
		{"a link to a file that others read", link("l6", write("lax", canary, 0o644)), "", "secret.file-unsafe"},
		{"a link to nothing", link("l7", "nothing"), "", "secret.file-missing"},
		{"plain", write("a", canary, 0o600), canary, ""},
		{"newline cut", write("b", canary+"\n", 0o400), canary, ""},
		{"CRLF cut", write("c", canary+"\r\n", 0o600), canary, ""},
		{"only one newline cut", write("d", canary+"\n\n", 0o600), canary + "\n", ""},
		{"spaces kept", write("e", "  x  ", 0o600), "  x  ", ""},
		{"empty", write("f", "", 0o600), "", ""},
		{"group reads", write("g", canary, 0o640), "", "secret.file-unsafe"},
		{"others read", write("h", canary, 0o604), "", "secret.file-unsafe"},
		{"others write", write("i", canary, 0o602), "", "secret.file-unsafe"},
		{"open folder", inOpen, "", "secret.folder-unsafe"},
		{"zero byte", write("j", canary+"\x00", 0o600), "", "secret.unusable"},
		{"too large", write("k", strings.Repeat("x", MaxSize+1), 0o600), "", "secret.unusable"},
		{"missing", filepath.Join(folder, "no"), "", "secret.file-missing"},
		{"folder", folder, "", "secret.not-a-file"},
	} {
		s, err := ReadFile(c.path)
		var problem *finding.Problem
		switch {
		case c.code == "" && (err != nil || s.Reveal() != c.want):
			t.Errorf("%s: not read as it is: %v", c.name, err)
		case c.code != "" && (!errors.As(err, &problem) || string(problem.Code) != c.code):
			t.Errorf("%s: %v instead of %s", c.name, err, c.code)
		case err != nil && strings.Contains(err.Error(), canary):
			t.Errorf("%s: the error shows the secret", c.name)
		case strings.HasSuffix(c.code, "-unsafe") && problem.Facts[finding.FactFix] == "":
			t.Errorf("%s: no fix", c.name)
		}
	}
}

// keeper is a place for a test: it has a text, or a problem, and may have to ask for it.
type keeper struct {
	text, code string
	asks       bool
}

func (k keeper) Look(_ context.Context, _ target.Target, how How) (Secret, Source, error) {
	if k.asks && how == Quietly {
		k.code = "secret.wallet-locked"
	}
	if k.code != "" {
		return Secret{}, Source{}, &finding.Problem{Code: finding.Code(k.code),
			Facts: finding.Facts{finding.FactDetail: "It is so."}}
	}
	return New(k.text), Source{Kind: Wallet, Saw: "kept"}, nil
}

func TestFinder(t *testing.T) {
	ctx := context.Background()
	env := func(name string) (string, bool) { return canary, name == "SET" }
	typed := func(context.Context, target.Target) (Secret, error) { return New("typed"), nil }
	none := func(context.Context, target.Target) (Secret, error) { return Secret{}, nil }
	for _, c := range []struct {
		name  string
		f     Finder
		want  Want
		given bool
		text  string
		code  string
	}{
		{"command", Finder{}, Want{Ref: Reference{Kind: Command, Args: []string{"printf", "%s\\n", canary}}},
			true, canary, ""},
		{"command that fails", Finder{}, Want{Ref: Reference{Kind: Command, Args: []string{"false"}}}, false,
			"", "secret.command-failed"},
		{"command that prints too much", Finder{},
			Want{Ref: Reference{Kind: Command, Args: []string{"head", "-c", "40000", "/dev/zero"}}}, false, "",
			"secret.command-failed"},
		{"command that is not there", Finder{}, Want{Ref: Reference{Kind: Command, Args: []string{"/no/such"}}},
			false, "", "secret.command-failed"},
		{"none", Finder{}, Want{Ref: Reference{Kind: None}}, false, "", ""},
		{"empty", Finder{}, Want{Ref: Reference{Kind: Empty}}, true, "", ""},
		{"variable", Finder{Env: env}, Want{Ref: Reference{Kind: Variable, Of: "SET"}}, true, canary, ""},
		{"unset variable", Finder{Env: env}, Want{Ref: Reference{Kind: Variable, Of: "UNSET"}}, false, "",
			"secret.variable-unset"},
		{"asked", Finder{Ask: typed}, Want{Ref: Reference{Kind: Ask}}, true, "typed", ""},
		{"nobody to ask", Finder{}, Want{Ref: Reference{Kind: Ask}}, false, "", "secret.nobody-to-ask"},
		{"search asks", Finder{Ask: typed}, Want{}, true, "typed", ""},
		{"search finds none", Finder{}, Want{}, false, "", "secret.none"},
		{"a kept one", Finder{Wallets: []Keeper{keeper{text: canary}}, Ask: typed}, Want{}, true, canary, ""},
		{"the first that has one", Finder{Wallets: []Keeper{keeper{code: "secret.not-stored"},
			keeper{code: "secret.wallet-locked"}, keeper{text: canary}}, Ask: typed}, Want{}, true, canary, ""},
		{"a place that cannot be used stops",
			Finder{Wallets: []Keeper{keeper{code: "secret.wallet-damaged"}, keeper{text: canary}}, Ask: typed},
			Want{}, false, "", "secret.wallet-damaged"},
		{"bound elsewhere, and asked",
			Finder{Wallets: []Keeper{keeper{code: "secret.bound-elsewhere"}}, Ask: typed}, Want{}, true, "typed", ""},
		{"bound elsewhere, and nobody to ask",
			Finder{Wallets: []Keeper{keeper{code: "secret.not-stored"},
				keeper{code: "secret.bound-elsewhere"}}}, Want{}, false, "", "secret.bound-elsewhere"},
		{"spared, with one kept", Finder{Wallets: []Keeper{keeper{text: canary}}}, Want{Spared: true}, true, canary, ""},
		{"spared, with a wallet that would ask", Finder{Wallets: []Keeper{keeper{text: canary, asks: true}}},
			Want{Spared: true}, false, "", ""},
		{"named", Finder{Wallet: func(name string) Keeper { return keeper{text: name} }},
			Want{Ref: Reference{Kind: Wallet, Of: "team"}}, true, "team", ""},
		{"named, and locked", Finder{Wallet: func(string) Keeper {
			return keeper{code: "secret.wallet-locked"}
		}}, Want{Ref: Reference{Kind: Wallet}}, false, "",
			"secret.wallet-locked"},
		{"no keyring", Finder{}, Want{Ref: Reference{Kind: Keyring}}, false, "", "secret.keyring-missing"},
		{"spared", Finder{Ask: typed}, Want{Spared: true}, false, "", ""},
		{"answered that there is none", Finder{Ask: none}, Want{}, false, "", ""},
		{"came with the connection", Finder{Known: New(canary), Ask: typed}, Want{}, true, canary, ""},
		{"a reference beats what came", Finder{Known: New(canary)}, Want{Ref: Reference{Kind: None}}, false, "", ""},
	} {
		s, saw, err := c.f.Find(ctx, c.want)
		var problem *finding.Problem
		if c.code != "" {
			if !errors.As(err, &problem) || string(problem.Code) != c.code {
				t.Errorf("%s: %v instead of %s", c.name, err, c.code)
			}
			continue
		}
		if err != nil || s.Given() != c.given || s.Reveal() != c.text {
			t.Errorf("%s: given %v, error %v", c.name, s.Given(), err)
		}
		if saw.Saw == "" || strings.Contains(saw.Saw, canary) {
			t.Errorf("%s: it says %q", c.name, saw)
		}
	}
}

func must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}
