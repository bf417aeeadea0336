// This file notes what people want to be told, and what they are to be told. Package announce sends it.

package workflow

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"time"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/rollout"
	"zenithridge.example/zridge/service/store"
)

// Topics that people can be told of.
const (
	AboutStopped  = "rollout-stopped"  // a rollout stopped by itself
	AboutReady    = "rollout-ready"    // a wave waits for a person
	AboutFinished = "rollout-finished" // a rollout has finished, or is taken back
	AboutReview   = "review-wanted"    // a change waits for an approval
	AboutLapse    = "exception-lapses" // an exception ends in 14 or in 3 days
	AboutBaseline = "baseline-below"   // fewer laptops comply with a baseline than its line wants
)

// Topics lists every topic.
var Topics = []string{AboutStopped, AboutReady, AboutFinished, AboutReview, AboutLapse, AboutBaseline}

// announcement is something that people are to be told.
type announcement struct {
	topic, title, text, path string
	only                     []string // accounts; none: whoever wants to be told of the topic
}

// tell notes what is to be sent to those who want to be told, in the transaction in which it happened.
func (s *liveEstate) tell(tx *store.Store, a announcement) error {
	choices, err := tx.ChoicesOf(a.topic)
	if err != nil {
		return err
	}
	real := time.Now().UTC() // it is sent in real time, whatever the clock of the estate shows
	var list []store.Announcement
	for _, c := range choices {
		if len(a.only) > 0 && !slices.Contains(a.only, c.Account) {
			continue
		}
		row := store.Announcement{
			Account: c.Account, Topic: a.topic, Title: a.title, Text: a.text, Path: a.path, At: s.now(), State: store.AnnouncementDue, NextAt: real,
		}
		if c.Mail {
			row.Channel = "mail"
			list = append(list, row)
		}
		if c.Webhook {
			row.Channel = "webhook"
			list = append(list, row)
		}
	}
	return tx.AddAnnouncements(list)
}

// tellOfRollout notes what people are to be told of what happened in a rollout.
func (s *liveEstate) tellOfRollout(tx *store.Store, m *machine, happened []rollout.Transition) error {
	var errs []error
	for _, t := range happened {
		a := announcement{path: "/rollouts/" + m.row.ID}
		switch t.Progress {
		case rollout.Stopped:
			a.topic, a.title = AboutStopped, fmt.Sprintf("Stopped: %s", m.row.Title)
			a.text = fmt.Sprintf("The rollout stopped by itself: too many laptops %s. %s", map[rollout.StopReason]string{
				rollout.TooManyFailed: "failed", rollout.TooManyLost: "were not heard any more",
			}[t.Reason], m.countsInWords())
		case rollout.Finished:
			a.topic, a.title, a.text = AboutFinished, fmt.Sprintf("Finished: %s", m.row.Title), "The rollout has finished. "+m.countsInWords()
		case rollout.TakenBack:
			a.topic, a.title, a.text = AboutFinished, fmt.Sprintf("Taken back: %s", m.row.Title), "Every laptop has again what it "+
				"had before."
		default:
			continue
		}
		errs = append(errs, s.tell(tx, a))
	}
	return errors.Join(errs...)
}

// countsInWords says how many laptops have the change, failed and are lost.
func (m *machine) countsInWords() string {
	counts := map[rollout.State]int{}
	for _, w := range m.Waves() {
		for state, n := range w.Counts {
			counts[rollout.State(state)] += n
		}
	}
	return fmt.Sprintf("%d laptops have taken it, %d failed, %d are lost.", counts[rollout.Taken], counts[rollout.Refused],
		counts[rollout.Lost])
}

// tellReady tells people once that the next wave of a rollout waits for them. s.moving must be held.
func (s *liveEstate) tellReady(ctx context.Context, m *machine, now time.Time) error {
	w, more := m.NextWave()
	from, passed := m.Gate()
	p, _ := m.Progress()
	if !more || !w.ByHand || !passed || from.After(now) || p != rollout.Running || m.row.ReadyTold == string(w.ID) {
		return nil
	}
	row := m.row
	row.ReadyTold = string(w.ID)
	err := s.store.Transaction(ctx, func(tx *store.Store) error {
		return errors.Join(tx.SaveRollout(row), s.tell(tx, announcement{
			topic: AboutReady, title: fmt.Sprintf("Waits for you: %s", m.row.Title), path: "/rollouts/" + m.row.ID,
			text: fmt.Sprintf("Enough laptops of the last wave have taken the change. Somebody opens the wave %q.", w.ID),
		}))
	})
	if err == nil {
		m.row = row
		s.Notify(Event{Topic: "rollout", ID: row.ID})
	}
	return err
}

