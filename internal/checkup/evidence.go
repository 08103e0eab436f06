package checkup

import (
	"context"
	"fmt"
	"maps"
	"net/netip"
	"os/user"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"gentle-harbor/internal/discover"
	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/route"
	"gentle-harbor/internal/secret"
)

// Listener is a database server that greets on this machine.
type Listener = discover.Found

// evidenceTime is how long the look around after a failure may take.
const evidenceTime = 900 * time.Millisecond

// evidence looks for what explains a failure and adds to about what remedies can name. Every line of it was
// looked up just now.
func (w *walk) evidence(f *finding.Problem, about map[string]string) []string {
	ctx, cancel := context.WithTimeout(w.parent, evidenceTime)
	defer cancel()
	if look, known := looks[f.Code]; known {
		return look(w, ctx, f, about)
	}
	return nil
}

// look gathers what explains one kind of failure.
type look func(w *walk, ctx context.Context, f *finding.Problem, about map[string]string) []string

// looks has what is looked at for each code; after others nothing is. A new kind of evidence adds its line here.
var looks = map[string]look{}

func init() {
	for code, l := range map[string]look{
		"port.refused": (*walk).whoListens, "port.socket-missing": (*walk).whoListens, "port.socket-refused": (*walk).whoListens,
		"greeting.other-engine": (*walk).whoElse, "greeting.not-a-database": (*walk).whoElse, "greeting.malformed": (*walk).whoElse,
		"greeting.silent": (*walk).whoIsSilent, "port.silent": (*walk).whichNetwork, "port.unreachable": (*walk).whichNetwork,
		"database.missing": (*walk).whichDatabases, "database.no-right": (*walk).whichDatabases, "login.wants-system-user": (*walk).whoAmI,
	} {
		looks[code] = l
	}
	for _, code := range []string{
		"login.refused", "login.password-wanted", "secret.none", "secret.nobody-to-ask", "secret.variable-unset", "secret.file-missing", "secret.not-a-file",
		"secret.not-kept", "secret.bound-elsewhere", "secret.wallet-missing", "secret.wallet-locked", "secret.credentials-missing", "secret.keyring-missing", "secret.command-failed",
	} {
		looks[code] = (*walk).whoKeepsIt
	}
}

func (w *walk) whoListens(ctx context.Context, _ *finding.Problem, about map[string]string) []string {
	seen := w.around(ctx, about)
	if about["found-port"] == "" && about["found-socket"] == "" && about["found-host"] == "" {
		seen = append(seen, w.installed(about)...)
	}
	return seen
}

func (w *walk) whoElse(ctx context.Context, f *finding.Problem, about map[string]string) []string {
	if f.Code == "greeting.other-engine" {
		about["found-engine"] = engineOf(f.Facts["found"])
	}
	return w.around(ctx, about)
}

func (w *walk) whoIsSilent(ctx context.Context, f *finding.Problem, about map[string]string) []string {
	var asked, others []string
	var group errgroup.Group
	answered := map[string]string{}
	group.Go(func() error { asked = w.again(ctx, f, answered); return nil })
	others = w.around(ctx, about)
	_ = group.Wait()
	maps.Copy(about, answered)
	return append(asked, others...)
}

func (w *walk) whichNetwork(_ context.Context, _ *finding.Problem, about map[string]string) []string {
	return w.network(about)
}

func (w *walk) whichDatabases(ctx context.Context, f *finding.Problem, about map[string]string) []string {
	if f.Code == "database.no-right" && about["hidden"] == "" {
		return nil
	}
	return w.near(ctx, f, about)
}

func (w *walk) whoKeepsIt(ctx context.Context, _ *finding.Problem, about map[string]string) []string {
	return w.elsewhereKept(ctx, about)
}

func (w *walk) whoAmI(_ context.Context, _ *finding.Problem, about map[string]string) []string {
	me, err := user.Current()
	if err != nil || me.Username == w.profile.User {
		return nil
	}
	about["system-user"] = me.Username
	return []string{"on this machine you are the user " + w.clean(me.Username)}
}

