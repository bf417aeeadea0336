// This file tells what is offered on a laptop.

package workflow

import (
	"context"
	"time"

	"zenithridge.example/zridge/core/estate"
)

// OfferView is a policy that is offered on a laptop.
type OfferView struct {
	Policy *estate.Policy
	Taken  bool
	Since  *time.Time // when it was taken, where the laptop says that
}

// offersOn gives what is offered on a laptop, and what of it was taken.
func (s *LaptopService) offersOn(ctx context.Context, live *Live, device string) ([]OfferView, error) {
	offers, err := s.PlanFor(live, device).Offers(estate.DeviceID(device))
	if err != nil || len(offers) == 0 {
		return nil, err
	}
	since, err := s.store.In(ctx).TakenOffersSince(device)
	if err != nil {
		return nil, err
	}
	out := make([]OfferView, len(offers))
	for i, o := range offers {
		out[i] = OfferView{Policy: o.Policy, Taken: o.Taken}
		if at, known := since[string(o.Policy.ID)]; known && o.Taken {
			out[i].Since = &at
		}
	}
	return out, nil
}
