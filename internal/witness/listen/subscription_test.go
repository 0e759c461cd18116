package listen_test

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/mochi-mqtt/server/v2/packets"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/brokertest"
	"runcrowd/internal/credential"
	"runcrowd/internal/crowd"
	"runcrowd/internal/crowd/file"
	"runcrowd/internal/fleet"
	"runcrowd/internal/ledger"
	"runcrowd/internal/memnet"
	"runcrowd/internal/recording"
	"runcrowd/internal/witness/hearing"
	"runcrowd/internal/witness/listen"
	"runcrowd/internal/witness/match"
)

// ear is a subscribing witness and the ledger it writes into.
type ear struct {
	hearing.Witness
	t    *testing.T
	w    *ledger.Writer
	path string
	end  func() error // stops the witness and closes its ledger, once
}

// broker is one on a network in memory.
type broker struct {
	*brokertest.Broker
	net *memnet.Net
}

func newBroker(t *testing.T, version byte) *broker {
	n := memnet.New()
	l, err := n.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	return &broker{brokertest.On(t, version, l), n}
}

// oneBuoy is a fleet of one buoy with one witness.
func oneBuoy(t *testing.T, address string) *fleet.Fleet {
	t.Helper()
	c, err := file.Parse("x", []byte(`
crowd: harbour
links: {sea: {mqtt: "mqtt://`+address+`"}}
kinds: {buoy: {readings: {state: {every: 1s, topic: "harbour/${device}/state", fields: {a: 1}}}}}
devices: [{kind: buoy}]
plan: {for: 1s}
witnesses: {ear: {proves: received, subscribe: harbour/#}}`), file.Sources{})
	require.NoError(t, err)
	f, err := fleet.Build(c, credential.New(c))
	require.NoError(t, err)
	return f
}

const runID = "k3f9a2xy"

func newListener(t *testing.T, b *broker, version string) *ear {
	t.Helper()
	return listenerOf(t, b, version, "witnesses: {ear: {proves: received, subscribe: harbour/#, wait: 400ms, "+
		"watch_copies: 10ms}}")
}

// listenerOf is one that the end of a crowd file describes.
func listenerOf(t *testing.T, b *broker, version, witnesses string, kind ...string) *ear {
	t.Helper()
	c, err := file.Parse("x", []byte(fmt.Sprintf(`
crowd: harbour
links: {sea: {mqtt: mqtt://%s, version: %s}}
kinds: {buoy: {%sreadings: {state: {every: 1s, topic: "harbour/${device}/state", fields: {a: 1}}}}}
devices: [{kind: buoy, count: 2, name: "buoy-${n}"}]
plan: {for: 1s}
%s`, b.Addr(), version, strings.Join(kind, ""), witnesses)), file.Sources{Getenv: os.LookupEnv})
	require.NoError(t, err)
	f, err := fleet.Build(c, credential.New(c))
	require.NoError(t, err)
	e := &ear{t: t, path: filepath.Join(t.TempDir(), "ledger")}
	e.w, err = ledger.Create(e.path, runID, "harbour", time.Now())
	require.NoError(t, err)
	for i, s := range f.Streams {
		e.w.Stream(i, ledger.Stream{Device: s.Device.Name, Kind: "buoy", Reading: "state"})
	}
	e.w.Witness(0, &ledger.Witness{Name: "ear", Proof: "received", Listens: true})
	for i, a := range c.Alerts {
		e.w.Alert(i, &ledger.Alert{Name: a.Name})
	}
	page := e.w.WitnessPage(0)
	e.w.Flush()
	catalog := match.NewCatalog(f, runID)
	catalog.Network = b.net.Dial
	base, err := hearing.New(c.Witnesses[0], 0, catalog, page)
	require.NoError(t, err)
	e.Witness, err = listen.New(base)
	require.NoError(t, err)
	e.end = sync.OnceValue(func() error {
		e.Stop()
		return e.w.Close()
	})
	t.Cleanup(func() { e.end() })
	return e
}

// start starts the witness against a broker that grants the subscription.
func (e *ear) start(b *broker) *brokertest.Peer {
	p, _ := e.begin(b)
	return p
}

// begin is start, and gives the CONNECT.
func (e *ear) begin(b *broker) (*brokertest.Peer, packets.Packet) {
	e.t.Helper()
	done := make(chan error, 1)
	go func() { done <- e.Start(context.Background()) }()
	p, hello := b.Accept(packets.Packet{})
	assert.True(e.t, hello.Connect.Clean)
	grant(e.t, p)
	require.NoError(e.t, <-done)
	return p, hello
}

