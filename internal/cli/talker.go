package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"

	"golang.org/x/term"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/guard"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/lineedit"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/talk"
)

// talker is a prompt, over all the sessions that it has one after the other.
type talker struct {
	*call
	name     string
	settings talk.Settings
	form     string // of report.RowForms
	took     bool

	editor   *lineedit.Editor
	level    guard.Level
	language engine.Language
	place    talk.Place
	identity string // the server's, of the session before
	before   string // the database before the one that is to be opened
	file     string // the profile's, "" for none

	names   *talk.Names    // of what the server has; nil for not asked yet
	session engine.Session // nil for none
	again   func(ctx context.Context, more harbor.Work) error
}

// What ends a session, beside a failure.
var (
	errLeave = errors.New("the person leaves")
	errLost  = errors.New("the connection was lost")
	errMoves = errors.New("another database is opened by a new connection")
)

// failedAgain says that the connection was not made anew.
func (t *talker) failedAgain(err error) {
	t.tell(err)
	if t.before != "" {
		fmt.Fprintf(t.Stderr, "The database is %s again; nothing was sent.\n", outside.Cell(t.before))
		t.Set["database"] = profile.Value{Text: t.before,
			Origin: profile.Origin{Layer: profile.LayerFlag, Name: "gharbor database"}}
		t.before = ""
		return
	}
	fmt.Fprintln(t.Stderr, "Nothing was sent. The next statement tries to connect again.")
}

// tell prints an error as the program does at its end, or as a finding.
func (t *talker) tell(err error) {
	var failed *harbor.Failed
	var e world.Error
	switch {
	case err == nil:
	case errors.As(err, &failed):
		report.Finding(t.Stderr, failed.Finding, failed.Profile)
	case errors.As(err, &e):
		if e.Message != "" {
			fmt.Fprintln(t.Stderr, "gharbor: "+e.Message)
		}
	case errors.Is(err, context.Canceled):
		fmt.Fprintln(t.Stderr, "It was ended.")
	default:
		fmt.Fprintln(t.Stderr, "gharbor: "+err.Error())
	}
}

// settle takes in where the new session is. When another server answers than before, nothing is
// sent until the person agrees.
func (t *talker) settle(ctx context.Context) error {
	t.place.Lost = false
	about, can := t.session.(checkup.Abouter)
	if !can {
		return nil
	}
	facts, err := about.About(ctx)
	if err != nil {
		return nil // the first statement says it
	}
	if t.identity != "" && facts.Identity != "" && facts.Identity != t.identity {
		t.Who.Say(fmt.Sprintf("Another server answers now: its identity is %s, and it was %s.",
			outside.Cell(facts.Identity), outside.Cell(t.identity)))
		yes, err := world.Yes(ctx, t.Who, "Go on there?", false)
		if err != nil || !yes {
			fmt.Fprintln(t.Stderr, "Nothing was sent.")
			return errLost
		}
	}
	t.identity, t.before, t.names = facts.Identity, "", nil
	t.place.Profile, t.place.Guard = t.name, string(t.level)
	if profile.IsConnectionString(t.name) {
		t.place.Profile = "this connection"
	}
	t.place.User, t.place.Superuser = outside.Cell(cmp.Or(facts.Account, facts.User)), facts.Superuser != nil &&
		*facts.Superuser
	t.place.Database = facts.Database
	t.stand()
	return nil
}

// stand takes in what the server says of the session beside its answers.
func (t *talker) stand() {
	stander, can := engine.As[engine.Stander](t.session)
	if !can {
		return
	}
	at := stander.Standing()
	t.place.Transaction = at.Transaction
	if at.Database != "" {
		t.place.Database = at.Database
	}
	if at.Superuser != nil {
		t.place.Superuser = *at.Superuser
	}
}

// prompt gives the prompt: a line that says where this is, and the sign behind which one types.
func (t *talker) prompt() string {
	line := talk.Line(t.place.Prompt(t.settings.Prompt), func(p talk.Part) string {
		text := outside.Cell(p.Text)
		switch p.Tone {
		case talk.Faint:
			return report.Painted(t.Stdout, faint, text)
		case talk.Bold:
			return report.Painted(t.Stdout, strong, text)
		case talk.Warning:
			return report.Painted(t.Stdout, bad, text)
		}
		return text
	})
	return "\n" + line + "\n> "
}

// mayLeave asks whether to leave while a transaction is open.
func (t *talker) mayLeave(ctx context.Context) bool {
	if t.place.Transaction == engine.NoTransaction {
		return true
	}
	yes, err := world.Yes(ctx, t.Who, "A transaction is open, and what it changed is undone. Leave?", false)
	return err != nil || yes
}

// atEnd brings the terminal back when the program is told to end while it reads.
func (t *talker) atEnd(ctx context.Context) (stop func() bool) {
	file, _ := terminal(t.Stdin)
	before, err := term.GetState(int(file.Fd()))
	return context.AfterFunc(ctx, func() {
		if err == nil {
			_ = term.Restore(int(file.Fd()), before)
		}
		fmt.Fprintln(bare(t.Stderr), "\r\n"+t.interrupted())
		t.AtOnce()
		os.Exit(exitInterrupted)
	})
}
