// This file makes wire types of what the core finds, for the service and for commands that work on a folder.

package wire

import (
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/files"
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

// Conflicts gives conflicts with at most so many of the devices of each; definition looks a setting up, nil where there is none.
func Conflicts(found []resolve.ConflictFound, definition func(setting.ID) *setting.Definition, most int) []Conflict {
	out := make([]Conflict, len(found))
	for i, f := range found {
		out[i] = Conflict{Setting: string(f.Setting), Policies: f.Policies, Devices: Sample(f.Devices, most), DeviceCount: len(f.Devices), Values: []files.CandidateAnswer{}}
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
		out[i] = FoundProblem{ProblemAnswer: files.ProblemOf(f.Problem), Devices: Sample(f.Devices, most), DeviceCount: len(f.Devices)}
	}
	return out
}

// Lints gives lints.
func Lints(found []resolve.Lint) []Lint {
	out := make([]Lint, len(found))
	for i, l := range found {
		out[i] = Lint{Lint: string(l.Kind), Policy: string(l.Policy), Setting: string(l.Setting), Beside: l.Beside, Devices: l.Devices}
	}
	return out
}
