package profile

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/secret"
)

// Agreement is a user's consent to what a project's profile does.
type Agreement struct {
	Project string    `json:"project"` // the project's folder of profiles
	Profile string    `json:"profile"` // the name; a variant of the user's own is "mine:NAME"
	Digest  string    `json:"digest"`  // of all that was agreed to
	When    time.Time `json:"when"`
}

// Agreements are kept in one file of the state folder.
type Agreements struct{ File string }

// Terms is what an agreement to a profile covers.
type Terms struct {
	Project, Profile string
	// Lines says all of it, for people: each setting, and each file or program with the digest of its content.
	Lines []string
}

// Digest gives the fingerprint of the terms (SHA-256, in hexadecimal digits).
func (t Terms) Digest() string {
	sum := sha256.Sum256([]byte(strings.Join(append([]string{t.Project, t.Profile}, t.Lines...), "\x00")))
	return hex.EncodeToString(sum[:])
}

// TermsOf collects what agreeing to a stack means: its effective way, its references and statements, and a
// digest of every program and file inside the project that it names. It is made of what files say; what flags and variables
// change is the user's own doing.
func (l Library) TermsOf(s Stack) (Terms, error) {
	e := s.Resolve()
	terms := Terms{Project: l.Project.Dir, Profile: s.Bare}
	if !s.Store.Project {
		terms.Profile = "mine:" + s.Bare
	}
	var named []string
	for _, name := range e.Values.Names() {
		if strings.HasPrefix(name, "labels.") || name == "note" || name == "base" {
			continue // words for people change nothing
		}
		v := e.Values[name]
		terms.Lines = append(terms.Lines, strings.ReplaceAll(name, ".", " ")+": "+v.Text)
		if setting, _ := Find(name); setting.Kind == Path && name != "socket" {
			named = append(named, place(v))
		}
	}
	if e.Secret.Kind == secret.Command {
		if program, err := exec.LookPath(e.Secret.Args[0]); err == nil {
			named = append(named, program)
		}
		for _, arg := range e.Secret.Args[1:] {
			if info, err := os.Stat(arg); err == nil && info.Mode().IsRegular() {
				named = append(named, arg)
			}
		}
	}
	for _, path := range named {
		if l.Project.inside(path) != nil {
			continue // it is not the project's to change
		}
		sum, err := digestOf(path)
		if err != nil {
			return terms, fmt.Errorf("%s cannot be read, so that nobody can agree to it: %w", path, err)
		}
		terms.Lines = append(terms.Lines, "content of "+path+": SHA-256 "+sum)
	}
	return terms, nil
}

// maxDigest bounds the files that are read for an agreement.
const maxDigest = 64 << 20

func digestOf(path string) (string, error) {
	file, _, err := files.Open(path)
	if err != nil {
		return "", err
	}
	defer file.Close()
	h := sha256.New()
	n, err := io.Copy(h, io.LimitReader(file, maxDigest+1))
	if err == nil && n > maxDigest {
		err = errors.New("it is larger than 64 MB")
	}
	return hex.EncodeToString(h.Sum(nil)), err
}

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

// Covers tells whether terms were agreed to, just as they are now; before tells of an agreement to others of
// the same name.
func (a Agreements) Covers(t Terms) (agreed, before bool, err error) {
	list, err := a.List()
	for _, each := range list {
		if each.Project == t.Project && each.Profile == t.Profile {
			before = true
			agreed = agreed || each.Digest == t.Digest()
		}
	}
	return agreed, before, err
}

// Agree notes the agreement to terms, in the place of an earlier one of the same name.
func (a Agreements) Agree(ctx context.Context, t Terms, now time.Time) error {
	return a.update(ctx, func(list []Agreement) []Agreement {
		return append(without(list, t.Project, t.Profile), Agreement{t.Project, t.Profile, t.Digest(), now.UTC().Truncate(time.Second)})
	})
}

// Withdraw takes the agreement to a profile back; it tells whether there was one.
func (a Agreements) Withdraw(ctx context.Context, project, profile string) (was bool, err error) {
	err = a.update(ctx, func(list []Agreement) []Agreement {
		kept := without(list, project, profile)
		was = len(kept) < len(list)
		return kept
	})
	return was, err
}

func without(list []Agreement, project, profile string) []Agreement {
	return slices.DeleteFunc(slices.Clone(list), func(a Agreement) bool { return a.Project == project && a.Profile == profile })
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
