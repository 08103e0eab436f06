package checkup

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"time"

	"gentle-harbor/internal/agree"
	"gentle-harbor/internal/cloud"
	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/route"
	"gentle-harbor/internal/secret"
)

// failed notes what a leg's error means. It gives an error only when the route was interrupted.
func (w *walk) failed(err error) error {
	if w.parent.Err() != nil {
		return w.parent.Err()
	}
	failure := w.failure(err)
	if failure == nil {
		return err
	}
	leg := failure.Code.Leg()
	if w.past(leg) {
		w.got()
		return nil
	}
	about := w.about(failure)
	seen, headline := w.seen(failure, about), w.headline(failure, about)
	if i := slices.IndexFunc(w.before, func(l Leg) bool { return l.Name == leg }); i >= 0 {
		no := false
		w.before[i].OK, w.before[i].Saw = &no, headline
	} else {
		w.legs.fail(leg, headline)
	}
	w.finish()
	made := w.made(failure, about, seen)
	w.report.of = failure.Of
	w.report.Finding, w.report.Exit, w.report.OK = &made, made.Exit(), false
	return nil
}

// made makes the finding of a problem, of what was seen and of what is around. It changes
// nothing, and can be asked again.
func (w *walk) made(f *finding.Problem, about finding.About, seen []string) finding.Finding {
	if !w.checker.NoEvidence {
		seen = append(seen, w.evidence(f, about.Facts)...)
	}
	return finding.Make(f.Code, about, seen...)
}

// Explain gives the finding for an error of a session that [Checker.Open] gave, or of one that
// was put around it. It can be called for each error, and at any time; the report of the opening
// stays as it is. Its own error is that of the context that Open had, when it has ended: then the
// failure is the interruption's; or err itself, where that is not about the connection.
func Explain(session engine.Session, err error) (finding.Finding, error) {
	for session != nil {
		if opened, is := session.(explainer); is {
			return opened.explain(err)
		}
		wrapper, wraps := session.(engine.Wrapper)
		if !wraps {
			break
		}
		session = wrapper.Inner()
	}
	return finding.Finding{}, err
}

// explainer is a session that knows the walk by which it was opened.
type explainer interface {
	explain(err error) (finding.Finding, error)
}

func (e ending) explain(err error) (finding.Finding, error) {
	if ended := e.walk.parent.Err(); ended != nil {
		return finding.Finding{}, ended
	}
	failure := e.walk.failure(err)
	if failure == nil {
		return finding.Finding{}, err
	}
	var more []string
	if witness, can := engine.As[engine.Witness](e.Session); can && !e.walk.checker.NoEvidence {
		ctx, cancel := context.WithTimeout(e.walk.parent, evidenceTime)
		more = witness.Witness(ctx, failure)
		cancel()
	}
	about := e.walk.about(failure)
	if near := profile.Nearest(failure.Missing, failure.Names); failure.Missing != "" && near != "" &&
		near != failure.Missing {
		about.Facts[finding.FactNear] = near
	}
	seen := e.walk.seen(failure, about)
	for _, line := range more {
		seen = append(seen, e.walk.clean(line))
	}
	return e.walk.made(failure, about, seen), nil
}

// failure gives any error of a leg as a problem; nil for one that is not about the route.
func (w *walk) failure(err error) *finding.Problem {
	var problem *finding.Problem
	if errors.As(err, &problem) {
		return w.notAdmitted(w.onlyAtFirstStart(w.inContainer(w.classified(problem))))
	}
	return nil
}

