// This file compares what is said to do nothing with what is found laptop by laptop.

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

// pairs resolves every laptop for its owner and for each further user.
func pairs(p *Plan) (all []*outcome.Result, further []bool) {
	s := p.Snapshot()
	for _, d := range s.Devices {
		users := []estate.PersonID{""}
		for _, u := range d.Users {
			known := slices.ContainsFunc(s.People, func(x *estate.Person) bool { return x.ID == u })
			if known && u != d.Owner && !slices.Contains(users, u) {
				users = append(users, u)
			}
		}
		for i, u := range users {
			r, _ := p.Effective(d.ID, u)
			all, further = append(all, r), append(further, i > 0)
		}
	}
	return all, further
}

// stood is what a setting came out as before any forcing, and between whom where policies conflict.
func stood(x *outcome.Setting) string {
	if x == nil || x.Status == outcome.Unsupported { // who lacks it has nothing either way
		return ""
	}
	value, from := x.Value, []string(nil)
	if x.Replaced != nil {
		value = x.Replaced.Value
	}
	if x.Status == outcome.Conflict {
		from = x.From
	}
	text, _ := value.MarshalJSON()
	return fmt.Sprint(x.Status, x.Reason, string(text), from)
}

func TestWhatDoesNothingLaptopByLaptop(t *testing.T) {
	t.Parallel()
	for seed := range uint64(25) {
		s := madeUp(seed)
		p := Compile(s)
		before, further := pairs(p)
		want := map[string]bool{}
		for _, pol := range s.Policies {
			if pol.State != estate.Active {
				continue
			}
			failing, reached := 0, false
			for _, n := range p.ReachOf(&pol).Errors {
				failing += n
			}
			if failing > 0 {
				want[fmt.Sprint(outcome.FailingRule, pol.ID, failing)] = true
			}
			for _, r := range before {
				reached = reached || slices.Contains(p.Applying(r), pol.ID)
			}
			if !reached {
				want[fmt.Sprint(outcome.ReachesNobody, pol.ID)] = true
				continue
			}
			for i, e := range pol.Entries {
				def := p.Definition(e.Setting)
				if def == nil {
					continue
				}
				less := pol
				less.Entries = slices.Delete(slices.Clone(pol.Entries), i, i+1)
				after, _ := pairs(Compile(s.With(estate.Edit{Kind: estate.KindPolicy, ID: string(pol.ID), Object: less})))
				devices, wins, alters := 0, false, false
				beside := []string{}
				for n, r := range before {
					if further[n] && def.Side != setting.UserSide {
						continue
					}
					x := r.Setting(e.Setting)
					alters = alters || stood(x) != stood(after[n].Setting(e.Setting))
					if slices.Contains(p.Applying(r), pol.ID) &&
						(x == nil || x.Status != outcome.Unsupported) { // where all are detached it does not appear
						devices++
					}
					if x == nil {
						continue
					}
					at := slices.IndexFunc(x.Candidates, func(c outcome.Candidate) bool { return c.Policy == pol.ID })
					if at < 0 {
						continue
					}
					wins = wins || x.Candidates[at].Fate == outcome.Won || x.Candidates[at].Fate == outcome.Clashing
					for _, c := range x.Candidates {
						if x.Candidates[at].Fate == outcome.Won && c.Fate == outcome.Won && c.Policy != pol.ID && !slices.Contains(beside, string(c.Policy)) {
							beside = append(beside, string(c.Policy))
						}
					}
				}
				slices.Sort(beside)
				switch {
				case !wins:
					want[fmt.Sprint(outcome.NeverWins, pol.ID, e.Setting, devices)] = true
				case !alters:
					want[fmt.Sprint(outcome.Redundant, pol.ID, e.Setting, devices, beside)] = true
				}
			}
		}
		for _, l := range p.Lints() {
			word := ""
			switch {
			case l.Policy == "":
				continue
			case l.Kind == outcome.FailingRule:
				word = fmt.Sprint(l.Kind, l.Policy, l.Devices)
			case l.Kind == outcome.ReachesNobody:
				word = fmt.Sprint(l.Kind, l.Policy)
			case l.Kind == outcome.NeverWins:
				word = fmt.Sprint(l.Kind, l.Policy, l.Setting, l.Devices)
			default:
				word = fmt.Sprint(l.Kind, l.Policy, l.Setting, l.Devices, l.Beside)
			}
			if !want[word] {
				t.Errorf("seed %d: %s is said, not found", seed, word)
			}
			delete(want, word)
		}
		for word := range want {
			t.Errorf("seed %d: %s is found, not said", seed, word)
		}
	}
}
