package profile

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"
)

// Change puts values into a profile's file and takes settings out of it, by splicing its text at the places
// that the YAML reader gives: comments, order, blank lines, quoting and line ends stay as they are. The result
// is read again, and is an error when anything but what was meant came out otherwise.
func Change(data []byte, path string, set Layer, unset []string) ([]byte, error) {
	before, err := Parse(data, path, "profile")
	if err != nil {
		return nil, err
	}
	text := data
	for _, name := range unset {
		if text, err = removed(text, path, name); err != nil {
			return nil, err
		}
	}
	for _, name := range set.Names() {
		if text, err = placed(text, path, name, set[name]); err != nil {
			return nil, err
		}
	}
	after, err := Parse(text, path, "profile")
	if err != nil {
		return nil, fmt.Errorf("%s cannot be changed safely, since the result would not be readable; edit it by hand (%w)", path, err)
	}
	want := Layer{}
	for name, v := range before {
		want[name] = v
	}
	for _, name := range unset {
		delete(want, name)
	}
	for name, v := range set {
		want[name] = v
	}
	if len(after) != len(want) {
		return nil, fmt.Errorf("%s cannot be changed safely; edit it by hand", path)
	}
	for name, v := range want {
		if got, ok := after[name]; !ok || got.Text != v.Text || !slices.Equal(got.List, v.List) {
			return nil, fmt.Errorf("%s cannot be changed safely, since %s would change too; edit it by hand", path, name)
		}
	}
	return text, nil
}

// source is a file's text with its YAML nodes.
type source struct {
	text   []byte
	starts []int // where each line begins
	root   *yaml.Node
	newline,
	path string
}

func sourceOf(data []byte, path string) (*source, error) {
	s := &source{text: data, newline: "\n", path: path, starts: []int{0}}
	if i := bytes.IndexByte(data, '\n'); i > 0 && data[i-1] == '\r' {
		s.newline = "\r\n"
	}
	for i, c := range data {
		if c == '\n' {
			s.starts = append(s.starts, i+1)
		}
	}
	r := reader{file: path}
	root, err := r.root(data)
	s.root = root
	return s, err
}

// offset gives where a node begins in the text. YAML counts columns in characters.
func (s *source) offset(line, column int) int {
	at := s.starts[line-1]
	for range column - 1 {
		_, size := utf8.DecodeRune(s.text[at:])
		at += size
	}
	return at
}

func (s *source) begin(n *yaml.Node) int { return s.offset(n.Line, n.Column) }

// lineEnd gives where the line that holds a place ends, before its line end.
func (s *source) lineEnd(at int) int {
	if i := bytes.IndexByte(s.text[at:], '\n'); i >= 0 {
		at += i
		if at > 0 && s.text[at-1] == '\r' {
			at--
		}
		return at
	}
	return len(s.text)
}

// next gives where the line after a place begins.
func (s *source) next(at int) int {
	if i := bytes.IndexByte(s.text[at:], '\n'); i >= 0 {
		return at + i + 1
	}
	return len(s.text)
}

var errSpan = errors.New("the end of a value cannot be told; edit the file by hand")

// end gives where a node's text ends; under is the column (from 0) of the key that it belongs to, and flow
// tells that it stands inside brackets.
func (s *source) end(n *yaml.Node, under int, flow bool) (int, error) {
	at := s.begin(n)
	switch {
	case n.Kind == yaml.ScalarNode && n.Style&(yaml.DoubleQuotedStyle|yaml.SingleQuotedStyle) != 0:
		return s.quotedEnd(at)
	case n.Kind == yaml.ScalarNode && n.Style&(yaml.LiteralStyle|yaml.FoldedStyle) != 0:
		return s.blockEnd(at, under), nil
	case n.Kind == yaml.ScalarNode:
		return s.plainEnd(n, at, under, flow)
	case n.Style&yaml.FlowStyle != 0:
		return s.flowEnd(at)
	case len(n.Content) == 0:
		return 0, errSpan
	}
	last := n.Content[len(n.Content)-1]
	column := n.Column - 1
	return s.end(last, column, false)
}

// quotedEnd gives where a quoted text that begins at a place ends.
func (s *source) quotedEnd(at int) (int, error) {
	mark := s.text[at]
	for i := at + 1; i < len(s.text); i++ {
		switch {
		case mark == '"' && s.text[i] == '\\':
			i++
		case s.text[i] != mark:
		case mark == '\'' && i+1 < len(s.text) && s.text[i+1] == '\'':
			i++
		default:
			return i + 1, nil
		}
	}
	return 0, errSpan
}

// blockEnd gives where a block text (| or >) ends: its lines are blank or stand deeper than its key.
func (s *source) blockEnd(at, under int) int {
	end := s.lineEnd(at)
	for from := s.next(at); from < len(s.text); from = s.next(from) {
		line := s.text[from:s.lineEnd(from)]
		if len(bytes.TrimSpace(line)) == 0 {
			continue
		}
		if len(line)-len(bytes.TrimLeft(line, " ")) <= under {
			break
		}
		end = s.lineEnd(from)
	}
	return end
}

