package yamledit

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"go.yaml.in/yaml/v3"
)

func TestSetAtAnyDepth(t *testing.T) {
	for _, c := range []struct {
		name, text string
		path       string
		v          Value
		want       string // "" for an error
	}{
		{"three deep", "a:\n  b:\n    c: 1 # x\n", "a b c", Value{Text: "2", Number: true}, "a:\n  b:\n    c: 2 # x\n"},
		{"a new key three deep", "a:\n  b:\n    c: 1\nz: 1\n", "a b d", Value{Text: "n"},
			"a:\n  b:\n    c: 1\n    d: n\nz: 1\n"},
		{"new maps", "z: 1\n", "a b c", Value{Text: "n"}, "z: 1\na:\n  b:\n    c: n\n"},
		{"new maps in an empty text", "", "a b", Value{Text: "n"}, "a:\n  b: n\n"},
		{"new maps in braces", "a: {z: 1} # x\n", "a b c", Value{Text: "n"}, "a: {z: 1, b: {c: \"n\"}} # x\n"},
		{"a text that is one map in braces", "{z: 1}", "a b", Value{Text: "n"}, "{z: 1, a: {b: \"n\"}}"},
		{"in a list of maps", "via:\n  - host: a # one\n    port: 1\n  - host: b\n", "via 0 port",
			Value{Text: "2", Number: true}, "via:\n  - host: a # one\n    port: 2\n  - host: b\n"},
		{"a new key in a list of maps", "via:\n  - host: a\n  - host: b\n", "via 1 user", Value{Text: "u"},
			"via:\n  - host: a\n  - host: b\n    user: u\n"},
		{"in a list of maps in braces", "via: [{host: a}, {host: b}]\n", "via 1 host", Value{Text: "c"},
			"via: [{host: a}, {host: c}]\n"},
		{"no such element", "via: [{host: a}]\n", "via 1 host", Value{Text: "c"}, ""},
		{"through a text", "a: b\n", "a c", Value{Text: "d"}, ""},
		{"a list", "a: [x]\n", "a", Value{List: []string{"y, z"}}, "a: [\"y, z\"]\n"},
	} {
		got, err := Set([]byte(c.text), strings.Fields(c.path), c.v)
		if (err != nil) != (c.want == "") || string(got) != c.want {
			t.Errorf("%s: %q, %v", c.name, got, err)
		}
	}
}

func TestRemoveAtAnyDepth(t *testing.T) {
	for _, c := range []struct{ name, text, path, want string }{
		{"three deep", "a:\n  b:\n    c: 1\n    d: 2 # x\n", "a b c", "a:\n  b:\n    d: 2 # x\n"},
		{"maps that are left empty", "a:\n  b:\n    c: 1\nz: 1\n", "a b c", "z: 1\n"},
		{"in braces", "a: {b: {c: 1}, d: 2}\n", "a b c", "a: {d: 2}\n"},
		{"in a list of maps", "via:\n  - host: a\n    port: 1\n  - host: b\n", "via 0 port",
			"via:\n  - host: a\n  - host: b\n"},
		{"beside the dash", "via:\n  - host: a\n    port: 1\n", "via 0 host", "via:\n  - port: 1\n"},
		{"nothing there", "a: 1\n", "b c", "a: 1\n"},
	} {
		if got, err := Remove([]byte(c.text), strings.Fields(c.path)); err != nil || string(got) != c.want {
			t.Errorf("%s: %q, %v", c.name, got, err)
		}
	}
}

func TestNest(t *testing.T) {
	for text, want := range map[string]string{
		"t: 5s # x\n": "t: \n  leg: 5s # x\n", "{t: 5s}\n": "{t: {leg: 5s}}\n",
		"t: {leg: 5s}\n": "t: {leg: 5s}\n", "u: 1\n": "u: 1\n",
	} {
		if got, err := Nest([]byte(text), []string{"t"}, "leg"); err != nil || string(got) != want {
			t.Errorf("%q: %q, %v", text, got, err)
		}
	}
}

// pool is where generated texts take their words from: with what YAML reads as something else,
// quotes, and characters of more than one byte.
var pool = []string{"plain", "two words", "it's", `a "b"`, "yes", "7001", "größe", "a: b", "x # y", "{z}",
	"[q]", "- d", "", "~", "0x1f", "日本"}

// generated writes a YAML text at random, with comments, empty lines, and maps as blocks and in
// braces, and gives the paths of its texts.
func generated(r *rand.Rand) (text string, paths [][]string) {
	var b strings.Builder
	scalar := func(flow bool) string {
		word := pool[r.IntN(len(pool))]
		if r.IntN(3) == 0 && !strings.Contains(word, "'") {
			return "'" + word + "'"
		}
		if flow {
			return doubleQuoted(word)
		}
		return written(scalarNode(word))
	}
	var block func(path []string, depth int)
	block = func(path []string, depth int) {
		pad := strings.Repeat("  ", depth)
		for i := range 1 + r.IntN(4) {
			key := fmt.Sprintf("k%d", i)
			here := append(slices.Clone(path), key)
			switch r.IntN(6) {
			case 0:
				b.WriteString(pad + "# a comment: {not, yaml\n")
			case 1:
				b.WriteString("\n")
			}
			switch kind := r.IntN(6); {
			case kind == 0 && depth < 3:
				b.WriteString(pad + key + ": # below\n")
				block(here, depth+1)
			case kind == 1:
				b.WriteString(pad + key + ": {a: " + scalar(true) + ",  b: { c: " + scalar(true) + " }} # braces\n")
				paths = append(paths, append(slices.Clone(here), "a"), append(slices.Clone(here), "b", "c"))
			case kind == 2:
				b.WriteString(pad + key + ":\n" + pad + "  - host: " + scalar(false) + "\n" + pad +
					"    user: " + scalar(false) + " # of it\n")
				paths = append(paths, append(slices.Clone(here), "0", "host"), append(slices.Clone(here), "0", "user"))
			default:
				b.WriteString(pad + key + ": " + scalar(false) + [...]string{"", " # said", "   #"}[r.IntN(3)] + "\n")
				paths = append(paths, here)
			}
		}
	}
	block(nil, 0)
	text = b.String()
	if r.IntN(3) == 0 {
		text = strings.ReplaceAll(text, "\n", "\r\n")
	}
	return text, paths
}

