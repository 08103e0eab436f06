package report

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"io"
	"regexp"
	"strings"
	"sync"
	"unicode/utf16"
	"unicode/utf8"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"gentle-harbor/internal/outside"
)

// PaintFor marks a text for a colour where the stream is a terminal that shows colours.
func PaintFor(w io.Writer, colour, text string) string {
	if t, ok := w.(*Text); !ok || !t.Colour {
		return text
	}
	if _, atTerminal := Terminal(w); !atTerminal {
		return text
	}
	return Paint(colour, text)
}

// Painted gives a text as the terminal that a stream is takes it, for what does not go through a
// [Text].
func Painted(w io.Writer, colour, text string) string {
	return colours.Replace(PaintFor(w, colour, text))
}

// JSON prints a value as indented JSON. Characters that steer a terminal are written as escapes,
// which every reader of JSON takes for the same text.
func JSON(w io.Writer, value any) error {
	var b bytes.Buffer
	encoder := json.NewEncoder(&b)
	encoder.SetEscapeHTML(false)
	encoder.SetIndent("", "  ")
	if err := encoder.Encode(value); err != nil {
		return err
	}
	_, err := Bare(w).Write(Escaped(b.Bytes()))
	return err
}

// CompactJSON gives a value as JSON on one line, safe for a terminal.
func CompactJSON(value any) []byte {
	var b bytes.Buffer
	encoder := json.NewEncoder(&b)
	encoder.SetEscapeHTML(false)
	if encoder.Encode(value) != nil {
		return []byte("null")
	}
	return bytes.TrimSuffix(Escaped(b.Bytes()), []byte("\n"))
}

// Escaped writes what outside.Unsafe names as \u escapes; the encoder has done so with those
// below a space.
func Escaped(data []byte) []byte {
	unsafe := func(r rune) bool { return r >= 0x7f && outside.Unsafe(r) }
	if bytes.IndexFunc(data, unsafe) < 0 {
		return data
	}
	var b bytes.Buffer
	for len(data) > 0 {
		r, size := utf8.DecodeRune(data)
		switch {
		case !unsafe(r):
			b.Write(data[:size])
		case r > 0xffff:
			high, low := utf16.EncodeRune(r)
			fmt.Fprintf(&b, `\u%04x\u%04x`, high, low)
		default:
			fmt.Fprintf(&b, `\u%04x`, r)
		}
		data = data[size:]
	}
	return b.Bytes()
}

// Wrapped folds text at spaces to the width of the stream's terminal, each line after an indent
// and the first after lead, which has the indent's width.
func Wrapped(w io.Writer, lead, indent, line string) {
	columns, _ := Width(w)
	for part := range strings.SplitSeq(line, "\n") {
		part = folded(strings.Repeat(" ", wide(lead))+part, indent, columns)
		fmt.Fprintln(w, lead+strings.TrimRight(part[wide(lead):], " "))
		lead = indent
	}
}

// namingHeadings has the headings of columns that name what a row is about, or say where it is:
// such a cell is never cut, since half of a name or of a port is none.
var namingHeadings = map[string]bool{
	"": true, "name": true, "profile": true, "alias": true, "address": true, "where": true, "door": true,
	"server": true, "hop": true, "account": true, "admission": true, "range": true,
	"for": true, "user": true, "database": true, "when": true, "line": true, "kind": true,
}

// Table prints rows under headings, in columns that fit the terminal: long cells are cut, with an
// ellipsis, but not those that name something. Where that leaves no room, each row is printed as
// lines of a heading and a cell. Cells must be safe to show.
func Table(w io.Writer, headings []string, rows [][]string, right map[int]bool) {
	limits, fits := columnLimits(w, headings, rows, namingHeadings)
	if !fits {
		records(w, headings, rows)
		return
	}
	for i, limit := range limits {
		if limit > 0 {
			headings[i] = cut(headings[i], limit)
			for _, row := range rows {
				row[i] = cut(row[i], limit)
			}
		}
	}
	render(w, headings, rows, right, limits)
}

