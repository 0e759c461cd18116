package find_test

import (
	"encoding/base64"
	"errors"
	"flag"
	"fmt"
	"hash/fnv"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/fleet"
	"runcrowd/internal/ledger"
	"runcrowd/internal/ledger/ledgertest"
	"runcrowd/internal/witness/ask"
	"runcrowd/internal/witness/find"
	"runcrowd/internal/witness/hearing"
	"runcrowd/internal/witness/witnesstest"
)

var _ = flag.Bool("update", false, "write what is pinned anew")

// platform answers questions: each time with the next of its answers, and then with the last.
type platform struct {
	t       *testing.T
	world   *witnesstest.World
	answers []answer
	offset  *ledger.Offset
	decides bool
	start   error
	further *answer // to questions for a day more
	gone    string  // a device that it does not know

	mu    sync.Mutex
	asked []string
	n     int
}

// answer is pages of rows, a row a line; "again" on a line of its own: the page is begun again.
type answer struct {
	pages []string
	err   error
	takes time.Duration
	of    map[string][]string // the pages of each device, where they differ
}

func (p *platform) Start(hearing.Context, *fleet.Device) error { return p.start }
func (p *platform) Stop()                                      {}
func (p *platform) Offset() (*ledger.Offset, bool)             { return p.offset, p.decides }

func (p *platform) Ask(ctx hearing.Context, q ask.Question) (int, error) {
	p.mu.Lock()
	a := p.answers[min(p.n, len(p.answers)-1)]
	p.n++
	if p.further != nil && q.To.Sub(q.From) > 48*time.Hour {
		a = *p.further
	}
	whole := ""
	if q.Whole {
		whole = " whole"
	}
	p.asked = append(p.asked, fmt.Sprintf("%s %s..%s%s", q.Device.Name, p.world.Since(q.From), p.world.Since(q.To), whole))
	p.mu.Unlock()
	hearing.Sleep(ctx, a.takes)
	if ctx.Err() != nil {
		return 0, ctx.Err()
	}
	if q.Device.Name == p.gone {
		return 1, ask.ErrUnknown
	}
	pages := a.pages
	if a.of != nil {
		pages = a.of[q.Device.Name]
	}
	for _, page := range pages {
		q.Cursor.Turn()
		for _, line := range strings.Split(page, "\n") {
			switch line = strings.TrimSpace(line); line {
			case "":
			case "again":
				q.Cursor.Begin()
			default:
				q.Cursor.Row(p.world.Row(line))
			}
		}
	}
	return len(pages), a.err
}

// crowd is a crowd file with a witness, and a mark.
func crowd(mark, witness string) string {
	return fmt.Sprintf(`
crowd: skerry-roads
links: {shore: {http: "http://127.0.0.1:1"}}
kinds:
  gauge:
    link: shore
    mark: %s
    readings: {level: {every: 1s, path: "/in/${device}", fields: {at: {signal: clock}, a: 1, b: 2}}}
devices: [{kind: gauge, count: 2, name: "gauge-${n}"}]
plan: {for: 10s}
%s`, mark, witness)
}

// store is a witness that asks once for all devices.
const store = `witnesses: {store: {proves: stored, get: "http://127.0.0.1:1/rows", rows: ".[]", mark: .m, values: .v, row: .id,
  device: .d, time: .t, wait: 10s, watch_copies: 1s}}`

func pages(list ...string) answer { return answer{pages: list} }

// What a witness notes of what it is told, and what it says of its hearing.
func TestWhatIsFound(t *testing.T) {
	const noID = `witnesses: {store: {proves: stored, get: "http://127.0.0.1:1/rows", rows: ".[]", mark: .m, values: .v, device: .d, wait: 10s,
  watch_copies: 1s}}`
	const each = `witnesses: {store: {proves: stored, get: "http://127.0.0.1:1/rows/${device}", rows: ".[]", mark: .m, values: .v,
  wait: 10s, watch_copies: 1s}}`
	for name, c := range map[string]hearingCase{
		"all at once": {witness: store, answers: []answer{pages(`{"m":"«1»","v":{"a":1},"id":1,"d":"gauge-1"}
			{"m":"«2»","v":{"a":2},"id":2,"d":"gauge-1"}`)}, expect: witnesstest.Messages(2), asked: 2,
			noted: []string{`gauge-1/level/1 row {"a":1}`, `gauge-1/level/2 row {"a":2}`}},
		"one comes later": {witness: store, answers: []answer{pages(`{"m":"«1»","v":1,"id":1}`), pages(),
			pages(`{"m":"«1»","v":1,"id":1}`, `{"m":"«2»","v":2,"id":2}`)}, expect: witnesstest.Messages(2), asked: 4,
			noted: []string{`gauge-1/level/1 row 1`, `gauge-1/level/2 row 2`}},
		"one is not there": {witness: store, answers: []answer{pages(`{"m":"«1»","v":1,"id":1}`)},
			expect: witnesstest.Messages(2), noted: []string{`gauge-1/level/1 row 1`}, left: 1},
		"one was not sent": {witness: store, answers: []answer{pages(`{"m":"«1»","v":1,"id":1}`)}, asked: 2,
			expect: witnesstest.Expect{Last: map[int]uint64{0: 2}, Out: map[int]map[uint64]bool{0: {2: true}}},
			noted:  []string{`gauge-1/level/1 row 1`}},
		"two rows of one message": {witness: store, answers: []answer{pages(`{"m":"«1»","v":1,"id":1}
			{"m":"«1»","v":1,"id":2}`)}, expect: witnesstest.Messages(1),
			noted: []string{`gauge-1/level/1 row 1`, `gauge-1/level/1 row 1`}},
		"a row that changed": {witness: store, answers: []answer{pages(`{"m":"«1»","v":1,"id":1}`),
			pages(`{"m":"«1»","v":2,"id":1}`)}, expect: witnesstest.Messages(1),
			noted: []string{`gauge-1/level/1 row 1`, `gauge-1/level/1 again row 2`}},
		"a page begun again": {witness: noID, answers: []answer{pages(`{"m":"«1»","v":1}
			again
			{"m":"«1»","v":1}`)}, expect: witnesstest.Messages(1), noted: []string{`gauge-1/level/1 1`}},
		"twice on a page": {witness: noID, answers: []answer{pages(`{"m":"«1»","v":1}
			{"m":"«1»","v":1}`)}, expect: witnesstest.Messages(1), noted: []string{`gauge-1/level/1 1`, `gauge-1/level/1 1`}},
		"on two pages": {witness: noID, answers: []answer{pages(`{"m":"«1»","v":1}`, `{"m":"«1»","v":1}`)},
			expect: witnesstest.Messages(1), noted: []string{`gauge-1/level/1 1`, `gauge-1/level/1 perhaps`}},
		"filed under another device, and an unknown one": {witness: store, answers: []answer{
			pages(`{"m":"«1»","v":1,"id":1,"d":"gauge-2"}
			{"m":"«2»","v":1,"id":2,"d":7}`)}, expect: witnesstest.Messages(2),
			noted: []string{`gauge-1/level/1 at gauge-2/ row 1`, `gauge-1/level/2 at 7/ row 1`}},
		"asked of each, filed under another": {witness: each, answers: []answer{{of: map[string][]string{
			"gauge-2": {`{"m":"«1»","v":1}`}}}}, expect: witnesstest.Messages(1),
			noted: []string{`gauge-1/level/1 at gauge-2/ 1`}},
		"asked of each that lacks something": {witness: each, answers: []answer{{of: map[string][]string{
			"gauge-1": {`{"m":"«1»","v":1}`}}}}, noted: []string{`gauge-1/level/1 1`}, left: 1,
			expect: witnesstest.Expect{Last: map[int]uint64{0: 1, 1: 1}}},
		"of this run, and of no device": {witness: store, answers: []answer{pages(`{"m":"` + witnesstest.Run +
			`/buoy/sea/3","v":1,"id":1}`)}, expect: witnesstest.Messages(0), noted: []string{`stray buoy/sea/3 row 1`}},
		"of another run": {witness: store, answers: []answer{pages(`{"m":"otherrun/gauge-1/level/1","v":1,"id":1}`)},
			expect: witnesstest.Messages(1), left: 1},
		"no mark": {witness: store, answers: []answer{pages(`{"x":1}
			{"x":2}`)}, expect: witnesstest.Messages(1), left: 1,
			why: "rows were found, but none carries a mark where the file says (mark: .m); a row is “{\"x\":1}”"},
		"no mark in some": {witness: store, answers: []answer{pages(`{"x":1}
			{"m":"«1»","v":1,"id":1}`)}, expect: witnesstest.Messages(1), noted: []string{`gauge-1/level/1 row 1`}},
		"no mark but another run's": {witness: store, answers: []answer{pages(`{"x":1}
			{"m":"otherrun/gauge-1/level/1"}`)}, expect: witnesstest.Messages(1), left: 1},
		"an error": {witness: store, answers: []answer{{err: errors.New("the page is wrong")}}, left: 1,
			expect: witnesstest.Messages(1), why: "the page is wrong"},
		"an error that passes": {witness: store, answers: []answer{{err: errors.New("the page is wrong")},
			pages(`{"m":"«1»","v":1,"id":1}`)}, expect: witnesstest.Messages(1), noted: []string{`gauge-1/level/1 row 1`}},
		"no device is known": {witness: each, answers: []answer{{err: ask.ErrUnknown}}, left: 1,
			expect: witnesstest.Messages(1), why: "every question was answered with 404; check get: " + ask.ErrUnknown.Error()},
		"too slow": {witness: store, answers: []answer{{takes: time.Hour}}, expect: witnesstest.Messages(1), left: 1,
			why: "it was not read to the end within 10s: 0 pages had been read; raise wait, or ask for larger pages"},
		"nothing is there": {witness: store, answers: []answer{pages()}, expect: witnesstest.Messages(1), left: 1},
		"no identity": {witness: store, answers: []answer{pages(`{"m":"«1»","v":1,"id":null}
			{"m":"«1»","v":1}`)}, expect: witnesstest.Messages(1), noted: []string{`gauge-1/level/1 1`, `gauge-1/level/1 1`}},
		"an object in a text": {witness: store, answers: []answer{pages(`{"m":"«1»","v":"{\"a\":1}","id":1}`)},
			expect: witnesstest.Messages(1), noted: []string{`gauge-1/level/1 row "{\"a\":1}"`}},
		"values that are not there": {witness: store, answers: []answer{pages(`{"m":"«1»","id":1}`)},
			expect: witnesstest.Messages(1), noted: []string{`gauge-1/level/1 row null`}},
		"times": {witness: store, answers: []answer{pages(`{"m":"«1»","v":1,"id":1,"t":"«@3s»"}
			{"m":"«2»","v":1,"id":2,"t":"noon"}`)}, expect: witnesstest.Messages(2),
			noted: []string{`gauge-1/level/1 row stored 3s 1`, `gauge-1/level/2 row 1`}},
	} {
		c.mark = "{field: m}"
		t.Run(name, c.play)
	}
	pinAsked(t, "testdata/asked.txt")
}

