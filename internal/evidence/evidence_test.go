package evidence_test

import (
	"bytes"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/evidence"
	"runcrowd/internal/ledger"
	"runcrowd/internal/outcome"
)

var start = time.Date(2030, 1, 2, 3, 4, 5, 0, time.UTC)

// random writes a ledger of random records: of messages in any order, of sightings before and
// after them, of strays and commands.
func random(t *testing.T, rng *rand.Rand, path string) {
	w, err := ledger.Create(path, "k3f9a2xy", "skerry-roads", start)
	require.NoError(t, err)
	for i := range 3 {
		w.Stream(i, ledger.Stream{Device: fmt.Sprintf("buoy-%d", i), Kind: "buoy", Reading: "state"})
	}
	for i := range 2 {
		w.Witness(i, &ledger.Witness{Name: fmt.Sprint("witness-", i)})
	}
	w.Round(ledger.Round{N: 1, Begin: start})
	w.Flush()
	pages := []*ledger.Page{w.Page(), w.Page(), w.WitnessPage(0), w.WitnessPage(1)}
	at := func() int64 { return start.Add(time.Duration(rng.IntN(1e6)) * time.Millisecond).UnixNano() }
	maybe := func() bool { return rng.IntN(3) == 0 }
	body := func(n int) []byte {
		return []byte(fmt.Sprintf(`{"a":%d,"pad":"%s"}`, n, strings.Repeat("x", rng.IntN(60))))
	}
	const long = 40
	type carried struct {
		stream int
		seq    uint64
	}
	sent := map[carried][]byte{}
	for stream := range 3 {
		for seq := uint64(1); seq <= long; seq++ {
			sent[carried{stream, seq}] = body(int(seq))
		}
	}
	last := [3]uint64{} // a stream's messages are due in their order, in one page
	for range rng.IntN(400) {
		stream := rng.IntN(3)
		seq, p, what := uint64(1+rng.IntN(long)), pages[stream%2], rng.IntN(9)
		if what > 1 && what < 5 {
			if last[stream] == 0 {
				continue
			}
			seq = 1 + rng.Uint64N(last[stream])
		}
		switch what {
		case 0, 1:
			if last[stream] < long {
				last[stream]++
				p.Due(stream, last[stream], 1+rng.IntN(3), at(), ledger.Meant(rng.IntN(4)), rng.Uint64()>>rng.IntN(64),
					sent[carried{stream, last[stream]}])
			}
		case 2:
			p.Sent(stream, seq, at(), maybe())
		case 3:
			p.Copied(stream, seq, at())
		case 4:
			text := ""
			if maybe() {
				text = "quota " + fmt.Sprint(seq)
			}
			p.Settled(stream, seq, at(), outcome.Outcome(rng.IntN(4)), rng.IntN(600), text)
		case 5, 6, 7:
			wit := rng.IntN(2)
			x := ledger.Sighting{Witness: wit, Seen: time.Unix(0, at()), Stream: stream, Seq: seq, Again: maybe(), Perhaps: maybe(),
				Asked: maybe(), Unsure: maybe(), Values: sent[carried{stream, seq}]}
			if maybe() {
				x.Stored = time.Unix(0, at())
			}
			if maybe() {
				x.Row = rng.Uint64() >> rng.IntN(64)
			}
			if maybe() {
				x.Values = body(rng.IntN(99))
			}
			if maybe() {
				x.FiledDevice = "buoy-9"
			}
			if maybe() {
				x.FiledReading = "light"
			}
			if maybe() {
				x.Stream, x.Device, x.Reading = -1, fmt.Sprint("tug-", rng.IntN(3)), "place"
			}
			pages[2+wit].Sighting(&x)
		case 8:
			p.Command(&ledger.Command{Number: seq, Device: "buoy-0", At: start, Asks: maybe()})
		}
		if rng.IntN(20) == 0 {
			w.Flush()
		}
	}
	w.End(false)
	require.NoError(t, w.Close())
}

