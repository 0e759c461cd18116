//go:build unix

package run_test

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"log"
	"net/http"
	"os"
	"sort"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"runcrowd/internal/credential"
	"runcrowd/internal/crowd"
	"runcrowd/internal/crowd/file"
	"runcrowd/internal/fleet"
	"runcrowd/internal/ledger"
	"runcrowd/internal/memnet"
	"runcrowd/internal/proof"
	"runcrowd/internal/run"
	"runcrowd/internal/standin"
	"runcrowd/internal/tally"
	"runcrowd/internal/testload"
	"runcrowd/internal/verdict"
)

// The tests of this package mostly wait: many can do so at once.
func TestMain(m *testing.M) {
	flag.Parse()
	flag.Set("test.parallel", testload.Parallel(16))
	code := m.Run()
	for _, stop := range servers {
		stop()
	}
	// Nothing of a run is left behind: no goroutine, and no connection that it would hold.
	if err := goleak.Find(goleak.IgnoreAnyFunction("net/http.(*conn).closeWriteAndWait")); code == 0 && err != nil {
		fmt.Fprintln(os.Stderr, err)
		code = 1
	}
	os.Exit(code)
}

// way is one way for messages to the platform.
type way struct {
	name    string
	link    string
	reading string
}

var ways = []way{
	{"mqtt5-qos0", "{mqtt: mqtt://MQTT, version: 5, back_off: 20ms to 100ms}", "topic: harbour/${device}/state, qos: 0"},
	{"mqtt5-qos1", "{mqtt: mqtt://MQTT, version: 5, back_off: 20ms to 100ms}", "topic: harbour/${device}/state, qos: 1"},
	{"mqtt5-qos2", "{mqtt: mqtt://MQTT, version: 5, back_off: 20ms to 100ms}", "topic: harbour/${device}/state, qos: 2"},
	{"mqtt3-qos1", "{mqtt: mqtt://MQTT, version: 3.1.1, back_off: 20ms to 100ms}", "topic: harbour/${device}/state, " +
		"qos: 1"},
	// Without a kept session, QoS 2 is not exactly once over a cut (section 4.1).
	{"mqtt3-qos2", "{mqtt: mqtt://MQTT, version: 3.1.1, clean_start: false, back_off: 20ms to 100ms}", "topic: " +
		"harbour/${device}/state, qos: 2"},
	{"http", "{http: http://HTTP, timeout: TIMEOUT}", "path: '/in/harbour/${device}/state'"},
}

// qos is the quality of service; HTTP answers, like QoS 1.
func (w way) qos() int {
	if strings.HasSuffix(w.name, "qos0") {
		return 0
	}
	return 1
}

// harbour is a small crowd: 4 devices, 4 messages each in a second.
func (w way) harbour() string {
	return `
crowd: harbour
links:
  way: ` + w.link + `
  ear: {mqtt: mqtt://MQTT, version: 5}
kinds:
  buoy:
    link: way
    readings:
      state:
        every: 100ms
        jitter: 20%
        ` + strings.ReplaceAll(w.reading, ", ", "\n        ") + `
        fields:
          at: {signal: clock}
          wave_m: {signal: swell, round: 2}
          place: {signal: wander, around: "58.03,-6.40"}
          level: {signal: tide, range: 4, round: 3}
devices: [{kind: buoy, count: 4}]
plan: {for: 2500ms, settle: SETTLE}
witnesses:
  ear: {proves: received, subscribe: harbour/#, link: ear, topic: "harbour/${device}/${reading}", wait: WAIT, watch_copies: 300ms}
  store:
    proves: stored
    get: http://HTTP/stored/${device}?from=${from}&to=${to}&limit=7
    rows: .rows[]
    next: .next
    time: .stored_at
    device: .device
    reading: .reading
    mark: .content.mark
    values: .content
    wait: WAIT
    watch_copies: 300ms
require: {proven: 100%, received: 100% WITHIN, stored: 100% WITHIN}
`
}

