package outside

import (
	"strings"
	"testing"
	"unicode/utf8"

	"gentle-harbor/internal/secret"
)

func TestText(t *testing.T) {
	known := []secret.Secret{secret.New("canary-5b2f"), secret.New("ab")}
	for _, c := range []struct{ name, in, want string }{
		{"plain", "no pg_hba entry", "no pg_hba entry"},
		{"letters stay", "Zugriff für Jürgen 日本", "Zugriff für Jürgen 日本"},
		{"escape sequence", "a\x1b[2Jb", `a\x1b[2Jb`},
		{"C1 control", "a\u009b31mb", `a\u009b31mb`},
		{"direction", "a\u202eb", `a\u202eb`},
		{"zero width", "a\u200bb", `a\u200bb`},
		{"lines", "a\r\nb\nc\td", "a b c d"},
		{"carriage return", "secret\rfine", `secret\rfine`},
		{"not UTF-8", "a\xff\xfe", `a\xff\xfe`},
		{"private use and tags", "a\U000e0041", `a\U000e0041`},
		{"secret", "you sent canary-5b2f!", "you sent [secret]!"},
		{"secret twice", "canary-5b2fcanary-5b2f", "[secret][secret]"},
		{"short secret as a word", "cab ab, 'ab'", "cab [secret], '[secret]'"},
		{"digests", "SCRAM-SHA-256$4096:abc$def:ghi md5" + strings.Repeat("0", 32) + " *" + strings.Repeat("A", 40), "[secret] [secret] [secret]"},
	} {
		if got := Text(c.in, known...); got != c.want {
			t.Errorf("%s: %q instead of %q", c.name, got, c.want)
		}
	}
	if got := Text(strings.Repeat("é", 10_000)); utf8.RuneCountInString(got) != Limit+1 {
		t.Errorf("a long text keeps %d characters", utf8.RuneCountInString(got))
	}
}

func FuzzText(f *testing.F) {
	for _, seed := range []string{"a\x1b[31m", "\xff", "canary-5b2f", strings.Repeat("x", 900), "\u2066"} {
		f.Add(seed)
	}
	known := secret.New("canary-5b2f")
	f.Fuzz(func(t *testing.T, in string) {
		out := Text(in, known)
		if !utf8.ValidString(out) || strings.IndexFunc(out, Unsafe) >= 0 {
			t.Errorf("%q leaves unsafe characters: %q", in, out)
		}
		if strings.Contains(out, "canary-5b2f") {
			t.Errorf("the secret is left")
		}
		if utf8.RuneCountInString(out) > Limit+1 {
			t.Errorf("%d characters", utf8.RuneCountInString(out))
		}
	})
}
