package agree

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/route/jump"
	"gentle-harbor/internal/secret"
)

// Format is the number of the form in which terms are kept. An agreement of another form is asked
// for again.
const Format = 2

// Terms is what an agreement covers: every effective setting that a project's file says, with the
// content of the files and programs inside the project that it names. What flags, variables, your
// own files and defaults say is the user's own.
type Terms struct {
	Format  int    `json:"format"`
	Project string `json:"project"` // the project's folder of profiles
	Profile string `json:"profile"` // the name; a variant of the user's own is "mine:NAME"
	// Said has each setting: a text, or a list of texts.
	Said map[string]any `json:"said"`
	// Files has the SHA-256 digest of each file, by its path, in hexadecimal digits.
	Files map[string]string `json:"files"`
	// Runs are the programs of the user's own SSH configuration that the project's hops reach
	// (ProxyCommand), as the shell gets them.
	Runs []string `json:"runs,omitempty"`

	// Compose says in which folder the Compose project of the container is; two folders with one
	// name are two projects.
	Compose string `json:"compose,omitempty"`
	// Hands are the variables that a program gets from gharbor with, each with its value as far
	// as it is known before.
	Hands []string `json:"hands,omitempty"`
	// Cloud is the URL of the user's own account that the project's cloud server is of.
	Cloud string `json:"cloud,omitempty"`

	contents map[string][]byte
}

// maxFile bounds the files that are read for an agreement.
const maxFile = 64 << 20

// Of collects what agreeing to a stack means; ssh is the configuration that its hops go by. It
// fails when the stack names something that nobody can agree to, since it could change unseen.
func Of(library profile.Library, s profile.Stack, ssh jump.Config) (Terms, error) {
	e := s.Resolve()
	t := Terms{Format: Format, Project: library.Project.Dir, Profile: s.Bare, Said: map[string]any{},
		Files: map[string]string{}, contents: map[string][]byte{}}
	if !s.Store.Project {
		t.Profile = "mine:" + s.Bare
	}
	for _, name := range e.Values.Names() {
		v := e.Values[name]
		if s, _ := profile.Find(name); v.Origin.Project == "" || s.Aside || s.Scope == profile.OfItself {
			continue // words for people change nothing
		}
		t.Said[name] = v.Text
		if v.List != nil {
			t.Said[name] = v.List
		}
		if setting, _ := profile.Find(name); setting.Type == profile.Path && name != "socket" {
			if err := t.holds(library, profile.PathOf(library.World, v)); err != nil {
				return t, err
			}
		}
	}
	if c := e.Contained; e.Values["container"].Origin.Project != "" && c.Service != "" {
		if t.Compose = "in " + e.ComposeFolder(""); c.Project != "" {
			t.Compose = "in any folder of this machine"
		}
	}
	if e.Values["cloud"].Origin.Project != "" {
		t.Cloud = e.CloudAt.URL
	}
	if slices.ContainsFunc(e.Values.Names(), func(name string) bool {
		return strings.HasPrefix(name, "hand-over.") && e.Values[name].Origin.Project != ""
	}) {
		t.Hands = e.HandedOver()
	}
	if e.Values["via"].Origin.Project != "" {
		var err error
		if t.Runs, err = ssh.Commands(e.Via); err != nil {
			p, _ := finding.AsProblem(err)
			if p == nil {
				return t, err
			}
			return t, fmt.Errorf("what its hops do here cannot be said: %s",
				finding.Make(p.Code, finding.About{Facts: p.Facts}).Cause)
		}
	}
	if e.Secret.Kind == secret.Command && e.Values["secret"].Origin.Project != "" {
		t.Said["secret"] = e.Secret.Args
		if err := t.command(library, e.Secret.Args); err != nil {
			return t, err
		}
	}
	return t, nil
}

// command takes a program that is to print a secret. Its arguments may name nothing inside the
// project: only the program itself is run from the bytes that were agreed to.
func (t *Terms) command(library profile.Library, args []string) error {
	if program, err := library.World.Program(args[0]); err == nil {
		if err := t.holds(library, program); err != nil {
			return err
		}
	}
	root := filepath.Dir(t.Project)
	for _, arg := range args[1:] {
		// What a shell would put in their place is not known here, and can be a path into the project.
		if strings.ContainsAny(arg, "$`~*?") {
			return fmt.Errorf("an argument of the program that prints the secret has a sign that a shell "+
				"replaces (%q), so that it can name something inside the project; write out what is needed, or "+
				"put it into a program",
				arg)
		}
		for _, word := range append(strings.FieldsFunc(arg, func(r rune) bool {
			return strings.ContainsRune(" \t\n\"'`;|&()<>=,:$", r)
		}), arg) {
			path := word
			if !filepath.IsAbs(path) {
				path = filepath.Join(root, path)
			}
			_, err := filepath.EvalSymlinks(path)
			if word != "" && err == nil && library.Project.Inside(path) == nil &&
				filepath.Clean(path) != filepath.Clean(root) ||
				strings.Contains(word, root+string(filepath.Separator)) {
				return fmt.Errorf("an argument of the program that prints the secret names something inside the "+
					"project (%q), which could change after you agreed; only the program itself may be the project's",
					word)
			}
		}
	}
	return nil
}

