package dialect

import (
	"fmt"
	"math/big"
	"slices"
	"strconv"
	"strings"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/sqltext"
)

// MariaDB is the SQL of MariaDB, as its strict sql_mode has it. Statements that make or
// change tables commit there.
var MariaDB change.Dialect = mariadb{&sqltext.Syntax{
	Title:     "MariaDB",
	NameQuote: '`', TableCase: true, Backticks: true,
	Backslash: true, DoubleQuoted: true, Prefixes: "XBN",
	Hash: true, DashBlank: true, ExecutedComments: true, OwnParams: "?", Variables: true,
	TablesFirst: true, NoWith: true,
}}

type mariadb struct{ *sqltext.Syntax }

func (mariadb) Forms() *change.Forms { return mariadbForms }

var mariadbForms = &change.Forms{
	TextAsBits: true, Collations: true, Mixed: change.AsNumbers,
	HashesNotIn: true, IndexesDerived: true, Unmerged: " LIMIT 18446744073709551615", ReadByExplain: true, By: change.ByJoin,
	LeftToRight: true, RowByRow: true, UntoldTriggers: true, SparingTrigger: true,
}

// Bind casts decimals, which a bound text would be a float of, and times. There are no texts
// of times with a zone, so those go by their seconds.
func (mariadb) Bind(v change.Value) change.Bound {
	switch arg := plain(v); {
	case v.Null:
	case v.Type == change.DecimalValue:
		return cast(arg, decimalType(v.Text))
	case v.Type == change.DateValue:
		return cast(arg, "DATE")
	case v.Type == change.TimestampValue:
		for _, layout := range []string{time.RFC3339, clock + "Z07:00"} {
			if t, err := time.Parse(layout, v.Text); err == nil {
				return change.Bound{Arg: fmt.Sprintf("%d.%06d", t.Unix(), t.Nanosecond()/1000), Before: "FROM_UNIXTIME(", After: ")"}
			}
		}
		return cast(arg, "DATETIME(6)")
	}
	return change.Bound{Arg: plain(v)}
}

// decimalType is the type that holds a decimal number exactly.
func decimalType(s string) string {
	if strings.ContainsAny(s, "eE") {
		return "DECIMAL(65,20)"
	}
	whole, part, _ := strings.Cut(strings.TrimLeft(s, "+-"), ".")
	return "DECIMAL(" + strconv.Itoa(min(len(whole)+len(part), 65)) + "," + strconv.Itoa(min(len(part), 38)) + ")"
}

func (d mariadb) BindTo(v change.Value, _ *change.Column) change.Bound { return d.Bind(v) }

// BindKey reads a key's value from its text form: bytes from hexadecimal, numbers as such.
func (d mariadb) BindKey(v any, c *change.Column) change.Bound {
	s, isText := v.(string)
	at, exact := instant(c, v)
	switch {
	case exact && at != "0":
		return change.Bound{Arg: at, Before: "FROM_UNIXTIME(", After: ")"}
	case exact:
		return change.Bound{Arg: zeroTime}
	case c.Binary && isText:
		return change.Bound{Arg: s, Before: "UNHEX(", After: ")"}
	case c.Class == change.Number && isText:
		if n, err := strconv.ParseInt(s, 10, 64); err == nil {
			return change.Bound{Arg: n}
		}
		if n, err := strconv.ParseUint(s, 10, 64); err == nil {
			return change.Bound{Arg: n}
		}
		return d.BindAs(s, c.Base)
	}
	return change.Bound{Arg: v}
}

// A time of the type timestamp is a number of seconds, which the server writes and reads in the session's time
// zone; where clocks are put back, an hour's texts stand for two. As part of a key it travels in UTC.
const (
	inUTC    = "2006-01-02 15:04:05.999999+00:00"
	zeroTime = "0000-00-00 00:00:00" // stored as no seconds, and no point in time
	day      = 86400                 // in seconds
	lastTime = 1<<31 - 1             // what some servers take for the last second
)

