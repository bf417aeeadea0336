package adapter

import (
	"regexp"
	"slices"
	"strings"

	"zenithridge.example/zridge/core/setting"
)

const (
	deviceRules  = "/etc/udev/rules.d/72-zridge.rules" // before the rule by which the person at the keyboard gets devices
	mountOptions = "/etc/udisks2/mount_options.conf"
)

// usbID is the vendor and the product of a device, in hexadecimal.
var usbID = regexp.MustCompile(`^([0-9a-f]{4}):([0-9a-f]{4})$`)

// usb is what people may do with devices that they plug in, and with microphones (udev). Rules count from when a
// device is plugged in.
func usb(h *Host) Adapter {
	return &bundle{
		host: h, name: "devices", ids: []setting.ID{
			"media.usb_storage", "media.usb_allowed_ids", "media.phones", "media.microphone", "disk.encryption.removable",
			"disk.encryption.memory_cards",
		},
		files: func(_ *Host, wanted values) (map[string]file, error) {
			if len(wanted) == 0 {
				return nil, nil
			}
			text := heading + `ACTION=="remove", GOTO="zridge_end"` + "\n"
			for _, part := range []struct {
				id    setting.ID
				rules func(values) (string, bool)
			}{{"media.usb_storage", storageRules}, {"media.phones", phoneRules}, {"media.microphone", microphoneRules},
				{"disk.encryption.removable", encryptedRules(
					"disk.encryption.removable", `ENV{ID_BUS}=="usb"`,
				)}, {"disk.encryption.memory_cards", encryptedRules("disk.encryption.memory_cards", `KERNEL=="mmcblk[0-9]*", ATTRS{type}=="SD"`)}} {
				rules, ok := part.rules(wanted)
				if !ok {
					return nil, &ValueError{part.id, wanted[part.id]}
				}
				text += rules
			}
			if slices.ContainsFunc(wanted["media.usb_allowed_ids"].Items(), func(id string) bool { return !usbID.MatchString(id) }) {
				return nil, &ValueError{"media.usb_allowed_ids", wanted["media.usb_allowed_ids"]}
			}
			return map[string]file{deviceRules: {text: text + `LABEL="zridge_end"` + "\n"}}, nil
		},
		after: func(h *Host, _ map[string]file) error { return h.run("udevadm", "control", "--reload") },
	}
}

// storageRules are the rules for USB storage. Devices that are allowed by their ids may be used whatever is said.
func storageRules(wanted values) (rules string, ok bool) {
	const (
		interfaces = `SUBSYSTEM=="usb", ENV{DEVTYPE}=="usb_interface", ATTR{bInterfaceClass}=="08", `
		disks      = `SUBSYSTEM=="block", ENV{ID_BUS}=="usb", `
	)
	which, then := interfaces, `ATTR{authorized}="0"`
	switch v, is := wanted["media.usb_storage"]; v.Text() {
	case "allow":
		return "# USB storage is allowed\n", true
	case "read-only":
		which, then = disks, `RUN+="/sbin/blockdev --setro $devnode"`
	case "block":
	default:
		return "", !is
	}
	for _, id := range wanted["media.usb_allowed_ids"].Items() {
		if m := usbID.FindStringSubmatch(id); m != nil {
			rules += which + `ATTRS{idVendor}=="` + m[1] + `", ATTRS{idProduct}=="` + m[2] + `", GOTO="zridge_storage"` + "\n"
		}
	}
	return rules + which + then + "\n" + `LABEL="zridge_storage"` + "\n", true
}

// encryptedRules are the rules for media that are read only as long as they have a file system that is not encrypted. One
// that is encrypted has none of its own: what is opened of it is another device.
func encryptedRules(id setting.ID, which string) func(values) (rules string, ok bool) {
	return func(wanted values) (rules string, ok bool) {
		v, is := wanted[id]
		switch {
		case !is:
			return "", true
		case !v.Bool():
			return "# " + string(id) + ": plain media may be written to\n", v.Kind() == setting.Bool
		}
		return `SUBSYSTEM=="block", ` + which + `, ENV{ID_FS_USAGE}=="filesystem", RUN+="/sbin/blockdev --setro $devnode"` + "\n", true
	}
}

