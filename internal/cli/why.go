package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/shell"
)

// decidedJSON is what an administrator's session sees of a login that failed.
type decidedJSON struct {
	Findings []string         `json:"findings"`
	Profile  string           `json:"profile"`
	Failed   finding.Code     `json:"failed,omitempty"`
	When     string           `json:"when,omitempty"`
	Admin    string           `json:"administrator,omitempty"`
	Client   string           `json:"client,omitempty"`
	Rules    []ruleJSON       `json:"rules"`
	Says     []string         `json:"says"`
	Fixes    []string         `json:"fixes"`
	Try      []string         `json:"try"`
	Finding  *finding.Finding `json:"finding,omitempty"`
}

type ruleJSON struct {
	Where   string `json:"where"`
	Says    string `json:"says"`
	Fits    string `json:"fits"`
	Why     string `json:"why,omitempty"`
	Decides bool   `json:"decides"`
}

// whyThere has an administrator's profile say which rule or account decided about a login that
// failed.
func whyThere(ctx context.Context, c *call, name string, yes bool) error {
	of, err := c.LastRefused(ctx, name)
	if err != nil {
		return err
	}
	said := decidedJSON{Findings: []string{}, Profile: of.Profile, Rules: []ruleJSON{}, Says: []string{},
		Fixes: []string{}, Try: []string{}}
	if of.Past == nil {
		if c.json {
			return report.JSON(c.Stdout, said)
		}
		if of.Tested {
			c.Note("the last test of %s passed: gharbor history %s", of.Profile, shell.Word(of.Profile))
		} else {
			c.Note("no test of %s is remembered; to test it: gharbor test %s", of.Profile, shell.Word(of.Profile))
		}
		return nil
	}
	if code := of.Past.Code; !slices.Contains([]string{"greeting", "tls", "login", "database"}, code.Leg()) {
		if c.json {
			said.Failed = code
			return report.JSON(c.Stdout, said)
		}
		c.Note("the last test of %s failed with %s, before its server could decide about the login; what that "+
			"means: gharbor meaning %s",
			of.Profile, code, code)
		return nil
	}
	said.Failed, said.When = of.Past.Code, of.Past.When.Format("2006-01-02T15:04:05Z07:00")
	if of.Admin == "" {
		statement := c.Showing(of)
		message := "no profile of yours is known to administer that server: one is, when its last good test " +
			"showed that it is a superuser"
		if statement != "" {
			message += ". An administrator of the server sees which rule or account applies with: " + statement
		}
		return wrong("%s", message)
	}
	if said.Admin = of.Admin; !yes {
		if !c.Who.Here() {
			return usage("%s would be asked why its server refused %s. To go on, add the flag: --yes", of.Admin, of.Profile)
		}
		c.Who.Say(fmt.Sprintf("Your profile %s administers the server of %s.", outside.Cell(of.Admin),
			outside.Cell(of.Profile)))
		agreed, err := world.Yes(ctx, c.Who, "Ask it which rule or account applies?", false)
		if err != nil || !agreed {
			return err
		}
	}
	c.Connects = true
	end := func(f *harbor.Failed) (bool, error) {
		if said.Finding = &f.Finding; c.json {
			return false, report.JSON(c.Stdout, said)
		}
		return false, nil
	}
	return connected(ctx, c, of.Admin, harbor.Work{Needs: engine.Examines}, end,
		func(examiner engine.Examiner, explain func(error) error) error {
			found, err := examiner.Examine(ctx, of.Attempt)
			if err != nil {
				return explain(err)
			}
			said.takeOver(found, of)
			if c.json {
				return report.JSON(c.Stdout, said)
			}
			return said.printTo(c)
		})
}

// takeOver takes over what was found.
func (d *decidedJSON) takeOver(found engine.Examined, of harbor.Refused) {
	d.Client = found.Client
	decides := found.Decides()
	for i, r := range found.Rules {
		d.Rules = append(d.Rules, ruleJSON{r.Where, r.Says,
			map[engine.Fits]string{engine.FitsNot: "no", engine.FitsPerhaps: "perhaps",
				engine.FitsWell: "yes"}[r.Fits], r.Why, i == decides})
	}
	d.Says, d.Fixes = append(d.Says, found.Says...), append(d.Fixes, found.Fixes...)
	for _, flags := range found.Flags {
		d.Try = append(d.Try, "gharbor test "+shell.Word(of.Profile)+" "+flags[0]+" "+shell.Word(flags[1]))
	}
	for _, statement := range found.Fixes {
		if runnable(statement) {
			d.Try = append(d.Try, "gharbor run "+shell.Word(of.Admin)+" "+shell.Word(statement))
		}
	}
}

// runnable reports whether a statement can be run as it is.
func runnable(statement string) bool { return !strings.Contains(statement, "…") }

// printTo prints it for people.
func (d *decidedJSON) printTo(c *call) error {
	report.Wrapped(c.Stdout, "", "  ",
		fmt.Sprintf("%s failed with %s. What %s sees of it:", outside.Cell(d.Profile), d.Failed,
			outside.Cell(d.Admin)))
	fmt.Fprintln(c.Stdout)
	var rows [][]string
	before := true
	for _, r := range d.Rules {
		applies := map[string]string{"no": "no: " + r.Why, "perhaps": "perhaps: " + r.Why, "yes": "yes"}[r.Fits]
		switch {
		case r.Decides:
			applies, before = "it decides", false
		case r.Fits == "yes" && !before:
			applies = "yes, and one before it decides"
		}
		rows = append(rows, []string{outside.Cell(r.Where), outside.Cell(r.Says), outside.Cell(applies)})
	}
	if len(rows) > 0 {
		report.Table(c.Stdout, []string{"in this order", "it says", "applies"}, rows, nil)
		fmt.Fprintln(c.Stdout)
	}
	for _, line := range d.Says {
		report.Wrapped(c.Stdout, "  · ", "    ", outside.Cell(line))
	}
	if len(d.Fixes)+len(d.Try) == 0 {
		fmt.Fprintln(c.Stdout, "  · nothing else is seen there that keeps the login out: the password may be another one")
	}
	for i, line := range d.Try {
		if i == 0 {
			fmt.Fprintf(c.Stdout, "\n  %s\n", paint(c.Stdout, strong, "What to try"))
		}
		fmt.Fprintf(c.Stdout, "  %3d. %s\n", i+1, outside.Cell(line))
	}
	for _, statement := range d.Fixes {
		if !runnable(statement) {
			report.Wrapped(c.Stdout, "     ", "       ", "with a password of your choice: "+outside.Cell(statement))
		}
	}
	return nil
}
