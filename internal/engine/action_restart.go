package engine

import (
	"fmt"

	"runcrowd/internal/clock"
	"runcrowd/internal/crowd"
	"runcrowd/internal/outcome"
)

// restartAction switches the device off for a while; what it changes holds from then on.
var restartAction = handling{
	prepare: func(l *loop, x *action, w work) (err error) {
		if x.then, err = l.workOut(w.device, x.Restart.Set, w.env, w.end); err != nil {
			return fmt.Errorf("restart: %w", err)
		}
		return nil
	},
	do:   func(l *loop, a *act, x *action, _ moment) string { l.switchOff(a.device, &x.Restart); return "" },
	undo: func(l *loop, a *act, x *action, m moment) { l.switchOn(a, x, m) },
}

// switchOff switches a device off.
func (l *loop) switchOff(d *device, r *crowd.Restart) {
	if r.Lose {
		for _, m := range d.kept {
			l.engine.Settled(m, clock.Nano(), outcome.Dropped, 0, "the device was restarted, and lost what it had kept")
		}
		d.kept = nil
	}
	l.goAway(d, r.End, false)
}

// switchOn switches it on again.
func (l *loop) switchOn(a *act, x *action, m moment) {
	d := a.device
	d.away--
	d.idle--
	if len(x.then) > 0 {
		changed := l.newAct(d, a.event) // for good
		changed.from, changed.actions = m.at, x.then
		for _, told := range l.do(changed, m) {
			l.tellDone(changed, told, false, "")
		}
	}
	if x.Restart.Counters {
		for _, st := range d.Streams {
			s := &l.engine.streams[st.Index]
			s.since = s.seq
		}
	}
	l.returns(d)
}
