package estate_test

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"testing"

	. "zenithridge.example/zridge/core/estate"
)

// laidPlainly lays edits over lists of devices and people in the obvious way.
func laidPlainly(devices []Device, people []Person, edits []Edit) ([]Device, []Person) {
	devices, people = slices.Clone(devices), slices.Clone(people)
	for _, e := range edits {
		if e.Kind == KindDevice {
			at := slices.IndexFunc(devices, func(d Device) bool { return string(d.ID) == e.ID })
			switch {
			case e.Object == nil && at >= 0:
				devices = slices.Delete(devices, at, at+1)
			case e.Object == nil:
			case at >= 0:
				devices[at] = e.Object.(Device)
			default:
				devices = append(devices, e.Object.(Device))
			}
			continue
		}
		at := slices.IndexFunc(people, func(p Person) bool { return string(p.ID) == e.ID })
		switch {
		case e.Object == nil && at >= 0:
			people = slices.Delete(people, at, at+1)
		case e.Object == nil:
		case at >= 0:
			people[at] = e.Object.(Person)
		default:
			people = append(people, e.Object.(Person))
		}
	}
	return devices, people
}

// values gives what a list of pointers points to.
func values[T any](list []*T) []T {
	out := make([]T, len(list))
	for i := range list {
		out[i] = *list[i]
	}
	return out
}

// TestEditsAreLaidAsOnPlainLists lays edits over edits, on snapshots that know where things stand
// and on ones that do not, and compares each with plain lists. What was laid over stays as it was,
// and what is not edited is shared.
func TestEditsAreLaidAsOnPlainLists(t *testing.T) {
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 7))
		s := &Snapshot{}
		var devices []Device
		var people []Person
		for i := range r.IntN(40) {
			devices = append(devices, Device{ID: DeviceID(fmt.Sprint("d", i))})
			people = append(people, Person{ID: PersonID(fmt.Sprint("p", i))})
		}
		for i := range devices {
			s.Devices, s.People = append(s.Devices, &devices[i]), append(s.People, &people[i])
		}
		devices, people = values(s.Devices), values(s.People)
		for step := range 25 {
			if r.IntN(3) == 0 {
				s = s.Indexed(s)
			}
			var edits []Edit
			for range 1 + r.IntN(5) {
				id := fmt.Sprint(r.IntN(60))
				e := Edit{Kind: KindDevice, ID: "d" + id}
				if r.IntN(2) == 0 {
					e = Edit{Kind: KindPerson, ID: "p" + id}
				}
				if r.IntN(4) > 0 && e.Kind == KindDevice {
					e.Object = Device{ID: DeviceID(e.ID), Model: fmt.Sprint(seed, step, id)}
				} else if r.IntN(4) > 0 && e.Kind == KindPerson {
					e.Object = Person{ID: PersonID(e.ID), Name: fmt.Sprint(seed, step, id)}
				}
				edits = append(edits, e)
			}
			before, beforePeople := slices.Clone(s.Devices), slices.Clone(s.People)
			next := s.With(edits...)
			devices, people = laidPlainly(devices, people, edits)
			if !slices.Equal(s.Devices, before) || !slices.Equal(s.People, beforePeople) {
				t.Fatalf("seed %d, step %d: what was laid over is not what it was", seed, step)
			}
			s = next
			if !sameObjects(values(s.Devices), devices) || !sameObjects(values(s.People), people) {
				t.Fatalf(
					"seed %d, step %d, after %+v: %v, expected %v; %v, expected %v",
					seed,
					step,
					edits,
					values(s.Devices),
					devices,
					values(s.People),
					people,
				)
			}
			for _, d := range s.Devices {
				if at := slices.IndexFunc(
					before,
					func(b *Device) bool { return b.ID == d.ID },
				); at >= 0 && before[at] != d &&
					!slices.ContainsFunc(edits, func(e Edit) bool { return e.ID == string(d.ID) }) {
					t.Fatalf("seed %d, step %d: %s was copied and not edited", seed, step, d.ID)
				}
			}
			for range 10 {
				id := DeviceID(fmt.Sprint("d", r.IntN(60)))
				at := slices.IndexFunc(devices, func(d Device) bool { return d.ID == id })
				if got := s.Device(id); (got == nil) != (at < 0) || got != nil && !reflect.DeepEqual(*got, devices[at]) {
					t.Fatalf("seed %d, step %d: %s is %v, expected at %d", seed, step, id, got, at)
				}
				who := PersonID(fmt.Sprint("p", r.IntN(60)))
				at = slices.IndexFunc(people, func(p Person) bool { return p.ID == who })
				if got := s.Person(who); (got == nil) != (at < 0) || got != nil && got.Name != people[at].Name {
					t.Fatalf("seed %d, step %d: %s is %v, expected at %d", seed, step, who, got, at)
				}
			}
		}
	}
}

// sameObjects compares lists in their order, by all that their objects say.
func sameObjects[T any](a, b []T) bool {
	return slices.EqualFunc(a, b, func(x, y T) bool { return reflect.DeepEqual(x, y) })
}

// TestAnotherOrderIsFoundAnew sorts a snapshot that knows where things stand, and cuts some out.
func TestAnotherOrderIsFoundAnew(t *testing.T) {
	s := (&Snapshot{Devices: []*Device{{ID: "b"}, {ID: "a"}}, People: []*Person{{ID: "y"}, {ID: "x"}}}).Indexed(&Snapshot{})
	s.Sort()
	if s.Devices[0].ID != "a" || s.Device("a") != s.Devices[0] || s.Person("y") != s.People[1] || s.Device("c") != nil {
		t.Errorf("sorted: %v %v", values(s.Devices), values(s.People))
	}
	s = s.Indexed(s)
	if cut := s.Only(
		[]*Device{s.Devices[1]},
		[]*Person{s.People[0]},
	); cut.Device("b") != s.Devices[1] || cut.Device("a") != nil || cut.Person("x") == nil ||
		cut.Person("y") != nil {
		t.Errorf("cut out: %v %v", values(cut.Devices), values(cut.People))
	}
	if more := s.With(Edit{Kind: KindDevice, ID: "c", Object: Device{ID: "c"}}); more.Device("c") != more.Devices[2] || s.Device("c") != nil {
		t.Errorf("one more: %v", values(more.Devices))
	}
}
