package cli

import (
	"bufio"
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
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/script"
)

// mostScript is how large a text of statements may be that is read as a whole, and mostValue how
// large a value of a file.
const (
	mostScript = 16 << 20
	mostValue  = 64 << 20
)

// statementInput is what a person gives to run: statements, values, and words of another client
// in the statements' files.
type statementInput struct {
	from         []string
	let, letFrom []string
	words        script.Words
	wordsFile    string
}

func (g *statementInput) flags(f flagSet) {
	f.listFlag("from", &g.from)
	f.listFlag("let", &g.let)
	f.listFlag("let-from", &g.letFrom)
	word := func(name string, into *[]string) {
		f.eachFlag(name, func(text string) error {
			if err := script.CheckWord(text); err != nil {
				return fmt.Errorf("%s--%s takes the word that begins the lines, without spaces, quotes and "+
					"semicolons, such as --%s pull",
					world.FlagMark, name, name)
			}
			*into = append(*into, text)
			return nil
		})
	}
	word("include-word", &g.words.Include)
	word("end-word", &g.words.End)
	word("pass-over", &g.words.PassOver)
	f.textFlag("words", &g.wordsFile)
}

// program gives the name of the profile, unless flags choose several, and the program that is to
// run. In is standard input, where nothing else reads it, else nil.
func (g statementInput) program(ctx context.Context, c *call, chosen bool) (name string, p *script.Program,
	in io.Reader, err error) {
	words := slices.Clone(c.names)
	// The environment may name the profile, where one word less is given than a profile and what
	// to run.
	if of, is := c.Env("GHARBOR_PROFILE"); is && of != "" && len(words)+min(len(g.from), 1) == 1 {
		words = append([]string{of}, words...)
	}
	if chosen { // by flags: all words are statements
		words = append([]string{""}, words...)
	}
	if len(words) == 0 || len(words)+len(g.from) < 2 {
		return "", nil, nil, usage("run needs a profile's name and a statement, in quotes: gharbor run " +
			"huts/local \"select 1\"")
	}
	name = words[0]
	inputs := append(slices.Clone(words), g.from...)
	for _, each := range g.letFrom {
		_, file, _ := strings.Cut(each, "=")
		inputs = append(inputs, file)
	}
	if err := c.Inputs(inputs...); err != nil {
		return "", nil, nil, err
	}
	p = &script.Program{Words: g.words}
	if p.Values, err = g.values(ctx, c); err != nil {
		return "", nil, nil, err
	}
	if g.wordsFile != "" {
		if err := g.moreWords(ctx, c, &p.Words); err != nil {
			return "", nil, nil, err
		}
	}
	for _, word := range words[1:] {
		s := script.Source{Text: word}
		if word == "-" {
			if s.Text, err = c.ReadAll(mostScript); err != nil {
				return "", nil, nil, wrong("standard input could not be read: %v", err)
			}
		}
		switch {
		case len(s.Text) > mostScript:
			return "", nil, nil, wrong("the statements are larger than %s; put them into a file, and give it with --from",
				engine.Size(mostScript))
		case strings.TrimSpace(s.Text) == "":
			return "", nil, nil, usage("the statement is empty")
		}
		p.Sources = append(p.Sources, s)
	}
	for _, file := range g.from {
		s, err := sourceOf(ctx, c, file)
		if err != nil {
			return "", nil, nil, wrong("the statements of %s could not be read: %s", clip(file), systemWord(err))
		}
		p.Sources = append(p.Sources, s)
	}
	return name, p, c.Unread(inputs...), nil
}

// sourceOf gives a file of statements, or standard input where it is "-".
func sourceOf(ctx context.Context, c *call, file string) (script.Source, error) {
	if file == "-" {
		return script.Source{Name: "standard input", Pipe: untilDone(ctx, c.World.Stdin)}, nil
	}
	info, err := os.Stat(c.Path(file))
	switch {
	case err != nil:
		return script.Source{}, err
	case info.Mode().IsRegular():
		return script.Source{Name: file, Path: c.Path(file)}, nil
	}
	data, err := files.ReadNamed(ctx, c.Path(file), mostScript) // such as the output of a program, which a shell names
	return script.Source{Name: file, Text: string(data)}, err
}

// moreWords reads a file of words.
func (g statementInput) moreWords(ctx context.Context, c *call, words *script.Words) error {
	data, err := files.ReadNamed(ctx, c.Path(g.wordsFile), script.MostWords)
	if err != nil {
		return wrong("the words of %s could not be read: %s", clip(g.wordsFile), systemWord(err))
	}
	more, err := script.ParseWords(data, profile.Nearest)
	if err != nil {
		return wrong("%s, %v", clip(g.wordsFile), err)
	}
	words.Include, words.End, words.PassOver = append(words.Include, more.Include...), append(words.End,
		more.End...), append(words.PassOver, more.PassOver...)
	return nil
}

