package e2e

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/demo/filled"
	"zenithridge.example/zridge/demo/world"
	"zenithridge.example/zridge/endpoint"
	"zenithridge.example/zridge/formats/wire"
)

// memory reads a process's resident memory, now and at its highest, in MB.
func (r *running) memory(b *testing.B) (now, highest float64) {
	b.Helper()
	text, err := os.ReadFile(filepath.Join("/proc", strconv.Itoa(r.cmd.Process.Pid), "status"))
	if err != nil {
		b.Skip("no /proc to read the memory from")
	}
	read := func(name string) float64 {
		m := regexp.MustCompile(name + `:\s+(\d+) kB`).FindSubmatch(text)
		if m == nil {
			return 0
		}
		n, _ := strconv.ParseFloat(string(m[1]), 64)
		return n / 1024
	}
	return read("VmRSS"), read("VmHWM")
}

// BenchmarkAPublishedChangeReaches240Laptops publishes a change for everyone while 240 laptops
// check in every six seconds, and waits until the last has it. It reports the service's memory too.
func BenchmarkAPublishedChangeReaches240Laptops(b *testing.B) {
	r, api := withDemo(b)
	ids := identities(b, api, 240)
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() {
		defer close(done)
		(&endpoint.Fleet{Base: api.Base, Interval: 6 * time.Second}).Run(ctx, ids)
	}()
	defer func() { stop(); <-done }()
	pending := func() (int, int) {
		o, err := client.Get[wire.Overview](ctx, api, "/overview", nil)
		if err != nil {
			b.Fatal(err)
		}
		return o.Statuses.Pending, o.NeverSeen
	}
	settle := func() {
		for {
			if p, never := pending(); p == 0 && never == 0 {
				return
			}
			time.Sleep(100 * time.Millisecond)
		}
	}
	settle()
	minutes := 14
	var longest time.Duration
	for b.Loop() {
		minutes--
		c, err := client.Post[wire.Change](ctx, api, "/changes", wire.NewChange{Title: "Lock sooner"})
		if err != nil {
			b.Fatal(err)
		}
		body := fmt.Sprintf(
			`{"id":"sooner","kind":"security","settings":{"screen.lock_after_minutes":%d},"audience":{"include":["everyone"]}}`,
			minutes,
		)
		if _, err := api.Call(
			ctx,
			http.MethodPut,
			client.Path("changes", c.ID, "edits", "policies", "sooner"),
			nil,
			[]byte(body),
			nil,
		); err != nil {
			b.Fatal(err)
		}
		began := time.Now()
		if _, err := client.Post[wire.Publication](ctx, api, client.Path("changes", c.ID, "publish"), nil); err != nil {
			b.Fatal(err)
		}
		settle()
		longest = max(longest, time.Since(began))
	}
	now, highest := r.memory(b)
	b.ReportMetric(longest.Seconds(), "s-until-all-240-have-it")
	b.ReportMetric(now, "MB-resident")
	b.ReportMetric(highest, "MB-highest")
}

// timed measures each exchange of a laptop.
type timed struct {
	mu    sync.Mutex
	spent time.Duration
}

func (c *timed) RoundTrip(r *http.Request) (*http.Response, error) {
	began := time.Now()
	answer, err := http.DefaultTransport.RoundTrip(r)
	c.mu.Lock()
	c.spent += time.Since(began)
	c.mu.Unlock()
	return answer, err
}

// BenchmarkSessions measures what a laptop waits for the service over a whole session: one that has
// nothing to say, and one that puts a drifted value right. The network is loopback, so this is the
// service's time and a little more.
func BenchmarkSessions(b *testing.B) {
	_, api := withDemo(b)
	id := identities(b, api, 1)[0]
	clock := &timed{}
	m := &endpoint.Memory{}
	l := endpoint.New(api.Base, &http.Client{Transport: clock}, id, m)
	session := func() time.Duration {
		clock.spent = 0
		if _, err := l.CheckIn(context.Background()); err != nil {
			b.Fatal(err)
		}
		return clock.spent
	}
	session()
	for name, before := range map[string]func(int){
		"quiet": func(int) {},
		"drift": func(n int) { m.Alter("screen.lock_after_minutes", setting.IntegerValue(int64(500+n%100))) },
	} {
		b.Run(name, func(b *testing.B) {
			var all []time.Duration
			for n := range 200 {
				before(n)
				all = append(all, session())
			}
			slices.Sort(all)
			b.ReportMetric(float64(all[100].Microseconds())/1000, "ms-median")
			b.ReportMetric(float64(all[190].Microseconds())/1000, "ms-p95")
			b.ReportMetric(0, "ns/op")
		})
	}
}

