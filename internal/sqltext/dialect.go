// Package sqltext reads SQL text far enough for Jugatum's purposes: it splits
// one UPDATE or DELETE, or one expression, into tokens and clauses. It does not
// know the grammar of expressions; the database itself judges those.
package sqltext

import "strings"

// Dialect is the SQL spoken by one kind of server.
type Dialect int

const (
	SQLite Dialect = iota
	PostgreSQL
	MariaDB
)

func (d Dialect) String() string {
	return [...]string{"SQLite", "PostgreSQL", "MariaDB"}[d]
}

// Quote writes a name as a quoted identifier. It is the one place where names
// become SQL text.
func (d Dialect) Quote(name string) string {
	if d == MariaDB {
		return "`" + strings.ReplaceAll(name, "`", "``") + "`"
	}
	return `"` + strings.ReplaceAll(name, `"`, `""`) + `"`
}

// Own names a function of the server's own, so that no function of the same name
// in a schema of the search path is called instead (PostgreSQL).
func (d Dialect) Own(function string) string {
	if d == PostgreSQL {
		return "pg_catalog." + function
	}
	return function
}

// Fold gives the form in which two spellings of an unquoted identifier are the
// same name. PostgreSQL folds to lower case; the others compare without case.
func (d Dialect) Fold(name string) string { return strings.ToLower(name) }

// Name is the name of a table or schema that a token stands for.
func (d Dialect) Name(t Token) string {
	if t.Kind == Ident && d != MariaDB { // there, case may matter in a table's name
		return d.Fold(t.Text)
	}
	return t.Name()
}

// Same reports whether a token names the column or table called name.
func (d Dialect) Same(t Token, name string) bool {
	switch t.Kind {
	case Ident:
		if d == PostgreSQL {
			return strings.ToLower(t.Text) == name
		}
		return strings.EqualFold(t.Text, name)
	case QuotedIdent:
		if d == PostgreSQL {
			return t.Name() == name
		}
		return strings.EqualFold(t.Name(), name)
	}
	return false
}
