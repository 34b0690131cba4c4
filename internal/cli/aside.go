package cli

import (
	"encoding/csv"
	"fmt"
	"maps"
	"slices"

	"jugatum/internal/ledger"
)

// writeAsides writes the rows that were set aside as CSV: step, key, error,
// whether it was changed later, then each new value with its column. NULL is an
// empty field, as is a value that could not be worked out. See cell for texts that
// look like formulas.
func writeAsides(path string, list []ledger.Aside) error {
	f, err := create(path)
	if err != nil {
		return err
	}
	defer f.Close()
	columns := map[string]bool{}
	for _, x := range list {
		for c := range x.New {
			columns[c] = true
		}
	}
	names := slices.Sorted(maps.Keys(columns))
	w := csv.NewWriter(f)
	head := []string{"step", "key", "error", "changed_later"}
	for _, c := range names {
		head = append(head, cell(c))
	}
	if err := w.Write(head); err != nil {
		return err
	}
	for _, x := range list {
		row := []string{fmt.Sprint(x.Step), cell(x.KeyText), cell(x.Error), fmt.Sprint(x.Retried)}
		for _, c := range names {
			v := ""
			if x.New[c] != nil {
				v = *x.New[c]
			}
			row = append(row, cell(v))
		}
		if err := w.Write(row); err != nil {
			return err
		}
	}
	w.Flush()
	if err := w.Error(); err != nil {
		return err
	}
	return f.Close()
}
