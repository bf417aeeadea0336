// This file reads an estate folder.

package files

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
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

// loader reads files into one snapshot and remembers where each object is.
type loader struct {
	decoder
	snapshot growing
	origins  map[estate.Kind][]*node // by place in the snapshot's list
	first    problem.Place           // the folder
	partial  map[string]bool         // files that could not be read, or not wholly: what is missed may be there
	root     string                  // of a folder that is read, links resolved
	paths    map[string]string       // where the files that values name lie, by SHA-256
	named    map[string]bool         // the paths by which values name files
}

func newLoader() *loader {
	return &loader{origins: map[estate.Kind][]*node{}, partial: map[string]bool{}}
}

func (l *loader) file(code problem.Code, name, found, expected string) {
	l.partial[name] = true
	l.refuse(code, "", problem.Place{File: name}, found, expected)
}

// folder reads all files below a folder, in path order. It tells whether there is such a folder.
func (l *loader) folder(folder string) bool {
	root, err := filepath.EvalSymlinks(folder)
	if err == nil {
		var info fs.FileInfo
		if info, err = os.Stat(root); err == nil && !info.IsDir() {
			l.file(problem.Unreadable, folder, "a file", "a folder")
			return false
		}
	}
	if err != nil {
		l.file(problem.Unreadable, folder, reason(err), "a folder with an estate")
		return false
	}
	l.first, l.root = problem.Place{File: folder}, root
	var names []string
	walked := filepath.WalkDir(root, func(path string, entry fs.DirEntry, err error) error {
		name, _ := filepath.Rel(root, path)
		if err != nil {
			l.file(problem.Unreadable, name, reason(err), "a file or folder that can be read")
			return nil
		}
		if entry.IsDir() {
			if entry.Name() == ".git" && path != root {
				return filepath.SkipDir
			}
			return nil
		}
		if entry.Type()&fs.ModeSymlink != 0 && !l.follow(root, path, name) {
			return nil
		}
		if wanted(name) {
			names = append(names, name)
		}
		return nil
	})
	if walked != nil {
		l.file(problem.Unreadable, folder, reason(walked), "a folder that can be read")
	}
	slices.Sort(names)
	for _, name := range names {
		l.read(filepath.Join(root, name), filepath.ToSlash(name))
	}
	l.leaveOutHeld()
	return true
}

// follow tells whether a symbolic link leads to a file inside of the folder; one that leads out is
// a fault.
func (l *loader) follow(root, path, name string) bool {
	to, err := filepath.EvalSymlinks(path)
	if err != nil {
		if wanted(name) {
			l.file(problem.Unreadable, name, "a link that leads nowhere", "a file")
		}
		return false
	}
	if rel, err := filepath.Rel(root, to); err != nil || rel == ".." || strings.HasPrefix(rel, ".."+string(filepath.Separator)) {
		l.file(problem.LinkOutside, name, "a link that leads out of the folder", "files inside of it")
		return false
	}
	info, err := os.Stat(to)
	return err == nil && !info.IsDir() // what lies in a folder inside is read where it is
}

func wanted(name string) bool {
	switch filepath.Ext(name) {
	case ".yaml", ".yml", ".json":
		return true
	}
	_, isTable := tables[name]
	return isTable
}

// reason gives the system's reason without the path, which the fault has already.
func reason(err error) string {
	var at *fs.PathError
	if errors.As(err, &at) {
		return at.Err.Error()
	}
	return err.Error()
}

func (l *loader) read(path, name string) {
	info, err := os.Stat(path)
	switch {
	case err != nil:
		l.file(problem.Unreadable, name, reason(err), "a file that can be read")
		return
	case !info.Mode().IsRegular():
		l.file(problem.Unreadable, name, "no regular file", "a file")
		return
	case info.Size() > maxFile:
		l.file(problem.TooLarge, name, fmt.Sprintf("%d bytes", info.Size()), "at most 64 MiB")
		return
	}
	data, err := os.ReadFile(path)
	if err != nil {
		l.file(problem.Unreadable, name, reason(err), "a file that can be read")
		return
	}
	l.content(name, data)
}

