package harbor

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net/netip"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"gentle-harbor/internal/checkup"
	"gentle-harbor/internal/container"
	"gentle-harbor/internal/container/compose"
	"gentle-harbor/internal/discover"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/files"
	"gentle-harbor/internal/finding"
	"gentle-harbor/internal/harbor/edits"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/route"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/target"
)

// Ways are the ways in which servers are found.
var Ways = []string{"listening", "containers", "compose", "environment"}

// Looking says where to look for servers.
type Looking struct {
	Run       Run
	Only      []string // of Ways; none for all
	EveryPort bool     // say the engines' opening bytes to every port
	Outside   bool     // read files that a Compose file names outside of its folder
}

func (l Looking) at(way string) bool { return len(l.Only) == 0 || slices.Contains(l.Only, way) }

// Sighted is what was found, and what was not looked at.
type Sighted struct {
	Candidates []discover.Candidate `json:"candidates"`
	// Notes say what could not be looked at, and why.
	Notes []string `json:"notes"`
	// Ports is how many ports were looked at.
	Ports int `json:"ports"`
	// Failed is why the containers could not be listed, nil when they were.
	Failed *finding.Problem `json:"-"`
}

// Find finds database servers: what listens here, containers, Compose services, and connection
// strings in variables.
func (l Looking) Find(ctx context.Context) (Sighted, error) {
	r := l.Run
	s := Sighted{Notes: []string{}}
	in := discover.Input{}
	var err error
	if in.Taken, in.Free, err = r.names(); err != nil {
		return s, err
	}
	if l.at("containers") {
		in.Containers = r.allContainers(ctx, &s)
	}
	if l.at("compose") {
		in.Projects = r.composed(l, &s)
	}
	if l.at("environment") {
		in.Variables = r.strings(&s)
	}
	if l.at("listening") {
		in.Listeners = discover.Listeners(ctx, func(place netip.AddrPort) string {
			return hint(in.Containers, place)
		}, l.EveryPort)
		for _, each := range in.Listeners {
			if each.Socket == "" {
				s.Ports++
			}
		}
	}
	if ctx.Err() != nil {
		return s, ctx.Err()
	}
	s.Candidates = discover.Candidates(in)
	r.changedSince(s.Candidates)
	r.veil(&s)
	return s, nil
}

// changedSince notes which containers are other ones than at the last good test of the profile
// that leads to them.
func (r Run) changedSince(list []discover.Candidate) {
	library, err := r.Library()
	state, err2 := r.State()
	if err != nil || err2 != nil {
		return
	}
	for i := range list {
		c := &list[i]
		if c.Taken == "" || c.Defined.How == "" {
			continue
		}
		store, bare, err := library.Find(c.Taken)
		if err != nil {
			continue
		}
		last, ok, err := HistoryIn(state).LastGood(store.Path(bare))
		if was, read := target.ParseDefinition(last.Container); err == nil && ok && read {
			c.Changed = was.ContainerChanges(c.Defined, "it", "at the last good test")
		}
	}
}

// longSecret is from how many bytes on a value of the environment is surely a secret, and not a
// word that is also a user's name.
const longSecret = 8

// veil masks what files of others may have taken out of the environment: a Compose file can put
// any variable into what is shown, or into the name of a user, which the server then gets.
func (r Run) veil(s *Sighted) {
	pairs := map[string]string{}
	for _, each := range r.Environ {
		if name, value, ok := strings.Cut(each, "="); ok {
			pairs[name] = value
		}
	}
	veil := outside.Veil{Secrets: slices.DeleteFunc(container.HiddenOf(pairs), func(h outside.Hidden) bool {
		return len(h.Reveal()) < longSecret
	})}
	for i := range s.Notes {
		s.Notes[i] = veil.Text(s.Notes[i])
	}
	for i := range s.Candidates {
		c := &s.Candidates[i]
		for j := range c.Seen {
			c.Seen[j] = veil.Text(c.Seen[j])
		}
		for _, name := range c.Layer.Names() {
			if veil.Holds(c.Layer[name].Text) {
				c.Settings[name], c.Left = veil.Text(c.Settings[name]),
					"its "+name+" has the value of a variable of yours that looks like a secret"
			}
		}
		c.Name = profile.PlainName(veil.Text(c.Name))
	}
}

