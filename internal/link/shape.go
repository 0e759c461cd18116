package link

import (
	"context"
	"errors"
	"io"
	"math/rand/v2"
	"net"
	"sync"
	"sync/atomic"
	"time"
)

// Weather is what a device's network does, in both directions. The zero Weather leaves it
// alone.
type Weather struct {
	Delay, Jitter time.Duration // of every piece; Jitter is at most so much more
	Rate          float64       // bits a second; 0: no limit
	Stall         time.Duration // how long nothing passes, and
	StallEvery    time.Duration // from one such time to the next
	CutAfter      int64         // bytes after which a connection breaks; 0: never
}

// ErrCut is the error of a network that the plan has cut.
var ErrCut = errors.New("the plan has cut the network")

// Shaper is the network of one device, for whoever does something to it. Its methods may be
// called from any goroutine.
type Shaper struct {
	under Network
	relay bool // connections pass through it, and not only by it

	mu      sync.Mutex
	weather Weather
	since   time.Time // of the weather
	down    bool
	silent  chan struct{} // closed when the silence is over; nil: there is none
	conns   map[io.Closer]bool
	changed chan struct{} // closed at each change
}

// NewShaper makes one. Relay says that weather and silence are to come: without it,
// connections can be cut, and cost nothing.
func NewShaper(under Network, relay bool) *Shaper {
	return &Shaper{under: under, relay: relay, conns: map[io.Closer]bool{}, changed: make(chan struct{})}
}

// Relays tells whether weather and silence can come.
func (s *Shaper) Relays() bool { return s.relay }

// Set changes the weather.
func (s *Shaper) Set(w Weather) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.weather, s.since = w, time.Now()
	s.change()
}

func (s *Shaper) change() {
	close(s.changed)
	s.changed = make(chan struct{})
}

// Cut resets all connections; until Mend none can be opened.
func (s *Shaper) Cut() {
	s.mu.Lock()
	s.down = true
	list := s.take()
	s.change()
	s.mu.Unlock()
	for _, c := range list {
		reset(c)
	}
}

// Silence swallows everything, both ways, and closes nothing; until Mend no connection
// comes about.
func (s *Shaper) Silence() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.silent == nil {
		s.silent = make(chan struct{})
	}
	s.change()
}

// Silent tells whether it swallows everything.
func (s *Shaper) Silent() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.silent != nil
}

// Mend ends a cut or a silence. What was silent is reset on the device's side: the platform
// may still hold it for a connection.
func (s *Shaper) Mend() {
	s.mu.Lock()
	s.down = false
	var list []io.Closer
	if s.silent != nil {
		close(s.silent)
		s.silent = nil
		list = s.take()
	}
	s.change()
	s.mu.Unlock()
	for _, c := range list {
		if r, is := c.(*relay); is {
			r.cut.Store(true)
		}
		c.Close()
	}
}

// take takes all connections.
func (s *Shaper) take() []io.Closer {
	list := make([]io.Closer, 0, len(s.conns))
	for c := range s.conns {
		list = append(list, c)
	}
	clear(s.conns)
	return list
}

func (s *Shaper) forget(c io.Closer) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.conns, c)
}

// reset closes a connection so that the other side is told of a reset, where that can be.
func reset(c io.Closer) {
	if r, is := c.(*relay); is {
		r.snap()
		return
	}
	if t, is := c.(interface{ SetLinger(int) error }); is {
		t.SetLinger(0)
	}
	c.Close()
}

// Dial opens a connection through the shaper: it is a Network.
func (s *Shaper) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	s.mu.Lock()
	down, silent := s.down, s.silent
	s.mu.Unlock()
	if silent != nil {
		select {
		case <-silent:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
	if down {
		return nil, ErrCut
	}
	nc, err := s.under.Dial(ctx, network, address)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.down { // meanwhile
		nc.Close()
		return nil, ErrCut
	}
	if !s.relay {
		s.conns[nc] = true
		if len(s.conns) > 64 { // those that were closed by their owner are not told of
			for c := range s.conns {
				if gone(c) {
					delete(s.conns, c)
				}
			}
		}
		if tcp, is := nc.(*net.TCPConn); is {
			return &cuttable{tcp, s}, nil
		}
		return nc, nil
	}
	near, far := net.Pipe()
	r := &relay{shaper: s, platform: nc, device: far, near: near}
	s.conns[r] = true
	go r.pass(nc, far, func() { r.platformDone() })
	go r.pass(far, nc, func() { r.deviceDone() })
	return &relayed{near, nc, r}, nil
}

// cuttable is a connection that tells when the plan has cut it.
type cuttable struct {
	*net.TCPConn
	shaper *Shaper
}

func (c *cuttable) Read(b []byte) (int, error) {
	n, err := c.TCPConn.Read(b)
	if err != nil && errors.Is(err, net.ErrClosed) && c.shaper.isDown() {
		err = ErrCut
	}
	return n, err
}

func (s *Shaper) isDown() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.down
}

// gone tells whether a connection was closed on this side.
func gone(c io.Closer) bool {
	nc, is := c.(net.Conn)
	return is && errors.Is(nc.SetDeadline(time.Time{}), net.ErrClosed)
}

// relayed is the device's end of a relay. It has the addresses of the real connection.
type relayed struct {
	net.Conn
	real  net.Conn
	relay *relay
}

