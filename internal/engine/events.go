package engine

import (
	"container/heap"
	"slices"
	"sync"
	"time"

	"runcrowd/internal/clock"
	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/ledger"
	"runcrowd/internal/timeline"
)

// story is what happens in a round, a part of its time at once. The loops share it.
type story struct {
	line *timeline.Timeline

	mu    sync.Mutex
	parts map[int64][]timeline.Happening // by number
}

// storyPart is how much of a round is worked out at once.
const storyPart = time.Minute

// part lists what begins in the n-th part of the round.
func (s *story) part(n int64) []timeline.Happening {
	s.mu.Lock()
	defer s.mu.Unlock()
	list, known := s.parts[n]
	if !known {
		list = s.line.Between(time.Duration(n)*storyPart, time.Duration(n+1)*storyPart)
		if len(s.parts) > 16 { // loops are seldom far apart
			clear(s.parts)
		}
		s.parts[n] = list
	}
	return list
}

// look puts what happens in the next part of the round into the plan.
func (l *loop) look(at, end int64) {
	e := l.engine
	begin := e.begin.UnixNano()
	n := (at - begin) / int64(storyPart)
	for _, h := range e.story.part(n) {
		if from := begin + int64(h.From); e.loopOf(h.Device) == l && e.plays(h.Device) && from < end {
			d, event, to := &e.devices[h.Device], e.fleet.Crowd.Plan.Events[h.Event], int64(0)
			if h.To != timeline.Never {
				to = begin + int64(h.To)
			}
			before := from < e.resumed
			if before {
				if event, to = l.stillDone(d, event, to); event == nil {
					continue
				}
				from = e.resumed
			}
			a := l.newAct(d, event)
			a.from, a.to, a.told = from, to, before && to == 0
			heap.Push(&l.plan, entry{at: from, what: begins, index: a.n})
		}
	}
	if next := begin + (n+1)*int64(storyPart); next < end {
		heap.Push(&l.plan, entry{at: next, what: looks})
	}
}

func (l *loop) newAct(d *device, event *crowd.Event) *act {
	if n := len(l.free); n > 0 {
		a := l.acts[l.free[n-1]]
		l.free = l.free[:n-1]
		*a = act{device: d, event: event, n: a.n}
		return a
	}
	a := &act{device: d, event: event, n: len(l.acts)}
	l.acts = append(l.acts, a)
	return a
}

// release lets the place of an act be used again: nothing in the plan names it.
func (l *loop) release(a *act) { l.free = append(l.free, a.n) }

// befall does an event to a device.
func (l *loop) befall(index int, at, end int64) {
	e := l.engine
	a := l.acts[index]
	d := a.device
	list := a.event.Do[d.Cast]
	worked, err := l.workOut(d, list, d.Env, end)
	if err != nil {
		l.tellDone(a, ledger.Action{Kind: list[0].Kind.String(), Name: list[0].Name}, false,
			e.fleet.Crowd.Redact(err.Error()))
		l.release(a)
		return
	}
	a.actions = worked
	l.perform(a, at, end)
}

// perform does an act, tells it, and puts its end into the plan.
func (l *loop) perform(a *act, at, end int64) []ledger.Action {
	d := a.device
	is := func(of func(k crowd.ActionKind) bool) bool {
		return slices.ContainsFunc(a.actions, func(x action) bool { return of(x.Kind) })
	}
	if a.to == 0 && is(crowd.ActionKind.Next) {
		a.left = map[int]bool{}
		for _, s := range d.Streams {
			if slices.ContainsFunc(a.actions, func(x action) bool {
				return x.Kind.Next() &&
					x.concerns(&l.engine.streams[s.Index])
			}) {
				a.left[s.Index] = true
			}
		}
	}
	did := l.do(a, moment{at, end})
	for i, told := range did {
		if !a.actions[i].Kind.Outside() { // those are told when they are done
			l.tellDone(a, told, false, "")
		}
	}
	switch {
	case a.to > 0 && a.to < end:
		heap.Push(&l.plan, entry{at: a.to, what: ends, index: a.n})
	case a.to == 0 && !is(func(k crowd.ActionKind) bool { return !k.Momentary() }):
		d.acts = slices.DeleteFunc(d.acts, func(b *act) bool { return b == a })
		if !is(crowd.ActionKind.Outside) { // answers are still to come
			l.release(a)
		}
	}
	return did
}

