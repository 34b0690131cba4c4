package postgres

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/sqltext"
)

// Waiting asks which backends wait for which (pg_blocking_pids). Since when, only
// version 14 and newer tell (pg_locks.waitstart).
func (db *DB) Waiting(ctx context.Context, ids []int64) (w engine.Waits, err error) {
	// Mostly nobody waits for anybody, which is quickly told.
	var any bool
	if err := db.pool.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM pg_stat_activity WHERE wait_event_type = 'Lock')").Scan(&any); err != nil || !any {
		return w, err
	}
	since := "NULL"
	if db.number >= 140000 {
		since = "min(l.waitstart)"
	}
	rows, err := db.pool.QueryContext(ctx, `SELECT a.pid = ANY(CAST($1 AS int[])), a.pid::text, coalesce(extract(epoch FROM clock_timestamp() - `+since+`) * 1000, 0)::float8,
			coalesce(min(CASE WHEN l.relation IS NOT NULL THEN l.relation::regclass::text END),
				(SELECT min(t.relation::regclass::text) FROM pg_locks t WHERE t.pid = a.pid AND t.locktype = 'tuple'), ''), left(coalesce(a.query, ''), 200)
		FROM pg_stat_activity a JOIN pg_locks l ON l.pid = a.pid AND NOT l.granted
		WHERE a.wait_event_type = 'Lock'
			AND CASE WHEN a.pid = ANY(CAST($1 AS int[])) THEN NOT pg_blocking_pids(a.pid) <@ CAST($1 AS int[]) ELSE pg_blocking_pids(a.pid) && CAST($1 AS int[]) END
		GROUP BY a.pid, a.query`, ids)
	if err != nil {
		return w, err
	}
	defer rows.Close()
	for rows.Next() {
		var x engine.Waiter
		var ours bool
		var ms float64
		if err := rows.Scan(&ours, &x.Session, &ms, &x.For, &x.Statement); err != nil {
			return w, err
		}
		x.Waited = time.Duration(ms * float64(time.Millisecond))
		if ours {
			w.Ours = append(w.Ours, x)
		} else {
			w.Others = append(w.Others, x)
		}
	}
	return w, rows.Err()
}

// ManyWriters is true: writers of different rows do not wait for each other.
func (db *DB) ManyWriters() bool { return true }

// Housekeeping tells of dead row versions, of updates that had to write to every
// index (no HOT update), and of transaction numbers, by the server's statistics,
// which are some seconds old.
func (db *DB) Housekeeping(ctx context.Context, c *change.Change) ([]engine.Setting, error) {
	t := c.Table
	switch {
	case c.Verb == sqltext.Insert && c.Into.Make: // nothing was there before
		return nil, nil
	case c.Verb == sqltext.Insert: // an undo takes rows out of where they were put
		t = c.Target()
	}
	var dead, updated, hot, due int64
	var vacuumed bool
	var fill int
	err := db.pool.QueryRowContext(ctx, `SELECT coalesce(sum(n_dead_tup), 0)::bigint, coalesce(sum(n_tup_upd), 0)::bigint, coalesce(sum(n_tup_hot_upd), 0)::bigint,
			(current_setting('autovacuum_vacuum_threshold')::float8 + current_setting('autovacuum_vacuum_scale_factor')::float8 * coalesce(sum(n_live_tup), 0))::bigint,
			current_setting('autovacuum')::bool,
			coalesce((SELECT min(o.option_value::int) FROM pg_class r, pg_options_to_table(r.reloptions) o WHERE r.oid = CAST($1 AS text)::regclass AND o.option_name = 'fillfactor'), 100)
		FROM pg_stat_user_tables WHERE relid = CAST($1 AS text)::regclass OR relid IN (SELECT inhrelid FROM pg_inherits WHERE inhparent = CAST($1 AS text)::regclass)`, t.NameSQL(d)).
		Scan(&dead, &updated, &hot, &due, &vacuumed, &fill)
	if err != nil {
		return nil, err
	}
	rows := engine.Setting{Name: "dead rows of " + t.String(), Value: fmt.Sprint(dead), Meaning: fmt.Sprintf("old versions that take up room until they are vacuumed; autovacuum comes at about %d", due)}
	switch {
	case !vacuumed:
		rows.Meaning = "old versions that take up room until they are vacuumed; autovacuum is off"
		rows.Advice = "VACUUM " + t.String() + " when the run is over"
	case dead > 2*due:
		rows.Advice = "if that does not fall within some minutes, an old transaction (pg_stat_activity.xact_start) or a low autovacuum_vacuum_cost_limit holds autovacuum up"
	}
	out := []engine.Setting{rows}
	if c.Verb == sqltext.Update {
		out = append(out, hotUpdates(c, updated, hot, fill))
	}
	// A slot whose reader does not come keeps log for it until the disk is full.
	var slots, inactive int
	var kept sql.NullInt64
	if err := db.pool.QueryRowContext(ctx, `SELECT count(*), count(*) FILTER (WHERE NOT active),
		max(CASE WHEN pg_is_in_recovery() THEN NULL ELSE pg_wal_lsn_diff(pg_current_wal_lsn(), restart_lsn) END)::bigint FROM pg_replication_slots`).Scan(&slots, &inactive, &kept); err != nil {
		return nil, err
	}
	if slots > 0 && kept.Valid {
		x := engine.Setting{Name: "retained log", Value: fmt.Sprintf("%.1f MB", float64(kept.Int64)/1e6), Meaning: "of write-ahead log kept back for the replication slot furthest behind"}
		if inactive > 0 {
			x.Advice = fmt.Sprintf("%d of %d slots have no reader now, and what a run writes stays on the disk until they have one or are dropped", inactive, slots)
		}
		out = append(out, x)
	}
	var age, limit int64
	if err := db.pool.QueryRowContext(ctx, "SELECT age(datfrozenxid), current_setting('autovacuum_freeze_max_age')::bigint FROM pg_database WHERE datname = current_database()").Scan(&age, &limit); err != nil {
		return nil, err
	}
	x := engine.Setting{Name: "transaction age", Value: fmt.Sprintf("%.1f %%", 100*float64(age)/float64(limit)), Meaning: "of the way to a forced vacuum of old transaction numbers; each batch takes one"}
	if age > limit {
		x.Advice = "VACUUM FREEZE the tables with the oldest numbers (pg_class.relfrozenxid) before a long run"
	}
	return append(out, x), nil
}

