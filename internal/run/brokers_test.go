//go:build unix

package run_test

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/mochi-mqtt/server/v2/packets"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/brokertest"
	"runcrowd/internal/ledger"
	"runcrowd/internal/mqttwire"
	"runcrowd/internal/verdict"
)

// foreign is a broker that we did not write.
type foreign struct {
	name     string
	versions []string
	own      string // credentials of a device, as keys of a link
	ear      string // of the witness
	start    func(t *testing.T) (address string)
}

// foreigners are the brokers that the program is tried on. RabbitMQ speaks 3.1.1 alone
// here, and takes QoS 2 as QoS 1.
var foreigners = []foreign{
	{"Mosquitto", []string{"3.1.1", "5"}, "", "", func(t *testing.T) string {
		return startMosquitto(t,
			"allow_anonymous true").addr
	}},
	{"RabbitMQ", []string{"3.1.1"}, "", "", startRabbitMQ},
	{"ejabberd", []string{"3.1.1", "5"}, `, username: "${device}@localhost", password: x`, ", username: ear@localhost, " +
		"password: x", startEjabberd},
}

// missing skips a test, or fails it where everything must be there.
func missing(t *testing.T, what string) {
	if os.Getenv("RUNCROWD_REAL") != "" {
		t.Fatalf("%s is not installed; test.sh installs it", what)
	}
	t.Skip(what + " is not installed")
}

var givenPorts sync.Map

// freePort finds a port for a program that has to be told one. It is below those that the
// system gives to connections, so that none of them takes it before the program does.
func freePort(t *testing.T) string {
	for range 1000 {
		port := strconv.Itoa(20000 + rand.IntN(12000))
		l, err := net.Listen("tcp", ":"+port)
		if err != nil {
			continue
		}
		l.Close()
		if _, given := givenPorts.LoadOrStore(port, true); !given {
			return port
		}
	}
	t.Fatal("no port is free")
	return ""
}

// background starts a program that listens at a port of this machine, in a group of its
// own, and stops all of it at the end.
func background(t *testing.T, cmd *exec.Cmd, port string) string {
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr, cmd.SysProcAttr = &out, &out, &syscall.SysProcAttr{Setpgid: true}
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
		cmd.Wait()
	})
	address := "127.0.0.1:" + port
	for deadline := time.Now().Add(2 * time.Minute); ; time.Sleep(50 * time.Millisecond) {
		nc, err := net.Dial("tcp", address)
		if err == nil {
			nc.Close()
			return address
		}
		if time.Now().After(deadline) {
			t.Fatalf("%s does not listen: %s", cmd.Path, out.String())
		}
	}
}

// idle keeps the machine of Erlang from waiting busily.
const idle = "+sbwt none +sbwtdcpu none +sbwtdio none"

func startRabbitMQ(t *testing.T) string {
	list, _ := filepath.Glob("/usr/lib/rabbitmq/lib/rabbitmq_server-*/sbin/rabbitmq-server")
	if len(list) == 0 {
		missing(t, "rabbitmq-server")
	}
	dir, port, dist, names := t.TempDir(), freePort(t), freePort(t), freePort(t)
	config := filepath.Join(dir, "rabbitmq.conf")
	require.NoError(t, os.WriteFile(config, fmt.Appendf(nil, "listeners.tcp = none\nmqtt.listeners.tcp.1 = "+
		"127.0.0.1:%s\nmqtt.allow_anonymous = true\nloopback_users = none\n", port), 0o600))
	plugins := filepath.Join(dir, "plugins")
	require.NoError(t, os.WriteFile(plugins, []byte("[rabbitmq_mqtt]."), 0o600))
	cmd := exec.Command(list[0])
	cmd.Env = append(os.Environ(), "HOME="+dir, "RABBITMQ_NODENAME=runcrowd"+port+"@localhost",
		"RABBITMQ_MNESIA_BASE="+dir, "RABBITMQ_LOG_BASE="+dir, "RABBITMQ_ENABLED_PLUGINS_FILE="+plugins,
		"RABBITMQ_CONFIG_FILE="+config, "RABBITMQ_DIST_PORT="+dist, "ERL_EPMD_ADDRESS=127.0.0.1", "ERL_EPMD_PORT="+names,
		"RABBITMQ_SERVER_ADDITIONAL_ERL_ARGS="+idle)
	t.Cleanup(func() { exec.Command("epmd", "-port", names, "-kill").Run() }) // a daemon of its own that it leaves
	return background(t, cmd, port)
}

