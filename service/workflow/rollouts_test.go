package workflow_test

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/rollout"
	. "zenithridge.example/zridge/service/workflow"
)

// mara edits, piet approves, and both may do everything else.
var (
	mara = Actor{Name: "mara", Via: "console", Held: access.Held{Everywhere: access.Of(access.All...)}, Roles: []string{"author"}}
	piet = Actor{Name: "piet", Via: "console", Held: access.Held{Everywhere: access.Of(access.All...)}, Roles: []string{"approver"}}
)

// TestAChangeGoesOutInWaves goes from pilots over half of the laptops to everybody, with a restart of the
// service after every step.
func TestAChangeGoesOutInWaves(t *testing.T) {
	t.Parallel()
	c := companyOf(t, tenLaptops)
	change := c.edits(nine)
	p := c.publishes(change)
	if p.Rollout.ID != change || p.Revision != 0 {
		t.Fatalf("published %+v, expected a rollout", p)
	}
	revision := c.Live().Revision
	step := func(when, minutes, progress string) {
		t.Helper()
		for _, restarted := range []string{"", " after a restart"} {
			c.expect(when+restarted, c.gets("minutes"), minutes)
			v := c.is(change)
			c.expect(when+restarted, v.Progress, progress)
			c.restart()
		}
	}
	step("with pilots", "9 9 15 15 15 15 15 15 15 15", "running")
	c.checksIn("D0")
	c.checksIn("D1")
	c.expect("reported", c.has("minutes"), "9 9 15 15 15 15 15 15 15 15")
	for range 23 { // pilots check in each hour: they would be lost otherwise
		c.passes(time.Hour)
		c.heard("D0", "D1")
	}
	if c.is(change).Ready {
		t.Error("the pilots' day is not over, and the next wave is ready")
	}
	c.passes(time.Hour)
	if !c.is(change).Ready {
		t.Error("the pilots' day is over, and the next wave is not ready")
	}
	step("a day later", "9 9 15 15 15 15 15 15 15 15", "running")
	c.acts(change, rollout.Go)
	gets := c.gets("minutes")
	if strings.Count(gets, "9") != 7 || strings.Count(gets, "15") != 3 {
		t.Errorf("with half: %s", gets)
	}
	step("with half", gets, "running")
	for i := range 10 {
		c.checksIn(fmt.Sprintf("D%d", i))
	}
	c.expect("with everybody", c.gets("minutes"), "9 9 9 9 9 9 9 9 9 9")
	if c.Live().Revision != revision {
		t.Error("a rollout that has not finished has a revision")
	}
	for i := range 10 {
		c.checksIn(fmt.Sprintf("D%d", i))
	}
	step("in the end", "9 9 9 9 9 9 9 9 9 9", "finished")
	if c.Live().Revision != revision+1 {
		t.Errorf("revision %d, expected %d", c.Live().Revision, revision+1)
	}
	body, version, err := c.Object(t.Context(), ines, estate.KindPolicy, "lock")
	if err != nil || version != 2 || !strings.Contains(body, "9") {
		t.Errorf("%s, version %d, %v", body, version, err)
	}
	is, _, _, err := c.Change(t.Context(), ines, change)
	if err != nil || is.State != Published || is.Revision != revision+1 {
		t.Errorf("the change is %+v, %v", is, err)
	}
	events, err := c.RolloutEvents(t.Context(), ines, change, 0, false, 100)
	var told []string
	for _, e := range slices.Backward(events) {
		told = append(told, e.What+" "+e.Wave+e.To)
	}
	c.expect("what happened", strings.Join(told, ", "), "state running, opened pilots, opened half, opened rest, state finished")
	if err != nil {
		t.Error(err)
	}
}

