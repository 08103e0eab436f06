// Package checkup walks a profile's route, leg by leg, and says how it went.
//
// A [Checker] opens one connection as the profile says and watches it: nothing is dialled twice to find out
// what the first dial already showed. The route ends at the first leg that fails, and only then are other
// places looked at, for at most a second, to tell why. What comes of it is a [Report].
package checkup

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/mysql"
	"gentle-harbor/internal/engine/postgres"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/route"
	"gentle-harbor/internal/secret"
)

// Checker tests profiles. Its zero value looks names up as the system does, asks nobody for a secret, and
// gathers evidence on this machine.
type Checker struct {
	Secrets  secret.Finder
	Resolver route.Resolver // nil for the system's
	// Last gives the last good test of the profile, for what has changed since; nil for none.
	Last *Past
	// Admin names a profile of the user's own that logs in to the same place as somebody who may do anything, as
	// its last good test showed; "" for none. It is asked after a failure; nil knows none.
	Admin func(place, except string) string
	// Other names another profile of the user's own that leads to the same place as the same user, and the other
	// reference that it has for the secret; "" for none. It is asked after a failure; nil knows none.
	Other func(place, user, except, secret string) (profile, reference string)
	// Silences shares which addresses do not answer among the tests of one run; nil shares nothing.
	Silences *sync.Map
	// Look gathers what is on this machine after a failure; nil for discover.Databases.
	Look func(ctx context.Context) []Listener
	// Overrides lists the flags of this run that change the profile, one a line, as a shell takes them; the
	// commands in remedies repeat them.
	Overrides string
	// NoEvidence leaves the look around out.
	NoEvidence bool
}

// engines serves each family of engine.Info.
var engines = map[string]engine.Engine{
	"postgres": engine.Guarded(postgres.Engine{}),
	"mysql":    engine.Guarded(mysql.Engine{}),
}

// Test walks the whole route, asks the server one thing and then for its facts, and hangs up. The error is
// ctx's when the test was interrupted, or that of asking a person for the secret; everything else is in the
// report.
func (c Checker) Test(ctx context.Context, p profile.Effective) (*Report, error) {
	w := c.walk(ctx, p)
	defer w.stop()
	session, err := w.open()
	if err != nil {
		return w.report, err
	}
	if session == nil {
		return w.report, nil
	}
	defer session.Close()
	if err := session.Ask(w.ctx); err != nil {
		return w.report, w.failed(err)
	}
	w.legs.pass("query", "a statement made the round trip")
	w.finish()
	facts, err := session.Facts(w.ctx)
	if err != nil {
		return w.report, w.failed(err)
	}
	w.report.Server = server(facts, w.clean)
	if err := w.expected(session, facts); err != nil {
		return w.report, w.failed(err)
	}
	w.report.OK = true
	if last := c.Last; last != nil && last.Identity != "" && w.report.Server.Identity != "" && last.Identity != w.report.Server.Identity {
		w.report.Another = fmt.Sprintf("This is another server than at the last good test of %s: its identity was %s, and is %s.",
			last.When.Local().Format("2006-01-02 15:04"), last.Identity, w.report.Server.Identity)
	}
	return w.report, nil
}

// Open walks the route up to the open database. The session is nil when the report holds a finding; the error
// is as Test's. A failure on the open session can be worded with Explain.
func (c Checker) Open(ctx context.Context, p profile.Effective) (engine.Session, *Report, error) {
	w := c.walk(ctx, p)
	session, err := w.open()
	w.report.OK = session != nil
	if session == nil {
		w.stop()
		return nil, w.report, err
	}
	w.finish()
	return ending{session, w}, w.report, nil
}

// ending is a session that ends its route's timers when it closes, and words its failures.
type ending struct {
	engine.Session
	walk *walk
}

func (e ending) Close() {
	e.Session.Close()
	e.walk.stop()
}

