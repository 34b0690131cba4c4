package sqltext

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Kind says what a token is.
type Kind int

const (
	Ident       Kind = iota // bare word: name or keyword
	QuotedIdent             // "name", `name` or [name]
	String                  // 'text', E'text', X'00', $tag$text$tag$
	Number                  // 12, 1.5e3, 0x1F
	Param                   // :name
	Punct                   // one character of ( ) , ; . [ ]
	Op                      // one operator character, or ::
)

// Token is one lexical element of a statement.
type Token struct {
	Kind  Kind
	Text  string // as written
	Pos   int    // byte offset in the source
	Space bool   // white space or a comment stood before it
}

// Is reports whether the token is the bare keyword word (given in upper case).
func (t Token) Is(word string) bool { return t.Kind == Ident && strings.EqualFold(t.Text, word) }

// Punct reports whether the token is the punctuation or operator s.
func (t Token) Punct(s string) bool { return (t.Kind == Punct || t.Kind == Op) && t.Text == s }

// Name is the identifier that the token stands for, without its quotes.
func (t Token) Name() string {
	switch t.Kind {
	case QuotedIdent:
		q := t.Text[len(t.Text)-1:]
		inner := t.Text[1 : len(t.Text)-1]
		if q == "]" {
			return inner
		}
		return strings.ReplaceAll(inner, q+q, q)
	case Param:
		return t.Text[1:]
	}
	return t.Text
}

// Error is a fault in SQL text, with its place.
type Error struct {
	Src    string // the whole text
	Offset int    // byte offset of the fault
	Msg    string
}

func (e *Error) Error() string {
	line, col := e.Position()
	return fmt.Sprintf("line %d, column %d: %s", line, col, e.Msg)
}

// Position gives the 1-based line and column (in characters) of the fault.
func (e *Error) Position() (line, col int) {
	before := e.Src[:min(e.Offset, len(e.Src))]
	line = 1 + strings.Count(before, "\n")
	return line, 1 + utf8.RuneCountInString(before[strings.LastIndexByte(before, '\n')+1:])
}

// Caret shows the line of the fault with a caret under its place.
func (e *Error) Caret() string {
	line, col := e.Position()
	text := strings.Split(e.Src, "\n")[line-1]
	pad := []rune(text)
	var b strings.Builder
	for i := 0; i < col-1 && i < len(pad); i++ {
		if pad[i] == '\t' {
			b.WriteByte('\t')
		} else {
			b.WriteByte(' ')
		}
	}
	return "  " + text + "\n  " + b.String() + "^"
}

// Lex splits src into tokens by the rules of the dialect. Comments vanish.
// An unfinished string, name or comment is an *Error at its beginning.
func Lex(d Dialect, src string) ([]Token, error) {
	l := lexer{d: d.Rules(), src: src}
	for state := lexAny; state != nil; {
		state = state(&l)
	}
	if l.err != nil {
		return nil, l.err
	}
	return l.tokens, nil
}

type stateFn func(*lexer) stateFn

type lexer struct {
	d      *Syntax
	src    string
	pos    int // next byte to read
	start  int // first byte of the token being read
	space  bool
	tokens []Token
	err    *Error
}

func (l *lexer) fail(at int, format string, args ...any) stateFn {
	l.err = &Error{Src: l.src, Offset: at, Msg: fmt.Sprintf(format, args...)}
	return nil
}

func (l *lexer) emit(k Kind) stateFn {
	l.tokens = append(l.tokens, Token{k, l.src[l.start:l.pos], l.start, l.space})
	l.space = false
	return lexAny
}

func (l *lexer) peek(ahead int) byte {
	if l.pos+ahead < len(l.src) {
		return l.src[l.pos+ahead]
	}
	return 0
}

func lexAny(l *lexer) stateFn {
	l.start = l.pos
	if l.pos >= len(l.src) {
		return nil
	}
	c := l.src[l.pos]
	switch {
	case c == ' ' || c == '\t' || c == '\n' || c == '\r' || c == '\f':
		l.pos++
		l.space = true
		return lexAny
	case c == '-' && l.peek(1) == '-' && (!l.d.DashBlank || l.peek(2) <= ' '), c == '#' && l.d.Hash:
		if n := strings.IndexByte(l.src[l.pos:], '\n'); n >= 0 {
			l.pos += n
		} else {
			l.pos = len(l.src)
		}
		l.space = true
		return lexAny
	case c == '/' && l.peek(1) == '*':
		return lexComment
	case c == '\'':
		l.pos++
		return lexQuoted(l, '\'', l.d.Backslash, String)
	case c == '"':
		l.pos++
		if l.d.DoubleQuoted {
			return lexQuoted(l, '"', l.d.Backslash, String)
		}
		return lexQuoted(l, '"', false, QuotedIdent)
	case c == '`' && l.d.Backticks:
		l.pos++
		return lexQuoted(l, '`', false, QuotedIdent)
	case c == '[' && l.d.Brackets:
		end := strings.IndexByte(l.src[l.pos:], ']')
		if end < 0 {
			return l.fail(l.start, "this [ has no closing ]")
		}
		l.pos += end + 1
		return l.emit(QuotedIdent)
	case c == '$' && l.d.DollarTexts:
		return lexDollar
	case c >= '0' && c <= '9', c == '.' && isDigit(l.peek(1)):
		return lexNumber
	case c == ':' && l.peek(1) == ':':
		l.pos += 2
		return l.emit(Op)
	case c == ':' && isNameStart(rune(l.peek(1))) && l.peek(1) < utf8.RuneSelf:
		l.pos++
		for l.pos < len(l.src) && (isNameStart(rune(l.src[l.pos])) && l.src[l.pos] < utf8.RuneSelf || isDigit(l.src[l.pos])) {
			l.pos++
		}
		return l.emit(Param)
	case strings.IndexByte(l.d.OwnParams, c) >= 0:
		return l.fail(l.pos, "parameters are written :name here, not %c", c)
	case c == '@' && l.d.Variables && l.peek(1) == '@':
		l.pos += 2
		return l.emit(Op)
	case c == '@' && l.d.Variables:
		return l.fail(l.pos, "user variables are not accepted: their values belong to one session, and a run has several; write a parameter, :name")
	case strings.IndexByte("(),;.[]", c) >= 0:
		l.pos++
		return l.emit(Punct)
	}
	r, size := utf8.DecodeRuneInString(l.src[l.pos:])
	if isNameStart(r) {
		return lexWord
	}
	if r == utf8.RuneError && size == 1 {
		return l.fail(l.pos, "byte 0x%02x is not valid UTF-8", c)
	}
	if r < ' ' || r == 0x7f {
		return l.fail(l.pos, "control character 0x%02x", c)
	}
	l.pos += size
	return l.emit(Op)
}

