package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

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

// all talks until the person leaves.
func (t *talker) all(ctx context.Context) error {
	idle := func() {}
	t.caught.Store(&idle)
	defer t.caught.Store(nil)
	stop := t.atEnd(ctx)
	defer stop()
	var next *talk.Input
	for first := true; ; first = false {
		err := t.connect(ctx, next)
		t.session, t.again, next = nil, nil, nil
		switch {
		case errors.Is(err, errLeave):
			return nil
		case errors.Is(err, errMoves):
			continue
		case first && !errors.Is(err, errLost), ctx.Err() != nil:
			return err
		case !errors.Is(err, errLost):
			t.failedAgain(err)
		}
		t.place.Lost, t.place.Transaction = true, engine.NoTransaction
		if next, err = t.wait(ctx); err != nil {
			if errors.Is(err, errLeave) {
				return nil
			}
			return err
		}
	}
}

// failedAgain says that the connection was not made anew.
func (t *talker) failedAgain(err error) {
	t.tell(err)
	if t.before != "" {
		fmt.Fprintf(t.Stderr, "The database is %s again; nothing was sent.\n", outside.Cell(t.before))
		t.Set["database"] = profile.Value{Text: t.before, Origin: profile.Origin{Layer: profile.LayerFlag, Name: "gharbor database"}}
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

// connect opens a session and talks in it. Its error says what ended it: [errLeave], [errLost], [errMoves], or why there was none.
func (t *talker) connect(ctx context.Context, next *talk.Input) error {
	var ended error
	work := harbor.Work{
		Needs: engine.Runs,
		Ready: func(language engine.Language, level guard.Level) error {
			t.language, t.level = language, level
			return nil
		},
		Further: func(again func(context.Context, harbor.Work) error) { t.again = again },
		Account: func(account, _ string) {
			fmt.Fprintf(t.Stdout, "%s\n", strings.ToUpper(account[:1])+account[1:]+".")
		},
		Do: func(session engine.Session, _ engine.Language, _ func(error) error) error {
			t.session = session
			ended = t.sit(ctx, next)
			return nil
		},
	}
	to, err := t.Aim(ctx, t.name, false)
	if err != nil {
		return err
	}
	t.file = to.File
	t.place.Live = to.Labels["live"] != ""
	for _, value := range to.Labels {
		t.place.Live = t.place.Live || value == "live"
	}
	if err := t.ConnectedTo(ctx, to, work); err != nil {
		return err
	}
	return ended
}

// sit talks in a session that was just opened.
func (t *talker) sit(ctx context.Context, next *talk.Input) error {
	if err := t.settle(ctx); err != nil {
		return err
	}
	if t.editor == nil {
		if err := t.begin(ctx); err != nil {
			return err
		}
		fmt.Fprintln(t.Stdout, faintly(t.Stdout, "Statements end with a semicolon; gharbor help lists the words of the session; Ctrl-D leaves."))
	}
	for _, text := range t.settings.Start {
		in, err := talk.Read(t.language, text+";")
		if err == nil {
			err = t.does(ctx, in)
		}
		if err != nil {
			return err
		}
	}
	for {
		if next != nil {
			if err := t.does(ctx, *next); err != nil {
				return err
			}
		}
		t.learn(ctx)
		in, err := t.read(ctx)
		if err != nil {
			return err
		}
		next = &in
	}
}

func faintly(w io.Writer, text string) string { return paint(w, faint, text) }

// settle takes in where the new session is. When another server answers than before, nothing is sent until the person agrees.
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
		t.Who.Say(fmt.Sprintf("Another server answers now: its identity is %s, and it was %s.", outside.Cell(facts.Identity), outside.Cell(t.identity)))
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
	t.place.User, t.place.Superuser = cmpOr(facts.Account, facts.User), facts.Superuser != nil && *facts.Superuser
	t.place.Database = facts.Database
	t.stand()
	return nil
}

func cmpOr(a, b string) string {
	if a != "" {
		return outside.Cell(a)
	}
	return outside.Cell(b)
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

// wait reads, while there is no session, until something needs one.
func (t *talker) wait(ctx context.Context) (*talk.Input, error) {
	for {
		in, err := t.read(ctx)
		if err != nil {
			return nil, err
		}
		if in.Words == nil {
			return &in, nil
		}
		if err := t.word(ctx, in.Words); err != nil {
			return nil, err
		}
	}
}

// begin makes the editor.
func (t *talker) begin(ctx context.Context) error {
	remembered, err := t.remembered()
	if err != nil {
		t.Note("what was typed before is not remembered: %v", err)
	}
	t.editor = lineedit.New(lineedit.Options{
		Style: t.settings.Edit, Prompt: t.prompt,
		Awaited: func(text string) string {
			in, _ := talk.Read(t.language, text)
			if in.Awaited == "" {
				return ""
			}
			return report.Painted(t.Stdout, faint, in.Awaited)
		},
		Whole: func(text string) bool {
			in, err := talk.Read(t.language, text)
			return err != nil || in.Awaited == ""
		},
		Offers:     t.offers,
		Remembered: remembered,
		Remember: func(text string) bool {
			if !talk.Remembers(text) {
				return false
			}
			if err := t.remember(ctx, text); err != nil {
				return false
			}
			return true
		},
	})
	return nil
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

// read gives the next text that is whole. Its error is [errLeave], or why no more can be read.
func (t *talker) read(ctx context.Context) (talk.Input, error) {
	for {
		text, err := t.editor.Read()
		switch {
		case ctx.Err() != nil:
			return talk.Input{}, ctx.Err()
		case errors.Is(err, lineedit.ErrLeft):
			continue
		case errors.Is(err, io.EOF):
			if t.mayLeave(ctx) {
				return talk.Input{}, errLeave
			}
			continue
		case err != nil: // the terminal has gone
			return talk.Input{}, errLeave
		case strings.TrimSpace(text) == "":
			continue
		}
		in, err := talk.Read(t.language, text)
		if err != nil {
			t.tell(usage("%v", err))
			continue
		}
		return in, nil
	}
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
		fmt.Fprintln(bare(t.Stderr), "\r\ngharbor: interrupted")
		t.AtOnce()
		os.Exit(exitInterrupted)
	})
}
