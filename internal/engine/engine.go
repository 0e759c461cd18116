// Package engine plays a plan: it makes messages due, hands them to the links
// and writes into the ledger what becomes of them.
//
// The schedule is open-loop. When a message is due depends on the plan and the
// seed alone; a platform that is slow makes messages late, never fewer, and
// lateness is measured from the time a message was due.
package engine

import (
	"context"
	"fmt"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/ledger"
	"runcrowd/internal/link"
	"runcrowd/internal/payload"
	"runcrowd/internal/signal"
)

// Counts is how far a run is. All may be read while it runs.
type Counts struct {
	Devices                                                           int64
	Joined, Connected, Due, Sent, Accepted, Refused, NotAsked, Unsent atomic.Int64
	NoAnswer, Drops                                                   atomic.Int64
}

// Engine plays the rounds of one run.
type Engine struct {
	Counts  Counts
	fleet   *fleet.Fleet
	links   map[*crowd.Link]link.Link
	run     string
	base    uint64 // of sequence marks
	devices []device
	streams []stream
	loops   []*loop
	pool    sync.Pool
	round   int
	begin   time.Time

	mu      sync.Mutex
	failure error // the first value that could not be made
	failed  int64
	lastWhy string
	excused map[Ref]bool
}

// Ref names a message by stream and sequence number.
type Ref struct {
	Stream int
	Seq    uint64
}

type device struct {
	*fleet.Device
	conn link.Conn
	page *ledger.Page
	up   atomic.Bool
}

type stream struct {
	*fleet.Stream
	seq  uint64
	tick uint64 // messages of this round so far
	from int64  // when the stream's schedule begins in this round
	mark ledger.Mark
	how  crowd.Mark
}

// New makes an engine and defines the fleet's streams in the ledger.
func New(f *fleet.Fleet, links map[*crowd.Link]link.Link, w *ledger.Writer, run string, start time.Time) *Engine {
	e := &Engine{fleet: f, links: links, run: run, base: ledger.SequenceBase(start.Unix())}
	e.excused = map[Ref]bool{}
	e.Counts.Devices = int64(len(f.Devices))
	e.pool.New = func() any { return new(link.Message) }
	for range runtime.GOMAXPROCS(0) {
		e.loops = append(e.loops, &loop{engine: e, page: w.Page()})
	}
	e.devices = make([]device, len(f.Devices))
	for i, d := range f.Devices {
		e.devices[i].Device = d
		e.devices[i].page = e.loopOf(i).page
	}
	e.streams = make([]stream, len(f.Streams))
	for i, s := range f.Streams {
		kind := s.Device.Cast.Kind
		e.streams[i].Stream = s
		e.streams[i].how = kind.Mark
		e.streams[i].mark = ledger.Mark{Run: run, Device: s.Device.Name, Reading: s.Reading.Name}
		w.Stream(i, Describe(s))
	}
	w.Flush() // before any page tells of a stream
	return e
}

// Describe is a stream as the ledger defines it.
func Describe(s *fleet.Stream) ledger.Stream {
	kind := s.Device.Cast.Kind
	d := ledger.Stream{Device: s.Device.Name, Kind: kind.Name, Reading: s.Reading.Name}
	if kind.Link.Protocol == crowd.MQTT {
		d.QoS0, d.MayRepeat = s.Reading.QoS == 0, s.Reading.QoS == 1
	}
	for i := range s.Reading.Fields {
		if t := s.Reading.Fields[i].Tolerance; t > 0 {
			if d.Tolerances == nil {
				d.Tolerances = map[string]float64{}
			}
			d.Tolerances[s.Reading.Fields[i].Name] = t
		}
	}
	return d
}

func (e *Engine) loopOf(device int) *loop { return e.loops[device%len(e.loops)] }

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
			st.tick, st.from = 0, join
			if due := st.due(st.seq+1, 0); due < end {
				l.entries = append(l.entries, entry{at: due, what: speaks, index: s.Index})
			}
		}
	}
	var wg sync.WaitGroup
	for _, l := range e.loops {
		wg.Go(func() { l.run(ctx, end) })
	}
	wg.Wait()
	e.settle(plan.Settle)
	for i := range e.devices {
		if c := e.devices[i].conn; c != nil {
			c.Close()
			e.devices[i].conn = nil
			e.devices[i].up.Store(false)
		}
	}
	e.Counts.Connected.Store(0)
	e.Counts.Joined.Store(0)
}

// due is when the message with a sequence number, the tick-th of the round, is
// due: on a schedule of the device's own, give or take the jitter.
func (s *stream) due(seq, tick uint64) int64 {
	return Due(s.Stream, s.from, seq, tick)
}

// Due is when a message is due, in Unix nanoseconds: from is when the device
// joined, tick counts the messages of the round from 0.
func Due(s *fleet.Stream, from int64, seq, tick uint64) int64 {
	every := float64(s.Reading.Every)
	at := (s.Phase + float64(tick)) * every
	if j := s.Reading.Jitter; j > 0 {
		at += j * every * (2*signal.Uniform(s.Key, seq, 5) - 1)
	}
	return from + int64(max(0, at))
}

