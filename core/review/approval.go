// This file says what approval rules ask of a change, and sums up what somebody approves.
//
// An approval rule has a condition over facts of the change, such as "more than 500 laptops" or "a
// weaker value". The facts are computed from the same comparison that the author and the approver
// see. An approval holds for what was looked at: LookedAt gives a digest of the edits and of their
// impact. If either is another one when the change is published, the approval no longer counts, and
// Differences says what is new.

package review

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/setting"
)

// EditRef names the object that an edit is of.
type EditRef struct {
	Kind estate.Kind
	ID   string
}

// ChangeFacts is what an approval rule knows of a change; see rule.ChangeFields. Numbers count
// laptops unless said otherwise; lists are sorted, without repeats, and never nil, so that an
// expression can ask whether something is in them.
type ChangeFacts struct {
	Laptops         int     `json:"laptops"`
	Share           float64 `json:"share"` // percent of the estate
	Edits           int     `json:"edits"`
	Weaker          int     `json:"weaker"`
	ConflictsGained int     `json:"conflicts_gained"`
	ProblemsGained  int     `json:"problems_gained"`
	Irreversible    int     `json:"irreversible"`
	Restarts        int     `json:"restarts"`
	Prompts         int     `json:"prompts"`
	Lockouts        int     `json:"lockouts"`

	Kinds    []string `json:"kinds"` // of the objects that are edited, and of the policies among them
	Areas    []string `json:"areas"`
	Settings []string `json:"settings"` // that alter on some laptop, or that edited policies have
	Policies []string `json:"policies"` // that are edited
	Units    []string `json:"units"`    // of the laptops that get other settings, with those above
	Groups   []string `json:"groups"`   // of these laptops, and groups that are edited
}

// FactsOf gathers what approval rules know of a change: report is how after differs from before,
// edits are the objects that are edited.
func FactsOf(before, after impact.Side, report *impact.Report, edits []EditRef) *ChangeFacts {
	f := &ChangeFacts{
		Laptops: report.Devices.Len(), Edits: len(edits), Weaker: report.Weaker().Len(),
		ConflictsGained: len(report.ConflictsGained), ProblemsGained: len(report.ProblemsGained),
		Irreversible: report.WithEffect(setting.Irreversible).Len(), Restarts: report.WithEffect(setting.Restart).Len(),
		Prompts: report.WithEffect(setting.Prompt).Len(), Lockouts: report.WithEffect(setting.Lockout).Len(),
	}
	if report.Estate > 0 {
		// An empty estate has no share.
		f.Share = 100 * float64(f.Laptops) / float64(report.Estate)
	}
	for i := range report.Transitions {
		f.Settings = append(f.Settings, string(report.Transitions[i].Setting))
	}
	for _, e := range edits {
		f.Kinds = append(f.Kinds, string(e.Kind))
		switch e.Kind {
		case estate.KindPolicy:
			f.Policies = append(f.Policies, e.ID)
			// A policy may be new or gone. Its settings before and after both count: taking an
			// entry out is a change of that setting.
			for _, side := range []impact.Side{before, after} {
				if p := side.Plan.Policy(estate.PolicyID(e.ID)); p != nil {
					f.Kinds = append(f.Kinds, string(p.Kind))
					for _, entry := range p.Entries {
						f.Settings = append(f.Settings, string(entry.Setting))
					}
				}
			}
		case estate.KindGroup:
			f.Groups = append(f.Groups, e.ID)
		case estate.KindUnit:
			f.Units = append(f.Units, e.ID)
		case estate.KindSetting:
			f.Settings = append(f.Settings, e.ID)
		}
	}
	// A rule that names a unit is about all laptops below it, so the units above are listed as
	// well.
	paths := after.Plan.UnitPaths()
	for _, c := range report.Devices.ByUnit() {
		f.Units = append(f.Units, paths[c.Of]...)
	}
	for _, c := range report.Devices.ByGroup() {
		f.Groups = append(f.Groups, string(c.Of.ID))
	}
	for _, id := range f.Settings {
		if d := cmp.Or(after.Plan.Definition(setting.ID(id)), before.Plan.Definition(setting.ID(id))); d != nil && d.Area != "" {
			f.Areas = append(f.Areas, d.Area)
		}
	}
	// The lists were gathered with repeats.
	for _, list := range []*[]string{&f.Kinds, &f.Areas, &f.Settings, &f.Policies, &f.Units, &f.Groups} {
		slices.Sort(*list)
		*list = slices.Compact(append([]string{}, *list...))
	}
	return f
}

// variables gives the facts as an expression sees them.
func (f *ChangeFacts) variables() map[string]any {
	return map[string]any{"change": map[string]any{
		"laptops": f.Laptops, "share": f.Share, "edits": f.Edits, "weaker": f.Weaker, "conflicts_gained": f.ConflictsGained,
		"problems_gained": f.ProblemsGained, "irreversible": f.Irreversible, "restarts": f.Restarts, "prompts": f.Prompts, "lockouts": f.Lockouts,
		"kinds": f.Kinds, "areas": f.Areas, "settings": f.Settings, "policies": f.Policies, "units": f.Units, "groups": f.Groups,
	}}
}

