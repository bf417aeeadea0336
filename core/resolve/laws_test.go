// This file holds the engine to what must be so whatever the estate: whom an edit can touch at
// most, what counts must add up to, and that going there and back again alters nothing.

package resolve_test

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"testing"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/outcome"
	. "zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/setting"
)

// touches gives what an edit of an estate does.
func touches(before impact.Side, kind estate.Kind, id string, object any) (impact.Side, *impact.Report) {
	after := before.With(before.Plan.Snapshot().With(estate.Edit{Kind: kind, ID: id, Object: object}))
	return after, impact.Compare(before, after)
}

// onlyOn fails where a report touches other laptops than some.
func onlyOn(t *testing.T, what string, r *impact.Report, may Devices) {
	t.Helper()
	for _, id := range r.Devices.IDs() {
		if !may.Has(id) {
			t.Fatalf("%s touches %s, which it has nothing to do with: %v", what, id, r.Transitions)
		}
	}
}

func TestWhomAnEditCanTouch(t *testing.T) {
	t.Parallel()
	for seed := range uint64(80) {
		s := madeUp(seed)
		r := rand.New(rand.NewPCG(seed, 21))
		before := impact.Resolve(s)
		other := madeUp(seed + 1000)

		p, q := pick(r, s.Policies), pick(r, other.Policies)
		p.Entries, p.Priority, p.Audience, p.Platforms = fitting(q.Entries, s), q.Priority, q.Audience, q.Platforms
		after, report := touches(before, estate.KindPolicy, string(p.ID), p)
		onlyOn(t, fmt.Sprintf("seed %d: editing %s", seed, p.ID), report, before.Plan.Applies(p.ID).Or(after.Plan.Applies(p.ID)))

		d := *pick(r, s.Devices)
		id := d.ID
		d.OSVersion, d.Unit, d.Tags, d.Facts = "13.1", pick(r, s.Units).ID, []string{"field"}, pick(r, other.Devices).Facts
		_, report = touches(before, estate.KindDevice, string(id), d)
		onlyOn(
			t,
			fmt.Sprintf("seed %d: altering %s", seed, id),
			report,
			before.Plan.Matching(estate.Target{Kind: estate.ToDevice, ID: string(id)}),
		)

		who := *pick(r, s.People)
		was := who.ID
		who.Unit, who.Attributes = pick(r, s.Units).ID, pick(r, other.People).Attributes
		_, report = touches(before, estate.KindPerson, string(was), who)
		onlyOn(
			t,
			fmt.Sprintf("seed %d: altering %s", seed, was),
			report,
			before.Plan.Matching(estate.Target{Kind: estate.ToPerson, ID: string(was)}),
		)

		u := s.Units[1+r.IntN(len(s.Units)-1)]
		u.Detach = some(r, detachments, 2)
		_, report = touches(before, estate.KindUnit, string(u.ID), u)
		onlyOn(
			t,
			fmt.Sprintf("seed %d: %s detaching", seed, u.ID),
			report,
			before.Plan.Matching(estate.Target{Kind: estate.ToUnit, ID: string(u.ID)}),
		)

		g := pick(r, s.Groups)
		g.Detach = some(r, detachments, 2)
		_, report = touches(before, estate.KindGroup, string(g.ID), g)
		onlyOn(
			t,
			fmt.Sprintf("seed %d: %s detaching", seed, g.ID),
			report,
			before.Plan.Matching(estate.Target{Kind: estate.ToGroup, ID: string(g.ID)}),
		)
	}
}

