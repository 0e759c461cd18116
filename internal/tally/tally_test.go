package tally_test

import (
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"runcrowd/internal/evidence"
	"runcrowd/internal/ledger"
	"runcrowd/internal/ledger/ledgertest"
	"runcrowd/internal/outcome"
	"runcrowd/internal/proof"
	"runcrowd/internal/tally"
	"runcrowd/internal/verdict"
)

// The small ledgers that tests are made of.
var (
	start   = ledgertest.Start
	book    = ledgertest.Book
	message = ledgertest.Message
	seen    = ledgertest.Seen
)

const carried = ledgertest.Carried

// judge judges a book; what it is made of may change in between.
func judge(b *ledger.Book) *tally.Result {
	b.Last = nil
	r, err := tally.Watch(evidence.Of(b, verdict.Same(&b.Facts)), tally.Options{}).Judge()
	if err != nil {
		panic(err)
	}
	return r
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

func TestStraysAndOrder(t *testing.T) {
	b := book(message(nil), message(func(m *ledger.Message) { m.Seq = 2 }))
	at := func(seq uint64, d time.Duration) ledger.Sighting {
		return seen(0, func(s *ledger.Sighting) { s.Seq, s.Seen = seq, start.Add(d) })
	}
	b.Witnesses = b.Witnesses[:1]
	b.Sightings = []ledger.Sighting{at(2, 10*time.Millisecond), at(1, 20*time.Millisecond), at(7, 30*time.Millisecond),
		at(7, 40*time.Millisecond),
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
	assert.Equal(t, proof.Undecided, r.Check([]proof.Requirement{{Proof: proof.Stored, Measure: "share",
		Percent: 100}})[0].State)
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

func TestRequirements(t *testing.T) {
	b := book(message(nil), message(func(m *ledger.Message) { m.Seq = 2 }))
	b.Sightings = []ledger.Sighting{seen(0, nil), seen(1, nil)}
	r := judge(b)
	check := func(q proof.Requirement) proof.Check { return r.Check([]proof.Requirement{q})[0] }
	assert.Equal(t, proof.Check{Key: "acknowledged", Got: "100% (2 of 2)", State: proof.Met},
		check(proof.Requirement{Key: "acknowledged", Measure: "share", Percent: 100}))
	assert.Equal(t, proof.Check{Key: "received", Got: "50% (1 of 2)", State: proof.NotMet},
		check(proof.Requirement{Key: "received", Proof: proof.Received, Measure: "share", Percent: 50.1}))
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
	assert.Equal(t, proof.NotMet, empty.Check([]proof.Requirement{{Proven: true, Measure: "share"}})[0].State,
		"nothing due shows nothing")
	assert.Equal(t, "99.99% (99999 of 100000)", tally.ShareText(99999, 100000), "never rounded up to the whole")
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
	b := &ledger.Book{Facts: ledger.Facts{Run: "r", Start: start, Ended: true, Rounds: []ledger.Round{{N: 1}},
		Witnesses: []ledger.Witness{{Name: "ear", Proof: "received", Heard: map[int]ledger.Hearing{1: {Complete: true}}}}}}
	for i := range 5 {
		from := start.Add(time.Duration(i) * time.Minute)
		b.Witnesses[0].Gaps = append(b.Witnesses[0].Gaps, ledger.Gap{From: from, To: from.Add(10 * time.Millisecond),
			Kept: true, Why: "again"})
		if i == 2 {
			b.Witnesses[0].Gaps = append(b.Witnesses[0].Gaps, ledger.Gap{From: from, To: from.Add(time.Second), Why: "cut"},
				ledger.Gap{From: from, Why: "gone"})
		}
	}
	assert.Equal(t, []string{"could not listen 5 times, from 03:04:05.000 on, for 50ms in all (the broker kept QoS 1 " +
		"and 2 for it, as far as its queue goes): again",
		"could not listen from 03:06:05.000 for 1s: cut", "could not listen from 03:06:05.000: gone"},
		judge(b).Witnesses[0].Why)
}

// Where a witness was not heard to the end, there may be more than what is allowed.
func TestWhatMayBeMoreIsUndecided(t *testing.T) {
	check := func(heard bool, measure proof.Measure, most int) proof.State {
		b := book(message(func(m *ledger.Message) { m.Meant = ledger.ToDiscard }))
		b.Witnesses[1].Heard[1] = ledger.Hearing{Complete: heard}
		return judge(b).Check([]proof.Requirement{{Key: "k", Measure: measure, Most: most}})[0].State
	}
	for _, m := range []proof.Measure{proof.LetIn, proof.Unmatched, proof.OutOfOrder} {
		assert.Equal(t, proof.Met, check(true, m, 0), m)
		assert.Equal(t, proof.Undecided, check(false, m, 0), m)
	}
	assert.Equal(t, proof.Met, check(false, proof.LetIn, 1), "there is but one")
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

// A delay is that of the last witness which the proof needs; a message without it counts as
// later than all where it will not come any more, and decides nothing where that is not known.
func TestDelaysOfSeveralWitnesses(t *testing.T) {
	const ms = time.Millisecond
	heard := func(witness int, seq uint64, after time.Duration) ledger.Sighting {
		return seen(witness, func(s *ledger.Sighting) {
			s.Seq, s.Asked, s.Seen = seq, false, start.Add(ms+after)
		})
	}
	check := func(measure proof.Measure, limit time.Duration, change func(b *ledger.Book),
		sightings ...ledger.Sighting) string {
		b := book(message(nil), message(func(m *ledger.Message) { m.Seq = 2 }))
		b.Witnesses[1].Proof, b.Witnesses[1].Listens = "received", true
		b.Sightings = sightings
		if change != nil {
			change(b)
		}
		c := judge(b).Check([]proof.Requirement{{Proof: proof.Received, Measure: measure, Limit: limit}})[0]
		return string(c.State) + ": " + c.Got
	}
	all := []ledger.Sighting{heard(0, 1, 10*ms), heard(1, 1, 20*ms), heard(0, 2, 40*ms), heard(1, 2, 30*ms)}
	assert.Equal(t, "met: 40ms", check("worst", 40*ms, nil, all...))
	assert.Equal(t, "not met: 40ms", check("worst", 39*ms, nil, all...))
	assert.Equal(t, "met: 20ms", check("p50", 20*ms, nil, all...), "the first of two, by its last witness")
	assert.Equal(t, "not met: 20ms", check("p50", 19*ms, nil, all...))
	silent := []ledger.Sighting{heard(0, 1, 10*ms), heard(0, 2, 10*ms)}
	assert.Equal(t, "not met: nothing to measure", check("p50", time.Hour, nil, silent...),
		"the second witness heard nothing")
	half := append(silent, heard(1, 1, 10*ms))
	assert.Equal(t, "met: 10ms of those that came; 1 did not, and count as later than all",
		check("p50", 10*ms, nil, half...))
	assert.Equal(t, "not met: 10ms of those that came; 1 did not, and count as later than all",
		check("p90", time.Hour, nil, half...))
	unheard := func(b *ledger.Book) { b.Witnesses[1].Heard[1] = ledger.Hearing{Why: "cut"} }
	assert.Equal(t, "met: 10ms", check("p50", 10*ms, unheard, half...))
	assert.Equal(t, "undecided: 10ms; how long 1 more took is not known", check("p90", time.Hour, unheard, half...))
	assert.Equal(t, "not met: 10ms", check("p50", 9*ms, unheard, append(half, heard(1, 2, 10*ms))...))
	killed := func(b *ledger.Book) {
		b.Ended = false
		b.Messages[0][1].Outcome = outcome.Open
		b.Messages[0][1].At = time.Time{}
	}
	assert.Equal(t, "undecided: 10ms; how long 1 more took is not known", check("worst", time.Hour, killed, half...))
	refused := func(b *ledger.Book) {
		b.Messages[0][1].Outcome = outcome.Refused
		b.Messages[0][1].Meant = ledger.ToRefuse
	}
	assert.Equal(t, "met: 10ms", check("worst", 10*ms, refused, heard(0, 1, 10*ms), heard(1, 1, 10*ms)),
		"what must not get in has no delay")
	b := book(message(nil), message(func(m *ledger.Message) { m.Seq, m.Outcome = 2, outcome.Refused }))
	c := judge(b).Check([]proof.Requirement{{Measure: "p99", Limit: time.Hour}})[0]
	assert.Equal(t, "not met: 1ms of those that came; 1 did not, and count as later than all", string(c.State)+": "+c.Got)
}
