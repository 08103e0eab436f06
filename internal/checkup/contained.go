package checkup

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"gentle-harbor/internal/container"
	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/route"
	"gentle-harbor/internal/secret"
)

// found gives the container that was found for this walk, nil for none.
func (w *walk) found() *container.Lookup {
	if w.container == nil {
		return nil
	}
	return w.container.Last()
}

// behindEngine reports whether the container engine is reached through a hop of its own.
func (w *walk) behindEngine() bool {
	if w.container == nil {
		return false
	}
	list, err := w.container.Engines()
	if err != nil || len(list) != 1 {
		return false
	}
	_, _, ssh := list[0].Hop()
	return ssh
}

// unmoved holds a stored secret back where the SRV records of its alias name a target that they
// did not name when it was stored. It is asked once they are known, and before anything is said
// to a server. The error is a *finding.Problem.
func (w *walk) unmoved() error {
	kept := w.source.Kept
	if kept == nil || kept.Endpoint.Alias == "" || w.targets == nil {
		return nil
	}
	now := *kept
	now.Defined = w.admitted.Profile().Seen(w.targets).Target().Defined
	if moved := kept.Moved(now); len(moved) > 0 {
		return secret.Moved(string(w.source.Kind), *kept, moved)
	}
	return nil
}

// contained takes the secret once the container is found, and before anything is said to the
// server. The error is a *finding.Problem.
func (w *walk) contained() error {
	found := w.found()
	if found == nil {
		return nil
	}
	w.report.Found = found.Defined()
	if !w.held.Later() {
		return nil
	}
	var err error
	if w.secret, err = w.held.Secret(found); err != nil {
		return err
	}
	if w.source.Kind == secret.Container {
		w.source.Saw = "from the variables of the container " + found.Name
		if !w.secret.Given() {
			w.source.Saw = "none: by its variables, the server asks for none"
		}
	}
	for i := range w.before {
		if w.before[i].Name == "secret" {
			w.before[i].Saw = w.clean(w.source.Saw)
		}
	}
	return nil
}

// inContainer makes a failure on the way to a container's server one of the container, where the
// engine can say more than the network did.
func (w *walk) inContainer(p *finding.Problem) *finding.Problem {
	found := w.found()
	if found == nil {
		return p
	}
	shut := p.Code.Leg() == "greeting" && p.Code.Closed() ||
		slices.Contains([]finding.Code{finding.PortRefused, finding.PortReset}, p.Code)
	if !shut && p.Code != finding.DatabaseStartingUp {
		return p
	}
	ctx, cancel := context.WithTimeout(w.parent, evidenceTime)
	defer cancel()
	facts := finding.Facts{finding.FactContainer: found.Name, finding.FactContainerPort: portText(w.container.Port)}
	switch {
	case found.SettingUp(ctx):
		return &finding.Problem{Code: finding.ContainerSettingUp, Err: p, Facts: facts}
	case shut:
		facts[finding.FactDetail] = "the container engine accepts the connection, and ends it"
		if p.Code.Leg() == "port" {
			facts[finding.FactDetail] = w.address + " refuses the connection"
		}
		if found.Streamed {
			facts[finding.FactDetail] = "tried inside the container, at its loopback address"
		}
		return &finding.Problem{Code: finding.ContainerNotListening, Err: p, Facts: facts}
	}
	return p
}

// onlyAtFirstStart makes a refused login one of a container whose data is older than its variables.
func (w *walk) onlyAtFirstStart(p *finding.Problem) *finding.Problem {
	found := w.found()
	if found == nil || p.Code != finding.LoginRefused || w.source.Kind != secret.Container {
		return p
	}
	ctx, cancel := context.WithTimeout(w.parent, evidenceTime)
	defer cancel()
	volume, since := found.Client.Kept(ctx, found.Container, w.info.Image)
	if volume == "" || since.IsZero() || !since.Before(found.Made.Add(-time.Second)) {
		return p
	}
	facts := finding.Facts{}
	for name, value := range p.Facts {
		facts[name] = value
	}
	facts[finding.FactVolume], facts[finding.FactVolumeMade], facts[finding.FactContainerMade] = volume, day(since), day(found.Made)
	for _, account := range found.ProfileAccounts() {
		if account.User == w.profile.User && account.Set != "" {
			facts[finding.FactPasswordStatement] = strings.ReplaceAll(account.Set, "{user}", w.quoted(account.User))
		}
	}
	return &finding.Problem{Code: finding.LoginFirstStartOnly, Words: p.Words, Number: p.Number, Err: p, Facts: facts}
}

