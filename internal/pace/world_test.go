package pace

import (
	"math/rand/v2"
	"slices"
	"testing"
	"time"
)

// world is a made-up database under load, in virtual time: rows cost more or
// less, other sessions come and wait, a replica replays what is written at a
// rate of its own.
type world struct {
	r       *rand.Rand
	p       Pacer
	now     time.Time
	perRow  func(now time.Time) time.Duration
	waiting func(now time.Time, hold time.Duration) int
	replay  func(now time.Time) float64 // bytes a second that the replica can take; nil: there is none

	rows           int64
	log, replayed  float64 // bytes
	track          LagTrack
	holds          []time.Duration
	sizes          []int
	looked         time.Time
	seen           Pressure
	lag, worst     time.Duration // of the replica, by its age
	idle           time.Duration
	bigger, swings int // the last batch was larger than the one before; changes of direction of more than a tenth
}

var worldBegins = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)

func newWorld(limits Limits) *world {
	w := &world{r: rand.New(rand.NewPCG(5, 5)), now: worldBegins, seen: Pressure{Lag: NoLag}}
	w.p = Pacer{Sizer: Sizer{Target: 200 * time.Millisecond}, Limits: limits}
	w.perRow = func(time.Time) time.Duration { return 8 * time.Microsecond }
	return w
}

// pass lets time go by.
func (w *world) pass(d time.Duration) {
	w.now = w.now.Add(d)
	if w.replay != nil {
		w.replayed = min(w.replayed+w.replay(w.now)*d.Seconds(), w.log)
	}
}

// look is what the onlooker does beside the batches.
func (w *world) look() {
	w.looked = w.now
	w.seen.Sample++
	if w.replay != nil {
		w.seen.Lag = w.track.Look(w.now, int64(w.log), int64(w.replayed))
		w.lag = w.seen.Lag.Age
		w.worst = max(w.worst, w.lag)
	}
	if w.waiting != nil {
		w.seen.Waiters = w.waiting(w.now, w.p.hold)
	}
}

// step makes one decision and carries it out; it gives the rows of the batch.
func (w *world) step() int {
	if w.now.Sub(w.looked) >= 250*time.Millisecond {
		w.look()
	}
	s := w.seen
	s.Now = w.now
	d := w.p.Next(s)
	w.pass(d.Pause)
	w.idle += d.Pause
	if d.Rows == 0 {
		return 0
	}
	work := 2*time.Millisecond + time.Duration(float64(d.Rows)*float64(w.perRow(w.now))*(0.8+0.4*w.r.Float64()))
	commit := time.Duration(1+w.r.IntN(4)) * time.Millisecond
	w.pass(work + commit)
	bytes := int64(d.Rows) * 400
	w.log += float64(bytes)
	w.p.Finished(d.Rows, d.Rows, work, commit, bytes, w.now)
	w.rows += int64(d.Rows)
	if n := len(w.sizes); n > 0 {
		way := 0
		if d.Rows > w.sizes[n-1]*11/10 {
			way = 1
		} else if d.Rows < w.sizes[n-1]*10/11 {
			way = -1
		}
		if way != 0 && way == -w.bigger {
			w.swings++
		}
		w.bigger = way
	}
	w.holds, w.sizes = append(w.holds, work+commit), append(w.sizes, d.Rows)
	return d.Rows
}

func (w *world) p99() time.Duration {
	s := slices.Sorted(slices.Values(w.holds))
	return s[len(s)*99/100]
}

// TestTenBillionRows of virtual time, with hours in which everything is four
// times as slow, and spikes in between.
func TestTenBillionRows(t *testing.T) {
	w := newWorld(Limits{})
	w.perRow = func(now time.Time) time.Duration {
		cost := 8 * time.Microsecond
		if now.Sub(worldBegins)%(2*time.Hour) > time.Hour {
			cost *= 4
		}
		if w.r.IntN(500) == 0 { // somebody's report has the disk
			cost *= 2
		}
		return cost
	}
	for w.rows < 10_000_000_000 {
		w.step()
	}
	if got := w.p99(); got > 200*time.Millisecond {
		t.Errorf("99th percentile of the hold is %v", got)
	}
	if w.idle > 0 {
		t.Errorf("it was idle for %v though nobody was in the way", w.idle)
	}
	t.Logf("%d batches, p99 %v, in %v", len(w.holds), w.p99(), w.now.Sub(worldBegins))
}

// trouble is something that comes over the world again and again.
type trouble struct {
	name         string
	every, first time.Duration
	lasts        time.Duration
}

func (x trouble) on(now time.Time) bool {
	since := now.Sub(worldBegins) - x.first
	return since >= 0 && since%x.every < x.lasts
}

