//go:build unix

package main

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"
)

// How many lines of code may be longer than a window is wide. They are strings that cannot be
// parted; a change that needs more parts its own lines instead, and one that needs fewer lowers the
// number.
const (
	mostVeryLong = 245  // over 140 characters
	mostLong     = 1180 // over 120, a tab counted as four
)

// TestLinesCanBeRead counts long lines in all files of Go, and has no comment of prose over a
// hundred characters.
func TestLinesCanBeRead(t *testing.T) {
	veryLong, long := 0, 0
	must(t, filepath.WalkDir("../..", func(path string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case d.IsDir() && (d.Name() == "testdata" || strings.HasPrefix(d.Name(), ".") && len(d.Name()) > 2):
			return filepath.SkipDir
		case filepath.Ext(path) != ".go":
			return nil
		}
		data, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		for i, line := range strings.Split(string(data), "\n") {
			shown := utf8.RuneCountInString(strings.ReplaceAll(line, "\t", "    "))
			if shown > 120 {
				long++
			}
			if utf8.RuneCountInString(line) > 140 {
				veryLong++
			}
			text, comment := strings.CutPrefix(strings.TrimSpace(line), "// ")
			if comment && shown > 104 && strings.Contains(text, " ") && !strings.HasPrefix(text, " ") &&
				!strings.HasPrefix(text, "- ") {
				t.Errorf("%s:%d: a comment of %d characters: wrap it at 100", path, i+1, shown)
			}
		}
		return nil
	}))
	if veryLong > mostVeryLong || long > mostLong {
		t.Errorf("%d lines are longer than 140 characters and %d longer than 120, instead of at most %d and %d: part them",
			veryLong, long, mostVeryLong, mostLong)
	}
	if veryLong < mostVeryLong-20 || long < mostLong-60 {
		t.Errorf("%d lines are longer than 140 characters and %d longer than 120: lower the numbers that are allowed",
			veryLong, long)
	}
}
