package change

import (
	"maps"
	"strconv"
	"strings"
	"unicode"

	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"

	"jugatum/internal/sqltext"
)

// Form is what of a text counts where texts are matched by it rather than as they are.
// Servers do not agree on case and blanks, so it is told by us.
type Form string

const (
	Trimmed Form = "trimmed" // blanks at both ends do not count
	Folded  Form = "folded"  // nor does case, nor how many blanks stand between words
)

// Of is the form of a text.
func (f Form) Of(text string) string {
	text = strings.TrimFunc(norm.NFC.String(text), unicode.IsSpace)
	if f == Folded {
		text = norm.NFC.String(cases.Fold().String(strings.Join(strings.Fields(text), " ")))
	}
	return text
}

// Words are the texts by which rows of the target and of the source are matched by their
// form. Those of both sides that have the same one are read before anything else, and
// joined in between, each as it is written.
type Words struct {
	Form   Form
	Own    []string // of the target, as SQL that compares by bytes
	Theirs []string // of the source, likewise
	Origin string   // where the source's rows come from, as an item of a FROM list

	// Rows are the source's as they are, as an item of a FROM list, and Table the words. On
	// is the condition that they and, unless all that is matched are texts, a row of the
	// target go together: there is no word that the target has not.
	Rows, Table, On string
	Alone           bool // all that is matched are texts

	Read            bool // the words are known, as the value of the parameter
	rows, table, on sqltext.Fragment
}

// WordsParam is the parameter that holds the words: a JSON array of arrays, the target's
// texts first.
const WordsParam = "jugatum_words"

// MaxWord is the length in characters of the longest text that is matched by its form: as
// many as every server has an index over.
const MaxWord = 240

// WordColumn is the name of the i-th column of the words of one side.
func WordColumn(own bool, i int) string {
	if own {
		return "jugatum_t" + strconv.Itoa(i+1)
	}
	return "jugatum_s" + strconv.Itoa(i+1)
}

// OwnWords is the query for the texts of the target, each once.
func (c *Change) OwnWords() (*Query, error) {
	return c.distinct(c.Lookup.Words.Own, c.TargetSQL())
}

// TheirWords is that for the texts of the source.
func (c *Change) TheirWords() (*Query, error) {
	return c.distinct(c.Lookup.Words.Theirs, c.Lookup.Words.Origin)
}

// words reads what is to be matched by its form, and gives the change a parameter for it,
// which holds none before it is known.
func (b *builder) words(w *Words) error {
	c := b.c
	if _, there := c.Params[WordsParam]; !there {
		params := map[string]Value{WordsParam: {Type: TextValue, Text: "[]"}}
		maps.Copy(params, c.Params)
		c.Params = params
	}
	read := *w
	c.Lookup.Words = &read
	for _, x := range []struct {
		text string
		into *sqltext.Fragment
	}{{w.Rows, &read.rows}, {w.Table, &read.table}, {w.On, &read.on}} {
		tokens, err := sqltext.Lex(c.D, x.text)
		if err != nil {
			return b.fail("match", err)
		}
		*x.into = b.clock(sqltext.Fragment{Tokens: tokens})
	}
	return nil
}

// SourceRows appends " FROM …": the rows that can be looked up, each once.
func (q *Query) SourceRows(c *Change) *Query {
	if w := c.Lookup.Words; w != nil {
		return q.Add(" FROM ").Fragment(w.rows, c.Params)
	}
	return q.Add(" FROM ").Fragment(c.Lookup.From, c.Params)
}

func (c *Change) distinct(exprs []string, from string) (*Query, error) {
	tokens, err := sqltext.Lex(c.D, "SELECT DISTINCT "+strings.Join(exprs, ", ")+" FROM "+from)
	if err != nil {
		return nil, err
	}
	b := builder{c: c}
	return (&Query{D: c.D}).Fragment(b.clock(sqltext.Fragment{Tokens: tokens}), c.Params), nil
}
