package cli

import (
	"encoding/xml"
	"fmt"
	"io"
	"os"
	"strings"
	"sync"
	"time"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/files"
	"gentle-harbor/internal/outside"
)

// board shows on a terminal how several tests go on, in the order of their names, and is painted over as they
// end. Elsewhere it shows nothing.
type board struct {
	mu      sync.Mutex
	call    *call
	all     []*tried
	over    []bool
	live    bool
	painted int // lines that are on the screen
	paused  int // questions that are being asked
	last    time.Time
}

func (c *call) newBoard(all []*tried) *board {
	_, terminal := width(c.Stderr)
	b := &board{call: c, all: all, over: make([]bool, len(all)), live: terminal && c.as == "" && !c.json}
	c.board = b
	b.paint(true)
	return b
}

// pause takes the board off the screen until resume.
func (b *board) pause() (resume func()) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.erase()
	b.paused++
	return func() {
		b.mu.Lock()
		defer b.mu.Unlock()
		b.paused--
		b.paint(true)
	}
}

func (b *board) done(i int) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.over[i] = true
	b.paint(false)
}

// boardLines is how many profiles are shown by name; with more, only their number is.
const boardLines = 25

func (b *board) paint(now bool) {
	if !b.live || b.paused > 0 || !now && time.Since(b.last) < 40*time.Millisecond {
		return
	}
	b.last = time.Now()
	var s strings.Builder
	if b.painted > 0 {
		fmt.Fprintf(&s, "\x1b[%dA\x1b[J", b.painted)
	}
	ended, failed := 0, 0
	for i, one := range b.all {
		if b.over[i] {
			ended++
			if one.err != nil || one.report != nil && !one.report.OK {
				failed++
			}
		}
	}
	b.painted = 1
	if len(b.all) <= boardLines {
		for i, one := range b.all {
			state := "…"
			if b.over[i] {
				state = one.state()
			}
			fmt.Fprintf(&s, "  %-6s %s\n", state, outside.Cell(one.word))
			b.painted++
		}
	}
	fmt.Fprintf(&s, "%d of %d tested, %d failed\n", ended, len(b.all), failed)
	// The names in it are clean; the rest moves the cursor.
	_, _ = io.WriteString(bare(b.call.Stderr), s.String())
}

// end takes the board off the screen.
func (b *board) end() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.erase()
	b.live = false
}

func (b *board) erase() {
	if b.live && b.painted > 0 {
		fmt.Fprintf(bare(b.call.Stderr), "\x1b[%dA\x1b[J", b.painted)
		b.painted = 0
	}
}

func (one *tried) state() string {
	if one.err == nil && one.report.OK {
		return "ok"
	}
	return "FAILED"
}

// printSummary prints a row a profile, then the failures together by their cause.
func (c *call) printSummary(w io.Writer, all []*tried) {
	var rows [][]string
	causes := map[string][]*tried{}
	var order []string
	good := 0
	for _, one := range all {
		if one.err != nil {
			first, _, _ := strings.Cut(one.err.Error(), "\n")
			rows = append(rows, []string{"FAILED", outside.Cell(one.word), "", "settings", outside.Text(first)})
			causes[first] = append(causes[first], one)
			if len(causes[first]) == 1 {
				order = append(order, first)
			}
			continue
		}
		r := one.report
		if r.OK {
			good++
			rows = append(rows, []string{"ok", outside.Cell(one.word), fmt.Sprintf("%.1f ms", r.MS), "", r.Server.Product + " " + r.Server.Version + ", " + r.Server.Account + r.Another})
			continue
		}
		rows = append(rows, []string{"FAILED", outside.Cell(one.word), fmt.Sprintf("%.1f ms", r.MS), r.Finding.Leg, r.Finding.Code})
		if causes[r.Finding.Cause] == nil {
			order = append(order, r.Finding.Cause)
		}
		causes[r.Finding.Cause] = append(causes[r.Finding.Cause], one)
	}
	rowsTable(w, []string{"", "profile", "time", "leg", "what came of it"}, rows, map[int]bool{2: true})
	for _, cause := range order {
		ones := causes[cause]
		names := make([]string, len(ones))
		for i, one := range ones {
			names[i] = outside.Cell(one.word)
		}
		fmt.Fprintln(w)
		lead := fmt.Sprintf("%d profiles: ", len(ones))
		if len(ones) == 1 {
			lead = "1 profile: "
		}
		wrapped(w, "", "  ", c.paint(w, bad, lead+cause))
		wrapped(w, "  ", "    ", strings.Join(names, ", "))
		if f := ones[0].report; f != nil && len(f.Finding.Try) > 0 {
			wrapped(w, "  try: ", "       ", f.Finding.Try[0])
		}
	}
	fmt.Fprintf(w, "\n%d profiles: %d in, %d failed\n", len(all), good, len(all)-good)
}

