package command

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/dictionary"
	"zenithridge.example/zridge/formats/files"
)

// shapeOf gives a shipped setting as commands see it.
func shapeOf(t *testing.T, id setting.ID) files.SettingDoc {
	t.Helper()
	for _, d := range dictionary.Shipped().Settings {
		if d.ID == id {
			return files.Doc(d).(files.SettingDoc)
		}
	}
	t.Fatalf("no setting %s", id)
	return files.SettingDoc{}
}

// TestValuesAsPeopleTypeThem reads values for settings of each type that needs no service.
func TestValuesAsPeopleTypeThem(t *testing.T) {
	dir := t.TempDir()
	list := filepath.Join(dir, "sites.txt")
	table := filepath.Join(dir, "rules.csv")
	for path, text := range map[string]string{list: "a.example\n\n b.example \na.example\n", table: "name,direction,action,remote\n" +
		"web,in,allow,\"10.0.0.0/8,10.1.0.0/16\"\nssh,in,block,\n"} {
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	for _, c := range []struct {
		id   setting.ID
		text string
		want string
	}{
		{"media.camera", "on", "true"}, {"media.camera", "Off", "false"}, {"media.camera", "yes", "true"}, {"media.camera", "no", "false"},
		{"media.camera", "true", "true"},
		{"screen.lock_after_minutes", "15", "15"}, {"screen.lock_after_minutes", "2h", "120"}, {"screen.lock_after_minutes", "1 d", "1440"},
		{"screen.lock_after_minutes", "20 minutes", "20"},
		{"screen.password_after_seconds", "5m", "300"}, {"updates.defer_releases_days", "2w", "14"}, {"updates.peers_cache_gb", "1TB", "1000"},
		{"system.audit_log_mb", "2GB", "2000"}, {"backup.every_hours", "2d", "48"},
		{"power.charge_limit_percent", "80", "80"}, {"disk.startup.pin_length", "8 digits", "8"}, {"disk.startup.pin", "require", `"require"`},
		{"signin.banner", "a, b = c", `"a, b = c"`},
		{"browser.blocked_sites", "a.example, b.example,a.example", `["a.example", "b.example"]`},
		{"browser.blocked_sites", "@" + list, `["a.example", "b.example"]`}, {"browser.blocked_sites", "", "[]"},
		{"network.firewall.rules", "name=web,direction=in,action=allow", `[{action: "allow", direction: "in", name: "web"}]`},
		{"network.firewall.rules", `[{"name": "web", "ports": "80"}]`, `[{name: "web", ports: "80"}]`}, {"network.firewall.rules", "[]", "[]"},
		{"network.firewall.rules", "@" + table, `[{action: "allow", direction: "in", name: "web", remote: ["10.0.0.0/8", "10.1.0.0/16"]}, {action: "block", direction: "in", name: "ssh"}]`},
	} {
		d := shapeOf(t, c.id)
		v, err := (&valueReader{}).read(context.Background(), string(c.id), d.ShapeDoc, d.Columns, c.text)
		if err != nil || v.String() != c.want {
			t.Errorf("%s=%s gives %s (%v), expected %s", c.id, c.text, v, err, c.want)
		}
	}
}

func TestValuesThatCantBeRead(t *testing.T) {
	wrongColumns := filepath.Join(t.TempDir(), "rules.csv")
	if err := os.WriteFile(wrongColumns, []byte("name,colour\nweb,blue\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		id     setting.ID
		text   string
		reason string
	}{
		{"media.camera", "perhaps", "expected on or off"}, {"media.camera", "", "expected on or off"},
		{"screen.lock_after_minutes", "soon", "a whole number of minutes"},
		{"screen.lock_after_minutes", "5 GB", "a whole number of minutes"},
		{"screen.lock_after_minutes", "99999999999999999999", "a whole number of minutes"},
		{"screen.lock_after_minutes", "4611686018427387904h", "a whole number of minutes"},
		{"screen.lock_after_minutes", "1.5h", "a whole number of minutes"}, {"browser.blocked_sites", "@/no/such/file", "no such file"},
		{"network.firewall.rules", "[1]", "a list of objects"}, {"network.firewall.rules", "[{", "a list of objects"},
		{"network.firewall.rules", "web", "COLUMN=VALUE"}, {"network.firewall.rules", "colour=blue", "COLUMN=VALUE"},
		{"network.firewall.rules", "@" + wrongColumns, `the column "colour"`}, {"network.firewall.rules", "@/no/such.csv", "no such file"},
		{"applications.control_rules", "@/no/such.json", "no such file"},
	} {
		d := shapeOf(t, c.id)
		_, err := (&valueReader{}).read(context.Background(), string(c.id), d.ShapeDoc, d.Columns, c.text)
		if err == nil || !strings.Contains(err.Error(), c.reason) {
			t.Errorf("%s=%s: %v, expected %q", c.id, c.text, err, c.reason)
		}
		var exit *exitError
		if errors.As(err, &exit) && exit.status != exitUsage {
			t.Errorf("%s=%s ends with status %d", c.id, c.text, exit.status)
		}
	}
}

func TestEntriesAreSplitAtTheFirstEqualsSign(t *testing.T) {
	if id, value, err := parseEntry("signin.banner=a=b"); err != nil || id != "signin.banner" || value != "a=b" {
		t.Errorf("%s %s %v", id, value, err)
	}
	for _, bad := range []string{"", "=x", "signin.banner"} {
		if _, _, err := parseEntry(bad); err == nil {
			t.Errorf("%q was taken for an entry", bad)
		}
	}
}

// TestAddingToWhatIsThere adds to lists and tables, and replaces anything else.
func TestAddingToWhatIsThere(t *testing.T) {
	list := func(items ...string) setting.Value { return setting.ListValue(items) }
	row := func(name string) setting.Value {
		return setting.TableValue([]setting.Row{{"name": setting.TextValue(name)}})
	}
	for _, c := range []struct{ have, more, want setting.Value }{
		{list("a"), list("b", "a"), list("a", "b")}, {row("a"), row("b"), setting.TableValue(append(row("a").Rows(), row("b").Rows()...))},
		{setting.IntegerValue(1), setting.IntegerValue(2), setting.IntegerValue(2)}, {list(), row("a"), row("a")},
	} {
		if got := added(c.have, c.more); !got.Equal(c.want) {
			t.Errorf("%v with %v gives %v", c.have, c.more, got)
		}
	}
}

func TestLinesFitTheTerminal(t *testing.T) {
	if got := fitted("short\nlänger als zehn\n", 10); got != "short\nlänger al…\n" {
		t.Errorf("found %q", got)
	}
}
