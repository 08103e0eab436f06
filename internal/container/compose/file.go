package compose

import (
	"errors"
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/compose-spec/compose-go/v2/dotenv"
	"github.com/compose-spec/compose-go/v2/interpolation"
	"github.com/compose-spec/compose-go/v2/override"
	"github.com/compose-spec/compose-go/v2/template"
	"github.com/compose-spec/compose-go/v2/transform"
	"go.yaml.in/yaml/v3"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/outside/budget"
)

// load is the reading of one project.
type load struct {
	reader Reader
	root   string // the folder outside of which nothing is read, with links resolved
	dot    map[string]string
	files  map[string]bool // those that were read, by their paths
	meter  *budget.Meter   // what the whole project may still grow
	taken  map[string]bool // values of the environment that were filled in
	way    []string        // the files that are being read, for cycles
}

// place is a node of a file.
type place struct {
	file string
	node *yaml.Node
	load *load
}

// wrong makes an error of this place. Where a variable is what is wrong, it is the line that
// names it.
func (p place) wrong(err error) error {
	line := 0
	if p.node != nil {
		line = p.node.Line
		if at := p.culprit(p.node); at != nil {
			line = at.Line
		}
	}
	var known *FileError
	if errors.As(err, &known) {
		return known
	}
	var over *budget.ExceededError
	if errors.As(err, &over) {
		return &FileError{p.file, line, over.Error()}
	}
	var missing *template.MissingRequiredError
	var invalid *template.InvalidTemplateError
	switch {
	case errors.As(err, &missing) && missing.Reason != "":
		return &FileError{p.file, line,
			"the variable " + missing.Variable + " is required and not set: " + outside.Text(missing.Reason)}
	case errors.As(err, &missing):
		return &FileError{p.file, line, "the variable " + missing.Variable + " is required and not set"}
	case errors.As(err, &invalid):
		return &FileError{p.file, line, "a $ begins something that is no variable; write $$ for a plain $"}
	}
	return &FileError{p.file, line, err.Error()}
}

// culprit gives the first text below a node whose variables cannot be filled in.
func (p place) culprit(node *yaml.Node) *yaml.Node {
	if node.Kind == yaml.ScalarNode {
		if p.load != nil && strings.Contains(node.Value, "$") {
			if _, err := p.load.substitute(node.Value, p.load.known); err != nil {
				return node
			}
		}
		return nil
	}
	for _, each := range node.Content {
		if at := p.culprit(each); at != nil {
			return at
		}
	}
	return nil
}

// lookup gives a variable: the environment's, else the .env file's.
func (l *load) lookup(name string) (string, bool) {
	text, set := l.known(name)
	if l.meter.Spend(&l.meter.Bytes, len(text), grown) != nil || l.meter.Spend(&l.meter.Steps, 1, steps) != nil {
		return "", set // the error comes from whoever asked for the text
	}
	return text, set
}

// known is lookup, for who copies nothing.
func (l *load) known(name string) (string, bool) {
	if l.reader.Env != nil {
		if text, set := l.reader.Env(name); set {
			if text != "" {
				l.taken[text] = true
			}
			return text, true
		}
	}
	text, set := l.dot[name]
	return text, set
}

// The counts of a project's meter, in words.
const (
	grown = "bytes, once its variables are filled in"
	steps = "values, with all that its services extend and name again"
	ports = "published ports"
)

// substitute fills a text's variables in. All texts of a project pass it: it counts what they
// become.
func (l *load) substitute(text string, lookup template.Mapping) (string, error) {
	if err := budget.Template(text); err != nil {
		return "", err
	}
	if err := l.meter.Err(); err != nil {
		return "", err
	}
	filled, err := template.SubstituteWithOptions(text, lookup, template.WithoutLogging)
	if over := l.meter.Err(); over != nil {
		return "", over
	}
	return filled, err
}

// weigh counts the values of a node before it is decoded, those that its aliases lead to as often
// as they are named.
func (l *load) weigh(node *yaml.Node) error {
	if err := l.meter.Spend(&l.meter.Steps, 1, steps); err != nil {
		return err
	}
	if node.Kind == yaml.AliasNode {
		return l.weigh(node.Alias)
	}
	for _, each := range node.Content {
		if err := l.weigh(each); err != nil {
			return err
		}
	}
	return nil
}

