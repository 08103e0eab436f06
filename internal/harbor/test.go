package harbor

import (
	"context"
	"errors"
	"maps"
	"slices"
	"sync"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/finding"
)

// Checker gives the checker of what is connected to. At a terminal it can ask for a secret.
func (r Run) Checker(to Aim) checkup.Checker {
	checker := checkup.Checker{Resolver: r.Resolver, Stores: checkup.Stores{Secrets: r.Finder(to.Known)},
		Until: r.Until, Waited: r.Waited}
	checker.Around = &r.near.around
	checker.Authorities, checker.Hops = r.Authorities(), r.hops
	checker.Engines, checker.Folder = r.Engines, r.Folder()
	checker.Clouds = checkup.Clouds{Locator: r.clouds().Locator, Logins: &r.World.Clouds.Logins,
		HopInto: r.clouds().HopInto}
	checker.Kin = checkup.Kin{Admin: r.adminOf, Other: r.otherSecret, Users: r.otherUsers}
	for _, flag := range [][]string{{"--secret-file", r.SecretFile}, {"--passphrase-file", r.PassphraseFile},
		{"--wallet", r.WalletPath}} {
		if flag[1] != "" {
			checker.Stores.Flags = append(checker.Stores.Flags, flag)
		}
	}
	if !r.Connects {
		return checker
	}
	set := maps.Clone(r.Set)
	if to.Set != nil {
		set = maps.Clone(to.Set)
	}
	delete(set, "door") // where a door is has no part in what a command of a remedy does
	checker.Command.Flags, checker.Command.Again = AsFlags(set), to.Again
	for _, path := range r.AliasFiles {
		checker.Command.Flags = append(checker.Command.Flags, []string{"--aliases", r.Path(path)})
	}
	return checker
}

// Test tests one profile and remembers it in its history.
func (r Run) Test(ctx context.Context, to Aim, silences *sync.Map) (*checkup.Report, error) {
	if !to.Admitted.OK() {
		return checkup.NotAgreed(to.Effective, to.NotAgreed), nil
	}
	checker := r.Checker(to)
	checker.Silences = silences
	history, file, kept := r.historyOf(to)
	if kept {
		checker = remembering(checker, history, file)
	}
	report, err := checker.Test(ctx, to.Admitted)
	if report != nil && report.Found.How != "" {
		r.Containers.Store(to.Place(), report.Found)
	}
	if report != nil && report.ServerID != "" {
		r.World.Clouds.Servers.Store(to.Clouded.String(), report.ServerID)
	}
	if report != nil && report.Finding != nil && report.Finding.Leg == "tunnel" {
		r.TypedForHops.Clear() // a refused answer is not given again
	}
	if err == nil {
		r.remember(ctx, to, report)
	}
	return report, err
}

// remember writes a test into the profile's history. A part of the route is no test of the whole.
func (r Run) remember(ctx context.Context, to Aim, report *checkup.Report) {
	history, file, kept := r.historyOf(to)
	if !kept || r.Until != "" {
		return
	}
	if err := history.Append(ctx, file, checkup.Remember(to.Effective, report, r.Now())); err != nil {
		r.Note("the test was not remembered: %v", err)
	}
}

// remembering has a checker know the tests of a profile's history.
func remembering(c checkup.Checker, history checkup.History, file string) checkup.Checker {
	if last, ok, err := history.LastGood(file); ok && err == nil {
		c.History.Last = &last
		c.History.Past = func() []checkup.Past {
			list, _ := history.Read(file)
			return list
		}
	}
	return c
}

// admins finds, for each place, a profile of the user's own that led there as a superuser at its
// last good test. Only the profiles with a history are looked at, and once in a run.
func (r Run) admins() map[string][]string {
	found, direct := map[string][]string{}, map[string]int{}
	state, err := r.State()
	if err != nil {
		return found
	}
	library, err := r.Library()
	if err != nil {
		return found
	}
	history := HistoryIn(state)
	known := history.Known()
	names, _ := library.Mine.Names()
	for _, name := range names {
		file := library.Mine.Path(name)
		if !known(file) {
			continue
		}
		if last, ok, err := history.LastGood(file); err != nil || !ok || !last.Super {
			continue
		}
		stack, err := library.Load(name)
		if err != nil {
			continue
		}
		if e := stack.Resolve(); len(e.Problems) == 0 {
			place := e.Place()
			if len(e.Via) == 0 { // a direct way comes before a detour over a hop
				found[place] = slices.Insert(found[place], direct[place], name)
				direct[place]++
			} else {
				found[place] = append(found[place], name)
			}
		}
	}
	return found
}

