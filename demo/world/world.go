// Package world makes large estates up, for measuring: the same seed gives the same estate. What is
// in one, and how much of it, is said in docs/performance.md.
package world

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strings"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/rule"
	"zenithridge.example/zridge/core/setting"
)

// Day is the day of every made-up estate.
const Day estate.Date = "2026-11-23"

// Size is how much there is of everything but laptops and people.
type Size struct {
	Devices                           int
	Units, Groups, Policies, Settings int
}

// Of gives the sizes that are measured with, at some number of laptops.
func Of(devices int) Size {
	return Size{Devices: devices, Units: 200, Groups: 2000, Policies: 1000, Settings: 600}
}

type maker struct {
	*rand.Rand
	Size
	s           *estate.Snapshot
	depth       []int
	releases    []string
	models      []string
	tags        []string
	departments []string
	titles      []string
	rules       map[string]*rule.Rule
	unitPeople  [][]int // by unit
	unitDevices [][]int
}

// Make makes an estate.
func Make(size Size, seed uint64) *estate.Snapshot {
	m := &maker{Rand: rand.New(rand.NewPCG(seed, 41)), Size: size, s: &estate.Snapshot{Day: Day}, rules: map[string]*rule.Rule{}}
	m.words()
	m.units()
	m.people()
	m.devices()
	m.groups()
	m.settings()
	m.policies()
	return m.s
}

func texts(format string, n int) []string {
	out := make([]string, n)
	for i := range out {
		out[i] = fmt.Sprintf(format, i)
	}
	return out
}

func (m *maker) words() {
	for major := range 8 {
		for minor := range 5 {
			m.releases = append(m.releases, fmt.Sprintf("%d.%d", 9+major, minor))
		}
	}
	m.models, m.tags, m.departments, m.titles = texts("M%02d", 60), texts("tag%02d", 50), texts("dep%02d", 80), texts("title%03d", 300)
}

func (m *maker) units() {
	for i := range m.Size.Units {
		u := estate.Unit{ID: estate.UnitID(fmt.Sprintf("u%03d", i)), Title: fmt.Sprintf("Unit %d", i)}
		depth := 0
		if i > 0 {
			parent := 0
			for { // a tree of depth 4
				if parent = m.IntN(i); m.depth[parent] < 4 {
					break
				}
			}
			depth, u.Parent = m.depth[parent]+1, m.s.Units[parent].ID
		}
		m.depth = append(m.depth, depth)
		m.s.Units = append(m.s.Units, u)
	}
	m.unitPeople, m.unitDevices = make([][]int, m.Size.Units), make([][]int, m.Size.Units)
}

func pick[T any](m *maker, from []T) T { return from[m.IntN(len(from))] }

// lean picks low numbers more often.
func (m *maker) lean(n int) int {
	x := m.Float64()
	return int(x * x * float64(n))
}

func (m *maker) people() {
	n := m.Size.Devices * 8 / 10
	m.s.People = make([]*estate.Person, n)
	departments, titles := values(m.departments), values(m.titles)
	shared := map[[2]int]map[string]setting.Value{} // attributes that are the same are one map
	for i := range n {
		unit := m.lean(m.Size.Units)
		department := (unit*7 + m.IntN(6)) % len(departments) // people of a unit are of few departments
		title := m.lean(len(titles))
		key := [2]int{department, title}
		if shared[key] == nil {
			shared[key] = map[string]setting.Value{"department": departments[department], "title": titles[title]}
		}
		id := fmt.Sprintf("p%06d", i)
		m.s.People[i] = &estate.Person{ID: estate.PersonID(id), Unit: m.s.Units[unit].ID, Attributes: shared[key]}
		m.unitPeople[unit] = append(m.unitPeople[unit], i)
	}
}

func values(texts []string) []setting.Value {
	out := make([]setting.Value, len(texts))
	for i, t := range texts {
		out[i] = setting.TextValue(t)
	}
	return out
}

