// This file compares the resolver with the oracle over made-up estates, and runs laws over them.

package resolve_test

import (
	"fmt"
	"reflect"
	"slices"
	"testing"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/outcome"
	. "zenithridge.example/zridge/core/resolve"
)

// differs compares a subject with the oracle and says what is not the same.
func differs(s *estate.Snapshot, plan *Plan, d *estate.Device, who *estate.Person) string {
	var named estate.PersonID
	if who != nil {
		named = who.ID
	}
	got, err := plan.Effective(d.ID, named)
	if err != nil {
		return err.Error()
	}
	o := oracle{s}
	if who == nil {
		who = o.person(d.Owner)
	}
	want, problems := o.subject(d, who)
	if len(got.Settings) != len(want) {
		return fmt.Sprintf("%d settings, the oracle has %d", len(got.Settings), len(want))
	}
	for _, g := range got.Settings {
		is := decided{status: g.Status, reason: g.Reason, value: g.Value, how: g.How, from: g.From}
		for _, c := range g.Candidates {
			is.fates = append(is.fates, string(c.Policy)+" "+c.Fate.String())
		}
		if g.Replaced != nil {
			is.replaced = g.Replaced.Value.String() + " " + string(g.Replaced.How) + " "
			for i, f := range g.Replaced.From {
				if i > 0 {
					is.replaced += ","
				}
				is.replaced += f
			}
		}
		w := want[g.ID]
		if !is.value.Equal(w.value) ||
			fmt.Sprint(
				is.status,
				is.reason,
				is.how,
				is.from,
				is.replaced,
				is.fates,
			) != fmt.Sprint(
				w.status,
				w.reason,
				w.how,
				w.from,
				w.replaced,
				w.fates,
			) {
			return fmt.Sprintf("%s for %s: %+v, the oracle says %+v", g.ID, named, is, w)
		}
	}
	if len(got.Problems) != len(problems) {
		return fmt.Sprintf("problems %v, the oracle has %v", got.Problems, problems)
	}
	for _, p := range got.Problems {
		from := ""
		for i, f := range p.From {
			if i > 0 {
				from += ","
			}
			from += f
		}
		if want, found := problems[string(p.Check)]; !found || want != from {
			return fmt.Sprintf("problem %s from %s, the oracle says %q", p.Check, from, want)
		}
	}
	for i := range s.Policies {
		_, why, targets := o.applies(&s.Policies[i], d, who)
		at := slices.IndexFunc(got.NotApplying, func(n outcome.NotApplying) bool { return n.Policy == s.Policies[i].ID })
		if (at < 0) != (why == "") {
			return fmt.Sprintf("%s: not applying is %v, the oracle's reason is %q", s.Policies[i].ID, at >= 0, why)
		}
		if at >= 0 && (got.NotApplying[at].Reason != why || len(got.NotApplying[at].Targets) != len(targets)) {
			return fmt.Sprintf("%s: %+v, the oracle says %s %v", s.Policies[i].ID, got.NotApplying[at], why, targets)
		}
	}
	return ""
}

// outcomesDiffer compares what is kept in little memory with the records that are made of it.
func outcomesDiffer(plan *Plan, d *estate.Device, who estate.PersonID) string {
	r, err := plan.Reasons(d.ID, who)
	if err != nil {
		return err.Error()
	}
	records := r.Result()
	var bare []outcome.Setting
	candidates := 0
	for _, s := range records.Settings {
		candidates += len(s.Candidates)
		bare = append(bare, outcome.Setting{ID: s.ID, Status: s.Status, Reason: s.Reason, Value: s.Value, How: s.How})
		if one, ok := r.Outcome(s.ID); !ok || !reflect.DeepEqual(one, bare[len(bare)-1]) {
			return fmt.Sprintf("%s comes out as %+v, its record says %+v", s.ID, one, s)
		}
	}
	if got := slices.Collect(r.Outcomes); !reflect.DeepEqual(got, bare) || r.Len() != len(bare) || r.Candidates() != candidates {
		return fmt.Sprintf(
			"%d settings with %d candidates come out as %+v, the records say %+v with %d",
			r.Len(),
			r.Candidates(),
			got,
			bare,
			candidates,
		)
	}
	if _, ok := r.Outcome("no such setting"); ok {
		return "a setting that there is not comes out as something"
	}
	return ""
}

