package adapter_test

import (
	"encoding/json"
	"errors"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"zenithridge.example/zridge/agent/adapter"
	"zenithridge.example/zridge/agent/volume"
	"zenithridge.example/zridge/core/setting"
)

// TestDesktopReads applies settings of the desktop, and asks the desktop's own programs what is in force and
// whether a person can override it.
func TestDesktopReads(t *testing.T) {
	t.Parallel()
	h := hostOf(t)
	for _, x := range []struct {
		id setting.ID
		v  setting.Value
	}{
		{"network.proxy.mode", setting.TextValue("manual")},
		{"network.proxy.address", setting.TextValue("proxy.larkfell.example:3128")},
		{"network.proxy.exceptions", setting.ListValue([]string{"*.larkfell.example", "10.0.0.0/8"})},
		{"network.proxy.script", setting.TextValue("https://larkfell.example/proxy.pac")},
		{"screen.lock_after_minutes", setting.IntegerValue(5)},
		{"screen.saver", setting.BoolValue(false)},
		{"system.diagnostic_data", setting.TextValue("all")},
		{"screen.notifications_locked", setting.BoolValue(false)},
		{"signin.switch_person", setting.BoolValue(false)},
		{"media.printing", setting.BoolValue(false)},
	} {
		if err := owner(h, x.id).Apply(x.id, x.v); err != nil {
			t.Fatal(err)
		}
	}
	database := filepath.Join(t.TempDir(), "local")
	compile := exec.Command("dconf", "compile", database, h.At("/etc/dconf/db/local.d"))
	if out, err := compile.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	// The profile names a database of the machine; the test has it elsewhere.
	people, err := os.ReadFile(h.At("/etc/dconf/profile/user"))
	if err != nil {
		t.Fatal(err)
	}
	profile := filepath.Join(t.TempDir(), "profile")
	if err := os.WriteFile(profile, []byte(strings.Replace(string(people), "system-db:local", "file-db:"+database, 1)), 0o644); err != nil {
		t.Fatal(err)
	}
	home := t.TempDir()
	ask := func(verb, schema, key string) string {
		t.Helper()
		c := exec.Command("gsettings", verb, schema, key)
		c.Env = append(os.Environ(), "DCONF_PROFILE="+profile, "GSETTINGS_BACKEND=dconf", "XDG_CONFIG_HOME="+home, "XDG_RUNTIME_DIR="+home)
		out, err := c.Output()
		if err != nil {
			t.Fatalf("%s %s: %v", schema, key, err)
		}
		return strings.TrimSpace(string(out))
	}
	for _, x := range []struct{ schema, key, want string }{
		{"org.gnome.system.proxy", "mode", "'manual'"},
		{"org.gnome.system.proxy", "autoconfig-url", "'https://larkfell.example/proxy.pac'"},
		{"org.gnome.system.proxy", "ignore-hosts", "['*.larkfell.example', '10.0.0.0/8']"},
		{"org.gnome.system.proxy.http", "host", "'proxy.larkfell.example'"},
		{"org.gnome.system.proxy.https", "port", "3128"},
		{"org.gnome.desktop.session", "idle-delay", "uint32 300"},
		{"org.gnome.desktop.screensaver", "idle-activation-enabled", "false"},
		{"org.gnome.desktop.privacy", "report-technical-problems", "true"},
		{"org.gnome.desktop.notifications", "show-in-lock-screen", "false"},
		{"org.gnome.desktop.lockdown", "disable-user-switching", "true"},
		{"org.gnome.desktop.lockdown", "disable-printing", "true"},
	} {
		if is := ask("get", x.schema, x.key); is != x.want {
			t.Errorf("%s %s is %s; expected %s", x.schema, x.key, is, x.want)
		}
		if ask("writable", x.schema, x.key) != "false" {
			t.Errorf("a person can override %s %s", x.schema, x.key)
		}
	}
	if ask("writable", "org.gnome.desktop.screensaver", "lock-enabled") != "true" {
		t.Error("what is not managed is locked, too")
	}
}

