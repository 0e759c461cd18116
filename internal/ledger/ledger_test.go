package ledger_test

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"runcrowd/internal/ledger"
	"runcrowd/internal/outcome"
)

func TestMarkRoundTrip(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		m := ledger.Mark{
			Run:     rapid.StringMatching(`[a-z2-7]{8}`).Draw(t, "run"),
			Device:  rapid.StringMatching(`[a-z/:.-]{1,20}`).Draw(t, "device"),
			Reading: rapid.StringMatching(`[a-z._-]{1,10}`).Draw(t, "reading"),
			Seq:     rapid.Uint64Range(1, 1<<63).Draw(t, "seq"),
		}
		back, err := ledger.ParseMark(m.String())
		require.NoError(t, err)
		require.Equal(t, m, back)
	})
	for _, bad := range []string{"", "a", "a/b", "a/b/c", "a/b/c/0", "a/b/c/01", "a/b/c/+1", "a/b/c/x", "/b/c/1",
		"a//c/1", "a/b//1", "a/b/c/99999999999999999999"} {
		_, err := ledger.ParseMark(bad)
		assert.Error(t, err, bad)
	}
}

func FuzzMark(f *testing.F) {
	f.Add("k3f9a2xy/buoy-007/sea-state/42")
	f.Fuzz(func(t *testing.T, s string) {
		if m, err := ledger.ParseMark(s); err == nil {
			require.Equal(t, s, m.String())
		}
	})
}

// Whole numbers as marks name one message of one run, and no float loses a bit of them.
func TestNumbers(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		streams := rapid.IntRange(1, 100_000).Draw(t, "streams")
		run := rapid.StringMatching(`[a-z2-7]{8}`).Draw(t, "run")
		n := ledger.NumbersOf(run, streams)
		stream, seq := rapid.IntRange(0, streams-1).Draw(t, "stream"), rapid.Uint64Range(1, ledger.MaxSequence).Draw(t, "seq")
		number := n.Of(stream, seq)
		require.Equal(t, number, uint64(float64(number)), "it stays below 2^53")
		i, k, ours := n.Message(number)
		require.True(t, ours)
		require.Equal(t, stream, i)
		require.Equal(t, seq, k)
		if seq > 1 {
			require.Greater(t, number, n.Of(stream, seq-1), "they grow")
		}
		others := 0 // two runs share a number now and then: streams in 2^28
		for _, other := range []string{"x", "y", "z"} {
			if _, _, ours = ledger.NumbersOf(run+other, streams).Message(number); ours {
				others++
			}
		}
		require.Less(t, others, 3, "other runs have others")
	})
	n := ledger.NumbersOf("run", 3)
	assert.Zero(t, n.Of(0, ledger.MaxSequence+1), "one too many has none")
	_, _, ours := n.Message(0)
	assert.False(t, ours)
}

// A set of numbers is what was added to it.
func TestSpans(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var s ledger.Spans
		want := map[uint64]bool{}
		for _, n := range rapid.SliceOf(rapid.Uint64Range(1, 40)).Draw(t, "numbers") {
			s.Add(n)
			want[n] = true
		}
		for n := range uint64(42) {
			require.Equal(t, want[n], s.Has(n), "%d in %v", n, s)
		}
		require.Equal(t, len(want), s.Len())
		require.LessOrEqual(t, len(s), 20, "neighbours are one")
	})
}

