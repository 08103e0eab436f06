package profile

import (
	"fmt"
	"regexp"
	"strings"
	"sync"
)

var nameParts = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9._-]*$`) })

// CheckName says what is wrong with a profile's name, nil when nothing is. A name is made of
// letters, digits, ".", "_" and "-", with "/" between a group and what is in it.
func CheckName(name string) error {
	if name == "" {
		return fmt.Errorf("a profile's name is missing")
	}
	if len(name) > 128 {
		return fmt.Errorf("the name is longer than 128 characters")
	}
	parts := strings.Split(name, "/")
	for _, part := range parts {
		if !nameParts().MatchString(part) || strings.Contains(part, "..") || strings.HasSuffix(part, ".") {
			shown := quoted(name)
			if strings.ContainsAny(name, "@=: \t\n") {
				shown = "what was given" // it looks pasted, and may hold a password
			}
			return fmt.Errorf("%s is not a name: use letters, digits, . _ - and / between a group and a "+
				"profile, as in huts/local",
				shown)
		}
	}
	last := parts[len(parts)-1]
	if last == "group" {
		return fmt.Errorf("%s cannot be a profile's name: group.yaml has what a whole group shares", quoted(name))
	}
	if strings.HasSuffix(last, ".yaml") {
		return fmt.Errorf("write the name without .yaml: %s", strings.TrimSuffix(name, ".yaml"))
	}
	return nil
}

// SplitLayer takes "mine:" or "project:" off a name; layer is "" when neither stands there.
func SplitLayer(name string) (layer, rest string) {
	for _, layer := range []string{"mine", "project"} {
		if rest, ok := strings.CutPrefix(name, layer+":"); ok {
			return layer, rest
		}
	}
	return "", name
}

// Nearest gives the word that text was likely meant to be, "" when none is near.
func Nearest(text string, words []string) string {
	best, at := "", 3
	for _, word := range words {
		d := distance(strings.ToLower(text), strings.ToLower(word), at)
		if d < at && d < (len(word)+1)/2 {
			best, at = word, d
		}
	}
	return best
}

// NearNames gives the profiles that a name which is none may mean, the best first, three at the
// most: one that is written alike, else those whose last part is the name or is written alike.
func NearNames(name string, names []string) []string {
	if near := Nearest(name, names); near != "" {
		return []string{near}
	}
	last := func(name string) string { return name[strings.LastIndexByte(name, '/')+1:] }
	var same, alike []string
	for _, each := range names {
		_, bare := SplitLayer(each)
		switch {
		case strings.HasSuffix(strings.ToLower(bare), "/"+strings.ToLower(name)):
			same = append(same, each)
		case Nearest(last(name), []string{last(bare)}) != "":
			alike = append(alike, each)
		}
	}
	if same == nil {
		same = alike
	}
	return same[:min(len(same), 3)]
}

// Groups lists the groups of some profiles, each with its / at the end.
func Groups(names []string) []string {
	var groups []string
	met := map[string]bool{}
	for _, name := range names {
		_, bare := SplitLayer(name)
		for i, c := range bare {
			if group := bare[:i+1]; c == '/' && !met[group] {
				met[group] = true
				groups = append(groups, group)
			}
		}
	}
	return groups
}

// InGroup reports whether a profile's name, with its layer or without, is of a group, which ends
// in "/".
func InGroup(name, group string) bool {
	layer, bare := SplitLayer(name)
	word, within := SplitLayer(group)
	return strings.HasPrefix(bare, within) && (word == "" || word == layer)
}

// Or lists words as in "a, b or c".
func Or(words []string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " or " + words[len(words)-1]
}

// distance is the Damerau-Levenshtein distance (adjacent letters swapped count once) of a and b
// in bytes, or limit when it is at least that.
func distance(a, b string, limit int) int {
	if len(a)-len(b) >= limit || len(b)-len(a) >= limit {
		return limit
	}
	before, row := make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(a); i++ {
		next := make([]int, len(b)+1)
		next[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			next[j] = min(row[j]+1, next[j-1]+1, row[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				next[j] = min(next[j], before[j-2]+1)
			}
		}
		before, row = row, next
	}
	return min(row[len(b)], limit)
}

// PlainName makes a profile's name of any text: other characters than names have become "-".
func PlainName(text string) string {
	var parts []string
	for part := range strings.SplitSeq(text, "/") {
		part = strings.Map(func(r rune) rune {
			if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("._-", r) {
				return r
			}
			return '-'
		}, part)
		part = strings.TrimLeft(part, ".-")
		if part = part[:min(len(part), 60)]; part != "" {
			parts = append(parts, part)
		}
	}
	if parts == nil {
		parts = []string{"found"}
	}
	if parts[len(parts)-1] == "group" {
		parts[len(parts)-1] = "group-server"
	}
	return strings.Join(parts, "/")
}
