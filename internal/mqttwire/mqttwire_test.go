package mqttwire_test

import (
	"encoding/hex"
	"io"
	"strings"
	"testing"

	"github.com/mochi-mqtt/server/v2/packets"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"runcrowd/internal/brokertest"
	"runcrowd/internal/mqttwire"
)

var versions = rapid.SampledFrom([]byte{mqttwire.V311, mqttwire.V5})

func TestPublishAgainstAnotherCodec(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		v := versions.Draw(t, "version")
		p := mqttwire.Publish{
			Topic:   rapid.StringMatching(`[a-zü/]{1,40}`).Draw(t, "topic"),
			QoS:     byte(rapid.IntRange(0, 2).Draw(t, "qos")),
			Retain:  rapid.Bool().Draw(t, "retain"),
			Payload: rapid.SliceOfN(rapid.Byte(), 0, 300).Draw(t, "payload"),
		}
		if p.QoS > 0 {
			p.ID = rapid.Uint16Range(1, 65535).Draw(t, "id")
			p.Dup = rapid.Bool().Draw(t, "dup")
		}
		if v == mqttwire.V5 && rapid.Bool().Draw(t, "user") {
			p.UserKey, p.UserVal = "mark", rapid.StringMatching(`[a-z/0-9]{0,200}`).Draw(t, "value")
		}
		if v == mqttwire.V5 {
			p.ContentType = rapid.SampledFrom([]string{"", "application/json", "application/senml+cbor"}).Draw(t, "type")
			p.ResponseTopic = rapid.SampledFrom([]string{"", "told/me"}).Draw(t, "response")
			p.Correlation = []byte(rapid.StringMatching(`.{0,8}`).Draw(t, "correlation"))
			p.Expiry = rapid.Uint32().Draw(t, "expiry")
			p.Alias = rapid.Uint16Range(0, 10).Draw(t, "alias")
			for range rapid.IntRange(0, 2).Draw(t, "users") {
				p.User = append(p.User, mqttwire.UserProperty{Key: "unit",
					Value: rapid.StringMatching(`[a-z]{0,5}`).Draw(t, "unit")})
			}
		}
		b, err := mqttwire.AppendPublish(nil, v, &p)
		require.NoError(t, err)
		pk := brokertest.Decode(t, v, b)
		require.Equal(t, p.Topic, pk.TopicName)
		require.Equal(t, p.ID, pk.PacketID)
		require.Equal(t, p.QoS, pk.FixedHeader.Qos)
		require.Equal(t, p.Dup, pk.FixedHeader.Dup)
		require.Equal(t, p.Retain, pk.FixedHeader.Retain)
		require.Equal(t, string(p.Payload), string(pk.Payload))
		require.Equal(t, p.ContentType, pk.Properties.ContentType)
		require.Equal(t, p.ResponseTopic, pk.Properties.ResponseTopic)
		require.Equal(t, string(p.Correlation), string(pk.Properties.CorrelationData))
		require.Equal(t, p.Expiry, pk.Properties.MessageExpiryInterval)
		require.Equal(t, p.Alias, pk.Properties.TopicAlias)
		users := p.User
		if p.UserKey != "" {
			users = append([]mqttwire.UserProperty{{Key: p.UserKey, Value: p.UserVal}}, users...)
		}
		require.Len(t, pk.Properties.User, len(users))
		for i, u := range users {
			require.Equal(t, packets.UserProperty{Key: u.Key, Val: u.Value}, pk.Properties.User[i])
		}
		// And back with our own decoder, from what their encoder writes.
		pk.Mods.AllowResponseInfo = true
		pk.Properties.TopicAlias, pk.Properties.TopicAliasFlag = 0, false // we allow none
		var got mqttwire.Packet
		require.NoError(t, read(v, brokertest.Encode(t, v, pk), &got))
		require.Equal(t, p.Topic, got.Publish.Topic)
		require.Equal(t, string(p.Payload), string(got.Publish.Payload))
		require.Equal(t, p.ID, got.ID)
		require.ElementsMatch(t, users, got.UserProp)
		require.Equal(t, p.ContentType, got.Publish.ContentType)
		require.Equal(t, p.ResponseTopic, got.Publish.ResponseTopic)
		require.Equal(t, string(p.Correlation), string(got.Publish.Correlation))
		require.Equal(t, p.Expiry, got.Publish.Expiry)
	})
}