func (r *relayed) Read(b []byte) (int, error) {
	n, err := r.Conn.Read(b)
	switch {
	case err == nil:
	case r.relay.cut.Load():
		err = ErrCut
	case r.relay.ended.Load():
		err = io.EOF
	}
	return n, err
}

// SetReadDeadline and SetDeadline change nothing when the platform has ended the connection:
// a read says so at once.
func (r *relayed) SetReadDeadline(t time.Time) error {
	if r.relay.ended.Load() {
		return nil
	}
	return r.Conn.SetReadDeadline(t)
}

func (r *relayed) SetDeadline(t time.Time) error {
	if r.relay.ended.Load() {
		return r.Conn.SetWriteDeadline(t)
	}
	return r.Conn.SetDeadline(t)
}

func (r *relayed) LocalAddr() net.Addr  { return r.real.LocalAddr() }
func (r *relayed) RemoteAddr() net.Addr { return r.real.RemoteAddr() }

// relay passes bytes between a device and the platform as the weather allows.
type relay struct {
	shaper           *Shaper
	platform, device net.Conn
	near             net.Conn
	ended            atomic.Bool // the platform has closed
	cut              atomic.Bool // the plan did it
	mu               sync.Mutex
	passed           int64
}

// Close ends both sides.
func (r *relay) Close() error {
	r.device.Close()
	return r.platform.Close()
}

func (r *relay) snap() {
	r.cut.Store(true)
	if t, is := r.platform.(interface{ SetLinger(int) error }); is {
		t.SetLinger(0)
	}
	r.Close()
}

// platformDone: the platform has closed, and all that it said was passed on.
func (r *relay) platformDone() {
	r.shaper.forget(r)
	// What the device still says goes nowhere, as on any connection that the other side has
	// closed; that it is closed, it reads.
	r.ended.Store(true)
	r.near.SetReadDeadline(time.Unix(1, 0))
	r.platform.Close()
}

// deviceDone: the device has closed, and all that it said was passed on.
func (r *relay) deviceDone() {
	r.shaper.forget(r)
	r.Close()
}

// relayMost is how many bytes wait on one way at most; then the sender waits, as it would
// for any full network.
const relayMost = 256 << 10

// parcel is what came at one moment.
type parcel struct {
	b   []byte
	due time.Time
}

// pass carries bytes one way.
func (r *relay) pass(from, to net.Conn, done func()) {
	queue := make(chan parcel, 1024)
	room := make(chan struct{}, 1)
	var mu sync.Mutex
	held := 0
	go func() {
		defer close(queue)
		var last time.Time
		for {
			b := make([]byte, 4096)
			n, err := from.Read(b)
			if n > 0 {
				w, _, _ := r.shaper.now()
				due := time.Now().Add(w.Delay)
				if w.Jitter > 0 {
					due = due.Add(rand.N(w.Jitter))
				}
				if due.Before(last) {
					due = last // nothing overtakes
				}
				last = due
				mu.Lock()
				held += n
				full := held > relayMost
				mu.Unlock()
				queue <- parcel{b[:n], due}
				for full {
					<-room
					mu.Lock()
					full = held > relayMost
					mu.Unlock()
				}
			}
			if err != nil {
				return
			}
		}
	}()
	broken := false
	for p := range queue {
		if !broken {
			broken = !r.carry(p, to)
		}
		mu.Lock()
		held -= len(p.b)
		mu.Unlock()
		select {
		case room <- struct{}{}:
		default:
		}
	}
	done()
}

// now is the weather, when it changes, and whether there is silence.
func (s *Shaper) now() (w Weather, changed <-chan struct{}, silent bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.weather, s.changed, s.silent != nil
}

// stalled is how long nothing passes from now on.
func (s *Shaper) stalled() time.Duration {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.weather.StallEvery <= 0 {
		return 0
	}
	at := time.Since(s.since) % s.weather.StallEvery
	if from := s.weather.StallEvery - s.weather.Stall; at >= from {
		return s.weather.StallEvery - at
	}
	return 0
}

// carry hands a parcel on when its time has come, piece by piece where the rate asks for
// it. It tells whether the connection is still good.
func (r *relay) carry(p parcel, to net.Conn) bool {
	sleep(time.Until(p.due))
	for len(p.b) > 0 {
		if d := r.shaper.stalled(); d > 0 {
			sleep(d)
			continue
		}
		w, changed, silent := r.shaper.now()
		if silent { // what goes out now is lost, and so is the connection
			<-changed
			return false
		}
		n := len(p.b)
		if w.Rate > 0 { // a twentieth of a second at once, at least a byte
			n = min(n, max(1, int(w.Rate/8/20)))
		}
		if w.CutAfter > 0 {
			r.mu.Lock()
			left := w.CutAfter - r.passed
			r.passed += int64(min(n, int(max(left, 0))))
			r.mu.Unlock()
			if left <= 0 {
				r.snap()
				return false
			}
			n = min(n, int(left))
		}
		if _, err := to.Write(p.b[:n]); err != nil {
			if to == r.platform && r.ended.Load() {
				return true
			}
			if to == r.device {
				r.Close()
			}
			return to == r.platform // perhaps it has said why: that is still read
		}
		p.b = p.b[n:]
		if w.Rate > 0 {
			sleep(time.Duration(float64(n) * 8 / w.Rate * float64(time.Second)))
		}
	}
	return true
}

func sleep(d time.Duration) {
	if d > 0 {
		time.Sleep(d)
	}
}
