package files_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"strconv"
	"strings"
	"testing"
)

// TestEveryCodeHasAnExampleThatGivesIt loads the examples in the comments of the fault codes.
func TestEveryCodeHasAnExampleThatGivesIt(t *testing.T) {
	parsed, err := parser.ParseFile(token.NewFileSet(), "../../core/problem/codes.go", nil, parser.ParseComments)
	if err != nil {
		t.Fatal(err)
	}
	// Codes about files as such have their examples in TestBrokenEstates, TestTables and
	// TestFilesAddUp, and Malware in the service's TestMalwareIsRefused.
	noExample := map[string]bool{
		"Encoding":    true,
		"Unreadable":  true,
		"TooLarge":    true,
		"LinkOutside": true,
		"TooDeep":     true,
		"TooMany":     true,
		"CellCount":   true,
		"InUse":       true,
		"BadHash":     true,
		"Malware":     true,
	}
	ran := 0
	ast.Inspect(parsed, func(n ast.Node) bool {
		spec, ok := n.(*ast.ValueSpec)
		if !ok || len(spec.Values) != 1 {
			return true
		}
		code, _ := strconv.Unquote(spec.Values[0].(*ast.BasicLit).Value)
		_, example, found := strings.Cut(spec.Doc.Text(), "Example:\n")
		if !found {
			if !noExample[spec.Names[0].Name] {
				t.Errorf("%s has no example", spec.Names[0].Name)
			}
			return true
		}
		ran++
		var lines []string
		for line := range strings.SplitSeq(example, "\n") {
			lines = append(lines, strings.TrimPrefix(line, "\t"))
		}
		got := faultsOf(t, folderOf(t, "a.yaml", strings.Join(lines, "\n")))
		for _, f := range got {
			if strings.HasSuffix(f, " "+code) || f == code {
				return true
			}
		}
		t.Errorf("the example of %s gives %q", code, got)
		return true
	})
	if ran < 20 {
		t.Errorf("only %d examples were found", ran)
	}
}
