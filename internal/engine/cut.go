package engine

import (
	"context"
	"fmt"
	"strconv"

	"jugatum/internal/change"
)

// sampled is about how many rows a sample for cutting a table has; quantiles of
// as many are right to within about one in a hundred.
const sampled = 20_000

// Cut gives up to n-1 keys that part the rows after lo, up to end, into n parts
// of about equal size. An integer key is cut by arithmetic and nothing is read;
// otherwise a sample of the table is taken where the server has that; elsewhere the keys
// are counted through, once. rows is about how many there are.
func (w *Walk) Cut(ctx context.Context, lo, end change.KeyValue, rows int64, n int) ([]change.KeyValue, error) {
	if n < 2 || end == nil {
		return nil, nil
	}
	if w.t.Key.Integer {
		from, to, ok, err := w.span(ctx, lo, end)
		if ok || err != nil {
			return texts(CutInt(from, to, n)), err
		}
	}
	percent := 100.0
	if w.t.Rows > sampled {
		percent = max(100*sampled/float64(w.t.Rows), 0.001)
	}
	if sample := w.d.Sample(percent); sample != "" {
		return w.cutSample(ctx, sample, lo, end, n)
	}
	return w.cutCount(ctx, lo, end, int(rows)/n, n)
}

// span gives the integers between which a stretch lies, as far as they are.
func (w *Walk) span(ctx context.Context, lo, end change.KeyValue) (from, to int64, ok bool, err error) {
	if to, ok = end.Int(); !ok {
		return 0, 0, false, nil
	}
	if lo == nil {
		if lo, err = w.first(ctx); err != nil || lo == nil {
			return 0, 0, false, err
		}
	}
	from, ok = lo.Int()
	return from, to, ok, nil
}

// CutInt parts the integers after from, up to to, into at most n stretches of
// equal length.
func CutInt(from, to int64, n int) []change.KeyValue {
	width := uint64(to) - uint64(from) // right also where the difference does not fit int64
	var out []change.KeyValue
	for i := 1; i < n; i++ {
		// width/n*i + width%n*i/n: the same as width*i/n, without overflow
		step := width/uint64(n)*uint64(i) + width%uint64(n)*uint64(i)/uint64(n)
		at := int64(uint64(from) + step)
		if step == 0 || step >= width || len(out) > 0 && out[len(out)-1][0] == at {
			continue
		}
		out = append(out, change.KeyValue{at})
	}
	return out
}

// texts writes integer keys the way walks over tables have them.
func texts(keys []change.KeyValue) []change.KeyValue {
	for _, k := range keys {
		k[0] = strconv.FormatInt(k[0].(int64), 10)
	}
	return keys
}

// first is the first key of the table.
func (w *Walk) first(ctx context.Context) (change.KeyValue, error) {
	q := &change.Query{D: w.d}
	q.Add("SELECT ")
	w.keys(q)
	q.Add(" FROM ", w.t.SQL(w.d))
	w.order(q, "")
	q.Add(" LIMIT 1")
	return w.one(ctx, q)
}

// cutSample reads a sample and takes its quantiles.
func (w *Walk) cutSample(ctx context.Context, sample string, lo, end change.KeyValue, n int) ([]change.KeyValue, error) {
	alias := w.d.Quote(w.t.Name)
	q := &change.Query{D: w.d}
	q.Add("SELECT ")
	w.keys(q)
	q.Add(" FROM ", w.t.SQL(w.d), sample, " WHERE 1 = 1").Range(alias, w.t.Key, change.Range{Lo: lo, Hi: end})
	w.order(q, "")
	rows, err := w.db.QueryContext(ctx, q.String(), q.Args...)
	if err != nil {
		return nil, fmt.Errorf("taking a sample of %s: %w", w.t, err)
	}
	defer rows.Close()
	var all []change.KeyValue
	for rows.Next() {
		k := make(change.KeyValue, len(w.t.Key.Columns))
		into := make([]any, len(k))
		for i := range k {
			into[i] = &k[i]
		}
		if err := rows.Scan(into...); err != nil {
			return nil, err
		}
		w.Texts(k)
		all = append(all, k)
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	var out []change.KeyValue
	for i := 1; i < n; i++ {
		at := len(all) * i / n
		if at == 0 || at >= len(all) || all[at-1].Encode() == end.Encode() || len(out) > 0 && out[len(out)-1].Encode() == all[at-1].Encode() {
			continue
		}
		out = append(out, all[at-1])
	}
	return out, nil
}

// cutCount goes through the keys in stretches of size rows.
func (w *Walk) cutCount(ctx context.Context, lo, end change.KeyValue, size, n int) ([]change.KeyValue, error) {
	var out []change.KeyValue
	for size > 0 && len(out) < n-1 {
		r, _, err := w.Next(ctx, lo, end, size)
		if err != nil {
			return nil, err
		}
		if r.Hi.Encode() == end.Encode() {
			break
		}
		lo = r.Hi
		out = append(out, r.Hi)
	}
	return out, nil
}
