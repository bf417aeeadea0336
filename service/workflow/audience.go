// This file has the use cases of audiences, and the views of policies and groups that they need.

package workflow

import (
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/review"
)

// AudienceService has the use cases of groups, audiences, detaching, and saved views.
type AudienceService struct {
	*liveEstate
	changes *ChangeService
}

// WideShare is the share of the estate, in percent, above which an audience is called wide.
const WideShare = 25

// Audience says who would get a policy, as it is written, in a view.
func (v View) Audience(policy *estate.Policy) *review.Audience {
	return review.LookAt(v.Side, policy, WideShare)
}

// Policy gives a policy of a view.
func (v View) Policy(id estate.PolicyID) (*estate.Policy, error) {
	if p := v.Plan.Policy(id); p != nil {
		return p, nil
	}
	return nil, &NotFoundError{"policy", string(id)}
}

// Group gives a group of a view.
func (v View) Group(id string) (*estate.Group, error) {
	groups := v.Plan.Snapshot().Groups
	for i := range groups {
		if string(groups[i].ID) == id {
			return &groups[i], nil
		}
	}
	return nil, &NotFoundError{"group", id}
}

// Beside compares two laptops of a view.
func (v View) Beside(a, b string) (review.Pair, error) {
	x, err := v.Plan.Effective(estate.DeviceID(a), "")
	if err != nil {
		return review.Pair{}, err
	}
	y, err := v.Plan.Effective(estate.DeviceID(b), "")
	if err != nil {
		return review.Pair{}, err
	}
	return review.Beside(x, y, v.Plan, v.Plan), nil
}
