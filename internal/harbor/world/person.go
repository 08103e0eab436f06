package world

import (
	"context"
	"errors"
	"fmt"

	"gentle-harbor/internal/secret"
)

// ErrLeft says that a person left a question unanswered.
var ErrLeft = errors.New("left")

// Person is who can be asked.
type Person interface {
	// Here reports whether there is anybody.
	Here() bool
	// Ask prints a prompt and gives the line that is typed, without the spaces at both ends. The
	// error is ErrLeft or ctx's.
	Ask(ctx context.Context, prompt string) (string, error)
	// Hidden is Ask for a text that is not shown while it is typed, and of which nothing is cut.
	Hidden(ctx context.Context, prompt string) (string, error)
	// Say prints a line, such as why an answer does not do.
	Say(line string)
}

// Yes asks a question that is answered by yes or no; Enter alone takes otherwise.
func Yes(ctx context.Context, p Person, question string, otherwise bool) (bool, error) {
	answer, err := p.Ask(ctx, fmt.Sprintf("%s (yes, no) [%s] ", question,
		map[bool]string{true: "yes", false: "no"}[otherwise]))
	if err != nil {
		return false, err
	}
	switch answer {
	case "":
		return otherwise, nil
	case "yes", "y":
		return true, nil
	}
	return false, nil
}

// Secret asks for a secret. Enter alone asks whether there is no password; then the Secret may be
// one that is not Given.
func Secret(ctx context.Context, p Person, prompt string) (secret.Secret, error) {
	for {
		text, err := p.Hidden(ctx, prompt)
		if err != nil {
			return secret.Secret{}, err
		}
		if text != "" {
			return secret.New(text), nil
		}
		answer, err := p.Ask(ctx, "Is there no password (none), is it empty (empty), or type it again (again)? [again] ")
		if err != nil {
			return secret.Secret{}, err
		}
		switch answer {
		case "none":
			return secret.Secret{}, nil
		case "empty":
			return secret.New(""), nil
		}
	}
}

// Again asks for a secret a second time, and reports whether the two are the same; when not, it
// says so.
func Again(ctx context.Context, p Person, first string) (bool, error) {
	again, err := p.Hidden(ctx, "Once more")
	if err != nil {
		return false, err
	}
	if again != first {
		p.Say("The two are not the same.")
	}
	return again == first, nil
}
