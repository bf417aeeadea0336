package demo_test

import (
	"os"
	"strings"
	"testing"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/demo"
	"zenithridge.example/zridge/dictionary"
	"zenithridge.example/zridge/formats/files"
)

// TestTheStorysFigures holds the demo estate to what its story says, the honest mistakes included.
func TestTheStorysFigures(t *testing.T) {
	s, err := files.Read("estate", dictionary.Shipped())
	if err != nil {
		t.Fatal(err)
	}
	if len(s.Units) != 11 || len(s.People) != 210 || len(s.Devices) != 240 || len(s.Policies) != 33 {
		t.Errorf("%d units, %d people, %d devices, %d policies", len(s.Units), len(s.People), len(s.Devices), len(s.Policies))
	}
	for _, p := range s.People {
		if !strings.HasSuffix(p.Mail, ".example") {
			t.Errorf("%s is no address of the example", p.Mail)
		}
	}
	plan := resolve.Compile(s.On(demo.Day))
	whole := plan.Estate()
	conflicts := map[string]int{}
	for _, c := range whole.Conflicts() {
		conflicts[string(c.Setting)+": "+strings.Join(c.Policies, " or ")] = c.Devices.Len()
	}
	expect(
		t,
		"conflicts",
		conflicts,
		map[string]int{"media.usb_storage: contractors-no-usb or survey-transfer": 4, "signin.banner: leads-banner or on-call-banner": 6},
	)
	problems := map[string]int{}
	for _, p := range whole.Problems() {
		problems[string(p.Check)+": "+strings.Join(p.From, " and ")] = p.Devices.Len()
	}
	expect(t, "problems", problems, map[string]int{
		"startup.pin-without-chip: field-encryption and fleet-startup": 70,
		"network.vpn-without-profile: travel-vpn":                      10,
		"screen.never-locks-automatic: bridge-displays":                12,
	})
	lints := map[string]int{}
	for _, l := range plan.Lints() {
		lints[string(l.Kind)+": "+string(l.Policy)+" "+string(l.Setting)+string(l.Group)+string(l.Exception)] = l.Devices
	}
	expect(t, "lints", lints, map[string]int{
		"redundant: acoustics-microphone media.microphone":         26,
		"never-wins: harbour-desks screen.lock_after_minutes":      43,
		"never-wins: research-encryption disk.encryption.required": 47,
		"reaches-nobody: plotter-kiosk ":                           0,
		"failing-rule:  old-chip":                                  14,
		"unused-group:  old-chip":                                  0,
		"unused-group:  researchers":                               0,
		"unused-group:  deck-crew":                                 0,
		"unused-group:  no-chip":                                   0,
	})
	if n := plan.GroupFailures("old-chip"); n == 0 {
		t.Error("the rule of old-chip fails on nobody, though some laptops have no chip")
	}
	for _, day := range []struct {
		on   estate.Date
		want int64
	}{{demo.Day, 60}, {"2026-12-04", 60}, {"2026-12-05", 15}, {"2026-08-31", 15}} {
		r, err := resolve.Compile(s.On(day.on)).Effective("LT-0110", "")
		if err != nil || r.Setting("screen.lock_after_minutes").Value.Integer() != day.want {
			t.Errorf("on %s LT-0110 locks after %v, expected %d", day.on, r.Setting("screen.lock_after_minutes").Value, day.want)
		}
	}
}

func expect(t *testing.T, what string, got, want map[string]int) {
	t.Helper()
	for k, n := range want {
		if got[k] != n {
			t.Errorf("%s: %s on %d, the story says %d", what, k, got[k], n)
		}
	}
	for k := range got {
		if _, told := want[k]; !told {
			t.Errorf("%s: %s is not in the story", what, k)
		}
	}
}

func TestTheTablesAreWhatTheGeneratorMakes(t *testing.T) {
	people, devices := demo.Tables()
	for name, want := range map[string]string{"estate/people.csv": people, "estate/devices.csv": devices} {
		have, err := os.ReadFile(name)
		if err != nil || string(have) != want {
			t.Errorf("%s differs from what the generator makes (%v); run make generate", name, err)
		}
	}
	again, _ := demo.Tables()
	if again != people {
		t.Error("two runs differ")
	}
}

func benchEstate(b *testing.B) *estate.Snapshot {
	s, err := files.Read("estate", dictionary.Shipped())
	if err != nil {
		b.Fatal(err)
	}
	return s.On(demo.Day)
}

// BenchmarkDemoEstate resolves the demo estate: all of it compiled and resolved, one laptop, and
// what an edit does.
func BenchmarkDemoEstate(b *testing.B) {
	s := benchEstate(b)
	before := impact.Resolve(s)
	b.Run("compile and resolve 240 laptops", func(b *testing.B) {
		for b.Loop() {
			resolve.Compile(s).Estate()
		}
	})
	b.Run("one laptop with all fates", func(b *testing.B) {
		for b.Loop() {
			if _, err := before.Plan.Effective("LT-0110", ""); err != nil {
				b.Fatal(err)
			}
		}
	})
	b.Run("impact of one edited policy", func(b *testing.B) {
		p := s.Policies[0]
		p.Priority += 100
		edit := estate.Edit{Kind: estate.KindPolicy, ID: string(p.ID), Object: p}
		for b.Loop() {
			impact.Compare(before, before.With(s.With(edit)))
		}
	})
	b.Run("validate", func(b *testing.B) {
		for b.Loop() {
			if faults := s.Validate(); len(faults) > 0 {
				b.Fatal(faults)
			}
		}
	})
}