// instant is a timestamp of a key in seconds since 1970, "0" for the zero time. exact is false for one that
// is in the session's time zone, as a run of an earlier version wrote it down.
func instant(c *change.Column, v any) (seconds string, exact bool) {
	s, _ := v.(string)
	if !c.Instant {
		return "", false
	}
	if strings.HasPrefix(s, "0000-00-00") {
		return "0", true
	}
	t, err := time.Parse(inUTC, s)
	if err != nil {
		return "", false
	}
	return fmt.Sprintf("%d.%06d", t.Unix(), t.Nanosecond()/1000), true
}

// KeyIs compares the seconds of a timestamp. An index goes by texts; around a change of clocks it goes further,
// by as much as they were changed, since the server compares some texts as such.
func (d mariadb) KeyIs(q *change.Query, c *change.Column, value, op string, v any) *change.Query {
	at, exact := instant(c, v)
	if !exact || at == "0" {
		return change.KeyIs(q, c, value, op, v)
	}
	// Within how many seconds from there texts are ambiguous: what two days are short of, or more.
	apart := fmt.Sprintf("ABS(%d - TIMESTAMPDIFF(SECOND, FROM_UNIXTIME(GREATEST(%s - %d, 0)), FROM_UNIXTIME(LEAST(%s + %[3]d, GREATEST(%[2]s, %d)))))", 2*day, at, day, at, lastTime)
	if op != "<" && op != "<=" {
		q.Add(value, " >= FROM_UNIXTIME(GREATEST(", at, " - ", apart, ", 1)) AND ")
	}
	if op != ">" && op != ">=" {
		q.Add(value, " <= FROM_UNIXTIME(LEAST(", at, " + ", apart, ", GREATEST(", at, ", ", strconv.Itoa(lastTime), "))) AND ")
	}
	return q.Add("UNIX_TIMESTAMP(", value, ") ", op, " ", at)
}

// BindAs need not be told of whole numbers.
func (mariadb) BindAs(v any, typ string) change.Bound {
	if typ == "bigint" {
		typ = ""
	}
	return cast(v, typ)
}

func (mariadb) Assign(*change.Column) (before, after string) { return "(", ")" }

func (mariadb) Unchanged(c *change.Column, a, b string) string {
	if c.Same == change.ByEquality {
		return a + " <=> " + b
	}
	return "BINARY " + a + " <=> BINARY " + b
}

// Differs compares texts byte by byte in the column's character set, since its collation
// would take 'a' and 'A' for the same.
func (mariadb) Differs(c *change.Column, a, b string) string {
	switch {
	case c.Instant: // CAST makes it a date and time of the session's zone, and is left for what has to be rounded
		seconds := "UNIX_TIMESTAMP(" + a + ")"
		return "NOT (CASE WHEN CAST(" + a + " AS " + c.Base + ") = '" + zeroTime + "' THEN 0 WHEN " + seconds + " = TRUNCATE(" + seconds + ", " + fraction(c) + ") THEN " + seconds +
			" ELSE UNIX_TIMESTAMP(CAST(" + a + " AS " + c.Base + ")) END <=> UNIX_TIMESTAMP(" + b + "))"
	case c.Same == change.ByText:
		return "NOT (BINARY CONVERT(" + a + " USING " + c.Base + ") <=> BINARY " + b + ")"
	case c.Same == change.ByImage:
		return "NOT (BINARY " + a + " <=> BINARY " + b + ")"
	case c.Base == "":
		return "NOT (" + a + " <=> " + b + ")"
	}
	return "NOT (CAST(" + a + " AS " + c.Base + ") <=> " + b + ")"
}

// fraction is how many digits of a second a column of times has.
func fraction(c *change.Column) string {
	_, digits, _ := strings.Cut(strings.TrimSuffix(c.Base, ")"), "(")
	return digits
}

