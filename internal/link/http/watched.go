package http

import (
	"crypto/tls"
	"net"
	"sync/atomic"
	"time"
)

// watched is a network connection that knows how it ended.
type watched struct {
	net.Conn
	in, out atomic.Int64 // bytes
	asked   atomic.Bool  // something was written since the last byte came
	ended   atomic.Bool
	reset   atomic.Bool // the other side threw away what was written last
}

// watchedOf is the watched connection under another; nil: there is none.
func watchedOf(nc net.Conn) *watched {
	if t, is := nc.(*tls.Conn); is {
		nc = t.NetConn()
	}
	w, _ := nc.(*watched)
	return w
}

// Read implements net.Conn.
func (w *watched) Read(b []byte) (int, error) {
	n, err := w.Conn.Read(b)
	if n > 0 {
		w.in.Add(int64(n))
		w.asked.Store(false)
	}
	return n, err
}

// Write implements net.Conn.
func (w *watched) Write(b []byte) (int, error) {
	n, err := w.Conn.Write(b)
	w.out.Add(int64(n))
	if n > 0 {
		w.asked.Store(true)
	}
	return n, err
}

// resetMost is how long a reset may take to come after the platform's goodbye.
const resetMost = 200 * time.Millisecond

// Close implements net.Conn. Where a request got no byte of an answer, it looks first
// whether the other side resets the connection: a kernel does so with what comes for a
// program that has closed it (RFC 9293, section 3.10.7).
func (w *watched) Close() error {
	if w.asked.Load() && !w.ended.Swap(true) {
		for end := time.Now().Add(resetMost); ; time.Sleep(2 * time.Millisecond) {
			if wasReset(w.Conn) {
				w.reset.Store(true)
				break
			}
			if !time.Now().Before(end) || !saidGoodbye(w.Conn) {
				break
			}
		}
	}
	return w.Conn.Close()
}