// Explain gives the finding for an error of a session that Open gave.
func (c Checker) Explain(session engine.Session, err error) finding.Finding {
	w := session.(ending).walk
	_ = w.failed(err)
	return *w.report.Finding
}

// walk is one way along a route.
type walk struct {
	checker Checker
	parent  context.Context
	ctx     context.Context // ends when a leg or the whole takes too long
	cancel  context.CancelCauseFunc
	timer   *time.Timer
	profile profile.Effective
	info    engine.Info
	secret  secret.Secret
	// secretSaw is where the secret came from
	secretSaw string
	// opening is the statement of on-open that failed
	opening string
	report  *Report
	legs    *recorder
	before  []Leg // the legs before the addresses
	address string
	addrs   []netip.Addr
}

var errSlow = errors.New("a leg took longer than its timeout")

func (c Checker) walk(ctx context.Context, p profile.Effective) *walk {
	w := &walk{checker: c, parent: ctx, profile: p}
	w.info, _ = engine.Lookup(p.Engine)
	w.report = &Report{Profile: p.Name, Attempts: []Attempt{}, Target: Target{
		Engine: p.Engine, Host: p.Host, Port: p.Port, Socket: p.Socket, Database: p.Database, User: p.User,
	}}
	names := []string{"settings", "secret"}
	if p.Socket == "" {
		if _, literal := route.Literal(p.Host); !literal {
			names = append(names, "name")
		}
	}
	w.legs = newRecorder(time.Now, names...)
	w.ctx, w.cancel = context.WithCancelCause(ctx)
	return w
}

func (w *walk) stop() {
	if w.timer != nil {
		w.timer.Stop()
	}
	w.cancel(nil)
}

// clock starts the timers: one for each leg, one for all. They begin after the secret, which a person may
// take time to type.
func (w *walk) clock() {
	leg, total := w.profile.Leg, w.profile.Total
	if leg <= 0 || total <= 0 {
		leg, total = 5*time.Second, 30*time.Second
	}
	end := time.Now().Add(total)
	w.timer = time.AfterFunc(min(leg, total), func() { w.cancel(errSlow) })
	w.legs.next = func(string) { w.timer.Reset(max(0, min(leg, time.Until(end)))) }
}

// finish ends the timers: what comes after the legs has no limit but the caller's.
func (w *walk) finish() {
	if w.timer != nil {
		w.timer.Stop()
	}
	w.settle()
}

// settle puts the legs walked so far into the report.
func (w *walk) settle() {
	w.report.Legs = append(append([]Leg{}, w.before...), w.legs.legs...)
	if w.address != "" {
		w.report.Attempts[len(w.report.Attempts)-1].Legs = w.legs.legs
	} else {
		for _, name := range w.atAddress() {
			w.report.Legs = append(w.report.Legs, Leg{Name: name})
		}
	}
	w.report.MS = 0
	for _, leg := range w.report.Legs {
		w.report.MS += leg.MS
	}
}

// open walks up to the database; the session is nil after a failure.
func (w *walk) open() (engine.Session, error) {
	p := w.profile
	if problem, ok := w.settingsProblem(); ok {
		return nil, w.failed(problem)
	}
	encryption, err := route.Encryption(p.TLS, p.Host)
	if err != nil {
		return nil, w.failed(err)
	}
	w.legs.pass("settings", settingsSaw(p, w.info))
	found, saw, err := w.checker.Secrets.Find(w.ctx, secret.Want{
		Ref: p.Secret, Way: p.Way(), Spared: p.Socket != "" || p.TLS.Cert != "",
	})
	if err != nil {
		return nil, w.failed(err)
	}
	w.secret, w.secretSaw = found, saw
	w.legs.pass("secret", saw)
	w.clock()

	login := engine.Login{
		User: p.User, Database: p.Database, Role: p.Role, Password: found, TLS: encryption, Options: p.Options,
		Socket:  p.Socket != "",
		MayShow: p.Socket != "" || profile.Loopback(p.Host) || p.TLS.Mode == "verify",
	}
	if p.Socket != "" {
		return w.attempt("unix", route.SocketFile(p.Engine, p.Socket), login)
	}
	if w.addrs, err = w.addresses(); err != nil {
		return nil, w.failed(err)
	}
	if _, literal := route.Literal(p.Host); !literal {
		w.legs.pass("name", p.Host+" is "+joined(w.addrs))
	}
	w.before = w.legs.legs
	for i, addr := range w.addrs {
		session, err := w.attempt("tcp", netip.AddrPortFrom(addr, uint16(p.Port)).String(), login)
		last := i == len(w.addrs)-1
		if session != nil || err != nil || last || !elsewhere(w.report.Finding) {
			return session, err
		}
	}
	return nil, nil
}

