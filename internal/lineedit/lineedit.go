// Package lineedit reads what a person types at a terminal, of several lines where it takes them,
// with both styles of editing, a memory of what was typed before, and completion. It is the one
// place that knows the library for that. No file of another program has a part in it, and no key
// starts one.
package lineedit

import (
	"errors"
	"io"
	"os"
	"slices"
	"strings"
	"unicode"

	"github.com/reeflective/readline"

	"gentle-harbor/internal/outside"
)

// ErrLeft is the error of a text that was given up with Ctrl-C.
var ErrLeft = errors.New("the text was given up")

// MostPasted is how much of one paste is taken, in bytes.
const MostPasted = 4 << 20

// Offer is a word that completes what was typed.
type Offer struct {
	Word  string
	About string // what it is, "" for nothing
}

// Options are how an editor behaves.
type Options struct {
	// Style is that of editing: emacs or vi.
	Style string
	// Prompt gives what is shown before the first line, and Awaited what is shown below further
	// ones: what the text still needs, "" for nothing.
	Prompt  func() string
	Awaited func(text string) string
	// Whole says whether Enter ends a text; else a line is begun.
	Whole func(text string) bool
	// Offers gives the words that can stand where the last word of a text begins; it may be nil.
	// From is where that word begins, in bytes.
	Offers func(text string) (offers []Offer, from int)
	// Remembered are the texts of before, the oldest first; Remember is told of each new one, and
	// says whether it is kept.
	Remembered []string
	Remember   func(text string) bool
}

// Editor reads texts. It takes the process's own standard input and output, which are a terminal.
type Editor struct {
	shell *readline.Shell
	o     Options
}

// forbidden are actions of the library that start another program, read a file or write what is
// configured. Keys for them are taken away.
var forbidden = []string{"edit-command-line", "edit-and-execute-command", "re-read-init-file", "dump-functions",
	"dump-variables", "dump-macros"}

// mostLooked is how long a text may be that is looked through at each key.
const mostLooked = 32 << 10

const paste = "\x1b[200~"

// New makes an editor.
func New(o Options) *Editor {
	e := &Editor{shell: withoutFiles(func() *readline.Shell { return readline.NewShell() }), o: o}
	config := e.shell.Config
	config.ReadFileFunc = func(string) ([]byte, error) { return nil, nil }
	for keymap, binds := range config.Binds {
		for sequence, bind := range binds {
			for _, action := range forbidden {
				if bind.Action == action {
					delete(binds, sequence)
				}
			}
		}
		_ = config.Bind(keymap, paste, "bracketed-paste-begin", false)
	}
	// the first Tab shows what there is, the next ones choose
	for _, keymap := range []string{"emacs", "emacs-standard", "vi-insert"} {
		_ = config.Bind(keymap, "\t", "menu-complete", false)
	}
	for name, value := range map[string]any{
		// letters such as ü are what they are
		"editing-mode": o.Style, "convert-meta": false, "input-meta": true, "output-meta": true,
		"enable-bracketed-paste": true, "history-autosuggest": false, "autocomplete": false,
		"cursor-position-probe": false, "bell-style": "none", "menu-complete-display-prefix": true,
		"completion-ignore-case": true,
		"multiline-column":       false, "transient-prompt": false, "usage-hint-always": false, "show-mode-in-prompt": false,
	} {
		_ = config.Set(name, value)
	}
	if o.Style == "vi" {
		e.shell.Keymap.SetMain("vi-insert")
	} else {
		e.shell.Keymap.SetMain("emacs")
	}
	e.shell.Prompt.Primary(o.Prompt)
	e.shell.Prompt.Secondary(func() string { return "  " })
	e.shell.AcceptMultiline = func(line []rune) bool { return o.Whole(string(line)) }
	e.shell.PasteTransformer = pasted
	e.shell.SyntaxHighlighter = e.shown
	if o.Offers != nil {
		e.shell.Completer = e.complete
	}
	e.shell.History.Delete()
	e.shell.History.Add("this profile", &memory{texts: o.Remembered, keep: o.Remember})
	return e
}

// withoutFiles makes a shell while the file of its configuration is the system's empty one: the
// library reads it then, and no option prevents that.
func withoutFiles(made func() *readline.Shell) *readline.Shell {
	before, set := os.LookupEnv("INPUTRC")
	_ = os.Setenv("INPUTRC", os.DevNull)
	defer func() {
		if set {
			_ = os.Setenv("INPUTRC", before)
		} else {
			_ = os.Unsetenv("INPUTRC")
		}
	}()
	return made()
}

// pasted cleans what is pasted: a tab is a space, and what could steer a terminal is taken out.
func pasted(text string) string {
	text = text[:min(len(text), MostPasted)]
	return strings.Map(func(r rune) rune {
		switch {
		case r == '\n':
			return r
		case r == '\t':
			return ' '
		case outside.Unsafe(r) || r == unicode.ReplacementChar:
			return -1
		}
		return r
	}, strings.ToValidUTF8(text, ""))
}

// shown gives a text as it is painted: a character that could steer the terminal, which a key
// could have put in, is a question mark of the same width. What is awaited is said below a text
// of several lines.
func (e *Editor) shown(line []rune) string {
	var b strings.Builder
	awaited := ""
	if slices.Contains(line, '\n') && len(line) < mostLooked {
		awaited = e.o.Awaited(string(line))
	}
	if e.shell.Hint.ResetPersist(); awaited != "" {
		e.shell.Hint.Persist(awaited)
	}
	for _, r := range line {
		if r != '\n' && r != '\t' && outside.Unsafe(r) {
			r = '?'
		}
		b.WriteRune(r)
	}
	return b.String()
}

// Read gives the next text, without spaces at its end. The error is [ErrLeft] for one that was
// given up, and io.EOF at the end of the input.
func (e *Editor) Read() (string, error) {
	text, err := e.shell.Readline()
	switch {
	case errors.Is(err, readline.ErrInterrupt):
		return "", ErrLeft
	case errors.Is(err, io.EOF):
		return "", io.EOF
	}
	return strings.TrimRight(text, " \t\n"), err
}

// complete gives the library what can stand where the cursor is.
func (e *Editor) complete(line []rune, cursor int) readline.Completions {
	text := string(line[:min(cursor, len(line))])
	offers, from := e.o.Offers(text)
	values := make([]string, 0, 2*len(offers))
	for _, each := range offers {
		values = append(values, each.Word, each.About)
	}
	done := readline.CompleteValuesDescribed(values...)
	done.PREFIX = text[min(from, len(text)):]
	return done
}

// memory are the texts that were typed.
type memory struct {
	texts []string
	keep  func(string) bool
}

// Write implements the library's source of history.
func (m *memory) Write(text string) (int, error) {
	text = strings.TrimRight(text, " \t\n")
	if n := len(m.texts); n > 0 && m.texts[n-1] == text {
		return n, nil
	}
	if m.keep == nil || m.keep(text) {
		m.texts = append(m.texts, text)
	}
	return len(m.texts), nil
}

// GetLine implements the library's source of history.
func (m *memory) GetLine(at int) (string, error) {
	if at < 0 || at >= len(m.texts) {
		return "", io.EOF
	}
	return m.texts[at], nil
}

// Len implements the library's source of history.
func (m *memory) Len() int { return len(m.texts) }

// Dump implements the library's source of history.
func (m *memory) Dump() any { return m.texts }