func grant(t *testing.T, p *brokertest.Peer) {
	t.Helper()
	sub := p.Expect(packets.Subscribe)
	require.Equal(t, "harbour/#", sub.Filters[0].Filter)
	p.Write(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Suback}, PacketID: sub.PacketID,
		ReasonCodes: []byte{2}})
}

// hear hears the witness against a broker that still answers.
func (e *ear) hear(p *brokertest.Peer, r hearing.Round) (complete bool, why string) {
	e.t.Helper()
	done := make(chan struct{})
	go func() {
		defer close(done)
		complete, why = e.Hear(context.Background(), r)
	}()
	for {
		select {
		case <-done:
			return complete, why
		default:
		}
		if !p.Silent(50 * time.Millisecond) {
			p.Expect(packets.Pingreq)
			p.Write(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Pingresp}})
		}
	}
}

// book ends the hearing and reads what the witness noted.
func (e *ear) book() *ledger.Book {
	e.t.Helper()
	require.NoError(e.t, e.end())
	b, err := ledger.Read(e.path)
	require.NoError(e.t, err)
	return b
}

func publish(p *brokertest.Peer, device string, seq int, qos byte, id uint16, dup bool) {
	p.Write(message(device, seq, qos, id, dup))
}

func message(device string, seq int, qos byte, id uint16, dup bool) packets.Packet {
	return packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Publish, Qos: qos, Dup: dup}, PacketID: id,
		TopicName: "harbour/" + device + "/state",
		Payload:   []byte(fmt.Sprintf(`{"mark":"%s/buoy-1/state/%d","a":1}`, runID, seq))}
}

// none expects messages 1 to n of the first stream.
type expect struct{ n uint64 }

func (e expect) Range(stream int) (from, to uint64) {
	if stream == 0 {
		return 1, e.n + 1
	}
	return 0, 0
}
func (e expect) Excused(int, uint64) bool { return false }
func (e expect) Calls() bool              { return false }

func seqs(b *ledger.Book) []string {
	var list []string
	for _, s := range b.Sightings {
		list = append(list, fmt.Sprintf("%d@%s", s.Seq, s.FiledDevice))
	}
	slices.Sort(list)
	return list
}

// Each message is noted once and acknowledged as its QoS wants; a QoS 2 packet
// that comes again before its release is not another copy.
func TestSubscriptionNotesWhatItHears(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		for _, version := range []byte{4, 5} {
			b := newBroker(t, version)
			e := newListener(t, b, map[byte]string{4: "3.1.1", 5: "5"}[version])
			p := e.start(b)
			publish(p, "buoy-1", 1, 0, 0, false)
			publish(p, "buoy-1", 2, 1, 7, false)
			assert.Equal(t, uint16(7), p.Expect(packets.Puback).PacketID)
			publish(p, "buoy-1", 3, 2, 8, false)
			p.Expect(packets.Pubrec)
			publish(p, "buoy-1", 3, 2, 8, true)
			p.Expect(packets.Pubrec)
			p.Ack(packets.Pubrel, 8, 0)
			assert.Equal(t, uint16(8), p.Expect(packets.Pubcomp).PacketID)
			publish(p, "buoy-2", 4, 1, 9, false)  // filed under another device
			publish(p, "nobody", 5, 1, 10, false) // at a topic of no device
			publish(p, "buoy-1", 6, 1, 11, true)  // perhaps delivered before
			publish(p, "buoy-1", 6, 1, 11, true)  // that is: it came under this number
			for range 4 {
				p.Expect(packets.Puback)
			}
			p.Write(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Publish}, TopicName: "harbour/x",
				Payload: []byte("no json")})
			p.Write(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Publish}, TopicName: "harbour/x",
				Payload: []byte(`{"mark":"otherrun/buoy-1/state/1"}`)})
			round := hearing.Round{N: 1, Expect: expect{6}}
			complete, why := e.hear(p, round)
			assert.True(t, complete, why)
			assert.Zero(t, e.Awaited())
			got := e.book()
			assert.Equal(t, []string{"1@", "2@", "3@", "4@buoy-2", "5@topic harbour/nobody/state", "6@", "6@"}, seqs(got))
			assert.True(t, got.Sightings[5].Perhaps && !got.Sightings[5].Again)
			assert.True(t, got.Sightings[6].Again && !got.Sightings[6].Perhaps)
			assert.Equal(t, packets.Disconnect, p.Read().FixedHeader.Type)
		}
	})
}

