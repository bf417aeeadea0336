// This file measures what it costs to alter one thing in what is live, at two sizes of the estate:
// it should hardly depend on the size.

package service_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/demo/filled"
	"zenithridge.example/zridge/demo/world"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
)

// BenchmarkOneAltered publishes one altered thing after another: a laptop's unit, a group's member,
// a policy's priority; and lets a provisioning client alter one person, until the estate has it.
// The sizes come from ZRIDGE_ALTERED (10000,100000).
func BenchmarkOneAltered(b *testing.B) {
	sizes := "10000,100000"
	if text := os.Getenv("ZRIDGE_ALTERED"); text != "" {
		sizes = text
	}
	for _, text := range strings.Split(sizes, ",") {
		laptops, err := strconv.Atoi(text)
		if err != nil {
			b.Fatal(err)
		}
		s := world.Make(world.Of(laptops), 1)
		database := filepath.Join(b.TempDir(), text+".db")
		if err := filled.Database(database, s); err != nil {
			b.Fatal(err)
		}
		api := over(b, database)
		random := rand.New(rand.NewPCG(5, 6))
		body := func(object any) []byte {
			text, err := files.EncodeJSON(object)
			if err != nil {
				b.Fatal(err)
			}
			return text
		}
		one := map[string]func() (kind, id string, edit []byte){
			"a laptop's unit": func() (string, string, []byte) {
				d := *s.Devices[random.IntN(laptops)]
				d.Unit = s.Units[random.IntN(len(s.Units))].ID
				return "devices", string(d.ID), body(d)
			},
			"a group's member": func() (string, string, []byte) {
				for {
					g := s.Groups[random.IntN(len(s.Groups))]
					if d := string(s.Devices[random.IntN(laptops)].ID); g.Of == estate.OfDevices && g.Rule == nil && !slices.Contains(g.Members, d) {
						g.Members = append(slices.Clone(g.Members), d)
						return "groups", string(g.ID), body(g)
					}
				}
			},
			"a policy's priority": func() (string, string, []byte) {
				p := s.Policies[random.IntN(len(s.Policies))]
				p.Priority = int64(1 + random.IntN(1000))
				return "policies", string(p.ID), body(p)
			},
		}
		for _, what := range []string{"a laptop's unit", "a group's member", "a policy's priority"} {
			b.Run(fmt.Sprintf("%d/%s", laptops, strings.ReplaceAll(what, " ", "-")), func(b *testing.B) {
				var took []time.Duration
				for b.Loop() {
					for range 15 {
						kind, id, edit := one[what]()
						c := posted[wire.Change](b, api, "/changes", wire.NewChange{Title: what})
						if _, err := api.Call(
							context.Background(),
							http.MethodPut,
							client.Path("changes", c.ID, "edits", kind, id),
							nil,
							edit,
							nil,
						); err != nil {
							b.Fatal(err)
						}
						began := time.Now()
						posted[wire.Publication](b, api, client.Path("changes", c.ID, "publish"), nil)
						took = append(took, time.Since(began))
					}
				}
				report(b, took)
			})
		}
		posted[wire.Source](b, api, "/sources", []byte(hrSource))
		p := &provisioner{b, api.Base, posted[wire.SourceToken](b, api, "/sources/hr/tokens", wire.NewSourceToken{Name: "client"}).Secret}
		who := p.must(http.StatusCreated, "POST", "/Users", user("first", `"displayName":"First"`)).id()
		taken(b, api, "hr", "full")
		b.Run(fmt.Sprintf("%d/a-provisioned-person", laptops), func(b *testing.B) {
			var took []time.Duration
			for b.Loop() {
				for i := range 8 {
					name := fmt.Sprint("Name ", i, len(took))
					began := time.Now()
					p.must(http.StatusOK, "PATCH", "/Users/"+who, patch(fmt.Sprintf(`{"op":"replace","path":"displayName","value":%q}`, name)))
					until(b, api, "/people/first", func(is wire.PersonPage) bool { return is.Person.Name == name })
					took = append(took, time.Since(began))
				}
			}
			report(b, took)
		})
	}
}

func report(b *testing.B, took []time.Duration) {
	slices.Sort(took)
	b.ReportMetric(float64(took[len(took)/2].Microseconds())/1000, "ms-median")
	b.ReportMetric(float64(took[len(took)-1].Microseconds())/1000, "ms-worst")
}