// TestDaysUnderLoad: all limits at once, over days in which sessions come across
// our batches, the replica is slow, a report on it keeps it from replaying at
// all, and another one makes every row dearer. Afterwards batches are back to
// their size within as many batches as docs/pace.md states.
func TestDaysUnderLoad(t *testing.T) {
	const lag = 5 * time.Second
	none := 0
	w := newWorld(Limits{Waiters: &none, Lag: lag, LogRate: 60e6})
	spike := trouble{"others wait", 17 * time.Minute, 5 * time.Minute, 8 * time.Second}
	slow := trouble{"a slow replica", time.Hour, 20 * time.Minute, 4 * time.Minute}
	stuck := trouble{"a report on the replica", 3 * time.Hour, 95 * time.Minute, 7 * time.Minute}
	report := trouble{"a report beside us", 2 * time.Hour, 50 * time.Minute, 10 * time.Minute}
	w.perRow = func(now time.Time) time.Duration {
		if report.on(now) {
			return 20 * time.Microsecond
		}
		return 8 * time.Microsecond
	}
	w.replay = func(now time.Time) float64 {
		switch {
		case stuck.on(now):
			return 0
		case slow.on(now):
			return 6e6 // a tenth of what the limit would let us write
		}
		return 80e6
	}
	w.waiting = func(now time.Time, hold time.Duration) int {
		if spike.on(now) && hold > 10*time.Millisecond {
			return 1 + w.r.IntN(4)
		}
		return 0
	}
	const back, looks = 300, 20 // to recover within, as docs/pace.md states
	inTrouble, usual, since, from := "", 0, back, int64(0)
	var recovered, most, swings, calm int
	var longest int64
	var worst time.Duration // of the lag, but for the report that keeps the replica from replaying
	halted := false
	for w.rows < 2_000_000_000 {
		before := w.swings
		rows := w.step()
		now := ""
		for _, x := range []trouble{spike, slow, stuck, report} {
			if x.on(w.now) {
				now = x.name
			}
		}
		if halted = stuck.on(w.now) || halted && w.lag > 0; !halted {
			worst = max(worst, w.lag)
		}
		switch {
		case now != "" || inTrouble != "" && w.lag > 0: // what the replica still lacks is part of it
			if inTrouble == "" {
				inTrouble, usual = now, w.sizes[len(w.sizes)-1]
			}
			since, from = 0, w.seen.Sample
		case since < back:
			inTrouble = ""
			if rows > 0 {
				since++
			}
			if rows >= usual*3/4 {
				recovered++
				most, longest = max(most, since), max(longest, w.seen.Sample-from)
				since = back
			} else if since == back {
				t.Fatalf("at %v, %d batches after the trouble: %d rows, before it %d", w.now.Sub(worldBegins), since, rows, usual)
			}
		default:
			calm++
			swings += w.swings - before
		}
	}
	if got := w.p99(); got > 200*time.Millisecond {
		t.Errorf("99th percentile of the hold is %v", got)
	}
	if worst > lag+500*time.Millisecond {
		t.Errorf("the replica was up to %v behind", worst)
	}
	if recovered < 20 || longest > looks {
		t.Errorf("%d times out of trouble, within up to %d looks", recovered, longest)
	}
	if swings > calm/1000 {
		t.Errorf("%d swings in %d quiet batches", swings, calm)
	}
	t.Logf("%d batches in %v, p99 %v, at most %v behind, %d recoveries within at most %d batches and %d looks, %d swings in %d quiet batches", len(w.holds), w.now.Sub(worldBegins), w.p99(), worst, recovered, most, longest, swings, calm)
}

// TestReplicaStaysWithinItsLag, however much slower it is than we could write;
// and it is kept busy.
func TestReplicaStaysWithinItsLag(t *testing.T) {
	for _, rate := range []float64{40e6, 25e6, 10e6, 5e6, 1.5e6} {
		for _, limit := range []time.Duration{500 * time.Millisecond, 2 * time.Second, 30 * time.Second} {
			w := newWorld(Limits{Lag: limit})
			w.replay = func(time.Time) float64 { return rate }
			for w.now.Sub(worldBegins) < 20*time.Minute {
				w.step()
			}
			// One look and one batch beyond the limit pass before it is noticed.
			batch := time.Duration(float64(slices.Max(w.sizes)) * 400 / rate * float64(time.Second))
			if most := limit + 2*lagLook + batch; w.worst > most {
				t.Errorf("at %.1f MB/s, with a limit of %v: it fell %v behind, more than %v", rate/1e6, limit, w.worst, most)
			}
			written := w.log / w.now.Sub(worldBegins).Seconds()
			if written < 0.85*min(rate, 40e6) {
				t.Errorf("at %.1f MB/s, with a limit of %v: only %.1f MB/s were written", rate/1e6, limit, written/1e6)
			}
			t.Logf("%.1f MB/s, limit %v: %.1f MB/s written, at most %v behind", rate/1e6, limit, written/1e6, w.worst)
		}
	}
}

// TestGoesOnBesideOthersLag: a replica that is kept behind, within the limit, by
// something else than us does not bring the run to a halt.
func TestGoesOnBesideOthersLag(t *testing.T) {
	w := newWorld(Limits{Lag: 5 * time.Second})
	w.replay = func(time.Time) float64 { return 30e6 }
	w.log, w.replayed = 30e6*4, 0 // four seconds behind,
	for w.now.Sub(worldBegins) < 10*time.Minute {
		if w.log-w.replayed < 30e6*4 { // and others see to it that it stays so
			w.log = w.replayed + 30e6*4
		}
		w.step()
	}
	if rate := float64(w.rows) * 400 / 600; rate < 3e6 {
		t.Errorf("beside others' lag only %.1f MB/s of ours were written", rate/1e6)
	}
	if w.worst > 5500*time.Millisecond {
		t.Errorf("it fell %v behind", w.worst)
	}
	t.Logf("%.1f MB/s of ours, at most %v behind", float64(w.rows)*400/600/1e6, w.worst)
}
