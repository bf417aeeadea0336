// This file keeps roles that were defined here, and grants: who has which role where.

package store

import (
	"database/sql"
	"time"

	"gorm.io/gorm/clause"
)

// Role is a role that was defined here.
type Role struct {
	ID     string `gorm:"primaryKey"`
	Title  string
	Rights string // separated by spaces
	By     string
	At     time.Time
}

// Grant gives a role to an account or to a group of people.
type Grant struct {
	ID      string `gorm:"primaryKey"`
	Account string // empty: Group is set
	Group   string
	Role    string
	Unit    string // empty: everywhere
	From    string // the first day; empty: always
	Until   string // the last day; empty: for good
	By      string
	At      time.Time
}

// Roles lists the roles that were defined here, by id.
func (s *Store) Roles() ([]Role, error) { return many[Role](s.db.Order("id")) }

// SaveRole writes a role, new or altered.
func (s *Store) SaveRole(r Role) error {
	return s.db.Clauses(clause.OnConflict{UpdateAll: true}).Create(&r).Error
}

// DropRole removes a role; it tells whether there was one.
func (s *Store) DropRole(id string) (bool, error) {
	q := s.db.Where("id = ?", id).Delete(&Role{})
	return q.RowsAffected > 0, q.Error
}

// Grants lists all grants, by account, group, role and unit.
func (s *Store) Grants() ([]Grant, error) {
	return many[Grant](s.db.Order(`account, "group", role, unit, id`))
}

// GrantsFor lists the grants of an account, and those of every group.
func (s *Store) GrantsFor(account string) ([]Grant, error) {
	return many[Grant](s.db.Where("account = ? OR account = ''", account).Order("id"))
}

// Grant gives a grant.
func (s *Store) Grant(id string) (Grant, error) { return one[Grant](s.db.Where("id = ?", id)) }

// AddGrant adds a grant.
func (s *Store) AddGrant(g Grant) error { return s.db.Create(&g).Error }

// GrantsBy lists the grants of an account that somebody gave.
func (s *Store) GrantsBy(account, by string) ([]Grant, error) {
	return many[Grant](s.db.Where(`account = ? AND "by" = ?`, account, by).Order("id"))
}

// DropGrant removes a grant. That it was there until then is kept.
func (s *Store) DropGrant(id string, at time.Time) error {
	if err := s.db.Exec(
		`INSERT INTO grants_before (id, account, "group", role, unit, "from", until, "by", at, taken_at)
		 SELECT id, account, "group", role, unit, "from", until, "by", at, ? FROM grants WHERE id = ?`, at, id,
	).Error; err != nil {
		return err
	}
	return s.db.Where("id = ?", id).Delete(&Grant{}).Error
}

// GrantsAt lists the grants that there were at a moment, in the order of Grants.
func (s *Store) GrantsAt(at time.Time) ([]Grant, error) {
	var out []Grant
	err := s.db.Raw(
		`SELECT id, account, "group", role, unit, "from", until, "by", at FROM grants WHERE julianday(at) <= julianday(@at)
		 UNION ALL SELECT id, account, "group", role, unit, "from", until, "by", at FROM grants_before
		   WHERE julianday(at) <= julianday(@at) AND julianday(taken_at) > julianday(@at)
		 ORDER BY account, "group", role, unit, id`, sql.Named("at", at),
	).Scan(&out).Error
	return out, err
}
