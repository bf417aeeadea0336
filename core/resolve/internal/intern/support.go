// This file remembers which laptops support which settings. Most definitions name the same
// platforms with the same limits and share one Support. Its answers are by the codes of platform,
// version and edition: few combinations occur, whatever the number of laptops.

package intern

import (
	"fmt"
	"sync"

	"zenithridge.example/zridge/core/setting"
)

// Support remembers which laptops support the settings whose definitions name the same platforms
// with the same limits. It is safe for concurrent use.
type Support struct {
	Number int
	Needs  []Capability
	known  sync.Map // SupportCodes to setting.Unsupported
}

// Capability is what laptops of a platform must be able to do.
type Capability struct {
	Platform setting.Platform
	Formula  *Formula
}

// SupportCodes is what decides support besides capabilities: platform, version and edition by their
// codes; 0 where that does not matter.
type SupportCodes struct{ OS, Version, Edition uint32 }

// SupportOf gives the Support of a definition.
func (g *Generation) SupportOf(def *setting.Definition) *Support {
	var needs []Capability
	var key []byte
	for i := range def.Supports {
		row := &def.Supports[i]
		// What matters is what the definition says, so equal texts of its rows share one Support.
		key = fmt.Appendf(key, "%q %q %q %q;", row.Platform, row.From, row.Editions, row.When.Source())
		if row.When != nil {
			needs = append(needs, Capability{row.Platform, g.Formula(row.When)})
		}
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	s := g.supports[string(key)]
	if s == nil {
		s = &Support{Number: len(g.supports), Needs: needs}
		g.supports[string(key)] = s
	}
	return s
}

// Depends tells whether versions and editions matter to who supports a setting.
func (*Support) Depends(def *setting.Definition) (versions, editions bool) {
	for i := range def.Supports {
		editions = editions || len(def.Supports[i].Editions) > 0
		versions = versions || def.Supports[i].From != ""
	}
	return versions || editions, editions
}

// Reason gives the reason why laptops with these codes do not support a setting, whatever they can
// do. The columns are those of the codes.
func (s *Support) Reason(def *setting.Definition, codes SupportCodes, os, version, edition *Column) setting.Unsupported {
	if why, known := s.known.Load(codes); known {
		return why.(setting.Unsupported)
	}
	text := func(c *Column, code uint32) string {
		text, _ := c.Known()[code].(string)
		return text
	}
	// Definitions that share this support say the same, so any of them can be asked. Each
	// combination of codes is asked once.
	why := def.SupportOn(setting.Platform(text(os, codes.OS)), text(version, codes.Version), text(edition, codes.Edition))
	s.known.Store(codes, why)
	return why
}
