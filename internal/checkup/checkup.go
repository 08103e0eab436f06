// Package checkup walks a profile's route, leg by leg, and says how it went.
//
// A [Checker] opens one connection as the profile says and watches it: nothing is dialled twice
// to find out what the first dial already showed. The route ends at the first leg that fails, and
// only then are other places looked at, for at most a second, to say why. The result is a
// [Report].
package checkup

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/netip"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"gentle-harbor/internal/agree"
	"gentle-harbor/internal/alias"
	"gentle-harbor/internal/cloud"
	"gentle-harbor/internal/container"
	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/guard"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/route"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/target"
)

// Checker tests profiles. Its zero value looks names up as the system does, asks nobody for a
// secret, and gathers evidence on this machine.
type Checker struct {
	// Files says that statements of the session will name files of this machine, which the server
	// may ask for.
	Files    bool
	Resolver route.Resolver // nil for the system's
	Stores   Stores
	Clouds   Clouds
	Kin      Kin
	History  Remembered
	Command  Command
	// Silences shares which addresses do not answer among the tests of one run; nil shares nothing.
	Silences *sync.Map
	// Look gathers what is on this machine after a failure; nil for discover.Databases.
	Look func(ctx context.Context) []Listener
	// Around shares what is seen on this machine among the tests of one run; nil shares nothing.
	Around *Around
	// Authorities says which setting of the environment decides who certifies servers where a
	// profile names no authority; "" where the system's do.
	Authorities string
	// Hops makes the hops of a profile's route; nil for none. Pause stops the clock of the leg
	// while someone is asked.
	Hops func(a agree.Admitted, pause func() (resume func())) ([]route.Hop, error)
	// Engines gives the container engines to ask; nil knows none. Folder is whose Compose project
	// is taken where a profile leaves it out.
	Engines func() ([]container.Engine, error)
	Folder  string
	// Door is a door to the server that was opened over the route; nil for none. The test then
	// goes through it.
	Door *Through
	// Waited gives how long people have been waited for so far, which no leg counts; nil for never.
	Waited func() time.Duration
	// Until is the leg up to which a test goes, one of [LegNames]; "" for the whole route.
	Until string
	// NoEvidence leaves the look around out.
	NoEvidence bool
	// Guard is what may be done in the session; nil for what the profile says. Another is asked
	// under a guard whether to go on where another server answers than last time, which the text
	// says; nil where that is only said.
	Guard *guard.Guard
	// Least is the least strict guard, also where the profile says less.
	Least   string
	Another func(ctx context.Context, text string) error

	road *road // the way is another walk's; nil for one of its own
}

// Stores is where secrets come from.
type Stores struct {
	Secrets secret.Finder
	// Before is the secret that [Checker.Find] gave for the profile at the beginning of a run of
	// several tests; nil when it is found anew.
	Before *Found
	// Flags are the flags of this run that say where secrets come from, each with its value.
	Flags [][]string
}

// Clouds is how the clouds of profiles are asked.
type Clouds struct {
	// Locator gives what asks the cloud of a profile's server; nil knows none.
	Locator func(p profile.Effective) *cloud.Locator
	// Logins are the temporary logins of this process; nil for none.
	Logins *cloud.Logins
	// HopInto names a profile of the user's own that has a hop into a network with an address,
	// and the hop; "" for none. It is asked after a failure; nil knows none.
	HopInto func(address, except string) (profile, hop string)
}

// Kin is what other profiles of the user's own know of the same place. It is asked after a
// failure; what is nil knows none.
type Kin struct {
	// Admin names one that logs in to the same place as someone who may do anything, as its last
	// good test showed; "" for none.
	Admin func(place, except string) string
	// Other names one that leads to the same place as the same user, and the other reference that
	// it has for the secret; "" for none.
	Other func(place, user, except, secret string) (profile, reference string)
	// Users lists the users as which others log in to the same server.
	Users func(place, except string) []string
}

// Remembered is what is known of earlier tests of the profile.
type Remembered struct {
	// Last is the last good one, for what has changed since; nil for none.
	Last *Past
	// Past gives all, the oldest first; nil for none. It is called where the server is another
	// one than at the last.
	Past func() []Past
}

// Command is the command that is carried out, for the commands in remedies.
type Command struct {
	// Flags are those of this run, each with its value.
	Flags [][]string
	// Again names what is connected to where it is not saved: a connection string without a
	// password; "" for one that is read from standard input.
	Again string
	// Unsaved says that the profile is being added.
	Unsaved bool
}

// Through is a door that a test goes through.
type Through struct {
	At route.Address
	// Encrypted says how the door encrypts the connection of this test to the server, and what
	// certificate it met there; nil for a door that leaves encryption to its clients.
	Encrypted func() (saw, certificate string)
}

// encrypts reports whether encryption is the door's affair, and not the test's.
func (t *Through) encrypts() bool { return t != nil && t.Encrypted != nil }

// Found is what a profile's reference led to, and where it came from.
type Found struct {
	Source secret.Source
	secret secret.Secret
	user   string
	later  bool // it is for a container that was not compared yet
}

// Later reports whether the secret can only be had once the profile's container is found.
func (f Found) Later() bool { return f.later }

// Secret gives the secret. What is for a container is given only with the container that was
// found (nil for none): what a store keeps must be for this very one, and what the container
// itself holds is read now. The error is a *finding.Problem.
func (f Found) Secret(at *container.Lookup) (secret.Secret, error) {
	switch {
	case !f.later:
		return f.secret, nil
	case at == nil:
		return secret.Secret{}, &finding.Problem{Code: finding.SecretContainerHasNone,
			Facts: finding.Facts{finding.FactDetail: "The container is not found, so nobody can say whether the " +
				"password is for it."}}
	}
	return at.Secret(f.user, f.secret, f.Source)
}

// At gives what was found as it is with the container that was found.
func (f Found) At(container *container.Lookup) (Found, error) {
	s, err := f.Secret(container)
	return Found{Source: f.Source, secret: s, user: f.user}, err
}