func startEjabberd(t *testing.T) string {
	if _, err := os.Stat("/usr/sbin/ejabberdctl"); err != nil {
		missing(t, "ejabberd")
	}
	dir, port := t.TempDir(), freePort(t)
	config := filepath.Join(dir, "ejabberd.yml")
	require.NoError(t, os.WriteFile(config, fmt.Appendf(nil, `
hosts: [localhost]
loglevel: 2
listen: [{port: %s, ip: "127.0.0.1", module: mod_mqtt}]
auth_method: [anonymous]
anonymous_protocol: login_anon
modules: {mod_mqtt: {max_queue: 100000, session_expiry: 5 minutes}}
`, port), 0o600))
	cmd := exec.Command("erl", append(strings.Fields(idle), "-noinput", "-mnesia", "dir",
		fmt.Sprintf("%q", filepath.Join(dir, "db")), "-s", "ejabberd")...)
	cmd.Env = append(os.Environ(), "HOME="+dir, "ERL_LIBS=/usr/lib/x86_64-linux-gnu:/usr/lib/aarch64-linux-gnu",
		"EJABBERD_CONFIG_PATH="+config, "EJABBERD_LOG_PATH="+filepath.Join(dir, "log"))
	return background(t, cmd, port)
}

// middle stands between devices and a broker, and does to their connections, or to their
// packets, what a test says. It knows what it did.
type middle struct {
	net.Listener
	t       *testing.T
	broker  string
	version byte
	// way is how bytes go: straight, dribble, delay, cut, silent to the broker, silent to
	// the device, silent; flaw is what is done to some packets.
	way, flaw string

	mu   sync.Mutex
	n    int // connections so far
	hits []string
}

func newMiddle(t *testing.T, broker string, version byte, way, flaw string) *middle {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	m := &middle{Listener: l, t: t, broker: broker, version: version, way: way, flaw: flaw}
	go func() {
		for {
			device, err := l.Accept()
			if err != nil {
				return
			}
			m.mu.Lock()
			m.n++
			n := m.n
			m.mu.Unlock()
			go m.carry(device, n)
		}
	}()
	return m
}

// How many bytes of a connection go through before it is cut or silent: to the broker, and
// to the device, which gets little more than acknowledgements.
const (
	bytesToBroker = 1500
	bytesToDevice = 50
)

// carry carries one connection. The first of each device are the bad ones.
func (m *middle) carry(device net.Conn, n int) {
	defer device.Close()
	broker, err := net.Dial("tcp", m.broker)
	if err != nil {
		return
	}
	defer broker.Close()
	bad := n <= 8
	muted := map[uint16]bool{}
	done := make(chan struct{}, 2)
	go func() {
		m.copy(device, broker, bytesToDevice, bad && (m.way == "silent to the device" || m.way == "silent"), false,
			func(packet []byte) [][]byte { return m.toDevice(packet, muted) })
		done <- struct{}{}
	}()
	go func() {
		m.copy(broker, device, bytesToBroker, bad && (m.way == "silent to the broker" || m.way == "silent"),
			bad && m.way == "cut", func(packet []byte) [][]byte { return m.toBroker(packet, device, muted) })
		done <- struct{}{}
	}()
	<-done
}

