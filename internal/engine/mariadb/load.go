package mariadb

import (
	"context"
	"fmt"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// Locate asks for nothing: the key is enough.
func (db *DB) Locate(*change.Query, *change.Change) {}

// Guarded is true where the transaction keeps a snapshot: it fails if it would
// change a row that another session has changed since.
func (db *DB) Guarded(tx *engine.Tx, _ *change.Change) bool { return seen(tx).frozen }

// RowsRead counts the rows that this session has read so far.
func (db *DB) RowsRead(ctx context.Context, tx *engine.Tx) (int64, error) { return db.read(ctx, tx) }

// universal has a statement of ours that writes keys read and write points in time in UTC, where each text
// stands for one.
func universal(c *change.Change) string {
	for _, k := range c.Table.Key.Columns {
		if k.Instant {
			return "SET STATEMENT time_zone = '+00:00' FOR "
		}
	}
	return ""
}

// statementBytes is about how much of values one statement carries. A server takes 16 MiB in one
// (max_allowed_packet), unless somebody has changed that.
const statementBytes = 1 << 20

// Load puts the new values into a temporary table of the session, which goes
// neither into the binary log nor to other nodes.
func (db *DB) Load(ctx context.Context, tx *engine.Tx, c *change.Change, rows []engine.Rewritten) (*change.Change, error) {
	st := tx.S.State.(*session)
	layout := change.NewRoster(db.LedgerTable("v"), c)
	if st.loaded != c {
		cols := ""
		for i, s := range c.Set {
			collation := "utf8mb4_bin"
			if strings.HasPrefix(s.Column.Collation, "utf8mb4_") { // two that go by bytes, one of which pads, do not go together
				collation = s.Column.Collation
			}
			cols += fmt.Sprintf(", n%d longtext CHARACTER SET utf8mb4 COLLATE %s", i, collation)
		}
		if c.Rewrite.Nulls() {
			cols += ", " + change.LoadedNulls + " varchar(4096) CHARACTER SET ascii COLLATE ascii_bin"
		}
		for _, text := range db.KeptTable(layout) {
			text = strings.Replace(text, "CREATE TABLE", "CREATE OR REPLACE TEMPORARY TABLE", 1)
			text = strings.Replace(text, ") ENGINE", cols+") ENGINE", 1)
			if _, err := tx.Exec(ctx, text); err != nil {
				return nil, fmt.Errorf("making a temporary table for new values: %w", err)
			}
		}
		st.loaded = c
	}
	if _, err := tx.Exec(ctx, "DELETE FROM "+layout.Table); err != nil {
		return nil, err
	}
	var q *change.Query
	held := 0
	flush := func() error {
		if q == nil {
			return nil
		}
		_, err := exec(ctx, tx, q)
		q, held = nil, 0
		return err
	}
	for i, r := range rows {
		if q == nil {
			q = &change.Query{D: d}
			q.Add(universal(c), "INSERT INTO ", layout.Table, " VALUES ")
		} else {
			q.Add(", ")
		}
		q.Add("(", fmt.Sprint(i+1))
		for n, k := range c.Table.Key.Columns {
			q.Add(", ").Key(r.Key[n], k)
		}
		for _, v := range r.New {
			q.Add(", ")
			if v == nil {
				q.Add("NULL")
				continue
			}
			q.Arg(*v, "")
			held += len(*v)
		}
		if c.Rewrite.Nulls() {
			q.Add(", ").Arg(r.Nulls, "")
		}
		q.Add(")")
		if held += 40; held > db.statement {
			if err := flush(); err != nil {
				return nil, err
			}
		}
	}
	if err := flush(); err != nil {
		return nil, err
	}
	return c.FromLoaded(layout.Table+" AS jugatum_v", (&change.Query{D: d}).KeyJoin(c.Ref, "jugatum_v", layout).String(), nil, nil)
}
