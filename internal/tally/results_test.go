package tally_test

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/clock"
	"runcrowd/internal/evidence"
	"runcrowd/internal/ledger"
	"runcrowd/internal/outcome"
	"runcrowd/internal/proof"
	"runcrowd/internal/tally"
	"runcrowd/internal/verdict"
)

// counting is a run of two devices with a store, and a witness that tells counts: before and
// after, by stream, or at -1 in all.
func counting(messages []ledger.Message, sightings []ledger.Sighting, before, now map[int]int64) *tally.Result {
	at := time.Date(2030, 6, 1, 12, 0, 0, 0, time.UTC)
	heard := map[int]ledger.Hearing{1: {Complete: true}}
	b := &ledger.Book{Facts: ledger.Facts{Run: "k3f9a2xy", Start: at, Ended: true,
		Rounds: []ledger.Round{{N: 1, Begin: at, End: at.Add(time.Minute)}},
		Streams: []ledger.Stream{{Device: "a", Kind: "k", Reading: "r", MayRepeat: true},
			{Device: "b", Kind: "k", Reading: "r"}},
		Witnesses: []ledger.Witness{{Name: "store", Proof: "stored", Heard: heard},
			{Name: "many", Proof: ledger.Counts, Heard: heard, Before: before, Now: now}}},
		Messages: [][]ledger.Message{messages, nil}, Sightings: sightings}
	r, err := tally.Watch(evidence.Of(b, verdict.Same(&b.Facts)), tally.Options{Rows: tally.RowValues}).Judge()
	if err != nil {
		panic(err)
	}
	return r
}

func sent(seq uint64, o outcome.Outcome, change func(*ledger.Message)) ledger.Message {
	at := time.Date(2030, 6, 1, 12, 0, int(seq), 0, time.UTC)
	m := ledger.Message{Seq: seq, Round: 1, Due: at, Sent: at, At: at.Add(time.Millisecond), Attempts: 1, Outcome: o,
		Carried: fmt.Appendf(nil, `{"x":%d,"s":"t"}`, seq)}
	if change != nil {
		change(&m)
	}
	return m
}

func kept(seq uint64, values string) ledger.Sighting {
	at := time.Date(2030, 6, 1, 12, 0, int(seq), 0, time.UTC)
	return ledger.Sighting{Stream: 0, Seq: seq, Seen: at.Add(5 * time.Millisecond), Values: []byte(values)}
}

