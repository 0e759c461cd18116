package count_test

import (
	"context"
	"errors"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/fleet"
	"runcrowd/internal/ledger"
	"runcrowd/internal/witness/ask"
	"runcrowd/internal/witness/count"
	"runcrowd/internal/witness/hearing"
	"runcrowd/internal/witness/witnesstest"
)

// platform answers with the next of its answers, and then with the last: rows, a line each, pages
// parted by "page", one begun again after "again".
type platform struct {
	world   *witnesstest.World
	answers []string
	start   error
	mu      sync.Mutex // devices are asked beside each other
	asked   []string
}

func (p *platform) Start(hearing.Context, *fleet.Device) error { return p.start }
func (p *platform) Stop()                                      {}
func (p *platform) Offset() (*ledger.Offset, bool) {
	return &ledger.Offset{Least: -time.Second, Most: 2 * time.Second}, true
}

func (p *platform) Ask(ctx hearing.Context, q ask.Question) (int, error) {
	p.mu.Lock()
	text := p.answers[min(len(p.asked), len(p.answers)-1)]
	p.asked = append(p.asked, p.world.Since(q.From)+".."+p.world.Since(q.To))
	p.mu.Unlock()
	q.Cursor.Turn()
	for _, line := range strings.Split(text, "\n") {
		switch line = strings.TrimSpace(line); line {
		case "":
		case "page":
			q.Cursor.Turn()
		case "again":
			q.Cursor.Begin()
		case "broken":
			return 1, errors.New("no such table")
		case "unknown":
			return 1, ask.ErrUnknown
		case "slow":
			<-ctx.Done()
			return 0, ctx.Err()
		default:
			q.Cursor.Row(p.world.Row(line))
		}
	}
	return 1, nil
}

