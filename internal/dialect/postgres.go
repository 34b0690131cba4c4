package dialect

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/sqltext"
)

// PostgreSQL is the SQL of PostgreSQL. Names are looked up in a search path, in which
// others may have put theirs: what is ours is named with its schema.
var PostgreSQL change.Dialect = postgres{&sqltext.Syntax{
	Title:     "PostgreSQL",
	OwnSchema: "pg_catalog", ExactNames: true,
	DollarTexts: true, Prefixes: "XBN", EscapeTexts: true, UnicodeTexts: true,
	NestedComments: true,
	Inherits:       true,
}}

type postgres struct{ *sqltext.Syntax }

func (postgres) Forms() *change.Forms { return postgresForms }

var postgresForms = &change.Forms{
	Seconds: 6, Collations: true,
	Numbered: true, RowComparison: true, Materialized: "MATERIALIZED ", Unmerged: " OFFSET 0", By: change.ByUsing,
	OldVersions: true, Snapshot: true, AnyOrder: true, Heirs: true,
	ListsPay: true,
}

// valueTypes are the types that are made of values of a job; a text needs none.
var valueTypes = map[change.ValueType]string{change.IntegerValue: "bigint", change.DecimalValue: "numeric", change.BooleanValue: "boolean",
	change.DateValue: "date", change.TimestampValue: "timestamp"}

// Bind gives a value as text, and the type that is to be made of it.
func (postgres) Bind(v change.Value) change.Bound {
	if v.List != nil {
		return cast(v.List, "text[]")
	}
	typ := valueTypes[v.Type]
	if v.Type == change.TimestampValue && hasZone(v.Text) {
		typ = "timestamptz"
	}
	return cast(argument(v), typ)
}

func (postgres) BindTo(v change.Value, c *change.Column) change.Bound {
	if v.List != nil {
		return cast(v.List, c.Base)
	}
	return cast(argument(v), c.Base)
}

func argument(v change.Value) any {
	if v.Null {
		return nil
	}
	return v.Text
}

func hasZone(s string) bool { return len(s) > 10 && strings.ContainsAny(s[10:], "Zz+-") }

func (postgres) BindKey(v any, c *change.Column) change.Bound { return cast(v, c.Base) }

func (postgres) KeyIs(q *change.Query, c *change.Column, value, op string, v any) *change.Query {
	return change.KeyIs(q, c, value, op, v)
}

func (postgres) BindAs(v any, typ string) change.Bound { return cast(v, typ) }

func (postgres) Assign(c *change.Column) (before, after string) {
	if c.Base == "" {
		return "(", ")"
	}
	return "CAST(", " AS " + c.Base + ")"
}

func (postgres) Unchanged(c *change.Column, a, b string) string {
	switch c.Same {
	case change.ByImage:
		return "ROW(" + a + ")::record *= ROW(" + b + ")::record"
	case change.ByText:
		return "CAST(" + a + ` AS text) COLLATE "C" IS NOT DISTINCT FROM CAST(` + b + ` AS text) COLLATE "C"`
	}
	return exactly(c, a) + " IS NOT DISTINCT FROM " + exactly(c, b)
}

func (postgres) Differs(c *change.Column, a, b string) string {
	a = "CAST(" + a + " AS " + c.Base + ")"
	switch c.Same {
	case change.ByImage:
		return "ROW(" + a + ")::record *<> ROW(" + b + ")::record"
	case change.ByText:
		return "CAST(" + a + ` AS text) COLLATE "C" IS DISTINCT FROM CAST(` + b + ` AS text) COLLATE "C"`
	}
	return exactly(c, a) + " IS DISTINCT FROM " + exactly(c, b)
}

// exactly casts a value to a type of which the server itself has an operator =. For any
// other, such as varchar or a domain, one that somebody made in a schema of the search path
// would be a better match; and IS DISTINCT FROM has no form that names the operator's schema.
// Texts compare by their bytes: two columns with rules of their own could not be compared at all.
func exactly(c *change.Column, expr string) string {
	switch typ := c.BaseType(); {
	case typ == "varchar" || typ == "text":
		return "CAST(" + expr + ` AS text) COLLATE "C"`
	case typ == "bpchar":
		return "CAST(" + expr + " AS " + c.Base + `) COLLATE "C"`
	case strings.HasPrefix(expr, "CAST(") || c.Base == c.Type:
		return expr
	}
	return "CAST(" + expr + " AS " + c.Base + ")"
}