// What the platform has to have, and may have, of what became of messages.
func TestCounts(t *testing.T) {
	t.Parallel()
	ok := []ledger.Message{sent(1, outcome.Accepted, nil), sent(2, outcome.Accepted, nil)}
	for name, c := range map[string]struct {
		messages    []ledger.Message
		sightings   []ledger.Sighting
		before, now map[int]int64
		least, most int64
		state       proof.State
		got         string
	}{
		"as many":         {ok, nil, map[int]int64{0: 5}, map[int]int64{0: 7, 1: 0}, 2, 2, proof.Met, "2 of 2"},
		"as many, in all": {ok, nil, map[int]int64{-1: 5}, map[int]int64{-1: 7}, 2, 2, proof.Met, "2 of 2"},
		"one too few":     {ok, nil, nil, map[int]int64{0: 1}, 2, 2, proof.NotMet, "a has 1, and 2 went out"},
		"of another device": {ok, nil, nil, map[int]int64{0: 1, 1: 1}, 2, 2, proof.NotMet, "a has 1, and 2 went out; " +
			"1 more devices differ"},
		"one too many, in all": {ok, nil, nil, map[int]int64{-1: 3}, 2, 2, proof.NotMet, "many counts 3, and 2 went out"},
		"not asked":            {ok, nil, nil, nil, 2, 2, proof.Undecided, "many could not be asked"},
		"refused": {[]ledger.Message{ok[0], sent(2, outcome.Refused, nil)}, nil, nil, map[int]int64{0: 1}, 1,
			1, proof.Met, "1 of 1"},
		"no answer": {[]ledger.Message{ok[0], sent(2, outcome.NoAnswer, nil)}, nil, nil, map[int]int64{0: 1},
			1, 2, proof.Undecided, "many counts 1; 1 to 2 may be there"},
		"no answer, and one more": {[]ledger.Message{ok[0], sent(2, outcome.NoAnswer, nil)}, nil, nil, map[int]int64{0: 3},
			1, 2, proof.NotMet, "a has 3, and 1 to 2 went out"},
		"no answer, and found": {[]ledger.Message{ok[0], sent(2, outcome.NoAnswer, nil)},
			[]ledger.Sighting{kept(2, `{"x":2,"s":"t"}`)}, nil, map[int]int64{0: 2}, 2, 2, proof.Met, "2 of 2"},
		"sent anew": {[]ledger.Message{sent(1, outcome.Accepted,
			func(m *ledger.Message) { m.Attempts, m.Anew = 2, 1 })}, nil, nil, map[int]int64{0: 2}, 1, 2, proof.Undecided,
			"1 to 2 may be there"},
		"unsent": {[]ledger.Message{ok[0], sent(2, outcome.Unsent,
			func(m *ledger.Message) { m.Attempts, m.Sent = 0, time.Time{} })}, nil, nil, map[int]int64{0: 1}, 1, 1, proof.Met,
			"1 of 1"},
		"must not get in": {[]ledger.Message{ok[0], sent(2, outcome.Refused,
			func(m *ledger.Message) { m.Meant = ledger.ToRefuse })}, nil, nil, map[int]int64{0: 1}, 1, 1, proof.Met, "1 of 1"},
		"sent without an answer": {[]ledger.Message{sent(1, outcome.NotAsked, nil)}, nil, nil, map[int]int64{0: 0}, 1, 1,
			proof.NotMet, "a has 0, and 1 went out"},
		"a copy that may be kept": {[]ledger.Message{sent(1, outcome.Accepted, func(m *ledger.Message) { m.Copies = 1 })},
			nil, nil, map[int]int64{0: 2}, 1, 2, proof.Undecided, ""},
		"a copy that must be one": {[]ledger.Message{sent(1, outcome.Accepted,
			func(m *ledger.Message) { m.Copies, m.Meant = 1, ledger.ToKeepOne })}, nil, nil, map[int]int64{0: 2}, 1, 1,
			proof.NotMet, "a has 2, and 1 went out"},
	} {
		t.Run(name, func(t *testing.T) {
			r := counting(c.messages, c.sightings, c.before, c.now)
			require.Len(t, r.Counted, 1)
			assert.Equal(t, []int64{c.least, c.most}, []int64{r.Counted[0].Least, r.Counted[0].Most})
			q := proof.Requirement{Key: "counts", Text: "exact", Measure: proof.Counted, Exact: true}
			got := r.Check([]proof.Requirement{q})[0]
			assert.Equal(t, c.state, got.State, "%+v", got)
			assert.Contains(t, got.Got, c.got)
			q.Exact = false
			assert.Equal(t, proof.Met, r.Check([]proof.Requirement{q})[0].State)
			assert.NotContains(t, fmt.Sprint(r.Findings), "many", "a count gives no message a verdict")
		})
	}
}

// A row is what was sent and what was found of each field, also where that is something else.
func TestRows(t *testing.T) {
	t.Parallel()
	r := counting([]ledger.Message{sent(1, outcome.Accepted, nil), sent(2, outcome.Accepted, nil),
		sent(3, outcome.Accepted, nil), sent(4, outcome.Accepted, nil)},
		[]ledger.Sighting{kept(1, `{"x":1,"s":"t"}`), kept(2, `{"x":20,"s":"u","more":1}`), kept(4, `{"s":"t"}`)}, nil, nil)
	require.Len(t, r.Rows, 2, "also of a device of which nothing was due")
	row := r.Rows[0]
	assert.Equal(t, []int{4, 1, 1, 2}, []int{row.Counts.Due(), row.Counts[verdict.Proven], row.Counts[verdict.Lost],
		row.Counts[verdict.Altered]})
	assert.Equal(t, []uint64{4, 4}, []uint64{row.SeqHere, row.SeqThere})
	assert.Equal(t, 1, row.Gaps)
	require.Len(t, row.Fields, 2)
	x, s := row.Fields[0], row.Fields[1]
	assert.Equal(t, []float64{1, 4, 2.5, 1, 20, 10.5}, []float64{x.Here.Low, x.Here.High, x.Here.Mean(), x.There.Low,
		x.There.High, x.There.Mean()})
	assert.Equal(t, []string{"4", "20"}, []string{x.Here.Last, x.There.Last}, "the last has none")
	assert.Equal(t, []string{`"t"`, `"t"`}, []string{s.Here.Last, s.There.Last})
	assert.Zero(t, s.Here.N, "a text is no number")
	sum := tally.Row{Device: "all", Reading: "r"}
	sum.Merge(&row)
	sum.Merge(&row)
	assert.Equal(t, 8, sum.Counts.Due())
	assert.Equal(t, 2.5, sum.Fields[0].Here.Mean())
	assert.Equal(t, []string{"4", "20"}, []string{sum.Fields[0].Here.Last, sum.Fields[0].There.Last}, "the last of a "+
		"group is that of its last device")
}