// classified names the service whose first bytes were not the engine's, where they are another's
// that is known.
func (w *walk) classified(p *finding.Problem) *finding.Problem {
	first, met := p.Facts[finding.FactFirstBytes]
	if !met || p.Code != finding.GreetingMalformed {
		return p
	}
	a := known.Identify([]byte(first))
	named := &finding.Problem{Code: p.Code, Err: p.Err,
		Facts: finding.Facts{finding.FactWanted: w.info.Title, finding.FactFound: a.Title,
			finding.FactVersion: a.Version}}
	switch {
	case known.Database(a):
		named.Code, named.Facts[finding.FactFoundEngine] = finding.GreetingOtherEngine, a.Kind
	case a.Kind != "":
		named.Code = finding.GreetingNotADatabase
	default:
		named.Facts[finding.FactFirst] = fmt.Sprintf("%q", w.veil().Short(outside.Said(first), 24))
	}
	return named
}

// headline is what the failed leg's own line says.
func (w *walk) headline(f *finding.Problem, about finding.About) string {
	switch {
	case !f.Words.Empty():
		return w.veil().Words(f.Words)
	case f.Code.Silent():
		return "no answer within " + about.Facts[finding.FactTimeout]
	case f.Code.Closed():
		return "the connection ended"
	case about.Facts[finding.FactFound] != "":
		return "found " + about.Facts[finding.FactFound]
	case brief[f.Code] != "":
		return brief[f.Code]
	}
	return f.Code.Words() // the finding's sentence follows below
}

// brief words the failed leg's line where the words of the finding's code would not do.
var brief = map[finding.Code]string{
	finding.CloudNotAdmitted:        "this machine is not let in",
	finding.CloudSignedOut:          "not signed in",
	finding.NameNotFound:            "no such name",
	finding.TunnelStalled:           "did not go on in time",
	finding.TLSNotOffered:           "the server offers no encryption",
	finding.LoginPasswordWanted:     "the server asks for a password",
	finding.LoginWouldShowPassword:  "the server asked to be shown the password",
	finding.PortSocketOwner:         "another user's process is behind the socket",
	finding.LoginMethodNotSupported: "the server asked for a login method that is not accepted",
	finding.LoginServerUnproven:     "the server did not prove that it is the one that knows the password",
	finding.GreetingMalformed:       "not the protocol of this engine",
	finding.SettingsIncomplete:      "incomplete",
	finding.SettingsInvalid:         "inconsistent",
	finding.SettingsNotAgreed:       "not agreed to",
	finding.AliasNoPrimary:          isReplica,
	finding.AliasNoReplica:          isPrimary,
	finding.ExpectNotMet:            "not all expectations are met",
	finding.ExpectCannotSee:         "not all expectations can be seen",
	finding.SecretNone:              "none found",
	finding.SecretBoundElsewhere:    "what is stored is bound to another connection",
	finding.SecretNotKept:           "nothing is stored for this connection",
}

