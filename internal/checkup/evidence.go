package checkup

import (
	"context"
	"fmt"
	"maps"
	"net"
	"net/netip"
	"os/user"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"gentle-harbor/internal/container"
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

// evidence looks for what explains a failure and adds to about what remedies can name. Every line
// of it was looked up just now.
func (w *walk) evidence(f *finding.Problem, about finding.Facts) []string {
	ctx, cancel := context.WithTimeout(w.parent, evidenceTime)
	defer cancel()
	if look, known := looks[f.Code]; known {
		return look(w, ctx, f, about)
	}
	return nil
}

// look gathers what explains one kind of failure.
type look func(w *walk, ctx context.Context, f *finding.Problem, about finding.Facts) []string

// looks has what is looked at for each code; after others nothing is. A new kind of evidence adds
// its line here.
var looks = map[finding.Code]look{}

// here is a look at this machine and its network. They have nothing to do with what is reached
// through a hop, or through a container engine.
func here(l look) look {
	return func(w *walk, ctx context.Context, f *finding.Problem, about finding.Facts) []string {
		if len(w.profile.Via) > 0 || w.behindEngine() || w.at.Dial != nil {
			return nil
		}
		return l(w, ctx, f, about)
	}
}

// abreast is two looks at the same time. Where they name the same, the second counts least.
func abreast(first, second look) look {
	return func(w *walk, ctx context.Context, f *finding.Problem, about finding.Facts) []string {
		facts, before := maps.Clone(about), maps.Clone(about)
		var one []string
		var group errgroup.Group
		group.Go(func() error { one = first(w, ctx, f, facts); return nil })
		two := second(w, ctx, f, about)
		_ = group.Wait()
		for name, value := range facts {
			if value != before[name] {
				about[name] = value
			}
		}
		return append(one, two...)
	}
}

func init() {
	for code, l := range map[finding.Code]look{
		finding.PortRefused: here(whoListens), finding.PortSocketMissing: here(whoListens),
		finding.PortSocketRefused: here(whoListens), finding.PortNotASocket: here(whoListens),
		finding.PortSocketNotPermitted: here(whoListens),
		finding.GreetingOtherEngine:    abreast(whichEngine, here(around)),
		finding.GreetingNotADatabase:   here(around), finding.GreetingMalformed: here(around),
		finding.CloudPrivateOnly: (*walk).whoGoesIn, finding.NameNotFound: here((*walk).whichName),
		finding.GreetingClosed: abreast((*walk).again, here((*walk).whichContainer)),
		finding.GreetingSilent: abreast((*walk).again, here(around)), finding.PortSilent: here((*walk).network),
		finding.PortUnreachable:     here((*walk).network),
		finding.GreetingHostRefused: here((*walk).whichClient),
		finding.LoginNotFromHere:    here((*walk).whichClient), finding.LoginRuleRejects: (*walk).whichUsers,
		finding.LoginWantsIdent: (*walk).whichUsers,
		finding.DatabaseMissing: (*walk).whichDatabases, finding.DatabaseNoRight: (*walk).whichDatabases,
		finding.LoginWantsSystemUser: here((*walk).whoAmI),
		finding.LoginRoleRefused:     (*walk).whichRoles, finding.LoginNoAccount: (*walk).whichUsers,
		finding.LoginNoAccessRule: (*walk).whichUsers,
	} {
		looks[code] = l
	}
	for _, code := range []finding.Code{
		finding.LoginRefused, finding.LoginPasswordWanted, finding.SecretNone, finding.SecretNobodyToAsk,
		finding.SecretVariableUnset, finding.SecretFileMissing, finding.SecretNotReadable, finding.SecretNotAFile,
		finding.SecretNotKept, finding.SecretBoundElsewhere, finding.SecretWalletMissing,
		finding.SecretWalletLocked, finding.SecretCredentialsMissing, finding.SecretKeyringMissing,
		finding.SecretCommandFailed,
	} {
		looks[code] = (*walk).whoKeepsIt
	}
	looks[finding.LoginRefused] = abreast((*walk).whoKeepsIt, here((*walk).whichClient))
}

// whoListens looks at the machine's servers and its containers at the same time: where many ports
// are silent, the first takes all the time that there is.
var whoListens = abreast(whichServers, (*walk).whichContainers)

func whichServers(w *walk, ctx context.Context, f *finding.Problem, about finding.Facts) []string {
	seen := around(w, ctx, f, about)
	if about[finding.FactFoundTitle] == "" && about[finding.FactFoundSocket] == "" {
		seen = append(seen, w.installed(about)...)
	}
	return seen
}

func whichEngine(_ *walk, _ context.Context, f *finding.Problem, about finding.Facts) []string {
	about[finding.FactFoundEngine] = engineOf(f.Facts[finding.FactFound])
	return nil
}

// whichClient looks for another way to the same server, by which it sees the client come from
// elsewhere and may have an account for it: its socket, by which that is localhost, or another
// address of this machine.
func (w *walk) whichClient(ctx context.Context, f *finding.Problem, about finding.Facts) []string {
	failed, err := netip.ParseAddrPort(w.address)
	ownSocket := f.Code == finding.LoginNotFromHere // which counts, and not from where one comes
	if err != nil || !route.Own(failed.Addr()) ||
		!ownSocket && (about[finding.FactSeenAs] == "" || about[finding.FactSeenAs] == "localhost") {
		return nil
	}
	var seen []string
	for _, each := range discover.OnSockets(ctx) {
		if info, _ := known.Info(each.Answer.Kind); info.Family == w.info.Family && about[finding.FactClientSocket] == "" {
			about[finding.FactClientSocket] = each.Socket
			seen = append(seen, w.clean(each.Answer.Title+" answers on the socket "+each.Socket))
		}
	}
	if ownSocket && (about[finding.FactSeenAs] == "" || about[finding.FactSeenAs] == "localhost") {
		return seen
	}
	for _, addr := range []netip.Addr{netip.AddrFrom4([4]byte{127, 0, 0, 1}), netip.IPv6Loopback()} {
		if other := netip.AddrPortFrom(addr, failed.Port()); other != failed && len(w.report.Attempts) == 1 {
			a := discover.Greet(ctx, func(ctx context.Context) (net.Conn, error) {
				return route.Dial(ctx, "tcp", other.String())
			})
			if info, _ := known.Info(a.Kind); a.Kind != "" && info.Family == w.info.Family {
				about[finding.FactOtherHost] = addr.String()
				seen = append(seen, w.clean(a.Title+" answers on "+other.String()))
			}
		}
	}
	return seen
}

func (w *walk) whichDatabases(ctx context.Context, f *finding.Problem, about finding.Facts) []string {
	if f.Code == finding.DatabaseNoRight && about[finding.FactHidden] == "" {
		return nil
	}
	return w.near(ctx, f, about)
}

func (w *walk) whoKeepsIt(ctx context.Context, f *finding.Problem, about finding.Facts) []string {
	seen := w.elsewhereKept(ctx, about)
	if f.Code == finding.LoginRefused {
		seen = append(seen, w.whichUsers(ctx, f, about)...)
	}
	return seen
}

// whichUsers looks for a user of a near name among the user's own profiles that lead to the same
// server.
func (w *walk) whichUsers(_ context.Context, _ *finding.Problem, about finding.Facts) []string {
	var users []string
	if w.checker.Kin.Users != nil {
		users = w.checker.Kin.Users(w.profile.Place(), w.profile.Name)
	}
	for _, hidden := range w.profile.Under["user"] {
		users = append(users, hidden.Text)
	}
	near := profile.Nearest(w.profile.User, users)
	if near == "" || near == w.profile.User {
		return nil
	}
	about[finding.FactNearUser] = near
	return []string{"profiles of yours log in there as: " + w.clean(strings.Join(users, ", "))}
}

// whichRoles looks for a role of a near name among those that the session could still show.
func (w *walk) whichRoles(_ context.Context, f *finding.Problem, about finding.Facts) []string {
	if len(f.Names) == 0 {
		return nil
	}
	about[finding.FactNear] = profile.Nearest(w.profile.Role, f.Names)
	return []string{w.clean("roles that this user may take on: " + some(f.Names))}
}

// some lists names, the first dozen of many.
func some(names []string) string {
	const most = 12
	line := strings.Join(names[:min(len(names), most)], ", ")
	if len(names) > most {
		line += fmt.Sprintf(" and %d more", len(names)-most)
	}
	return line
}

func (w *walk) whoAmI(_ context.Context, _ *finding.Problem, about finding.Facts) []string {
	me, err := user.Current()
	if err != nil || me.Username == w.profile.User {
		return nil
	}
	about[finding.FactSystemUser] = me.Username
	return []string{"on this machine you are the user " + w.clean(me.Username)}
}

// again asks an address that was silent, or that closed the connection without a word, what it
// is, in the words of other protocols. An answer says more than that did, and makes the failure
// one of that kind.
func (w *walk) again(ctx context.Context, f *finding.Problem, about finding.Facts) []string {
	a := discover.Greet(ctx, func(ctx context.Context) (net.Conn, error) {
		conn, _, _, err := w.path.Connect(ctx, w.at)
		return conn, err
	})
	info, _ := known.Info(a.Kind)
	closed := f.Code.Closed()
	switch {
	case closed && (a.Kind == "" || info.Family == w.info.Family):
		return nil
	case a.Kind == "":
		return []string{"asked in the words of other protocols, it stays silent too"}
	}
	switch {
	case !known.Database(a):
		f.Code, about[finding.FactFound] = finding.GreetingNotADatabase, a.Title
	case info.Family != w.info.Family:
		f.Code, about[finding.FactFound], about[finding.FactFoundEngine] = finding.GreetingOtherEngine, a.Title, a.Kind
	}
	did := "it said nothing for " + w.waited()
	if closed {
		did = "it closed the connection without a word"
	}
	return []string{did, "asked in the words of another protocol, it answers as " + a.Title}
}

// elsewhereKept looks for another source that has a secret for this user and place: the wallet,
// the credential file, or what another profile names.
func (w *walk) elsewhereKept(ctx context.Context, about finding.Facts) []string {
	want := secret.Want{Ref: w.profile.Secret, Target: w.profile.Target()}
	if reference, saw := w.checker.Stores.Secrets.Elsewhere(ctx, want, w.secret); reference != "" {
		about[finding.FactOtherSecret] = reference
		return []string{"there is a password for this user and server: it would come " + w.clean(saw.String())}
	}
	if w.checker.Kin.Other == nil {
		return nil
	}
	name, reference := w.checker.Kin.Other(w.profile.Place(), w.profile.User, w.profile.Name, w.profile.Secret.String())
	if name == "" || w.justFailed(ctx, reference) {
		return nil
	}
	about[finding.FactOtherSecret] = reference
	return []string{fmt.Sprintf("your profile %s connects to the same server as the same user, and takes the "+
		"password from another source: %s",
		w.clean(name), w.clean(reference))}
}

// justFailed reports whether a reference leads to the very secret that was tried. Programs are
// not run for it.
func (w *walk) justFailed(ctx context.Context, text string) bool {
	ref, err := secret.ParseReference(text)
	if err != nil || ref.Kind == secret.Command || !w.secret.Given() {
		return false
	}
	quiet := w.checker.Stores.Secrets.Again(secret.Reference{}, secret.Secret{})
	s, _, err := quiet.Find(ctx, secret.Want{Ref: ref, Target: w.profile.Target()})
	return err == nil && s.Given() && s.Reveal() == w.secret.Reveal()
}

// network says why an address may be out of reach: it is a private one, of a network that this
// machine is not on, or the name has addresses of one kind only.
func (w *walk) network(_ context.Context, _ *finding.Problem, about finding.Facts) []string {
	target, err := netip.ParseAddrPort(w.address)
	if err != nil {
		return nil
	}
	var seen []string
	if target.Addr().IsPrivate() && !discover.OnNetworkOf(target.Addr()) {
		about[finding.FactPrivate] = target.Addr().String()
		seen = append(seen, target.Addr().String()+" is a private address, and this machine is in no network that has it")
	}
	if _, literal := route.Literal(w.met.Host); !literal && !slices.ContainsFunc(w.ledTo(), netip.Addr.Is4) {
		seen = append(seen, "the name has IPv6 addresses only")
	}
	return seen
}

// installed finds a server of the profile's engine that is on this machine and does not run, and
// how it is started here.
func (w *walk) installed(about finding.Facts) []string {
	if about[finding.FactLocalTitle] == "" {
		return nil
	}
	if running := w.checker.Around.runs(w.parent, w.info.Family); len(running) > 0 {
		p := running[0]
		about[finding.FactRuns], about[finding.FactLocalTitle] = fmt.Sprintf("%s (process %d)", p.Program, p.PID), ""
		about[finding.FactListens] = w.info.Listens
		return []string{w.clean(fmt.Sprintf("the program %s of the account %s runs (process %d), and this "+
			"account sees no port and no socket at which it answers",
			p.Program, p.Account, p.PID))}
	}
	found := discover.Installed(w.info)
	if len(found) == 0 {
		return nil
	}
	if about[finding.FactStart] = found[0].Start; found[0].Start != "" {
		about[finding.FactLocalTitle] = ""
	}
	var seen []string
	for _, each := range found {
		seen = append(seen, each.Proof)
	}
	return seen
}

// aside is a checker for a second look by the same road: to the address that was met, through the
// hops that are logged in to. It asks nobody, compares with no test before, and looks no further
// itself.
func (w *walk) aside() Checker {
	second := w.checker
	second.NoEvidence, second.History, second.Until, second.Silences = true, Remembered{}, "", nil
	second.Stores.Before, second.Stores.Secrets = nil, second.Stores.Secrets.Again(w.profile.Secret, w.secret)
	second.road = &road{w.path.Only(w.at), w.container, w.cloud}
	return second
}

// near looks for a database whose name the missing one may have been meant for: in what the
// session could still say, or by one more login to the database that every server has.
func (w *walk) near(ctx context.Context, f *finding.Problem, about finding.Facts) []string {
	all, other := f.Names, ""
	if all == nil && w.info.Database != "" && w.profile.Database != w.info.Database {
		// Another database is another target: what is bound to this one is not sent there, and
		// nobody is asked.
		session, _, err := w.aside().Open(ctx, w.admitted.Database(w.info.Database))
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
		if facts, err := session.Facts(ctx); err == nil {
			other = w.anotherThan(w.clean(facts.Identity))
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
	about[finding.FactNear] = profile.Nearest(w.profile.Database, names)
	seen := []string{w.clean("databases that this user can see: " + some(names))}
	if other != "" && w.report.Another == "" {
		w.report.Another = other
		seen = append(seen, other)
	}
	return seen
}

func engineOf(title string) string {
	for _, name := range known.Names() {
		if info, _ := known.Info(name); strings.Contains(title, info.Title) {
			return name
		}
	}
	return ""
}

// mostServers is how many of this machine's servers are named, the likeliest first.
const mostServers = 3

// around says which servers of the profile's kind answer on this machine, when the profile leads
// to this machine, and proposes the likeliest.
func around(w *walk, ctx context.Context, _ *finding.Problem, about finding.Facts) []string {
	failed, err := netip.ParseAddrPort(w.address)
	if w.met.Socket == "" && (err != nil || !route.Own(failed.Addr())) {
		return nil
	}
	about[finding.FactLocalTitle], about[finding.FactRemote] = w.info.Title, ""
	look := w.checker.Look
	if look == nil {
		look = discover.Databases
	}
	var all []Listener
	if w.met.Socket != "" {
		all = discover.Beside(ctx, w.address) // the nearest first, for when the time is over
	}
	all = append(all, w.checker.Around.servers.get(ctx, look)...)
	var servers []Listener
	others := 0
	for _, each := range all {
		switch info, _ := known.Info(each.Answer.Kind); {
		case each.Socket == "" && each.Address == failed, each.Socket != "" && each.Socket == w.address:
		case slices.ContainsFunc(servers, func(l Listener) bool { return l.Place() == each.Place() }): // seen already
		case info.Family != w.info.Family:
			others++
		default:
			servers = append(servers, each)
		}
	}
	w.propose(servers, failed, about)
	var seen []string
	named := servers[:min(len(servers), mostServers)]
	var places []netip.AddrPort
	for _, each := range named {
		places = append(places, each.Address)
	}
	owners := map[netip.AddrPort]string{}
	if len(named) > 0 {
		containers := w.allContainers(ctx)
		owners = discover.Owners(ctx, places)
		for _, place := range places { // the program is the container engine's then
			if by, _ := container.PublishedBy(containers, place); by != nil {
				owners[place] = "the container " + by.Words().Words()
			}
		}
	}
	for _, each := range named {
		line := fmt.Sprintf("%s answers on %s%s", each.Answer.Title, each.Place(), versionOf(each.Answer))
		if by := owners[each.Address]; by != "" && each.Socket == "" {
			line += ": " + by
		}
		seen = append(seen, w.clean(line))
	}
	if more := len(servers) - mostServers; more > 0 {
		seen = append(seen, fmt.Sprintf("and %d more: gharbor find --every-port", more))
	}
	if len(seen) == 0 {
		line := fmt.Sprintf("no %s server answers on any port of this machine, or on a socket that this account sees",
			w.info.Title)
		if ctx.Err() != nil {
			line = "not every port of this machine could be looked at in time; none of those that were answers as " +
				w.info.Title
		}
		seen = append(seen, line)
	}
	switch {
	case others == 1:
		seen = append(seen, "one database server of another kind answers on this machine")
	case others > 1:
		seen = append(seen, fmt.Sprintf("%d database servers of other kinds answer on this machine", others))
	}
	return seen
}

// propose puts the likeliest of several servers into about: the one that the last good test met,
// then one at the port that the profile says where a flag says another, then one of the profile's
// own engine, then one of its kin; a port of the profile's own address before one of another, and
// the kind of address that the profile has before the other kind.
func (w *walk) propose(servers []Listener, failed netip.AddrPort, about finding.Facts) {
	bySocket := w.met.Socket != ""
	same := func(l Listener) bool {
		return l.Address.Addr() == failed.Addr() || slices.Contains(w.ledTo(), l.Address.Addr())
	}
	rank := func(l Listener) (points int) {
		last := w.checker.History.Last
		for i, better := range []bool{
			same(l), (l.Socket != "") == bySocket, l.Answer.Kind == w.info.Name,
			l.Socket == "" && slices.ContainsFunc(w.profile.Under["port"], func(v profile.Value) bool {
				return v.Text == l.Port()
			}),
			last != nil && (l.Socket != "" && last.Settings["socket"] == l.Socket ||
				l.Socket == "" && (last.Address == l.Address.String() ||
					last.Settings["host"] == w.profile.Host && last.Settings["port"] == l.Port())),
		} {
			if better {
				points |= 1 << i
			}
		}
		return points
	}
	slices.SortStableFunc(servers, func(a, b Listener) int { return rank(b) - rank(a) })
	for _, each := range servers {
		title := strings.ToUpper(each.Answer.Title[:1]) + each.Answer.Title[1:]
		switch {
		case each.Socket != "" && (about[finding.FactFoundSocket] != "" || !bySocket && about[finding.FactFoundTitle] != ""):
		case each.Socket != "":
			about[finding.FactFoundSocket], about[finding.FactFoundSocketTitle] = each.Socket, title
		case about[finding.FactFoundTitle] != "" || bySocket && about[finding.FactFoundSocket] != "":
		case !bySocket && same(each) && w.profile.Alias == "" && !w.profile.InContainer():
			about[finding.FactFoundPort], about[finding.FactFoundTitle] = each.Port(), title
		default:
			about[finding.FactFoundHost], about[finding.FactFoundHostPort], about[finding.FactFoundTitle] = each.Address.Addr().String(),
				each.Port(), title
		}
	}
}

func versionOf(a engine.Answer) string {
	if a.Version == "" {
		return ""
	}
	return " (" + a.Version + ")"
}

// Code gives a finding's code, "" for none.
func (r *Report) Code() finding.Code {
	if r.Finding == nil {
		return ""
	}
	return r.Finding.Code
}
