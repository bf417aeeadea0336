// This file walks through random edits of an estate of several blocks of laptops: what is made of
// the plan before must be what is made from nothing, and an edit that is checked by itself must
// find what a look at everything finds.

package resolve_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"testing"

	"zenithridge.example/zridge/core/estate"
	. "zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/demo/world"
)

// worldEdits makes one edit, or several at once, of any kind.
func worldEdits(r *rand.Rand, s *estate.Snapshot) (out []estate.Edit, what string) {
	for range 1 + r.IntN(2) {
		if n := r.IntN(len(edits) + 3); n < len(edits) {
			out = append(out, edits[n].make(r, s, r.IntN(len(s.Policies))))
			what += edits[n].name + " "
		} else {
			d := *s.Devices[r.IntN(len(s.Devices))]
			switch n - len(edits) {
			case 0:
				d.Unit = pick(r, s.Units).ID
			case 1:
				d.Owner, d.OSVersion = pick(r, s.People).ID, "9.9"
			default:
				d.ID = estate.DeviceID(fmt.Sprintf("new%d", r.IntN(50)))
			}
			out = append(out, estate.Edit{Kind: estate.KindDevice, ID: string(d.ID), Object: d})
			what += "device "
		}
	}
	return out, what
}

// sameWhole says what differs between two resolutions of which the one was made of the other with
// nothing altered: nothing must.
func sameWhole(a, b *EstateResolution) string {
	if d := Differ(
		b,
		a,
	); len(d.Alterations)+len(d.ConflictsGained)+len(d.ConflictsCleared)+len(d.ProblemsGained)+len(d.ProblemsCleared)+len(d.Movements) > 0 {
		return fmt.Sprintf(
			"%d alterations, %d and %d conflicts, %d movements",
			len(d.Alterations),
			len(d.ConflictsGained),
			len(d.ConflictsCleared),
			len(d.Movements),
		)
	}
	return ""
}

// TestEditsOfALargeEstate takes the steps from ZRIDGE_EDITS and the laptops from ZRIDGE_LAPTOPS, so
// that 1,000 edits at 100,000 laptops can be tried too; by default a few at three blocks of
// laptops. With ZRIDGE_EVERY=5 every fifth step is compared: what went wrong in between would stand
// there still, since each plan is made of the one before. An edit that has faults is refused, as a
// service would.
func TestEditsOfALargeEstate(t *testing.T) {
	t.Parallel()
	number := func(name string, otherwise int) int {
		if n, err := strconv.Atoi(os.Getenv(name)); err == nil {
			return n
		}
		return otherwise
	}
	usual := 60
	if testing.Short() {
		usual = 10
	}
	laptops, steps := number("ZRIDGE_LAPTOPS", 9000), number("ZRIDGE_EDITS", usual)
	every := number("ZRIDGE_EVERY", 1)
	size := world.Size{Devices: laptops, Units: 60, Groups: 150, Policies: 120, Settings: 400}
	if laptops > 20_000 {
		size = world.Of(laptops)
	}
	s := world.Make(size, 5)
	plan := Compile(s)
	plan.Estate()
	r := rand.New(rand.NewPCG(8, 9))
	for step := range steps {
		list, what := worldEdits(r, s)
		next := s.With(list...)
		made := plan.With(next)
		there := func(kind estate.Kind, id string) bool {
			if kind == estate.KindDevice {
				return made.Device(estate.DeviceID(id)) != nil
			}
			return made.Person(estate.PersonID(id)) != nil
		}
		faults, ok := next.ValidateEdits(list, there)
		whole := made.Estate()
		if step%every == 0 || len(faults) > 0 || !ok || step == steps-1 {
			if d := statesDiffer(r, next, whole, Compile(next).Estate()); d != "" {
				t.Fatalf("step %d, %s: %s", step, what, d)
			}
			if all := next.Validate(); !ok || len(faults) != len(all) {
				t.Fatalf("step %d, %s: checked by itself it has %v, among everything %v", step, what, faults, all)
			}
		}
		if d := laptopsDiffer(r, plan.Estate(), whole); d != "" {
			t.Fatalf("step %d, %s: %s", step, what, d)
		}
		if step%10 == 0 { // a plan that is made of it with nothing altered differs in nothing
			if d := sameWhole(whole, made.With(next.With()).Estate()); d != "" {
				t.Fatalf("step %d, %s: %s", step, what, d)
			}
		}
		if len(faults) == 0 {
			if s, plan = next, made; step%2 == 0 { // with what finds laptops by their ids, and without
				s = made.Snapshot()
			}
		}
	}
}

