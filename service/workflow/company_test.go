// This file has a small company, in which tests publish and laptops check in.

package workflow_test

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/rollout"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/dictionary"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/service/store"
	. "zenithridge.example/zridge/service/workflow"
)

// company is a service with ten laptops that have all checked in, and a clock that tests move.
type company struct {
	*Service
	t     *testing.T
	store *store.Store
	clock atomic.Int64
}

const tenLaptops = `
units: [{id: r, title: Company}, {id: labs, parent: r}]
groups:
  - {id: pilots, of: devices, members: [D0, D1]}
  - {id: board, of: people, members: [piet]}
people: [{id: piet, name: Piet}]
settings:
  - {id: minutes, title: Minutes, kind: security, type: integer, combine: strictest, stricter: lower}
  - {id: banner, title: Banner, kind: security, type: text}
policies:
  - {id: lock, kind: security, settings: {minutes: 15}, audience: {include: [everyone]}}
  - {id: words, kind: security, settings: {banner: hello}, audience: {include: [everyone]}}
rollout_plans:
  - id: usual
    default: true
    waves:
      - {id: pilots, who: {include: ["group:pilots"]}, least: 24h}
      - {id: half, share: 50, go: by-hand}
`

var start = time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)

func companyOf(t *testing.T, text string) *company {
	t.Helper()
	s, err := store.Open(filepath.Join(t.TempDir(), "z.db"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	c := &company{t: t, store: s}
	c.clock.Store(start.Unix())
	c.restart()
	dir := t.TempDir()
	for i := range 10 {
		text += fmt.Sprintf("\n  - {id: D%d, os: linux, os_version: \"12\", unit: %s}", i, []string{"r", "labs"}[i%2])
	}
	text = strings.Replace(text, "\n  - {id: D0,", "\ndevices:\n  - {id: D0,", 1)
	if err := writeFile(dir, "estate.yaml", text); err != nil {
		t.Fatal(err)
	}
	snapshot, err := files.Read(dir, dictionary.Shipped())
	if err != nil {
		t.Fatal(err)
	}
	change, _, err := c.Import(t.Context(), ines, "as found", snapshot, false)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := c.Publish(t.Context(), ines, change.ID, PublishInput{Expected: change.Version, AtOnce: true}); err != nil {
		t.Fatal(err)
	}
	for i := range 10 {
		id := fmt.Sprintf("D%d", i)
		if err := s.SaveLaptop(store.Laptop{Device: id, EnrolledAt: &start, LastSeen: &start, Usual: 3600}); err != nil {
			t.Fatal(err)
		}
		c.checksIn(id)
	}
	return c
}

// restart makes the service anew over the same database, as after kill -9.
func (c *company) restart() {
	c.t.Helper()
	if c.Service != nil {
		c.Close()
	}
	f, err := New(Config{Store: c.store, Shipped: dictionary.Shipped(), Now: func() time.Time { return time.Unix(c.clock.Load(), 0).UTC() }})
	if err != nil {
		c.t.Fatal(err)
	}
	c.t.Cleanup(f.Close)
	c.Service = f
}

// passes lets time go on.
func (c *company) passes(d time.Duration) {
	c.t.Helper()
	c.clock.Add(int64(d / time.Second))
	if err := c.Tick(c.t.Context()); err != nil {
		c.t.Fatal(err)
	}
}

// checksIn has a laptop take what is wanted of it, but for the settings that it refuses.
func (c *company) checksIn(id string, refuses ...setting.ID) {
	c.t.Helper()
	before, err := c.store.Deliveries(id)
	if err != nil {
		c.t.Fatal(err)
	}
	at := time.Unix(c.clock.Load(), 0).UTC()
	live := c.Live()
	reasons, err := c.PlanFor(live, id).Reasons(estate.DeviceID(id), "")
	if err != nil {
		c.t.Fatal(err)
	}
	all, _ := Wanted(reasons, before, at)
	var list []rollout.Delivery
	for key, d := range all {
		if d.Status == rollout.Pending || d.Status == rollout.Failed {
			if slices.Contains(refuses, key) {
				d = d.Refuse("405", "not allowed on this laptop", at)
			} else {
				d = d.Accept(d.Wanted, at)
			}
			all[key] = d
		}
		list = append(list, d)
	}
	err = c.Reported(c.t.Context(), CheckedIn{Device: id, Before: before, After: all}, func(tx *store.Store) error {
		laptop, err := tx.Laptop(id)
		laptop.LastSeen = &at
		return errors.Join(err, tx.SaveLaptop(laptop), tx.SaveDeliveries(id, list))
	})
	if err != nil {
		c.t.Fatal(err)
	}
	c.Delivered(id, live.Turn)
	if err := c.Tick(c.t.Context()); err != nil {
		c.t.Fatal(err)
	}
}

// heard has laptops check in with nothing new.
func (c *company) heard(ids ...string) {
	c.t.Helper()
	at := time.Unix(c.clock.Load(), 0).UTC()
	for _, id := range ids {
		if err := errors.Join(c.store.TouchLaptops(map[string]store.Laptop{id: {LastSeen: &at, Sessions: 1}}),
			c.Heard(c.t.Context(), id)); err != nil {
			c.t.Fatal(err)
		}
	}
}

// edits opens a change with policies as JSON.
func (c *company) edits(policies ...string) string {
	c.t.Helper()
	change, err := c.NewChange(c.t.Context(), mara, "Change "+policies[0][:12], "")
	if err != nil {
		c.t.Fatal(err)
	}
	for _, body := range policies {
		id := strings.Split(body, `"`)[3]
		if _, err := c.PutEdit(c.t.Context(), mara, change.ID, EditInput{Kind: estate.KindPolicy, ID: id, Body: []byte(body),
			Expected: -1}); err != nil {
			c.t.Fatal(err)
		}
	}
	return change.ID
}

func (c *company) publishes(change string) Publishing {
	c.t.Helper()
	p, err := c.Publish(c.t.Context(), mara, change, PublishInput{Expected: -1})
	if err != nil {
		c.t.Fatal(err)
	}
	return p
}

func (c *company) acts(id string, act rollout.Act) {
	c.t.Helper()
	if _, err := c.Act(c.t.Context(), piet, id, ActInput{Act: act}); err != nil {
		c.t.Fatal(err)
	}
}

// has is what each laptop reports of a setting, by id.
func (c *company) has(of setting.ID) string {
	c.t.Helper()
	var out []string
	for i := range 10 {
		d, err := c.store.Deliveries(fmt.Sprintf("D%d", i))
		if err != nil {
			c.t.Fatal(err)
		}
		out = append(out, d[of].Reported.String())
	}
	return strings.Join(out, " ")
}

// gets is what each laptop is to get of a setting now, by id.
func (c *company) gets(of setting.ID) string {
	c.t.Helper()
	return c.getsOf(c.Live(), of)
}

// getsOf is the same for sessions that began when something was live.
func (c *company) getsOf(live *Live, of setting.ID) string {
	c.t.Helper()
	var out []string
	for i := range 10 {
		id := fmt.Sprintf("D%d", i)
		r, err := c.PlanFor(live, id).Effective(estate.DeviceID(id), "")
		if err != nil {
			c.t.Fatal(err)
		}
		value := setting.Value{}
		if is := r.Setting(of); is != nil {
			value = is.Value
		}
		out = append(out, value.String())
	}
	return strings.Join(out, " ")
}

func (c *company) is(id string) RolloutView {
	c.t.Helper()
	v, err := c.Rollout(c.t.Context(), piet, id)
	if err != nil {
		c.t.Fatal(err)
	}
	return v
}

func (c *company) expect(what, got, want string) {
	c.t.Helper()
	if got != want {
		c.t.Errorf("%s: found %s, expected %s", what, got, want)
	}
}

const nine = `{"id":"lock","kind":"security","settings":{"minutes":9},"audience":{"include":["everyone"]}}`