// find is [Checker.Find], for the profile as it is walked. A user that comes with the secret is
// the profile's then.
func (w *walk) find() (found Found, err error) {
	err = w.unhurried(func() error {
		found, err = w.checker.find(w.ctx, w.admitted, w.profile)
		return err
	})
	if w.profile.User == "" {
		w.profile.User = found.Source.User
	}
	return found, err
}

// unhurried does what may ask a person. The time that the answer took is left out of the leg.
func (w *walk) unhurried(do func() error) error {
	waited := w.checker.Waited
	if waited == nil {
		waited = func() time.Duration { return 0 }
	}
	before := waited()
	err := do()
	if w.legs.last = w.legs.last.Add(waited() - before); w.legs.last.After(w.legs.now()) {
		w.legs.last = w.legs.now() // other tests waited at the same time
	}
	return err
}

// Find gives the secret for a profile, as the leg "secret" does: the one that was found before,
// else where the profile's reference leads.
func (c Checker) Find(ctx context.Context, a agree.Admitted) (Found, error) {
	p, err := c.located(ctx, a.Profile())
	if err != nil {
		return Found{}, err
	}
	return c.find(ctx, a, p)
}

func (c Checker) find(ctx context.Context, a agree.Admitted, p profile.Effective) (Found, error) {
	if c.Stores.Before != nil {
		return *c.Stores.Before, nil
	}
	finder := c.Stores.Secrets
	finder.Start, finder.Login = a.Command, c.cloudLogin(c.locatorOf(p))
	to := p.Target()
	to.Later = p.InContainer() && p.Found.How == "" // it is compared when the container is found, before anything is sent
	s, source, err := finder.Find(ctx, secret.Want{Ref: p.Secret, Target: to, Spared: p.Socket != "" || p.TLS.Cert != ""})
	kept := source.Kept != nil && source.Kept.Container != ""
	return Found{Source: source, secret: s, user: cmp.Or(p.User, source.User),
		later: to.Later && (kept || source.Kind == secret.Container)}, err
}

// Test walks the whole route, asks the server one thing and then for its facts, and hangs up. The
// error is ctx's when the test was interrupted, or that of asking a person for the secret;
// everything else is in the report.
func (c Checker) Test(ctx context.Context, a agree.Admitted) (*Report, error) {
	if !LogsIn(c.Until) {
		return c.short(ctx, a)
	}
	w := c.walk(ctx, a)
	defer w.stop()
	session, err := w.open()
	if err != nil {
		return w.report, err
	}
	if session == nil {
		return w.report, nil
	}
	defer session.Close()
	if w.past("query") {
		w.got()
		return w.report, nil
	}
	if err := session.Ask(w.ctx); err != nil {
		return w.report, w.failed(err)
	}
	// The clock goes on: a server that answers the first statement may well be silent at the next.
	w.legs.pass("query", "a statement made the round trip")
	w.settle()
	if c.Until == "query" {
		w.got()
		return w.report, nil
	}
	facts, err := w.facts(session)
	if err != nil {
		return w.report, w.failed(err)
	}
	w.noteContainer(facts.Login == engine.Unasked)
	w.noteNames(facts)
	for _, said := range facts.Beside {
		w.report.Notes = append(w.report.Notes, "The server let you in and said: "+w.veil().Words(said.Text))
	}
	if facts.Login == engine.Unasked && given(w.secret) {
		w.report.Notes = append(w.report.Notes,
			"The server did not ask for the password, so this test does not show that it is right.")
	}
	if err := w.expected(session, facts, true); err != nil {
		return w.report, w.failed(err)
	}
	if err := w.openingStatements(session); err != nil {
		return w.report, w.failed(err)
	}
	w.report.OK, w.report.Another = true, w.another()
	return w.report, nil
}

// facts asks the server for what it knows of itself and of this session.
func (w *walk) facts(session engine.Session) (engine.Facts, error) {
	facts, err := session.Facts(w.ctx)
	if err != nil {
		return facts, err
	}
	if w.checker.Door.encrypts() {
		facts.Encryption, facts.Certificate = w.checker.Door.Encrypted()
	}
	w.report.Server = server(facts, w.clean)
	return facts, nil
}

// ready has a session be what the profile expects, before anything is done in it; then come the
// statements of on-open.
func (w *walk) ready(session engine.Session) error {
	if w.expects(false) || w.checker.History.Last != nil && w.checker.History.Last.Identity != "" {
		w.legs.next("database")
		facts, err := w.facts(session)
		if err != nil {
			return err
		}
		if err := w.expected(session, facts, false); err != nil {
			return err
		}
		w.report.Another = w.another()
	}
	own := guard.Guard{Level: guard.Level(w.profile.Guard)}
	if text := w.report.Another; text != "" && own.On() && w.checker.Another != nil {
		if err := w.same(text); err != nil {
			return err
		}
	}
	return w.openingStatements(session)
}

// same asks whether to go on where another server answers than last time.
func (w *walk) same(text string) error {
	resume := w.pause()
	err := w.checker.Another(w.parent, text)
	resume()
	if errors.Is(err, ErrAnother) {
		return &finding.Problem{Code: finding.ExpectOtherIdentity,
			Facts: finding.Facts{finding.FactGuard: w.profile.Guard, finding.FactWhat: text}}
	}
	w.report.Another = "" // it was said
	return err
}

// ErrAnother says not to go on where another server answers than last time.
var ErrAnother = errors.New("another server answers than at the last good test")

