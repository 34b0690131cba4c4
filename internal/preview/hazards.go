package preview

import (
	"context"
	"fmt"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/hazard"
	"jugatum/internal/sqltext"
)

// hazards asks the database what the text of the change alone cannot tell.
func (p *Step) hazards(ctx context.Context, db engine.DB, c *change.Change) error {
	if c.Table.Key != nil && p.Method != "single" {
		n, err := engine.NewWalk(db, c.Table).NullKeys(ctx)
		if err != nil {
			return err
		}
		p.found(hazard.Rows(c, "null-key", n, strings.Join(c.Table.Key.Names(), ", ")))
	}
	if !c.From.Empty() && c.Table.Key != nil && c.Verb == sqltext.Update {
		d := change.Doubles(c, change.Range{})
		n, err := p.count(ctx, db, "SELECT count(*) FROM ("+d.String()+") AS jugatum_d", d.Args)
		if err != nil {
			return err
		}
		p.found(hazard.Rows(c, "ambiguous-source", n))
	}
	if c.Rewrite == nil { // otherwise only we know the new values; a row that collides stands alone when it is run
		if err := p.collisions(ctx, db, c); err != nil {
			return err
		}
	}
	if err := p.references(ctx, db, c); err != nil {
		return err
	}
	for _, t := range c.Table.Triggers {
		if c.Verb == sqltext.Update && t.Update || c.Verb == sqltext.Delete && t.Delete {
			p.found(hazard.Rows(c, "trigger", p.Changes, t.Name, t.Events))
		}
	}
	return nil
}

func (p *Step) count(ctx context.Context, db engine.DB, query string, args []any) (int64, error) {
	var n int64
	err := db.JobPool().QueryRowContext(ctx, query, args...).Scan(&n)
	return n, err
}

// collisions counts the values of unique indexes that would stand twice once
// the step is done.
func (p *Step) collisions(ctx context.Context, db engine.DB, c *change.Change) error {
	if c.Table.Key == nil || p.Changes == 0 {
		return nil
	}
	type index struct {
		name string
		cols []string
	}
	list := []index{{c.Table.Key.Name, c.Table.Key.Names()}}
	for _, ix := range c.Table.Indexes {
		if ix.Unique && !ix.Partial && strings.Join(ix.Columns, "\x00") != strings.Join(list[0].cols, "\x00") {
			list = append(list, index{ix.Name, ix.Columns})
		}
	}
	for _, ix := range list {
		n, err := p.collide(ctx, db, c, ix.cols)
		if err != nil {
			return err
		}
		p.found(hazard.Rows(c, "unique-collision", n, ix.name))
	}
	return nil
}

func (p *Step) collide(ctx context.Context, db engine.DB, c *change.Change, cols []string) (int64, error) {
	set := map[string]change.Set{}
	for _, s := range c.Set {
		set[s.Column.Name] = s
	}
	touched := false
	for _, name := range cols {
		if c.Table.Named(name) == nil {
			return 0, nil // an expression: the database itself will tell
		}
		_, ok := set[name]
		touched = touched || ok
	}
	if !touched {
		return 0, nil
	}
	q := &change.Query{D: c.D}
	list := func(expr func(col string, i int)) {
		for i, name := range cols {
			if i > 0 {
				q.Add(", ")
			}
			expr(name, i)
		}
	}
	u := func(i int) string { return fmt.Sprintf("u%d", i) }
	keys := c.Table.Key.Columns
	q.With(c, true).Add("jugatum_m AS (SELECT ")
	for i, k := range keys {
		q.Add(c.Ref, ".", c.D.Quote(k.Name), fmt.Sprintf(" AS k%d, ", i))
	}
	list(func(name string, i int) {
		if s, ok := set[name]; ok {
			if c.D == sqltext.PostgreSQL {
				q.Add("CAST(").NewValue(c, s).Add(" AS ", s.Column.Base, ") AS ", u(i))
			} else {
				q.NewValue(c, s).Add(" AS ", u(i))
			}
		} else {
			q.Add(c.Ref, ".", c.D.Quote(name), " AS ", u(i))
		}
	})
	q.Source(c, change.Range{}).Add(") SELECT count(*) FROM (SELECT 1 FROM (SELECT DISTINCT ")
	for i := range keys {
		q.Add(fmt.Sprintf("k%d, ", i))
	}
	list(func(_ string, i int) { q.Add(u(i)) })
	q.Add(" FROM jugatum_m UNION ALL SELECT ").Columns("jugatum_t", keys).Add(", ")
	list(func(name string, i int) { q.Add("jugatum_t.", c.D.Quote(name)) })
	q.Add(" FROM ", c.Table.SQL(c.D), " AS jugatum_t WHERE NOT EXISTS (SELECT 1 FROM jugatum_m WHERE ")
	for i, k := range keys {
		if i > 0 {
			q.Add(" AND ")
		}
		q.Add(fmt.Sprintf("k%d = jugatum_t.", i), c.D.Quote(k.Name))
	}
	q.Add(")) AS jugatum_a WHERE ")
	for i := range cols {
		if i > 0 {
			q.Add(" AND ")
		}
		q.Add(u(i), " IS NOT NULL")
	}
	q.Add(" GROUP BY ")
	list(func(_ string, i int) { q.Add(u(i)) })
	q.Add(" HAVING count(*) > 1) AS jugatum_c")
	n, err := p.count(ctx, db, q.String(), q.Args)
	if err != nil && db.Fault(err) == engine.Data {
		return 0, nil // a value that does not fit was found already
	}
	return n, err
}

// references counts the rows elsewhere that refer to rows concerned.
func (p *Step) references(ctx context.Context, db engine.DB, c *change.Change) error {
	for _, fk := range c.Table.ReferredBy {
		event, action := "delete", fk.OnDelete
		if c.Verb == sqltext.Update {
			event, action = "update", fk.OnUpdate
			assigned := false
			for _, s := range c.Set {
				for _, parent := range fk.Parent {
					assigned = assigned || s.Column.Name == parent
				}
			}
			if !assigned {
				continue
			}
		}
		q := &change.Query{D: c.D}
		q.With(c, false).Add("SELECT count(*) FROM ", childSQL(c.D, fk.Table), " AS jugatum_c WHERE EXISTS (SELECT 1")
		q.Source(c, change.Range{})
		for i, child := range fk.Columns {
			q.Add(" AND jugatum_c.", c.D.Quote(child), " = ", c.Ref, ".", c.D.Quote(fk.Parent[i]))
		}
		n, err := p.count(ctx, db, q.Add(")").String(), q.Args)
		if err != nil {
			return err
		}
		if action == "CASCADE" || action == "SET NULL" || action == "SET DEFAULT" {
			p.found(hazard.Rows(c, "cascade", n, fk.Table, event, action))
		} else {
			p.found(hazard.Rows(c, "referenced", n, fk.Table, action))
		}
	}
	return nil
}

// childSQL is a referring table as SQL text: PostgreSQL's catalogue gives it
// quoted already.
func childSQL(d sqltext.Dialect, name string) string {
	if d == sqltext.PostgreSQL {
		return name
	}
	return d.Quote(name)
}
