package profile

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"

	"github.com/joho/godotenv"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/files"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/outside/budget"
	"gentle-harbor/internal/secret"
)

// maxIntake bounds what is taken in from elsewhere.
const maxIntake = 256 << 10

// Reading says what a person has answered about details that are taken in.
type Reading struct {
	// Variable names the one variable to read in a file of NAME=VALUE lines: it holds a
	// connection string, or is one of several that hold its parts. "" stands for anything that is
	// found.
	Variable string
	// Without has the parameters that may be left out though they make the connection stricter.
	Without []string
}

// Several is the error of details in which there is more than one connection: each of Names is a
// [Reading].Variable of one.
type Several struct{ Names []string }

// Error names the variables.
func (e *Several) Error() string {
	return "there are several connections (" + strings.Join(e.Names, ", ") + "); say which with --variable NAME"
}

// TakeIn reads connection details in any of the forms that Import knows: a connection string, our
// own JSON, a file of NAME=VALUE lines, or labelled parts. Its error is a *[Several] or a
// *[Stricter] where an answer is needed, and repeats no values.
func TakeIn(text string, how Reading) (Parsed, error) {
	text = strings.TrimSpace(text)
	switch {
	case len(text) > maxIntake:
		return Parsed{}, fmt.Errorf("there are more than %d KB to read, which is no connection's details", maxIntake>>10)
	case text == "":
		return Parsed{}, errors.New("there is nothing to read")
	case strings.HasPrefix(text, "{"):
		return takeJSON(text)
	case how.Variable == "" && isBare(text):
		return ParseConnectionString(text, how.Without...)
	case how.Variable == "" && (isPairs(text) ||
		!strings.ContainsAny(text, "\n ") && IsConnectionString(text) && !assignment().MatchString(text)):
		return ParseConnectionString(text, how.Without...)
	}
	_, exported := shellPairs(text)
	if how.Variable == "" && !strings.Contains(text, "\n") && !strings.Contains(text, "://") && len(labelsIn(text)) > 1 {
		return takeLabelled(text, how)
	}
	if how.Variable != "" || exported || assignments(text) {
		return takeVariables(text, how)
	}
	return takeLabelled(text, how)
}

var assignment = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^(?:export\s+)?[A-Za-z_][A-Za-z0-9_]*=`)
})

// assignments reports whether every line of a text that says something is NAME=VALUE, or it is a
// file of such with values of several lines.
func assignments(text string) bool {
	some := false
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		if !assignment().MatchString(line) {
			_, err := FileVariables(text)
			return some && (err == nil || budget.Exceeded(err))
		}
		some = true
	}
	return some
}

// takeJSON reads what Export writes as JSON.
func takeJSON(text string) (Parsed, error) {
	var whole struct {
		Settings json.RawMessage `json:"settings"`
		Password *string         `json:"password"`
	}
	if err := budget.Unmarshal([]byte(text), &whole); err != nil || whole.Settings == nil {
		return Parsed{}, errors.New(`this is not the JSON of a profile: it has the key "settings" with a profile's settings in it`)
	}
	layer, err := Parse(whole.Settings, "settings", "import")
	if err != nil {
		return Parsed{}, err
	}
	p := Parsed{Layer: Layer{}}
	for name, v := range layer {
		v.Origin = Origin{Layer: LayerImport}
		p.Layer[name] = v
	}
	if whole.Password != nil {
		p.Secret = secret.New(*whole.Password)
	}
	return p, nil
}

// put checks a value that was found under a label and takes it.
func (p *Parsed) put(setting, text, label string) error {
	if text == "" {
		return nil
	}
	s, _ := Find(setting)
	if s.Type == Host {
		host, port, err := SplitHost(text)
		if err != nil {
			return fmt.Errorf("%s: %w", label, err)
		}
		if text = host; port != "" {
			p.Layer["port"] = Value{Text: port, Origin: Origin{Layer: LayerImport}}
		}
	}
	if err := s.Check(text); err != nil {
		return fmt.Errorf("%s: its value cannot be the %s", label, strings.ReplaceAll(setting, ".", " "))
	}
	p.Layer[setting] = Value{Text: text, Origin: Origin{Layer: LayerImport}}
	return nil
}

