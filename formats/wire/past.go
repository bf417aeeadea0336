// This file has the types of the past.

package wire

import (
	"time"

	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/files"
)

type (
	// Past is a laptop at a moment: what was decided, by whom, and what the laptop reported.
	Past struct {
		At         time.Time            `json:"at"`
		Day        string               `json:"day" doc:"On which exceptions were judged"`
		Revision   int64                `json:"revision"`
		Device     string               `json:"device"`
		Owner      string               `json:"owner,omitempty"`
		Units      []string             `json:"units"`
		OS         string               `json:"os"`
		Version    string               `json:"os_version"`
		Settings   []PastSetting        `json:"settings"`
		Exceptions []files.ExceptionDoc `json:"exceptions" doc:"That counted for the laptop"`
		Rollouts   []string             `json:"rollouts" doc:"Under way then, that had reached the laptop"`
		Presence   *Presence            `json:"presence,omitempty" doc:"Absent: it had never checked in"`
	}
	// Presence is a span in which a laptop checked in as often as usual.
	Presence struct {
		Since    time.Time `json:"since"`
		Until    time.Time `json:"until" doc:"The last check-in of the span, or of what is known of it"`
		Sessions int64     `json:"sessions"`
		Covers   bool      `json:"covers" doc:"The moment lies in the span: the laptop checked in before and after it"`
	}
	// PastSetting is a setting of a laptop at a moment.
	PastSetting struct {
		Setting   string         `json:"setting"`
		Title     string         `json:"title,omitempty"`
		Area      string         `json:"area,omitempty"`
		Kind      string         `json:"kind,omitempty"`
		Status    string         `json:"status" enum:"set,unset,conflict,unsupported"`
		Value     *setting.Value `json:"value,omitempty" doc:"As decided"`
		How       string         `json:"how,omitempty"`
		Decisions []PastDecision `json:"decisions"`
		Exception string         `json:"exception,omitempty" doc:"That decided"`
		Reported  *setting.Value `json:"reported,omitempty" doc:"By the laptop; absent: it had reported nothing"`
		Since     *time.Time     `json:"since,omitempty" doc:"Of what it reported"`
		Until     *time.Time     `json:"until,omitempty" doc:"Absent: it reports so now"`
		InForce   bool           `json:"in_force" doc:"The laptop reported what was decided"`
	}
	// PastDecision is what decided a setting: a policy as it was then.
	PastDecision struct {
		Policy    string     `json:"policy"`
		Title     string     `json:"title,omitempty"`
		Version   int64      `json:"version,omitempty"`
		Change    string     `json:"change,omitempty"`
		Why       string     `json:"why,omitempty" doc:"Title and reason of the change"`
		By        string     `json:"by,omitempty"`
		At        *time.Time `json:"at,omitempty"`
		Rollout   string     `json:"rollout,omitempty" doc:"By which it came, where that was under way"`
		Approvals []Verdict  `json:"approvals"`
	}
)
