package profile

import (
	"strings"
	"testing"
)

// TestPortable has names that some system cannot hold, or not beside another.
func TestPortable(t *testing.T) {
	for names, want := range map[string]string{
		"huts/a huts/b":          "",
		"con":                    "con: Windows keeps the name con",
		"huts/NUL.txt":           "huts/NUL.txt: Windows keeps the name NUL.txt",
		"aux/a":                  "aux/a: Windows keeps the name aux",
		"com1 lpt9.x":            "com1: Windows keeps the name com1; lpt9.x: Windows keeps the name lpt9.x",
		"com0 com10 lpt console": "",
		"auxiliary/a nulls":      "",
		"Huts/a huts/a":          "huts/a: huts/ and Huts/ are one",
		"Huts/a huts/b":          "huts/b: huts/ and Huts/ are one",
		"huts/A huts/a":          "huts/a: huts/a and huts/A are one",
		"huts Huts/a":            "",
		"a/b/C a/B/d":            "a/b/C: a/b/ and a/B/ are one",
	} {
		list := strings.Fields(names)
		why := Portable(list)
		var got []string
		for _, name := range list {
			if why[name] != "" {
				got = append(got, name+": "+why[name])
			}
		}
		wanted := strings.Split(want, "; ")
		if want == "" {
			wanted = nil
		}
		if len(got) != len(wanted) {
			t.Errorf("%s: %q", names, got)
			continue
		}
		for i := range got {
			if !strings.HasPrefix(got[i], wanted[i]) {
				t.Errorf("%s: %q", names, got[i])
			}
		}
	}
}
