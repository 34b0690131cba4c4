package generated

import (
	"fmt"
	"strings"
)

// merging writes a step that makes one row of several, and the statements that it stands for. where is
// the filter with its WHERE, or nothing.
func (b *builder) merging(where string) {
	by, nulls, order, fill := []string{"n"}, false, "", false
	switch b.Merge {
	case 2:
		by, nulls = []string{"m", "n"}, true
	case 3:
		by, order = []string{"txt"}, "n DESC"
	case 4:
		fill = true
	case 5:
		by, nulls, order, fill = []string{"m"}, true, "amt, n DESC", true
	case 6:
		by, order = []string{"txt", "n"}, "r DESC"
	case 7:
		by, nulls, fill = []string{"amt"}, true, true
	}
	fill = fill && b.Trigger == 0 // which would fire once for each batch that fills a row
	b.Job = "[[step]]\ntable = 't'\nmerge = ['" + strings.Join(by, "', '") + "']\ntwice = 'merge'\n"
	if nulls {
		b.Job += "nulls = 'equal'\n"
	}
	if order != "" {
		b.Job += "stays = '" + order + "'\n"
	}
	if fill {
		b.Job += "blanks = 'fill'\n"
	}
	b.Job += filterOf(where)
	if len(b.key) == 0 {
		b.SQL, b.Wrong = "SELECT 1", false
		if b.sqlite() { // which goes by the number of each row
			b.key = []string{"rowid"}
		}
	}
	var apart, first, same, there []string
	for _, c := range by {
		value := "t." + c
		if c == "txt" {
			value = b.by("t.txt COLLATE BINARY", `t.txt COLLATE "C"`, "hex(t.txt)")
		}
		apart = append(apart, value)
		if !nulls {
			there = append(there, "t."+c+" IS NOT NULL")
		}
	}
	for i, k := range b.key {
		first = append(first, fmt.Sprintf("first_value(t.%s) OVER w AS f%d, t.%s AS g%d", k, i, k, i))
		same = append(same, fmt.Sprintf("gone.g%d = t.%s", i, k))
	}
	keys := "t." + strings.Join(b.key, ", t.")
	if order != "" {
		order += ", "
	}
	if len(there) > 0 {
		where = and(where, strings.Join(there, " AND "))
	}
	if len(b.key) == 0 {
		return
	}
	all := []string{fmt.Sprintf("CREATE TABLE gone AS SELECT * FROM (SELECT %s, %s, row_number() OVER w AS rn FROM t%s WINDOW w AS (PARTITION BY %s ORDER BY %s%s)) AS q WHERE rn > 1",
		b.values("t."), strings.Join(first, ", "), where, strings.Join(apart, ", "), order, keys)}
	if parent, _ := b.referred(); parent != "" {
		refers := [][2]string{{"child", "t_id"}}
		if b.Child == 7 && b.ints {
			refers = append(refers, [2]string{"child", "o_id"})
		}
		if b.Child >= 6 && b.ints {
			refers = append(refers, [2]string{"grand", "t_id"})
		}
		rules := "" // which a copy on SQLite has not
		if b.sqlite() && !b.ints {
			_, rules = b.rules()
		}
		for _, r := range refers {
			all = append(all, fmt.Sprintf("UPDATE %s SET %s = (SELECT f0 FROM gone WHERE g0%s = %s.%s) WHERE EXISTS (SELECT 1 FROM gone WHERE g0%s = %s.%s)", r[0], r[1], rules, r[0], r[1], rules, r[0], r[1]))
		}
	}
	all = append(all, "DELETE FROM t WHERE EXISTS (SELECT 1 FROM gone WHERE "+strings.Join(same, " AND ")+")")
	if fill {
		stays := strings.NewReplacer("gone.g", "gone.f").Replace(strings.Join(same, " AND "))
		var set []string
		for _, c := range b.others() {
			if strings.Contains(" "+strings.Join(by, " ")+" ", " "+c+" ") {
				continue
			}
			missing := func(v string) string {
				if c == "txt" || c == "k" || c == "ts" && b.sqlite() {
					return "(" + v + " IS NULL OR length(" + v + ") = 0)"
				}
				return v + " IS NULL"
			}
			set = append(set, fmt.Sprintf("%s = CASE WHEN %s THEN coalesce((SELECT gone.%s FROM gone WHERE %s AND NOT %s ORDER BY rn LIMIT 1), t.%s) ELSE t.%s END", c, missing("t."+c), c, stays, missing("gone."+c), c, c))
		}
		all = append(all, "UPDATE t SET "+strings.Join(set, ", ")+" WHERE EXISTS (SELECT 1 FROM gone WHERE "+stays+")")
	}
	b.SQL = strings.Join(append(all, "DROP TABLE gone"), "; ")
}

// others lists the columns that a row which stays may be filled in.
func (b *builder) others() []string {
	list := []string{"n", "txt", "amt", "ts", "r", "m"}
	if b.Key == 11 && b.sqlite() { // which is no key
		list = append(list, "k")
	}
	if b.Unique > 0 {
		list = append(list, "u")
	}
	return list
}

// values lists them after a prefix.
func (b *builder) values(prefix string) string {
	return prefix + strings.Join(b.others(), ", "+prefix)
}
