package review_test

import (
	"fmt"
	"testing"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	. "zenithridge.example/zridge/core/review"
	"zenithridge.example/zridge/core/rule"
	"zenithridge.example/zridge/core/setting"
)

// TestShrinkages renames the titles by which a group's rule finds people, as a directory may.
func TestShrinkages(t *testing.T) {
	crew, err := rule.Compile(rule.OfPerson, `person.title == "crew"`)
	if err != nil {
		t.Fatal(err)
	}
	group := estate.Target{Kind: estate.ToGroup, ID: "crew"}
	everyone := estate.Target{Kind: estate.ToEveryone}
	policy := func(id string, state estate.State, include, exclude []estate.Target) estate.Policy {
		return estate.Policy{
			ID: estate.PolicyID(id), Kind: "security", State: state, Audience: estate.Audience{Include: include, Exclude: exclude},
		}
	}
	made := func(titles ...string) *estate.Snapshot {
		s := &estate.Snapshot{
			Day: "2026-11-23", Units: []estate.Unit{{ID: "r"}},
			Groups: []estate.Group{{ID: "crew", Of: estate.OfPeople, Rule: crew}},
			Policies: []estate.Policy{
				policy("for-crew", estate.Active, []estate.Target{group}, nil),
				policy("not-crew", estate.Active, []estate.Target{everyone}, []estate.Target{group}),
				policy("draft", estate.Draft, []estate.Target{group}, nil),
			},
		}
		for i, title := range titles {
			id := fmt.Sprint("p", i)
			s.People = append(
				s.People,
				&estate.Person{ID: estate.PersonID(id), Unit: "r", Attributes: map[string]setting.Value{"title": setting.TextValue(title)}},
			)
			s.Devices = append(s.Devices, &estate.Device{ID: estate.DeviceID("d" + id), Owner: estate.PersonID(id), OS: "linux"})
		}
		return s
	}
	before := made("crew", "crew", "crew", "crew", "cook")
	for _, c := range []struct {
		titles []string
		most   int
		want   []string
	}{
		{[]string{"crew", "crew", "crew", "crew", "cook"}, 0, nil},
		{[]string{"crew", "crew", "crew", "crew", "crew"}, 0, []string{"not-crew  1 0"}}, // the exclusion grows, so that the audience shrinks
		{[]string{"crew", "crew", "hand", "hand", "cook"}, 50, nil},
		{[]string{"crew", "hand", "hand", "hand", "cook"}, 50, []string{"for-crew  4 1", "not-crew group:crew 4 1"}},
		{[]string{"crew", "crew", "crew", "hand", "cook"}, 20, []string{"for-crew  4 3", "not-crew group:crew 4 3"}},
		{[]string{"hand", "hand", "hand", "hand", "cook"}, 100, []string{"for-crew  4 0", "not-crew group:crew 4 0"}},
	} {
		side := impact.Resolve(before)
		after := made(c.titles...)
		var got []string
		for _, s := range Shrinkages(side, impact.Resolve(after), c.most) {
			exclusion := ""
			if s.Exclusion != (estate.Target{}) {
				exclusion = s.Exclusion.String()
			}
			got = append(got, fmt.Sprint(s.Policy, " ", exclusion, " ", s.Before, " ", s.After))
		}
		expect(t, fmt.Sprint(c.titles, " at most ", c.most), got, c.want)
		// Whoever alters the audience itself means it.
		for i := range after.Policies {
			after.Policies[i].Audience.Include = append(
				[]estate.Target{{Kind: estate.ToUnit, ID: "r"}},
				after.Policies[i].Audience.Include...)
		}
		if found := Shrinkages(side, impact.Resolve(after), c.most); len(found) != 0 {
			t.Errorf("%v: an audience that is edited is said to shrink: %v", c.titles, found)
		}
	}
}
