package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/report"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/secret/keep/wallet"
	"gentle-harbor/internal/target"
)

// walletRow is an entry as list reports it.
type walletRow struct {
	For      string    `json:"server"`
	User     string    `json:"user"`
	Database string    `json:"database,omitempty"`
	First    bool      `json:"default_user"`
	Password bool      `json:"password"` // false for an account that has none
	TLS      string    `json:"at_least"`
	Changed  time.Time `json:"changed"`
	Profiles []string  `json:"profiles"`
}

type walletList struct {
	noFlags
	inJSON
}

func (walletList) work(ctx context.Context, c *call, w namedWallet) error {
	contents, err := c.Keeper(w.Dir).Open(ctx, secret.Named)
	if err != nil {
		return err
	}
	used := c.UsedBy(contents, w.name)
	rows := []walletRow{}
	for _, e := range contents.Entries {
		profiles := used[e.Target.Key()]
		if profiles == nil {
			profiles = []string{}
		}
		rows = append(rows, walletRow{placeOf(e.Target), e.Target.User, e.Target.Database, e.First,
			e.Secret.Given(), e.Target.TLS, e.Changed, profiles})
	}
	slices.SortStableFunc(rows, func(a, b walletRow) int {
		return strings.Compare(a.For+"\x00"+a.Database+"\x00"+a.User, b.For+"\x00"+b.Database+"\x00"+b.User)
	})
	if c.json {
		return report.JSON(c.Stdout, map[string]any{"wallet": w.Dir, "version": contents.Version,
			"unattended": w.HasUnattended(), "entries": rows})
	}
	if len(rows) == 0 {
		fmt.Fprintf(c.Stdout, "The wallet %s is empty; gharbor wallet add NAME adds a password.\n", w.Dir)
		return nil
	}
	var cells [][]string
	for _, r := range rows {
		cells = append(cells, r.cells())
	}
	report.Table(c.Stdout, []string{"server", "user", "at least", "changed", "used by"}, cells, nil)
	jobs := "opens with its passphrase only"
	if w.HasUnattended() {
		jobs = "is open to jobs of this account (unattended)"
	}
	fmt.Fprintf(c.Stderr, "The wallet %s, version %d, %s.\n", w.Dir, contents.Version, jobs)
	return nil
}

// placeOf says what a kept secret is for: a place, after the service where that is none of a
// database, with the hops before it.
func placeOf(to target.Target) string {
	place := to.Place()
	if to.Service != "" {
		place = to.Service + " " + place
	}
	if len(to.Hops) > 0 {
		place += " via " + strings.Join(to.Hops, ", ")
	}
	return place
}

func (r walletRow) cells() []string {
	address, who, by := r.For, r.User, strings.Join(r.Profiles, ", ")
	if r.Database != "" {
		address += "/" + r.Database
	}
	if r.First {
		who += " (default)"
	}
	if !r.Password {
		who += " (no password)"
	}
	if by == "" {
		by = "(none)"
	}
	return []string{outside.Cell(address), outside.Cell(who), r.TLS, r.Changed.Local().Format(time.DateOnly),
		outside.Cell(by)}
}

type walletCheck struct {
	noFlags
	inJSON
}

func (walletCheck) work(ctx context.Context, c *call, w namedWallet) error {
	if !w.Exists() {
		_, err := w.OpenUnattended()
		return err
	}
	checked, err := c.CheckWallet(ctx, w.Wallet)
	if err != nil {
		return err
	}
	opened, problem := "was not opened: its passphrase was not given, so signature and content were not checked", checked.Problem
	if contents := checked.Contents; contents != nil {
		opened = fmt.Sprintf("opens: signed by its own key, version %d, %d entries", contents.Version, len(contents.Entries))
		if contents.Unattended {
			opened += " (with the key for jobs; the passphrase was not tried)"
		}
	}
	code := ""
	if problem != nil {
		opened, code = strings.TrimSuffix(problem.Facts[finding.FactDetail], "."), string(problem.Code)
	}
	failed := problem != nil || slices.ContainsFunc(checked.Files, func(each wallet.Condition) bool {
		return each.Code != ""
	})
	if c.json {
		if err := report.JSON(c.Stdout,
			map[string]any{"wallet": w.Dir, "ok": !failed, "files": checked.Files, "opened": opened,
				"code": code}); err != nil {
			return err
		}
	} else {
		for _, each := range checked.Files {
			mark := paint(c.Stdout, good, "ok    ")
			if each.Code != "" {
				mark = paint(c.Stdout, bad, "FAILED")
			}
			report.Wrapped(c.Stdout, fmt.Sprintf("  %s  %-16s ", mark, each.File), strings.Repeat(" ", 27),
				outside.Cell(each.Saw))
		}
		fmt.Fprintln(c.Stdout)
		if problem == nil {
			report.Wrapped(c.Stdout, "  ", "  ", "It "+opened+".")
		}
	}
	if !failed {
		return nil
	}
	for _, each := range checked.Files {
		if problem == nil && each.Code != "" {
			problem = &finding.Problem{Code: each.Code, Facts: finding.Facts{finding.FactDetail: each.Saw + "."}}
		}
	}
	problem.Set(finding.FactWallet, w.Dir)
	c.json = false
	return problem
}
