package engine

import (
	"bytes"
	"strings"
)

// Tabbed writes rows as a text of which servers read many at once: a line each, values apart by tabs,
// NULL as \N. escapes stands for characters that mean something there. other gives what stands for a value
// that is no text, by its place in the row; ok is false where there is one for which nothing can.
func Tabbed(rows [][]any, escapes *strings.Replacer, other func(i int, v any) (text string, ok bool)) (text *bytes.Buffer, ok bool) {
	text = &bytes.Buffer{}
	for _, row := range rows {
		for i, v := range row {
			if i > 0 {
				text.WriteByte('\t')
			}
			switch v := v.(type) {
			case nil:
				text.WriteString(`\N`)
			case string:
				escapes.WriteString(text, v)
			default:
				s, ok := other(i, v)
				if !ok {
					return nil, false
				}
				text.WriteString(s)
			}
		}
		text.WriteByte('\n')
	}
	return text, true
}
