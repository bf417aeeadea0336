package e2e

import (
	"context"
	"net/url"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/endpoint"
	"zenithridge.example/zridge/formats/wire"
)

// identities enrols the first laptops of the estate.
func identities(t testing.TB, api *client.Client, count int) []endpoint.Identity {
	t.Helper()
	devices, err := client.All[wire.Device](context.Background(), api, "/devices", nil)
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	serials := map[string]string{}
	for _, d := range devices[:count] {
		names = append(names, d.ID)
		serials[d.ID] = d.Serial
	}
	codes, err := client.Post[[]wire.EnrolmentCode](context.Background(), api, "/enrolment-codes", map[string]any{"devices": names})
	if err != nil {
		t.Fatal(err)
	}
	ids := make([]endpoint.Identity, len(codes))
	for i, c := range codes {
		if ids[i], err = endpoint.Enrol(context.Background(), endpoint.Client(4), api.Base, c.Code, c.Device, serials[c.Device]); err != nil {
			t.Fatal(err)
		}
	}
	return ids
}

// fleetOf enrols the first laptops of the estate and lets them check in until the test ends.
func fleetOf(t *testing.T, api *client.Client, count int, interval time.Duration, shares endpoint.Shares) {
	t.Helper()
	ctx, stop := context.WithCancel(context.Background())
	ids := identities(t, api, count)
	done := make(chan struct{})
	go func() {
		defer close(done)
		(&endpoint.Fleet{Base: api.Base, Interval: interval, Shares: shares}).Run(ctx, ids)
	}()
	t.Cleanup(func() { stop(); <-done })
}

// TestTheWholeJobInTheConsole does the job once: sees the company, writes a policy, says who gets
// it, settles a conflict, publishes, and asks a laptop why.
func TestTheWholeJobInTheConsole(t *testing.T) {
	t.Parallel()
	r, api := withDemo(t)
	fleetOf(t, api, 240, 3*time.Second, endpoint.Shares{Refusing: 3, Wrong: 2})
	await(t, "the laptops have checked in", func() bool {
		o, err := client.Get[wire.Overview](context.Background(), api, "/overview", nil)
		return err == nil && o.NeverSeen == 0 && o.Statuses.Pending == 0
	})
	p := newPage(t, r.address)
	p.goTo("/")
	p.shows("Know what every laptop gets")
	p.signIn()
	p.shows("Conflicts to decide")
	p.shows("A startup PIN is required")

	p.link("Devices")
	p.shows("240 laptops")
	p.shows("LT-0001")
	p.choose("State", "conflict")
	p.shows("laptops that fit")
	p.fill("Search devices", "LT-0107")
	p.shows("No laptop fits")
	p.link("Show all devices")
	p.shows("240 laptops")

	p.goTo("/devices/LT-0110")
	p.shows("Lock the screen after minutes without use")
	p.button("Why Lock the screen")
	p.shows("overridden by the exception")
	p.button("Why Encryption method of the system")
	p.shows("weaker than ‘field-encryption’")
	p.shot("device-why")

	// A new policy: nobody gets it at first.
	p.goTo("/policies")
	p.shows("33 policies")
	p.link("New policy")
	p.shows("One purpose, a name and a reason")
	p.fill("Name", "Quiet cameras on the bridge")
	p.fill("Why", "Watch officers asked for it")
	p.button("Begin")
	p.shows("Nothing is set yet")
	p.fill("Add a setting", "webcam")
	p.shows("With it off no program can use the built-in camera")
	p.key(kb.Enter)
	p.choose("Camera", "false")
	p.fill("Add a setting", "copy to usb")
	p.shows("set in contractors-no-usb")
	p.key(kb.Enter)
	p.choose("USB sticks and disks", "block")
	p.shows("0 of 240 laptops")
	p.fill("Gets it: add", "group:bridge-laptops")
	p.key(kb.Enter)
	p.shows("12\nof 240 laptops")
	p.shows("Saved in the open change")
	p.shows("also set in")
	p.shows("laptops differ")

	// A fault is said at once and keeps nothing.
	p.fill("Add a setting", "screen goes off")
	p.shows("Presentations and running measurements")
	p.key(kb.Enter)
	p.fill("Lock the screen after minutes", "5000")
	p.shows("expected a whole number from 1 to 1440 (minutes)")
	p.shows("Not saved")
	p.fill("Lock the screen after minutes", "10")
	p.shows("Saved in the open change")
	p.shot("policy-editor")
	p.fill("Only when", `device.os == `)
	p.shows("Not saved")
	p.fill("Only when", `device.os == "linux"`)
	p.shows("condition not true")

	// The conflict: the effect is shown before the ruling is kept.
	p.link("Conflicts")
	p.shows("Banner text before sign-in")
	p.mark("section", "Banner text before sign-in")
	p.do("preferring the banner of people on call", chromedp.Click(chromedp.CSS("section[data-marked] .grid > div:nth-child(2) button")))
	p.shows("Conflict cleared")
	p.fill("Reason", "The night watch is always there")
	p.shot("conflict-settle")
	p.button("Put it into the change")
	p.shows("Which change does this go into?") // the open change is about something else
	if got := p.focused(); got != "button Cancel" {
		t.Errorf("the question begins on %q", got)
	}
	p.button("Put it into ‘Quiet cameras on the bridge’")
	p.shows("conflict cleared")

	// The change: what it does, then live.
	p.link("Look at the impact")
	p.shows("What it does to what is live")
	p.shows("Before → after")
	p.theme("night-watch")
	p.shot("change-impact-dark")
	p.theme("chart")
	p.button("Publish …")
	p.button("Publish (values")
	p.shows("live as revision 2")

	// The laptops take it, and one of them says why.
	bridge := ""
	await(t, "a bridge laptop has its camera off", func() bool {
		found, err := client.All[wire.Device](context.Background(), api, "/devices", url.Values{"group": {"bridge-laptops"}})
		if err != nil {
			return false
		}
		for _, d := range found {
			if page, err := client.Get[wire.DevicePage](
				context.Background(),
				api,
				"/devices/"+d.ID,
				nil,
			); err == nil && d.OS == "linux" &&
				d.Revision == "2" {
				for _, x := range page.Deliveries {
					if x.Setting == "media.camera" && x.Status == "applied" && !x.Reported.Bool() {
						bridge = d.ID
						return true
					}
				}
			}
		}
		return false
	})
	p.goTo("/devices/" + bridge)
	p.button("Why Camera")
	p.shows("in effect")
	p.shows("quiet-cameras-on-the-bridge")
	p.button("Why USB sticks and disks")
	p.shows("overridden: set closer by ‘quiet-cameras-on-the-bridge’")
	p.shot("device-why")
	p.goTo("/audit-log")
	p.shows("publish: create")
}
