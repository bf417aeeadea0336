// This file asks one made-up estate for the same figures through several interfaces: what two
// screens say of one thing must be the same, and what a plan worked out from nothing says.

package service_test

import (
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/url"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/demo/filled"
	"zenithridge.example/zridge/demo/world"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
)

// worldly is a service over a world of some thousand laptops, and the plan of it made from nothing.
func worldly(t *testing.T) (*client.Client, *estate.Snapshot, *resolve.Plan) {
	t.Helper()
	s := world.Make(world.Size{Devices: 3000, Units: 40, Groups: 120, Policies: 90, Settings: 80}, 11)
	database := filepath.Join(t.TempDir(), "world.db")
	if err := filled.Database(database, s); err != nil {
		t.Fatal(err)
	}
	return over(t, database), s, resolve.Compile(s)
}

func TestEveryScreenSaysTheSame(t *testing.T) {
	t.Parallel()
	api, s, plan := worldly(t)
	whole := plan.Estate()

	t.Run("what is wrong", func(t *testing.T) {
		o := get[wire.Overview](t, api, "/overview")
		conflicts, problems := get[[]wire.Conflict](t, api, "/conflicts"), get[[]wire.FoundProblem](t, api, "/problems")
		if o.Devices != len(s.Devices) || o.People != len(s.People) || o.Units != len(s.Units) || o.Policies != len(s.Policies) ||
			o.NeverSeen != len(s.Devices) ||
			o.Enrolled != 0 {
			t.Errorf("the overview counts %d laptops, %d people, %d units, %d policies", o.Devices, o.People, o.Units, o.Policies)
		}
		if len(o.Conflicts) != len(conflicts) || len(conflicts) != len(whole.Conflicts()) || len(o.Problems) != len(problems) ||
			len(problems) != len(whole.Problems()) ||
			len(o.Lints) != len(plan.Lints()) {
			t.Errorf(
				"the overview has %d conflicts, %d problems and %d idle things; the lists %d and %d; from nothing %d, %d and %d",
				len(o.Conflicts),
				len(o.Problems),
				len(o.Lints),
				len(conflicts),
				len(problems),
				len(whole.Conflicts()),
				len(whole.Problems()),
				len(plan.Lints()),
			)
		}
		if len(conflicts) == 0 || len(problems) == 0 {
			t.Fatal("nothing is wrong with this world")
		}
		for i, c := range conflicts[:min(6, len(conflicts))] {
			want := whole.Conflicts()[i]
			units := 0
			for _, u := range want.Devices.ByUnit() {
				units += u.Devices
			}
			touched := touchedBy(t, api, url.Values{"setting": {c.Setting}, "policies": c.Policies})
			if c.Setting != string(want.Setting) || c.DeviceCount != want.Devices.Len() || len(touched.Devices) != c.DeviceCount ||
				units != c.DeviceCount {
				t.Errorf(
					"%s between %v is on %d laptops, %d are touched, from nothing %d",
					c.Setting,
					c.Policies,
					c.DeviceCount,
					len(touched.Devices),
					want.Devices.Len(),
				)
			}
			for _, g := range touched.Groups {
				if n := want.Devices.And(plan.Matching(estate.Target{Kind: estate.ToGroup, ID: g.Group})).Len(); n != g.Devices {
					t.Errorf("%s: %d laptops of %s are touched, from nothing %d", c.Setting, g.Devices, g.Group, n)
				}
			}
		}
		for i, p := range problems[:min(6, len(problems))] {
			if touched := touchedBy(
				t,
				api,
				url.Values{"check": {p.Check}, "policies": p.From},
			); len(touched.Devices) != p.DeviceCount ||
				p.DeviceCount != whole.Problems()[i].Devices.Len() {
				t.Errorf("%s is on %d laptops, %d are touched", p.Check, p.DeviceCount, len(touched.Devices))
			}
		}
	})

	t.Run("who is where", func(t *testing.T) {
		own := 0
		for _, u := range get[[]wire.Unit](t, api, "/units") {
			own += u.Own
			in := plan.Matching(estate.Target{Kind: estate.ToUnit, ID: u.ID}).Len()
			listed := get[wire.Page[wire.Device]](t, api, "/devices?limit=1&unit="+u.ID).Total
			if u.Devices != in || listed != in {
				t.Errorf("%s has %d laptops in the tree, %d in the list, from nothing %d", u.ID, u.Devices, listed, in)
			}
		}
		if own != len(s.Devices) {
			t.Errorf("units have %d laptops of their own, expected %d", own, len(s.Devices))
		}
		for i, g := range get[wire.Page[wire.Group]](t, api, "/groups?limit=1000").Items {
			if members := len(plan.GroupMembers(estate.GroupID(g.ID))); g.Members != members {
				t.Errorf("%s has %d members in the list, from nothing %d", g.ID, g.Members, members)
			}
			if i%17 == 0 {
				page := get[wire.GroupPage](t, api, "/groups/"+g.ID)
				if page.Group.Members != g.Members || page.Trial.Count != g.Members || page.Trial.JoinCount+page.Trial.LeaveCount != 0 {
					t.Errorf(
						"%s has %d members in the list, %d on its page, %d when it is tried, %d join and %d leave",
						g.ID,
						g.Members,
						page.Group.Members,
						page.Trial.Count,
						page.Trial.JoinCount,
						page.Trial.LeaveCount,
					)
				}
			}
		}
		for _, p := range get[wire.Page[wire.Policy]](t, api, "/policies?limit=1000").Items {
			if want := plan.Applies(estate.PolicyID(p.ID)).Len(); p.Devices != want {
				t.Errorf("%s reaches %d in the list, from nothing %d", p.ID, p.Devices, want)
			}
		}
	})

	t.Run("what a policy does", func(t *testing.T) {
		for i := 0; i < len(s.Policies); i += 9 {
			p := &s.Policies[i]
			use := get[wire.PolicyUse](t, api, "/policies/"+string(p.ID)+"/use")
			applies := plan.Applies(p.ID)
			if use.Reach.Gets != applies.Len() {
				t.Errorf("%s reaches %d, from nothing %d", p.ID, use.Reach.Gets, applies.Len())
			}
			for _, e := range p.Entries {
				told, lacking := 0, 0
				for _, n := range use.Fates[string(e.Setting)] {
					told += n
				}
				for _, n := range use.Lacking[string(e.Setting)] {
					lacking += n
				}
				if told+lacking != applies.Len() {
					t.Errorf("%s for %s: %d fates and %d that lack it, of %d laptops", p.ID, e.Setting, told, lacking, applies.Len())
				}
				if won := plan.Winners(e.Setting, plan.All())[p.ID]; use.Fates[string(e.Setting)]["won"] != won.Len() {
					t.Errorf("%s wins %s on %d, from nothing on %d", p.ID, e.Setting, use.Fates[string(e.Setting)]["won"], won.Len())
				}
			}
		}
	})

	t.Run("what is inherited", func(t *testing.T) {
		root := string(s.Units[0].ID)
		matrix := get[wire.UnitMatrix](t, api, "/unit-matrix?all=true&unit="+root)
		inherits := get[wire.Inheritance](t, api, "/units/"+root+"/inherits")
		if inherits.Devices != len(s.Devices) || matrix.Units[0].Devices != len(s.Devices) {
			t.Errorf("the organisation has %d laptops, in the matrix %d", inherits.Devices, matrix.Units[0].Devices)
		}
		rows := map[string]wire.MatrixRow{}
		for _, row := range matrix.Rows {
			rows[row.Setting] = row
		}
		for i, h := range inherits.Settings {
			if row, listed := rows[h.Setting]; listed &&
				(row.Cells[0].Devices != h.Prevailing.Devices || row.Cells[0].Others != h.Prevailing.Others) {
				t.Errorf("%s is one thing on %d laptops in the matrix, on %d on the unit's page", h.Setting, row.Cells[0].Devices, h.Prevailing.Devices)
			}
			if i%13 != 0 {
				continue
			}
			places := get[wire.Whereabouts](t, api, "/settings/"+h.Setting+"/places")
			n := 0
			for _, state := range places.States {
				n += state.Devices
			}
			if n != len(s.Devices) || places.States[0].Devices != h.Prevailing.Devices ||
				places.Units[0].Prevailing.Devices != h.Prevailing.Devices {
				t.Errorf(
					"%s: %d laptops in all states, %d have the most frequent, %d on the unit's page",
					h.Setting,
					n,
					places.States[0].Devices,
					h.Prevailing.Devices,
				)
			}
			most, _ := whole.Most(setting.ID(h.Setting), plan.All())
			if most.Devices.Len() != h.Prevailing.Devices {
				t.Errorf("%s: %d laptops have what most have, from nothing %d", h.Setting, h.Prevailing.Devices, most.Devices.Len())
			}
			for _, a := range h.Arrivals {
				fates := 0
				for _, n := range a.Fates {
					fates += n
				}
				if fates != a.Devices {
					t.Errorf("%s from %s comes to %d laptops, and has %d fates there", h.Setting, a.Policy, a.Devices, fates)
				}
			}
		}
	})

	t.Run("one laptop", func(t *testing.T) {
		r := rand.New(rand.NewPCG(1, 1))
		for range 12 {
			d := s.Devices[r.IntN(len(s.Devices))]
			page := get[wire.DevicePage](t, api, "/devices/"+string(d.ID))
			want, _ := plan.Effective(d.ID, "")
			if len(page.Effective.Settings) != len(want.Settings) || len(page.Applies) != len(plan.Applying(want)) ||
				len(page.Effective.NotApplying)+len(page.Applies) != len(s.Policies) ||
				len(page.Effective.Problems) != len(want.Problems) ||
				page.Device.Problems != len(want.Problems) {
				t.Fatalf(
					"%s has %d settings, %d policies that apply and %d that do not; from nothing %d, %d, %d",
					d.ID,
					len(page.Effective.Settings),
					len(page.Applies),
					len(page.Effective.NotApplying),
					len(want.Settings),
					len(plan.Applying(want)),
					len(want.NotApplying),
				)
			}
			conflicts := 0
			for i, is := range page.Effective.Settings {
				if is.Setting != string(want.Settings[i].ID) || is.Status != string(want.Settings[i].Status) ||
					len(is.Candidates) != len(want.Settings[i].Candidates) {
					t.Errorf("%s on %s is %+v, from nothing %+v", is.Setting, d.ID, is, want.Settings[i])
				}
				if is.Status == string(outcome.Conflict) {
					conflicts++
				}
			}
			if page.Device.Statuses.Conflict != conflicts {
				t.Errorf("%s has %d conflicts on the board, %d on its page", d.ID, page.Device.Statuses.Conflict, conflicts)
			}
		}
	})
}

