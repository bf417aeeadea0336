// Package estate holds all that a resolution reads: units, people, devices, groups, policies,
// exceptions, rulings and the dictionary, as one immutable Snapshot, and says what is wrong with
// one.
//
// Objects name each other by ids, which are texts with a type of their own for each kind. A
// snapshot is made by a reader of files, by the service, or by laying edits over another snapshot
// (With). Validate says what is wrong with it; package resolve takes only snapshots with which
// nothing is wrong.
package estate

import (
	"zenithridge.example/zridge/core/ids"
	"zenithridge.example/zridge/core/rule"
	"zenithridge.example/zridge/core/setting"
)

// Ids of the objects of an estate. A zero id names nothing.
type (
	UnitID         string
	PersonID       string
	DeviceID       string
	GroupID        string
	PolicyID       string
	ExceptionID    string
	RulingID       string
	CheckID        string
	RolloutPlanID  string
	ApprovalRuleID string
	BaselineID     string
)

// Unit is a node of the organisation's tree. Exactly one unit has no Parent: the root. The laptops
// of a unit are those whose home it is, or a unit below it.
type Unit struct {
	ID     UnitID
	Title  string
	Parent UnitID
	Detach []Detachment
}

// Person is someone who signs in.
type Person struct {
	ID         PersonID
	Name       string
	Mail       string
	Unit       UnitID // may be empty
	Attributes map[string]setting.Value
}

// Device is a laptop. Its home unit is its own Unit, else its owner's, else the root.
type Device struct {
	ID        DeviceID
	Serial    string
	Owner     PersonID   // may be empty
	Users     []PersonID // further people who sign in
	Unit      UnitID     // may be empty
	OS        setting.Platform
	OSVersion string
	Edition   string
	Model     string
	Tags      []string
	Taken     []PolicyID // offered policies that a person took on it; one that is not there counts for nothing
	Facts     map[string]setting.Value
}

// GroupOf says what a group is a set of.
type GroupOf string

const (
	OfPeople  GroupOf = "people"
	OfDevices GroupOf = "devices"
)

// GroupKinds lists every GroupOf.
var GroupKinds = []GroupOf{OfPeople, OfDevices}

// Group is a set of devices or of people: Members, the members of Groups, and whoever Rule is true
// for.
type Group struct {
	ID      GroupID
	Title   string
	Of      GroupOf
	Members []string // ids of people or devices, by Of
	Groups  []GroupID
	Rule    *rule.Rule // nil: none
	Detach  []Detachment
}

// State says whether a policy counts.
type State string

const (
	Active  State = "active"
	Draft   State = "draft"
	Retired State = "retired"
)

// States lists every State.
var States = []State{Active, Draft, Retired}

// Entry is one setting in one policy. With Lock it overrides entries of closer levels that are not
// locked, and arrives at places that are detached.
type Entry struct {
	Setting setting.ID
	Value   setting.Value
	Lock    bool
	Note    string
}

// Audience says who gets a policy. The zero Audience reaches nobody.
type Audience struct {
	Include []Target
	Exclude []Target
	When    *rule.Rule // nil: always
}

// OnDrift says what is done where a value was altered on a laptop. The zero OnDrift is Repair.
type OnDrift string

const (
	Repair OnDrift = ""       // it is put right; in files also "repair"
	Report OnDrift = "report" // it is left as it is, and shown
)

// Policy is a named set of settings with a kind, a priority and an audience.
type Policy struct {
	ID        PolicyID
	Title     string
	Kind      setting.PolicyKind
	State     State
	Priority  int64 // higher wins
	Platforms []setting.Platform
	Offered   bool    // it counts only on laptops on which a person took it, and never against a policy that is not offered
	Within    UnitID  // the policy never reaches a laptop outside this unit, whatever the audience names; empty: no bound
	OnDrift   OnDrift // what is done where a laptop has another value than it was given
	// Baseline is the baseline whose values it puts right; empty: it is a policy of its own. Such a
	// policy is made while an estate is resolved, is in no file, and every other policy overrides
	// it.
	Baseline BaselineID
	Owner    string // who answers for it; need not be a known person
	Why      string
	Labels   []string
	Entries  []Entry // at most one a setting
	Audience Audience
}

// Entry gives the policy's entry for a setting, nil when it has none.
func (p *Policy) Entry(id setting.ID) *Entry {
	for i := range p.Entries {
		if p.Entries[i].Setting == id {
			return &p.Entries[i]
		}
	}
	return nil
}

// Exception is a dated, approved departure: for one setting and one target this value, or none.
type Exception struct {
	ID         ExceptionID
	Setting    setting.ID
	Target     Target
	Value      setting.Value
	Unset      bool
	From       Date // zero: from ever
	Until      Date // included
	Reason     string
	ApprovedBy string
	ApprovedOn Date
}

// CountsOn tells whether the day lies within the exception's dates, both included.
func (e *Exception) CountsOn(day Date) bool { return e.From <= day && day <= e.Until }

// Ruling is a recorded decision: for one setting, prefer one policy over another. It counts only
// where the two would be in conflict.
type Ruling struct {
	ID      RulingID
	Setting setting.ID
	Prefer  PolicyID
	Over    PolicyID
	Reason  string
}

// Check finds decided sets that are wrong as a whole.
type Check struct {
	ID       CheckID
	Message  string
	Settings []setting.ID // the settings that it names
	When     *rule.Rule
	Warning  bool // worth a look rather than wrong
	Shipped  bool
}

// Snapshot is an estate on one day. It is immutable, and so are the people and devices that its
// lists point to: With gives a changed copy, which shares with it all that did not alter.
type Snapshot struct {
	Day           Date // the day on which exceptions are judged
	Units         []Unit
	People        []*Person
	Devices       []*Device
	Groups        []Group
	Policies      []Policy
	Exceptions    []Exception
	Rulings       []Ruling
	Settings      []setting.Definition
	Checks        []Check
	RolloutPlans  []RolloutPlan
	ApprovalRules []ApprovalRule
	Baselines     []Baseline

	personAt, deviceAt *ids.Index // of People and Devices; nil: not made
}
