package mqttwire

import (
	"bytes"
	"encoding/binary"
	"unicode/utf8"
)

// Packet is a packet that came in. What it points into is the buffer that it was
// decoded from.
type Packet struct {
	Type   byte
	Reason byte   // CONNACK, acknowledgements, SUBACK, DISCONNECT
	ID     uint16 // acknowledgements, SUBACK, PUBLISH with QoS above 0

	SessionPresent bool // CONNACK

	// CONNACK, version 5; zero values where the server said nothing.
	ReceiveMaximum        uint16
	MaximumPacket         uint32
	MaximumQoS            byte
	MaximumQoSSet         bool
	ServerKeepAlive       uint16
	KeepAliveSet          bool
	AssignedClientID      string
	TopicAliasMaximum     uint16
	SessionExpiry         uint32
	SessionExpirySet      bool
	NoRetain              bool // the server keeps no message for later subscribers
	NoWildcards           bool
	NoSharedSubscriptions bool

	ReasonString    string
	ServerReference string // of another server to use (section 4.11)

	// PUBLISH
	Publish  Publish
	UserProp []UserProperty
}

// UserProperty is a name and a value (section 3.3.2.3.7).
type UserProperty struct{ Key, Value string }

// Frame finds the first packet in a buffer: its first byte, its body, and how many bytes
// it takes. Where it is not whole yet, size is 0, and length is how long its body will be,
// or -1 where that has not come either.
func Frame(b []byte, version byte) (first byte, body []byte, size, length int, err error) {
	n, shift := 0, 0
	for i := 1; i < len(b); i++ {
		c := b[i]
		n |= int(c&0x7f) << shift
		if c&0x80 == 0 {
			if version == V5 && c == 0 && i > 1 { // section 1.5.5
				return 0, nil, 0, 0, malformed("a length in more bytes than it needs")
			}
			if len(b) < i+1+n {
				return b[0], b[i+1:], 0, n, nil
			}
			return b[0], b[i+1 : i+1+n], i + 1 + n, n, nil
		}
		if shift == 21 {
			return 0, nil, 0, 0, malformed("a length of more than four bytes")
		}
		shift += 7
	}
	return 0, nil, 0, -1, nil
}

// cursor takes fields off a body; after the first error all are zero.
type cursor struct {
	b   []byte
	bad string // what is wrong
}

func (c *cursor) fail(what string) {
	if c.bad == "" {
		c.bad = what
	}
	c.b = nil
}

