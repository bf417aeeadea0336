// This file tells a laptop which policies are offered to its person, and takes what the person took.

package checkin

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"maps"
	"slices"
	"strings"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/formats/syncml"
)

// maxTaken is how many policies a laptop may say were taken.
const maxTaken = 1000

// offersOf is what a session does about offered policies.
type offersOf struct {
	tells  bool              // the laptop says what was taken on it: it shows offers to its person
	queued bool              // what is to be said was queued
	queue  []syncml.Command  // to be said and not sent yet
	shown  map[string]string // by policy: the sum of what the laptop shows of it
}

// hearTaken takes what the laptop says was taken on it. What that alters is live when it returns, and the
// session goes on with it.
func (s *session) hearTaken(ctx context.Context) error {
	r := s.results[syncml.TakenPath]
	if r == nil || r.more {
		return nil // it has no page on which offers are shown
	}
	taken, err := syncml.ReadTaken(string(r.data))
	if err != nil || len(taken) > maxTaken {
		s.server.log.Warn("what a laptop says was taken can't be understood", "device", s.device, "policies", len(taken), "error", err)
		return nil
	}
	s.offers.tells = true
	altered, err := s.server.flow.TellTaken(ctx, s.device, taken)
	if err != nil || !altered {
		return err
	}
	return s.loadAnew(ctx)
}

// offerThenSend says first which offers are new, otherwise or gone, and then sends what is due.
func (s *session) offerThenSend(ctx context.Context, out *syncml.Message) error {
	if err := s.queueOffers(); err != nil {
		return err
	}
	if len(s.offers.queue) == 0 {
		return s.send(ctx, out)
	}
	s.phase = offering
	for free := s.free(out); len(s.offers.queue) > 0 && len(out.Commands) < commandsAtOnce; {
		c := s.offers.queue[0]
		free -= syncml.Size(&c) + commandID
		if free < 0 && len(out.Commands) > 0 && out.Commands[len(out.Commands)-1].Name != "Status" {
			break // one always goes: it was made short enough
		}
		out.Commands = append(out.Commands, c)
		s.offers.queue = s.offers.queue[1:]
	}
	return nil
}

// queueOffers queues what the laptop is to be told of offers.
func (s *session) queueOffers() error {
	if !s.offers.tells || s.offers.queued {
		return nil
	}
	s.offers.queued = true
	s.offers.shown = map[string]string{}
	if s.laptop.Offers != "" && s.revisionNow != "" { // else it lost all that it had
		if err := json.Unmarshal([]byte(s.laptop.Offers), &s.offers.shown); err != nil {
			return err
		}
	}
	offers, err := s.server.flow.PlanFor(s.live, s.device).Offers(estate.DeviceID(s.device))
	var left *resolve.UnknownError
	if err != nil && !errors.As(err, &left) {
		return err
	}
	there := map[string]bool{}
	for _, o := range offers {
		id := string(o.Policy.ID)
		there[id] = true
		if c := s.offer(o.Policy); s.offers.shown[id] != sumOf(c.Items[0].Data) {
			s.offers.queue = append(s.offers.queue, c)
		}
	}
	for _, id := range slices.Sorted(maps.Keys(s.offers.shown)) {
		if !there[id] {
			s.offers.queue = append(s.offers.queue, syncml.Command{
				Name: "Delete", Items: []syncml.Item{{Target: syncml.OfferPath + id, Meta: syncml.Meta{Format: syncml.FormatNull}}},
			})
		}
	}
	return nil
}

// offer gives the command that shows an offered policy. Its description is cut where no message of the
// laptop could hold it.
func (s *session) offer(p *estate.Policy) syncml.Command {
	o := syncml.Offer{Title: p.Title, Description: p.Why}
	for {
		data, meta := syncml.WriteOffer(o)
		c := syncml.Command{Name: "Replace", Items: []syncml.Item{{Target: syncml.OfferPath + string(p.ID), Meta: meta, Data: data}}}
		long := &o.Description
		if *long == "" {
			long = &o.Title
		}
		if syncml.Size(&c) <= s.room() || len([]rune(*long)) < 2 {
			return c
		}
		runes := []rune(strings.TrimSuffix(*long, "…"))
		*long = string(runes[:len(runes)/2]) + "…"
	}
}

func sumOf(data string) string {
	sum := sha256.Sum256([]byte(data))
	return hex.EncodeToString(sum[:8])
}

// settleOffers takes the laptop's statuses of the offers that were sent. What it refused is said again in
// the next session.
func (s *session) settleOffers() {
	for key, c := range s.asked {
		if len(c.Items) != 1 {
			continue
		}
		id, is := strings.CutPrefix(c.Items[0].Target, syncml.OfferPath)
		switch code := s.statuses[key]; {
		case !is:
		case c.Name == "Replace" && code == syncml.OK:
			s.offers.shown[id] = sumOf(c.Items[0].Data)
		case c.Name == "Delete" && (code == syncml.OK || code == syncml.NotFound):
			delete(s.offers.shown, id)
		}
	}
	s.asked, s.statuses = map[string]syncml.Command{}, map[string]string{}
	text, _ := json.Marshal(s.offers.shown) // texts always have a JSON form
	s.laptop.Offers = string(text)
}
