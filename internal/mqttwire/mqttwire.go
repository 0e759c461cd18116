// Package mqttwire encodes and decodes the control packets that a client of
// MQTT needs, in version 3.1.1 (OASIS Standard, 29 October 2014) and version 5
// (OASIS Standard, 7 March 2019). Section numbers in comments are those of
// version 5 unless another is named.
//
// Encoders append to a buffer and allocate nothing. The decoder checks every
// length against the packet and never panics, whatever bytes come.
package mqttwire

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"unicode/utf8"
)

// Versions of the protocol as they stand in CONNECT (section 3.1.2.2).
const (
	V311 = 4
	V5   = 5
)

// Types of control packets (section 2.1.2).
const (
	CONNECT    = 1
	CONNACK    = 2
	PUBLISH    = 3
	PUBACK     = 4
	PUBREC     = 5
	PUBREL     = 6
	PUBCOMP    = 7
	SUBSCRIBE  = 8
	SUBACK     = 9
	PINGREQ    = 12
	PINGRESP   = 13
	DISCONNECT = 14
	AUTH       = 15
)

// Identifiers of the properties used here (section 2.2.2.2).
const (
	propMessageExpiry    = 0x02
	propContentType      = 0x03
	propResponseTopic    = 0x08
	propCorrelationData  = 0x09
	propSessionExpiry    = 0x11
	propAssignedClientID = 0x12
	propServerKeepAlive  = 0x13
	propWillDelay        = 0x18
	propServerReference  = 0x1c
	propReasonString     = 0x1f
	propReceiveMaximum   = 0x21
	propMaximumQoS       = 0x24
	propUserProperty     = 0x26
	propMaximumPacket    = 0x27
	propTopicAliasMax    = 0x22
	propTopicAlias       = 0x23
	propRetainAvailable  = 0x25
)

// MaxPacket is the largest packet there can be (section 2.1.4), in bytes
// behind the fixed header.
const MaxPacket = 268_435_455

// ErrMalformed is the error for a packet that breaks the standard.
var ErrMalformed = errors.New("malformed packet")

func appendVarint(b []byte, n int) []byte {
	for n > 127 {
		b = append(b, byte(n)|0x80)
		n >>= 7
	}
	return append(b, byte(n))
}

func varintLen(n int) int {
	l := 1
	for n > 127 {
		n >>= 7
		l++
	}
	return l
}

func appendText(b []byte, s string) []byte {
	b = binary.BigEndian.AppendUint16(b, uint16(len(s)))
	return append(b, s...)
}

// Connect is the CONNECT packet (section 3.1).
type Connect struct {
	Version       byte
	ClientID      string
	Username      string
	Password      string
	KeepAlive     uint16 // seconds; 0 switches it off
	CleanStart    bool
	SessionExpiry uint32 // seconds; version 5 only
	// ReceiveMaximum, version 5 only: how many QoS 1 and 2 messages the server
	// may send before they are acknowledged; 0 leaves the standard's 65535.
	ReceiveMaximum uint16
	Will           *Will // nil: none
}

// Will is the message that the server publishes when the connection is lost
// (section 3.1.2.5).
type Will struct {
	Topic       string
	Payload     []byte
	QoS         byte
	Retain      bool
	Delay       uint32 // seconds that the server waits with it; version 5
	Expiry      uint32 // seconds that it lasts; 0: for ever; version 5
	ContentType string // version 5; empty: none
}

// props is the length of its properties (section 3.1.3.2).
func (w *Will) props() int {
	n := 0
	if w.Delay > 0 {
		n += 5
	}
	if w.Expiry > 0 {
		n += 5
	}
	if w.ContentType != "" {
		n += 3 + len(w.ContentType)
	}
	return n
}

