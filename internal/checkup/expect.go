package checkup

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/profile"
)

// Expectation is a fact that a test must show, and what it showed.
type Expectation struct {
	What string `json:"what"` // such as "superuser: false"
	OK   *bool  `json:"ok"`   // nil when this user cannot see it
	Saw  string `json:"detail"`

	says string // what is wrong, in words, for one that is not met or cannot be seen
}

// Words says what was found, for people.
func (e Expectation) Words() string {
	switch {
	case e.OK != nil && *e.OK:
		return e.What
	case e.says == "":
		return e.What + ": " + e.Saw
	}
	return e.says
}

// expects reports whether the profile expects anything; without timed, the time of a round trip
// does not count.
func (w *walk) expects(timed bool) bool { return expects(w.profile, timed) }

// Expects reports whether a profile expects anything that counts in every session: the time of a
// round trip counts in a test alone.
func Expects(p profile.Effective) bool { return expects(p, false) }

func expects(p profile.Effective, timed bool) bool {
	for name := range p.Values {
		if strings.HasPrefix(name, "expect.") && (timed || name != "expect.latency") {
			return true
		}
	}
	return false
}

// Unmet says which expectations do not hold, and what was seen instead; where all that can be
// seen hold, which ones cannot.
func (r *Report) Unmet() string {
	var unmet, unseen []string
	for _, each := range r.Expect {
		switch {
		case each.OK == nil:
			unseen = append(unseen, each.says)
		case !*each.OK:
			unmet = append(unmet, each.says)
		}
	}
	if len(unmet) == 0 {
		unmet = unseen
	}
	return strings.Join(unmet, "; ")
}

// expected tests each expectation on the open session, by asking the server's catalogue and never
// by trying. Without timed, the time of a round trip is left out. It is a failure with the code
// finding.ExpectNotMet or finding.ExpectCannotSee when not all hold.
func (w *walk) expected(session engine.Session, facts engine.Facts, timed bool) error {
	if !w.expects(timed) {
		return nil
	}
	unmet, unseen := 0, 0
	for _, name := range w.profile.Values.Names() {
		what, ok := strings.CutPrefix(name, "expect.")
		if !ok || name == "expect.latency" && !timed {
			continue
		}
		v := w.profile.Values[name]
		items := v.List
		if items == nil {
			items = []string{v.Text}
		}
		for _, item := range items {
			met, saw, err := w.one(session, facts, what, item)
			if err != nil {
				return err
			}
			each := Expectation{what + ": " + item, met, w.clean(saw), w.clean(unmetWords(what, item, saw, met == nil))}
			w.report.Expect = append(w.report.Expect, each)
			switch {
			case met == nil:
				unseen++
			case !*met:
				unmet++
			}
		}
	}
	total := len(w.report.Expect)
	switch {
	case unmet > 0:
		return &finding.Problem{Code: finding.ExpectNotMet, Facts: finding.Facts{finding.FactUnmet: w.report.Unmet()}}
	case unseen > 0:
		return &finding.Problem{Code: finding.ExpectCannotSee, Facts: finding.Facts{finding.FactUnmet: w.report.Unmet()}}
	}
	w.legs.pass("expect", fmt.Sprintf("all %d expectations are met", total))
	w.settle()
	return nil
}

// unmetWords says what is wrong with an expectation: "user is reader, should be warden_app".
func unmetWords(what, item, saw string, unseen bool) string {
	switch {
	case what == "databases" || what == "tables":
		return strings.TrimSuffix(what, "s") + " " + item + " cannot be seen"
	case unseen:
		return what + " cannot be seen, should be " + item
	case what == "can":
		return "the user cannot " + item + ", and should be able to"
	case what == "cannot":
		return "the user can " + item + ", and should not"
	case what == "latency":
		return saw + ", should be at most " + item
	}
	return what + " is " + strings.TrimPrefix(saw, "it is ") + ", should be " + item
}

func (w *walk) one(session engine.Session, facts engine.Facts, what, want string) (*bool, string, error) {
	met, saw, err := w.look(session, facts, what, want)
	if engine.Refused(err) { // a server that only speaks the protocol may not know what is asked
		return nil, "cannot see", nil
	}
	return met, saw, err
}

