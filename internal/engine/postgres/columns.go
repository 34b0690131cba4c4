package postgres

import (
	"context"
	"fmt"
	"strings"

	"jugatum/internal/change"
)

// columns reads the columns of a table, with what comparing their values means.
func (db *DB) columns(ctx context.Context, t *change.Table, oid uint32) error {
	classes, err := db.orderings(ctx)
	if err != nil {
		return err
	}
	notNull := "a.attnotnull"
	if db.number >= 180000 { // where one may hold for new rows only
		notNull += " AND NOT EXISTS (SELECT 1 FROM pg_constraint nn WHERE nn.conrelid = a.attrelid AND nn.contype = 'n' AND nn.conkey = ARRAY[a.attnum] AND NOT nn.convalidated)"
	}
	// Names of schemas by regnamespace, and as few joins as can be: planning this takes longer than
	// carrying it out, and is done for each table of a survey. A domain is cast to the type beneath
	// it: casting to the domain itself would cut to its length.
	rows, err := db.pool.QueryContext(ctx, `SELECT a.attname, format_type(a.atttypid, a.atttypmod),
			CASE WHEN b.typcategory IN ('N', 'D', 'T') AND ty.typbasetype = 0 THEN format_type(a.atttypid, a.atttypmod)
			     ELSE b.typnamespace::regnamespace::text || '.' || quote_ident(b.typname) END,
			b.oid, b.typname, b.typcategory::text, `+notNull+` OR ty.typnotnull, a.attgenerated <> '', a.attidentity = 'a',
			coalesce(pg_get_expr(ad.adbin, ad.adrelid), ''),
			CASE WHEN b.typname IN ('varchar', 'bpchar') AND greatest(a.atttypmod, ty.typtypmod) > 4 THEN greatest(a.atttypmod, ty.typtypmod) - 4 ELSE 0 END,
			CASE WHEN co.oid IS NULL OR co.collname = 'default' THEN '' ELSE co.collnamespace::regnamespace::text || '.' || quote_ident(co.collname) END,
			coalesce(co.collisdeterministic, true),
			ARRAY(SELECT f.attname FROM pg_depend x JOIN pg_attribute f ON f.attrelid = x.refobjid AND f.attnum = x.refobjsubid
				WHERE a.attgenerated <> '' AND x.classid = 'pg_attrdef'::regclass AND x.objid = ad.oid AND x.refclassid = 'pg_class'::regclass AND x.refobjid = a.attrelid AND x.refobjsubid NOT IN (0, a.attnum))::text[]
		FROM pg_attribute a JOIN pg_type ty ON ty.oid = a.atttypid
		JOIN pg_type b ON b.oid = CASE WHEN ty.typbasetype <> 0 THEN ty.typbasetype ELSE ty.oid END
		LEFT JOIN pg_attrdef ad ON ad.adrelid = a.attrelid AND ad.adnum = a.attnum
		LEFT JOIN pg_collation co ON co.oid = a.attcollation
		WHERE a.attrelid = $1 AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attnum`, oid)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		c := &change.Column{}
		var typ, category string
		var deterministic bool
		var from textArray
		var base uint32
		if err := rows.Scan(&c.Name, &c.Type, &c.Base, &base, &typ, &category, &c.NotNull, &c.Generated, &c.Identity, &c.Default, &c.Length, &c.Collation, &deterministic, &from); err != nil {
			return err
		}
		c.From, c.Operators = from, operators(classes[base])
		switch category {
		case "N":
			if !strings.Contains(c.Base, ".") || strings.HasPrefix(c.Base, "pg_catalog.") { // sums of others are theirs alone
				c.Class = change.Number
			}
		case "S":
			c.Class, c.Holds = change.Text, change.WholeText
		case "E":
			c.Holds = change.TextParts
		}
		switch typ {
		case "json", "jsonb", "xml":
			c.Holds = change.WholeText
		case "_text", "_varchar", "_bpchar", "_name", "_json", "_jsonb", "hstore":
			c.Holds = change.TextParts
		case "bytea":
			c.Holds = change.Bytes
		}
		c.Same = sameness(typ, deterministic)
		if strings.HasPrefix(c.Type, "numeric(") {
			c.Same = change.ByEquality // one scale for all values, so equal ones are written alike
		}
		t.Columns = append(t.Columns, c)
	}
	return rows.Err()
}

