package cli

import (
	"fmt"
	"io"
	"strings"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/shell"
)

// printReport prints one test for people: the legs, then the facts or the finding.
func (a *App) printReport(w io.Writer, p profile.Effective, r *checkup.Report) {
	fmt.Fprintf(w, "%s  %s\n\n", a.paint(w, strong, titleOf(p)), describe(p))
	for i, attempt := range r.Attempts {
		if i < len(r.Attempts)-1 {
			fmt.Fprintf(w, "  tried first: %s, which failed at the leg %s\n", attempt.Address, failedLeg(attempt.Legs))
		}
	}
	for _, leg := range r.Legs {
		a.printLeg(w, leg)
	}
	for _, e := range r.Expect {
		mark := a.paint(w, good, "ok    ")
		switch {
		case e.OK == nil:
			mark = "unseen"
		case !*e.OK:
			mark = a.paint(w, bad, "FAILED")
		}
		wrapped(w, "            "+mark+"  ", strings.Repeat(" ", 20), e.What+": "+e.Saw)
	}
	fmt.Fprintln(w)
	if r.Finding != nil {
		a.printFinding(w, *r.Finding, p.Name)
	}
	if r.Server != nil {
		a.printServer(w, r)
	}
	for _, note := range r.Notes {
		wrapped(w, "  note: ", "        ", note)
		fmt.Fprintln(w)
	}
	if r.Another != "" {
		wrapped(w, "  ", "  ", a.paint(w, bad, r.Another))
		fmt.Fprintln(w)
	}
}

func titleOf(p profile.Effective) string {
	if p.Name == "" {
		return "(not saved)"
	}
	return p.Name
}

func describe(p profile.Effective) string {
	line := outside.Cell(p.Engine + " at " + p.Place())
	if p.Database != "" {
		line += ", database " + outside.Cell(p.Database)
	}
	if p.User != "" {
		line += ", user " + outside.Cell(p.User)
	}
	return line
}

func failedLeg(legs []checkup.Leg) string {
	for _, leg := range legs {
		if leg.OK != nil && !*leg.OK {
			return leg.Name + " (" + leg.Saw + ")"
		}
	}
	return "?"
}

func (a *App) printLeg(w io.Writer, leg checkup.Leg) {
	mark, time, saw := a.paint(w, faint, "  -     "), "          ", a.paint(w, faint, "not reached")
	if leg.OK != nil {
		mark, time, saw = a.paint(w, good, "  ok    "), fmt.Sprintf("%7.1f ms", leg.MS), leg.Saw
		if !*leg.OK {
			mark = a.paint(w, bad, "  FAILED")
		}
	}
	lead := fmt.Sprintf("%s  %-9s %s  ", mark, leg.Name, time)
	wrapped(w, lead, strings.Repeat(" ", 8+2+9+1+10+2), saw)
}

// printFinding prints what a failed leg means, for the profile of a name; "" is a connection that is not saved,
// for which the commands take the connection string from standard input.
func (a *App) printFinding(w io.Writer, f finding.Finding, name string) {
	wrapped(w, "  ", "  ", a.paint(w, bad, f.Cause))
	fmt.Fprintf(w, "  %s\n", a.paint(w, faint, "finding "+f.Code))
	if len(f.Seen) > 0 {
		fmt.Fprintf(w, "\n  %s\n", a.paint(w, strong, "What was seen"))
		for _, line := range f.Seen {
			wrapped(w, "    · ", "      ", line)
		}
	}
	if len(f.Try) > 0 {
		fmt.Fprintf(w, "\n  %s\n", a.paint(w, strong, "What to try"))
		for i, line := range f.Try {
			wrapped(w, fmt.Sprintf("   %2d. ", i+1), "       ", line)
		}
		switch all := strings.Join(f.Try, "\n"); {
		case name == "" && strings.Contains(all, "gharbor test - "):
			wrapped(w, "       ", "       ", "(with - a command reads the connection string from standard input)")
		case name != "" && strings.Contains(all, "gharbor test "+shell.Word(name)+" --"):
			wrapped(w, "       ", "       ", "What helps is kept by the same flags with: gharbor change "+shell.Word(name))
		}
	}
	fmt.Fprintln(w)
}

func (a *App) printServer(w io.Writer, r *checkup.Report) {
	s := r.Server
	headline := fmt.Sprintf("You are in, after %.1f ms.", r.MS)
	if r.Finding != nil {
		headline = "The connection itself is good."
	}
	fmt.Fprintf(w, "  %s\n", a.paint(w, good, headline))
	encrypted := "no"
	if s.Encrypted {
		encrypted = "yes, " + s.Encryption
	}
	account := s.Account
	if account == "" {
		account = "cannot see"
	}
	for _, fact := range [][2]string{
		{"server", s.Product + " " + s.Version},
		{"identity", s.Identity},
		{"database", s.Database},
		{"powers", yes(s.Superuser, "superuser: may do anything", "not a superuser")},
		{"writing", yes(s.ReadOnly, "read-only", "allowed, as far as this user's rights go")},
		{"encrypted", encrypted},
		{"certificate", s.Certificate},
		{"seen from", s.Client},
		{"session", s.Session},
		{"let in as", s.User + ", matched by the account " + account},
		{"login method", s.Login},
	} {
		if fact[1] != "" {
			wrapped(w, fmt.Sprintf("    %-14s", fact[0]), strings.Repeat(" ", 18), fact[1])
		}
	}
	fmt.Fprintln(w)
}
