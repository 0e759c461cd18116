package tally_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"math/big"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"runcrowd/internal/evidence"
	"runcrowd/internal/ledger"
	"runcrowd/internal/outcome"
	"runcrowd/internal/proof"
	"runcrowd/internal/strictjson"
	"runcrowd/internal/tally"
	"runcrowd/internal/verdict"
)

var start = time.Date(2030, 1, 2, 3, 4, 5, 0, time.UTC)

// book is a ledger of one stream, buoy-1 state, with an ear and a store, both
// heard to the end.
func book(messages ...ledger.Message) *ledger.Book {
	b := &ledger.Book{Facts: ledger.Facts{Run: "k3f9a2xy", Start: start, Ended: true,
		Streams: []ledger.Stream{{Device: "buoy-1", Kind: "buoy", Reading: "state", MayRepeat: true, Tolerances: map[string]float64{"t": 0.1}},
			{Device: "buoy-2", Kind: "buoy", Reading: "state"}},
		Rounds: []ledger.Round{{N: 1, Begin: start, End: start.Add(time.Minute)}},
		Witnesses: []ledger.Witness{
			{Name: "ear", Proof: "received", Within: time.Second, WatchCopies: time.Second, Listens: true, Heard: map[int]ledger.Hearing{1: {Complete: true}}},
			{Name: "store", Proof: "stored", Heard: map[int]ledger.Hearing{1: {Complete: true}}}}},
		Messages: [][]ledger.Message{messages, nil}}
	return b
}

// judge judges a book; what it is made of may change in between.
func judge(b *ledger.Book) *tally.Result {
	b.Last = nil
	r, err := tally.Watch(evidence.Of(b, verdict.Same(&b.Facts)), tally.Options{}).Judge()
	if err != nil {
		panic(err)
	}
	return r
}

const carried = `{"wave_m":47.8,"t":1,"site":"outer"}`

// message is the first of the stream: sent once, acknowledged.
func message(change func(*ledger.Message)) ledger.Message {
	m := ledger.Message{Seq: 1, Round: 1, Due: start, Sent: start.Add(time.Millisecond), Attempts: 1, Outcome: outcome.Accepted,
		At: start.Add(2 * time.Millisecond), Carried: []byte(carried)}
	if change != nil {
		change(&m)
	}
	return m
}

func ended(o outcome.Outcome) func(*ledger.Message) {
	return func(m *ledger.Message) { m.Outcome = o }
}

// seen is a right sighting of the first message.
func seen(witness int, change func(*ledger.Sighting)) ledger.Sighting {
	s := ledger.Sighting{Witness: witness, Seen: start.Add(5 * time.Millisecond), Seq: 1, Asked: witness == 1, Values: []byte(`{"mark":"x",` + carried[1:])}
	if change != nil {
		change(&s)
	}
	return s
}

func values(v string) func(*ledger.Sighting) {
	return func(s *ledger.Sighting) { s.Values = []byte(v) }
}

func filed(device, reading string) func(*ledger.Sighting) {
	return func(s *ledger.Sighting) { s.FiledDevice, s.FiledReading = device, reading }
}

