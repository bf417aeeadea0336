// This file has a setting on its way to one laptop. What is wanted comes from the resolution, what
// is in force is what the laptop reports, and the status follows from the two. A delivery is a
// value: each method takes in one event and gives the delivery after it, so that the whole course
// can be tested without a laptop.

package rollout

import (
	"time"

	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/setting"
)

// Status says how far a setting is on a laptop.
type Status string

const (
	Pending     Status = "pending"     // to be sent at the next check-in
	Applied     Status = "applied"     // the laptop has it
	Failed      Status = "failed"      // the laptop refused it, or reports something else after taking it
	Unsupported Status = "unsupported" // the laptop does not have the setting
	Conflict    Status = "conflict"    // policies disagree: nothing is sent
	Drifted     Status = "drifted"     // it was altered on the laptop, and is only to be reported
)

// Statuses lists every Status.
var Statuses = []Status{Pending, Applied, Failed, Unsupported, Conflict, Drifted}

// RetryAfter is how long a refused setting rests before it is tried again by itself.
const RetryAfter = 24 * time.Hour

// CodeLater is the code of a pending setting that the laptop has taken, and puts into force later.
const CodeLater = "202"

// CodeDiffers is the code of a setting that a laptop took but reports otherwise.
const CodeDiffers = "differs"

// Delivery is one setting on its way to one laptop. The zero Delivery is a setting that was never
// wanted.
type Delivery struct {
	Setting    setting.ID
	Wanted     setting.Value // nothing: leave it to the laptop
	Reported   setting.Value // what the laptop said last; nothing: it has no managed value
	Status     Status
	Code       string // with Failed: the laptop's code, or CodeDiffers; with Pending: CodeLater, or nothing
	Reason     string // with Failed, and the laptop's limit with Unsupported
	WantedAt   time.Time
	ReportedAt time.Time
}

// Gone tells whether nothing is wanted any more and the laptop has nothing: the delivery can be
// forgotten.
func (d Delivery) Gone() bool {
	return d.Wanted.IsNothing() && d.Reported.IsNothing() && d.Status != Failed && d.Status != Unsupported && d.Status != Conflict
}

// Want takes what a resolution decided; decided is nil when the setting does not appear.
func (d Delivery) Want(decided *outcome.Setting, at time.Time) Delivery {
	switch {
	// Nothing is sent where policies disagree. The laptop keeps what it has, and so does Wanted.
	case decided != nil && decided.Status == outcome.Conflict:
		d.Status, d.Code, d.Reason = Conflict, "", ""
		return d
	case decided != nil && decided.Status == outcome.Unsupported:
		d.Status, d.Code, d.Reason, d.Wanted = Unsupported, "", string(decided.Reason), setting.Value{}
		return d
	}
	var wanted setting.Value
	if decided != nil && decided.Status == outcome.Set {
		wanted = decided.Value
	}
	// The same is wanted as before: what is under way, refused or in force stays so.
	if wanted.Equal(d.Wanted) && (d.Status == Applied || d.Status == Failed || d.Status == Pending || d.Status == Drifted) {
		return d
	}
	// Another value is wanted from now on. After a conflict the same value may be wanted as before
	// it; it has been wanted since then.
	if !wanted.Equal(d.Wanted) || d.WantedAt.IsZero() {
		d.Wanted, d.WantedAt = wanted, at
	}
	return d.compared()
}

// compared sets the status from what is wanted and what is reported.
func (d Delivery) compared() Delivery {
	d.Status, d.Code, d.Reason = Pending, "", ""
	if d.Wanted.Equal(d.Reported) {
		d.Status = Applied
	}
	return d
}

// Report takes what the laptop says is in force. A value that was lost or altered there is pending
// again.
func (d Delivery) Report(v setting.Value, at time.Time) Delivery {
	d.Reported, d.ReportedAt = v, at
	switch d.Status {
	// What the laptop reports is kept, but nothing is wanted that it could be compared with.
	case Conflict, Unsupported:
		return d
	// A laptop that refused a value, and has another, is not asked again before Retry or
	// RetryAfter.
	case Failed:
		if !v.Equal(d.Wanted) {
			return d
		}
	}
	return d.compared()
}

// Altered tells whether a value that was in force on the laptop is not what it reports now.
func (d Delivery) Altered(reported setting.Value) bool {
	return (d.Status == Applied || d.Status == Drifted) && !d.Wanted.IsNothing() && !reported.Equal(d.Wanted)
}

// Drift leaves what was altered on the laptop as it is.
func (d Delivery) Drift() Delivery {
	if d.Status == Pending {
		d.Status = Drifted
	}
	return d
}

// Mend asks for what was altered on the laptop to be put right.
func (d Delivery) Mend() Delivery {
	if d.Status == Drifted {
		return d.compared()
	}
	return d
}

// Accept takes the laptop's word that it has done what was wanted, and what it then reports.
func (d Delivery) Accept(reported setting.Value, at time.Time) Delivery {
	d.Reported, d.ReportedAt = reported, at
	// The laptop said that it took the value. If it reports another one in the same session, asking
	// again would get the same answer.
	d = d.compared()
	if d.Status != Applied {
		d.Status, d.Code = Failed, CodeDiffers
		d.Reason = "accepted, but the laptop reports " + inWords(reported)
	}
	return d
}

// Later takes the laptop's word that it has taken what was wanted, and that it will be in force
// later. It is not sent again; when it is in force shows when the laptop's values are read.
func (d Delivery) Later(at time.Time) Delivery {
	d.Status, d.Code, d.Reason, d.ReportedAt = Pending, CodeLater, "the laptop puts it into force later", at
	return d
}

// Refuse takes the laptop's refusal with its code and reason.
func (d Delivery) Refuse(code, reason string, at time.Time) Delivery {
	d.Status, d.Code, d.Reason, d.ReportedAt = Failed, code, reason, at
	return d
}

// Retry asks for another try of what failed.
func (d Delivery) Retry() Delivery {
	if d.Status == Failed {
		return d.compared()
	}
	return d
}

// Due tells whether the setting is to be sent in a session at this time: what is pending, and what
// failed long enough ago.
func (d Delivery) Due(now time.Time) bool {
	return d.Status == Pending && d.Code != CodeLater || d.Status == Failed && now.Sub(d.ReportedAt) >= RetryAfter
}

// inWords gives a reported value as people read it: an empty list is said to be one.
func inWords(v setting.Value) string {
	if v.Kind() == setting.List && len(v.Items()) == 0 {
		return "an empty list"
	}
	return v.String()
}
