package engine

import (
	"container/heap"
	"time"

	"runcrowd/internal/fleet"
	"runcrowd/internal/ledger"
)

// PreviewRun stands for the run in the marks of messages that are only shown: no
// run has this name, since those have no digits 0, 1, 8 and 9.
const PreviewRun = "preview0"

// Rehearsed is one message of a rehearsal.
type Rehearsed struct {
	Stream  *fleet.Stream
	Seq     uint64
	Due     time.Time
	Written Written
	Err     error // the first value that could not be made
}

// Rehearse makes the messages that some streams would send in one round, in the
// order in which they are due, from when the round begins to its end, without
// sending any. It ends early when see says no. What is seen is valid until the
// next.
func Rehearse(f *fleet.Fleet, streams []*fleet.Stream, begin time.Time, see func(*Rehearsed) bool) {
	scribe := Scribe{Run: PreviewRun, Numbers: ledger.NumbersOf(PreviewRun, len(f.Streams))}
	plan := &f.Crowd.Plan
	end := begin.Add(plan.For).UnixNano()
	var due entries
	states := make([]stream, len(streams))
	for i, s := range streams {
		join := begin.Add(plan.Join.At(s.Device.Index, len(f.Devices))).UnixNano()
		states[i] = stream{Stream: s, from: join}
		if at := states[i].due(begin.UnixNano()); join < end && at < end {
			due = append(due, entry{at: at, what: speaks, index: i})
		}
	}
	heap.Init(&due)
	var body []byte
	for len(due) > 0 {
		x := &due[0]
		s := &states[x.index]
		r := Rehearsed{Stream: s.Stream, Seq: s.seq + 1, Due: time.Unix(0, x.at)}
		r.Written, r.Err = scribe.Write(s.Stream, r.Seq, s.tick, r.Due, begin, body[:0])
		body = r.Written.Body
		if !see(&r) {
			return
		}
		s.tick++
		s.slot++
		s.seq += uint64(len(r.Written.Carried))
		if x.at = s.due(begin.UnixNano()); x.at >= end {
			heap.Pop(&due)
		} else {
			heap.Fix(&due, 0)
		}
	}
}
