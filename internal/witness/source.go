package witness

import (
	"runcrowd/internal/mqttwire"

	"time"

	"runcrowd/internal/fleet"
	"runcrowd/internal/ledger"
)

// A source is a place where a witness looks. There are two sorts, and a core for each that
// does what all of the sort have in common: it reads marks, notes sightings, and knows what
// is missing. A source moves bytes and knows nothing of what they mean.

// listenSource is a source that hears messages as they come: the core is a listener.
type listenSource interface {
	// start begins to listen, and blocks until it does. Each message goes to e.take, each
	// time in which it could not listen to e.gap, both from one goroutine. The error is why
	// the run cannot begin.
	start(ctx Context, e *listener) error
	// fence blocks until the platform has answered after now: silence says nothing before.
	// False: it does not answer.
	fence(ctx Context) bool
	// state is when something was heard last; and since when it cannot listen, and why;
	// zero: it can.
	state() (last, down time.Time, why string)
	// lost begins the reason of a hearing that ends while it cannot listen.
	lost() string
	// stop ends listening, and returns when all its goroutines are gone.
	stop()
}

// message is what a listenSource heard.
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

// asked is a source that is asked for rows: the core is a poller.
type pollSource interface {
	// start makes ready to ask, and asks once, so that a wrong address or secret is told
	// before the run.
	start(ctx Context, d *fleet.Device) error
	// ask asks one question, and hands each page to cursor's methods: begin before its first
	// row, also where it is asked for again because an attempt failed, and row for each.
	// It returns when all pages are read, or with the reason why not. Several may be asked
	// at once.
	ask(ctx Context, q question) (pages int, err error)
	// offset is by how much the platform's clock is ahead of ours, as it tells itself; nil
	// where it does not. Decides: it is held against the times of rows, too.
	offset() (o *ledger.Offset, decides bool)
	stop()
}

// question is what is asked for: what was stored of a device in a time, or of all.
type question struct {
	device   *fleet.Device
	group    []*fleet.Device // about which is asked at once
	from, to time.Time
	cursor   *cursor
	whole    bool // all that is there has to be read, also what was read before
}