// openingStatements runs the statements of on-open. One that fails is a failure of the leg
// "database": the session is not what the profile wants.
func (w *walk) openingStatements(session engine.Session) error {
	if len(w.profile.OnOpen) > 0 {
		w.legs.next("database")
		shared, err := engine.IsShared(w.ctx, session)
		if err == nil && shared {
			w.legs.after("database")
			err = engine.Pooled("what the profile runs when it opens a session (on-open)")
		}
		if err != nil {
			return err
		}
	}
	for _, statement := range w.profile.OnOpen {
		w.legs.next("database")
		_, err := w.opens().Run(w.ctx, session, statement, func() (engine.Summary, error) {
			return engine.Summary{}, do(w.ctx, session, statement)
		})
		if err == nil {
			continue
		}
		w.opening = statement
		w.legs.after("database")
		var p *finding.Problem
		if !errors.As(err, &p) || p.Code.Leg() != "query" {
			return err
		}
		failed := *p
		switch failed.Err = p; p.Code {
		case finding.QuerySilent:
			failed.Code = finding.DatabaseSilent
		case finding.QueryClosed:
			failed.Code = finding.DatabaseClosed
		case finding.QueryTooMuch:
			failed.Code = finding.DatabaseTooMuch
		case finding.QueryGuarded:
			failed.Code = finding.DatabaseGuarded
		default:
			failed.Code = finding.DatabaseOnOpen
		}
		return &failed
	}
	return nil
}

// opens gives the guard of the statements of on-open: where what changes something is asked
// about, the profile's own statements are agreed to by it.
func (w *walk) opens() *guard.Guard {
	g := *w.guard
	g.Agreed, g.Changing = true, nil
	return &g
}

// another is [walk.anotherThan] for the server that was met.
func (w *walk) another() string {
	if w.report.Server == nil {
		return ""
	}
	return w.anotherThan(w.report.Server.Identity)
}

// anotherThan says that the server of an identity is not the one of the last good test, "" where
// it is, or where nobody knows. A server that was met before at this address, or at another one
// while this address was never met, is one of several that serve the profile.
func (w *walk) anotherThan(identity string) string {
	last := w.checker.History.Last
	if last == nil || last.Identity == "" || identity == "" || last.Identity == identity {
		return ""
	}
	before, known := *last, false
	if w.checker.History.Past != nil {
		for _, past := range slices.Backward(w.checker.History.Past()) {
			if !past.OK || past.Once || past.Identity == "" {
				continue
			}
			if past.Address == w.address {
				if before = past; past.Identity == identity {
					return ""
				}
				known = false
				break
			}
			known = known || past.Identity == identity
		}
	}
	if known {
		return ""
	}
	text := fmt.Sprintf("This is another server than at the last good test of %s: its identity was %s, and is %s.",
		before.When.Local().Format("2006-01-02 15:04"), before.Identity, identity)
	found := w.found()
	switch {
	case found != nil && len(found.Mounts) == 0:
		text += " Its container has no volume, so its data went when the container was made anew."
	case w.profile.Alias != "" && before.Address != "" && before.Address != w.address:
		text += fmt.Sprintf(" The alias %s led to %s then, and leads to %s.", w.profile.Alias, before.Address, w.address)
	}
	return text
}

// Open walks the route up to the open database, has the session meet what the profile expects of
// it but for its latency, and runs the statements of on-open: nothing was done before. The
// session is nil when the report holds a finding; the error is as Test's. A failure on the open
// session can be worded with [Explain].
func (c Checker) Open(ctx context.Context, a agree.Admitted) (engine.Session, *Report, error) {
	w := c.walk(ctx, a)
	session, err := w.open()
	if session != nil {
		if failed := w.ready(session); failed != nil {
			session.Close()
			session, err = nil, w.failed(failed)
		}
	}
	w.report.OK = session != nil
	if session == nil {
		w.stop()
		return nil, w.report, err
	}
	w.finish()
	return ending{session, w}, w.report, nil
}

// given reports whether there is a secret that is more than an empty text.
func given(s secret.Secret) bool { return s.Reveal() != "" }

// ending is a session that ends its route's timers when it closes, and words its failures. A
// question of our own takes as long as a leg at the most; a person's statement, which goes
// through Run, takes as long as it takes.
type ending struct {
	engine.Session
	walk *walk
}

func (e ending) limited(ctx context.Context) (context.Context, context.CancelFunc) {
	return context.WithTimeoutCause(ctx, e.walk.leg(), errSlow)
}

func (e ending) Ask(ctx context.Context) error {
	ctx, cancel := e.limited(ctx)
	defer cancel()
	return e.Session.Ask(ctx)
}

func (e ending) Facts(ctx context.Context) (engine.Facts, error) {
	ctx, cancel := e.limited(ctx)
	defer cancel()
	return e.Session.Facts(ctx)
}

// Inner implements engine.Wrapper.
func (e ending) Inner() engine.Session { return e.Session }

func (e ending) Shared(ctx context.Context) (bool, error) {
	ctx, cancel := e.limited(ctx)
	defer cancel()
	return e.Session.(engine.Shared).Shared(ctx)
}

func (e ending) Databases(ctx context.Context) ([]engine.Database, error) {
	ctx, cancel := e.limited(ctx)
	defer cancel()
	return e.Session.(engine.Lister).Databases(ctx)
}

func (e ending) Visible(ctx context.Context, tables []string) (map[string]bool, error) {
	ctx, cancel := e.limited(ctx)
	defer cancel()
	return e.Session.(engine.Lister).Visible(ctx, tables)
}

func (e ending) May(ctx context.Context, right, table string) (*bool, error) {
	ctx, cancel := e.limited(ctx)
	defer cancel()
	return e.Session.(engine.Rights).May(ctx, right, table)
}

func (e ending) Do(ctx context.Context, statement engine.Statement) error {
	ctx, cancel := e.limited(ctx)
	defer cancel()
	_, err := e.walk.guard.Run(ctx, e.Session, statement.Text, func() (engine.Summary, error) {
		return engine.Summary{}, e.Session.(engine.Runner).Do(ctx, statement)
	})
	return err
}

// Run has no limit: it is a person's statement. What the server says beside the result is cleaned
// like all its words.
func (e ending) Run(ctx context.Context, statement engine.Statement, out engine.Rows) (engine.Summary, error) {
	if heard := statement.Heard; heard != nil {
		veil := e.walk.veil()
		statement.Heard = func(n engine.Notice) {
			n.Text, n.Detail, n.Hint = outside.Said(veil.Short(n.Text, 2000)), outside.Said(veil.Short(n.Detail,
				2000)), outside.Said(veil.Short(n.Hint, 2000))
			heard(n)
		}
	}
	return e.walk.guard.Run(ctx, e.Session, statement.Text, func() (engine.Summary, error) {
		return e.Session.(engine.Runner).Run(ctx, statement, out)
	})
}

