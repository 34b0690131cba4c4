package generated

import (
	"fmt"
	"strings"
)

// lines makes the table l of lines: some of them for rows that are there, some for none, each
// with what is to become of it.
func (b *builder) lines() {
	if b.sqlite() && (b.Key == 9 || b.Key == 10 && b.other().typ == "NUMERIC") { // values of several kinds in one column, which a list does not tell apart
		b.List = 0
	}
	if b.List == 0 {
		return
	}
	b.do("CREATE TABLE l (%s)", b.columns)
	b.do("ALTER TABLE l ADD COLUMN act varchar(9)")
	kc, only := b.keyColumns(), b.by("", "ONLY ", "")
	if b.partitioned() {
		only = ""
	}
	b.do("INSERT INTO l (%s, n, txt) SELECT %s, coalesce(n, 3), txt FROM %st WHERE n IS NULL OR n %% 3 <> 1", kc, kc, only)
	b.do("UPDATE l SET n = n %% 9 + 100, txt = 'listed' WHERE n %% 5 <> 2") // the others change nothing but a NULL
	for i := b.Rows; i < b.Rows+6 && (b.Key != 1 || i < 42); i++ {          // of which there are no more
		b.do("INSERT INTO l (%s, n, txt) VALUES (%s, %d, %s)", kc, b.keyOf(i), i, texts[b.r.IntN(len(texts))])
	}
	b.do("UPDATE l SET act = CASE n %% 4 WHEN 0 THEN 'insert' WHEN 1 THEN 'delete' WHEN 2 THEN 'upsert' ELSE 'update' END")
	if b.List == 6 { // the second line of a key does something else
		b.do("CREATE TABLE l2 (%s)", b.columns)
		b.do("ALTER TABLE l2 ADD COLUMN act varchar(9)")
		b.do("INSERT INTO l2 (%[1]s, n, txt, act) SELECT %[1]s, n + 1, 'again', CASE act WHEN 'insert' THEN 'update' WHEN 'delete' THEN 'insert' WHEN 'upsert' THEN 'delete' ELSE 'upsert' END FROM l WHERE n %% 7 <> 3", kc)
	}
}

// listing writes a step that carries out lines, the query for these, and the statements
// that it stands for.
func (b *builder) listing() {
	cols := strings.Split(b.keyColumns(), ", ")
	remove, update, insert := b.byLines("l")
	all := append(cols, "n", "txt")
	action := "action = '" + []string{"", "update", "delete", "insert", "upsert", "", ""}[b.List] + "'\n"
	switch b.List {
	case 1:
		b.SQL = update
	case 2:
		b.SQL = remove
	case 3:
		b.SQL = insert
	case 4:
		b.SQL = update + "; " + insert
	case 5:
		b.SQL, action = remove+"; "+update+"; "+insert, "action = { column = 'act' }\n"
	case 6:
		remove2, update2, insert2 := b.byLines("l2")
		b.SQL, action = strings.Join([]string{remove, update, insert, remove2, update2, insert2}, "; "), "action = { column = 'act' }\norder = 'file'\n"
		b.Lines = "(SELECT l.*, 1 AS turn FROM l UNION ALL SELECT l2.*, 2 FROM l2) AS l ORDER BY turn"
	}
	b.Job = "[[step]]\ntable = 't'\nchanges = 'list.csv'\nnull = 'NULL!'\n" + action
	// The lines as the file has them: a name for each column, and its values as text.
	for _, c := range all {
		b.Listed = append(b.Listed, c, "coalesce("+b.asText(c)+", 'NULL!')")
	}
	if b.List >= 5 {
		b.Listed = append(b.Listed, "act", "act")
	}
}

// byLines are the statements for what lines of a table delete, change and insert.
func (b *builder) byLines(l string) (remove, update, insert string) {
	var same, inT []string
	cols := strings.Split(b.keyColumns(), ", ")
	for _, k := range cols {
		same, inT = append(same, l+"."+k+" = t."+k), append(inT, "t."+k+" = "+l+"."+k)
	}
	on, the := strings.Join(same, " AND "), strings.Join(inT, " AND ")
	all := strings.Join(append(cols, "n", "txt"), ", ")
	act := func(words string) string {
		if b.List < 5 {
			return ""
		}
		return " AND " + l + ".act IN (" + words + ")"
	}
	remove = "DELETE FROM t WHERE EXISTS (SELECT 1 FROM " + l + " WHERE " + on + act("'delete'") + ")"
	update = "UPDATE t SET n = " + l + ".n, txt = " + l + ".txt FROM " + l + " WHERE " + the + act("'update', 'upsert'")
	if b.maria() {
		update = "UPDATE t JOIN " + l + " ON " + the + act("'update', 'upsert'") + " SET t.n = " + l + ".n, t.txt = " + l + ".txt"
	}
	insert = "INSERT INTO t (" + all + ") SELECT " + l + "." + strings.ReplaceAll(all, ", ", ", "+l+".") + " FROM " + l + " WHERE NOT EXISTS (SELECT 1 FROM t WHERE " + the + ")" + act("'insert', 'upsert'")
	return remove, update, insert
}

// asText is a column as the text that a list has for it.
func (b *builder) asText(column string) string {
	switch {
	case b.pg():
		return "CAST(" + column + " AS text)"
	case b.maria() && column == "k" && (b.Key == 3 || b.Key == 10 && strings.HasPrefix(b.other().typ, "binary")):
		return `concat('\\x', hex(` + column + `))`
	case b.maria():
		return "CAST(" + column + " AS char)"
	}
	return fmt.Sprintf(`CASE typeof(%[1]s) WHEN 'blob' THEN '\x' || hex(%[1]s) WHEN 'real' THEN printf('%%!.17g', %[1]s) ELSE CAST(%[1]s AS TEXT) END`, column)
}
