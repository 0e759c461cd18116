package engine

import (
	"bytes"
	"container/heap"
	"context"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"runcrowd/internal/clock"
	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/formula"
	"runcrowd/internal/ledger"
	"runcrowd/internal/link"
	"runcrowd/internal/outcome"
	"runcrowd/internal/quantity"
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
func (x *action) concerns(s *stream) bool { return x.Reading == "" || x.Reading == s.Reading.Name }

// workOut finds out all that can go wrong with actions before any is done: all of them are
// done, or none.
func (l *loop) workOut(d *device, list []crowd.Action, env formula.Env, end int64) ([]action, error) {
	worked := make([]action, len(list))
	for i := range list {
		x, err := l.work(d, &list[i], env, end)
		if err != nil {
			return nil, err
		}
		worked[i] = x
	}
	return worked, nil
}

func (l *loop) work(d *device, of *crowd.Action, env formula.Env, end int64) (action, error) {
	x := action{Action: of}
	var err error
	switch x.Kind {
	case crowd.ActionInterval:
		if x.Never {
			break
		}
		s := ""
		if s, err = x.Value.Expand(&l.machine, env); err == nil {
			x.every, err = crowd.ParseInterval(s)
		}
		if err != nil {
			return x, fmt.Errorf("every: %w", err)
		}
	case crowd.ActionSet:
		if x.Field {
			x.alter = fleet.Alteration{Field: x.Name, How: fleet.AlterSet, Text: x.Value}
			if x.Value.Fixed() {
				x.alter.Text, x.alter.Value = nil, fixedValue(x.Value.Source(), x.Sample)
			}
			break
		}
		if x.value, err = l.property(of, env); err != nil {
			return x, fmt.Errorf("set: %s: %w", x.Name, err)
		}
	case crowd.ActionStuck:
		x.alter, x.kept = fleet.Alteration{Field: x.Name, How: fleet.AlterStuck}, map[int]*signal.Value{}
	case crowd.ActionErratic:
		x.alter = fleet.Alteration{Field: x.Name, How: fleet.AlterErratic, By: x.By}
	case crowd.ActionMissing:
		x.alter = fleet.Alteration{Field: x.Name, How: fleet.AlterMissing}
	case crowd.ActionSend:
		if l.engine.see == nil && !l.engine.clock.max && clock.Nano() >= l.engine.clock.when(end) {
			return x, fmt.Errorf("send: the round is over")
		}
	case crowd.ActionCredential:
		if l.engine.see != nil {
			break
		}
		if x.variant, err = l.engine.fleet.Variant(d.Device, x.Credential); err != nil {
			return x, fmt.Errorf("credential: %s: %w", x.Credential, err)
		}
	case crowd.ActionRestart:
		if x.then, err = l.workOut(d, x.Restart.Set, env, end); err != nil {
			return x, fmt.Errorf("restart: %w", err)
		}
	case crowd.ActionCorrupt:
		if x.Corrupt != crowd.CorruptTopic {
			break
		}
		x.topic, err = x.Value.Expand(&l.machine, env)
		switch {
		case err != nil:
		case d.Cast.Link.Protocol == crowd.MQTT:
			err = crowd.CheckTopic(x.topic)
		default:
			err = crowd.CheckPath(x.topic)
		}
		if err != nil {
			return x, fmt.Errorf("corrupt: topic: %w", err)
		}
	}
	return x, nil
}

// fixedValue is a value that stands in the file, of the type of a sample.
func fixedValue(s string, sample any) signal.Value {
	number, is := crowd.Number(s)
	switch sample.(type) {
	case bool:
		return signal.OfBool(s == "true")
	case int, int64, uint64:
		if is && number.Float() == math.Trunc(number.Float()) && math.Abs(number.Float()) < 1<<53 {
			return signal.OfInt(int64(number.Float()))
		}
	}
	if _, text := sample.(string); is && !text {
		return signal.OfFloat(number.Float())
	}
	return signal.OfText(s)
}

// do does what an act says, and tells it as data.
func (l *loop) do(a *act, at, end int64) []ledger.Action {
	d := a.device
	if a.to == 0 && len(a.actions) > 0 && !slices.ContainsFunc(a.actions, func(x action) bool { return !x.Kind.Replaces() }) {
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
		told = append(told, l.doOne(a, &a.actions[i], at, end))
	}
	return told
}

func (l *loop) doOne(a *act, x *action, at, end int64) ledger.Action {
	d := a.device
	told := ledger.Action{Kind: x.Kind.String(), Name: x.Name}
	if told.Name == "" {
		told.Name = x.Reading
	}
	switch x.Kind {
	case crowd.ActionRegister:
		l.register(a, told)
	case crowd.ActionUnregister:
		l.unregister(a, told)
	case crowd.ActionCommand:
		if l.engine.see == nil {
			d.busy++
		}
		l.outside(a, told, func(ctx context.Context, now *fleet.Device) (string, error) {
			return l.engine.Outside.Ask(ctx, now, x.Action)
		}, func(error) { d.busy-- })
	case crowd.ActionSet:
		if x.Field {
			told.Value = x.Value.Source()
			break
		}
		l.setProperty(d, x.Name)
		told.Value = formula.String(x.value)
	case crowd.ActionErratic:
		told.Value = "by at most " + strconv.FormatFloat(x.By, 'f', -1, 64)
	case crowd.ActionInterval:
		l.setIntervals(d, x.Reading, at, end)
		if told.Value = quantity.FormatDuration(x.every); x.Never {
			told.Value = "never"
		}
	case crowd.ActionSend:
		for range max(1, x.Times) {
			for _, st := range d.Streams {
				if s := &l.engine.streams[st.Index]; x.concerns(s) && d.joined && d.idle == 0 {
					l.speak(s, at)
					s.slot-- // its schedule goes on as it was
					told.Value = strconv.FormatUint(s.seq, 10)
				}
			}
		}
	case crowd.ActionClock:
		told.Value = clockText(x.Clock)
	case crowd.ActionNetwork:
		l.setNetwork(d)
		told.Value = networkText(&x.Network)
	case crowd.ActionCredential:
		told.Value = x.Credential.String()
		l.setVariant(d)
	case crowd.ActionCorrupt:
		if told.Value = x.Corrupt.String(); x.topic != "" {
			told.Value = "to " + x.topic
		}
	case crowd.ActionRepeat:
		told.Value = moreTimes(x.Times)
	case crowd.ActionOffline:
		told.Value = l.goOffline(a, &x.Offline)
	case crowd.ActionRestart:
		l.switchOff(d, &x.Restart)
	case crowd.ActionLeave:
		l.goAway(d, false, a.to == 0)
	case crowd.ActionConnect:
		l.joined(d)
	}
	return told
}

// undo takes an act back: what others still want of the device stays.
func (l *loop) undo(a *act, at, end int64) {
	d := a.device
	d.acts = slices.DeleteFunc(d.acts, func(b *act) bool { return b == a })
	for i := len(a.actions) - 1; i >= 0; i-- {
		x := &a.actions[i]
		switch x.Kind {
		case crowd.ActionSet:
			if !x.Field {
				l.setProperty(d, x.Name)
			}
		case crowd.ActionInterval:
			l.setIntervals(d, x.Reading, at, end)
		case crowd.ActionNetwork:
			l.setNetwork(d)
		case crowd.ActionCredential:
			l.setVariant(d)
		case crowd.ActionOffline:
			l.comeBack(d, &x.Offline)
		case crowd.ActionRestart:
			l.switchOn(a, x, at, end)
		case crowd.ActionLeave:
			d.away--
			d.idle--
			l.returns(d)
		case crowd.ActionSwap:
			l.unswap(d)
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

// setProperty gives a property the value that it has after all that is done to the device.
func (l *loop) setProperty(d *device, name string) {
	if d.original == nil {
		d.original = map[string]any{}
	}
	if _, known := d.original[name]; !known {
		d.original[name] = d.Env[name]
	}
	value := d.original[name]
	if x := d.last(func(x *action) bool { return x.Kind == crowd.ActionSet && !x.Field && x.Name == name }); x != nil {
		value = x.value
	}
	l.engine.fleet.SetProperty(d.Device, name, value)
	l.bodies.composer.Forget()
}

// setIntervals gives the streams of a reading, or all, the interval that they have after
// all that is done to the device.
func (l *loop) setIntervals(d *device, reading string, at, end int64) {
	for _, st := range d.Streams {
		s := &l.engine.streams[st.Index]
		if reading != "" && s.Reading.Name != reading {
			continue
		}
		x := d.last(func(x *action) bool { return x.Kind == crowd.ActionInterval && x.concerns(s) })
		s.never = x != nil && x.Never
		switch {
		case x == nil:
			s.resume(l.engine.begin.UnixNano(), at)
		case !x.Never:
			s.every, s.base = x.every, at
		}
		l.schedule(s, end)
	}
}

// schedule puts a stream's next message into the plan anew.
func (l *loop) schedule(s *stream, end int64) {
	s.next = 0 // an entry that it has is stale from now on
	if s.never || s.Device.Cast.Recording != nil || l.engine.devices[s.Device.Index].quiet {
		return
	}
	if due := s.due(l.engine.begin.UnixNano()); due < end {
		s.next = due
		heap.Push(&l.plan, entry{at: due, what: speaks, index: s.Index})
	}
}

// satisfied lets a device fall silent that has sent as many messages as the plan wants.
func (l *loop) satisfied(d *device) {
	if n := l.engine.fleet.Crowd.Plan.Messages; n > 0 && d.said >= n && !d.quiet {
		l.silence(d)
	}
}

// silence ends all messages of a device in this round: it has said what it had to say.
func (l *loop) silence(d *device) {
	d.quiet = true
	for _, s := range d.Streams {
		l.schedule(&l.engine.streams[s.Index], 0)
	}
	l.leave(d, d.Cast.Link.Timeout, func() { l.disconnect(d, l.engine.lastRound()) })
}

func (l *loop) setNetwork(d *device) {
	if d.shape == nil {
		return
	}
	var w link.Weather
	if x := d.last(func(x *action) bool { return x.Kind == crowd.ActionNetwork }); x != nil {
		n := &x.Network
		w = link.Weather{Delay: n.Delay, Jitter: n.Jitter, Rate: n.Rate, Stall: n.Stall, StallEvery: n.StallEvery, CutAfter: n.CutAfter}
	}
	d.shape.Set(w)
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
					l.engine.Settled(m, clock.Nano(), outcome.Dropped, 0, "the device had its own credentials again before it could send it")
				}
				return variant
			})
		}
		l.connect(d)
	})
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
	if l.engine.see != nil || d.Gateway != nil || d.away > 1 { // it has no connection
		return says
	}
	most := time.Duration(0)
	if d.Cast.Link.Protocol == crowd.HTTP || slices.ContainsFunc(d.Streams, func(s *fleet.Stream) bool { return s.Reading.QoS == 2 }) {
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
	if l.engine.see != nil || d.away > 0 {
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

// goAway makes a device leave as the protocol wants it, and measure nothing.
func (l *loop) goAway(d *device, endSession, forGood bool) {
	d.away++
	d.idle++
	if d.away > 1 { // it has left, in whatever way
		return
	}
	l.leave(d, d.Cast.Link.Timeout, func() { l.disconnect(d, endSession || forGood && l.engine.lastRound()) })
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
func (l *loop) switchOn(a *act, x *action, at, end int64) {
	d := a.device
	d.away--
	d.idle--
	if len(x.then) > 0 {
		changed := l.newAct(d, a.event) // for good
		changed.from, changed.actions = at, x.then
		for _, told := range l.do(changed, at, end) {
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

// alterations are what is done to fields of a stream.
func (d *device) alterations(s *stream) (list []fleet.Alteration) {
	for _, a := range d.acts {
		for i := range a.actions {
			x := &a.actions[i]
			if !x.Field || !slices.Contains(s.Names, x.Name) {
				continue
			}
			alter := x.alter
			if x.kept != nil {
				if x.kept[s.Index] == nil {
					x.kept[s.Index] = new(signal.Value)
				}
				alter.Kept = x.kept[s.Index]
			}
			list = append(list, alter)
		}
	}
	slices.SortStableFunc(list, func(a, b fleet.Alteration) int { return int(a.How) - int(b.How) })
	return list
}

// ahead is by how much the device's own clock is ahead.
func (d *device) ahead(at int64) (off time.Duration) {
	for _, a := range d.acts {
		for i := range a.actions {
			if x := &a.actions[i]; x.Kind == crowd.ActionClock {
				off += x.Clock.At(time.Duration(at - a.from))
			}
		}
	}
	return off
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
			if !x.concerns(s) {
				continue
			}
			switch x.Kind {
			case crowd.ActionCorrupt:
				o.corrupt, touched = x, true
			case crowd.ActionRepeat:
				o.repeat, touched = max(o.repeat, x.Times), true
			case crowd.ActionSwap:
				o.swap = true
			case crowd.ActionCredential, crowd.ActionUnregister:
				o.variant, touched = true, true
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
			l.undo(a, l.at, math.MaxInt64)
			l.release(a)
		}
	}
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

// property works out the new value of a property, of the property's type.
func (l *loop) property(x *crowd.Action, env formula.Env) (any, error) {
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

func clockText(c crowd.Clock) string {
	var parts []string
	if c.Off != 0 {
		what := " ahead"
		if c.Off < 0 {
			what = " behind"
		}
		parts = append(parts, quantity.FormatDuration(c.Off.Abs())+what)
	}
	if c.Drift != 0 {
		parts = append(parts, fmt.Sprintf("drifts by %s a minute", quantity.FormatDuration(time.Duration(c.Drift*float64(time.Minute)))))
	}
	return strings.Join(parts, ", ")
}

func networkText(n *crowd.Network) string {
	var parts []string
	if n.Delay > 0 || n.Jitter > 0 {
		s := quantity.FormatDuration(n.Delay) + " delay"
		if n.Jitter > 0 {
			s += " and up to " + quantity.FormatDuration(n.Jitter) + " more"
		}
		parts = append(parts, s)
	}
	if n.Rate > 0 {
		parts = append(parts, strconv.FormatFloat(n.Rate, 'f', -1, 64)+" bit/s")
	}
	if n.Stall > 0 {
		parts = append(parts, fmt.Sprintf("nothing for %s every %s", quantity.FormatDuration(n.Stall), quantity.FormatDuration(n.StallEvery)))
	}
	if n.CutAfter > 0 {
		parts = append(parts, "cut after "+quantity.FormatSize(n.CutAfter))
	}
	return strings.Join(parts, ", ")
}

// largeBody is how much is added to a body that is too large, in bytes.
const largeBody = 1 << 20

// apply corrupts a body, or where it goes. The mark stays readable where it is a text of the
// body: what the platform keeps of it all the same is found.
func (x *action) apply(body []byte, target string) ([]byte, string) {
	switch x.Corrupt {
	case crowd.CorruptCut:
		return body[:len(body)-max(1, len(body)/3)], target
	case crowd.CorruptLarge:
		return append(body, bytes.Repeat([]byte{' '}, largeBody)...), target
	case crowd.CorruptForm:
		return append(append([]byte("<"), body...), '>'), target
	case crowd.CorruptEmpty:
		return body[:0], target
	case crowd.CorruptTopic:
		return body, x.topic
	}
	return body, target
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

func moreTimes(n int) string {
	if n == 1 {
		return "once more"
	}
	return fmt.Sprintf("%d times more", n)
}