func (mariadb) Fits(c *change.Column, n string) string {
	name, rest, _ := strings.Cut(c.Type, "(")
	unsigned := strings.Contains(c.Type, "unsigned")
	bits := map[string]int{"tinyint": 8, "smallint": 16, "mediumint": 24, "int": 32, "bigint": 64}[name]
	precision := 0
	if name == "decimal" {
		p, _, _ := strings.Cut(strings.TrimSuffix(strings.Fields(rest)[0], ")"), ",")
		s := 0
		fmt.Sscanf(c.Base, "DECIMAL(65,%d)", &s)
		if v, err := strconv.Atoi(p); err == nil {
			precision = v - s
		}
	}
	value := "CAST(" + n + " AS " + c.Base + ")"
	switch {
	case bits > 0:
		lo, hi := new(big.Int), new(big.Int).Lsh(big.NewInt(1), uint(bits))
		if !unsigned {
			hi.Rsh(hi, 1)
			lo.Neg(hi)
		}
		return fmt.Sprintf("(%s IS NULL OR %s BETWEEN %s AND %s)", n, value, lo, hi.Sub(hi, big.NewInt(1)))
	case name == "decimal":
		low := ""
		if unsigned {
			low = " AND " + value + " >= 0"
		}
		return fmt.Sprintf("(%s IS NULL OR abs(%s) < 1%s%s)", n, value, strings.Repeat("0", precision), low)
	case c.Length > 0 && c.Class == change.Text:
		// Spaces beyond the width are cut off with a note, not an error.
		return fmt.Sprintf("(%s IS NULL OR char_length(rtrim(%s)) <= %d)", n, n, c.Length)
	}
	return ""
}

func (mariadb) Number(c *change.Column, value string) string {
	return "CAST(" + value + " AS " + c.Base + ")"
}

func (mariadb) Text(c *change.Column, value string) string {
	if c != nil && c.Binary {
		return "CONCAT('0x', LOWER(HEX(" + value + ")))"
	}
	return "CAST(" + value + " AS CHAR)"
}

func (mariadb) KeyOut(c *change.Column, value string) string {
	switch {
	case c.Binary:
		return "HEX(" + value + ")"
	case c.Instant:
		return "IF(UNIX_TIMESTAMP(" + value + ") = 0, '" + zeroTime + "', CONCAT('1970-01-01 00:00:00' + INTERVAL UNIX_TIMESTAMP(" + value + ") SECOND, '+00:00'))"
	}
	return "CAST(" + value + " AS CHAR)"
}

func (mariadb) Characters(text string) string { return "char_length(" + text + ")" }

func (mariadb) Size(value string) string { return "octet_length(" + value + ")" }

func (mariadb) MayBeLarge(c *change.Column) bool {
	typ := strings.ToLower(c.Type)
	return roomy(c) && (strings.Contains(typ, "text") || strings.Contains(typ, "blob") || strings.HasPrefix(typ, "json"))
}

func (mariadb) JSONText(text string) string { return "JSON_QUOTE(" + text + ")" }

func (mariadb) Concat(texts ...string) string { return "CONCAT(" + strings.Join(texts, ", ") + ")" }

func (mariadb) Teller(ts []sqltext.Token, i int, at time.Time) (string, int) {
	if ts[i].Kind != sqltext.Ident {
		return "", 0
	}
	call, digits, n := brackets(ts, i+1)
	word := strings.ToLower(ts[i].Text)
	bare := false // the word may stand without brackets
	switch word {
	case "current_timestamp", "localtime", "localtimestamp", "current_date", "current_time", "utc_date", "utc_time", "utc_timestamp":
		bare = true
	case "now", "curdate", "curtime", "unix_timestamp":
	default:
		return "", 0
	}
	if n < 0 || !call && !bare {
		return "", 0
	}
	fraction := ""
	if digits != "" {
		if len(digits) > 1 || digits > "6" {
			return "", 0 // the server itself will tell
		}
		if digits != "0" {
			fraction = at.UTC().Format(".000000")[:1+int(digits[0]-'0')]
		}
	}
	seconds := strconv.FormatInt(at.Unix(), 10) + fraction
	utc := at.UTC().Format(clock) + fraction
	switch word {
	case "curdate", "current_date":
		return "DATE(FROM_UNIXTIME(" + seconds + "))", 1 + n
	case "curtime", "current_time":
		return "TIME(FROM_UNIXTIME(" + seconds + "))", 1 + n
	case "utc_timestamp":
		return "TIMESTAMP'" + utc + "'", 1 + n
	case "utc_date":
		return "DATE'" + utc[:10] + "'", 1 + n
	case "utc_time":
		return "TIME'" + utc[11:] + "'", 1 + n
	case "unix_timestamp":
		if digits != "" { // of that time
			return "", 0
		}
		return seconds, 1 + n
	}
	return "FROM_UNIXTIME(" + seconds + ")", 1 + n
}

