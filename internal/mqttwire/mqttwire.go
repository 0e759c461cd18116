// Package mqttwire encodes and decodes the control packets that a client of
// MQTT needs, in version 3.1.1 (OASIS Standard, 29 October 2014) and version 5
// (OASIS Standard, 7 March 2019). Section numbers in comments are those of
// version 5 unless another is named.
//
// Encoders append to a buffer and allocate nothing; what the standard does not let a
// client send is an error, and nothing is appended. The decoder refuses what the
// standard calls malformed or a protocol error, and never panics, whatever bytes come.
package mqttwire

import (
	"encoding/binary"
	"errors"
	"fmt"
	"strings"
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
	UNSUBACK   = 11
	PINGREQ    = 12
	PINGRESP   = 13
	DISCONNECT = 14
	AUTH       = 15
)

// Identifiers of the properties used here (section 2.2.2.2).
const (
	propPayloadFormat       = 0x01
	propMessageExpiry       = 0x02
	propContentType         = 0x03
	propResponseTopic       = 0x08
	propCorrelationData     = 0x09
	propSubscriptionID      = 0x0b
	propSessionExpiry       = 0x11
	propAssignedClientID    = 0x12
	propServerKeepAlive     = 0x13
	propAuthMethod          = 0x15
	propAuthData            = 0x16
	propWillDelay           = 0x18
	propResponseInformation = 0x1a
	propServerReference     = 0x1c
	propReasonString        = 0x1f
	propReceiveMaximum      = 0x21
	propTopicAliasMax       = 0x22
	propTopicAlias          = 0x23
	propMaximumQoS          = 0x24
	propRetainAvailable     = 0x25
	propUserProperty        = 0x26
	propMaximumPacket       = 0x27
	propWildcards           = 0x28
	propSubscriptionIDs     = 0x29
	propSharedSubscriptions = 0x2a
)

// MaxPacket is the largest packet there can be (section 2.1.4), in bytes
// behind the fixed header.
const MaxPacket = 268_435_455

// MaxText is the longest text or binary value, in bytes (sections 1.5.4, 1.5.6).
const MaxText = 65535

// ErrMalformed is the error for a packet that breaks the standard.
var ErrMalformed = errors.New("malformed packet")

// Error is a packet that breaks the standard. It wraps ErrMalformed.
type Error struct {
	Code byte // reason that goes with it (section 4.13): 0x81, 0x82, 0x94, 0x95
	What string
}

func (e *Error) Error() string { return ErrMalformed.Error() + ": " + e.What }

// Unwrap gives ErrMalformed.
func (e *Error) Unwrap() error { return ErrMalformed }

func malformed(format string, args ...any) error { return &Error{0x81, fmt.Sprintf(format, args...)} }
func protocol(format string, args ...any) error  { return &Error{0x82, fmt.Sprintf(format, args...)} }

// checkText tells what keeps a text from going into a packet (section 1.5.4).
func checkText(what, s string) error {
	switch {
	case len(s) > MaxText:
		return fmt.Errorf("%s has %d bytes; MQTT allows %d", what, len(s), MaxText)
	case strings.IndexByte(s, 0) >= 0:
		return fmt.Errorf("%s holds the character U+0000, which MQTT does not allow", what)
	case !utf8.ValidString(s):
		return fmt.Errorf("%s is not UTF-8", what)
	}
	return nil
}

// checkBytes tells what keeps a binary value from going into a packet (section 1.5.6).
func checkBytes(what string, n int) error {
	if n > MaxText {
		return fmt.Errorf("%s has %d bytes; MQTT allows %d", what, n, MaxText)
	}
	return nil
}

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
	// MaximumPacket, version 5 only: the largest packet that the server may send, in
	// bytes; 0: any.
	MaximumPacket uint32
	Will          *Will // nil: none
}

