// This file has the wire types of what a resolution says, as estate-format describes them line by
// line.

package files

import (
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/setting"
)

type (
	// SubjectAnswer is what one subject gets: one line of `effective --format jsonl`.
	SubjectAnswer struct {
		Device      string              `json:"device"`
		Person      string              `json:"person,omitempty"`
		Unit        string              `json:"unit"`
		Settings    []SettingAnswer     `json:"settings"`
		Problems    []ProblemAnswer     `json:"problems"`
		NotApplying []NotApplyingAnswer `json:"not_applying,omitzero"`
	}
	// SettingAnswer is what is decided for one setting.
	SettingAnswer struct {
		Setting    string            `json:"setting"`
		Status     string            `json:"status" enum:"set,unset,conflict,unsupported"`
		Reason     string            `json:"reason,omitempty" enum:"platform,version,edition"`
		Value      *setting.Value    `json:"value,omitempty"`
		How        outcome.How       `json:"how,omitempty"`
		From       []string          `json:"from,omitzero"`
		Replaced   *ReplacedAnswer   `json:"replaced,omitempty"`
		Candidates []CandidateAnswer `json:"candidates"`
	}
	// ReplacedAnswer is the value that a forced one replaces.
	ReplacedAnswer struct {
		Value setting.Value `json:"value"`
		How   string        `json:"how"`
		From  []string      `json:"from"`
	}
	// CandidateAnswer is one entry with what became of it.
	CandidateAnswer struct {
		Policy   string        `json:"policy"`
		Level    string        `json:"level"`
		Priority int64         `json:"priority"`
		Value    setting.Value `json:"value"`
		Locked   bool          `json:"locked"`
		Fate     string        `json:"fate" enum:"won,clashing,outer,lower-priority,weaker,locked-out,ruled-out,excepted,detached,enforced-elsewhere"`
		BeatenBy []string      `json:"beaten_by,omitempty" doc:"In explanations only: the policies that it lost to, or conflicts with"`
	}
	// ProblemAnswer is a check that finds the decided set wrong.
	ProblemAnswer struct {
		Check    string   `json:"check"`
		Settings []string `json:"settings"`
		From     []string `json:"from"`
		Message  string   `json:"message"`
	}
	// NotApplyingAnswer is a policy that does not apply, with the reason.
	NotApplyingAnswer struct {
		Policy  string   `json:"policy"`
		Reason  string   `json:"reason" enum:"not-active,platform,outside,not-included,excluded,condition,not-taken"`
		Targets []string `json:"targets,omitempty"`
		Error   string   `json:"error,omitempty"`
	}
)

// Answer gives a result as its wire type; reasons adds the policies that do not apply.
func Answer(r *outcome.Result, reasons bool) SubjectAnswer {
	out := SubjectAnswer{
		Device: string(r.Device), Person: string(r.Person), Unit: string(r.Unit),
		Settings: make([]SettingAnswer, len(r.Settings)), Problems: make([]ProblemAnswer, len(r.Problems)),
	}
	for i := range r.Settings {
		out.Settings[i] = settingAnswer(&r.Settings[i])
	}
	for i, found := range r.Problems {
		out.Problems[i] = ProblemOf(found)
	}
	if reasons {
		out.NotApplying = make([]NotApplyingAnswer, len(r.NotApplying))
		for i, n := range r.NotApplying {
			out.NotApplying[i] = NotApplyingAnswer{Policy: string(n.Policy), Reason: string(n.Reason), Error: n.Error}
			if n.Targets != nil {
				out.NotApplying[i].Targets = targetTexts(n.Targets)
			}
		}
	}
	return out
}

// Explained gives a result with all that an explanation needs: the policies that do not apply, and
// for each candidate that lost, the policies that it lost to.
func Explained(r *outcome.Result) SubjectAnswer {
	out := Answer(r, true)
	for i := range r.Settings {
		for j, c := range r.Settings[i].Candidates {
			out.Settings[i].Candidates[j].BeatenBy = texts(r.Settings[i].BeatenBy(c))
		}
	}
	return out
}

// ProblemOf gives a problem as its wire type.
func ProblemOf(found outcome.Problem) ProblemAnswer {
	return ProblemAnswer{string(found.Check), filled(texts(found.Settings)), filled(found.From), found.Message}
}

func settingAnswer(s *outcome.Setting) SettingAnswer {
	out := SettingAnswer{
		Setting: string(s.ID), Status: string(s.Status), Reason: string(s.Reason), Value: valueOrNot(s.Value), How: s.How,
		Candidates: make([]CandidateAnswer, len(s.Candidates)),
	}
	if s.Status != outcome.Unsupported {
		out.From = filled(s.From)
	}
	if s.Replaced != nil {
		out.Replaced = &ReplacedAnswer{s.Replaced.Value, string(s.Replaced.How), filled(s.Replaced.From)}
	}
	for i, c := range s.Candidates {
		out.Candidates[i] = CandidateOf(c)
	}
	return out
}

// CandidateOf gives a candidate as its wire type.
func CandidateOf(c outcome.Candidate) CandidateAnswer {
	return CandidateAnswer{string(c.Policy), c.Level.String(), c.Priority, c.Value, c.Locked, c.Fate.String(), nil}
}

// filled makes an absent list an empty one.
func filled(list []string) []string {
	if list == nil {
		return []string{}
	}
	return list
}
