// This file has the words of rollouts: states of laptops, progress of the rollout, what laptops
// report and what people do. All are part of the contract (rollout.md) and of the API, and are
// never renamed.

package rollout

import (
	"time"

	"zenithridge.example/zridge/core/estate"
)

// State is how a laptop is in a rollout.
type State uint8

const (
	Waiting  State = iota // its wave is not open
	Due                   // its wave is open; it has not taken the change
	Taken                 // it reports every affected setting as wanted
	Refused               // it refused an affected setting, or reports another value after taking it
	Lost                  // it took the change and was not heard for too long since
	Silent                // it is due and was not heard for too long
	Excused               // a person said that it need not take the change
	Returned              // while the change is taken back: it has what it had before
	states
)

// stateNames are the words of the contract.
var stateNames = [states]string{"waiting", "due", "taken", "failed", "lost", "silent", "excused", "returned"}

// String gives the state's word.
func (s State) String() string { return stateNames[s] }

// Progress is how a rollout as a whole is.
type Progress string

const (
	Running    Progress = "running"
	Paused     Progress = "paused"
	Stopped    Progress = "stopped" // by itself
	Finished   Progress = "finished"
	TakingBack Progress = "taking-back"
	TakenBack  Progress = "taken-back"
)

// over tells whether nothing is altered any more.
func (p Progress) over() bool { return p == Finished || p == TakenBack }

// StopReason says why a rollout stopped by itself.
type StopReason string

const (
	TooManyFailed StopReason = "failed"
	TooManyLost   StopReason = "lost"
)

// Report is what a laptop says of a change.
type Report string

const (
	Heard         Report = "heard"    // it checked in, and says nothing new of the change
	ReportTaken   Report = "taken"    // it has every affected setting as wanted
	ReportRefused Report = "failed"   // it refused one, or has another value after taking it
	ReportUndone  Report = "reverted" // it has what it had before
)

// Act is what a person does with a rollout.
type Act string

const (
	Go       Act = "go" // open the next wave
	Pause    Act = "pause"
	Resume   Act = "resume"
	Finish   Act = "finish"
	TakeBack Act = "take-back"
	Excuse   Act = "excuse" // one laptop
)

// Laptop is one that a change touches, as it is when the rollout starts.
type Laptop struct {
	ID       string
	OS       string
	Unit     string          // path of ids from the root, joined by /
	Interval time.Duration   // usual time between two check-ins
	Heard    time.Time       // when it was heard last
	Matches  []estate.WaveID // waves whose audience matches it
}

// Transition is one thing that happened. Exactly one of Progress, Opened, Device and Refused says
// what.
type Transition struct {
	At       time.Time
	Progress Progress // the rollout is so now
	Reason   StopReason
	Opened   estate.WaveID // a wave is open now
	Laptops  []string      // with Opened: those that are due now, by id
	Device   string        // a laptop went from one state to another
	From, To State
	Refused  Act // what a person asked for and cannot be done
}
