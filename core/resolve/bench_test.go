// This file measures the engine over made-up estates, beside a plain loop over laptops. The sizes
// come from ZRIDGE_BENCH (10000 by default): make bench runs 10,000, 100,000 and 1,000,000.

package resolve_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	. "zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/demo/world"
)

func benchSizes() (sizes []int) {
	text := os.Getenv("ZRIDGE_BENCH")
	if text == "" {
		text = "10000"
	}
	for _, one := range strings.Split(text, ",") {
		n, err := strconv.Atoi(strings.TrimSpace(one))
		if err != nil {
			panic("ZRIDGE_BENCH: " + err.Error())
		}
		sizes = append(sizes, n)
	}
	return sizes
}

func heap() float64 {
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return float64(m.HeapAlloc) / (1 << 20)
}

// highest is the most memory that the process had so far, in MB; 0 where the system does not say.
func highest() (mb float64) {
	text, err := os.ReadFile("/proc/self/status")
	if err != nil {
		return 0
	}
	_, rest, _ := strings.Cut(string(text), "VmHWM:")
	fmt.Sscanf(rest, "%f", &mb)
	return mb / 1024
}

// edits makes one edit of every kind that is asked about. Those of policies are made of every
// policy.
var edits = []struct {
	name     string
	policies bool
	make     func(r *rand.Rand, s *estate.Snapshot, policy int) estate.Edit
}{
	{"values", true, func(r *rand.Rand, s *estate.Snapshot, at int) estate.Edit {
		p := s.Policies[at]
		p.Entries = slices.Clone(p.Entries)
		for i := range p.Entries {
			p.Entries[i].Value = otherValue(r, p.Entries[i].Value)
		}
		return policyEdit(p)
	}},
	{"one value", true, func(r *rand.Rand, s *estate.Snapshot, at int) estate.Edit {
		p := s.Policies[at]
		p.Entries = slices.Clone(p.Entries)
		i := r.IntN(len(p.Entries))
		p.Entries[i].Value = otherValue(r, p.Entries[i].Value)
		return policyEdit(p)
	}},
	{"priority", true, func(r *rand.Rand, s *estate.Snapshot, at int) estate.Edit {
		p := s.Policies[at]
		p.Priority = 1001 - p.Priority
		return policyEdit(p)
	}},
	{"audience", true, func(r *rand.Rand, s *estate.Snapshot, at int) estate.Edit {
		p := s.Policies[at]
		p.Audience.Include = append(slices.Clone(p.Audience.Include), estate.Target{Kind: estate.ToGroup, ID: string(pick(r, s.Groups).ID)})
		return policyEdit(p)
	}},
	{"membership", false, func(r *rand.Rand, s *estate.Snapshot, at int) estate.Edit {
		for {
			g := pick(r, s.Groups)
			if g.Of == estate.OfDevices && g.Rule == nil {
				g.Members = append(slices.Clone(g.Members), string(pick(r, s.Devices).ID))
				return estate.Edit{Kind: estate.KindGroup, ID: string(g.ID), Object: g}
			}
		}
	}},
	{"group rule", false, func(r *rand.Rand, s *estate.Snapshot, at int) estate.Edit {
		for {
			g, other := pick(r, s.Groups), pick(r, s.Groups)
			if g.Rule != nil && other.Rule != nil && g.Of == other.Of {
				g.Rule = other.Rule
				return estate.Edit{Kind: estate.KindGroup, ID: string(g.ID), Object: g}
			}
		}
	}},
	{"unit moved", false, func(r *rand.Rand, s *estate.Snapshot, at int) estate.Edit {
		for {
			u, to := s.Units[40+r.IntN(len(s.Units)-40)], s.Units[r.IntN(20)]
			if u.Parent != to.ID {
				u.Parent = to.ID
				return estate.Edit{Kind: estate.KindUnit, ID: string(u.ID), Object: u}
			}
		}
	}},
	{"ruling", true, func(r *rand.Rand, s *estate.Snapshot, at int) estate.Edit {
		p, q := s.Policies[at], s.Policies[(at+1)%len(s.Policies)]
		return estate.Edit{
			Kind:   estate.KindRuling,
			ID:     "r",
			Object: estate.Ruling{ID: "r", Setting: p.Entries[0].Setting, Prefer: p.ID, Over: q.ID},
		}
	}},
	{"detach", false, func(r *rand.Rand, s *estate.Snapshot, at int) estate.Edit {
		u := s.Units[1+r.IntN(len(s.Units)-1)]
		u.Detach = []estate.Detachment{{Kind: setting.Security}}
		return estate.Edit{Kind: estate.KindUnit, ID: string(u.ID), Object: u}
	}},
}

func policyEdit(p estate.Policy) estate.Edit {
	return estate.Edit{Kind: estate.KindPolicy, ID: string(p.ID), Object: p}
}

func otherValue(r *rand.Rand, v setting.Value) setting.Value {
	switch v.Kind() {
	case setting.Bool:
		return setting.BoolValue(!v.Bool())
	case setting.Integer:
		return setting.IntegerValue(1 + (v.Integer()+int64(r.IntN(30)))%60)
	case setting.Text:
		return setting.TextValue(fmt.Sprintf("text%02d", r.IntN(40)))
	}
	return setting.ListValue(append(slices.Clone(v.Items()), fmt.Sprintf("more%d", r.IntN(3))))
}