// flat gives every text of a YAML document by its path.
func flat(t *testing.T, text string) map[string]string {
	t.Helper()
	var root yaml.Node
	if err := yaml.Unmarshal([]byte(text), &root); err != nil {
		t.Fatalf("%v in\n%s", err, text)
	}
	all := map[string]string{}
	var walk func(n *yaml.Node, at string)
	walk = func(n *yaml.Node, at string) {
		switch n.Kind {
		case yaml.MappingNode:
			for i := 0; i+1 < len(n.Content); i += 2 {
				walk(n.Content[i+1], at+"\x00"+n.Content[i].Value)
			}
		case yaml.SequenceNode:
			for i, each := range n.Content {
				walk(each, fmt.Sprintf("%s\x00%d", at, i))
			}
		case yaml.DocumentNode:
			walk(n.Content[0], at)
		case yaml.ScalarNode:
			all[at] = n.Value
		}
	}
	walk(&root, "")
	return all
}

// TestTenThousandEdits changes, adds and removes at random, and holds that only what was meant
// changes: the values, and every byte outside of the one piece of text that was replaced.
func TestTenThousandEdits(t *testing.T) {
	r := rand.New(rand.NewPCG(20261125, 11))
	done, refused := 0, 0
	for done < 10_000 {
		text, paths := generated(r)
		for range 8 {
			if len(paths) == 0 {
				break
			}
			path := paths[r.IntN(len(paths))]
			key := "\x00" + strings.Join(path, "\x00")
			before := flat(t, text)
			v := Value{Text: pool[r.IntN(len(pool))]}
			var got []byte
			var err error
			what := r.IntN(3)
			switch what {
			case 0:
				got, err = Set([]byte(text), path, v)
				before[key] = v.Text
			case 1:
				path = append(slices.Clone(path[:len(path)-1]), fmt.Sprintf("new%d", done), "deep")
				got, err = Set([]byte(text), path, v)
				before["\x00"+strings.Join(path, "\x00")] = v.Text
			case 2:
				got, err = Remove([]byte(text), path)
				delete(before, key)
			}
			done++
			if err != nil {
				refused++
				continue
			}
			after := flat(t, string(got))
			if fmt.Sprint(after) != fmt.Sprint(before) {
				t.Fatalf("edit %d of %q (%q):\n%s\nbecomes\n%s", what, path, v.Text, text, got)
			}
			head, tail := common(text, string(got))
			// A value is replaced in one piece; what is added is one piece, and so is what is
			// taken out.
			if changed, put := len(text)-head-tail, len(got)-head-tail; what == 0 && changed > 20 ||
				what == 1 && changed > 0 || what == 2 && put > 0 {
				t.Fatalf("edit %d of %q changes %d bytes:\n%s\nbecomes\n%s", what, path, changed, text, got)
			}
			if strings.Contains(text, "\r\n") && strings.Contains(strings.ReplaceAll(string(got), "\r\n", ""), "\n") {
				t.Fatalf("a line end of another kind in %q", got)
			}
			if what < 2 {
				text = string(got)
			}
		}
	}
	t.Logf("%d edits, %d of them refused", done, refused)
	if refused > done/50 {
		t.Error("too many are refused")
	}
}

// common gives how many bytes two texts share at their beginning and at their end.
func common(a, b string) (head, tail int) {
	for head < min(len(a), len(b)) && a[head] == b[head] {
		head++
	}
	for tail < min(len(a), len(b))-head && a[len(a)-1-tail] == b[len(b)-1-tail] {
		tail++
	}
	return head, tail
}

func FuzzSet(f *testing.F) {
	f.Add([]byte("a: {b: 1} # x\nc:\n  - d: e\n"), "a b", "v")
	f.Add([]byte("{a: 'it''s'}"), "a", "x: y")
	f.Add([]byte("a: |\n  b\nc: >-\n  d\n"), "a", "")
	f.Fuzz(func(t *testing.T, text []byte, path, value string) {
		var root yaml.Node
		if yaml.Unmarshal(text, &root) != nil || len(strings.Fields(path)) == 0 {
			return
		}
		_, _ = Set(text, strings.Fields(path), Value{Text: value}) // with any input, it does not panic
		_, _ = Remove(text, strings.Fields(path))
		_, _ = Nest(text, strings.Fields(path), "k")
	})
}