// BenchmarkTypingAtALargeEstate types values into policies, and rules into groups, of an estate of
// 100,000 laptops (ZRIDGE_LARGE) in the console, and measures from the last key to the numbers of
// the panel: the eighth of a second that the editor waits for more is part of it. It counts how
// long the service took to answer, and how long the page was busy at once at most, too.
func BenchmarkTypingAtALargeEstate(b *testing.B) {
	laptops := 100_000
	if text := os.Getenv("ZRIDGE_LARGE"); text != "" {
		laptops, _ = strconv.Atoi(text)
	}
	s := world.Make(world.Of(laptops), 1)
	database := filepath.Join(b.TempDir(), "large.db")
	if err := filled.Database(database, s); err != nil {
		b.Fatal(err)
	}
	r := serve(b, database)
	r.admin()
	p := newPage(b, r.address)
	p.signIn()
	definitions := map[setting.ID]*setting.Definition{}
	for i := range s.Settings {
		definitions[s.Settings[i].ID] = &s.Settings[i]
	}
	const places = 30
	b.Run("values", func(b *testing.B) {
		var opened, times typing
		for b.Loop() {
			for i := 0; i < len(s.Policies) && len(opened.took) < places; i += 7 {
				policy := &s.Policies[i]
				at := slices.IndexFunc(
					policy.Entries,
					func(e estate.Entry) bool { return definitions[e.Setting].Type == setting.TypeInteger },
				)
				if at < 0 || policy.State != estate.Active {
					continue
				}
				p.goTo("/policies/" + string(policy.ID))
				p.mark("input", definitions[policy.Entries[at].Setting].Title)
				opened.typed(p, fmt.Sprint(62+len(opened.took)))
				for range 3 {
					times.typed(p, kb.Backspace+fmt.Sprint(len(times.took)%10))
				}
			}
		}
		times.report(b)
		slices.Sort(opened.took)
		b.ReportMetric(opened.took[len(opened.took)/2], "ms-as-the-page-opens")
	})
	b.Run("rules", func(b *testing.B) {
		var times typing
		for b.Loop() {
			for i := 0; i < len(s.Groups) && len(times.took) < places; i += 5 {
				if g := &s.Groups[i]; g.Rule != nil {
					p.goTo("/groups/" + string(g.ID))
					p.mark("textarea", "Rule")
					times.typed(
						p,
						map[estate.GroupOf]string{estate.OfDevices: `device.os != "macos"`, estate.OfPeople: `person.department in ["dep01", "dep02"]`}[g.Of],
					)
				}
			}
		}
		times.report(b)
	})
}

// typing is how long it takes from a last key to the numbers, in milliseconds.
type typing struct {
	took    []float64
	answers []float64 // of it, how long the service took
	longest float64   // that the page was busy at once
}

// typed types at the end of the marked field, and waits until the panel says what comes of it.
func (t *typing) typed(p *page, text string) {
	p.do("watching", chromedp.Evaluate[chromedp.Void](`
		window.keyed = 0; window.told = 0; window.busy = 0; window.answered = 0;
		document.addEventListener('input', () => { window.keyed = performance.now(); window.told = 0; }, true);
		new PerformanceObserver((list) => list.getEntries().forEach((e) => (window.busy = Math.max(window.busy, e.duration)))).observe({ entryTypes: ['longtask'] });
		new PerformanceObserver((list) => list.getEntries().filter((e) => /\/api\/v1\/(try|impact)|\/edits\//.test(e.name)).forEach((e) => { window.answered = e.duration; requestAnimationFrame(() => (window.told = performance.now())); })).observe({ entryTypes: ['resource'] });`))
	p.do("typing", chromedp.KeyEvent(text))
	p.until(
		"the panel says what comes of it",
		`window.told > window.keyed && [...document.querySelectorAll('section')].some((s) => /What (comes of it|the open change does)/.test(s.innerText) && /Values change on/.test(s.innerText))`,
	)
	each, err := chromedp.Run(p.ctx, chromedp.Evaluate[[]float64](`[window.told - window.keyed, window.answered, window.busy]`))
	if err != nil {
		p.t.Fatal(err)
	}
	t.took, t.answers, t.longest = append(t.took, each[0]), append(t.answers, each[1]), max(t.longest, each[2])
}