func read(version byte, b []byte, p *mqttwire.Packet) error {
	first, body, size, _, err := mqttwire.Frame(b, version)
	switch {
	case err != nil:
		return err
	case size != len(b):
		return io.ErrUnexpectedEOF
	}
	return mqttwire.Decode(p, version, first, body)
}

// must gives what was encoded.
func must(b []byte, err error) []byte {
	if err != nil {
		panic(err)
	}
	return b
}

func TestConnectAgainstAnotherCodec(t *testing.T) {
	for _, c := range []mqttwire.Connect{
		{Version: mqttwire.V311, ClientID: "buoy-1", KeepAlive: 60, CleanStart: true},
		{Version: mqttwire.V311, ClientID: "buoy-1", Username: "me", Password: "secret"},
		{Version: mqttwire.V5, ClientID: "buoy-1", KeepAlive: 60, SessionExpiry: 300, ReceiveMaximum: 10, Username: "me",
			Password: "secret"},
		{Version: mqttwire.V5, ClientID: "buoy-1", CleanStart: true},
		{Version: mqttwire.V311, ClientID: "buoy-1", Username: "me",
			Will: &mqttwire.Will{Topic: "gone", Payload: []byte("x"), QoS: 2}},
		{Version: mqttwire.V5, ClientID: "buoy-1", Username: "me", Password: "secret",
			Will: &mqttwire.Will{Topic: "gone", Payload: []byte("{}"), QoS: 1, Retain: true, Delay: 9, Expiry: 70,
				ContentType: "application/json"}},
	} {
		pk := brokertest.Decode(t, c.Version, must(mqttwire.AppendConnect(nil, &c)))
		assert.Equal(t, c.ClientID, pk.Connect.ClientIdentifier)
		assert.Equal(t, c.Username, string(pk.Connect.Username))
		assert.Equal(t, c.Password, string(pk.Connect.Password))
		assert.Equal(t, c.KeepAlive, pk.Connect.Keepalive)
		assert.Equal(t, c.CleanStart, pk.Connect.Clean)
		assert.Equal(t, c.SessionExpiry, pk.Properties.SessionExpiryInterval)
		assert.Equal(t, c.ReceiveMaximum, pk.Properties.ReceiveMaximum)
		assert.Equal(t, c.Will != nil, pk.Connect.WillFlag)
		if w := c.Will; w != nil {
			assert.Equal(t, w.Topic, pk.Connect.WillTopic)
			assert.Equal(t, w.Payload, pk.Connect.WillPayload)
			assert.Equal(t, w.QoS, pk.Connect.WillQos)
			assert.Equal(t, w.Retain, pk.Connect.WillRetain)
			assert.Equal(t, w.Delay, pk.Connect.WillProperties.WillDelayInterval)
			assert.Equal(t, w.Expiry, pk.Connect.WillProperties.MessageExpiryInterval)
			assert.Equal(t, w.ContentType, pk.Connect.WillProperties.ContentType)
		}
	}
}

func TestSmallPacketsAgainstAnotherCodec(t *testing.T) {
	for _, v := range []byte{mqttwire.V311, mqttwire.V5} {
		for _, kind := range []byte{mqttwire.PUBACK, mqttwire.PUBREC, mqttwire.PUBREL, mqttwire.PUBCOMP} {
			pk := brokertest.Decode(t, v, mqttwire.AppendAck(nil, kind, 517, 0))
			assert.Equal(t, kind, pk.FixedHeader.Type)
			assert.Equal(t, uint16(517), pk.PacketID)
		}
		pk := brokertest.Decode(t, v, must(mqttwire.AppendSubscribe(nil, v, 3, "harbour/#", 2)))
		require.Len(t, pk.Filters, 1)
		assert.Equal(t, "harbour/#", pk.Filters[0].Filter)
		assert.Equal(t, byte(2), pk.Filters[0].Qos)
	}
	pk := brokertest.Decode(t, mqttwire.V5, mqttwire.AppendDisconnect(nil, mqttwire.V5, 0, true))
	assert.True(t, pk.Properties.SessionExpiryIntervalFlag, "the session ends")
	assert.Equal(t, []byte{0xe0, 0}, mqttwire.AppendDisconnect(nil, mqttwire.V311, 0, true))
}

