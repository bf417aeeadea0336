// Package baseline measures laptops by baselines: it answers whether a laptop has the values that a
// baseline wants. It does not look at policies; what they want of a laptop is part of what it is
// given.
package baseline

import (
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/setting"
)

// Verdict says whether a laptop has what an item of a baseline wants.
type Verdict string

const (
	Complies    Verdict = "complies"
	Differs     Verdict = "differs"      // the laptop has another value
	Overridden  Verdict = "overridden"   // a policy wants another value, which counts
	NotReported Verdict = "not-reported" // the laptop has not said what it has
	Unsupported Verdict = "unsupported"  // the laptop does not have the setting: the item does not count
)

// Observed is what is known of one setting on one laptop.
type Observed struct {
	Said      bool          // the laptop said what it has
	Has       setting.Value // what it said; nothing: nothing that is set
	Wanted    setting.Value // what policies want of it; nothing: they leave it
	Supported bool
}

// Judge measures one setting of a laptop. d is the setting's definition, and must not be nil. A
// laptop that has nothing set is taken for what an unmanaged laptop does, as the definition says.
func Judge(d *setting.Definition, item *estate.BaselineItem, o Observed) Verdict {
	switch {
	case !o.Supported:
		return Unsupported
	// A policy that wants something else counts before what the laptop says: the laptop will follow
	// the policy.
	case !o.Wanted.IsNothing() && !Meets(d, item.Value, o.Wanted):
		return Overridden
	case !o.Said:
		return NotReported
	case Meets(d, item.Value, o.Has) || o.Has.IsNothing() && !d.Default.IsNothing() && Meets(d, item.Value, d.Default):
		return Complies
	}
	return Differs
}

// Meets tells whether a value is what is wanted, or stricter where the setting has an order of
// strictness.
func Meets(d *setting.Definition, wanted, is setting.Value) bool {
	if is.IsNothing() {
		return false
	}
	// Rank is higher for what is stricter.
	return is.Equal(wanted) || d.Combine == setting.Strictest && is.Kind() == wanted.Kind() && d.Rank(is) > d.Rank(wanted)
}

// Failing is a setting of a laptop that is not as a baseline wants it.
type Failing struct {
	Setting setting.ID    `json:"setting"`
	Verdict Verdict       `json:"verdict"`
	Has     setting.Value `json:"has"`
}

// State says how a laptop as a whole stands to a baseline.
type State string

const (
	Compliant State = "complies"
	Different State = "differs" // some setting differs, or is overridden
	Unknown   State = "unknown" // none differs, and some is not reported
)

// Measure measures a laptop. look gives what is known of a setting there, and its definition; an
// item whose definition is nil does not count.
func Measure(b *estate.Baseline, look func(setting.ID) (*setting.Definition, Observed)) (State, []Failing) {
	state := Compliant
	var failing []Failing
	for i := range b.Items {
		item := &b.Items[i]
		d, o := look(item.Setting)
		if d == nil {
			continue
		}
		v := Judge(d, item, o)
		switch v {
		case Complies:
			continue
		case Differs, Overridden:
			state = Different
		// A setting that differs weighs more than one that is not known, in whatever order they
		// come.
		case NotReported:
			if state == Compliant {
				state = Unknown
			}
		}
		failing = append(failing, Failing{item.Setting, v, o.Has})
	}
	return state, failing
}

// Count is how laptops stand to a baseline.
type Count struct{ Complies, Differs, Unknown int }

// Add counts one more laptop.
func (c *Count) Add(s State) {
	switch s {
	case Compliant:
		c.Complies++
	case Different:
		c.Differs++
	default:
		c.Unknown++
	}
}

// Laptops is how many there are.
func (c Count) Laptops() int { return c.Complies + c.Differs + c.Unknown }

// Share is the share of the laptops that comply. Of none it is the whole.
func (c Count) Share() estate.Percent {
	if c.Laptops() == 0 {
		return estate.Whole
	}
	return estate.Percent(int64(c.Complies) * int64(estate.Whole) / int64(c.Laptops()))
}
