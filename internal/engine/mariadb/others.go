package mariadb

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// Waiting asks InnoDB which transactions wait for which. Its account tells the
// beginning of a wait in whole seconds only, so nothing is said about that.
func (db *DB) Waiting(ctx context.Context, ids []int64) (w engine.Waits, err error) {
	begun := time.Now()
	db.account.mu.Lock()
	defer db.account.mu.Unlock()
	if wait := accountIdle - time.Since(db.account.read); wait > 0 {
		select {
		case <-ctx.Done():
			return w, ctx.Err()
		case <-time.After(wait):
		}
	}
	w.Idle = time.Since(begun)
	defer func() { db.account.read = time.Now() }()
	texts := make([]string, len(ids))
	for i, id := range ids {
		texts[i] = strconv.FormatInt(id, 10)
	}
	list := strings.Join(texts, ", ")
	rows, err := db.pool.QueryContext(ctx, `SELECT r.trx_mysql_thread_id, coalesce(min(l.lock_table), ''), coalesce(left(min(r.trx_query), 200), '')
		FROM information_schema.innodb_lock_waits w JOIN information_schema.innodb_trx b ON b.trx_id = w.blocking_trx_id JOIN information_schema.innodb_trx r ON r.trx_id = w.requesting_trx_id
		LEFT JOIN information_schema.innodb_locks l ON l.lock_trx_id = w.requesting_trx_id
		WHERE (b.trx_mysql_thread_id IN (`+list+`)) <> (r.trx_mysql_thread_id IN (`+list+`)) GROUP BY r.trx_mysql_thread_id`)
	if err != nil {
		return w, err
	}
	defer rows.Close()
	for rows.Next() {
		var x engine.Waiter
		if err := rows.Scan(&x.Session, &x.For, &x.Statement); err != nil {
			return w, err
		}
		if slices.Contains(texts, x.Session) {
			w.Ours = append(w.Ours, x)
		} else {
			w.Others = append(w.Others, x)
		}
	}
	return w, rows.Err()
}

// ManyWriters is true: writers of different rows do not wait for each other.
func (db *DB) ManyWriters() bool { return true }

// Housekeeping tells how long InnoDB's history is, row versions that the purge
// has still to clear away, and how the cluster fares, if there is one.
func (db *DB) Housekeeping(ctx context.Context, _ *change.Change) ([]engine.Setting, error) {
	var name string
	var length int64
	if err := db.pool.QueryRowContext(ctx, "SHOW GLOBAL STATUS LIKE 'Innodb_history_list_length'").Scan(&name, &length); err != nil {
		return nil, err
	}
	x := engine.Setting{Name: "history list", Value: fmt.Sprint(length), Meaning: "transactions of the whole server whose old row versions are still to be purged; one that grows on and on has an old reader open before it"}
	if length > longHistory {
		x.Advice = "look for an old transaction (information_schema.innodb_trx, by trx_started): the purge waits for its end, and reads of changed rows grow slower until then"
	}
	out := []engine.Setting{x}
	if db.galera {
		n, err := askNode(ctx, db.pool)
		if err != nil {
			return nil, err
		}
		out = append(out, n.setting())
	}
	return out, nil
}

// longHistory is a history list that a purge which is not held up stays well
// below: a batch adds one transaction to it, a busy server some thousands.
const longHistory = 100_000

// LogPosition is that of the redo log, to which changes go before their commit.
func (db *DB) LogPosition(ctx context.Context) (position int64, kind string, err error) {
	var name string
	err = db.pool.QueryRowContext(ctx, "SHOW GLOBAL STATUS LIKE 'Innodb_lsn_current'").Scan(&name, &position)
	return position, "redo log", err
}

// ServerFigures gives the bytes of redo log written and the length of the history list.
func (db *DB) ServerFigures(ctx context.Context) (map[string]int64, error) {
	rows, err := db.pool.QueryContext(ctx, "SELECT lower(variable_name), CAST(variable_value AS SIGNED) FROM information_schema.global_status WHERE variable_name IN ('INNODB_OS_LOG_WRITTEN', 'INNODB_HISTORY_LIST_LENGTH')")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string]int64{}
	for rows.Next() {
		var name string
		var n int64
		if err := rows.Scan(&name, &n); err != nil {
			return nil, err
		}
		out[map[string]string{"innodb_os_log_written": "redo_bytes", "innodb_history_list_length": "history_list"}[name]] = n
	}
	return out, rows.Err()
}

// ServerAt asks the server what it is called.
func (db *DB) ServerAt(ctx context.Context, s *engine.Session) (engine.Server, error) {
	at := engine.Server{Within: 1500 * time.Millisecond}
	var now, up int64
	err := s.Conn.QueryRowContext(ctx, "SELECT concat(@@hostname, ':', @@port), unix_timestamp(), CAST(variable_value AS SIGNED) FROM information_schema.global_status WHERE variable_name = 'UPTIME'").Scan(&at.Name, &now, &up)
	at.Started = time.Unix(now-up, 0)
	return at, err
}

// EndSessions kills connections, whose numbers are not given again. One that is
// rolling back is listed until it has done so.
func (db *DB) EndSessions(ctx context.Context, _ string, ids []int64) (left int, err error) {
	return kill(ctx, db.pool, ids)
}
