package mariadb

import (
	"context"
	"errors"
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

// Stage makes the table by one statement, which commits what came before it in the
// transaction, and which the server takes back as a whole if it fails. The table has
// a key of its own, which some servers demand.
func (db *DB) Stage(ctx context.Context, tx *engine.Tx, x engine.Staging) error {
	create := "CREATE OR REPLACE TABLE "
	if x.Temporary {
		create = "CREATE OR REPLACE TEMPORARY TABLE "
	}
	with := func(index []string) error {
		q := &change.Query{D: d, Args: x.Query.Args}
		q.Add(create, x.Table, " (jugatum_n bigint unsigned NOT NULL AUTO_INCREMENT PRIMARY KEY")
		if len(index) > 0 {
			q.Add(", KEY (", strings.Join(index, ", "), ")")
		}
		q.Add(") ENGINE = InnoDB AS ", x.Query.String())
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
	return err
}
