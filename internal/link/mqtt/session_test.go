package mqtt_test

import (
	"bytes"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/coder/websocket"
	"github.com/mochi-mqtt/server/v2/packets"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/brokertest"
	"runcrowd/internal/link"
	"runcrowd/internal/link/linktest"
	"runcrowd/internal/link/mqtt"
)

// What the reach check opens, the device goes on with: the broker sees one connection, and
// what it kept for the device goes to the device.
func TestTryTouchesNoSession(t *testing.T) {
	for _, version := range []byte{4, 5} {
		b := brokertest.New(t, version)
		cfg := config(b, int(version))
		cfg.CleanStart = false
		l, s := mqtt.New(cfg), &linktest.Sink{}
		id := link.Identity{Name: "buoy", ClientID: "buoy", Asks: []link.Ask{{Filter: "ask", QoS: 1}}}
		accepted := make(chan *brokertest.Peer)
		go func() {
			p, hello := b.Accept(packets.Packet{SessionPresent: true})
			assert.False(t, hello.Connect.Clean)
			p.Write(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Publish}, TopicName: "ask",
				Payload: []byte("of QoS 0")})
			p.Write(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Publish, Qos: 1}, PacketID: 7,
				TopicName: "ask", Payload: []byte("kept")})
			accepted <- p
		}()
		require.NoError(t, l.Try(t.Context(), id))
		require.NoError(t, l.Try(t.Context(), id), "it is open")
		p := <-accepted
		require.True(t, p.Silent(50*time.Millisecond))
		c := l.Connect(id, s)
		s.Has(t, "came ask of QoS 0")
		s.Has(t, "came ask kept")
		assert.Equal(t, packets.Subscribe, p.Read().FixedHeader.Type, "its own subscriptions are not known to stand")
		assert.Equal(t, uint16(7), p.Expect(packets.Puback).PacketID)
		c.Close(true)
		bye := p.Expect(packets.Disconnect)
		assert.False(t, bye.Properties.SessionExpiryIntervalFlag, "the session stays")
		p.Close()
		left, kept := l.Close()
		assert.Equal(t, 1, left)
		assert.Equal(t, map[byte]time.Duration{4: 0, 5: time.Minute}[version], kept)
	}
}

// A connection that nobody takes over is left without ending a session.
func TestAnAbandonedTry(t *testing.T) {
	b := brokertest.New(t, 5)
	l := mqtt.New(config(b, 5))
	accepted := make(chan *brokertest.Peer)
	go func() { p, _ := b.Accept(packets.Packet{}); accepted <- p }()
	require.NoError(t, l.Try(t.Context(), link.Identity{ClientID: "buoy"}))
	p := <-accepted
	l.Close()
	assert.False(t, p.Expect(packets.Disconnect).Properties.SessionExpiryIntervalFlag)
}

// A session outlives a round, and is ended, or left, when the device leaves for good.
func TestSessionsOverRounds(t *testing.T) {
	b := brokertest.New(t, 5)
	cfg := config(b, 5)
	cfg.EndSession = true
	l, s := mqtt.New(cfg), &linktest.Sink{}
	id := link.Identity{ClientID: "buoy", Asks: []link.Ask{{Filter: "ask"}}}
	c := l.Connect(id, s)
	p, hello := b.Accept(packets.Packet{})
	assert.True(t, hello.Connect.Clean)
	suback(p, p.Expect(packets.Subscribe))
	s.Has(t, "listens ask")
	c.Send(message(1, 2))
	first := publish(t, p, "m1").PacketID
	c.Close(false)
	s.Has(t, "1 no answer 0 no acknowledgement before the end of the round")
	assert.False(t, p.Expect(packets.Disconnect).Properties.SessionExpiryIntervalFlag, "the device comes back")
	p.Close()

	c = l.Connect(id, s)
	p, hello = b.Accept(packets.Packet{SessionPresent: true})
	assert.False(t, hello.Connect.Clean)
	s.Often(t, "up", 2)
	c.Send(message(2, 2))
	assert.NotEqual(t, first, publish(t, p, "m2").PacketID, "the broker may take it for m1, and no second subscription")
	c.Close(true)
	bye := p.Expect(packets.Disconnect)
	assert.True(t, bye.Properties.SessionExpiryIntervalFlag)
	assert.Zero(t, bye.Properties.SessionExpiryInterval)
	p.Close()
	left, _ := l.Close()
	assert.Zero(t, left)
}

