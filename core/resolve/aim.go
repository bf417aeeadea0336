// This file says over sets whom a target matches, who gets a policy at which level, and who has a setting.

package resolve

import (
	"slices"

	"zenithridge.example/zridge/core/resolve/internal/decide"

	"zenithridge.example/zridge/core/resolve/internal/intern"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/setting"
)

// unit gives the rows whose home is a unit or below it; nil where there are none.
func (w *worker) unit(at int) *bitset.Set {
	if w.unitsAt != w.within {
		w.unitsAt = w.within
		for len(w.units) < len(w.plan.units) {
			w.units = append(w.units, madeSet{})
		}
		last, set := intern.None, (*bitset.Set)(nil)
		homes := map[int]*bitset.Set{}
		for row := range w.dom.All() {
			dev := w.deviceAt(row)
			if dev == intern.None {
				continue
			}
			home := w.plan.devices.At(dev).home
			if home != last {
				if last, set = home, homes[home]; set == nil {
					set = w.Keep()
					homes[home] = set
				}
			}
			set.Add(row)
		}
		for home, rows := range homes {
			for _, u := range w.plan.units[home].path {
				if m := &w.units[u]; m.epoch != w.within {
					*m = madeSet{w.within, w.Keep()}
				}
				w.units[u].set.Or(rows)
			}
		}
	}
	if m := &w.units[at]; m.epoch == w.within {
		return m.set
	}
	return nil
}

// group gives the rows that are in a group; nil where there are none.
func (w *worker) group(at int) *bitset.Set {
	for len(w.groups) < len(w.plan.groups) {
		w.groups = append(w.groups, madeSet{})
	}
	m := &w.groups[at]
	if m.epoch != w.epoch {
		var packed bitset.Packed
		if w.roll.laptops {
			packed = w.plan.groups[at].rows[w.block]
		} else if at < len(w.roll.groups) && w.roll.groups[at] != nil {
			packed = w.roll.groups[at][w.block]
		}
		*m = madeSet{epoch: w.epoch}
		if !w.roll.laptops && w.roll.device != nil { // pairs that stand nowhere
			m.set = w.Keep()
			for row := range w.dom.All() {
				if w.plan.inGroup(w.deviceAt(row), w.personAt(row), at) {
					m.set.Add(row)
				}
			}
		} else if packed != nil {
			m.set = w.Keep()
			packed.Into(m.set)
		}
	}
	return m.set
}

// target gives the rows that a target matches; nil where there are none.
func (w *worker) target(t *target) *bitset.Set {
	switch t.Kind {
	case estate.ToEveryone:
		return &w.dom
	case estate.ToUnit:
		return w.unit(t.at)
	case estate.ToGroup:
		return w.group(t.at)
	}
	out := w.Keep()
	if t.Kind == estate.ToDevice && w.roll.laptops {
		if t.at>>bitset.Shift != w.block {
			return nil
		}
		out.Add(t.at & (bitset.Rows - 1))
	} else {
		by := w.person
		if t.Kind == estate.ToDevice {
			by = w.device
		}
		for row, at := range by {
			if int(at) == t.at {
				out.Add(row)
			}
		}
	}
	out.And(&w.dom)
	return out
}

// lacking gives the rows that do not support a setting, by reason in the order of the numbers of outcomes, and those of which it is not known.
func (w *worker) lacking(c *settingIndex) *lackingSets {
	for len(w.lacks) <= c.support.Number {
		w.lacks = append(w.lacks, lackingSets{})
	}
	known := &w.lacks[c.support.Number]
	if known.within == w.within {
		return known
	}
	*known = lackingSets{within: w.within}
	out := &known.by
	words := w.plan.gen
	os, version, edition := words.Column(intern.Look("os")), words.Column(intern.Look("os_version")), words.Column(intern.Look("edition"))
	add := func(codes intern.SupportCodes, rows *bitset.Set) {
		why := c.support.Reason(c.Def, codes, os, version, edition)
		if why == setting.Supported {
			return
		}
		at := intern.UnsupportedAs[why] - intern.LackPlatform
		if out[at] == nil {
			out[at] = w.Keep()
		}
		out[at].Or(rows)
	}
	versions, editions := c.support.Depends(c.Def)
	w.part(os, &w.dom, func(osCode uint32, rows *bitset.Set) {
		if !versions {
			add(intern.SupportCodes{Os: osCode}, rows)
			return
		}
		mark := w.Mark()
		defer w.Release(mark)
		w.part(version, rows, func(versionCode uint32, rows *bitset.Set) {
			if !editions {
				add(intern.SupportCodes{Os: osCode, Version: versionCode}, rows)
				return
			}
			w.part(edition, rows, func(editionCode uint32, rows *bitset.Set) {
				add(intern.SupportCodes{Os: osCode, Version: versionCode, Edition: editionCode}, rows)
			})
		})
	})
	w.incapable(c, known)
	return known
}

