package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/survey"
)

// surveyRun is one survey.
type surveyRun struct {
	*call
	o    *surveyOptions
	whom string       // as which user and where
	base string       // the database that is open, "" for none
	list *report.List // the one that is printed, nil for none yet
	open bool         // it is begun and not ended
	// within says that it is one of a page's in JSON.
	within bool
}

// ended ends what was begun; JSON has more in its last object.
func (s *surveyRun) ended(more string) (err error) {
	if s.open {
		err = s.list.Failed(more)
	}
	if s.within {
		fmt.Fprint(s.Stdout, "]}\n")
	}
	s.open, s.within = false, false
	return err
}

// failed ends what was printed with what a failure means.
func (s *surveyRun) failed(f *harbor.Failed) (bool, error) {
	if !s.json {
		return false, nil
	}
	if !s.open {
		s.list, s.open = s.printer(""), true
	}
	return false, s.ended(fmt.Sprintf(`,"finding":%s`, report.CompactJSON(f.Finding)))
}

func (s *surveyRun) printer(name string) *report.List {
	return &report.List{Form: s.o.as, Out: s.Stdout, Errs: s.Stderr, Name: name}
}

// one prints one list.
func (s *surveyRun) one(ctx context.Context, from engine.Surveyor, r survey.Request) error {
	s.list, s.open = s.printer(string(r.List)), true
	outcome, err := survey.Take(ctx, from, r, s.list)
	if err != nil {
		return err
	}
	s.open = false
	if err := s.list.End(outcome.Sight, outcome.Unknown, outcome.Left, ""); err != nil {
		return err
	}
	s.beside(outcome, string(r.List), r.On.Shown)
	return nil
}

// beside says what a list does not show.
func (s *surveyRun) beside(outcome survey.Outcome, about, table string) {
	if outcome.Rows == 0 && outcome.Sight.Known() {
		there := "there are no " + about
		switch {
		case s.o.like != "":
			there += " that fit " + clip(s.o.like)
		case table != "":
			there += " of " + outside.Cell(table)
		}
		if s.base != "" && (s.o.kind.List == engine.ListTables || s.o.kind.List == engine.ListColumns) {
			there += " in the database " + outside.Cell(s.base)
		}
		if !outcome.Sight.All() {
			there += " that this user sees"
		}
		s.Note("%s", there)
	}
	if len(outcome.Unknown) > 0 && outcome.Sight.Known() {
		s.Note("not known by this server: %s", strings.ReplaceAll(strings.Join(outcome.Unknown, ", "), "_", " "))
	}
	if outcome.Left > 0 {
		s.Note("--limit leaves out %s", report.Count(outcome.Left, "row"))
	}
	report.Sight(s.Stderr, outcome.Sight)
}

// rights prints a list of rights, or what changed since the last one, and remembers it.
func (s *surveyRun) rights(ctx context.Context, from engine.Surveyor, r survey.Request) error {
	facts, err := from.(checkup.Abouter).About(ctx)
	if err != nil {
		return err
	}
	state, err := s.State()
	if err != nil {
		return err
	}
	about := survey.About{Server: facts.Identity, Database: facts.Database, Asked: facts.Account, Of: r.Of}
	if about.Server == "" { // it has no identity of its own
		about.Server = "the server of " + s.o.name
	}
	if s.o.system {
		about.System = "system"
	}
	memory := survey.Memory{Dir: filepath.Join(state, "rights")}
	last, err := memory.Last(about)
	if err != nil && s.o.sinceLast {
		return wrong("the rights of last time could not be read: %s", systemWord(err))
	}
	now := &survey.Rights{}
	var outcome survey.Outcome
	s.list = s.printer(string(r.List))
	if s.o.sinceLast {
		outcome, err = survey.Take(ctx, from, r, now)
		if err != nil {
			return err
		}
		if now.Over {
			return wrong("the list of rights is too long to be compared: list those of one user, such as "+
				"gharbor survey %s rights --of reader --since-last",
				clip(s.o.name))
		}
		if err := s.changes(last, now.List, outcome); err != nil {
			return err
		}
	} else {
		s.open = true
		if outcome, err = survey.Take(ctx, from, r, twoTakers{s.list, now}); err != nil {
			return err
		}
		s.open = false
		if err := s.list.End(outcome.Sight, outcome.Unknown, 0, ""); err != nil {
			return err
		}
		s.beside(outcome, string(r.List), "")
	}
	if !outcome.Sight.Known() {
		return nil
	}
	if now.Over {
		s.Note("the rights are not remembered for --since-last: %s", survey.ErrTooMany)
		return nil
	}
	if err := memory.Keep(about, survey.Remembered{When: time.Now().UTC().Truncate(time.Second),
		Rights: now.List}); err != nil {
		s.Note("the rights are not remembered for --since-last: %s", systemWord(err))
	}
	return nil
}

// changes prints what was added and taken.
func (s *surveyRun) changes(last *survey.Remembered, now []survey.Right, outcome survey.Outcome) error {
	var added, taken []survey.Right
	more := ""
	if last != nil && outcome.Sight.Known() {
		added, taken = survey.Compare(last.Rights, now)
		more = fmt.Sprintf(`,"since":%s`, report.CompactJSON(last.When))
	}
	if err := survey.Show(added, taken, s.list); err != nil {
		return err
	}
	if err := s.list.End(outcome.Sight, nil, 0, more); err != nil {
		return err
	}
	switch {
	case !outcome.Sight.Known():
	case last == nil:
		s.Note("there is no earlier list of these rights; they are remembered now, for the next --since-last")
	case len(added)+len(taken) == 0:
		s.Note("nothing was added or taken since %s", last.When.Local().Format("2006-01-02 15:04:05"))
	default:
		s.Note("compared with %s", last.When.Local().Format("2006-01-02 15:04:05"))
	}
	report.Sight(s.Stderr, outcome.Sight)
	return nil
}

// twoTakers gives rows to two.
type twoTakers struct{ first, second engine.Rows }

// Columns implements engine.Rows.
func (b twoTakers) Columns(columns []engine.Column) error {
	return errors.Join(b.second.Columns(columns), b.first.Columns(columns))
}

// Row implements engine.Rows.
func (b twoTakers) Row(cells []engine.Cell) error {
	if err := b.second.Row(cells); err != nil {
		return err
	}
	return b.first.Row(cells)
}

// Bytes implements engine.Rows.
func (b twoTakers) Bytes(data []byte) error { return b.first.Bytes(data) }
