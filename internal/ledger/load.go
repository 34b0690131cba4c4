package ledger

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// Runs as they are read back.

const runColumns = `r.id, r.title, r.reason, coalesce(r.undo_of, 0), r.source_name, r.source_text, r.source_sql, r.params, r.digest, r.options, r.status, r.error, r.version,
	r.os_user, r.db_user, r.host, r.pid, r.holder, r.heartbeat, r.started_at, r.ended_at, coalesce((SELECT max(u.id) FROM @run u WHERE u.undo_of = r.id), 0)`

func scanRun(row interface{ Scan(...any) error }) (*Run, error) {
	r := &Run{}
	var params, options string
	var isSQL int
	var beat, start, end moment
	err := row.Scan(&r.ID, &r.Title, &r.Reason, &r.UndoOf, &r.Source.Name, &r.Source.Text, &isSQL, &params, &r.Digest, &options, &r.Status, &r.Error, &r.Version,
		&r.OSUser, &r.DBUser, &r.Host, &r.PID, &r.holder, &beat, &start, &end, &r.UndoneBy)
	if err != nil {
		return nil, err
	}
	r.Source.SQL = isSQL == 1
	r.heartbeat, r.StartedAt, r.EndedAt = beat.Time, start.Time, end.Time
	if err := json.Unmarshal([]byte(params), &r.Params); err != nil {
		return nil, fmt.Errorf("run %d: parameters in the ledger: %w", r.ID, err)
	}
	if err := json.Unmarshal([]byte(options), &r.Options); err != nil {
		return nil, fmt.Errorf("run %d: options in the ledger: %w", r.ID, err)
	}
	return r, nil
}

// Load reads one run with its steps.
func (l *Ledger) Load(ctx context.Context, id int64) (*Run, error) {
	if ok, err := l.Exists(ctx); err != nil {
		return nil, err
	} else if !ok {
		return nil, ErrNone
	}
	r, err := scanRun(l.db.Pool().QueryRowContext(ctx, l.read("SELECT "+runColumns+" FROM @run r WHERE r.id = ?"), id))
	if errors.Is(err, sql.ErrNoRows) {
		return nil, &engine.NotFoundError{What: fmt.Sprintf("run %d", id), Do: "`jugatum runs` lists them"}
	}
	if err != nil {
		return nil, err
	}
	pruned, err := l.prunings(ctx)
	if err != nil {
		return nil, err
	}
	return r, l.loadSteps(ctx, r, pruned)
}

// List reads all runs, the newest first, with their steps.
func (l *Ledger) List(ctx context.Context) ([]*Run, error) {
	if ok, err := l.Exists(ctx); err != nil || !ok {
		return nil, err
	}
	return l.runs(ctx, "ORDER BY r.id DESC")
}

// SameJob reads the runs of the same job with the same parameters, the newest
// first: those recorded under one of two digests.
func (l *Ledger) SameJob(ctx context.Context, digest, earlier string) ([]*Run, error) {
	if ok, err := l.Exists(ctx); err != nil || !ok {
		return nil, err
	}
	return l.runs(ctx, "WHERE r.digest IN (?, ?) AND r.undo_of IS NULL ORDER BY r.id DESC", digest, earlier)
}

// Unfinished reads the runs that could go on, the newest first.
func (l *Ledger) Unfinished(ctx context.Context) ([]*Run, error) {
	if ok, err := l.Exists(ctx); err != nil || !ok {
		return nil, err
	}
	return l.runs(ctx, "WHERE r.status <> ? ORDER BY r.id DESC", Done)
}

// Touched reports whether a run has changed rows of a table.
func (r *Run) Touched(schema, table string) bool {
	return slices.ContainsFunc(r.Steps, func(st *Step) bool {
		if st.TableSchema == schema && st.TableName == table && st.Totals.Changed > 0 {
			return true
		}
		return slices.ContainsFunc(st.Acts, func(a *Act) bool { return a.TableSchema == schema && a.TableName == table && a.Changed > 0 })
	})
}

