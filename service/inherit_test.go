// This file asks over HTTP what units and groups inherit, before and after an edit of a change.

package service_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/wire"
)

const inherited = `{"units":[{"id":"r","title":"Larkfell"},{"id":"fleet","parent":"r","title":"Survey fleet"},{"id":"petrel","parent":"fleet"},{"id":"lab","parent":"r","detach":["configuration"]}],
 "people":[{"id":"ines"}],
 "devices":[{"id":"LT-1","os":"linux","os_version":"12","owner":"ines","unit":"petrel"},{"id":"LT-2","os":"linux","os_version":"12","unit":"fleet"},{"id":"LT-3","os":"linux","os_version":"13","unit":"lab"}],
 "groups":[{"id":"crew","of":"people","members":["ines"]},{"id":"none","of":"devices"}],
 "policies":[
  {"id":"house","title":"House rules","kind":"security","settings":{"signin.banner":"House","signin.hide_last_person":{"value":true,"lock":true}},"audience":{"include":["everyone"]}},
  {"id":"net","kind":"configuration","settings":{"network.proxy.mode":"off"},"audience":{"include":["everyone"]}},
  {"id":"sea","kind":"security","settings":{"signin.banner":"At sea","signin.hide_last_person":false},"audience":{"include":["unit:fleet"]}},
  {"id":"crew","kind":"security","settings":{"signin.banner":"Crew"},"audience":{"include":["group:crew"]}}]}`

func TestInheritanceOverTheAPI(t *testing.T) {
	t.Parallel()
	api := bare(t)
	publishEstate(t, api, inherited)
	of := func(path string) map[string]wire.InheritedSetting {
		out := map[string]wire.InheritedSetting{}
		for _, s := range get[wire.Inheritance](t, api, path).Settings {
			out[s.Setting] = s
		}
		return out
	}
	fleet := get[wire.Inheritance](t, api, "/units/fleet/inherits")
	if fleet.Title != "Survey fleet" || fleet.Devices != 2 || fmt.Sprint(fleet.Above) != "[r]" || len(fleet.Settings) != 3 {
		t.Errorf("the fleet: %+v", fleet)
	}
	banner := of("/units/fleet/inherits")["signin.banner"]
	if banner.Above != 0 || banner.Overridden != 2 || banner.Own != 2 || banner.Prevailing.Devices != 1 || banner.Prevailing.Others != 1 ||
		len(banner.Arrivals) != 3 {
		t.Errorf("its banner: %+v", banner)
	}
	if a := banner.Arrivals[0]; a.Policy != "house" || a.Whence != "above" || fmt.Sprint(a.Beaten) != "[{crew   1} {sea   1}]" {
		t.Errorf("what comes from above: %+v", a)
	}
	if hide := of("/units/fleet/inherits")["signin.hide_last_person"]; hide.Locked != 2 || hide.Above != 2 || hide.Overridden != 0 ||
		hide.Arrivals[1].Fates["locked-out"] != 2 {
		t.Errorf("what is locked above: %+v", hide)
	}
	if proxy := of("/units/lab/inherits")["network.proxy.mode"]; proxy.Detached != 1 || proxy.Prevailing.State.Status != "" {
		t.Errorf("what does not arrive: %+v", proxy)
	}
	if crew := of("/groups/crew/inherits")["signin.banner"]; crew.Overridden != 1 || crew.Arrivals[0].Whence != "above" ||
		crew.Arrivals[2].Whence != "here" {
		t.Errorf("the crew: %+v", crew)
	}
	if none := get[wire.Inheritance](t, api, "/groups/none/inherits"); none.Devices != 0 || len(none.Settings) != 0 {
		t.Errorf("a group of nobody: %+v", none)
	}

	m := get[wire.UnitMatrix](t, api, "/unit-matrix?deep=true&all=true")
	var shown []string
	for _, r := range m.Rows {
		for i, c := range r.Cells {
			if c.Apart {
				shown = append(shown, r.Setting+" in "+m.Units[i].Unit)
			}
		}
	}
	if len(m.Units) != 4 || strings.Join(shown, ", ") != "network.proxy.mode in lab, signin.banner in lab, signin.banner in petrel" {
		t.Errorf("what stands apart: %v", shown)
	}
	if area := get[wire.UnitMatrix](
		t,
		api,
		"/unit-matrix?unit=fleet&area=network&all=true",
	); len(area.Rows) != 1 || len(area.Units) != 2 ||
		area.Above[0].Unit != "r" {
		t.Errorf("one area of the fleet: %+v", area)
	}
	w := get[wire.Whereabouts](t, api, "/settings/signin.banner/places")
	if len(w.Units) != 4 || len(w.States) != 3 || len(w.Groups) != 1 || w.Units[0].Given[0].Policy != "house" ||
		w.Groups[0].Prevailing.Devices != 1 {
		t.Errorf("the banner everywhere: %+v", w)
	}

	// In a change, as it would be.
	ctx := context.Background()
	c, err := client.Post[wire.Change](ctx, api, "/changes", wire.NewChange{Title: "Quiet"})
	if err != nil {
		t.Fatal(err)
	}
	body := json.RawMessage(
		`{"id":"sea","kind":"security","settings":{"signin.hide_last_person":false},"audience":{"include":["unit:fleet"]}}`,
	)
	if _, err := api.Call(ctx, http.MethodPut, client.Path("changes", c.ID, "edits", "policies", "sea"), nil, []byte(body), nil); err != nil {
		t.Fatal(err)
	}
	if banner := of("/units/fleet/inherits?change=" + c.ID)["signin.banner"]; banner.Above != 1 || banner.Overridden != 1 {
		t.Errorf("in the change: %+v", banner)
	}

	for path, word := range map[string]string{
		"/units/nowhere/inherits": "nowhere", "/groups/nobody/inherits": "nobody", "/unit-matrix?unit=nowhere": "nowhere",
		"/settings/no.such/places": "no.such", "/units/fleet/inherits?change=C-none": "C-none",
		"/conflicts/ways?setting=no.such&policies=a&policies=b": "no.such",
	} {
		_, err := client.Get[json.RawMessage](ctx, api, path, nil)
		if p := refused(t, err); p.Status != 404 || !strings.Contains(p.Detail, word) {
			t.Errorf("%s: %+v", path, p)
		}
	}
	if touched := get[wire.Touched](t, api, "/conflicts/touched?setting=no.such&policies=a"); len(touched.Devices) != 0 {
		t.Errorf("the laptops of no conflict: %+v", touched)
	}
}