func TestARulingOnlySettlesConflicts(t *testing.T) {
	t.Parallel()
	settled := 0
	for seed := range uint64(200) {
		s := madeUp(seed)
		s.Rulings = nil
		before := impact.Resolve(s)
		for _, c := range before.Resolution.Conflicts() {
			ruling := estate.Ruling{ID: "r", Setting: c.Setting, Prefer: estate.PolicyID(c.Policies[0]), Over: estate.PolicyID(c.Policies[1])}
			after, report := touches(before, estate.KindRuling, "r", ruling)
			forced := map[setting.ID]bool{}
			for i := range s.Settings {
				forced[s.Settings[i].ID] = len(s.Settings[i].Forced) > 0
			}
			for _, tr := range report.Transitions {
				switch {
				case tr.Setting == c.Setting && tr.From.Status == outcome.Conflict && tr.To.Status == outcome.Set:
					settled++
				case !forced[tr.Setting]:
					t.Fatalf(
						"seed %d: preferring %s over %s for %s: %s goes from %v to %v",
						seed,
						ruling.Prefer,
						ruling.Over,
						c.Setting,
						tr.Setting,
						tr.From,
						tr.To,
					)
				}
			}
			if len(c.Policies) == 2 && after.Plan.Definition(c.Setting).Combine == setting.Closest && len(report.ConflictsCleared) == 0 {
				t.Fatalf("seed %d: preferring %s over %s for %s clears nothing", seed, ruling.Prefer, ruling.Over, c.Setting)
			}
		}
	}
	if settled == 0 {
		t.Error("no estate had a conflict that a ruling settles")
	}
}

// TestThereAndBackAgain edits and takes the edit back: the second report is the first the other way
// round, and what is left is what was.
func TestThereAndBackAgain(t *testing.T) {
	t.Parallel()
	for seed := range uint64(120) {
		s := madeUp(seed)
		r := rand.New(rand.NewPCG(seed, 31))
		next, what := altered(r, s)
		before := impact.Resolve(s)
		after := before.With(next)
		back := after.With(s)
		there, again := impact.Compare(before, after), impact.Compare(after, back)
		words := func(r *impact.Report, turned bool) (out []string) {
			for _, tr := range r.Transitions {
				from, to := tr.From, tr.To
				if turned {
					from, to = to, from
				}
				out = append(
					out,
					fmt.Sprintf(
						"%s %q %q %v",
						tr.Setting,
						fmt.Sprint(from.Status, from.Value.AppendIdentity(nil)),
						fmt.Sprint(to.Status, to.Value.AppendIdentity(nil)),
						tr.Devices,
					),
				)
			}
			slices.Sort(out)
			return out
		}
		if a, b := words(there, false), words(again, true); !slices.Equal(a, b) {
			t.Fatalf("seed %d, %s: there\n%v\nand back\n%v", seed, what, a, b)
		}
		if r := impact.Compare(
			before,
			back,
		); len(r.Transitions)+len(r.Audiences)+len(r.ConflictsGained)+len(r.ConflictsCleared)+len(r.ProblemsGained)+len(r.ProblemsCleared) != 0 {
			t.Fatalf("seed %d, %s: there and back again leaves %+v", seed, what, r)
		}
		if len(there.ConflictsGained) != len(again.ConflictsCleared) || len(there.ProblemsGained) != len(again.ProblemsCleared) ||
			len(there.Audiences) != len(again.Audiences) {
			t.Fatalf(
				"seed %d, %s: %d conflicts and %d problems are gained, %d and %d cleared on the way back",
				seed,
				what,
				len(there.ConflictsGained),
				len(there.ProblemsGained),
				len(again.ConflictsCleared),
				len(again.ProblemsCleared),
			)
		}
	}
}

// TestTwoStepsAreOne compares an edit after another with both at once.
func TestTwoStepsAreOne(t *testing.T) {
	t.Parallel()
	for seed := range uint64(120) {
		r := rand.New(rand.NewPCG(seed, 41))
		s := madeUp(seed)
		one, first := altered(r, s)
		two, second := altered(r, one)
		start := impact.Resolve(s)
		middle := start.With(one)
		end := middle.With(two)
		atOnce := start.With(two)
		if d := impact.Compare(end, atOnce); len(d.Transitions)+len(d.ConflictsGained)+len(d.ProblemsGained)+len(d.Audiences) != 0 {
			t.Fatalf("seed %d, %s and %s: step by step and at once differ: %+v", seed, first, second, d)
		}
		parts := map[estate.DeviceID]bool{}
		for _, step := range []*impact.Report{impact.Compare(start, middle), impact.Compare(middle, end)} {
			for _, id := range step.Devices.IDs() {
				parts[id] = true
			}
		}
		for _, id := range impact.Compare(start, end).Devices.IDs() {
			if !parts[id] {
				t.Fatalf("seed %d: %s and %s together touch %s, which neither of them does", seed, first, second, id)
			}
		}
	}
}

