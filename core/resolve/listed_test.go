package resolve_test

import (
	"slices"
	"testing"

	"zenithridge.example/zridge/core/estate"
	. "zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/setting"
)

// TestListedMembersThatComeBack removes members that groups list, puts others in their place, and
// brings them back: a group has those of its members that are there, and nobody else.
func TestListedMembersThatComeBack(t *testing.T) {
	device := func(id estate.DeviceID, owner estate.PersonID) *estate.Device {
		return &estate.Device{ID: id, Owner: owner, OS: setting.Linux, OSVersion: "12"}
	}
	s := &estate.Snapshot{
		Day:     "2026-11-23",
		Units:   []estate.Unit{{ID: "root"}},
		People:  []*estate.Person{{ID: "ines"}, {ID: "ruth"}},
		Devices: []*estate.Device{device("LT-1", "ines"), device("LT-2", "ruth"), device("LT-3", "")},
		Groups: []estate.Group{
			{ID: "laptops", Of: estate.OfDevices, Members: []string{"LT-1", "LT-3", "LT-9"}},
			{ID: "crew", Of: estate.OfPeople, Members: []string{"ines", "omar"}},
		},
	}
	plan := Compile(s)
	expect := func(what string, laptops, crew []estate.DeviceID) {
		t.Helper()
		for group, want := range map[string][]estate.DeviceID{"laptops": laptops, "crew": crew} {
			got := plan.Matching(estate.Target{Kind: estate.ToGroup, ID: group}).IDs()
			if !slices.Equal(got, want) {
				t.Errorf("%s: %s has %v, expected %v", what, group, got, want)
			}
		}
	}
	edit := func(edits ...estate.Edit) {
		s = s.With(edits...)
		plan = plan.With(s)
	}
	expect("at first", []estate.DeviceID{"LT-1", "LT-3"}, []estate.DeviceID{"LT-1"})
	edit(estate.Edit{Kind: estate.KindDevice, ID: "LT-1"})
	expect("without LT-1", []estate.DeviceID{"LT-3"}, nil)
	edit(estate.Edit{Kind: estate.KindDevice, ID: "LT-1", Object: *device("LT-1", "ines")})
	expect("with it again", []estate.DeviceID{"LT-1", "LT-3"}, []estate.DeviceID{"LT-1"})
	edit(
		estate.Edit{Kind: estate.KindDevice, ID: "LT-3"},
		estate.Edit{Kind: estate.KindDevice, ID: "LT-5", Object: *device("LT-5", "ruth")},
	)
	expect("with another in the place of LT-3", []estate.DeviceID{"LT-1"}, []estate.DeviceID{"LT-1"})
	edit(estate.Edit{Kind: estate.KindDevice, ID: "LT-9", Object: *device("LT-9", "")})
	expect("with one that was listed before it came", []estate.DeviceID{"LT-1", "LT-9"}, []estate.DeviceID{"LT-1"})
	edit(estate.Edit{Kind: estate.KindPerson, ID: "ines"})
	expect("without ines", []estate.DeviceID{"LT-1", "LT-9"}, nil)
	edit(
		estate.Edit{Kind: estate.KindPerson, ID: "omar", Object: estate.Person{ID: "omar"}},
		estate.Edit{Kind: estate.KindDevice, ID: "LT-2", Object: *device("LT-2", "omar")},
	)
	expect("with omar, who was listed before he came", []estate.DeviceID{"LT-1", "LT-9"}, []estate.DeviceID{"LT-2"})
	edit(estate.Edit{Kind: estate.KindPerson, ID: "ines", Object: estate.Person{ID: "ines"}})
	expect("with ines again", []estate.DeviceID{"LT-1", "LT-9"}, []estate.DeviceID{"LT-1", "LT-2"})
}