// model is what a ledger tells of its messages, put together without any art.
func model(t *testing.T, path string) []string {
	s, err := ledger.NewScanner(path)
	require.NoError(t, err)
	defer s.Close()
	type msg struct {
		stream         int
		seq            uint64
		due            string
		carried        []byte
		known          bool
		sent           int64
		attempts, anew int
		copies         int
		settled        string
		seen           []string
		values         [][]byte
	}
	all := map[string]*msg{}
	of := func(stream int, seq uint64, stray string) *msg {
		k := fmt.Sprint(stream, seq, stray)
		if all[k] == nil {
			all[k] = &msg{stream: stream, seq: seq}
		}
		return all[k]
	}
	require.NoError(t, s.Scan(func(r *ledger.Record) error {
		switch r.Type {
		case ledger.DueRecord:
			m := of(r.Stream, r.Seq, "")
			m.known, m.carried = true, bytes.Clone(r.Carried.B)
			m.due = fmt.Sprint(r.Round, r.At, r.Meant, r.Calls)
		case ledger.SentRecord:
			m := of(r.Stream, r.Seq, "")
			if m.sent == 0 {
				m.sent = r.At
			}
			if m.attempts++; r.Anew {
				m.anew++
			}
		case ledger.CopiedRecord:
			of(r.Stream, r.Seq, "").copies++
		case ledger.SettledRecord:
			of(r.Stream, r.Seq, "").settled = fmt.Sprint(r.Outcome, r.At, r.Code, string(r.Text.B))
		case ledger.SightingRecord:
			x := r.Sighting
			stray := ""
			if x.Stream < 0 {
				stray = x.Device + x.Reading
			}
			m := of(x.Stream, x.Seq, stray)
			m.seen = append(m.seen, fmt.Sprint(x.Witness, r.At, r.Stored, x.Again, x.Perhaps, x.Unsure, x.Asked, x.Row, x.Device, x.Reading,
				x.FiledDevice, x.FiledReading))
			m.values = append(m.values, bytes.Clone(x.Values))
		}
		return nil
	}))
	var lines []string
	for _, m := range all {
		for i := range m.seen {
			m.seen[i] += fmt.Sprint(" ", m.known && bytes.Equal(m.values[i], m.carried), string(m.values[i]))
		}
		lines = append(lines, fmt.Sprintf("%d/%06d %t[%s] %d %d %d %d [%s] %s %s", m.stream, m.seq, m.known, m.due, m.sent, m.attempts, m.anew,
			m.copies, m.settled, m.carried, strings.Join(m.seen, "; ")))
	}
	sort.Strings(lines)
	return lines
}

func nano(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixNano()
}

// told is what the evidence tells, in the same words, and in which order.
func told(t *testing.T, e *evidence.Evidence) (lines, order []string) {
	require.NoError(t, e.Finish())
	require.NoError(t, e.Cases(func(c *evidence.Case) error {
		due, settled := "", ""
		if c.Known {
			due = fmt.Sprint(c.Round, nano(c.Due), c.Meant, c.Calls)
		}
		if !c.At.IsZero() || c.Outcome != outcome.Open {
			settled = fmt.Sprint(c.Outcome, nano(c.At), c.Code, c.Text())
		}
		var seen []string
		seq := c.Seq
		for i := range c.Sightings {
			s := &c.Sightings[i]
			x := s.Ledger(c)
			if seq = x.Seq; c.Stream < 0 {
				m := s.Mark("k3f9a2xy")
				assert.Equal(t, ledger.Mark{Run: "k3f9a2xy", Device: x.Device, Reading: x.Reading, Seq: x.Seq}, m)
			}
			seen = append(seen, fmt.Sprint(x.Witness, nano(x.Seen), nano(x.Stored), x.Again, x.Perhaps, x.Unsure, x.Asked, x.Row, x.Device, x.Reading,
				x.FiledDevice, x.FiledReading, " ", s.Same, string(s.Values())))
		}
		order = append(order, fmt.Sprintf("%d/%020d", uint32(c.Stream), c.Seq))
		lines = append(lines, fmt.Sprintf("%d/%06d %t[%s] %d %d %d %d [%s] %s %s", c.Stream, seq, c.Known, due, nano(c.Sent), c.Attempts, c.Anew,
			c.Copies, settled, c.Carried(), strings.Join(seen, "; ")))
		return nil
	}))
	return lines, order
}

func same(_, _ int, sent, found []byte) bool { return bytes.Equal(sent, found) }