// A lost connection is a gap, unless the broker kept the session: then only QoS 0 can be missing. Where another
// client had it meanwhile, it got what was kept.
func TestLostConnection(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		for name, kept := range map[string]bool{"it is forgotten": false, "it is kept": true, "another took it": true} {
			taken := name == "another took it"
			b := newBroker(t, 5)
			e := newListener(t, b, "5")
			p := e.start(b)
			publish(p, "buoy-1", 1, 1, 1, false)
			p.Expect(packets.Puback)
			why := "the platform closed the connection"
			if taken {
				p.Write(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Disconnect}, ReasonCode: 0x8e})
				why = "the broker disconnected: session taken over by another connection with the same client id (0x8E)"
			}
			p.Close()
			p, hello := b.Accept(packets.Packet{SessionPresent: kept})
			assert.False(t, hello.Connect.Clean, "it asks for its session")
			if !kept {
				grant(t, p)
			}
			publish(p, "buoy-1", 2, 1, 2, false)
			p.Expect(packets.Puback)
			complete, unheard := e.hear(p, hearing.Round{N: 1, Expect: expect{2}})
			assert.True(t, complete, unheard)
			got := e.book()
			assert.Equal(t, []string{"1@", "2@"}, seqs(got))
			require.Len(t, got.Witnesses[0].Gaps, 1)
			d := got.Witnesses[0].Gaps[0]
			assert.Equal(t, kept && !taken, d.Kept, name)
			assert.True(t, d.To.After(d.From))
			assert.Equal(t, why, d.Why)
		}
	})
}

// A witness whose access token runs out leaves in time, and goes on in its session with
// a new one.
func TestTheWitnessRenewsItsToken(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBroker(t, 5)
		e := newListener(t, b,
			`5, password: "${access_token}", access_token: {text: "t-${expiry}", valid: 3s}`)
		p, first := e.begin(b)
		assert.Regexp(t, `^t-\d{9}$`, string(first.Connect.Password))
		bye := p.Read()
		for bye.FixedHeader.Type == packets.Pingreq { // it asks again and again
			p.Write(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Pingresp}})
			bye = p.Read()
		}
		require.Equal(t, packets.Disconnect, bye.FixedHeader.Type)
		assert.False(t, bye.Properties.SessionExpiryIntervalFlag, "the session stays")
		publish(p, "buoy-1", 1, 2, 8, false) // was under way
		p.Close()
		p, second := b.Accept(packets.Packet{SessionPresent: true})
		assert.False(t, second.Connect.Clean)
		assert.NotEqual(t, first.Connect.Password, second.Connect.Password)
		publish(p, "buoy-1", 1, 2, 8, true) // was not acknowledged: it is the same
		p.Expect(packets.Pubrec)
		publish(p, "buoy-1", 2, 1, 9, false)
		p.Expect(packets.Puback)
		complete, why := e.hear(p, hearing.Round{N: 1, Expect: expect{2}})
		assert.True(t, complete, why)
		got := e.book()
		assert.Equal(t, []string{"1@", "2@"}, seqs(got))
		require.Len(t, got.Witnesses[0].Gaps, 1)
		assert.Equal(t, "it changed its access token for a new one", got.Witnesses[0].Gaps[0].Why)
	})
}

// A witness that does not listen at the end was not heard; neither was one that got
// messages without any mark.
func TestNotHeard(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBroker(t, 5)
		e := newListener(t, b, "5")
		p := e.start(b)
		p.Close()
		b.Close()
		complete, why := e.Hear(context.Background(), hearing.Round{N: 1, Expect: expect{1}})
		assert.False(t, complete)
		assert.Contains(t, why, "the subscription was lost")

		b = newBroker(t, 5)
		e = newListener(t, b, "5")
		p = e.start(b)
		p.Write(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Publish}, TopicName: "harbour/x",
			Payload: []byte(`{"a":1}`)})
		complete, why = e.hear(p, hearing.Round{N: 1, Expect: expect{1}})
		assert.False(t, complete)
		assert.Contains(t, why, `messages came (1), but none carried a mark; the first was “harbour/x {"a":1}”`)
	})
}

