// This file rolls changes out to laptops that check in over the protocol.

package service_test

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/endpoint"
	"zenithridge.example/zridge/formats/wire"
)

// fleetOf is a service with six laptops, of which two are pilots.
func fleetOf(t *testing.T, behaviour map[int]endpoint.Behaviour) (*client.Client, []*endpoint.Laptop, []*endpoint.Memory) {
	t.Helper()
	api := bare(t)
	var devices []string
	for i := range 6 {
		devices = append(devices, fmt.Sprintf(`{"id":"L%d","serial":"S%d","os":"linux","os_version":"12"}`, i, i))
	}
	publishEstate(t, api, `{"units":[{"id":"r"}],"devices":[`+strings.Join(devices, ",")+`],
	 "groups":[{"id":"pilots","of":"devices","members":["L0","L1"]}],
	 "policies":[{"id":"p","kind":"security","settings":{"screen.lock_after_minutes":15},"audience":{"include":["everyone"]}}],
	 "rollout_plans":[{"id":"usual","default":true,"waves":[{"id":"pilots","who":{"include":["group:pilots"]},"enough":50},{"id":"rest","rest":true}],"stop":{"failed":60}}]}`)
	var laptops []*endpoint.Laptop
	var memories []*endpoint.Memory
	for i := range 6 {
		l, m := enrolled(t, api, fmt.Sprintf("L%d", i), fmt.Sprintf("S%d", i), behaviour[i])
		checkIn(t, l)
		laptops, memories = append(laptops, l), append(memories, m)
	}
	return api, laptops, memories
}

// policyChange opens a change with the one policy at another value.
func policyChange(t *testing.T, api *client.Client, minutes int) wire.Change {
	t.Helper()
	change := posted[wire.Change](t, api, "/changes", wire.NewChange{Title: fmt.Sprintf("Lock after %d minutes", minutes)})
	body := fmt.Sprintf(`{"id":"p","kind":"security","settings":{"screen.lock_after_minutes":%d},"audience":{"include":["everyone"]}}`, minutes)
	if _, err := api.Call(t.Context(), http.MethodPut, client.Path("changes", change.ID, "edits", "policies", "p"), nil,
		[]byte(body), nil); err != nil {
		t.Fatal(err)
	}
	return change
}

// minutesOf lists what laptops have.
func minutesOf(memories []*endpoint.Memory) string {
	var out []string
	for _, m := range memories {
		out = append(out, m.Reported()[setting.ID("screen.lock_after_minutes")].String())
	}
	return strings.Join(out, " ")
}

// TestARolloutOverTheProtocol sends a change to pilots, then to all, as their check-ins allow.
func TestARolloutOverTheProtocol(t *testing.T) {
	t.Parallel()
	api, laptops, memories := fleetOf(t, nil)
	change := policyChange(t, api, 9)
	published := posted[wire.Published](t, api, client.Path("changes", change.ID, "publish"), wire.PublishRequest{})
	if published.Rollout != change.ID || published.Revision != 0 {
		t.Fatalf("published %+v", published)
	}
	path := client.Path("rollouts", change.ID)
	for i := 5; i > 0; i-- { // L0 is left out: half of the pilots are enough
		checkIn(t, laptops[i])
	}
	if got := minutesOf(memories); got != "15 9 15 15 15 15" {
		t.Errorf("laptops have %s", got)
	}
	until(t, api, path, func(r wire.Rollout) bool { return r.Waves[1].OpenedAt != nil })
	if coming := get[[]wire.Coming](t, api, "/devices/L4/rollouts"); len(coming) != 1 || !coming[0].Gets || coming[0].State != "due" {
		t.Errorf("coming to L4: %+v", coming)
	}
	for _, l := range laptops[1:] {
		checkIn(t, l)
	}
	until(t, api, path, func(r wire.Rollout) bool { return r.Progress == "finished" && r.Revision > 0 })
	checkIn(t, laptops[0])
	if got := minutesOf(memories); got != "9 9 9 9 9 9" {
		t.Errorf("laptops have %s", got)
	}
	if is := get[wire.Change](t, api, client.Path("changes", change.ID)); is.State != "published" {
		t.Errorf("the change is %s", is.State)
	}
	if out := checkIn(t, laptops[3]); out.Applied+out.Refused != 0 {
		t.Errorf("a laptop that has all is sent more: %+v", out)
	}
}

