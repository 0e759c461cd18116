package engine

import (
	"errors"
	"strconv"

	"runcrowd/internal/clock"
)

// sendAction sends readings now, beside their schedule; it tells the number of the last message.
var sendAction = handling{
	prepare: func(l *loop, _ *action, w work) error {
		if l.engine.see == nil && !l.engine.clock.max && clock.Nano() >= l.engine.clock.when(w.end) {
			return errors.New("send: the round is over")
		}
		return nil
	},
	do: func(l *loop, a *act, x *action, m moment) (told string) {
		d := a.device
		for range max(1, x.Times) {
			for _, st := range d.Streams {
				if s := &l.engine.streams[st.Index]; x.concerns(s) && d.joined && d.idle == 0 {
					l.speak(s, m.at)
					s.slot-- // its schedule goes on as it was
					told = strconv.FormatUint(s.seq, 10)
				}
			}
		}
		return told
	},
}