// A broker that falls silent may have passed on what was not heard: the witness counts
// as listening up to the last packet that came, whenever the silence is noticed.
func TestSilence(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBroker(t, 5)
		e := newListener(t, b, "5")
		p := e.start(b)
		publish(p, "buoy-1", 1, 1, 1, false)
		p.Expect(packets.Puback)
		before := time.Now()
		complete, why := e.Hear(context.Background(), hearing.Round{N: 1, Expect: expect{2}})
		runtime.KeepAlive(p) // a connection that nobody holds is closed
		assert.False(t, complete)
		assert.Contains(t, why, "the platform no longer answers the witness; it was heard last at")
		got := e.book()
		require.Len(t, got.Witnesses[0].Gaps, 1)
		assert.WithinDuration(t, before, got.Witnesses[0].Gaps[0].From, time.Millisecond, "the gap begins with the last packet")
		assert.True(t, got.Witnesses[0].Gaps[0].To.IsZero())

		b = newBroker(t, 5)
		e = newListener(t, b, "5")
		p = e.start(b)
		publish(p, "buoy-1", 1, 1, 1, false)
		p.Expect(packets.Puback)
		heard := time.Now()
		time.Sleep(300 * time.Millisecond) // half open
		p.Close()
		p, _ = b.Accept(packets.Packet{})
		grant(t, p)
		complete, why = e.hear(p, hearing.Round{N: 1, Expect: expect{1}})
		assert.True(t, complete, why)
		got = e.book()
		require.Len(t, got.Witnesses[0].Gaps, 1)
		assert.WithinDuration(t, heard, got.Witnesses[0].Gaps[0].From, 250*time.Millisecond)
	})
}

// A broker may be far away, or take as long for its answer as the link allows: while other pings are on their
// way, the answer to one is known.
func TestABrokerThatAnswersLate(t *testing.T) {
	for _, late := range []time.Duration{150 * time.Millisecond, 8 * time.Second} {
		synctest.Test(t, func(t *testing.T) {
			b := newBroker(t, 5)
			e := newListener(t, b, "5")
			p := e.start(b)
			publish(p, "buoy-1", 1, 1, 1, false)
			p.Expect(packets.Puback)
			var answers sync.WaitGroup
			over := make(chan struct{})
			answers.Go(func() {
				for !p.Silent(time.Hour) {
					p.Expect(packets.Pingreq)
					answers.Go(func() {
						select {
						case <-over:
						case <-time.After(late):
							p.Write(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Pingresp}})
						}
					})
				}
			})
			time.Sleep(time.Second)
			began := time.Now()
			complete, why := e.Hear(context.Background(), hearing.Round{N: 1, Expect: expect{1}})
			assert.True(t, complete, why)
			assert.Less(t, time.Since(began), 2*late+time.Second)
			close(over)
			p.Close()
			answers.Wait()
			e.Stop()
		})
	}
}

// A retained message that comes again when the witness reconnects is no other copy; one
// that comes while it listens is.
func TestRetainedAgain(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBroker(t, 5)
		e := newListener(t, b, "5")
		p := e.start(b)
		publish(p, "buoy-1", 1, 1, 1, false)
		p.Expect(packets.Puback)
		retained := packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Publish, Retain: true},
			TopicName: "harbour/buoy-1/state", Payload: []byte(`{"mark":"` + runID + `/buoy-1/state/1","a":1}`)}
		p.Write(retained)
		publish(p, "buoy-1", 2, 1, 2, false)
		p.Expect(packets.Puback) // the one before was read
		p.Close()
		p, _ = b.Accept(packets.Packet{})
		grant(t, p)
		p.Write(retained)
		complete, why := e.hear(p, hearing.Round{N: 1, Expect: expect{1}})
		assert.True(t, complete, why)
		got := e.book()
		require.Len(t, got.Sightings, 4)
		for i, again := range []bool{false, false, false, true} {
			assert.Equal(t, again, got.Sightings[i].Again, "sighting %d", i)
		}
	})
}

// An identifier that the broker has free again is another message's, whatever it says of it.
func TestAnIdentifierThatIsFreeAgain(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBroker(t, 5)
		e := newListener(t, b, "5")
		p := e.start(b)
		publish(p, "buoy-1", 1, 1, 7, false)
		for pings := 0; pings < 2; { // sent after our acknowledgement, and answered
			if p.Read().FixedHeader.Type == packets.Pingreq {
				p.Write(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Pingresp}})
				pings++
			}
		}
		publish(p, "buoy-1", 1, 1, 7, true)
		for p.Read().FixedHeader.Type != packets.Puback {
		}
		complete, why := e.hear(p, hearing.Round{N: 1, Expect: expect{1}})
		assert.True(t, complete, why)
		got := e.book()
		require.Len(t, got.Sightings, 2)
		assert.True(t, got.Sightings[1].Perhaps && !got.Sightings[1].Again)
	})
}

