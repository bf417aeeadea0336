package adapter

import (
	"cmp"
	"slices"
	"strings"

	"zenithridge.example/zridge/core/setting"
)

// entry is a setting in a file of the system.
type entry struct {
	id      setting.ID
	section string // empty: the format has none
	key     string
	word
}

// format is how a file of the system has its entries.
type format struct {
	read  func(text string) map[place]string
	write func(map[place]string) string
}

// place is where an entry is in a file.
type place struct{ section, key string }

const heading = "# Written by zridge-agent. What is written here by hand is lost.\n"

// ini is the format of systemd, and of dconf: sections, and keys with values.
func ini() format {
	return format{
		func(text string) map[place]string {
			out, section := map[place]string{}, ""
			for line := range strings.Lines(text) {
				line = strings.TrimSpace(line)
				if name, is := strings.CutPrefix(line, "["); is {
					section = strings.TrimSuffix(name, "]")
				} else if key, value, is := strings.Cut(line, "="); is && !strings.HasPrefix(line, "#") {
					out[place{section, strings.TrimSpace(key)}] = strings.TrimSpace(value)
				}
			}
			return out
		},
		func(entries map[place]string) string {
			var out strings.Builder
			out.WriteString(heading)
			section := ""
			for _, at := range places(entries) {
				if at.section != section {
					section = at.section
					out.WriteString("\n[" + section + "]\n")
				}
				out.WriteString(at.key + "=" + entries[at] + "\n")
			}
			return out.String()
		},
	}
}

// lines is a format of one entry a line, with something between the key and the value and after the value.
func lines(between, after string) format {
	return format{
		func(text string) map[place]string {
			out := map[place]string{}
			for line := range strings.Lines(text) {
				key, value, is := strings.Cut(strings.TrimSpace(line), strings.TrimSpace(between))
				if strings.TrimSpace(between) == "" {
					key, value, is = strings.Cut(strings.TrimSpace(line), " ")
				}
				if is && !strings.HasPrefix(key, "#") {
					out[place{"", strings.TrimSpace(key)}] = strings.TrimSuffix(strings.TrimSpace(value), after)
				}
			}
			return out
		},
		func(entries map[place]string) string {
			out := heading
			for _, at := range places(entries) {
				out += at.key + between + entries[at] + after + "\n"
			}
			return out
		},
	}
}

func places(entries map[place]string) []place {
	out := make([]place, 0, len(entries))
	for at := range entries {
		out = append(out, at)
	}
	slices.SortFunc(out, func(a, b place) int { return cmp.Or(cmp.Compare(a.section, b.section), cmp.Compare(a.key, b.key)) })
	return out
}

// dropIn is a file of ours beside those of the system, which reads it after them: what is not in it is as it is
// without us. It is an Adapter.
type dropIn struct {
	host    *Host
	path    string
	format  format
	entries []entry
	after   func(*Host) error // lets the system read it; nil: it reads it by itself
}

func (d *dropIn) Settings() []setting.ID { return idsOf(d.entries) }

func idsOf(entries []entry) []setting.ID {
	out := make([]setting.ID, len(entries))
	for i := range entries {
		out[i] = entries[i].id
	}
	return out
}

func entryOf(entries []entry, id setting.ID) *entry {
	at := slices.IndexFunc(entries, func(e entry) bool { return e.id == id })
	return &entries[at] // adapters are asked for their own settings alone
}

func (d *dropIn) all() (map[place]string, error) {
	text, _, err := d.host.read(d.path)
	return d.format.read(text), err
}

func (d *dropIn) Read(id setting.ID) (setting.Value, error) {
	all, err := d.all()
	e := entryOf(d.entries, id)
	text, set := all[place{e.section, e.key}]
	if err != nil || !set {
		return setting.Value{}, err
	}
	v, _ := e.from(text) // what means nothing to us is not what was wanted
	return v, nil
}

func (d *dropIn) Apply(id setting.ID, v setting.Value) error {
	e := entryOf(d.entries, id)
	text, ok := e.to(v)
	if !ok {
		return &ValueError{id, v}
	}
	return d.alter(func(all map[place]string) { all[place{e.section, e.key}] = text })
}

func (d *dropIn) Withdraw(id setting.ID) error {
	e := entryOf(d.entries, id)
	return d.alter(func(all map[place]string) { delete(all, place{e.section, e.key}) })
}

func (d *dropIn) alter(how func(map[place]string)) error {
	all, err := d.all()
	if err != nil {
		return err
	}
	how(all)
	if len(all) == 0 {
		err = d.host.remove(d.path)
	} else {
		err = d.host.write(d.path, d.format.write(all), 0o644)
	}
	if err != nil || d.after == nil {
		return err
	}
	return d.after(d.host)
}

// reload lets services of systemd that run read their files again.
func reload(services ...string) func(*Host) error {
	return func(h *Host) error {
		return h.run("systemctl", append([]string{"try-reload-or-restart"}, services...)...)
	}
}