// labels maps what pages, consoles and variables call the parts of a connection to settings;
// letters alone count. "password" and "uri" are no settings and are treated by hand.
var labels = map[string]string{
	"host": "host", "hostname": "host", "server": "host", "servername": "host", "address": "host", "endpoint": "host",
	"serveraddress": "host", "hostaddress": "host", "databasehost": "host", "dbhost": "host", "ip": "host",
	"ipaddress": "host",
	"port":      "port", "portnumber": "port", "databaseport": "port", "dbport": "port",
	"socket": "socket", "unixsocket": "socket", "socketpath": "socket",
	"database": "database", "databasename": "database", "db": "database", "dbname": "database",
	"name": "database", "schema": "database", "catalog": "database",
	"datasource": "host", "initialcatalog": "database", "userid": "user", "uid": "user",
	"user": "user", "username": "user", "login": "user", "account": "user", "role": "role", "dbuser": "user",
	"databaseuser": "user",
	"engine":       "engine", "type": "engine", "driver": "engine", "provider": "engine", "dialect": "engine",
	"adapter": "engine", "connection": "engine",
	"password": "password", "pass": "password", "passwd": "password", "pwd": "password",
	"dbpassword": "password", "databasepassword": "password", "secret": "password",
	"connectionname": "connection name", "publicaddress": "host", "publicipaddress": "host", "publicip": "host",
	"publichost": "host",
	"url":        "uri", "uri": "uri", "connectionstring": "uri", "connectionuri": "uri", "databaseurl": "uri",
	"dsn":     "uri",
	"sslmode": "tls", "tlsmode": "tls", "tls": "tls", "ssl": "tls", "encryption": "tls", "encrypt": "tls",
}

// engineWords maps what others call the engines.
var engineWords = sync.OnceValue(func() map[string]string {
	words := map[string]string{}
	for _, info := range known.Infos() {
		for _, word := range info.Words {
			words[word] = info.Name
		}
	}
	return words
})

// EngineOf gives the engine that a word of others means: "pgsql", "Npgsql", "mysql+pymysql",
// "django.db.backends.postgresql".
func EngineOf(word string) (string, bool) {
	word = strings.ToLower(strings.TrimSpace(word))
	word = word[strings.LastIndexByte(word, '.')+1:]
	word, _, _ = strings.Cut(word, "+")
	word, _, _ = strings.Cut(word, " ")
	for _, each := range []string{word, strings.TrimRight(word, "0123456789")} {
		if name, ok := engineWords()[each]; ok {
			return name, true
		}
	}
	return "", false
}

// labelOf gives the setting, or "password" or "uri", that a label means; "" for none. Its letters
// alone count.
func labelOf(label string) string {
	word := strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' {
			return r
		}
		return -1
	}, strings.ToLower(label))
	if strings.HasSuffix(word, "connectionname") { // of a server, an instance, …
		word = "connectionname"
	}
	return labels[word]
}

// connection takes the name by which a cloud's pages call a server.
func (p *Parsed) connection(name string) error {
	if name != "" && (len(name) > 256 || !outside.Clean(name)) {
		return errors.New("the connection name is too long, or cannot be shown")
	}
	p.Connection = name
	return nil
}

// label takes one labelled part; false when the label is not known.
func (p *Parsed) label(label, value string, how Reading) (taken bool, err error) {
	switch setting := labelOf(label); setting {
	case "":
		return false, nil
	case "password":
		if value != "" && !strings.HasPrefix(value, "(") { // "(hidden)" and similar
			p.Secret = secret.New(value)
		}
		return true, nil
	case "uri":
		inner, err := ParseConnectionString(value, how.Without...)
		if err != nil {
			return true, fmt.Errorf("%s: %w", label, err)
		}
		p.under(inner)
		return true, nil
	case "connection name":
		return true, p.connection(value)
	case "engine":
		name, ok := EngineOf(value)
		if !ok {
			return true, fmt.Errorf("%s: there is no such engine here; there are %s", label, strings.Join(known.Names(), ", "))
		}
		return true, p.put("engine", name, label)
	case "tls":
		if p.encrypt(label, value) != nil { // what it means is not known, so it may be needed
			p.strict = append(p.strict, strings.Trim(quoted(label), `"`))
		}
		return true, nil
	default:
		if setting == "host" && strings.HasPrefix(value, "/") {
			setting = "socket"
		}
		return true, p.put(setting, value, label)
	}
}

// under takes in what another says, where this one says nothing yet.
func (p *Parsed) under(other Parsed) {
	p.Connection = cmp.Or(p.Connection, other.Connection)
	for name, v := range other.Layer {
		if _, ok := p.Layer[name]; !ok {
			p.Layer[name] = v
		}
	}
	if !p.Secret.Given() {
		p.Secret = other.Secret
	}
	p.Notes = append(p.Notes, other.Notes...)
	p.Hosts = append(p.Hosts, other.Hosts...)
	p.SRV = cmp.Or(p.SRV, other.SRV)
	if p.Wants == "" {
		p.Wants = other.Wants
	}
}

