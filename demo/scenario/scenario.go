// Package scenario gives the demo estate a past: the service's clock stands some days back, laptops check
// in, changes are reviewed and rolled out, and the clock comes up to now. Every page of the console then has
// something true on it. All of it goes through the service's own interfaces.
package scenario

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/endpoint"
	"zenithridge.example/zridge/formats/wire"
)

// Days is how far back the scenario begins.
const Days = 9

// Author is the account that writes the changes.
const Author = "mairi.duarte"

// Stage is what the scenario is played on.
type Stage struct {
	Administrator *client.Client // approves
	Author        *client.Client // writes and publishes
	Fleet         *endpoint.Fleet
	Laptops       []endpoint.Identity
	Set           func(at time.Time)          // puts the service's clock to a time
	Settle        func(context.Context) error // lets the service take note of the time and of check-ins
	Devices       map[string]wire.Device      // by id
}

// Pace is how many intervals lie between two check-ins of a laptop: boats have poor connections, benches
// are started now and then.
func Pace(d wire.Device) float64 {
	switch {
	case strings.HasPrefix(d.Unit, "rv-"):
		return 8
	case slices.Contains(d.Tags, "bench"), slices.Contains(d.Tags, "spare"):
		return 2
	}
	return 1
}

// Lacks gives the settings that a laptop does not have whatever the dictionary says: one release of one
// system lost one.
func Lacks(d wire.Device) map[setting.ID]bool {
	if d.OS == "linux" && d.OSVersion == "11.8" {
		return map[setting.ID]bool{"media.printing": true}
	}
	return nil
}

// round is the time between two rounds of check-ins: the interval of a laptop of pace 1.
const round = 6 * time.Hour

// play lets time go on from one moment to another, and laptops check in as they usually do.
func (s *Stage) play(ctx context.Context, from, until time.Time, start time.Time) error {
	for at := from; !at.After(until); at = at.Add(round) {
		s.Set(at)
		turn := int(at.Sub(start) / round)
		var now []endpoint.Identity
		for i, id := range s.Laptops {
			if pace := int(Pace(s.Devices[id.Device])); (turn+i)%pace == 0 {
				now = append(now, id)
			}
		}
		if err := s.Fleet.CheckIn(ctx, now); err != nil {
			return err
		}
		if err := s.Settle(ctx); err != nil {
			return err
		}
	}
	return nil
}

// edit is an object of a change.
type edit struct{ kind, id, body string }

// change opens a change with edits, as the author.
func (s *Stage) change(ctx context.Context, title, why string, edits ...edit) (string, error) {
	c, err := client.Post[wire.Change](ctx, s.Author, "/changes", wire.NewChange{Title: title, Why: why})
	if err != nil {
		return "", err
	}
	for _, e := range edits {
		path := client.Path("changes", c.ID, "edits", e.kind, e.id)
		if _, err := s.Author.Call(ctx, http.MethodPut, path, nil, []byte(e.body), nil); err != nil {
			return "", fmt.Errorf("%s: %w", title, err)
		}
	}
	return c.ID, nil
}

// send sends a change for review to the administrator.
func (s *Stage) send(ctx context.Context, change, reviewer string) error {
	_, err := client.Post[wire.Review](ctx, s.Author, client.Path("changes", change, "review"),
		wire.SendForReview{Reviewers: []string{reviewer}})
	return err
}

// approve approves a change as the administrator.
func (s *Stage) approve(ctx context.Context, change, note string) error {
	path := client.Path("changes", change)
	r, err := client.Get[wire.Review](ctx, s.Administrator, path+"/review", nil)
	if err != nil {
		return err
	}
	_, err = client.Post[wire.Review](ctx, s.Administrator, path+"/verdicts", wire.DecideRequest{Verdict: "approve", Note: note,
		Digest: r.Digest})
	return err
}

func (s *Stage) publish(ctx context.Context, change string, how wire.PublishRequest) error {
	_, err := client.Post[wire.Published](ctx, s.Author, client.Path("changes", change, "publish"), how)
	return err
}

// Play plays the scenario up to now. The estate is published, its laptops are enrolled, and nothing else
// has happened.
func Play(ctx context.Context, s *Stage, reviewer string, now time.Time) error {
	start := now.Add(-Days * 24 * time.Hour).Truncate(time.Minute)
	s.Set(start)
	if err := s.Fleet.CheckIn(ctx, s.Laptops); err != nil {
		return err
	}
	if err := s.Settle(ctx); err != nil {
		return err
	}
	steps := []struct {
		after time.Duration
		do    func(context.Context, string) error
	}{
		{96 * time.Hour, s.banner}, // by then it is known how often laptops check in
		{132 * time.Hour, s.screens},
		{180 * time.Hour, s.secondWave},
		{192 * time.Hour, s.printing},
		{210 * time.Hour, s.sticks},
	}
	at := start.Add(round)
	for _, step := range steps {
		until := start.Add(step.after)
		if err := s.play(ctx, at, until, start); err != nil {
			return err
		}
		if err := step.do(ctx, reviewer); err != nil {
			return err
		}
		at = until.Add(round)
	}
	return s.play(ctx, at, now, start)
}

