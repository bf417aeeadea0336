package adapter_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"math/big"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"zenithridge.example/zridge/agent/adapter"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/dictionary"
)

// hostOf gives a host with some files of a fresh Debian.
func hostOf(t *testing.T) *adapter.Host {
	t.Helper()
	root := t.TempDir()
	for path, text := range map[string]string{
		"/etc/issue":                    "Debian GNU/Linux 12 \\n \\l\n\n",
		"/etc/hostname":                 "laptop\n",
		"/etc/login.defs":               "# The maximum number of days\nPASS_MAX_DAYS\t99999\nPASS_MIN_DAYS\t0\n",
		"/etc/security/faillock.conf":   "# deny = 3\naudit\n",
		"/etc/default/keyboard":         "XKBMODEL=\"pc105\"\nXKBLAYOUT=\"us\"",
		"/etc/passwd":                   "root:x:0:0:root:/root:/bin/bash\nines:x:1000:1000::/home/ines:/bin/bash\n",
		"/etc/group":                    "root:x:0:\nsudo:x:27:tove,ines\nusers:x:100:",
		"/etc/gshadow":                  "root:*::\nsudo:*::tove,ines\nusers:*::\n",
		"/etc/gdm3/daemon.conf":         "# gdm\n[daemon]\n#WaylandEnable=false\nAutomaticLogin=somebody\n\n[security]\n",
		"/etc/fapolicyd/fapolicyd.conf": "#\npermissive = 0\nnice_val = 14\n",
		"/etc/ca-certificates.conf":     "# chosen\nmozilla/Harbour_1.crt\n!mozilla/Old.crt\nmozilla/Gone.crt\n",
		"/usr/share/ca-certificates/mozilla/Harbour_1.crt": string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: authorities[0]})),
		"/lib/systemd/system/ssh.service":                  "[Service]\n",
		"/lib/systemd/system/xrdp.service":                 "[Service]\n",
		"/etc/systemd/system/fwupd.service":                "[Service]\nExecStart=/opt/own\n",
		"/usr/share/zoneinfo/Etc/UTC":                      "zone",
		"/usr/share/zoneinfo/Asia/Tokyo":                   "zone",
	} {
		if err := adapter.WriteFile(filepath.Join(root, path), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Symlink("/usr/share/zoneinfo/Etc/UTC", filepath.Join(root, "/etc/localtime")); err != nil {
		t.Fatal(err)
	}
	for _, data := range append(authorities[:], texts[:]...) {
		if err := adapter.WriteFile(filepath.Join(root, "files", sumOf(data)), data, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	certificate := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: authorities[0]})
	if err := adapter.WriteFile(filepath.Join(root, "identity/certificate.pem"), certificate, 0o600); err != nil {
		t.Fatal(err)
	}
	return &adapter.Host{Root: root, Keep: filepath.Join(root, "kept"), Files: filepath.Join(root, "files"),
		Identity: filepath.Join(root, "identity")}
}

// texts are files that values name: scripts, a picture, and rule sets of application control.
var texts = [4][]byte{
	[]byte("#!/bin/sh\necho good morning\n"), []byte("#!/usr/bin/env python3\n"),
	[]byte(`{"otherwise":"deny","rules":[{"id":"a","action":"allow","path":"/usr/**"},{"id":"b","action":"deny","path":"/usr/bin/bc"},{"id":"c","action":"deny","path":"/Programs/*","platforms":["macos"]}]}`),
	[]byte(`{"otherwise":"allow","rules":[{"id":"one","action":"deny","sha256":"9F86D081884C7D659A2FEAA0C55AD015A3BF4F1B2B0B822CD15D6C15B0F00A08"}]}`),
}

func fileOf(data []byte) setting.Value {
	return setting.FileValue(setting.File{SHA256: sumOf(data), Name: "a", Size: int64(len(data))})
}

// authorities are two certificates, the first in DER and the second in PEM.
var authorities = [2][]byte{authority(1), pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: authority(2)})}