// Version 3.1.1 ends a session by putting a clean one in its place.
func TestEndingASessionOfVersion311(t *testing.T) {
	b := brokertest.New(t, 4)
	cfg := config(b, 4)
	cfg.CleanStart, cfg.EndSession = false, true
	l := mqtt.New(cfg)
	s := &linktest.Sink{}
	c := l.Connect(link.Identity{ClientID: "buoy", Will: &link.Will{Topic: "gone"}}, s)
	p, hello := b.Accept(packets.Packet{})
	assert.False(t, hello.Connect.Clean)
	s.Has(t, "up")
	c.Close(true)
	p.Expect(packets.Disconnect)
	p.Close()
	p, hello = b.Accept(packets.Packet{})
	assert.True(t, hello.Connect.Clean)
	assert.False(t, hello.Connect.WillFlag)
	p.Expect(packets.Disconnect)
	p.Close()
	left, _ := l.Close()
	assert.Zero(t, left)
}

// A broker that answers PUBACK to QoS 2 takes it as QoS 1: the messages count as
// acknowledged, and it is told at once.
func TestQoS2TakenAsQoS1(t *testing.T) {
	b := brokertest.New(t, 4)
	cfg := config(b, 4)
	cfg.InFlight = 2
	c, s := connect(t, cfg)
	p, _ := b.Accept(packets.Packet{})
	const told = "PUBACK came in place of PUBREC: the broker took a message of QoS 2 as QoS 1"
	for i := uint64(1); i <= 5; i++ {
		c.Send(message(i, 2))
		p.Ack(packets.Puback, publish(t, p, fmt.Sprint("m", i)).PacketID, 0)
		s.Has(t, fmt.Sprintf("%d accepted 0 %s", i, told))
	}
	assert.Equal(t, 1, s.Count("remark "+told))
	assert.Zero(t, c.Open())
}

// A granted QoS that is lower than asked is told.
func TestALowerQoSIsGranted(t *testing.T) {
	b := brokertest.New(t, 4)
	_, s := connectAs(t, config(b, 4), link.Identity{Asks: []link.Ask{{Filter: "ask", QoS: 2}}})
	p, _ := b.Accept(packets.Packet{})
	id := p.Expect(packets.Subscribe).PacketID
	p.Write(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Suback}, PacketID: id, ReasonCodes: []byte{1}})
	s.Has(t, "remark the broker granted QoS 1 for ask; QoS 2 was asked for")
	s.Has(t, "listens ask")
}

// bad is a message of the stream 1 that a broker does not take: it closes the connection.
func bad(seq uint64, qos byte) *link.Message {
	m := message(seq, qos)
	m.Stream, m.Target = 1, "bad"
	return m
}

// picky accepts connections and closes each when a message comes on "bad".
func picky(b *brokertest.Broker, version byte, done <-chan struct{}, reason byte) {
	for {
		nc, err := b.Listener.Accept()
		if err != nil {
			return
		}
		p := brokertest.Serve(nc, version)
		for {
			pk, err := p.Next()
			if err != nil {
				break
			}
			if pk.FixedHeader.Type == packets.Publish && pk.TopicName == "bad" {
				if reason != 0 {
					p.Reply(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Disconnect}, ReasonCode: reason})
				}
				break
			}
		}
		nc.Close()
		select {
		case <-done:
			return
		default:
		}
	}
}