func TestConnackAgainstAnotherCodec(t *testing.T) {
	pk := packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Connack}, ProtocolVersion: 5,
		SessionPresent: true, ReasonCode: 0,
		Properties: packets.Properties{ReceiveMaximum: 7, MaximumPacketSize: 1000, MaximumQos: 1, MaximumQosFlag: true,
			ServerKeepAlive:     30,
			ServerKeepAliveFlag: true, AssignedClientID: "x", ReasonString: "well", TopicAliasMaximum: 3,
			ServerReference: "other:1883", RetainAvailable: 1, RetainAvailableFlag: true}}
	pk.Mods.AllowResponseInfo = true
	var got mqttwire.Packet
	require.NoError(t, read(mqttwire.V5, brokertest.Encode(t, 5, pk), &got))
	assert.True(t, got.SessionPresent)
	assert.Equal(t, uint16(7), got.ReceiveMaximum)
	assert.Equal(t, uint32(1000), got.MaximumPacket)
	assert.Equal(t, byte(1), got.MaximumQoS)
	assert.True(t, got.MaximumQoSSet && got.KeepAliveSet)
	assert.Equal(t, uint16(30), got.ServerKeepAlive)
	assert.Equal(t, "well", got.ReasonString)
	assert.Equal(t, uint16(3), got.TopicAliasMaximum)
	assert.Equal(t, "other:1883", got.ServerReference)
}

