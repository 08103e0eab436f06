package profile

import (
	"slices"
	"strings"
	"testing"
)

// wild are files as people write them by hand, each with a mark %PORT% at the port's value and
// %NOTE% at the note's, so that what a change should give can be written down exactly.
var wild = map[string]string{
	"comments everywhere": `# top
engine: postgres # which
# before the host

host: db.fellside.example   # where
port: %PORT%	# the port
  # an odd comment

user: 'warden_app' # single quotes
database: "bunkhouse" # double quotes
tls: # encryption
  # how
  mode: verify # always
  ca: ca.pem

note: %NOTE% # a note
# the end
`,
	"flow forms": `engine: postgres
host: db.fellside.example
port: %PORT%
tls: {mode: verify, ca: "a, b.pem"} # in braces
labels: { season: winter,
  "high": 'it''s, {so}' }
on-open: [set a = 1, "set b = '2'"]
note: %NOTE%
user: warden_app
`,
	"blocks": `engine: postgres
port: %PORT%
on-open:
    - set a = 1

    # between
    - >-
      set b
      = 2
labels:
      season: winter

user: warden_app


note: %NOTE%`,
	"odd indents": `tls:
     mode: verify
     ca:    ca.pem
engine:     postgres
port:       %PORT%
user:
  warden_app
note:       %NOTE%
options:
 search_path: a,
   b
`,
	"unicode before": `engine: postgres
labels: {"größe": "größer", season: "x"}
port: %PORT%
user: jürgen
note: %NOTE%
`,
}

func fillWild(text, port, note string) string {
	return strings.NewReplacer("%PORT%", port, "%NOTE%", note).Replace(text)
}

func TestChangeLeavesAllElse(t *testing.T) {
	for name, text := range wild {
		for _, newline := range []string{"\n", "\r\n"} {
			file := strings.ReplaceAll(fillWild(text, "6021", "old words"), "\n", newline)
			notes := []string{"new", "two words", "\"quoted: # text\"", "again", "x", "y", "z", "ünï", "9", "last"}
			for i, note := range notes {
				port := "70" + string(rune('0'+i)) + "1"
				plain := strings.Trim(note, `"`)
				got, err := Change([]byte(file), "p.yaml", Layer{"port": {Text: port}, "note": {Text: plain}}, nil)
				if err != nil {
					t.Fatalf("%s: %v", name, err)
				}
				file = string(got)
				want := strings.ReplaceAll(fillWild(text, port, note), "\n", newline)
				// How a text is quoted is the writer's to choose; the rest is not.
				if a, b := strings.NewReplacer(`"`, "", `'`, "").Replace(file),
					strings.NewReplacer(`"`, "", `'`, "").Replace(want); a != b {
					t.Fatalf("%s, change %d:\n%q\ninstead of\n%q", name, i, file, want)
				}
			}
		}
	}
}

