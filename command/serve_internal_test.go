package command

import (
	"slices"
	"testing"
)

func TestFactorsDemanded(t *testing.T) {
	for name, each := range map[string]struct {
		named   []string
		listen  string
		proxied bool
		want    []string
	}{
		"on loopback":                 {nil, "127.0.0.1:8470", false, nil},
		"on loopback, by its name":    {nil, "localhost:8470", false, nil},
		"on loopback, behind a proxy": {nil, "127.0.0.1:8470", true, []string{"every"}},
		"on the network":              {nil, "0.0.0.0:8470", false, []string{"every"}},
		"on all addresses":            {nil, ":8470", false, []string{"every"}},
		"named":                       {[]string{"auditor"}, "0.0.0.0:8470", false, []string{"auditor"}},
		"none":                        {[]string{"none"}, "0.0.0.0:8470", false, nil},
	} {
		if got := factorsDemanded(each.named, each.listen, each.proxied); !slices.Equal(got, each.want) {
			t.Errorf("%s: %v, expected %v", name, got, each.want)
		}
	}
}
