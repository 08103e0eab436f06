package pager

import (
	"fmt"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
)

// Key is what a person presses.
type Key int

// The keys.
const (
	NoKey Key = iota
	Up
	Down
	Left
	Right
	PageUp
	PageDown
	Home
	End
	Find // asks for a text
	Next // finds it again
	Leave
	Stop // Ctrl-C: no more rows are wanted
)

// View is a window on the rows of a store.
type View struct {
	Store    *Store
	Headings []string
	Right    map[int]bool // columns whose cells stand to the right
	// Columns and Lines are the size of the screen.
	Columns, Lines int

	top    int // the first row on the screen
	left   int // the first column after the one that stays
	widths []int
	sought string
	found  int // the row that was found last, -1 for none
	Say    string
}

// mostCell is how wide a cell is shown.
const mostCell = 60

const gap = 2

// body is how many rows fit.
func (v *View) body() int { return max(v.Lines-4, 1) }

// last gives the first row of the last screen.
func (v *View) last() int {
	rows, _, _ := v.Store.State()
	return max(rows-v.body(), 0)
}

// Press moves the window. Find and Next go by [View.Seek].
func (v *View) Press(k Key) {
	v.Say = ""
	switch k {
	case Up:
		v.top--
	case Down:
		v.top++
	case PageUp:
		v.top -= v.body()
	case PageDown:
		v.top += v.body()
	case Home:
		v.top = 0
	case End:
		v.top = v.last()
	case Left:
		v.left = max(v.left-1, 0)
	case Right:
		if v.left < len(v.Headings)-2 && v.hidden() {
			v.left++
		}
	}
	v.top = max(min(v.top, v.last()), 0)
}

// Seek goes to the next row with a text in it, in any case of letters; "" takes the text of the
// last time. It looks from the row after the one that was found last, or from the first on the
// screen, to the end of what has come; gave says whether to go on looking, and is asked now and
// then.
func (v *View) Seek(what string, gave func() bool) {
	from := v.top
	if what == "" {
		what = v.sought
		if v.found >= v.top {
			from = v.found + 1
		}
	}
	if what == "" {
		v.Say = "nothing was looked for yet"
		return
	}
	v.sought = what
	lower := strings.ToLower(what)
	const step = 1024
	for {
		rows, err := v.Store.Rows(from, step)
		if err != nil || len(rows) == 0 {
			v.Say = fmt.Sprintf("%q is not in what follows", what)
			return
		}
		for i, row := range rows {
			for column, cell := range row {
				if strings.Contains(strings.ToLower(cell), lower) {
					v.found = from + i
					v.top = max(min(v.found, v.last()), 0)
					v.see(column)
					v.Say = fmt.Sprintf("row %d, column %s", v.found+1, v.Headings[min(column, len(v.Headings)-1)])
					return
				}
			}
		}
		from += len(rows)
		if gave != nil && !gave() {
			v.Say = "the search was given up"
			return
		}
	}
}

// see moves the window so that a column is on it.
func (v *View) see(column int) {
	v.fit(nil)
	if column == 0 || column-1 < v.left {
		v.left = max(column-1, 0)
	}
	for !slices.Contains(v.columns(), column) && v.left < column-1 {
		v.left++
	}
}

// hidden reports whether columns to the right do not fit.
func (v *View) hidden() bool {
	if len(v.widths) == 0 {
		return false
	}
	used := v.widths[0]
	for i := 1 + v.left; i < len(v.widths); i++ {
		used += gap + v.widths[i]
	}
	return used > v.Columns
}

// fit makes the widths large enough for some rows. They never shrink, so that columns stay where
// they are.
func (v *View) fit(rows [][]string) {
	if v.widths == nil {
		v.widths = make([]int, len(v.Headings))
		for i, heading := range v.Headings {
			v.widths[i] = min(text.StringWidth(heading), mostCell)
		}
	}
	for _, row := range rows {
		for i, cell := range row {
			if i < len(v.widths) && v.widths[i] < mostCell {
				v.widths[i] = max(v.widths[i], min(text.StringWidth(cell), mostCell))
			}
		}
	}
}

// Fits reports whether all rows are on one screen, as they are.
func (v *View) Fits() bool {
	rows, whole, _ := v.Store.State()
	if !whole || rows > v.body() {
		return false
	}
	list, err := v.Store.Rows(0, rows)
	if err != nil {
		return true
	}
	v.fit(list)
	for _, row := range list {
		for _, cell := range row {
			if text.StringWidth(cell) > mostCell {
				return false
			}
		}
	}
	v.left = 0
	return !v.hidden()
}

