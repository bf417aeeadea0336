// This file finds what is odd about a policy by itself, with nothing said yet about who gets it.
//
// A finding never keeps a policy from being published: faults do that, and validation finds them. A
// finding is data without words. The kind says which of its fields are used; command and
// formats/report put it into a sentence. Findings are shown while a policy is typed, so each of
// them must be cheap: none goes through all laptops by itself.

package review

import (
	"cmp"
	"maps"
	"slices"
	"strings"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/search"
	"zenithridge.example/zridge/core/setting"
)

// FindingKind says what kind of oddness it is. Its words are part of the API.
type FindingKind string

const (
	WrongAlone   FindingKind = "wrong-alone"   // a check finds the policy's own values wrong together
	ForcedValue  FindingKind = "forced-value"  // another value of the policy forces this one
	ManyPurposes FindingKind = "many-purposes" // its settings are of areas that have nothing to do with each other
	NearlyKnown  FindingKind = "nearly-known"  // a typed identifier is nearly one that was read from a file
	TypedByHand  FindingKind = "typed-by-hand" // an identifier that should be read from a file
	SamePath     FindingKind = "same-path"     // another policy sets the same management node
	OtherSystems FindingKind = "other-systems" // none of the policy's platforms supports the setting
	ReachesAll   FindingKind = "reaches-all"   // the policy is for everyone
	WrongStore   FindingKind = "wrong-store"   // a certificate belongs into another list
	LeavesUnset  FindingKind = "leaves-unset"  // laptops that the policy no longer reaches have nothing set in its place
	OddCondition FindingKind = "odd-condition" // a part of the condition names what nobody has, or is never true
	Replaced     FindingKind = "replaced"      // the only certificate of an authority is replaced by another one
)

// Finding is one thing to say about a policy. It is data: the CLI, the reports and the console put
// it into a sentence. Which fields are used depends on the kind.
type Finding struct {
	Kind     FindingKind
	Settings []setting.ID   // that it is about
	Check    estate.CheckID // with WrongAlone
	Message  string         // with WrongAlone: the check's; with WrongStore: what the certificate is
	Warning  bool           // worth a look rather than wrong
	Value    setting.Value  // with ForcedValue: the value that will stand
	Found    string         // with NearlyKnown, TypedByHand and SamePath: the text; with WrongStore and Replaced: the certificate
	// with NearlyKnown: what it nearly is; with WrongStore: where it belongs; with Replaced: until
	// when the earlier one is valid
	Known  string
	Beside []estate.PolicyID
	Groups []Purpose // with ManyPurposes
	Remark *Remark   // with OddCondition
	// Devices is, with WrongAlone, how many of the policy's laptops it is found on together with
	// all else that reaches them; with ReachesAll, how many it reaches.
	Devices int
	Reached int // laptops that the policy reaches
}

// Baseline is the label of a policy that is meant to cover several areas: nobody is told to split
// it.
const Baseline = "baseline"

// Purpose is a part of a policy that serves one end.
type Purpose struct {
	Areas    []string
	Settings []setting.ID
}

// Known is what was read out of files, and what is live, beside which a policy is looked at. The
// zero Known knows nothing: then findings that need it are not made.
type Known struct {
	Files  Files
	Before *estate.Policy // as it is live; nil: it is new
	Live   impact.Side    // what is live; zero: not known
}

// Files has what was read out of files. It is asked only for what a policy needs: few policies have
// entries that hold files.
type Files interface {
	// Identifiers lists what was read from files of applications: what people should not retype.
	Identifiers() []string
	// Certificate gives what a file holds that has one certificate. sha256 names the file.
	Certificate(sha256 string) (c Certificate, read bool)
}

// identifiers lists those that are known.
func (k Known) identifiers() []string {
	if k.Files == nil {
		return nil
	}
	return k.Files.Identifiers()
}

// certificate gives what a file holds that has one certificate.
func (k Known) certificate(sha256 string) (Certificate, bool) {
	if k.Files == nil {
		return Certificate{}, false
	}
	return k.Files.Certificate(sha256)
}

