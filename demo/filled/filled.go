// Package filled makes databases that hold an estate as if it had been published, for trying the service at any size.
package filled

import (
	"time"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/files"
	"zenithridge.example/zridge/service/store"
)

// Database writes an estate into a new database.
func Database(path string, s *estate.Snapshot) error {
	db, err := store.Open(path)
	if err != nil {
		return err
	}
	defer db.Close()
	return db.Transaction(func(tx *store.Store) error {
		now := time.Now().UTC()
		revision, err := tx.AddPublication(store.Publication{Title: "A made-up estate", By: "tests", At: now, Edits: 1})
		if err != nil {
			return err
		}
		var versions []store.ObjectVersion
		for _, kind := range estate.Kinds {
			for _, object := range files.AllObjects(s, kind) {
				body, err := files.EncodeJSON(object)
				if err != nil {
					return err
				}
				versions = append(versions, store.ObjectVersion{Kind: string(kind), ID: files.ObjectID(object), Version: 1, Body: string(body), Revision: revision, By: "tests", At: now})
			}
		}
		return tx.PutVersions(versions)
	})
}