// played is a run and what the platform did in it.
type played struct {
	folder string
	result *tally.Result
	checks []proof.Check
	hits   []string // marks without the run, sorted
	took   time.Duration
}

// epoch is when virtual time begins (package synctest).
var epoch = time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)

// world is a platform on a network in memory, in virtual time.
type world struct {
	*standin.StandIn
	net *memnet.Net
	dir string // for a run folder
}

// inWorld does something beside a stand-in, in virtual time.
func inWorld(t *testing.T, cfg standin.Config, do func(t *testing.T, w *world)) {
	t.Helper()
	dir, begin := t.TempDir(), epoch
	if cfg.TLS != nil {
		begin = time.Now()
	}
	synctest.Test(t, func(t *testing.T) {
		w := &world{net: memnet.New(), dir: dir}
		time.Sleep(time.Until(begin)) // certificates are of this time
		cfg.MQTT, cfg.HTTP, cfg.Network = "127.0.0.1:0", "127.0.0.1:0", w.net
		var err error
		w.StandIn, err = standin.Start(cfg)
		require.NoError(t, err)
		defer w.Close()
		do(t, w)
	})
}

// play plays a crowd text against a stand-in, in virtual time, and judges it.
func play(t *testing.T, text string, flaws ...string) (p *played) {
	t.Helper()
	inWorld(t, standin.Config{Flaws: flawsOf(t, flaws...)}, func(t *testing.T, w *world) {
		p = w.play(t, text)
		p.hits, p.took = hitsOf(t, w.StandIn), time.Since(epoch)
	})
	return p
}

// options are those of a run in the world.
func (w *world) options() run.Options {
	return run.Options{Out: w.dir, Network: w.net.Dial, Listen: w.net.Listen}
}

// play plays a crowd against the stand-in and judges the run.
func (w *world) play(t *testing.T, text string) *played {
	t.Helper()
	return playCrowd(t, crowdOf(t, w.MQTTAddr, w.HTTPAddr, text), w.options())
}

// playOn plays a crowd text against an HTTP platform in virtual time, and judges it.
func playOn(t *testing.T, platform http.Handler, text string) (p *played) {
	t.Helper()
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		w := &world{net: memnet.New(), dir: dir}
		at := w.serve(t, platform)
		p = playCrowd(t, crowdOf(t, "", at, text), w.options())
	})
	return p
}

// serve serves HTTP in the world, until the test ends, and tells where.
func (w *world) serve(t *testing.T, h http.Handler) string {
	l, err := w.net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	srv := &http.Server{Handler: h, ErrorLog: log.New(io.Discard, "", 0)}
	go srv.Serve(l)
	t.Cleanup(func() { srv.Close() })
	return l.Addr().String()
}

// unhurried plays again where this machine was so busy that a witness lagged: what is
// missing is not known then; that is right, and tells nothing of the flaw.
func unhurried(once func() *played) *played {
	for again := 0; ; again++ {
		p := once()
		lagged := false
		for _, w := range p.result.Witnesses {
			lagged = lagged || strings.Contains(strings.Join(w.Why, " "), "lagged")
		}
		if !lagged || again == 5 {
			return p
		}
		time.Sleep(time.Second)
	}
}

// hitsOf lists the messages that a stand-in did something to.
func hitsOf(t *testing.T, s *standin.StandIn) (list []string) {
	for _, h := range s.Hits() {
		var body struct{ Mark string }
		require.NoError(t, json.Unmarshal(h.Payload, &body))
		m, err := ledger.ParseMark(body.Mark)
		require.NoError(t, err)
		list = append(list, fmt.Sprintf("%s/%s/%d", m.Device, m.Reading, m.Seq))
	}
	sort.Strings(list)
	return list
}

// playAgainst plays a crowd against servers on real sockets and judges the run.
func playAgainst(t *testing.T, mqttAddr, httpAddr, text string) *played {
	t.Helper()
	return playCrowd(t, crowdOf(t, mqttAddr, httpAddr, text), run.Options{})
}

