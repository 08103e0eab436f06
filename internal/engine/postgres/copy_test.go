package postgres

import "testing"

// TestCopies knows a COPY from other statements, no matter what stands before its first word.
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

// TestReadsInput knows a COPY that reads the client's data from others, which a server could have
// ask for it.
func TestReadsInput(t *testing.T) {
	for statement, want := range map[string]bool{
		"copy hut from stdin": true, "COPY hut (name) FROM\n-- it\nSTDIN (format csv)": true,
		"copy hut from stdout": true, "copy hut from/* x */stdin": true,
		"copy hut to stdout": false, "copy (select 'from stdin') to stdout": false,
		"copy (select 1 as \"from stdin\") to stdout": false, "copy hut to stdout -- from stdin": false,
		"copy hut from '/file'": false, "copy hut from program 'cat stdin'": false,
	} {
		if got := language.ReadsInput(statement); got != want {
			t.Errorf("%q: %v", statement, got)
		}
	}
}
