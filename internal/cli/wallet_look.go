package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/secret/keep/wallet"
)

// walletRow is an entry as list reports it.
type walletRow struct {
	For      string    `json:"for"`
	User     string    `json:"user"`
	Database string    `json:"database,omitempty"`
	First    bool      `json:"first"`
	Password bool      `json:"password"` // false for an account that has none
	TLS      string    `json:"weakest_tls"`
	Changed  time.Time `json:"changed"`
	Profiles []string  `json:"profiles"`
}

// usedBy tells which profiles each entry serves.
func usedBy(contents *wallet.Contents, users []user, named string) map[string][]string {
	used := map[string][]string{}
	for _, u := range users {
		if u.ref.Kind != secret.Search && (u.ref.Kind != secret.Wallet || u.ref.Of != named) {
			continue
		}
		if u.way.User == "" {
			if u.way.User, _ = contents.User(u.way); u.way.User == "" {
				continue
			}
		}
		if e, err := contents.Match(u.way, "the wallet"); err == nil {
			used[e.Way.Key()] = append(used[e.Way.Key()], u.name)
		}
	}
	return used
}

func walletList(ctx context.Context, c *call, w wallet.Wallet) error {
	contents, err := c.opened(ctx, w)
	if err != nil {
		return err
	}
	used := usedBy(contents, c.users(), c.named)
	rows := []walletRow{}
	for _, e := range contents.Entries {
		profiles := used[e.Way.Key()]
		if profiles == nil {
			profiles = []string{}
		}
		rows = append(rows, walletRow{e.Way.Place(), e.Way.User, e.Way.Database, e.First, e.Secret.Given(), e.Way.TLS, e.Changed, profiles})
	}
	slices.SortStableFunc(rows, func(a, b walletRow) int {
		return strings.Compare(a.For+"\x00"+a.Database+"\x00"+a.User, b.For+"\x00"+b.Database+"\x00"+b.User)
	})
	if c.json {
		return writeJSON(c.Stdout, map[string]any{"wallet": w.Dir, "version": contents.Version, "unattended": w.HasUnattended(), "entries": rows})
	}
	if len(rows) == 0 {
		fmt.Fprintf(c.Stdout, "The wallet %s is empty; gharbor wallet put --profile NAME takes a password in.\n", w.Dir)
		return nil
	}
	var cells [][]string
	for _, r := range rows {
		place, who, by := r.For, r.User, strings.Join(r.Profiles, ", ")
		if r.Database != "" {
			place += "/" + r.Database
		}
		if r.First {
			who += " (first)"
		}
		if !r.Password {
			who += " (no password)"
		}
		if by == "" {
			by = "(none)"
		}
		cells = append(cells, []string{outside.Cell(place), outside.Cell(who), r.TLS, r.Changed.Local().Format("2006-01-02 15:04"), outside.Cell(by)})
	}
	rowsTable(c.Stdout, []string{"for", "user", "at least", "changed", "used by"}, cells, nil)
	jobs := "opens with its passphrase only"
	if w.HasUnattended() {
		jobs = "is open to jobs of this account (unattended)"
	}
	fmt.Fprintf(c.Stderr, "The wallet %s, version %d, %s.\n", w.Dir, contents.Version, jobs)
	return nil
}

func walletCheck(ctx context.Context, c *call, w wallet.Wallet) error {
	if !w.Exists() {
		_, err := w.OpenUnattended()
		return err
	}
	conditions := w.Check()
	var contents *wallet.Contents
	var problem *finding.Problem
	opened := "was not opened: its passphrase was not given, so signature and content were not checked"
	if w.HasUnattended() {
		var err error
		if contents, err = w.OpenUnattended(); !errors.As(err, &problem) && err != nil {
			return err
		}
	}
	if c.PassphraseFile != "" || c.Who.Here() && !w.HasUnattended() {
		passphrase, err := c.Passphrase(ctx, "Passphrase (Enter alone checks only what can be checked without it)")
		if err != nil {
			return err
		}
		if passphrase.Reveal() != "" {
			var at *finding.Problem
			err := c.working(ctx, "Opening the wallet", func() error { contents, err = w.Open(passphrase); return err })
			if errors.As(err, &at) {
				problem = at
			} else if err != nil {
				return err
			}
		}
	}
	if contents != nil {
		opened = fmt.Sprintf("opens: signed by its own key, version %d, %d entries", contents.Version, len(contents.Entries))
		if contents.Unattended {
			opened += " (with the key for jobs; the passphrase was not tried)"
		}
	}
	if problem != nil {
		opened = strings.TrimSuffix(problem.Facts["detail"], ".")
	}
	failed := problem != nil || slices.ContainsFunc(conditions, func(each wallet.Condition) bool { return each.Code != "" })
	if c.json {
		code := ""
		if problem != nil {
			code = problem.Code
		}
		if err := writeJSON(c.Stdout, map[string]any{"wallet": w.Dir, "ok": !failed, "files": conditions, "opened": opened, "code": code}); err != nil {
			return err
		}
	} else {
		for _, each := range conditions {
			mark := paint(c.Stdout, good, "ok    ")
			if each.Code != "" {
				mark = paint(c.Stdout, bad, "FAILED")
			}
			wrapped(c.Stdout, fmt.Sprintf("  %s  %-16s ", mark, each.File), strings.Repeat(" ", 27), outside.Cell(each.Saw))
		}
		if problem == nil {
			wrapped(c.Stdout, "\n  ", "  ", "It "+opened+".")
		} else {
			fmt.Fprintln(c.Stdout)
		}
	}
	if !failed {
		return nil
	}
	for _, each := range conditions {
		if problem == nil && each.Code != "" {
			problem = &finding.Problem{Code: each.Code, Facts: map[string]string{"detail": each.Saw + "."}}
		}
	}
	problem.Set("wallet", w.Dir)
	c.json = false
	return problem
}
