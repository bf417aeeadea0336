package estate_test

import (
	"fmt"
	"slices"
	"testing"

	. "zenithridge.example/zridge/core/estate"
)

func TestLooseReferencesAreTakenOut(t *testing.T) {
	s := &Snapshot{
		Units:   []Unit{{ID: "r"}},
		People:  []*Person{{ID: "ines", Unit: "r"}, {ID: "tomas", Unit: "gone"}},
		Devices: []*Device{{ID: "A", Owner: "nobody", Users: []PersonID{"ines", "nobody"}, Unit: "gone"}, {ID: "B", Owner: "ines", Unit: "r"}},
		Groups:  []Group{{ID: "g", Of: OfPeople, Members: []string{"ines", "nobody"}}, {ID: "h", Of: OfDevices, Members: []string{"A", "B"}}},
	}
	out, loose := s.Sever(nil, nil)
	if d := out.Devices[0]; d.Owner != "" || d.Unit != "" || !slices.Equal(d.Users, []PersonID{"ines"}) || out.People[1].Unit != "" ||
		!slices.Equal(out.Groups[0].Members, []string{"ines"}) ||
		len(out.Groups[1].Members) != 2 {
		t.Errorf("%+v", out)
	}
	if len(loose) != 5 || loose[0] != (Loose{KindPerson, "tomas", "unit", "gone"}) {
		t.Errorf("loose are %v", loose)
	}
	if s.Devices[0].Owner != "nobody" || len(s.Groups[0].Members) != 2 {
		t.Error("the snapshot itself was altered")
	}
	only := func(kind Kind, id string) bool { return kind == KindGroup }
	if out, loose := s.Sever(only, nil); len(loose) != 1 || out.Devices[0].Owner != "nobody" {
		t.Errorf("of groups alone: %v", loose)
	}
	if out, loose := s.Sever(nil, func(Kind, string) bool { return false }); len(loose) != 3 || out.Devices[0].Unit != "gone" {
		t.Errorf("but units: %v", loose)
	}
}

func TestAFewAreCutOut(t *testing.T) {
	s := &Snapshot{
		Units:   []Unit{{ID: "r"}},
		People:  []*Person{{ID: "ines"}, {ID: "tomas"}},
		Devices: []*Device{{ID: "A"}, {ID: "B"}},
		Groups:  []Group{{ID: "g", Of: OfPeople, Members: []string{"ines", "tomas"}}, {ID: "h", Of: OfDevices, Members: []string{"B"}}},
		Policies: []Policy{
			{
				ID:       "p",
				Audience: Audience{Include: []Target{{ToDevice, "A"}, {ToDevice, "B"}, {ToUnit, "r"}}, Exclude: []Target{{ToPerson, "tomas"}}},
			},
		},
		Exceptions: []Exception{{ID: "x", Target: Target{ToDevice, "B"}}, {ID: "y", Target: Target{ToGroup, "g"}}},
	}
	out := s.Only(s.Devices[:1], s.People[:1])
	if faults := fmt.Sprint(
		out.Groups[0].Members,
		out.Groups[1].Members,
		out.Policies[0].Audience.Include,
		out.Policies[0].Audience.Exclude,
		len(out.Exceptions),
	); faults != "[ines] [] [device:A unit:r] [] 1" {
		t.Error(faults)
	}
	if len(s.Groups[0].Members) != 2 || len(s.Policies[0].Audience.Include) != 3 {
		t.Error("the snapshot itself was altered")
	}
}