// lexQuoted reads up to the closing quote; a doubled quote stands for itself.
func lexQuoted(l *lexer, quote byte, backslash bool, k Kind) stateFn {
	for l.pos < len(l.src) {
		switch c := l.src[l.pos]; {
		case c == '\\' && backslash:
			l.pos = min(l.pos+2, len(l.src))
		case c == quote && l.peek(1) == quote:
			l.pos += 2
		case c == quote:
			l.pos++
			return l.emit(k)
		default:
			l.pos++
		}
	}
	if k == String {
		return l.fail(l.start, "this string has no closing %c", quote)
	}
	return l.fail(l.start, "this name has no closing %c", quote)
}

func lexComment(l *lexer) stateFn {
	if l.d.ExecutedComments && (l.peek(2) == '!' || strings.HasPrefix(l.src[l.pos+2:], "M!")) {
		return l.fail(l.pos, "a comment that the server would execute is not accepted")
	}
	depth := 0
	for l.pos < len(l.src) {
		switch {
		case strings.HasPrefix(l.src[l.pos:], "/*"):
			if depth == 0 || l.d.NestedComments {
				depth++
			}
			l.pos += 2
		case strings.HasPrefix(l.src[l.pos:], "*/"):
			l.pos += 2
			if depth--; depth == 0 {
				l.space = true
				return lexAny
			}
		default:
			l.pos++
		}
	}
	return l.fail(l.start, "this comment has no closing */")
}

// lexDollar reads $tag$ text $tag$.
func lexDollar(l *lexer) stateFn {
	end := l.pos + 1
	for end < len(l.src) && l.src[end] != '$' {
		r, size := utf8.DecodeRuneInString(l.src[end:])
		if !isNameStart(r) && !(end > l.pos+1 && unicode.IsDigit(r)) {
			return l.fail(l.pos, "parameters are written :name here, not $")
		}
		end += size
	}
	if end >= len(l.src) {
		return l.fail(l.pos, "parameters are written :name here, not $")
	}
	tag := l.src[l.pos : end+1]
	close := strings.Index(l.src[end+1:], tag)
	if close < 0 {
		return l.fail(l.start, "this string has no closing %s", tag)
	}
	l.pos = end + 1 + close + len(tag)
	return l.emit(String)
}

func lexNumber(l *lexer) stateFn {
	for l.pos < len(l.src) {
		c := l.src[l.pos]
		exponent := (c == '+' || c == '-') && (l.src[l.pos-1] == 'e' || l.src[l.pos-1] == 'E') &&
			!strings.HasPrefix(l.src[l.start:], "0x") && !strings.HasPrefix(l.src[l.start:], "0X")
		if !isDigit(c) && c != '.' && c != '_' && !(c|0x20 >= 'a' && c|0x20 <= 'z') && !exponent {
			break
		}
		l.pos++
	}
	return l.emit(Number)
}

func lexWord(l *lexer) stateFn {
	for l.pos < len(l.src) {
		r, size := utf8.DecodeRuneInString(l.src[l.pos:])
		if !isNameStart(r) && !unicode.IsDigit(r) && r != '$' {
			break
		}
		l.pos += size
	}
	// A prefix glued to a quote makes another kind of string.
	if l.peek(0) == '\'' {
		word := strings.ToUpper(l.src[l.start:l.pos])
		switch {
		case len(word) == 1 && strings.Contains(l.d.Prefixes, word):
			l.pos++
			return lexQuoted(l, '\'', l.d.Backslash, String)
		case word == "E" && l.d.EscapeTexts:
			l.pos++
			return lexQuoted(l, '\'', true, String)
		}
	}
	if l.d.UnicodeTexts && l.peek(0) == '&' && strings.EqualFold(l.src[l.start:l.pos], "U") && (l.peek(1) == '\'' || l.peek(1) == '"') {
		return l.fail(l.start, "U& strings and names are not supported; write the characters themselves")
	}
	return l.emit(Ident)
}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }

func isNameStart(r rune) bool {
	return r == '_' || r != utf8.RuneError && unicode.IsLetter(r)
}