// crowdOf reads a crowd text with addresses and waits for its capitals.
func crowdOf(t *testing.T, mqttAddr, httpAddr, text string) *crowd.Crowd {
	t.Helper()
	text = strings.NewReplacer("MQTT", mqttAddr, "HTTP", httpAddr, "WAIT", "60s", " WITHIN", "", "SETTLE", "60s",
		"TIMEOUT", "60s").Replace(text)
	c, err := file.Parse("harbour.yaml", []byte(text), file.Sources{Getenv: os.LookupEnv})
	require.NoError(t, err)
	return c
}

// playCrowd plays a crowd and judges the run.
func playCrowd(t *testing.T, c *crowd.Crowd, opt run.Options) *played {
	t.Helper()
	if opt.Out == "" {
		opt.Out = t.TempDir()
	}
	opt.Version, opt.File = "test", "harbour.yaml"
	s, err := open(t, c, opt)
	require.NoError(t, err)
	require.NoError(t, s.Play(context.Background()))
	j, err := run.Judge(s.Folder, run.Judging{})
	require.NoError(t, err)
	return &played{folder: s.Folder, result: j.Result, checks: j.Checks}
}

// found lists the messages with a verdict, as hits are listed.
func (p *played) found(v verdict.Verdict) []string {
	var list []string
	for _, f := range p.result.Findings {
		if f.Verdict == v.String() {
			list = append(list, fmt.Sprintf("%s/%s/%d", f.Device, f.Reading, f.Seq))
		}
	}
	sort.Strings(list)
	return list
}

func (p *played) holds() bool {
	for _, c := range p.checks {
		if c.State != proof.Met {
			return false
		}
	}
	return true
}

// Every flaw, over every way: the messages that it hit are found, all of them
// and no other.
func TestEveryFlawIsFoundExactly(t *testing.T) {
	t.Parallel()
	flaws := map[string]verdict.Verdict{
		"lose": verdict.Lost, "forget": verdict.Lost, "refuse": verdict.Refused, "ignore": verdict.Unanswered,
		"mute": verdict.Unacknowledged, "delay": verdict.Late, "repeat": verdict.Repeated, "reorder": verdict.Proven,
		"alter": verdict.Altered, "misfile": verdict.Misfiled, "cut": verdict.Proven,
	}
	// Two are of bad nights: TestWhatMustNotGetIn and TestWhatComesLate are theirs.
	// Those of alerts are TestAlertsAreCounted's.
	names := []string{"admit", "stale", "alert-none", "alert-twice", "alert-late", "alert-wrong-device", "alert-flood"}
	for name := range flaws {
		names = append(names, name)
	}
	require.ElementsMatch(t, standin.FlawNames(), names, "a flaw is missing from the matrix")
	exceptions := map[string]verdict.Verdict{
		// Without acknowledgements, saying no is losing, and not answering is usual.
		"refuse/mqtt5-qos0": verdict.Lost, "ignore/mqtt5-qos0": verdict.Lost, "mute/mqtt5-qos0": verdict.Proven,
		"cut/mqtt5-qos0": verdict.Lost,
		// Version 3.1.1 has no way to say no to a message.
		"refuse/mqtt3-qos1": verdict.Lost, "refuse/mqtt3-qos2": verdict.Lost,
		// A request is not made a second time.
		"cut/http": verdict.Unanswered,
	}
	for name, usual := range flaws {
		for _, w := range ways {
			t.Run(name+"/"+w.name, func(t *testing.T) {
				fewer(t)
				t.Parallel()
				expected := usual
				if v, is := exceptions[name+"/"+w.name]; is {
					expected = v
				}
				text, flaw := w.harbour(), name+"=4"
				// All waits are wide and end early, but for what never comes.
				switch {
				case name == "delay":
					flaw += "@15s"
					text = strings.NewReplacer("WITHIN", "within 10s").Replace(text)
				case name == "ignore" || name == "mute":
					text = strings.NewReplacer("WAIT", "8s", "SETTLE", "12s", "TIMEOUT", "4s").Replace(text)
				case expected != verdict.Proven:
					text = strings.NewReplacer("WAIT", "8s").Replace(text)
				}
				p := play(t, text, flaw)
				require.Len(t, p.hits, 4, "the flaw did not hit as often as it was told")
				due := p.result.Total.Due()
				assert.Greater(t, due, 60)
				switch {
				case name == "cut" && w.name == "mqtt5-qos0":
					// What was in flight behind the cut is lost with it, and nobody asked for an answer.
					assert.Subset(t, p.found(verdict.Lost), p.hits)
					assert.Equal(t, due, p.result.Total[verdict.Proven]+p.result.Total[verdict.Lost])
				case expected != verdict.Proven:
					assert.Equal(t, p.hits, p.found(expected))
					assert.Equal(t, due-4, p.result.Total[verdict.Proven], "%v", p.result.Total)
					assert.False(t, p.holds())
				default:
					assert.Equal(t, due, p.result.Total[verdict.Proven], "%+v", p.result.Findings)
					assert.True(t, p.holds())
				}
				assert.Zero(t, p.result.UnmatchedCount)
				switch name {
				case "reorder":
					assert.Equal(t, 4, p.result.OutOfOrder)
				case "cut":
					assert.GreaterOrEqual(t, p.result.Links.Drops+p.result.Total[verdict.Unanswered], 4)
				}
			})
		}
	}
}