// What is counted is noted as it is told, once it is as much as went out or the time is over.
func TestWhatIsCounted(t *testing.T) {
	const all = `witnesses: {count: {proves: counts, get: "http://127.0.0.1:1/count", rows: "[.]", count: .n, wait: 10s, watch_copies: 1s}}`
	const of = `witnesses: {count: {proves: counts, get: "http://127.0.0.1:1/count", rows: ".[]", count: .n, device: .d, wait: 10s,
  watch_copies: 1s}}`
	const rows = `witnesses: {count: {proves: counts, get: "http://127.0.0.1:1/rows", rows: ".[]", device: .d, wait: 10s, watch_copies: 1s}}`
	const each = `witnesses: {count: {proves: counts, get: "http://127.0.0.1:1/rows/${device}", rows: ".[]", wait: 10s, watch_copies: 1s}}`
	three := witnesstest.Expect{Last: map[int]uint64{0: 2, 2: 1}} // of the first device two, of the second one
	out := witnesstest.Expect{Last: map[int]uint64{0: 3, 2: 1}, Out: map[int]map[uint64]bool{0: {2: true}}}
	for name, c := range map[string]struct {
		witness   string
		answers   []string
		expect    witnesstest.Expect
		corrupted func(int, uint64) bool
		err       string // of the beginning
		why       string
		noted     []string
		asked     int
		took      time.Duration
		left      int
	}{
		"all that went out": {witness: all, answers: []string{`{"n":5}`, `{"n":8}`}, expect: three, asked: 3, took: time.Second,
			noted: []string{"before -1 5 from -24h1m1s", "now -1 8 from -24h1m1s"}},
		"one was not sent": {witness: all, answers: []string{`{"n":5}`, `{"n":8}`}, expect: out, asked: 3, took: time.Second,
			noted: []string{"before -1 5 from -24h1m1s", "now -1 8 from -24h1m1s"}},
		"one must be kept out": {witness: all, answers: []string{`{"n":5}`, `{"n":7}`}, expect: three, asked: 3, took: time.Second,
			corrupted: func(stream int, seq uint64) bool { return stream == 0 && seq == 2 },
			noted:     []string{"before -1 5 from -24h1m1s", "now -1 7 from -24h1m1s"}},
		"too many": {witness: all, answers: []string{`{"n":5}`, `{"n":9}`}, expect: three, asked: 3, took: time.Second,
			noted: []string{"before -1 5 from -24h1m1s", "now -1 9 from -24h1m1s"}},
		"too few": {witness: all, answers: []string{`{"n":5}`, `{"n":7}`}, expect: three, asked: 9, took: 10 * time.Second, left: 1,
			noted: []string{"before -1 5 from -24h1m1s", "now -1 7 from -24h1m1s"}},
		"later": {witness: all, answers: []string{`{"n":5}`, `{"n":7}`, `{"n":7}`, `{"n":8}`}, expect: three, asked: 5,
			took: 1300 * time.Millisecond, noted: []string{"before -1 5 from -24h1m1s", "now -1 8 from -24h1m1s"}},
		"too many while copies are watched for": {witness: all, answers: []string{`{"n":5}`, `{"n":8}`, `{"n":9}`}, expect: three,
			asked: 3, took: time.Second, noted: []string{"before -1 5 from -24h1m1s", "now -1 9 from -24h1m1s"}},
		"fewer while copies are watched for": {witness: all, answers: []string{`{"n":5}`, `{"n":8}`, `{"n":7}`, `{"n":8}`},
			expect: three, asked: 5, took: 2100 * time.Millisecond,
			noted: []string{"before -1 5 from -24h1m1s", "now -1 8 from -24h1m1s"}},
		"of each device": {witness: of, expect: three, took: time.Second, answers: []string{`{"d":"gauge-1","n":1}`, `{"d":"gauge-1","n":3}
			{"d":"gauge-2","n":1}
			{"d":"buoy-1","n":70}`}, noted: []string{"before 0 1 from -24h1m1s", "now 0 3 from -24h1m1s", "now 2 1 from -24h1m1s"}},
		"of each device, one has too many": {witness: of, expect: three, took: 10 * time.Second, left: 1,
			answers: []string{``, `{"d":"gauge-1","n":9}`}, noted: []string{"before -1 0 from -24h1m1s", "now 0 9 from -24h1m1s"}},
		"rows": {witness: rows, expect: three, took: time.Second, answers: []string{``, `{"d":"gauge-1"}
			again
			{"d":"gauge-1"}
			page
			{"d":"gauge-1"}
			{"d":"gauge-2"}`}, noted: []string{"before -1 0 from -1m1s", "now 0 2 from -1m1s", "now 2 1 from -1m1s"}},
		"a row of a number": {witness: of, expect: witnesstest.Expect{}, took: time.Second, answers: []string{`{"d":7,"n":1}`},
			noted: []string{"before -1 0 from -24h1m1s", "now -1 0 from -24h1m1s"}},
		"a row of no device": {witness: of, answers: []string{`{"n":1}
			{"d":"gauge-1","n":"x"}`}, err: `a row names no device where the file says (device: .d): “{"n":1}”`},
		"no number":       {witness: of, answers: []string{`{"d":"gauge-1","n":"x"}`}, err: `a row tells no number of messages where the file says (count: .n): “{"d":"gauge-1","n":"x"}”`},
		"less than none":  {witness: all, answers: []string{`{"n":-1}`}, err: `a row tells no number of messages where the file says (count: .n): “{"n":-1}”`},
		"half a message":  {witness: all, answers: []string{`{"n":1.5}`}, err: `a row tells no number of messages where the file says (count: .n): “{"n":1.5}”`},
		"none is nothing": {witness: all, answers: []string{`{"n":0}`}, took: time.Second, noted: []string{"before -1 0 from -24h1m1s", "now -1 0 from -24h1m1s"}},
		"asked of each": {witness: each, expect: witnesstest.Expect{Last: map[int]uint64{0: 1, 2: 1}}, took: time.Second,
			answers: []string{``, ``, `{}`}, noted: []string{"before -1 0 from -1m1s", "now 0 1 from -1m1s", "now 2 1 from -1m1s"}},
		"it breaks":       {witness: all, answers: []string{`{"n":5}`, `broken`}, expect: three, why: "no such table", took: 10 * time.Second, left: 3},
		"it breaks first": {witness: all, answers: []string{`broken`}, err: "no such table"},
		"it is not known first": {witness: all, answers: []string{`unknown`, `{"n":3}`}, expect: three, took: time.Second,
			noted: []string{"before -1 0 from -24h1m1s", "now -1 3 from -24h1m1s"}},
		"it does not tell": {witness: all, answers: []string{`slow`},
			err: `the witness "count" did not tell how many messages are there before the run`},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				w := witnesstest.New(t, t.TempDir(), `
crowd: skerry-roads
links: {shore: {http: "http://127.0.0.1:1"}}
kinds: {gauge: {link: shore, readings: {level: {every: 1s, path: /in, fields: {a: 1}}, state: {every: 1s, path: /in, fields: {a: 1}}}}}
devices: [{kind: gauge, count: 2, name: "gauge-${n}"}]
plan: {for: 10s}
`+c.witness)
				w.Catalog.Corrupted = c.corrupted
				p := &platform{world: w, answers: c.answers}
				wit, err := count.New(&ask.Asker{Base: w.Base, Source: p})
				require.NoError(t, err)
				if err = wit.Start(t.Context()); c.err != "" {
					assert.EqualError(t, err, c.err)
					return
				}
				require.NoError(t, err)
				began := time.Now()
				left := 0
				wait := make(chan struct{})
				go func() { // as it is shortly before the end
					defer close(wait)
					time.Sleep(c.took - 50*time.Millisecond)
					left = wit.Awaited()
				}()
				complete, why := wit.Hear(t.Context(), hearing.Round{N: 1, Begin: time.Now(), Expect: c.expect})
				<-wait
				assert.Equal(t, c.why, why)
				assert.Equal(t, c.why == "", complete)
				assert.Equal(t, c.took, time.Since(began))
				assert.Equal(t, c.left, left)
				assert.Zero(t, wit.Awaited(), "it is over")
				wit.Stop()
				if c.why == "" {
					assert.Equal(t, c.noted, w.Noted())
				}
				if c.asked > 0 {
					assert.Len(t, p.asked, c.asked, "%v", p.asked)
				}
			})
		})
	}
}

