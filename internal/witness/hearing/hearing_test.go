package hearing_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"runcrowd/internal/fleet"
	"runcrowd/internal/ledger"
	"runcrowd/internal/witness/hearing"
	"runcrowd/internal/witness/match"
	"runcrowd/internal/witness/witnesstest"
)

func world(t *testing.T, witness string) *witnesstest.World {
	return witnesstest.New(t, t.TempDir(), `
crowd: skerry-roads
links: {sea: {mqtt: "mqtt://127.0.0.1:1"}}
kinds:
  buoy: {readings: {state: {every: 1s, topic: "harbour/${device}", fields: {a: 1}}}}
  tug: {readings: {place: {every: 1s, topic: "tugs/${device}", fields: {a: 1}}}}
devices: [{kind: buoy, count: 2, name: "buoy-${n}"}, {kind: tug, name: tug-1}]
plan: {for: 10s}
`+witness)
}

const ear = `witnesses: {ear: {proves: received, subscribe: "#"}}`

// What is missing of a round is counted when its hearing begins, and as it comes.
func TestWhatIsMissing(t *testing.T) {
	type found struct {
		stream int
		seq    uint64
	}
	all := witnesstest.Expect{Last: map[int]uint64{0: 3, 1: 2, 2: 1}}
	second := witnesstest.Expect{Last: map[int]uint64{0: 6}, First: map[int]uint64{0: 4}}
	excused := witnesstest.Expect{Last: map[int]uint64{0: 3, 1: 2}, Out: map[int]map[uint64]bool{0: {2: true}, 1: {2: true}}}
	for name, c := range map[string]struct {
		witness       string
		before, later []found
		expect        witnesstest.Expect
		first, last   int // missing at the beginning, and at the end
		lacks         string
		seen          int
	}{
		"all is missing":       {expect: all, first: 6, last: 6, lacks: "0/1 0/2 0/3 1/1 1/2 2/1"},
		"all was there before": {expect: second, before: []found{{0, 4}, {0, 5}, {0, 6}}, seen: 3},
		"all comes":            {expect: second, later: []found{{0, 6}, {0, 4}, {0, 5}}, first: 3, seen: 3},
		"one comes twice":      {expect: second, later: []found{{0, 6}, {0, 6}}, first: 3, last: 2, lacks: "0/4 0/5", seen: 1},
		"what comes was expected before": {expect: second, later: []found{{0, 1}, {0, 3}, {0, 7}}, first: 3, last: 3,
			lacks: "0/4 0/5 0/6", seen: 3},
		"none of the run": {expect: second, later: []found{{-1, 4}}, first: 3, last: 3, lacks: "0/4 0/5 0/6"},
		"an odd number": {expect: second, later: []found{{0, match.MaxSeq + 1}, {0, 1 << 63}, {0, match.MaxSeq}}, first: 3, last: 3,
			lacks: "0/4 0/5 0/6", seen: 1},
		"what was not sent":       {expect: excused, first: 3, last: 2, later: []found{{0, 2}, {0, 1}}, lacks: "0/3 1/1", seen: 2},
		"what must be kept out":   {expect: all, later: []found{{0, 3}}, first: 6, last: 5, lacks: "0/1 0/2 1/1 1/2 2/1", seen: 1},
		"a witness of some":       {witness: `witnesses: {ear: {proves: received, subscribe: "#", who: tug}}`, expect: all, first: 1, last: 1, lacks: "2/1"},
		"of others nothing lacks": {witness: `witnesses: {ear: {proves: received, subscribe: "#", who: tug}}`, expect: all, later: []found{{0, 1}}, first: 1, last: 1, lacks: "2/1", seen: 1},
		"far behind": {expect: witnesstest.Expect{Last: map[int]uint64{0: 200}, First: map[int]uint64{0: 127}},
			later: []found{{0, 127}, {0, 128}, {0, 200}}, first: 74, last: 71, seen: 3},
		"the latest alone": {witness: `witnesses: {ear: {proves: stored, get: "http://127.0.0.1:1/x/${device}", rows: ".[]", shows: latest}}`,
			expect: excused, first: 2, last: 1, later: []found{{0, 3}, {1, 2}}, lacks: "1/1", seen: 2},
		"the latest, of none": {witness: `witnesses: {ear: {proves: stored, get: "http://127.0.0.1:1/x/${device}", rows: ".[]", shows: latest}}`,
			expect: witnesstest.Expect{Last: map[int]uint64{0: 1}, Out: map[int]map[uint64]bool{0: {1: true}}}},
	} {
		t.Run(name, func(t *testing.T) {
			if c.witness == "" {
				c.witness = ear
			}
			w := world(t, c.witness)
			w.Catalog.Corrupted = func(stream int, seq uint64) bool { return stream == 0 && seq == 3 }
			assert.False(t, w.Any())
			for _, f := range c.before {
				w.Remember(f.stream, f.seq)
			}
			w.Begin(hearing.Round{N: 1, Expect: c.expect})
			assert.Equal(t, c.first, w.Awaited())
			for _, f := range c.later {
				w.Remember(f.stream, f.seq)
			}
			assert.Equal(t, c.last, w.Awaited())
			var lacks []string
			w.Lacks(c.expect, func(stream int, seq uint64) { lacks = append(lacks, fmt.Sprintf("%d/%d", stream, seq)) })
			assert.Len(t, lacks, c.last)
			if c.lacks != "" {
				assert.Equal(t, c.lacks, strings.Join(lacks, " "))
			}
			out := 0
			for _, l := range lacks {
				if l == "0/3" {
					out++
				}
			}
			assert.Equal(t, out, w.StayOut())
			assert.Equal(t, c.seen, w.Seen())
			assert.Equal(t, c.seen > 0, w.Any())
			for _, f := range c.later {
				assert.Equal(t, f.stream >= 0 && f.seq <= match.MaxSeq, w.Has(max(0, f.stream), f.seq))
			}
			w.Over()
			w.Remember(0, 5000)
			assert.Equal(t, c.last, w.Awaited(), "it is over")
		})
	}
}