// about collects what a finding's text may name, and the run that its commands repeat.
func (w *walk) about(f *finding.Problem) finding.About {
	p, met := w.profile, w.met
	facts := finding.Facts{
		finding.FactProfile: p.Name, finding.FactAddress: p.Place(), finding.FactHost: met.Host,
		finding.FactPort: portText(met.Port), finding.FactUser: p.User,
		finding.FactDatabase: p.Database, finding.FactRole: p.Role, finding.FactTitle: w.info.Title,
		finding.FactUsualPort: portText(w.info.Port),
		finding.FactTimeout:   w.waited(), finding.FactWith: w.with(), finding.FactServed: served(p),
	}
	about := finding.About{Facts: facts,
		Again: finding.Again{Name: p.Name,
			Flags: append(w.checker.Command.Flags[:len(w.checker.Command.Flags):len(w.checker.Command.Flags)],
				w.checker.Stores.Flags...), Unsaved: w.checker.Command.Unsaved, Socket: met.Socket != "",
			Alias: p.Alias != "", Container: p.InContainer(), Cloud: p.InCloud(), Hops: len(p.Via) > 0}}
	for command, ability := range map[string]engine.Ability{"survey": engine.Surveys,
		"meaning": engine.Examines, "run": engine.Runs} {
		if w.info.Name != "" && !w.info.Able(ability) {
			about.Again.Lacks = append(about.Again.Lacks, command)
		}
	}
	w.aboutContainer(facts)
	w.aboutCloud(facts)
	if p.Alias != "" && p.AliasAt.Project == "" {
		facts[finding.FactAlias] = p.Alias
	}
	if p.Name == "" {
		about.Again.Name = cmp.Or(w.checker.Command.Again, "-")
	}
	if w.checker.Kin.Admin != nil {
		facts[finding.FactAdmin] = w.checker.Kin.Admin(p.Place(), p.Name)
	}
	w.keep(&about)
	if w.address != "" {
		facts[finding.FactAddress] = w.address
	}
	if e := known.Engine(p.Engine); e != nil {
		advice := advice(p.Engine, engine.Subject{User: p.User, Database: p.Database, Account: f.Facts[finding.FactAccount]})
		for name, text := range map[finding.Fact]string{
			finding.FactQuote: advice.Quote, finding.FactFirstDatabase: advice.FirstDatabase, finding.FactHidden: advice.Hidden,
			finding.FactAccountStatement: advice.Account, finding.FactConnectionsStatement: advice.Connections,
			finding.FactHoldersStatement: advice.Holders,
			finding.FactCreateStatement:  advice.Create, finding.FactGrantStatement: advice.Grant,
			finding.FactUnlockStatement: advice.Unlock,
			finding.FactLimitStatement:  advice.Limit, finding.FactBaseLimitStatement: advice.BaseLimit,
			finding.FactSecretStatement:  advice.Password,
			finding.FactSessionStatement: advice.Session,
		} {
			facts[name] = text
		}
	}
	facts[finding.FactBeforeLogin] = "tls"
	if w.info.EncryptsFirst {
		facts[finding.FactBeforeLogin] = "greeting"
		facts[map[bool]finding.Fact{true: finding.FactTLSFirst, false: finding.FactTLSAlone}[w.info.Serves]] = w.info.Title
		if p.TLS.Mode == "off" && met.Socket == "" {
			facts[finding.FactTLSUnasked] = w.info.Title
		}
	}
	if len(p.Via) > 0 {
		facts[finding.FactRemote], facts[finding.FactDatabaseUser] = met.Host+" behind "+p.Behind(), p.User
	} else if facts[finding.FactRemote] = w.operated(); facts[finding.FactRemote] == "" && w.container == nil {
		facts[finding.FactLocalTitle] = w.info.Title
	}
	facts[finding.FactFarHost] = w.operated()
	if p.Database != "" && p.Database == p.User {
		facts[finding.FactSameAsUser] = p.User
	}
	if p.Secret.Kind == secret.Variable {
		facts[finding.FactVariable] = p.Secret.Of
	}
	for name, value := range f.Facts {
		facts[name] = w.clean(value)
	}
	w.where(f.Code.Leg(), facts)
	if f.Code == finding.GreetingClosed {
		facts[finding.FactTook] = sinceWords(w.legs.now().Sub(w.legs.last))
	}
	if facts[finding.FactDatabaseUser] != facts[finding.FactHopUser] {
		delete(facts, finding.FactDatabaseUser)
	}
	if !f.Words.Empty() {
		facts[finding.FactWords] = w.veil().Words(f.Words)
	}
	if at, moved := w.movedFrom(); moved {
		facts[finding.FactLastAddress] = at
	}
	return about
}

// served words what a listener is asked for.
func served(p profile.Effective) string {
	if p.Served && p.Opens() != "" {
		return "the " + p.Opens()
	}
	return ""
}

// operated gives the host that other people run, for advice to ask them; "" for this machine, and
// for a container on it: there is nobody to ask.
func (w *walk) operated() string {
	at, err := netip.ParseAddrPort(w.address)
	switch found := w.found(); {
	case found != nil && found.Client.Engine.Local():
		return ""
	case found != nil && found.Client.Engine.Far():
		return found.Client.Engine.Host()
	case found != nil:
		hop, _, _ := found.Client.Engine.Hop()
		return "the hop " + hop.String()
	case len(w.profile.Via) > 0 && profile.Loopback(w.met.Host):
		return "the hop " + w.clean(w.profile.Via[len(w.profile.Via)-1].String())
	case len(w.profile.Via) > 0:
		return w.met.Host
	case w.met.Socket != "", profile.Loopback(w.met.Host), err == nil && route.Own(at.Addr()):
		return ""
	}
	return w.met.Host
}

