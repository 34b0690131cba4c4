package hazard

import (
	"maps"
	"slices"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/sqltext"
)

// Traps of filters: what is never true, what loses rows with NULL, and what servers compare
// otherwise than it reads.

// compared is a comparison of a column of the target with a literal.
type compared struct {
	from, to int // tokens of the filter that it takes up
	col      *change.Column
	op       string // "=", "<>", …, or IN
	literals []string
	numbers  bool // all literals are numbers; otherwise all are texts
}

// negated are the columns that stand under a negation, by which NULL makes a filter
// neither true nor false where a reader takes it for true; query says that one is of what
// a sub-query gives.
type negated struct {
	cols  []*change.Column
	query bool
}

// filter is a filter whose own columns are looked at: what stands in sub-queries is passed by.
type filter struct {
	l     look
	ts    []sqltext.Token
	outer []bool // by token: it stands in no sub-query
}

// filter gives the step's filter, nil where it has none or joins other tables, whose rows
// cannot be counted by it alone.
func (l look) filter() *filter {
	c := l.c
	if c.Where.Empty() || !c.From.Empty() || !c.With.Empty() || c.Lines != nil || c.Lookup != nil {
		return nil
	}
	f := &filter{l: l, ts: c.Where.Tokens}
	f.outer = make([]bool, len(f.ts))
	depth, inner := 0, 0 // inner: the depth at which the outermost sub-query began; 0 outside of any
	for i, t := range f.ts {
		if t.Punct("(") {
			depth++
			if inner == 0 && i+1 < len(f.ts) && slices.ContainsFunc([]string{"SELECT", "WITH", "VALUES", "TABLE"}, f.ts[i+1].Is) {
				inner = depth
			}
		}
		f.outer[i] = inner == 0
		if t.Punct(")") {
			if depth == inner {
				inner = 0
			}
			depth--
		}
	}
	return f
}

// at is the token at i, one that is nothing beyond the ends.
func (f *filter) at(i int) sqltext.Token {
	if i < 0 || i >= len(f.ts) {
		return sqltext.Token{Kind: sqltext.Punct}
	}
	return f.ts[i]
}

// column is the target's column that a token names, and the token at which its name begins; nil
// for anything else.
func (f *filter) column(i int) (*change.Column, int) {
	t := f.at(i)
	if i < 0 || i >= len(f.ts) || !f.outer[i] || f.at(i+1).Punct(".") || f.at(i+1).Punct("(") || t.Kind != sqltext.Ident && t.Kind != sqltext.QuotedIdent {
		return nil, 0
	}
	col := f.l.c.Table.Column(f.l.c.D, t)
	if col == nil || !f.at(i-1).Punct(".") {
		return col, i
	}
	if !strings.EqualFold(f.at(i-2).Name(), strings.Trim(f.l.c.Ref, "\"`")) || f.at(i-3).Punct(".") {
		return nil, 0
	}
	return col, i - 2
}

// operator is the comparison operator that begins at i, and what comes after it; "" if there is none.
func (f *filter) operator(i int) (op string, next int) {
	for next = i; next < len(f.ts) && f.ts[next].Kind == sqltext.Op && strings.Contains("=<>!", f.ts[next].Text) && (next == i || !f.ts[next].Space); next++ {
		op += f.ts[next].Text
	}
	return op, next
}

// literal is the number or text at i, and what comes after it; "" if there is none.
func (f *filter) literal(i int) (text string, number bool, next int) {
	sign := ""
	if f.at(i).Punct("-") {
		sign, i = "-", i+1
	}
	switch t := f.at(i); {
	case t.Kind == sqltext.Number:
		return sign + t.Text, true, i + 1
	case t.Kind == sqltext.String && sign == "" && strings.HasPrefix(t.Text, "'"):
		return t.Text, false, i + 1
	}
	return "", false, i
}

