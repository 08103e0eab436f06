package report

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
)

// Test prints one test for people: the legs, then the facts or the finding.
func Test(w io.Writer, p profile.Effective, r *checkup.Report) {
	fmt.Fprintf(w, "%s  %s\n\n", PaintFor(w, Strong, Title(p)), Describe(p))
	if way := Route(p); way != "" {
		Wrapped(w, "  ", "    ", way)
		fmt.Fprintln(w)
	}
	for i, attempt := range r.Attempts {
		if i < len(r.Attempts)-1 {
			Wrapped(w, "  ", "    ", before(attempt))
		}
	}
	for i := range r.Legs {
		printLeg(w, r.Legs, i)
	}
	for _, e := range r.Expect {
		mark := PaintFor(w, Good, "ok    ")
		switch {
		case e.OK == nil:
			mark = "unseen"
		case !*e.OK:
			mark = PaintFor(w, Bad, "FAILED")
		}
		Wrapped(w, "            "+mark+"  ", strings.Repeat(" ", 20), e.Words())
	}
	fmt.Fprintln(w)
	if r.Finding != nil {
		Finding(w, *r.Finding, p.Name)
	}
	if r.Server != nil {
		printServer(w, r)
	}
	if r.OK && r.Until != "" {
		fmt.Fprintf(w, "  %s\n\n", PaintFor(w, Good,
			fmt.Sprintf("It goes as far as %s, after %.1f ms. What comes after that was not tried.", r.Until, r.MS)))
	}
	for _, note := range r.Notes {
		Wrapped(w, "  note: ", "        ", note)
		fmt.Fprintln(w)
	}
	if r.Another != "" && r.Finding == nil { // it is among what a finding has seen
		Wrapped(w, "  ", "  ", PaintFor(w, Bad, r.Another))
		fmt.Fprintln(w)
	}
}

// Title names a profile for people.
func Title(p profile.Effective) string {
	if p.Name == "" {
		return "(not saved)"
	}
	return p.Name
}

// Route draws the way to a server behind hops, or in a container, in one line, with the user and
// the encryption on each stretch; "" for another.
func Route(p profile.Effective) string {
	if len(p.Via) == 0 && !p.InContainer() && !p.InCloud() {
		return ""
	}
	line, place := "this machine", p.Place()
	if p.InContainer() {
		line, place = line+" → container engine", p.Contained.Title()
	}
	if p.InCloud() {
		place = p.Clouded.Title()
	}
	for _, hop := range p.Via {
		line += " → " + outside.Cell(hop.String()) + " (SSH)"
	}
	how := map[string]string{"off": "not encrypted", "encrypt": "encrypted, identity not checked",
		"verify": "encrypted and verified"}[p.TLS.Mode]
	line += " → " + outside.Cell(place)
	if p.User != "" {
		line += " (" + outside.Cell(p.User) + ", " + how + ")"
	} else {
		line += " (" + how + ")"
	}
	if p.Opens() != "" {
		line += " → " + outside.Cell(p.Opens())
	}
	return line
}

// Describe says to which server a profile leads, and as which user.
func Describe(p profile.Effective) string {
	line := outside.Cell(p.Engine + " at " + p.Place())
	if p.Opens() != "" {
		line += ", " + outside.Cell(p.Opens())
	}
	if p.User != "" {
		line += ", user " + outside.Cell(p.User)
	}
	return line
}

// before says of an address that was tried before the last one that it failed or was skipped, and
// why.
func before(attempt checkup.Attempt) string {
	return map[bool]string{true: "skipped", false: "failed"}[attempt.Skipped()] + ": " + attempt.Address +
		", at the leg " + failedLeg(attempt.Legs)
}

func failedLeg(legs []checkup.Leg) string {
	for _, leg := range legs {
		if leg.OK != nil && !*leg.OK {
			return leg.Name + " (" + leg.Saw + ")"
		}
	}
	return "?"
}

// unmet says of a leg without a result why it has none: a server can refuse before it, as when it
// is full, and then the leg after it fails.
func unmet(legs []checkup.Leg, i int) string {
	if slices.ContainsFunc(legs[i+1:], func(leg checkup.Leg) bool { return leg.OK != nil }) {
		return "passed over"
	}
	return "not reached"
}

func printLeg(w io.Writer, legs []checkup.Leg, i int) {
	leg := legs[i]
	mark, time, saw := PaintFor(w, Faint, "  -     "), "          ", PaintFor(w, Faint, unmet(legs, i))
	if leg.OK != nil {
		mark, time, saw = PaintFor(w, Good, "  ok    "), fmt.Sprintf("%7.1f ms", leg.MS), leg.Saw
		if !*leg.OK {
			mark = PaintFor(w, Bad, "  FAILED")
		}
	}
	lead := fmt.Sprintf("%s  %-9s %s  ", mark, leg.Name, time)
	Wrapped(w, lead, strings.Repeat(" ", 8+2+9+1+10+2), saw)
}

