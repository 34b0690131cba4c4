package change

import (
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
func TellsTime(d Dialect, text string) bool {
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

// teller is Dialect.Teller for what is no part of a longer name.
func teller(d Dialect, ts []sqltext.Token, i int, at time.Time) (string, int) {
	if i > 0 && ts[i-1].Punct(".") || i+1 < len(ts) && ts[i+1].Punct(".") {
		return "", 0 // a column, or a function of some schema
	}
	return d.Teller(ts, i, at)
}
