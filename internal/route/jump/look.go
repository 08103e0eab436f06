package jump

import (
	"os"
	"slices"
	"strings"

	"gentle-harbor/internal/target"
)

// Seen is what can be seen of a hop before anybody goes there.
type Seen struct {
	Hop target.Hop
	// Keys are the private key files that a login would look at, of those that exist.
	Keys []string
	// Forwards is where the configuration lets OpenSSH forward the agent to this hop, and
	// Unchecked where it lets OpenSSH take any host key; the zero Word for nowhere. Neither is
	// ever done here.
	Forwards, Unchecked Word
	// Known says that a host key of the hop is known.
	Known bool
	// Err is why the configuration does not serve this hop, a *finding.Problem.
	Err error
}

// Look looks at the hops of a route, those of ProxyJump included; own is the program's own file
// of host keys. Nothing is connected to, and no program runs.
func (c Config) Look(hops []target.Hop, own string) []Seen {
	all, err := c.Expand(hops)
	if err != nil {
		return []Seen{{Hop: hops[0], Err: err}}
	}
	var list []Seen
	for i, each := range all {
		seen := Seen{Hop: each}
		a := &attempt{Hop: &Hop{Hop: each, Before: all[:i], Config: c, Own: own}}
		if seen.Err = a.decide(); seen.Err == nil {
			seen.look(a)
		}
		list = append(list, seen)
	}
	return list
}

func (s *Seen) look(a *attempt) {
	for _, line := range slices.Concat(a.trust.theirs, a.trust.bare, a.trust.own) {
		s.Known = s.Known || line.Marker != markRevoked
	}
	paths, _, err := (&purse{hop: a, settings: a.settings, user: a.user, tokens: a.tokens()}).paths()
	s.Err = err
	for _, path := range paths {
		if info, err := os.Stat(path); err == nil && info.Mode().IsRegular() && !strings.HasSuffix(path, ".pub") {
			s.Keys = append(s.Keys, path)
		}
	}
	if word := a.settings.One["forwardagent"]; word.Text != "" && !strings.EqualFold(word.Text, "no") {
		s.Forwards = word
	}
	for _, word := range []Word{a.settings.One["stricthostkeychecking"], a.settings.One["userknownhostsfile"]} {
		switch strings.ToLower(word.Text) {
		case "no", "off", "/dev/null", "none":
			s.Unchecked = word
		}
	}
}

// NameIn gives the name that a hop's keys have in the program's own file, as the configuration
// leads to the hop. The error is a *finding.Problem.
func (c Config) NameIn(h target.Hop) (string, error) {
	list, err := c.Expand([]target.Hop{h})
	if err != nil {
		return "", err
	}
	last := len(list) - 1
	a := &attempt{Hop: &Hop{Hop: list[last], Before: list[:last], Config: c}}
	if err := a.aim(); err != nil {
		return "", err
	}
	return a.ownName(), nil
}
