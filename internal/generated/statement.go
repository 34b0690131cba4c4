package generated

import (
	"fmt"
	"strconv"
	"strings"
)

// statement writes the UPDATE or DELETE, and how it is to be carried out.
func (b *builder) statement() {
	where := ""
	if b.List == 0 { // whose lines are its filter
		where = b.where()
	}
	b.Filter = where != ""
	if where != "" {
		where = " WHERE " + where
	}
	join := b.From == 1 || b.Fill > 0
	switch {
	case b.Merge > 0:
		b.merging(where)
	case b.List > 0:
		b.listing()
	case b.Move > 0:
		b.moving(where)
	case b.Fill > 0:
		b.filling(where)
	case b.Shape > 0:
		b.shaping(where)
	case b.First > 0 && len(b.key) > 0 && !b.heir():
		b.firstOnes(where)
	case b.Replace > 0:
		b.replacing()
		b.Filter, b.Wrong = true, false // which has no filter of its own
	case b.Marks > 0:
		b.marking(where)
		b.Filter = true
	case b.Call > 0 && (b.ints || b.Key == 2) && !b.listed:
		b.calling()
		b.Filter, b.Wrong = true, false
	case b.Delete == 1 && join && b.pg():
		b.SQL = "DELETE FROM t USING o" + and(where, "o.k = t.n AND o.v < 6")
	case b.Delete == 1 && join && b.maria():
		b.SQL = "DELETE t FROM t JOIN o ON o.k = t.n AND o.v < 6" + where
	case b.Delete == 1:
		b.SQL = "DELETE FROM t" + where
	case join && b.maria():
		b.SQL = "UPDATE t JOIN o ON o.k = t.n SET t.n = o.v, t.txt = o.name" + where
	case join:
		b.SQL = "UPDATE t SET n = o.v, txt = o.name FROM o" + and(where, "o.k = t.n")
	default:
		b.SQL = "UPDATE t SET " + b.set() + where
	}
	b.Filter = b.Filter || join && b.Move == 0 || b.List > 0
	if b.Late == 1 && b.Merge == 0 && b.List == 0 && b.First == 0 && b.Call == 0 {
		b.Job = strings.Replace(b.asJob(), "[[step]]\n", "[[step]]\nlate = \"again\"\n", 1)
	}
	if b.Then > 0 && !b.Wrong {
		b.then()
	}
	b.Args = append(b.Args, "--batch", strconv.Itoa(b.Batch+1))
	if b.Workers > 1 && !b.sqlite() {
		b.Args = append(b.Args, "--workers", strconv.Itoa(b.Workers))
	}
	switch {
	case b.Method == 1:
		b.Args = append(b.Args, "--method", "sweep")
	case b.Method == 2:
		b.Args = append(b.Args, "--method", "single")
	case b.Method == 3 && b.pg():
		b.Args = append(b.Args, "--method", "roster")
	}
	if b.Keep == 1 {
		b.Args = append(b.Args, "--keep", "none")
	}
	if !b.Filter {
		b.Args = append(b.Args, "--every-row")
	}
}

// then adds a second step, over what the first has left of the target.
func (b *builder) then() {
	sql, job, filter := b.SQL, b.asJob(), b.Filter
	b.Job = ""
	kind := b.Then
	if kind == 9 && len(b.key) == 0 || kind == 10 && !b.listed {
		kind = 1
	}
	switch kind {
	case 1:
		b.SQL = "UPDATE t SET n = coalesce(n, 0) + 1" // the one without a filter
	case 2:
		b.SQL = "DELETE FROM t WHERE t.n % 4 = 1"
	case 3:
		b.SQL = "UPDATE t SET n = n + 1, txt = " + b.by("txt || '.'", "txt || '.'", "concat(txt, '.')") + " WHERE t.m = 0"
	case 4:
		b.Fill = 1
		b.filling("")
	case 5:
		b.Shape = 4
		b.shaping("")
	case 6:
		b.Shape = 8
		b.shaping(" WHERE t.n > 5")
	case 7:
		b.Merge = 2
		b.merging("")
	case 8:
		b.Fill = 4
		b.filling(" WHERE t.m = 0")
	case 9: // those that come first
		keys := strings.Join(b.key, ", ")
		b.SQL = fmt.Sprintf("UPDATE t SET n = coalesce(n, 0) + 50 WHERE (%[1]s) IN (SELECT * FROM (SELECT %[1]s FROM t ORDER BY n DESC, %[1]s LIMIT 5 OFFSET 2) AS q)", keys)
		b.Job = "[[step]]\ntable = 't'\nset = { n = 'coalesce(n, 0) + 50' }\norder = 'n DESC, " + keys + "'\nskip = 2\nfirst = 5\n"
	case 10:
		b.List = 4
		b.listing()
	case 11: // by texts that the first step may have changed
		b.Fill = 8
		b.filling("")
	}
	b.SQL, b.Job, b.Filter = sql+"; "+b.SQL, job+b.asJob(), filter && kind != 1
}