// asked is how often and how long each case asked.
var asked = map[string]string{}

// pinAsked holds that against a file: a witness that asks too often burdens a platform, one that asks too
// little knows too little.
func pinAsked(t *testing.T, path string) {
	var b strings.Builder
	for _, name := range slices.Sorted(maps.Keys(asked)) {
		fmt.Fprintf(&b, "%s: %s\n", name, asked[name])
	}
	clear(asked)
	ledgertest.Pinned(t, path, b.String())
}

// hearingCase is what a witness is told in one hearing, and what it must make of it.
type hearingCase struct {
	mark, witness string
	carried       []string // by the messages of the first stream, where no mark tells them apart
	others        []string // by those of the second
	old           answer   // what was there before the run, where that is asked
	answers       []answer
	expect        witnesstest.Expect
	readings      string // more of them
	devices       int    // 0: two
	further       *answer
	corrupted     func(stream int, seq uint64) bool
	offset        *ledger.Offset
	noted         []string
	why           string // empty: it was heard to the end
	asked         int    // 0: it does not matter
	left          int
}

func (c *hearingCase) play(t *testing.T) {
	c.hear(t, func(t *testing.T, w *witnesstest.World, p *platform, complete bool, why string) {
		assert.Equal(t, c.why, why)
		assert.Equal(t, c.why == "", complete)
		assert.Equal(t, w.Text(strings.Join(c.noted, "\n")), strings.Join(w.Noted(), "\n"))
		if c.mark == "none" { // of all, each time: where a row stands among the others decides
			for _, q := range p.asked {
				assert.True(t, strings.HasSuffix(q, " whole"), q)
			}
		}
		if c.asked > 0 {
			assert.Len(t, p.asked, c.asked, "%v", p.asked)
		}
	})
}

// hear plays the hearing, and has it looked at.
func (c *hearingCase) hear(t *testing.T, look func(t *testing.T, w *witnesstest.World, p *platform, complete bool,
	why string)) {
	synctest.Test(t, func(t *testing.T) {
		text := strings.Replace(crowd(c.mark, c.witness), "b: 2}}", "b: 2}}"+c.readings, 1)
		if c.devices > 0 {
			text = strings.Replace(text, "count: 2", fmt.Sprintf("count: %d", c.devices), 1)
		}
		w := witnesstest.New(t, t.TempDir(), text)
		w.Catalog.Corrupted = c.corrupted
		p := &platform{t: t, world: w, answers: []answer{c.old}, offset: c.offset, decides: true}
		wit, err := find.Messages(&ask.Asker{Base: w.Base, Source: p})
		require.NoError(t, err)
		require.NoError(t, wit.Start(t.Context()))
		for i, text := range c.carried {
			w.Catalog.Index.Add(0, uint64(i+1), []byte(w.Text(text)))
		}
		for i, text := range c.others {
			w.Catalog.Index.Add(1, uint64(i+1), []byte(w.Text(text)))
		}
		p.answers, p.further, p.n, p.asked = c.answers, c.further, 0, nil
		began := time.Now()
		complete, why := wit.Hear(t.Context(), hearing.Round{N: 1, Begin: began, Expect: c.expect})
		asked[t.Name()] = fmt.Sprintf("%d times in %s, %d left", len(p.asked), time.Since(began), wit.Awaited())
		if c.noted != nil {
			assert.Equal(t, c.left, wit.Awaited())
		}
		wit.Stop()
		look(t, w, p, complete, why)
	})
}

