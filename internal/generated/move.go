package generated

import (
	"fmt"
	"strings"
)

// archive makes the table that rows are moved to, with a few rows of keys that the
// target has as well where the step says what becomes of those.
func (b *builder) archive() {
	if b.Move == 0 {
		return
	}
	b.do("CREATE TABLE arch (%s)", b.columns)
	if only := b.by("", "ONLY ", ""); b.Move != 1 && b.Move != 4 {
		if b.partitioned() {
			only = ""
		}
		b.do("INSERT INTO arch (%s) SELECT %s FROM %st WHERE m %% 3 = 0 OR n %% 4 = 1", b.stored(""), b.stored(""), only) // m is 0 in most rows
		b.do("UPDATE arch SET m = -1")
	}
}

// stored lists the columns that are not computed, each after a prefix.
func (b *builder) stored(prefix string) string {
	list := append([]string{}, b.key...)
	if b.Key == 5 || b.Key == 11 {
		list = []string{"k"}
	}
	if b.Key == 6 && b.pg() {
		list = []string{"a"}
	}
	list = append(list, "n", "txt", "amt", "ts", "r", "m")
	if b.Unique > 0 {
		list = append(list, "u")
	}
	return prefix + strings.Join(list, ", "+prefix)
}

// moving writes a step that moves rows, and the statements that it stands for. where is
// the filter with its WHERE, or nothing.
func (b *builder) moving(where string) {
	var same []string
	for _, k := range b.key {
		same = append(same, fmt.Sprintf("arch.%s = t.%s", k, k))
	}
	match := strings.Join(same, " AND ")
	if match == "" {
		match = "1 = 0"
	}
	b.SQL = fmt.Sprintf("INSERT INTO arch (%s) SELECT %s FROM t%s; DELETE FROM t%s", b.stored(""), b.stored("t."), where, where)
	b.Job = "[[step]]\ntable = 't'\nmove_to = 'arch'\n"
	if b.Move > 3 {
		b.SQL, _, _ = strings.Cut(b.SQL, ";")
		b.Job = "[[step]]\ntable = 't'\ncopy_to = 'arch'\n"
	}
	switch b.Move {
	case 5:
		b.Job += "present = 'keep'\n"
		b.SQL = fmt.Sprintf("INSERT INTO arch (%s) SELECT %s FROM t%s", b.stored(""), b.stored("t."), and(where, "NOT EXISTS (SELECT 1 FROM arch WHERE "+match+")"))
	case 2:
		b.Job += "present = 'keep'\n"
		b.SQL = "DELETE FROM t" + and(where, "EXISTS (SELECT 1 FROM arch WHERE "+match+")") + "; " + b.SQL
	case 3, 6:
		b.Job += "present = 'replace'\n"
		b.SQL = "DELETE FROM arch WHERE EXISTS (SELECT 1 FROM t" + and(where, match) + "); " + b.SQL
	}
	b.Job += filterOf(where)
}
