package report

import (
	"strings"
	"testing"
)

// TestPlain writes texts in pieces of each length: the characters that are cut between two pieces
// come out whole.
func TestPlain(t *testing.T) {
	for text, want := range map[string]string{
		"a → b · c": "a -> b - c", "cut off…  next": "cut off...next", "cut … on": "cut ... on", "▁▄█×": "148x",
		"── │": "-- |", "┌┼": "++",
		"Hüttenbuch 山": `H\u00fcttenbuch \u5c71`, "𝄞": `\U0001d11e`, "\xff\xc3": `\xff`, "plain": "plain",
		"é\x1b[1m": `\u00e9` + "\x1b[1m",
	} {
		for size := 1; size <= len(text); size++ {
			var b strings.Builder
			w := &Plain{To: &b}
			for at := 0; at < len(text); at += size {
				piece := text[at:min(at+size, len(text))]
				if n, err := w.Write([]byte(piece)); n != len(piece) || err != nil {
					t.Fatal(n, err)
				}
			}
			if size == len(text) && b.String() != want {
				t.Errorf("%q: %q", text, b.String())
			}
			if strings.IndexFunc(b.String(), func(r rune) bool { return r > 126 }) >= 0 {
				t.Errorf("%q in pieces of %d: %q", text, size, b.String())
			}
		}
	}
}

func TestShowsUTF8(t *testing.T) {
	for set, want := range map[string]bool{
		"": true, "LANG=C": false, "LANG=en_GB.UTF-8": true, "LANG=en_GB.utf8": true, "LANG=de_DE": false,
		"LANG=de_DE.UTF-8@euro": true, "LC_ALL=POSIX LANG=en_GB.UTF-8": false,
		"LC_CTYPE=UTF-8 LANG=C": true, "LC_ALL= LC_CTYPE=C.UTF-8": true, "LC_ALL=ru_RU.KOI8-R": false,
	} {
		values := map[string]string{}
		for _, each := range strings.Fields(set) {
			name, value, _ := strings.Cut(each, "=")
			values[name] = value
		}
		if got := ShowsUTF8(func(name string) (string, bool) { v, is := values[name]; return v, is }); got != want {
			t.Errorf("%s: %t", set, got)
		}
	}
}
