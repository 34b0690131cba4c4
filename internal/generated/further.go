package generated

import (
	"fmt"
	"strings"
)

// firstOnes writes a step over the rows that come first, and the statement that it stands for.
func (b *builder) firstOnes(where string) {
	keys := strings.Join(b.key, ", ")
	order, skip, first := "n DESC, ", 2, 7
	what, statement := "set = { n = 'coalesce(n, 0) + 50' }\n", "UPDATE t SET n = coalesce(n, 0) + 50"
	switch b.First {
	case 2:
		what, statement, skip = "delete = true\n", "DELETE FROM t", 0
	case 3:
		what, statement, order = "put = { txt = 'among them' }\n", "UPDATE t SET txt = 'among them'", ""
	case 4: // of which all would come to be others
		what, statement, order, first = "set = { n = '-n', r = 'r + 1' }\n", "UPDATE t SET n = -n, r = r + 1", "n, ", 11
	}
	b.Job = "[[step]]\ntable = 't'\n" + what + fmt.Sprintf("first = %d\n", first)
	if order != "" {
		b.Job += "order = '" + strings.TrimSuffix(order, ", ") + "'\n"
	}
	if skip > 0 {
		b.Job += fmt.Sprintf("skip = %d\n", skip)
	}
	b.Job += filterOf(where)
	b.SQL = fmt.Sprintf("%[1]s WHERE (%[2]s) IN (SELECT * FROM (SELECT %[2]s FROM t%[3]s ORDER BY %[4]s%[2]s LIMIT %[5]d OFFSET %[6]d) AS q)", statement, keys, where, order, first, skip)
}

// filterOf is the filter of a job's step; where begins with WHERE, or is empty.
func filterOf(where string) string {
	if where == "" {
		return ""
	}
	return `where = """` + strings.TrimPrefix(where, " WHERE ") + `"""` + "\n"
}

// replacing writes a step that replaces text, and the statements that it stands for.
func (b *builder) replacing() {
	in := "t.txt"
	replaced := func(column string) string {
		return "replace(" + column + ", 'a', 'bb')"
	}
	b.Job = "replace = { find = 'a', with = 'bb' }\n"
	kind := b.Replace
	if kind == 3 && b.sqlite() { // which has no patterns
		kind = 2
	}
	switch kind {
	case 1: // by the database's own function
		b.Job = "replace = { find = 'a', with = 'bb', forms = ['plain'], structured = false }\n"
	case 2: // two that take each other's place
		b.Job = "replace = { pairs = [['a', 'n'], ['n', 'a']] }\n"
		replaced = func(column string) string {
			nothing := b.by("char(1)", "chr(1)", "char(1 USING utf8mb4)")
			return "replace(replace(replace(" + column + ", 'a', " + nothing + "), 'n', 'a'), " + nothing + ", 'n')"
		}
	case 3:
		b.Job = "replace = { pattern = 'a([nx])?', with = '<$1>' }\n"
		replaced = func(column string) string {
			return b.by("", "regexp_replace("+column+", 'a([nx])?', '<\\1>', 'g')", "regexp_replace("+column+", '(?-i)a([nx])?', '<\\\\1>')")
		}
	case 4: // of two tables
		in = "t.txt', 'o.name"
	case 5: // deletes it
		b.Job = "replace = { find = 'a', with = '' }\n"
		replaced = func(column string) string { return "replace(" + column + ", 'a', '')" }
	}
	b.Job = "[[step]]\nin = ['" + in + "']\n" + b.Job
	one := func(table, column string) string {
		value := replaced(b.by(column, "("+column+` COLLATE "C")`, column))
		other := b.by(value+" IS NOT "+column, "("+value+") IS DISTINCT FROM ("+column+` COLLATE "C")`, "NOT (CAST("+value+" AS binary) <=> CAST("+column+" AS binary))")
		return "UPDATE " + table + " SET " + column + " = " + value + " WHERE " + other
	}
	if b.SQL = one("t", "txt"); kind == 4 {
		b.SQL += "; " + one("o", "name")
	}
}

// marking writes a step that may be carried out again, since it marks the rows that it has done.
func (b *builder) marking(where string) {
	b.Job = "[[step]]\nname = 'marked'\ntable = 't'\nset = { n = 'coalesce(n, 0) + 1' }\nonce = 'txt'\n" + filterOf(where)
	b.SQL = "UPDATE t SET n = coalesce(n, 0) + 1, txt = 'marked'" + and(where, "t.txt IS NULL")
}

// calling writes a step that carries out a statement for each line of a list, of which several may be
// for one row, and the statement that it stands for.
func (b *builder) calling() {
	key, typ := b.key[0], "integer"
	if b.Key == 2 {
		typ = "text"
	}
	lines := "SELECT " + key + ", coalesce(n, 3) + 100 AS v FROM t WHERE n IS NULL OR n % 3 <> 1"
	if b.Trigger == 0 { // which would fire for each of them
		lines += " UNION ALL SELECT " + key + ", 7 FROM t WHERE n % 2 = 0"
	}
	b.do("%s", "CREATE TABLE l AS "+lines)
	b.Listed = []string{key, key, "v", "v"}
	b.Lines = "l ORDER BY v, " + key
	b.Job = fmt.Sprintf("[[step]]\neach = 'list.csv'\ncall = 'UPDATE t SET n = coalesce(n, 0) + :v WHERE %s = :%[1]s'\ntypes = { %[1]s = '%s', v = 'integer' }\n", key, typ)
	b.SQL = fmt.Sprintf("UPDATE t SET n = coalesce(n, 0) + (SELECT sum(l.v) FROM l WHERE l.%[1]s = t.%[1]s) WHERE EXISTS (SELECT 1 FROM l WHERE l.%[1]s = t.%[1]s)", key)
	b.Keep = 1
	b.Args = append(b.Args, "--despite", "no-undo")
}
