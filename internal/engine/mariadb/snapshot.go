package mariadb

import (
	"cmp"
	"context"
	"database/sql"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/sqltext"
)

const (
	// apartFor is how many batches go another way after one has failed because
	// another session changed its rows: there are probably more to come.
	apartFor = 20

	// listed is how many keys one statement names. The planner gives up above
	// optimizer_max_sel_args, 16,000.
	listed = 2000

	// dense is above which share of the rows scanned, 1 in so many, a batch
	// goes by its range: looking up a row by its key costs as much as going over
	// a few.
	dense = 3

	// heldBytes is how much of kept values is held in memory at a time.
	heldBytes = 8 << 20
)

// snapshot works the new values out two times: reading, which takes no locks,
// to keep them, and by the statement itself. Both see the rows in the same
// state, or the server fails the second and the batch is done again in the way
// that locks rows first. So rows are locked only if they change, and no longer
// than it takes to change them. It reports whether the batch is done.
func (db *DB) snapshot(ctx context.Context, tx *engine.Tx, c *change.Change, kept *change.Kept, r change.Range, base int64) (bool, engine.Effect, error) {
	e := engine.Effect{Scanned: -1, Kept: base, Log: engine.NoLog}
	if c.Loaded { // of which WritesRows has decided
		return false, e, nil
	}
	ready, err := db.ready(ctx, tx, c, r.Walked(), func() bool {
		return kept.Packed != "" && c.Repeatable(pure) && restated(c)
	})
	if err != nil || !ready {
		return false, e, err
	}
	done, err := db.attempt(ctx, tx, c, func() (done bool, err error) {
		done = true
		for part := &r; part != nil && done && err == nil; {
			done, part, err = db.frozen(ctx, tx, c, kept, *part, &e)
		}
		return done, err
	})
	if done {
		tx.S.State.(*session).changed = e.Changed
	}
	return done, e, err
}

// ready reports whether this batch can rely on the transaction's snapshot, and
// has the next transaction keep one if its batch could. fit is asked once for
// each change, may for this batch.
func (db *DB) ready(ctx context.Context, tx *engine.Tx, c *change.Change, may bool, fit func() bool) (bool, error) {
	k := db.knows(c)
	k.Lock()
	if !k.asked {
		k.asked, k.again = true, db.snap && fit()
	}
	k.apart = max(k.apart-1, 0)
	able := k.again && may
	next := able && k.apart == 0
	k.Unlock()
	able = able && seen(tx).frozen
	if !able && seen(tx).kept >= 0 { // before the batch's turn, for the way that it cannot go any more
		return false, &engine.StaleError{}
	}
	return able, isolate(ctx, tx.S, next)
}

// attempt carries out a batch that relies on the snapshot. If it is not done,
// nothing of it is left, and the change goes another way from then on.
func (db *DB) attempt(ctx context.Context, tx *engine.Tx, c *change.Change, batch func() (bool, error)) (bool, error) {
	ahead := seen(tx).kept >= 0
	if _, err := tx.Exec(ctx, "SAVEPOINT jugatum_batch"); err != nil {
		return false, err
	}
	done, err := batch()
	switch {
	case err != nil:
		return false, db.stepAside(ctx, tx, c, err)
	case !done: // a value that is stored otherwise than we reckon
		db.knows(c).lockFirst()
		if ahead { // rows are kept already, before the savepoint
			return false, &engine.StaleError{}
		}
		_, err = tx.Exec(ctx, "ROLLBACK TO SAVEPOINT jugatum_batch")
	}
	return done, err
}

// stepAside has the batches that follow do without a snapshot if this one failed
// because of another session. It gives the error back.
func (db *DB) stepAside(ctx context.Context, tx *engine.Tx, c *change.Change, failed error) error {
	if failed == nil || db.Fault(failed) != engine.Busy {
		return failed
	}
	db.knows(c).stepAside()
	return cmp.Or(isolate(ctx, tx.S, false), failed)
}

// frozen keeps and changes the rows of r, or as many of them as memory is meant
// for; then it gives what is left. It is not done if the rows kept and those
// changed turn out not to be the same.
func (db *DB) frozen(ctx context.Context, tx *engine.Tx, c *change.Change, kept *change.Kept, r change.Range, e *engine.Effect) (bool, *change.Range, error) {
	v := seen(tx)
	if v.rows == nil || !v.r.Same(r) {
		if ok, err := db.look(ctx, tx, c, kept, r); err != nil || !ok {
			return false, nil, err
		}
	}
	x, scanned := v.rows, v.scanned
	v.rows = nil
	e.Scanned = max(e.Scanned, 0) + scanned
	e.Matched += x.matched
	part := r
	if x.last != nil {
		part.Hi = x.last
	}
	if n := x.keys.len(); n > 0 {
		var err error
		if e.Kept, err = v.flush(ctx, tx, x.packs, e.Kept); err != nil {
			return false, nil, err
		}
		var changed int64
		if int64(n)*dense > scanned {
			changed, err = db.carry(ctx, tx, c, part, nil)
		} else {
			// These rows are as they were when the filter was asked.
			changed, err = db.byKeys(ctx, tx, c.Known(), part, &x.keys)
		}
		if countsDiffer(err) {
			return false, nil, nil
		}
		if err != nil || changed != int64(n) {
			return false, nil, err
		}
		e.Changed += changed
	}
	if x.last == nil {
		return true, nil, nil
	}
	r.Lo = x.last
	return true, &r, nil
}

