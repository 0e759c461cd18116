package engine

import (
	"container/heap"
	"fmt"
	"math"
	"strconv"
	"time"

	"runcrowd/internal/clock"
	"runcrowd/internal/crowd"
	"runcrowd/internal/formula"
	"runcrowd/internal/ledger"
	"runcrowd/internal/quantity"
)

// deed is a deed worked out for one device: nothing in it can fail any more.
type deed struct {
	*crowd.Deed
	every   time.Duration // of an interval
	value   any           // of a property
	streams []int         // the device's, that it concerns

	// What undoing it needs.
	before  any             // the property's value
	befores []time.Duration // the streams' intervals
}

// doAll does deeds to a device: all of them, or, with an error, none. It runs in the
// loop that owns the device.
func (l *loop) doAll(d *device, list []crowd.Deed, env formula.Env, end int64) ([]ledger.Deed, error) {
	worked := make([]deed, len(list))
	for i := range list {
		x, err := l.workOut(d, &list[i], env, end)
		if err != nil {
			return nil, err
		}
		worked[i] = x
	}
	did := make([]ledger.Deed, 0, len(worked))
	for i := range worked {
		did = append(did, l.do(d, &worked[i], end))
	}
	return did, nil
}

// workOut finds out all that can go wrong with a deed before anything is done.
func (l *loop) workOut(d *device, deedOf *crowd.Deed, env formula.Env, end int64) (deed, error) {
	x := deed{Deed: deedOf}
	for _, s := range d.Streams {
		if x.Name == "" || s.Reading.Name == x.Name {
			x.streams = append(x.streams, s.Index)
		}
	}
	switch x.Kind {
	case crowd.DeedInterval:
		s, err := x.Value.Expand(&l.machine, env)
		if err == nil {
			x.every, err = crowd.ParseInterval(s)
		}
		if err != nil {
			return x, fmt.Errorf("every: %w", err)
		}
	case crowd.DeedSet:
		v, err := l.property(deedOf, env)
		if err != nil {
			return x, fmt.Errorf("set: %s: %w", x.Name, err)
		}
		x.value = v
	case crowd.DeedSend:
		if clock.Nano() >= end {
			return x, fmt.Errorf("send: the round is over")
		}
	}
	return x, nil
}

// do does a deed, and keeps what undoing it needs.
func (l *loop) do(d *device, x *deed, end int64) ledger.Deed {
	now := clock.Nano()
	told := ledger.Deed{Kind: x.Kind.String(), Name: x.Name}
	switch x.Kind {
	case crowd.DeedSet:
		x.before = d.Env[x.Name]
		d.Env[x.Name] = x.value
		l.scribe.composer.Forget()
		told.Value = formula.String(x.value)
	case crowd.DeedInterval:
		for _, i := range x.streams {
			s := &l.engine.streams[i]
			x.befores = append(x.befores, s.every)
			l.pace(s, x.every, now, end)
		}
		told.Value = quantity.FormatDuration(x.every)
	case crowd.DeedSend:
		for _, i := range x.streams {
			s := &l.engine.streams[i]
			l.speak(s, now)
			s.slot-- // its schedule goes on as it was
			told.Value = strconv.FormatUint(s.seq, 10)
		}
		return told // what was sent cannot be undone
	}
	d.done = append(d.done, *x)
	return told
}

// undo takes a deed back. The last one done is undone first.
func (l *loop) undo(d *device, x *deed) {
	switch x.Kind {
	case crowd.DeedSet:
		d.Env[x.Name] = x.before
		l.scribe.composer.Forget()
	case crowd.DeedInterval:
		for k, i := range x.streams {
			l.engine.streams[i].every = x.befores[k]
		}
	}
}

// property works out the new value of a property, of the property's type.
func (l *loop) property(x *crowd.Deed, env formula.Env) (any, error) {
	var v any
	var err error
	if f := x.Value.Single(); f != nil {
		v, err = f.Any(&l.machine, env)
	} else {
		v, err = x.Value.Expand(&l.machine, env)
	}
	if err != nil {
		return nil, err
	}
	if v == nil {
		return nil, fmt.Errorf("the command does not give it")
	}
	text := formula.String(v)
	number, isNumber := crowd.Number(text)
	switch x.Sample.(type) {
	case string:
		return text, nil
	case bool:
		if text == "true" || text == "false" {
			return text == "true", nil
		}
		return nil, fmt.Errorf("it is true or false, not %q", text)
	case float64:
		if isNumber {
			return number.Float(), nil
		}
	case int:
		if isNumber && number.Float() == math.Trunc(number.Float()) && math.Abs(number.Float()) < 1<<53 {
			return int(number.Float()), nil
		}
		if isNumber {
			return nil, fmt.Errorf("it is a whole number, not %s", text)
		}
	case quantity.Position:
		return quantity.ParsePosition(text)
	default:
		return v, nil
	}
	return nil, fmt.Errorf("it is a number, not %q", text)
}

// pace gives a stream another interval from now on.
func (l *loop) pace(s *stream, every time.Duration, now, end int64) {
	s.every, s.base = every, now
	due := s.due(l.engine.begin.UnixNano())
	for i := range l.entries {
		if x := &l.entries[i]; x.what == speaks && x.index == s.Index {
			if x.at = due; due >= end {
				heap.Remove(&l.entries, i)
			} else {
				heap.Fix(&l.entries, i)
			}
			return
		}
	}
	if due < end {
		heap.Push(&l.entries, entry{at: due, what: speaks, index: s.Index})
	}
}