func (l *Ledger) runs(ctx context.Context, rest string, args ...any) ([]*Run, error) {
	rows, err := l.db.Pool().QueryContext(ctx, l.read("SELECT "+runColumns+" FROM @run r "+rest), args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []*Run
	for rows.Next() {
		r, err := scanRun(rows)
		if err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	rows.Close()
	pruned, err := l.prunings(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range out {
		if err := l.loadSteps(ctx, r, pruned); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (l *Ledger) loadSteps(ctx context.Context, r *Run, pruned map[int64]*Pruned) error {
	r.Pruned = pruned[cmp.Or(r.UndoOf, r.ID)]
	rows, err := l.db.Pool().QueryContext(ctx, l.read(`SELECT s.n, s.name, s.verb, s.table_schema, s.table_name, s.key_columns, s.set_columns, s.method, s.kept_table, s.matched, s.to_change, s.table_rows, s.status, s.walk,
			b.batches, b.scanned, b.matched, b.changed, b.skipped, b.retries, b.set_aside, b.log_bytes, b.log_records, b.log_images, b.log_scope
		FROM @step s JOIN (SELECT st.n AS step, count(b.n) AS batches, coalesce(CAST(sum(b.scanned) AS {whole}), 0) AS scanned, CAST(coalesce(CASE WHEN min(b.matched) < 0 THEN -1 ELSE sum(b.matched) END, 0) AS {whole}) AS matched,
				coalesce(CAST(sum(b.changed) AS {whole}), 0) AS changed, coalesce(CAST(sum(b.skipped) AS {whole}), 0) AS skipped, coalesce(CAST(sum(b.retries) AS {whole}), 0) AS retries, coalesce(CAST(sum(b.set_aside) AS {whole}), 0) AS set_aside,
				coalesce(CAST(sum(b.log_bytes) AS {whole}), -1) AS log_bytes, coalesce(CAST(sum(b.log_records) AS {whole}), -1) AS log_records, coalesce(CAST(sum(b.log_images) AS {whole}), -1) AS log_images, coalesce(max(b.log_scope), '') AS log_scope
			FROM @step st LEFT JOIN @batch b ON b.run = st.run AND b.step = st.n WHERE st.run = ? GROUP BY st.n) AS b ON b.step = s.n
		WHERE s.run = ? ORDER BY s.n`), r.ID, r.ID)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		s := &Step{Pruned: r.Pruned != nil}
		var keys, cols, walk string
		t := &s.Totals
		if err := rows.Scan(&s.N, &s.Name, &s.Verb, &s.TableSchema, &s.TableName, &keys, &cols, &s.Method, &s.KeptTable, &s.Matched, &s.ToChange, &s.TableRows, &s.Status, &walk,
			&t.Batches, &t.Scanned, &t.Matched, &t.Changed, &t.Skipped, &t.Retries, &t.SetAside, &t.Log.Bytes, &t.Log.Records, &t.Log.Images, &t.Log.Scope); err != nil {
			return err
		}
		if s.KeptTable, s.PackedTable, err = l.keptTables(r, s.N, 0, s.KeptTable); err != nil {
			return err
		}
		s.walk, err = readWalk(walk)
		for _, x := range []error{err, json.Unmarshal([]byte(keys), &s.KeyColumns), json.Unmarshal([]byte(cols), &s.SetColumns)} {
			if x != nil {
				return fmt.Errorf("run %d, step %d: the ledger cannot be read: %w", r.ID, s.N, x)
			}
		}
		r.Steps = append(r.Steps, s)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	rows.Close()
	if err := l.loadActs(ctx, r); err != nil {
		return err
	}
	return l.loadLanes(ctx, r)
}

// errOrder says that acts are not numbered as they were recorded.
var errOrder = errors.New("there are others than were recorded")

// loadActs reads the acts of a run's steps, with what their batches have changed.
func (l *Ledger) loadActs(ctx context.Context, r *Run) error {
	rows, err := l.db.Pool().QueryContext(ctx, l.read("SELECT step, n, by_columns, verb, table_schema, table_name, key_columns, set_columns, kept_table, to_change FROM @act WHERE run = ? ORDER BY step, n"), r.ID)
	if err != nil {
		return err
	}
	defer rows.Close()
	found := false
	for rows.Next() {
		a := &Act{}
		var step int
		var by, keys, cols string
		if err := rows.Scan(&step, &a.N, &by, &a.Verb, &a.TableSchema, &a.TableName, &keys, &cols, &a.KeptTable, &a.ToChange); err != nil {
			return err
		}
		at := slices.IndexFunc(r.Steps, func(s *Step) bool { return s.N == step })
		if err := cmp.Or(json.Unmarshal([]byte(by), &a.By), json.Unmarshal([]byte(keys), &a.KeyColumns), json.Unmarshal([]byte(cols), &a.SetColumns)); err != nil || at < 0 || a.N != len(r.Steps[at].Acts)+1 {
			return fmt.Errorf("run %d, step %d, act %d: the ledger cannot be read: %v", r.ID, step, a.N, cmp.Or(err, errOrder))
		}
		if a.KeptTable, a.PackedTable, err = l.keptTables(r, step, a.N, a.KeptTable); err != nil {
			return err
		}
		found = true
		r.Steps[at].Acts = append(r.Steps[at].Acts, a)
	}
	if err := rows.Err(); err != nil || !found {
		return err
	}
	rows.Close()
	batches, err := l.db.Pool().QueryContext(ctx, l.read("SELECT step, acts FROM @batch WHERE run = ? AND acts <> ''"), r.ID)
	if err != nil {
		return err
	}
	defer batches.Close()
	for batches.Next() {
		var step int
		var text string
		var counts []int64
		if err := batches.Scan(&step, &text); err != nil {
			return err
		}
		at := slices.IndexFunc(r.Steps, func(s *Step) bool { return s.N == step })
		if err := json.Unmarshal([]byte(text), &counts); err != nil || at < 0 || len(counts) != len(r.Steps[at].Acts) {
			return fmt.Errorf("run %d, step %d: what its acts have changed cannot be read from the ledger: %v", r.ID, step, cmp.Or(err, errOrder))
		}
		for i, n := range counts {
			r.Steps[at].Acts[i].Changed += n
		}
	}
	return batches.Err()
}

// keptName is how the name of a kept-values table ends: with the numbers of run and step,
// and of an act.
var keptName = regexp.MustCompile("(kept|packed)_([0-9]+)_([0-9]+)(?:_([0-9]+))?[\"`]?$")

// keptTables names the tables of the kept values of a step, or of one of its acts, by the
// numbers in the record: the text that stands there could be any SQL by now.
func (l *Ledger) keptTables(r *Run, step, act int, written string) (kept, packed string, err error) {
	if written == "" {
		return "", "", nil
	}
	m := keptName.FindStringSubmatch(written)
	if m == nil {
		return "", "", fmt.Errorf("run %d, step %d: the ledger names %q for its kept values, which is no name that it would have given", r.ID, step, written)
	}
	run, err := strconv.ParseInt(m[2], 10, 64)
	if err != nil {
		return "", "", err
	}
	of, err := strconv.Atoi(m[3])
	if err != nil {
		return "", "", err
	}
	number, _ := strconv.Atoi(m[4]) // 0 without one
	if run != cmp.Or(r.UndoOf, r.ID) || r.UndoOf == 0 && of != step || number != act {
		return "", "", fmt.Errorf("run %d, step %d: the ledger names the kept values of another run for it (%s)", r.ID, step, written)
	}
	if kept = l.db.LedgerTable("kept_" + partName(run, of, act)); m[1] == "packed" {
		packed = l.db.LedgerTable("packed_" + partName(run, of, act))
	}
	return kept, packed, nil
}

// decodeKey reads a key of the ledger.
func decodeKey(s string) (change.KeyValue, error) {
	k, err := change.DecodeKey(s)
	if err != nil {
		return nil, fmt.Errorf("a key in the ledger cannot be read: %w", err)
	}
	return k, nil
}
