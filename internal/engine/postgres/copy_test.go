package postgres

import "testing"

// TestCopies tells a COPY from other statements, whatever stands before its first word.
func TestCopies(t *testing.T) {
	for statement, want := range map[string]bool{
		"copy hut from stdin":                          true,
		" \r\n\tCOPY(select 1) to stdout":              true,
		"-- copy\n/* a /* b */ c */copy hut to stdout": true,
		"copy":                    true,
		"copying":                 false,
		"copy_hut":                false,
		"select 'copy'":           false,
		"-- copy hut from stdin":  false,
		"/* copy hut from stdin":  false,
		"/* /* */ copy hut":       false,
		"":                        false,
		"\"copy\" hut from stdin": false,
	} {
		if got := copies(statement); got != want {
			t.Errorf("%q: %v", statement, got)
		}
	}
}
