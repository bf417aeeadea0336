package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/endpoint"
	"zenithridge.example/zridge/formats/wire"
)

// crew is laptops that check in with whatever service runs, and keep what they have when it is killed.
type crew struct {
	ids      []endpoint.Identity
	memories []*endpoint.Memory

	mu    sync.Mutex
	known map[string]bool // laptops that had the change before a session that the service answered to its end
}

const killedMessage = "Found it? Call +44 1632 960 145"

func (c *crew) has(i int) bool {
	v, set := c.memories[i].Reported()[setting.ID("screen.lost_message")]
	return set && v.Text() == killedMessage
}

// checkIn lets all laptops check in, some at a time, again and again, until the context ends or until they have had rounds.
// Sessions that the end of the service breaks off are no failure.
func (c *crew) checkIn(ctx context.Context, base string, rounds int) {
	var running sync.WaitGroup
	const some = 4
	network := endpoint.Client(some)
	for worker := range some {
		running.Go(func() {
			for range rounds {
				for i := worker; i < len(c.ids); i += some {
					if ctx.Err() != nil {
						return
					}
					had := c.has(i)
					l := endpoint.New(base, network, c.ids[i], c.memories[i])
					_, err := l.CheckIn(ctx)
					c.ids[i] = l.Identity // with the next nonce
					if err == nil && had && c.has(i) {
						c.mu.Lock()
						c.known[l.Device] = true
						c.mu.Unlock()
					}
				}
			}
		})
	}
	running.Wait()
	network.CloseIdleConnections()
}

// TestKilledWhileRollingOut kills the service at random moments of a rollout in four waves, while laptops check in. After each
// start no wave was opened twice or before its turn, no laptop has the change whose wave is not open, and what the service
// had acknowledged is still known. In the end every laptop has the change.
func TestKilledWhileRollingOut(t *testing.T) {
	t.Parallel()
	r, api := withDemo(t)
	ctx := context.Background()
	const laptops = 40
	c := &crew{ids: identities(t, api, laptops), known: map[string]bool{}}
	var targets []string
	place := map[string]int{}
	for i, id := range c.ids {
		c.memories = append(c.memories, &endpoint.Memory{})
		targets = append(targets, "device:"+id.Device)
		place[id.Device] = i
	}
	c.checkIn(ctx, r.address, 2)

	change, err := client.Post[wire.Change](ctx, api, "/changes", wire.NewChange{Title: "Who finds a laptop"})
	if err != nil {
		t.Fatal(err)
	}
	policy := map[string]any{
		"id": "found", "kind": "configuration", "priority": 1000, "audience": map[string]any{"include": targets},
		"settings": map[string]any{"screen.lost_message": map[string]any{"value": killedMessage, "lock": true}},
	}
	if _, err := api.Call(ctx, "PUT", client.Path("changes", change.ID, "edits", "policies", "found"), nil, policy, nil); err != nil {
		t.Fatal(err)
	}
	var plan wire.PublishRequest
	text := `{"own":{"id":"own","waves":[{"id":"a","share":10,"enough":75},{"id":"b","share":25,"enough":75},{"id":"c","share":25,"enough":75},{"id":"d","rest":true,"enough":100}]}}`
	if err := json.Unmarshal([]byte(text), &plan); err != nil {
		t.Fatal(err)
	}
	published, err := client.Post[wire.Published](ctx, api, client.Path("changes", change.ID, "publish"), plan)
	if err != nil {
		t.Fatal(err)
	}

	random := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 1))
	over := false
	for round := 0; !over; round++ {
		if round < 10 {
			until, stop := context.WithCancel(ctx)
			var running sync.WaitGroup
			running.Go(func() { c.checkIn(until, r.address, 100) })
			<-time.After(time.Duration(5+random.IntN(120)) * time.Millisecond) // the moment of the kill is what is random
			r.kill()
			stop()
			running.Wait()
			r = serve(t, r.database)
			api = r.admin()
		} else {
			c.checkIn(ctx, r.address, 1)
		}
		over = c.check(t, api, published.Rollout, place)
		if round > 40 {
			t.Fatal("the rollout does not come to its end")
		}
	}
	for i := range c.ids {
		if !c.has(i) {
			t.Errorf("%s does not have the change", c.ids[i].Device)
		}
	}
	r.stop()
}

// check compares what a rollout says with what laptops have, and tells whether it has finished.
func (c *crew) check(t *testing.T, api *client.Client, id string, place map[string]int) (over bool) {
	t.Helper()
	ctx := context.Background()
	r, err := client.Get[wire.Rollout](ctx, api, client.Path("rollouts", id), nil)
	if err != nil {
		t.Fatal(err)
	}
	events, err := client.Get[[]wire.RolloutEvent](ctx, api, client.Path("rollouts", id, "events"), nil)
	if err != nil {
		t.Fatal(err)
	}
	var opened []string
	for _, e := range slices.Backward(events) {
		if e.What == "opened" {
			opened = append(opened, e.Wave)
		}
	}
	if !strings.HasPrefix("a b c d", strings.Join(opened, " ")) {
		t.Errorf("waves opened in the order %v", opened)
	}
	list, err := client.All[wire.RolloutLaptop](ctx, api, client.Path("rollouts", id, "laptops"), nil)
	if err != nil {
		t.Fatal(err)
	}
	counts := map[string]int{}
	for _, l := range list {
		counts[l.State]++
		if c.has(place[l.Device]) && !slices.Contains(opened, l.Wave) {
			t.Errorf("%s has the change, and its wave %s is not open", l.Device, l.Wave)
		}
		if c.known[l.Device] && l.State != "taken" && r.Progress != "finished" { // who is due at the end gets it with what is live
			t.Errorf("%s has the change and was answered, and is %s", l.Device, l.State)
		}
	}
	for state, n := range r.Counts {
		if counts[state] != n {
			t.Errorf("%d laptops are %s, the rollout counts %v", counts[state], state, fmt.Sprint(r.Counts))
		}
	}
	if len(list) != len(c.ids) {
		t.Errorf("the rollout has %d laptops", len(list))
	}
	return r.Progress == "finished"
}
