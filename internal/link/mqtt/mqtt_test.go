package mqtt_test

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/mochi-mqtt/server/v2/packets"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/brokertest"
	"runcrowd/internal/link"
	"runcrowd/internal/link/linktest"
	"runcrowd/internal/link/mqtt"
)

// publish waits for a PUBLISH with a payload.
func publish(t *testing.T, p *brokertest.Peer, payload string) packets.Packet {
	t.Helper()
	pk := p.Expect(packets.Publish)
	require.Equal(t, payload, string(pk.Payload))
	return pk
}

func config(b *brokertest.Broker, version int) mqtt.Config {
	return mqtt.Config{Name: "sea", Address: b.Addr().String(), Version: version, KeepAlive: time.Minute, CleanStart: true,
		SessionExpiry: time.Minute, InFlight: 20, Backlog: 100, ConnectTimeout: 5 * time.Second,
		BackOff: [2]time.Duration{time.Millisecond, 10 * time.Millisecond}}
}

func message(seq uint64, qos byte) *link.Message {
	return &link.Message{Seq: seq, Target: "harbour/buoy", MQTT: link.MQTT{QoS: qos}, Body: []byte(fmt.Sprint("m", seq))}
}

func connect(t *testing.T, cfg mqtt.Config) (link.Conn, *linktest.Sink) {
	return connectAs(t, cfg, link.Identity{})
}

func TestAcknowledgementsAreMatched(t *testing.T) {
	for _, version := range []byte{4, 5} {
		b := brokertest.New(t, version)
		c, s := connect(t, config(b, int(version)))
		c.Send(message(1, 1)) // before the connection is up: it waits
		p, hello := b.Accept(packets.Packet{})
		assert.True(t, hello.Connect.Clean)
		for i := uint64(2); i <= 4; i++ {
			c.Send(message(i, 1))
		}
		c.Send(message(5, 0))
		c.Send(message(6, 2))
		ids := map[int]uint16{}
		for i := 1; i <= 4; i++ {
			ids[i] = publish(t, p, fmt.Sprint("m", i)).PacketID
		}
		publish(t, p, "m5")
		id6 := publish(t, p, "m6").PacketID
		s.Has(t, "5 not asked 0 ")
		for _, i := range []int{3, 1, 4} { // in any order
			p.Ack(packets.Puback, ids[i], 0)
			s.Has(t, fmt.Sprintf("%d accepted 0 ", i))
		}
		p.Ack(packets.Pubrec, ids[2], 0) // of the wrong kind: it acknowledges nothing
		p.Ack(packets.Puback, (ids[1]+1000)%60000+1, 0)
		p.Ack(packets.Pubrec, id6, 0)
		rel := p.Read()
		assert.Equal(t, packets.Pubrel, rel.FixedHeader.Type)
		assert.Equal(t, 2, c.Open(), "2 and 6 are open")
		p.Ack(packets.Pubcomp, id6, 0)
		s.Has(t, "6 accepted 0 ")
		if version == 5 {
			p.Ack(packets.Puback, ids[2], 0x97)
			s.Has(t, "2 refused 151 PUBACK quota exceeded (0x97)")
		} else {
			c.Close(true)
			s.Has(t, "2 no answer 0 no acknowledgement before the end of the round")
			assert.Equal(t, packets.Disconnect, p.Read().FixedHeader.Type)
		}
	}
}

// A broker that kept the session gets the same packets again, with DUP and their
// identifiers, in their order; what it had taken of QoS 2 is only released.
func TestResendOnAKeptSession(t *testing.T) {
	b := brokertest.New(t, 5)
	c, s := connect(t, config(b, 5))
	p, _ := b.Accept(packets.Packet{})
	c.Send(message(1, 1))
	c.Send(message(2, 2))
	c.Send(message(3, 2))
	first, second, third := publish(t, p, "m1"), publish(t, p, "m2"), publish(t, p, "m3")
	p.Ack(packets.Pubrec, second.PacketID, 0)
	assert.Equal(t, packets.Pubrel, p.Read().FixedHeader.Type)
	p.Close()
	p, hello := b.Accept(packets.Packet{SessionPresent: true})
	assert.False(t, hello.Connect.Clean, "it asks for its session")
	rel := p.Read()
	assert.Equal(t, packets.Pubrel, rel.FixedHeader.Type)
	assert.Equal(t, second.PacketID, rel.PacketID)
	again := publish(t, p, "m1")
	assert.True(t, again.FixedHeader.Dup)
	assert.Equal(t, first.PacketID, again.PacketID)
	again = publish(t, p, "m3")
	assert.True(t, again.FixedHeader.Dup)
	assert.Equal(t, third.PacketID, again.PacketID)
	p.Ack(packets.Pubcomp, second.PacketID, 0)
	p.Ack(packets.Puback, first.PacketID, 0)
	p.Ack(packets.Pubrec, third.PacketID, 0x91) // "in use": taken the first time
	assert.Equal(t, packets.Pubrel, p.Read().FixedHeader.Type)
	p.Ack(packets.Pubcomp, third.PacketID, 0x92) // completed before: no error here (section 3.7.2.1)
	for i := 1; i <= 2; i++ {
		s.Has(t, fmt.Sprintf("%d accepted 0 ", i))
	}
	s.Has(t, "3 accepted 146 packet identifier not found (0x92)")
	assert.Equal(t, map[uint64]int{1: 2, 2: 1, 3: 2}, s.Sendings())
	s.Has(t, "down the platform closed the connection; after 1 (1)")
}

