package mqttwire_test

import (
	"bufio"
	"bytes"
	"errors"
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
				p.User = append(p.User, mqttwire.UserProperty{Key: "unit", Value: rapid.StringMatching(`[a-z]{0,5}`).Draw(t, "unit")})
			}
		}
		b := mqttwire.AppendPublish(nil, v, &p)
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
	return mqttwire.NewReader(bufio.NewReader(bytes.NewReader(b)), version, 1<<20).Read(p)
}

func TestConnectAgainstAnotherCodec(t *testing.T) {
	for _, c := range []mqttwire.Connect{
		{Version: mqttwire.V311, ClientID: "buoy-1", KeepAlive: 60, CleanStart: true},
		{Version: mqttwire.V311, ClientID: "buoy-1", Username: "me", Password: "secret"},
		{Version: mqttwire.V5, ClientID: "buoy-1", KeepAlive: 60, SessionExpiry: 300, ReceiveMaximum: 10, Username: "me", Password: "secret"},
		{Version: mqttwire.V5, ClientID: "buoy-1", CleanStart: true},
		{Version: mqttwire.V311, ClientID: "buoy-1", Username: "me", Will: &mqttwire.Will{Topic: "gone", Payload: []byte("x"), QoS: 2}},
		{Version: mqttwire.V5, ClientID: "buoy-1", Username: "me", Password: "secret", Will: &mqttwire.Will{Topic: "gone", Payload: []byte("{}"), QoS: 1, Retain: true, Delay: 9, Expiry: 70, ContentType: "application/json"}},
	} {
		pk := brokertest.Decode(t, c.Version, mqttwire.AppendConnect(nil, &c))
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
			pk := brokertest.Decode(t, v, mqttwire.AppendAck(nil, kind, 517))
			assert.Equal(t, kind, pk.FixedHeader.Type)
			assert.Equal(t, uint16(517), pk.PacketID)
		}
		pk := brokertest.Decode(t, v, mqttwire.AppendSubscribe(nil, v, 3, "harbour/#", 2))
		require.Len(t, pk.Filters, 1)
		assert.Equal(t, "harbour/#", pk.Filters[0].Filter)
		assert.Equal(t, byte(2), pk.Filters[0].Qos)
	}
	pk := brokertest.Decode(t, mqttwire.V5, mqttwire.AppendDisconnect(nil, mqttwire.V5, true))
	assert.True(t, pk.Properties.SessionExpiryIntervalFlag, "the session ends")
	assert.Equal(t, []byte{0xe0, 0}, mqttwire.AppendDisconnect(nil, mqttwire.V311, true))
}

func TestConnackAgainstAnotherCodec(t *testing.T) {
	pk := packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Connack}, ProtocolVersion: 5, SessionPresent: true, ReasonCode: 0,
		Properties: packets.Properties{ReceiveMaximum: 7, MaximumPacketSize: 1000, MaximumQos: 1, MaximumQosFlag: true, ServerKeepAlive: 30,
			ServerKeepAliveFlag: true, AssignedClientID: "x", ReasonString: "well", TopicAliasMaximum: 3, ServerReference: "other:1883", RetainAvailable: 1, RetainAvailableFlag: true}}
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

func TestMalformedPackets(t *testing.T) {
	for name, b := range map[string][]byte{
		"a length of five bytes":   {0x40, 0xff, 0xff, 0xff, 0xff, 0x01},
		"longer than allowed":      {0x30, 0xff, 0xff, 0xff, 0x7f},
		"PUBACK without its id":    {0x40, 1, 0},
		"PUBLISH with QoS 3":       {0x36, 4, 0, 1, 'a', 0},
		"PUBLISH with id 0":        {0x32, 5, 0, 1, 'a', 0, 0},
		"a topic that is no UTF-8": {0x30, 4, 0, 2, 0xff, 0xfe},
		"a packet for servers":     {0x10, 0},
		"an unknown property":      {0x40, 6, 0, 1, 0, 2, 0x7f, 0},
		"a property cut short":     {0x40, 6, 0, 1, 0, 2, 0x1f, 0},
	} {
		var p mqttwire.Packet
		assert.ErrorIs(t, read(mqttwire.V5, b, &p), mqttwire.ErrMalformed, name)
	}
	var p mqttwire.Packet
	assert.ErrorIs(t, read(mqttwire.V5, []byte{0x40, 2, 0}, &p), io.ErrUnexpectedEOF)
	assert.True(t, errors.Is(read(mqttwire.V5, nil, &p), io.EOF))
}

func TestReasons(t *testing.T) {
	assert.Equal(t, "not authorized (0x87)", mqttwire.Reason(0x87))
	assert.Equal(t, "reason 0xF0", mqttwire.Reason(0xf0))
	assert.Equal(t, "bad user name or password (4)", mqttwire.ConnectReason(mqttwire.V311, 4))
	assert.Equal(t, "banned (0x8A)", mqttwire.ConnectReason(mqttwire.V5, 0x8a))
	assert.Equal(t, "banned (0x8A): three strikes", mqttwire.Because("banned (0x8A)", "three strikes"))
	assert.Equal(t, "bad user name or password (0x86)", mqttwire.Because("bad user name or password (0x86)", "Bad username or password"))
}

func FuzzDecode(f *testing.F) {
	f.Add(byte(5), []byte{0x20, 3, 0, 0, 0})
	f.Add(byte(5), mqttwire.AppendPublish(nil, 5, &mqttwire.Publish{Topic: "a/b", QoS: 1, ID: 3, UserKey: "k", UserVal: "v", Payload: []byte("{}")}))
	f.Add(byte(4), []byte{0x90, 3, 0, 1, 2})
	f.Add(byte(5), []byte{0xe0, 2, 0x8e, 0})
	f.Fuzz(func(t *testing.T, version byte, b []byte) {
		var p mqttwire.Packet
		if read(version, b, &p) == nil && p.Type == mqttwire.PUBLISH {
			require.LessOrEqual(t, len(p.Publish.Payload), len(b))
		}
	})
}

// The hot path costs no memory.
func TestEncodingAllocatesNothing(t *testing.T) {
	p := &mqttwire.Publish{Topic: strings.Repeat("t", 40), QoS: 1, ID: 9, UserKey: "mark", UserVal: "v", Payload: make([]byte, 120)}
	buf := make([]byte, 0, 1024)
	assert.Zero(t, testing.AllocsPerRun(100, func() { buf = mqttwire.AppendPublish(buf[:0], mqttwire.V5, p) }))
	var in mqttwire.Packet
	ack := []byte{0, 9}
	assert.Zero(t, testing.AllocsPerRun(100, func() { mqttwire.Decode(&in, mqttwire.V5, 0x40, ack) }))
}

func BenchmarkPublish(b *testing.B) {
	p := &mqttwire.Publish{Topic: "harbour/outer/buoy-001/sea-state", QoS: 1, ID: 9, Payload: make([]byte, 120)}
	var buf []byte
	b.ReportAllocs()
	for b.Loop() {
		buf = mqttwire.AppendPublish(buf[:0], mqttwire.V311, p)
	}
}
