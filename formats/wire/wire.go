// Package wire has the types of the HTTP API that are not of the estate format: what the service
// encodes and its clients decode, and how those of findings are made. They hold data alone; the
// words that people read are made at the edges.
package wire

import (
	"time"

	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/files"
)

// Problem is a fault of a request (RFC 9457, application/problem+json).
type Problem struct {
	Type   string          `json:"type" doc:"urn:zridge: and the code"`
	Title  string          `json:"title"`
	Status int             `json:"status"`
	Detail string          `json:"detail,omitempty" doc:"What was found, and what was expected"`
	Code   string          `json:"code"`
	Faults []problem.Fault `json:"faults,omitempty"`
	// MoreFaults counts those that are left out since there are too many.
	MoreFaults int `json:"more_faults,omitempty"`
	// With code not-approved: the rules that are not met. With waits: what comes first.
	Demands  []Demand     `json:"demands,omitempty"`
	WaitsFor []WaitingFor `json:"waits_for,omitempty"`
	// Overtaken lists objects that were published otherwise since the change began to edit them.
	Overtaken []Overtaken `json:"overtaken,omitempty"`
	// Change is the open change that has what is missing.
	Change string `json:"change,omitempty"`
}

// Error makes a Problem an error of the client.
func (p *Problem) Error() string {
	if p.Detail != "" {
		return p.Title + ": " + p.Detail
	}
	return p.Title
}

// GetStatus makes a Problem a response of its status.
func (p *Problem) GetStatus() int { return p.Status }

// ContentType is the media type of problems.
func (p *Problem) ContentType(string) string { return "application/problem+json" }

