package talk

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"go.yaml.in/yaml/v3"

	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
)

// MostSettings is how large the file of settings may be, in bytes.
const MostSettings = 64 << 10

// Styles are the styles of editing, named as POSIX shells name them (set -o vi).
var Styles = []string{"emacs", "vi"}

// Pages say when results are shown page by page.
var Pages = []string{"when-needed", "never"}

// Settings are a person's own, of the file talk.yaml.
type Settings struct {
	Took   bool     // how long each statement took is said
	Page   string   // of Pages
	Edit   string   // of Styles
	Null   string   // what is shown for a value that is none; "" for the usual sign
	Start  []string // statements that run when a session is open
	Prompt []string // of Parts; none for all
}

// Usual are the settings without a file.
func Usual() Settings { return Settings{Page: Pages[0], Edit: Styles[0]} }

// keys are the settings, in the order in which they are shown, each with what it is for.
var keys = [][2]string{
	{"took", "say how long each statement took: true or false"},
	{"page", "show long results page by page: " + strings.Join(Pages, " or ")},
	{"edit", "the style of editing: " + strings.Join(Styles, " or ")},
	{"null", "what is shown for a value that is none"},
	{"start", "statements that run when a session is open, as a list"},
	{"prompt", "parts of the prompt, as a list of " + strings.Join(Parts, ", ")},
}

// ParseSettings reads a file of settings (YAML 1.2, a map). Its error names the file, the line
// and what is right.
func ParseSettings(data []byte, file string) (Settings, error) {
	s := Usual()
	fail := func(line int, format string, args ...any) (Settings, error) {
		return Usual(), fmt.Errorf("%s:%d: %s", file, max(line, 1), fmt.Sprintf(format, args...))
	}
	for n, line := range bytes.Split(data, []byte("\n")) {
		if !outside.Clean(strings.ReplaceAll(strings.TrimSuffix(string(line), "\r"), "\t", " ")) {
			return fail(n+1, "the line has a character that cannot be seen, or is not UTF-8; take it out")
		}
	}
	decoder := yaml.NewDecoder(bytes.NewReader(data))
	var document, second yaml.Node
	switch err := decoder.Decode(&document); {
	case errors.Is(err, io.EOF):
		return s, nil
	case err != nil:
		line, text := 1, err.Error()
		if met := yamlError().FindStringSubmatch(text); met != nil {
			line, _ = strconv.Atoi(met[1])
			text = met[2]
		}
		return fail(line, "this is not YAML that can be read: %s", outside.Text(text))
	}
	if decoder.Decode(&second) == nil {
		return fail(second.Line, "a second document begins here; keep one")
	}
	root := document.Content[0]
	if root.Kind == yaml.ScalarNode && root.Tag == "!!null" {
		return s, nil
	}
	if root.Kind != yaml.MappingNode {
		return fail(root.Line, "settings are one `name: value` a line, such as took: true")
	}
	seen := map[string]bool{}
	for i := 0; i+1 < len(root.Content); i += 2 {
		name, value := root.Content[i], root.Content[i+1]
		key := outside.Cell(name.Value)
		if seen[key] {
			return fail(name.Line, "%s is said twice; keep one", key)
		}
		seen[key] = true
		if say := s.take(key, value); say != "" {
			return fail(value.Line, "%s", say)
		}
	}
	return s, nil
}

var yamlError = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^yaml: (?:line (\d+): )?(.*)$`) })

// take takes one setting, and says what is wrong with it.
func (s *Settings) take(key string, value *yaml.Node) (wrong string) {
	one := func(of []string, into *string) string {
		if value.Kind != yaml.ScalarNode || !slices.Contains(of, value.Value) {
			return fmt.Sprintf("%s is %s", key, strings.Join(of, " or "))
		}
		*into = value.Value
		return ""
	}
	switch key {
	case "took":
		var word string
		wrong = one([]string{"true", "false"}, &word)
		s.Took = word == "true"
	case "page":
		wrong = one(Pages, &s.Page)
	case "edit":
		wrong = one(Styles, &s.Edit)
	case "null":
		if value.Kind != yaml.ScalarNode || len(value.Value) > 40 {
			return "null is a text of at most 40 bytes, in quotes"
		}
		s.Null = value.Value
	case "start":
		s.Start, wrong = list(key, value, nil)
	case "prompt":
		s.Prompt, wrong = list(key, value, Parts)
	default:
		var names []string
		for _, each := range keys {
			names = append(names, each[0])
		}
		if near := profile.Nearest(key, names); near != "" {
			return fmt.Sprintf("there is no setting %s; did you mean %s?", key, near)
		}
		return fmt.Sprintf("there is no setting %s; there are %s", key, strings.Join(names, ", "))
	}
	return wrong
}

// list reads a list of texts, of some words where there are any.
func list(key string, value *yaml.Node, of []string) (texts []string, wrong string) {
	if value.Kind != yaml.SequenceNode {
		return nil, fmt.Sprintf("%s is a list, one to a line after a dash", key)
	}
	for _, each := range value.Content {
		switch {
		case each.Kind != yaml.ScalarNode || strings.TrimSpace(each.Value) == "":
			return nil, fmt.Sprintf("each of %s is a text", key)
		case of != nil && !slices.Contains(of, each.Value):
			return nil, fmt.Sprintf("%s has no %s; it may have %s", key, outside.Cell(each.Value), strings.Join(of, ", "))
		}
		texts = append(texts, each.Value)
	}
	return texts, ""
}

// Setting is one setting as it is shown.
type Setting struct{ Name, Value, About string }

// List gives all settings, with what each is for.
func (s Settings) List() []Setting {
	values := map[string]string{
		"took": strconv.FormatBool(s.Took), "page": s.Page, "edit": s.Edit, "null": s.Null,
		"start": strings.Join(s.Start, "; "), "prompt": strings.Join(s.Prompt, ", "),
	}
	var all []Setting
	for _, each := range keys {
		all = append(all, Setting{each[0], values[each[0]], each[1]})
	}
	return all
}
