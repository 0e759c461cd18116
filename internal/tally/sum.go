package tally

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"time"

	"runcrowd/internal/ledger"
	"runcrowd/internal/verdict"
)

// Whole tells whether the run was played to its end: a part of a plan is not the plan.
func (r *Result) Whole() bool { return r.Ended && !r.Interrupted && len(r.Missing) == 0 }

// Result sums up. The tally cannot be added to any more.
func (t *Tally) Result(survey *verdict.Survey) *Result {
	t.leave()
	t.stream = -1
	f, r := t.facts, &t.res
	r.Run, r.Crowd, r.Start, r.Ended, r.Interrupted, r.Torn, r.Damage, r.Links = f.Run, f.Crowd, f.Start, f.Ended, f.Interrupted, f.Torn, f.Damage, f.Links
	r.Proofs = t.proofs[:]
	for _, x := range f.Resumed {
		y := Resumed{At: x.At, Stopped: x.Stopped, Killed: x.Killed}
		for _, round := range f.Rounds { // the first that began after it
			if !round.Begin.Before(x.At) {
				y.Round, y.Plan, y.From = round.N, round.Plan, round.From
				break
			}
		}
		r.Resumed = append(r.Resumed, y)
	}
	r.cut = !f.Ended || slices.ContainsFunc(f.Resumed, func(x ledger.Resumed) bool { return x.Killed })
	r.Took = max(0, f.LastWrite.Sub(f.Start))
	for name, c := range t.byKind {
		r.Kinds = append(r.Kinds, Group{name, *c})
	}
	slices.SortFunc(r.Kinds, func(a, b Group) int { return cmp.Compare(a.Name, b.Name) })
	rounds := slices.Sorted(maps.Keys(t.byRound))
	for _, n := range rounds {
		r.Rounds = append(r.Rounds, Group{fmt.Sprint(n), *t.byRound[n]})
		if in := t.inRound[n]; in != nil {
			r.Parts = append(r.Parts, Part{n, *t.byRound[n], *in})
		}
	}
	for name, c := range t.byDevice {
		if c[verdict.Proven]+c[verdict.Dropped] < c.Due() {
			r.Devices = append(r.Devices, Group{name, *c})
		}
	}
	open := func(g *Group) int { return g.Counts.Due() - g.Counts[verdict.Proven] }
	slices.SortFunc(r.Devices, func(x, y Group) int {
		return cmp.Or(cmp.Compare(open(&y), open(&x)), cmp.Compare(x.Name, y.Name))
	})
	if n := len(f.Rounds); n > 0 {
		last := f.Rounds[n-1]
		r.LastRound, r.Planned = last.N, time.Duration(0)
		if !last.End.IsZero() { // else nobody knows: so many messages, or as fast as it goes
			r.Planned = last.End.Sub(last.Begin)
		}
		if !f.Played.IsZero() {
			r.Played = max(0, f.Played.Sub(last.Begin))
			if r.Planned > 0 {
				r.Played = min(r.Played, r.Planned)
			}
		}
	}
	devices := map[string]bool{}
	for i := range f.Streams {
		if r.shared = r.shared || f.Streams[i].Elsewhere; !f.Streams[i].Elsewhere {
			devices[f.Streams[i].Device] = true
		}
	}
	r.DeviceCount = len(devices)
	rank := map[string]int{}
	for i, v := range verdict.All() {
		rank[v.String()] = i
	}
	slices.SortStableFunc(r.Findings, func(x, y verdict.Finding) int {
		return cmp.Or(cmp.Compare(rank[x.Verdict], rank[y.Verdict]), cmp.Compare(x.Stream, y.Stream), cmp.Compare(x.Seq, y.Seq))
	})
	for _, a := range t.alike {
		r.Alike = append(r.Alike, *a)
	}
	slices.SortFunc(r.Alike, func(a, b Alike) int {
		return cmp.Or(cmp.Compare(b.Messages, a.Messages), cmp.Compare(a.Witness, b.Witness), cmp.Compare(a.Kind, b.Kind),
			cmp.Compare(a.Reading, b.Reading), cmp.Compare(a.Field, b.Field), cmp.Compare(a.Note, b.Note))
	})
	for i, d := range []*Delays{&r.Acknowledged, &r.Received, &r.Stored, &r.Lag} {
		*d = t.delays[i].percentiles()
		r.sure[i], r.without[i] = t.delays[i].bounds(), [2]int{t.delays[i].open, t.delays[i].lost}
	}
	for i := range f.Witnesses {
		w := &f.Witnesses[i]
		if i < f.Own() {
			r.Witnesses = append(r.Witnesses, WitnessReport{Name: w.Name, Proves: w.Proof, Heard: true, Asks: !w.Listens})
		}
		report := &r.Witnesses[i%f.Own()]
		report.Sightings += w.Sightings
		before := len(report.Why)
		for _, n := range rounds {
			h, ok := w.Heard[n]
			if !ok {
				h.Why = "not heard to the end of the round"
			}
			if !h.Complete {
				report.Heard = false
				why := h.Why
				if len(rounds) > 1 {
					why = fmt.Sprintf("round %d: %s", n, why)
				}
				report.Why = append(report.Why, why)
			}
		}
		told := slices.DeleteFunc(slices.Clone(w.Gaps), short)
		report.Why = append(report.Why, gaps(told)...)
		for _, g := range told {
			if len(r.Deaf) < mostDeaf {
				r.Deaf = append(r.Deaf, Deaf{w.Name, g.From, g.To, g.Why})
			}
		}
		report.Why = append(report.Why, survey.ClockSays(i)...)
		if f.Own() < len(f.Witnesses) {
			for k := range report.Why[before:] {
				report.Why[before+k] = "of " + f.PartName(w.Part) + ": " + report.Why[before+k]
			}
		}
	}
	r.Holes = longestHoles(r.Holes)
	t.connections()
	r.Alerts, r.AlertFindings = t.alerts.result(f, t.opt)
	r.Counted = t.counted()
	if t.series != nil {
		r.Series = &t.series.Series
	}
	if t.rows != nil {
		r.Rows = t.rows.result()
	}
	r.Commands, r.Mishaps = t.commands.result()
	return r
}

