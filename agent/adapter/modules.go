package adapter

import (
	"slices"
	"strings"

	"zenithridge.example/zridge/core/setting"
)

const moduleFile = "/etc/modprobe.d/zridge.conf"

// device is a part of the laptop that a module of the kernel drives: without it, it cannot be used. What is in use
// stays until it is unplugged, or the laptop restarts.
type device struct {
	id      setting.ID
	modules []string
	blocks  func(setting.Value) (block, known bool)
}

// drivers keeps modules of the kernel from being loaded. It is an Adapter.
type drivers struct {
	host *Host
	of   []device
}

func modules(h *Host) Adapter {
	off := func(v setting.Value) (bool, bool) { return !v.Bool(), v.Kind() == setting.Bool }
	blocked := func(v setting.Value) (bool, bool) {
		return v.Text() == "block", v.Text() == "block" || v.Text() == "allow"
	}
	return &drivers{h, []device{
		{"media.camera", []string{"uvcvideo"}, off},
		{"media.bluetooth", []string{"btusb", "bluetooth"}, off},
		{"network.cellular", []string{"wwan", "cdc_wdm", "cdc_mbim", "qmi_wwan"}, off},
		{"media.optical_drive", []string{"sr_mod"}, blocked},
		{"media.memory_cards", []string{"mmc_block"}, blocked},
	}}
}

func (d *drivers) Settings() []setting.ID {
	out := make([]setting.ID, len(d.of))
	for i := range d.of {
		out[i] = d.of[i].id
	}
	return out
}

func (d *drivers) one(id setting.ID) *device {
	return &d.of[slices.IndexFunc(d.of, func(x device) bool { return x.id == id })]
}

// A setting that allows something has a line that says so: it is known to be in force, and blocks nothing.
func allows(id setting.ID) string { return "# " + string(id) + " is allowed" }

func (x *device) lines() (out []string) {
	for _, m := range x.modules {
		out = append(out, "install "+m+" /bin/false")
	}
	return out
}

func hasLine(text, line string) bool {
	for l := range strings.Lines(text) {
		if strings.TrimSpace(l) == line {
			return true
		}
	}
	return false
}

func (d *drivers) Read(id setting.ID) (setting.Value, error) {
	text, _, err := d.host.read(moduleFile)
	if err != nil {
		return setting.Value{}, err
	}
	x := d.one(id)
	blocks := !slices.ContainsFunc(x.lines(), func(line string) bool { return !hasLine(text, line) })
	allowed := hasLine(text, allows(id))
	if blocks == allowed {
		return setting.Value{}, nil
	}
	if _, is := x.blocks(setting.BoolValue(true)); is {
		return setting.BoolValue(allowed), nil
	}
	if blocks {
		return setting.TextValue("block"), nil
	}
	return setting.TextValue("allow"), nil
}

func (d *drivers) Apply(id setting.ID, v setting.Value) error {
	x := d.one(id)
	block, known := x.blocks(v)
	if !known {
		return &ValueError{id, v}
	}
	add := []string{allows(id)}
	if block {
		add = x.lines()
	}
	return d.replace(x, add)
}

func (d *drivers) Withdraw(id setting.ID) error {
	return d.replace(d.one(id), nil)
}

// replace puts lines in the place of those of a device.
func (d *drivers) replace(x *device, with []string) error {
	text, _, err := d.host.read(moduleFile)
	if err != nil {
		return err
	}
	var kept []string
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		if line != "" && line != strings.TrimSpace(heading) && line != allows(x.id) && !slices.Contains(x.lines(), line) {
			kept = append(kept, line)
		}
	}
	if kept = append(kept, with...); len(kept) == 0 {
		return d.host.remove(moduleFile)
	}
	return d.host.write(moduleFile, heading+strings.Join(kept, "\n")+"\n", 0o644)
}
