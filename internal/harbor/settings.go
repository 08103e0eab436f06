package harbor

import (
	"errors"
	"fmt"
	"strings"

	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/profile"
)

// AsFlags gives a layer's settings as the flags that set them, each with its value.
func AsFlags(layer profile.Layer) [][]string {
	var flags [][]string
	for _, name := range layer.Names() {
		s, _ := profile.Find(name)
		prefix := ""
		if _, key, nested := strings.Cut(name, "."); nested && s.Keyed() {
			prefix = key + "="
		}
		items := layer[name].List
		if items == nil {
			items = []string{layer[name].Text}
		}
		for _, item := range items {
			flags = append(flags, []string{"--" + s.Flag, prefix + item})
		}
	}
	return flags
}

// Take checks a setting's value, as given outside of files, and puts it into a layer. A host that
// was pasted with a port behind it is taken apart; a key of a free map is written NAME=VALUE.
func Take(layer profile.Layer, s profile.Setting, text string, origin profile.Origin) error {
	name := s.Name
	if group, free := strings.CutSuffix(s.Name, "."); free {
		key, value, ok := strings.Cut(text, "=")
		if !ok || key == "" {
			return fmt.Errorf("write NAME=VALUE")
		}
		name, text = group+"."+key, value
		if _, known := profile.Find(name); !known {
			return fmt.Errorf("write NAME=VALUE, where NAME %s", profile.KeyRule)
		}
	}
	if s.Name == "engine" {
		if name, ok := profile.EngineOf(text); ok {
			text = name
		}
	}
	if s.Type == profile.Host && text != "" {
		host, port, err := profile.SplitHost(text)
		if err != nil {
			return err
		}
		if port != "" {
			if given, ok := layer["port"]; ok && given.Text != port {
				return fmt.Errorf("names the port %s, and --port names %s; keep one of them", port, given.Text)
			}
			layer["port"] = profile.Value{Text: port, Origin: origin}
		}
		text = host
	}
	if s.Type == profile.Port {
		if given, ok := layer["port"]; ok && given.Origin.Name != origin.Name && given.Text != text {
			return fmt.Errorf("says another port than the host was given with, which is %s; keep one of them", given.Text)
		}
	}
	if text != "" {
		err := s.Check(text)
		var value *profile.ValueError
		if errors.As(err, &value) {
			return errors.New(value.Rule())
		}
		if err != nil {
			return err
		}
	}
	if s.IsList() {
		var items []string
		if text != "" {
			items = append(layer[name].List, text)
		}
		layer[name] = profile.ListValue(items, origin)
		return nil
	}
	layer[name] = profile.Value{Text: text, Origin: origin}
	return nil
}

// Reserved are the variables that are no settings.
var Reserved = []string{"GHARBOR_ALIASES", "GHARBOR_HOME", "GHARBOR_OWNER", "GHARBOR_PROFILE", "GHARBOR_SHELL",
	"GHARBOR_WALLET"}

// FromVariables reads the settings that the environment overrides.
func (r Run) FromVariables() (profile.Layer, error) {
	layer := profile.Layer{}
	for _, s := range profile.Settings {
		name := s.Variable()
		text, set := r.Env(name)
		if name == "" || !set || text == "" {
			continue
		}
		if err := Take(layer, s, text, profile.Origin{Layer: profile.LayerEnvironment, Name: name}); err != nil {
			return nil, world.Wrong("the environment variable %s: %v", name, err)
		}
	}
	return layer, nil
}
