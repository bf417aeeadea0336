// This file measures the pages of devices and people at 100,000 laptops, over HTTP.

package service_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/wire"
)

// large is a service with as many laptops, in 40 units, with owners and facts.
func large(b *testing.B, laptops, people int) *client.Client {
	b.Helper()
	api := started(b)
	var units strings.Builder
	for u := range 40 {
		fmt.Fprintf(&units, `,{"id":"u%d","parent":"r","title":"Unit %d"}`, u, u)
	}
	publishEstate(
		b,
		api,
		`{"units":[{"id":"r"}`+units.String()+`],"groups":[{"id":"roomy","of":"devices","rule":"device.ram_gb >= 32"},{"id":"old","of":"devices","rule":"device.os_version.below(\"12.10\")"}]}`,
	)
	send1 := func(source, columns string, rows func(*strings.Builder)) {
		posted[wire.Source](b, api, "/sources", []byte(source))
		var text strings.Builder
		text.WriteString(columns)
		rows(&text)
		if _, refused := send(b, api, source[7:strings.Index(source[7:], `"`)+7], strings.NewReader(text.String()), true); refused != nil {
			b.Fatal(refused)
		}
		posted[wire.SourceRun](b, api, "/sources/"+source[7:strings.Index(source[7:], `"`)+7]+"/take", nil)
	}
	send1(
		`{"id":"staff","kind":"csv","title":"Staff","set_up":{"table":{"of":"people","key":"id","whole":true,"columns":{"id":"id","name":"name","mail":"mail","site":"unit","title":"attributes/title"}}}}`,
		"id,name,mail,site,title\n",
		func(t *strings.Builder) {
			for i := range people {
				fmt.Fprintf(t, "p%d,Person %d,p%d@larkfell.example,u%d,Title %d\n", i, i*7919%people, i, i%40, i%300)
			}
		},
	)
	send1(
		`{"id":"inventory","kind":"csv","title":"Inventory","set_up":{"table":{"of":"devices","key":"serial","whole":true,"columns":{"serial":"serial","os":"os","release":"os_version","owner":"owner","model":"model","ram":"facts/ram_gb","bought":"facts/bought"}}}}`,
		"serial,os,release,owner,model,ram,bought\n",
		func(t *strings.Builder) {
			for i := range laptops {
				fmt.Fprintf(
					t,
					"S-%06d,%s,12.%d,p%d,Model %d,%d,%d\n",
					i,
					[]string{"linux", "windows", "macos"}[i%3],
					i%40,
					i%people,
					i%60,
					8<<(i%4),
					2018+i%9,
				)
			}
		},
	)
	return api
}

// BenchmarkPages asks for pages of 100,000 laptops and 80,000 people as people filter and sort
// them, and says the 95th percentile.
func BenchmarkPages(b *testing.B) {
	api := large(b, 100_000, 80_000)
	asked := []string{
		"/devices?limit=200",
		"/devices?limit=200&sort=-os_version",
		"/devices?limit=200&where=facts/ram_gb%3E%3D32&sort=model",
		"/devices?limit=200&unit=u7",
		"/devices?limit=200&q=model+17",
		"/devices?limit=200&q=S-0123",
		"/devices?limit=200&where=os%3Dlinux%7Cmacos&where=os_version%3C12.8&sort=-facts/bought",
		"/devices?limit=200&group=roomy&columns=facts/bought,groups",
		"/devices?limit=200&state=never-seen",
		"/devices?limit=200&sort=owner_name",
		"/devices/S-000123",
		"/people?limit=200",
		"/people?limit=200&where=attributes/title%3DTitle+7",
		"/people?limit=200&q=person+999&sort=name",
		"/people?limit=200&where=devices%3E%3D2&sort=-devices",
		"/people/p123",
		"/fields/devices?only=os,facts/ram_gb",
		"/units",
		"/groups",
	}
	slowest := map[string]time.Duration{}
	for _, path := range asked { // columns and orders are worked out when they are first asked for
		get[any](b, api, path)
	}
	var took []time.Duration
	for b.Loop() {
		for range 10 {
			for _, path := range asked {
				at := time.Now()
				get[any](b, api, path)
				took = append(took, time.Since(at))
				slowest[path] = max(slowest[path], took[len(took)-1])
			}
		}
	}
	slices.Sort(took)
	b.ReportMetric(float64(took[len(took)/2].Microseconds())/1000, "ms/median")
	b.ReportMetric(float64(took[len(took)*95/100].Microseconds())/1000, "ms/p95")
	for _, path := range asked {
		if slowest[path] > 50*time.Millisecond {
			fmt.Printf("%8s at the slowest: %s\n", slowest[path].Round(time.Millisecond), path)
		}
	}
}
