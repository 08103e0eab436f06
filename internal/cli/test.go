package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/secret"
)

var testCommand = command{
	name: "test", synopsis: "NAME… | GROUP/ | CONNECTION-STRING | -",
	about: "walk the whole way to a database, leg by leg, and say how it went",
	text: `One real connection is made and watched. Each leg of the way (settings, secret, name, port, greeting, tls,
login, database, query) is shown with its time and what it saw. At the first leg that fails, the finding says why,
what was seen, and what to try.

A name that ends in / stands for all profiles of a group, --all for all of your own (with --project the project's
too), --label for those with a label. Several are tested side by side and shown in one table, failures together by
their cause. --repeat tests one profile again and again, and shows how the times of each leg spread.

A setting given as a flag holds for this run only.`,
	examples: []string{"gharbor test huts/local", "gharbor test huts/local --port 5433", "gharbor test huts/ archive/ --as junit --to report.xml", "gharbor test huts/local --repeat 20", "gharbor test - < connection-string.txt"},
	settings: true, connects: true, json: true,
	flags: func(fs *flag.FlagSet, c *call) {
		c.choosing(fs)
		fs.Func("as", "text, json, tap or junit", func(text string) error {
			if _, known := report.Forms[text]; !known && text != "text" {
				return errors.New(flagMark + "--as takes text, json, tap or junit")
			}
			c.as = text
			return nil
		})
		fs.StringVar(&c.to, "to", "", "a file to write the report to")
		c.declareKeep(fs)
		number(fs, "repeat", "test one profile this often", 2, 10_000, &c.repeat)
	},
	run: runTest,
}

// choosing declares the flags that choose profiles.
func (c *call) choosing(fs *flag.FlagSet) {
	fs.BoolVar(&c.all, "all", false, "all of your own profiles")
	fs.BoolVar(&c.project, "project", false, "with --all, the project's profiles too")
	fs.Func("label", "with values as set by --label of add: only profiles with the label NAME=VALUE, or NAME", func(text string) error {
		c.label = append(c.label, text)
		return nil
	})
	number(fs, "parallel", "how many at once (default 8)", 1, 256, &c.parallel)
}

func number(fs *flag.FlagSet, name, about string, least, most int, into *int) {
	fs.Func(name, about, func(text string) error {
		n, err := strconv.Atoi(text)
		if err != nil || n < least || n > most {
			return fmt.Errorf("%s--%s takes a number from %d to %d", flagMark, name, least, most)
		}
		*into = n
		return nil
	})
}

// chosen gives the words of what to test: names and strings as given, groups and choices unfolded.
func (c *call) chosen() ([]string, error) {
	if len(c.names) == 0 && !c.all && len(c.label) == 0 {
		return c.profiles()
	}
	library, err := c.library()
	if err != nil {
		return nil, err
	}
	var entries []profile.Entry
	list := func() error {
		if entries == nil {
			entries, err = library.List()
		}
		return err
	}
	var words []string
	for _, name := range c.names {
		group, ok := strings.CutSuffix(name, "/")
		if !ok || profile.IsConnectionString(name) {
			words = append(words, name)
			continue
		}
		if err := list(); err != nil {
			return nil, wrong("%v", err)
		}
		before := len(words)
		for _, entry := range entries {
			if _, bare := profile.SplitLayer(entry.Name); strings.HasPrefix(bare, group+"/") {
				words = append(words, entry.Name)
			}
		}
		if len(words) == before {
			return nil, wrong("there is no profile in the group %s", clip(group))
		}
	}
	if c.all || len(c.names) == 0 {
		if err := list(); err != nil {
			return nil, wrong("%v", err)
		}
		for _, entry := range entries {
			if !entry.Project || c.project || len(c.label) > 0 && !c.all {
				words = append(words, entry.Name)
			}
		}
	}
	if len(c.label) > 0 {
		remembering := library.Remembering()
		kept := []string{}
		for _, word := range words {
			if row := c.row(remembering, profile.Entry{Name: word}); row.Broken == "" && labelled(row.Labels, c.label) {
				kept = append(kept, word)
			}
		}
		words = kept
	}
	if len(words) == 0 {
		return nil, wrong("no profile is meant by that; gharbor list shows those there are")
	}
	return words, nil
}

// tried is a profile and how its test went; err is for one that could not be read.
type tried struct {
	word   string
	to     aim
	report *checkup.Report
	err    error
}

func runTest(ctx context.Context, c *call) error {
	if c.json {
		c.as = "json"
	}
	words, err := c.chosen()
	if err != nil {
		return err
	}
	if c.repeat > 0 {
		if len(words) != 1 {
			return usage("--repeat tests one profile")
		}
		if c.keep != "" {
			return usage("--keep goes with a single test; test once with it, then --repeat")
		}
		return c.repeated(ctx, words[0])
	}
	var all []*tried
	if len(words) == 1 {
		to, err := c.target(ctx, words[0], false)
		if err != nil {
			return err
		}
		one := &tried{word: words[0], to: to}
		if one.report, err = c.tested(ctx, to, nil); err != nil {
			return err
		}
		all = []*tried{one}
		if one.report.OK {
			if err := c.reported(all); err != nil {
				return err
			}
			return c.offerKeeping(ctx, to.Effective, secret.Secret{})
		}
	} else if all, err = c.many(ctx, words); err != nil {
		return err
	}
	return c.reported(all)
}