// laptopsDiffer compares what Differ says of some laptops, of all blocks, with what they have
// before and after.
func laptopsDiffer(r *rand.Rand, before, after *EstateResolution) string {
	d := Differ(before, after)
	laptops := d.Devices.IDs()
	r.Shuffle(len(laptops), func(i, j int) { laptops[i], laptops[j] = laptops[j], laptops[i] })
	laptops = laptops[:min(len(laptops), 5)]
	for range 5 {
		laptops = append(laptops, pick(r, after.Plan().Snapshot().Devices).ID)
	}
	wrong := Devices{}
	for _, found := range slices.Concat(d.ProblemsGained, d.ProblemsCleared) {
		wrong = wrong.Or(found.Devices)
	}
	for _, dev := range laptops {
		told := map[string]bool{}
		for _, a := range d.Alterations {
			if a.Devices.Has(dev) {
				told[turnWords(a.Setting, dev, a.From, a.To)] = true
			}
		}
		is := 0
		for i := range after.Plan().Snapshot().Settings {
			id := after.Plan().Snapshot().Settings[i].ID
			if a, b := before.State(id, dev), after.State(id, dev); !a.Equal(b) {
				if is++; !told[turnWords(id, dev, a, b)] {
					return fmt.Sprintf("%s of %s alters from %v to %v, which is not told", id, dev, a, b)
				}
			}
		}
		if is != len(told) || d.Devices.Has(dev) != (is > 0 || wrong.Has(dev)) {
			return fmt.Sprintf("%d settings of %s alter, %d are told, it is among those that do: %v", is, dev, len(told), d.Devices.Has(dev))
		}
	}
	return ""
}

// statesDiffer compares what settings come out as, setting by setting as sets of laptops, and what
// is found of the estate.
func statesDiffer(r *rand.Rand, s *estate.Snapshot, a, b *EstateResolution) string {
	for i := range s.Settings {
		id := s.Settings[i].ID
		x, y := a.States(id, a.Plan().All()), b.States(id, b.Plan().All())
		if len(x) != len(y) {
			return fmt.Sprintf("%s has %d states, from nothing %d", id, len(x), len(y))
		}
		for j := range x {
			if !x[j].Equal(y[j].State) || x[j].Devices.Len() != y[j].Devices.Len() {
				return fmt.Sprintf("%s is %v on %d laptops, from nothing %v on %d", id, x[j].State, x[j].Devices.Len(), y[j].State, y[j].Devices.Len())
			}
			if r.IntN(20) == 0 && !slices.Equal(x[j].Devices.IDs(), y[j].Devices.IDs()) {
				return fmt.Sprintf("%s is %v on other laptops", id, x[j].State)
			}
		}
	}
	for i := range s.Policies {
		if x, y := a.Plan().Applies(s.Policies[i].ID), b.Plan().Applies(s.Policies[i].ID); x.Len() != y.Len() {
			return fmt.Sprintf("%s applies to %d laptops, from nothing to %d", s.Policies[i].ID, x.Len(), y.Len())
		}
	}
	told := func(w *EstateResolution) (out []string) {
		for _, c := range w.Conflicts() {
			out = append(out, fmt.Sprint(c.Setting, c.Policies, c.Devices.Len(), len(c.Values)))
		}
		for _, p := range w.Problems() {
			out = append(out, fmt.Sprint(p.Check, p.From, p.Devices.Len()))
		}
		return out
	}
	if x, y := told(a), told(b); !slices.Equal(x, y) {
		return fmt.Sprintf("found %v, from nothing %v", x, y)
	}
	return ""
}
