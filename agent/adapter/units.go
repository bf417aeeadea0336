package adapter

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"zenithridge.example/zridge/core/setting"
)

// unit is a setting that lets units of systemd run, or keeps them from it.
type unit struct {
	id    setting.ID
	links map[string]string // by path: what a link leads to where the units may not run
	// runs are the links by which a unit runs from the start; empty: others start it when they need it. The units must
	// be installed then.
	runs  map[string]string
	names []string // of units of the system that are started and stopped
}

// units is services that run or do not (systemd). A unit that leads to nowhere cannot be started by anybody. It is an
// Adapter.
type units struct {
	host *Host
	of   []unit
}

const nowhere = "/dev/null"

func services(h *Host) Adapter {
	masked := func(folder string, names ...string) map[string]string {
		out := map[string]string{}
		for _, name := range names {
			out["/etc/systemd/"+folder+"/"+name] = nowhere
		}
		return out
	}
	return &units{h, []unit{
		{"system.remote_shell", masked("system", "ssh.service", "ssh.socket"),
			map[string]string{"/etc/systemd/system/multi-user.target.wants/ssh.service": "/lib/systemd/system/ssh.service"},
			[]string{"ssh.service"}},
		{"system.remote_desktop", masked("system", "xrdp.service"),
			map[string]string{"/etc/systemd/system/multi-user.target.wants/xrdp.service": "/lib/systemd/system/xrdp.service"},
			[]string{"xrdp.service"}},
		{"firmware.updates", masked("system", "fwupd-refresh.timer", "fwupd.service"), nil, []string{"fwupd.service"}},
		{"media.bluetooth_files", masked("user", "obex.service"), nil, nil},
		{"media.nearby_sharing", masked("user", "gnome-user-share-webdav.service", "rygel.service"), nil, nil},
	}}
}

func (u *units) Settings() []setting.ID {
	out := make([]setting.ID, len(u.of))
	for i := range u.of {
		out[i] = u.of[i].id
	}
	return out
}

func (u *units) one(id setting.ID) *unit {
	return &u.of[slices.IndexFunc(u.of, func(x unit) bool { return x.id == id })]
}

// link gives what a link leads to; empty where there is none, with what else is there.
func (u *units) link(path string) (to string) {
	to, err := os.Readlink(u.host.At(path))
	if err != nil {
		return "" // nothing, or a file
	}
	return to
}

// Read implements Adapter.
func (u *units) Read(id setting.ID) (setting.Value, error) {
	if _, _, known, err := u.host.before(string(id)); err != nil || !known {
		return setting.Value{}, err
	}
	x := u.one(id)
	leads := 0
	for path := range x.links {
		if u.link(path) == nowhere {
			leads++
		}
	}
	switch leads {
	case len(x.links):
		return setting.BoolValue(false), nil
	case 0:
	default:
		return setting.Value{}, nil // one of them may run
	}
	for path, wanted := range x.runs {
		if u.link(path) != wanted {
			return setting.Value{}, nil
		}
	}
	return setting.BoolValue(true), nil
}

// Apply implements Adapter.
func (u *units) Apply(id setting.ID, v setting.Value) error {
	x := u.one(id)
	if v.Kind() != setting.Bool {
		return &ValueError{id, v}
	}
	for _, file := range x.runs {
		if _, err := os.Stat(u.host.At(file)); err != nil && v.Bool() {
			return &ValueError{id, v} // it is not installed
		}
	}
	if err := u.host.keep(string(id), "", true); err != nil {
		return err
	}
	for path, to := range x.links {
		if err := u.replace(path, map[bool]string{false: to}[v.Bool()]); err != nil {
			return err
		}
	}
	for path, to := range x.runs {
		if err := u.replace(path, map[bool]string{true: to}[v.Bool()]); err != nil {
			return err
		}
	}
	return u.reload(x, v.Bool())
}

// reload lets systemd know, and starts or stops what runs.
func (u *units) reload(x *unit, run bool) error {
	if err := u.host.run("systemctl", "daemon-reload"); err != nil {
		return err
	}
	for _, name := range x.names {
		switch {
		case !run:
			if err := u.host.run("systemctl", "stop", name); err != nil {
				return err
			}
		case len(x.runs) > 0:
			if err := u.host.run("systemctl", "start", name); err != nil {
				return err
			}
		}
	}
	return nil
}

// replace puts a link in the place of what is at a path, or nothing, and keeps what was there.
func (u *units) replace(path, to string) error {
	was := u.link(path)
	there := was != ""
	if was = "-> " + was; !there {
		var err error
		if was, there, err = u.host.read(path); err != nil {
			return err
		}
	}
	if err := u.host.keep(path, was, there); err != nil {
		return err
	}
	return u.put(path, to)
}

func (u *units) put(path, to string) error {
	if to == "" {
		return u.host.remove(path)
	}
	return u.host.symlink(path, to)
}

// Withdraw implements Adapter.
func (u *units) Withdraw(id setting.ID) error {
	x := u.one(id)
	if _, _, known, err := u.host.before(string(id)); err != nil || !known {
		return err
	}
	for _, links := range []map[string]string{x.links, x.runs} {
		for path := range links {
			was, there, known, err := u.host.before(path)
			if err != nil || !known {
				return err
			}
			if to, is := strings.CutPrefix(was, "-> "); is || !there {
				err = u.put(path, to)
			} else {
				err = errors.Join(u.host.remove(path), u.host.write(path, was, 0o644))
			}
			if err != nil {
				return err
			}
		}
	}
	if err := u.host.run("systemctl", "daemon-reload"); err != nil {
		return err
	}
	for _, links := range []map[string]string{x.links, x.runs} {
		for path := range links {
			if err := u.host.forget(path); err != nil {
				return err
			}
		}
	}
	return u.host.forget(string(id))
}

// symlink replaces a link as a whole.
func (h *Host) symlink(path, to string) error {
	at := h.At(path)
	if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
		return err
	}
	fresh := at + ".zridge"
	if err := os.Remove(fresh); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := os.Symlink(to, fresh); err != nil {
		return err
	}
	return os.Rename(fresh, at)
}