// Check tells what the standard does not allow in the packet.
func (c *Connect) Check() error {
	err := errors.Join(checkText("the client id", c.ClientID), checkText("the user name", c.Username),
		checkBytes("the password", len(c.Password)))
	if w := c.Will; w != nil {
		err = errors.Join(err, checkText("the will's topic", w.Topic), checkBytes("the will's body", len(w.Payload)),
			checkText("the will's content type", w.ContentType))
		if w.Topic == "" || strings.ContainsAny(w.Topic, "#+") {
			err = errors.Join(err, fmt.Errorf("the will's topic %q is not a topic name", w.Topic))
		}
	}
	switch {
	case err != nil:
	case c.Version == V311 && c.Password != "" && c.Username == "": // 3.1.1, section 3.1.2.9
		return errors.New("a password without a user name is not allowed in version 3.1.1")
	case c.Version == V311 && c.ClientID == "" && !c.CleanStart: // 3.1.1, section 3.1.3.1
		return errors.New("an empty client id needs a clean session in version 3.1.1")
	}
	return err
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
func AppendConnect(b []byte, c *Connect) ([]byte, error) {
	if err := c.Check(); err != nil {
		return b, err
	}
	props := 0
	if c.Version == V5 {
		if c.SessionExpiry > 0 {
			props += 5
		}
		if c.ReceiveMaximum > 0 {
			props += 3
		}
		if c.MaximumPacket > 0 {
			props += 5
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
		if c.MaximumPacket > 0 {
			b = binary.BigEndian.AppendUint32(append(b, propMaximumPacket), c.MaximumPacket)
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
	return b, nil
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
	UTF8          bool   // it says that its payload is a text (payload format, section 3.3.2.3.2)
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
	if p.UTF8 {
		n += 2
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
	if p.UTF8 {
		b = append(b, propPayloadFormat, 1)
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

// Check tells what the standard does not allow in the packet (section 3.3).
func (p *Publish) Check(version byte) error {
	if err := checkText("the topic", p.Topic); err != nil {
		return err
	}
	switch {
	case strings.IndexByte(p.Topic, '#') >= 0 || strings.IndexByte(p.Topic, '+') >= 0:
		return fmt.Errorf("the topic %q holds a wildcard", p.Topic)
	case p.Topic == "" && p.Alias == 0:
		return errors.New("the topic is empty")
	case p.QoS > 2:
		return fmt.Errorf("there is no QoS %d", p.QoS)
	case p.QoS == 0 && p.Dup:
		return errors.New("a message of QoS 0 is never a repeated one (DUP)")
	case p.QoS > 0 && p.ID == 0:
		return errors.New("a message of QoS 1 or 2 needs a packet identifier above 0")
	}
	if version != V5 {
		return nil
	}
	if p.ContentType != "" {
		if err := checkText("the content type", p.ContentType); err != nil {
			return err
		}
	}
	if p.ResponseTopic != "" {
		if err := checkText("the response topic", p.ResponseTopic); err != nil {
			return err
		}
		if strings.ContainsAny(p.ResponseTopic, "#+") {
			return fmt.Errorf("the response topic %q holds a wildcard", p.ResponseTopic)
		}
	}
	if err := checkBytes("the correlation data", len(p.Correlation)); err != nil {
		return err
	}
	if p.UserKey != "" {
		if err := checkUser(p.UserKey, p.UserVal); err != nil {
			return err
		}
	}
	for i := range p.User {
		if err := checkUser(p.User[i].Key, p.User[i].Value); err != nil {
			return err
		}
	}
	return nil
}

func checkUser(key, value string) error {
	if err := checkText("the name of a user property", key); err != nil {
		return err
	}
	return checkText("a user property", value)
}

// AppendPublish appends a PUBLISH.
func AppendPublish(b []byte, version byte, p *Publish) ([]byte, error) {
	if err := p.Check(version); err != nil {
		return b, err
	}
	n := 2 + len(p.Topic) + len(p.Payload)
	if p.QoS > 0 {
		n += 2
	}
	props := 0
	if version == V5 {
		props = p.props()
		n += varintLen(props) + props
	}
	if n > MaxPacket {
		return b, fmt.Errorf("the packet has %d bytes; MQTT allows %d", n, MaxPacket)
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
	return append(b, p.Payload...), nil
}

// AppendAck appends a PUBACK, PUBREC, PUBREL or PUBCOMP. The reason is of version 5;
// success has the short form, which serves both versions (sections 3.4.2.1, 3.6.2.1).
func AppendAck(b []byte, packet byte, id uint16, reason byte) []byte {
	first := packet << 4
	if packet == PUBREL {
		first |= 0x02 // section 3.6.1
	}
	if reason != 0 {
		return append(b, first, 3, byte(id>>8), byte(id), reason)
	}
	return append(b, first, 2, byte(id>>8), byte(id))
}

// AsPublished is the option of a subscription of version 5 by which messages keep the retained
// flag with which they were published (section 3.8.3.1).
const AsPublished = 0x08

// AppendSubscribe appends a SUBSCRIBE for one filter (section 3.8). Options are its QoS, and
// AsPublished.
func AppendSubscribe(b []byte, version byte, id uint16, filter string, options byte) ([]byte, error) {
	if err := checkText("the filter", filter); err != nil {
		return b, err
	}
	if err := CheckFilter(filter); err != nil {
		return b, err
	}
	n := 2 + 2 + len(filter) + 1
	if version == V5 {
		n++
	}
	b = appendVarint(append(b, SUBSCRIBE<<4|0x02), n)
	b = binary.BigEndian.AppendUint16(b, id)
	if version == V5 {
		b = append(b, 0)
	}
	return append(appendText(b, filter), options), nil
}

// CheckFilter tells what is wrong with a topic filter (sections 4.7.1, 4.8.2).
func CheckFilter(filter string) error {
	rest := filter
	if share, is := strings.CutPrefix(filter, "$share/"); is {
		name, under, ok := strings.Cut(share, "/")
		if !ok || name == "" || strings.ContainsAny(name, "#+") {
			return fmt.Errorf("the filter %q: a shared subscription is $share/NAME/FILTER", filter)
		}
		rest = under
	}
	if rest == "" {
		return errors.New("the filter is empty")
	}
	for more := true; more; {
		var level string
		level, rest, more = strings.Cut(rest, "/")
		switch {
		case level == "#" && more:
			return fmt.Errorf("the filter %q has something after #", filter)
		case level != "#" && level != "+" && strings.ContainsAny(level, "#+"):
			return fmt.Errorf("the filter %q: # and + stand for whole levels", filter)
		}
	}
	return nil
}

// AppendPing appends a PINGREQ (section 3.12).
func AppendPing(b []byte) []byte { return append(b, PINGREQ<<4, 0) }

// AppendDisconnect appends a DISCONNECT; the reason is of version 5, 0 is normal. In
// version 5, end also ends the session at once, whatever expiry it was opened with
// (section 3.14.2.2.2).
func AppendDisconnect(b []byte, version byte, reason byte, end bool) []byte {
	if version == V5 && reason != 0 {
		return append(b, DISCONNECT<<4, 2, reason, 0)
	}
	if version == V5 && end {
		return append(b, DISCONNECT<<4, 7, 0, 5, propSessionExpiry, 0, 0, 0, 0)
	}
	return append(b, DISCONNECT<<4, 0)
}

// Name is the name of a type of packets.
func Name(packet byte) string {
	names := [...]string{1: "CONNECT", 2: "CONNACK", 3: "PUBLISH", 4: "PUBACK", 5: "PUBREC", 6: "PUBREL", 7: "PUBCOMP",
		8: "SUBSCRIBE", 9: "SUBACK", 10: "UNSUBSCRIBE", 11: "UNSUBACK", 12: "PINGREQ", 13: "PINGRESP", 14: "DISCONNECT",
		15: "AUTH"}
	if int(packet) < len(names) && names[packet] != "" {
		return names[packet]
	}
	return fmt.Sprintf("packet type %d", packet)
}
