package engine

import (
	"container/heap"
	"errors"
	"slices"
	"time"

	"runcrowd/internal/clock"
	"runcrowd/internal/crowd"
	"runcrowd/internal/ledger"
	"runcrowd/internal/link"
)

// ErrNotPlaying is the error where no round is being played just now.
var ErrNotPlaying = errors.New("no round is being played just now")

// Handed is what a hand did to one device.
type Handed struct {
	Device string          `json:"device"`
	Did    []ledger.Action `json:"did,omitempty"`
	Why    string          `json:"why,omitempty"` // it could not be done
	// Later: its connection is made anew first, so that something can be done to its network.
	Later bool `json:"later,omitempty"`

	index int
	at    int64 // by the plan's clock
}

// handMost is how long a hand waits for the loops, which may be busy.
const handMost = 5 * time.Second

// Hand does an event now, to those whom it selects, and says what was done. Occasion draws
// those who are selected by chance. The plan's clock has its time in At.
func (e *Engine) Hand(ev *crowd.Event, occasion string) ([]Handed, error) {
	who, err := e.whom(ev, occasion)
	if err != nil {
		return nil, err
	}
	done := make(chan Handed, len(who))
	e.handMu.Lock()
	if !e.playing {
		e.handMu.Unlock()
		return nil, ErrNotPlaying
	}
	for _, i := range who {
		l := e.loopOf(i)
		l.call(func() { l.handed(&e.devices[i], ev, done) })
	}
	e.handMu.Unlock()
	list := make([]Handed, 0, len(who))
	timeout := time.After(handMost)
	for range who {
		select {
		case h := <-done:
			if len(list) == 0 { // for whoever writes it down
				ev.At = max(0, time.Duration(h.at-e.begin.UnixNano()))
			}
			list = append(list, h)
		case <-timeout:
			return list, errors.New("the run was too busy, or ended just now: not all was done")
		}
	}
	slices.SortFunc(list, func(a, b Handed) int { return a.index - b.index })
	return list, nil
}

// whom are the devices that an event selects.
func (e *Engine) whom(ev *crowd.Event, occasion string) (list []int, err error) {
	candidates := e.fleet.Candidates()
	drawn := make([]int, 0, len(candidates))
	if ev.Who == nil {
		for i := range candidates {
			drawn = append(drawn, i)
		}
	} else {
		pool, err := ev.Who.Pool(candidates)
		if err != nil {
			return nil, err
		}
		drawn = pool.Draw(e.fleet.Crowd.Seed, occasion)
	}
	for _, i := range drawn {
		if d := e.fleet.Devices[i]; e.plays(i) && len(ev.Do[d.Cast]) > 0 {
			list = append(list, i)
		}
	}
	return list, nil
}

// handed does an event to one device, in its loop.
func (l *loop) handed(d *device, ev *crowd.Event, done chan<- Handed) {
	h := Handed{Device: d.Name, index: d.Index, at: l.now()}
	list := ev.Do[d.Cast]
	switch needs, relay := needsShape(list); {
	case !needs || d.shape != nil && (!relay || d.shape.Relays()):
	case d.Gateway != nil:
		h.Why = "it is behind a gateway, and has no network of its own"
		done <- h
		return
	default:
		h.Later = true
		l.shapeAnew(d, relay, func() { l.take(d, ev) })
		done <- h
		return
	}
	h.Did, h.Why = l.take(d, ev)
	done <- h
}

// take begins an act of a hand.
func (l *loop) take(d *device, ev *crowd.Event) (did []ledger.Action, why string) {
	at := l.now()
	a := l.newAct(d, ev)
	a.from = at
	if lasts := ev.Lasts(0, 0); lasts > 0 { // a hand says how long exactly
		a.to = at + int64(lasts)
	}
	list := ev.Do[d.Cast]
	worked, err := l.workOut(d, list, d.Env, l.end)
	if err != nil {
		why = l.engine.fleet.Crowd.Redact(err.Error())
		l.tellDone(a, ledger.Action{Kind: list[0].Kind.String(), Name: list[0].Name}, false, why)
		l.release(a)
		return nil, why
	}
	a.actions = worked
	return l.perform(a, at, l.end), ""
}

// needsShape tells whether actions need a network of the device's own, and one that all passes
// through.
func needsShape(list []crowd.Action) (needs, relay bool) {
	for i := range list {
		switch x := &list[i]; {
		case x.Kind == crowd.ActionNetwork, x.Kind == crowd.ActionOffline && x.Offline.How == crowd.BySilence:
			return true, true
		case x.Kind == crowd.ActionOffline && x.Offline.How == crowd.ByCut:
			needs = true
		}
	}
	return needs, false
}

// shapeWait is how long a device may take to come back on a network of its own.
const shapeWait = 3 * time.Second

// shapeAnew gives a device a network of its own while it plays: it leaves in order, and comes
// back over it. Then something is done.
func (l *loop) shapeAnew(d *device, relay bool, then func()) {
	e := l.engine
	l.leave(d, d.Cast.Link.Timeout, func() {
		was := d.conn != nil
		l.disconnect(d, false)
		d.shape = link.NewShaper(e.Network, relay)
		e.fleet.SetNetwork(d.Device, d.shape)
		if l.connect(d); !was || d.conn == nil {
			then()
			return
		}
		e.beside.Go(func() {
			for wait := time.Now().Add(shapeWait); !d.up.Load() && time.Now().Before(wait) && e.context.Err() == nil; {
				time.Sleep(5 * time.Millisecond)
			}
			l.call(then)
		})
	})
}

// Pause lets the plan's clock stand still: nothing is due, and connections stay. It tells
// whether it did.
func (e *Engine) Pause() bool {
	return e.hold(func(p *pause) bool { return p.since.CompareAndSwap(0, clock.Nano()) })
}

// Resume lets it go on.
func (e *Engine) Resume() bool {
	return e.hold(func(p *pause) bool {
		since := p.since.Load()
		if since == 0 {
			return false
		}
		p.shift.Add(clock.Nano() - since)
		p.since.Store(0)
		return true
	})
}

func (e *Engine) hold(do func(*pause) bool) bool {
	e.handMu.Lock()
	defer e.handMu.Unlock()
	if !e.playing || !do(e.clock.pause) {
		return false
	}
	for _, l := range e.loops {
		l.ring()
	}
	return true
}

// Paused tells whether the plan's clock stands still.
func (e *Engine) Paused() bool {
	e.handMu.Lock()
	defer e.handMu.Unlock()
	return e.playing && e.clock.pause.since.Load() != 0
}

// Stood is for how long the plan's clock has stood still in this round.
func (e *Engine) Stood() time.Duration {
	e.handMu.Lock()
	defer e.handMu.Unlock()
	if !e.playing {
		return 0
	}
	return time.Duration(e.clock.still(clock.Nano()))
}

// End ends the round that is played, as if the time of the plan were over; no round follows.
// It tells whether one was played.
func (e *Engine) End() bool {
	e.Resume()
	e.handMu.Lock()
	defer e.handMu.Unlock()
	if !e.playing {
		return false
	}
	e.ended.Store(true)
	for _, l := range e.loops {
		l.call(func() {
			l.plan = l.plan[:0]
			heap.Init(&l.plan)
		})
	}
	return true
}

// Ended tells whether a hand ended the run.
func (e *Engine) Ended() bool { return e.ended.Load() }
