package setting_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"time"

	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/dictionary"
)

// largeIndex makes definitions out of the shipped ones, with words of their own among those they share.
func largeIndex(n int) (*setting.Index, []setting.Definition) {
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
	return setting.NewIndex(made), made
}

func nanotime() int64 { return time.Now().UnixNano() }

func percentile(times []int64, p int) float64 {
	slices.Sort(times)
	return float64(times[min(len(times)-1, len(times)*p/100)])
}