// TestARolloutThatPilotsRefuse stops, says why, and is taken back.
func TestARolloutThatPilotsRefuse(t *testing.T) {
	t.Parallel()
	api, laptops, memories := fleetOf(t, nil)
	for _, m := range memories[:2] {
		m.Behaviour = endpoint.RefusingAll
	}
	change := policyChange(t, api, 9)
	posted[wire.Published](t, api, client.Path("changes", change.ID, "publish"), wire.PublishRequest{})
	path := client.Path("rollouts", change.ID)
	for _, l := range laptops {
		checkIn(t, l)
	}
	r := until(t, api, path, func(r wire.Rollout) bool { return r.Progress == "stopped" })
	if r.Reason != "failed" || len(r.Reasons) != 1 || r.Reasons[0].Laptops != 2 || r.Waves[1].OpenedAt != nil {
		t.Errorf("stopped with %+v", r)
	}
	failed := get[wire.Page[wire.RolloutLaptop]](t, api, path+"/laptops?state=failed")
	var ids []string
	for _, l := range failed.Items {
		ids = append(ids, l.Device)
	}
	if !slices.Equal(ids, []string{"L0", "L1"}) {
		t.Errorf("failed: %v", ids)
	}
	posted[wire.Rollout](t, api, path+"/acts", wire.RolloutAct{Act: "take-back"})
	for _, m := range memories[:2] {
		m.Behaviour = endpoint.Ordinary
	}
	for _, l := range laptops {
		checkIn(t, l)
	}
	until(t, api, path, func(r wire.Rollout) bool { return r.Progress == "taken-back" })
	if got := minutesOf(memories); got != "15 15 15 15 15 15" {
		t.Errorf("laptops have %s", got)
	}
	if _, err := client.Post[wire.Rollout](t.Context(), api, path+"/acts",
		wire.RolloutAct{Act: "resume"}); statusOf(err) != http.StatusConflict {
		t.Errorf("a rollout that is over goes on: %v", err)
	}
}

// TestALaptopIsToldToCheckIn holds a connection as a laptop does: it is told when somebody asks and when a
// wave opens for it.
func TestALaptopIsToldToCheckIn(t *testing.T) {
	t.Parallel()
	api, laptops, _ := fleetOf(t, nil)
	told := make(chan struct{}, 10)
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	held := endpoint.New(api.Base, &http.Client{}, laptops[0].Identity, nil)
	go func() { ended <- held.Listen(ctx, func() { told <- struct{}{} }) }()
	for { // until the service has the connection
		if is := posted[wire.Told](t, api, "/devices/L0/check-in", nil); is.Told {
			break
		}
	}
	<-told
	if is := posted[wire.Told](t, api, "/devices/L3/check-in", nil); is.Told {
		t.Error("a laptop that holds no connection was told")
	}
	change := policyChange(t, api, 9)
	posted[wire.Published](t, api, client.Path("changes", change.ID, "publish"), wire.PublishRequest{})
	<-told // the pilots' wave opened
	laptops[0].Told = true
	checkIn(t, laptops[0])
	stranger := laptops[1].Identity
	stranger.Secret += "x"
	if err := endpoint.New(api.Base, &http.Client{}, stranger, nil).Listen(ctx, func() {}); err == nil ||
		!strings.Contains(err.Error(), "401") {
		t.Errorf("a stranger listens: %v", err)
	}
	stop()
	<-ended
	if _, err := client.Post[wire.Told](t.Context(), api, "/devices/nobody/check-in", nil); statusOf(err) != http.StatusNotFound {
		t.Errorf("an unknown laptop: %v", err)
	}
}

