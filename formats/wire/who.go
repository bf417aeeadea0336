// This file has the types of who gets a policy: lists of devices and people, audiences, groups,
// units, exceptions, comparing.

package wire

import (
	"time"

	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/files"
)

type (
	// Person is a person in a list.
	Person struct {
		ID         string                   `json:"id"`
		Name       string                   `json:"name,omitempty"`
		Mail       string                   `json:"mail,omitempty"`
		Unit       string                   `json:"unit,omitempty"`
		Devices    int                      `json:"devices" doc:"That the person owns"`
		Attributes map[string]setting.Value `json:"attributes"`
		Fields     map[string]setting.Value `json:"fields,omitempty" doc:"The columns that were asked for"`
		Origin     *Origin                  `json:"origin,omitempty"`
	}
	// Origin says which source has something.
	Origin struct {
		Source string     `json:"source"`
		Left   *time.Time `json:"left,omitempty" doc:"Since when the source no longer has it"`
		Local  []string   `json:"local,omitempty" doc:"The fields that are edited here and not as the source has them"`
		Brings []string   `json:"brings,omitempty" doc:"The fields that the source brings"`
	}
	// Field is a field by which devices or people are filtered, with its most frequent values.
	Field struct {
		Name     string  `json:"name" doc:"os, facts/ram_gb, attributes/department …"`
		Kind     string  `json:"kind" enum:"text,integer,bool,list"`
		Known    int     `json:"known" doc:"How many have a value"`
		Distinct int     `json:"distinct"`
		Most     []Tally `json:"most"`
	}
	// Tally is a value with how many have it.
	Tally struct {
		Value setting.Value `json:"value"`
		Count int           `json:"count"`
	}
	// PersonPage is all that is known of one person.
	PersonPage struct {
		Person  Person        `json:"person"`
		Units   []string      `json:"units" doc:"From the root to the person's unit"`
		Groups  []Membership  `json:"groups"`
		Devices []Device      `json:"devices" doc:"That the person owns, or signs in to"`
		History []SourceEvent `json:"history"`
	}
	// Membership says why somebody or something is in a group.
	Membership struct {
		Group  string     `json:"group"`
		Title  string     `json:"title,omitempty"`
		Owner  bool       `json:"owner,omitempty" doc:"Through the owner, who is in it"`
		Listed bool       `json:"listed,omitempty"`
		Via    []string   `json:"via,omitempty" doc:"Through these member groups"`
		Rule   []RulePart `json:"rule,omitempty" doc:"The parts of the rule, which holds"`
	}
	// RulePart is a part of a rule as it is for one device or person.
	RulePart struct {
		Source string `json:"source"`
		Depth  int    `json:"depth" doc:"Parts of a part follow it, one deeper"`
		Joined string `json:"joined,omitempty" enum:"&&,||,!"`
		Holds  bool   `json:"holds"`
		Error  string `json:"error,omitempty"`
	}
	// SourceEvent is one thing that a source did to an object.
	SourceEvent struct {
		At     time.Time            `json:"at"`
		Source string               `json:"source"`
		What   string               `json:"what" enum:"new,altered,left,back,removed"`
		Fields []files.AlteredField `json:"fields,omitempty"`
	}
	// SavedView is a list as somebody looks at it.
	SavedView struct {
		ID     string `json:"id"`
		Page   string `json:"page" enum:"devices,people"`
		Title  string `json:"title"`
		Query  string `json:"query" doc:"Of the page's address"`
		Owner  string `json:"owner"`
		Shared bool   `json:"shared"`
	}
	// NewView keeps a view.
	NewView struct {
		Page   string `json:"page" enum:"devices,people"`
		Title  string `json:"title" maxLength:"100"`
		Query  string `json:"query" maxLength:"4000"`
		Shared bool   `json:"shared,omitempty"`
	}

	// Unit is a unit of the tree.
	Unit struct {
		ID       string       `json:"id"`
		Title    string       `json:"title,omitempty"`
		Parent   string       `json:"parent,omitempty"`
		Depth    int          `json:"depth"`
		Devices  int          `json:"devices" doc:"In it and below"`
		Own      int          `json:"own" doc:"In it alone"`
		People   int          `json:"people" doc:"In it and below"`
		Policies int          `json:"policies" doc:"That name it in their audience"`
		Detach   []Detachment `json:"detach"`
		Source   string       `json:"source,omitempty"`
		Children int          `json:"children"`
	}
	// Move moves laptops.
	Move struct {
		Devices []string `json:"devices" minItems:"1" maxItems:"20000"`
		Unit    string   `json:"unit,omitempty" maxLength:"128" doc:"Empty: they follow their owners again"`
	}
	// MoveUnit moves a unit with all below it.
	MoveUnit struct {
		Unit   string `json:"unit" maxLength:"128"`
		Parent string `json:"parent" maxLength:"128"`
	}
	// Edited says how many edits were put into a change.
	Edited struct {
		Edits int `json:"edits"`
	}

	// GroupPage is all that is known of one group.
	GroupPage struct {
		Group   Group          `json:"group"`
		Doc     files.GroupDoc `json:"doc"`
		Trial   GroupTrial     `json:"trial"`
		Use     GroupUse       `json:"use"`
		Nesting []NestedGroup  `json:"nesting" doc:"Its member groups, theirs below them"`
		Origin  *Origin        `json:"origin,omitempty"`
	}
	// NestedGroup is a group in a tree of member groups.
	NestedGroup struct {
		ID      string `json:"id"`
		Title   string `json:"title,omitempty"`
		Depth   int    `json:"depth"`
		Members int    `json:"members"`
	}
	// GroupUse says where something is used.
	GroupUse struct {
		Includes   []string `json:"includes" doc:"Policies that include it"`
		Excludes   []string `json:"excludes"`
		Exceptions []string `json:"exceptions"`
		Groups     []string `json:"groups" doc:"Groups that have it as a member"`
	}
	// GroupTrial is who a group would have, compared with what is live.
	GroupTrial struct {
		Members     []Member      `json:"members" doc:"The first"`
		Count       int           `json:"count"`
		Of          int           `json:"of" doc:"Of how many there are"`
		Listed      int           `json:"listed"`
		Nested      int           `json:"nested" doc:"Through member groups alone"`
		ByRule      int           `json:"by_rule" doc:"By the rule alone"`
		Joins       []Member      `json:"joins"`
		JoinCount   int           `json:"join_count"`
		Leaves      []Member      `json:"leaves"`
		LeaveCount  int           `json:"leave_count"`
		Failures    []RuleFailure `json:"failures" doc:"On whom the rule fails, and why; the first"`
		FailedCount int           `json:"failed_count"`
		Remarks     []string      `json:"remarks,omitempty" doc:"What is odd about the rule: what nobody has, what is never true"`
	}
	// Member is a device or person with a title.
	Member struct {
		ID    string `json:"id"`
		Title string `json:"title,omitempty"`
	}
	// RuleFailure is a device or person that a rule fails on.
	RuleFailure struct {
		ID    string `json:"id"`
		Error string `json:"error"`
	}

	// AudienceTrial asks who would get a policy.
	AudienceTrial struct {
		Kind      string            `json:"kind,omitempty" enum:"configuration,security,encryption"`
		Platforms []string          `json:"platforms,omitempty"`
		Within    string            `json:"within,omitempty" maxLength:"128"`
		Offered   string            `json:"offered,omitempty" maxLength:"128" doc:"Of an offered policy: its id, by which laptops have taken it"`
		Audience  files.AudienceDoc `json:"audience"`
		Settings  []string          `json:"settings,omitempty" doc:"By which support is judged"`
		Beside    string            `json:"beside,omitempty" maxLength:"128" doc:"A policy whose audience is compared"`
		Whole     bool              `json:"whole,omitempty" doc:"Name all laptops and people, and not just the first"`
	}
	// AudienceAnswer is who would get a policy, or what is wrong with how it is written: it is
	// asked while somebody types.
	AudienceAnswer struct {
		Faults problem.Faults `json:"faults,omitempty" doc:"With any, the rest is absent"`
		Reach  *AudienceReach `json:"reach,omitempty"`
	}
	// GroupAnswer is who a group would have, or what is wrong with how it is written.
	GroupAnswer struct {
		Faults problem.Faults `json:"faults,omitempty" doc:"With any, the rest is absent"`
		Trial  *GroupTrial    `json:"trial,omitempty"`
	}
	// AudienceReach is who would get a policy, and who not.
	AudienceReach struct {
		Estate      int                       `json:"estate"`
		Gets        NameList                  `json:"gets"`
		Excluded    NameList                  `json:"excluded"`
		Condition   NameList                  `json:"condition"`
		NotTaken    NameList                  `json:"not_taken" doc:"The policy is offered to them, and nobody took it"`
		Platform    NameList                  `json:"platform"`
		Outside     NameList                  `json:"outside" doc:"Outside of the unit that bounds the policy"`
		Unknown     NameList                  `json:"unknown" doc:"Of those that get it: it is not known whether they support each of its settings"`
		NotIncluded NameList                  `json:"not_included"`
		Unsupported NameList                  `json:"unsupported" doc:"Among those that get it: supports none of its settings"`
		People      NameList                  `json:"people" doc:"Owners of those that get it"`
		Units       int                       `json:"units"`
		ByPlatform  []Slice                   `json:"by_platform"`
		ByRelease   []Slice                   `json:"by_release"`
		ByUnit      []Slice                   `json:"by_unit"`
		ByInclude   []TargetCount             `json:"by_include"`
		ByExclude   []TargetCount             `json:"by_exclude" doc:"How many of those that are included each takes out"`
		Errors      []Tally                   `json:"errors,omitempty" doc:"On how many the condition fails, by the error"`
		Missing     []string                  `json:"missing,omitempty" doc:"Targets that name nothing"`
		Lacking     map[string]map[string]int `json:"lacking" doc:"By setting and reason, those that do not support it"`
		NotKnown    map[string]int            `json:"not_known" doc:"By setting, those of which it is not known whether they support it"`
		Alarm       string                    `json:"alarm,omitempty" enum:"everyone,many,nobody"`
		Share       int                       `json:"share" doc:"In percent of the estate, above which an audience is called wide"`
		Beside      *Shared                   `json:"beside,omitempty"`
	}
	// NameList is a number of things with the first of them.
	NameList struct {
		Count int      `json:"count"`
		First []string `json:"first"`
	}
	// Slice is a part of those that get it.
	Slice struct {
		Name    string `json:"name"`
		Within  string `json:"within,omitempty"`
		Title   string `json:"title,omitempty"`
		Devices int    `json:"devices"`
		Of      int    `json:"of"`
	}
	// TargetCount is how many laptops a target accounts for.
	TargetCount struct {
		Target  string `json:"target"`
		Title   string `json:"title,omitempty"`
		Devices int    `json:"devices"`
	}
	// Shared compares two audiences.
	Shared struct {
		Policy string   `json:"policy"`
		Here   NameList `json:"here" doc:"Only here"`
		Both   NameList `json:"both"`
		There  NameList `json:"there" doc:"Only there"`
	}
	// PasteList is serial numbers or ids as somebody pastes them.
	PasteList struct {
		Words []string `json:"words" maxItems:"100000"`
	}
	// Pasted is what a list names.
	Pasted struct {
		Devices []string `json:"devices"`
		Unknown []string `json:"unknown"`
		Doubled []string `json:"doubled"`
	}
	// SpreadList is a few laptops of every sort.
	SpreadList struct {
		Devices []string `json:"devices"`
	}

	// Detachment is one thing that a unit or group does not inherit.
	Detachment struct {
		What     string `json:"what" maxLength:"140" doc:"configuration, security, encryption or area:NAME"`
		Reason   string `json:"reason,omitempty" maxLength:"500"`
		ReviewOn string `json:"review_on,omitempty" maxLength:"10" doc:"The day on which somebody looks at it again, such as 2027-03-01"`
	}
	// Detach lets a unit or group detach kinds of policy and areas of the dictionary, or inherit
	// everything again.
	Detach struct {
		Place  string       `json:"place" maxLength:"140" doc:"unit:ID or group:ID"`
		Detach []Detachment `json:"detach" doc:"None: it inherits everything again" maxItems:"100"`
		Keep   bool         `json:"keep,omitempty" doc:"Start from today's values, in a policy of its own"`
		Look   bool         `json:"look,omitempty" doc:"Only say what it would cost"`
	}
	// Detached says what a place loses that detaches something.
	Detached struct {
		Devices  int            `json:"devices" doc:"Of the place"`
		Touched  int            `json:"touched" doc:"Of those, laptops that would lose something"`
		Policies int            `json:"policies" doc:"That would no longer arrive, in whole or in part"`
		Entries  []DroppedEntry `json:"entries"`
		Today    []TodayValue   `json:"today" doc:"The values that stand there because of them"`
		Policy   string         `json:"policy,omitempty" doc:"The policy that keeps today's values"`
	}
	// DroppedEntry is an entry that does not arrive.
	DroppedEntry struct {
		Policy      string         `json:"policy"`
		PolicyTitle string         `json:"policy_title,omitempty"`
		Setting     string         `json:"setting"`
		Title       string         `json:"title,omitempty"`
		Value       setting.Value  `json:"value"`
		Was         *setting.Value `json:"was,omitempty" doc:"As it was when the place was detached; absent: it was not there"`
		Devices     int            `json:"devices"`
	}
	// TodayValue is a value that is in effect at a place today.
	TodayValue struct {
		Setting string        `json:"setting"`
		Title   string        `json:"title,omitempty"`
		Value   setting.Value `json:"value"`
		Devices int           `json:"devices"`
		Others  int           `json:"others" doc:"Laptops that have another value today"`
	}
	// DetachedPlace is a unit or group that detaches something, with what it missed since.
	DetachedPlace struct {
		Place   string         `json:"place"`
		Title   string         `json:"title,omitempty"`
		Detach  []Detachment   `json:"detach"`
		Due     []Detachment   `json:"due" doc:"Those of detach whose day of review has come"`
		Since   *time.Time     `json:"since,omitempty"`
		By      string         `json:"by,omitempty"`
		Devices int            `json:"devices"`
		Missed  []DroppedEntry `json:"missed"`
	}

	// Exception is an exception with its state.
	Exception struct {
		files.ExceptionDoc
		Title   string `json:"title,omitempty" doc:"Of the setting"`
		Days    int    `json:"days" doc:"Until it lapses; 0 on its last day; negative: it is over"`
		Devices int    `json:"devices" doc:"That it touches"`
		Notice  string `json:"notice,omitempty" doc:"soon: within 14 days; now: within 3" enum:"soon,now,over"`
		Version int64  `json:"version"`
	}
	// ExceptionRequest is an exception that somebody asks for.
	ExceptionRequest struct {
		Exception files.ExceptionDoc `json:"exception"`
		Title     string             `json:"title,omitempty" doc:"Of the setting"`
		State     string             `json:"state" enum:"asked,approved,refused,withdrawn"`
		AskedBy   string             `json:"asked_by"`
		AskedAt   time.Time          `json:"asked_at"`
		DecidedBy string             `json:"decided_by,omitempty"`
		DecidedAt *time.Time         `json:"decided_at,omitempty"`
		Note      string             `json:"note,omitempty"`
		Revision  int64              `json:"revision,omitempty"`
	}
	// AskException asks for an exception.
	AskException struct {
		ID      string         `json:"id,omitempty" maxLength:"128"`
		Setting string         `json:"setting" maxLength:"128"`
		Target  string         `json:"target" maxLength:"140"`
		Value   *setting.Value `json:"value,omitempty"`
		Unset   bool           `json:"unset,omitempty"`
		From    string         `json:"from,omitempty" maxLength:"10"`
		Until   string         `json:"until" maxLength:"10"`
		Reason  string         `json:"reason" maxLength:"2000"`
	}
	// Decision decides a request.
	Decision struct {
		Approve bool   `json:"approve"`
		Note    string `json:"note,omitempty" maxLength:"2000"`
	}

	// Supposed is what is supposed of one laptop.
	Supposed struct {
		Unit   string   `json:"unit,omitempty" maxLength:"128" doc:"It moves there"`
		Join   []string `json:"join,omitempty" maxItems:"50"`
		Leave  []string `json:"leave,omitempty" maxItems:"50"`
		Owner  *string  `json:"owner,omitempty" doc:"Empty: nobody"`
		Person string   `json:"person,omitempty" maxLength:"128" doc:"Who signs in"`
	}
	// Comparison puts two laptops side by side, or one as it is and as it would be.
	Comparison struct {
		A       files.SubjectAnswer `json:"a"`
		B       files.SubjectAnswer `json:"b"`
		Rows    []ComparedSetting   `json:"rows"`
		Differ  int                 `json:"differ"`
		OnlyA   []string            `json:"only_a" doc:"Policies that apply there alone"`
		OnlyB   []string            `json:"only_b"`
		GroupsA []string            `json:"groups_a" doc:"Groups that it is in and the other is not"`
		GroupsB []string            `json:"groups_b"`
		Facts   []ComparedFact      `json:"facts,omitempty" doc:"Facts that differ, of two laptops"`
	}
	// ComparedSetting is a setting side by side.
	ComparedSetting struct {
		Setting string               `json:"setting"`
		Title   string               `json:"title,omitempty"`
		Same    bool                 `json:"same"`
		A       *files.SettingAnswer `json:"a,omitempty"`
		B       *files.SettingAnswer `json:"b,omitempty"`
	}
	// ComparedFact is a fact side by side.
	ComparedFact struct {
		Name string         `json:"name"`
		A    *setting.Value `json:"a,omitempty"`
		B    *setting.Value `json:"b,omitempty"`
	}
)
