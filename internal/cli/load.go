package cli

import (
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/files"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/guard"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/rowfile"
)

var loadCommand = command{
	name: "load", synopsis: "NAME TABLE FILE", about: "put the rows of a file into a table, all or none",
	text: `FILE is CSV, TSV or JSON with an object a line, as run --as writes them; .gz is unpacked, and - is standard input. Its ending says which,
or --as. The first line names the columns, in any order; a JSON object's keys do. In CSV nothing is null and "" the empty text; in TSV
null is \N.

All rows go in one transaction, by the server's fastest way. A row that does not fit ends it: its line, its column, the value and the
wanted type are named, and nothing stays. --empty-first deletes the table's rows in the same transaction.

TABLE is a name, or SCHEMA.NAME; its case counts.`,
	examples: []string{"gharbor load huts/local booking bookings.csv",
		"gharbor load huts/local booking bookings.csv --empty-first --yes",
		"gharbor load huts/local hut huts.tsv --columns name,height,valley --no-header",
		`gharbor load huts/local hut - --as jsonl < huts.jsonl`},
	settings: true, connects: true, json: true,
	options: optionsOf[loadOptions],
}

type loadOptions struct {
	as, between      string
	columns          []string
	null             []string
	noHeader         bool
	emptyFirst, yes  bool
	file, name, into string
}

func (o *loadOptions) flags(f flagSet, _ *harbor.Run) {
	f.wordFlag("as", rowfile.Forms, "", &o.as)
	f.textFlag("between", &o.between)
	f.eachFlag("columns", func(text string) error {
		o.columns = append(o.columns, strings.Split(text, ",")...)
		return nil
	})
	f.listFlag("null", &o.null)
	f.onFlag("no-header", &o.noHeader)
	f.onFlag("empty-first", &o.emptyFirst)
	f.onFlag("yes", &o.yes)
}

// reading gives how the file is to be read, from the flags.
func (o *loadOptions) reading() (rowfile.Options, error) {
	how := rowfile.Options{Form: o.as, NoHeader: o.noHeader, Columns: o.columns}
	if how.Form == "" {
		how.Form = rowfile.FormOf(o.file)
	}
	switch {
	case how.Form == "":
		return how, usage("what %s is, its name does not say: add --as csv, tsv or jsonl", clip(o.file))
	case o.between != "" && how.Form != "csv":
		return how, usage("--between is for CSV alone: in tsv a tab is between two fields, and jsonl has no " +
			"fields; leave it out, or say --as csv")
	case o.between != "" && (len(o.between) != 1 || o.between[0] < ' ' && o.between != "\t" ||
		strings.ContainsAny(o.between, "\"\r\n")):
		return how, usage("--between takes one character of ASCII that is no quote and no line end, such as --between ';'")
	case how.Form == "jsonl" && o.noHeader:
		return how, usage("jsonl has no header, since each object has its keys: leave out --no-header, such as --as jsonl")
	case how.Form == "jsonl" && o.null != nil:
		return how, usage("in jsonl null is null: leave out --null, such as --as jsonl")
	case len(o.null) > 1:
		return how, usage("--null takes one text; give it once, such as --null NULL")
	}
	if o.between != "" {
		how.Between = o.between[0]
	}
	if o.null != nil {
		how.Null = &o.null[0]
	}
	if err := rowfile.Names(o.columns, 0); err != nil {
		var mistake *rowfile.Error
		errors.As(err, &mistake)
		return how, usage("--columns: %s, such as --columns name,height", mistake.Say)
	}
	return how, nil
}

