// This file reads an estate folder.

package files

import (
	"fmt"
	"io/fs"
	"unicode/utf8"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/setting"
)

// maxFile is the size of the largest file that is read, in bytes.
const maxFile = 64 << 20

// Dictionary is what an estate adds to: the definitions and checks that ship with the service. An
// estate's own definition or check with the id of a shipped one replaces it.
type Dictionary struct {
	Settings []setting.Definition
	Checks   []estate.Check
}

// Read loads an estate folder over a dictionary. The error is a problem.Faults with all that is
// wrong, sorted by place; then nothing is loaded. The snapshot's day is left open.
func Read(folder string, shipped Dictionary) (*estate.Snapshot, error) {
	s, _, err := ReadWithFiles(folder, shipped)
	return s, err
}

// ReadWithFiles is Read that also says where the files that values name lie, by their SHA-256.
func ReadWithFiles(folder string, shipped Dictionary) (s *estate.Snapshot, paths map[string]string, err error) {
	l := newLoader()
	l.paths, l.named = map[string]string{}, map[string]bool{}
	l.decoder.file = l.hold
	if !l.folder(folder) {
		return nil, nil, l.faults
	}
	l.snapshot.add(shipped)
	l.validate()
	l.checkContents()
	if len(l.faults) > 0 {
		l.faults.Sort()
		return nil, nil, l.faults
	}
	return &l.snapshot.Snapshot, l.paths, nil
}

// ReadDictionary loads definitions and checks from files of the estate format, the form in which
// the shipped ones are kept.
func ReadDictionary(from fs.FS) (Dictionary, error) {
	l := newLoader()
	names, err := fs.Glob(from, "*.yaml")
	if err != nil {
		return Dictionary{}, err
	}
	for _, name := range names {
		data, err := fs.ReadFile(from, name)
		if err != nil {
			return Dictionary{}, err
		}
		l.content(name, data)
	}
	l.snapshot.Units = []estate.Unit{{ID: "root"}} // so that the rest can be validated
	l.validate()
	if len(l.faults) > 0 {
		l.faults.Sort()
		return Dictionary{}, l.faults
	}
	d := Dictionary{l.snapshot.Settings, l.snapshot.Checks}
	for i := range d.Settings {
		d.Settings[i].Shipped = true
	}
	for i := range d.Checks {
		d.Checks[i].Shipped = true
	}
	return d, nil
}

// DecodeJSON reads one object of a kind in the estate format, with its id. The error is a
// problem.Faults whose paths start at the object. What needs the rest of the estate is not checked.
func DecodeJSON(kind estate.Kind, data []byte) (object any, id string, err error) {
	return decodeJSON(kind, data, true)
}

// decodeJSON is DecodeJSON. What was stored before control characters were refused is read all the
// same, where it is not strict.
func decodeJSON(kind estate.Kind, data []byte, strict bool) (object any, id string, err error) {
	if !utf8.Valid(data) {
		return nil, "", problem.Faults{{Code: problem.Encoding, Found: "bytes that are not UTF-8", Expected: "UTF-8"}}
	}
	documents, faults := parseJSON("", data)
	if len(faults) == 0 && len(documents) != 1 {
		faults = problem.Faults{{Code: problem.Syntax, Found: fmt.Sprintf("%d values", len(documents)), Expected: "one JSON object"}}
	}
	if len(faults) == 0 && strict {
		faults = controlCharacters(documents[0], "", nil)
	}
	if len(faults) > 0 {
		return nil, "", faults
	}
	d := &decoder{}
	object = d.decode(kind, documents[0], "")
	if len(d.faults) > 0 {
		d.faults.Sort()
		return nil, "", d.faults
	}
	return object, ObjectID(object), nil
}

// ObjectID gives the id of an object of the estate.
func ObjectID(object any) string {
	switch o := object.(type) {
	case estate.Unit:
		return string(o.ID)
	case estate.Person:
		return string(o.ID)
	case estate.Device:
		return string(o.ID)
	case estate.Group:
		return string(o.ID)
	case estate.Policy:
		return string(o.ID)
	case estate.Exception:
		return string(o.ID)
	case estate.Ruling:
		return string(o.ID)
	case setting.Definition:
		return string(o.ID)
	case estate.Check:
		return string(o.ID)
	case estate.RolloutPlan:
		return string(o.ID)
	case estate.ApprovalRule:
		return string(o.ID)
	case estate.Baseline:
		return string(o.ID)
	}
	panic(fmt.Sprintf("files: %T is no object of an estate", object))
}

