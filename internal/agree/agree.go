// Package agree says what a profile that comes with a project may do: nothing, until the user has
// agreed to it.
//
// An [Admitted] profile is the only thing that connections, look-ups, programs and secrets are
// made from. It holds the settings that were decided, and the bytes of the project's files that
// were hashed for the agreement, so that nothing which changes afterwards has a part in a
// connection. There are three ways to one: [Own] for layers in which no project has a part,
// [Gate.Admit] for a saved profile, and [Gate.Try] for one that is being written. The zero value
// opens nothing.
package agree

import (
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/route/jump"
	"gentle-harbor/internal/secret"
)

// Refused is the error for a profile that may not be used.
type Refused struct {
	Name string // the profile's
	Why  string // a sentence
}

// Error gives the reason.
func (r *Refused) Error() string { return r.Why }

// Admitted is a profile that may be used. Its copies are the same profile.
type Admitted struct{ in *admitted }

type admitted struct {
	profile  profile.Effective
	contents map[string][]byte
	ssh      *jump.Config // nil where no project has a part
	temp     string       // a folder of this program's own for copies of programs
	again    func() error // nil where nothing can change
}

// Own admits layers, highest first, in which no project has a part, with the aliases of a
// library. It fails when one has.
func Own(library profile.Library, name string, layers ...profile.Layer) (Admitted, error) {
	for _, layer := range layers {
		for setting, v := range layer {
			if v.Origin.Project != "" {
				return Admitted{}, &Refused{name,
					fmt.Sprintf("its setting %s comes from the project %s.", setting, v.Origin.Project)}
			}
		}
	}
	e := library.Stack(name, layers...).Resolve()
	if e.AliasAt.Project != "" {
		return Admitted{}, strangeAlias(name, e)
	}
	return Admitted{&admitted{profile: e}}, nil
}

// strangeAlias is the refusal of a project's alias that only this run names: an agreement is to a
// profile.
func strangeAlias(name string, e profile.Effective) *Refused {
	return &Refused{name, fmt.Sprintf("the alias %s comes from the project %s; save a profile that names it, "+
		"and agree to that.",
		e.Alias, e.AliasAt.Project)}
}

// OK reports whether this is a profile at all, and not the zero value.
func (a Admitted) OK() bool { return a.in != nil }

// Profile gives the settings as they were decided.
func (a Admitted) Profile() profile.Effective {
	if a.in == nil {
		return profile.Effective{}
	}
	return a.in.profile
}

// Again reports, as a *Refused, whether the profile still is what was admitted. A run that goes
// on for long asks before each attempt.
func (a Admitted) Again() error {
	switch {
	case a.in == nil:
		return &Refused{Why: "it was never admitted."}
	case a.in.again == nil:
		return nil
	}
	return a.in.again()
}

// SSH gives the SSH configuration that was read for the agreement, by which a project's hops go;
// false where no project has a part in the profile.
func (a Admitted) SSH() (jump.Config, bool) {
	if a.in == nil || a.in.ssh == nil {
		return jump.Config{}, false
	}
	return *a.in.ssh, true
}

// ReadFile gives the content of a file that the profile names, of at most limit bytes: for a file
// of the project's the bytes that were hashed.
func (a Admitted) ReadFile(path string, limit int64) ([]byte, error) {
	if a.in != nil {
		if data, ok := a.in.contents[path]; ok {
			if int64(len(data)) > limit {
				return nil, &fs.PathError{Op: "read", Path: path, Err: files.ErrTooLarge}
			}
			return data, nil
		}
	}
	return files.Read(path, limit)
}

// Over gives the profile with a layer of the user's own over it, such as an answer that was just
// typed. A layer in which a project has a part changes nothing.
func (a Admitted) Over(layer profile.Layer) Admitted {
	if a.in == nil {
		return a
	}
	for _, v := range layer {
		if v.Origin.Project != "" {
			return a
		}
	}
	changed := *a.in
	changed.profile = a.in.profile.Over(layer)
	if at := changed.profile.AliasAt; at.Project != "" && at != a.in.profile.AliasAt {
		return a
	}
	return Admitted{&changed}
}

// WithoutExpectations gives the profile without what it expects of a test.
func (a Admitted) WithoutExpectations() Admitted {
	if a.in == nil {
		return a
	}
	changed := *a.in
	changed.profile.Values = maps.Clone(changed.profile.Values)
	maps.DeleteFunc(changed.profile.Values, func(setting string, _ profile.Value) bool {
		s, _ := profile.Find(setting)
		return s.Flag == "expect"
	})
	return Admitted{&changed}
}

// Look gives the profile for a look of this program's own at its server: nothing is expected of
// it, and nothing is run when it opens.
func (a Admitted) Look() Admitted {
	if a.in == nil {
		return a
	}
	return a.WithoutExpectations().WithoutOpening()
}

// WithoutOpening gives the profile without the statements that it runs when a session opens.
func (a Admitted) WithoutOpening() Admitted {
	if a.in == nil {
		return a
	}
	changed := *a.in
	changed.profile.OnOpen = nil
	return Admitted{&changed}
}

// Database is Look at another database of the same server.
func (a Admitted) Database(name string) Admitted {
	if a.in == nil {
		return a
	}
	changed := *a.Look().in
	changed.profile.Database = name
	return Admitted{&changed}
}

// Command gives how a program that prints the secret is to be started. A project's program is
// started in an empty folder, and one that is inside the project from a private copy of the bytes
// that were hashed, which is open already when it is started.
func (a Admitted) Command(args []string) (p secret.Program, err error) {
	p = secret.Program{Words: args, Done: func() {}}
	if a.in == nil || a.in.profile.Values["secret"].Origin.Project == "" {
		return p, nil
	}
	folder, err := files.TempFolder(a.in.temp, "gharbor-")
	if err != nil {
		return p, err
	}
	p.Done = func() {
		if p.File != nil {
			_ = p.File.Close()
		}
		_ = os.RemoveAll(folder)
	}
	p.Dir = filepath.Join(folder, "empty")
	err = os.Mkdir(p.Dir, 0o700)
	if data, ok := a.in.contents[args[0]]; ok && err == nil {
		p.Words = slices.Clone(args)
		p.Words[0] = filepath.Join(folder, filepath.Base(args[0]))
		if err = os.WriteFile(p.Words[0], data, 0o500); err == nil {
			p.File, err = os.Open(p.Words[0])
		}
	}
	if err != nil {
		p.Done()
	}
	return p, err
}
