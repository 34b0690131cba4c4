package list

import (
	"bytes"
	"fmt"
	"io"
	"testing"
)

// TestWriterReadsBack: whatever the values, a list that was written reads back to them.
func TestWriterReadsBack(t *testing.T) {
	texts := []string{"", " ", "a", "NULL", `"`, `""`, ",", "\n", "\r\n", "\r", "a\r\nb", "=1+1", "'", "''", "'=1", "-5", "-5.25", "-x", "+1e5", "@x", "\t", "\ttab", "\ufeff", "ä日本", `\N`, `{"a":1}`, "#", "a\\b"}
	for _, end := range []string{"csv", "jsonl"} {
		for width := 1; width <= 3; width++ {
			var rows [][]*string
			for i := range texts {
				row := make([]*string, width)
				for n := range row {
					if (i+n)%5 != 4 || width == 1 {
						row[n] = &texts[(i+n*7)%len(texts)]
					}
				}
				rows = append(rows, row)
			}
			var b bytes.Buffer
			names := []string{"k", "Größe \"x\", 'y'", "z"}[:width]
			w, err := NewWriter("out."+end, &b, names, "NULL_")
			if err != nil {
				t.Fatal(err)
			}
			for _, row := range rows {
				if err := w.Write(row); err != nil {
					t.Fatal(err)
				}
			}
			if err := w.Flush(); err != nil {
				t.Fatal(err)
			}
			f, null := Format{}, "NULL_"
			if end == "csv" {
				f = Format{Null: &null, Guarded: true}
			}
			r, err := Open("out."+end, &b, f)
			if err != nil {
				t.Fatal(err)
			}
			for i, row := range rows {
				line, err := r.Next()
				if err != nil {
					t.Fatal(end, width, i, err)
				}
				for n := range row {
					if shownOr(row[n]) != shownOr(line.Values[n]) {
						t.Errorf("%s, %d columns, line %d: %s was written, %s is read", end, width, i, shownOr(row[n]), shownOr(line.Values[n]))
					}
				}
			}
			if _, err := r.Next(); err != io.EOF {
				t.Error(err)
			}
		}
	}
	w, err := NewWriter("out.csv", io.Discard, []string{"k"}, "")
	if err != nil {
		t.Fatal(err)
	}
	nul := "a\x00b"
	if err := w.Write([]*string{&nul}); err == nil {
		t.Error("a NUL byte is written")
	}
	if _, err := NewWriter("out.txt", io.Discard, nil, ""); err == nil {
		t.Error("a name that says nothing is taken")
	}
}

func shownOr(v *string) string {
	if v == nil {
		return "NULL"
	}
	return fmt.Sprintf("%q", *v)
}