func (postgres) Fits(c *change.Column, n string) string {
	between := func(lo, hi string) string {
		return fmt.Sprintf("(%s IS NULL OR CAST(%s AS numeric) BETWEEN %s AND %s)", n, n, lo, hi)
	}
	switch {
	case c.Type == "smallint":
		return between("-32768.5", "32767.4")
	case c.Type == "integer":
		return between("-2147483648.5", "2147483647.4")
	case c.Type == "bigint":
		return between("-9223372036854775808.5", "9223372036854775807.4")
	case strings.HasPrefix(c.Type, "numeric("):
		p, s, _ := strings.Cut(strings.Trim(strings.TrimPrefix(c.Type, "numeric"), "()"), ",")
		precision, err1 := strconv.Atoi(p)
		scale, err2 := strconv.Atoi(s)
		if err1 != nil || err2 != nil {
			return ""
		}
		return fmt.Sprintf("(%s IS NULL OR abs(round(CAST(%s AS numeric), %d)) < CAST('1e%d' AS numeric))", n, n, scale, precision-scale)
	case c.Length > 0 && !strings.HasPrefix(c.Type, "character"): // a domain
		return ""
	case c.Length > 0:
		// Spaces beyond the width are dropped in silence by SQL's own rule.
		return fmt.Sprintf("(%s IS NULL OR char_length(rtrim(CAST(%s AS text))) <= %d)", n, n, c.Length)
	}
	return ""
}

func (postgres) Number(c *change.Column, v string) string {
	switch {
	case strings.Contains(c.Type, "double") || c.Type == "real":
		return "CAST(" + v + " AS double precision)"
	case strings.HasPrefix(c.Type, "numeric("):
		_, scale, _ := strings.Cut(strings.Trim(strings.TrimPrefix(c.Type, "numeric"), "()"), ",")
		return "round(CAST(" + v + " AS numeric), " + scale + ")"
	case c.Type == "numeric":
		return "CAST(" + v + " AS numeric)"
	case c.Type == "money":
		return v
	}
	return "round(CAST(" + v + " AS numeric))"
}

func (postgres) Text(_ *change.Column, value string) string { return "CAST(" + value + " AS text)" }

// KeyOut gives the same text whatever the session's DateStyle and bytea_output.
func (postgres) KeyOut(c *change.Column, value string) string {
	switch typ := c.BaseType(); {
	case typ == "date", strings.HasPrefix(typ, "timestamp"):
		return "(pg_catalog.to_json(" + value + ") #>> CAST('{}' AS text[]))"
	case typ == "bytea":
		return `(E'\\x' || pg_catalog.encode(` + value + `, 'hex'))`
	}
	return "CAST(" + value + " AS text)"
}

func (postgres) Characters(text string) string { return "length(" + text + ")" }

// Size is that of the value as it is stored, without fetching it.
func (postgres) Size(value string) string { return "pg_catalog.pg_column_size(" + value + ")" }

func (postgres) MayBeLarge(c *change.Column) bool { return roomy(c) }

// roomy reports whether a column's type has no limit that keeps its values small.
func roomy(c *change.Column) bool {
	const small = 1 << 16 // characters
	return c.Class != change.Number && (c.Length <= 0 || c.Length >= small)
}

func (postgres) JSONText(text string) string {
	return "CAST(pg_catalog.to_json(" + text + ") AS text)"
}

func (postgres) Concat(texts ...string) string { return "(" + strings.Join(texts, " || ") + ")" }

func (postgres) Teller(ts []sqltext.Token, i int, at time.Time) (string, int) {
	if ts[i].Kind != sqltext.Ident {
		return "", 0
	}
	call, digits, n := brackets(ts, i+1)
	typ := ""
	switch strings.ToLower(ts[i].Text) {
	case "now", "transaction_timestamp", "statement_timestamp":
		if !call || digits != "" {
			return "", 0
		}
		typ = "timestamptz"
	case "current_timestamp":
		typ = "timestamptz"
	case "localtimestamp":
		typ = "timestamp"
	case "current_date":
		typ = "date"
	case "current_time":
		typ = "timetz"
	case "localtime":
		typ = "time"
	}
	if typ == "" || n < 0 || call && digits == "" && typ != "timestamptz" {
		return "", 0
	}
	if digits != "" {
		typ += "(" + digits + ")"
	}
	text := "CAST('" + at.UTC().Format(clock+".000000-07:00") + "' AS timestamptz)"
	if typ != "timestamptz" {
		text = "CAST(" + text + " AS " + typ + ")"
	}
	return text, 1 + n
}

func (postgres) AsText(c *change.Column, value string) string {
	if strings.HasSuffix(c.Base, ".text") {
		return value
	}
	return "CAST(" + value + " AS text)"
}

func (postgres) AsHex(value string) string { return "encode(" + value + ", 'hex')" }

// Contains folds letters of ASCII alone, without a copy of each value in lower case.
func (d postgres) Contains(q *change.Query, c *change.Column, value, text string, fold bool) {
	q.Add(d.AsText(c, value))
	switch {
	case fold:
		q.Add(` COLLATE "C" ILIKE `)
	case c.Same == change.ByText: // a collation that has no LIKE
		q.Add(` COLLATE "C" LIKE `)
	default:
		q.Add(" LIKE ")
	}
	q.Arg("%"+likeText(text)+"%", "text")
}

