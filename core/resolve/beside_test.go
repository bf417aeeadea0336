package resolve_test

import (
	"reflect"
	"slices"
	"testing"

	"zenithridge.example/zridge/core/estate"
	. "zenithridge.example/zridge/core/resolve"
)

// TestBesideAgreesWithCompile makes plans beside that of a random estate: with policies altered,
// added and taken away, and with devices altered. Every laptop gets what it gets from a plan that
// was compiled alone.
func TestBesideAgreesWithCompile(t *testing.T) {
	t.Parallel()
	for seed := range uint64(120) {
		s, other := madeUp(seed), madeUp(seed+1000)
		plan := Compile(s)
		extra := other.Policies[0]
		extra.ID = "extra"
		with := plan.With(s.With(estate.Edit{Kind: estate.KindPolicy, ID: "extra", Object: extra}))
		for _, of := range []struct {
			from  *Plan
			edits []estate.Edit
		}{
			{plan, nil},
			{plan, []estate.Edit{{Kind: estate.KindPolicy, ID: string(s.Policies[1].ID), Object: renamed(s.Policies[2], s.Policies[1].ID)}}},
			{plan, []estate.Edit{{Kind: estate.KindPolicy, ID: "extra", Object: extra}}},
			{with, []estate.Edit{{Kind: estate.KindPolicy, ID: "extra"}}},
			{plan, []estate.Edit{{Kind: estate.KindDevice, ID: string(s.Devices[0].ID), Object: estate.Device{ID: s.Devices[0].ID,
				OS: s.Devices[1].OS, OSVersion: "12"}}}},
			{plan, []estate.Edit{{Kind: estate.KindDevice, ID: "new", Object: estate.Device{ID: "new", OS: s.Devices[1].OS, OSVersion: "12"}}}},
		} {
			next := of.from.Snapshot().With(of.edits...)
			beside, alone := of.from.Beside(next), Compile(next)
			for _, d := range slices.Backward(next.Devices) {
				is, err := beside.Effective(d.ID, "")
				if err != nil {
					t.Fatal(err)
				}
				want, err := alone.Effective(d.ID, "")
				if err != nil {
					t.Fatal(err)
				}
				if !reflect.DeepEqual(is.Settings, want.Settings) || !reflect.DeepEqual(is.NotApplying, want.NotApplying) {
					t.Fatalf("seed %d, edits %v: %s gets %v beside, and %v alone", seed, of.edits, d.ID, is.Settings, want.Settings)
				}
			}
		}
	}
}

func renamed(p estate.Policy, id estate.PolicyID) estate.Policy {
	p.ID = id
	return p
}
