// This file writes an estate folder.

package files

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/setting"
)

// AllObjects lists an estate's objects of a kind, in its order, shipped ones included.
func AllObjects(s *estate.Snapshot, kind estate.Kind) []any {
	switch kind {
	case estate.KindUnit:
		return boxed(s.Units)
	case estate.KindPerson:
		return boxedAt(s.People)
	case estate.KindDevice:
		return boxedAt(s.Devices)
	case estate.KindGroup:
		return boxed(s.Groups)
	case estate.KindPolicy:
		return boxed(s.Policies)
	case estate.KindException:
		return boxed(s.Exceptions)
	case estate.KindRuling:
		return boxed(s.Rulings)
	case estate.KindSetting:
		return boxed(s.Settings)
	case estate.KindRolloutPlan:
		return boxed(s.RolloutPlans)
	case estate.KindApprovalRule:
		return boxed(s.ApprovalRules)
	case estate.KindBaseline:
		return boxed(s.Baselines)
	default:
		return boxed(s.Checks)
	}
}

// Objects lists an estate's own objects of a kind by id: shipped definitions and checks are left
// out.
func Objects(s *estate.Snapshot, kind estate.Kind) []any {
	own := slices.DeleteFunc(AllObjects(s, kind), func(o any) bool {
		switch o := o.(type) {
		case setting.Definition:
			return o.Shipped
		case estate.Check:
			return o.Shipped
		}
		return false
	})
	byID := func(a, b any) int { return strings.Compare(ObjectID(a), ObjectID(b)) }
	if !slices.IsSortedFunc(own, byID) {
		slices.SortFunc(own, byID)
	}
	return own
}

func boxed[T any](list []T) []any {
	out := make([]any, len(list))
	for i := range list {
		out[i] = list[i]
	}
	return out
}

func boxedAt[T any](list []*T) []any {
	out := make([]any, len(list))
	for i := range list {
		out[i] = *list[i]
	}
	return out
}

// Encode gives an estate as files of an estate folder, by name: a file for each list, and one for
// each policy. The same estate gives the same bytes. Files that values name are named by where
// Write puts them.
func Encode(s *estate.Snapshot) (map[string][]byte, error) {
	sorted := s.With() // a shallow copy whose lists are sorted below
	copyLists(sorted)
	sorted.Sort()
	out := map[string][]byte{}
	for _, kind := range estate.Kinds {
		objects := Objects(sorted, kind)
		for i := range objects {
			objects[i] = withFiles(objects[i], func(f setting.File) setting.File { return placedFile(f) })
		}
		if kind == estate.KindPolicy {
			for _, o := range objects {
				if err := encodeList(out, "policies/"+ObjectID(o)+".yaml", kind, []any{o}); err != nil {
					return nil, err
				}
			}
			continue
		}
		if len(objects) == 0 {
			continue
		}
		if err := encodeList(out, string(kind)+".yaml", kind, objects); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func copyLists(s *estate.Snapshot) {
	s.Units = append([]estate.Unit{}, s.Units...)
	s.People = append([]*estate.Person{}, s.People...)
	s.Devices = append([]*estate.Device{}, s.Devices...)
	s.Groups = append([]estate.Group{}, s.Groups...)
	s.Policies = append([]estate.Policy{}, s.Policies...)
	s.Exceptions = append([]estate.Exception{}, s.Exceptions...)
	s.Rulings = append([]estate.Ruling{}, s.Rulings...)
	s.Settings = append(s.Settings[:0:0], s.Settings...)
	s.Checks = append([]estate.Check{}, s.Checks...)
	s.RolloutPlans = append([]estate.RolloutPlan{}, s.RolloutPlans...)
	s.ApprovalRules = append([]estate.ApprovalRule{}, s.ApprovalRules...)
	s.Baselines = append([]estate.Baseline{}, s.Baselines...)
}

func encodeList(out map[string][]byte, name string, kind estate.Kind, objects []any) error {
	list := &node{kind: listNode}
	for _, o := range objects {
		data, err := EncodeJSON(o)
		if err != nil {
			return fmt.Errorf("writing %s %s: %w", kind, ObjectID(o), err)
		}
		parsed, faults := parseJSON("", data)
		if len(faults) > 0 {
			return faults
		}
		list.items = append(list.items, parsed[0])
	}
	data, err := writeYAML(&node{kind: mapNode, fields: []field{{name: string(kind), value: list}}})
	if err != nil {
		return fmt.Errorf("writing %s: %w", name, err)
	}
	out[name] = data
	return nil
}

// Write puts the files of Encode into a folder, which must be new or empty: what stands there is
// never mixed with what is written. content gives the bytes of a file that a value names, by its
// SHA-256.
func Write(folder string, s *estate.Snapshot, content func(sha256 string) ([]byte, error)) error {
	entries, err := os.ReadDir(folder)
	if err == nil && len(entries) > 0 {
		return fmt.Errorf("%s is not empty: found %d files or folders, expected a new or empty folder", folder, len(entries))
	}
	encoded, err := Encode(s)
	if err != nil {
		return err
	}
	for _, f := range FilesOf(s) {
		data, err := content(f.SHA256)
		if err != nil {
			return fmt.Errorf("the file %s: %w", f, err)
		}
		encoded[placeOfFile(f)] = data
	}
	for name, data := range encoded {
		path := filepath.Join(folder, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(path, data, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// YAML gives an object of a kind, as JSON in the estate format, as a file of an estate folder.
func YAML(kind string, object []byte) (string, error) {
	parsed, faults := parseJSON("", object)
	if len(faults) > 0 || len(parsed) != 1 {
		return "", faults
	}
	data, err := writeYAML(&node{kind: mapNode, fields: []field{{name: kind, value: &node{kind: listNode, items: parsed}}}})
	return string(data), err
}