// WholeTable is a Table whose cells are folded and not cut.
func WholeTable(w io.Writer, headings []string, rows [][]string) {
	limits, _ := columnLimits(w, headings, rows, nil)
	render(w, headings, rows, nil, limits)
}

// records prints each row as lines: the cells that have no heading and the first one that names
// the row, then each other heading and its cell.
func records(w io.Writer, headings []string, rows [][]string) { numbered(w, headings, rows, 0) }

// numbered is records, with so many before the first one.
func numbered(w io.Writer, headings []string, rows [][]string, before int) {
	longest, title := 0, -1
	for i, heading := range headings {
		longest = max(longest, wide(heading))
		if title < 0 && heading != "" && namingHeadings[heading] {
			title = i
		}
	}
	longest = min(longest, 20)
	for number, row := range rows {
		head := fmt.Sprintf("row %d", before+number+1)
		if title >= 0 {
			var words []string
			for i, cell := range row {
				if i == title || headings[i] == "" && cell != "" {
					words = append(words, PaintFor(w, cmp.Or(stateColours[cell], Strong), cell))
				}
			}
			head = strings.Join(words, "  ")
		} else if number > 0 {
			fmt.Fprintln(w)
		}
		Wrapped(w, "", "  ", head)
		for i, cell := range row {
			if title >= 0 && (i == title || cell == "" || headings[i] == "") {
				continue
			}
			heading := cut(headings[i], longest)
			Wrapped(w, "  "+heading+strings.Repeat(" ", 2+longest-wide(heading)), strings.Repeat(" ", longest+4), cell)
		}
	}
}

// Growing is a table whose rows come in several times. The first of them decide how wide its
// columns are; a later cell that is wider is cut at a terminal, and pushes the rest of its row
// elsewhere.
type Growing struct {
	To       io.Writer
	Headings []string
	Right    map[int]bool // columns of numbers

	begun  bool
	number int   // rows so far
	limits []int // 0 for none
	widths []int
	lines  bool // there is no room for columns
}

// Add prints rows.
func (g *Growing) Add(rows [][]string) {
	if !g.begun {
		g.begin(rows)
		return
	}
	if g.lines {
		fmt.Fprintln(g.To)
		numbered(g.To, g.Headings, rows, g.number)
		g.number += len(rows)
		return
	}
	for _, row := range rows {
		for i, limit := range g.limits {
			if limit > 0 {
				row[i] = cut(row[i], limit)
			}
		}
	}
	rendered(g.To, nil, rows, g.Right, g.limits, g.widths)
}

// begin prints the headings and the first rows.
func (g *Growing) begin(rows [][]string) {
	g.begun = true
	var fits bool
	if g.limits, fits = columnLimits(g.To, g.Headings, rows, namingHeadings); !fits {
		g.lines = true
		numbered(g.To, g.Headings, rows, 0)
		g.number = len(rows)
		return
	}
	g.widths = make([]int, len(g.Headings))
	_, atTerminal := Width(g.To)
	for _, row := range append([][]string{g.Headings}, rows...) {
		for i := range row {
			if atTerminal && g.limits[i] > 0 {
				row[i] = cut(row[i], g.limits[i])
			}
			for line := range strings.SplitSeq(row[i], "\n") {
				g.widths[i] = max(g.widths[i], wide(line))
			}
		}
	}
	rendered(g.To, g.Headings, rows, g.Right, g.limits, nil)
}

// End prints the headings where there were no rows.
func (g *Growing) End() {
	if !g.begun {
		g.begin(nil)
	}
}

func render(w io.Writer, headings []string, rows [][]string, right map[int]bool, limits []int) {
	rendered(w, headings, rows, right, limits, nil)
}