func compareAll(t *testing.T, seed uint64) {
	s := madeUp(seed)
	plan := Compile(s)
	for i := range s.Devices {
		if d := differs(s, plan, s.Devices[i], nil); d != "" {
			t.Fatalf("seed %d, %s: %s", seed, s.Devices[i].ID, d)
		}
	}
	who := s.People[seed%uint64(len(s.People))]
	for _, id := range []estate.PersonID{"", who.ID} {
		if d := outcomesDiffer(plan, s.Devices[0], id); d != "" {
			t.Fatalf("seed %d, %s with %q: %s", seed, s.Devices[0].ID, id, d)
		}
	}
	if d := differs(s, plan, s.Devices[0], who); d != "" {
		t.Fatalf("seed %d, %s with %s: %s", seed, s.Devices[0].ID, who.ID, d)
	}
}

func TestAgreesWithTheOracle(t *testing.T) {
	t.Parallel()
	for seed := range uint64(400) {
		compareAll(t, seed)
	}
}

func FuzzAgreesWithTheOracle(f *testing.F) {
	f.Add(uint64(1))
	f.Fuzz(compareAll)
}

func TestLaws(t *testing.T) {
	t.Parallel()
	for seed := range uint64(60) {
		s := madeUp(seed)
		before := impact.Resolve(s)
		t.Run(fmt.Sprintf("order of input never matters/%d", seed), func(t *testing.T) {
			other := Compile(shuffled(s, seed)).Estate()
			for r := range other.All {
				want, _ := before.Plan.Effective(r.Device, "")
				if !reflect.DeepEqual(r.Settings, want.Settings) || !reflect.DeepEqual(r.Problems, want.Problems) {
					t.Fatalf("%s differs after a shuffle", r.Device)
				}
			}
		})
		t.Run(fmt.Sprintf("nothing changed has no impact/%d", seed), func(t *testing.T) {
			if r := impact.Compare(
				before,
				impact.Resolve(s.With()),
			); r.Devices.Len()+len(r.Transitions)+len(r.ConflictsGained)+len(r.ProblemsCleared)+len(r.Audiences) != 0 {
				t.Fatalf("impact of nothing: %+v", r)
			}
		})
		t.Run(fmt.Sprintf("a policy that reaches nobody changes nobody/%d", seed), func(t *testing.T) {
			extra := s.Policies[0]
			extra.ID, extra.Audience = "zz", estate.Audience{}
			after := impact.Resolve(s.With(estate.Edit{Kind: estate.KindPolicy, ID: "zz", Object: extra}))
			if r := impact.Compare(before, after); len(r.Transitions) != 0 {
				t.Fatalf("it changed %v", r.Devices)
			}
		})
		t.Run(fmt.Sprintf("an exclude never adds a laptop/%d", seed), func(t *testing.T) {
			p := s.Policies[seed%9]
			p.Audience.Exclude = append(slices.Clip(p.Audience.Exclude), estate.Target{Kind: estate.ToUnit, ID: "u1"})
			was, _ := before.Plan.Reach(p.ID)
			is, _ := Compile(s.With(estate.Edit{Kind: estate.KindPolicy, ID: string(p.ID), Object: p})).Reach(p.ID)
			for _, d := range is.Gets.IDs() {
				if !was.Gets.Has(d) {
					t.Fatalf("%s was added", d)
				}
			}
		})
		t.Run(fmt.Sprintf("a redundant entry can go/%d", seed), func(t *testing.T) {
			for _, l := range before.Plan.Lints() {
				if l.Kind != outcome.Redundant && l.Kind != outcome.NeverWins {
					continue
				}
				at := slices.IndexFunc(s.Policies, func(p estate.Policy) bool { return p.ID == l.Policy })
				p := s.Policies[at]
				p.Entries = slices.DeleteFunc(slices.Clone(p.Entries), func(e estate.Entry) bool { return e.Setting == l.Setting })
				r := impact.Compare(before, impact.Resolve(s.With(estate.Edit{Kind: estate.KindPolicy, ID: string(p.ID), Object: p})))
				for _, tr := range r.Transitions {
					if tr.Setting == l.Setting && tr.From.Status != outcome.Unsupported {
						t.Fatalf("without %s in %s (%s): %+v", l.Setting, l.Policy, l.Kind, tr)
					}
				}
			}
		})
	}
}