// plainEnd gives where a text without quotes ends, which can go on over deeper lines.
func (s *source) plainEnd(n *yaml.Node, at, under int, flow bool) (int, error) {
	for end := at; ; {
		stop := s.lineEnd(end)
		line := s.text[end:stop]
		for i := 1; i < len(line); i++ {
			if line[i] == '#' && (line[i-1] == ' ' || line[i-1] == '\t') {
				line = line[:i]
			}
		}
		if flow {
			if i := bytes.IndexAny(line, ",]}"); i >= 0 {
				line = line[:i]
			}
		}
		last := end + len(bytes.TrimRight(line, " \t"))
		if folded(s.text[at:last]) == strings.Join(strings.Fields(n.Value), " ") {
			return last, nil
		}
		if end = s.next(end); end >= len(s.text) || flow {
			return 0, errSpan
		}
	}
}

func folded(text []byte) string { return strings.Join(strings.Fields(string(text)), " ") }

// flowEnd gives where a list or map in brackets ends.
func (s *source) flowEnd(at int) (int, error) {
	depth := 0
	for i := at; i < len(s.text); i++ {
		switch c := s.text[i]; c {
		case '[', '{':
			depth++
		case ']', '}':
			if depth--; depth == 0 {
				return i + 1, nil
			}
		case '"', '\'':
			if before := s.text[i-1]; strings.IndexByte(" ,[{:\n", before) >= 0 {
				end, err := s.quotedEnd(i)
				if err != nil {
					return 0, err
				}
				i = end - 1
			}
		case '#':
			if s.text[i-1] == ' ' || s.text[i-1] == '\n' {
				i = s.lineEnd(i)
			}
		}
	}
	return 0, errSpan
}

// pair finds a key in a mapping.
func pair(mapping *yaml.Node, key string) (name, value *yaml.Node, at int) {
	if mapping == nil {
		return nil, nil, -1
	}
	for i := 0; i+1 < len(mapping.Content); i += 2 {
		if mapping.Content[i].Value == key {
			return mapping.Content[i], mapping.Content[i+1], i
		}
	}
	return nil, nil, -1
}

// inner takes a setting's name apart into the keys of the file. A short timeout is a scalar of its own.
func (s *source) inner(name string) (keys []string) {
	group, key, nested := strings.Cut(name, ".")
	if !nested {
		return []string{name}
	}
	if _, value, _ := pair(s.root, group); name == "timeout.leg" && value != nil && value.Kind == yaml.ScalarNode {
		return []string{group}
	}
	return []string{group, key}
}

func (s *source) splice(from, to int, with string) []byte {
	return slices.Concat(s.text[:from], []byte(with), s.text[to:])
}

// placed puts a value in.
func placed(text []byte, path, name string, v Value) ([]byte, error) {
	s, err := sourceOf(text, path)
	if err != nil {
		return nil, err
	}
	keys := s.inner(name)
	mapping := s.root
	if len(keys) == 2 {
		_, value, _ := pair(s.root, keys[0])
		if value == nil {
			return s.appended(s.root, 0, keys[0]+":"+s.newline+"  "+line(keys[1], v))
		}
		if value.Kind == yaml.ScalarNode { // a short timeout becomes a map
			end, err := s.end(value, 0, false)
			if err != nil {
				return nil, err
			}
			return s.splice(s.begin(value), end, s.newline+"  leg: "+string(s.text[s.begin(value):end])+s.newline+"  "+line(keys[1], v)), nil
		}
		mapping = value
	}
	last := keys[len(keys)-1]
	key, value, _ := pair(mapping, last)
	if value != nil {
		return s.replaced(mapping, key, value, v)
	}
	if mapping != nil && mapping.Style&yaml.FlowStyle != 0 {
		return s.flowAppended(mapping, last, v)
	}
	column := 0
	if mapping != nil {
		column = mapping.Column - 1
	}
	return s.appended(mapping, column, line(last, v))
}

// line writes KEY: VALUE; a text of several lines is written in quotes, on one.
func line(key string, v Value) string {
	return written(scalarNode(key)) + ": " + written(valueNode(v))
}

// written gives a node as YAML on one line.
func written(n *yaml.Node) string {
	if n.Kind == yaml.ScalarNode && strings.ContainsAny(n.Value, "\n\t") {
		n.Style = yaml.DoubleQuotedStyle
	}
	for _, item := range n.Content {
		item.Style = yaml.DoubleQuotedStyle
	}
	var out bytes.Buffer
	encoder := yaml.NewEncoder(&out)
	_ = encoder.Encode(n)
	text := strings.TrimSuffix(out.String(), "\n")
	if strings.Contains(text, "\n") { // the writer folds long lines
		if n.Kind == yaml.ScalarNode {
			return doubleQuoted(n.Value)
		}
		items := make([]string, len(n.Content))
		for i, item := range n.Content {
			items[i] = doubleQuoted(item.Value)
		}
		return "[" + strings.Join(items, ", ") + "]"
	}
	return text
}