// incapable finds the rows that are supported but for what the laptop can do, and those of which that is not known.
func (w *worker) incapable(c *settingIndex, to *lackingSets) {
	for _, needs := range c.support.Needs {
		mark := w.Mark()
		rows, here := w.Temp(), w.Temp()
		w.platforms([]setting.Platform{needs.Platform}, rows)
		for _, lacking := range to.by {
			if lacking != nil {
				rows.AndNot(lacking)
			}
		}
		is, failed := w.truth(needs.Formula)
		if here.SetAnd(rows, failed) {
			if to.unknown == nil {
				to.unknown = w.Keep()
			}
			to.unknown.Or(here)
		}
		rows.AndNot(is)
		rows.AndNot(failed)
		if !rows.Empty() {
			at := intern.LackCapability - intern.LackPlatform
			if to.by[at] == nil {
				to.by[at] = w.Keep()
			}
			to.by[at].Or(rows)
		}
		w.Release(mark)
	}
}

// supported takes the rows out that do not support a setting.
func (w *worker) supported(c *settingIndex, rows *bitset.Set) {
	if !c.limited {
		return
	}
	for _, who := range w.lacking(c).by {
		if who != nil {
			rows.AndNot(who)
		}
	}
}

// platforms gives the rows on some platforms; all with none named.
func (w *worker) platforms(named []setting.Platform, into *bitset.Set) {
	into.Copy(&w.dom)
	if len(named) == 0 {
		return
	}
	into.Clear()
	os := w.plan.gen.Column(intern.Look("os"))
	values := os.Values()
	w.part(os, &w.dom, func(code uint32, rows *bitset.Set) {
		if s, _ := values[code].(string); slices.Contains(named, setting.Platform(s)) {
			into.Or(rows)
		}
	})
}

// allowed gives the rows that a policy does not leave out: of its platforms, and in nothing that it excludes.
func (w *worker) allowed(pol *policy, into *bitset.Set) {
	w.platforms(pol.Platforms, into)
	w.inside(pol, into)
	for i := range pol.exclude {
		if t := w.target(&pol.exclude[i]); t != nil {
			into.AndNot(t)
		}
	}
}

// inside leaves those rows that are in the unit that bounds a policy.
func (w *worker) inside(pol *policy, rows *bitset.Set) {
	if pol.within == nil {
		return
	}
	var bound *bitset.Set
	if pol.within.at != intern.None {
		bound = w.unit(pol.within.at)
	}
	if bound == nil {
		rows.Clear()
	} else {
		rows.And(bound)
	}
}

// included adds the rows that some of a policy's targets match.
func (w *worker) included(targets []target, into *bitset.Set) {
	for i := range targets {
		if t := w.target(&targets[i]); t != nil {
			into.Or(t)
		}
	}
}

// meant gives the rows that a policy includes and does not leave out, whatever its condition says.
func (w *worker) meant(pol *policy, into *bitset.Set) {
	mark := w.Mark()
	defer w.Release(mark)
	allowed := w.Temp()
	w.allowed(pol, allowed)
	into.Clear()
	for _, targets := range pol.include {
		w.included(targets, into)
	}
	into.And(allowed)
}

// audience gives the rows that get a policy, by level; nil where there are none. It is what section 3 says, over sets.
func (w *worker) audience(pol *policy, yield func(arm int, rows *bitset.Set)) {
	if pol.Policy == nil || pol.State != estate.Active || len(pol.levels) == 0 {
		return
	}
	mark := w.Mark()
	defer w.Release(mark)
	allowed := w.Temp()
	if w.allowed(pol, allowed); allowed.Empty() {
		return
	}
	if pol.when != nil {
		is, _ := w.truth(pol.when)
		allowed.And(is)
	}
	rows := w.Temp()
	for arm := range pol.levels {
		if allowed.Empty() {
			return
		}
		rows.Clear()
		w.included(pol.include[arm], rows)
		rows.And(allowed)
		if !rows.Empty() {
			allowed.AndNot(rows)
			yield(arm, rows)
		}
	}
}

// arm gives the laptops that get a policy at one level; of others than those looked at it may leave some out.
func (w *worker) arm(pol, arm int) *armSets {
	a := w.armRoom(pol, arm)
	if a.epoch != w.epoch {
		w.takeArm(a, w.plan.policies[pol].arms[arm][w.block])
	}
	return a
}

// armRoom gives where the sets of an arm are kept.
func (w *worker) armRoom(pol, arm int) *armSets {
	if n := int(w.plan.firstArm[len(w.plan.policies)]); len(w.arms) < n {
		w.arms = append(w.arms, make([]armSets, n-len(w.arms))...)
	}
	return &w.arms[int(w.plan.firstArm[pol])+arm]
}

