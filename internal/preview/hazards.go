package preview

import (
	"context"
	"fmt"
	"slices"
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
		q.Add(fmt.Sprintf("k%d ", i), k.Op("="), " jugatum_t.", c.D.Quote(k.Name))
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
	for _, fk := range followed(c) {
		n, err := p.count(ctx, db, "SELECT count(*)"+fk.query.String(), fk.query.Args)
		if err != nil {
			return err
		}
		p.found(fk.finding(c, n))
	}
	return nil
}

// Refusals finds what a run is refused for as far as the catalogue and a look for
// a first row tell: what is asked also where nothing is counted.
func Refusals(ctx context.Context, db engine.DB, c *change.Change, method string) ([]hazard.Finding, error) {
	p := &Step{Hazards: hazard.Text(c, method)}
	exists := func(from string, args []any) (int64, error) {
		var n int64
		err := db.JobPool().QueryRowContext(ctx, "SELECT count(*) FROM (SELECT 1"+from+" LIMIT 1) AS jugatum_e", args...).Scan(&n)
		return -n, err // some, nobody has counted how many
	}
	if c.Table.Key != nil && c.Table.Key.MayNull && method != "single" {
		n, err := exists(engine.NewWalk(db, c.Table).WithNullKey(), nil)
		if err != nil {
			return nil, err
		}
		p.found(hazard.Rows(c, "null-key", n, strings.Join(c.Table.Key.Names(), ", ")))
	}
	for _, fk := range followed(c) {
		if !fk.cascades {
			continue
		}
		n, err := exists(fk.query.String(), fk.query.Args)
		if err != nil {
			return nil, err
		}
		p.found(fk.finding(c, n))
	}
	return p.Hazards, nil
}

// reference is a foreign key of another table that the change concerns.
type reference struct {
	change.ForeignKey
	event, action string
	cascades      bool          // the database changes the rows that refer
	query         *change.Query // FROM on, for these rows
}

// followed lists the references that the change concerns.
func followed(c *change.Change) []reference {
	var out []reference
	for _, fk := range c.Table.ReferredBy {
		r := reference{ForeignKey: fk, event: "delete", action: fk.OnDelete}
		if c.Verb == sqltext.Update {
			r.event, r.action = "update", fk.OnUpdate
			if !slices.ContainsFunc(c.Set, func(s change.Set) bool { return slices.Contains(fk.Parent, s.Column.Name) }) {
				continue
			}
		}
		r.cascades = r.action == "CASCADE" || r.action == "SET NULL" || r.action == "SET DEFAULT"
		q := &change.Query{D: c.D}
		q.Add(" FROM ", fk.FromSQL(c.D), " AS jugatum_c WHERE EXISTS (").With(c, false).Add("SELECT 1").Source(c, change.Range{})
		for i, child := range fk.Columns {
			op := "="
			if parent := c.Table.Named(fk.Parent[i]); parent != nil {
				op = parent.Op(op)
			}
			q.Add(" AND jugatum_c.", c.D.Quote(child), " ", op, " ", c.Ref, ".", c.D.Quote(fk.Parent[i]))
		}
		r.query = q.Add(")")
		out = append(out, r)
	}
	return out
}

func (r reference) finding(c *change.Change, n int64) (hazard.Finding, bool) {
	if r.cascades {
		return hazard.Rows(c, hazard.Cascade, n, r.From(), r.event, r.action)
	}
	return hazard.Rows(c, "referenced", n, r.From(), r.action)
}
