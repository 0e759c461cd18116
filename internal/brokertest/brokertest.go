// Package brokertest is the broker's side of MQTT connections for tests: it
// plays what a test tells it, with a codec that we did not write.
package brokertest

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"net"
	"testing"
	"time"

	"github.com/mochi-mqtt/server/v2/packets"
	"github.com/stretchr/testify/require"
)

// patience is how long a test waits for what must come.
const patience = 10 * time.Second

// Decode decodes one packet, which must be whole.
func Decode(t require.TestingT, version byte, b []byte) packets.Packet {
	return read(t, version, bufio.NewReader(bytes.NewReader(b)))
}

func read(t require.TestingT, version byte, r *bufio.Reader) packets.Packet {
	first, err := r.ReadByte()
	require.NoError(t, err)
	pk := packets.Packet{ProtocolVersion: version}
	require.NoError(t, pk.FixedHeader.Decode(first))
	pk.FixedHeader.Remaining, _, err = packets.DecodeLength(r)
	require.NoError(t, err)
	body := make([]byte, pk.FixedHeader.Remaining)
	_, err = io.ReadFull(r, body)
	require.NoError(t, err)
	switch pk.FixedHeader.Type {
	case packets.Connect:
		err = pk.ConnectDecode(body)
	case packets.Publish:
		err = pk.PublishDecode(body)
	case packets.Puback:
		err = pk.PubackDecode(body)
	case packets.Pubrec:
		err = pk.PubrecDecode(body)
	case packets.Pubrel:
		err = pk.PubrelDecode(body)
	case packets.Pubcomp:
		err = pk.PubcompDecode(body)
	case packets.Subscribe:
		err = pk.SubscribeDecode(body)
	case packets.Disconnect:
		err = pk.DisconnectDecode(body)
	case packets.Connack:
		err = pk.ConnackDecode(body)
	case packets.Suback:
		err = pk.SubackDecode(body)
	}
	require.NoError(t, err)
	return pk
}

// Encode encodes a packet that a server sends.
func Encode(t require.TestingT, version byte, pk packets.Packet) []byte {
	pk.ProtocolVersion = version
	var buf bytes.Buffer
	encode := map[byte]func(*bytes.Buffer) error{packets.Connack: pk.ConnackEncode, packets.Publish: pk.PublishEncode,
		packets.Puback: pk.PubackEncode,
		packets.Pubrec: pk.PubrecEncode, packets.Pubrel: pk.PubrelEncode, packets.Pubcomp: pk.PubcompEncode,
		packets.Suback:   pk.SubackEncode,
		packets.Pingresp: pk.PingrespEncode, packets.Disconnect: pk.DisconnectEncode}[pk.FixedHeader.Type]
	require.NotNil(t, encode, "packet type %d", pk.FixedHeader.Type)
	require.NoError(t, encode(&buf))
	return buf.Bytes()
}

// Broker listens for connections.
type Broker struct {
	net.Listener
	t       *testing.T
	version byte
}

// New listens on a free loopback port until the test ends.
func New(t *testing.T, version byte) *Broker {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	return On(t, version, l)
}

// On listens as a listener does, such as one of a network in memory, until the test ends.
func On(t *testing.T, version byte, l net.Listener) *Broker {
	t.Cleanup(func() { l.Close() })
	return &Broker{l, t, version}
}

// Accept takes the next connection and answers its CONNECT.
func (b *Broker) Accept(ack packets.Packet) (*Peer, packets.Packet) {
	b.t.Helper()
	if l, is := b.Listener.(*net.TCPListener); is {
		l.SetDeadline(time.Now().Add(patience))
	}
	nc, err := b.Listener.Accept()
	require.NoError(b.t, err)
	p := &Peer{b.t, b.version, nc, bufio.NewReader(nc)}
	connect := p.Expect(packets.Connect)
	ack.FixedHeader.Type = packets.Connack
	p.Write(ack)
	return p, connect
}

// Peer is one connection at the broker's side.
type Peer struct {
	t       *testing.T
	version byte
	net.Conn
	r *bufio.Reader
}

// Write sends a packet.
func (p *Peer) Write(pk packets.Packet) {
	p.t.Helper()
	_, err := p.Conn.Write(Encode(p.t, p.version, pk))
	require.NoError(p.t, err)
}

// Ack sends an acknowledgement.
func (p *Peer) Ack(kind byte, id uint16, code byte) {
	p.t.Helper()
	qos := byte(0)
	if kind == packets.Pubrel {
		qos = 1
	}
	p.Write(packets.Packet{FixedHeader: packets.FixedHeader{Type: kind, Qos: qos}, PacketID: id, ReasonCode: code})
}

// Read waits for the next packet.
func (p *Peer) Read() packets.Packet {
	p.t.Helper()
	p.SetReadDeadline(time.Now().Add(patience))
	return read(p.t, p.version, p.r)
}

// Expect waits for the next packet, which must be of a type.
func (p *Peer) Expect(kind byte) packets.Packet {
	p.t.Helper()
	pk := p.Read()
	require.Equal(p.t, packets.PacketNames[kind], packets.PacketNames[pk.FixedHeader.Type])
	return pk
}

// Silent tells whether nothing comes for a while.
func (p *Peer) Silent(d time.Duration) bool {
	p.SetReadDeadline(time.Now().Add(d))
	_, err := p.r.Peek(1)
	return err != nil
}

// Server is the broker's side of one connection that answers by itself: it accepts, and
// acknowledges.
type Server struct {
	nc      net.Conn
	r       *bufio.Reader
	version byte
}

// Serve makes a Server of a connection.
func Serve(nc net.Conn, version byte) *Server { return &Server{nc, bufio.NewReader(nc), version} }

// problem is a packet that could not be read.
type problem struct{ err error }

// Errorf and FailNow make it a require.TestingT that gives errors instead of failing.
func (p *problem) Errorf(format string, args ...any) { p.err = fmt.Errorf(format, args...) }

// FailNow ends the reading.
func (p *problem) FailNow() { panic(p) }

// Read reads the next packet.
func (s *Server) Read() (pk packets.Packet, err error) {
	defer func() {
		if x, is := recover().(*problem); is {
			err = x.err
		}
	}()
	return read(&problem{}, s.version, s.r), nil
}

// Next reads the next packet and answers it.
func (s *Server) Next() (packets.Packet, error) {
	pk, err := s.Read()
	if err != nil {
		return pk, err
	}
	answer := packets.Packet{PacketID: pk.PacketID}
	switch pk.FixedHeader.Type {
	case packets.Connect:
		answer.FixedHeader.Type = packets.Connack
	case packets.Publish:
		if pk.FixedHeader.Qos == 0 || pk.TopicName == "bad" {
			return pk, nil
		}
		answer.FixedHeader.Type = map[byte]byte{1: packets.Puback, 2: packets.Pubrec}[pk.FixedHeader.Qos]
	case packets.Pubrel:
		answer.FixedHeader.Type = packets.Pubcomp
	case packets.Pingreq:
		answer.FixedHeader.Type = packets.Pingresp
	default:
		return pk, nil
	}
	s.Reply(answer)
	return pk, nil
}

// Reply sends a packet.
func (s *Server) Reply(pk packets.Packet) { s.nc.Write(Encode(&problem{}, s.version, pk)) }
