package memnet_test

import (
	"io"
	"net"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/memnet"
)

// It does what a network of sockets does: refuses, delivers in order, ends, and keeps deadlines.
func TestNet(t *testing.T) {
	n := memnet.New()
	_, err := n.Dial(t.Context(), "tcp", "127.0.0.1:1")
	assert.ErrorContains(t, err, "connection refused")
	l, err := n.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	_, err = n.Listen("tcp", l.Addr().String())
	assert.ErrorContains(t, err, "address already in use")
	ours, err := n.Dial(t.Context(), "tcp", l.Addr().String())
	require.NoError(t, err)
	theirs, err := l.Accept()
	require.NoError(t, err)
	assert.Equal(t, theirs.RemoteAddr(), ours.LocalAddr())
	go func() {
		ours.Write(make([]byte, 1<<20)) // more than it holds: it waits for the reader
		ours.Close()
	}()
	all, err := io.ReadAll(theirs)
	require.NoError(t, err)
	assert.Len(t, all, 1<<20)
	_, err = theirs.Write([]byte("x"))
	assert.Error(t, err, "nobody reads it")
	_, err = ours.Read(make([]byte, 1))
	assert.ErrorIs(t, err, net.ErrClosed)

	again, err := n.Dial(t.Context(), "tcp", l.Addr().String())
	require.NoError(t, err)
	require.NoError(t, again.SetReadDeadline(time.Now().Add(time.Millisecond)))
	_, err = again.Read(make([]byte, 1))
	assert.ErrorIs(t, err, os.ErrDeadlineExceeded)
	require.NoError(t, l.Close())
	_, err = l.Accept()
	assert.ErrorIs(t, err, net.ErrClosed)
	require.NoError(t, again.SetReadDeadline(time.Time{}))
	_, err = again.Read(make([]byte, 1))
	assert.ErrorIs(t, err, io.EOF, "who was not accepted is hung up on")
}
