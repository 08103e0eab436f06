//go:build unix

package main

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// floors are the packages below internal, the lowest first: each may import those of lower floors
// alone.
var floors = [][]string{
	{"shell", "outside", "yamledit", "errno", "child"}, {"outside/budget", "lineedit", "pager"}, {"files"},
	{"finding", "target"}, {"secret"}, {"route/routetest"}, {"route"}, {"route/jump"}, {"engine"},
	{"engine/mongodb", "engine/mysql", "engine/oracle", "engine/postgres", "engine/enginetest", "guard",
		"rowfile"}, {"engine/known"},
	{"profile", "secret/keep/credentials", "secret/keep/keyring", "secret/keep/wallet"},
	{"agree", "alias", "container"}, {"container/compose"}, {"discover", "door"}, {"cloud"},
	{"checkup", "audit", "standin"}, {"report", "report/keys", "script"}, {"demo", "survey", "talk"},
	{"harbor/world"}, {"person", "harbor/worldtest", "harbor/stores"}, {"harbor/clouds", "harbor/edits"},
	{"harbor"}, {"harbor/doors"}, {"cli"},
}

func floorOf(name string) int {
	return slices.IndexFunc(floors, func(floor []string) bool { return slices.Contains(floor, name) })
}

// TestArrowsRunDown keeps each package from knowing one of its own floor or of a higher one.
func TestArrowsRunDown(t *testing.T) {
	seen := map[string]bool{}
	inspect(t, func(path, name string, parsed *ast.File) {
		seen[name] = true
		own := floorOf(name)
		if own < 0 {
			t.Errorf("%s has no floor", name)
		}
		for _, imported := range parsed.Imports {
			text, _ := strconv.Unquote(imported.Path.Value)
			if rest, ok := strings.CutPrefix(text, "gentle-harbor/internal/"); ok && floorOf(rest) >= own {
				t.Errorf("%s imports %s, which is not below it", path, rest)
			}
		}
	})
	for _, floor := range floors {
		for _, name := range floor {
			if !seen[name] {
				t.Errorf("there is no package %s", name)
			}
		}
	}
}

var engineNames = regexp.MustCompile(`(?i)postgres|mysql|mariadb|pgsql`)

// TestOnlyEnginesKnowTheirNames keeps the names of engines out of all that serves each of them.
// Examples may have them.
func TestOnlyEnginesKnowTheirNames(t *testing.T) {
	inspect(t, func(path, name string, parsed *ast.File) {
		if strings.HasPrefix(name, "engine/") || name == "standin" || name == "demo" ||
			strings.HasSuffix(path, "profile/reference.go") {
			return
		}
		ast.Inspect(parsed, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.ImportSpec:
				return false
			case *ast.KeyValueExpr:
				if key, ok := n.Key.(*ast.Ident); ok && (key.Name == "examples" || key.Name == "text") {
					return false
				}
			case *ast.BasicLit:
				if engineNames.MatchString(n.Value) {
					t.Errorf("%s names an engine: %s", path, n.Value)
				}
			}
			return true
		})
	})
}

// inspect calls visit with each file below internal that is no test, and the name of its package.
func inspect(t *testing.T, visit func(path, name string, parsed *ast.File)) {
	t.Helper()
	err := filepath.WalkDir("../../internal", func(path string, entry fs.DirEntry, err error) error {
		slash := filepath.ToSlash(path)
		if err != nil || entry.IsDir() || !strings.HasSuffix(slash, ".go") ||
			strings.HasSuffix(slash, "_test.go") || strings.Contains(slash, "/jumptest/") ||
			strings.Contains(slash, "/realtest/") {
			return err // what starts servers for tests has no part in the program
		}
		parsed, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err != nil {
			return err
		}
		visit(slash, strings.TrimPrefix(filepath.ToSlash(filepath.Dir(path)), "../../internal/"), parsed)
		return nil
	})
	must(t, err)
}