// read gives the content of a file of the project. At is what names it.
func (l *load) read(path string, at place) ([]byte, error) {
	if l.files[path] = true; len(l.files) > maxFiles {
		return nil, at.wrong(fmt.Errorf("more than %d files would be read", maxFiles))
	}
	if err := l.meter.Spend(&l.meter.Files, 1, "readings of files"); err != nil {
		return nil, at.wrong(err)
	}
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return nil, err
	}
	if below, err := filepath.Rel(l.root, real); !l.reader.Outside &&
		(err != nil || below == ".." || strings.HasPrefix(below, ".."+string(filepath.Separator))) {
		return nil, at.wrong(fmt.Errorf("%s is outside of the folder %s, and is not read; add --outside to read it",
			outside.Text(path), l.root))
	}
	return files.Read(path, maxFile)
}

var dotLine = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`line (\d+)`) })

// variables reads a file of NAME=VALUE lines. Its error repeats nothing of the file.
func (l *load) variables(path string, at place, into map[string]string) error {
	data, err := l.read(path, at)
	if err != nil {
		return err
	}
	outer := func(name string) (string, bool) {
		if text, set := into[name]; set {
			return text, true
		}
		return l.known(name)
	}
	if err := budget.Variables(string(data), outer, maxDot); err != nil {
		return &FileError{File: path, Text: err.Error()}
	}
	found, err := dotenv.UnmarshalBytesWithLookup(data, func(name string) (string, bool) {
		if text, set := into[name]; set {
			return text, true
		}
		return l.lookup(name)
	})
	if err != nil {
		e := &FileError{File: path, Text: "it is not a list of NAME=VALUE lines that can be read"}
		if m := dotLine().FindStringSubmatch(err.Error()); m != nil {
			e.Line, _ = strconv.Atoi(m[1])
		}
		return e
	}
	for name, value := range found {
		if err := l.meter.Spend(&l.meter.Bytes, len(name)+len(value), grown); err != nil {
			return &FileError{File: path, Text: err.Error()}
		}
		into[name] = value
	}
	return nil
}

// environment reads the project's .env file.
func (l *load) environment(path string, required bool) error {
	if l.dot == nil {
		l.dot = map[string]string{}
	}
	err := l.variables(path, place{file: path}, l.dot)
	if isMissing(err) && !required {
		return nil
	}
	var known *FileError
	if err != nil && !errors.As(err, &known) {
		return &FileError{File: path, Text: "it cannot be read: " + plain(err)}
	}
	return err
}

// plain words a system's error without its path.
func plain(err error) string {
	if isMissing(err) {
		return "there is no such file"
	}
	if errors.Is(err, files.ErrKind) {
		return "it is no regular file"
	}
	if errors.Is(err, files.ErrTooLarge) {
		return "it is too large"
	}
	return "the system does not let it be read"
}

// file reads a Compose file with what it includes and extends.
func (l *load) file(path string, depth int) (*model, error) {
	return l.fileOf(path, depth, place{file: path})
}

func (l *load) fileOf(path string, depth int, from place) (*model, error) {
	if depth > maxDepth {
		return nil, from.wrong(fmt.Errorf("files name each other more than %d deep", maxDepth))
	}
	if slices.Contains(l.way, path) {
		return nil, from.wrong(fmt.Errorf("%s leads back to itself", outside.Text(path)))
	}
	l.way = append(l.way, path)
	defer func() { l.way = l.way[:len(l.way)-1] }()
	root, err := l.parse(path, from)
	if err != nil {
		return nil, err
	}
	m := &model{services: map[string]map[string]any{}, at: map[string]place{}, secrets: map[string]secretSource{}}
	here := func(node *yaml.Node) place { return place{path, node, l} }
	if node := child(root, "name"); node != nil {
		m.name, m.nameAt = node.Value, here(node)
	}
	if node := child(root, "include"); node != nil {
		if m, err = l.includes(m, path, here(node), depth); err != nil {
			return nil, err
		}
	}
	if node := child(root, "secrets"); node != nil {
		l.secrets(m, path, here(node))
	}
	services := child(root, "services")
	if services == nil {
		return m, nil
	}
	if services.Kind != yaml.MappingNode {
		return nil, here(services).wrong(errors.New("services is a map: a service's name, and below it what it is"))
	}
	if len(services.Content)/2 > maxServices {
		return nil, here(services).wrong(fmt.Errorf("there are more than %d services", maxServices))
	}
	for i := 0; i+1 < len(services.Content); i += 2 {
		name := services.Content[i].Value
		made, err := l.one(path, services, name, nil, depth)
		if err != nil {
			m.problems = append(m.problems, err)
			continue
		}
		over := &model{services: map[string]map[string]any{name: made}, at: map[string]place{name: here(services.Content[i])}}
		if m, err = m.under(over); err != nil {
			m.problems = append(m.problems, err)
		}
	}
	return m, nil
}

