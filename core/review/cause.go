// This file says what altered about a laptop between two plans, in the terms in which policies are
// aimed.
//
// When a source of people or laptops was read, laptops get other settings though nobody edited a
// policy. The causes that are looked at are those that an audience or a rule can read: unit, owner,
// groups, operating system.

package review

import (
	"slices"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/resolve"
)

// CauseKind is a kind of alteration of a laptop.
type CauseKind string

const (
	Arrived CauseKind = "arrived" // it was not in the estate
	Moved   CauseKind = "moved"   // its home unit is another one
	Handed  CauseKind = "handed"  // it has another owner
	Joined  CauseKind = "joined"  // it, or its owner, is in a group
	Parted  CauseKind = "parted"  // it, or its owner, is no longer in a group
	Updated CauseKind = "updated" // its system or version is another one
)

// Cause is one thing that altered about a laptop.
type Cause struct {
	Kind CauseKind `json:"kind"`
	From string    `json:"from,omitempty"`
	To   string    `json:"to,omitempty"`
}

// Causes lists what altered about a laptop. Nothing means that the laptop stayed as it was, and
// something else altered.
func Causes(before, after *resolve.Plan, id estate.DeviceID) (out []Cause) {
	was, is := before.Device(id), after.Device(id)
	if is == nil {
		return nil
	}
	if was == nil {
		return []Cause{{Kind: Arrived}}
	}
	if a, b := before.HomeUnit(id), after.HomeUnit(id); a != b {
		out = append(out, Cause{Moved, string(a), string(b)})
	}
	if was.Owner != is.Owner {
		out = append(out, Cause{Handed, string(was.Owner), string(is.Owner)})
	}
	// Groups before and after are compared in both directions: joined, and left.
	in, then := after.GroupsOf(id), before.GroupsOf(id)
	for _, g := range in {
		if !slices.Contains(then, g) {
			out = append(out, Cause{Kind: Joined, To: string(g)})
		}
	}
	for _, g := range then {
		if !slices.Contains(in, g) {
			out = append(out, Cause{Kind: Parted, From: string(g)})
		}
	}
	if a, b := string(was.OS)+" "+was.OSVersion, string(is.OS)+" "+is.OSVersion; a != b {
		out = append(out, Cause{Updated, a, b})
	}
	return out
}
