package discover

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"gentle-harbor/internal/container"
	"gentle-harbor/internal/container/compose"
	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/target"
)

// Candidate is a database server that was found, with the profile that it would become. Its texts
// are clean.
type Candidate struct {
	// Name is the profile's; it is free when Taken is empty.
	Name string `json:"profile"`
	// Found lists how it was found: listening, container, compose, environment.
	Found []string `json:"found"`
	// Engine is as profiles write it, Version what the server says, "" for unknown.
	Engine  string `json:"engine"`
	Version string `json:"version,omitempty"`
	// State is listening, running, stopped or another state of a container, "not made" for a
	// service without one.
	State string `json:"state"`
	// Seen has a line for each thing that was found.
	Seen []string `json:"seen"`
	// Taken is the profile of the user's own that leads there already, "" for none.
	Taken string `json:"taken,omitempty"`
	// Changed says in which parts the container is another one than at that profile's last good test.
	Changed []string `json:"changed,omitempty"`
	// Left says why no profile can be made of it, "" where one can.
	Left string `json:"left,omitempty"`
	// Settings are those of the profile.
	Settings map[string]string `json:"settings,omitempty"`
	// Password says where a password of it is, "" for none that was found.
	Password string `json:"password,omitempty"`

	Layer profile.Layer `json:"-"`
	// Defined is what a container is known by.
	Defined target.Definition `json:"-"`
	// Secret is the password that was found, with the variable that holds it.
	Secret secret.Secret `json:"-"`
	veil   outside.Veil  // what must not be shown of its settings
	id     string
	ports  []netip.AddrPort
}

// Variable is a connection string that a variable of the environment, or of a file, holds.
type Variable struct {
	profile.StringVariable
	From string // "the environment", or the file's path
}

// Input is all that was found.
type Input struct {
	Listeners  []Listener
	Containers []Contained
	Projects   []*compose.Project
	Variables  []Variable
	// Taken gives the profile that leads to a place already, "" for none.
	Taken func(place ...string) string
	// Free makes a profile's name one that nobody has.
	Free func(name string) string
}

// Contained is a container, and where its engine is.
type Contained struct {
	*container.Container
	Engine container.Engine
}

// put sets a setting of a candidate.
func (c *Candidate) put(setting, text string) {
	if text != "" {
		c.Layer[setting] = profile.Value{Text: text}
	}
}

// account takes over what the variables of a container or a service say.
func (c *Candidate) account(list []container.Account) {
	if len(list) == 0 {
		return
	}
	a := list[0]
	c.put("user", a.User)
	c.put("database", a.Database)
	switch {
	case a.Password.Given() && a.File != "":
		c.Secret, c.Password = a.Password, "in the Compose secret "+a.From
	case a.Password.Given() && a.Why == "":
		c.Secret, c.Password = a.Password, "in the variable "+a.From
	case a.Why == "empty":
		c.Secret, c.Password = a.Password, "none, as "+a.From+" says"
	case a.Why == "trust":
		c.Password = "none: the server asks for none, as its variables say"
	case a.Why == "random":
		c.Password = "one that the server made up and wrote to its log (" + a.From + ")"
	case a.File != "":
		c.Password = "in a file inside the container (" + a.From + ")"
	}
	if a.Why == "trust" {
		c.put("secret", "none")
	} else if a.Password.Given() && a.File == "" {
		c.put("secret", string(secret.Container))
	}
}