// goesOut has a change reviewed, approved with a note, and published by a rollout plan; none: the default.
func (s *Stage) goesOut(ctx context.Context, change, reviewer, note, plan string) error {
	if err := s.send(ctx, change, reviewer); err != nil {
		return err
	}
	if err := s.approve(ctx, change, note); err != nil {
		return err
	}
	return s.publish(ctx, change, wire.PublishRequest{Plan: plan})
}

// banner is a small change that everybody it touches takes.
func (s *Stage) banner(ctx context.Context, reviewer string) error {
	change, err := s.change(ctx, "A clearer banner for crew leads", "Asked for by the crew leads' round",
		edit{"policies", "leads-banner", `{"id":"leads-banner","title":"Banner for crew leads","kind":"security","priority":20,"owner":"ruth.mbeki",
		 "why":"Leads asked for the duty number on the screen",
		 "settings":{"signin.banner":"Call the duty lead on 4410 before you sign in for somebody else","signin.banner_title":"Crew leads"},
		 "audience":{"include":["group:crew-leads"]}}`})
	if err != nil {
		return err
	}
	return s.goesOut(ctx, change, reviewer, "", "shore-before-boats")
}

// screens is a change for nearly everybody, with pilots first.
func (s *Stage) screens(ctx context.Context, reviewer string) error {
	change, err := s.change(ctx, "Screens lock after ten minutes", "Audit finding 2026-07",
		edit{"policies", "house-rules", `{"id":"house-rules","title":"House rules","kind":"security","priority":10,"owner":"ines.okafor",
		 "why":"Agreed with the works council, 2026-03","labels":["annual-review"],
		 "settings":{"screen.lock_after_minutes":10,"signin.hide_last_person":true,
		  "signin.banner":{"value":"Larkfell Hydrographic. For work only.","note":"legal text"},
		  "network.firewall.public":{"value":true,"lock":true,"note":"no exceptions from units"}},"audience":{"include":["everyone"]}}`})
	if err != nil {
		return err
	}
	return s.goesOut(ctx, change, reviewer, "The works council agreed on 12 November.", "")
}

// secondWave opens the next wave of the rollout that waits for a person.
func (s *Stage) secondWave(ctx context.Context, _ string) error {
	rollouts, err := client.Get[[]wire.Rollout](ctx, s.Author, "/rollouts", nil)
	if err != nil {
		return err
	}
	for _, r := range rollouts {
		if r.Ready {
			if _, err := client.Post[wire.Rollout](ctx, s.Author, client.Path("rollouts", r.ID, "acts"), wire.RolloutAct{Act: "go"}); err != nil {
				return err
			}
		}
	}
	return nil
}

// printing is a change that laptops of one release refuse.
func (s *Stage) printing(ctx context.Context, reviewer string) error {
	change, err := s.change(ctx, "No printing in the laboratories", "Drawings were left at the printer twice",
		edit{"policies", "labs-quiet", `{"id":"labs-quiet","title":"Quiet laboratories","kind":"security","priority":10,
		 "why":"Measurements must not be overheard or disturbed","settings":{"media.microphone":false,"media.camera":false,"media.printing":false},
		 "audience":{"include":["unit:labs"]}}`})
	if err != nil {
		return err
	}
	return s.goesOut(ctx, change, reviewer, "", "shore-before-boats")
}

// sticks is a change that waits for the reader.
func (s *Stage) sticks(ctx context.Context, reviewer string) error {
	change, err := s.change(ctx, "USB sticks for the tide laboratory", "Gauges are read out by stick until the new radio works",
		edit{"policies", "tide-sticks", `{"id":"tide-sticks","title":"USB sticks in the tide laboratory","kind":"security","priority":20,"owner":"mairi.duarte",
		 "why":"Gauges are read out by stick","settings":{"media.usb_storage":"allow","disk.encryption.removable":true},
		 "audience":{"include":["unit:tide-lab"],"exclude":["group:contractors"]}}`})
	if err != nil {
		return err
	}
	if err := s.send(ctx, change, reviewer); err != nil {
		return err
	}
	_, err = client.Post[wire.Comment](ctx, s.Author, client.Path("changes", change, "comments"),
		wire.NewComment{Text: "Until the end of March. The crew knows that sticks must be encrypted.", About: "policies/tide-sticks"})
	return err
}
