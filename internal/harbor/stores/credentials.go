package stores

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/secret/keep/credentials"
	"gentle-harbor/internal/target"
)

// AddCredential puts an entry into a credential file, or changes it. Was says that there was one.
func (r Stores) AddCredential(ctx context.Context, path string, to target.Target, s secret.Secret,
	replace bool) (was bool, err error) {
	err = r.ChangeCredentials(ctx, path, func(data []byte) (changed []byte, err error) {
		changed, was, err = credentials.Add(data, path, to, s)
		if err == nil && was && !replace {
			return nil, ErrStored
		}
		return changed, err
	})
	return was, err
}

// RemoveCredential takes an entry out of a credential file.
func (r Stores) RemoveCredential(ctx context.Context, path string, of target.Target) error {
	return r.ChangeCredentials(ctx, path, func(data []byte) ([]byte, error) {
		changed, removed, err := credentials.Remove(data, path, of)
		if err == nil && removed == 0 {
			err = world.Wrong("%s has no entry for %s at %s. To see its entries: gharbor credentials list",
				path, of.User, of.Endpoint)
		}
		return changed, err
	})
}

// ChangeCredentials reads a credential file, lets change do its work on it, and writes it, while
// no other gharbor does.
func (r Stores) ChangeCredentials(ctx context.Context, path string, change func(data []byte) ([]byte, error)) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	if p := secret.GuardFolder(filepath.Dir(path)); p != nil {
		return p
	}
	unlock, err := files.Lock(ctx, filepath.Join(filepath.Dir(path), ".lock"))
	if err != nil {
		return err
	}
	defer unlock()
	// What a writer that was killed has left holds passwords too.
	left, _ := filepath.Glob(filepath.Join(filepath.Dir(path), ".new-*"))
	for _, each := range left {
		_ = os.Remove(each)
	}
	var data []byte
	if _, err := os.Lstat(path); !errors.Is(err, fs.ErrNotExist) {
		if data, err = secret.ReadGuarded(path, credentials.MaxSize); err != nil {
			return err
		}
		if len(data) == 0 {
			data = []byte(credentials.Header + "\n")
		}
	}
	changed, err := change(data)
	if err != nil {
		return err
	}
	if err := files.Write(path, changed, 0o600); err != nil {
		return world.Wrong("%s could not be written, and stands as it was: %v", path, err)
	}
	return nil
}

// Judged is an entry of a credential file beside a profile: whether it serves the profile, or why
// not.
type Judged struct {
	credentials.Entry
	Serves  bool
	Differs []string
	Near    bool // it has the profile's user or address, or differs in one thing alone
}

// JudgeCredentials says of each entry of a credential file whether it serves a profile. The
// profile is one that [Run.Admitted] gave; problem is set when none serves.
func (r Stores) JudgeCredentials(path, name string, e profile.Effective) (judged []Judged, serves int, problem,
	err error) {
	to := e.Target()
	if to.User == "" {
		return nil, 0, nil, world.Wrong("%s says no user, so that no entry can serve it; say one with gharbor "+
			"change %s --user NAME",
			name, name)
	}
	list, err := credentials.Read(path)
	if err != nil {
		return nil, 0, nil, err
	}
	best, problem := credentials.Match(path, to)
	for _, each := range list {
		row := Judged{Entry: each, Serves: problem == nil && each.Line == best.Line, Differs: each.Target.Differs(to)}
		if len(row.Differs) == 0 && !row.Serves && problem == nil {
			row.Differs = []string{fmt.Sprintf("line %d is more specific", best.Line)}
		}
		row.Near = each.Target.User == to.User || each.Target.Place() == to.Place() || len(row.Differs) < 2
		judged = append(judged, row)
	}
	return judged, best.Line, problem, nil
}

// CredentialFile gives the path of the credential file that a command is about: the one that it
// names, else the one that the profile's reference names, else the one in the user's own folder.
func (r Stores) CredentialFile(named, of string) (string, error) {
	home, err := r.Home()
	switch ref := r.Reference(of); {
	case err != nil:
		return "", err
	case named != "":
		return r.Path(named), nil
	case ref.Kind == secret.Credentials && ref.Of != "":
		return ref.Of, nil
	}
	return filepath.Join(home, "credentials"), nil
}

// CheckCredentials gives how many entries a credential file has, and what is wrong with it.
func CheckCredentials(path string) (entries int, list []credentials.Trouble, err error) {
	data, err := secret.ReadGuarded(path, credentials.MaxSize)
	var p *finding.Problem
	if errors.As(err, &p) && p.Code == finding.SecretFileMissing {
		p.Code, p.Facts[finding.FactDetail] = finding.SecretCredentialsMissing,
			strings.Replace(p.Facts[finding.FactDetail], "no file", "no credential file", 1)
	}
	if err != nil {
		return 0, nil, err
	}
	return credentials.Check(data, path)
}
