package postgres

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"sync"
	"time"

	"jugatum/internal/engine"
	"jugatum/internal/pace"
)

// standbys are the servers that replay our log, as they were last seen. One that
// goes away counts as standing where it stood: a crash is no reason to leave it
// further behind. After a failover they are others.
type standbys struct {
	mu     sync.Mutex
	server string // when the primary was started, by its own clock, and so which it is
	known  map[string]*standby
}

type standby struct {
	track    pace.LagTrack
	replayed int64 // position in the log, bytes
	here     bool  // it was there at the last look
	logical  bool  // a subscriber rather than a standby: some of those come and go
}

// errLagUnseen is what a user gets who may not see how far standbys are.
var errLagUnseen = errors.New("this user may not see how far the standbys are: GRANT pg_monitor to it, or leave the limit out")

// Lag is how far the standby furthest behind is, by the log's positions in
// pg_stat_replication.
func (db *DB) Lag(ctx context.Context) (engine.Lag, error) {
	rows, err := db.pool.QueryContext(ctx, `SELECT pg_postmaster_start_time()::text, CASE WHEN pg_is_in_recovery() THEN NULL ELSE pg_wal_lsn_diff(pg_current_wal_lsn(), '0/0') END::bigint,
			s.name, s.unseen, s.logical, s.replayed
		FROM (SELECT 1) AS always LEFT JOIN (
			SELECT concat_ws(' at ', nullif(nullif(r.application_name, 'walreceiver'), ''), coalesce(host(r.client_addr), 'this machine')) AS name, bool_or(r.state IS NULL) AS unseen,
				bool_and(coalesce(p.slot_type = 'logical', false)) AS logical, min(pg_wal_lsn_diff(r.replay_lsn, '0/0'))::bigint AS replayed
			FROM pg_stat_replication r LEFT JOIN pg_replication_slots p ON p.active_pid = r.pid
			WHERE r.state IS NULL OR r.replay_lsn IS NOT NULL GROUP BY 1) AS s ON true`)
	if err != nil {
		return engine.NoLag, err
	}
	defer rows.Close()
	db.standbys.mu.Lock()
	defer db.standbys.mu.Unlock()
	known := db.standbys.known
	for _, s := range known {
		s.here = false
	}
	var written sql.NullInt64
	for rows.Next() {
		var server string
		var name sql.NullString
		var unseen, logical sql.NullBool
		var replayed sql.NullInt64
		if err := rows.Scan(&server, &written, &name, &unseen, &logical, &replayed); err != nil {
			return engine.NoLag, err
		}
		if server != db.standbys.server {
			known = map[string]*standby{}
			db.standbys.server, db.standbys.known = server, known
		}
		switch {
		case unseen.Bool:
			return engine.NoLag, errLagUnseen
		case name.Valid && replayed.Valid:
			s := known[name.String]
			if s == nil {
				s = &standby{}
				known[name.String] = s
			}
			s.here, s.logical, s.replayed = true, logical.Bool, replayed.Int64
		}
	}
	if err := rows.Err(); err != nil || !written.Valid {
		return engine.NoLag, err
	}
	worst := engine.NoLag
	for name, s := range known {
		if !s.here && s.logical {
			delete(known, name)
			continue
		}
		l := engine.Lag{Replica: name, Silent: !s.here}
		l.Lag = s.track.Look(time.Now(), written.Int64, s.replayed)
		if n := written.Int64 - s.replayed; n > 0 {
			l.Lacks = fmt.Sprintf("%.1f MB of log", float64(n)/1e6)
		}
		if worst.Age < 0 || l.Behind() > worst.Behind() {
			worst = l
		}
	}
	return worst, nil
}