// ofOneRun are the flags of remedies that no profile can keep.
var ofOneRun = []string{"--until", "--accept-host-key", "--store"}

// ofStores are flags that say how a password or a passphrase comes to one run; they have a value
// each.
var ofStores = []string{"--secret-file", "--passphrase-file", "--wallet"}

// Kept gives the arguments of the command that keeps in a profile what a remedy does for one run;
// nil where there is none.
func Kept(r finding.Remedy, profile string) []string {
	if len(r.Run) < 3 || r.Run[0] != "test" || r.Run[1] != profile ||
		slices.ContainsFunc(r.Run, func(word string) bool { return slices.Contains(ofOneRun, word) }) {
		return nil
	}
	keeps := []string{"change", profile}
	for i := 2; i < len(r.Run); i++ {
		if slices.Contains(ofStores, r.Run[i]) {
			i++
			continue
		}
		keeps = append(keeps, r.Run[i])
	}
	if len(keeps) == 2 {
		return nil
	}
	return keeps
}

// Finding prints what a failed leg means, for the profile of a name; "" is a connection that is
// not saved, for which the commands take the connection string from standard input.
func Finding(w io.Writer, f finding.Finding, name string) {
	Wrapped(w, "  ", "  ", PaintFor(w, Bad, f.Cause))
	fmt.Fprintf(w, "  %s\n", PaintFor(w, Faint, "finding "+string(f.Code)))
	if len(f.Seen) > 0 {
		fmt.Fprintf(w, "\n  %s\n", PaintFor(w, Strong, "What was seen"))
		for _, line := range f.Seen {
			Wrapped(w, "    · ", "      ", line)
		}
	}
	if len(f.Try) > 0 {
		fmt.Fprintf(w, "\n  %s\n", PaintFor(w, Strong, "What to try"))
		for i, remedy := range f.Try {
			Wrapped(w, fmt.Sprintf("   %2d. ", i+1), "       ", remedy.String())
		}
		first := func(of string) int {
			return slices.IndexFunc(f.Try, func(r finding.Remedy) bool { return Kept(r, of) != nil })
		}
		if name == "" && first("-") >= 0 {
			Wrapped(w, "       ", "       ", "(with - a command reads the connection string from standard input)")
		} else if i := first(name); name != "" && i >= 0 {
			Wrapped(w, "       ", "       ",
				finding.Remedy{Say: fmt.Sprintf("If %d helps, to keep it", i+1), Run: Kept(f.Try[i], name)}.String())
		}
	}
	fmt.Fprintln(w)
}

func printServer(w io.Writer, r *checkup.Report) {
	headline, facts := serverFacts(r)
	fmt.Fprintf(w, "  %s\n", PaintFor(w, Good, headline))
	for _, fact := range facts {
		Wrapped(w, fmt.Sprintf("    %-14s", fact[0]), strings.Repeat(" ", 18), fact[1])
	}
	fmt.Fprintln(w)
}

// serverFacts gives what a test showed of the server, with a sentence before it.
func serverFacts(r *checkup.Report) (headline string, facts [][2]string) {
	s := r.Server
	headline = fmt.Sprintf("You are in, after %.1f ms.", r.MS)
	if r.Finding != nil {
		headline = "The connection itself is good."
	}
	encrypted := "no"
	if s.Encrypted {
		encrypted = "yes, " + s.Encryption
	}
	account := s.User
	switch s.Account {
	case s.User:
		if account == "" {
			account = "nobody: this server lets everybody in"
		}
	case "":
		account += "; under which account the server knows it cannot be seen"
	default:
		account += ", which the server knows as " + s.Account
	}
	for _, fact := range [][2]string{
		{"server", strings.TrimSpace(s.Product+" "+s.Version) +
			map[bool]string{true: ", which speaks the protocol of " + s.Speaks}[s.Speaks != ""]},
		{"through", map[bool]string{true: "a pooler, which may give each statement another session"}[s.Pooled]},
		{"identity", s.Identity},
		{"database", s.Database},
		{"service", s.Service},
		{"instance", s.Instance},
		{"stands as", s.Among},
		{"schema", s.Schema},
		{"rights", Yes(s.Superuser, "superuser: may do anything", "not a superuser")},
		{"writing", Yes(s.ReadOnly, "read-only", "allowed, as far as this user's rights go")},
		{"encrypted", encrypted},
		{"certificate", s.Certificate},
		{"seen from", s.Client},
		{"session", s.Session},
		{"account", account},
		{"login method", s.Login},
	} {
		if fact[1] != "" {
			facts = append(facts, fact)
		}
	}
	return headline, facts
}