// hint gives the engine of the container that is published at an address: by its image, its
// variables, or the port inside.
func hint(list []discover.Contained, place netip.AddrPort) string {
	for _, each := range list {
		by, inside := container.PublishedBy([]*container.Container{each.Container}, place)
		if by == nil {
			continue
		}
		if info, _, is := container.EngineFor(each.Repository, each.Variables()); is {
			return info.Name
		}
		for _, info := range known.Infos() {
			if info.Port == inside {
				return info.Name
			}
		}
	}
	return ""
}

// allContainers lists the containers of all engines that are chosen, each inspected.
func (r Run) allContainers(ctx context.Context, s *Sighted) []discover.Contained {
	note := func(err error) {
		p, _ := finding.AsProblem(err)
		if p == nil {
			s.Notes = append(s.Notes, "containers were not looked at: "+outside.Cell(err.Error()))
			return
		}
		s.Failed = p
		s.Notes = append(s.Notes, "containers were not looked at: "+finding.Make(p.Code, finding.About{Facts: p.Facts}).Cause)
	}
	engines, err := r.Engines()
	if errors.Is(err, container.ErrNone) {
		s.Notes = append(s.Notes, "containers were not looked at: "+container.ErrNone.Error())
		return nil
	}
	if err != nil {
		note(err)
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, lookTime)
	defer cancel()
	var way route.Route
	way.Locator = route.At{}
	if via, err := r.engineHops(); err == nil && len(via) > 0 {
		if way.Hops, err = r.hopsOf(via, time.Minute, nil, r.Who.Here()); err != nil {
			note(err)
			return nil
		}
	}
	path, err := way.Open(ctx, func(string, string) {})
	if err != nil {
		note(err)
		return nil
	}
	defer path.Close()
	var all []discover.Contained
	for _, e := range engines {
		list, err := inspected(ctx, e, path.Via())
		if err != nil {
			note(err)
		}
		all = append(all, list...)
	}
	return all
}

// inspected lists an engine's containers that may be databases, with all that the engine says of
// each.
func inspected(ctx context.Context, e container.Engine, via route.Dialer) ([]discover.Contained, error) {
	client, err := container.Connect(ctx, e, via)
	if err != nil {
		return nil, err
	}
	defer client.Close()
	list, err := client.List(ctx)
	if err != nil {
		return nil, err
	}
	var mu sync.Mutex
	var all []discover.Contained
	var group errgroup.Group
	group.SetLimit(8)
	for _, each := range list {
		group.Go(func() error {
			found, err := client.Inspect(ctx, each.ID)
			if err == nil && found != nil {
				mu.Lock()
				defer mu.Unlock()
				all = append(all, discover.Contained{Container: found, Engine: e})
			}
			return nil // it may have gone meanwhile
		})
	}
	_ = group.Wait()
	slices.SortFunc(all, func(a, b discover.Contained) int { return cmp.Compare(a.Name, b.Name) })
	return all, nil
}

// composed reads the Compose files at or above the folder.
func (r Run) composed(l Looking, s *Sighted) []*compose.Project {
	reader := compose.Reader{Env: r.Env, Outside: l.Outside}
	home, _ := r.UserHome()
	note := func(err error) {
		if text := outside.Cell(err.Error()); !slices.Contains(s.Notes, text) {
			s.Notes = append(s.Notes, text)
		}
	}
	var all []*compose.Project
	for _, list := range reader.All(r.Folder(), home) {
		p, err := reader.Read(list)
		if err != nil {
			note(err)
			continue
		}
		for _, problem := range p.Problems {
			note(problem)
		}
		all = append(all, p)
	}
	return all
}

// maxDotEnv bounds a file of variables.
const maxDotEnv = 256 << 10

