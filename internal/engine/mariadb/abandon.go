package mariadb

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"slices"
	"strconv"

	"github.com/go-sql-driver/mysql"
)

// The server does not look whether anybody still waits for an answer: a query whose program is
// gone is carried out to its end, and keeps old row versions from being purged meanwhile.

// tracked makes connections whose numbers are known.
type tracked struct {
	driver.Connector
	db *DB
}

// Connect asks the server for the connection's number.
func (n tracked) Connect(ctx context.Context) (driver.Conn, error) {
	c, err := n.Connector.Connect(ctx)
	if err != nil {
		return nil, err
	}
	id, err := connectionID(ctx, c)
	if err != nil {
		c.Close()
		return nil, err
	}
	n.db.lookingMu.Lock()
	defer n.db.lookingMu.Unlock()
	n.db.looking = append(n.db.looking, id)
	return c, nil
}

func connectionID(ctx context.Context, c driver.Conn) (int64, error) {
	q, ok := c.(driver.QueryerContext)
	if !ok {
		return 0, errors.New("the driver asks nothing")
	}
	rows, err := q.QueryContext(ctx, "SELECT CONNECTION_ID()", nil)
	if err != nil {
		return 0, err
	}
	defer rows.Close()
	row := make([]driver.Value, 1)
	if err := rows.Next(row); err != nil {
		return 0, err
	}
	if b, ok := row[0].([]byte); ok {
		return strconv.ParseInt(string(b), 10, 64)
	}
	id, ok := row[0].(int64)
	if !ok {
		return 0, fmt.Errorf("a connection's number is given as %T", row[0])
	}
	return id, nil
}

// Abandon ends what the server is still doing for connections that look. Their numbers are
// not given again.
func (db *DB) Abandon(ctx context.Context) error {
	db.lookingMu.Lock()
	ids := slices.Clone(db.looking)
	db.lookingMu.Unlock()
	connector, err := mysql.NewConnector(db.config)
	if err != nil {
		return err
	}
	pool := sql.OpenDB(connector)
	defer pool.Close()
	if _, err := kill(ctx, pool, ids); err != nil {
		return fmt.Errorf("%w; SHOW PROCESSLIST lists it, KILL ends it", plain(err))
	}
	return nil
}

// kill ends connections, and tells how many of them there still were.
func kill(ctx context.Context, pool *sql.DB, ids []int64) (left int, err error) {
	for _, id := range ids {
		var there int
		if err := pool.QueryRowContext(ctx, "SELECT count(*) FROM information_schema.processlist WHERE id = ?", id).Scan(&there); err != nil {
			return left, err
		}
		if there == 0 {
			continue
		}
		left++
		var me *mysql.MySQLError
		if _, err := pool.ExecContext(ctx, "KILL "+strconv.FormatInt(id, 10)); err != nil && !(errors.As(err, &me) && me.Number == 1094) { // it has ended by itself
			return left, err
		}
	}
	return left, nil
}