// addresses looks the host up, unless another test of this run has just waited for that name in vain.
func (w *walk) addresses() ([]netip.Addr, error) {
	silences, key := w.checker.Silences, "name "+w.profile.Host
	if silences != nil {
		if _, silent := silences.Load(key); silent {
			return nil, &engine.Failure{Code: "name.silent", About: map[string]string{"shared": "another profile of this run has just waited for " + w.profile.Host}}
		}
	}
	addrs, err := route.Addresses(w.ctx, w.resolver(), w.profile.Host)
	var failure *engine.Failure
	if errors.As(err, &failure) && failure.Code == "name.silent" && silences != nil && w.parent.Err() == nil {
		silences.Store(key, true)
	}
	return addrs, err
}

// elsewhere tells whether another address of the same name may do better: not once a login was tried.
func elsewhere(f *finding.Finding) bool {
	return f != nil && (f.Leg == "port" || f.Leg == "greeting" || f.Leg == "tls") && f.Code != "greeting.too-many-failures"
}

func joined(addrs []netip.Addr) string {
	texts := make([]string, len(addrs))
	for i, addr := range addrs {
		texts[i] = addr.String()
	}
	return strings.Join(texts, ", ")
}

func (w *walk) resolver() route.Resolver {
	if w.checker.Resolver != nil {
		return w.checker.Resolver
	}
	return net.DefaultResolver
}

// atAddress names the legs that are walked at each address.
func (w *walk) atAddress() []string {
	names := []string{"port", "greeting"}
	if w.profile.TLS.Mode != "off" {
		names = append(names, "tls")
	}
	names = append(names, "login")
	if w.profile.Database != "" {
		names = append(names, "database")
	}
	names = append(names, "query")
	if w.expects() {
		names = append(names, "expect")
	}
	return names
}

// attempt walks the legs at one address.
func (w *walk) attempt(network, address string, login engine.Login) (engine.Session, error) {
	if w.before == nil {
		w.before = w.legs.legs
	}
	next := w.legs.next
	w.legs = newRecorder(time.Now, w.atAddress()...)
	w.legs.next = next
	w.address = address
	w.report.Attempts = append(w.report.Attempts, Attempt{Address: address})
	w.report.Finding = nil
	if w.ctx.Err() != nil && w.parent.Err() == nil {
		// The address before this one used its leg's time up; this one has its own.
		w.ctx, w.cancel = context.WithCancelCause(w.parent)
	}
	next("")

	if silences := w.checker.Silences; silences != nil {
		if _, silent := silences.Load(address); silent {
			return nil, w.failed(&engine.Failure{Code: "port.silent", About: map[string]string{"shared": "another profile of this run has just waited for " + address}})
		}
	}
	conn, err := route.Dial(w.ctx, network, address)
	if err != nil {
		var failure *engine.Failure
		if errors.As(err, &failure) && failure.Code == "port.silent" && w.checker.Silences != nil && w.parent.Err() == nil {
			w.checker.Silences.Store(address, true)
		}
		return nil, w.failed(err)
	}
	w.legs.pass("port", address+" accepts the connection")
	session, err := engines[w.info.Family].Open(w.ctx, conn, login, func(leg, saw string) { w.legs.pass(leg, w.clean(saw)) })
	if err != nil {
		return nil, w.failed(err)
	}
	for _, statement := range w.profile.OnOpen {
		if _, err := session.Run(w.ctx, statement, nothing{}); err != nil {
			session.Close()
			w.opening = statement
			return nil, w.failed(err)
		}
	}
	return session, nil
}

