// This file has the slow, obvious reading of the rules: it works on the snapshot itself, builds no
// index, asks the same question again each time, and shares no code with the package but the words
// of its results.

package resolve_test

import (
	"encoding/json"
	"slices"
	"sort"
	"strings"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/setting"
)

type cand struct {
	pol   *estate.Policy
	entry *estate.Entry
	level int
	fate  outcome.Fate
}

// decided is what the oracle says of a setting, in a form that is easy to compare.
type decided struct {
	status   outcome.Status
	reason   setting.Unsupported
	value    setting.Value
	how      outcome.How
	from     []string
	replaced string
	fates    []string
}

func (o oracle) setting(def *setting.Definition, d *estate.Device, p *estate.Person) (out decided, appears bool) {
	var all, left []*cand
	for _, pol := range o.policies() {
		level, why, _ := o.applies(pol, d, p)
		if why != "" {
			continue
		}
		for j := range pol.Entries {
			if e := &pol.Entries[j]; e.Setting == def.ID {
				c := &cand{pol: pol, entry: e, level: level}
				if level < o.detachLevel(pol.Kind, def.Area, d, p) && !e.Lock && def.Combine != setting.Merge {
					c.fate = outcome.Detached
				} else {
					left = append(left, c)
				}
				all = append(all, c)
			}
		}
	}
	if why := def.SupportOn(d.OS, d.OSVersion, d.Edition); why != "" {
		return decided{status: outcome.Unsupported, reason: why}, len(all) > 0
	}
	if capability := def.Capability(d.OS); capability != nil {
		if able, err := capability.Holds(map[string]any{"device": o.deviceMap(d)}); err == nil && !able {
			return decided{status: outcome.Unsupported, reason: setting.Incapable}, len(all) > 0
		}
	}
	defer func() {
		sort.Slice(all, func(i, j int) bool { return all[i].pol.ID < all[j].pol.ID })
		for _, c := range all {
			out.fates = append(out.fates, string(c.pol.ID)+" "+c.fate.String())
		}
		sort.Strings(out.from)
	}()
	strength := func(c *cand) int { // what is enforced, what is offered, what a baseline wants
		switch {
		case c.pol.Baseline != "":
			return 2
		case c.pol.Offered:
			return 1
		}
		return 0
	}
	if len(left) > 0 {
		least := strength(slices.MinFunc(left, func(a, b *cand) int { return strength(a) - strength(b) }))
		left = slices.DeleteFunc(slices.Clone(left), func(c *cand) bool {
			if strength(c) > least {
				c.fate = outcome.Enforced
			}
			return strength(c) > least
		})
	}
	var best *estate.Exception
	for i := range o.Exceptions {
		x := &o.Exceptions[i]
		if x.Setting != def.ID || o.level(x.Target, d, p) < 0 || x.From > o.Day || x.Until < o.Day {
			continue
		}
		if best == nil || closerException(o, x, best, d, p) {
			best = x
		}
	}
	if best != nil {
		for _, c := range left {
			c.fate = outcome.Excepted
		}
		out = decided{status: outcome.Set, value: best.Value, how: outcome.ByException, from: []string{string(best.ID)}}
		if best.Unset {
			out.status = outcome.Unset
		}
		return out, true
	}
	if len(left) == 0 {
		return out, false
	}
	win := func(how outcome.How, v setting.Value, winners []*cand) {
		out = decided{status: outcome.Set, value: v, how: how}
		for _, c := range winners {
			c.fate = outcome.Won
			out.from = append(out.from, string(c.pol.ID))
		}
	}
	conflict := func() {
		out = decided{status: outcome.Conflict}
		for _, c := range left {
			c.fate = outcome.Clashing
			out.from = append(out.from, string(c.pol.ID))
		}
	}
	drop := func(fate outcome.Fate, bad func(*cand) bool) {
		var stay []*cand
		for _, c := range left {
			if bad(c) {
				c.fate = fate
			} else {
				stay = append(stay, c)
			}
		}
		left = stay
	}
	if def.Combine == setting.Closest || def.Combine == setting.Strictest {
		outermost := 1000
		for _, c := range left {
			if c.entry.Lock {
				outermost = min(outermost, c.level)
			}
		}
		if outermost < 1000 {
			drop(outcome.LockedOut, func(c *cand) bool { return !c.entry.Lock || c.level != outermost })
		}
	}
	switch def.Combine {
	case setting.Merge:
		if def.Type == setting.TypeTable {
			rows, differ := oracleRows(def, left)
			if differ {
				conflict()
				return out, true
			}
			win(outcome.ByRule(setting.Merge), rows, left)
			return out, true
		}
		set := map[string]bool{}
		for _, c := range left {
			for _, item := range c.entry.Value.Items() {
				set[item] = true
			}
		}
		win(outcome.ByRule(setting.Merge), listOf(set), left)
	case setting.Common:
		set, anyEmpty := map[string]bool{}, false
		for _, c := range left {
			anyEmpty = anyEmpty || len(c.entry.Value.Items()) == 0
			for _, item := range c.entry.Value.Items() {
				everywhere := true
				for _, other := range left {
					everywhere = everywhere && slices.Contains(other.entry.Value.Items(), item)
				}
				if everywhere {
					set[item] = true
				}
			}
		}
		if len(set) == 0 && !anyEmpty {
			conflict()
			return out, true
		}
		win(outcome.ByRule(setting.Common), listOf(set), left)
	case setting.Strictest:
		drop(outcome.Weaker, func(c *cand) bool {
			for _, other := range left {
				if def.Rank(other.entry.Value) > def.Rank(c.entry.Value) {
					return true
				}
			}
			return false
		})
		win(outcome.ByRule(setting.Strictest), left[0].entry.Value, left)
	default:
		inner, top := -1, int64(-1<<60)
		for _, c := range left {
			inner = max(inner, c.level)
		}
		drop(outcome.Outer, func(c *cand) bool { return c.level < inner })
		for _, c := range left {
			top = max(top, c.pol.Priority)
		}
		drop(outcome.LowerPriority, func(c *cand) bool { return c.pol.Priority < top })
		var winners []*cand
		for _, a := range left {
			beatsAll := true
			for _, b := range left {
				if b.entry.Value.Equal(a.entry.Value) {
					continue
				}
				ruled := false
				for _, r := range o.Rulings {
					ruled = ruled || r.Setting == def.ID && r.Prefer == a.pol.ID && r.Over == b.pol.ID
				}
				beatsAll = beatsAll && ruled
			}
			if beatsAll {
				winners = append(winners, a)
			}
		}
		oneValue := len(winners) > 0
		for _, w := range winners {
			oneValue = oneValue && w.entry.Value.Equal(winners[0].entry.Value)
		}
		if !oneValue {
			conflict()
			return out, true
		}
		v, how := winners[0].entry.Value, outcome.ByRule(setting.Closest)
		for _, c := range left {
			if !c.entry.Value.Equal(v) {
				how = outcome.ByRuling
			}
		}
		drop(outcome.RuledOut, func(c *cand) bool { return !c.entry.Value.Equal(v) })
		win(how, v, left)
	}
	return out, true
}