// What the standard calls malformed, or a protocol error, is refused: in both versions
// where it does not say otherwise.
func TestMalformedPackets(t *testing.T) {
	for name, x := range map[string]struct {
		hex      string
		versions string // in which it is wrong
		code     byte
	}{
		"a length of five bytes":                     {"40 ff ff ff ff 01", "3 5", 0x81},
		"a length in more bytes than it needs":       {"d0 80 00", "5", 0x81},
		"PUBACK without its id":                      {"40 01 00", "3 5", 0x81},
		"PUBACK with the id 0":                       {"40 02 00 00", "3 5", 0x81},
		"PUBACK with flags":                          {"41 02 00 01", "3 5", 0x81},
		"PUBACK with something behind it":            {"40 03 00 01 00", "3", 0x81},
		"PUBACK with something behind its end":       {"40 05 00 01 00 00 00", "5", 0x81},
		"PUBREL without its flags":                   {"60 02 00 01", "3 5", 0x81},
		"PINGRESP with a body":                       {"d0 01 00", "3 5", 0x81},
		"PINGRESP with flags":                        {"d8 00", "3 5", 0x81},
		"PUBLISH with QoS 3":                         {"36 05 00 01 61 00 01", "3 5", 0x81},
		"PUBLISH with the id 0":                      {"32 05 00 01 61 00 00", "3", 0x81},
		"PUBLISH of QoS 0 with DUP":                  {"38 03 00 01 61", "3", 0x81},
		"PUBLISH without a topic":                    {"30 02 00 00", "3", 0x82},
		"PUBLISH without a topic or alias":           {"30 03 00 00 00", "5", 0x82},
		"PUBLISH with an alias that was not allowed": {"30 06 00 00 03 23 00 01", "5", 0x94},
		"PUBLISH with the alias 0":                   {"30 07 00 01 61 03 23 00 00", "5", 0x81},
		"PUBLISH to a wildcard":                      {"30 05 00 03 61 2f 23", "3", 0x81},
		"PUBLISH to a wildcard, version 5":           {"30 06 00 03 61 2f 2b 00", "5", 0x81},
		"PUBLISH with a response topic of wildcards": {"30 08 00 01 61 04 08 00 01 23", "5", 0x81},
		"PUBLISH with subscription identifier 0":     {"30 06 00 01 61 02 0b 00", "5", 0x81},
		"a topic that is no UTF-8":                   {"30 04 00 02 ff fe", "3", 0x81},
		"a topic with a surrogate":                   {"30 05 00 03 ed a0 80", "3", 0x81},
		"a topic with U+0000":                        {"30 05 00 03 61 00 61", "3", 0x81},
		"a text that goes beyond the packet":         {"30 04 00 09 61 61", "3 5", 0x81},
		"a packet for servers":                       {"10 00", "3 5", 0x82},
		"a packet of type 0":                         {"00 00", "3 5", 0x82},
		"UNSUBACK, and nothing was unsubscribed":     {"b0 02 00 01", "3 5", 0x82},
		"AUTH":                                       {"f0 00", "3 5", 0x82},
		"DISCONNECT from a server of 3.1.1":          {"e0 00", "3", 0x82},
		"DISCONNECT with a session expiry":           {"e0 07 00 05 11 00 00 00 01", "5", 0x81},
		"an unknown property":                        {"40 06 00 01 00 02 7f 00", "5", 0x81},
		"a property cut short":                       {"40 06 00 01 00 02 1f 00", "5", 0x81},
		"properties longer than the packet":          {"40 04 00 01 00 05", "5", 0x81},
		"a property of another packet":               {"40 07 00 01 00 03 21 00 05", "5", 0x81},
		"a property twice":                           {"20 09 00 00 06 21 00 05 21 00 05", "5", 0x81},
		"a property's identifier in two bytes":       {"20 07 00 00 04 a1 00 00 05", "5", 0x81},
		"CONNACK with reserved flags":                {"20 02 02 00", "3", 0x81},
		"CONNACK that refuses with a session":        {"20 02 01 05", "3", 0x81},
		"CONNACK that refuses with a session, too":   {"20 03 01 87 00", "5", 0x81},
		"CONNACK without properties":                 {"20 02 00 00", "5", 0x81},
		"CONNACK with properties in 3.1.1":           {"20 03 00 00 00", "3", 0x81},
		"a receive maximum of 0":                     {"20 06 00 00 03 21 00 00", "5", 0x81},
		"a maximum packet size of 0":                 {"20 08 00 00 05 27 00 00 00 00", "5", 0x81},
		"a maximum QoS of 2":                         {"20 05 00 00 02 24 02", "5", 0x81},
		"retain available 2":                         {"20 05 00 00 02 25 02", "5", 0x81},
		"SUBACK with a reserved code":                {"90 03 00 01 03", "3", 0x81},
		"SUBACK with a reserved code in version 5":   {"90 04 00 01 00 03", "5", 0x81},
		"SUBACK with a code of version 5":            {"90 03 00 01 87", "3", 0x81},
		"SUBACK for more filters than one":           {"90 04 00 01 01 01", "3", 0x81},
		"SUBACK without a code":                      {"90 02 00 01", "3", 0x81},
	} {
		b, err := hex.DecodeString(strings.ReplaceAll(x.hex, " ", ""))
		require.NoError(t, err)
		for _, v := range strings.Fields(x.versions) {
			var p mqttwire.Packet
			err := read(map[string]byte{"3": mqttwire.V311, "5": mqttwire.V5}[v], b, &p)
			require.ErrorIs(t, err, mqttwire.ErrMalformed, "%s, version %s", name, v)
			var e *mqttwire.Error
			require.ErrorAs(t, err, &e)
			assert.Equal(t, x.code, e.Code, "%s, version %s", name, v)
		}
	}
	var p mqttwire.Packet
	assert.ErrorIs(t, read(mqttwire.V5, []byte{0x40, 2, 0}, &p), io.ErrUnexpectedEOF)
	// A server that does not know version 5 refuses in the form of its own.
	require.NoError(t, read(mqttwire.V5, []byte{0x20, 2, 0, 1}, &p))
	assert.Equal(t, byte(1), p.Reason)
	// In version 3.1.1 nothing is said of lengths in more bytes than needed.
	assert.NoError(t, read(mqttwire.V311, []byte{0xd0, 0x80, 0}, &p))
}