// nothing takes the rows of statements whose rows nobody wants.
type nothing struct{}

func (nothing) Columns([]string) error  { return nil }
func (nothing) Row([]engine.Cell) error { return nil }

func settingsSaw(p profile.Effective, info engine.Info) string {
	return "complete: " + info.Title + " at " + p.Place() + map[string]string{
		"off": ", not encrypted", "encrypt": ", encrypted", "verify": ", encrypted and verified",
	}[p.TLS.Mode]
}

func (w *walk) settingsProblem() (error, bool) {
	if w.profile.NotAgreed != "" {
		return &engine.Failure{Code: "settings.not-agreed", About: map[string]string{"wrong": w.profile.NotAgreed}}, true
	}
	if len(w.profile.Problems) == 0 {
		return nil, false
	}
	problem := w.profile.Problems[0]
	if problem.Missing {
		setting, _ := profile.Find(problem.Setting)
		return &engine.Failure{Code: "settings.incomplete", About: map[string]string{"missing": problem.Text, "flag": setting.Flag}}, true
	}
	return &engine.Failure{Code: "settings.invalid", About: map[string]string{
		"wrong": problem.Text, "setting": strings.ReplaceAll(problem.Setting, ".", " "), "origin": problem.Origin.String(),
	}}, true
}

// clean makes words from outside fit to show; every text of a report that did not start in the profile passes
// through it.
func (w *walk) clean(text string) string { return outside.Text(text, w.secret) }

// failed notes what a leg's error means. It gives an error only when the route was interrupted.
func (w *walk) failed(err error) error {
	if w.parent.Err() != nil {
		return w.parent.Err()
	}
	failure := w.failure(err)
	if failure == nil {
		return err
	}
	leg := finding.Leg(failure.Code)
	about := w.about(failure)
	seen := w.seen(failure, about)
	headline := w.headline(failure, about)
	if i := slices.IndexFunc(w.before, func(l Leg) bool { return l.Name == leg }); i >= 0 {
		no := false
		w.before[i].OK, w.before[i].Saw = &no, headline
	} else {
		w.legs.fail(leg, headline)
	}
	w.finish()
	if !w.checker.NoEvidence {
		seen = append(seen, w.evidence(failure, about)...)
	}
	made := finding.Make(failure.Code, about, seen...)
	w.report.Finding, w.report.Exit, w.report.OK = &made, Exit(made.Leg), false
	return nil
}

// failure gives any error of a leg as a failure; nil for one that is not about the route.
func (w *walk) failure(err error) *engine.Failure {
	var failure *engine.Failure
	if errors.As(err, &failure) {
		return failure
	}
	var problem *secret.Problem
	if errors.As(err, &problem) {
		tried := make([]string, len(problem.Tried))
		for i, line := range problem.Tried {
			tried[i] = w.clean(line)
		}
		return &engine.Failure{Code: problem.Code, Err: err, About: map[string]string{
			"detail": problem.Detail, "mend": problem.Mend, "tried": strings.Join(tried, "\n"), "wallet": problem.Wallet,
		}}
	}
	return nil
}

// headline is what the failed leg's own line says.
func (w *walk) headline(f *engine.Failure, about map[string]string) string {
	switch {
	case f.Words != "":
		return w.clean(f.Words)
	case strings.HasSuffix(f.Code, ".silent"):
		return "no answer within " + about["timeout"]
	case strings.HasSuffix(f.Code, ".closed"):
		return "the connection ended"
	case about["found"] != "":
		return "found " + about["found"]
	case brief[f.Code] != "":
		return brief[f.Code]
	}
	cause := finding.Make(f.Code, about).Cause
	return strings.TrimSuffix(cause, ".")
}