// tellLapses notes the exceptions that end in 14 or in 3 days, on the day on which that is so.
func (s *liveEstate) tellLapses(ctx context.Context, exceptions []estate.Exception, day estate.Date) error {
	today, err := time.Parse(time.DateOnly, string(day))
	if err != nil {
		return err
	}
	var errs []error
	for _, x := range exceptions {
		for _, days := range []int{LapseSoon, LapseNow} {
			if string(x.Until) == today.AddDate(0, 0, days).Format(time.DateOnly) {
				errs = append(errs, s.tell(s.store.In(ctx), announcement{
					topic: AboutLapse, title: fmt.Sprintf("Exception %s ends in %d days", x.ID, days), path: "/exceptions",
					text: fmt.Sprintf("%s for %s, until %s: %s", x.Setting, x.Target, x.Until, x.Reason),
				}))
			}
		}
	}
	return errors.Join(errs...)
}

// AnnouncementChoices is what somebody wants to be told, and how.
type AnnouncementChoices struct {
	Mail    []string // topics
	Webhook []string // topics
	Hook    string   // address of the webhook; empty: none
}

// OwnAnnouncements gives what an actor wants to be told, and what they were told last.
func (s *Service) OwnAnnouncements(ctx context.Context, by Actor) (AnnouncementChoices, []store.Announcement, error) {
	var out AnnouncementChoices
	if err := by.Need(access.Read); err != nil {
		return out, nil, err
	}
	choices, err := s.store.In(ctx).Choices(by.Name)
	if err != nil {
		return out, nil, err
	}
	for _, c := range choices {
		if c.Mail {
			out.Mail = append(out.Mail, c.Topic)
		}
		if c.Webhook {
			out.Webhook = append(out.Webhook, c.Topic)
		}
	}
	if out.Hook, err = s.store.In(ctx).Hook(by.Name); err != nil {
		return out, nil, err
	}
	sent, err := s.store.In(ctx).Announcements(by.Name, 20)
	return out, sent, err
}

// ChooseAnnouncements keeps what an actor wants to be told. They must be able to read what they are told of.
func (s *Service) ChooseAnnouncements(ctx context.Context, by Actor, c AnnouncementChoices) error {
	if err := by.Need(access.Read); err != nil {
		return err
	}
	var rows []store.AnnouncementChoice
	for _, topic := range slices.Concat(c.Mail, c.Webhook) {
		if !slices.Contains(Topics, topic) {
			return problem.Faults{{Code: problem.NotOneOf, Path: "/topics", Found: problem.Quote(topic),
				Expected: "a topic that people are told of"}}
		}
	}
	for _, topic := range Topics {
		row := store.AnnouncementChoice{Account: by.Name, Topic: topic, Mail: slices.Contains(c.Mail, topic),
			Webhook: slices.Contains(c.Webhook, topic)}
		if row.Mail || row.Webhook {
			rows = append(rows, row)
		}
	}
	if c.Hook != "" {
		at, err := url.Parse(c.Hook)
		if err != nil || at.Scheme != "https" && at.Scheme != "http" || at.Host == "" || at.User != nil || len(c.Hook) > 1000 {
			return problem.Faults{{Code: problem.OutOfRange, Path: "/hook", Found: problem.Quote(c.Hook),
				Expected: "an address that begins with https://, without a password"}}
		}
		if s.mayHook == nil || !s.mayHook(at) {
			return problem.Faults{{Code: problem.UnknownReference, Path: "/hook", Found: problem.Quote(at.Host),
				Expected: "a host that the operator of the service allows for webhooks"}}
		}
	}
	return s.store.Transaction(ctx, func(tx *store.Store) error {
		return errors.Join(tx.SaveChoices(by.Name, rows, c.Hook),
			s.audit(tx, by, store.AuditRecord{Action: "choose announcements", After: c.Hook}))
	})
}

// AllowHooks says to which addresses webhooks may lead; without it to none.
func (s *liveEstate) AllowHooks(may func(*url.URL) bool) { s.mayHook = may }

// AddressOf gives the e-mail address of an account: that of the person with its name. Empty: it is not known.
func (s *liveEstate) AddressOf(account string) string {
	if p := s.Live().Plan.Person(estate.PersonID(account)); p != nil {
		return p.Mail
	}
	return ""
}
