package adapter

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"zenithridge.example/zridge/core/setting"
)

// lid is what closing the lid does (systemd-logind).
func lid(h *Host) Adapter {
	does := choice("nothing", "ignore", "lock", "lock", "sleep", "suspend", "hibernate", "hibernate", "switch-off", "poweroff")
	return &dropIn{h, "/etc/systemd/logind.conf.d/50-zridge.conf", ini(), []entry{
		{"power.lid_battery", "Login", "HandleLidSwitch", does},
		{"power.lid_plugged", "Login", "HandleLidSwitchExternalPower", does},
	}, reload("systemd-logind")}
}

// sleep is which kinds of sleep there are (systemd-sleep reads it each time).
func sleep(h *Host) Adapter {
	return &dropIn{h, "/etc/systemd/sleep.conf.d/50-zridge.conf", ini(), []entry{
		{"power.hibernate", "Sleep", "AllowHibernation", truth("yes", "no")},
	}, nil}
}

// journal is how much is kept of what the system recorded (systemd-journald).
func journal(h *Host) Adapter {
	return &dropIn{h, "/etc/systemd/journald.conf.d/50-zridge.conf", ini(), []entry{
		{"system.audit_log_mb", "Journal", "SystemMaxUse", number(1, "", "M")},
	}, reload("systemd-journald")}
}

// crashes is whether the memory of a program that crashed is kept (systemd-coredump reads it each time).
func crashes(h *Host) Adapter {
	return &dropIn{h, "/etc/systemd/coredump.conf.d/50-zridge.conf", ini(), []entry{
		{"system.crash_reports", "Coredump", "Storage", truth("external", "none")},
	}, nil}
}

// clock is where the time comes from (systemd-timesyncd).
func clock(h *Host) Adapter {
	return &dropIn{h, "/etc/systemd/timesyncd.conf.d/50-zridge.conf", ini(), []entry{
		{"system.time_servers", "Time", "NTP", list()},
	}, reload("systemd-timesyncd")}
}

// resolver is by which servers names are looked up (systemd-resolved).
func resolver(h *Host) Adapter {
	return &dropIn{h, "/etc/systemd/resolved.conf.d/50-zridge.conf", ini(), []entry{
		{"network.name_servers", "Resolve", "DNS", list()},
		{"network.search_domains", "Resolve", "Domains", list()},
		{"network.encrypted_names", "Resolve", "DNSOverTLS", choice("off", "no", "where-possible", "opportunistic", "always", "yes")},
	}, reload("systemd-resolved")}
}

// language is the language of what people read.
func language(h *Host) Adapter {
	return &shared{h, "/etc/default/locale", "=", "", []entry{{"system.language", "", "LANG", plain()}}, nil}
}

// keyboard is the layout of the keyboard.
func keyboard(h *Host) Adapter {
	return &shared{h, "/etc/default/keyboard", "=", `"`, []entry{{"system.keyboard", "", "XKBLAYOUT", plain()}}, nil}
}

// hostName is the name of the laptop in the network.
func hostName(h *Host) Adapter {
	return &whole{h, "system.host_name", []string{"/etc/hostname"}, plain(), nil}
}

// updates is how unattended-upgrades downloads updates, and when it may restart the laptop.
func updates(h *Host) Adapter {
	return &dropIn{h, "/etc/apt/apt.conf.d/90zridge", lines(` "`, `";`), []entry{
		{"updates.restart_from", "", "Unattended-Upgrade::Automatic-Reboot-Time", plain()},
		{"updates.metered", "", "Unattended-Upgrade::Skip-Updates-On-Metered-Connections", truth("false", "true")},
	}, nil}
}

// banner is the text before sign-in, on the console and over the network. Backslashes would be taken for marks.
func banner(h *Host) Adapter {
	return &whole{h, "signin.banner", []string{"/etc/issue", "/etc/issue.net"}, word{
		func(v setting.Value) (string, bool) {
			return strings.ReplaceAll(v.Text(), `\`, `\\`), v.Kind() == setting.Text && !strings.Contains(v.Text(), "\x00")
		},
		func(text string) (setting.Value, bool) {
			return setting.TextValue(strings.ReplaceAll(text, `\\`, `\`)), true
		},
	}, nil}
}

// zoneOf is the time zone of the laptop: a link to the description of a zone. It is an Adapter.
type zoneOf struct{ host *Host }

func timeZone(h *Host) Adapter { return &zoneOf{h} }

const (
	localTime = "/etc/localtime"
	zoneInfo  = "/usr/share/zoneinfo/"
)

func (z *zoneOf) Settings() []setting.ID { return []setting.ID{"system.time_zone"} }

func (z *zoneOf) Read(setting.ID) (setting.Value, error) {
	if _, _, known, err := z.host.before(localTime); err != nil || !known {
		return setting.Value{}, err
	}
	to, err := os.Readlink(z.host.At(localTime))
	if err != nil {
		return setting.Value{}, nil // it is a file, or gone: not what was wanted
	}
	zone, _ := strings.CutPrefix(to, zoneInfo)
	return setting.TextValue(zone), nil
}

func (z *zoneOf) Apply(id setting.ID, v setting.Value) error {
	zone := v.Text()
	if zone == "" || !filepath.IsLocal(zone) {
		return &ValueError{id, v}
	}
	if _, err := os.Stat(z.host.At(zoneInfo + zone)); err != nil {
		return &ValueError{id, v}
	}
	to, err := os.Readlink(z.host.At(localTime))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := z.host.keep(localTime, to, err == nil); err != nil {
		return err
	}
	return z.host.symlink(localTime, zoneInfo+zone)
}

func (z *zoneOf) Withdraw(setting.ID) error {
	was, there, known, err := z.host.before(localTime)
	switch {
	case err != nil || !known:
		return err
	case there:
		err = z.host.symlink(localTime, was)
	default:
		err = z.host.remove(localTime)
	}
	if err != nil {
		return err
	}
	return z.host.forget(localTime)
}
