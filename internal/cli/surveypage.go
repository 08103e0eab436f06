package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/survey"
)

// countedJSON is a line of the page about a server.
type countedJSON struct {
	List    string   `json:"list"`
	Count   int64    `json:"count"`
	Largest string   `json:"largest,omitempty"`
	By      string   `json:"by,omitempty"`
	Most    int64    `json:"most,omitempty"`
	Sight   any      `json:"sight"`
	Unknown []string `json:"unknown"`
}

// page prints who one is and where, and how many there are of each.
func (s *surveyRun) page(ctx context.Context, from engine.Surveyor) error {
	about, err := from.(checkup.Abouter).About(ctx)
	if err != nil {
		return err
	}
	var lines []survey.Counted
	if err := survey.Page(ctx, from, s.o.system, func(c survey.Counted) error {
		lines = append(lines, c)
		return nil
	}); err != nil {
		return err
	}
	if s.json {
		list := []countedJSON{}
		for _, c := range lines {
			one := countedJSON{List: string(c.Kind.List), Count: c.Outcome.Rows,
				Sight: report.SightJSON(c.Outcome.Sight), Unknown: append([]string{}, c.Outcome.Unknown...)}
			if c.Largest != "" {
				one.Largest, one.By, one.Most = c.Largest, c.By, c.Most
			}
			list = append(list, one)
		}
		return report.JSON(s.Stdout, map[string]any{"of": "server", "server": about, "lists": list})
	}
	report.Wrapped(s.Stdout, "", "  ", strings.TrimPrefix(s.whom, "as "))
	fmt.Fprintln(s.Stdout)
	var rows [][]string
	part := false
	for _, c := range lines {
		count, seen := strconv.FormatInt(c.Outcome.Rows, 10), "all"
		switch sight := c.Outcome.Sight; {
		case !sight.Known():
			count, seen = "", "not known here"
		case !sight.All():
			seen, part = "a part", true
		}
		rows = append(rows, []string{string(c.Kind.List), count, theLargest(c), seen})
	}
	report.Table(s.Stdout, []string{"there are", "how many", "the largest", "shown to you"}, rows, map[int]bool{1: true})
	if part {
		s.Note("what is not shown, and what would show it, is said with each list: gharbor survey %s databases",
			clip(s.o.name))
	}
	return nil
}

// theLargest says which is the largest of a list, or how many are of a sort.
func theLargest(c survey.Counted) string {
	switch {
	case c.MarkedAs == "superuser" && c.Outcome.Sight.Known():
		return report.Count(c.Marked, "superuser")
	case c.Largest == "":
		return ""
	case c.By == "size":
		return outside.Cell(c.Largest) + ", " + report.ReadableBytes(strconv.FormatInt(c.Most, 10))
	}
	return outside.Cell(c.Largest) + ", " + report.Count(c.Most, strings.TrimSuffix(c.By, "s"))
}

// pageOfTable prints what is known of one table, a list below the other.
func (s *surveyRun) pageOfTable(ctx context.Context, from engine.Surveyor) error {
	table, err := from.Table(ctx, s.o.table)
	if err != nil {
		return err
	}
	full := table.Shown
	if !s.json {
		fmt.Fprintf(s.Stdout, "%s\n", outside.Cell(full))
	} else {
		fmt.Fprintf(s.Stdout, `{"of":"table","table":%s,"lists":[`, report.CompactJSON(full))
	}
	s.within = s.json
	none, unseen, unknown := []string{}, []string{}, []string{}
	for i, list := range survey.OfTable {
		if s.json && i > 0 {
			fmt.Fprint(s.Stdout, ",")
		}
		s.list = s.printer(string(list))
		if list == engine.ListColumns {
			s.list.Without = []string{"schema", "database", "table"}
		}
		s.list.Begin = func() { fmt.Fprintf(s.Stdout, "\n%s\n", list) }
		s.open = true
		outcome, err := survey.Take(ctx, from, survey.Request{List: list, On: table, Mine: true}, s.list)
		if err != nil {
			return err
		}
		s.open = false
		if err := s.list.End(outcome.Sight, outcome.Unknown, 0, ""); err != nil {
			return err
		}
		if s.json {
			continue
		}
		switch {
		case outcome.Rows > 0:
		case !outcome.Sight.Known():
			unknown = append(unknown, string(list))
			continue
		case outcome.Sight.All():
			none = append(none, string(list))
		default:
			unseen = append(unseen, string(list))
		}
		report.Sight(s.Stderr, outcome.Sight)
	}
	if s.json {
		s.within = false
		fmt.Fprint(s.Stdout, "]}\n")
		return nil
	}
	for _, part := range []struct {
		what string
		of   []string
	}{{"there are none", none}, {"none that this user sees", unseen}, {"not known here", unknown}} {
		if len(part.of) > 0 {
			fmt.Fprintln(s.Stdout)
			report.Wrapped(s.Stdout, "", "  ", part.what+": "+strings.Join(part.of, ", "))
		}
	}
	return nil
}
