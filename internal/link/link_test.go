package link_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"runcrowd/internal/link"
)

func TestExplain(t *testing.T) {
	dial := func(err error) error {
		return &net.OpError{Op: "dial", Net: "tcp", Err: os.NewSyscallError("connect", err)}
	}
	for _, c := range []struct {
		err       error
		what, try string
	}{
		{dial(syscall.ECONNREFUSED), "the connection was refused: nothing listens there", "check host and port 1883, and " +
			"that the platform is up"},
		{dial(syscall.EHOSTUNREACH), "there is no way to that network from here", "routes"},
		{dial(syscall.EMFILE), "this machine allows no more open connections", "ulimit -n"},
		{fmt.Errorf("read: %w", syscall.ECONNRESET), "the platform cut the connection", "speaks the protocol"},
		{io.ErrUnexpectedEOF, "the platform closed the connection", "log"},
		{context.DeadlineExceeded, "no answer in time", "firewall"},
		{&net.DNSError{Name: "harbour.invalid", IsNotFound: true}, `the host name "harbour.invalid" is not known`,
			"spelling"},
		{&net.DNSError{Name: "harbour.invalid", Err: "server misbehaving"},
			`the host name "harbour.invalid" could not be looked up: server misbehaving`, "DNS"},
		{errors.New("dial tcp 1.2.3.4:5: connect: strange"), "strange", ""},
		{errors.New("something else: strange"), "something else: strange", ""},
	} {
		what, try := link.Explain(c.err, "127.0.0.1:1883")
		assert.Equal(t, c.what, what)
		assert.Contains(t, try, c.try)
	}
}

// The wait grows, never past the longest, and a half of it is chance.
func TestBackOff(t *testing.T) {
	seen := map[time.Duration]bool{}
	for n := range 80 {
		want := min(30*time.Second, 500*time.Millisecond<<min(n, 20))
		for range 50 {
			d := link.BackOff(500*time.Millisecond, 30*time.Second, n)
			assert.GreaterOrEqual(t, d, want/2)
			assert.LessOrEqual(t, d, want)
			seen[d] = true
		}
	}
	assert.Greater(t, len(seen), 1000, "devices that fell together do not come back together")
}

func TestReachError(t *testing.T) {
	assert.Equal(t, `the link "sea" (mqtt://h:1): gone; look`,
		(&link.ReachError{Link: "sea", Address: "mqtt://h:1", What: "gone", Try: "look"}).Error())
	assert.Equal(t, `the witness "ear" (mqtt://h:1): gone`, (&link.ReachError{Witness: "ear", Address: "mqtt://h:1",
		What: "gone"}).Error())
}
