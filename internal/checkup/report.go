package checkup

import (
	"slices"
	"time"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/target"
)

// Leg is one step of the route and how it went.
type Leg struct {
	Name string  `json:"leg"`
	OK   *bool   `json:"ok"` // nil for a leg that was not reached
	MS   float64 `json:"ms"` // milliseconds that it took
	Saw  string  `json:"detail"`
}

// Attempt is one address and how far the route came there.
type Attempt struct {
	Address string `json:"address"`
	Legs    []Leg  `json:"legs"`
}

// Skipped reports whether the address was left because its server has another role than is
// wanted, and not because it failed.
func (a Attempt) Skipped() bool {
	return slices.ContainsFunc(a.Legs, func(leg Leg) bool {
		return leg.OK != nil && !*leg.OK && (leg.Saw == isReplica || leg.Saw == isPrimary)
	})
}

const isReplica, isPrimary = "it is a replica", "it is the primary"

// Target says what was tested.
type Target struct {
	Engine string `json:"engine"`
	Host   string `json:"host,omitempty"`
	Port   int    `json:"port,omitempty"`
	Socket string `json:"socket,omitempty"`
	Alias  string `json:"alias,omitempty"`
	// Container is the container as it is written.
	Container string `json:"container,omitempty"`
	Cloud     string `json:"cloud,omitempty"`
	Database  string `json:"database,omitempty"`
	Instance  string `json:"instance,omitempty"`
	User      string `json:"user"`
}

// Fail ends a good report with a finding that was made of two tests.
func (r *Report) Fail(f finding.Finding) {
	r.Finding, r.Exit, r.OK = &f, f.Exit(), false
}

// Server is what a server said of itself and of us. What it would not say is empty or nil.
type Server struct {
	Product     string `json:"product"`
	Version     string `json:"version"`
	Identity    string `json:"identity"`
	User        string `json:"user"`
	Account     string `json:"account"`
	Client      string `json:"seen_from"`
	Database    string `json:"database"`
	Service     string `json:"service,omitempty"`
	Instance    string `json:"instance,omitempty"`
	Schema      string `json:"schema,omitempty"`
	Among       string `json:"among,omitempty"` // primary or standby, in the server's own word
	Superuser   *bool  `json:"superuser"`
	ReadOnly    *bool  `json:"read_only"`
	Encrypted   bool   `json:"encrypted"`
	Encryption  string `json:"encryption,omitempty"`
	Certificate string `json:"certificate,omitempty"`
	Login       string `json:"login_method"`
	Session     string `json:"session"`
	// Pooled says that a pooler is in between; Speaks is the product and version whose protocol a
	// server of another product speaks.
	Pooled bool   `json:"pooled,omitempty"`
	Speaks string `json:"speaks,omitempty"`
}

// Report is one test of one profile.
type Report struct {
	Profile  string    `json:"profile"`
	OK       bool      `json:"ok"`
	Exit     int       `json:"exit"`
	MS       float64   `json:"ms"` // the legs' times together
	Target   Target    `json:"target"`
	Attempts []Attempt `json:"attempts"`
	// Served is the address of the alias, as it is written, that was tried last; its zero value
	// for none.
	Served target.Address `json:"-"`
	// Led is the address whose server led there, "" for none.
	Led string `json:"-"`
	// ServerID is the id of the cloud's server that was found, "" for none.
	ServerID string `json:"-"`
	// Found is which container it was, its zero value for none.
	Found target.Definition `json:"-"`
	// Marks say what was at the address that was tried last (route.Address).
	Marks string `json:"-"`
	// Sent says that the secret was used in a login: the server may have seen it, or can have
	// guessed at it.
	Sent   bool    `json:"-"`
	Legs   []Leg   `json:"legs"` // those before the addresses, then the last attempt's
	Server *Server `json:"server,omitempty"`
	// Expect has a line for each expectation.
	Expect  []Expectation    `json:"expect,omitempty"`
	Finding *finding.Finding `json:"finding,omitempty"`
	// Notes are what a person should know although nothing failed.
	Notes []string `json:"notes,omitempty"`
	// Until is the leg up to which the route was walked, "" for the whole route.
	Until string `json:"until,omitempty"`
	// Another says that this is another server than at the last good test.
	Another string `json:"another_server,omitempty"`
	// Crowded is how many other tests of the run were at the server when it had no room for this
	// one, which was then made once more by itself; 0 for none.
	Crowded int `json:"crowded_by,omitempty"`
	// Awaited is how a waiting ended, nil where nobody waited.
	Awaited *Awaited `json:"awaited,omitempty"`

	of []finding.Code // what the finding stands for, where it is about several addresses
}

// Brief gives what a table of many tests shows of this one, and no more: the rest can be let go.
func (r *Report) Brief() *Report {
	brief := &Report{Profile: r.Profile, OK: r.OK, Exit: r.Exit, MS: r.MS, Until: r.Until, Another: r.Another,
		Crowded: r.Crowded}
	if r.Server != nil {
		brief.Server = &Server{Product: r.Server.Product, Version: r.Server.Version, Account: r.Server.Account}
	}
	if f := r.Finding; f != nil {
		brief.Finding = &finding.Finding{Code: f.Code, Leg: f.Leg, Cause: f.Cause,
			Try: slices.Clone(f.Try[:min(1, len(f.Try))])}
	}
	return brief
}

