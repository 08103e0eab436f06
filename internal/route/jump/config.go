// Package jump goes through jump hosts: it logs in to one by SSH (RFC 4251 to 4254) as the user's
// OpenSSH configuration and known hosts say, and gives what dials from there. [Config] reads the
// configuration, [HostKeys] the known hosts, and a [Hop] is one machine on a route.
package jump

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
)

// Bounds of what is read of a configuration.
const (
	maxConfig   = 1 << 20
	maxIncludes = 16  // deep, as in OpenSSH
	maxFiles    = 200 // in all
)

// World is what a configuration's words stand for on this machine.
type World struct {
	Home string // the user's home folder
	User string // the name of the user's account
	Host string // this machine's name
	Dir  string // the folder that the program works in
	UID  int
	// System is the system's name, as runtime.GOOS has it; "" for this one.
	System string
	Env    func(name string) (string, bool) // nil knows none
	// Environ is the environment of programs that are started.
	Environ []string
}

// Config is where the OpenSSH configuration of a user is (ssh_config(5)).
type Config struct {
	// User and System are its two files; "" for none.
	User, System string
	World        World
	once         *readings // nil for files that are read anew at each look
}

// Once gives the configuration as it is now: each file, and each pattern of an Include, is read
// once, and goes by that from then on. What is shown to a person, what is agreed to and what is
// used are then one text.
func (c Config) Once() Config {
	c.once = &readings{files: map[string]kept{}, found: map[string][]string{}}
	return c
}

// Usual gives the configuration where OpenSSH has it.
func Usual(world World) Config {
	return Config{User: filepath.Join(world.Home, ".ssh", "config"), System: world.machine("ssh_config"), World: world}
}

// posix reports whether the system is one with a POSIX shell.
func (w World) posix() bool { return cmp.Or(w.System, runtime.GOOS) != "windows" }

// machine gives the place of a file of the machine's own OpenSSH configuration.
func (w World) machine(name string) string {
	if w.posix() {
		return "/etc/ssh/" + name
	}
	folder, _ := w.lookup("ProgramData")
	return filepath.Join(cmp.Or(folder, `C:\ProgramData`), "ssh", name)
}

// systemAgent is where the agent of Windows is, when nothing says another place.
const systemAgent = `\\.\pipe\openssh-ssh-agent`

// agentPlace gives where the agent is: the path of a socket, or of a pipe of Windows; "none" or
// "" for none. Said is what the hop says, configured what the configuration does (IdentityAgent);
// named reports whether one of them names a place.
func (w World) agentPlace(said, configured string, tokens map[byte]string) (at string, named bool) {
	at, named = said, said != ""
	if at == "" && configured != "" {
		named = true
		switch {
		case configured == "SSH_AUTH_SOCK":
		case strings.HasPrefix(configured, "$") && !strings.HasPrefix(configured, "${"):
			at, _ = w.lookup(configured[1:])
		default:
			at, _ = w.expand(configured, tokens)
		}
	}
	if at == "" {
		at, _ = w.lookup("SSH_AUTH_SOCK")
	}
	if at == "" && !w.posix() {
		at = systemAgent
	}
	return at, named
}

// Word is a value of a configuration, and where it is said. Args are its parts, as quotation
// marks hold them together; Text has them with spaces between.
type Word struct {
	Text string
	Args []string
	File string
	Line int
}

// Place gives FILE:LINE.
func (w Word) Place() string { return w.File + ":" + strconv.Itoa(w.Line) }

// Settings is what a configuration says of one host: the first value of each directive that
// applies.
type Settings struct {
	// One has the directives with one value, by their names in lower case; Many those that add up.
	One  map[string]Word
	Many map[string][]Word
}

// text gives a directive's value, "" for none.
func (s Settings) text(name string) string { return s.One[name].Text }

