package estate_test

import (
	"slices"
	"strings"
	"testing"

	. "zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/setting"
)

func TestTargets(t *testing.T) {
	for _, good := range []string{"everyone", "unit:a", "group:A.b_c-9", "device:LT-1", "person:ines.okafor", "unit:" +
		strings.Repeat("x", 128)} {
		target, ok := ParseTarget(good)
		if !ok || target.String() != good {
			t.Errorf("%q became %q (%v)", good, target, ok)
		}
	}
	for _, bad := range []string{"", "everyone ", "Everyone", "unit:", "unit", ":a", "team:a", "unit:a b", "unit:a/b", "everyone:x",
		"unit:" + strings.Repeat("x", 129), "unit:é"} {
		if target, ok := ParseTarget(bad); ok || target != (Target{}) {
			t.Errorf("%q was taken for %v", bad, target)
		}
	}
}

func TestDates(t *testing.T) {
	for text, want := range map[string]bool{"2026-05-01": true, "2024-02-29": true, "2026-02-29": false, "2026-5-1": false,
		"2026-13-01": false, "01-05-2026": false, "2026-05-01T00:00": false, "": false, "+026-05-01": false} {
		if _, ok := ParseDate(text); ok != want {
			t.Errorf("%q: %v, expected %v", text, ok, want)
		}
	}
	x := Exception{From: "2026-05-01", Until: "2026-05-03"}
	for day, want := range map[Date]bool{"2026-04-30": false, "2026-05-01": true, "2026-05-03": true, "2026-05-04": false} {
		if x.CountsOn(day) != want {
			t.Errorf("on %s it counts: %v", day, !want)
		}
	}
	if !(&Exception{Until: "2026-05-03"}).CountsOn("1999-01-01") {
		t.Error("an exception without a start does not count from ever")
	}
}

// TestAnOverlayLeavesTheSnapshotAsItIs lays edits over a snapshot in all three ways, and over one
// another.
func TestAnOverlayLeavesTheSnapshotAsItIs(t *testing.T) {
	s := &Snapshot{Units: []Unit{{ID: "r"}}, Policies: []Policy{{ID: "a", Priority: 1}, {ID: "b", Priority: 2}, {ID: "c", Priority: 3}}}
	priorities := func(s *Snapshot) (list []int64) {
		for _, p := range s.Policies {
			list = append(list, p.Priority)
		}
		return list
	}
	edit := func(id PolicyID, priority int64) Edit {
		return Edit{Kind: KindPolicy, ID: string(id), Object: Policy{ID: id, Priority: priority}}
	}
	one := s.With(edit("b", 20), Edit{Kind: KindPolicy, ID: "a"}, edit("d", 40), Edit{Kind: KindPolicy, ID: "never there"})
	two := s.With(edit("d", 41))
	three := one.With(edit("d", 42), edit("e", 50))
	for _, c := range []struct {
		of   *Snapshot
		want []int64
	}{{s, []int64{1, 2, 3}}, {one, []int64{20, 3, 40}}, {two, []int64{1, 2, 3, 41}}, {three, []int64{20, 3, 42, 50}}} {
		if got := priorities(c.of); !slices.Equal(got, c.want) {
			t.Errorf("found %v, expected %v", got, c.want)
		}
	}
	if s.On("2026-01-01").Day != "2026-01-01" || s.Day != "" {
		t.Error("another day alters the snapshot")
	}
}

func TestEveryKindCanBeLaidOver(t *testing.T) {
	objects := map[Kind]any{
		KindUnit: Unit{ID: "x"}, KindPerson: Person{ID: "x"}, KindDevice: Device{ID: "x"}, KindGroup: Group{ID: "x"}, KindPolicy: Policy{ID: "x"},
		KindException: Exception{ID: "x"}, KindRuling: Ruling{ID: "x"}, KindSetting: setting.Definition{ID: "x"}, KindCheck: Check{ID: "x"},
		KindRolloutPlan: RolloutPlan{ID: "x"}, KindApprovalRule: ApprovalRule{ID: "x"}, KindBaseline: Baseline{ID: "x"},
	}
	var s Snapshot
	for _, kind := range Kinds {
		with := s.With(Edit{Kind: kind, ID: "x", Object: objects[kind]})
		total := len(with.Units) + len(with.People) + len(with.Devices) + len(with.Groups) + len(with.Policies) + len(with.Exceptions) + len(with.Rulings) + len(with.Settings) + len(with.Checks) +
			len(with.RolloutPlans) + len(with.ApprovalRules) + len(with.Baselines)
		if total != 1 {
			t.Errorf("%s: %d objects after one edit", kind, total)
		}
		without := with.With(Edit{Kind: kind, ID: "x"})
		if n := len(without.Units) + len(without.Policies) + len(without.Checks) + len(without.Settings) + len(without.Groups) +
			len(without.RolloutPlans) + len(without.ApprovalRules) + len(without.Baselines); n != 0 {
			t.Errorf("%s: %d objects after retiring", kind, n)
		}
	}
}

// TestCyclesAreSpelledOut finds each ring once, from its first member on, and tells rings from
// diamonds.
func TestCyclesAreSpelledOut(t *testing.T) {
	group := func(id GroupID, members ...GroupID) Group { return Group{ID: id, Of: OfDevices, Groups: members} }
	for name, c := range map[string]struct {
		groups []Group
		want   []string
	}{
		"a diamond":     {[]Group{group("a", "b", "c"), group("b", "d"), group("c", "d"), group("d")}, nil},
		"itself":        {[]Group{group("a", "a")}, []string{"a → a"}},
		"a ring of two": {[]Group{group("b", "a"), group("a", "b")}, []string{"b → a → b"}},
		"two rings": {[]Group{group("a", "b"), group("b", "a"), group("c", "d"), group("d", "e"), group("e", "c")},
			[]string{"a → b → a", "c → d → e → c"}},
		"a tail to ring": {[]Group{group("t", "a"), group("a", "b"), group("b", "a")}, []string{"a → b → a"}},
	} {
		var got []string
		for _, f := range (&Snapshot{Units: []Unit{{ID: "r"}}, Groups: c.groups}).Validate() {
			if f.Code != problem.Cycle {
				t.Errorf("%s: %v", name, f)
			}
			got = append(got, f.Found)
		}
		if !slices.Equal(got, c.want) {
			t.Errorf("%s: found %q, expected %q", name, got, c.want)
		}
	}
}
