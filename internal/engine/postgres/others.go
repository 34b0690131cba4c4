package postgres

import (
	"context"
	"time"

	"jugatum/internal/engine"
)

// Waiting asks which backends wait for ours (pg_blocking_pids). Since when, only
// version 14 and newer tell (pg_locks.waitstart).
func (db *DB) Waiting(ctx context.Context, id int64) ([]engine.Waiter, error) {
	// Mostly nobody waits for anybody, which is quickly told.
	var any bool
	if err := db.pool.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM pg_stat_activity WHERE wait_event_type = 'Lock')").Scan(&any); err != nil || !any {
		return nil, err
	}
	since := "NULL"
	if db.number >= 140000 {
		since = "min(l.waitstart)"
	}
	rows, err := db.pool.QueryContext(ctx, `SELECT a.pid::text, coalesce(extract(epoch FROM clock_timestamp() - `+since+`) * 1000, 0)::float8,
			coalesce(min(CASE WHEN l.relation IS NOT NULL THEN l.relation::regclass::text END),
				(SELECT min(t.relation::regclass::text) FROM pg_locks t WHERE t.pid = a.pid AND t.locktype = 'tuple'), ''), left(coalesce(a.query, ''), 200)
		FROM pg_stat_activity a JOIN pg_locks l ON l.pid = a.pid AND NOT l.granted
		WHERE a.wait_event_type = 'Lock' AND $1 = ANY(pg_blocking_pids(a.pid)) GROUP BY a.pid, a.query`, id)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []engine.Waiter
	for rows.Next() {
		var w engine.Waiter
		var ms float64
		if err := rows.Scan(&w.Session, &ms, &w.For, &w.Statement); err != nil {
			return nil, err
		}
		w.Waited = time.Duration(ms * float64(time.Millisecond))
		out = append(out, w)
	}
	return out, rows.Err()
}

// Lag is how long the standby furthest behind takes to replay what was written
// (pg_stat_replication.replay_lag). A standby that has caught up tells none.
func (db *DB) Lag(ctx context.Context) (time.Duration, error) {
	var ms float64
	err := db.pool.QueryRowContext(ctx, "SELECT CASE WHEN count(*) = 0 THEN -1 ELSE coalesce(extract(epoch FROM max(replay_lag)) * 1000, 0) END::float8 FROM pg_stat_replication").Scan(&ms)
	if err != nil || ms < 0 {
		return -1, err
	}
	return time.Duration(ms * float64(time.Millisecond)), nil
}