// Messages without a mark are known by the time in them, or by their values and order.
func TestWhatIsFoundWithoutMarks(t *testing.T) {
	const at = `witnesses: {store: {proves: stored, get: "http://127.0.0.1:1/rows", rows: ".[]", mark: .t, values: .v, row: .id,
  device: .d, wait: 10s, watch_copies: 1s}}`
	const order = `witnesses: {store: {proves: stored, get: "http://127.0.0.1:1/rows", rows: ".[]", values: .v, row: .id,
  device: .d, wait: 10s, watch_copies: 1s}}`
	carried := []string{`{"a":1,"b":2,"at":"«@1s»"}`, `{"a":2,"b":2,"at":"«@2s»"}`, `{"a":3,"b":2,"at":"«@3s»"}`}
	same := []string{`{"a":1,"at":"«@1s»"}`, `{"a":2,"at":"«@1s»"}`, `{"a":2,"at":"«@1s»"}`}
	nothing := []string{`before -1 0 from -1m0s`}
	var unsure []string
	for seq := range 11 {
		unsure = append(unsure, fmt.Sprintf(`gauge-1/level/%d unsure {"a":1}`, seq+1))
	}
	for name, c := range map[string]hearingCase{
		"each by its time": {witness: at, carried: carried, answers: []answer{pages(
			`{"d":"gauge-1","t":"«@2s»","v":{"a":2},"id":2}
			{"d":"gauge-1","t":"«@1s»","v":{"a":1},"id":1}`)}, expect: witnesstest.Messages(3), left: 1,
			noted: append([]string{`gauge-1/level/2 row {"a":2}`, `gauge-1/level/1 row {"a":1}`}, nothing...)},
		"a time of none, none at all, and of no device": {witness: at, carried: carried, answers: []answer{pages(
			`{"d":"gauge-1","t":"«@9s»","v":{"a":2}}
			{"d":"gauge-1","v":{"a":1,"at":"«@1s»"}}
			{"d":"gauge-1","t":"«@1s»","v":7}
			{"d":"gauge-3","t":"«@1s»","v":{"a":1}}
			{"t":"«@1s»","v":{"a":1}}`)}, expect: witnesstest.Messages(1), left: 1, noted: nothing},
		"the time among the values": {witness: strings.Replace(at, "mark: .t, ", "", 1), carried: carried, answers: []answer{pages(
			`{"d":"gauge-1","v":{"a":1,"at":"«@1s»"},"id":1}`)}, expect: witnesstest.Messages(1),
			noted: append([]string{`gauge-1/level/1 row {"a":1,"at":"«@1s»"}`}, nothing...)},
		"the time beside a body": {witness: strings.Replace(at, "values: .v", "body: .p", 1), carried: carried,
			answers: []answer{pages(`{"d":"gauge-1","t":"«@1s»","p":"{\"a\":1}","id":1}`)}, expect: witnesstest.Messages(1),
			noted: append([]string{`gauge-1/level/1 row {"a":1}`}, nothing...)},
		"the same row on two pages": {witness: at, carried: carried, answers: []answer{pages(
			`{"d":"gauge-1","t":"«@1s»","v":{"a":1},"id":1}`, `{"d":"gauge-1","t":"«@1s»","v":{"a":1},"id":1}`)},
			expect: witnesstest.Messages(1), noted: append([]string{`gauge-1/level/1 row {"a":1}`}, nothing...)},
		"of one time, by their values": {witness: at, carried: same, answers: []answer{pages(
			`{"d":"gauge-1","t":"«@1s»","v":{"a":2,"b":null},"id":1}
			{"d":"gauge-1","t":"«@1s»","v":{"a":2},"id":2}
			{"d":"gauge-1","t":"«@1s»","v":{"a":1},"id":3}`)}, expect: witnesstest.Messages(3),
			noted: append([]string{`gauge-1/level/1 row {"a":1}`, `gauge-1/level/2 row {"a":2,"b":null}`, `gauge-1/level/3 row {"a":2}`},
				nothing...)},
		"of one time, on two pages": {witness: at, carried: same, answers: []answer{pages(
			`{"d":"gauge-1","t":"«@1s»","v":{"a":2},"id":1}`, `{"d":"gauge-1","t":"«@1s»","v":{"a":2},"id":1}
			{"d":"gauge-1","t":"«@1s»","v":{"a":2},"id":2}`)}, expect: witnesstest.Messages(3), left: 1,
			noted: append([]string{`gauge-1/level/2 row {"a":2}`, `gauge-1/level/3 row {"a":2}`}, nothing...)},
		"of one time, on two pages, without an identity": {witness: strings.Replace(at, "row: .id,", "", 1), carried: same[1:],
			answers: []answer{pages(`{"d":"gauge-1","t":"«@1s»","v":{"a":2}}`, `{"d":"gauge-1","t":"«@1s»","v":{"a":2}}`)},
			expect:  witnesstest.Messages(2), noted: append([]string{`gauge-1/level/1 unsure {"a":2}`,
				`gauge-1/level/2 unsure {"a":2}`}, nothing...)},
		"of one time and alike, one is missing": {witness: at, carried: same, answers: []answer{pages(
			`{"d":"gauge-1","t":"«@1s»","v":{"a":2},"id":1}`)}, expect: witnesstest.Messages(3), left: 1,
			noted: append([]string{`gauge-1/level/2 unsure row {"a":2}`, `gauge-1/level/3 unsure row {"a":2}`}, nothing...)},
		"of one time and alike, one came twice": {witness: at, carried: same[1:], answers: []answer{pages(
			`{"d":"gauge-1","t":"«@1s»","v":{"a":2},"id":1}
			{"d":"gauge-1","t":"«@1s»","v":{"a":2},"id":2}
			{"d":"gauge-1","t":"«@1s»","v":{"a":2},"id":3}`)}, expect: witnesstest.Messages(2),
			noted: append([]string{`gauge-1/level/1 unsure row {"a":2}`, `gauge-1/level/2 unsure row {"a":2}`}, nothing...)},
		"of one time and alike, one not sent": {witness: at, carried: same[1:], answers: []answer{pages(
			`{"d":"gauge-1","t":"«@1s»","v":{"a":2},"id":1}`)}, asked: 2,
			expect: witnesstest.Expect{Last: map[int]uint64{0: 2}, Out: map[int]map[uint64]bool{0: {1: true}}},
			noted:  append([]string{`gauge-1/level/2 row {"a":2}`}, nothing...)},
		"of one time, with values of none": {witness: at, carried: same, answers: []answer{pages(
			`{"d":"gauge-1","t":"«@1s»","v":{"a":7},"id":1}`)}, expect: witnesstest.Messages(3),
			noted: append([]string{`gauge-1/level/1 unsure row {"a":7}`, `gauge-1/level/2 unsure row {"a":7}`,
				`gauge-1/level/3 unsure row {"a":7}`}, nothing...)},
		"of a reading that is none": {witness: strings.Replace(at, "device: .d", "device: .d, reading: .r", 1), carried: carried, answers: []answer{pages(
			`{"d":"gauge-1","r":"tide","t":"«@1s»","v":{"a":1},"id":1}`)}, expect: witnesstest.Messages(1),
			noted: append([]string{`gauge-1/level/1 at /tide row {"a":1}`}, nothing...)},
		"of a reading of two": {witness: at, carried: carried, readings: `, state: {every: 1s, path: "/in", fields: {at: {signal: clock}, c: 1}}`,
			answers: []answer{pages(`{"d":"gauge-1","t":"«@1s»","v":{"a":1},"id":1}`)}, expect: witnesstest.Messages(1),
			noted: append([]string{`gauge-1/level/1 row {"a":1}`}, nothing...)},
		"one alone, with other values": {witness: at, carried: carried, answers: []answer{pages(
			`{"d":"gauge-1","t":"«@1s»","v":{"a":7},"id":1}`)}, expect: witnesstest.Messages(1),
			noted: append([]string{`gauge-1/level/1 row {"a":7}`}, nothing...)},
		"there before the run": {witness: at, carried: carried, old: pages(`{"d":"gauge-1","t":"«@1s»","v":{"a":1},"id":9}`),
			answers: []answer{pages(`{"d":"gauge-1","t":"«@1s»","v":{"a":1},"id":9}
			{"d":"gauge-1","t":"«@2s»","v":{"a":2},"id":2}`)}, expect: witnesstest.Messages(2),
			noted: []string{`gauge-1/level/1 unsure row {"a":1}`, `gauge-1/level/2 row {"a":2}`, `before -1 1 from -1m0s`}},
		"there before the run, and one more": {witness: at, carried: carried,
			old: pages(`{"d":"gauge-1","t":"«@1s»","v":{"a":1},"id":9}`),
			answers: []answer{pages(`{"d":"gauge-1","t":"«@1s»","v":{"a":1},"id":9}
			{"d":"gauge-1","t":"«@1s»","v":{"a":1},"id":1}`)}, expect: witnesstest.Messages(1),
			noted: []string{`gauge-1/level/1 unsure row {"a":1}`, `gauge-1/level/1 row {"a":1}`, `before -1 1 from -1m0s`}},
		"moved and cut": {witness: strings.Replace(at, "wait: 10s", "wait: 10s, shift: 1h, cut: s", 1),
			carried: []string{`{"a":1,"at":"«@1234ms»"}`, `{"a":1,"at":"«@2s»"}`},
			answers: []answer{pages(`{"d":"gauge-1","t":"«@3601s»","v":{"a":1},"id":1}
			{"d":"gauge-1","t":"«@3602s»","v":{"a":1},"id":2}
			{"d":"gauge-1","t":"«@3603s»","v":{"a":1},"id":3}`)}, expect: witnesstest.Messages(2),
			noted: append([]string{`gauge-1/level/1 row {"a":1}`, `gauge-1/level/2 row {"a":1}`}, nothing...)},
		"none in order": {witness: order, mark: "none", carried: carried, answers: []answer{pages(
			`{"d":"gauge-1","v":{"a":1,"b":2,"at":"«@1s»"},"id":1}
			{"d":"gauge-1","v":{"a":7,"b":2,"at":"«@2s»"},"id":2}
			{"d":"gauge-1","v":{"a":3,"b":2,"at":"«@3s»"},"id":3}`)}, expect: witnesstest.Messages(3),
			noted: append([]string{`gauge-1/level/1 row {"a":1,"at":"«@1s»","b":2}`, `gauge-1/level/2 row {"a":7,"at":"«@2s»","b":2}`,
				`gauge-1/level/3 row {"a":3,"at":"«@3s»","b":2}`}, nothing...)},
		"none, and two are missing where one row is": {witness: order, mark: "none", carried: carried,
			answers: []answer{pages(`{"d":"gauge-1","v":{"a":7},"id":2}
			{"d":"gauge-1","v":{"a":3,"b":2,"at":"«@3s»"},"id":3}`)}, expect: witnesstest.Messages(3),
			noted: append([]string{`gauge-1/level/1 unsure row {"a":7}`, `gauge-1/level/2 unsure row {"a":7}`,
				`gauge-1/level/3 row {"a":3,"at":"«@3s»","b":2}`}, nothing...)},
		"none, and one behind the last": {witness: order, mark: "none", carried: carried[:2],
			answers: []answer{pages(`{"d":"gauge-1","v":{"a":1,"b":2,"at":"«@1s»"},"id":3}
			{"d":"gauge-1","v":{"a":8},"id":2}`)}, expect: witnesstest.Messages(2),
			noted: append([]string{`gauge-1/level/1 row {"a":1,"at":"«@1s»","b":2}`, `gauge-1/level/2 row {"a":8}`}, nothing...)},
		"none, the newest first": {witness: order, mark: "none", carried: []string{`{"a":1}`, `{"a":2}`, `{"a":3}`},
			answers: []answer{pages(`{"d":"gauge-1","v":{"a":3},"id":3}
			{"d":"gauge-1","v":{"a":7},"id":7}
			{"d":"gauge-1","v":{"a":1},"id":1}`)}, expect: witnesstest.Messages(3),
			noted: append([]string{`gauge-1/level/1 row {"a":1}`, `gauge-1/level/2 row {"a":7}`, `gauge-1/level/3 row {"a":3}`},
				nothing...)},
		"none, the newest first, and several of one time": {witness: strings.Replace(order, "wait", "time: .t, wait", 1), mark: "none",
			carried: []string{`{"a":1}`, `{"a":2}`, `{"a":4}`, `{"a":3}`},
			answers: []answer{pages(`{"d":"gauge-1","v":{"a":3},"id":4,"t":"«@2s»"}
			{"d":"gauge-1","v":{"a":7},"id":3,"t":"«@1s»"}
			{"d":"gauge-1","v":{"a":2},"id":2,"t":"«@1s»"}
			{"d":"gauge-1","v":{"a":1},"id":1,"t":"«@1s»"}`)}, expect: witnesstest.Messages(4),
			noted: append([]string{`gauge-1/level/1 row stored 1s {"a":1}`, `gauge-1/level/2 row stored 1s {"a":2}`,
				`gauge-1/level/3 row stored 1s {"a":7}`, `gauge-1/level/4 row stored 2s {"a":3}`}, nothing...)},
		"none, equal ones": {witness: order, mark: "none", carried: []string{`{"a":1}`, `{"a":1}`},
			answers: []answer{pages(`{"d":"gauge-1","v":{"a":1},"id":1}
			{"d":"gauge-1","v":{"a":1.0},"id":2}`)}, expect: witnesstest.Messages(2), asked: 2,
			noted: append([]string{`gauge-1/level/1 row {"a":1}`, `gauge-1/level/2 row {"a":1.0}`}, nothing...)},
		"none, equal ones, one of them twice": {witness: order, mark: "none", carried: []string{`{"a":1}`, `{"a":1}`},
			answers: []answer{pages(`{"d":"gauge-1","v":{"a":1},"id":1}
			{"d":"gauge-1","v":{"a":1.0},"id":2}
			{"d":"gauge-1","v":{"a":1.0},"id":3}`)}, expect: witnesstest.Messages(2),
			noted: append([]string{`gauge-1/level/1 unsure row {"a":1}`, `gauge-1/level/2 unsure row {"a":1.0}`}, nothing...)},
		"none, of equal ones the first is missing": {witness: order, mark: "none", carried: []string{`{"a":1}`, `{"a":2}`, `{"a":1}`},
			answers: []answer{pages(`{"d":"gauge-1","v":{"a":2},"id":1}
			{"d":"gauge-1","v":{"a":1},"id":2}`)}, expect: witnesstest.Messages(3),
			noted: append([]string{`gauge-1/level/2 row {"a":2}`, `gauge-1/level/1 unsure row {"a":1}`,
				`gauge-1/level/3 unsure row {"a":1}`}, nothing...)},
		"none, of equal ones the first is missing, and rows tell when": {witness: strings.Replace(order, "wait", "time: .t, wait", 1),
			mark: "none", carried: []string{`{"a":1}`, `{"a":2}`, `{"a":1}`},
			answers: []answer{pages(`{"d":"gauge-1","v":{"a":1},"id":2,"t":"«@3s»"}
			{"d":"gauge-1","v":{"a":2},"id":1,"t":"«@2s»"}`)}, expect: witnesstest.Messages(3), left: 1,
			noted: append([]string{`gauge-1/level/2 row stored 2s {"a":2}`, `gauge-1/level/3 row stored 3s {"a":1}`}, nothing...)},
		"none, and an identity that other messages share": {witness: order, mark: "none", carried: []string{`{"a":1}`, `{"a":2}`},
			answers: []answer{pages(`{"d":"gauge-1","v":{"a":1},"id":1}
			{"d":"gauge-1","v":{"a":2},"id":1}`)}, expect: witnesstest.Messages(2),
			noted: append([]string{`gauge-1/level/1 row {"a":1}`, `gauge-1/level/2 row {"a":2}`}, nothing...)},
		"none, and an answer that is cut off before the last": {witness: order, mark: "none", left: 2,
			carried: append(slices.Repeat([]string{`{"a":1}`}, 11), `{"a":2}`, `{"a":3}`),
			answers: []answer{pages(strings.Repeat(`{"d":"gauge-1","v":{"a":1}}`+"\n", 10))}, expect: witnesstest.Messages(13),
			noted: append(unsure, nothing...),
			why: "an answer has 10 rows at most: the platform seems to cut its answers off. Ask for more at once (a limit in the address), " +
				"for less time (${from} and ${to}), or say how the next page is asked for (next, page). If it has no limit, write limit: none"},
		"none, and a row that moved to another page": {witness: order, mark: "none", carried: []string{`{"a":1}`, `{"a":1}`},
			answers: []answer{pages(`{"d":"gauge-1","v":{"a":1},"id":1}`, `{"d":"gauge-1","v":{"a":1},"id":1}
			{"d":"gauge-1","v":{"a":1},"id":2}`)}, expect: witnesstest.Messages(2),
			noted: append([]string{`gauge-1/level/1 row {"a":1}`, `gauge-1/level/2 row {"a":1}`}, nothing...)},
		"none, and rows that may have moved": {witness: strings.Replace(order, "row: .id,", "", 1), mark: "none",
			carried: []string{`{"a":1}`, `{"a":1}`, `{"a":2}`}, answers: []answer{pages(`{"d":"gauge-1","v":{"a":1}}
			{"d":"gauge-1","v":{"a":2}}`, `{"d":"gauge-1","v":{"a":1}}
			{"d":"gauge-1","v":{"a":2}}`)}, expect: witnesstest.Messages(3),
			noted: append([]string{`gauge-1/level/1 unsure {"a":1}`, `gauge-1/level/3 {"a":2}`, `gauge-1/level/2 unsure {"a":1}`,
				`gauge-1/level/3 perhaps`}, nothing...)},
		"none, and a page begun again": {witness: strings.Replace(order, "row: .id,", "", 1), mark: "none",
			carried: []string{`{"a":1}`}, answers: []answer{pages(`{"d":"gauge-1","v":{"a":1}}
			again
			{"d":"gauge-1","v":{"a":1}}`)}, expect: witnesstest.Messages(1), noted: append([]string{`gauge-1/level/1 {"a":1}`}, nothing...)},
		"none, there before the run": {witness: order, mark: "none", carried: []string{`{"a":1}`},
			old: pages(`{"d":"gauge-1","v":{"a":1},"id":9}`), answers: []answer{pages(`{"d":"gauge-1","v":{"a":1},"id":9}`)},
			expect: witnesstest.Messages(1), left: 1, noted: []string{`before -1 1 from -1m0s`}},
		"none, not sent": {witness: order, mark: "none", carried: []string{`{"a":1}`, `{"a":2}`, `{"a":3}`},
			answers: []answer{pages(`{"d":"gauge-1","v":{"a":1},"id":1}
			{"d":"gauge-1","v":{"a":8},"id":2}
			{"d":"gauge-1","v":{"a":3},"id":3}`)},
			expect: witnesstest.Expect{Last: map[int]uint64{0: 3}, Out: map[int]map[uint64]bool{0: {2: true}}},
			noted:  append([]string{`gauge-1/level/1 row {"a":1}`, `gauge-1/level/3 row {"a":3}`}, nothing...)},
	} {
		if c.mark == "" {
			c.mark = "{time: at}"
		}
		t.Run(name, c.play)
	}
	pinAsked(t, "testdata/asked-unmarked.txt")
}

