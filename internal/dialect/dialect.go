// Package dialect holds what differs between the SQLs of servers, one file each.
package dialect

import (
	"strconv"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/sqltext"
)

// clock is the time of a run as text.
const clock = "2006-01-02 15:04:05"

// brackets reads () or (3) at i: whether it stands there, the number, and how many tokens it is.
func brackets(ts []sqltext.Token, i int) (call bool, digits string, n int) {
	switch {
	case i+1 < len(ts) && ts[i].Punct("(") && ts[i+1].Punct(")"):
		return true, "", 2
	case i+2 < len(ts) && ts[i].Punct("(") && ts[i+1].Kind == sqltext.Number && ts[i+2].Punct(")"):
		return true, ts[i+1].Text, 3
	case i < len(ts) && ts[i].Punct("("):
		return false, "", -1 // a function of that name with other arguments
	}
	return false, "", 0
}

// likeText takes the meaning from LIKE's signs.
func likeText(s string) string {
	return strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(s)
}

// cast is a bound value that is told its type, "" for none.
func cast(v any, typ string) change.Bound {
	if typ == "" {
		return change.Bound{Arg: v}
	}
	return change.Bound{Arg: v, Before: "CAST(", After: " AS " + typ + ")"}
}

// plain is a value of a job as drivers take it, where the server itself finds out its type.
func plain(v change.Value) any {
	switch {
	case v.Null:
		return nil
	case v.Type == change.IntegerValue:
		if n, err := strconv.ParseInt(v.Text, 10, 64); err == nil {
			return n
		}
	case v.Type == change.BooleanValue && v.Text == "true":
		return int64(1)
	case v.Type == change.BooleanValue:
		return int64(0)
	}
	return v.Text
}

// addForeignKey and alter are what most servers take.
func addForeignKey(d change.Dialect, t *change.Table, c *change.Column, to *change.Table, column *change.Column) string {
	return alter(d, t) + "ADD FOREIGN KEY (" + d.Quote(c.Name) + ") REFERENCES " + to.NameSQL(d) + " (" + d.Quote(column.Name) + ")"
}

func alter(d change.Dialect, t *change.Table) string {
	return "ALTER TABLE " + t.NameSQL(d) + " "
}
