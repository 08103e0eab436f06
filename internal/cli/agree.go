package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"gentle-harbor/internal/agree"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/report"
)

var agreeCommand = command{
	name: "agree", synopsis: "NAME|GROUP/", about: "agree to what a project's profile does, so that it may be used",
	text: `A project's profiles come with its repository, and so from whoever can change that. Until you have agreed to one, it
is given no secret, runs no program and no statement, and nothing is connected to. What you agree to is shown in
full: the route, the references, the statements, and the content of each file and program that it names. When any of
it changes, you are asked again. Of a GROUP/ each profile is shown and asked about by itself; --yes agrees to all that are
shown.`,
	examples: []string{"gharbor agree huts/staging", "gharbor agree huts/staging --yes", "gharbor agree huts/",
		"gharbor agree --list", "gharbor agree huts/staging --withdraw"},
	json:    true,
	options: optionsOf[agreeOptions],
}

type agreeOptions struct{ yes, list, withdraw bool }

func (o *agreeOptions) flags(fs flagSet, _ *harbor.Run) {
	fs.onFlag("yes", &o.yes)
	fs.onFlag("list", &o.list)
	fs.onFlag("withdraw", &o.withdraw)
}

func (o *agreeOptions) run(ctx context.Context, c *call) error {
	agreements, err := c.Agreements()
	if err != nil {
		return err
	}
	if o.list {
		return c.listAgreements(agreements)
	}
	name, err := c.profile()
	if err != nil {
		return err
	}
	if !strings.HasSuffix(name, "/") {
		return o.agreedTo(ctx, c, agreements, name)
	}
	names, err := c.OfProject(name)
	if err != nil {
		return err
	}
	var refused error
	for i, each := range names { // each is shown, and asked about by itself
		if i > 0 {
			fmt.Fprintln(c.Stdout)
		}
		err := o.agreedTo(ctx, c, agreements, each)
		var said world.Error
		switch {
		case err == nil:
		case errors.As(err, &said) && said.Code == exitSettings:
			c.Note("%s", said.Message)
			refused = world.Error{Code: exitSettings, Message: "not each profile of " + name + " was agreed to"}
			if o.withdraw {
				refused = world.Error{Code: exitSettings, Message: "not each profile of " + name + " was agreed to before"}
			}
		default:
			return err
		}
	}
	return refused
}

// agreedTo shows what a profile does, and asks.
func (o *agreeOptions) agreedTo(ctx context.Context, c *call, agreements agree.Agreements, name string) error {
	stack, terms, err := c.TermsOf(name)
	if err != nil {
		return err
	}
	if o.withdraw {
		was, err := agreements.Withdraw(ctx, terms.Project, terms.Profile)
		if err == nil && !was {
			return wrong("%s was not agreed to", stack.Name)
		}
		if err == nil {
			fmt.Fprintf(c.Stdout, "Withdrawn: %s may not be used until you agree to it again.\n", stack.Name)
		}
		return err
	}
	showTerms(c.Stdout, stack, terms)
	agreed, err := c.Consent(ctx, o.yes, "Agree to this?", "nothing was agreed to")
	if err != nil {
		return err
	}
	if !agreed {
		return world.Error{Code: exitSettings, Message: stack.Name + " was not agreed to"}
	}
	if err := agreements.Agree(ctx, terms, time.Now()); err != nil {
		return wrong("the agreement could not be noted: %v", err)
	}
	fmt.Fprintf(c.Stdout, "Agreed: %s may be used as long as it stays as it is.\n", stack.Name)
	return nil
}

func showTerms(w io.Writer, stack profile.Stack, terms agree.Terms) {
	fmt.Fprintf(w, "%s  of the project %s\n\n", paint(w, strong, outside.Marked(stack.Name)),
		outside.Marked(terms.Project))
	for _, line := range terms.Lines() {
		report.Wrapped(w, "  ", "    ", outside.Marked(line))
	}
	fmt.Fprintln(w)
}

func (c *call) listAgreements(agreements agree.Agreements) error {
	list, err := agreements.List()
	if err != nil {
		return world.Doing("list what was agreed to", err)
	}
	if c.json {
		if list == nil {
			list = []agree.Agreement{}
		}
		return report.JSON(c.Stdout, map[string]any{"agreements": list})
	}
	if len(list) == 0 {
		fmt.Fprintln(c.Stdout, "Nothing was agreed to.")
		return nil
	}
	var rows [][]string
	for _, a := range list {
		rows = append(rows, []string{outside.Cell(a.Profile), outside.Cell(a.Project),
			a.When.Local().Format("2006-01-02 15:04")})
	}
	report.Table(c.Stdout, []string{"profile", "project", "agreed"}, rows, nil)
	return nil
}

// askAgreement shows the terms of a project's profile and asks whether the user agrees.
func (a *App) askAgreement(ctx context.Context, stack profile.Stack, terms agree.Terms,
	standing agree.Standing) (bool, error) {
	fmt.Fprintf(a.Stderr, "This profile comes from a project; %s It says:\n\n", standing.Why())
	showTerms(a.Stderr, stack, terms)
	if standing.Before != nil && standing.Before.Terms != nil {
		fmt.Fprintf(a.Stderr, "Since you agreed to it on %s:\n\n", standing.Before.When.Local().Format("2006-01-02"))
		for _, line := range terms.Changes(*standing.Before.Terms) {
			report.Wrapped(a.Stderr, "  ", "       ", outside.Marked(line))
		}
		fmt.Fprintln(a.Stderr)
	}
	return world.Yes(ctx, a.world.Who, "Agree to this?", false)
}
