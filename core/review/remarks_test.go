package review_test

import (
	"fmt"
	"testing"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	. "zenithridge.example/zridge/core/review"
	"zenithridge.example/zridge/core/rule"
)

// TestRemarks looks at conditions that name what nobody has, and at others that are in order.
func TestRemarks(t *testing.T) {
	plan := impact.Resolve(whoEstate(t)).Plan
	for source, want := range map[string][]string{
		`device.os == "linux"`:                              nil,
		`device.os == "windowz"`:                            {"unknown-value windowz windows"},
		`device.os in ["linux", "macoss"]`:                  {"unknown-value macoss macos"},
		`device.os != "windowz"`:                            {"unknown-value windowz windows"},
		`device.foo == 1`:                                   {"unknown-field  "},
		`device.ram_bg >= 16`:                               {"unknown-field  ram_gb"},
		`device.ram_gb >= 16`:                               nil,
		`device.ram_gb >= 1000000`:                          {"never-true  "},
		`device.ram_gb == "sixteen"`:                        {"unknown-value sixteen "},
		`"field" in device.tags`:                            nil,
		`"feild" in device.tags`:                            {"unknown-value feild field"},
		`device.os == "linux" && !("feild" in device.tags)`: {"unknown-value feild field"},
		`device.os_version.below("1")`:                      {"never-true  "},
		`device.os_version.below("99")`:                     nil,
		`size(device.tags) > 3`:                             {"never-true  "},
		`has(device.ram_gb)`:                                nil,
		`device.os == "windowz" || device.foo == 1`:         {"unknown-value windowz windows", "unknown-field  "},
		`true`: nil,
		`device.os + device.os_version == "linux12"`: nil, // two fields: not looked at
	} {
		r, err := rule.Compile(rule.OfDevice, source)
		if err != nil {
			t.Fatalf("%s: %v", source, err)
		}
		var got []string
		for _, m := range Remarks(plan, r) {
			got = append(got, fmt.Sprint(m.Kind, " ", m.Found, " ", m.Near))
		}
		expect(t, source, got, want)
	}
	empty := impact.Resolve(&estate.Snapshot{Day: "2026-11-23"}).Plan
	r, err := rule.Compile(rule.OfDevice, `device.foo == 1`)
	if err != nil {
		t.Fatal(err)
	}
	if found := Remarks(empty, r); len(found) != 0 {
		t.Errorf("of an estate with nobody in it: %v", found)
	}
	if found := Remarks(plan, nil); len(found) != 0 {
		t.Errorf("of no condition: %v", found)
	}
}
