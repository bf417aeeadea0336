// This file builds the dictionary of a plan: definitions with their outcomes and forced values, and
// checks.
//
// A company rarely edits definitions, and an edit of one costs a new decision of that setting for
// all laptops. The index of a setting, with its ranked entries, is kept in the same place
// (settingIndex) and is filled by decisions later.

package resolve

import (
	"cmp"
	"slices"
	"sync"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/resolve/internal/intern"
	"zenithridge.example/zridge/core/search"
	"zenithridge.example/zridge/core/setting"
)

// dictionary numbers the settings and the checks, and notes those whose definition is new, gone or
// altered: they are decided for all laptops again.
func (b *builder) dictionary() {
	was, p := b.was, b.next
	settingID := func(d *setting.Definition) setting.ID { return d.ID }
	d := intern.Compare(was.snapshot.Settings, p.snapshot.Settings, settingID, sameDefinition)
	// Everything is taken over from the plan before. What differs is replaced below.
	p.settingAt, p.bySetting, p.forced, p.index = was.settingAt, was.bySetting, was.forced, was.index
	p.settings = slices.Clone(was.settings)
	if !d.Same || was == nothing {
		b.dictionaryAltered = len(d.Gone)+len(d.Fresh)+len(d.Altered) > 0
		p.settingAt = was.settingAt.With(d.Gone, intern.IDsAt(p.snapshot.Settings, d.Fresh, settingID))
		p.index = sync.OnceValue(func() *search.Index { return search.New(p.snapshot.Settings) })
		for len(p.settings) < int(p.settingAt.N) {
			p.settings = append(p.settings, settingIndex{})
		}
		// A setting that is gone keeps its number until another takes it. Its index becomes empty,
		// and it is decided again so that its outcomes go.
		for _, id := range d.Gone {
			at := was.settingAt.NumberOf(id)
			p.settings[at] = settingIndex{}
			b.settings[at] = true
		}
		// Altered and new definitions: the index is emptied here and built below.
		for _, i := range append(slices.Clone(d.Altered), d.Fresh...) {
			at := p.settingAt.NumberOf(p.snapshot.Settings[i].ID)
			b.settings[at] = true
			p.settings[at] = settingIndex{}
		}
		for i := range p.snapshot.Settings {
			def := &p.snapshot.Settings[i]
			c := &p.settings[p.settingAt.NumberOf(def.ID)]
			// All definitions are set again, since the new snapshot has them at another address.
			// Only those that were emptied above are built anew.
			c.user, c.limited = def.Side == setting.UserSide, len(def.Supports) > 0
			known := c.Def != nil // as it was, in the new list
			c.Define(def, p.Gen.OutcomesOf(def.ID))
			if known {
				continue
			}
			c.area, c.support = def.Area, p.Gen.SupportOf(def)
			// Forced values are numbered as outcomes of their setting, so that forcing later only
			// compares numbers.
			for _, f := range def.Forced {
				c.forced = append(c.forced, forcing{Forced: f, formula: p.Gen.Formula(f.When), outcome: c.Outcomes.Value(f.Value)})
			}
		}
		p.bySetting = sortedNumbers(
			len(p.settings),
			func(i int) bool { return p.settings[i].Def != nil },
			func(x, y int) int { return cmp.Compare(p.settings[x].Def.ID, p.settings[y].Def.ID) },
		)
		p.forced = slices.DeleteFunc(slices.Clone(p.bySetting), func(at int) bool { return len(p.settings[at].forced) == 0 })
		// What conditions of forced values read is looked up again by id: a setting that they name
		// may be new or gone.
		for _, at := range p.forced {
			c := &p.settings[at]
			// The list is shared with the plan before.
			c.forced = slices.Clone(c.forced)
			for i := range c.forced {
				f := &c.forced[i]
				f.looks, f.subjects, f.whole = p.looksOf(f.formula)
			}
			if len(d.Gone)+len(d.Fresh) > 0 { // it may read another setting under the same id
				b.settings[at] = true
			}
		}
	}
	checkID := func(c *estate.Check) estate.CheckID { return c.ID }
	checks := intern.Compare(was.snapshot.Checks, p.snapshot.Checks, checkID, sameCheck)
	if checks.Same && d.Same && was != nothing {
		p.checks, p.checkAt, p.byCheck = was.checks, was.checkAt, was.byCheck
		return
	}
	// Checks are few. All are built again if any of them, or any definition, differs.
	p.checkAt = was.checkAt.With(checks.Gone, intern.IDsAt(p.snapshot.Checks, checks.Fresh, checkID))
	p.checks = make([]check, p.checkAt.N)
	for i := range p.snapshot.Checks {
		c := &p.snapshot.Checks[i]
		p.checks[p.checkAt.NumberOf(c.ID)] = p.checkOf(c)
	}
	for _, i := range append(checks.Altered, checks.Fresh...) {
		b.checks[p.checkAt.NumberOf(p.snapshot.Checks[i].ID)] = true
	}
	for _, id := range checks.Gone {
		b.checks[was.checkAt.NumberOf(id)] = true
	}
	// A check may read a setting that is new or gone.
	if len(d.Gone)+len(d.Fresh) > 0 {
		for at := range p.checks {
			b.checks[at] = true
		}
	}
	p.byCheck = sortedNumbers(
		len(p.checks),
		func(i int) bool { return p.checks[i].Check != nil },
		func(x, y int) int { return cmp.Compare(p.checks[x].ID, p.checks[y].ID) },
	)
}

// looksOf gives the settings that a formula reads, and whether it reads more.
func (p *Plan) looksOf(f *intern.Formula) (settings []int, subjects, whole bool) {
	// whole: the formula has a test that cannot be split into fields, so that it may read anything.
	f.Each(func(t *intern.Test) {
		whole = whole || t.Whole
		for _, l := range t.Looks {
			// Anything else that it looks at is a fact of the laptop or of the person.
			if l.Variable != "settings" {
				subjects = true
			} else if at, known := p.settingAt.Number(setting.ID(l.Field)); known {
				settings = append(settings, at)
			}
		}
	})
	return settings, subjects || whole, whole
}

// checkOf prepares a check: its condition, and what the condition reads.
func (p *Plan) checkOf(c *estate.Check) check {
	out := check{Check: c, formula: p.Gen.Formula(c.When)}
	out.looks, out.subjects, out.whole = p.looksOf(out.formula)
	return out
}
