package world_test

import (
	"testing"

	"zenithridge.example/zridge/demo/world"
)

// TestWorlds are well-formed, and the same for the same seed.
func TestWorlds(t *testing.T) {
	size := world.Size{Devices: 3000, Units: 40, Groups: 120, Policies: 60, Settings: 400}
	s := world.Make(size, 1)
	if faults := s.Validate(); len(faults) > 0 {
		t.Fatal(faults[:min(3, len(faults))])
	}
	if again := world.Make(size, 1); again.Devices[77].Owner != s.Devices[77].Owner ||
		again.Policies[30].Entries[0].Value.String() != s.Policies[30].Entries[0].Value.String() {
		t.Error("the same seed gives another estate")
	}
	if other := world.Make(size, 2); other.Policies[30].Priority == s.Policies[30].Priority && other.Devices[77].Owner == s.Devices[77].Owner {
		t.Error("another seed gives the same estate")
	}
}