// append appends the will's part of the payload of CONNECT (section 3.1.3).
func (w *Will) append(b []byte, version byte) []byte {
	if version == V5 {
		b = appendVarint(b, w.props())
		if w.Delay > 0 {
			b = binary.BigEndian.AppendUint32(append(b, propWillDelay), w.Delay)
		}
		if w.Expiry > 0 {
			b = binary.BigEndian.AppendUint32(append(b, propMessageExpiry), w.Expiry)
		}
		if w.ContentType != "" {
			b = appendText(append(b, propContentType), w.ContentType)
		}
	}
	b = appendText(b, w.Topic)
	b = binary.BigEndian.AppendUint16(b, uint16(len(w.Payload)))
	return append(b, w.Payload...)
}

// AppendConnect appends a CONNECT.
func AppendConnect(b []byte, c *Connect) []byte {
	props := 0
	if c.Version == V5 {
		if c.SessionExpiry > 0 {
			props += 5
		}
		if c.ReceiveMaximum > 0 {
			props += 3
		}
	}
	n := 10 + 2 + len(c.ClientID)
	if c.Version == V5 {
		n += varintLen(props) + props
	}
	var flags byte
	if c.CleanStart {
		flags |= 0x02
	}
	if w := c.Will; w != nil {
		flags |= 0x04 | w.QoS<<3
		if w.Retain {
			flags |= 0x20
		}
		n += 2 + len(w.Topic) + 2 + len(w.Payload)
		if c.Version == V5 {
			n += varintLen(w.props()) + w.props()
		}
	}
	if c.Username != "" {
		flags |= 0x80
		n += 2 + len(c.Username)
	}
	if c.Password != "" {
		flags |= 0x40
		n += 2 + len(c.Password)
	}
	b = appendVarint(append(b, CONNECT<<4), n)
	b = appendText(b, "MQTT")
	b = append(b, c.Version, flags)
	b = binary.BigEndian.AppendUint16(b, c.KeepAlive)
	if c.Version == V5 {
		b = appendVarint(b, props)
		if c.SessionExpiry > 0 {
			b = binary.BigEndian.AppendUint32(append(b, propSessionExpiry), c.SessionExpiry)
		}
		if c.ReceiveMaximum > 0 {
			b = binary.BigEndian.AppendUint16(append(b, propReceiveMaximum), c.ReceiveMaximum)
		}
	}
	b = appendText(b, c.ClientID)
	if c.Will != nil {
		b = c.Will.append(b, c.Version)
	}
	if c.Username != "" {
		b = appendText(b, c.Username)
	}
	if c.Password != "" {
		b = appendText(b, c.Password)
	}
	return b
}

// Publish is the PUBLISH packet (section 3.3). What stands behind Retain is of
// version 5; empty or zero is none.
type Publish struct {
	Topic  string // empty with an Alias that the receiver knows
	ID     uint16 // for QoS 1 and 2
	QoS    byte
	Dup    bool
	Retain bool

	Alias         uint16 // in place of the topic from now on (section 3.3.2.3.4)
	Expiry        uint32 // seconds that the message lasts
	ContentType   string
	ResponseTopic string
	Correlation   []byte
	UserKey       string // a user property; more are in User
	UserVal       string
	User          []UserProperty

	Payload []byte
}

// props is the length of the properties (section 3.3.2.3).
func (p *Publish) props() int {
	n := 0
	if p.Alias > 0 {
		n += 3
	}
	if p.Expiry > 0 {
		n += 5
	}
	if p.ContentType != "" {
		n += 3 + len(p.ContentType)
	}
	if p.ResponseTopic != "" {
		n += 3 + len(p.ResponseTopic)
	}
	if len(p.Correlation) > 0 {
		n += 3 + len(p.Correlation)
	}
	if p.UserKey != "" {
		n += 5 + len(p.UserKey) + len(p.UserVal)
	}
	for i := range p.User {
		n += 5 + len(p.User[i].Key) + len(p.User[i].Value)
	}
	return n
}

