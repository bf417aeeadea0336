package review_test

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/review"
	"zenithridge.example/zridge/core/rule"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/dictionary"
	"zenithridge.example/zridge/formats/files"
)

const company = `
units: [{id: larkfell}, {id: slipway, parent: larkfell}]
people: [{id: ines.okafor, unit: slipway}, {id: tomas.reyes}]
devices:
  - {id: LT-1, os: linux, os_version: "12.5", owner: ines.okafor}
  - {id: LT-2, os: windows, os_version: "10.4", owner: tomas.reyes}
  - {id: LT-3, os: macos, os_version: "14.1", unit: slipway}
policies:
`

// sideOf resolves the small company with policies.
func sideOf(t *testing.T, policies string) impact.Side {
	t.Helper()
	objects, err := files.ReadObjects("company.yaml", []byte(company+policies))
	if err != nil {
		t.Fatal(err)
	}
	values := make([]any, len(objects))
	for i, o := range objects {
		values[i] = o.Value
	}
	s := files.Assemble(values, dictionary.Shipped())
	if faults := s.Validate(); len(faults) > 0 {
		t.Fatal(faults)
	}
	return impact.Resolve(s.On("2026-11-23"))
}

// identifiers are those of applications that were read from files; there are no certificates.
type identifiers []string

func (i identifiers) Identifiers() []string                       { return i }
func (identifiers) Certificate(string) (review.Certificate, bool) { return review.Certificate{}, false }

func findings(t *testing.T, side impact.Side, id estate.PolicyID, known ...string) []string {
	t.Helper()
	use, ok := review.Look(side, id)
	if !ok {
		t.Fatalf("no policy %s", id)
	}
	var out []string
	for _, f := range review.Findings(side, id, use, review.Known{Files: identifiers(known)}) {
		out = append(out, strings.TrimSpace(fmt.Sprintf("%s %s%s %d/%d %v", f.Kind, f.Check, f.Found, f.Devices, f.Reached, f.Beside)))
	}
	return out
}

func expect(t *testing.T, what string, got, want []string) {
	t.Helper()
	if !slices.Equal(got, want) {
		t.Errorf("%s:\n found    %q\n expected %q", what, got, want)
	}
}

// TestRelationsToOtherPolicies sets a setting in several ways and says what each is to the one that
// is looked at.
func TestRelationsToOtherPolicies(t *testing.T) {
	side := sideOf(t, `
  - {id: mine, kind: security, settings: {screen.lock_after_minutes: 10, signin.banner: mine, browser.blocked_sites: [a.example], network.name_servers: [10.0.0.1]}, audience: {include: ["unit:slipway"]}}
  - {id: same, kind: security, settings: {screen.lock_after_minutes: 10}, audience: {include: [everyone]}}
  - {id: stricter, kind: security, settings: {screen.lock_after_minutes: 5}, audience: {include: ["device:LT-1"]}}
  - {id: weaker, kind: security, settings: {screen.lock_after_minutes: 30}, audience: {include: ["device:LT-3"]}}
  - {id: rival, kind: security, settings: {signin.banner: theirs}, audience: {include: ["unit:slipway"]}}
  - {id: more, kind: security, settings: {browser.blocked_sites: [b.example]}, audience: {include: [everyone]}}
  - {id: far, kind: security, settings: {network.name_servers: [10.0.0.2]}, audience: {include: ["device:LT-2"]}}
  - {id: sleeping, kind: security, state: draft, settings: {signin.banner: x}, audience: {include: [everyone]}}
`)
	use, _ := review.Look(side, "mine")
	var got []string
	for _, a := range use.AlsoSet {
		got = append(got, fmt.Sprintf("%s %s %s %d of %d", a.Setting, a.Policy, a.Relation, a.Shared, a.Devices))
	}
	expect(t, "others", got, []string{
		"browser.blocked_sites more adds 2 of 3",
		"network.name_servers far apart 0 of 1",
		"screen.lock_after_minutes same repeats 2 of 3",
		"screen.lock_after_minutes stricter overrides 1 of 1",
		"screen.lock_after_minutes weaker overridden 1 of 1",
		"signin.banner rival conflicts 2 of 2",
	})
	if _, ok := review.Look(side, "nobody"); ok {
		t.Error("a policy that is not there was looked at")
	}
}

