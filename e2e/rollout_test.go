package e2e

import (
	"context"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/endpoint"
	"zenithridge.example/zridge/formats/wire"
)

// wavePlan has a first wave of the laptops that check in and a second one that a person opens.
const wavePlan = `rollout_plans:
  - id: careful
    title: Ten laptops, then everybody
    default: true
    waves:
      - {id: ten, who: {include: [everyone]}, enough: 1}
      - {id: others, rest: true, go: by-hand}
    silent_after: 1d
approval_rules:
  - id: second-look
    title: A second look
    when: change.laptops > 3
    reason: Somebody else looks first.
`

// withPlan gives a service with the demo estate, a plan whose first wave has the laptops that check
// in, an approval rule, and an author who may neither approve nor publish.
func withPlan(t *testing.T) (*running, *client.Client, wire.NewAccount) {
	t.Helper()
	r, api := withDemo(t)
	fleetOf(t, api, 10, 500*time.Millisecond, endpoint.Shares{})
	page, err := client.Get[wire.Page[wire.Device]](context.Background(), api, "/devices", nil)
	if err != nil {
		t.Fatal(err)
	}
	var targets []string
	for _, d := range page.Items[:10] {
		targets = append(targets, `"device:`+d.ID+`"`)
	}
	change := strings.TrimSpace(r.must("change", "new", "How changes go out"))
	r.must("change", "edit", change, written(t, "plans.yaml", strings.ReplaceAll(wavePlan, "everyone", strings.Join(targets, ", "))))
	r.must("change", "publish", change, "--yes")
	author := wire.NewAccount{Chosen: true, Name: "lena.brandt", Password: "a lantern in the fog", Role: "author"}
	if _, err := api.Call(context.Background(), http.MethodPost, "/accounts", nil, author, nil); err != nil {
		t.Fatal(err)
	}
	return r, api, author
}

// signInAs signs somebody in on a page.
func (p *page) signInAs(name, password string) {
	p.t.Helper()
	p.goTo("/")
	p.fill("Name", name)
	p.fill("Password", password)
	p.button("Sign in")
	p.shows("On the laptops")
}

