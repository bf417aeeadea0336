package search_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"zenithridge.example/zridge/core/search"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/dictionary"
)

// largeIndex makes definitions out of the shipped ones, with words of their own among those they
// share.
func largeIndex(n int) (*search.Index, []setting.Definition) {
	random := rand.New(rand.NewPCG(1, 2))
	shipped := dictionary.Shipped().Settings
	made := make([]setting.Definition, n)
	word := func() string {
		letters := make([]byte, 4+random.IntN(8))
		for i := range letters {
			letters[i] = byte('a' + random.IntN(26))
		}
		return string(letters)
	}
	for i := range made {
		d := shipped[i%len(shipped)]
		if i >= len(shipped) {
			d.ID = setting.ID(fmt.Sprintf("%s.%s%d", d.ID, word(), i))
			d.Title += " " + word()
			d.Help += " " + strings.Join([]string{word(), word(), word()}, " ")
		}
		made[i] = d
	}
	return search.New(made), made
}

func nanotime() int64 { return time.Now().UnixNano() }

func percentile(times []int64, p int) float64 {
	slices.Sort(times)
	return float64(times[min(len(times)-1, len(times)*p/100)])
}

// BenchmarkSearch asks as people do, of a dictionary of 5,000 definitions; it reports the 95th
// percentile.
func BenchmarkSearch(b *testing.B) {
	index, _ := largeIndex(5000)
	queries := []string{
		"copy to usb",
		"recovry key",
		"who can log in",
		"nobody may copy to usb sticks except the field crew",
		"screen goes off",
		"firewal rules public network",
		"p",
		"qwertyuiop",
		"trust our own certificate",
		"bluetoth hedset",
	}
	var times []int64
	for b.Loop() {
		for _, q := range queries {
			start := nanotime()
			index.Search(q)
			times = append(times, nanotime()-start)
		}
	}
	b.ReportMetric(percentile(times, 95)/1e6, "p95-ms")
	b.ReportMetric(0, "ns/op")
}
