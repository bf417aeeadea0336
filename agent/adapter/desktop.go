package adapter

import (
	"errors"
	"io/fs"
	"os"
	"slices"
	"strings"

	"zenithridge.example/zridge/core/setting"
)

// desktop is settings of the desktop (dconf): each has a value in a database and a lock, so that nobody overrides
// it. The database counts for those whose profile names it, which none does on a fresh Debian. It is an Adapter.
type desktop struct {
	values, locks *dropIn
	profile       profile
}

func desktopOf(h *Host, database, people string, entries []entry) *desktop {
	folder := "/etc/dconf/db/" + database + ".d/"
	update := func(h *Host) error { return h.run("dconf", "update") }
	return &desktop{
		&dropIn{h, folder + "50-zridge", ini(), entries, nil},
		&dropIn{h, folder + "locks/50-zridge", lockFile(), entries, update}, // read last: one update for both
		profile{h, database, people},
	}
}

// lockFile is the format of dconf's locks: the paths of keys, one a line.
func lockFile() format {
	return format{
		func(string) map[place]string { return map[place]string{} }, // locks are made from what is set
		func(entries map[place]string) string {
			out := heading
			for _, at := range places(entries) {
				out += "/" + at.section + "/" + at.key + "\n"
			}
			return out
		},
	}
}

func (d *desktop) Settings() []setting.ID { return d.values.Settings() }

func (d *desktop) Read(id setting.ID) (setting.Value, error) {
	v, err := d.values.Read(id)
	if err != nil || v.IsNothing() {
		return v, err
	}
	e := entryOf(d.values.entries, id)
	if locked, err := d.locked(e.section, e.key); err != nil || !locked {
		return setting.Value{}, err // without the lock a person overrides it
	}
	return v, nil
}

// locked says whether a key of the database is in force, and nobody can override it.
func (d *desktop) locked(section, key string) (bool, error) {
	locks, _, err := d.values.host.read(d.locks.path)
	if err != nil || !hasLine(locks, "/"+section+"/"+key) {
		return false, err
	}
	return d.profile.named()
}

func (d *desktop) Apply(id setting.ID, v setting.Value) error {
	return errors.Join(d.values.Apply(id, v), d.finish())
}

func (d *desktop) Withdraw(id setting.ID) error {
	return errors.Join(d.values.Withdraw(id), d.finish())
}

// alter alters several keys at once.
func (d *desktop) alter(how func(map[place]string)) error {
	return errors.Join(d.values.alter(how), d.finish())
}

// finish locks what is set, and nothing else, and lets people's profile name the database while it has something.
func (d *desktop) finish() error {
	all, err := d.values.all()
	if err != nil {
		return err
	}
	err = d.locks.alter(func(locks map[place]string) {
		for at := range all {
			locks[at] = ""
		}
	})
	if err != nil {
		return err
	}
	if len(all) > 0 {
		return d.profile.add()
	}
	return d.profile.withdraw()
}

// profile is the list of databases that dconf reads for some people.
type profile struct {
	host     *Host
	database string
	people   string // name of the profile: "user" for who is signed in, "gdm" for the sign-in screen
}

func (p profile) path() string { return "/etc/dconf/profile/" + p.people }
func (p profile) line() string { return "system-db:" + p.database }

// named says whether the profile names the database.
func (p profile) named() (bool, error) {
	text, _, err := p.host.read(p.path())
	return hasLine(text, p.line()), err
}

// add puts the database behind the first one, which is the person's own. Without a profile of the administrator
// the one that came with the system counts.
func (p profile) add() error {
	text, there, err := p.host.read(p.path())
	if err != nil || hasLine(text, p.line()) {
		return err
	}
	if err := p.host.keep(p.path(), text, there); err != nil {
		return err
	}
	if !there {
		if text, there, err = p.host.read("/usr/share/dconf/profile/" + p.people); err != nil {
			return err
		}
	}
	if !there {
		text = "user-db:user\n"
	}
	first, rest, _ := strings.Cut(text, "\n")
	return p.host.write(p.path(), first+"\n"+p.line()+"\n"+rest, 0o644)
}

// withdraw restores the profile, and removes the database when nothing is left to make it from.
func (p profile) withdraw() error {
	if known, err := p.host.putBack(p.path()); err != nil || !known {
		return err
	}
	database := "/etc/dconf/db/" + p.database
	others, err := os.ReadDir(p.host.At(database + ".d"))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if !slices.ContainsFunc(others, func(e fs.DirEntry) bool { return !e.IsDir() }) {
		if err := p.host.remove(database); err != nil {
			return err
		}
	}
	return p.host.forget(p.path())
}