// strings gives the connection strings of the environment, and of the nearest .env file at or
// above the folder.
func (r Run) strings(s *Sighted) []discover.Variable {
	var list []discover.Variable
	from := func(pairs map[string]string, where string) {
		for _, each := range profile.StringVariables(pairs) {
			list = append(list, discover.Variable{StringVariable: each, From: where})
		}
	}
	pairs := map[string]string{}
	for _, each := range r.Environ {
		if name, value, ok := strings.Cut(each, "="); ok {
			pairs[name] = value
		}
	}
	from(pairs, "the environment")
	home, _ := r.UserHome()
	for dir := filepath.Clean(r.Folder()); ; dir = filepath.Dir(dir) {
		path := filepath.Join(dir, ".env")
		data, err := files.Read(path, maxDotEnv)
		if errors.Is(err, fs.ErrNotExist) {
			if dir == filepath.Dir(dir) || dir == home {
				return list
			}
			continue
		}
		if err == nil {
			pairs, err = profile.FileVariables(string(data))
		}
		if err != nil {
			s.Notes = append(s.Notes, outside.Cell(path)+" was not read: "+outside.Cell(err.Error()))
			return list
		}
		from(pairs, path)
		return list
	}
}

// names gives which profile of the user's own leads to a place, and names that are free.
func (r Run) names() (taken func(place ...string) string, free func(name string) string, err error) {
	library, err := r.Library()
	if err != nil {
		return nil, nil, err
	}
	library = library.Remembering()
	entries, err := library.List()
	if err != nil {
		return nil, nil, world.Wrong("the profiles cannot be listed: %v", err)
	}
	used, at := map[string]bool{}, map[string]string{}
	for _, entry := range entries {
		used[entry.Name] = true
		stack, err := library.Load(entry.Name)
		if err != nil {
			continue
		}
		e := stack.Resolve()
		if place := e.Place(); at[place] == "" && len(e.Via) == 0 {
			at[place] = entry.Name
		}
	}
	taken = func(places ...string) string {
		for _, place := range places {
			if name := at[place]; name != "" {
				return name
			}
		}
		return ""
	}
	free = func(name string) string {
		for n := 1; ; n++ {
			each := name
			if n > 1 {
				each += "-" + strconv.Itoa(n)
			}
			if !used[each] {
				used[each] = true
				return each
			}
		}
	}
	return taken, free, nil
}

// Added is a candidate of which a profile was made, and its test.
type Added struct {
	Name   string          `json:"profile"`
	File   string          `json:"file"`
	Report *checkup.Report `json:"test,omitempty"`
	Kept   bool            `json:"stored"` // its password is in the wallet now
}

// AddFound makes a profile of a candidate and tests it. With Keep the password that was found
// goes into the wallet; where the container holds it, the profile says so otherwise.
func (r Run) AddFound(ctx context.Context, c discover.Candidate, project bool) (Added, error) {
	out := Added{Name: c.Name}
	p, err := r.edits().NewPlace(c.Name, project)
	if err != nil {
		return out, err
	}
	layer := maps.Clone(c.Layer)
	keep := c.Secret.Given() && c.Secret.Reveal() != "" && layer["user"].Text != ""
	switch {
	case !keep || r.Keep == "wallet":
	case r.Keep == "" && layer["secret"].Text == "" && r.Who.Here():
		if keep, err = world.Yes(ctx, r.Who,
			"A password of "+outside.Cell(c.Name)+" is "+c.Password+". Store it in the wallet?", false); err != nil {
			return out, err
		}
	default:
		keep = false
	}
	if keep {
		layer["secret"] = profile.Value{Text: string(secret.Wallet)}
	}
	d := &draft{Run: r, Making: Making{Run: r, Name: c.Name, Project: project, Saved: func(edits.Place) {}},
		at: p, layer: layer}
	if keep { // the wallet is opened, or made, before anything is written
		if _, err := r.WalletFor(ctx, secret.Reference{Kind: secret.Wallet}); err != nil {
			return out, err
		}
	}
	if err := d.save(ctx); err != nil {
		return out, err
	}
	out.File = p.File()
	if keep {
		if err := r.keepIn(ctx, "wallet", d.effective(), c.Secret); err != nil {
			return out, fmt.Errorf("%s was made, and its password could not be stored: %w", c.Name, err)
		}
		out.Kept = true
	}
	as := r // it was saved with what flags said
	as.Connects, as.Set = true, profile.Layer{}
	to, err := as.Load(ctx, c.Name, false)
	if err != nil {
		return out, err
	}
	out.Report, err = as.Test(ctx, to, nil)
	return out, err
}
