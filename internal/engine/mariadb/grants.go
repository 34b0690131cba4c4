package mariadb

import (
	"cmp"
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/sqltext"
)

// grant is one line of SHOW GRANTS about tables.
type grant struct {
	privileges []string            // on all columns; ALL PRIVILEGES stands for every one
	columns    map[string][]string // privilege to the only columns that it is for
	schema     string              // a pattern as LIKE has it; "" for every database
	table      string              // "" for every table
}

// grants are what a user may do, with the roles that it has taken on and what
// everybody may do: SHOW GRANTS lists them all.
type grants []grant

// readGrants asks the server.
func readGrants(ctx context.Context, db *sql.DB) (grants, error) {
	rows, err := db.QueryContext(ctx, "SHOW GRANTS")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out grants
	for rows.Next() {
		var text string
		if err := rows.Scan(&text); err != nil {
			return nil, err
		}
		if g, ok := parseGrant(text); ok {
			out = append(out, g)
		}
	}
	return out, rows.Err()
}

// parseGrant reads GRANT privilege [(column, …)], … ON schema.table TO …; false
// for a grant of a role or on something that is no table.
func parseGrant(text string) (grant, bool) {
	words := grantWords(text)
	if len(words) == 0 || words[0] != "GRANT" {
		return grant{}, false
	}
	g := grant{columns: map[string][]string{}}
	privilege := ""
	end := func() {
		if privilege != "" {
			g.privileges = append(g.privileges, privilege)
		}
		privilege = ""
	}
	i := 1
	for ; i < len(words) && words[i] != "ON"; i++ {
		switch words[i] {
		case ",":
			end()
		case "(":
			for i++; i < len(words) && words[i] != ")"; i++ {
				if words[i] != "," {
					g.columns[privilege] = append(g.columns[privilege], unquote(words[i]))
				}
			}
			privilege = ""
		default:
			privilege = strings.TrimPrefix(privilege+" "+words[i], " ")
		}
	}
	end()
	if i+3 >= len(words) || words[i+2] != "." { // ON `schema`.`table`, ON *.*
		return grant{}, false
	}
	if words[i+1] != "*" {
		g.schema = unquote(words[i+1])
	}
	if words[i+3] != "*" {
		g.table = unquote(words[i+3])
	}
	return g, true
}

// grantWords takes a line apart into words, names as they are quoted, and signs.
func grantWords(text string) []string {
	var out []string
	for i := 0; i < len(text); {
		from := i
		switch {
		case text[i] == ' ':
			i++
			continue
		case text[i] == '`':
			for i++; i < len(text); i++ {
				if text[i] == '`' {
					if i++; i == len(text) || text[i] != '`' {
						break
					}
				}
			}
		case strings.IndexByte(",().*@", text[i]) >= 0:
			i++
		default:
			for i < len(text) && strings.IndexByte(" ,().*@`", text[i]) < 0 {
				i++
			}
		}
		out = append(out, text[from:i])
	}
	return out
}

func unquote(word string) string {
	if !strings.HasPrefix(word, "`") {
		return word
	}
	return strings.ReplaceAll(strings.TrimSuffix(word[1:], "`"), "``", "`")
}

// may reports whether a privilege on a table, or with table "" on all tables of
// the database, is granted for all columns or for those named.
func (gs grants) may(privilege, schema, table string, columns ...string) bool {
	missing := slices.Clone(columns)
	for _, g := range gs {
		if g.schema != "" && !like(g.schema, schema, g.table == "") || g.table != "" && g.table != table {
			continue
		}
		if slices.Contains(g.privileges, privilege) || slices.Contains(g.privileges, "ALL PRIVILEGES") {
			return true
		}
		missing = slices.DeleteFunc(missing, func(c string) bool {
			return slices.ContainsFunc(g.columns[privilege], func(x string) bool { return strings.EqualFold(x, c) })
		})
	}
	return len(columns) > 0 && len(missing) == 0
}

// any reports whether some privilege is granted on all tables of a database.
func (gs grants) any(schema string) bool {
	return slices.ContainsFunc(gs, func(g grant) bool {
		return g.table == "" && (g.schema == "" || like(g.schema, schema, true)) && !slices.Equal(g.privileges, []string{"USAGE"})
	})
}

// like compares a database's name with that of a grant, which on all tables of a
// database is a pattern: _ one letter, % any, \ takes their meaning away.
func like(pattern, name string, wild bool) bool {
	if !wild {
		return pattern == name
	}
	p, s := []rune(pattern), []rune(name)
	var match func(i, j int) bool
	match = func(i, j int) bool {
		switch {
		case i == len(p):
			return j == len(s)
		case p[i] == '%':
			return match(i+1, j) || j < len(s) && match(i, j+1)
		case p[i] == '\\' && i+1 < len(p):
			return j < len(s) && p[i+1] == s[j] && match(i+2, j+1)
		}
		return j < len(s) && (p[i] == '_' || p[i] == s[j]) && match(i+1, j+1)
	}
	return match(0, 0)
}