func (p *Publish) appendProps(b []byte) []byte {
	if p.Alias > 0 {
		b = binary.BigEndian.AppendUint16(append(b, propTopicAlias), p.Alias)
	}
	if p.Expiry > 0 {
		b = binary.BigEndian.AppendUint32(append(b, propMessageExpiry), p.Expiry)
	}
	if p.ContentType != "" {
		b = appendText(append(b, propContentType), p.ContentType)
	}
	if p.ResponseTopic != "" {
		b = appendText(append(b, propResponseTopic), p.ResponseTopic)
	}
	if len(p.Correlation) > 0 {
		b = binary.BigEndian.AppendUint16(append(b, propCorrelationData), uint16(len(p.Correlation)))
		b = append(b, p.Correlation...)
	}
	if p.UserKey != "" {
		b = appendText(append(b, propUserProperty), p.UserKey)
		b = appendText(b, p.UserVal)
	}
	for i := range p.User {
		b = appendText(append(b, propUserProperty), p.User[i].Key)
		b = appendText(b, p.User[i].Value)
	}
	return b
}

// AppendPublish appends a PUBLISH.
func AppendPublish(b []byte, version byte, p *Publish) []byte {
	n := 2 + len(p.Topic) + len(p.Payload)
	if p.QoS > 0 {
		n += 2
	}
	props := 0
	if version == V5 {
		props = p.props()
		n += varintLen(props) + props
	}
	flags := p.QoS << 1
	if p.Dup {
		flags |= 0x08
	}
	if p.Retain {
		flags |= 0x01
	}
	b = appendVarint(append(b, PUBLISH<<4|flags), n)
	b = appendText(b, p.Topic)
	if p.QoS > 0 {
		b = binary.BigEndian.AppendUint16(b, p.ID)
	}
	if version == V5 {
		b = p.appendProps(appendVarint(b, props))
	}
	return append(b, p.Payload...)
}

// AppendAck appends a PUBACK, PUBREC, PUBREL or PUBCOMP that says success. The
// short form serves both versions (sections 3.4.2.1, 3.6.2.1).
func AppendAck(b []byte, packet byte, id uint16) []byte {
	first := packet << 4
	if packet == PUBREL {
		first |= 0x02 // section 3.6.1
	}
	return append(b, first, 2, byte(id>>8), byte(id))
}

// AppendSubscribe appends a SUBSCRIBE for one filter (section 3.8).
func AppendSubscribe(b []byte, version byte, id uint16, filter string, qos byte) []byte {
	n := 2 + 2 + len(filter) + 1
	if version == V5 {
		n++
	}
	b = appendVarint(append(b, SUBSCRIBE<<4|0x02), n)
	b = binary.BigEndian.AppendUint16(b, id)
	if version == V5 {
		b = append(b, 0)
	}
	return append(appendText(b, filter), qos)
}

// AppendPing appends a PINGREQ (section 3.12).
func AppendPing(b []byte) []byte { return append(b, PINGREQ<<4, 0) }

// AppendDisconnect appends a normal DISCONNECT. In version 5, end also ends the
// session at once, whatever expiry it was opened with (section 3.14.2.2.2).
func AppendDisconnect(b []byte, version byte, end bool) []byte {
	if version == V5 && end {
		return append(b, DISCONNECT<<4, 7, 0, 5, propSessionExpiry, 0, 0, 0, 0)
	}
	return append(b, DISCONNECT<<4, 0)
}

// Packet is a packet that came in. What it points into is valid until the next
// Read with the same Reader.
type Packet struct {
	Type   byte
	Reason byte   // CONNACK, acknowledgements, SUBACK's first, DISCONNECT
	ID     uint16 // acknowledgements, SUBACK, PUBLISH with QoS above 0

	SessionPresent bool // CONNACK

	// CONNACK, version 5; zero values where the server said nothing.
	ReceiveMaximum    uint16
	MaximumPacket     uint32
	MaximumQoS        byte
	MaximumQoSSet     bool
	ServerKeepAlive   uint16
	KeepAliveSet      bool
	AssignedClientID  string
	TopicAliasMaximum uint16
	NoRetain          bool // the server keeps no message for later subscribers

	ReasonString    string
	ServerReference string // of another server to use (section 4.11)

	// PUBLISH
	Publish  Publish
	UserProp []UserProperty
}

