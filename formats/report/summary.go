// This file writes the summary of a policy, for the change board.

package report

import (
	"fmt"
	"slices"
	"strings"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/recovery"
	"zenithridge.example/zridge/core/review"
	"zenithridge.example/zridge/core/setting"
)

// definitions looks settings up.
type definitions interface {
	Definition(setting.ID) *setting.Definition
}

// Summary puts words to a policy's summary.
func Summary(s *review.Summary, plan definitions) *Document {
	p := &s.Policy
	title := p.Title
	if title == "" {
		title = string(p.ID)
	}
	d := &Document{Title: title}
	w := &summaryWriter{Document: d, Summary: s, plan: plan}
	w.purpose()
	w.audience()
	w.values()
	w.consequences()
	w.others()
	w.back()
	return d
}

type summaryWriter struct {
	*Document
	*review.Summary
	plan definitions
}

func (w *summaryWriter) purpose() {
	p := &w.Policy
	w.heading("Purpose")
	if p.Why != "" {
		w.say("%s", p.Why)
	} else {
		w.say("No reason is given.")
	}
	state := map[estate.State]string{estate.Active: "active", estate.Draft: "a draft, which reaches nobody",
		estate.Retired: "retired, and reaches nobody"}[p.State]
	w.say("A policy of the kind %s with the id %s; it is %s. Its priority is %d.", p.Kind, p.ID, state, p.Priority)
	if p.Owner != "" {
		name := w.Titles.People[estate.PersonID(p.Owner)]
		if name == "" {
			name = p.Owner
		}
		w.say("%s answers for it.", name)
	}
	var points []string
	for _, f := range w.Findings {
		points = append(points, FindingWords(f, w.plan))
	}
	if len(points) > 0 {
		w.heading("To be decided first")
		w.list(points)
	}
}

func (w *summaryWriter) audience() {
	r := w.Use.Reach
	w.heading("Who gets it")
	if len(w.Policy.Audience.Include) == 0 {
		w.say("Nobody: it is for nobody yet.")
		return
	}
	share := ""
	if w.Estate > 0 {
		share = fmt.Sprintf(" (%d%%)", (r.Gets.Len()*100+w.Estate/2)/w.Estate)
	}
	w.say(
		"%s of %d%s, of %s: %s.",
		Counted(r.Gets.Len(), "laptop"),
		w.Estate,
		share,
		Counted(r.People, "person"),
		w.targets(w.Policy.Audience.Include),
	)
	var points []string
	if len(w.Policy.Audience.Exclude) > 0 {
		points = append(
			points,
			fmt.Sprintf("Left out: %s. That is %s.", w.targets(w.Policy.Audience.Exclude), Counted(r.Excluded.Len(), "laptop")),
		)
	}
	if when := w.Policy.Audience.When.Source(); when != "" {
		points = append(points, fmt.Sprintf("Only when %s. That leaves out %s.", when, Counted(r.Condition.Len(), "laptop")))
	}
	if len(w.Policy.Platforms) > 0 {
		names := make([]string, len(w.Policy.Platforms))
		for i, p := range w.Policy.Platforms {
			names[i] = string(p)
		}
		points = append(
			points,
			fmt.Sprintf("Only on %s. That leaves out %s.", strings.Join(names, ", "), Counted(r.Platform.Len(), "laptop")),
		)
	}
	if w.Policy.Within != "" {
		bound := w.targets([]estate.Target{{Kind: estate.ToUnit, ID: string(w.Policy.Within)}})
		points = append(points, fmt.Sprintf("Never outside of %s. That leaves out %s.", bound, Counted(r.Outside.Len(), "laptop")))
	}
	if w.Policy.Offered {
		points = append(points, fmt.Sprintf(
			"It is offered, not enforced: it counts where a person took it, and never against a policy that is enforced. %s have "+
				"not taken it.",
			Counted(r.NotTaken.Len(), "laptop"),
		))
	}
	if r.Unsupported.Len() > 0 {
		points = append(points, fmt.Sprintf("%s of them support none of its settings.", Counted(r.Unsupported.Len(), "laptop")))
	}
	w.list(points)
}

