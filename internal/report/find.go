package report

import (
	"fmt"
	"io"
	"strings"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/discover"
	"gentle-harbor/internal/outside"
)

// Sighted prints the servers that were found, each with the profile that it would become.
func Sighted(w io.Writer, list []discover.Candidate, ports int, ways []string) {
	for _, c := range list {
		what := c.State
		if c.Engine != "" {
			what = c.Engine + ", " + what
		}
		if c.Version != "" {
			what = c.Engine + " " + c.Version + ", " + c.State
		}
		mark, colour := "new", Good
		switch {
		case c.Left != "":
			mark, colour = "left out", Faint
		case len(c.Changed) > 0:
			mark, colour = "changed", Bad
		case c.Taken != "":
			mark, colour = "known", Faint
		}
		fmt.Fprintf(w, "%s  %s  %s\n", PaintFor(w, colour, fmt.Sprintf("%-8s", mark)),
			PaintFor(w, Strong, outside.Cell(c.Name)), outside.Cell(what))
		for _, line := range c.Seen {
			Wrapped(w, "            ", "              ", line)
		}
		if c.Password != "" {
			Wrapped(w, "            ", "              ", "password: "+c.Password)
		}
		switch {
		case c.Left != "":
			Wrapped(w, "            ", "              ", "left out: "+c.Left)
		case len(c.Changed) > 0:
			Wrapped(w, "            ", "              ",
				"the profile "+outside.Cell(c.Taken)+" leads there, and it is another container: "+strings.Join(c.Changed,
					"; "))
		case c.Taken != "":
			Wrapped(w, "            ", "              ", "the profile "+outside.Cell(c.Taken)+" leads there already")
		default:
			line := "as a profile: " + settings(c)
			if c.Layer["user"].Text == "" {
				line += "; the user is missing, and --add asks for it"
			}
			Wrapped(w, "            ", "              ", line)
		}
		fmt.Fprintln(w)
	}
	var looked []string
	for _, way := range ways {
		if way == "listening" {
			way = fmt.Sprintf("%d listening ports", ports)
		}
		looked = append(looked, way)
	}
	usable := 0
	for _, c := range list {
		if c.Left == "" && c.Taken == "" {
			usable++
		}
	}
	fmt.Fprintf(w, "Found %s; looked at %s.\n", Count(int64(len(list)), "server"), strings.Join(looked, ", "))
	if usable > 0 {
		fmt.Fprintf(w, "Make profiles of what is new: gharbor find --add NAME, or --add --all.\n")
	}
}

// settings gives the settings of a candidate as a line.
func settings(c discover.Candidate) string {
	var parts []string
	for _, name := range c.Layer.Names() {
		parts = append(parts, strings.ReplaceAll(name, ".", " ")+" "+c.Settings[name])
	}
	return strings.Join(parts, ", ")
}

// Added prints a profile that was made, and how its test went.
func Added(w io.Writer, name, file string, r *checkup.Report) {
	fmt.Fprintf(w, "Saved %s in %s\n", outside.Cell(name), outside.Cell(file))
	switch {
	case r == nil:
	case r.OK:
		fmt.Fprintf(w, "  %s  %s %s\n", PaintFor(w, Good, "ok"), r.Server.Product, outside.Cell(r.Server.Version))
	default:
		Wrapped(w, "  "+PaintFor(w, Bad, "FAILED")+"  ", "          ", r.Finding.Cause+" ("+string(r.Finding.Code)+")")
		for _, each := range r.Finding.Try[:min(1, len(r.Finding.Try))] {
			Wrapped(w, "          ", "            ", "try: "+each.String())
		}
	}
}
