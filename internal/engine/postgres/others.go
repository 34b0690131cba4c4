package postgres

import (
	"context"
	"database/sql"
	"fmt"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// Waiting asks which backends wait for ours (pg_blocking_pids). Since when, only
// version 14 and newer tell (pg_locks.waitstart).
func (db *DB) Waiting(ctx context.Context, ids []int64) ([]engine.Waiter, time.Duration, error) {
	// Mostly nobody waits for anybody, which is quickly told.
	var any bool
	if err := db.pool.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM pg_stat_activity WHERE wait_event_type = 'Lock')").Scan(&any); err != nil || !any {
		return nil, 0, err
	}
	since := "NULL"
	if db.number >= 140000 {
		since = "min(l.waitstart)"
	}
	rows, err := db.pool.QueryContext(ctx, `SELECT a.pid::text, coalesce(extract(epoch FROM clock_timestamp() - `+since+`) * 1000, 0)::float8,
			coalesce(min(CASE WHEN l.relation IS NOT NULL THEN l.relation::regclass::text END),
				(SELECT min(t.relation::regclass::text) FROM pg_locks t WHERE t.pid = a.pid AND t.locktype = 'tuple'), ''), left(coalesce(a.query, ''), 200)
		FROM pg_stat_activity a JOIN pg_locks l ON l.pid = a.pid AND NOT l.granted
		WHERE a.wait_event_type = 'Lock' AND CAST($1 AS int[]) && pg_blocking_pids(a.pid) AND a.pid <> ALL(CAST($1 AS int[])) GROUP BY a.pid, a.query`, ids)
	if err != nil {
		return nil, 0, err
	}
	defer rows.Close()
	var out []engine.Waiter
	for rows.Next() {
		var w engine.Waiter
		var ms float64
		if err := rows.Scan(&w.Session, &ms, &w.For, &w.Statement); err != nil {
			return nil, 0, err
		}
		w.Waited = time.Duration(ms * float64(time.Millisecond))
		out = append(out, w)
	}
	return out, 0, rows.Err()
}

// ManyWriters is true: writers of different rows do not wait for each other.
func (db *DB) ManyWriters() bool { return true }

// Lag is how far the standby furthest behind is, by the log's positions in
// pg_stat_replication.
func (db *DB) Lag(ctx context.Context) (time.Duration, error) {
	var written, replayed sql.NullInt64
	err := db.pool.QueryRowContext(ctx, `SELECT CASE WHEN pg_is_in_recovery() THEN NULL ELSE pg_wal_lsn_diff(pg_current_wal_lsn(), '0/0') END::bigint,
		min(pg_wal_lsn_diff(replay_lsn, '0/0'))::bigint FROM pg_stat_replication`).Scan(&written, &replayed)
	if err != nil || !written.Valid || !replayed.Valid {
		return -1, err
	}
	return db.lag.Behind(time.Now(), written.Int64, replayed.Int64), nil
}

// Housekeeping tells of dead row versions, of updates that had to write to every
// index (no HOT update), and of transaction numbers, by the server's statistics,
// which are some seconds old.
func (db *DB) Housekeeping(ctx context.Context, t *change.Table) ([]engine.Setting, error) {
	var dead, live, updated, hot, due int64
	var vacuumed bool
	err := db.pool.QueryRowContext(ctx, `SELECT coalesce(sum(n_dead_tup), 0)::bigint, coalesce(sum(n_live_tup), 0)::bigint, coalesce(sum(n_tup_upd), 0)::bigint, coalesce(sum(n_tup_hot_upd), 0)::bigint,
			(current_setting('autovacuum_vacuum_threshold')::float8 + current_setting('autovacuum_vacuum_scale_factor')::float8 * coalesce(sum(n_live_tup), 0))::bigint,
			current_setting('autovacuum')::bool
		FROM pg_stat_user_tables WHERE relid = CAST($1 AS text)::regclass OR relid IN (SELECT inhrelid FROM pg_inherits WHERE inhparent = CAST($1 AS text)::regclass)`, t.SQL(d)).
		Scan(&dead, &live, &updated, &hot, &due, &vacuumed)
	if err != nil {
		return nil, err
	}
	meaning := fmt.Sprintf("old versions that take up room until they are vacuumed; autovacuum comes at about %d", due)
	if !vacuumed {
		meaning = "old versions that take up room until they are vacuumed; autovacuum is off, so VACUUM " + t.String() + " afterwards"
	}
	out := []engine.Setting{{Name: "dead rows of " + t.String(), Value: fmt.Sprint(dead), Meaning: meaning}}
	if updated > 0 {
		out = append(out, engine.Setting{Name: "HOT updates of " + t.String(), Value: fmt.Sprintf("%.0f %%", 100*float64(hot)/float64(updated)),
			Meaning: fmt.Sprintf("share of the %d updates since the statistics began that wrote to no index; others changed an indexed column or found their page full (a lower fillfactor leaves room)", updated)})
	}
	// A slot whose reader does not come keeps log for it until the disk is full.
	var slots, inactive int
	var kept sql.NullInt64
	if err := db.pool.QueryRowContext(ctx, `SELECT count(*), count(*) FILTER (WHERE NOT active),
		max(CASE WHEN pg_is_in_recovery() THEN NULL ELSE pg_wal_lsn_diff(pg_current_wal_lsn(), restart_lsn) END)::bigint FROM pg_replication_slots`).Scan(&slots, &inactive, &kept); err != nil {
		return nil, err
	}
	if slots > 0 && kept.Valid {
		meaning := "of write-ahead log kept back for the replication slot furthest behind"
		if inactive > 0 {
			meaning += fmt.Sprintf("; %d of %d slots have no reader now, and what a run writes stays until they have or are dropped", inactive, slots)
		}
		out = append(out, engine.Setting{Name: "retained log", Value: fmt.Sprintf("%.1f MB", float64(kept.Int64)/1e6), Meaning: meaning})
	}
	var age, limit int64
	if err := db.pool.QueryRowContext(ctx, "SELECT age(datfrozenxid), current_setting('autovacuum_freeze_max_age')::bigint FROM pg_database WHERE datname = current_database()").Scan(&age, &limit); err != nil {
		return nil, err
	}
	return append(out, engine.Setting{Name: "transaction age", Value: fmt.Sprintf("%.1f %%", 100*float64(age)/float64(limit)),
		Meaning: "of the way to a forced vacuum of old transaction numbers; each batch takes one"}), nil
}

// ServerFigures gives the position in the write-ahead log, in bytes.
func (db *DB) ServerFigures(ctx context.Context) (map[string]int64, error) {
	var lsn sql.NullInt64
	err := db.pool.QueryRowContext(ctx, "SELECT CASE WHEN pg_is_in_recovery() THEN NULL ELSE pg_wal_lsn_diff(pg_current_wal_insert_lsn(), '0/0') END::bigint").Scan(&lsn)
	if err != nil || !lsn.Valid {
		return nil, err
	}
	return map[string]int64{"wal_bytes": lsn.Int64}, nil
}
