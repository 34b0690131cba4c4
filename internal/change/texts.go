package change

import (
	"strings"

	"jugatum/internal/sqltext"
)

// AsText appends a column's value as text, NULL where there is none: on SQLite a
// value that is not text.
func (q *Query) AsText(alias string, col *Column) *Query {
	v := alias + "." + q.D.Quote(col.Name)
	switch {
	case q.D == sqltext.SQLite:
		return q.Add("CASE WHEN typeof(", v, ") = 'text' THEN ", v, " END")
	case q.D == sqltext.PostgreSQL && !strings.HasSuffix(col.Base, ".text"):
		return q.Add("CAST(", v, " AS text)")
	}
	return q.Add(v)
}

// Contains appends the condition that a column's value contains a text; fold
// takes ASCII letters of either case for the same, and perhaps more.
func (q *Query) Contains(alias string, col *Column, text string, fold bool) *Query {
	v := alias + "." + q.D.Quote(col.Name)
	switch q.D {
	case sqltext.SQLite:
		if fold {
			return q.Add(v, " LIKE ").Arg("%"+likeText(text)+"%", "").Add(` ESCAPE '\'`)
		}
		return q.Add("instr(", v, ", ").Arg(text, "").Add(") > 0")
	case sqltext.MariaDB:
		if fold {
			return q.Add("CONVERT(", v, " USING utf8mb4) COLLATE utf8mb4_general_ci LIKE ").Arg("%"+likeText(text)+"%", "").Add(` ESCAPE '\\'`)
		}
		if !strings.HasPrefix(col.Base, "utf8") {
			v = "CONVERT(" + v + " USING utf8mb4)"
		}
		return q.Add("INSTR(BINARY ", v, ", ").Arg(text, "").Add(") > 0")
	}
	q.AsText(alias, col)
	if fold { // letters of ASCII alone, without a copy of each value in lower case
		q.Add(` COLLATE "C"`)
		return q.Add(" ILIKE ").Arg("%"+likeText(text)+"%", "text")
	}
	if col.Same == ByText { // a collation that has no LIKE
		q.Add(` COLLATE "C"`)
	}
	return q.Add(" LIKE ").Arg("%"+likeText(text)+"%", "text")
}

// AsHex appends a column's bytes in hexadecimal, NULL where there are none.
func (q *Query) AsHex(alias string, col *Column) *Query {
	v := alias + "." + q.D.Quote(col.Name)
	switch q.D {
	case sqltext.SQLite:
		return q.Add("CASE WHEN typeof(", v, ") = 'blob' THEN hex(", v, ") END")
	case sqltext.MariaDB:
		return q.Add("HEX(", v, ")")
	}
	return q.Add("encode(", v, ", 'hex')")
}

// MayHold appends a condition that is true if a column's bytes contain a text of
// ASCII letters and digits, in whichever case, and perhaps otherwise.
func (q *Query) MayHold(alias string, col *Column, text string) *Query {
	v := alias + "." + q.D.Quote(col.Name)
	switch q.D {
	case sqltext.SQLite: // which compares texts only up to a NUL
		return q.Add("typeof(", v, ") = 'blob'")
	case sqltext.MariaDB:
		return q.Add("CONVERT(", v, " USING latin1) COLLATE latin1_general_ci LIKE ").Arg("%"+text+"%", "")
	}
	return q.Add("encode(", v, `, 'escape') COLLATE "C" ILIKE `).Arg("%"+text+"%", "text")
}

// likeText takes the meaning from LIKE's signs.
func likeText(s string) string {
	return strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(s)
}
