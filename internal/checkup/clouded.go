package checkup

import (
	"context"
	"crypto/tls"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"gentle-harbor/internal/agree"
	"gentle-harbor/internal/cloud"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/target"
)

// locatorOf gives what asks the cloud of a profile's server, nil for another profile.
func (c Checker) locatorOf(p profile.Effective) *cloud.Locator {
	if !p.InCloud() {
		return nil
	}
	if c.Clouds.Locator != nil {
		return c.Clouds.Locator(p)
	}
	info, _ := known.Info(p.Engine)
	return &cloud.Locator{Want: p.Clouded, Info: info, Client: func(context.Context) (*cloud.Client, error) {
		return nil, &finding.Problem{Code: finding.CloudSignedOut,
			Facts: finding.Facts{finding.FactCloudAccount: p.Clouded.Account}}
	}}
}

// inCloud walks the leg "cloud": it comes before the secret, which is kept for the server that
// the cloud finds. The error is a *finding.Problem, or that of asking a person.
func (w *walk) inCloud(encryption *tls.Config) error {
	if w.cloud == nil {
		return nil
	}
	var found *cloud.Found
	if err := w.unhurried(func() (err error) {
		found, err = w.cloud.Find(w.ctx)
		return err
	}); err != nil {
		return err
	}
	w.profile = w.profile.At(found.Located())
	w.met = place{w.profile.Host, w.profile.Port, w.profile.Socket}
	w.report.ServerID = found.ID
	if encryption != nil {
		if found.Authorities != nil && w.profile.TLS.CA == "" {
			encryption.RootCAs = found.Authorities
		}
		if w.profile.TLS.ServerName == "" {
			encryption.ServerName = found.CertificateName
		}
	}
	w.pass("cloud", found.Saw(w.profile.Clouded))
	return nil
}

// cloudLogin has the cloud of a profile's server give a temporary login.
func (c Checker) cloudLogin(l *cloud.Locator) func(context.Context, target.Target) (secret.Secret,
	secret.Source, error) {
	if l == nil || c.Clouds.Logins == nil {
		return nil
	}
	return func(ctx context.Context, to target.Target) (secret.Secret, secret.Source, error) {
		found, err := l.Find(ctx)
		if err != nil {
			return secret.Secret{}, secret.Source{}, err
		}
		login, err := c.Clouds.Logins.Get(ctx, found.Client, found.ID, to.User, to.Database)
		if err != nil {
			return secret.Secret{}, secret.Source{}, err
		}
		return login.Password, secret.Source{Kind: secret.Cloud, User: login.User,
			Saw: "a temporary login of the cloud as " + login.User + ", until " +
				login.Until.Local().Format("15:04:05")}, nil
	}
}

// located gives a profile as its cloud says now, for who has not walked its route.
func (c Checker) located(ctx context.Context, p profile.Effective) (profile.Effective, error) {
	l := c.locatorOf(p)
	if l == nil || p.Server != "" {
		return p, nil
	}
	found, err := l.Find(ctx)
	if err != nil {
		return p, err
	}
	return p.At(found.Located()), nil
}

// Locate gives a profile as its cloud says now: the server's id, its address, and its authority.
// The error is a *finding.Problem, or that of asking a person.
func (c Checker) Locate(ctx context.Context, a agree.Admitted) (*cloud.Found, error) {
	l := c.locatorOf(a.Profile())
	if l == nil {
		return nil, nil
	}
	return l.Find(ctx)
}

// askTime is how long the cloud may be asked after a failure on the way to its server.
const askTime = 5 * time.Second