// Screen gives the lines of the screen: headings, a rule, rows, and two lines about where this is.
func (v *View) Screen() []string {
	rows, err := v.Store.Rows(v.top, v.body())
	if err != nil {
		return []string{err.Error()}
	}
	v.fit(rows)
	shown := v.columns()
	lines := []string{v.line(v.Headings, shown)}
	lines = append(lines, strings.Repeat("─", min(text.StringWidth(lines[0]), v.Columns)))
	for _, row := range rows {
		lines = append(lines, v.line(row, shown))
	}
	for len(lines) < v.body()+2 {
		lines = append(lines, "")
	}
	return append(lines, v.where(len(rows), shown)...)
}

// columns gives the columns that are on the screen: the first one stays.
func (v *View) columns() []int {
	if len(v.Headings) == 0 {
		return nil
	}
	shown, used := []int{0}, v.widths[0]
	for i := 1 + v.left; i < len(v.Headings); i++ {
		if used += gap + v.widths[i]; used > v.Columns && len(shown) > 1 {
			break
		}
		shown = append(shown, i)
	}
	return shown
}

// line writes some cells of a row in their widths, cut to the screen.
func (v *View) line(row []string, shown []int) string {
	var b strings.Builder
	for n, i := range shown {
		cell := ""
		if i < len(row) {
			cell = row[i]
		}
		if text.StringWidth(cell) > v.widths[i] {
			cell = text.Trim(cell, v.widths[i]-1) + "…"
		}
		pad := strings.Repeat(" ", max(v.widths[i]-text.StringWidth(cell), 0))
		if n > 0 {
			b.WriteString(strings.Repeat(" ", gap))
		}
		if v.Right[i] {
			b.WriteString(pad + cell)
		} else {
			b.WriteString(cell + pad)
		}
	}
	line := strings.TrimRight(b.String(), " ")
	if text.StringWidth(line) > v.Columns {
		line = text.Trim(line, v.Columns-1) + "…"
	}
	return line
}

// where says which part of the result is on the screen, and which keys there are.
func (v *View) where(n int, shown []int) []string {
	rows, whole, waits := v.Store.State()
	at := fmt.Sprintf("rows %d to %d of %d", min(v.top+1, rows), v.top+n, rows)
	switch {
	case waits && !whole:
		at += "; the server waits: no more is kept until you leave"
	case !whole:
		at += " so far"
	}
	if len(shown) < len(v.Headings) {
		if len(shown) > 1 {
			at += fmt.Sprintf("; columns 1 and %d to %d of %d", shown[1]+1, shown[len(shown)-1]+1, len(v.Headings))
		} else {
			at += fmt.Sprintf("; column 1 of %d", len(v.Headings))
		}
	}
	if v.Say != "" {
		at = v.Say + "; " + at // what is new must not be cut
	}
	keys := "arrows, Page Up, Page Down, Home, End: move · f: find, n: the next · Esc: leave"
	if v.Columns < 84 {
		keys = "arrows, pages, Home, End · f find, n next · Esc leaves"
	}
	lines := []string{at, keys}
	for i, line := range lines {
		if text.StringWidth(line) > v.Columns {
			lines[i] = text.Trim(line, max(v.Columns-1, 1)) + "…"
		}
	}
	return lines
}

// Keys takes what was typed apart. Rest is what follows Find, else the beginning of a sequence
// that goes on; alone says that no more comes, so that an escape is the key.
func Keys(typed []byte, alone bool) (keys []Key, rest []byte) {
	for len(typed) > 0 {
		if typed[0] == 0x1b {
			if len(typed) == 1 {
				if !alone {
					return keys, typed
				}
				return append(keys, Leave), nil
			}
			k, n := sequence(typed)
			if n == 0 {
				if !alone {
					return keys, typed
				}
				return append(keys, Leave), nil
			}
			keys, typed = append(keys, k), typed[n:]
			continue
		}
		switch typed[0] {
		case ' ':
			keys = append(keys, PageDown)
		case '\r', '\n':
			keys = append(keys, Down)
		case 'f', 'F', 0x06:
			return append(keys, Find), typed[1:] // what follows is the text
		case 'n', 'N':
			keys = append(keys, Next)
		case 'q', 'Q', 0x04:
			keys = append(keys, Leave)
		case 0x03:
			keys = append(keys, Stop)
		}
		typed = typed[1:]
	}
	return keys, nil
}

// sequence reads an escape sequence of a terminal (ECMA-48, 5.4); n is 0 for one that goes on.
func sequence(typed []byte) (k Key, n int) {
	if typed[1] != '[' && typed[1] != 'O' {
		return NoKey, 1
	}
	for i := 2; i < len(typed); i++ {
		if c := typed[i]; c >= 0x40 && c <= 0x7e {
			known := map[string]Key{"A": Up, "B": Down, "C": Right, "D": Left, "H": Home, "F": End, "1~": Home,
				"7~": Home, "4~": End, "8~": End, "5~": PageUp, "6~": PageDown}
			return known[string(typed[2:i+1])], i + 1
		}
	}
	if len(typed) > 16 {
		return NoKey, len(typed)
	}
	return NoKey, 0
}
