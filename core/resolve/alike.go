// This file lets laptops share what is decided for them where they differ in nothing that is decided by.

package resolve

import (
	"encoding/binary"

	"zenithridge.example/zridge/core/setting"
)

// likeness remembers decisions by what they were made of: which policies apply at which levels, what goes its own way, which
// exceptions count, and what decides support. It is for one thread. A nil likeness remembers nothing.
type likeness struct {
	made map[string]*decision
	key  []byte
}

// decided gives the decision for a device's owner, made now or before for a laptop that is alike.
func (l *likeness) decided(p *Plan, s *subject, applying []applied) *decision {
	if l == nil || !p.shareable {
		return p.decideAll(s, s, p.gather(nil, s, applying, ""))
	}
	l.key = p.describe(l.key[:0], s, applying)
	if known := l.made[string(l.key)]; known != nil {
		return known
	}
	made := p.decideAll(s, s, p.gather(nil, s, applying, ""))
	if l.made == nil {
		l.made = map[string]*decision{}
	}
	l.made[string(l.key)] = made
	return made
}

// describe writes all that a decision is made of.
func (p *Plan) describe(key []byte, s *subject, applying []applied) []byte {
	key = binary.AppendUvarint(key, uint64(len(applying)))
	for _, a := range applying {
		key = binary.AppendUvarint(key, uint64(a.policy))
		key = binary.AppendVarint(key, int64(a.level))
	}
	for _, kind := range setting.PolicyKinds {
		level, detached := s.detach[kind]
		if !detached {
			level = noLevel
		}
		key = binary.AppendVarint(key, int64(level))
	}
	for _, at := range p.excepted {
		counts := 0
		for i := range p.exceptions[at] {
			if p.matches(s, &p.exceptions[at][i].target) {
				counts = i + 1
				break
			}
		}
		key = binary.AppendUvarint(key, uint64(counts))
	}
	d := &p.devices[s.device]
	for _, text := range []string{string(d.OS), d.OSVersion, d.Edition} {
		key = binary.AppendUvarint(key, uint64(len(text)))
		key = append(key, text...)
	}
	return key
}