// mostDeaf is how many times are kept in which a witness could not listen.
const mostDeaf = 1000

// manyTimes is from how many times on a witness's gaps of one sort is summed up.
const manyTimes = 4

// short tells of a time in which a witness heard late, and which is too short to be told: it only
// keeps what came meanwhile from being called late.
func short(g ledger.Gap) bool {
	return g.Lag && g.Whole && !g.To.IsZero() && g.To.Sub(g.From) < time.Second
}

// gaps tells when a witness could not listen: in order, and what happened again and
// again in one line.
func gaps(list []ledger.Gap) []string {
	type sort struct {
		kept bool
		why  string
	}
	kind := func(d *ledger.Gap) sort { return sort{d.Kept, d.Why} }
	times, total := map[sort]int{}, map[sort]time.Duration{}
	for i := range list {
		if d := &list[i]; !d.To.IsZero() {
			times[kind(d)]++
			total[kind(d)] += d.To.Sub(d.From)
		}
	}
	var lines []string
	for i := range list {
		d := &list[i]
		k := kind(d)
		what := "could not listen"
		if d.Lag {
			what = "lagged"
		}
		text := what + " from " + timeOfDay(d.From)
		switch {
		case d.To.IsZero():
		case times[k] == 0: // summed up already
			continue
		case times[k] >= manyTimes:
			text = fmt.Sprintf("%s %d times, from %s on, for %s in all", what, times[k], timeOfDay(d.From),
				total[k].Round(time.Millisecond))
			times[k] = 0
		default:
			text += fmt.Sprintf(" for %s", d.To.Sub(d.From).Round(time.Millisecond))
		}
		if d.Kept {
			text += " (the broker kept QoS 1 and 2 for it, as far as its queue goes)"
		}
		lines = append(lines, text+": "+d.Why)
	}
	return lines
}
