package mariadb

import (
	"context"
	"database/sql"
	"fmt"
	"math"
	"regexp"
	"strconv"
	"time"

	"jugatum/internal/engine"
)

// node is what a node of a Galera cluster says of itself (Galera documentation,
// "Galera Status Variables").
type node struct {
	cluster   string // the same on all nodes
	name      string // of the node within it
	status    string // Primary where it may be written to
	state     string // Synced where it takes part in full
	size      int    // nodes
	committed int64  // number of the last transaction of the cluster that was applied here
	queue     int64  // transactions of other nodes that wait to be applied here
	held      time.Duration
}

// askNode asks a node; its name is empty where the server is in no cluster.
func askNode(ctx context.Context, pool *sql.DB) (n node, err error) {
	rows, err := pool.QueryContext(ctx, "SHOW GLOBAL STATUS LIKE 'wsrep\\_%'")
	if err != nil {
		return n, err
	}
	defer rows.Close()
	for rows.Next() {
		var name, value string
		if err := rows.Scan(&name, &value); err != nil {
			return n, err
		}
		number, _ := strconv.ParseInt(value, 10, 64)
		switch name {
		case "wsrep_cluster_state_uuid":
			n.cluster = value
		case "wsrep_gcomm_uuid":
			n.name = value
		case "wsrep_cluster_status":
			n.status = value
		case "wsrep_local_state_comment":
			n.state = value
		case "wsrep_cluster_size":
			n.size = int(number)
		case "wsrep_last_committed":
			n.committed = number
		case "wsrep_local_recv_queue":
			n.queue = number
		case "wsrep_flow_control_paused_ns":
			n.held = time.Duration(number)
		}
	}
	return n, rows.Err()
}

var flowLimit = regexp.MustCompile(`gcs\.fc_limit = (\d+)`)

// Flow tells what the cluster's flow control has done, and how much of the queue
// at which our node would have it hold up all writers is taken. That length is
// gcs.fc_limit times the square root of the number of nodes (Galera documentation,
// "Galera Parameters", gcs.fc_single_primary).
func (db *DB) Flow(ctx context.Context) (engine.Flow, error) {
	if !db.galera {
		return engine.Flow{}, nil
	}
	n, err := askNode(ctx, db.pool)
	if err != nil {
		return engine.Flow{}, err
	}
	f := engine.Flow{Cluster: true, HeldUp: n.held}
	if n.queue > 0 { // mostly there is none, and nothing more to ask
		var options string
		if err := db.pool.QueryRowContext(ctx, "SELECT @@wsrep_provider_options").Scan(&options); err != nil {
			return f, err
		}
		if m := flowLimit.FindStringSubmatch(options); m != nil {
			limit, _ := strconv.ParseFloat(m[1], 64)
			f.Queue = float64(n.queue) / max(limit*math.Sqrt(float64(max(n.size, 1))), 1)
		}
	}
	return f, nil
}

// setting words what a node says for a person.
func (n node) setting() engine.Setting {
	x := engine.Setting{Name: "cluster", Value: fmt.Sprintf("%d nodes, queue %d", n.size, n.queue),
		Meaning: fmt.Sprintf("transactions of other nodes that wait to be applied on this one; flow control has held writers up for %s since it began", n.held.Round(time.Millisecond))}
	switch {
	case n.status != "Primary":
		x.Advice = "this node is cut off from most of the cluster (wsrep_cluster_status " + n.status + ") and takes no changes: use another one, or fix the network"
	case n.state != "Synced":
		x.Advice = "this node is not in step with the cluster (wsrep_local_state_comment " + n.state + "): a run is better begun on another one"
	}
	return x
}