// Where a message was filed is told only where that is not its own place.
func TestItsOwnPlace(t *testing.T) {
	w := world(t, ear)
	for _, x := range []ledger.Sighting{
		{Stream: 0, Seq: 1, FiledDevice: "buoy-1", FiledReading: "state"}, {Stream: 0, Seq: 2, FiledDevice: "buoy-2", FiledReading: "state"},
		{Stream: 0, Seq: 3, FiledDevice: "buoy-1", FiledReading: "place"}, {Stream: -1, Seq: 4, Device: "x", Reading: "y", FiledDevice: "buoy-1"},
	} {
		w.Note(&x)
	}
	assert.Equal(t, 3, w.Seen())
	assert.Equal(t, []string{"buoy-1/state/1", "buoy-1/state/2 at buoy-2/", "buoy-1/state/3 at /place", "stray x/y/4 at buoy-1/"},
		w.Noted())
}

// What the platform says by itself is of an alert, and about a device, or it is told as what it is.
func TestWhatThePlatformSays(t *testing.T) {
	const plain = `witnesses: {alarm: {proves: alerts, subscribe: "alarms/#"}}
alerts:
  low: {heard_by: alarm, about: .d, match: .rule == "low", when: a < 1, reading: state}
  any: {heard_by: alarm, about: '$topic | split("/")[1]', when: a < 2, reading: state}`
	for name, c := range map[string]struct {
		topic, body string
		noted       []string
		alert       bool
		unnamed     string
	}{
		"of both": {"alarms/buoy-2", `{"rule":"low","d":"buoy-1"}`, []string{`low of buoy-1 {"d":"buoy-1","rule":"low"}`,
			`any of buoy-2 {"d":"buoy-1","rule":"low"}`}, true, ""},
		"of one":       {"alarms/buoy-2", `{"rule":"high","d":"buoy-1"}`, []string{`any of buoy-2 {"d":"buoy-1","rule":"high"}`}, true, ""},
		"of no device": {"alarms/tug-9", `{"rule":"high"}`, []string{`any of tug-9 unknown {"rule":"high"}`}, true, ""},
		"a number":     {"alarms/buoy-1", `{"rule":"low","d":17}`, []string{`low of 17 unknown {"d":17,"rule":"low"}`, `any of buoy-1 {"d":17,"rule":"low"}`}, true, ""},
		"no name": {"alarms", `{"rule":"low"}`, nil, true,
			`1 came for the alert "low", but in none of them about: .d gives the name of a device; the first was {"rule":"low"}`},
		"no JSON": {"alarms/buoy-1", "on\xff fire", []string{`any of buoy-1 on? fire`}, true, ""},
	} {
		t.Run(name, func(t *testing.T) {
			w := world(t, plain)
			v := hearing.Decoded([]byte(c.body))
			assert.Equal(t, c.alert, w.IsAlert(v, c.topic))
			w.Said(v, c.topic, &ledger.Said{})
			assert.Equal(t, c.unnamed, w.Unnamed())
			assert.Equal(t, len(c.noted), w.Seen())
			assert.Equal(t, c.noted, w.Noted())
		})
	}
	w := world(t, ear)
	assert.False(t, w.IsAlert(hearing.Decoded([]byte(`{}`)), "x"), "it is there for none")
	assert.Empty(t, w.Unnamed())
}

