package store_test

import (
	"errors"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"

	"zenithridge.example/zridge/core/rollout"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/service/store"
)

func opened(t *testing.T) (*store.Store, string) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "z.db")
	s, err := store.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s, path
}

func raw(t *testing.T, path string) *gorm.DB {
	t.Helper()
	db, err := gorm.Open(sqlite.Open("file:"+path), &gorm.Config{Logger: logger.Discard})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if inner, err := db.DB(); err == nil {
			inner.Close()
		}
	})
	return db
}

var now = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

func TestWhatIsRecordedIsNeverAltered(t *testing.T) {
	s, path := opened(t)
	if err := s.Audit(store.AuditRecord{At: now, By: "ines", Via: "console", Action: "edit", Before: "a", After: "b"}); err != nil {
		t.Fatal(err)
	}
	if err := s.PutVersions(
		[]store.ObjectVersion{{Kind: "policies", ID: "p", Version: 1, Body: "{}", Revision: 1, By: "ines", At: now}},
	); err != nil {
		t.Fatal(err)
	}
	db := raw(t, path)
	for _, statement := range []string{"UPDATE audit_records SET after = 'c'", "DELETE FROM audit_records", "UPDATE object_versions " +
		"SET body = '[]'", "DELETE FROM object_versions"} {
		if err := db.Exec(statement).Error; err == nil {
			t.Errorf("%s was carried out", statement)
		}
	}
	if err := s.PutVersions([]store.ObjectVersion{{Kind: "policies", ID: "p", Version: 1, Body: "[]", At: now}}); err == nil {
		t.Error("a version was written twice")
	}
	if o, err := s.Object("policies", "p"); err != nil || o.Body != "{}" {
		t.Errorf("the object is %+v %v", o, err)
	}
	records, err := s.AuditRecords(store.AuditFilter{}, 10)
	if err != nil || len(records) != 1 || records[0].After != "b" || !records[0].At.Equal(now) {
		t.Errorf("the log is %+v %v", records, err)
	}
}

func TestMigrationsRunOnceAndUnknownOnesAreRefused(t *testing.T) {
	s, path := opened(t)
	if err := s.SaveChange(store.Change{ID: "C", Title: "kept", State: "open", Version: 1, CreatedAt: now, UpdatedAt: now}); err != nil {
		t.Fatal(err)
	}
	s.Close()
	again, err := store.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	if c, err := again.Change("C"); err != nil || c.Title != "kept" {
		t.Errorf("after opening again: %+v %v", c, err)
	}
	again.Close()
	if err := raw(t, path).Exec("INSERT INTO schema_migrations (name, at) VALUES ('9999_from_the_future', ?)", now).Error; err != nil {
		t.Fatal(err)
	}
	if _, err := store.Open(path); err == nil || !strings.Contains(err.Error(), "9999_from_the_future") {
		t.Errorf("a file of a newer program was opened: %v", err)
	}
	if _, err := store.Open(filepath.Join(t.TempDir(), "no", "such", "folder", "z.db")); err == nil {
		t.Error("a file in a folder that is not there was opened")
	}
}

func TestATransactionIsWholeOrNot(t *testing.T) {
	s, _ := opened(t)
	boom := errors.New("boom")
	err := s.Transaction(t.Context(), func(tx *store.Store) error {
		if err := tx.SaveChange(store.Change{ID: "C", State: "open", CreatedAt: now, UpdatedAt: now}); err != nil {
			return err
		}
		if err := tx.SaveEdits(store.Edit{ChangeID: "C", Kind: "policies", ObjectID: "p", At: now}); err != nil {
			return err
		}
		return boom
	})
	if !errors.Is(err, boom) {
		t.Fatal(err)
	}
	if _, err := s.Change("C"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("the change is there: %v", err)
	}
	if err := s.SaveEdits(store.Edit{ChangeID: "C", Kind: "policies", ObjectID: "p", At: now}); err == nil {
		t.Error("an edit of no change was stored")
	}
	if err := s.CheckIntegrity(); err != nil {
		t.Error(err)
	}
}

