// Package link is the seam between devices and protocols. The engine makes
// messages due and hands them to a Conn; link/mqtt and link/http see them off
// and tell a Sink what became of each. The contract stands on the interfaces.
package link

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"runcrowd/internal/foreign"
	"runcrowd/internal/outcome"
	"strings"
	"syscall"
	"time"
)

// Message is one message on its way. The link owns it from Send until Settled.
type Message struct {
	Stream int
	Seq    uint64 // of the last message in Body
	Count  int    // messages in Body: more than one in a batch
	Due    int64  // Unix nanoseconds

	Target      string // topic, or path of the request
	Body        []byte
	ContentType string // empty: not told
	// Mark rides as a user property or a header; with an empty name, neither.
	Mark Header

	MQTT MQTT // what goes with MQTT alone
	HTTP HTTP // what goes with HTTP alone

	Copy    bool  // it went out before, and goes out again as it is
	Variant bool  // it shows other credentials than the device's
	Meant   uint8 // what the platform has to do with it, as the ledger has it

	// Sent is when it was handed over first, in Unix nanoseconds; 0: not yet. It is the sink's.
	Sent int64

	// Answer is the number of the command that the message answers, from 1; 0: it
	// is one of a reading. It is the sink's, and so are the fields that name streams.
	Answer int
}

// MQTT is what a message has over MQTT.
type MQTT struct {
	QoS    byte
	Retain bool
	// Version 5: user properties, how long the message lasts in seconds (0: for ever),
	// and what an answer is matched by.
	User        []Header
	Expiry      uint32
	Correlation []byte
	Response    string // the topic for an answer
	UTF8        bool   // its body is said to be a text
}

// HTTP is what a message has over HTTP.
type HTTP struct {
	Method   string
	OKStatus []int // statuses that acknowledge
	Headers  []Header
	Signer   Signer // computes more headers, and parameters of the address; nil: none
	Gzip     bool   // Body is compressed
	Key      string // by which the platform knows a request again; empty: none
}

// First is the sequence number of the first message in Body.
func (m *Message) First() uint64 { return m.Seq + 1 - uint64(max(1, m.Count)) }

// Same tells whether another is a copy of the message, or it is a copy of the other.
func (m *Message) Same(o *Message) bool { return m.Stream == o.Stream && m.Seq == o.Seq }

// Header is a header line, or a user property.
type Header struct {
	Name  string `json:"name"`
	Value string `json:"value"`
	More  bool   `json:"-"` // it stands beside another of its name, not in its place
}

// Identity is who a device is to the platform. The texts, and targets and headers
// of messages, may hold TokenPlace where there is a TokenSource.
type Identity struct {
	Device             int // as the Sink knows it
	Name               string
	ClientID           string
	Username, Password string
	Path               string           // of a WebSocket; empty: that of the address
	Cert               *tls.Certificate // the device's own; nil: none
	Tokens             TokenSource      // nil: no access token
	Will               *Will            // MQTT; nil: none
	Asks               []Ask            // where commands come from
	Network            Network          // its own; nil: that of the link
	// Stranger: it shows other credentials than the device's, and takes over nothing that was
	// opened, or left, with those.
	Stranger bool
	// Exactly: it publishes messages of QoS 2.
	Exactly bool
}

// Will is what the broker publishes when it loses a device (MQTT 5, section
// 3.1.2.5). Delay is in seconds.
type Will struct {
	Topic       string
	Body        []byte
	QoS         byte
	Retain      bool
	Delay       uint32
	ContentType string
}

// Ask is a place that commands come from: a topic filter, or a path that is asked
// at an interval.
type Ask struct {
	Filter string
	QoS    byte

	Path    string
	Every   time.Duration
	Headers []Header
	Signer  Signer // nil: none
}

// Incoming is what a device was sent. The link does not touch Body and Correlation again.
type Incoming struct {
	At          int64  // Unix nanoseconds
	Topic       string // empty over HTTP
	Path        string // that was asked; empty over MQTT
	Body        []byte
	Response    string // topic that the answer is wanted at (MQTT 5, section 4.10)
	Correlation []byte
}

// TokenSource gives an access token, and makes a new one when the last is about to run
// out. It may be asked from several goroutines.
type TokenSource interface {
	// Token gives the token, and when it has to be changed for a new one; the zero
	// time is never.
	Token(ctx context.Context) (token string, renew time.Time, err error)
}

// TokenError says why a device has no access token, and what to try.
type TokenError struct{ What, Try string }

