package engine

import (
	"context"
	"slices"

	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/ledger"
)

// Outside is the platform's side, as far as actions need it. Its methods block, and may be
// called from several goroutines.
type Outside interface {
	// Register registers a device, and tells what the platform gave it.
	Register(ctx context.Context, d *fleet.Device) (kept map[string]string, err error)
	// Unregister removes it.
	Unregister(ctx context.Context, d *fleet.Device) error
	// Ask makes the platform give a command, and waits for the answer. The error says why
	// there is none, or none that says that it was done.
	Ask(ctx context.Context, d *fleet.Device, x *crowd.Action) (says string, err error)
}

// registerAction registers the device.
var registerAction = handling{
	outside: func(l *loop, a *act, _ *action, told ledger.Action) { l.register(a, told) },
}

// unregisterAction removes it; until it is registered again, it must not get in.
var unregisterAction = handling{
	outside: func(l *loop, a *act, _ *action, told ledger.Action) { l.unregister(a, told) },
	next:    func(o *orders, _ *action) bool { o.variant = true; return true },
}

// commandAction makes the platform give a command.
var commandAction = handling{
	outside: func(l *loop, a *act, x *action, told ledger.Action) {
		d := a.device
		if l.engine.see == nil {
			d.busy++
		}
		l.outside(a, told, func(ctx context.Context, now *fleet.Device) (string, error) {
			return l.engine.Outside.Ask(ctx, now, x.Action)
		}, func(error) { d.busy-- })
	},
}

// outside does an action that needs the platform's side, beside the loop, to the device as it
// is now; then, in the loop, something follows. What is to be told is told then.
func (l *loop) outside(a *act, told ledger.Action, do func(ctx context.Context, d *fleet.Device) (string, error),
	then func(err error)) {
	e := l.engine
	if e.see != nil || e.Outside == nil {
		return
	}
	now := *a.device.Device // the loop goes on and changes it
	e.beside.Go(func() {
		says, err := do(e.context, &now)
		told.Value = says
		why := ""
		if err != nil {
			why = e.fleet.Crowd.Redact(err.Error())
		}
		l.call(func() {
			l.tellDone(a, told, false, why)
			if then != nil {
				then(err)
			}
		})
	})
}

// call has the loop do something.
func (l *loop) call(f func()) {
	l.inboxMu.Lock()
	l.calls = append(l.calls, f)
	l.inboxMu.Unlock()
	l.ring()
}

// called takes what the loop is to do.
func (l *loop) called() []func() {
	l.inboxMu.Lock()
	defer l.inboxMu.Unlock()
	list := l.calls
	l.calls = nil
	return list
}

// register registers a device; until it is, it does not connect.
func (l *loop) register(a *act, told ledger.Action) {
	d, e := a.device, l.engine
	if e.see != nil {
		l.registered(d)
		return
	}
	var kept map[string]string
	d.away++
	d.busy++
	l.leave(d, d.Cast.Link.Timeout, func() {
		l.disconnect(d, false)
		l.outside(a, told, func(ctx context.Context, now *fleet.Device) (_ string, err error) {
			kept, err = e.Outside.Register(ctx, now)
			return "", err
		}, func(err error) {
			d.busy--
			if err == nil {
				err = e.fleet.Rekey(d.Device, kept)
				l.bodies.composer.Forget()
			}
			switch {
			case err == nil:
				l.registered(d)
			case d.unregistered == nil && e.fleet.Keyed(d.Device): // it was registered before
			default:
				return // without what the platform gives it, it cannot connect
			}
			d.away--
			l.setVariant(d)
			if l.returns(d); err == nil && d.late && !d.joinsLater {
				l.joined(d) // it had waited for it
			}
		})
	})
}

// registered ends what a removal did to a device: it is let in again.
func (l *loop) registered(d *device) {
	d.unregistered = nil
	for _, a := range d.acts {
		a.actions = slices.DeleteFunc(a.actions, func(x action) bool { return x.Kind == crowd.ActionUnregister })
	}
}

// unregister removes a device, which then tries to come in all the same.
func (l *loop) unregister(a *act, told ledger.Action) {
	d, e := a.device, l.engine
	if e.see != nil {
		return
	}
	d.away++
	d.idle++
	d.busy++
	l.leave(d, d.Cast.Link.Timeout, func() {
		l.disconnect(d, false)
		l.outside(a, told, func(ctx context.Context, now *fleet.Device) (string, error) {
			return "", e.Outside.Unregister(ctx, now)
		}, func(err error) {
			d.away--
			d.idle--
			d.busy--
			if err != nil { // it is registered still, and nothing need refuse it
				l.undo(a, moment{l.at, l.at})
			} else {
				d.unregistered = &fleet.Variant{Identity: d.Identity()}
				d.unregistered.Identity.Stranger = true
			}
			l.setVariant(d)
			l.returns(d)
		})
	})
}