func (postgres) MayHold(q *change.Query, value, text string) {
	q.Add("encode(", value, `, 'escape') COLLATE "C" ILIKE `).Arg("%"+text+"%", "text")
}

func (postgres) Replaced(_ *change.Column, value, text, with string) string {
	return "replace(CAST(" + value + " AS text), " + text + ", " + with + ")"
}

// Referred names the rules by which the database itself follows a reference: the parent's where equal
// texts of it may differ, and the child's otherwise. Those of the database give way by themselves.
func (postgres) Referred(parent, child *change.Column) string {
	switch {
	case parent.Collation == "" || child.Collation == "" || parent.Collation == child.Collation:
		return ""
	case parent.Same == change.ByEquality:
		return " COLLATE " + child.Collation
	}
	return " COLLATE " + parent.Collation
}

func (postgres) Spelled(value string) string { return "CAST(" + value + ` AS text) COLLATE "C"` }

// Grouped has texts compare by their bytes, whatever their type's own rule is.
func (d postgres) Grouped(c *change.Column, value string) string {
	if c.Class == change.Text {
		return d.Spelled(value)
	}
	return value
}

func (d postgres) Words(json string, columns []string) string {
	var list []string
	for i, c := range columns {
		list = append(list, d.Spelled(d.Own("json_extract_path_text")+"(jugatum_j.v, '"+strconv.Itoa(i)+"')")+" AS "+c)
	}
	return "(SELECT DISTINCT " + strings.Join(list, ", ") + " FROM " + d.Own("json_array_elements") + "(CAST(" + json + " AS json)) AS jugatum_j(v))"
}

func (postgres) ForUpdate(alias string) string { return " FOR UPDATE OF " + alias }

func (postgres) Sample(percent float64) string {
	return " TABLESAMPLE SYSTEM (" + strconv.FormatFloat(max(percent, 0.000001), 'f', -1, 64) + ")"
}

func (postgres) Settings(bool) string { return "" }

// Settled leaves out rows that other workers have numbered in between: they may be deleted
// by now.
func (postgres) Settled(alias string) string {
	return " AND pg_catalog.age(" + alias + ".xmin) <= pg_catalog.age(CAST(pg_catalog.pg_current_xact_id() AS xid))"
}

func (postgres) Types() change.Types {
	return change.Types{Int: "bigint", Real: "double precision", Text: "text", Time: "timestamptz", Word: "text", Whole: "bigint", RowKey: "bigint", KeyRef: "bigint", Timestamp: "timestamp"}
}

func (postgres) Temporary(name string) (table, create string) {
	return "pg_temp." + name, "CREATE TEMPORARY TABLE IF NOT EXISTS "
}

// Emptied leaves no rows behind that would be read over again and again.
func (postgres) Emptied(table string) string { return "TRUNCATE " + table }

func (postgres) AddColumn(table, column, typ, begins string) []string {
	return []string{"ALTER TABLE " + table + " ADD COLUMN " + column + " " + typ + " NOT NULL DEFAULT " + begins, "ALTER TABLE " + table + " ALTER COLUMN " + column + " DROP DEFAULT"}
}

func (postgres) RenameColumn(table, column, name, _ string) string {
	return "ALTER TABLE " + table + " RENAME COLUMN " + column + " TO " + name
}

func (d postgres) DeclareKey(t *change.Table) string {
	return alter(d, t) + "ADD COLUMN row_no bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, which writes all of it anew under lock; or CREATE UNIQUE INDEX CONCURRENTLY over NOT NULL columns"
}

func (d postgres) DeclareNotNull(t *change.Table, c *change.Column) string {
	return alter(d, t) + "ALTER COLUMN " + d.Quote(c.Name) + " SET NOT NULL"
}

func (d postgres) DeclareReference(t *change.Table, c *change.Column, to *change.Table, column *change.Column) string {
	return addForeignKey(d, t, c, to, column)
}

func (postgres) Analyze(table string) string { return "VACUUM (ANALYZE) " + table }

