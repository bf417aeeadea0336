// This file tells whether two objects of an estate say the same.
//
// A source that is read again, or a file that is imported, gives new objects of which most are as
// they were. Only what differs in something that resolution reads is computed again. Titles,
// reasons and notes are not compared. When in doubt an object counts as altered: that costs time
// and is never wrong.

package resolve

import (
	"maps"
	"reflect"
	"slices"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/rule"
	"zenithridge.example/zridge/core/setting"
)

// sameValues compares facts or attributes; most are the very same map. Comparing pointers first
// matters: after an edit nearly all facts are those of the snapshot before.
func sameValues(a, b map[string]setting.Value) bool {
	return len(a) == len(b) &&
		(len(a) == 0 || reflect.ValueOf(a).Pointer() == reflect.ValueOf(b).Pointer() || maps.EqualFunc(a, b, setting.Value.Equal))
}

// sameRule tells whether two rules have the same text. A rule that was read again is another
// object.
func sameRule(a, b *rule.Rule) bool { return a == b || a.Source() == b.Source() }

// sameUnit tells whether two versions of a unit resolve alike. The title is not compared: nothing
// depends on it. The same goes for the functions below.
func sameUnit(a, b *estate.Unit) bool {
	return a.ID == b.ID && a.Parent == b.Parent && sameDetached(a.Detach, b.Detach)
}

// sameDetached tells whether the same things are detached, whatever the reason.
func sameDetached(a, b []estate.Detachment) bool {
	return slices.EqualFunc(a, b, func(x, y estate.Detachment) bool { return x.Kind == y.Kind && x.Area == y.Area })
}

// samePerson compares what rules can read of a person.
func samePerson(a, b *estate.Person) bool {
	return a.ID == b.ID && a.Name == b.Name && a.Mail == b.Mail && a.Unit == b.Unit && sameValues(a.Attributes, b.Attributes)
}

// sameDevice compares what rules and support can read of a laptop, its owner, and what was taken on
// it.
func sameDevice(a, b *estate.Device) bool {
	return a.ID == b.ID && a.Serial == b.Serial && a.Owner == b.Owner && a.Unit == b.Unit && a.OS == b.OS && a.OSVersion == b.OSVersion &&
		a.Edition == b.Edition &&
		a.Model == b.Model &&
		slices.Equal(a.Tags, b.Tags) &&
		slices.Equal(a.Taken, b.Taken) &&
		sameValues(a.Facts, b.Facts)
}

// sameGroup tells whether two versions of a group have the same members, whoever there is, and
// detach the same things.
func sameGroup(a, b *estate.Group) bool {
	return a.ID == b.ID && a.Of == b.Of && sameMembers(a, b) && slices.Equal(a.Groups, b.Groups) && sameRule(a.Rule, b.Rule) &&
		sameDetached(a.Detach, b.Detach)
}

// sameMembers compares what two groups list. Lists of snapshots that follow one another are most
// often one in memory.
func sameMembers(a, b *estate.Group) bool {
	return a.Of == b.Of && len(a.Members) == len(b.Members) &&
		(len(a.Members) == 0 || &a.Members[0] == &b.Members[0] || slices.Equal(a.Members, b.Members))
}

// sameAudience compares all that says whom a policy applies to, and how strong it is.
func sameAudience(a, b *estate.Policy) bool {
	return a.State == b.State && a.Within == b.Within && a.Offered == b.Offered && a.Baseline == b.Baseline &&
		slices.Equal(a.Platforms, b.Platforms) &&
		slices.Equal(a.Audience.Include, b.Audience.Include) &&
		slices.Equal(a.Audience.Exclude, b.Audience.Exclude) &&
		sameRule(a.Audience.When, b.Audience.When)
}

// sameEntry compares the values and locks of two entries for one setting.
func sameEntry(a, b *estate.Entry) bool { return a.Lock == b.Lock && sameBytes(a.Value, b.Value) }

// sameBytes tells whether two values are the same in every byte that a laptop gets. It is stricter
// than Equal: files must be called the same, too.
func sameBytes(a, b setting.Value) bool {
	if !a.Equal(b) {
		return false
	}
	if kind := a.Kind(); kind == setting.FileKind || kind == setting.Table {
		return reflect.DeepEqual(a, b)
	}
	return true
}

// samePolicy tells whether two versions of a policy resolve alike.
func samePolicy(a, b *estate.Policy) bool {
	return a.ID == b.ID && a.Kind == b.Kind && a.Priority == b.Priority && sameAudience(a, b) && len(a.Entries) == len(b.Entries) &&
		(len(a.Entries) == 0 || &a.Entries[0] == &b.Entries[0] || slices.EqualFunc(a.Entries, b.Entries, sameEntryFor))
}

// sameException tells whether two versions of an exception count alike, on every day.
func sameException(a, b *estate.Exception) bool {
	return a.ID == b.ID && a.Setting == b.Setting && a.Target == b.Target && a.Unset == b.Unset && a.From == b.From && a.Until == b.Until &&
		a.ApprovedOn == b.ApprovedOn &&
		sameBytes(a.Value, b.Value)
}

// sameDefinition tells whether two definitions are the same, but for rules that were read again.
// Fields that hold rules are compared by themselves, the rest as a whole: a field that is added
// later is compared without being named here.
func sameDefinition(a, b *setting.Definition) bool {
	forced := func(x, y setting.Forced) bool { return sameRule(x.When, y.When) && sameBytes(x.Value, y.Value) }
	if !slices.EqualFunc(a.Forced, b.Forced, forced) {
		return false
	}
	support := func(x, y setting.Support) bool {
		return x.Platform == y.Platform && x.From == y.From && slices.Equal(x.Editions, y.Editions) && sameRule(x.When, y.When) &&
			x.Needs == y.Needs
	}
	if !slices.EqualFunc(a.Supports, b.Supports, support) {
		return false
	}
	x, y := *a, *b
	x.Forced, y.Forced = nil, nil
	x.Supports, y.Supports = nil, nil
	return reflect.DeepEqual(x, y)
}

// sameCheck tells whether two versions of a check find the same.
func sameCheck(a, b *estate.Check) bool {
	return a.ID == b.ID && a.Message == b.Message && slices.Equal(a.Settings, b.Settings) && sameRule(a.When, b.When)
}

// sameEntryFor tells whether two entries are equal and for the same setting.
func sameEntryFor(a, b estate.Entry) bool { return a.Setting == b.Setting && sameEntry(&a, &b) }