func TestRefusedSubscription(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBroker(t, 5)
		e := newListener(t, b, "5")
		done := make(chan error, 1)
		go func() { done <- e.Start(context.Background()) }()
		p, _ := b.Accept(packets.Packet{})
		sub := p.Expect(packets.Subscribe)
		p.Write(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Suback}, PacketID: sub.PacketID,
			ReasonCodes: []byte{0x87}})
		assert.ErrorContains(t, <-done,
			`the broker refused the subscription "harbour/#": not authorized (0x87); check that this user may subscribe`)
	})
}

// Messages that wait long for a witness may be dropped by the broker, which tells nobody:
// the time is noted. What came all the same counts.
func TestALaggingWitness(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		for _, waiting := range []int{3, 300} { // of 200 that a broker keeps
			lagging(t, waiting)
		}
	})
}

func lagging(t *testing.T, waiting int) {
	b := newBroker(t, 5)
	e := newListener(t, b, "5")
	p := e.start(b)
	p.Expect(packets.Pingreq)
	time.Sleep(2500 * time.Millisecond) // the answer stands behind messages that wait
	for range waiting {
		publish(p, "buoy-1", 1, 0, 0, false)
	}
	p.Write(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Pingresp}})
	p.Expect(packets.Pingreq)
	p.Write(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Pingresp}})
	complete, why := e.hear(p, hearing.Round{N: 1, Expect: expect{1}})
	assert.True(t, complete, why)
	got := e.book()
	require.Len(t, got.Witnesses[0].Gaps, 1)
	g := got.Witnesses[0].Gaps[0]
	assert.True(t, g.Lag)
	assert.Greater(t, g.To.Sub(g.From), 2500*time.Millisecond)
	assert.Contains(t, g.Why, "messages waited for it, for some time")
	assert.Equal(t, waiting < 200, g.Whole)
	assert.Equal(t, waiting >= 200, strings.Contains(g.Why, "a broker may drop what is more than 200 (queue)"), g.Why)
	assert.Len(t, got.Sightings, waiting)
}

// What comes together is acknowledged together.
func TestAcknowledgementsGoOutTogether(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBroker(t, 5)
		e := newListener(t, b, "5")
		p := e.start(b)
		var all []byte
		for id := range uint16(50) {
			all = append(all, brokertest.Encode(t, 5, packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Publish,
				Qos: 1}, PacketID: id + 1, TopicName: "harbour/buoy-1/state",
				Payload: []byte(fmt.Sprintf(`{"mark":"%s/buoy-1/state/%d","a":1}`, runID, id+1))})...)
		}
		_, err := p.Conn.Write(all)
		require.NoError(t, err)
		// One read of the connection brings many of them.
		buf := make([]byte, 4096)
		got, reads := 0, 0
		for got < 50*4 {
			p.SetReadDeadline(time.Now().Add(5 * time.Second))
			n, err := p.Conn.Read(buf)
			require.NoError(t, err)
			got, reads = got+n, reads+1
		}
		assert.Less(t, reads, 25)
	})
}

// An alert that quotes the mark of the message which called for it is no copy of that message,
// also where one witness hears both, and where it was retained.
func TestAnAlertIsNoCopyOfItsMessage(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBroker(t, 5)
		e := listenerOf(t, b, "5",
			`witnesses: {ear: {proves: [received, alerts], subscribe: harbour/#, wait: 400ms, watch_copies: 10ms}}
alerts: {low: {heard_by: ear, about: .device, match: .rule == "low", when: a < 1, within: 100ms}}`)
		p := e.start(b)
		publish(p, "buoy-1", 1, 0, 0, false)
		for _, retained := range []bool{false, true} {
			p.Write(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Publish, Retain: retained},
				TopicName: "harbour/alarms", Payload: []byte(`{"mark":"` + runID +
					`/buoy-1/state/1","rule":"low","device":"buoy-1"}`)})
		}
		complete, why := e.hear(p, hearing.Round{N: 1, Expect: expect{1}})
		assert.True(t, complete, why)
		got := e.book()
		assert.Equal(t, []string{"1@"}, seqs(got))
		require.Len(t, got.Alerts[0].Said, 1, "a retained one was said before")
		assert.Equal(t, "buoy-1", got.Alerts[0].Said[0].Device)
	})
}