// What the standard does not let a client send is an error, and nothing is appended.
func TestWhatMayNotBeSent(t *testing.T) {
	long := strings.Repeat("x", 65536)
	publish := func(v byte, p mqttwire.Publish) error {
		b, err := mqttwire.AppendPublish([]byte("before"), v, &p)
		assert.Equal(t, err != nil, string(b) == "before")
		return err
	}
	connect := func(c mqttwire.Connect) error {
		b, err := mqttwire.AppendConnect([]byte("before"), &c)
		assert.Equal(t, err != nil, string(b) == "before")
		return err
	}
	for want, err := range map[string]error{
		"the topic has 65536 bytes; MQTT allows 65535": publish(4, mqttwire.Publish{Topic: long}),
		"the topic holds the character U+0000, which MQTT does not allow": publish(4,
			mqttwire.Publish{Topic: "a\x00"}),
		"the topic is not UTF-8":           publish(4, mqttwire.Publish{Topic: "\xff"}),
		`the topic "a/+" holds a wildcard`: publish(5, mqttwire.Publish{Topic: "a/+"}),
		"the topic is empty":               publish(5, mqttwire.Publish{}),
		"a message of QoS 0 is never a repeated one (DUP)": publish(5,
			mqttwire.Publish{Topic: "a", Dup: true}),
		"a message of QoS 1 or 2 needs a packet identifier above 0": publish(5,
			mqttwire.Publish{Topic: "a", QoS: 1}),
		"there is no QoS 3": publish(5,
			mqttwire.Publish{Topic: "a", QoS: 3, ID: 1}),
		"a user property has 65536 bytes; MQTT allows 65535": publish(5,
			mqttwire.Publish{Topic: "a", UserKey: "mark", UserVal: long}),
		"the name of a user property has 65536 bytes; MQTT allows 65535": publish(5,
			mqttwire.Publish{Topic: "a", User: []mqttwire.UserProperty{{Key: long}}}),
		"the content type holds the character U+0000, which MQTT does not allow": publish(5,
			mqttwire.Publish{Topic: "a", ContentType: "\x00"}),
		"the correlation data has 65536 bytes; MQTT allows 65535": publish(5,
			mqttwire.Publish{Topic: "a", Correlation: []byte(long)}),
		`the response topic "#" holds a wildcard`: publish(5,
			mqttwire.Publish{Topic: "a", ResponseTopic: "#"}),
		"the client id has 65536 bytes; MQTT allows 65535": connect(
			mqttwire.Connect{Version: 5, ClientID: long}),
		"the user name holds the character U+0000, which MQTT does not allow": connect(
			mqttwire.Connect{Version: 5, Username: "\x00"}),
		"the password has 65536 bytes; MQTT allows 65535": connect(
			mqttwire.Connect{Version: 5, Password: long}),
		"a password without a user name is not allowed in version 3.1.1": connect(
			mqttwire.Connect{Version: 4, ClientID: "a", Password: "p"}),
		"an empty client id needs a clean session in version 3.1.1": connect(mqttwire.Connect{Version: 4}),
		`the will's topic "a/#" is not a topic name`: connect(
			mqttwire.Connect{Version: 5, Will: &mqttwire.Will{Topic: "a/#"}}),
		"the will's body has 65536 bytes; MQTT allows 65535": connect(
			mqttwire.Connect{Version: 5, Will: &mqttwire.Will{Topic: "a", Payload: []byte(long)}}),
	} {
		assert.EqualError(t, err, want)
	}
	assert.NoError(t, connect(mqttwire.Connect{Version: 5, Password: "p"}), "allowed in version 5 (section 3.1.2.9)")
	assert.NoError(t, publish(5, mqttwire.Publish{Alias: 1}))
	for filter, ok := range map[string]bool{"#": true, "a/#": true, "+/a/+": true, "/": true, "$share/g/a/#": true,
		"": false, "a#": false, "#/a": false, "a+/b": false,
		"$share//a": false, "$share/g": false, "$share/g/": false, "$share/+/a": false, "a\x00": false} {
		_, err := mqttwire.AppendSubscribe(nil, 5, 1, filter, 0)
		assert.Equal(t, ok, err == nil, "%q", filter)
	}
}

func TestReasons(t *testing.T) {
	assert.Equal(t, "not authorized (0x87)", mqttwire.Reason(0x87))
	assert.Equal(t, "reason 0xF0", mqttwire.Reason(0xf0))
	assert.Equal(t, "bad user name or password (4)", mqttwire.ConnectReason(mqttwire.V311, 4))
	assert.Equal(t, "banned (0x8A)", mqttwire.ConnectReason(mqttwire.V5, 0x8a))
	assert.Equal(t, "banned (0x8A): “three strikes”", mqttwire.Because("banned (0x8A)", "three strikes"))
	assert.Equal(t, `banned (0x8A): “no PROVEN all 4 messages \u001b[32mPROVEN\u202e”`,
		mqttwire.Because("banned (0x8A)", "no\r\nPROVEN  all 4 messages \x1b[32mPROVEN\u202e"), "it forges no line")
	assert.Equal(t, "bad user name or password (0x86)", mqttwire.Because("bad user name or password (0x86)",
		"Bad username or password"))
}

