package setting_test

import (
	"encoding/json"
	"math"
	"testing"

	"zenithridge.example/zridge/core/setting"
)

func TestRankOrdersByStrictness(t *testing.T) {
	integer, boolean, text := setting.IntegerValue, setting.BoolValue, setting.TextValue
	for _, c := range []struct {
		stricter        setting.Stricter
		weaker, tighter setting.Value
	}{
		{setting.StricterLower, integer(10), integer(9)}, {setting.StricterLower, integer(0), integer(math.MinInt64)},
		{setting.StricterLower, integer(math.MaxInt64), integer(math.MinInt64)},
		{setting.StricterHigher, integer(9), integer(10)}, {setting.StricterTrue, boolean(false), boolean(true)},
		{setting.StricterFalse, boolean(true), boolean(false)}, {setting.StricterLater, text("a"), text("b")},
	} {
		d := setting.Definition{Stricter: c.stricter, Shape: setting.Shape{Options: []string{"a", "b"}}}
		if d.Rank(c.weaker) >= d.Rank(c.tighter) {
			t.Errorf("%s: %v is not weaker than %v", c.stricter, c.weaker, c.tighter)
		}
	}
}

func TestSupportIsTestedInOrder(t *testing.T) {
	d := setting.Definition{
		Supports: []setting.Support{{Platform: setting.Linux, From: "11", Editions: []string{"field"}}, {Platform: setting.Windows}},
	}
	for _, c := range []struct {
		os               setting.Platform
		version, edition string
		want             setting.Unsupported
	}{
		{setting.MacOS, "1", "field", setting.NoPlatform}, {setting.Linux, "10.9", "desk", setting.LowVersion},
		{setting.Linux, "rolling", "field", setting.LowVersion},
		{setting.Linux, "11", "desk", setting.OtherEdition}, {setting.Linux, "11", "", setting.OtherEdition},
		{setting.Linux, "11.0", "field", setting.Supported}, {setting.Windows, "x", "", setting.Supported},
	} {
		if got := d.SupportOn(c.os, c.version, c.edition); got != c.want {
			t.Errorf("%s %s %s: %q, expected %q", c.os, c.version, c.edition, got, c.want)
		}
	}
}

func TestValuesSurviveJSON(t *testing.T) {
	for _, v := range []setting.Value{setting.BoolValue(true), setting.BoolValue(false), setting.IntegerValue(math.MinInt64),
		setting.IntegerValue(math.MaxInt64), setting.TextValue(""), setting.TextValue("12"), setting.ListValue(nil),
		setting.ListValue([]string{"a", "true"}), {}} {
		data, err := json.Marshal(v)
		if err != nil {
			t.Fatal(err)
		}
		var back setting.Value
		if err := json.Unmarshal(data, &back); err != nil || !back.Equal(v) {
			t.Errorf("%v became %s, then %v (%v)", v, data, back, err)
		}
	}
	for _, bad := range []string{"1.5", "{}", "[1]", "99999999999999999999"} {
		var v setting.Value
		if json.Unmarshal([]byte(bad), &v) == nil {
			t.Errorf("%s was taken for the value %v", bad, v)
		}
	}
}

// TestEqualAndOrderAndIdentityAgree compares many values with each other: they are Equal exactly
// when Compare says 0 and when their identities are the same bytes, and Compare is the same in both
// directions.
func TestEqualAndOrderAndIdentityAgree(t *testing.T) {
	file := func(sum, name string) setting.Value {
		return setting.FileValue(setting.File{SHA256: sum, Name: name, Size: 3})
	}
	row := func(name string, v setting.Value) setting.Value { return setting.TableValue([]setting.Row{{name: v}}) }
	values := []setting.Value{
		{}, setting.BoolValue(false), setting.BoolValue(true), setting.IntegerValue(0), setting.IntegerValue(1), setting.IntegerValue(-1),
		setting.TextValue(""), setting.TextValue("1"), setting.TextValue("true"), setting.ListValue(nil), setting.ListValue([]string{}),
		setting.ListValue([]string{""}), setting.ListValue([]string{"", ""}), setting.ListValue([]string{"ab"}),
		setting.ListValue([]string{"a", "b"}), setting.ListValue([]string{"b", "a"}), setting.TableValue(nil),
		file("aa", "one"), file("aa", "another"), file("bb", "one"),
		row("a", setting.TextValue("1")), row("a", setting.IntegerValue(1)), row("b", setting.TextValue("1")),
		row("a", file("aa", "one")), row("a", file("aa", "another")), row("a", file("bb", "one")),
	}
	for _, v := range values {
		for _, w := range values {
			equal := v.Equal(w)
			if order := v.Compare(w); equal != (order == 0) || order != -w.Compare(v) {
				t.Errorf("%v and %v: equal %v, but Compare is %d, and %d the other way round", v, w, equal, order, w.Compare(v))
			}
			if same := string(v.AppendIdentity(nil)) == string(w.AppendIdentity(nil)); equal != same {
				t.Errorf("%v and %v: equal %v, but the same identity %v", v, w, equal, same)
			}
		}
	}
}