var labelled = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?:^|[,;|\t]\s*)([A-Za-z][A-Za-z _/-]{0,40}?) *[:=\t]\s*`)
})

// spaced finds labels that only space parts from the value before: one word, or several of which
// the first begins with a capital.
var spaced = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(` ((?:[A-Z][A-Za-z]*[ _-]){0,2}[A-Za-z]+) *[:=]\s*`)
})

// labelsIn gives where in a line labels begin and end, and where their values begin.
func labelsIn(line string) [][]int {
	starts := labelled().FindAllStringSubmatchIndex(line, -1)
	if len(starts) == 0 || starts[0][0] != 0 {
		return nil
	}
	for _, at := range spaced().FindAllStringSubmatchIndex(line[starts[0][1]:], -1) {
		for i := range at {
			at[i] += starts[0][1]
		}
		// The words before the label may be the value's: the last ones that are a label count.
		for at[2] < at[3] && labelOf(line[at[2]:at[3]]) == "" {
			next := strings.IndexAny(line[at[2]:at[3]], " _-")
			if next < 0 {
				break
			}
			at[2] += next + 1
			at[0] = at[2] - 1
		}
		if labelOf(line[at[2]:at[3]]) != "" &&
			!slices.ContainsFunc(starts, func(s []int) bool { return s[0] < at[1] && at[0] < s[1] }) {
			starts = append(starts, at)
		}
	}
	slices.SortFunc(starts, func(a, b []int) int { return a[0] - b[0] })
	return starts
}

// table makes lines of labelled parts of a table's two rows, as they are copied from a page:
// labels, and a value for each.
func table(text string) string {
	head, row, two := strings.Cut(text, "\n")
	labels, values := strings.Split(head, "\t"), strings.Split(strings.TrimRight(row, "\r"), "\t")
	if !two || strings.Contains(row, "\n") || len(labels) < 2 || len(labels) != len(values) ||
		len(labels) == 2 && labelOf(values[0]) != "" {
		return text
	}
	var b strings.Builder
	for i, label := range labels {
		if label = strings.TrimSpace(label); labelOf(label) == "" {
			return text
		}
		fmt.Fprintf(&b, "%s: %s\n", label, values[i])
	}
	return b.String()
}

// takeLabelled reads lines such as "Host: db.fellside.example, Port: 6021".
func takeLabelled(text string, how Reading) (Parsed, error) {
	p := Parsed{Layer: Layer{}}
	var unknown []string
	found := false
	for n, line := range strings.Split(table(text), "\n") {
		line = strings.TrimSpace(strings.TrimLeft(strings.TrimSpace(line), "*-•"))
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		if IsConnectionString(line) && !strings.ContainsAny(line, " ") && !labelledURI(line) {
			inner, err := ParseConnectionString(line, how.Without...)
			if err != nil {
				return p, fmt.Errorf("line %d: %w", n+1, err)
			}
			p.under(inner)
			found = true
			continue
		}
		starts := labelsIn(line)
		if starts == nil {
			if !strings.Contains(text, "\n") {
				return p, fmt.Errorf("this is neither a connection string, as in %s://user@host/database, nor a "+
					"labelled part, as in Host: db.fellside.example",
					Schemes()[0])
			}
			return p, fmt.Errorf("line %d: this is no labelled part; write one as in Host: db.fellside.example", n+1)
		}
		// A password may hold what looks like the next label, so it takes the rest of its line.
		if i := slices.IndexFunc(starts, func(at []int) bool { return labelOf(line[at[2]:at[3]]) == "password" }); i >= 0 {
			starts = starts[:i+1]
		}
		for i, at := range starts {
			end := len(line)
			if i+1 < len(starts) {
				end = starts[i+1][0]
			}
			label, value := strings.TrimSpace(line[at[2]:at[3]]), unquoted(strings.TrimSpace(line[at[1]:end]))
			known, err := p.label(label, value, how)
			if err != nil {
				return p, fmt.Errorf("line %d: %w", n+1, err)
			}
			if found = found || known; !known {
				unknown = append(unknown, label)
			}
		}
	}
	if !found {
		return p, errors.New("nothing in this is a part of a connection; write lines such as Host: " +
			"db.fellside.example and Port: 6021")
	}
	p.unknown("label", unknown)
	return p, p.finish(p.sets(LayerImport), how.Without)
}

func labelledURI(line string) bool {
	at := labelled().FindStringIndex(line)
	return at != nil && at[0] == 0 && !strings.HasPrefix(line[at[1]:], "//")
}

func unquoted(text string) string {
	if len(text) >= 2 && (text[0] == '"' || text[0] == '\'' || text[0] == '`') && text[len(text)-1] == text[0] {
		return text[1 : len(text)-1]
	}
	return text
}

