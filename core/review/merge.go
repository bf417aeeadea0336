// This file compares policies setting by setting, and brings two edits of one policy together.
//
// Two people may edit one policy at the same time, or somebody publishes while another still
// writes. The merge has three sides: base, from which both began, mine and theirs. It works on
// parts: each field of a policy is one, and so is the entry for each setting. Parts that only one
// side altered are taken from that side without asking. A part that both altered differently is
// never decided silently: it is listed.

package review

import (
	"cmp"
	"maps"
	"slices"
	"strconv"
	"strings"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/setting"
)

// Part names a part of a policy that can differ by itself: a setting's entry, or one of the fields.
type Part string

// Fields of a policy that are compared as a whole. A setting's part is "settings/" with its id.
const (
	PartTitle     Part = "title"
	PartKind      Part = "kind"
	PartState     Part = "state"
	PartPriority  Part = "priority"
	PartPlatforms Part = "platforms"
	PartWithin    Part = "within"
	PartOffered   Part = "offered"
	PartOnDrift   Part = "on_drift"
	PartOwner     Part = "owner"
	PartWhy       Part = "why"
	PartLabels    Part = "labels"
	PartInclude   Part = "include"
	PartExclude   Part = "exclude"
	PartWhen      Part = "when"
)

// settingPart is what the part of a setting's entry begins with.
const settingPart = "settings/"

// PartOf gives the part of a setting's entry.
func PartOf(id setting.ID) Part { return Part(settingPart + string(id)) }

// Setting gives the setting whose entry a part is, empty for a field.
func (p Part) Setting() setting.ID {
	id, _ := strings.CutPrefix(string(p), settingPart)
	if id == string(p) {
		return ""
	}
	return setting.ID(id)
}

// fields lists the parts that are fields, each with its text and how it is taken from another
// policy. Two versions of a field are the same if their texts are. A field that a policy gets needs
// a line here; TestEveryFieldOfAPolicyIsMerged fails without it.
var fields = []struct {
	part Part
	text func(*estate.Policy) string
	take func(into, from *estate.Policy)
}{
	{PartTitle, func(p *estate.Policy) string { return p.Title }, func(a, b *estate.Policy) { a.Title = b.Title }},
	{PartKind, func(p *estate.Policy) string { return string(p.Kind) }, func(a, b *estate.Policy) { a.Kind = b.Kind }},
	{PartState, func(p *estate.Policy) string { return string(p.State) }, func(a, b *estate.Policy) { a.State = b.State }},
	{
		PartPriority,
		func(p *estate.Policy) string { return strconv.FormatInt(p.Priority, 10) },
		func(a, b *estate.Policy) { a.Priority = b.Priority },
	},
	{PartPlatforms, func(p *estate.Policy) string { return joined(p.Platforms) }, func(a, b *estate.Policy) { a.Platforms = b.Platforms }},
	{PartWithin, func(p *estate.Policy) string { return string(p.Within) }, func(a, b *estate.Policy) { a.Within = b.Within }},
	{
		PartOffered,
		func(p *estate.Policy) string { return strconv.FormatBool(p.Offered) },
		func(a, b *estate.Policy) { a.Offered = b.Offered },
	},
	{PartOnDrift, func(p *estate.Policy) string { return cmp.Or(string(p.OnDrift), "repair") },
		func(a, b *estate.Policy) { a.OnDrift = b.OnDrift }},
	{PartOwner, func(p *estate.Policy) string { return p.Owner }, func(a, b *estate.Policy) { a.Owner = b.Owner }},
	{PartWhy, func(p *estate.Policy) string { return p.Why }, func(a, b *estate.Policy) { a.Why = b.Why }},
	{PartLabels, func(p *estate.Policy) string { return joined(p.Labels) }, func(a, b *estate.Policy) { a.Labels = b.Labels }},
	{
		PartInclude,
		func(p *estate.Policy) string { return targets(p.Audience.Include) },
		func(a, b *estate.Policy) { a.Audience.Include = b.Audience.Include },
	},
	{
		PartExclude,
		func(p *estate.Policy) string { return targets(p.Audience.Exclude) },
		func(a, b *estate.Policy) { a.Audience.Exclude = b.Audience.Exclude },
	},
	{
		PartWhen,
		func(p *estate.Policy) string { return p.Audience.When.Source() },
		func(a, b *estate.Policy) { a.Audience.When = b.Audience.When },
	},
}

