// This file keeps what people want to be told, and what is to be sent to them.

package store

import (
	"time"

	"gorm.io/gorm/clause"
)

// AnnouncementChoice says how an account is told of a topic.
type AnnouncementChoice struct {
	Account string `gorm:"primaryKey"`
	Topic   string `gorm:"primaryKey"`
	Mail    bool
	Webhook bool
}

// AnnouncementHook is the address of an account's webhook.
type AnnouncementHook struct {
	Account string `gorm:"primaryKey"`
	URL     string `gorm:"column:url"`
}

// Announcement is something that is to be sent, or was.
type Announcement struct {
	Seq     int64 `gorm:"primaryKey;autoIncrement"`
	Account string
	Topic   string
	Channel string // mail, webhook
	Title   string
	Text    string
	Path    string // of the page in the console
	At      time.Time
	State   string // due, sent, failed
	Tries   int
	NextAt  time.Time
	Fault   string // why the last try failed
}

// States of an announcement.
const (
	AnnouncementDue    = "due"
	AnnouncementSent   = "sent"
	AnnouncementFailed = "failed"
)

// Choices gives what an account wants to be told.
func (s *Store) Choices(account string) ([]AnnouncementChoice, error) {
	return many[AnnouncementChoice](s.db.Where("account = ?", account).Order("topic"))
}

// ChoicesOf gives who wants to be told of a topic: accounts that are not disabled.
func (s *Store) ChoicesOf(topic string) ([]AnnouncementChoice, error) {
	return many[AnnouncementChoice](
		s.db.Where("topic = ? AND (mail OR webhook) AND account IN (SELECT name FROM accounts WHERE NOT disabled)", topic).Order("account"),
	)
}

// SaveChoices replaces what an account wants to be told, and the address of its webhook; empty: it has none.
func (s *Store) SaveChoices(account string, choices []AnnouncementChoice, hook string) error {
	return s.transaction(func(tx *Store) error {
		if err := tx.db.Where("account = ?", account).Delete(&AnnouncementChoice{}).Error; err != nil {
			return err
		}
		if err := tx.db.Where("account = ?", account).Delete(&AnnouncementHook{}).Error; err != nil {
			return err
		}
		if hook != "" {
			if err := tx.db.Create(&AnnouncementHook{account, hook}).Error; err != nil {
				return err
			}
		}
		if len(choices) == 0 {
			return nil
		}
		return tx.db.Create(&choices).Error
	})
}

// Hook gives the address of an account's webhook; empty: it has none.
func (s *Store) Hook(account string) (string, error) {
	found, err := many[AnnouncementHook](s.db.Where("account = ?", account))
	if err != nil || len(found) == 0 {
		return "", err
	}
	return found[0].URL, nil
}

// AddAnnouncements adds what is to be sent.
func (s *Store) AddAnnouncements(list []Announcement) error {
	if len(list) == 0 {
		return nil
	}
	return s.db.CreateInBatches(list, batch).Error
}

// DueAnnouncements gives what is to be sent by a moment, the oldest first.
func (s *Store) DueAnnouncements(by time.Time, most int) ([]Announcement, error) {
	return many[Announcement](s.db.Where("state = ? AND next_at <= ?", AnnouncementDue, by).Order("seq").Limit(most))
}

// Announcements gives what was to be sent to an account, the newest first.
func (s *Store) Announcements(account string, most int) ([]Announcement, error) {
	return many[Announcement](s.db.Where("account = ?", account).Order("seq DESC").Limit(most))
}

// SaveAnnouncement alters an announcement.
func (s *Store) SaveAnnouncement(a Announcement) error {
	return s.db.Clauses(clause.OnConflict{UpdateAll: true}).Create(&a).Error
}