// A row may keep the whole body, in base64 or as it is, and a store a mark in a place of its own.
func TestWhereAMarkRides(t *testing.T) {
	const body = `witnesses: {store: {proves: stored, get: "http://127.0.0.1:1/rows", rows: ".[]", body: .p, device: .d,
  reading: .r, wait: 10s, watch_copies: 1s}}`
	base := func(text string) string { return base64.StdEncoding.EncodeToString([]byte(text)) }
	mark := witnesstest.Run + "/gauge-1/level/1"
	spoilt := func(stream int, seq uint64) bool { return stream == 0 && seq == 1 }
	for name, c := range map[string]hearingCase{
		"in a body": {witness: body, answers: []answer{pages(`{"d":"gauge-1","r":"level","p":"{\"m\":\"«1»\",\"a\":1}"}`)},
			expect: witnesstest.Messages(1), noted: []string{`gauge-1/level/1 {"a":1,"m":"«1»"}`}},
		"in a body in base64": {witness: body, answers: []answer{pages(`{"d":"gauge-1","p":"` + base(`{"m":"`+mark+`"}`) + `"}`)},
			expect: witnesstest.Messages(1), noted: []string{`gauge-1/level/1 {"m":"«1»"}`}},
		"in a body, of no device": {witness: body, answers: []answer{pages(`{"d":"x","p":"` + base(`{"m":"`+mark+`"}`) + `"}`)},
			expect: witnesstest.Messages(1), noted: []string{`gauge-1/level/1 at x/ {"m":"«1»"}`}},
		"beside a body": {witness: body, answers: []answer{pages(`{"d":"gauge-1","p":"{\"a\":1}","m":"«1»"}`)},
			expect: witnesstest.Messages(1), noted: []string{`gauge-1/level/1 {"a":1}`}},
		"in no body": {witness: body, answers: []answer{pages(`{"d":"gauge-1","p":7,"m":"«1»"}`)},
			expect: witnesstest.Messages(1), noted: []string{`gauge-1/level/1 {"d":"gauge-1","m":"«1»","p":7}`}},
		"in a row": {witness: `witnesses: {store: {proves: stored, get: "http://127.0.0.1:1/rows", rows: ".[]", device: .d,
  wait: 10s, watch_copies: 1s}}`, answers: []answer{pages(`{"d":"gauge-1","m":"«1»"}`)},
			expect: witnesstest.Messages(1), noted: []string{`gauge-1/level/1 {"d":"gauge-1","m":"«1»"}`}},
		"among the values": {witness: `witnesses: {store: {proves: stored, get: "http://127.0.0.1:1/rows", rows: ".[]", device: .d,
  values: .v, wait: 10s, watch_copies: 1s}}`, answers: []answer{pages(`{"d":"gauge-1","v":{"m":"«1»"}}
			{"d":"gauge-1","v":{"x":1}}
			{"d":"gauge-1","v":5}`)}, expect: witnesstest.Messages(1), noted: []string{`gauge-1/level/1 {"m":"«1»"}`}},
		"of a corrupted body": {witness: body, corrupted: spoilt, answers: []answer{pages(
			`{"d":"gauge-1","p":"{\"m\":\"«1»\",\"a\""}`)}, expect: witnesstest.Messages(1),
			noted: []string{`gauge-1/level/1 {"d":"gauge-1","p":"{\"m\":\"«1»\",\"a\""}`}},
		"of a corrupted body in base64": {witness: body, corrupted: spoilt, answers: []answer{pages(
			`{"d":"gauge-1","p":"` + base(`{"m":"`+mark+`","a"`) + `"}`)}, expect: witnesstest.Messages(1),
			noted: []string{`gauge-1/level/1 {"d":"gauge-1","p":"` + base(`{"m":"`+mark+`","a"`) + `"}`}},
		"of a body that is corrupted, and was not by us": {witness: body, corrupted: func(int, uint64) bool { return false },
			answers: []answer{pages(`{"d":"gauge-1","p":"{\"m\":\"«1»\",\"a\""}`)}, expect: witnesstest.Messages(1), left: 1,
			why: `rows were found, but none carries a mark where the file says (mark: the field of the row that has the ` +
				`mark's name); a row is “{"d":"gauge-1","p":"{\"m\":\"«1»\",\"a\""}”`},
		"of a row that was corrupted": {witness: store, corrupted: spoilt, answers: []answer{pages(
			`{"x":"«1»","v":1,"id":1}`)}, expect: witnesstest.Messages(1), noted: []string{`gauge-1/level/1 row 1`}},
	} {
		if c.mark = "{field: m}"; c.why != "" {
			c.why = strings.ReplaceAll(c.why, "«1»", mark)
		}
		t.Run(name, c.play)
	}
}