// again asks the silent address what it is, in the words of other protocols. An answer tells more than the
// silence did, and makes the failure one of that kind.
func (w *walk) again(ctx context.Context, f *finding.Problem, about map[string]string) []string {
	network := "tcp"
	if w.profile.Socket != "" {
		network = "unix"
	}
	a := discover.Greet(ctx, network, w.address)
	if a.Kind == "" {
		return []string{"asked in the words of other protocols, it stays silent too"}
	}
	info, _ := known.Info(a.Kind)
	switch {
	case !known.Database(a):
		f.Code, about["found"] = "greeting.not-a-database", a.Title
	case info.Family != w.info.Family:
		f.Code, about["found"], about["found-engine"] = "greeting.other-engine", a.Title, a.Kind
	}
	return []string{"it said nothing for " + w.waited(), "asked in the words of another protocol, it answers as " + a.Title}
}

// elsewhereKept tells of another place that holds a secret for this user and place: the wallet, the credential
// file, or what another profile names.
func (w *walk) elsewhereKept(ctx context.Context, about map[string]string) []string {
	want := secret.Want{Ref: w.profile.Secret, Way: w.profile.Target()}
	if reference, saw := w.checker.Secrets.Elsewhere(ctx, want, w.secret); reference != "" {
		about["other-secret"] = reference
		return []string{"another place holds a password for this user and place: it would come " + w.clean(saw)}
	}
	if w.checker.Other == nil {
		return nil
	}
	name, reference := w.checker.Other(w.profile.Place(), w.profile.User, w.profile.Name, w.profile.Secret.String())
	if name == "" || w.justFailed(ctx, reference) {
		return nil
	}
	about["other-secret"] = reference
	return []string{fmt.Sprintf("your profile %s leads to the same place as the same user, and takes the password from elsewhere: %s", w.clean(name), w.clean(reference))}
}

// justFailed reports whether a reference leads to the very secret that was tried. Programs are not run for it.
func (w *walk) justFailed(ctx context.Context, text string) bool {
	ref, err := secret.ParseReference(text)
	if err != nil || ref.Kind == secret.Command || !w.secret.Given() {
		return false
	}
	quiet := w.checker.Secrets.Again(secret.Reference{}, secret.Secret{})
	s, _, err := quiet.Find(ctx, secret.Want{Ref: ref, Way: w.profile.Target()})
	return err == nil && s.Given() && s.Reveal() == w.secret.Reveal()
}

// network tells why an address may be out of reach: it is a private one, of a network that this machine is not
// on, or the name has addresses of one kind only.
func (w *walk) network(about map[string]string) []string {
	target, err := netip.ParseAddrPort(w.address)
	if err != nil {
		return nil
	}
	var seen []string
	if target.Addr().IsPrivate() && !discover.OnNetworkOf(target.Addr()) {
		about["private"] = target.Addr().String()
		seen = append(seen, target.Addr().String()+" is a private address, and this machine is on no network that holds it")
	}
	if _, literal := route.Literal(w.profile.Host); !literal && !slices.ContainsFunc(w.addrs, netip.Addr.Is4) {
		seen = append(seen, "the name has IPv6 addresses only")
	}
	return seen
}

// installed tells of a server of the profile's engine that is on this machine and does not run, and how it is
// started here.
func (w *walk) installed(about map[string]string) []string {
	if about["local-title"] == "" {
		return nil
	}
	found := discover.Installed(w.info)
	if len(found) == 0 {
		return nil
	}
	about["start"] = found[0].Start
	about["local-title"] = ""
	var seen []string
	for _, each := range found {
		seen = append(seen, each.Proof)
	}
	return seen
}

