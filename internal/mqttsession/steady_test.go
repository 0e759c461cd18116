package mqttsession_test

import (
	"encoding/binary"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"runcrowd/internal/mqttsession"
	"runcrowd/internal/mqttwire"
)

// fixed is a message whose packet needs no memory of its own.
type fixed struct{ body []byte }

func (m *fixed) Fill(p *mqttwire.Publish) {
	*p = mqttwire.Publish{Topic: "harbour/buoy-1/state", QoS: 1, Payload: m.body}
}

// connected is a session of version 5 that the server accepted.
func connected(t testing.TB, h mqttsession.Handler, now time.Time) *mqttsession.Session {
	s := mqttsession.New(mqttsession.Options{Connect: mqttwire.Connect{Version: 5, ClientID: "buoy-1", CleanStart: true},
		InFlight: 20, MaxPacket: 1 << 20}, h)
	require.NoError(t, s.Open(now, mqttwire.Connect{Version: 5, ClientID: "buoy-1", CleanStart: true}))
	s.Output()
	require.NoError(t, s.Receive(now, []byte{0x20, 3, 0, 0, 0})) // CONNACK: no session, success
	require.Equal(t, mqttsession.Connected, s.State())
	return s
}

// exchange publishes a message and takes its acknowledgement, with a reason code.
func exchange(s *mqttsession.Session, now time.Time, m *fixed, ack []byte) error {
	s.Publish(now, m)
	b := s.Output()
	id := binary.BigEndian.Uint16(b[2+2+20:]) // behind the fixed header and the topic
	s.Recycle(b)
	binary.BigEndian.PutUint16(ack[2:], id)
	err := s.Receive(now, ack)
	s.Output() // nothing has to be written: the buffer stays
	return err
}

// Sending and acknowledging take no memory of their own.
func TestTheSteadyPathAllocatesNothing(t *testing.T) {
	h, now := &silent{}, time.Unix(1_900_000_000, 0)
	s, m, ack := connected(t, h, now), &fixed{make([]byte, 40)}, []byte{0x40, 3, 0, 0, 0x10}
	var err error
	n := testing.AllocsPerRun(1000, func() {
		if err == nil {
			err = exchange(s, now, m, ack)
		}
	})
	require.NoError(t, err)
	require.Equal(t, 1001, h.settled)
	require.Zero(t, n)
}

func BenchmarkPublishAndAcknowledge(b *testing.B) {
	h, now := &silent{}, time.Unix(1_900_000_000, 0)
	s, m, ack := connected(b, h, now), &fixed{make([]byte, 40)}, []byte{0x40, 3, 0, 0, 0x10}
	b.ReportAllocs()
	for b.Loop() {
		if err := exchange(s, now, m, ack); err != nil {
			b.Fatal(err)
		}
	}
}
