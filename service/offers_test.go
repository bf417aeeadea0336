// This file lets people take and leave at their laptops what is offered to them.

package service_test

import (
	"fmt"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/endpoint"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
)

const (
	comfort = `{"id":"comfort","title":"Large type","why":"Easier to read.","kind":"configuration","offered":true,"settings":{"screen.lock_after_minutes":3,"signin.banner":"Hello"},"audience":{"include":["everyone"],"exclude":["device:L2"]}}`
	lock    = `{"id":"lock","kind":"security","settings":{"screen.lock_after_minutes":15},"audience":{"include":["device:L1"]}}`
)

// offering is a service that offers a policy to two laptops of three.
func offering(t *testing.T, database string) *client.Client {
	t.Helper()
	api := over(t, database)
	publishEstate(t, api, `{"units":[{"id":"r"}],"devices":[
	 {"id":"L0","serial":"S0","os":"linux","os_version":"12"},{"id":"L1","serial":"S1","os":"linux","os_version":"12","taken":["comfort"]},
	 {"id":"L2","serial":"S2","os":"linux","os_version":"12"}],
	 "policies":[`+comfort+`,`+lock+`]}`)
	return api
}

func offersOf(t *testing.T, api *client.Client, device string) string {
	t.Helper()
	page := get[wire.DevicePage](t, api, "/devices/"+device)
	out := []string{fmt.Sprint("tells:", page.Tells)}
	for _, o := range page.Offers {
		out = append(out, fmt.Sprintf("%s taken:%t said:%t", o.Policy, o.Taken, o.Since != nil))
	}
	return strings.Join(out, ", ")
}

// reachOfComfort gives how many laptops get the offered policy, and on how many it was not taken.
func reachOfComfort(t *testing.T, api *client.Client) (gets, notTaken int) {
	t.Helper()
	answer := posted[wire.AudienceAnswer](
		t, api, "/audience", wire.AudienceTrial{Offered: "comfort", Audience: files.AudienceDoc{Include: []string{"everyone"},
			Exclude: []string{"device:L2"}}},
	)
	return answer.Reach.Gets.Count, answer.Reach.NotTaken.Count
}

// TestPeopleTakeWhatIsOffered: what a person takes at a laptop is there in the session in which the laptop
// says so, and gone when it is left. It never wins against what is enforced.
func TestPeopleTakeWhatIsOffered(t *testing.T) {
	t.Parallel()
	api := offering(t, filepath.Join(t.TempDir(), "z.db"))
	revision := get[wire.Overview](t, api, "/overview").Revision
	l0, m0 := enrolled(t, api, "L0", "S0", "")
	l1, m1 := enrolled(t, api, "L1", "S1", "")
	l2, m2 := enrolled(t, api, "L2", "S2", "")
	if got := offersOf(t, api, "L1"); got != "tells:false, comfort taken:true said:false" {
		t.Errorf("before it checked in, L1: %s", got)
	}
	for _, l := range []*endpoint.Laptop{l0, l1, l2} {
		checkIn(t, l)
	}
	shown := m0.Offers()["comfort"]
	if len(m0.Offers()) != 1 || shown.Title != "Large type" || shown.Description != "Easier to read." || len(m2.Offers()) != 0 {
		t.Errorf("L0 shows %v, L2 %v", m0.Offers(), m2.Offers())
	}
	if got := offersOf(t, api, "L1"); got != "tells:true, comfort taken:false said:false" {
		t.Errorf("once it tells, L1: %s", got)
	}
	if m2.Choose("comfort", true) {
		t.Error("L2 could take what is not offered on it")
	}

	lockAfter, banner := setting.ID("screen.lock_after_minutes"), setting.ID("signin.banner")
	m0.Choose("comfort", true)
	m1.Choose("comfort", true)
	checkIn(t, l0)
	checkIn(t, l1)
	taken := time.Now().UTC() // some milliseconds after it was taken, and before it is left
	if v := m0.Reported(); v[lockAfter].Integer() != 3 || v[banner].Text() != "Hello" {
		t.Errorf("L0 took it and has %v", v)
	}
	if v := m1.Reported(); v[lockAfter].Integer() != 15 || v[banner].Text() != "Hello" {
		t.Errorf("L1 took it besides an enforced one and has %v", v)
	}
	if got := offersOf(t, api, "L0"); got != "tells:true, comfort taken:true said:true" {
		t.Errorf("L0: %s", got)
	}
	if gets, not := reachOfComfort(t, api); gets != 2 || not != 0 {
		t.Errorf("%d get it, %d have not taken it", gets, not)
	}

	m0.Choose("comfort", false)
	checkIn(t, l0)
	if v := m0.Reported(); len(v) != 0 {
		t.Errorf("L0 left it and has %v", v)
	}
	if after := get[wire.Overview](t, api, "/overview").Revision; after != revision {
		t.Errorf("the revision went from %d to %d", revision, after)
	}
	// The past knows what was taken when.
	past := get[wire.Past](t, api, "/devices/L0/past?at="+taken.Format(time.RFC3339Nano))
	if len(past.Settings) != 2 {
		t.Errorf("when it had taken it, L0 had %+v", past.Settings)
	}
	audit := get[[]wire.AuditRecord](t, api, "/audit?kind=devices&limit=100")
	var said []string
	for _, r := range slices.Backward(audit) {
		if strings.HasSuffix(r.Action, "offered policy") {
			said = append(said, r.Action+" "+r.ID+" "+r.By)
		}
	}
	want := []string{"leave offered policy L1 L1", "take offered policy L0 L0", "take offered policy L1 L1", "leave offered policy L0 L0"}
	if !slices.Equal(said, want) {
		t.Errorf("recorded %q", said)
	}
}

