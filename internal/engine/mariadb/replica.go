package mariadb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"

	"jugatum/internal/engine"
	"jugatum/internal/pace"
)

// replica is a server that applies what ours writes: another node of our
// cluster, or a replica by the binary log.
type replica struct {
	name    string
	pool    *sql.DB
	met     bool // has answered, so that it is known whether it is a
	node    bool // of our cluster
	track   pace.LagTrack
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
	here, err := askNode(ctx, db.pool)
	if err != nil {
		return err
	}
	if !db.binlog && !db.galera && len(urls) > 0 {
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
		asked, cancel := context.WithTimeout(ctx, 5*askReplica)
		id, there, err := r.greet(asked)
		cancel()
		r.met, r.node = err == nil, db.galera && there.cluster == here.cluster
		fail := func(err error, do string, usage bool) error {
			return &engine.OpenError{Name: "replica " + r.name, Err: err, Do: do, Usage: usage}
		}
		switch {
		case err != nil && !patience:
			return fail(plain(err), "fix it, leave it out, or let it be waited for (--await-replicas)", false)
		case err != nil: // it is waited for
		case r.node && there.name == here.name, !r.node && id == ours:
			return fail(errors.New("this is the server that is to be changed, by its server_id or its name in the cluster"), "name the replica", true)
		case !r.node && !db.binlog:
			return fail(errors.New("it is no node of this server's cluster, and without a binary log the server has no other replicas"), "name a node, or leave it out", true)
		}
	}
	return nil
}

// greet asks a replica who it is.
func (r *replica) greet(ctx context.Context) (id int64, n node, err error) {
	if err = r.pool.QueryRowContext(ctx, "SELECT @@server_id").Scan(&id); err == nil {
		n, err = askNode(ctx, r.pool)
	}
	return id, n, err
}

// Lag is that of the replica furthest behind, by the numbers of the last
// transactions (GTID, or the cluster's own) written here and applied there; a
// replica that does not answer counts as standing where it stood.
func (db *DB) Lag(ctx context.Context) (engine.Lag, error) {
	worst := engine.NoLag
	if len(db.follows) == 0 {
		return worst, nil
	}
	var domain, position string
	if err := db.pool.QueryRowContext(ctx, "SELECT @@gtid_domain_id, @@gtid_binlog_pos").Scan(&domain, &position); err != nil {
		return worst, err
	}
	var here node
	if db.galera {
		var err error
		if here, err = askNode(ctx, db.pool); err != nil {
			return worst, err
		}
	}
	for _, r := range db.follows {
		asked, cancel := context.WithTimeout(ctx, askReplica)
		applied, err := r.position(asked, domain, here)
		cancel()
		written := transaction(position, domain)
		if r.node || !r.met && db.galera {
			written = here.committed
		}
		if err == nil {
			r.applied = applied
		}
		l := engine.Lag{Replica: r.name, Silent: err != nil}
		l.Lag = r.track.Look(time.Now(), written, r.applied)
		l.Transactions = true
		if n := written - r.applied; n > 0 && r.applied > 0 {
			l.Lacks = fmt.Sprintf("%d transactions", n)
		}
		if worst.Age < 0 || l.Behind() > worst.Behind() {
			worst = l
		}
	}
	return worst, ctx.Err()
}

// position asks a replica for the number of the last transaction that it has applied.
func (r *replica) position(ctx context.Context, domain string, here node) (int64, error) {
	if !r.met {
		_, there, err := r.greet(ctx)
		if err != nil {
			return 0, err
		}
		r.met, r.node = true, here.cluster != "" && there.cluster == here.cluster
	}
	if r.node {
		n, err := askNode(ctx, r.pool)
		if err == nil && n.state != "Synced" && n.state != "Donor/Desynced" {
			err = errors.New("it is joining the cluster") // and its number is not one that it has applied
		}
		return n.committed, err
	}
	var text string
	err := r.pool.QueryRowContext(ctx, "SELECT @@gtid_slave_pos").Scan(&text)
	return transaction(text, domain), err
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
