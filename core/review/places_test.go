package review_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/outcome"
	. "zenithridge.example/zridge/core/review"
	"zenithridge.example/zridge/core/setting"
)

// TestWhatPrevailsInUnits compares what is said of units with a count over their laptops, each
// resolved by itself.
func TestWhatPrevailsInUnits(t *testing.T) {
	apart, even := 0, 0
	for seed := range uint64(60) {
		s := madeUp(t, rand.New(rand.NewPCG(seed, 3)))
		side := impact.Resolve(s)
		counts := map[estate.UnitID]map[setting.ID]map[string]int{}
		devices := map[estate.UnitID]int{}
		for r := range side.Resolution.All {
			is := map[setting.ID]string{}
			for _, one := range r.Settings {
				is[one.ID] = text(outcome.State{Status: one.Status, Value: one.Value}, one.From)
			}
			for _, u := range side.Plan.HomeUnits(r.Device) {
				unit := estate.UnitID(u)
				devices[unit]++
				if counts[unit] == nil {
					counts[unit] = map[setting.ID]map[string]int{}
				}
				for i := range s.Settings {
					id := s.Settings[i].ID
					if counts[unit][id] == nil {
						counts[unit][id] = map[string]int{}
					}
					counts[unit][id][is[id]]++
				}
			}
		}
		m := AcrossUnits(side, "", true, true, nil)
		if len(m.Places) != len(s.Units) {
			t.Fatalf("seed %d: %d places of %d units", seed, len(m.Places), len(s.Units))
		}
		for _, row := range m.Rows {
			for i, cell := range row.Cells {
				p := m.Places[i]
				here := counts[p.ID][row.Setting]
				most := 0
				for _, n := range here {
					most = max(most, n)
				}
				if p.Devices != devices[p.ID] || cell.Devices != most || cell.Others != p.Devices-most ||
					most > 0 && here[text(cell.State, cell.Policies)] != most {
					t.Fatalf("seed %d, %s in %s: %+v of %d, its laptops have %v of %d", seed, row.Setting, p.ID, cell, p.Devices, here, devices[p.ID])
				}
				if cell.Apart {
					apart++
					above := row.Cells[slices.IndexFunc(m.Places, func(q Place) bool { return q.ID == p.Parent })]
					if text(cell.State, cell.Policies) == text(above.State, above.Policies) {
						t.Fatalf("seed %d, %s in %s stands apart from the same in %s", seed, row.Setting, p.ID, p.Parent)
					}
				}
			}
		}
		few := AcrossUnits(side, "", true, false, nil)
		even += few.Even
		for _, row := range m.Rows {
			shown := slices.ContainsFunc(few.Rows, func(r Row) bool { return r.Setting == row.Setting })
			if shown != (row.Cells[0].Others > 0) {
				t.Fatalf("seed %d: %s is shown: %v, with %d otherwise", seed, row.Setting, shown, row.Cells[0].Others)
			}
			w := Everywhere(side, row.Setting)
			for i, p := range w.Places {
				if p.Unit != m.Places[i].Unit || fmt.Sprint(p.Prevailing) != fmt.Sprint(row.Cells[i]) {
					t.Fatalf("seed %d, %s: everywhere says %+v, the matrix %+v", seed, row.Setting, p.Prevailing, row.Cells[i])
				}
			}
		}
	}
	if apart == 0 || even == 0 {
		t.Errorf("%d cells stood apart, %d settings were alike everywhere: too few to tell", apart, even)
	}
}

func text(s outcome.State, clashing []string) string {
	switch s.Status {
	case outcome.Set:
		return s.Value.String()
	case outcome.Conflict:
		return fmt.Sprint(clashing)
	}
	return string(s.Status)
}

// TestAMatrixOfPart looks at one unit with those right below it, and at where a setting is given by
// name.
func TestAMatrixOfPart(t *testing.T) {
	side := impact.Resolve(whoEstate(t))
	m := AcrossUnits(side, "fleet", false, true, nil)
	var units []string
	for _, p := range m.Places {
		units = append(units, fmt.Sprint(p.ID, " ", p.Depth, " ", p.Devices))
	}
	expect(t, "places", units, []string{"fleet 1 3", "dunlin 2 1", "petrel 2 2"})
	if got := AcrossUnits(side, "", false, true, nil); len(got.Places) != 3 {
		t.Errorf("%d places right below the organisation and it", len(got.Places))
	}
	if got := AcrossUnits(side, "nowhere", true, true, nil); len(got.Places)+len(got.Rows) != 0 {
		t.Errorf("a unit that is not there: %+v", got)
	}
	only := AcrossUnits(side, "", true, true, func(d *setting.Definition) bool { return d.ID == "name" })
	if len(only.Rows) != 1 || only.Rows[0].Setting != "name" {
		t.Errorf("asked about one setting: %+v", only.Rows)
	}
	var given []string
	w := Everywhere(side, "banner")
	for _, p := range w.Places {
		for _, g := range p.Given {
			given = append(given, fmt.Sprint(p.ID, " ", g.Policy, " ", g.Devices, " ", g.Decides))
		}
	}
	for _, g := range w.Groups {
		for _, one := range g.Given {
			given = append(given, fmt.Sprint(g.ID, " ", one.Policy, " ", one.Devices, " ", one.Decides, " ", g.Value, " ", g.Others))
		}
	}
	var deciders []string
	for _, p := range w.Places {
		deciders = append(deciders, fmt.Sprint(p.ID, " ", p.Deciders))
	}
	expect(t, "deciders", deciders, []string{
		"r [{benches 3} {at-sea 1} {house 1}]", "fleet [{benches 2} {at-sea 1}]", "dunlin [{benches 1}]", "petrel [{at-sea 1} {benches 1}]",
		"lab [{benches 1} {house 1}]",
	})
	expect(t, "given by name", given, []string{"r house 5 1", "fleet at-sea 2 1", "benches benches 3 3 \"Bench\" 0"})
}
