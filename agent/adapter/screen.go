package adapter

import (
	"errors"

	"zenithridge.example/zridge/core/setting"
)

// desktop is settings of the desktop (dconf): each has a value in a database and a lock, so that nobody overrides
// it. It is an Adapter.
type desktop struct {
	values, locks *dropIn
}

// screen is the lock screen and what leads to it, for everybody who signs in.
func screen(h *Host) Adapter {
	const session, saver, notifications, power = "org/gnome/desktop/session", "org/gnome/desktop/screensaver", "org/gnome/desktop/notifications",
		"org/gnome/settings-daemon/plugins/power"
	return desktopOf(h, "local", []entry{
		{"screen.lock", saver, "lock-enabled", truth("true", "false")},
		{"screen.lock_after_minutes", session, "idle-delay", number(60, "uint32 ", "")},
		{"screen.password_after_seconds", saver, "lock-delay", number(1, "uint32 ", "")},
		{"screen.notifications_locked", notifications, "show-in-lock-screen", truth("true", "false")},
		{"power.sleep_battery_minutes", power, "sleep-inactive-battery-timeout", number(60, "", "")},
		{"power.sleep_plugged_minutes", power, "sleep-inactive-ac-timeout", number(60, "", "")},
		{"signin.switch_person", "org/gnome/desktop/lockdown", "disable-user-switching", truth("false", "true")},
		{"media.printing", "org/gnome/desktop/lockdown", "disable-printing", truth("false", "true")},
	})
}

// signInScreen is the screen on which people sign in (gdm).
func signInScreen(h *Host) Adapter {
	const login = "org/gnome/login-screen"
	return desktopOf(h, "gdm", []entry{
		{"signin.hide_last_person", login, "disable-user-list", truth("true", "false")},
		{"signin.shut_down", login, "disable-restart-buttons", truth("false", "true")},
		{"signin.fingerprint", login, "enable-fingerprint-authentication", truth("true", "false")},
	})
}

func desktopOf(h *Host, database string, entries []entry) *desktop {
	folder := "/etc/dconf/db/" + database + ".d/"
	update := func(h *Host) error { return h.run("dconf", "update") }
	return &desktop{
		&dropIn{h, folder + "50-zridge", ini(), entries, nil},
		&dropIn{h, folder + "locks/50-zridge", lockFile(), entries, update}, // read last: one update for both
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
	locks, _, err := d.values.host.read(d.locks.path)
	if err != nil || !hasLine(locks, "/"+e.section+"/"+e.key) {
		return setting.Value{}, err // without the lock a person overrides it
	}
	return v, nil
}

func (d *desktop) Apply(id setting.ID, v setting.Value) error {
	return errors.Join(d.values.Apply(id, v), d.lock())
}

func (d *desktop) Withdraw(id setting.ID) error {
	return errors.Join(d.values.Withdraw(id), d.lock())
}

// lock locks what is set, and nothing else.
func (d *desktop) lock() error {
	all, err := d.values.all()
	if err != nil {
		return err
	}
	return d.locks.alter(func(locks map[place]string) {
		for at := range all {
			locks[at] = ""
		}
	})
}
