//go:build unix

package run_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/ask"
	"runcrowd/internal/credential"
	"runcrowd/internal/crowd/file"
	"runcrowd/internal/fleet"
	"runcrowd/internal/ledger"
	"runcrowd/internal/link"
	"runcrowd/internal/link/mqtt"
	"runcrowd/internal/mqttsession"
	"runcrowd/internal/mqttwire"
	"runcrowd/internal/run"
	"runcrowd/internal/standin"
	"runcrowd/internal/tally"
	"runcrowd/internal/verdict"
)

const commanded = `
crowd: harbour
seed: 7
links: {sea: {mqtt: mqtt://MQTT, version: VERSION}, ear: {mqtt: mqtt://MQTT, version: VERSION}}
kinds:
  buoy:
    link: sea
    properties: {lamp_w: 12, label: "no. ${n}", lit: true, drift: 0.5, mooring: "58.03,-6.40"}
    readings:
      state: {every: 500ms, topic: "harbour/${device}/state", fields: {lamp_w: "${lamp_w}", label: "${label}", lit: "${lit}", drift: "${drift}", mooring: "${mooring}"}}
      rare: {every: 1h, topic: "harbour/${device}/rare", fields: {a: {signal: counter}}}
    commands:
      ping: {topic: "ask/${device}/+", match: {name: ping}, reply: {topic: "told/${device}"}}
      faster: {topic: "ask/${device}", match: {name: faster}, do: {every: {state: "${ask.ms}ms"}}, reply: {topic: "told/${device}", body: {ok: "${done}", why: "${why}", ms: "${ask.ms}"}, after: 100ms to 200ms}}
      set: {topic: "ask/${device}", match: {name: set, n: 1}, do: {set: {lamp_w: "${ask.watts}", label: "to ${ask.watts}", lit: "${ask.watts > 20}", drift: "${ask.watts / 4}"}, send: [state, rare]}, reply: {topic: "told/${device}", body: {ok: "${done}", why: "${why}", lamp: "${lamp_w}"}}}
      lie: {topic: "ask/${device}", match: {name: lie}, reply: {topic: "told/${device}", wrong: {chance: 100%, body: {ok: false}}}}
      hide: {topic: "ask/${device}", match: {name: hide}, reply: {topic: "told/${device}", never: 100%}}
      quiet: {topic: "ask/${device}", match: {name: quiet}, do: {send: state}}
devices: [{kind: buoy, count: 3, name: "buoy-${n}"}]
plan: {for: LENGTH, settle: 20s}
witnesses: {ear: {proves: received, subscribe: harbour/#, link: ear, wait: 30s}}
`

// asker asks devices of a crowd text, beside the run.
type asker struct {
	t       *testing.T
	f       *fleet.Fleet
	network link.Network
}

func newAsker(t *testing.T, text string, network link.Network) *asker {
	c, err := file.Parse("harbour.yaml", []byte(text), file.Sources{Getenv: os.LookupEnv})
	require.NoError(t, err)
	f, err := fleet.Build(c, credential.New(c))
	require.NoError(t, err)
	return &asker{t, f, network}
}

func (a *asker) ask(device, command string, wait time.Duration, values map[string]any) *ask.Answer {
	q := &ask.Question{Crowd: a.f.Crowd, Credentials: a.f.Credentials, Values: values, Link: a.f.Crowd.Link("ear"),
		Wait: wait, Network: a.network}
	for _, d := range a.f.Devices {
		if d.Name == device {
			q.Device = d
		}
	}
	for _, k := range q.Device.Commands {
		if k.Name == command {
			q.Command = k
		}
	}
	got, err := q.Ask(context.Background())
	require.NoError(a.t, err)
	return got
}

// ready asks until a device answers: from then on it hears everything.
func (a *asker) ready(device, command string) {
	for range 100 {
		if a.ask(device, command, 200*time.Millisecond, nil).Answered {
			return
		}
	}
	require.Fail(a.t, device+" does not answer")
}

// playBeside plays a crowd while f runs, and reads the ledger.
func playBeside(t *testing.T, text string, opt run.Options, f func()) (*tally.Result, *ledger.Book) {
	c, err := file.Parse("harbour.yaml", []byte(text), file.Sources{Getenv: os.LookupEnv})
	require.NoError(t, err)
	s, err := open(t, c, opt)
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan error)
	go func() { done <- s.Play(ctx) }()
	f()
	stop()
	require.NoError(t, <-done)
	res, err := run.Judge(s.Folder, run.Judging{})
	require.NoError(t, err)
	book, err := run.ReadLedger(s.Folder)
	require.NoError(t, err)
	return res.Result, book
}

