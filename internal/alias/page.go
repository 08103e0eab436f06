package alias

import (
	"bytes"
	"fmt"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"

	"go.yaml.in/yaml/v3"

	"gentle-harbor/internal/profile"
)

// page is a file of aliases that was read. Each alias is read by itself, from the lines that it
// takes up: a mistake in one spares the others, and one among thousands is found without reading
// them.
type page struct {
	source Source
	err    error
	data   []byte

	once   sync.Once
	blocks []block          // by list
	places map[string][]int // where the blocks of each name are; with blocks
	asked  atomic.Int64     // how often a name was looked for

	mu   sync.Mutex
	kept map[int]Entry // by where they begin
}

// block is the lines of one alias: data[from:to], which begin on a line of the file.
type block struct {
	name     string
	from, to int
	line     int // from 1
}

// heading is a line that begins an alias; what does not look like one belongs to the alias above
// it, and is a mistake there.
var heading = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^(?:"([^"\\]*)"|'([^']*)'|([A-Za-z0-9_][^\s:#]*))[ \t]*:(?:[ \t\r\n]|$)`)
})

// begin takes a file's content.
func (p *page) begin(data []byte) { p.data = data }

// list gives the blocks of the file.
func (p *page) list() []block {
	p.once.Do(p.cut)
	return p.blocks
}

// cut cuts the file into its blocks.
func (p *page) cut() {
	text := string(p.data) // the names are parts of it
	p.blocks = make([]block, 0, len(text)/128+1)
	line := 0
	for at := 0; at < len(text); {
		line++
		end := len(text)
		if n := strings.IndexByte(text[at:], '\n'); n >= 0 {
			end = at + n + 1
		}
		if c := text[at]; c != ' ' && c != '\t' && c != '#' && c != '\n' && c != '\r' {
			if name, is := headed(text[at:end]); is || len(p.blocks) == 0 {
				p.close(at)
				p.blocks = append(p.blocks, block{name: name, from: at, line: line})
			}
		}
		at = end
	}
	p.close(len(text))
	p.places = make(map[string][]int, len(p.blocks))
	for i, b := range p.blocks {
		p.places[b.name] = append(p.places[b.name], i)
	}
}

// headed gives the name with which a line begins an alias.
func headed(line string) (string, bool) {
	// The usual form needs no pattern.
	if n := strings.IndexByte(line, ':'); n > 0 && plainName(line[:n]) && n+1 < len(line) &&
		(line[n+1] == ' ' || line[n+1] == '\n' || line[n+1] == '\r') {
		return line[:n], true
	}
	m := heading().FindStringSubmatch(line)
	if m == nil {
		return "", false
	}
	return m[1] + m[2] + m[3], true
}

func plainName(text string) bool {
	for i := range len(text) {
		if c := text[i]; (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') && (c < '0' || c > '9') && c != '.' &&
			c != '_' && c != '-' {
			return false
		}
	}
	return true
}

func (p *page) close(at int) {
	if n := len(p.blocks); n > 0 {
		p.blocks[n-1].to = at
	}
}

func (p *page) names() []string {
	var names []string
	for _, b := range p.list() {
		if profile.CheckAliasName(b.name) == nil {
			names = append(names, b.name)
		}
	}
	return names
}

// find gives the alias of a name: none, or one. A name that is there twice is a mistake.
func (p *page) find(name string) []Entry {
	if p.asked.Add(1) <= fewNames {
		if b, sure := p.quick(name); sure {
			return []Entry{p.entry(b)}
		}
	}
	list := p.list()
	at := p.places[name]
	if len(at) == 0 {
		return nil
	}
	e := p.entry(list[at[0]])
	if len(at) > 1 {
		e.Err = &profile.FileError{File: p.source.Path, Line: list[at[1]].line,
			Problem: fmt.Sprintf("%s is said twice, first on line %d; keep one of them", name, list[at[0]].line)}
	}
	return []Entry{e}
}

// fewNames is for how many names a file is searched; it is cut up for more, which takes as long
// as a few searches.
const fewNames = 4

// quick finds a name that begins just one line of a file, not in quotes anywhere, without cutting
// the file up.
func (p *page) quick(name string) (b block, sure bool) {
	if name == "" || !plainName(name) || bytes.Contains(p.data, []byte("\n\""+name)) ||
		bytes.Contains(p.data, []byte("\n'"+name)) || bytes.IndexAny(p.data[:min(1, len(p.data))], "\"'") == 0 {
		return b, false
	}
	at := -1
	if bytes.HasPrefix(p.data, []byte(name+":")) {
		at = 0
	}
	for from := 0; ; {
		n := bytes.Index(p.data[from:], []byte("\n"+name+":"))
		if n < 0 {
			break
		}
		if at >= 0 {
			return b, false
		}
		at, from = from+n+1, from+n+1
	}
	if at < 0 {
		return b, false
	}
	b = block{name: name, from: at, to: len(p.data), line: 1 + bytes.Count(p.data[:at], []byte("\n"))}
	for next := at; next < len(p.data); {
		end := len(p.data)
		if n := bytes.IndexByte(p.data[next:], '\n'); n >= 0 {
			end = next + n + 1
		}
		begins := false
		if c := p.data[next]; c != ' ' && c != '\t' && c != '#' && c != '\n' && c != '\r' {
			_, begins = headed(string(p.data[next:end]))
		}
		switch {
		case next == at && !begins:
			return b, false
		case next > at && begins:
			b.to = next
			return b, true
		}
		next = end
	}
	return b, true
}

func (p *page) all() []Entry {
	var list []Entry
	times := map[string]int{}
	for _, b := range p.list() {
		times[b.name]++
	}
	for _, b := range p.list() {
		switch times[b.name] {
		case 0: // it was listed as one that is there twice
		case 1:
			list = append(list, p.entry(b))
		default:
			list, times[b.name] = append(list, p.find(b.name)...), 0
		}
	}
	return list
}

// entry reads one alias.
func (p *page) entry(b block) Entry {
	p.mu.Lock()
	defer p.mu.Unlock()
	if e, kept := p.kept[b.from]; kept {
		return e
	}
	e := Entry{Name: b.name, Source: p.source, Line: b.line}
	text := p.data[b.from:b.to]
	var name string
	name, e.Layer, e.Err = profile.ParseAlias(text, p.source.Path, b.line)
	if e.Err == nil && name != b.name {
		e.Err = &profile.FileError{File: p.source.Path, Line: b.line, Problem: "the name cannot be read"}
	}
	if e.Err == nil && p.source.Store.Project {
		e.Layer, e.Err = p.source.Store.Strangers(text, p.source.Path, b.line-1, e.Layer)
	}
	if p.kept == nil {
		p.kept = map[int]Entry{}
	}
	p.kept[b.from] = e
	return e
}

// whole reports whether a file is one plain YAML map, so that an edit of its text is safe.
func whole(data []byte) error {
	var document yaml.Node
	if err := yaml.Unmarshal(data, &document); err != nil {
		return fmt.Errorf("it is not YAML that can be read")
	}
	if len(document.Content) > 0 && document.Content[0].Kind != yaml.MappingNode && document.Content[0].Tag != "!!null" {
		return fmt.Errorf("it is no map of aliases")
	}
	return nil
}
