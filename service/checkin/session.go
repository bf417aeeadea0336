// This file runs one session, message by message.

package checkin

import (
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/rollout"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/syncml"
	"zenithridge.example/zridge/service/store"
	"zenithridge.example/zridge/service/workflow"
)

// phase says what the service waits for.
type phase uint8

const (
	greeting  phase = iota // the laptop's first message
	comparing              // its digest and revision, and what was taken on it
	reading                // its reported values
	offering               // statuses of the offers that were sent
	sending                // statuses of the Atomic that was sent
	chunking               // the status of a chunk of a large value
	verifying              // reported values of what it took
)

// maxRounds bounds how often what is left is sent again without what was refused.
const maxRounds = 100

// commandsAtOnce is how many settings one message asks for or sends: the laptop's answer has two
// commands for each, and must stay below syncml.MaxCommands.
const commandsAtOnce = 200

// Limits of a session. A laptop that takes the largest values of every setting in its smallest
// messages stays far below them.
const (
	maxMessages     = 5000
	maxSessionBytes = 64 << 20
	answersKept     = 4 // for a laptop that did not get one and asks again
)

// headroom is what a message needs besides one command with a value, in bytes. A laptop whose messages
// are short has a quarter of a message for the value.
const headroom = 2048

const (
	statusSize  = 260 // of the status of one command, in bytes
	commandID   = 8   // of the number that a command gets, in bytes
	messageEnds = 100 // of what is added to a message in the end, in bytes
)

// room gives how many bytes a command with a value may have to go in one message to the laptop.
func (s *session) room() int { return max(s.limit-headroom, s.limit/4) }

// free gives how many bytes of commands can be added to a message to the laptop.
func (s *session) free(out *syncml.Message) int {
	return s.limit - len(syncml.Encode(out)) - commandID*len(out.Commands) - messageEnds
}

// answered is an answer, and the sum of the message that it answers, with its MAC.
type answered struct {
	of   [32]byte
	text []byte
}

// session is one session of one laptop.
type session struct {
	server  *Server
	device  string
	id      string
	from    string    // whom it belongs to: a certificate, or a network address
	signed  bool      // every message has a MAC
	certain bool      // its connections have a certificate: there are no credentials
	touched time.Time // guarded by the server

	mu          sync.Mutex
	credential  string              // with which a MAC is tested
	nonce       []byte              // of the next MAC
	answers     map[string]answered // by MsgID: the last few
	answerOrder []string            // their MsgIDs, the oldest first
	bytes       int64               // of all messages so far
	over        bool
	started     time.Time
	laptop      store.Laptop
	begun       store.Laptop     // as it was stored when the session began
	live        *workflow.Live   // when the session began
	result      *resolve.Reasons // of that, once it was looked up
	settledAs   int64            // the turn of what is live, when nothing is due in the end
	deliveredAt int64            // the turn of what is live with which the deliveries are up to date in the end
	limit       int              // bytes of the laptop's longest message
	revision    string           // of what is live

	digestNow, revisionNow string // as the laptop has them

	phase      phase
	deliveries map[setting.ID]rollout.Delivery
	before     map[setting.ID]rollout.Delivery // as they were read
	asked      map[string]syncml.Command       // commands that wait for an answer, by MsgID and CmdID
	results    map[string]*received            // values that were asked for, by path
	wanted     map[string]bool                 // paths of the values that were asked for
	statuses   map[string]string               // of what was asked, by MsgID and CmdID
	queued     bool                            // what is due was queued
	queue      []setting.ID                    // due and not sent yet
	inFlight   []setting.ID                    // in the Atomic that was sent
	withRev    bool                            // that Atomic holds the revision
	chunks     []string                        // of the large value in flight, not sent yet
	unasked    []setting.ID                    // reported values to be asked for in later messages
	offers     offersOf
	facts      []string      // that the laptop was asked for
	drifts     []store.Drift // what was altered on the laptop: what it says, and what shows
	extra      []setting.ID  // asked for though nothing manages them
	took       []setting.ID  // accepted in this session

	forBaseline bool // extra is what baselines want to know
	measured    bool // what baselines want to know came in this session

	rounds   int
	messages int
	sent     int
	applied  int
	failed   int
}

// received is a value that a laptop reports, perhaps in chunks.
type received struct {
	data []byte
	meta syncml.Meta
	want int // size of a large object, 0 when none was said
	more bool
}

