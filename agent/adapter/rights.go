package adapter

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"zenithridge.example/zridge/core/setting"
)

const (
	sudoRule      = "/etc/sudoers.d/zridge"
	adminRule     = "/etc/polkit-1/rules.d/10-zridge-administrators.rules"
	groupFile     = "/etc/group"
	shadowGroups  = "/etc/gshadow"
	sudoGroup     = "sudo"
	adminsSetting = "accounts.local_administrators"
)

// elevation is whether administrators give their password when they do something as root (sudo).
func elevation(h *Host) Adapter {
	rule := choice("silent", "%sudo ALL=(ALL:ALL) NOPASSWD: ALL", "password", "%sudo ALL=(ALL:ALL) PASSWD: ALL")
	return &bundle{
		host: h, name: "elevation", ids: []setting.ID{"accounts.elevation"},
		files: func(_ *Host, wanted values) (map[string]file, error) {
			v, is := wanted["accounts.elevation"]
			if !is {
				return nil, nil
			}
			text, ok := rule.to(v)
			if !ok {
				return nil, &ValueError{"accounts.elevation", v}
			}
			return map[string]file{sudoRule: {text: heading + text + "\n", mode: 0o440}}, nil
		},
	}
}

// administrators is who may do everything on the laptop: the members of the group sudo, and groups and accounts of
// the directory. It is an Adapter.
type administrators struct {
	host  *Host
	rules *bundle // of sudo and polkit, for those whom the laptop's own group cannot have
}

func localAdministrators(h *Host) Adapter {
	return &administrators{h, &bundle{
		host: h, name: "administrators", ids: []setting.ID{adminsSetting},
		files: func(_ *Host, wanted values) (map[string]file, error) {
			v, is := wanted[adminsSetting]
			if !is {
				return nil, nil
			}
			sudo, polkit := heading, []string{`"unix-user:root"`}
			for _, name := range v.Items() {
				if !accountName.MatchString(name) {
					return nil, &ValueError{adminsSetting, v}
				}
				escaped := strings.ReplaceAll(name, " ", `\ `)
				sudo += fmt.Sprintf("%s ALL=(ALL:ALL) ALL\n%%%s ALL=(ALL:ALL) ALL\n", escaped, escaped)
				polkit = append(polkit, fmt.Sprintf("%q", "unix-user:"+name), fmt.Sprintf("%q", "unix-group:"+name))
			}
			return map[string]file{
				"/etc/sudoers.d/zridge-administrators": {text: sudo, mode: 0o440},
				adminRule: {text: "// Written by zridge-agent. What is written here by hand is lost.\n" +
					"polkit.addAdminRule(function(action, subject) {\n    return [" +
					strings.Join(polkit, ", ") + "];\n});\n"},
			}, nil
		},
	}}
}

// accountName is the name of an account or a group, with the domain where it has one.
var accountName = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_.@-]*( [A-Za-z0-9_.@-]+)*$`)

func (a *administrators) Settings() []setting.ID { return a.rules.ids }

// members gives the lines of the group with its members in them, and which members those are.
func (a *administrators) members(path string) (text, line string, who []string, err error) {
	text, _, err = a.host.read(path)
	for l := range strings.Lines(text) {
		if strings.HasPrefix(l, sudoGroup+":") {
			line = l
			names := strings.TrimSpace(l[strings.LastIndex(l, ":")+1:])
			who = strings.FieldsFunc(names, func(r rune) bool { return r == ',' })
		}
	}
	return text, line, who, err
}

// local gives those of a list that are accounts of the laptop, in order.
func (a *administrators) local(names []string) (out []string, err error) {
	text, _, err := a.host.read("/etc/passwd")
	for _, name := range names {
		for line := range strings.Lines(text) {
			if strings.HasPrefix(line, name+":") {
				out = append(out, name)
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out), err
}

// Read implements Adapter.
func (a *administrators) Read(id setting.ID) (setting.Value, error) {
	v, err := a.rules.Read(id)
	if err != nil || v.IsNothing() {
		return v, err
	}
	_, _, who, err := a.members(groupFile)
	if err != nil {
		return setting.Value{}, err
	}
	wanted, err := a.local(v.Items())
	slices.Sort(who)
	if err != nil || !slices.Equal(who, wanted) {
		return setting.Value{}, err
	}
	return v, nil
}

// Apply implements Adapter.
func (a *administrators) Apply(id setting.ID, v setting.Value) error {
	if v.Kind() != setting.List {
		return &ValueError{id, v}
	}
	if err := a.rules.Apply(id, v); err != nil {
		return err
	}
	who, err := a.local(v.Items())
	if err != nil {
		return err
	}
	for _, path := range []string{groupFile, shadowGroups} {
		text, line, _, err := a.members(path)
		if err != nil {
			return err
		}
		if line == "" {
			continue // the laptop has no sudo
		}
		if err := a.host.keep(path+"/"+sudoGroup, line, true); err != nil {
			return err
		}
		is := line[:strings.LastIndex(line, ":")+1] + strings.Join(who, ",") + "\n"
		if err := a.host.rewrite(path, strings.Replace(text, line, is, 1)); err != nil {
			return err
		}
	}
	return nil
}

// Withdraw implements Adapter.
func (a *administrators) Withdraw(id setting.ID) error {
	for _, path := range []string{groupFile, shadowGroups} {
		was, _, known, err := a.host.before(path + "/" + sudoGroup)
		if err != nil {
			return err
		}
		text, line, _, err := a.members(path)
		if err != nil {
			return err
		}
		if known && line != "" {
			if err := a.host.rewrite(path, strings.Replace(text, line, was, 1)); err != nil {
				return err
			}
		}
		if err := a.host.forget(path + "/" + sudoGroup); err != nil {
			return err
		}
	}
	return a.rules.Withdraw(id)
}
