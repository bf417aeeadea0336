// This file gathers what a change board wants to know of a policy, as data. Words are put to it
// elsewhere.
//
// A summary is a document that is read away from the console: it repeats what the pages of a policy
// show, and says what taking the policy back would do. It has no time of day in it, so that the
// same state gives the same document, which can be compared.

package review

import (
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/setting"
)

// Summary is all there is to say about a policy, in one value that a document is made of. The same
// state gives the same summary.
type Summary struct {
	Policy   estate.Policy
	Entries  []EntrySummary // by setting
	Use      *Use
	Findings []Finding
	Estate   int // laptops in all
	// Without compares the estate with one in which the policy is retired: what going back would
	// do.
	Without   *impact.Report
	Conflicts []resolve.ConflictFound // that its entries are part of
	Titles    Titles
}

// EntrySummary is one entry with its definition and what becomes of it.
type EntrySummary struct {
	estate.Entry
	Definition *setting.Definition
	Also       []AlsoSet
	Lacking    Lacking
	NotKnown   int // laptops of which it is not known whether they support it
	Fates      map[outcome.Fate]int
}

// Titles gives what people call things, by id; an id is shown where it has no title.
type Titles struct {
	Policies map[estate.PolicyID]string
	Units    map[estate.UnitID]string
	Groups   map[estate.GroupID]string
	People   map[estate.PersonID]string
}

// Summarise says all there is to say about a policy of a side. ok is false when there is no such
// policy. It resolves the estate a second time, without the policy, to say what going back would
// do.
func Summarise(side impact.Side, id estate.PolicyID, known Known) (*Summary, bool) {
	use, ok := Look(side, id)
	if !ok {
		return nil, false
	}
	policy := *side.Plan.Policy(id)
	s := &Summary{
		Policy:   policy,
		Use:      use,
		Findings: Findings(side, id, use, known),
		Estate:   side.Resolution.Len(),
		Titles:   titlesOf(side.Plan.Snapshot()),
	}
	// Everything that was found about the policy is sorted by entry, as the document is read.
	for _, entryID := range settingsOf(&policy) {
		e := EntrySummary{
			Entry:      *policy.Entry(entryID),
			Definition: side.Plan.Definition(entryID),
			Lacking:    use.Lacking[entryID],
			NotKnown:   use.NotKnown[entryID],
			Fates:      use.Mine[entryID],
		}
		// Policies that set the same on none of its laptops are left out.
		for _, a := range use.AlsoSet {
			if a.Setting == entryID && a.Shared > 0 {
				e.Also = append(e.Also, a)
			}
		}
		s.Entries = append(s.Entries, e)
	}
	for _, c := range side.Resolution.Conflicts() {
		for _, p := range c.Policies {
			if p == string(id) {
				s.Conflicts = append(s.Conflicts, c)
			}
		}
	}
	// What going back would do: the same estate with the policy retired.
	retired := policy
	retired.State = estate.Retired
	s.Without = impact.Compare(
		side,
		side.With(side.Plan.Snapshot().With(estate.Edit{Kind: estate.KindPolicy, ID: string(id), Object: retired})),
	)
	return s, true
}

// titlesOf gathers the titles of all objects that a summary may name.
func titlesOf(s *estate.Snapshot) Titles {
	t := Titles{map[estate.PolicyID]string{}, map[estate.UnitID]string{}, map[estate.GroupID]string{}, map[estate.PersonID]string{}}
	for i := range s.Policies {
		t.Policies[s.Policies[i].ID] = s.Policies[i].Title
	}
	for i := range s.Units {
		t.Units[s.Units[i].ID] = s.Units[i].Title
	}
	for i := range s.Groups {
		t.Groups[s.Groups[i].ID] = s.Groups[i].Title
	}
	for i := range s.People {
		t.People[s.People[i].ID] = s.People[i].Name
	}
	return t
}
