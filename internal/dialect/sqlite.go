package dialect

import (
	"strconv"
	"strings"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/sqltext"
)

// SQLite is the SQL of SQLite. Values have types of their own there, columns only an
// affinity; a transaction that writes has the database to itself.
var SQLite change.Dialect = sqlite{&sqltext.Syntax{
	Title:     "SQLite",
	Backticks: true, Brackets: true,
	Prefixes: "X", OwnParams: "?@$",
	NoUsing: true, NotIndexed: true,
}}

type sqlite struct{ *sqltext.Syntax }

func (sqlite) Forms() *change.Forms { return sqliteForms }

var sqliteForms = &change.Forms{
	Digits: 15, Seconds: -1,
	RowComparison: true, HashesNotIn: true, AntiJoins: true, Unmerged: " LIMIT -1", Frame: " ROWS BETWEEN UNBOUNDED PRECEDING AND CURRENT ROW", By: change.BySubset,
	NamesOrTexts: true, LooseReference: true,
	StoredKeys: true, CountedRanges: true, Mixed: change.AsTexts, CountsUp: true,
}

// Bind gives the type that is to be stored. There is no decimal type: a number with a point
// is a float.
func (sqlite) Bind(v change.Value) change.Bound {
	if v.Type == change.DecimalValue && !v.Null {
		if f, err := strconv.ParseFloat(v.Text, 64); err == nil {
			return change.Bound{Arg: f}
		}
	}
	return change.Bound{Arg: plain(v)}
}

func (d sqlite) BindTo(v change.Value, _ *change.Column) change.Bound { return d.Bind(v) }

func (sqlite) BindKey(v any, _ *change.Column) change.Bound { return change.Bound{Arg: v} }

func (sqlite) KeyIs(q *change.Query, c *change.Column, value, op string, v any) *change.Query {
	return change.KeyIs(q, c, value, op, v)
}

func (sqlite) BindAs(v any, _ string) change.Bound { return change.Bound{Arg: v} }

func (sqlite) Assign(*change.Column) (before, after string) { return "(", ")" }

func (sqlite) Unchanged(_ *change.Column, a, b string) string {
	return "(" + a + " IS " + b + " COLLATE BINARY AND typeof(" + a + ") = typeof(" + b + "))"
}

// Differs compares with the column, which applies its affinity, as storing would; where
// there is none, the storage class counts too.
func (sqlite) Differs(c *change.Column, a, b string) string {
	class := ""
	if c.Class == change.Other {
		class = " OR typeof(" + a + ") <> typeof(" + b + ")"
	}
	return "(" + a + " IS NOT " + b + " COLLATE BINARY" + class + ")"
}

func (sqlite) Fits(*change.Column, string) string { return "" }

func (sqlite) Number(_ *change.Column, value string) string { return value }

func (sqlite) Text(_ *change.Column, value string) string {
	return "CASE typeof(" + value + ") WHEN 'blob' THEN '0x' || lower(hex(" + value + ")) ELSE CAST(" + value + " AS TEXT) END"
}

// KeyOut is the stored value, kept by the unary plus from being read as a date.
func (sqlite) KeyOut(_ *change.Column, value string) string { return "+" + value }

func (sqlite) Characters(text string) string { return "length(" + text + ")" }

func (sqlite) Size(value string) string { return "octet_length(" + value + ")" }

func (sqlite) MayBeLarge(c *change.Column) bool { return roomy(c) }

func (sqlite) JSONText(text string) string { return "json_quote(" + text + ")" }

func (sqlite) Concat(texts ...string) string { return "(" + strings.Join(texts, " || ") + ")" }

// dated are the functions that take 'now', and where: the number of arguments before it.
var dated = map[string]int{"date": 0, "time": 0, "datetime": 0, "julianday": 0, "unixepoch": 0, "strftime": 1, "timediff": 0}

func (sqlite) Teller(ts []sqltext.Token, i int, at time.Time) (string, int) {
	t := ts[i]
	utc := at.UTC().Format(clock + ".000")
	switch {
	case t.Is("CURRENT_TIMESTAMP"):
		return "'" + utc[:19] + "'", 1
	case t.Is("CURRENT_DATE"):
		return "'" + utc[:10] + "'", 1
	case t.Is("CURRENT_TIME"):
		return "'" + utc[11:19] + "'", 1
	case t.Kind == sqltext.String && strings.EqualFold(t.Text, "'now'") && datedBy(ts, i):
		return "'" + utc + "'", 1
	case t.Kind == sqltext.Ident && i+2 < len(ts) && ts[i+1].Punct("("):
		before, takes := dated[strings.ToLower(t.Text)]
		switch {
		case !takes:
		case before == 0 && ts[i+2].Punct(")"): // date() is date('now')
			return t.Text + "('" + utc + "')", 3
		case before == 1 && i+3 < len(ts) && ts[i+3].Punct(")"): // strftime('%s') likewise
			return t.Text + "(" + ts[i+2].Text + ", '" + utc + "')", 4
		}
	}
	return "", 0
}

