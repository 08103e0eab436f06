package harbor

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"gentle-harbor/internal/agree"
	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor/clouds"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/target"
)

// Admitting has a cloud's server let a range of addresses in.
type Admitting struct {
	Run Run
	// For is how long it is valid, 0 for no end. Range is what is let in; its zero value is the
	// address that the cloud sees.
	For   time.Duration
	Range netip.Prefix
	Note  string
	// Meant shows what will be let in, and asks for consent.
	Meant func(ctx context.Context, p Planned) (bool, error)
	// Told is called with the progress of the cloud's work, from 0 to 100, and once more for each
	// question whether the server greets.
	Told func(what string, progress int)
	// Patience is how long the cloud and the server may take together; ten minutes for 0.
	Patience time.Duration
}

// Planned is an admission before it is made.
type Planned struct {
	Profile string       `json:"profile,omitempty"`
	Server  string       `json:"server"` // ACCOUNT/SERVER
	Range   netip.Prefix `json:"range"`
	Caller  netip.Addr   `json:"caller"` // as the cloud sees this machine
	Until   *time.Time   `json:"until"`
	// Already says that the range is let in until then at least, and nothing is to be done.
	Already bool `json:"already"`
}

// LetIn has a cloud's server let a range of addresses in, and waits until the server greets. Word
// is a profile, or ACCOUNT/SERVER. It gives what was let in, false where the person did not mean
// it.
func (a Admitting) LetIn(ctx context.Context, word string) (Planned, bool, error) {
	r := a.Run
	r.Connects = true
	to, err := r.cloudAim(ctx, word)
	if err != nil {
		return Planned{}, false, err
	}
	found, err := r.clouds().Locator(to.Effective).Find(ctx)
	if err != nil {
		return Planned{}, false, clouds.Word(err)
	}
	plan := Planned{Profile: to.Name, Server: to.Clouded.String(), Range: a.Range}
	standing, family, err := r.clouds().Standing(ctx, found)
	if err != nil {
		return plan, false, clouds.Word(err)
	}
	plan.Caller = standing.Caller
	if !plan.Range.IsValid() {
		plan.Range = netip.PrefixFrom(standing.Caller, standing.Caller.BitLen())
	}
	if a.For > 0 {
		until := r.Now().Add(a.For).Round(time.Second)
		plan.Until = &until
	}
	for _, each := range standing.List {
		if clouds.Covers(each.Range, plan.Range) &&
			(each.Until == nil || plan.Until != nil && !each.Until.Before(*plan.Until)) {
			plan.Already = true
		}
	}
	if !plan.Already {
		meant, err := a.Meant(ctx, plan)
		if err != nil || !meant {
			return plan, false, err
		}
	}
	patience := a.Patience
	if patience == 0 {
		patience = 10 * time.Minute
	}
	limited, cancel := context.WithTimeoutCause(ctx, patience, clouds.ErrNoPatience)
	defer cancel()
	if !plan.Already {
		if err := found.Client.Admit(limited, found.ID, plan.Range, plan.Until, a.Note, func(progress int) {
			a.Told("the cloud lets it in", progress)
		}); err != nil {
			return plan, false, r.patienceEnded(ctx, limited, patience, clouds.Word(err))
		}
	}
	if !plan.Range.Contains(plan.Caller) {
		r.Note("this machine, which the cloud sees as %s over IPv%d, is not in that range: whether the server "+
			"answers is not seen from here",
			plan.Caller, family)
		return plan, true, nil
	}
	return plan, true, r.greets(ctx, limited, patience, to, a.Told)
}

func (r Run) patienceEnded(ctx, limited context.Context, patience time.Duration, err error) error {
	if ctx.Err() == nil && limited.Err() != nil {
		return world.Error{Code: finding.ExitNotReached,
			Message: fmt.Sprintf("the cloud has not finished within %s; it goes on by itself, and gharbor cloud "+
				"admissions shows how it stands",
				patience)}
	}
	return err
}

// greets waits until the server greets.
func (r Run) greets(ctx, limited context.Context, patience time.Duration, to Aim, told func(string, int)) error {
	r.Until = "greeting"
	checker := r.Checker(to)
	checker.NoEvidence = true
	var last *checkup.Report
	for {
		report, err := checker.Test(limited, to.Admitted)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		switch {
		case err == nil && report.OK:
			return nil
		case err == nil:
			last = report
			if entry, _ := finding.Lookup(report.Code()); !entry.Waiting && report.Finding.Leg != "greeting" &&
				report.Finding.Leg != "port" {
				return &Failed{to.Name, *report.Finding, report.Exit, nil}
			}
		case limited.Err() != nil && last != nil:
			return world.Error{Code: finding.ExitNotReached,
				Message: fmt.Sprintf("the cloud says that it is let in, and the server has not greeted within %s: %s",
					patience, last.Finding.Cause)}
		case limited.Err() != nil:
			return world.Error{Code: finding.ExitNotReached,
				Message: fmt.Sprintf("the cloud says that it is let in, and the server has not greeted within %s",
					patience)}
		default:
			return err
		}
		told("the server does not greet yet", -1)
		select {
		case <-limited.Done():
		case <-time.After(time.Second):
		}
	}
}

// cloudAim gives the profile of a cloud's server that a word means: a saved profile, or
// ACCOUNT/SERVER.
func (r Run) cloudAim(ctx context.Context, word string) (Aim, error) {
	library, err := r.Library()
	if err != nil {
		return Aim{}, err
	}
	_, _, err = library.Find(word)
	var many *profile.AmbiguousError
	if err == nil || errors.As(err, &many) {
		to, err := r.Load(ctx, word, false)
		switch {
		case err != nil:
			return to, err
		case !to.InCloud():
			return to, world.Usage("%s is no cloud's server: its address is %s", world.Clip(word), outside.Cell(to.Place()))
		case !to.Admitted.OK():
			return to, to.usable()
		}
		for _, problem := range to.Problems {
			if problem.Setting != "user" {
				return to, world.Wrong("%s: %s", word, problem.Text)
			}
		}
		return to, nil
	}
	clouded, bad := target.ParseClouded(word)
	if bad != nil {
		return Aim{}, r.LoadError(library, word, err)
	}
	if _, err := r.CloudAccount(clouded.Account); err != nil {
		if strings.Count(word, "/") == 1 {
			return Aim{}, world.Wrong("there is no profile %s; and as ACCOUNT/SERVER of a cloud, %v", world.Clip(word), err)
		}
		return Aim{}, err
	}
	c, err := r.clouds().CloudClient(clouded.Account)
	if err != nil {
		return Aim{}, err
	}
	s, err := c.Server(ctx, clouded.Server)
	if err != nil {
		return Aim{}, clouds.Word(err)
	}
	if _, is := known.Info(s.Engine); !is {
		return Aim{}, world.Wrong("%s is a server of the engine %s, which is not known here", world.Clip(word),
			outside.Cell(s.Engine))
	}
	return r.unsavedCloud(library, clouded, s.Engine)
}

// unsavedCloud gives a profile of a cloud's server that is not saved, to see whether the server
// greets.
func (r Run) unsavedCloud(library profile.Library, c target.Clouded, engine string) (Aim, error) {
	origin := profile.Origin{Layer: profile.LayerAnswer}
	layer := profile.Layer{"cloud": {Text: profile.CloudText(c), Origin: origin}, "engine": {Text: engine, Origin: origin}}
	admitted, err := agree.Own(library, "", layer)
	if err != nil {
		return Aim{}, err
	}
	return Aim{Effective: admitted.Profile(), Admitted: admitted}, nil
}