// UserProperty is a name and a value (section 3.3.2.3.7).
type UserProperty struct{ Key, Value string }

// Reader reads packets of one connection.
type Reader struct {
	r       *bufio.Reader
	version byte
	max     int
	body    []byte
}

// NewReader makes a reader of packets of at most max bytes.
func NewReader(r *bufio.Reader, version byte, max int) *Reader {
	return &Reader{r: r, version: version, max: max}
}

// Buffered is how many bytes have come that were not read yet.
func (d *Reader) Buffered() int { return d.r.Buffered() }

// Read waits for the next packet. The error is that of the connection, or one
// that wraps ErrMalformed.
func (d *Reader) Read(p *Packet) error {
	first, err := d.r.ReadByte()
	if err != nil {
		return err
	}
	n := 0
	for shift := 0; ; shift += 7 {
		c, err := d.r.ReadByte()
		if err != nil {
			return unexpected(err)
		}
		n |= int(c&0x7f) << shift
		if c&0x80 == 0 {
			break
		}
		if shift == 21 {
			return fmt.Errorf("%w: a length of more than four bytes", ErrMalformed)
		}
	}
	if n > d.max {
		return fmt.Errorf("%w: a packet of %d bytes; the most taken is %d", ErrMalformed, n, d.max)
	}
	if cap(d.body) < n {
		d.body = make([]byte, n)
	}
	d.body = d.body[:n]
	if _, err := io.ReadFull(d.r, d.body); err != nil {
		return unexpected(err)
	}
	return Decode(p, d.version, first, d.body)
}

func unexpected(err error) error {
	if err == io.EOF {
		return io.ErrUnexpectedEOF
	}
	return err
}

// cursor takes fields off a body; after the first error all are zero.
type cursor struct {
	b   []byte
	bad bool
}

func (c *cursor) take(n int) []byte {
	if n > len(c.b) {
		c.bad = true
		c.b = nil
		return nil
	}
	v := c.b[:n]
	c.b = c.b[n:]
	return v
}

func (c *cursor) byte() byte {
	if v := c.take(1); v != nil {
		return v[0]
	}
	return 0
}

func (c *cursor) uint16() uint16 {
	if v := c.take(2); v != nil {
		return binary.BigEndian.Uint16(v)
	}
	return 0
}

func (c *cursor) uint32() uint32 {
	if v := c.take(4); v != nil {
		return binary.BigEndian.Uint32(v)
	}
	return 0
}

func (c *cursor) bytes() []byte { return c.take(int(c.uint16())) }

// text is a UTF-8 string (section 1.5.4).
func (c *cursor) text() string {
	b := c.bytes()
	if !utf8.Valid(b) {
		c.bad = true
	}
	return string(b)
}

func (c *cursor) varint() int {
	n := 0
	for shift := 0; shift <= 21; shift += 7 {
		v := c.byte()
		n |= int(v&0x7f) << shift
		if v&0x80 == 0 {
			return n
		}
	}
	c.bad = true
	return 0
}

