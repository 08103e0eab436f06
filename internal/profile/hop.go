package profile

import (
	"fmt"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"gentle-harbor/internal/secret"
	"gentle-harbor/internal/target"
)

// hopKeys are the keys of a hop that is written as a map, in the order in which they are shown.
var hopKeys = []string{"host", "user", "port", "key", "certificate", "secret", "agent", "known-hosts"}

// ParseHop reads a hop: [user@]host[:port], or a map in braces with the keys host, user, port,
// key, certificate, secret, agent and known-hosts. Its paths stay as they are written.
func ParseHop(text string) (target.Hop, error) {
	if !strings.HasPrefix(strings.TrimSpace(text), "{") {
		return target.ParseHop(text)
	}
	parts, err := inBraces(text, "a hop",
		"[user@]host[:port], or a map such as {host: gate.fellside.example, user: ops, key: ~/.ssh/id_gate}")
	if err != nil {
		return target.Hop{}, err
	}
	return hopOf(parts)
}

// inBraces reads a map in braces whose values are words, as a flag has it. What and form are for
// its error.
func inBraces(text, what, form string) (map[string]string, error) {
	var document yaml.Node
	if err := yaml.Unmarshal([]byte(text), &document); err != nil || len(document.Content) != 1 ||
		document.Content[0].Kind != yaml.MappingNode {
		return nil, fmt.Errorf("%s is %s", what, form)
	}
	parts := map[string]string{}
	node := document.Content[0]
	for i := 0; i+1 < len(node.Content); i += 2 {
		name, value := node.Content[i], node.Content[i+1]
		if name.Kind != yaml.ScalarNode || value.Kind != yaml.ScalarNode || value.Style&yaml.TaggedStyle != 0 ||
			value.Anchor != "" || name.Anchor != "" {
			return nil, fmt.Errorf("each part of %s is one word", what)
		}
		if _, twice := parts[name.Value]; twice {
			return nil, fmt.Errorf("%s is said twice in %s", quoted(name.Value), what)
		}
		parts[name.Value] = value.Value
	}
	return parts, nil
}

// braces writes a map in braces as inBraces reads it: the keys that have a value, in order.
func braces(keys []string, values map[string]string) string {
	var parts []string
	for _, name := range keys {
		if values[name] != "" {
			parts = append(parts, name+": "+flowWord(values[name]))
		}
	}
	return "{" + strings.Join(parts, ", ") + "}"
}

// hopOf makes a hop of its parts.
func hopOf(parts map[string]string) (target.Hop, error) {
	var h target.Hop
	into := map[string]*string{"host": &h.Host, "user": &h.User, "key": &h.Key, "certificate": &h.Certificate,
		"secret": &h.Secret, "agent": &h.Agent, "known-hosts": &h.KnownHosts}
	for name, value := range parts {
		to, known := into[name]
		switch {
		case name == "port":
			if err := checkPort(value); err != nil {
				return h, err
			}
			h.Port, _ = strconv.Atoi(value)
			continue
		case !known:
			if near := Nearest(name, hopKeys); near != "" {
				return h, fmt.Errorf("%s is no part of a hop; did you mean %s?", quoted(name), near)
			}
			return h, fmt.Errorf("%s is no part of a hop; it has %s", quoted(name), strings.Join(hopKeys, ", "))
		}
		if err := checkPath(value); err != nil {
			return h, fmt.Errorf("the hop's %s %w", name, err)
		}
		*to = value
	}
	if h.Secret != "" {
		if _, err := secret.ParseReference(h.Secret); err != nil {
			return h, fmt.Errorf("the hop's secret: %w", err)
		}
	}
	return target.NewHop(h)
}

// HopText writes a hop as ParseHop reads it: short where that says all, else as a map in braces.
func HopText(h target.Hop) string {
	if h.Key+h.Certificate+h.Secret+h.Agent+h.KnownHosts == "" {
		bare := h
		bare.Host = h.Host
		return hopAsWritten(bare)
	}
	values := map[string]string{"host": h.Host, "user": h.User, "key": h.Key, "certificate": h.Certificate,
		"secret": h.Secret, "agent": h.Agent, "known-hosts": h.KnownHosts}
	if h.Port != 0 {
		values["port"] = strconv.Itoa(h.Port)
	}
	return braces(hopKeys, values)
}