func (d *decoder) decode(kind estate.Kind, n *node, path string) any {
	switch kind {
	case estate.KindUnit:
		return d.unit(n, path)
	case estate.KindPerson:
		return d.person(n, path)
	case estate.KindDevice:
		return d.device(n, path)
	case estate.KindGroup:
		return d.group(n, path)
	case estate.KindPolicy:
		return d.policy(n, path)
	case estate.KindException:
		return d.exception(n, path)
	case estate.KindRuling:
		return d.ruling(n, path)
	case estate.KindSetting:
		return d.definition(n, path)
	case estate.KindRolloutPlan:
		return d.plan(n, path)
	case estate.KindApprovalRule:
		return d.approvalRule(n, path)
	case estate.KindBaseline:
		return d.baseline(n, path)
	default:
		return d.check(n, path)
	}
}

// growing is a snapshot to which objects are added in the order of the input.
type growing struct{ estate.Snapshot }

func (g *growing) append(object any) {
	switch o := object.(type) {
	case estate.Unit:
		g.Units = append(g.Units, o)
	case estate.Person:
		g.People = append(g.People, &o)
	case estate.Device:
		g.Devices = append(g.Devices, &o)
	case estate.Group:
		g.Groups = append(g.Groups, o)
	case estate.Policy:
		g.Policies = append(g.Policies, o)
	case estate.Exception:
		g.Exceptions = append(g.Exceptions, o)
	case estate.Ruling:
		g.Rulings = append(g.Rulings, o)
	case setting.Definition:
		g.Settings = append(g.Settings, o)
	case estate.Check:
		g.Checks = append(g.Checks, o)
	case estate.RolloutPlan:
		g.RolloutPlans = append(g.RolloutPlans, o)
	case estate.ApprovalRule:
		g.ApprovalRules = append(g.ApprovalRules, o)
	case estate.Baseline:
		g.Baselines = append(g.Baselines, o)
	}
}

// add appends what ships, behind the estate's own so that places in lists stay those of the files.
func (g *growing) add(shipped Dictionary) {
	own := make(map[setting.ID]bool, len(g.Settings))
	for i := range g.Settings {
		own[g.Settings[i].ID] = true
	}
	for _, d := range shipped.Settings {
		if !own[d.ID] {
			g.Settings = append(g.Settings, d)
		}
	}
	ownChecks := make(map[estate.CheckID]bool, len(g.Checks))
	for i := range g.Checks {
		ownChecks[g.Checks[i].ID] = true
	}
	for _, c := range shipped.Checks {
		if !ownChecks[c.ID] {
			g.Checks = append(g.Checks, c)
		}
	}
}

// Assemble makes a snapshot of objects, over a dictionary. It does not validate.
func Assemble(objects []any, shipped Dictionary) *estate.Snapshot {
	var g growing
	for _, o := range objects {
		g.append(o)
	}
	g.add(shipped)
	return &g.Snapshot
}

// ReadJSON loads an estate from one JSON document in the estate format. The error is a
// problem.Faults.
func ReadJSON(data []byte, shipped Dictionary) (*estate.Snapshot, error) {
	l := newLoader()
	l.content("estate.json", data)
	l.snapshot.add(shipped)
	l.validate()
	if len(l.faults) > 0 {
		l.faults.Sort()
		return nil, l.faults
	}
	return &l.snapshot.Snapshot, nil
}

// Object is an object of an estate with its kind.
type Object struct {
	Kind  estate.Kind
	Value any
}

// ReadObjects reads the objects of one file of the estate format, by themselves: what needs the
// rest of an estate is not checked. The error is a problem.Faults.
func ReadObjects(name string, data []byte) ([]Object, error) {
	l := newLoader()
	l.content(name, data)
	if len(l.faults) > 0 {
		l.faults.Sort()
		return nil, l.faults
	}
	var out []Object
	for _, kind := range estate.Kinds {
		for _, o := range AllObjects(&l.snapshot.Snapshot, kind) {
			out = append(out, Object{kind, o})
		}
	}
	return out, nil
}
