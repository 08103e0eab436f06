// Package keys has every key that --json prints, for each command: one table, of which the page
// docs/json.md, the JSON Schemas and gharbor help json are made.
package keys

import (
	_ "embed"
	"fmt"
	"io"
	"strings"
)

//go:embed keys.txt
var table string

// Key is a key of an object.
type Key struct {
	// Path is its name; a dot leads into an object, [] stands for each item of a list, * for any
	// name. "." is the object itself.
	Path string
	// Type is text, number, integer, boolean, moment (RFC 3339), any, or the name of a shared object.
	Type string
	// Optional says that it may be left out; Null, that its value may be null.
	Optional, Null bool
	About          string
}

// Form is an object that commands print.
type Form struct {
	Title string // the commands, with commas between them; the name of a shared object
	Keys  []Key
}

// Name gives the name of the form's schema: the words of its first command.
func (f Form) Name() string {
	first, _, _ := strings.Cut(f.Title, ",")
	return strings.ReplaceAll(strings.ReplaceAll(first, "--", ""), " ", "-")
}

// Forms gives the objects of commands, and the objects that several share, by their names.
func Forms() (forms []Form, shared map[string]Form) {
	shared = map[string]Form{}
	for _, block := range strings.Split(strings.TrimSpace(table), "\n\n") {
		lines := strings.Split(block, "\n")
		mark, title, _ := strings.Cut(lines[0], " ")
		form := Form{Title: title}
		for _, line := range lines[1:] {
			cells := strings.SplitN(line, " | ", 3)
			kind := cells[1]
			key := Key{Path: cells[0], Type: strings.TrimRight(kind, "?!"),
				Optional: strings.Contains(kind, "?"), Null: strings.Contains(kind, "!"), About: cells[2]}
			form.Keys = append(form.Keys, key)
		}
		if mark == ":" {
			shared[title] = form
			continue
		}
		forms = append(forms, form)
	}
	return forms, shared
}

// Help writes the keys of every command for a terminal.
func Help(w io.Writer) {
	fmt.Fprint(w, `The objects of --json (RFC 8259). A key in brackets may be left out; [] stands for each item of a list, * for any name. Times are in
milliseconds, moments in RFC 3339. No value is ever a password.

An error that is no finding is {"error": TEXT, "exit": CODE}; one about a password or a wallet is {"finding": …, "exit": 4}.
`)
	forms, shared := Forms()
	for _, form := range forms {
		fmt.Fprintf(w, "\n%s:\n", form.Title)
		writeKeys(w, form, shared, "")
	}
}

func writeKeys(w io.Writer, form Form, shared map[string]Form, before string) {
	for _, key := range form.Keys {
		path := before + key.Path
		if key.Path == "." {
			path = strings.TrimSuffix(before, ".")
		}
		if of, is := shared[key.Type]; is && form.Title != "finding" {
			inner := path + "."
			if path == "" {
				inner = ""
			}
			writeKeys(w, of, shared, inner)
			continue
		}
		if key.Optional {
			path = "[" + path + "]"
		}
		fmt.Fprintf(w, "  %-42s  %s\n", path, strings.ReplaceAll(key.About, "`", ""))
	}
}
