//go:build unix

package http

import (
	"net"
	"syscall"
)

// wasReset tells whether the other side has reset a connection.
func wasReset(nc net.Conn) (is bool) {
	control(nc, func(fd int) {
		code, err := syscall.GetsockoptInt(fd, syscall.SOL_SOCKET, syscall.SO_ERROR)
		is = err == nil && (syscall.Errno(code) == syscall.ECONNRESET || syscall.Errno(code) == syscall.EPIPE)
	})
	return is
}

// saidGoodbye tells whether the other side has closed its half of a connection.
func saidGoodbye(nc net.Conn) (is bool) {
	control(nc, func(fd int) {
		var b [1]byte
		n, _, err := syscall.Recvfrom(fd, b[:], syscall.MSG_PEEK|syscall.MSG_DONTWAIT)
		is = n == 0 && err == nil
	})
	return is
}

func control(nc net.Conn, f func(fd int)) {
	if sc, ok := nc.(syscall.Conn); ok {
		if raw, err := sc.SyscallConn(); err == nil {
			raw.Control(func(fd uintptr) { f(int(fd)) })
		}
	}
}