func TestDeliveriesComeBackAsTheyWent(t *testing.T) {
	s, _ := opened(t)
	in := []rollout.Delivery{
		{Setting: "a", Wanted: setting.BoolValue(true), Status: rollout.Pending, WantedAt: now},
		{
			Setting:    "b",
			Wanted:     setting.TextValue(""),
			Reported:   setting.TextValue("x"),
			Status:     rollout.Failed,
			Code:       "425",
			Reason:     "denied",
			WantedAt:   now,
			ReportedAt: now,
		},
		{
			Setting:    "c",
			Wanted:     setting.ListValue([]string{"x", "y"}),
			Reported:   setting.IntegerValue(3),
			Status:     rollout.Applied,
			WantedAt:   now,
			ReportedAt: now,
		},
		{Setting: "d", Status: rollout.Conflict},
	}
	if err := s.SaveDeliveries("LT-1", in); err != nil {
		t.Fatal(err)
	}
	out, err := s.Deliveries("LT-1")
	if err != nil || len(out) != len(in) {
		t.Fatalf("%d of %d came back: %v", len(out), len(in), err)
	}
	for _, want := range in {
		got := out[want.Setting]
		if !got.Wanted.Equal(want.Wanted) || !got.Reported.Equal(want.Reported) || got.Status != want.Status || got.Code != want.Code ||
			got.Reason != want.Reason ||
			!got.WantedAt.Equal(want.WantedAt) ||
			!got.ReportedAt.Equal(want.ReportedAt) {
			t.Errorf("%+v came back as %+v", want, got)
		}
	}
	if err := s.SaveDeliveries("LT-1", []rollout.Delivery{{Setting: "a", Status: rollout.Applied}}); err != nil {
		t.Fatal(err)
	}
	if out, _ := s.Deliveries("LT-1"); len(out) != 3 {
		t.Errorf("a delivery that is gone is still there: %v", out)
	}
	counts, err := s.StatusCounts()
	if err != nil || len(counts) != 3 {
		t.Errorf("counts are %+v %v", counts, err)
	}
	failed, err := s.Failed(10)
	if err != nil || len(failed) != 1 || failed[0].Setting != "b" || failed[0].Reason != "denied" {
		t.Errorf("failed are %+v %v", failed, err)
	}
}

func TestCodesAndSessionsEnd(t *testing.T) {
	s, _ := opened(t)
	codes := []store.Code{
		{Hash: "h1", Purpose: "enrol", Device: "LT-1", CreatedAt: now, ExpiresAt: now.Add(time.Hour)},
		{Hash: "h2", Purpose: "enrol", CreatedAt: now, ExpiresAt: now.Add(time.Hour)},
	}
	if err := s.AddCodes(codes); err != nil {
		t.Fatal(err)
	}
	if _, err := s.UseCode("h1", "set-up", now); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("a code of another purpose: %v", err)
	}
	if _, err := s.UseCode("h1", "enrol", now.Add(2*time.Hour)); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("an expired code: %v", err)
	}
	if c, err := s.UseCode("h1", "enrol", now); err != nil || c.Device != "LT-1" {
		t.Errorf("the code: %+v %v", c, err)
	}
	if _, err := s.UseCode("h1", "enrol", now); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("a used code: %v", err)
	}
	if err := s.AddAccount(store.Account{Name: "ines", PasswordHash: "x", CreatedAt: now}); err != nil {
		t.Fatal(err)
	}
	if err := s.AddAccount(store.Account{Name: "ines", PasswordHash: "y", CreatedAt: now}); err == nil {
		t.Error("an account was added twice")
	}
	for i, expires := range []time.Time{now.Add(time.Minute), now.Add(time.Hour)} {
		if err := s.AddSession(
			store.Session{Hash: string(rune('a' + i)), Account: "ines", CreatedAt: now.Add(time.Duration(i) * 30 * time.Minute), ExpiresAt: expires},
		); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := s.Session("a"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("an expired session is kept: %v", err)
	}
	if n, err := s.Session("b"); err != nil || n.Account != "ines" {
		t.Errorf("the session: %+v %v", n, err)
	}
}
