package postgres

import (
	"context"
	"fmt"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/sqltext"
)

// Locate asks for the tuple identifier. The row is locked, so that it stays what
// it is; in partitions it is not unique, and the key stands for it.
func (db *DB) Locate(q *change.Query, c *change.Change) {
	if !c.Table.Partitioned {
		q.Add("CAST(", c.Ref, ".ctid AS text)")
	}
}

// Load passes the new values as arrays.
func (db *DB) Load(_ context.Context, _ *engine.Tx, c *change.Change, rows []engine.Rewritten) (*change.Change, error) {
	out := *c
	out.Rewrite, out.Params = nil, map[string]change.Value{}
	list := func(name string, value func(r engine.Rewritten) *string) string {
		texts := make([]*string, len(rows))
		for i, r := range rows {
			texts[i] = value(r)
		}
		out.Params[name] = change.Value{Type: change.TextValue, List: texts}
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
			where = append(where, fmt.Sprintf("%s.%s = CAST(jugatum_v.k%d AS %s)", c.Ref, d.Quote(k.Name), i, k.Base))
		}
	} else {
		from = append(from, "CAST("+list("jugatum_tid", func(r engine.Rewritten) *string { return &r.At })+" AS tid[])")
		names = append(names, "tid")
		where = append(where, c.Ref+".ctid = jugatum_v.tid")
	}
	out.Set = append([]change.Set(nil), c.Set...)
	for i := range out.Set {
		s := &out.Set[i]
		from = append(from, list(fmt.Sprintf("jugatum_n%d", i), func(r engine.Rewritten) *string { return r.New[i] }))
		names = append(names, fmt.Sprintf("n%d", i))
		expr, err := sqltext.Expression(d, fmt.Sprintf("coalesce(CAST(jugatum_v.n%d AS %s), %s.%s)", i, s.Column.Base, c.Ref, d.Quote(s.Column.Name)))
		if err != nil {
			return nil, err
		}
		s.Expr = expr
	}
	tokens, err := sqltext.Lex(d, "unnest("+strings.Join(from, ", ")+") AS jugatum_v("+strings.Join(names, ", ")+")")
	if err != nil {
		return nil, err
	}
	out.From = sqltext.Fragment{Tokens: tokens}
	out.Where, err = sqltext.Expression(d, strings.Join(where, " AND "))
	return &out, err
}
