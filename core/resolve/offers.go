// This file tells which offered policies are there for a laptop's person to take or leave.
//
// An offered policy applies only on laptops on which somebody took it. What is offered on a laptop
// is decided by its audience like any other policy; whether it was taken is a fact of the laptop.

package resolve

import (
	"slices"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
)

// Offer is a policy that is offered on a laptop.
type Offer struct {
	Policy *estate.Policy
	Taken  bool // it counts: a person took it
}

// AnyOffered tells whether some policy of the plan is offered.
func (p *Plan) AnyOffered() bool {
	return slices.ContainsFunc(p.byPolicy, func(at int) bool { return p.policies[at].Offered })
}

// Offers gives the offered policies of which a laptop with its owner is in the audience, by id. A
// policy that the laptop is not in the audience of is not offered, even where it was taken before.
func (p *Plan) Offers(id estate.DeviceID) ([]Offer, error) {
	dev, known := p.DeviceAt.Number(id)
	if !known {
		return nil, &UnknownError{estate.KindDevice, string(id)}
	}
	if !p.AnyOffered() {
		return nil, nil
	}
	s := p.subject(dev, p.Devices.At(dev).OwnerAt)
	defer s.done()
	var out []Offer
	for _, at := range p.byPolicy {
		pol := &p.policies[at]
		if !pol.Offered {
			continue
		}
		why, taken := whyNot{subject: s, policy: pol}, false
		s.Match(&pol.audience, &why, func(int, *bitset.Set) { taken = true })
		if taken || why.Reason == outcome.NotTaken {
			out = append(out, Offer{pol.Policy, taken})
		}
	}
	return out, nil
}
