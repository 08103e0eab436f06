// Package agree says what a profile that comes with a project may do: nothing, until the user has agreed to it.
//
// An [Admitted] profile is the only thing that connections, look-ups, programs and secrets are made from. It holds the
// settings that were decided, and the bytes of the project's files that were hashed for the agreement, so that nothing which
// changes afterwards has a part in a connection. There are three ways to one: [Own] for layers in which no project has a
// part, [Gate.Admit] for a saved profile, and [Gate.Try] for one that is being written. The zero value opens nothing.
package agree

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"iter"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/profile"
)

func mapsKeys[V any](m map[string]V) iter.Seq[string] { return maps.Keys(m) }

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
	again    func() error // nil where nothing can change
}

// Own admits layers, highest first, in which no project has a part. It fails when one has.
func Own(name string, layers ...profile.Layer) (Admitted, error) {
	for _, layer := range layers {
		for setting, v := range layer {
			if v.Origin.Project != "" {
				return Admitted{}, &Refused{name, fmt.Sprintf("its setting %s comes from the project %s.", setting, v.Origin.Project)}
			}
		}
	}
	return Admitted{&admitted{profile: profile.Resolve(name, layers...)}}, nil
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

// Again reports, as a *Refused, whether the profile still is what was admitted. A run that goes on for long asks before
// each attempt.
func (a Admitted) Again() error {
	switch {
	case a.in == nil:
		return &Refused{Why: "it was never admitted."}
	case a.in.again == nil:
		return nil
	}
	return a.in.again()
}

// ReadFile gives the content of a file that the profile names, of at most limit bytes: for a file of the project's the
// bytes that were hashed.
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

// Over gives the profile with a layer of the user's own over it, such as an answer that was just typed. A layer in which a
// project has a part changes nothing.
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
	changed.profile = profile.Resolve(a.in.profile.Name, layer, a.in.profile.Values)
	return Admitted{&changed}
}

// Database gives the profile for a look at another database of the same server: nothing is run when it opens.
func (a Admitted) Database(name string) Admitted {
	if a.in == nil {
		return a
	}
	changed := *a.in
	changed.profile.Database, changed.profile.OnOpen = name, nil
	return Admitted{&changed}
}

// Command gives how a program that prints the secret is to be started: its words, and the folder to start it in, ""
// for the current one. A project's program is started in an empty folder, and one that is inside the project from a
// private copy of the bytes that were hashed. Done takes both away again.
func (a Admitted) Command(args []string) (run []string, dir string, done func(), err error) {
	done = func() {}
	if a.in == nil || a.in.profile.Values["secret"].Origin.Project == "" {
		return args, "", done, nil
	}
	folder, err := os.MkdirTemp("", "gharbor-")
	if err != nil {
		return nil, "", done, err
	}
	done = func() { _ = os.RemoveAll(folder) }
	run, dir = slices.Clone(args), filepath.Join(folder, "empty")
	if err := os.Mkdir(dir, 0o700); err != nil {
		done()
		return nil, "", func() {}, err
	}
	if data, ok := a.in.contents[args[0]]; ok {
		run[0] = filepath.Join(folder, filepath.Base(args[0]))
		if err := os.WriteFile(run[0], data, 0o500); err != nil {
			done()
			return nil, "", func() {}, err
		}
	}
	return run, dir, done, nil
}

// Agreement is a user's consent to terms.
type Agreement struct {
	Project string    `json:"project"`
	Profile string    `json:"profile"`
	Digest  string    `json:"digest"`
	Terms   *Terms    `json:"terms,omitempty"` // nil for one of an older format
	When    time.Time `json:"when"`
}

// Agreements are kept in one file of the state folder.
type Agreements struct{ File string }

// maxAgreements bounds the file of agreements.
const maxAgreements = 4 << 20

// List gives all agreements, in the order in which they were made.
func (a Agreements) List() ([]Agreement, error) {
	data, err := files.Read(a.File, maxAgreements)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var list []Agreement
	if err := json.Unmarshal(data, &list); err != nil {
		return nil, fmt.Errorf("%s is damaged; remove it, and agree again to what you trust", a.File)
	}
	return list, nil
}

// Standing says how terms stand to what was agreed to.
type Standing struct {
	Agreed bool
	// Before is the agreement to other terms of the same name, nil when there is none.
	Before *Agreement
}

// Standing compares terms with what was agreed to under their name.
func (a Agreements) Standing(t Terms) (Standing, error) {
	list, err := a.List()
	var s Standing
	for _, each := range list {
		if each.Project == t.Project && each.Profile == t.Profile {
			s.Before = &each
			s.Agreed = s.Agreed || each.Terms != nil && each.Digest == t.Digest()
		}
	}
	return s, err
}

// Why says in a sentence why terms that are not agreed to are asked for.
func (s Standing) Why() string {
	switch {
	case s.Before == nil:
		return "nobody here has said yet that it is trusted."
	case s.Before.Terms == nil || s.Before.Terms.Format != Format:
		return "you agreed to it in an older version, which did not keep what it said; please look at it once more."
	}
	return "it has changed since you agreed to it."
}

