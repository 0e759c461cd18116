package engine_test

import (
	"cmp"
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/clock"
	"runcrowd/internal/credential"
	"runcrowd/internal/crowd"
	"runcrowd/internal/crowd/file"
	"runcrowd/internal/engine"
	"runcrowd/internal/fleet"
	"runcrowd/internal/ledger"
	"runcrowd/internal/link"
	"runcrowd/internal/outcome"
)

// wire is a link that accepts everything at once, and remembers it.
type wire struct {
	mu    sync.Mutex
	sink  link.Sink
	up    chan struct{}
	sent  []string
	fails bool          // refuses answers
	slow  time.Duration // to take a message over
}

func (w *wire) Try(context.Context, link.Identity) error { return nil }
func (w *wire) Close() (int, time.Duration)              { return 0, 0 }
func (w *wire) Connect(id link.Identity, sink link.Sink) link.Conn {
	w.sink = sink
	sink.Up(id.Device, false)
	close(w.up)
	return &wireConn{w}
}

type wireConn struct{ *wire }

func (*wireConn) Wake() {}
func (*wireConn) Lost() {}

func (c *wireConn) Send(m *link.Message) {
	time.Sleep(c.slow)
	c.mu.Lock()
	if m.Answer > 0 {
		c.sent = append(c.sent, fmt.Sprintf("%s %s %s", m.Target, m.Body, m.MQTT.Correlation))
	}
	fails := c.fails && m.Answer > 0
	c.mu.Unlock()
	c.sink.Sent(m, clock.Nano(), false)
	if fails {
		c.sink.Settled(m, clock.Nano(), outcome.Refused, 0x87, "not authorized")
		return
	}
	c.sink.Settled(m, clock.Nano(), outcome.Accepted, 0, "")
}
func (c *wireConn) Tick(time.Time) time.Duration { return 0 }
func (c *wireConn) Open() int                    { return 0 }
func (c *wireConn) Close(bool)                   {}

// rig makes an engine with a link of ours; read ends its ledger and reads it.
func rig(t *testing.T, c *crowd.Crowd, line *wire) (e *engine.Engine, f *fleet.Fleet, read func() *ledger.Book) {
	t.Helper()
	f, err := fleet.Build(c, credential.New(c))
	require.NoError(t, err)
	path := filepath.Join(t.TempDir(), "ledger")
	w, err := ledger.Create(path, "k3f9a2xy", "harbour", time.Now())
	require.NoError(t, err)
	e = engine.New(f, map[*crowd.Link]link.Link{c.Links[0]: line}, w, "k3f9a2xy")
	return e, f, func() *ledger.Book {
		require.NoError(t, w.Close())
		book, err := ledger.Read(path)
		require.NoError(t, err)
		return book
	}
}

// obey lets the one device of a crowd obey commands, and gives what the ledger says of
// each, and the answers.
func obey(t *testing.T, commands string, fails bool,
	came ...link.Incoming) (says, answers []string, book *ledger.Book) {
	t.Helper()
	c, err := file.Parse("harbour.yaml", []byte(`
crowd: harbour
links: {sea: {mqtt: "mqtt://127.0.0.1"}}
kinds:
  buoy:
    properties: {lamp_w: 12, drift: 0.5, lit: false, label: old, mooring: {position: "58.03,-6.40"}, gain: "${n}"}
    readings: {state: {every: 1h, topic: state, fields: {a: {signal: counter}}}}
    commands: `+commands+`
devices: [{kind: buoy}]
plan: {for: 600ms, settle: 0s}
`), file.Sources{})
	require.NoError(t, err)
	line := &wire{up: make(chan struct{}), fails: fails}
	e, _, read := rig(t, c, line)
	done := make(chan struct{})
	go func() { e.Play(t.Context(), 1, time.Now()); close(done) }()
	<-line.up
	for _, in := range came {
		in.At = clock.Nano()
		if in.Topic == "" {
			in.Topic = "ask"
		}
		line.sink.Came(0, &in)
	}
	<-done
	book = read()
	for _, x := range book.Commands {
		says = append(says, told(&x))
	}
	return says, line.sent, book
}

// A property takes what a command gives it where that is of its type, and nothing at all
// is done where it is not.
func TestPropertiesTakeWhatFits(t *testing.T) {
	commands := `{set: {topic: ask, do: {set: {PROPERTY: "${ask.v}"}}}}`
	for _, c := range []struct{ property, body, says string }{
		{"lamp_w", `{"v": 35}`, "lamp_w = 35"}, {"lamp_w", `{"v": "36"}`, "lamp_w = 36"}, {"lamp_w", `{"v": 35.5}`, "set: " +
			"lamp_w: it is a whole number, not 35.5"},
		{"lamp_w", `{"v": "bright"}`, `set: lamp_w: it is a number, not "bright"`}, {"lamp_w", `{}`, "set: lamp_w: the " +
			"command does not give it"}, {"lamp_w", `{"v": 1e99}`, "set: lamp_w: it is a whole number"},
		{"drift", `{"v": 3}`, "drift = 3"}, {"drift", `{"v": -0.25}`, "drift = -0.25"},
		{"drift", `{"v": true}`, `set: drift: it is a number, not "true"`},
		{"lit", `{"v": true}`, "lit = true"}, {"lit", `{"v": "false"}`, "lit = false"},
		{"lit", `{"v": 1}`, `set: lit: it is true or false, not "1"`},
		{"label", `{"v": "new"}`, "label = new"}, {"label", `{"v": 7}`, "label = 7"}, {"label", `{}`, "set: label: the " +
			"command does not give it"},
		{"mooring", `{"v": "58.1,-6.3"}`, "mooring = 58.1,-6.3"},
		{"mooring", `{"v": "harbour"}`, `set: mooring: "harbour" is not a position`},
		{"gain", `{"v": "x"}`, "gain = x"},
		{"label", `not JSON`, "set: label: the command does not give it"},
	} {
		t.Run(c.property+" "+c.body, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				says, _, book := obey(t, strings.Replace(commands, "PROPERTY", c.property, 1), false,
					link.Incoming{Body: []byte(c.body)})
				require.Len(t, says, 1)
				assert.Contains(t, says[0], c.says)
				assert.Equal(t, says[0][:3] != "set", book.Commands[0].Done)
			})
		})
	}
}

