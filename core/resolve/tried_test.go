// This file tries rules over facts that no rule of the estate looks at yet.

package resolve_test

import (
	"slices"
	"testing"

	"zenithridge.example/zridge/core/estate"
	. "zenithridge.example/zridge/core/resolve"
)

// TestRulesOverFactsThatNoRuleLooksAt compares who a tried group has, and whom a tried condition
// lets a policy reach, with what an estate says that has the group, or the policy.
func TestRulesOverFactsThatNoRuleLooksAt(t *testing.T) {
	t.Parallel()
	for seed := range uint64(20) {
		s := madeUp(seed)
		bare := s.With()
		bare.Groups, bare.Policies, bare.Checks, bare.Exceptions = nil, nil, nil, nil
		for i := range bare.Settings {
			bare.Settings[i].Forced = nil
		}
		try := Compile(bare)
		for _, of := range []estate.GroupOf{estate.OfDevices, estate.OfPeople} {
			rules := deviceRules
			if of == estate.OfPeople {
				rules = personRules
			}
			for _, rule := range rules {
				g := estate.Group{ID: "tried", Of: of, Rule: rule}
				tried := try.TryGroup(&g)
				kept := try.With(try.Snapshot().With(estate.Edit{Kind: estate.KindGroup, ID: "tried", Object: g}))
				if want := kept.GroupMembers("tried"); !slices.Equal(tried.Members, want) || tried.ByRule != len(want) ||
					len(tried.Failures) != kept.GroupFailures("tried") {
					t.Errorf(
						"seed %d: %s has %v when tried and %d failures, %v and %d when kept",
						seed,
						rule.Source(),
						tried.Members,
						len(tried.Failures),
						want,
						kept.GroupFailures("tried"),
					)
				}
			}
		}
		for _, rule := range whenRules {
			pol := estate.Policy{
				ID:       "tried",
				State:    estate.Active,
				Audience: estate.Audience{Include: []estate.Target{{Kind: estate.ToEveryone}}, When: rule},
			}
			kept := try.With(try.Snapshot().With(estate.Edit{Kind: estate.KindPolicy, ID: "tried", Object: pol}))
			if tried, want := try.ReachOf(&pol).Gets.String(), kept.Applies("tried").String(); tried != want {
				t.Errorf("seed %d: %s lets %s get it when tried, %s when kept", seed, rule.Source(), tried, want)
			}
		}
	}
}
