package outside

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"
	"unicode/utf8"
)

func TestText(t *testing.T) {
	veil := Veil{
		Secrets: []Hidden{hidden("canary-5b2f"), hidden("ab"), hidden("else"), hidden("\xfe\xff"),
			hidden("bunk"), hidden(""), nobody{}},
		Spare: []string{"elsewhere", "bunk", ""},
	}
	for _, c := range []struct{ name, in, want string }{
		{"plain", "no pg_hba entry", "no pg_hba entry"},
		{"letters stay", "Zugriff für Jürgen 日本", "Zugriff für Jürgen 日本"},
		{"escape sequence", "a\x1b[2Jb", `a\x1b[2Jb`},
		{"C1 control", "a\u009b31mb", `a\u009b31mb`},
		{"direction", "a\u202eb", `a\u202eb`},
		{"zero width", "a\u200bb", `a\u200bb`},
		{"lines", "a\r\nb\nc\td", "a b c d"},
		{"carriage return", "secret\rfine", `secret\rfine`},
		{"not UTF-8 text", "a\xff\xfe", `a\xff\xfe`},
		{"private use and tags", "a\U000e0041", `a\U000e0041`},
		{"secret", "you sent canary-5b2f!", "you sent [secret]!"},
		{"secret twice", "canary-5b2fcanary-5b2f", "[secret]"},
		{"masks side by side are one", "x canary-5b2f canary-5b2f y", "x [secret] y"},
		{"overlapping secrets", "aXcanary-5b2fcanary-5b2f-x", "[secret]-x"},
		{"short secret as a word", "cab ab, 'ab'", "cab [secret], '[secret]'"},
		{"short secret, three times", "ab ab ab", "[secret]"},
		{"a part of the user's name", "no rights for elsewhere", "no rights for elsewhere"},
		{"a part of the user's name, in quotes", "user 'elsewhere'@'h'", "user 'elsewhere'@'h'"},
		{"a longer word than the name", "elsewhere2 else", "[secret]"},
		{"a word that begins with the secret", "you sent elseX!", "you sent [secret]!"},
		{"the secret beside the name", "elsewhere: else", "elsewhere: [secret]"},
		{"a name that is the secret", "bunk", "bunk"},
		{"not UTF-8", "a \xfe\xff b", "a [secret] b"},
		{"digests", "SCRAM-SHA-256$4096:abc$def:ghi md5" + strings.Repeat("0", 32) + " *" + strings.Repeat("A",
			40), "[secret] [secret] [secret]"},
	} {
		if got := veil.Text(c.in); got != c.want {
			t.Errorf("%s: %q instead of %q", c.name, got, c.want)
		}
	}
	for form, want := range map[string]string{"%v": `a\x1b`, "%s": `a\x1b`, "%q": `"a\\x1b"`, "%d": `a\x1b`,
		"%+v": `a\x1b`, "%#v": `a\x1b`} {
		if got := fmt.Sprintf(form, Said("a\x1b")); got != want {
			t.Errorf("a Raw by %s is %q", form, got)
		}
	}
	if got, err := json.Marshal(map[string]Raw{"k": Said("v\x1b")}); err != nil || string(got) != `{"k":"v\\x1b"}` {
		t.Errorf("a Raw in JSON is %s, %v", got, err)
	}
	for _, text := range []string{strings.Repeat("a", 8<<20), strings.Repeat("ab", 4<<20),
		strings.Repeat("ab ", 4<<20), strings.Repeat("else", 2<<20)} {
		began := time.Now()
		veil.Text(text)
		if took := time.Since(began); took > 8*time.Second {
			t.Errorf("a text of %d MB takes %s", len(text)>>20, took)
		}
	}
	long := Veil{Secrets: []Hidden{hidden(strings.Repeat("pass", 3<<10))}}
	if got := long.Text(strings.Repeat(strings.Repeat("pass", 3<<10)+" ", 40)); got != "[secret]" {
		t.Errorf("a secret that is cut through is shown: %.40q", got)
	}
	if got := Text(strings.Repeat("é", 10_000)); utf8.RuneCountInString(got) != Limit+1 {
		t.Errorf("a long text keeps %d characters", utf8.RuneCountInString(got))
	}
}

