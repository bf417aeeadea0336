package resolve_test

import (
	"fmt"
	"runtime"
	"testing"

	"zenithridge.example/zridge/core/estate"
	. "zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/rule"
	"zenithridge.example/zridge/core/setting"
)

// TestWhatWasTypedIsForgotten tries 20,000 conditions and values, all different, and never keeps
// one. What is remembered of them comes to no more in the end than early on.
func TestWhatWasTypedIsForgotten(t *testing.T) { // not parallel: it measures the heap of the process
	if testing.Short() {
		t.Skip("it compiles 20,000 expressions")
	}
	s := madeUp(5)
	plan := Compile(s)
	plan.Estate()
	held := func() float64 {
		runtime.GC()
		runtime.GC()
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		return float64(m.HeapAlloc) / (1 << 20)
	}
	const typed = 20_000
	early, renewed := 0.0, 0
	for i := range typed {
		when, err := rule.Compile(rule.OfWhen, fmt.Sprintf("device.ram_gb > %d", i))
		if err != nil {
			t.Fatal(err)
		}
		p := s.Policies[0]
		p.Audience.When = when
		p.Entries = []estate.Entry{{Setting: "s4", Value: setting.TextValue(fmt.Sprintf("typed %d", i))}}
		plan.With(s.With(estate.Edit{Kind: estate.KindPolicy, ID: string(p.ID), Object: p})).Estate()
		if plan.Spent() {
			plan = plan.Renewed()
			renewed++
		}
		if i == typed/4 {
			early = held()
		}
	}
	if late := held(); late > early+16 {
		t.Errorf("%.0f MB are held after %d conditions, %.0f after a quarter of them", late, typed, early)
	}
	if renewed < 3 {
		t.Errorf("the plan was renewed %d times", renewed)
	}
	if d := planDiffers(plan, Compile(s)); d != "" {
		t.Errorf("the plan that was renewed is another: %s", d)
	}
}
