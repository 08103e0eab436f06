package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"gentle-harbor/internal/discover"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/report"
)

var findCommand = command{
	name: "find", synopsis: "[CANDIDATE ...]",
	about: "find database servers on this machine: ports, containers, Compose files, variables",
	text: `It looks at what listens on this machine and greets as a database, at running and stopped containers, at the Compose files at or
above this folder, and at connection strings in variables and in a .env file. A server that is found in several ways is shown once, with the
profile that it would become. Nothing is sent but an engine's own opening bytes, and only to this machine, where the port, its program or a
container suggests that engine; --every-port widens that.

--add makes profiles: of the candidates that are named, of all with --all, and at a terminal it asks which. Each is tested. A password that is
found is never shown: a container's stays in the container (secret: container), and --store wallet puts it into the wallet.`,
	examples: []string{"gharbor find", "gharbor find --add huts/db", "gharbor find --only containers --json",
		"gharbor find --add --all --store wallet"},
	json:    true,
	options: optionsOf[findOptions],
}

type findOptions struct {
	harbor.Looking
	add, all, project bool
}

func (o *findOptions) flags(fs flagSet, run *harbor.Run) {
	fs.onFlag("add", &o.add)
	fs.onFlag("all", &o.all)
	fs.onFlag("project", &o.project)
	fs.onFlag("every-port", &o.EveryPort)
	fs.onFlag("outside", &o.Outside)
	fs.eachFlag("only", func(text string) error {
		for word := range strings.SplitSeq(text, ",") {
			if !slices.Contains(harbor.Ways, word) {
				return errors.New("the sources are " + profile.Or(harbor.Ways) + ", such as --only " + harbor.Ways[0])
			}
			o.Only = append(o.Only, word)
		}
		return nil
	})
	fs.wordFlag("store", []string{"wallet", "no"}, "", &run.Keep)
	walletFlags(fs, run)
}

func (o *findOptions) run(ctx context.Context, c *call) error {
	if (o.all || o.project || len(c.names) > 0 || c.Keep != "") && !o.add {
		return usage("a name, --all, --project and --store need --add: gharbor find --add huts/db")
	}
	if o.all && len(c.names) > 0 {
		return usage("--all needs no name: gharbor find --add --all")
	}
	if o.add && !o.all && len(c.names) == 0 && !c.Who.Here() {
		return usage("find --add needs a name, or --all: gharbor find --add --all")
	}
	done := c.Busy("looking around")
	o.Run = c.Run
	seen, err := o.Find(ctx)
	done()
	if err != nil {
		return c.failed(err)
	}
	if seen.Failed != nil && slices.Equal(o.Only, []string{"containers"}) {
		f := finding.Make(seen.Failed.Code, finding.About{Facts: seen.Failed.Facts})
		return world.Error{Code: finding.Exit(f.Leg), Message: f.Cause}
	}
	if !o.add {
		if c.json {
			return report.JSON(c.Stdout, seen)
		}
		report.Sighted(c.Stdout, seen.Candidates, seen.Ports, looked(o.Only))
		for _, note := range seen.Notes {
			c.Note("%s", note)
		}
		return nil
	}
	chosen, err := o.choose(ctx, c, seen)
	if err != nil {
		return err
	}
	return o.make(ctx, c, chosen)
}

func looked(only []string) []string {
	if len(only) == 0 {
		return harbor.Ways
	}
	return only
}

