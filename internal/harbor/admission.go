package harbor

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"gentle-harbor/internal/agree"
	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/cloud"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/route"
	"gentle-harbor/internal/target"
)

// Admitting is an admission that is to be made.
type Admitting struct {
	// For is how long it holds, 0 for no end. Range is what is let in; its zero value is the address that the cloud sees.
	For   time.Duration
	Range netip.Prefix
	Note  string
	// Meant shows what will be let in, and asks for consent.
	Meant func(ctx context.Context, p Planned) (bool, error)
	// Told is called with the progress of the cloud's work, from 0 to 100, and once more for each question whether the server greets.
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

// LetIn has a cloud's server let a range of addresses in, and waits until the server greets. Word is a profile, or ACCOUNT/SERVER. It gives what was
// let in, false where the person did not mean it.
func (r *Run) LetIn(ctx context.Context, word string, a Admitting) (Planned, bool, error) {
	to, err := r.cloudAim(ctx, word)
	if err != nil {
		return Planned{}, false, err
	}
	found, err := r.locator(to.Effective).Find(ctx)
	if err != nil {
		return Planned{}, false, wordCloud(err)
	}
	plan := Planned{Profile: to.Name, Server: to.Clouded.String(), Range: a.Range}
	standing, family, err := r.standing(ctx, found)
	if err != nil {
		return plan, false, wordCloud(err)
	}
	plan.Caller = standing.Caller
	if !plan.Range.IsValid() {
		plan.Range = netip.PrefixFrom(standing.Caller, standing.Caller.BitLen())
	}
	if a.For > 0 {
		until := time.Now().Add(a.For).Round(time.Second)
		plan.Until = &until
	}
	for _, each := range standing.List {
		if covers(each.Range, plan.Range) && (each.Until == nil || plan.Until != nil && !each.Until.Before(*plan.Until)) {
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
	limited, cancel := context.WithTimeoutCause(ctx, patience, errNoPatience)
	defer cancel()
	if !plan.Already {
		if err := found.Client.Admit(limited, found.ID, plan.Range, plan.Until, a.Note, func(progress int) { a.Told("the cloud lets it in", progress) }); err != nil {
			return plan, false, r.patienceEnded(ctx, limited, patience, wordCloud(err))
		}
	}
	if !plan.Range.Contains(plan.Caller) {
		r.Note("this machine, which the cloud sees as %s over IPv%d, is not in that range: whether the server answers is not seen from here", plan.Caller, family)
		return plan, true, nil
	}
	return plan, true, r.greets(ctx, limited, patience, to, a.Told)
}

var errNoPatience = errors.New("the patience has ended")

func (r *Run) patienceEnded(ctx, limited context.Context, patience time.Duration, err error) error {
	if ctx.Err() == nil && limited.Err() != nil {
		return Error{finding.ExitNotReached, fmt.Sprintf("the cloud has not finished within %s; it goes on by itself, and gharbor cloud admissions shows how it stands", patience)}
	}
	return err
}

// covers reports whether one range has all of another.
func covers(wide, narrow netip.Prefix) bool {
	return wide.Bits() <= narrow.Bits() && wide.Contains(narrow.Addr())
}

// greets waits until the server greets.
func (r *Run) greets(ctx, limited context.Context, patience time.Duration, to Aim, told func(string, int)) error {
	until := r.Until
	defer func() { r.Until = until }()
	r.Until = "greeting"
	checker := r.Checker(to.Known)
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
			if entry, _ := finding.Lookup(report.Code()); !entry.Waiting && report.Finding.Leg != "greeting" && report.Finding.Leg != "port" {
				return &Failed{to.Name, *report.Finding, report.Exit, nil}
			}
		case limited.Err() != nil && last != nil:
			return Error{finding.ExitNotReached, fmt.Sprintf("the cloud says that it is let in, and the server has not greeted within %s: %s", patience, last.Finding.Cause)}
		case limited.Err() != nil:
			return Error{finding.ExitNotReached, fmt.Sprintf("the cloud says that it is let in, and the server has not greeted within %s", patience)}
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

// standing asks how this machine stands with the network of a server, over the family of the server's own address.
func (r *Run) standing(ctx context.Context, found *cloud.Found) (s cloud.Standing, family int, err error) {
	families := []int{4}
	addr, err := netip.ParseAddr(found.Host)
	if err == nil && !addr.Unmap().Is4() {
		families = []int{6}
	}
	if err != nil { // a name: what it leads to
		families = nil
		addrs, err := r.addressesOf(ctx, found.Host)
		if err != nil {
			return s, 0, err
		}
		for _, each := range addrs {
			family := 6
			if each.Unmap().Is4() {
				family = 4
			}
			if !slices.Contains(families, family) {
				families = append(families, family)
			}
		}
	}
	var failed error
	for _, family := range families {
		if s, err = found.Client.Standing(ctx, found.ID, family); err == nil {
			return s, family, nil
		}
		if failed == nil {
			failed = err
		}
	}
	return s, 0, failed
}

// cloudAim gives the profile of a cloud's server that a word means: a saved profile, or ACCOUNT/SERVER.
func (r *Run) cloudAim(ctx context.Context, word string) (Aim, error) {
	library, err := r.Library()
	if err != nil {
		return Aim{}, err
	}
	r.Connects = true
	_, _, err = library.Find(word)
	var many *profile.AmbiguousError
	if err == nil || errors.As(err, &many) {
		to, err := r.Load(ctx, word, false)
		switch {
		case err != nil:
			return to, err
		case !to.InCloud():
			return to, Usage("%s is no cloud's server: its address is %s", Clip(word), outside.Cell(to.Place()))
		case !to.Admitted.OK():
			return to, Wrong("%s comes from a project, and %s See it with gharbor agree %s", to.Name, to.NotAgreed, to.Name)
		}
		for _, problem := range to.Problems {
			if problem.Setting != "user" {
				return to, Wrong("%s: %s", word, problem.Text)
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
			return Aim{}, Wrong("there is no profile %s; and as ACCOUNT/SERVER of a cloud, %v", Clip(word), err)
		}
		return Aim{}, err
	}
	c, err := r.CloudClient(clouded.Account)
	if err != nil {
		return Aim{}, err
	}
	s, err := c.Server(ctx, clouded.Server)
	if err != nil {
		return Aim{}, wordCloud(err)
	}
	if _, is := known.Info(s.Engine); !is {
		return Aim{}, Wrong("%s is a server of the engine %s, which is not known here", Clip(word), outside.Cell(s.Engine))
	}
	return r.unsavedCloud(library, clouded, s.Engine)
}

// LeftOver is an admission that is worth a look, and why.
type LeftOver struct {
	cloud.Admission
	Why []string `json:"why"`
}

// leftOver gives the admissions of one's own that are left over from another address, have no end, or are wider than one address.
func (r *Run) leftOver(ctx context.Context, c *cloud.Client) (left []LeftOver, caller string, err error) {
	all, callers, err := r.admissions(ctx, c)
	left = []LeftOver{}
	for _, each := range all {
		if len(each.Why) > 0 {
			left = append(left, each)
		}
	}
	return left, strings.Join(callers, ", "), err
}

// admissions lists all admissions of one's own at a cloud, each with what is worth a look, and the addresses that the cloud sees this machine as.
func (r *Run) admissions(ctx context.Context, c *cloud.Client) ([]LeftOver, []string, error) {
	list, err := c.Admissions(ctx, "")
	if err != nil {
		return nil, nil, err
	}
	var callers []netip.Addr
	var shown []string
	for _, family := range []int{4, 6} {
		over, err := c.Over(family)
		if err != nil {
			continue
		}
		if addr, err := over.Caller(ctx); err == nil { // a cloud need not have addresses of both families
			callers, shown = append(callers, addr), append(shown, addr.String())
		}
	}
	all := []LeftOver{}
	for _, each := range list {
		l := LeftOver{each, []string{}}
		if each.Until == nil {
			l.Why = append(l.Why, "it has no end")
		}
		if each.Wider() {
			l.Why = append(l.Why, "it lets in more than one address")
		}
		here := slices.ContainsFunc(callers, each.Range.Contains)
		asked := slices.ContainsFunc(callers, func(a netip.Addr) bool { return a.Is4() == each.Range.Addr().Is4() })
		if asked && !here {
			l.Why = append(l.Why, "it is not for this machine's address now")
		}
		all = append(all, l)
	}
	return all, shown, nil
}

// CloudAdmissions lists the admissions of one's own, of one account or, for "", of all that are signed in, by account.
func (r *Run) CloudAdmissions(ctx context.Context, name string) (map[string][]LeftOver, error) {
	list, err := r.accounts()
	if err != nil {
		return nil, err
	}
	names := list.Names()
	if name != "" {
		names = []string{name}
	}
	all := map[string][]LeftOver{}
	for _, each := range names {
		c, err := r.CloudClient(each)
		if err != nil {
			return nil, err
		}
		if _, in, err := c.Session.Who(); name == "" && err == nil && !in {
			continue
		}
		if all[each], _, err = r.admissions(ctx, c); err != nil {
			return nil, wordCloud(err)
		}
	}
	return all, nil
}

// WithdrawCloud takes admissions of one's own back, by their ids; told is called for each that is gone.
func (r *Run) WithdrawCloud(ctx context.Context, account string, ids []string, progress func(id string, progress int), told func(cloud.Admission)) error {
	all, err := r.CloudAdmissions(ctx, account)
	if err != nil {
		return err
	}
	type of struct {
		account string
		cloud.Admission
	}
	var list []of
	var names []string
	for account, each := range all {
		for _, a := range each {
			names = append(names, a.ID)
			if slices.Contains(ids, a.ID) {
				list = append(list, of{account, a.Admission})
			}
		}
	}
	for _, id := range ids {
		n := 0
		for _, each := range list {
			if each.ID == id {
				n++
			}
		}
		switch {
		case n > 1:
			return Usage("several accounts have an admission %s; say which with --account NAME", Clip(id))
		case n == 0:
			if near := profile.Nearest(id, names); near != "" {
				return Wrong("none of your admissions is %s; did you mean %s?", Clip(id), near)
			}
			return Wrong("none of your admissions is %s; gharbor cloud admissions lists them", Clip(id))
		}
	}
	for _, each := range list {
		c, err := r.CloudClient(each.account)
		if err != nil {
			return err
		}
		if err := c.Withdraw(ctx, each.Admission, func(p int) { progress(each.ID, p) }); err != nil {
			return wordCloud(err)
		}
		told(each.Admission)
	}
	return nil
}

// unsavedCloud gives a profile of a cloud's server that is not saved, to see whether the server greets.
func (r *Run) unsavedCloud(library profile.Library, c target.Clouded, engine string) (Aim, error) {
	origin := profile.Origin{Layer: profile.LayerAnswer}
	layer := profile.Layer{"cloud": {Text: profile.CloudText(c), Origin: origin}, "engine": {Text: engine, Origin: origin}}
	admitted, err := agree.Own(library, "", layer)
	if err != nil {
		return Aim{}, err
	}
	return Aim{Effective: admitted.Profile(), Admitted: admitted}, nil
}

// addressesOf looks a name up, as connections do.
func (r *Run) addressesOf(ctx context.Context, host string) ([]netip.Addr, error) {
	resolver := r.Resolver
	if resolver == nil {
		resolver = net.DefaultResolver
	}
	return route.Addresses(ctx, resolver, host)
}
