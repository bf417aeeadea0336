package adapter

import (
	"encoding/json"
	"maps"
	"os"
	"slices"

	"zenithridge.example/zridge/core/setting"
)

// values is what is wanted of some settings.
type values map[setting.ID]setting.Value

// file is a file that is made from values.
type file struct {
	text string
	mode os.FileMode // 0: everybody reads it
}

// bundle is files that are made from several settings together, where no single line belongs to one of them. A
// setting is in force where all files are as they are made from what is wanted. It is an Adapter.
type bundle struct {
	host *Host
	name string // under which it is kept what is wanted
	ids  []setting.ID
	// files makes the files, by their paths. The error is a *ValueError where the part of the system has no such
	// value. Without values there are no files.
	files func(*Host, values) (map[string]file, error)
	// before is told which files will be removed. nil: nobody needs to know.
	before func(h *Host, gone []string) error
	// after lets the system read the files that are there now. nil: it reads them by itself.
	after func(h *Host, files map[string]file) error
	// force asks the system whether what the files say is in force. nil: the files alone are. It is asked only where
	// programs of the system can be run.
	force func(h *Host, wanted values) (bool, error)
}

// bundleState is what is kept of a bundle.
type bundleState struct {
	Wanted values   `json:"wanted"`
	Paths  []string `json:"paths"` // of all files that may be ours
}

func (b *bundle) Settings() []setting.ID { return b.ids }

func (b *bundle) state() (s bundleState, err error) {
	text, _, known, err := b.host.before(b.name)
	if err == nil && known {
		err = json.Unmarshal([]byte(text), &s)
	}
	if s.Wanted == nil {
		s.Wanted = values{}
	}
	return s, err
}

func (b *bundle) keep(s bundleState) error {
	if len(s.Paths) == 0 {
		return b.host.forget(b.name)
	}
	text, err := json.Marshal(s)
	if err != nil {
		return err
	}
	return WriteFile(b.host.kept(b.name), append([]byte("present\n"), text...), 0o600)
}

// Read implements Adapter.
func (b *bundle) Read(id setting.ID) (setting.Value, error) {
	s, err := b.state()
	v, wanted := s.Wanted[id]
	if err != nil || !wanted {
		return setting.Value{}, err
	}
	files, err := b.files(b.host, s.Wanted)
	if err != nil {
		return setting.Value{}, nil // what it was made from is gone: it has to be put right
	}
	for path, f := range files {
		if text, there, err := b.host.read(path); err != nil || !there || text != f.text {
			return setting.Value{}, err
		}
	}
	if b.force != nil && b.host.Command != nil {
		if is, err := b.force(b.host, s.Wanted); err != nil || !is {
			return setting.Value{}, err
		}
	}
	return v, nil
}

// Apply implements Adapter.
func (b *bundle) Apply(id setting.ID, v setting.Value) error {
	return b.alter(func(wanted values) { wanted[id] = v })
}

// Withdraw implements Adapter.
func (b *bundle) Withdraw(id setting.ID) error {
	s, err := b.state()
	if err != nil || len(s.Paths) == 0 {
		return err
	}
	return b.alter(func(wanted values) { delete(wanted, id) })
}

// alter makes the files anew. Which files may be ours is on the disk before the first one is: after an interruption
// none is forgotten.
func (b *bundle) alter(how func(values)) error {
	s, err := b.state()
	if err != nil {
		return err
	}
	wanted := maps.Clone(s.Wanted)
	how(wanted)
	files, err := b.files(b.host, wanted)
	if err != nil {
		return err
	}
	paths := slices.Sorted(maps.Keys(files))
	var gone []string
	for _, path := range s.Paths {
		if _, stays := files[path]; !stays {
			gone = append(gone, path)
		}
	}
	if err := b.keep(bundleState{s.Wanted, slices.Compact(slices.Sorted(slices.Values(append(slices.Clone(paths), gone...))))}); err != nil {
		return err
	}
	if b.before != nil && len(gone) > 0 {
		if err := b.before(b.host, gone); err != nil {
			return err
		}
	}
	for _, path := range gone {
		if err := b.host.restore(path); err != nil {
			return err
		}
	}
	for _, path := range paths {
		if err := b.write(path, files[path]); err != nil {
			return err
		}
	}
	if b.after != nil {
		if err := b.after(b.host, files); err != nil {
			return err
		}
	}
	return b.keep(bundleState{wanted, paths})
}

func (b *bundle) write(path string, f file) error {
	was, there, err := b.host.read(path)
	if err != nil {
		return err
	}
	if err := b.host.keep(path, was, there); err != nil {
		return err
	}
	mode := f.mode
	if mode == 0 {
		mode = 0o644
	}
	return b.host.write(path, f.text, mode)
}

// restore puts a file back as it was before the first Apply, and forgets that copy once the file is back.
func (h *Host) restore(path string) error {
	if known, err := h.putBack(path); err != nil || !known {
		return err
	}
	return h.forget(path)
}

// putBack writes a file as it was before the first Apply, and removes one that was not there. It keeps the copy, so that
// it can be called again when a later step fails. known is false where no copy was kept: the file is left alone.
func (h *Host) putBack(path string) (known bool, err error) {
	was, there, known, err := h.before(path)
	switch {
	case err != nil || !known:
		return known, err
	case there:
		return true, h.write(path, was, 0o644)
	default:
		return true, h.remove(path)
	}
}
