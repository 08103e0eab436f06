package profile

import (
	"bytes"
	"strings"

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
		if name == "port" {
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
		list.Content = append(list.Content, scalarNode(item))
	}
	return list
}

func scalarNode(text string) *yaml.Node {
	return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: text}
}