// Commands are obeyed and answered as the file says, each is in the ledger, and what
// they change shows in the messages: with brokers of both versions, ours and another.
func TestCommands(t *testing.T) {
	t.Parallel()
	type player func(t *testing.T, play func(t *testing.T, broker string, opt run.Options))
	for name, with := range map[string]player{
		"stand-in": func(t *testing.T, play func(*testing.T, string, run.Options)) {
			inWorld(t, standin.Config{}, func(t *testing.T, w *world) { play(t, w.MQTTAddr, w.options()) })
		},
		"Mosquitto": func(t *testing.T, play func(*testing.T, string, run.Options)) {
			play(t, startMosquitto(t, "allow_anonymous true").addr, run.Options{Out: t.TempDir()})
		},
	} {
		for _, version := range []string{"5", "3.1.1"} {
			commandsAt := func(t *testing.T, broker string, opt run.Options) {
				text := strings.NewReplacer("MQTT", broker, "VERSION", version, "LENGTH", "2m").Replace(commanded)
				if version == "5" { // where the command wants it
					text = strings.Replace(text, `do: {send: [state, rare]}, reply: {topic: "told/${device}", `,
						`do: {send: [state, rare]}, reply: {`, 1)
				}
				a := newAsker(t, strings.Replace(text, `"ask/${device}/+"`, `"ask/${device}/x"`, 1),
					opt.Network) // a topic, where the devices have a filter
				told := func(x *ask.Answer) string {
					if !x.Answered {
						return "nothing"
					}
					return string(x.Told)
				}
				res, book := playBeside(t, text, opt, func() {
					for i := range 3 {
						a.ready(fmt.Sprintf("buoy-%d", i+1), "ping")
					}
					x := a.ask("buoy-1", "faster", 20*time.Second, map[string]any{"ms": 20})
					assert.JSONEq(t, `{"ok":true,"why":"","ms":20}`, told(x))
					assert.GreaterOrEqual(t, x.After, 100*time.Millisecond)
					assert.Equal(t, version == "5", x.Matched)
					assert.JSONEq(t, `{"ok":false,"why":"every: \"fastms\" is not a duration; write one such as 5s, 250ms or 12h25m","ms":"fast"}`,
						told(a.ask("buoy-1", "faster", 20*time.Second, map[string]any{"ms": "fast"})))
					assert.JSONEq(t, `{"ok":true,"why":"","lamp":36}`, told(
						a.ask("buoy-2", "set", 20*time.Second, map[string]any{"watts": 36})))
					assert.JSONEq(t, `{"ok":false,"why":"set: lamp_w: it is a whole number, not 2.5","lamp":36}`,
						told(a.ask("buoy-2", "set", 20*time.Second, map[string]any{"watts": 2.5})))
					assert.JSONEq(t, `{"ok":false}`, told(a.ask("buoy-3", "lie", 20*time.Second, nil)))
					assert.Equal(t, "nothing", told(a.ask("buoy-3", "hide", 300*time.Millisecond, nil)))
					assert.False(t, a.ask("buoy-3", "quiet", time.Second, nil).Wanted)
					assert.Equal(t, "nothing", told(a.ask("buoy-3", "lie", 300*time.Millisecond, map[string]any{"name": "dance"})))
					time.Sleep(1500 * time.Millisecond) // let the faster one speak
				})
				assert.Equal(t, res.Total.Due(), res.Total[verdict.Proven], "%+v", res.Findings)
				asked := map[string]tally.Asked{}
				for _, x := range res.Commands {
					x.Delays = tally.Delays{}
					asked[x.Name] = x
				}
				delete(asked, "ping") // as often as it took
				assert.Equal(t, map[string]tally.Asked{
					"faster": {Name: "faster", Came: 2, Obeyed: 1, Answered: 2}, "set": {Name: "set", Came: 2, Obeyed: 1, Answered: 2},
					"lie":   {Name: "lie", Came: 1, Obeyed: 1, Answered: 1, Wrongly: 1},
					"hide":  {Name: "hide", Came: 1, Obeyed: 1, Silent: 1},
					"quiet": {Name: "quiet", Came: 1, Obeyed: 1}, "": {Came: 1}}, asked)
				var why []string
				for _, m := range res.Mishaps {
					why = append(why, m.Device+" "+m.Why)
				}
				assert.Equal(t, []string{`buoy-1 not obeyed: every: "fastms" is not a duration; write one such as 5s, 250ms or 12h25m`,
					"buoy-2 not obeyed: set: lamp_w: it is a whole number, not 2.5", "buoy-3 no command of the kind matches"}, why)
				// What the messages carried.
				states := func(device, reading string) (list []string) {
					for i, s := range book.Streams {
						for _, m := range book.Messages[i] {
							if s.Device == device && s.Reading == reading {
								list = append(list, string(m.Carried))
							}
						}
					}
					return list
				}
				assert.Greater(t, len(states("buoy-1", "state")), 3*len(states("buoy-3", "state")), "the interval is shorter")
				assert.Len(t, states("buoy-2", "rare"), 1, "sent when asked, and not due otherwise")
				list := states("buoy-2", "state")
				require.NotEmpty(t, list)
				var last map[string]any
				require.NoError(t, json.Unmarshal([]byte(list[len(list)-1]), &last))
				assert.Equal(t, map[string]any{"lamp_w": 36.0, "label": "to 36", "lit": true, "drift": 9.0,
					"mooring": "58.03,-6.40"}, last)
				// Before it was asked, and there was time to speak, it had another value.
				if before := states("buoy-3", "state"); assert.NotEmpty(t, before) {
					assert.Contains(t, before[0], `"lamp_w":12`)
				}
			}
			t.Run(name+" "+version, func(t *testing.T) {
				fewer(t)
				t.Parallel()
				with(t, commandsAt)
			})
		}
	}
}

