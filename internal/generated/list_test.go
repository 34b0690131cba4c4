package generated

import (
	"encoding/csv"
	"errors"
	"os"
	"path/filepath"
	"strings"
)

// list writes the lines of a list, that are in a table of both databases, to a file.
func (h *house) list(listed []string, from string) error {
	if listed == nil {
		return nil
	}
	var names, values []string
	for i := 0; i < len(listed); i += 2 {
		names, values = append(names, listed[i]), append(values, listed[i+1])
	}
	rows, err := h.within(h.plain, inZone).Query("SELECT " + strings.Join(values, ", ") + " FROM " + from)
	if err != nil {
		return err
	}
	defer rows.Close()
	f, err := os.Create(filepath.Join(h.dir, "list.csv"))
	if err != nil {
		return err
	}
	defer f.Close()
	w := csv.NewWriter(f)
	w.Write(names)
	for rows.Next() {
		line, into := make([]string, len(names)), make([]any, len(names))
		for i := range line {
			into[i] = &line[i]
		}
		if err := rows.Scan(into...); err != nil {
			return err
		}
		w.Write(line)
	}
	w.Flush()
	return errors.Join(w.Error(), rows.Err())
}