// brief words the failed leg's line where the finding's cause would say too much for it.
var brief = map[string]string{
	"name.not-found":            "no such name",
	"tls.not-offered":           "the server offers no encryption",
	"login.password-wanted":     "the server wants a password",
	"login.would-show-password": "the server asked to be shown the password",
	"greeting.malformed":        "not the protocol of this engine",
	"settings.incomplete":       "incomplete",
	"settings.invalid":          "inconsistent",
	"settings.not-agreed":       "not agreed to",
	"expect.not-met":            "not all expectations hold",
	"expect.cannot-see":         "not all expectations can be seen",
	"secret.none":               "none found",
	"secret.bound-elsewhere":    "what is kept is bound to another way",
	"secret.not-kept":           "nothing is kept for this way",
}

// about collects what a finding's text may name.
func (w *walk) about(f *engine.Failure) map[string]string {
	p := w.profile
	about := map[string]string{
		"subject": p.Name, "profile": p.Name, "place": p.Place(), "host": p.Host, "port": portText(p.Port), "user": p.User,
		"database": p.Database, "role": p.Role, "title": w.info.Title, "usual-port": portText(w.info.Port),
		"timeout": p.Leg.String(), "quote": `"`, "first-database": "postgres",
		finding.Overrides: w.checker.Overrides,
	}
	if w.checker.Admin != nil {
		about["admin"] = w.checker.Admin(p.Place(), p.Name)
	}
	if p.Name == "" {
		about["subject"] = "-"
	}
	w.keep(about)
	if w.address != "" {
		about["place"] = w.address
	}
	switch w.info.Family {
	case "mysql":
		about["quote"], about["first-database"] = "`", "information_schema"
		about["other-host"] = map[string]string{"localhost": "127.0.0.1", "127.0.0.1": "localhost"}[p.Host]
		about["account-statement"] = "select user, host, plugin from mysql.user where user = '" + strings.ReplaceAll(p.User, "'", "''") + "'"
		about["connections-statement"] = "show processlist"
		about["holders-statement"] = "show processlist"
		about["hidden"] = ", or there is no such database: to this user the server does not tell which"
		about["create-statement"] = "create database " + quoted("`", p.Database)
		about["grant-statement"] = "grant select on " + quoted("`", p.Database) + ".* to " + quoted("`", p.User) + "@…"
	case "postgres":
		about["account-statement"] = "select rolname, rolcanlogin, rolvaliduntil from pg_roles where rolname = '" + strings.ReplaceAll(p.User, "'", "''") + "'"
		about["connections-statement"] = "select usename, client_addr, count(*) from pg_stat_activity group by 1, 2"
		about["holders-statement"] = "select pid, usename, state, query from pg_stat_activity where state <> 'idle' and pid <> pg_backend_pid()"
		about["create-statement"] = "create database " + quoted(`"`, p.Database)
		about["grant-statement"] = "grant connect on database " + quoted(`"`, p.Database) + " to " + quoted(`"`, p.User)
	}
	if p.Socket == "" && !profile.Loopback(p.Host) {
		about["remote"] = p.Host
	} else {
		about["local-title"] = w.info.Title
	}
	if p.Database != "" && p.Database == p.User {
		about["same-as-user"] = p.User
	}
	if p.Secret.Kind == secret.Variable {
		about["variable"] = p.Secret.Of
	}
	for name, value := range f.About {
		if name != "tried" {
			value = w.clean(value)
		}
		about[name] = value
	}
	if f.Words != "" {
		about["words"] = w.clean(f.Words)
	}
	return about
}