// begin starts a session for a laptop that is authenticated.
func (d *Server) begin(ctx context.Context, in incoming, laptop enrolled) (*session, error) {
	device := in.Header.Source
	now := d.now()
	s := &session{
		server:   d,
		device:   device,
		id:       in.Header.SessionID,
		from:     in.from.owner(),
		signed:   in.from.MAC != "" && in.from.Certificate == "",
		certain:  in.from.Certificate != "",
		touched:  now,
		started:  d.clock(),
		answers:  map[string]answered{},
		asked:    map[string]syncml.Command{},
		results:  map[string]*received{},
		statuses: map[string]string{},
		wanted:   map[string]bool{},
		laptop:   laptop.row,
		begun:    laptop.row,
		limit:    in.Header.MaxMsgSize,
	}
	if s.signed {
		s.credential = laptop.credential
	}
	if s.limit == 0 {
		s.limit = 64 << 10
	}
	s.limit = max(s.limit, leastMessage)
	s.live = d.flow.Live()
	s.revision = d.flow.RevisionFor(s.live, device)
	d.mu.Lock()
	settled := d.settled[device]
	d.mu.Unlock()
	if settled == 0 || !d.flow.SameSince(settled, estate.DeviceID(device)) {
		if err := s.load(ctx); err != nil {
			return nil, err
		}
	} // else nothing is due, and what was delivered is looked up when the laptop says that it has something else
	d.mu.Lock()
	d.sessions[device] = s
	d.mu.Unlock()
	return s, nil
}

// load looks up what was delivered, and brings it up to date with what is wanted.
func (s *session) load(ctx context.Context) error {
	if s.deliveries != nil {
		return nil
	}
	var err error
	if s.before, err = s.server.store.In(ctx).Deliveries(s.device); err != nil {
		return err
	}
	s.deliveries = map[setting.ID]rollout.Delivery{}
	result, err := s.server.flow.PlanFor(s.live, s.device).Reasons(estate.DeviceID(s.device), "")
	var left *resolve.UnknownError
	switch {
	case err == nil:
		s.deliveries, _ = workflow.Wanted(result, s.before, s.started)
	case !errors.As(err, &left): // a laptop that left the estate keeps what it has
		return err
	}
	s.result = result
	s.mendDrifts()
	return nil
}

// next takes a message that says it is of this session. done is false where it begins another.
func (s *session) next(ctx context.Context, in incoming) (answer []byte, done bool, err error) {
	kept, again := s.answers[in.Header.MsgID]
	switch {
	case again && (kept.of == in.sum || !s.over && !s.signed):
		return kept.text, true, nil // the same answer again, no second effect
	case s.over:
		return nil, false, nil
	case s.signed && !in.proves(s.credential, s.nonce):
		by := workflow.Actor{Name: "somebody", Via: "device"}
		s.server.flow.RecordOften(ctx, by, "message of a laptop refused", in.from.Address)
		return s.server.refuse(in.Message, syncml.WrongCredentials, challengeOf(syncml.AuthMAC, s.nonce)), true, nil
	}
	s.bytes += int64(len(in.data))
	answer, err = s.answer(ctx, in, in.Header.Cred != nil)
	return answer, true, err
}

// headerStatus gives the status of a message's header. It hands out a nonce: for the next message
// where each has a MAC, for the next session where credentials were accepted for this one.
func (s *session) headerStatus(m *syncml.Message, withCredentials bool) syncml.Command {
	code := syncml.OK
	if withCredentials && !s.signed && !s.certain {
		code = syncml.AuthAccepted
	}
	header := statusOf(m, "0", "SyncHdr", code)
	header.TargetRefs, header.SourceRefs = nonEmpty(m.Header.Target), nonEmpty(m.Header.Source)
	switch {
	case s.signed:
		s.nonce = s.server.nextNonce(s.device)
		header.Chal = challengeOf(syncml.AuthMAC, s.nonce)
	case withCredentials && s.phase == greeting && !s.certain:
		header.Chal = challengeOf(syncml.AuthMD5, s.server.nextNonce(s.device))
	}
	return header
}

// answer takes the next message of the session.
func (s *session) answer(ctx context.Context, in incoming, withCredentials bool) ([]byte, error) {
	m := in.Message
	s.server.mu.Lock()
	s.touched = s.server.now()
	s.server.mu.Unlock()
	s.messages++
	out := answerTo(m)
	header := s.headerStatus(m, withCredentials)
	out.Commands = append(out.Commands, header)
	aborted := s.receive(ctx, m, out)
	var err error
	switch {
	case s.messages > maxMessages || s.bytes > maxSessionBytes:
		err = s.finish(ctx, "stopped: the session is too long")
		out.Final = true
	case aborted:
		err = s.finish(ctx, "aborted by the laptop")
		out.Final = true
	case !m.Final && s.phase != chunking: // the laptop has more to say before it is our turn
		out.Commands = append(out.Commands, syncml.Command{Name: "Alert", Data: syncml.AlertNextMessage})
	default:
		err = s.proceed(ctx, out)
		out.Final = len(s.chunks) == 0 // a package ends with the last chunk
	}
	if err != nil {
		return nil, err
	}
	number(out)
	s.remember(m.Header.MsgID, out)
	text := syncml.Encode(out)
	s.keepAnswer(m.Header.MsgID, answered{in.sum, text})
	return text, nil
}