// TestVerdicts: what is known of a message, and the one verdict that follows.
func TestVerdicts(t *testing.T) {
	ear, store := seen(0, nil), seen(1, nil)
	late := seen(0, func(s *ledger.Sighting) { s.Seen = start.Add(1500 * time.Millisecond) })
	resent := func(m *ledger.Message) { m.Attempts, m.Anew = 2, 1 }
	unsent := func(m *ledger.Message) { m.Attempts, m.Sent, m.Outcome = 0, time.Time{}, outcome.Unsent }
	for name, c := range map[string]struct {
		message func(*ledger.Message)
		seen    []ledger.Sighting
		book    func(*ledger.Book)
		want    verdict.Verdict
		says    string
	}{
		"all is well":                          {nil, []ledger.Sighting{ear, store}, nil, verdict.Proven, ""},
		"refused, not kept":                    {ended(outcome.Refused), nil, nil, verdict.Refused, "not found"},
		"refused, yet kept":                    {ended(outcome.Refused), []ledger.Sighting{store}, nil, verdict.Unacknowledged, "not found"},
		"the store lacks it":                   {nil, []ledger.Sighting{ear}, nil, verdict.Lost, "not found"},
		"the ear lacks it":                     {nil, []ledger.Sighting{store}, nil, verdict.Lost, "not found"},
		"QoS 0, the store lacks it":            {ended(outcome.NotAsked), []ledger.Sighting{ear}, nil, verdict.Lost, "not found"},
		"QoS 0, all is well":                   {ended(outcome.NotAsked), []ledger.Sighting{ear, store}, nil, verdict.Proven, ""},
		"no answer, nowhere":                   {ended(outcome.NoAnswer), nil, nil, verdict.Unanswered, "not found"},
		"no answer, found":                     {ended(outcome.NoAnswer), []ledger.Sighting{ear, store}, nil, verdict.Unacknowledged, ""},
		"no answer, found by one":              {ended(outcome.NoAnswer), []ledger.Sighting{store}, nil, verdict.Unacknowledged, "not found"},
		"still open at the end":                {ended(outcome.Open), nil, nil, verdict.Unanswered, "not found"},
		"altered":                              {nil, []ledger.Sighting{ear, seen(1, values(`{"wave_m":48,"t":1,"site":"outer"}`))}, nil, verdict.Altered, "found with other values"},
		"within the tolerance":                 {nil, []ledger.Sighting{ear, seen(1, values(`{"site":"outer","t":1.05,"wave_m":47.80}`))}, nil, verdict.Proven, ""},
		"beyond the tolerance":                 {nil, []ledger.Sighting{ear, seen(1, values(`{"site":"outer","t":1.2,"wave_m":47.8}`))}, nil, verdict.Altered, ""},
		"a field the platform adds":            {nil, []ledger.Sighting{ear, seen(1, values(`{"id":7,"site":"outer","t":1,"wave_m":47.8}`))}, nil, verdict.Proven, ""},
		"altered and lost":                     {nil, []ledger.Sighting{seen(0, values(`{}`))}, nil, verdict.Lost, ""},
		"another device":                       {nil, []ledger.Sighting{ear, seen(1, filed("buoy-2", ""))}, nil, verdict.Misfiled, "found under buoy-2"},
		"another reading":                      {nil, []ledger.Sighting{ear, seen(1, filed("", "level"))}, nil, verdict.Misfiled, "found under the reading level"},
		"right and wrong place":                {nil, []ledger.Sighting{ear, store, seen(1, filed("buoy-2", ""))}, nil, verdict.Misfiled, "found under buoy-2"},
		"the witness cannot tell where":        {nil, []ledger.Sighting{ear, seen(1, filed("", ""))}, nil, verdict.Proven, ""},
		"twice":                                {nil, []ledger.Sighting{ear, store, store}, nil, verdict.Repeated, "found twice"},
		"three times":                          {nil, []ledger.Sighting{ear, ear, ear, store}, nil, verdict.Repeated, "found 3 times"},
		"twice, as it was sent":                {resent, []ledger.Sighting{ear, ear, store, store}, nil, verdict.Proven, ""},
		"twice, sent twice as one":             {func(m *ledger.Message) { m.Attempts = 2 }, []ledger.Sighting{ear, ear, store}, nil, verdict.Repeated, "found twice"},
		"twice, sent again over HTTP":          {func(m *ledger.Message) { m.Attempts, m.Anew = 2, 1 }, []ledger.Sighting{ear, ear, store}, func(b *ledger.Book) { b.Streams[0].MayRepeat = false }, verdict.Unknown, "whether it did, or stored it twice, is not known"},
		"three times, sent again over HTTP":    {func(m *ledger.Message) { m.Attempts, m.Anew = 2, 1 }, []ledger.Sighting{ear, ear, ear, store}, func(b *ledger.Book) { b.Streams[0].MayRepeat = false }, verdict.Repeated, "found 3 times"},
		"three times, sent twice":              {resent, []ledger.Sighting{ear, ear, ear, store}, nil, verdict.Repeated, ""},
		"a second delivery to the witness":     {nil, []ledger.Sighting{ear, seen(0, func(s *ledger.Sighting) { s.Again = true }), store}, nil, verdict.Proven, ""},
		"only a second delivery":               {nil, []ledger.Sighting{seen(0, func(s *ledger.Sighting) { s.Again = true }), store}, nil, verdict.Proven, ""},
		"a second delivery before the first":   {nil, []ledger.Sighting{seen(0, again), ear, store}, nil, verdict.Repeated, "found twice"},
		"twice, its sendings in a lost block":  {nil, []ledger.Sighting{ear, ear, store}, func(b *ledger.Book) { b.Lost = true }, verdict.Unknown, "how often it was sent is not known"},
		"late":                                 {nil, []ledger.Sighting{late, store}, nil, verdict.Late, "found 1.5s after it was sent; allowed are 1s"},
		"late by the platform's clock":         {nil, []ledger.Sighting{stored(3*time.Second, 4*time.Second), store}, clockOf(-time.Millisecond, time.Millisecond), verdict.Late, "found 3s after"},
		"late, if its clock were ours":         {nil, []ledger.Sighting{stored(3*time.Second, 4*time.Second), store}, nil, verdict.Unknown, "clock and ours do not agree"},
		"late by a clock that is ahead":        {nil, []ledger.Sighting{stored(13*time.Second, 4*time.Second), store}, clockOf(10*time.Second, 10*time.Second), verdict.Late, "found 3s after"},
		"in time by a clock that is ahead":     {nil, []ledger.Sighting{stored(10500*time.Millisecond, 4*time.Second), store}, clockOf(10*time.Second, 10*time.Second), verdict.Proven, ""},
		"perhaps late, as far as clocks allow": {nil, []ledger.Sighting{stored(1200*time.Millisecond, 4*time.Second), store}, clockOf(-time.Second, time.Second), verdict.Unknown, "clock and ours do not agree"},
		"stored after it was seen, in time":    {nil, []ledger.Sighting{stored(3*time.Second, 5*time.Millisecond), store}, nil, verdict.Proven, ""},
		"stored after it was seen, too late":   {nil, []ledger.Sighting{stored(3*time.Second, 2*time.Second), store}, nil, verdict.Unknown, "clock and ours do not agree"},
		"stored before it was sent":            {nil, []ledger.Sighting{stored(-10*time.Second, 2*time.Second), store}, nil, verdict.Unknown, "clock and ours do not agree"},
		"stored in the second it was sent":     {nil, []ledger.Sighting{stored(0, 2*time.Second), store}, clockOf(0, 0), verdict.Proven, ""},
		"heard, and the ear was deaf behind":   {nil, []ledger.Sighting{ear, store}, gap(500*time.Millisecond, time.Second, false), verdict.Unknown, "whether once is not known"},
		"heard late, and deaf meanwhile":       {nil, []ledger.Sighting{late, store}, gap(100*time.Millisecond, time.Second, true), verdict.Unknown, "whether within 1s is not known"},
		"heard late, and deaf before it":       {nil, []ledger.Sighting{late, store}, gap(-time.Second, 0, false), verdict.Late, "found 1.5s after"},
		"heard, and deaf before that":          {nil, []ledger.Sighting{ear, store}, gap(2*time.Millisecond, 3*time.Millisecond, false), verdict.Unknown, "whether once is not known"},
		"heard, and deaf after the linger":     {nil, []ledger.Sighting{ear, store}, gap(1100*time.Millisecond, time.Hour, false), verdict.Proven, ""},
		"heard, and the ear lagged behind":     {nil, []ledger.Sighting{ear, store}, lag(0, time.Second), verdict.Proven, ""},
		"not heard by an ear that lagged":      {nil, []ledger.Sighting{store}, lag(0, time.Second), verdict.Unknown, "the witness lagged just then"},
		"one row that changed":                 {nil, []ledger.Sighting{ear, seen(1, values("{}")), seen(1, again)}, nil, verdict.Proven, ""},
		"one row that was changed for worse":   {nil, []ledger.Sighting{ear, store, seen(1, func(s *ledger.Sighting) { again(s); s.Values = []byte("{}") })}, nil, verdict.Altered, ""},
		"two rows, by their identity":          {nil, []ledger.Sighting{ear, seen(1, row(1)), seen(1, row(2))}, nil, verdict.Repeated, "found twice"},
		"one row, by its identity":             {nil, []ledger.Sighting{ear, seen(1, row(1)), seen(1, row(1))}, nil, verdict.Proven, ""},
		"on two pages, no identity":            {nil, []ledger.Sighting{ear, store, seen(1, func(s *ledger.Sighting) { s.Perhaps = true })}, nil, verdict.Unknown, "on more than one page"},
		"asked for late, stored no one knows":  {nil, []ledger.Sighting{seen(0, func(s *ledger.Sighting) { s.Seen, s.Asked = start.Add(time.Hour), true }), store}, nil, verdict.Proven, ""},
		"unsent":                               {unsent, nil, nil, verdict.Unsent, ""},
		"the store was not heard":              {nil, []ledger.Sighting{ear}, func(b *ledger.Book) { b.Witnesses[1].Heard[1] = ledger.Hearing{Why: "no route"} }, verdict.Unknown, "not known: the witness was not heard to the end"},
		"the store was not heard, yet it says": {nil, []ledger.Sighting{ear, seen(1, values(`{}`))}, func(b *ledger.Book) { delete(b.Witnesses[1].Heard, 1) }, verdict.Altered, ""},
		"found, but not heard to the end":      {nil, []ledger.Sighting{ear, store}, func(b *ledger.Book) { b.Witnesses[0].Heard[1] = ledger.Hearing{} }, verdict.Unknown, "whether once is not known"},
		"found, and its round never ended":     {nil, []ledger.Sighting{ear, store}, func(b *ledger.Book) { delete(b.Witnesses[1].Heard, 1) }, verdict.Unknown, "whether once is not known"},
		"what was sent is not known":           {func(m *ledger.Message) { m.Carried = []byte("null") }, []ledger.Sighting{ear, store}, nil, verdict.Unknown, "nothing to compare it with"},
		"rubbish behind the end":               {nil, []ledger.Sighting{ear, seen(1, values(`{"mark":"x",`+carried[1:]+`}`))}, nil, verdict.Altered, "stands after"},
		"rubbish in front":                     {nil, []ledger.Sighting{ear, seen(1, values(`{"mark":"x"$`+carried[1:]))}, nil, verdict.Altered, "invalid character"},
		"two bodies":                           {nil, []ledger.Sighting{ear, seen(1, values(carried+carried))}, nil, verdict.Altered, "stands after"},
		"a value of two":                       {nil, []ledger.Sighting{ear, seen(1, values(`{"mark":"x","wave_m":9,`+carried[1:]))}, nil, verdict.Altered, `"wave_m" stands twice`},
		"a value of two, in other letters":     {nil, []ledger.Sighting{ear, seen(1, values(`{"wave\u005fm":"x",`+carried[1:]))}, nil, verdict.Altered, `"wave_m" stands twice`},
		"no answer, and nobody was heard":      {ended(outcome.NoAnswer), nil, func(b *ledger.Book) { clear(b.Witnesses[0].Heard); clear(b.Witnesses[1].Heard) }, verdict.Unknown, "not known"},
		"the ear did not listen then":          {nil, []ledger.Sighting{store}, gap(0, 5*time.Second, false), verdict.Unknown, "could not listen just then: cut"},
		"the ear did not listen later":         {nil, []ledger.Sighting{store}, gap(10*time.Second, 20*time.Second, false), verdict.Lost, "not found"},
		"the broker kept messages for the ear": {nil, []ledger.Sighting{store}, gap(0, 5*time.Second, true), verdict.Unknown, "could not listen just then"},
		"heard, and kept for the ear":          {nil, []ledger.Sighting{ear, store}, gap(0, time.Second, true), verdict.Proven, ""},
		"QoS 0 heard, of which none is kept":   {ended(outcome.NotAsked), []ledger.Sighting{ear, store}, func(b *ledger.Book) { gap(0, time.Second, true)(b); b.Streams[0].QoS0 = true }, verdict.Unknown, "whether once is not known"},
		"QoS 0 with nobody who looks":          {ended(outcome.NotAsked), nil, func(b *ledger.Book) { b.Witnesses = nil }, verdict.Unknown, ""},
		"acknowledged, with nobody who looks":  {nil, nil, func(b *ledger.Book) { b.Witnesses = nil }, verdict.Proven, ""},
		"nobody looks at this kind": {nil, nil, func(b *ledger.Book) {
			b.Streams[0].Unseen = []int{0, 1}
		}, verdict.Proven, ""},
		"killed before the answer was written": {ended(outcome.Open), []ledger.Sighting{ear, store}, func(b *ledger.Book) { b.Ended = false }, verdict.Unknown, ""},
		"killed, and altered":                  {ended(outcome.Open), []ledger.Sighting{ear, seen(1, values(`{}`))}, func(b *ledger.Book) { b.Ended = false }, verdict.Altered, ""},
	} {
		t.Run(name, func(t *testing.T) {
			b := book(message(c.message))
			b.Sightings = c.seen
			if c.book != nil {
				c.book(b)
			}
			r := judge(b)
			require.Equal(t, 1, r.Total.Due())
			assert.Equal(t, 1, r.Total[c.want], "%v", r.Findings)
			if c.want == verdict.Proven {
				assert.Empty(t, r.Findings)
				return
			}
			require.Len(t, r.Findings, 1)
			assert.Equal(t, c.want.String(), r.Findings[0].Verdict)
			if c.says != "" {
				assert.Contains(t, fmt.Sprint(r.Findings[0].Testimony), c.says)
			}
		})
	}
}