// A platform that says too much of devices that are none is not noted word by word; one that names
// some devices, and others not, is.
func TestAlertsOfNoDevice(t *testing.T) {
	w := world(t, `witnesses: {alarm: {proves: alerts, subscribe: "alarms/#"}}
alerts: {low: {heard_by: alarm, about: .d, match: .rule == "low", when: a < 1, reading: state}}`)
	say := func(text string) { w.Said(hearing.Decoded([]byte(text)), "alarms", &ledger.Said{}) }
	for n := range 150 {
		say(fmt.Sprintf(`{"rule":"low","d":"tug-%d"}`, n+2))
	}
	say(`{"rule":"low"}`)
	assert.NotEmpty(t, w.Unnamed(), "none was about a device")
	say(`{"rule":"low","d":"buoy-1"}`)
	assert.Empty(t, w.Unnamed())
	assert.False(t, w.IsAlert(hearing.Decoded([]byte(`{"rule":"high"}`)), "x"))
	assert.False(t, w.IsAlert(hearing.Decoded([]byte(`no object`)), "x"))
	assert.Len(t, w.Noted(), 101)
}

// A device may be called otherwise by the platform; two of one name could not be told apart.
func TestWhatThePlatformCallsADevice(t *testing.T) {
	w := world(t, `witnesses: {alarm: {proves: alerts, subscribe: "alarms/#"}, other: {proves: alerts, subscribe: "#"}}
alerts:
  low: {heard_by: alarm, about: .d, when: a < 1, reading: state, device_name: "B-${device}"}
  far: {heard_by: other, about: .d, when: a < 3, reading: state}`)
	for _, name := range []string{"B-buoy-1", "buoy-1"} {
		w.Said(map[string]any{"d": name}, "alarms", &ledger.Said{Perhaps: true})
	}
	assert.Equal(t, []string{`low of buoy-1 perhaps {"d":"B-buoy-1"}`, `low of buoy-1 unknown perhaps {"d":"buoy-1"}`}, w.Noted())

	same := world(t, `witnesses: {ear: {proves: received, subscribe: "#"}, alarm: {proves: alerts, subscribe: "alarms/#"}}
alerts: {low: {heard_by: alarm, about: .d, when: a < 1, reading: state, device_name: "B"}}`)
	_, err := hearing.New(same.Fleet.Crowd.Witnesses[1], 1, same.Catalog, nil)
	assert.EqualError(t, err, `the alert "low": buoy-1 and buoy-2 are both called "B": whom it is about could not be told`)
}

// Of a crowd in parts, each part looks after its own devices, the first after what is of none; and after all that
// lies where it alone looks.
func TestWhatAnotherPartLooksAfter(t *testing.T) {
	const alone = `witnesses: {store: {proves: stored, get: "http://127.0.0.1:1/${device}", rows: ".[]", mark: .m}}`
	for _, c := range []struct {
		witness string
		n, of   int
		want    []bool // of none, and of the three devices
	}{
		{ear, 0, 0, []bool{false, false, false, false}}, {ear, 1, 2, []bool{false, false, true, false}}, {ear, 2, 2, []bool{true, true, false, true}},
		{alone, 1, 2, []bool{false, false, false, false}}, {alone, 2, 2, []bool{false, false, false, false}},
	} {
		w := world(t, c.witness)
		w.Fleet.Share(fleet.Part{N: c.n, Of: c.of})
		var got []bool
		for stream := -1; stream < 3; stream++ {
			got = append(got, w.Elsewhere(stream))
			x := ledger.Sighting{Stream: stream, Seq: 1, Device: "x", Reading: "y"}
			w.Note(&x)
		}
		own := slices.DeleteFunc(slices.Clone(c.want), func(elsewhere bool) bool { return elsewhere })
		assert.Len(t, w.Noted(), len(own))
		assert.Equal(t, c.want, got, "%+v", c)
	}
}
