// This file keeps what laptops say, over time: which offered policies were taken on them, and what they are.

package store

import (
	"database/sql"
	"slices"
	"time"
)

// TakenOffers is what laptops say was taken on them: of each laptop that tells, the policies in the order of
// their ids. A laptop that tells and on which nothing was taken has an empty list.
type TakenOffers map[string][]string

// TakenOffersAt gives what laptops had said was taken at a moment.
func (s *Store) TakenOffersAt(at time.Time) (TakenOffers, error) {
	return s.taken(
		`SELECT l.device, coalesce(t.policy, '') AS policy FROM laptops AS l
		 LEFT JOIN offers_taken AS t ON t.device = l.device AND julianday(t.since) <= julianday(@at)
		   AND (t.until IS NULL OR julianday(t.until) > julianday(@at))
		 WHERE julianday(l.tells_since) <= julianday(@at)`, sql.Named("at", at),
	)
}

// TakenOffers gives what laptops say is taken.
func (s *Store) TakenOffers() (TakenOffers, error) {
	return s.taken(
		`SELECT l.device, coalesce(t.policy, '') AS policy FROM laptops AS l
		 LEFT JOIN offers_taken AS t ON t.device = l.device AND t.until IS NULL WHERE l.tells_since IS NOT NULL`,
	)
}

func (s *Store) taken(query string, args ...any) (TakenOffers, error) {
	var rows []struct{ Device, Policy string }
	if err := s.db.Raw(query, args...).Scan(&rows).Error; err != nil {
		return nil, err
	}
	out := make(TakenOffers, len(rows))
	for _, r := range rows {
		list := out[r.Device]
		if r.Policy != "" {
			list = append(list, r.Policy)
		}
		out[r.Device] = list
	}
	for _, list := range out {
		slices.Sort(list)
	}
	return out, nil
}

// TakenOffersSince gives since when a laptop has had each of the policies that are taken on it now.
func (s *Store) TakenOffersSince(device string) (map[string]time.Time, error) {
	var rows []struct {
		Policy string
		Since  time.Time
	}
	if err := s.db.Raw(`SELECT policy, since FROM offers_taken WHERE device = ? AND until IS NULL`, device).Scan(&rows).Error; err != nil {
		return nil, err
	}
	out := make(map[string]time.Time, len(rows))
	for _, r := range rows {
		out[r.Policy] = r.Since
	}
	return out, nil
}

// SaveTakenOffers notes that a laptop says what was taken on it, and what is otherwise than it said before.
func (s *Store) SaveTakenOffers(device string, taken, left []string, at time.Time) error {
	if err := s.db.Exec(`UPDATE laptops SET tells_since = ? WHERE device = ? AND tells_since IS NULL`, at, device).Error; err != nil {
		return err
	}
	for _, policy := range left {
		if err := s.db.Exec(`UPDATE offers_taken SET until = ? WHERE device = ? AND policy = ? AND until IS NULL`, at, device,
			policy).Error; err != nil {
			return err
		}
	}
	for _, policy := range taken {
		// Taken again within the same moment: it goes on.
		if err := s.db.Exec(
			`INSERT INTO offers_taken (device, policy, since) VALUES (?, ?, ?) ON CONFLICT (device, policy, since) DO UPDATE SET until = NULL`, device, policy, at,
		).Error; err != nil {
			return err
		}
	}
	return nil
}

// Facts gives what laptops say of themselves, by laptop, as JSON.
func (s *Store) Facts() (map[string]string, error) {
	return s.facts(`SELECT device, facts FROM laptop_facts WHERE until IS NULL`)
}

// FactsAt gives what laptops had said of themselves at a moment.
func (s *Store) FactsAt(at time.Time) (map[string]string, error) {
	return s.facts(
		`SELECT device, facts FROM laptop_facts WHERE julianday(since) <= julianday(@at) AND (until IS NULL OR julianday(until) > julianday(@at))`,
		sql.Named("at", at),
	)
}

func (s *Store) facts(query string, args ...any) (map[string]string, error) {
	var rows []struct{ Device, Facts string }
	if err := s.db.Raw(query, args...).Scan(&rows).Error; err != nil {
		return nil, err
	}
	out := make(map[string]string, len(rows))
	for _, r := range rows {
		out[r.Device] = r.Facts
	}
	return out, nil
}

// SaveFacts notes what a laptop says of itself in place of what it said before.
func (s *Store) SaveFacts(device, facts string, at time.Time) error {
	if err := s.db.Exec(`UPDATE laptop_facts SET until = ? WHERE device = ? AND until IS NULL AND since <> ?`, at, device,
		at).Error; err != nil {
		return err
	}
	return s.db.Exec(
		`INSERT INTO laptop_facts (device, since, facts) VALUES (?, ?, ?) ON CONFLICT (device, since) DO UPDATE SET facts = excluded.facts, until = NULL`,
		device, at, facts,
	).Error
}
