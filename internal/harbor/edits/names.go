package edits

import (
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"gentle-harbor/internal/alias"
	"gentle-harbor/internal/engine"
	"gentle-harbor/internal/engine/known"
	"gentle-harbor/internal/files"
	"gentle-harbor/internal/harbor/world"
	"gentle-harbor/internal/outside"
	"gentle-harbor/internal/profile"
)

// mostFurther is how many files a file of names may lead to.
const mostFurther = 20

// names are the aliases that files of an engine's names say.
type names struct {
	edits  Edits
	info   engine.Info
	namer  engine.Namer
	folder string // of the first file; no other file is read, "" for none at all
	seen   map[string]bool
	all    map[string]profile.Layer
	lines  map[string]string // where each name was said
	plain  []string          // the names of servers to which connections are not encrypted
}

// namesIn reads the aliases that a file of an engine's names says. What is left out is noted. An
// inner file is read only where it is in the folder of the first one.
func (r Edits) namesIn(text, file, folder string) (map[string]profile.Layer, error) {
	for _, info := range known.Infos() {
		namer, is := engine.NamerOf(known.Engine(info.Name))
		if !is {
			continue
		}
		n := &names{edits: r, info: info, namer: namer, folder: folder, seen: map[string]bool{},
			all: map[string]profile.Layer{}, lines: map[string]string{}}
		if err := n.read(text, file); err != nil {
			return nil, err
		}
		if len(n.all) == 0 {
			return nil, world.Wrong("%s: there is no name in it that can become an alias", world.Clip(file))
		}
		if len(n.plain) > 0 {
			r.Note("connections to %s are not encrypted, as the file says (tls mode off)",
				outside.Cell(strings.Join(n.plain, ", ")))
		}
		return n.all, nil
	}
	return nil, errors.New("no engine here has files of names")
}

func (n *names) read(text, file string) error {
	found, further, err := n.namer.Names([]byte(text))
	var wrong *engine.NamesError
	if errors.As(err, &wrong) {
		return world.Wrong("%s:%d: %s", world.Clip(file), wrong.Line, outside.Text(wrong.Text))
	}
	if err != nil {
		return err
	}
	for _, each := range found {
		n.take(each, fmt.Sprintf("%s:%d", file, each.Line))
	}
	for _, each := range further {
		if err := n.further(each, file); err != nil {
			return err
		}
	}
	return nil
}

// take makes aliases of one entry: its first name, and the others as further names of that.
func (n *names) take(each engine.NameEntry, at string) {
	layer, left, err := profile.LayerOfName(n.info, each)
	if err != nil {
		n.edits.Note("%s: %s is left out: %v", at, outside.Cell(each.Names[0]), err)
		return
	}
	if layer["tls.mode"].Text == "off" {
		n.plain = append(n.plain, each.Names[0])
	}
	first := ""
	for _, name := range each.Names {
		switch {
		case profile.CheckAliasName(name) != nil:
			n.edits.Note("%s: the name %s is left out: an alias's name has letters, digits and . _ -", at, outside.Cell(name))
		case n.all[name] != nil:
			n.edits.Note("%s: %s is left out here: it is in %s already", at, name, n.lines[name])
		case first == "":
			first = name
			n.all[name], n.lines[name] = layer, at
		default:
			n.all[name], n.lines[name] = profile.Layer{"same-as": {Text: first}}, at
		}
	}
	if first != "" && len(left) > 0 {
		n.edits.Note("%s: of %s, this is left out: %s", at, first, outside.Cell(strings.Join(left, ", ")))
	}
}

// further reads a file that a file of names names.
func (n *names) further(each engine.FurtherFile, from string) error {
	at := fmt.Sprintf("%s:%d", from, each.Line)
	path := each.File
	if n.folder != "" && filepath.IsAbs(path) {
		if rest, err := filepath.Rel(n.folder, path); err == nil {
			path = rest
		}
	}
	switch {
	case n.folder == "" || !filepath.IsLocal(path):
		n.edits.Note("%s: the file %s is not read: it is not in the folder of the first one", at, outside.Cell(each.File))
		return nil
	case n.seen[path] || len(n.seen) >= mostFurther:
		n.edits.Note("%s: the file %s is not read again", at, outside.Cell(each.File))
		return nil
	}
	n.seen[path] = true
	data, err := files.ReadIn(n.folder, path, alias.MaxFile)
	if err != nil {
		return world.Wrong("%s: the file %s cannot be read: %v", at, outside.Cell(each.File), err)
	}
	return n.read(string(data), filepath.Join(n.folder, path))
}