func (mariadb) AsText(_ *change.Column, value string) string { return value }

func (mariadb) AsHex(value string) string { return "HEX(" + value + ")" }

func (mariadb) Contains(q *change.Query, c *change.Column, value, text string, fold bool) {
	if fold {
		q.Add("CONVERT(", value, " USING utf8mb4) COLLATE utf8mb4_general_ci LIKE ").Arg("%"+likeText(text)+"%", "").Add(` ESCAPE '\\'`)
		return
	}
	if !strings.HasPrefix(c.Base, "utf8") {
		value = "CONVERT(" + value + " USING utf8mb4)"
	}
	q.Add("INSTR(BINARY ", value, ", ").Arg(text, "").Add(") > 0")
}

func (mariadb) MayHold(q *change.Query, value, text string) {
	q.Add("CONVERT(", value, " USING latin1) COLLATE latin1_general_ci LIKE ").Arg("%"+text+"%", "")
}

// Replaced goes by the bytes: replace() goes by the collation where the text is found.
func (mariadb) Replaced(_ *change.Column, value, text, with string) string {
	return "CONVERT(replace(BINARY CONVERT(" + value + " USING utf8mb4), " + text + ", " + with + ") USING utf8mb4)"
}

// Referred: only references that are not declared can be of columns with other rules.
func (mariadb) Referred(parent, child *change.Column) string {
	charset := func(c *change.Column) string { return strings.SplitN(c.Collation, "_", 2)[0] }
	if parent.Collation == "" || parent.Collation == child.Collation || charset(parent) != charset(child) {
		return ""
	}
	return " COLLATE " + parent.Collation
}

func (mariadb) Spelled(value string) string {
	return "CONVERT(" + value + " USING utf8mb4) COLLATE utf8mb4_bin"
}

// Grouped is a digest of what may be long: sorting looks at the first kilobyte of a text alone
// (max_sort_length), and takes blanks at its end for nothing.
func (d mariadb) Grouped(c *change.Column, value string) string {
	switch {
	case c.Class == change.Text || d.MayBeLarge(c) && !c.Binary:
		return "SHA2(CONVERT(" + value + " USING utf8mb4), 256)"
	case c.Binary:
		return "SHA2(" + value + ", 256)"
	}
	return value
}

// Words are of a type of which a table that is made for the query has an index.
func (mariadb) Words(json string, columns []string) string {
	var list []string
	for i, c := range columns {
		list = append(list, fmt.Sprintf("%s varchar(%d) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin PATH '$[%d]'", c, change.MaxWord, i))
	}
	return "(SELECT DISTINCT " + strings.Join(columns, ", ") + " FROM JSON_TABLE(" + json + ", '$[*]' COLUMNS (" + strings.Join(list, ", ") + ")) AS jugatum_j)"
}

func (mariadb) ForUpdate(string) string { return " FOR UPDATE" }

func (mariadb) Sample(float64) string { return "" }

func (mariadb) Settings(dates bool) string {
	if dates {
		return "SET STATEMENT sql_mode = 'ALLOW_INVALID_DATES' FOR "
	}
	return ""
}

func (mariadb) Settled(string) string { return "" }