// untilDone gives a reader that ends with an error when ctx does: a read of a terminal, or of a
// pipe, cannot be aborted.
func untilDone(ctx context.Context, in io.Reader) io.Reader {
	out, to := io.Pipe()
	go func() {
		_, err := io.Copy(to, bufio.NewReader(in))
		_ = to.CloseWithError(err)
	}()
	context.AfterFunc(ctx, func() { _ = out.CloseWithError(ctx.Err()) })
	return out
}

// values gives the values for the statements.
func (g statementInput) values(ctx context.Context, c *call) (script.Values, error) {
	values := script.Values{Given: map[string]engine.Value{}, Used: map[string]bool{}, Near: profile.Nearest}
	add := func(v engine.Value, err error) error {
		var wrong *script.LetError
		if errors.As(err, &wrong) {
			return usage("%v, such as --let %s", wrong, wrong.Example)
		}
		if _, twice := values.Given[v.Name]; twice {
			return usage("the value %s is given twice: give each name once, such as --let %s=VALUE", v.Name, v.Name)
		}
		values.Given[v.Name] = v
		return nil
	}
	for _, word := range g.let {
		if err := add(script.Let(word)); err != nil {
			return values, err
		}
	}
	for _, word := range g.letFrom {
		name, file, is := strings.Cut(word, "=")
		if !is || file == "" {
			return values, usage("--let-from takes a name and a file, such as --let-from photo:bytes=hut.jpg")
		}
		var whole string
		var err error
		if file == "-" {
			whole, err = c.ReadAll(mostValue)
		} else {
			var data []byte
			data, err = files.ReadNamed(ctx, c.Path(file), mostValue+1)
			whole = string(data)
		}
		if err != nil {
			return values, wrong("the value %s could not be read: %s", clip(name), systemWord(err))
		}
		if len(whole) > mostValue {
			return values, wrong("the value %s is larger than %s", clip(name), engine.Size(mostValue))
		}
		if err := add(script.LetFrom(name, whole)); err != nil {
			return values, err
		}
	}
	return values, nil
}

// statementPlace is where something is in what a person has given.
type statementPlace struct {
	File      string `json:"file,omitempty"`
	Statement int    `json:"statement"`
	Of        int    `json:"of,omitempty"` // 0 where that is not known
	Done      int    `json:"done"`         // statements that were done before it
	Line      int    `json:"line,omitempty"`
	Column    int    `json:"column,omitempty"`
	Text      string `json:"text,omitempty"` // the line
	mark      int    // the character in Text
}

// words says where it is.
func (p statementPlace) words() string {
	switch {
	case p.File != "" && p.Line > 0:
		return fmt.Sprintf("%s, line %d, column %d", p.File, p.Line, p.Column)
	case p.File != "":
		return p.File
	case p.Line > 1:
		return fmt.Sprintf("line %d, column %d", p.Line, p.Column)
	case p.Line > 0:
		return fmt.Sprintf("column %d", p.Column)
	}
	return ""
}

// programFacts is what is known of a program before it runs.
type programFacts struct {
	statements int
	bytes      int64
	files      bool // statements name files of this machine
}

// statementGate refuses statements that cannot run in a program: it is asked of each one before
// the first runs, and of those that come from a pipe as they come.
type statementGate struct {
	language engine.Language
	undo     bool // a transaction is around all of them
	free     bool // standard input is for a statement
	level    guard.Level
	reads    bool        // several profiles are read, and nothing changes there
	plan     *guard.Plan // takes up each statement; nil for none
}

// admit refuses a statement that cannot run after those which were admitted before.
func (g *statementGate) admit(s script.Step) error {
	if s.Data == nil && g.language.ReadsInput(s.To) {
		if !g.free {
			return usage("the statement %d copies data from standard input, and only one thing can be read from "+
				"it: put the statements into a file, such as gharbor run NAME --from FILE",
				s.N)
		}
		g.free = false
	}
	if err := g.guarded(s); err != nil {
		return err
	}
	if g.undo {
		return undoable(g.language, s)
	}
	return nil
}

