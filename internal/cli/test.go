package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"strconv"
	"strings"

	"gentle-harbor/internal/harbor"
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
				return errors.New(harbor.FlagMark + "--as takes text, json, tap or junit")
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
			return fmt.Errorf("%s--%s takes a number from %d to %d", harbor.FlagMark, name, least, most)
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
	library, err := c.Library()
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
		if c.Keep != "" {
			return usage("--keep goes with a single test; test once with it, then --repeat")
		}
		return c.repeated(ctx, words[0])
	}
	var all []*harbor.One
	if len(words) == 1 {
		to, err := c.Aim(ctx, words[0], false)
		if err != nil {
			return err
		}
		one := &harbor.One{Word: words[0], To: to}
		if one.Report, err = c.Test(ctx, to, nil); err != nil {
			return err
		}
		all = []*harbor.One{one}
		if one.Report.OK {
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

// many tests profiles side by side, with a live board at a terminal.
func (c *call) many(ctx context.Context, words []string) ([]*harbor.One, error) {
	all, err := c.Aims(ctx, words)
	if err != nil {
		return nil, err
	}
	board := c.newBoard(all)
	defer board.end()
	return all, c.TestAll(ctx, all, c.parallel, board.done)
}

// reported writes the report in the form that was asked for, and gives the exit code as an error.
func (c *call) reported(all []*harbor.One) error {
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
		if one.Err == nil {
			exit = one.Report.Exit
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
		return exit{Code: code}
	}
	return nil
}

// tests gives what was tested, for printing.
func tests(all []*harbor.One) []*report.Tested {
	list := make([]*report.Tested, len(all))
	for i, one := range all {
		list[i] = tested(one)
	}
	return list
}

func tested(one *harbor.One) *report.Tested {
	return &report.Tested{Word: one.Word, Profile: one.To.Effective, Report: one.Report, Err: one.Err}
}
