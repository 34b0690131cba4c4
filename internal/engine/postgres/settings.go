package postgres

import (
	"context"
	"strings"

	"jugatum/internal/engine"
)

// Settings tells what decides how a change in batches meets the server and its
// other sessions.
func (db *DB) Settings(ctx context.Context) ([]engine.Setting, error) {
	meaning := map[string]string{
		"max_wal_size":       "log written between checkpoints; a change that fills it faster brings them on, and with them full-page images",
		"wal_level":          "how much goes into the log",
		"fsync":              "off would mean that a crash can damage everything",
		"full_page_writes":   "the first change of a page after a checkpoint writes the whole page",
		"synchronous_commit": "whether each batch waits for the log to reach the disk, or a standby",
		"autovacuum":         "clears away the dead row versions that a change leaves behind",
		"checkpoint_timeout": "longest time between checkpoints",
	}
	rows, err := db.pool.QueryContext(ctx, "SELECT name, current_setting(name) FROM pg_settings WHERE name = ANY($1) ORDER BY name",
		[]string{"max_wal_size", "wal_level", "fsync", "full_page_writes", "synchronous_commit", "autovacuum", "checkpoint_timeout"})
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []engine.Setting
	for rows.Next() {
		var s engine.Setting
		if err := rows.Scan(&s.Name, &s.Value); err != nil {
			return nil, err
		}
		s.Meaning = meaning[s.Name]
		out = append(out, s)
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	rows.Close()
	for _, q := range []struct{ name, text, meaning string }{
		{"standbys", "SELECT count(*)::text FROM pg_stat_replication", "streaming from this server; each gets all the log that a change writes"},
		{"replication slots", "SELECT count(*)::text || coalesce(', holding back up to ' || pg_size_pretty(max(pg_wal_lsn_diff(CASE WHEN pg_is_in_recovery() THEN pg_last_wal_receive_lsn() ELSE pg_current_wal_lsn() END, restart_lsn))), '') FROM pg_replication_slots",
			"a slot that nobody reads keeps all the log on disk"},
		{"in recovery", "SELECT pg_is_in_recovery()::text", "true on a standby, where nothing can be changed"},
	} {
		s := engine.Setting{Name: q.name, Meaning: q.meaning}
		if err := db.pool.QueryRowContext(ctx, q.text).Scan(&s.Value); err != nil {
			return nil, err
		}
		out = append(out, s)
	}
	agreed := engine.Setting{Name: "connection", Meaning: "how it is protected"}
	if err := db.pool.QueryRowContext(ctx, "SELECT CASE WHEN ssl THEN version || ', ' || cipher WHEN inet_client_addr() IS NULL THEN 'local socket' ELSE 'in clear' END FROM pg_stat_ssl WHERE pid = pg_backend_pid()").Scan(&agreed.Value); err != nil {
		return nil, err
	}
	if agreed.Value == "in clear" {
		agreed.Advice = "where that leaves this machine, others on the way can read and change it; sslmode=verify-full and sslrootcert=PATH in the URL ask for TLS, verified"
	}
	out = append(out, agreed)
	missing, err := db.missingForLedger(ctx)
	if err != nil {
		return nil, err
	}
	rights := engine.Setting{Name: "may keep the ledger", Value: "yes", Meaning: "whether " + db.user + " may make and write the tables in the schema " + db.ledger}
	if len(missing) > 0 {
		rights.Value, rights.Advice = "no", strings.Join(missing, "; ")
	}
	out = append(out, rights)
	return out, nil
}