// Certificate is what is known of an X.509 certificate.
type Certificate struct {
	Subject   string
	Rank      string // what it is, in words
	Root      bool   // signed by itself
	Authority bool   // may sign others
	NotAfter  estate.Date
}

// Findings lists what is odd about a policy of a side; use is what Look says of it. It is nil where
// there is no such policy. None of it keeps a policy from being published.
func Findings(side impact.Side, id estate.PolicyID, use *Use, known Known) []Finding {
	policy := side.Plan.Policy(id)
	if policy == nil {
		return nil
	}
	// The order of the calls is the order of the findings on the page: what is wrong comes before
	// what is merely worth a look.
	f := &finder{side: side, policy: policy, use: use}
	f.forced()
	f.checks()
	f.kinds()
	f.identifiers(known)
	f.certificates(known)
	f.unprotected(known)
	for _, remark := range Remarks(side.Plan, policy.Audience.When) {
		f.add(Finding{Kind: OddCondition, Remark: &remark, Warning: true})
	}
	f.paths()
	// A policy with the label baseline is meant to have several purposes.
	if groups := Purposes(side.Plan, policy); len(groups) > 1 && !slices.Contains(policy.Labels, Baseline) {
		f.add(Finding{Kind: ManyPurposes, Groups: groups, Warning: true})
	}
	// Either everyone is named, or the includes come to the same.
	if n := use.Reach.Gets.Len(); n > 0 &&
		(n == side.Resolution.Len() || slices.ContainsFunc(policy.Audience.Include,
			func(t estate.Target) bool { return t.Kind == estate.ToEveryone })) {
		f.add(Finding{Kind: ReachesAll, Devices: n, Warning: true})
	}
	return f.found
}

// finder gathers the findings of one policy. Its methods run one after the other; checks needs the
// values that forced leaves.
type finder struct {
	side   impact.Side
	policy *estate.Policy
	use    *Use
	values map[string]any // the policy's own, as expressions see them, after forcing
	found  []Finding
}

// add adds a finding, with how many laptops the policy reaches.
func (f *finder) add(one Finding) {
	one.Reached = f.use.Reach.Gets.Len()
	f.found = append(f.found, one)
}

// forced evaluates the forced values of the policy's settings over its own values, as a laptop with
// nothing else would. Nothing is known of the laptop, so conditions that read it fail, and do not
// force.
func (f *finder) forced() {
	// own is not altered: every condition sees the values as written, and no forced value causes
	// another.
	own := make(map[string]any, len(f.policy.Entries))
	for _, e := range f.policy.Entries {
		own[string(e.Setting)] = e.Value.Any()
	}
	f.values = maps.Clone(own)
	variables := map[string]any{"settings": own, "device": map[string]any{}}
	for _, e := range f.policy.Entries {
		d := f.side.Plan.Definition(e.Setting)
		if d == nil {
			continue
		}
		for _, force := range d.Forced {
			// The first condition that is true decides, as in resolution.
			holds, err := force.When.Holds(variables)
			if err != nil || !holds {
				continue
			}
			if !force.Value.Equal(e.Value) {
				f.values[string(e.Setting)] = force.Value.Any()
				f.add(
					Finding{
						Kind:     ForcedValue,
						Settings: []setting.ID{e.Setting},
						Value:    force.Value,
						Found:    e.Value.String(),
						Warning:  true,
					},
				)
			}
			break
		}
	}
}

