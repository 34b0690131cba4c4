package mariadb

import (
	"cmp"
	"context"
	"database/sql"
	"strconv"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// unpacked are packed kept rows of one layout of which a session has a copy, row by row, in a
// temporary table: taking a pack apart costs the same for one of its rows as for
// all, and an undo comes to each pack several times.
type unpacked struct {
	table    string       // its name
	layout   *change.Kept // nil: nothing
	from, to int64
}

func (u unpacked) holds(from, to int64) bool {
	return u.layout != nil && u.from <= from && to <= u.to
}

// Unpack copies the packs in which the rows lie.
func (db *DB) Unpack(ctx context.Context, s *engine.Session, kept *change.Kept, from, to int64) error {
	st := s.State.(*session)
	if kept.Packed == "" || st.unpacked[kept].holds(from, to) {
		return nil
	}
	if step := cmp.Or(kept.Numbers, kept.Table); st.unpackedOf != step { // tables of another step are replaced
		st.unpackedOf, st.unpacked = step, map[*change.Kept]unpacked{}
	}
	table := "u"
	if before, ok := st.unpacked[kept]; ok {
		table = before.table
	} else if n := len(st.unpacked); n > 0 {
		table += strconv.Itoa(n)
	}
	st.unpacked[kept] = unpacked{table: table}
	var low, high sql.NullInt64
	if err := s.Conn.QueryRowContext(ctx, "SELECT min(first), max(last) FROM "+kept.Packed+" WHERE last > ? AND first < ?", from, to).Scan(&low, &high); err != nil || !low.Valid {
		return err
	}
	layout := *kept
	layout.Table, layout.Packed = db.LedgerTable(table), ""
	names := "seq"
	for _, k := range columns(kept) {
		names += ", " + d.Quote(k.Name)
	}
	for _, text := range db.KeptTable(&layout) {
		if _, err := s.Conn.ExecContext(ctx, strings.Replace(text, "CREATE TABLE", "CREATE OR REPLACE TEMPORARY TABLE", 1)); err != nil {
			return err
		}
	}
	_, err := s.Conn.ExecContext(ctx, "SET STATEMENT sql_mode = '"+db.stage+"' FOR INSERT INTO "+layout.Table+" ("+names+") SELECT "+names+" FROM "+kept.Table+" WHERE packed_to > ? AND packed_to <= ?", low.Int64, high.Int64)
	if err == nil {
		st.unpacked[kept] = unpacked{table: table, layout: &layout, from: min(low.Int64, from), to: max(high.Int64, to)}
	}
	return err
}

// Unpacked gives the temporary table if it holds these rows.
func (db *DB) Unpacked(s *engine.Session, kept *change.Kept, from, to int64) *change.Kept {
	if u := s.State.(*session).unpacked[kept]; u.holds(from, to) {
		return u.layout
	}
	return kept
}
