package report

import (
	"fmt"
	"io"
	"net"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/outside"
)

// Probes prints how the addresses of aliases answered.
func Probes(w io.Writer, list []checkup.Answers) {
	var rows [][]string
	for _, p := range list {
		for i, a := range p.Addresses {
			name := p.Alias
			if i > 0 {
				name = ""
			}
			state := "answers"
			switch {
			case !a.Answers:
				state = "does not answer: " + string(a.Code)
			case !a.Open:
				state = "answers, but lets nobody in yet: " + string(a.Code)
				if a.Code.OfListener() {
					state = "answers: " + a.Code.Words() + " (" + string(a.Code) + ")"
				}
			}
			times := []string{"", "", ""}
			if a.Good > 0 {
				times = []string{fmt.Sprintf("%.1f", a.Min), fmt.Sprintf("%.1f", a.Median), fmt.Sprintf("%.1f", a.Max)}
			}
			at := a.Address
			if host, _, err := net.SplitHostPort(at); a.Written != "" && err == nil {
				at = a.Written + " (" + host + ")"
			} else if a.Written != "" {
				at = a.Written + " (" + at + ")"
			}
			rows = append(rows, append([]string{outside.Cell(name), outside.Cell(at), outside.Cell(state),
				fmt.Sprintf("%d of %d", a.Good, max(a.Tried, 1))}, times...))
		}
	}
	starting := false
	for _, p := range list {
		for _, a := range p.Addresses {
			starting = starting || a.Answers && !a.Open
		}
	}
	if len(rows) > 0 {
		Table(w, []string{"alias", "address", "", "answered", "min ms", "median", "max"}, rows,
			map[int]bool{3: true, 4: true, 5: true, 6: true})
		fmt.Fprintln(w, "Whether an address lets you in is another question: gharbor test asks it.")
		if starting {
			fmt.Fprintln(w, "A server that is starting is waited for by gharbor await and the name of a profile.")
		}
	}
	for _, p := range list {
		if p.Finding != nil {
			fmt.Fprintf(w, "\n%s could not be asked:\n", outside.Cell(p.Alias))
			Finding(w, *p.Finding, "")
		}
	}
}
