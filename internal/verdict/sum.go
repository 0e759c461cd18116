package verdict

import (
	"fmt"
	"runcrowd/internal/ledger"
	"sort"
	"time"
)

// finish sorts and sums up.
func (j *judge) finish() {
	r := j.res
	r.Proofs = j.proofs[:]
	for name, c := range j.byKind {
		r.Kinds = append(r.Kinds, Group{name, *c})
	}
	sort.Slice(r.Kinds, func(a, b int) bool { return r.Kinds[a].Name < r.Kinds[b].Name })
	rounds := make([]int, 0, len(j.byRound))
	for n := range j.byRound {
		rounds = append(rounds, n)
	}
	sort.Ints(rounds)
	for _, n := range rounds {
		r.Rounds = append(r.Rounds, Group{fmt.Sprint(n), *j.byRound[n]})
	}
	for name, c := range j.byDevice {
		if c[Proven] < c.Due() {
			r.Devices = append(r.Devices, Group{name, *c})
		}
	}
	sort.Slice(r.Devices, func(a, b int) bool {
		x, y := &r.Devices[a], &r.Devices[b]
		if bx, by := x.Counts.Due()-x.Counts[Proven], y.Counts.Due()-y.Counts[Proven]; bx != by {
			return bx > by
		}
		return x.Name < y.Name
	})
	if n := len(j.Book.Rounds); n > 0 {
		last := j.Book.Rounds[n-1]
		r.LastRound, r.Planned = last.N, last.End.Sub(last.Begin)
		for i := range j.Messages {
			if k := len(j.Messages[i]); k > 0 && j.Messages[i][k-1].Round == last.N {
				r.Played = min(max(r.Played, j.Messages[i][k-1].Due.Sub(last.Begin)), r.Planned)
			}
		}
	}
	devices := map[string]bool{}
	for i := range j.Streams {
		devices[j.Streams[i].Device] = true
	}
	r.DeviceCount = len(devices)
	rank := map[string]int{}
	for i, n := range names {
		rank[n] = i
	}
	sort.SliceStable(r.Findings, func(a, b int) bool {
		x, y := &r.Findings[a], &r.Findings[b]
		if rank[x.Verdict] != rank[y.Verdict] {
			return rank[x.Verdict] < rank[y.Verdict]
		}
		if x.stream != y.stream {
			return x.stream < y.stream
		}
		return x.Seq < y.Seq
	})
	for i, d := range []*Delays{&r.Acknowledged, &r.Received, &r.Stored, &r.Lag} {
		*d = percentiles(j.delays[i])
	}
	sightings := make([]int, len(j.Witnesses))
	for i := range j.Sightings {
		if w := j.Sightings[i].Witness; w >= 0 && w < len(sightings) && j.Sightings[i].Mark.Run == j.Run {
			sightings[w]++
		}
	}
	for i := range j.Witnesses {
		w := &j.Witnesses[i]
		report := WitnessReport{Name: w.Name, Proves: w.Proof, Sightings: sightings[i], Heard: true}
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
		report.Why = append(report.Why, gaps(w.Gaps)...)
		report.Why = append(report.Why, j.clocks[i].says()...)
		r.Witnesses = append(r.Witnesses, report)
	}
	for _, l := range j.Links {
		switch l.What {
		case ledger.Down:
			r.Drops++
			r.DropReasons[l.Why]++
		case ledger.Renewed:
			r.Renewed++
		case ledger.NotHearing:
			if r.NotHearing == nil {
				r.NotHearing = map[string]int{}
			}
			r.NotHearing[l.Place+": "+l.Why]++
		}
	}
	j.commands(r)
}

// manyTimes is from how many times on a witness's gaps of one sort is summed up.
const manyTimes = 4

// gaps tells when a witness could not listen: in order, and what happened again and
// again in one line.
func gaps(list []ledger.Gap) []string {
	type sort struct {
		kept bool
		why  string
	}
	kind := func(d *ledger.Gap) sort { return sort{d.QoS0, d.Why} }
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
		text := "could not listen from " + clock(d.From)
		switch {
		case d.To.IsZero():
		case times[k] == 0: // summed up already
			continue
		case times[k] >= manyTimes:
			text = fmt.Sprintf("could not listen %d times, from %s on, for %s in all", times[k], clock(d.From), total[k].Round(time.Millisecond))
			times[k] = 0
		default:
			text += fmt.Sprintf(" for %s", d.To.Sub(d.From).Round(time.Millisecond))
		}
		if d.QoS0 {
			text += " (the broker kept all but QoS 0)"
		}
		lines = append(lines, text+": "+d.Why)
	}
	return lines
}

func clock(t time.Time) string { return t.UTC().Format("15:04:05.000") }

// percentiles are those of the nearest rank.
func percentiles(v []int64) Delays {
	d := Delays{N: len(v)}
	if len(v) == 0 {
		return d
	}
	sort.Slice(v, func(a, b int) bool { return v[a] < v[b] })
	at := func(p int) time.Duration { return time.Duration(v[min(len(v)-1, (len(v)*p+99)/100-1)]) }
	d.P50, d.P90, d.P99, d.Worst = at(50), at(90), at(99), time.Duration(v[len(v)-1])
	return d
}
