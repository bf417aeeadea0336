// This file implements compiling: the indexes that every later phase reads.

package resolve

import (
	"cmp"
	"slices"
	"sync"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/rule"
	"zenithridge.example/zridge/core/setting"
)

// Plan is a compiled snapshot. It is immutable and safe for concurrent use.
type Plan struct {
	snapshot *estate.Snapshot

	definitions []*setting.Definition // by id: places are in the order of results
	settingAt   map[setting.ID]int

	units  []unit
	unitAt map[estate.UnitID]int
	root   int

	people   []person
	personAt map[estate.PersonID]int
	devices  []device // by id
	deviceAt map[estate.DeviceID]int
	groups   []estate.Group
	groupAt  map[estate.GroupID]int
	failures []int // by group: how many its rule failed on

	policies          []policy      // by id
	entries           int           // of all active policies: at most so many apply to one subject
	exceptions        [][]exception // by setting: those that count on the day, the winning one first
	excepted          []int         // the settings that have some
	rulings           []map[preference]bool
	checks            []check // by id
	forcing           bool    // some definition has forced values
	shareable         bool    // no forced value looks at the device: laptops that are alike share what is decided
	checksLookFurther bool    // some check looks at more than settings

	index func() *setting.Index // of the dictionary, built when it is first asked
}

const none = -1

type unit struct {
	*estate.Unit
	depth int
	path  []int // places of the units from the root down to this one
}

type person struct {
	*estate.Person
	unit   int // none: without
	groups bits
}

type device struct {
	*estate.Device
	home   int
	owner  int // none: without
	groups bits
}

// target is an estate.Target with the place of what it names.
type target struct {
	estate.Target
	at    int
	level Level
}

type policy struct {
	*estate.Policy
	include, exclude []target
	entries          []entry // by setting
}

type entry struct {
	setting int
	*estate.Entry
}

// check is a check with the settings without any of which it finds nothing; alone is nil where that can't be told.
type check struct {
	*estate.Check
	alone []string
}

type exception struct {
	*estate.Exception
	target target
}

type preference struct{ prefer, over estate.PolicyID }

// bits is a set of small numbers.
type bits []uint64

func (b bits) has(i int) bool { return b[i>>6]&(1<<(i&63)) != 0 }
func (b bits) add(i int)      { b[i>>6] |= 1 << (i & 63) }

// Compile indexes a snapshot that Validate found nothing wrong with. The snapshot must not be altered afterwards.
func Compile(s *estate.Snapshot) *Plan {
	p := &Plan{snapshot: s, index: sync.OnceValue(func() *setting.Index { return setting.NewIndex(s.Settings) })}
	p.compileDictionary()
	p.compileUnits()
	p.compilePeople()
	p.compileGroups()
	p.compilePolicies()
	p.compileDecisions()
	return p
}

// Snapshot is what was compiled.
func (p *Plan) Snapshot() *estate.Snapshot { return p.snapshot }

// Definition gives a definition of the snapshot's dictionary, nil when there is none of that id.
func (p *Plan) Definition(id setting.ID) *setting.Definition {
	if at, known := p.settingAt[id]; known {
		return p.definitions[at]
	}
	return nil
}

// Search finds definitions of the snapshot's dictionary by plain words, the best first; all of them without words.
func (p *Plan) Search(words string) []*setting.Definition { return p.index().Search(words) }

// Device gives a device of the snapshot, nil when there is none of that id.
func (p *Plan) Device(id estate.DeviceID) *estate.Device {
	if at, known := p.deviceAt[id]; known {
		return p.devices[at].Device
	}
	return nil
}

// Person gives a person of the snapshot, nil when there is none of that id.
func (p *Plan) Person(id estate.PersonID) *estate.Person {
	if at, known := p.personAt[id]; known {
		return p.people[at].Person
	}
	return nil
}

func (p *Plan) compileDictionary() {
	p.shareable = true
	for i := range p.snapshot.Settings {
		d := &p.snapshot.Settings[i]
		p.definitions = append(p.definitions, d)
		p.forcing = p.forcing || len(d.Forced) > 0
		for _, f := range d.Forced {
			_, known := f.When.Mentions()
			p.shareable = p.shareable && known
		}
	}
	slices.SortFunc(p.definitions, func(a, b *setting.Definition) int { return cmp.Compare(a.ID, b.ID) })
	p.settingAt = make(map[setting.ID]int, len(p.definitions))
	for i, d := range p.definitions {
		p.settingAt[d.ID] = i
	}
	for i := range p.snapshot.Checks {
		p.checks = append(p.checks, compileCheck(&p.snapshot.Checks[i]))
		p.checksLookFurther = p.checksLookFurther || p.checks[len(p.checks)-1].alone == nil
	}
	slices.SortFunc(p.checks, func(a, b check) int { return cmp.Compare(a.ID, b.ID) })
}

