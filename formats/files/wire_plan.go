// This file has the wire types of rollout plans and approval rules.

package files

import (
	"encoding/json"
	"fmt"
	"time"

	"zenithridge.example/zridge/core/estate"
)

type (
	// RolloutPlanDoc is a rollout plan as the estate format writes it. What has its default is left out.
	RolloutPlanDoc struct {
		ID          string      `json:"id"`
		Title       string      `json:"title,omitempty"`
		Default     bool        `json:"default,omitempty" doc:"Chosen where a publication names no plan; at most one is"`
		Waves       []WaveDoc   `json:"waves,omitempty" doc:"In order; a last wave for the rest is added where it is missing"`
		Stop        *StopDoc    `json:"stop,omitempty"`
		Hours       []WindowDoc `json:"hours,omitempty" doc:"When waves may open by themselves; none: always"`
		Zone        string      `json:"zone,omitempty" doc:"Time zone of the hours, such as Europe/Lisbon; none: UTC"`
		SilentAfter string      `json:"silent_after,omitempty" doc:"A laptop that is due and was not heard for so long is silent; none: 14d"`
		LostAfter   string      `json:"lost_after,omitempty" doc:"A laptop that took the change and was not heard for so long, or for three of its usual intervals, is lost; none: 4h"`
	}
	// WaveDoc is a wave: one of who, share and rest.
	WaveDoc struct {
		ID     string       `json:"id"`
		Who    *AudienceDoc `json:"who,omitempty" doc:"The laptops of the change that this audience matches"`
		Share  json.Number  `json:"share,omitempty" doc:"Percentage of all laptops of the change, mirrored by platform and unit"`
		Rest   bool         `json:"rest,omitempty" doc:"All that are left; the last wave alone"`
		Least  string       `json:"least,omitempty" doc:"How long it stays open at least, such as 24h"`
		Enough json.Number  `json:"enough,omitempty" doc:"Percentage of its laptops that must have taken the change; none: 90"`
		Go     string       `json:"go,omitempty" enum:"automatic,by-hand" doc:"Whether it opens by itself or a person opens it; none: automatic"`
	}
	// StopDoc says when a rollout stops by itself.
	StopDoc struct {
		Failed json.Number `json:"failed,omitempty" doc:"Percentage of laptops in open waves; more failed ones stop the rollout; none: 5"`
		Lost   json.Number `json:"lost,omitempty" doc:"The same of lost ones; none: 2"`
	}
	// WindowDoc is a time of the week.
	WindowDoc struct {
		Days []string `json:"days" enum:"mon,tue,wed,thu,fri,sat,sun"`
		From string   `json:"from" doc:"Such as 09:00"`
		To   string   `json:"to" doc:"Not included; at most 24:00"`
	}
	// ApprovalRuleDoc is an approval rule.
	ApprovalRuleDoc struct {
		ID        string `json:"id"`
		Title     string `json:"title,omitempty"`
		When      string `json:"when" doc:"CEL over change"`
		Approvals int64  `json:"approvals" doc:"By different people"`
		From      string `json:"from,omitempty" doc:"A role, or group:ID with a group of people; none: anybody with the right approve"`
		Reason    string `json:"reason,omitempty"`
	}
)

func rolloutPlanDoc(p *estate.RolloutPlan) RolloutPlanDoc {
	standard := estate.DefaultPlan()
	doc := RolloutPlanDoc{ID: string(p.ID), Title: p.Title, Default: p.Default}
	for i := range p.Waves {
		doc.Waves = append(doc.Waves, WaveDocOf(&p.Waves[i]))
	}
	if p.StopFailed != standard.StopFailed || p.StopLost != standard.StopLost {
		doc.Stop = &StopDoc{json.Number(p.StopFailed.String()), json.Number(p.StopLost.String())}
	}
	for _, w := range p.Hours {
		days := make([]string, len(w.Days))
		for i, day := range w.Days {
			days[i] = dayNames[day]
		}
		doc.Hours = append(doc.Hours, WindowDoc{days, w.From.String(), w.To.String()})
	}
	if p.Zone != standard.Zone && p.Zone.String() != "UTC" {
		doc.Zone = p.Zone.String()
	}
	if p.SilentAfter != standard.SilentAfter {
		doc.SilentAfter = DurationText(p.SilentAfter)
	}
	if p.LostAfter != standard.LostAfter {
		doc.LostAfter = DurationText(p.LostAfter)
	}
	return doc
}

// WaveDocOf gives a wave in the estate format.
func WaveDocOf(w *estate.Wave) WaveDoc {
	doc := WaveDoc{ID: string(w.ID)}
	switch w.Kind {
	case estate.ByAudience:
		who := audienceDoc(&w.Who)
		doc.Who = &who
	case estate.ByShare:
		doc.Share = json.Number(w.Share.String())
	case estate.ForRest:
		doc.Rest = true
	}
	if w.Least != 0 {
		doc.Least = DurationText(w.Least)
	}
	if w.Enough != estate.DefaultWave("", "").Enough {
		doc.Enough = json.Number(w.Enough.String())
	}
	if w.ByHand {
		doc.Go = "by-hand"
	}
	return doc
}

// DurationText gives a duration of whole minutes as plans write it: 24h, 14d, 90m.
func DurationText(d time.Duration) string {
	const day = 24 * time.Hour
	switch {
	case d%day == 0 && d > day:
		return fmt.Sprintf("%dd", d/day)
	case d%time.Hour == 0:
		return fmt.Sprintf("%dh", d/time.Hour)
	}
	return fmt.Sprintf("%dm", d/time.Minute)
}

// DecodePlan reads a rollout plan by itself, as it is edited for one rollout. The error is a
// problem.Faults.
func DecodePlan(data []byte) (estate.RolloutPlan, error) {
	object, _, err := DecodeJSON(estate.KindRolloutPlan, data)
	if err != nil {
		return estate.RolloutPlan{}, err
	}
	return object.(estate.RolloutPlan), nil
}
