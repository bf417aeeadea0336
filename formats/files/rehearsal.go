// This file reads rehearsals of rollouts, and writes what happens in them.

package files

import (
	"encoding/json"
	"errors"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/rollout"
)

// Rehearsal is a rollout with all that happens to it from outside.
type Rehearsal struct {
	Rollout string // its id
	Started time.Time
	Plan    estate.RolloutPlan
	Laptops []rollout.Laptop
	Events  []rollout.Event // in the order of their times; the last one is the end

	tree *node // for the place of a wave that turns out to be empty
}

// ReadRehearsal reads the JSON document of a rehearsal; name is that of its file. The error is a
// problem.Faults.
func ReadRehearsal(name string, data []byte) (*Rehearsal, error) {
	if len(data) > maxFile {
		return nil, problem.Faults{{
			Code: problem.TooLarge, Place: problem.Place{File: name}, Found: strconv.Itoa(len(data)) + " bytes", Expected: "at most " +
				strconv.Itoa(maxFile),
		}}
	}
	documents, faults := parseJSON(name, data)
	if len(faults) > 0 {
		return nil, faults
	}
	if len(documents) != 1 {
		return nil, problem.Faults{{
			Code: problem.Syntax, Place: problem.Place{File: name}, Found: strconv.Itoa(len(documents)) + " documents",
			Expected: "one JSON document",
		}}
	}
	tree := documents[0]
	if faults := controlCharacters(tree, "", nil); len(faults) > 0 {
		return nil, faults
	}
	var d decoder
	r := d.rehearsal(tree)
	if len(d.faults) > 0 {
		d.faults.Sort()
		return nil, d.faults
	}
	return r, nil
}

func (d *decoder) rehearsal(n *node) *Rehearsal {
	o := d.object(n, "", "rollout", "started", "plan", "laptops", "events")
	r := &Rehearsal{tree: n}
	o.require("rollout", "the id of the rollout")
	r.Rollout = o.ref("rollout")
	r.Started = o.moment("started")
	o.require("plan", "a rollout plan")
	if plan := o.node.get("plan"); plan != nil {
		r.Plan = d.plan(plan, o.at("plan"))
	}
	o.require("laptops", "the laptops that the change touches, which may be none")
	seen := map[string]bool{}
	o.list("laptops", "laptops", func(n *node, path string) {
		l := d.laptop(n, path, r.Plan.Waves)
		if seen[l.ID] && l.ID != "" {
			d.refuse(problem.DoubledID, problem.Join(path, "id"), n.place, problem.Quote(l.ID), "each laptop once")
		}
		seen[l.ID] = true
		r.Laptops = append(r.Laptops, l)
	})
	o.require("events", `events in the order of their times; the last one is {"at": …, "end": true}`)
	last := r.Started
	o.list("events", "events", func(n *node, path string) {
		e := d.event(n, path, seen)
		if e.At.Before(last) && !e.At.IsZero() {
			d.refuse(problem.DatesReversed, problem.Join(path, "at"), n.place, stamp(e.At), "a time not before "+stamp(last))
		} else {
			last = e.At
		}
		r.Events = append(r.Events, e)
	})
	if events := o.node.get("events"); events != nil && events.kind == listNode {
		at := slices.IndexFunc(r.Events, func(e rollout.Event) bool { return e.End })
		if at < 0 {
			d.refuse(problem.MissingField, "/events", events.place, "no end", `{"at": …, "end": true} as the last event`)
		} else if at < len(r.Events)-1 {
			d.refuse(problem.MisplacedField, problem.Join("/events", at), events.items[at].place, "an end before other events",
				"the end as the last event")
		}
	}
	return r
}

func (d *decoder) laptop(n *node, path string, waves []estate.Wave) rollout.Laptop {
	o := d.object(n, path, "id", "os", "unit", "interval", "heard", "waves")
	for _, name := range []string{"id", "os", "unit", "interval"} {
		o.require(name, map[string]string{
			"id": "the laptop's id", "os": "linux, windows or macos", "unit": "the path of its unit, such as larkfell/labs",
			"interval": "the usual time between two check-ins, such as 1h",
		}[name])
	}
	l := rollout.Laptop{ID: o.ref("id"), OS: o.text("os"), Unit: o.text("unit"), Heard: o.moment("heard")}
	o.duration("interval", &l.Interval, 0)
	o.list("waves", "ids of waves", func(n *node, path string) {
		known := slices.ContainsFunc(waves, func(w estate.Wave) bool { return string(w.ID) == n.text && w.Kind == estate.ByAudience })
		switch {
		case n.kind != textNode:
			d.wrong(path, n, "the id of a wave")
		case !known:
			d.refuse(problem.UnknownReference, path, n.place, problem.Quote(n.text), "the id of a wave of the plan that has who")
		default:
			l.Matches = append(l.Matches, estate.WaveID(n.text))
		}
	})
	return l
}

// reports and acts are what events name.
var (
	reports = []rollout.Report{rollout.ReportTaken, rollout.ReportRefused, rollout.ReportUndone}
	acts    = []rollout.Act{rollout.Go, rollout.Pause, rollout.Resume, rollout.Finish, rollout.TakeBack, rollout.Excuse}
)

