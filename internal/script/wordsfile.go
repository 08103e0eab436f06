package script

import (
	"fmt"
	"strings"

	"go.yaml.in/yaml/v3"
)

// MostWords is how large a file of words may be.
const MostWords = 64 << 10

// ParseWords reads a file of words (YAML 1.2): the lists include, end and pass-over, and nothing
// else. Its errors name the line.
func ParseWords(data []byte, near func(word string, names []string) string) (Words, error) {
	var words Words
	wrong := func(n *yaml.Node, format string, of ...any) error {
		return fmt.Errorf("line %d: %s", max(1, n.Line), fmt.Sprintf(format, of...))
	}
	lists := map[string]*[]string{"include": &words.Include, "end": &words.End, "pass-over": &words.PassOver}
	names := []string{"include", "end", "pass-over"}
	decoder := yaml.NewDecoder(strings.NewReader(string(data)))
	var document, second yaml.Node
	if err := decoder.Decode(&document); err != nil {
		return words, fmt.Errorf("it is no YAML: %w", err)
	}
	if decoder.Decode(&second) == nil {
		return words, wrong(&second, "a second document; a file of words has one")
	}
	root := document.Content[0]
	if root.Kind != yaml.MappingNode {
		return words, wrong(root, "a file of words has the lists %s", strings.Join(names, ", "))
	}
	had := map[string]bool{}
	for i := 0; i+1 < len(root.Content); i += 2 {
		key, list := root.Content[i], root.Content[i+1]
		into, known := lists[key.Value]
		switch {
		case !known:
			hint := "there are " + strings.Join(names, ", ")
			if like := near(key.Value, names); like != "" {
				hint = "did you mean " + like + "?"
			}
			return words, wrong(key, "there is no list %q; %s", key.Value, hint)
		case had[key.Value]:
			return words, wrong(key, "the list %s is there twice", key.Value)
		case list.Kind != yaml.SequenceNode || list.Anchor != "":
			return words, wrong(list, "%s is a list of words, such as [WORD]", key.Value)
		}
		had[key.Value] = true
		for _, each := range list.Content {
			if each.Kind != yaml.ScalarNode || each.Anchor != "" {
				return words, wrong(each, "%s is a list of words, such as [WORD]", key.Value)
			}
			if err := CheckWord(each.Value); err != nil {
				return words, wrong(each, "%v", err)
			}
			*into = append(*into, each.Value)
		}
	}
	return words, nil
}

// CheckWord refuses what cannot be the first word of a line.
func CheckWord(word string) error {
	if word == "" || len(word) > 60 || strings.ContainsAny(word, " \t\r\n;'\"`") ||
		strings.HasPrefix(word, "--") || strings.HasPrefix(word, "/*") {
		return fmt.Errorf("%q cannot be the first word of a line: it has no spaces, quotes and semicolons, and "+
			"begins no comment",
			word)
	}
	return nil
}