func (p *Plan) compileUnits() {
	p.unitAt = make(map[estate.UnitID]int, len(p.snapshot.Units))
	p.units = make([]unit, len(p.snapshot.Units))
	for i := range p.snapshot.Units {
		u := &p.snapshot.Units[i]
		p.unitAt[u.ID] = i
		p.units[i].Unit = u
		if u.Parent == "" {
			p.root = i
		}
	}
	for i := range p.units {
		var path []int
		for at := i; ; at = p.unitAt[p.units[at].Parent] {
			path = append(path, at)
			if at == p.root {
				break
			}
		}
		slices.Reverse(path)
		p.units[i].path, p.units[i].depth = path, len(path)-1
	}
}

func (p *Plan) compilePeople() {
	words := (len(p.snapshot.Groups) + 63) / 64
	p.personAt = make(map[estate.PersonID]int, len(p.snapshot.People))
	p.people = make([]person, len(p.snapshot.People))
	for i := range p.snapshot.People {
		who := &p.snapshot.People[i]
		p.personAt[who.ID] = i
		p.people[i] = person{Person: who, unit: p.placeOf(who.Unit), groups: make(bits, words)}
	}
	p.devices = make([]device, len(p.snapshot.Devices))
	for i := range p.snapshot.Devices {
		d := &p.snapshot.Devices[i]
		dev := device{Device: d, owner: none, home: p.placeOf(d.Unit), groups: make(bits, words)}
		if d.Owner != "" {
			dev.owner = p.personAt[d.Owner]
		}
		if dev.home == none && dev.owner != none {
			dev.home = p.people[dev.owner].unit
		}
		if dev.home == none {
			dev.home = p.root
		}
		p.devices[i] = dev
	}
	slices.SortFunc(p.devices, func(a, b device) int { return cmp.Compare(a.ID, b.ID) })
	p.deviceAt = make(map[estate.DeviceID]int, len(p.devices))
	for i := range p.devices {
		p.deviceAt[p.devices[i].ID] = i
	}
}

func (p *Plan) placeOf(id estate.UnitID) int {
	if id == "" {
		return none
	}
	return p.unitAt[id]
}

// compileGroups adds up listed members, the members of member groups and whoever the rule is true for.
func (p *Plan) compileGroups() {
	p.groups = p.snapshot.Groups
	p.groupAt = make(map[estate.GroupID]int, len(p.groups))
	p.failures = make([]int, len(p.groups))
	// inside[g] are the groups that every member of g is in: g, and the groups that have it as a member.
	parents := make([][]int, len(p.groups))
	for i := range p.groups {
		p.groupAt[p.groups[i].ID] = i
	}
	for i := range p.groups {
		for _, member := range p.groups[i].Groups {
			at := p.groupAt[member]
			parents[at] = append(parents[at], i)
		}
	}
	var join func(set bits, g int)
	join = func(set bits, g int) {
		if set.has(g) {
			return
		}
		set.add(g)
		for _, parent := range parents[g] {
			join(set, parent)
		}
	}
	for g := range p.groups {
		for _, member := range p.groups[g].Members {
			if p.groups[g].Of == estate.OfPeople {
				join(p.people[p.personAt[estate.PersonID(member)]].groups, g)
			} else {
				join(p.devices[p.deviceAt[estate.DeviceID(member)]].groups, g)
			}
		}
	}
	for i := range p.people {
		p.joinByRule(estate.OfPeople, join, p.people[i].groups, func() map[string]any {
			return map[string]any{"person": p.personVariables(i)}
		})
	}
	for i := range p.devices {
		p.joinByRule(estate.OfDevices, join, p.devices[i].groups, func() map[string]any {
			return map[string]any{"device": p.deviceVariables(i)}
		})
	}
}

func (p *Plan) joinByRule(of estate.GroupOf, join func(bits, int), set bits, variables func() map[string]any) {
	var seen map[string]any
	for g := range p.groups {
		if p.groups[g].Rule == nil || p.groups[g].Of != of {
			continue
		}
		if seen == nil {
			seen = variables()
		}
		holds, err := p.groups[g].Rule.Holds(seen)
		if err != nil {
			p.failures[g]++
		} else if holds {
			join(set, g)
		}
	}
}

func (p *Plan) compilePolicies() {
	p.policies = make([]policy, len(p.snapshot.Policies))
	for i := range p.snapshot.Policies {
		pol := policy{Policy: &p.snapshot.Policies[i]}
		for _, t := range pol.Audience.Include {
			pol.include = append(pol.include, p.target(t))
		}
		for _, t := range pol.Audience.Exclude {
			pol.exclude = append(pol.exclude, p.target(t))
		}
		slices.SortFunc(pol.exclude, func(a, b target) int { return cmp.Compare(a.String(), b.String()) })
		for j := range pol.Entries {
			pol.entries = append(pol.entries, entry{setting: p.settingAt[pol.Entries[j].Setting], Entry: &pol.Entries[j]})
		}
		slices.SortFunc(pol.entries, func(a, b entry) int { return cmp.Compare(a.setting, b.setting) })
		p.policies[i] = pol
		if pol.State == estate.Active {
			p.entries += len(pol.entries)
		}
	}
	slices.SortFunc(p.policies, func(a, b policy) int { return cmp.Compare(a.ID, b.ID) })
}