// Rounds play the same plan: what commands changed in one is as it was in the next; and
// what comes or is due when a round is over is told, not lost.
func TestCommandsAndRounds(t *testing.T) {
	t.Parallel()
	inWorld(t, standin.Config{}, commandsAndRounds)
}

func commandsAndRounds(t *testing.T, w *world) {
	text := strings.NewReplacer("MQTT", w.MQTTAddr, "VERSION", "5", "LENGTH", "6s, rounds: {count: 2}",
		`"ask/${device}/+"`, `"ask/${device}/x"`,
		"after: 100ms to 200ms", "after: 1m").Replace(commanded)
	a := newAsker(t, text, w.net.Dial)
	c, err := file.Parse("harbour.yaml", []byte(text), file.Sources{})
	require.NoError(t, err)
	session, err := open(t, c, w.options())
	require.NoError(t, err)
	done := make(chan error)
	go func() { done <- session.Play(context.Background()) }()
	a.ready("buoy-1", "ping")
	a.ready("buoy-2", "ping")
	assert.True(t, a.ask("buoy-2", "set", 5*time.Second, map[string]any{"watts": 36}).Answered)
	assert.False(t, a.ask("buoy-1", "faster", 100*time.Millisecond, map[string]any{"ms": 100}).Answered,
		"its answer is due in a minute")
	require.NoError(t, <-done)
	res, err := run.Judge(session.Folder, run.Judging{})
	require.NoError(t, err)
	assert.Equal(t, res.Total.Due(), res.Total[verdict.Proven], "%+v", res.Findings)
	book, err := run.ReadLedger(session.Folder)
	require.NoError(t, err)
	rounds := map[int][]string{}
	counts := map[int]int{}
	for i, s := range book.Streams {
		for _, m := range book.Messages[i] {
			if s.Device == "buoy-2" && s.Reading == "state" {
				rounds[m.Round] = append(rounds[m.Round], string(m.Carried))
			}
			if s.Device == "buoy-1" {
				counts[m.Round]++
			}
		}
	}
	assert.Contains(t, rounds[1][len(rounds[1])-1], `"lamp_w":36`)
	for _, m := range rounds[2] {
		assert.Contains(t, m, `"lamp_w":12`)
	}
	assert.Greater(t, counts[1], 2*counts[2])
	require.Len(t, res.Mishaps, 1)
	assert.Equal(t, "its answer: unsent: the round ended before it was due", res.Mishaps[0].Why)
}

// listeningEar hears what comes on a line.
type listeningEar struct {
	mqttsession.Handler
	hear    chan mqttwire.Packet
	granted mqtt.Granted
}

