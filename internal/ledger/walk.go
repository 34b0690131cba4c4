package ledger

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"jugatum/internal/engine"
)

// A walk is how the keys of a step were divided into lanes. The lanes move on by
// themselves; the walk says whether all of them are still there, and end where
// they were to end. Without lanes it is of a step that has not begun, or that an
// earlier version began.
type walk struct {
	Lanes []stretch `json:"lanes"`
	Seal  string    `json:"seal,omitempty"`
}

// stretch is what a lane was made for: the keys after From, up to To.
type stretch struct {
	N    int    `json:"n"`
	From string `json:"from"` // as in the ledger; empty: from the beginning
	To   string `json:"to"`
}

func readWalk(text string) (w walk, err error) {
	if text != "" {
		err = json.Unmarshal([]byte(text), &w)
	}
	return w, err
}

// divided is the walk with new lanes, which have taken the end of lane n.
func (w walk) divided(n int, fresh []*Lane) walk {
	out := walk{Lanes: slices.Clone(w.Lanes)}
	for i := range out.Lanes {
		if out.Lanes[i].N == n {
			out.Lanes[i].To = fresh[0].Checkpoint.Encode()
		}
	}
	if len(out.Lanes) == 0 {
		return out
	}
	for _, x := range fresh {
		out.Lanes = append(out.Lanes, stretch{x.N, x.Checkpoint.Encode(), x.End.Encode()})
	}
	return out
}

// text writes the walk for the ledger, sealed if the run has somebody who does that.
func (w *walk) text(r *Run, st *Step) string {
	w.Seal = ""
	if r.Sealer != nil {
		w.Seal = r.Sealer(w.signed(r, st))
	}
	text, _ := json.Marshal(w)
	return string(text)
}

// signed is what the seal of a walk covers.
func (w *walk) signed(r *Run, st *Step) []byte {
	text, _ := json.Marshal(struct {
		Database string
		Run      int64
		Step     int
		Walk     []stretch
	}{r.Options.SealedFor, r.ID, st.N, w.Lanes})
	return text
}

// SignedWalk gives what the seal of a step's walk covers, and the seal.
func (st *Step) SignedWalk(r *Run) (record []byte, seal string) {
	return st.walk.signed(r, st), st.walk.Seal
}

// whole reports whether the lanes follow one another from the beginning on, each
// key in one of them.
func (w walk) whole() bool {
	from := map[string]stretch{}
	for _, x := range w.Lanes {
		from[x.From] = x
	}
	at, seen := "", 0
	for x, ok := from[at]; ok && seen < len(w.Lanes); x, ok = from[at] {
		at, seen = x.To, seen+1
		if at == "" { // nothing to do
			break
		}
	}
	return seen == len(w.Lanes) && len(from) == seen
}