// written makes a ledger with a bit of everything and returns its path.
func written(t testing.TB, end bool) string {
	path := filepath.Join(t.TempDir(), "ledger")
	start := time.Unix(1_900_000_000, 0)
	w, err := ledger.Create(path, "k3f9a2xy", "harbour", start)
	require.NoError(t, err)
	w.Stream(0, ledger.Stream{Device: "buoy-1", Kind: "buoy", Reading: "state", MayRepeat: true, List: true,
		Tolerances: map[string]float64{"wave_m": 0.01}, Units: map[string]string{"wave_m": "m"}, Unseen: []int{2}})
	w.Stream(1, ledger.Stream{Device: "buoy-2", Kind: "buoy", Reading: "state", QoS0: true})
	w.Witness(0, &ledger.Witness{Name: "ear", Proof: "received", Within: time.Second, WatchCopies: 2 * time.Second,
		Wait: 3 * time.Second, Listens: true, Fields: map[string]ledger.FieldRule{"at": {Ignored: true},
			"wave_m": {As: "h", Tolerance: 0.5, Factor: 100, Offset: -1}}})
	w.Round(ledger.Round{N: 1, Begin: start, End: start.Add(time.Minute)})
	w.Flush()
	p := w.Page()
	at := start.UnixNano()
	p.Due(0, 1, 1, at, ledger.ToKeep, 0, []byte(`{"wave_m":1}`))
	p.Sent(0, 1, at+1000, false)
	p.Sent(0, 1, at+2000, false)
	p.Settled(0, 1, at+3000, outcome.Refused, 135, "not authorized")
	w.Flush()
	p.Due(0, 2, 1, at+5000, ledger.ToKeep, 0, []byte(`{"wave_m":2}`))
	p.Due(1, 1, 1, at+6000, ledger.ToKeep, 0, nil)
	q := w.WitnessPage(0)
	q.Sighting(&ledger.Sighting{Witness: 0, Seen: start.Add(2 * time.Second), Stored: start.Add(time.Second), Seq: 2,
		FiledDevice: "buoy-2", FiledReading: "state", Again: true, Asked: true, Row: 1 << 63, Values: []byte(`{"wave_m":2}`)})
	q.Gap(0, &ledger.Gap{From: start.Add(time.Second), Kept: true, Lag: true, Whole: true, Why: "gone"})
	q.Clock(0, -time.Second, 2*time.Second)
	q.Heard(0, 1, true, "")
	p.Link(&ledger.LinkEvent{At: start.Add(time.Second), What: ledger.Down, Why: "cut"})
	p.Command(&ledger.Command{Number: 2, Device: "buoy-2", At: start.Add(3 * time.Second), Topic: "ask/buoy-2",
		Body: []byte("dance"), Why: "no command of the kind matches"})
	p.Command(&ledger.Command{Number: 1, Device: "buoy-1", Name: "set-rate", At: start.Add(2 * time.Second),
		Topic: "ask/buoy-1", Body: []byte(`{"s":1}`), Done: true, Asks: true,
		Did: []ledger.Action{{Kind: "interval", Name: "state", Value: "1s"}}})
	p.Answer(1, &ledger.Answer{Due: start.Add(4 * time.Second), How: ledger.Wrong, Body: []byte("no")})
	p.Told(1, at+4_500_000_000, at+4_600_000_000, outcome.Refused, 135, "not authorized")
	p.Told(9, 0, at, outcome.Unsent, 0, "of a command that was lost with a torn page")
	if end {
		w.End(true)
	}
	require.NoError(t, w.Close())
	return path
}