// checks evaluates every check over the policy's own values. What is found is said with how many of
// the policy's laptops have it together with all else that reaches them: another policy may have
// what is missing here.
func (f *finder) checks() {
	variables := map[string]any{"settings": f.values, "device": map[string]any{}, "person": map[string]any{}}
	checks := f.side.Plan.Snapshot().Checks
	for i := range checks {
		c := &checks[i]
		// A check that concerns none of the policy's settings says nothing about it, nor does one
		// without a condition.
		if !slices.ContainsFunc(c.Settings, func(id setting.ID) bool { return f.policy.Entry(id) != nil }) || c.When == nil {
			continue
		}
		// Found in the policy's own values: nothing else is needed for it to be wrong.
		if holds, err := c.When.Holds(variables); err != nil || !holds {
			continue
		}
		// Only the settings that the policy has are marked in its form. The others of the check are
		// missing here.
		one := Finding{Kind: WrongAlone, Check: c.ID, Message: c.Message, Warning: c.Warning}
		for _, id := range c.Settings {
			if f.policy.Entry(id) != nil {
				one.Settings = append(one.Settings, id)
			}
		}
		others := map[estate.PolicyID]bool{}
		// Problems are what the check finds on laptops, with everything that reaches them.
		for _, p := range f.use.Problems {
			if p.Check == c.ID {
				one.Devices += p.Devices.Len()
			}
		}
		// Other policies may bring what is missing. They are named, so that the author can see
		// whether they do.
		for _, id := range c.Settings { // who has what is missing here, or another value instead of what is here
			for _, a := range ElsewhereOf(f.side, id, f.policy.ID, nil, f.use.Reach.Gets) {
				if a.Shared > 0 {
					others[a.Policy] = true
				}
			}
		}
		one.Beside = slices.Sorted(maps.Keys(others))
		f.add(one)
	}
	// Checks come in the order of the estate's list, which an import may alter. Findings of forced
	// values have no check and stay in front.
	slices.SortStableFunc(f.found, func(a, b Finding) int { return cmp.Compare(a.Check, b.Check) })
}

// kinds finds settings that none of the policy's platforms supports. A policy without platforms is
// for all of them, and a setting without rows of support is supported by all.
func (f *finder) kinds() {
	for _, e := range f.policy.Entries {
		d := f.side.Plan.Definition(e.Setting)
		if d == nil {
			continue
		}
		if len(f.policy.Platforms) > 0 && len(d.Supports) > 0 &&
			!slices.ContainsFunc(d.Supports, func(s setting.Support) bool { return slices.Contains(f.policy.Platforms, s.Platform) }) {
			f.add(Finding{Kind: OtherSystems, Settings: []setting.ID{e.Setting}})
		}
	}
}

// unprotected finds laptops that a policy which protects them reaches no longer, and that have
// nothing set in its place. It compares the live policy with the one that is being written.
func (f *finder) unprotected(known Known) {
	// Only a live policy of the kinds security and encryption can leave a laptop unprotected.
	was := known.Before
	if was == nil || known.Live.Plan == nil || was.Kind == setting.Configuration || was.State != estate.Active {
		return
	}
	if sameReach(was, f.policy) {
		return // most often only values are edited
	}
	plan := f.side.Plan
	// The laptops that the live policy applies to and the new one does not.
	left := known.Live.Plan.Applies(was.ID).In(plan).Without(plan.Applies(was.ID))
	if left.Len() == 0 {
		return
	}
	var settings []setting.ID
	var without resolve.Devices
	for _, e := range was.Entries {
		for _, h := range f.side.Resolution.States(e.Setting, left) {
			// The zero State: nothing brings the setting there any more.
			if h.Status == "" {
				settings, without = append(settings, e.Setting), without.Or(h.Devices)
			}
		}
	}
	if n := without.Len(); n > 0 {
		f.add(Finding{Kind: LeavesUnset, Settings: settings, Devices: n, Warning: true})
	}
}