// TestWhatWasTakenOutlivesARestart: what laptops said is there again, stands against edits, and is not taken
// away by an import of what was exported before.
func TestWhatWasTakenOutlivesARestart(t *testing.T) {
	t.Parallel()
	database := filepath.Join(t.TempDir(), "z.db")
	t.Run("before", func(t *testing.T) {
		api := offering(t, database)
		l0, m0 := enrolled(t, api, "L0", "S0", "")
		checkIn(t, l0)
		m0.Choose("comfort", true)
		checkIn(t, l0)
	})
	api := again(t, database)
	if got := offersOf(t, api, "L0"); got != "tells:true, comfort taken:true said:true" {
		t.Errorf("after a restart: %s", got)
	}
	change := posted[wire.Change](t, api, "/changes", wire.NewChange{Title: "Another model"})
	put := func(body string) error {
		_, err := api.Call(t.Context(), http.MethodPut, client.Path("changes", change.ID, "edits", "devices", "L0"), nil, []byte(body), nil)
		return err
	}
	if err := put(`{"id":"L0","serial":"S0","os":"linux","os_version":"12","model":"m2"}`); err == nil ||
		!strings.Contains(err.Error(), "taken") {
		t.Errorf("an edit of what its person took was answered with %v", err)
	}
	if err := put(`{"id":"L0","serial":"S0","os":"linux","os_version":"12","model":"m2","taken":["comfort"]}`); err != nil {
		t.Fatal(err)
	}
	posted[wire.Published](t, api, client.Path("changes", change.ID, "publish"), wire.PublishRequest{})
	result := posted[wire.ImportResult](t, api, "/imports",
		[]byte(`{"units":[{"id":"r"}],"devices":[{"id":"L0","serial":"S0","os":"linux","os_version":"12","model":"m3"}]}`))
	posted[wire.Published](t, api, client.Path("changes", result.Change, "publish"), wire.PublishRequest{})
	page := get[wire.DevicePage](t, api, "/devices/L0")
	if page.Device.Model != "m3" || !page.Offers[0].Taken {
		t.Errorf("after an import: model %s, offers %+v", page.Device.Model, page.Offers)
	}
}

// TestManyTakeAtOnce: laptops that say at the same time what was taken are all heard.
func TestManyTakeAtOnce(t *testing.T) {
	t.Parallel()
	api := bare(t)
	const n = 24
	var devices []string
	for i := range n {
		devices = append(devices, fmt.Sprintf(`{"id":"L%d","serial":"S%d","os":"linux","os_version":"12"}`, i, i))
	}
	publishEstate(t, api, `{"units":[{"id":"r"}],"devices":[`+strings.Join(devices, ",")+`],"policies":[`+
		strings.ReplaceAll(comfort, `,"exclude":["device:L2"]`, "")+`]}`)
	var wait sync.WaitGroup
	memories := make([]*endpoint.Memory, n)
	for i := range n {
		l, m := enrolled(t, api, fmt.Sprintf("L%d", i), fmt.Sprintf("S%d", i), "")
		memories[i] = m
		wait.Go(func() {
			for range 2 {
				if _, err := l.CheckIn(t.Context()); err != nil {
					t.Error(err)
				}
				m.Choose("comfort", i%2 == 1)
			}
		})
	}
	wait.Wait()
	for i, m := range memories {
		if has := len(m.Reported()) > 0; has != (i%2 == 1) {
			t.Errorf("L%d has %v", i, m.Reported())
		}
	}
	if gets, not := reachOfComfort(t, api); gets != n/2 || not != n/2-1 {
		t.Errorf("%d get it, %d have not taken it", gets, not)
	}
}

// TestOffersInShortMessages: a laptop whose messages are as short as may be is shown all offers, with
// descriptions that fit.
func TestOffersInShortMessages(t *testing.T) {
	t.Parallel()
	api := bare(t)
	var policies []string
	for i := range 40 {
		policies = append(policies, fmt.Sprintf(
			`{"id":"offer-%02d","title":"Offer %d","why":%q,"kind":"configuration","offered":true,"settings":{"signin.banner":"b"},"audience":{"include":["everyone"]}}`,
			i, i, strings.Repeat("A reason with <marks> & more. ", 40),
		))
	}
	publishEstate(t, api, `{"units":[{"id":"r"}],"devices":[{"id":"L0","serial":"S0","os":"linux","os_version":"12"}],"policies":[`+
		strings.Join(policies, ",")+`]}`)
	l, m := enrolled(t, api, "L0", "S0", "")
	l.Longest = 2 << 10
	checkIn(t, l)
	if len(m.Offers()) != 40 || !strings.HasPrefix(m.Offers()["offer-07"].Description, "A reason with <marks> &") {
		t.Errorf("it shows %d offers, such as %+v", len(m.Offers()), m.Offers()["offer-07"])
	}
	publishEstate(t, api, `{"units":[{"id":"r"}],"policies":[`+strings.Replace(policies[0], `"offered":true,`, "", 1)+`]}`)
	checkIn(t, l)
	if _, still := m.Offers()["offer-00"]; still || len(m.Offers()) != 39 || m.Reported()["signin.banner"].Text() != "b" {
		t.Errorf("once it is enforced, %d are shown and the laptop has %v", len(m.Offers()), m.Reported())
	}
}
