package report

import (
	"errors"

	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/shell"
)

// ProfileForms are the forms in which a profile is written for other programs; "binding" is a
// folder, all others a text.
var ProfileForms = []string{"uri", "bare", "description", "env", "dotenv", "binding", "json"}

// ErrNoForm is for a profile that cannot be written in a form.
var ErrNoForm = errors.New("only a profile of an engine with a listener has this form, bare one with a " +
	"service and a host")

// Profile gives a profile in one of the ProfileForms that are a text. Left lists what the form
// cannot carry.
func Profile(form string, e profile.Effective, password secret.Secret) (text string, left []string, err error) {
	switch form {
	case "uri":
		text, left = e.URI(password)
		text += "\n"
	case "bare", "description":
		write := map[string]func() (string, []string, bool){"bare": e.Bare, "description": e.Description}[form]
		var ok bool
		if text, left, ok = write(); !ok {
			return "", nil, ErrNoForm
		}
		text += "\n"
	case "env":
		var pairs []profile.Pair
		pairs, left = e.Variables(password)
		for _, p := range pairs {
			text += shell.Used().Assign(p.Name, p.Value) + "\n"
		}
	case "dotenv":
		var pairs []profile.Pair
		pairs, left = e.DatabaseVariables(password)
		var unwritten []string
		text, unwritten = profile.Dotenv(pairs)
		left = append(left, unwritten...)
	case "json":
		var data []byte
		data, err = e.JSON(password)
		text = string(Escaped(data)) + "\n"
	}
	return text, left, err
}