// parse reads a file's YAML.
func (l *load) parse(path string, from place) (*yaml.Node, error) {
	data, err := l.read(path, from)
	var known *FileError
	if errors.As(err, &known) {
		return nil, known
	}
	if err != nil {
		return nil, from.wrong(fmt.Errorf("%s: %s", outside.Text(path), plain(err)))
	}
	if err := l.meter.Spend(&l.meter.Bytes, len(data), "bytes in all its files"); err != nil {
		return nil, from.wrong(err)
	}
	var document yaml.Node
	if err := yaml.Unmarshal(data, &document); err != nil {
		e := &FileError{File: path, Text: "it is not YAML that can be read"}
		if m := dotLine().FindStringSubmatch(err.Error()); m != nil {
			e.Line, _ = strconv.Atoi(m[1])
		}
		return nil, e
	}
	if len(document.Content) == 0 || document.Content[0].Kind != yaml.MappingNode {
		return nil, &FileError{File: path, Line: 1, Text: "it is no Compose file: it begins with a map of services"}
	}
	return document.Content[0], nil
}

// child gives the value of a key of a map, nil for none.
func child(node *yaml.Node, key string) *yaml.Node {
	if node == nil || node.Kind != yaml.MappingNode {
		return nil
	}
	for i := 0; i+1 < len(node.Content); i += 2 {
		if node.Content[i].Value == key {
			if value := node.Content[i+1]; value.Kind == yaml.AliasNode {
				return value.Alias
			}
			return node.Content[i+1]
		}
	}
	return nil
}

// one gives a service of a file as a map in the long form, with what it extends below it.
func (l *load) one(path string, services *yaml.Node, name string, seen []string, depth int) (map[string]any, error) {
	node := child(services, name)
	at := place{path, node, l}
	switch {
	case node == nil:
		return nil, place{path, services, l}.wrong(fmt.Errorf("there is no service %s to extend", outside.Cell(name)))
	case node.Kind == yaml.ScalarNode && node.Tag == "!!null":
		return map[string]any{}, nil
	case node.Kind != yaml.MappingNode:
		return nil, at.wrong(fmt.Errorf("the service %s is no map", outside.Cell(name)))
	case slices.Contains(seen, path+"#"+name):
		return nil, at.wrong(fmt.Errorf("the service %s extends itself", outside.Cell(name)))
	case len(seen) >= maxDepth:
		return nil, at.wrong(fmt.Errorf("the service %s is the end of a chain of more than %d that extend each other",
			outside.Cell(name), maxDepth))
	}
	if err := l.weigh(node); err != nil {
		return nil, at.wrong(err)
	}
	var raw map[string]any
	if err := node.Decode(&raw); err != nil {
		return nil, at.wrong(fmt.Errorf("the service %s cannot be read", outside.Cell(name)))
	}
	filled, err := interpolation.Interpolate(raw, interpolation.Options{LookupValue: l.lookup, Substitute: l.substitute})
	if err != nil {
		return nil, at.wrong(err)
	}
	extends := filled["extends"]
	delete(filled, "extends")
	if err := l.ranges(filled["ports"]); err != nil {
		return nil, at.wrong(err)
	}
	filled = only(filled)
	long, err := transform.Canonical(map[string]any{"services": map[string]any{name: filled}}, true)
	if err != nil {
		return nil, at.wrong(fmt.Errorf("the service %s has a value of a wrong form", outside.Cell(name)))
	}
	service, _ := long["services"].(map[string]any)[name].(map[string]any)
	absolute(service, filepath.Dir(path))
	if extends == nil {
		return service, nil
	}
	base, err := l.extended(path, services, extends, at, append(seen, path+"#"+name), depth)
	if err != nil {
		return nil, err
	}
	merged, err := override.ExtendService(base, service)
	if err != nil {
		return nil, at.wrong(errors.New("it cannot be put over the service that it extends"))
	}
	return merged, nil
}

var portRange = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`(\d+)-(\d+)`) })

// ranges counts the ports that ranges stand for, before a library makes one value of each.
func (l *load) ranges(value any) error {
	list, _ := value.([]any)
	for _, each := range list {
		count := 1
		for _, pair := range portRange().FindAllStringSubmatch(fmt.Sprint(each), -1) {
			from, _ := strconv.Atoi(pair[1])
			to, _ := strconv.Atoi(pair[2])
			count = max(count, to-from+1)
		}
		if err := l.meter.Spend(&l.meter.Ports, count, ports); err != nil {
			return err
		}
	}
	return nil
}

// wanted are the parts of a service that are read; all else has no say in a connection.
var wanted = []string{"image", "environment", "env_file", "ports", "network_mode", "profiles", "secrets",
	"volumes", "container_name", "build", "expose"}

func only(service map[string]any) map[string]any {
	kept := map[string]any{}
	for _, key := range wanted {
		if value, there := service[key]; there && value != nil {
			kept[key] = value
		}
	}
	return kept
}

