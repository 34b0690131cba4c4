package page

import (
	"encoding/json"
	"io"
	"math"

	"jugatum/internal/ledger"
	"jugatum/internal/timeline"
)

// runJSON is a run as JSON: what `show --json` tells, and what the page has besides.
type runJSON struct {
	*Run
	Consent  *ledger.Consent  `json:"consent,omitempty"`
	Resumed  []ledger.Resumed `json:"resumed,omitempty"`
	Settings []settingJSON    `json:"settings"`
	Timeline lineJSON         `json:"timeline"`
}

// settingJSON is one of the options that the run went by, in words.
type settingJSON struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// lineJSON is the run along its time; figures that nothing tells of are null.
type lineJSON struct {
	Seconds float64      `json:"seconds"`
	Width   float64      `json:"stretch_s"`
	At      []momentJSON `json:"stretches"`
	Marks   []markJSON   `json:"marks"`
}

type momentJSON struct {
	From        float64  `json:"from_s"`
	Rows        float64  `json:"changed"`
	Batches     int      `json:"batches"`
	RowsABatch  *float64 `json:"changed_a_batch"`
	LongestHold *float64 `json:"longest_hold_ms"`
	MedianHold  *float64 `json:"median_hold_ms"`
	LogBytes    float64  `json:"log_bytes"`
	LogARow     *float64 `json:"log_bytes_a_row"`
	Images      int64    `json:"full_page_images"`
	Waiters     *float64 `json:"most_waiters"`
	Lag         *float64 `json:"most_lag_ms"`
	Paused      float64  `json:"paused_s"`
	Retries     int64    `json:"retries"`
	SetAside    int64    `json:"set_aside"`
}

type markJSON struct {
	At   float64 `json:"at_s"`
	Text string  `json:"text"`
}

// JSON writes the runs.
func (p *Page) JSON(w io.Writer) error {
	out := struct {
		Schema int       `json:"schema"`
		Runs   []runJSON `json:"runs"`
	}{p.Runs[0].Schema, nil}
	for _, r := range p.Runs {
		x := runJSON{r, r.Options.Consent, resumed(r), []settingJSON{}, alongJSON(r.Line)}
		for _, o := range r.settings() {
			x.Settings = append(x.Settings, settingJSON{o[0], o[1]})
		}
		out.Runs = append(out.Runs, x)
	}
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	return e.Encode(out)
}

// resumed leaves out the seals, which tell a reader nothing.
func resumed(r *Run) (out []ledger.Resumed) {
	for _, x := range r.Options.Resumed {
		x.Seal = ""
		out = append(out, x)
	}
	return out
}

func alongJSON(t *timeline.Timeline) lineJSON {
	known := func(v float64) *float64 {
		if math.IsNaN(v) {
			return nil
		}
		return &v
	}
	x := lineJSON{t.Seconds, t.Width, []momentJSON{}, []markJSON{}}
	for _, m := range t.At {
		x.At = append(x.At, momentJSON{m.From, m.Rows, m.Batches, known(m.RowsABatch), known(m.LongestHold), known(m.MedianHold), m.LogBytes, known(m.LogARow), m.Images, known(m.MostWaiters), known(m.MostLag), m.Paused, m.Retries, m.SetAside})
	}
	for _, m := range t.Marks {
		x.Marks = append(x.Marks, markJSON{m.At, m.Text})
	}
	return x
}
