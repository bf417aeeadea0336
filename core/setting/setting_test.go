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
