package harbor

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/secret"
)

// Export gives a profile for other programs. With withSecret its password comes along, for which a project's profile must
// be agreed to. A password that cannot be found is a *finding.Problem.
func (r *Run) Export(ctx context.Context, name string, withSecret bool) (profile.Effective, secret.Secret, error) {
	r.Harmless = !withSecret
	to, err := r.Load(ctx, name, false)
	if err == nil && to.InContainer() {
		return r.exportContainer(ctx, name, withSecret)
	}
	if err == nil && to.InCloud() {
		return r.exportCloud(ctx, name, withSecret)
	}
	if err != nil || !withSecret {
		return to.Effective, secret.Secret{}, err
	}
	if !to.Admitted.OK() {
		return to.Effective, secret.Secret{}, Wrong("%s comes from a project, and %s See it with gharbor agree %s", to.Name, to.NotAgreed, to.Name)
	}
	s, err := r.password(ctx, to)
	return to.Effective, s, err
}

// exportContainer gives a container's profile with the address that leads to it now.
func (r *Run) exportContainer(ctx context.Context, name string, withSecret bool) (profile.Effective, secret.Secret, error) {
	r.Harmless = false // the container is looked up
	to, err := r.Load(ctx, name, false)
	if err != nil {
		return to.Effective, secret.Secret{}, err
	}
	if !to.Admitted.OK() {
		return to.Effective, secret.Secret{}, Wrong("%s comes from a project, and %s See it with gharbor agree %s", to.Name, to.NotAgreed, to.Name)
	}
	_, at, err := r.lookUp(ctx, to.Effective)
	if p, _ := finding.AsProblem(err); p != nil {
		return to.Effective, secret.Secret{}, Wrong("%s", finding.Make(p.Code, finding.About{Facts: p.Facts}).Cause)
	}
	if err != nil {
		return to.Effective, secret.Secret{}, err
	}
	if via, _ := r.engineHops(); len(via) > 0 {
		return to.Effective, secret.Secret{}, Wrong("%s is reached through its container engine's machine by SSH, so that no address can be written for other programs; gharbor with %s -- PROGRAM lets one in", to.Name, to.Name)
	}
	if at.Dial != nil {
		return to.Effective, secret.Secret{}, Wrong("%s is reached by a stream through its container engine alone, so that no address can be written for other programs; gharbor with %s -- PROGRAM lets one in", to.Name, to.Name)
	}
	r.Note("the container is at %s now; another start may change that", at)
	e := to.Effective.AtAddress(at.Host, at.Port)
	if !withSecret {
		return e, secret.Secret{}, nil
	}
	s, err := r.password(ctx, to)
	return e, s, err
}

// exportCloud gives a cloud's profile with the address and the authority that its cloud says now.
func (r *Run) exportCloud(ctx context.Context, name string, withSecret bool) (profile.Effective, secret.Secret, error) {
	r.Harmless = false // the cloud is asked
	to, err := r.Load(ctx, name, false)
	if err != nil {
		return to.Effective, secret.Secret{}, err
	}
	if !to.Admitted.OK() {
		return to.Effective, secret.Secret{}, Wrong("%s comes from a project, and %s See it with gharbor agree %s", to.Name, to.NotAgreed, to.Name)
	}
	e, err := r.concrete(ctx, to.Effective)
	if err != nil {
		return to.Effective, secret.Secret{}, wordCloud(err)
	}
	if e.TakesLogin() && !withSecret {
		r.Note("its user comes with a temporary login, which is taken at each connection; gharbor with %s -- PROGRAM hands one over", name)
	}
	r.Note("the cloud says that it is at %s now; that may change", e.Place())
	if !withSecret {
		return e, secret.Secret{}, nil
	}
	found, err := r.held(ctx, to, secret.Secret{})
	if err != nil {
		return e, secret.Secret{}, wordCloud(err)
	}
	if e.User == "" {
		e.User = found.Source.User
		r.Note("the login is a temporary one: %s", found.Source)
	}
	s, err := found.Secret(nil)
	return e, s, err
}

// password gives a profile's secret to be written out.
func (r *Run) password(ctx context.Context, to Aim) (secret.Secret, error) {
	found, err := r.held(ctx, to, secret.Secret{})
	if err != nil {
		return secret.Secret{}, err
	}
	return found.Secret(nil)
}

// NewFile makes a file that was not there, for its owner alone.
func (r *Run) NewFile(path, text string) error {
	path = r.Path(path)
	file, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return Wrong("%s is there already, and is not overwritten; name another file", path)
	}
	if err != nil {
		return Wrong("%s could not be made: %v", path, err)
	}
	_, err = file.WriteString(text)
	if e := file.Close(); err == nil {
		err = e
	}
	if err != nil {
		_ = os.Remove(path)
		return Wrong("%s could not be written: %v", path, err)
	}
	return nil
}

// NewFolder makes a folder that was not there, for its owner alone, with a file for each pair. It gives the folder's path.
func (r *Run) NewFolder(folder string, entries []profile.Pair) (string, error) {
	folder = r.Path(folder)
	if err := os.MkdirAll(filepath.Dir(folder), 0o755); err != nil {
		return folder, Wrong("%s could not be made: %v", folder, err)
	}
	if err := os.Mkdir(folder, 0o700); errors.Is(err, fs.ErrExist) {
		return folder, Wrong("%s is there already, and is not overwritten; name another folder", folder)
	} else if err != nil {
		return folder, Wrong("%s could not be made: %v", folder, err)
	}
	for _, entry := range entries {
		if err := r.NewFile(filepath.Join(folder, entry.Name), entry.Value); err != nil {
			return folder, err
		}
	}
	return folder, nil
}

// ReplaceFile writes a report's file, in the place of an older one and in one step. A link is replaced, and what it led
// to stays as it is; a device, a pipe and what the system shows as a file of its own are written to.
func (r *Run) ReplaceFile(path, text string) error {
	if err := files.Deliver(r.Path(path), []byte(text)); err != nil {
		return Wrong("the report could not be written: %v", err)
	}
	return nil
}