func (m *maker) devices() {
	m.s.Devices = make([]*estate.Device, m.Size.Devices)
	all := make([]estate.Device, m.Size.Devices) // they are kept, all or none
	for i := range all {
		m.s.Devices[i] = &all[i]
	}
	chassis, places := values([]string{"clam", "fold", "slate", "tower"}), values(texts("place%02d", 20))
	editions := texts("edition%d", 4)
	var tagLists [][]string
	for range 400 {
		var list []string
		for range m.IntN(4) {
			if tag := m.tags[m.lean(len(m.tags))]; !strings.Contains(strings.Join(list, " "), tag) {
				list = append(list, tag)
			}
		}
		tagLists = append(tagLists, list)
	}
	shared := map[[5]int]map[string]setting.Value{}
	for i := range m.s.Devices {
		d := m.s.Devices[i]
		d.ID = estate.DeviceID(fmt.Sprintf("d%07d", i))
		d.OS, d.OSVersion, d.Edition = setting.Platforms[m.lean(3)], m.releases[m.lean(len(m.releases))], pick(m, editions)
		model := m.lean(len(m.models))
		d.Model, d.Tags = m.models[model], pick(m, tagLists)
		if m.IntN(100) < 88 && len(m.s.People) > 0 {
			d.Owner = m.s.People[m.IntN(len(m.s.People))].ID
		}
		unit := m.lean(m.Size.Units)
		if d.Owner == "" || m.IntN(100) < 20 {
			d.Unit = m.s.Units[unit].ID
		} else {
			var owner int
			fmt.Sscanf(string(d.Owner), "p%d", &owner)
			fmt.Sscanf(string(m.s.People[owner].Unit), "u%d", &unit)
		}
		m.unitDevices[unit] = append(m.unitDevices[unit], i)
		key := [5]int{1 << (2 + m.IntN(5)), 128 << m.IntN(4), model % 4, 2 << (model % 5), m.IntN(len(places))}
		if shared[key] == nil {
			shared[key] = map[string]setting.Value{
				"ram_gb": setting.IntegerValue(int64(key[0])), "disk_gb": setting.IntegerValue(int64(key[1])), "chassis": chassis[key[2]],
				"cores": setting.IntegerValue(int64(key[3])), "place": places[key[4]],
			}
		}
		d.Facts = shared[key]
	}
}

// size draws from 5 to 5% of n, small ones as likely as large ones.
func (m *maker) size(n int) int {
	most := math.Max(6, float64(n)/20)
	return int(5 * math.Exp(m.Float64()*math.Log(most/5)))
}

func (m *maker) groups() {
	for i := range m.Size.Groups {
		g := estate.Group{ID: estate.GroupID(fmt.Sprintf("g%04d", i)), Title: fmt.Sprintf("Group %d", i), Of: estate.OfDevices}
		if m.IntN(100) < 45 {
			g.Of = estate.OfPeople
		}
		switch {
		case m.IntN(100) < 30:
			g.Rule = m.rule(g.Of)
		case g.Of == estate.OfDevices:
			g.Members = m.members(m.Size.Devices, m.unitDevices, func(i int) string { return string(m.s.Devices[i].ID) })
		default:
			g.Members = m.members(len(m.s.People), m.unitPeople, func(i int) string { return string(m.s.People[i].ID) })
		}
		if i > 10 && m.IntN(100) < 4 {
			if other := &m.s.Groups[m.IntN(i)]; other.Of == g.Of {
				g.Groups = []estate.GroupID{other.ID}
			}
		}
		m.s.Groups = append(m.s.Groups, g)
	}
}

// members picks some of n: half of the lists at random, half from a few units.
func (m *maker) members(n int, byUnit [][]int, id func(int) string) []string {
	size := min(m.size(n), n)
	seen := make(map[int]bool, size)
	out := make([]string, 0, size)
	add := func(i int) {
		if !seen[i] {
			seen[i] = true
			out = append(out, id(i))
		}
	}
	if m.IntN(2) == 0 {
		for range 2 * size {
			if len(out) < size {
				add(m.IntN(n))
			}
		}
		return out
	}
	for range 40 {
		for _, i := range byUnit[m.lean(m.Size.Units)] {
			if len(out) == size {
				return out
			}
			if m.IntN(5) > 0 {
				add(i)
			}
		}
	}
	return out
}

