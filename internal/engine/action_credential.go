package engine

import (
	"fmt"
	"slices"

	"runcrowd/internal/clock"
	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/link"
	"runcrowd/internal/outcome"
)

// credentialAction has the device show other credentials.
var credentialAction = handling{
	prepare: func(l *loop, x *action, w work) (err error) {
		if l.engine.see != nil {
			return nil
		}
		if x.variant, err = l.engine.fleet.Variant(w.device.Device, x.Credential); err != nil {
			return fmt.Errorf("credential: %s: %w", x.Credential, err)
		}
		return nil
	},
	do: func(l *loop, a *act, x *action, _ moment) string {
		l.setVariant(a.device)
		return x.Credential.String()
	},
	undo: func(l *loop, a *act, _ *action, _ moment) { l.setVariant(a.device) },
	next: func(o *orders, _ *action) bool { o.variant = true; return true },
}

// setVariant connects a device anew with the credentials that it shows after all that is done
// to it.
func (l *loop) setVariant(d *device) {
	if l.engine.see != nil {
		return
	}
	var g *fleet.Variant
	if x := d.last(func(x *action) bool { return x.Kind == crowd.ActionCredential }); x != nil {
		g = x.variant
	} else {
		g = d.unregistered
	}
	if d.nextVariant = g; g == d.variant && d.leaving == nil {
		return
	}
	l.leave(d, d.Cast.Link.Timeout, func() {
		if d.variant != d.nextVariant { // it may have changed while the device waited
			l.disconnect(d, false)
			d.variant = d.nextVariant
			d.refusal.Store(nil)
		}
		if d.variant == nil { // what was to go out with other credentials cannot any more
			d.kept = slices.DeleteFunc(d.kept, func(m *link.Message) bool {
				variant := m.Variant // what is settled is not the device's any more
				if variant {
					l.engine.Settled(m, clock.Nano(), outcome.Dropped, 0, "the device had its own credentials again before it could "+
						"send it")
				}
				return variant
			})
		}
		l.connect(d)
	})
}