// stored is a sighting of the ear with the platform's own time, both after the start.
func stored(at, seenAt time.Duration) ledger.Sighting {
	return seen(0, func(s *ledger.Sighting) { s.Stored, s.Seen = start.Add(at), start.Add(seenAt) })
}

func clockOf(least, most time.Duration) func(*ledger.Book) {
	return func(b *ledger.Book) { b.Witnesses[0].Clock = &ledger.Offset{Least: least, Most: most} }
}

func again(s *ledger.Sighting) { s.Again = true }

func row(id uint64) func(*ledger.Sighting) { return func(s *ledger.Sighting) { s.Row = id } }

func lag(from, to time.Duration) func(*ledger.Book) {
	return func(b *ledger.Book) {
		b.Witnesses[0].Gaps = []ledger.Gap{{From: start.Add(from), To: start.Add(to), Lag: true, Why: "slow"}}
	}
}

func gap(from, to time.Duration, qos0 bool) func(*ledger.Book) {
	return func(b *ledger.Book) {
		b.Witnesses[0].Gaps = []ledger.Gap{{From: start.Add(from), To: start.Add(to), Kept: qos0, Why: "cut"}}
	}
}

// Whatever the evidence is, every message has one verdict and the sum is what
// was due; the same evidence gives the same result.
func TestTheSumAddsUp(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var list []ledger.Message
		for i := range rapid.IntRange(0, 12).Draw(t, "messages") {
			o := outcome.Outcome(rapid.IntRange(0, 5).Draw(t, "outcome"))
			list = append(list, message(func(m *ledger.Message) {
				m.Seq, m.Outcome, m.Attempts = uint64(i+1), o, rapid.IntRange(0, 3).Draw(t, "attempts")
			}))
		}
		b := book(list...)
		b.Ended = rapid.Bool().Draw(t, "ended")
		for range rapid.IntRange(0, 30).Draw(t, "sightings") {
			b.Sightings = append(b.Sightings, seen(rapid.IntRange(0, 1).Draw(t, "witness"), func(s *ledger.Sighting) {
				s.Seq = rapid.Uint64Range(0, 20).Draw(t, "seq")
				s.Stream = rapid.IntRange(-1, 1).Draw(t, "stream")
				s.FiledDevice = rapid.SampledFrom([]string{"", "buoy-2"}).Draw(t, "filed")
				s.Again = rapid.Bool().Draw(t, "again")
				s.Values = []byte(rapid.SampledFrom([]string{carried, "{}", "null", "7", "no json"}).Draw(t, "values"))
			}))
		}
		r := judge(b)
		require.Equal(t, len(list)+r.Recovered, r.Total.Due())
		require.Len(t, r.Findings, r.Total.Due()-r.Total[verdict.Proven])
		perDevice := 0
		for _, g := range r.Kinds {
			perDevice += g.Counts.Due()
		}
		require.Equal(t, r.Total.Due(), perDevice)
		if b.Ended {
			require.Zero(t, r.Recovered)
		}
		require.Equal(t, r, judge(b))
	})
}

