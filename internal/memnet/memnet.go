// Package memnet is a network within one process, for tests in virtual time: what waits on
// it is known to testing/synctest to wait, which a real socket is not. Addresses are texts;
// a listener on port 0 gets the next free port, as on a real network.
package memnet

import (
	"context"
	"errors"
	"io"
	"net"
	"net/netip"
	"os"
	"sync"
	"syscall"
	"time"
)

// buffer is how much a side may write before the other reads, in bytes; as a socket's.
const buffer = 256 << 10

// Net is a network. Its methods are safe for concurrent use.
type Net struct {
	mu        sync.Mutex
	listeners map[string]*listener
	port      uint16
}

// New makes a network on which nobody listens.
func New() *Net { return &Net{listeners: map[string]*listener{}, port: 20_000} }

// Listen listens on an address, as [net.Listen] does.
func (n *Net) Listen(_, address string) (net.Listener, error) {
	a, err := netip.ParseAddrPort(address)
	if err != nil {
		return nil, err
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	if a.Port() == 0 {
		n.port++
		a = netip.AddrPortFrom(a.Addr(), n.port)
	}
	if n.listeners[a.String()] != nil {
		return nil, &net.OpError{Op: "listen", Net: "tcp", Err: os.NewSyscallError("bind", syscall.EADDRINUSE)}
	}
	l := &listener{net: n, addr: net.TCPAddrFromAddrPort(a), came: make(chan net.Conn, 1024), done: make(chan struct{})}
	n.listeners[a.String()] = l
	return l, nil
}

// Dial opens a connection to who listens on the address, as [net.Dialer.DialContext] does.
func (n *Net) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	n.mu.Lock()
	l := n.listeners[address]
	n.port++
	from := &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1), Port: int(n.port)}
	n.mu.Unlock()
	refused := &net.OpError{Op: "dial", Net: network, Err: os.NewSyscallError("connect", syscall.ECONNREFUSED)}
	if l == nil {
		return nil, refused
	}
	there, back := newHalf(), newHalf()
	ours := &conn{in: back, out: there, local: from, remote: l.addr}
	theirs := &conn{in: there, out: back, local: l.addr, remote: from}
	select {
	case l.came <- theirs:
		return ours, nil
	case <-l.done:
		return nil, refused
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

type listener struct {
	net  *Net
	addr *net.TCPAddr
	came chan net.Conn
	done chan struct{}
	once sync.Once
}

func (l *listener) Accept() (net.Conn, error) {
	select {
	case <-l.done:
		return nil, net.ErrClosed
	case c := <-l.came:
		return c, nil
	}
}

func (l *listener) Close() error {
	l.once.Do(func() {
		l.net.mu.Lock()
		delete(l.net.listeners, l.addr.String())
		l.net.mu.Unlock()
		close(l.done)
		for { // who waits to be accepted is refused
			select {
			case c := <-l.came:
				c.Close()
			default:
				return
			}
		}
	})
	return nil
}

func (l *listener) Addr() net.Addr { return l.addr }

// half is one direction of a connection.
type half struct {
	mu      sync.Mutex
	changed *sync.Cond
	bytes   []byte
	ended   error    // the writer is gone
	gone    bool     // so is the reader
	until   deadline // of the reader
	room    deadline // of the writer
}

func newHalf() *half {
	h := &half{}
	h.changed = sync.NewCond(&h.mu)
	return h
}

// deadline is a time after which a call fails.
type deadline struct {
	timer *time.Timer
	over  bool
	turn  int
}

func (h *half) set(d *deadline, at time.Time) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if d.timer != nil {
		d.timer.Stop()
	}
	d.turn++
	d.over = !at.IsZero() && !at.After(time.Now())
	if !at.IsZero() && !d.over {
		turn := d.turn
		d.timer = time.AfterFunc(time.Until(at), func() {
			h.mu.Lock()
			defer h.mu.Unlock()
			if d.turn == turn {
				d.over = true
				h.changed.Broadcast()
			}
		})
	}
	h.changed.Broadcast()
}

func (h *half) read(p []byte) (int, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for {
		switch {
		case h.gone:
			return 0, net.ErrClosed
		case h.until.over:
			return 0, os.ErrDeadlineExceeded
		case len(p) == 0:
			return 0, nil
		case len(h.bytes) > 0:
			n := copy(p, h.bytes)
			h.bytes = h.bytes[:copy(h.bytes, h.bytes[n:])]
			h.changed.Broadcast()
			return n, nil
		case h.ended != nil:
			return 0, h.ended
		}
		h.changed.Wait()
	}
}

func (h *half) write(p []byte) (n int, err error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for {
		switch {
		case h.ended != nil:
			return n, net.ErrClosed
		case h.gone:
			return n, syscall.EPIPE
		case h.room.over:
			return n, os.ErrDeadlineExceeded
		}
		some := min(len(p), buffer-len(h.bytes))
		if some > 0 {
			h.bytes = append(h.bytes, p[:some]...)
			n, p = n+some, p[some:]
			h.changed.Broadcast()
		}
		if len(p) == 0 {
			return n, nil
		}
		h.changed.Wait()
	}
}

// end tells the reader that nothing more comes.
func (h *half) end() {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.ended == nil {
		h.ended = io.EOF
	}
	h.changed.Broadcast()
}

// leave tells the writer that nobody reads.
func (h *half) leave() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.gone = true
	h.changed.Broadcast()
}

type conn struct {
	in, out       *half
	local, remote net.Addr
}

func (c *conn) Read(p []byte) (int, error)  { return c.wrap("read")(c.in.read(p)) }
func (c *conn) Write(p []byte) (int, error) { return c.wrap("write")(c.out.write(p)) }

func (c *conn) wrap(op string) func(int, error) (int, error) {
	return func(n int, err error) (int, error) {
		if err != nil && !errors.Is(err, io.EOF) {
			err = &net.OpError{Op: op, Net: "tcp", Source: c.local, Addr: c.remote, Err: err}
		}
		return n, err
	}
}

// CloseWrite tells the other side that nothing more comes, as [net.TCPConn.CloseWrite] does.
func (c *conn) CloseWrite() error {
	c.out.end()
	return nil
}

func (c *conn) Close() error {
	c.out.end()
	c.in.leave()
	c.in.set(&c.in.until, time.Time{})
	c.out.set(&c.out.room, time.Time{})
	return nil
}

func (c *conn) LocalAddr() net.Addr  { return c.local }
func (c *conn) RemoteAddr() net.Addr { return c.remote }

func (c *conn) SetDeadline(t time.Time) error {
	return errors.Join(c.SetReadDeadline(t), c.SetWriteDeadline(t))
}

func (c *conn) SetReadDeadline(t time.Time) error {
	c.in.set(&c.in.until, t)
	return nil
}

func (c *conn) SetWriteDeadline(t time.Time) error {
	c.out.set(&c.out.room, t)
	return nil
}