// A witness that is refused where devices have each a user of their own is told what to write.
func TestAWitnessThatIsRefused(t *testing.T) {
	for own, try := range map[string]string{"": "it is no device: give the witness a user of its own, with username: and password:",
		`, username: watcher, password: "${env.WATCHER}"`: "check username and password, and that this client may connect"} {
		synctest.Test(t, func(t *testing.T) {
			t.Setenv("WATCHER", "see-it-all")
			b := newBroker(t, 5)
			e := listenerOf(t, b, `5, username: "${device}", password: "pw-${device}"`,
				"witnesses: {ear: {proves: received, subscribe: harbour/#"+own+"}}")
			done := make(chan error, 1)
			go func() { done <- e.Start(context.Background()) }()
			_, hello := b.Accept(packets.Packet{ReasonCode: 0x87})
			user, password := "ear", "pw-ear"
			if own != "" {
				user, password = "watcher", "see-it-all"
			}
			assert.Equal(t, []string{user, password}, []string{string(hello.Connect.Username), string(hello.Connect.Password)})
			assert.ErrorContains(t, <-done, try)
		})
	}
}

// Who only listens is told why it could not begin.
func TestListeningThatIsRefused(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBroker(t, 5)
		f := oneBuoy(t, b.Addr().String())
		c := f.Crowd
		catalog := match.NewCatalog(f, runID)
		catalog.Network = b.net.Dial
		base, err := hearing.New(c.Witnesses[0], 0, catalog, nil)
		require.NoError(t, err)
		w, err := listen.New(base)
		require.NoError(t, err)
		done := make(chan error, 1)
		go func() { done <- w.Start(context.Background()) }()
		b.Accept(packets.Packet{ReasonCode: 0x88})
		assert.ErrorContains(t, <-done, "the broker refused the connection")
		w.Stop()
	})
	f := oneBuoy(t, "127.0.0.1:1")
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
	defer cancel()
	_, err := listen.To(ctx, 0, f, f.Crowd.Witnesses[0], nil)
	assert.ErrorContains(t, err, "nothing listens there")
}

// A mark may ride in a user property.
func TestMarksInUserProperties(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBroker(t, 5)
		e := listenerOf(t, b, "5", "witnesses: {ear: {proves: received, subscribe: harbour/#, wait: 400ms, watch_copies: 10ms}}",
			"mark: {user_property: x-mark}, ")
		p := e.start(b)
		for i, key := range []string{"x-mark", "y-mark"} {
			p.Write(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Publish}, TopicName: "harbour/buoy-1/state",
				Payload: []byte(`{"a":1}`), Properties: packets.Properties{User: []packets.UserProperty{{Key: "z", Val: "1"},
					{Key: key, Val: fmt.Sprintf("%s/buoy-1/state/%d", runID, i+1)}}}})
		}
		complete, why := e.hear(p, hearing.Round{N: 1, Expect: expect{1}})
		assert.True(t, complete, why)
		assert.Equal(t, []string{"1@"}, seqs(e.book()))
	})
}

// Without a ledger, too, it is told when nothing could be heard.
func TestWhatARecordingMisses(t *testing.T) {
	const (
		back    = iota // the connection is back when the recording ends
		lost           // it is not
		between        // it comes back just then
	)
	for ends := range between + 1 {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		b := &broker{brokertest.On(t, 5, l), nil}
		f := oneBuoy(t, b.Addr().String())
		c := f.Crowd
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		heard, done, goOn := make(chan string, 9), make(chan error, 1), make(chan bool)
		var unheard listen.Unheard
		go func() {
			var err error
			unheard, err = listen.Record(ctx, 0, f, &crowd.Witness{Name: "record", Filters: []string{"harbour/#"}, QoS: 2, Link: c.Links[0]},
				func(l *recording.Line) {
					heard <- l.Topic
					if bytes.Contains(l.Body, []byte("state/3")) {
						<-goOn
					}
				})
			done <- err
		}()
		p, _ := b.Accept(packets.Packet{})
		grant(t, p)
		publish(p, "buoy-1", 1, 1, 1, false)
		require.Equal(t, "harbour/buoy-1/state", <-heard)
		p.Expect(packets.Puback)
		p.Close()
		p, _ = b.Accept(packets.Packet{})
		switch ends {
		case back:
			grant(t, p)
			publish(p, "buoy-1", 2, 1, 2, false)
			<-heard
		case between: // a message comes with the answer to SUBSCRIBE
			sub := p.Expect(packets.Subscribe)
			answer := packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Suback}, PacketID: sub.PacketID,
				ReasonCodes: []byte{2}}
			_, err := p.Conn.Write(append(brokertest.Encode(t, 5, message("buoy-1", 3, 1, 2, false)), brokertest.Encode(t, 5, answer)...))
			require.NoError(t, err)
			<-heard
			close(goOn)
		}
		cancel()
		require.NoError(t, <-done)
		assert.Equal(t, 1, unheard.Times)
		assert.Positive(t, unheard.For)
		assert.Equal(t, unheard.For, unheard.First.To.Sub(unheard.First.From))
		assert.Equal(t, "the platform closed the connection", unheard.First.Why)
	}
}

