// This file has what does not fit together: conflicts and problems with the policies involved, ways
// to settle them, and questions to owners.

package wire

import (
	"time"

	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/files"
)

type (
	// InvolvedPolicy is a policy that a conflict or a problem comes from.
	InvolvedPolicy struct {
		Policy   string            `json:"policy"`
		Title    string            `json:"title,omitempty"`
		Kind     string            `json:"kind"`
		Why      string            `json:"why,omitempty"`
		Owner    string            `json:"owner,omitempty"`
		Audience files.AudienceDoc `json:"audience"`
		Devices  int               `json:"devices" doc:"That it reaches"`
		Entries  []InvolvedEntry   `json:"entries"`
	}
	// InvolvedEntry is what such a policy says about a setting in question.
	InvolvedEntry struct {
		Setting string        `json:"setting"`
		Title   string        `json:"title,omitempty"`
		Value   setting.Value `json:"value"`
		Note    string        `json:"note,omitempty"`
		Locked  bool          `json:"locked"`
	}
	// Touched is the laptops of a conflict or a problem by unit and group.
	Touched struct {
		Devices []string     `json:"devices"`
		Units   []UnitCount  `json:"units"`
		Groups  []GroupCount `json:"groups"`
	}
	// GroupCount is how many of some laptops are in a group, or are of people who are.
	GroupCount struct {
		Group   string `json:"group"`
		Title   string `json:"title,omitempty"`
		Of      string `json:"of" enum:"devices,people"`
		Devices int    `json:"devices"`
	}
	// AskOwners asks about a conflict, named by its setting, or a problem, named by its check.
	AskOwners struct {
		Setting  string   `json:"setting,omitempty" maxLength:"128"`
		Check    string   `json:"check,omitempty" maxLength:"128"`
		Policies []string `json:"policies" maxItems:"200" doc:"Of that conflict or problem"`
		Of       []string `json:"of,omitempty" maxItems:"20" doc:"Names of those who are asked; none: the owners of the policies"`
		Note     string   `json:"note" maxLength:"4000"`
	}
	// Question is a question to those who answer for policies.
	Question struct {
		ID         string     `json:"id"`
		At         time.Time  `json:"at"`
		Setting    string     `json:"setting,omitempty"`
		Check      string     `json:"check,omitempty"`
		Title      string     `json:"title,omitempty" doc:"The setting's"`
		Policies   []string   `json:"policies"`
		By         string     `json:"by"`
		Of         []string   `json:"of"`
		Note       string     `json:"note"`
		State      string     `json:"state" enum:"open,answered,withdrawn"`
		Answer     string     `json:"answer,omitempty"`
		AnsweredBy string     `json:"answered_by,omitempty"`
		AnsweredAt *time.Time `json:"answered_at,omitempty"`
		Current    bool       `json:"current" doc:"What it is about is still so in the live estate"`
	}
	// Answer answers a question.
	Answer struct {
		Answer string `json:"answer" maxLength:"4000"`
	}
	// ConflictSince says when a conflict began, and by what.
	ConflictSince struct {
		At       time.Time `json:"at"`
		Revision int64     `json:"revision"`
		Change   string    `json:"change,omitempty" doc:"Empty: no edit did it"`
		Title    string    `json:"title"`
		By       string    `json:"by"`
	}
	// ConflictWay is a way to settle a conflict or a problem, with what it would do.
	ConflictWay struct {
		Kind    string         `json:"kind" enum:"prefer,raise,lock,lock-above,leave-out,narrow,drop"`
		Policy  string         `json:"policy" doc:"In whose favour; with narrow and drop: the one that loses"`
		Title   string         `json:"title,omitempty" doc:"The policy's"`
		Targets []string       `json:"targets,omitempty" doc:"With narrow: whom it leaves out"`
		Edits   []ConflictEdit `json:"edits"`
		Devices int            `json:"devices" doc:"That get something else, in any setting"`
		Weaker  int            `json:"weaker" doc:"Of those, devices that get a weaker value"`
		Touched int            `json:"touched" doc:"Devices that are touched"`
		Left    int            `json:"left" doc:"Of those, devices on which it would still be so"`
		Gained  int            `json:"gained" doc:"Other conflicts that it would bring"`
	}
	// ConflictEdit is an edit of such a way.
	ConflictEdit struct {
		Kind string       `json:"kind" enum:"units,people,devices,groups,policies,exceptions,rulings,settings,checks,rollout_plans,approval_rules,baselines"`
		ID   string       `json:"id"`
		Body EstateObject `json:"body"`
	}
	// ConflictEvent is the beginning or end of a conflict on some laptops.
	ConflictEvent struct {
		ConflictSince
		Setting  string           `json:"setting"`
		Name     string           `json:"name,omitempty" doc:"The setting's title"`
		Policies []string         `json:"policies"`
		Gained   bool             `json:"gained" doc:"Else it ended"`
		Fresh    bool             `json:"fresh" doc:"No laptop had the conflict before, or has it after"`
		Current  bool             `json:"current" doc:"It exists today"`
		Devices  int              `json:"devices"`
		Sample   []ConflictDevice `json:"sample" doc:"The first of them"`
	}
	// ConflictDevice is a laptop on which a conflict began or ended, with what altered about it.
	ConflictDevice struct {
		ID     string          `json:"id"`
		Causes []ConflictCause `json:"causes" doc:"Empty: the laptop stayed as it was"`
	}
	// ConflictCause is one thing that altered about a laptop.
	ConflictCause struct {
		Kind string `json:"kind" enum:"arrived,moved,handed,joined,parted,updated"`
		From string `json:"from,omitempty"`
		To   string `json:"to,omitempty"`
	}
)
