package service_test

import (
	"net/http"
	"net/url"
	"slices"
	"testing"
	"time"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
)

// BenchmarkTyping stores edits as the policy editor does, three for each of 30 policies of 100,000
// laptops (ZRIDGE_LARGE), and asks for their effect in the same request. It reports how long the
// first edit of a policy takes, and the ones after it: where each policy has a change of its own, and
// where one change gathers them all.
func BenchmarkTyping(b *testing.B) {
	s, database := largeEstate(b)
	api := over(b, database)
	b.Run("apart", func(b *testing.B) { typing(b, s, api, false) })
	b.Run("together", func(b *testing.B) { typing(b, s, api, true) })
}

// typing is BenchmarkTyping with the policies in one change, or in one each.
func typing(b *testing.B, s *estate.Snapshot, api *client.Client, together bool) {
	const policies = 30
	integer := map[setting.ID]bool{}
	for i := range s.Settings {
		integer[s.Settings[i].ID] = s.Settings[i].Type == setting.TypeInteger
	}
	opened := func() string {
		change, err := client.Post[wire.Change](b.Context(), api, "/changes", wire.NewChange{Title: "Typing"})
		if err != nil {
			b.Fatal(err)
		}
		return change.ID
	}
	change := opened()
	var first, later []time.Duration
	for b.Loop() {
		for i := 0; i < len(s.Policies) && len(first) < policies; i += 7 {
			policy := s.Policies[i]
			at := slices.IndexFunc(policy.Entries, func(e estate.Entry) bool { return integer[e.Setting] })
			if at < 0 || policy.State != estate.Active {
				continue
			}
			policy.Entries = slices.Clone(policy.Entries)
			if !together {
				change = opened()
			}
			var match []string
			for n := range 3 {
				policy.Entries[at].Value = setting.IntegerValue(int64(62 + 3*i + n))
				body, err := files.EncodeJSON(policy)
				if err != nil {
					b.Fatal(err)
				}
				began := time.Now()
				path := client.Path("changes", change, "edits", "policies", string(policy.ID))
				header, err := api.Call(b.Context(), http.MethodPut, path, url.Values{"effect": {"true"}}, body, nil, match...)
				if err != nil {
					b.Fatal(err)
				}
				took := time.Since(began)
				match = []string{"If-Match", header.Get("ETag")}
				if n == 0 {
					first = append(first, took)
				} else {
					later = append(later, took)
				}
			}
		}
	}
	for name, times := range map[string][]time.Duration{"first": first, "later": later} {
		slices.Sort(times)
		b.ReportMetric(float64(times[len(times)/2].Microseconds())/1000, "ms-"+name)
		b.ReportMetric(float64(times[len(times)*95/100].Microseconds())/1000, "ms-"+name+"-p95")
	}
}
