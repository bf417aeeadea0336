package store_test

import (
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
