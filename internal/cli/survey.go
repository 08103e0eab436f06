package cli

import (
	"context"
	"errors"
	"strings"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
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
	examples: []string{"gharbor survey huts/local", "gharbor survey huts/local databases",
		"gharbor survey huts/local tables --like book", "gharbor survey huts/local table booking",
		"gharbor survey huts/local columns --like height",
		"gharbor survey huts/local rights --since-last"},
	settings: true, connects: true, json: true,
	options: optionsOf[surveyOptions],
}

func (o *surveyOptions) run(ctx context.Context, c *call) error {
	if err := o.read(c); err != nil {
		return err
	}
	s := &surveyRun{call: c, o: o}
	work := harbor.Work{Needs: engine.Surveys, Account: func(account, database string) {
		s.whom, s.base = account, database
	}}
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

// notThere says what is not there, and what may be meant.
func notThere(e *engine.NotThere) error {
	if len(e.Several) > 0 {
		for i := range e.Several {
			e.Several[i] = outside.Cell(e.Several[i])
		}
		return wrong("several tables have the name %s: %s. Give one of them with its schema", clip(e.Name),
			strings.Join(e.Several[:min(len(e.Several), 5)], ", "))
	}
	if near := profile.Nearest(e.Name, e.Near); near != "" {
		return wrong("there is no %s %s that this user can see; did you mean %s?", e.What, clip(e.Name), outside.Cell(near))
	}
	return wrong("there is no %s %s that this user can see", e.What, clip(e.Name))
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
