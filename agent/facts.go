package agent

import (
	"bufio"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"zenithridge.example/zridge/agent/adapter"
	"zenithridge.example/zridge/core/setting"
)

// facts are what the agent can find out of a laptop, by name. It tells what it is asked for, and nothing else: what
// rules of the company look at.
var facts = map[string]func(*adapter.Host) (setting.Value, bool){
	"os_version":    osVersion,
	"model":         func(h *adapter.Host) (setting.Value, bool) { return textOf(firmware(h, "product_name")) },
	"battery":       func(h *adapter.Host) (setting.Value, bool) { return anyOf(h, "/sys/class/power_supply/BAT*") },
	"camera":        func(h *adapter.Host) (setting.Value, bool) { return anyOf(h, "/sys/class/video4linux/video*") },
	"security_chip": securityChip,
	"secure_boot":   secureBoot,

	"keyboard_before_start": keyboardBeforeStart,

	"ram_gb":          memory,
	"disk_encrypted":  diskEncrypted,
	"uefi":            func(h *adapter.Host) (setting.Value, bool) { return anyOf(h, "/sys/firmware/efi") },
	"wireless":        func(h *adapter.Host) (setting.Value, bool) { return anyOf(h, "/sys/class/net/*/wireless") },
	"bluetooth":       func(h *adapter.Host) (setting.Value, bool) { return anyOf(h, "/sys/class/bluetooth/hci*") },
	"ethernet":        func(h *adapter.Host) (setting.Value, bool) { return anyOf(h, "/sys/class/net/e[nt]*") },
	"disk_gb":         diskSize,
	"people":          people,
	"firmware_vendor": func(h *adapter.Host) (setting.Value, bool) { return textOf(firmware(h, "bios_vendor")) },
}

// keyboardBeforeStart tells whether the laptop has a keyboard of its own, which works before the system has started. One
// that is plugged in may be elsewhere on the day.
func keyboardBeforeStart(h *adapter.Host) (setting.Value, bool) {
	text, err := os.ReadFile(h.At("/proc/bus/input/devices"))
	if err != nil {
		return setting.Value{}, false
	}
	for device := range strings.SplitSeq(string(text), "\n\n") {
		if strings.Contains(device, "Handlers=") && strings.Contains(device, " kbd ") && strings.Contains(device, "keyboard") &&
			strings.Contains(device, "Phys=isa") {
			return setting.BoolValue(true), true
		}
	}
	return setting.BoolValue(false), true
}

// Fact implements endpoint.Knower.
func (p *platform) Fact(name string) (setting.Value, bool) {
	find := facts[name]
	if find == nil {
		return setting.Value{}, false
	}
	v, known := find(p.host)
	if known {
		p.state.Facts[name] = v // the laptop's person can see what was told
	}
	return v, known
}

// line reads the first line of a file of the system; empty where there is none.
func line(h *adapter.Host, path string) string {
	data, err := os.ReadFile(h.At(path))
	if err != nil {
		return ""
	}
	text, _, _ := strings.Cut(string(data), "\n")
	return strings.TrimSpace(text)
}

// firmware reads what the firmware tells of the laptop; empty where it tells nothing of use.
func firmware(h *adapter.Host, name string) string {
	text := line(h, "/sys/class/dmi/id/"+name)
	if text == "None" || strings.EqualFold(text, "Not Specified") {
		return ""
	}
	return text
}

func textOf(text string) (setting.Value, bool) { return setting.TextValue(text), text != "" }

// anyOf tells whether some file fits a pattern.
func anyOf(h *adapter.Host, pattern string) (setting.Value, bool) {
	found, err := filepath.Glob(h.At(pattern))
	return setting.BoolValue(len(found) > 0), err == nil
}

// osVersion is the release of Debian with its point release.
func osVersion(h *adapter.Host) (setting.Value, bool) { return textOf(line(h, "/etc/debian_version")) }

// securityChip is the version of the chip's specification: "2.0"; nothing where there is none.
func securityChip(h *adapter.Host) (setting.Value, bool) {
	if major := line(h, "/sys/class/tpm/tpm0/tpm_version_major"); major != "" {
		return setting.TextValue(map[string]string{"1": "1.2", "2": "2.0"}[major]), major == "1" || major == "2"
	}
	return setting.Value{}, false
}

// secureBoot is the last byte of the variable of that name (UEFI specification, 3.3).
func secureBoot(h *adapter.Host) (setting.Value, bool) {
	data, err := os.ReadFile(h.At("/sys/firmware/efi/efivars/SecureBoot-8be4df61-93ca-11d2-aa0d-00e098032b8c"))
	if err != nil || len(data) == 0 {
		return setting.Value{}, false
	}
	return setting.BoolValue(data[len(data)-1] == 1), true
}

// memory is the memory of the laptop in GB, as it is sold: what the kernel keeps for itself is rounded up.
func memory(h *adapter.Host) (setting.Value, bool) {
	f, err := os.Open(h.At("/proc/meminfo"))
	if err != nil {
		return setting.Value{}, false
	}
	defer f.Close()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		if fields := strings.Fields(lines.Text()); len(fields) >= 2 && fields[0] == "MemTotal:" {
			kB, err := strconv.ParseInt(fields[1], 10, 64)
			return setting.IntegerValue((kB + 1<<20 - 1) >> 20), err == nil
		}
	}
	return setting.Value{}, false
}

// diskEncrypted tells whether the root file system lies on a device that dm-crypt decrypts.
func diskEncrypted(h *adapter.Host) (setting.Value, bool) {
	found, err := filepath.Glob(h.At("/sys/block/dm-*/dm/uuid"))
	if err != nil {
		return setting.Value{}, false
	}
	for _, path := range found {
		if data, err := os.ReadFile(path); err == nil && strings.HasPrefix(string(data), "CRYPT-") {
			return setting.BoolValue(true), true
		}
	}
	return setting.BoolValue(false), true
}

// diskSize is the size of the largest disk, in GB of 10^9 bytes, as disks are sold.
func diskSize(h *adapter.Host) (setting.Value, bool) {
	found, err := filepath.Glob(h.At("/sys/block/*/size"))
	largest := int64(0)
	for _, path := range found {
		if name := filepath.Base(filepath.Dir(path)); strings.HasPrefix(name, "loop") || strings.HasPrefix(name, "ram") ||
			strings.HasPrefix(name, "dm-") {
			continue
		}
		data, err := os.ReadFile(path)
		if err != nil {
			continue
		}
		if sectors, err := strconv.ParseInt(strings.TrimSpace(string(data)), 10, 64); err == nil {
			largest = max(largest, sectors*512)
		}
	}
	return setting.IntegerValue(largest / 1e9), err == nil && largest > 0
}

// people is how many accounts of people the laptop itself has: how many, and not whose.
func people(h *adapter.Host) (setting.Value, bool) {
	data, err := os.ReadFile(h.At("/etc/passwd"))
	if err != nil {
		return setting.Value{}, false
	}
	n := int64(0)
	for account := range strings.Lines(string(data)) {
		fields := strings.Split(account, ":")
		if len(fields) < 3 {
			continue
		}
		if id, err := strconv.Atoi(fields[2]); err == nil && id >= 1000 && id < 60000 {
			n++
		}
	}
	return setting.IntegerValue(n), true
}
