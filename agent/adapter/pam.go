package adapter

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"zenithridge.example/zridge/core/setting"
)

const (
	pamProfiles = "/usr/share/pam-configs/" // what pam-auth-update puts together
	accessFile  = "/etc/security/zridge-access.conf"
)

// pamBundle is settings that need steps of sign-in (PAM) of their own; steps gives a part of each, by the file in which it
// must be. pam-auth-update puts these in place. Where somebody wrote the files of PAM by hand it does not, and the
// settings are not in force.
func pamBundle(h *Host, name string, ids []setting.ID, files func(*Host, values) (map[string]file, error),
	steps func(values) map[string]string) *bundle {
	return &bundle{
		host: h, name: name, ids: ids, files: files,
		before: func(h *Host, gone []string) error {
			for _, at := range gone {
				if strings.HasPrefix(at, pamProfiles) {
					if err := h.run("pam-auth-update", "--package", "--remove", path.Base(at)); err != nil {
						return err
					}
				}
			}
			return nil
		},
		after: func(h *Host, files map[string]file) error {
			if len(files) == 0 {
				return nil
			}
			return h.run("pam-auth-update", "--package")
		},
		force: func(h *Host, wanted values) (bool, error) {
			for file, step := range steps(wanted) {
				if text, _, err := h.read("/etc/pam.d/" + file); err != nil || !strings.Contains(text, step) {
					return false, err
				}
			}
			return true, nil
		},
	}
}

// pamProfile is a profile of pam-auth-update: in one of the steps of sign-in it adds lines.
func pamProfile(title, step, kind string, priority int, first, later []string) file {
	text := fmt.Sprintf("Name: %s\nDefault: yes\nPriority: %d\n%s-Type: %s\n%s:\n", title, priority, step, kind, step)
	for _, line := range later {
		text += "\t" + line + "\n"
	}
	if first != nil {
		text += step + "-Initial:\n"
		for _, line := range first {
			text += "\t" + line + "\n"
		}
	}
	return file{text: text}
}

// access is who may sign in (pam_access). Accounts of the system, root and local administrators always may.
func access(h *Host) Adapter {
	return pamBundle(h, "access", []setting.ID{"signin.allowed", "signin.denied"}, func(_ *Host, wanted values) (map[string]file, error) {
		if len(wanted) == 0 {
			return nil, nil
		}
		text := heading + "+:(" + sudoGroup + "):ALL\n"
		if denied, is := wanted["signin.denied"]; is {
			names, ok := accessNames(denied)
			if !ok {
				return nil, &ValueError{"signin.denied", denied}
			}
			for _, name := range names {
				text += "-:" + name + ":ALL\n"
			}
		}
		if allowed, is := wanted["signin.allowed"]; is {
			names, ok := accessNames(allowed)
			if !ok {
				return nil, &ValueError{"signin.allowed", allowed}
			}
			for _, name := range names {
				text += "+:" + name + ":ALL\n"
			}
			text += "-:ALL:ALL\n"
		}
		return map[string]file{
			accessFile: {text: text},
			pamProfiles + "zridge-access": pamProfile("Who may sign in", "Account", "Additional", 300, nil, []string{
				"[success=1 default=ignore]\tpam_succeed_if.so quiet uid < 1000",
				"required\tpam_access.so accessfile=" + accessFile + " listsep=,",
			}),
		}, nil
	}, func(values) map[string]string {
		return map[string]string{"common-account": "pam_access.so accessfile=" + accessFile}
	})
}

// accessNames gives the names of a list as pam_access reads them: of an account, or of a group.
func accessNames(v setting.Value) (names []string, ok bool) {
	special := func(name string) bool {
		return !accountName.MatchString(name) || slices.Contains([]string{"ALL", "NONE", "EXCEPT", "LOCAL"}, name) || strings.HasPrefix(name, "@")
	}
	return v.Items(), v.Kind() == setting.List && !slices.ContainsFunc(v.Items(), special)
}

// history is how many earlier passwords are refused (pam_pwhistory).
func history(h *Host) Adapter {
	const id = "accounts.password_history"
	return pamBundle(h, "history", []setting.ID{id}, func(_ *Host, wanted values) (map[string]file, error) {
		v, is := wanted[id]
		switch {
		case !is:
			return nil, nil
		case v.Kind() != setting.Integer || v.Integer() < 0:
			return nil, &ValueError{id, v}
		}
		line := fmt.Sprintf("requisite\tpam_pwhistory.so remember=%d enforce_for_root", v.Integer())
		return map[string]file{
			pamProfiles + "zridge-history": pamProfile("Earlier passwords are refused", "Password", "Primary", 900, []string{line},
				[]string{line + " use_authtok"}),
		}, nil
	}, func(wanted values) map[string]string {
		return map[string]string{"common-password": fmt.Sprintf("pam_pwhistory.so remember=%d ", wanted[id].Integer())}
	})
}

// counted is settings of faillock, which count only where sign-in asks pam_faillock: on a fresh Debian it does not. It
// is an Adapter.
type counted struct {
	*shared
	steps *bundle
}

func lockout(h *Host) Adapter {
	const enabled = "faillock"
	return &counted{
		&shared{h, "/etc/security/faillock.conf", " = ", "", []entry{
			{"accounts.lockout_failures", "", "deny", number(1, "", "")},
			{"accounts.lockout_minutes", "", "unlock_time", number(60, "", "")},
			{"accounts.lockout_window_minutes", "", "fail_interval", number(60, "", "")},
		}, nil},
		pamBundle(h, enabled, []setting.ID{enabled}, func(_ *Host, wanted values) (map[string]file, error) {
			if len(wanted) == 0 {
				return nil, nil
			}
			before := pamProfile("An account is locked after wrong passwords: before the password", "Auth", "Primary", 1000, nil,
				[]string{"requisite\tpam_faillock.so preauth"})
			before.text += "Account-Type: Primary\nAccount:\n\trequired\tpam_faillock.so\n"
			after := pamProfile("An account is locked after wrong passwords: after the password", "Auth", "Primary", 0, nil,
				[]string{"[default=die]\tpam_faillock.so authfail"})
			return map[string]file{pamProfiles + "zridge-lockout-before": before, pamProfiles + "zridge-lockout-after": after}, nil
		}, func(values) map[string]string { return map[string]string{"common-auth": "pam_faillock.so authfail"} }),
	}
}

// Read implements Adapter.
func (c *counted) Read(id setting.ID) (setting.Value, error) {
	asked, err := c.steps.Read(c.steps.ids[0])
	if err != nil || asked.IsNothing() {
		return setting.Value{}, err
	}
	return c.shared.Read(id)
}

// Apply implements Adapter.
func (c *counted) Apply(id setting.ID, v setting.Value) error {
	if err := c.shared.Apply(id, v); err != nil {
		return err
	}
	return c.steps.Apply(c.steps.ids[0], setting.BoolValue(true))
}

// Withdraw implements Adapter. The steps go with the last of the settings.
func (c *counted) Withdraw(id setting.ID) error {
	if err := c.shared.Withdraw(id); err != nil {
		return err
	}
	for _, e := range c.entries {
		if _, _, managed, err := c.host.before(c.path + "/" + e.key); err != nil || managed {
			return err
		}
	}
	return c.steps.Withdraw(c.steps.ids[0])
}
