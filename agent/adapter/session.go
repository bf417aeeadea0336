package adapter

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"zenithridge.example/zridge/core/setting"
)

const (
	scriptFolder  = "/usr/local/lib/zridge/"
	pictureFolder = "/usr/local/share/zridge/"
	sessionUnit   = "/etc/systemd/user/zridge-session.service"
	sessionWants  = "/etc/systemd/user/default.target.d/50-zridge.conf"
	gdmFile       = "/etc/gdm3/daemon.conf"
)

// content gives a file that a value names.
func (h *Host) content(v setting.Value) (string, error) {
	name := v.File().SHA256
	if !sum.MatchString(name) {
		return "", fmt.Errorf("found %q, expected the SHA-256 of a file", name)
	}
	data, err := os.ReadFile(filepath.Join(h.Files, name))
	return string(data), err
}

// startPrograms is what starts when a person signs in, and what runs when they sign out: scripts in a unit of systemd
// for each person, and programs by the desktop.
func startPrograms(h *Host) Adapter {
	return &bundle{
		host: h, name: "session", ids: []setting.ID{"signin.items", "signin.script_in", "signin.script_out"},
		files: func(h *Host, wanted values) (map[string]file, error) {
			files := map[string]file{}
			unit := ""
			for _, script := range []struct {
				id        setting.ID
				name, key string
			}{{"signin.script_in", "sign-in", "ExecStart"}, {"signin.script_out", "sign-out", "ExecStop"}} {
				v, is := wanted[script.id]
				if !is {
					continue
				}
				text, err := h.content(v)
				if err != nil {
					return nil, err
				}
				if !strings.HasPrefix(text, "#!") {
					return nil, &ValueError{script.id, v} // nothing says by what it is run
				}
				files[scriptFolder+script.name] = file{text: text, mode: 0o755}
				unit += script.key + "=" + scriptFolder + script.name + "\n"
			}
			if unit != "" {
				files[sessionUnit] = file{text: heading +
					"[Unit]\nDescription=Scripts of the company at sign-in and sign-out\nBefore=graphical-session-pre.target\n\n" +
					"[Service]\nType=oneshot\nRemainAfterExit=yes\n" + unit}
				files[sessionWants] = file{text: heading + "[Unit]\nWants=zridge-session.service\n"}
			}
			for i, row := range wanted["signin.items"].Rows() {
				text, ok := startEntry(row)
				if !ok {
					return nil, &ValueError{"signin.items", wanted["signin.items"]}
				}
				files[fmt.Sprintf("/etc/xdg/autostart/zridge-%d.desktop", i+1)] = file{text: text}
			}
			return files, nil
		},
	}
}