func (e ending) Foreign(ctx context.Context, names []string) ([]string, error) {
	ctx, cancel := e.limited(ctx)
	defer cancel()
	return e.Session.(engine.Catalogue).Foreign(ctx, names)
}

func (e ending) Written(ctx context.Context) (engine.Lexical, error) {
	ctx, cancel := e.limited(ctx)
	defer cancel()
	return e.Session.(engine.Written).Written(ctx)
}

func (e ending) Shape(ctx context.Context, schema, table string) (engine.Shape, error) {
	ctx, cancel := e.limited(ctx)
	defer cancel()
	shape, err := e.Session.(engine.Loader).Shape(ctx, schema, table)
	// Names go into statements as they are: one that holds the secret is none.
	veil := e.walk.veil()
	shape.Columns = slices.DeleteFunc(shape.Columns, func(c engine.ShapeColumn) bool { return veil.Holds(c.Name) })
	shape.Near = slices.DeleteFunc(shape.Near, veil.Holds)
	for i := range shape.Columns {
		shape.Columns[i].Type = veil.Text(shape.Columns[i].Type)
	}
	shape.Kept = veil.Text(shape.Kept)
	return shape, err
}

// Survey has no limit, as Run has none. It only reads, with any guard; what it gives is the
// server's word, and without the secret.
func (e ending) Survey(ctx context.Context, list engine.List, scope engine.Scope,
	out engine.Rows) (engine.Sight, error) {
	veil := e.walk.veil()
	sight, err := e.Session.(engine.Surveyor).Survey(ctx, list, scope, veiled{out, veil})
	return sight.Cleaned(veil.Text), without(err, veil)
}

func (e ending) Table(ctx context.Context, name string) (engine.Relation, error) {
	ctx, cancel := e.limited(ctx)
	defer cancel()
	table, err := e.Session.(engine.Surveyor).Table(ctx, name)
	table.Shown = e.walk.clean(table.Schema + "." + table.Name)
	return table, without(err, e.walk.veil())
}

// Examine gives the server's word, and without the secret.
func (e ending) Examine(ctx context.Context, a engine.Attempt) (engine.Examined, error) {
	ctx, cancel := e.limited(ctx)
	defer cancel()
	found, err := e.Session.(engine.Examiner).Examine(ctx, a)
	clean := e.walk.clean
	found.Client = clean(found.Client)
	for i := range found.Rules {
		r := &found.Rules[i]
		r.Where, r.Says, r.Why = clean(r.Where), clean(r.Says), clean(r.Why)
	}
	for _, list := range [][]string{found.Says, found.Fixes} {
		for i := range list {
			list[i] = clean(list[i])
		}
	}
	return found, err
}

// without gives an error about something that is not there without names that hold the secret.
func without(err error, veil outside.Veil) error {
	var missing *engine.NotThere
	if errors.As(err, &missing) {
		missing.Near = slices.DeleteFunc(missing.Near, veil.Holds)
		missing.Several = slices.DeleteFunc(missing.Several, veil.Holds)
	}
	return err
}

// veiled are rows without the secret.
type veiled struct {
	engine.Rows
	veil outside.Veil
}

func (v veiled) Row(cells []engine.Cell) error {
	for i, cell := range cells {
		if v.veil.Holds(cell.Text) {
			cells[i].Text = v.veil.Text(cell.Text)
		}
	}
	return v.Rows.Row(cells)
}

// About implements [Abouter].
func (e ending) About(ctx context.Context) (*Server, error) {
	facts, err := e.Facts(ctx)
	if err != nil {
		return nil, err
	}
	return server(facts, e.walk.clean), nil
}

// Abouter is a session that [Checker.Open] gave: it says what the server says of itself and of
// us, without the secret.
type Abouter interface {
	About(ctx context.Context) (*Server, error)
}

// Drop implements engine.Dropper.
func (e ending) Drop() {
	if dropper, can := e.Session.(engine.Dropper); can {
		dropper.Drop()
	}
}

// Switch implements engine.Switcher.
func (e ending) Switch(ctx context.Context, database string) error {
	ctx, cancel := e.limited(ctx)
	defer cancel()
	return e.Session.(engine.Switcher).Switch(ctx, database)
}

// Standing implements engine.Stander. Its names are clean.
func (e ending) Standing() engine.Standing {
	at := e.Session.(engine.Stander).Standing()
	at.Database, at.User = e.walk.clean(at.Database), e.walk.clean(at.User)
	return at
}

// Load has no limit, as Run has none; to the guard it is an insert.
func (e ending) Load(ctx context.Context, l engine.Load) (n int64, err error) {
	_, err = e.walk.guard.Run(ctx, e.Session, "insert", func() (engine.Summary, error) {
		n, err = e.Session.(engine.Loader).Load(ctx, l)
		return engine.Summary{}, err
	})
	return n, err
}

func (e ending) Together(ctx context.Context, onlyReads bool, do func() error) error {
	if onlyReads {
		return e.Session.(engine.Runner).Together(ctx, true, do)
	}
	return e.walk.guard.Together(ctx, e.Session.(engine.Runner), do)
}

func (e ending) Close() {
	e.Session.Close()
	e.walk.stop()
}