// ledgerNeeds are the privileges that keeping the ledger takes, and those with
// which kept values are packed.
var (
	ledgerNeeds = []string{"SELECT", "INSERT", "UPDATE", "DELETE", "CREATE", "DROP", "CREATE TEMPORARY TABLES"}
	packNeeds   = []string{"CREATE VIEW", "SHOW VIEW"}
)

// mayAll reports whether all of these are granted on all tables of the ledger's database.
func (db *DB) mayAll(privileges []string) bool {
	return !slices.ContainsFunc(privileges, func(p string) bool { return !db.granted.may(p, db.ledger, "") })
}

// Missing compares what the change and the ledger take with what is granted.
func (db *DB) Missing(_ context.Context, c *change.Change, keep bool) (engine.Missing, error) {
	var m engine.Missing
	t, schema := c.Table, cmp.Or(c.Table.Schema, db.schema)
	grantOn := func(privilege string) string {
		return "GRANT " + privilege + " ON " + d.Quote(schema) + "." + d.Quote(t.Name) + " TO " + quoteAccount(db.user)
	}
	if !db.granted.may("SELECT", schema, t.Name, names(t.Columns)...) {
		m.Read = append(m.Read, grantOn("SELECT"))
	}
	if c.Verb == sqltext.Delete {
		if !db.granted.may("DELETE", schema, t.Name) {
			m.Run = append(m.Run, grantOn("DELETE"))
		}
		if !db.granted.may("INSERT", schema, t.Name, names(t.Columns)...) {
			m.Undo = append(m.Undo, grantOn("INSERT"))
		}
	} else {
		var lack []string
		for _, s := range c.Set {
			if !db.granted.may("UPDATE", schema, t.Name, s.Column.Name) {
				lack = append(lack, d.Quote(s.Column.Name))
			}
		}
		if len(lack) > 0 {
			m.Run = append(m.Run, grantOn("UPDATE ("+strings.Join(lack, ", ")+")"))
		}
	}
	if !db.granted.may("TRIGGER", schema, t.Name) { // without it triggers are hidden, and what they do to keys
		m.Run = append(m.Run, grantOn("TRIGGER"))
	}
	if c.Verb == sqltext.Delete && !db.granted.any(schema) { // tables are hidden of which we may do nothing
		m.See = append(m.See, "GRANT SELECT ON "+quotePattern(schema)+".* TO "+quoteAccount(db.user))
	}
	if x := c.Into; x != nil {
		place := cmp.Or(x.Table.Schema, db.schema)
		for _, p := range []struct {
			name string
			list *[]string
			some bool // it is needed
		}{{"CREATE", &m.Run, x.Make}, {"SELECT", &m.Read, true}, {"INSERT", &m.Run, true}, {"DELETE", &m.Undo, true}} {
			if p.some && !db.granted.may(p.name, place, x.Table.Name) {
				*p.list = append(*p.list, "GRANT "+p.name+" ON "+d.Quote(place)+"."+d.Quote(x.Table.Name)+" TO "+quoteAccount(db.user))
			}
		}
	}
	if c.Into != nil {
		for _, fk := range c.Into.Taken() { // whose rows an undo must see
			if !db.granted.may("SELECT", cmp.Or(fk.In(c.Into.Table), db.schema), fk.Table) {
				m.Undo = append(m.Undo, "GRANT SELECT ON "+d.Quote(cmp.Or(fk.In(c.Into.Table), db.schema))+"."+d.Quote(fk.Table)+" TO "+quoteAccount(db.user))
			}
		}
	}
	m.Ledger = db.missingForLedger()
	return m, nil
}

// missingForLedger tells what making and keeping the ledger still takes.
func (db *DB) missingForLedger() []string {
	if db.mayAll(ledgerNeeds) {
		return nil
	}
	var lack []string
	for _, p := range append(slices.Clone(ledgerNeeds), packNeeds...) {
		if !db.granted.may(p, db.ledger, "") {
			lack = append(lack, p)
		}
	}
	return []string{fmt.Sprintf("GRANT %s ON %s.* TO %s", strings.Join(lack, ", "), quotePattern(db.ledger), quoteAccount(db.user))}
}

// quotePattern writes a database's name as a GRANT on all its tables takes it.
func quotePattern(database string) string {
	return d.Quote(strings.NewReplacer("_", `\_`, "%", `\%`).Replace(database))
}

func names(columns []*change.Column) []string {
	out := make([]string, len(columns))
	for i, c := range columns {
		out[i] = c.Name
	}
	return out
}

// quoteAccount writes user@host, as CURRENT_USER() gives it, for a GRANT.
func quoteAccount(account string) string {
	at := strings.LastIndexByte(account, '@')
	if at < 0 {
		return d.Quote(account)
	}
	return d.Quote(account[:at]) + "@" + d.Quote(account[at+1:])
}
