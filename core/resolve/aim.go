// This file says over sets whom a target matches, who gets a policy at which level, and who has a setting.

package resolve

import (
	"fmt"
	"slices"
	"sync"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/rowset"
	"zenithridge.example/zridge/core/rule"
	"zenithridge.example/zridge/core/setting"
)

// unit gives the rows whose home is a unit or below it; nil where there are none.
func (w *worker) unit(at int) *rowset.Set {
	if w.unitsAt != w.within {
		w.unitsAt = w.within
		for len(w.units) < len(w.plan.units) {
			w.units = append(w.units, madeSet{})
		}
		last, set := none, (*rowset.Set)(nil)
		homes := map[int]*rowset.Set{}
		for row := range w.dom.All() {
			dev := w.deviceAt(row)
			if dev == none {
				continue
			}
			home := w.plan.devices.at(dev).home
			if home != last {
				if last, set = home, homes[home]; set == nil {
					set = w.keep()
					homes[home] = set
				}
			}
			set.Add(row)
		}
		for home, rows := range homes {
			for _, u := range w.plan.units[home].path {
				if m := &w.units[u]; m.epoch != w.within {
					*m = madeSet{w.within, w.keep()}
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
func (w *worker) group(at int) *rowset.Set {
	for len(w.groups) < len(w.plan.groups) {
		w.groups = append(w.groups, madeSet{})
	}
	m := &w.groups[at]
	if m.epoch != w.epoch {
		var packed rowset.Packed
		if w.roll.laptops {
			packed = w.plan.groups[at].rows[w.block]
		} else if at < len(w.roll.groups) && w.roll.groups[at] != nil {
			packed = w.roll.groups[at][w.block]
		}
		*m = madeSet{epoch: w.epoch}
		if !w.roll.laptops && w.roll.device != nil { // pairs that stand nowhere
			m.set = w.keep()
			for row := range w.dom.All() {
				if w.plan.inGroup(w.deviceAt(row), w.personAt(row), at) {
					m.set.Add(row)
				}
			}
		} else if packed != nil {
			m.set = w.keep()
			packed.Into(m.set)
		}
	}
	return m.set
}

// target gives the rows that a target matches; nil where there are none.
func (w *worker) target(t *target) *rowset.Set {
	switch t.Kind {
	case estate.ToEveryone:
		return &w.dom
	case estate.ToUnit:
		return w.unit(t.at)
	case estate.ToGroup:
		return w.group(t.at)
	}
	out := w.keep()
	if t.Kind == estate.ToDevice && w.roll.laptops {
		if t.at>>rowset.Shift != w.block {
			return nil
		}
		out.Add(t.at & (rowset.Rows - 1))
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
func (w *worker) lacking(c *contest) *lackingSets {
	for len(w.lacks) <= c.support.number {
		w.lacks = append(w.lacks, lackingSets{})
	}
	known := &w.lacks[c.support.number]
	if known.within == w.within {
		return known
	}
	*known = lackingSets{within: w.within}
	out := &known.by
	words := w.plan.words
	os, version, edition := words.column(look("os")), words.column(look("os_version")), words.column(look("edition"))
	add := func(codes supportCodes, rows *rowset.Set) {
		why := c.support.of(c.def, codes, os, version, edition)
		if why == setting.Supported {
			return
		}
		at := unsupportedAs[why] - noPlatform
		if out[at] == nil {
			out[at] = w.keep()
		}
		out[at].Or(rows)
	}
	versions, editions := c.support.depends(c.def)
	w.part(os, &w.dom, func(osCode uint32, rows *rowset.Set) {
		if !versions {
			add(supportCodes{osCode, 0, 0}, rows)
			return
		}
		mark := w.mark()
		defer w.release(mark)
		w.part(version, rows, func(versionCode uint32, rows *rowset.Set) {
			if !editions {
				add(supportCodes{osCode, versionCode, 0}, rows)
				return
			}
			w.part(edition, rows, func(editionCode uint32, rows *rowset.Set) {
				add(supportCodes{osCode, versionCode, editionCode}, rows)
			})
		})
	})
	w.incapable(c, known)
	return known
}

// incapable finds the rows that are supported but for what the laptop can do, and those of which that is not known.
func (w *worker) incapable(c *contest, to *lackingSets) {
	for _, needs := range c.support.needs {
		mark := w.mark()
		rows, here := w.temp(), w.temp()
		w.platforms([]setting.Platform{needs.platform}, rows)
		for _, lacking := range to.by {
			if lacking != nil {
				rows.AndNot(lacking)
			}
		}
		is, failed := w.truth(needs.formula)
		if here.SetAnd(rows, failed) {
			if to.unknown == nil {
				to.unknown = w.keep()
			}
			to.unknown.Or(here)
		}
		rows.AndNot(is)
		rows.AndNot(failed)
		if !rows.Empty() {
			at := incapable - noPlatform
			if to.by[at] == nil {
				to.by[at] = w.keep()
			}
			to.by[at].Or(rows)
		}
		w.release(mark)
	}
}

// supportCodes is what decides support: system, version and edition by their codes; 0 where that does not matter.
type supportCodes struct{ os, version, edition uint32 }

// supportMemo remembers who supports settings that name the same systems. It is safe for concurrent use.
type supportMemo struct {
	number int
	needs  []capability
	known  sync.Map
}

// capability is what laptops of a platform must be able to do.
type capability struct {
	platform setting.Platform
	formula  *formula
}

// supportOf gives the memo of a definition's support.
func (v *vocabulary) supportOf(def *setting.Definition) *supportMemo {
	var needs []capability
	var key []byte
	for i := range def.Supports {
		row := &def.Supports[i]
		key = fmt.Appendf(key, "%q %q %q %q;", row.Platform, row.From, row.Editions, row.When.Source())
		if row.When != nil {
			needs = append(needs, capability{row.Platform, v.formula(row.When)})
		}
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.supports[string(key)] == nil {
		v.supports[string(key)] = &supportMemo{number: len(v.supports), needs: needs}
	}
	return v.supports[string(key)]
}

// depends tells whether versions and editions matter to who supports a setting.
func (*supportMemo) depends(def *setting.Definition) (versions, editions bool) {
	for i := range def.Supports {
		editions = editions || len(def.Supports[i].Editions) > 0
		versions = versions || def.Supports[i].From != ""
	}
	return versions || editions, editions
}

func (m *supportMemo) of(def *setting.Definition, codes supportCodes, os, version, edition *column) setting.Unsupported {
	if why, known := m.known.Load(codes); known {
		return why.(setting.Unsupported)
	}
	text := func(c *column, code uint32) string {
		s, _ := c.known()[code].(string)
		return s
	}
	why := def.SupportOn(setting.Platform(text(os, codes.os)), text(version, codes.version), text(edition, codes.edition))
	m.known.Store(codes, why)
	return why
}

func look(field string) rule.Look { return rule.Look{Variable: "device", Field: field} }

// supported takes the rows out that do not support a setting.
func (w *worker) supported(c *contest, rows *rowset.Set) {
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
func (w *worker) platforms(named []setting.Platform, into *rowset.Set) {
	into.Copy(&w.dom)
	if len(named) == 0 {
		return
	}
	into.Clear()
	os := w.plan.words.column(look("os"))
	values := os.known()
	w.part(os, &w.dom, func(code uint32, rows *rowset.Set) {
		if s, _ := values[code].(string); slices.Contains(named, setting.Platform(s)) {
			into.Or(rows)
		}
	})
}

// allowed gives the rows that a policy does not leave out: of its platforms, and in nothing that it excludes.
func (w *worker) allowed(pol *policy, into *rowset.Set) {
	w.platforms(pol.Platforms, into)
	w.inside(pol, into)
	for i := range pol.exclude {
		if t := w.target(&pol.exclude[i]); t != nil {
			into.AndNot(t)
		}
	}
}

// inside leaves those rows that are in the unit that bounds a policy.
func (w *worker) inside(pol *policy, rows *rowset.Set) {
	if pol.within == nil {
		return
	}
	var bound *rowset.Set
	if pol.within.at != none {
		bound = w.unit(pol.within.at)
	}
	if bound == nil {
		rows.Clear()
	} else {
		rows.And(bound)
	}
}

// included adds the rows that some of a policy's targets match.
func (w *worker) included(targets []target, into *rowset.Set) {
	for i := range targets {
		if t := w.target(&targets[i]); t != nil {
			into.Or(t)
		}
	}
}

// meant gives the rows that a policy includes and does not leave out, whatever its condition says.
func (w *worker) meant(pol *policy, into *rowset.Set) {
	mark := w.mark()
	defer w.release(mark)
	allowed := w.temp()
	w.allowed(pol, allowed)
	into.Clear()
	for _, targets := range pol.include {
		w.included(targets, into)
	}
	into.And(allowed)
}

// audience gives the rows that get a policy, by level; nil where there are none. It is what section 3 says, over sets.
func (w *worker) audience(pol *policy, yield func(arm int, rows *rowset.Set)) {
	if pol.Policy == nil || pol.State != estate.Active || len(pol.levels) == 0 {
		return
	}
	mark := w.mark()
	defer w.release(mark)
	allowed := w.temp()
	if w.allowed(pol, allowed); allowed.Empty() {
		return
	}
	if pol.when != nil {
		is, _ := w.truth(pol.when)
		allowed.And(is)
	}
	rows := w.temp()
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

func (w *worker) takeArm(a *armSets, packed rowset.Packed) {
	*a = armSets{epoch: w.epoch}
	if packed == nil {
		return
	}
	if len(w.few) == 0 {
		dom := &w.dom
		if w.arming != nil {
			dom = w.arming
		}
		if rows := w.keep(); packed.Within(dom, rows) {
			a.all = rows
		} else {
			w.keeping--
		}
		return
	}
	for _, row := range w.few {
		if packed.Has(row) {
			if a.all == nil {
				a.all = w.keep()
			}
			a.all.Add(row)
		}
	}
}

// coming is an arm that is to be taken.
type coming struct {
	arm    *armSets
	packed rowset.Packed
}

// takeArms takes the arms of some keys. They are all looked up before any is taken: most are far apart in memory, and none has to wait for
// another then.
func (w *worker) takeArms(keys []uint32) {
	w.coming = w.coming[:0]
	for _, key := range keys {
		policy, arm := armOf(key)
		if a := w.armRoom(policy, arm); a.epoch != w.epoch {
			w.coming = append(w.coming, coming{a, w.plan.policies[policy].arms[arm][w.block]})
		}
	}
	for i := range w.coming {
		w.takeArm(w.coming[i].arm, w.coming[i].packed)
	}
}

// split tells apart who of an arm is detached from entries of policies of a kind for settings of an area. detached is nil where nobody is.
func (w *worker) split(a *armSets, kind setting.PolicyKind, area string, level Level) (live, detached *rowset.Set) {
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
func (w *worker) parted(all, away *rowset.Set) (live, detached *rowset.Set) {
	if away == nil || !away.Meets(all) {
		return all, nil
	}
	live, detached = w.keep(), w.keep()
	detached.SetAnd(all, away)
	live.SetAndNot(all, away)
	return live, detached
}

// detached gives the rows that take no entries of a kind of policy, or for settings of an area, from a level, since a closer unit or
// group detaches it.
func (w *worker) detached(kind setting.PolicyKind, area string, level Level) (away *rowset.Set) {
	covers := func(d estate.Detachment) bool { return d.Covers(kind, area) }
	add := func(rows *rowset.Set) {
		if rows == nil {
			return
		}
		if away == nil {
			away = w.keep()
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

// contestants gives the slots of a setting that rows of dom have, in the order of decision. It is good until the next call.
func (w *worker) contestants(c *contest, dom *rowset.Set) []contestant {
	w.in = w.in[:0]
	w.takeArms(c.keys)
	inherited := c.combine == setting.Merge || !w.plan.anyDetached()
	for i, key := range c.keys {
		a := w.armRoom(armOf(key))
		if a.all == nil || !a.all.Meets(dom) {
			continue
		}
		s, at := &c.slots[i], int32(len(w.in))
		if inherited || s.lock {
			w.in = append(w.in, contestant{slot: s, at: at, place: int32(i), order: s.order, live: a.all})
			continue
		}
		live, detached := w.split(a, w.plan.policies[s.policy].Kind, c.area, s.level)
		w.in = append(w.in, contestant{slot: s, at: at, place: int32(i), order: s.order, live: live, detached: detached})
	}
	return w.in
}