// datedBy reports whether the token at i is an argument, by itself, of a function that takes times.
func datedBy(ts []sqltext.Token, i int) bool {
	if i+1 >= len(ts) || !ts[i+1].Punct(")") && !ts[i+1].Punct(",") || i == 0 || !ts[i-1].Punct("(") && !ts[i-1].Punct(",") {
		return false
	}
	depth := 0
	for j := i - 1; j > 0; j-- {
		switch {
		case ts[j].Punct(")"):
			depth++
		case ts[j].Punct("(") && depth > 0:
			depth--
		case ts[j].Punct("("):
			_, takes := dated[strings.ToLower(ts[j-1].Text)]
			return takes
		}
	}
	return false
}

func (sqlite) AsText(_ *change.Column, value string) string {
	return "CASE WHEN typeof(" + value + ") = 'text' THEN " + value + " END"
}

func (sqlite) AsHex(value string) string {
	return "CASE WHEN typeof(" + value + ") = 'blob' THEN hex(" + value + ") END"
}

func (sqlite) Contains(q *change.Query, _ *change.Column, value, text string, fold bool) {
	if fold {
		q.Add(value, " LIKE ").Arg("%"+likeText(text)+"%", "").Add(` ESCAPE '\'`)
		return
	}
	q.Add("instr(", value, ", ").Arg(text, "").Add(") > 0")
}

// MayHold asks no more than for bytes: texts are compared only up to a NUL.
func (sqlite) MayHold(q *change.Query, value, _ string) { q.Add("typeof(", value, ") = 'blob'") }

// Replaced leaves what is no text as it is: replace() would make text of it.
func (sqlite) Replaced(_ *change.Column, value, text, with string) string {
	return "CASE WHEN typeof(" + value + ") = 'text' THEN replace(" + value + ", " + text + ", " + with + ") ELSE " + value + " END"
}

// Referred: what stands on the left has the say, as with references.
func (sqlite) Referred(_, _ *change.Column) string { return "" }

// Spelled names the collation: a CAST alone has that of the column within it.
func (sqlite) Spelled(value string) string { return "CAST(" + value + " AS TEXT) COLLATE BINARY" }

// Grouped leaves a value what it is: a number is never the same as a text of its digits.
func (sqlite) Grouped(_ *change.Column, value string) string { return value + " COLLATE BINARY" }

// Words have an affinity, or no index would be made of them.
func (sqlite) Words(json string, columns []string) string {
	var list []string
	for i, c := range columns {
		list = append(list, "CAST(json_extract(jugatum_j.value, '$["+strconv.Itoa(i)+"]') AS TEXT) AS "+c)
	}
	return "(SELECT DISTINCT " + strings.Join(list, ", ") + " FROM json_each(" + json + ") AS jugatum_j)"
}

func (sqlite) ForUpdate(string) string { return "" }

func (sqlite) Sample(float64) string { return "" }

func (sqlite) Settings(bool) string { return "" }

func (sqlite) Settled(string) string { return "" }

func (sqlite) Types() change.Types {
	return change.Types{Int: "INTEGER", Real: "REAL", Text: "TEXT", Time: "TEXT", Word: "TEXT", Whole: "INTEGER", RowKey: "INTEGER", KeyRef: "INTEGER", Timestamp: "timestamp"}
}

func (sqlite) Temporary(name string) (table, create string) {
	return "temp." + name, "CREATE TABLE IF NOT EXISTS "
}

func (sqlite) Emptied(table string) string { return "DELETE FROM " + table }

// AddColumn leaves the default: there is no taking it away.
func (sqlite) AddColumn(table, column, typ, begins string) []string {
	return []string{"ALTER TABLE " + table + " ADD COLUMN " + column + " " + typ + " NOT NULL DEFAULT " + begins}
}

func (sqlite) RenameColumn(table, column, name, _ string) string {
	return "ALTER TABLE " + table + " RENAME COLUMN " + column + " TO " + name
}

func (d sqlite) DeclareKey(t *change.Table) string {
	return "declare one when " + t.String() + " is next made anew, or give a column another name than rowid, _rowid_ or oid"
}

func (d sqlite) DeclareNotNull(t *change.Table, c *change.Column) string {
	return "declare " + d.Quote(c.Name) + " NOT NULL when " + t.String() + " is next made anew: every row has a value"
}

