package rollout

import (
	"time"

	"zenithridge.example/zridge/core/estate"
)

// Event is something that happens to a rollout from outside: a laptop reports, or a person acts.
type Event struct {
	At     time.Time
	Device string
	Report Report // of Device; empty: a person acts
	Act    Act    // with Excuse, of Device; empty with End
	End    bool   // nothing happens: the rehearsal ends
}

// Apply lets time go on to an event and takes it.
func (r *Rollout) Apply(e Event) []Transition {
	switch {
	case e.End:
		return r.Advance(e.At)
	case e.Report != "":
		return r.Tell(e.At, e.Device, e.Report)
	}
	return r.Do(e.At, e.Act, e.Device)
}

// Rehearse starts a rollout and applies events in the order of their times. It gives the rollout as
// it is then, and all that happened. The error is an *EmptyWaveError.
func Rehearse(id string, plan estate.RolloutPlan, laptops []Laptop, started time.Time, events []Event) (*Rollout, []Transition, error) {
	r, happened, err := Start(id, plan, laptops, started)
	if err != nil {
		return nil, nil, err
	}
	for _, e := range events {
		happened = append(happened, r.Apply(e)...)
	}
	return r, happened, nil
}
