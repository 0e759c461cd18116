package mqttsession_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"runcrowd/internal/mqttsession"
	"runcrowd/internal/mqttwire"
)

// Whatever a server sends, in whatever pieces, the session neither panics nor lets a message
// be settled twice, nor sends behind DISCONNECT.
func FuzzReceive(f *testing.F) {
	f.Add(byte(5), byte(3), []byte{0x20, 3, 0, 0, 0, 0x40, 2, 0, 1, 0x50, 2, 0, 2, 0x70, 2, 0, 2, 0x90, 4, 0, 3, 0, 1,
		0xd0, 0})
	f.Add(byte(4), byte(1), []byte{0x20, 2, 0, 0, 0x32, 7, 0, 1, 'a', 0, 9, 'x', 'y', 0x62, 2, 0, 9, 0xd0, 0})
	f.Add(byte(5), byte(9), []byte{0x20, 6, 1, 0, 3, 0x21, 0, 1, 0xe0, 2, 0x8e, 0})
	f.Fuzz(func(t *testing.T, version, piece byte, b []byte) {
		g := &stage{t: t, version: mqttwire.V311 + version%2, now: time.Unix(1_900_000_000, 0), notes: map[string]*note{}}
		settled := map[string]bool{}
		h := &once{stage: g, settled: settled}
		connect := mqttwire.Connect{Version: g.version, ClientID: "c", KeepAlive: 10, SessionExpiry: 9}
		s := mqttsession.New(mqttsession.Options{Connect: connect, InFlight: 3, MaxPacket: 64, Timeout: time.Second,
			TopicAliases: 2}, h)
		for range 2 {
			require.NoError(t, s.Open(g.now, connect))
			s.Output()
			n := 0
			for rest := b; len(rest) > 0; {
				k := min(int(piece)+1, len(rest))
				if s.Receive(g.now, rest[:k]) != nil {
					break
				}
				rest = rest[k:]
				if n++; s.Room(byte(n % 3)) {
					s.Publish(g.now, &note{name: string(rune('a' + n%26)), qos: byte(n % 3), topic: "t"})
				}
				if s.State() == mqttsession.Connected && n == 4 {
					s.Subscribe(g.now, "a/#", 1)
				}
				g.now = g.now.Add(100 * time.Millisecond)
				s.Tick(g.now)
			}
			s.Leave(false)
			s.Output()
			s.Receive(g.now, b)
			require.Empty(t, s.Output(), "something follows DISCONNECT")
			s.Lost()
		}
		s.GiveUp(func(mqttsession.Message, byte, bool) {})
		require.Zero(t, s.InFlight())
	})
}

// once fails where a message is settled twice.
type once struct {
	*stage
	settled map[string]bool
}

func (o *once) Settled(m mqttsession.Message, _ mqttsession.Result) {
	n := m.(*note)
	require.NotEqual(o.t, "settled", n.body)
	n.body = "settled"
}
