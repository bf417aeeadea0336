package adapter

import (
	"errors"
	"strings"

	"zenithridge.example/zridge/core/setting"
)

// shared is a file of the system in which lines are ours and others are not: keys with values, of which the
// last line counts. Withdraw restores the line that was there before. It is an Adapter.
type shared struct {
	host    *Host
	path    string
	between string // between a key and its value; lines are read with any spaces there
	quote   string // around values
	entries []entry
	after   func(*Host) error
}

func (s *shared) Settings() []setting.ID { return idsOf(s.entries) }

// value gives the value of a line with a key; is is false for other lines.
func (s *shared) value(line, key string) (value string, is bool) {
	line = strings.TrimSpace(line)
	rest, is := strings.CutPrefix(line, key)
	if !is || rest == "" || !strings.ContainsAny(rest[:1], " \t=") {
		return "", false
	}
	return strings.Trim(strings.TrimSpace(strings.TrimLeft(rest, " \t=")), s.quote), true
}

func (s *shared) Read(id setting.ID) (setting.Value, error) {
	text, _, err := s.host.read(s.path)
	if err != nil {
		return setting.Value{}, err
	}
	e := entryOf(s.entries, id)
	var v setting.Value
	for line := range strings.Lines(text) {
		if is, found := s.value(line, e.key); found {
			v, _ = e.from(is)
		}
	}
	return v, nil
}

func (s *shared) Apply(id setting.ID, v setting.Value) error {
	e := entryOf(s.entries, id)
	is, ok := e.to(v)
	if !ok {
		return &ValueError{id, v}
	}
	text, there, err := s.host.read(s.path)
	if err != nil {
		return err
	}
	if !there { // it is made for us
		if err := s.host.keep(s.path, "", false); err != nil {
			return err
		}
	}
	was := s.linesOf(text, e.key)
	if err := s.host.keep(s.path+"/"+e.key, was, was != ""); err != nil {
		return err
	}
	return s.replace(s.with(text, e.key, e.key+s.between+s.quote+is+s.quote+"\n"))
}

// linesOf gives the lines of a file that have a key.
func (s *shared) linesOf(text, key string) (out string) {
	for line := range strings.Lines(text) {
		if _, is := s.value(line, key); is {
			out += line
		}
	}
	return out
}

// with gives a file with some lines in the place of those that have a key; at its end where it has none.
func (s *shared) with(text, key, lines string) string {
	var out strings.Builder
	done := false
	for line := range strings.Lines(text) {
		if _, is := s.value(line, key); !is {
			out.WriteString(line)
		} else if !done {
			out.WriteString(lines)
			done = true
		}
	}
	if !done && lines != "" {
		if out.Len() > 0 && !strings.HasSuffix(text, "\n") {
			out.WriteString("\n")
		}
		out.WriteString(lines)
	}
	return out.String()
}

func (s *shared) Withdraw(id setting.ID) error {
	e := entryOf(s.entries, id)
	name := s.path + "/" + e.key
	was, _, known, err := s.host.before(name)
	if err != nil || !known {
		return err
	}
	text, _, err := s.host.read(s.path)
	if err != nil {
		return err
	}
	_, _, made, err := s.host.before(s.path)
	if err != nil {
		return err
	}
	if text = s.with(text, e.key, was); text == "" && made {
		err = errors.Join(s.host.remove(s.path), s.host.forget(s.path))
	} else {
		err = s.replace(text)
	}
	if err != nil {
		return err
	}
	return s.host.forget(name)
}

func (s *shared) replace(text string) error {
	if err := s.host.write(s.path, text, 0o644); err != nil || s.after == nil {
		return err
	}
	return s.after(s.host)
}

// whole is files that have a setting and nothing else. Withdraw restores them as they were before. It is an
// Adapter.
type whole struct {
	host  *Host
	id    setting.ID
	paths []string // all have the same text
	word
	after func(*Host) error
}

func (w *whole) Settings() []setting.ID { return []setting.ID{w.id} }

func (w *whole) Read(setting.ID) (setting.Value, error) {
	if _, _, known, err := w.host.before(w.paths[0]); err != nil || !known {
		return setting.Value{}, err // what is there is the system's own
	}
	// All files are alike where nobody altered one. Otherwise one that is not as it was written says what was found.
	written, _, _, err := w.host.before(w.written())
	if err != nil {
		return setting.Value{}, err
	}
	found := written
	for _, path := range w.paths {
		text, there, err := w.host.read(path)
		if err != nil || !there {
			return setting.Value{}, err
		}
		if text != written {
			found = text
		}
	}
	v, _ := w.from(strings.TrimSuffix(found, "\n"))
	return v, nil
}

// written is the name under which it is kept what was written last.
func (w *whole) written() string { return string(w.id) + ".written" }

func (w *whole) Apply(id setting.ID, v setting.Value) error {
	text, ok := w.to(v)
	if !ok {
		return &ValueError{id, v}
	}
	if err := w.host.forget(w.written()); err != nil {
		return err
	}
	if err := w.host.keep(w.written(), text+"\n", true); err != nil {
		return err
	}
	for _, path := range w.paths {
		was, there, err := w.host.read(path)
		if err != nil {
			return err
		}
		if err := w.host.keep(path, was, there); err != nil {
			return err
		}
		if err := w.host.write(path, text+"\n", 0o644); err != nil {
			return err
		}
	}
	if w.after == nil {
		return nil
	}
	return w.after(w.host)
}

func (w *whole) Withdraw(setting.ID) error {
	for _, path := range w.paths {
		if _, err := w.host.putBack(path); err != nil {
			return err
		}
	}
	if w.after != nil {
		if err := w.after(w.host); err != nil {
			return err
		}
	}
	for _, path := range w.paths {
		if err := w.host.forget(path); err != nil {
			return err
		}
	}
	return w.host.forget(w.written())
}