// TestMarked shows the code points of letters that are taken for others, and of no others.
func TestMarked(t *testing.T) {
	for in, want := range map[string]string{
		"":                        "",
		"db.fellside.example":     "db.fellside.example",
		"p\u0430y.example":        "p\u0430[U+0430]y.example",
		"\u0430\u0440\u0440.com":  "\u0430[U+0430]\u0440[U+0440]\u0440[U+0440].com",
		"host \u0445\u0438\u0436": "host \u0445\u0438\u0436", // a word of one script
		"H\u00fctte M\u00e9nard":  "H\u00fctte M\u00e9nard",
		"db-\u5c71.example":       "db-\u5c71.example",
		"d\uff42":                 "d\uff42[U+FF42]",
		"x\U0001d41a":             "x\U0001d41a[U+1D41A]",
		"a\u03bf b":               "a\u03bf[U+03BF] b",
		"a\u202eb":                "a\\u202eb",
	} {
		if got := Marked(in); got != want {
			t.Errorf("%q is %q, and not %q", in, got, want)
		}
	}
}

// TestShort cuts texts with a secret in them at every length: no part of it is shown, and no
// letter is cut.
func TestShort(t *testing.T) {
	veil := Veil{Secrets: []Hidden{hidden("canary-5b2f-Sécret")}}
	text := "é the password canary-5b2f-Sécret is wrong, and canary-5b2f-Sécret too"
	for n := range 90 {
		got := veil.Short(Said(text), n)
		if !utf8.ValidString(got) || strings.Contains(got, "can") || utf8.RuneCountInString(got) > n+1 {
			t.Errorf("%d: %q", n, got)
		}
		head := NewHead(n)
		for _, b := range []byte(text) { // byte by byte, as a slow server sends it
			_, _ = head.Write([]byte{b})
		}
		if got := veil.Words(head.Raw()); strings.Contains(got, "can") {
			t.Errorf("cut at %d while it was read: %q", n, got)
		}
	}
	if got := NewHead(0); !got.Full() || !got.Raw().Empty() {
		t.Error("it keeps what it must not")
	}
	lines := Said("a \r\n\n b\n").Lines()
	if len(lines) != 2 || lines[0].Bare() != "a" || lines[1].Bare() != " b" {
		t.Errorf("%q", lines)
	}
}

// TestBareIsNotCut reads the source of all packages: what [Raw.Bare] gives is nowhere cut, since
// a veil must come first.
func TestBareIsNotCut(t *testing.T) {
	cuts := regexp.MustCompile(`Bare\(\)\s*\[|\[:?[^]\n]*\.Bare\(\)`)
	read := 0
	err := filepath.WalkDir("../..", func(path string, entry os.DirEntry, err error) error {
		if err != nil || entry.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		text, err := os.ReadFile(path)
		if at := cuts.Find(text); at != nil {
			t.Errorf("%s: %s", path, at)
		}
		read++
		return err
	})
	if err != nil || read < 200 {
		t.Errorf("%d files were read: %v", read, err)
	}
}

func FuzzText(f *testing.F) {
	for _, seed := range []string{"a\x1b[31m", "\xff", "canary-5b2f", strings.Repeat("x", 900), "\u2066"} {
		f.Add(seed)
	}
	known := hidden("canary-5b2f")
	f.Fuzz(func(t *testing.T, in string) {
		out := Veil{Secrets: []Hidden{known, hidden("xy"), hidden("\xc3")}, Spare: []string{"canary-5b2f-hut"}}.Text(in)
		if !utf8.ValidString(out) || strings.IndexFunc(out, Unsafe) >= 0 {
			t.Errorf("%q leaves unsafe characters: %q", in, out)
		}
		if strings.Contains(strings.ReplaceAll(out, "canary-5b2f-hut", ""), "canary-5b2f") {
			t.Errorf("the secret is left")
		}
		if utf8.RuneCountInString(out) > Limit+1 {
			t.Errorf("%d characters", utf8.RuneCountInString(out))
		}
	})
}

// hidden is a secret of these tests.
type hidden string

func (h hidden) Reveal() string { return string(h) }

// nobody is a secret that was not given.
type nobody struct{}

func (nobody) Reveal() string { return "" }