// Where a broker dropped a message that it kept for a witness, it may have dropped copies.
func TestWhatABrokerDropped(t *testing.T) {
	for name, dropped := range map[string]bool{"a message is missing": true, "none is missing": false} {
		b := book(message(nil), message(func(m *ledger.Message) { m.Seq = 2 }))
		gap(0, time.Second, true)(b)
		b.Sightings = []ledger.Sighting{seen(0, nil), seen(1, nil), seen(1, func(s *ledger.Sighting) { s.Seq = 2 })}
		if !dropped {
			b.Sightings = append(b.Sightings, seen(0, func(s *ledger.Sighting) { s.Seq = 2 }))
		}
		r := judge(b)
		if dropped {
			assert.Equal(t, 2, r.Total[verdict.Unknown], "%s: %+v", name, r.Findings)
		} else {
			assert.Equal(t, 2, r.Total[verdict.Proven], "%s: %+v", name, r.Findings)
		}
	}
}

func TestStraysAndOrder(t *testing.T) {
	b := book(message(nil), message(func(m *ledger.Message) { m.Seq = 2 }))
	at := func(seq uint64, d time.Duration) ledger.Sighting {
		return seen(0, func(s *ledger.Sighting) { s.Seq, s.Seen = seq, start.Add(d) })
	}
	b.Witnesses = b.Witnesses[:1]
	b.Sightings = []ledger.Sighting{at(2, 10*time.Millisecond), at(1, 20*time.Millisecond), at(7, 30*time.Millisecond), at(7, 40*time.Millisecond),
		seen(0, func(s *ledger.Sighting) { s.Stream, s.Device, s.Reading = -1, "ghost", "state" })}
	r := judge(b)
	assert.Equal(t, 1, r.OutOfOrder)
	assert.Equal(t, 2, r.UnmatchedCount, "one past the last message, one of a device that does not exist")
	assert.Equal(t, 2, r.Total[verdict.Proven])
}

