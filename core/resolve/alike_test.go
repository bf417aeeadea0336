package resolve_test

import (
	"reflect"
	"testing"
	"zenithridge.example/zridge/core/estate"
	. "zenithridge.example/zridge/core/resolve"
)

// TestSharingAltersNothing gives every laptop of made-up estates two more that are alike, and compares the whole estate,
// where laptops share what is decided, with each laptop resolved by itself.
func TestSharingAltersNothing(t *testing.T) {
	shared := 0
	for seed := range uint64(300) {
		s := madeUp(seed)
		twins := *s
		for _, d := range s.Devices {
			for _, name := range []estate.DeviceID{"-a", "-b", "-c"} { // each thread takes every second laptop
				alike := d
				alike.ID += name
				twins.Devices = append(twins.Devices, alike)
			}
		}
		plan := Compile(&twins)
		whole := plan.Estate()
		seen := map[*Setting]bool{}
		for _, r := range whole.Results {
			alone, err := plan.Effective(r.Device, "")
			if err != nil {
				t.Fatal(err)
			}
			if !reflect.DeepEqual(normal(r), normal(alone)) {
				t.Fatalf("seed %d: %s shares\n%+v\nby itself it gets\n%+v", seed, r.Device, r, alone)
			}
			if len(r.Settings) > 0 {
				if seen[&r.Settings[0]] {
					shared++
				}
				seen[&r.Settings[0]] = true
			}
		}
	}
	if shared < 300 {
		t.Errorf("only %d laptops shared what is decided", shared)
	}
}

// normal makes empty and absent lists the same.
func normal(r *Result) *Result {
	out := *r
	if len(out.Settings) == 0 {
		out.Settings = nil
	}
	if len(out.Problems) == 0 {
		out.Problems = nil
	}
	return &out
}