// targets says targets in words.
func (w *summaryWriter) targets(list []estate.Target) string {
	texts := make([]string, len(list))
	for i, t := range list {
		switch t.Kind {
		case estate.ToEveryone:
			texts[i] = "everyone"
		case estate.ToUnit:
			texts[i] = "the unit " + named(w.Titles.Units[estate.UnitID(t.ID)], t.ID)
		case estate.ToGroup:
			texts[i] = "the group " + named(w.Titles.Groups[estate.GroupID(t.ID)], t.ID)
		case estate.ToPerson:
			texts[i] = named(w.Titles.People[estate.PersonID(t.ID)], t.ID)
		default:
			texts[i] = "the laptop " + t.ID
		}
	}
	return strings.Join(texts, ", ")
}

func named(title, id string) string {
	if title == "" || title == id {
		return id
	}
	return title + " (" + id + ")"
}

func (w *summaryWriter) values() {
	w.heading("What it sets")
	if len(w.Entries) == 0 {
		w.say("Nothing yet.")
		return
	}
	table := Table{Header: []string{"Setting", "Value", "What a person notices", "In effect on"}}
	for _, e := range w.Entries {
		title, help := string(e.Setting), ""
		if e.Definition != nil {
			title, help = e.Definition.Title+" ("+title+")", e.Definition.Help
		}
		value := Value(e.Definition, e.Value)
		if e.Lock {
			value += "; locked, so that nothing closer to the laptop overrides it"
		}
		if e.Note != "" {
			value += "; " + e.Note
		}
		table.Rows = append(
			table.Rows,
			[]string{title, value, strings.Join(append([]string{help}, sentences(Effects(e.Definition))...), " "), w.inEffect(e)},
		)
	}
	w.Blocks = append(w.Blocks, table)
}

func sentences(parts []string) []string {
	out := make([]string, len(parts))
	for i, p := range parts {
		out[i] = "It " + p + "."
	}
	return out
}

// inEffect says on how many laptops an entry decides, and what becomes of it on the others.
func (w *summaryWriter) inEffect(e review.EntrySummary) string {
	var parts []string
	for _, fate := range []outcome.Fate{outcome.Won, outcome.Clashing, outcome.Outer, outcome.LowerPriority, outcome.Weaker,
		outcome.LockedOut, outcome.RuledOut, outcome.Excepted, outcome.Detached, outcome.Enforced} {
		if n := e.Fates[fate]; n > 0 {
			parts = append(parts, fmt.Sprintf("%s: %s", fateWords[fate], Counted(n, "laptop")))
		}
	}
	if len(e.Lacking) > 0 {
		parts = append(parts, LackingWords(e.Lacking))
	}
	if e.NotKnown > 0 {
		parts = append(parts, fmt.Sprintf("whether it is supported is not known on %s", Counted(e.NotKnown, "laptop")))
	}
	if len(parts) == 0 {
		return "On no laptop."
	}
	return strings.Join(parts, "; ")
}

// fateWords says what became of an entry.
var fateWords = map[outcome.Fate]string{
	outcome.Won:           "in force",
	outcome.Clashing:      "conflicts, so that the laptop keeps what it has",
	outcome.Outer:         "overridden by a policy set closer",
	outcome.LowerPriority: "overridden by a higher priority",
	outcome.Weaker:        "another policy is stricter",
	outcome.LockedOut:     "locked by a policy above",
	outcome.RuledOut:      "a ruling prefers another policy",
	outcome.Excepted:      "an exception replaces it",
	outcome.Detached:      "the unit or group is detached",
	outcome.Enforced:      "it is overridden by another policy that has the setting",
}

func (w *summaryWriter) consequences() {
	w.heading("Restarts, questions, and what can't be undone")
	var points []string
	for _, effect := range setting.Effects {
		var titles []string
		for _, e := range w.Entries {
			if e.Definition != nil && e.Definition.HasEffect(effect) {
				titles = append(titles, "‘"+e.Definition.Title+"’")
			}
		}
		if len(titles) > 0 {
			points = append(points, fmt.Sprintf("%s: %s.", upperFirst(effectWords[effect]), strings.Join(titles, ", ")))
		}
	}
	if len(points) == 0 {
		w.say("None.")
	}
	w.list(points)
	meets := recovery.AtNextStart(func(id setting.ID) setting.Value {
		if e := w.Policy.Entry(id); e != nil {
			return e.Value
		}
		return setting.Value{}
	})
	if len(meets) > 0 {
		w.heading("What a person meets at the next start")
		w.list(meets)
	}
}

