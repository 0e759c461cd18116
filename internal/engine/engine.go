// Package engine plays a plan: it makes messages due, hands them to the links
// and writes into the ledger what becomes of them.
//
// The schedule is open-loop. When a message is due depends on the plan and the
// seed alone; a platform that is slow makes messages late, never fewer, and
// lag is measured from the time a message was due.
package engine

import (
	"context"
	"fmt"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"runcrowd/internal/clock"
	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/ledger"
	"runcrowd/internal/link"
	"runcrowd/internal/outcome"
	"runcrowd/internal/payload"
	"runcrowd/internal/signal"
)

// Counts is how far a run is. All may be read while it runs.
type Counts struct {
	Devices                                                           int64
	Joined, Connected, Due, Sent, Accepted, Refused, NotAsked, Unsent atomic.Int64
	NoAnswer, Drops                                                   atomic.Int64
	Renewed                                                           atomic.Int64 // access tokens
	Commands, Obeyed, Answered                                        atomic.Int64
	Overheard                                                         atomic.Int64 // commands for which there was no room
}

// Engine plays the rounds of one run.
type Engine struct {
	Counts  Counts
	fleet   *fleet.Fleet
	links   map[*crowd.Link]link.Link
	run     string
	devices []device
	streams []stream
	loops   []*loop
	pool    sync.Pool
	round   int
	begin   time.Time

	mu       sync.Mutex
	failure  error // the first value that could not be made
	failed   int64
	lastWhy  string
	remarked map[string]bool // texts that were told
	excused  []ledger.Spans  // by stream: no witness needs to find these

	// Tell is told what the platform did that its user should know: each text once, of
	// the first device. It must not block. Nil: nobody is told.
	Tell func(text string)
	// WasOpen is how many messages of the round just played were under way when the time
	// of its plan was over.
	WasOpen int

	asked  atomic.Uint64 // commands so far
	toldMu sync.Mutex
	told   []told // answers that are due or on their way
	free   []int  // places among them
}

type device struct {
	*fleet.Device
	conn link.Conn
	page *ledger.Page
	up   atomic.Bool

	asked uint64 // commands so far
	done  []deed // to be undone when the round is over
}

type stream struct {
	*fleet.Stream
	seq  uint64
	tick uint64 // messages of this round so far
	slot uint64 // the tick of its reading at which the next one is due
	from int64  // when the device joins in this round
	kind string // content type of its bodies

	every time.Duration // as a command made it; 0: as in the file
	base  int64         // since when, or the last message due on it
}

// interval is the time from one sample to the next.
func (s *stream) interval() time.Duration {
	if s.every > 0 {
		return s.every
	}
	return s.Reading.Every
}