// TestASessionOutlivesItsRollout ends rollouts while laptops are in a session: what they get does not go back
// to what was before.
func TestASessionOutlivesItsRollout(t *testing.T) {
	t.Parallel()
	for end, want := range map[rollout.Act]string{rollout.Finish: "9 9 9 9 9 9 9 9 9 9", rollout.TakeBack: "15 15 15 15 15 15 " +
		"15 15 15 15"} {
		c := companyOf(t, tenLaptops)
		change := c.edits(nine)
		c.publishes(change)
		c.checksIn("D0")
		before := c.Live()
		c.expect("the pilots", c.getsOf(before, "minutes"), "9 9 15 15 15 15 15 15 15 15")
		c.acts(change, end)
		for i := range 10 {
			c.checksIn(fmt.Sprintf("D%d", i))
		}
		c.passes(time.Second)
		if p := c.is(change).Progress; p != "finished" && p != "taken-back" {
			t.Fatalf("after %s the rollout is %s", end, p)
		}
		c.expect("in a session that began before "+string(end), c.getsOf(before, "minutes"), want)
	}
}

// TestARolloutStopsAndIsTakenBack has a pilot refuse the change.
func TestARolloutStopsAndIsTakenBack(t *testing.T) {
	t.Parallel()
	c := companyOf(t, tenLaptops)
	change := c.edits(nine)
	c.publishes(change)
	c.checksIn("D0", "minutes")
	v := c.is(change)
	c.expect("a pilot failed", v.Progress+" "+v.Rollout.Reason, "stopped failed")
	if len(v.Reasons) != 1 || v.Reasons[0].Reason != "Minutes: not allowed on this laptop" {
		t.Errorf("reasons %v", v.Reasons)
	}
	c.expect("the other pilot keeps what it had", c.gets("minutes"), "9 15 15 15 15 15 15 15 15 15")
	var refused *RefusedActError
	if _, err := c.Act(t.Context(), piet, change, ActInput{Act: rollout.Go}); !errors.As(err, &refused) {
		t.Errorf("a stopped rollout goes on: %v", err)
	}
	c.acts(change, rollout.Resume)
	c.expect("resumed", c.gets("minutes"), "9 9 15 15 15 15 15 15 15 15")
	c.checksIn("D1")
	c.acts(change, rollout.TakeBack)
	c.expect("taken back", c.gets("minutes"), "15 15 15 15 15 15 15 15 15 15")
	c.expect("taken back, not by all", c.is(change).Progress, "taking-back")
	c.restart()
	if got := c.is(change).Counts; got["taken"] != 1 || got["failed"] != 1 {
		t.Errorf("still to come: %v", got)
	}
	// Other changes go on meanwhile, but none of the same policy.
	other := c.publishes(c.edits(`{"id":"words","kind":"security","settings":{"banner":"good day"},"audience":{"include":["everyone"]}}`))
	if other.Rollout.StartedAt == nil {
		t.Error("a change of another policy waits")
	}
	same := c.publishes(c.edits(strings.Replace(nine, "9", "7", 1)))
	if same.Rollout.StartedAt != nil || len(same.WaitsFor) != 1 || !slices.Equal(same.WaitsFor[0].Objects, []string{"policies/lock"}) {
		t.Errorf("a change of the same policy: %+v", same)
	}
	c.checksIn("D0")
	c.checksIn("D1")
	c.expect("all have what they had", c.is(change).Progress, "taken-back")
	c.expect("as it was", c.has("minutes"), "15 15 15 15 15 15 15 15 15 15")
	is, _, _, _ := c.Change(t.Context(), ines, change)
	c.expect("the change", is.State, ChangeTakenBack)
	c.expect("what waited starts", c.is(same.Rollout.ID).Progress, "running")
	c.expect("what waited reaches pilots", c.gets("minutes"), "7 7 15 15 15 15 15 15 15 15")
	_, version, err := c.Object(t.Context(), ines, estate.KindPolicy, "lock")
	if err != nil || version != 2 {
		t.Errorf("version %d, %v", version, err)
	}
}

