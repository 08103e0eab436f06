package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"sync"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/files"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/script"
)

// mostScript is how large a text of statements may be, and mostValue how large a value of a file.
const (
	mostScript = 16 << 20
	mostValue  = 64 << 20
)

// statementInput is what a person gives to run: statements and values.
type statementInput struct {
	from         []string
	let, letFrom []string
}

// statementText is a text of statements, and the file that it comes from, "" for an argument.
type statementText struct{ file, text string }

// texts gives the name of the profile and the texts that are to run. In is standard input, where nothing else reads it, else nil.
func (g statementInput) texts(ctx context.Context, c *call) (name string, list []statementText, in io.Reader, err error) {
	words := slices.Clone(c.names)
	// The environment may name the profile, where one word less is given than a profile and what to run.
	if of, is := c.Env("GHARBOR_PROFILE"); is && of != "" && len(words)+min(len(g.from), 1) == 1 {
		words = append([]string{of}, words...)
	}
	if len(words) == 0 || len(words)+len(g.from) < 2 {
		return "", nil, nil, usage("run needs a profile's name and a statement, in quotes: gharbor run huts/local \"select 1\"")
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
	for _, word := range words[1:] {
		each := statementText{"", word}
		if word == "-" {
			if each.text, err = c.ReadAll(mostScript); err != nil {
				return "", nil, nil, wrong("standard input could not be read: %v", err)
			}
		}
		list = append(list, each)
	}
	for _, file := range g.from {
		each := statementText{file: file}
		if each.text, err = readWhole(ctx, c, file, mostScript); err != nil {
			return "", nil, nil, wrong("the statements of %s could not be read: %s", clip(file), systemWord(err))
		}
		list = append(list, each)
	}
	for _, each := range list {
		switch {
		case len(each.text) > mostScript:
			return "", nil, nil, wrong("the statements are larger than %s; put them into several files", engine.Size(mostScript))
		case strings.TrimSpace(each.text) == "":
			return "", nil, nil, usage("the statement is empty")
		}
	}
	return name, list, c.Unread(inputs...), nil
}

// readWhole reads a file, or standard input where it is "-", up to one byte more than limit.
func readWhole(ctx context.Context, c *call, file string, limit int64) (string, error) {
	if file == "-" {
		return c.ReadAll(limit)
	}
	data, err := files.ReadNamed(ctx, c.Path(file), limit+1)
	return string(data), err
}

// values gives the values for the statements.
func (g statementInput) values(ctx context.Context, c *call) (script.Values, error) {
	values := script.Values{Given: map[string]engine.Value{}, Used: map[string]bool{}, Near: profile.Nearest}
	add := func(v engine.Value, err error) error {
		if err != nil {
			return usage("%v, such as --let since:date=2026-02-14", err)
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
		whole, err := readWhole(ctx, c, file, mostValue)
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

// boundStep is a statement that is to run, and the file that it comes from.
type boundStep struct {
	script.Bound
	file string
	n    int // from 1
}

// statementPlace is where something is in what a person has given.
type statementPlace struct {
	File      string `json:"file,omitempty"`
	Statement int    `json:"statement"`
	Of        int    `json:"of"`
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

// steps takes texts apart and gives values their places. What is wrong with them is found here, before anything is connected to.
func steps(language engine.Language, texts []statementText, values script.Values) ([]boundStep, error) {
	var list []boundStep
	for _, each := range texts {
		for _, s := range script.Split(language.Lexical, each.text) {
			list = append(list, boundStep{Bound: script.Bound{Statement: s, To: s.Text}, file: each.file, n: len(list) + 1})
		}
	}
	if len(list) == 0 {
		return nil, usage("the statement is empty")
	}
	for i := range list {
		bound, err := script.Bind(language, list[i].Statement, values)
		var at *script.PlaceError
		if errors.As(err, &at) {
			return nil, misplaced(list[i], len(list), at)
		}
		if err != nil {
			return nil, err
		}
		list[i].Bound = bound
	}
	if unused := values.Unused(); len(unused) > 0 {
		return nil, usage("no statement has a place for the value %s: write {{%s}} where it goes, such as \"select {{%s}}\"", unused[0], unused[0], unused[0])
	}
	return list, nil
}

// misplaced says which value has no place where it is.
func misplaced(s boundStep, of int, at *script.PlaceError) error {
	p := statementPlace{s.file, s.n, of, at.Line, at.Column, at.Text, at.Mark}
	where := p.words()
	if of > 1 && s.file == "" {
		where = fmt.Sprintf("statement %d, %s", s.n, where)
	}
	if hiding().MatchString(s.Text) {
		return usage("%s: %s; the statement is not shown, since a password may be in it. To see where values can be: gharbor help run", where, at.Say)
	}
	line, mark := report.Marked(at.Text, at.Mark, 72)
	return world.Error{Code: exitUsage, Message: fmt.Sprintf("%s: %s\n    %s\n    %s", where, at.Say, line, mark)}
}

// hiding finds statements in which a password may be.
var hiding = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`(?i)password|identified|secret|encrypt`) })

// oneReader refuses statements that would read data from standard input when another one does, or when it is not free.
func oneReader(language engine.Language, list []boundStep, free bool) error {
	for _, s := range list {
		if !language.ReadsInput(s.To) {
			continue
		}
		if !free {
			return usage("the statement %d copies data from standard input, and only one thing can be read from it: put the statements into a file, such as gharbor run NAME --from FILE", s.n)
		}
		free = false
	}
	return nil
}

// undoable refuses statements that end a transaction, or cannot be in one.
func undoable(language engine.Language, list []boundStep) error {
	for _, s := range list {
		if word := language.Commits(s.To); word != "" {
			spot := s.Where(0)
			where := statementPlace{s.file, s.n, len(list), spot.Line, spot.Column, "", 0}.words()
			if s.file == "" {
				where = fmt.Sprintf("statement %d", s.n)
			}
			return usage("%s begins with %s, which ends a transaction or cannot be in one, so it cannot be undone: leave it out, or leave out --all-or-nothing, such as gharbor run NAME --from FILE", where, word)
		}
	}
	return nil
}
