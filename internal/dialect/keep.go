package dialect

import (
	"strings"

	"jugatum/internal/change"
)

// What servers have in common of the rules that they can keep for rows to come.

// quoted is a text as SQL writes it.
func quoted(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }

// literal is a value of a job, with a text that is written by text and a boolean by its words.
func literal(v change.Value, text func(string) string, yes, no string) string {
	switch {
	case v.Null:
		return "NULL"
	case v.Type == change.IntegerValue || v.Type == change.DecimalValue:
		return v.Text
	case v.Type == change.BooleanValue && v.Text == "true":
		return yes
	case v.Type == change.BooleanValue:
		return no
	}
	return text(v.Text)
}

// firing are the two triggers that a rule takes where one trigger is of one event.
func firing(d change.Dialect, r *change.Rule, body func(event, name string) string) (out []string) {
	for _, event := range []string{"INSERT", "UPDATE"} {
		out = append(out, body(event, d.Quote(r.Name+"_"+strings.ToLower(event))))
	}
	return out
}