func (mariadb) Types() change.Types {
	const ascii = "varchar(40) CHARACTER SET ascii COLLATE ascii_bin"
	return change.Types{Int: "bigint", Real: "double", Text: "longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin", Time: ascii, Word: ascii, Whole: "SIGNED",
		RowKey: "integer", KeyRef: "integer", Timestamp: "datetime"} // a reference has the very type that it refers to
}

// Temporary tables are in a database like any other.
func (mariadb) Temporary(string) (table, create string) {
	return "", "CREATE TEMPORARY TABLE IF NOT EXISTS "
}

func (mariadb) Emptied(table string) string { return "DELETE FROM " + table }

// AddColumn and RenameColumn can be done again where an earlier try came as far as this.
func (mariadb) AddColumn(table, column, typ, begins string) []string {
	return []string{"ALTER TABLE " + table + " ADD COLUMN IF NOT EXISTS " + column + " " + typ + " NOT NULL DEFAULT " + begins, "ALTER TABLE " + table + " MODIFY COLUMN " + column + " " + typ + " NOT NULL"}
}

func (mariadb) RenameColumn(table, column, name, typ string) string {
	return "ALTER TABLE " + table + " CHANGE COLUMN IF EXISTS " + column + " " + name + " " + typ + " NOT NULL"
}

// DeclareKey is a column that nobody sees who does not name it.
func (d mariadb) DeclareKey(t *change.Table) string {
	return alter(d, t) + "ADD COLUMN row_no bigint unsigned INVISIBLE AUTO_INCREMENT PRIMARY KEY"
}

// DeclareNotNull has a statement only where MODIFY, which drops what it does not repeat,
// has nothing more to repeat.
func (d mariadb) DeclareNotNull(t *change.Table, c *change.Column) string {
	name := d.Quote(c.Name)
	if c.Class != change.Number || c.Default != "" || c.OnUpdate != "" {
		return "declare " + name + " of " + t.String() + " NOT NULL by MODIFY, repeating all else that it is declared with: every row has a value"
	}
	return alter(d, t) + "MODIFY " + name + " " + c.Type + " NOT NULL"
}

func (d mariadb) DeclareReference(t *change.Table, c *change.Column, to *change.Table, column *change.Column) string {
	return addForeignKey(d, t, c, to, column)
}

func (mariadb) Analyze(table string) string { return "ANALYZE TABLE " + table }