// However little memory there is, each message has one case, with all that the ledger tells of it.
func TestEvidenceIsWhatTheLedgerTells(t *testing.T) {
	spilt := false
	for seed := range uint64(15) {
		rng := rand.New(rand.NewPCG(seed, 7))
		path := filepath.Join(t.TempDir(), "ledger")
		random(t, rng, path)
		want := model(t, path)
		b, err := ledger.Read(path)
		require.NoError(t, err)
		for _, room := range []int64{300, 3000, 1 << 40} {
			e, err := evidence.Open(path, evidence.Options{Room: room, Same: same, Temp: []string{t.TempDir()}})
			require.NoError(t, err)
			for range rng.IntN(3) {
				require.NoError(t, e.Gather())
			}
			lines, order := told(t, e)
			timed := slices.ContainsFunc(b.Sightings, func(s ledger.Sighting) bool { return !s.Stored.IsZero() })
			require.Equal(t, timed, e.Timed, "seed %d", seed)
			require.True(t, slices.IsSorted(order), "seed %d: by stream and number", seed)
			spilt = spilt || e.Sorted > 2
			require.True(t, room < 1<<40 || e.Sorted == 0, "seed %d", seed)
			again, _ := told(t, e)
			require.Equal(t, lines, again, "it may be told again")
			sort.Strings(lines)
			require.Equal(t, strings.Join(want, "\n"), strings.Join(lines, "\n"), "seed %d, room for %d", seed, room)
			require.NoError(t, e.Close())
		}
		e := evidence.Of(b, same)
		lines, _ := told(t, e)
		lines = slices.DeleteFunc(lines, func(l string) bool { return strings.HasSuffix(l, " false[] 0 0 0 0 [] null ") })
		for i, l := range lines { // what is known of a hole is null
			if strings.Contains(l, " false[") {
				lines[i] = strings.Replace(l, "] null ", "]  ", 1)
			}
		}
		sort.Strings(lines)
		require.Equal(t, strings.Join(want, "\n"), strings.Join(lines, "\n"), "seed %d: of a book", seed)
		require.NoError(t, e.Close())
	}
	assert.True(t, spilt)
}

// Of a message that is found without end, as many sightings are kept as can be looked at, and the
// first of each witness.
func TestMessagesThatAreFoundWithoutEnd(t *testing.T) {
	path := filepath.Join(t.TempDir(), "ledger")
	w, err := ledger.Create(path, "k3f9a2xy", "skerry-roads", start)
	require.NoError(t, err)
	w.Stream(0, ledger.Stream{Device: "buoy-1", Kind: "buoy", Reading: "state"})
	for i := range 2 {
		w.Witness(i, &ledger.Witness{Name: fmt.Sprint("witness-", i)})
	}
	w.Flush()
	p := []*ledger.Page{w.WitnessPage(0), w.WitnessPage(1)}
	for n := range evidence.MostSightings + 200 {
		p[0].Sighting(&ledger.Sighting{Witness: 0, Seen: start, Seq: 1, Row: uint64(n + 1), Values: []byte("1")})
	}
	w.Flush()
	for n := range 3 {
		p[1].Sighting(&ledger.Sighting{Witness: 1, Seen: start, Seq: 1, Row: uint64(n + 1), Values: []byte("1")})
	}
	require.NoError(t, w.Close())
	for _, room := range []int64{1, 20_000, 1 << 40} {
		e, err := evidence.Open(path, evidence.Options{Room: room, Same: same, Temp: []string{t.TempDir()}})
		require.NoError(t, err)
		require.NoError(t, e.Finish())
		require.NoError(t, e.Cases(func(c *evidence.Case) error {
			of := map[int]int{}
			for _, s := range c.Sightings {
				of[s.Witness]++
			}
			assert.Equal(t, map[int]int{0: evidence.MostSightings, 1: 1}, of, "room for %d", room)
			return nil
		}))
		require.NoError(t, e.Close())
	}
}

// Who looks may stop; where there is no place to sort, that is told.
func TestEvidenceThatCannotBeGathered(t *testing.T) {
	path := filepath.Join(t.TempDir(), "ledger")
	w, err := ledger.Create(path, "k3f9a2xy", "skerry-roads", start)
	require.NoError(t, err)
	w.Stream(0, ledger.Stream{Device: "buoy-1", Kind: "buoy", Reading: "state"})
	w.Flush()
	p := w.Page()
	for n := range uint64(10) {
		p.Due(0, n+1, 1, start.UnixNano(), ledger.ToKeep, 0, []byte(`{}`))
		p.Sent(0, n+1, start.UnixNano(), false)
	}
	require.NoError(t, w.Close())
	enough := errors.New("enough")
	for _, room := range []int64{1, 1 << 40} {
		e, err := evidence.Open(path, evidence.Options{Room: room, Temp: []string{t.TempDir()}})
		require.NoError(t, err)
		require.NoError(t, e.Finish())
		n := 0
		assert.Equal(t, enough, e.Cases(func(c *evidence.Case) error {
			if n++; c.Seq == 3 {
				return enough
			}
			return nil
		}))
		assert.Equal(t, 3, n)
		require.NoError(t, e.Close())
	}
	nowhere := filepath.Join(t.TempDir(), "nowhere")
	t.Setenv("TMPDIR", nowhere)
	e, err := evidence.Open(path, evidence.Options{Room: 1, Temp: []string{nowhere}})
	require.NoError(t, err)
	defer e.Close()
	assert.ErrorContains(t, e.Finish(), "the evidence does not fit in 512 MiB of memory, and cannot be sorted on disk")

	dir := t.TempDir()
	e, err = evidence.Open(path, evidence.Options{Room: 1, Temp: []string{nowhere, dir}})
	require.NoError(t, err)
	require.NoError(t, e.Finish())
	require.NoError(t, e.Close())
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Empty(t, left, "nothing is left behind")
	_, err = evidence.Open(filepath.Join(dir, "none"), evidence.Options{})
	assert.Error(t, err)
}

