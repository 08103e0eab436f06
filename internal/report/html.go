package report

import (
	"cmp"
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"math"
	"strings"
	"sync"
	"time"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
)

// htmlPage is the template of a page: one file that loads nothing from elsewhere and has no
// script (HTML Living Standard). The template package escapes what is put into it, by the place
// where it stands.
//
//go:embed page.html
var htmlPage string

var pageTemplate = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("page").Parse(htmlPage))
})

// htmlView is what a page shows.
type htmlView struct {
	Title, Made, Summary string
	Good, Failed         int
	Tests                []htmlTest
	Past                 *htmlPast
}

// htmlTest is one test on a page.
type htmlTest struct {
	ID, Name, About, Way string
	OK                   bool
	Time, Short          string
	Before               []string // addresses that were tried first
	Legs                 []htmlLeg
	Facts                [][2]string
	Headline             string
	Notes                []string
	Finding              *htmlFinding
}

// htmlLeg is one leg: its state is ok, failed or none, for one that was not reached.
type htmlLeg struct {
	Name, State, Word, Time, Saw string
	Share                        float64 // of the longest leg's time, in percent
}

// htmlFinding is what a failed leg means.
type htmlFinding struct {
	Code, Cause string
	Seen        []string
	Try         []htmlRemedy
}

// htmlRemedy is a sentence and a command, each may be "".
type htmlRemedy struct{ Say, Command string }

// htmlPast is a profile's history.
type htmlPast struct {
	Count   int
	Most    string // the longest time, the scale of the bars
	Runs    []htmlRun
	Since   string
	Changed []string
	Finding *htmlFinding
	When    string
}

// htmlRun is one test of a history.
type htmlRun struct {
	When, Time, Word, Address, Result, State string
	Share                                    float64
}

// HTML writes tests as a page: the route of each as a line of legs, then its facts or its
// finding. Made is when.
func HTML(w io.Writer, made time.Time, all []*Tested) error {
	view := htmlView{Title: "Tests of connections", Made: made.Format("2006-01-02 15:04:05 MST")}
	for i, one := range all {
		t := htmlTestOf(one)
		t.ID = fmt.Sprintf("t%d", i+1)
		if t.OK {
			view.Good++
		} else {
			view.Failed++
		}
		view.Tests = append(view.Tests, t)
	}
	if len(all) == 1 {
		view.Title = view.Tests[0].Name
	}
	view.Summary = fmt.Sprintf("%s: %d connected, %d failed", Count(int64(len(all)), "profile"), view.Good, view.Failed)
	return writePage(w, view)
}

// HTMLHistory writes a profile's history as a page: the times of the tests, what changed since
// the last good one, and the last failure.
func HTMLHistory(w io.Writer, made time.Time, name string, list []checkup.Past, changed []string) error {
	view := htmlView{Title: name, Made: made.Format("2006-01-02 15:04:05 MST"),
		Past: &htmlPast{Count: len(list), Changed: changed}}
	top := 0.0
	for _, past := range list {
		top = math.Max(top, past.MS)
	}
	view.Past.Most = milliseconds(top)
	for i := len(list) - 1; i >= 0 && len(view.Past.Runs) < 100; i-- { // the newest first
		past := list[i]
		run := htmlRun{When: past.When.Local().Format("2006-01-02 15:04:05"), Time: milliseconds(past.MS),
			Word: "ok", State: "ok", Address: past.Address,
			Result: strings.Trim(past.Version+", "+past.Account, ", "), Share: share(past.MS, top)}
		if !past.OK {
			run.Word, run.State, run.Result = "FAILED", "failed", string(past.Code)
			view.Failed++
		} else {
			view.Good++
		}
		view.Past.Runs = append(view.Past.Runs, run)
	}
	view.Summary = fmt.Sprintf("%s: %d good, %d failed", Count(int64(len(list)), "test"), view.Good, view.Failed)
	if n := len(list); n > 0 && !list[n-1].OK {
		last := list[n-1].Told()
		view.Past.Finding, view.Past.When = htmlFindingOf(&last), list[n-1].When.Local().Format("2006-01-02 15:04:05")
		if good, ok := checkup.LastGood(list); ok && !list[n-1].Once {
			view.Past.Since = good.When.Local().Format("2006-01-02 15:04:05")
		}
	}
	return writePage(w, view)
}

// writePage fills the template, and escapes what could deceive a reader, whoever forgot to clean
// it.
func writePage(w io.Writer, view htmlView) error {
	var text strings.Builder
	if err := pageTemplate().Execute(&text, view); err != nil {
		return err
	}
	_, err := io.WriteString(Bare(w), outside.Escape(text.String(), "\n"))
	return err
}

func milliseconds(ms float64) string { return fmt.Sprintf("%.1f ms", ms) }

// share is a time in percent of the longest one, at least enough to be seen.
func share(ms, most float64) float64 {
	if most <= 0 || ms <= 0 {
		return 0
	}
	return math.Max(1, math.Round(1000*ms/most)/10)
}

func htmlTestOf(one *Tested) htmlTest {
	r := one.Whole()
	t := htmlTest{Name: cmp.Or(r.Profile, "(not saved)"), OK: r.OK, Time: milliseconds(r.MS), Notes: r.Notes}
	if one.Err == nil {
		t.About, t.Way = Describe(one.Profile), Route(one.Profile)
	}
	for i, attempt := range r.Attempts {
		if i < len(r.Attempts)-1 {
			t.Before = append(t.Before, before(attempt))
		}
	}
	most := 0.0
	for _, leg := range r.Legs {
		most = math.Max(most, leg.MS)
	}
	for i, leg := range r.Legs {
		l := htmlLeg{Name: leg.Name, State: "none", Word: unmet(r.Legs, i), Saw: leg.Saw}
		if leg.OK != nil {
			l.State, l.Word, l.Time, l.Share = "ok", "ok", milliseconds(leg.MS), share(leg.MS, most)
			if !*leg.OK {
				l.State, l.Word = "failed", "FAILED"
			}
		}
		t.Legs = append(t.Legs, l)
	}
	for _, e := range r.Expect {
		word := "cannot be seen"
		if e.OK != nil {
			word = map[bool]string{true: "met", false: "not met"}[*e.OK]
		}
		t.Facts = append(t.Facts, [2]string{"expected", word + ": " + e.Words()})
	}
	if r.Server != nil {
		headline, facts := serverFacts(r)
		t.Headline, t.Facts = headline, append(t.Facts, facts...)
	}
	if r.Another != "" && r.Finding == nil {
		t.Notes = append([]string{r.Another}, t.Notes...)
	}
	switch {
	case r.Finding != nil:
		t.Finding, t.Short = htmlFindingOf(r.Finding), string(r.Finding.Code)
	case r.Server != nil:
		t.Short = strings.TrimSpace(r.Server.Product + " " + r.Server.Version)
	case r.Until != "":
		t.Short = "goes as far as " + r.Until
	}
	return t
}

func htmlFindingOf(f *finding.Finding) *htmlFinding {
	h := &htmlFinding{Code: string(f.Code), Cause: f.Cause, Seen: f.Seen}
	for _, remedy := range f.Try {
		say, command := remedy.Parts()
		h.Try = append(h.Try, htmlRemedy{say, command})
	}
	return h
}
