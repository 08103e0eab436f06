// Package yamledit changes single values in a YAML text (YAML 1.2, one document) and leaves every
// other byte as it is: comments, order, empty lines, quoting and line ends. It knows nothing of
// what the text means.
//
// [Set] and [Remove] splice the text at the places that the YAML reader gives. Whoever uses them
// reads the result again and compares: what cannot be spliced for sure is an error, and nothing
// is changed.
package yamledit

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"
)

// Value is what is put in: a text, or a list of texts.
type Value struct {
	Text string
	List []string // nil for a text
	// Number says that the text is a whole number and is written without quotes.
	Number bool
}

// Set puts a value at a path of keys; an element of a list on the path is named by its index,
// from 0. Maps that are missing are made. A value that is there is replaced, quoted as that was
// where it can be.
func Set(text []byte, path []string, v Value) ([]byte, error) {
	s, err := sourceOf(text)
	if err != nil {
		return nil, err
	}
	mapping := s.root
	for i, key := range path {
		last := i == len(path)-1
		if mapping != nil && mapping.Kind == yaml.SequenceNode {
			if mapping, err = element(mapping, key); err != nil {
				return nil, err
			}
			if last {
				return nil, fmt.Errorf("an element of a list cannot be replaced")
			}
			continue
		}
		if mapping != nil && mapping.Kind != yaml.MappingNode {
			return nil, fmt.Errorf("%s is no map", strings.Join(path[:i], " "))
		}
		name, value, _ := pair(mapping, key)
		switch {
		case value == nil:
			return s.added(mapping, path[i:], v)
		case last:
			return s.replaced(mapping, name, value, v)
		}
		mapping = value
	}
	return nil, errors.New("an empty path")
}

// Remove takes a key out, with the line that it is on; a map that would be left empty goes too. A
// path that leads nowhere changes nothing.
func Remove(text []byte, path []string) ([]byte, error) {
	s, err := sourceOf(text)
	if err != nil {
		return nil, err
	}
	// in is the map that the key is taken from: the last one that keeps another key.
	var in *yaml.Node
	at := -1
	node := s.root
	for _, key := range path {
		if node == nil {
			return text, nil
		}
		if node.Kind == yaml.SequenceNode {
			if node, err = element(node, key); err != nil {
				return text, nil
			}
			in = nil // an element of a list is never taken out whole
			continue
		}
		_, value, i := pair(node, key)
		if value == nil {
			return text, nil
		}
		if in == nil || len(node.Content) > 2 {
			in, at = node, i
		}
		node = value
	}
	if in == nil {
		return text, nil
	}
	if in.Style&yaml.FlowStyle != 0 {
		return s.flowRemoved(in, at)
	}
	key, value := in.Content[at], in.Content[at+1]
	end, err := s.end(value, key.Column-1, false)
	if err != nil {
		return nil, err
	}
	if begin := s.starts[key.Line-1]; len(bytes.TrimSpace(s.text[begin:s.begin(key)])) == 0 {
		return s.splice(begin, s.next(end), ""), nil
	}
	// The key shares its line with the dash of a list: the next key takes its place.
	if at+2 >= len(in.Content) {
		return nil, errSpan
	}
	return s.splice(s.begin(key), s.begin(in.Content[at+2]), ""), nil
}

// Nest makes a map of a value that is a text, with the text under a key; what is no text is left
// as it is.
func Nest(text []byte, path []string, key string) ([]byte, error) {
	s, err := sourceOf(text)
	if err != nil {
		return nil, err
	}
	node, in := s.root, (*yaml.Node)(nil)
	var name *yaml.Node
	for _, each := range path {
		in = node
		if name, node, _ = pair(in, each); node == nil {
			return text, nil
		}
	}
	if node.Kind != yaml.ScalarNode {
		return text, nil
	}
	flow := in.Style&yaml.FlowStyle != 0
	end, err := s.end(node, name.Column-1, flow)
	if err != nil {
		return nil, err
	}
	begin := s.begin(node)
	old := string(s.text[begin:end])
	if flow || node.Line != name.Line {
		return s.splice(begin, end, "{"+key+": "+old+"}"), nil
	}
	return s.splice(begin, end, s.newline+strings.Repeat(" ", name.Column+1)+key+": "+old), nil
}

func element(list *yaml.Node, index string) (*yaml.Node, error) {
	n, err := strconv.Atoi(index)
	if err != nil || n < 0 || n >= len(list.Content) {
		return nil, fmt.Errorf("the list has no element %q", index)
	}
	return list.Content[n], nil
}

// source is a text with its YAML nodes.
type source struct {
	text    []byte
	starts  []int      // where each line begins
	root    *yaml.Node // nil for an empty text
	newline string
}