// TestWhoIsAskedForAReview asks people who are no accounts and people who may not approve: the change stays
// open, and what was found is named.
func TestWhoIsAskedForAReview(t *testing.T) {
	t.Parallel()
	api, _, _ := fleetOf(t, nil)
	for name, role := range map[string]string{"tomas": "author", "mairi": "approver"} {
		account := wire.NewAccount{Chosen: true, Name: name, Password: "a long enough password", Role: role}
		if _, err := api.Call(t.Context(), http.MethodPost, "/accounts", nil, account, nil); err != nil {
			t.Fatal(err)
		}
	}
	change := policyChange(t, api, 9)
	path := client.Path("changes", change.ID, "review")
	_, err := client.Post[wire.Review](t.Context(), api, path, wire.SendForReview{Reviewers: []string{"mairi", "tomas", "nobody"}})
	p, _ := err.(*wire.Problem)
	if p == nil || p.Status != http.StatusUnprocessableEntity || len(p.Faults) != 2 || p.Faults[0].Path != "/reviewers/1" ||
		p.Faults[1].Path != "/reviewers/2" {
		t.Fatalf("sent to people who may not approve: %+v", err)
	}
	r, err := client.Get[wire.Review](t.Context(), api, path, nil)
	if err != nil || r.Change.State != "open" {
		t.Errorf("the change is %s, %v", r.Change.State, err)
	}
	if r := posted[wire.Review](t, api, path, wire.SendForReview{Reviewers: []string{"mairi"}}); r.Change.State != "in-review" {
		t.Errorf("sent to an approver, the change is %s", r.Change.State)
	}
}

// TestListsOfThePast: rollouts, grants and objects are told as they were at a moment, whatever has happened
// since, and what is no moment of the past is refused.
func TestListsOfThePast(t *testing.T) {
	t.Parallel()
	api, _, _ := fleetOf(t, nil)
	posted[wire.Account](t, api, "/accounts", wire.NewAccount{Chosen: true, Name: "lena", Password: "a password of lena"})
	given := posted[wire.Grant](t, api, "/grants", wire.NewGrant{Account: "lena", Role: "author"})
	before := time.Now().UTC().Format(time.RFC3339Nano)
	change := policyChange(t, api, 9)
	posted[wire.Published](t, api, client.Path("changes", change.ID, "publish"), wire.PublishRequest{})
	path := client.Path("rollouts", change.ID)
	if _, err := api.Call(t.Context(), http.MethodDelete, client.Path("grants", given.ID), nil, nil, nil); err != nil {
		t.Fatal(err)
	}
	if then, now := get[[]wire.Rollout](t, api, "/rollouts?at="+before), get[[]wire.Rollout](t, api, "/rollouts"); len(then) != 0 ||
		len(now) != 1 {
		t.Errorf("%d rollouts before it was published, %d after", len(then), len(now))
	}
	grants := func(query string) (n int) {
		for _, g := range get[[]wire.Grant](t, api, "/grants"+query) {
			if g.Account == "lena" && g.Role == "author" && g.Counts {
				n++
			}
		}
		return n
	}
	if then, now := grants("?at="+before), grants(""); then != 1 || now != 0 {
		t.Errorf("lena had the role %d times then and %d times now", then, now)
	}
	if o := get[wire.Object](t, api, "/estate/policies/p?at="+before); !strings.Contains(string(o.Body), "15") || o.Version != 1 {
		t.Errorf("the policy was %s, version %d", o.Body, o.Version)
	}
	for _, wrong := range []string{path + "?at=soon", "/rollouts?at=2200-01-01", "/grants?at=yesterday", path + "?at=" + before,
		"/estate/policies/q?at=" + before} {
		if _, err := api.Call(t.Context(), http.MethodGet, wrong, nil, nil, nil); err == nil {
			t.Errorf("%s was answered", wrong)
		}
	}
}
