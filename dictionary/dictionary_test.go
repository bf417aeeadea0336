package dictionary_test

import (
	"os"
	"slices"
	"strings"
	"testing"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/dictionary"
	"zenithridge.example/zridge/dictionary/pages"
)

func TestTheDictionaryIsComplete(t *testing.T) {
	d := dictionary.Shipped()
	if len(d.Settings) < 200 || len(d.Checks) < 40 {
		t.Errorf("%d definitions and %d checks, expected at least 200 and 40", len(d.Settings), len(d.Checks))
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
	for _, area := range dictionary.Areas {
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

// TestChecksFindWhatTheySay evaluates every shipped check on a set that is wrong and on one that is
// right.
func TestChecksFindWhatTheySay(t *testing.T) {
	type set = map[string]any
	cases := map[string]struct{ wrong, right set }{
		"startup.pin-without-chip": {
			set{"disk.startup.pin": "require", "disk.startup.chip": "forbid"},
			set{"disk.startup.pin": "require", "disk.startup.chip": "allow"},
		},
		"startup.two-required": {
			set{"disk.startup.pin": "require", "disk.startup.key": "require"},
			set{"disk.startup.pin": "require"},
		},
		"startup.required-while-off": {
			set{"disk.startup.extra": false, "disk.startup.key": "require"},
			set{"disk.startup.extra": true, "disk.startup.key": "require"},
		},
		"startup.pin-length-without-pin": {
			set{"disk.startup.pin_length": int64(8), "disk.startup.pin": "forbid"},
			set{"disk.startup.pin_length": int64(8)},
		},
		"recovery.escrow-first-while-off": {
			set{"disk.recovery.escrow_first": true},
			set{"disk.recovery.escrow_first": true, "disk.recovery.escrow": "service"},
		},
		"recovery.hidden-without-escrow": {
			set{"disk.recovery.hide_choices": true, "disk.recovery.escrow": "off"},
			set{"disk.recovery.hide_choices": true, "disk.recovery.escrow": "address"},
		},
		"recovery.address-missing": {
			set{"disk.recovery.escrow": "address"},
			set{"disk.recovery.escrow": "address", "disk.recovery.escrow_address": "https://keys.example"},
		},
		"encryption.standard-users-are-asked": {
			set{"disk.encryption.standard_users": true},
			set{"disk.encryption.standard_users": true, "disk.encryption.silent": true},
		},
		"signin.nobody-left": {
			set{"signin.allowed": []string{"a"}, "signin.denied": []string{"a", "b"}},
			set{"signin.allowed": []string{"a", "c"}, "signin.denied": []string{"a"}},
		},
		"network.proxy-without-address": {set{"network.proxy.mode": "manual"}, set{"network.proxy.mode": "script"}},
		"network.vpn-without-profile": {
			set{"network.vpn.always_on": true},
			set{"network.vpn.always_on": true, "network.vpn.profile": "home"},
		},
		"recovery.company-key-without-certificate": {
			set{"disk.recovery.company_key": true},
			set{"disk.recovery.company_key": true, "disk.recovery.company_certificate": set{"sha256": "x"}},
		},
		"recovery.no-key-at-all": {
			set{"disk.encryption.required": true, "disk.recovery.key_per_device": false},
			set{"disk.encryption.required": true, "disk.recovery.key_per_device": false, "disk.recovery.company_key": true},
		},
		"encryption.without-escrow": {
			set{"disk.encryption.required": true, "disk.recovery.escrow": "off"},
			set{"disk.encryption.required": true, "disk.recovery.escrow": "service"},
		},
		"encryption.silent-with-pin": {
			set{"disk.encryption.silent": true, "disk.startup.key": "require"},
			set{"disk.encryption.silent": true, "disk.startup.chip": "require"},
		},
		"startup.nothing-left": {
			set{
				"disk.startup.chip":         "forbid",
				"disk.startup.pin":          "forbid",
				"disk.startup.key":          "forbid",
				"disk.startup.key_with_pin": "forbid",
			},
			set{"disk.startup.chip": "forbid", "disk.startup.pin": "forbid"},
		},
		"startup.key-with-pin-parts": {
			set{"disk.startup.key_with_pin": "require", "disk.startup.key": "require"},
			set{"disk.startup.key_with_pin": "require", "disk.startup.key": "allow"},
		},
		"firmware.order-without-disk": {
			set{"firmware.boot_order": []string{"usb"}},
			set{"firmware.boot_order": []string{"usb", "disk"}},
		},
		"firmware.order-against-usb": {
			set{"firmware.boot_order": []string{"disk", "usb"}, "firmware.boot_usb": false},
			set{"firmware.boot_order": []string{"disk"}, "firmware.boot_usb": false},
		},
		"hardware.certificate-missing": {set{"hardware.activation": "certificate"}, set{"hardware.activation": "host-only"}},
		"hardware.sync-with-enterprise": {
			set{"hardware.wireless_sync": true, "hardware.wireless_authentication": "enterprise"},
			set{"hardware.wireless_sync": true, "hardware.wireless_authentication": "personal"},
		},
		"signin.card-required-and-automatic": {
			set{"signin.automatic": true, "signin.smart_card": "require"},
			set{"signin.automatic": false, "signin.smart_card": "require"},
		},
		"signin.web-without-domains": {
			set{"signin.web": "allowed"},
			set{"signin.web": "allowed", "signin.web_domains": []string{"larkfell.example"}},
		},
		"signin.pass-without-web": {
			set{"signin.one_time_pass": true, "signin.web": "off"},
			set{"signin.one_time_pass": true, "signin.web": "allowed", "signin.web_domains": []string{"larkfell.example"}},
		},
		"signin.web-camera-off": {set{"signin.web_camera": true, "media.camera": false}, set{"signin.web_camera": true}},
		"accounts.blank-and-length": {
			set{"accounts.blank_passwords": true, "accounts.password_length": int64(8)},
			set{"accounts.blank_passwords": true, "accounts.password_length": int64(0)},
		},
		"screen.saver-after-lock": {
			set{"screen.saver": true, "screen.saver_after_minutes": int64(15), "screen.lock_after_minutes": int64(10)},
			set{"screen.saver": true, "screen.saver_after_minutes": int64(5), "screen.lock_after_minutes": int64(10)},
		},
		"browser.families-disagree": {
			set{"browser.account_domains": []string{"a.example"}, "browser.built_in.account_domains": []string{"b.example"}},
			set{"browser.account_domains": []string{"a.example"}, "browser.built_in.account_domains": []string{"a.example"}},
		},
		"browser.families-differ": {
			set{
				"browser.added.account_domains":    []string{"a.example"},
				"browser.built_in.account_domains": []string{"a.example", "b.example"},
			},
			set{"browser.added.account_domains": []string{"a.example"}, "browser.built_in.account_domains": []string{"a.example"}},
		},
		"browser.required-without-domains": {
			set{"browser.account_sign_in": "require"},
			set{"browser.account_sign_in": "require", "browser.added.account_domains": []string{"a.example"}},
		},
		"browser.forbidden-with-domains": {
			set{"browser.account_sign_in": "forbid", "browser.account_domains": []string{"a.example"}},
			set{"browser.account_sign_in": "forbid"},
		},
		"browser.extension-both": {
			set{"browser.extensions_installed": []string{"a"}, "browser.extensions_blocked": []string{"a"}},
			set{"browser.extensions_installed": []string{"a"}, "browser.extensions_blocked": []string{"b"}},
		},
		"browser.isolation-off": {
			set{"browser.isolation": false, "browser.isolation_clipboard": "out"},
			set{"browser.isolation": true, "browser.isolation_clipboard": "out"},
		},
		"applications.enforced-without-rules": {
			set{"applications.control": "enforce"},
			set{"applications.control": "enforce", "applications.control_rules": set{"sha256": "x"}},
		},
		"applications.audited-without-rules": {
			set{"applications.control": "audit"},
			set{"applications.control": "audit", "applications.control_rules": set{"sha256": "x"}},
		},
		"applications.rules-while-off": {
			set{"applications.control": "off", "applications.control_rules": set{"sha256": "x"}},
			set{"applications.control": "off"},
		},
		"applications.nothing-checks-downloads": {
			set{"applications.reputation": "off", "applications.sources": "anywhere"},
			set{
				"applications.reputation":    "off",
				"applications.sources":       "anywhere",
				"applications.control":       "enforce",
				"applications.control_rules": set{"sha256": "x"},
			},
		},
		"startup.pin-length-not-asked": {
			set{"disk.startup.pin_length": int64(8)},
			set{"disk.startup.pin_length": int64(8), "disk.startup.pin": "require"},
		},
		"signin.automatic-not-allowed": {
			set{"signin.automatic": true, "signin.automatic_account": "bridge", "signin.allowed": []string{"deck-crew"}},
			set{"signin.automatic": true, "signin.automatic_account": "bridge", "signin.allowed": []string{"deck-crew", "bridge"}},
		},
		"signin.automatic-without-account": {
			set{"signin.automatic": true},
			set{"signin.automatic": true, "signin.automatic_account": "bridge"},
		},
		"applications.ages-reversed": {
			set{"applications.age_rating_lowest": int64(12), "applications.age_rating_highest": int64(6)},
			set{"applications.age_rating_lowest": int64(6), "applications.age_rating_highest": int64(6)},
		},
		"applications.permission-camera-off": {
			set{"media.camera": false, "applications.permissions": []any{set{"permission": "camera", "decision": "allow"}}},
			set{"media.camera": false, "applications.permissions": []any{set{"permission": "camera", "decision": "refuse"}}},
		},
		"network.firewall-off-in-public": {set{"network.firewall.public": false}, set{"network.firewall.public": true}},
		"network.firewall-lets-nothing-out": {
			set{"network.firewall.outbound": "block", "network.firewall.rules": []any{set{"direction": "in", "action": "allow"}}},
			set{"network.firewall.outbound": "block", "network.firewall.rules": []any{set{"direction": "out", "action": "allow"}}},
		},
		"network.script-without-address": {
			set{"network.proxy.mode": "script"},
			set{"network.proxy.mode": "script", "network.proxy.script": "https://proxy.example/a"},
		},
		"network.no-wireless-listed": {
			set{"network.wireless_only_listed": true, "network.wireless": []string{}},
			set{"network.wireless_only_listed": true, "network.wireless": []any{set{"name": "x"}}},
		},
		"updates.deadline-before-deferral": {
			set{"updates.deadline_days": int64(3), "updates.defer_fixes_days": int64(7)},
			set{"updates.deadline_days": int64(9), "updates.defer_fixes_days": int64(7)},
		},
		"updates.half-a-window": {
			set{"updates.restart_from": "22:00"},
			set{"updates.restart_from": "22:00", "updates.restart_until": "05:00"},
		},
		"backup.no-destination": {
			set{"backup.automatic": true},
			set{"backup.automatic": true, "backup.destination": "https://backup.example"},
		},
		"system.nodes-twice": {
			set{"system.nodes": []any{set{"path": "./Device/ZenithRidge/Setting/media.camera"}}},
			set{"system.nodes": []any{set{"path": "./Device/Plotter/KeepAwake"}}},
		},
		"startup.asks-without-keyboard": {
			set{"disk.startup.pin": "require", "device.keyboard_before_start": false},
			set{"disk.startup.pin": "require", "device.keyboard_before_start": true},
		},
		"startup.pin-without-escrow": {
			set{"disk.startup.pin": "require", "disk.recovery.escrow": "off"},
			set{"disk.startup.pin": "require", "disk.recovery.escrow": "service"},
		},
		"recovery.no-recipients": {
			set{"disk.recovery.escrow": "service"},
			set{"disk.recovery.escrow": "service", "disk.recovery.escrow_recipients": []string{"age1fyjh7llxwn0asx554x39njj0jlnnrmwshhu3tqxdt3k752h0c3kqmu7jh6"}},
		},
		"screen.never-locks-automatic": {
			set{"signin.automatic": true, "screen.lock": false},
			set{"signin.automatic": true, "screen.lock": true},
		},
	}
	for _, c := range dictionary.Shipped().Checks {
		pair, there := cases[string(c.ID)]
		if !there {
			t.Errorf("the check %s is not tried here", c.ID)
			continue
		}
		for settings, want := range map[*set]bool{&pair.wrong: true, &pair.right: false, {}: false} {
			device := set{} // facts of the laptop are among the values, with "device." before their names
			for name, v := range *settings {
				if fact, is := strings.CutPrefix(name, "device."); is {
					device[fact] = v
				}
			}
			got, err := c.When.Holds(map[string]any{"settings": *settings, "device": device, "person": set{}})
			if (got && err == nil) != want {
				t.Errorf("%s on %v: %v %v, expected %v", c.ID, *settings, got, err, want)
			}
		}
	}
}

// TestKitsAreInOrder lays each kit over an estate by itself: its values fit, have reasons, and no
// check finds them wrong together.
func TestKitsAreInOrder(t *testing.T) {
	kits := dictionary.Kits()
	if len(kits) < 13 {
		t.Errorf("%d kits, expected 13", len(kits))
	}
	for _, k := range kits {
		if k.Title == "" || k.Why == "" || k.When == "" || len(k.Entries) == 0 {
			t.Errorf("%s lacks a title, a reason, for whom it is, or settings", k.ID)
		}
		values := map[string]any{}
		for _, e := range k.Entries {
			values[string(e.Setting)] = e.Value.Any()
		}
		for _, c := range dictionary.Shipped().Checks {
			if found, err := c.When.Holds(
				map[string]any{"settings": values, "device": map[string]any{}, "person": map[string]any{}},
			); err == nil && found &&
				!(k.ID == "application-control-audit" && c.ID == "applications.audited-without-rules") &&
				c.ID != "recovery.no-recipients" { // which each company has of its own
				t.Errorf("the kit %s is wrong by itself: %s", k.ID, c.Message)
			}
		}
	}
}

// TestThePagesAreUpToDate compares docs/dictionary with what its generator gives.
func TestThePagesAreUpToDate(t *testing.T) {
	for name, want := range pages.All(dictionary.Shipped(), dictionary.Areas) {
		if have, err := os.ReadFile("../docs/dictionary/" + name); err != nil || string(have) != want {
			t.Errorf("docs/dictionary/%s is out of date (%v): run make generate", name, err)
		}
	}
}

// TestPlainWords reads titles and helps as people do: short titles, whole sentences, none too long,
// nothing left unfinished.
func TestPlainWords(t *testing.T) {
	for _, d := range dictionary.Shipped().Settings {
		if n := len(strings.Fields(d.Title)); n > 14 || strings.HasSuffix(d.Title, ".") || d.Title[:1] != strings.ToUpper(d.Title[:1]) {
			t.Errorf("%s: the title %q is long, ends like a sentence or begins small", d.ID, d.Title)
		}
		if !strings.HasSuffix(d.Help, ".") && !strings.HasSuffix(d.Help, "?") {
			t.Errorf("%s: the help does not end: %q", d.ID, d.Help)
		}
		for sentence := range strings.SplitSeq(d.Help, ". ") {
			if n := len(strings.Fields(sentence)); n > 40 {
				t.Errorf("%s: a sentence of %d words: %q", d.ID, n, sentence)
			}
		}
		for _, word := range []string{"TODO", "lorem", "  ", "utilize", "leverage"} {
			if strings.Contains(d.Help+d.Title, word) {
				t.Errorf("%s says %q", d.ID, word)
			}
		}
		if d.Area != "" && !slices.Contains(dictionary.Areas, d.Area) {
			t.Errorf("%s is of the area %s, which is not listed", d.ID, d.Area)
		}
		for _, c := range d.Columns {
			if c.Title == "" {
				t.Errorf("%s: the column %s has no title", d.ID, c.Name)
			}
		}
	}
	for _, c := range dictionary.Shipped().Checks {
		if len(strings.Fields(c.Message)) < 6 || strings.HasSuffix(c.Message, ".") {
			t.Errorf("%s says too little, or ends like a sentence in a list: %q", c.ID, c.Message)
		}
	}
}

// TestFormsOfOneMistake tries checks on other forms of what they find.
func TestFormsOfOneMistake(t *testing.T) {
	type set = map[string]any
	checks := map[estate.CheckID]estate.Check{}
	for _, c := range dictionary.Shipped().Checks {
		checks[c.ID] = c
	}
	for _, c := range []struct {
		check    estate.CheckID
		settings set
		want     bool
	}{
		{"startup.pin-length-not-asked", set{"disk.startup.pin_length": int64(8), "disk.startup.pin": "allow"}, true},
		{"startup.pin-length-not-asked", set{"disk.startup.pin_length": int64(8), "disk.startup.pin": "allow",
			"disk.startup.key_with_pin": "forbid"}, true},
		{"startup.pin-length-not-asked", set{"disk.startup.pin_length": int64(8), "disk.startup.key_with_pin": "require"}, false},
		{"startup.pin-length-not-asked", set{"disk.startup.pin_length": int64(8), "disk.startup.pin": "forbid"}, false}, // another check
		{"startup.pin-length-without-pin", set{"disk.startup.pin_length": int64(8), "disk.startup.pin": "forbid"}, true},
		{"signin.automatic-not-allowed", set{"signin.automatic": true, "signin.automatic_account": "a", "signin.denied": []string{"a"}}, true},
		{"signin.automatic-not-allowed", set{"signin.automatic": true, "signin.automatic_account": "a", "signin.allowed": []string{}}, true},
		{"signin.automatic-not-allowed", set{"signin.automatic": false, "signin.automatic_account": "a", "signin.denied": []string{"a"}}, false},
		{"signin.automatic-not-allowed", set{"signin.automatic": true, "signin.automatic_account": "a"}, false},
		{"applications.nothing-checks-downloads", set{"applications.reputation": "off", "applications.sources": "anywhere",
			"applications.control": "audit"}, true},
		{"applications.nothing-checks-downloads", set{"applications.reputation": "off", "applications.sources": "company-store"}, false},
	} {
		check, there := checks[c.check]
		if !there {
			t.Fatalf("there is no check %s", c.check)
		}
		got, err := check.When.Holds(map[string]any{"settings": c.settings, "device": set{}, "person": set{}})
		if (got && err == nil) != c.want {
			t.Errorf("%s on %v: %v %v, expected %v", c.check, c.settings, got, err, c.want)
		}
	}
}
