package generated

// shaping writes a step that brings texts into a form, and the statement that it stands for: of the
// transforms those that a server can carry out as well, whatever the collation. where is the filter with
// its WHERE, or nothing.
func (b *builder) shaping(where string) {
	txt := b.by("txt", `(txt COLLATE "C")`, "txt")
	length := b.by("length(txt)", "length(txt)", "char_length(txt)")
	at := b.by("instr(txt, 'a')", "strpos("+txt+", 'a')", "position('a' IN CAST(txt AS char CHARACTER SET utf8mb4) COLLATE utf8mb4_bin)")
	before := "CASE WHEN " + at + " > 0 THEN substr(txt, 1, " + at + " - 1) ELSE txt END"
	// The zeroes that a text of fewer than 8 characters lacks.
	zeroes := "substr('00000000', 1, CASE WHEN " + length + " < 8 THEN 8 - " + length + " ELSE 0 END)"
	chain, value, let := "", "", ""
	switch b.Shape {
	case 1:
		chain, value = "{ pad_left = 8, with = '0' }", b.by(zeroes+" || txt", zeroes+" || txt", "concat("+zeroes+", txt)")
	case 2:
		chain, value = "{ before = 'a' }", before
	case 3:
		chain, value = "{ after = 'a' }", "CASE WHEN "+at+" > 0 THEN substr(txt, "+at+" + 1) END"
	case 4:
		chain, value = "{ drop = 'a' }", "replace("+txt+", 'a', '')"
	case 5:
		chain, value = "{ rewrite = 'a', with = 'aa' }", "replace("+txt+", 'a', 'aa')"
	case 6:
		chain, value = "{ null_to = 'x' }", "coalesce(txt, 'x')"
	case 7:
		chain, value = "'blank_to_null'", "CASE WHEN "+length+" > 0 THEN txt END" // none has blanks alone
	case 8:
		chain, value = "{ before = 'a' }, { null_to = 'none' }, { rewrite = '^', with = '>' }", b.by("'>' || coalesce("+before+", 'none')", "'>' || coalesce("+before+", 'none')", "concat('>', coalesce("+before+", 'none'))")
	case 9: // of a named value, which reads the row and another table
		let = b.by("txt || '/' || (SELECT max(name) FROM o WHERE o.k >= t.n)", "txt || '/' || (SELECT max(name) FROM o WHERE o.k >= t.n)", "concat(txt, '/', (SELECT max(name) FROM o WHERE o.k >= t.n))")
		chain, value = "{ of = 'form' }, { drop = 'a' }", "coalesce(replace("+b.by("("+let+")", "(("+let+`) COLLATE "C")`, "("+let+")")+", 'a', ''), txt)"
	}
	// A text that has its form is not written.
	b.SQL = "UPDATE t SET txt = " + value + and(where, b.by(value+" IS NOT txt", "("+value+") IS DISTINCT FROM "+txt, "NOT (CAST("+value+" AS binary) <=> CAST(txt AS binary))"))
	b.Job = "[[step]]\ntable = 't'\n"
	b.Job += filterOf(where)
	if let != "" {
		b.Job += `let = { form = "` + let + `" }` + "\n"
	}
	b.Job += "shape = { txt = [" + chain + "] }\n"
}