// course is a run of a minute whose acknowledgements take about so long; every nth is lost.
func course(seed uint64, devices, each int, delay time.Duration, nth int) *tally.Result {
	rng := rand.New(rand.NewPCG(seed, 7))
	at := time.Date(2030, 6, 1, 12, 0, 0, 0, time.UTC)
	b := &ledger.Book{Facts: ledger.Facts{Run: "k3f9a2xy", Start: at, Ended: true,
		Rounds: []ledger.Round{{N: 1, Begin: at, End: at.Add(time.Minute)}},
		Witnesses: []ledger.Witness{{Name: "ear", Proof: "received", Listens: true,
			Heard: map[int]ledger.Hearing{1: {Complete: true}}}}}}
	n := 0
	hiccups := [2]uint64{rng.Uint64N(60), rng.Uint64N(60)} // seconds in which all takes longer, for whatever reason
	for d := range devices {
		b.Streams = append(b.Streams, ledger.Stream{Device: fmt.Sprintf("d%d", d), Kind: "k", Reading: "r"})
		var list []ledger.Message
		for i := range each {
			due := at.Add(time.Duration(i) * time.Minute / time.Duration(each))
			took := delay/2 + time.Duration(rng.ExpFloat64()*float64(delay)/2)
			if s := uint64(i * 60 / each); s == hiccups[0] || s == hiccups[1] {
				took += time.Duration(rng.ExpFloat64() * float64(4*delay))
			}
			m := ledger.Message{Seq: uint64(i + 1), Round: 1, Due: due, Sent: due, At: due.Add(took), Attempts: 1,
				Outcome: outcome.Accepted, Carried: []byte(`{}`)}
			list = append(list, m)
			if n++; nth == 0 || n%nth > 0 {
				b.Sightings = append(b.Sightings, ledger.Sighting{Stream: d, Seq: m.Seq, Seen: m.At, Values: []byte(`{}`)})
			}
		}
		b.Messages = append(b.Messages, list)
	}
	r, err := tally.Watch(evidence.Of(b, verdict.Same(&b.Facts)),
		tally.Options{Series: true, Rows: tally.RowCounts, PerVerdict: 1}).Judge()
	if err != nil {
		panic(err)
	}
	return r
}

