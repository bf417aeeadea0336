// This file finds the volumes of the system, and tells which are in use.

package agent

import (
	"bufio"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"zenithridge.example/zridge/core/recovery"
)

// block is a block device as lsblk tells of it, with what is made of it.
type block struct {
	Path        string   `json:"path"`
	Type        string   `json:"type"`
	FSType      string   `json:"fstype"`
	Mountpoints []string `json:"mountpoints"`
	Removable   bool     `json:"rm"`
	Hotplug     bool     `json:"hotplug"`
	Children    []block  `json:"children"`
}

// SystemVolumes gives the volumes of the system that lsblk knows of: those that are encrypted, and those that are mounted
// as they are. What the system starts from before it can decrypt anything is none of them.
func SystemVolumes() ([]Found, error) {
	if _, err := os.Stat("/sys/block"); err != nil { // in a container nothing is known of them
		return nil, nil
	}
	said, err := exec.Command("lsblk", "--json", "--output", "PATH,TYPE,FSTYPE,MOUNTPOINTS,RM,HOTPLUG").Output()
	if err != nil {
		return nil, fmt.Errorf("lsblk: %w", err)
	}
	var list struct {
		Devices []block `json:"blockdevices"`
	}
	if err := json.Unmarshal(said, &list); err != nil {
		return nil, fmt.Errorf("lsblk: %w", err)
	}
	return volumesAmong(list.Devices), nil
}

func volumesAmong(list []block) (out []Found) {
	for i := range list {
		b := &list[i]
		if b.Type == "loop" || b.Type == "rom" || b.FSType == "swap" {
			continue
		}
		mounts := b.mounts()
		encrypted := b.FSType == "crypto_LUKS"
		switch {
		case !encrypted && len(b.Children) > 0:
			out = append(out, volumesAmong(b.Children)...)
			continue
		case !encrypted && len(mounts) == 0,
			!slices.ContainsFunc(mounts, func(at string) bool { return at != "/boot" && at != "/boot/efi" && at != "/efi" }) && len(mounts) > 0:
			continue
		}
		f := Found{Path: b.Path, Name: filepath.Base(b.Path), Kind: recovery.FixedVolume, Mounted: !encrypted}
		switch {
		case slices.Contains(mounts, "/"):
			f.Kind, f.Name = recovery.SystemVolume, "system disk"
		case b.Removable || b.Hotplug:
			f.Kind = recovery.RemovableVolume
		case len(mounts) > 0:
			f.Name = mounts[0]
		}
		out = append(out, f)
	}
	return out
}

// mounts gives where a device, or what is made of it, is mounted.
func (b *block) mounts() (out []string) {
	for _, at := range b.Mountpoints {
		if at != "" {
			out = append(out, at)
		}
	}
	for i := range b.Children {
		out = append(out, b.Children[i].mounts()...)
	}
	return out
}

// inUse tells where a volume is mounted, or what is made of it; empty: it is not in use.
func inUse(path string) (where string, err error) {
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return "", err
	}
	sources := []string{real}
	backing, err := filepath.Glob("/sys/block/loop*/loop/backing_file")
	if err != nil {
		return "", err
	}
	for _, file := range backing {
		if text, err := os.ReadFile(file); err == nil && strings.TrimSpace(string(text)) == real {
			sources = append(sources, "/dev/"+filepath.Base(filepath.Dir(filepath.Dir(file))))
		}
	}
	if holders, err := os.ReadDir(filepath.Join("/sys/class/block", filepath.Base(real), "holders")); err == nil && len(holders) > 0 {
		return "/dev/" + holders[0].Name(), nil
	}
	mounts, err := os.Open("/proc/self/mounts")
	if err != nil {
		return "", err
	}
	defer mounts.Close()
	lines := bufio.NewScanner(mounts)
	for lines.Scan() {
		if fields := strings.Fields(lines.Text()); len(fields) > 1 && slices.Contains(sources, fields[0]) {
			return fields[1], nil
		}
	}
	return "", lines.Err()
}
