package resolve_test

import (
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

const module = "zenithridge.example/zridge/"

// mayImport says which packages each package may import: the edges know the core, never the other
// way round.
var mayImport = map[string][]string{
	"core/problem": {},
	"core/rule":    {},
	"core/setting": {"core/problem", "core/rule"},
	"core/estate":  {"core/ids", "core/problem", "core/rule", "core/setting"},
	"core/ids":     {},
	"core/access":  {},
	"core/audit":   {},
	"core/bitset":  {},
	"core/threads": {},
	"core/search":  {"core/setting"},
	"core/outcome": {"core/estate", "core/setting"},
	"core/resolve": {
		"core/bitset",
		"core/estate",
		"core/ids",
		"core/outcome",
		"core/resolve/internal/",
		"core/rule",
		"core/search",
		"core/setting",
		"core/threads",
	},
	"core/resolve/internal/engine": {"core/bitset", "core/threads"},
	"core/resolve/internal/intern": {"core/bitset", "core/ids", "core/outcome", "core/rule", "core/setting"},
	"core/resolve/internal/match": {
		"core/bitset",
		"core/estate",
		"core/outcome",
		"core/resolve/internal/intern",
		"core/rule",
		"core/setting",
	},
	"core/resolve/internal/decide": {
		"core/bitset",
		"core/estate",
		"core/outcome",
		"core/resolve/internal/intern",
		"core/resolve/internal/match",
		"core/setting",
	},
	"core/impact":       {"core/estate", "core/outcome", "core/resolve", "core/setting"},
	"core/rollout":      {"core/estate", "core/outcome", "core/resolve", "core/setting"},
	"core/review":       {"core/"},
	"formats/contents":  {"core/problem", "core/setting"},
	"formats/files":     {"formats/contents", "core/"},
	"dictionary":        {"formats/files"},
	"dictionary/pages":  {"formats/files", "formats/report"},
	"core/recovery":     {"core/setting"},
	"formats/escrow":    {"core/recovery"},
	"formats/syncml":    {"core/recovery", "core/setting"},
	"formats/report":    {"core/"},
	"formats/directory": {"core/", "formats/files"},
	"formats/wire": {
		"formats/contents",
		"core/",
		"formats/files",
		"formats/report",
		"formats/directory",
	}, // how sources are set up is data that both sides hold
	"client":           {"formats/wire"},
	"endpoint":         {"core/recovery", "core/setting", "formats/escrow", "formats/syncml"},
	"agent":            {"agent/adapter", "agent/volume", "core/recovery", "core/setting", "endpoint", "formats/escrow", "formats/syncml"},
	"agent/volume":     {},
	"agent/adapter":    {"core/setting"},
	"demo":             {},
	"demo/world":       {"core/"},
	"demo/scenario":    {"client", "core/setting", "endpoint", "formats/wire"},
	"demo/filled":      {"core/", "formats/files", "service/store"},
	"console":          {},
	"service/store":    {"core/"},
	"service/seal":     {},
	"service/signin":   {"core/access", "service/seal", "service/store"},
	"service/escrow":   {"core/recovery", "formats/escrow", "service/seal"},
	"service/malware":  {},
	"service/scim":     {},
	"service/announce": {"service/store"},
	"service/workflow": {
		"formats/contents",
		"core/",
		"formats/files",
		"formats/directory",
		"formats/escrow",
		"service/escrow",
		"service/malware",
		"service/scim",
		"service/signin",
		"service/store",
	},
	"service/ca":        {"service/seal"},
	"service/enrolment": {"core/", "service/ca", "service/signin", "service/store", "service/workflow"},
	"service/checkin":   {"core/", "service/seal", "service/signin", "service/store", "service/workflow", "formats/syncml"},
	"service/httpapi": {
		"formats/contents",
		"core/",
		"dictionary",
		"formats/directory",
		"formats/files",
		"formats/report",
		"service/",
		"formats/syncml",
		"formats/wire",
	},
}

// TestImportsRunOneWay holds every package to its imports, and the core to pure code: no clock,
// file, network or database.
func TestImportsRunOneWay(t *testing.T) {
	t.Parallel()
	const root = "../.."
	impure := map[string]bool{
		"os":           true,
		"net":          true,
		"net/http":     true,
		"database/sql": true,
		"time":         true,
		"context":      true,
		"log":          true,
		"log/slog":     true,
		"io/fs":        true,
		"math/rand":    true,
	}
	checked := 0
	err := filepath.WalkDir(root, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() && (d.Name() == "node_modules" || d.Name() == ".git") {
			return filepath.SkipDir
		}
		pkg, _ := filepath.Rel(root, filepath.Dir(path))
		allowed, held := mayImport[filepath.ToSlash(pkg)]
		if !held || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return nil
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		checked++
		for _, spec := range file.Imports {
			name := strings.Trim(spec.Path.Value, `"`)
			if strings.HasPrefix(pkg, "core") && impure[name] &&
				!(name == "time" && slices.Contains([]string{"core/estate", "core/rollout", "core/audit", "core/recovery"},
					pkg)) { // dates are parsed there, and times handed in
				t.Errorf("%s imports %s: the core is pure", path, name)
			}
			if strings.HasPrefix(pkg, "core") && strings.Contains(name, ".") && !strings.HasPrefix(name, module) &&
				!strings.HasPrefix(name, "cel.dev/cel-go/") {
				t.Errorf("%s imports %s: the core knows the standard library and CEL alone", path, name)
			}
			inside, own := strings.CutPrefix(name, module)
			ok := !own
			for _, a := range allowed {
				ok = ok || inside == a || strings.HasSuffix(a, "/") && strings.HasPrefix(inside, a)
			}
			if !ok {
				t.Errorf("%s imports %s, which is not below it", path, inside)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if checked < 40 {
		t.Errorf("only %d files were looked at", checked)
	}
}