// Noise is not called change, and change is not called noise.
func TestCompare(t *testing.T) {
	t.Parallel()
	how := tally.Comparing{Margin: 0.1, Least: time.Millisecond}
	const slow = 40 * time.Millisecond
	alarms, found, pairs := 0, 0, 100
	if testing.Short() {
		pairs = 8
	}
	for seed := range uint64(pairs) {
		first := course(3*seed, 10, 120, slow, 0)
		if tally.Compare(first, course(3*seed+1, 10, 120, slow, 0), [2][]proof.Check{}, how).Worse() {
			alarms++
		}
		if tally.Compare(first, course(3*seed+2, 10, 120, slow*6/5, 0), [2][]proof.Check{}, how).Worse() {
			found++
		}
	}
	t.Logf("of %d: %d false alarms, %d changes found", pairs, alarms, found)
	assert.LessOrEqual(t, alarms, 1, "of %d pairs of equal runs", pairs)
	assert.GreaterOrEqual(t, found, pairs*95/100, "of %d that took a fifth longer", pairs)
	trends := func(c *tally.Comparison) map[string]tally.Trend {
		m := map[string]tally.Trend{}
		for _, x := range c.Delays {
			m[x.Name] = x.Trend
		}
		return m
	}
	first := course(1, 10, 120, slow, 0)
	worse := tally.Compare(first, course(2, 10, 120, slow*3/2, 0), [2][]proof.Check{}, how)
	assert.True(t, worse.Worse())
	assert.Equal(t, tally.Worse, trends(worse)["acknowledged p50"])
	assert.Equal(t, tally.Worse, trends(worse)["received p90"])
	assert.Equal(t, tally.Same, worse.Proven)
	better := tally.Compare(course(2, 10, 120, slow*3/2, 0), first, [2][]proof.Check{}, how)
	assert.False(t, better.Worse())
	assert.Equal(t, tally.Better, trends(better)["acknowledged p50"])
	for _, m := range worse.Delays {
		if m.Trend == tally.Worse {
			assert.True(t, 0 < m.Low && m.Low < m.High, "%+v", m)
		}
	}
	// What a busy machine may have made is unclear; what is far beyond that is not.
	busy := course(2, 10, 120, slow*3/2, 0)
	busy.Turns = clock.Turns{Looks: 1000, Late: [4]int{400, 300, 5, 0}}
	unclear := tally.Compare(first, busy, [2][]proof.Check{}, how)
	assert.Equal(t, tally.Unclear, trends(unclear)["acknowledged p50"])
	assert.False(t, unclear.Worse())
	busy.Turns.Late[1] = 5
	assert.Equal(t, tally.Worse, trends(tally.Compare(first, busy, [2][]proof.Check{}, how))["acknowledged p50"])
	busy.Still = []ledger.Still{{From: busy.Start, To: busy.Start.Add(time.Second)}}
	still := tally.Compare(first, busy, [2][]proof.Check{}, how)
	assert.Zero(t, still.Late, "a second of a minute moves no ranks")
	assert.True(t, still.Worse())
	busy.Still[0].To = busy.Start.Add(10 * time.Second)
	still = tally.Compare(first, busy, [2][]proof.Check{}, how)
	assert.Equal(t, [2]string{"", "it stood still for 10s"}, still.Late)
	assert.False(t, still.Worse())
	// What is unknown of one may be proven: neither better nor worse.
	unknown := course(1, 10, 120, slow, 0)
	unknown.Total[verdict.Proven] -= 50
	unknown.Total[verdict.Unknown] += 50
	assert.Equal(t, tally.Unclear, tally.Compare(unknown, first, [2][]proof.Check{}, how).Proven)
	assert.Equal(t, tally.Unclear, tally.Compare(first, unknown, [2][]proof.Check{}, how).Proven)
	undecided := [2][]proof.Check{{{Key: "proven", Want: "100%", State: proof.Undecided}},
		{{Key: "proven", Want: "100%", State: proof.Met}}}
	assert.Equal(t, tally.Unclear, tally.Compare(first, first, undecided, how).Requirements[0].Trend)
	wide := tally.Compare(first, course(2, 10, 120, slow*3/2, 0), [2][]proof.Check{}, tally.Comparing{Margin: 1})
	assert.False(t, wide.Worse(), "within the margin")
	short := tally.Compare(course(1, 10, 120, 200*time.Microsecond, 0), course(2, 10, 120, 400*time.Microsecond, 0),
		[2][]proof.Check{}, how)
	assert.False(t, short.Worse(), "less than the least difference")
	few := tally.Compare(course(1, 1, 3, slow, 0), course(2, 1, 3, 2*slow, 0), [2][]proof.Check{}, how)
	assert.Equal(t, tally.Unclear, trends(few)["acknowledged p50"])

	lossy := tally.Compare(first, course(1, 10, 120, slow, 100),
		[2][]proof.Check{{{Key: "proven", Want: "100%", State: proof.Met}},
			{{Key: "proven", Want: "100%", State: proof.NotMet}}}, how)
	assert.Equal(t, tally.Worse, lossy.Proven)
	assert.Equal(t, tally.Worse, lossy.Requirements[0].Trend)
	assert.NotZero(t, lossy.DeviceCount)
	assert.Equal(t, 0, lossy.Devices[0].Bad[0])
	fewer := tally.Compare(first, course(1, 8, 120, slow, 0), [2][]proof.Check{}, how)
	assert.Equal(t, [2]int{2, 0}, fewer.OnlyIn)
}

// However long the steps of a series are, nothing is lost or counted twice.
func TestSeries(t *testing.T) {
	t.Parallel()
	r := course(3, 4, 1000, 10*time.Millisecond, 10)
	for _, s := range []*tally.Series{r.Series, r.Series.Coarse(60, 1<<30), r.Series.Coarse(7, 1<<30)} {
		due, sent, acked, found, delays := 0, 0, 0, 0, 0
		for i := range s.Steps {
			x := &s.Steps[i]
			due, sent, acked, found, delays = due+x.Due, sent+x.Sent, acked+x.Acknowledged, found+x.Found[0], delays+
				x.Delays[0].N()
		}
		assert.Equal(t, []int{4000, 4000, 4000, 3600, 4000}, []int{due, sent, acked, found, delays}, "steps of %s", s.Step)
		assert.LessOrEqual(t, len(s.Steps), 601)
	}
	assert.LessOrEqual(t, len(r.Series.Coarse(7, 1<<30).Steps), 7)
}
