// This file takes whole estates in: an import becomes a change with an edit for every object that
// differs.

package workflow

import (
	"context"
	"errors"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/service/store"
)

// ImportCounts says what an import would do.
type ImportCounts struct {
	Created   int
	Altered   int
	Retired   int
	Unchanged int
}

// Import opens a change that makes the live estate like s. Objects that s does not have stay, or
// are retired where retireMissing says so. With nothing to change no change is opened.
func (s *ChangeService) Import(
	ctx context.Context,
	by Actor,
	title string,
	in *estate.Snapshot,
	retireMissing bool,
) (store.Change, ImportCounts, error) {
	if err := by.Need(access.Write); err != nil {
		return store.Change{}, ImportCounts{}, err
	}
	var counts ImportCounts
	live := s.Live()
	edits, err := s.differing(ctx, by, live, in, retireMissing, &counts)
	if err != nil || len(edits) == 0 {
		return store.Change{}, counts, err
	}
	if _, err := s.wellFormed(ctx, live, edits, ""); err != nil {
		return store.Change{}, counts, err
	}
	c, err := s.NewChange(ctx, by, title, "")
	if err != nil {
		return c, counts, err
	}
	err = s.alter(ctx, by, c.ID, func(tx *store.Store, _ *store.Change) (store.AuditRecord, error) {
		for i := range edits {
			edits[i].ChangeID = c.ID
		}
		return store.AuditRecord{Action: "import"}, tx.SaveEdits(edits...)
	})
	c.Version++
	return c, counts, err
}

func (s *ChangeService) differing(ctx context.Context,
	by Actor,
	live *Live,
	in *estate.Snapshot,
	retireMissing bool,
	counts *ImportCounts,
) ([]store.Edit, error) {
	var edits []store.Edit
	var failed error
	add := func(kind estate.Kind, id, body string) {
		edits = append(
			edits,
			store.Edit{
				Kind:        string(kind),
				ObjectID:    id,
				Body:        body,
				Retire:      body == "",
				BaseVersion: live.Version(kind, id),
				Version:     1,
				By:          by.Name,
				At:          s.now(),
			},
		)
		failed = errors.Join(failed, s.keepLocal(ctx, live, &edits[len(edits)-1]))
	}
	var missing problem.Faults
	definitions := make(map[setting.ID]*setting.Definition, len(in.Settings))
	for i := range in.Settings {
		definitions[in.Settings[i].ID] = &in.Settings[i]
	}
	for _, kind := range estate.Kinds {
		have := map[string]string{}
		for _, o := range files.Objects(live.Plan.Snapshot(), kind) {
			body, err := files.EncodeJSON(o)
			if err != nil {
				return nil, err
			}
			key := objectKey{kind, files.ObjectID(o)}
			if live.imported.has(key) || live.versions.of(key) > 0 {
				have[files.ObjectID(o)] = string(body)
			}
		}
		for _, o := range files.Objects(in, kind) {
			o = live.asTold(o) // what was taken at a laptop is told by it
			o, faults := s.files.addStoredFiles(ctx, o, func(id setting.ID) *setting.Definition { return definitions[id] })
			for _, f := range faults {
				f.Path = problem.Join("", string(kind), files.ObjectID(o)) + f.Path
				missing = append(missing, f)
			}
			body, err := files.EncodeJSON(o)
			if err != nil {
				return nil, err
			}
			id := files.ObjectID(o)
			is, there := have[id]
			delete(have, id)
			switch {
			case !there:
				counts.Created++
				add(kind, id, string(body))
			case is != string(body):
				counts.Altered++
				add(kind, id, string(body))
			default:
				counts.Unchanged++
			}
		}
		if retireMissing {
			for id := range have {
				if live.imported.has(objectKey{kind, id}) { // it goes when its source no longer has it
					continue
				}
				counts.Retired++
				add(kind, id, "")
			}
		}
	}
	if len(missing) > 0 {
		return nil, missing
	}
	return edits, failed
}

// DecodeEstate reads the lists of an estate from JSON in the estate format, over the shipped
// dictionary.
func (s *ChangeService) DecodeEstate(ctx context.Context, by Actor, data []byte) (*estate.Snapshot, error) {
	if err := by.Need(access.Read); err != nil {
		return nil, err
	}
	snapshot, err := files.ReadJSON(data, s.shipped)
	if err != nil {
		return nil, err
	}
	return snapshot.On(s.Today()), nil
}
