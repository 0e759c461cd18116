package engine

import (
	"container/heap"
	"fmt"

	"runcrowd/internal/crowd"
	"runcrowd/internal/quantity"
)

// intervalAction has readings sent at another interval.
var intervalAction = handling{
	prepare: func(l *loop, x *action, w work) error {
		if x.Never {
			return nil
		}
		s, err := x.Value.Expand(&l.machine, w.env)
		if err == nil {
			x.every, err = crowd.ParseInterval(s)
		}
		if err != nil {
			return fmt.Errorf("every: %w", err)
		}
		return nil
	},
	do: func(l *loop, a *act, x *action, m moment) string {
		if l.setIntervals(a.device, x.Reading, m); x.Never {
			return "never"
		}
		return quantity.FormatDuration(x.every)
	},
	undo: func(l *loop, a *act, x *action, m moment) { l.setIntervals(a.device, x.Reading, m) },
}

// setIntervals gives the streams of a reading, or all, the interval that they have after
// all that is done to the device.
func (l *loop) setIntervals(d *device, reading string, m moment) {
	for _, st := range d.Streams {
		s := &l.engine.streams[st.Index]
		if s.Reading.OnConnect || reading != "" && s.Reading.InFile() != reading {
			continue
		}
		x := d.last(func(x *action) bool { return x.Kind == crowd.ActionInterval && x.concerns(s) })
		s.never = x != nil && x.Never
		switch {
		case x == nil:
			s.resume(l.engine.begin.UnixNano(), m.at)
		case !x.Never:
			s.every, s.base = x.every, m.at
		}
		l.schedule(s, m.end)
	}
}

// schedule puts a stream's next message into the plan anew.
func (l *loop) schedule(s *stream, end int64) {
	s.next = 0 // an entry that it has is stale from now on
	if s.never || s.Reading.OnConnect || s.Device.Cast.Recording != nil || l.engine.devices[s.Device.Index].quiet {
		return
	}
	if due := s.due(l.engine.begin.UnixNano()); due < end {
		s.next = due
		heap.Push(&l.plan, entry{at: due, what: speaks, index: s.Index})
	}
}