// byKeys changes the rows with these keys, by the statement itself.
func (db *DB) byKeys(ctx context.Context, tx *engine.Tx, c *change.Change, r change.Range, keys *keyList) (int64, error) {
	var sum int64
	for from := 0; from < keys.len(); from += listed {
		var list []change.KeyValue
		for i := from; i < min(from+listed, keys.len()); i++ {
			list = append(list, keys.at(i))
		}
		// The bounds are those of these keys, so that whatever the planner does, it stays within.
		r.Hi = list[len(list)-1]
		n, err := db.carry(ctx, tx, c, r, list)
		if err != nil {
			return sum, err
		}
		sum += n
		r.Lo = r.Hi
	}
	return sum, nil
}

// keyList is keys in little room: their texts one after the other.
type keyList struct {
	columns int
	text    []byte
	ends    []int // of each value
}

func (l *keyList) len() int {
	if l.columns == 0 {
		return 0
	}
	return len(l.ends) / l.columns
}

func (l *keyList) add(values []sql.RawBytes) {
	l.columns = len(values)
	for _, v := range values {
		l.text = append(l.text, v...)
		l.ends = append(l.ends, len(l.text))
	}
}

func (l *keyList) at(i int) change.KeyValue {
	key := make(change.KeyValue, l.columns)
	for c := range key {
		n, from := i*l.columns+c, 0
		if n > 0 {
			from = l.ends[n-1]
		}
		key[c] = string(l.text[from:l.ends[n]])
	}
	return key
}

// foreseen are the rows of a range that will change, as the snapshot has them.
type foreseen struct {
	matched int64
	keys    keyList // in their order
	packs   *packer
	last    change.KeyValue // the key to go on after; nil at the end
}

// foresee reads them, without locks. It reports false if one of them cannot be packed,
// or has several source rows.
func (db *DB) foresee(ctx context.Context, tx *engine.Tx, c *change.Change, kept *change.Kept, r change.Range) (foreseen, bool, error) {
	x := foreseen{packs: newPacker(kept)}
	q := &change.Query{D: d}
	q.Add("SELECT ")
	for i, k := range append(append([]change.KeptColumn(nil), kept.Keys...), kept.Old...) {
		if i > 0 {
			q.Add(", ")
		}
		q.Add(shown(k, c.Ref+"."+d.Quote(k.Of.Name)))
	}
	for i, k := range kept.New {
		value := &change.Query{D: d, Args: q.Args}
		value.NewValue(c, c.Set[i])
		q.Args = value.Args
		q.Add(", ", shown(k, stored(k.Of, value.String())))
	}
	q.Source(c, r).Add(" ORDER BY ").Columns(c.Ref, c.Table.Key.Columns)
	rows, err := tx.Query(ctx, q.String(), q.Args...)
	if err != nil {
		return x, false, err
	}
	defer rows.Close()
	values := make([]sql.RawBytes, len(columns(kept)))
	into := make([]any, len(values))
	for i := range values {
		into[i] = &values[i]
	}
	k, o := len(kept.Keys), len(kept.Old)
	before := make([][]byte, k) // the key of the row before
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return x, false, err
		}
		if !c.From.Empty() {
			if x.matched > 0 && equal(before, values[:k]) {
				return x, false, nil
			}
			if x.last != nil { // the row before, which was to be the last, has no other source row
				break
			}
			for i, v := range values[:k] {
				before[i] = append(before[i][:0], v...)
			}
		}
		x.matched++
		full := x.packs.bytes+len(x.keys.text)+8*len(x.keys.ends) > heldBytes
		if c.Verb == sqltext.Delete || differ(values[k:k+o], values[k+o:]) {
			for i, n := range kept.New {
				if len(values[k+o+i]) > room(n.Of) {
					return x, false, nil
				}
			}
			if !x.packs.add(values) {
				return x, false, nil
			}
			x.keys.add(values[:k])
		}
		if full {
			var last keyList
			last.add(values[:k])
			if x.last = last.at(0); c.From.Empty() {
				break
			}
		}
	}
	return x, true, rows.Err()
}

func equal(a [][]byte, b []sql.RawBytes) bool {
	for i := range a {
		if string(a[i]) != string(b[i]) {
			return false
		}
	}
	return true
}

func differ(a, b []sql.RawBytes) bool {
	for i := range a {
		if (a[i] == nil) != (b[i] == nil) || string(a[i]) != string(b[i]) {
			return true
		}
	}
	return false
}

// restated reports whether stored knows what becomes of a value in every column
// that is assigned.
func restated(c *change.Change) bool {
	for _, s := range c.Set {
		switch typeName(s.Column) {
		case "tinyint", "smallint", "mediumint", "int", "bigint", "decimal", "date", "time", "datetime", "char", "varchar", "tinytext", "text", "mediumtext",
			"longtext", "varbinary", "blob", "mediumblob", "longblob":
		default:
			return false
		}
	}
	return true
}

// stored is what the column holds once a value is assigned to it, if that goes
// without an error: rounded, in its character set, and without the spaces that
// do not fit.
func stored(col *change.Column, expr string) string {
	switch {
	case col.Binary:
		return expr
	case strings.HasPrefix(col.Type, "char("):
		return "TRIM(TRAILING ' ' FROM CONVERT(" + expr + " USING " + col.Base + "))"
	case strings.HasPrefix(col.Type, "varchar("):
		return "LEFT(CONVERT(" + expr + " USING " + col.Base + "), " + strings.TrimSuffix(strings.TrimPrefix(col.Type, "varchar("), ")") + ")"
	case col.Class == change.Text:
		return "CONVERT(" + expr + " USING " + col.Base + ")"
	}
	return "CAST(" + expr + " AS " + col.Base + ")"
}

// room is how many bytes of text, as the driver gives them, surely fit a column
// that cuts spaces off where they do not.
func room(col *change.Column) int {
	switch {
	case strings.HasPrefix(col.Type, "tinytext"):
		return 255
	case strings.HasPrefix(col.Type, "text"):
		return 65_535
	}
	return packLimit
}
