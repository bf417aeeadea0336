// This file has approval rules: how many people must approve which changes.
//
// A rule is part of the estate, so that altering it is a change that is itself reviewed by the
// rules that hold until then. Which rules are true of a change is found by package review.

package estate

import (
	"fmt"
	"strings"

	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/rule"
)

// ApprovalRule asks for approvals of the changes that When is true of. All rules that are true must
// be met; one approval may meet several.
type ApprovalRule struct {
	ID        ApprovalRuleID
	Title     string
	When      *rule.Rule // over change; see rule.OfChange
	Approvals int        // by different people
	From      string     // a role, or group:ID with a group of people; empty: anybody who may approve
	Reason    string     // why it asks
}

// Group gives the group of people whose approvals count; known is false where the rule names none.
func (r *ApprovalRule) Group() (id GroupID, known bool) {
	name, known := strings.CutPrefix(r.From, "group:")
	return GroupID(name), known
}

// MaxApprovals is the most that a rule may ask for.
const MaxApprovals = 10

// approvalRules checks the rules that say who must approve a change.
func (v *validator) approvalRules(s *Snapshot) {
	for i := range s.ApprovalRules {
		r, at := &s.ApprovalRules[i], problem.Join("", string(KindApprovalRule), i)
		v.required(at+"/when", r.When != nil, "a CEL expression over change, such as change.share > 1")
		if r.Approvals < 1 || r.Approvals > MaxApprovals {
			v.add(problem.Fault{
				Code: problem.OutOfRange, Path: at + "/approvals", Found: fmt.Sprint(r.Approvals),
				Expected: fmt.Sprintf("a whole number from 1 to %d", MaxApprovals),
			})
		}
		// Roles are known to the service, not to the core: only the form of their ids is checked.
		id, named := r.Group()
		if !named {
			if r.From != "" && !ValidID(r.From) {
				v.add(problem.Fault{
					Code: problem.BadTarget, Path: at + "/from", Found: problem.Quote(r.From), Expected: "a role, or group:ID with a " +
						"group of people",
				})
			}
			continue
		}
		v.known(at+"/from", "group", in(v.groups), string(id))
		// Laptops approve nothing.
		if place, known := v.groups[string(id)]; known && s.Groups[place].Of != OfPeople {
			v.add(problem.Fault{
				Code: problem.BadTarget, Path: at + "/from", Found: problem.Quote(r.From) + ", a group of devices", Expected: "a group of people",
			})
		}
	}
}
