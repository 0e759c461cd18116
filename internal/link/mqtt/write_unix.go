//go:build unix

package mqtt

import (
	"errors"
	"net"
	"syscall"
)

// writeNow hands to the kernel what it takes at once and never waits.
func writeNow(nc net.Conn, b []byte) (int, error) {
	sc, ok := nc.(syscall.Conn)
	if !ok {
		return 0, nil
	}
	raw, err := sc.SyscallConn()
	if err != nil {
		return 0, err
	}
	n := 0
	var werr error
	err = raw.Write(func(fd uintptr) bool {
		for n < len(b) {
			m, e := syscall.Write(int(fd), b[n:])
			if m > 0 {
				n += m
			}
			if errors.Is(e, syscall.EINTR) {
				continue
			}
			if e != nil && !errors.Is(e, syscall.EAGAIN) {
				werr = e
			}
			if e != nil || m == 0 {
				break
			}
		}
		return true // done, in any case: waiting is the flusher's task
	})
	if err == nil {
		err = werr
	}
	return n, err
}