// Candidates puts together what was found: one server that was found in several ways is one
// candidate.
func Candidates(in Input) []Candidate {
	var list []*Candidate
	byContainer := map[string]*Candidate{}
	for _, each := range in.Containers {
		if c := ofContainer(each); c != nil {
			list = append(list, c)
			byContainer[c.id] = c
		}
	}
	for _, p := range in.Projects {
		for _, s := range p.Services {
			id := "service " + p.Name + "/" + s.Name
			veil := p.Veil()
			seen := fmt.Sprintf("the service %s of the project %s (%s:%d)", veil.Text(s.Name), veil.Text(p.Name), s.File, s.Line)
			if c := byContainer[id]; c != nil {
				c.add("compose", seen)
				continue
			}
			c := ofService(s, seen, veil)
			list, byContainer[id] = append(list, c), c
		}
	}
	for _, l := range in.Listeners {
		if !known.Database(l.Answer) {
			continue
		}
		seen := l.Answer.Title + " answers on " + l.Place()
		if l.Process != "" {
			seen += " (the program " + l.Process + ")"
		}
		if c := at(list, l.Address); c != nil && l.Socket == "" {
			c.add("listening", seen)
			c.Version = cmp.Or(c.Version, l.Answer.Version)
			continue
		}
		c := ofListener(l)
		if by, inside := publisher(in.Containers, l); by != nil {
			info, _ := known.Info(l.Answer.Kind)
			c = ofServer(*by, info, "the image is of no name that is known; what answers at its "+
				"published port is "+l.Answer.Title,
				inside)
			c.Version = l.Answer.Version
		}
		c.add("listening", seen)
		list = append(list, c)
	}
	for _, v := range in.Variables {
		seen := "the variable " + v.Name + " of " + v.From
		if v.Err != nil {
			list = append(list, &Candidate{Name: v.Name, Found: []string{"environment"}, Seen: []string{seen},
				Left: v.Err.Error(), State: "unknown"})
			continue
		}
		place, service := placeOfVariable(v)
		var c *Candidate
		if service != "" {
			for _, each := range list {
				if strings.HasPrefix(each.Layer["container"].Text, service+"@") && sameFamily(each.Engine, v.Layer["engine"].Text) {
					c = each
				}
			}
		}
		if c == nil && place.IsValid() {
			if c = at(list, place); c != nil && !sameFamily(c.Engine, v.Layer["engine"].Text) {
				c = nil
			}
		}
		if c == nil {
			c = ofVariable(v)
			list = append(list, c)
		}
		c.add("environment", seen)
		c.fromVariable(v)
	}
	out := make([]Candidate, 0, len(list))
	for _, c := range list {
		c.finish(in)
		out = append(out, *c)
	}
	slices.SortStableFunc(out, func(a, b Candidate) int { return rankOf(a) - rankOf(b) })
	return out
}

// publisher gives the container that publishes the port of a listener, and the port inside; nil
// for none.
func publisher(all []Contained, l Listener) (*Contained, int) {
	if l.Socket != "" {
		return nil, 0
	}
	for i := range all {
		if by, inside := container.PublishedBy([]*container.Container{all[i].Container},
			l.Address); by != nil && all[i].Engine.Local() && !all[i].OneOff {
			return &all[i], inside
		}
	}
	return nil, 0
}

// rankOf orders candidates: what can be used first.
func rankOf(c Candidate) int {
	switch {
	case c.Left != "":
		return 3
	case c.Taken != "":
		return 2
	case c.State == "listening" || c.State == "running":
		return 0
	}
	return 1
}

func (c *Candidate) add(way, seen string) {
	if !slices.Contains(c.Found, way) {
		c.Found = append(c.Found, way)
	}
	c.Seen = append(c.Seen, outside.Cell(seen))
}

// sameFamily reports whether two engines speak one protocol.
func sameFamily(a, b string) bool {
	first, _ := known.Info(a)
	second, _ := known.Info(b)
	return first.Family == second.Family
}

// at gives the candidate that is published at an address.
func at(list []*Candidate, address netip.AddrPort) *Candidate {
	for _, c := range list {
		for _, each := range c.ports {
			if each.Port() == address.Port() &&
				(each.Addr() == address.Addr() || each.Addr().IsUnspecified() ||
					address.Addr().IsLoopback() && each.Addr().IsLoopback()) {
				return c
			}
		}
	}
	return nil
}

// ofContainer makes a candidate of a container, nil for one that is no database's by its image or
// its variables.
func ofContainer(each Contained) *Candidate {
	how := ""
	info, named, is := container.EngineFor(each.Repository, each.Variables())
	if !named {
		how = byVariables(info)
	}
	if !is || each.OneOff {
		return nil
	}
	return ofServer(each, info, how, 0)
}

// byVariables says how it is known what an image of someone's own is.
func byVariables(info engine.Info) string {
	return "the image is of no name that is known; the variables are those of the images of " + info.Title
}