func TestLedgerRoundTrip(t *testing.T) {
	b, err := ledger.Read(written(t, true))
	require.NoError(t, err)
	start := time.Unix(1_900_000_000, 0)
	assert.Equal(t, "k3f9a2xy", b.Run)
	assert.Equal(t, "harbour", b.Crowd)
	assert.True(t, b.Start.Equal(start))
	assert.True(t, b.Ended)
	assert.True(t, b.Interrupted)
	assert.Zero(t, b.Torn)
	require.Len(t, b.Streams, 2)
	assert.Equal(t, ledger.Stream{Device: "buoy-1", Kind: "buoy", Reading: "state", MayRepeat: true, List: true,
		Tolerances: map[string]float64{"wave_m": 0.01}, Units: map[string]string{"wave_m": "m"}, Unseen: []int{2}},
		b.Streams[0])
	require.Len(t, b.Messages[0], 2)
	m := b.Messages[0][0]
	assert.Equal(t, 2, m.Attempts)
	assert.Equal(t, time.Microsecond, m.Sent.Sub(start), "the first sending counts")
	assert.WithinDuration(t, start, m.Due, 1, "a time that is the start itself is not lost")
	assert.Equal(t, outcome.Refused, m.Outcome)
	assert.Equal(t, 135, m.Code)
	assert.Equal(t, "not authorized", m.Text)
	assert.JSONEq(t, `{"wave_m":1}`, string(m.Carried))
	assert.Equal(t, outcome.Open, b.Messages[0][1].Outcome)
	require.Len(t, b.Sightings, 1)
	s := b.Sightings[0]
	assert.Equal(t, ledger.Sighting{Seen: b.Start.Add(2 * time.Second), Stored: b.Start.Add(time.Second), Seq: 2,
		FiledDevice: "buoy-2", FiledReading: "state", Again: true, Asked: true, Row: 1 << 63,
		Values: []byte(`{"wave_m":2}`)}, s)
	require.Len(t, b.Witnesses, 1)
	w := b.Witnesses[0]
	assert.True(t, w.Heard[1].Complete)
	w.Heard = nil
	assert.Equal(t, ledger.Witness{Name: "ear", Proof: "received", Within: time.Second, WatchCopies: 2 * time.Second,
		Wait: 3 * time.Second, Listens: true, Fields: map[string]ledger.FieldRule{"at": {Ignored: true},
			"wave_m": {As: "h", Tolerance: 0.5, Factor: 100, Offset: -1}},
		Gaps: []ledger.Gap{{From: b.Start.Add(time.Second), Kept: true, Lag: true, Whole: true, Why: "gone"}}, Sightings: 1,
		Clock: &ledger.Offset{Least: -time.Second, Most: 2 * time.Second}}, w)
	// In the order of their numbers, whatever page they were on; times are of the ledger's start.
	assert.Equal(t, []ledger.Command{
		{Number: 1, Device: "buoy-1", Name: "set-rate", At: b.Start.Add(2 * time.Second), Topic: "ask/buoy-1",
			Body: []byte(`{"s":1}`), Done: true, Asks: true, Did: []ledger.Action{{Kind: "interval", Name: "state",
				Value: "1s"}},
			Answer: &ledger.Answer{Due: b.Start.Add(4 * time.Second), How: ledger.Wrong, Body: []byte("no"),
				Sent: b.Start.Add(4500 * time.Millisecond), At: b.Start.Add(4600 * time.Millisecond),
				Outcome: outcome.Refused, Code: 135, Text: "not authorized"}},
		{Number: 2, Device: "buoy-2", At: b.Start.Add(3 * time.Second), Topic: "ask/buoy-2", Body: []byte("dance"),
			Why: "no command of the kind matches"},
	}, b.Commands)
	assert.Equal(t, 1, b.Links.Drops)
	assert.Equal(t, map[string]int{"cut": 1}, b.Links.Why)
	require.Len(t, b.Links.Devices[0].Outages, 1)
	assert.Equal(t, "cut", b.Links.Devices[0].Outages[0].Why)
}

// A ledger may be cut at any byte: what is whole before the cut is read, and
// nothing is made up.
func TestLedgerCutAnywhere(t *testing.T) {
	whole, err := os.ReadFile(written(t, true))
	require.NoError(t, err)
	path := filepath.Join(t.TempDir(), "cut")
	before := 0
	key := whole[bytes.IndexByte(whole, '\n')+1:][:8]
	ended := bytes.LastIndex(whole, key) // where the block begins that says it was closed
	for n := range len(whole) {
		require.NoError(t, os.WriteFile(path, whole[:n], 0o644))
		b, err := ledger.Read(path)
		if err != nil {
			require.ErrorIs(t, err, ledger.ErrNotALedger)
			require.Zero(t, before, "a longer part was read before")
			continue
		}
		require.Equal(t, int64(n), b.Good+b.Torn)
		require.False(t, b.Ended && b.Torn == 0 && n < ended, "it ended before all was written")
		got := 0
		for _, m := range b.Messages {
			got += len(m)
		}
		require.GreaterOrEqual(t, got, before)
		before = got
	}
	assert.Equal(t, 3, before)
}