// Each command is handed on once, with its answer where one is known.
func TestCommands(t *testing.T) {
	path := filepath.Join(t.TempDir(), "ledger")
	w, err := ledger.Create(path, "k3f9a2xy", "skerry-roads", start)
	require.NoError(t, err)
	w.Stream(0, ledger.Stream{Device: "buoy-1", Kind: "buoy", Reading: "state"})
	w.Flush()
	p := w.Page()
	command := func(n uint64, asks bool) {
		p.Command(&ledger.Command{Number: n, Device: "buoy-1", At: start, Asks: asks})
	}
	command(5, true) // never answered
	command(1, false)
	command(2, true)
	p.Answer(2, &ledger.Answer{Due: start, How: ledger.Never})
	command(3, true)
	p.Answer(3, &ledger.Answer{Due: start, How: ledger.Right, Body: []byte("yes")})
	p.Told(3, start.UnixNano(), start.Add(time.Second).UnixNano(), outcome.Accepted, 7, "fine")
	command(4, true)
	p.Answer(4, &ledger.Answer{Due: start, How: ledger.Wrong})
	p.Told(9, start.UnixNano(), start.UnixNano(), outcome.Accepted, 0, "of none")
	p.Told(5, start.UnixNano(), start.UnixNano(), outcome.Accepted, 0, "that was not answered")
	p.Answer(8, &ledger.Answer{Due: start})
	require.NoError(t, w.Close())
	e, err := evidence.Open(path, evidence.Options{})
	require.NoError(t, err)
	defer e.Close()
	var got []string
	e.Commands.See = func(c *ledger.Command) {
		text := fmt.Sprint(c.Number)
		if a := c.Answer; a != nil {
			text += fmt.Sprintf(" %s %v %d %q %t", a.How, a.Outcome, a.Code, a.Text, a.At.Equal(start.Add(time.Second)))
		}
		got = append(got, text)
	}
	require.NoError(t, e.Finish())
	assert.Equal(t, []string{"1", `2 never ` + fmt.Sprint(outcome.Open) + ` 0 "" false`, `3 right ` + fmt.Sprint(outcome.Accepted) + ` 7 "fine" true`,
		`4 wrong ` + fmt.Sprint(outcome.Open) + ` 0 "" false`, "5"}, got)
}

// Of thousands of messages, seen in no order, before and after they stand in the ledger, each has one case.
func TestManyMessages(t *testing.T) {
	const n = 4000
	path := filepath.Join(t.TempDir(), "ledger")
	w, err := ledger.Create(path, "k3f9a2xy", "skerry-roads", start)
	require.NoError(t, err)
	w.Stream(0, ledger.Stream{Device: "buoy-1", Kind: "buoy", Reading: "state"})
	w.Witness(0, &ledger.Witness{Name: "ear"})
	w.Flush()
	p, ear := w.Page(), w.WitnessPage(0)
	body := func(seq int) []byte { return fmt.Appendf(nil, `{"a":%d}`, seq) }
	order := rand.New(rand.NewPCG(1, 7)).Perm(n)
	for i, k := range order {
		if i == n/2 {
			w.Flush()
			for seq := range n {
				p.Due(0, uint64(seq+1), 1, start.UnixNano(), ledger.ToKeep, 0, body(seq))
			}
			w.Flush()
		}
		ear.Sighting(&ledger.Sighting{Seen: start, Seq: uint64(k + 1), Values: body(k)})
	}
	require.NoError(t, w.Close())
	for _, room := range []int64{20_000, 1 << 40} {
		e, err := evidence.Open(path, evidence.Options{Room: room, Same: same, Temp: []string{t.TempDir()}})
		require.NoError(t, err)
		require.NoError(t, e.Finish())
		last := uint64(0)
		require.NoError(t, e.Cases(func(c *evidence.Case) error {
			last++
			require.Equal(t, last, c.Seq)
			require.True(t, c.Known && len(c.Sightings) == 1 && c.Sightings[0].Same, "%+v", c)
			return nil
		}))
		assert.EqualValues(t, n, last)
		assert.Equal(t, room < 1<<40, e.Sorted > 1)
		require.NoError(t, e.Close())
	}
}