// After a kill, a sighting past the ledger's end tells of messages that were
// sent and not written: those before it too, because sequences have no holes.
func TestRecovered(t *testing.T) {
	b := book(message(nil))
	b.Ended = false
	b.Sightings = []ledger.Sighting{seen(0, nil), seen(1, nil), seen(1, func(s *ledger.Sighting) { s.Seq = 4 })}
	r := judge(b)
	assert.Equal(t, 3, r.Recovered)
	assert.Equal(t, 4, r.Total.Due())
	assert.Equal(t, 1, r.Total[verdict.Proven])
	assert.Equal(t, 3, r.Total[verdict.Unknown])
	assert.Equal(t, 2, r.Proofs[2].Seen)
	assert.Equal(t, 1, r.Proofs[2].AsSent, "what was sent of the last is not known")
	assert.Equal(t, proof.Undecided, r.Check([]proof.Requirement{{Proof: proof.Stored, Measure: "share", Percent: 100}})[0].State)
	assert.Zero(t, r.UnmatchedCount)
}

// A witness that found a message without end does not hide what another found of it.
func TestManySightings(t *testing.T) {
	for _, room := range []int64{0, 20_000} {
		b := book(message(nil))
		for range 2500 {
			b.Sightings = append(b.Sightings, seen(0, nil))
		}
		b.Sightings = append(b.Sightings, seen(1, nil))
		path := filepath.Join(t.TempDir(), "ledger")
		writeLedger(t, path, b, indexes(1+len(b.Sightings)))
		e, err := evidence.Open(path, evidence.Options{Compare: verdict.Same, Room: room})
		require.NoError(t, err)
		r, err := tally.Watch(e, tally.Options{}).Judge()
		require.NoError(t, err)
		require.NoError(t, e.Close())
		assert.Equal(t, 1, r.Total[verdict.Repeated], "%v", r.Total)
		assert.Contains(t, r.Findings[0].Testimony[1].Says, "found, as it was sent")
	}
}

