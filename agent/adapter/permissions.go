package adapter

import (
	"fmt"
	"regexp"
	"strings"
)

// permissions is what people may do with the system's devices and networks (polkit, which notices by itself that
// its rules changed). Administrators may do it with their password in each case but "nobody".
func permissions(h *Host) Adapter {
	who := choice("everybody", "everybody", "person-at-keyboard", "person-at-keyboard", "administrators", "administrators")
	return &dropIn{h, "/etc/polkit-1/rules.d/10-zridge.rules", rules(), []entry{
		{"media.format", "", "org.freedesktop.udisks2.modify-device", who},
		{"media.eject", "", "org.freedesktop.udisks2.eject-media", who},
		{"network.tethering", "", "org.freedesktop.NetworkManager.wifi.share", truth("as-usual", "nobody")},
		{"accounts.people_may_add", "", "org.freedesktop.accounts.user-administration", truth("as-usual", "nobody")},
		{"applications.removal", "", "org.freedesktop.packagekit.package-remove", truth("as-usual", "nobody")},
		{"applications.sources", "", "org.freedesktop.packagekit.package-install-untrusted",
			choice("anywhere", "as-usual", "identified-developers", "nobody")},
	}, nil}
}

// ruleFile is a rule of polkit, which is a function in JavaScript. Actions that begin with one of the names and a
// dot are meant, too. What is "as-usual" is left to the rules that follow.
const ruleFile = `// Written by zridge-agent. What is written here by hand is lost.
polkit.addRule(function(action, subject) {
    var who = {
%s    };
    for (var name in who) {
        if (action.id !== name && action.id.indexOf(name + ".") !== 0) {
            continue;
        }
        switch (who[name]) {
        case "everybody":
            return polkit.Result.YES;
        case "person-at-keyboard":
            return subject.local && subject.active ? polkit.Result.YES : polkit.Result.AUTH_ADMIN;
        case "administrators":
            return polkit.Result.AUTH_ADMIN;
        case "nobody":
            return polkit.Result.NO;
        }
    }
    return polkit.Result.NOT_HANDLED;
});
`

var ruleLine = regexp.MustCompile(`(?m)^        "([A-Za-z0-9.-]+)": "([a-z-]+)",$`)

// rules is the format of the rule file. A file that differs from what is written here has no entries: what it does
// is not known.
func rules() format {
	write := func(entries map[place]string) string {
		var lines strings.Builder
		for _, at := range places(entries) {
			fmt.Fprintf(&lines, "        %q: %q,\n", at.key, entries[at])
		}
		return fmt.Sprintf(ruleFile, lines.String())
	}
	return format{
		func(text string) map[place]string {
			out := map[place]string{}
			for _, m := range ruleLine.FindAllStringSubmatch(text, -1) {
				out[place{"", m[1]}] = m[2]
			}
			if write(out) != text {
				return map[place]string{}
			}
			return out
		},
		write,
	}
}