// walk is one test or opening of a route.
type walk struct {
	checker Checker
	guard   *guard.Guard
	parent  context.Context
	mu      sync.Mutex
	ctx     context.Context // ends when a leg or the whole takes too long; see present
	over    time.Time       // when that is, zero for not known
	cancel  context.CancelCauseFunc
	timer   *time.Timer
	limit   time.Duration // how long the leg that is walked may take
	end     time.Time     // when all is to be over
	// admitted is what the connection is made from, profile its settings
	admitted agree.Admitted
	profile  profile.Effective
	info     engine.Info
	held     Found // what was found, before the container was
	secret   secret.Secret
	source   secret.Source // where the secret came from
	// opening is the statement of on-open that failed
	opening string
	// targets are those that the SRV records of the alias name, nil for none
	targets []target.Address
	wishes  map[string]string // the options of the session, see options
	// container finds the container that says where the server is, nil for none
	container *container.Locator
	// cloud finds the cloud's server, nil for none; cloudSeen is what the cloud said after a failure
	cloud     *cloud.Locator
	cloudSeen []string
	route     route.Route
	path      *route.Path
	report    *Report
	legs      *recorder
	before    []Leg // the legs before the addresses
	// at is the address that is tried, and address its text; met is how it is written, where an
	// alias, a container or a cloud says it: the profile itself stays as it is written
	at      route.Address
	address string
	met     place
	missed  bool // the attempt is at an address that was not found
	addrs   []netip.Addr
	// sent is the login method to which the password, or what is computed from it, was given
	sent string
}

// place is where a server is met: a host and a port, or a socket.
type place struct {
	Host   string
	Port   int
	Socket string
}

// road is an open way to the very address that another walk has met, and what that walk found of
// it.
type road struct {
	path      *route.Path
	container *container.Locator
	cloud     *cloud.Locator
}

var errSlow = errors.New("a leg took longer than its timeout")

func (c Checker) walk(ctx context.Context, a agree.Admitted) *walk {
	p := a.Profile()
	w := &walk{checker: c, parent: ctx, admitted: a, profile: p}
	w.info, _ = known.Info(p.Engine)
	if w.guard = c.Guard; w.guard == nil {
		w.guard = &guard.Guard{}
	}
	if w.checker.Around == nil {
		w.checker.Around = &Around{}
	}
	w.guard.Level, w.guard.Language = guard.Level(guard.Stricter(p.Guard, c.Least)), w.info.Language
	w.cloud = c.locatorOf(p)
	w.met = place{p.Host, p.Port, p.Socket}
	w.report = &Report{Profile: p.Name, Attempts: []Attempt{}, Target: targetOf(p)}
	w.route = w.routeOf()
	w.legs = newRecorder(time.Now, w.beforeAddress()...)
	w.ctx, w.cancel = context.WithCancelCause(ctx)
	return w
}

func targetOf(p profile.Effective) Target {
	return Target{Engine: p.Engine, Host: p.Host, Port: p.Port, Socket: p.Socket, Alias: p.Alias,
		Container: p.Contained.String(), Cloud: p.Clouded.String(), Database: p.Database, Instance: p.Instance,
		User: p.User}
}

// beforeAddress names the legs that come before an address is known: the route's, but for the
// last one.
func (w *walk) beforeAddress() []string {
	legs := w.route.Legs()
	first := []string{"settings", "secret"}
	if w.cloud != nil {
		first = []string{"settings", "cloud", "secret"}
	}
	return append(first, legs[:len(legs)-1]...)
}

func (w *walk) stop() {
	if w.path != nil {
		_ = w.path.Close()
	}
	if w.timer != nil {
		w.timer.Stop()
	}
	w.cancel(nil)
}

// clock starts the timers: one for each leg, one for all. They begin after the secret, which a
// person may take time to type.
func (w *walk) clock() {
	leg, total := w.leg(), w.profile.Total
	if total <= 0 {
		total = 30 * time.Second
	}
	w.end = time.Now().Add(total)
	w.limit = min(leg, total)
	w.timer = time.AfterFunc(w.limit, w.slow)
	w.allow(w.limit)
	w.legs.next = func(string) {
		w.limit = max(0, min(leg, time.Until(w.end)))
		w.timer.Reset(w.limit)
		w.allow(w.limit)
	}
}

// pause stops the clock while a person or an agent is asked; the leg then has its whole time again.
func (w *walk) pause() (resume func()) {
	if w.timer == nil {
		return func() {}
	}
	w.timer.Stop()
	w.allow(0)
	began := time.Now()
	return func() {
		w.end = w.end.Add(time.Since(began))
		w.legs.last = w.legs.last.Add(time.Since(began)) // it is not the leg's time
		w.timer.Reset(w.limit)
		w.allow(w.limit)
	}
}

// leg gives the longest that one leg may take.
func (w *walk) leg() time.Duration {
	if w.profile.Leg > 0 {
		return w.profile.Leg
	}
	return 5 * time.Second
}

// finish ends the timers, when no leg is walked any more.
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

// settings walks the first leg, and gives how the connection is encrypted.
func (w *walk) settings() (*tls.Config, error) {
	p := w.profile
	if problem, ok := w.settingsProblem(); ok {
		return nil, problem
	}
	encryption, err := route.Encryption(p.TLS, p.Host, w.admitted.ReadFile)
	if err != nil {
		return nil, err
	}
	saw := settingsSaw(p, w.info)
	if p.TLS.Mode == "verify" && p.TLS.CA == "" && w.checker.Authorities != "" && !p.InCloud() {
		saw += " by the authorities of " + w.clean(w.checker.Authorities)
	}
	w.legs.pass("settings", saw)
	return encryption, nil
}

// open walks up to the database; the session is nil after a failure.
func (w *walk) open() (engine.Session, error) {
	p := w.profile
	encryption, err := w.settings()
	if err != nil {
		return nil, w.failed(err)
	}
	if err := w.inCloud(encryption); err != nil {
		return nil, w.failed(err)
	}
	found, err := w.find()
	if err != nil {
		return nil, w.failed(err)
	}
	w.held, w.source = found, found.Source
	if !found.Later() {
		if w.secret, err = found.Secret(nil); err != nil {
			return nil, w.failed(err)
		}
	}
	w.legs.pass("secret", found.Source.String())
	w.clock()
	if err := w.enter(); err != nil {
		return nil, w.failed(err)
	}
	session, err := Open(present{w}, w.path, known.Engine(p.Engine), w.login(), w.line(encryption), Role(p.Wants), w)
	if err != nil {
		w.unanswered(err)
		return nil, w.failed(err)
	}
	return session, nil
}

// enter opens the way to the server.
func (w *walk) enter() (err error) {
	if w.checker.road != nil {
		w.path = w.checker.road.path
		return nil
	}
	w.path, err = w.route.Open(present{w}, w.pass)
	return err
}