// TestFromPublishingToRollout has an author send a change for review, a second person approve and
// publish it, its first wave taken by laptops, the second opened by a person, and the whole taken
// back. Every page on the way is checked for accessibility.
func TestFromPublishingToRollout(t *testing.T) {
	t.Parallel()
	r, api, author := withPlan(t)
	ctx := context.Background()
	data, err := os.ReadFile("../console/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Fatalf("axe-core is not installed (make console): %v", err)
	}
	axe := string(data)

	lena := newPage(t, r.address)
	lena.signInAs(author.Name, author.Password)
	writes := &client.Client{Base: r.address}
	token, err := writes.SignIn(ctx, author.Name, author.Password, "tests", 1)
	if err != nil {
		t.Fatal(err)
	}
	writes.Token = token.Secret
	change, err := client.Post[wire.Change](ctx, writes, "/changes", wire.NewChange{Title: "Who finds a laptop",
		Why: "Two were found this year."})
	if err != nil {
		t.Fatal(err)
	}
	message := `{"id":"lost-and-found","title":"Message for whoever finds a laptop","kind":"configuration",` +
		`"settings":{"screen.lost_message":"Found it? Call +44 1632 960 145"},"audience":{"include":["everyone"]}}`
	if p, _ := call(t, writes, http.MethodPut, client.Path("changes", change.ID, "edits", "policies", "lost-and-found"), message); p != nil {
		t.Fatal(p)
	}
	lena.goTo("/changes/" + change.ID)
	lena.shows("A second look: 1 approval")
	lena.button("Send for review …")
	lena.shows("The change is frozen")
	lena.checkAccess("sending for review", axe)
	lena.button("Send for review")
	lena.shows("Nobody has decided yet")
	lena.until("the author can neither approve nor publish",
		`![...document.querySelectorAll('main button')].some((b) => /^(Approve|Publish)/.test(b.innerText))`)

	boss := newPage(t, r.address)
	boss.signIn()
	boss.shows("Who finds a laptop") // it waits for a decision, on the overview
	boss.goTo("/changes/" + change.ID)
	boss.shows("214 laptops, 89.2 % of the estate")
	boss.fill("Comment", "The number is of the harbour office. Is it staffed at night?")
	boss.ticked("must be resolved")
	boss.button("Comment")
	boss.shows("resolve")
	boss.checkAccess("a change in review", axe)
	lena.shows("Is it staffed at night?")
	lena.fill("Comment", "It is, by the watch.")
	lena.button("Comment")
	boss.shows("It is, by the watch.")
	boss.button("Resolve the comment of " + adminName)
	boss.shows("resolved by " + adminName)
	boss.button("Approve …")
	boss.fill("Note for the record", "Agreed with the office.")
	boss.checkAccess("approving", axe)
	boss.button("Approve")
	boss.shows("A second look: 1 approval, met")
	lena.shows("Agreed with the office.")

	boss.button("Publish …")
	boss.shows("ten 10 laptops")
	boss.shows("others 204 laptops")
	boss.checkAccess("publishing by a plan", axe)
	boss.button("Publish, and begin with the first wave")
	boss.shows("Open ‘others’")
	boss.shows("The wave ‘others’ is ready") // ten laptops have checked in and taken it, seen without loading again
	boss.checkAccess("a rollout", axe)
	lena.goTo("/devices/LT-0001")
	lena.shows("Who finds a laptop")
	lena.goTo("/devices/LT-0200")
	lena.shows("gets it with the wave ‘others’")

	boss.button("Open ‘others’")
	boss.shows("204 laptops of the wave ‘others’ get the change at their next check-in")
	boss.fill("Why", "The office is staffed.")
	boss.button("Open ‘others’")
	boss.until("the wave is open", `!document.querySelector('main').innerText.includes('is ready')`)
	boss.button("Take back …")
	boss.shows("10 laptops that have the change get what they had before")
	boss.fill("Why", "The number changes next week.")
	boss.button("Take back")
	boss.shows("taken back")
	lena.goTo("/changes/" + change.ID)
	lena.shows("taken back")
	await(t, "the laptop has again what it had", func() bool {
		page, err := client.Get[wire.DevicePage](ctx, api, "/devices/LT-0001", nil)
		if err != nil {
			return false
		}
		for _, d := range page.Deliveries {
			if d.Setting == "screen.lost_message" && (d.Status != "applied" || strings.HasPrefix(d.Reported.Text(), "Found it?")) {
				return false
			}
		}
		return true
	})

	for path, shows := range map[string]string{
		"/rollouts": "taken back", "/rollouts/plans": "Ten laptops, then everybody",
		"/rollouts/plans/careful": "When it stops, and when waves open",
		"/changes/rules":          "A second look", "/devices/LT-0001/past?at=" + time.Now().UTC().Format(time.RFC3339): "Property of Larkfell",
	} {
		boss.goTo(path)
		boss.shows(shows)
		boss.checkAccess(path, axe)
	}
}

// TestSomebodyOfOneUnitRollsOutInTheConsole has two people who may do things for one unit alone review,
// publish and take back a change for that unit. What goes to other units they can neither publish nor stop.
func TestSomebodyOfOneUnitRollsOutInTheConsole(t *testing.T) {
	t.Parallel()
	r, api, _ := withPlan(t)
	ctx := context.Background()
	const password = "a lantern in the fog"
	for name, roles := range map[string][]string{"noor": {"author", "publisher"}, "piet": {"approver"}} {
		if _, err := api.Call(ctx, http.MethodPost, "/accounts", nil, wire.NewAccount{Chosen: true, Name: name, Password: password}, nil); err != nil {
			t.Fatal(err)
		}
		for _, role := range roles {
			if _, err := api.Call(ctx, http.MethodPost, "/grants", nil, wire.NewGrant{Account: name, Role: role, Unit: "slipway"}, nil); err != nil {
				t.Fatal(err)
			}
		}
	}
	put := func(writes *client.Client, change, include string) {
		t.Helper()
		body := `{"id":"found-` + change[2:] + `","title":"Who finds a laptop","kind":"configuration","settings":{"screen.lost_message":"Found it? Call +44 1632 960 145"},"audience":{"include":["` + include + `"]}}`
		if p, _ := call(t, writes, http.MethodPut, client.Path("changes", change, "edits", "policies", "found-"+change[2:]), body); p != nil {
			t.Fatal(p)
		}
	}
	writes := &client.Client{Base: r.address}
	token, err := writes.SignIn(ctx, "noor", password, "tests", 1)
	if err != nil {
		t.Fatal(err)
	}
	writes.Token = token.Secret
	own, err := client.Post[wire.Change](ctx, writes, "/changes", wire.NewChange{Title: "Found on the slipway"})
	if err != nil {
		t.Fatal(err)
	}
	put(writes, own.ID, "unit:slipway")
	everybody, err := client.Post[wire.Change](ctx, api, "/changes", wire.NewChange{Title: "Found anywhere"})
	if err != nil {
		t.Fatal(err)
	}
	put(api, everybody.ID, "everyone")

	noor, piet := newPage(t, r.address), newPage(t, r.address)
	noor.signInAs("noor", password)
	piet.signInAs("piet", password)
	noor.goTo("/changes/" + own.ID)
	noor.button("Send for review …")
	noor.button("Send for review")
	noor.shows("Nobody has decided yet")
	piet.goTo("/changes/" + own.ID)
	piet.button("Approve …")
	piet.button("Approve")
	piet.shows("A second look: 1 approval, met")
	noor.button("Publish …")
	noor.shows("others")
	noor.button("Publish, and begin with the first wave")
	noor.shows("The wave ‘others’ is ready")
	noor.button("Open ‘others’")
	noor.fill("Why", "The crew is ashore.")
	noor.button("Open ‘others’")
	noor.until("the wave is open", `!document.querySelector('main').innerText.includes('is ready')`)
	noor.button("Take back …")
	noor.fill("Why", "The number changes.")
	noor.button("Take back")
	noor.shows("taken back")

	// A change for everybody is another's: the service refuses it whatever the page shows.
	noor.goTo("/changes/" + everybody.ID)
	noor.shows("Found anywhere")
	p, _ := call(t, writes, http.MethodPost, client.Path("changes", everybody.ID, "publish"), `{}`)
	if p == nil || p.Status != http.StatusForbidden {
		t.Errorf("publishing for everybody is answered with %v", p)
	}
}

