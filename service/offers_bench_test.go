package service_test

import (
	"context"
	"net/http"
	"slices"
	"testing"
	"time"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/endpoint"
	"zenithridge.example/zridge/formats/wire"
)

// BenchmarkOffers has people take what is offered to all of 100,000 laptops, or as many as ZRIDGE_LARGE says:
// the check-in in which the laptop says so and gets the settings, against one without news.
func BenchmarkOffers(b *testing.B) {
	ctx := context.Background()
	api, s, fleet := largeFleet(b)
	at := slices.IndexFunc(s.Settings, func(d setting.Definition) bool {
		return d.Type == setting.TypeText && d.Combine == setting.Closest && len(d.Supports) == 0
	})
	change := posted[wire.Change](b, api, "/changes", wire.NewChange{Title: "An offer"})
	body := map[string]any{
		"id": "offer", "title": "Offer", "kind": "security", "offered": true, "audience": map[string]any{"include": []string{"everyone"}},
		"settings": map[string]any{string(s.Settings[at].ID): "text00"},
	}
	if _, err := api.Call(ctx, http.MethodPut, client.Path("changes", change.ID, "edits", "policies", "offer"), nil, body, nil); err != nil {
		b.Fatal(err)
	}
	posted[wire.Published](b, api, client.Path("changes", change.ID, "publish"), nil)
	for b.Loop() {
		for range 2 { // the second is without news
			for _, l := range fleet {
				if _, err := l.CheckIn(ctx); err != nil {
					b.Fatal(err)
				}
			}
		}
		without := quiet(b, fleet, 3)
		var each []time.Duration
		for _, l := range fleet {
			if !l.Platform.(*endpoint.Memory).Choose("offer", true) {
				b.Fatal("the policy is not shown")
			}
			began := time.Now()
			if _, err := l.CheckIn(ctx); err != nil {
				b.Fatal(err)
			}
			each = append(each, time.Since(began))
		}
		slices.Sort(each)
		b.ReportMetric(without, "µs-check-in-without")
		b.ReportMetric(float64(each[len(each)/2].Microseconds())/1000, "ms-check-in-that-takes")
		b.ReportMetric(float64(each[len(each)*95/100].Microseconds())/1000, "ms-95th")
	}
}
