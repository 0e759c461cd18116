package http

import (
	"crypto/tls"
	"errors"
	"net"
	"sync/atomic"
	"syscall"
	"time"
)

// watched is a network connection that knows how it ended.
type watched struct {
	net.Conn
	secure  bool         // TLS lies above it
	out     atomic.Int64 // bytes written, without those of a goodbye of TLS
	writing atomic.Int32
	served  atomic.Bool // it brought an answer
	asked   atomic.Bool // a request was written, and no byte of its answer has come
	told    atomic.Bool // bytes came since: over TLS perhaps a goodbye
	ended   atomic.Bool // it is known how: what comes later says nothing
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

// answered notes the first byte of an answer.
func (w *watched) answered() {
	w.served.Store(true)
	w.asked.Store(false)
	w.told.Store(false)
}

// Read implements net.Conn.
func (w *watched) Read(b []byte) (int, error) {
	n, err := w.Conn.Read(b)
	if n > 0 && w.asked.Load() {
		w.told.Store(true)
	}
	w.failed(err)
	return n, err
}

// failed notes a reset that shows as an error.
func (w *watched) failed(err error) {
	if (errors.Is(err, syscall.EPIPE) || errors.Is(err, syscall.ECONNRESET)) && !w.ended.Swap(true) {
		w.reset.Store(true)
	}
}

// Write implements net.Conn. TLS says goodbye in return, and that would be thrown away by
// the other side's kernel as what came before: it is looked at first.
func (w *watched) Write(b []byte) (int, error) {
	if w.asked.Load() && w.served.Load() && !w.ended.Load() {
		within := time.Duration(0)
		if w.secure && (w.told.Load() || len(b) <= goodbyeSize) {
			within = 20 * time.Millisecond
		}
		w.look(within)
	}
	before := w.asked.Swap(true)
	w.writing.Add(1)
	n, err := w.Conn.Write(b)
	if n > goodbyeSize || !w.secure {
		w.out.Add(int64(n))
	}
	if n == 0 && !before {
		w.asked.Store(false)
	}
	w.failed(err)
	w.writing.Add(-1)
	return n, err
}

// goodbyeSize is the most that the alert of TLS that ends a connection takes, in bytes
// (RFC 8446, section 6.1).
const goodbyeSize = 32

// resetMost is how long a reset may take to come after the platform's goodbye.
const resetMost = 200 * time.Millisecond

// look waits for a reset, where the other side has closed the connection, or does so
// within a time: a kernel resets with what comes for a program that has closed it, or has
// not read it (RFC 9293, section 3.10.7).
func (w *watched) look(within time.Duration) {
	began := time.Now()
	for {
		if wasReset(w.Conn) {
			w.reset.Store(true)
			w.ended.Store(true)
			return
		}
		bye, past := saidGoodbye(w.Conn), time.Since(began)
		if !bye && past >= within {
			return
		}
		if past >= resetMost {
			w.ended.Store(bye)
			return
		}
		time.Sleep(time.Millisecond)
	}
}

// wrote tells whether anything was written since a time when so many bytes were. A write
// that is under way ends first: the connection is closed.
func (w *watched) wrote(before int64) bool {
	for range 200 {
		if w.writing.Load() == 0 {
			break
		}
		time.Sleep(time.Millisecond)
	}
	return w.writing.Load() > 0 || w.out.Load() > before
}

// Close implements net.Conn.
func (w *watched) Close() error {
	if w.asked.Load() && w.served.Load() && !w.ended.Load() {
		w.look(0)
	}
	return w.Conn.Close()
}
