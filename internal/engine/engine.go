// Package engine plays a plan: it makes messages due, hands them to the links
// and writes into the ledger what becomes of them.
//
// The schedule is open-loop. When a message is due depends on the plan and the
// seed alone; a platform that is slow makes messages late, never fewer, and
// lag is measured from the time a message was due.
package engine

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"runcrowd/internal/clock"
	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/foreign"
	"runcrowd/internal/ledger"
	"runcrowd/internal/link"
	"runcrowd/internal/outcome"
	"runcrowd/internal/payload"
	"runcrowd/internal/signal"
	"runcrowd/internal/spread"
	"runcrowd/internal/timeline"
)

// Counts is how far a run is. All may be read while it runs.
type Counts struct {
	Devices                                                           int64
	Joined, Connected, Due, Sent, Accepted, Refused, NotAsked, Unsent atomic.Int64
	NoAnswer, Drops                                                   atomic.Int64
	Renewed                                                           atomic.Int64 // access tokens
	Commands, Obeyed, Answered                                        atomic.Int64
	Overheard                                                         atomic.Int64 // commands for which there was no room
	Planned                                                           atomic.Int64 // troubles that the plan brings about
	Dropped                                                           atomic.Int64 // messages, by devices, as the plan says
	// Acks are the times from sending to acknowledgement, Lags those from due to sent.
	Acks, Lags spread.Live
}

// Engine plays the rounds of one run.
type Engine struct {
	Counts      Counts
	fleet       *fleet.Fleet
	links       map[*crowd.Link]link.Link
	run         string
	devices     []device
	streams     []stream
	loops       []*loop
	pool        sync.Pool
	round       int
	begin       time.Time // of the round, by the plan's clock
	clock       planClock
	live        int64        // what is due before is of the past, and sent as fast as it is acknowledged
	lastTrouble atomic.Int64 // when one was kept
	troubles    []Trouble
	story       *story
	context     context.Context                 // of the round
	beside      sync.WaitGroup                  // what is done beside the loops
	rest        *Rest                           // of a plan whose run goes on; nil: it is played from its beginning
	shift       int                             // by how much a round's number is above that of the plan's round
	resumed     int64                           // from when on the round is played, by the plan's clock; 0: from its beginning
	part        map[int]bool                    // streams that take part, and -1 minus devices; nil: all
	watched     atomic.Pointer[map[int]*Recent] // streams whose values somebody looks at; nil: none
	see         func(*Rehearsed) bool           // nothing is sent: it is only seen
	seen        bool                            // enough was

	mu        sync.Mutex
	failure   error // the first value that could not be made
	failed    int64
	lastWhy   string
	remarked  map[string]bool // texts that were told
	calls     atomic.Bool     // a message of the round may have called for an alert
	excused   []ledger.Spans  // by stream: no witness needs to find these
	corrupted []ledger.Spans  // by stream: no witness may find these

	// Tell is told what the platform did that its user should know: each text once, of
	// the first device. It must not block. Nil: nobody is told.
	Tell func(text string)
	// Carried is told what each message carries, before it is sent; nil: nobody is. It is
	// called by several loops at once, and keeps none of the bytes.
	Carried func(stream int, seq uint64, carried []byte)
	// Log is told of what happens to connections and messages, as it happens; nil: nobody is.
	Log *slog.Logger
	// Outside is the platform's side; nil: actions that need it are not done.
	Outside Outside
	// WasOpen is how many messages of the round just played were under way when the time
	// of its plan was over.
	WasOpen int
	// Stopped is what the plan's clock showed when the round just played was over.
	Stopped time.Time

	// Network is how connections are opened for devices to whose network a hand does
	// something; nil: as usual.
	Network link.Network

	handMu  sync.Mutex
	playing bool        // a round is: its loops take what a hand wants
	ended   atomic.Bool // by a hand

	asked  atomic.Uint64 // commands so far
	toldMu sync.Mutex
	told   []told // answers that are due or on their way
	free   []int  // places among them
}