// absolute makes the paths of a service's env files those that its own file means.
func absolute(service map[string]any, folder string) {
	list, _ := service["env_file"].([]any)
	for _, each := range list {
		if entry, ok := each.(map[string]any); ok {
			if path, ok := entry["path"].(string); ok && path != "" && !filepath.IsAbs(path) {
				entry["path"] = filepath.Join(folder, path)
			}
		}
	}
}

// extended gives the service that another extends: one of the same file, or of another.
func (l *load) extended(path string, services *yaml.Node, extends any, at place, seen []string,
	depth int) (map[string]any, error) {
	var name, file string
	switch value := extends.(type) {
	case string:
		name = value
	case map[string]any:
		name, _ = value["service"].(string)
		file, _ = value["file"].(string)
	}
	if name == "" {
		return nil, at.wrong(errors.New("extends names no service"))
	}
	if file == "" {
		return l.one(path, services, name, seen, depth)
	}
	if !filepath.IsAbs(file) {
		file = filepath.Join(filepath.Dir(path), file)
	}
	root, err := l.parse(file, at)
	if err != nil {
		return nil, err
	}
	below := child(root, "services")
	if below == nil {
		return nil, at.wrong(fmt.Errorf("%s has no services to extend", outside.Text(file)))
	}
	return l.one(file, below, name, seen, depth+1)
}

// includes reads what a file includes, each a project of its own with a folder and variables of
// its own.
func (l *load) includes(m *model, path string, at place, depth int) (*model, error) {
	var list []any
	if err := l.weigh(at.node); err != nil {
		return nil, at.wrong(err)
	}
	if at.node.Kind != yaml.SequenceNode || at.node.Decode(&list) != nil {
		return nil, at.wrong(errors.New("include is a list of files"))
	}
	for _, each := range list {
		var paths, envs []string
		folder := ""
		switch value := each.(type) {
		case string:
			paths = []string{value}
		case map[string]any:
			paths, envs = texts(value["path"]), texts(value["env_file"])
			folder, _ = value["project_directory"].(string)
		}
		if len(paths) == 0 {
			return nil, at.wrong(errors.New("an include names no file"))
		}
		for _, list := range [][]string{paths, envs} {
			for i := range list {
				filled, err := l.substitute(list[i], l.lookup)
				if err != nil {
					return nil, at.wrong(err)
				}
				if list[i] = filled; !filepath.IsAbs(filled) {
					list[i] = filepath.Join(filepath.Dir(path), filled)
				}
			}
		}
		inner := &load{reader: l.reader, root: l.root, files: l.files, way: l.way, dot: map[string]string{},
			meter: l.meter, taken: l.taken}
		switch {
		case folder == "":
			folder = filepath.Dir(paths[0])
		case !filepath.IsAbs(folder):
			folder = filepath.Join(filepath.Dir(path), folder)
		}
		if len(envs) == 0 {
			envs = []string{filepath.Join(folder, ".env")}
			if !isFile(envs[0]) {
				envs = nil
			}
		}
		for _, env := range envs {
			if err := inner.environment(env, true); err != nil {
				return nil, err
			}
		}
		for name, value := range l.dot { // the outer project's variables count first
			inner.dot[name] = value
		}
		for _, each := range paths {
			included, err := inner.fileOf(each, depth+1, at)
			if err != nil {
				return nil, err
			}
			if m, err = m.under(included); err != nil {
				return nil, err
			}
		}
	}
	return m, nil
}

// texts gives a text, or a list of them.
func texts(value any) []string {
	switch v := value.(type) {
	case string:
		return []string{v}
	case []any:
		var list []string
		for _, each := range v {
			if text, ok := each.(string); ok {
				list = append(list, text)
			}
		}
		return list
	}
	return nil
}

// secrets reads the secrets at the top of a file: each a file, or a variable.
func (l *load) secrets(m *model, path string, at place) {
	for i := 0; i+1 < len(at.node.Content) && at.node.Kind == yaml.MappingNode; i += 2 {
		name, node := at.node.Content[i].Value, at.node.Content[i+1]
		source := secretSource{from: place{path, node, l}}
		for key, into := range map[string]*string{"file": &source.file, "environment": &source.variable} {
			if value := child(node, key); value != nil {
				filled, err := l.substitute(value.Value, l.lookup)
				if err != nil {
					m.problems = append(m.problems, source.from.wrong(err))
					continue
				}
				*into = filled
			}
		}
		if source.file != "" && !filepath.IsAbs(source.file) {
			source.file = filepath.Join(filepath.Dir(path), source.file)
		}
		m.secrets[name] = source
	}
}