func TestChangeEachWay(t *testing.T) {
	for _, c := range []struct {
		name, file string
		set        Layer
		unset      []string
		want       string
	}{
		{"new at the end", "engine: postgres\n", Layer{"user": {Text: "a"}}, nil, "engine: postgres\nuser: a\n"},
		{"new, no last newline", "engine: postgres", Layer{"user": {Text: "a"}}, nil, "engine: postgres\nuser: a"},
		{"new in an empty file", "", Layer{"user": {Text: "a"}}, nil, "user: a\n"},
		{"new before the last comment", "engine: postgres\n\n# end\n", Layer{"user": {Text: "a"}}, nil,
			"engine: postgres\nuser: a\n\n# end\n"},
		{"new inner", "tls:\n    mode: verify # x\nuser: a\n", Layer{"tls.ca": {Text: "c"}}, nil,
			"tls:\n    mode: verify # x\n    ca: c\nuser: a\n"},
		{"new inner, in braces", "tls: {mode: verify}\n", Layer{"tls.ca": {Text: "c"}}, nil,
			"tls: {mode: verify, ca: \"c\"}\n"},
		{"new map", "user: a\n", Layer{"tls.mode": {Text: "verify"}}, nil, "user: a\ntls:\n  mode: verify\n"},
		{"number-like text", "user: a\n", Layer{"user": {Text: "2024"}}, nil, "user: \"2024\"\n"},
		{"port stays a number", "port: 1\n", Layer{"port": {Text: "2"}}, nil, "port: 2\n"},
		{"quotes stay", "user: 'a'\n", Layer{"user": {Text: "it's"}}, nil, "user: 'it''s'\n"},
		{"unset", "user: a\n# kept\nnote: x # gone\nport: 1\n", nil, []string{"note"}, "user: a\n# kept\nport: 1\n"},
		{"unset a block", "note: |\n  a\n\n  b\nuser: a\n", nil, []string{"note"}, "user: a\n"},
		{"unset the last inner", "tls:\n  mode: verify\nuser: a\n", nil, []string{"tls.mode"}, "user: a\n"},
		{"unset in braces", "tls: {mode: verify, ca: c}\n", nil, []string{"tls.mode"}, "tls: {ca: c}\n"},
		{"unset the last in braces", "tls: {mode: verify, ca: c}\n", nil, []string{"tls.ca"}, "tls: {mode: verify}\n"},
		{"unset what is not there", "user: a\n", nil, []string{"note"}, "user: a\n"},
		{"list", "on-open: [a]\n", Layer{"on-open": ListValue([]string{"b c", "d: e"}, Origin{})}, nil,
			"on-open: [\"b c\", \"d: e\"]\n"},
		{"block list", "on-open: # why\n  - a\n  - b\nuser: a\n",
			Layer{"on-open": ListValue([]string{"c"}, Origin{})}, nil, "on-open: [\"c\"] # why\nuser: a\n"},
		{"short timeout", "timeout: 3s\n", Layer{"timeout.leg": {Text: "4s"}}, nil, "timeout: 4s\n"},
		{"short timeout gets a total", "timeout: 3s\n", Layer{"timeout.total": {Text: "9s"}}, nil,
			"timeout: \n  leg: 3s\n  total: 9s\n"},
		{"several lines", "note: x\n", Layer{"note": {Text: "a\nb"}}, nil, "note: \"a\\nb\"\n"},
		{"folded text replaced", "note: >\n  a\n  b\nuser: a\n", Layer{"note": {Text: "c"}}, nil, "note: c\nuser: a\n"},
		{"text over two lines replaced", "note: a\n  b # x\nuser: a\n", Layer{"note": {Text: "c"}}, nil,
			"note: c # x\nuser: a\n"},
	} {
		got, err := Change([]byte(c.file), "p.yaml", c.set, c.unset)
		if err != nil || string(got) != c.want {
			t.Errorf("%s: %q instead of %q, %v", c.name, got, c.want, err)
		}
	}
}

func FuzzChange(f *testing.F) {
	for _, text := range wild {
		f.Add([]byte(fillWild(text, "6021", "old")), "new", "7001")
	}
	f.Add([]byte("{user: a, port: 1}"), "x: y", "2")
	f.Fuzz(func(t *testing.T, data []byte, note, port string) {
		before, err := Parse(data, "p.yaml", "profile")
		if err != nil || checkNote(note) != nil || checkPort(port) != nil || note == "" {
			return
		}
		got, err := Change(data, "p.yaml", Layer{"note": {Text: note}, "port": {Text: port}}, []string{"user"})
		if err != nil {
			return // refused: nothing is changed
		}
		after, err := Parse(got, "p.yaml", "profile")
		if err != nil {
			t.Fatalf("%q becomes %q: %v", data, got, err)
		}
		for name, v := range before {
			w := after[name]
			if name != "note" && name != "port" && name != "user" && (w.Text != v.Text || !slices.Equal(w.List, v.List)) {
				t.Errorf("%s changes from %q to %q", name, v.Text, w.Text)
			}
		}
		if after["note"].Text != note || after["port"].Text != port {
			t.Errorf("%q, %q", after["note"].Text, after["port"].Text)
		}
		for _, line := range strings.Split(string(data), "\n") {
			if comment := strings.TrimSpace(line); strings.HasPrefix(comment, "#") &&
				!strings.Contains(string(got), comment) &&
				!strings.Contains(before["note"].Text+before["user"].Text, comment) {
				t.Errorf("the comment %q is gone from %q", comment, got)
			}
		}
	})
}