// A broker that forgot the session gets new packets; a QoS 2 message that it had
// taken is not published a second time.
func TestResendOnAForgottenSession(t *testing.T) {
	b := brokertest.New(t, 4)
	c, s := connect(t, config(b, 4))
	p, _ := b.Accept(packets.Packet{})
	c.Send(message(1, 1))
	c.Send(message(2, 2))
	publish(t, p, "m1")
	p.Ack(packets.Pubrec, publish(t, p, "m2").PacketID, 0)
	p.Read()
	p.Close()
	p, hello := b.Accept(packets.Packet{})
	assert.True(t, hello.Connect.Clean)
	again := publish(t, p, "m1")
	assert.False(t, again.FixedHeader.Dup, "a new packet, not a copy of one that the broker never saw")
	s.Has(t, "1 anew")
	p.Ack(packets.Puback, again.PacketID, 0)
	s.Has(t, "1 accepted 0 ")
	s.Has(t, "2 no answer 0 PUBREC came, then the connection was lost, and with it the session: it was a clean one "+
		"(clean_start)")

	// In version 5 it is the broker that forgot it. A QoS 2 message of which nothing is
	// known is not published again: it could be stored twice.
	b = brokertest.New(t, 5)
	c, s = connect(t, config(b, 5))
	p, _ = b.Accept(packets.Packet{})
	c.Send(message(1, 2))
	c.Send(message(2, 2))
	p.Ack(packets.Pubrec, publish(t, p, "m1").PacketID, 0)
	p.Read()
	p.Read()
	p.Close()
	p, hello = b.Accept(packets.Packet{})
	assert.False(t, hello.Connect.Clean)
	s.Has(t, "1 no answer 0 PUBREC came, then the broker lost the session")
	s.Has(t, "2 no answer 0 it was sent, then the connection was lost, and with it the session: whether the broker had "+
		"taken it cannot be told, and to send it again could store it twice (QoS 2)")
	require.True(t, p.Silent(100*time.Millisecond))
}

// What the broker announces is obeyed: its receive maximum, its largest packet,
// its highest QoS.
func TestLimitsOfTheBrokerAreObeyed(t *testing.T) {
	b := brokertest.New(t, 5)
	c, s := connect(t, config(b, 5))
	p, _ := b.Accept(packets.Packet{Properties: packets.Properties{ReceiveMaximum: 2, MaximumPacketSize: 60,
		MaximumQos: 1, MaximumQosFlag: true}})
	for i := uint64(1); i <= 4; i++ {
		c.Send(message(i, 1))
	}
	first := publish(t, p, "m1")
	second := publish(t, p, "m2")
	require.True(t, p.Silent(100*time.Millisecond), "a third is in flight, two are allowed")
	p.Ack(packets.Puback, first.PacketID, 0)
	third := publish(t, p, "m3")
	c.Send(message(5, 2))
	big := message(6, 1)
	big.Body = make([]byte, 100)
	c.Send(big)
	p.Ack(packets.Puback, second.PacketID, 0)
	publish(t, p, "m4")
	p.Ack(packets.Puback, third.PacketID, 0)
	s.Has(t, "5 unsent 155 the broker takes QoS 1 at most, the message has QoS 2")
	s.Has(t, "6 unsent 149 the packet has 119 bytes, the broker takes 60 at most")
}

