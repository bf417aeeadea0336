// Package store keeps the service's data in an SQLite database: the live estate and every published
// version of each object, open changes, the audit log, accounts, and what laptops reported. It
// holds no rules of the job; the use cases of package workflow decide what is written together.
package store

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"

	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
)

// ErrNotFound says that there is no such record.
var ErrNotFound = errors.New("no such record")

// Store is an open database, or a transaction on one.
type Store struct{ db *gorm.DB }

//go:embed migrations/*.sql
var migrations embed.FS

// Open opens or creates the database file and brings its schema up to date.
func Open(path string) (*Store, error) {
	if file, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600); err == nil { // a new one is its owner's alone
		file.Close()
	}
	dsn := "file:" + path + "?_journal_mode=WAL&_busy_timeout=30000&_foreign_keys=on&_synchronous=NORMAL&_txlock=immediate"
	db, err := gorm.Open(
		sqlite.Open(dsn),
		&gorm.Config{
			TranslateError:         true,
			Logger:                 logger.Discard,
			SkipDefaultTransaction: true,
			PrepareStmt:            true,
			NowFunc:                func() time.Time { return time.Now().UTC() },
		},
	)
	if err != nil {
		return nil, fmt.Errorf("opening the database %s: %w", path, err)
	}
	s := &Store{db}
	if err := s.migrate(); err != nil {
		s.Close()
		return nil, fmt.Errorf("opening the database %s: %w", path, err)
	}
	return s, nil
}

// OpenToRead opens a database file, or a copy of one, without altering it. The schema must be that
// of this program.
func OpenToRead(path string) (*Store, error) {
	if _, err := os.Stat(path); err != nil {
		return nil, err
	}
	// The path is a URI here: a name with "?" or "%" in it must not be read as parameters.
	name := (&url.URL{Path: path}).EscapedPath()
	config := &gorm.Config{TranslateError: true, Logger: logger.Discard, SkipDefaultTransaction: true}
	db, err := gorm.Open(sqlite.Open("file:"+name+"?mode=ro&_busy_timeout=30000"), config)
	if err != nil {
		return nil, fmt.Errorf("opening the database %s: %w", path, err)
	}
	return &Store{db}, nil
}

// Close closes the database.
func (s *Store) Close() error {
	inner, err := s.db.DB()
	if err != nil {
		return err
	}
	return inner.Close()
}

// migrate applies the migrations that the file does not have, each in a transaction of its own. A
// file with migrations that this program does not know is refused.
func (s *Store) migrate() error {
	if err := s.db.Exec(`CREATE TABLE IF NOT EXISTS schema_migrations (name TEXT PRIMARY KEY, at DATETIME NOT NULL)`).Error; err != nil {
		return err
	}
	var done []string
	if err := s.db.Raw(`SELECT name FROM schema_migrations ORDER BY name`).Scan(&done).Error; err != nil {
		return err
	}
	entries, err := migrations.ReadDir("migrations")
	if err != nil {
		return err
	}
	known := make([]string, len(entries))
	for i, e := range entries {
		known[i] = strings.TrimSuffix(e.Name(), ".sql")
	}
	for _, name := range done {
		if !slices.Contains(known, name) {
			return fmt.Errorf("the file has the migration %s, which this program does not know; use the newer program", name)
		}
	}
	for _, name := range known {
		if slices.Contains(done, name) {
			continue
		}
		text, err := migrations.ReadFile("migrations/" + name + ".sql")
		if err != nil {
			return err
		}
		if err := s.apply(name, string(text)); err != nil {
			return fmt.Errorf("migration %s: %w", name, err)
		}
	}
	return nil
}

// apply runs a migration below GORM, whose prepared statements hold one statement each.
func (s *Store) apply(name, text string) error {
	inner, err := s.db.DB()
	if err != nil {
		return err
	}
	tx, err := inner.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback() // without effect after the commit
	if _, err := tx.Exec(text); err != nil {
		return err
	}
	if _, err := tx.Exec(`INSERT INTO schema_migrations (name, at) VALUES (?, ?)`, name, time.Now().UTC()); err != nil {
		return err
	}
	return tx.Commit()
}

// In gives the same store for work that ends with a context.
func (s *Store) In(ctx context.Context) *Store { return &Store{s.db.WithContext(ctx)} }

// Transaction runs f on a store whose writes all happen, or none of them. A context that ends
// meanwhile does not end it: whoever asked for it may have gone, what they asked for is either done
// or not.
func (s *Store) Transaction(ctx context.Context, f func(*Store) error) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	return s.In(context.WithoutCancel(ctx)).transaction(f)
}

func (s *Store) transaction(f func(*Store) error) error {
	return s.db.Transaction(func(tx *gorm.DB) error { return f(&Store{tx}) })
}

// CheckIntegrity runs SQLite's own check of the file.
func (s *Store) CheckIntegrity() error {
	var found []string
	if err := s.db.Raw(`PRAGMA integrity_check`).Scan(&found).Error; err != nil {
		return err
	}
	if len(found) != 1 || found[0] != "ok" {
		return fmt.Errorf("the database is damaged: %s", strings.Join(found, "; "))
	}
	return nil
}

func one[T any](q *gorm.DB) (T, error) {
	var row T
	err := q.Take(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		err = ErrNotFound
	}
	return row, err
}

func many[T any](q *gorm.DB) ([]T, error) {
	var rows []T
	err := q.Find(&rows).Error
	return rows, err
}
