package engine

import (
	"container/heap"
	"context"
	"slices"
	"sync"
	"time"

	"runcrowd/internal/clock"
	"runcrowd/internal/crowd"
	"runcrowd/internal/formula"
	"runcrowd/internal/ledger"
)

// What an entry of a loop stands for.
const (
	looks   uint8 = iota // what happens next is looked up
	ends                 // an event is over for a device
	joins                // a device connects
	begins               // an event befalls a device
	speaks               // a stream's next message is due
	replays              // a recorded message is due
	ticks                // a connection looks at the clock
	answers              // an answer to a command is due
	drains               // a device that leaves looks whether all is acknowledged
	feeds                // a device sends what it has kept
	stalls               // a device that waits for acknowledgements may wait in vain
	dozes                // a device that is awake looks whether it can sleep again
)

// entry is something to do at a time: one of the plan, or one of our clock.
type entry struct {
	at    int64 // Unix nanoseconds
	what  uint8
	index int // of the device, stream, act or answer
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
	engine    *Engine
	devices   []int // of the loop
	page      *ledger.Page
	plan      entries // by the plan's clock
	timed     entries // by ours
	at        int64   // how far the plan was played
	end       int64   // of the round, by the plan's clock
	bodies    BodyWriter
	machine   formula.Machine
	replaying []*replay
	acts      []*act // what events do and undo, and what is free again
	free      []int

	answered int64 // answers when it last looked, after the plan was over
	quiet    int64 // since when there were no more

	inboxMu sync.Mutex
	inbox   []incoming
	calls   []func()      // what it is to do for others
	woken   []int         // devices that have room again
	bell    chan struct{} // rings when something is in the inbox
}

// run works until the end of the round, or until ctx is done.
func (l *loop) run(ctx context.Context, end int64) {
	e := l.engine
	heap.Init(&l.plan)
	timer := time.NewTimer(time.Hour)
	defer timer.Stop()
	for {
		select {
		case <-l.bell:
			l.hear(end)
		default:
		}
		if ctx.Err() != nil {
			return
		}
		now := clock.Nano()
		if len(l.timed) > 0 && l.timed[0].at <= now {
			l.tick(end)
			continue
		}
		wake := now + int64(time.Hour)
		if len(l.timed) > 0 {
			wake = l.timed[0].at
		}
		paused := e.clock.pause.since.Load() != 0
		if paused {
			// The plan stands still; connections do not.
		} else if len(l.plan) > 0 && l.plan[0].at < end && !l.enough() {
			at := e.clock.when(l.plan[0].at)
			if at <= now {
				l.next(end)
				continue
			}
			wake = min(wake, at)
		} else if l.over(now, end) {
			return
		}
		if !e.clock.max && !paused {
			if last := e.clock.when(end); last > now {
				wake = min(wake, last)
			}
		}
		timer.Reset(time.Duration(wake - now))
		select {
		case <-ctx.Done():
			return
		case <-l.bell:
			l.hear(end)
		case <-timer.C:
		}
	}
}

// over tells whether the round is over for the loop: nothing of the plan is left, and what
// devices have kept is sent, as far as it can be.
func (l *loop) over(now, end int64) bool {
	e := l.engine
	if l.waits() { // what was due is still to be sent, however late it is
		return false
	}
	if e.clock.max || e.ended.Load() || l.enough() {
		return !l.keeps(now)
	}
	return now >= e.clock.when(end) && !l.keeps(now)
}

// enough tells whether the plan wants so many messages of each device, and none of the
// loop's can send one more: events may go on for ever.
func (l *loop) enough() bool {
	e := l.engine
	if e.fleet.Crowd.Plan.Messages == 0 {
		return false
	}
	for i := range l.plan { // one of the first says no, mostly
		switch x := &l.plan[i]; x.what {
		case joins, replays:
			return false
		case speaks:
			if d := &e.devices[e.streams[x.index].Device.Index]; d.joined && d.idle == 0 && !d.quiet {
				return false
			}
		case ends:
			if !l.acts[x.index].device.quiet { // it may go on then
				return false
			}
		case begins:
			if a := l.acts[x.index]; !a.device.quiet && wakes(a.event) {
				return false
			}
		}
	}
	for _, i := range l.devices { // what comes later is not in the plan yet
		if d := &e.devices[i]; !d.quiet && slices.ContainsFunc(e.fleet.Crowd.Plan.Events, func(x *crowd.Event) bool {
			return x.When == crowd.AtTime && wakes(x) && len(x.Do[d.Cast]) > 0 && e.begin.UnixNano()+int64(x.At) > l.at
		}) {
			return false
		}
	}
	return true
}

// wakes tells whether an event may make a device send that does not.
func wakes(x *crowd.Event) bool {
	return x.Does(crowd.ActionConnect, crowd.ActionInterval, crowd.ActionSend)
}

// waits tells whether a device waits for acknowledgements before it goes on.
func (l *loop) waits() bool {
	for _, i := range l.devices {
		if len(l.engine.devices[i].parked) > 0 {
			return true
		}
	}
	return false
}

