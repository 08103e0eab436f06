// Package shell writes command lines as the shell that a person uses reads them: a POSIX shell
// (IEEE Std 1003.1, section 2.2 "Quoting"), which fish reads alike, PowerShell
// (about_Quoting_Rules), or the command prompt of Windows with the rules by which a program there
// takes its line apart (CommandLineToArgvW).
package shell

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
)

// Kind is how a shell reads a line. The zero value is Posix.
type Kind int

// The kinds.
const (
	Posix Kind = iota
	PowerShell
	Prompt // cmd.exe
)

// names are what GHARBOR_SHELL may be, and what each means.
var names = map[string]Kind{
	"sh": Posix, "bash": Posix, "dash": Posix, "fish": Posix, "ksh": Posix, "zsh": Posix,
	"powershell": PowerShell, "pwsh": PowerShell, "cmd": Prompt,
}

// Of gives the kind of a shell by its name, as GHARBOR_SHELL has it; "" is the one that a system
// (runtime.GOOS) usually has. The error names those that are known.
func Of(name, system string) (Kind, error) {
	if name == "" {
		if system == "windows" {
			return PowerShell, nil
		}
		return Posix, nil
	}
	kind, known := names[name]
	if !known {
		var all []string
		for each := range names {
			all = append(all, each)
		}
		slices.Sort(all)
		return Posix, fmt.Errorf("%q is no shell that is known here; it may be %s", name, strings.Join(all, ", "))
	}
	return kind, nil
}

var used atomic.Int32

// Use sets the kind of shell for which all lines of this process are written from now on.
func Use(kind Kind) { used.Store(int32(kind)) }

// Used gives the kind that is set, Posix at first.
func Used() Kind { return Kind(used.Load()) }

// Word writes a text as one word of a command line for the shell in use.
func Word(text string) string { return Used().Word(text) }

var plain = sync.OnceValue(func() map[Kind]*regexp.Regexp {
	return map[Kind]*regexp.Regexp{
		// zsh takes a word that begins with = for the path of a program.
		Posix: regexp.MustCompile(`^[A-Za-z0-9_@%+:,./-][A-Za-z0-9_@%+=:,./-]*$`),
		// A comma makes a list there, and a dot breaks a word that begins with one dash.
		PowerShell: regexp.MustCompile(`^([A-Za-z0-9_/][A-Za-z0-9_@%+=:./\\-]*|--[A-Za-z0-9-]+|-)$`),
		Prompt:     regexp.MustCompile(`^[A-Za-z0-9_@+:./\\-]+$`),
	}
})

// Word writes a text as one word: as it is when it holds no character that the shell treats in a
// special way, quoted otherwise. The text has no line break and no NUL: no quotation marks of the
// command prompt hold one.
func (k Kind) Word(text string) string {
	if plain()[k].MatchString(text) {
		return text
	}
	switch k {
	case PowerShell:
		return marked(text)
	case Prompt:
		return prompt(text)
	}
	// Both stand outside of the marks, where every shell reads them alike: fish takes a backslash
	// within for more than itself.
	return "'" + strings.NewReplacer("'", `'\''`, `\`, `'\\'`).Replace(text) + "'"
}

// marked quotes for PowerShell, which takes each of these for the mark; two of them stand for one
// within.
func marked(text string) string {
	return "'" + strings.NewReplacer("'", "''", "‘", "‘‘", "’", "’’", "‚", "‚‚", "‛", "‛‛").Replace(text) + "'"
}

// prompt quotes for a program's own reading of its line, and then, where that holds what the
// prompt itself would read, each such character for the prompt: it knows no quotation mark that a
// caret came before, so that no variable and no command is left in the line.
func prompt(text string) string {
	var b strings.Builder
	b.WriteByte('"')
	slashes := 0
	for _, r := range text {
		switch r {
		case '\\':
			slashes++
			continue
		case '"':
			b.WriteString(strings.Repeat(`\`, 2*slashes+1))
		default:
			b.WriteString(strings.Repeat(`\`, slashes))
		}
		slashes = 0
		b.WriteRune(r)
	}
	b.WriteString(strings.Repeat(`\`, 2*slashes) + `"`)
	if !strings.ContainsAny(text, `"%!^`) {
		return b.String()
	}
	return carets(b.String())
}

// carets takes the meaning from each character that the command prompt reads.
func carets(text string) string {
	var b strings.Builder
	for _, r := range text {
		if strings.ContainsRune(`"%!^&|<>()`, r) {
			b.WriteByte('^')
		}
		b.WriteRune(r)
	}
	return b.String()
}

// Assign gives the line of a file that sets an environment variable for the programs that the
// shell starts.
func (k Kind) Assign(name, value string) string {
	switch k {
	case PowerShell:
		return "$env:" + name + " = " + marked(value)
	case Prompt:
		// Quotation marks would be part of the value. In a file, two percent signs stand for one.
		return "set " + name + "=" + strings.ReplaceAll(carets(value), "^%", "%%")
	}
	return "export " + name + "=" + k.Word(value)
}

// Variable gives the word of a line that is the value of a variable with more behind it.
func (k Kind) Variable(name, more string) string {
	switch k {
	case PowerShell:
		return `"${env:` + name + `}` + more + `"`
	case Prompt:
		return `"%` + name + `%` + more + `"`
	}
	return `"$` + name + more + `"`
}

// Source gives the line that reads a file of such lines as [Kind.Assign] gives.
func (k Kind) Source(path string) string {
	if k == Prompt {
		return "call " + k.Word(path)
	}
	return ". " + k.Word(path)
}

// Ending is how the name of such a file ends; a POSIX shell takes any.
func (k Kind) Ending() string { return [...]string{".sh", ".ps1", ".cmd"}[k] }

// Look gives the line that shows whose a file is, and who may use it.
func Look(path string) string {
	if Used() == Posix {
		return "ls -ld " + Word(path)
	}
	return "icacls " + Word(path)
}
