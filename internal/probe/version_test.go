package probe_test

import (
	"fmt"
	"net"
	"strings"
	"testing"

	"github.com/mochi-mqtt/server/v2/packets"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/brokertest"
	"runcrowd/internal/probe"
	"runcrowd/internal/standin"
)

// A WebSocket is probed to the end, as a run uses it; and the message goes over the same
// connection.
func TestProbeOverWebSocket(t *testing.T) {
	s, err := standin.Start(standin.Config{MQTT: "127.0.0.1:0", HTTP: "127.0.0.1:0", WS: "127.0.0.1:0"})
	require.NoError(t, err)
	defer s.Close()
	for _, version := range []string{"5", "3.1.1"} {
		r := way(t, t.TempDir(), fmt.Sprintf(`
crowd: way
links: {sea: {mqtt: "ws://%s/mqtt", version: %s}}
kinds: {buoy: {readings: {state: {every: 1s, topic: "t/${device}", qos: 1, fields: {a: 1}}}}}
devices: [{kind: buoy}]
plan: {for: 1m}
witnesses: {ear: {proves: received, subscribe: "t/#"}}
`, s.WSAddr, version))
		assert.False(t, r.Failed(), "%+v", r.Steps)
		var names []string
		for _, s := range r.Steps {
			assert.Equal(t, probe.OK, s.Result, "%+v", s)
			names = append(names, s.Name)
		}
		assert.Equal(t, "TCP open, WebSocket, MQTT "+version+" accepted, credentials accepted, connection kept, message "+
			"acknowledged, own subscription hears it", strings.Join(names, ", "))
	}
}

// old is a broker that speaks one version alone, and closes connections of the other. It
// answers PUBACK to everything, and allows no subscription.
func old(t *testing.T, version byte) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			nc, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer nc.Close()
				p := brokertest.Serve(nc, version)
				for {
					pk, err := p.Read()
					if err != nil {
						return
					}
					answer := packets.Packet{PacketID: pk.PacketID}
					switch pk.FixedHeader.Type {
					case packets.Connect:
						if pk.ProtocolVersion != version {
							return
						}
						answer.FixedHeader.Type = packets.Connack
					case packets.Publish:
						answer.FixedHeader.Type = packets.Puback
					case packets.Subscribe:
						answer.FixedHeader.Type, answer.ReasonCodes = packets.Suback, []byte{0x80}
					default:
						continue
					}
					p.Reply(answer)
				}
			}()
		}
	}()
	return l.Addr().String()
}

// The version that the broker does not speak, QoS 2 that it takes as 1, a subscription that
// it does not allow: each is told in words.
func TestProbeTellsWhatABrokerDoes(t *testing.T) {
	crowd := func(address, version, rest string) string {
		return fmt.Sprintf(`
crowd: way
links: {sea: {mqtt: "mqtt://%s", version: %s}}
kinds: {buoy: {readings: {state: {every: 1s, topic: "t/${device}", qos: 2, fields: {a: 1}}}}}
devices: [{kind: buoy}]
plan: {for: 1m}
%s`, address, version, rest)
	}
	for speaks, other := range map[string]string{"3.1.1": "5", "5": "3.1.1"} {
		address := old(t, map[string]byte{"3.1.1": 4, "5": 5}[speaks])
		name, says, causes := failed(way(t, t.TempDir(), crowd(address, other, "")))
		assert.Equal(t, "MQTT "+other+" accepted", name)
		assert.Contains(t, says, "CONNECT got no answer: the platform closed the connection")
		assert.Contains(t, strings.SplitN(causes, "\n", 2)[0], "the broker speaks version "+speaks+" alone: write version: "+
			speaks)

		r := way(t, t.TempDir(), crowd(address, speaks, ""))
		assert.False(t, r.Failed(), "%+v", r.Steps)
		last := r.Steps[len(r.Steps)-1]
		assert.Equal(t, probe.Doubtful, last.Result)
		assert.Equal(t, "PUBACK came in place of PUBREC: the broker took a message of QoS 2 as QoS 1", last.Says)

		name, says, causes = failed(way(t, t.TempDir(), crowd(address, speaks,
			`witnesses: {ear: {proves: received, subscribe: "t/#"}}`)))
		assert.Equal(t, "witnesses ready", name)
		assert.Contains(t, says, `the broker refused the subscription "t/#": unspecified error (0x80)`)
		assert.Contains(t, causes, "check that this user may subscribe")
	}
}