// What was there before is told, and not asked; a second round counts on.
func TestCountsThatAreKnown(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := witnesstest.New(t, t.TempDir(), `
crowd: skerry-roads
links: {shore: {http: "http://127.0.0.1:1"}}
kinds: {gauge: {link: shore, readings: {level: {every: 1s, path: /in, fields: {a: 1}}}}}
devices: [{kind: gauge, name: gauge-1}]
plan: {for: 10s}
witnesses: {count: {proves: counts, get: "http://127.0.0.1:1/count", rows: "[.]", count: .n, wait: 10s, watch_copies: 1s}}`)
		p := &platform{world: w, answers: []string{`{"n":7}`}}
		wit, err := count.New(&ask.Asker{Base: w.Base, Source: p})
		require.NoError(t, err)
		from := time.Now().Add(-time.Hour)
		require.NoError(t, wit.(hearing.CountKnower).KnowCounts(from, map[int]int64{-1: 3}))
		require.NoError(t, wit.Start(t.Context()))
		assert.Empty(t, p.asked)
		began := time.Now()
		for n := range 2 {
			complete, why := wit.Hear(t.Context(), hearing.Round{N: n + 1, Begin: time.Now(), Expect: witnesstest.Messages(2)})
			assert.True(t, complete, why)
		}
		assert.Equal(t, 2*time.Second, time.Since(began))
		assert.Equal(t, "-1h0m0s..24h1m4s", p.asked[0][:len("-1h0m0s")]+p.asked[len(p.asked)-1][len("-1h0m0s"):])
		ctx, cancel := context.WithCancel(t.Context())
		cancel()
		complete, why := wit.Hear(ctx, hearing.Round{N: 3, Begin: time.Now(), Expect: witnesstest.Messages(2)})
		assert.False(t, complete)
		assert.Equal(t, "the hearing was cut short", why)
	})
}

// Where it cannot be asked, the run does not begin.
func TestCountsThatCannotBeAsked(t *testing.T) {
	w := witnesstest.New(t, t.TempDir(), `
crowd: skerry-roads
links: {shore: {http: "http://127.0.0.1:1"}}
kinds: {gauge: {link: shore, readings: {level: {every: 1s, path: /in, fields: {a: 1}}}}}
devices: [{kind: gauge, name: gauge-1}]
plan: {for: 10s}
witnesses: {count: {proves: counts, get: "http://127.0.0.1:1/count", rows: "[.]", count: .n}}`)
	wit, err := count.New(&ask.Asker{Base: w.Base, Source: &platform{world: w, start: errors.New("no such host")}})
	require.NoError(t, err)
	assert.EqualError(t, wit.Start(t.Context()), "no such host")
}
