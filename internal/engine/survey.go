package engine

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"gentle-harbor/internal/finding"
)

// Surveys is the ability of a [Surveyor].
const Surveys Ability = "list what is there"

// List is a list of what a server has.
type List string

// The lists. Those about one table are without a word of their own.
const (
	ListDatabases List = "databases"
	ListSchemas   List = "schemas"
	ListTables    List = "tables"
	ListColumns   List = "columns"
	ListUsers     List = "users"
	ListRights    List = "rights"
	ListSettings  List = "settings"
	ListSessions  List = "sessions"

	ListIndexes    List = "indexes"
	ListRefersTo   List = "refers to"
	ListReferredBy List = "referred to by"
	ListTriggers   List = "triggers"
)

// Kinds of columns of lists beside those that rows have: they are in [Column.Type].
const (
	TypeSize = "bytes"  // how many bytes something has
	TypeMore = "detail" // a table has no room for it
	TypeLong = "long"   // a table cuts it
)

// Scope says which part of a list is wanted. Its zero value is all of it that is no object of the
// system.
type Scope struct {
	// Table is the table that the list is about, as [Surveyor.Table] gave it; its zero value is any.
	Table Relation
	// Of is the user whose rights are listed, as a person writes it; "" is the session's.
	// Everybody is each user.
	Of        string
	Everybody bool
	// System adds objects of the system.
	System bool
	// Wanted reports whether a row is wanted, by its name and by its name with what is before it;
	// nil for all: an engine may give others. What costs much is asked for the wanted rows alone.
	Wanted func(name, full string) bool
	// Names says that nothing but the names is wanted, and soon: an engine leaves out the columns
	// that cost.
	Names bool
	// Limit is how many rows are wanted at the most, 0 for all: an engine may give more.
	Limit int
}

// Takes reports whether a row with such a name is wanted.
func (s Scope) Takes(name, full string) bool { return s.Wanted == nil || s.Wanted(name, full) }

// Relation is a table.
type Relation struct {
	Schema, Name string
	ID           string // the server's own number for it, "" for none
	Shown        string // both names, as they may be shown: without a secret
}

// Surveyor is a session that lists what its server has, as far as this user sees it.
type Surveyor interface {
	// Survey gives the rows of a list to out, all read in transactions that only read, and says
	// how much of the list this user sees. A user that is not there is a *NotThere.
	Survey(ctx context.Context, list List, scope Scope, out Rows) (Sight, error)
	// Table finds the table that a name, or SCHEMA.NAME, stands for: the one that a statement
	// would mean, else the only one of that name. Its error is a *NotThere where there is none,
	// or several.
	Table(ctx context.Context, name string) (Relation, error)
}

// NotThere is the error of a name of something that is not there, as far as this user sees.
type NotThere struct {
	What, Name string
	// Near are names that there are, of which one may be meant.
	Near []string
	// Several are the things of which the name does not say which.
	Several []string
}

// Error says what is not there.
func (e *NotThere) Error() string { return fmt.Sprintf("there is no %s %q", e.What, e.Name) }

// Sight says how much of a list a user sees: what it means that something is not in it. It is
// made by [SeesAll], [SeesPart] and [NotKnown]; its zero value is of a list that forgot it, and
// [Guarded] takes that for a mistake of the engine's.
type Sight struct {
	kind sightKind
	// Hidden is what this user does not see, Right the right that shows it, and Statement how an
	// administrator gives that.
	Hidden, Right, Statement string
	// Why says why nobody sees the list.
	Why string
	// Note is what else is to be said of the list, "" for nothing.
	Note string
}

type sightKind int

const (
	notSaid sightKind = iota
	seesAll
	seesPart
	notKnown
)

// RightsUnknown is the note of a list of a server that does not say what its users may see.
const RightsUnknown = "this server does not say what this user may do, so that there can be more than is shown"

// SeesAll is the sight of a user who sees all of a list: what is not in it is not there.
func SeesAll() Sight { return Sight{kind: seesAll} }

// SeesPart is the sight of a user who does not see what hidden says; right is what shows it, and
// statement what an administrator runs for that.
func SeesPart(hidden, right, statement string) Sight {
	return Sight{kind: seesPart, Hidden: hidden, Right: right, Statement: statement}
}

// NotKnown is the sight of a list that the engine, or the version of it, does not have; why says
// so in a sentence without its end.
func NotKnown(why string) Sight { return Sight{kind: notKnown, Why: why} }

// All reports whether all is seen, and Known whether there is such a list at all.
func (s Sight) All() bool { return s.kind == seesAll }

// Known reports whether the server has such a list.
func (s Sight) Known() bool { return s.kind != notKnown }

// errNoSight is a mistake of an engine's.
var errNoSight = errors.New("the engine does not say how much of its list is seen")

// Cleaned gives the sight with each of its texts as a function gives it.
func (s Sight) Cleaned(clean func(string) string) Sight {
	for _, text := range []*string{&s.Hidden, &s.Right, &s.Statement, &s.Why, &s.Note} {
		*text = clean(*text)
	}
	return s
}

// said reports whether a list said it.
func (s Sight) said() bool { return s.kind != notSaid }

// Listed is a column of a list, and the expression that gives it.
type Listed struct {
	Column
	By string
	// Hides is what it means that a value is missing; its zero value is that there is none.
	Hides Sight
}

// In gives a column of a list, and the expression that gives it.
func In(name string, kind Kind, by string) Listed {
	return Listed{Column: Column{Name: name, Kind: kind}, By: by}
}

// As gives the column as one of another type, such as [TypeLong].
func (l Listed) As(of string) Listed {
	l.Type = of
	return l
}