// Shape gives those devices a network of their own to whose network the plan does
// something. It comes before anybody connects.
func Shape(f *fleet.Fleet, under link.Network) {
	needs := map[*crowd.Cast]int{} // 1: can be cut; 2: passes through
	note := func(c *crowd.Cast, list []crowd.Action) {
		for i := range list {
			switch x := &list[i]; {
			case x.Kind == crowd.ActionNetwork, x.Kind == crowd.ActionOffline && x.Offline.How == crowd.BySilence:
				needs[c] = 2
			case x.Kind == crowd.ActionOffline, x.Kind == crowd.ActionRestart, x.Kind == crowd.ActionLeave: // connections of its own
				needs[c] = max(needs[c], 1)
			}
		}
	}
	for _, e := range f.Crowd.Plan.Events {
		for c, list := range e.Do {
			note(c, list)
		}
	}
	for _, d := range f.Devices {
		for _, k := range d.Cast.Commands {
			note(d.Cast, k.Do)
		}
		if n := needs[d.Cast]; n > 0 && d.Shaper == nil {
			d.Shaper = link.NewShaper(under, n == 2)
			d.Network = d.Shaper.Dial
		}
	}
}

// New makes an engine and defines the fleet's streams in the ledger.
func New(f *fleet.Fleet, links map[*crowd.Link]link.Link, w *ledger.Writer, run string) *Engine {
	e := &Engine{fleet: f, links: links, run: run}
	e.excused, e.corrupted = make([]ledger.Spans, len(f.Streams)), make([]ledger.Spans, len(f.Streams))
	e.pool.New = newMessage
	for range runtime.GOMAXPROCS(0) {
		e.loops = append(e.loops, &loop{engine: e, page: w.Page(), bell: make(chan struct{}, 1),
			bodies: BodyWriter{Run: run, Numbers: ledger.NumbersOf(run, len(f.Streams))}})
	}
	e.devices = make([]device, len(f.Devices))
	for i, d := range f.Devices {
		e.devices[i].Device, e.devices[i].shape = d, d.Shaper
		e.devices[i].page = e.loopOf(i).page
		if d.Elsewhere {
			continue
		}
		e.Counts.Devices++
		greets := func(s *fleet.Stream) bool { return s.Reading.OnConnect }
		e.devices[i].greets = slices.ContainsFunc(d.Streams, greets) || slices.ContainsFunc(d.Behind,
			func(b *fleet.Device) bool { return slices.ContainsFunc(b.Streams, greets) })
		e.loopOf(i).devices = append(e.loopOf(i).devices, i)
	}
	e.streams = make([]stream, len(f.Streams))
	for i, s := range f.Streams {
		e.streams[i].Stream = s
		e.streams[i].kind = ContentType(s)
		w.Stream(i, Describe(f, s))
	}
	w.Flush() // before any page tells of a stream
	return e
}

// Describe is a stream as the ledger defines it.
func Describe(f *fleet.Fleet, s *fleet.Stream) ledger.Stream {
	d := ledger.Stream{Device: s.Device.Name, Kind: s.Device.Cast.Kind.Name, Reading: s.Reading.Name, Elsewhere: s.Device.Elsewhere}
	for i := range f.Crowd.Witnesses {
		if !f.Sees(i, s.Device) {
			d.Unseen = append(d.Unseen, i)
		}
	}
	if s.Device.Cast.Link.Protocol == crowd.MQTT {
		d.QoS0, d.MayRepeat = s.Reading.QoS == 0, s.Reading.QoS == 1
	}
	for _, c := range s.Calls {
		d.Calls |= 1 << c.Alert
	}
	template, _ := s.Form.(*payload.Template)
	d.List = template != nil && template.List()
	for i := range s.Reading.Fields {
		field := &s.Reading.Fields[i]
		name := s.Place(field.Name)
		if name == "" {
			continue
		}
		if field.Tolerance > 0 {
			if d.Tolerances == nil {
				d.Tolerances = map[string]float64{}
			}
			d.Tolerances[name] = field.Tolerance
		}
		if field.Unit != "" {
			if d.Units == nil {
				d.Units = map[string]string{}
			}
			d.Units[name] = field.Unit
		}
	}
	return d
}

// loopOf is the loop of a device. A device behind a gateway is on the gateway's.
func (e *Engine) loopOf(device int) *loop {
	if g := e.fleet.Devices[device].Gateway; g != nil {
		device = g.Index
	}
	return e.loops[device%len(e.loops)]
}