// ofServer makes a candidate of a container that has a server; how says how that is known, where
// the image does not show it, and at the port inside at which it answered, 0 for unknown.
func ofServer(each Contained, info engine.Info, how string, at int) *Candidate {
	accounts := container.AccountsOf(info.Image, each.Variables())
	if at != 0 { // no variable says an account: it is not known
		accounts = nil
	}
	words := each.Words()
	name := "containers/" + each.Name
	id := "container " + each.ID
	if words.Service != "" {
		name, id = each.Project+"/"+each.Service, "service "+each.Project+"/"+each.Service
		if each.Number > 1 {
			id += fmt.Sprintf("#%d", each.Number)
			words.Number, name = each.Number, name+fmt.Sprintf("-%d", each.Number)
		}
	}
	c := &Candidate{Name: name, Engine: info.Name, State: each.State, Layer: profile.Layer{}, id: id,
		Defined: target.ContainerFacts{Engine: each.Engine.ID(), Repository: each.Repository,
			Project: each.Project, Folder: each.Folder, Start: each.Start}.Define()}
	if c.State == "exited" {
		c.State = "stopped"
	}
	c.put("engine", info.Name)
	c.account(accounts)
	inside := info.Port
	c.add("container", fmt.Sprintf("the container %s with the image %s, %s, at the container engine %s",
		each.Name, each.Image, c.State, each.Engine.Place()))
	if how != "" {
		c.Seen = append(c.Seen, how)
	}
	var others []int
	published := false
	for _, p := range each.Published {
		if p.Inside != info.Port {
			others = append(others, p.Inside)
			continue
		}
		published = true
	}
	switch {
	case at != 0 && at != info.Port:
		inside, words.Port = at, at
	case at == 0 && !published && len(others) == 1:
		inside, words.Port = others[0], others[0]
	}
	for _, p := range each.Published {
		if p.Inside != inside {
			continue
		}
		addr := p.Address
		c.ports = append(c.ports, netip.AddrPortFrom(addr, uint16(p.Port)))
		c.Seen = append(c.Seen, outside.Cell(fmt.Sprintf("its port %d is published at %s", inside,
			netip.AddrPortFrom(addr, uint16(p.Port)))))
	}
	if each.HostNetwork {
		c.ports = append(c.ports, netip.AddrPortFrom(netip.IPv4Unspecified(), uint16(inside)))
	}
	for _, n := range each.Networks {
		c.ports = append(c.ports, netip.AddrPortFrom(n.Address, uint16(inside)))
	}
	if made, err := target.NewContained(words); err == nil {
		c.put("container", profile.ContainerText(made))
	} else {
		c.Left = "its name is none that a profile can have"
	}
	if each.Health == "unhealthy" {
		c.Seen = append(c.Seen, "its health check says unhealthy")
	}
	if len(each.Mounts) == 0 && each.State == "running" {
		c.Seen = append(c.Seen, "it has no volume: its data goes when the container is removed")
	}
	return c
}

// ofService makes a candidate of a service that has no container.
func ofService(s compose.Service, seen string, veil outside.Veil) *Candidate {
	c := &Candidate{Name: veil.Text(s.Project) + "/" + s.Name, veil: veil, Engine: s.Engine.Name,
		State: "not made", Layer: profile.Layer{}}
	c.add("compose", seen)
	if !s.Named && s.Image != "" {
		c.Seen = append(c.Seen, byVariables(s.Engine))
	}
	c.put("engine", s.Engine.Name)
	c.account(s.Accounts)
	words := target.Contained{Service: s.Name, Project: s.Project}
	if len(s.Ports) == 1 && s.Ports[0].Inside != s.Engine.Port {
		words.Port = s.Ports[0].Inside
	}
	if made, err := target.NewContained(words); err == nil {
		c.put("container", profile.ContainerText(made))
	} else {
		c.Left = "its name is none that a profile can have"
	}
	if len(s.Profiles) > 0 {
		c.Seen = append(c.Seen, outside.Cell("it is started only with the Compose profile "+veil.Text(strings.Join(s.Profiles,
			" or "))))
	}
	for _, p := range s.Ports {
		seen := fmt.Sprintf("it publishes its port %d at %s", p.Inside,
			cmp.Or(veil.Text(p.Outside), "a port that is chosen at the start"))
		if p.Address != "" {
			seen += " of " + veil.Text(p.Address)
		}
		c.Seen = append(c.Seen, outside.Cell(seen))
	}
	if len(s.Ports) == 0 && !s.HostNetwork {
		c.Seen = append(c.Seen, "it publishes no port")
	}
	return c
}

// ofListener makes a candidate of a port or a socket.
func ofListener(l Listener) *Candidate {
	c := &Candidate{Engine: l.Answer.Kind, Version: l.Answer.Version, State: "listening", Layer: profile.Layer{}}
	c.put("engine", l.Answer.Kind)
	if l.Socket != "" {
		c.Name = "local/" + l.Answer.Kind + "-socket"
		c.put("socket", l.Socket)
		return c
	}
	c.Name = "local/" + l.Answer.Kind + "-" + l.Port()
	host := l.Address.Addr().String()
	if host == "127.0.0.1" {
		c.ports = append(c.ports, l.Address)
	}
	c.ports = append(c.ports, l.Address)
	c.put("host", host)
	c.put("port", l.Port())
	return c
}

