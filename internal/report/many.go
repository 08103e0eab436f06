package report

import (
	"bufio"
	"bytes"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"slices"
	"strings"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
)

// Tested is a profile and how its test went; Err is for one that could not be read.
type Tested struct {
	Word    string // as it was named
	Profile profile.Effective
	Report  *checkup.Report
	Err     error
	// Written is the report in JSON where it was let go since, nil where it is whole.
	Written []byte
}

// State says in a word how it went.
func (one *Tested) State() string {
	if one.Err == nil && one.Report.OK {
		return "ok"
	}
	return "FAILED"
}

// Tests prints one test whole, several as a table.
func Tests(w io.Writer, all []*Tested) {
	if len(all) == 1 {
		Test(w, all[0].Profile, all[0].Report)
		return
	}
	Summary(w, all)
}

// Summary prints a row a profile, then the failures together by their cause.
func Summary(w io.Writer, all []*Tested) {
	var rows [][]string
	causes := map[string][]*Tested{}
	var order []string
	var another []*Tested // another server than at the last good test
	good := 0
	for _, one := range all {
		if one.Err != nil {
			first, _, _ := strings.Cut(one.Err.Error(), "\n")
			rows = append(rows, []string{"FAILED", outside.Cell(one.Word), "", "settings", outside.Text(first)})
			causes[first] = append(causes[first], one)
			if len(causes[first]) == 1 {
				order = append(order, first)
			}
			continue
		}
		r := one.Report
		if r.OK {
			good++
			result := "goes as far as " + r.Until
			if r.Server != nil {
				result = r.Server.Product + " " + r.Server.Version + ", " + r.Server.Account
			}
			if r.Another != "" {
				result += ", another server"
				another = append(another, one)
			}
			rows = append(rows, []string{"ok", outside.Cell(one.Word), fmt.Sprintf("%.1f ms", r.MS), "", result})
			continue
		}
		rows = append(rows, []string{"FAILED", outside.Cell(one.Word), fmt.Sprintf("%.1f ms", r.MS),
			r.Finding.Leg, string(r.Finding.Code)})
		if causes[r.Finding.Cause] == nil {
			order = append(order, r.Finding.Cause)
		}
		causes[r.Finding.Cause] = append(causes[r.Finding.Cause], one)
	}
	Table(w, []string{"", "profile", "time", "leg", "result"}, rows, map[int]bool{2: true})
	for i, one := range another {
		if i == 0 {
			fmt.Fprintln(w)
		}
		Wrapped(w, "", "  ", PaintFor(w, Bad, outside.Cell(one.Word)+": "+one.Report.Another))
	}
	for _, cause := range order {
		ones := causes[cause]
		names := make([]string, len(ones))
		for i, one := range ones {
			names[i] = outside.Cell(one.Word)
		}
		fmt.Fprintln(w)
		lead := fmt.Sprintf("%d profiles: ", len(ones))
		if len(ones) == 1 {
			lead = "1 profile: "
		}
		Wrapped(w, "", "  ", PaintFor(w, Bad, lead+cause))
		Wrapped(w, "  ", "    ", strings.Join(names, ", "))
		if f := ones[0].Report; f != nil && len(f.Finding.Try) > 0 {
			Wrapped(w, "  try: ", "       ", f.Finding.Try[0].String())
		}
	}
	crowded := 0
	for _, one := range all {
		if one.Report != nil && one.Report.Crowded > 0 {
			crowded++
		}
	}
	if crowded > 0 {
		fmt.Fprintln(w)
		Wrapped(w, "", "  ", fmt.Sprintf("%d of them were tested once more by themselves: a server had no room "+
			"while other tests of this run were at it. --parallel with a smaller number avoids that.",
			crowded))
	}
	fmt.Fprintf(w, "\n%d profiles: %d connected, %d failed\n", len(all), good, len(all)-good)
}

// Forms writes reports for other programs.
var Forms = map[string]func(io.Writer, []*Tested) error{"json": reportJSON, "tap": reportTAP, "junit": reportJUnit}

func reportJSON(w io.Writer, all []*Tested) error {
	if len(all) == 0 {
		return JSON(w, map[string]any{"profiles": []*checkup.Report{}})
	}
	to := bufio.NewWriter(Bare(w))
	_, _ = to.WriteString("{\n  \"profiles\": [")
	var indented bytes.Buffer
	for i, one := range all { // one after the other, so that not all are there twice
		if i > 0 {
			_ = to.WriteByte(',')
		}
		written := one.Written
		if written == nil {
			written = CompactJSON(one.Whole())
		}
		indented.Reset()
		if err := json.Indent(&indented, written, "    ", "  "); err != nil {
			return err
		}
		_, _ = to.WriteString("\n    ")
		_, _ = to.Write(indented.Bytes())
	}
	_, _ = to.WriteString("\n  ]\n}\n")
	return to.Flush()
}

// Whole gives the report, also of a profile that could not be read.
func (one *Tested) Whole() *checkup.Report {
	if one.Err == nil {
		return one.Report
	}
	return checkup.Unreadable(one.Word, outside.Text(one.Err.Error()))
}

// reportTAP writes the Test Anything Protocol, version 13 (what reads 13 refuses 14, which has
// the same YAML blocks): a test point a profile, its legs in the YAML block.
func reportTAP(to io.Writer, all []*Tested) error {
	w := &strings.Builder{}
	fmt.Fprintf(w, "TAP version 13\n1..%d\n", len(all))
	for i, one := range all {
		r := one.Whole()
		state := "ok"
		if !r.OK {
			state = "not ok"
		}
		fmt.Fprintf(w, "%s %d - %s\n  ---\n  duration_ms: %.1f\n", state, i+1,
			strings.NewReplacer("#", "\\#", "\\", "\\\\").Replace(outside.Cell(one.Word)), r.MS)
		if r.Finding != nil {
			fmt.Fprintf(w, "  code: %s\n  leg: %s\n  message: %s\n", r.Finding.Code, r.Finding.Leg, CompactJSON(r.Finding.Cause))
			for key, lines := range map[string][]string{"seen": r.Finding.Seen} {
				fmt.Fprintf(w, "  %s: %s\n", key, CompactJSON(lines))
			}
			fmt.Fprintf(w, "  try: %s\n", CompactJSON(r.Finding.Try))
		}
		fmt.Fprintln(w, "  ...")
	}
	_, err := io.WriteString(to, w.String())
	return err
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
func reportJUnit(w io.Writer, all []*Tested) error {
	suite := junitSuite{Name: "gharbor", Tests: len(all)}
	total := 0.0
	for _, one := range all {
		r := one.Whole()
		total += r.MS
		var legs strings.Builder
		for i, leg := range r.Legs {
			state := unmet(r.Legs, i)
			if leg.OK != nil {
				state = map[bool]string{true: "ok", false: "FAILED"}[*leg.OK]
			}
			fmt.Fprintf(&legs, "%s %s %.1f ms %s\n", state, leg.Name, leg.MS, leg.Saw)
		}
		each := junitCase{Class: "gharbor", Name: outside.Cell(one.Word), Time: fmt.Sprintf("%.4f", r.MS/1000),
			Out: legs.String()}
		if r.Finding != nil {
			suite.Failures++
			each.Failure = &junitFailure{string(r.Finding.Code), r.Finding.Cause, lines(r.Finding)}
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

// lines gives a finding's evidence and remedies, a line each.
func lines(f *finding.Finding) string {
	all := slices.Clone(f.Seen)
	for _, remedy := range f.Try {
		all = append(all, remedy.String())
	}
	return strings.Join(all, "\n")
}