// TestMistakesAreFound makes the mistakes that people make, one at a time.
func TestMistakesAreFound(t *testing.T) {
	for name, c := range map[string]struct {
		policies string
		known    []string
		want     []string
	}{
		"contradictory startup values": {
			policies: `[{id: p, kind: encryption, settings: {disk.startup.pin: require, disk.startup.chip: forbid}, audience: {include: ["unit:slipway"]}}]`,
			want:     []string{"wrong-alone startup.pin-without-chip 2/2 []"},
		},
		"escrow forgotten, with nobody yet": {
			policies: `[{id: p, kind: encryption, settings: {disk.recovery.escrow_first: true}, audience: {}}]`,
			want:     []string{"wrong-alone recovery.escrow-first-while-off 0/0 []"},
		},
		"escrow in another policy for the same laptops": {
			policies: `[{id: p, kind: encryption, settings: {disk.recovery.escrow_first: true}, audience: {include: ["unit:slipway"]}}, {id: base, kind: encryption, settings: {disk.recovery.escrow: service}, audience: {include: [everyone]}}]`,
			want:     []string{"wrong-alone recovery.escrow-first-while-off 0/2 [base]"},
		},
		"a value that another forces": {
			policies: `[{id: p, kind: security, settings: {hardware.activation: host-only, hardware.consent: false}, audience: {}}]`,
			want:     []string{"forced-value false 0/0 []"},
		},
		"a second purpose": {
			policies: `[{id: p, kind: security, settings: {media.camera: false, network.proxy.mode: manual, network.proxy.address: "proxy.example:80"}, audience: {}}]`,
			want:     []string{"many-purposes  0/0 []"},
		},
		"a second purpose that is meant": {
			policies: `[{id: p, kind: security, labels: [baseline], settings: {media.camera: false, network.proxy.mode: "off"}, audience: {}}]`,
		},
		"one purpose in two areas": {
			policies: `[{id: p, kind: encryption, settings: {disk.encryption.required: true, disk.recovery.key_age_days: 90}, audience: {}}]`,
		},
		"everyone by accident": {
			policies: `[{id: p, kind: security, settings: {media.camera: false}, audience: {include: ["device:LT-1", "device:LT-2", "device:LT-3"]}}]`,
			want:     []string{"reaches-all  3/3 []"},
		},
		"a setting that no platform of the policy has": {
			policies: `[{id: p, kind: security, platforms: [linux], settings: {applications.permissions: []}, audience: {}}]`,
			want:     []string{"other-systems  0/0 []"},
		},
		"a retyped identifier": {
			policies: `[{id: p, kind: security, settings: {applications.permissions: [{identifier: example.helplin, permission: camera, decision: allow}, {identifier: example.helpline, permission: camera, decision: allow}, {identifier: other.tool, permission: camera, decision: allow}]}, audience: {}}]`,
			known:    []string{"example.helpline"},
			want:     []string{"nearly-known example.helplin 0/0 []", "typed-by-hand other.tool 0/0 []"},
		},
		"a management node that another policy sets": {
			policies: `[{id: p, kind: configuration, settings: {system.nodes: [{path: ./Device/Plotter/KeepAwake, format: bool, value: "true"}]}, audience: {}}, {id: q, kind: configuration, settings: {system.nodes: [{path: ./device/plotter/keepawake, format: bool, value: "true"}]}, audience: {include: [everyone]}}]`,
			want:     []string{"same-path ./Device/Plotter/KeepAwake 0/0 [q]"},
		},
	} {
		expect(t, name, findings(t, sideOf(t, "  "+strings.ReplaceAll(c.policies, "[{id: p", "\n  [{id: p")), "p", c.known...), c.want)
	}
}