// Awaited is how the waiting for a profile ended, and after how many tests.
type Awaited struct {
	Tests int    `json:"times"`
	Ended Ending `json:"ended"`
}

// Ending is why a waiting ended.
type Ending string

// The endings.
const (
	Passed   Ending = "passed"
	Hopeless Ending = "no-use"    // what failed does not go away by waiting
	TimeOver Ending = "time-over" // the time that was given for all
)

// Waits reports whether what failed may go away by itself.
func (r *Report) Waits() bool {
	waits := func(code finding.Code) bool {
		entry, _ := finding.Lookup(code)
		return entry.Waiting
	}
	return waits(r.Code()) && (len(r.of) == 0 || slices.ContainsFunc(r.of, waits))
}

// recorder keeps the legs of a route as they pass.
type recorder struct {
	now  func() time.Time
	last time.Time
	legs []Leg
	next func(leg string) // told of each leg that begins; may be nil
}

func newRecorder(now func() time.Time, names ...string) *recorder {
	r := &recorder{now: now, last: now()}
	for _, name := range names {
		r.legs = append(r.legs, Leg{Name: name})
	}
	return r
}

// pass notes that a leg is over. Legs before it that nobody noted took no time of their own and
// passed.
func (r *recorder) pass(name, saw string) { r.end(name, saw, true) }

// fail notes that a leg failed. One that was noted as passed before counts as failed; one that
// was not to be walked, such as the encryption that a server asks for unasked, takes its place
// before what was not reached.
func (r *recorder) fail(name, saw string) {
	if !slices.ContainsFunc(r.legs, func(l Leg) bool { return l.Name == name }) {
		at := slices.IndexFunc(r.legs, func(l Leg) bool { return l.OK == nil })
		if at < 0 {
			at = len(r.legs)
		}
		r.legs = slices.Insert(r.legs, at, Leg{Name: name})
	}
	r.end(name, saw, false)
}

// after makes the legs after one such that were not reached: that one is to fail.
func (r *recorder) after(name string) {
	i := slices.IndexFunc(r.legs, func(l Leg) bool { return l.Name == name })
	for i++; i > 0 && i < len(r.legs); i++ {
		r.legs[i] = Leg{Name: r.legs[i].Name}
	}
}

func (r *recorder) end(name, saw string, ok bool) {
	at := r.now()
	for i := range r.legs {
		leg := &r.legs[i]
		if leg.Name == name {
			leg.OK, leg.Saw = &ok, saw
			leg.MS += milliseconds(at.Sub(r.last))
			break
		}
		if leg.OK == nil && ok {
			yes := true
			leg.OK = &yes
		}
	}
	r.last = at
	if ok && r.next != nil {
		r.next(name)
	}
}

func milliseconds(d time.Duration) float64 {
	return float64(d.Microseconds()) / 1000
}

func server(f engine.Facts, clean func(string) string) *Server {
	return &Server{
		Product: clean(f.Product), Version: clean(f.Version), Pooled: f.Pooled, Speaks: clean(f.Speaks), Identity: clean(f.Identity), User: f.User,
		Account: clean(f.Account), Client: clean(f.Client), Database: clean(f.Database),
		Service: clean(f.Service), Instance: clean(f.Instance), Schema: clean(f.Schema), Among: clean(f.Among),
		Superuser: f.Superuser, ReadOnly: f.ReadOnly,
		Encrypted: f.Encryption != "", Encryption: f.Encryption, Certificate: clean(f.Certificate),
		Login: clean(f.Login), Session: clean(f.SessionID),
	}
}

// NotAgreed gives the report for a profile of a project's that may not be used, and why.
func NotAgreed(p profile.Effective, why string) *Report {
	f := finding.Make(finding.SettingsNotAgreed,
		finding.About{Facts: finding.Facts{finding.FactWrong: why, finding.FactProfile: p.Name}})
	w := &walk{profile: p, cloud: Checker{}.locatorOf(p)}
	w.info, _ = known.Info(p.Engine)
	w.route = w.routeOf()
	no := false
	r := &Report{Profile: p.Name, Exit: finding.ExitSettings, Attempts: []Attempt{}, Finding: &f, Target: targetOf(p),
		Legs: []Leg{{Name: "settings", OK: &no, Saw: brief[finding.SettingsNotAgreed]}}}
	for _, name := range append(w.beforeAddress()[1:], w.atAddress()...) {
		r.Legs = append(r.Legs, Leg{Name: name})
	}
	return r
}

// Unreadable gives the report for a profile whose files cannot be read.
func Unreadable(name, why string) *Report {
	f := finding.Make(finding.SettingsUnreadable,
		finding.About{Facts: finding.Facts{finding.FactWrong: why, finding.FactProfile: name}})
	no := false
	return &Report{Profile: name, Exit: finding.ExitSettings, Attempts: []Attempt{},
		Legs: []Leg{{Name: "settings", OK: &no, Saw: why}}, Finding: &f}
}
