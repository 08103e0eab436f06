package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/survey"
)

var surveyCommand = command{
	name: "survey", synopsis: "NAME [LIST | table TABLE]", about: "list what is there, and who may do what",
	text: `LIST is databases, schemas, tables, columns, users, rights, settings or sessions; table TABLE is about one table. Without one it is a
page: who you are and where, and how many there are of each.

What you do not see is said: that there is none, that it is not shown to this user, with the right that shows it and the statement by
which an administrator gives that, or that this server does not know it. A ? in a table is a value that is not known or not shown.

Of tables and columns there are those of the open database; --database NAME opens another one. --like PATTERN takes * and ?; without them
any part of the name fits. --on TABLE narrows columns and rights to one table, and --of USER lists another user's rights. --on alone lists
what everybody may do with the table. --system adds what belongs to the server itself.

Each list of rights is remembered, as names alone: --since-last says what was added and what was taken since then.

All is read in transactions that only read, after the profile's expectations. --as json and csv have more columns than a table.`,
	examples: []string{"gharbor survey huts/local", "gharbor survey huts/local databases", "gharbor survey huts/local tables --like book", "gharbor survey huts/local table booking", "gharbor survey huts/local columns --like height",
		"gharbor survey huts/local rights --since-last"},
	settings: true, connects: true, json: true,
	options: optionsOf[surveyOptions],
}

type surveyOptions struct {
	as, like, of, on  string
	system, sinceLast bool
	limit             int

	name, word, table string
	kind              survey.Kind
}

func (o *surveyOptions) flags(f flagSet, _ *harbor.Run) {
	f.wordFlag("as", report.ListForms, "table", &o.as)
	f.textFlag("like", &o.like)
	f.textFlag("of", &o.of)
	f.textFlag("on", &o.on)
	f.onFlag("system", &o.system)
	f.onFlag("since-last", &o.sinceLast)
	f.numberFlag("limit", 1, 1<<31-1, 0, &o.limit)
}

// form gives where the form is.
func (o *surveyOptions) form() *string { return &o.as }

// surveys are the words for what a survey can list.
func surveys() []string {
	words := []string{"table"}
	for _, kind := range survey.Kinds {
		words = append(words, string(kind.List))
	}
	slices.Sort(words)
	return words
}

// read takes the words of the command line.
func (o *surveyOptions) read(c *call) error {
	words := slices.Clone(c.names)
	if of, is := c.Env("GHARBOR_PROFILE"); is && of != "" && (len(words) == 0 || slices.Contains(surveys(), words[0])) {
		words = append([]string{of}, words...)
	}
	if len(words) == 0 {
		return usage("survey needs a profile's name: gharbor survey huts/local tables")
	}
	o.name, words = words[0], words[1:]
	if len(words) > 0 {
		o.word, words = words[0], words[1:]
	}
	if o.word == "table" {
		if len(words) != 1 {
			return usage("survey NAME table needs the name of one table: gharbor survey %s table booking", clip(o.name))
		}
		o.table, words = words[0], nil
	}
	if len(words) > 0 {
		return usage("survey lists one thing at a time: gharbor survey %s tables", clip(o.name))
	}
	known := o.word == "" || o.word == "table"
	if !known {
		if o.kind, known = survey.Find(o.word); !known {
			if near := profile.Nearest(o.word, surveys()); near != "" {
				return usage("survey has no list %s; did you mean %s? gharbor survey %s %s", clip(o.word), near, clip(o.name), near)
			}
			return usage("survey has no list %s; there are %s: gharbor survey %s tables", clip(o.word), strings.Join(surveys(), ", "), clip(o.name))
		}
	}
	return o.fits()
}

// fits refuses flags that what is listed does not use.
func (o *surveyOptions) fits() error {
	what := "the list of " + o.word
	switch o.word {
	case "":
		what = "the page about a server"
	case "table":
		what = "the page about a table"
	}
	page := o.kind.List == ""
	if page && o.as == "csv" {
		return usage("%s has several lists, and CSV has room for one: name a list, such as columns --on TABLE, or leave out --as csv", what)
	}
	for _, each := range []struct {
		flag     string
		set, has bool
	}{
		{"like", o.like != "", !page}, {"limit", o.limit != 0, !page}, {"of", o.of != "", o.kind.Of}, {"on", o.on != "", o.kind.On}, {"system", o.system, o.kind.System || o.word == ""}, {"since-last", o.sinceLast, o.kind.List == engine.ListRights},
	} {
		if each.set && !each.has {
			return usage("%s does not use --%s: leave it out, such as gharbor survey %s %s", what, each.flag, clip(o.name), strings.TrimSpace(o.word+" "+clip(o.table)))
		}
	}
	if o.sinceLast && (o.like != "" || o.on != "" || o.limit != 0) {
		return usage("--since-last compares all rights: leave out --like, --on and --limit, such as gharbor survey %s rights --since-last", clip(o.name))
	}
	return nil
}

