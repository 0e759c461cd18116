package mqttsession_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/brokertest"
	"runcrowd/internal/mqttsession"
	"runcrowd/internal/mqttwire"

	"github.com/mochi-mqtt/server/v2/packets"
)

// silent takes what a session says, and does nothing.
type silent struct{ settled int }

func (*silent) Sent(mqttsession.Message, mqttsession.Sending)     {}
func (h *silent) Settled(mqttsession.Message, mqttsession.Result) { h.settled++ }
func (*silent) Up(*mqttwire.Packet)                               {}
func (*silent) Came(*mqttwire.Packet)                             {}
func (*silent) TooLarge(string, int)                              {}
func (*silent) Subscribed(uint16, *mqttwire.Packet)               {}
func (*silent) Ponged(int, time.Duration)                         {}

// Every identifier may be in use at once (section 2.2.1): each is given once, none is looked
// for without end, and where one is free again it is found.
func TestAllIdentifiersInUse(t *testing.T) {
	now := time.Unix(1, 0)
	h := &silent{}
	s := mqttsession.New(mqttsession.Options{InFlight: 65535, MaxPacket: 1000, FirstID: 40_000,
		Connect: mqttwire.Connect{Version: mqttwire.V5, ClientID: "buoy"}}, h)
	require.NoError(t, s.Open(now, mqttwire.Connect{Version: mqttwire.V5, ClientID: "buoy", CleanStart: true}))
	reply := func(pk packets.Packet) { require.NoError(t, s.Receive(now, brokertest.Encode(t, 5, pk))) }
	reply(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Connack}})
	s.Output()
	id, err := s.Subscribe(now, "ask", 1)
	require.NoError(t, err)
	used := map[uint16]bool{0: true, id: true}
	s.Output()
	for s.Room(1) {
		s.Publish(now, &note{topic: "t", qos: 1})
		got := brokertest.Decode(t, 5, s.Output()).PacketID
		require.False(t, used[got], "%d is given twice", got)
		used[got] = true
	}
	assert.Len(t, used, 65536)
	_, err = s.Subscribe(now, "more", 1)
	assert.EqualError(t, err, "all 65535 packet identifiers are in use")
	reply(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Puback}, PacketID: 7})
	require.True(t, s.Room(1))
	s.Publish(now, &note{topic: "t", qos: 1})
	assert.Equal(t, uint16(7), brokertest.Decode(t, 5, s.Output()).PacketID)
	assert.False(t, s.Room(1))
	assert.Equal(t, 1, h.settled)
}