// What the broker is asked for, and what it does not grant.
func TestWhatABrokerIsAskedFor(t *testing.T) {
	for version, want := range map[string]struct {
		number byte
		expiry uint32
	}{"5": {5, 3600}, "3.1.1": {4, 0}} {
		for _, granted := range []byte{0, 2} {
			synctest.Test(t, func(t *testing.T) {
				b := newBroker(t, want.number)
				e := newListener(t, b, version)
				done := make(chan error, 1)
				go func() { done <- e.Start(context.Background()) }()
				p, hello := b.Accept(packets.Packet{})
				assert.Equal(t, want.expiry > 0, hello.Properties.SessionExpiryInterval > 0)
				sub := p.Expect(packets.Subscribe)
				assert.Equal(t, byte(2), sub.Filters[0].Qos)
				p.Write(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Suback}, PacketID: sub.PacketID, ReasonCodes: []byte{granted}})
				require.NoError(t, <-done)
				complete, why := e.hear(p, hearing.Round{N: 1, Expect: expect{0}})
				assert.True(t, complete, why)
				remarks := e.book().Links.Remarks
				if granted == 2 {
					assert.Empty(t, remarks)
				} else {
					assert.Contains(t, remarks, `the witness "ear": the broker granted QoS 0 for harbour/#; QoS 2 was asked for`)
				}
			})
		}
	}
}

// A message is one that came before only where the broker says so, under the same identifier and
// with the same bytes.
func TestWhatIsDeliveredAgain(t *testing.T) {
	type delivery struct {
		seq  int
		qos  byte
		id   uint16
		dup  bool
		says string
	}
	for name, list := range map[string][]delivery{
		"QoS 0":                  {{1, 0, 0, false, ""}, {1, 0, 0, false, ""}},
		"QoS 1, twice":           {{1, 1, 7, false, ""}, {1, 1, 7, false, ""}},
		"QoS 1, again":           {{1, 1, 7, false, ""}, {1, 1, 7, true, "again"}},
		"another message":        {{1, 1, 7, false, ""}, {2, 1, 7, true, "perhaps"}},
		"another identifier":     {{1, 1, 7, false, ""}, {1, 1, 8, true, "perhaps"}},
		"the first that it says": {{1, 1, 7, true, "perhaps"}, {1, 1, 7, true, "again"}},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				b := newBroker(t, 5)
				e := newListener(t, b, "5")
				p := e.start(b)
				for _, d := range list {
					publish(p, "buoy-1", d.seq, d.qos, d.id, d.dup)
					for d.qos > 0 && p.Read().FixedHeader.Type != packets.Puback {
					}
				}
				complete, why := e.hear(p, hearing.Round{N: 1, Expect: expect{1}})
				assert.True(t, complete, why)
				got := e.book().Sightings
				require.Len(t, got, len(list))
				for i, x := range got {
					says := map[bool]string{true: "again"}[x.Again] + map[bool]string{true: "perhaps"}[x.Perhaps]
					assert.Equal(t, list[i].says, says, "%d", i)
				}
			})
		})
	}
}

// A message without the property that the mark rides in has none.
func TestNoMarkInUserProperties(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBroker(t, 5)
		e := listenerOf(t, b, "5", "witnesses: {ear: {proves: received, subscribe: harbour/#, wait: 400ms, watch_copies: 10ms}}",
			"mark: {user_property: x-mark}, ")
		p := e.start(b)
		p.Write(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Publish}, TopicName: "harbour/buoy-1/state",
			Payload: []byte(`{"a":1}`), Properties: packets.Properties{User: []packets.UserProperty{{Key: "z", Val: "1"}}}})
		complete, why := e.hear(p, hearing.Round{N: 1, Expect: expect{1}})
		assert.False(t, complete)
		assert.Contains(t, why, "none carried a mark")
	})
}

