package rollout_test

import (
	"strings"
	"testing"
	"time"

	"zenithridge.example/zridge/core/outcome"
	. "zenithridge.example/zridge/core/rollout"
	"zenithridge.example/zridge/core/setting"
)

// TestDeliveries walks deliveries through what happens to them. Each step is a word: want:x,
// unwant, conflict, unsupported, report:x, accept:x, refuse, retry, day (a day passes).
func TestDeliveries(t *testing.T) {
	for story, want := range map[string]string{
		"want:a":                          "pending, due",
		"want:a report:a":                 "applied",
		"want:a accept:a":                 "applied",
		"want:a accept:b":                 "failed differs",
		"want:a refuse":                   "failed 425",
		"want:a refuse want:a":            "failed 425",
		"want:a refuse want:b":            "pending, due",
		"want:a refuse retry":             "pending, due",
		"want:a refuse day":               "failed 425, due",
		"want:a refuse report:a":          "applied",
		"want:a refuse report:b":          "failed 425",
		"want:a accept:a report:b":        "pending, due",
		"want:a accept:a report:":         "pending, due",
		"want:a accept:a unwant":          "pending, due",
		"want:a accept:a unwant accept:":  "applied, gone",
		"want:a unwant":                   "applied, gone",
		"want:a accept:a conflict":        "conflict",
		"want:a accept:a conflict want:a": "applied",
		"want:a accept:a conflict want:b": "pending, due",
		"conflict report:a":               "conflict",
		"want:a unsupported":              "unsupported",
		"want:a unsupported want:a":       "pending, due",
		"unsupported unwant":              "applied, gone",
		"want:a accept:b report:a":        "applied",
		"want:a accept:b want:a report:b": "failed differs",
	} {
		now := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
		d := Delivery{Setting: "s"}
		for step := range strings.FieldsSeq(story) {
			now = now.Add(time.Minute)
			word, text, _ := strings.Cut(step, ":")
			value := setting.TextValue(text)
			if text == "" {
				value = setting.Value{}
			}
			switch word {
			case "want":
				d = d.Want(&outcome.Setting{Status: outcome.Set, Value: value}, now)
			case "unwant":
				d = d.Want(nil, now)
			case "conflict":
				d = d.Want(&outcome.Setting{Status: outcome.Conflict}, now)
			case "unsupported":
				d = d.Want(&outcome.Setting{Status: outcome.Unsupported, Reason: setting.LowVersion}, now)
			case "report":
				d = d.Report(value, now)
			case "accept":
				d = d.Accept(value, now)
			case "refuse":
				d = d.Refuse("425", "denied", now)
			case "retry":
				d = d.Retry()
			case "day":
				now = now.Add(RetryAfter)
			}
		}
		got := strings.TrimSpace(string(d.Status) + " " + d.Code)
		if d.Due(now) {
			got += ", due"
		}
		if d.Gone() {
			got += ", gone"
		}
		if got != want {
			t.Errorf("%s: %s, expected %s", story, got, want)
		}
	}
}
