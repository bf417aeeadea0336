package adapter

import (
	"encoding/json"
	"errors"
	"fmt"
	"os/exec"
	"slices"
	"strings"

	"zenithridge.example/zridge/core/setting"
)

const (
	controlSetting = "applications.control"
	rulesSetting   = "applications.control_rules"
	programRules   = "/etc/fapolicyd/rules.d/10-zridge.rules" // before the rules that came with the system
	controlFile    = "/etc/fapolicyd/fapolicyd.conf"
)

// compiledRules are the files that fapolicyd makes from all rules: those that count, and the ones before.
var compiledRules = [2]string{"/etc/fapolicyd/compiled.rules", "/etc/fapolicyd/compiled.rules.prev"}

// programs is which programs may start (fapolicyd). What root starts always may: the laptop could not be managed
// otherwise. Without a rule file nothing is controlled.
func programs(h *Host) Adapter {
	return &bundle{
		host: h, name: "programs", ids: []setting.ID{controlSetting, rulesSetting},
		files: func(h *Host, wanted values) (map[string]file, error) {
			if len(wanted) == 0 {
				return nil, nil
			}
			control, given := wanted[controlSetting]
			mode := control.Text()
			if given && !slices.Contains([]string{"off", "audit", "enforce"}, mode) {
				return nil, &ValueError{controlSetting, control}
			}
			rules := "# No rule file is given.\n"
			if v, is := wanted[rulesSetting]; is {
				text, err := h.content(v)
				if err != nil {
					return nil, err
				}
				lines, ok := programLines([]byte(text))
				if !ok {
					return nil, &ValueError{rulesSetting, v}
				}
				rules = lines
			}
			if mode == "off" || !given {
				rules = "# " + strings.ReplaceAll(strings.TrimSpace(rules), "\n", "\n# ") + "\n" // kept for when control is on
			}
			text, _, known, err := h.before(controlFile)
			if !known && err == nil {
				text, _, err = h.read(controlFile)
			}
			permissive := &shared{host: h, path: controlFile, between: " = "}
			return map[string]file{
				programRules: {text: heading + rules},
				controlFile: {text: permissive.with(text, "permissive", "permissive = "+
					map[bool]string{true: "0", false: "1"}[mode == "enforce"]+"\n")},
			}, err
		},
		after: loadPrograms,
		force: func(h *Host, wanted values) (bool, error) {
			if mode := wanted[controlSetting].Text(); mode == "off" || mode == "" {
				return true, nil
			}
			rules, _, err := h.read(programRules)
			if err != nil {
				return false, err
			}
			compiled, _, err := h.read(compiledRules[0])
			for line := range strings.Lines(rules) {
				if line = strings.TrimSpace(line); !strings.HasPrefix(line, "#") && !hasLine(compiled, line) {
					return false, err
				}
			}
			_, stopped := h.ask("pidof", "fapolicyd")
			return err == nil && stopped == nil, err
		},
	}
}

// loadPrograms lets fapolicyd read its rules, and run where they control something.
func loadPrograms(h *Host, files map[string]file) error {
	if len(files) == 0 {
		for _, path := range compiledRules {
			if err := h.restore(path); err != nil {
				return err
			}
		}
		return h.run("systemctl", "try-restart", "fapolicyd.service")
	}
	for _, path := range compiledRules {
		is, there, err := h.read(path)
		if err != nil {
			return err
		}
		if err := h.keep(path, is, there); err != nil {
			return err
		}
	}
	if _, err := h.ask("fagenrules"); err != nil {
		if errors.Is(err, exec.ErrNotFound) {
			return fmt.Errorf("the package fapolicyd is missing: %w", err)
		}
		return err
	}
	if err := h.run("systemctl", "enable", "fapolicyd.service"); err != nil {
		return err
	}
	return h.run("systemctl", "restart", "fapolicyd.service")
}

// programRule is a rule of a rule set (docs/application-rules.md).
type programRule struct {
	Action    string          `json:"action"`
	Platforms []string        `json:"platforms"`
	Path      string          `json:"path"`
	SHA256    string          `json:"sha256"`
	Signer    json.RawMessage `json:"signer"`
}

// programLines gives a rule set as rules of fapolicyd. A rule set with a rule for linux that fapolicyd cannot follow
// is refused as a whole: a signer, or a path with a * that is not all that is below a folder.
func programLines(data []byte) (text string, ok bool) {
	var set struct {
		Otherwise string        `json:"otherwise"`
		Rules     []programRule `json:"rules"`
	}
	if json.Unmarshal(data, &set) != nil {
		return "", false
	}
	lines := map[string][]string{}
	for _, r := range set.Rules {
		if len(r.Platforms) > 0 && !slices.Contains(r.Platforms, "linux") {
			continue
		}
		object, can := programObject(&r)
		if !can {
			return "", false
		}
		lines[r.Action] = append(lines[r.Action], object)
	}
	out := "allow perm=execute uid=0 : all\n"
	for _, object := range lines["deny"] { // a deny rule beats an allow rule
		out += "deny_syslog perm=execute all : " + object + "\n"
	}
	for _, object := range lines["allow"] {
		out += "allow perm=execute all : " + object + "\n"
	}
	if set.Otherwise == "allow" {
		return out + "allow perm=execute all : all\n", true
	}
	return out + "deny_syslog perm=execute all : all\n", true
}

// programObject gives what a rule matches, as fapolicyd writes it.
func programObject(r *programRule) (text string, ok bool) {
	if r.Signer != nil || strings.ContainsAny(r.Path, " \t\n,\"") || r.Path != "" && !strings.HasPrefix(r.Path, "/") {
		return "", false
	}
	var parts []string
	if folder, below := strings.CutSuffix(r.Path, "/**"); below && !strings.Contains(folder, "*") {
		parts = append(parts, "dir="+folder+"/")
	} else if r.Path != "" {
		if strings.Contains(r.Path, "*") {
			return "", false
		}
		parts = append(parts, "path="+r.Path)
	}
	if r.SHA256 != "" {
		if !sum.MatchString(strings.ToLower(r.SHA256)) {
			return "", false
		}
		parts = append(parts, "sha256hash="+strings.ToLower(r.SHA256))
	}
	return strings.Join(parts, " "), len(parts) > 0
}