// Single is one message of one stream.
type Single struct {
	Stream     int
	Values     map[string]signal.Value // given by hand, by field
	Unretained bool                    // the broker keeps nothing of it, whatever the file says
}

// Send sends one message at once, in place of a plan, and waits for what becomes of it:
// at most as long as the end of a round waits.
func (e *Engine) Send(ctx context.Context, round int, one *Single) {
	e.round, e.begin = round, clock.Now()
	e.calls.Store(false)
	s := &e.streams[one.Stream]
	d := &e.devices[s.Device.Index]
	l := e.loopOf(s.Device.Index)
	l.bodies.Fixed = one.Values
	e.clock = planClock{begin: e.begin.UnixNano(), real: e.begin.UnixNano(), speed: 1, pause: new(pause)}
	d.begin(false)
	if g := l.gateway(d); g != nil {
		g.begin(false)
		l.joined(g)
	}
	l.joined(d)
	if d.presence().Sleeps {
		l.wakeUp(d)
	}
	m, _ := l.due(s, clock.Nano())
	m.MQTT.Retain = m.MQTT.Retain && !one.Unretained
	l.link(d).Send(m)
	e.settle(ctx, e.fleet.Crowd.Plan.Settle, false)
	for _, x := range []*device{d, l.gateway(d)} {
		if x != nil && x.conn != nil {
			x.conn.Close(true)
			x.conn = nil
		}
	}
	l.bodies.Fixed = nil
}

// Play plays one round, which begins at a time of the plan's clock, until the plan's end or until ctx
// is done. Where the run goes on in its middle, begin is when it began. When it returns, every message
// of the round is settled, but for those whose HTTP request is just being cancelled: closing the links
// waits for them.
func (e *Engine) Play(ctx context.Context, round int, begin time.Time) {
	plan := &e.fleet.Crowd.Plan
	end := e.prepare(round, begin, nil)
	var over context.CancelFunc
	e.context, over = context.WithCancel(ctx)
	defer over()
	var wg sync.WaitGroup
	e.play(true)
	for _, l := range e.loops {
		wg.Go(func() { l.run(ctx, end) })
	}
	wg.Wait()
	e.play(false)
	over()
	e.beside.Wait()
	for _, l := range e.loops { // what came of it, if too late to do more
		for _, f := range l.called() {
			f()
		}
	}
	for i := range e.devices {
		d := &e.devices[i]
		e.loopOf(i).unswap(d)
		d.parked = nil
		d.gatewayAway = d.Gateway != nil && e.loopOf(i).link(d) == nil
		for _, m := range d.kept {
			e.Settled(m, clock.Nano(), outcome.Unsent, 0, d.whyKept())
		}
		d.kept = nil
	}
	e.WasOpen = e.open(false)
	e.Stopped = e.shows(end)
	e.settle(ctx, plan.Settle, true)
	last := ctx.Err() != nil || e.lastRound()
	for i := range e.devices {
		d := &e.devices[i]
		if d.conn != nil {
			d.conn.Close(last)
			d.conn = nil
			d.up.Store(false)
		}
		if d.shape != nil {
			d.shape.Mend()
			d.shape.Set(link.Weather{})
		}
	}
	for _, l := range e.loops {
		l.leftover()
	}
	e.restore() // before witnesses are asked by properties
	e.Counts.Connected.Store(0)
	e.Counts.Joined.Store(0)
}

// play notes whether loops take what a hand wants.
func (e *Engine) play(is bool) {
	e.handMu.Lock()
	defer e.handMu.Unlock()
	e.playing = is
}

// shows is what the plan's clock shows when the loops have ended.
func (e *Engine) shows(end int64) time.Time {
	at := e.clock.shows(clock.Nano())
	if e.clock.max {
		at = 0
	}
	for _, l := range e.loops {
		at = max(at, l.at)
	}
	return time.Unix(0, min(at, end))
}

// lastRound tells whether no round comes behind the one that is played.
func (e *Engine) lastRound() bool {
	p := &e.fleet.Crowd.Plan
	return p.Rounds > 0 && e.round-e.shift >= p.Rounds || e.ended.Load()
}

