package cli

import (
	"context"
	"fmt"
	"io"
	"strings"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/secret"
)

var testCommand = command{
	name: "test", synopsis: "NAME… | GROUP/ | CONNECTION-STRING | -",
	about: "test the whole connection to a database, leg by leg, and say how it went",
	text: `One real connection is made and watched. Each leg of the route that the profile has is shown with its time and what it saw:
` + strings.Join(checkup.LegNames, ", ") + `.
At the first leg that fails, the finding says why, what was seen, and what to try.

A name that ends in / stands for all profiles of a group, --all for all of your own (with --project the project's
too), --labelled for those with a label. Several are tested side by side and shown in one table, failures together by
their cause. --repeat tests one profile again and again, and shows how the times of each leg spread.

With --until LEG the test goes as far as that leg. Up to tls nobody logs in, so that no password is needed.

A setting given as a flag is for this run only.`,
	examples: []string{"gharbor test huts/local", "gharbor test huts/live --until greeting",
		"gharbor test huts/local --port 5433", "gharbor test huts/ archive/ --as junit --to report.xml",
		"gharbor test --all --as html --to report.html", "gharbor test huts/local --repeat 20",
		"gharbor test - < connection-string.txt"},
	settings: true, connects: true, json: true,
	options: optionsOf[testOptions],
}

type testOptions struct {
	choice
	reported
	repeat int
}

func (o *testOptions) flags(fs flagSet, run *harbor.Run) {
	o.choice.flags(fs, run)
	fs.wordFlag("as", []string{"text", "json", "tap", "junit", "html"}, "text", &o.as)
	fs.textFlag("to", &o.to)
	storeFlag(fs, run)
	fs.wordFlag("until", checkup.LegNames, "", &run.Until)
	fs.numberFlag("repeat", 2, 10_000, 0, &o.repeat)
}

func (o *testOptions) run(ctx context.Context, c *call) error {
	words, err := c.chosen(o.choice)
	if err == nil {
		err = o.fits(c)
	}
	if err != nil {
		return err
	}
	if o.repeat > 0 {
		if o.as != "" && o.as != "text" && o.as != "json" {
			return usage("--repeat reports as text or json, such as --as json")
		}
		if o.to != "" {
			return usage("--repeat prints its report, and takes no --to: gharbor test huts/local --repeat 20")
		}
		if len(words) != 1 {
			return usage("--repeat tests one profile: gharbor test huts/local --repeat 20")
		}
		if c.Until != "" {
			return usage("--repeat tests the whole route, and takes no --until: gharbor test huts/local --repeat 20")
		}
		if c.Keep != "" {
			return usage("--store is for a single test; test once with it, then with --repeat")
		}
		return testRepeatedly(ctx, c, words[0], o.as, o.repeat)
	}
	if len(words) > 1 {
		all, err := o.sideBySide(ctx, c, words)
		if err != nil {
			return err
		}
		return o.print(c, all)
	}
	to, err := c.Aim(ctx, words[0], false)
	if err != nil {
		return err
	}
	one := &harbor.One{Word: words[0], To: to}
	if one.Report, err = c.Test(ctx, to, nil); err != nil {
		return err
	}
	if err := o.print(c, []*harbor.One{one}); err != nil || !one.Report.OK || c.Until != "" {
		return err
	}
	return c.failed(c.OfferKeeping(ctx, to.Effective, secret.Secret{}))
}

// sideBySide tests several profiles, with a live board at a terminal.
func (o *testOptions) sideBySide(ctx context.Context, c *call, words []string) ([]*harbor.One, error) {
	all, err := c.Aims(ctx, words)
	if err != nil {
		return nil, err
	}
	b := newBoard(c.Stderr, all, o.as == "")
	defer b.end()
	c.onScreen = b
	return all, c.TestAll(ctx, all, o.parallel, func(i int) {
		o.letGo(all[i])
		b.done(i)
	})
}

// letGo keeps of one of many tests what its form needs.
func (o *reported) letGo(one *harbor.One) {
	switch {
	case one.Err != nil:
	case o.as == "":
		one.LetGo(nil)
	case o.as == "json":
		one.LetGo(report.CompactJSON(one.Report))
	}
}

// reported is how tests are reported: in which form, and to which file.
type reported struct{ as, to string }

// form gives where the form is.
func (o *reported) form() *string { return &o.as }

// fits reports whether the form can go where it is to go: a page is nothing for a terminal.
func (o *reported) fits(c *call) error {
	if _, atTerminal := terminal(c.Stdout); o.as == "html" && o.to == "" && atTerminal {
		return usage("a page cannot be read at a terminal; write it to a file, such as --to report.html")
	}
	return nil
}

// printed has the report written to where it is to go.
func (o *reported) printed(c *call, write func(io.Writer) error) error {
	if o.to == "" {
		return write(c.Stdout)
	}
	var text strings.Builder
	if err := write(&text); err != nil {
		return err
	}
	if err := c.ReplaceFile(o.to, text.String()); err != nil {
		return err
	}
	fmt.Fprintf(c.Stderr, "The report is in %s\n", o.to)
	return nil
}

// print writes the report in the form that was asked for, and gives the exit code as an error.
func (o *reported) print(c *call, all []*harbor.One) error {
	tests := make([]*report.Tested, len(all))
	for i, one := range all {
		tests[i] = tested(one)
	}
	err := o.printed(c, func(out io.Writer) error {
		if o.as == "html" {
			return report.HTML(out, c.Now(), tests)
		}
		if form, ok := report.Forms[o.as]; ok {
			return form(out, tests)
		}
		report.Tests(out, tests)
		return nil
	})
	if err != nil {
		return err
	}
	if code := harbor.ExitOf(all); code != 0 {
		return world.Error{Code: code}
	}
	return nil
}
