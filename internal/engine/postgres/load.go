package postgres

import (
	"context"
	"fmt"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// Locate asks for the tuple identifier and the transaction that wrote the row:
// its version. In partitions those are not unique, and the key stands for them.
func (db *DB) Locate(q *change.Query, c *change.Change) {
	if !c.Table.Partitioned {
		q.Add("CAST(", c.Ref, ".ctid AS text) || ' ' || CAST(", c.Ref, ".xmin AS text)")
	}
}

// Guarded is true where rows are told by version.
func (db *DB) Guarded(_ *engine.Tx, c *change.Change) bool { return !c.Table.Partitioned }

// Load passes the new values as arrays.
func (db *DB) Load(_ context.Context, _ *engine.Tx, c *change.Change, rows []engine.Rewritten) (*change.Change, error) {
	params := map[string]change.Value{}
	list := func(name string, value func(r engine.Rewritten) *string) string {
		texts := make([]*string, len(rows))
		for i, r := range rows {
			texts[i] = value(r)
		}
		params[name] = change.Value{Type: change.TextValue, List: texts}
		return ":" + name
	}
	var from, names, where []string
	if c.Table.Partitioned {
		for i, k := range c.Table.Key.Columns {
			from = append(from, list(fmt.Sprintf("jugatum_k%d", i), func(r engine.Rewritten) *string {
				s := fmt.Sprint(r.Key[i])
				return &s
			}))
			names = append(names, fmt.Sprintf("k%d", i))
			where = append(where, fmt.Sprintf("%s.%s %s CAST(jugatum_v.k%d AS %s)", c.Ref, d.Quote(k.Name), k.Op("="), i, k.Base))
		}
	} else {
		from = append(from, "CAST("+list("jugatum_tid", func(r engine.Rewritten) *string {
			tid, _, _ := strings.Cut(r.At, " ")
			return &tid
		})+" AS tid[])", "CAST("+list("jugatum_xmin", func(r engine.Rewritten) *string {
			_, xmin, _ := strings.Cut(r.At, " ")
			return &xmin
		})+" AS xid[])")
		names = append(names, "tid", "xm")
		where = append(where, c.Ref+".ctid = jugatum_v.tid", c.Ref+".xmin = jugatum_v.xm")
	}
	for i := range c.Set {
		from = append(from, list(fmt.Sprintf("jugatum_n%d", i), func(r engine.Rewritten) *string { return r.New[i] }))
		names = append(names, fmt.Sprintf("n%d", i))
	}
	if c.Rewrite.Nulls() {
		from = append(from, list("jugatum_nulls", func(r engine.Rewritten) *string { return &r.Nulls }))
		names = append(names, change.LoadedNulls)
	}
	// Of two lists and more, unnest is a form of SQL's own and no function's name.
	return c.FromLoaded("unnest("+strings.Join(from, ", ")+") AS jugatum_v("+strings.Join(names, ", ")+")", strings.Join(where, " AND "), params,
		func(value string, col *change.Column) string { return "CAST(" + value + " AS " + col.Base + ")" })
}
