package change

import (
	"strings"
	"time"

	"jugatum/internal/sqltext"
)

// One statement has one time: now() is the same for all of its rows. A run takes
// minutes, and is resumed hours later, so the time at which it began stands in
// the place of the functions that tell the time.

// Clock is the parameter that holds a run's time. No job can declare one of that name.
const Clock = "time of the run"

// ClockValue is the value of Clock for a run that begins at t, to the microsecond.
func ClockValue(t time.Time) Value {
	return Value{Type: TimestampValue, Text: t.UTC().Format(clockLayout)}
}

const clockLayout = "2006-01-02 15:04:05.000000+00:00"

// clock writes the run's time in the place of what tells the time; f is left as
// it is where no time is given.
func (b *builder) clock(f sqltext.Fragment) sqltext.Fragment {
	v, ok := b.c.Params[Clock]
	if !ok {
		return f
	}
	at, err := time.Parse(clockLayout, v.Text)
	if err != nil {
		return f
	}
	var out []sqltext.Token
	ts := f.Tokens
	for i := 0; i < len(ts); {
		text, n := teller(b.c.D, ts, i, at)
		if n == 0 {
			out = append(out, ts[i])
			i++
			continue
		}
		tokens, err := sqltext.Lex(b.c.D, text)
		if err != nil {
			return f
		}
		tokens[0].Space = ts[i].Space
		for j := range tokens {
			tokens[j].Pos = ts[i].Pos
		}
		out = append(out, tokens...)
		i += n
	}
	return sqltext.Fragment{Tokens: out}
}

// TellsTime reports whether something in an SQL text tells the time.
func TellsTime(d sqltext.Dialect, text string) bool {
	tokens, err := sqltext.Lex(d, text)
	if err != nil {
		return false
	}
	for i := range tokens {
		if _, n := teller(d, tokens, i, time.Time{}); n > 0 {
			return true
		}
	}
	return false
}

// teller recognises at i what tells the time, and gives what stands for it and
// how many tokens it takes the place of; 0 if it is something else.
func teller(d sqltext.Dialect, ts []sqltext.Token, i int, at time.Time) (string, int) {
	t := ts[i]
	if i > 0 && ts[i-1].Punct(".") || i+1 < len(ts) && ts[i+1].Punct(".") {
		return "", 0 // a column, or a function of some schema
	}
	if d == sqltext.SQLite {
		return tellerSQLite(ts, i, at)
	}
	if t.Kind != sqltext.Ident {
		return "", 0
	}
	call, digits, n := brackets(ts, i+1)
	word := strings.ToLower(t.Text)
	if d == sqltext.PostgreSQL {
		return tellerPostgreSQL(word, call, digits, n, at)
	}
	return tellerMariaDB(word, call, digits, n, at)
}

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

func tellerPostgreSQL(word string, call bool, digits string, n int, at time.Time) (string, int) {
	typ := ""
	switch word {
	case "now", "transaction_timestamp", "statement_timestamp":
		if !call || digits != "" {
			return "", 0
		}
		typ = "timestamptz"
	case "current_timestamp":
		typ = "timestamptz"
	case "localtimestamp":
		typ = "timestamp"
	case "current_date":
		typ = "date"
	case "current_time":
		typ = "timetz"
	case "localtime":
		typ = "time"
	}
	if typ == "" || n < 0 || call && digits == "" && typ != "timestamptz" {
		return "", 0
	}
	if digits != "" {
		typ += "(" + digits + ")"
	}
	text := "CAST('" + at.UTC().Format(clockLayout) + "' AS timestamptz)"
	if typ != "timestamptz" {
		text = "CAST(" + text + " AS " + typ + ")"
	}
	return text, 1 + n
}

func tellerMariaDB(word string, call bool, digits string, n int, at time.Time) (string, int) {
	bare := false // the word may stand without brackets
	switch word {
	case "current_timestamp", "localtime", "localtimestamp", "current_date", "current_time", "utc_date", "utc_time", "utc_timestamp":
		bare = true
	case "now", "curdate", "curtime", "unix_timestamp":
	default:
		return "", 0
	}
	if n < 0 || !call && !bare {
		return "", 0
	}
	fraction := ""
	if digits != "" {
		if len(digits) > 1 || digits > "6" {
			return "", 0 // the server itself will tell
		}
		if digits != "0" {
			fraction = "." + microseconds(at)[:int(digits[0]-'0')]
		}
	}
	seconds := itoa(int(at.Unix())) + fraction
	utc := at.UTC().Format("2006-01-02 15:04:05") + fraction
	switch word {
	case "curdate", "current_date":
		return "DATE(FROM_UNIXTIME(" + seconds + "))", 1 + n
	case "curtime", "current_time":
		return "TIME(FROM_UNIXTIME(" + seconds + "))", 1 + n
	case "utc_timestamp":
		return "TIMESTAMP'" + utc + "'", 1 + n
	case "utc_date":
		return "DATE'" + utc[:10] + "'", 1 + n
	case "utc_time":
		return "TIME'" + utc[11:] + "'", 1 + n
	case "unix_timestamp":
		if digits != "" { // of that time
			return "", 0
		}
		return seconds, 1 + n
	}
	return "FROM_UNIXTIME(" + seconds + ")", 1 + n
}

// microseconds are the six digits after the second.
func microseconds(at time.Time) string { return at.UTC().Format(".000000")[1:] }

// datedSQLite are the functions of SQLite that take 'now', and where: the number
// of arguments before it.
var datedSQLite = map[string]int{"date": 0, "time": 0, "datetime": 0, "julianday": 0, "unixepoch": 0, "strftime": 1, "timediff": 0}

func tellerSQLite(ts []sqltext.Token, i int, at time.Time) (string, int) {
	t := ts[i]
	utc := at.UTC().Format("2006-01-02 15:04:05.000")
	switch {
	case t.Is("CURRENT_TIMESTAMP"):
		return "'" + utc[:19] + "'", 1
	case t.Is("CURRENT_DATE"):
		return "'" + utc[:10] + "'", 1
	case t.Is("CURRENT_TIME"):
		return "'" + utc[11:19] + "'", 1
	case t.Kind == sqltext.String && strings.EqualFold(t.Text, "'now'") && datedBy(ts, i):
		return "'" + utc + "'", 1
	case t.Kind == sqltext.Ident && i+2 < len(ts) && ts[i+1].Punct("("):
		before, dated := datedSQLite[strings.ToLower(t.Text)]
		switch {
		case !dated:
		case before == 0 && ts[i+2].Punct(")"): // date() is date('now')
			return t.Text + "('" + utc + "')", 3
		case before == 1 && i+3 < len(ts) && ts[i+3].Punct(")"): // strftime('%s') likewise
			return t.Text + "(" + ts[i+2].Text + ", '" + utc + "')", 4
		}
	}
	return "", 0
}

// datedBy reports whether the token at i is an argument, by itself, of a function that takes times.
func datedBy(ts []sqltext.Token, i int) bool {
	if i+1 >= len(ts) || !ts[i+1].Punct(")") && !ts[i+1].Punct(",") || i == 0 || !ts[i-1].Punct("(") && !ts[i-1].Punct(",") {
		return false
	}
	depth := 0
	for j := i - 1; j > 0; j-- {
		switch {
		case ts[j].Punct(")"):
			depth++
		case ts[j].Punct("(") && depth > 0:
			depth--
		case ts[j].Punct("("):
			_, dated := datedSQLite[strings.ToLower(ts[j-1].Text)]
			return dated
		}
	}
	return false
}
