package search_test

import (
	"strings"
	"testing"

	"zenithridge.example/zridge/core/search"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/dictionary"
)

// TestPlainWordsFindTheirSetting asks as people do.
func TestPlainWordsFindTheirSetting(t *testing.T) {
	all := dictionary.Shipped().Settings
	index := search.New(all)
	for words, want := range map[string]setting.ID{
		"copy to usb": "media.usb_storage", "who can log in": "signin.allowed", "lost laptop message": "screen.lost_message",
		"personal account in browser": "browser.account_domains",
		"trust our own certificate":   "trust.machine_roots", "nobody may copy to USB sticks except the field crew": "media.usb_storage",
		"recovry kept": "disk.recovery.escrow", "bluetoth": "media.bluetooth", "wallpapr": "screen.wallpaper",
		"wifi netwroks": "network.wireless", "remote suport tool": "applications.permissions",
		"encrypt": "disk.encryption.required", "firewall rules": "network.firewall.rules", "application control": "applications.control",
		"update deadline": "updates.deadline_days", "print": "media.printing",
		"startup pin": "disk.startup.pin", "webcam off": "media.camera", "proxy": "network.proxy.mode", "free form node": "system.nodes",
		"guest":           "accounts.guest",
		"screen goes off": "screen.lock_after_minutes", "webcam": "media.camera", "recovery key": "disk.recovery.key_per_device",
		"USB stick": "media.usb_storage", "disk.startup.pin": "disk.startup.pin",
	} {
		found := index.Search(words)
		if len(found) == 0 || found[0].ID != want {
			var ids []setting.ID
			for _, d := range found {
				ids = append(ids, d.ID)
			}
			t.Errorf("%q finds %v, expected %s first", words, ids, want)
		}
	}
	if found := index.Search("quantum flux"); len(found) != 0 {
		t.Errorf("nonsense finds %d settings", len(found))
	}
	if found := index.Search(""); len(found) != len(all) {
		t.Errorf("no words find %d of %d settings", len(found), len(all))
	}
}

// TestNearlyTheSame finds what is retyped with a slip, and leaves alone what is meant.
func TestNearlyTheSame(t *testing.T) {
	for _, c := range []struct {
		a, b string
		near bool
	}{
		{"example.helpline", "example.helplin", true}, {"{example.helpline}", "example.helpline", true},
		{"Example.Helpline", "example.helpline", true}, {"example.hleplien", "example.helpline", true},
		{"example.helpline", "example.helpline", false}, {"example.helpline", "example.helpline.crew", false}, {"abc", "abd", false},
		{"list", "lst", true}, {"show", "shwo", false}, {"new", "ne", true}, {"on", "o", false},
		{"example.viewer", "example.helpline", false},
	} {
		if got := search.Near(c.a, c.b); got != c.near {
			t.Errorf("%s and %s: %v", c.a, c.b, got)
		}
	}
}

// TestSearchLaws asks of the dictionary with made-up words added what holds whatever is asked.
func TestSearchLaws(t *testing.T) {
	index, definitions := largeIndex(600)
	if got := index.Search(""); len(got) != 600 {
		t.Errorf("no words find %d", len(got))
	}
	for i := range definitions {
		d := &definitions[i]
		if found := index.Search(string(d.ID)); len(found) == 0 || found[0].ID != d.ID {
			t.Errorf("the id %s is not the first that is found", d.ID)
		}
	}
	usb := index.Search("usb")
	for _, q := range []string{"USB", " usb  ", "usb?", "the usb"} {
		if found := index.Search(q); len(found) != len(usb) || len(found) == 0 || found[0].ID != usb[0].ID {
			t.Errorf("%q finds %d, usb finds %d", q, len(found), len(usb))
		}
	}
	for _, q := range []string{"zzzzqqqq", strings.Repeat("x", 5000), "\x00\xff", "日本語", "'; DROP TABLE", "......"} {
		index.Search(q) // finds what it finds, and does not fall over
	}
	one, two := index.Search("recovery key"), index.Search("recovery key")
	for i := range one {
		if one[i] != two[i] {
			t.Fatal("the same words find in another order")
		}
	}
}