// What we take, another codec takes too, and reads the same.
func FuzzDecode(f *testing.F) {
	f.Add(byte(5), []byte{0x20, 3, 0, 0, 0})
	f.Add(byte(5), must(mqttwire.AppendPublish(nil, 5, &mqttwire.Publish{Topic: "a/b", QoS: 1, ID: 3, UserKey: "k",
		UserVal: "v", Payload: []byte("{}")})))
	f.Add(byte(4), []byte{0x90, 3, 0, 1, 2})
	f.Add(byte(5), []byte{0xe0, 2, 0x8e, 0})
	f.Fuzz(func(t *testing.T, version byte, b []byte) {
		version = mqttwire.V311 + version%2
		var p mqttwire.Packet
		if read(version, b, &p) != nil || p.Type == mqttwire.PINGRESP {
			return
		}
		if p.Type == mqttwire.CONNACK && version == mqttwire.V5 && len(b) == 4 {
			return // a refusal in the form of 3.1.1
		}
		pk := brokertest.Decode(t, version, b)
		require.Equal(t, pk.PacketID, p.ID)
		switch p.Type {
		case mqttwire.PUBLISH:
			require.Equal(t, pk.TopicName, p.Publish.Topic)
			require.Equal(t, string(pk.Payload), string(p.Publish.Payload))
			require.Len(t, p.UserProp, len(pk.Properties.User))
		case mqttwire.SUBACK:
			require.Equal(t, pk.ReasonCodes, []byte{p.Reason})
		default:
			require.Equal(t, pk.ReasonCode, p.Reason)
		}
	})
}

// What we send, another codec reads as it was meant; what it would not take, we do not send.
func FuzzEncode(f *testing.F) {
	f.Add(byte(5), "a/b", byte(1), uint16(3), true, false, "application/json", "told", "c", "k", "v", "{}")
	f.Fuzz(func(t *testing.T, version byte, topic string, qos byte, id uint16, dup, retain bool,
		kind, response, correlation, key, value, body string) {
		version = mqttwire.V311 + version%2
		p := mqttwire.Publish{Topic: topic, QoS: qos % 4, ID: id, Dup: dup, Retain: retain, ContentType: kind,
			ResponseTopic: response, Correlation: []byte(correlation), UserKey: key, UserVal: value, Payload: []byte(body)}
		b, err := mqttwire.AppendPublish(nil, version, &p)
		if err != nil {
			require.Empty(t, b)
			return
		}
		pk := brokertest.Decode(t, version, b)
		require.Equal(t, []any{topic, qos % 4, dup, retain, body},
			[]any{pk.TopicName, pk.FixedHeader.Qos, pk.FixedHeader.Dup, pk.FixedHeader.Retain, string(pk.Payload)})
		if qos%4 > 0 {
			require.Equal(t, id, pk.PacketID)
		}
		if version == mqttwire.V5 {
			require.Equal(t, []any{kind, response, correlation}, []any{pk.Properties.ContentType, pk.Properties.ResponseTopic,
				string(pk.Properties.CorrelationData)})
		}
	})
}

// The hot path costs no memory.
func TestEncodingAllocatesNothing(t *testing.T) {
	p := &mqttwire.Publish{Topic: strings.Repeat("t", 40), QoS: 1, ID: 9, UserKey: "mark", UserVal: "v",
		Payload: make([]byte, 120)}
	buf := make([]byte, 0, 1024)
	assert.Zero(t, testing.AllocsPerRun(100, func() { buf, _ = mqttwire.AppendPublish(buf[:0], mqttwire.V5, p) }))
	var in mqttwire.Packet
	ack := []byte{0, 9}
	assert.Zero(t, testing.AllocsPerRun(100, func() { mqttwire.Decode(&in, mqttwire.V5, 0x40, ack) }))
}

func BenchmarkPublish(b *testing.B) {
	p := &mqttwire.Publish{Topic: "harbour/outer/buoy-001/sea-state", QoS: 1, ID: 9, Payload: make([]byte, 120)}
	var buf []byte
	b.ReportAllocs()
	for b.Loop() {
		buf, _ = mqttwire.AppendPublish(buf[:0], mqttwire.V311, p)
	}
}
