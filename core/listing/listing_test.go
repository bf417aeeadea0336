package listing_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"zenithridge.example/zridge/core/estate"
	. "zenithridge.example/zridge/core/listing"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/rule"
	"zenithridge.example/zridge/core/setting"
)

func plan(t testing.TB) *resolve.Plan {
	t.Helper()
	early, err := rule.Compile(rule.OfDevice, `device.ram_gb < 16`)
	if err != nil {
		t.Fatal(err)
	}
	s := &estate.Snapshot{
		Units: []estate.Unit{
			{ID: "larkfell"},
			{ID: "slipway", Parent: "larkfell"},
			{ID: "labs", Parent: "larkfell"},
			{ID: "tide-lab", Parent: "labs"},
		},
		People: []*estate.Person{
			{
				ID:         "ines",
				Name:       "Ines Okafor",
				Mail:       "ines@larkfell.example",
				Unit:       "slipway",
				Attributes: map[string]setting.Value{"title": setting.TextValue("Mate")},
			},
			{ID: "tomas", Name: "Tomas Reyes", Unit: "tide-lab"},
			{ID: "ada"},
		},
		Devices: []*estate.Device{
			{
				ID:        "LT-3",
				Serial:    "C",
				OS:        "linux",
				OSVersion: "12.10",
				Owner:     "ines",
				Facts:     map[string]setting.Value{"ram_gb": setting.IntegerValue(8)},
			},
			{
				ID:        "LT-1",
				Serial:    "A",
				OS:        "linux",
				OSVersion: "12.9",
				Owner:     "tomas",
				Tags:      []string{"field", "spare"},
				Facts:     map[string]setting.Value{"ram_gb": setting.IntegerValue(32), "chip": setting.BoolValue(true)},
			},
			{ID: "LT-2", OS: "macos", OSVersion: "14", Unit: "labs", Edition: "Pro"},
		},
		Groups: []estate.Group{{ID: "small", Of: estate.OfDevices, Rule: early}, {ID: "crew", Of: estate.OfPeople, Members: []string{"ines"}}},
	}
	if faults := s.Validate(); len(faults) > 0 {
		t.Fatal(faults)
	}
	return resolve.Compile(s)
}

func found(t *testing.T, table *Table, q Query) string {
	t.Helper()
	rows, err := table.Find(q)
	if err != nil {
		return err.Error()
	}
	out := make([]string, len(rows))
	for i, r := range rows {
		out[i] = table.ID(int(r))
	}
	return strings.Join(out, " ")
}

func TestDevicesAreFound(t *testing.T) {
	table := Devices(plan(t))
	for written, want := range map[string]string{
		"os=linux": "LT-1 LT-3", "os=LINUX|macos": "LT-1 LT-2 LT-3", "os!=linux": "LT-2", "os_version>=12.10": "LT-2 LT-3",
		"os_version<12.10": "LT-1", "os_version<=12.9": "LT-1", "facts/ram_gb>8": "LT-1", "facts/ram_gb>=8": "LT-1 LT-3",
		"facts/ram_gb?": "LT-1 LT-3", "facts/ram_gb!?": "LT-2", "facts/ram_gb!=8": "LT-1 LT-2", "facts/ram_gb>many": "",
		"facts/chip=true": "LT-1", "tags=spare": "LT-1", "tags~fie": "LT-1", "unit=labs": "LT-1 LT-2", "unit=tide-lab": "LT-1",
		"unit!=labs":   "LT-3",
		"groups=small": "LT-3", "groups=crew": "LT-3", "owner_name~okafor": "LT-3", "edition=pro": "LT-2", "serial!?": "LT-2",
		"owner?": "LT-1 LT-3",
	} {
		c, ok := ParseCondition(written)
		if !ok || c.String() != written {
			t.Errorf("%s became %+v (%v)", written, c, ok)
			continue
		}
		if got := found(t, table, Query{Conditions: []Condition{c}}); got != want {
			t.Errorf("%s: %q, expected %q", written, got, want)
		}
	}
	for _, bad := range []string{"", "os", "=linux", "os=", "os?linux", "os>="} {
		if c, ok := ParseCondition(bad); ok {
			t.Errorf("%q was taken for %+v", bad, c)
		}
	}
	both := Query{Conditions: []Condition{{Field: "os", Op: Is, Words: []string{"linux"}}, {Field: "tags", Op: Known}}}
	if got := found(t, table, both); got != "LT-1" {
		t.Errorf("two conditions: %q", got)
	}
	for words, want := range map[string]string{"": "LT-1 LT-2 LT-3", "OKAFOR": "LT-3", "linux 12": "", "12.10 ines": "LT-3",
		"labs": "LT-1 LT-2"} {
		if got := found(t, table, Query{Words: words}); got != want {
			t.Errorf("the words %q: %q, expected %q", words, got, want)
		}
	}
	if got := found(
		t,
		table,
		Query{Conditions: []Condition{{Field: "colour", Op: Known}}, Sort: "shade"},
	); !strings.Contains(got, "colour") || !strings.Contains(got, "shade") ||
		!strings.Contains(got, "facts/ram_gb") {
		t.Errorf("fields that are not there: %s", got)
	}
}