// Coherent refuses a run of which the parts of the record do not agree, so that
// somebody has changed it: a lane that is missing, ends elsewhere, or stands where
// no batch of its has ended. To go on from there would change rows twice or pass
// rows by, and an undo would not come to all of them.
func (l *Ledger) Coherent(ctx context.Context, r *Run) error {
	// In one statement: the run may be at work.
	rows, err := l.db.Pool().QueryContext(ctx, l.read(`SELECT s.n, s.status, s.walk, coalesce(a.n, 0), coalesce(a.checkpoint, ''), coalesce(a.walk_end, ''), coalesce(a.batches, 0), coalesce(a.kept, 0), coalesce(a.done, 0),
			(SELECT count(*) FROM @batch b WHERE b.run = s.run AND b.step = s.n AND b.lane = a.n), (SELECT coalesce(max(b.n), 0) FROM @batch b WHERE b.run = s.run AND b.step = s.n AND b.lane = a.n),
			coalesce((SELECT b.kept_to FROM @batch b WHERE b.run = s.run AND b.step = s.n AND b.lane = a.n AND b.n = a.batches), 0),
			(SELECT count(*) FROM @batch b WHERE b.run = s.run AND b.step = s.n AND b.lane = a.n AND b.key_to = a.checkpoint),
			(SELECT count(*) FROM @batch b WHERE b.run = s.run AND b.step = s.n)
		FROM @step s LEFT JOIN @lane a ON a.run = s.run AND a.step = s.n WHERE s.run = ? ORDER BY s.n, a.n`), r.ID)
	if err != nil {
		return err
	}
	defer rows.Close()
	var steps []*witness
	for rows.Next() {
		var n int
		var status, text string
		var x laneWitness
		var all int64
		if err := rows.Scan(&n, &status, &text, &x.n, &x.checkpoint, &x.end, &x.batches, &x.kept, &x.done, &x.counted, &x.last, &x.keptTo, &x.here, &all); err != nil {
			return err
		}
		if len(steps) == 0 || steps[len(steps)-1].n != n {
			s := &witness{n: n, status: status, all: all}
			if s.walk, err = readWalk(text); err != nil {
				return fmt.Errorf("run %d, step %d: how its rows were divided cannot be read in the ledger: %w", r.ID, n, err)
			}
			steps = append(steps, s)
		}
		if x.n != 0 {
			s := steps[len(steps)-1]
			s.lanes = append(s.lanes, x)
		}
	}
	if err := rows.Err(); err != nil {
		return err
	}
	for _, s := range steps {
		if why := s.doubt(); why != "" {
			return &engine.UntrustedError{Msg: fmt.Sprintf("run %d, step %d: %s, so that somebody has changed the ledger; what the run kept is in its tables kept_%d_…, and docs/security.md says how to put it back by hand", r.ID, s.n, why, r.ID)}
		}
	}
	return nil
}

// witness is what the ledger says of a step in several places.
type witness struct {
	n      int
	status string
	walk   walk
	lanes  []laneWitness
	all    int64 // batches of the step, of whatever lane
}

type laneWitness struct {
	n               int
	checkpoint, end string
	batches, kept   int64
	done            int
	counted, last   int64 // batches on record, and the number of the last one
	keptTo          int64 // the number of the last kept row, by the last of them
	here            int64 // batches that end at the checkpoint
}

// doubt says where these do not agree, "" if they do.
func (s *witness) doubt() string {
	if s.status == "pending" {
		if len(s.lanes) > 0 || s.all > 0 || len(s.walk.Lanes) > 0 {
			return "it has not begun, and yet has lanes or batches"
		}
		return ""
	}
	if s.status != Running && s.status != Done {
		return fmt.Sprintf("its status is %q", s.status)
	}
	if len(s.lanes) == 0 {
		return "it has begun, and its lanes are missing"
	}
	if len(s.walk.Lanes) > 0 && (len(s.walk.Lanes) != len(s.lanes) || !s.walk.whole()) {
		return "its lanes are not those that were made"
	}
	batches := int64(0)
	for i, x := range s.lanes {
		batches += x.counted
		switch {
		case x.n != i+1:
			return fmt.Sprintf("lane %d is missing", i+1)
		case x.done != 0 != (s.status == Done):
			return fmt.Sprintf("lane %d and the step do not agree on whether they are done", x.n)
		case x.batches != x.last || x.batches != x.counted || x.batches > 0 && x.here == 0:
			return fmt.Sprintf("lane %d stands where none of its batches has ended", x.n)
		case x.batches > 0 && x.kept != x.keptTo, x.batches == 0 && x.kept != KeptBase(x.n):
			return fmt.Sprintf("lane %d tells another number of kept rows than its batches", x.n)
		}
		if len(s.walk.Lanes) == 0 {
			continue
		}
		at := slices.IndexFunc(s.walk.Lanes, func(w stretch) bool { return w.N == x.n })
		if at < 0 || s.walk.Lanes[at].To != x.end || x.batches == 0 && x.checkpoint != s.walk.Lanes[at].From {
			return fmt.Sprintf("lane %d is not as it was made", x.n)
		}
	}
	if batches != s.all {
		return "a lane is missing of which there are batches"
	}
	return ""
}