// jsonOf gives an object of the estate as it is written.
func jsonOf(t *testing.T, object any) string {
	t.Helper()
	text, err := files.EncodeJSON(object)
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

// touchedBy asks which laptops a conflict or a problem touches.
func touchedBy(t *testing.T, api *client.Client, query url.Values) (out wire.Touched) {
	t.Helper()
	if _, err := api.Call(t.Context(), http.MethodGet, "/conflicts/touched", query, nil, &out); err != nil {
		t.Fatal(err)
	}
	return out
}

// TestAnImpactIsWhatComesAboutAfterwards tries edits at random, publishes them, and compares what
// was foretold with what is.
func TestAnImpactIsWhatComesAboutAfterwards(t *testing.T) {
	t.Parallel()
	api, s, plan := worldly(t)
	r := rand.New(rand.NewPCG(5, 7))
	ctx := t.Context()
	for round := range 8 {
		p := s.Policies[r.IntN(len(s.Policies))]
		p.Priority = int64(1 + r.IntN(1000))
		if round%2 == 0 {
			p.Audience.Include = append(
				slices.Clone(p.Audience.Include),
				estate.Target{Kind: estate.ToUnit, ID: string(s.Units[r.IntN(len(s.Units))].ID)},
			)
		}
		body := jsonOf(t, p)
		foretold := tried(t, api, edit("policies", string(p.ID), body))
		change := posted[wire.Change](t, api, "/changes", wire.NewChange{Title: fmt.Sprint("Round ", round)})
		if _, err := api.Call(ctx, http.MethodPut, "/changes/"+change.ID+"/edits/policies/"+string(p.ID), nil, raw(body), nil); err != nil {
			t.Fatal(err)
		}
		drafted := get[wire.Impact](t, api, "/changes/"+change.ID+"/impact")
		if drafted.Devices != foretold.Devices || len(drafted.Transitions) != len(foretold.Transitions) ||
			len(drafted.ConflictsGained) != len(foretold.ConflictsGained) {
			t.Errorf(
				"round %d: tried, %d laptops in %d ways; in a change, %d in %d",
				round,
				foretold.Devices,
				len(foretold.Transitions),
				drafted.Devices,
				len(drafted.Transitions),
			)
		}
		posted[wire.Publication](t, api, "/changes/"+change.ID+"/publish", nil)
		next := s.With(estate.Edit{Kind: estate.KindPolicy, ID: string(p.ID), Object: p})
		fresh := resolve.Compile(next)
		d := resolve.Differ(plan.Estate(), plan.With(next).Estate())
		if len(d.Alterations) != len(foretold.Transitions) {
			t.Errorf("round %d: %d ways were foretold, %d came about", round, len(foretold.Transitions), len(d.Alterations))
		}
		for i, tr := range foretold.Transitions {
			if tr.Setting == "" || tr.DeviceCount == 0 {
				t.Errorf("round %d: the transition %d is %+v", round, i, tr)
			}
		}
		for _, dev := range []estate.DeviceID{next.Devices[r.IntN(len(next.Devices))].ID, next.Devices[r.IntN(len(next.Devices))].ID} {
			page := get[wire.DevicePage](t, api, "/devices/"+string(dev))
			want, _ := fresh.Effective(dev, "")
			for j, is := range page.Effective.Settings {
				if is.Status != string(want.Settings[j].Status) || strings.Join(is.From, " ") != strings.Join(want.Settings[j].From, " ") {
					t.Errorf(
						"round %d: %s on %s is %s from %v, from nothing %s from %v",
						round,
						is.Setting,
						dev,
						is.Status,
						is.From,
						want.Settings[j].Status,
						want.Settings[j].From,
					)
				}
			}
		}
		s, plan = next, fresh
	}
}