func (t *typing) report(b *testing.B) {
	slices.Sort(t.took)
	slices.Sort(t.answers)
	b.ReportMetric(t.answers[len(t.answers)/2], "ms-of-it-answering")
	b.ReportMetric(t.answers[len(t.answers)*95/100], "ms-of-it-answering-p95")
	b.ReportMetric(t.took[len(t.took)/2], "ms-from-key-to-numbers")
	b.ReportMetric(t.took[len(t.took)*95/100], "ms-p95")
	b.ReportMetric(t.took[len(t.took)-1], "ms-worst")
	b.ReportMetric(t.longest, "ms-page-busy-at-most")
	b.ReportMetric(float64(len(t.took)), "places")
}

// BenchmarkOnASlowMachine opens the console with a processor four times slower and a line of
// 1.6 Mbit/s, nothing cached, and then types a reason into a policy. It reports the
// first contentful paint of the overview, how long each key takes until the page has painted it at
// most, and the longest task while typing.
func BenchmarkOnASlowMachine(b *testing.B) {
	r, _ := withDemo(b)
	for b.Loop() {
		p := newPage(b, r.address)
		p.signIn()
		if _, err := chromedp.Call(p.ctx, emulation.SetCPUThrottlingRate, emulation.SetCPUThrottlingRateParams{Rate: 4}); err != nil {
			b.Fatal(err)
		}
		if _, err := chromedp.Call(p.ctx, network.SetCacheDisabled, network.SetCacheDisabledParams{CacheDisabled: true}); err != nil {
			b.Fatal(err)
		}
		line := &network.Conditions{Latency: 150, DownloadThroughput: 1.6e6 / 8, UploadThroughput: 750e3 / 8}
		if _, err := chromedp.Call(p.ctx, network.EmulateNetworkConditionsByRule, network.EmulateNetworkConditionsByRuleParams{
			MatchedNetworkConditions: []*network.Conditions{line},
		}); err != nil {
			b.Fatal(err)
		}
		p.goTo("/")
		p.shows("On the laptops")
		report := func(expression, unit string) {
			value, err := chromedp.Run(p.ctx, chromedp.Evaluate[float64](expression))
			if err != nil {
				b.Fatal(err)
			}
			b.ReportMetric(value, unit)
		}
		report(`performance.getEntriesByName('first-contentful-paint')[0].startTime`, "ms-first-paint")
		report(
			`performance.getEntriesByType('resource').concat(performance.getEntriesByType('navigation')).reduce((n, e) => n + e.transferSize, 0) / 1024`,
			"KiB-fetched",
		)
		p.goTo("/policies/field-encryption")
		p.mark("input", "Why")
		p.do("watching", chromedp.Evaluate[chromedp.Void](`
			window.busy = 0; window.slowest = 0;
			new PerformanceObserver((list) => list.getEntries().forEach((e) => (window.busy = Math.max(window.busy, e.duration)))).observe({ entryTypes: ['longtask'] });
			new PerformanceObserver((list) => list.getEntries().filter((e) => e.name === 'keydown').forEach((e) => (window.slowest = Math.max(window.slowest, e.duration))))
				.observe({ type: 'event', durationThreshold: 16 });`))
		for _, key := range "Insurance asks for it." {
			p.do("a key", chromedp.KeyEvent(string(key)))
		}
		p.shows("Saved in the open change")
		report(`window.slowest`, "ms-slowest-key")
		report(`window.busy`, "ms-longest-task")
	}
}
