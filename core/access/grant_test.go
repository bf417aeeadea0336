package access

import (
	"slices"
	"testing"
)

func TestGrantsCountFromADayUntilADay(t *testing.T) {
	for name, c := range map[string]struct {
		from, until string
		counts      [3]bool // on 2026-11-01, 2026-11-15, 2026-11-30
	}{
		"always":        {"", "", [3]bool{true, true, true}},
		"from a day":    {"2026-11-15", "", [3]bool{false, true, true}},
		"until a day":   {"", "2026-11-15", [3]bool{true, true, false}},
		"one day alone": {"2026-11-15", "2026-11-15", [3]bool{false, true, false}},
	} {
		for i, day := range []string{"2026-11-01", "2026-11-15", "2026-11-30"} {
			if got := (Grant{From: c.from, Until: c.until}).CountsOn(day); got != c.counts[i] {
				t.Errorf("%s, on %s: %v", name, day, got)
			}
		}
	}
}

func TestGrantsAddUp(t *testing.T) {
	h := HeldBy([]Grant{
		{Role: "reader"},
		{Role: "author", Unit: "fleet"},
		{Role: "publisher", Unit: "fleet", Until: "2026-11-01"},
		{Role: "service-desk", Unit: "slipway"},
		{Role: "no-such-role"},
	}, RoleOf, "2026-11-15")
	if h.Everywhere != Of(Read) || h.Anywhere() != Of(Read, Write, Devices, RecoveryKeys) {
		t.Errorf("everywhere %v, anywhere %v", h.Everywhere, h.Anywhere())
	}
	for name, c := range map[string]struct {
		right Right
		path  []string
		want  bool
	}{
		"in the unit":       {Write, []string{"larkfell", "fleet"}, true},
		"below the unit":    {Write, []string{"larkfell", "fleet", "north"}, true},
		"above the unit":    {Write, []string{"larkfell"}, false},
		"in another unit":   {Write, []string{"larkfell", "slipway"}, false},
		"nowhere":           {Write, nil, false},
		"what has lapsed":   {Publish, []string{"larkfell", "fleet"}, false},
		"everywhere":        {Read, nil, true},
		"of another grant":  {Devices, []string{"larkfell", "slipway"}, true},
		"not of that grant": {Devices, []string{"larkfell", "fleet"}, false},
	} {
		if got := h.For(c.right, c.path); got != c.want {
			t.Errorf("%s: %v", name, got)
		}
	}
	if units := h.UnitsWith(Write); !slices.Equal(units, []string{"fleet"}) {
		t.Errorf("units with write: %v", units)
	}
	if units := h.UnitsWith(Read); units != nil {
		t.Errorf("what is held everywhere names units: %v", units)
	}
	less := h.Only(Of(Read, Devices))
	if less.For(Write, []string{"fleet"}) || !less.For(Devices, []string{"slipway"}) || less.Anywhere() != Of(Read, Devices) {
		t.Errorf("a part of it: %+v", less)
	}
}