func (o *loadOptions) run(ctx context.Context, c *call) error {
	words := slices.Clone(c.names)
	if of, is := c.Env("GHARBOR_PROFILE"); is && of != "" && len(words) == 2 {
		words = append([]string{of}, words...)
	}
	if len(words) != 3 {
		return usage("load needs a profile's name, a table and a file: gharbor load huts/local booking bookings.csv")
	}
	o.name, o.into, o.file = words[0], words[1], words[2]
	how, err := o.reading()
	if err != nil {
		return err
	}
	if err := c.Inputs(o.name, o.file); err != nil {
		return err
	}
	from, size, closed, err := o.open(ctx, c)
	if err != nil {
		return err
	}
	defer closed()
	rows, err := rowfile.New(from, how)
	l := &loadRun{call: c, o: o, rows: rows, size: size, shown: newProgress(c.Stderr, size)}
	if l.firstErr = err; err == nil {
		l.first, l.firstErr = rows.Next()
	} else if !errors.Is(err, io.EOF) {
		return o.mistaken(err)
	}
	plan := &guard.Plan{Statements: 1, Changes: 1}
	if errors.Is(l.firstErr, io.EOF) {
		if o.emptyFirst {
			return wrong("%s has no rows, and --empty-first would leave the table empty: nothing was done", clip(o.named()))
		}
		plan.Changes = 0
	}
	if o.emptyFirst {
		plan.Destroys = []string{"delete without where"}
	}
	work := harbor.Work{Needs: engine.Loads, Agreed: o.yes, Files: func() bool { return true },
		Plan: func() *guard.Plan { return plan },
		Ready: func(_ engine.Language, level guard.Level) error {
			if level == guard.ReadOnly && plan.Changes > 0 {
				return world.Error{Code: finding.ExitDatabase,
					Message: "the guard is read-only, and load changes the table. Nothing was sent. If you know " +
						"what it does, say so for one run: --guard none"}
			}
			return nil
		}}
	if _, atTerminal := width(c.Stderr); atTerminal {
		work.Changing = func(whom string) { fmt.Fprintf(c.Stderr, "%s\n", whom) }
	}
	err = connected(ctx, c, o.name, work, func(f *harbor.Failed) (bool, error) { return l.end(ctx, f) },
		func(loader engine.Loader, explain func(error) error) error { return l.load(ctx, loader, explain) })
	l.shown.away()
	var mistake *rowfile.Error
	switch {
	case errors.As(err, &mistake):
		return o.mistaken(err)
	case ctx.Err() != nil && err != nil:
		fmt.Fprintln(c.Stderr, "  The load was interrupted: nothing of it stays.")
	}
	return err
}

// open opens the file, and gives its size, 0 for not known.
func (o *loadOptions) open(ctx context.Context, c *call) (from io.Reader, size int64, closed func(), err error) {
	closed = func() {}
	if o.file == "-" {
		return untilDone(ctx, c.World.Stdin), 0, closed, nil
	}
	unread := func(err error) error {
		return wrong("the rows of %s could not be read: %s", clip(o.file), systemWord(err))
	}
	info, err := os.Stat(c.Path(o.file))
	if err != nil {
		return nil, 0, closed, unread(err)
	}
	switch {
	case info.IsDir():
		return nil, 0, closed, unread(errors.New("it is a folder"))
	case info.Mode().IsRegular():
		file, info, err := files.Open(c.Path(o.file))
		if err != nil {
			return nil, 0, closed, unread(err)
		}
		from, size, closed = file, info.Size(), func() { _ = file.Close() }
	default: // such as the output of a program, which a shell names: to open it may wait, too
		from = untilDone(ctx, &lazyFile{path: c.Path(o.file)})
	}
	if !strings.HasSuffix(strings.ToLower(o.file), ".gz") {
		return from, size, closed, nil
	}
	packed, err := gzip.NewReader(from)
	if err != nil {
		closed()
		return nil, 0, func() {}, unread(err)
	}
	return packed, 0, closed, nil
}

// lazyFile opens a file when it is read.
type lazyFile struct {
	path string
	file *os.File
}

// Read implements io.Reader.
func (f *lazyFile) Read(p []byte) (n int, err error) {
	if f.file == nil {
		if f.file, err = os.Open(f.path); err != nil {
			return 0, err
		}
	}
	if n, err = f.file.Read(p); err != nil {
		_ = f.file.Close()
	}
	return n, err
}

func (o *loadOptions) named() string {
	if o.file == "-" {
		return "standard input"
	}
	return o.file
}

