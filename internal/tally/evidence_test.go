package tally_test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"runcrowd/internal/evidence"
	"runcrowd/internal/ledger"
	"runcrowd/internal/outcome"
	"runcrowd/internal/tally"
	"runcrowd/internal/verdict"
)

// writeLedger writes what a book tells into a ledger, as it happens in a run: sightings
// stand far from their messages, before or behind them.
func writeLedger(t require.TestingT, path string, b *ledger.Book, order []int) {
	w, err := ledger.Create(path, b.Run, "harbour", b.Start)
	require.NoError(t, err)
	for i, s := range b.Streams {
		w.Stream(i, s)
	}
	for i := range b.Witnesses {
		w.Witness(i, &b.Witnesses[i])
	}
	w.Round(ledger.Round{N: 1, Begin: b.Rounds[0].Begin, End: b.Rounds[0].End})
	w.Flush()
	p, q := w.Page(), []*ledger.Page{w.WitnessPage(0), w.WitnessPage(1)}
	var actions []func()
	for stream, list := range b.Messages {
		for _, m := range list {
			p.Due(stream, m.Seq, m.Round, m.Due.UnixNano(), ledger.ToKeep, 0, m.Carried)
			actions = append(actions, func() {
				for range m.Attempts {
					p.Sent(stream, m.Seq, m.Sent.UnixNano(), false)
				}
				if m.Outcome != outcome.Open {
					p.Settled(stream, m.Seq, m.At.UnixNano(), m.Outcome, m.Code, m.Text)
				}
			})
		}
	}
	for i := range b.Sightings {
		actions = append(actions, func() { q[b.Sightings[i].Witness].Sighting(&b.Sightings[i]) })
	}
	for n, i := range order {
		if actions[i](); n%3 == 0 {
			w.Flush()
		}
	}
	for i := range q {
		q[i].Heard(i, 1, true, "")
	}
	if b.Ended {
		w.End(false)
	}
	require.NoError(t, w.Close())
}

// However little memory there is, and in whatever order it was written down, the same
// evidence gives the same result.
func TestMemoryChangesNothing(t *testing.T) {
	dir, n := t.TempDir(), 0
	rapid.Check(t, func(t *rapid.T) {
		b := book()
		b.Ended = rapid.Bool().Draw(t, "ended")
		b.Witnesses[0].Fields = map[string]ledger.FieldRule{"t": {As: "temperature"}}
		for stream := range b.Streams {
			for i := range rapid.IntRange(0, 30).Draw(t, "messages") {
				b.Messages[stream] = append(b.Messages[stream], message(func(m *ledger.Message) {
					m.Seq, m.Outcome, m.Attempts = uint64(i+1), outcome.Outcome(
						rapid.IntRange(0, 5).Draw(t, "outcome")), rapid.IntRange(0, 2).Draw(t, "attempts")
					if m.Outcome == outcome.Open {
						m.At = time.Time{}
					}
					if m.Attempts == 0 {
						m.Sent = time.Time{}
					}
					m.Text = rapid.SampledFrom([]string{"", "quota exceeded"}).Draw(t, "text")
				}))
			}
		}
		for range rapid.IntRange(0, 120).Draw(t, "sightings") {
			b.Sightings = append(b.Sightings, seen(rapid.IntRange(0, 1).Draw(t, "witness"), func(s *ledger.Sighting) {
				s.Stream, s.Seq = rapid.IntRange(-1, 1).Draw(t, "stream"), rapid.Uint64Range(0, 35).Draw(t, "seq")
				s.FiledDevice = rapid.SampledFrom([]string{"", "", "buoy-9"}).Draw(t, "filed")
				s.Again, s.Perhaps = rapid.Bool().Draw(t, "again"), rapid.IntRange(0, 5).Draw(t, "perhaps") == 0
				s.Seen = start.Add(time.Duration(rapid.IntRange(1, 3000).Draw(t, "seen")) * time.Millisecond)
				if rapid.Bool().Draw(t, "tells") {
					s.Stored = start.Add(time.Duration(rapid.IntRange(1, 3000).Draw(t, "stored")) * time.Millisecond)
				}
				s.Row = uint64(rapid.IntRange(0, 2).Draw(t, "row"))
				s.Values = []byte(rapid.SampledFrom([]string{carried, carried, strings.Replace(carried, `"t"`, `"temperature"`, 1),
					"{}", "null"}).Draw(t, "values"))
			}))
		}
		n++
		path := filepath.Join(dir, fmt.Sprint(n))
		require.NoError(t, os.Mkdir(path, 0o755))
		path = filepath.Join(path, "ledger")
		writeLedger(t, path, b, rapid.Permutation(indexes(len(b.Messages[0])+len(b.Messages[1])+len(b.Sightings))).Draw(t,
			"order"))
		of := func(room int64) *tally.Result {
			e, err := evidence.Open(path, evidence.Options{Compare: verdict.Same, Temp: []string{dir}, Room: room})
			require.NoError(t, err)
			defer e.Close()
			r, err := tally.Watch(e, tally.Options{}).Judge()
			require.NoError(t, err)
			if room > 0 && len(b.Sightings) > 40 {
				require.Greater(t, e.Sorted, 1, "it was sorted on disk")
			}
			return r
		}
		whole, little := of(0), of(1000)
		require.Equal(t, whole, little)
		book, err := ledger.Read(path)
		require.NoError(t, err)
		require.Equal(t, whole, judge(book), "and so does the whole book in memory")
	})
	left, err := filepath.Glob(filepath.Join(dir, ".runcrowd-*"))
	require.NoError(t, err)
	assert.Empty(t, left, "nothing is left of the sorting")
}