// TestSeveralRolloutsAtOnce has laptops get any combination of two changes.
func TestSeveralRolloutsAtOnce(t *testing.T) {
	t.Parallel()
	c := companyOf(t, tenLaptops)
	first := c.edits(nine)
	c.publishes(first)
	words := c.edits(`{"id":"words","kind":"security","settings":{"banner":"good day"},"audience":{"include":["unit:labs"]}}`)
	plan := estate.DefaultPlan()
	half := estate.DefaultWave("half", estate.ByShare)
	half.Share = 50_00
	plan.Waves = []estate.Wave{half}
	plan.ID = "own"
	if _, err := c.Publish(t.Context(), mara, words, PublishInput{Expected: -1, Own: &plan}); err != nil {
		t.Fatal(err)
	}
	c.restart()
	// The second change takes the banner from laptops of the root and alters it in the labs.
	banners := c.gets("banner")
	if strings.Count(banners, "hello") != 5 {
		t.Errorf("banners %s, expected half of them as they were", banners)
	}
	c.expect("minutes", c.gets("minutes"), "9 9 15 15 15 15 15 15 15 15")
	for i := range 10 {
		c.checksIn(fmt.Sprintf("D%d", i))
	}
	c.expect("the second goes on by itself", c.gets("banner"),
		`nothing "good day" nothing "good day" nothing "good day" nothing "good day" nothing "good day"`)
	for i := range 10 {
		c.checksIn(fmt.Sprintf("D%d", i))
	}
	c.expect("the second has finished", c.is(words).Progress, "finished")
	c.expect("the first has not", c.is(first).Progress+" "+c.gets("minutes"), "running 9 9 15 15 15 15 15 15 15 15")
	coming, err := c.ComingTo(t.Context(), ines, "D5")
	if err != nil || len(coming) != 1 || coming[0].State != "waiting" || len(coming[0].Settings) != 1 ||
		coming[0].Settings[0].Setting != "minutes" {
		t.Errorf("coming to D5: %+v, %v", coming, err)
	}
	c.restart()
	c.expect("after a restart", c.gets("minutes"), "9 9 15 15 15 15 15 15 15 15")
}

// TestWhatIsPublishedAtOnceDuringARollout must hold on every laptop, whichever wave it is in.
func TestWhatIsPublishedAtOnceDuringARollout(t *testing.T) {
	t.Parallel()
	c := companyOf(t, tenLaptops)
	made := c.edits(`{"id":"new","kind":"security","settings":{"minutes":5},"audience":{"include":["everyone"]}}`)
	c.publishes(made)
	ruling, err := c.NewChange(t.Context(), mara, "A ruling about the new policy", "")
	if err != nil {
		t.Fatal(err)
	}
	body := `{"id":"x","setting":"minutes","prefer":"new","over":"lock","reason":"it is newer"}`
	if _, err := c.PutEdit(t.Context(), mara, ruling.ID, EditInput{Kind: estate.KindRuling, ID: "x", Body: []byte(body),
		Expected: -1}); err != nil {
		t.Fatal(err)
	}
	var waits *WaitsError
	if _, err := c.Publish(t.Context(), mara, ruling.ID, PublishInput{Expected: -1, AtOnce: true}); !errors.As(err, &waits) ||
		waits.For[0].Rollout != made {
		t.Errorf("a ruling about a policy that is not everywhere yet: %v", err)
	}
	words := c.edits(`{"id":"words","kind":"security","settings":{"banner":"at once"},"audience":{"include":["everyone"]}}`)
	if _, err := c.Publish(t.Context(), mara, words, PublishInput{Expected: -1, AtOnce: true}); err != nil {
		t.Fatal(err)
	}
	c.expect("banner", c.gets("banner"), strings.TrimSpace(strings.Repeat(`"at once" `, 10)))
	c.expect("minutes", c.gets("minutes"), "5 5 15 15 15 15 15 15 15 15")
	c.restart()
	c.expect("banner after a restart", c.gets("banner"), strings.TrimSpace(strings.Repeat(`"at once" `, 10)))
	if s := c.Live().Resolution.State("minutes", "D9"); s.Value.String() != "5" {
		t.Errorf("what will be live has minutes %v", s)
	}
}

