//go:build unix

package main

import (
	"encoding/json"
	"errors"
	"go/ast"
	"go/importer"
	"go/parser"
	"go/token"
	"go/types"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// oneWay lists the packages whose files know each other in one direction only.
var oneWay = []string{"cli", "harbor", "report", "person", "route", "target", "agree", "finding", "engine",
	"door", "route/jump"}

// TestFilesRunDown keeps the files of a package from knowing each other in a circle: whoever
// reads one finds what it uses in files below it, and need not come back.
func TestFilesRunDown(t *testing.T) {
	t.Parallel()
	packages := listed(t)
	for _, name := range oneWay {
		graph, why := uses(t, packages, "gentle-harbor/internal/"+name)
		if len(graph) < 2 {
			t.Errorf("%s has %d files", name, len(graph))
		}
		circle := circleIn(graph)
		for i := 1; i < len(circle); i++ {
			t.Errorf("%s: in a circle, %s uses %s of %s", name, circle[i-1], why[circle[i-1]+circle[i]], circle[i])
		}
	}
}

// built is a package as the go command has built it.
type built struct {
	ImportPath, Dir, Export string
	GoFiles                 []string
}

// listed gives the program's packages and all that they import, by their paths.
func listed(t *testing.T) map[string]built {
	t.Helper()
	list := exec.Command("go", "list", "-export", "-deps", "-json=ImportPath,Dir,Export,GoFiles", ".")
	list.Env = append(os.Environ(), "CGO_ENABLED=0") // as the program was built
	out, err := list.Output()
	must(t, err)
	all := map[string]built{}
	for d := json.NewDecoder(strings.NewReader(string(out))); ; {
		var one built
		if err := d.Decode(&one); errors.Is(err, io.EOF) {
			return all
		} else if err != nil {
			t.Fatal(err)
		}
		all[one.ImportPath] = one
	}
}

// uses gives, for each file of a package, the files that declare what it uses, and a name for
// each two of them.
func uses(t *testing.T, packages map[string]built, path string) (graph map[string][]string, why map[string]string) {
	t.Helper()
	set := token.NewFileSet()
	var files []*ast.File
	graph, why = map[string][]string{}, map[string]string{}
	for _, name := range packages[path].GoFiles {
		parsed, err := parser.ParseFile(set, filepath.Join(packages[path].Dir, name), nil, parser.SkipObjectResolution)
		must(t, err)
		files, graph[name] = append(files, parsed), nil
	}
	info := &types.Info{Uses: map[*ast.Ident]types.Object{}}
	config := types.Config{Importer: importer.ForCompiler(set, "gc", func(path string) (io.ReadCloser, error) {
		return os.Open(packages[path].Export)
	})}
	checked, err := config.Check(path, set, files, info)
	must(t, err)
	for id, object := range info.Uses {
		if object.Pkg() != checked || !object.Pos().IsValid() {
			continue
		}
		from, to := filepath.Base(set.Position(id.Pos()).Filename), filepath.Base(set.Position(object.Pos()).Filename)
		if from != to && !slices.Contains(graph[from], to) {
			graph[from] = append(graph[from], to)
			why[from+to] = object.Name()
		}
	}
	return graph, why
}

// circleIn gives a circle of a graph, nil when there is none.
func circleIn(graph map[string][]string) []string {
	done := map[string]bool{}
	var trail []string
	var visit func(file string) []string
	visit = func(file string) []string {
		if i := slices.Index(trail, file); i >= 0 {
			return append(slices.Clone(trail[i:]), file)
		}
		if done[file] {
			return nil
		}
		trail = append(trail, file)
		for _, next := range graph[file] {
			if circle := visit(next); circle != nil {
				return circle
			}
		}
		trail, done[file] = trail[:len(trail)-1], true
		return nil
	}
	for file := range graph {
		if circle := visit(file); circle != nil {
			return circle
		}
	}
	return nil
}

// TestACircleIsFound shows that the test above can fail.
func TestACircleIsFound(t *testing.T) {
	if circle := circleIn(map[string][]string{"a": {"b"}, "b": {"c"}, "c": {"b"}}); len(circle) != 3 ||
		circle[0] != circle[2] {
		t.Errorf("%v", circle)
	}
	if circle := circleIn(map[string][]string{"a": {"b", "c"}, "b": {"c"}}); circle != nil {
		t.Errorf("%v", circle)
	}
}