func (*listeningEar) Up(*mqttwire.Packet)                        {}
func (e *listeningEar) Subscribed(id uint16, p *mqttwire.Packet) { e.granted.Take(id, p) }
func (e *listeningEar) Came(p *mqttwire.Packet) {
	x := *p
	x.Publish.Payload, x.UserProp = bytes.Clone(p.Publish.Payload), slices.Clone(p.UserProp)
	e.hear <- x
}

// A will is published where the connection is lost, and not where it is ended; user
// properties, expiry and topic aliases go through a broker that we did not write.
func TestMosquittoWillAndProperties(t *testing.T) {
	t.Parallel()
	m := startMosquitto(t, "allow_anonymous true\nmax_topic_alias 5")
	hear := make(chan mqttwire.Packet, 100)
	nc, err := net.Dial("tcp", m.addr)
	require.NoError(t, err)
	defer nc.Close()
	ear := &listeningEar{hear: hear}
	line := mqtt.NewLine(mqttsession.Options{InFlight: 1, MaxPacket: 1 << 20}, ear)
	require.NoError(t, line.Shake(t.Context(), nc, mqttwire.Connect{Version: 5, ClientID: "ear", CleanStart: true}))
	require.NoError(t, line.Subscribe(t.Context(), "#", 0, &ear.granted))
	go func() {
		for line.Read() == nil {
		}
		close(hear)
	}()
	next := func() mqttwire.Packet {
		select {
		case p := <-hear:
			return p
		case <-time.After(10 * time.Second):
			require.Fail(t, "nothing was heard")
		}
		return mqttwire.Packet{}
	}
	for _, version := range []int{mqttwire.V311, mqttwire.V5} {
		id := link.Identity{Name: "buoy", ClientID: "buoy", Will: &link.Will{Topic: "gone",
			Body: []byte(fmt.Sprint("v", version)), QoS: 1, ContentType: "text/plain"}}
		device, err := net.Dial("tcp", m.addr)
		require.NoError(t, err)
		line := mqtt.NewLine(mqttsession.Options{InFlight: 1, MaxPacket: 1 << 16}, &listeningEar{})
		require.NoError(t, line.Shake(t.Context(), device, *mqtt.Connect(version, id, "")))
		device.Close() // cut, without DISCONNECT
		p := next()
		assert.Equal(t, "gone", p.Publish.Topic)
		assert.Equal(t, fmt.Sprint("v", version), string(p.Publish.Payload))
	}
	p := playAgainst(t, m.addr, "", `
crowd: harbour
links: {sea: {mqtt: mqtt://MQTT, topic_aliases: 3}}
kinds:
  buoy:
    will: {topic: gone, body: "a device that ends as it should leaves no will"}
    readings:
      state: {every: 100ms, topic: "harbour/${device}/state", expires: 30s, user_properties: {unit: m, of: "${device}"}, fields: {a: {signal: counter}}}
      other: {every: 100ms, topic: "harbour/${device}/other", fields: {a: {signal: counter}}}
devices: [{kind: buoy, count: 2, name: "buoy-${n}"}]
plan: {for: 1s}
witnesses: {ear: {proves: received, subscribe: harbour/#, wait: WAIT}}
`)
	assert.Equal(t, p.result.Total.Due(), p.result.Total[verdict.Proven], "%+v", p.result.Findings)
	for range p.result.Total.Due() {
		x := next()
		require.NotEqual(t, "gone", x.Publish.Topic)
		if strings.HasSuffix(x.Publish.Topic, "/state") {
			device := strings.Split(x.Publish.Topic, "/")[1]
			assert.Equal(t, []mqttwire.UserProperty{{Key: "unit", Value: "m"}, {Key: "of", Value: device}}, x.UserProp)
			assert.InDelta(t, 30, int(x.Publish.Expiry), 2)
		}
	}
}

// Where the platform lets in only so many, the others are told of.
func TestConnectionsAreLimited(t *testing.T) {
	t.Parallel()
	var p *played
	inWorld(t, standin.Config{Connections: 11}, func(t *testing.T, w *world) {
		p = w.play(t, strings.Replace(overMQTT("5", 1, "1s"), "settle: 60s", "settle: 1s", 1))
	})
	assert.Len(t, p.result.Devices, 10, "ten of twenty are let in, beside the witness")
	assert.Equal(t, p.result.Total.Due(), p.result.Total[verdict.Unsent]+p.result.Total[verdict.Proven])
	require.NotEmpty(t, p.result.Links.Why)
	for why := range p.result.Links.Why {
		assert.Equal(t, "the broker refused the connection: server busy (0x89)", why)
	}
}