// TestPlansThatCannotStart are refused with what was expected.
func TestPlansThatCannotStart(t *testing.T) {
	t.Parallel()
	c := companyOf(t, tenLaptops)
	narrow := c.edits(`{"id":"one","kind":"security","settings":{"minutes":4},"audience":{"include":["device:D7"]}}`)
	_, err := c.Publish(t.Context(), mara, narrow, PublishInput{Expected: -1})
	if err == nil || !strings.Contains(err.Error(), "no laptop for wave") {
		t.Errorf("an empty first wave: %v", err)
	}
	var missing *NotFoundError
	if _, err := c.Publish(t.Context(), mara, narrow, PublishInput{Expected: -1, Plan: "never"}); !errors.As(err, &missing) {
		t.Errorf("an unknown plan: %v", err)
	}
	all := estate.DefaultPlan()
	p, err := c.Publish(t.Context(), mara, narrow, PublishInput{Expected: -1, Own: &all})
	if err != nil || p.Rollout.StartedAt == nil {
		t.Errorf("a plan of one wave: %v", err)
	}
	nothing := c.edits(`{"id":"words","title":"A better title","kind":"security","settings":{"banner":"hello"},"audience":{"include":["everyone"]}}`)
	c.publishes(nothing)
	c.passes(time.Second)
	c.expect("a change that touches no laptop", c.is(nothing).Progress, "finished")
}

// TestSomebodyOfOneUnitRollsOut has somebody with every right for the labs alone: they send, publish and act on what
// concerns the labs alone, and see of other rollouts the laptops of the labs.
func TestSomebodyOfOneUnitRollsOut(t *testing.T) {
	t.Parallel()
	c := companyOf(t, tenLaptops)
	ctx := t.Context()
	noor := Actor{Name: "noor", Via: "console", Held: access.Held{Units: map[string]access.Rights{"labs": access.Of(access.All...)}}}
	var outside *access.OutsideError

	everybody := c.edits(nine)
	if _, err := c.Publish(ctx, noor, everybody, PublishInput{Expected: -1}); !errors.As(err, &outside) {
		t.Errorf("publishes for everybody: %v", err)
	}
	c.publishes(everybody)
	for _, act := range []rollout.Act{rollout.Go, rollout.Pause, rollout.Finish, rollout.TakeBack} {
		if _, err := c.Act(ctx, noor, everybody, ActInput{Act: act}); !errors.As(err, &outside) {
			t.Errorf("%s on a rollout for everybody: %v", act, err)
		}
	}
	list, err := c.RolloutLaptops(ctx, noor, everybody, "", "")
	if err != nil || len(list) != 5 {
		t.Errorf("sees %d laptops of the rollout, %v; expected the five of the labs", len(list), err)
	}
	for _, l := range list {
		if !strings.ContainsAny(l.Device, "13579") {
			t.Errorf("sees %s, which is not in the labs", l.Device)
		}
	}

	change, err := c.NewChange(ctx, noor, "Quiet labs", "")
	if err != nil {
		t.Fatal(err)
	}
	body := `{"id":"quiet","kind":"security","priority":5,"settings":{"banner":"quiet please"},"audience":{"include":["unit:labs"]}}`
	if _, err := c.PutEdit(ctx, noor, change.ID, EditInput{Kind: estate.KindPolicy, ID: "quiet", Body: []byte(body),
		Expected: -1}); err != nil {
		t.Fatal(err)
	}
	half := estate.DefaultPlan()
	first := estate.DefaultWave("first", estate.ByShare)
	first.Share = 40_00
	half.Waves = []estate.Wave{first}
	if err := c.SendForReview(ctx, noor, change.ID, nil); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Publish(ctx, noor, change.ID, PublishInput{Expected: -1, Own: &half}); err != nil {
		t.Fatal(err)
	}
	if v, err := c.Act(ctx, noor, change.ID, ActInput{Act: rollout.Go}); err != nil || v.Progress != "running" {
		t.Errorf("opens the next wave for the labs: %s, %v", v.Progress, err)
	}
	if _, err := c.Act(ctx, noor, change.ID, ActInput{Act: rollout.TakeBack}); err != nil {
		t.Errorf("takes back what is for the labs: %v", err)
	}
}
