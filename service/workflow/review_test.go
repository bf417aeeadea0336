package workflow_test

import (
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/formats/files"
	. "zenithridge.example/zridge/service/workflow"
)

const withRules = tenLaptops + `
approval_rules:
  - {id: many, title: More than a few, when: 'change.laptops > 5'}
  - {id: weaker, title: Something gets weaker, when: 'change.weaker > 0', approvals: 2}
  - {id: board, title: The board decides about locks, when: '"minutes" in change.settings', from: "group:board"}
`

func (c *company) review(id string, by Actor) *Review {
	c.t.Helper()
	r, err := c.Review(c.t.Context(), by, id)
	if err != nil {
		c.t.Fatal(err)
	}
	return r
}

func (c *company) decides(id string, by Actor, verdict string) error {
	_, err := c.Decide(c.t.Context(), by, id, VerdictInput{Verdict: verdict, Note: "looked at", Digest: c.review(id, by).Looked.Digest})
	return err
}

func missing(r *Review) string {
	var out []string
	for _, d := range r.Missing() {
		out = append(out, d.Rule)
	}
	return strings.Join(out, " ")
}

// noor may approve, and is in no group.
var noor = Actor{Name: "noor", Via: "console", Held: access.Held{Everywhere: access.Of(access.Read, access.Approve)},
	Roles: []string{"approver"}}

// TestNobodyPublishesWithoutTheApprovals goes through all that rules ask of a change.
func TestNobodyPublishesWithoutTheApprovals(t *testing.T) {
	t.Parallel()
	c := companyOf(t, withRules)
	change := c.edits(strings.Replace(nine, "9", "30", 1)) // weaker, on all laptops
	var needs *ApprovalsError
	if _, err := c.Publish(t.Context(), mara, change, PublishInput{Expected: -1}); !errors.As(err, &needs) {
		t.Fatalf("published without review: %v", err)
	}
	c.expect("missing", missing(c.review(change, piet)), "board many weaker")
	if err := c.decides(change, piet, Approves); err == nil {
		t.Error("approved before it was sent for review")
	}
	if err := c.SendForReview(t.Context(), mara, change, []string{"piet"}); err != nil {
		t.Fatal(err)
	}
	var own *OwnEditError
	if err := c.decides(change, mara, Approves); !errors.As(err, &own) {
		t.Errorf("mara approves her own edit: %v", err)
	}
	if err := c.decides(change, noor, Approves); err != nil {
		t.Fatal(err)
	}
	c.expect("noor is not on the board", missing(c.review(change, piet)), "board weaker")
	if err := c.decides(change, piet, Approves); err != nil {
		t.Fatal(err)
	}
	if r := c.review(change, mara); !r.Approved() {
		t.Errorf("two approved, and %s is missing", missing(r))
	}
	if err := c.decides(change, noor, Declines); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Publish(t.Context(), mara, change, PublishInput{Expected: -1}); !errors.As(err, &needs) || len(needs.Declined) != 1 {
		t.Errorf("published though noor declined: %v", err)
	}
	if err := c.decides(change, noor, Approves); err != nil {
		t.Fatal(err)
	}
	said, err := c.Comment(t.Context(), noor, change, CommentInput{Text: "Why 30?", About: "policies/lock", Blocking: true})
	if err != nil {
		t.Fatal(err)
	}
	if c.review(change, mara).Approved() {
		t.Error("approved with a comment that blocks")
	}
	if err := c.ResolveComment(t.Context(), mara, change, said.ID); !errors.As(err, &own) {
		t.Errorf("the author resolves a comment that blocks: %v", err)
	}
	if err := c.ResolveComment(t.Context(), piet, change, said.ID); err != nil {
		t.Fatal(err)
	}
	if p := c.publishes(change); p.Rollout.ID != change {
		t.Errorf("published %+v", p)
	}
	kept := c.review(change, mara)
	if kept.Facts == nil || kept.Facts.Laptops != 10 || len(kept.Demands) != 3 || len(kept.Verdicts) != 2 {
		t.Errorf("once it is published: %+v", kept)
	}
}

