// This file counts the fates of every policy's entry for a setting over laptops.

package resolve

import (
	"cmp"
	"slices"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/setting"
)

// EntryFates is the fates of one policy's entry for a setting.
type EntryFates struct {
	Policy  estate.PolicyID
	Value   setting.Value
	Locked  bool
	Devices int          // laptops to which it brings the setting, and that support it
	Among   int          // of those, the ones that were asked about
	Fates   map[Fate]int // what becomes of it on these
}

// EntryFates gives the fates of the entries for a setting by policy, with separate counts for some laptops.
func (p *Plan) EntryFates(id setting.ID, among Devices) []EntryFates {
	at, known := p.SettingAt.Number(id)
	if !known {
		return nil
	}
	c := &p.settings[at]
	by := map[int32]*EntryFates{}
	p.eachBlock(p.Laptops(), func(w *worker) {
		w.DropAside()
		asked, here := w.Aside(), w.Aside()
		among.block(w.Block).OrInto(asked)
		for _, s := range w.candidates(c, &w.Dom) {
			is := by[s.Policy]
			if is == nil {
				is = &EntryFates{Policy: p.policies[s.Policy].ID, Value: c.Entries[s.Rank].Value, Locked: s.Lock, Fates: map[Fate]int{}}
				by[s.Policy] = is
			}
			rows := w.reachedBy(c, &s, &w.Dom)
			is.Devices += rows.Len()
			here.SetAnd(rows, asked)
			is.Among += here.Len()
		}
		if asked.Empty() {
			return
		}
		seen := w.observe(c, asked)
		for k, fates := range seen.became {
			for fate, rows := range fates {
				if rows != nil {
					by[seen.in[k].Policy].Fates[Fate(fate)] += rows.Len()
				}
			}
		}
	})
	out := make([]EntryFates, 0, len(by))
	for _, s := range by {
		out = append(out, *s)
	}
	slices.SortFunc(out, func(a, b EntryFates) int { return cmp.Compare(a.Policy, b.Policy) })
	return out
}

// Forced gives the laptops on which a setting has a forced value instead of the decided one.
func (w *EstateResolution) Forced(id setting.ID) Devices {
	at, known := w.plan.SettingAt.Number(id)
	if !known || len(w.plan.settings[at].forced) == 0 {
		return Devices{}
	}
	found := Devices{plan: w.plan}
	w.plan.eachBlock(w.plan.Laptops(), func(k *worker) { found.add(k.Block, w.forcedRows(k, at, k.Block)) })
	return found
}

// Lacking gives the laptops that do not support a setting, by the first reason.
func (p *Plan) Lacking(id setting.ID) map[setting.Unsupported]Devices {
	at, there := p.SettingAt.Number(id)
	if !there || len(p.settings[at].Def.Supports) == 0 {
		return nil
	}
	found := newGatherer[setting.Unsupported](p)
	p.eachBlock(p.Laptops(), func(w *worker) {
		for number, why := range setting.Unsupporteds {
			if rows := w.lacking(&p.settings[at]).By[number]; rows != nil {
				found.add(why, w.Block, rows)
			}
		}
	})
	out := map[setting.Unsupported]Devices{}
	for why := range found.sets {
		out[why] = found.devices(why)
	}
	return out
}

// SupportUnknown gives the laptops of which it is not known whether they support a setting: its condition on what the laptop can do
// fails there. They count as supported.
func (p *Plan) SupportUnknown(id setting.ID) Devices {
	at, there := p.SettingAt.Number(id)
	if !there || len(p.settings[at].support.Needs) == 0 {
		return Devices{}
	}
	found := Devices{plan: p}
	p.eachBlock(p.Laptops(), func(w *worker) {
		if rows := w.lacking(&p.settings[at]).Unknown; rows != nil {
			found.add(w.Block, rows)
		}
	})
	return found
}

// Winners gives, by policy, the laptops among some on which the policy's entry for a setting won, before any forcing.
func (p *Plan) Winners(id setting.ID, among Devices) map[estate.PolicyID]Devices {
	at, known := p.SettingAt.Number(id)
	if !known {
		return nil
	}
	found := newGatherer[estate.PolicyID](p)
	p.eachBlock(p.Laptops(), func(w *worker) {
		dom := w.Keep()
		among.block(w.Block).Into(dom)
		dom.And(&w.Dom)
		if dom.Empty() {
			return
		}
		w.DropAside()
		seen := w.observe(&p.settings[at], dom)
		for k := range seen.in {
			if won := seen.became[k][Won]; won != nil {
				found.add(p.settings[at].Entries[seen.in[k].Rank].PolicyID, w.Block, won)
			}
		}
	})
	out := make(map[estate.PolicyID]Devices, len(found.sets))
	for policy := range found.sets {
		out[policy] = found.devices(policy)
	}
	return out
}