func indexes(n int) []int {
	list := make([]int, n)
	for i := range list {
		list[i] = i
	}
	return list
}

// BenchmarkJudgeALedger writes a ledger of a million messages with one witness (or of
// RUNCROWD_MESSAGES) and judges it: messages a second, and the most memory that was taken.
func BenchmarkJudgeALedger(b *testing.B) {
	n := 1_000_000
	if s := os.Getenv("RUNCROWD_MESSAGES"); s != "" {
		n, _ = strconv.Atoi(s)
	}
	path := filepath.Join(b.TempDir(), "ledger")
	const streams = 1000
	w, err := ledger.Create(path, "k3f9a2xy", "harbour", start)
	require.NoError(b, err)
	for i := range streams {
		w.Stream(i, ledger.Stream{Device: fmt.Sprintf("buoy-%04d", i), Kind: "buoy", Reading: "state"})
	}
	w.Witness(0, &ledger.Witness{Name: "ear", Proof: "received", Listens: true, WatchCopies: time.Second})
	w.Round(ledger.Round{N: 1, Begin: start, End: start.Add(time.Hour)})
	w.Flush()
	p, q := w.Page(), w.WitnessPage(0)
	var body []byte
	for i := range n {
		stream, seq := i%streams, uint64(i/streams+1)
		at := start.UnixNano() + int64(i)*20_000
		body = fmt.Appendf(body[:0], `{"wave_m":%d.%02d,"water_c":9.%d,"depth_m":11.25,"under_m":9.9,"battery_v":12.%d}`,
			i%7, i%100, i%10, i%8)
		p.Due(stream, seq, 1, at, ledger.ToKeep, 0, body)
		p.Sent(stream, seq, at+1000, false)
		p.Settled(stream, seq, at+300_000, outcome.Accepted, 0, "")
		q.Sighting(&ledger.Sighting{Stream: stream, Seq: seq, Seen: time.Unix(0, at+400_000),
			Values: fmt.Appendf(nil, `{"mark":"k3f9a2xy/buoy-%04d/state/%d",%s`, stream, seq, body[1:])})
		if i%100_000 == 0 {
			w.Flush()
		}
	}
	q.Heard(0, 1, true, "")
	w.End(false)
	require.NoError(b, w.Close())
	runtime.GC()
	for b.Loop() {
		e, err := evidence.Open(path, evidence.Options{Compare: verdict.Same})
		require.NoError(b, err)
		r, err := tally.Watch(e, tally.Options{PerVerdict: 100}).Judge()
		require.NoError(b, err)
		require.Equal(b, n, r.Total[verdict.Proven], "%v %v", r.Total, r.Findings)
		require.NoError(b, e.Close())
	}
	b.ReportMetric(float64(n)*float64(b.N)/b.Elapsed().Seconds(), "messages/s")
	if status, err := os.ReadFile("/proc/self/status"); err == nil {
		for _, line := range strings.Split(string(status), "\n") {
			if strings.HasPrefix(line, "VmHWM:") {
				kib, _ := strconv.ParseFloat(strings.Fields(line)[1], 64)
				b.ReportMetric(kib/1024, "MiB-peak")
			}
		}
	}
}

