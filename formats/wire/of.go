// This file makes wire types of what the core finds, for the service and for commands that work on
// a folder.

package wire

import (
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/review"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/report"
)

// Names gives ids as texts.
func Names[T ~string](from []T) []string { return Sample(from, len(from)) }

// Sample gives the first ids of a list as texts.
func Sample[T ~string](from []T, most int) []string {
	out := make([]string, min(len(from), most))
	for i := range out {
		out[i] = string(from[i])
	}
	return out
}

// Devices gives the first ids of a set of laptops as texts.
func Devices(of resolve.Devices, most int) []string { return Names(of.First(most)) }

// Conflicts gives conflicts with at most so many of the devices of each; definition looks a setting
// up, nil where there is none.
func Conflicts(found []resolve.ConflictFound, definition func(setting.ID) *setting.Definition, most int) []Conflict {
	out := make([]Conflict, len(found))
	for i, f := range found {
		out[i] = Conflict{
			Setting:     string(f.Setting),
			Policies:    f.Policies,
			Devices:     Devices(f.Devices, most),
			DeviceCount: f.Devices.Len(),
			Values:      []files.CandidateAnswer{},
		}
		if d := definition(f.Setting); d != nil {
			out[i].Title, out[i].Settleable = d.Title, d.Combine == setting.Closest
		}
		for _, c := range f.Values {
			out[i].Values = append(out[i].Values, files.CandidateOf(c))
		}
	}
	return out
}

// Problems gives problems with at most so many of the devices of each.
func Problems(found []resolve.ProblemFound, most int) []FoundProblem {
	out := make([]FoundProblem, len(found))
	for i, f := range found {
		out[i] = FoundProblem{ProblemAnswer: files.ProblemOf(f.Problem), Devices: Devices(f.Devices, most), DeviceCount: f.Devices.Len()}
	}
	return out
}

// Lints gives lints.
func Lints(found []outcome.Lint) []Lint {
	out := make([]Lint, len(found))
	for i, l := range found {
		out[i] = Lint{
			Lint:      string(l.Kind),
			Policy:    string(l.Policy),
			Setting:   string(l.Setting),
			Group:     string(l.Group),
			Exception: string(l.Exception),
			Beside:    l.Beside,
			Devices:   l.Devices,
		}
	}
	return out
}

// AlsoSets gives policies that set a setting too, with their titles.
func AlsoSets(found []review.AlsoSet, plan *resolve.Plan) []AlsoSet {
	policies := map[estate.PolicyID]*estate.Policy{}
	for i := range plan.Snapshot().Policies {
		policies[plan.Snapshot().Policies[i].ID] = &plan.Snapshot().Policies[i]
	}
	out := make([]AlsoSet, len(found))
	for i, a := range found {
		out[i] = AlsoSet{
			Setting:  string(a.Setting),
			Policy:   string(a.Policy),
			Value:    a.Value,
			Locked:   a.Locked,
			Devices:  a.Devices,
			Shared:   a.Shared,
			Relation: string(a.Relation),
			Beside:   BesideOf(a),
		}
		if p := policies[a.Policy]; p != nil {
			out[i].Title, out[i].Owner = p.Title, p.Owner
		}
	}
	return out
}

// BesideOf gives the counts of two entries that meet.
func BesideOf(a review.AlsoSet) Beside {
	b := a.Beside
	return Beside{Both: b.Both, Conflict: b.Conflict, Over: b.Over, Under: b.Under, Neither: a.Neither()}
}

// Findings gives what is odd about a policy, in words as well.
func Findings(found []review.Finding, plan *resolve.Plan) []Finding {
	out := make([]Finding, len(found))
	for i, f := range found {
		out[i] = Finding{
			Kind:     string(f.Kind),
			Text:     report.FindingWords(f, plan),
			Settings: Names(f.Settings),
			Check:    string(f.Check),
			Warning:  f.Warning,
			Found:    f.Found,
			Known:    f.Known,
			Beside:   Names(f.Beside),
			Devices:  f.Devices,
		}
		if !f.Value.IsNothing() {
			out[i].Value = &f.Value
		}
		for _, g := range f.Groups {
			out[i].Purposes = append(out[i].Purposes, Purpose{g.Areas, Names(g.Settings)})
		}
	}
	return out
}

// Detachments gives what a place detaches, an empty list where that is nothing.
func Detachments(list []estate.Detachment) []Detachment {
	out := make([]Detachment, len(list))
	for i, d := range list {
		out[i] = Detachment{d.String(), d.Reason, string(d.ReviewOn)}
	}
	return out
}

// ByID gives counts by the ids of settings.
func ByID(counts map[setting.ID]int) map[string]int {
	out := make(map[string]int, len(counts))
	for id, n := range counts {
		out[string(id)] = n
	}
	return out
}

// Lacking gives counts of laptops that do not support a setting, by reason.
func Lacking(l review.Lacking) map[string]int {
	out := make(map[string]int, len(l))
	for reason, n := range l {
		out[string(reason)] = n
	}
	return out
}

// Differences gives differences between versions, with the titles of settings.
func Differences(found []review.Difference, plan *resolve.Plan) []Difference {
	out := make([]Difference, len(found))
	for i, d := range found {
		out[i] = Difference{Part: string(d.Part), Setting: string(d.Part.Setting()), From: d.From, To: d.To}
		if def := plan.Definition(d.Part.Setting()); def != nil {
			out[i].Title, out[i].From, out[i].To = def.Title, report.Entry(def, d.FromEntry), report.Entry(def, d.ToEntry)
		}
	}
	return out
}

// MergeConflicts gives conflicts of two edits, with the titles of settings.
func MergeConflicts(found []review.Conflict, plan *resolve.Plan) []MergeConflict {
	out := make([]MergeConflict, len(found))
	for i, c := range found {
		out[i] = MergeConflict{Part: string(c.Part), Base: c.Base, Mine: c.Mine, Theirs: c.Theirs}
		if def := plan.Definition(c.Part.Setting()); def != nil {
			out[i].Title, out[i].Base, out[i].Mine, out[i].Theirs = def.Title, report.Entry(
				def,
				c.Entries[0],
			), report.Entry(
				def,
				c.Entries[1],
			), report.Entry(
				def,
				c.Entries[2],
			)
		}
	}
	return out
}

// PageOf gives a report's page in its three forms.
func PageOf(d *report.Document) SummaryPage {
	page := SummaryPage{Title: d.Title, Blocks: []SummaryBlock{}, Markdown: d.Markdown(), HTML: d.HTML()}
	for _, block := range d.Blocks {
		var one SummaryBlock
		switch x := block.(type) {
		case report.Heading:
			one = SummaryBlock{Kind: "heading", Text: string(x)}
		case report.Paragraph:
			one = SummaryBlock{Kind: "paragraph", Text: string(x)}
		case report.List:
			one = SummaryBlock{Kind: "list", Points: x}
		case report.Table:
			one = SummaryBlock{Kind: "table", Header: x.Header, Rows: x.Rows}
		}
		page.Blocks = append(page.Blocks, one)
	}
	return page
}
