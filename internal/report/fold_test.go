package report

import (
	"strings"
	"testing"
)

func TestCut(t *testing.T) {
	for _, c := range []struct {
		cell  string
		width int
		want  string
	}{
		{"short", 10, "short"}, {"two words more", 10, "two …"}, {"db.fellside.example:5432", 12, "db.…"},
		{"abcdefghij", 6, "abcde…"},
		{"    indented-name", 9, "    inde…"}, {"Hütte höher", 8, "Hütte …"}, {"日本語日本語", 7, "日本語…"},
		{"a, b, c and more", 8, "a, b …"},
	} {
		got := cut(c.cell, c.width)
		if got != c.want || wide(got) > c.width {
			t.Errorf("%q to %d: %q", c.cell, c.width, got)
		}
	}
}

// TestFolded folds lines of every shape to every width: nothing is lost, and nothing but a word
// alone is wider.
func TestFolded(t *testing.T) {
	for _, line := range []string{
		"a plain line of several words that goes on and on", "  an indented line of several words that goes on",
		"  --flag VALUE                 what it is for, in several words that go on",
		"word", strings.Repeat("x", 90) + " and " + strings.Repeat("y", 90), "", "   ",
		Paint(Bad, "red words that are long enough to be folded") + " and plain ones",
	} {
		for columns := 1; columns < 130; columns++ {
			got := fit(line, columns)
			if strings.Join(strings.Fields(got), " ") != strings.Join(strings.Fields(line), " ") {
				t.Fatalf("%q to %d: %q", line, columns, got)
			}
			for part := range strings.SplitSeq(got, "\n") {
				if wide(part) > columns && strings.Contains(strings.TrimSpace(part), " ") && columns > 40 {
					t.Errorf("%q to %d: %q", line, columns, part)
				}
			}
		}
	}
	if got := fit("  gharbor add huts/local --engine postgres",
		30); got != "  gharbor add huts/local \\\n      --engine postgres" {
		t.Errorf("%q", got)
	}
	// What a page's words are is what is printed, and its paragraphs are filled.
	if got := folded("a paragraph that is filled", "", 12); got != "a paragraph\nthat is\nfilled" &&
		got != "a paragraph\nthat is filled" {
		t.Errorf("%q", got)
	}
	if got := fit("  --flag        what it is for, in several words",
		40); got != "  --flag        what it is for, in\n                several words" {
		t.Errorf("%q", got)
	}
}