func (e *TokenError) Error() string { return e.What }

// TokenOf asks for a token; without a source it is empty, and never to be changed.
func TokenOf(ctx context.Context, s TokenSource) (token string, renew time.Time, err error) {
	if s == nil {
		return "", time.Time{}, nil
	}
	return s.Token(ctx)
}

// TokenPlace stands where an access token goes.
const TokenPlace = "\uf8ff\ue000token\ue000\uf8ff"

// Fill puts the token into a text.
func Fill(text, token string) string { return strings.ReplaceAll(text, TokenPlace, token) }

// Hide takes a token out of a text that is to be shown.
func Hide(text, token string) string {
	if len(token) < 4 {
		return text
	}
	return strings.ReplaceAll(text, token, "«secret»")
}

// Sink hears what becomes of messages and connections. Times are Unix nanoseconds.
//
// Its methods are called from any goroutine, several at once; those for one message come
// in order. They may be called while a lock of the Conn is held: they must not block, and
// not call the Conn. The texts they are given hold no access token.
type Sink interface {
	// Sent: the message was handed to the network; once more for each further attempt.
	// Anew: after an earlier one, and so that the platform may store it a second time.
	Sent(m *Message, at int64, anew bool)
	// Settled: this is what became of the message, once for each message. It gives
	// the message back: the link does not touch it again. Code is the protocol's own,
	// or 0; text is what the platform said, or what went wrong.
	Settled(m *Message, at int64, o outcome.Outcome, code int, text string)
	// Up: the connection is there; renewed: it was made anew for a new access token.
	Up(device int, renewed bool)
	// Down: the connection was lost, or could not be made.
	Down(device int, loss Loss)
	// Remark: something about the platform that its user should know; each once for
	// a connection.
	Remark(device int, what string)
	// Listens: the platform lets a device hear commands at a filter or path; or, with
	// a why, does not.
	Listens(device int, filter, why string)
	// Came: a device was sent something on one of its Asks. The sink owns it.
	Came(device int, in *Incoming)
}

// Loss is how a connection was lost, or could not be made.
type Loss struct {
	Why string
	// After is the message right after which the platform closed the connection, as far
	// as can be told; Times is how often that was so.
	After *Culprit
	Times int
	// Early: the platform had not accepted the connection.
	Early bool
	// Refused: it said no.
	Refused bool
}

// Culprit is a message that a connection did not outlive.
type Culprit struct {
	Stream int
	Seq    uint64
}

// Conn is one device's connection. It brings itself back, with a growing, jittered
// back-off, until it is closed.
//
// One goroutine at a time calls Send and Tick; Open and Close may come from another.
type Conn interface {
	// Send takes a message over: it belongs to the Conn until it is settled, which
	// happens exactly once, at the latest in Close or shortly after. Send does not block:
	// what cannot leave yet waits in the device's backlog, which is bounded; what does
	// not fit is settled as unsent. After Close it settles the message at once.
	Send(m *Message)
	// Tick does what is due by the clock (keep-alive) and says when to call it again;
	// zero means never. It does not block.
	Tick(now time.Time) time.Duration
	// Open is how many messages are not settled yet.
	Open() int
	// Close ends the connection as the protocol wants it, settles what is open, and does
	// not wait. An HTTP request that is under way is cancelled and settled shortly
	// after: Link.Close waits for it. Last: the device does not come back in this run. A
	// second Close does nothing.
	Close(last bool)
	// Wake makes it try again at once, where it waits to connect: there is a reason to
	// believe that it can.
	Wake()
	// Lost tells it that its connection is gone, or about to go, before the network does:
	// nothing new is sent on it.
	Lost()
}

// Link reaches one platform for many devices. Its methods may be called from any
// goroutine.
type Link interface {
	// Try reaches the platform as one device: it fails where the run would. What it opens
	// on the way is what Connect gives to that device, so that nobody meets the device's
	// session but the device itself. It blocks for at most the link's time to connect. The
	// error is a *ReachError.
	Try(ctx context.Context, id Identity) error
	// Connect makes a device's connection and returns at once: what comes of it goes to
	// the sink, which the Conn keeps. The caller closes the Conn.
	Connect(id Identity, sink Sink) Conn
	// Close waits until all connections are gone. All Conns are closed before, or
	// are closed by it. It tells how many devices left a session on the platform, and
	// for how long that is kept; 0 is without end.
	Close() (left int, kept time.Duration)
}

