package harbor

import (
	"context"
	"path/filepath"

	"gentle-harbor/internal/audit"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/route/jump"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/target"
)

// Audited is what an audit found. Looked is how many files, profiles and entries it looked at,
// Left how many findings of each severity were not fixed.
type Audited struct {
	Findings []audit.Finding
	Looked   int
	Fixed    int
	Left     map[audit.Severity]int
}

// Audit looks over files, references and passwords for what is unsafe. With fix, the modes of
// files are set right; with all, each finding is listed, also where there are many of a kind.
func (r Run) Audit(ctx context.Context, fix, all bool) (Audited, error) {
	a := Audited{Left: map[audit.Severity]int{}}
	scope := audit.Scope{Env: r.Env, Now: r.Now(), All: all, CertVariables: world.CertVariables}
	var err error
	if scope.Home, err = r.Home(); err != nil {
		return a, err
	}
	if scope.State, err = r.State(); err != nil {
		return a, err
	}
	if scope.Library, err = r.Library(); err != nil {
		return a, err
	}
	gate, err := r.Gate(scope.Library)
	if err != nil {
		return a, err
	}
	gate.Ask = nil // an audit asks nobody to agree to anything
	scope.Admitted = func(stack profile.Stack) (profile.Effective, bool) {
		in, err := gate.Admit(ctx, stack)
		if err != nil {
			return profile.Effective{}, false
		}
		return in.Profile(), true
	}
	own, err := r.KnownHosts()
	if err != nil {
		return a, err
	}
	config := r.SSHConfig()
	scope.Hops = func(hops []target.Hop) []jump.Seen { return config.Look(hops, own) }
	for i, dir := range r.WalletDirs() {
		o := audit.Opened{Wallet: r.WalletAt(dir)}
		if i > 0 {
			o.Name = filepath.Base(dir)
		}
		if o.Wallet.Exists() {
			o.Contents, o.Err = r.Keeper(dir).Open(ctx, secret.Searched)
			if o.Err != nil {
				if _, err := finding.AsProblem(o.Err); err != nil {
					return a, err
				}
			}
		}
		scope.Wallets = append(scope.Wallets, o)
	}
	a.Findings, a.Looked = scope.Run()
	clouds, looked, err := r.clouds().Audit(ctx)
	if err != nil {
		return a, err
	}
	a.Findings, a.Looked = append(a.Findings, clouds...), a.Looked+looked
	if fix {
		audit.Fix(a.Findings)
	}
	for _, f := range a.Findings {
		if f.Fixed {
			a.Fixed++
		} else {
			a.Left[f.Severity] += 1 + f.More
		}
	}
	return a, nil
}