// pass ends an event for a device.
func (l *loop) pass(index int, at, end int64) {
	a := l.acts[index]
	l.tellOver(a)
	l.undo(a, moment{at, end})
	l.release(a)
}

// tellOver notes that an act is over.
func (l *loop) tellOver(a *act) {
	for i := range a.actions {
		x := &a.actions[i]
		l.tellDone(a, ledger.Action{Kind: x.Kind.String(), Name: x.Name}, true, "")
	}
}

// tellDone notes what an act did, or that it is over. What a command did stands with the
// command; here, only that it disturbed the device.
func (l *loop) tellDone(a *act, told ledger.Action, over bool, why string) {
	d := a.device
	if l.engine.see != nil || len(d.Streams) == 0 {
		return
	}
	if a.told {
		return // it was told when it was done, before the run went on
	}
	told.Value = l.engine.fleet.Crowd.Redact(told.Value)
	x := &ledger.Done{Stream: d.Streams[0].Index, Round: l.engine.round, Action: told, At: clock.Now(), Over: over,
		Why: why}
	kind := crowd.ActionKind(slices.Index(crowd.ActionNames[:], told.Kind))
	x.Lasts = !over && (a.to > 0 || !kind.Momentary() && !kind.Next())
	if a.event != nil {
		x.Event = a.event.Title()
	}
	switch told.Kind {
	case crowd.ActionOffline.String():
		x.Disturbs = why == ""
		x.Broke = why == "" && slices.ContainsFunc(a.actions, func(x action) bool {
			return x.Kind == crowd.ActionOffline &&
				x.Offline.How != crowd.Cleanly
		})
	case crowd.ActionNetwork.String(): // what is slow is lost where it is cut
		x.Broke, x.Disturbs = why == "" && l.engine.cuts(d), why == ""
	case crowd.ActionRestart.String(), crowd.ActionLeave.String(), crowd.ActionCredential.String():
		x.Disturbs = why == ""
	}
	if a.event != nil || x.Disturbs {
		d.page.Done(x)
	}
}

// cuts tells whether the plan cuts connections of a device, at whatever time.
func (e *Engine) cuts(d *device) bool {
	is := func(x crowd.Action) bool {
		return x.Kind == crowd.ActionNetwork && x.Network.CutAfter > 0 ||
			x.Kind == crowd.ActionOffline && x.Offline.How != crowd.Cleanly
	}
	for _, event := range e.fleet.Crowd.Plan.Events {
		if slices.ContainsFunc(event.Do[d.Cast], is) {
			return true
		}
	}
	return slices.ContainsFunc(d.Commands, func(k *fleet.Command) bool { return slices.ContainsFunc(k.Do, is) })
}

// late tells which devices come only when an event says so: when they join, or are
// registered.
func (e *Engine) late() (late, joins map[int]bool) {
	late, joins = map[int]bool{}, map[int]bool{}
	unknown := map[int]bool{}
	for _, d := range e.fleet.NotRegistered() {
		unknown[d.Index] = true
	}
	for i, event := range e.fleet.Crowd.Plan.Events {
		join, register := event.Does(crowd.ActionConnect), event.Does(crowd.ActionRegister)
		if !join && !register {
			continue
		}
		for _, d := range e.story.line.Who(i) {
			joins[d] = joins[d] || join
			late[d] = late[d] || join || unknown[d]
		}
	}
	return late, joins
}
