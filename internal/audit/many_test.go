package audit

import (
	"fmt"
	"strings"
	"testing"
)

// TestManyOfAKind lists three of many findings of a kind, and counts the others; in another file,
// and about another thing, they are of another kind.
func TestManyOfAKind(t *testing.T) {
	var file strings.Builder
	file.WriteString("# gentle-harbor credentials 1\n")
	files := map[string]string{}
	for i := range 20 {
		fmt.Fprintf(&file, "at db%d.fellside.example:5432 tls off\n  reader: %s\n", i, canary)
		files[fmt.Sprintf("profiles/p%d.yaml",
			i)] = "engine: postgres\nhost: other.fellside.example\nuser: reader\nsecret: env:NOWHERE\n"
	}
	files["credentials"] = file.String()
	for _, all := range []bool{false, true} {
		s := home(t, files)
		s.All = all
		list, _ := s.Run()
		listed, times := map[string]int{}, map[string]int{}
		for _, f := range list {
			listed[f.About]++
			times[f.About] += 1 + f.More
			if f.More > 0 && (all || f.More != 17) {
				t.Errorf("%+v", f)
			}
			if f.About == "weak" {
				want := "db0.fellside.example:5432, db1.fellside.example:5432, db2.fellside.example:5432 and 17 more"
				if all {
					want = "db19.fellside.example:5432"
				}
				if !strings.Contains(f.What, want) {
					t.Error(f.What)
				}
			}
		}
		few := 3
		if all {
			few = 20
		}
		for _, about := range []string{"travel", "unused", "reference"} {
			if listed[about] != few || times[about] != 20 {
				t.Errorf("all %t: %s: %d listed, %d counted", all, about, listed[about], times[about])
			}
		}
	}
}

// TestApart counts servers by the addresses that they have in common.
func TestApart(t *testing.T) {
	for want, places := range map[int][][]string{
		0: nil, 1: {{"a", "b"}, {"b", "c"}, {"c", "d"}, {"d", "a"}}, 2: {{"a"}, {"b"}, {"a"}}, 3: {{"a"}, {}, {"b"}},
	} {
		if n := apart(places); n != want {
			t.Errorf("%v: %d", places, n)
		}
	}
	if n := apart([][]string{{"a"}, {"b"}, {"c"}, {"a", "c"}, {"d", "b"}}); n != 2 {
		t.Errorf("joined later: %d", n)
	}
}
