package mqttsession_test

import (
	"bytes"
	"encoding/hex"
	"errors"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/mochi-mqtt/server/v2/packets"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/brokertest"
	"runcrowd/internal/mqttsession"
	"runcrowd/internal/mqttwire"
)

var update = flag.Bool("update", false, "write the tables of docs/conformance.md")

// note is a message of a script.
type note struct {
	name   string
	qos    byte
	retain bool
	body   string
	topic  string
}

func (n *note) Fill(p *mqttwire.Publish) {
	*p = mqttwire.Publish{Topic: n.topic, QoS: n.qos, Retain: n.retain, Payload: []byte(n.body)}
}

// stage plays a script against a session and writes down what comes of it.
type stage struct {
	t       *testing.T
	version byte
	now     time.Time
	s       *mqttsession.Session
	opt     mqttsession.Options
	log     []string
	left    *mqttsession.Saved
	notes   map[string]*note
}

func (g *stage) say(format string, args ...any) { g.log = append(g.log, fmt.Sprintf(format, args...)) }

var fates = map[mqttsession.Fate]string{mqttsession.Unacked: "not asked", mqttsession.Acknowledged: "acknowledged",
	mqttsession.AsQoS1: "acknowledged as QoS 1", mqttsession.Refused: "refused",
	mqttsession.Unsendable: "unsendable", mqttsession.Stranded: "stranded", mqttsession.SessionGone: "session gone",
	mqttsession.SessionLeft: "session left", mqttsession.Uncertain: "uncertain"}

func (g *stage) Sent(m mqttsession.Message, how mqttsession.Sending) {
	g.say("= %s %s", m.(*note).name, [...]string{"sent", "sent again", "sent anew"}[how])
}
func (g *stage) Settled(m mqttsession.Message, r mqttsession.Result) {
	text := fates[r.Fate]
	if r.Code != 0 {
		text += fmt.Sprintf(" 0x%02x", r.Code)
	}
	g.say("= %s %s", m.(*note).name, text)
}
func (g *stage) Up(ack *mqttwire.Packet)         { g.say("= up") }
func (g *stage) Came(p *mqttwire.Packet)         { g.say("= came %s %s", p.Publish.Topic, p.Publish.Payload) }
func (g *stage) TooLarge(topic string, size int) { g.say("= too large %s %d", topic, size) }
func (g *stage) Subscribed(id uint16, p *mqttwire.Packet) {
	g.say("= subscribed %d 0x%02x", id, p.Reason)
}
func (g *stage) Ponged(pending int, took time.Duration) { g.say("= ponged %d", pending) }
func (g *stage) option(words []string, name string) (string, bool) {
	for _, w := range words {
		if k, v, _ := strings.Cut(w, "="); k == name {
			return v, true
		}
	}
	return "", false
}

func (g *stage) number(words []string, name string, otherwise int) int {
	v, is := g.option(words, name)
	if !is {
		return otherwise
	}
	n, err := strconv.Atoi(v)
	require.NoError(g.t, err)
	return n
}

