package mariadb

import (
	"context"
	"database/sql"
	"errors"
	"strconv"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"

	"jugatum/internal/engine"
)

// replica is a server that applies what ours writes.
type replica struct {
	name    string
	pool    *sql.DB
	track   engine.LagTrack
	applied int64 // number of the last transaction that it said it had applied
}

// askReplica is how long a replica may take to answer before it counts as
// standing where it stood.
const askReplica = time.Second

// Follow opens connections to the replicas. One that names no user or password
// gets those of the database itself.
func (db *DB) Follow(ctx context.Context, urls []string, patience bool) error {
	var ours int64
	if err := db.pool.QueryRowContext(ctx, "SELECT @@server_id").Scan(&ours); err != nil {
		return err
	}
	if !db.binlog && len(urls) > 0 {
		return &engine.OpenError{Name: db.name, Err: errors.New("its binary log is off, so it has no replicas"), Do: "leave the replicas out", Usage: true}
	}
	for _, raw := range urls {
		cfg, err := parse(raw)
		if err != nil {
			return err
		}
		if cfg.Passwd == "" {
			cfg.Passwd = db.config.Passwd
		}
		if !strings.Contains(raw, "@") {
			cfg.User = db.config.User
		}
		cfg.DBName, cfg.Timeout = "", askReplica
		connector, err := mysql.NewConnector(cfg)
		if err != nil {
			return err
		}
		r := &replica{name: engine.SafeURL(raw), pool: sql.OpenDB(connector)}
		r.pool.SetMaxOpenConns(1)
		db.follows = append(db.follows, r)
		var id int64
		asked, cancel := context.WithTimeout(ctx, 5*askReplica)
		err = r.pool.QueryRowContext(asked, "SELECT @@server_id").Scan(&id)
		cancel()
		switch {
		case err != nil && !patience:
			return &engine.OpenError{Name: "replica " + r.name, Err: plain(err), Do: "mend it, leave it out, or let it be waited for (--await-replicas)"}
		case err == nil && id == ours:
			return &engine.OpenError{Name: "replica " + r.name, Err: errors.New("this is the server that is to be changed, by its server_id"), Do: "name the replica", Usage: true}
		}
	}
	return nil
}

// Lag is that of the replica furthest behind, by the numbers of the last
// transactions (GTID) written here and applied there; a replica that does not
// answer counts as standing where it stood.
func (db *DB) Lag(ctx context.Context) (time.Duration, error) {
	if len(db.follows) == 0 {
		return -1, nil
	}
	var domain, written string
	if err := db.pool.QueryRowContext(ctx, "SELECT @@gtid_domain_id, @@gtid_binlog_pos").Scan(&domain, &written); err != nil {
		return -1, err
	}
	worst := time.Duration(-1)
	for _, r := range db.follows {
		asked, cancel := context.WithTimeout(ctx, askReplica)
		var pos string
		if err := r.pool.QueryRowContext(asked, "SELECT @@gtid_slave_pos").Scan(&pos); err == nil {
			r.applied = transaction(pos, domain)
		}
		cancel()
		worst = max(worst, r.track.Behind(time.Now(), transaction(written, domain), r.applied))
	}
	return worst, ctx.Err()
}

// transaction is the number of the last transaction of a domain in a position
// such as "0-1-4711,2-3-16"; 0 if there is none.
func transaction(position, domain string) int64 {
	for _, one := range strings.Split(position, ",") {
		parts := strings.Split(strings.TrimSpace(one), "-")
		if len(parts) == 3 && parts[0] == domain {
			n, _ := strconv.ParseInt(parts[2], 10, 64)
			return n
		}
	}
	return 0
}

// HeldUp is the time that flow control has held writers of the cluster up.
func (db *DB) HeldUp(ctx context.Context) (time.Duration, error) {
	if !db.galera {
		return -1, nil
	}
	var name string
	var ns int64
	err := db.pool.QueryRowContext(ctx, "SHOW GLOBAL STATUS LIKE 'wsrep_flow_control_paused_ns'").Scan(&name, &ns)
	return time.Duration(ns), err
}
