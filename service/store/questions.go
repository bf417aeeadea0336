// This file stores questions to those who answer for policies that do not fit together.

package store

import "time"

// ConflictQuestion is a question about a conflict or a problem.
type ConflictQuestion struct {
	ID         string `gorm:"primaryKey"`
	At         time.Time
	Setting    string // of a conflict; empty with a problem
	Problem    string // the check; empty with a conflict
	Policies   string // ids, sorted, separated by spaces
	By         string
	Asked      string // JSON: the names of those who are asked
	Note       string
	State      string
	Answer     string
	AnsweredBy string
	AnsweredAt *time.Time
}

// ConflictQuestions lists questions, the newest first; of one state or with an empty one of all.
func (s *Store) ConflictQuestions(state string) ([]ConflictQuestion, error) {
	q := s.db.Order("at DESC, id")
	if state != "" {
		q = q.Where("state = ?", state)
	}
	return many[ConflictQuestion](q)
}

// ConflictQuestion gives a question.
func (s *Store) ConflictQuestion(id string) (ConflictQuestion, error) {
	return one[ConflictQuestion](s.db.Where("id = ?", id))
}

// SaveConflictQuestion adds a question or alters it.
func (s *Store) SaveConflictQuestion(q ConflictQuestion) error { return s.db.Save(&q).Error }