// placeOfVariable gives the address of this machine that a variable's string leads to, and the
// name of a service that it may mean.
func placeOfVariable(v Variable) (place netip.AddrPort, service string) {
	host, port := strings.ToLower(v.Layer["host"].Text), v.Layer["port"].Text
	if port == "" {
		info, _ := known.Info(v.Layer["engine"].Text)
		port = strconv.Itoa(info.Port)
	}
	n, _ := strconv.Atoi(port)
	if container.IsEngineHost(host) || target.IsLoopback(host) || host == "" {
		return netip.AddrPortFrom(netip.AddrFrom4([4]byte{127, 0, 0, 1}), uint16(n)), ""
	}
	if addr, err := netip.ParseAddr(host); err == nil {
		return netip.AddrPortFrom(addr.Unmap(), uint16(n)), ""
	}
	if !strings.Contains(host, ".") {
		service = host
	}
	return place, service
}

// ofVariable makes a candidate of a connection string that leads to nothing else that was found.
func ofVariable(v Variable) *Candidate {
	c := &Candidate{Engine: v.Layer["engine"].Text, State: "not looked at", Layer: profile.Layer{}}
	c.Name = "environment/" + strings.ToLower(strings.ReplaceAll(v.Name, "_", "-"))
	for name, value := range v.Layer {
		if name != "note" {
			c.put(name, value.Text)
		}
	}
	if container.IsEngineHost(v.Layer["host"].Text) {
		c.put("host", "localhost")
		c.Seen = append(c.Seen, outside.Cell(v.Layer["host"].Text+" is a container engine's name for its own "+
			"host: from here that is localhost"))
	}
	if _, service := placeOfVariable(v); service != "" {
		c.Left = "its host " + outside.Cell(service) + " has no dot: it may be a name that is known only inside containers"
	}
	if len(v.Hosts) > 1 {
		c.Left = "it names several hosts; gharbor import makes an alias of them"
	}
	return c
}

// fromVariable takes over the user, the database and the password where nothing better said them.
func (c *Candidate) fromVariable(v Variable) {
	for _, name := range []string{"user", "database"} {
		if c.Layer[name].Text == "" {
			c.put(name, v.Layer[name].Text)
		}
	}
	if v.Secret.Given() && v.Secret.Reveal() != "" && c.Password == "" && c.Layer["user"].Text == v.Layer["user"].Text {
		c.Secret, c.Password = v.Secret, "in the variable "+v.Name
	}
}

// finish gives the candidate its name, and says whether a profile leads there already.
func (c *Candidate) finish(in Input) {
	for _, each := range []*string{&c.Version, &c.Password, &c.Left} {
		*each = outside.Cell(*each)
	}
	if c.Layer == nil {
		return
	}
	c.Settings = map[string]string{}
	for name, value := range c.Layer {
		if !outside.Clean(value.Text) {
			c.Left = "its " + name + " has a character that cannot be seen"
		}
		c.Settings[name] = outside.Cell(value.Text)
		if c.veil.Holds(value.Text) {
			c.Settings[name] = c.veil.Text(value.Text)
		}
		if s, is := profile.Find(name); is && s.Check(value.Text) != nil && c.Left == "" {
			c.Left = "its " + name + " is none that a profile can have"
		}
	}
	var places []string
	if text := c.Layer["container"].Text; text != "" {
		places = append(places, "container:"+text)
		for _, seen := range in.Containers { // the same container by its name
			if words := seen.Words(); words.Service != "" && profile.ContainerText(words) == text {
				places = append(places, "container:"+seen.Name)
			}
		}
	}
	if host := c.Layer["host"].Text; host != "" {
		places = append(places, host+":"+c.Layer["port"].Text)
	}
	for _, each := range c.ports {
		places = append(places, "127.0.0.1:"+fmt.Sprint(each.Port()), "localhost:"+fmt.Sprint(each.Port()),
			"[::1]:"+fmt.Sprint(each.Port()))
		if !each.Addr().IsUnspecified() {
			places = append(places, each.String())
		}
	}
	if path := c.Layer["socket"].Text; path != "" {
		places = append(places, path)
	}
	if in.Taken != nil {
		c.Taken = in.Taken(places...)
	}
	c.Name = profile.PlainName(c.Name)
	if in.Free != nil && c.Taken == "" {
		c.Name = in.Free(c.Name)
	}
}