// A platform without a flaw is proven whole, over every way and with every place
// for the mark.
func TestAFlawlessRunIsProven(t *testing.T) {
	t.Parallel()
	for _, w := range ways {
		t.Run(w.name, func(t *testing.T) {
			fewer(t)
			t.Parallel()
			p := play(t, w.harbour())
			assert.Equal(t, p.result.Total.Due(), p.result.Total[verdict.Proven], "%+v", p.result.Findings)
			assert.True(t, p.holds())
			assert.Zero(t, p.result.OutOfOrder)
			assert.Zero(t, p.result.UnmatchedCount)
			assert.Zero(t, p.result.Links.Drops)
			ack := p.result.Proofs[0]
			if w.name == "mqtt5-qos0" {
				assert.Zero(t, ack.Asked, "QoS 0 is never counted as acknowledged")
			} else {
				assert.Equal(t, p.result.Total.Due(), ack.AsSent)
			}
		})
	}
	for mark, text := range map[string]string{
		"sequence":      "mark: {sequence: no}",
		"user_property": "mark: {user_property: mark}",
		"header":        "mark: {header: X-Mark}",
		"nested":        "mark: {field: c.m}",
		"nested number": "mark: {sequence: c.q}",
	} {
		t.Run("mark-"+mark, func(t *testing.T) {
			fewer(t)
			t.Parallel()
			w := ways[1]
			pick := map[string]string{"sequence": ".content.no", "user_property": ".properties.mark",
				"header": `.properties["X-Mark"]`, "nested": ".content.c.m", "nested number": ".content.c.q"}[mark]
			if mark == "header" {
				w = ways[5]
				text += "\n" // the ear hears the header as a user property
			}
			yaml := strings.Replace(w.harbour(), "\nkinds:", "\n"+text+"\nkinds:", 1)
			yaml = strings.Replace(yaml, "mark: .content.mark", "mark: '"+pick+"'", 1)
			if strings.HasPrefix(mark, "nested") {
				yaml = strings.Replace(yaml, "qos: 1\n", "qos: 1\n        payload: {form: json, nested: true}\n", 1)
			}
			if mark == "header" {
				yaml = yaml[:strings.Index(yaml, "  ear: {proves")] + yaml[strings.Index(yaml, "  store:\n"):]
				yaml = strings.Replace(yaml, "received: 100% WITHIN, ", "", 1)
			}
			p := play(t, yaml)
			assert.Equal(t, p.result.Total.Due(), p.result.Total[verdict.Proven], "%+v", p.result.Findings)
			assert.Greater(t, p.result.Total.Due(), 60)
		})
	}
}

