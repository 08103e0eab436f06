package profile

import (
	"bytes"
	"path/filepath"
	"strings"

	"gentle-harbor/internal/files"
	"gentle-harbor/internal/secret"

	"go.yaml.in/yaml/v3"
)

// Render writes a layer as a new profile's file. Parse gives the same values back.
func Render(layer Layer) ([]byte, error) {
	root := &yaml.Node{Kind: yaml.MappingNode}
	inner := map[string]*yaml.Node{}
	for _, name := range layer.Names() {
		at := root
		group, key, nested := strings.Cut(name, ".")
		if nested {
			if inner[group] == nil {
				inner[group] = &yaml.Node{Kind: yaml.MappingNode}
				root.Content = append(root.Content, scalarNode(group), inner[group])
			}
			at = inner[group]
		} else {
			key = name
		}
		value := valueNode(layer[name])
		if s, _ := Find(name); s.Type == Port {
			value.Tag = "!!int"
		}
		at.Content = append(at.Content, scalarNode(key), value)
	}
	var out bytes.Buffer
	encoder := yaml.NewEncoder(&out)
	encoder.SetIndent(2)
	if len(root.Content) == 0 {
		return nil, nil
	}
	if err := encoder.Encode(root); err != nil {
		return nil, err
	}
	return out.Bytes(), encoder.Close()
}

// valueNode writes a value as YAML, a list in one line.
func valueNode(v Value) *yaml.Node {
	if v.List == nil {
		return scalarNode(v.Text)
	}
	list := &yaml.Node{Kind: yaml.SequenceNode, Style: yaml.FlowStyle}
	for _, item := range v.List {
		var document yaml.Node
		if strings.HasPrefix(item, "{") && yaml.Unmarshal([]byte(item), &document) == nil &&
			len(document.Content) == 1 && document.Content[0].Kind == yaml.MappingNode {
			list.Content = append(list.Content, document.Content[0]) // a map that the text stands for
			continue
		}
		list.Content = append(list.Content, scalarNode(item))
	}
	return list
}

func scalarNode(text string) *yaml.Node {
	return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: text}
}

// Placed gives values of a run as a file is to say them. A relative path of a flag starts at the
// folder that the program works in, and one in a file starts at the file: it is made absolute, or
// in a project's file, where it is inside the project, relative to the file. What begins with ~
// stays.
func (s Store) Placed(layer Layer, file, dir string) Layer {
	place := func(text string) string {
		if text == "" || strings.HasPrefix(text, "~") || filepath.IsAbs(text) {
			return text
		}
		path := files.World{}.Absolute(text, dir)
		if s.Project && s.Inside(path) == nil {
			if near, err := filepath.Rel(filepath.Dir(file), path); err == nil {
				return filepath.ToSlash(near)
			}
		}
		return path
	}
	placed := Layer{}
	for name, v := range layer {
		setting, _ := Find(name)
		switch {
		case v.Origin.File != "" || v.Text == "":
		case setting.Type == Path:
			v.Text = place(v.Text)
		case setting.Type == SecretRef:
			if ref, err := secret.ParseReference(v.Text); err == nil && ref.Of != "" &&
				(ref.Kind == secret.File || ref.Kind == secret.Credentials) {
				ref.Of = place(ref.Of)
				v.Text = ref.String()
			}
		case setting.Type == Maps:
			items := make([]string, len(v.List))
			for i, text := range v.List {
				items[i] = text
				if h, err := ParseHop(text); err == nil {
					h.Key, h.Certificate, h.KnownHosts = place(h.Key), place(h.Certificate), place(h.KnownHosts)
					if h.Agent != "none" {
						h.Agent = place(h.Agent)
					}
					items[i] = HopText(h)
				}
			}
			v = ListValue(items, v.Origin)
		}
		placed[name] = v
	}
	return placed
}
