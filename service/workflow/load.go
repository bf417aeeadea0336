// This file reads the live estate from the store.

package workflow

import (
	"fmt"
	"iter"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/threads"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/service/store"
)

// load reads the live estate from the store.
func (s *liveEstate) load() (*Live, error) {
	objects, err := s.store.Objects()
	if err != nil {
		return nil, err
	}
	live := &Live{Turn: 1}
	versions, retired := make(map[objectKey]int64, len(objects)), map[objectKey]int64{}
	if live.Revision, err = s.store.Revision(); err != nil {
		return nil, err
	}
	imported, err := s.store.AllBrought()
	if err != nil {
		return nil, err
	}
	records := make(map[objectKey]store.SourceRecord, len(imported))
	origins := make(map[objectKey]Origin, len(imported))
	for _, r := range imported {
		key := objectKey{estate.Kind(r.Kind), r.ObjectID}
		records[key], origins[key] = r, originOf(r)
	}
	bodies := make([]body, 0, len(objects)+len(imported))
	for _, o := range objects {
		key := objectKey{estate.Kind(o.Kind), o.ID}
		if o.Retired {
			retired[key] = o.Version
			continue
		}
		text, err := compose(records[key].Brought, o.Body, o.Local)
		if err != nil {
			return nil, err
		}
		bodies = append(bodies, body{key, text})
		versions[key] = o.Version
		delete(records, key)
	}
	for key, r := range records {
		bodies = append(bodies, body{key, r.Brought})
	}
	live.versions, live.retired, live.imported = keep(versions), keep(retired), keep(origins)
	decoded, err := decodeAll(bodies)
	if err != nil {
		return nil, err
	}
	snapshot := files.Assemble(decoded, s.shipped).On(s.Today())
	snapshot.Sort()
	if len(snapshot.Units) == 0 { // before the first import
		snapshot.Units = []estate.Unit{{ID: standIn, Title: "Company"}}
	}
	snapshot, _ = snapshot.Sever(nil, nil)
	live.Side = impact.Resolve(snapshot)
	return live, nil
}

// body is an object as it is written.
type body struct {
	objectKey
	text string
}

// decodeAll reads objects on all threads.
func decodeAll(bodies []body) ([]any, error) {
	objects, errs := make([]any, len(bodies)), make([]error, len(bodies))
	threads.Share(len(bodies), func(mine iter.Seq[int]) {
		for i := range mine {
			var err error
			if objects[i], _, err = files.DecodeJSON(bodies[i].kind, []byte(bodies[i].text)); err != nil {
				errs[i] = fmt.Errorf("%s %s: %w", bodies[i].kind, bodies[i].id, err)
			}
		}
	})
	for _, err := range errs {
		if err != nil {
			return nil, err
		}
	}
	return objects, nil
}
