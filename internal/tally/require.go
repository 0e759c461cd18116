package tally

import (
	"fmt"
	"strings"

	"runcrowd/internal/decimal"
	"runcrowd/internal/proof"
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

// undone says which of some events was not carried out, and why; empty: none. Of a negative
// test, what makes it one counts: credentials, corruption, unregistering.
func (r *Result) undone(events []string, negative bool) string {
	for _, name := range events {
		done := false
		for i := range r.Actions {
			x := &r.Actions[i]
			if x.Event != name || negative && x.Kind != "credential" && x.Kind != "corrupt" && x.Kind != "unregister" {
				continue
			}
			if x.Failed > 0 {
				return fmt.Sprintf("the event %q could not be carried out for every device: %s", name, x.Why)
			}
			done = done || x.Times > 0
		}
		if !done {
			return fmt.Sprintf("the event %q was not carried out", name)
		}
	}
	return ""
}

func (r *Result) check(q *proof.Requirement) proof.Check {
	if q.Rounds.Name != "" {
		return r.checkRounds(q)
	}
	if q.Measure == proof.Alerts {
		return r.checkAlerts(q)
	}
	if q.Measure == proof.Counted {
		return r.checkCounted(q)
	}
	c := proof.Check{Key: q.Key, Want: q.Text, State: proof.NotMet}
	met := false
	switch q.Measure {
	case proof.Share:
		c.State, c.Got = share(q, &r.Total, r.Proofs)
		return c
	case proof.Unmatched:
		if c.Got, met = fmt.Sprint(r.UnmatchedCount), r.UnmatchedCount <= q.Most; met && r.unheard() != "" {
			c.Got, c.State = c.Got+"; "+r.unheard(), proof.Undecided
			return c
		}
	case proof.Failed:
		n, why := 0, ""
		for _, d := range r.Actions {
			if n += d.Failed; why == "" {
				why = d.Why
			}
		}
		if c.Got, met = fmt.Sprint(n), n <= q.Most; why != "" {
			c.Got += ": " + why
		}
		if met && !r.Whole() { // the rest of the plan may have failed
			c.Got, c.State = c.Got+" so far", proof.Undecided
			return c
		}
	case proof.LetIn:
		c.Got, met = fmt.Sprint(r.Total[verdict.LetIn]), r.Total[verdict.LetIn] <= q.Most
		switch undone := r.undone(q.Events, true); {
		case !met:
		case undone != "":
			c.Got, c.State = c.Got+"; "+undone, proof.Undecided
			return c
		case r.MustNot == 0:
			c.Got, c.State = "nothing of the sort was sent", proof.Undecided
			return c
		case r.Total[verdict.LetIn]+r.mayBeIn > q.Most:
			c.Got, c.State = fmt.Sprintf("%s; of %d more it is not known", c.Got, r.mayBeIn), proof.Undecided
			return c
		}
	case proof.Events:
		c.Got = r.undone(q.Events, false)
		if met = c.Got == ""; met {
			c.Got = "done"
		} else if r.Interrupted || r.cut || r.shared { // it may have come later, or to others
			c.State = proof.Undecided
			return c
		}
	case proof.OutOfOrder:
		if c.Got, met = fmt.Sprint(r.OutOfOrder), r.OutOfOrder <= q.Most; met && r.unheard() != "" {
			c.Got, c.State = c.Got+"; "+r.unheard(), proof.Undecided
			return c
		}
	case proof.LagP99:
		c.Got, met = verdict.Span(r.Lag.P99), r.Lag.N > 0 && r.sure[3][1].P99 <= q.Limit
		if !met && r.Lag.N > 0 && r.sure[3][0].P99 <= q.Limit {
			c.State = proof.Undecided // it is known to 1/4096
		}
		if r.Lag.N == 0 {
			c.Got = "nothing to measure"
		}
	default:
		d := [...]Delays{r.Acknowledged, r.Received, r.Stored}[q.Proof]
		least, most := r.sure[q.Proof][0].of(q.Measure), r.sure[q.Proof][1].of(q.Measure)
		c.Got, met = verdict.Span(d.of(q.Measure)), d.N > 0 && most <= q.Limit
		open, lost := r.without[q.Proof][0], r.without[q.Proof][1]
		if d.N > 0 && lost > 0 {
			c.Got += fmt.Sprintf(" of those that came; %d did not, and count as later than all", lost)
		}
		switch {
		case d.N == 0:
			c.Got = "nothing to measure"
		case met || least > q.Limit:
		case open > 0:
			c.State = proof.Undecided
			c.Got += fmt.Sprintf("; how long %d more took is not known", open)
		default:
			c.State = proof.Undecided
			why := "the clocks may not be alike"
			if len(r.Still) > 0 {
				why = "this process stood still meanwhile"
			}
			c.Got += fmt.Sprintf("; surely between %s and %s: %s", verdict.Span(least), verdict.Span(most), why)
		}
	}
	if met {
		c.State = proof.Met
	}
	return c
}

// unheard tells that a witness of messages was not heard to the end, so that there may be more
// than what it found; or "".
func (r *Result) unheard() string {
	for i := range r.Witnesses {
		if w := &r.Witnesses[i]; !w.Heard && (w.Proves == "received" || w.Proves == "stored") {
			return "the witness " + w.Name + " was not heard to the end"
		}
	}
	return ""
}

// share says whether a share is met, and what it is.
func share(q *proof.Requirement, total *Counts, proofs []Proof) (state proof.State, got string) {
	good, all, unknown := total[verdict.Proven], total.Asked(), total[verdict.Unknown]
	if !q.Proven {
		p := proofs[q.Proof]
		good, all, unknown = p.AsSent, p.Asked, p.Unknown+p.Open
	}
	got = ShareText(good, all)
	switch {
	case decimal.AtLeast(good, all, decimal.Float(q.Percent)):
		return proof.Met, got
	case unknown > 0 && decimal.AtLeast(good+unknown, all, decimal.Float(q.Percent)):
		return proof.Undecided, got
	}
	return proof.NotMet, got
}

// checkRounds says whether each of some rounds meets a requirement: the worst one tells.
func (r *Result) checkRounds(q *proof.Requirement) proof.Check {
	c := proof.Check{Key: q.Rounds.Name + ": " + q.Key, Want: q.Text, State: proof.Met}
	played, worst := 0, -1
	if n := len(r.Parts); n > 0 {
		played = r.Parts[n-1].Round
	}
	some := 0
	for i := range r.Parts {
		x := &r.Parts[i]
		if !q.Rounds.Has(x.Round, played) {
			continue
		}
		some++
		state, got := share(q, &x.Counts, x.Proofs[:])
		if state != proof.Met && (worst < 0 || state == proof.NotMet && c.State == proof.Undecided) {
			worst, c.State, c.Got = i, state, fmt.Sprintf("round %d: %s", x.Round, got)
		}
	}
	switch {
	case some == 0 || q.Rounds.To > played:
		c.State, c.Got = proof.NotMet, fmt.Sprintf("%d rounds were played", played)
	case worst < 0:
		c.Got = fmt.Sprintf("in each of %d", some)
		if some == 1 {
			c.Got = "in that round"
		}
	}
	return c
}

// RoundMeets tells whether a round meets what is required of shares. Without any such
// requirement, all of its messages must be proven.
func (r *Result) RoundMeets(round int, list []proof.Requirement) bool {
	for i := range r.Parts {
		x := &r.Parts[i]
		if x.Round != round {
			continue
		}
		if x.Counts[verdict.LetIn] > 0 {
			return false
		}
		asked := false
		for k := range list {
			q := &list[k]
			if q.Measure != proof.Share || q.Rounds.Name != "" && !q.Rounds.Has(round, round) {
				continue
			}
			asked = true
			if state, _ := share(q, &x.Counts, x.Proofs[:]); state == proof.NotMet {
				return false
			}
		}
		return asked || x.Counts[verdict.Proven] == x.Counts.Asked()
	}
	return false // nothing was due
}

// ShareText is "99.83% (598 of 599)"; it says 100% only where that is exact.
func ShareText(good, all int) string {
	if all == 0 {
		return "none of none"
	}
	// Cut, not rounded: 99.996 % is not 100 %.
	hundredths := int64(good) * 10_000 / int64(all)
	text := fmt.Sprintf("%d.%02d", hundredths/100, hundredths%100)
	text = strings.TrimSuffix(strings.TrimRight(text, "0"), ".")
	return fmt.Sprintf("%s%% (%d of %d)", text, good, all)
}