// alone reports whether what stands from and up to to is a whole condition: nothing else is
// computed with either side.
func (f *filter) alone(from, to int) bool {
	before, after := f.at(from-1), f.at(to)
	return (from == 0 || before.Punct("(") || before.Is("AND") || before.Is("OR") || before.Is("NOT") || before.Is("WHEN")) &&
		(to == len(f.ts) || after.Punct(")") || after.Is("AND") || after.Is("OR") || after.Is("THEN"))
}

// comparisons are those of a column with literals, whichever side it stands on.
func (f *filter) comparisons() (out []compared) {
	for i := range f.ts {
		col, from := f.column(i)
		if col == nil {
			continue
		}
		x := compared{from: from, col: col}
		op, next := f.operator(i + 1)
		switch {
		case op != "":
			var text string
			x.op = op
			if text, x.numbers, x.to = f.literal(next); text != "" {
				x.literals = []string{text}
			}
		case f.at(i+1).Is("IN") && f.at(i+2).Punct("("):
			x.op, x.to = "IN", i+3
			for {
				text, number, next := f.literal(x.to)
				if text == "" || len(x.literals) > 0 && number != x.numbers {
					x.literals = nil
					break
				}
				x.literals, x.numbers, x.to = append(x.literals, text), number, next+1
				if f.at(next).Punct(")") {
					break
				}
				if !f.at(next).Punct(",") {
					x.literals = nil
					break
				}
			}
		default: // 0 = code
			x = f.reversed(col, from, i)
		}
		if len(x.literals) > 0 && f.alone(x.from, x.to) {
			out = append(out, x)
		}
	}
	return out
}

// reversed is a comparison whose column stands on the right, from the token from up to last.
func (f *filter) reversed(col *change.Column, from, last int) (x compared) {
	begin := from
	for begin > 0 && f.ts[begin-1].Kind == sqltext.Op && strings.Contains("=<>!", f.ts[begin-1].Text) {
		begin--
	}
	op, next := f.operator(begin)
	if op == "" || next != from || begin == 0 {
		return x
	}
	at := begin - 1
	if f.at(at - 1).Punct("-") {
		at--
	}
	text, number, end := f.literal(at)
	if text == "" || end != begin {
		return x
	}
	return compared{at, last + 1, col, mirrored(op), []string{text}, number}
}

// mirrored is the operator with its sides exchanged.
func mirrored(op string) string {
	if strings.Contains(op, "<") && strings.Contains(op, ">") {
		return op
	}
	return strings.Map(func(r rune) rune {
		switch r {
		case '<':
			return '>'
		case '>':
			return '<'
		}
		return r
	}, op)
}

// sql is the comparison with its column as given, and its literals each as word gives them.
func (x compared) sql(column string, word func(string) string) string {
	var words []string
	for _, l := range x.literals {
		words = append(words, word(l))
	}
	if x.op == "IN" {
		return column + " IN (" + strings.Join(words, ", ") + ")"
	}
	return column + " " + x.op + " " + words[0]
}

// negations are the columns that may be NULL under <>, NOT IN and other negations.
func (f *filter) negations() (out negated) {
	add := func(i int) {
		if col, _ := f.column(i); col != nil && !col.NotNull && !slices.Contains(out.cols, col) {
			out.cols = append(out.cols, col)
		}
	}
	for i, t := range f.ts {
		if !f.outer[i] {
			continue
		}
		if op, next := f.operator(i); op == "<>" || op == "!=" {
			add(i - 1)
			for add(next); f.at(next + 1).Punct("."); next += 2 {
				add(next + 2)
			}
		}
		if !t.Is("NOT") || f.at(i-1).Is("IS") {
			continue
		}
		switch next := f.at(i + 1); {
		case next.Is("EXISTS"):
		case next.Is("IN"):
			add(i - 1)
			out.query = out.query || f.at(i+2).Punct("(") && i+2 < len(f.ts) && !f.outer[i+2]
		case slices.ContainsFunc([]string{"LIKE", "ILIKE", "BETWEEN", "GLOB", "REGEXP", "RLIKE", "SIMILAR", "MATCH"}, next.Is):
			add(i - 1)
		default: // NOT (a = 1 OR b = 2), NOT a = 1
			depth := 0
			for j := i + 1; j < len(f.ts) && depth >= 0; j++ {
				switch {
				case f.ts[j].Punct("("):
					depth++
				case f.ts[j].Punct(")"):
					depth--
				case depth == 0 && (f.ts[j].Is("AND") || f.ts[j].Is("OR")):
					depth = -1
				default:
					add(j)
				}
			}
		}
	}
	return out
}

