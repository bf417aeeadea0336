package rule_test

import (
	"errors"
	"testing"

	"zenithridge.example/zridge/core/rule"
)

// FuzzExpression compiles whatever text comes, and evaluates what compiles. A text is refused with
// a place and a reason, or it is evaluated within its budget.
func FuzzExpression(f *testing.F) {
	for _, text := range []string{
		`device.os == "linux" && device.os_version.atLeast("12")`, `!(device.ram_gb > 8) || "spare" in device.tags`,
		`[0,1,2].all(x, [0,1,2].all(y, x + y < 5))`, `device.tags.exists(t, t.startsWith("a"))`, `[[[[1]]]] == [device.os]`,
		`"a" + "b" == "ab"`, `true`,
	} {
		f.Add(text)
	}
	seen := map[string]any{
		"device": map[string]any{"os": "linux", "os_version": "12.4", "tags": []string{"spare", "aft"}, "ram_gb": int64(16),
			"units": []string{"larkfell"}},
	}
	f.Fuzz(func(t *testing.T, text string) {
		r, err := rule.Compile(rule.OfDevice, text)
		if err != nil {
			var compile *rule.CompileError
			if !errors.As(err, &compile) || compile.Message == "" || compile.Line < 1 {
				t.Fatalf("%q is refused with %#v", text, err)
			}
			return
		}
		if _, err := r.Holds(seen); err != nil && err.Error() == "" {
			t.Fatalf("%q fails without a word", text)
		}
	})
}
