package events

import (
	"errors"
	"fmt"
	"net"
	"net/http"
	"strings"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"jugatum/internal/runner"
)

// Metrics counts what happens, for whoever asks over HTTP in the OpenMetrics text format.
type Metrics struct {
	server   *http.Server
	address  string
	rows     *prometheus.CounterVec
	batches  prometheus.Counter
	hold     prometheus.Histogram
	log      prometheus.Counter
	retries  prometheus.Counter
	aside    prometheus.Counter
	waited   *prometheus.CounterVec
	waiting  prometheus.Gauge
	waiters  prometheus.Gauge
	lag      prometheus.Gauge
	left     prometheus.Gauge
	pausedS  prometheus.Counter
	progress prometheus.Gauge
	run      prometheus.Gauge
}

// Listen serves metrics of a run at an address: ":9310" is of this machine alone.
func Listen(address string) (*Metrics, error) {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, fmt.Errorf("%q is no address such as :9310 or 10.0.0.5:9310", address)
	}
	if host == "" {
		host = "127.0.0.1"
	}
	l, err := net.Listen("tcp", net.JoinHostPort(host, port))
	if err != nil {
		var op *net.OpError
		if errors.As(err, &op) {
			err = op.Err
		}
		return nil, fmt.Errorf("metrics cannot be served at %s: %w", net.JoinHostPort(host, port), err)
	}
	m := &Metrics{address: l.Addr().String()}
	reg := prometheus.NewRegistry()
	counter := func(name, help string) prometheus.Counter {
		c := prometheus.NewCounter(prometheus.CounterOpts{Namespace: "jugatum", Name: name, Help: help})
		reg.MustRegister(c)
		return c
	}
	gauge := func(name, help string) prometheus.Gauge {
		g := prometheus.NewGauge(prometheus.GaugeOpts{Namespace: "jugatum", Name: name, Help: help})
		reg.MustRegister(g)
		return g
	}
	counters := func(name, help, label string) *prometheus.CounterVec {
		c := prometheus.NewCounterVec(prometheus.CounterOpts{Namespace: "jugatum", Name: name, Help: help}, []string{label})
		reg.MustRegister(c)
		return c
	}
	m.rows = counters("rows_total", "Rows by what became of them: scanned, changed, skipped.", "what")
	m.batches = counter("batches_total", "Batches committed.")
	m.log = counter("log_bytes_total", "Log written by batches, as far as the database tells.")
	m.retries = counter("retries_total", "Batches that failed and were tried again.")
	m.aside = counter("set_aside_total", "Rows set aside.")
	m.waited = counters("wait_seconds_total", "Seconds waited: ours for others' locks, others' for ours as far as they were seen.", "who")
	m.pausedS = counter("paused_seconds_total", "Seconds that batches were held off, to ease off.")
	m.waiters = gauge("waiting_sessions", "Other sessions seen waiting on the run now.")
	m.waiting = gauge("holding_off", "1 while no batch is made: paused, or waiting for a limit.")
	m.lag = gauge("replica_lag_seconds", "Of the replica furthest behind; -1 unknown.")
	m.left = gauge("rows_left", "Rows of the step at work that are still to change, -1 not counted.")
	m.run = gauge("run", "The number of the run.")
	m.progress = gauge("step", "The step at work, from 1.")
	m.hold = prometheus.NewHistogram(prometheus.HistogramOpts{Namespace: "jugatum", Name: "hold_seconds", Help: "How long batches held their locks.", Buckets: prometheus.ExponentialBucketsRange(0.001, 10, 21)})
	reg.MustRegister(m.hold)
	mux := http.NewServeMux()
	mux.Handle("/metrics", promhttp.HandlerFor(reg, promhttp.HandlerOpts{EnableOpenMetrics: true}))
	m.server = &http.Server{Handler: mux, ReadHeaderTimeout: 5 * time.Second, ReadTimeout: 5 * time.Second, WriteTimeout: 10 * time.Second}
	go m.server.Serve(l)
	return m, nil
}

// Address is where they are served.
func (m *Metrics) Address() string { return m.address }

// Tell counts what happened.
func (m *Metrics) Tell(e runner.Event) {
	switch e.Kind {
	case runner.BatchDone:
		b := e.Batch
		m.batches.Inc()
		m.hold.Observe(b.Hold.Seconds())
		m.rows.WithLabelValues("scanned").Add(float64(max(b.Effect.Scanned, 0)))
		m.rows.WithLabelValues("changed").Add(float64(max(b.Effect.Changed, 0)))
		m.rows.WithLabelValues("skipped").Add(float64(b.Skipped))
		m.log.Add(float64(max(b.Effect.Log.Bytes, 0)))
		m.waited.WithLabelValues("ours").Add(b.LockWait.Seconds())
		m.pausedS.Add(b.Pause.Seconds())
		m.waiting.Set(0)
	case runner.Waiting:
		m.waiting.Set(1)
	case runner.Retrying:
		m.retries.Inc()
	case runner.AsideSet:
		m.aside.Inc()
	case runner.Waited:
		m.waited.WithLabelValues("others").Add(e.Wait.MS / 1000)
	}
}

// Progress takes over what changes without an event.
func (m *Metrics) Progress(p runner.Progress) {
	m.waiters.Set(float64(p.Waiters))
	m.run.Set(float64(p.Run))
	m.progress.Set(float64(p.Step))
	m.lag.Set(-1)
	if p.Lag >= 0 {
		m.lag.Set(p.Lag.Seconds())
	}
	m.left.Set(-1)
	if p.ToChange >= 0 {
		m.left.Set(float64(max(p.ToChange-p.Changed, 0)))
	}
}

// Close ends serving.
func (m *Metrics) Close() { m.server.Close() }

// Loopback reports whether an address is of this machine alone.
func Loopback(address string) bool {
	host, _, err := net.SplitHostPort(address)
	if err != nil || host == "" {
		return err == nil
	}
	ip := net.ParseIP(strings.Trim(host, "[]"))
	return host == "localhost" || ip != nil && ip.IsLoopback()
}
