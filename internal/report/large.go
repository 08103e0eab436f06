package report

import (
	"fmt"
	"image"
	"io"
	"strings"

	"golang.org/x/image/font/basicfont"
	"golang.org/x/image/math/fixed"
	"rsc.io/qr"
)

// Large prints a short word of capital letters, digits and dashes in letters that can be read
// from a distance, and once more as it is. Where there is no terminal, or it is too narrow, the
// word stands alone.
func Large(w io.Writer, word string) {
	columns, atTerminal := Width(w)
	if lines := letters(word); atTerminal && len(lines) > 0 && columns >= 4+len([]rune(lines[0])) {
		for _, line := range lines {
			fmt.Fprintf(w, "    %s\n", PaintFor(w, Strong, strings.TrimRight(line, " ")))
		}
		fmt.Fprintln(w)
	}
	fmt.Fprintf(w, "    %s\n", PaintFor(w, Strong, word))
}

// letters draws a word with half blocks: two rows of dots in a line.
func letters(word string) []string {
	face := basicfont.Face7x13
	const top, bottom = 2, 12 // between them are all capital letters and digits
	dots := make([][]bool, bottom-top)
	for _, r := range word {
		at, mask, from, _, ok := face.Glyph(fixed.P(0, face.Ascent), r)
		if !ok {
			return nil
		}
		for y := top; y < bottom; y++ {
			for x := range face.Advance {
				p := image.Pt(x, y)
				on := false
				if p.In(at) {
					_, _, _, a := mask.At(from.X+x-at.Min.X, from.Y+y-at.Min.Y).RGBA()
					on = a > 0
				}
				dots[y-top] = append(dots[y-top], on)
			}
		}
	}
	return halves(dots, "█", "▀", "▄", " ")
}

// halves writes rows of dots, two in a line: for both, for the upper, for the lower, and for none.
func halves(dots [][]bool, both, upper, lower, none string) []string {
	var lines []string
	for y := 0; y < len(dots); y += 2 {
		var line strings.Builder
		for x := range dots[y] {
			under := y+1 < len(dots) && dots[y+1][x]
			switch {
			case dots[y][x] && under:
				line.WriteString(both)
			case dots[y][x]:
				line.WriteString(upper)
			case under:
				line.WriteString(lower)
			default:
				line.WriteString(none)
			}
		}
		lines = append(lines, line.String())
	}
	return lines
}

// quiet is the margin around a code, in dots, that readers of such codes want (ISO/IEC 18004 has
// 4; 2 are enough on a screen).
const quiet = 2

// QR prints a text as a QR code (ISO/IEC 18004), where a terminal has the room for it; it reports
// whether it did. It is black on white; where there are no colours, the light dots are drawn, so
// that it is right on a dark terminal.
func QR(w io.Writer, text string) bool {
	columns, atTerminal := Width(w)
	code, err := qr.Encode(text, qr.L)
	if err != nil || !atTerminal || isPlain(w) || columns < code.Size+2*quiet+4 {
		return false
	}
	coloured := PaintFor(w, Paper, " ") != " "
	dots := make([][]bool, code.Size+2*quiet)
	for y := range dots {
		for x := range dots {
			dots[y] = append(dots[y], code.Black(x-quiet, y-quiet) == coloured)
		}
	}
	for _, line := range halves(dots, "█", "▀", "▄", " ") {
		fmt.Fprintf(w, "    %s\n", PaintFor(w, Paper, line))
	}
	return true
}