// How a value was changed has a name where there is one.
func TestDifferences(t *testing.T) {
	for _, c := range []struct{ sent, found, want string }{
		{`47.8`, `48`, "47.8 -> 48 rounded"}, {`62.7`, `62`, "62.7 -> 62 cut off"}, {`1.234`, `1.23`, "1.234 -> 1.23 rounded"},
		{`47.8`, `"47.8"`, `47.8 -> "47.8" text in place of a number`}, {`0.1`, `0.10000000149011612`, "0.1 -> 0.10000000149011612 kept as a 32-bit number"},
		{`1`, `null`, "1 -> null null"}, {`"a"`, `null`, `"a" -> null null`}, {`true`, `false`, "true -> false "}, {`1`, `1.0`, ""}, {`1e2`, `100`, ""},
		{`9007199254740993`, `9007199254740992`, "9007199254740993 -> 9007199254740992 kept as a 64-bit floating point number"}, {`9007199254740993`, `9007199254740992.0`, "9007199254740993 -> 9007199254740992.0 kept as a 64-bit floating point number"},
		{`0.1`, `0.10000000000000001`, ""}, {`9007199254740993`, `9007199254740993.0`, ""}, {`9007199254740994`, `9.007199254740994e15`, ""},
		{`-1.5`, `-2`, "-1.5 -> -2 rounded"}, {`-1.2`, `-2`, "-1.2 -> -2 rounded down"}, {`-1.7`, `-1`, "-1.7 -> -1 cut off"}, {`1.2`, `2`, "1.2 -> 2 rounded up"}, {`1.5`, `-1.5`, "1.5 -> -1.5 the sign turned"},
		{`1.25`, `125`, "1.25 -> 125 100 times as much"}, {`47.3`, `4.73`, "47.3 -> 4.73 divided by 10"}, {`9.5`, `49.1`, "9.5 -> 49.1 converted: °C to °F"}, {`2.5`, `9`, "2.5 -> 9 converted: m/s to km/h"},
		{`"2030-01-01T00:00:00Z"`, `"2030-01-01T02:00:00+02:00"`, ""}, {`"2030-01-01T00:00:00Z"`, `1893456000000`, ""}, {`1893456000000`, `"2030-01-01 00:00:00Z"`, ""},
		{`"2030-01-01T00:00:00.75Z"`, `"2030-01-01T00:00:00Z"`, `"2030-01-01T00:00:00.75Z" -> "2030-01-01T00:00:00Z" cut off to whole seconds`},
		{`"2030-01-01T00:00:00Z"`, `"2030-01-01T02:00:00Z"`, `"2030-01-01T00:00:00Z" -> "2030-01-01T02:00:00Z" moved by 2h0m0s: another time zone`},
		{`"2030-01-01T00:00:00Z"`, `"2030-01-01T00:00:07Z"`, `"2030-01-01T00:00:00Z" -> "2030-01-01T00:00:07Z" another time, 7s later`},
		{`"Skerry Roads"`, `"Skerry"`, `"Skerry Roads" -> "Skerry" cut off after 6 letters`}, {`"Skerry"`, `"SKERRY"`, `"Skerry" -> "SKERRY" upper and lower case changed`}, {`"1"`, `1`, `"1" -> 1 `},
		{`{"lat":1,"lon":2}`, `{"lat":1}`, `{"lat":1,"lon":2} -> {"lat":1} lon is missing`}, {`{"lat":1}`, `{"lat":1,"alt":3}`, ""},
		{`[1,2]`, `[1,3]`, "2 -> 3 "}, {`[1,2]`, `[1,2]`, ""}, {`"a"`, `"a"`, ""}, {`{"a":1}`, `5`, `{"a":1} -> 5 `},
	} {
		b := book(message(func(m *ledger.Message) { m.Carried = []byte(`{"x":` + c.sent + `}`) }))
		b.Sightings = []ledger.Sighting{seen(0, values(`{"x":`+c.found+`,"mark":1}`)), seen(1, values(`{"x":`+c.found+`,"mark":1}`))}
		r := judge(b)
		got := ""
		for _, f := range r.Findings {
			d := f.Testimony[0].Differences[0]
			got = fmt.Sprintf("%s -> %s %s", d.Sent, d.Found, d.Note)
		}
		assert.Equal(t, c.want, got, "%s found as %s", c.sent, c.found)
	}
	b := book(message(nil))
	b.Sightings = []ledger.Sighting{seen(0, values(`{"t":1,"site":"outer"}`)), seen(1, values(`"x"`))}
	f := judge(b).Findings[0]
	assert.Equal(t, verdict.Difference{Field: "wave_m", Sent: "47.8", Note: "missing"}, f.Testimony[0].Differences[0])
	assert.Equal(t, "not an object of fields", f.Testimony[1].Differences[0].Note)
}

