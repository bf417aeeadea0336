// This file alters settings on laptops, and looks at what the service says of it.

package service_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"zenithridge.example/zridge/agent/adapter"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/wire"
)

func altered(t *testing.T, root, path, text string) {
	t.Helper()
	if err := os.WriteFile(filepath.Join(root, path), []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

// TestDrift alters settings on a laptop with the agent, with a policy that puts them right and with one that only wants
// to know.
func TestDrift(t *testing.T) {
	t.Parallel()
	e := enrollingWith(t, 0)
	root := laptopFiles(t, "S0")
	a := agentOn(t, root)
	if _, err := a.Enrol(t.Context(), e.identity(t, e.invites(t, wire.NewInvitation{Device: "L0"})[0])); err != nil {
		t.Fatal(err)
	}
	checksIn := func() {
		t.Helper()
		if _, err := a.CheckIn(t.Context(), false); err != nil {
			t.Fatal(err)
		}
	}
	text := func() string { return filesOf(t, root)["/etc/issue"] }
	e.sets(t, map[string]any{"signin.banner": "For work only", "power.lid_battery": "lock"}, nil)
	checksIn()
	report, err := a.Report()
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range report.Settings {
		if s.ID == "signin.banner" && (len(s.Why.Policies) != 1 || s.Why.Policies[0].Title != "Ours" ||
			s.Why.Policies[0].Reason != "As agreed" || s.Why.Title == "" || s.Since.IsZero()) {
			t.Errorf("on the laptop it is shown of the banner: %+v", s)
		}
	}
	if d := get[wire.Drift](t, e.Client, "/drift"); len(d.Records) != 0 {
		t.Errorf("before anything was altered: %+v", d.Records)
	}

	// A package that was installed at the time may have altered it.
	at := time.Now().Format("2006-01-02 15:04:05")
	if err := adapter.WriteFile(filepath.Join(root, "/var/log/dpkg.log"),
		[]byte("2001-01-01 00:00:00 install long-ago:all <none> 1\n"+at+" upgrade banners:all 1 2\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	altered(t, root, "/etc/issue", "Hello\n")
	altered(t, root, "/etc/issue.net", "Hello\n")
	checksIn()
	if text() != "For work only\n" {
		t.Errorf("the banner is %q", text())
	}
	d := get[wire.Drift](t, e.Client, "/drift?device=L0&setting=signin.banner")
	if len(d.Records) != 1 || !d.Records[0].Repaired || d.Records[0].Found.Text() != "Hello" ||
		d.Records[0].Wanted.Text() != "For work only" ||
		d.Records[0].By != "package banners" || d.Records[0].Policies[0] != "own" || d.Records[0].Title == "" ||
		time.Since(d.Records[0].At) > time.Hour {
		t.Errorf("drift %+v", d.Records)
	}
	if d := get[wire.Drift](t, e.Client, "/drift?setting=power.lid_battery"); len(d.Records) != 0 {
		t.Errorf("of another setting: %+v", d.Records)
	}

	// Only to be reported, it is left, and said once; until the policy says otherwise.
	e.sets(t, map[string]any{"signin.banner": "For work only"}, map[string]any{"on_drift": "report"})
	checksIn()
	for range 2 {
		altered(t, root, "/etc/issue", "Mine\n")
		altered(t, root, "/etc/issue.net", "Mine\n")
		checksIn()
		checksIn()
	}
	if text() != "Mine\n" {
		t.Errorf("only to be reported, the banner is %q", text())
	}
	page := get[wire.DevicePage](t, e.Client, "/devices/L0")
	if len(page.Drift) != 2 || page.Drift[0].Repaired || page.Drift[0].Found.Text() != "Mine" {
		t.Errorf("drift %+v", page.Drift)
	}
	if got := deliveries(t, e.Client, "L0")["signin.banner"]; got.Status != "drifted" || got.Reported.Text() != "Mine" {
		t.Errorf("the delivery is %+v", got)
	}
	if o := get[wire.Overview](t, e.Client, "/overview"); o.Statuses.Drifted != 1 {
		t.Errorf("the overview counts %+v", o.Statuses)
	}
	e.sets(t, map[string]any{"signin.banner": "For work only"}, map[string]any{"on_drift": "repair"})
	checksIn()
	if got := deliveries(t, e.Client, "L0")["signin.banner"]; got.Status != "applied" || text() != "For work only\n" {
		t.Errorf("to be put right again, the delivery is %+v, the banner %q", got, text())
	}

	// Put right more than three times within a day, another program sets it.
	for range 4 {
		altered(t, root, "/etc/issue", "Theirs\n")
		checksIn()
	}
	d = get[wire.Drift](t, e.Client, "/drift")
	if len(d.Fights) != 1 || d.Fights[0].Setting != "signin.banner" || d.Fights[0].Times != 5 || d.Fights[0].Devices[0] != "L0" {
		t.Errorf("fights %+v", d.Fights)
	}
	if o := get[wire.Overview](t, e.Client, "/overview"); len(o.Fights) != 1 {
		t.Errorf("the overview has the fights %+v", o.Fights)
	}
}

// TestDriftIsSeenAtOnce: an agent that runs puts right what is altered without waiting for its next check-in.
func TestDriftIsSeenAtOnce(t *testing.T) {
	t.Parallel()
	e := enrollingWith(t, 0)
	root := laptopFiles(t, "S0")
	a := agentOn(t, root)
	a.Interval = time.Hour
	if _, err := a.Enrol(t.Context(), e.identity(t, e.invites(t, wire.NewInvitation{Device: "L0"})[0])); err != nil {
		t.Fatal(err)
	}
	e.sets(t, map[string]any{"signin.banner": "For work only"}, nil)
	ctx, stop := context.WithCancel(t.Context())
	done := make(chan error, 1)
	go func() { done <- a.Run(ctx) }()
	defer func() {
		stop()
		if err := <-done; err != nil {
			t.Error(err)
		}
	}()
	becomes := func(want string) {
		t.Helper()
		for deadline := time.Now().Add(time.Minute); ; time.Sleep(20 * time.Millisecond) {
			data, err := os.ReadFile(filepath.Join(root, "/etc/issue"))
			if err == nil && string(data) == want {
				return
			}
			if time.Now().After(deadline) {
				t.Fatalf("the banner is %q, %v", data, err)
			}
		}
	}
	becomes("For work only\n")
	for range 3 {
		altered(t, root, "/etc/issue", "Hello\n")
		becomes("For work only\n")
	}
}

// TestDriftOfALaptopThatDoesNotNotice: the service sees it when the digest is another.
func TestDriftOfALaptopThatDoesNotNotice(t *testing.T) {
	t.Parallel()
	e := enrollingWith(t, 0)
	e.sets(t, map[string]any{"signin.banner": "For work only"}, nil)
	l, memory := e.laptop(t, e.enrols(t, "L0", e.invites(t, wire.NewInvitation{Device: "L0"})[0], requestOf(t, "S0", "")))
	checksIn := func() {
		t.Helper()
		if _, err := l.CheckIn(t.Context()); err != nil {
			t.Fatal(err)
		}
	}
	checksIn()
	memory.Apply("signin.banner", setting.TextValue("Hello"))
	checksIn()
	if d := get[wire.Drift](t, e.Client, "/drift"); len(d.Records) != 1 || !d.Records[0].Repaired || d.Records[0].Found.Text() != "Hello" {
		t.Errorf("drift %+v", d.Records)
	}
	if v := memory.Reported()["signin.banner"]; v.Text() != "For work only" {
		t.Errorf("the banner is %s", v)
	}
	// One that lost everything is made anew: nobody altered anything.
	memory.Apply("signin.banner", setting.Value{})
	l.Revision = ""
	checksIn()
	if d := get[wire.Drift](t, e.Client, "/drift"); len(d.Records) != 1 {
		t.Errorf("after it lost everything: %+v", d.Records)
	}
	if strings.Contains(memory.Reported()["signin.banner"].Text(), "Hello") {
		t.Error("it has what was altered")
	}
}
