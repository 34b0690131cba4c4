package sqltext

// Query checks that src is one query and nothing else: SELECT, WITH or VALUES that
// changes no row, writes no file, makes no table and locks nothing. What is not
// one is an *Error at its place. Which functions it calls is not looked at.
func Query(d Dialect, src string) error { return query(d, src, false) }

// Source checks that src is one query as Query does, in which parameters may stand.
func Source(d Dialect, src string) error { return query(d, src, true) }

func query(d Dialect, src string, params bool) error {
	tokens, err := Lex(d, src)
	if err != nil {
		return err
	}
	fail := func(t Token, msg string) error { return &Error{Src: src, Offset: t.Pos, Msg: msg} }
	for len(tokens) > 0 && tokens[len(tokens)-1].Punct(";") {
		tokens = tokens[:len(tokens)-1]
	}
	if len(tokens) == 0 {
		return &Error{Src: src, Msg: "expected a query"}
	}
	if first := tokens[0]; !first.Is("SELECT") && !first.Is("WITH") && !first.Is("VALUES") {
		return fail(first, "expected one query: SELECT, WITH or VALUES")
	}
	depth := 0
	for i, t := range tokens {
		call := i+1 < len(tokens) && tokens[i+1].Punct("(")
		begins := depth == 0 && tokens[0].Is("WITH") || i > 0 && tokens[i-1].Punct("(") // a statement may begin here
		switch {
		case t.Punct("("):
			depth++
		case t.Punct(")"):
			if depth--; depth < 0 {
				return fail(t, "this bracket was not opened")
			}
		case t.Punct(";"):
			return fail(t, "expected one query, and nothing after it")
		case t.Kind == Param && !params:
			return fail(t, "parameters are not known here")
		case i > 0 && tokens[i-1].Punct("."): // a column may be called like that
		case t.Is("INTO"):
			return fail(t, "a query that stores its result is not accepted")
		case t.Is("FOR") && i+1 < len(tokens) && (tokens[i+1].Is("UPDATE") || tokens[i+1].Is("SHARE") || tokens[i+1].Is("NO") || tokens[i+1].Is("KEY")):
			return fail(t, "a query that locks rows is not accepted")
		case begins && !call && (t.Is("INSERT") || t.Is("UPDATE") || t.Is("DELETE") || t.Is("MERGE") || t.Is("REPLACE")):
			return fail(t, "a query that changes rows is not accepted")
		}
	}
	if depth > 0 {
		return fail(tokens[len(tokens)-1], "a bracket is not closed after this")
	}
	return nil
}
