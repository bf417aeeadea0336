// This file orders the entries for each setting by precedence, with the exceptions of the day and
// the rulings.
//
// A setting has one index (decide.Index), the same for all laptops: which entry goes before which
// does not depend on the laptop, only which of them apply there does. An edit of one policy puts
// the entries of that policy into the order anew and leaves the others where they are.

package resolve

import (
	"cmp"
	"iter"
	"maps"
	"slices"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/resolve/internal/decide"
	"zenithridge.example/zridge/core/resolve/internal/intern"
	"zenithridge.example/zridge/core/resolve/internal/match"
	"zenithridge.example/zridge/core/threads"
)

// decisions builds the index of each setting: its entries in order of precedence, the exceptions of
// the day, the rulings.
func (b *builder) decisions() {
	was, p := b.was, b.next
	exceptions := intern.Compare(
		was.snapshot.Exceptions,
		p.snapshot.Exceptions,
		func(x *estate.Exception) estate.ExceptionID { return x.ID },
		sameException,
	)
	rulings := intern.Compare(
		was.snapshot.Rulings,
		p.snapshot.Rulings,
		func(r *estate.Ruling) estate.RulingID { return r.ID },
		func(x, y *estate.Ruling) bool { return *x == *y },
	)
	// Both kinds of change alter the order of precedence: other entries, and entries that come from
	// other levels. again collects, for each setting, the policies whose entries must be put in
	// order anew. An index that is not in it is shared.
	again := maps.Clone(b.levels) // by setting: policies whose entries must be ordered again
	for at, policies := range b.edited {
		for _, pol := range again[at] {
			if !slices.Contains(policies, pol) {
				policies = append(slices.Clip(policies), pol)
			}
		}
		again[at] = policies
	}
	// Exceptions depend on their own list, on the day, on what targets name, and on the dictionary.
	if !exceptions.Same || was.snapshot.Day != p.snapshot.Day || b.otherTargets() || b.dictionaryAltered {
		b.takeExceptions()
	} else {
		p.excepted = was.excepted
	}
	if !rulings.Same || b.dictionaryAltered {
		b.takeRulings()
	}
	// With another dictionary the numbers of settings may differ, so every index is made again.
	if was == nothing || b.dictionaryAltered {
		p.rankAll()
		return
	}
	// Each index belongs to one setting, so indices are ordered on several threads without locks.
	settings := slices.Collect(maps.Keys(again))
	threads.Share(len(settings), func(mine iter.Seq[int]) {
		for i := range mine {
			if at := settings[i]; p.settings[at].Def != nil {
				p.rerank(at, again[at])
			}
		}
	})
}

// rankAll orders the entries of all settings by precedence.
func (p *Plan) rankAll() {
	sources := make([][]decide.Source, len(p.settings))
	// One pass over all entries distributes them by setting, in the order of policies.
	for _, at := range p.byPolicy {
		for _, e := range p.policies[at].entries {
			sources[e.setting] = p.sourceOf(at, e, sources[e.setting])
		}
	}
	for at := range p.settings {
		if ix := &p.settings[at].Index; ix.Def != nil {
			ix.Rank(sources[at])
		} else {
			ix.Clear()
		}
	}
}

// rerank orders the entries of one setting again after entries or levels of some policies altered.
func (p *Plan) rerank(at int, altered []int) {
	// An altered policy that no longer has an entry for the setting only leaves the index.
	var sources []decide.Source
	for _, pol := range altered {
		if i, found := p.policies[pol].entryAt(at); found {
			sources = p.sourceOf(pol, p.policies[pol].entries[i], sources)
		}
	}
	p.settings[at].Rerank(altered, sources)
}

// sourceOf adds the entry of a policy to the index of a setting, if the policy is active.
func (p *Plan) sourceOf(at int, e entry, to []decide.Source) []decide.Source {
	pol := &p.policies[at]
	// Policies that are not active have no candidates. They are matched by Reach, which asks what
	// they would do.
	if pol.State != estate.Active {
		return to
	}
	return append(
		to,
		decide.Source{Policy: at, ID: pol.ID, Priority: pol.Priority, Strength: strengthOf(pol.Policy), Levels: pol.audience.Levels, Entry: e.Entry},
	)
}

// strengthOf says which policies override a policy whatever their priorities.
func strengthOf(p *estate.Policy) decide.Strength {
	switch {
	case p.Baseline != "":
		return decide.OfBaseline
	case p.Offered:
		return decide.Offered
	}
	return decide.Enforced
}

// takeExceptions orders the exceptions of the day so that the first that matches wins: the closest
// target, then the latest approval, then the lowest id.
func (b *builder) takeExceptions() {
	p := b.next
	type exempting struct {
		decide.Exception
		target match.Target
	}
	// Exceptions by number of the setting. The targets are kept beside them: decide looks at rows,
	// and does not know targets.
	lists := map[int][]exempting{}
	for i := range p.snapshot.Exceptions {
		x := &p.snapshot.Exceptions[i]
		at, known := p.settingAt.Number(x.Setting)
		t := p.Target(x.Target)
		// Exceptions outside of their dates, and those that name something unknown, count for
		// nothing.
		if !x.CountsOn(p.snapshot.Day) || !known || t.At == intern.None {
			continue
		}
		number := intern.LeftUnset
		if !x.Unset {
			number = p.settings[at].Outcomes.Value(x.Value).Number
		}
		lists[at] = append(lists[at], exempting{decide.Exception{Exception: x, Outcome: number}, t})
	}
	p.excepted = slices.Sorted(maps.Keys(lists))
	for at := range p.settings {
		list, was := lists[at], &p.settings[at]
		// In the order in which they are looked at: the first that matches a laptop decides.
		slices.SortFunc(list, func(x, y exempting) int {
			return cmp.Or(cmp.Compare(y.target.Level, x.target.Level), cmp.Compare(y.ApprovedOn, x.ApprovedOn), cmp.Compare(x.ID, y.ID))
		})
		same := len(list) == len(was.Exceptions)
		var exceptions []decide.Exception
		var exempt []match.Target
		for i, x := range list {
			// Exceptions are compared in order with those that the index had.
			same = same && x.target.At == was.exempt[i].At && sameException(x.Exception.Exception, was.Exceptions[i].Exception)
			exceptions, exempt = append(exceptions, x.Exception), append(exempt, x.target)
		}
		// Another exception, or another order of them, can alter the outcome on any laptop.
		if !same {
			b.settings[at] = true
		}
		was.Exceptions, was.exempt = exceptions, exempt
	}
}

// takeRulings gathers rulings by setting. A setting with other rulings than before is decided again
// for all laptops.
func (b *builder) takeRulings() {
	p := b.next
	// Rulings have no order: for two policies of one setting there is one, or none.
	all := map[int]map[decide.Ruling]bool{}
	for _, r := range p.snapshot.Rulings {
		if at, known := p.settingAt.Number(r.Setting); known {
			if all[at] == nil {
				all[at] = map[decide.Ruling]bool{}
			}
			all[at][decide.Ruling{Prefer: r.Prefer, Over: r.Over}] = true
		}
	}
	for at := range p.settings {
		if !maps.Equal(all[at], p.settings[at].Rulings) {
			b.settings[at] = true
		}
		p.settings[at].Rulings = all[at]
	}
}
