package workflow

import (
	"testing"
	"time"

	"zenithridge.example/zridge/formats/directory"
	"zenithridge.example/zridge/service/store"
)

// TestWhenADirectoryIsRead says, by when it was last read and compared, what is due at half past
// nine.
func TestWhenADirectoryIsRead(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 11, 23, 9, 30, 0, 0, time.UTC)
	ago := func(minutes int) *time.Time { at := now.Add(-time.Duration(minutes) * time.Minute); return &at }
	ldap := &directory.LDAP{}
	for name, c := range map[string]struct {
		row  store.Source
		u    SetUp
		want string
	}{
		"never compared": {store.Source{ReadAt: ago(1)}, SetUp{LDAP: ldap, ReadEvery: 15}, FullRun},
		"compared last night, " +
			"read just now": {store.Source{ReadAt: ago(1), ComparedAt: ago(7 * 60)}, SetUp{LDAP: ldap, ReadEvery: 15, CompareAt: 2}, ""},
		"read a while ago": {store.Source{ReadAt: ago(15), ComparedAt: ago(7 * 60)},
			SetUp{LDAP: ldap, ReadEvery: 15, CompareAt: 2}, RecentRun},
		"read a while ago, only when asked": {store.Source{ReadAt: ago(900), ComparedAt: ago(7 * 60)}, SetUp{LDAP: ldap, CompareAt: 2}, ""},
		"compared before last " +
			"night's hour": {store.Source{ReadAt: ago(1), ComparedAt: ago(8 * 60)}, SetUp{LDAP: ldap, ReadEvery: 15, CompareAt: 2}, FullRun},
		"the hour is still to come today": {store.Source{ReadAt: ago(1), ComparedAt: ago(11 * 60)},
			SetUp{LDAP: ldap, ReadEvery: 15, CompareAt: 22}, ""},
		"and it was not compared " +
			"since yesterday's": {store.Source{ReadAt: ago(1), ComparedAt: ago(12 * 60)}, SetUp{LDAP: ldap, ReadEvery: 15, CompareAt: 22}, FullRun},
		"a table is never asked for": {store.Source{}, SetUp{Table: &directory.Table{}, ReadEvery: 15}, ""},
	} {
		if got := due(c.row, &c.u, now); got != c.want {
			t.Errorf("%s: %q, expected %q", name, got, c.want)
		}
	}
}

// TestLineSaysWhatHappened holds the title of a publication that a source brings.
func TestLineSaysWhatHappened(t *testing.T) {
	t.Parallel()
	for want, r := range map[string]RunReport{"nothing altered": {Same: 9}, "1 new, 2 altered, 3 back, 4 " +
		"left, 5 faulty": {New: 1, Altered: 2, Back: 3, Left: 4, Faulty: 5}} {
		if got := line(&r); got != want {
			t.Errorf("%q, expected %q", got, want)
		}
	}
}