// adminOf gives the first administrator's profile of a place that is not the profile itself.
func (r Run) adminOf(place, except string) string {
	r.near.admins.Do(func() { r.near.adminsFound = r.admins() })
	for _, name := range r.near.adminsFound[place] {
		if name != except {
			return name
		}
	}
	return ""
}

// relatives gives the profiles of the user's own that lead to one place, by place. All of your
// own profiles are read for it, once in a run and only after a failure.
func (r Run) relatives() map[string][]kin {
	r.near.kin.Do(func() {
		r.near.kinFound = map[string][]kin{}
		library, err := r.Library()
		if err != nil {
			return
		}
		library = library.Remembering()
		names, _ := library.Mine.Names()
		for _, name := range names {
			stack, err := library.Load("mine:" + name)
			if err != nil || stack.Stranger {
				continue
			}
			e := stack.Resolve()
			r.near.kinFound[e.Place()] = append(r.near.kinFound[e.Place()], kin{name, e.User, e.Secret.String()})
		}
	})
	return r.near.kinFound
}

// otherSecret finds a profile of the user's own that leads to a place as a user, with another
// reference for the secret.
func (r Run) otherSecret(place, user, except, secret string) (string, string) {
	for _, each := range r.relatives()[place] {
		if each.user == user && each.name != except && each.secret != secret && each.secret != "" && each.secret != "none" {
			return each.name, each.secret
		}
	}
	return "", ""
}

// otherUsers lists the users as which other profiles of the user's own log in to a place.
func (r Run) otherUsers(place, except string) []string {
	var users []string
	for _, each := range r.relatives()[place] {
		if each.name != except && each.user != "" && !slices.Contains(users, each.user) {
			users = append(users, each.user)
		}
	}
	return users
}

// historyOf gives where the tests of a saved profile are remembered.
func (r Run) historyOf(to Aim) (checkup.History, string, bool) {
	state, err := r.State()
	if err != nil || to.File == "" {
		return checkup.History{}, "", false
	}
	return HistoryIn(state), to.File, true
}

// HistoryIn gives the history that is kept in the state folder.
func HistoryIn(state string) checkup.History {
	return checkup.History{Dir: state + "/history"}
}

// TestAgain makes one test after another; last is the one before, nil for the first. What is
// around is looked at when the state is a new one; as long as it stays the same, what was seen
// the first time still stands.
func (r Run) TestAgain(ctx context.Context, to Aim, last *checkup.Report) (*checkup.Report, error) {
	if !to.Admitted.OK() {
		return checkup.NotAgreed(to.Effective, to.NotAgreed), nil
	}
	checker := r.Checker(to)
	checker.Stores.Before = to.Before
	if history, file, kept := r.historyOf(to); kept {
		checker = remembering(checker, history, file)
	}
	if last == nil {
		return checker.Test(ctx, to.Admitted)
	}
	checker.NoEvidence = true
	report, err := checker.Test(ctx, to.Admitted)
	switch {
	case err != nil || report.OK:
		return report, err
	case report.Code() == last.Code():
		report.Finding.Seen, report.Finding.Try = last.Finding.Seen, last.Finding.Try
		return report, nil
	}
	checker.NoEvidence = false
	return checker.Test(ctx, to.Admitted)
}

// FindOnce finds a profile's secret, so that waiting asks nobody again and runs no program again.
// What keeps it from being found is the tests' to say.
func (r Run) FindOnce(ctx context.Context, to Aim) (Aim, error) {
	if !to.Admitted.OK() || len(to.Problems) > 0 {
		return to, nil
	}
	found, err := r.Checker(to).Find(ctx, to.Admitted)
	var problem *finding.Problem
	switch {
	case errors.As(err, &problem):
		return to, nil
	case err != nil:
		return to, err
	}
	to.Before = &found
	return to, nil
}
