// This file finds policies and entries that do nothing.

package resolve

import (
	"slices"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/setting"
)

// LintKind says what kind of doing nothing it is.
type LintKind string

const (
	Redundant     LintKind = "redundant"      // the entry repeats what would stand anyway, everywhere
	NeverWins     LintKind = "never-wins"     // the entry wins nowhere
	ReachesNobody LintKind = "reaches-nobody" // the policy applies to no laptop
)

// Lint is one finding. Setting is empty for ReachesNobody.
type Lint struct {
	Kind    LintKind
	Policy  estate.PolicyID
	Setting setting.ID
	Beside  []string // with Redundant: the policies that give the same value where it wins, sorted
	Devices int      // with Redundant and NeverWins: laptops on which the entry is a candidate
}

// entryUse is what is seen of one entry over all subjects.
type entryUse struct {
	devices      int
	wins, alters bool
	beside       map[string]bool
}

// Lints looks at every active policy over every laptop with its owner and its further users. Of a further
// user only user-side settings count. Findings come by policy, then setting.
func (p *Plan) Lints() []Lint {
	reached := make(map[estate.PolicyID]bool, len(p.policies))
	uses := map[estate.PolicyID]map[setting.ID]*entryUse{}
	for i := range p.policies {
		if p.policies[i].State == estate.Active {
			uses[p.policies[i].ID] = map[setting.ID]*entryUse{}
			for j := range p.policies[i].entries {
				uses[p.policies[i].ID][p.policies[i].entries[j].Setting] = &entryUse{beside: map[string]bool{}}
			}
		}
	}
	for dev := range p.devices {
		p.watch(dev, p.devices[dev].owner, reached, uses)
		for _, u := range p.devices[dev].Users {
			if at := p.personAt[u]; at != p.devices[dev].owner {
				p.watch(dev, at, reached, uses)
			}
		}
	}
	var lints []Lint
	for i := range p.policies {
		pol := &p.policies[i]
		if pol.State != estate.Active {
			continue
		}
		if !reached[pol.ID] {
			lints = append(lints, Lint{Kind: ReachesNobody, Policy: pol.ID})
			continue
		}
		for _, e := range pol.entries {
			use := uses[pol.ID][e.Setting]
			switch {
			case !use.wins:
				lints = append(lints, Lint{Kind: NeverWins, Policy: pol.ID, Setting: e.Setting, Devices: use.devices})
			case !use.alters:
				beside := make([]string, 0, len(use.beside))
				for other := range use.beside {
					beside = append(beside, other)
				}
				slices.Sort(beside)
				lints = append(lints, Lint{Kind: Redundant, Policy: pol.ID, Setting: e.Setting, Beside: beside, Devices: use.devices})
			}
		}
	}
	return lints
}

// watch notes what each entry does for one subject.
func (p *Plan) watch(dev, signedIn int, reached map[estate.PolicyID]bool, uses map[estate.PolicyID]map[setting.ID]*entryUse) {
	r := p.effective(dev, signedIn, nil)
	for _, id := range p.Applying(r) {
		reached[id] = true
	}
	for i := range r.Settings {
		s := &r.Settings[i]
		at := p.settingAt[s.ID]
		if signedIn != p.devices[dev].owner && p.definitions[at].Side != setting.UserSide {
			continue
		}
		for c := range s.Candidates {
			use := uses[s.Candidates[c].Policy][s.ID]
			use.devices++
			if fate := s.Candidates[c].Fate; fate == Won || fate == Clashing {
				use.wins = true
				for _, other := range s.From {
					if other != string(s.Candidates[c].Policy) && fate == Won {
						use.beside[other] = true
					}
				}
			}
			use.alters = use.alters || p.altersWithout(s, c, at)
		}
	}
}

// altersWithout tells whether the setting would be decided otherwise without one of its candidates.
// Candidates that lost to a level, a priority, a lock or a stricter value can be left out without a look:
// what beat them beats as well without them.
func (p *Plan) altersWithout(s *Setting, without, at int) bool {
	switch s.Candidates[without].Fate {
	case Won, Clashing, RuledOut:
	default:
		return false
	}
	rest := slices.Delete(slices.Clone(s.Candidates), without, without+1)
	for i := range rest {
		if rest[i].Fate != Detached {
			rest[i].Fate = ""
		}
	}
	after, appears := decide(p.definitions[at], rest, nil, p.rulings[at])
	before := s.Value
	if s.Replaced != nil {
		before = s.Replaced.Value
	}
	return !appears || after.Status != s.Status || !after.Value.Equal(before)
}
