// This file sends what is due, and takes the laptop's answer to it.

package checkin

import (
	"context"
	"slices"

	"zenithridge.example/zridge/core/rollout"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/syncml"
)

// send sends the next Atomic of what is due; the revision goes last. When all is sent, what was
// taken is read back.
func (s *session) send(ctx context.Context, out *syncml.Message) error {
	now := s.server.clock()
	if !s.queued {
		s.queued = true
		for id, d := range s.deliveries {
			if d.Due(now) {
				s.queue = append(s.queue, id)
			}
		}
		slices.Sort(s.queue)
	}
	s.phase = sending
	s.inFlight, s.withRev = nil, false
	s.rounds++
	if len(s.queue) == 0 && s.revisionNow == s.revision || s.rounds > maxRounds {
		s.laptop.Revision = s.revisionNow
		if len(s.took) == 0 {
			s.laptop.Digest = s.digestNow
			return s.end(ctx)
		}
		s.phase = verifying
		s.unasked = slices.Clone(s.took)
		s.results = map[string]*received{}
		s.ask(out)
		return nil
	}
	if len(s.queue) > 0 && s.isLarge(s.queue[0]) {
		s.inFlight, s.queue = s.queue[:1:1], s.queue[1:]
		return s.beginChunks(out)
	}
	atomic := syncml.Command{Name: "Atomic"}
	revision := syncml.Command{
		Name:  "Replace",
		Items: []syncml.Item{{Target: syncml.RevisionPath, Meta: syncml.Meta{Format: syncml.FormatText, Type: "text/plain"}, Data: s.revision}},
	}
	free := s.free(out) - syncml.Size(&atomic) - syncml.Size(&revision) - 2*commandID
	for len(s.queue) > 0 {
		c := command(s.deliveries[s.queue[0]])
		free -= syncml.Size(&c) + commandID
		// The first always goes: a large value goes by itself, in chunks.
		if len(atomic.Commands) > 0 && (free < 0 || s.isLarge(s.queue[0])) || len(atomic.Commands) == commandsAtOnce {
			break
		}
		atomic.Commands = append(atomic.Commands, c)
		s.inFlight = append(s.inFlight, s.queue[0])
		s.queue = s.queue[1:]
	}
	if len(s.queue) == 0 {
		s.withRev = true
		atomic.Commands = append(atomic.Commands, revision)
	}
	s.sent += len(s.inFlight)
	out.Commands = append(out.Commands, atomic)
	return nil
}

func command(d rollout.Delivery) syncml.Command {
	path := syncml.SettingPath + string(d.Setting)
	if d.Wanted.IsNothing() {
		return syncml.Command{Name: "Delete", Items: []syncml.Item{{Target: path, Meta: syncml.Meta{Format: syncml.FormatNull}}}}
	}
	data, meta := syncml.WriteValue(d.Wanted)
	return syncml.Command{Name: "Replace", Items: []syncml.Item{{Target: path, Meta: meta, Data: data}}}
}

func (s *session) refused(id setting.ID, code, reason string) {
	s.deliveries[id] = s.deliveries[id].Refuse(code, reason, s.server.clock())
	s.failed++
}

// settle takes the laptop's statuses for the Atomic that was sent. When it failed, what was refused
// is recorded and the rest queued again; when nothing in it was refused by itself, all of it is.
func (s *session) settle() {
	verdict := syncml.Failed
	single := map[setting.ID]string{}
	revisionCode := syncml.OK
	for key, c := range s.asked {
		code, said := s.statuses[key]
		switch {
		case c.Name == "Atomic" && said:
			verdict = code
		case (c.Name == "Replace" || c.Name == "Delete") && said:
			if c.Items[0].Target == syncml.RevisionPath {
				revisionCode = code
			} else if id, ok := syncml.SettingOf(c.Items[0].Target); ok {
				single[id] = code
			}
		}
	}
	s.asked, s.statuses = map[string]syncml.Command{}, map[string]string{}
	if verdict == syncml.OK {
		for _, id := range s.inFlight {
			if single[id] == syncml.Accepted {
				s.deliveries[id] = s.deliveries[id].Later(s.server.clock())
			} else {
				s.took = append(s.took, id)
			}
		}
		if s.withRev {
			s.revisionNow = s.revision
		}
		return
	}
	anyRefused := false
	var again []setting.ID
	for _, id := range s.inFlight {
		switch code := single[id]; code {
		case syncml.OK, syncml.NotExecuted, syncml.RolledBack, syncml.Cancelled, "":
			again = append(again, id)
		default:
			anyRefused = true
			s.refused(id, code, reasonOf(code))
		}
	}
	if !anyRefused {
		for _, id := range again {
			s.refused(id, verdict, reasonOf(verdict))
		}
		again = nil
		if len(s.inFlight) == 0 || revisionCode != syncml.OK { // the revision itself is refused: do not ask for ever
			s.rounds = maxRounds
		}
	}
	s.queue = append(again, s.queue...)
	slices.Sort(s.queue)
}

// reasonOf says in words what a laptop's status code means.
func reasonOf(code string) string {
	words := map[string]string{
		syncml.Forbidden:            "forbidden on the laptop",
		syncml.NotFound:             "the laptop has no such setting",
		syncml.NotAllowed:           "not allowed on this setting",
		syncml.NotSupported:         "not supported by the laptop",
		syncml.WrongFormat:          "the laptop does not take this kind of value",
		"416":                       "the value is too large",
		"420":                       "the laptop's storage is full",
		syncml.Denied:               "permission denied on the laptop",
		syncml.Failed:               "the laptop failed to apply it",
		syncml.AtomicFailed:         "the laptop could not apply the settings together",
		syncml.AtomicRollbackFailed: "the laptop could not apply the settings and could not go back",
	}
	if text := words[code]; text != "" {
		return text
	}
	return "the laptop answered with status " + code
}

// verified takes what the laptop reports after it took what was sent.
func (s *session) verified(ctx context.Context) error {
	now := s.server.clock()
	for _, id := range s.took {
		v, answered := s.reported(id)
		if !answered {
			s.refused(id, rollout.CodeDiffers, "accepted, but the laptop does not report it")
			continue
		}
		d := s.deliveries[id].Accept(v, now)
		if d.Status == rollout.Failed {
			s.failed++
		} else {
			s.applied++
		}
		s.deliveries[id] = d
	}
	s.laptop.Digest = s.value(syncml.DigestPath)
	return s.end(ctx)
}
