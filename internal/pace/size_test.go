package pace

import (
	"math/rand/v2"
	"testing"
	"time"
)

// drive lets a sizer run against a made-up database and gives the holds.
func drive(s *Sizer, batches int, cost func(batch, rows int) (work, commit time.Duration)) (sizes []int, holds []time.Duration) {
	for i := 0; i < batches; i++ {
		n := s.Next()
		work, commit := cost(i, n)
		s.Done(n, n, work, commit)
		sizes, holds = append(sizes, n), append(holds, work+commit)
	}
	return sizes, holds
}

func TestFindsItsSizeWithinAFewBatches(t *testing.T) {
	s := &Sizer{Target: 200 * time.Millisecond}
	sizes, holds := drive(s, 12, func(_, n int) (time.Duration, time.Duration) {
		return time.Millisecond + time.Duration(n)*8*time.Microsecond, 2 * time.Millisecond
	})
	if sizes[0] != First {
		t.Errorf("it starts with %d rows", sizes[0])
	}
	for i := 6; i < len(sizes); i++ {
		if holds[i] < 60*time.Millisecond || holds[i] > 200*time.Millisecond {
			t.Errorf("batch %d holds %v with %d rows", i, holds[i], sizes[i])
		}
	}
}

// TestHoldStaysWithinTheTarget simulates rows of uneven cost, a disk that now
// and then is slow, and a table that gets dearer in the middle.
func TestHoldStaysWithinTheTarget(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 3))
	s := &Sizer{Target: 200 * time.Millisecond}
	_, holds := drive(s, 2000, func(i, n int) (time.Duration, time.Duration) {
		perRow := 5 * time.Microsecond
		if i > 1000 {
			perRow = 20 * time.Microsecond
		}
		work := time.Duration(float64(n) * float64(perRow) * (0.7 + 0.6*r.Float64()))
		commit := time.Duration(1+r.IntN(8)) * time.Millisecond
		return work, commit
	})
	over := 0
	for _, h := range holds {
		if h > 200*time.Millisecond {
			over++
		}
	}
	if over > len(holds)/100 {
		t.Errorf("%d of %d holds are above the target", over, len(holds))
	}
}

// TestReliesOnSteadyCosts: where batches take what was reckoned, they come to
// fill two thirds of the target; one that does not takes that back at once, and
// for as many batches as are watched.
func TestReliesOnSteadyCosts(t *testing.T) {
	s := &Sizer{Target: 200 * time.Millisecond}
	slow := 200
	_, holds := drive(s, 400, func(i, n int) (time.Duration, time.Duration) {
		work := time.Millisecond + time.Duration(n)*8*time.Microsecond
		if i == slow {
			work *= 3
		}
		return work, 8 * time.Millisecond
	})
	mean := func(from, to int) time.Duration {
		var sum time.Duration
		for _, h := range holds[from:to] {
			sum += h
		}
		return sum / time.Duration(to-from)
	}
	for _, c := range []struct {
		from, to    int
		least, most time.Duration
	}{
		{8, 16, 60 * time.Millisecond, 90 * time.Millisecond},
		{60, slow, 115 * time.Millisecond, 135 * time.Millisecond},
		{slow + Memory + 1, slow + watched, 60 * time.Millisecond, 90 * time.Millisecond},
		{slow + watched + 40, 400, 115 * time.Millisecond, 135 * time.Millisecond},
	} {
		if got := mean(c.from, c.to); got < c.least || got > c.most {
			t.Errorf("batches %d to %d hold %v, not %v to %v", c.from, c.to, got, c.least, c.most)
		}
	}
	for i, h := range holds {
		if i != slow && h > s.Target {
			t.Errorf("batch %d holds %v", i, h)
		}
	}
	before := s.Next()
	p := Pacer{Sizer: *s}
	p.Next(Pressure{Sample: 1, Waiters: 1, Lag: NoLag})
	p.Finished(before, before, 120*time.Millisecond, 8*time.Millisecond, -1, time.Time{})
	if got := p.Sizer.Next(); got > before*3/4 {
		t.Errorf("others wait, and batches are as large as before: %d, %d rows", before, got)
	}
	// Where a commit costs next to nothing, there is no use in longer holds.
	cheap := &Sizer{Target: 200 * time.Millisecond}
	if _, holds = drive(cheap, 300, func(_, n int) (time.Duration, time.Duration) {
		return time.Duration(n) * 8 * time.Microsecond, 500 * time.Microsecond
	}); mean(250, 300) > 90*time.Millisecond {
		t.Errorf("batches with a cheap commit hold %v", mean(250, 300))
	}
}

func TestDoesNotOscillate(t *testing.T) {
	s := &Sizer{Target: 100 * time.Millisecond}
	sizes, _ := drive(s, 60, func(_, n int) (time.Duration, time.Duration) { return time.Duration(n) * 10 * time.Microsecond, 0 })
	for i := 20; i < 60; i++ {
		if d := sizes[i] - sizes[i-1]; d > sizes[i]/20 || -d > sizes[i]/20 {
			t.Fatalf("batch %d: from %d to %d rows", i, sizes[i-1], sizes[i])
		}
	}
}