// phoneRules are the rules for phones and cameras on the cable: their files (still images, media transfer) are for
// nobody, while they charge.
func phoneRules(wanted values) (rules string, ok bool) {
	switch v, is := wanted["media.phones"]; v.Text() {
	case "allow":
		return "# Phones are allowed\n", true
	case "block":
		return `SUBSYSTEM=="usb", ENV{DEVTYPE}=="usb_interface", ATTR{bInterfaceClass}=="06", ATTR{authorized}="0"` + "\n" +
			`SUBSYSTEM=="usb", ENV{DEVTYPE}=="usb_device", ENV{ID_MTP_DEVICE}=="1", TAG-="uaccess", GROUP="root", MODE="0600"` + "\n", true
	default:
		return "", !is
	}
}

// microphoneRules are the rules for what records sound: nobody but root opens it.
func microphoneRules(wanted values) (rules string, ok bool) {
	v, is := wanted["media.microphone"]
	switch {
	case !is:
		return "", true
	case v.Bool():
		return "# Microphones are allowed\n", true
	}
	return `SUBSYSTEM=="sound", KERNEL=="pcmC*D*c", TAG-="uaccess", GROUP="root", MODE="0600"` + "\n", v.Kind() == setting.Bool
}

// mounts is whether programs on sticks and cards may start (udisks). Its options count for all that people mount.
func mounts(h *Host) Adapter {
	const id = "media.programs_from_removable"
	options := truth("[defaults]\n# Programs may start from what people mount.", "[defaults]\ndefaults=noexec\n"+
		"allow=noexec,nodev,nosuid,atime,noatime,nodiratime,relatime,strictatime,lazytime,ro,rw,sync,dirsync,noload,acl,nosymfollow")
	return &whole{h, id, []string{mountOptions}, options, func(h *Host) error {
		return h.run("systemctl", "try-restart", "udisks2.service")
	}}
}

// forwarding is where records of the system go as they are made (rsyslog, or systemd's own upload).
func forwarding(h *Host) Adapter {
	const id = "system.audit_log_forward"
	return &bundle{
		host: h, name: "forwarding", ids: []setting.ID{id},
		files: func(_ *Host, wanted values) (map[string]file, error) {
			v, is := wanted[id]
			if !is {
				return nil, nil
			}
			scheme, where, _ := strings.Cut(v.Text(), "://")
			m := hostAndPort.FindStringSubmatch(where)
			switch {
			case scheme == "https" && !strings.ContainsAny(where, " \n\"\\"):
				return map[string]file{"/etc/systemd/journal-upload.conf.d/50-zridge.conf": {text: heading + "[Upload]\nURL=" + v.Text() + "\n"}}, nil
			case m == nil || scheme != "tcp" && scheme != "tls":
				return nil, &ValueError{id, v}
			}
			port, secure := m[2], ""
			if scheme == "tls" {
				secure = ` StreamDriver="gtls" StreamDriverMode="1" StreamDriverAuthMode="x509/name" StreamDriverPermittedPeers="` + m[1] + `"`
			}
			if port == "" {
				port = map[string]string{"tcp": "514", "tls": "6514"}[scheme]
			}
			// What cannot be sent is kept on the disk until it can.
			return map[string]file{"/etc/rsyslog.d/50-zridge.conf": {text: heading + `*.* action(type="omfwd" target="` + m[1] + `" port="` + port +
				`" protocol="tcp"` + secure + ` queue.type="LinkedList" queue.filename="zridge"` +
				` queue.maxDiskSpace="500m" queue.saveOnShutdown="on" action.resumeRetryCount="-1")` + "\n"}}, nil
		},
		after: func(h *Host, _ map[string]file) error {
			return h.run("systemctl", "try-restart", "rsyslog.service", "systemd-journal-upload.service")
		},
	}
}

// hostAndPort is an address with or without a port.
var hostAndPort = regexp.MustCompile(`^([A-Za-z0-9.-]+)(?::([0-9]{1,5}))?/?$`)