// counted is the question for the rows that another filter finds.
func (f *filter) counted(where string, rest ...sqltext.Token) (*change.Query, bool) {
	text, err := sqltext.Lex(f.l.c.D, where)
	if err != nil {
		return nil, false
	}
	c := *f.l.c
	c.Where, c.First = sqltext.Fragment{Tokens: append(text, rest...)}, nil
	return (&change.Query{D: c.D}).Source(&c, change.Range{}), true
}

// instead is the filter with a condition in the place of a comparison.
func (f *filter) instead(x compared, condition string) (*change.Query, bool) {
	text, err := sqltext.Lex(f.l.c.D, condition)
	if err != nil {
		return nil, false
	}
	c := *f.l.c
	c.First = nil
	rest := slices.Clone(f.ts[x.to:])
	text[0].Space = true
	if len(rest) > 0 {
		rest[0].Space = true
	}
	c.Where = sqltext.Fragment{Tokens: slices.Concat(f.ts[:x.from], text, rest)}
	return (&change.Query{D: c.D}).Source(&c, change.Range{}), true
}

// bracketed are the filter's tokens in brackets.
func (f *filter) bracketed() []sqltext.Token {
	open, end := sqltext.Token{Kind: sqltext.Punct, Text: "("}, sqltext.Token{Kind: sqltext.Punct, Text: ")"}
	return slices.Concat([]sqltext.Token{open}, f.ts, []sqltext.Token{end})
}

// unknowns asks for the rows for which the filter is neither true nor false, because of a NULL
// under a negation.
func unknowns(l look) []Question {
	f := l.filter()
	if f == nil {
		return nil
	}
	n := f.negations()
	if len(n.cols) == 0 || n.query {
		return nil
	}
	var names, is []string
	for _, c := range n.cols {
		names = append(names, c.Name)
		is = append(is, l.c.Ref+"."+l.c.D.Quote(c.Name)+" IS NULL")
	}
	q, ok := f.counted("("+strings.Join(is, " OR ")+") AND", append(f.bracketed(), words(l.c.D, "IS NULL")...)...)
	if !ok {
		return nil
	}
	return []Question{{From: q, Apart: true, args: []any{strings.Join(names, ", ")}}}
}

// unknownLists asks for them where NOT IN is of what a query gives, NULL perhaps among it.
func unknownLists(l look) []Question {
	f := l.filter()
	if f == nil || !f.negations().query {
		return nil
	}
	c := *l.c
	c.First = nil
	c.Where = sqltext.Fragment{Tokens: append(f.bracketed(), words(c.D, "IS NULL")...)}
	return []Question{{From: (&change.Query{D: c.D}).Source(&c, change.Range{}), Apart: true}}
}

func words(d change.Dialect, text string) []sqltext.Token {
	ts, _ := sqltext.Lex(d, text) // words of ours
	for i := range ts {
		ts[i].Space = true
	}
	return ts
}

