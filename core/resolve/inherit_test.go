package resolve_test

import (
	"fmt"
	"slices"
	"testing"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	. "zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/setting"
)

// inheritedOneByOne says what a place inherits by going through its laptops, each with its own
// explanation.
func inheritedOneByOne(t *testing.T, plan *Plan, place estate.Target, here outcome.Level) map[setting.ID]map[string]int {
	t.Helper()
	out := map[setting.ID]map[string]int{}
	for _, dev := range plan.Snapshot().Devices {
		if !plan.Matches(place, dev.ID) {
			continue
		}
		got, err := plan.Effective(dev.ID, "")
		if err != nil {
			t.Fatal(err)
		}
		for _, s := range append(got.Settings, droppedAlone(plan.Snapshot(), dev, got)...) {
			if s.Status == outcome.Unsupported || len(s.Candidates) == 0 {
				continue
			}
			counts := out[s.ID]
			if counts == nil {
				counts = map[string]int{}
				out[s.ID] = counts
			}
			how, from := s.How, s.From
			if s.Replaced != nil {
				how, from = s.Replaced.How, s.Replaced.From
			}
			has := map[string]bool{}
			if how == outcome.ByException {
				has["inner"] = true
			}
			whence := func(c outcome.Candidate) outcome.Whence {
				switch {
				case c.Level < here:
					return outcome.FromAbove
				case c.Level > here:
					return outcome.FromCloser
				case place.Kind == estate.ToGroup && !slices.Contains(plan.Policy(c.Policy).Audience.Include, place):
					return outcome.FromBeside
				}
				return outcome.FromHere
			}
			for _, c := range s.Candidates {
				switch {
				case c.Fate == outcome.Won && whence(c) == outcome.FromAbove:
					has["above"] = true
					has["locked"] = has["locked"] || c.Locked
				case c.Fate == outcome.Won:
					has["inner"] = true
				}
			}
			for _, c := range s.Candidates {
				key := fmt.Sprint(c.Policy, " ", c.Level, " ", whence(c))
				counts[key]++
				counts[key+" "+c.Fate.String()]++
				switch {
				case c.Fate == outcome.Won:
				case c.Fate == outcome.Clashing:
					has["clashing"] = true
				case c.Fate == outcome.Detached:
					has["detached"] = has["detached"] || whence(c) == outcome.FromAbove
				default:
					if whence(c) == outcome.FromAbove && has["inner"] {
						has["overridden"] = true
					}
					if how == outcome.ByException {
						counts[key+" beaten by "+from[0]]++
					}
					for _, other := range s.Candidates {
						if other.Fate == outcome.Won {
							counts[key+" beaten by "+string(other.Policy)]++
						}
					}
				}
			}
			has["own"] = has["inner"] && !has["above"]
			delete(has, "inner")
			for what, is := range has {
				if is {
					counts[what]++
				}
			}
		}
	}
	return out
}

// droppedAlone gives the settings that do not appear on a laptop since all their entries are
// detached there.
func droppedAlone(s *estate.Snapshot, dev *estate.Device, got *outcome.Result) (out []outcome.Setting) {
	o := oracle{s}
	owner := o.person(dev.Owner)
	for i := range s.Settings {
		def := &s.Settings[i]
		if slices.ContainsFunc(got.Settings, func(s outcome.Setting) bool { return s.ID == def.ID }) ||
			def.SupportOn(dev.OS, dev.OSVersion, dev.Edition) != "" {
			continue
		}
		dropped := outcome.Setting{ID: def.ID}
		for _, p := range o.policies() {
			level, why, _ := o.applies(p, dev, owner)
			if why != "" || p.Entry(def.ID) == nil {
				continue
			}
			is := outcome.Level(level)
			if level >= 100 {
				is = outcome.GroupLevel + outcome.Level(level-100)
			}
			dropped.Candidates = append(dropped.Candidates, outcome.Candidate{Policy: p.ID, Level: is, Fate: outcome.Detached})
		}
		out = append(out, dropped)
	}
	return out
}

// TestWhatAPlaceInherits compares what is said of every unit and group of made-up estates with the
// explanations of its laptops.
func TestWhatAPlaceInherits(t *testing.T) {
	t.Parallel()
	seen := map[string]int{}
	for seed := range uint64(60) {
		s := madeUp(seed)
		plan := Compile(s)
		depths := map[estate.UnitID]outcome.Level{}
		for range s.Units { // parents may come after their children
			for _, u := range s.Units {
				if u.Parent != "" {
					depths[u.ID] = depths[u.Parent] + 1
				}
			}
		}
		places := map[estate.Target]outcome.Level{}
		for _, u := range s.Units {
			places[estate.Target{Kind: estate.ToUnit, ID: string(u.ID)}] = depths[u.ID]
		}
		for _, g := range s.Groups {
			places[estate.Target{Kind: estate.ToGroup, ID: string(g.ID)}] = outcome.GroupLevel
		}
		for place, here := range places {
			want := inheritedOneByOne(t, plan, place, here)
			got := plan.Inheritance(place)
			if len(got) != len(want) {
				t.Fatalf("seed %d, %s: %d settings, its laptops have %d", seed, place, len(got), len(want))
			}
			for _, i := range got {
				counts := map[string]int{}
				for what, n := range map[string]int{"above": i.Above, "locked": i.Locked, "overridden": i.Overridden, "detached": i.Detached,
					"own": i.Own, "clashing": i.Clashing} {
					if n > 0 {
						counts[what] = n
						seen[what]++
					}
				}
				for _, a := range i.Arrivals {
					key := fmt.Sprint(a.Policy, " ", a.Level, " ", a.Whence)
					seen[string(a.Whence)]++
					counts[key] = a.Devices
					for fate, n := range a.Fates {
						counts[key+" "+fate.String()] = n
					}
					for _, b := range a.Beaten {
						counts[key+" beaten by "+string(b.Policy)+b.Exception] = b.Devices
					}
				}
				if fmt.Sprint(counts) != fmt.Sprint(want[i.Setting]) {
					t.Fatalf("seed %d, %s, %s:\n%v, its laptops have\n%v", seed, place, i.Setting, counts, want[i.Setting])
				}
			}
		}
	}
	for _, what := range []string{"above", "locked", "overridden", "detached", "own", "clashing", "here", "beside", "closer"} {
		if seen[what] == 0 {
			t.Errorf("nothing of the kind %q came up", what)
		}
	}
}
