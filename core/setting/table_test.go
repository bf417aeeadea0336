package setting_test

import (
	"encoding/json"
	"strings"
	"testing"

	"zenithridge.example/zridge/core/setting"
)

type row = setting.Row

var (
	text = setting.TextValue
	hash = strings.Repeat("ab", 32)
)

func fileNamed(name string) setting.Value {
	return setting.FileValue(setting.File{SHA256: hash, Name: name, Size: 3})
}

func TestTablesAndFilesSurviveJSON(t *testing.T) {
	for _, v := range []setting.Value{
		setting.TableValue([]row{{"name": text("a"), "on": setting.BoolValue(true), "ports": setting.ListValue([]string{"1"})},
			{"name": text("b"), "n": setting.IntegerValue(-3)}}),
		setting.TableValue([]row{{"certificate": fileNamed("root.pem")}}), fileNamed("root.pem"), setting.TableValue(nil),
	} {
		data, err := json.Marshal(v)
		if err != nil {
			t.Fatal(err)
		}
		var back setting.Value
		if err := json.Unmarshal(data, &back); err != nil || !back.Equal(v) || back.String() != v.String() {
			t.Errorf("%v became %s, then %v (%v)", v, data, back, err)
		}
	}
}

// TestFilesAreTheirContents: what a file is called makes no difference, by itself or in a row.
func TestFilesAreTheirContents(t *testing.T) {
	a, b := fileNamed("one.pem"), fileNamed("two.pem")
	if !a.Equal(b) || a.Equal(text(hash)) {
		t.Error("two names of one file differ, or a file is its hash as text")
	}
	one, two := setting.TableValue([]row{{"c": a}}), setting.TableValue([]row{{"c": b}, {"c": text("x")}})
	union := setting.Union([]*setting.Value{&one, &two})
	if len(union.Rows()) != 2 {
		t.Errorf("the union is %v", union)
	}
	if got := union.WithFiles(
		func(f setting.File) setting.File { f.Name = "three.pem"; return f },
	); !strings.Contains(got.String(), "three.pem") ||
		!got.Equal(union) {
		t.Errorf("with another name: %v", got)
	}
	seen := 0
	union.EachFile(func(at []any, f setting.File) {
		seen++
		if len(at) != 2 || at[1] != "c" || f.SHA256 != hash {
			t.Errorf("a file at %v: %v", at, f)
		}
	})
	if seen != 1 {
		t.Errorf("%d files in %v", seen, union)
	}
}

func TestRowsOfOneKeyConflict(t *testing.T) {
	s := setting.Shape{Type: setting.TypeTable, Key: []string{"name"}, Columns: []setting.Column{{Name: "name"}, {Name: "port"}}}
	web, ssh := row{"name": text("web"), "port": setting.IntegerValue(80)}, row{"name": text("ssh"), "port": setting.IntegerValue(22)}
	other := row{"name": text("web"), "port": setting.IntegerValue(8080)}
	for _, c := range []struct {
		a, b     []row
		conflict bool
	}{{[]row{web}, []row{ssh}, false}, {[]row{web, ssh}, []row{web}, false}, {[]row{web}, []row{ssh, other}, true}, {nil, []row{web}, false}} {
		if got := s.Conflicts(setting.TableValue(c.a), setting.TableValue(c.b)); got != c.conflict {
			t.Errorf("%v with %v: %v", c.a, c.b, got)
		}
	}
	if (&setting.Shape{}).Conflicts(setting.TableValue([]row{web}), setting.TableValue([]row{other})) {
		t.Error("rows conflict in a table with no key")
	}
}

// TestTablesAreChecked gives a table wrong rows, and wants each fault at its place.
func TestTablesAreChecked(t *testing.T) {
	most := int64(3)
	d := setting.Shape{Type: setting.TypeTable, MaxItems: &most, Key: []string{"path"}, Columns: []setting.Column{
		{Name: "path", Required: true, Shape: setting.Shape{Type: setting.TypeText, Format: setting.NodePath}},
		{Name: "format", Required: true, Shape: setting.Shape{Type: setting.TypeChoice, Options: []string{"bool", "int"}}},
		{Name: "cert", Shape: setting.Shape{Type: setting.TypeFile}},
	}}
	good := row{"path": text("./Device/Plotter/KeepAwake"), "format": text("bool"), "cert": fileNamed("x")}
	if faults := d.Check("/v", setting.TableValue([]row{good})); len(faults) > 0 {
		t.Error(faults)
	}
	if faults := d.Check("/v", setting.ListValue(nil)); len(faults) > 0 {
		t.Errorf("an empty table: %v", faults)
	}
	for want, v := range map[string]setting.Value{
		"/v: wrong-type":             setting.ListValue([]string{"a"}),
		"/v/0/format: missing-field": setting.TableValue([]row{{"path": text("./a")}}),
		"/v/0/colour: unknown-field": setting.TableValue([]row{{"path": text("./a"), "format": text("int"), "colour": text("blue")}}),
		"/v/0/format: not-one-of":    setting.TableValue([]row{{"path": text("./a"), "format": text("chr")}}),
		"/v/0/cert: wrong-type":      setting.TableValue([]row{{"path": text("./a"), "format": text("int"), "cert": text("x")}}),
		"/v/1: doubled-item": setting.TableValue([]row{{"path": text("./a"), "format": text("int")},
			{"path": text("./a"), "format": text("bool")}}),
		"/v: out-of-range": setting.TableValue([]row{{"path": text("./a"), "format": text("int")},
			{"path": text("./b"), "format": text("int")}, {"path": text("./c"), "format": text("int")},
			{"path": text("./d"), "format": text("int")}}),
	} {
		faults := d.Check("/v", v)
		if len(faults) == 0 || !strings.HasPrefix(faults[0].Error(), want) {
			t.Errorf("%v gives %v, expected %s", v, faults, want)
		}
	}
}

func TestPathsOfNodesAreChecked(t *testing.T) {
	s := setting.Shape{Type: setting.TypeText, Format: setting.NodePath}
	for _, good := range []string{"./Device/Plotter/KeepAwake", "./a", "./Vendor/x%20y/z~1/w@2"} {
		if faults := s.Check("", text(good)); len(faults) > 0 {
			t.Errorf("%s: %v", good, faults)
		}
	}
	for bad, why := range map[string]string{
		"Device/Plotter": "start at the root", "./Device//Plotter": "a slash is doubled", "./Device/{6F96}/On": "a brace is left",
		"./Device/On/": "ends with a slash", "./Device/../On": "relative part",
		"./Device/a b": "can't have", "./": "ends with a slash", "": "start at the root", "./Device/ö": "can't have",
	} {
		faults := s.Check("", text(bad))
		if len(faults) != 1 || faults[0].Code != "bad-path" || !strings.Contains(faults[0].Found, why) {
			t.Errorf("%q: %v, expected %q", bad, faults, why)
		}
	}
}
