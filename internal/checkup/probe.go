package checkup

import (
	"context"
	"errors"
	"net"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"gentle-harbor/internal/agree"
	"gentle-harbor/internal/alias"
	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/route"
	"gentle-harbor/internal/target"
)

// Probed is how one address answered to probes.
type Probed struct {
	Address string `json:"address"`
	// Written is the address as it is written in the alias or in an SRV record; "" where that is
	// Address.
	Written string `json:"written,omitempty"`
	// Answers says that a server of the engine greets there; Open that it did not say that it
	// lets nobody in now. What it does with this user's login is not known.
	Answers bool `json:"answers"`
	Open    bool `json:"open"`
	// Code is why it does not answer, or lets nobody in; Words what it said then.
	Code  finding.Code `json:"code,omitempty"`
	Words string       `json:"words,omitempty"`
	// Good of Tried probes were answered, in these times (milliseconds from the beginning of the
	// connection to the greeting).
	Tried  int     `json:"times"`
	Good   int     `json:"answered"`
	Min    float64 `json:"min_ms"`
	Median float64 `json:"median_ms"`
	Max    float64 `json:"max_ms"`
}

// Answers is how the addresses of one alias answered.
type Answers struct {
	Alias     string   `json:"alias"`
	Engine    string   `json:"engine"`
	Addresses []Probed `json:"addresses"`
	// Finding is why no address could be asked, nil where some were.
	Finding *finding.Finding `json:"finding,omitempty"`
}

// Probe asks each address of a profile whether a server greets there, several times, with no
// login. The report has a finding when the way there is closed; the error is as Test's. At most
// parallel addresses are asked side by side.
func (c Checker) Probe(ctx context.Context, a agree.Admitted, count, parallel int) ([]Probed, *Report, error) {
	c.NoEvidence = true
	w := c.walk(ctx, a)
	defer w.stop()
	if problem, ok := w.settingsProblem(); ok && a.Profile().User != "" {
		return nil, w.report, w.failed(problem)
	}
	w.legs.pass("settings", settingsSaw(w.profile, w.info))
	w.legs.pass("secret", "none is needed for this")
	w.clock()
	if err := w.enter(); err != nil {
		return nil, w.report, w.failed(err)
	}
	w.finish()
	parts, err := w.parts(ctx)
	if err != nil {
		return nil, w.report, w.failed(err)
	}
	list := make([][]Probed, len(parts))
	var group errgroup.Group
	group.SetLimit(parallel)
	for i, part := range parts {
		group.Go(func() error {
			list[i] = w.probe(ctx, part, count)
			return nil
		})
	}
	_ = group.Wait()
	return slices.Concat(list...), w.report, ctx.Err()
}

// parts gives a locator for each address as it is written, so that a silent name service for one
// holds up no other.
func (w *walk) parts(ctx context.Context) ([]route.Locator, error) {
	all, is := w.route.Locator.(alias.Locator)
	if !is {
		return []route.Locator{w.route.Locator}, nil
	}
	ctx, cancel := context.WithTimeout(ctx, w.leg())
	defer cancel()
	list, err := all.Written(ctx)
	var parts []route.Locator
	for _, each := range list {
		one := all
		one.Addresses, one.SRV = []target.Address{each}, ""
		parts = append(parts, one)
	}
	return parts, err
}

// probe asks the addresses of one locator.
func (w *walk) probe(ctx context.Context, locator route.Locator, count int) []Probed {
	quiet := func(string, string) {}
	var found []*Probed
	looking, cancel := context.WithTimeout(ctx, w.leg())
	defer cancel()
	var all sync.WaitGroup
	for at, err := range w.path.Locate(looking, locator, quiet) {
		p := &Probed{Address: at.String()}
		if written := at.Written.String(); err != nil {
			p.Address = written
			p.not(w, err)
		} else if written != p.Address {
			p.Written = written
		}
		found = append(found, p)
		if err == nil {
			all.Go(func() { w.knock(ctx, at, count, p) })
		}
	}
	all.Wait()
	var list []Probed
	for _, p := range found {
		list = append(list, *p)
	}
	return list
}

// not notes why there was no answer.
func (p *Probed) not(w *walk, err error) {
	var problem *finding.Problem
	p.Code = finding.PortUnknown
	if errors.As(err, &problem) {
		problem = w.classified(problem)
		p.Code, p.Words = problem.Code, w.veil().Words(problem.Words)
	}
}

// knock asks one address some times. One that is silent is not asked again.
func (w *walk) knock(ctx context.Context, at route.Address, count int, p *Probed) {
	var times []float64
	for range count {
		if ctx.Err() != nil {
			break
		}
		p.Tried++
		once, cancel := context.WithTimeout(ctx, w.leg())
		began := time.Now()
		greeted, err := engine.Knock(once, known.Engine(w.profile.Engine), w.asking(), at,
			func(ctx context.Context, at route.Address) (net.Conn, error) {
				conn, _, _, err := w.path.Connect(ctx, at)
				return conn, err
			})
		cancel()
		p.Open, p.Code, p.Words = err == nil, "", ""
		if err != nil {
			p.not(w, err)
		}
		if greeted.IsZero() {
			if p.Code.Silent() {
				break
			}
			continue
		}
		p.Answers, p.Good = true, p.Good+1
		times = append(times, float64(greeted.Sub(began).Microseconds())/1000)
	}
	if slices.Sort(times); len(times) > 0 {
		p.Min, p.Median, p.Max = times[0], times[len(times)/2], times[len(times)-1]
	}
}