// BenchmarkEngine measures one estate of each size: compiled, resolved as a whole on one thread and
// on all, one laptop with every reason, one laptop altered, and what-if by kind of edit.
func BenchmarkEngine(b *testing.B) {
	for _, n := range benchSizes() {
		before := heap()
		s := world.Make(world.Of(n), 1)
		estateMB := heap() - before
		plan := Compile(s)
		s = plan.Snapshot()
		planMB := heap() - before - estateMB
		b.Run(fmt.Sprintf("%d/compile", n), func(b *testing.B) {
			for b.Loop() {
				Compile(s)
			}
			b.ReportMetric(planMB, "plan-MB")
			b.ReportMetric(estateMB, "estate-MB")
		})
		for _, threads := range []int{1, runtime.NumCPU()} {
			b.Run(fmt.Sprintf("%d/whole/threads=%d", n, threads), func(b *testing.B) {
				was := runtime.GOMAXPROCS(threads)
				defer runtime.GOMAXPROCS(was)
				var kept *EstateResolution
				for b.Loop() {
					b.StopTimer()
					kept = nil
					fresh := plan.With(s.With(estate.Edit{Kind: estate.KindRuling, ID: "none"}))
					_ = kept
					runtime.GC()
					b.StartTimer()
					kept = fresh.Estate()
				}
				b.StopTimer()
				applied := 0
				for i := range s.Policies {
					applied += plan.Applies(s.Policies[i].ID).Len()
				}
				b.ReportMetric(float64(applied)/float64(n), "policies/laptop")
				runtime.KeepAlive(kept)
			})
		}
		base := heap()
		whole := plan.Estate()
		b.Run(fmt.Sprintf("%d/kept", n), func(b *testing.B) {
			kept := heap() - base
			for b.Loop() {
			}
			b.ReportMetric(kept, "whole-MB")
			b.ReportMetric(estateMB+planMB+kept, "all-MB")
			if peak := highest(); peak > 0 {
				b.ReportMetric(peak, "peak-MB") // of the process so far, which made up the estate too
			}
		})
		r := rand.New(rand.NewPCG(1, 2))
		b.Run(fmt.Sprintf("%d/one laptop with every candidate and fate", n), func(b *testing.B) {
			candidates, settings := 0, 0
			for b.Loop() {
				r, err := plan.Reasons(s.Devices[r.IntN(n)].ID, "")
				if err != nil {
					b.Fatal(err)
				}
				candidates, settings = candidates+r.Candidates(), settings+r.Len()
			}
			b.ReportMetric(float64(candidates)/float64(b.N), "candidates")
			b.ReportMetric(float64(settings)/float64(b.N), "settings")
		})
		b.Run(fmt.Sprintf("%d/the same written out as records", n), func(b *testing.B) {
			for b.Loop() {
				if _, err := plan.Effective(s.Devices[r.IntN(n)].ID, ""); err != nil {
					b.Fatal(err)
				}
			}
		})
		b.Run(fmt.Sprintf("%d/one laptop altered", n), func(b *testing.B) {
			for b.Loop() {
				d := *s.Devices[r.IntN(n)]
				d.OSVersion = "16.4"
				plan.With(s.With(estate.Edit{Kind: estate.KindDevice, ID: string(d.ID), Object: d}))
			}
		})
		for _, e := range edits {
			b.Run(fmt.Sprintf("%d/what if/%s", n, strings.ReplaceAll(e.name, " ", "-")), func(b *testing.B) {
				var took []time.Duration
				touched, step := 0, max(1, n/200_000)
				for b.Loop() {
					for at := 0; at < len(s.Policies); at += step { // all policies; of a million laptops a part of them
						b.StopTimer()
						next := s.With(e.make(r, s, at))
						b.StartTimer()
						began := time.Now()
						report := impact.Compare(impact.Side{Plan: plan, Resolution: whole}, impact.Side{Plan: plan, Resolution: whole}.With(next))
						took = append(took, time.Since(began))
						touched += report.Devices.Len()
						if !e.policies && len(took) >= 200 {
							break
						}
					}
				}
				slices.Sort(took)
				b.ReportMetric(float64(took[len(took)/2].Microseconds())/1000, "ms-typical")
				b.ReportMetric(float64(took[len(took)*95/100].Microseconds())/1000, "ms-p95")
				b.ReportMetric(float64(took[len(took)-1].Microseconds())/1000, "ms-worst")
				b.ReportMetric(float64(touched)/float64(len(took)), "laptops")
				b.ReportMetric(float64(len(took)), "edits")
			})
		}
	}
}

// BenchmarkChurn alters one laptop after another, as check-ins and imports do in a day, and says
// what memory is kept in the end over what was kept after the first tenth.
func BenchmarkChurn(b *testing.B) {
	const laptops, edits = 20_000, 3000
	s := world.Make(world.Of(laptops), 1)
	plan := Compile(s)
	plan.Estate()
	r := rand.New(rand.NewPCG(5, 6))
	early := 0.0
	for b.Loop() {
		for i := range edits {
			d := *s.Devices[r.IntN(len(s.Devices))]
			d.OSVersion, d.Unit = fmt.Sprintf("%d.%d", 9+r.IntN(8), r.IntN(5)), pick(r, s.Units).ID
			s = s.With(estate.Edit{Kind: estate.KindDevice, ID: string(d.ID), Object: d})
			plan = plan.With(s)
			s = plan.Snapshot()
			if i == edits/10 && early == 0 {
				early = heap()
			}
		}
	}
	b.ReportMetric(heap(), "MB-kept")
	b.ReportMetric(heap()/early, "kept/early")
	runtime.KeepAlive(plan)
}