func do(ctx context.Context, session engine.Session, statement string) error {
	runner, can := engine.As[engine.Runner](session)
	if !can {
		return engine.Cannot(string(engine.Runs))
	}
	return runner.Do(ctx, engine.Statement{Text: statement})
}

// pass notes a leg that passed.
func (w *walk) pass(leg, saw string) { w.legs.pass(leg, w.clean(saw)) }

func (w *walk) login() engine.Login {
	p := w.profile
	return engine.Login{User: p.User, Database: p.Database, Instance: p.Instance, Role: p.Role,
		Options: w.options(), Methods: p.LoginMethods, Leg: w.leg(), Pooled: engine.Pooling(p.Pooled),
		Files: w.checker.Files}
}

// options gives the options of the session: those of the profile, and beside them those that the TXT
// record of its alias says. The map is one and the same, so that what is found later is in it too.
func (w *walk) options() map[string]string {
	if w.wishes == nil {
		w.wishes = map[string]string{}
		maps.Copy(w.wishes, w.profile.Options)
	}
	return w.wishes
}

// line gives what may be sent over a connection, by what was met at its other end.
func (w *walk) line(encryption *tls.Config) Lines {
	t := w.profile.Target()
	all := t
	return func(at route.Address, met target.Reached) engine.Line {
		t := all.At(at.Written)
		if at.Led != "" {
			t.Endpoint = target.Endpoint{Host: strings.ToLower(at.Written.Name), Port: at.Written.Port, Database: t.Database}
		}
		line := engine.Line{TLS: encryption, MayShow: t.MayShow(met), Unverified: t.Unverified(met), Given: w.secret.Given()}
		if w.checker.Door.encrypts() {
			line.TLS = nil
		} else if encryption != nil && at.Led != "" && w.profile.TLS.ServerName == "" {
			line.TLS = encryption.Clone()
			line.TLS.ServerName = at.Written.Name
		} else if encryption != nil && at.ServerName != "" && w.profile.TLS.ServerName == "" {
			line.TLS = encryption.Clone()
			line.TLS.ServerName = at.ServerName
		}
		line.Secret = func(method string) secret.Secret {
			if w.secret.Reveal() != "" {
				w.sent, w.report.Sent = method, true
				if line.Unverified {
					w.guessable()
				}
			}
			return w.secret
		}
		return line
	}
}

// guessable notes that whoever answered can try to guess the password.
func (w *walk) guessable() {
	w.report.Notes = append(w.report.Notes[:0],
		"The password was used for "+w.sent+" with a server whose identity is not checked: whoever answers "+
			"there can now try to guess it, as often as they like. With tls verify only the right server gets that far.")
}

// Try begins the legs of another address; it is a part of [Watch].
func (w *walk) Try(at route.Address) (context.Context, error) {
	if w.before == nil {
		w.before = w.legs.legs
	}
	next := w.legs.next
	w.legs = newRecorder(time.Now, w.atAddress()...)
	w.legs.next, w.missed = next, false
	w.begin(at.String(), at)
	if err := w.contained(); err != nil {
		return w.ctx, err
	}
	if err := w.unmoved(); err != nil {
		return w.ctx, err
	}
	if w.silent(w.reached()) {
		return w.ctx, &finding.Problem{Code: finding.PortSilent,
			Facts: finding.Facts{finding.FactShared: "another profile of this run has just waited for " + w.address}}
	}
	return w.ctx, nil
}

// Lead decides whether the connection may go where a server leads it, and says how; it is a part
// of [Watch]. What is stored for one server is sent to no other, whoever says that it is the
// same. Which addresses a server may lead to is the path's own affair.
func (w *walk) Lead(to route.Address) (route.Address, error) {
	if why := w.keptFor(to.Written); why != "" {
		return to, &finding.Problem{Code: finding.GreetingLedElsewhere,
			Facts: finding.Facts{finding.FactLedTo: to.Written.String(), finding.FactLedFrom: to.Led,
				finding.FactDetail: why}}
	}
	return to, nil
}

// keptFor says why the stored secret may not be sent to another address that the server leads to,
// "" where it may, and where none is stored.
func (w *walk) keptFor(to target.Address) string {
	kept := w.source.Kept
	if kept == nil {
		return ""
	}
	dest := w.profile.Target()
	if dest.Endpoint.Alias != "" && slices.ContainsFunc(w.profile.Addresses, func(a target.Address) bool {
		return a.Kind == target.Host && strings.EqualFold(a.Name, to.Name) && a.Port == to.Port
	}) {
		return ""
	}
	dest.Endpoint = target.Endpoint{Host: strings.ToLower(to.Name), Port: to.Port, Database: dest.Database}
	if lines := kept.Differs(dest); len(lines) > 0 {
		return "The password is stored, and " + lines[0] + "."
	}
	return ""
}

// Miss begins and ends an attempt at an address that was not found; it is a part of [Watch].
func (w *walk) Miss(at route.Address) {
	if w.before == nil {
		w.before = w.legs.legs
	}
	next, began := w.legs.next, w.legs.last // it was looked up since then
	w.legs = newRecorder(time.Now, append([]string{"name"}, w.atAddress()...)...)
	w.legs.next, w.legs.last, w.missed = next, began, true
	w.begin(at.Written.String(), at)
}

// begin notes the address that is tried now.
func (w *walk) begin(address string, at route.Address) {
	w.at, w.address = at, address
	switch at.Written.Kind {
	case target.Socket:
		w.met = place{Socket: at.Host}
	case "":
		if w.container != nil { // a cloud's server keeps the name that the cloud says
			w.met = place{Host: at.Host, Port: at.Port}
		}
	case target.Host:
		w.met = place{Host: at.Written.Name, Port: at.Written.Port}
	}
	w.report.Served, w.report.Marks, w.report.Led = at.Written, at.Marks, at.Led
	w.report.Attempts = append(w.report.Attempts, Attempt{Address: w.address})
	if w.ctx.Err() != nil && w.parent.Err() == nil {
		// The address before this one used its leg's time up; this one has its own.
		ctx, cancel := context.WithCancelCause(w.parent)
		w.mu.Lock()
		w.ctx, w.cancel = ctx, cancel
		w.mu.Unlock()
	}
	w.legs.next("")
}