// rows are rows of messages of the first device, each of its own.
func rows(seqs ...int) (text string) {
	for _, n := range seqs {
		text += fmt.Sprintf(`{"m":"«%d»","v":%d,"id":%d,"d":"gauge-1"}`+"\n", n, n, n)
	}
	return text
}

func to(from, to int) (list []int) {
	for n := from; n <= to; n++ {
		list = append(list, n)
	}
	return list
}

// An answer that looks as if it had been cut off proves no loss.
func TestAnswersThatAreCutOff(t *testing.T) {
	limit := func(n string) string { return strings.Replace(store, "wait: 10s", "wait: 10s, limit: "+n, 1) }
	const each = `witnesses: {store: {proves: stored, get: "http://127.0.0.1:1/rows/${device}", rows: ".[]", mark: .m, values: .v,
  row: .id, wait: 10s, watch_copies: 1s}}`
	both := func(first, second string) answer {
		return answer{of: map[string][]string{"gauge-1": {first}, "gauge-2": {strings.ReplaceAll(second, "«", "«1.")}}}
	}
	twice := func(n uint64) witnesstest.Expect { return witnesstest.Expect{Last: map[int]uint64{0: n, 1: n}} }
	for name, c := range map[string]struct {
		witness string
		told    answer
		expect  witnesstest.Expect
		rows    int // what is told of at most; 0: it is whole
	}{
		"ten, and one is missing":                {store, pages(rows(to(1, 10)...)), witnesstest.Messages(11), 10},
		"ten of ten":                             {store, pages(rows(to(1, 10)...)), witnesstest.Messages(10), 0},
		"seven of twelve, and no more was asked": {store, pages(rows(to(1, 7)...)), witnesstest.Messages(12), 0},
		"nine of eleven":                         {store, pages(rows(to(1, 9)...)), witnesstest.Messages(11), 0},
		"ten, of which one is a copy":            {store, pages(rows(append(to(1, 9), 9)...)), witnesstest.Messages(9), 10},
		"ten on two pages":                       {store, pages(rows(to(1, 5)...), rows(to(6, 10)...)), witnesstest.Messages(11), 0},
		"ten, and there is no limit":             {limit("none"), pages(rows(to(1, 10)...)), witnesstest.Messages(11), 0},
		"seven, which is the limit":              {limit("7"), pages(rows(to(1, 7)...)), witnesstest.Messages(7), 7},
		"six, under the limit":                   {limit("7"), pages(rows(to(1, 6)...)), witnesstest.Messages(7), 0},
		"ten, under the limit":                   {limit("12"), pages(rows(to(1, 10)...)), witnesstest.Messages(11), 0},
		"the last are missing of both":           {each, both(rows(to(1, 7)...), rows(to(1, 7)...)), twice(12), 7},
		"the first are missing of both":          {each, both(rows(to(6, 12)...), rows(to(6, 12)...)), twice(12), 7},
		"some are missing of both":               {each, both(rows(1, 3, 4, 6, 8, 10, 12), rows(1, 2, 5, 7, 9, 10, 12)), twice(12), 0},
		"all have the same, none is missing":     {each, both(rows(to(1, 7)...), rows(to(1, 7)...)), twice(7), 0},
		"one more of one":                        {each, both(rows(to(1, 8)...), rows(to(1, 7)...)), twice(12), 0},
		"one is missing of each":                 {each, both(rows(to(1, 7)...), rows(to(1, 7)...)), twice(8), 0},
		"two are missing of each":                {each, both(rows(to(1, 7)...), rows(to(1, 7)...)), twice(9), 7},
		"two rows":                               {each, both(rows(1, 2), rows(1, 2)), twice(9), 0},
		"three rows":                             {each, both(rows(1, 2, 3), rows(1, 2, 3)), twice(9), 3},
		"ten of one, and some are missing of the other": {each, both(rows(to(1, 10)...), rows(1, 2, 3, 4, 6, 8, 9)),
			witnesstest.Expect{Last: map[int]uint64{0: 10, 1: 9}}, 0},
		"ten of eleven, of which one was not sent": {store, pages(rows(append(to(1, 9), 11)...)),
			witnesstest.Expect{Last: map[int]uint64{0: 11}, Out: map[int]map[uint64]bool{0: {10: true}}}, 0},
		"the latest alone": {strings.Replace(store, "wait: 10s", "wait: 10s, shows: latest", 1),
			pages(rows(to(1, 10)...)), witnesstest.Messages(11), 0},
	} {
		t.Run(name, func(t *testing.T) {
			x := hearingCase{mark: "{field: m}", witness: c.witness, answers: []answer{c.told}, expect: c.expect}
			x.hear(t, func(t *testing.T, _ *witnesstest.World, _ *platform, complete bool, why string) {
				if assert.Equal(t, c.rows == 0, complete, why); c.rows > 0 {
					assert.Contains(t, why, fmt.Sprintf("an answer has %d rows at most: the platform seems to cut its answers off",
						c.rows))
				}
			})
		})
	}
}