// A single wrong byte is noticed, and costs its block alone: whatever else was written
// is read as it was, and what is missing is known to be missing.
func TestLedgerDamageIsNoticed(t *testing.T) {
	path := written(t, true)
	good, err := ledger.Read(path)
	require.NoError(t, err)
	whole, err := os.ReadFile(path)
	require.NoError(t, err)
	path = filepath.Join(t.TempDir(), "damaged")
	read, kept := 0, 0
	for i := range whole {
		broken := append([]byte(nil), whole...)
		broken[i] ^= 0x40
		require.NoError(t, os.WriteFile(path, broken, 0o644))
		b, err := ledger.Read(path)
		left, _ := os.ReadFile(path)
		require.Equal(t, broken, left, "reading changes nothing")
		if err != nil {
			continue
		}
		read++
		require.True(t, b.Torn > 0 || len(b.Damage) > 0, "byte %d", i)
		for n, w := range b.Witnesses {
			doubt := !w.Heard[1].Complete
			for _, g := range w.Gaps {
				doubt = doubt || strings.Contains(g.Why, "damaged")
			}
			lost := len(b.Sightings) < len(good.Sightings) || len(w.Gaps) < len(good.Witnesses[n].Gaps)
			require.False(t, lost && !doubt, "byte %d: a sighting is lost, and the witness counts as heard", i)
			if b.Ended && b.Torn == 0 {
				require.Equal(t, lost, doubt, "byte %d: damage elsewhere makes the witness doubtful", i)
			}
		}
		require.False(t, b.Ended && !b.Lost && !slices.EqualFunc(good.Messages, b.Messages,
			func(x, y []ledger.Message) bool { return assert.ObjectsAreEqual(x, y) }), "byte "+
			"%d: messages are lost, and the ledger counts as whole", i)
		for stream, list := range b.Messages {
			for k, m := range list {
				if !m.Hole {
					require.Equal(t, good.Messages[stream][k].Carried, m.Carried)
					kept++
				}
			}
		}
	}
	assert.Greater(t, read, len(whole)/2, "most damage leaves a ledger that can be judged")
	assert.Greater(t, kept, read, "with the messages of the other blocks")
}

