package engine

import (
	"slices"
	"time"

	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
)

// offlineAction takes the device off the network for a while.
var offlineAction = handling{
	do:   func(l *loop, a *act, x *action, _ moment) string { return l.goOffline(a, &x.Offline) },
	undo: func(l *loop, a *act, x *action, _ moment) { l.comeBack(a.device, &x.Offline) },
}

// acknowledging is how long a device that a command takes off the network stays on it: the
// acknowledgement of the command must come through, or it is given again.
const acknowledging = 200 * time.Millisecond

// goOffline takes a device off the network.
func (l *loop) goOffline(a *act, f *crowd.Offline) string {
	d := a.device
	says := f.How.String()
	if f.Idle {
		d.idle++
		says += ", measures nothing"
	} else {
		d.back = f
	}
	d.away++
	if d.Gateway != nil { // its gateway stays
		d.here = false
	}
	if l.engine.see != nil || d.Gateway != nil || d.away > 1 { // it has no connection
		return says
	}
	most := time.Duration(0)
	if d.Cast.Link.Protocol == crowd.HTTP || slices.ContainsFunc(d.Streams,
		func(s *fleet.Stream) bool { return s.Reading.QoS == 2 }) {
		most = d.Cast.Link.Timeout // what is under way could not be told from what was never taken
	}
	least := time.Duration(0)
	if a.event == nil {
		least = acknowledging
	}
	switch f.How {
	case crowd.Cleanly:
		l.leave(d, d.Cast.Link.Timeout, func() { l.disconnect(d, false) })
	case crowd.ByCut:
		l.leaveAfter(d, least, most, func() {
			d.lost()
			d.shape.Cut()
		})
	case crowd.BySilence:
		l.leaveAfter(d, least, most, d.shape.Silence)
	}
	return says
}

// comeBack brings a device back to the network.
func (l *loop) comeBack(d *device, f *crowd.Offline) {
	d.away--
	if f.Idle {
		d.idle--
	}
	l.returns(d)
}

// returns lets a device that nothing keeps away any more connect.
func (l *loop) returns(d *device) {
	if d.away > 0 {
		return
	}
	if l.engine.see != nil {
		d.here = false
		l.connect(d)
		return
	}
	if x := d.leaving; x != nil { // it has not gone yet: it goes, and comes back
		before := x.then
		x.then = func() {
			before()
			l.returns(d)
		}
		return
	}
	if d.shape != nil {
		if d.shape.Silent() { // what it had is over: nothing that it kept may go there
			d.lost()
		}
		d.shape.Mend()
	}
	if d.conn != nil {
		d.conn.Wake()
	}
	if d.presence().Sleeps && len(d.kept) >= d.presence().After {
		l.wakeUp(d)
		return
	}
	l.connect(d)
}

// lost lets nothing more go out on the connection that a device has.
func (d *device) lost() {
	if d.conn != nil {
		d.conn.Lost()
	}
}