func (m *maker) compiled(scope rule.Scope, source string) *rule.Rule {
	key := fmt.Sprint(scope, source)
	if m.rules[key] == nil {
		r, err := rule.Compile(scope, source)
		if err != nil {
			panic("world: " + source + ": " + err.Error())
		}
		m.rules[key] = r
	}
	return m.rules[key]
}

// term writes a comparison of a device or a person.
func (m *maker) term(of estate.GroupOf) string {
	if of == estate.OfPeople {
		switch m.IntN(4) {
		case 0:
			return fmt.Sprintf("person.department == %q", pick(m, m.departments))
		case 1:
			return fmt.Sprintf("person.department in [%q, %q, %q]", pick(m, m.departments), pick(m, m.departments), pick(m, m.departments))
		case 2:
			return fmt.Sprintf("person.title.startsWith(%q)", pick(m, m.titles)[:7])
		}
		return fmt.Sprintf("%q in person.units", pick(m, m.s.Units).ID)
	}
	switch m.IntN(8) {
	case 0:
		return fmt.Sprintf("device.os == %q", pick(m, setting.Platforms))
	case 1:
		return fmt.Sprintf("device.os_version.atLeast(%q)", pick(m, m.releases))
	case 2:
		return fmt.Sprintf("device.model in [%q, %q, %q]", pick(m, m.models), pick(m, m.models), pick(m, m.models))
	case 3:
		return fmt.Sprintf("device.model.startsWith(%q)", pick(m, m.models)[:2])
	case 4:
		return fmt.Sprintf("%q in device.tags", pick(m, m.tags))
	case 5:
		return fmt.Sprintf("device.ram_gb >= %d", 4<<m.IntN(5))
	case 6:
		return fmt.Sprintf("device.place == \"place%02d\"", m.IntN(20))
	}
	return fmt.Sprintf("%q in device.units", pick(m, m.s.Units).ID)
}

func (m *maker) joined(of estate.GroupOf) string {
	a := m.term(of)
	switch m.IntN(4) {
	case 0:
		return a
	case 1:
		return a + " && " + m.term(of)
	case 2:
		return "(" + a + " || " + m.term(of) + ") && " + m.term(of)
	}
	return "!(" + a + ") && " + m.term(of)
}

func (m *maker) rule(of estate.GroupOf) *rule.Rule {
	if of == estate.OfPeople {
		return m.compiled(rule.OfPerson, m.joined(of))
	}
	return m.compiled(rule.OfDevice, m.joined(of))
}

func (m *maker) settings() {
	for i := range m.Size.Settings {
		d := setting.Definition{
			ID:    setting.ID(fmt.Sprintf("area%02d.thing%03d.value", i%20, i)),
			Title: fmt.Sprintf("Setting %d", i),
			Kind:  setting.PolicyKinds[i%3],
			Area:  fmt.Sprintf("area%02d", i%20),
			Side:  setting.DeviceSide,
		}
		if i%6 == 0 {
			d.Side = setting.UserSide
		}
		switch x := i % 20; {
		case x < 12:
			d.Combine = setting.Closest
			d.Type = []setting.Type{setting.TypeBool, setting.TypeInteger, setting.TypeText}[x%3]
		case x < 16:
			d.Combine, d.Type, d.Stricter = setting.Strictest, setting.TypeInteger, setting.StricterLower
			d.Default = setting.IntegerValue(60)
		case x < 19:
			d.Combine, d.Type = setting.Merge, setting.TypeList
		default:
			d.Combine, d.Type = setting.Common, setting.TypeList
		}
		if i%5 == 0 {
			d.Effects = []setting.Effect{setting.Effects[i/5%4]}
		}
		if i%10 == 3 {
			d.Supports = []setting.Support{{Platform: setting.Linux, From: "10"}, {Platform: setting.Windows, From: "9.3"}}
		}
		m.s.Settings = append(m.s.Settings, d)
	}
	for i := range 40 {
		a, b := m.s.Settings[(i*20+12)%len(m.s.Settings)].ID, m.s.Settings[(i*20)%len(m.s.Settings)].ID
		m.s.Checks = append(m.s.Checks, estate.Check{
			ID: estate.CheckID(fmt.Sprintf("check%02d", i)), Message: "These two do not go together.", Settings: []setting.ID{a, b},
			When: m.compiled(rule.OfCheck, fmt.Sprintf("settings[%q] < 5 && settings[%q] == true", a, b)),
		})
	}
	for i := 0; i < 6 && i*60+13 < len(m.s.Settings); i++ {
		d, other := &m.s.Settings[i*60], m.s.Settings[i*60+13].ID
		d.Forced = []setting.Forced{{When: m.compiled(rule.OfForced, fmt.Sprintf("settings[%q] < 3", other)), Value: m.value(d)}}
	}
}