// TestProfiles: the databases that are read already stay, and count less than the one with what is managed.
func TestProfiles(t *testing.T) {
	t.Parallel()
	for _, x := range []struct {
		id                     setting.ID
		people, at, was, wants string
	}{
		{"screen.saver", "user", "", "", "user-db:user\nsystem-db:local\n"},
		{"screen.saver", "user", "/etc/dconf/profile/user", "user-db:user\nsystem-db:site\n", "user-db:user\nsystem-db:local\n" +
			"system-db:site\n"},
		{"screen.saver", "user", "/etc/dconf/profile/user", "user-db:user", "user-db:user\nsystem-db:local\n"},
		{"screen.saver", "user", "/etc/dconf/profile/user", "user-db:user\nsystem-db:local", "user-db:user\nsystem-db:local"},
		{"signin.shut_down", "gdm", "/usr/share/dconf/profile/gdm", "user-db:user\nfile-db:/var/lib/gdm3/defaults\n",
			"user-db:user\nsystem-db:gdm\nfile-db:/var/lib/gdm3/defaults\n"},
	} {
		h := hostOf(t)
		if x.at != "" {
			if err := adapter.WriteFile(h.At(x.at), []byte(x.was), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		before := tree(t, h.Root)
		own := owner(h, x.id)
		for range 2 {
			if err := own.Apply(x.id, setting.BoolValue(false)); err != nil {
				t.Fatal(err)
			}
		}
		path := h.At("/etc/dconf/profile/" + x.people)
		if is, err := os.ReadFile(path); err != nil || string(is) != x.wants {
			t.Errorf("%q became %q, %v; expected %q", x.was, is, err, x.wants)
		}
		if err := os.WriteFile(path, []byte("user-db:user\n"), 0o644); err != nil {
			t.Fatal(err)
		}
		if v, err := own.Read(x.id); err != nil || !v.IsNothing() {
			t.Errorf("without the database in the profile, %s reads %s, %v", x.id, v, err)
		}
		if err := own.Apply(x.id, setting.BoolValue(false)); err != nil {
			t.Fatal(err)
		}
		if v, err := own.Read(x.id); err != nil || !v.Equal(setting.BoolValue(false)) {
			t.Errorf("put right, %s reads %s, %v", x.id, v, err)
		}
		if err := adapter.WriteFile(h.At("/etc/dconf/db/"+map[string]string{"user": "local", "gdm": "gdm"}[x.people]),
			[]byte("made by dconf"), 0o644); err != nil {
			t.Fatal(err)
		}
		if x.wants == x.was { // the database is the administrator's own
			continue
		}
		if err := own.Withdraw(x.id); err != nil {
			t.Fatal(err)
		}
		if after := tree(t, h.Root); !maps.Equal(before, after) {
			t.Errorf("withdrawn: %v; before: %v", slices.Sorted(maps.Keys(after)), slices.Sorted(maps.Keys(before)))
		}
	}
}

// TestPermissionRules runs the rules that are written, as polkit does.
func TestPermissionRules(t *testing.T) {
	t.Parallel()
	const (
		format  = "org.freedesktop.udisks2.modify-device"
		eject   = "org.freedesktop.udisks2.eject-media"
		hotspot = "org.freedesktop.NetworkManager.wifi.share.open"
	)
	// Of polkit, the rules use a function and the names of results.
	const before = `let rule; const polkit = {addRule: f => { rule = f }, Result: {YES: "yes", NO: "no", AUTH_ADMIN: "administrator", NOT_HANDLED: "next"}};`
	h := hostOf(t)
	for _, x := range []struct {
		id           setting.ID
		v            setting.Value
		action       string
		here, remote string // for somebody at the keyboard, and for somebody elsewhere
	}{
		{"media.format", setting.TextValue("administrators"), format, "administrator", "administrator"},
		{"media.format", setting.TextValue("person-at-keyboard"), format, "yes", "administrator"},
		{"media.format", setting.TextValue("everybody"), format, "yes", "yes"},
		{"media.format", setting.TextValue("everybody"), format + "-system", "next", "next"},
		{"media.eject", setting.TextValue("administrators"), eject, "administrator", "administrator"},
		{"network.tethering", setting.BoolValue(true), hotspot, "next", "next"},
		{"network.tethering", setting.BoolValue(false), hotspot, "no", "no"},
		{"network.tethering", setting.BoolValue(false), "org.freedesktop.NetworkManager.wifi.scan", "next", "next"},
	} {
		if err := owner(h, x.id).Apply(x.id, x.v); err != nil {
			t.Fatal(err)
		}
		text, err := os.ReadFile(h.At("/etc/polkit-1/rules.d/10-zridge.rules"))
		if err != nil {
			t.Fatal(err)
		}
		action, err := json.Marshal(x.action)
		if err != nil {
			t.Fatal(err)
		}
		run := before + string(text) + "for (const here of [true, false]) console.log(rule({id: " + string(action) +
			"}, {local: here, active: here}));"
		out, err := exec.Command("node", "-e", run).CombinedOutput()
		if err != nil {
			t.Fatalf("%v: %s", err, out)
		}
		if is := strings.Fields(string(out)); len(is) != 2 || is[0] != x.here || is[1] != x.remote {
			t.Errorf("%s = %s, %s: %s; expected %s, %s", x.id, x.v, x.action, is, x.here, x.remote)
		}
	}
}

// TestTheLockedScreen runs the script that a locked laptop runs, with an encrypted volume.
func TestTheLockedScreen(t *testing.T) {
	h := hostOf(t)
	disk := filepath.Join(h.Root, "disk.img")
	if err := errors.Join(os.WriteFile(disk, nil, 0o600), os.Truncate(disk, 20<<20)); err != nil {
		t.Fatal(err)
	}
	var tool volume.Tool
	if err := tool.Format(t.Context(), disk, "6b1f5c8e-0000-4000-8000-000000000001", "aes-xts-256", []byte("key")); err != nil {
		t.Skip(err)
	}
	if err := tool.AddToken(t.Context(), disk, volume.Token{Type: volume.RecoveryToken, Slots: []string{"0"},
		Identifier: "482109375512"}); err != nil {
		t.Fatal(err)
	}
	const message = "Larkfell's service desk: \"+44 1632 960144\"\n$(rm -rf /) `id`"
	adapterOf(t, h, "disk.startup.message", setting.TextValue(message))
	adapterOf(t, h, "disk.startup.message_address", setting.TextValue("https://help.larkfell.example"))
	script := filepath.Join(h.Root, "/etc/initramfs-tools/scripts/local-top/zridge-recovery")
	c := exec.Command(script)
	c.Env = append(os.Environ(), "ZRIDGE_DISKS="+disk)
	said, err := c.CombinedOutput()
	if want := message + "\nhttps://help.larkfell.example\nRecovery key 4821 0937 5512\n"; err != nil || string(said) != want {
		t.Errorf("the locked screen shows %q, %v; expected %q", said, err, want)
	}
	if out, err := exec.Command(script, "prereqs").CombinedOutput(); err != nil || len(out) > 0 {
		t.Errorf("asked what has to run before it, the script says %q, %v", out, err)
	}
}

// adapterOf puts a value into force, and expects it to be read back.
func adapterOf(t *testing.T, h *adapter.Host, id setting.ID, v setting.Value) {
	t.Helper()
	for _, a := range adapter.All(h) {
		if !slices.Contains(a.Settings(), id) {
			continue
		}
		if err := a.Apply(id, v); err != nil {
			t.Fatal(err)
		}
		if is, err := a.Read(id); err != nil || !is.Equal(v) {
			t.Fatalf("%s is %v, %v", id, is, err)
		}
		return
	}
	t.Fatalf("no adapter has %s", id)
}