// choose gives the candidates of which profiles are to be made.
func (o *findOptions) choose(ctx context.Context, c *call, seen harbor.Sighted) ([]discover.Candidate, error) {
	var usable []discover.Candidate
	for _, each := range seen.Candidates {
		if each.Left == "" && each.Taken == "" {
			usable = append(usable, each)
		}
	}
	if o.all {
		named := slices.DeleteFunc(slices.Clone(usable), nobody)
		for _, each := range usable {
			if nobody(each) {
				c.Note("nothing says the user of %s, so that no profile is made of it: gharbor find --add %s "+
					"asks for it at a terminal",
					each.Name, each.Name)
			}
		}
		return named, nil
	}
	var chosen []discover.Candidate
	for _, name := range c.names {
		i := slices.IndexFunc(seen.Candidates, func(each discover.Candidate) bool { return each.Name == name })
		switch {
		case i < 0:
			return nil, world.Wrong("nothing that was found is named %s; gharbor find shows what there is", world.Clip(name))
		case seen.Candidates[i].Left != "":
			return nil, world.Wrong("no profile can be made of %s: %s", world.Clip(name), seen.Candidates[i].Left)
		case seen.Candidates[i].Taken != "":
			return nil, world.Wrong("the profile %s leads there already; gharbor show %s shows it",
				seen.Candidates[i].Taken, seen.Candidates[i].Taken)
		}
		chosen = append(chosen, seen.Candidates[i])
	}
	if len(c.names) > 0 {
		return chosen, nil
	}
	report.Sighted(c.Stderr, seen.Candidates, seen.Ports, looked(o.Only))
	if len(usable) == 0 {
		return nil, nil
	}
	for i, each := range usable {
		c.Who.Say(fmt.Sprintf("  %d  %s", i+1, outside.Cell(each.Name)))
	}
	for {
		answer, err := c.Who.Ask(ctx, "Make profiles of which? (numbers, all, or none) [none] ")
		if err != nil || answer == "" || answer == "none" {
			return nil, err
		}
		if answer == "all" {
			return usable, nil
		}
		var wrong string
		chosen = nil
		for word := range strings.FieldsFuncSeq(answer, func(r rune) bool { return r == ' ' || r == ',' }) {
			n, err := strconv.Atoi(word)
			if err != nil || n < 1 || n > len(usable) {
				wrong = word
				break
			}
			chosen = append(chosen, usable[n-1])
		}
		if wrong == "" {
			return chosen, nil
		}
		c.Who.Say(fmt.Sprintf("%q is not one of the numbers from 1 to %d.", outside.Cell(wrong), len(usable)))
	}
}

// nobody reports whether nothing says as which user to log in.
func nobody(each discover.Candidate) bool { return each.Layer["user"].Text == "" }

// user gives a candidate the user to log in as, where nothing that was found says one.
func (c *call) user(ctx context.Context, each discover.Candidate) error {
	if !nobody(each) {
		return nil
	}
	if !c.Who.Here() {
		words := []string{"gharbor", "add", each.Name}
		for _, flag := range harbor.AsFlags(each.Layer) {
			words = append(words, flag...)
		}
		return usage("nothing says the user of %s. To name it: %s --user NAME", each.Name, strings.Join(words, " "))
	}
	setting, _ := profile.Find("user")
	for {
		answer, err := c.Who.Ask(ctx, "User at "+outside.Cell(each.Name)+": ")
		if err != nil {
			return err
		}
		if answer != "" && setting.Check(answer) == nil {
			each.Layer["user"] = profile.Value{Text: answer}
			return nil
		}
		c.Who.Say("Type the user to log in as; there is no default.")
	}
}

// make makes profiles, and prints each with its test.
func (o *findOptions) make(ctx context.Context, c *call, chosen []discover.Candidate) error {
	list := []harbor.Added{}
	codes := map[int]bool{}
	for _, each := range chosen {
		if err := c.user(ctx, each); err != nil {
			return err
		}
		added, err := c.AddFound(ctx, each, o.project)
		if err != nil {
			return c.failed(err)
		}
		list = append(list, added)
		code := 0
		if added.Report != nil && !added.Report.OK {
			code = added.Report.Exit
		}
		codes[code] = true
		if !c.json {
			report.Added(c.Stdout, added.Name, added.File, added.Report)
		}
	}
	if c.json {
		if err := report.JSON(c.Stdout, map[string]any{"added": list}); err != nil {
			return err
		}
	} else if len(list) == 0 {
		fmt.Fprintln(c.Stdout, "No profile was made.")
	}
	delete(codes, 0)
	if len(codes) == 0 {
		return nil
	}
	for code := range codes {
		if len(codes) == 1 {
			return world.Error{Code: code}
		}
	}
	return world.Error{Code: finding.ExitMixed}
}
