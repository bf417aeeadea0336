// This file tells a laptop what it shows to its person, which is policies that are offered and why settings are
// managed, and takes what the person took.

package checkin

import (
	"cmp"
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
	if s.offers.tells && s.revisionNow != s.revision { // what it shows may be otherwise, though what it gets is not
		if err := s.load(ctx); err != nil {
			return err
		}
	}
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
	if s.result == nil && s.revisionNow == s.revision && !s.live.Plan.AnyOffered() {
		return nil // what it shows came with the revision
	}
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
	commands := make([]syncml.Command, 0, len(offers))
	for _, o := range offers {
		commands = append(commands, s.offer(o.Policy))
	}
	reasons, known := s.reasons()
	there := map[string]bool{}
	for _, c := range append(commands, reasons...) {
		at := shownAt(c.Items[0].Target)
		there[at] = true
		if s.offers.shown[at] != sumOf(c.Items[0].Data) {
			s.offers.queue = append(s.offers.queue, c)
		}
	}
	for _, at := range slices.Sorted(maps.Keys(s.offers.shown)) {
		if _, isWhy := strings.CutPrefix(at, whyMark); there[at] || isWhy && !known {
			continue
		}
		s.offers.queue = append(s.offers.queue, syncml.Command{
			Name: "Delete", Items: []syncml.Item{{Target: shownPath(at), Meta: syncml.Meta{Format: syncml.FormatNull}}},
		})
	}
	return nil
}

// whyMark is before the name of a setting among what a laptop shows; what has no mark is a policy that is offered.
const whyMark = "why/"

// shownAt gives the name by which it is kept what a laptop shows at a path; empty where it shows nothing there.
func shownAt(path string) string {
	if id, is := strings.CutPrefix(path, syncml.WhyPath); is {
		return whyMark + id
	}
	id, _ := strings.CutPrefix(path, syncml.OfferPath)
	if id == path {
		return ""
	}
	return id
}

func shownPath(at string) string {
	if id, is := strings.CutPrefix(at, whyMark); is {
		return syncml.WhyPath + id
	}
	return syncml.OfferPath + at
}

// reasons gives the commands that show why settings are managed. known is false where they are as they were: the
// laptop has the revision, and nothing had to be looked up.
func (s *session) reasons() (commands []syncml.Command, known bool) {
	if s.result == nil || s.revisionNow == s.revision && s.offers.hasReasons() {
		return nil, false
	}
	for id, d := range s.deliveries {
		if d.Wanted.IsNothing() {
			continue
		}
		var w syncml.Why
		if def := s.live.Plan.Definition(id); def != nil {
			w.Title = def.Title
		}
		for _, from := range s.result.DecidedBy(id) {
			w.Policies = append(w.Policies, s.whyPolicy(from))
		}
		if s.onlyReports(id) {
			w.OnDrift = syncml.OnlyReport
		}
		data, meta := syncml.WriteWhy(w)
		c := syncml.Command{Name: "Replace", Items: []syncml.Item{{Target: syncml.WhyPath + string(id), Meta: meta, Data: data}}}
		if syncml.Size(&c) > s.room() { // without the long texts
			for i := range w.Policies {
				w.Policies[i].Reason = ""
			}
			c.Items[0].Data, _ = syncml.WriteWhy(w)
		}
		commands = append(commands, c)
	}
	slices.SortFunc(commands, func(a, b syncml.Command) int { return strings.Compare(a.Items[0].Target, b.Items[0].Target) })
	return commands, true
}

// hasReasons tells whether the laptop shows why something is managed.
func (o *offersOf) hasReasons() bool {
	for at := range o.shown {
		if strings.HasPrefix(at, whyMark) {
			return true
		}
	}
	return false
}

// whyPolicy gives what is shown of a policy or an exception that decided a setting.
func (s *session) whyPolicy(id string) syncml.WhyPolicy {
	snapshot := s.live.Plan.Snapshot()
	if p := s.live.Plan.Policy(estate.PolicyID(id)); p != nil {
		w := syncml.WhyPolicy{Title: cmp.Or(p.Title, id), Reason: p.Why, Owner: p.Owner}
		if person := snapshot.Person(estate.PersonID(p.Owner)); person != nil {
			w.Owner = strings.TrimSpace(person.Name + " " + person.Mail)
		}
		return w
	}
	for _, x := range snapshot.Exceptions {
		if string(x.ID) == id {
			return syncml.WhyPolicy{Title: "Exception " + id + ", until " + string(x.Until), Reason: x.Reason, Owner: x.ApprovedBy}
		}
	}
	return syncml.WhyPolicy{Title: id}
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
		id := shownAt(c.Items[0].Target)
		switch code := s.statuses[key]; {
		case id == "":
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