// notAdmitted makes silence on the way to a cloud's server one of its network, where the cloud
// says that it does not let this machine in. What the cloud says otherwise is added to what was
// seen.
func (w *walk) notAdmitted(p *finding.Problem) *finding.Problem {
	if w.cloud == nil || len(w.profile.Via) > 0 || w.checker.NoEvidence ||
		w.profile.Clouded.Address == target.PrivateAddress ||
		!slices.Contains([]finding.Code{finding.PortSilent, finding.PortRefused, finding.PortReset,
			finding.PortUnreachable, finding.GreetingSilent, finding.GreetingClosed}, p.Code) {
		return p
	}
	found := w.cloud.Last()
	at, err := netip.ParseAddrPort(w.address)
	if found == nil || err != nil {
		return p
	}
	ctx, cancel := context.WithTimeout(w.parent, askTime)
	defer cancel()
	family := 6
	if at.Addr().Unmap().Is4() {
		family = 4
	}
	standing, err := found.Client.Standing(ctx, found.ID, family)
	if err != nil {
		if known, _ := finding.AsProblem(err); known != nil {
			w.cloudSeen = append(w.cloudSeen,
				fmt.Sprintf("the cloud could not be asked over IPv%d whether this machine is let in: %s",
					family, finding.Make(known.Code, finding.About{Facts: known.Facts}).Cause))
		}
		return p
	}
	if standing.Admitted() {
		w.cloudSeen = append(w.cloudSeen,
			fmt.Sprintf("the cloud sees this machine as %s, and lets it in (%s)", standing.Caller, standing.Ranges()))
		return p
	}
	facts := finding.Facts{finding.FactCaller: standing.Caller.String(), finding.FactRanges: standing.Ranges(),
		finding.FactAdmit: w.admit()}
	w.cloudSeen = append(w.cloudSeen, "at the server itself: "+w.headline(p, w.about(p)))
	return &finding.Problem{Code: finding.CloudNotAdmitted, Err: p, Facts: facts}
}

// admit gives the profile, or the server, that is to let this machine in.
func (w *walk) admit() string {
	aside := slices.ContainsFunc(w.checker.Command.Flags, func(flag []string) bool {
		return slices.Contains([]string{"--cloud", "--host", "--socket", "--alias", "--container"}, flag[0])
	})
	if w.profile.Name == "" || w.checker.Command.Unsaved || aside {
		return w.profile.Clouded.String()
	}
	return w.profile.Name
}

// aboutCloud gives the facts of a cloud's server that remedies name.
func (w *walk) aboutCloud(facts finding.Facts) {
	p := w.profile
	if !p.InCloud() {
		return
	}
	facts[finding.FactCloudAccount], facts[finding.FactCloudServer] = p.Clouded.Account, p.Clouded.String()
	facts[finding.FactCloudName], facts[finding.FactCloudTitle] = p.Clouded.Server, "The "+strings.TrimPrefix(p.Clouded.Title(),
		"the ")
}

// seenOfCloud lists what the cloud said.
func (w *walk) seenOfCloud(f *finding.Problem, about finding.Facts) []string {
	var seen []string
	if f.Code.Leg() == "cloud" {
		for _, line := range []struct {
			fact  finding.Fact
			words string
		}{
			{finding.FactNames, "there are: %s"}, {finding.FactRanges, "let in: %s"},
		} {
			if about[line.fact] != "" {
				seen = append(seen, fmt.Sprintf(line.words, about[line.fact]))
			}
		}
		for _, line := range f.Tried {
			seen = append(seen, w.clean(line))
		}
	}
	for _, line := range w.cloudSeen {
		seen = append(seen, w.clean(line))
	}
	return seen
}

// whoGoesIn looks for a profile of the user's own that has a hop into a network like that of a
// server with a private address only.
func (w *walk) whoGoesIn(_ context.Context, f *finding.Problem, about finding.Facts) []string {
	if w.checker.Clouds.HopInto == nil {
		return nil
	}
	name, hop := w.checker.Clouds.HopInto(f.Facts[finding.FactAddress], w.profile.Name)
	if name == "" {
		return nil
	}
	about[finding.FactHopProfile], about[finding.FactHopWay] = name, hop
	return []string{w.clean(fmt.Sprintf("your profile %s goes through %s", name, hop))}
}