// Keep names the algorithm where one is asked for, so that a server that would do it otherwise refuses.
func (d mariadb) Keep(r *change.Rule) ([]change.Statement, string) {
	const from = "MariaDB's documentation, 10.11 and later: InnoDB Online DDL, CREATE TRIGGER, Metadata Locking"
	t, name := r.Table.NameSQL(d), d.Quote(r.Name)
	const instant = "the table's metadata, for an instant: it waits for transactions that have used the table, and others wait behind it (lock_wait_timeout)"
	copied := "the table is copied; others read " + r.Table.String() + " meanwhile and cannot write"
	switch r.Kind {
	case change.KeepDefault:
		return []change.Statement{{SQL: alter(d, r.Table) + "ALTER COLUMN " + d.Quote(r.Column.Name) + " SET DEFAULT " + r.Value + ", ALGORITHM=INSTANT", Locks: instant}}, from
	case change.KeepNotNull:
		if c := r.Column; c.Class == change.Number && c.Default == "" && c.OnUpdate == "" {
			return []change.Statement{{SQL: alter(d, r.Table) + "MODIFY " + d.Quote(c.Name) + " " + c.Type + " NOT NULL, ALGORITHM=INPLACE, LOCK=NONE", Locks: "while the table is made anew beside itself, others read and write; at its beginning and end " + instant}}, from
		}
		// MODIFY would drop what it does not repeat.
		return []change.Statement{{SQL: alter(d, r.Table) + "ADD CONSTRAINT " + name + " CHECK (" + d.Quote(r.Column.Name) + " IS NOT NULL), ALGORITHM=COPY, LOCK=SHARED", Locks: copied}}, from
	case change.KeepCheck:
		return []change.Statement{{SQL: alter(d, r.Table) + "ADD CONSTRAINT " + name + " CHECK (" + r.Holds + "), ALGORITHM=COPY, LOCK=SHARED", Locks: copied}}, from
	case change.KeepReference:
		return []change.Statement{{SQL: alter(d, r.Table) + "ADD CONSTRAINT " + name + " FOREIGN KEY (" + d.Quote(r.Column.Name) + ") REFERENCES " + r.To.NameSQL(d) + " (" + d.Quote(r.At.Name) + "), ALGORITHM=COPY, LOCK=SHARED", Locks: copied}}, from
	case change.KeepUnique:
		exact := func(c *change.Column) bool { return c.Class != change.Text || strings.HasSuffix(c.Collation, "_bin") }
		if r.Plain && !slices.ContainsFunc(r.By, func(c *change.Column) bool { return !exact(c) }) {
			return []change.Statement{{SQL: "CREATE UNIQUE INDEX " + name + " ON " + t + " (" + strings.Join(r.Unique, ", ") + ") ALGORITHM=INPLACE LOCK=NONE", Locks: "while all rows are read, others read and write; at its beginning and end " + instant}}, from
		}
		column := d.Quote(r.Name + "_form") // there are no indexes over expressions
		var null []string
		for _, c := range r.By {
			null = append(null, d.Quote(c.Name)+" IS NULL")
		}
		return []change.Statement{
			{SQL: alter(d, r.Table) + "ADD COLUMN " + column + " char(64) CHARACTER SET ascii COLLATE ascii_bin AS (CASE WHEN " + strings.Join(null, " OR ") + " THEN NULL ELSE SHA2(JSON_ARRAY(" + strings.Join(r.Unique, ", ") + "), 256) END) VIRTUAL INVISIBLE, ALGORITHM=INSTANT", Locks: instant},
			{SQL: "CREATE UNIQUE INDEX " + name + " ON " + t + " (" + column + ") ALGORITHM=INPLACE LOCK=NONE", Locks: "while all rows are read, others read and write; at its beginning and end " + instant}}, from
	case change.KeepGenerated:
		return []change.Statement{{SQL: alter(d, r.Table) + "MODIFY " + d.Quote(r.Column.Name) + " " + r.Column.Type + " AS (" + r.Value + ") STORED, ALGORITHM=COPY, LOCK=SHARED", Locks: copied}}, from
	case change.KeepAssign:
		column := d.Quote(r.Column.Name)
		value := r.New("NEW.")
		if r.When != "" {
			value = "IF(" + r.When + ", " + value + ", NEW." + column + ")"
		}
		var out []change.Statement
		for _, text := range firing(d, r, func(event, trigger string) string {
			return "CREATE TRIGGER " + trigger + " BEFORE " + event + " ON " + t + " FOR EACH ROW SET NEW." + column + " = " + value
		}) {
			out = append(out, change.Statement{SQL: text, Locks: instant})
		}
		return out, from
	}
	return nil, from
}

func (mariadb) Literal(v change.Value) string {
	return literal(v, func(s string) string { return quoted(strings.ReplaceAll(s, `\`, `\\`)) }, "TRUE", "FALSE")
}

func (mariadb) Shaped(transform, value string) string {
	switch transform {
	case "trim":
		return value + ` NOT REGEXP '^[[:space:]]|[[:space:]]$'`
	case "collapse":
		return value + ` NOT REGEXP '[[:space:]][[:space:]]'`
	case "upper", "lower":
		return "BINARY " + value + " = BINARY " + strings.ToUpper(transform) + "(" + value + ")"
	}
	return ""
}

func (mariadb) Alike(same change.Form, value string) string {
	switch same {
	case change.Trimmed:
		return "REGEXP_REPLACE(" + value + `, '^[[:space:]]+|[[:space:]]+$', '')`
	case change.Folded:
		return "LOWER(REGEXP_REPLACE(REGEXP_REPLACE(" + value + `, '^[[:space:]]+|[[:space:]]+$', ''), '[[:space:]]+', ' '))`
	}
	return value
}