// New makes an engine and defines the fleet's streams in the ledger.
func New(f *fleet.Fleet, links map[*crowd.Link]link.Link, w *ledger.Writer, run string) *Engine {
	e := &Engine{fleet: f, links: links, run: run}
	e.excused = make([]ledger.Spans, len(f.Streams))
	e.Counts.Devices = int64(len(f.Devices))
	e.pool.New = func() any { return new(link.Message) }
	for range runtime.GOMAXPROCS(0) {
		e.loops = append(e.loops, &loop{engine: e, page: w.Page(), bell: make(chan struct{}, 1), scribe: Scribe{Run: run, Numbers: ledger.NumbersOf(run, len(f.Streams))}})
	}
	e.devices = make([]device, len(f.Devices))
	for i, d := range f.Devices {
		e.devices[i].Device = d
		e.devices[i].page = e.loopOf(i).page
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
	d := ledger.Stream{Device: s.Device.Name, Kind: s.Device.Cast.Kind.Name, Reading: s.Reading.Name}
	for i := range f.Crowd.Witnesses {
		if !f.Sees(i, s.Device) {
			d.Unseen = append(d.Unseen, i)
		}
	}
	if s.Device.Cast.Link.Protocol == crowd.MQTT {
		d.QoS0, d.MayRepeat = s.Reading.QoS == 0, s.Reading.QoS == 1
	}
	template, _ := s.Form.(*payload.Template)
	d.List = template != nil && template.List()
	for i := range s.Reading.Fields {
		field := &s.Reading.Fields[i]
		name := field.Name
		if template != nil { // what it carries has the template's own names
			if name = template.Path(name); name == "" {
				continue
			}
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

func (e *Engine) loopOf(device int) *loop { return e.loops[device%len(e.loops)] }

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
	s := &e.streams[one.Stream]
	d := &e.devices[s.Device.Index]
	l := e.loopOf(s.Device.Index)
	l.scribe.Fixed = one.Values
	e.join(s.Device.Index)
	m := l.due(s, clock.Nano())
	m.MQTT.Retain = m.MQTT.Retain && !one.Unretained
	d.conn.Send(m)
	e.settle(ctx, e.fleet.Crowd.Plan.Settle, false)
	d.conn.Close(true)
	d.conn = nil
	l.scribe.Fixed = nil
}

// Play plays one round, from begin on, until the plan's end or until ctx is
// done. When it returns, every message of the round is settled, but for those
// whose HTTP request is just being cancelled: closing the links waits for them.
func (e *Engine) Play(ctx context.Context, round int, begin time.Time) {
	e.round, e.begin = round, begin
	plan := &e.fleet.Crowd.Plan
	end := begin.Add(plan.For).UnixNano()
	for _, l := range e.loops {
		l.entries = l.entries[:0]
	}
	for i := range e.devices {
		join := begin.Add(plan.Join.At(i, len(e.devices))).UnixNano()
		if join >= end {
			continue
		}
		l := e.loopOf(i)
		l.entries = append(l.entries, entry{at: join, what: joins, index: i})
		for _, s := range e.devices[i].Streams {
			st := &e.streams[s.Index]
			st.tick, st.slot, st.from = 0, 0, join
			if due := st.due(e.begin.UnixNano()); due < end {
				l.entries = append(l.entries, entry{at: due, what: speaks, index: s.Index})
			}
		}
	}
	var wg sync.WaitGroup
	for _, l := range e.loops {
		wg.Go(func() { l.run(ctx, end) })
	}
	wg.Wait()
	e.WasOpen = e.open(false)
	e.settle(ctx, plan.Settle, true)
	last := ctx.Err() != nil || round >= max(1, plan.Rounds)
	for i := range e.devices {
		if c := e.devices[i].conn; c != nil {
			c.Close(last)
			e.devices[i].conn = nil
			e.devices[i].up.Store(false)
		}
	}
	for _, l := range e.loops {
		l.leftover()
	}
	e.restore() // before witnesses are asked by properties
	e.Counts.Connected.Store(0)
	e.Counts.Joined.Store(0)
}

// due is when the stream's next message is due.
func (s *stream) due(begin int64) int64 {
	if s.every > 0 {
		s.base += int64(s.every) * int64(s.Reading.Batch)
		return s.base + int64(Jitter(s.Stream, s.seq+1, s.every))
	}
	due, slot := Due(s.Stream, begin, s.from, s.seq+1, s.slot)
	s.slot = slot
	return due
}

// settle waits until every message has its outcome: as long as the platform answers some, or
// takes some of QoS 0, and at most for the given time without. A run that is interrupted is not waited for longer than
// that; where it is patient, not less either.
func (e *Engine) settle(ctx context.Context, most time.Duration, patient bool) {
	deadline := time.Now().Add(most)
	looked := time.Now()
	answers, interrupted := e.answers(), ctx.Err() != nil
	for time.Now().Before(deadline) && (patient || ctx.Err() == nil) {
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
			interrupted, deadline = true, time.Now().Add(most)
		case e.answers() > answers && !interrupted:
			answers, deadline = e.answers(), time.Now().Add(most)
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
	return s.seq - s.tick*uint64(s.Reading.Batch) + 1, s.seq + 1
}

// Excused tells whether no witness needs to find a message, because it was
// refused or never sent.
func (e *Engine) Excused(stream int, seq uint64) bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.excused[stream].Has(seq)
}

// LastDrop is why a connection was lost last.
func (e *Engine) LastDrop() string {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.lastWhy
}

// join connects a device.
func (e *Engine) join(i int) {
	d := &e.devices[i]
	e.Counts.Joined.Add(1)
	d.conn = e.links[d.Cast.Link].Connect(d.Identity(), e)
}

// speak makes the next message of a stream due and hands it to the link.
func (l *loop) speak(s *stream, due int64) {
	m := l.due(s, due)
	l.engine.devices[s.Device.Index].conn.Send(m)
}

// due makes the next message of a stream, and notes that it is due.
func (l *loop) due(s *stream, due int64) *link.Message {
	e := l.engine
	m := e.pool.Get().(*link.Message)
	body, headers := m.Body[:0], m.HTTP.Headers[:0]
	l.scribe.Every = s.interval()
	written, err := l.scribe.Write(s.Stream, s.seq+1, s.tick, time.Unix(0, due), e.begin, body)
	if err != nil {
		e.mu.Lock()
		e.failed++
		if e.failure == nil {
			e.failure = err
		}
		e.mu.Unlock()
	}
	s.tick++
	s.slot++
	for _, carried := range written.Carried {
		s.seq++
		if err != nil {
			carried = []byte("null") // what goes out is not what was meant: it proves nothing
		}
		l.page.Due(s.Index, s.seq, e.round, due, carried)
	}
	e.Counts.Due.Add(int64(len(written.Carried)))

	r := s.Reading
	*m = link.Message{Stream: s.Index, Seq: s.seq, Count: len(written.Carried), Due: due, Target: s.Target, ContentType: s.kind, Body: written.Body, Mark: written.Mark}
	if s.Device.Cast.Link.Protocol == crowd.MQTT {
		m.MQTT = link.MQTT{QoS: r.QoS, Retain: r.Retain, User: s.User, Expiry: uint32(r.Expires / time.Second)}
	} else {
		m.HTTP = link.HTTP{Method: r.Method, OKStatus: r.OKStatus, Gzip: r.Gzip}
		if s.Device.Cast.Link.RetryKey != "" {
			m.HTTP.Key = ledger.Mark{Run: e.run, Device: s.Device.Name, Reading: r.Name, Seq: m.First()}.String()
		}
		for i, h := range s.Headers {
			headers = append(headers, link.Header{Name: h.Name, Value: s.Values[i]})
		}
		m.HTTP.Headers = headers
	}
	return m
}

// Sent implements link.Sink.
func (e *Engine) Sent(m *link.Message, at int64, anew bool) {
	if m.Answer > 0 {
		e.answerSent(m, at)
		return
	}
	page := e.pageOf(m)
	for seq := m.First(); seq <= m.Seq; seq++ {
		page.Sent(m.Stream, seq, at, anew)
	}
	e.Counts.Sent.Add(int64(m.Count))
}

// Settled implements link.Sink.
func (e *Engine) Settled(m *link.Message, at int64, o outcome.Outcome, code int, text string) {
	if text != "" {
		text = e.fleet.Crowd.Redact(text)
	}
	if m.Answer > 0 {
		e.answerSettled(m, at, o, code, text)
		return
	}
	page := e.pageOf(m)
	for seq := m.First(); seq <= m.Seq; seq++ {
		page.Settled(m.Stream, seq, at, o, code, text)
	}
	if o == outcome.Refused || o == outcome.Unsent {
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
	case outcome.Refused:
		e.Counts.Refused.Add(n)
	case outcome.NotAsked:
		e.Counts.NotAsked.Add(n)
	case outcome.NoAnswer:
		e.Counts.NoAnswer.Add(n)
	case outcome.Unsent:
		e.Counts.Unsent.Add(n)
	}
	e.pool.Put(m)
}

func (e *Engine) pageOf(m *link.Message) *ledger.Page {
	return e.devices[e.streams[m.Stream].Device.Index].page
}

// changed notes what happened to a device's connection.
func (e *Engine) changed(i int, x *ledger.LinkEvent) {
	if d := &e.devices[i]; len(d.Streams) > 0 {
		x.Stream, x.At, x.Place, x.Why = d.Streams[0].Index, clock.Now(), e.fleet.Crowd.Redact(x.Place), e.fleet.Crowd.Redact(x.Why)
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
	if e.devices[i].up.CompareAndSwap(false, true) {
		e.Counts.Connected.Add(1)
	}
	e.changed(i, &ledger.LinkEvent{What: what})
}

// Listens implements link.Sink.
func (e *Engine) Listens(i int, filter, why string) {
	if why != "" {
		e.changed(i, &ledger.LinkEvent{What: ledger.NotHearing, Place: filter, Why: why})
	}
}

// Down implements link.Sink.
func (e *Engine) Down(i int, loss link.Loss) {
	d := &e.devices[i]
	if d.up.CompareAndSwap(true, false) {
		e.Counts.Connected.Add(-1)
	}
	e.Counts.Drops.Add(1)
	e.mu.Lock()
	e.lastWhy = fmt.Sprintf("%s: %s", d.Name, e.fleet.Crowd.Redact(loss.Why))
	x := &ledger.LinkEvent{What: ledger.Down, Why: loss.Why, Early: loss.Early}
	if loss.After != nil && loss.After.Stream >= 0 {
		x.After, x.Times = ledger.Entry{Stream: loss.After.Stream, Seq: loss.After.Seq}, loss.Times
		if s := e.streamOf(loss.After.Stream); s != nil && loss.Times > 1 {
			e.lastWhy += fmt.Sprintf(", %d times right after %s", loss.Times, s.Reading.Name)
		}
	}
	e.mu.Unlock()
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
	text := e.fleet.Crowd.Redact(what)
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