func (c *cursor) take(n int) []byte {
	if n > len(c.b) {
		c.fail("it ends too early")
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

// flag is a byte that is 0 or 1.
func (c *cursor) flag() bool {
	v := c.byte()
	if v > 1 {
		c.fail("a property that is 0 or 1 has another value")
	}
	return v == 1
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
	switch {
	case !utf8.Valid(b):
		c.fail("it holds a text that is not UTF-8")
	case bytes.IndexByte(b, 0) >= 0:
		c.fail("it holds a text with the character U+0000")
	}
	return string(b)
}

// varint is a variable byte integer (section 1.5.5).
func (c *cursor) varint() int {
	n := 0
	for shift := 0; shift <= 21; shift += 7 {
		v := c.byte()
		n |= int(v&0x7f) << shift
		if v&0x80 == 0 {
			if v == 0 && shift > 0 {
				c.fail("it holds an integer in more bytes than it needs")
			}
			return n
		}
	}
	c.fail("it holds an integer of more than four bytes")
	return 0
}

// fixedFlags are those of the fixed header (section 2.1.3).
func fixedFlags(packet byte) byte {
	if packet == PUBREL {
		return 2
	}
	return 0
}

// Decode decodes a packet from its first byte and its body. The error is an *Error.
func Decode(p *Packet, version, first byte, body []byte) error {
	users := p.UserProp[:0]
	*p = Packet{Type: first >> 4, UserProp: users}
	c := &cursor{b: body}
	if p.Type != PUBLISH && first&0x0f != fixedFlags(p.Type) {
		return malformed("%s has flags that are reserved", Name(p.Type))
	}
	switch p.Type {
	case CONNACK:
		p.connack(c, version)
	case PUBLISH:
		if err := p.publish(c, version, first); err != nil {
			return err
		}
	case PUBACK, PUBREC, PUBREL, PUBCOMP:
		if p.ID = c.uint16(); p.ID == 0 {
			c.fail("it has the packet identifier 0")
		}
		p.reason(c, version)
	case SUBACK:
		if p.ID = c.uint16(); p.ID == 0 {
			c.fail("it has the packet identifier 0")
		}
		if version == V5 {
			p.properties(c)
		}
		p.Reason = c.byte()
		if bad := p.Reason > 2 && p.Reason < 0x80 || version == V311 && p.Reason > 0x80; bad {
			c.fail("it has a return code that is reserved")
		}
	case DISCONNECT:
		if version == V311 {
			return protocol("a server of version 3.1.1 does not send DISCONNECT")
		}
		p.reason(c, version)
	case AUTH:
		return protocol("AUTH came, and no way of authentication was agreed on")
	case PINGRESP:
	default:
		return protocol("a server does not send %s here", Name(p.Type))
	}
	switch {
	case c.bad != "":
		return malformed("%s: %s", Name(p.Type), c.bad)
	case len(c.b) > 0:
		return malformed("%s has bytes after its end", Name(p.Type))
	}
	return nil
}

func (p *Packet) connack(c *cursor, version byte) {
	flags := c.byte()
	p.SessionPresent, p.Reason = flags&1 != 0, c.byte()
	switch {
	case flags > 1:
		c.fail("it has flags that are reserved")
	case p.SessionPresent && p.Reason != 0:
		c.fail("it refuses, and says that a session is there")
	case version == V5 && (len(c.b) > 0 || p.Reason == 0): // a server that does not know version 5 refuses in two bytes
		p.properties(c)
	}
}

// reason reads what PUBACK and its like, and DISCONNECT, may leave out (section 3.4.2.1).
func (p *Packet) reason(c *cursor, version byte) {
	if version != V5 || len(c.b) == 0 {
		return
	}
	p.Reason = c.byte()
	if len(c.b) > 0 {
		p.properties(c)
	}
}

func (p *Packet) publish(c *cursor, version, first byte) error {
	p.Publish.Dup = first&0x08 != 0
	p.Publish.QoS = first >> 1 & 3
	p.Publish.Retain = first&1 != 0
	switch {
	case p.Publish.QoS == 3:
		return malformed("PUBLISH with QoS 3")
	case p.Publish.QoS == 0 && p.Publish.Dup:
		return malformed("PUBLISH of QoS 0 that says it is a repeated one (DUP)")
	}
	p.Publish.Topic = c.text()
	if p.Publish.QoS > 0 {
		p.ID = c.uint16()
		p.Publish.ID = p.ID
		if p.ID == 0 {
			c.fail("it has the packet identifier 0")
		}
	}
	if version == V5 {
		p.properties(c)
	}
	p.Publish.Payload, c.b = c.b, nil
	switch {
	case c.bad != "":
	case p.Publish.Alias > 0: // section 3.3.2.3.4: we never say that we take any
		return &Error{0x94, "PUBLISH with a topic alias, and none was allowed"}
	case p.Publish.Topic == "":
		return protocol("PUBLISH without a topic")
	case bytes.ContainsAny([]byte(p.Publish.Topic), "#+"):
		return malformed("PUBLISH: its topic holds a wildcard")
	case bytes.ContainsAny([]byte(p.Publish.ResponseTopic), "#+"):
		return malformed("PUBLISH: its response topic holds a wildcard")
	}
	return nil
}

// goes are the packets that a property may be in (section 2.2.2.2), as bits by type.
func goes(id int) uint16 {
	const answers = 1<<PUBACK | 1<<PUBREC | 1<<PUBREL | 1<<PUBCOMP | 1<<SUBACK
	switch id {
	case propPayloadFormat, propMessageExpiry, propContentType, propResponseTopic, propCorrelationData, propSubscriptionID, propTopicAlias:
		return 1 << PUBLISH
	case propAssignedClientID, propServerKeepAlive, propAuthMethod, propAuthData, propResponseInformation, propReceiveMaximum, propTopicAliasMax,
		propMaximumQoS, propRetainAvailable, propMaximumPacket, propWildcards, propSubscriptionIDs, propSharedSubscriptions:
		return 1 << CONNACK
	case propSessionExpiry: // a server must not send it in DISCONNECT (section 3.14.2.2.2)
		return 1 << CONNACK
	case propServerReference:
		return 1<<CONNACK | 1<<DISCONNECT
	case propReasonString:
		return answers | 1<<CONNACK | 1<<DISCONNECT
	case propUserProperty:
		return answers | 1<<CONNACK | 1<<DISCONNECT | 1<<PUBLISH
	}
	return 0
}

// properties reads the properties of version 5. All but user properties, and
// subscription identifiers in PUBLISH, stand at most once (section 2.2.2.2).
func (p *Packet) properties(c *cursor) {
	q := &cursor{b: c.take(c.varint())}
	var seen uint64
	for len(q.b) > 0 && c.bad == "" {
		id := q.varint()
		if goes(id)&(1<<p.Type) == 0 {
			q.fail("it holds a property that does not belong there")
		} else if id != propUserProperty && id != propSubscriptionID {
			if seen&(1<<id) != 0 {
				q.fail("it holds a property twice")
			}
			seen |= 1 << id
		}
		if q.bad == "" {
			p.property(q, id)
		}
		if q.bad != "" {
			c.fail(q.bad)
		}
	}
}

// property reads one property. That of a limit is never 0 (sections 3.2.2.3.3, 3.2.2.3.6).
func (p *Packet) property(q *cursor, id int) {
	switch id {
	case propReceiveMaximum:
		if p.ReceiveMaximum = q.uint16(); p.ReceiveMaximum == 0 {
			q.fail("its receive maximum is 0")
		}
	case propMaximumPacket:
		if p.MaximumPacket = q.uint32(); p.MaximumPacket == 0 {
			q.fail("its maximum packet size is 0")
		}
	case propMaximumQoS:
		if p.MaximumQoS, p.MaximumQoSSet = q.byte(), true; p.MaximumQoS > 1 {
			q.fail("its maximum QoS is neither 0 nor 1")
		}
	case propServerKeepAlive:
		p.ServerKeepAlive, p.KeepAliveSet = q.uint16(), true
	case propTopicAliasMax:
		p.TopicAliasMaximum = q.uint16()
	case propSessionExpiry:
		p.SessionExpiry, p.SessionExpirySet = q.uint32(), true
	case propRetainAvailable:
		p.NoRetain = !q.flag()
	case propWildcards:
		p.NoWildcards = !q.flag()
	case propSharedSubscriptions:
		p.NoSharedSubscriptions = !q.flag()
	case propPayloadFormat:
		p.Publish.UTF8 = q.flag()
	case propSubscriptionIDs:
		q.flag()
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
	case propTopicAlias:
		if p.Publish.Alias = q.uint16(); p.Publish.Alias == 0 {
			q.fail("its topic alias is 0")
		}
	case propSubscriptionID:
		if q.varint() == 0 {
			q.fail("its subscription identifier is 0")
		}
	case propUserProperty:
		p.UserProp = append(p.UserProp, UserProperty{q.text(), q.text()})
	case propAuthMethod, propResponseInformation:
		q.text()
	case propAuthData:
		q.bytes()
	}
}
