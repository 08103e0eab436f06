package profile

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"gentle-harbor/internal/engine/known"
)

// partSet is the variables of a file that hold the parts of one connection: those with the same
// words before the name of a part.
type partSet struct {
	Parsed
	before string            // such as HUT_DB, "" where the names are the parts' alone
	parts  map[string]string // the variable of each part
	engine string            // that the names are of, "" where they do not say
	err    error             // of the first part that cannot be what it is called
}

// partOf takes a variable's name apart: HUT_DB_USER_NAME is the user of HUT_DB, PGHOST the host
// of PG. Part is "" where it is no part's name.
func partOf(name string) (before, part, engine string) {
	for _, info := range known.Infos() {
		for _, prefix := range info.Prefixes {
			rest, begins := strings.CutPrefix(name, prefix)
			if first, _, _ := strings.Cut(name, "_"); first == prefix {
				engine = info.Name
			}
			if begins && rest != "" && !strings.Contains(rest, "_") && labelOf(rest) != "" {
				return prefix, labelOf(rest), info.Name
			}
		}
	}
	words := strings.Split(name, "_")
	for i := range words {
		part = labelOf(strings.Join(words[i:], ""))
		if part == "" {
			continue
		}
		// DB_HOST is the host of DB, as DB_PASSWORD is its password.
		for i+1 < len(words) && labelOf(strings.Join(words[i+1:], "")) == part {
			i++
		}
		return strings.Join(words[:i], "_"), part, engine
	}
	return "", "", engine
}

// sure says how surely a set is of a database: 0 for not.
func (s *partSet) sure() int {
	has := func(parts ...string) bool {
		return slices.ContainsFunc(parts, func(part string) bool { return s.parts[part] != "" })
	}
	words := strings.FieldsFunc(strings.ToLower(s.before), func(r rune) bool { return r == '_' })
	switch {
	case has("engine") && s.Layer["engine"].Text == "":
		return 0 // of another kind of server
	case has("engine"), s.engine != "",
		slices.ContainsFunc(words, func(w string) bool {
			return w == "db" || w == "database" || strings.HasSuffix(w, "sql")
		}):
		if has("host", "socket", "database", "user") {
			return 3
		}
		return 0
	case has("host", "socket") && has("database"):
		return 2
	case has("host", "socket") && has("user", "port", "password"):
		return 1
	}
	return 0
}

// takeParts reads variables that hold a part of a connection each, by the ends of their names.
// Those of other servers (a mail server's, a cache's) are told apart by what comes before.
func takeParts(pairs map[string]string, how Reading) (Parsed, error) {
	sets := map[string]*partSet{}
	for _, name := range slices.Sorted(maps.Keys(pairs)) {
		before, part, engine := partOf(name)
		if part == "" || part == "uri" {
			continue // a connection string of ours would have been found
		}
		s := sets[before]
		if s == nil {
			s = &partSet{Parsed: Parsed{Layer: Layer{}}, before: before, parts: map[string]string{}}
			sets[before] = s
		}
		if s.parts[part] == "" {
			s.parts[part] = name
		}
		if s.engine == "" {
			s.engine = engine
		}
		if _, err := s.label(part, pairs[name], how); err != nil && s.err == nil {
			s.err = fmt.Errorf("the variable %s: %s", name, strings.TrimPrefix(err.Error(), part+": "))
		}
	}
	var best []*partSet
	for _, before := range slices.Sorted(maps.Keys(sets)) {
		s := sets[before]
		switch {
		case how.Variable != "" && !slices.Contains(slices.Collect(maps.Values(s.parts)), how.Variable),
			how.Variable == "" && s.sure() == 0:
		case len(best) == 0 || how.Variable != "" || s.sure() > best[0].sure():
			best = []*partSet{s}
		case s.sure() == best[0].sure():
			best = append(best, s)
		}
	}
	switch len(best) {
	case 0:
		for _, before := range slices.Sorted(maps.Keys(sets)) {
			if err := sets[before].err; err != nil {
				return Parsed{}, err
			}
		}
		if other := slices.DeleteFunc(slices.Sorted(maps.Keys(pairs)), func(name string) bool {
			return !strings.Contains(pairs[name], "://")
		}); len(other) > 0 {
			return Parsed{}, fmt.Errorf("no variable is a connection string with a scheme that is known here "+
				"(%s); others are %s",
				strings.Join(Schemes(), ", "), strings.Join(other, ", "))
		}
		return Parsed{}, errors.New("no variable is a connection string, and none is named as a part of one " +
			"(…_HOST, …_PORT, …_USER, …_DATABASE)")
	case 1:
		return best[0].whole(pairs, how)
	}
	several := &Several{}
	for _, s := range best {
		for _, part := range []string{"host", "socket", "database", "user", "password"} {
			if name := s.parts[part]; name != "" {
				several.Names = append(several.Names, name)
				break
			}
		}
	}
	return Parsed{}, several
}

// whole gives what a set says, with the parameters that are named like its parts.
func (s *partSet) whole(pairs map[string]string, how Reading) (Parsed, error) {
	if s.err != nil {
		return s.Parsed, s.err
	}
	if s.engine != "" && s.Layer["engine"].Text == "" {
		s.Layer["engine"] = Value{Text: s.engine, Origin: Origin{Layer: LayerImport}}
	}
	// PGHOST
	joined := slices.ContainsFunc(slices.Collect(maps.Values(s.parts)), func(name string) bool {
		return !strings.HasPrefix(name, s.before+"_")
	})
	for _, name := range slices.Sorted(maps.Keys(pairs)) {
		rest, begins := strings.CutPrefix(name, s.before)
		before, part, _ := partOf(name)
		if s.before == "" || !begins || rest == "" || !joined && rest[0] != '_' || part == "uri" ||
			part != "" && before == s.before {
			continue
		}
		if err := s.parameter(strings.TrimPrefix(rest, "_"), pairs[name], s.sets(LayerImport)); err != nil {
			return s.Parsed, fmt.Errorf("the variable %s: %w", name, err)
		}
	}
	return s.Parsed, s.finish(s.sets(LayerImport), how.Without)
}