// sinceWords gives a time for people: "12ms", "3.1s".
func sinceWords(d time.Duration) string {
	if d < time.Second {
		return max(d.Round(time.Millisecond), time.Millisecond).String()
	}
	return d.Round(100 * time.Millisecond).String()
}

// where says from where the connection begins that failed, and whether that is this machine.
func (w *walk) where(leg string, facts finding.Facts) {
	behind := facts[finding.FactBehind]
	if behind == "" && leg != "tunnel" {
		switch via := w.profile.Via; {
		case w.path != nil:
			behind = w.clean(w.path.Behind())
		case len(via) > 0:
			behind = w.clean(via[len(via)-1].String())
		}
	}
	switch {
	case behind != "":
		facts[finding.FactBehind], facts[finding.FactHere] = behind, "the hop "+behind
	case leg == "tunnel":
		facts[finding.FactHere], facts[finding.FactDirect] = "this machine", "the hop "+facts[finding.FactHop]
	default:
		facts[finding.FactHere], facts[finding.FactDirect] = "this machine", w.operated()
	}
}

// with says with what the user was refused.
func (w *walk) with() string {
	switch {
	case !w.secret.Given():
		return "without a password"
	case w.secret.Reveal() == "":
		return "with an empty password"
	}
	return "with the password that was sent"
}

// movedFrom gives the IP address at which the last good test met the server, where the same name
// leads to another now.
func (w *walk) movedFrom() (address string, moved bool) {
	last := w.checker.History.Last
	if last == nil || last.Address == "" || w.address == "" || last.Settings["host"] != w.profile.Host ||
		last.Settings["port"] != portText(w.profile.Port) {
		return "", false
	}
	was, err := netip.ParseAddrPort(last.Address)
	_, literal := route.Literal(w.profile.Host)
	return was.Addr().String(), err == nil && !literal && last.Address != w.address
}

// waited says how long the leg was waited for: as long as one may take, or what was left of the
// whole.
func (w *walk) waited() string {
	if w.limit <= 0 || w.limit >= w.leg() {
		return w.leg().String()
	}
	unit := time.Millisecond
	if w.limit >= 100*time.Millisecond {
		unit *= 10 // what was left is seldom a round number
	}
	return max(w.limit.Round(unit), time.Millisecond).String()
}

// keep gives the command with which a password is kept for just this connection, in the store
// that the profile names.
func (w *walk) keep(about *finding.About) {
	p := w.profile
	flags := []string{p.Name}
	if p.Name == "" || len(w.checker.Command.Flags) > 0 {
		to := p.Target()
		flags = []string{"--server", p.ToStore(to).String(), "--user", to.User}
		if to.TLS != to.WeakestTLS() {
			flags = append(flags, "--at-least", to.TLS)
		}
	}
	in := []string{"wallet", "add"}
	switch p.Secret.Kind {
	case secret.Keyring:
		about.Facts[finding.FactTheKeyring] = "the keyring"
		return
	case secret.Credentials:
		in = []string{"credentials", "add"}
		if p.Secret.Of != "" {
			in = append(in, "--file", p.Secret.Of)
		}
	case secret.Wallet:
		if p.Secret.Of != "" {
			in = append(in, "--name", p.Secret.Of)
		}
	case secret.Search:
		if w.source.Kind == secret.Credentials {
			in = []string{"credentials", "add"}
		}
	}
	about.Keep = append(in, flags...)
	for _, flag := range w.checker.Stores.Flags {
		if in[0] == "wallet" && flag[0] != "--secret-file" && flag[1] != "-" && !slices.Contains(in, "--name") {
			about.Keep = append(about.Keep, flag...)
		}
	}
	if w.source.Kind == secret.Wallet || w.source.Kind == secret.Credentials {
		about.KeepAgain = append(slices.Clone(about.Keep), "--replace")
	}
}