// settle waits until every message has its outcome, at most for the given time.
func (e *Engine) settle(most time.Duration) {
	deadline := time.Now().Add(most)
	clock := time.Now()
	for time.Now().Before(deadline) {
		open, look := 0, time.Since(clock) > time.Second
		for i := range e.devices {
			c := e.devices[i].conn
			if c == nil {
				continue
			}
			if look { // the loops are over: keep-alive is ours now
				c.Tick(time.Now())
			}
			if open == 0 {
				open += c.Open()
			}
		}
		if look {
			clock = time.Now()
		}
		if open == 0 {
			return
		}
		time.Sleep(10 * time.Millisecond)
	}
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
	return s.seq - s.tick + 1, s.seq + 1
}

// Excused tells whether no witness needs to find a message, because it was
// refused or never sent.
func (e *Engine) Excused(stream int, seq uint64) bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.excused[Ref{stream, seq}]
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
	d.conn = e.links[d.Cast.Kind.Link].Connect(link.Identity{Device: i, Name: d.Name, ClientID: d.ClientID,
		Username: d.Username, Password: d.Password}, e)
}

// speak makes the next message of a stream due.
func (l *loop) speak(s *stream, due int64) {
	e := l.engine
	s.seq++
	s.tick++
	at := time.Unix(0, due)
	values, err := l.composer.Values(s.Stream, s.seq, at, at.Sub(e.begin))
	if err != nil {
		e.mu.Lock()
		e.failed++
		if e.failure == nil {
			e.failure = err
		}
		e.mu.Unlock()
	}
	l.carried = payload.Object(l.carried[:0], s.Names, values)
	l.page.Due(s.Index, s.seq, e.round, due, l.carried)
	e.Counts.Due.Add(1)

	m := e.pool.Get().(*link.Message)
	body, headers := m.Body[:0], m.Headers[:0]
	*m = link.Message{Stream: s.Index, Seq: s.seq, Due: due, Target: s.Target, QoS: s.Reading.QoS, Retain: s.Reading.Retain,
		Method: s.Reading.Method, Accept: s.Reading.Accept}
	for i, h := range s.Headers {
		headers = append(headers, link.Header{Name: h.Name, Value: s.Values[i]})
	}
	m.Headers = headers
	s.mark.Seq = s.seq
	switch s.how.Place {
	case crowd.MarkField:
		l.mark = s.mark.Append(l.mark[:0])
		m.Body = payload.WithText(body, l.carried, s.how.Name, string(l.mark))
	case crowd.MarkSequence:
		m.Body = payload.WithNumber(body, l.carried, s.how.Name, e.base+s.seq)
	default:
		m.Body = append(body, l.carried...)
		m.MarkKey, m.MarkValue = s.how.Name, s.mark.String()
	}
	e.devices[s.Device.Index].conn.Send(m)
}

// Sent implements link.Sink.
func (e *Engine) Sent(m *link.Message, at int64) {
	e.pageOf(m).Sent(m.Stream, m.Seq, at)
	e.Counts.Sent.Add(1)
}

var outcomes = map[link.Outcome]ledger.Outcome{link.Accepted: ledger.Accepted, link.Refused: ledger.Refused,
	link.NotAsked: ledger.NotAsked, link.NoAnswer: ledger.NoAnswer, link.Unsent: ledger.Unsent}

// Settled implements link.Sink.
func (e *Engine) Settled(m *link.Message, at int64, o link.Outcome, code int, text string) {
	if text != "" {
		text = e.fleet.Crowd.Redact(text)
	}
	e.pageOf(m).Settled(m.Stream, m.Seq, at, outcomes[o], code, text)
	if o == link.Refused || o == link.Unsent {
		e.mu.Lock()
		e.excused[Ref{m.Stream, m.Seq}] = true
		e.mu.Unlock()
	}
	switch o {
	case link.Accepted:
		e.Counts.Accepted.Add(1)
	case link.Refused:
		e.Counts.Refused.Add(1)
	case link.NotAsked:
		e.Counts.NotAsked.Add(1)
	case link.NoAnswer:
		e.Counts.NoAnswer.Add(1)
	case link.Unsent:
		e.Counts.Unsent.Add(1)
	}
	e.pool.Put(m)
}

func (e *Engine) pageOf(m *link.Message) *ledger.Page {
	return e.devices[e.streams[m.Stream].Device.Index].page
}

// Up implements link.Sink.
func (e *Engine) Up(i int) {
	d := &e.devices[i]
	if d.up.CompareAndSwap(false, true) {
		e.Counts.Connected.Add(1)
	}
	if len(d.Streams) > 0 {
		d.page.Link(d.Streams[0].Index, time.Now(), true, "")
	}
}

// Down implements link.Sink.
func (e *Engine) Down(i int, why string) {
	d := &e.devices[i]
	why = e.fleet.Crowd.Redact(why)
	if d.up.CompareAndSwap(true, false) {
		e.Counts.Connected.Add(-1)
	}
	e.Counts.Drops.Add(1)
	e.mu.Lock()
	e.lastWhy = fmt.Sprintf("%s: %s", d.Name, why)
	e.mu.Unlock()
	if len(d.Streams) > 0 {
		d.page.Link(d.Streams[0].Index, time.Now(), false, why)
	}
}
