package store_test

import (
	"bytes"
	"errors"
	"strings"
	"testing"
	"time"

	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/service/store"
)

// TestFilesAreKeptAsTheyCame adds a file twice, under two names: the first stands, the bytes too,
// and after opening anew.
func TestFilesAreKeptAsTheyCame(t *testing.T) {
	s, path := opened(t)
	at := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	hash := strings.Repeat("ab", 32)
	first := store.File{
		SHA256:    hash,
		Name:      "root.pem",
		MediaType: "application/pkix-cert",
		Content:   "certificate",
		Size:      3,
		Reading:   `{}`,
		By:        "ines",
		At:        at,
	}
	if err := s.AddFile(first, []byte("abc")); err != nil {
		t.Fatal(err)
	}
	second := first
	second.Name, second.By = "other.pem", "tomas"
	if err := s.AddFile(second, []byte("xyz")); err != nil {
		t.Fatal(err)
	}
	third := store.File{SHA256: strings.Repeat("cd", 32), Name: "in.sh", Content: "any", Size: 0, Reading: `{}`, At: at.Add(time.Hour)}
	if err := s.AddFile(third, []byte{}); err != nil {
		t.Fatal(err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	s, err := store.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if f, err := s.File(hash); err != nil || f != first {
		t.Errorf("%+v %v", f, err)
	}
	if data, err := s.FileData(hash); err != nil || string(data) != "abc" {
		t.Errorf("%q %v", data, err)
	}
	if all, err := s.Files(""); err != nil || len(all) != 2 || all[0].Name != "in.sh" {
		t.Errorf("%+v %v", all, err)
	}
	if some, err := s.Files("certificate"); err != nil || len(some) != 1 {
		t.Errorf("%+v %v", some, err)
	}
	if _, err := s.File("none"); !errors.Is(err, store.ErrNotFound) {
		t.Error(err)
	}
	if _, err := s.FileData("none"); !errors.Is(err, store.ErrNotFound) {
		t.Error(err)
	}
	if err := s.CheckIntegrity(); err != nil {
		t.Error(err)
	}
}

// TestObservationsAreReplaced asks a laptop twice: what it no longer says is gone.
func TestObservationsAreReplaced(t *testing.T) {
	s, _ := opened(t)
	at := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	table := setting.TableValue([]setting.Row{{"name": setting.TextValue("Chart room")}})
	if err := s.SaveObservations("LT-1", map[setting.ID]setting.Value{"a": setting.BoolValue(true), "b": table}, at); err != nil {
		t.Fatal(err)
	}
	if err := s.SaveObservations("LT-2", map[setting.ID]setting.Value{"a": setting.IntegerValue(3)}, at); err != nil {
		t.Fatal(err)
	}
	if got, err := s.Observations("LT-1"); err != nil || len(got) != 2 || !got["b"].Equal(table) {
		t.Errorf("%v %v", got, err)
	}
	if err := s.SaveObservations("LT-1", map[setting.ID]setting.Value{"a": setting.BoolValue(false)}, at); err != nil {
		t.Fatal(err)
	}
	if got, err := s.Observations("LT-1"); err != nil || len(got) != 1 || got["a"].Bool() {
		t.Errorf("after asking again: %v %v", got, err)
	}
	if err := s.SaveObservations("LT-1", nil, at); err != nil {
		t.Fatal(err)
	}
	if got, err := s.Observations("LT-1"); err != nil || len(got) != 0 {
		t.Errorf("after it said nothing: %v %v", got, err)
	}
	if got, _ := s.Observations("LT-2"); len(got) != 1 {
		t.Errorf("another laptop's: %v", got)
	}
}

// TestFilesAreCutIntoParts: files of sizes around that of a part come back as they were, also those
// that an older program kept in one row.
func TestFilesAreCutIntoParts(t *testing.T) {
	s, path := opened(t)
	const part = 1 << 20
	sizes := []int{0, 1, part - 1, part, part + 1, 3*part + 7}
	file := func(i int) (store.File, []byte) {
		data := make([]byte, sizes[i])
		for at := range data {
			data[at] = byte(at>>8 + at + i)
		}
		return store.File{SHA256: strings.Repeat(string(rune('a'+i)), 64), Name: "f", Content: "any", Size: int64(len(data)), Reading: `{}`}, data
	}
	check := func(s *store.Store) {
		t.Helper()
		for i := range sizes {
			f, data := file(i)
			if kept, err := s.FileData(f.SHA256); err != nil || !bytes.Equal(kept, data) {
				t.Errorf("of %d bytes %d are kept, or others: %v", sizes[i], len(kept), err)
			}
		}
		if _, err := s.FileData(strings.Repeat("0", 64)); !errors.Is(err, store.ErrNotFound) {
			t.Errorf("a file that is not kept gives %v", err)
		}
	}
	for i := range sizes {
		if err := s.AddFile(file(i)); err != nil {
			t.Fatal(err)
		}
	}
	check(s)
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	db := raw(t, path)
	for _, statement := range []string{
		`DROP TABLE file_parts`,
		`DELETE FROM schema_migrations WHERE name = '0016_file_parts'`,
		`CREATE TABLE file_contents (sha256 TEXT PRIMARY KEY REFERENCES files(sha256), data BLOB NOT NULL)`,
	} {
		if err := db.Exec(statement).Error; err != nil {
			t.Fatal(err)
		}
	}
	for i := range sizes {
		f, data := file(i)
		if err := db.Exec(`INSERT INTO file_contents VALUES (?, ?)`, f.SHA256, data).Error; err != nil {
			t.Fatal(err)
		}
	}
	if inner, err := db.DB(); err != nil || inner.Close() != nil {
		t.Fatal(err)
	}
	s, err := store.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	check(s)
}