// TestCountsAddUp compares what is counted over all laptops with what each of them has.
func TestCountsAddUp(t *testing.T) {
	t.Parallel()
	for seed := range uint64(60) {
		s := madeUp(seed)
		plan := Compile(s)
		whole := plan.Estate()
		all := plan.All()
		for i := range s.Settings {
			id := s.Settings[i].ID
			list := whole.States(id, all)
			n := 0
			var seen Devices
			for j, h := range list {
				n += h.Devices.Len()
				if seen.And(h.Devices).Len() != 0 || j > 0 && list[j-1].Devices.Len() < h.Devices.Len() {
					t.Fatalf("seed %d: the states of %s overlap, or are out of order: %v", seed, id, list)
				}
				seen = seen.Or(h.Devices)
				for _, dev := range h.Devices.IDs() {
					if is := whole.State(id, dev); !is.Equal(h.State) {
						t.Fatalf("seed %d: %s on %s is %v, listed as %v", seed, id, dev, is, h.State)
					}
					r, _ := plan.Reasons(dev, "")
					one, appears := r.Outcome(id)
					if appears != (h.Status != "") || one.Status != h.Status || !one.Value.Equal(h.Value) {
						t.Fatalf("seed %d: %s on %s comes out as %+v, listed as %v", seed, id, dev, one, h.State)
					}
				}
			}
			if n != len(s.Devices) {
				t.Fatalf("seed %d: the states of %s are of %d laptops, expected %d", seed, id, n, len(s.Devices))
			}
			if most, ok := whole.Most(id, all); !ok || !most.Equal(list[0].State) || most.Devices.Len() != list[0].Devices.Len() {
				t.Fatalf("seed %d: most have %v of %s, the first that is listed is %v", seed, most, id, list[0])
			}
			for policy, devices := range plan.Winners(id, all) {
				if devices.Without(plan.Applies(policy)).Len() != 0 {
					t.Fatalf("seed %d: %s wins %s where it does not apply", seed, policy, id)
				}
			}
			for _, st := range plan.EntryFates(id, all, "") {
				told := 0
				for fate, n := range st.Fates {
					if told += n; fate.String() == "" || fateOf(fate.String()) != fate {
						t.Fatalf("seed %d: %s for %s has the fate %d", seed, st.Policy, id, fate)
					}
				}
				if st.Among != st.Devices || told != st.Among {
					t.Fatalf("seed %d: of %s for %s on %d laptops %d fates are told: %v", seed, st.Policy, id, st.Among, told, st.Fates)
				}
			}
		}
		if most, ok := whole.Most(s.Settings[0].ID, Devices{}); ok {
			t.Fatalf("most of nobody have %v", most)
		}
	}
	if _, ok := Compile(madeUp(1)).Estate().Most("no.such.setting", Compile(madeUp(1)).All()); ok {
		t.Error("most have a setting that there is not")
	}
	if fateOf("no such fate") != 0 || fateOf("") != 0 {
		t.Error("a word that is no fate gives one")
	}
}