func (w *walk) look(session engine.Session, facts engine.Facts, what, want string) (*bool, string, error) {
	is := func(b bool, saw string) (*bool, string, error) { return &b, saw, nil }
	truth := func(b *bool) (*bool, string, error) {
		if b == nil {
			return nil, "cannot see", nil
		}
		return is(strconv.FormatBool(*b) == want, "it is "+strconv.FormatBool(*b))
	}
	text := func(got string) (*bool, string, error) {
		if got == "" {
			return nil, "cannot see", nil
		}
		return is(got == want, "it is "+got)
	}
	switch what {
	case "server":
		if facts.Version == "" {
			return nil, "cannot see", nil
		}
		return is(inRange(facts.Version, want), "it is "+facts.Version)
	case "identity":
		return text(facts.Identity)
	case "user":
		return text(facts.Account)
	case "encrypted":
		encrypted := facts.Encryption != ""
		return truth(&encrypted)
	case "superuser":
		return truth(facts.Superuser)
	case "read-only":
		return truth(facts.ReadOnly)
	case "latency":
		limit, _ := time.ParseDuration(want)
		i := slices.IndexFunc(w.legs.legs, func(l Leg) bool { return l.Name == "query" })
		took := time.Duration(w.legs.legs[i].MS * float64(time.Millisecond))
		return is(took <= limit, "a round trip took "+took.String())
	case "databases":
		lister, can := engine.As[engine.Lister](session)
		if !can {
			return nil, "cannot see", nil
		}
		list, err := lister.Databases(w.ctx)
		seen := slices.ContainsFunc(list, func(d engine.Database) bool { return d.Name == want })
		return seenOrNot(seen), words(seen), err
	case "tables":
		lister, can := engine.As[engine.Lister](session)
		if !can {
			return nil, "cannot see", nil
		}
		list, err := lister.Visible(w.ctx, []string{want})
		return seenOrNot(list[want]), words(list[want]), err
	case "can", "cannot":
		right, table, _ := strings.Cut(want, " on ")
		rights, can := engine.As[engine.Rights](session)
		if !can {
			return nil, "cannot see", nil
		}
		may, err := rights.May(w.ctx, right, table)
		if may == nil || err != nil {
			return nil, "cannot see", err
		}
		return is(*may == (what == "can"), map[bool]string{true: "it can", false: "it cannot"}[*may])
	}
	return nil, "not known here", nil
}

// seenOrNot is true for what was seen, and unknown for what was not: it may well be there.
func seenOrNot(seen bool) *bool {
	if !seen {
		return nil
	}
	return &seen
}

func words(seen bool) string {
	if seen {
		return "visible"
	}
	return "cannot see"
}

// inRange reports whether a version is in a range such as ">= 15" or ">= 10.6 < 12"; a version
// alone stands for all that begin with it.
func inRange(version, wanted string) bool {
	wanted = strings.NewReplacer(">=", " >=", "<=", " <=").Replace(wanted)
	for _, mark := range []string{">=", "<=", ">", "<", "="} {
		wanted = strings.ReplaceAll(wanted, mark+" ", mark)
	}
	for _, part := range strings.Fields(wanted) {
		mark := strings.TrimRight(part, "0123456789.")
		number := part[len(mark):]
		d := compare(version, number)
		ok := false
		switch mark {
		case ">=":
			ok = d >= 0
		case "<=":
			ok = d <= 0 || strings.HasPrefix(version+".", number+".")
		case ">":
			ok = d > 0 && !strings.HasPrefix(version+".", number+".")
		case "<":
			ok = d < 0
		default:
			ok = strings.HasPrefix(version+".", number+".")
		}
		if !ok {
			return false
		}
	}
	return true
}

// compare orders dotted numbers.
func compare(a, b string) int {
	x, y := strings.Split(a, "."), strings.Split(b, ".")
	for i := range max(len(x), len(y)) {
		var m, n int
		if i < len(x) {
			m, _ = strconv.Atoi(x[i])
		}
		if i < len(y) {
			n, _ = strconv.Atoi(y[i])
		}
		if m != n {
			return m - n
		}
	}
	return 0
}

// FromNow gives the facts of a good test as expectations.
func FromNow(r *Report) profile.Layer {
	layer := profile.Layer{}
	put := func(name, text string) {
		if text != "" {
			layer["expect."+name] = profile.Value{Text: text}
		}
	}
	s := r.Server
	if s.Version != "" {
		put("server", ">= "+s.Version)
	}
	put("identity", s.Identity)
	put("encrypted", strconv.FormatBool(s.Encrypted))
	put("user", s.Account)
	for name, b := range map[string]*bool{"superuser": s.Superuser, "read-only": s.ReadOnly} {
		if b != nil {
			put(name, strconv.FormatBool(*b))
		}
	}
	return layer
}