// do plays one line.
func (g *stage) do(line string) {
	words := strings.Fields(line)
	switch words[0] {
	case "session":
		g.opt.InFlight = g.number(words, "in_flight", 10)
		g.opt.MaxPacket = g.number(words, "max", 1000)
		g.opt.TopicAliases = g.number(words, "aliases", 0)
		g.opt.Timeout = time.Duration(g.number(words, "timeout", 0)) * time.Second
		g.opt.Connect = mqttwire.Connect{Version: g.version, ClientID: "buoy",
			KeepAlive: uint16(g.number(words, "keep", 60)), CleanStart: g.number(words, "clean", 1) == 1,
			SessionExpiry: uint32(g.number(words, "expiry", 0))}
		if g.version == mqttwire.V311 {
			g.opt.Connect.SessionExpiry = 0
		}
		g.opt.Saved = g.left
		g.s = mqttsession.New(g.opt, g)
	case "open": // as a device does: clean where it was asked for and no session is kept
		c := g.opt.Connect
		c.CleanStart = c.CleanStart && !g.s.Kept()
		g.fails(g.s.Open(g.now, c))
	case "publish":
		topic, is := g.option(words, "topic")
		if !is {
			topic = "t"
		}
		body, _ := g.option(words, "body")
		n := &note{words[1], byte(g.number(words, "qos", 0)), slices.Contains(words, "retain"), body, topic}
		g.notes[n.name] = n
		if !g.s.Room(n.qos) {
			g.say("= no room for %s", n.name)
			return
		}
		g.s.Publish(g.now, n)
	case "subscribe":
		_, err := g.s.Subscribe(g.now, words[1], byte(g.number(words, "qos", 0)))
		g.fails(err)
	case "ping":
		g.s.Ping(g.now)
	case "leave":
		g.s.Leave(false)
	case "end":
		g.s.Leave(true)
	case "one-by-one":
		g.s.OneByOne(words[1] == "on")
	case "lost":
		g.s.Lost()
	case "drop":
		g.s.Drop(g.notes[words[1]])
	case "give-up":
		g.left = g.s.GiveUp(func(m mqttsession.Message, _ byte, released bool) {
			g.say("= %s given up, released %t", m.(*note).name, released)
		})
	case "wait":
		d, err := time.ParseDuration(words[1])
		require.NoError(g.t, err)
		g.now = g.now.Add(d)
		_, err = g.s.Tick(g.now)
		g.fails(err)
	case "<":
		g.fails(g.s.Receive(g.now, g.packet(words[1:])))
	case "<<": // byte by byte
		for _, b := range g.packet(words[1:]) {
			g.fails(g.s.Receive(g.now, []byte{b}))
		}
	default:
		g.t.Fatalf("the script says %q", line)
	}
	out := g.s.Output()
	for len(out) > 0 {
		_, _, size, _, err := mqttwire.Frame(out, g.version)
		require.NoError(g.t, err)
		require.NotZero(g.t, size)
		g.say("> %s", g.tell(out[:size]))
		out = out[size:]
	}
}

func (g *stage) fails(err error) {
	if err == nil {
		return
	}
	if e, is := errors.AsType[*mqttwire.Error](err); is {
		g.say("! 0x%02x", e.Code)
		return
	}
	g.say("! %s", err)
}

// tell is a packet that was sent, as another codec reads it.
func (g *stage) tell(b []byte) string {
	pk := brokertest.Decode(g.t, g.version, b)
	text := packets.PacketNames[pk.FixedHeader.Type]
	text = strings.ToUpper(text)
	switch pk.FixedHeader.Type {
	case packets.Connect:
		text += fmt.Sprintf(" clean=%t keep=%d", pk.Connect.Clean, pk.Connect.Keepalive)
		if g.version == mqttwire.V5 {
			text += fmt.Sprintf(" max=%d", pk.Properties.MaximumPacketSize)
		}
	case packets.Publish:
		text += fmt.Sprintf(" %s qos=%d", pk.TopicName, pk.FixedHeader.Qos)
		if pk.FixedHeader.Qos > 0 {
			text += fmt.Sprintf(" id=%d", pk.PacketID)
		}
		if pk.FixedHeader.Dup {
			text += " dup"
		}
		if pk.FixedHeader.Retain {
			text += " retain"
		}
		if pk.Properties.TopicAlias > 0 {
			text += fmt.Sprintf(" alias=%d", pk.Properties.TopicAlias)
		}
	case packets.Subscribe:
		text += fmt.Sprintf(" %d %s qos=%d", pk.PacketID, pk.Filters[0].Filter, pk.Filters[0].Qos)
	case packets.Puback, packets.Pubrec, packets.Pubrel, packets.Pubcomp:
		text += fmt.Sprintf(" %d", pk.PacketID)
	case packets.Disconnect:
		if pk.Properties.SessionExpiryIntervalFlag {
			text += fmt.Sprintf(" expiry=%d", pk.Properties.SessionExpiryInterval)
		}
	}
	if pk.ReasonCode != 0 {
		text += fmt.Sprintf(" 0x%02x", pk.ReasonCode)
	}
	return text
}

