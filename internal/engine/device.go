package engine

import (
	"fmt"
	"slices"
	"sync/atomic"
	"time"

	"runcrowd/internal/clock"
	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/ledger"
	"runcrowd/internal/link"
	"runcrowd/internal/outcome"
	"runcrowd/internal/recording"
)

// device is what a device is at this moment. All of it but the atomic fields belongs to
// the loop of the device.
type device struct {
	*fleet.Device
	conn    link.Conn // nil: none
	page    *ledger.Page
	shape   *link.Shaper // its network; nil: nothing is done to it
	ticking bool         // its connection looks at the clock
	up      atomic.Bool

	asked uint64 // commands so far
	acts  []*act // what is done to it just now, in order
	said  int    // messages of this round

	joined       bool
	here         bool            // it has connected: what it says at a connection is said
	greets       bool            // it, or one behind it, sends something at each connection
	showsOther   atomic.Bool     // the credentials of its connection are not its own, as the plan says
	upBefore     atomic.Bool     // its connection was up before
	away         int             // why it is not connected: how many acts
	idle         int             // why it measures nothing: how many acts
	leaving      *leaving        // it is about to leave
	kept         []*link.Message // messages that it sends when it can
	back         *crowd.Offline  // how it sends them
	paced        int64           // when it sent the last of these
	unregistered *fleet.Variant  // it is not registered any more; nil: it is
	busy         int             // actions that wait for the platform's side
	variant      *fleet.Variant  // nil: its own credentials
	nextVariant  *fleet.Variant  // what it is to show when it has left
	refusal      atomic.Pointer[string]

	awake       bool           // of one that sleeps
	gatewayAway bool           // at the end of the round
	heardAll    int64          // since when all that it sent is acknowledged; 0: it is not
	joinsLater  bool           // an event of its own says when it joins
	late        bool           // an event says when it comes
	quiet       bool           // it has said what it had to say
	original    map[string]any // properties before something was done to them

	parked   []entry // what it does when it has room again
	wants    atomic.Bool
	settled  atomic.Int64
	stall    int64
	hopeless bool
}

// leaving is a device that waits for what is under way before it leaves.
type leaving struct {
	since int64
	least time.Duration
	most  clock.Patience
	then  func()
}

type stream struct {
	*fleet.Stream
	retained bool // a retained message went out
	seq      uint64
	tick     uint64          // messages of this round of the plan so far
	before   uint64          // of these, those that were sent before the run went on
	slot     uint64          // the tick of its reading at which the next one is due
	from     int64           // when the device joins in this round
	kind     string          // content type of its bodies
	since    uint64          // messages before the device last began to count anew
	line     *recording.Line // that it sends just now; nil: it makes its messages
	held     *link.Message

	every time.Duration // as something done to it made it; 0: as in the file
	never bool          // nothing is due
	next  int64         // when its entry in the plan is; another is stale; 0: it has none
	base  int64         // since when, or the last message due on it
}

