package harbor

import (
	"context"
	"fmt"
	"strings"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/guard"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/outside"
)

// Work is what is done in a session.
type Work struct {
	// Needs is an ability that the session must have: an engine whose sessions have none is not
	// connected to.
	Needs engine.Ability
	// Ready is called before anything is connected to, with the language of the engine and the
	// profile's guard; its error ends the use case. It may be nil.
	Ready func(engine.Language, guard.Level) error
	// Least is the least strict guard that there is for the work, also where the profile says
	// less; "" for the profile's.
	Least guard.Level
	// Plan gives, after Ready, what will be done, and Agreed says that what changes something was
	// agreed to before. Plan may be nil.
	Plan   func() *guard.Plan
	Agreed bool
	// Counted says, before a person is asked about a statement that changes something, how many
	// rows that are; it may be nil.
	Counted func(ctx context.Context, session engine.Session) string
	// Changing is told, before the first statement that changes something, as which user and
	// where; it may be nil.
	Changing func(account string)
	// Account is told, before Do, as which user and where, and the database that is open, "" for
	// none; it may be nil.
	Account func(account, database string)
	// Files says, after Ready, whether statements name files of this machine, which the server
	// may ask for. It may be nil.
	Files func() bool
	// Further is given, before Do, what does further work in the same session by the same rules;
	// it may be nil.
	Further func(again func(ctx context.Context, more Work) error)
	// Do does it. Explain says what an error of the session means, as a [Failed].
	Do func(session engine.Session, language engine.Language, explain func(error) error) error
}

// watch keeps the guard of a profile over work in one session.
type watch struct {
	Run
	to    Aim
	work  Work
	plan  *guard.Plan
	guard guard.Guard
	said  bool   // it was said as which user and where
	whose string // as which user and where
	base  string // the database that is open
}

// renewed gives the watch over further work in the session, which is asked about anew.
func (w *watch) renewed(work Work) {
	w.work, w.plan, w.said, w.whose, w.guard.Agreed = work, &guard.Plan{}, false, "", false
	if work.Plan != nil {
		w.plan = work.Plan()
	}
}

// level gives the profile's guard.
func (w *watch) level() guard.Level { return guard.Level(w.to.Guard) }

// before refuses what would be asked about where nobody is there to be asked, before anything is
// connected to.
func (w *watch) before() error {
	if w.level() == guard.Confirm && (w.plan.Changes > 0 || w.plan.Open) && !w.work.Agreed {
		if w.plan.Open {
			return world.Usage("the guard is confirm, and nobody knows how many of the statements from a pipe " +
				"change something: to run them, add the flag: --yes")
		}
		if !w.Who.Here() {
			return world.Usage("the guard is confirm, and %s something. To go on, add the flag: --yes", w.counted())
		}
	}
	return nil
}

// counted says how many statements change something.
func (w *watch) counted() string {
	if w.plan.Statements == 1 {
		return "the statement may change"
	}
	return fmt.Sprintf("%d of %d statements may change", w.plan.Changes, w.plan.Statements)
}

// another asks whether to go on where another server answers than last time.
func (w *watch) another(ctx context.Context, text string) error {
	if !w.Who.Here() {
		return checkup.ErrAnother
	}
	w.Who.Say(text)
	yes, err := world.Yes(ctx, w.Who, "Go on there?", false)
	if err == nil && !yes {
		err = checkup.ErrAnother
	}
	return err
}

// opened asks what there is to ask, when the session is open and nothing was done in it.
func (w *watch) opened(ctx context.Context, session engine.Session) error {
	w.guard.Changing = func(ctx context.Context) error {
		if w.said || w.work.Changing == nil {
			return nil
		}
		w.said = true
		account, err := w.account(ctx, session)
		if err == nil {
			w.work.Changing(account)
		}
		return err
	}
	if w.guard.On() {
		foreign, err := w.guard.Foreign(ctx, session, w.plan.Names())
		if err != nil {
			return err
		}
		if where := w.plan.Called(foreign); len(foreign) > 0 && w.level() == guard.ReadOnly {
			return w.guard.Refused(strings.TrimSuffix(outside.Cell(foreign[0])+", a function that is not the engine's own, in "+where,
				", in "))
		}
	}
	confirm := w.level() == guard.Confirm && w.plan.Changes > 0
	destroys := len(w.plan.Destroys) > 0 && w.Who.Here()
	w.guard.Agreed = confirm && w.work.Agreed || w.level() == guard.Confirm && w.plan.Open
	if w.work.Agreed || !confirm && !destroys {
		return nil
	}
	if err := w.before(); err != nil { // a function was found to be no one of the engine's
		return err
	}
	account, err := w.account(ctx, session)
	if err != nil {
		return err
	}
	question := ""
	if confirm {
		question = fmt.Sprintf("The guard of %s is confirm, and %s something", w.named(), w.counted())
		if w.work.Least == guard.Confirm { // each of several profiles is asked about, with any guard
			question = fmt.Sprintf("In %s %s something", w.named(), w.counted())
		}
	}
	if len(w.plan.Destroys) > 0 {
		about := strings.Join(w.plan.Destroys, ", ")
		if question == "" {
			question = "This can remove a lot: " + about
		} else {
			question += " (" + about + ")"
		}
	}
	if confirm && w.work.Counted != nil {
		if counted := w.work.Counted(ctx, session); counted != "" {
			question += " (" + counted + ")"
		}
	}
	w.Who.Say(question + ", " + account + ".")
	w.said = true
	verb := "Run them?"
	if w.plan.Statements == 1 {
		verb = "Run it?"
	}
	yes, err := world.Yes(ctx, w.Who, verb, false)
	if err != nil {
		return err
	}
	if !yes {
		return world.Error{Code: finding.ExitDatabase, Message: "nothing was done"}
	}
	w.guard.Agreed = true
	return nil
}

// named gives the profile's name.
func (w *watch) named() string {
	if w.to.Name == "" {
		return "this connection"
	}
	return w.to.Name
}

// account gives the user and the place of the statements.
func (w *watch) account(ctx context.Context, session engine.Session) (string, error) {
	if w.whose != "" {
		return w.whose, nil
	}
	facts, err := session.(checkup.Abouter).About(ctx)
	if err != nil {
		return "", err
	}
	user := outside.Cell(w.to.User)
	if facts.Account != "" {
		user = outside.Cell(facts.Account)
	}
	if facts.Superuser != nil && *facts.Superuser {
		user += " (superuser)"
	}
	w.whose = "as " + user
	if w.base = facts.Database; facts.Database != "" {
		w.whose += " in " + outside.Cell(facts.Database)
	}
	info, _ := known.Info(w.to.Engine)
	product := info.Title
	if facts.Product != "" {
		product = facts.Product
	}
	w.whose += " at " + w.to.Place() + " (" + outside.Cell(strings.TrimSpace(product+" "+facts.Version)) + ")"
	return w.whose, nil
}