// What is nested is compared part by part, each with the tolerance and the unit of
// its own field.
func TestNestedDifferences(t *testing.T) {
	b := book(message(func(m *ledger.Message) {
		m.Carried = []byte(`{"sea":{"wave_m":1.25,"temp":{"c":9}},"axis":[1,2],"at":{"lat":58,"lon":-6}}`)
	}))
	b.Streams[0].Tolerances = map[string]float64{"sea.wave_m": 0.1, "axis.1": 1}
	b.Streams[0].Units = map[string]string{"sea.temp.c": "Cel"}
	b.Sightings = []ledger.Sighting{seen(0, values(`{"mark":"x","sea":{"wave_m":1.3,"temp":{"c":9.5}},"axis":[1,2.5],"at":{"lat":58.1,"lon":-6}}`)), seen(1, values(`{"sea":{"wave_m":1.25},"axis":[1],"at":{"lat":58,"lon":-6}}`))}
	r := judge(b)
	require.Len(t, r.Findings, 1)
	assert.Equal(t, []verdict.Difference{{Field: "sea.temp.c", Sent: "9", Found: "9.5", Unit: "Cel"},
		{Field: "at", Sent: `{"lat":58,"lon":-6}`, Found: `{"lat":58.1,"lon":-6}`, Note: "lat"}}, r.Findings[0].Testimony[0].Differences)
	assert.Equal(t, []verdict.Difference{{Field: "sea.temp", Sent: `{"c":9}`, Note: "missing"}, {Field: "axis", Sent: "[1,2]", Found: "[1]"}}, r.Findings[0].Testimony[1].Differences)
}

func TestRequirements(t *testing.T) {
	b := book(message(nil), message(func(m *ledger.Message) { m.Seq = 2 }))
	b.Sightings = []ledger.Sighting{seen(0, nil), seen(1, nil)}
	r := judge(b)
	check := func(q proof.Requirement) proof.Check { return r.Check([]proof.Requirement{q})[0] }
	assert.Equal(t, proof.Check{Key: "acknowledged", Got: "100% (2 of 2)", State: proof.Met}, check(proof.Requirement{Key: "acknowledged", Measure: "share", Percent: 100}))
	assert.Equal(t, proof.Check{Key: "received", Got: "50% (1 of 2)", State: proof.NotMet}, check(proof.Requirement{Key: "received", Proof: proof.Received, Measure: "share", Percent: 50.1}))
	assert.Equal(t, proof.Met, check(proof.Requirement{Proof: proof.Received, Measure: "share", Percent: 50}).State)
	assert.Equal(t, proof.NotMet, check(proof.Requirement{Proven: true, Measure: "share", Percent: 100}).State)
	assert.Equal(t, proof.Met, check(proof.Requirement{Measure: "p99", Limit: time.Millisecond}).State)
	assert.Equal(t, proof.NotMet, check(proof.Requirement{Measure: "worst", Limit: 900 * time.Microsecond}).State)
	assert.Equal(t, proof.Met, check(proof.Requirement{Measure: "unmatched"}).State)
	b.Witnesses[1].Heard[1] = ledger.Hearing{}
	r = judge(b)
	c := check(proof.Requirement{Proof: 2, Measure: "share", Percent: 100})
	assert.Equal(t, proof.Undecided, c.State, "what is not known is no pass")
	empty := judge(book())
	assert.Equal(t, proof.NotMet, empty.Check([]proof.Requirement{{Proven: true, Measure: "share"}})[0].State, "nothing due shows nothing")
	assert.Equal(t, "99.99% (99999 of 100000)", tally.ShareText(99999, 100000), "never rounded up to the whole")
}

// What is found equal to what was sent is so for a strict reader as well, and what is
// found is never lost.
func FuzzFound(f *testing.F) {
	f.Add([]byte(`{"x":1}`), []byte(`{"x":"1"}`))
	f.Add([]byte(`{"x":1,"y":[2]}`), []byte(`{"mark":"a/b/1","x":1,"y":[2]}`))
	f.Add([]byte(`{"x":1}`), []byte(`{"x":2,"x":1}`))
	f.Add([]byte(`{"x":1}`), []byte(`{"x":"2","x":1}`))
	f.Add([]byte(`{"x":"2030-01-01T00:00:00Z","y":1893456000}`), []byte(`{"x":1893456000000,"y":"2030-01-01T01:00:00+01:00"}`))
	f.Add([]byte(`{"x":"\\u0061"}`), []byte(`{"mark":"1"$"x":"\\u0061"}`))
	f.Fuzz(func(t *testing.T, sent, found []byte) {
		want, err := strictjson.Members(sent)
		if err != nil && bytes.HasPrefix(sent, []byte("{")) {
			t.Skip("our writer makes objects that can be read, or null")
		}
		b := book(message(func(m *ledger.Message) { m.Carried = sent }))
		b.Sightings = []ledger.Sighting{seen(0, func(s *ledger.Sighting) { s.Values = found }), seen(1, func(s *ledger.Sighting) { s.Values = sent })}
		r := judge(b)
		require.Equal(t, 1, r.Total.Due())
		require.Zero(t, r.Total[verdict.Lost])
		if r.Total[verdict.Proven] == 0 {
			require.False(t, err == nil && string(sent) == string(found))
			return
		}
		require.NoError(t, err, "proven, though what was sent is not known")
		have, err := strictjson.Decode(found)
		require.NoError(t, err)
		for _, m := range want {
			require.Contains(t, have, m.Name)
			require.True(t, alike(m.Value, have.(map[string]any)[m.Name]), "%s was sent, %s is proven", sent, found)
		}
	})
}

