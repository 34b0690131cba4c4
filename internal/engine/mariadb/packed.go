package mariadb

import (
	"context"
	"database/sql"
	"fmt"
	"strings"
	"unicode/utf8"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// Kept values are packed here: up to change.PackedRows rows go as one JSON text
// into one row of a table, since a row of a table for each would cost as much
// as its change, in time and in the binary log. The kept-values table is a view
// that takes them apart again. A row that is too large for that, or holds what
// JSON cannot, stands in typed columns beside it.

const (
	packBytes = 256 << 10 // of JSON, after which a pack ends
	packLimit = 1 << 20   // a value larger than that is kept by itself
)

// Packs reports whether values of these types can be written as JSON and read
// back to the byte, and whether we may make views and temporary tables. Times of the type timestamp
// cannot: the text of one depends on the time zone, and in some nights stands
// for two.
func (db *DB) Packs(kept *change.Kept) bool {
	for _, k := range columns(kept) {
		switch typeName(k.Of) {
		case "tinyint", "smallint", "mediumint", "int", "bigint", "decimal", "double", "date", "time", "datetime",
			"binary", "varbinary", "tinyblob", "blob", "mediumblob", "longblob":
		case "char", "varchar", "tinytext", "text", "mediumtext", "longtext":
			switch k.Of.Base {
			case "utf8mb4", "utf8mb3", "utf8", "latin1", "ascii":
			default:
				return false
			}
		default:
			return false
		}
	}
	return db.mayAll(packNeeds) && db.mayAll(ledgerNeeds)
}

// typeName is a column's type without its length and what follows.
func typeName(c *change.Column) string {
	name, _, _ := strings.Cut(c.Type, "(")
	name, _, _ = strings.Cut(name, " ")
	return name
}

// columns lists all columns of a layout in their order: keys, old, new.
func columns(kept *change.Kept) []change.KeptColumn {
	return append(append(append([]change.KeptColumn(nil), kept.Keys...), kept.Old...), kept.New...)
}

// packedTable gives the statements for the packed table and the view of it.
func packedTable(kept *change.Kept, types []string) []string {
	table, outside, inside := []string{"last bigint NOT NULL PRIMARY KEY", "first bigint NOT NULL", "v longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin"}, "", ""
	for i, k := range columns(kept) {
		name := d.Quote(k.Name)
		table = append(table, name+" "+types[i]+" NULL DEFAULT NULL")
		read, typ := "j."+name, types[i]
		if k.Of.Binary {
			read, typ = "UNHEX("+read+")", "longtext CHARACTER SET ascii"
		}
		outside += fmt.Sprintf(", IF(p.v IS NULL, p.%s, %s) AS %s", name, read, name)
		inside += fmt.Sprintf(", %s %s PATH '$[%d]' NULL ON EMPTY ERROR ON ERROR", name, typ, i)
	}
	// A replica that crashes may meet the CREATE VIEW again, with the view there.
	return []string{"CREATE TABLE " + kept.Packed + " (" + strings.Join(table, ", ") + ") ENGINE = InnoDB ROW_FORMAT = DYNAMIC",
		"CREATE OR REPLACE SQL SECURITY INVOKER VIEW " + kept.Table + " AS SELECT p.first + j.n AS seq" + outside + ", p.last AS packed_to FROM " + kept.Packed +
			" AS p, JSON_TABLE(coalesce(p.v, '[[]]'), '$[*]' COLUMNS (n FOR ORDINALITY" + inside + ")) AS j"}
}

// shown is a value, to pack or to find a row by, as a text that the driver gives.
// It would give the year 0000 as 0, which the server takes for 2000.
func shown(k change.KeptColumn, expr string) string {
	if k.Of.Binary || k.Of.Instant || typeName(k.Of) == "year" {
		return d.KeyOut(k.Of, expr)
	}
	return expr
}

// pack is a row of the packed table that is to be written.
type pack struct {
	rows int64
	json []byte
}

// packer puts rows together to packs.
type packer struct {
	kept    *change.Kept
	numbers []bool // columns whose values are numbers in JSON too
	packs   []pack
	bytes   int
}

func newPacker(kept *change.Kept) *packer {
	p := &packer{kept: kept}
	for _, k := range columns(kept) {
		p.numbers = append(p.numbers, k.Of.Class == change.Number && !strings.HasPrefix(k.Of.Type, "double") && !strings.Contains(k.Of.Type, "zerofill"))
	}
	return p
}

// add takes the values of a row. It takes nothing and reports false if the row
// must be kept by itself.
func (p *packer) add(values []sql.RawBytes) bool {
	size := 0
	for _, v := range values {
		if size += len(v); size > packLimit || !utf8.Valid(v) {
			return false
		}
	}
	n := len(p.packs)
	if n == 0 || p.packs[n-1].rows == change.PackedRows || len(p.packs[n-1].json) > packBytes {
		p.packs = append(p.packs, pack{json: make([]byte, 0, 1<<10)})
		n++
	}
	x := &p.packs[n-1]
	before := len(x.json)
	sep := byte('[')
	if x.rows > 0 {
		sep = ','
	}
	x.json = append(x.json, sep, '[')
	for i, v := range values {
		if i > 0 {
			x.json = append(x.json, ',')
		}
		if p.numbers[i] && v != nil {
			x.json = append(x.json, v...)
		} else {
			x.json = appendJSON(x.json, v)
		}
	}
	x.json = append(x.json, ']')
	x.rows++
	p.bytes += len(x.json) - before
	return true
}

// appendJSON appends a text as a JSON string, or null.
func appendJSON(to []byte, v []byte) []byte {
	if v == nil {
		return append(to, "null"...)
	}
	to = append(to, '"')
	done := 0
	for i, c := range v {
		if c >= 0x20 && c != '"' && c != '\\' {
			continue
		}
		to = append(to, v[done:i]...)
		if done = i + 1; c >= 0x20 {
			to = append(to, '\\', c)
		} else {
			to = fmt.Appendf(to, `\u%04x`, c)
		}
	}
	return append(append(to, v[done:]...), '"')
}

// flush writes the packs, numbered from base+1 on, and gives the last number.
func (p *packer) flush(ctx context.Context, tx *engine.Tx, base int64) (int64, error) {
	for _, x := range p.packs {
		if _, err := tx.Exec(ctx, "INSERT INTO "+p.kept.Packed+" (last, first, v) VALUES (?, ?, ?)", base+x.rows, base, string(x.json)+"]"); err != nil {
			return base, err
		}
		base += x.rows
	}
	p.packs, p.bytes = nil, 0
	return base, nil
}

// packStaged packs the rows of a temporary kept-values table.
func packStaged(ctx context.Context, tx *engine.Tx, from, kept *change.Kept, base int64) (int64, error) {
	all := columns(kept)
	long := "0"
	for _, k := range all {
		if k.Of.Length == 0 && (k.Of.Binary || k.Of.Class == change.Text) {
			long += " + coalesce(octet_length(k." + d.Quote(k.Name) + "), 0)"
		}
	}
	p := newPacker(kept)
	for after, limit := int64(0), int64(100); ; {
		q := &change.Query{D: d}
		q.Add("SELECT k.seq")
		for _, k := range all {
			if expr := shown(k, "k."+d.Quote(k.Name)); long == "0" {
				q.Add(", ", expr)
			} else { // what is too long is not even read
				q.Add(", IF(", long, fmt.Sprintf(" > %d, NULL, ", packLimit), expr, ")")
			}
		}
		q.Add(", ", long, " FROM ", from.Table, " AS k WHERE k.seq > ").Arg(after, "").Add(fmt.Sprintf(" ORDER BY k.seq LIMIT %d", limit))
		read, alone := int64(0), int64(0)
		rows, err := tx.Query(ctx, q.String(), q.Args...)
		if err != nil {
			return base, err
		}
		values := make([]sql.RawBytes, len(all))
		for rows.Next() && alone == 0 {
			var seq, size int64
			into := []any{&seq}
			for i := range values {
				into = append(into, &values[i])
			}
			if err := rows.Scan(append(into, &size)...); err != nil {
				rows.Close()
				return base, err
			}
			after = seq
			read++
			if size > packLimit || !p.add(values) {
				alone = seq
			}
		}
		err = rows.Err()
		rows.Close()
		if err != nil {
			return base, err
		}
		done := read < limit && alone == 0
		limit = change.PackedRows
		if p.bytes > packBytes {
			limit = max(1, read*packBytes/int64(p.bytes))
		}
		if base, err = p.flush(ctx, tx, base); err != nil {
			return base, err
		}
		if alone > 0 {
			if err := keepAlone(ctx, tx, from, kept, alone, base+1); err != nil {
				return base, err
			}
			base++
		}
		if done {
			return base, nil
		}
	}
}

// keepAlone keeps one row of a temporary kept-values table in the typed columns.
func keepAlone(ctx context.Context, tx *engine.Tx, from, kept *change.Kept, seq, n int64) error {
	names := ""
	for _, k := range columns(kept) {
		names += ", " + d.Quote(k.Name)
	}
	_, err := tx.Exec(ctx, "INSERT INTO "+kept.Packed+" (last, first"+names+") SELECT ?, ?"+names+" FROM "+from.Table+" WHERE seq = ?", n, n-1, seq)
	return err
}