// A message that makes the broker close the connection is found, sent alone, and given up:
// the others pass, and a reading that does so again and again is held back.
func TestTheMessageThatClosesConnections(t *testing.T) {
	for _, c := range []struct {
		version, reason byte
		said            string
	}{
		{4, 0, "no answer 0 the broker closed the connection 4 times right after it"},
		{5, 0, "no answer 0 the broker closed the connection 4 times right after it"},
		{5, 0x95, "refused 149 DISCONNECT, 4 times right after it: the broker disconnected: packet too large (0x95)"},
	} {
		b := brokertest.New(t, c.version)
		done := make(chan struct{})
		go picky(b, c.version, done, c.reason)
		conn, s := connect(t, config(b, int(c.version)))
		s.Has(t, "up")
		conn.Send(message(1, 1))
		conn.Send(bad(2, 1))
		conn.Send(message(3, 1))
		conn.Send(message(4, 1))
		s.Has(t, "1 accepted 0 ")
		s.Has(t, "2 "+c.said)
		s.Has(t, "3 accepted 0 ")
		s.Has(t, "4 accepted 0 ")
		all := strings.Join(s.All(), "\n")
		assert.Contains(t, all, "; after 2 (1)")
		assert.Contains(t, all, "; after 2 (4)")
		assert.NotContains(t, all, "; after 3", "an innocent is blamed")
		conn.Send(bad(5, 1))
		s.Has(t, "5 "+c.said)
		conn.Send(message(6, 1))
		s.Has(t, "6 accepted 0 ")
		conn.Send(bad(7, 1))
		conn.Send(message(8, 1))
		s.Has(t, "8 accepted 0 ")
		conn.Send(bad(9, 1))
		require.Eventually(t, func() bool {
			return strings.Contains(strings.Join(s.All(), "\n"), "9 unsent 0 this reading is held back")
		}, 10*time.Second, time.Millisecond, s.All())
		close(done)
	}
}

// The same with QoS 0, where nothing is acknowledged: it is seen from what is sent just
// before each closing, and cleared by an answer to a ping.
func TestTheMessageThatClosesConnectionsOfQoS0(t *testing.T) {
	b := brokertest.New(t, 5)
	done := make(chan struct{})
	defer close(done)
	go picky(b, 5, done, 0)
	c, s := connect(t, config(b, 5))
	var seq uint64
	for held := false; !held; held = strings.Contains(strings.Join(s.All(), "\n"), "this reading is held back") {
		require.Less(t, seq, uint64(100), s.All())
		seq++
		s.Often(t, "up", strings.Count("\n"+strings.Join(s.All(), "\n"), "\ndown ")+1)
		c.Send(message(seq, 1))
		s.Has(t, fmt.Sprintf("%d accepted 0 ", seq))
		seq++
		downs := strings.Count(strings.Join(s.All(), "\n"), "down ")
		c.Send(bad(seq, 0))
		require.Eventually(t, func() bool {
			all := strings.Join(s.All(), "\n")
			return strings.Count(all, "down ") > downs || strings.Contains(all, "held back")
		}, 10*time.Second, time.Millisecond)
	}
	assert.LessOrEqual(t, seq, uint64(12))
	c.Send(message(seq+1, 1))
	s.Has(t, fmt.Sprintf("%d accepted 0 ", seq+1))
}

// A flaky network takes nobody's reading away.
func TestAFlakyNetworkHoldsNothingBack(t *testing.T) {
	b := brokertest.New(t, 5)
	c, s := connect(t, config(b, 5))
	seq := uint64(0)
	for range 12 {
		p, _ := b.Accept(packets.Packet{SessionPresent: false})
		for range 3 {
			seq++
			c.Send(message(seq, 1))
			p.Ack(packets.Puback, p.Expect(packets.Publish).PacketID, 0)
		}
		s.Has(t, fmt.Sprintf("%d accepted 0 ", seq))
		seq++
		c.Send(message(seq, 0))
		p.Expect(packets.Publish)
		p.Close()
	}
	assert.NotContains(t, strings.Join(s.All(), "\n"), "held back")
}

