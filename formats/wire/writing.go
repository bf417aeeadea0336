// This file has the types around writing a policy: findings, files, history, merging, the summary.

package wire

import (
	"time"

	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/contents"
)

type (
	// Finding is one thing to say about a policy while it is written.
	Finding struct {
		Kind     string         `json:"kind" enum:"wrong-alone,forced-value,many-purposes,nearly-known,typed-by-hand,same-path,other-systems,reaches-all,wrong-store,replaced,odd-condition,leaves-unset"`
		Text     string         `json:"text" doc:"In a sentence"`
		Settings []string       `json:"settings"`
		Check    string         `json:"check,omitempty"`
		Warning  bool           `json:"warning" doc:"Worth a look rather than wrong"`
		Value    *setting.Value `json:"value,omitempty" doc:"That is forced"`
		Found    string         `json:"found,omitempty"`
		Known    string         `json:"known,omitempty"`
		Beside   []string       `json:"beside,omitempty"`
		Purposes []Purpose      `json:"purposes,omitempty"`
		Devices  int            `json:"devices"`
	}
	// Purpose is a part of a policy that serves one end.
	Purpose struct {
		Areas    []string `json:"areas"`
		Settings []string `json:"settings"`
	}
	// SettingUse is what is known of a setting where a policy is written.
	SettingUse struct {
		Setting
		Elsewhere  []AlsoSet      `json:"elsewhere" doc:"Other active policies that set it"`
		Devices    int            `json:"devices" doc:"That the policy reaches; all of them without one"`
		Lacking    map[string]int `json:"lacking" doc:"Of those, by reason, devices that do not support it"`
		NotKnown   int            `json:"not_known" doc:"Of those, devices of which it is not known whether they support it; they count as supported"`
		Exceptions int            `json:"exceptions" doc:"That count today"`
		Combines   string         `json:"combines" doc:"In words"`
		Support    string         `json:"support" doc:"In words"`
	}
	// SettingType is a type of settings' values, with how settings of the type can combine.
	SettingType struct {
		Type     setting.Type  `json:"type"`
		Combines []CombineRule `json:"combines" doc:"The first one counts where a definition names none"`
		Stricter []string      `json:"stricter" enum:"lower,higher,true,false,later" doc:"Which of two values can be the stricter, for combine: strictest"`
	}
	// CombineRule is a way in which the values of several policies become one.
	CombineRule struct {
		Rule setting.Combine `json:"rule"`
		Text string          `json:"text" doc:"In words"`
	}
	// File is a file that is kept, with what was read out of it.
	File struct {
		SHA256  string           `json:"sha256"`
		Name    string           `json:"name"`
		Size    int64            `json:"size"`
		By      string           `json:"by"`
		At      time.Time        `json:"at"`
		New     bool             `json:"new" doc:"It was not kept before"`
		Reading contents.Reading `json:"reading"`
	}
	// Difference is a part in which two versions of a policy differ.
	Difference struct {
		Part    string `json:"part" doc:"title, include, when … or settings/ID"`
		Setting string `json:"setting,omitempty"`
		Title   string `json:"title,omitempty"`
		From    string `json:"from"`
		To      string `json:"to"`
	}
	// PolicyVersion is a published version of a policy.
	PolicyVersion struct {
		Version  int64        `json:"version"`
		Retired  bool         `json:"retired,omitempty"`
		By       string       `json:"by"`
		At       time.Time    `json:"at"`
		Revision int64        `json:"revision"`
		Change   string       `json:"change"`
		Title    string       `json:"title" doc:"Of the change that brought it"`
		Why      string       `json:"why,omitempty"`
		Body     PolicyObject `json:"body,omitempty"`
		Before   []Difference `json:"before" doc:"What it altered in the version before"`
	}
	// MergeConflict is a part that two edits altered differently.
	MergeConflict struct {
		Part   string `json:"part"`
		Title  string `json:"title,omitempty"`
		Base   string `json:"base"`
		Mine   string `json:"mine"`
		Theirs string `json:"theirs"`
	}
	// Merged is what two edits of one policy give together.
	Merged struct {
		Body      PolicyObject    `json:"body"`
		Conflicts []MergeConflict `json:"conflicts" doc:"Where mine was kept, and a person is to choose"`
		Version   int64           `json:"version" doc:"Of the edit that was merged with: what If-Match is to name"`
		By        string          `json:"by"`
	}
	// SummaryPage is a policy in plain words.
	SummaryPage struct {
		Title    string         `json:"title"`
		Blocks   []SummaryBlock `json:"blocks"`
		Markdown string         `json:"markdown"`
		HTML     string         `json:"html" doc:"A page that needs no other file"`
	}
	// SummaryBlock is a heading, a paragraph, a list or a table of a page.
	SummaryBlock struct {
		Kind   string     `json:"kind" enum:"heading,paragraph,list,table"`
		Text   string     `json:"text,omitempty"`
		Points []string   `json:"points,omitempty"`
		Header []string   `json:"header,omitempty"`
		Rows   [][]string `json:"rows,omitempty"`
	}
	// Captured is a setting that a device reports.
	Captured struct {
		Setting  string         `json:"setting"`
		Title    string         `json:"title"`
		Area     string         `json:"area"`
		Kind     string         `json:"kind" enum:"configuration,security,encryption"`
		Reported setting.Value  `json:"reported"`
		Wanted   *setting.Value `json:"wanted,omitempty"`
		From     []string       `json:"from"`
		Default  bool           `json:"default" doc:"It is what an unmanaged device does"`
	}
	// Split moves settings of a policy into a new one.
	Split struct {
		Policy   string   `json:"policy"`
		Settings []string `json:"settings" minItems:"1"`
		NewID    string   `json:"new_id" maxLength:"128"`
		Title    string   `json:"title,omitempty" maxLength:"200"`
	}
)
