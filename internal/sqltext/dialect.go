// Package sqltext reads SQL text far enough for Jugatum's purposes: it splits
// one UPDATE or DELETE, or one expression, into tokens and clauses. It does not
// know the grammar of expressions; the database itself judges those.
package sqltext

import "strings"

// Dialect is the SQL spoken by one kind of server, as far as reading it goes. What
// embeds a *Syntax is one.
type Dialect interface {
	Rules() *Syntax
	String() string
	Quote(name string) string
	Own(function string) string
	Name(t Token) string
	Same(t Token, name string) bool
}

// Syntax says how texts of a dialect are to be read. The zero value is what all have in
// common: names in double quotes and compared without case, texts in single quotes.
type Syntax struct {
	Title string // the dialect's name, for people

	// Names.
	NameQuote  byte   // what we quote a name with, 0 for a double quote
	OwnSchema  string // of the server's own functions, in front of whose names it is written; "" where there is no search path
	ExactNames bool   // a quoted name counts as it is written, any other in lower case
	TableCase  bool   // case may matter in the name of a table, quoted or not
	Backticks  bool   // `…` is a name
	Brackets   bool   // […] is a name

	// Texts.
	Backslash    bool   // \ takes the meaning from what follows it in a text
	DoubleQuoted bool   // "…" is a text, not a name
	DollarTexts  bool   // $tag$ … $tag$ is a text
	Prefixes     string // letters before the quote that make another kind of text
	EscapeTexts  bool   // E'…' is a text with backslashes
	UnicodeTexts bool   // U&'…' is a text, U&"…" a name

	// Comments, and what else may stand between.
	Hash             bool   // # begins a comment
	DashBlank        bool   // -- begins one only before a blank
	NestedComments   bool   // /* … */ may stand within one
	ExecutedComments bool   // what stands in /*! … */ is carried out
	OwnParams        string // characters that begin a parameter of the server's own
	Variables        bool   // @name is a variable of the session, @@name a setting

	// Statements.
	TablesFirst bool // UPDATE and DELETE over several tables name them together, the target among them; one of one table may have a LIMIT
	NoWith      bool // WITH cannot stand before UPDATE or DELETE
	NoUsing     bool // DELETE names no table but its target
	Inherits    bool // ONLY leaves out what inherits from a table, * means it as well
	NotIndexed  bool // NOT INDEXED may follow the target
}

// Rules is s itself.
func (s *Syntax) Rules() *Syntax { return s }

func (s *Syntax) String() string { return s.Title }

// Quote writes a name as a quoted identifier. It is the one place where names
// become SQL text.
func (s *Syntax) Quote(name string) string {
	quote := `"`
	if s.NameQuote != 0 {
		quote = string(s.NameQuote)
	}
	return quote + strings.ReplaceAll(name, quote, quote+quote) + quote
}

// Own names a function of the server's own, so that no function of the same name
// in a schema of the search path is called instead.
func (s *Syntax) Own(function string) string {
	if s.OwnSchema == "" {
		return function
	}
	return s.OwnSchema + "." + function
}

// Name is the name of a table or schema that a token stands for.
func (s *Syntax) Name(t Token) string {
	if t.Kind == Ident && !s.TableCase {
		return strings.ToLower(t.Text)
	}
	return t.Name()
}

// Same reports whether a token names the column or table called name.
func (s *Syntax) Same(t Token, name string) bool {
	switch {
	case t.Kind != Ident && t.Kind != QuotedIdent:
		return false
	case !s.ExactNames:
		return strings.EqualFold(t.Name(), name)
	case t.Kind == Ident:
		return strings.ToLower(t.Text) == name
	}
	return t.Name() == name
}

// IsParam reports whether a parameter can have this name.
func IsParam(name string) bool {
	toks, err := Lex(&Syntax{}, ":"+name)
	return err == nil && len(toks) == 1 && toks[0].Kind == Param
}