// An acknowledgement that does not come is a reason to ask; a connection that does not
// answer that is dead, long before the keep-alive time is over.
func TestADeadConnectionIsFoundSoon(t *testing.T) {
	b := brokertest.New(t, 5)
	cfg := config(b, 5)
	cfg.KeepAlive, cfg.Timeout = 10*time.Minute, 10*time.Second
	c, s := connect(t, cfg)
	p, _ := b.Accept(packets.Packet{})
	s.Has(t, "up")
	c.Send(message(1, 1))
	publish(t, p, "m1")
	now := time.Now()
	assert.LessOrEqual(t, c.Tick(now), 5*time.Second)
	c.Tick(now.Add(5100 * time.Millisecond))
	p.Expect(packets.Pingreq)
	c.Tick(now.Add(16 * time.Second)) // this look comes late itself
	c.Tick(now.Add(18 * time.Second))
	s.Has(t, "down the broker did not answer PINGREQ within 10s: the connection was dead")
	p, _ = b.Accept(packets.Packet{SessionPresent: true})
	p.Ack(packets.Puback, publish(t, p, "m1").PacketID, 0)
	s.Has(t, "1 accepted 0 ")
}

// Over WebSocket the subprotocol is mqtt, packets are binary, and may lie across frames as
// they will (section 6).
func TestWebSocket(t *testing.T) {
	for _, version := range []byte{4, 5} {
		srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			assert.Equal(t, "mqtt", r.Header.Get("Sec-WebSocket-Protocol"))
			ws, err := websocket.Accept(w, r, &websocket.AcceptOptions{Subprotocols: []string{"mqtt"}})
			if !assert.NoError(t, err) {
				return
			}
			nc := &dribble{websocket.NetConn(t.Context(), ws, websocket.MessageBinary)}
			p := brokertest.Serve(nc, version)
			for {
				if _, err := p.Next(); err != nil {
					return
				}
			}
		}))
		cfg := mqtt.Config{Name: "sea", Scheme: "ws", Address: srv.Listener.Addr().String(), Path: "/mqtt",
			Version: int(version), KeepAlive: time.Minute, CleanStart: true,
			InFlight: 20, Backlog: 100, ConnectTimeout: 5 * time.Second,
			BackOff: [2]time.Duration{time.Millisecond, 10 * time.Millisecond}}
		l := mqtt.New(cfg)
		require.NoError(t, l.Try(t.Context(), link.Identity{ClientID: "buoy"}))
		s := &linktest.Sink{}
		c := l.Connect(link.Identity{ClientID: "buoy"}, s)
		for i := uint64(1); i <= 3; i++ {
			m := message(i, byte(i)%3)
			m.Body = bytes.Repeat([]byte("x"), 3000)
			c.Send(m)
		}
		s.Has(t, "1 accepted 0 ")
		s.Has(t, "2 accepted 0 ")
		s.Has(t, "3 not asked 0 ")
		c.Close(true)
		l.Close()
		srv.Close()
	}
}

// dribble writes byte by byte.
type dribble struct{ net.Conn }

func (d *dribble) Write(b []byte) (int, error) {
	for i := range b {
		if _, err := d.Conn.Write(b[i : i+1]); err != nil {
			return i, err
		}
	}
	return len(b), nil
}

