package verdict

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
)

// Requirement is what must hold for a run to pass.
type Requirement struct {
	Key     string // as in the crowd file
	Text    string // the value as written there
	Proof   int    // 0 acknowledged, 1 received, 2 stored; -1: the share of proven messages
	Measure string // "share", "p50", "p90", "p99", "worst", "unmatched", "out_of_order", "lag_p99"
	Share   float64
	Limit   time.Duration
	Most    int
}

// Check is a requirement and whether it holds.
type Check struct {
	Key   string `json:"key"`
	Want  string `json:"want"`
	Got   string `json:"got"`
	Holds bool   `json:"holds"`
	// Unknown: not fulfilled, but a witness could not be heard.
	Unknown bool `json:"unknown,omitempty"`
}

// Check says which requirements hold. A run in which nothing was due fulfils no
// requirement of a share: nothing was shown.
func (r *Result) Check(list []Requirement) []Check {
	var checks []Check
	for _, q := range list {
		c := Check{Key: q.Key, Want: q.Text}
		switch q.Measure {
		case "share":
			good, all, unknown := r.Total[Proven], r.Total.Due(), r.Total[Unknown]
			if q.Proof >= 0 {
				p := r.Proofs[q.Proof]
				good, all, unknown = p.Holds, p.Asked, p.Unknown
			}
			c.Got = ShareText(good, all)
			c.Holds = all > 0 && float64(good)*100 >= q.Share*float64(all)
			c.Unknown = !c.Holds && unknown > 0 && float64(good+unknown)*100 >= q.Share*float64(all)
		case "unmatched":
			c.Got, c.Holds = fmt.Sprint(r.UnmatchedCount), r.UnmatchedCount <= q.Most
		case "out_of_order":
			c.Got, c.Holds = fmt.Sprint(r.OutOfOrder), r.OutOfOrder <= q.Most
		case "lag_p99":
			c.Got, c.Holds = Span(r.Lag.P99), r.Lag.N > 0 && r.Lag.P99 <= q.Limit
		default:
			d := [3]Delays{r.Acknowledged, r.Received, r.Stored}[q.Proof]
			got := map[string]time.Duration{"p50": d.P50, "p90": d.P90, "p99": d.P99, "worst": d.Worst}[q.Measure]
			c.Got, c.Holds = Span(got), d.N > 0 && got <= q.Limit
			if d.N == 0 {
				c.Got = "nothing to measure"
			}
		}
		checks = append(checks, c)
	}
	return checks
}

// ShareText is "99.83% (598 of 599)"; it says 100% only where that is exact.
func ShareText(good, all int) string {
	if all == 0 {
		return "none of none"
	}
	p := 100 * float64(good) / float64(all)
	// Cut, not rounded: 99.996 % is not 100 %.
	text := strconv.FormatFloat(math.Floor(p*100)/100, 'f', 2, 64)
	text = strings.TrimSuffix(strings.TrimRight(text, "0"), ".")
	return fmt.Sprintf("%s%% (%d of %d)", text, good, all)
}

// Span is a time in three figures or so: "1.25ms", "250ms", "3.2s".
func Span(d time.Duration) string {
	switch a := d.Abs(); {
	case a >= 100*time.Second:
		return d.Round(time.Second).String()
	case a >= time.Second:
		return d.Round(10 * time.Millisecond).String()
	case a >= 10*time.Millisecond:
		return d.Round(100 * time.Microsecond).String()
	case a >= time.Millisecond:
		return d.Round(10 * time.Microsecond).String()
	}
	return d.Round(time.Microsecond).String()
}