func (d sqlite) DeclareReference(t *change.Table, c *change.Column, to *change.Table, column *change.Column) string {
	return "declare REFERENCES " + to.NameSQL(d) + " (" + d.Quote(column.Name) + ") of " + d.Quote(c.Name) + " when " + t.String() + " is next made anew: every value is there"
}

func (sqlite) Analyze(string) string { return "" }

// Keep has triggers for what cannot be declared of a table that is there.
func (d sqlite) Keep(r *change.Rule) ([]change.Statement, string) {
	const from = "SQLite's documentation, 3.40 and later: ALTER TABLE, CREATE TRIGGER, CREATE INDEX, File Locking"
	const instant = "the file, for writing, for an instant: no row is read"
	t := r.Table.NameSQL(d)
	fire := func(body func(event, name string) string) (out []change.Statement) {
		for _, text := range firing(d, r, body) {
			out = append(out, change.Statement{SQL: text, Locks: instant})
		}
		return out
	}
	refuse := func(holds string) []change.Statement {
		return fire(func(event, name string) string {
			return "CREATE TRIGGER " + name + " BEFORE " + event + " ON " + t + " WHEN NOT coalesce((" + holds + "), 1) BEGIN SELECT RAISE(ABORT, " + quoted(r.Table.String()+": against the rule that "+r.Why) + "); END"
		})
	}
	assign := func(when, value string) []change.Statement {
		column := d.Quote(r.Column.Name)
		row := "rowid = NEW.rowid"
		if k := r.Table.Key; k != nil && !k.Hidden {
			var all []string
			for _, c := range k.Columns {
				all = append(all, d.Quote(c.Name)+" = NEW."+d.Quote(c.Name))
			}
			row = strings.Join(all, " AND ")
		}
		differs := "NEW." + column + " IS NOT (" + value + ")"
		if when != "" {
			differs = "(" + when + ") AND " + differs
		}
		return fire(func(event, name string) string {
			return "CREATE TRIGGER " + name + " AFTER " + event + " ON " + t + " WHEN " + differs + " BEGIN UPDATE " + t + " SET " + column + " = " + value + " WHERE " + row + "; END"
		})
	}
	switch r.Kind {
	case change.KeepDefault:
		return assign("NEW."+d.Quote(r.Column.Name)+" IS NULL", r.Value), from
	case change.KeepNotNull:
		return refuse("NEW." + d.Quote(r.Column.Name) + " IS NOT NULL"), from
	case change.KeepCheck:
		return refuse(r.New("NEW.")), from
	case change.KeepReference:
		column := "NEW." + d.Quote(r.Column.Name)
		return refuse(column + " IS NULL OR EXISTS (SELECT 1 FROM " + r.To.NameSQL(d) + " WHERE " + d.Quote(r.At.Name) + " = " + column + ")"), from
	case change.KeepUnique:
		return []change.Statement{{SQL: "CREATE UNIQUE INDEX " + d.Quote(r.Name) + " ON " + t + " (" + strings.Join(r.Unique, ", ") + ")", Locks: "the file, for writing, while all rows of " + r.Table.String() + " are read; with a write-ahead log others read meanwhile"}}, from
	case change.KeepGenerated:
		column := d.Quote(r.Column.Name)
		return []change.Statement{
			{SQL: alter(d, r.Table) + "DROP COLUMN " + column, Locks: "the file, for writing, while " + r.Table.String() + " is written anew; with a write-ahead log others read meanwhile. Nobody should come in before the next statement: put both into one transaction"},
			{SQL: alter(d, r.Table) + "ADD COLUMN " + column + " " + r.Column.Type + " GENERATED ALWAYS AS (" + r.Value + ") VIRTUAL", Locks: instant}}, from
	case change.KeepAssign:
		return assign(r.When, r.New("NEW.")), from
	}
	return nil, from
}

func (sqlite) Literal(v change.Value) string { return literal(v, quoted, "1", "0") }

// sqliteBlanks are the blanks that trim() is told of.
const sqliteBlanks = "char(9, 10, 11, 12, 13, 32, 160)"

func (sqlite) Shaped(transform, value string) string {
	switch transform {
	case "trim":
		return value + " = trim(" + value + ", " + sqliteBlanks + ")"
	case "collapse":
		return "instr(" + value + ", '  ') = 0"
	case "upper", "lower":
		return value + " = " + transform + "(" + value + ")"
	}
	return ""
}

func (sqlite) Alike(same change.Form, value string) string {
	switch same {
	case change.Trimmed:
		return "trim(" + value + ", " + sqliteBlanks + ")"
	case change.Folded:
		return "lower(trim(" + value + ", " + sqliteBlanks + "))"
	}
	return value
}
