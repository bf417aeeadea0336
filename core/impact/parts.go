// This file names the parts of a report, so that the laptops behind every number can be asked for.
//
// A report is computed anew when somebody asks for a part of it; nothing is stored under a name. So
// names are made of what a part is about and not of its place: the same part of the same change has
// the same name tomorrow.

package impact

import (
	"cmp"
	"encoding/hex"
	"hash/fnv"
	"slices"
	"strings"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/setting"
)

// Names of parts that every report has. Effects name those that have them; the other parts are
// named by what they are.
const (
	All    = "devices" // on which some setting or problem alters
	Weaker = "weaker"  // that get a weaker value of some setting
)

// keyOf names a part by what it is about, in a short text that is the same for the same part of the
// same report.
func keyOf(kind string, about ...string) string {
	// A hash keeps names short. Texts end with a zero byte, so that different lists do not run
	// together.
	h := fnv.New64a()
	for _, text := range about {
		h.Write([]byte(text))
		h.Write([]byte{0})
	}
	return kind + "-" + hex.EncodeToString(h.Sum(nil))
}

// Key names a transition.
func (t *Transition) Key() string {
	return keyOf(
		"alters",
		string(t.Setting),
		string(t.From.Status),
		string(t.From.Value.AppendIdentity(nil)),
		string(t.To.Status),
		string(t.To.Value.AppendIdentity(nil)),
	)
}

// ConflictKey names a conflict that is gained or cleared.
func ConflictKey(c *resolve.ConflictFound, gained bool) string {
	return keyOf(word("conflict", gained), append([]string{string(c.Setting)}, c.Policies...)...)
}

// ProblemKey names a problem that is gained or cleared.
func ProblemKey(p *resolve.ProblemFound, gained bool) string {
	return keyOf(word("problem", gained), append([]string{string(p.Check)}, p.From...)...)
}

// word gives the name of a kind of part for what is gained or cleared.
func word(of string, gained bool) string {
	if gained {
		return of + "-gained"
	}
	return of + "-cleared"
}

// ReachKey names the laptops that a policy begins or ceases to reach.
func ReachKey(id estate.PolicyID, gained bool) string {
	return word("reach", gained) + ":" + string(id)
}

// Part gives the laptops of a part by its name. ok is false when the report has no such part.
func (r *Report) Part(name string) (devices resolve.Devices, ok bool) {
	// Names of fixed parts and of policies are compared directly; keys are found by making the key
	// of each part of the kind.
	switch {
	case name == All:
		return r.Devices, true
	case name == Weaker:
		return r.Weaker(), true
	case slices.Contains(setting.Effects, setting.Effect(name)):
		return r.WithEffect(setting.Effect(name)), true
	}
	for _, m := range r.Audiences {
		switch name {
		case ReachKey(m.Policy, true):
			return m.Gained, true
		case ReachKey(m.Policy, false):
			return m.Dropped, true
		}
	}
	// Keys begin with the kind of part, which says where to look.
	kind, _, _ := strings.Cut(name, "-")
	switch kind {
	case "alters":
		for i := range r.Transitions {
			if r.Transitions[i].Key() == name {
				return r.Transitions[i].Devices, true
			}
		}
	case "conflict":
		for _, gained := range []bool{true, false} {
			list := r.ConflictsCleared
			if gained {
				list = r.ConflictsGained
			}
			for i := range list {
				if ConflictKey(&list[i], gained) == name {
					return list[i].Devices, true
				}
			}
		}
	case "problem":
		for _, gained := range []bool{true, false} {
			list := r.ProblemsCleared
			if gained {
				list = r.ProblemsGained
			}
			for i := range list {
				if ProblemKey(&list[i], gained) == name {
					return list[i].Devices, true
				}
			}
		}
	}
	return resolve.Devices{}, false
}

// Ordered gives the transitions as people should read them: weaker values first, then those of most
// laptops.
func (r *Report) Ordered() []Transition {
	// Counts are taken once: counting a set for each comparison would take long.
	counts := make([]int, len(r.Transitions))
	order := make([]int, len(r.Transitions))
	for i := range r.Transitions {
		order[i], counts[i] = i, r.Transitions[i].Devices.Len()
	}
	// Stable: transitions of equally many laptops stay by setting and value.
	slices.SortStableFunc(order, func(a, b int) int {
		x, y := &r.Transitions[a], &r.Transitions[b]
		if x.Weaker != y.Weaker {
			if x.Weaker {
				return -1
			}
			return 1
		}
		return cmp.Compare(counts[b], counts[a])
	})
	out := make([]Transition, len(order))
	for i, at := range order {
		out[i] = r.Transitions[at]
	}
	return out
}
