package adapter

import (
	"strings"

	"zenithridge.example/zridge/core/setting"
)

// lockedScreen is a script that initramfs-tools runs before it asks for the key of a disk.
const lockedScreen = "/etc/initramfs-tools/scripts/local-top/zridge-recovery"

// recoveryScreen is what a locked laptop shows beside the question for its key (initramfs-tools): whom to call, and the
// identifier of the recovery key, which it reads from the header of the disk.
func recoveryScreen(h *Host) Adapter {
	const message, address = "disk.startup.message", "disk.startup.message_address"
	return &bundle{
		host: h, name: "recovery-screen", ids: []setting.ID{message, address},
		files: func(_ *Host, wanted values) (map[string]file, error) {
			if len(wanted) == 0 {
				return nil, nil
			}
			text := "#!/bin/sh\n" + heading + `case "$1" in prereqs) exit 0;; esac` + "\n"
			for _, id := range []setting.ID{message, address} {
				v, is := wanted[id]
				if !is {
					continue
				}
				if strings.ContainsFunc(v.Text(), func(r rune) bool { return r < ' ' && r != '\n' }) {
					return nil, &ValueError{id, v}
				}
				text += "echo " + shellWord(v.Text()) + "\n"
			}
			return map[string]file{lockedScreen: {text: text + showIdentifiers, mode: 0o755}}, nil
		},
		after: func(h *Host, _ map[string]file) error { return h.run("update-initramfs", "-u") },
	}
}

// showIdentifiers shows the identifier of each disk's recovery key in groups of four digits.
const showIdentifiers = `for disk in ${ZRIDGE_DISKS:-$(blkid -t TYPE=crypto_LUKS -o device 2>/dev/null)}; do
  { cryptsetup luksDump --dump-json-metadata "$disk" 2>/dev/null | tr -d ' \n'; echo; } |
    sed -n 's/.*"type":"zridge-recovery"[^}]*"identifier":"\([0-9]\{4\}\)\([0-9]\{4\}\)\([0-9]\{4\}\)".*/Recovery key \1 \2 \3/p'
done
`

// shellWord gives a text as one word of a shell.
func shellWord(text string) string { return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'" }
