// This file has baselines: named sets of values that laptops are measured by.
//
// A baseline says what should be, a policy makes it so. Where a baseline is told to put something
// right, it acts as the weakest policy there is: Repairs gives that policy, and the core resolves
// it with all others. Laptops are measured by package baseline.

package estate

import (
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/setting"
)

// Baseline is a named set of wanted values, by which the laptops of its audience are measured. It
// never overrides a policy.
type Baseline struct {
	ID         BaselineID
	Title      string
	Why        string
	Owner      string // who answers for it; need not be a known person
	Audience   Audience
	AlertBelow Percent // of the laptops must comply; below it somebody is told. 0: nobody is
	Items      []BaselineItem
}

// BaselineItem is a value that a baseline wants.
type BaselineItem struct {
	Setting  setting.ID
	Value    setting.Value
	Severity Severity
	Category string
	// OnDrift says what is done where a laptop has another value and no policy decides the setting.
	// Unlike a policy's, it is to be reported when nothing is said.
	OnDrift OnDrift
}

// Severity says how bad it is when a laptop does not have a value.
type Severity string

const (
	Low      Severity = "low"
	Medium   Severity = "medium" // when nothing is said
	High     Severity = "high"
	Critical Severity = "critical"
)

// Severities lists every Severity, the worst first.
var Severities = []Severity{Critical, High, Medium, Low}

// AsPolicy gives a policy that has the audience and the settings of the baseline, to ask whom it
// would reach.
func (b *Baseline) AsPolicy() *Policy {
	p := &Policy{ID: PolicyID(b.ID), Kind: setting.Security, State: Active, Audience: b.Audience}
	for i := range b.Items {
		p.Entries = append(p.Entries, Entry{Setting: b.Items[i].Setting, Value: b.Items[i].Value})
	}
	return p
}

// baselineMark begins the id of a policy that puts right what a baseline wants. No id in a file has
// such a sign.
const baselineMark = "baseline:"

// Repairs gives the policy that puts right what the baseline wants put right, nil where that is
// nothing.
func (b *Baseline) Repairs() *Policy {
	p := &Policy{
		ID: PolicyID(baselineMark + string(b.ID)), Title: b.Title, Kind: setting.Security, State: Active, Owner: b.Owner, Why: b.Why,
		Audience: b.Audience, Baseline: b.ID,
	}
	for i := range b.Items {
		if item := &b.Items[i]; item.OnDrift == Repair {
			p.Entries = append(p.Entries, Entry{Setting: item.Setting, Value: item.Value})
		}
	}
	if len(p.Entries) == 0 {
		return nil
	}
	return p
}

// baselines checks what baselines want, and of whom.
func (v *validator) baselines(list []Baseline) {
	for i := range list {
		b, at := &list[i], problem.Join("", string(KindBaseline), i)
		v.targets(at+"/audience/include", b.Audience.Include)
		v.targets(at+"/audience/exclude", b.Audience.Exclude)
		for j := range b.Items {
			item := &b.Items[j]
			path := problem.Join(at, "settings", string(item.Setting))
			if d := v.setting(path, item.Setting); d != nil && !item.Value.IsNothing() {
				v.add(d.Check(path, item.Value)...)
			}
			v.required(path+"/value", !item.Value.IsNothing(), "the value that laptops are to have")
			v.add(setting.OneOf(path+"/severity", item.Severity, Severities)...)
			if item.OnDrift != Repair {
				v.add(setting.OneOf(path+"/on_drift", item.OnDrift, []OnDrift{"repair", Report})...)
			}
		}
	}
}
