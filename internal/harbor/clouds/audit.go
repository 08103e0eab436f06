package clouds

import (
	"context"
	"strings"
	"time"

	"gentle-harbor/internal/audit"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
)

// auditTime is how long an audit may take to ask the clouds.
const auditTime = 10 * time.Second

// Audit gives the admissions that are worth a look, of all accounts that are signed in, and how
// many accounts were looked at.
func (r Clouds) Audit(ctx context.Context) (list []audit.Finding, looked int, err error) {
	if !r.HasClouds() {
		return nil, 0, nil
	}
	limited, cancel := context.WithTimeoutCause(ctx, auditTime, ErrNoPatience)
	defer cancel()
	for _, name := range r.CloudNames() {
		c, err := r.CloudClient(name)
		if err != nil {
			list = append(list, audit.Finding{Severity: audit.Warning, About: "admission", Place: name,
				What: outside.Text(err.Error()), Fix: "Correct the account's file"})
			continue
		}
		looked++
		if _, in, err := c.Session.Who(); err != nil || !in {
			continue
		}
		left, _, err := r.leftOver(limited, c)
		if ctx.Err() != nil {
			return nil, 0, ctx.Err()
		}
		if err != nil {
			cause := err.Error()
			if p, _ := finding.AsProblem(err); p != nil {
				cause = finding.Make(p.Code, finding.About{Facts: p.Facts}).Cause
			}
			list = append(list, audit.Finding{Severity: audit.Advice, About: "admission", Place: name,
				What: "what this account has had let in could not be looked at: " + cause,
				Fix:  "See gharbor cloud status"})
			continue
		}
		for _, each := range left {
			severity := audit.Advice
			if each.Until == nil || each.Wider() {
				severity = audit.Warning
			}
			list = append(list, audit.Finding{Severity: severity, About: "admission",
				Place: name + "/" + outside.Cell(each.Of()),
				What:  each.Range.String() + " is let in: " + strings.Join(each.Why, ", and "),
				Fix:   "gharbor cloud withdraw " + each.ID})
		}
	}
	return list, looked, nil
}