// near looks for a database whose name the missing one may have been meant for: in what the session could
// still tell, or by one more login to the database that every server has.
func (w *walk) near(ctx context.Context, f *finding.Problem, about map[string]string) []string {
	all := f.Names
	if all == nil && w.info.Database != "" && w.profile.Database != w.info.Database {
		again := w.admitted.Database(w.info.Database)
		// Another database is another target: what is bound to this one is not sent there, and nobody is asked.
		second := Checker{Resolver: w.checker.Resolver, NoEvidence: true, Secrets: w.checker.Secrets.Again(w.profile.Secret, w.secret)}
		session, _, err := second.Open(ctx, again)
		if err != nil || session == nil {
			return nil
		}
		defer session.Close()
		lister, can := engine.As[engine.Lister](session)
		if !can {
			return nil
		}
		list, err := lister.Databases(ctx)
		if err != nil {
			return nil
		}
		for _, each := range list {
			all = append(all, each.Name)
		}
	}
	var names []string
	for _, name := range all {
		if !strings.HasPrefix(name, "information_schema") {
			names = append(names, name)
		}
	}
	if len(names) == 0 {
		return nil
	}
	about["near"] = profile.Nearest(w.profile.Database, names)
	const most = 12
	line := "databases that this user can see: " + strings.Join(names[:min(len(names), most)], ", ")
	if len(names) > most {
		line += fmt.Sprintf(" and %d more", len(names)-most)
	}
	return []string{w.clean(line)}
}

func engineOf(title string) string {
	for _, name := range known.Names() {
		if info, _ := known.Info(name); strings.Contains(title, info.Title) {
			return name
		}
	}
	return ""
}

// around tells which servers of the profile's engine greet on this machine, when the profile leads to this
// machine.
func (w *walk) around(ctx context.Context, about map[string]string) []string {
	target, err := netip.ParseAddrPort(w.address)
	if w.profile.Socket == "" && (err != nil || !discover.Local(target.Addr())) {
		return nil
	}
	about["local-title"], about["remote"] = w.info.Title, ""
	look := w.checker.Look
	if look == nil {
		look = discover.Databases
	}
	var seen []string
	others := 0
	for _, found := range look(ctx) {
		if found.Socket == "" && found.Address == target || found.Socket != "" && found.Socket == w.address {
			continue
		}
		if info, _ := known.Info(found.Answer.Kind); info.Family != w.info.Family {
			others++
			continue
		}
		seen = append(seen, w.clean(fmt.Sprintf("%s greets on %s%s", found.Answer.Title, found.Place(), versionOf(found.Answer))))
		switch {
		case found.Socket != "":
			setOnce(about, "found-socket", found.Socket)
		case w.profile.Socket != "" || found.Address.Addr() == target.Addr() || found.Address.Addr().IsLoopback() && target.Addr().Is4() == found.Address.Addr().Is4():
			if found.Address.Port() != target.Port() {
				setOnce(about, "found-port", found.Port())
				// Of several servers, the one that the last good test met is the likeliest to be meant.
				if last := w.checker.Last; last != nil && last.Settings["host"] == w.profile.Host && last.Settings["port"] == found.Port() {
					about["found-port"] = found.Port()
				}
			}
		default:
			if found.Address.Port() == target.Port() {
				setOnce(about, "found-host", found.Address.Addr().String())
			}
		}
	}
	if about["found-port"] != "" && w.profile.Socket == "" {
		about["found-socket"] = "" // a port is the nearer mend for who asked for a port
	}
	if len(seen) == 0 {
		line := fmt.Sprintf("no %s server greets on any port or usual socket of this machine", w.info.Title)
		if ctx.Err() != nil {
			line = "not every port of this machine could be looked at in time; none of those that were greets as " + w.info.Title
		}
		seen = append(seen, line)
	}
	switch {
	case others == 1:
		seen = append(seen, "one database server of another kind greets on this machine")
	case others > 1:
		seen = append(seen, fmt.Sprintf("%d database servers of other kinds greet on this machine", others))
	}
	return seen
}

func versionOf(a engine.Answer) string {
	if a.Version == "" {
		return ""
	}
	return " (" + a.Version + ")"
}

func setOnce(about map[string]string, name, value string) {
	if about[name] == "" {
		about[name] = value
	}
}

// Code gives a finding's code, "" for none.
func (r *Report) Code() string {
	if r.Finding == nil {
		return ""
	}
	return r.Finding.Code
}