// advice gives what an administrator of an engine's server would do.
func advice(name string, about engine.Subject) engine.Advice {
	if e := known.Engine(name); e != nil {
		return e.Advice(about)
	}
	return engine.Advice{}
}

func portText(port int) string {
	if port == 0 {
		return ""
	}
	return strconv.Itoa(port)
}

// seen lists what the connection itself showed: the words that came, what the failed leg shows,
// what happened before, and what has changed.
func (w *walk) seen(f *finding.Problem, met finding.About) []string {
	leg := f.Code.Leg()
	seen := w.said(f, met.Facts)
	for _, each := range shows[leg] {
		if text := met.Facts[each.fact]; text != "" && (each.only == nil || slices.Contains(each.only, f.Code)) {
			seen = append(seen, fmt.Sprintf(each.words, text))
		}
	}
	if more := showsMore[leg]; more != nil {
		seen = append(seen, more(w, f, met.Facts)...)
	}
	for _, attempt := range w.report.Attempts[:max(0, len(w.report.Attempts)-1)] {
		for _, leg := range attempt.Legs {
			if leg.OK != nil && !*leg.OK {
				seen = append(seen, fmt.Sprintf("before that, %s failed at the leg %s: %s", attempt.Address, leg.Name, leg.Saw))
			}
		}
	}
	seen = append(append(seen, w.seenOfContainer()...), w.seenOfCloud(f, met.Facts)...)
	if text := cmp.Or(w.another(), w.anotherThan(met.Facts[finding.FactIdentity])); text != "" && w.report.Another == "" {
		w.report.Another = text
		seen = append(seen, text)
	}
	seen = append(seen, w.emptied(leg)...)
	if last := w.checker.History.Last; last != nil && w.source.Saw != "" {
		for _, line := range last.Differs(Remember(w.profile, w.report, time.Now())) {
			seen = append(seen, fmt.Sprintf("since the last good test (%s): %s",
				last.When.Local().Format("2006-01-02 15:04"), line))
		}
	}
	return seen
}

// said gives the words that came, and whose they are.
func (w *walk) said(f *finding.Problem, about finding.Facts) []string {
	leg, words := f.Code.Leg(), about[finding.FactWords]
	speaker := "what came"
	switch {
	case f.Words.Empty():
		return nil
	case !f.Number.Empty():
		said := []string{fmt.Sprintf("the server said: %s (code %s)", words, w.veil().Words(f.Number))}
		for _, beside := range f.Beside {
			said = append(said, fmt.Sprintf("its %s: %s", beside.What, w.veil().Short(beside.Text, 600)))
		}
		return said
	case (leg == "port" || leg == "name") && about[finding.FactBehind] != "":
		speaker = "the hop " + about[finding.FactBehind] + " said"
	case leg == "port":
		speaker = "the system said"
	case leg == "cloud":
		speaker = cloud.Speaker(f)
	}
	return []string{speaker + ": " + words}
}

// shown is a fact that a failed leg shows, with its words; only for some findings where they are
// named.
type shown struct {
	fact  finding.Fact
	words string
	only  []finding.Code
}

var dated = []finding.Code{finding.TLSExpired, finding.TLSNotYetValid}