func TestBacklogIsBounded(t *testing.T) {
	b := brokertest.New(t, 5) // listens, but never answers
	cfg := config(b, 5)
	cfg.Backlog = 3
	c, s := connect(t, cfg)
	for i := uint64(1); i <= 4; i++ {
		c.Send(message(i, 1))
	}
	s.Has(t, "4 unsent 0 the backlog of the device was full (3 messages)")
	c.Close(true)
	s.Has(t, "1 unsent 0 still waiting for the connection at the end of the round")
	c.Send(message(9, 1))
	s.Has(t, "9 unsent 0 the device had left")
	assert.Zero(t, c.Open())
}

// What is handed over while the connection is gone, though its end was not read yet, waits
// for the next one: at QoS 0 it would be lost.
func TestLostConnectionsAreNotWrittenTo(t *testing.T) {
	b := brokertest.New(t, 5)
	c, s := connect(t, config(b, 5))
	p, _ := b.Accept(packets.Packet{})
	s.Has(t, "up")
	c.Lost()
	c.Send(message(1, 0))
	require.True(t, p.Silent(100*time.Millisecond))
	p.Close()
	p, _ = b.Accept(packets.Packet{})
	publish(t, p, "m1")
	c.Send(message(2, 0))
	publish(t, p, "m2")
}

// Silence is broken by a PINGREQ; a broker that does not answer is given up.
func TestKeepAlive(t *testing.T) {
	b := brokertest.New(t, 5)
	cfg := config(b, 5)
	cfg.KeepAlive = 2 * time.Second
	c, s := connect(t, cfg)
	p, hello := b.Accept(packets.Packet{})
	assert.Equal(t, uint16(2), hello.Connect.Keepalive)
	s.Has(t, "up")
	now := time.Now()
	assert.InDelta(t, 1500*time.Millisecond, c.Tick(now), float64(100*time.Millisecond))
	c.Tick(now.Add(1900 * time.Millisecond))
	assert.Equal(t, packets.Pingreq, p.Read().FixedHeader.Type)
	p.Write(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Pingresp}})
	c.Send(message(1, 1)) // when it is acknowledged, the PINGRESP before that was read
	p.Ack(packets.Puback, publish(t, p, "m1").PacketID, 0)
	s.Has(t, "1 accepted 0 ")
	c.Tick(time.Now().Add(2 * time.Second))
	assert.Equal(t, packets.Pingreq, p.Read().FixedHeader.Type)
	c.Tick(time.Now().Add(10 * time.Second)) // this look comes late itself
	c.Tick(time.Now().Add(20 * time.Second)) // no answer in all this time
	p2, _ := b.Accept(packets.Packet{})
	require.NotNil(t, p2)
}

func TestRefusals(t *testing.T) {
	b := brokertest.New(t, 5)
	l := mqtt.New(config(b, 5))
	defer l.Close()
	go b.Accept(packets.Packet{ReasonCode: 0x86})
	err := l.Try(context.Background(), link.Identity{Name: "buoy", ClientID: "buoy", Password: "secret-99"})
	var reach *link.ReachError
	require.ErrorAs(t, err, &reach)
	assert.Contains(t, err.Error(), "the broker refused the connection of buoy: bad user name or password (0x86); check "+
		"username and password")
	assert.NotContains(t, err.Error(), "secret-99")

	// A session taken over is told with its reason, and the device comes back.
	_, s := connect(t, config(b, 5))
	p, _ := b.Accept(packets.Packet{})
	p.Write(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Disconnect}, ReasonCode: 0x8e})
	s.Has(t, "down the broker disconnected: session taken over by another connection with the same client id (0x8E)")
	b.Accept(packets.Packet{})
}

// A broker that stops reading blocks nobody: Send returns, and what does not fit
// into the connection waits in the backlog.
func TestAStuckBrokerBlocksNobody(t *testing.T) {
	b := brokertest.New(t, 5)
	cfg := config(b, 5)
	cfg.Backlog = 1000
	c, s := connect(t, cfg)
	p, _ := b.Accept(packets.Packet{})
	s.Has(t, "up")
	const n, size = 400, 64 << 10
	done := make(chan struct{})
	go func() {
		defer close(done)
		for i := uint64(1); i <= n; i++ {
			m := message(i, 0)
			m.Body = make([]byte, size)
			c.Send(m)
		}
	}()
	select {
	case <-done:
	case <-time.After(30 * time.Second):
		t.Fatal("Send waits for the broker")
	}
	assert.Positive(t, c.Open(), "not all of it can have left")
	for range n {
		pk := p.Read()
		require.Len(t, pk.Payload, size)
	}
	require.Eventually(t, func() bool { return c.Open() == 0 }, 10*time.Second, time.Millisecond)
}