// Where messages are missing, a day more is asked for: the platform's clock may be another.
func TestMoreIsAskedForWhereSomethingIsMissing(t *testing.T) {
	const far, near = `{"m":"«2»","v":2,"id":2,"d":"gauge-1","t":"«@2h»"}`, `{"m":"«2»","v":2,"id":2,"d":"gauge-1","t":"«@65s»"}`
	first := pages(`{"m":"«1»","v":1,"id":1,"d":"gauge-1","t":"«@5s»"}`)
	const remark = `remark the witness "store": the platform files messages under times that are more than a minute off: ` +
		`its clock differs from ours, or it keeps the time of another zone`
	ahead := func(least, most time.Duration) *ledger.Offset { return &ledger.Offset{Least: least, Most: most} }
	for name, c := range map[string]struct {
		more   answer // to the question for a day more
		offset *ledger.Offset
		noted  []string
		last   string // what is asked in the end
	}{
		"filed far away": {pages(rows(1), far), nil, []string{`gauge-1/level/2 row stored 2h0m0s 2`, remark},
			"gauge-1 -24h1m0s..24h1m11s whole"},
		"stored meanwhile":     {pages(rows(1), near), nil, []string{`gauge-1/level/2 row stored 1m5s 2`}, "gauge-1 -24h1m0s..24h1m11s whole"},
		"no time is told":      {pages(rows(1, 2)), nil, []string{`gauge-1/level/2 row 2`, remark}, "gauge-1 -24h1m0s..24h1m11s whole"},
		"not there":            {first, nil, nil, "gauge-1 -1m0s..1m11s whole"},
		"a clock that is slow": {first, ahead(-5*time.Minute, -4*time.Minute), []string{"clock -5m0s to -4m0s"}, "gauge-1 -6m0s..1m11s whole"},
		"a clock that is fast": {first, ahead(4*time.Minute, 5*time.Minute), []string{"clock 4m0s to 5m0s"}, "gauge-1 -1m0s..6m11s whole"},
	} {
		t.Run(name, func(t *testing.T) {
			x := hearingCase{mark: "{field: m}", witness: store, expect: witnesstest.Messages(2), offset: c.offset}
			x.answers, x.further = []answer{first}, &c.more
			x.hear(t, func(t *testing.T, w *witnesstest.World, p *platform, complete bool, why string) {
				assert.True(t, complete, why)
				assert.Equal(t, strings.Join(append([]string{`gauge-1/level/1 row stored 5s 1`}, c.noted...), "\n"),
					strings.Join(w.Noted(), "\n"))
				assert.Equal(t, c.last, p.asked[len(p.asked)-1], "%v", p.asked)
			})
		})
	}
}

// What an earlier hearing noted is not noted again.
func TestWhatIsKnown(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := witnesstest.New(t, t.TempDir(), crowd("{field: m}", store))
		p := &platform{t: t, world: w, answers: []answer{pages(rows(1, 2))}}
		wit, err := find.Messages(&ask.Asker{Base: w.Base, Source: p})
		require.NoError(t, err)
		require.NoError(t, wit.Start(t.Context()))
		h := fnv.New64a()
		h.Write([]byte("1"))
		wit.(hearing.Knower).Know(&ledger.Sighting{Stream: 0, Seq: 1, Row: h.Sum64(), Values: []byte("1")})
		assert.Equal(t, 1, wit.Seen())
		complete, why := wit.Hear(t.Context(), hearing.Round{N: 1, Begin: time.Now(), Expect: witnesstest.Messages(2)})
		assert.True(t, complete, why)
		assert.Equal(t, []string{`gauge-1/level/2 row 2`}, w.Noted())
	})
	w := witnesstest.New(t, t.TempDir(), crowd("{time: at}", store))
	wit, err := find.Messages(&ask.Asker{Base: w.Base, Source: &platform{t: t, world: w}})
	require.NoError(t, err)
	knower := wit.(hearing.CountKnower)
	assert.NoError(t, knower.KnowCounts(time.Now(), map[int]int64{-1: 0}))
	assert.NoError(t, wit.Start(t.Context()), "what was there before is known: it is not asked")
	assert.EqualError(t, knower.KnowCounts(time.Now(), map[int]int64{-1: 3}), `the witness "store" cannot be asked again: 3 rows `+
		`of its devices were there when the run began, and rows carry no mark that tells these from its own`)
}

// Of messages that are alike, a copy of an earlier round proves none of a later one, nor in a later hearing.
func TestALaterMessageIsNoEarlierCopy(t *testing.T) {
	for name, c := range map[string]struct {
		again bool
		mark  string
	}{"in one hearing": {false, "none"}, "asked again": {true, "none"}, "of one time": {false, "{time: a}"}, "of one time, asked again": {true, "{time: a}"}} {
		t.Run(name, func(t *testing.T) {
			again := c.again
			synctest.Test(t, func(t *testing.T) {
				w := witnesstest.New(t, t.TempDir(), crowd(c.mark, strings.NewReplacer("mark: .m, ", "", "row: .id,", "", "time: .t, ", "").Replace(store)))
				p := &platform{t: t, world: w, answers: []answer{pages()}}
				wit, err := find.Messages(&ask.Asker{Base: w.Base, Source: p})
				require.NoError(t, err)
				require.NoError(t, wit.Start(t.Context()))
				copies := pages(`{"d":"gauge-1","v":{"a":1}}
					{"d":"gauge-1","v":{"a":1}}`) // 1: a second of 1970, where it is a time
				w.Catalog.Index.Add(0, 1, []byte(`{"a":1}`))
				if again {
					for range 2 {
						wit.(hearing.Knower).Know(&ledger.Sighting{Stream: 0, Seq: 1, Values: []byte(`{"a":1}`)})
					}
				} else {
					p.answers, p.n = []answer{copies}, 0
					complete, why := wit.Hear(t.Context(), hearing.Round{N: 1, Begin: time.Now(), Expect: witnesstest.Messages(1)})
					assert.True(t, complete, why)
				}
				w.Catalog.Index.Add(0, 2, []byte(`{"a":1}`))
				p.answers, p.n = []answer{copies}, 0
				complete, why := wit.Hear(t.Context(), hearing.Round{N: 2, Begin: time.Now(), Expect: witnesstest.Messages(2)})
				assert.True(t, complete, why)
				assert.Equal(t, 1, wit.Awaited())
				if !again {
					assert.Equal(t, []string{`gauge-1/level/1 {"a":1}`, `gauge-1/level/1 {"a":1}`, `before -1 0 from -1m0s`}, w.Noted())
				}
			})
		})
	}
}

// Rounds of messages, many of them alike, in a store that loses and doubles them, that answers in pages and in
// either order, with and without identities and times: what is said to be found was stored, or a copy of one
// like it was; what was stored is never taken for missing; and where nothing happened, all is found.
func TestAlikeRowsAreHonest(t *testing.T) {
	ledgertest.PinnedBy(t, "testdata/alike.txt", 40, 300, func(seed uint64) (told string) {
		rng := rand.New(rand.NewPCG(seed, 5))
		synctest.Test(t, func(t *testing.T) {
			began := time.Now()
			loses, doubles, ids, times, backward, moves := rng.IntN(2) == 0, rng.IntN(2) == 0, rng.IntN(2) == 0, rng.IntN(2) == 0,
				rng.IntN(3) == 0, rng.IntN(3) == 0
			mark, text := "none", strings.NewReplacer("mark: .m, ", "").Replace(store)
			timed := seed%2 == 1 // known by their time, which several have
			if timed {
				mark, times, text = "{time: at}", false, strings.Replace(store, "mark: .m", "mark: .at", 1)
			}
			if !ids {
				text = strings.Replace(text, "row: .id,", "", 1)
			}
			if !times {
				text = strings.Replace(text, "time: .t, ", "", 1)
			}
			w := witnesstest.New(t, t.TempDir(), crowd(mark, text))
			p := &platform{t: t, world: w, answers: []answer{pages()}}
			wit, err := find.Messages(&ask.Asker{Base: w.Base, Source: p})
			require.NoError(t, err)
			require.NoError(t, wit.Start(t.Context()))
			var rows, values []string
			came, copied, calm := map[int]bool{}, map[string]bool{}, true
			put := func(v string) {
				at, _, _ := strings.Cut(strings.TrimPrefix(v, `{"at":"`), `"`)
				rows = append(rows, fmt.Sprintf(`{"d":"gauge-1","v":%s,"id":%d,"t":"«@%ds»","at":%q}`, v, len(rows)+1, len(rows)+1, at))
			}
			kinds, n := 1+rng.IntN(6), 0
			for round := 1; round <= 1+rng.IntN(3); round++ {
				for range rng.IntN(12) {
					n++
					v := fmt.Sprintf(`{"a":%d}`, rng.IntN(kinds))
					if rng.IntN(2) == 0 {
						v = fmt.Sprintf(`{"a":%d}`, 100+n)
					}
					if timed {
						v = w.Text(fmt.Sprintf(`{"at":"«@%ds»",%s`, n/4, v[1:]))
					}
					values = append(values, v)
					w.Catalog.Index.Add(0, uint64(n), []byte(v))
					if loses && rng.IntN(5) == 0 {
						calm = false
						continue
					}
					came[n] = true
					put(v)
					if doubles && rng.IntN(5) == 0 {
						copied[v], calm = true, false
						put(v)
					}
				}
				answered := slices.Clone(rows)
				if backward {
					slices.Reverse(answered)
				}
				var list []string
				for i, size := 0, 1+rng.IntN(8); i < len(answered); i += size {
					page := answered[i:min(i+size, len(answered))]
					if moves && i > 0 {
						page = append([]string{answered[i-1]}, page...)
					}
					list = append(list, strings.Join(page, "\n"))
				}
				calm = calm && (ids || len(list) < 2) // else a row may stand on two pages
				p.answers, p.n = []answer{pages(list...)}, 0
				complete, why := wit.Hear(t.Context(), hearing.Round{N: round, Begin: time.Now(), Expect: witnesstest.Messages(uint64(n))})
				require.True(t, complete, why)
			}
			found := map[int]bool{}
			noted := w.Noted()
			told = fmt.Sprintf("%d of %d asked for in %d answers, %s\n%s\n", len(came), n, len(p.asked), time.Since(began), strings.Join(noted, "\n"))
			for _, line := range noted {
				var seq int
				if _, err := fmt.Sscanf(line, "gauge-1/level/%d ", &seq); err != nil {
					continue
				}
				found[seq] = true
				unsure := strings.Contains(line, " unsure") || strings.Contains(line, " perhaps")
				require.True(t, unsure || came[seq] || copied[values[seq-1]], "seed %d: %s: %v", seed, line, rows)
				require.True(t, !unsure || !calm, "seed %d: %s: %v", seed, line, rows)
			}
			for seq := 1; seq <= n; seq++ {
				require.True(t, found[seq] || !came[seq], "seed %d: #%d is not found: %v of %v", seed, seq, rows, values)
			}
		})
		return told
	})
}

