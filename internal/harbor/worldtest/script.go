package worldtest

import (
	"context"
	"fmt"
	"strings"

	"gentle-harbor/internal/harbor/world"
)

// Script is a person whose answers are written down, for tests: each prompt that is asked must
// contain the next line's question.
type Script struct {
	// Lines are questions and answers, in order.
	Lines [][2]string
	// Away says that there is nobody.
	Away bool
	// Log has what was asked and said.
	Log []string
	// Wrong says what was asked out of turn, "" while all is as written.
	Wrong string
}

// Here reports whether there is anybody.
func (s *Script) Here() bool { return !s.Away }

// Ask gives the next answer.
func (s *Script) Ask(ctx context.Context, prompt string) (string, error) {
	s.Log = append(s.Log, prompt)
	switch {
	case ctx.Err() != nil:
		return "", ctx.Err()
	case len(s.Lines) == 0:
		s.Wrong = fmt.Sprintf("%q is asked, and nothing is left to answer", prompt)
		return "", world.ErrLeft
	case !strings.Contains(prompt, s.Lines[0][0]):
		s.Wrong = fmt.Sprintf("%q is asked instead of %q", prompt, s.Lines[0][0])
		return "", world.ErrLeft
	}
	answer := s.Lines[0][1]
	s.Lines = s.Lines[1:]
	return answer, nil
}

// Hidden gives the next answer.
func (s *Script) Hidden(ctx context.Context, prompt string) (string, error) {
	return s.Ask(ctx, prompt)
}

// Say notes a line.
func (s *Script) Say(line string) { s.Log = append(s.Log, line) }
