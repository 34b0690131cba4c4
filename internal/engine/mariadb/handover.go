package mariadb

import (
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"
	"sync/atomic"

	"github.com/go-sql-driver/mysql"

	"jugatum/internal/engine"
)

// Rows as a file that the server asks us for, which it reads in half the time of as many INSERTs. Of a
// client's file it takes values that do not fit for others that do, whatever the mode: so it counts
// only where the server has nothing to say about it.

// handedOver is how such a file is written: in hexadecimal, since what a backslash is depends on the mode.
const handedOver = "FIELDS TERMINATED BY x'09' ESCAPED BY x'5C' LINES TERMINATED BY x'0A'"

// fewHandedOver are not worth a file.
const fewHandedOver = 500

// files numbers them.
var files atomic.Int64

// fileEscapes are what such a file has for characters that mean something in it.
var fileEscapes = strings.NewReplacer(`\`, `\\`, "\n", `\n`, "\r", `\r`, "\t", `\t`, "\x00", `\0`, "\x1a", `\Z`)

// handOver inserts rows so, into a table with all that follows its name. It has done nothing where it
// reports false: the server takes no files, or had a value to complain of. On a cluster the server
// may commit within one.
func (db *DB) handOver(ctx context.Context, tx *engine.Tx, into string, rows [][]any) (done bool, err error) {
	if db.galera || db.noFiles.Load() || len(rows) < fewHandedOver {
		return false, nil
	}
	text, ok := engine.Tabbed(rows, fileEscapes, func(i int, v any) (string, bool) {
		n, ok := v.(int64) // but for the line's number that is bits, which a file would have as bytes; the rest is bytes
		return strconv.FormatInt(n, 10), ok && i == 0
	})
	if !ok {
		return false, nil
	}
	if _, err := tx.Exec(ctx, "SAVEPOINT jugatum_file"); err != nil {
		return false, err
	}
	name := fmt.Sprintf("jugatum_%d", files.Add(1))
	mysql.RegisterReaderHandler(name, func() io.Reader { return text })
	defer mysql.DeregisterReaderHandler(name)
	res, err := tx.S.Conn.ExecContext(ctx, strictly+"LOAD DATA LOCAL INFILE 'Reader::"+name+"' INTO TABLE "+into)
	var warnings, came int64
	switch {
	case err != nil:
		if f := db.Fault(err); f == engine.Connection || f == engine.Busy || ctx.Err() != nil {
			return false, err
		}
		db.noFiles.Store(true) // some servers take none, or some in between
	default:
		if came, err = res.RowsAffected(); err != nil {
			return false, err
		}
		if err := tx.S.Conn.QueryRowContext(ctx, "SELECT @@warning_count").Scan(&warnings); err != nil {
			return false, err
		}
		if warnings == 0 && came == int64(len(rows)) {
			return true, nil
		}
	}
	_, err = tx.Exec(ctx, "ROLLBACK TO SAVEPOINT jugatum_file")
	return false, err
}