var kinds = map[string]byte{"CONNACK": packets.Connack, "PUBLISH": packets.Publish, "PUBACK": packets.Puback,
	"PUBREC": packets.Pubrec, "PUBREL": packets.Pubrel, "PUBCOMP": packets.Pubcomp,
	"SUBACK": packets.Suback, "PINGRESP": packets.Pingresp, "DISCONNECT": packets.Disconnect}

// packet is what a server sends, as another codec writes it.
func (g *stage) packet(words []string) []byte {
	if words[0] == "hex" {
		b, err := hex.DecodeString(strings.Join(words[1:], ""))
		require.NoError(g.t, err)
		return b
	}
	pk := packets.Packet{FixedHeader: packets.FixedHeader{Type: kinds[words[0]]},
		ReasonCode: byte(g.number(words, "code", 0))}
	pk.Mods.AllowResponseInfo = true
	p := &pk.Properties
	switch pk.FixedHeader.Type {
	case packets.Connack:
		pk.SessionPresent = slices.Contains(words, "present")
		p.ReceiveMaximum, p.MaximumPacketSize = uint16(g.number(words, "receive", 0)), uint32(g.number(words, "packet", 0))
		p.TopicAliasMaximum = uint16(g.number(words, "aliases", 0))
		if v, is := g.option(words, "qos"); is {
			p.MaximumQos, p.MaximumQosFlag = v[0]-'0', true
		}
		if _, is := g.option(words, "retain"); is {
			p.RetainAvailable, p.RetainAvailableFlag = 0, true
		}
		if _, is := g.option(words, "keep"); is {
			p.ServerKeepAlive, p.ServerKeepAliveFlag = uint16(g.number(words, "keep", 0)), true
		}
		if _, is := g.option(words, "expiry"); is {
			p.SessionExpiryInterval, p.SessionExpiryIntervalFlag = uint32(g.number(words, "expiry", 0)), true
		}
	case packets.Publish:
		pk.TopicName, pk.FixedHeader.Qos, pk.PacketID = words[1], byte(g.number(words, "qos", 0)), uint16(
			g.number(words, "id", 0))
		pk.FixedHeader.Dup = slices.Contains(words, "dup")
		pk.Payload = bytes.Repeat([]byte("x"), g.number(words, "size", 1))
	case packets.Suback:
		pk.PacketID, pk.ReasonCodes = uint16(g.number(words, "id", 1)), []byte{pk.ReasonCode}
	case packets.Pingresp, packets.Disconnect:
	default:
		pk.PacketID = uint16(g.number(words, "id", 1))
		if pk.FixedHeader.Type == packets.Pubrel {
			pk.FixedHeader.Qos = 1
		}
	}
	return brokertest.Encode(g.t, g.version, pk)
}

// Each script of testdata/standard.txt is played in the versions it names, and what comes
// of each line must be what stands below it.
func TestStandard(t *testing.T) {
	for _, c := range scripts(t) {
		for _, v := range c.versions {
			t.Run(c.name+"/"+v, func(t *testing.T) {
				g := &stage{t: t, version: map[string]byte{"3.1.1": mqttwire.V311, "5": mqttwire.V5}[v],
					now: time.Unix(1_900_000_000, 0), notes: map[string]*note{}}
				for _, step := range c.steps {
					g.log = nil
					g.do(step.line)
					var want []string
					for _, w := range step.want {
						if only, text, is := strings.Cut(w, "| "); is {
							if only != v {
								continue
							}
							w = text
						}
						want = append(want, w)
					}
					require.Equal(t, want, g.log, "%s:%d: %s", standardFile, step.at, step.line)
				}
			})
		}
	}
}

