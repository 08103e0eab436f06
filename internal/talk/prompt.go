package talk

import (
	"strings"

	"gentle-harbor/internal/engine"
)

// Place is where a person is: what the prompt says.
type Place struct {
	Profile  string
	Database string
	User     string
	// Superuser, Guard and Live stand out.
	Superuser bool
	Guard     string // of the profile, "none" or "" for none
	Live      bool   // the profile has the label live
	// Transaction is that of the session. Lost says that there is none: the connection was lost.
	Transaction engine.Transaction
	Lost        bool
}

// Tone says how a part of the prompt is shown, beside its words.
type Tone int

// The tones.
const (
	Plain Tone = iota
	Faint
	Bold    // a thing to be careful with
	Warning // a thing to act on first
)

// Part is a part of the prompt.
type Part struct {
	Name string // of Parts
	Text string
	Tone Tone
}

// Parts are the names of the prompt's parts, in the order in which they are shown.
var Parts = []string{"profile", "database", "user", "superuser", "guard", "live", "transaction"}

// Prompt gives the parts of the prompt that are wanted; none wanted stands for all. What must
// stand out and whether a transaction is open is always there.
func (p Place) Prompt(wanted []string) []Part {
	var parts []Part
	add := func(name, text string, tone Tone, always bool) {
		if text == "" {
			return
		}
		for _, each := range wanted {
			always = always || each == name
		}
		if always || len(wanted) == 0 {
			parts = append(parts, Part{name, text, tone})
		}
	}
	add("profile", p.Profile, Plain, false)
	if p.Lost {
		add("transaction", "not connected", Warning, true)
		return parts
	}
	add("database", p.Database, Plain, false)
	if p.User != "" {
		add("user", "as "+p.User, Faint, false)
	}
	if p.Superuser {
		add("superuser", "superuser", Bold, true)
	}
	if p.Guard != "" && p.Guard != "none" {
		add("guard", "guarded", Bold, true)
	}
	if p.Live {
		add("live", "live", Bold, true)
	}
	switch p.Transaction {
	case engine.InTransaction:
		add("transaction", "in a transaction", Bold, true)
	case engine.FailedTransaction:
		add("transaction", "failed transaction: rollback first", Warning, true)
	}
	return parts
}

// Line writes the parts of a prompt in one line, each as paint makes it.
func Line(parts []Part, paint func(Part) string) string {
	var b strings.Builder
	for i, part := range parts {
		switch {
		case i == 0:
		case part.Tone == Bold || part.Tone == Warning:
			b.WriteString(", ")
		default:
			b.WriteString(" ")
		}
		b.WriteString(paint(part))
	}
	return b.String()
}
