package match

// Reason says why a policy does not apply. Reasons are tested in the order of this list; the first
// that holds is the one.
type Reason string

const (
	NotActive   Reason = "not-active"
	OnPlatform  Reason = "platform"
	Outside     Reason = "outside" // of the unit that bounds the policy
	NotIncluded Reason = "not-included"
	Excluded    Reason = "excluded"
	OnCondition Reason = "condition"
	NotTaken    Reason = "not-taken" // the policy is offered, and nobody took it on the laptop
)
