package ledger

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"testing"

	"jugatum/internal/change"
)

// key is the ledger's text of an integer key.
func key(n int) string {
	if n == 0 {
		return ""
	}
	return change.KeyValue{fmt.Sprint(n)}.Encode()
}

// TestWalkIsWhole: lanes divided again and again are all of the walk, and no
// longer are when one is missing, stands there twice, or begins or ends elsewhere.
func TestWalkIsWhole(t *testing.T) {
	rnd := rand.New(rand.NewPCG(1, 2))
	for range 300 {
		w := walk{Lanes: []stretch{{N: 1, To: key(1000)}}}
		for range rnd.IntN(6) {
			x := w.Lanes[rnd.IntN(len(w.Lanes))]
			var from, to int
			fmt.Sscanf(x.From, `["%d"]`, &from)
			fmt.Sscanf(x.To, `["%d"]`, &to)
			if to-from < 4 {
				continue
			}
			a := from + 1 + rnd.IntN(to-from-3)
			b := a + 1 + rnd.IntN(to-a-1)
			at := func(n int) change.KeyValue { return change.KeyValue{fmt.Sprint(n)} }
			next := len(w.Lanes) + 1
			w = w.divided(x.N, []*Lane{{N: next, Checkpoint: at(a), End: at(b)}, {N: next + 1, Checkpoint: at(b), End: at(to)}})
		}
		if !w.whole() {
			t.Fatalf("%+v is not whole", w)
		}
		i := rnd.IntN(len(w.Lanes))
		for what, do := range map[string]func(*walk){
			"missing":   func(w *walk) { w.Lanes = slices.Delete(w.Lanes, i, i+1) },
			"twice":     func(w *walk) { w.Lanes = append(w.Lanes, w.Lanes[i]) },
			"elsewhere": func(w *walk) { w.Lanes[i].From = key(1001 + rnd.IntN(5)) },
		} {
			damaged := walk{Lanes: slices.Clone(w.Lanes)}
			if what == "missing" && w.Lanes[i].To == key(1000) { // the seal, and the lane that is there, tell of the last one
				continue
			}
			if do(&damaged); len(w.Lanes) > 1 && damaged.whole() {
				t.Fatalf("lane %d %s: %+v of %+v is whole", i+1, what, damaged, w)
			}
		}
	}
	if nothing := (walk{Lanes: []stretch{{N: 1}}}); !nothing.whole() {
		t.Error("a walk of an empty table is not whole")
	}
}

// TestDoubts: whatever one place says otherwise than the others is seen.
func TestDoubts(t *testing.T) {
	made := func() *witness {
		return &witness{n: 1, status: Running, all: 5,
			walk: walk{Lanes: []stretch{{1, "", key(50)}, {2, key(50), key(90)}, {3, key(90), key(100)}}},
			lanes: []laneWitness{{n: 1, checkpoint: key(30), end: key(50), batches: 3, kept: 29, counted: 3, last: 3, keptTo: 29, here: 1},
				{n: 2, checkpoint: key(70), end: key(90), batches: 2, kept: KeptBase(2) + 7, counted: 2, last: 2, keptTo: KeptBase(2) + 7, here: 1},
				{n: 3, checkpoint: key(90), end: key(100), kept: KeptBase(3)}}}
	}
	if why := made().doubt(); why != "" {
		t.Fatal(why)
	}
	done := made()
	done.status = Done
	for i := range done.lanes {
		done.lanes[i].done = 1
	}
	if why := done.doubt(); why != "" {
		t.Fatal(why)
	}
	early := made() // of an earlier version
	early.walk.Lanes = nil
	if why := early.doubt(); why != "" {
		t.Fatal(why)
	}
	if why := (&witness{n: 1, status: "pending"}).doubt(); why != "" {
		t.Fatal(why)
	}
	for name, damage := range map[string]func(*witness){
		"status of the step": func(s *witness) { s.status = Done },
		"no status":          func(s *witness) { s.status = "runing" },
		"not begun":          func(s *witness) { s.status = "pending" },
		"batches of no lane": func(s *witness) { s.all++ },
		"no lanes":           func(s *witness) { s.lanes = nil },
		"walk's end":         func(s *witness) { s.walk.Lanes[2].To = key(95) },
		"walk's lane":        func(s *witness) { s.walk.Lanes = s.walk.Lanes[:2] },
	} {
		s := made()
		if damage(s); s.doubt() == "" {
			t.Errorf("%s: not seen", name)
		}
	}
	for i := range 3 {
		for name, damage := range map[string]func(*laneWitness){
			"number": func(x *laneWitness) { x.n = 7 }, "done": func(x *laneWitness) { x.done = 1 }, "end": func(x *laneWitness) { x.end = key(80) },
			"checkpoint": func(x *laneWitness) { x.checkpoint, x.here = key(20), 0 }, "batches": func(x *laneWitness) { x.batches++ }, "a batch is missing": func(x *laneWitness) { x.counted-- },
			"last batch": func(x *laneWitness) { x.last++ }, "kept": func(x *laneWitness) { x.kept-- }, "kept of a batch": func(x *laneWitness) { x.keptTo++ },
		} {
			s := made()
			if x := &s.lanes[i]; x.batches == 0 && (name == "last batch" || name == "kept of a batch" || name == "a batch is missing") {
				continue // it has none
			}
			if damage(&s.lanes[i]); s.doubt() == "" {
				t.Errorf("lane %d, %s: not seen", i+1, name)
			}
		}
		s := made()
		if s.lanes = slices.Delete(s.lanes, i, i+1); s.doubt() == "" {
			t.Errorf("lane %d is missing: not seen", i+1)
		}
	}
}

// TestSealsHold: what a seal covers is written as it was by earlier versions, or
// their seals would not hold.
func TestSealsHold(t *testing.T) {
	l, s, _ := open(t)
	r := newRun(t, l, s)
	r.DBUser, r.Options.SealedFor = "clerk", "saltmere.db"
	text, err := l.Signed(r)
	if err != nil {
		t.Fatal(err)
	}
	const want = `{"Database":"saltmere.db","ID":1,"UndoOf":0,"Source":{"name":"x.toml","text":"text\n'quoted'","sql":false},"Params":{"p":{"type":"decimal","text":"1.50"}},"User":"clerk",` +
		`"Steps":[{"N":1,"Name":"one","Verb":"update","Schema":"","Table":"t","Keys":["id"],"Set":["a","b"],"Kept":true,"Packed":false},{"N":2,"Name":"two","Verb":"delete","Schema":"","Table":"t","Keys":["id"],"Set":null,"Kept":false,"Packed":false}]}`
	if string(text) != want {
		t.Errorf("of a record:\n got %s\nwant %s", text, want)
	}
	r.Steps[0].walk = walk{Lanes: []stretch{{1, "", key(50)}, {2, key(50), key(90)}}}
	text, _ = r.Steps[0].SignedWalk(r)
	const wantWalk = `{"Database":"saltmere.db","Run":1,"Step":1,"Walk":[{"n":1,"from":"","to":"[\"50\"]"},{"n":2,"from":"[\"50\"]","to":"[\"90\"]"}]}`
	if string(text) != wantWalk {
		t.Errorf("of a walk:\n got %s\nwant %s", text, wantWalk)
	}
	read, err := readWalk(r.Steps[0].walk.text(r, r.Steps[0]))
	if err != nil || !reflect.DeepEqual(read, r.Steps[0].walk) {
		t.Errorf("%+v %v", read, err)
	}
}