// ReachError says that a platform could not be reached, and what to try.
type ReachError struct {
	Witness string // the witness that cannot reach it; or
	Link    string // the link
	Address string
	What    string // what was seen
	Try     string // what to try
	Err     error
}

func (e *ReachError) Error() string {
	what := foreign.Line(e.What, 0)
	s := fmt.Sprintf("the link %q (%s): %s", e.Link, e.Address, what)
	if e.Witness != "" {
		s = fmt.Sprintf("the witness %q (%s): %s", e.Witness, e.Address, what)
	}
	if e.Try != "" {
		s += "; " + e.Try
	}
	return s
}

func (e *ReachError) Unwrap() error { return e.Err }

// Explain tells a network error in words, and what to try.
func Explain(err error, address string) (what, try string) {
	what, try = explain(err, address)
	return foreign.Line(what, 0), try
}

func explain(err error, address string) (what, try string) {
	var dns *net.DNSError
	_, port, _ := net.SplitHostPort(address)
	var netErr net.Error
	if what, try, is := explainTLS(err); is {
		return what, try
	}
	if redirect, is := errors.AsType[*redirectError](err); is {
		return redirect.what, redirect.try
	}
	if e, is := errors.AsType[*TokenError](err); is {
		return e.What, e.Try
	}
	if what, try, is := explainProxy(err); is {
		return what, try
	}
	switch {
	case errors.Is(err, ErrCut):
		return ErrCut.Error(), ""
	case errors.As(err, &dns) && dns.IsNotFound:
		return fmt.Sprintf("the host name %q is not known", dns.Name), "check its spelling, and that this machine's DNS " +
			"knows it"
	case errors.As(err, &dns):
		return fmt.Sprintf("the host name %q could not be looked up: %s", dns.Name, dns.Err), "check this machine's DNS"
	case errors.Is(err, syscall.ECONNREFUSED):
		if port != "" {
			port = " " + port
		}
		return "the connection was refused: nothing listens there", "check host and port" + port +
			", and that the platform is up"
	case errors.Is(err, syscall.ENETUNREACH), errors.Is(err, syscall.EHOSTUNREACH):
		return "there is no way to that network from here", "check the address and this machine's routes"
	case errors.Is(err, syscall.EMFILE):
		return "this machine allows no more open connections", "raise the limit (ulimit -n), or use fewer devices"
	case errors.Is(err, syscall.ECONNRESET), errors.Is(err, syscall.EPIPE):
		return "the platform cut the connection", "check that this port speaks the protocol"
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return "the platform closed the connection", "check that this port speaks the protocol, and the platform's log"
	case errors.Is(err, os.ErrDeadlineExceeded), errors.Is(err, context.DeadlineExceeded), errors.As(err, &netErr) &&
		netErr.Timeout():
		return "no answer in time", "check host and port, and that no firewall swallows the packets"
	case errors.Is(err, net.ErrClosed):
		return "the connection was closed", ""
	}
	text := err.Error()
	if strings.Contains(text, "client conn could not be established") {
		return "the platform cut the connection before it said anything", "check the platform's log"
	}
	if strings.Contains(text, "client connection force closed") { // HTTP/2: a write of another request failed
		return "the platform cut the connection", "check the platform's log"
	}
	if strings.Contains(text, "headers exceeded") || strings.Contains(text, "header list too large") {
		return "the headers of the answer are longer than 1 MiB", "check that this address is the platform's"
	}
	// "dial tcp 127.0.0.1:1: connect: …" names the address twice.
	if i := strings.LastIndex(text, ": "); i >= 0 && strings.HasPrefix(text, "dial ") {
		text = text[i+2:]
	}
	return text, ""
}

// BackOff is how long to wait before the n-th try again (from 0): it doubles
// from the first wait to the longest, and of that a random half is taken away,
// so that devices which fell together do not come back together.
func BackOff(first, longest time.Duration, n int) time.Duration {
	d := longest
	if n < 30 && first<<n < longest && first<<n > 0 {
		d = first << n
	}
	return d/2 + rand.N(d/2+1)
}

// Network opens connections, as net.Dialer.DialContext does; nil stands for that. A test
// may have a network of its own.
type Network func(ctx context.Context, network, address string) (net.Conn, error)

// Dial opens a connection.
func (n Network) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	if n == nil {
		return new(net.Dialer).DialContext(ctx, network, address)
	}
	return n(ctx, network, address)
}
