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
	Target  string // where it goes
	Meant   ledger.Meant
	Written Written
	Err     error // the first value that could not be made
}

// Rehearse makes the messages that some streams would send in one round, in the
// order in which they are due, from when the round begins to its end, without
// sending any. Events do what they do in a run, but for what needs a platform. It ends
// early when see says no. What is seen is valid until the next.
func Rehearse(f *fleet.Fleet, streams []*fleet.Stream, begin time.Time, see func(*Rehearsed) bool) {
	if len(streams) == 0 {
		return
	}
	e := &Engine{fleet: f, run: PreviewRun, see: see}
	e.pool.New = newMessage
	l := &loop{engine: e, bell: make(chan struct{}, 1), bodies: BodyWriter{Run: PreviewRun,
		Numbers: ledger.NumbersOf(PreviewRun, len(f.Streams))}}
	e.loops = []*loop{l}
	e.devices, e.streams = make([]device, len(f.Devices)), make([]stream, len(f.Streams))
	for i, d := range f.Devices {
		e.devices[i].Device = d
		l.devices = append(l.devices, i)
	}
	for i, s := range f.Streams {
		e.streams[i].Stream = s
	}
	end := e.prepare(1, begin, streams)
	heap.Init(&l.plan)
	for !e.seen && len(l.plan) > 0 && l.plan[0].at < end && !l.enough() {
		l.next(end)
	}
	e.restore()
}
