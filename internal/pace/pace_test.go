package pace

import (
	"math/rand/v2"
	"sort"
	"strings"
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
	replay  float64 // bytes a second that the replica can take; 0 there is none
	behind  float64 // bytes
	rows    int64
	log     int64
	holds   []time.Duration
	sizes   []int
	whys    map[string]int
	looked  time.Time
	seen    Pressure
	lags    []time.Duration
	idle    time.Duration
}

func newWorld(limits Limits) *world {
	w := &world{r: rand.New(rand.NewPCG(5, 5)), now: time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC), whys: map[string]int{}, seen: Pressure{Lag: -1}}
	w.p = Pacer{Sizer: Sizer{Target: 200 * time.Millisecond}, Limits: limits}
	w.perRow = func(time.Time) time.Duration { return 8 * time.Microsecond }
	return w
}

// pass lets time go by.
func (w *world) pass(d time.Duration) {
	w.now = w.now.Add(d)
	w.behind = max(w.behind-w.replay*d.Seconds(), 0)
}

// step makes one decision and carries it out.
func (w *world) step() {
	if w.now.Sub(w.looked) >= 250*time.Millisecond {
		w.looked = w.now
		w.seen.Sample++
		if w.replay > 0 {
			w.seen.Lag = time.Duration(w.behind / w.replay * float64(time.Second))
			w.lags = append(w.lags, w.seen.Lag)
		}
		if w.waiting != nil {
			w.seen.Waiters = w.waiting(w.now, w.p.hold)
		}
	}
	s := w.seen
	s.Now = w.now
	d := w.p.Next(s)
	w.whys[strings.SplitN(d.Why, " ", 2)[0]]++
	w.pass(d.Pause)
	w.idle += d.Pause
	if d.Rows == 0 {
		return
	}
	work := 2*time.Millisecond + time.Duration(float64(d.Rows)*float64(w.perRow(w.now))*(0.8+0.4*w.r.Float64()))
	commit := time.Duration(1+w.r.IntN(4)) * time.Millisecond
	w.pass(work + commit)
	bytes := int64(d.Rows) * 400
	w.behind += float64(bytes)
	w.log += bytes
	w.p.Finished(d.Rows, work, commit, bytes, w.now)
	w.rows += int64(d.Rows)
	w.holds, w.sizes = append(w.holds, work+commit), append(w.sizes, d.Rows)
}

func (w *world) p99() time.Duration {
	s := append([]time.Duration(nil), w.holds...)
	sort.Slice(s, func(a, b int) bool { return s[a] < s[b] })
	return s[len(s)*99/100]
}