// equalsNull finds comparisons with NULL, and lists of NOT IN with NULL among their values, which
// are never true.
func equalsNull(l look) (out [][]any) {
	fragments := l.c.Fragments()
	for _, field := range slices.Sorted(maps.Keys(fragments)) {
		ts := fragments[field].Tokens
		f := &filter{ts: ts}
		for i := range ts {
			if ts[i].Kind != sqltext.Op || i > 0 && ts[i-1].Kind == sqltext.Op && !ts[i].Space {
				continue
			}
			op, next := f.operator(i)
			if op == "" || op == "<=>" || op == "=>" { // which takes NULL for NULL; an argument by its name
				continue
			}
			is := "IS NULL is meant"
			if op != "=" && op != "==" {
				is = "IS NOT NULL is meant"
			}
			switch {
			case f.at(next).Is("NULL"):
				out = append(out, []any{op + " NULL", is})
			case f.at(i-1).Is("NULL") && !f.at(i-2).Is("IS") && !f.at(i-2).Is("NOT"):
				out = append(out, []any{"NULL " + op, is})
			}
		}
		for i := 0; i+2 < len(ts); i++ {
			if !ts[i].Is("NOT") || !ts[i+1].Is("IN") || !ts[i+2].Punct("(") {
				continue
			}
			for j, depth := i+3, 1; j < len(ts) && depth > 0; j++ {
				switch {
				case ts[j].Punct("("):
					depth++
				case ts[j].Punct(")"):
					depth--
				case depth == 1 && ts[j].Is("SELECT"): // not a list
					depth = 0
				case depth == 1 && ts[j].Is("NULL") && (ts[j-1].Punct("(") || ts[j-1].Punct(",")):
					out = append(out, []any{"NOT IN (…, NULL)", "take NULL out of the list"})
				}
			}
		}
	}
	return out
}

// blanks asks for rows that an empty text does not find though nothing is to be seen in them.
func blanks(l look) (out []Question) {
	f := l.filter()
	if f == nil {
		return nil
	}
	for _, x := range f.comparisons() {
		if x.op != "=" || x.literals[0] != "''" || x.col.Class != change.Text {
			continue
		}
		column := l.c.Ref + "." + l.c.D.Quote(x.col.Name)
		if q, ok := f.instead(x, "("+column+" IS NULL OR trim("+column+") = '' AND NOT "+column+" = '')"); ok {
			out = append(out, Question{From: q, Apart: true, args: []any{x.col.Name}})
		}
	}
	return out
}

// mixed asks for the rows for which a comparison of a text with a number, or the other way round,
// comes out otherwise than the same one between two texts, or two numbers.
func mixed(l look) (out []Question) {
	f := l.filter()
	if f == nil || l.c.D.Forms().Mixed == change.Refuses {
		return nil
	}
	same := func(s string) string { return s }
	for _, x := range f.comparisons() {
		column := l.c.Ref + "." + l.c.D.Quote(x.col.Name)
		var other, why string
		switch numbers := l.c.D.Forms().Mixed == change.AsNumbers; {
		case x.col.Class == change.Text && x.numbers && numbers:
			other, why = x.sql(column, func(s string) string { return "'" + s + "'" }), "the texts are read as numbers, and what is none as 0; put the value in quotes"
		case x.col.Class == change.Text && x.numbers:
			// A comparison with a CAST goes by numbers where the text is one; in a list a CAST counts for nothing.
			var any []string
			for _, n := range x.literals {
				any = append(any, compared{op: strings.Replace(x.op, "IN", "=", 1), literals: []string{n}}.sql(column, func(s string) string { return "CAST(" + s + " AS NUMERIC)" }))
			}
			other, why = strings.Join(any, " OR "), "the number is taken as a text, letter by letter; put it in quotes if that is meant, or CAST the column"
		case x.col.Class == change.Number && !x.numbers && numbers && slices.ContainsFunc(x.literals, func(s string) bool { return !numeral(s) }):
			other, why = "1 = 0", "the text is read as a number, and what is none as 0"
		default:
			continue
		}
		told := x.sql(x.col.Name, same)
		if q, ok := f.instead(x, "CASE WHEN "+x.sql(column, same)+" THEN 1 ELSE 0 END <> CASE WHEN "+other+" THEN 1 ELSE 0 END"); ok {
			out = append(out, Question{From: q, Apart: true, args: []any{told, why}})
		}
	}
	return out
}

// numeral reports whether a quoted text is a number and nothing else.
func numeral(quoted string) bool {
	text := strings.TrimSpace(strings.Trim(quoted, "'"))
	text = strings.TrimLeft(text, "+-")
	digits := strings.Trim(text, "0123456789")
	return text != "" && (digits == "" || digits == ".")
}