func TestRowsAreSorted(t *testing.T) {
	table := Devices(plan(t))
	for sort, want := range map[string]string{"": "LT-1 LT-2 LT-3", "id": "LT-1 LT-2 LT-3", "-id": "LT-3 LT-2 LT-1",
		"os_version": "LT-1 LT-3 LT-2", "-os_version": "LT-2 LT-3 LT-1", "facts/ram_gb": "LT-3 LT-1 LT-2",
		"-facts/ram_gb": "LT-2 LT-1 LT-3", "owner_name": "LT-3 LT-1 LT-2"} {
		if got := found(t, table, Query{Sort: sort}); got != want {
			t.Errorf("by %q: %q, expected %q", sort, got, want)
		}
	}
	reported := map[string]Column{"failed": func(row int) setting.Value { return setting.IntegerValue(int64(10 - row)) }}
	if got := found(t, table, Query{Sort: "failed", Besides: reported}); got != "LT-3 LT-2 LT-1" {
		t.Errorf("by what laptops reported: %q", got)
	}
}

func TestPeopleAreFound(t *testing.T) {
	table := People(plan(t))
	for written, want := range map[string]string{"devices>=1": "ines tomas", "devices=0": "ada", "unit=labs": "tomas",
		"groups=crew": "ines", "attributes/title=mate": "ines", "mail!?": "ada tomas"} {
		c, _ := ParseCondition(written)
		if got := found(t, table, Query{Conditions: []Condition{c}}); got != want {
			t.Errorf("%s: %q, expected %q", written, got, want)
		}
	}
	if row, ok := table.Row("tomas"); !ok || Plain(table.Of("name")(row)) != "Tomas Reyes" {
		t.Error("a row by its id")
	}
}

func TestValuesAreCounted(t *testing.T) {
	table := Devices(plan(t))
	f, err := table.Values("os", nil, 10)
	if err != nil || f.Known != 3 || f.Distinct != 2 || f.Most[0].Value.Text() != "linux" || f.Most[0].Rows != 2 {
		t.Errorf("%+v %v", f, err)
	}
	if f, _ := table.Values("tags", nil, 1); f.Distinct != 2 || len(f.Most) != 1 || f.Kind != setting.List {
		t.Errorf("items one by one: %+v", f)
	}
	if f, _ := table.Values("facts/ram_gb", []int32{2}, 5); f.Known != 1 || f.Most[0].Value.Integer() != 8 || f.Kind != setting.Integer {
		t.Errorf("among some rows: %+v", f)
	}
	if _, err := table.Values("colour", nil, 1); err == nil {
		t.Error("a field that is not there")
	}
	if !slices.Contains(table.Fields(), "facts/chip") {
		t.Error("a fact that only one laptop has is no field")
	}
}

// TestOrderIsTotal compares values of all kinds with one another: turned round, the order is turned
// round.
func TestOrderIsTotal(t *testing.T) {
	values := []setting.Value{
		{},
		setting.TextValue("a"),
		setting.TextValue("B"),
		setting.TextValue("b"),
		setting.TextValue("9"),
		setting.TextValue("10"),
		setting.TextValue("10.2"),
		setting.IntegerValue(9),
		setting.IntegerValue(10),
		setting.BoolValue(true),
		setting.ListValue([]string{"a", "b"}),
		setting.TextValue(""),
	}
	for _, a := range values {
		for _, b := range values {
			if x, y := Compare(a, b), Compare(b, a); x > 0 != (y < 0) || x == 0 != (y == 0) {
				t.Errorf("%v and %v: %d and %d", a, b, x, y)
			}
		}
	}
	if Compare(setting.TextValue("9"), setting.TextValue("10")) >= 0 || Compare(setting.IntegerValue(9), setting.IntegerValue(10)) >= 0 {
		t.Error("numbers are not ordered as numbers")
	}
}

