package outcome

import (
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/setting"
)

// LintKind is the kind of a lint.
type LintKind string

// The kinds of lints.
const (
	Redundant     LintKind = "redundant"      // the entry repeats what would be in effect anyway, everywhere
	NeverWins     LintKind = "never-wins"     // the entry wins nowhere
	ReachesNobody LintKind = "reaches-nobody" // the policy applies to no laptop
	FailingRule   LintKind = "failing-rule"   // the rule of the group, or the condition of the policy, fails on somebody
	UnusedGroup   LintKind = "unused-group"   // nothing names the group
	Expired       LintKind = "expired"        // the exception is over
)

// Lint is one finding of something that has no effect: an entry of a policy, a policy, a group or an
// exception. Of the ids, those that the kind is about are given and the others are empty.
type Lint struct {
	Kind      LintKind
	Policy    estate.PolicyID
	Setting   setting.ID
	Group     estate.GroupID
	Exception estate.ExceptionID
	Beside    []string // with Redundant: the policies that give the same value where it wins, sorted
	Devices   int      // laptops on which the entry is a candidate; with FailingRule: laptops, or people, on which the rule fails
}
