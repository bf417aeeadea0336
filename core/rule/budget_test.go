package rule_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"zenithridge.example/zridge/core/rule"
)

// Expressions that would take long, or much memory, are refused before anything is evaluated.
func TestDearExpressionsAreRefused(t *testing.T) {
	digits := "[0,1,2,3,4,5,6,7,8,9]"
	nested := "true"
	for i := range 5 {
		nested = fmt.Sprintf("%s.all(x%d, %s)", digits, i, nested)
	}
	for name, test := range map[string]struct{ source, says string }{
		"macros within macros":  {nested, "steps"},
		"texts that double":     {"[device.os]" + strings.Repeat(".map(s, s+s)", 25) + ".size() == 1", "at most"},
		"lists that grow":       {"[device.os]" + strings.Repeat(".map(a, a+a+a+a+a+a)", 10) + ".size() == 1", "steps"},
		"literals in literals":  {strings.Repeat("[", 220) + "1" + strings.Repeat("]", 220) + " == [device.os]", "within each other"},
		"maps in maps":          {strings.Repeat("{1:", 40) + "1" + strings.Repeat("}", 40) + " == {1: device.os}", "within each other"},
		"a long text":           {`device.os == "` + strings.Repeat("x", 10_000) + `"`, "characters"},
		"many parts":            {strings.TrimSuffix(strings.Repeat("has(device.os)&&", 600), "&&") + "&&" + nested, "steps"},
		"brackets that nest":    {strings.Repeat("(", 5000) + "true" + strings.Repeat(")", 4000), ""},
		"conditions that nest":  {strings.Repeat("true ? true : ", 600) + "true", ""},
		"negations that nest":   {strings.Repeat("!", 5000) + "true", ""},
		"indices that nest":     {"device" + strings.Repeat("[device.os", 300) + strings.Repeat("]", 300) + " == 1", ""},
		"a long chain of texts": {strings.TrimSuffix(strings.Repeat(`device.os+`, 900), "+") + ` == "x"`, ""},
	} {
		r, err := rule.Compile(rule.OfDevice, test.source)
		var refused *rule.CompileError
		switch {
		case err == nil && test.says != "":
			t.Errorf("%s are taken", name)
		case err == nil: // short enough to be evaluated
			r.Holds(map[string]any{"device": map[string]any{"os": strings.Repeat("x", 1000)}})
		case !errors.As(err, &refused) || !strings.Contains(refused.Message, test.says):
			t.Errorf("%s: %v, expected that it says %q", name, err, test.says)
		}
	}
}

// What is larger than was assumed when it was written ends when it is evaluated.
func TestAnEvaluationThatTakesTooLongFails(t *testing.T) {
	r, err := rule.Compile(rule.OfDevice, `device.tags.all(t, device.tags.exists(u, u == t))`)
	if err == nil {
		t.Fatal("a product of two lists of 50 is within the limit, which this test does not expect")
	}
	r, err = rule.Compile(rule.OfDevice, `device.tags.all(t, t != "none")`)
	if err != nil {
		t.Fatal(err)
	}
	tags := make([]string, 100_000)
	if _, err := r.Holds(map[string]any{"device": map[string]any{"tags": tags}}); err == nil || !strings.Contains(err.Error(), "cost") {
		t.Errorf("the error is %v, expected that it costs too much", err)
	}
	if holds, err := r.Holds(map[string]any{"device": map[string]any{"tags": tags[:100]}}); err != nil || !holds {
		t.Errorf("of a hundred tags: %v %v", holds, err)
	}
}
