package workflow_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/setting"
	. "zenithridge.example/zridge/service/workflow"
)

// then is a setting of a laptop at a moment, in words.
func (c *company) then(device string, at time.Time, id setting.ID) string {
	c.t.Helper()
	p, err := c.PastOf(c.t.Context(), ines, device, at, "")
	if err != nil {
		c.t.Fatal(err)
	}
	for i := range p.Settings {
		s := &p.Settings[i]
		if s.ID != id {
			continue
		}
		reported := "nothing"
		if s.Reported != nil {
			reported = s.Reported.Value.String()
		}
		var by []string
		for _, d := range s.Decisions {
			who := fmt.Sprintf("%s version %d by %s", d.Policy, d.Version, d.By)
			if d.Rollout != "" {
				who = fmt.Sprintf("%s by rollout of %s", d.Policy, d.By)
			}
			for _, a := range d.Approvals {
				who += ", " + a.By + " approved"
			}
			by = append(by, who)
		}
		return fmt.Sprintf("%s (%s), reported %s", s.Value, strings.Join(by, "; "), reported)
	}
	return "not set"
}

// TestTheAuditorsQuestion asks at every moment of a rollout what was decided for a laptop, by whom, and what
// it reported.
func TestTheAuditorsQuestion(t *testing.T) {
	t.Parallel()
	c := companyOf(t, tenLaptops)
	at := func() time.Time { return time.Unix(c.clock.Load(), 0).UTC() }
	began := at()
	c.passes(time.Hour)
	change := c.edits(nine)
	if err := errors.Join(c.SendForReview(t.Context(), mara, change, nil), c.decides(change, piet, Approves)); err != nil {
		t.Fatal(err)
	}
	c.publishes(change)
	published := at()
	c.passes(time.Hour)
	for i := range 10 {
		c.checksIn(fmt.Sprintf("D%d", i))
	}
	c.heard("D0")
	taken := at()
	c.passes(time.Hour)
	c.acts(change, "finish")
	c.passes(time.Minute)
	finished := at()
	c.passes(time.Hour)
	c.checksIn("D5")
	later := at()
	c.restart()
	for _, q := range []struct {
		device string
		at     time.Time
		want   string
	}{
		{"D0", began, "15 (lock version 1 by ines), reported 15"},
		{"D0", published, "9 (lock by rollout of mara, piet approved), reported 15"},
		{"D0", taken, "9 (lock by rollout of mara, piet approved), reported 9"},
		{"D5", taken, "15 (lock version 1 by ines), reported 15"},
		{"D5", finished, "9 (lock version 2 by mara, piet approved), reported 15"},
		{"D5", later, "9 (lock version 2 by mara, piet approved), reported 9"},
		{"D5", began, "15 (lock version 1 by ines), reported 15"},
	} {
		if got := c.then(q.device, q.at, "minutes"); got != q.want {
			t.Errorf("%s at %s: found %s, expected %s", q.device, q.at.Format(time.TimeOnly), got, q.want)
		}
	}
	p, err := c.PastOf(t.Context(), ines, "D0", taken, "security")
	if err != nil || p.Presence == nil || len(p.Reached) != 1 || p.Reached[0] != change {
		t.Errorf("found %+v, %v", p, err)
	}
	v, err := c.ViewAt(t.Context(), ines, began)
	if err != nil || v.Resolution.State("minutes", "D3").Value.String() != "15" {
		t.Errorf("the estate at first: %v", err)
	}
	var outside *access.OutsideError
	scoped := Actor{Name: "noor", Held: access.Held{Units: map[string]access.Rights{"labs": access.Of(access.Read)}}}
	if _, err := c.PastOf(t.Context(), scoped, "D1", taken, ""); !errors.As(err, &outside) {
		t.Errorf("somebody who may read for one unit: %v", err)
	}
	for _, bad := range []string{"soon", "2026-02-30", "2999-01-01", ""} {
		var faults problem.Faults
		if _, err := c.ParseMoment(t.Context(), ines, bad); !errors.As(err, &faults) {
			t.Errorf("the moment %q: %v", bad, err)
		}
	}
}
