package trial

import (
	"math"
	"slices"
	"time"

	"jugatum/internal/pace"
)

// try is one transaction that was rolled back.
type try struct {
	rows      int64 // that count for its time: scanned, or, of listed ones, changed
	changed   int64
	work      time.Duration // while locks were held
	ahead     time.Duration // reading before that, as a run does beside the batch before
	logBytes  float64       // for each changed row; -1 unknown
	records   float64       // likewise
	images    int64         // in all; -1 unknown
	keptBytes float64       // for each changed row; -1 unknown
	locks     map[string]int
	temporary int64 // bytes written to temporary files; -1 unknown
	waiters   int   // other sessions that were seen to wait for it at once
}

// untold is a try of which nothing but its time is known.
func untold() try { return try{logBytes: -1, records: -1, images: -1, keptBytes: -1, temporary: -1} }

// Line is what a way costs: a part for each batch, and one for each row.
type Line struct {
	Batch time.Duration
	Row   time.Duration
	Vary  float64 // by which share the rows' cost varied from trial to trial

	// What reading a batch's rows ahead costs, which a run does beside the batch before: the slower of
	// the two is what it takes.
	AheadBatch time.Duration
	AheadRow   time.Duration
}

// each is what a batch of so many rows takes: by several workers reading and changing take turns, since
// others are at work beside them.
func (l Line) each(rows float64, workers int) float64 {
	batch, ahead := float64(l.Batch)+rows*float64(l.Row), float64(l.AheadBatch)+rows*float64(l.AheadRow)
	if workers > 1 {
		return batch + ahead
	}
	return max(batch, ahead)
}

// large are those of many rows.
func large(tries []try) (out []try) {
	most := int64(0)
	for _, t := range tries {
		most = max(most, t.rows)
	}
	for _, t := range tries {
		if t.rows*2 > most {
			out = append(out, t)
		}
	}
	return out
}

// fit tells the fixed part from that of a row, by trials of few rows and of many.
func fit(tries []try) Line {
	if len(tries) == 0 {
		return Line{}
	}
	sizes := map[bool][]try{} // true: those of many rows
	most := int64(0)
	for _, t := range tries {
		most = max(most, t.rows)
	}
	for _, t := range tries {
		sizes[t.rows*2 > most] = append(sizes[t.rows*2 > most], t)
	}
	many, few := sizes[true], sizes[false]
	rows, work := middle(many, func(t try) float64 { return float64(t.rows) }), middle(many, func(t try) float64 { return float64(t.work) })
	l := Line{}
	l.Batch, l.Row = line(many, few, func(t try) float64 { return float64(t.work) })
	l.AheadBatch, l.AheadRow = line(many, few, func(t try) float64 { return float64(t.ahead) })
	least, greatest := math.Inf(1), 0.0
	for _, t := range many {
		each := float64(t.work) / float64(max(t.rows, 1))
		least, greatest = min(least, each), max(greatest, each)
	}
	if m := work / max(rows, 1); m > 0 && len(many) > 1 {
		l.Vary = (greatest - least) / m / 2
	}
	return l
}

// line tells the fixed part of a figure from that of a row.
func line(many, few []try, of func(t try) float64) (batch, row time.Duration) {
	count := func(t try) float64 { return float64(t.rows) }
	rows, work := middle(many, count), middle(many, of)
	row = time.Duration(work / max(rows, 1))
	if len(few) == 0 {
		return 0, row
	}
	lessRows, lessWork := middle(few, count), middle(few, of)
	if rows > lessRows && work > lessWork {
		each := (work - lessWork) / (rows - lessRows)
		return time.Duration(max(lessWork-each*lessRows, 0)), time.Duration(each)
	}
	return 0, row
}

// middle is the median of a figure; the mean where stretches of the table are of two kinds, since the median
// would be that of one of them.
func middle(tries []try, of func(t try) float64) float64 {
	var all []float64
	sum := 0.0
	for _, t := range tries {
		all = append(all, of(t))
		sum += of(t)
	}
	if len(all) == 0 {
		return 0
	}
	if uneven(tries) {
		return sum / float64(len(all))
	}
	slices.Sort(all)
	return (all[(len(all)-1)/2] + all[len(all)/2]) / 2
}

// uneven reports whether far more of the rows change in some stretches than in others.
func uneven(tries []try) bool {
	least, greatest := 1.0, 0.0
	for _, t := range tries {
		share := float64(t.changed) / float64(max(t.rows, 1))
		least, greatest = min(least, share), max(greatest, share)
	}
	return greatest-least > 0.2
}