// unknown notes what was not understood, by name. What may make the connection stricter is kept
// apart.
func (p *Parsed) unknown(kind string, names []string) {
	names = slices.DeleteFunc(names, func(name string) bool {
		is := stricter().MatchString(letters(name)) && !slices.Contains(looser, letters(name))
		if is {
			p.strict = append(p.strict, strings.Trim(quoted(name), `"`))
		}
		return is
	})
	if len(names) == 0 {
		return
	}
	slices.Sort(names)
	shown := make([]string, len(names))
	for i, name := range slices.Compact(names) {
		shown[i] = strings.Trim(quoted(name), `"`)
	}
	text := "Not understood and left out: the " + kind + " " + strings.Join(shown[:len(slices.Compact(names))], ", ")
	p.Notes = append(p.Notes, text+".")
	p.Left = append(p.Left, names...)
}

// takeVariables reads a file of NAME=VALUE lines: one variable that is a connection string, or a
// set of variables whose names end in HOST, PORT, USER and similar. Other variables of the file
// are not looked at.
func takeVariables(text string, how Reading) (Parsed, error) {
	pairs, ok := shellPairs(text)
	if !ok {
		var err error
		if pairs, err = FileVariables(text); err != nil {
			return Parsed{}, err
		}
	}
	if how.Variable != "" {
		value, ok := pairs[how.Variable]
		if !ok {
			return Parsed{}, fmt.Errorf("there is no variable %s; there are %s", quoted(how.Variable),
				strings.Join(slices.Sorted(maps.Keys(pairs)), ", "))
		}
		if !IsConnectionString(value) {
			return takeParts(pairs, how)
		}
		p, err := ParseConnectionString(value, how.Without...)
		if err != nil {
			return p, fmt.Errorf("the variable %s: %w", how.Variable, err)
		}
		return p, nil
	}
	if p, own, err := takeOwnVariables(pairs); own {
		return p, err
	}
	switch strung := StringVariables(pairs, how.Without...); len(strung) {
	case 0:
		return takeParts(pairs, how)
	case 1:
		if err := strung[0].Err; err != nil {
			return strung[0].Parsed, fmt.Errorf("the variable %s: %w", strung[0].Name, err)
		}
		return strung[0].Parsed, nil
	default:
		several := &Several{}
		for _, each := range strung {
			several.Names = append(several.Names, each.Name)
		}
		return Parsed{}, several
	}
}

// shellPairs reads lines that set variables of a POSIX shell, "export NAME=WORD", as Export
// writes them: plain letters, '…' and \c. It is false for anything else.
func shellPairs(text string) (map[string]string, bool) {
	pairs := map[string]string{}
	for text = strings.TrimLeft(text, "\n"); text != ""; text = strings.TrimLeft(text, "\n") {
		rest, ok := strings.CutPrefix(text, "export ")
		name, rest, assigned := strings.Cut(rest, "=")
		if !ok || !assigned || !assignment().MatchString(name+"=") {
			return nil, false
		}
		var value strings.Builder
		i := 0
		for ; i < len(rest) && rest[i] != '\n'; i++ {
			switch c := rest[i]; {
			case c == '\'':
				end := strings.IndexByte(rest[i+1:], '\'')
				if end < 0 {
					return nil, false
				}
				value.WriteString(rest[i+1 : i+1+end])
				i += end + 1
			case c == '\\' && i+1 < len(rest):
				i++
				value.WriteByte(rest[i])
			case strings.IndexByte(" \t\"$`;&|<>()#~*?[", c) >= 0:
				return nil, false
			default:
				value.WriteByte(c)
			}
		}
		pairs[name], text = value.String(), rest[i:]
	}
	return pairs, len(pairs) > 0
}

