// This file finds the rows that do not support a setting, by reason. Platform, version and edition
// are known of every laptop. What else a laptop must be able to do is a condition over its facts,
// which may not be known: such a laptop counts as supporting the setting, and is counted apart.

package match

import (
	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/resolve/internal/intern"
	"zenithridge.example/zridge/core/setting"
)

// Lacking is the rows that do not support a setting.
type Lacking struct {
	within  int32
	By      [intern.Lacks]*bitset.Set // by reason, in the order of setting.Unsupporteds; nil: none
	Unknown *bitset.Set               // rows on which it fails to say what the laptop can do: they count as supported; nil: none
}

// Lacking gives the rows that do not support a setting.
func (m *Matcher) Lacking(def *setting.Definition, support *intern.Support) *Lacking {
	// The answer is kept by the number of the support, not of the setting: most settings of a
	// dictionary share a few combinations of platforms.
	for len(m.lacks) <= support.Number {
		m.lacks = append(m.lacks, Lacking{})
	}
	found := &m.lacks[support.Number]
	if found.within == m.within {
		return found
	}
	*found = Lacking{within: m.within}
	gen := m.Pop.Gen
	os, version, edition := gen.Column(DeviceLook("os")), gen.Column(DeviceLook("os_version")), gen.Column(DeviceLook("edition"))
	add := func(codes intern.SupportCodes, rows *bitset.Set) {
		if why := support.Reason(def, codes, os, version, edition); why != setting.Supported {
			found.add(m, why, rows)
		}
	}
	versions, editions := support.Depends(def)
	// Rows are split by platform; by version and edition only if some definition with the same
	// support names them. Each combination is asked once, and the answer is kept in support for all
	// blocks.
	m.Part(os, &m.Dom, func(osCode uint32, rows *bitset.Set) {
		if !versions {
			add(intern.SupportCodes{OS: osCode}, rows)
			return
		}
		mark := m.Mark()
		defer m.Release(mark)
		m.Part(version, rows, func(versionCode uint32, rows *bitset.Set) {
			if !editions {
				add(intern.SupportCodes{OS: osCode, Version: versionCode}, rows)
				return
			}
			m.Part(edition, rows, func(editionCode uint32, rows *bitset.Set) {
				add(intern.SupportCodes{OS: osCode, Version: versionCode, Edition: editionCode}, rows)
			})
		})
	})
	m.incapable(support, found)
	return found
}

// incapable finds the rows that would support a setting but for what the laptop can do, and those
// of which that is not known.
//
// Unknown is not the same as incapable: a laptop whose facts do not say whether it has a security
// chip counts as supported, and is counted apart (resolution.md, section 5). incapable runs after
// the other reasons, and only over rows that have none: a laptop gets the first reason alone.
func (m *Matcher) incapable(support *intern.Support, to *Lacking) {
	for _, needs := range support.Needs {
		mark := m.Mark()
		rows, here := m.Temp(), m.Temp()
		m.Platforms([]setting.Platform{needs.Platform}, rows)
		// Capabilities are asked of the rows on the platform that pass the tests of platform,
		// version and edition.
		for _, lacking := range to.By {
			if lacking != nil {
				rows.AndNot(lacking)
			}
		}
		is, failed := m.Truth(needs.Formula)
		if here.SetAnd(rows, failed) {
			if to.Unknown == nil {
				to.Unknown = m.Keep()
			}
			to.Unknown.Or(here)
		}
		// What is left is false on the row: it is known, and the laptop cannot do it.
		rows.AndNot(is)
		rows.AndNot(failed)
		if !rows.Empty() {
			to.add(m, setting.Incapable, rows)
		}
		m.Release(mark)
	}
}

// add adds rows that do not support the setting for a reason.
func (l *Lacking) add(m *Matcher, why setting.Unsupported, rows *bitset.Set) {
	at := intern.LackAt(why)
	if l.By[at] == nil {
		l.By[at] = m.Keep()
	}
	l.By[at].Or(rows)
}

// Supported takes the rows out that do not support a setting.
func (m *Matcher) Supported(def *setting.Definition, support *intern.Support, rows *bitset.Set) {
	for _, who := range m.Lacking(def, support).By {
		if who != nil {
			rows.AndNot(who)
		}
	}
}
