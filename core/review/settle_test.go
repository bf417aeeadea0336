package review_test

import (
	"fmt"
	"testing"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/resolve"
	. "zenithridge.example/zridge/core/review"
)

// TestWaysSettle proposes ways out of a clash and tries each: what is said to be in a policy's favour lets its value stand.
func TestWaysSettle(t *testing.T) {
	side := sideOf(t, `
  - {id: one, kind: security, priority: 5, settings: {signin.banner: "One"}, audience: {include: ["device:LT-1"]}}
  - {id: two, kind: security, priority: 5, settings: {signin.banner: "Two"}, audience: {include: ["device:LT-1", "device:LT-3"]}}
  - {id: three, kind: security, settings: {signin.banner: "Three"}, audience: {include: [everyone]}}`)
	clashes := side.Whole.Conflicts()
	if len(clashes) != 1 {
		t.Fatalf("%d clashes", len(clashes))
	}
	kinds := map[WayKind]int{}
	for _, w := range Ways(side.Plan, &clashes[0]) {
		kinds[w.Kind]++
		next := side.Plan.Snapshot().With(w.Edits...)
		if faults := next.Validate(); len(faults) > 0 {
			t.Errorf("%s %s: %v", w.Kind, w.Policy, faults)
		}
		stands := map[estate.PolicyID]string{"one": `"One"`, "two": `"Two"`}[w.Policy]
		if w.Kind == DropIt {
			stands = map[estate.PolicyID]string{"one": `"Two"`, "two": `"One"`}[w.Policy]
		}
		if is := side.With(next).Whole.State("signin.banner", "LT-1"); is.Status != resolve.Set || is.Value.String() != stands {
			t.Errorf("%s %s: the laptop has %v, expected %s", w.Kind, w.Policy, is, stands)
		}
	}
	if got := fmt.Sprint(kinds); got != "map[drop:2 lock:2 prefer:2 raise:2]" {
		t.Errorf("the ways are %s", got)
	}
}