// However a ledger is damaged, nothing is proven that was not, and nobody is accused who
// was not: what is not known is said to be so, or the ledger is not judged at all.
func TestDamageDeceivesNobody(t *testing.T) {
	b := book()
	bad := map[string]string{}
	for stream := range b.Streams {
		for i := range 120 {
			b.Messages[stream] = append(b.Messages[stream], message(func(m *ledger.Message) { m.Seq = uint64(i + 1) }))
			name := fmt.Sprintf("%s/%d", b.Streams[stream].Device, i+1)
			for w := range 2 {
				x := seen(w, func(s *ledger.Sighting) { s.Stream, s.Seq = stream, uint64(i+1) })
				switch {
				case i%11 == 3 && w == 1:
					bad[name] = "lost"
					continue
				case i%13 == 5:
					bad[name] = "altered"
					x.Values = []byte("{}")
				case i%17 == 7 && w == 1:
					if bad[name] == "" {
						bad[name] = "repeated"
					}
					b.Sightings = append(b.Sightings, x)
				}
				b.Sightings = append(b.Sightings, x)
			}
		}
	}
	// What was seen in a lost block is a matter of when it was written.
	shift := time.Since(start) - 50*time.Millisecond
	b.Start, b.Rounds[0].Begin, b.Rounds[0].End = b.Start.Add(shift), b.Rounds[0].Begin.Add(shift), b.Rounds[0].End.Add(
		shift)
	for _, list := range b.Messages {
		for i := range list {
			list[i].Due, list[i].Sent, list[i].At = list[i].Due.Add(shift), list[i].Sent.Add(shift), list[i].At.Add(shift)
		}
	}
	for i := range b.Sightings {
		b.Sightings[i].Seen = b.Sightings[i].Seen.Add(shift)
	}
	path := filepath.Join(t.TempDir(), "ledger")
	rng := rand.New(rand.NewPCG(1, 2))
	writeLedger(t, path, b, rng.Perm(240+len(b.Sightings)))
	whole, err := os.ReadFile(path)
	require.NoError(t, err)
	judged, times := 0, 150
	if testing.Short() {
		times = 40
	}
	for n := range times {
		broken := bytes.Clone(whole)
		at, size := rng.IntN(len(broken)), 1+rng.IntN(3000)
		end := min(len(broken), at+size)
		switch n % 4 {
		case 0:
			broken[at] ^= 1 << rng.IntN(8)
		case 1:
			broken = append(broken[:at:at], broken[end:]...)
		case 2:
			broken = append(broken[:at:at], append(make([]byte, size), broken[at:]...)...)
		case 3: // a part of it stands elsewhere once more
			copy(broken[at:end], whole[rng.IntN(len(whole)):])
		}
		require.NoError(t, os.WriteFile(path, broken, 0o644))
		e, err := evidence.Open(path, evidence.Options{Compare: verdict.Same})
		if err != nil {
			continue
		}
		r, err := tally.Watch(e, tally.Options{}).Judge()
		require.NoError(t, e.Close())
		if err != nil {
			continue
		}
		judged++
		found := map[string]string{}
		for _, f := range r.Findings {
			name := fmt.Sprintf("%s/%d", f.Device, f.Seq)
			found[name] = f.Verdict
			if f.Verdict != "unknown" {
				require.Equal(t, bad[name], f.Verdict, "%s is accused, mutation %d: %+v %v %+v", name, n, f, r.Damage, r.Witnesses)
			}
		}
		if r.Total.Due() == 240 {
			for name, v := range bad {
				require.NotEmpty(t, found[name], "%s was %s and is proven, mutation %d", name, v, n)
			}
		}
	}
	assert.Greater(t, judged, times*2/3)
	// One block of what a witness saw that is lost costs the messages in it, and no other.
	cost, unknown := 0, 0
	for at := 0; at < len(whole); at += len(whole) / 100 {
		broken := bytes.Clone(whole)
		broken[at] ^= 4
		require.NoError(t, os.WriteFile(path, broken, 0o644))
		e, err := evidence.Open(path, evidence.Options{Compare: verdict.Same})
		if err != nil {
			continue
		}
		r, err := tally.Watch(e, tally.Options{}).Judge()
		require.NoError(t, e.Close())
		if err != nil {
			continue
		}
		lost := len(b.Sightings) - r.Witnesses[0].Sightings - r.Witnesses[1].Sightings
		if lost == 0 {
			continue
		}
		cost++
		unknown += r.Total[verdict.Unknown]
		require.LessOrEqual(t, r.Total[verdict.Unknown], lost, "byte %d: %+v", at, r.Witnesses)
	}
	assert.Greater(t, cost, 20)
	assert.Greater(t, unknown, cost/2)
}