func day(t time.Time) string { return t.Local().Format("2006-01-02 15:04:05") }

// quoted gives a name as the engine quotes it.
func (w *walk) quoted(name string) string {
	mark := advice(w.profile.Engine, engine.Subject{User: w.profile.User}).Quote
	return mark + strings.ReplaceAll(name, mark, mark+mark) + mark
}

// aboutContainer gives the facts of a container, and of its engine, that remedies name.
func (w *walk) aboutContainer(facts finding.Facts) {
	if w.container == nil {
		return
	}
	facts[finding.FactContainerTitle] = w.profile.Contained.Title()
	facts[finding.FactEngineProgram], facts[finding.FactEngineStart] = "docker", container.Start("")
	if found := w.found(); found != nil {
		facts[finding.FactContainer], facts[finding.FactImage] = found.Name, found.Image
		facts[finding.FactEngineProgram] = found.Client.Engine.Program()
		if found.Client.Engine.Local() {
			facts[finding.FactOwnContainer] = found.Name
		}
		if w.at.Dial == nil {
			facts[finding.FactReach] = found.Inside()
		}
	}
	if list, err := w.container.Engines(); err == nil && len(list) > 0 {
		facts[finding.FactEngineStart] = container.Start(list[0].Program())
		facts[finding.FactGroup] = list[0].Group()
	}
}

// seenOfContainer lists what the engine says of the container that may explain a failure, or that
// a person should know.
func (w *walk) seenOfContainer() []string {
	found := w.found()
	if found == nil || !found.Running() {
		return nil
	}
	var seen []string
	if !found.Began.IsZero() {
		if ago := time.Since(found.Began); ago < 5*time.Minute {
			seen = append(seen, fmt.Sprintf("the container was started %s ago", max(ago.Round(time.Second), time.Second)))
		}
	}
	switch {
	case found.Health == "unhealthy" && !found.HealthSays.Empty(), found.Health == "starting" && !found.HealthSays.Empty():
		veil := outside.Veil{Secrets: append(found.Hidden(), w.secret)}
		seen = append(seen, fmt.Sprintf("its health check says %s: %s", found.Health, veil.Short(found.HealthSays, 200)))
	case found.Health == "unhealthy", found.Health == "starting":
		seen = append(seen, "its health check says "+found.Health)
	}
	return seen
}

// emptied says that a container was made anew since the last good test, or that its data folder
// was: what was in the server may be gone. It is asked after failures of a server that answers.
func (w *walk) emptied(leg string) []string {
	found, last := w.found(), w.checker.History.Last
	if found == nil || last == nil || !slices.Contains([]string{"login", "database", "expect", "query"}, leg) {
		return nil
	}
	const form = "2006-01-02 15:04:05"
	switch {
	case found.Made.After(last.When) && len(found.Mounts) == 0:
		return []string{fmt.Sprintf("the container was made anew at %s, after the last good test, and has no "+
			"volume: what was in the one before went with it",
			found.Made.Local().Format(form))}
	case len(found.Mounts) == 0:
		return nil
	}
	ctx, cancel := context.WithTimeout(w.parent, evidenceTime)
	defer cancel()
	defer found.Client.Close()
	volume, since := found.Client.Kept(ctx, found.Container, w.info.Image)
	if volume == "" || !since.After(last.When) {
		return nil
	}
	return []string{w.clean(fmt.Sprintf("the server was set up anew in %s at %s, after the last good test: what "+
		"was in it before is not there",
		volume, since.Local().Format(form)))}
}