// TestTenBillionRows of virtual time, with hours in which everything is four
// times as slow, and spikes in between.
func TestTenBillionRows(t *testing.T) {
	w := newWorld(Limits{})
	begun := w.now
	w.perRow = func(now time.Time) time.Duration {
		cost := 8 * time.Microsecond
		if now.Sub(begun)%(2*time.Hour) > time.Hour {
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
	t.Logf("%d batches, p99 %v, in %v", len(w.holds), w.p99(), w.now.Sub(begun))
}

// TestEasesOffForWaiters and comes back within 20 looks once they are gone.
func TestEasesOffForWaiters(t *testing.T) {
	none := 0
	w := newWorld(Limits{Waiters: &none})
	for range 50 {
		w.step()
	}
	full := w.sizes[len(w.sizes)-1]
	from := w.now
	w.waiting = func(now time.Time, hold time.Duration) int { // they only come across long holds
		if now.Sub(from) < 20*time.Second && hold > 20*time.Millisecond {
			return 3
		}
		return 0
	}
	least := full
	for w.now.Sub(from) < 20*time.Second {
		w.step()
		least = min(least, w.sizes[len(w.sizes)-1])
	}
	if least > full/3 {
		t.Errorf("with others waiting, batches still have %d of %d rows", least, full)
	}
	if least < full/64-1 {
		t.Errorf("batches became too small: %d of %d rows", least, full)
	}
	w.waiting = nil
	w.seen.Waiters = 0
	looks := w.seen.Sample
	for w.sizes[len(w.sizes)-1] < full*8/10 {
		if w.step(); w.seen.Sample-looks > 20 {
			t.Fatalf("after 20 looks: %d of %d rows", w.sizes[len(w.sizes)-1], full)
		}
	}
	t.Logf("down to %d of %d rows, back within %d looks", least, full, w.seen.Sample-looks)
}

// TestReplicaStaysWithinItsLag: it replays at half the speed at which we could write.
func TestReplicaStaysWithinItsLag(t *testing.T) {
	const limit = 2 * time.Second
	w := newWorld(Limits{Lag: limit})
	w.replay = 20e6
	for len(w.holds) < 5000 {
		w.step()
	}
	worst := time.Duration(0)
	for _, l := range w.lags[20:] {
		worst = max(worst, l)
	}
	// One batch and one look beyond the limit can pass before it is noticed.
	if worst > limit+limit/2 {
		t.Errorf("the replica fell %v behind", worst)
	}
	if rate := float64(w.log) / w.now.Sub(time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)).Seconds(); rate < 0.9*w.replay {
		t.Errorf("only %.1f MB/s written, the replica could take %.1f", rate/1e6, w.replay/1e6)
	}
}

// TestEasesOffForACluster that holds writers up, without a limit being set.
func TestEasesOffForACluster(t *testing.T) {
	w := newWorld(Limits{})
	for range 50 {
		w.step()
	}
	full := w.sizes[len(w.sizes)-1]
	w.seen.HeldUp = 0.3
	for range 40 {
		w.step()
	}
	if got := w.sizes[len(w.sizes)-1]; got > full/8 || w.idle == 0 {
		t.Errorf("held up, batches still have %d of %d rows, after pauses of %v", got, full, w.idle)
	}
	w.seen.HeldUp = 0.01 // as ever
	for looks := w.seen.Sample; w.seen.Sample < looks+22; {
		w.step()
	}
	if got := w.sizes[len(w.sizes)-1]; got < full*8/10 {
		t.Errorf("afterwards: %d of %d rows", got, full)
	}
}

func TestLogRateIsHeld(t *testing.T) {
	w := newWorld(Limits{LogRate: 5e6})
	begun := w.now
	for w.now.Sub(begun) < 5*time.Minute {
		w.step()
	}
	if rate := float64(w.log) / w.now.Sub(begun).Seconds(); rate > 5.2e6 || rate < 4.6e6 {
		t.Errorf("%.2f MB/s written, want 5", rate/1e6)
	}
	if d := w.p.Next(Pressure{Lag: -1, Now: w.now.Add(time.Hour)}); d.Pause != 0 {
		t.Errorf("after an hour's rest it still pauses for %v", d.Pause)
	}
}

func TestWindow(t *testing.T) {
	at := func(clock string) time.Time {
		c, err := time.Parse("15:04", clock)
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	for _, c := range []struct {
		window, now string
		opens       time.Duration
	}{
		{"22:00-05:30", "23:10", 0}, {"22:00-05:30", "05:29", 0}, {"22:00-05:30", "05:30", 16*time.Hour + 30*time.Minute}, {"22:00-05:30", "21:59", time.Minute},
		{"09:00-17:00", "12:00", 0}, {"09:00-17:00", "08:00", time.Hour}, {"09:00-17:00", "18:00", 15 * time.Hour},
	} {
		w, err := ParseWindow(c.window)
		if err != nil || w.String() != c.window {
			t.Fatalf("%s: %v %v", c.window, w, err)
		}
		if got := w.Opens(at(c.now)); got != c.opens {
			t.Errorf("%s at %s opens in %v, want %v", c.window, c.now, got, c.opens)
		}
		p := Pacer{Sizer: Sizer{Target: time.Second}, Limits: Limits{Window: w}}
		if d := p.Next(Pressure{Lag: -1, Now: at(c.now)}); (d.Rows == 0) != (c.opens > 0) || d.Pause > time.Minute {
			t.Errorf("%s at %s: %+v", c.window, c.now, d)
		}
	}
	for _, bad := range []string{"", "22:00", "22:00-24:00", "22-05", "22:00-22:00", "22:00-05:30 UTC", "a"} {
		if _, err := ParseWindow(bad); err == nil {
			t.Errorf("%q is taken for a window", bad)
		}
	}
}

func TestLimitTexts(t *testing.T) {
	l, err := ParseLimits(map[string]string{"waiters": "2", "lag": "5s", "log_rate": "20MB/s", "window": "22:00-05:30"})
	if err != nil || *l.Waiters != 2 || l.Lag != 5*time.Second || l.LogRate != 20_000_000 || l.Window.From != 22*60 {
		t.Fatalf("%+v %v", l, err)
	}
	for name := range map[string]bool{"waiters": true, "lag": true, "log_rate": true, "window": true} {
		if l, err = l.With(name, "off"); err != nil {
			t.Error(err)
		}
	}
	if l != (Limits{}) {
		t.Errorf("%+v is left", l)
	}
	for _, bad := range [][2]string{{"waiters", "-1"}, {"waiters", "some"}, {"lag", "5"}, {"lag", "-5s"}, {"log_rate", "fast"}, {"log_rate", "0"}, {"window", "night"}, {"speed", "9"}} {
		if _, err := (Limits{}).With(bad[0], bad[1]); err == nil {
			t.Errorf("%s %s is accepted", bad[0], bad[1])
		}
	}
}