// TestRooms keeps the core free of the interface: no package below internal but cli parses flags,
// prints to the process's own streams, or knows cli; and engines know nothing of profiles.
func TestRooms(t *testing.T) {
	files := 0
	err := filepath.WalkDir("../../internal", func(path string, entry fs.DirEntry, err error) error {
		slash := filepath.ToSlash(path)
		if err != nil || entry.IsDir() || !strings.HasSuffix(path, ".go") ||
			strings.HasSuffix(path, "_test.go") || strings.Contains(slash, "/cli/") {
			return err
		}
		files++
		parsed, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ParseComments)
		if err != nil {
			return err
		}
		for _, imported := range parsed.Imports {
			name, _ := strconv.Unquote(imported.Path.Value)
			if name == "flag" || name == "log" || name == "gentle-harbor/internal/cli" ||
				strings.Contains(slash, "/engine/") && name == "gentle-harbor/internal/profile" {
				t.Errorf("%s imports %s", path, name)
			}
		}
		ast.Inspect(parsed, func(n ast.Node) bool {
			if s, ok := n.(*ast.SelectorExpr); ok {
				if of, ok := s.X.(*ast.Ident); ok {
					switch word := of.Name + "." + s.Sel.Name; word {
					case "fmt.Print", "fmt.Printf", "fmt.Println", "os.Stdout", "os.Stderr", "os.Stdin", "os.Args", "os.Exit":
						t.Errorf("%s uses %s", path, word)
					}
				}
			}
			return true
		})
		for _, declared := range parsed.Decls {
			if f, ok := declared.(*ast.FuncDecl); ok && f.Name.IsExported() && f.Doc == nil &&
				(f.Recv == nil || exportedReceiver(f)) {
				t.Errorf("%s: %s has no doc comment", path, f.Name.Name)
			}
		}
		return nil
	})
	if err != nil || files < 20 {
		t.Errorf("%d files, %v", files, err)
	}
}

func exportedReceiver(f *ast.FuncDecl) bool {
	kind := f.Recv.List[0].Type
	if star, ok := kind.(*ast.StarExpr); ok {
		kind = star.X
	}
	name, ok := kind.(*ast.Ident)
	return ok && name.IsExported()
}

// asks lists what asks the process for its environment or its folders, and the files that may:
// harbor for the folder that the program was started in, files for an account without HOME; the
// driver of one engine reads variables by itself, which are taken away from it; and a supervisor
// names its mounted secrets to the process that it starts.
var asks = map[string][]string{
	"os.Getenv": {"secret/guard.go"}, "os.LookupEnv": {"lineedit/lineedit.go"},
	"os.Environ":     {"engine/postgres/postgres.go"},
	"os.Getwd":       {"harbor/world/world.go", "harbor/world/reach.go", "harbor/edits/edits.go"},
	"os.UserHomeDir": nil, "os.UserConfigDir": nil, "exec.LookPath": {"files/world.go"},
	"files.Home": {"harbor/world/world.go"},
	"os.Setenv":  {"engine/postgres/postgres.go", "lineedit/lineedit.go"}, "os.Chdir": nil,
}

// TestTheProcessIsNotAsked keeps everything below main to what it was handed.
func TestTheProcessIsNotAsked(t *testing.T) {
	met := map[string]bool{}
	inspect(t, func(path, _ string, parsed *ast.File) {
		ast.Inspect(parsed, func(n ast.Node) bool {
			if s, ok := n.(*ast.SelectorExpr); ok {
				if of, ok := s.X.(*ast.Ident); ok {
					word := of.Name + "." + s.Sel.Name
					if allowed, asked := asks[word]; asked &&
						!slices.ContainsFunc(allowed, func(file string) bool {
							return strings.HasSuffix(path, "internal/"+file)
						}) {
						t.Errorf("%s uses %s", path, word)
					} else if asked {
						met[word] = true
					}
				}
			}
			return true
		})
	})
	if len(met) < 4 {
		t.Errorf("only %v is met", met)
	}
}