func authority(serial int64) []byte {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		panic(err)
	}
	template := &x509.Certificate{
		SerialNumber: big.NewInt(serial), Subject: pkix.Name{CommonName: fmt.Sprint("Harbour ", serial)}, NotAfter: time.Now().Add(time.Hour),
		IsCA: true, BasicConstraintsValid: true,
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	if err != nil {
		panic(err)
	}
	return der
}

func sumOf(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

// trusts is a value that trusts certificates.
func trusts(sums ...string) setting.Value {
	var rows []setting.Row
	for _, sum := range sums {
		rows = append(rows, setting.Row{"certificate": setting.FileValue(setting.File{SHA256: sum, Name: "a.pem", Size: 1})})
	}
	return setting.TableValue(rows)
}

// tree gives the files below a folder with what is in them, without folders.
func tree(t *testing.T, root string) map[string]string {
	t.Helper()
	out := map[string]string{}
	err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		if d.Type()&fs.ModeSymlink != 0 {
			to, err := os.Readlink(path)
			out[path] = "-> " + to
			return err
		}
		data, err := os.ReadFile(path)
		out[path] = string(data)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// valuesByHand are values of settings whose type does not say enough.
var valuesByHand = map[setting.ID]func() []setting.Value{
	"trust.machine_roots": func() []setting.Value {
		return []setting.Value{trusts(sumOf(authorities[0])), trusts(sumOf(authorities[0]), sumOf(authorities[1])), trusts(sumOf(authorities[1]))}
	},
	"trust.never": func() []setting.Value {
		return []setting.Value{trusts(sumOf(authorities[0])), trusts(sumOf(authorities[0]), sumOf(authorities[1]))}
	},
	"network.proxy.script":  words("https://larkfell.example/proxy.pac", "http://192.0.2.7/a%20b"),
	"network.proxy.address": words("proxy.larkfell.example:3128", "192.0.2.7:80"),
	"system.time_zone":      words("Asia/Tokyo", "Etc/UTC"),
	"system.audit_log_forward": words("tcp://log.larkfell.example:5140", "tls://log.larkfell.example",
		"https://log.larkfell.example/upload"),
	"signin.automatic_account":      words("bridge", "LARKFELL@lab.example"),
	"browser.blocked_sites":         lists([]string{"*.casino.example", "one.example", "*", "https://x.example/y"}, []string{"a.example"}),
	"media.usb_allowed_ids":         lists([]string{"0951:1666"}, []string{"0951:1666", "1d6b:0002"}),
	"accounts.local_administrators": lists([]string{"ines", "Domain Admins"}, []string{}),
	"signin.script_in":              files(texts[0], texts[1]),
	"signin.script_out":             files(texts[1], texts[0]),
	"screen.wallpaper":              files(texts[0], texts[1]),
	"applications.control_rules":    files(texts[2], texts[3]),
	"signin.items": func() []setting.Value {
		return []setting.Value{
			setting.TableValue([]setting.Row{{"path": setting.TextValue(`/opt/a "b" $c%d\e`)},
				{"path": setting.TextValue("smb://files.larkfell.example/charts")}}),
			setting.TableValue([]setting.Row{{"path": setting.TextValue("/home/")}}),
		}
	},
	"network.firewall.rules": func() []setting.Value {
		web := setting.Row{"name": setting.TextValue("web"), "direction": setting.TextValue("in"), "action": setting.TextValue("allow"),
			"protocol": setting.TextValue("tcp"),
			"ports":    setting.TextValue("80, 8000-8010,8005-8020"), "remote": setting.ListValue([]string{"10.2.0.0/16", "2001:db8::1"}),
			"networks": setting.TextValue("company")}
		mail := setting.Row{"name": setting.TextValue("mail"), "direction": setting.TextValue("out"),
			"action": setting.TextValue("block"), "ports": setting.TextValue("25")}
		ping := setting.Row{"name": setting.TextValue("ping"), "direction": setting.TextValue("in"),
			"action": setting.TextValue("allow"), "protocol": setting.TextValue("icmp")}
		return []setting.Value{setting.TableValue([]setting.Row{web, mail}), setting.TableValue([]setting.Row{ping})}
	},
	"network.wireless": func() []setting.Value {
		row := func(name, how string) setting.Row {
			return setting.Row{"name": setting.TextValue(name), "authentication": setting.TextValue(how), "join": setting.BoolValue(true)}
		}
		office := row("Larkfell office", "enterprise-certificate")
		office["trusted_issuer"] = fileOf(authorities[0])
		return []setting.Value{
			setting.TableValue([]setting.Row{office, row("Guests", "open"), row("Boat", "personal")}),
			setting.TableValue([]setting.Row{row("Yard", "enterprise-password")}),
		}
	},
	"network.access_points": func() []setting.Value {
		row := func(operator string) setting.Row {
			return setting.Row{"operator": setting.TextValue(operator), "name": setting.TextValue("larkfell.example")}
		}
		return []setting.Value{setting.TableValue([]setting.Row{row("North"), row("South")}), setting.TableValue([]setting.Row{row("North")})}
	},
}

func words(texts ...string) func() []setting.Value {
	return func() (out []setting.Value) {
		for _, text := range texts {
			out = append(out, setting.TextValue(text))
		}
		return out
	}
}

func lists(items ...[]string) func() []setting.Value {
	return func() (out []setting.Value) {
		for _, i := range items {
			out = append(out, setting.ListValue(i))
		}
		return out
	}
}

func files(data ...[]byte) func() []setting.Value {
	return func() (out []setting.Value) {
		for _, d := range data {
			out = append(out, fileOf(d))
		}
		return out
	}
}

// valuesOf gives values that a setting may have, by its definition.
func valuesOf(d *setting.Definition) []setting.Value {
	if found := valuesByHand[d.ID]; found != nil {
		return found()
	}
	switch d.Type {
	case setting.TypeBool:
		return []setting.Value{setting.BoolValue(true), setting.BoolValue(false)}
	case setting.TypeInteger:
		least := int64(1)
		if d.Min != nil {
			least = *d.Min
		}
		return []setting.Value{setting.IntegerValue(least), setting.IntegerValue(least + 7)}
	case setting.TypeChoice:
		var out []setting.Value
		for _, o := range d.Options {
			out = append(out, setting.TextValue(o))
		}
		return out
	case setting.TypeList:
		return []setting.Value{setting.ListValue([]string{"a.larkfell.example"}),
			setting.ListValue([]string{"b.larkfell.example", "c.larkfell.example"})}
	}
	return []setting.Value{setting.TextValue("Larkfell"), setting.TextValue("https-ish <&> \"x\" \\ é")}
}

// TestEachSetting: what is applied is read, whatever was applied before; withdrawing leaves the files as they were.
func TestEachSetting(t *testing.T) {
	t.Parallel()
	definitions := map[setting.ID]*setting.Definition{}
	shipped := dictionary.Shipped()
	for i := range shipped.Settings {
		definitions[shipped.Settings[i].ID] = &shipped.Settings[i]
	}
	seen := map[setting.ID]bool{}
	for _, a := range adapter.All(hostOf(t)) {
		for _, id := range a.Settings() {
			d := definitions[id]
			if d == nil || seen[id] {
				t.Errorf("%s is no setting of the dictionary, or two adapters have it", id)
				continue
			}
			seen[id] = true
			t.Run(string(id), func(t *testing.T) {
				t.Parallel()
				h := hostOf(t)
				own := owner(h, id)
				before := tree(t, h.Root)
				first, err := own.Read(id)
				if err != nil {
					t.Fatal(err)
				}
				values := slices.DeleteFunc(valuesOf(d), func(v setting.Value) bool { // some parts of the system lack one of three options
					var lacks *adapter.ValueError
					return d.Type == setting.TypeChoice && len(d.Options) > 2 && errors.As(own.Apply(id, v), &lacks)
				})
				if err := own.Withdraw(id); err != nil || len(values) < 2 {
					t.Fatalf("%d values, %v", len(values), err)
				}
				for _, v := range append(values, values[0], values[0]) {
					if err := own.Apply(id, v); err != nil {
						t.Fatalf("applying %s: %v", v, err)
					}
					if is, err := own.Read(id); err != nil || !is.Equal(v) {
						t.Errorf("applied %s, read %s, %v", v, is, err)
					}
				}
				if maps.Equal(before, tree(t, h.Root)) {
					t.Error("nothing is different on the laptop")
				}
				for range 2 {
					if err := own.Withdraw(id); err != nil {
						t.Fatal(err)
					}
				}
				if v, err := own.Read(id); err != nil || !v.Equal(first) {
					t.Errorf("withdrawn, it reads %v %v, and read %v before", v, err, first)
				}
				for path, is := range tree(t, h.Root) {
					if is != before[path] && strings.TrimSuffix(is, "\n") != before[path] { // a missing end of the last line is added
						t.Errorf("%s is %q, was %q", path, is, before[path])
					}
					delete(before, path)
				}
				for path := range before {
					t.Errorf("%s is gone", path)
				}
			})
		}
	}
	if len(seen) < 90 {
		t.Errorf("there are adapters for %d settings", len(seen))
	}
}

func owner(h *adapter.Host, id setting.ID) adapter.Adapter {
	all := adapter.All(h)
	return all[slices.IndexFunc(all, func(a adapter.Adapter) bool { return slices.Contains(a.Settings(), id) })]
}

// TestSettingsDoNotDisturbEachOther applies all settings, and withdraws them in another order.
func TestSettingsDoNotDisturbEachOther(t *testing.T) {
	t.Parallel()
	shipped := dictionary.Shipped()
	h := hostOf(t)
	before := tree(t, h.Root)
	wanted := map[setting.ID]setting.Value{}
	var ids []setting.ID
	for i := range shipped.Settings {
		d := &shipped.Settings[i]
		if !slices.ContainsFunc(adapter.All(h), func(a adapter.Adapter) bool { return slices.Contains(a.Settings(), d.ID) }) {
			continue
		}
		wanted[d.ID] = valuesOf(d)[0]
		ids = append(ids, d.ID)
		if err := owner(h, d.ID).Apply(d.ID, wanted[d.ID]); err != nil {
			t.Fatal(err)
		}
	}
	for _, id := range ids {
		if v, err := owner(h, id).Read(id); err != nil || !v.Equal(wanted[id]) {
			t.Errorf("%s is %s, %v; expected %s", id, v, err, wanted[id])
		}
	}
	slices.Reverse(ids)
	for _, id := range ids {
		if err := owner(h, id).Withdraw(id); err != nil {
			t.Fatal(err)
		}
	}
	for path, is := range tree(t, h.Root) {
		// Lines that were taken out come back at the end.
		if sorted(is) != sorted(before[path]) {
			t.Errorf("%s is %q, was %q", path, is, before[path])
		}
	}
}

func sorted(text string) string {
	lines := strings.Split(strings.TrimSpace(text), "\n")
	slices.Sort(lines)
	return strings.Join(lines, "\n")
}

// TestWithdrawingAgain: where a file cannot be put back, its earlier text is kept until it can.
func TestWithdrawingAgain(t *testing.T) {
	t.Parallel()
	for id, path := range map[setting.ID]string{
		"signin.automatic":     "/etc/gdm3/daemon.conf",
		"trust.never":          "/etc/ca-certificates.conf",
		"applications.control": "/etc/fapolicyd/fapolicyd.conf",
	} {
		t.Run(string(id), func(t *testing.T) {
			t.Parallel()
			h := hostOf(t)
			file := filepath.Join(h.Root, path)
			was := tree(t, h.Root)
			shipped := dictionary.Shipped().Settings
			at := slices.IndexFunc(shipped, func(d setting.Definition) bool { return d.ID == id })
			if err := owner(h, id).Apply(id, valuesOf(&shipped[at])[0]); err != nil {
				t.Fatal(err)
			}
			if is := tree(t, h.Root)[file]; is == was[file] {
				t.Fatalf("applied, %s is %q as before", path, is)
			}
			// A folder that holds something cannot be replaced by a file.
			if err := errors.Join(os.Remove(file), os.MkdirAll(filepath.Join(file, "inside"), 0o755)); err != nil {
				t.Fatal(err)
			}
			if err := owner(h, id).Withdraw(id); err == nil {
				t.Fatal("withdrawn over a folder without a fault")
			}
			if err := os.RemoveAll(file); err != nil {
				t.Fatal(err)
			}
			if err := owner(h, id).Withdraw(id); err != nil {
				t.Fatal(err)
			}
			if is := tree(t, h.Root)[file]; is != was[file] {
				t.Errorf("withdrawn again, %s is %q, was %q", path, is, was[file])
			}
		})
	}
}

// TestValuesThatDoNotGo: a value that a part of the system has no word for is refused, and nothing is written.
func TestValuesThatDoNotGo(t *testing.T) {
	t.Parallel()
	for _, x := range []struct {
		id setting.ID
		v  setting.Value
	}{
		{"system.time_zone", setting.TextValue("Nowhere/Else")},
		{"system.time_zone", setting.TextValue("../../etc/passwd")},
		{"system.host_name", setting.TextValue("two\nlines")},
		{"network.name_servers", setting.ListValue([]string{"192.0.2.1\nDNSSEC=no"})},
		{"power.lid_battery", setting.TextValue("explode")},
		{"accounts.password_length", setting.TextValue("many")},
		{"media.usb_storage", setting.TextValue("perhaps")},
		{"browser.blocked_sites", setting.ListValue([]string{"a*b.example"})},
		{"trust.machine_roots", trusts("../../etc/issue")},
		{"trust.machine_roots", trusts("short")},
		{"browser.saved_passwords", setting.IntegerValue(1)},
		{"network.proxy.address", setting.TextValue("proxy.example")},
		{"network.proxy.address", setting.TextValue("proxy.example:70000")},
		{"network.proxy.address", setting.TextValue("it's:80")},
		{"network.proxy.exceptions", setting.ListValue([]string{"a', 'b"})},
		{"signin.smart_card", setting.TextValue("require")},
		{"system.language", setting.TextValue("C\nLD_PRELOAD=/tmp/x")},
	} {
		h := hostOf(t)
		before := tree(t, h.Root)
		var value *adapter.ValueError
		if err := owner(h, x.id).Apply(x.id, x.v); !errors.As(err, &value) {
			t.Errorf("%s = %s: %v", x.id, x.v, err)
		}
		if !maps.Equal(before, tree(t, h.Root)) {
			t.Errorf("%s = %s: something was written", x.id, x.v)
		}
	}
}

// TestWhatSomebodyAlters: a file that was altered by hand reads as what it is, and not as what was wanted.
func TestWhatSomebodyAlters(t *testing.T) {
	t.Parallel()
	h := hostOf(t)
	for _, x := range []struct {
		id   setting.ID
		v    setting.Value
		path string
		text string
		want string
	}{
		{"power.lid_battery", setting.TextValue("lock"), "/etc/systemd/logind.conf.d/50-zridge.conf",
			"[Login]\nHandleLidSwitch=ignore\n", `"nothing"`},
		{"browser.sync", setting.BoolValue(false), "/etc/chromium/policies/managed/zridge.json", "{broken", "nothing"},
		{"signin.banner", setting.TextValue("Ours"), "/etc/issue.net", "Theirs\n", `"Theirs"`},
		{"media.eject", setting.TextValue("everybody"), "/etc/polkit-1/rules.d/10-zridge.rules", "polkit.addRule(function() {});\n", "nothing"},
		{"network.proxy.address", setting.TextValue("proxy.example:80"), "/etc/dconf/db/local.d/locks/50-zridge", "", "nothing"},
		{"screen.lock", setting.BoolValue(true), "/etc/dconf/db/local.d/locks/50-zridge", "", "nothing"},
	} {
		a := owner(h, x.id)
		if err := a.Apply(x.id, x.v); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(h.Root, x.path), []byte(x.text), 0o644); err != nil {
			t.Fatal(err)
		}
		v, err := a.Read(x.id)
		is := fmt.Sprint(v)
		if v.IsNothing() {
			is = "nothing"
		}
		if err != nil || is != x.want && is != strings.Trim(x.want, `"`) {
			t.Errorf("%s reads %s, %v; expected %s", x.id, is, err, x.want)
		}
		if err := a.Apply(x.id, x.v); err != nil {
			t.Fatal(err)
		}
		if v, err := a.Read(x.id); err != nil || !v.Equal(x.v) {
			t.Errorf("put right, %s reads %s, %v", x.id, v, err)
		}
	}
}