// identifiers finds texts in columns that are read from files: typed by hand, or nearly one that is
// known.
func (f *finder) identifiers(known Known) {
	for _, e := range f.policy.Entries {
		d := f.side.Plan.Definition(e.Setting)
		if d == nil {
			continue
		}
		for _, row := range e.Value.Rows() {
			for i := range d.Columns {
				c := &d.Columns[i]
				text := row[c.Name].Text()
				if c.Reads != setting.ReadsIdentifier || text == "" {
					continue
				}
				// Only columns that are declared to hold identifiers are looked at.
				listed := known.identifiers()
				if slices.Contains(listed, text) {
					continue
				}
				// A text that nobody read from a file: it may be right. If a known one is nearly
				// the same, it is likely a mistake.
				one := Finding{Kind: TypedByHand, Settings: []setting.ID{e.Setting}, Found: text, Warning: true}
				for _, k := range listed {
					if search.Near(text, k) {
						one.Kind, one.Known, one.Warning = NearlyKnown, k, false
						break
					}
				}
				f.add(one)
			}
		}
	}
}

// paths finds management nodes that other active policies set as well. Rows of several policies
// are put together, so that two rows for one node are no conflict.
func (f *finder) paths() {
	for _, e := range f.policy.Entries {
		d := f.side.Plan.Definition(e.Setting)
		if d == nil {
			continue
		}
		for i := range d.Columns {
			c := &d.Columns[i]
			if c.Format != setting.NodePath {
				continue
			}
			for _, row := range e.Value.Rows() {
				if beside := f.alsoSetting(e.Setting, c.Name, row[c.Name].Text()); len(beside) > 0 {
					f.add(
						Finding{
							Kind:     SamePath,
							Settings: []setting.ID{e.Setting},
							Found:    row[c.Name].Text(),
							Beside:   beside,
							Warning:  true,
						},
					)
				}
			}
		}
	}
}

// alsoSetting lists the other active policies that have a node in the same column of a setting.
// Names of nodes are compared without regard to case.
func (f *finder) alsoSetting(id setting.ID, column, path string) (out []estate.PolicyID) {
	policies := f.side.Plan.Snapshot().Policies
	for i := range policies {
		p := &policies[i]
		e := p.Entry(id)
		if e == nil || p.ID == f.policy.ID || p.State != estate.Active {
			continue
		}
		if slices.ContainsFunc(e.Value.Rows(), func(row setting.Row) bool { return strings.EqualFold(row[column].Text(), path) }) {
			out = append(out, p.ID)
		}
	}
	return out
}

// together are areas that serve one end often enough that nobody should be told of it.
var together = [][]string{
	{"disk", "disk startup", "disk recovery"},
	{"sign-in", "accounts", "screen and presence"},
	{"firmware", "remote hardware management"},
	{"applications", "browser"},
	{"network", "trust"},
	{"updates", "power and backup", "system"},
}

// Purposes splits a policy's settings by what they are for, the purpose with most settings first. A
// policy of one purpose gives one. Settings without an area belong to none.
func Purposes(plan *resolve.Plan, policy *estate.Policy) []Purpose {
	at := map[int]*Purpose{}
	others := map[string]int{}
	for _, e := range policy.Entries {
		d := plan.Definition(e.Setting)
		if d == nil || d.Area == "" {
			continue
		}
		group := slices.IndexFunc(together, func(areas []string) bool { return slices.Contains(areas, d.Area) })
		// Areas that are not in the list are purposes of their own, numbered behind it.
		if group < 0 { // an area of its own
			if _, there := others[d.Area]; !there {
				others[d.Area] = len(together) + len(others)
			}
			group = others[d.Area]
		}
		if at[group] == nil {
			at[group] = &Purpose{}
		}
		if !slices.Contains(at[group].Areas, d.Area) {
			at[group].Areas = append(at[group].Areas, d.Area)
		}
		at[group].Settings = append(at[group].Settings, e.Setting)
	}
	// The largest purpose first: it is what the policy is for, and the others might move elsewhere.
	out := make([]Purpose, 0, len(at))
	for _, p := range at {
		slices.Sort(p.Areas)
		slices.Sort(p.Settings)
		out = append(out, *p)
	}
	slices.SortFunc(out, func(a, b Purpose) int {
		return cmp.Or(cmp.Compare(len(b.Settings), len(a.Settings)), slices.Compare(a.Areas, b.Areas))
	})
	return out
}
