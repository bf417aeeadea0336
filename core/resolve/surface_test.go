package resolve_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// mostNames is how many names package resolve may export: what is exported must fit on one screen.
const mostNames = 25

// TestTheExportedNamesFitOneScreen counts the exported types, functions, constants and variables of
// package resolve. Methods are not counted.
func TestTheExportedNamesFitOneScreen(t *testing.T) {
	t.Parallel()
	files, err := filepath.Glob("*.go")
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, path := range files {
		if strings.HasSuffix(path, "_test.go") {
			continue
		}
		source, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, source, parser.SkipObjectResolution)
		if err != nil {
			t.Fatal(err)
		}
		names = append(names, declared(file)...)
	}
	names = slices.DeleteFunc(names, func(name string) bool { return !ast.IsExported(name) })
	slices.Sort(names)
	if len(names) > mostNames || !slices.Contains(names, "Compile") {
		t.Errorf("found %d exported names, expected at most %d, Compile among them: %s", len(names), mostNames, strings.Join(names, ", "))
	}
}

// declared gives the names that a file declares at the level of its package.
func declared(file *ast.File) (names []string) {
	for _, declaration := range file.Decls {
		switch declaration := declaration.(type) {
		case *ast.FuncDecl:
			if declaration.Recv == nil {
				names = append(names, declaration.Name.Name)
			}
		case *ast.GenDecl:
			for _, spec := range declaration.Specs {
				switch spec := spec.(type) {
				case *ast.TypeSpec:
					names = append(names, spec.Name.Name)
				case *ast.ValueSpec:
					for _, name := range spec.Names {
						names = append(names, name.Name)
					}
				}
			}
		}
	}
	return names
}
