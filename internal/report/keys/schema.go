package keys

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
)

// node is a value of a schema while it is built.
type node struct {
	properties map[string]*node
	items      *node
	others     *node // the values under any name
	leaf       *Key
	required   bool
}

func (n *node) at(step string) *node {
	switch step {
	case "[]":
		if n.items == nil {
			n.items = &node{}
		}
		return n.items
	case "*":
		if n.others == nil {
			n.others = &node{}
		}
		return n.others
	}
	if n.properties == nil {
		n.properties = map[string]*node{}
	}
	if n.properties[step] == nil {
		n.properties[step] = &node{}
	}
	return n.properties[step]
}

// tree builds the object of a form.
func tree(form Form) *node {
	root := &node{required: true}
	for _, key := range form.Keys {
		if key.Path == "." {
			continue
		}
		at := root
		for step := range strings.SplitSeq(strings.ReplaceAll(key.Path, "[]", ".[]"), ".") {
			at = at.at(step)
			at.required = at.required || !key.Optional
		}
		at.leaf = &key
	}
	return root
}

// schema gives a value's JSON Schema.
func (n *node) schema() map[string]any {
	s := map[string]any{}
	null := false
	switch {
	case n.leaf != nil:
		null = n.leaf.Null && !strings.HasSuffix(n.leaf.Path, "[]")
		s = leaf(*n.leaf)
	case n.items != nil:
		s["type"], s["items"] = "array", n.items.schema()
		null = n.items.leaf != nil && n.items.leaf.Null || n.items.others != nil && n.items.others.leaf.Null
	default:
		s["type"] = "object"
		properties, required := map[string]any{}, []string{}
		for name, inner := range n.properties {
			properties[name] = inner.schema()
			if inner.required {
				required = append(required, name)
			}
		}
		if len(properties) > 0 {
			s["properties"] = properties
		}
		if len(required) > 0 {
			s["required"] = slices.Sorted(slices.Values(required))
		}
		if n.others != nil {
			s["additionalProperties"] = n.others.schema()
		}
	}
	if kind, is := s["type"].(string); null && is {
		s["type"] = []string{kind, "null"}
	}
	return s
}

// leaf gives the schema of a value that holds no other.
func leaf(key Key) map[string]any {
	s := map[string]any{"description": strings.ReplaceAll(key.About, "`", "")}
	switch key.Type {
	case "text":
		s["type"] = "string"
	case "moment":
		s["type"], s["format"] = "string", "date-time"
	case "number", "integer", "boolean":
		s["type"] = key.Type
	case "any":
	default:
		s["$ref"] = "#/$defs/" + key.Type
	}
	return s
}

// Schema gives the JSON Schema (2020-12) of a form: its own object, or one of the two for errors.
func Schema(form Form) []byte {
	_, shared := Forms()
	defs := map[string]any{
		"error": map[string]any{"type": "object", "required": []string{"error", "exit"},
			"properties": map[string]any{"error": map[string]any{"type": "string"},
				"exit": map[string]any{"type": "integer"}}},
		"failed": map[string]any{"type": "object", "required": []string{"finding", "exit"},
			"properties": map[string]any{"finding": map[string]any{"$ref": "#/$defs/finding"},
				"exit": map[string]any{"type": "integer"}}},
	}
	for name, of := range shared {
		defs[name] = tree(of).schema()
	}
	own := tree(form).schema()
	if form.Keys[0].Path == "." {
		own = map[string]any{"allOf": []any{map[string]any{"$ref": "#/$defs/" + form.Keys[0].Type}, own}}
	}
	text, err := json.MarshalIndent(map[string]any{
		"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "gharbor " + form.Title + " --json",
		"anyOf": []any{own, map[string]any{"$ref": "#/$defs/error"}, map[string]any{"$ref": "#/$defs/failed"}}, "$defs": defs,
	}, "", "  ")
	if err != nil {
		panic(err) // maps of texts can be written
	}
	return append(text, '\n')
}

// Page gives the page docs/json.md.
func Page() string {
	var b strings.Builder
	b.WriteString(`# JSON

` + "`--json`" + ` prints one JSON object on standard output (RFC 8259, UTF-8; characters that steer a terminal are written as
escapes). Notes and questions go to standard error. Where a command has ` + "`--as`" + `, ` + "`--as json`" + ` is the same. Keys may be added; those below keep their
names and meaning, and a test holds that nothing is printed which is not written down here. ` + "`[]`" + ` stands for each item of a list, ` + "`*`" + ` for
any name (also one with dots in it). Times are in milliseconds, moments in RFC 3339. No value is ever a password.

This page and a JSON Schema (2020-12) for each object, in [schemas](schemas), are made from one table; ` + "`gharbor help json`" + ` prints it. A name has
one meaning everywhere: ` + "`finding`" + ` is a failure with its evidence, ` + "`problems`" + ` is what a check found wrong, ` + "`detail`" + ` is what one leg or file
showed, ` + "`checked`" + ` counts what was looked at, ` + "`times`" + ` counts tests, ` + "`where`" + ` is a file and line, ` + "`server`" + ` is a server. ` + "`--as junit`" + ` follows
[junit.xsd](junit.xsd), ` + "`--as tap`" + ` the Test Anything Protocol 13. ` + "`alias export`" + ` writes, and ` + "`alias import`" + ` reads, the form of
[aliases.schema.json](aliases.schema.json).

An error that is no finding is ` + "`{\"error\": TEXT, \"exit\": CODE}`" + ` instead of the command's own object; one about a password, a wallet or a cloud is
` + "`{\"finding\": …, \"exit\": CODE}`" + `.
`)
	forms, shared := Forms()
	for _, form := range forms {
		fmt.Fprintf(&b, "\n## %s\n\n[schema](schemas/%s.schema.json)\n\n| key | value | |\n|---|---|---|\n",
			form.Title, form.Name())
		rows(&b, form)
	}
	for _, name := range []string{"finding", "alias", "admission"} {
		fmt.Fprintf(&b, "\n## The object %s\n\n| key | value | |\n|---|---|---|\n", name)
		rows(&b, shared[name])
	}
	return b.String()
}

func rows(b *strings.Builder, form Form) {
	for _, key := range form.Keys {
		value := key.Type
		if key.Null {
			value += " or null"
		}
		if key.Optional {
			value += ", may be left out"
		}
		path := "`" + key.Path + "`"
		if key.Path == "." {
			path = "all keys of"
		}
		fmt.Fprintf(b, "| %s | %s | %s |\n", path, value, key.About)
	}
}