// rendered prints rows below headings, which may be nil; widths are the least of the columns.
func rendered(w io.Writer, headings []string, rows [][]string, right map[int]bool, limits, widths []int) {
	t := table.NewWriter()
	style := table.StyleDefault
	style.Name = "harbor"
	style.Box = table.BoxStyle{MiddleHorizontal: "─", MiddleSeparator: "──", MiddleVertical: "  ", PageSeparator: "\n"}
	style.Format.Header = text.FormatDefault
	style.Options = table.Options{SeparateHeader: true, SeparateColumns: true}
	t.SetStyle(style)
	if headings != nil {
		head := make(table.Row, len(headings))
		for i, heading := range headings {
			head[i] = heading
		}
		t.AppendHeader(head)
	}
	for _, row := range rows {
		cells := make(table.Row, len(row))
		for i, cell := range row {
			cells[i] = cell
		}
		t.AppendRow(cells)
	}
	configs := make([]table.ColumnConfig, len(limits))
	for i := range limits {
		configs[i] = table.ColumnConfig{Number: i + 1, WidthMax: limits[i], WidthMaxEnforcer: text.WrapSoft}
		if widths != nil {
			configs[i].WidthMin = widths[i]
		}
		if right[i] {
			configs[i].Align = text.AlignRight
		}
	}
	t.SetColumnConfigs(configs)
	t.SuppressTrailingSpaces()
	fmt.Fprintln(w, state().ReplaceAllStringFunc(t.Render(), func(cell string) string {
		word := strings.TrimSpace(cell)
		return strings.Replace(cell, word, PaintFor(w, stateColours[word], word), 1)
	}))
}

// stateColours has the words that say how something went, with their colours.
var stateColours = map[string]string{"ok": Good, "FAILED": Bad}

// state finds the cells of a table that say how something went. They get their colour when the
// columns have their widths.
var state = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`(?m)(?:^|  )(?:ok|FAILED)(?:  |$)`) })

// narrowest is how narrow a column may become.
const narrowest = 6

// columnLimits shares a terminal's width out: the widest columns give way first, and the first
// one, which is what the row is about, last. Those of whole headings do not give way. It is false
// where there is no room.
func columnLimits(w io.Writer, headings []string, rows [][]string, whole map[string]bool) (limits []int, fits bool) {
	limits = make([]int, len(headings)) // 0 is no limit
	columns, isTerminal := Width(w)
	if !isTerminal {
		return limits, true
	}
	for _, row := range append([][]string{headings}, rows...) {
		for i, cell := range row {
			for line := range strings.SplitSeq(cell, "\n") {
				limits[i] = max(limits[i], wide(line))
			}
		}
	}
	room := columns - 2*(len(headings)-1)
	for {
		sum, widest := 0, -1
		for i, limit := range limits {
			sum += limit
			switch {
			case whole[headings[i]] || limit <= narrowest || i == 0 && limit <= columns/3:
			case widest < 0 || limit > limits[widest]:
				widest = i
			}
		}
		if widest < 0 && sum > room && !whole[headings[0]] && limits[0] > narrowest {
			widest = 0 // the last that can give way
		}
		if sum <= room || widest < 0 {
			return limits, sum <= room
		}
		limits[widest]--
	}
}

// Yes says a truth in words; nil is what the server would not say.
func Yes(b *bool, is, isNot string) string {
	switch {
	case b == nil:
		return "cannot see"
	case *b:
		return is
	}
	return isNot
}

// Page prints a text that is made up in lines: at a terminal its paragraphs are filled to the
// terminal's width. Lines that are indented, or have two columns, stay lines of their own; a
// command that does not fit goes on after a backslash.
func Page(w io.Writer, page string) error {
	columns, isTerminal := Width(w)
	if !isTerminal {
		_, err := io.WriteString(w, page)
		return err
	}
	var lines []string
	joins := false // the line before is of a paragraph
	for line := range strings.SplitSeq(strings.TrimSuffix(page, "\n"), "\n") {
		alone := line == "" || strings.HasPrefix(line, " ") || strings.HasSuffix(line, ":") || gap().MatchString(line)
		if joins && !alone {
			lines[len(lines)-1] += " " + line
			continue
		}
		lines = append(lines, line)
		joins = !alone
	}
	for i, line := range lines {
		if !strings.HasPrefix(line, " ") && !gap().MatchString(line) {
			lines[i] = folded(line, "", columns)
		}
	}
	_, err := io.WriteString(w, strings.Join(lines, "\n")+"\n")
	return err
}
