//go:build !unix

package http

import "net"

// wasReset tells whether the other side has reset a connection: here it cannot be told.
func wasReset(net.Conn) bool { return false }

func saidGoodbye(net.Conn) bool { return false }