// shows has the facts that a failed leg shows, by leg, in their order.
var shows = map[string][]shown{
	"tunnel": {
		{fact: finding.FactFingerprint, words: "the hop's host key: %s"},
		{fact: finding.FactKnownKeys, words: "the keys that are known for it: %s"},
		{fact: finding.FactSince, words: "about the known one the file says: %s"},
		{fact: finding.FactAcceptedOthers, words: "--accept-host-key was given for another key: %s"},
		{fact: finding.FactOthers, words: "its other keys: %s"},
		{fact: finding.FactHopUser, words: "the user on the hop: %s"},
		{fact: finding.FactOffered, words: "offered: %s"},
		{fact: finding.FactWants, words: "the hop accepts: %s"},
		{fact: finding.FactWanted, words: "ours: %s"},
		{finding.FactFound, "the hop's: %s", []finding.Code{finding.TunnelNoAlgorithm}},
		{fact: finding.FactBanner, words: "the hop's banner: %s"}, {fact: finding.FactFirst, words: "its first words: %s"},
	},
	"container": {{fact: finding.FactNames, words: "there are: %s"}},
	"tls": {
		{fact: finding.FactCertificate, words: "the certificate is for %s"},
		{fact: finding.FactNames, words: "names that it is valid for: %s"},
		{fact: finding.FactIssuer, words: "issued by %s"},
		{finding.FactFrom, "valid from %s", dated}, {finding.FactUntil, "valid until %s", dated},
	},
	"greeting": {{finding.FactFirst, "its first bytes: %s", []finding.Code{finding.GreetingMalformed}}},
}

// showsMore has what a failed leg shows that is no fact alone, by leg.
var showsMore = map[string]func(w *walk, f *finding.Problem, about finding.Facts) []string{
	"tunnel": (*walk).tried, "container": (*walk).tried, "secret": (*walk).tried,
	"database": func(w *walk, _ *finding.Problem, _ finding.Facts) []string {
		if w.opening == "" {
			return nil
		}
		return []string{"the statement was one that the profile runs when it opens a session (on-open): " +
			w.clean(w.opening)}
	},
	"login": func(w *walk, _ *finding.Problem, about finding.Facts) []string {
		sent := "the password that was used: " + w.source.String()
		switch {
		case !w.secret.Given():
			sent = "no password was sent"
		case w.secret.Reveal() == "":
			sent = "an empty password was sent"
		case w.sent == "":
			sent = "the password was not sent"
		}
		seen := []string{sent}
		if about[finding.FactMethod] != "" {
			seen = append(seen, "login method: "+about[finding.FactMethod])
		}
		if about[finding.FactAccepted] != "" {
			seen = append(seen, "the profile accepts only: "+about[finding.FactAccepted])
		}
		return seen
	},
	"port": (*walk).asked, "name": (*walk).asked,
	"greeting": func(w *walk, _ *finding.Problem, about finding.Facts) []string {
		if about[finding.FactFound] == "" {
			return nil
		}
		version := ""
		if about[finding.FactVersion] != "" {
			version = " (" + about[finding.FactVersion] + ")"
		}
		return []string{"its first words are those of " + about[finding.FactFound] + version}
	},
}

// tried gives what was tried without success.
func (w *walk) tried(f *finding.Problem, _ finding.Facts) (seen []string) {
	for _, line := range f.Tried {
		seen = append(seen, w.clean(line))
	}
	return seen
}

// asked says who was asked for an address or a name.
func (w *walk) asked(f *finding.Problem, about finding.Facts) (seen []string) {
	if about[finding.FactBehind] != "" && f.Words.Empty() {
		seen = append(seen, "the hop "+about[finding.FactBehind]+" was asked for it")
	}
	if about[finding.FactShared] != "" {
		seen = append(seen, about[finding.FactShared])
	}
	if f.Code == finding.PortRefused && about[finding.FactBehind] == "" {
		seen = append(seen, w.address+" refused the connection immediately, so the machine itself can be reached")
	}
	return seen
}

// Describe gives the finding of a problem with a profile's connection, as a test would give it at
// that leg, without looking around. At is where the problem was met, "" before there is an
// address.
func (c Checker) Describe(ctx context.Context, a agree.Admitted, p *finding.Problem, at string) finding.Finding {
	c.NoEvidence = true
	w := c.walk(ctx, a)
	defer w.stop()
	w.address = at
	about := w.about(p)
	return finding.Make(p.Code, about, w.seen(p, about)...)
}
