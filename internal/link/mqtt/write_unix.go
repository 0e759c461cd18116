//go:build unix

package mqtt

import (
	"errors"
	"net"
	"syscall"
)

// writer hands bytes to the kernel without ever waiting. It is made once for a
// connection, so that a write costs no memory.
type writer struct {
	raw syscall.RawConn
	try func(fd uintptr) bool
	b   []byte
	n   int
	err error
}

func newWriter(nc net.Conn) *writer {
	w := &writer{}
	if sc, ok := nc.(syscall.Conn); ok {
		w.raw, _ = sc.SyscallConn()
	}
	w.try = func(fd uintptr) bool {
		for w.n < len(w.b) {
			m, err := syscall.Write(int(fd), w.b[w.n:])
			if m > 0 {
				w.n += m
			}
			if errors.Is(err, syscall.EINTR) {
				continue
			}
			if err != nil && !errors.Is(err, syscall.EAGAIN) {
				w.err = err
			}
			if err != nil || m == 0 {
				break
			}
		}
		return true // done, in any case: waiting is the flusher's task
	}
	return w
}

// write hands over what the kernel takes at once, and says how much that was.
func (w *writer) write(b []byte) (int, error) {
	if w.raw == nil {
		return 0, nil
	}
	w.b, w.n, w.err = b, 0, nil
	if err := w.raw.Write(w.try); err != nil {
		return w.n, err
	}
	return w.n, w.err
}