// A witness may listen at several places, each by a subscription of its own, also after the session
// was lost.
func TestSeveralFilters(t *testing.T) {
	const witnesses = "witnesses: {ear: {proves: received, subscribe: [harbour/+/state, \"old/#\"], wait: 400ms, watch_copies: 10ms}}"
	subscribed := func(p *brokertest.Peer, codes ...byte) (filters []string) {
		for _, code := range codes {
			sub := p.Expect(packets.Subscribe)
			filters = append(filters, sub.Filters[0].Filter)
			p.Write(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Suback}, PacketID: sub.PacketID, ReasonCodes: []byte{code}})
		}
		return filters
	}
	synctest.Test(t, func(t *testing.T) {
		b := newBroker(t, 5)
		e := listenerOf(t, b, "5", witnesses)
		done := make(chan error, 1)
		go func() { done <- e.Start(context.Background()) }()
		p, _ := b.Accept(packets.Packet{})
		assert.Equal(t, []string{"harbour/+/state", "old/#"}, subscribed(p, 2, 1))
		require.NoError(t, <-done)
		publish(p, "buoy-1", 1, 0, 0, false)
		p.Write(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Publish}, TopicName: "old/buoy",
			Payload: []byte(fmt.Sprintf(`{"mark":"%s/buoy-1/state/2","a":1}`, runID))})
		time.Sleep(100 * time.Millisecond)
		p.Close()
		p, _ = b.Accept(packets.Packet{})
		assert.Equal(t, []string{"harbour/+/state", "old/#"}, subscribed(p, 2, 2))
		publish(p, "buoy-1", 3, 0, 0, false)
		complete, why := e.hear(p, hearing.Round{N: 1, Expect: expect{3}})
		assert.True(t, complete, why)
		got := e.book()
		assert.Len(t, got.Sightings, 3)
		assert.Contains(t, got.Links.Remarks, `the witness "ear": the broker granted QoS 1 for old/#; QoS 2 was asked for`)
		assert.Len(t, got.Links.Remarks, 1)
	})
	synctest.Test(t, func(t *testing.T) {
		b := newBroker(t, 5)
		e := listenerOf(t, b, "5", witnesses)
		done := make(chan error, 1)
		go func() { done <- e.Start(context.Background()) }()
		p, _ := b.Accept(packets.Packet{})
		subscribed(p, 2, 0x87)
		assert.ErrorContains(t, <-done, `the broker refused the subscription "old/#": not authorized (0x87)`)
	})
}

// A session that was begun anew, and lost before the subscription was answered, stands without it:
// the witness subscribes, whatever the broker says of the session.
func TestASessionWithoutItsSubscription(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBroker(t, 5)
		e := newListener(t, b, "5")
		p := e.start(b)
		publish(p, "buoy-1", 1, 1, 1, false)
		p.Expect(packets.Puback)
		p.Close()
		p, _ = b.Accept(packets.Packet{}) // the broker has lost the session
		p.Expect(packets.Subscribe)
		p.Close()
		p, _ = b.Accept(packets.Packet{SessionPresent: true}) // that of the moment before
		grant(t, p)
		publish(p, "buoy-1", 2, 1, 2, false)
		p.Expect(packets.Puback)
		complete, why := e.hear(p, hearing.Round{N: 1, Expect: expect{2}})
		assert.True(t, complete, why)
		got := e.book()
		assert.Equal(t, []string{"1@", "2@"}, seqs(got))
		for _, g := range got.Witnesses[0].Gaps {
			assert.False(t, g.Kept, "what came meanwhile was not kept")
		}
		assert.NotEmpty(t, got.Witnesses[0].Gaps)
	})
}

// How long it listens counts from when it does: a broker that is slow to accept it takes nothing away.
func TestListeningForAWhile(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	b := &broker{brokertest.On(t, 5, l), nil}
	f := oneBuoy(t, b.Addr().String())
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	heard, done := make(chan string, 9), make(chan error, 1)
	go func() {
		_, err := listen.Record(ctx, 3*time.Second, f, &crowd.Witness{Name: "record", Filters: []string{"harbour/#"}, QoS: 2, Link: f.Crowd.Links[0]},
			func(l *recording.Line) { heard <- l.Topic })
		done <- err
	}()
	time.Sleep(3100 * time.Millisecond)
	p, _ := b.Accept(packets.Packet{})
	grant(t, p)
	publish(p, "buoy-1", 1, 1, 1, false)
	assert.Equal(t, "harbour/buoy-1/state", <-heard)
	require.NoError(t, <-done)
	assert.NoError(t, ctx.Err(), "it ended by itself")
}
