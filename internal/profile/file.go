package profile

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
	"unicode/utf8"

	"go.yaml.in/yaml/v3"

	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/secret"
)

// MaxFile is how many bytes a profile's file may have.
const MaxFile = 256 << 10

// FileError is something wrong in a file, with the place and the fix.
type FileError struct {
	File    string
	Line    int // from 1
	Problem string
}

// Error gives FILE:LINE: and the problem.
func (e *FileError) Error() string { return fmt.Sprintf("%s:%d: %s", e.File, e.Line, e.Problem) }

// Parse reads a profile's file (YAML 1.2, one document, plain maps, lists and scalars) into a
// Layer of the given kind. The text of a scalar is its value, whichever type YAML takes it for:
// `database: 2024` is "2024". All that is wrong with the file is said together, as *FileError
// values joined.
func Parse(data []byte, file string, kind LayerName) (Layer, error) {
	r := reader{file: file, kind: kind, layer: Layer{}}
	root, err := r.root(data)
	if err != nil {
		return nil, err
	}
	if root != nil {
		r.top(root)
	}
	if len(r.errs) > 0 {
		slices.SortStableFunc(r.errs, func(a, b error) int {
			return a.(*FileError).Line - b.(*FileError).Line
		})
		return nil, errors.Join(r.errs...)
	}
	return r.layer, nil
}

// maxErrors is how many mistakes are said together; a file with more is most likely not a profile
// at all.
const maxErrors = 20

type reader struct {
	file  string
	kind  LayerName
	above int // lines of the file above the text that is read
	layer Layer
	errs  []error
}

// root gives the mapping that the file is, nil for an empty file.
func (r *reader) root(data []byte) (*yaml.Node, error) {
	if err := checkBytes(data); err != nil {
		err.File, err.Line = r.file, err.Line+r.above
		return nil, err
	}
	decoder := yaml.NewDecoder(bytes.NewReader(data))
	var document yaml.Node
	if err := decoder.Decode(&document); errors.Is(err, io.EOF) {
		return nil, nil
	} else if err != nil {
		return nil, r.syntax(err)
	}
	var second yaml.Node
	if err := decoder.Decode(&second); err == nil {
		return nil, r.fail(&second, "a second document begins here; a profile's file is one document, so keep one of them")
	} else if !errors.Is(err, io.EOF) {
		return nil, r.syntax(err)
	}
	root := document.Content[0]
	if root.Kind == yaml.ScalarNode && root.Tag == "!!null" && root.Anchor == "" {
		return nil, nil
	}
	if root.Kind != yaml.MappingNode {
		return nil, r.fail(root, "a profile is a list of settings, one `name: value` a line; this is something else")
	}
	return root, nil
}

var tooLarge = fmt.Sprintf("the file has more than %d KB, and a profile's has at most that; is it the right file?",
	MaxFile>>10)

// checkBytes refuses what no profile's file can hold before the YAML reader sees it.
func checkBytes(data []byte) *FileError {
	if len(data) > MaxFile {
		return &FileError{Line: 1, Problem: tooLarge}
	}
	if bytes.HasPrefix(data, []byte("\xef\xbb\xbf")) {
		return &FileError{Line: 1, Problem: "the file begins with a byte order mark, which cannot be seen; save " +
			"it as UTF-8 without one"}
	}
	for n, line := range bytes.Split(data, []byte("\n")) {
		line = bytes.TrimSuffix(line, []byte("\r"))
		if !utf8.Valid(line) {
			return &FileError{Line: n + 1, Problem: "the line is not UTF-8 text; save the file as UTF-8"}
		}
		if indent := line[:len(line)-len(bytes.TrimLeft(line, " \t"))]; bytes.IndexByte(indent, '\t') >= 0 {
			return &FileError{Line: n + 1, Problem: "the line is indented with a tab; use spaces"}
		}
		for _, c := range string(line) {
			if (c < ' ' || c > '~') && outside.Unsafe(c) && c != '\t' {
				return &FileError{Line: n + 1,
					Problem: fmt.Sprintf("the line has the character %U, which cannot be seen; take it out", c)}
			}
		}
	}
	return nil
}

