package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"strings"
	"time"

	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
)

var agreeCommand = command{
	name: "agree", synopsis: "NAME", about: "agree to what a project's profile does, so that it may be used",
	text: `A project's profiles come with its repository, and so from whoever can change that. Until you have agreed to one, it
is given no secret, runs no program and no statement, and nothing is connected to. What you agree to is shown in
full: the way, the references, the statements, and the content of each file and program that it names. When any of
it changes, you are asked again.`,
	examples: []string{"gharbor agree huts/staging", "gharbor agree huts/staging --yes", "gharbor agree --list", "gharbor agree huts/staging --withdraw"},
	json:     true,
	flags: func(fs *flag.FlagSet, c *call) {
		fs.BoolVar(&c.yes, "yes", false, "agree without being asked")
		fs.BoolVar(&c.list, "list", false, "list what was agreed to")
		fs.BoolVar(&c.undo, "withdraw", false, "take an agreement back")
	},
	run: runAgree,
}

func runAgree(ctx context.Context, c *call) error {
	agreements, err := c.agreements()
	if err != nil {
		return err
	}
	if c.list {
		return c.listAgreements(agreements)
	}
	names, err := c.profiles()
	if err != nil {
		return err
	}
	if len(names) != 1 {
		return usage("agree takes one name")
	}
	library, err := c.library()
	if err != nil {
		return err
	}
	stack, err := library.Load(names[0])
	if err != nil {
		return c.loadError(library, names[0], err)
	}
	if !stack.Stranger {
		return wrong("%s is all your own, and needs no agreement", stack.Name)
	}
	terms, err := library.TermsOf(stack)
	if err != nil {
		return wrong("%v", err)
	}
	if c.undo {
		was, err := agreements.Withdraw(ctx, terms.Project, terms.Profile)
		if err == nil && !was {
			return wrong("%s was not agreed to", stack.Name)
		}
		if err == nil {
			fmt.Fprintf(c.Stdout, "Withdrawn: %s may not be used until you agree to it again.\n", stack.Name)
		}
		return err
	}
	c.showTerms(c.Stdout, stack, terms)
	if !c.yes {
		if !c.interactive() {
			return usage("agree wants to be sure; say --yes when you trust what is shown")
		}
		answer, err := c.ask(ctx, "Agree to this? (yes, no) [no] ")
		if err != nil {
			return err
		}
		if answer != "yes" && answer != "y" {
			return exit{exitSettings, stack.Name + " was not agreed to"}
		}
	}
	if err := agreements.Agree(ctx, terms, time.Now()); err != nil {
		return wrong("the agreement could not be noted: %v", err)
	}
	fmt.Fprintf(c.Stdout, "Agreed: %s may be used as long as it stays as it is.\n", stack.Name)
	return nil
}

func (c *call) showTerms(w io.Writer, stack profile.Stack, terms profile.Terms) {
	fmt.Fprintf(w, "%s  of the project %s\n\n", c.paint(w, strong, outside.Cell(stack.Name)), outside.Cell(terms.Project))
	for _, line := range terms.Lines {
		wrapped(w, "  ", "    ", outside.Cell(line))
	}
	fmt.Fprintln(w)
}

func (c *call) listAgreements(agreements profile.Agreements) error {
	list, err := agreements.List()
	if err != nil {
		return wrong("%v", err)
	}
	if c.json {
		if list == nil {
			list = []profile.Agreement{}
		}
		return writeJSON(c.Stdout, map[string]any{"agreements": list})
	}
	if len(list) == 0 {
		fmt.Fprintln(c.Stdout, "Nothing was agreed to.")
		return nil
	}
	var rows [][]string
	for _, a := range list {
		rows = append(rows, []string{outside.Cell(a.Profile), outside.Cell(a.Project), a.When.Local().Format("2006-01-02 15:04")})
	}
	rowsTable(c.Stdout, []string{"profile", "project", "agreed"}, rows, nil)
	return nil
}

// askAgreement tells why a profile in which a project has a part may not be used, "" when it may. At a
// terminal it asks.
func (c *call) askAgreement(ctx context.Context, library profile.Library, stack profile.Stack) (string, error) {
	agreements, err := c.agreements()
	if err != nil {
		return "", err
	}
	terms, err := library.TermsOf(stack)
	if err != nil {
		return err.Error() + ".", nil
	}
	agreed, before, err := agreements.Covers(terms)
	if err != nil {
		return "", wrong("%v", err)
	}
	if agreed {
		return "", nil
	}
	why := "nobody here has said yet that it is trusted."
	if before {
		why = "it has changed since you agreed to it."
	}
	if !c.interactive() {
		return why, nil
	}
	fmt.Fprintf(c.Stderr, "This profile comes from a project; %s It says:\n\n", why)
	c.showTerms(c.Stderr, stack, terms)
	answer, err := c.ask(ctx, "Agree to this? (yes, no) [no] ")
	if err != nil {
		return "", err
	}
	if answer != "yes" && answer != "y" {
		return why, nil
	}
	if err := agreements.Agree(ctx, terms, time.Now()); err != nil {
		return "", wrong("the agreement could not be noted: %v", err)
	}
	return "", nil
}

// mayUse is the error for a profile that was not agreed to, for commands that report no legs.
func (c *call) mayUse(ctx context.Context, library profile.Library, stack profile.Stack) error {
	if !stack.Stranger {
		return nil
	}
	why, err := c.askAgreement(ctx, library, stack)
	if err == nil && why != "" {
		err = errors.New(why)
		return wrong("%s comes from a project, and %s See it with gharbor agree %s", stack.Name, strings.TrimSuffix(err.Error(), ".")+".", stack.Name)
	}
	return err
}