// holds notes a file of the project's, with its content.
func (t *Terms) holds(library profile.Library, path string) error {
	if library.Project.Inside(path) != nil {
		return nil // it is not the project's to change
	}
	data, err := files.Read(path, maxFile)
	if err != nil {
		return fmt.Errorf("%s cannot be read, so that nobody can agree to it: %w", path, err)
	}
	sum := sha256.Sum256(data)
	t.Files[path], t.contents[path] = hex.EncodeToString(sum[:]), data
	return nil
}

// canonical gives the terms as JSON (RFC 8259) with the keys in order, so that equal terms give
// equal bytes.
func (t Terms) canonical() []byte {
	data, err := json.Marshal(t)
	if err != nil {
		return nil
	}
	return data
}

// Digest gives the fingerprint of the terms (SHA-256, in hexadecimal digits).
func (t Terms) Digest() string {
	sum := sha256.Sum256(t.canonical())
	return hex.EncodeToString(sum[:])
}

// Lines says all of the terms, for people: each setting, and each file with the digest of its
// content.
func (t Terms) Lines() []string {
	var lines []string
	layer := profile.Layer{}
	for name := range t.Said {
		layer[name] = profile.Value{}
	}
	for _, name := range layer.Names() {
		shown := strings.ReplaceAll(name, ".", " ") + ": "
		items, isList := t.Said[name].([]string)
		if other, ok := t.Said[name].([]any); ok { // as JSON gives them back
			isList = true
			for _, each := range other {
				items = append(items, fmt.Sprint(each))
			}
		}
		if !isList {
			lines = append(lines, shown+fmt.Sprint(t.Said[name]))
			continue
		}
		if s, known := profile.Find(name); known && !s.IsList() {
			shown += "a program, word " // the words of a command, instead of a text
		}
		for i, item := range items {
			lines = append(lines, fmt.Sprintf("%s%d. %s", shown, i+1, item))
		}
	}
	for _, program := range t.Runs {
		lines = append(lines, "your SSH configuration runs for its hop: "+program)
	}
	if t.Compose != "" {
		lines = append(lines, "the Compose project of its container: "+t.Compose)
	}
	for _, variable := range t.Hands {
		lines = append(lines, "a program that runs with its door gets: "+variable)
	}
	if t.Cloud != "" {
		lines = append(lines, "your cloud account of that name asks "+t.Cloud)
	}
	for _, path := range slices.Sorted(maps.Keys(t.Files)) {
		lines = append(lines, "content of "+path+": SHA-256 "+t.Files[path])
	}
	return lines
}

// Changes says what is otherwise in t than it was in terms that were agreed to before.
func (t Terms) Changes(before Terms) []string {
	was, is := before.Lines(), t.Lines()
	var lines []string
	for _, line := range was {
		if !slices.Contains(is, line) {
			lines = append(lines, "was  "+line)
		}
	}
	for _, line := range is {
		if !slices.Contains(was, line) {
			lines = append(lines, "is   "+line)
		}
	}
	return lines
}

// within reports whether everything that t says was agreed to in other terms of the same project.
func (t Terms) within(other Terms) bool {
	if t.Project != other.Project || t.Cloud != "" && t.Cloud != other.Cloud || other.Format != Format {
		return false
	}
	for name, value := range t.Said {
		a, _ := json.Marshal(value)
		b, _ := json.Marshal(other.Said[name])
		if !bytes.Equal(a, b) {
			return false
		}
	}
	if t.Compose != "" && t.Compose != other.Compose {
		return false
	}
	if slices.ContainsFunc(t.Hands, func(variable string) bool { return !slices.Contains(other.Hands, variable) }) {
		return false
	}
	for path, sum := range t.Files {
		if other.Files[path] != sum {
			return false
		}
	}
	return !slices.ContainsFunc(t.Runs, func(program string) bool { return !slices.Contains(other.Runs, program) })
}
