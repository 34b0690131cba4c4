package engine

import (
	"database/sql"
	"fmt"
	"strconv"
	"time"
)

// A Cell is one value of a row as text, read without copying it twice; its bytes are there until the
// next row. sql.RawBytes would do, if an empty text were not now and then the same as NULL there.
type Cell struct {
	B    []byte // nil for NULL, and for nothing else
	room []byte
}

var _ sql.Scanner = (*Cell)(nil)

// Scan takes what the driver gives.
func (c *Cell) Scan(src any) error {
	c.room = c.room[:0]
	switch v := src.(type) {
	case nil:
		c.B = nil
		return nil
	case []byte:
		if c.B = v; v == nil {
			c.B = []byte{}
		}
		return nil
	case string:
		c.room = append(c.room, v...)
	case int64:
		c.room = strconv.AppendInt(c.room, v, 10)
	case float64:
		c.room = strconv.AppendFloat(c.room, v, 'g', -1, 64)
	case bool:
		c.room = strconv.AppendBool(c.room, v)
	case time.Time:
		c.room = v.AppendFormat(c.room, time.RFC3339Nano)
	default:
		return fmt.Errorf("a value came as %T, which is read as no text", src)
	}
	if c.room == nil {
		c.room = []byte{}
	}
	c.B = c.room
	return nil
}

// Cells are those of a row, and what a row is scanned into.
func Cells(n int) (cells []Cell, into []any) {
	cells, into = make([]Cell, n), make([]any, n)
	for i := range cells {
		into[i] = &cells[i]
	}
	return cells, into
}
