package find

import (
	"bytes"
	"errors"
	"fmt"
	"testing"
)

// TestPipe: every row arrives once, in its order, NULL told from empty, also
// where a value is larger than a block, and before an error.
func TestPipe(t *testing.T) {
	stop := errors.New("stop")
	row := func(i int) [][]byte {
		values := [][]byte{fmt.Append(nil, i), {}, nil}
		if i%1000 == 7 {
			values[1] = bytes.Repeat([]byte("x"), 3*blockBytes)
		}
		return values
	}
	next := 0
	err := pipe(3, func(each func([][]byte) error) error {
		for i := range 5000 {
			if err := each(row(i)); err != nil {
				return err
			}
		}
		return stop
	}, func(n int, values [][]byte) {
		want := row(next)
		if n != next || !bytes.Equal(values[0], want[0]) || values[1] == nil || !bytes.Equal(values[1], want[1]) || values[2] != nil {
			t.Errorf("row %d arrives as number %d: %.40q", next, n, values)
		}
		next++
	})
	if next != 5000 || err != stop {
		t.Errorf("%d rows, %v", next, err)
	}
}
