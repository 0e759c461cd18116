package engine

import (
	"math"
	"slices"
	"time"

	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/formula"
	"runcrowd/internal/ledger"
	"runcrowd/internal/signal"
)

// act is actions that are done to one device together, and undone together: by an event of
// the plan, or by a command.
type act struct {
	device  *device
	event   *crowd.Event // nil: a command does it
	n       int          // its place among the loop's acts
	from    int64        // by the plan's clock
	to      int64        // the same; 0: no end
	actions []action
	told    bool         // it was done before the run went on, and is done again
	left    map[int]bool // streams whose next message it concerns; nil: all messages
}

// action is an action worked out for one device: nothing in it can fail any more.
type action struct {
	*crowd.Action
	every   time.Duration // of an interval
	value   any           // of a property
	alter   fleet.Alteration
	variant *fleet.Variant
	topic   string
	kept    map[int]*signal.Value // by stream: where a field is stuck
	then    []action              // of a restart: what it changes
}

// concerns tells whether an action is about a stream.
func (x *action) concerns(s *stream) bool { return x.Reading == "" || x.Reading == s.Reading.InFile() }

// handling is how one kind of action is done. What is nil is not needed.
type handling struct {
	// prepare finds out all that can go wrong before anything is done.
	prepare func(l *loop, x *action, w work) error
	// do does it, and tells what was done.
	do func(l *loop, a *act, x *action, m moment) (told string)
	// outside does it with the platform's side, which is told later.
	outside func(l *loop, a *act, x *action, told ledger.Action)
	// undo takes it back, where a is not among the device's acts any more: what others still
	// want of the device stays.
	undo func(l *loop, a *act, x *action, m moment)
	// next says what it does to the next message, and whether the platform has to do
	// something else with that one.
	next func(o *orders, x *action) bool
}

// work is what an action is prepared for.
type work struct {
	device *device
	env    formula.Env
	end    int64 // of the round, by the plan's clock
}

// moment is when something is done, and when the round ends, both by the plan's clock.
type moment struct{ at, end int64 }

// handlings has one for each kind of action.
var handlings [len(crowd.ActionNames)]handling

func init() { // they use the engine, which uses them
	handlings = [...]handling{
		crowd.ActionRegister:   registerAction,
		crowd.ActionCredential: credentialAction,
		crowd.ActionSet:        setAction,
		crowd.ActionStuck:      stuckAction,
		crowd.ActionErratic:    erraticAction,
		crowd.ActionMissing:    missingAction,
		crowd.ActionClock:      clockAction,
		crowd.ActionNetwork:    networkAction,
		crowd.ActionInterval:   intervalAction,
		crowd.ActionCorrupt:    corruptAction,
		crowd.ActionRepeat:     repeatAction,
		crowd.ActionSwap:       swapAction,
		crowd.ActionConnect:    connectAction,
		crowd.ActionOffline:    offlineAction,
		crowd.ActionRestart:    restartAction,
		crowd.ActionSend:       sendAction,
		crowd.ActionCommand:    commandAction,
		crowd.ActionLeave:      leaveAction,
		crowd.ActionUnregister: unregisterAction,
	}
}

// workOut finds out all that can go wrong with actions before any is done: all of them are
// done, or none.
func (l *loop) workOut(d *device, list []crowd.Action, env formula.Env, end int64) ([]action, error) {
	worked := make([]action, len(list))
	for i := range list {
		worked[i] = action{Action: &list[i]}
		if prepare := handlings[list[i].Kind].prepare; prepare != nil {
			if err := prepare(l, &worked[i], work{d, env, end}); err != nil {
				return nil, err
			}
		}
	}
	return worked, nil
}

// do does what an act says, and tells it as data.
func (l *loop) do(a *act, m moment) []ledger.Action {
	d := a.device
	if a.to == 0 && len(a.actions) > 0 && !slices.ContainsFunc(a.actions,
		func(x action) bool { return !x.Kind.Replaces() }) {
		d.acts = slices.DeleteFunc(d.acts, func(b *act) bool { // long runs do the same again and again
			again := b.to == 0 && len(b.actions) > 0 && b.actions[0].Action == a.actions[0].Action
			if again {
				l.tellOver(b)
				l.release(b)
			}
			return again
		})
	}
	d.acts = append(d.acts, a)
	told := make([]ledger.Action, 0, len(a.actions))
	for i := range a.actions {
		told = append(told, l.doOne(a, &a.actions[i], m))
	}
	return told
}

func (l *loop) doOne(a *act, x *action, m moment) ledger.Action {
	told := ledger.Action{Kind: x.Kind.String(), Name: x.Name}
	if told.Name == "" {
		told.Name = x.Reading
	}
	switch h := &handlings[x.Kind]; {
	case h.outside != nil:
		h.outside(l, a, x, told)
	case h.do != nil:
		told.Value = h.do(l, a, x, m)
	}
	return told
}

// undo takes an act back.
func (l *loop) undo(a *act, m moment) {
	a.device.acts = slices.DeleteFunc(a.device.acts, func(b *act) bool { return b == a })
	for i := len(a.actions) - 1; i >= 0; i-- {
		if undo := handlings[a.actions[i].Kind].undo; undo != nil {
			undo(l, a, &a.actions[i], m)
		}
	}
}

// last is the last action of a sort that is done to a device; nil for none.
func (d *device) last(is func(x *action) bool) *action {
	for i := len(d.acts) - 1; i >= 0; i-- {
		for k := len(d.acts[i].actions) - 1; k >= 0; k-- {
			if x := &d.acts[i].actions[k]; is(x) {
				return x
			}
		}
	}
	return nil
}

// orders are what is done to one message.
type orders struct {
	meant   ledger.Meant
	corrupt *action
	repeat  int
	swap    bool
	variant bool
}

// orders finds out what is done to the next message of a stream.
func (d *device) orders(s *stream) (o orders) {
	for _, a := range d.acts {
		if a.left != nil && !a.left[s.Index] {
			continue
		}
		touched := false
		for i := range a.actions {
			x := &a.actions[i]
			if next := handlings[x.Kind].next; next != nil && x.concerns(s) {
				touched = next(&o, x) || touched
			}
		}
		if touched && a.event != nil {
			o.meant = stricter(o.meant, meantOf(a.event.Expect))
		}
	}
	return o
}

// said tells those acts that concern the next message alone that it has gone out.
func (d *device) passed(s *stream, l *loop) {
	for _, a := range slices.Clone(d.acts) {
		if a.left == nil || !a.left[s.Index] {
			continue
		}
		if delete(a.left, s.Index); len(a.left) == 0 {
			l.tellOver(a)
			l.undo(a, moment{l.at, math.MaxInt64})
			l.release(a)
		}
	}
}

// meantOf is what the platform has to do, as the ledger has it.
func meantOf(x crowd.Expect) ledger.Meant {
	return [...]ledger.Meant{ledger.ToKeep, ledger.ToRefuse, ledger.ToDiscard, ledger.ToKeepOne}[x]
}

// stricter is the stricter of two.
func stricter(a, b ledger.Meant) ledger.Meant {
	rank := [...]int{ledger.ToKeep: 0, ledger.ToKeepOne: 1, ledger.ToDiscard: 2, ledger.ToRefuse: 3}
	if rank[b] > rank[a] {
		return b
	}
	return a
}