// tested tests one profile and remembers it in its history.
func (c *call) tested(ctx context.Context, to aim, silences *sync.Map) (*checkup.Report, error) {
	if !to.admitted.OK() {
		return checkup.NotAgreed(to.Effective, to.notAgreed), nil
	}
	checker := c.checker(to.known)
	checker.Silences = silences
	history, file, kept := c.historyOf(to)
	if kept {
		if list, err := history.Read(file); err == nil {
			if last, ok := checkup.LastGood(list); ok {
				checker.Last = &last
			}
		}
	}
	report, err := checker.Test(ctx, to.admitted)
	if err == nil && kept {
		if e := history.Append(ctx, file, checkup.Remember(to.Effective, report, time.Now())); e != nil {
			fmt.Fprintf(c.Stderr, "note: the test was not remembered: %v\n", e)
		}
	}
	return report, err
}

// admins finds, for each place, a profile of the user's own that led there as a superuser at its last good
// test. Only the profiles with a history are looked at, and once in a run.
func (c *call) admins() map[string][]string {
	found := map[string][]string{}
	state, err := c.state()
	if err != nil {
		return found
	}
	library, err := c.library()
	if err != nil {
		return found
	}
	history := historyIn(state)
	known := history.Known()
	names, _ := library.Mine.Names()
	for _, name := range names {
		file := library.Mine.Path(name)
		if !known(file) {
			continue
		}
		list, err := history.Read(file)
		if err != nil {
			continue
		}
		if last, ok := checkup.LastGood(list); !ok || !last.Super {
			continue
		}
		stack, err := library.Load(name)
		if err != nil {
			continue
		}
		if e := stack.Resolve(); len(e.Problems) == 0 {
			found[e.Place()] = append(found[e.Place()], name)
		}
	}
	return found
}

// adminOf gives the first administrator's profile of a place that is not the profile itself.
func (c *call) adminOf(place, except string) string {
	c.adminsOnce.Do(func() { c.adminsFound = c.admins() })
	for _, name := range c.adminsFound[place] {
		if name != except {
			return name
		}
	}
	return ""
}

// kin are the profiles of the user's own that lead to one place as one user.
type kin struct{ name, secret string }

// otherSecret finds a profile of the user's own that leads to a place as a user, with another reference for the
// secret. All of one's own profiles are read for it, once in a run and only after a failure.
func (c *call) otherSecret(place, user, except, secret string) (string, string) {
	c.kinOnce.Do(func() {
		c.kinFound = map[string][]kin{}
		library, err := c.library()
		if err != nil {
			return
		}
		library = library.Remembering()
		names, _ := library.Mine.Names()
		for _, name := range names {
			stack, err := library.Load("mine:" + name)
			if err != nil || stack.Stranger {
				continue
			}
			e := stack.Resolve()
			if reference := e.Secret.String(); reference != "" && reference != "none" {
				key := e.Place() + "\n" + e.User
				c.kinFound[key] = append(c.kinFound[key], kin{name, reference})
			}
		}
	})
	for _, each := range c.kinFound[place+"\n"+user] {
		if each.name != except && each.secret != secret {
			return each.name, each.secret
		}
	}
	return "", ""
}

// historyOf gives where the tests of a saved profile are remembered.
func (c *call) historyOf(to aim) (checkup.History, string, bool) {
	state, err := c.state()
	if err != nil || to.File == "" {
		return checkup.History{}, "", false
	}
	return historyIn(state), to.File, true
}

// many tests profiles side by side. Secrets that a person types are asked for one after the other.
func (c *call) many(ctx context.Context, words []string) ([]*tried, error) {
	all := make([]*tried, len(words))
	for i, word := range words {
		all[i] = &tried{word: word}
		to, err := c.target(ctx, word, true)
		var e exit
		switch {
		case errors.As(err, &e) && e.code == exitSettings:
			all[i].err = err
		case err != nil:
			return nil, err
		}
		all[i].to = to
	}
	board := c.newBoard(all)
	defer board.end()
	silences := &sync.Map{}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(max(1, orDefault(c.parallel, 8)))
	for i, one := range all {
		if one.err != nil {
			board.done(i)
			continue
		}
		group.Go(func() error {
			report, err := c.tested(ctx, one.to, silences)
			if err != nil {
				return err
			}
			board.mu.Lock()
			one.report = report
			board.mu.Unlock()
			board.done(i)
			return nil
		})
	}
	return all, group.Wait()
}

func orDefault(n, otherwise int) int {
	if n == 0 {
		return otherwise
	}
	return n
}

// reported writes the report in the form that was asked for, and gives the exit code as an error.
func (c *call) reported(all []*tried) error {
	out := c.Stdout
	var text strings.Builder
	if c.to != "" {
		out = &text
	}
	var err error
	if form, ok := report.Forms[c.as]; ok {
		err = form(out, tests(all))
	} else {
		report.Tests(out, tests(all))
	}
	if err != nil {
		return err
	}
	if c.to != "" {
		if err := c.replaceFile(c.to, text.String()); err != nil {
			return err
		}
		fmt.Fprintf(c.Stderr, "The report is in %s\n", c.to)
	}
	code := 0
	for _, one := range all {
		exit := exitSettings
		if one.err == nil {
			exit = one.report.Exit
		}
		switch {
		case exit == 0 || exit == code:
		case code == 0:
			code = exit
		default:
			code = 1
		}
	}
	if code != 0 {
		return exit{code: code}
	}
	return nil
}

// tests gives what was tested, for printing.
func tests(all []*tried) []*report.Tested {
	list := make([]*report.Tested, len(all))
	for i, one := range all {
		list[i] = one.tested()
	}
	return list
}

func (one *tried) tested() *report.Tested {
	return &report.Tested{Word: one.word, Profile: one.to.Effective, Report: one.report, Err: one.err}
}