func (p *Plan) target(t estate.Target) target {
	switch t.Kind {
	case estate.ToEveryone:
		return target{Target: t, at: p.root, level: 0}
	case estate.ToUnit:
		at := p.unitAt[estate.UnitID(t.ID)]
		return target{Target: t, at: at, level: Level(p.units[at].depth)}
	case estate.ToGroup:
		return target{Target: t, at: p.groupAt[estate.GroupID(t.ID)], level: GroupLevel}
	case estate.ToDevice:
		return target{Target: t, at: p.deviceAt[estate.DeviceID(t.ID)], level: IndividualLevel}
	default:
		return target{Target: t, at: p.personAt[estate.PersonID(t.ID)], level: IndividualLevel}
	}
}

// compileCheck finds out whether the check can be passed over where none of the settings that it looks at is decided: what it
// then finds is what it finds with no setting at all.
func compileCheck(c *estate.Check) check {
	ids, known := c.When.Mentions()
	if !known {
		return check{Check: c}
	}
	if wrong, err := c.When.Holds(map[string]any{"settings": map[string]any{}, "device": map[string]any{}, "person": map[string]any{}}); err == nil && wrong {
		return check{Check: c}
	}
	return check{c, append([]string{}, ids...)}
}

// compileDecisions sorts the exceptions of the day so that the first that matches wins: the innermost
// target, then the latest approval, then the lowest id.
func (p *Plan) compileDecisions() {
	p.exceptions = make([][]exception, len(p.definitions))
	for i := range p.snapshot.Exceptions {
		if x := &p.snapshot.Exceptions[i]; x.CountsOn(p.snapshot.Day) {
			at := p.settingAt[x.Setting]
			p.exceptions[at] = append(p.exceptions[at], exception{Exception: x, target: p.target(x.Target)})
		}
	}
	for _, list := range p.exceptions {
		slices.SortFunc(list, func(a, b exception) int {
			return cmp.Or(cmp.Compare(b.target.level, a.target.level), cmp.Compare(b.ApprovedOn, a.ApprovedOn), cmp.Compare(a.ID, b.ID))
		})
	}
	for at := range p.exceptions {
		if len(p.exceptions[at]) > 0 {
			p.excepted = append(p.excepted, at)
		}
	}
	p.rulings = make([]map[preference]bool, len(p.definitions))
	for _, r := range p.snapshot.Rulings {
		at := p.settingAt[r.Setting]
		if p.rulings[at] == nil {
			p.rulings[at] = map[preference]bool{}
		}
		p.rulings[at][preference{r.Prefer, r.Over}] = true
	}
}

// deviceVariables is what expressions see as `device`. What is not known is absent.
func (p *Plan) deviceVariables(i int) map[string]any {
	d := &p.devices[i]
	out := make(map[string]any, len(d.Facts)+9)
	for name, v := range d.Facts {
		out[name] = v.Any()
	}
	tags := d.Tags
	if tags == nil {
		tags = []string{}
	}
	out["id"], out["os"], out["os_version"], out["tags"] = string(d.ID), string(d.OS), d.OSVersion, tags
	out["unit"], out["units"] = p.unitNames(d.home)
	addKnown(out, "serial", d.Serial)
	addKnown(out, "edition", d.Edition)
	addKnown(out, "model", d.Model)
	return out
}

// personVariables is what expressions see as `person`; place none gives an empty map.
func (p *Plan) personVariables(i int) map[string]any {
	if i == none {
		return map[string]any{}
	}
	who := &p.people[i]
	out := make(map[string]any, len(who.Attributes)+5)
	for name, v := range who.Attributes {
		out[name] = v.Any()
	}
	out["id"] = string(who.ID)
	addKnown(out, "name", who.Name)
	addKnown(out, "mail", who.Mail)
	if who.unit != none {
		out["unit"], out["units"] = p.unitNames(who.unit)
	}
	return out
}

func addKnown(to map[string]any, name, text string) {
	if text != "" {
		to[name] = text
	}
}

func (p *Plan) unitNames(at int) (string, []string) {
	names := make([]string, len(p.units[at].path))
	for i, u := range p.units[at].path {
		names[i] = string(p.units[u].ID)
	}
	return string(p.units[at].ID), names
}

// holds evaluates a rule over variables that are made only when there is one; without a rule it holds.
func holds(r *rule.Rule, variables func() map[string]any) (bool, error) {
	if r == nil {
		return true, nil
	}
	return r.Holds(variables())
}