// known is the median of those figures that are not below 0; -1 if all are.
func known(tries []try, of func(t try) float64) float64 {
	some := slices.DeleteFunc(slices.Clone(tries), func(t try) bool { return of(t) < 0 })
	if len(some) == 0 {
		return -1
	}
	return middle(some, of)
}

// pageBytes is the size of a page where a log is one of whole pages.
const pageBytes = 4096

// pagesWritten is about how many bytes of pages are written for each changed row, where those rows
// are spread evenly among the ones scanned.
func pagesWritten(scanned, changed, rowBytes int64) float64 {
	if changed == 0 || scanned < changed {
		return -1
	}
	each := max(float64(pageBytes)/float64(rowBytes), 1) // rows of a page
	touched := 1 - math.Pow(1-float64(changed)/float64(scanned), each)
	return touched * pageBytes / (each * float64(changed) / float64(scanned))
}

// whole is what is to be carried out.
type whole struct {
	rows     int64 // of what is walked
	matched  int64
	changes  int64
	old      bool          // rows that are written leave their old versions behind
	rowBytes int64         // of a row, 0 unknown
	hold     time.Duration // target
	listing  time.Duration // to find all rows that match, once
	commit   Commit
}

// Estimate is what a way would come to for the whole.
type Estimate struct {
	Seconds  float64 `json:"seconds"`
	Batches  int64   `json:"batches"`
	HoldMS   float64 `json:"hold_ms"`   // the longest
	LogBytes int64   `json:"log_bytes"` // -1 unknown
	Room     int64   `json:"room"`      // bytes of kept values; -1 unknown
	Dead     int64   `json:"dead_rows"` // old versions left behind; -1 unknown, or there is no such thing
}

// written is how many rows a way writes of the whole. One that keeps their values leaves those alone that
// would not change; others write all that match where that leaves old versions, elsewhere as many as the
// trials tell, which is of so many rows that they would go through.
func (w Way) written(tries []try, of int64, all whole) int64 {
	if w.Keep || all.matched <= all.changes {
		return all.changes
	}
	if all.old {
		return all.matched
	}
	rows, wrote := int64(0), int64(0)
	for _, t := range tries {
		rows, wrote = rows+t.rows, wrote+t.changed
	}
	return min(max(int64(float64(wrote)/float64(max(rows, 1))*float64(of)), all.changes), all.matched)
}

// estimate goes from a way's trials to the whole.
func (w Way) estimate(l Line, tries []try, all whole) (e Estimate) {
	rows := all.rows
	if w.Method == "roster" || w.Method == Rowwise {
		rows = max(all.matched, all.changes) // their keys are listed
	}
	// Few rows touch pages that many share.
	logRow, keptRow := known(large(tries), func(t try) float64 { return t.logBytes }), known(tries, func(t try) float64 { return t.keptBytes })
	e.LogBytes, e.Room, e.Dead = -1, -1, -1
	written := w.written(tries, rows, all)
	if all.old && !w.Yardstick {
		e.Dead = written
	}
	if logRow >= 0 {
		e.LogBytes = int64(logRow * float64(written))
	}
	if keptRow >= 0 {
		e.Room = int64(keptRow * float64(all.changes))
	} else if !w.Keep {
		e.Room = 0
	}
	bytesARow := max(logRow, 0) * float64(written) / float64(max(rows, 1))
	var largest int64
	switch w.Method {
	case "single":
		e.Batches, largest = 1, rows
	case Rowwise:
		e.Batches, largest = rows, 1
	default:
		workers := int64(w.Workers)
		each, most := pace.Batches(all.hold, 0, all.rowBytes, (rows+workers-1)/workers, (min(all.changes, rows)+workers-1)/workers, l.Row)
		e.Batches, largest = each*workers, most
	}
	batches := float64(e.Batches)
	work := batches * l.each(float64(rows)/max(batches, 1), w.Workers)
	commits := batches*float64(all.commit.Each) + bytesARow*float64(rows)*all.commit.Byte
	if w.Method == "roster" {
		work += float64(all.listing)
	}
	// Several workers were timed beside each other: a row's cost is that of one of them.
	e.Seconds = (work + commits) / float64(w.Workers) / float64(time.Second)
	hold := float64(l.Batch) + float64(largest)*float64(l.Row) + float64(all.commit.Each) + bytesARow*float64(largest)*all.commit.Byte
	e.HoldMS = hold / float64(time.Millisecond)
	return e
}