// prepare puts into the plan of each loop what a round begins with, and says when it ends.
// Only are the streams that take part; nil: all.
func (e *Engine) prepare(round int, begin time.Time, only []*fleet.Stream) (end int64) {
	plan := &e.fleet.Crowd.Plan
	e.round, e.begin, e.resumed = round, begin, 0
	from := begin
	if r := e.rest; r != nil && round == r.Round && r.From > 0 {
		from = begin.Add(r.From)
		e.resumed = from.UnixNano()
	}
	e.clock = clockOf(plan, from)
	if e.live = 0; plan.Begin.Past > 0 {
		e.live = clock.Nano()
	}
	end = plan.End(begin).UnixNano()
	for _, l := range e.loops {
		l.plan, l.timed, l.acts, l.free, l.quiet, l.end = l.plan[:0], l.timed[:0], l.acts[:0], l.free[:0], 0, end
	}
	if only != nil {
		e.part = map[int]bool{}
		for _, s := range only {
			e.part[s.Index], e.part[-1-s.Device.Index] = true, true
		}
	}
	var late, own map[int]bool
	if len(plan.Events) > 0 {
		line, err := timeline.New(plan, e.fleet.Crowd.Seed, round-e.shift, e.fleet.Candidates())
		if err != nil {
			e.fail(err)
			line, _ = timeline.New(&crowd.Plan{}, 0, 0, nil)
		}
		e.story = &story{line: line, parts: map[int64][]timeline.Happening{}}
		late, own = e.late()
		for _, l := range e.loops {
			l.plan = append(l.plan, entry{at: begin.UnixNano(), what: looks})
		}
	}
	for i := range e.devices {
		d := &e.devices[i]
		d.begin(late[i])
		d.joinsLater = own[i]
		join := begin.Add(plan.Join.At(i, len(e.devices))).UnixNano()
		if join >= end || !e.plays(i) {
			continue
		}
		l := e.loopOf(i)
		comes := join
		if e.resumed > 0 && join < e.resumed { // all come again, as they did at the beginning
			if comes = e.resumed + join - begin.UnixNano(); comes >= end {
				comes = e.resumed
			}
		}
		l.plan = append(l.plan, entry{at: comes, what: joins, index: i})
		for _, s := range d.Streams {
			st := &e.streams[s.Index]
			st.tick, st.slot, st.from, st.since, st.every, st.never, st.next, st.before = 0, 0, join, 0, 0, false, 0, 0
			if e.resumed > 0 {
				st.tick, st.before = e.rest.Ticks[s.Index], e.rest.Ticks[s.Index]
				d.said += int(st.tick) * s.Reading.Batch
			}
			if e.part != nil && !e.part[s.Index] || d.Cast.Recording != nil || s.Reading.OnConnect {
				continue
			}
			if e.resumed > 0 {
				st.resume(begin.UnixNano(), e.resumed-1)
			}
			if due := st.due(begin.UnixNano()); due < end {
				st.next = due
				l.plan = append(l.plan, entry{at: due, what: speaks, index: s.Index})
			}
		}
		d.quiet = e.resumed > 0 && plan.Messages > 0 && d.said >= plan.Messages // it said it before the run stopped
	}
	e.replays(end)
	return end
}

// plays tells whether a device takes part.
func (e *Engine) plays(device int) bool {
	return !e.fleet.Devices[device].Elsewhere && (e.part == nil || e.part[-1-device])
}