// containersHere gives the containers of the local engines that are servers of the profile's kind.
func (w *walk) containersHere(ctx context.Context) []*container.Container {
	return container.OfFamily(ctx, w.allContainers(ctx), w.info.Family)
}

// allContainers gives the containers of the local engines.
func (w *walk) allContainers(ctx context.Context) []*container.Container {
	if w.checker.Engines == nil {
		return nil
	}
	engines, err := w.checker.Engines()
	if err != nil {
		return nil
	}
	return w.checker.Around.containers.get(ctx, func(ctx context.Context) []*container.Container {
		return container.Here(ctx, engines)
	})
}

// whichContainers looks for containers of the profile's engine after a failure at an address of
// this machine.
func (w *walk) whichContainers(ctx context.Context, _ *finding.Problem, about finding.Facts) []string {
	if w.container != nil || w.met.Socket != "" {
		return nil
	}
	var seen []string
	list := w.containersHere(ctx)
	slices.SortStableFunc(list, func(a, b *container.Container) int { // one that runs is the likelier
		switch {
		case a.Running() == b.Running():
			return 0
		case a.Running():
			return -1
		}
		return 1
	})
	for _, each := range list[:min(8, len(list))] {
		at := "and publishes no port"
		var ports []string
		for _, p := range each.Published {
			ports = append(ports, fmt.Sprintf("%s:%d", p.Address, p.Port))
		}
		if len(ports) > 0 {
			at = "and publishes " + strings.Join(ports, ", ")
		}
		if !each.Running() {
			at = "and does not run"
		}
		seen = append(seen, w.clean(fmt.Sprintf("the container %s has the image %s, %s", each.Words().Words(),
			each.Image, at)))
		if about[finding.FactNearContainer] == "" {
			about[finding.FactNearContainer] = each.Words().Words()
		}
	}
	return seen
}

// whichContainer explains a connection that was accepted and ended at a port that a container
// publishes.
func (w *walk) whichContainer(ctx context.Context, _ *finding.Problem, about finding.Facts) []string {
	at, err := netip.ParseAddrPort(w.address)
	if err != nil || !route.Own(at.Addr()) {
		return nil
	}
	by, _ := container.PublishedBy(w.allContainers(ctx), at)
	if by == nil {
		return nil
	}
	about[finding.FactNearContainer] = by.Words().Words()
	return []string{w.clean(fmt.Sprintf("the container %s publishes this port: nothing inside it listens there, "+
		"or it is still setting itself up",
		by.Words().Words()))}
}

// whichName explains a host that is a name of containers alone: a service's, a container's, or an
// engine's own host.
func (w *walk) whichName(ctx context.Context, _ *finding.Problem, about finding.Facts) []string {
	host := w.met.Host
	if container.IsEngineHost(host) {
		about[finding.FactFoundHost] = "localhost"
		return []string{w.clean(host) + " is known only inside containers"}
	}
	if strings.Contains(host, ".") {
		return nil
	}
	for _, each := range w.containersHere(ctx) {
		if each.Service == host || each.Name == host {
			about[finding.FactNearContainer], about[finding.FactContainerTitle] = each.Words().Words(), each.Words().Title()
			return []string{w.clean(fmt.Sprintf("%s is a name that is known only inside containers: %s", host,
				each.Words().Title()))}
		}
	}
	return nil
}

// noteContainer notes what a person should know of the container after a good test.
func (w *walk) noteContainer(unasked bool) {
	found := w.found()
	if found == nil {
		return
	}
	if e := found.Client.Engine; strings.HasPrefix(e.URL, "tcp://") && !e.TLS {
		w.report.Notes = append(w.report.Notes,
			"The container engine is asked without encryption: what it says, variables with passwords too, can "+
				"be read and changed on the way.")
	}
	if found.Streamed && unasked {
		w.report.Notes = append(w.report.Notes,
			"The connection came from the container's own loopback address, where many images ask for no "+
				"password: from elsewhere it may be asked for.")
	}
	if _, known := container.EngineOf(found.Repository); known && len(found.Mounts) == 0 {
		w.report.Notes = append(w.report.Notes,
			"The container "+found.Name+" has no volume: its data goes when the container is removed.")
	}
}