// doubleQuoted writes a text as a YAML scalar in double quotes, on one line.
func doubleQuoted(text string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`, "\t", `\t`).Replace(text) + `"`
}

// replaced puts a value in the place of another, quoted as that was where it can be.
func (s *source) replaced(mapping, key, value *yaml.Node, v Value) ([]byte, error) {
	flow := mapping.Style&yaml.FlowStyle != 0
	end, err := s.end(value, key.Column-1, flow)
	if err != nil {
		return nil, err
	}
	n := valueNode(v)
	if key.Value == "port" {
		n.Tag = "!!int"
	}
	if n.Kind == yaml.ScalarNode && value.Kind == yaml.ScalarNode {
		n.Style = value.Style & (yaml.DoubleQuotedStyle | yaml.SingleQuotedStyle)
		if n.Style != 0 {
			n.Tag = "!!str"
		}
	}
	begin := s.begin(value)
	new := written(n)
	if flow && n.Kind == yaml.ScalarNode && n.Style == 0 && strings.ContainsAny(new, ",[]{}") {
		new = doubleQuoted(v.Text)
	}
	if value.Line != key.Line { // a block list or map below its key
		colon := s.lineEnd(s.begin(key))
		if i := bytes.IndexByte(s.text[s.begin(key):colon], ':'); i >= 0 {
			head := s.begin(key) + i + 1
			return slices.Concat(s.text[:head], []byte(" "+new), s.text[head:colon], s.text[end:]), nil
		}
		return nil, errSpan
	}
	return s.splice(begin, end, new), nil
}

// appended adds a line at the end of a block mapping, nil being an empty file.
func (s *source) appended(mapping *yaml.Node, column int, new string) ([]byte, error) {
	if mapping == nil || len(mapping.Content) == 0 {
		text := s.text
		if len(text) > 0 && !bytes.HasSuffix(text, []byte("\n")) {
			text = append(slices.Clone(text), s.newline...)
		}
		return slices.Concat(text, []byte(new+s.newline)), nil
	}
	if mapping.Style&yaml.FlowStyle != 0 {
		return nil, errors.New("a file that is one map in braces cannot take a map; edit it by hand")
	}
	n := len(mapping.Content)
	end, err := s.end(mapping.Content[n-1], mapping.Content[n-2].Column-1, false)
	if err != nil {
		return nil, err
	}
	pad := strings.Repeat(" ", column)
	new = pad + strings.ReplaceAll(new, s.newline, s.newline+pad)
	at := s.next(end)
	if at == len(s.text) && !bytes.HasSuffix(s.text, []byte("\n")) {
		return s.splice(at, at, s.newline+new), nil
	}
	return s.splice(at, at, new+s.newline), nil
}

// flowAppended adds a pair at the end of a mapping in braces.
func (s *source) flowAppended(mapping *yaml.Node, key string, v Value) ([]byte, error) {
	end, err := s.flowEnd(s.begin(mapping))
	if err != nil {
		return nil, err
	}
	value := written(valueNode(v))
	if v.List == nil {
		value = doubleQuoted(v.Text)
	}
	new := written(scalarNode(key)) + ": " + value
	at := end - 1
	for at > 0 && (s.text[at-1] == ' ' || s.text[at-1] == '\n' || s.text[at-1] == '\r') {
		at--
	}
	if len(mapping.Content) > 0 && s.text[at-1] != ',' {
		new = ", " + new
	}
	return s.splice(at, at, new), nil
}

// removed takes a setting out, with the line that it stands on; a map that would be left empty goes too.
func removed(text []byte, path, name string) ([]byte, error) {
	s, err := sourceOf(text, path)
	if err != nil {
		return nil, err
	}
	keys := s.inner(name)
	mapping := s.root
	if len(keys) == 2 {
		_, value, _ := pair(s.root, keys[0])
		if value == nil || value.Kind != yaml.MappingNode {
			return text, nil
		}
		if len(value.Content) == 2 && value.Content[0].Value == keys[1] {
			keys = keys[:1]
		} else {
			mapping = value
		}
	}
	key, value, i := pair(mapping, keys[len(keys)-1])
	if key == nil {
		return text, nil
	}
	if mapping.Style&yaml.FlowStyle != 0 {
		return s.flowRemoved(mapping, i)
	}
	end, err := s.end(value, key.Column-1, false)
	if err != nil {
		return nil, err
	}
	return s.splice(s.starts[key.Line-1], s.next(end), ""), nil
}

func (s *source) flowRemoved(mapping *yaml.Node, i int) ([]byte, error) {
	from := s.begin(mapping.Content[i])
	if i+2 < len(mapping.Content) {
		return s.splice(from, s.begin(mapping.Content[i+2]), ""), nil
	}
	end, err := s.end(mapping.Content[i+1], 0, true)
	if err != nil {
		return nil, err
	}
	if i > 0 {
		if from, err = s.end(mapping.Content[i-1], 0, true); err != nil {
			return nil, err
		}
	}
	return s.splice(from, end, ""), nil
}