// keep names the command with which a password is kept for just this way, in the place that the profile names.
func (w *walk) keep(about map[string]string) {
	p := w.profile
	flags := " --profile " + finding.ShellWord(p.Name)
	if p.Name == "" || w.checker.Overrides != "" {
		way := p.Way()
		flags = " --for " + finding.ShellWord(way.Place()) + " --user " + finding.ShellWord(way.User)
		if way.TLS != way.WeakestTLS() {
			flags += " --tls " + way.TLS
		}
	}
	switch p.Secret.Kind {
	case secret.Keyring:
		about["the-keyring"] = "the keyring"
	case secret.Credentials:
		if p.Secret.Of != "" {
			flags = " --file " + finding.ShellWord(p.Secret.Of) + flags
		}
		about["keep"] = "gharbor credentials add" + flags
	case secret.Wallet:
		if p.Secret.Of != "" {
			flags = " --called " + p.Secret.Of + flags
		}
		fallthrough
	default:
		about["keep"] = "gharbor wallet put" + flags
	}
}

func quoted(mark, name string) string { return mark + strings.ReplaceAll(name, mark, mark+mark) + mark }

func portText(port int) string {
	if port == 0 {
		return ""
	}
	return strconv.Itoa(port)
}

// seen lists what the connection itself showed.
func (w *walk) seen(f *engine.Failure, about map[string]string) []string {
	var seen []string
	say := func(format string, args ...any) { seen = append(seen, fmt.Sprintf(format, args...)) }
	switch {
	case f.Words != "" && f.Number != "":
		say("the server said: %s (code %s)", about["words"], f.Number)
	case f.Words != "" && finding.Leg(f.Code) == "port":
		say("the system said: %s", about["words"])
	case f.Words != "":
		say("what came: %s", about["words"])
	}
	switch finding.Leg(f.Code) {
	case "query":
		if w.opening != "" {
			say("the statement was one that the profile runs when it opens a session (on-open): %s", w.clean(w.opening))
		}
	case "secret":
		if about["tried"] != "" {
			seen = append(seen, strings.Split(about["tried"], "\n")...)
		}
	case "login":
		switch {
		case !w.secret.Given():
			say("no password was sent")
		case w.secret.Reveal() == "":
			say("an empty password was sent")
		case f.Code == "login.would-show-password":
			say("the password was not sent")
		default:
			say("the password that was used: %s", w.secretSaw)
		}
		if about["method"] != "" {
			say("way of logging in: %s", about["method"])
		}
	case "port", "name":
		if about["shared"] != "" {
			say("%s", about["shared"])
		}
		if f.Code == "port.refused" {
			say("%s refused the connection at once, so the machine itself is in reach", w.address)
		}
	case "greeting":
		if about["found"] != "" {
			version := ""
			if about["version"] != "" {
				version = " (" + about["version"] + ")"
			}
			say("its first words are those of %s%s", about["found"], version)
		}
		if f.Code == "greeting.malformed" && about["first"] != "" {
			say("its first bytes: %s", about["first"])
		}
	case "tls":
		for _, line := range [][2]string{
			{"certificate", "the certificate is for %s"}, {"names", "names that it holds for: %s"}, {"issuer", "issued by %s"},
			{"from", "holds from %s"}, {"until", "holds until %s"},
		} {
			dated := line[0] == "from" || line[0] == "until"
			if about[line[0]] != "" && (!dated || f.Code == "tls.expired" || f.Code == "tls.not-yet-valid") {
				say(line[1], about[line[0]])
			}
		}
	}
	for _, attempt := range w.report.Attempts[:max(0, len(w.report.Attempts)-1)] {
		for _, leg := range attempt.Legs {
			if leg.OK != nil && !*leg.OK {
				say("before that, %s failed at the leg %s: %s", attempt.Address, leg.Name, leg.Saw)
			}
		}
	}
	if last := w.checker.Last; last != nil && w.secretSaw != "" {
		now := Remember(w.profile, w.report, time.Now())
		for _, line := range last.Differs(now) {
			say("since the last good test (%s): %s", last.When.Local().Format("2006-01-02 15:04"), line)
		}
	}
	return seen
}