// For gives what the configuration says of a host as a profile names it, for a user as it names
// one ("" for none). The error is a *finding.Problem that names file and line.
func (c Config) For(host, user string) (Settings, error) {
	r := &reading{Config: c, host: strings.ToLower(host), typed: host, user: user,
		got: Settings{One: map[string]Word{}, Many: map[string][]Word{}}}
	for _, path := range []string{c.User, c.System} {
		if path == "" {
			continue
		}
		if err := r.file(path, filepath.Dir(path), true, 0); err != nil {
			return Settings{}, err
		}
	}
	for name, word := range r.got.One {
		switch {
		case directives[name] == refusing:
			return Settings{}, &finding.Problem{Code: finding.TunnelConfigRefuses,
				Words: outside.Said(word.Text), Facts: finding.Facts{finding.FactOrigin: word.Place()}}
		case directives[name] == impossible && !slices.Contains(idle[name], strings.ToLower(word.Text)):
			return Settings{}, unsupported(word, name)
		}
	}
	return r.got, nil
}

// Hosts gives the names that the configuration has a Host for, without patterns, in their order
// and each once. What cannot be read has none.
func (c Config) Hosts() []string {
	r := &reading{Config: c, got: Settings{One: map[string]Word{}, Many: map[string][]Word{}}}
	for _, path := range []string{c.User, c.System} {
		if path != "" {
			_ = r.file(path, filepath.Dir(path), true, 0)
		}
	}
	var names []string
	for _, name := range r.hosts {
		if !strings.ContainsAny(name, "*?!") && !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	return names
}

// unsupported is the problem of a directive that applies to a hop and cannot be honoured.
func unsupported(word Word, what string) error {
	return &finding.Problem{Code: finding.TunnelConfigUnsupported,
		Facts: finding.Facts{finding.FactOrigin: word.Place(), finding.FactDetail: what}}
}

func broken(word Word, format string, args ...any) error {
	return &finding.Problem{Code: finding.TunnelConfigBroken,
		Facts: finding.Facts{finding.FactOrigin: word.Place(), finding.FactDetail: fmt.Sprintf(format, args...)}}
}

// reading is one reading of a configuration for a host.
type reading struct {
	Config
	host, user string
	typed      string // the host as it is written: Host minds its case
	got        Settings
	hosts      []string // the names that Host lines have, patterns left out
	files      int
	ignored    []string // patterns of IgnoreUnknown
	// doubt is a Match that may or may not apply to this host; a directive in its block that
	// matters cannot be honoured.
	doubt *Word
}

// file reads a file in order; active says whether the block that includes it applies.
func (r *reading) file(path, folder string, active bool, depth int) error {
	if r.files++; depth > maxIncludes || r.files > maxFiles {
		return broken(Word{File: path, Line: 1}, "it is included too deep, or too many files are")
	}
	data, err := r.once.read(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return broken(Word{File: path, Line: 1}, "it cannot be used: %v", err)
	}
	within, outer := active, r.doubt
	defer func() { r.doubt = outer }()
	for n, line := range strings.Split(string(data), "\n") {
		at := Word{File: path, Line: n + 1}
		words, err := split(line)
		if err != nil {
			return broken(at, "%v", err)
		}
		if len(words) == 0 {
			continue
		}
		name, args := strings.ToLower(words[0]), words[1:]
		switch name {
		case "host":
			active, r.doubt = within && exactly(args, r.typed), outer
			r.hosts = append(r.hosts, args...)
		case "match":
			var sure bool
			if active, sure, err = r.match(args); err != nil {
				return broken(at, "%v", err)
			}
			active, r.doubt = active && within, outer
			if active && !sure {
				at.Text = strings.Join(args, " ")
				r.doubt = &at
			}
		case "include":
			if active {
				if err := r.include(args, folder, depth, at); err != nil {
					return err
				}
			}
		default:
			if active {
				if err := r.take(name, args, at); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

func (r *reading) include(args []string, folder string, depth int, at Word) error {
	for _, arg := range args {
		path, err := r.World.expand(arg, nil)
		if err != nil {
			return broken(at, "%v", err)
		}
		if !filepath.IsAbs(path) {
			path = filepath.Join(folder, path)
		}
		found, err := r.once.glob(path)
		if err != nil {
			return broken(at, "%q is no pattern of files", arg)
		}
		for _, each := range found {
			if err := r.file(each, folder, true, depth+1); err != nil {
				return err
			}
		}
	}
	return nil
}

// take notes a directive's value, where no earlier one counts.
func (r *reading) take(name string, args []string, at Word) error {
	effect := directives[name]
	if effect == unheard {
		if matches(r.ignored, name) {
			return nil
		}
		return unsupported(at, name)
	}
	at.Text, at.Args = strings.Join(args, " "), args
	if strings.TrimSpace(at.Text) == "" {
		return broken(at, "%s has no value", name)
	}
	if name == "ignoreunknown" {
		r.ignored = strings.Split(strings.ToLower(at.Text), ",")
	}
	if effect == harmless {
		if _, said := r.got.One[name]; name == "forwardagent" && !said {
			r.got.One[name] = at // it is never done, and audit reports it
		}
		return nil
	}
	if _, said := r.got.One[name]; said || r.got.One[rivals[name]].Text != "" {
		return nil
	}
	if r.doubt != nil {
		return unsupported(*r.doubt, "Match "+r.doubt.Text)
	}
	if slices.Contains(adding, name) {
		if !slices.ContainsFunc(r.got.Many[name], func(w Word) bool { return w.Text == at.Text }) {
			r.got.Many[name] = append(r.got.Many[name], at)
		}
		return nil
	}
	r.got.One[name] = at
	return nil
}

// match decides a Match line: whether it can apply to the host, and whether that is sure.
func (r *reading) match(args []string) (applies, sure bool, err error) {
	applies, sure = true, true
	for i := 0; i < len(args); i++ {
		word := strings.ToLower(args[i])
		negated := strings.HasPrefix(word, "!")
		word = strings.TrimPrefix(word, "!")
		value := ""
		if before, after, joined := strings.Cut(args[i], "="); joined {
			word, value = strings.TrimPrefix(strings.ToLower(before), "!"), after
		} else if !slices.Contains([]string{"all", "canonical", "final"}, word) {
			if i++; i >= len(args) {
				return false, false, fmt.Errorf("the criterion %s of Match has no value", word)
			}
			value = args[i]
		}
		holds := false
		switch word {
		case "all":
			holds = true
		case "host":
			name := r.host
			if other := r.got.text("hostname"); other != "" {
				name = strings.ToLower(strings.ReplaceAll(other, "%h", r.host))
			}
			holds = matches(strings.Split(strings.ToLower(value), ","), name)
		case "originalhost":
			holds = matches(strings.Split(strings.ToLower(value), ","), r.host)
		case "user":
			user := r.user
			if user == "" {
				if user = r.got.text("user"); user == "" {
					user = r.World.User
				}
			}
			holds = matches(strings.Split(value, ","), user)
		case "localuser":
			holds = matches(strings.Split(value, ","), r.World.User)
		case "canonical":
			holds = false // host names are not canonicalised
		default:
			sure = false
			continue
		}
		if holds == negated {
			return false, true, nil
		}
	}
	return applies, sure, nil
}

// matches reports whether a name is matched by a list of patterns with * and ?, of which those
// that begin with ! exclude it. Case has no part in it.
func matches(patterns []string, name string) bool {
	lower := make([]string, len(patterns))
	for i, pattern := range patterns {
		lower[i] = strings.ToLower(pattern)
	}
	return exactly(lower, strings.ToLower(name))
}

// exactly is matches with the case minded.
func exactly(patterns []string, name string) bool {
	found := false
	for _, pattern := range patterns {
		bare, negated := strings.CutPrefix(pattern, "!")
		if !glob(bare, name) {
			continue
		}
		if negated {
			return false
		}
		found = true
	}
	return found
}

// glob matches a whole text with a pattern in which * stands for any characters and ? for one.
func glob(pattern, text string) bool {
	p, t, star, mark := 0, 0, -1, 0
	for t < len(text) {
		switch {
		case p < len(pattern) && pattern[p] == '*':
			star, mark = p, t
			p++
		case p < len(pattern) && (pattern[p] == '?' || pattern[p] == text[t]):
			p++
			t++
		case star >= 0:
			mark++
			p, t = star+1, mark
		default:
			return false
		}
	}
	for p < len(pattern) && pattern[p] == '*' {
		p++
	}
	return p == len(pattern)
}

// split takes a line of a configuration apart: a directive, which an equals sign may follow, and
// its words, which may be in quotes. A # begins a comment.
func split(line string) ([]string, error) {
	line = strings.TrimSpace(line)
	if line == "" || line[0] == '#' {
		return nil, nil
	}
	end := strings.IndexAny(line, " \t=\"")
	if end < 0 {
		return []string{line}, nil
	}
	words, rest := []string{line[:end]}, strings.TrimLeft(line[end:], " \t")
	if cut, ok := strings.CutPrefix(rest, "="); ok {
		rest = strings.TrimLeft(cut, " \t")
	}
	if name := strings.ToLower(words[0]); name == "proxycommand" || name == "localcommand" ||
		name == "remotecommand" || name == "knownhostscommand" {
		return append(words, rest), nil // the rest of the line, quotes included, is for a shell
	}
	for rest != "" {
		if rest[0] == '#' {
			break
		}
		var word strings.Builder
		quote := byte(0)
		i := 0
	letters:
		for ; i < len(rest); i++ {
			switch c := rest[i]; {
			case quote == 0 && (c == ' ' || c == '\t'):
				break letters
			case quote == 0 && (c == '"' || c == '\''):
				quote = c
			case quote != 0 && c == quote:
				quote = 0
			case c == '\\' && i+1 < len(rest) && strings.IndexByte(`"'\`, rest[i+1]) >= 0:
				i++
				word.WriteByte(rest[i])
			default:
				word.WriteByte(c)
			}
		}
		if quote != 0 {
			return nil, errors.New("a quotation mark is not closed")
		}
		words = append(words, word.String())
		rest = strings.TrimLeft(rest[i:], " \t")
	}
	return words, nil
}

// readings keep what a configuration's files said when they were first read.
type readings struct {
	mu    sync.Mutex
	files map[string]kept
	found map[string][]string
}

type kept struct {
	data []byte
	err  error
}

func (r *readings) read(path string) ([]byte, error) {
	if r == nil {
		return files.ReadOwn(path, maxConfig)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if _, known := r.files[path]; !known {
		data, err := files.ReadOwn(path, maxConfig)
		r.files[path] = kept{data, err}
	}
	return r.files[path].data, r.files[path].err
}

func (r *readings) glob(pattern string) ([]string, error) {
	if r == nil {
		return filepath.Glob(pattern)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if _, known := r.found[pattern]; !known {
		found, err := filepath.Glob(pattern)
		if err != nil {
			return nil, err
		}
		r.found[pattern] = found
	}
	return r.found[pattern], nil
}

// expand puts what they stand for instead of ~, ${NAME} and, where tokens are given, %x.
func (w World) expand(text string, tokens map[byte]string) (string, error) {
	if text == "~" || strings.HasPrefix(text, "~/") || !w.posix() && strings.HasPrefix(text, `~\`) {
		text = w.Home + text[1:]
	}
	var b strings.Builder
	for i := 0; i < len(text); i++ {
		switch {
		case text[i] == '%' && tokens != nil:
			if i+1 == len(text) {
				return "", fmt.Errorf("%q ends in a %%", text)
			}
			i++
			value, known := tokens[text[i]]
			if text[i] == '%' {
				value, known = "%", true
			}
			if !known {
				return "", fmt.Errorf("the token %%%c is not known here", text[i])
			}
			b.WriteString(value)
		case strings.HasPrefix(text[i:], "${"):
			name, rest, closed := strings.Cut(text[i+2:], "}")
			value, set := "", false
			if w.Env != nil {
				value, set = w.Env(name)
			}
			if !closed || !set {
				return "", fmt.Errorf("the variable %s is not set", name)
			}
			b.WriteString(value)
			i = len(text) - len(rest) - 1
		default:
			b.WriteByte(text[i])
		}
	}
	return b.String(), nil
}

func (w World) lookup(name string) (string, bool) {
	if w.Env == nil {
		return "", false
	}
	return w.Env(name)
}
