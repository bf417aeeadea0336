package e2e

import (
	"path/filepath"
	"testing"
)

// TestTheDemo starts the demo as a newcomer does, and looks at its past and at its real laptop.
func TestTheDemo(t *testing.T) {
	t.Parallel()
	r := started(t, "Stop", "demo", "--listen", "127.0.0.1:0", "--folder", filepath.Join(t.TempDir(), "demo"), "--interval", "3s")
	t.Run("Past", func(t *testing.T) { theDemoHasAPast(t, r) })
	t.Run("RealLaptop", func(t *testing.T) { theDemoHasARealLaptop(t, r) })
}

// theDemoHasAPast finds on the first pages what the demo's nine days left: a rollout in its second wave, one that stopped
// and says why, and a change that waits for the reader's approval.
func theDemoHasAPast(t *testing.T, r *running) {
	p := newPage(t, r.address)
	p.signInAs(adminName, "larkfell-demo")
	p.shows("Rollouts under way")
	p.shows("stopped")
	p.shot("overview")

	p.link("No printing")
	p.shows("It stopped by itself")
	p.shows("Printing: not supported by the laptop")
	p.shot("rollout")
	p.goTo("/rollouts")
	p.link("Screens lock after ten minutes")
	p.shows("fifth")
	p.shows("foreseen")

	p.goTo("/changes")
	p.shows("in review")
	p.link("USB sticks for the tide laboratory")
	p.shows("Nobody has decided yet")
	p.shot("review")
	p.button("Approve …")
	p.button("Approve")
	p.shows("met")

	// How laptops came to be encrypted, day by day, and who can open their keys.
	p.goTo("/coverage")
	p.shows("Safe in the harbour office")
	p.shows("that policies want encrypted are")
	p.shot("coverage")

	p.goTo("/devices/LT-0001/past")
	p.shows("Reported by the laptop")

	// A day ago, on every page that has a past. Nothing can be altered there.
	p.goTo("/rollouts")
	p.button("Now")
	p.button("Show")
	p.shows("Nothing can be altered")
	p.shows("Screens lock after ten minutes")
	p.goTo("/policies/battery-care")
	p.shows("As it was on")
	p.shows("You may look, not edit")
	p.goTo("/accounts")
	p.shows("Grants at that moment")
	p.goTo("/devices/LT-0001")
	p.link("This laptop at that moment")
	p.shows("Reported by the laptop")
	p.button("Back to now")
	p.goTo("/policies/battery-care")
	p.shows("overridden by a policy")
	p.button("Retire")
}
