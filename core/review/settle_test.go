package review_test

import (
	"fmt"
	"testing"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	. "zenithridge.example/zridge/core/review"
)

// TestWaysSettle proposes ways out of a conflict and tries each: what is said to be in a policy's
// favour lets its value stand.
func TestWaysSettle(t *testing.T) {
	side := sideOf(t, `
  - {id: one, kind: security, priority: 5, settings: {signin.banner: "One"}, audience: {include: ["device:LT-1"]}}
  - {id: two, kind: security, priority: 5, settings: {signin.banner: "Two"}, audience: {include: ["device:LT-1", "device:LT-3"]}}
  - {id: three, kind: security, settings: {signin.banner: "Three"}, audience: {include: [everyone]}}`)
	conflicts := side.Resolution.Conflicts()
	if len(conflicts) != 1 {
		t.Fatalf("%d conflicts", len(conflicts))
	}
	kinds := map[WayKind]int{}
	for _, w := range Ways(side.Plan, conflicts...) {
		kinds[w.Kind]++
		next := side.Plan.Snapshot().With(w.Edits...)
		if faults := next.Validate(); len(faults) > 0 {
			t.Errorf("%s %s: %v", w.Kind, w.Policy, faults)
		}
		stands := map[estate.PolicyID]string{"one": `"One"`, "two": `"Two"`}[w.Policy]
		switch w.Kind {
		case DropIt, Narrow:
			stands = map[estate.PolicyID]string{"one": `"Two"`, "two": `"One"`}[w.Policy]
		case LockAbove:
			stands = `"Three"`
		}
		if is := side.With(next).Resolution.State("signin.banner", "LT-1"); is.Status != outcome.Set || is.Value.String() != stands {
			t.Errorf("%s %s: the laptop has %v, expected %s", w.Kind, w.Policy, is, stands)
		}
	}
	if got := fmt.Sprint(kinds); got != "map[drop:2 lock:2 lock-above:1 narrow:1 prefer:2 raise:2]" {
		t.Errorf("the ways are %s", got)
	}
}

// TestWaysSettleSeveralAtOnce tries the ways for two settings on which the same policies conflict:
// each settles both.
func TestWaysSettleSeveralAtOnce(t *testing.T) {
	side := sideOf(t, `
  - {id: one, kind: security, settings: {signin.banner: "One", signin.banner_title: "1", signin.hide_last_person: true}, audience: {include: ["unit:slipway", "device:LT-2"]}}
  - {id: two, kind: security, settings: {signin.banner: "Two", signin.banner_title: "2"}, audience: {include: ["unit:slipway"]}}`)
	conflicts := side.Resolution.Conflicts()
	if len(conflicts) != 2 {
		t.Fatalf("%d conflicts", len(conflicts))
	}
	seen := map[WayKind]bool{}
	for _, w := range Ways(side.Plan, conflicts...) {
		seen[w.Kind] = true
		if left := side.With(side.Plan.Snapshot().With(w.Edits...)).Resolution.Conflicts(); len(left) > 0 {
			t.Errorf("%s %s leaves %d conflicts", w.Kind, w.Policy, len(left))
		}
		if w.Kind == Narrow && (w.Policy != "one" || fmt.Sprint(w.Targets) != "[unit:slipway]") {
			t.Errorf("%s leaves out %v", w.Policy, w.Targets)
		}
		if w.Kind == PreferIt && len(w.Edits) != 2 ||
			w.Kind == DropIt && w.Policy == "one" && len(w.Edits[0].Object.(estate.Policy).Entries) != 1 {
			t.Errorf("%s %s: %+v", w.Kind, w.Policy, w.Edits)
		}
	}
	for _, kind := range []WayKind{PreferIt, RaiseIt, LockIt, Narrow, DropIt} {
		if !seen[kind] {
			t.Errorf("no way of the kind %s", kind)
		}
	}
	if len(Ways(side.Plan)) != 0 {
		t.Error("ways to settle nothing")
	}
}

// TestWaysToMakeRight tries the ways for what a check finds wrong together.
func TestWaysToMakeRight(t *testing.T) {
	side := sideOf(t, `
  - {id: pin, kind: encryption, settings: {disk.startup.pin: require}, audience: {include: [everyone]}}
  - {id: no-chip, kind: encryption, settings: {disk.startup.chip: forbid}, audience: {include: ["device:LT-1", "device:LT-2"]}}`)
	for _, f := range side.Resolution.Problems() {
		ways := WaysRight(side.Plan, &f)
		var words []string
		for _, w := range ways {
			words = append(words, fmt.Sprint(w.Kind, " ", w.Policy, " ", w.Targets))
		}
		if f.Check == "startup.pin-without-chip" {
			expect(t, "ways", words, []string{"narrow pin [device:LT-1 device:LT-2]", "drop no-chip []", "drop pin []"})
		}
		for _, w := range ways {
			for _, left := range side.With(side.Plan.Snapshot().With(w.Edits...)).Resolution.Problems() {
				if left.Check == f.Check && left.Devices.And(f.Devices).Len() > 0 {
					t.Errorf("%s: %s %s leaves it on %s", f.Check, w.Kind, w.Policy, left.Devices)
				}
			}
		}
	}
	if len(side.Resolution.Problems()) == 0 {
		t.Fatal("no check found anything")
	}
}
