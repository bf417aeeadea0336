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
		"/etc/issue":                     "Debian GNU/Linux 12 \\n \\l\n\n",
		"/etc/hostname":                  "laptop\n",
		"/etc/login.defs":                "# The maximum number of days\nPASS_MAX_DAYS\t99999\nPASS_MIN_DAYS\t0\n",
		"/etc/security/faillock.conf":    "# deny = 3\naudit\n",
		"/etc/default/keyboard":          "XKBMODEL=\"pc105\"\nXKBLAYOUT=\"us\"",
		"/usr/share/zoneinfo/Etc/UTC":    "zone",
		"/usr/share/zoneinfo/Asia/Tokyo": "zone",
	} {
		if err := adapter.WriteFile(filepath.Join(root, path), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Symlink("/usr/share/zoneinfo/Etc/UTC", filepath.Join(root, "/etc/localtime")); err != nil {
		t.Fatal(err)
	}
	for _, data := range authorities {
		if err := adapter.WriteFile(filepath.Join(root, "files", sumOf(data)), data, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return &adapter.Host{Root: root, Keep: filepath.Join(root, "kept"), Files: filepath.Join(root, "files")}
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

// valuesOf gives values that a setting may have, by its definition.
func valuesOf(d *setting.Definition) []setting.Value {
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
		if d.ID == "browser.blocked_sites" {
			return []setting.Value{setting.ListValue([]string{"*.casino.example", "one.example", "*", "https://x.example/y"}), setting.ListValue([]string{"a.example"})}
		}
		return []setting.Value{setting.ListValue([]string{"a.larkfell.example"}), setting.ListValue([]string{"b.larkfell.example", "c.larkfell.example"})}
	}
	if d.ID == "trust.machine_roots" {
		return []setting.Value{trusts(sumOf(authorities[0])), trusts(sumOf(authorities[0]), sumOf(authorities[1])), trusts(sumOf(authorities[1]))}
	}
	if d.ID == "network.proxy.script" {
		return []setting.Value{setting.TextValue("https://larkfell.example/proxy.pac"), setting.TextValue("http://192.0.2.7/a%20b")}
	}
	if d.ID == "network.proxy.address" {
		return []setting.Value{setting.TextValue("proxy.larkfell.example:3128"), setting.TextValue("192.0.2.7:80")}
	}
	if d.ID == "system.time_zone" {
		return []setting.Value{setting.TextValue("Asia/Tokyo"), setting.TextValue("Etc/UTC")}
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
	if len(seen) < 66 {
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
		{"power.lid_battery", setting.TextValue("lock"), "/etc/systemd/logind.conf.d/50-zridge.conf", "[Login]\nHandleLidSwitch=ignore\n", `"nothing"`},
		{"browser.sync", setting.BoolValue(false), "/etc/chromium/policies/managed/zridge.json", "{broken", "nothing"},
		{"signin.banner", setting.TextValue("Ours"), "/etc/issue.net", "Theirs\n", "nothing"},
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