func (l *loader) content(name string, data []byte) {
	data = bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))
	if !utf8.Valid(data) {
		at := 0
		for at < len(data) {
			r, size := utf8.DecodeRune(data[at:])
			if r == utf8.RuneError && size == 1 {
				break
			}
			at += size
		}
		before := data[:at]
		l.partial[name] = true
		l.refuse(
			problem.Encoding,
			"",
			problem.Place{File: name, Line: 1 + bytes.Count(before, []byte("\n")), Column: at - bytes.LastIndexByte(before, '\n')},
			fmt.Sprintf("the byte %#02x", data[at]),
			"UTF-8",
		)
		return
	}
	var documents []*node
	var faults problem.Faults
	if t, isTable := tables[name]; isTable {
		documents, faults = parseCSV(name, t, data)
	} else if strings.HasSuffix(name, ".json") {
		documents, faults = parseJSON(name, data)
	} else {
		documents, faults = parseYAML(name, data)
	}
	l.faults = append(l.faults, faults...)
	for _, f := range faults {
		if f.Code != problem.Anchor {
			l.partial[name] = true
		}
	}
	for _, doc := range documents {
		if faults := controlCharacters(doc, "", nil); len(faults) > 0 {
			l.faults, l.partial[name] = append(l.faults, faults...), true
			continue
		}
		l.document(doc)
	}
}

// document adds the lists of one document to the snapshot.
func (l *loader) document(doc *node) {
	names := make([]string, len(estate.Kinds))
	for i, k := range estate.Kinds {
		names[i] = string(k)
	}
	o := l.object(doc, "", names...)
	if doc.kind != mapNode {
		l.partial[doc.place.File] = true
	}
	for _, kind := range estate.Kinds {
		if n := o.node.get(string(kind)); n == nil || n.kind == nothingNode {
			continue
		}
		o.list(string(kind), "objects", func(n *node, _ string) {
			at := problem.Join("", string(kind), len(l.origins[kind]))
			l.origins[kind] = append(l.origins[kind], n)
			l.snapshot.append(l.decode(kind, n, at))
		})
	}
}

// validate adds the faults that the core finds, with the places of what they are about. Where a
// field is reported already, or part of what is reported, nothing is added; nor is anything missed
// that may be in what could not be read.
func (l *loader) validate() {
	reported := make(map[string]bool, len(l.faults))
	for _, f := range l.faults {
		reported[f.Path] = f.Path != ""
	}
	for _, path := range l.muted {
		reported[path] = true
	}
	for _, f := range l.snapshot.Validate() {
		if isReported(reported, f.Path) || len(l.partial) > 0 && (f.Code == problem.NoRoot || f.Code == problem.UnknownReference) {
			continue
		}
		f.Place = l.placeOf(f)
		l.faults = append(l.faults, f)
	}
}

func isReported(reported map[string]bool, path string) bool {
	for path != "" {
		if reported[path] {
			return true
		}
		path = path[:strings.LastIndexByte(path, '/')]
	}
	return false
}

func (l *loader) placeOf(f problem.Fault) problem.Place {
	keys := problem.Split(f.Path)
	if len(keys) < 2 {
		if units := l.origins[estate.KindUnit]; len(units) > 0 {
			return units[0].place
		}
		return l.first
	}
	i, _ := strconv.Atoi(keys[1])
	origins := l.origins[estate.Kind(keys[0])]
	if i >= len(origins) {
		return l.first
	}
	byKey := f.Code == problem.UnknownReference && len(keys) == 4 && keys[2] == "settings" && keys[0] == string(estate.KindPolicy) ||
		f.Code == problem.ReservedName
	if value := keys; len(value) == 4 && keys[2] == "settings" && keys[0] == string(estate.KindPolicy) && !byKey {
		keys = append(slices.Clone(keys), "value") // of the long form; the short form has no such key and stays as it is
	}
	return origins[i].find(keys[2:], byKey)
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