var syntaxError = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^yaml: (?:line (\d+): )?(.*)$`) })

// syntax words the YAML reader's error as ours; its text holds positions and no values.
func (r *reader) syntax(err error) error {
	line, text := 1, err.Error()
	if m := syntaxError().FindStringSubmatch(text); m != nil {
		line, _ = strconv.Atoi(m[1])
		text = m[2]
	}
	return &FileError{r.file, r.above + max(line, 1),
		"this is not YAML that can be read: " + outside.Text(text) +
			" (the mistake may also stand on the line before)"}
}

func (r *reader) fail(node *yaml.Node, format string, args ...any) error {
	err := &FileError{r.file, r.above + max(node.Line, 1), fmt.Sprintf(format, args...)}
	r.errs = append(r.errs, err)
	return err
}

func (r *reader) top(root *yaml.Node) {
	r.pairs(root, func(key string, name, value *yaml.Node) {
		setting, known := Find(key)
		inner := InMap(key)
		allowed := func(s Setting) bool { return InAlias(s) == (r.kind == LayerAlias) || InAlias(s) && s.Scope != OfAlias }
		switch {
		case known && !allowed(setting), !known && len(inner) > 0 && !slices.ContainsFunc(inner, allowed):
			if r.kind == LayerAlias {
				r.fail(name, "%s is for a profile, not for an alias", quoted(key))
			} else {
				r.fail(name, "%s is for an alias, in a file of aliases, and not for a profile", key)
			}
		case known && setting.Scope == OfItself && r.kind == LayerGroup:
			r.fail(name, "%s is for a profile, not for a group", key)
		case known:
			r.setting(key, value)
		case len(inner) == 0:
			r.unknown(key, name)
		case value.Kind == yaml.ScalarNode && slices.ContainsFunc(inner, func(s Setting) bool { return s.Short }):
			r.setting(inner[slices.IndexFunc(inner, func(s Setting) bool { return s.Short })].Name, value)
		default:
			r.inner(key, inner[0], value)
		}
	})
	if _, host := r.layer["host"]; host {
		if socket, ok := r.layer["socket"]; ok {
			r.errs = append(r.errs, &FileError{r.file, socket.Origin.Line,
				"host and socket contradict each other; keep one of them"})
		}
	}
	if c, ok := r.layer["container"]; ok && c.Text != "" {
		for _, other := range []string{"host", "socket", "alias"} {
			if r.layer[other].Text != "" {
				r.errs = append(r.errs,
					&FileError{r.file, c.Origin.Line,
						"container and " + other + " contradict each other; keep one of them"})
			}
		}
		if port, ok := r.layer["port"]; ok && port.Text != "" {
			r.errs = append(r.errs, &FileError{r.file, port.Origin.Line,
				"the port inside a container is said with it; write container: {name: NAME, port: " + port.Text + "}"})
		}
	}
	if c, ok := r.layer["cloud"]; ok && c.Text != "" {
		for _, other := range []string{"host", "socket", "alias", "container", "port"} {
			if r.layer[other].Text != "" {
				r.errs = append(r.errs,
					&FileError{r.file, c.Origin.Line,
						"cloud and " + other +
							" contradict each other: the cloud says where its server is; keep one of them"})
			}
		}
	}
	if alias, ok := r.layer["alias"]; ok && alias.Text != "" && r.layer["host"].Text+r.layer["socket"].Text != "" {
		r.errs = append(r.errs, &FileError{r.file, alias.Origin.Line,
			"an alias stands for the host or the socket; keep one of them"})
	}
}

// setting reads a setting's value by its type.
func (r *reader) setting(name string, value *yaml.Node) {
	switch s, _ := Find(name); s.Type {
	case List:
		r.list(name, value)
	case Maps:
		r.maps(name, value)
	case OneMap:
		r.oneMap(name, value)
	case SecretRef:
		r.reference(name, value)
	default:
		r.scalar(name, value)
	}
}

// inner reads a map; first is one of its settings, for an example.
func (r *reader) inner(key string, first Setting, value *yaml.Node) {
	if value.Kind != yaml.MappingNode {
		example := strings.TrimPrefix(first.Name, key+".") + ": " + first.Value
		if first.Type == Map {
			example = strings.Replace(first.Value, "=", ": ", 1)
		}
		r.fail(value, "%s is a map: write `%s:` and below it, indented, a line such as `%s`", key, key, example)
		return
	}
	r.pairs(value, func(part string, name, value *yaml.Node) {
		setting, known := Find(key + "." + part)
		if !known {
			r.unknown(key+"."+part, name)
			return
		}
		if r.kind == LayerAlias && !InAlias(setting) {
			r.fail(name, "%s %s is for a profile, not for an alias", key, part)
			return
		}
		r.setting(key+"."+part, value)
	})
}

// pairs walks a mapping, refusing what a plain mapping does not have.
func (r *reader) pairs(mapping *yaml.Node, each func(key string, name, value *yaml.Node)) {
	seen := map[string]int{}
	if !r.plain(mapping) {
		return
	}
	for i := 0; i+1 < len(mapping.Content) && len(r.errs) < maxErrors; i += 2 {
		name, value := mapping.Content[i], mapping.Content[i+1]
		if !r.plain(name) || !r.plain(value) {
			continue
		}
		if name.Kind != yaml.ScalarNode {
			r.fail(name, "a setting's name is one word; this is a list or a map")
			continue
		}
		if name.Tag == "!!merge" {
			r.fail(name, "merge keys (<<) are not used here; write the settings out")
			continue
		}
		if line, twice := seen[name.Value]; twice {
			r.fail(name, "%s is said twice, first on line %d; keep one of them", quoted(name.Value), line)
			continue
		}
		seen[name.Value] = name.Line
		each(name.Value, name, value)
	}
}

// plain refuses anchors, aliases and tags, which would let a file mean other than it shows.
func (r *reader) plain(node *yaml.Node) bool {
	switch {
	case node.Kind == yaml.AliasNode:
		r.fail(node, "YAML aliases (*name) are not used here; write the value out")
	case node.Anchor != "":
		r.fail(node, "YAML anchors (&name) are not used here; take it out")
	case node.Style&yaml.TaggedStyle != 0:
		r.fail(node, "YAML tags (!name) are not used here; take it out")
	default:
		return true
	}
	return false
}

func (r *reader) scalar(setting string, value *yaml.Node) {
	shown := strings.ReplaceAll(setting, ".", " ")
	if value.Kind != yaml.ScalarNode {
		r.fail(value, "%s takes one value, not a list or a map", shown)
		return
	}
	if value.Tag == "!!null" && value.Style == 0 {
		r.fail(value, "%s has no value; write one, take the line out, or write \"\" to unset it", shown)
		return
	}
	s, _ := Find(setting)
	if value.Value != "" {
		if err := s.Check(value.Value); err != nil {
			r.fail(value, "%s: %v", shown, err)
			return
		}
	}
	r.layer[setting] = Value{Text: value.Value, Origin: r.at(value)}
}

func (r *reader) at(node *yaml.Node) Origin {
	return Origin{Layer: r.kind, File: r.file, Line: r.above + node.Line}
}

// list reads a setting that is a list of texts.
func (r *reader) list(setting string, value *yaml.Node) {
	s, _ := Find(setting)
	if items, ok := r.texts(setting, value, s.Check); ok {
		r.layer[setting] = ListValue(items, r.at(value))
	}
}

// maxItems bounds a list of a profile, maxMaps one whose items may be maps, such as addresses,
// and maxHops that of the hops.
const (
	maxItems = 1000
	maxMaps  = 256
	maxHops  = 20
)

func (r *reader) texts(setting string, value *yaml.Node, check func(string) error) (items []string, ok bool) {
	if value.Kind == yaml.ScalarNode && value.Value == "" && value.Style != 0 {
		return nil, true // "" unsets
	}
	if value.Kind != yaml.SequenceNode {
		r.fail(value, "%s is a list: write `%s: [FIRST, SECOND]`, or a line `- FIRST` for each", setting, setting)
		return nil, false
	}
	if len(value.Content) > maxItems {
		r.fail(value, "%s has %d items; a list has at most %d", setting, len(value.Content), maxItems)
		return nil, false
	}
	for _, item := range value.Content {
		if !r.plain(item) {
			return nil, false
		}
		if item.Kind != yaml.ScalarNode || item.Value == "" {
			r.fail(item, "each item of %s is a text", setting)
			return nil, false
		}
		if err := check(item.Value); err != nil {
			r.fail(item, "%s: %v", setting, err)
			return nil, false
		}
		items = append(items, item.Value)
	}
	return items, true
}

// reference reads a reference to a secret: a text, or a map {command: [program, argument, …]}.
func (r *reader) reference(setting string, value *yaml.Node) {
	if value.Kind != yaml.MappingNode {
		r.scalar(setting, value)
		return
	}
	r.pairs(value, func(key string, name, value *yaml.Node) {
		if key != "command" {
			r.fail(name, "a secret's reference is one word, or a map with the one key command")
			return
		}
		if items, ok := r.texts("secret command", value, checkLine); ok && len(items) > 0 {
			r.layer[setting] = Value{Text: secret.Reference{Kind: secret.Command, Args: items}.String(), Origin: r.at(value)}
		}
	})
}

// passwordWords are keys under which people write a password; a profile has no such key.
var passwordWords = []string{"password", "passwd", "pass", "pwd", "passphrase", "token"}

func (r *reader) unknown(key string, name *yaml.Node) {
	group, word, nested := strings.Cut(key, ".")
	if !nested {
		group, word = "", key
	}
	if slices.Contains(passwordWords, strings.ToLower(word)) {
		r.fail(name, "a profile never has a password; take the line out and write `secret:` with one of %s", secret.Forms)
		return
	}
	if s, free := Find(group + ".x"); nested && free && strings.HasSuffix(s.Name, ".") {
		r.fail(name, "%s cannot be a key of %s: it %s", quoted(word), group, KeyRule)
		return
	}
	var known []string
	for _, s := range all() {
		if InAlias(s) != (r.kind == LayerAlias) && (s.Scope == OfAlias || r.kind == LayerAlias) {
			continue
		}
		at, rest, inner := strings.Cut(s.Name, ".")
		switch {
		case nested && inner && at == group:
			known = append(known, rest)
		case !nested:
			known = append(known, at)
		}
	}
	known = slices.Compact(known)
	if near := Nearest(word, known); near != "" {
		r.fail(name, "there is no setting %s; did you mean %s?", quoted(strings.ReplaceAll(key, ".", " ")), near)
		return
	}
	if !nested {
		r.fail(name, "there is no setting %s. To see them all: gharbor help %s", quoted(key),
			map[bool]string{true: "alias add", false: "settings"}[r.kind == LayerAlias])
		return
	}
	r.fail(name, "there is no setting %s; %s has %s", quoted(strings.ReplaceAll(key, ".", " ")), group,
		strings.Join(known, ", "))
}
