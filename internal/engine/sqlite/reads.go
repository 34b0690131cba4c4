package sqlite

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/sqltext"
)

// volatile are SQLite's functions that give another value at every call;
// perBatch those that tell of the connection's last statements.
var (
	volatile = []string{"random", "randomblob"}
	perBatch = []string{"last_insert_rowid", "changes", "total_changes"}
)

// Accepts has the statement compiled.
func (db *DB) Accepts(ctx context.Context, c *change.Change) error {
	q := (&change.Query{D: d}).Add("EXPLAIN ").Plain(c)
	rows, err := db.pool.QueryContext(ctx, q.String(), q.Args...)
	if err != nil {
		return err
	}
	rows.Close()
	return rows.Err()
}

// Reads has SQLite compile the change with other rows in the place of its
// target's. Wherever the program then still opens the target's table or one of
// its indexes, the change reads it once more, through whatever views.
func (db *DB) Reads(ctx context.Context, c *change.Change) (change.Reads, error) {
	var r change.Reads
	whole := *c
	if c.First != nil { // its own way to the first rows reads the target by design
		r.Target = slices.ContainsFunc(c.First.Order.Tokens, func(t sqltext.Token) bool { return t.Is("SELECT") })
		whole.First = nil
	}
	pages, err := db.rootPages(ctx, c.Table.Name)
	if err != nil {
		return r, err
	}
	owners, err := db.pageOwners(ctx)
	if err != nil {
		return r, err
	}
	e := whole.Instead(likeness(c.Table))
	q := &change.Query{D: d}
	q.Add("EXPLAIN ").With(e, false).Add("SELECT 1")
	for _, s := range e.Set {
		q.Add(", ").NewValue(e, s)
	}
	q.Source(e, change.Range{})
	rows, err := db.pool.QueryContext(ctx, q.String(), q.Args...)
	if err != nil { // such as a column written main.table.column, which other rows do not have
		r.Target = slices.ContainsFunc(c.TableRefs(), func(n sqltext.Name) bool { return d.Same(n.Table, c.Table.Name) })
		return r, nil
	}
	defer rows.Close()
	virtual := false
	for rows.Next() {
		var addr, p1, p2, p3, p5 int64
		var op string
		var p4, comment any
		if err := rows.Scan(&addr, &op, &p1, &p2, &p3, &p4, &p5, &comment); err != nil {
			return r, err
		}
		text, _ := p4.(string)
		switch op {
		case "OpenRead", "ReopenIdx", "OpenWrite":
			ours := slices.Contains(pages, p2)
			r.Target = r.Target || p3 == 0 && ours
			if name := owners[p2]; p3 == 0 && !ours && name != "" {
				r.Table(name)
			}
		case "VOpen":
			virtual = true
		case "String8":
			r.Clock = r.Clock || text == "now"
		case "Function", "PureFunc":
			name, _, _ := strings.Cut(text, "(")
			switch {
			case slices.Contains(volatile, name):
				r.Sort(c, name+"()", true)
			case slices.Contains(perBatch, name):
				r.Sort(c, name+"()", false)
			case strings.HasPrefix(name, "current_"):
				r.Clock = true
			}
		}
	}
	if err := rows.Err(); err != nil {
		return r, err
	}
	rows.Close()
	if virtual && !r.Target {
		r.Target, err = db.mirrored(ctx, c.Table.Name)
	}
	return r, err
}

// Estimate counts the rows that a change concerns where an index or the key finds
// them, up to one in a hundred of the table; where SQLite would go through the
// table, it gives all of its rows.
func (db *DB) Estimate(ctx context.Context, c *change.Change) (int64, error) {
	q := &change.Query{D: d}
	q.Add("EXPLAIN QUERY PLAN ").With(c, false).Add("SELECT 1").Source(c, change.Range{})
	rows, err := db.pool.QueryContext(ctx, q.String(), q.Args...)
	if err != nil {
		return 0, err
	}
	defer rows.Close()
	name := strings.ToLower(strings.Trim(c.Ref, `"`))
	for rows.Next() {
		var id, parent, none int64
		var detail string
		if err := rows.Scan(&id, &parent, &none, &detail); err != nil {
			return 0, err
		}
		if detail = strings.ToLower(detail); detail == "scan "+name || strings.HasPrefix(detail, "scan "+name+" ") {
			return c.Table.Rows, nil
		}
	}
	if err := rows.Err(); err != nil {
		return 0, err
	}
	rows.Close()
	q = &change.Query{D: d}
	q.Add("SELECT count(*) FROM (").With(c, false).Add("SELECT 1").Source(c, change.Range{}).Add(" LIMIT ", fmt.Sprint(c.Table.Rows/100+1), ") AS jugatum_s")
	var n int64
	err = db.pool.QueryRowContext(ctx, q.String(), q.Args...).Scan(&n)
	return n, err
}

// likeness is a query for rows with the columns of the table, from somewhere else.
func likeness(t *change.Table) string {
	text := "SELECT "
	for i, col := range t.Columns {
		if i > 0 {
			text += ", "
		}
		text += "name AS " + d.Quote(col.Name)
	}
	for _, name := range []string{"rowid", "oid", "_rowid_"} {
		if !slices.ContainsFunc(t.Columns, func(c *change.Column) bool { return strings.EqualFold(c.Name, name) }) {
			text += ", rowid AS " + name
		}
	}
	return text + " FROM sqlite_schema"
}

// pageOwners names the table of each page at which a table or an index begins.
func (db *DB) pageOwners(ctx context.Context) (map[int64]string, error) {
	rows, err := db.pool.QueryContext(ctx, "SELECT rootpage, tbl_name FROM sqlite_schema WHERE type IN ('table', 'index') AND rootpage > 0")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[int64]string{}
	for rows.Next() {
		var page int64
		var name string
		if err := rows.Scan(&page, &name); err != nil {
			return nil, err
		}
		out[page] = name
	}
	return out, rows.Err()
}

// rootPages are the pages at which a table and its indexes begin.
func (db *DB) rootPages(ctx context.Context, table string) ([]int64, error) {
	rows, err := db.pool.QueryContext(ctx, "SELECT rootpage FROM sqlite_schema WHERE lower(tbl_name) = lower(?) AND type IN ('table', 'index') AND rootpage > 0", table)
	if err != nil {
		return nil, fmt.Errorf("reading the schema: %w", err)
	}
	return collect[int64](rows)
}

// mirrored reports whether a virtual table's declaration names the table, from
// whose rows it may then take its own.
func (db *DB) mirrored(ctx context.Context, table string) (found bool, err error) {
	err = db.pool.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM sqlite_schema WHERE type = 'table' AND coalesce(rootpage, 0) = 0 AND instr(lower(sql), lower(?)) > 0)", table).Scan(&found)
	return found, err
}
