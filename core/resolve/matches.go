// This file loads the matches of policies for a block, and makes candidates of them.
//
// A plan has, for each policy and level, packed sets of rows. A block is decided setting by
// setting, and the same policies come up again and again, so a set is unpacked once for each block,
// and is kept by the worker until the next block. A candidate is an entry together with the rows on
// which its policy applies at its level, less those that are detached from it.

package resolve

import (
	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve/internal/decide"
	"zenithridge.example/zridge/core/resolve/internal/match"
	"zenithridge.example/zridge/core/setting"
)

// lacking gives the rows that do not support a setting.
func (w *worker) lacking(c *settingIndex) *match.Lacking { return w.Lacking(c.Def, c.support) }

// supported takes the rows out that do not support a setting.
func (w *worker) supported(c *settingIndex, rows *bitset.Set) {
	if c.limited {
		w.Supported(c.Def, c.support, rows)
	}
}

// match gives the laptops that get a policy at one level; of others than those looked at it may
// leave some out. A level match is unpacked when it is first asked for in a block. Most policies
// have nothing in most blocks.
func (w *worker) match(pol, levelAt int) *levelMatch {
	a := w.matchBuffer(pol, levelAt)
	if a.epoch != w.Epoch {
		w.loadMatch(a, w.plan.policies[pol].matches[levelAt][w.Block])
	}
	return a
}

// matchBuffer gives where the sets of a level match are kept.
func (w *worker) matchBuffer(pol, levelAt int) *levelMatch {
	if n := int(w.plan.firstMatch[len(w.plan.policies)]); len(w.matches) < n {
		w.matches = append(w.matches, make([]levelMatch, n-len(w.matches))...)
	}
	return &w.matches[int(w.plan.firstMatch[pol])+levelAt]
}

// loadMatch unpacks the laptops of a level, of those that are looked at.
func (w *worker) loadMatch(a *levelMatch, packed bitset.Packed) {
	*a = levelMatch{epoch: w.Epoch}
	// No rows in this block.
	if packed == nil {
		return
	}
	// Of many rows, those of the block that are looked at are unpacked in one pass.
	if len(w.Few) == 0 {
		dom := &w.Dom
		if w.loading != nil {
			dom = w.loading
		}
		if rows := w.Keep(); packed.Within(dom, rows) {
			a.all = rows
		} else {
			w.Unkeep()
		}
		return
	}
	// Of few rows, each is looked up in the packed set, which is faster than unpacking it.
	for _, row := range w.Few {
		if packed.Has(row) {
			if a.all == nil {
				a.all = w.Keep()
			}
			a.all.Add(row)
		}
	}
}

// pendingMatch is a level match that is to be loaded.
type pendingMatch struct {
	match  *levelMatch
	packed bitset.Packed
}

// loadMatches takes the levels of some keys. They are all looked up before any is taken: most are
// far apart in memory, and none has to wait for another then.
func (w *worker) loadMatches(keys []uint32) {
	w.toLoad = w.toLoad[:0]
	for _, key := range keys {
		policy, levelAt := decide.Unkey(key)
		if a := w.matchBuffer(policy, levelAt); a.epoch != w.Epoch {
			w.toLoad = append(w.toLoad, pendingMatch{a, w.plan.policies[policy].matches[levelAt][w.Block]})
		}
	}
	for i := range w.toLoad {
		w.loadMatch(w.toLoad[i].match, w.toLoad[i].packed)
	}
}

// split tells apart which laptops of a level match are detached from entries of policies of a kind
// for settings of an area. detached is nil where nobody is.
func (w *worker) split(a *levelMatch, kind setting.PolicyKind, area string, level outcome.Level) (live, detached *bitset.Set) {
	// Unless some place detaches this area alone, the split depends on the kind and the level, and
	// is the same for all entries of the policy.
	if !w.plan.DetachedAreas[area] { // the area does not matter
		if a.split != w.Epoch {
			a.split = w.Epoch
			a.inherited, a.detached = w.parted(a.all, w.Detached(kind, "", level))
		}
		return a.inherited, a.detached
	}
	return w.parted(a.all, w.Detached(kind, area, level))
}

// parted parts rows by whether they are among those who are away; those sets are all and nil where
// nobody is.
func (w *worker) parted(all, away *bitset.Set) (live, detached *bitset.Set) {
	if away == nil || !away.Meets(all) {
		return all, nil
	}
	live, detached = w.Keep(), w.Keep()
	detached.SetAnd(all, away)
	live.SetAndNot(all, away)
	return live, detached
}

// candidates gives the entries for a setting that rows of dom have, in order of precedence. It is
// good until the next call.
func (w *worker) candidates(c *settingIndex, dom *bitset.Set) []decide.Candidate {
	w.in = w.in[:0]
	w.loadMatches(c.Keys)
	// Nothing is detached anywhere, or the rule takes entries whether or not they are: then no
	// candidate is split.
	inherited := !w.plan.AnyDetached() || c.Inherited()
	for i, key := range c.Keys {
		a := w.matchBuffer(decide.Unkey(key))
		if a.all == nil || !a.all.Meets(dom) {
			continue
		}
		r := &c.Ranked[i]
		one := decide.Candidate{Ranked: r, At: int32(len(w.in)), Rank: int32(i), Order: r.Order, Live: a.all}
		// A locked entry arrives in spite of detaching (resolution.md, section 5).
		if !inherited && !r.Lock {
			one.Live, one.Detached = w.split(a, w.plan.policies[r.Policy].Kind, c.area, r.Level)
		}
		w.in = append(w.in, one)
	}
	return w.in
}

// decide decides a setting for the laptops of dom among candidates. What it comes out as is added
// to Out.
func (w *worker) decide(c *settingIndex, in []decide.Candidate, dom *bitset.Set) {
	var limits decide.Limits
	if c.limited {
		limits.Lacking = w.lacking(c).By[:]
	}
	if len(c.exempt) > 0 {
		w.exempt = w.exempt[:0]
		for i := range c.exempt {
			w.exempt = append(w.exempt, w.Target(&c.exempt[i]))
		}
		limits.Exempt = w.exempt
	}
	w.Decide(&c.Index, in, dom, limits)
}