// Two runs against one platform at the same time and in turn: neither sees the
// other's messages, with marks of both kinds.
func TestRunsDoNotConfuseEachOther(t *testing.T) {
	t.Parallel()
	for _, mark := range []string{"", "mark: {sequence: no}\n"} {
		t.Run(mark, func(t *testing.T) {
			fewer(t)
			t.Parallel()
			text := strings.Replace(ways[5].harbour(), "\nkinds:", "\n"+mark+"kinds:", 1)
			if mark != "" {
				text = strings.Replace(text, ".content.mark", ".content.no", 1)
			}
			inWorld(t, standin.Config{}, func(t *testing.T, w *world) {
				for range 2 {
					p := w.play(t, text)
					assert.Equal(t, p.result.Total.Due(), p.result.Total[verdict.Proven], "%+v", p.result.Findings)
					assert.Zero(t, p.result.UnmatchedCount)
				}
			})
		})
	}
}

// With a key by which the platform knows a request again, one that was cut is sent
// again and proven, and none is stored twice.
func TestCutRequestsAreSentAgainWithAKey(t *testing.T) {
	t.Parallel()
	text := strings.Replace(ways[5].harbour(), "timeout: TIMEOUT", "timeout: TIMEOUT, retry_key: Idempotency-Key, "+
		"back_off: 20ms to 100ms", 1)
	p := play(t, text, "cut=4")
	require.Len(t, p.hits, 4)
	assert.Equal(t, p.result.Total.Due(), p.result.Total[verdict.Proven], "%+v", p.result.Findings)
	assert.Equal(t, 4, p.result.Resent)
}

// Rounds play the plan again at set intervals; sequence numbers go on without a
// hole, and each round is judged by itself too.
func TestRoundsAreReplayed(t *testing.T) {
	t.Parallel()
	text := strings.NewReplacer("plan: {for: 2500ms, settle: SETTLE}", "plan: {for: 1s, settle: 1s, rounds: {count: 3, "+
		"every: 2500ms}}").Replace(ways[1].harbour())
	p := play(t, text)
	assert.Equal(t, p.result.Total.Due(), p.result.Total[verdict.Proven], "%+v", p.result.Findings)
	require.Len(t, p.result.Rounds, 3)
	b, err := run.ReadLedger(p.folder)
	require.NoError(t, err)
	require.Len(t, b.Rounds, 3)
	for i := 1; i < 3; i++ {
		// Against the first one: a round that begins late does not move the next.
		gap := b.Rounds[i].Begin.Sub(b.Rounds[0].Begin)
		assert.GreaterOrEqual(t, gap.Seconds(), 2.5*float64(i)-0.5, "a round does not begin before its time")
		assert.InDelta(t, p.result.Rounds[0].Counts.Due(), p.result.Rounds[i].Counts.Due(), 4)
	}
	for i := range b.Streams {
		for k, m := range b.Messages[i] {
			require.Equal(t, uint64(k+1), m.Seq)
		}
	}
}

// An interrupted run settles, hears and reports.
func TestInterruptedRunIsJudged(t *testing.T) {
	t.Parallel()
	text := strings.Replace(ways[1].harbour(), "for: 2500ms", "for: 1h", 1)
	inWorld(t, standin.Config{}, func(t *testing.T, w *world) {
		res := w.interrupted(t, text, time.Second)
		assert.True(t, res.Interrupted)
		assert.True(t, res.Ended)
		assert.InDelta(t, 40, res.Total.Due(), 4)
		assert.Equal(t, res.Total.Due(), res.Total[verdict.Proven], "%+v", res.Findings)
	})
}

// open builds the fleet of a crowd and opens a run of it.
func open(t *testing.T, c *crowd.Crowd, opt run.Options) (*run.Session, error) {
	t.Helper()
	f, err := fleet.Build(c, credential.New(c))
	require.NoError(t, err)
	return run.Open(context.Background(), f, opt)
}
