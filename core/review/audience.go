// This file says who gets a policy, in the ways in which people ask.
//
// The core gives sets of laptops (resolve.Reach). Here they are counted by platform, release and
// unit, and an alarm is raised where an audience is wider or narrower than anybody would expect.
// The same counts serve previews of groups and the choice of laptops for a first wave.

package review

import (
	"cmp"
	"slices"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/listing"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/setting"
)

// Slice is a part of the laptops that an audience reaches.
type Slice struct {
	Name    string
	Within  string // the platform of a release
	Devices int
	Of      int // laptops of this part in the whole estate
}

// Audience is who gets a policy, and who does not for which reason.
type Audience struct {
	*resolve.Reach
	Estate     int
	ByPlatform []Slice // most laptops first
	ByRelease  []Slice
	ByUnit     []Slice                // home units, in the order of their paths
	Lacking    map[setting.ID]Lacking // of the policy's settings, who does not support one
	NotKnown   map[setting.ID]int     // of the policy's settings, of how many laptops it is not known
	Alarm      Alarm
}

// Alarm says whether an audience is so wide that nobody should overlook it.
type Alarm string

const (
	NoAlarm  Alarm = ""
	Everyone Alarm = "everyone" // all laptops, or a target that means all
	Many     Alarm = "many"     // more than the share that is set
	Nobody   Alarm = "nobody"
)

// LookAt says who gets a policy, as if it were active. Above share percent of the estate it is
// many.
func LookAt(side impact.Side, policy *estate.Policy, share int) *Audience {
	plan := side.Plan
	a := &Audience{Reach: plan.ReachOf(policy), Estate: side.Resolution.Len()}
	a.Lacking, a.NotKnown = supportOn(side, settingsOf(policy), a.Gets)
	a.ByPlatform, a.ByRelease, a.ByUnit = Sliced(plan, a.Gets)
	// A target for the root unit means everyone, too.
	everyone := slices.ContainsFunc(policy.Audience.Include, func(t estate.Target) bool {
		return t.Kind == estate.ToEveryone || t.Kind == estate.ToUnit && plan.IsRoot(estate.UnitID(t.ID))
	})
	// Nobody comes first where the audience is narrow. For everyone, an empty estate is no alarm.
	switch n := a.Gets.Len(); {
	case n == 0 && !everyone:
		a.Alarm = Nobody
	// All laptops today, or all that there will ever be: nothing in the audience takes a laptop
	// out.
	case n == a.Estate || everyone && len(policy.Audience.Exclude) == 0 && policy.Audience.When == nil &&
		len(policy.Platforms) == 0 && policy.Within == "":
		a.Alarm = Everyone
	case share > 0 && n*100 > share*a.Estate:
		a.Alarm = Many
	case n == 0:
		a.Alarm = Nobody
	}
	return a
}

// Sliced counts devices by platform, release and home unit.
func Sliced(plan *resolve.Plan, devices resolve.Devices) (platforms, releases, units []Slice) {
	// A release is known by its platform as well: version 14 of two platforms are two releases.
	type release struct{ os, version string }
	byOS, byRelease, byUnit := map[string]*Slice{}, map[release]*Slice{}, map[estate.UnitID]*Slice{}
	// All laptops are counted once by each key, and then those of the set.
	counted(byOS, plan, devices, func(d *estate.Device, _ estate.UnitID) (string, Slice) {
		return string(d.OS), Slice{Name: string(d.OS)}
	})
	counted(byRelease, plan, devices, func(d *estate.Device, _ estate.UnitID) (release, Slice) {
		return release{string(d.OS), d.OSVersion}, Slice{Name: d.OSVersion, Within: string(d.OS)}
	})
	counted(byUnit, plan, devices, func(_ *estate.Device, home estate.UnitID) (estate.UnitID, Slice) {
		return home, Slice{Name: string(home)}
	})
	// Names are compared as lists compare values, so that version 12.10 comes after 12.9.
	most := func(a, b Slice) int {
		return cmp.Or(
			cmp.Compare(b.Devices, a.Devices),
			cmp.Compare(a.Within, b.Within),
			listing.Compare(setting.TextValue(a.Name), setting.TextValue(b.Name)),
		)
	}
	return reached(byOS, most), reached(byRelease, most), reached(byUnit, most)
}

// counted counts by a key the devices that are in a set, and all of them.
func counted[K comparable](
	into map[K]*Slice,
	plan *resolve.Plan,
	devices resolve.Devices,
	of func(*estate.Device, estate.UnitID) (K, Slice),
) {
	count := func(set resolve.Devices, add func(*Slice)) {
		for d, home := range set.All {
			key, fresh := of(d, home)
			if into[key] == nil {
				into[key] = &fresh
			}
			add(into[key])
		}
	}
	count(plan.All(), func(s *Slice) { s.Of++ })
	count(devices, func(s *Slice) { s.Devices++ })
}

// reached lists the slices that have laptops of the set, in an order.
func reached[K comparable](from map[K]*Slice, order func(a, b Slice) int) []Slice {
	out := []Slice{}
	for _, s := range from {
		if s.Devices > 0 {
			out = append(out, *s)
		}
	}
	slices.SortFunc(out, order)
	return out
}

// Shares says which laptops two sets have in common.
type Shares struct {
	OnlyA, Both, OnlyB resolve.Devices
}

// Share compares two sets of laptops.
func Share(a, b resolve.Devices) Shares {
	return Shares{OnlyA: a.Without(b), Both: a.And(b), OnlyB: b.Without(a)}
}

// Spread picks a few of some laptops to try something on: of every platform and unit in turn, and
// releases that were not picked yet before those that were. The same laptops always give the same
// few.
func Spread(plan *resolve.Plan, devices []estate.DeviceID, n int) []estate.DeviceID {
	// A kind is a platform in one unit. Kinds take turns, so that each is there before any has two.
	type kind struct{ os, unit string }
	byKind := map[kind][]estate.DeviceID{}
	var kinds []kind
	for _, id := range devices {
		d := plan.Device(id)
		path := plan.HomeUnits(id)
		k := kind{string(d.OS), path[len(path)-1]}
		if byKind[k] == nil {
			kinds = append(kinds, k)
		}
		byKind[k] = append(byKind[k], id)
	}
	slices.SortFunc(kinds, func(a, b kind) int { // the most frequent kinds first
		return cmp.Or(cmp.Compare(len(byKind[b]), len(byKind[a])), cmp.Compare(a.os, b.os), cmp.Compare(a.unit, b.unit))
	})
	released := map[string]int{}
	var out []estate.DeviceID
	// Each round takes one laptop of every kind that has some left. Some kind has, as long as there
	// are more laptops than were picked.
	for len(out) < min(n, len(devices)) {
		for _, k := range kinds {
			left := byKind[k]
			if len(left) == 0 || len(out) == n {
				continue
			}
			// Of a kind, a laptop with the release that was picked least is next.
			best := 0
			for i := range left {
				if released[plan.Device(left[i]).OSVersion] < released[plan.Device(left[best]).OSVersion] {
					best = i
				}
			}
			released[plan.Device(left[best]).OSVersion]++
			out = append(out, left[best])
			byKind[k] = slices.Delete(slices.Clone(left), best, best+1)
		}
	}
	slices.Sort(out)
	return out
}
