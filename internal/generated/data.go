package generated

import (
	"fmt"
	"strings"
)

// texts are values of a text column, uglier towards the end.
var texts = []string{"'a'", "'banana'", "''", "NULL", "'x''y\"z'", "' a '", "'%a_'", "'ÄÖÜ ß'", "'日本語 a'", "'NaN'", "'now'", "'null'"}

// keyOf writes the key of row i as SQL.
func (b *builder) keyOf(i int) string {
	switch {
	case b.Key == 1:
		second := "a"
		if b.maria() { // to whose collation Ä and a are the same
			second = "b"
		}
		return fmt.Sprintf("%d, '%s'", i%7, []string{"Ä", second, "C", "ß", "", "z"}[i/7%6])
	case b.Key == 2:
		return "'" + strings.Repeat("x", i/3) + []string{"", "''", "Ä"}[i%3] + "'"
	case b.Key == 11:
		return "'" + strings.Repeat("y", i/3) + []string{"", "x", b.by("X", "X", "z")}[i%3] + "'"
	case b.Key == 3:
		return b.bytes(strings.Repeat("00", i/2) + []string{"", "ff"}[i%2])
	case b.Key == 4 || b.Key == 5:
		return fmt.Sprint(i * i * i)
	case b.Key == 6 && b.pg():
		return fmt.Sprint(i - 5)
	case b.Key == 7:
		return fmt.Sprintf("'20%02d-0%d-1%d'", i/7, 1+i%3, i%9)
	case b.Key == 8:
		switch i {
		case 0:
			return b.by("-9223372036854775808", "-9223372036854775808", "-9223372036854775808")
		case 1:
			return "9223372036854775807"
		}
		return fmt.Sprint((i - 7) * 1_000_003)
	case b.Key == 10:
		return b.other().of(i)
	case b.Key == 9 && b.sqlite():
		return []string{fmt.Sprint(i), fmt.Sprintf("%d.5", i), fmt.Sprintf("'%s'", strings.Repeat("y", i/4)), b.bytes(strings.Repeat("01", i/4))}[i%4]
	case b.Key == 9:
		return fmt.Sprintf("%d.%d", i*1000-7, i%10)
	}
	return fmt.Sprint(i)
}

// keyColumns are those that keyOf gives, in its order.
func (b *builder) keyColumns() string {
	switch {
	case b.Key == 1:
		return "k1, k2"
	case b.Key == 6 && b.pg():
		return "a"
	case b.ints:
		return "id"
	}
	return "k"
}

func (b *builder) bytes(hex string) string {
	if b.pg() {
		return `'\x` + hex + `'`
	}
	return "x'" + hex + "'"
}

// fill puts rows into the tables.
func (b *builder) fill() {
	b.rows("t", 0, b.Rows)
	if b.heir() {
		b.rows("heir", b.Rows/2, b.Rows/3+1)
	}
	var rows []string
	for i := range 12 {
		rows = append(rows, fmt.Sprintf("(%d, %d, 'nö %d')", i*2, i%8, i))
	}
	b.do("INSERT INTO o VALUES %s", strings.Join(rows, ", "))
}

func (b *builder) rows(table string, from, n int) {
	var rows []string
	for i := from; i < from+n; i++ {
		num := fmt.Sprint(b.r.IntN(24))
		text, amt := texts[b.r.IntN(2)], fmt.Sprintf("%d.%02d", b.r.IntN(60), b.r.IntN(100))
		if b.Values > 0 {
			text = texts[b.r.IntN(len(texts))]
			if b.r.IntN(6) == 0 {
				num, amt = "NULL", "NULL"
			}
		}
		if b.Values > 1 && b.r.IntN(5) == 0 {
			num = []string{"-2147483648", "90000", "0", "-1"}[b.r.IntN(4)]
		}
		if b.Values > 2 && b.r.IntN(10) == 0 {
			text = "'" + strings.Repeat("long a ", 25) + "'"
		}
		row := b.keyOf(i) + ", " + num + ", " + text + ", " + amt
		if b.Unique > 0 {
			row += fmt.Sprint(", ", map[bool]int{true: 10 + i, false: 90 - i}[b.Unique == 1])
		}
		rows = append(rows, "("+row+")")
	}
	if len(rows) == 0 {
		return
	}
	cols := b.keyColumns() + ", n, txt, amt"
	if b.Unique > 0 {
		cols += ", u"
	}
	b.do("INSERT INTO %s (%s) VALUES %s", table, cols, strings.Join(rows, ", "))
}