// Keep has constraints checked in two steps, of which only the second reads the rows, beside everybody.
func (d postgres) Keep(r *change.Rule) ([]change.Statement, string) {
	const from = "PostgreSQL's documentation, 13 to 18: ALTER TABLE, CREATE INDEX, CREATE TRIGGER, Explicit Locking"
	t, name := r.Table.NameSQL(d), d.Quote(r.Name)
	instant := "ACCESS EXCLUSIVE on " + r.Table.String() + ", for an instant: no row is read. It waits for transactions that have used the table, and others wait behind it: set lock_timeout"
	validate := func(also string) change.Statement {
		return change.Statement{SQL: alter(d, r.Table) + "VALIDATE CONSTRAINT " + name, Locks: "SHARE UPDATE EXCLUSIVE on " + r.Table.String() + also + ", while all rows are read; others read and write meanwhile"}
	}
	switch r.Kind {
	case change.KeepDefault:
		return []change.Statement{{SQL: alter(d, r.Table) + "ALTER COLUMN " + d.Quote(r.Column.Name) + " SET DEFAULT " + r.Value, Locks: instant}}, from
	case change.KeepNotNull:
		column := d.Quote(r.Column.Name)
		return []change.Statement{
			{SQL: alter(d, r.Table) + "ADD CONSTRAINT " + name + " CHECK (" + column + " IS NOT NULL) NOT VALID", Locks: instant}, validate(""),
			{SQL: alter(d, r.Table) + "ALTER COLUMN " + column + " SET NOT NULL", Locks: instant + ". The constraint before it spares reading all rows"},
			{SQL: alter(d, r.Table) + "DROP CONSTRAINT " + name, Locks: instant}}, from
	case change.KeepCheck:
		return []change.Statement{{SQL: alter(d, r.Table) + "ADD CONSTRAINT " + name + " CHECK (" + r.Holds + ") NOT VALID", Locks: instant}, validate("")}, from
	case change.KeepReference:
		return []change.Statement{
			{SQL: alter(d, r.Table) + "ADD CONSTRAINT " + name + " FOREIGN KEY (" + d.Quote(r.Column.Name) + ") REFERENCES " + r.To.NameSQL(d) + " (" + d.Quote(r.At.Name) + ") NOT VALID", Locks: "SHARE ROW EXCLUSIVE on " + r.Table.String() + " and " + r.To.String() + ", for an instant: no row is read. Others cannot write meanwhile"},
			validate(" and ROW SHARE on " + r.To.String())}, from
	case change.KeepUnique:
		return []change.Statement{{SQL: "CREATE UNIQUE INDEX CONCURRENTLY " + name + " ON " + t + " (" + strings.Join(r.Unique, ", ") + ")", Locks: "SHARE UPDATE EXCLUSIVE on " + r.Table.String() + ", while all rows are read twice; others read and write meanwhile. Not within a transaction; it waits for every older one, and leaves an invalid index to be dropped if it fails"}}, from
	case change.KeepGenerated:
		column := d.Quote(r.Column.Name)
		return []change.Statement{{SQL: alter(d, r.Table) + "DROP COLUMN " + column + ", ADD COLUMN " + column + " " + r.Column.Type + " GENERATED ALWAYS AS (" + r.Value + ") STORED", Locks: "ACCESS EXCLUSIVE on " + r.Table.String() + ", while it is written anew: nobody reads or writes meanwhile. Constraints, grants and comments of the column go with it, and it comes to stand last"}}, from
	case change.KeepAssign:
		body := "NEW." + d.Quote(r.Column.Name) + " := " + r.New("NEW.") + ";"
		if r.When != "" {
			body = "IF " + r.When + " THEN " + body + " END IF;"
		}
		function := name
		if r.Table.Schema != "" {
			function = d.Quote(r.Table.Schema) + "." + name
		}
		return []change.Statement{
			{SQL: "CREATE FUNCTION " + function + "() RETURNS trigger LANGUAGE plpgsql SET search_path FROM CURRENT AS $rule$ BEGIN " + body + " RETURN NEW; END $rule$", Locks: "nothing that others use"},
			{SQL: "CREATE TRIGGER " + name + " BEFORE INSERT OR UPDATE ON " + t + " FOR EACH ROW EXECUTE FUNCTION " + function + "()", Locks: "SHARE ROW EXCLUSIVE on " + r.Table.String() + ", for an instant. Others cannot write meanwhile"}}, from
	}
	return nil, from
}

func (postgres) Literal(v change.Value) string {
	return literal(v, func(s string) string {
		if strings.Contains(s, `\`) {
			return "E" + quoted(strings.ReplaceAll(s, `\`, `\\`))
		}
		return quoted(s)
	}, "true", "false")
}

func (postgres) Shaped(transform, value string) string {
	switch transform {
	case "trim":
		return value + ` !~ '^\s|\s$'`
	case "collapse":
		return value + ` !~ '\s\s'`
	case "upper", "lower":
		return value + " = " + transform + "(" + value + ")"
	}
	return ""
}

func (postgres) Alike(same change.Form, value string) string {
	switch same {
	case change.Trimmed:
		return "regexp_replace(" + value + `, '^\s+|\s+$', '', 'g')`
	case change.Folded:
		return "lower(regexp_replace(regexp_replace(" + value + `, '^\s+|\s+$', '', 'g'), '\s+', ' ', 'g'))`
	}
	return value
}