// TestAReviewAndARolloutOnTheCommandLine has two people review, publish, watch, take back and undo changes with
// commands alone.
func TestAReviewAndARolloutOnTheCommandLine(t *testing.T) {
	t.Parallel()
	r, api, author := withPlan(t)
	writer := *r
	writer.config = filepath.Join(t.TempDir(), "author.json")
	if _, errOut, status := writer.run(author.Password+"\n", "sign-in", r.address, "--name", author.Name); status != 0 {
		t.Fatal(errOut)
	}
	policy := written(t, "found.yaml", `policies:
  - id: found
    title: Who finds a laptop
    kind: configuration
    priority: 1000
    settings: {screen.lost_message: "Found it? Call +44 1632 960 145"}
    audience: {include: [everyone]}
`)
	started := time.Now()
	change := strings.TrimSpace(writer.must("change", "new", "Who finds a laptop"))
	writer.must("change", "edit", change, policy)
	if _, errOut, status := writer.run("", "change", "send", change, "--to", author.Name); status != 1 ||
		!strings.Contains(errOut, "who may not approve") {
		t.Errorf("sent to somebody who may not approve: status %d, %s", status, errOut)
	}
	if out := writer.must("change", "send", change, "--to", adminName); !strings.Contains(out, "A second look: 1 approval, missing") {
		t.Errorf("send says\n%s", out)
	}
	if _, errOut, status := writer.run("", "change", "approve", change, "--yes"); status != 1 {
		t.Errorf("the author approves: status %d, %s", status, errOut)
	}
	if _, errOut, status := r.run("", "change", "publish", change, "--yes"); status != 1 || !strings.Contains(errOut, "0 of 1 are there") {
		t.Errorf("published without the approval: status %d, %s", status, errOut)
	}
	if out, _, status := r.run("", "change", "approve", change); status != 2 || !strings.Contains(out, "screen.lost_message") {
		t.Errorf("approve without --yes: status %d\n%s", status, out)
	}
	r.must("change", "comment", change, "Is the number staffed at night?", "--block")
	if _, errOut, status := r.run("", "change", "publish", change, "--yes"); status != 1 ||
		!strings.Contains(errOut, "is to be resolved first") {
		t.Errorf("published with a comment that blocks: status %d, %s", status, errOut)
	}
	r.must("change", "comment", change, "--resolve", "1")
	if out := r.must("change", "approve", change, "--note", "Agreed.", "--yes"); !strings.Contains(out, "1 approval, met") {
		t.Errorf("approve says\n%s", out)
	}
	if out := r.must("change", "publish", change, "--plan", "careful", "--yes"); !strings.Contains(out, "rollout watch "+change) {
		t.Errorf("publish says\n%s", out)
	}
	await(t, "the ten laptops have taken it", func() bool { return strings.Contains(r.must("rollout", "show", change), "10 taken") })
	if out := r.must("rollout", "laptops", change, "--state", "taken"); strings.Count(out, "taken") != 10 {
		t.Errorf("laptops says\n%s", out)
	}
	if out := r.must("explain", "LT-0001", "screen.lost_message"); !strings.Contains(out, change) {
		t.Errorf("explain names no rollout:\n%s", out)
	}
	if out, errOut, status := r.run("", "rollout", "go", change); status != 2 || !strings.Contains(errOut, "say --yes") {
		t.Errorf("go without --yes: status %d\n%s%s", status, out, errOut)
	}
	r.must("rollout", "go", change, "--yes", "--why", "The office is staffed")
	r.must("rollout", "pause", change, "--yes")
	if out, errOut, status := r.run("", "rollout", "go", change, "--yes"); status != 1 || !strings.Contains(errOut, "not possible") {
		t.Errorf("a paused rollout opens a wave: status %d\n%s%s", status, out, errOut)
	}
	r.must("rollout", "resume", change, "--yes")
	r.must("rollout", "finish", change, "--yes")
	await(t, "it is live", func() bool { return strings.Contains(r.must("rollout", "show", change), "finished") })
	events := r.must("rollout", "events", change)
	for _, want := range []string{"wave ten opened with 10 laptops", "by " + adminName + ": The office is staffed", "paused by", "finished"} {
		if !strings.Contains(events, want) {
			t.Errorf("the events lack %q:\n%s", want, events)
		}
	}

	r.must("announcement", "choose", "--mail", "rollout-stopped", "--mail", "review-wanted")
	r.must("announcement", "choose", "--webhook", "none")
	if out := r.must("announcement", "show"); !strings.Contains(out, "by e-mail   review-wanted, rollout-stopped") ||
		!strings.Contains(out, "by webhook  none") {
		t.Errorf("announcements are\n%s", out)
	}
	if _, errOut, status := r.run("", "announcement", "choose", "--mail", "everything"); status != 2 ||
		!strings.Contains(errOut, "exception-lapses") {
		t.Errorf("an unknown topic: status %d, %s", status, errOut)
	}
	if _, errOut, status := r.run("", "announcement", "choose", "--to", "https://hooks.larkfell.example/x"); status != 1 ||
		!strings.Contains(errOut, "allows for webhooks") {
		t.Errorf("a host that is not allowed: status %d, %s", status, errOut)
	}

	// What was before is told with --at.
	before := started.UTC().Format(time.RFC3339Nano)
	if out := r.must("rollout", "list", "--at", before); strings.Contains(out, change) {
		t.Errorf("the rollout was there before it was published:\n%s", out)
	}
	if _, errOut, status := r.run("", "policy", "reach", "found", "--at", before); status != 1 || !strings.Contains(errOut, "found") {
		t.Errorf("the policy was there before it was published: status %d, %s", status, errOut)
	}
	r.must("policy", "reach", "house-rules", "--at", before)
	r.must("problems", "--at", before)
	if out := r.must("grant", "list", "--at", before); !strings.Contains(out, author.Name) {
		t.Errorf("the author had no grant:\n%s", out)
	}
	if _, errOut, status := r.run("", "policy", "show", "found", "--live", "--at", before); status != 2 ||
		!strings.Contains(errOut, "expected one of them") {
		t.Errorf("--live with --at: status %d, %s", status, errOut)
	}

	// A published change is undone by another one, which is reviewed and published as any other.
	out := r.must("change", "undo", change)
	changes, err := client.Get[[]wire.Change](context.Background(), api, "/changes", url.Values{"state": {"open"}})
	if err != nil || len(changes) != 1 {
		t.Fatalf("undo says %s; open changes: %v %v", out, changes, err)
	}
	if out := r.must("change", "impact", changes[0].ID); !strings.Contains(out, "Found it?") {
		t.Errorf("the impact of undoing it:\n%s", out)
	}
	if out, errOut, status := r.run("", "change", "publish", changes[0].ID, "--urgent", "short", "--yes"); status != 1 {
		t.Errorf("published urgently with a short reason: status %d\n%s%s", status, out, errOut)
	}
	r.must("change", "publish", changes[0].ID, "--urgent", "The number is out of order", "--yes")
	if out := r.must("status"); !strings.Contains(out, "its approvals must follow") {
		t.Errorf("status does not say that an approval must follow:\n%s", out)
	}
}
