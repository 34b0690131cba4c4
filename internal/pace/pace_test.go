package pace

import (
	"testing"
	"time"
)

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
	w.seen.Queue = 0.7 // our own node is near to holding them up
	for range 20 {
		w.step()
	}
	if got := w.sizes[len(w.sizes)-1]; got > full/4 {
		t.Errorf("with a long queue, batches still have %d of %d rows", got, full)
	}
}

func TestLogRateIsHeld(t *testing.T) {
	w := newWorld(Limits{LogRate: 5e6})
	begun := worldBegins
	for w.now.Sub(begun) < 5*time.Minute {
		w.step()
	}
	if rate := w.log / w.now.Sub(begun).Seconds(); rate > 5.2e6 || rate < 4.6e6 {
		t.Errorf("%.2f MB/s written, want 5", rate/1e6)
	}
	if d := w.p.Next(Pressure{Lag: NoLag, Now: w.now.Add(time.Hour)}); d.Pause != 0 {
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
		if d := p.Next(Pressure{Lag: NoLag, Now: at(c.now)}); (d.Rows == 0) != (c.opens > 0) || d.Pause > time.Minute {
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
