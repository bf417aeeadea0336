// This file remembers which laptops support settings, by what they have in the columns that matter to it.

package intern

import (
	"fmt"
	"sync"

	"zenithridge.example/zridge/core/rule"
	"zenithridge.example/zridge/core/setting"
)

// supportCodes is what decides support: system, version and edition by their codes; 0 where that does not matter.
type SupportCodes struct{ Os, Version, Edition uint32 }

// supportMemo remembers who supports settings that name the same systems. It is safe for concurrent use.
type Support struct {
	Number int
	Needs  []capability
	known  sync.Map
}

// capability is what laptops of a platform must be able to do.
type capability struct {
	Platform setting.Platform
	Formula  *Formula
}

// supportOf gives the memo of a definition's support.
func (v *Generation) SupportOf(def *setting.Definition) *Support {
	var needs []capability
	var key []byte
	for i := range def.Supports {
		row := &def.Supports[i]
		key = fmt.Appendf(key, "%q %q %q %q;", row.Platform, row.From, row.Editions, row.When.Source())
		if row.When != nil {
			needs = append(needs, capability{row.Platform, v.Formula(row.When)})
		}
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.supports[string(key)] == nil {
		v.supports[string(key)] = &Support{Number: len(v.supports), Needs: needs}
	}
	return v.supports[string(key)]
}

// depends tells whether versions and editions matter to who supports a setting.
func (*Support) Depends(def *setting.Definition) (versions, editions bool) {
	for i := range def.Supports {
		editions = editions || len(def.Supports[i].Editions) > 0
		versions = versions || def.Supports[i].From != ""
	}
	return versions || editions, editions
}

func (m *Support) Reason(def *setting.Definition, codes SupportCodes, os, version, edition *Column) setting.Unsupported {
	if why, known := m.known.Load(codes); known {
		return why.(setting.Unsupported)
	}
	text := func(c *Column, code uint32) string {
		s, _ := c.Values()[code].(string)
		return s
	}
	why := def.SupportOn(setting.Platform(text(os, codes.Os)), text(version, codes.Version), text(edition, codes.Edition))
	m.known.Store(codes, why)
	return why
}

func Look(field string) rule.Look { return rule.Look{Variable: "device", Field: field} }