// joined gives a list as a text, in its order.
func joined[T ~string](list []T) string {
	texts := make([]string, len(list))
	for i, t := range list {
		texts[i] = string(t)
	}
	return strings.Join(texts, ", ")
}

// targets gives the includes or excludes of an audience as a text.
func targets(list []estate.Target) string {
	texts := make([]string, len(list))
	for i, t := range list {
		texts[i] = t.String()
	}
	return strings.Join(texts, ", ")
}

// Difference is a part in which two policies differ. From and To are texts to show. For a setting's
// entry the entries stand beside the texts, nil where there is none.
type Difference struct {
	Part               Part
	From, To           string
	FromEntry, ToEntry *estate.Entry
}

// Diff lists the parts in which two versions of a policy differ: fields first, in the order of the
// format, then settings by id. It is nil where they say the same.
func Diff(from, to *estate.Policy) []Difference {
	var out []Difference
	for _, f := range fields {
		if a, b := f.text(from), f.text(to); a != b {
			out = append(out, Difference{Part: f.part, From: a, To: b})
		}
	}
	for _, id := range settingsOf(from, to) {
		a, b := from.Entry(id), to.Entry(id)
		if !sameEntry(a, b) {
			out = append(out, Difference{Part: PartOf(id), From: entryText(a), To: entryText(b), FromEntry: a, ToEntry: b})
		}
	}
	return out
}

// Conflict is a part that two edits altered differently.
type Conflict struct {
	Part               Part
	Base, Mine, Theirs string
	// Entries are, with a setting's entry, those of base, mine and theirs; nil where there is none.
	Entries [3]*estate.Entry
}

// Merge brings together two edits of one policy that began from base: a part that only one of them
// altered is taken from that one. Where both altered a part and not to the same, mine is kept in
// the outcome and the part is listed, for a person to choose.
func Merge(base, mine, theirs *estate.Policy) (merged estate.Policy, conflicts []Conflict) {
	// Mine is the starting point. In the cases that the switch does not have, mine altered a part
	// and theirs did not, or both altered it to the same: nothing is to be done.
	merged = *mine
	for _, f := range fields {
		was, my, their := f.text(base), f.text(mine), f.text(theirs)
		switch {
		// Mine did not alter it: theirs counts, altered or not.
		case my == was:
			f.take(&merged, theirs)
		// Both altered it, and not to the same.
		case their != was && their != my:
			conflicts = append(conflicts, Conflict{Part: f.part, Base: was, Mine: my, Theirs: their})
		}
	}
	// Entries are collected anew, in the order of their ids: appending to the list of mine would
	// alter it.
	merged.Entries = nil
	for _, id := range settingsOf(base, mine, theirs) {
		was, my, their := base.Entry(id), mine.Entry(id), theirs.Entry(id)
		taken := my
		switch {
		// The same for a setting's entry; an entry that is gone is nil.
		case sameEntry(my, was):
			taken = their
		case !sameEntry(their, was) && !sameEntry(their, my):
			conflicts = append(
				conflicts,
				Conflict{PartOf(id), entryText(was), entryText(my), entryText(their), [3]*estate.Entry{was, my, their}},
			)
		}
		if taken != nil {
			merged.Entries = append(merged.Entries, *taken)
		}
	}
	return merged, conflicts
}

// settingsOf lists the settings of policies, by id.
func settingsOf(policies ...*estate.Policy) []setting.ID {
	ids := map[setting.ID]bool{}
	for _, p := range policies {
		for _, e := range p.Entries {
			ids[e.Setting] = true
		}
	}
	return slices.Sorted(maps.Keys(ids))
}

// sameEntry compares two entries for one setting; nil: there is none.
func sameEntry(a, b *estate.Entry) bool {
	if a == nil || b == nil {
		return a == b
	}
	return a.Value.Equal(b.Value) && a.Lock == b.Lock && a.Note == b.Note
}

// entryText gives an entry as a text to show; empty: there is none.
func entryText(e *estate.Entry) string {
	if e == nil {
		return ""
	}
	text := e.Value.String()
	if e.Lock {
		text += ", locked"
	}
	if e.Note != "" {
		text += ", note " + strconv.Quote(e.Note)
	}
	return text
}