// startEntry gives an entry of the desktop that opens a program, a folder or an address. What has a window cannot be
// started without one.
func startEntry(row setting.Row) (text string, ok bool) {
	path := row["path"].Text()
	if row["hidden"].Bool() || path == "" || strings.ContainsAny(path, "\n\r\x00") {
		return "", false
	}
	// First as an argument between quotes, then as a text of the file.
	argument := `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "`", "\\`", `$`, `\$`, `%`, `%%`).Replace(path) + `"`
	if strings.HasSuffix(path, "/") || strings.Contains(path, "://") {
		argument = "xdg-open " + argument
	}
	name := strings.NewReplacer(`\`, `\\`).Replace(filepath.Base(path))
	return heading + "[Desktop Entry]\nType=Application\nName=" + name + "\nExec=" + strings.ReplaceAll(argument, `\`, `\\`) + "\n", true
}

// programID is the identifier of an application, which is the name of its entry.
var programID = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._+-]{0,254}$`)

// hiddenPrograms is applications that people do not see: an entry of the machine's own counts before that of the
// package.
func hiddenPrograms(h *Host) Adapter {
	const id = "applications.hidden"
	return &bundle{
		host: h, name: "hidden", ids: []setting.ID{id},
		files: func(_ *Host, wanted values) (map[string]file, error) {
			files := map[string]file{}
			for _, name := range wanted[id].Items() {
				if !programID.MatchString(name) {
					return nil, &ValueError{id, wanted[id]}
				}
				files["/usr/local/share/applications/"+strings.TrimSuffix(name, ".desktop")+".desktop"] = file{
					text: heading + "[Desktop Entry]\nType=Application\nName=" + name + "\nHidden=true\n",
				}
			}
			return files, nil
		},
		after: func(h *Host, _ map[string]file) error {
			return h.run("update-desktop-database", "-q", h.At("/usr/local/share/applications"))
		},
	}
}

// background is the picture behind everything, which a person cannot change. It is an Adapter.
type background struct {
	*desktop
	picture *bundle
}

const wallpaperSetting = "screen.wallpaper"

func wallpaper(h *Host) Adapter {
	return &background{desktopOf(h, "local", "user", nil), &bundle{
		host: h, name: "wallpaper", ids: []setting.ID{wallpaperSetting},
		files: func(h *Host, wanted values) (map[string]file, error) {
			v, is := wanted[wallpaperSetting]
			if !is {
				return nil, nil
			}
			text, err := h.content(v)
			return map[string]file{pictureOf(v): {text: text}}, err
		},
	}}
}

// pictureOf gives the path of a picture: a new picture has a new path, so that the desktop shows it.
func pictureOf(v setting.Value) string { return pictureFolder + "wallpaper-" + v.File().SHA256[:16] }

// pictureKeys are the keys for a bright and for a dark desktop.
var pictureKeys = [2]place{{"org/gnome/desktop/background", "picture-uri"}, {"org/gnome/desktop/background", "picture-uri-dark"}}

// Settings implements Adapter.
func (b *background) Settings() []setting.ID { return b.picture.ids }

// Read implements Adapter.
func (b *background) Read(id setting.ID) (setting.Value, error) {
	v, err := b.picture.Read(id)
	if err != nil || v.IsNothing() {
		return v, err
	}
	all, err := b.values.all()
	if err != nil {
		return setting.Value{}, err
	}
	for _, key := range pictureKeys {
		if all[key] != "'file://"+pictureOf(v)+"'" {
			return setting.Value{}, nil
		}
		if locked, err := b.locked(key.section, key.key); err != nil || !locked {
			return setting.Value{}, err
		}
	}
	return v, nil
}

// Apply implements Adapter.
func (b *background) Apply(id setting.ID, v setting.Value) error {
	if v.Kind() != setting.FileKind || !sum.MatchString(v.File().SHA256) {
		return &ValueError{id, v}
	}
	if err := b.picture.Apply(id, v); err != nil {
		return err
	}
	return b.alter(func(all map[place]string) {
		for _, key := range pictureKeys {
			all[key] = "'file://" + pictureOf(v) + "'"
		}
	})
}

// Withdraw implements Adapter.
func (b *background) Withdraw(id setting.ID) error {
	err := b.alter(func(all map[place]string) {
		for _, key := range pictureKeys {
			delete(all, key)
		}
	})
	if err != nil {
		return err
	}
	return b.picture.Withdraw(id)
}

// automaticSignIn is the account that the laptop starts into (gdm).
func automaticSignIn(h *Host) Adapter {
	const on, account = "signin.automatic", "signin.automatic_account"
	return &bundle{
		host: h, name: "automatic", ids: []setting.ID{on, account},
		files: func(h *Host, wanted values) (map[string]file, error) {
			if len(wanted) == 0 {
				return nil, nil
			}
			text, _, known, err := h.before(gdmFile)
			if !known && err == nil {
				text, _, err = h.read(gdmFile)
			}
			if err != nil {
				return nil, err
			}
			lines := ""
			if v, is := wanted[on]; is {
				word, ok := truth("true", "false").to(v)
				if !ok {
					return nil, &ValueError{on, v}
				}
				lines += "AutomaticLoginEnable=" + word + "\n"
			}
			if v, is := wanted[account]; is {
				if !accountName.MatchString(v.Text()) {
					return nil, &ValueError{account, v}
				}
				lines += "AutomaticLogin=" + v.Text() + "\n"
			}
			return map[string]file{gdmFile: {text: inSection(text, "daemon", lines)}}, nil
		},
	}
}

// inSection gives a file with lines at the beginning of a section, in the place of those with the same keys.
func inSection(text, section, lines string) string {
	keys := map[string]bool{}
	for line := range strings.Lines(lines) {
		key, _, _ := strings.Cut(line, "=")
		keys[key] = true
	}
	var out strings.Builder
	inside, found := false, false
	for line := range strings.Lines(text) {
		trimmed := strings.TrimSpace(line)
		if key, _, _ := strings.Cut(trimmed, "="); inside && keys[strings.TrimSpace(key)] {
			continue
		}
		out.WriteString(line)
		if strings.HasPrefix(trimmed, "[") {
			if inside = trimmed == "["+section+"]"; inside && !found {
				found = true
				out.WriteString(lines)
			}
		}
	}
	if found {
		return out.String()
	}
	if out.Len() > 0 && !strings.HasSuffix(text, "\n") {
		out.WriteString("\n")
	}
	return out.String() + "[" + section + "]\n" + lines
}

// rememberedPeople is for how long people of the directory may sign in without it (sssd).
func rememberedPeople(h *Host) Adapter {
	const id = "accounts.cached_days"
	return &bundle{
		host: h, name: "remembered", ids: []setting.ID{id},
		files: func(_ *Host, wanted values) (map[string]file, error) {
			v, is := wanted[id]
			switch {
			case !is:
				return nil, nil
			case v.Kind() != setting.Integer:
				return nil, &ValueError{id, v}
			}
			return map[string]file{"/etc/sssd/conf.d/50-zridge.conf": {
				text: heading + fmt.Sprintf("[pam]\noffline_credentials_expiration = %d\n", v.Integer()), mode: 0o600,
			}}, nil
		},
		after: func(h *Host, _ map[string]file) error { return h.run("systemctl", "try-restart", "sssd.service") },
	}
}

// chargeLimit is the part of the kernel by which a battery is not charged full.
const chargeLimit = "/sys/class/power_supply/BAT*/charge_control_end_threshold"

// batteries is how far batteries are charged (the kernel, by systemd-tmpfiles at each start).
func batteries(h *Host) Adapter {
	const id, path = "power.charge_limit_percent", "/etc/tmpfiles.d/zridge-battery.conf"
	return &bundle{
		host: h, name: "batteries", ids: []setting.ID{id},
		files: func(_ *Host, wanted values) (map[string]file, error) {
			v, is := wanted[id]
			switch {
			case !is:
				return nil, nil
			case v.Kind() != setting.Integer || v.Integer() < 1 || v.Integer() > 100:
				return nil, &ValueError{id, v}
			}
			return map[string]file{path: {text: fmt.Sprintf("%sw %s - - - - %d\n", heading, chargeLimit, v.Integer())}}, nil
		},
		after: func(h *Host, files map[string]file) error {
			if _, is := files[path]; is {
				return h.run("systemd-tmpfiles", "--create", h.At(path))
			}
			all, err := filepath.Glob(h.At(chargeLimit))
			for _, at := range all {
				if err = os.WriteFile(at, []byte("100"), 0o644); err != nil {
					break
				}
			}
			return err
		},
		force: func(h *Host, wanted values) (bool, error) {
			all, err := filepath.Glob(h.At(chargeLimit))
			for _, at := range all {
				data, err := os.ReadFile(at)
				if err != nil || strings.TrimSpace(string(data)) != fmt.Sprint(wanted[id].Integer()) {
					return false, err
				}
			}
			return len(all) > 0, err
		},
	}
}
