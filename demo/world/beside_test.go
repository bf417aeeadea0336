// This file measures the engine beside two obvious ways of doing the same: a loop over laptops, and
// SQL with window functions.

package world_test

import (
	"database/sql"
	"fmt"
	"testing"
	"time"

	_ "github.com/mattn/go-sqlite3"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/demo/world"
)

// BenchmarkBeside resolves an estate of 100,000 laptops in three ways, in one run. The loop, which
// is what answers for one laptop with every reason, goes through 1,000 of them, SQL through 300;
// both are given who gets which policy at which level, and the figures are counted up to all
// laptops.
func BenchmarkBeside(b *testing.B) {
	const laptops, looped, queried = 100_000, 1000, 300
	s := world.Make(world.Of(laptops), 1)
	plan := resolve.Compile(s)
	for b.Loop() {
		began := time.Now()
		whole := plan.With(s.With(estate.Edit{Kind: estate.KindRuling, ID: "none"})).Estate()
		engine := time.Since(began)

		began = time.Now()
		for i := range looped {
			if _, err := plan.Effective(s.Devices[i*97].ID, ""); err != nil {
				b.Fatal(err)
			}
		}
		loop := time.Since(began) * laptops / looped

		db := tables(b, s, plan, queried)
		began = time.Now()
		rows, settled := decideInSQL(b, db)
		query := time.Since(began) * laptops / queried
		db.Close()
		agree(b, whole, settled)

		b.ReportMetric(engine.Seconds()*1000, "ms-engine")
		b.ReportMetric(loop.Seconds(), "s-loop")
		b.ReportMetric(query.Seconds(), "s-sql")
		b.ReportMetric(loop.Seconds()/engine.Seconds(), "loop/engine")
		b.ReportMetric(query.Seconds()/engine.Seconds(), "sql/engine")
		b.ReportMetric(float64(rows)/queried, "sql-settings/laptop")
	}
}

// tables puts the candidates of some laptops into a database: entries of closest and strictest
// settings, and who gets which policy.
func tables(b *testing.B, s *estate.Snapshot, plan *resolve.Plan, laptops int) *sql.DB {
	b.Helper()
	db, err := sql.Open("sqlite3", ":memory:")
	if err != nil {
		b.Fatal(err)
	}
	db.SetMaxOpenConns(1)
	do := func(query string, args ...any) {
		if _, err := db.Exec(query, args...); err != nil {
			b.Fatal(err)
		}
	}
	do(`CREATE TABLE entries (policy TEXT, setting TEXT, strictest INTEGER, value TEXT, number INTEGER, priority INTEGER, locked INTEGER)`)
	do(`CREATE TABLE gets (device TEXT, policy TEXT, level INTEGER)`)
	do(`BEGIN`)
	for i := range s.Policies {
		p := &s.Policies[i]
		for _, e := range p.Entries {
			d := plan.Definition(e.Setting)
			if d.Combine != setting.Closest && d.Combine != setting.Strictest || len(d.Forced) > 0 {
				continue
			}
			do(
				`INSERT INTO entries VALUES (?, ?, ?, ?, ?, ?, ?)`,
				p.ID,
				e.Setting,
				d.Combine == setting.Strictest,
				e.Value.String(),
				e.Value.Integer(),
				p.Priority,
				e.Lock,
			)
		}
	}
	for i := range laptops {
		r, err := plan.Effective(s.Devices[i*97].ID, "")
		if err != nil {
			b.Fatal(err)
		}
		levels := map[estate.PolicyID]outcome.Level{}
		for j := range r.Settings {
			for _, c := range r.Settings[j].Candidates {
				levels[c.Policy] = c.Level
			}
		}
		for policy, level := range levels {
			do(`INSERT INTO gets VALUES (?, ?, ?)`, r.Device, policy, level)
		}
	}
	do(`COMMIT`)
	do(`CREATE INDEX by_policy ON entries (policy)`)
	return db
}

// decideInSQL decides what has no lock: the innermost level, then the highest priority; or the
// lowest number.
func decideInSQL(b *testing.B, db *sql.DB) (rows int, settled map[[2]string]string) {
	b.Helper()
	found, err := db.Query(`SELECT device, setting, value FROM (
		SELECT g.device, e.setting, e.value, MAX(e.locked) OVER (PARTITION BY g.device, e.setting) AS any_lock,
		       ROW_NUMBER() OVER (PARTITION BY g.device, e.setting ORDER BY CASE WHEN e.strictest THEN e.number END, g.level DESC, e.priority DESC, e.policy) AS place
		FROM gets g JOIN entries e ON e.policy = g.policy) WHERE place = 1 AND any_lock = 0`)
	if err != nil {
		b.Fatal(err)
	}
	defer found.Close()
	settled = map[[2]string]string{}
	for found.Next() {
		var device, id, value string
		if err := found.Scan(&device, &id, &value); err != nil {
			b.Fatal(err)
		}
		settled[[2]string{device, id}] = value
		rows++
	}
	if err := found.Err(); err != nil {
		b.Fatal(err)
	}
	return rows, settled
}

// agree compares what the query decided with the engine, where the setting is supported and nobody
// conflicts.
func agree(b *testing.B, whole *resolve.EstateResolution, settled map[[2]string]string) {
	b.Helper()
	same := 0
	for at, value := range settled {
		is := whole.State(setting.ID(at[1]), estate.DeviceID(at[0]))
		if is.Status != outcome.Set {
			continue
		}
		if is.Value.String() != value {
			b.Fatalf("%s on %s is %s by SQL and %s by the engine", at[1], at[0], value, is.Value)
		}
		same++
	}
	if same < len(settled)/2 {
		b.Fatal(fmt.Sprintf("only %d of %d could be compared", same, len(settled)))
	}
}