// reportForms writes reports for other programs.
var reportForms = map[string]func(io.Writer, []*tried) error{"json": reportJSON, "tap": reportTAP, "junit": reportJUnit}

func reportJSON(w io.Writer, all []*tried) error {
	reports := []*checkup.Report{}
	for _, one := range all {
		reports = append(reports, one.whole())
	}
	return writeJSON(w, map[string]any{"profiles": reports})
}

// whole gives the report, also of a profile that could not be read.
func (one *tried) whole() *checkup.Report {
	if one.err == nil {
		return one.report
	}
	return checkup.Unreadable(one.word, outside.Text(one.err.Error()))
}

// reportTAP writes the Test Anything Protocol, version 14: a test point a profile, its legs in the YAML block.
func reportTAP(w io.Writer, all []*tried) error {
	fmt.Fprintf(w, "TAP version 14\n1..%d\n", len(all))
	for i, one := range all {
		r := one.whole()
		state := "ok"
		if !r.OK {
			state = "not ok"
		}
		fmt.Fprintf(w, "%s %d - %s\n  ---\n  duration_ms: %.1f\n", state, i+1, strings.NewReplacer("#", "\\#", "\\", "\\\\").Replace(outside.Cell(one.word)), r.MS)
		if r.Finding != nil {
			fmt.Fprintf(w, "  code: %s\n  leg: %s\n  message: %s\n", r.Finding.Code, r.Finding.Leg, compactJSON(r.Finding.Cause))
			for key, lines := range map[string][]string{"seen": r.Finding.Seen} {
				fmt.Fprintf(w, "  %s: %s\n", key, compactJSON(lines))
			}
			fmt.Fprintf(w, "  try: %s\n", compactJSON(r.Finding.Try))
		}
		fmt.Fprintln(w, "  ...")
	}
	return nil
}

type junitSuite struct {
	XMLName  xml.Name    `xml:"testsuite"`
	Name     string      `xml:"name,attr"`
	Tests    int         `xml:"tests,attr"`
	Failures int         `xml:"failures,attr"`
	Errors   int         `xml:"errors,attr"`
	Time     string      `xml:"time,attr"`
	Cases    []junitCase `xml:"testcase"`
}

type junitCase struct {
	Class   string        `xml:"classname,attr"`
	Name    string        `xml:"name,attr"`
	Time    string        `xml:"time,attr"`
	Failure *junitFailure `xml:"failure,omitempty"`
	Out     string        `xml:"system-out,omitempty"`
}

type junitFailure struct {
	Type    string `xml:"type,attr"`
	Message string `xml:"message,attr"`
	Text    string `xml:",chardata"`
}

// reportJUnit writes the JUnit XML that CI systems read: a case a profile.
func reportJUnit(w io.Writer, all []*tried) error {
	suite := junitSuite{Name: "gharbor", Tests: len(all)}
	total := 0.0
	for _, one := range all {
		r := one.whole()
		total += r.MS
		var legs strings.Builder
		for _, leg := range r.Legs {
			state := "not reached"
			if leg.OK != nil {
				state = map[bool]string{true: "ok", false: "FAILED"}[*leg.OK]
			}
			fmt.Fprintf(&legs, "%s %s %.1f ms %s\n", state, leg.Name, leg.MS, leg.Saw)
		}
		each := junitCase{Class: "gharbor", Name: outside.Cell(one.word), Time: fmt.Sprintf("%.4f", r.MS/1000), Out: legs.String()}
		if r.Finding != nil {
			suite.Failures++
			each.Failure = &junitFailure{r.Finding.Code, r.Finding.Cause, strings.Join(append(r.Finding.Seen, r.Finding.Try...), "\n")}
		}
		suite.Cases = append(suite.Cases, each)
	}
	suite.Time = fmt.Sprintf("%.4f", total/1000)
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	encoder := xml.NewEncoder(w)
	encoder.Indent("", "  ")
	if err := encoder.Encode(suite); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\n")
	return err
}

// replaceFile writes a report's file, in the place of an older one and in one step. A link is replaced, and what it led
// to stays as it is; a device, a pipe and what the system shows as a file of its own are written to.
func (c *call) replaceFile(path, text string) error {
	path = c.path(path)
	info, err := os.Stat(path)
	special := err == nil && !info.Mode().IsRegular() && !info.IsDir()
	if special || strings.HasPrefix(path, "/dev/") || strings.HasPrefix(path, "/proc/") {
		file, err := os.OpenFile(path, os.O_WRONLY|os.O_APPEND, 0)
		if err == nil {
			_, err = io.WriteString(file, text)
			if e := file.Close(); err == nil {
				err = e
			}
		}
		if err != nil {
			return wrong("the report could not be written: %v", err)
		}
		return nil
	}
	if err := files.Write(path, []byte(text), 0o644); err != nil {
		return wrong("the report could not be written: %v", err)
	}
	return nil
}
