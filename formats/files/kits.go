// This file reads kits: starting points for a policy of one purpose, with values and the reasons
// for them.

package files

import (
	"io/fs"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/setting"
)

// Kit is a starting point for a policy of one purpose. The note of each entry is the reason for its
// value.
type Kit struct {
	ID        string
	Title     string
	Why       string // becomes the policy's reason
	When      string // for which laptops it is meant
	Kind      setting.PolicyKind
	Platforms []setting.Platform
	Labels    []string
	Entries   []estate.Entry
}

// KitDoc is a kit as the API gives it.
type KitDoc struct {
	ID        string              `json:"id"`
	Title     string              `json:"title"`
	Why       string              `json:"why"`
	When      string              `json:"when" doc:"For which laptops it is meant"`
	Kind      string              `json:"kind" enum:"configuration,security,encryption"`
	Platforms []string            `json:"platforms,omitempty" enum:"linux,windows,macos"`
	Labels    []string            `json:"labels,omitempty"`
	Settings  map[string]EntryDoc `json:"settings"`
}

// Doc gives a kit as its wire type.
func (k *Kit) Doc() KitDoc {
	doc := KitDoc{
		ID:        k.ID,
		Title:     k.Title,
		Why:       k.Why,
		When:      k.When,
		Kind:      string(k.Kind),
		Platforms: texts(k.Platforms),
		Labels:    k.Labels,
		Settings:  make(map[string]EntryDoc, len(k.Entries)),
	}
	for _, e := range k.Entries {
		doc.Settings[string(e.Setting)] = EntryDoc{e.Value, e.Lock, e.Note}
	}
	return doc
}

// ReadKits reads the kits of a folder, and checks their values against a dictionary.
func ReadKits(from fs.FS, shipped Dictionary) ([]Kit, error) {
	names, err := fs.Glob(from, "*.yaml")
	if err != nil {
		return nil, err
	}
	definitions := make(map[setting.ID]*setting.Definition, len(shipped.Settings))
	for i := range shipped.Settings {
		definitions[shipped.Settings[i].ID] = &shipped.Settings[i]
	}
	d := &decoder{}
	var kits []Kit
	for _, name := range names {
		data, err := fs.ReadFile(from, name)
		if err != nil {
			return nil, err
		}
		documents, faults := parseYAML(name, data)
		d.faults = append(d.faults, faults...)
		for _, doc := range documents {
			d.object(doc, "", "kits").list("kits", "kits", func(n *node, path string) { kits = append(kits, d.kit(n, path, definitions)) })
		}
	}
	if len(d.faults) > 0 {
		d.faults.Sort()
		return nil, d.faults
	}
	return kits, nil
}

func (d *decoder) kit(n *node, path string, definitions map[setting.ID]*setting.Definition) Kit {
	o := d.object(n, path, "id", "title", "why", "when", "kind", "platforms", "labels", "settings")
	k := Kit{
		ID:        o.text("id"),
		Title:     o.text("title"),
		Why:       o.text("why"),
		When:      o.text("when"),
		Kind:      setting.PolicyKind(o.text("kind")),
		Platforms: listOf[setting.Platform](o, "platforms"),
		Labels:    listOf[string](o, "labels"),
	}
	d.faults = append(d.faults, setting.OneOf(o.at("kind"), k.Kind, setting.PolicyKinds)...)
	if entries := o.field("settings", mapNode, "a map from settings to values with their reasons"); entries != nil {
		k.Entries = d.entries(entries, o.at("settings"))
	}
	for _, e := range k.Entries {
		at := problem.Join(o.at("settings"), string(e.Setting))
		if def := definitions[e.Setting]; def == nil {
			d.refuse(problem.UnknownReference, at, n.place, problem.Quote(string(e.Setting)), "a setting of the dictionary")
		} else {
			d.faults = append(d.faults, def.Check(at, e.Value)...)
		}
		if e.Note == "" {
			d.refuse(problem.MissingField, at, n.place, "", "a note: the reason for the value")
		}
	}
	return k
}