// done says what was loaded.
func (o *loadOptions) done(c *call, n int64) error {
	if c.json {
		return report.JSON(c.Stdout, map[string]any{"table": o.into, "rows": n})
	}
	fmt.Fprintf(c.Stdout, "%s loaded into %s\n", report.Count(n, "row"), outside.Cell(o.into))
	return nil
}

// mistaken words what is wrong with the file.
func (o *loadOptions) mistaken(err error) error {
	var mistake *rowfile.Error
	if !errors.As(err, &mistake) {
		return wrong("the rows of %s could not be read: %s. Nothing was loaded", clip(o.named()), systemWord(err))
	}
	return wrong("%s, line %d: %s. Nothing was loaded", clip(o.named()), mistake.Line, outside.Cell(mistake.Say))
}

// loadRun is one load.
type loadRun struct {
	*call
	o        *loadOptions
	rows     *rowfile.Reader
	first    []engine.Field // the first row, which was read ahead
	firstErr error
	n        int64
	size     int64
	shown    *scriptProgress
}

// Next implements engine.RowSource.
func (l *loadRun) Next() ([]engine.Field, error) {
	if l.n++; l.n == 1 {
		return l.first, l.firstErr
	}
	if l.n%1024 == 0 {
		l.shown.at("rows", l.n, l.rows.Passed())
	}
	return l.rows.Next()
}

// load puts the rows into the table.
func (l *loadRun) load(ctx context.Context, loader engine.Loader, explain func(error) error) error {
	shape, err := shapeOf(ctx, loader, l.o.into)
	if err != nil {
		return explain(err)
	}
	if len(shape.Columns) == 0 {
		near := profile.Nearest(l.o.into, shape.Near)
		if near != "" {
			return wrong("there is no table %s that this user can see; did you mean %s? Nothing was loaded",
				clip(l.o.into), outside.Cell(near))
		}
		return wrong("there is no table %s that this user can see. Nothing was loaded", clip(l.o.into))
	}
	if !shape.Undoable {
		return explain(engine.NotUndoable(shape))
	}
	columns, err := l.columnsOf(shape)
	if err != nil {
		return err
	}
	if errors.Is(l.firstErr, io.EOF) {
		l.Note("%s has no rows", outside.Cell(l.o.named()))
		return l.o.done(l.call, 0)
	}
	n, err := loader.Load(ctx, engine.Load{Into: shape, Columns: columns, Rows: l, EmptyFirst: l.o.emptyFirst})
	l.shown.away()
	if err != nil {
		return explain(err)
	}
	return l.o.done(l.call, n)
}

// shapeOf looks for a table: as SCHEMA.NAME where there is a dot, and as a name that has one.
func shapeOf(ctx context.Context, loader engine.Loader, name string) (engine.Shape, error) {
	if schema, table, is := strings.Cut(name, "."); is && schema != "" && table != "" {
		if shape, err := loader.Shape(ctx, schema, table); err != nil || len(shape.Columns) > 0 {
			return shape, err
		}
	}
	return loader.Shape(ctx, "", name)
}

// columnsOf gives the table's columns that the rows are for.
func (l *loadRun) columnsOf(shape engine.Shape) (list []engine.ShapeColumn, err error) {
	var names []string
	for _, c := range shape.Columns {
		names = append(names, c.Name)
		if l.rows.Columns() == nil && !c.Made {
			list = append(list, c)
		}
	}
	if l.rows.Columns() == nil {
		var expected []string
		for _, c := range list {
			expected = append(expected, c.Name)
		}
		l.rows.Expect(expected)
		if l.firstErr == nil && len(l.first) != len(expected) {
			return nil, &rowfile.Error{Line: 1,
				Say: fmt.Sprintf("there are %s, and the table has %s: name the columns with --columns",
					report.Count(int64(len(l.first)), "field"), report.Count(int64(len(expected)), "column"))}
		}
		return list, nil
	}
	for _, name := range l.rows.Columns() {
		i := slices.Index(names, name)
		if i < 0 {
			say := fmt.Sprintf("the table %s has no column %s", shape.Table, name)
			if near := profile.Nearest(name, names); near != "" {
				say += "; did you mean " + near + "?"
			} else {
				say += "; it has " + strings.Join(names, ", ")
			}
			if between := strings.IndexAny(name, ";\t|"); between >= 0 && len(l.rows.Columns()) == 1 {
				say += fmt.Sprintf(". If another sign is between the fields, say which: --between %q", name[between:between+1])
			}
			if l.o.columns != nil {
				return nil, usage("--columns: %s. Nothing was loaded. For example: --columns %s", strings.TrimSuffix(outside.Cell(say),
					"?"), outside.Cell(names[0]))
			}
			return nil, &rowfile.Error{Line: 1, Say: say}
		}
		list = append(list, shape.Columns[i])
	}
	return list, nil
}