// TestEntriesBesideOneAnother compares the counts of laptops on which two policies' entries meet
// with what each laptop tells by itself.
func TestEntriesBesideOneAnother(t *testing.T) {
	t.Parallel()
	met := 0
	for seed := range uint64(30) {
		s := madeUp(seed)
		plan := Compile(s)
		whole := plan.All()
		told := map[[2]estate.PolicyID]map[setting.ID]*Beside{}
		for _, dev := range whole.IDs() {
			r, err := plan.Effective(dev, "")
			if err != nil {
				t.Fatal(err)
			}
			for _, out := range r.Settings {
				for _, a := range out.Candidates {
					for _, b := range out.Candidates {
						pair := [2]estate.PolicyID{a.Policy, b.Policy}
						if told[pair] == nil {
							told[pair] = map[setting.ID]*Beside{}
						}
						if told[pair][out.ID] == nil {
							told[pair][out.ID] = &Beside{}
						}
						switch count := told[pair][out.ID]; {
						case a.Policy == b.Policy:
						case a.Fate == outcome.Won && b.Fate == outcome.Won:
							count.Both++
						case a.Fate == outcome.Clashing && b.Fate == outcome.Clashing:
							count.Conflict++
						case a.Fate == outcome.Won && b.Fate != outcome.Clashing:
							count.Over++
						case b.Fate == outcome.Won && a.Fate != outcome.Clashing:
							count.Under++
						}
					}
				}
			}
		}
		for i := range s.Settings {
			id := s.Settings[i].ID
			for j := range s.Policies {
				beside := s.Policies[j].ID
				for _, f := range plan.EntryFates(id, whole, beside) {
					var want Beside
					if count := told[[2]estate.PolicyID{f.Policy, beside}][id]; count != nil {
						want = *count
					}
					if f.Beside != want {
						t.Fatalf("seed %d, %s: %s beside %s counts %+v, laptops tell %+v", seed, id, f.Policy, beside, f.Beside, want)
					}
					met += want.Both + want.Conflict + want.Over + want.Under
				}
			}
		}
	}
	if met < 1000 {
		t.Errorf("entries met on %d laptops: too few to tell", met)
	}
}

// TestASecondPolicyThatSaysTheSame adds a policy that is as another but for its id: no laptop gets
// anything else. (Rulings name policies, so there are none.)
func TestASecondPolicyThatSaysTheSame(t *testing.T) {
	t.Parallel()
	for seed := range uint64(80) {
		s := madeUp(seed)
		s.Rulings = nil
		before := impact.Resolve(s)
		for i := range s.Policies {
			p := s.Policies[i]
			p.ID = "twin"
			_, report := touches(before, estate.KindPolicy, "twin", p)
			for _, tr := range report.Transitions {
				if named := tr.To.Value.Kind(); named != setting.FileKind && named != setting.Table {
					t.Fatalf("seed %d: a twin of %s turns %s from %v to %v on %v", seed, s.Policies[i].ID, tr.Setting, tr.From, tr.To, tr.Devices)
				}
			}
			if len(report.ProblemsGained) != 0 {
				t.Fatalf("seed %d: a twin of %s gives problems: %v", seed, s.Policies[i].ID, report.ProblemsGained)
			}
		}
	}
}

// TestAllPartsOfAReportAddUp: what alters is somewhere among the laptops that the report names,
// each setting of a laptop once.
func TestAllPartsOfAReportAddUp(t *testing.T) {
	t.Parallel()
	for seed := range uint64(100) {
		r := rand.New(rand.NewPCG(seed, 51))
		s := madeUp(seed)
		next, what := altered(r, s)
		report := impact.Compare(impact.Resolve(s), impact.Resolve(next))
		var all Devices
		of := map[setting.ID]Devices{}
		for i := range report.Transitions {
			tr := &report.Transitions[i]
			if tr.Devices.Len() == 0 || tr.From.Equal(tr.To) || of[tr.Setting].And(tr.Devices).Len() != 0 {
				t.Fatalf("seed %d, %s: %+v", seed, what, tr)
			}
			if i > 0 && report.Transitions[i-1].Setting > tr.Setting {
				t.Fatalf("seed %d, %s: %s comes before %s", seed, what, report.Transitions[i-1].Setting, tr.Setting)
			}
			of[tr.Setting], all = of[tr.Setting].Or(tr.Devices), all.Or(tr.Devices)
			if part, ok := report.Part(tr.Key()); !ok || part.Len() != tr.Devices.Len() {
				t.Fatalf("seed %d, %s: the part of %+v has %v", seed, what, tr, part)
			}
			if tr.Weaker && tr.Devices.Without(report.Weaker()).Len() != 0 {
				t.Fatalf("seed %d, %s: %+v is not among what gets weaker", seed, what, tr)
			}
		}
		for _, list := range [][]ProblemFound{report.ProblemsGained, report.ProblemsCleared} {
			for _, p := range list {
				all = all.Or(p.Devices)
			}
		}
		if !slices.Equal(all.IDs(), report.Devices.IDs()) {
			t.Fatalf("seed %d, %s: the parts have %v, the report %v", seed, what, all, report.Devices)
		}
		for _, c := range report.ConflictsGained {
			if part, ok := report.Part(impact.ConflictKey(&c, true)); !ok || part.Len() != c.Devices.Len() {
				t.Fatalf("seed %d, %s: the part of a conflict that is gained on %v has %v", seed, what, c.Devices, part)
			}
		}
	}
}

