package change

import (
	"fmt"
	"strings"
)

func NearestColumn(t *Table, name string) string {
	names := make([]string, len(t.Columns))
	for i, c := range t.Columns {
		names[i] = c.Name
	}
	if near := Nearest(name, names); near != "" {
		return fmt.Sprintf("; did you mean %q?", near)
	}
	return ""
}

// Nearest gives the candidate closest to name by edit distance, "" if none is close.
func Nearest(name string, candidates []string) string {
	best, limit := "", 1+len(name)/3
	for _, c := range candidates {
		if d := distance(strings.ToLower(name), strings.ToLower(c)); d <= limit {
			best, limit = c, d-1
		}
	}
	return best
}

// distance is the Levenshtein distance in bytes.
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(a); i++ {
		prev := row[0]
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := prev
			if a[i-1] != b[j-1] {
				cost++
			}
			prev = row[j]
			row[j] = min(cost, row[j]+1, row[j-1]+1)
		}
	}
	return row[len(b)]
}