// loadedAt is where a row is that the server did not take.
type loadedAt struct {
	File   string  `json:"file,omitempty"`
	Line   int64   `json:"line,omitempty"`
	Column string  `json:"column,omitempty"`
	Value  *string `json:"value,omitempty"`
	Wanted string  `json:"wanted,omitempty"`
}

// end says which row was not taken.
func (l *loadRun) end(ctx context.Context, failed *harbor.Failed) (said bool, err error) {
	l.shown.away()
	var row *engine.RowError
	at := loadedAt{}
	if errors.As(failed.Err, &row) {
		at = l.placeOf(ctx, row)
		if words := l.words(at); words != "" {
			fmt.Fprintf(l.Stderr, "  %s Nothing was loaded.\n", words)
		}
	}
	if l.json {
		out := map[string]any{"table": l.o.into, "rows": 0, "finding": failed.Finding}
		if row != nil {
			out["at"] = at
		}
		return false, report.JSON(l.Stdout, out)
	}
	return false, nil
}

// words says where the row is.
func (l *loadRun) words(at loadedAt) string {
	if at.Line == 0 {
		return "A row was not taken; the server does not say which."
	}
	words := fmt.Sprintf("The row at %s, line %d was not taken", outside.Cell(l.o.named()), at.Line)
	switch {
	case at.Column != "" && at.Value != nil:
		words += fmt.Sprintf(": the column %s has %q", outside.Cell(at.Column), outside.Cell(*at.Value))
	case at.Column != "":
		words += fmt.Sprintf(": the column %s", outside.Cell(at.Column))
	}
	if at.Wanted != "" {
		words += ", and its type is " + outside.Cell(at.Wanted)
	}
	return words + "."
}

// placeOf finds the row in the file.
func (l *loadRun) placeOf(ctx context.Context, row *engine.RowError) loadedAt {
	at := loadedAt{Column: row.Column, Wanted: row.Wanted}
	if l.o.file != "-" {
		at.File = l.o.file
	}
	if row.Row == 0 {
		return at
	}
	at.Line = l.rows.LineOf(row.Row)
	value := row.Value
	if value.Text == nil && !value.Null && row.Column != "" {
		value = l.valueOf(ctx, row.Row, row.Column)
	}
	if value.Text != nil {
		text := string(value.Text[:min(len(value.Text), 200)])
		at.Value = &text
	}
	return at
}

// valueOf reads a value of a file again.
func (l *loadRun) valueOf(ctx context.Context, row int64, column string) (none engine.Field) {
	how, err := l.o.reading()
	if err != nil || l.size == 0 {
		return none
	}
	from, _, closed, err := l.o.open(ctx, l.call)
	if err != nil {
		return none
	}
	defer closed()
	again, err := rowfile.New(from, how)
	if err != nil {
		return none
	}
	if again.Columns() == nil {
		again.Expect(l.rows.Columns())
	}
	i := slices.Index(again.Columns(), column)
	for n := int64(1); i >= 0; n++ {
		fields, err := again.Next()
		if err != nil || ctx.Err() != nil {
			return none
		}
		if n == row {
			return fields[i]
		}
	}
	return none
}
