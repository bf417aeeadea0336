package resolve_test

import (
	"slices"
	"testing"

	"zenithridge.example/zridge/core/estate"
	. "zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/setting"
)

// TestSetByIsWhatPoliciesSay compares the policies that set each setting with a look at all of
// them, in made-up estates and after a policy left, came back and lost an entry.
func TestSetByIsWhatPoliciesSay(t *testing.T) {
	t.Parallel()
	compare := func(seed uint64, plan *Plan) {
		t.Helper()
		s := plan.Snapshot()
		for i := range s.Settings {
			id := s.Settings[i].ID
			var want, got []string
			for j := range s.Policies {
				for _, e := range s.Policies[j].Entries {
					if e.Setting == id {
						want = append(want, string(s.Policies[j].ID)+" "+e.Value.String())
					}
				}
			}
			for p, e := range plan.SetBy(id) {
				got = append(got, string(p.ID)+" "+e.Value.String())
			}
			slices.Sort(want)
			if slices.Sort(got); !slices.Equal(got, want) {
				t.Fatalf("seed %d: %s is set by %q, expected %q", seed, id, got, want)
			}
		}
	}
	for seed := range uint64(40) {
		s := madeUp(seed)
		plan := Compile(s)
		compare(seed, plan)
		if len(s.Policies) == 0 {
			continue
		}
		first := s.Policies[0]
		gone := s.With(estate.Edit{Kind: estate.KindPolicy, ID: string(first.ID)})
		plan = plan.With(gone)
		compare(seed, plan)
		first.Entries = first.Entries[:len(first.Entries)/2]
		plan = plan.With(gone.With(estate.Edit{Kind: estate.KindPolicy, ID: string(first.ID), Object: first}))
		compare(seed, plan)
	}
	for range Compile(&estate.Snapshot{}).SetBy(setting.ID("no.such")) {
		t.Error("nobody sets what there is not")
	}
}