// Demand is an approval rule that is true of a change.
type Demand struct {
	Rule  *estate.ApprovalRule
	Fault string // why the rule could not be evaluated: it is taken to be true
}

// Demands gives the approval rules that are true of a change, in their order. A rule that cannot be
// evaluated asks for its approvals: a mistake in it lets nothing through. A rule without a
// condition asks for nothing by itself.
func Demands(rules []estate.ApprovalRule, f *ChangeFacts) (out []Demand) {
	variables := f.variables()
	for i := range rules {
		r := &rules[i]
		if r.When == nil {
			continue
		}
		switch holds, err := r.When.Holds(variables); {
		case err != nil:
			out = append(out, Demand{r, err.Error()})
		case holds:
			out = append(out, Demand{r, ""})
		}
	}
	return out
}

// ImpactLine is one way in which a setting alters, as somebody who approves looks at it. Sum tells
// two sets of laptops of equal size apart.
type ImpactLine struct {
	What    string `json:"what"` // setting from → to
	Laptops int    `json:"laptops"`
	Sum     string `json:"sum"` // of their ids
}

// Looked is what somebody looked at who approved a change: its impact in lines, and a digest of the
// edits and the impact. It is stored with the approval, so that an approval counts only for what
// was seen.
type Looked struct {
	Digest  string       `json:"digest"`
	Laptops int          `json:"laptops"`
	Lines   []ImpactLine `json:"lines"`
}

// LookedAt sums up what is looked at. Edits gives each edit as a text that says all of it, in any
// order. The same edits with the same impact give the same digest, on any machine.
func LookedAt(edits []string, report *impact.Report) Looked {
	out := Looked{Laptops: report.Devices.Len(), Lines: []ImpactLine{}}
	// Eight bytes of the hash are enough to tell whether the laptops are the same as before.
	add := func(what string, ids []estate.DeviceID) {
		h := sha256.New()
		for _, id := range ids {
			fmt.Fprintln(h, id)
		}
		out.Lines = append(out.Lines, ImpactLine{what, len(ids), hex.EncodeToString(h.Sum(nil)[:8])})
	}
	for i := range report.Transitions {
		t := &report.Transitions[i]
		add(fmt.Sprintf("%s: %s → %s", t.Setting, stateText(t.From), stateText(t.To)), t.Devices.IDs())
	}
	for i := range report.ConflictsGained {
		c := &report.ConflictsGained[i]
		add(fmt.Sprintf("conflict begins: %s, %s", c.Setting, strings.Join(c.Policies, ", ")), c.Devices.IDs())
	}
	for i := range report.ProblemsGained {
		p := &report.ProblemsGained[i]
		add(fmt.Sprintf("problem begins: %s", p.Check), p.Devices.IDs())
	}
	slices.SortFunc(out.Lines, func(a, b ImpactLine) int { return cmp.Or(cmp.Compare(a.What, b.What), cmp.Compare(a.Sum, b.Sum)) })
	h := sha256.New()
	sorted := slices.Sorted(slices.Values(edits))
	// Errors are not looked at: texts can always be encoded, and a hash takes all that is written.
	json.NewEncoder(h).Encode(sorted)
	json.NewEncoder(h).Encode(out.Lines)
	out.Digest = hex.EncodeToString(h.Sum(nil))
	return out
}

// stateText gives a state as a text that tells it from all others of the setting.
func stateText(s impact.State) string {
	switch {
	case s.Status == "":
		return "not set"
	case s.Value.IsNothing():
		return string(s.Status)
	}
	return s.Value.String()
}

// ImpactDifference is a line of the impact that is otherwise than it was when somebody looked.
type ImpactDifference struct {
	What     string
	Was, Is  int  // laptops
	SameSize bool // as many laptops, but others
}

// Differences says how an impact differs from the one that was looked at: lines that are new or
// altered, in the order of the new impact, then those that are gone.
func Differences(was, is Looked) (out []ImpactDifference) {
	// A line is recognised by its text. Lines that stay are taken out of before, so that those that
	// are left in the end are gone.
	before := map[string]ImpactLine{}
	for _, l := range was.Lines {
		before[l.What] = l
	}
	for _, l := range is.Lines {
		b, known := before[l.What]
		delete(before, l.What)
		if !known || b.Sum != l.Sum {
			out = append(out, ImpactDifference{l.What, b.Laptops, l.Laptops, known && b.Laptops == l.Laptops})
		}
	}
	for _, l := range was.Lines {
		if _, gone := before[l.What]; gone {
			out = append(out, ImpactDifference{l.What, l.Laptops, 0, false})
		}
	}
	return out
}
