package tally

import (
	"fmt"
	"math"
	"runcrowd/internal/proof"
	"strconv"
	"strings"
	"time"

	"runcrowd/internal/verdict"
)

// Check says which requirements are met. A run in which nothing was due meets no
// requirement of a share: nothing was tested.
func (r *Result) Check(list []proof.Requirement) []proof.Check {
	var checks []proof.Check
	for _, q := range list {
		checks = append(checks, r.check(&q))
	}
	return checks
}

func (r *Result) check(q *proof.Requirement) proof.Check {
	c := proof.Check{Key: q.Key, Want: q.Text, State: proof.NotMet}
	met := false
	switch q.Measure {
	case proof.Share:
		good, all, unknown := r.Total[verdict.Proven], r.Total.Due(), r.Total[verdict.Unknown]
		if !q.Proven {
			p := r.Proofs[q.Proof]
			good, all, unknown = p.AsSent, p.Asked, p.Unknown+p.Open
		}
		c.Got = ShareText(good, all)
		met = all > 0 && float64(good)*100 >= q.Percent*float64(all)
		if !met && unknown > 0 && float64(good+unknown)*100 >= q.Percent*float64(all) {
			c.State = proof.Undecided
		}
	case proof.Unmatched:
		c.Got, met = fmt.Sprint(r.UnmatchedCount), r.UnmatchedCount <= q.Most
	case proof.OutOfOrder:
		c.Got, met = fmt.Sprint(r.OutOfOrder), r.OutOfOrder <= q.Most
	case proof.LagP99:
		c.Got, met = verdict.Span(r.Lag.P99), r.Lag.N > 0 && r.Lag.P99 <= q.Limit
	default:
		d := [...]Delays{r.Acknowledged, r.Received, r.Stored}[q.Proof]
		got := map[proof.Measure]time.Duration{proof.P50: d.P50, proof.P90: d.P90, proof.P99: d.P99, proof.Worst: d.Worst}[q.Measure]
		c.Got, met = verdict.Span(got), d.N > 0 && got <= q.Limit
		if d.N == 0 {
			c.Got = "nothing to measure"
		}
	}
	if met {
		c.State = proof.Met
	}
	return c
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