// interval is the time from one sample to the next.
func (s *stream) interval() time.Duration {
	if s.every > 0 {
		return s.every
	}
	return s.Reading.Every
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

// resume takes the stream's schedule back to that of the file, from a time on.
func (s *stream) resume(begin, now int64) {
	s.every = 0
	interval := int64(interval(s.Stream))
	since := now - begin
	if s.Reading.Turns.How == crowd.Staggered {
		since = now - s.from
	}
	s.slot = uint64(max(0, since/interval-1))
	for {
		due, slot := Due(s.Stream, begin, s.from, s.seq+1, s.slot)
		if due > now {
			return
		}
		s.slot = slot + 1
	}
}

// window is how many messages of a device may be under way where it waits for
// acknowledgements.
func (d *device) window() int {
	if l := d.Cast.Link; l.Protocol == crowd.MQTT {
		return l.InFlight
	}
	return 8
}

// full tells whether a device has no room for a message more.
func (d *device) full(l *loop) bool {
	c := l.link(d)
	return c != nil && c.Open() >= d.window()
}

// presence is how the device is there.
func (d *device) presence() *crowd.Presence { return &d.Cast.Kind.Presence }

// gateway is the gateway of a device; nil: it has none.
func (l *loop) gateway(d *device) *device {
	if d.Gateway == nil {
		return nil
	}
	return &l.engine.devices[d.Gateway.Index]
}

// link is the connection that carries a device's messages just now; nil: none does.
func (l *loop) link(d *device) link.Conn {
	g := l.gateway(d)
	switch {
	case g == nil:
		return d.conn
	case g.away > 0 || g.leaving != nil:
		return nil
	}
	return g.conn
}

// waits tells whether what a device has to do at a time of the plan waits until the
// platform has acknowledged what was before it.
func (d *device) waits(l *loop, at int64) bool {
	e := l.engine
	if e.see != nil || d.hopeless || !e.clock.max && (at >= e.live || e.live == 0) {
		return false
	}
	return len(d.parked) > 0 || d.full(l)
}

// wake tells a device's loop that it has room again.
func (e *Engine) wake(d *device) {
	l := e.loopOf(d.Index)
	l.inboxMu.Lock()
	l.woken = append(l.woken, d.Index)
	l.inboxMu.Unlock()
	l.ring()
}

func (l *loop) ring() {
	select {
	case l.bell <- struct{}{}:
	default:
	}
}

// emit sees a message off: to the platform, or into what the device keeps.
func (l *loop) emit(d *device, m *link.Message) {
	switch {
	case d.away > 0 || d.leaving != nil || l.link(d) == nil || !d.shows(m):
		l.keep(d, m)
		if p := d.presence(); p.Sleeps && !d.awake && d.away == 0 && len(d.kept) >= p.After {
			l.wakeUp(d)
		}
	case len(d.kept) > 0 && (d.back == nil || !d.back.NewestFirst):
		d.kept = append(d.kept, m)
	default:
		l.link(d).Send(m)
	}
}

// wakeUp wakes a device that sleeps: it connects, and sends what it has kept.
func (l *loop) wakeUp(d *device) {
	d.awake, d.heardAll = true, 0
	if l.connect(d); l.engine.see == nil {
		l.later(feedEvery, dozes, d.Index)
	}
}

// doze lets a device sleep again when all that it sent is acknowledged, and it has listened
// long enough; it says when to look again.
func (l *loop) doze(d *device) time.Duration {
	switch {
	case !d.awake || d.conn == nil:
		d.awake = d.awake && d.conn != nil
		return 0
	case len(d.kept) > 0 || d.conn.Open() > 0:
		d.heardAll = 0
		return feedEvery
	case d.heardAll == 0:
		d.heardAll = clock.Nano()
	}
	if left := d.heardAll + int64(d.presence().Listens) - clock.Nano(); left > 0 {
		return min(time.Duration(left), feedEvery)
	}
	d.awake = false
	l.disconnect(d, d.presence().End)
	return 0
}

// keep keeps a message, or drops one.
func (l *loop) keep(d *device, m *link.Message) {
	f := d.back
	if f == nil {
		f = &crowd.Offline{}
	}
	most := f.Keep
	if most == 0 {
		most = d.Cast.Link.Backlog
	}
	if m.Copy { // it goes where the message goes
		if slices.ContainsFunc(d.kept, m.Same) {
			d.kept = append(d.kept, m)
		} else {
			l.engine.Settled(m, clock.Nano(), outcome.Dropped, 0, "")
		}
		return
	}
	n := 0
	for _, x := range d.kept {
		if !x.Copy {
			n++
		}
	}
	d.kept = append(d.kept, m)
	if n < most {
		return
	}
	dropped := m
	if !f.Newest {
		dropped = d.kept[slices.IndexFunc(d.kept, func(x *link.Message) bool { return !x.Copy })]
	}
	stream, seq := dropped.Stream, dropped.Seq
	d.kept = slices.DeleteFunc(d.kept, func(x *link.Message) bool {
		if x.Stream != stream || x.Seq != seq {
			return false
		}
		l.engine.Settled(x, clock.Nano(), outcome.Dropped, 0, fmt.Sprintf("the device keeps %d messages while it is offline",
			most))
		return true
	})
}

// feedEvery is how often a device looks whether it can send more of what it has kept, if
// nothing tells it before.
const feedEvery = 20 * time.Millisecond

// feed sends what a device has kept, as far as it has room, and says when to look again.
func (l *loop) feed(d *device) time.Duration {
	d.wants.Store(false)
	for len(d.kept) > 0 {
		c := l.link(d)
		if d.away > 0 || d.leaving != nil || c == nil {
			return 0 // it is fed again when it is back
		}
		if d.back != nil && d.back.Back > 0 {
			pause := int64(float64(time.Second) / float64(d.back.Back))
			if now := clock.Nano(); now < d.paced+pause {
				return time.Duration(d.paced + pause - now)
			} else if d.paced = d.paced + pause; d.paced < now-pause {
				d.paced = now
			}
		}
		if d.full(l) {
			return feedEvery
		}
		i := d.nextKept()
		if i < 0 {
			return 0
		}
		m := d.kept[i]
		if i == 0 {
			d.kept = d.kept[1:]
		} else {
			d.kept = slices.Delete(d.kept, i, i+1)
		}
		c.Send(m)
	}
	d.back, d.kept = nil, nil
	return 0
}

// shows tells whether a message goes out with the credentials that the device shows just
// now: one that was due before must not be refused for what came later.
func (d *device) shows(m *link.Message) bool { return m.Variant == (d.variant != nil) }

// nextKept is the place of the message that goes next of those that the device has kept; -1:
// none can go with the credentials that it shows.
func (d *device) nextKept() int {
	if d.back != nil && d.back.NewestFirst {
		for i := len(d.kept) - 1; i >= 0; i-- {
			if d.shows(d.kept[i]) {
				return i
			}
		}
		return -1
	}
	return slices.IndexFunc(d.kept, d.shows)
}

// leave waits for what is under way, at most for a time, and then does something. What is
// due meanwhile is kept.
func (l *loop) leave(d *device, most time.Duration, then func()) { l.leaveAfter(d, 0, most, then) }

// leaveAfter waits at least for a time.
func (l *loop) leaveAfter(d *device, least, most time.Duration, then func()) {
	if l.engine.see != nil || d.conn == nil {
		then()
		return
	}
	if x := d.leaving; x != nil { // one behind the other
		before := x.then
		x.then = func() {
			before()
			l.leaveAfter(d, least, most, then)
		}
		return
	}
	d.leaving = &leaving{clock.Nano(), least, clock.NewPatience(most), then}
	if l.drain(d, 0) > 0 {
		l.later(time.Millisecond, drains, d.Index)
	}
}

// drain looks whether a device that leaves can go, and says when to look again.
func (l *loop) drain(d *device, _ int64) time.Duration {
	x := d.leaving
	if x == nil {
		return 0
	}
	waited := time.Duration(clock.Nano() - x.since)
	denied := d.variant != nil && d.Cast.Link.Protocol == crowd.MQTT && d.refusal.Load() != nil // it will take nothing
	over := x.most.Over()
	if waited < x.least || d.conn != nil && d.conn.Open() > 0 && !denied && !over {
		return 5 * time.Millisecond
	}
	d.leaving = nil
	x.then()
	return 0
}

// connect connects a device, if nothing keeps it away, and sends what it has kept.
func (l *loop) connect(d *device) {
	e := l.engine
	if d.away > 0 || !d.joined {
		return
	}
	if e.see != nil { // a sleeper wakes for what it has kept, and here none keeps anything
		l.greet(d)
		return
	}
	if d.presence().Sleeps && !d.awake {
		return
	}
	if d.conn == nil && d.Gateway == nil {
		d.upBefore.Store(false)
		d.showsOther.Store(d.variant != nil)
		id := d.Identity()
		if d.variant != nil {
			id = d.variant.Identity
		}
		d.conn = e.links[d.Cast.Link].Connect(id, e)
		if !d.ticking {
			if wait := d.conn.Tick(clock.Now()); wait > 0 {
				d.ticking = true
				l.later(wait, ticks, d.Index)
			}
		}
	}
	l.greet(d)
	l.deliver(d)
	for _, b := range d.Behind {
		l.deliver(&e.devices[b.Index])
	}
}

// greet sends what a device says at each connection, if it has not yet; a gateway's devices
// connect with it.
func (l *loop) greet(d *device) {
	if g := l.gateway(d); d.here || g != nil && !g.here {
		return
	}
	d.here = true
	l.says(d)
	for _, b := range d.Behind {
		if x := &l.engine.devices[b.Index]; x.joined && x.away == 0 {
			x.here = false
			l.greet(x)
		}
	}
}

// greetAgain does so after a connection that was lost.
func (l *loop) greetAgain(d *device) {
	if d.conn != nil && d.here && d.away == 0 && d.leaving == nil {
		d.here = false
		l.greet(d)
	}
}

// says sends the readings that are sent at each connection.
func (l *loop) says(d *device) {
	at := l.at
	if e := l.engine; e.see == nil {
		at = l.now()
	}
	for _, st := range d.Streams {
		if s := &l.engine.streams[st.Index]; s.Reading.OnConnect && !s.never && at < l.end &&
			(l.engine.part == nil || l.engine.part[s.Index]) {
			l.speak(s, at)
		}
	}
}

// deliver sends what a device has kept, now or as soon as it has room.
func (l *loop) deliver(d *device) {
	if len(d.kept) == 0 {
		return
	}
	d.paced = clock.Nano()
	if wait := l.feed(d); wait > 0 {
		l.later(wait, feeds, d.Index)
	}
}

// disconnect ends a device's connection.
func (l *loop) disconnect(d *device, last bool) {
	d.here = false
	if d.conn != nil {
		d.conn.Close(last)
		d.conn = nil
	}
	if d.up.CompareAndSwap(true, false) {
		l.engine.Counts.Connected.Add(-1)
	}
}

// begin makes a device ready for a round.
func (d *device) begin(late bool) {
	d.late, d.joined, d.quiet, d.hopeless, d.said, d.away, d.idle = late, false, false, false, 0, 0, 0
	d.acts, d.leaving, d.kept, d.back, d.variant, d.nextVariant, d.unregistered, d.parked, d.busy = nil, nil, nil, nil, nil, nil, nil, nil, 0
	d.ticking, d.awake, d.here = false, false, false
	d.wants.Store(false)
}

// whyKept tells why a message that waits in the device was not sent.
func (d *device) whyKept() string {
	switch {
	case d.away > 0:
		return "the device was still offline at the end of the round"
	case d.Gateway != nil && d.gatewayAway:
		return "its gateway " + d.Gateway.Name + " was not connected at the end of the round"
	case d.conn == nil:
		return "the device had left"
	}
	return "still waiting in the device at the end of the round: it had not come to it"
}

// variantValues are the headers' values of a stream, and what computes others, as the device shows
// them just now.
func (d *device) variantValues(s *stream) ([]string, link.Signer) {
	if x := d.last(func(x *action) bool { return x.Kind == crowd.ActionCredential }); x != nil && x.variant != nil {
		return x.variant.Values[s.Index], x.variant.Signers[s.Index]
	}
	return s.Values, s.Signer
}

// shown is the outcome of a message that was sent with other credentials than the device's:
// a connection that was refused has refused it, and one that was accepted has let it in.
func (d *device) shown(m *link.Message, o outcome.Outcome, text string) (outcome.Outcome, string) {
	refusal := d.refusal.Load()
	switch {
	case o == outcome.Unsent && refusal != nil:
		return outcome.Refused, *refusal
	case o == outcome.NotAsked && m.Meant == uint8(ledger.ToRefuse):
		return outcome.Accepted, "the platform accepted a connection with these credentials"
	}
	return o, text
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