// guarded refuses what the profile's guard does not let through as far as the text says, and
// takes the statement up into the plan.
func (g *statementGate) guarded(s script.Step) error {
	plan := g.plan
	if plan == nil {
		plan = &guard.Plan{}
	}
	spot := s.Where(0)
	where := statementPlace{File: s.File, Line: s.Line, Column: s.Column}.words()
	if s.File == "" {
		where = fmt.Sprintf("statement %d", s.N)
	}
	does := plan.Add(g.language, g.level, s.To, where)
	on := g.level == guard.Confirm || g.level == guard.ReadOnly
	say, otherwise := "", "If you know what it does, say so for one run: --guard none"
	switch {
	case g.reads && (does.Effect == engine.Changes || does.Effect == engine.Unguarded):
		say, otherwise = "several profiles are read side by side, and the statement may change something: "+does.Why,
			"To run it in each of them, one after the other, add the flag: --each"
	case on && does.Effect == engine.Unguarded:
		say = fmt.Sprintf("the guard is %s, and says by itself which transactions may change something: leave out %s",
			g.level, does.Why)
	case g.level == guard.ReadOnly && does.Effect == engine.Changes:
		say = fmt.Sprintf("the guard is read-only, and the statement may change something: %s. Nothing was sent", does.Why)
	default:
		return nil
	}
	message := where + ": " + say + ". " + otherwise
	if spot.Text != "" {
		text, mark := report.Marked(spot.Text, spot.Mark, 72)
		message += "\n    " + text + "\n    " + mark
	}
	return world.Error{Code: finding.ExitDatabase, Message: message}
}

// checkProgram takes a program apart, and gives values their places. What is wrong with it is
// found here, before anything is connected to, but for what comes from a pipe. Each is told of
// each statement; it may be nil.
func checkProgram(p *script.Program, g statementGate, each func(script.Step)) (programFacts, error) {
	var all programFacts
	err := p.Walk(false, func(s script.Step) error {
		all = programFacts{s.N, s.Bytes, all.files || s.OpenLocal != nil}
		if each != nil {
			each(s)
		}
		return g.admit(s)
	})
	if err != nil {
		return all, misplaced(err, p.Language.Begins)
	}
	if unused := p.Values.Unused(); len(unused) > 0 && !p.Pipes() {
		return all, usage("no statement has a place for the value %s: write {{%s}} where it goes, such as \"select {{%s}}\"",
			unused[0], unused[0], unused[0])
	}
	if p.Language.Single && (all.statements > 1 || p.Pipes()) {
		example := `"select 1 from dual"`
		if p.Language.Objects != nil {
			example = `'{"ping": 1}'`
		}
		return all, usage("this kind of server takes one statement at a time here, and none from a pipe: give "+
			"each by itself, such as gharbor run NAME %s",
			example)
	}
	if all.statements == 0 && !p.Pipes() {
		return all, usage("the statement is empty")
	}
	return all, nil
}

// undoable refuses a statement that ends a transaction, or cannot be in one.
func undoable(language engine.Language, s script.Step) error {
	word := language.Commits(s.To)
	if word == "" {
		return nil
	}
	where := fmt.Sprintf("statement %d", s.N)
	if s.File != "" {
		spot := s.Where(0)
		where = statementPlace{File: s.File, Line: spot.Line, Column: spot.Column}.words()
	}
	return usage("%s begins with %s, which ends a transaction or cannot be in one, so it cannot be undone: "+
		"leave it out, or leave out --all-or-nothing, such as gharbor run NAME --from FILE",
		where, word)
}

// misplaced words a mistake in statements, with its place; any other error is given as it is.
// Begins are the words with which statements begin.
func misplaced(err error, begins []string) error {
	var in *script.FileError
	var value *script.PlaceError
	var line *script.LineError
	if !errors.As(err, &in) {
		return err
	}
	code, say, spot := finding.ExitSettings, systemWord(in.Err), script.Spot{}
	switch {
	case errors.As(in.Err, &value):
		code, say, spot = exitUsage, value.Say, value.Spot
	case errors.As(in.Err, &line):
		say, spot = line.Say, line.Spot
		if line.Word != "" {
			word := line.Word
			if fields := strings.Fields(line.Text); len(fields) > 0 { // as it is written
				word = fields[0]
			}
			say = fmt.Sprintf("%s begins no statement here. If another client takes such lines, say what they "+
				"are for: --include-word %s, --end-word %s or --pass-over %s",
				word, word, word, word)
			if near := profile.Nearest(line.Word, begins); near != "" {
				say = fmt.Sprintf("%s begins no statement; did you mean %s?", word, near)
			}
		}
	}
	p := statementPlace{File: in.File, Line: spot.Line, Column: spot.Column}
	where := p.words()
	if n := script.Number(err); n > 1 && in.File == "" {
		where = fmt.Sprintf("statement %d, %s", n, where)
	}
	if where == "" {
		return world.Error{Code: code, Message: say}
	}
	message := where + ": " + say
	if spot.Line > 0 && spot.Text == "" {
		return world.Error{Code: code,
			Message: message + "; the statement is not shown, since a password may be in it. To see where " +
				"values can be: gharbor help run"}
	}
	if spot.Line > 0 {
		text, mark := report.Marked(spot.Text, spot.Mark, 72)
		message += "\n    " + text + "\n    " + mark
	}
	return world.Error{Code: code, Message: message}
}