func TestBounds(t *testing.T) {
	fixed := &Sizer{Target: time.Second, Fixed: 7}
	fixed.Done(7, 7, time.Hour, time.Hour)
	if fixed.Next() != 7 {
		t.Errorf("a fixed size became %d", fixed.Next())
	}
	slow := &Sizer{Target: time.Millisecond}
	sizes, _ := drive(slow, 200, func(_, n int) (time.Duration, time.Duration) {
		return time.Duration(n) * time.Second, time.Millisecond
	})
	more := 0
	for _, n := range sizes[10:] {
		if n > 2 {
			t.Fatalf("hopelessly slow rows: batches of %v", sizes)
		}
		more += n - 1
	}
	if more > 6 {
		t.Errorf("hopelessly slow rows: %d of 190 batches have more than one", more)
	}
	// Where every batch costs the same whatever its rows, small ones help nobody.
	laden := &Sizer{Target: 10 * time.Millisecond}
	sizes, _ = drive(laden, 200, func(_, n int) (time.Duration, time.Duration) {
		return 12*time.Millisecond + time.Duration(n)*10*time.Microsecond, 15 * time.Millisecond
	})
	for _, n := range sizes[60:] {
		if n < 100 || n > 1500 {
			t.Fatalf("a batch costs 27 ms without a row, and 10 µs a row: batches of %v", sizes)
		}
	}
	quick := &Sizer{Target: time.Hour}
	drive(quick, 50, func(_, n int) (time.Duration, time.Duration) { return 0, 0 })
	if quick.Next() != Most {
		t.Errorf("rows that cost nothing give batches of %d", quick.Next())
	}
	quick.Failed()
	if quick.Next() != Most/2 {
		t.Errorf("after a lock was in the way: %d", quick.Next())
	}
	quick.Done(0, 0, time.Hour, 0)
	if quick.Next() != Most/2 {
		t.Error("a batch without rows teaches something")
	}
}

// TestBusyMachine: every batch takes 2 to 9 ms longer than its rows do, at
// random, with a target of 10 ms. That says nothing about rows: batches must not
// shrink for it. Where rows do take long, they must stay few.
func TestBusyMachine(t *testing.T) {
	for _, c := range []struct {
		perRow      time.Duration
		least, most float64 // rows of a batch, on average
	}{
		{4 * time.Microsecond, 80, 2500}, {100 * time.Microsecond, 6, 100}, {5 * time.Millisecond, 1, 1.6}, {50 * time.Millisecond, 1, 1.2},
	} {
		for seed := range uint64(20) {
			r := rand.New(rand.NewPCG(seed, 8))
			s := &Sizer{Target: 10 * time.Millisecond}
			sizes, holds := drive(s, 600, func(_, n int) (time.Duration, time.Duration) {
				return time.Duration(2000+r.IntN(6000))*time.Microsecond + time.Duration(n)*c.perRow, time.Duration(200+r.IntN(1000)) * time.Microsecond
			})
			rows, over := 0, 0
			for i := 100; i < len(sizes); i++ {
				rows += sizes[i]
				if holds[i] > max(2*s.Target, 3*c.perRow) {
					over++
				}
			}
			mean := float64(rows) / 500
			if mean < c.least || mean > c.most {
				t.Errorf("a row takes %v: %.1f rows a batch, not %v to %v (seed %d)", c.perRow, mean, c.least, c.most, seed)
			}
			if over > 10 {
				t.Errorf("a row takes %v: %d of 500 batches hold more than %v (seed %d)", c.perRow, over, max(2*s.Target, 3*c.perRow), seed)
			}
		}
	}
}

// TestAnew: another step's rows may be a hundred times as dear as those before
// them, and wide ones begin with few; a batch that overshoots is the last that does.
func TestAnew(t *testing.T) {
	s := &Sizer{Target: 200 * time.Millisecond}
	cheap := func(_, n int) (time.Duration, time.Duration) {
		return time.Duration(n) * 4 * time.Microsecond, time.Millisecond
	}
	drive(s, 20, cheap)
	if s.Next() < 10_000 {
		t.Fatalf("batches of %d cheap rows", s.Next())
	}
	s.Anew(100)
	dear := func(_, n int) (time.Duration, time.Duration) {
		return time.Duration(n) * time.Millisecond, time.Millisecond
	}
	sizes, holds := drive(s, 20, dear)
	if sizes[0] != First {
		t.Errorf("the next step begins with %d rows", sizes[0])
	}
	for i, h := range holds[1:] {
		if h > 200*time.Millisecond {
			t.Errorf("batch %d of the next step holds %v", i+2, h)
		}
	}
	for bytes, want := range map[int64]int{0: First, 100: First, 1 << 20: 8, 45 << 20: 1} {
		if s.Anew(bytes); s.Next() != want {
			t.Errorf("rows of %d bytes begin with %d", bytes, s.Next())
		}
	}
	// Rows that turn a hundred times as dear from one batch to the next.
	s.Anew(0)
	drive(s, 20, cheap)
	sizes, holds = drive(s, 20, func(_, n int) (time.Duration, time.Duration) {
		return time.Duration(n) * 400 * time.Microsecond, time.Millisecond
	})
	for i, h := range holds[1:] {
		if h > 200*time.Millisecond {
			t.Errorf("batch %d after rows turned dear holds %v, with %d rows", i+2, h, sizes[i+1])
		}
	}
}
