// This file reads the files of an estate folder, and gathers faults with their places.

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
)

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
