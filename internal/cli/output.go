package cli

import (
	"io"
	"os"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/report"
)

// Colours, by what they stand for.
const (
	good   = report.Good
	bad    = report.Bad
	strong = report.Strong
	faint  = report.Faint
)

// Printing is the package report's; these are its words here, where a report is also a value.

func writeJSON(w io.Writer, value any) error { return report.JSON(w, value) }
func compactJSON(value any) []byte           { return report.CompactJSON(value) }
func escaped(data []byte) []byte             { return report.Escaped(data) }
func wrapped(w io.Writer, lead, indent, line string) {
	report.Wrapped(w, lead, indent, line)
}
func rowsTable(w io.Writer, headings []string, rows [][]string, right map[int]bool) {
	report.Table(w, headings, rows, right)
}
func yes(b *bool, is, isNot string) string                            { return report.Yes(b, is, isNot) }
func width(w io.Writer) (int, bool)                                   { return report.Width(w) }
func paint(w io.Writer, colour, text string) string                   { return report.PaintFor(w, colour, text) }
func printFinding(w io.Writer, f finding.Finding, name string)        { report.Finding(w, f, name) }
func printReport(w io.Writer, p profile.Effective, r *checkup.Report) { report.Test(w, p, r) }
func terminal(stream any) (*os.File, bool)                            { return report.Terminal(stream) }

// data gives the standard output for data that programs read: as it is, but at a terminal cleaned.
func (c *call) data() io.Writer {
	if _, atTerminal := terminal(c.Stdout); atTerminal {
		return c.Stdout
	}
	return bare(c.Stdout)
}

// bare gives the stream behind one that cleans: for data that programs read, and for moving the cursor.
func bare(w io.Writer) io.Writer { return report.Bare(w) }