// Agree notes the agreement to terms, in the place of an earlier one of the same name.
func (a Agreements) Agree(ctx context.Context, t Terms, now time.Time) error {
	return a.update(ctx, func(list []Agreement) []Agreement {
		return append(without(list, t.Project, t.Profile), Agreement{t.Project, t.Profile, t.Digest(), &t, now.UTC().Truncate(time.Second)})
	})
}

// Withdraw takes the agreement to a profile back; it tells whether there was one.
func (a Agreements) Withdraw(ctx context.Context, project, name string) (was bool, err error) {
	err = a.update(ctx, func(list []Agreement) []Agreement {
		kept := without(list, project, name)
		was = len(kept) < len(list)
		return kept
	})
	return was, err
}

func without(list []Agreement, project, name string) []Agreement {
	return slices.DeleteFunc(slices.Clone(list), func(a Agreement) bool { return a.Project == project && a.Profile == name })
}

func (a Agreements) update(ctx context.Context, change func([]Agreement) []Agreement) error {
	unlock, err := files.Lock(ctx, filepath.Join(filepath.Dir(a.File), ".lock"))
	if err != nil {
		return err
	}
	defer unlock()
	list, err := a.List()
	if err != nil {
		return err
	}
	data, err := json.MarshalIndent(change(list), "", "  ")
	if err != nil {
		return err
	}
	return files.Write(a.File, append(data, '\n'), 0o600)
}

// Gate admits profiles of a library.
type Gate struct {
	Library    profile.Library
	Agreements Agreements
	// Ask asks a person whether they agree to terms; nil where nobody can be asked.
	Ask func(ctx context.Context, s profile.Stack, t Terms, standing Standing) (bool, error)
	// Now is the clock; nil for time.Now.
	Now func() time.Time
}

// Admit admits a saved profile, with layers of this run over what its files say. The error is a *Refused when it comes
// from a project and was not agreed to.
func (g Gate) Admit(ctx context.Context, s profile.Stack, over ...profile.Layer) (Admitted, error) {
	return g.admit(ctx, s, func(t Terms) (Standing, error) { return g.Agreements.Standing(t) }, over)
}

// Try admits a profile that is being written and is not saved yet: a project's base or group has a part in it only when
// everything that it says there was agreed to with some profile.
func (g Gate) Try(ctx context.Context, s profile.Stack, over ...profile.Layer) (Admitted, error) {
	return g.admit(ctx, s, func(t Terms) (Standing, error) {
		standing, err := g.Agreements.Standing(t)
		list, e := g.Agreements.List()
		for _, each := range list {
			standing.Agreed = standing.Agreed || each.Terms != nil && t.within(*each.Terms)
		}
		return standing, errors.Join(err, e)
	}, over)
}

func stranger(s profile.Stack, over []profile.Layer) bool {
	for _, layer := range append(slices.Clone(over), s.Layers...) {
		for _, v := range layer {
			if v.Origin.Project != "" {
				return true
			}
		}
	}
	return false
}

func (g Gate) admit(ctx context.Context, s profile.Stack, judge func(Terms) (Standing, error), over []profile.Layer) (Admitted, error) {
	if !stranger(s, over) && !s.Stranger {
		return Admitted{&admitted{profile: s.Resolve(over...)}}, nil
	}
	for _, layer := range over {
		if _, err := Own(s.Name, layer); err != nil {
			return Admitted{}, err
		}
	}
	t, err := Of(g.Library, s)
	if err != nil {
		return Admitted{}, &Refused{s.Name, strings.TrimSuffix(err.Error(), ".") + "."}
	}
	standing, err := judge(t)
	if err != nil {
		return Admitted{}, err
	}
	if !standing.Agreed {
		if g.Ask == nil {
			return Admitted{}, &Refused{s.Name, standing.Why()}
		}
		agreed, err := g.Ask(ctx, s, t, standing)
		if err != nil {
			return Admitted{}, err
		}
		if !agreed {
			return Admitted{}, &Refused{s.Name, standing.Why()}
		}
		now := time.Now
		if g.Now != nil {
			now = g.Now
		}
		if err := g.Agreements.Agree(ctx, t, now()); err != nil {
			return Admitted{}, fmt.Errorf("the agreement could not be noted: %w", err)
		}
	}
	in := &admitted{profile: s.Resolve(over...), contents: t.contents}
	in.again = func() error { return g.same(s, t, judge) }
	return Admitted{in}, nil
}

// same reports whether a profile still says what was admitted, and is still agreed to.
func (g Gate) same(s profile.Stack, before Terms, judge func(Terms) (Standing, error)) error {
	changed := &Refused{s.Name, "it has changed since this command began."}
	name := s.Bare
	if s.Store.Project {
		name = "project:" + s.Bare
	} else {
		name = "mine:" + name
	}
	now, err := g.Library.Load(name)
	if errors.Is(err, profile.ErrUnknown) {
		now, err = s, nil // it is being written
	}
	if err != nil {
		return changed
	}
	t, err := Of(g.Library, now)
	if err != nil || t.Digest() != before.Digest() {
		return changed
	}
	standing, err := judge(t)
	if err != nil || !standing.Agreed {
		return &Refused{s.Name, "your agreement to it was withdrawn."}
	}
	return nil
}
