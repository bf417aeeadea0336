// This file cuts a few devices and people out of an estate.
//
// The small estate answers questions about one laptop without compiling all of them: everything
// that depends on no other laptop comes out the same in it.

package estate

import "slices"

// Only gives the snapshot with these devices and people alone. What names others is left out of
// groups, audiences and exceptions, which alters nothing for those that stay. The receiver stays as
// it is.
func (s *Snapshot) Only(devices []*Device, people []*Person) *Snapshot {
	out := *s
	out.Devices, out.People, out.deviceAt, out.personAt = devices, people, nil, nil
	// known is every device and person that stays, as a target: audiences, exceptions and members
	// are compared with it.
	known := make(map[Target]bool, len(devices)+len(people))
	for i := range devices {
		known[Target{Kind: ToDevice, ID: string(devices[i].ID)}] = true
	}
	for i := range people {
		known[Target{Kind: ToPerson, ID: string(people[i].ID)}] = true
	}
	// Targets of other kinds stay: units and groups are all still there.
	stays := func(t Target) bool { return t.Kind != ToDevice && t.Kind != ToPerson || known[t] }
	out.Groups = slices.Clone(s.Groups)
	for i := range out.Groups {
		g := &out.Groups[i]
		kind := ToPerson
		if g.Of == OfDevices {
			kind = ToDevice
		}
		var members []string
		for _, m := range g.Members {
			if known[Target{Kind: kind, ID: m}] {
				members = append(members, m)
			}
		}
		g.Members = members
	}
	out.Policies = slices.Clone(s.Policies)
	for i := range out.Policies {
		a := &out.Policies[i].Audience
		a.Include, a.Exclude = filtered(a.Include, stays), filtered(a.Exclude, stays)
	}
	out.Exceptions = filtered(s.Exceptions, func(x Exception) bool { return stays(x.Target) })
	return &out
}

// filtered gives those of a list that stay, in a list of its own.
func filtered[T any](list []T, stays func(T) bool) []T {
	out := make([]T, 0, len(list))
	for _, item := range list {
		if stays(item) {
			out = append(out, item)
		}
	}
	return out
}
