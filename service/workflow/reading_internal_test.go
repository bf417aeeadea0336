package workflow

import (
	"encoding/json"
	"reflect"
	"strings"
	"testing"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/demo/world"
	"zenithridge.example/zridge/formats/files"
)

// TestABoundedEstateSaysTheSame cuts made-up estates down to some units. What their laptops get, and
// why, is the same as in the whole estate, and nothing of laptops and people elsewhere is left.
func TestABoundedEstateSaysTheSame(t *testing.T) {
	if testing.Short() {
		t.Skip("it is long under the race detector, and one goroutine does all of it")
	}
	const laptops = 50
	for seed := range uint64(2) {
		s := world.Make(world.Of(laptops), seed)
		whole := impact.Resolve(s)
		before := textOf(t, s)
		for _, units := range [][]string{{string(s.Units[1].ID)},
			{string(s.Units[len(s.Units)/2].ID), string(s.Units[len(s.Units)-1].ID)}, {string(s.Units[0].ID)}} {
			bounded := boundedSnapshot(whole, units, nil, nil)
			plan := resolve.Compile(bounded)
			want := 0
			for _, d := range s.Devices {
				inside := false
				for _, u := range units {
					inside = inside || whole.Plan.Matches(estate.Target{Kind: estate.ToUnit, ID: u}, d.ID)
				}
				if !inside {
					if plan.Device(d.ID) != nil {
						t.Fatalf("seed %d, %v: laptop %s is seen", seed, units, d.ID)
					}
					continue
				}
				want++
				a, err := whole.Plan.Effective(d.ID, "")
				if err != nil {
					t.Fatal(err)
				}
				b, err := plan.Effective(d.ID, "")
				if err != nil {
					t.Fatalf("seed %d, %v: laptop %s is not seen: %v", seed, units, d.ID, err)
				}
				for i := range max(len(a.Settings), len(b.Settings)) {
					if i >= len(a.Settings) || i >= len(b.Settings) || !reflect.DeepEqual(a.Settings[i], b.Settings[i]) {
						t.Fatalf("seed %d, %v: laptop %s gets\n%+v\nin the whole estate, and\n%+v\nin the bounded one", seed, units, d.ID,
							a.Settings[i:], b.Settings[i:])
					}
				}
				if !reflect.DeepEqual(a.Problems, b.Problems) || a.Unit != b.Unit {
					t.Fatalf("seed %d, %v: laptop %s has %+v, expected %+v", seed, units, d.ID, b.Problems, a.Problems)
				}
			}
			if plan.Size() != want {
				t.Errorf("seed %d, %v: %d laptops are seen, expected %d", seed, units, plan.Size(), want)
			}
			if units[0] == string(s.Units[0].ID) && (len(bounded.Policies) == 0 || len(bounded.Units) != len(s.Units) ||
				len(bounded.People) != len(s.People)) {
				t.Errorf("seed %d: for the organisation %d of %d units are seen", seed, len(bounded.Units), len(s.Units))
			}
			checkNothingElsewhere(t, s, bounded)
			// An altered policy is cut out of what was cut out before.
			edited := s.Policies[len(s.Policies)/2]
			edited.Priority += 7
			next := whole.With(s.With(estate.Edit{Kind: estate.KindPolicy, ID: string(edited.ID), Object: edited}))
			if again, fresh := boundedSnapshot(next, units, s, bounded), boundedSnapshot(next, units, nil, nil); textOf(t,
				again) != textOf(t, fresh) {
				t.Errorf("seed %d, %v: after an edit another estate is seen than when it is cut out anew", seed, units)
			}
		}
		if textOf(t, s) != before {
			t.Errorf("seed %d: cutting out altered the estate", seed)
		}
	}
}

// textOf gives an estate as text.
func textOf(t *testing.T, s *estate.Snapshot) string {
	t.Helper()
	var out strings.Builder
	for _, kind := range estate.Kinds {
		for _, o := range files.Objects(s, kind) {
			data, err := files.EncodeJSON(o)
			if err != nil {
				t.Fatal(err)
			}
			out.Write(data)
		}
	}
	return out.String()
}

// checkNothingElsewhere looks for the ids of laptops and people that are not seen in all that is.
func checkNothingElsewhere(t *testing.T, all, bounded *estate.Snapshot) {
	t.Helper()
	texts := map[string]bool{}
	var gather func(v any)
	gather = func(v any) {
		switch x := v.(type) {
		case string:
			texts[x] = true
		case []any:
			for _, one := range x {
				gather(one)
			}
		case map[string]any:
			for _, one := range x {
				gather(one)
			}
		}
	}
	for _, kind := range estate.Kinds {
		for _, o := range files.Objects(bounded, kind) {
			data, err := files.EncodeJSON(o)
			if err != nil {
				t.Fatal(err)
			}
			var doc any
			if err := json.Unmarshal(data, &doc); err != nil {
				t.Fatal(err)
			}
			gather(doc)
		}
	}
	for _, d := range all.Devices {
		if bounded.Device(d.ID) == nil && (texts[string(d.ID)] || texts["device:"+string(d.ID)]) {
			t.Fatalf("laptop %s is named", d.ID)
		}
	}
	for _, p := range all.People {
		if bounded.Person(p.ID) == nil && (texts[string(p.ID)] || texts["person:"+string(p.ID)]) {
			t.Fatalf("person %s is named", p.ID)
		}
	}
	for i := range all.Policies {
		if id := string(all.Policies[i].ID); bounded.Object(estate.KindPolicy, id) == nil && texts[id] && !strings.Contains(id, "/") {
			t.Fatalf("policy %s is named", id)
		}
	}
}

// BenchmarkBoundedEstate cuts an estate of 100,000 laptops down to a unit of the second level: at
// first, and after a publication of one policy.
func BenchmarkBoundedEstate(b *testing.B) {
	s := world.Make(world.Of(100_000), 1)
	whole := impact.Resolve(s)
	unit := string(s.Units[1].ID)
	edited := s.Policies[0]
	edited.Priority++
	next := whole.With(s.With(estate.Edit{Kind: estate.KindPolicy, ID: string(edited.ID), Object: edited}))
	b.Run("first", func(b *testing.B) {
		for b.Loop() {
			bounded := impact.Resolve(boundedSnapshot(whole, []string{unit}, nil, nil))
			b.ReportMetric(float64(bounded.Plan.Size()), "laptops-seen")
		}
	})
	b.Run("after-a-publication", func(b *testing.B) {
		bounded := impact.Resolve(boundedSnapshot(whole, []string{unit}, nil, nil))
		for b.Loop() {
			bounded.With(boundedSnapshot(next, []string{unit}, s, bounded.Plan.Snapshot()))
		}
	})
}
