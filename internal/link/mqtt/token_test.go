package mqtt_test

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
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

// tokens gives token-1, token-2, …; each is to be changed after a time, 0 for never.
type tokens struct {
	mu    sync.Mutex
	n     int
	after time.Duration
	fails bool
}

func (p *tokens) Token(context.Context) (string, time.Time, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.fails {
		return "", time.Time{}, &link.TokenError{What: "no access token: the server is asleep"}
	}
	p.n++
	if p.after == 0 {
		return fmt.Sprint("token-", p.n), time.Time{}, nil
	}
	return fmt.Sprint("token-", p.n), time.Now().Add(p.after), nil
}

func connectAs(t *testing.T, cfg mqtt.Config, id link.Identity) (link.Conn, *linktest.Sink) {
	l := mqtt.New(cfg)
	s := &linktest.Sink{}
	id.Name, id.ClientID = "buoy", "buoy"
	c := l.Connect(id, s)
	t.Cleanup(func() { c.Close(true); l.Close() })
	return c, s
}

// A device whose token runs out sends nothing new, waits for what is in flight,
// leaves its connection but not its session, and comes back with a new token.
func TestTokensAreRenewedWithoutLoss(t *testing.T) {
	b := brokertest.New(t, 5)
	source := &tokens{after: 600 * time.Millisecond}
	c, s := connectAs(t, config(b, 5), link.Identity{Username: "u-" + link.TokenPlace, Password: link.TokenPlace,
		Tokens: source})
	p, hello := b.Accept(packets.Packet{})
	assert.Equal(t, "token-1", string(hello.Connect.Password))
	assert.Equal(t, "u-token-1", string(hello.Connect.Username))
	c.Send(message(1, 1))
	first := publish(t, p, "m1")
	time.Sleep(2 * time.Second) // the token runs out while m1 is in flight, and it waits 5s for that
	c.Send(message(2, 1))
	require.True(t, p.Silent(200*time.Millisecond), "nothing new on a connection that is to be left, and no leaving "+
		"before m1 is acknowledged")
	source.mu.Lock()
	source.after = 0
	source.mu.Unlock()
	p.Ack(packets.Puback, first.PacketID, 0)
	bye := p.Expect(packets.Disconnect)
	assert.False(t, bye.Properties.SessionExpiryIntervalFlag, "the session stays")
	p.Close()
	p, hello = b.Accept(packets.Packet{SessionPresent: true})
	assert.Equal(t, "token-2", string(hello.Connect.Password))
	assert.False(t, hello.Connect.Clean)
	p.Ack(packets.Puback, publish(t, p, "m2").PacketID, 0)
	s.Has(t, "2 accepted 0 ")
	assert.Equal(t, []string{"up", "1 accepted 0 ", "renewed", "2 accepted 0 "}, s.All())
}

func TestATokenThatCannotBeHad(t *testing.T) {
	b := brokertest.New(t, 5)
	source := &tokens{fails: true}
	_, s := connectAs(t, config(b, 5), link.Identity{Password: link.TokenPlace, Tokens: source})
	s.Has(t, "down no access token: the server is asleep")
	source.mu.Lock()
	source.fails = false
	source.mu.Unlock()
	b.Accept(packets.Packet{})
	s.Has(t, "up")

	err := mqtt.New(config(b, 5)).Try(t.Context(), link.Identity{Tokens: &tokens{fails: true}})
	var reach *link.ReachError
	require.True(t, errors.As(err, &reach))
	assert.Equal(t, "no access token: the server is asleep", reach.What)
}

// What a broker says of a token is told without the token.
func TestTokensAreNotTold(t *testing.T) {
	b := brokertest.New(t, 5)
	_, s := connectAs(t, config(b, 5), link.Identity{Password: link.TokenPlace, Tokens: &tokens{}})
	b.Accept(packets.Packet{ReasonCode: 0x87, Properties: packets.Properties{ReasonString: "token-1 is no good"}})
	s.Has(t, "down the broker refused the connection: not authorized (0x87): “«secret» is no good”")
}

// A topic goes out once with its number, then as the number alone: as many topics as
// both sides allow, and from the beginning on every new connection.
func TestTopicAliases(t *testing.T) {
	b := brokertest.New(t, 5)
	cfg := config(b, 5)
	cfg.TopicAliases = 10
	c, _ := connectAs(t, cfg, link.Identity{})
	p, _ := b.Accept(packets.Packet{Properties: packets.Properties{TopicAliasMaximum: 2}})
	send := func(topics ...string) (got []string) {
		for i, topic := range topics {
			m := message(uint64(i+1), 1)
			m.Target = topic
			m.MQTT.User, m.MQTT.Expiry = []link.Header{{Name: "unit", Value: "m"}}, 30
			c.Send(m)
			pk := p.Expect(packets.Publish)
			assert.Equal(t, uint32(30), pk.Properties.MessageExpiryInterval)
			assert.Equal(t, []packets.UserProperty{{Key: "unit", Val: "m"}}, pk.Properties.User)
			p.Ack(packets.Puback, pk.PacketID, 0)
			got = append(got, fmt.Sprintf("%s %d", pk.TopicName, pk.Properties.TopicAlias))
		}
		return got
	}
	assert.Equal(t, []string{"a 1", "b 2", "c 0", " 1", " 2", "c 0"}, send("a", "b", "c", "a", "b", "c"))
	p.Close()
	p, _ = b.Accept(packets.Packet{Properties: packets.Properties{TopicAliasMaximum: 2}})
	assert.Equal(t, []string{"b 1", " 1"}, send("b", "b"))
}