func (o *surveyOptions) run(ctx context.Context, c *call) error {
	if err := o.read(c); err != nil {
		return err
	}
	s := &surveyRun{call: c, o: o}
	work := harbor.Work{Needs: engine.Surveys, Whom: func(account string) { s.whom = account }}
	err := connected(ctx, c, o.name, work, s.failed, func(from engine.Surveyor, explain func(error) error) error {
		err := s.take(ctx, from)
		var missing *engine.NotThere
		if errors.As(err, &missing) {
			return notThere(missing)
		}
		return explain(err)
	})
	if err != nil {
		err = errors.Join(s.ended(""), err)
	}
	return err
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

// notThere says what is not there, and what may be meant.
func notThere(e *engine.NotThere) error {
	if len(e.Several) > 0 {
		for i := range e.Several {
			e.Several[i] = outside.Cell(e.Several[i])
		}
		return wrong("several tables have the name %s: %s. Give one of them with its schema", clip(e.Name), strings.Join(e.Several[:min(len(e.Several), 5)], ", "))
	}
	if near := profile.Nearest(e.Name, e.Near); near != "" {
		return wrong("there is no %s %s that this user can see; did you mean %s?", e.What, clip(e.Name), outside.Cell(near))
	}
	return wrong("there is no %s %s that this user can see", e.What, clip(e.Name))
}

// surveyRun is one survey.
type surveyRun struct {
	*call
	o    *surveyOptions
	whom string
	list *report.List // the one that is printed, nil for none yet
	open bool         // it is begun and not ended
	// within says that it is one of a page's in JSON.
	within bool
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

// take asks, and prints what there is.
func (s *surveyRun) take(ctx context.Context, from engine.Surveyor) error {
	switch {
	case s.o.word == "":
		return s.page(ctx, from)
	case s.o.word == "table":
		return s.pageOfTable(ctx, from)
	}
	r := survey.Request{List: s.o.kind.List, Like: s.o.like, Of: s.o.of, System: s.o.system, Limit: int64(s.o.limit)}
	if s.o.on != "" {
		var err error
		if r.On, err = from.Table(ctx, s.o.on); err != nil {
			return err
		}
	}
	if r.List == engine.ListRights && s.o.like == "" && s.o.on == "" && s.o.limit == 0 {
		return s.rights(ctx, from, r)
	}
	return s.one(ctx, from, r)
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
	s.beside(outcome, s.o.kind.About, r.On.Name)
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
		if at := strings.Index(s.whom, " in "); at >= 0 && (s.o.kind.List == engine.ListTables || s.o.kind.List == engine.ListColumns) {
			in, _, _ := strings.Cut(s.whom[at+len(" in "):], " at ")
			there += " in the database " + in
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
	if about.Server == "" {
		about.Server = facts.Product
		if at := strings.LastIndex(s.whom, " at "); at >= 0 {
			about.Server, _, _ = strings.Cut(s.whom[at:], " (")
		}
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
			return wrong("the list of rights is too long to be compared: list those of one user, such as gharbor survey %s rights --of reader --since-last", clip(s.o.name))
		}
		if err := s.changes(last, now.List, outcome); err != nil {
			return err
		}
	} else {
		s.open = true
		if outcome, err = survey.Take(ctx, from, r, both{s.list, now}); err != nil {
			return err
		}
		s.open = false
		if err := s.list.End(outcome.Sight, outcome.Unknown, 0, ""); err != nil {
			return err
		}
		s.beside(outcome, s.o.kind.About, "")
	}
	if !outcome.Sight.Known() {
		return nil
	}
	if now.Over {
		s.Note("the rights are not remembered for --since-last: %s", survey.ErrTooMany)
		return nil
	}
	if err := memory.Keep(about, survey.Remembered{When: time.Now().UTC().Truncate(time.Second), Rights: now.List}); err != nil {
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

// both gives rows to two.
type both struct{ first, second engine.Rows }

// Columns implements engine.Rows.
func (b both) Columns(columns []engine.Column) error {
	return errors.Join(b.second.Columns(columns), b.first.Columns(columns))
}

// Row implements engine.Rows.
func (b both) Row(cells []engine.Cell) error {
	if err := b.second.Row(cells); err != nil {
		return err
	}
	return b.first.Row(cells)
}

// Bytes implements engine.Rows.
func (b both) Bytes(data []byte) error { return b.first.Bytes(data) }
