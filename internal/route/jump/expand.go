package jump

import (
	"strings"

	"gentle-harbor/internal/target"
)

// maxHops is how many hops a route may have.
const maxHops = 16

// Expand puts the hops that the configuration's ProxyJump names before the first hop of a route.
// Later hops are reached through the ones that the route itself names. The error is a
// *finding.Problem.
func (c Config) Expand(hops []target.Hop) ([]target.Hop, error) {
	if len(hops) == 0 {
		return hops, nil
	}
	seen := map[string]bool{}
	for len(hops) < maxHops {
		first := hops[0]
		settings, err := c.For(first.Host, first.User)
		if err != nil {
			return nil, err
		}
		word := settings.One["proxyjump"]
		if word.Text == "" || strings.EqualFold(word.Text, "none") {
			return hops, nil
		}
		if seen[first.Host] {
			return nil, broken(word, "ProxyJump leads back to %s", first.Host)
		}
		seen[first.Host] = true
		var before []target.Hop
		for _, text := range strings.Split(word.Text, ",") {
			hop, err := target.ParseHop(strings.TrimSuffix(strings.TrimPrefix(strings.TrimSpace(text), "ssh://"), "/"))
			if err != nil {
				return nil, broken(word, "ProxyJump: %v", err)
			}
			before = append(before, hop)
		}
		hops = append(before, hops...)
	}
	return nil, broken(Word{File: c.User, Line: 1}, "the route has more than %d hops", maxHops)
}

// Commands gives the programs of the configuration that a route runs (ProxyCommand), each as it
// is given to the shell: what a project's hop would make this machine do. The error is a
// *finding.Problem.
func (c Config) Commands(hops []target.Hop) ([]string, error) {
	hops, err := c.Expand(hops)
	if err != nil || len(hops) == 0 {
		return nil, err
	}
	a := &attempt{Hop: &Hop{Hop: hops[0], Config: c, Strange: true}}
	if err := a.aim(); err != nil {
		return nil, err
	}
	line, _, err := a.commandLine()
	if err != nil || line == "" {
		return nil, err
	}
	return []string{line}, nil
}