// comparisons are the strategies of a B-tree's operator class, in their order
// (PostgreSQL documentation, "Index Method Strategies").
var comparisons = []string{"<", "<=", "=", ">=", ">"}

var serversOwn = []string{"pg_catalog.<", "pg_catalog.<=", "pg_catalog.=", "pg_catalog.>=", "pg_catalog.>"}

// orderings gives, by type, the operators of the default classes for B-trees that are not the
// server's own: those of extensions, and what a superuser has made. Objects that came
// with the server have smaller numbers (transam.h, FirstNormalObjectId).
func (db *DB) orderings(ctx context.Context) (map[uint32][]string, error) {
	db.orders.Lock()
	defer db.orders.Unlock()
	if db.ordered != nil {
		return db.ordered, nil
	}
	rows, err := db.pool.QueryContext(ctx, `SELECT oc.opcintype, ARRAY(SELECT op.oprnamespace::regnamespace::text || '.' || op.oprname FROM pg_amop ao JOIN pg_operator op ON op.oid = ao.amopopr
				WHERE ao.amopfamily = oc.opcfamily AND ao.amoplefttype = oc.opcintype AND ao.amoprighttype = oc.opcintype AND ao.amopstrategy BETWEEN 1 AND 5 ORDER BY ao.amopstrategy)::text[]
		FROM pg_opclass oc WHERE oc.opcdefault AND oc.opcmethod = (SELECT oid FROM pg_am WHERE amname = 'btree') AND oc.oid >= 16384`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	found := map[uint32][]string{}
	for rows.Next() {
		var of uint32
		var own textArray
		if err := rows.Scan(&of, &own); err != nil {
			return nil, err
		}
		found[of] = own
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	db.ordered = found
	return found, nil
}

// operators are those of a type's default class for B-trees, by which ORDER BY
// sorts as well. Only a superuser can make such a class.
func operators(names []string) map[string]string {
	if len(names) != len(comparisons) { // no class of its own: varchar is compared as text; arrays, enums and ranges each as one
		names = serversOwn
	}
	out := map[string]string{}
	for i, c := range comparisons {
		out[c] = "OPERATOR(" + names[i] + ")"
	}
	return out
}

// sameness knows the types for which equal values have equal bytes. Others, such
// as numeric (1.0 = 1.00) or json (no equality at all), are compared by image.
func sameness(typ string, deterministic bool) change.Sameness {
	switch typ {
	case "int2", "int4", "int8", "bool", "date", "time", "timestamp", "timestamptz", "uuid", "bytea", "oid", "bpchar":
		return change.ByEquality
	case "text", "varchar":
		if deterministic {
			return change.ByEquality
		}
		return change.ByText
	}
	return change.ByImage
}

// textArray reads text[] in its text form.
type textArray []string

// Scan reads {a,"b c"}; the elements are names, never NULL.
func (a *textArray) Scan(src any) error {
	s, ok := src.(string)
	if !ok {
		return fmt.Errorf("text array given as %T", src)
	}
	*a = nil
	s = strings.TrimSuffix(strings.TrimPrefix(s, "{"), "}")
	for len(s) > 0 {
		var b strings.Builder
		quoted := s[0] == '"'
		i := 0
		if quoted {
			i = 1
		}
		for ; i < len(s); i++ {
			if quoted && s[i] == '\\' {
				i++
			} else if quoted && s[i] == '"' || !quoted && s[i] == ',' {
				break
			}
			b.WriteByte(s[i])
		}
		if quoted {
			i++
		}
		*a = append(*a, b.String())
		s = strings.TrimPrefix(s[min(i, len(s)):], ",")
	}
	return nil
}
