package pace

import "time"

// Batches estimates in how many batches a lane of so many rows is done, of which so many change, spread
// evenly, each of them costing perRow, by a sizer that begins anew with rows of rowBytes (bytes,
// 0 unknown). largest is the size of the largest of them.
func Batches(target time.Duration, fixed int, rowBytes, rows, changed int64, perRow time.Duration) (n, largest int64) {
	if fixed > 0 {
		return (rows + int64(fixed) - 1) / int64(fixed), min(int64(fixed), rows)
	}
	s := Sizer{Target: target}
	s.Anew(rowBytes)
	share := float64(changed) / float64(max(rows, 1))
	for rows > 0 {
		size := min(int64(s.Next()), rows)
		s.Done(int(size), int(float64(size)*share), time.Duration(size)*perRow, 0)
		largest = max(largest, size)
		rows -= size
		n++
	}
	return n, largest
}
