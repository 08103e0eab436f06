package agree

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"time"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/outside/budget"
)

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
	data, err := files.ReadOwn(a.File, maxAgreements)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var list []Agreement
	if err := budget.Unmarshal(data, &list); err != nil {
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
		return "you agreed to it in an older version, which did not record what it said; please look at it once more."
	}
	return "it has changed since you agreed to it."
}

// Agree notes the agreement to terms, instead of an earlier one of the same name.
func (a Agreements) Agree(ctx context.Context, t Terms, now time.Time) error {
	return a.update(ctx, func(list []Agreement) []Agreement {
		return append(without(list, t.Project, t.Profile),
			Agreement{t.Project, t.Profile, t.Digest(), &t, now.UTC().Truncate(time.Second)})
	})
}

// Withdraw takes the agreement to a profile back; it reports whether there was one.
func (a Agreements) Withdraw(ctx context.Context, project, name string) (was bool, err error) {
	err = a.update(ctx, func(list []Agreement) []Agreement {
		kept := without(list, project, name)
		was = len(kept) < len(list)
		return kept
	})
	return was, err
}

func without(list []Agreement, project, name string) []Agreement {
	return slices.DeleteFunc(slices.Clone(list), func(a Agreement) bool {
		return a.Project == project && a.Profile == name
	})
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
