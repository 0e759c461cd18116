package run

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"runcrowd/internal/ask"
	"runcrowd/internal/crowd"
	"runcrowd/internal/engine"
	"runcrowd/internal/fleet"
	"runcrowd/internal/link"
	"runcrowd/internal/quantity"
	"runcrowd/internal/register"
)

// outside is the platform's side for the actions of a run.
type outside struct {
	fleet     *fleet.Fleet
	network   link.Network
	turn      chan struct{} // one registration at a time; who has it may use registrar
	registrar *register.Registrar
}

// newOutside makes it. Where the plan registers devices, what that needs is there before
// anything is sent; a hand gets it when it is wanted.
func newOutside(f *fleet.Fleet, network link.Network) (engine.Outside, error) {
	o := &outside{fleet: f, network: network, turn: make(chan struct{}, 1)}
	if slices.ContainsFunc(f.Crowd.Plan.Events, func(e *crowd.Event) bool {
		return e.Does(crowd.ActionRegister,
			crowd.ActionUnregister)
	}) {
		if err := o.open(); err != nil {
			return nil, err
		}
	}
	return o, nil
}

// open makes what registering needs. The caller has the turn, or is alone.
func (o *outside) open() (err error) {
	if o.registrar == nil {
		o.registrar, err = register.New(o.fleet, o.network)
	}
	return err
}

// wait waits for its turn to register, which the caller ends.
func (o *outside) wait(ctx context.Context) (end func(), err error) {
	select {
	case o.turn <- struct{}{}:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	end = func() { <-o.turn }
	if err := o.open(); err != nil {
		end()
		return nil, err
	}
	return end, nil
}

// Register implements engine.Outside.
func (o *outside) Register(ctx context.Context, d *fleet.Device) (map[string]string, error) {
	end, err := o.wait(ctx)
	if err != nil {
		return nil, err
	}
	defer end()
	return o.registrar.RegisterOne(ctx, d)
}

// Unregister implements engine.Outside.
func (o *outside) Unregister(ctx context.Context, d *fleet.Device) error {
	end, err := o.wait(ctx)
	if err != nil {
		return err
	}
	defer end()
	return o.registrar.UnregisterOne(ctx, d)
}

// answerWait is how long a command's answer is waited for.
const answerWait = 10 * time.Second

// Ask implements engine.Outside.
func (o *outside) Ask(ctx context.Context, d *fleet.Device, x *crowd.Action) (string, error) {
	q := &ask.Question{Crowd: o.fleet.Crowd, Credentials: o.fleet.Credentials, Device: d, Values: map[string]any{},
		Link: x.Link, Wait: answerWait, Network: o.network}
	for _, k := range d.Commands {
		if k.Name == x.Name {
			q.Command = k
		}
	}
	if q.Command == nil {
		return "", fmt.Errorf("%s has no command %q", d.Name, x.Name)
	}
	for _, m := range x.Ask {
		q.Values[m.Name] = m.Value.Any()
	}
	if q.Link == nil {
		q.Link = o.asker(d)
	}
	a, err := q.Ask(ctx)
	switch {
	case err != nil:
		return "", err
	case a.Refused:
		return "", fmt.Errorf("the platform refused to give it: %s", a.Said)
	case a.Nobody:
		return "", errors.New("the broker says that nobody listens for it")
	case !a.Wanted:
		return "given", nil
	case !a.Answered && ctx.Err() != nil:
		return "", errors.New("the round ended before an answer came")
	case !a.Answered:
		return "", fmt.Errorf("no answer within %s", quantity.FormatDuration(answerWait))
	case a.Denied:
		return "", errors.New("the device answered that it was not done")
	}
	return "answered", nil
}

// asker is the link as whom a command is published: that of a witness, or the device's.
func (o *outside) asker(d *fleet.Device) *crowd.Link {
	for _, w := range o.fleet.Crowd.Witnesses {
		if len(w.Filters) > 0 && w.Link != nil && w.Link.GuestErr == nil && w.Link.Address == d.Cast.Link.Address {
			return w.Link
		}
	}
	return d.Cast.Link
}