// Where an answer goes, what is in it, and what becomes of it.
func TestAnswers(t *testing.T) {
	asked := link.Incoming{Body: []byte(`{"n": 3}`), Response: "reply/here", Correlation: []byte("c-1")}
	plain := link.Incoming{Body: []byte(`{"n": 3}`)}
	for name, c := range map[string]struct {
		answer  string
		in      link.Incoming
		fails   bool
		answers []string
		what    string // outcome of the answer
	}{
		"where the command wants it": {`{body: {got: "${ask.n}", ok: "${done}"}}`, asked, false,
			[]string{`reply/here {"got": 3, "ok": true} c-1`}, "accepted: "},
		"at its own topic": {`{topic: "told/${device}", body: "well, ${ask.n}"}`, plain, false,
			[]string{"told/buoy well, 3 "}, "accepted: "},
		"the usual answer": {`{topic: told}`, plain, false, []string{`told {"ok": true} `}, "accepted: "},
		"nowhere": {`{}`, plain, false, nil, "unsent: the command does not say where it wants its " +
			"answer (response topic), and the file does not"},
		"at a topic that is none": {`{topic: "told/${ask.n > 2 ? '#' : 'x'}"}`, plain, false, nil,
			`unsent: the answer cannot be sent: the topic "told/#" holds a wildcard; + and # are for subscriptions only`},
		"where nobody may publish": {`{topic: told}`, link.Incoming{Body: []byte("{}"), Response: "reply/#"}, false, nil,
			`unsent: the answer cannot be sent: the topic "reply/#" holds a wildcard`},
		"of what is not there": {`{topic: told, body: {v: "${ask.n % 0}"}}`, plain, false, nil,
			"unsent: the answer cannot be made"},
		"that is refused": {`{topic: told}`, plain, true, []string{`told {"ok": true} `},
			"refused: not authorized"},
		"after the round": {`{topic: told, after: 1m}`, plain, false, nil, "unsent: the round ended before it was due"},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				_, answers, book := obey(t, `{go: {topic: ask, reply: `+c.answer+`}}`, c.fails, c.in)
				assert.Equal(t, c.answers, answers)
				require.Len(t, book.Commands, 1)
				a := book.Commands[0].Answer
				require.NotNil(t, a)
				assert.Contains(t, a.Outcome.String()+": "+a.Text, c.what)
			})
		})
	}
}

// A machine that cannot keep up makes messages late, never fewer: what is due before
// the end of a round is sent behind it.
func TestNothingThatIsDueIsSkipped(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		c, err := file.Parse("harbour.yaml", []byte(`
crowd: harbour
links: {sea: {mqtt: "mqtt://127.0.0.1"}}
kinds: {buoy: {readings: {state: {every: 20ms, topic: state, fields: {a: 1}}}}}
devices: [{kind: buoy}]
plan: {for: 400ms, settle: 0s}
`), file.Sources{})
		require.NoError(t, err)
		e, f, read := rig(t, c, &wire{up: make(chan struct{}), slow: 50 * time.Millisecond})
		due := 0
		engine.Rehearse(f, f.Streams, time.Now(), func(*engine.Rehearsed) bool { due++; return true })
		e.Play(t.Context(), 1, time.Now())
		book := read()
		assert.InDelta(t, 20, due, 1)
		assert.Len(t, book.Messages[0], due)
	})
}

// Chances are drawn from the seed, command by command: the same run, the same answers.
func TestChancesOfAnswers(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var in []link.Incoming
		for range 400 {
			in = append(in, link.Incoming{Body: []byte("{}")})
		}
		count := func() (n [3]int, delays []time.Duration) {
			_, _, book := obey(t, `{go: {topic: ask, reply: {topic: told, after: 10ms to 200ms, wrong: {chance: 20%, body: no}, never: 10%}}}`, false, in...)
			require.Len(t, book.Commands, 400)
			for _, c := range book.Commands {
				n[c.Answer.How]++
				if c.Answer.How != ledger.Never {
					delays = append(delays, c.Answer.Due.Sub(c.At))
				}
			}
			return n, delays
		}
		n, delays := count()
		assert.InDelta(t, 40, n[ledger.Never], 25)
		assert.InDelta(t, 72, n[ledger.Wrong], 35)
		for _, d := range delays {
			assert.True(t, d >= 10*time.Millisecond && d <= 200*time.Millisecond, d)
		}
		again, same := count()
		assert.Equal(t, n, again)
		assert.Equal(t, delays, same)
	})
}

// told is what became of a command, in words.
func told(c *ledger.Command) string {
	if !c.Done {
		return c.Why
	}
	var list []string
	for _, d := range c.Did {
		switch d.Kind {
		case "set":
			list = append(list, d.Name+" = "+d.Value)
		case "interval":
			list = append(list, cmp.Or(d.Name, "all readings")+" every "+d.Value)
		default:
			list = append(list, "sent "+d.Name+" #"+d.Value)
		}
	}
	return strings.Join(list, ", ")
}
