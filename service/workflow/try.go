// This file says what a policy would do while it is typed, with nothing stored.

package workflow

import (
	"cmp"
	"slices"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/service/store"
)

// AlsoSet is another policy that sets a setting on laptops that a policy reaches.
type AlsoSet struct {
	Setting setting.ID
	Policy  estate.PolicyID
	Value   setting.Value
	Devices int // laptops that both reach
	Same    bool
	Fates   map[resolve.Fate]int // what becomes of the other policy's entry on them
}

// Trial is what a policy would do, together with the rest of a change.
type Trial struct {
	Reach    resolve.Reach
	AlsoSet  []AlsoSet
	Mine     map[setting.ID]map[resolve.Fate]int // what becomes of the policy's own entries
	Problems []resolve.ProblemFound              // that involve it
	After    impact.Side                         // the estate with the change and the policy in it
	Report   *impact.Report                      // of the whole change with the policy in it
	Faults   problem.Faults                      // with any, the rest is empty
}

// Try says what the edits would do if they were put into a change, or into a new one when no change is named. Nothing
// is stored. What is said of one policy is said of the first that is edited.
func (s *Service) Try(change string, inputs []EditInput) (*Trial, error) {
	live := s.Live()
	var edits []store.Edit
	if change != "" {
		var err error
		if _, edits, err = s.Change(change); err != nil {
			return nil, err
		}
	}
	policy := ""
	for _, in := range inputs {
		body, err := canonical(in)
		if err != nil {
			return nil, err
		}
		edits = slices.DeleteFunc(edits, func(e store.Edit) bool { return e.Kind == string(in.Kind) && e.ObjectID == in.ID })
		edits = append(edits, store.Edit{Kind: string(in.Kind), ObjectID: in.ID, Body: body, Retire: in.Retire})
		if in.Kind == estate.KindPolicy && policy == "" {
			policy = in.ID
		}
	}
	d := s.compare(live, edits)
	if len(d.faults) > 0 {
		return &Trial{Faults: d.faults}, nil
	}
	out := &Trial{Report: d.report, After: d.after}
	if policy != "" {
		out.look(d.after, estate.PolicyID(policy))
	}
	return out, nil
}

// PolicyUse says what a policy does in a view: whom it reaches, what else is set there.
func (v View) PolicyUse(id estate.PolicyID) (*Trial, error) {
	if !slices.ContainsFunc(v.Plan.Snapshot().Policies, func(p estate.Policy) bool { return p.ID == id }) {
		return nil, &NotFoundError{"policy", string(id)}
	}
	out := &Trial{}
	out.look(v.Side, id)
	return out, nil
}

func (t *Trial) look(side impact.Side, id estate.PolicyID) {
	t.Reach, _ = side.Plan.Reach(id)
	t.Mine = map[setting.ID]map[resolve.Fate]int{}
	also := map[string]*AlsoSet{}
	for _, r := range side.Whole.Results {
		for i := range r.Settings {
			t.lookAt(&r.Settings[i], id, also)
		}
	}
	for _, a := range also {
		t.AlsoSet = append(t.AlsoSet, *a)
	}
	slices.SortFunc(t.AlsoSet, func(a, b AlsoSet) int {
		return cmp.Or(cmp.Compare(a.Setting, b.Setting), cmp.Compare(b.Devices, a.Devices), cmp.Compare(a.Policy, b.Policy))
	})
	for _, p := range side.Whole.Problems() {
		if slices.Contains(p.From, string(id)) {
			t.Problems = append(t.Problems, p)
		}
	}
}

// lookAt notes, for a setting to which the policy has a candidate, its own fate and the other policies' entries.
func (t *Trial) lookAt(s *resolve.Setting, id estate.PolicyID, also map[string]*AlsoSet) {
	at := slices.IndexFunc(s.Candidates, func(c resolve.Candidate) bool { return c.Policy == id })
	if at < 0 {
		return
	}
	mine := s.Candidates[at]
	if t.Mine[s.ID] == nil {
		t.Mine[s.ID] = map[resolve.Fate]int{}
	}
	t.Mine[s.ID][mine.Fate]++
	for _, c := range s.Candidates {
		if c.Policy == id {
			continue
		}
		key := string(s.ID) + "\x00" + string(c.Policy)
		if also[key] == nil {
			also[key] = &AlsoSet{Setting: s.ID, Policy: c.Policy, Value: c.Value, Same: c.Value.Equal(mine.Value), Fates: map[resolve.Fate]int{}}
		}
		also[key].Devices++
		also[key].Fates[c.Fate]++
	}
}

// Reached counts, by policy, the laptops that each active policy applies to.
func (v View) Reached() map[estate.PolicyID]int {
	policies := v.Plan.Snapshot().Policies
	reached := make(map[estate.PolicyID]int, len(policies))
	for i := range policies {
		reached[policies[i].ID] = len(v.Whole.Results)
	}
	for _, r := range v.Whole.Results {
		for _, n := range r.NotApplying {
			reached[n.Policy]--
		}
	}
	return reached
}
