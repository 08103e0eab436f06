package outside

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"
	"unicode/utf8"
)

func TestText(t *testing.T) {
	veil := Veil{
		Secrets: []Hidden{hidden("canary-5b2f"), hidden("ab"), hidden("else"), hidden("\xfe\xff"), hidden("bunk"), hidden(""), nobody{}},
		Spare:   []string{"elsewhere", "bunk", ""},
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
		{"digests", "SCRAM-SHA-256$4096:abc$def:ghi md5" + strings.Repeat("0", 32) + " *" + strings.Repeat("A", 40), "[secret] [secret] [secret]"},
	} {
		if got := veil.Text(c.in); got != c.want {
			t.Errorf("%s: %q instead of %q", c.name, got, c.want)
		}
	}
	for form, want := range map[string]string{"%v": `a\x1b`, "%s": `a\x1b`, "%q": `"a\\x1b"`, "%d": `a\x1b`, "%+v": `a\x1b`, "%#v": `a\x1b`} {
		if got := fmt.Sprintf(form, Said("a\x1b")); got != want {
			t.Errorf("a Raw by %s is %q", form, got)
		}
	}
	if got, err := json.Marshal(map[string]Raw{"k": Said("v\x1b")}); err != nil || string(got) != `{"k":"v\\x1b"}` {
		t.Errorf("a Raw in JSON is %s, %v", got, err)
	}
	for _, text := range []string{strings.Repeat("a", 8<<20), strings.Repeat("ab", 4<<20), strings.Repeat("ab ", 4<<20), strings.Repeat("else", 2<<20)} {
		began := time.Now()
		veil.Text(text)
		if took := time.Since(began); took > 2*time.Second {
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
