package mariadb

import (
	"context"
	"errors"
	"slices"
	"strings"

	"github.com/go-sql-driver/mysql"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// Errors of the server for an index over whole columns that cannot be.
const (
	errKeyTooLong = 1071 // of more bytes than an index can hold
	errKeyPart    = 1170 // of a text or bytes without a length
)

// prefix is how many characters of a long column an index begins with: of four
// bytes each, and with several columns, it stays within what an index can hold.
const prefix = "(100)"

// StagesSources is true: batches over a table of ours that nobody changes can be worked
// out twice, and need not be staged row by row.
func (db *DB) StagesSources() bool { return true }

// Stage makes the table by one statement, which commits what came before it in the
// transaction, and which the server takes back as a whole if it fails. Its rows lie in
// the order of what they are found by; those without it would match nothing. Some
// servers demand the key.
func (db *DB) Stage(ctx context.Context, tx *engine.Tx, x engine.Staging) error {
	create := "CREATE OR REPLACE TABLE "
	if x.Temporary {
		create = "CREATE OR REPLACE TEMPORARY TABLE "
	}
	with := func(index []string) error {
		q := &change.Query{D: d, Args: x.Query.Args}
		q.Add(create, x.Table, " (PRIMARY KEY (", strings.Join(append(slices.Clone(index), "jugatum_n"), ", "), ")) ENGINE = InnoDB AS SELECT jugatum_q.*, row_number() OVER () AS jugatum_n FROM (", x.Query.String(), ") AS jugatum_q")
		q.Add(" WHERE 1 = 1")
		for _, name := range x.Index {
			q.Add(" AND ", name, " IS NOT NULL")
		}
		if len(x.Index) > 0 {
			q.Add(" ORDER BY ", strings.Join(x.Index, ", "))
		}
		_, err := tx.Exec(ctx, q.String(), q.Args...)
		return err
	}
	err := with(x.Index)
	var me *mysql.MySQLError
	if errors.As(err, &me) && (me.Number == errKeyTooLong || me.Number == errKeyPart) {
		short := make([]string, len(x.Index))
		for i, name := range x.Index {
			short[i] = name + prefix
		}
		if err = with(short); err != nil { // such as one text and one number
			err = with(nil)
		}
	}
	if err != nil || x.Temporary {
		return err
	}
	// What the server knows of a table that was just filled is that it is empty, and
	// a batch would begin with reading all of it.
	rows, err := tx.Query(ctx, "ANALYZE NO_WRITE_TO_BINLOG TABLE "+x.Table)
	if err != nil {
		return err
	}
	return rows.Close()
}