// keeps tells whether a device still sends what it has kept: for as long as the platform
// answers, and at most as long as the end of a round waits without.
func (l *loop) keeps(now int64) bool {
	e := l.engine
	some := false
	for _, i := range l.devices {
		d := &e.devices[i]
		if len(d.kept) > 0 && d.away == 0 && d.presence().Sleeps && !d.awake {
			l.wakeUp(d) // for what is left
		}
		if some = d.leaving != nil || d.busy > 0 || d.away == 0 && d.nextKept() >= 0 && l.link(d) != nil; some {
			break
		}
	}
	if !some {
		return false
	}
	if n := e.answers(); n != l.answered || l.quiet == 0 {
		l.answered, l.quiet = n, now
	}
	return now-l.quiet < int64(e.fleet.Crowd.Plan.Settle)
}

// next does what comes first in the plan.
func (l *loop) next(end int64) {
	e := l.engine
	x := l.plan[0]
	if d := l.deviceOf(&x); d != nil && d.waits(l, x.at) {
		heap.Pop(&l.plan)
		l.park(d, x)
		return
	}
	l.at = max(l.at, x.at)
	switch x.what {
	case looks:
		heap.Pop(&l.plan) // before others come in
		l.look(x.at, end)
		return
	case joins:
		heap.Pop(&l.plan)
		l.join(x.index)
		return
	case replays:
		heap.Pop(&l.plan)
		l.again(x.index, x.at, end)
		return
	case begins:
		heap.Pop(&l.plan)
		l.befall(x.index, x.at, end)
		return
	case ends:
		heap.Pop(&l.plan)
		l.pass(x.index, x.at, end)
		return
	case speaks:
		s := &e.streams[x.index]
		if s.next != x.at { // it is due at another time by now
			heap.Pop(&l.plan)
			return
		}
		if d := &e.devices[s.Device.Index]; d.idle > 0 || !d.joined {
			s.slot++ // nothing is measured
		} else if l.speak(s, x.at); s.next != x.at {
			heap.Pop(&l.plan)
			return
		}
		again := s.due(e.begin.UnixNano())
		if again >= end {
			heap.Pop(&l.plan)
			s.next = 0
			return
		}
		s.next, l.plan[0].at = again, again
		heap.Fix(&l.plan, 0)
	}
}

// deviceOf is the device that an entry of the plan is of; nil for none.
func (l *loop) deviceOf(x *entry) *device {
	switch x.what {
	case joins:
		return &l.engine.devices[x.index]
	case speaks:
		return &l.engine.devices[l.engine.streams[x.index].Device.Index]
	case begins, ends:
		return l.acts[x.index].device
	case replays:
		return &l.engine.devices[l.replaying[x.index].to.Device.Index]
	}
	return nil
}

// tick does what comes first by our clock.
func (l *loop) tick(end int64) {
	e := l.engine
	x := heap.Pop(&l.timed).(entry)
	again := time.Duration(0)
	switch x.what {
	case ticks:
		d := &e.devices[x.index]
		if d.conn == nil {
			d.ticking = false
			return
		}
		if again = d.conn.Tick(clock.Now()); again <= 0 {
			d.ticking = false
			return
		}
	case answers:
		l.tell(x.index)
		return
	case drains:
		again = l.drain(&e.devices[x.index], end)
	case feeds:
		again = l.feed(&e.devices[x.index])
	case stalls:
		l.stalled(&e.devices[x.index])
	case dozes:
		again = l.doze(&e.devices[x.index])
	}
	if again > 0 {
		l.later(again, x.what, x.index)
	}
}

// later puts an entry of our clock in.
func (l *loop) later(after time.Duration, what uint8, index int) {
	heap.Push(&l.timed, entry{at: clock.Nano() + int64(after), what: what, index: index})
}

// park keeps what a device has to do until it has room again.
func (l *loop) park(d *device, x entry) {
	d.parked = append(d.parked, x)
	if d.wants.Swap(true) {
		return
	}
	d.stall = d.settled.Load()
	l.later(stallAfter, stalls, d.Index)
	if !d.full(l) { // it got room just now
		l.engine.wake(d)
	}
}

// stallAfter is how long a device waits in vain for acknowledgements before it goes on
// without: what does not fit into its backlog is then unsent.
const stallAfter = 30 * time.Second

// stalled lets a device go on that waited in vain.
func (l *loop) stalled(d *device) {
	switch {
	case len(d.parked) == 0:
	case d.settled.Load() != d.stall:
		d.stall = d.settled.Load()
		l.later(stallAfter, stalls, d.Index)
	default:
		d.hopeless = true
		l.unpark(d)
	}
}

// unpark puts what a device has to do back into the plan.
func (l *loop) unpark(d *device) {
	d.wants.Store(false)
	list := d.parked
	d.parked = nil
	for _, x := range list {
		heap.Push(&l.plan, x)
	}
}