// TestAnApprovalIsOfWhatWasLookedAt moves the live estate under an approved change, and edits it.
func TestAnApprovalIsOfWhatWasLookedAt(t *testing.T) {
	t.Parallel()
	c := companyOf(t, tenLaptops+"approval_rules: [{id: all, when: 'true'}]\n")
	change := c.edits(nine)
	if err := errors.Join(c.SendForReview(t.Context(), mara, change, nil), c.decides(change, piet, Approves)); err != nil {
		t.Fatal(err)
	}
	stale := c.review(change, piet).Looked.Digest
	// Another change takes D3 out of the estate's one lock policy.
	without := c.edits(`{"id":"d3","kind":"security","settings":{"minutes":3},"audience":{"include":["device:D3"]}}`)
	reason := "D3 is on the bridge tonight"
	all := estate.DefaultPlan()
	if _, err := c.Publish(t.Context(), mara, without, PublishInput{Expected: -1, Own: &all, Urgent: "short"}); !errors.As(err,
		new(problem.Faults)) {
		t.Errorf("urgent without a reason: %v", err)
	}
	denied := mara
	denied.Held = access.Held{Everywhere: access.Of(access.Read, access.Write, access.Publish)}
	if _, err := c.Publish(t.Context(), denied, without, PublishInput{Expected: -1, Own: &all, Urgent: reason}); !errors.As(err,
		new(*access.DeniedError)) && !errors.As(err, new(*access.OutsideError)) {
		t.Errorf("urgent without the right: %v", err)
	}
	if _, err := c.Publish(t.Context(), mara, without, PublishInput{Expected: -1, AtOnce: true, Urgent: reason}); err != nil {
		t.Fatal(err)
	}
	r := c.review(change, piet)
	if len(r.Verdicts) != 1 || !r.Verdicts[0].Outdated || len(r.Verdicts[0].Differs) != 1 || r.Approved() {
		t.Fatalf("the impact differs: %+v", r.Verdicts)
	}
	if d := r.Verdicts[0].Differs[0]; d.What != "minutes: 15 → 9" || d.Was != 10 || d.Is != 9 {
		t.Errorf("it differs by %+v", d)
	}
	var again *LookAgainError
	if _, err := c.Decide(t.Context(), piet, change, VerdictInput{Verdict: Approves, Digest: stale}); !errors.As(err, &again) {
		t.Errorf("approved with what was looked at before: %v", err)
	}
	if err := c.decides(change, piet, Approves); err != nil || !c.review(change, piet).Approved() {
		t.Errorf("confirmed: %v", err)
	}
	if _, err := c.PutEdit(t.Context(), mara, change, EditInput{Kind: estate.KindPolicy, ID: "lock", Expected: 1,
		Body: []byte(strings.Replace(nine, "9", "8", 1))}); err != nil {
		t.Fatal(err)
	}
	if r := c.review(change, piet); r.Change.State != Open || len(r.Verdicts) != 0 {
		t.Errorf("edited, it is %s with %d verdicts", r.Change.State, len(r.Verdicts))
	}
	// The urgent change waits for its approval afterwards.
	urgent := c.review(without, piet)
	if urgent.Change.Urgent != reason || urgent.Change.ApproveBy == nil || urgent.WhyNot != "" {
		t.Errorf("the urgent change: %+v", urgent.Change)
	}
	if err := c.decides(without, piet, Approves); err != nil || len(c.review(without, piet).Missing()) != 0 {
		t.Errorf("approved afterwards: %v", err)
	}
}

// TestRulesAreTriedOnRecentChanges asks of which changes a rule would have wanted approvals.
func TestRulesAreTriedOnRecentChanges(t *testing.T) {
	t.Parallel()
	c := companyOf(t, tenLaptops)
	small := c.edits(`{"id":"d3","kind":"security","settings":{"minutes":3},"audience":{"include":["device:D3"]}}`)
	large := c.edits(nine)
	if _, err := c.Publish(t.Context(), mara, small, PublishInput{Expected: -1, AtOnce: true}); err != nil {
		t.Fatal(err)
	}
	object, _, err := files.DecodeJSON(estate.KindApprovalRule,
		[]byte(`{"id":"x","when":"change.share > 50.0 && 'policies' in change.kinds"}`))
	if err != nil {
		t.Fatal(err)
	}
	tried, err := c.TryRule(t.Context(), ines, object.(estate.ApprovalRule))
	if err != nil {
		t.Fatal(err)
	}
	var asks []string
	for _, a := range tried {
		if a.Asks {
			asks = append(asks, a.Change.ID)
		}
	}
	if !slices.Contains(asks, large) || slices.Contains(asks, small) || len(tried) != 3 {
		t.Errorf("it asks of %v of %d changes", asks, len(tried))
	}
}

// TestAChangeIsUndoneAsAWhole turns round what nobody altered since, merges what somebody did, and names
// what stays.
func TestAChangeIsUndoneAsAWhole(t *testing.T) {
	t.Parallel()
	c := companyOf(t, tenLaptops)
	atOnce := func(change string) {
		t.Helper()
		if _, err := c.Publish(t.Context(), mara, change, PublishInput{Expected: -1, AtOnce: true}); err != nil {
			t.Fatal(err)
		}
	}
	change := c.edits(nine,
		`{"id":"words","kind":"security","settings":{"banner":"good day"},"audience":{"include":["everyone"]}}`,
		`{"id":"made","kind":"security","settings":{"minutes":4},"audience":{"include":["unit:labs"]}}`)
	atOnce(change)
	atOnce(c.edits(`{"id":"lock","title":"A title since","kind":"security","settings":{"minutes":9},"audience":{"include":["everyone"]}}`))
	u, err := c.Undo(t.Context(), piet, change)
	if err != nil {
		t.Fatal(err)
	}
	var ways []string
	for _, o := range u.Objects {
		ways = append(ways, o.ID+" "+o.Way)
	}
	slices.Sort(ways)
	c.expect("ways", strings.Join(ways, ", "), "lock merged, made retired, words restored")
	atOnce(u.Change)
	c.expect("minutes", c.gets("minutes"), strings.TrimSpace(strings.Repeat("15 ", 10)))
	c.expect("banner", c.gets("banner"), strings.TrimSpace(strings.Repeat(`"hello" `, 10)))
	if p := c.Live().Plan.Policy("lock"); p.Title != "A title since" {
		t.Errorf("what was altered since has the title %q", p.Title)
	}
	if p := c.Live().Plan.Policy("made"); p.State != estate.Retired {
		t.Errorf("what the change made is %s", p.State)
	}
	// A change under way is taken back.
	rolling := c.edits(nine)
	c.publishes(rolling)
	if u, err := c.Undo(t.Context(), piet, rolling); err != nil || !u.TakenBack {
		t.Errorf("undone: %+v, %v", u, err)
	}
	c.passes(time.Second)
	c.expect("nobody had taken it", c.is(rolling).Progress, "taken-back")
}