// asJob is the job that stands for the case.
func (b *builder) asJob() string {
	if b.Job != "" {
		return b.Job
	}
	return "[[step]]\nsql = \"\"\"" + b.SQL + "\"\"\"\n"
}

func and(where, more string) string {
	if where == "" {
		return " WHERE " + more
	}
	return where + " AND " + more
}

func (b *builder) set() string {
	first := "n"
	if len(b.key) > 0 {
		first = b.key[0]
	}
	count := func(column string) string {
		return "SELECT count(DISTINCT " + column + ") FROM t WHERE " + column + " IS NOT NULL"
	}
	switch b.Set {
	case 1:
		return "n = 7"
	case 2:
		return "txt = " + b.by("txt || '!'", "txt || '!'", "concat(txt, '!')") + ", amt = amt * 2"
	case 3:
		return "n = (SELECT max(o.v) FROM o WHERE o.k >= t.n)"
	case 4:
		return "n = (SELECT max(x.n) + 1 FROM t AS x)"
	case 5:
		return "n = (SELECT s FROM vw)"
	case 6:
		return "n = (SELECT s + 1 FROM vv)"
	case 7:
		if b.Unique > 0 {
			return "u = u + 1"
		}
		return "n = n * 3 + 1"
	case 8:
		if b.Key == 6 && b.pg() {
			return "a = a + 151, n = n + 1"
		}
		if b.ints {
			return "id = id - 1000, n = n + 1"
		}
		return "n = n + 1, m = m - 1"
	case 9:
		b.Once = append(b.Once, count("ts"))
		return "ts = " + b.by("strftime('%Y-%m-%d %H:%M:%f', 'now')", "now()", "now(6)")
	case 10:
		b.Once = append(b.Once, count("r"))
		return "r = (SELECT " + b.by("random()", "random()", "rand()") + ")"
	case 11:
		if b.sqlite() {
			return "n = 5"
		}
		return "n = DEFAULT, txt = NULL"
	case 12:
		return "txt = NULL, n = -n, amt = NULL"
	case 13:
		switch {
		case b.pg() && b.partitioned():
			return "n = (SELECT sum(n) FROM p1)"
		case b.pg() && b.heir():
			return "n = (SELECT sum(n) FROM heir)"
		case b.pg():
			return "n = (SELECT count(*) FROM (TABLE t) AS x WHERE x.n > 5)"
		}
		return "n = (SELECT count(*) FROM t AS x WHERE x.n > 5)"
	case 14:
		if b.sqlite() {
			return "n = (SELECT v FROM vo WHERE vo.k = t.n)"
		}
		return "n = peek() + 1"
	case 15:
		return "txt = " + b.by("CAST("+first+" AS TEXT)", first+"::text", "left(hex("+first+"), 150)") + ", m = n"
	case 16:
		return "n = CASE WHEN n > 10 THEN n - 10 ELSE coalesce(n, 3) END"
	case 17:
		return "n = n, txt = coalesce(txt, 'x')"
	case 18:
		b.Wrong = true
		return "n = sum(n)"
	case 19:
		b.Wrong = true
		return "n = row_number() OVER ()"
	}
	return "n = n + 1"
}

func (b *builder) where() string {
	switch b.Where {
	case 1:
		return "t.n > 5"
	case 2:
		return "t.n IN (SELECT o.v FROM o)"
	case 3:
		return "t.txt LIKE '%a%'"
	case 4:
		if b.ints {
			return "t.id > 3"
		}
		return "t.n < 20"
	case 5:
		return "EXISTS (SELECT 1 FROM vw WHERE s > t.n)"
	case 6:
		return "(t.n IS NULL OR t.n % 3 = 0)"
	case 7:
		return fmt.Sprintf("t.n = %d", b.r.IntN(24))
	case 8:
		return "t.n NOT IN (SELECT v FROM vo WHERE v IS NOT NULL)"
	case 9:
		b.Wrong = true
		return "max(t.n) > 5"
	}
	return ""
}