const standardFile = "testdata/standard.txt"

type script struct {
	name     string
	versions []string
	steps    []step
}

type step struct {
	at   int
	line string
	want []string
}

func scripts(t *testing.T) (list []script) {
	text, err := os.ReadFile(standardFile)
	require.NoError(t, err)
	for i, line := range strings.Split(string(text), "\n") {
		bare := strings.TrimSpace(line)
		switch {
		case bare == "" || strings.HasPrefix(bare, "# "):
		case strings.HasPrefix(line, "-- "):
			name, versions, _ := strings.Cut(strings.Trim(line, "- "), " (")
			list = append(list, script{name: name, versions: strings.Split(strings.TrimSuffix(versions, ")"), ", ")})
		case strings.HasPrefix(line, " "):
			c := &list[len(list)-1]
			last := &c.steps[len(c.steps)-1]
			last.want = append(last.want, bare)
		default:
			c := &list[len(list)-1]
			c.steps = append(c.steps, step{at: i + 1, line: bare})
		}
	}
	return list
}

// The tables of docs/conformance.md are made from the list of statements, and each test
// that they name is there.
func TestConformanceTables(t *testing.T) {
	known := map[string]bool{}
	for _, c := range scripts(t) {
		known[c.name] = true
	}
	tests := map[string]bool{}
	require.NoError(t, filepath.WalkDir("..", func(path string, _ os.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, "_test.go") {
			return err
		}
		b, err := os.ReadFile(path)
		for _, m := range regexp.MustCompile(`(?m)^func (Test\w+)\(`).FindAllSubmatch(b, -1) {
			tests[string(m[1])] = true
		}
		return err
	}))
	text, err := os.ReadFile("testdata/statements.txt")
	require.NoError(t, err)
	var b strings.Builder
	used := map[string]bool{}
	for _, line := range strings.Split(string(text), "\n") {
		if line == "" || strings.HasPrefix(line, "# ") {
			continue
		}
		if title, is := strings.CutPrefix(line, "== "); is {
			fmt.Fprintf(&b, "\n### %s\n\n| statement | what it asks of a client | tested by, or why not |\n|---|---|---|\n",
				title)
			continue
		}
		parts := strings.Split(line, " | ")
		require.Len(t, parts, 3, line)
		how := parts[2]
		if names, is := strings.CutPrefix(how, "test: "); is {
			names, more, _ := strings.Cut(names, ". ")
			var list []string
			for _, name := range strings.Split(names, ", ") {
				if strings.HasPrefix(name, "Test") {
					require.True(t, tests[name], "there is no test %s", name)
					list = append(list, "`"+name+"`")
					continue
				}
				require.True(t, known[name], "no script has the name %q", name)
				used[name] = true
				list = append(list, name)
			}
			how = strings.TrimSuffix(strings.Join(list, ", ")+". "+more, ". ")
		}
		fmt.Fprintf(&b, "| %s | %s | %s |\n", parts[0], parts[1], how)
	}
	for name := range known {
		assert.True(t, used[name], "no statement names the script %q", name)
	}
	const page, begin, end = "../../docs/conformance.md", "<!-- made from the tests: begin -->\n", "<!-- made from the tests: end -->\n"
	old, err := os.ReadFile(page)
	require.NoError(t, err)
	head, rest, ok := strings.Cut(string(old), begin)
	require.True(t, ok)
	_, tail, ok := strings.Cut(rest, end)
	require.True(t, ok)
	made := head + begin + b.String() + "\n" + end + tail
	if *update {
		require.NoError(t, os.WriteFile(page, []byte(made), 0o644))
		return
	}
	assert.Equal(t, made, string(old), "write it again with: go test ./internal/mqttsession -update")
}
