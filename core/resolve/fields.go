// This file says what values expressions find in the fields of laptops and people.
//
// Whoever writes a rule is offered the fields that there are and the values that they have. The
// answers depend on people and laptops alone, and stay while policies are edited.

package resolve

import (
	"slices"
	"sync"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/resolve/internal/intern"
	"zenithridge.example/zridge/core/rule"
	"zenithridge.example/zridge/core/setting"
)

// FieldValues gives the different values that laptops, or people, have in a field that an expression
// looks at, in the order in which they are met, and how many laptops or people have one. After most
// different values the others are left out. The values must not be altered.
//
// It goes through all laptops the first time. Plans with the same people and laptops share what was
// found, so that an edit of a policy finds it again.
func (p *Plan) FieldValues(look rule.Look, most int) (values []setting.Value, known int) {
	found := p.fields.of(fieldQuestion{look, most}, func() fieldAnswer { return p.findFieldValues(look, most) })
	return found.values, found.known
}

// findFieldValues goes through all laptops, or people.
func (p *Plan) findFieldValues(look rule.Look, most int) (out fieldAnswer) {
	// A column of its own: nothing of it is numbered or kept.
	column := &intern.Column{Look: look}
	n := p.Devices.Len()
	if look.Variable == "person" {
		n = p.People.Len()
	}
	seen := map[string]bool{}
	var key []byte
	for at := range n {
		v := p.ValueIn(column, at)
		if v.IsNothing() {
			continue
		}
		out.known++
		if key = v.AppendIdentity(key[:0]); !seen[string(key)] && len(out.values) < most {
			seen[string(key)] = true
			out.values = append(out.values, v)
		}
	}
	return out
}

// fieldCache keeps what FieldValues found. It is shared by plans with the same people, laptops and
// units, and safe for concurrent use.
type fieldCache struct {
	mu    sync.Mutex
	known map[fieldQuestion]func() fieldAnswer

	homesOnce sync.Once
	homes     []int32 // see Plan.homePlaces
}

// homePlaces gives the place of each laptop's home unit in the list of units, by the laptop's
// number; 0 where there is no laptop of the number. It lies closer together than the laptops
// themselves.
func (p *Plan) homePlaces() []int32 {
	p.fields.homesOnce.Do(func() {
		p.fields.homes = make([]int32, p.Devices.Len())
		for at := range p.fields.homes {
			p.fields.homes[at] = int32(p.Devices.At(at).HomeAt)
		}
	})
	return p.fields.homes
}

// fieldQuestion is what FieldValues is asked.
type fieldQuestion struct {
	look rule.Look
	most int
}

// fieldAnswer is what it answers.
type fieldAnswer struct {
	values []setting.Value
	known  int
}

// mostFields is how many answers are kept: an expression can name fields that nobody has.
const mostFields = 200

// of gives the answer to a question. It is found by whoever asks first; others wait for it.
func (c *fieldCache) of(question fieldQuestion, find func() fieldAnswer) fieldAnswer {
	c.mu.Lock()
	answer := c.known[question]
	if answer == nil {
		answer = sync.OnceValue(find) // which lets go of find, and of the plan, once it was called
		c.known = with(c.known, mostFields, question, answer)
	}
	c.mu.Unlock()
	return answer()
}

// FieldNames lists the fields of `device`, or of `person`, that some laptop or person has, sorted.
func (p *Plan) FieldNames(variable string) []string {
	names := map[string]bool{}
	if variable == "person" {
		for _, name := range estate.PersonNames {
			names[name] = true
		}
		for _, who := range p.snapshot.People {
			for name := range who.Attributes {
				names[name] = true
			}
		}
	} else {
		for _, name := range estate.DeviceNames {
			names[name] = true
		}
		for _, d := range p.snapshot.Devices {
			for name := range d.Facts {
				names[name] = true
			}
		}
	}
	out := make([]string, 0, len(names))
	for name := range names {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}
