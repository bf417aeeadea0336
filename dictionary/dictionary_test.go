package dictionary_test

import (
	"slices"
	"strings"
	"testing"

	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/dictionary"
)

func TestTheDictionaryIsComplete(t *testing.T) {
	d := dictionary.Shipped()
	if len(d.Settings) < 40 || len(d.Checks) < 10 {
		t.Errorf("%d definitions and %d checks, expected at least 40 and 10", len(d.Settings), len(d.Checks))
	}
	areas := map[string]bool{}
	titles := map[string]setting.ID{}
	for _, def := range d.Settings {
		areas[def.Area] = true
		if def.Title == "" || len(strings.Fields(def.Help)) < 8 || def.Area == "" || len(def.Keywords) == 0 {
			t.Errorf("%s lacks a title, help of a sentence, an area or keywords", def.ID)
		}
		if other := titles[def.Title]; other != "" {
			t.Errorf("%s and %s have the same title", def.ID, other)
		}
		titles[def.Title] = def.ID
		if def.ID != setting.ID(strings.ToLower(string(def.ID))) || strings.Count(string(def.ID), ".") < 1 {
			t.Errorf("%s is not of the form area.thing.property", def.ID)
		}
		if !def.Shipped {
			t.Errorf("%s is not marked as shipped", def.ID)
		}
	}
	for _, area := range []string{"disk", "disk startup", "disk recovery", "sign-in", "screen", "browser", "devices and media", "network"} {
		if !areas[area] {
			t.Errorf("nothing in the area %s", area)
		}
	}
	for _, c := range d.Checks {
		for _, id := range c.Settings {
			if !slices.ContainsFunc(d.Settings, func(def setting.Definition) bool { return def.ID == id }) {
				t.Errorf("the check %s names the unknown setting %s", c.ID, id)
			}
			if !strings.Contains(c.When.Source(), string(id)) {
				t.Errorf("the check %s names %s but does not look at it", c.ID, id)
			}
		}
	}
}

// TestChecksFindWhatTheySay evaluates every shipped check on a set that is wrong and on one that is right.
func TestChecksFindWhatTheySay(t *testing.T) {
	type set = map[string]any
	cases := map[string]struct{ wrong, right set }{
		"startup.pin-without-chip":            {set{"disk.startup.pin": "require", "disk.startup.chip": "forbid"}, set{"disk.startup.pin": "require", "disk.startup.chip": "allow"}},
		"startup.two-required":                {set{"disk.startup.pin": "require", "disk.startup.key": "require"}, set{"disk.startup.pin": "require"}},
		"startup.required-while-off":          {set{"disk.startup.extra": false, "disk.startup.key": "require"}, set{"disk.startup.extra": true, "disk.startup.key": "require"}},
		"startup.pin-length-without-pin":      {set{"disk.startup.pin_length": int64(8), "disk.startup.pin": "forbid"}, set{"disk.startup.pin_length": int64(8)}},
		"recovery.escrow-first-while-off":     {set{"disk.recovery.escrow_first": true}, set{"disk.recovery.escrow_first": true, "disk.recovery.escrow": "service"}},
		"recovery.hidden-without-escrow":      {set{"disk.recovery.hide_choices": true, "disk.recovery.escrow": "off"}, set{"disk.recovery.hide_choices": true, "disk.recovery.escrow": "address"}},
		"recovery.address-missing":            {set{"disk.recovery.escrow": "address"}, set{"disk.recovery.escrow": "address", "disk.recovery.escrow_address": "https://keys.example"}},
		"encryption.standard-users-are-asked": {set{"disk.encryption.standard_users": true}, set{"disk.encryption.standard_users": true, "disk.encryption.silent": true}},
		"signin.nobody-left":                  {set{"signin.allowed": []string{"a"}, "signin.denied": []string{"a", "b"}}, set{"signin.allowed": []string{"a", "c"}, "signin.denied": []string{"a"}}},
		"network.proxy-without-address":       {set{"network.proxy.mode": "manual"}, set{"network.proxy.mode": "script"}},
		"network.vpn-without-profile":         {set{"network.vpn.always_on": true}, set{"network.vpn.always_on": true, "network.vpn.profile": "home"}},
		"screen.never-locks-automatic":        {set{"signin.automatic": true, "screen.lock": false}, set{"signin.automatic": true, "screen.lock": true}},
	}
	for _, c := range dictionary.Shipped().Checks {
		pair, there := cases[string(c.ID)]
		if !there {
			t.Errorf("the check %s is not tried here", c.ID)
			continue
		}
		for settings, want := range map[*set]bool{&pair.wrong: true, &pair.right: false, {}: false} {
			got, err := c.When.Holds(map[string]any{"settings": *settings, "device": set{}, "person": set{}})
			if (got && err == nil) != want {
				t.Errorf("%s on %v: %v %v, expected %v", c.ID, *settings, got, err, want)
			}
		}
	}
}
