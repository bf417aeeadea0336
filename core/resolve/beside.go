// This file makes plans that are kept beside another one, and take from it what is alike.

package resolve

import (
	"slices"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/resolve/internal/intern"
)

// mostUnlike is how many policies may have other matches than in the plan beside: each is looked at
// by itself for every laptop.
const mostUnlike = 64

// Beside gives the plan of another snapshot, as With does, for a plan that is kept as long as p is.
// Which policies apply to a laptop is taken from p where they are alike, so that plans which differ
// in a few policies need little memory besides.
func (p *Plan) Beside(next *estate.Snapshot) *Plan {
	out := p.With(next)
	if out == p || out.DeviceAt != p.DeviceAt {
		return out
	}
	var unlike []int
	for at := range max(len(p.policies), len(out.policies)) {
		if at >= len(p.policies) || at >= len(out.policies) || !slices.EqualFunc(p.policies[at].matches, out.policies[at].matches, intern.SameList) {
			unlike = append(unlike, at)
		}
	}
	if len(unlike) <= mostUnlike {
		out.beside, out.unlike = p, unlike
	}
	return out
}
