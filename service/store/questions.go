// This file stores questions to those who answer for policies that do not fit together.

package store

import "time"

// ClashQuestion is a question about a clash or a problem.
type ClashQuestion struct {
	ID         string `gorm:"primaryKey"`
	At         time.Time
	Setting    string // of a clash; empty with a problem
	Problem    string // the check; empty with a clash
	Policies   string // ids, sorted, separated by spaces
	By         string
	Asked      string // JSON: the names of those who are asked
	Note       string
	State      string
	Answer     string
	AnsweredBy string
	AnsweredAt *time.Time
}

// ClashQuestions lists questions, the newest first; of one state or with an empty one of all.
func (s *Store) ClashQuestions(state string) ([]ClashQuestion, error) {
	q := s.db.Order("at DESC, id")
	if state != "" {
		q = q.Where("state = ?", state)
	}
	return many[ClashQuestion](q)
}

// ClashQuestion gives a question.
func (s *Store) ClashQuestion(id string) (ClashQuestion, error) {
	return one[ClashQuestion](s.db.Where("id = ?", id))
}

// SaveClashQuestion adds a question or alters it.
func (s *Store) SaveClashQuestion(q ClashQuestion) error { return s.db.Save(&q).Error }