// hotUpdates tells what share of the updates so far wrote to no index, and what
// is in the way of that in this change: a column that an index holds, or a page
// without room for another version of the row.
func hotUpdates(c *change.Change, updated, hot int64, fill int) engine.Setting {
	x := engine.Setting{Name: "HOT updates of " + c.Table.String(), Value: "none yet"}
	if updated > 0 {
		x.Value = fmt.Sprintf("%.0f %% of %d", 100*float64(hot)/float64(updated), updated)
	}
	for _, index := range c.Table.Indexes {
		for _, s := range c.Set {
			if slices.Contains(index.Columns, s.Column.Name) {
				x.Meaning = fmt.Sprintf("updates so far that wrote to no index; this change sets %s, which index %s holds, so an update that gives it another value writes to every index", s.Column.Name, index.Name)
				return x
			}
		}
	}
	x.Meaning = fmt.Sprintf("updates so far that wrote to no index; this change sets no indexed column, so that depends on room in the row's page (fillfactor %d)", fill)
	if updated >= manyUpdates && hot < updated/2 && fill > 90 {
		x.Advice = "a lower fillfactor leaves that room: ALTER TABLE … SET (fillfactor = 90) holds for pages written from then on"
	}
	return x
}

// manyUpdates is from how many on their share says something.
const manyUpdates = 1000

// ServerFigures gives the position in the write-ahead log, in bytes.
func (db *DB) ServerFigures(ctx context.Context) (map[string]int64, error) {
	var lsn sql.NullInt64
	err := db.pool.QueryRowContext(ctx, "SELECT CASE WHEN pg_is_in_recovery() THEN NULL ELSE pg_wal_lsn_diff(pg_current_wal_insert_lsn(), '0/0') END::bigint").Scan(&lsn)
	if err != nil || !lsn.Valid {
		return nil, err
	}
	return map[string]int64{"wal_bytes": lsn.Int64}, nil
}

// ServerAt asks the server for its own address, which a client's may not be.
func (db *DB) ServerAt(ctx context.Context, s *engine.Session) (engine.Server, error) {
	var at engine.Server
	err := s.Conn.QueryRowContext(ctx, `SELECT coalesce(pg_catalog.host(pg_catalog.inet_server_addr()), 'this machine') || ':' || pg_catalog.current_setting('port'), pg_catalog.pg_postmaster_start_time()`).Scan(&at.Name, &at.Started)
	return at, err
}

// LastCheckpoint reads the server's control file, which has whole seconds, cut off: one that began in the
// second in which a run did would seem to have begun before it. So it is the end of that second.
func (db *DB) LastCheckpoint(ctx context.Context) (p engine.Point, err error) {
	var seconds float64
	err = db.pool.QueryRowContext(ctx, "SELECT CAST(c.checkpoint_lsn AS text), CAST(EXTRACT(EPOCH FROM pg_catalog.clock_timestamp() - c.checkpoint_time) AS float8) FROM pg_catalog.pg_control_checkpoint() c").Scan(&p.Name, &seconds)
	p.Ago = max(time.Duration(seconds*float64(time.Second))-time.Second, 0)
	return p, err
}

// Moment is the number of the next transaction.
func (db *DB) Moment(ctx context.Context, tx *engine.Tx) (moment string, err error) {
	err = tx.Scan(ctx, "SELECT CAST(pg_catalog.pg_snapshot_xmax(pg_catalog.pg_current_snapshot()) AS text)", nil, &moment)
	return moment, err
}

// Untouched asks whether the row's version was made by an older transaction.
func (db *DB) Untouched(q *change.Query, alias, moment string) {
	q.Add(" AND pg_catalog.age(", alias, ".xmin) > pg_catalog.age(CAST(").Arg(moment, "xid8").Add(" AS xid))")
}

// EndSessions goes by the name of the application as well, since numbers of
// processes are given again.
func (db *DB) EndSessions(ctx context.Context, purpose string, ids []int64) (left int, err error) {
	err = db.pool.QueryRowContext(ctx, "SELECT count(pg_terminate_backend(pid)) FROM pg_stat_activity WHERE pid = ANY(CAST($1 AS int[])) AND application_name = $2", ids, purpose).Scan(&left)
	return left, err
}