// A WebSocket that is refused leaves no connection and no goroutine behind, however often it
// is tried.
func TestRefusedWebSocketsLeaveNothing(t *testing.T) {
	var mu sync.Mutex
	open := map[net.Conn]bool{}
	srv := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		http.Error(w,
			"who are you", http.StatusForbidden)
	}))
	srv.Config.ConnState = func(nc net.Conn, s http.ConnState) {
		mu.Lock()
		defer mu.Unlock()
		if open[nc] = true; s == http.StateClosed || s == http.StateHijacked {
			delete(open, nc)
		}
	}
	srv.Start()
	defer srv.Close()
	l := mqtt.New(mqtt.Config{Name: "sea", Scheme: "ws", Address: srv.Listener.Addr().String(), Path: "/mqtt", Version: 5,
		KeepAlive: time.Minute, InFlight: 20, Backlog: 100, ConnectTimeout: 5 * time.Second,
		BackOff: [2]time.Duration{time.Millisecond, 10 * time.Millisecond}})
	before := runtime.NumGoroutine()
	for range 30 {
		assert.ErrorContains(t, l.Try(t.Context(), link.Identity{ClientID: "buoy"}), "403")
	}
	assert.Eventually(t, func() bool {
		mu.Lock()
		defer mu.Unlock()
		return len(open) == 0 && runtime.NumGoroutine() < before+30
	}, 20*time.Second, 10*time.Millisecond, "connections are left open")
	l.Close()
}

func suback(p *brokertest.Peer, sub packets.Packet) {
	p.Write(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Suback}, PacketID: sub.PacketID, ReasonCodes: []byte{sub.Filters[0].Qos}})
}

// A session that was lost before a subscription was answered may stand without it: the device
// subscribes again, whatever the broker says of the session. Where all were answered it does not.
func TestASessionWithoutItsSubscriptions(t *testing.T) {
	for _, version := range []byte{4, 5} {
		b := brokertest.New(t, version)
		cfg := config(b, int(version))
		cfg.CleanStart = false
		l, s := mqtt.New(cfg), &linktest.Sink{}
		c := l.Connect(link.Identity{ClientID: "buoy", Asks: []link.Ask{{Filter: "ask", QoS: 1}, {Filter: "all", QoS: 1}}}, s)
		p, _ := b.Accept(packets.Packet{})
		suback(p, p.Expect(packets.Subscribe))
		p.Expect(packets.Subscribe)
		p.Close()
		p, _ = b.Accept(packets.Packet{SessionPresent: true})
		suback(p, p.Expect(packets.Subscribe))
		suback(p, p.Expect(packets.Subscribe))
		s.Often(t, "listens all", 1)
		p.Close()
		p, _ = b.Accept(packets.Packet{SessionPresent: true})
		assert.True(t, p.Silent(100*time.Millisecond), "they stand")
		c.Close(true)
		p.Close()
		l.Close()
	}
}

// A session that an earlier process left, with identifiers of QoS 2 of which nothing is known here, is begun anew: the
// broker would take new messages for the old ones. Without QoS 2 there is nothing that it could mistake.
func TestASessionOfAnEarlierProcess(t *testing.T) {
	for _, version := range []int{4, 5} {
		for _, exactly := range []bool{true, false} {
			b := brokertest.New(t, byte(version))
			cfg := config(b, version)
			cfg.CleanStart, cfg.SessionExpiry = false, time.Hour
			c, s := connectAs(t, cfg, link.Identity{Exactly: exactly})
			p, hello := b.Accept(packets.Packet{SessionPresent: true})
			assert.False(t, hello.Connect.Clean)
			if exactly {
				assert.Equal(t, packets.Disconnect, p.Read().FixedHeader.Type)
				p.Close()
				p, hello = b.Accept(packets.Packet{})
				assert.True(t, hello.Connect.Clean, "it begins anew")
			}
			c.Send(message(1, 2))
			m := publish(t, p, "m1")
			assert.False(t, m.FixedHeader.Dup)
			p.Ack(packets.Pubrec, m.PacketID, 0)
			assert.Equal(t, packets.Pubrel, p.Read().FixedHeader.Type)
			p.Ack(packets.Pubcomp, m.PacketID, 0)
			s.Has(t, "1 accepted 0 ")
			p.Close()
			_, hello = b.Accept(packets.Packet{SessionPresent: true})
			assert.False(t, hello.Connect.Clean, "its own session it takes up")
		}
	}
}