// Identities may be those of rows of one device alone.
func TestTwinsOfSeveralDevices(t *testing.T) {
	x := hearingCase{mark: "{time: at}", witness: strings.Replace(store, "mark: .m", "mark: .t", 1), carried: []string{`{"a":1,"at":"«@1s»"}`, `{"a":1,"at":"«@1s»"}`},
		expect: witnesstest.Expect{Last: map[int]uint64{0: 2, 1: 2}}}
	for _, d := range []string{"gauge-1", "gauge-2"} {
		x.answers = append(x.answers, pages(fmt.Sprintf(`{"d":"%s","t":"«@1s»","v":{"a":1},"id":1}
			{"d":"%[1]s","t":"«@1s»","v":{"a":1},"id":2}`, d)))
	}
	x.answers = []answer{pages(x.answers[0].pages[0], x.answers[1].pages[0])}
	x.others = x.carried
	x.hear(t, func(t *testing.T, w *witnesstest.World, _ *platform, complete bool, why string) {
		assert.True(t, complete, why)
		noted := strings.Join(w.Noted(), "\n")
		assert.NotContains(t, noted, "unsure")
		for _, m := range []string{"gauge-1/level/1", "gauge-1/level/2", "gauge-2/level/1", "gauge-2/level/2"} {
			assert.Contains(t, noted, m)
		}
	})
}

// A device of which an earlier hearing noted messages, and that is not known any more, has lost none.
func TestADeviceThatWasKnownBefore(t *testing.T) {
	each := strings.NewReplacer("/rows", "/rows/${device}", "device: .d, ", "").Replace(store)
	for name, x := range map[string]*ledger.Sighting{
		"":                               nil,
		"its own":                        {Stream: 0, Seq: 1, Row: 7},
		"another's, filed under it":      {Stream: 1, Seq: 1, Row: 7, FiledDevice: "gauge-1"},
		"its own, filed under another's": {Stream: 0, Seq: 1, Row: 7, FiledDevice: "gauge-2"},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				w := witnesstest.New(t, t.TempDir(), crowd("{field: m}", each))
				p := &platform{t: t, world: w, answers: []answer{pages()}, gone: "gauge-1"}
				wit, err := find.Messages(&ask.Asker{Base: w.Base, Source: p})
				require.NoError(t, err)
				require.NoError(t, wit.Start(t.Context()))
				if x != nil {
					wit.(hearing.Knower).Know(x)
				}
				complete, why := wit.Hear(t.Context(), hearing.Round{N: 1, Begin: time.Now(), Expect: witnesstest.Messages(2)})
				if x == nil || x.FiledDevice == "gauge-2" { // of it nothing was shown
					assert.True(t, complete, why)
					return
				}
				assert.False(t, complete)
				assert.Contains(t, why, "the platform no longer knows gauge-1, of which it showed messages before")
			})
		})
	}
}

// What a run must not begin without.
func TestAskingBeforeTheRun(t *testing.T) {
	broken := errors.New("no such table")
	for name, c := range map[string]struct {
		mark  string
		start error
		old   answer
		begin string // of the plan
		err   string
		noted []string
	}{
		"all is well":             {mark: "{field: m}"},
		"it cannot be asked":      {mark: "{field: m}", start: broken, err: "no such table"},
		"what was there":          {mark: "{time: at}", noted: []string{"before -1 0 from -1m0s"}},
		"it is not known":         {mark: "{time: at}", old: answer{err: broken}, err: `the witness "store" could not be asked what is there before the run: no such table`},
		"no device is known":      {mark: "{time: at}", old: answer{err: ask.ErrUnknown}, noted: []string{"before -1 0 from -1m0s"}},
		"a plan that began":       {mark: "{time: at}", begin: "1999-12-31T23:00:00Z", noted: []string{"before -1 0 from -1h1m0s"}},
		"a plan that will begin":  {mark: "{time: at}", begin: "2000-01-01T01:00:00Z", noted: []string{"before -1 0 from -1m0s"}},
		"a plan of the past hour": {mark: "{time: at}", begin: "-1h", noted: []string{"before -1 0 from -1h1m0s"}},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				text := crowd(c.mark, store)
				if c.begin != "" {
					text = strings.Replace(text, "{for: 10s}", `{for: 10s, begin: "`+c.begin+`"}`, 1)
				}
				w := witnesstest.New(t, t.TempDir(), text)
				wit, err := find.Messages(&ask.Asker{Base: w.Base, Source: &platform{t: t, world: w, answers: []answer{c.old}, start: c.start}})
				require.NoError(t, err)
				err = wit.Start(t.Context())
				if c.err == "" {
					assert.NoError(t, err)
				} else {
					assert.EqualError(t, err, c.err)
				}
				assert.Equal(t, c.noted, w.Noted())
			})
		})
	}
}

// What the platform said by itself is noted once, and not where it was there before the run.
func TestAlertsThatAreAskedFor(t *testing.T) {
	const text = `witnesses: {alarm: {proves: alerts, get: "http://127.0.0.1:1/alarms", rows: ".[]", row: .id, time: .t, wait: 3s, watch_copies: 1s}}
alerts: {low: {heard_by: alarm, about: .d, match: .rule == "low", when: a < 1, within: 1s}}`
	for name, c := range map[string]struct {
		err     error
		answers []answer
		calls   bool
		noted   []string
		why     string
		took    time.Duration
	}{
		"none": {answers: []answer{pages()}, took: time.Second},
		"one that was there, and two that are new": {answers: []answer{pages(`{"id":0,"d":"gauge-1","rule":"low"}`),
			pages(`{"id":0,"d":"gauge-1","rule":"low"}
			{"id":1,"d":"gauge-1","rule":"low","t":"«@5s»"}`, `{"id":2,"d":"gauge-2","rule":"low"}
			{"id":3,"d":"gauge-2","rule":"high"}
			{"id":1,"d":"gauge-1","rule":"low"}`)}, took: time.Second,
			noted: []string{`low of gauge-1 stored 5s {"d":"gauge-1","id":1,"rule":"low","t":"«@5s»"}`,
				`low of gauge-2 {"d":"gauge-2","id":2,"rule":"low"}`}},
		"one comes while copies are watched for": {calls: true, answers: []answer{pages(), pages(),
			pages(`{"id":1,"d":"gauge-1","rule":"low"}`)}, took: 4 * time.Second,
			noted: []string{`low of gauge-1 {"d":"gauge-1","id":1,"rule":"low"}`}},
		"rows whose identity is not told": {answers: []answer{pages(),
			pages(`{"d":"gauge-1","rule":"low"}
			{"d":"gauge-1","rule":"low"}
			{"d":"gauge-1","rule":"low","n":2}`)}, took: time.Second,
			noted: []string{`low of gauge-1 {"d":"gauge-1","rule":"low"}`, `low of gauge-1 {"d":"gauge-1","n":2,"rule":"low"}`}},
		"of a device that is none": {answers: []answer{pages(), pages(`{"id":1,"d":"buoy-7","rule":"low"}`)},
			took: time.Second, noted: []string{`low of buoy-7 unknown {"d":"buoy-7","id":1,"rule":"low"}`}},
		"of none": {answers: []answer{pages(), pages(`{"id":1,"rule":"low"}`)}, took: time.Second,
			why: `1 came for the alert "low", but in none of them about: .d gives the name of a device; the first was {"id":1,"rule":"low"}`},
		"it breaks":                       {answers: []answer{pages(), {err: errors.New("no such page")}}, why: "no such page", took: time.Second},
		"it cannot be asked in the first": {answers: []answer{{err: errors.New("no such page")}}, err: errors.New(`the witness "alarm" could not be asked what is there before the run: no such page`)},
		"too slow": {answers: []answer{pages(), {takes: time.Minute}}, took: 7 * time.Second,
			why: "it was not read to the end within 3s: 0 pages had been read; raise wait, or ask for larger pages"},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				w := witnesstest.New(t, t.TempDir(), crowd("{field: m}", text))
				p := &platform{t: t, world: w, answers: c.answers}
				wit, err := find.Alerts(&ask.Asker{Base: w.Base, Source: p})
				require.NoError(t, err)
				if err = wit.Start(t.Context()); c.err != nil {
					assert.EqualError(t, err, c.err.Error())
					return
				}
				require.NoError(t, err)
				began := time.Now()
				complete, why := wit.Hear(t.Context(), hearing.Round{N: 1, Begin: time.Now(), Expect: witnesstest.Expect{Alarm: c.calls}})
				assert.Equal(t, c.why, why)
				assert.Equal(t, c.why == "", complete)
				assert.Equal(t, c.took, time.Since(began))
				seen := len(c.noted)
				assert.Equal(t, seen, wit.Seen())
				wit.Stop()
				there := 0 // before the run
				if len(c.answers[0].pages) > 0 {
					there = 1
				}
				noted := append(c.noted, fmt.Sprintf("before -1 %d from -1m0s", there))
				assert.Equal(t, w.Text(strings.Join(noted, "\n")), strings.Join(w.Noted(), "\n"))
			})
		})
	}
}