// TestMergingTwoEdits lets two people alter one policy.
func TestMergingTwoEdits(t *testing.T) {
	policy := func(text string) *estate.Policy {
		o, _, err := files.DecodeJSON(estate.KindPolicy, []byte(`{"id": "p", "kind": "security", `+text+`}`))
		if err != nil {
			t.Fatal(err)
		}
		p := o.(estate.Policy)
		return &p
	}
	base := policy(`"title": "A", "settings": {"a": 1, "b": 2, "c": 3}, "audience": {"include": ["unit:x"]}`)
	mine := policy(`"title": "A", "settings": {"a": 9, "b": 2, "d": 4}, "audience": {"include": ["unit:x"], "when": "true"}`)
	theirs := policy(
		`"title": "B", "priority": 5, "settings": {"a": 1, "b": 7, "c": {"value": 3, "lock": true}}, "audience": {"include": ["unit:y"]}`,
	)
	merged, conflicts := review.Merge(base, mine, theirs)
	text, err := files.EncodeJSON(merged)
	if err != nil {
		t.Fatal(err)
	}
	if want := `{"id":"p","title":"B","kind":"security","priority":5,"settings":{"a":9,"b":7,"d":4},"audience":{"include":["unit:y"],"when":"true"}}`; string(
		text,
	) != want {
		t.Errorf("merged to %s\n expected %s", text, want)
	}
	if len(conflicts) != 1 || conflicts[0].Part != "settings/c" || conflicts[0].Base != "3" || conflicts[0].Mine != "" ||
		conflicts[0].Theirs != "3, locked" ||
		conflicts[0].Entries[1] != nil {
		t.Errorf("conflicts %+v", conflicts)
	}
}

// TestLawsOfMerging merges random edits: nothing altered on one side takes the other, and the order
// of the sides decides only conflicts.
func TestLawsOfMerging(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 5))
	made := func(from *estate.Policy, changes int) *estate.Policy {
		p := *from
		p.Entries = slices.Clone(from.Entries)
		for range changes {
			id := setting.ID([]string{"a", "b", "c", "d", "e"}[random.IntN(5)])
			p.Entries = slices.DeleteFunc(p.Entries, func(e estate.Entry) bool { return e.Setting == id })
			if random.IntN(3) > 0 {
				p.Entries = append(
					p.Entries,
					estate.Entry{Setting: id, Value: setting.IntegerValue(random.Int64N(3)), Lock: random.IntN(4) == 0},
				)
			}
			if random.IntN(4) == 0 {
				p.Title = []string{"x", "y"}[random.IntN(2)]
			}
		}
		return &p
	}
	for range 2000 {
		base := made(&estate.Policy{ID: "p"}, 5)
		mine, theirs := made(base, 3), made(base, 3)
		if m, conflicts := review.Merge(base, base, theirs); len(conflicts) > 0 || len(review.Diff(&m, theirs)) > 0 {
			t.Fatalf("an edit that altered nothing conflicts or takes from theirs: %+v", conflicts)
		}
		if m, conflicts := review.Merge(base, mine, base); len(conflicts) > 0 || len(review.Diff(&m, mine)) > 0 {
			t.Fatalf("merging with what it began from alters: %+v", conflicts)
		}
		if m, conflicts := review.Merge(base, mine, mine); len(conflicts) > 0 || len(review.Diff(&m, mine)) > 0 {
			t.Fatalf("the same edit twice: %+v", conflicts)
		}
		ab, one := review.Merge(base, mine, theirs)
		ba, other := review.Merge(base, theirs, mine)
		if len(one) != len(other) {
			t.Fatalf("%d conflicts, the other way round %d", len(one), len(other))
		}
		for _, d := range review.Diff(&ab, &ba) {
			if !slices.ContainsFunc(one, func(c review.Conflict) bool { return c.Part == d.Part }) {
				t.Fatalf("%s differs by the order of the sides, and is no conflict", d.Part)
			}
		}
	}
}

func TestPurposesAreToldApart(t *testing.T) {
	side := sideOf(t, `
  - {id: p, kind: security, settings: {media.camera: false, media.usb_storage: block, network.proxy.mode: "off", trust.people_may_add: false, signin.banner: x}, audience: {}}
`)
	policies := side.Plan.Snapshot().Policies
	var got []string
	for _, p := range review.Purposes(side.Plan, &policies[0]) {
		got = append(got, fmt.Sprint(p.Areas, p.Settings))
	}
	expect(
		t,
		"purposes",
		got,
		[]string{
			"[devices and media] [media.camera media.usb_storage]",
			"[network trust] [network.proxy.mode trust.people_may_add]",
			"[sign-in] [signin.banner]",
		},
	)
}

