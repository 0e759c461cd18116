//go:build !unix

package mqtt

import "net"

// writeNow takes nothing: where the system has no write that never waits, a
// goroutine does it.
func writeNow(net.Conn, []byte) (int, error) { return 0, nil }
