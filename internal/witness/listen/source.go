package listen

import (
	"time"

	"runcrowd/internal/mqttwire"
	"runcrowd/internal/witness/hearing"
)

// source hears messages as they come, and moves bytes only.
type source interface {
	// start begins to listen, and blocks until it does. Each message goes to e.take, each
	// time in which it could not listen to e.gap, both from one goroutine. The error is why
	// the run cannot begin.
	start(ctx hearing.Context, e *listener) error
	// fence blocks until the platform has answered after now: silence says nothing before.
	// False: it does not answer.
	fence(ctx hearing.Context) bool
	// state is when something was heard last; and since when it cannot listen, and why;
	// zero: it can.
	state() (last, down time.Time, why string)
	// lost begins the reason of a hearing that ends while it cannot listen.
	lost() string
	// stop ends listening, and returns when all its goroutines are gone.
	stop()
}

// message is what a source heard.
type message struct {
	at       time.Time
	topic    string                                   // where it came out
	body     []byte                                   // valid until take returns
	beside   func(name string) (mark string, ok bool) // a mark that rides beside the body; nil: none does
	qos      byte
	retained bool
	kind     string                  // content type
	user     []mqttwire.UserProperty // valid until take returns
	// of version 5, as they came; valid until take returns
	response    string
	correlation []byte
	expiry      uint32
	utf8        bool
	again       bool // it is another delivery of the same message
	perhaps     bool // it may be one, or a copy that was never heard
}
