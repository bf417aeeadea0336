// This file tests what laptops say of themselves, and what the company withholds.

package service_test

import (
	"net/http"
	"path/filepath"
	"testing"

	"zenithridge.example/zridge/agent/adapter"
	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service"
)

// TestFactsOfALaptop: what a laptop says of itself decides what it gets, in the same session, and outlives what an edit
// says. Only what some rule looks at is asked.
func TestFactsOfALaptop(t *testing.T) {
	t.Parallel()
	e := enrollingWith(t, 0)
	change := posted[wire.Change](t, e.Client, "/changes", wire.NewChange{Title: "For laptops with a battery"})
	for _, edit := range [][2]string{
		{"groups/batteries", `{"id":"batteries","of":"devices","rule":"device.battery == true && device.os_version.atLeast(\"12.5\")"}`},
		{"policies/careful", `{"id":"careful","kind":"security","settings":{"signin.banner":"Mind the battery"},"audience":{"include":["group:batteries"]}}`},
	} {
		if _, err := e.Call(t.Context(), http.MethodPut, "/changes/"+change.ID+"/edits/"+edit[0], nil, []byte(edit[1]), nil); err != nil {
			t.Fatal(err)
		}
	}
	posted[wire.Published](t, e.Client, client.Path("changes", change.ID, "publish"), wire.PublishRequest{})
	root := laptopFiles(t, "NEW-9")
	for path, text := range map[string]string{
		"/sys/class/tpm/tpm0/tpm_version_major": "2\n", "/sys/class/dmi/id/bios_vendor": "Nobody asks\n",
	} {
		if err := adapter.WriteFile(filepath.Join(root, path), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	a := agentOn(t, root)
	device, err := a.Enrol(t.Context(), e.identity(t, e.invites(t, wire.NewInvitation{Unit: "labs", Makes: true})[0]))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := a.CheckIn(t.Context(), false); err != nil {
		t.Fatal(err)
	}
	page := get[wire.DevicePage](t, e.Client, "/devices/"+device)
	if page.Device.OSVersion != "12.7" || page.Device.Model != "Halyard 16" || !page.Facts["battery"].Bool() ||
		page.Facts["security_chip"].Text() != "2.0" {
		t.Errorf("the laptop is %+v, facts %v", page.Device, page.Facts)
	}
	if _, asked := page.Facts["firmware_vendor"]; asked {
		t.Error("a fact was asked that no rule looks at")
	}
	if v := filesOf(t, root)["/etc/issue"]; v != "Mind the battery\n" {
		t.Errorf("its banner is %q", v)
	}
	change = posted[wire.Change](t, e.Client, "/changes", wire.NewChange{Title: "A tag"})
	body := `{"id":"` + device + `","serial":"NEW-9","os":"linux","os_version":"1","unit":"labs","tags":["field"],"facts":{"battery":false,"desk":"4"}}`
	if _, err := e.Call(t.Context(), http.MethodPut, client.Path("changes", change.ID, "edits", "devices", device), nil,
		[]byte(body), nil); err != nil {
		t.Fatal(err)
	}
	posted[wire.Published](t, e.Client, client.Path("changes", change.ID, "publish"), wire.PublishRequest{})
	page = get[wire.DevicePage](t, e.Client, "/devices/"+device)
	if page.Device.OSVersion != "12.7" || !page.Facts["battery"].Bool() || page.Facts["desk"].Text() != "4" || page.Device.Tags[0] != "field" {
		t.Errorf("after an edit the laptop is %+v, facts %v", page.Device, page.Facts)
	}
}

// TestWithheldFacts: what the company does not want to know is not asked, though a rule looks at it.
func TestWithheldFacts(t *testing.T) {
	t.Parallel()
	for _, x := range []struct {
		withheld []string
		knows    map[string]bool
	}{{[]string{"battery"}, map[string]bool{"camera": true}}, {[]string{"*"}, map[string]bool{}},
		{nil, map[string]bool{"battery": true, "camera": true}}} {
		e := enrollingAt(t, service.Config{Withheld: x.withheld})
		a := agentOn(t, laptopFiles(t, "S0"))
		if _, err := a.Enrol(t.Context(), e.identity(t, e.invites(t, wire.NewInvitation{Device: "L0"})[0])); err != nil {
			t.Fatal(err)
		}
		if _, err := a.CheckIn(t.Context(), false); err != nil {
			t.Fatal(err)
		}
		facts := get[wire.DevicePage](t, e.Client, "/devices/L0").Facts
		report, err := a.Report()
		if err != nil {
			t.Fatal(err)
		}
		for _, name := range []string{"battery", "camera"} {
			_, told := facts[name]
			_, shown := report.Facts[name]
			if told != x.knows[name] || shown != told {
				t.Errorf("without %v: %s is known: %t, and shown on the laptop: %t", x.withheld, name, told, shown)
			}
		}
	}
}
