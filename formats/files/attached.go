// This file has the files that values name: found in a folder, checked against what their setting
// needs, and placed in an export.

package files

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/contents"
)

// MaxHeld is the size of the largest file that a value may name in a folder, in bytes.
const MaxHeld = 32 << 20

// hold finds a file by its path in the folder, and remembers where it lies. A path or link that
// leads out of the folder is refused.
func (l *loader) hold(name string, _ problem.Place) (f setting.File, found, expected string) {
	const want = "the path of a file inside of this folder"
	if name == "" || strings.Contains(name, "\\") || filepath.IsAbs(name) || !filepath.IsLocal(filepath.FromSlash(name)) {
		return f, problem.Quote(name), want
	}
	real, err := filepath.EvalSymlinks(filepath.Join(l.root, filepath.FromSlash(name)))
	if err != nil {
		return f, problem.Quote(name) + ", which is not there", want
	}
	if inside, err := filepath.Rel(l.root, real); err != nil || !filepath.IsLocal(inside) {
		return f, problem.Quote(name) + ", a link that leads out of the folder", want
	}
	info, err := os.Stat(real)
	switch {
	case err != nil:
		return f, problem.Quote(name) + ": " + reason(err), want
	case !info.Mode().IsRegular():
		return f, problem.Quote(name) + ", no regular file", want
	case info.Size() > MaxHeld:
		return f, fmt.Sprintf("%s, %d bytes", problem.Quote(name), info.Size()), "a file of at most 32 MiB"
	}
	data, err := os.ReadFile(real)
	if err != nil {
		return f, problem.Quote(name) + ": " + reason(err), want
	}
	sum := sha256.Sum256(data)
	f = setting.File{SHA256: hex.EncodeToString(sum[:]), Name: path.Base(name), Size: int64(len(data))}
	l.paths[f.SHA256] = real
	l.named[path.Clean(name)] = true
	return f, "", ""
}

// leaveOutHeld drops what was said of files that values name: a rule set in JSON is no file of the
// estate, though its name ends like one.
func (l *loader) leaveOutHeld() {
	if len(l.named) == 0 {
		return
	}
	l.faults = slices.DeleteFunc(l.faults, func(f problem.Fault) bool { return l.named[f.Place.File] })
	for name := range l.named {
		delete(l.partial, name)
	}
}

// checkContents reads the files that policies and exceptions name, where their setting says what
// must be in them. Validity in time is not judged: a folder is kept for years.
func (l *loader) checkContents() {
	definitions := make(map[setting.ID]*setting.Definition, len(l.snapshot.Settings))
	for i := range l.snapshot.Settings {
		definitions[l.snapshot.Settings[i].ID] = &l.snapshot.Settings[i]
	}
	for i := range l.snapshot.Policies {
		for _, e := range l.snapshot.Policies[i].Entries {
			l.checkFiles(definitions[e.Setting], problem.Join("", string(estate.KindPolicy), i, "settings", string(e.Setting)), e.Value)
		}
	}
	for i := range l.snapshot.Exceptions {
		e := &l.snapshot.Exceptions[i]
		l.checkFiles(definitions[e.Setting], problem.Join("", string(estate.KindException), i, "value"), e.Value)
	}
	for i := range l.snapshot.Baselines {
		for _, item := range l.snapshot.Baselines[i].Items {
			l.checkFiles(definitions[item.Setting], problem.Join("", string(estate.KindBaseline), i, "settings", string(item.Setting)), item.Value)
		}
	}
}

func (l *loader) checkFiles(d *setting.Definition, path string, v setting.Value) {
	if d == nil {
		return
	}
	v.EachFile(func(at []any, f setting.File) {
		data, err := os.ReadFile(l.paths[f.SHA256])
		if err != nil {
			return // reported where it was named
		}
		var refused problem.Faults
		if _, err := contents.Read(f.Name, data, contents.Options{Expect: d.ContentAt(at)}); errors.As(err, &refused) {
			for _, fault := range refused {
				fault.Path = problem.Join(path, at...)
				fault.Place = l.placeOf(fault)
				l.faults = append(l.faults, fault)
			}
		}
	})
}

// withFiles gives an object with each file that its values name replaced.
func withFiles(object any, f func(setting.File) setting.File) any {
	switch o := object.(type) {
	case estate.Policy:
		o.Entries = slices.Clone(o.Entries)
		for i := range o.Entries {
			o.Entries[i].Value = o.Entries[i].Value.WithFiles(f)
		}
		return o
	case estate.Exception:
		o.Value = o.Value.WithFiles(f)
		return o
	case estate.Baseline:
		o.Items = slices.Clone(o.Items)
		for i := range o.Items {
			o.Items[i].Value = o.Items[i].Value.WithFiles(f)
		}
		return o
	case setting.Definition:
		o.Default = o.Default.WithFiles(f)
		return o
	}
	return object
}

// FilesOf lists the files that the values of an estate name, by SHA-256.
func FilesOf(s *estate.Snapshot) []setting.File {
	found := map[string]setting.File{}
	note := func(f setting.File) setting.File {
		if first, there := found[placeOfFile(f)]; !there || f.Size > first.Size {
			found[placeOfFile(f)] = f
		}
		return f
	}
	for i := range s.Policies {
		withFiles(s.Policies[i], note)
	}
	for i := range s.Exceptions {
		withFiles(s.Exceptions[i], note)
	}
	for i := range s.Baselines {
		withFiles(s.Baselines[i], note)
	}
	for i := range s.Settings {
		if !s.Settings[i].Shipped {
			withFiles(s.Settings[i], note)
		}
	}
	out := make([]setting.File, 0, len(found))
	for _, place := range slices.Sorted(maps.Keys(found)) {
		out = append(out, found[place])
	}
	return out
}

// placedFile names a file by its place in an exported folder, and by its own name where that could
// not be used there.
func placedFile(f setting.File) setting.File {
	out := setting.File{SHA256: placeOfFile(f)}
	if path.Base(out.SHA256) != f.Name {
		out.Name = f.Name
	}
	return out
}

var oddInNames = regexp.MustCompile(`[^A-Za-z0-9._-]+`)

// placeOfFile is where a file is in an exported folder: below a folder named for its contents, so
// that two files of one name don't meet. Its ending is such that it is not read as a file of the
// estate.
func placeOfFile(f setting.File) string {
	name := strings.Trim(oddInNames.ReplaceAllString(f.Name, "-"), ".-")
	if name == "" {
		name = "file"
	}
	return "files/" + f.SHA256[:min(16, len(f.SHA256))] + "/" + name
}
