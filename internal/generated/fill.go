package generated

import "strings"

// filling writes a step that fills columns, and the statement that it stands for.
// where is the filter with its WHERE, or nothing.
func (b *builder) filling(where string) {
	update := func(source, on, set string) {
		b.SQL = "UPDATE t SET " + set + " FROM " + source + and(where, on)
		if b.maria() {
			b.SQL = "UPDATE t JOIN " + source + " ON " + on + " SET t." + strings.ReplaceAll(set, ", ", ", t.") + where
		}
	}
	keys := ""
	switch b.Fill {
	case 1: // found by the source's key
		keys = "from = 'o'\nmatch = { n = 'k' }\nfill = { m = 'v', txt = 'name' }"
		update("o", "o.k = t.n", "m = o.v, txt = o.name")
	case 2: // what rows are matched by is filled itself
		keys = "from = 'o'\nmatch = { n = 'k' }\nfill = { n = 'v' }"
		update("o", "o.k = t.n", "n = o.v")
	case 3: // one of several
		keys = "from = 'o'\nmatch = { n = 'v' }\nfill = { m = 'k', txt = 'name' }\npick = 'k DESC'"
		update("o", "o.v = t.n AND o.k = (SELECT max(p.k) FROM o AS p WHERE p.v = o.v)", "m = o.k, txt = o.name")
	case 4: // from the table itself
		query := "(SELECT n AS g, count(*) AS c FROM t GROUP BY n)"
		keys = "from = '" + query + "'\nmatch = { n = 'g' }\nfill = { m = 'c' }"
		update(query+" AS s", "s.g = t.n", "m = s.c")
	case 5: // the others become NULL
		keys = "from = 'o'\nmatch = { n = 'k' }\nfill = { m = 'v', txt = 'name' }\nunmatched = 'null'"
		b.SQL = "UPDATE t SET m = (SELECT o.v FROM o WHERE o.k = t.n), txt = (SELECT o.name FROM o WHERE o.k = t.n)" + where
	case 6: // by a condition
		keys = "from = 'o'\nmatch = 'o.k = t.n AND o.v < 6'\nfill = { n = 'v' }"
		update("o", "o.k = t.n AND o.v < 6", "n = o.v")
	case 7: // from a view, the others become NULL
		keys = "from = 'vo'\nmatch = { n = 'k + 1' }\nfill = { m = 'v' }\nunmatched = 'null'"
		b.SQL = "UPDATE t SET m = (SELECT vo.v FROM vo WHERE vo.k + 1 = t.n)" + where
	case 8: // by the form of texts, which are read beforehand
		query := "(SELECT k, CASE v WHEN 0 THEN 'banana ' WHEN 1 THEN '  a' WHEN 2 THEN 'listed' ELSE name END AS name FROM o)"
		keys = "from = \"\"\"" + query + "\"\"\"\nmatch = { txt = 'name' }\nmatch_as = 'trimmed'\nfill = { m = 'k' }\npick = 'k'"
		same := b.by("trim(s.name) = trim(t.txt) COLLATE BINARY", `trim(s.name) COLLATE "C" = trim(t.txt) COLLATE "C"`, "hex(trim(s.name)) = hex(trim(t.txt))")
		b.SQL = "UPDATE t SET m = (SELECT min(s.k) FROM " + query + " AS s WHERE " + same + ")" + and(where, "EXISTS (SELECT 1 FROM "+query+" AS s WHERE "+same+")")
	}
	if b.Fill > 8 { // in a form, found by the source's key or read once
		name := b.by("o.name", `(o.name COLLATE "C")`, "o.name")
		value := "replace(" + name + ", 'n', '')"
		keys = "from = 'o'\nmatch = { n = 'k' }\nfill = { txt = 'name' }\nshape = { txt = { drop = 'n' } }"
		on := "o.k = t.n"
		if b.Fill == 10 {
			keys = "from = 'o'\nmatch = { n = 'k + 1' }\nfill = { txt = 'CASE WHEN v > 2 THEN name END' }\nshape = { txt = { drop = 'n' } }"
			on, value = "o.k + 1 = t.n", "CASE WHEN o.v > 2 THEN "+value+" END"
		}
		differs := b.by(value+" IS NOT t.txt", value+` IS DISTINCT FROM (t.txt COLLATE "C")`, "NOT (CAST("+value+" AS binary) <=> CAST(t.txt AS binary))")
		update("o", on+" AND "+differs, "txt = value_of_o")
		b.SQL = strings.Replace(b.SQL, "value_of_o", value, 1)
	}
	b.Job = "[[step]]\ntable = 't'\n" + keys + "\n"
	b.Job += filterOf(where)
}