// keepAnswer keeps an answer for a laptop that sends its message again, and lets the oldest go.
func (s *session) keepAnswer(msgID string, a answered) {
	if _, again := s.answers[msgID]; !again {
		s.answerOrder = append(s.answerOrder, msgID)
	}
	s.answers[msgID] = a
	if len(s.answerOrder) > answersKept {
		delete(s.answers, s.answerOrder[0])
		s.answerOrder = s.answerOrder[1:]
	}
}

// remember notes which commands of an answer wait for the laptop.
func (s *session) remember(msgID string, out *syncml.Message) {
	var each func([]syncml.Command)
	each = func(commands []syncml.Command) {
		for _, c := range commands {
			switch c.Name {
			case "Get", "Replace", "Delete", "Atomic", "Exec":
				s.asked[msgID+"/"+c.CmdID] = c
				if c.Name == "Get" {
					s.wanted[c.Items[0].Target] = true
				}
			}
			each(c.Commands)
		}
	}
	each(out.Commands)
}

// proceed takes the next step of the session and adds its commands; without any the session is
// over.
func (s *session) proceed(ctx context.Context, out *syncml.Message) error {
	switch s.phase {
	case greeting:
		s.phase = comparing
		out.Commands = append(out.Commands, get(syncml.DigestPath), get(syncml.RevisionPath))
		s.askFacts(out)
		if err := s.askRenewals(ctx, out); err != nil {
			return err
		}
		if s.laptop.TellsSince != nil || s.live.Plan.AnyOffered() || s.facts != nil {
			out.Commands = append(out.Commands, get(syncml.TakenPath))
		}
		return nil
	case comparing:
		s.digestNow, s.revisionNow = s.value(syncml.DigestPath), s.value(syncml.RevisionPath)
		if err := errors.Join(s.hearFacts(ctx), s.hearTaken(ctx), s.hearDrifts(ctx)); err != nil {
			return err
		}
		same := s.digestNow == s.laptop.Digest && s.digestNow != ""
		if !same || s.server.asks(s.device) {
			if err := s.load(ctx); err != nil {
				return err
			}
		}
		s.extra = s.everything(ctx)
		if same && s.extra == nil {
			return s.offerThenSend(ctx, out)
		}
		s.phase = reading
		s.unasked = append(s.unasked, s.extra...)
		for id := range s.deliveries {
			s.unasked = append(s.unasked, id)
		}
		s.results = map[string]*received{}
		s.ask(out)
		return nil
	case reading:
		if len(s.unasked) > 0 {
			s.ask(out)
			return nil
		}
		if err := s.observed(ctx); err != nil {
			return err
		}
		now := s.server.clock()
		for id, d := range s.deliveries {
			v, answered := s.reported(id)
			if answered && (!v.Equal(d.Reported) || d.ReportedAt.IsZero()) {
				s.deliveries[id] = s.noticed(d, v, now)
			}
		}
		return s.offerThenSend(ctx, out)
	case offering:
		s.settleOffers()
		return s.offerThenSend(ctx, out)
	case sending:
		s.settle()
		return s.send(ctx, out)
	case chunking:
		return s.nextChunk(ctx, out)
	default:
		if len(s.unasked) > 0 {
			s.ask(out)
			return nil
		}
		return s.verified(ctx)
	}
}

func get(path string) syncml.Command {
	return syncml.Command{Name: "Get", Items: []syncml.Item{{Target: path, Meta: syncml.Meta{Format: syncml.FormatNull}}}}
}

// ask asks for as many of the reported values as an answer can hold, and with the last of them for
// the digest.
func (s *session) ask(out *syncml.Message) {
	slices.Sort(s.unasked)
	// Three things are limited: what the laptop answers, by the service's own limit; what it is asked,
	// and the status that each of its answers gets in the next message, by the laptop's.
	digest := get(syncml.DigestPath)
	expected, asked, free := 0, 0, s.free(out)-syncml.Size(&digest)-commandID
	for len(s.unasked) > 0 {
		id := s.unasked[0]
		data, _ := syncml.WriteValue(s.deliveries[id].Wanted)
		c := get(syncml.ReportedPath + string(id))
		expected += 400 + 2*len(data)
		free -= syncml.Size(&c) + commandID
		if asked > 0 && (expected > maxMessage || free < 0 || (asked+2)*statusSize > s.limit*2/5) || asked == commandsAtOnce {
			return
		}
		asked++
		out.Commands = append(out.Commands, c)
		s.unasked = s.unasked[1:]
	}
	out.Commands = append(out.Commands, digest)
}