// TestLaptopsLeftUnset leaves laptops out of policies that protect them.
func TestLaptopsLeftUnset(t *testing.T) {
	const locks = `
  - {id: locks, kind: security, settings: {screen.lock_after_minutes: 10, media.camera: false}, audience: {include: [everyone%s]}}
  - {id: desks, kind: security, settings: {screen.lock_after_minutes: 5}, audience: {include: ["unit:slipway"]}}
`
	live := sideOf(t, fmt.Sprintf(locks, ""))
	for _, c := range []struct {
		policies, want string
	}{
		{fmt.Sprintf(locks, ""), ""},
		{fmt.Sprintf(locks, `], exclude: ["unit:slipway"`), "2 media.camera"}, // desks still locks the screen
		{fmt.Sprintf(locks, `], exclude: ["device:LT-2"`), "1 media.camera screen.lock_after_minutes"},
		{strings.Replace(fmt.Sprintf(locks, `], exclude: [everyone`), "id: locks, ", "id: locks, state: draft, ", 1),
			"3 media.camera screen.lock_after_minutes"},
	} {
		side := sideOf(t, c.policies)
		use, _ := review.Look(side, "locks")
		got := ""
		for _, f := range review.Findings(side, "locks", use, review.Known{Before: live.Plan.Policy("locks"), Live: live}) {
			if f.Kind == review.LeavesUnset {
				got = fmt.Sprint(f.Devices)
				for _, id := range slices.Sorted(slices.Values(f.Settings)) {
					got += " " + string(id)
				}
			}
		}
		if got != c.want {
			t.Errorf("%s: %q, expected %q", c.policies, got, c.want)
		}
	}
}

// TestEveryFieldOfAPolicyIsMerged alters one field after the other: Diff must name it, and Merge
// must take it. The id is the same on all sides, entries are parts of their own, and no file has
// Baseline.
func TestEveryFieldOfAPolicyIsMerged(t *testing.T) {
	base := estate.Policy{ID: "p", OnDrift: estate.Report}
	always, err := rule.Compile(rule.OfWhen, "true")
	if err != nil {
		t.Fatal(err)
	}
	alter := func(field reflect.Value) {
		switch field.Kind() {
		case reflect.String:
			field.SetString("altered")
		case reflect.Bool:
			field.SetBool(true)
		case reflect.Int64:
			field.SetInt(7)
		case reflect.Slice:
			field.Set(reflect.MakeSlice(field.Type(), 1, 1))
			if item := field.Index(0); item.Kind() == reflect.String {
				item.SetString("altered")
			} else {
				item.Set(reflect.ValueOf(estate.Target{Kind: estate.ToUnit, ID: "altered"}))
			}
		default:
			field.Set(reflect.ValueOf(always))
		}
	}
	try := func(name string, of func(*estate.Policy) reflect.Value) {
		theirs := base
		alter(of(&theirs))
		if found := review.Diff(&base, &theirs); len(found) != 1 {
			t.Errorf("%s: Diff found %v", name, found)
		}
		merged, conflicts := review.Merge(&base, &base, &theirs)
		if !reflect.DeepEqual(merged, theirs) || len(conflicts) > 0 {
			t.Errorf("%s: merged to %+v with the conflicts %v", name, merged, conflicts)
		}
	}
	kind := reflect.TypeFor[estate.Policy]()
	for i := range kind.NumField() {
		switch name := kind.Field(i).Name; name {
		case "ID", "Baseline", "Entries":
		case "Audience":
			for k := range kind.Field(i).Type.NumField() {
				try(name+"."+kind.Field(i).Type.Field(k).Name, func(p *estate.Policy) reflect.Value {
					return reflect.ValueOf(p).Elem().Field(i).Field(k)
				})
			}
		default:
			try(name, func(p *estate.Policy) reflect.Value { return reflect.ValueOf(p).Elem().Field(i) })
		}
	}
}