// After DISCONNECT nothing is sent: what comes due while the connection is left waits
// for the next one, and what has no acknowledgement is not lost.
func TestNothingFollowsLeaving(t *testing.T) {
	b := brokertest.New(t, 5)
	source := &tokens{after: 600 * time.Millisecond}
	c, s := connectAs(t, config(b, 5), link.Identity{Password: link.TokenPlace, Tokens: source,
		Asks: []link.Ask{{Filter: "ask", QoS: 1}}})
	p, _ := b.Accept(packets.Packet{})
	suback(p, p.Expect(packets.Subscribe))
	s.Has(t, "listens ask")
	source.mu.Lock()
	source.after = 0
	source.mu.Unlock()
	p.Expect(packets.Disconnect)
	c.Send(message(1, 0))
	require.True(t, p.Silent(100*time.Millisecond))
	assert.NotContains(t, s.All(), "1 not asked 0 ")
	p.Close()
	p, _ = b.Accept(packets.Packet{SessionPresent: true})
	publish(t, p, "m1") // and no second subscription in a session that was kept
	s.Has(t, "1 not asked 0 ")
	p.Close()
	p, _ = b.Accept(packets.Packet{})
	p.Expect(packets.Subscribe)
}

// A broker that refers to another is told of; where the file says so, it is followed:
// when it refuses a connection, and when it ends one.
func TestRedirects(t *testing.T) {
	home, other := brokertest.New(t, 5), brokertest.New(t, 5)
	refer := packets.Packet{ReasonCode: 0x9c, Properties: packets.Properties{ServerReference: other.Addr().String()}}
	_, s := connectAs(t, config(home, 5), link.Identity{})
	home.Accept(refer)
	s.Has(t, "down the broker refused the connection: use another server (0x9C): it refers to "+other.Addr().String())

	home = brokertest.New(t, 5)
	cfg := config(home, 5)
	cfg.Redirects = true
	_, s = connectAs(t, cfg, link.Identity{})
	home.Accept(refer)
	p, hello := other.Accept(packets.Packet{})
	assert.Equal(t, "buoy", hello.Connect.ClientIdentifier)
	s.Has(t, "up")
	p.Close() // and home again
	p, _ = home.Accept(packets.Packet{})
	refer.FixedHeader.Type, refer.ReasonCode = packets.Disconnect, 0x9d
	p.Write(refer)
	other.Accept(packets.Packet{})
	s.Often(t, "up", 3)

	done := make(chan error)
	l := mqtt.New(cfg)
	go func() { done <- l.Try(t.Context(), link.Identity{Name: "buoy", ClientID: "try"}) }()
	refer.FixedHeader.Type, refer.ReasonCode = packets.Connack, 0x9c
	home.Accept(refer)
	other.Accept(packets.Packet{})
	assert.NoError(t, <-done)
}

// Commands come by subscriptions; a QoS 2 message is one command, however often the
// broker sends it before it is released.
func TestCommandsCome(t *testing.T) {
	b := brokertest.New(t, 5)
	will := &link.Will{Topic: "harbour/gone", Body: []byte("gone"), QoS: 1}
	c, s := connectAs(t, config(b, 5), link.Identity{Will: will,
		Asks: []link.Ask{{Filter: "ask/buoy", QoS: 2}, {Filter: "ask/all", QoS: 1}}})
	p, hello := b.Accept(packets.Packet{})
	assert.Equal(t, "harbour/gone", hello.Connect.WillTopic)
	assert.Equal(t, "gone", string(hello.Connect.WillPayload))
	for i, code := range []byte{2, 0x87} {
		sub := p.Expect(packets.Subscribe)
		assert.Equal(t, []string{"ask/buoy", "ask/all"}[i], sub.Filters[0].Filter)
		p.Write(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Suback}, PacketID: sub.PacketID,
			ReasonCodes: []byte{code}})
	}
	s.Has(t, "listens ask/buoy")
	s.Has(t, "listens ask/all not authorized (0x87)")
	ask := packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Publish, Qos: 2}, TopicName: "ask/buoy",
		PacketID: 9, Payload: []byte("{}")}
	p.Write(ask)
	p.Expect(packets.Pubrec)
	ask.FixedHeader.Dup = true
	p.Write(ask)
	p.Expect(packets.Pubrec)
	p.Ack(packets.Pubrel, 9, 0)
	p.Expect(packets.Pubcomp)
	assert.Equal(t, 1, s.Count("came ask/buoy {}"))
	p.Write(ask) // the number is free again
	p.Expect(packets.Pubrec)
	assert.Equal(t, 2, s.Count("came ask/buoy {}"))
	c.Close(true)
	bye := p.Expect(packets.Disconnect)
	assert.Equal(t, byte(0), bye.ReasonCode, "no will after a normal end")
	assert.False(t, slices.ContainsFunc(s.All(), func(l string) bool { return l == "down the broker disconnected" }))
}
