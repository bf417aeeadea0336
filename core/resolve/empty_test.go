package resolve_test

import (
	"fmt"
	"testing"

	"zenithridge.example/zridge/core/estate"
	. "zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/setting"
)

// TestWithoutLaptops compares estates of which one has no laptop, or both have none: every pair, in
// both directions, compiled anew and made of each other.
func TestWithoutLaptops(t *testing.T) {
	t.Parallel()
	lock := setting.Definition{
		ID: "screen.lock_after_minutes", Shape: setting.Shape{Type: setting.TypeInteger},
		Combine: setting.Closest, Kind: setting.Security, Side: setting.DeviceSide,
	}
	with := func(people, laptops, policies int) *estate.Snapshot {
		s := &estate.Snapshot{Day: "2026-11-29", Units: []estate.Unit{{ID: "larkfell"}}, Settings: []setting.Definition{lock}}
		for i := range people {
			s.People = append(s.People, &estate.Person{ID: estate.PersonID(fmt.Sprint("p", i)), Unit: "larkfell"})
		}
		for i := range laptops {
			s.Devices = append(s.Devices, &estate.Device{ID: estate.DeviceID(fmt.Sprint("LT-", i)), Unit: "larkfell", OS: setting.Linux})
		}
		for i := range policies {
			s.Policies = append(s.Policies, estate.Policy{
				ID: estate.PolicyID(fmt.Sprint("policy-", i)), Kind: setting.Security, State: estate.Active,
				Audience: estate.Audience{Include: []estate.Target{{Kind: estate.ToEveryone}}},
				Entries:  []estate.Entry{{Setting: lock.ID, Value: setting.IntegerValue(5)}},
			})
		}
		return s
	}
	estates := []*estate.Snapshot{with(0, 0, 0), with(2, 0, 0), with(2, 0, 1), with(3, 0, 2), with(2, 1, 0), with(2, 1, 1), with(0, 2, 1)}
	gets := func(s *estate.Snapshot) int { // laptops that get a value
		if len(s.Policies) == 0 {
			return 0
		}
		return len(s.Devices)
	}
	for i, a := range estates {
		for j, b := range estates {
			before := Compile(a)
			want := max(gets(a), gets(b)) - min(gets(a), gets(b)) // those that get one get the same one
			for how, after := range map[string]*Plan{"anew": Compile(b), "made of the one before": before.With(b)} {
				if got := Differ(before.Estate(), after.Estate()).Devices.Len(); got != want {
					t.Errorf("from %d to %d, %s: %d laptops differ, expected %d", i, j, how, got, want)
				}
			}
		}
	}
}