// Pass notes a leg that passed; it is a part of [Watch]. A name that was found after one that was
// not is none of that attempt's.
func (w *walk) Pass(leg, saw string) {
	if !w.missed || leg != "name" {
		w.pass(leg, saw)
	}
}

// Fail notes that an address did not do, and that another is tried; it is a part of [Watch].
func (w *walk) Fail(_ route.Address, err error) {
	w.unanswered(err)
	var problem *finding.Problem
	if errors.As(err, &problem) {
		problem = w.classified(problem)
		w.legs.fail(problem.Code.Leg(), w.headline(problem, w.about(problem)))
	}
	w.report.Attempts[len(w.report.Attempts)-1].Legs = w.legs.legs
}

// reached names the address that is tried, and from where: the same private address behind two
// hops is two.
func (w *walk) reached() string { return w.address + " " + w.profile.Behind() }

// unanswered notes an address that did not answer at all.
func (w *walk) unanswered(err error) {
	var problem *finding.Problem
	if errors.As(err, &problem) && problem.Code == finding.PortSilent && problem.Facts[finding.FactShared] == "" {
		w.silenced(w.reached())
	}
}

// silent reports whether another test of this run has waited for something for as long as this
// one would, with no answer.
func (w *walk) silent(key string) bool {
	if w.checker.Silences == nil {
		return false
	}
	waited, known := w.checker.Silences.Load(key)
	return known && waited.(time.Duration) >= w.limit
}

// silenced notes that there was no answer within this leg's limit.
func (w *walk) silenced(key string) {
	if w.checker.Silences == nil || w.parent.Err() != nil {
		return
	}
	if before, known := w.checker.Silences.Load(key); !known || before.(time.Duration) < w.limit {
		w.checker.Silences.Store(key, w.limit)
	}
}

// sharing is a name service whose silences are shared among the tests of one run. It remembers
// the last answer.
type sharing struct {
	walk  *walk
	inner route.Resolver
}

// LookupNetIP looks a name up, unless another test of this run has just waited for it without an
// answer.
func (s sharing) LookupNetIP(ctx context.Context, network, host string) ([]netip.Addr, error) {
	key := "name " + host
	if s.walk.silent(key) {
		return nil, &finding.Problem{Code: finding.NameSilent,
			Facts: finding.Facts{finding.FactShared: "another profile of this run has just waited for " + host}}
	}
	addrs, err := s.inner.LookupNetIP(ctx, network, host)
	if err != nil && finding.Silent(ctx, err) {
		s.walk.silenced(key)
	}
	s.walk.led(addrs)
	return addrs, err
}

// led notes where the name led that was looked up last. Several may be looked up at the same time.
func (w *walk) led(addrs []netip.Addr) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.addrs = addrs
}

// ledTo gives where the name led.
func (w *walk) ledTo() []netip.Addr {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.addrs
}

// origin says where the system's name service has names from; nil where another one is asked.
func (c Checker) origin() func(string, []netip.Addr) string {
	if c.Resolver != nil {
		return nil
	}
	return route.FromWhere
}

func (w *walk) resolver() route.Resolver {
	if w.checker.Resolver != nil {
		return sharing{w, w.checker.Resolver}
	}
	return sharing{w, net.DefaultResolver}
}

// locators makes what finds a server, by the setting that says where it is. A new kind of address
// adds its line here.
var locators = map[target.Kind]func(w *walk, address target.Address) route.Locator{
	target.Host: func(w *walk, address target.Address) route.Locator {
		return route.AtHost{Host: w.profile.Host, Port: address.Port, Resolver: w.resolver(), Origin: w.checker.origin()}
	},
	target.Container: func(w *walk, address target.Address) route.Locator {
		engines := w.checker.Engines
		if engines == nil {
			engines = func() ([]container.Engine, error) { return nil, container.ErrNone }
		}
		w.container = &container.Locator{Want: w.profile.Contained, Port: address.Port, Info: w.info,
			Folder: w.profile.ComposeFolder(w.checker.Folder), Engines: engines}
		return w.container
	},
	target.Cloud: func(w *walk, _ target.Address) route.Locator {
		w.cloud.Resolver, w.cloud.Origin = w.resolver(), w.checker.origin()
		return w.cloud
	},
	target.Alias: func(w *walk, _ target.Address) route.Locator {
		p := w.profile
		services, _ := w.checker.Resolver.(alias.Services)
		may := map[string]string{}
		for _, option := range w.info.TXT {
			may[cmp.Or(w.info.Parameters["option "+option], option)] = option
		}
		return alias.Locator{Services: services, Seen: func(targets []target.Address) { w.targets = targets },
			Options: may, Said: func(said map[string]string) {
				for name, value := range said {
					if _, written := p.Options[name]; !written {
						w.options()[name] = value
					}
				}
			},
			Name: p.Alias, Addresses: p.Addresses, SRV: p.SRV, Random: p.Pick == "random",
			NamedServer: p.TLS.ServerName != "", Resolver: w.resolver(), Origin: w.checker.origin(),
			Socket: func(path string) string {
				if len(p.Via) > 0 {
					return path
				}
				return route.SocketFile(path, usualSocket(w.info))
			}}
	},
	target.Socket: func(w *walk, address target.Address) route.Locator {
		if len(w.profile.Via) > 0 { // a path of the last hop's, which cannot be looked at from here
			if usual := usualSocket(w.info); usual != "" && !strings.HasPrefix(filepath.Base(address.Name), w.info.SocketFile) {
				return route.AtSocket{Path: path.Join(address.Name, usual)}
			}
			return route.AtSocket{Path: address.Name}
		}
		return route.AtSocket{Path: route.SocketFile(address.Name, usualSocket(w.info))}
	},
}