// takeOwnVariables reads the variables that Export writes.
func takeOwnVariables(pairs map[string]string) (p Parsed, ok bool, err error) {
	p.Layer = Layer{}
	for _, s := range Settings {
		value, set := pairs[s.Variable()]
		if !set || s.Variable() == "" {
			continue
		}
		ok = true
		if value == "" {
			continue
		}
		if s.Name == "secret" {
			if word, of, _ := strings.Cut(value, ":"); word == "env" {
				if password, set := pairs[of]; set {
					p.Secret = secret.New(password)
					continue
				}
			}
		}
		if e := s.Check(value); e != nil {
			return p, true, fmt.Errorf("the variable %s: its value cannot be the %s", s.Variable(),
				strings.ReplaceAll(s.Name, ".", " "))
		}
		p.Layer[s.Name] = Value{Text: value, Origin: Origin{Layer: LayerImport}}
	}
	return p, ok, nil
}

// TakeBinding reads a folder of the Service Binding specification (servicebinding.io, "Workload
// Projection"): a file for each entry, named type, provider, host, port, username, password,
// database or uri.
func TakeBinding(folder string, how Reading) (Parsed, error) {
	p := Parsed{Layer: Layer{}}
	entries, err := os.ReadDir(folder)
	if err != nil {
		return p, fmt.Errorf("the folder cannot be read: %w", err)
	}
	if len(entries) > 200 {
		return p, errors.New("the folder has more than 200 files, which is no binding")
	}
	values := map[string]string{}
	for _, entry := range entries {
		data, err := files.Read(filepath.Join(folder, entry.Name()), 64<<10)
		var path *fs.PathError
		if errors.As(err, &path) && errors.Is(err, fs.ErrPermission) {
			return p, fmt.Errorf("the file %s cannot be read: %w", entry.Name(), path.Err)
		}
		if errors.Is(err, files.ErrTooLarge) {
			return p, fmt.Errorf("the file %s has more than 64 KB, which no part of a connection has", quoted(entry.Name()))
		}
		if err == nil && !strings.HasPrefix(entry.Name(), ".") {
			values[entry.Name()] = strings.TrimSuffix(strings.TrimSuffix(string(data), "\n"), "\r")
		}
	}
	if values["type"] == "" {
		return p, errors.New("the folder is no service binding: it has no file type; a folder of bindings has " +
			"one folder for each")
	}
	kind := values["type"]
	if engineWords()[values["provider"]] != "" &&
		slices.ContainsFunc(known.Infos(), func(info engine.Info) bool {
			return info.Name == values["provider"] && info.Binding == kind
		}) {
		kind = values["provider"]
	}
	if _, err := p.label("type", kind, how); err != nil {
		return p, err
	}
	for _, name := range []string{"host", "port", "username", "password", "database", "socket"} {
		if _, err := p.label(name, values[name], how); err != nil {
			return p, err
		}
	}
	if password, ok := values["password"]; ok {
		p.Secret = secret.New(password)
	}
	if uri := values["uri"]; uri != "" {
		inner, err := ParseConnectionString(uri, how.Without...)
		if err != nil {
			return p, fmt.Errorf("uri: %w", err)
		}
		if _, socket := inner.Layer["socket"]; socket {
			delete(p.Layer, "host")
			delete(p.Layer, "port")
		}
		p.under(inner)
	}
	known := []string{"type", "provider", "host", "port", "username", "password", "database", "socket", "uri"}
	var unknown []string
	for name := range values {
		if !slices.Contains(known, name) {
			unknown = append(unknown, name)
		}
	}
	p.unknown("entry", unknown)
	return p, p.finish(p.sets(LayerImport), how.Without)
}

// StringVariable is a variable whose value is a connection string.
type StringVariable struct {
	Name string
	Parsed
	Err error // why it cannot be taken apart; it repeats nothing of the value
}

// StringVariables gives the variables that hold a connection string of an engine that is known,
// in the order of their names.
func StringVariables(pairs map[string]string, without ...string) []StringVariable {
	var list []StringVariable
	for _, name := range slices.Sorted(maps.Keys(pairs)) {
		text := pairs[name]
		if _, _, known := engineOfScheme(text); !strings.Contains(text, "://") || !known || len(text) > maxIntake {
			continue
		}
		p, err := ParseConnectionString(text, without...)
		list = append(list, StringVariable{name, p, err})
	}
	return list
}

// maxVariables bounds what a file of variables may become once they are filled in.
const maxVariables = 1 << 20

// FileVariables reads a file of NAME=VALUE lines. Its error repeats nothing of it.
func FileVariables(text string) (map[string]string, error) {
	if err := budget.Variables(text, nil, maxVariables); err != nil {
		return nil, fmt.Errorf("this file of NAME=VALUE lines is not read: %w", err)
	}
	pairs, err := godotenv.Unmarshal(text)
	if err != nil {
		return nil, errors.New("this is not a file of NAME=VALUE lines that can be read")
	}
	return pairs, nil
}
