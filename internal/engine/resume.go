package engine

import (
	"time"

	"runcrowd/internal/crowd"
	"runcrowd/internal/ledger"
)

// Rest is what is left of a plan whose run stopped, and goes on.
type Rest struct {
	Round int           // in which it goes on, as the ledger counts them
	Plan  int           // which round of the plan that is
	From  time.Duration // how far into it, by the plan's clock; 0: it begins
	// Last is, by stream, the last sequence number that was used, or may have been.
	Last []uint64
	// Ticks are, by stream, the messages of the round of the plan that were sent before.
	Ticks []uint64
	// Corrupted are the messages of before of which nothing may be kept, by stream.
	Corrupted []ledger.Spans
}

// GoOn has the engine go on with a plan. It comes before Play.
func (e *Engine) GoOn(r *Rest) {
	e.rest, e.shift, e.corrupted = r, r.Round-r.Plan, r.Corrupted
	for i := range e.streams {
		e.streams[i].seq = r.Last[i]
	}
}

// stillDone is what is left to do for a device of an event that began before the run stopped, and until when: 0 is
// for good. Nil: nothing.
func (l *loop) stillDone(d *device, event *crowd.Event, to int64) (*crowd.Event, int64) {
	over := to != 0 && to <= l.engine.resumed
	var list []crowd.Action
	for _, x := range event.Do[d.Cast] {
		switch {
		case over && x.Kind == crowd.ActionRestart: // what it changed holds
			list = append(list, x.Restart.Set...)
		case over, x.Kind.Momentary() && x.Kind != crowd.ActionConnect, to == 0 && x.Kind.Next():
		default:
			list = append(list, x)
		}
	}
	if len(list) == 0 {
		return nil, 0
	}
	if over {
		to = 0
	}
	left := *event
	left.Do = map[*crowd.Cast][]crowd.Action{d.Cast: list}
	return &left, to
}
