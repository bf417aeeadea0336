// This file compares the members of groups that a source names with those that are known.

package workflow

import (
	"encoding/json"
	"slices"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/service/store"
)

// memberships alters groups by what the people that altered say.
func (c *comparing) memberships() error {
	groups := map[string]*store.SourceRecord{}
	for _, rec := range c.known {
		if rec.Kind == string(estate.KindGroup) && rec.Brought != "" {
			groups[rec.Key] = rec
		}
	}
	for i := range c.out.records { // a group that is read in the same reading
		if rec := &c.out.records[i]; rec.Kind == string(estate.KindGroup) {
			groups[rec.Key] = rec
		}
	}
	keys := make([]string, 0, len(groups))
	for key := range groups {
		keys = append(keys, key)
	}
	slices.Sort(keys)
	for _, key := range keys {
		rec := groups[key]
		var doc files.GroupDoc
		if err := json.Unmarshal([]byte(rec.Brought), &doc); err != nil {
			return err
		}
		members := map[string]bool{}
		if was := c.known[recordKey{estate.KindGroup, key}]; was != nil && was.Brought != "" { // an entry that is read anew does not list members
			var old files.GroupDoc
			if err := json.Unmarshal([]byte(was.Brought), &old); err != nil {
				return err
			}
			for _, m := range old.Members {
				members[m] = true
			}
		}
		before := len(members)
		altered := false
		for person, in := range c.reading.MemberOf {
			id := c.objects[recordKey{estate.KindPerson, person}]
			if id == "" {
				continue
			}
			if is := slices.Contains(in, key); is != members[id] {
				altered = true
				if is {
					members[id] = true
				} else {
					delete(members, id)
				}
			}
		}
		if !altered && len(doc.Members) == before {
			continue
		}
		doc.Members = make([]string, 0, len(members))
		for m := range members {
			doc.Members = append(doc.Members, m)
		}
		slices.Sort(doc.Members)
		if err := c.setMembers(rec, doc.Members); err != nil {
			return err
		}
	}
	return nil
}

func (c *comparing) setMembers(rec *store.SourceRecord, members []string) error {
	var fields map[string]any
	if err := json.Unmarshal([]byte(rec.Brought), &fields); err != nil {
		return err
	}
	fields["members"] = members
	text, err := json.Marshal(fields)
	if err != nil || string(text) == rec.Brought {
		return err
	}
	altered, err := files.AlteredFields([]byte(rec.Brought), text)
	if err != nil {
		return err
	}
	next := *rec
	next.Brought, next.AlteredAt, next.Version = string(text), c.now, rec.Version+1
	replaced := false
	for _, list := range []*[]store.SourceRecord{&c.out.records, &c.out.touched} {
		at := slices.IndexFunc(*list, func(r store.SourceRecord) bool { return r.Kind == next.Kind && r.Key == next.Key })
		if at >= 0 {
			(*list)[at] = next
			replaced = true
		} else {
			*list = append(*list, next)
		}
	}
	if !replaced {
		c.out.report.Altered++
		c.note("altered", &next, 0, altered, false)
	}
	return nil
}