func sourceOf(data []byte) (*source, error) {
	s := &source{text: data, newline: "\n", starts: []int{0}}
	if i := bytes.IndexByte(data, '\n'); i > 0 && data[i-1] == '\r' {
		s.newline = "\r\n"
	}
	for i, c := range data {
		if c == '\n' {
			s.starts = append(s.starts, i+1)
		}
	}
	var document yaml.Node
	switch err := yaml.NewDecoder(bytes.NewReader(data)).Decode(&document); {
	case errors.Is(err, io.EOF):
		return s, nil
	case err != nil:
		return nil, err
	}
	s.root = document.Content[0]
	if s.root.Kind == yaml.ScalarNode && s.root.Tag == "!!null" {
		s.root = nil
	}
	return s, nil
}

// offset gives where a node begins in the text. YAML counts columns in characters.
func (s *source) offset(line, column int) int {
	if line < 1 || line > len(s.starts) {
		return len(s.text) // of a value that is not there, as behind "?"
	}
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

// end gives where a node's text ends; under is the column (from 0) of the key that it belongs to,
// and flow says that it stands inside brackets.
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

// blockEnd gives where a block text (| or >) ends: its lines are empty or deeper than its key.
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

func (s *source) splice(from, to int, with string) []byte {
	return slices.Concat(s.text[:from], []byte(with), s.text[to:])
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

// added puts a pair at the end of a mapping, nil being an empty text; more than one key makes
// maps inside each other.
func (s *source) added(mapping *yaml.Node, keys []string, v Value) ([]byte, error) {
	if mapping != nil && mapping.Style&yaml.FlowStyle != 0 {
		return s.flowAdded(mapping, keys, v)
	}
	column := 0
	if mapping != nil {
		column = mapping.Column - 1
	}
	var lines []string
	for i, key := range keys[:len(keys)-1] {
		lines = append(lines, strings.Repeat("  ", i)+written(scalarNode(key))+":")
	}
	lines = append(lines, strings.Repeat("  ", len(keys)-1)+written(scalarNode(keys[len(keys)-1]))+": "+written(node(v)))
	if mapping == nil || len(mapping.Content) == 0 {
		text := s.text
		if len(text) > 0 && !bytes.HasSuffix(text, []byte("\n")) {
			text = append(slices.Clone(text), s.newline...)
		}
		return slices.Concat(text, []byte(strings.Join(lines, s.newline)+s.newline)), nil
	}
	n := len(mapping.Content)
	end, err := s.end(mapping.Content[n-1], mapping.Content[n-2].Column-1, false)
	if err != nil {
		return nil, err
	}
	pad := strings.Repeat(" ", column)
	new := pad + strings.Join(lines, s.newline+pad)
	at := s.next(end)
	if at == len(s.text) && !bytes.HasSuffix(s.text, []byte("\n")) {
		return s.splice(at, at, s.newline+new), nil
	}
	return s.splice(at, at, new+s.newline), nil
}

// flowAdded puts a pair at the end of a mapping in braces.
func (s *source) flowAdded(mapping *yaml.Node, keys []string, v Value) ([]byte, error) {
	end, err := s.flowEnd(s.begin(mapping))
	if err != nil {
		return nil, err
	}
	value := written(node(v))
	if v.List == nil && !v.Number {
		value = doubleQuoted(v.Text)
	}
	new := written(scalarNode(keys[len(keys)-1])) + ": " + value
	for _, key := range slices.Backward(keys[:len(keys)-1]) {
		new = written(scalarNode(key)) + ": {" + new + "}"
	}
	at := end - 1
	for at > 0 && (s.text[at-1] == ' ' || s.text[at-1] == '\n' || s.text[at-1] == '\r') {
		at--
	}
	if len(mapping.Content) > 0 && s.text[at-1] != ',' {
		new = ", " + new
	}
	return s.splice(at, at, new), nil
}

// replaced puts a value instead of another, quoted as that was where it can be.
func (s *source) replaced(mapping, key, value *yaml.Node, v Value) ([]byte, error) {
	flow := mapping.Style&yaml.FlowStyle != 0
	end, err := s.end(value, key.Column-1, flow)
	if err != nil {
		return nil, err
	}
	n := node(v)
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

// scalarNode makes a text that YAML reads back as a text.
func scalarNode(text string) *yaml.Node {
	return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: text}
}

// node makes the YAML of a value.
func node(v Value) *yaml.Node {
	if v.List == nil {
		n := scalarNode(v.Text)
		if v.Number {
			n.Tag = "!!int"
		}
		return n
	}
	n := &yaml.Node{Kind: yaml.SequenceNode, Style: yaml.FlowStyle}
	for _, item := range v.List {
		n.Content = append(n.Content, scalarNode(item))
	}
	return n
}