type (
	// Overtaken is an object that another change has published.
	Overtaken struct {
		Kind        string    `json:"kind"`
		ID          string    `json:"id"`
		BaseVersion int64     `json:"base_version"`
		LiveVersion int64     `json:"live_version"`
		By          string    `json:"by"`
		At          time.Time `json:"at"`
		Change      string    `json:"change"`
	}

	// Page is a part of a list; Next is empty at its end.
	Page[T any] struct {
		Items []T    `json:"items"`
		Next  string `json:"next,omitempty" doc:"The cursor of the next page; absent at the end"`
		Total int    `json:"total"`
	}

	// Conflict is a setting that policies disagree about.
	Conflict struct {
		Setting     string                  `json:"setting"`
		Title       string                  `json:"title,omitempty"`
		Policies    []string                `json:"policies"`
		Values      []files.CandidateAnswer `json:"values"`
		Devices     []string                `json:"devices"`
		DeviceCount int                     `json:"device_count"`
		Settleable  bool                    `json:"settleable" doc:"A ruling can settle it"`
		Since       *ConflictSince          `json:"since,omitempty" doc:"With what is live: where that is recorded, by what it began"`
		Part        string                  `json:"part,omitempty" doc:"In an impact: names it, to ask for its laptops"`
		Help        string                  `json:"help,omitempty" doc:"In the list of conflicts, as what follows: what the setting does"`
		Involved    []InvolvedPolicy        `json:"involved,omitempty"`
		Units       []UnitCount             `json:"units,omitempty" doc:"Home units of these laptops, most first"`
		Questions   []Question              `json:"questions,omitempty" doc:"To the owners, the newest first"`
	}
	// FoundProblem is a check that finds laptops wrong.
	FoundProblem struct {
		files.ProblemAnswer
		Devices     []string `json:"devices"`
		DeviceCount int      `json:"device_count"`
		Part        string   `json:"part,omitempty" doc:"In an impact: names it, to ask for its laptops"`

		Involved  []InvolvedPolicy `json:"involved,omitempty" doc:"In the list of problems, as what follows"`
		Units     []UnitCount      `json:"units,omitempty"`
		Questions []Question       `json:"questions,omitempty"`
	}
	// Lint is something that does nothing: an entry of a policy, a policy, a group or an exception;
	// or a rule that fails.
	Lint struct {
		Lint      string   `json:"lint" enum:"redundant,never-wins,reaches-nobody,failing-rule,unused-group,expired"`
		Policy    string   `json:"policy,omitempty"`
		Setting   string   `json:"setting,omitempty"`
		Group     string   `json:"group,omitempty"`
		Exception string   `json:"exception,omitempty"`
		Beside    []string `json:"beside,omitempty"`
		Devices   int      `json:"devices"`
	}

	// Statuses counts settings by how far they are.
	Statuses struct {
		Pending     int `json:"pending"`
		Applied     int `json:"applied"`
		Failed      int `json:"failed"`
		Unsupported int `json:"unsupported"`
		Conflict    int `json:"conflict"`
		Drifted     int `json:"drifted" doc:"Altered on the laptop, and only to be reported"`
	}
	// Overview counts what needs a person.
	Overview struct {
		Revision     int64             `json:"revision"`
		Day          string            `json:"day" doc:"The day that exceptions are judged on"`
		Units        int               `json:"units"`
		People       int               `json:"people"`
		Devices      int               `json:"devices"`
		Policies     int               `json:"policies"`
		Enrolled     int               `json:"enrolled"`
		Silent       int               `json:"silent"`
		NeverSeen    int               `json:"never_seen"`
		Statuses     Statuses          `json:"statuses"`
		Conflicts    []Conflict        `json:"conflicts"`
		Arisen       []ConflictEvent   `json:"arisen" doc:"Conflicts of the last two weeks that no edit caused, and that still exist"`
		Problems     []FoundProblem    `json:"problems"`
		Lints        []Lint            `json:"lints"`
		Changes      []Change          `json:"changes"`
		Failed       []Failed          `json:"failed"`
		Prediction   Prediction        `json:"prediction" doc:"Of the settings that laptops reported, those that are as predicted"`
		Below        []BaselineSummary `json:"below" doc:"Baselines with which fewer laptops comply than their lines want"`
		Fights       []Fight           `json:"fights" doc:"Settings that another program sets, too"`
		Lapsing      []Lapsing         `json:"lapsing"`
		Asked        int               `json:"asked" doc:"Exceptions that somebody asks for, and nobody decided"`
		Left         int               `json:"left" doc:"What its source no longer has, and is still here"`
		Waiting      []string          `json:"waiting" doc:"Sources of which a reading waits to be looked at"`
		FailedRuns   []string          `json:"failed_runs" doc:"Sources whose last reading failed"`
		Missed       int               `json:"missed" doc:"Entries that places which detach something missed since"`
		DetachDue    []DetachedPlace   `json:"detach_due" doc:"Places that detach something which is to be looked at again by now"`
		Publications []Publication     `json:"publications"`
	}
	// Failed is a setting that failed on devices, for one reason.
	Failed struct {
		Setting string   `json:"setting"`
		Code    string   `json:"code"`
		Reason  string   `json:"reason"`
		Devices []string `json:"devices"`
	}
	// Lapsing is an exception that ends soon.
	Lapsing struct {
		ID      string `json:"id"`
		Setting string `json:"setting"`
		Target  string `json:"target"`
		Until   string `json:"until"`
		Reason  string `json:"reason"`
		Days    int    `json:"days" doc:"Until it lapses"`
		Notice  string `json:"notice" enum:"soon,now" doc:"soon: within 14 days; now: within 3"`
	}

	// Change is a named set of edits.
	Change struct {
		ID        string    `json:"id"`
		Title     string    `json:"title"`
		Why       string    `json:"why,omitempty"`
		State     string    `json:"state" enum:"open,in-review,rolling-out,published,taken-back,discarded"`
		Version   int64     `json:"version"`
		CreatedBy string    `json:"created_by"`
		CreatedAt time.Time `json:"created_at"`
		UpdatedAt time.Time `json:"updated_at"`
		Revision  int64     `json:"revision,omitempty" doc:"Once published"`
		Edits     []Edit    `json:"edits,omitempty"`
		// HiddenEdits counts edits that are not listed.
		HiddenEdits int `json:"hidden_edits,omitempty" doc:"Edits of objects outside of the units that the caller may read"`
	}
	// NewChange opens a change, or describes it anew.
	NewChange struct {
		Title string `json:"title" maxLength:"200"`
		Why   string `json:"why,omitempty" maxLength:"4000"`
	}
	// Edit is what a change does to one object.
	Edit struct {
		Kind        string       `json:"kind" enum:"units,people,devices,groups,policies,exceptions,rulings,settings,checks,rollout_plans,approval_rules,baselines"`
		ID          string       `json:"id"`
		Action      string       `json:"action" enum:"create,alter,retire"`
		Body        EstateObject `json:"body,omitempty" doc:"The object in the estate format"`
		Live        EstateObject `json:"live,omitempty" doc:"The object as it is live"`
		BaseVersion int64        `json:"base_version"`
		LiveVersion int64        `json:"live_version"`
		Version     int64        `json:"version"`
		By          string       `json:"by"`
		At          time.Time    `json:"at"`

		// Where the effect was asked for with a write.
		Effect        *Trial `json:"effect,omitempty" doc:"What the change does now"`
		ChangeVersion int64  `json:"change_version,omitempty" doc:"The version of the change that does it"`
	}

	// State is what a setting is on a laptop; status absent: it does not appear.
	State struct {
		Status string         `json:"status,omitempty" enum:"set,unset,conflict,unsupported,"`
		Value  *setting.Value `json:"value,omitempty"`
	}
	// Transition is one way in which a setting alters.
	Transition struct {
		Part        string      `json:"part" doc:"Names it, to ask for its laptops"`
		Setting     string      `json:"setting"`
		Title       string      `json:"title,omitempty"`
		From        State       `json:"from"`
		To          State       `json:"to"`
		Weaker      bool        `json:"weaker"`
		Effects     []string    `json:"effects"`
		Devices     []string    `json:"devices" doc:"The first of them"`
		DeviceCount int         `json:"device_count"`
		Units       []UnitCount `json:"units" doc:"Home units with most of them"`
	}
	// UnitCount is how many laptops have a unit as their home.
	UnitCount struct {
		Unit    string `json:"unit"`
		Title   string `json:"title,omitempty"`
		Devices int    `json:"devices"`
	}
	// ImpactDevice is a laptop that a change does something to.
	ImpactDevice struct {
		ID        string `json:"id"`
		Serial    string `json:"serial,omitempty"`
		Owner     string `json:"owner,omitempty"`
		OwnerName string `json:"owner_name,omitempty"`
		Unit      string `json:"unit"`
		OS        string `json:"os"`
		OSVersion string `json:"os_version"`
		Model     string `json:"model,omitempty"`
	}
	// Movement is a policy that begins or ceases to reach devices.
	Movement struct {
		Policy      string   `json:"policy"`
		Title       string   `json:"title,omitempty"`
		Gained      int      `json:"gained"`
		Dropped     int      `json:"dropped"`
		Sample      []string `json:"sample"`
		GainedPart  string   `json:"gained_part"`
		DroppedPart string   `json:"dropped_part"`
	}
	// Impact is what a change does.
	Impact struct {
		Faults           []problem.Fault `json:"faults,omitempty" doc:"With any, the rest is empty"`
		Devices          int             `json:"devices"`
		Estate           int             `json:"estate"`
		Weaker           int             `json:"weaker" doc:"Devices that get a weaker value"`
		Restart          int             `json:"restart"`
		Prompt           int             `json:"prompt"`
		Irreversible     int             `json:"irreversible"`
		Lockout          int             `json:"lockout"`
		Units            []UnitCount     `json:"units" doc:"Home units with most of the devices"`
		Ways             int             `json:"ways" doc:"In how many ways settings alter"`
		Transitions      []Transition    `json:"transitions" doc:"The first of these ways: weaker values first, then those of most devices"`
		ConflictsGained  []Conflict      `json:"conflicts_gained"`
		ConflictsCleared []Conflict      `json:"conflicts_cleared"`
		ProblemsGained   []FoundProblem  `json:"problems_gained"`
		ProblemsCleared  []FoundProblem  `json:"problems_cleared"`
		Audiences        []Movement      `json:"audiences"`
	}
	// Publication is a change that went live.
	Publication struct {
		Revision int64     `json:"revision"`
		Change   string    `json:"change"`
		Title    string    `json:"title"`
		By       string    `json:"by"`
		At       time.Time `json:"at"`
		Edits    int       `json:"edits"`
	}

	// Reach splits the estate by what an audience does to it.
	Reach struct {
		Gets        int      `json:"gets"`
		Excluded    int      `json:"excluded"`
		Condition   int      `json:"condition"`
		NotTaken    int      `json:"not_taken" doc:"The policy is offered to them, and nobody took it"`
		Platform    int      `json:"platform"`
		Outside     int      `json:"outside" doc:"Outside of the unit that bounds the policy"`
		Unknown     int      `json:"unknown" doc:"Of those that get it: it is not known whether they support each of its settings"`
		NotIncluded int      `json:"not_included"`
		Unsupported int      `json:"unsupported" doc:"Among gets: supports none of the settings"`
		People      int      `json:"people"`
		Everyone    bool     `json:"everyone"`
		Sample      []string `json:"sample" doc:"The first that get it"`
		LeftOut     []string `json:"left_out" doc:"The first that are left out by name"`
	}
	// AlsoSet is another active policy that sets the same setting.
	AlsoSet struct {
		Setting  string        `json:"setting"`
		Policy   string        `json:"policy"`
		Title    string        `json:"title,omitempty"`
		Owner    string        `json:"owner,omitempty"`
		Value    setting.Value `json:"value"`
		Locked   bool          `json:"locked,omitempty"`
		Devices  int           `json:"devices" doc:"To which it brings the setting"`
		Shared   int           `json:"shared" doc:"Of those, devices that the policy that is looked at reaches too"`
		Relation string        `json:"relation" enum:"repeats,conflicts,overrides,overridden,adds,neither,apart"`
		Beside   Beside        `json:"beside"`
	}
	// Beside counts the shared devices on which the entries of two policies meet: that of the other
	// policy, and that of the policy that is looked at.
	Beside struct {
		Both     int `json:"both" doc:"Both are in effect"`
		Conflict int `json:"conflict" doc:"They conflict with each other"`
		Over     int `json:"over" doc:"The other one is in effect, the one of the policy that is looked at is not"`
		Under    int `json:"under" doc:"That of the policy that is looked at is in effect, the other one is not"`
		Neither  int `json:"neither" doc:"Something else is in effect, or nothing"`
	}
	// PolicyUse is what a policy does.
	PolicyUse struct {
		Reach    Reach                     `json:"reach"`
		AlsoSet  []AlsoSet                 `json:"also_set"`
		Findings []Finding                 `json:"findings"`
		Fates    map[string]map[string]int `json:"fates" doc:"By setting and fate, the laptops on which the policy's own entry has it"`
		Lacking  map[string]map[string]int `json:"lacking" doc:"By setting and reason, the laptops that do not support it"`
		NotKnown map[string]int            `json:"not_known" doc:"By setting, the laptops of which it is not known whether they support it"`
		Forced   map[string]int            `json:"forced" doc:"By setting, the laptops on which something else forces another value"`
		Problems []FoundProblem            `json:"problems"`
	}
	// Trial is what a policy would do if it were put into a change.
	Trial struct {
		Faults []problem.Fault `json:"faults,omitempty" doc:"With any, the rest is absent"`
		Use    *PolicyUse      `json:"use,omitempty"`
		Impact *Impact         `json:"impact,omitempty"`
	}
	// Policy is a policy in a list.
	Policy struct {
		ID        string   `json:"id"`
		Title     string   `json:"title,omitempty"`
		Kind      string   `json:"kind"`
		State     string   `json:"state"`
		Priority  int64    `json:"priority"`
		Why       string   `json:"why,omitempty"`
		Settings  []string `json:"settings"`
		Include   []string `json:"include"`
		Exclude   []string `json:"exclude"`
		Devices   int      `json:"devices" doc:"That it reaches"`
		Conflicts int      `json:"conflicts" doc:"Conflicts that it is part of"`
		Version   int64    `json:"version"`
	}
	// Group is a group in a list.
	Group struct {
		ID       string       `json:"id"`
		Title    string       `json:"title,omitempty"`
		Of       string       `json:"of"`
		Rule     string       `json:"rule,omitempty"`
		Members  int          `json:"members"`
		Listed   int          `json:"listed"`
		Nested   int          `json:"nested" doc:"Member groups"`
		Source   string       `json:"source,omitempty"`
		Failures int          `json:"failures" doc:"Devices or people that the rule failed on"`
		Detach   []Detachment `json:"detach"`
		Version  int64        `json:"version"`
	}
	// Object is an object of the estate with its version.
	Object struct {
		Kind     string       `json:"kind" enum:"units,people,devices,groups,policies,exceptions,rulings,settings,checks,rollout_plans,approval_rules,baselines"`
		ID       string       `json:"id"`
		Version  int64        `json:"version"`
		Retired  bool         `json:"retired,omitempty"`
		By       string       `json:"by,omitempty"`
		At       *time.Time   `json:"at,omitempty"`
		Revision int64        `json:"revision,omitempty"`
		Body     EstateObject `json:"body"`
	}
	// Setting is a definition, with where it is set.
	Setting struct {
		files.SettingDoc
		Policies []string `json:"policies" doc:"Active policies that set it"`
		Own      bool     `json:"own" doc:"Of this estate, not shipped"`
	}

	// ImportResult is what an import opened.
	ImportResult struct {
		Change    string `json:"change,omitempty" doc:"Absent: nothing differs"`
		Version   int64  `json:"version,omitempty"`
		Created   int    `json:"created"`
		Altered   int    `json:"altered"`
		Retired   int    `json:"retired"`
		Unchanged int    `json:"unchanged"`
	}
)