func upperFirst(s string) string { return strings.ToUpper(s[:1]) + s[1:] }

func (w *summaryWriter) others() {
	w.heading("Beside other policies")
	var conflicts, points []string
	for _, c := range w.Conflicts {
		others := slices.DeleteFunc(slices.Clone(c.Policies), func(p string) bool { return p == string(w.Policy.ID) })
		for i, o := range others {
			others[i] = named(w.Titles.Policies[estate.PolicyID(o)], o)
		}
		conflicts = append(
			conflicts,
			fmt.Sprintf(
				"‘%s’ conflicts with %s on %s, which keep what they have until somebody settles it.",
				w.settingTitle(c.Setting),
				strings.Join(others, ", "),
				Counted(c.Devices.Len(), "laptop"),
			),
		)
	}
	for _, p := range w.Use.Problems {
		points = append(
			points,
			fmt.Sprintf("%s: on %s, from %s.", p.Message, Counted(p.Devices.Len(), "laptop"), strings.Join(p.From, ", ")),
		)
	}
	for _, e := range w.Entries {
		for _, a := range e.Also {
			if a.Relation == review.Conflicts {
				continue
			}
			points = append(
				points,
				fmt.Sprintf(
					"‘%s’ is set to %s by %s too, for %d of these laptops: it %s.",
					w.settingTitle(a.Setting),
					Value(e.Definition, a.Value),
					named(w.Titles.Policies[a.Policy], string(a.Policy)),
					a.Shared,
					besideIt(a),
				),
			)
		}
	}
	if len(conflicts)+len(points) == 0 {
		w.say("No other policy sets the same for any of these laptops.")
		return
	}
	w.list(append(conflicts, points...))
}

// besideIt says what another policy's entry does to that of the policy that the summary is of.
func besideIt(a review.AlsoSet) string {
	b := a.Beside
	return Meeting{a.Relation, b.Both, b.Conflict, b.Over, b.Under, a.Neither()}.With("it")
}

func (w *summaryWriter) settingTitle(id setting.ID) string {
	if d := w.plan.Definition(id); d != nil && d.Title != "" {
		return d.Title
	}
	return string(id)
}

func (w *summaryWriter) back() {
	w.heading("How to go back")
	if w.Policy.State != estate.Active || w.Use.Reach.Gets.Len() == 0 {
		w.say("It reaches no laptop, so there is nothing to go back from.")
		return
	}
	w.say(
		"Restore an earlier version of the policy, or retire it. Retiring it would give %s something else:",
		Counted(w.Without.Devices.Len(), "laptop"),
	)
	var points []string
	for _, t := range w.Without.Transitions {
		d := w.plan.Definition(t.Setting)
		back := "left to the laptop as it is"
		switch {
		case t.To.Status == outcome.Set:
			back = Value(d, t.To.Value)
		case t.To.Status != "":
			back = string(t.To.Status)
		}
		points = append(
			points,
			fmt.Sprintf(
				"‘%s’: from %s to %s on %s.",
				w.settingTitle(t.Setting),
				stateWords(d, t.From),
				back,
				Counted(t.Devices.Len(), "laptop"),
			),
		)
	}
	w.list(points)
	var stays []string
	for _, e := range w.Entries {
		if e.Definition != nil && e.Definition.HasEffect(setting.Irreversible) {
			stays = append(stays, "‘"+e.Definition.Title+"’")
		}
	}
	if len(stays) > 0 {
		w.say("What %s has done stays as it is.", strings.Join(stays, ", "))
	}
}

func stateWords(d *setting.Definition, s impact.State) string {
	if s.Status == outcome.Set {
		return Value(d, s.Value)
	}
	return string(s.Status)
}