// Decode decodes a packet from its first byte and its body.
func Decode(p *Packet, version, first byte, body []byte) error {
	users := p.UserProp[:0]
	*p = Packet{Type: first >> 4, UserProp: users}
	c := &cursor{b: body}
	switch p.Type {
	case CONNACK:
		p.SessionPresent = c.byte()&1 != 0
		p.Reason = c.byte()
		if version == V5 && len(c.b) > 0 {
			p.properties(c)
		}
	case PUBLISH:
		p.Publish.Dup = first&0x08 != 0
		p.Publish.QoS = first >> 1 & 3
		p.Publish.Retain = first&1 != 0
		p.Publish.Topic = c.text()
		if p.Publish.QoS == 3 {
			return fmt.Errorf("%w: PUBLISH with QoS 3", ErrMalformed)
		}
		if p.Publish.QoS > 0 {
			p.ID = c.uint16()
			p.Publish.ID = p.ID
			if p.ID == 0 && !c.bad {
				return fmt.Errorf("%w: PUBLISH with the packet identifier 0", ErrMalformed)
			}
		}
		if version == V5 {
			p.properties(c)
		}
		p.Publish.Payload = c.b
	case PUBACK, PUBREC, PUBREL, PUBCOMP:
		p.ID = c.uint16()
		if version == V5 && len(c.b) > 0 {
			p.Reason = c.byte()
			if len(c.b) > 0 {
				p.properties(c)
			}
		}
	case SUBACK:
		p.ID = c.uint16()
		if version == V5 {
			p.properties(c)
		}
		p.Reason = c.byte()
	case DISCONNECT:
		if version == V5 && len(c.b) > 0 {
			p.Reason = c.byte()
			if len(c.b) > 0 {
				p.properties(c)
			}
		}
	case PINGRESP, AUTH:
	default:
		return fmt.Errorf("%w: a server does not send packets of type %d", ErrMalformed, p.Type)
	}
	if c.bad {
		return fmt.Errorf("%w: %s ends too early or holds a broken text", ErrMalformed, Name(p.Type))
	}
	return nil
}

// properties reads the properties of version 5; unknown ones are malformed,
// because their length is not known.
func (p *Packet) properties(c *cursor) {
	n := c.varint()
	b := c.take(n)
	if c.bad {
		return
	}
	q := &cursor{b: b}
	for len(q.b) > 0 && !q.bad {
		switch id := q.varint(); id {
		case propReceiveMaximum:
			p.ReceiveMaximum = q.uint16()
		case propMaximumPacket:
			p.MaximumPacket = q.uint32()
		case propMaximumQoS:
			p.MaximumQoS, p.MaximumQoSSet = q.byte(), true
		case propServerKeepAlive:
			p.ServerKeepAlive, p.KeepAliveSet = q.uint16(), true
		case propTopicAliasMax:
			p.TopicAliasMaximum = q.uint16()
		case propRetainAvailable:
			p.NoRetain = q.byte() == 0
		case propAssignedClientID:
			p.AssignedClientID = q.text()
		case propReasonString:
			p.ReasonString = q.text()
		case propServerReference:
			p.ServerReference = q.text()
		case propMessageExpiry:
			p.Publish.Expiry = q.uint32()
		case propContentType:
			p.Publish.ContentType = q.text()
		case propResponseTopic:
			p.Publish.ResponseTopic = q.text()
		case propCorrelationData:
			p.Publish.Correlation = q.bytes()
		case propUserProperty:
			p.UserProp = append(p.UserProp, UserProperty{q.text(), q.text()})
		default:
			q.skip(id)
		}
	}
	if q.bad {
		c.bad = true
	}
}

// skip passes over a property that is not used here, by the type that
// section 2.2.2.2 gives it.
func (c *cursor) skip(id int) {
	switch id {
	case 0x01, 0x17, 0x19, 0x28, 0x29, 0x2a: // byte
		c.byte()
	case propTopicAlias: // two bytes
		c.uint16()
	case propSessionExpiry, propWillDelay: // four bytes
		c.uint32()
	case 0x0b: // variable byte integer
		c.varint()
	case 0x15, 0x16, 0x1a: // text or binary
		c.bytes()
	default:
		c.bad = true
	}
}

// Name is the name of a type of packets.
func Name(packet byte) string {
	names := [...]string{1: "CONNECT", 2: "CONNACK", 3: "PUBLISH", 4: "PUBACK", 5: "PUBREC", 6: "PUBREL", 7: "PUBCOMP",
		8: "SUBSCRIBE", 9: "SUBACK", 12: "PINGREQ", 13: "PINGRESP", 14: "DISCONNECT", 15: "AUTH"}
	if int(packet) < len(names) && names[packet] != "" {
		return names[packet]
	}
	return fmt.Sprintf("packet type %d", packet)
}