func (d *decoder) event(n *node, path string, known map[string]bool) rollout.Event {
	o := d.object(n, path, "at", "device", "heard", "report", "reason", "do", "end")
	e := rollout.Event{At: o.moment("at"), Device: o.text("device")}
	var said []string
	for _, name := range []string{"heard", "report", "do", "end"} {
		if o.node.get(name) != nil {
			said = append(said, name)
		}
	}
	if n.kind == mapNode && len(said) != 1 {
		d.refuse(problem.EitherOr, path, n.place, strconv.Itoa(len(said))+" of them", "exactly one of heard, report, do and end")
		return e
	}
	for _, name := range []string{"heard", "end"} {
		if f := o.node.get(name); f != nil && !o.boolean(name) && f.kind == boolNode {
			d.refuse(problem.NotOneOf, o.at(name), f.place, "false", "true")
		}
	}
	switch {
	case o.node.get("heard") != nil:
		e.Report = rollout.Heard
	case o.node.get("report") != nil:
		e.Report = oneOf(o, "report", reports)
	case o.node.get("do") != nil:
		e.Act = oneOf(o, "do", acts)
	default:
		e.End = true
	}
	o.text("reason")
	of := o.node.get("heard") != nil || o.node.get("report") != nil || e.Act == rollout.Excuse // about one laptop
	if of {
		o.require("device", "the laptop's id")
	}
	if f := o.node.get("device"); f != nil && f.kind == textNode && !(of && known[f.text]) {
		if of {
			d.refuse(problem.UnknownReference, o.at("device"), f.place, problem.Quote(f.text), "the id of a laptop of the rehearsal")
		} else {
			d.refuse(problem.MisplacedField, o.at("device"), f.place, problem.Quote(f.text), "a device with a report or with excuse alone")
		}
	}
	return e
}

// oneOf reads a text that is one of a few.
func oneOf[T ~string](o object, name string, words []T) T {
	n := o.field(name, textNode, "text")
	if n == nil {
		return ""
	}
	if !slices.Contains(words, T(n.text)) {
		expected := "one of"
		for _, w := range words {
			expected += " " + string(w)
		}
		o.refuse(problem.NotOneOf, o.at(name), n.place, problem.Quote(n.text), expected)
		return ""
	}
	return T(n.text)
}

const stampFormat = "2006-01-02T15:04:05Z"

func stamp(at time.Time) string { return at.UTC().Format(stampFormat) }

// moment reads a time; it has to be there.
func (o object) moment(name string) time.Time {
	const expected = "a time in UTC in whole seconds, such as 2026-10-03T14:00:00Z"
	o.require(name, expected)
	n := o.field(name, textNode, expected)
	if n == nil {
		return time.Time{}
	}
	at, err := time.Parse(time.RFC3339, n.text)
	if _, offset := at.Zone(); err != nil || offset != 0 || strings.Contains(n.text, ".") {
		o.refuse(problem.BadDate, o.at(name), n.place, problem.Quote(n.text), expected)
		return time.Time{}
	}
	return at.UTC()
}

// Run rehearses it and writes a line of JSON for each thing that happens, and a last one with how many
// laptops are in which state. Where a wave is empty the error is a problem.Faults, and nothing is
// written.
func (r *Rehearsal) Run(to io.Writer) error {
	state, happened, err := rollout.Rehearse(r.Rollout, r.Plan, r.Laptops, r.Started, r.Events)
	var empty *rollout.EmptyWaveError
	if errors.As(err, &empty) {
		path := []string{"plan", "waves", strconv.Itoa(empty.Place)}
		return problem.Faults{{
			Code: problem.OutOfRange, Path: problem.Join("/plan/waves", empty.Place), Place: r.tree.find(path, false),
			Found: "an empty wave " + problem.Quote(string(empty.Wave)), Expected: "laptops in it: " + empty.Why,
		}}
	}
	if err != nil {
		return err
	}
	lines := json.NewEncoder(to)
	lines.SetEscapeHTML(false)
	for _, t := range happened {
		if err := lines.Encode(lineOf(t)); err != nil {
			return err
		}
	}
	return lines.Encode(endOf(state, r.Events[len(r.Events)-1].At))
}

// line is one thing that happened, as a line of JSON.
type line struct {
	At      string                           `json:"at"`
	State   rollout.Progress                 `json:"state,omitempty"`
	Reason  rollout.StopReason               `json:"reason,omitempty"`
	Opened  estate.WaveID                    `json:"opened,omitempty"`
	Laptops []string                         `json:"laptops,omitzero"`
	Device  string                           `json:"device,omitempty"`
	From    string                           `json:"from,omitempty"`
	To      string                           `json:"to,omitempty"`
	Refused rollout.Act                      `json:"refused,omitempty"`
	Counts  map[string]int                   `json:"counts,omitzero"`
	Waves   map[estate.WaveID]map[string]int `json:"waves,omitzero"`
}

func lineOf(t rollout.Transition) line {
	l := line{
		At:      stamp(t.At),
		State:   t.Progress,
		Reason:  t.Reason,
		Opened:  t.Opened,
		Laptops: t.Laptops,
		Device:  t.Device,
		Refused: t.Refused,
	}
	if t.Device != "" {
		l.From, l.To = t.From.String(), t.To.String()
	}
	return l
}

// endOf is the last line: how the rollout and its laptops are, without zeroes.
func endOf(r *rollout.Rollout, at time.Time) line {
	progress, _ := r.Progress()
	end := line{At: stamp(at), State: progress, Counts: map[string]int{}, Waves: map[estate.WaveID]map[string]int{}}
	for _, w := range r.Waves() {
		of := map[string]int{}
		for state, n := range w.Counts {
			if n > 0 {
				of[rollout.State(state).String()] = n
				end.Counts[rollout.State(state).String()] += n
			}
		}
		end.Waves[w.ID] = of
	}
	return end
}
