package files_test

import (
	"slices"
	"testing"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/dictionary"
	"zenithridge.example/zridge/formats/files"
)

const small = "units: [{id: r}]\ngroups: [{id: pilots, of: devices}, {id: board, of: people}]\n"

// TestPlansAndRulesGoThereAndBack writes plans and rules out of what was read: the same text comes back,
// and what has its default is left out.
func TestPlansAndRulesGoThereAndBack(t *testing.T) {
	for _, c := range []struct {
		kind estate.Kind
		text string
	}{
		{estate.KindRolloutPlan, `{"id":"usual","title":"Pilots first","default":true,"waves":[` +
			`{"id":"pilots","who":{"include":["group:pilots"],"when":"device.os == \"linux\""},"least":"24h","enough":95},` +
			`{"id":"fifth","share":2.5,"least":"2d","go":"by-hand"},{"id":"everybody","rest":true}],"stop":{"failed":4,"lost":2},` +
			`"hours":[{"days":["mon","thu"],"from":"09:00","to":"24:00"}],"zone":"Europe/Lisbon","silent_after":"7d","lost_after":"90m"}`},
		{estate.KindRolloutPlan, `{"id":"all-at-once"}`},
		{estate.KindApprovalRule, `{"id":"many","title":"More than a few","when":"change.laptops > 10 || change.share > 1.0","approvals":2,` +
			`"from":"group:board","reason":"the change board decides"}`},
		{estate.KindApprovalRule, `{"id":"weaker","when":"change.weaker > 0 \u0026\u0026 \"policies\" in change.kinds","approvals":1}`},
	} {
		object, _, err := files.DecodeJSON(c.kind, []byte(c.text))
		if err != nil {
			t.Errorf("%s: %v", c.text, err)
			continue
		}
		again, err := files.EncodeJSON(object)
		twice, _, err2 := files.DecodeJSON(c.kind, again)
		if err != nil || err2 != nil {
			t.Errorf("%s: %v, %v", again, err, err2)
			continue
		}
		last, _ := files.EncodeJSON(twice)
		if string(last) != string(again) || len(again) > len(c.text) {
			t.Errorf("found %s, then %s, expected %s", again, last, c.text)
		}
	}
}

func TestBrokenPlansAndRules(t *testing.T) {
	for name, c := range map[string]struct {
		text string
		want []string
	}{
		"in order": {"rollout_plans: [{id: a, waves: [{id: p, who: {include: ['group:pilots']}}]}]\n" +
			"approval_rules: [{id: r, when: 'change.edits > 0', from: 'group:board'}]\n", nil},
		"two defaults": {
			"rollout_plans: [{id: a, default: true}, {id: b, default: true}]\n", []string{"a.yaml:3:58 either-or"},
		},
		"a group that is not there": {
			"rollout_plans: [{id: a, waves: [{id: p, who: {include: ['group:nobody']}}]}]\n", []string{"a.yaml:3:57 unknown-reference"},
		},
		"a share above 100": {"rollout_plans: [{id: a, waves: [{id: p, share: 101}]}]\n", []string{"a.yaml:3:48 out-of-range"}},
		"two rests": {"rollout_plans: [{id: a, waves: [{id: p, rest: true}, {id: q, rest: true}]}]\n",
			[]string{"a.yaml:3:33 misplaced-field"}},
		"an unknown zone":  {"rollout_plans: [{id: a, zone: Larkfell/Harbour}]\n", []string{"a.yaml:3:31 not-one-of"}},
		"too long":         {"rollout_plans: [{id: a, silent_after: 1000000000d}]\n", []string{"a.yaml:3:39 out-of-range"}},
		"no time at all":   {"rollout_plans: [{id: a, silent_after: 0d}]\n", []string{"a.yaml:3:39 out-of-range"}},
		"no condition":     {"approval_rules: [{id: r}]\n", []string{"a.yaml:3:18 missing-field"}},
		"an unknown field": {"approval_rules: [{id: r, when: 'change.size > 1'}]\n", []string{"a.yaml:3:32 bad-expression"}},
		"no approvals":     {"approval_rules: [{id: r, when: 'true', approvals: 0}]\n", []string{"a.yaml:3:51 out-of-range"}},
		"laptops approve":  {"approval_rules: [{id: r, when: 'true', from: 'group:pilots'}]\n", []string{"a.yaml:3:46 bad-target"}},
		"nobody's role":    {"approval_rules: [{id: r, when: 'true', from: 'the board'}]\n", []string{"a.yaml:3:46 bad-target"}},
	} {
		if got := faultsOf(t, folderOf(t, "a.yaml", small+c.text)); !slices.Equal(got, c.want) {
			t.Errorf("%s: found %q, expected %q", name, got, c.want)
		}
	}
	if s, err := files.Read(folderOf(t, "a.yaml", small), dictionary.Shipped()); err != nil || len(s.RolloutPlans) != 0 {
		t.Errorf("an estate without plans: %v", err)
	}
}
