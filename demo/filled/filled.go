// Package filled makes databases that hold an estate as if it had been published, for trying the
// service at any size.
package filled

import (
	"context"
	"time"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/rollout"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/service/store"
)

// Database writes an estate into a new database.
func Database(path string, s *estate.Snapshot) error {
	db, err := store.Open(path)
	if err != nil {
		return err
	}
	defer db.Close()
	return db.Transaction(context.Background(), func(tx *store.Store) error {
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
				versions = append(
					versions,
					store.ObjectVersion{
						Kind:     string(kind),
						ID:       files.ObjectID(object),
						Version:  1,
						Body:     string(body),
						Revision: revision,
						By:       "tests",
						At:       now,
					},
				)
			}
		}
		return tx.PutVersions(versions)
	})
}

// Enrolled adds the laptops of an estate to a database as if they had enrolled, the first of them
// with so many settings delivered each.
func Enrolled(path string, s *estate.Snapshot, first, settings int) error {
	db, err := store.Open(path)
	if err != nil {
		return err
	}
	defer db.Close()
	at := time.Now().UTC()
	return db.Transaction(context.Background(), func(tx *store.Store) error {
		for i, d := range s.Devices {
			if err := tx.SaveLaptop(store.Laptop{Device: string(d.ID), EnrolledAt: &at, LastSeen: &at}); err != nil {
				return err
			}
			if i >= first {
				continue
			}
			var delivered []rollout.Delivery
			for _, def := range s.Settings[:min(settings, len(s.Settings))] {
				v := setting.TextValue("text00")
				delivered = append(
					delivered,
					rollout.Delivery{Setting: def.ID, Wanted: v, Reported: v, Status: rollout.Applied, WantedAt: at, ReportedAt: at},
				)
			}
			if err := tx.SaveDeliveries(string(d.ID), delivered); err != nil {
				return err
			}
		}
		return nil
	})
}