// TestALaptopInAnothersPlace removes a laptop and then adds another: seen from before both, the one
// lost what it had and the other got it.
func TestALaptopInAnothersPlace(t *testing.T) {
	t.Parallel()
	s := madeUp(7)
	start := impact.Resolve(s)
	gone := *s.Devices[0]
	middle := start.With(s.With(estate.Edit{Kind: estate.KindDevice, ID: string(gone.ID)}))
	came := gone
	came.ID = "n7"
	end := middle.With(middle.Plan.Snapshot().With(estate.Edit{Kind: estate.KindDevice, ID: "n7", Object: came}))
	r := impact.Compare(start, end)
	atOnce := impact.Compare(start, start.With(end.Plan.Snapshot()))
	if !r.Devices.Has(gone.ID) || !r.Devices.Has("n7") || len(r.Transitions) != len(atOnce.Transitions) {
		t.Errorf("in two steps it is %v on %v, at once %v on %v", r.Transitions, r.Devices, atOnce.Transitions, atOnce.Devices)
	}
}

// TestAPolicyWithoutEntriesThatComesFromElsewhere lets a policy that sets nothing come from more
// places than before: what others bring, and what is said of one laptop, stays.
func TestAPolicyWithoutEntriesThatComesFromElsewhere(t *testing.T) {
	t.Parallel()
	for seed := range uint64(40) {
		s := madeUp(seed)
		bare := estate.Policy{
			ID:       "a-bare-one",
			Kind:     setting.Security,
			State:    estate.Active,
			Audience: estate.Audience{Include: []estate.Target{{Kind: estate.ToEveryone}}},
		}
		s = s.With(estate.Edit{Kind: estate.KindPolicy, ID: string(bare.ID), Object: bare})
		slices.SortFunc(s.Policies, func(a, b estate.Policy) int { return cmp.Compare(a.ID, b.ID) }) // it has the first number
		plan := Compile(s)
		plan.Estate()
		says := func(p *Plan, id estate.DeviceID) []outcome.Setting {
			r, err := p.Effective(id, "")
			if err != nil {
				t.Fatal(err)
			}
			return r.Settings
		}
		for i := range s.Devices {
			says(plan, s.Devices[i].ID) // what one laptop is looked at with is made
		}
		for i := range len(s.Devices) / 2 { // the others get it from another of its levels than before
			bare.Audience.Include = append(bare.Audience.Include, estate.Target{Kind: estate.ToDevice, ID: string(s.Devices[i].ID)})
		}
		after := plan.With(s.With(estate.Edit{Kind: estate.KindPolicy, ID: string(bare.ID), Object: bare}))
		for i := range s.Devices {
			id := s.Devices[i].ID
			if is, want := says(after, id), says(plan, id); !reflect.DeepEqual(is, want) {
				t.Fatalf("seed %d: %s gets %v, before %v", seed, id, is, want)
			}
		}
	}
}

// fateOf reads a fate from its word.
func fateOf(word string) (f outcome.Fate) {
	f.UnmarshalText([]byte(word))
	return f
}
