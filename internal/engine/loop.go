package engine

import (
	"container/heap"
	"context"
	"sync"
	"time"

	"runcrowd/internal/clock"
	"runcrowd/internal/formula"
	"runcrowd/internal/ledger"
)

// What an entry of a loop stands for.
const (
	joins   uint8 = iota // a device connects
	speaks               // a stream's next message is due
	ticks                // a connection looks at the clock
	answers              // an answer to a command is due
)

// entry is something to do at a time.
type entry struct {
	at    int64 // Unix nanoseconds
	what  uint8
	index int // of the device or stream
}

// entries is a heap with the earliest first; what has the same time keeps the
// order of kinds and indexes.
type entries []entry

func (h entries) Len() int { return len(h) }
func (h entries) Less(i, j int) bool {
	a, b := &h[i], &h[j]
	switch {
	case a.at != b.at:
		return a.at < b.at
	case a.what != b.what:
		return a.what < b.what
	}
	return a.index < b.index
}
func (h entries) Swap(i, j int) { h[i], h[j] = h[j], h[i] }
func (h *entries) Push(x any)   { *h = append(*h, x.(entry)) }
func (h *entries) Pop() any {
	old := *h
	x := old[len(old)-1]
	*h = old[:len(old)-1]
	return x
}

// loop does what is due for its share of the devices.
type loop struct {
	engine  *Engine
	page    *ledger.Page
	entries entries
	scribe  Scribe
	machine formula.Machine

	inboxMu sync.Mutex
	inbox   []incoming
	bell    chan struct{} // rings when something is in the inbox
}

// run works until end (Unix nanoseconds) or until ctx is done.
func (l *loop) run(ctx context.Context, end int64) {
	heap.Init(&l.entries)
	timer := time.NewTimer(time.Hour)
	defer timer.Stop()
	for {
		select {
		case <-l.bell:
			l.hear(end)
		default:
		}
		next := end
		if len(l.entries) > 0 {
			next = min(next, l.entries[0].at)
		}
		if wait := next - clock.Nano(); wait > 0 {
			timer.Reset(time.Duration(wait))
			select {
			case <-ctx.Done():
				return
			case <-l.bell:
				l.hear(end)
				continue
			case <-timer.C:
			}
		} else if ctx.Err() != nil {
			return
		}
		switch {
		case len(l.entries) > 0 && l.entries[0].at < end:
			l.next(&l.entries[0], end) // what was due before the end, also behind it
		case clock.Nano() >= end:
			return // till then a command may come
		}
	}
}

// next does what the first entry stands for and puts it back where it comes again.
func (l *loop) next(x *entry, end int64) {
	e := l.engine
	again := int64(0)
	switch x.what {
	case joins:
		e.join(x.index)
		x.what = ticks
		if wait := e.devices[x.index].conn.Tick(clock.Now()); wait > 0 {
			again = clock.Nano() + int64(wait)
		}
	case ticks:
		if wait := e.devices[x.index].conn.Tick(clock.Now()); wait > 0 {
			again = clock.Nano() + int64(wait)
		}
	case answers:
		l.tell(x.index)
	case speaks:
		s := &e.streams[x.index]
		l.speak(s, x.at)
		again = s.due(e.begin.UnixNano())
	}
	if again == 0 || again >= end {
		heap.Pop(&l.entries)
		return
	}
	x.at = again
	heap.Fix(&l.entries, 0)
}
