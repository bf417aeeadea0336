package report_test

import (
	"strings"
	"testing"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/review"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/dictionary"
	"zenithridge.example/zridge/formats/report"
)

type shipped map[setting.ID]*setting.Definition

func (s shipped) Definition(id setting.ID) *setting.Definition { return s[id] }

func definitions() shipped {
	out := shipped{}
	all := dictionary.Shipped().Settings
	for i := range all {
		out[all[i].ID] = &all[i]
	}
	return out
}

// TestTextsOfPeopleStayTexts puts marks of both languages into a page, and finds none of them in
// force.
func TestTextsOfPeopleStayTexts(t *testing.T) {
	hostile := "a *b* _c_ `d` [e](https://f.example) <script>alert(1)</script> | g\n# h"
	d := &report.Document{
		Title: hostile,
		Blocks: []report.Block{
			report.Heading(hostile),
			report.Paragraph(hostile),
			report.List{hostile},
			report.Table{Header: []string{hostile}, Rows: [][]string{{hostile}}},
		},
	}
	page := d.HTML()
	if strings.Contains(page, "<script>") || strings.Count(page, "&lt;script&gt;") != 7 {
		t.Errorf("the page runs what people typed:\n%s", page)
	}
	text := d.Markdown()
	for _, mark := range []string{"*b*", "_c_", "`d`", "[e](", "<script>", " | g", "\n# h"} {
		if strings.Contains(strings.ReplaceAll(text, `\`+mark[:1], ""), mark) && strings.Contains(text, mark) &&
			!strings.Contains(text, `\`+mark) {
			t.Errorf("%q is in force in\n%s", mark, text)
		}
	}
	for line := range strings.SplitSeq(text, "\n") {
		if strings.HasPrefix(line, "|") && strings.Count(strings.ReplaceAll(line, `\|`, ""), "|") != 2 {
			t.Errorf("a row has other cells than one: %s", line)
		}
	}
}

func TestValuesInWords(t *testing.T) {
	defs := definitions()
	for _, c := range []struct {
		id   setting.ID
		v    setting.Value
		want string
	}{
		{"media.camera", setting.BoolValue(false), "off"}, {"media.camera", setting.BoolValue(true), "on"},
		{"screen.lock_after_minutes", setting.IntegerValue(15), "15 minutes"},
		{"disk.encryption.scope", setting.TextValue("whole-disk"), "whole disk"},
		{"signin.banner", setting.TextValue("Hello"), "“Hello”"}, {"browser.blocked_sites", setting.ListValue([]string{"a", "b"}), "a, b"},
		{"browser.blocked_sites", setting.ListValue(nil), "none"}, {"media.camera", setting.Value{}, "nothing"},
		{"network.wireless", setting.TableValue([]setting.Row{{"name": setting.TextValue("Larkfell"),
			"join": setting.BoolValue(true)}}), "name of the network “Larkfell”, joins by itself on"},
		{"applications.control_rules", setting.FileValue(setting.File{SHA256: strings.Repeat("ab", 32), Name: "r.json"}),
			"the file r.json (sha256 abababababab)"},
	} {
		if got := report.Value(defs[c.id], c.v); got != c.want {
			t.Errorf("%s: %q, expected %q", c.id, got, c.want)
		}
	}
	if got := report.Value(nil, setting.IntegerValue(3)); got != "3" {
		t.Errorf("a value of no definition: %q", got)
	}
	if got := report.Entry(
		defs["media.camera"],
		&estate.Entry{Value: setting.BoolValue(false), Lock: true, Note: "quiet"},
	); got != "off, locked (quiet)" {
		t.Errorf("an entry: %q", got)
	}
	for n, want := range map[int]string{0: "0 policies", 1: "1 policy", 2: "2 policies"} {
		if got := report.Counted(n, "policy"); got != want {
			t.Errorf("%d: %q", n, got)
		}
	}
}

func TestFactsInWords(t *testing.T) {
	defs := definitions()
	for id, want := range map[setting.ID]string{
		"screen.lock_after_minutes": "the lower number", "media.camera": "is used: off", "disk.encryption.required": "is used: on",
		"disk.startup.pin_length": "the higher number", "applications.control": "the later of off, audit, enforce",
		"browser.blocked_sites": "adds up", "browser.account_domains": "every policy lists", "signin.banner": "closest to the laptop",
	} {
		if got := report.Combines(defs[id]); !strings.Contains(got, want) {
			t.Errorf("%s combines by %q, expected %q", id, got, want)
		}
	}
	if got := report.Support(defs["signin.web"]); got != "windows from 11.2 (workstation), linux from 13" {
		t.Error(got)
	}
	if got := report.Support(defs["media.camera"]); got != "every platform with a camera" {
		t.Error(got)
	}
	if got := report.LackingWords(
		review.Lacking{setting.LowVersion: 3, setting.NoPlatform: 1},
	); got != "4 laptops are not supported (1 by platform, 3 by version)" {
		t.Error(got)
	}
	if got := report.LackingWords(review.Lacking{setting.OtherEdition: 1}); got != "1 laptop is not supported (1 by edition)" {
		t.Error(got)
	}
}

// TestEveryCombineRuleHasASentence leaves no rule without words.
func TestEveryCombineRuleHasASentence(t *testing.T) {
	for _, rule := range setting.Combines() {
		if text := report.Combine(rule); len(text) < len("the lowest is used") {
			t.Errorf("%s is said as %q", rule, text)
		}
	}
}

// TestEveryFindingHasASentence says each kind of finding, and leaves none as its code.
func TestEveryFindingHasASentence(t *testing.T) {
	defs := definitions()
	camera := []setting.ID{"media.camera"}
	for want, f := range map[string]review.Finding{
		"It is wrong":                {Kind: review.WrongAlone, Message: "It is wrong"},
		"It is wrong (on 3 laptops)": {Kind: review.WrongAlone, Message: "It is wrong", Devices: 3, Reached: 5},
		"together with base it is in order on " +
			"all 5 laptops": {Kind: review.WrongAlone, Message: "It is wrong", Reached: 5, Beside: []estate.PolicyID{"base"}},
		"together with other policies it is in order on all": {Kind: review.WrongAlone, Message: "It is wrong", Reached: 5},
		"‘Camera’ will be off, whatever is set here":         {Kind: review.ForcedValue, Settings: camera, Value: setting.BoolValue(false)},
		"more than one purpose (network and " +
			"trust; updates)": {Kind: review.ManyPurposes, Groups: []review.Purpose{{Areas: []string{"network", "trust"}},
			{Areas: []string{"updates"}}}},
		"“a.b” is nearly “a.c”":                             {Kind: review.NearlyKnown, Found: "a.b", Known: "a.c"},
		"“a.b” in ‘Camera’ was typed by hand":               {Kind: review.TypedByHand, Settings: camera, Found: "a.b"},
		"the management node “./a” is set by p, q as well":  {Kind: review.SamePath, Found: "./a", Beside: []estate.PolicyID{"p", "q"}},
		"supported by none of the platforms of this policy": {Kind: review.OtherSystems, Settings: []setting.ID{"applications.permissions"}},
		"This policy is for everyone: 1 laptop":             {Kind: review.ReachesAll, Devices: 1},
	} {
		if got := report.FindingWords(f, defs); !strings.Contains(got, want) {
			t.Errorf("%s: %q, expected %q", f.Kind, got, want)
		}
	}
	for _, c := range []struct {
		is   report.Meeting
		want string
	}{
		{report.Meeting{review.Conflicts, 0, 6, 7, 0, 0}, "conflicts with house-rules on 6, overrides house-rules on 7"},
		{report.Meeting{review.Adds, 4, 0, 0, 0, 0}, "adds to house-rules on 4"},
		{report.Meeting{review.Repeats, 4, 0, 0, 1, 0}, "is overridden by house-rules on 1, sets the same as house-rules on 4"},
		{report.Meeting{review.Repeats, 0, 0, 0, 1, 0}, "sets the same, is overridden by house-rules on 1"},
		{report.Meeting{review.Neither, 0, 0, 0, 0, 3}, "neither is in effect on 3"},
		{report.Meeting{review.Apart, 0, 0, 0, 0, 0}, ""},
	} {
		if got := c.is.With("house-rules"); got != c.want {
			t.Errorf("%s: %q, expected %q", c.is.Relation, got, c.want)
		}
	}
}