// settle waits until every message has its outcome: as long as the platform answers some, or
// takes some of QoS 0, and at most for the given time without. A run that is interrupted is not waited for longer than
// that; where it is patient, not less either.
func (e *Engine) settle(ctx context.Context, most time.Duration, patient bool) {
	left := clock.NewPatience(most)
	looked := time.Now()
	answers, interrupted := e.answers(), ctx.Err() != nil
	for !left.Over() && (patient || ctx.Err() == nil) {
		look := time.Since(looked) > time.Second
		if look { // the loops are over: keep-alive is ours now
			looked = time.Now()
		}
		open := e.open(look)
		if open == 0 {
			return
		}
		switch {
		case ctx.Err() != nil && !interrupted:
			interrupted, left = true, clock.NewPatience(most)
		case e.answers() > answers && !interrupted:
			answers, left = e.answers(), clock.NewPatience(most)
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// answers is how many messages the platform has answered, or taken without an answer.
func (e *Engine) answers() int64 {
	return e.Counts.Accepted.Load() + e.Counts.Refused.Load() + e.Counts.NotAsked.Load()
}

// open is how many messages have no outcome yet; tick lets connections look at the clock.
func (e *Engine) open(tick bool) (n int) {
	for i := range e.devices {
		if c := e.devices[i].conn; c != nil {
			if tick {
				c.Tick(clock.Now())
			}
			n += c.Open()
		}
	}
	return n
}

// Failure is how many values could not be made, and why the first one was not.
func (e *Engine) Failure() (int64, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.failed, e.failure
}

// Range is the range of a stream's sequence numbers that were due in the round
// just played: from the first to before the second.
func (e *Engine) Range(stream int) (from, to uint64) {
	s := &e.streams[stream]
	return s.seq - (s.tick-s.before)*uint64(s.Reading.Batch) + 1, s.seq + 1
}

// Excused tells whether no witness needs to find a message, because it was
// refused or never sent.
func (e *Engine) Excused(stream int, seq uint64) bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.excused[stream].Has(seq)
}

// Calls tells whether a message of the round may have called for an alert.
func (e *Engine) Calls() bool { return e.calls.Load() }

// Corrupted tells whether nothing may be kept of a message.
func (e *Engine) Corrupted(stream int, seq uint64) bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.corrupted[stream].Has(seq)
}

// Trouble is something that went wrong with a device.
type Trouble struct {
	At     time.Time `json:"at"`
	Device string    `json:"device"`
	What   string    `json:"what"`
}

// mostTroubles is how many are kept, and troublePause how soon after one the next is.
const (
	mostTroubles = 8
	troublePause = 50 * time.Millisecond
)

// trouble keeps something that went wrong, if none was kept just now: there may be thousands a
// second, and only the last are looked at. What the plan itself brings about is counted apart.
func (e *Engine) trouble(device string, planned bool, what func() string) {
	if e.Log != nil {
		e.Log.Warn(what(), "device", device)
	}
	if planned {
		e.Counts.Planned.Add(1)
		return
	}
	now, last := clock.Nano(), e.lastTrouble.Load()
	if now-last < int64(troublePause) || !e.lastTrouble.CompareAndSwap(last, now) {
		return
	}
	t := Trouble{time.Unix(0, now), device, what()}
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.troubles = append(e.troubles, t); len(e.troubles) > mostTroubles {
		e.troubles = append(e.troubles[:0], e.troubles[1:]...)
	}
}

// Troubles are the last things that went wrong, the newest last.
func (e *Engine) Troubles() []Trouble {
	e.mu.Lock()
	defer e.mu.Unlock()
	return slices.Clone(e.troubles)
}

// LastDrop is why a connection was lost last.
func (e *Engine) LastDrop() string {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.lastWhy
}

// join lets a device come, if no event says when it comes.
func (l *loop) join(i int) {
	if d := &l.engine.devices[i]; !d.late {
		l.joined(d)
	}
}

// joined connects a device that comes.
func (l *loop) joined(d *device) {
	if d.joined {
		return
	}
	d.joined = true
	l.engine.Counts.Joined.Add(1)
	l.connect(d)
}

// speak makes the next message of a stream due and sees it off.
func (l *loop) speak(s *stream, at int64) {
	d := &l.engine.devices[s.Device.Index]
	if d.quiet { // it has said what it had to say
		return
	}
	m, o := l.due(s, at)
	if m == nil { // it was only seen
		d.passed(s, l)
		l.satisfied(d)
		return
	}
	var copies []*link.Message
	for range o.repeat {
		copies = append(copies, l.copy(m))
	}
	switch {
	case o.swap && s.held == nil:
		s.held = m
		return
	case s.held != nil:
		held := s.held
		s.held = nil
		l.emit(d, m)
		l.emit(d, held)
	default:
		l.emit(d, m)
	}
	for _, c := range copies {
		l.emit(d, c)
	}
	if len(d.acts) > 0 {
		d.passed(s, l)
	}
	l.satisfied(d)
}

// copy is a message once more, as it is.
func (l *loop) copy(m *link.Message) *link.Message {
	c := l.engine.pool.Get().(*link.Message)
	body, headers := append(c.Body[:0], m.Body...), append(c.HTTP.Headers[:0], m.HTTP.Headers...)
	*c = *m
	c.Body, c.HTTP.Headers, c.Copy = body, headers, true
	return c
}

// lower are the bits of calls that call for alerts.
const lower = 0x5555555555555555

// due makes the next message of a stream, and notes that it is due. Where messages are only
// seen, there is none.
func (l *loop) due(s *stream, at int64) (*link.Message, orders) {
	e := l.engine
	d := &e.devices[s.Device.Index]
	m := e.pool.Get().(*link.Message)
	body, headers := m.Body[:0], m.HTTP.Headers[:0]
	var o orders
	w := &l.bodies
	w.Every, w.Since, w.Clock, w.Types, w.composer.Alter = s.interval(), s.since, 0, false, nil
	if len(d.acts) > 0 {
		o = d.orders(s)
		w.Clock, w.composer.Alter = d.ahead(at), d.alterations(s)
		w.Types = o.corrupt != nil && o.corrupt.Corrupt == crowd.CorruptTypes
	}
	var written Written
	var err error
	if s.line != nil {
		written, err = w.Replay(s.Stream, s.seq+1, time.Unix(0, at), e.begin, s.line, body)
	} else {
		written, err = w.Write(s.Stream, s.seq+1, s.tick, time.Unix(0, at), e.begin, body)
	}
	if err != nil {
		e.fail(err)
	}
	target := cmp.Or(written.Target, s.Target)
	if o.corrupt != nil {
		written.Body, target = o.corrupt.apply(written.Body, target)
	}
	s.tick++
	s.slot++
	d.said += len(written.Carried)
	if e.see != nil {
		first := s.seq + 1
		s.seq += uint64(len(written.Carried))
		r := Rehearsed{Stream: s.Stream, Seq: first, Due: time.Unix(0, at), Written: written, Target: target, Meant: o.meant,
			Err: err}
		if e.see(&r) {
			e.pool.Put(m)
		} else {
			e.seen = true
		}
		return nil, o
	}
	due := e.clock.when(at)
	if e.clock.max || at < e.live {
		due = clock.Nano()
	}
	for k, carried := range written.Carried {
		s.seq++
		calls := uint64(0)
		if written.Calls != nil {
			if calls = written.Calls[k]; calls&lower != 0 && !e.calls.Load() {
				e.calls.Store(true)
			}
		}
		if err != nil {
			carried = []byte("null") // what goes out is not what was meant: it proves nothing
		}
		if e.Carried != nil {
			e.Carried(s.Index, s.seq, carried)
		}
		if w := e.watched.Load(); w != nil {
			(*w)[s.Index].add(carried)
		}
		l.page.Due(s.Index, s.seq, e.round, due, o.meant, calls, carried)
	}
	e.Counts.Due.Add(int64(len(written.Carried)))
	if o.meant == ledger.ToRefuse || o.meant == ledger.ToDiscard {
		e.mu.Lock()
		for k := range written.Carried {
			e.corrupted[s.Index].Add(s.seq - uint64(k))
		}
		e.mu.Unlock()
	}

	r := s.Reading
	*m = link.Message{Stream: s.Index, Seq: s.seq, Count: len(written.Carried), Due: due, Target: target,
		ContentType: s.kind, Body: written.Body, Mark: written.Mark, Variant: o.variant, Meant: uint8(o.meant)}
	if s.Device.Cast.Link.Protocol == crowd.MQTT {
		m.MQTT = link.MQTT{QoS: r.QoS, Retain: r.Retain, User: s.User, Expiry: uint32(r.Expires / time.Second)}
	} else {
		m.HTTP = link.HTTP{Method: r.Method, OKStatus: r.OKStatus, Gzip: r.Gzip, Signer: s.Signer}
		if s.Device.Cast.Link.RetryKey != "" {
			m.HTTP.Key = ledger.Mark{Run: e.run, Device: s.Device.Name, Reading: r.Name, Seq: m.First()}.String()
		}
		values := s.Values
		if o.variant {
			values, m.HTTP.Signer = d.variantValues(s)
		}
		for i, h := range s.Headers {
			if values[i] != fleet.NoHeader {
				headers = append(headers, link.Header{Name: h.Name, Value: values[i]})
			}
		}
		m.HTTP.Headers = headers
	}
	if s.line != nil {
		beside(m, s.Stream, s.line)
	}
	s.retained = s.retained || m.MQTT.Retain && len(m.Body) > 0
	return m, o
}

// Retained counts, by link, the topics on which devices published retained messages.
func (e *Engine) Retained() map[*crowd.Link]int {
	topics := map[*crowd.Link]map[string]bool{}
	for i := range e.streams {
		s := &e.streams[i]
		if l := s.Device.Cast.Link; s.retained {
			if topics[l] == nil {
				topics[l] = map[string]bool{}
			}
			topics[l][s.Target] = true
		}
	}
	n := map[*crowd.Link]int{}
	for l, list := range topics {
		n[l] = len(list)
	}
	return n
}

func (e *Engine) fail(err error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.failed++
	if e.failure == nil {
		e.failure = err
	}
}

// Sent implements link.Sink.
func (e *Engine) Sent(m *link.Message, at int64, anew bool) {
	if m.Answer > 0 {
		e.answerSent(m, at)
		return
	}
	page := e.pageOf(m)
	if m.Copy {
		for seq := m.First(); seq <= m.Seq; seq++ {
			page.Copied(m.Stream, seq, at)
		}
		return
	}
	for seq := m.First(); seq <= m.Seq; seq++ {
		page.Sent(m.Stream, seq, at, anew)
	}
	if m.Sent == 0 {
		m.Sent = at
		e.Counts.Lags.Add(time.Duration(at-m.Due), int64(m.Count))
	}
	e.Counts.Sent.Add(int64(m.Count))
}

// Settled implements link.Sink.
func (e *Engine) Settled(m *link.Message, at int64, o outcome.Outcome, code int, text string) {
	if text != "" {
		text = e.said(text)
	}
	if m.Answer > 0 {
		e.answerSettled(m, at, o, code, text)
		return
	}
	d := &e.devices[e.streams[m.Stream].Device.Index]
	d.settled.Add(1)
	if d.wants.Load() && d.wants.CompareAndSwap(true, false) {
		defer e.wake(d)
	}
	if m.Copy {
		e.pool.Put(m)
		return
	}
	if m.Variant {
		o, text = d.shown(m, o, text)
	}
	page := e.pageOf(m)
	for seq := m.First(); seq <= m.Seq; seq++ {
		page.Settled(m.Stream, seq, at, o, code, text)
	}
	// What must not be found is looked for as long as what must be: only what never left
	// is excused.
	if o == outcome.Unsent || o == outcome.Dropped || o == outcome.Refused && m.Meant == uint8(ledger.ToKeep) {
		e.mu.Lock()
		for seq := m.First(); seq <= m.Seq; seq++ {
			e.excused[m.Stream].Add(seq)
		}
		e.mu.Unlock()
	}
	n := int64(m.Count)
	switch o {
	case outcome.Accepted:
		e.Counts.Accepted.Add(n)
		if m.Sent > 0 {
			e.Counts.Acks.Add(time.Duration(at-m.Sent), n)
		}
	case outcome.Refused:
		e.Counts.Refused.Add(n)
		e.trouble(d.Name, m.Meant == uint8(ledger.ToRefuse), func() string {
			return fmt.Sprintf("%s #%d was refused: %s", e.streams[m.Stream].Reading.Name, m.Seq, text)
		})
	case outcome.NotAsked:
		e.Counts.NotAsked.Add(n)
	case outcome.NoAnswer:
		e.Counts.NoAnswer.Add(n)
		e.trouble(d.Name, false, func() string {
			return fmt.Sprintf("%s #%d was not answered: %s", e.streams[m.Stream].Reading.Name, m.Seq, text)
		})
	case outcome.Unsent:
		e.Counts.Unsent.Add(n)
	case outcome.Dropped:
		e.Counts.Dropped.Add(n)
	}
	e.pool.Put(m)
}

func (e *Engine) pageOf(m *link.Message) *ledger.Page {
	return e.devices[e.streams[m.Stream].Device.Index].page
}

// changed notes what happened to a device's connection.
func (e *Engine) changed(i int, x *ledger.LinkEvent) {
	if d := &e.devices[i]; len(d.Streams) > 0 {
		x.Stream, x.At, x.Place, x.Why = d.Streams[0].Index, clock.Now(), e.fleet.Crowd.Redact(x.Place), e.fleet.Crowd.Redact(
			x.Why)
		d.page.Link(x)
	}
}

// Up implements link.Sink.
func (e *Engine) Up(i int, renewed bool) {
	what := ledger.Up
	if renewed {
		e.Counts.Renewed.Add(1)
		what = ledger.Renewed
	}
	d := &e.devices[i]
	d.refusal.Store(nil)
	if d.up.CompareAndSwap(false, true) {
		e.Counts.Connected.Add(1)
	}
	// Over HTTP a token is renewed without a new connection.
	if again := d.upBefore.Swap(true); again && d.greets && (!renewed || d.Cast.Link.Protocol == crowd.MQTT) {
		l := e.loopOf(i)
		l.call(func() { l.greetAgain(d) })
	}
	if e.Log != nil {
		e.Log.Info("connected", "device", e.devices[i].Name)
	}
	e.changed(i, &ledger.LinkEvent{What: what})
}

// Listens implements link.Sink.
func (e *Engine) Listens(i int, filter, why string) {
	if why != "" {
		e.changed(i, &ledger.LinkEvent{What: ledger.NotHearing, Place: filter, Why: e.said(why)})
	}
}

// said is what a platform said, or had a part in: without secrets, in a harmless line.
func (e *Engine) said(text string) string { return foreign.Line(e.fleet.Crowd.Redact(text), 0) }

// Down implements link.Sink.
func (e *Engine) Down(i int, loss link.Loss) {
	d := &e.devices[i]
	loss.Why = e.said(loss.Why)
	if d.up.CompareAndSwap(true, false) {
		e.Counts.Connected.Add(-1)
	}
	e.Counts.Drops.Add(1)
	if loss.Refused {
		why := "the platform refused the connection: " + loss.Why
		d.refusal.Store(&why)
	}
	e.mu.Lock()
	e.lastWhy = fmt.Sprintf("%s: %s", d.Name, loss.Why)
	x := &ledger.LinkEvent{What: ledger.Down, Why: loss.Why, Early: loss.Early}
	if loss.After != nil && loss.After.Stream >= 0 {
		x.After, x.Times = ledger.Entry{Stream: loss.After.Stream, Seq: loss.After.Seq}, loss.Times
		if s := e.streamOf(loss.After.Stream); s != nil && loss.Times > 1 {
			e.lastWhy += fmt.Sprintf(", %d times right after %s", loss.Times, s.Reading.Name)
		}
	}
	e.mu.Unlock()
	planned := d.showsOther.Load() && loss.Refused || strings.Contains(loss.Why, link.ErrCut.Error())
	e.trouble(d.Name, planned, func() string {
		what := "connection lost: "
		if loss.Early {
			what = "could not connect: "
		}
		return what + e.fleet.Crowd.Redact(loss.Why)
	})
	e.changed(i, x)
}

// streamOf is a stream; nil where a message is of none: an answer to a command.
func (e *Engine) streamOf(i int) *stream {
	if i < 0 || i >= len(e.streams) {
		return nil
	}
	return &e.streams[i]
}

// mostRemarks is how many different texts are told.
const mostRemarks = 20

// Remark implements link.Sink.
func (e *Engine) Remark(i int, what string) {
	text := e.said(what)
	e.mu.Lock()
	first := !e.remarked[text]
	if first && len(e.remarked) < mostRemarks {
		if e.remarked == nil {
			e.remarked = map[string]bool{}
		}
		e.remarked[text] = true
	}
	tell := first && len(e.remarked) < mostRemarks && e.Tell != nil
	e.mu.Unlock()
	if tell {
		e.Tell(e.devices[i].Name + ": " + text)
	}
	e.changed(i, &ledger.LinkEvent{What: ledger.Remarked, Why: what})
}

func newMessage() any { return new(link.Message) }
