// This file distributes laptops to the waves of a plan, as rollout.md says: by audience, by share,
// and the rest. The same plan, laptops and id of the change always give the same waves.

package rollout

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"zenithridge.example/zridge/core/estate"
)

// EmptyWaveError says that a wave other than the one for the rest has no laptops.
type EmptyWaveError struct {
	Wave  estate.WaveID
	Place int    // of the wave in its plan
	Why   string // in words
}

// Error names the wave, and says why it is empty.
func (e *EmptyWaveError) Error() string { return fmt.Sprintf("wave %s is empty: %s", e.Wave, e.Why) }

// fill distributes laptops to the waves of a plan, wave by wave: each takes from those that are
// left. It gives for each laptop the place of its wave, and the waves that have laptops. Laptops
// are sorted by id. The wave for the rest may be empty and is then left out; any other must not be,
// since its gate would tell nothing. The error is an *EmptyWaveError.
func fill(id string, plan []estate.Wave, laptops []Laptop) (waveOf []int32, filled []estate.Wave, err error) {
	waveOf = make([]int32, len(laptops))
	for i := range waveOf {
		waveOf[i] = -1
	}
	left := len(laptops)
	mirrored := mirror(id, laptops)
	for _, w := range plan {
		place := int32(len(filled))
		before := left
		take := func(laptop int32) {
			waveOf[laptop] = place
			left--
		}
		why := "no laptop is left for it"
		switch w.Kind {
		// Which waves' audiences a laptop matches was found by package resolve.
		case estate.ByAudience:
			for i := range laptops {
				if waveOf[i] < 0 && slices.Contains(laptops[i].Matches, w.ID) {
					take(int32(i))
				}
			}
			if left > 0 {
				why = "its audience matches no laptop that the change touches and that is in no earlier wave"
			}
		case estate.ByShare:
			// Of the laptops that are left, in an order that mirrors the estate by platform and
			// unit, those in the middle of equal stretches.
			free := slices.DeleteFunc(mirrored(), func(i int32) bool { return waveOf[i] >= 0 })
			// The share is of all laptops that the change touches, not of those that are left. The
			// m laptops are at the middle of m equal stretches, so that platforms and units are
			// taken in their proportions.
			u := len(free)
			m := min(w.Share.AtLeast(len(laptops)), u)
			for i := range m {
				take(free[(2*i+1)*u/(2*m)])
			}
		case estate.ForRest:
			for i := range laptops {
				if waveOf[i] < 0 {
					take(int32(i))
				}
			}
		}
		if left == before {
			if w.Kind == estate.ForRest {
				continue
			}
			return nil, nil, &EmptyWaveError{w.ID, slices.IndexFunc(plan, func(o estate.Wave) bool { return o.ID == w.ID }), why}
		}
		filled = append(filled, w)
	}
	return waveOf, filled, nil
}

// mirror gives a function that lists the places of laptops by platform, unit and a hash of the
// rollout and the laptop, which spreads those of one unit. They are sorted once; each call gives a
// copy.
func mirror(id string, laptops []Laptop) func() []int32 {
	var sorted []int32
	return func() []int32 {
		if sorted == nil {
			hashes := make([]string, len(laptops))
			for i := range laptops {
				sum := sha256.Sum256([]byte(id + "/" + laptops[i].ID))
				hashes[i] = hex.EncodeToString(sum[:])
				sorted = append(sorted, int32(i))
			}
			slices.SortFunc(sorted, func(a, b int32) int {
				x, y := &laptops[a], &laptops[b]
				return cmp.Or(strings.Compare(x.OS, y.OS), strings.Compare(x.Unit, y.Unit), cmp.Compare(hashes[a], hashes[b]))
			})
		}
		return slices.Clone(sorted)
	}
}