// usualSocket is the file that is used when a profile names a folder of sockets.
func usualSocket(info engine.Info) string {
	if info.SocketFile == "" {
		return ""
	}
	return info.SocketFile + strconv.Itoa(info.Port)
}

// routeOf gives how a profile's target is reached.
func (w *walk) routeOf() route.Route {
	if r := w.checker.road; r != nil {
		w.container, w.cloud = r.container, r.cloud
		return route.Route{Locator: route.At{}} // its path has the address
	}
	if w.checker.Door != nil {
		return route.Route{Locator: route.At(w.checker.Door.At)}
	}
	address := w.profile.Target().Address()
	r := route.Route{Locator: locators[address.Kind](w, address),
		Trust: route.Trust{Accounts: w.info.Accounts, Owner: w.profile.SocketOwner}}
	if len(w.profile.Via) == 0 && !w.behindEngine() {
		return r
	}
	err := error(&finding.Problem{Code: finding.TunnelUnknown})
	if w.checker.Hops != nil {
		r.Hops, err = w.checker.Hops(w.admitted, w.pause)
	}
	if err != nil {
		r.Hops = []route.Hop{noHop{err}}
	}
	return r
}

// Path opens the way to a server, and no session. The path is nil when the report holds a
// finding; the error is as Test's.
func (c Checker) Path(ctx context.Context, a agree.Admitted) (*route.Path, *Report, error) {
	w := c.walk(ctx, a)
	defer func() { w.finish(); w.cancel(nil) }()
	w.legs.pass("settings", settingsSaw(w.profile, w.info))
	if err := w.inCloud(nil); err != nil {
		return nil, w.report, w.failed(err)
	}
	w.legs.pass("secret", "none is needed for this")
	w.clock()
	path, err := w.route.Open(w.ctx, w.pass)
	if err != nil {
		return nil, w.report, w.failed(err)
	}
	return path, w.report, nil
}

// Lines gives what may be sent over the connections of a door to the profile's server. The lines
// are nil when the report holds a finding; the error is as Test's.
func (c Checker) Lines(ctx context.Context, a agree.Admitted) (Lines, *Report, error) {
	w := c.walk(ctx, a)
	defer func() { w.finish(); w.cancel(nil) }()
	encryption, err := w.settings()
	if err == nil {
		err = w.inCloud(encryption)
	}
	if err != nil {
		return nil, w.report, w.failed(err)
	}
	return w.line(encryption), w.report, nil
}

// Again opens the route once more, for what goes on for long: its error is a *finding.Problem as
// it came, so that it is known what may pass.
func (c Checker) Again(ctx context.Context, a agree.Admitted) (*route.Path, *Report, error) {
	w := c.walk(ctx, a)
	defer func() { w.finish(); w.cancel(nil) }()
	w.clock()
	path, err := w.route.Open(w.ctx, w.pass)
	return path, w.report, err
}

// noHop is a hop that could not be made.
type noHop struct{ err error }

// Through fails.
func (h noHop) Through(context.Context, route.Dialer) (*route.Passed, error) { return nil, h.err }

// atAddress names the legs that are walked at each address.
func (w *walk) atAddress() []string {
	names := []string{"port", "greeting"}
	if w.profile.TLS.Mode != "off" && !w.checker.Door.encrypts() {
		if names = append(names, "tls"); w.info.EncryptsFirst {
			names[1], names[2] = names[2], names[1]
		}
	}
	names = append(names, "login")
	if w.profile.Database != "" || w.profile.Served {
		names = append(names, "database")
	}
	names = append(names, "query")
	if w.expects(true) {
		names = append(names, "expect")
	}
	return names
}

func settingsSaw(p profile.Effective, info engine.Info) string {
	at := p.Place()
	if p.InContainer() {
		at = p.Contained.Title()
	}
	if p.InCloud() {
		at = p.Clouded.Title()
	}
	if p.Alias != "" {
		at = "the alias " + p.Alias + " (" + p.AliasAt.String() + ")"
		if len(p.AliasOthers) > 0 {
			at += ", which is also in " + strings.Join(p.AliasOthers, " and ") + " and does not count there"
		}
	}
	return "complete: " + info.Title + " at " + at + map[string]string{
		"off": ", not encrypted", "encrypt": ", encrypted", "verify": ", encrypted and verified",
	}[p.TLS.Mode]
}

func (w *walk) settingsProblem() (error, bool) {
	var refused *agree.Refused
	if err := w.admitted.Again(); errors.As(err, &refused) {
		return &finding.Problem{Code: finding.SettingsNotAgreed, Facts: finding.Facts{finding.FactWrong: refused.Why}}, true
	}
	if len(w.profile.Problems) == 0 {
		return nil, false
	}
	problem := w.profile.Problems[0]
	if problem.Missing {
		setting, _ := profile.Find(problem.Setting)
		return &finding.Problem{Code: finding.SettingsIncomplete,
			Facts: finding.Facts{finding.FactMissing: problem.Text, finding.FactFlag: setting.Flag}}, true
	}
	code := finding.SettingsInvalid
	if problem.Code != "" {
		code = problem.Code
	}
	_, name := profile.SplitLayer(w.profile.Values["alias"].Text)
	near, _, _ := strings.Cut(problem.Text, "did you mean ")
	if near = strings.TrimSuffix(strings.TrimPrefix(problem.Text, near+"did you mean "), "?"); near == problem.Text {
		near = ""
	}
	return &finding.Problem{Code: code, Facts: finding.Facts{
		finding.FactAlias: name, finding.FactNearAlias: near, finding.FactWrong: problem.Text,
		finding.FactSetting: strings.ReplaceAll(problem.Setting, ".", " "),
		finding.FactOrigin:  problem.Origin.String(),
	}}, true
}

// clean makes words from outside fit to show; every text of a report that did not start in the
// profile passes through it.
func (w *walk) clean(text string) string {
	return w.veil().Text(text)
}

// veil masks the secret that was found for the profile.
func (w *walk) veil() outside.Veil {
	p := w.profile
	return outside.Veil{Secrets: []outside.Hidden{w.secret}, Spare: []string{p.User, p.Host, w.met.Host, p.Database}}
}