// BenchmarkPage finds a page's rows among 100,000 devices, as people filter and sort them.
func BenchmarkPage(b *testing.B) {
	s := &estate.Snapshot{Units: []estate.Unit{{ID: "r"}}}
	for i := range 100_000 {
		unit := estate.UnitID(fmt.Sprintf("u%d", i%200))
		if i < 200 {
			s.Units = append(s.Units, estate.Unit{ID: unit, Parent: "r"})
		}
		s.Devices = append(
			s.Devices,
			&estate.Device{
				ID:        estate.DeviceID(fmt.Sprintf("LT-%06d", i)),
				Serial:    fmt.Sprintf("S%d", i*7),
				OS:        "linux",
				OSVersion: fmt.Sprintf("12.%d", i%40),
				Unit:      unit,
				Model:     fmt.Sprintf("Model %d", i%60),
				Facts:     map[string]setting.Value{"ram_gb": setting.IntegerValue(int64(8 << (i % 4)))},
			},
		)
	}
	table := Devices(resolve.Compile(s))
	for name, q := range map[string]Query{
		"all": {}, "a fact": {Conditions: []Condition{{"facts/ram_gb", AtLeast, []string{"32"}}}}, "words": {Words: "model 17 u42"},
		"a unit":            {Conditions: []Condition{{"unit", Is, []string{"u7"}}}},
		"a version, sorted": {Conditions: []Condition{{"os_version", AtLeast, []string{"12.30"}}}, Sort: "-facts/ram_gb"},
	} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				if _, err := table.Find(q); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}

// TestGroupsAreCounted compares how many are in each group with a look at everybody.
func TestGroupsAreCounted(t *testing.T) {
	p := plan(t)
	for name, table := range map[string]*Table{"devices": Devices(p), "people": People(p)} {
		all, err := table.Values("groups", nil, 20)
		if err != nil {
			t.Fatal(err)
		}
		rows := make([]int32, table.Rows)
		for i := range rows {
			rows[i] = int32(i)
		}
		one, err := table.Values("groups", rows, 20)
		if err != nil || fmt.Sprint(all) != fmt.Sprint(one) || len(all.Most) == 0 {
			t.Errorf("%s: %v, looked at one by one %v, %v", name, all, one, err)
		}
	}
	if empty, err := Devices(
		resolve.Compile(&estate.Snapshot{Units: []estate.Unit{{ID: "root"}}}),
	).Values("groups", nil, 5); err != nil ||
		empty.Known+empty.Distinct+len(empty.Most) != 0 {
		t.Errorf("in an estate without laptops groups have %v, %v", empty, err)
	}
}

// TestUnknownValuesAreFaults: a value that no row has is most often misspelt, so it is a fault and
// not an empty list.
func TestUnknownValuesAreFaults(t *testing.T) {
	table := Devices(plan(t))
	for where, want := range map[string]string{
		"os=linux":             "",
		"os=windows":           "", // laptops of it may come
		"os=windowz":           `"windows"`,
		"os=LINUX":             "",
		"unit=labs":            "",
		"unit=lab":             `"labs"`,
		"unit=slipwya":         `"slipway"`,
		"tags=field":           "",
		"tags=feild|spare":     `"field"`,
		"tags!=feild":          `"field"`,
		"edition=Pro":          "",
		"edition=Prof":         "Pro",
		"groups=small":         "",
		"groups=smal":          `"small"`,
		"facts/ram_gb=32":      "",
		"facts/ram_gb=33":      "such as",
		"facts/ram_gb>=1000":   "", // an order, and no value
		"facts/chip=true":      "",
		"tags~fei":             "",
		"id=LT-9":              "", // asked for one row: there is none
		"serial=Z":             "",
		"owner=nobody":         "",
		"edition?":             "",
		"facts/chip=true|yes":  "true",
		"os_version=12.9|12.8": "12.10",
	} {
		c, ok := ParseCondition(where)
		if !ok {
			t.Fatal(where)
		}
		_, err := table.Find(Query{Conditions: []Condition{c}})
		switch {
		case want == "" && err != nil:
			t.Errorf("%s: %v", where, err)
		case want != "" && (err == nil || !strings.Contains(err.Error(), want)):
			t.Errorf("%s: %v, expected a fault that names %s", where, err, want)
		}
	}
	empty := Devices(resolve.Compile(&estate.Snapshot{}))
	if rows, err := empty.Find(Query{Conditions: []Condition{{Field: "os", Op: Is, Words: []string{"linux"}}}}); err != nil || len(rows) != 0 {
		t.Errorf("where there are no laptops: %v %v", rows, err)
	}
}