// An alert that an earlier hearing noted is not noted again.
func TestAlertsThatAreKnown(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := witnesstest.New(t, t.TempDir(), crowd("{field: m}", `witnesses: {alarm: {proves: alerts,
  get: "http://127.0.0.1:1/alarms", rows: ".[]", row: .id, time: .t, wait: 3s, watch_copies: 1s}}
alerts: {low: {heard_by: alarm, about: .d, when: a < 1, within: 1s}}`))
		p := &platform{t: t, world: w, answers: []answer{pages(`{"id":1,"d":"gauge-1"}
			{"id":2,"d":"gauge-1"}`)}}
		wit, err := find.Alerts(&ask.Asker{Base: w.Base, Source: p})
		require.NoError(t, err)
		knower := wit.(hearing.CountKnower)
		assert.EqualError(t, knower.KnowCounts(time.Now(), nil), `the witness "alarm" cannot be asked again: whether rows were `+
			`there when the run began is not known`)
		assert.EqualError(t, knower.KnowCounts(time.Now(), map[int]int64{-1: 3}), `the witness "alarm" cannot be asked again: 3 `+
			`rows were there when the run began, and nothing tells these from its own`)
		require.NoError(t, knower.KnowCounts(time.Now(), map[int]int64{-1: 0}))
		require.NoError(t, wit.Start(t.Context()), "what is there now is of the run: it is not asked")
		h := fnv.New64a()
		h.Write([]byte("1"))
		wit.(hearing.AlertKnower).KnowSaid(&ledger.Said{Row: h.Sum64(), Device: "gauge-1"})
		wit.Hear(t.Context(), hearing.Round{N: 1, Begin: time.Now(), Expect: witnesstest.Expect{}})
		assert.Equal(t, []string{`low of gauge-1 {"d":"gauge-1","id":2}`}, w.Noted())
		// Also one of which only an earlier hearing saw something.
		wit.(hearing.AlertKnower).KnowSaid(&ledger.Said{Row: 7, Device: "gauge-9"})
		p.answers, p.gone = []answer{{err: ask.ErrUnknown}}, "gauge-1"
		complete, why := wit.Hear(t.Context(), hearing.Round{N: 1, Begin: time.Now(), Expect: witnesstest.Expect{}})
		assert.False(t, complete)
		assert.Contains(t, why, "the platform no longer knows gauge-1")
	})
}

// Of each device of which something is missing it is asked again, and of all in the end.
func TestWhomItAsksAgain(t *testing.T) {
	x := hearingCase{mark: "{field: m}", witness: `witnesses: {store: {proves: stored, get: "http://127.0.0.1:1/rows/${device}",
  rows: ".[]", mark: .m, values: .v, wait: 10s, watch_copies: 1s}}`, expect: witnesstest.Expect{Last: map[int]uint64{0: 1, 1: 1}},
		answers: []answer{{of: map[string][]string{"gauge-1": {`{"m":"«1»","v":1}`}}}}}
	x.hear(t, func(t *testing.T, _ *witnesstest.World, p *platform, complete bool, why string) {
		assert.True(t, complete, why)
		times := map[string]int{}
		for _, q := range p.asked {
			times[q[:len("gauge-1")]]++
		}
		assert.Equal(t, 2, times["gauge-1"])
		assert.Greater(t, times["gauge-2"], 8)
	})
}

// What is missing of a device's readings is taken together, by where in its round each stands.
func TestSeveralReadingsThatAreCutOff(t *testing.T) {
	const each = `witnesses: {store: {proves: stored, get: "http://127.0.0.1:1/rows/${device}", rows: ".[]", body: .p, row: .id,
  wait: 10s, watch_copies: 1s}}`
	row := func(stream, seq int) string {
		return fmt.Sprintf(`{"p":"{\"m\":\"«%d.%d»\"}","id":"%d.%d"}`+"\n", stream, seq, stream, seq)
	}
	told := answer{of: map[string][]string{}}
	expect := witnesstest.Expect{Last: map[int]uint64{}, First: map[int]uint64{}}
	for d := range 2 {
		text := ""
		for n := 1; n <= 6; n++ {
			text += row(2*d, n)
		}
		told.of[fmt.Sprintf("gauge-%d", d+1)] = []string{text + row(2*d+1, 101) + row(2*d+1, 102)}
		expect.Last[2*d], expect.First[2*d+1], expect.Last[2*d+1] = 12, 101, 104
	}
	x := hearingCase{mark: "{field: m}", witness: each, answers: []answer{told}, expect: expect, readings: `, state: {every: 1s, path: "/in", fields: {a: 1}}`}
	x.hear(t, func(t *testing.T, _ *witnesstest.World, _ *platform, complete bool, why string) {
		assert.False(t, complete)
		assert.Contains(t, why, "an answer has 8 rows at most")
	})
	x = hearingCase{mark: "{field: m}", witness: each, devices: 5, answers: []answer{{of: map[string][]string{}}}, expect: witnesstest.Expect{Last: map[int]uint64{}}}
	for d := range 5 { // one is missing of each, the last: that may be chance
		x.answers[0].of[fmt.Sprintf("gauge-%d", d+1)] = []string{row(d, 1) + row(d, 2) + row(d, 3) + row(d, 4)}
		x.expect.Last[d] = 5
	}
	x.hear(t, func(t *testing.T, _ *witnesstest.World, _ *platform, complete bool, why string) {
		assert.True(t, complete, why)
	})
}

// A part of a crowd does not begin where the platform has messages of its name already: of its devices, or of none.
func TestANameThatWasUsed(t *testing.T) {
	for name, c := range map[string]struct {
		row   string
		fresh bool
		err   error
		used  bool
		part  int // 0: the first
	}{
		"of another part, the first": {row: `{"m":"MARK0/3","v":{}}`, fresh: true, part: 2},
		"none":                       {row: "", fresh: true},
		"of its own":                 {row: `{"m":"MARK0/3","v":{}}`, fresh: true, used: true},
		"of its own, and it is sure": {row: `{"m":"MARK0/3","v":{}}`},
		"of another part":            {row: `{"m":"MARK1/3","v":{}}`, fresh: true},
		"of none":                    {row: `{"m":"` + witnesstest.Run + `/tug/place/1","v":{}}`, fresh: true, used: true},
		"of another run":             {row: `{"m":"zzzzzzzz/gauge-1/level/1","v":{}}`, fresh: true},
		"it cannot be asked":         {row: "", fresh: true, err: errors.New("no such page")},
	} {
		w := witnesstest.New(t, t.TempDir(), crowd("{field: mark}", store))
		w.Fleet.Share(fleet.Part{N: max(1, c.part), Of: 2})
		w.Catalog.Fresh = c.fresh
		row := c.row
		for i := range w.Fleet.Streams {
			row = strings.ReplaceAll(row, fmt.Sprintf("MARK%d/3", i), w.Mark(i, 3))
		}
		a := pages(row)
		a.err = c.err
		wit, err := find.Messages(&ask.Asker{Base: w.Base, Source: &platform{t: t, world: w, answers: []answer{a}}})
		require.NoError(t, err)
		err = wit.Start(t.Context())
		if c.used {
			assert.ErrorContains(t, err, "the platform has messages of a run of this name already", name)
		} else {
			assert.NoError(t, err, name)
		}
		assert.Empty(t, w.Noted(), name)
	}
}
