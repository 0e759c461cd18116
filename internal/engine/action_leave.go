package engine

// leaveAction has the device leave.
var leaveAction = handling{
	do: func(l *loop, a *act, _ *action, _ moment) string { l.goAway(a.device, false, a.to == 0); return "" },
	undo: func(l *loop, a *act, _ *action, _ moment) {
		a.device.away--
		a.device.idle--
		l.returns(a.device)
	},
}

// connectAction has a device come only now.
var connectAction = handling{
	do: func(l *loop, a *act, _ *action, _ moment) string { l.joined(a.device); return "" },
}

// goAway makes a device leave as the protocol wants it, and measure nothing.
func (l *loop) goAway(d *device, endSession, forGood bool) {
	d.away++
	d.idle++
	if d.away > 1 { // it has left, in whatever way
		return
	}
	l.leave(d, d.Cast.Link.Timeout, func() { l.disconnect(d, endSession || forGood && l.engine.lastRound()) })
}