// Inquiry asks for a list in one way.
type Inquiry struct {
	Columns []Listed
	// From comes after the columns, and Order after that.
	From, Order string
}

// statement gives the statement that asks for some columns.
func (i Inquiry) statement(columns []string, end string) string {
	return "select " + strings.Join(columns, ", ") + " " + i.From + end
}

// Inquire asks in one way after the other, each in a transaction that only reads, until the
// server takes one. A column that the server does not know is of the kind [Null]. The sight is
// the one given, or the one of a column in which a value is missing. Where no way is taken, none
// is shown: denied where the last of them was denied, else a [NotKnown].
func Inquire(ctx context.Context, runner Runner, ways []Inquiry, sight, denied Sight, out Rows) (Sight, error) {
	var last error
	for _, way := range ways {
		all := make([]string, len(way.Columns))
		for i, c := range way.Columns {
			all[i] = c.By
		}
		to := &listing{way: way, out: out, sight: sight, places: whole(len(all))}
		ask := func(statement string, to Rows) error {
			return runner.Together(ctx, true, func() error {
				_, err := runner.Run(ctx, Statement{Text: statement}, to)
				return err
			})
		}
		err := ask(way.statement(all, way.Order), to)
		if !unknownThere(err) || to.begun {
			return to.end(err)
		}
		last = err
		known := 0
		refused := make([]bool, len(all))
		probe := func(values []string) (bool, error) {
			err := ask(way.statement(values, " limit 0"), nowhere{})
			if unknownThere(err) {
				last = err
				return true, nil
			}
			return false, err
		}
		if unknown, err := probe(all); err != nil {
			return sight, err
		} else if unknown {
			for i := range all {
				if refused[i], err = probe(all[i : i+1]); err != nil {
					return sight, err
				}
			}
		}
		to.places = nil
		var columns []string
		for i, value := range all {
			place := -1
			if !refused[i] {
				columns, place = append(columns, value), known
				known++
			}
			to.places = append(to.places, place)
		}
		if known == 0 {
			continue
		}
		err = ask(way.statement(columns, way.Order), to)
		if unknownThere(err) && !to.begun && way.Order != "" { // by a column that it does not know
			err = ask(way.statement(columns, ""), to)
		}
		if !unknownThere(err) || to.begun {
			return to.end(err)
		}
		last = err
	}
	if Denied(last) {
		return denied, nil
	}
	return NotKnown("this server does not have this list"), nil
}

// unknownThere reports whether a server refused a statement for what it names, or for how it is
// written: not for the state of something, which may be another one the next time.
func unknownThere(err error) bool {
	var p *finding.Problem
	if !Refused(err) || !errors.As(err, &p) {
		return false
	}
	switch p.Code {
	case finding.QuerySyntax, finding.QueryNoSuchObject, finding.QueryNoDatabase, finding.QueryNoRight,
		finding.QueryNoSuchBase, finding.QueryWrongType, finding.QueryUnknown, finding.DatabaseNoRight:
		return true
	}
	return false
}

// whole gives the numbers below n.
func whole(n int) []int {
	places := make([]int, n)
	for i := range places {
		places[i] = i
	}
	return places
}

// listing hands the rows of an inquiry on. It begins with the first row: some servers refuse when
// they have named the columns already.
type listing struct {
	way    Inquiry
	places []int // of each column in the server's rows, -1 for one that it does not know
	out    Rows
	begun  bool
	sight  Sight
	row    []Cell
}

// Columns implements Rows.
func (l *listing) Columns([]Column) error { return nil }

// end ends a list.
func (l *listing) end(err error) (Sight, error) {
	if err == nil && !l.begun {
		err = l.begin()
	}
	return l.sight, err
}

func (l *listing) begin() error {
	l.begun = true
	columns := make([]Column, len(l.way.Columns))
	for i, c := range l.way.Columns {
		columns[i] = c.Column
		if l.places[i] < 0 {
			columns[i].Kind = Null
		}
	}
	l.row = make([]Cell, len(columns))
	return l.out.Columns(columns)
}

// Row implements Rows.
func (l *listing) Row(cells []Cell) error {
	if !l.begun {
		if err := l.begin(); err != nil {
			return err
		}
	}
	for i, place := range l.places {
		l.row[i] = Cell{Null: true}
		if place < 0 {
			continue
		}
		if place >= len(cells) {
			return Malformed("a row of another size than was asked for")
		}
		cell := cells[place]
		of := l.way.Columns[i]
		if cell.Null && of.Hides.said() && l.sight.All() {
			l.sight = of.Hides
		}
		if of.Kind == Boolean && !cell.Null {
			cell.Text = map[bool]string{true: "true", false: "false"}[cell.Text == "true" || cell.Text == "t" ||
				cell.Text == "1" || strings.EqualFold(cell.Text, "y") || strings.EqualFold(cell.Text, "yes")]
		}
		l.row[i] = cell
	}
	return l.out.Row(l.row)
}

// Bytes implements Rows.
func (l *listing) Bytes([]byte) error { return Malformed("data instead of rows") }

// nowhere takes rows that nobody wants.
type nowhere struct{}

func (nowhere) Columns([]Column) error { return nil }
func (nowhere) Row([]Cell) error       { return nil }
func (nowhere) Bytes([]byte) error     { return nil }

// Denied reports whether a server refused something for want of a right.
func Denied(err error) bool {
	var p *finding.Problem
	return errors.As(err, &p) && (p.Code == finding.QueryNoRight || p.Code == finding.DatabaseNoRight)
}