func (w *worker) takeArm(a *armSets, packed bitset.Packed) {
	*a = armSets{epoch: w.epoch}
	if packed == nil {
		return
	}
	if len(w.few) == 0 {
		dom := &w.dom
		if w.arming != nil {
			dom = w.arming
		}
		if rows := w.Keep(); packed.Within(dom, rows) {
			a.all = rows
		} else {
			w.Unkeep()
		}
		return
	}
	for _, row := range w.few {
		if packed.Has(row) {
			if a.all == nil {
				a.all = w.Keep()
			}
			a.all.Add(row)
		}
	}
}

// coming is an arm that is to be taken.
type coming struct {
	arm    *armSets
	packed bitset.Packed
}

// takeArms takes the arms of some keys. They are all looked up before any is taken: most are far apart in memory, and none has to wait for
// another then.
func (w *worker) takeArms(keys []uint32) {
	w.coming = w.coming[:0]
	for _, key := range keys {
		policy, arm := decide.Unkey(key)
		if a := w.armRoom(policy, arm); a.epoch != w.epoch {
			w.coming = append(w.coming, coming{a, w.plan.policies[policy].arms[arm][w.block]})
		}
	}
	for i := range w.coming {
		w.takeArm(w.coming[i].arm, w.coming[i].packed)
	}
}

// split tells apart who of an arm is detached from entries of policies of a kind for settings of an area. detached is nil where nobody is.
func (w *worker) split(a *armSets, kind setting.PolicyKind, area string, level Level) (live, detached *bitset.Set) {
	if !w.plan.areas[area] { // the area does not matter
		if a.split != w.epoch {
			a.split = w.epoch
			a.live, a.detached = w.parted(a.all, w.detached(kind, "", level))
		}
		return a.live, a.detached
	}
	return w.parted(a.all, w.detached(kind, area, level))
}

// parted parts rows by whether they are among those who are away; those sets are all and nil where nobody is.
func (w *worker) parted(all, away *bitset.Set) (live, detached *bitset.Set) {
	if away == nil || !away.Meets(all) {
		return all, nil
	}
	live, detached = w.Keep(), w.Keep()
	detached.SetAnd(all, away)
	live.SetAndNot(all, away)
	return live, detached
}

// detached gives the rows that take no entries of a kind of policy, or for settings of an area, from a level, since a closer unit or
// group detaches it.
func (w *worker) detached(kind setting.PolicyKind, area string, level Level) (away *bitset.Set) {
	covers := func(d estate.Detachment) bool { return d.Covers(kind, area) }
	add := func(rows *bitset.Set) {
		if rows == nil {
			return
		}
		if away == nil {
			away = w.Keep()
		}
		away.Or(rows)
	}
	if level < GroupLevel {
		for _, g := range w.plan.detaching {
			if slices.ContainsFunc(w.plan.groups[g].Detach, covers) {
				add(w.group(g))
			}
		}
	}
	for _, u := range w.plan.apart {
		if is := &w.plan.units[u]; Level(is.depth) > level && slices.ContainsFunc(is.Detach, covers) {
			add(w.unit(u))
		}
	}
	return away
}

// candidates gives the entries for a setting that rows of dom have, in order of precedence. It is good until the next call.
func (w *worker) candidates(c *settingIndex, dom *bitset.Set) []decide.Candidate {
	w.in = w.in[:0]
	w.takeArms(c.Keys)
	inherited := !w.plan.anyDetached() || c.Inherited()
	for i, key := range c.Keys {
		a := w.armRoom(decide.Unkey(key))
		if a.all == nil || !a.all.Meets(dom) {
			continue
		}
		r := &c.Ranked[i]
		one := decide.Candidate{Ranked: r, At: int32(len(w.in)), Rank: int32(i), Order: r.Order, Live: a.all}
		if !inherited && !r.Lock {
			one.Live, one.Detached = w.split(a, w.plan.policies[r.Policy].Kind, c.area, r.Level)
		}
		w.in = append(w.in, one)
	}
	return w.in
}

// decide decides a setting for the laptops of dom among candidates. What it comes out as is added to Out.
func (w *worker) decide(c *settingIndex, in []decide.Candidate, dom *bitset.Set) {
	var limits decide.Limits
	if c.limited {
		limits.Lacking = w.lacking(c).by[:]
	}
	if len(c.exempt) > 0 {
		w.exempt = w.exempt[:0]
		for i := range c.exempt {
			w.exempt = append(w.exempt, w.target(&c.exempt[i]))
		}
		limits.Exempt = w.exempt
	}
	w.Decide(&c.Index, in, dom, limits)
}