// alike compares two values by itself: numbers by their value, times by their instant.
func alike(sent, found any) bool {
	instant := func(v any) (time.Time, bool) {
		if n, is := v.(json.Number); is {
			i, err := n.Int64()
			for _, per := range []int64{1, 1e3, 1e6, 1e9} {
				if err == nil && i >= 1e9 && i/per < 1e11 {
					return time.Unix(0, i*(1e9/per)), true
				}
			}
		}
		s, _ := v.(string)
		t, err := time.Parse(time.RFC3339Nano, strings.Replace(s, " ", "T", 1))
		return t, err == nil
	}
	switch x := sent.(type) {
	case json.Number:
		if y, is := found.(json.Number); is {
			a, okA := new(big.Float).SetPrec(4000).SetString(x.String())
			b, okB := new(big.Float).SetPrec(4000).SetString(y.String())
			if !okA || !okB {
				return x == y
			}
			p, _ := a.Float64()
			q, _ := b.Float64()
			return a.Cmp(b) == 0 || p == q && math.Abs(p) < 1<<53
		}
	case map[string]any:
		y, is := found.(map[string]any)
		for name, v := range x {
			w, there := y[name]
			if !is || !there || !alike(v, w) {
				return false
			}
		}
		return is
	case []any:
		y, is := found.([]any)
		if !is || len(x) != len(y) {
			return false
		}
		for i := range x {
			if !alike(x[i], y[i]) {
				return false
			}
		}
		return true
	}
	if sent == found {
		return true
	}
	a, okA := instant(sent)
	b, okB := instant(found)
	return okA && okB && a.Equal(b)
}

func BenchmarkJudge(b *testing.B) {
	bk := book()
	for i := range 10000 {
		bk.Messages[0] = append(bk.Messages[0], message(func(m *ledger.Message) { m.Seq = uint64(i + 1) }))
		for w := range 2 {
			bk.Sightings = append(bk.Sightings, seen(w, func(s *ledger.Sighting) { s.Seq = uint64(i + 1) }))
		}
	}
	for b.Loop() {
		judge(bk)
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/10000, "ns/message")
}

// What happens again and again to a witness is told once.
func TestGapsAreSummedUp(t *testing.T) {
	start := time.Date(2030, 1, 2, 3, 4, 5, 0, time.UTC)
	b := &ledger.Book{Facts: ledger.Facts{Run: "r", Start: start, Ended: true, Rounds: []ledger.Round{{N: 1}}, Witnesses: []ledger.Witness{{Name: "ear", Proof: "received", Heard: map[int]ledger.Hearing{1: {Complete: true}}}}}}
	for i := range 5 {
		from := start.Add(time.Duration(i) * time.Minute)
		b.Witnesses[0].Gaps = append(b.Witnesses[0].Gaps, ledger.Gap{From: from, To: from.Add(10 * time.Millisecond), Kept: true, Why: "again"})
		if i == 2 {
			b.Witnesses[0].Gaps = append(b.Witnesses[0].Gaps, ledger.Gap{From: from, To: from.Add(time.Second), Why: "cut"}, ledger.Gap{From: from, Why: "gone"})
		}
	}
	assert.Equal(t, []string{"could not listen 5 times, from 03:04:05.000 on, for 50ms in all (the broker kept QoS 1 and 2 for it, as far as its queue goes): again",
		"could not listen from 03:06:05.000 for 1s: cut", "could not listen from 03:06:05.000: gone"}, judge(b).Witnesses[0].Why)
}

// A message that must not get in and never went out shows nothing: no pass comes of it.
func TestWhatWasNotTried(t *testing.T) {
	for o, want := range map[outcome.Outcome]proof.Check{
		outcome.Dropped: {Key: "let_in", Want: "0", Got: "nothing of the sort was sent", State: proof.Undecided},
		outcome.Refused: {Key: "let_in", Want: "0", Got: "0", State: proof.Met},
	} {
		b := book(message(func(m *ledger.Message) { m.Meant, m.Outcome = ledger.ToRefuse, o }))
		r := judge(b)
		assert.Equal(t, o == outcome.Refused, r.MustNot == 1)
		assert.Equal(t, want, r.Check([]proof.Requirement{{Key: "let_in", Text: "0", Measure: proof.LetIn}})[0])
	}
}