// hopAsWritten is the hop's own text with the case of its host: a Host of the SSH configuration
// minds it.
func hopAsWritten(h target.Hop) string {
	text := h.String()
	lower := strings.ToLower(h.Host)
	if at := strings.LastIndex(text, lower); at >= 0 && lower != h.Host {
		text = text[:at] + h.Host + text[at+len(lower):]
	}
	return text
}

// flowWord writes a word inside a map in braces, in quotes where it could be misread.
func flowWord(text string) string {
	if text != "" && !strings.ContainsAny(text, " \t\n,[]{}:#&*!|>'\"%@`\\") && text[0] != '-' && text[0] != '?' {
		return text
	}
	return strconv.Quote(text)
}

func checkHop(text string) error {
	_, err := ParseHop(text)
	return err
}

// hops gives the hops of the setting via with their paths resolved, from where they are said.
func (d Decided) hops(path func(Value) string) []target.Hop {
	v := d.Values["via"]
	var list []target.Hop
	for _, text := range v.List {
		h, err := ParseHop(text)
		if err != nil {
			continue // it was checked when it was read
		}
		for _, part := range []*string{&h.Key, &h.Certificate, &h.KnownHosts} {
			*part = path(Value{Text: *part, Origin: v.Origin})
		}
		if h.Agent != "none" {
			h.Agent = path(Value{Text: h.Agent, Origin: v.Origin})
		}
		if ref, err := secret.ParseReference(h.Secret); err == nil && h.Secret != "" && ref.Of != "" &&
			(ref.Kind == secret.File || ref.Kind == secret.Credentials) {
			ref.Of = path(Value{Text: ref.Of, Origin: v.Origin})
			h.Secret = ref.String()
		}
		list = append(list, h)
	}
	return list
}

// strangeHop says why a project's file may not say a hop: a project says where to go, and each
// person how they log in there.
func strangeHop(h target.Hop) error {
	if h.Key+h.Certificate+h.Secret+h.Agent+h.KnownHosts != "" {
		return fmt.Errorf("a project's file says a hop's host, user and port alone; say the rest in your SSH " +
			"configuration, or in a profile of your own with `base: project:…`")
	}
	return nil
}

// maps reads a setting that is a list of texts, or of maps that stand for one.
func (r *reader) maps(setting string, value *yaml.Node) {
	s, _ := Find(setting)
	if value.Kind != yaml.SequenceNode {
		r.list(setting, value)
		return
	}
	if most := map[bool]int{true: maxHops, false: maxMaps}[setting == "via"]; len(value.Content) > most {
		r.fail(value, "%s has %d items; it has at most %d", setting, len(value.Content), most)
		return
	}
	var items []string
	for _, item := range value.Content {
		if !r.plain(item) {
			return
		}
		text := item.Value
		if item.Kind == yaml.MappingNode {
			parts, ok := r.words(item)
			if !ok {
				return
			}
			var err error
			if text, err = textOf(setting, parts); err != nil {
				r.fail(item, "%s: %v", setting, err)
				return
			}
		} else if item.Kind != yaml.ScalarNode || text == "" {
			r.fail(item, "each item of %s is a text, or a map", setting)
			return
		}
		if err := s.Check(text); err != nil {
			r.fail(item, "%s: %v", setting, err)
			return
		}
		items = append(items, text)
	}
	r.layer[setting] = ListValue(items, r.at(value))
}

// words reads a map whose values are words.
func (r *reader) words(node *yaml.Node) (parts map[string]string, ok bool) {
	parts, errs := map[string]string{}, len(r.errs)
	r.pairs(node, func(key string, name, value *yaml.Node) {
		if value.Kind != yaml.ScalarNode {
			r.fail(value, "%s is one word here", key)
		}
		parts[key] = value.Value
	})
	return parts, len(r.errs) == errs
}

// textOf writes an item of a list that a file has as a map, as a text.
func textOf(setting string, parts map[string]string) (string, error) {
	if setting == "addresses" {
		return addressOf(parts)
	}
	h, err := hopOf(parts)
	return HopText(h), err
}