func closerException(o oracle, x, y *estate.Exception, d *estate.Device, p *estate.Person) bool {
	a, b := o.level(x.Target, d, p), o.level(y.Target, d, p)
	if a != b {
		return a > b
	}
	if x.ApprovedOn != y.ApprovedOn {
		return x.ApprovedOn > y.ApprovedOn
	}
	return x.ID < y.ID
}

func listOf(set map[string]bool) setting.Value {
	items := []string{}
	for item := range set {
		items = append(items, item)
	}
	sort.Strings(items)
	return setting.ListValue(items)
}

// subject resolves a device for somebody who signs in.
func (o oracle) subject(d *estate.Device, signedIn *estate.Person) (map[setting.ID]decided, map[string]string) {
	out := map[setting.ID]decided{}
	owner := o.person(d.Owner)
	before := map[string]any{}
	for i := range o.Settings {
		def := &o.Settings[i]
		who := owner
		if def.Side == setting.UserSide {
			who = signedIn
		}
		if s, appears := o.setting(def, d, who); appears {
			out[def.ID] = s
			if s.status == outcome.Set {
				before[string(def.ID)] = s.value.Any()
			}
		}
	}
	after := map[string]any{}
	for id, s := range out {
		if s.status != outcome.Set {
			continue
		}
		for _, f := range o.definition(id).Forced {
			is, err := f.When.Holds(map[string]any{"settings": before, "device": o.deviceMap(d)})
			if err != nil || !is {
				continue
			}
			if !f.Value.Equal(s.value) {
				s.replaced = s.value.String() + " " + string(s.how) + " " + strings.Join(s.from, ",")
				s.value, s.how, s.from = f.Value, outcome.ByForce, nil
			}
			break
		}
		out[id] = s
		after[string(id)] = s.value.Any()
	}
	problems := map[string]string{}
	for _, c := range o.Checks {
		wrong, err := c.When.Holds(map[string]any{"settings": after, "device": o.deviceMap(d), "person": o.personMap(signedIn)})
		if err != nil || !wrong {
			continue
		}
		from := map[string]bool{}
		for _, id := range c.Settings {
			for _, f := range out[id].from {
				from[f] = true
			}
		}
		problems[string(c.ID)] = strings.Join(listOf(from).Items(), ",")
	}
	return out, problems
}

// oracleRows adds tables up by their JSON, and says whether two rows of one name differ where the
// name is the key.
func oracleRows(def *setting.Definition, left []*cand) (all setting.Value, conflict bool) {
	byText := map[string]setting.Row{}
	for _, c := range left {
		for _, row := range c.entry.Value.Rows() {
			text, _ := json.Marshal(row)
			byText[string(text)] = row
		}
	}
	var texts []string
	names := map[string]bool{}
	for text, row := range byText {
		texts = append(texts, text)
		conflict = conflict || len(def.Key) > 0 && names[row["name"].Text()]
		names[row["name"].Text()] = true
	}
	sort.Strings(texts)
	rows := make([]setting.Row, len(texts))
	for i, text := range texts {
		rows[i] = byText[text]
	}
	return setting.TableValue(rows), conflict
}

// policies lists the policies, and those that put right what baselines want.
func (o oracle) policies() (out []*estate.Policy) {
	for i := range o.Policies {
		out = append(out, &o.Policies[i])
	}
	for i := range o.Baselines {
		if repairs := o.Baselines[i].Repairs(); repairs != nil {
			out = append(out, repairs)
		}
	}
	return out
}
