//go:build unix

package main

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// TestRooms keeps the core free of the interface: no package below internal but cli parses flags, prints to
// the process's own streams, or knows cli; and engines know nothing of profiles.
func TestRooms(t *testing.T) {
	files := 0
	err := filepath.WalkDir("../../internal", func(path string, entry fs.DirEntry, err error) error {
		slash := filepath.ToSlash(path)
		if err != nil || entry.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") || strings.Contains(slash, "/cli/") {
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
			if f, ok := declared.(*ast.FuncDecl); ok && f.Name.IsExported() && f.Doc == nil && (f.Recv == nil || exportedReceiver(f)) {
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
