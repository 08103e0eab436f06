package cli

import (
	"fmt"
	"io"
	"strings"
)

// roff makes a text safe in a manual page.
func roff(text string) string {
	text = strings.NewReplacer(`\`, `\e`, "-", `\-`).Replace(text)
	var b strings.Builder
	for _, r := range text {
		if r > 0x7e {
			fmt.Fprintf(&b, `\[u%04X]`, r)
		} else {
			b.WriteRune(r)
		}
	}
	if text = b.String(); strings.HasPrefix(text, ".") || strings.HasPrefix(text, "'") {
		text = `\&` + text
	}
	return text
}

// roffPage writes a page of help as a manual page (the man macros of roff, groff_man(7)). About
// is what the command does, in a few words.
func roffPage(w io.Writer, name, about, page string) {
	fmt.Fprintf(w, ".TH %s 1 %s \"gharbor %s\" \"Gentle Harbor\"\n.SH NAME\n%s \\- %s\n.SH DESCRIPTION\n",
		strings.ToUpper(name), Released, Version, roff(name), roff(about))
	const (
		none = iota
		paragraph
		literal // lines that stay as they are
	)
	in, fresh := none, true // fresh is after a heading, where no paragraph is begun
	end := func() {
		if in == literal {
			fmt.Fprintln(w, ".EE")
		}
		in = none
	}
	for line := range strings.Lines(page) {
		line = strings.TrimRight(line, "\n ")
		heading, isHeading := strings.CutSuffix(line, ":")
		at := gapIn(line)
		switch {
		case line == "":
			end()
		case isHeading && len(heading) < 30 && !strings.HasPrefix(line, " "):
			end()
			fmt.Fprintf(w, ".SH %s\n", strings.ToUpper(roff(heading)))
			fresh = true
		case at > 0: // a word and what it is
			end()
			fmt.Fprintf(w, ".TP\n.B %s\n%s\n", roff(strings.TrimSpace(line[:at])), roff(strings.TrimSpace(line[at:])))
			fresh = false
		case strings.HasPrefix(line, " "):
			if in != literal {
				end()
				if !fresh {
					fmt.Fprintln(w, ".PP")
				}
				fmt.Fprintln(w, ".EX")
			}
			in, fresh = literal, false
			fmt.Fprintln(w, roff(strings.TrimSpace(line)))
		default:
			if in != paragraph {
				end()
				if !fresh {
					fmt.Fprintln(w, ".PP")
				}
			}
			in, fresh = paragraph, false
			// A sentence begins a line of its own, as roff wants it.
			fmt.Fprintln(w, strings.ReplaceAll(roff(line), ". ", ".\n"))
		}
	}
	end()
}

// gapIn gives where the second column of a line begins, 0 where there is none.
func gapIn(line string) int {
	body := strings.TrimLeft(line, " ")
	lead := len(line) - len(body)
	at := strings.Index(body, "  ")
	if at < 0 || lead == 0 && at > 40 {
		return 0
	}
	return lead + at
}