// copy moves packets one way; after so many bytes it is silent, or ends.
func (m *middle) copy(to, from net.Conn, most int, silent, cut bool, change func([]byte) [][]byte) {
	var in []byte
	buf := make([]byte, 4096)
	total := 0
	for {
		n, err := from.Read(buf)
		if err != nil {
			return
		}
		total += n
		switch {
		case silent && total > most:
			io.Copy(io.Discard, from)
			return
		case cut && total > most:
			return
		case m.way == "delay":
			time.Sleep(20 * time.Millisecond)
		}
		in = append(in, buf[:n]...)
		for {
			_, _, size, _, err := mqttwire.Frame(in, m.version)
			if err != nil || size == 0 {
				break
			}
			for _, b := range change(in[:size]) {
				if m.way != "dribble" {
					to.Write(b)
					continue
				}
				for i := range b {
					to.Write(b[i : i+1])
				}
			}
			in = in[size:]
		}
	}
}

func (m *middle) toDevice(packet []byte, muted map[uint16]bool) [][]byte {
	if packet[0]>>4 == packets.Puback {
		m.mu.Lock()
		defer m.mu.Unlock()
		if muted[uint16(packet[2])<<8|uint16(packet[3])] {
			return nil
		}
	}
	return [][]byte{bytes.Clone(packet)}
}

func (m *middle) toBroker(packet []byte, device net.Conn, muted map[uint16]bool) [][]byte {
	as := [][]byte{bytes.Clone(packet)}
	if m.flaw == "" || packet[0]>>4 != packets.Publish {
		return as
	}
	pk := brokertest.Decode(m.t, m.version, packet)
	_, rest, _ := strings.Cut(string(pk.Payload), `"mark":"`)
	text, _, _ := strings.Cut(rest, `"`)
	mark, err := ledger.ParseMark(text)
	if err != nil || mark.Seq%10 != 3 {
		return as
	}
	m.mu.Lock()
	m.hits = append(m.hits, fmt.Sprintf("%s/%s/%d", mark.Device, mark.Reading, mark.Seq))
	m.mu.Unlock()
	ack := packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Puback}, PacketID: pk.PacketID}
	encode := func() [][]byte { return [][]byte{brokertest.Encode(m.t, m.version, pk)} }
	switch m.flaw {
	case "lose":
		device.Write(brokertest.Encode(m.t, m.version, ack))
		return nil
	case "refuse":
		ack.ReasonCode = 0x87
		device.Write(brokertest.Encode(m.t, m.version, ack))
		return nil
	case "alter":
		pk.Payload = bytes.Replace(pk.Payload, []byte(`"wave_m":`), []byte(`"wave_m":9`), 1)
		return encode()
	case "misfile":
		pk.TopicName = strings.Replace(pk.TopicName, mark.Device, "buoy-5", 1)
		return encode()
	case "repeat":
		pk.FixedHeader.Qos, pk.PacketID = 0, 0
		return append(as, encode()...)
	case "mute":
		m.mu.Lock()
		muted[pk.PacketID] = true
		m.mu.Unlock()
	}
	return as
}

// parts gives each crowd on a broker names of its own.
var parts atomic.Int64

func crowdThrough(f *foreign, version string, qos int, settle string) string {
	n := parts.Add(1)
	return strings.NewReplacer("harbour/", fmt.Sprintf("harbour-%d/", n), "buoy-$", fmt.Sprintf("buoy-%d-$", n),
		"VERSION", version, "QOS", fmt.Sprint(qos), "OWN", f.own, "EAR", f.ear, "SETTLED", settle).Replace(`
crowd: harbour
links:
  sea: {mqtt: "mqtt://MQTT", version: VERSION, back_off: 50ms to 100ms, timeout: 3sOWN}
  ear: {mqtt: "mqtt://HTTP", version: VERSIONEAR}
kinds:
  buoy:
    link: sea
    readings:
      state: {every: 40ms, topic: "harbour/${device}/state", qos: QOS, fields: {wave_m: {signal: swell, height: 1.2, round: 3}}}
devices: [{kind: buoy, count: 4, name: "buoy-${n}"}]
plan: {for: 1500ms, settle: SETTLED}
witnesses: {ear: {proves: received, subscribe: "harbour/#", link: ear, qos: 1, wait: WAIT}}
`)
}

