// Package rollout follows changes on their way to laptops. It is pure: it asks no clock and stores
// nothing.
//
// A Delivery is one setting on its way to one laptop: what is wanted, what the laptop reported, and
// how far it is.
//
// A Rollout is a whole change on its way to many laptops, by a Plan: it opens waves, waits at their
// gates, stops by itself when too many laptops fail, and is taken back. Times, reports and what
// people do go in, Transitions come out:
//
//	r, happened, err := rollout.Start("C-1", plan, laptops, started)
//	happened = r.Tell(at, "LT-0110", rollout.ReportTaken)
//	next, known := r.Next() // when time alone brings something
//	happened = r.Advance(next)
//
// Rehearse does the same with a list of events. Which laptops a change touches, and which of them
// the audience of a wave matches, is found before: a Rollout knows no policies.
package rollout
