package pace

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// With is l with one limit set from its text, as the job file, the command line
// and `tune` write it; "off" takes it away.
func (l Limits) With(name, text string) (Limits, error) {
	off := text == "off"
	var err error
	switch name {
	case "waiters":
		l.Waiters = nil
		if n := 0; !off {
			n, err = strconv.Atoi(text)
			if l.Waiters = &n; err != nil || n < 0 {
				err = fmt.Errorf("a number of sessions from 0 up, or off")
			}
		}
	case "lag":
		l.Lag = 0
		if !off {
			if l.Lag, err = time.ParseDuration(text); err != nil || l.Lag <= 0 {
				err = fmt.Errorf("a time such as 5s, or off")
			}
		}
	case "log_rate":
		l.LogRate = 0
		if !off {
			l.LogRate, err = rate(text)
		}
	case "window":
		l.Window = Window{}
		if !off {
			l.Window, err = ParseWindow(text)
		}
	default:
		err = fmt.Errorf("there is no such limit; there are hold, batch, workers, waiters, lag, log_rate and window")
	}
	return l, err
}

// ParseLimits reads limits from their texts by name.
func ParseLimits(texts map[string]string) (Limits, error) {
	var l Limits
	for name, text := range texts {
		var err error
		if l, err = l.With(name, text); err != nil {
			return l, fmt.Errorf("%s %s: %w", name, text, err)
		}
	}
	return l, nil
}

// rate reads bytes a second: "20MB/s", "512KB/s", "1GB/s". The units are powers of ten.
func rate(text string) (int64, error) {
	bad := fmt.Errorf("a rate such as 20MB/s, or off")
	s := strings.TrimSuffix(strings.ToUpper(strings.ReplaceAll(text, " ", "")), "/S")
	unit := 1.0
	for suffix, n := range map[string]float64{"KB": 1e3, "MB": 1e6, "GB": 1e9} {
		if strings.HasSuffix(s, suffix) {
			unit, s = n, strings.TrimSuffix(s, suffix)
			break
		}
	}
	if n, err := strconv.ParseFloat(s, 64); err == nil && unit == 1 && n > 0 {
		return 0, fmt.Errorf("%s of what? Write %sMB/s, %sKB/s or %sB/s", s, s, s, s)
	}
	n, err := strconv.ParseFloat(strings.TrimSuffix(s, "B"), 64)
	if err != nil || n*unit < 1 || n*unit > 1e15 {
		return 0, bad
	}
	return int64(n * unit), nil
}

// MostWorkers is more than any server is glad of.
const MostWorkers = 64

// ParseWorkers reads a number of workers.
func ParseWorkers(text string) (int, error) {
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 || n > MostWorkers {
		return 0, fmt.Errorf("expected a number from 1 to %d", MostWorkers)
	}
	return n, nil
}