// Devices on brokers that we did not write, behind what a network does: every message is
// proven. What a platform does to messages is found exactly.
func TestForeignBrokers(t *testing.T) {
	t.Parallel()
	for _, f := range foreigners {
		t.Run(f.name, func(t *testing.T) {
			fewer(t)
			t.Parallel()
			broker := f.start(t)
			for _, version := range f.versions {
				v := map[string]byte{"3.1.1": mqttwire.V311, "5": mqttwire.V5}[version]
				for _, way := range []string{"straight", "dribble", "delay", "cut", "silent to the broker", "silent to the device",
					"silent"} {
					for qos := range 3 {
						if qos != 1 && way != "straight" && way != "dribble" {
							continue // a cut loses what is of QoS 0, and leaves QoS 2 uncertain where the session is lost
						}
						t.Run(fmt.Sprintf("%s/%s/QoS %d", version, way, qos), func(t *testing.T) {
							fewer(t)
							t.Parallel()
							m := newMiddle(t, broker, v, way, "")
							p := playAgainst(t, m.Addr().String(), broker, crowdThrough(&f, version, qos, "60s"))
							r := p.result
							assert.Greater(t, r.Total.Due(), 120)
							assert.Equal(t, r.Total.Due(), r.Total[verdict.Proven], "%v %+v", r.Total, r.Findings)
							if slices.Contains([]string{"straight", "dribble", "delay"}, way) {
								assert.Zero(t, r.Links.Drops, "%v", r.Links.Why)
							} else {
								assert.GreaterOrEqual(t, r.Links.Drops, 4)
							}
							downgraded := f.name == "RabbitMQ" && qos == 2
							assert.Equal(t, downgraded, len(r.Links.Remarks) > 0, "%v", r.Links.Remarks)
							if f.name == "RabbitMQ" && way == "straight" && qos == 0 { // it grants QoS 1 at most
								p := playAgainst(t, m.Addr().String(), broker, strings.Replace(crowdThrough(&f, version, qos, "60s"),
									"qos: 1, wait", "qos: 2, wait", 1))
								require.Len(t, p.result.Links.Remarks, 1)
								for remark := range p.result.Links.Remarks {
									assert.Regexp(t, `^the witness "ear": the broker granted QoS 1 for harbour-\d+/#; QoS 2 was asked for$`,
										remark)
								}
							}
						})
					}
				}
				for flaw, want := range map[string]verdict.Verdict{"lose": verdict.Lost, "refuse": verdict.Refused,
					"alter": verdict.Altered, "misfile": verdict.Misfiled, "repeat": verdict.Repeated,
					"mute": verdict.Unacknowledged} {
					if flaw == "refuse" && version != "5" {
						continue // version 3.1.1 cannot
					}
					t.Run(version+"/"+flaw, func(t *testing.T) {
						fewer(t)
						t.Parallel()
						var m *middle
						p := unhurried(func() *played {
							m = newMiddle(t, broker, v, "straight", flaw)
							return playAgainst(t, m.Addr().String(), broker, strings.Replace(crowdThrough(&f, version, 1, "5s"), "WAIT",
								"8s", 1))
						})
						sort.Strings(m.hits)
						assert.GreaterOrEqual(t, len(m.hits), 12)
						assert.Equal(t, slices.Compact(m.hits), p.found(want), "%v", p.result.Total)
						assert.Equal(t, p.result.Total.Due(), p.result.Total[verdict.Proven]+p.result.Total[want], "%v", p.result.Total)
					})
				}
			}
		})
	}
}
