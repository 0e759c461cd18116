package engine

// swapAction has two messages change places.
var swapAction = handling{
	undo: func(l *loop, a *act, _ *action, _ moment) { l.unswap(a.device) },
	next: func(o *orders, _ *action) bool { o.swap = true; return false },
}

// unswap sends what waits to change its place.
func (l *loop) unswap(d *device) {
	for _, st := range d.Streams {
		if s := &l.engine.streams[st.Index]; s.held != nil {
			m := s.held
			s.held = nil
			l.emit(d, m)
		}
	}
}