func (m *maker) value(d *setting.Definition) setting.Value {
	switch d.Type {
	case setting.TypeBool:
		return setting.BoolValue(m.IntN(2) == 0)
	case setting.TypeInteger:
		return setting.IntegerValue(int64(1 + m.IntN(60)))
	case setting.TypeText:
		return setting.TextValue(fmt.Sprintf("text%02d", m.IntN(40)))
	}
	items := []string{"item00"}
	if d.Combine == setting.Merge {
		items = nil
	}
	for range 1 + m.IntN(5) {
		if item := fmt.Sprintf("item%02d", 1+m.IntN(30)); !strings.Contains(strings.Join(items, " "), item) {
			items = append(items, item)
		}
	}
	return setting.ListValue(items)
}

func (m *maker) target() estate.Target {
	switch x := m.IntN(100); {
	case x < 3:
		return estate.Target{Kind: estate.ToEveryone}
	case x < 33: // units near the root are aimed at more often than there are
		return estate.Target{Kind: estate.ToUnit, ID: string(m.s.Units[m.lean(m.lean(m.Size.Units)+1)].ID)}
	case x < 98 || len(m.s.People) == 0:
		return estate.Target{Kind: estate.ToGroup, ID: string(pick(m, m.s.Groups).ID)}
	case x < 99:
		return estate.Target{Kind: estate.ToDevice, ID: string(pick(m, m.s.Devices).ID)}
	}
	return estate.Target{Kind: estate.ToPerson, ID: string(pick(m, m.s.People).ID)}
}

func (m *maker) targets(n int) (out []estate.Target) {
	for range n {
		t := m.target()
		twice := false
		for _, o := range out {
			twice = twice || o == t
		}
		if !twice {
			out = append(out, t)
		}
	}
	return out
}

func (m *maker) policies() {
	for i := range m.Size.Policies {
		p := estate.Policy{
			ID:       estate.PolicyID(fmt.Sprintf("pol%04d", i)),
			Title:    fmt.Sprintf("Policy %d", i),
			Kind:     setting.PolicyKinds[m.IntN(3)],
			State:    estate.Active,
			Priority: int64(1 + m.IntN(1000)),
		}
		p.Audience.Include = m.targets(1 + m.IntN(4))
		p.Audience.Exclude = m.targets(m.IntN(3))
		for j := 0; j < len(p.Audience.Exclude); j++ { // nobody excludes everyone
			if p.Audience.Exclude[j].Kind == estate.ToEveryone {
				p.Audience.Exclude = append(p.Audience.Exclude[:j], p.Audience.Exclude[j+1:]...)
				j--
			}
		}
		if m.IntN(5) == 0 {
			p.Audience.When = m.compiled(rule.OfWhen, m.joined(estate.GroupKinds[m.IntN(2)]))
		}
		seen := map[int]bool{}
		for range 1 + m.IntN(30) {
			at := m.IntN(m.Size.Settings)
			if d := &m.s.Settings[at]; !seen[at] {
				seen[at] = true
				p.Entries = append(p.Entries, estate.Entry{Setting: d.ID, Value: m.value(d), Lock: m.IntN(50) == 0})
			}
		}
		m.s.Policies = append(m.s.Policies, p)
	}
}