// A ledger whose process was killed can be gone on with: nothing in it is cut off, and
// what is added is read.
func TestReopen(t *testing.T) {
	path := written(t, false)
	f, err := os.OpenFile(path, os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.Write([]byte{0, 0, 1, 0, 1, 2, 3})
	require.NoError(t, err)
	require.NoError(t, f.Close())
	before, err := os.ReadFile(path)
	require.NoError(t, err)
	w, err := ledger.Reopen(path)
	require.NoError(t, err)
	b, err := ledger.Read(path)
	require.NoError(t, err)
	assert.Equal(t, int64(7), b.Torn)
	assert.True(t, ledger.Busy(path))
	_, err = ledger.Reopen(path)
	require.ErrorIs(t, err, ledger.ErrBusy, "a second writer is told")
	w.WitnessPage(0).Sighting(&ledger.Sighting{Seq: 1, Seen: b.Start.Add(time.Hour)})
	require.NoError(t, w.Close())
	assert.False(t, ledger.Busy(path))
	after, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.True(t, bytes.HasPrefix(after, before), "nothing is cut off or written over")
	again, err := ledger.Read(path)
	require.NoError(t, err)
	assert.Equal(t, int64(7), again.Torn)
	assert.Empty(t, again.Damage, "a process was killed; nothing was damaged")
	assert.Len(t, again.Sightings, len(b.Sightings)+1)
	assert.Equal(t, b.Messages, again.Messages)
}

// What an asking witness saw may be in a block that is lost: it was not heard, until it is
// asked again. A listening one has a gap there, and no other. What others saw stands.
func TestWhatWitnessesSawAndIsLost(t *testing.T) {
	path := filepath.Join(t.TempDir(), "ledger")
	start := time.Now()
	w, err := ledger.Create(path, "k3f9a2xy", "harbour", start)
	require.NoError(t, err)
	w.Stream(0, ledger.Stream{Device: "buoy-1", Kind: "buoy", Reading: "state"})
	var pages []*ledger.Page
	for i, listens := range []bool{false, false, true} {
		w.Witness(i, &ledger.Witness{Name: fmt.Sprint(i), Proof: "stored", Listens: listens})
		pages = append(pages, w.WitnessPage(i))
	}
	w.Round(ledger.Round{N: 1, Begin: start, End: start.Add(time.Minute)})
	for n := range 3 {
		for i, p := range pages {
			p.Sighting(&ledger.Sighting{Witness: i, Seq: 1, Seen: start,
				Values: []byte(fmt.Sprintf(`{"seen_by":%d,"time":%d}`, i, n))})
		}
		w.Flush()
	}
	for i, p := range pages {
		p.Heard(i, 1, true, "")
	}
	w.End(false)
	require.NoError(t, w.Close())
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	for _, at := range []string{`{"seen_by":0,"time":1}`, `{"seen_by":2,"time":1}`} {
		b[bytes.Index(b, []byte(at))] ^= 1
	}
	// At its end it tells what they saw, and so what is lost: of the others nothing is.
	require.NoError(t, os.WriteFile(path, b, 0o644))
	book, err := ledger.Read(path)
	require.NoError(t, err)
	assert.Len(t, book.Sightings, 7)
	assert.Len(t, book.Damage, 2)
	one := []ledger.Lost{{Stream: 0, Part: 0, N: 1, Sum: ledger.Digest(0, 1)}}
	for i, want := range [][]ledger.Lost{one, nil, one} {
		assert.Equal(t, want, book.Witnesses[i].Lost)
		assert.True(t, book.Witnesses[i].Heard[1].Complete)
		assert.Empty(t, book.Witnesses[i].Gaps)
	}
	// An asking one that is asked again tells it once more.
	anew, err := ledger.Reopen(path)
	require.NoError(t, err)
	p := anew.WitnessPage(0)
	p.Sighting(&ledger.Sighting{Witness: 0, Seq: 1, Seen: start, Values: []byte(`{}`)})
	p.Heard(0, 1, true, "")
	require.NoError(t, anew.Close())
	book, err = ledger.Read(path)
	require.NoError(t, err)
	assert.Empty(t, book.Witnesses[0].Lost)
	assert.Equal(t, one, book.Witnesses[2].Lost)
	// Where its end is missing, too, it is not known.
	require.NoError(t, os.WriteFile(path, b[:bytes.LastIndex(b, b[bytes.IndexByte(b, '\n')+1:][:8])], 0o644))
	book, err = ledger.Read(path)
	require.NoError(t, err)
	assert.Len(t, book.Sightings, 7)
	assert.True(t, book.Lost, "messages may be, too")
	for i := range 2 {
		assert.False(t, book.Witnesses[i].Heard[1].Complete)
		assert.Contains(t, book.Witnesses[i].Heard[1].Why, "damaged")
	}
	assert.True(t, book.Witnesses[2].Heard[1].Complete)
	assert.NotEmpty(t, book.Witnesses[2].Gaps)
	assert.Empty(t, book.Witnesses[2].Lost)
	again, err := ledger.Reopen(path)
	require.NoError(t, err)
	again.WitnessPage(0).Heard(0, 1, true, "")
	require.NoError(t, again.Close())
	book, err = ledger.Read(path)
	require.NoError(t, err)
	assert.True(t, book.Witnesses[0].Heard[1].Complete)
	assert.Len(t, book.Damage, 2)
}

// A ledger of which it is not known what devices and witnesses there are is not judged: a
// message that a lost witness did not find would pass.
func TestWhatDefinesALedgerIsLost(t *testing.T) {
	path := written(t, true)
	whole, err := os.ReadFile(path)
	require.NoError(t, err)
	head := bytes.IndexByte(whole, '\n') + 1
	key := whole[head:][:8]
	blocks := bytes.Split(whole[head:], key)[1:]
	read := func(blocks ...[]byte) (*ledger.Book, error) {
		b := bytes.Clone(whole[:head])
		for _, x := range blocks {
			b = append(append(b, key...), x...)
		}
		require.NoError(t, os.WriteFile(path, b, 0o644))
		return ledger.Read(path)
	}
	good, err := read(blocks...)
	require.NoError(t, err)
	// Where it was closed, they stand at its end once more.
	for i := range 2 {
		again, err := read(append(append([][]byte{}, blocks[:i]...), blocks[i+1:]...)...)
		require.NoError(t, err)
		assert.Equal(t, good.Run, again.Run)
		assert.Equal(t, good.Streams, again.Streams)
		assert.Equal(t, len(good.Witnesses), len(again.Witnesses))
		assert.True(t, again.Lost, "what else stood there is not known")
		assert.False(t, again.Whole())
	}
	for at := range head + 40 { // a flip in the header line, or in the first block
		b := bytes.Clone(whole)
		b[at] ^= 2
		require.NoError(t, os.WriteFile(path, b, 0o644))
		again, err := ledger.Read(path)
		require.NoError(t, err, "byte %d", at)
		assert.Equal(t, good.Streams, again.Streams)
		assert.NotEmpty(t, again.Damage)
	}
	last := len(blocks) - 1
	_, err = read(append([][]byte{blocks[0]}, blocks[2:last-1]...)...)
	assert.ErrorContains(t, err, "where it says what devices and witnesses there are")
	// A block that stands there twice is read once.
	twice, err := read(append(append([][]byte{}, blocks...), blocks[3], blocks[1])...)
	require.NoError(t, err)
	assert.Equal(t, good.Messages, twice.Messages)
	assert.Equal(t, good.Sightings, twice.Sightings)
	assert.Len(t, twice.Streams, 2)
	assert.Len(t, twice.Damage, 2)
}

// A ledger is followed while it is written: what is half there is no damage.
func TestFollowing(t *testing.T) {
	path := filepath.Join(t.TempDir(), "ledger")
	w, err := ledger.Create(path, "r", "c", time.Now())
	require.NoError(t, err)
	w.Stream(0, ledger.Stream{Device: "d", Reading: "r"})
	w.Round(ledger.Round{N: 1, Begin: time.Now(), End: time.Now()})
	w.Flush()
	const messages = 3000
	done := make(chan struct{})
	go func() {
		defer close(done)
		p, carried := w.Page(), make([]byte, 40<<10)
		for i := range uint64(messages) {
			p.Due(0, i+1, 1, int64(i), ledger.ToKeep, 0, carried[:1+i*7%uint64(len(carried))])
			w.Flush()
		}
	}()
	s, err := ledger.NewScanner(path)
	require.NoError(t, err)
	defer s.Close()
	seen := 0
	follow := func() { require.NoError(t, s.Scan(func(*ledger.Record) error { seen++; return nil })) }
	for over := false; !over; {
		select {
		case <-done:
			over = true
		default:
		}
		follow()
	}
	require.NoError(t, w.Close())
	follow()
	f, err := s.Finish()
	require.NoError(t, err)
	assert.Equal(t, messages, seen)
	assert.Empty(t, f.Damage)
	assert.Zero(t, f.Torn)
}

func TestReadWhatIsNoLedger(t *testing.T) {
	path := filepath.Join(t.TempDir(), "x")
	_, err := ledger.Read(path)
	require.ErrorIs(t, err, os.ErrNotExist)
	require.NoError(t, os.WriteFile(path, []byte("something else altogether"), 0o644))
	_, err = ledger.Read(path)
	require.ErrorIs(t, err, ledger.ErrNotALedger)
	_, err = ledger.Create(path, "r", "c", time.Now())
	require.True(t, errors.Is(err, os.ErrExist), "a ledger is never written over")
}

func FuzzRead(f *testing.F) {
	whole, err := os.ReadFile(written(f, true))
	if err != nil {
		f.Fatal(err)
	}
	f.Add(whole)
	path := filepath.Join(f.TempDir(), "fuzz")
	f.Fuzz(func(t *testing.T, b []byte) {
		require.NoError(t, os.WriteFile(path, b, 0o644))
		ledger.Read(path) // it must not panic, and not take all memory
	})
}

func BenchmarkMessage(b *testing.B) {
	w, err := ledger.Create(filepath.Join(b.TempDir(), "ledger"), "r", "c", time.Now())
	if err != nil {
		b.Fatal(err)
	}
	w.Stream(0, ledger.Stream{Device: "d", Reading: "r"})
	w.Flush()
	p := w.Page()
	carried := make([]byte, 120)
	b.ReportAllocs()
	for i := int64(1); b.Loop(); i++ {
		p.Due(0, uint64(i), 1, i, ledger.ToKeep, 0, carried)
		p.Sent(0, uint64(i), i, false)
		p.Settled(0, uint64(i), i, outcome.Accepted, 0, "")
	}
	w.Close()
}
