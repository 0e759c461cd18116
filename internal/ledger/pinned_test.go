package ledger_test

import (
	"fmt"
	"hash/fnv"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/cryptotest"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"runcrowd/internal/clock"
	"runcrowd/internal/ledger"
	"runcrowd/internal/ledger/ledgertest"
	"runcrowd/internal/outcome"
)

// everything writes a ledger of records of every sort, in blocks of a few each, and reopens it.
func everything(t *testing.T, path string) {
	start := ledgertest.Start
	at := func(s int) time.Time { return start.Add(time.Duration(s) * time.Second) }
	w, err := ledger.Create(path, "k3f9a2xy", "skerry-roads", start)
	require.NoError(t, err)
	for i := range 3 {
		w.Stream(i, ledger.Stream{Device: fmt.Sprint("buoy-", i), Kind: "buoy", Reading: "state", QoS0: i == 1})
	}
	w.Witness(0, &ledger.Witness{Name: "ear", Proof: "received", Listens: true})
	w.Witness(1, &ledger.Witness{Name: "store", Proof: "stored"})
	w.Alert(0, &ledger.Alert{Name: "low", Witness: 0, Within: time.Second})
	w.Flush()
	pages := []*ledger.Page{w.Page(), w.WitnessPage(0), w.WitnessPage(1), w.Page()}
	for round := range 3 {
		w.Round(ledger.Round{N: round + 1, Begin: at(20 * round), End: at(20*round + 10)})
		w.Flush()
		for n := range 12 {
			time.Sleep(371 * time.Millisecond) // of the bubble: blocks are written at different times, never at two hands at once
			stream, seq := n%3, uint64(4*round+n/3+1)
			due := at(20*round + n)
			p := pages[3*(stream%2)]
			p.Due(stream, seq, round+1, due.UnixNano(), ledger.Meant(n%4), uint64(n), []byte(fmt.Sprintf(`{"n":%d}`, n)))
			p.Sent(stream, seq, due.Add(time.Millisecond).UnixNano(), n == 5)
			if n == 6 {
				p.Copied(stream, seq, due.UnixNano())
			}
			p.Settled(stream, seq, due.Add(2*time.Millisecond).UnixNano(), outcome.Outcome(n%4), n, "said")
			for wit := range 2 {
				pages[1+wit].Sighting(&ledger.Sighting{Witness: wit, Seen: due.Add(5 * time.Millisecond), Stream: stream, Seq: seq,
					Values: []byte(`{"n":1}`), Row: uint64(n)})
			}
			if n%4 == 3 {
				w.Flush()
			}
		}
		pages[1].Gap(0, &ledger.Gap{From: at(20*round + 2), To: at(20*round + 3), Why: "cut"})
		pages[1].Said(0, &ledger.Said{Alert: 0, Stream: 0, Device: "buoy-0", Seen: at(20 * round), Text: "low"})
		pages[2].Count(1, -1, round == 0, at(0), int64(round))
		pages[2].Clock(1, -time.Second, time.Second)
		pages[0].Link(&ledger.LinkEvent{At: at(20 * round), What: ledger.Down, Why: "cut"})
		pages[0].Done(&ledger.Done{Event: "outage", Round: round + 1, Action: ledger.Action{Kind: "offline"}, At: at(20 * round), Lasts: true,
			Disturbs: true, Broke: true})
		pages[0].Command(&ledger.Command{Number: uint64(round + 1), Device: "buoy-0", At: at(20 * round), Asks: true})
		pages[0].Answer(uint64(round+1), &ledger.Answer{Due: at(20 * round), Body: []byte("ok")})
		pages[0].Told(uint64(round+1), at(20*round).UnixNano(), at(20*round).UnixNano(), outcome.Accepted, 0, "")
		w.Flush()
		for wit := range 2 {
			pages[1+wit].Heard(wit, round+1, true, "")
		}
		w.Over(round+1, at(20*round+11), at(20*round+11), round)
		w.Flush()
	}
	w.Still(at(5), at(6))
	w.Turns(clock.Turns{Looks: 9})
	w.Left("sea", 2, time.Minute)
	w.Retained("sea", 3)
	w.End(false)
	require.NoError(t, w.Close())
	again, err := ledger.Reopen(path)
	require.NoError(t, err)
	p := again.WitnessPage(1)
	p.Sighting(&ledger.Sighting{Witness: 1, Seen: at(90), Stream: 0, Seq: 1, Values: []byte(`{"n":7}`)})
	p.Heard(1, 3, true, "")
	require.NoError(t, again.Close())
}

// told is what is read of a ledger, without the times of writing.
func told(path string, all bool) string {
	b, err := ledger.Read(path)
	if err != nil {
		return err.Error()
	}
	var text strings.Builder
	holes := 0
	for _, list := range b.Messages {
		for _, m := range list {
			if m.Hole {
				holes++
			}
		}
	}
	h := fnv.New64a()
	if all {
		io.WriteString(h, ledgertest.Dump(b.Facts))
	}
	fmt.Fprintf(&text, "ended %t lost %t torn %d damage %v; streams %d last %v holes %d; sightings %d commands %d rounds %d", b.Ended, b.Lost,
		b.Torn, b.Damage, len(b.Streams), b.Last, holes, len(b.Sightings), len(b.Commands), len(b.Rounds))
	for _, w := range b.Witnesses {
		heard := []int{}
		for n, h := range w.Heard {
			if h.Complete {
				heard = append(heard, n)
			}
		}
		slices.Sort(heard)
		lost := uint64(0)
		for _, l := range w.Lost {
			lost += l.N
		}
		open := 0
		for _, g := range w.Gaps {
			fmt.Fprint(h, g)
			if g.To.IsZero() {
				open++
			}
		}
		fmt.Fprintf(&text, "; %s %d sightings, heard %v, %d gaps (%d open), %d lost in %d parts", w.Name, w.Sightings, heard, len(w.Gaps), open, lost,
			len(w.Lost))
	}
	fmt.Fprintf(&text, "; all of it %x", h.Sum64())
	return text.String()
}

// What is read of a ledger that is damaged somewhere, cut, or lacks or repeats a part: a change of
// any of it is noticed.
func TestWhatIsReadOfDamage(t *testing.T) {
	if testing.Short() {
		t.Skip("not in the short tier")
	}
	dir := t.TempDir()
	path := filepath.Join(dir, "ledger")
	cryptotest.SetGlobalRandom(t, 1907) // a key of chance can look like what stands behind a part that is lacking
	synctest.Test(t, func(t *testing.T) { everything(t, path) })
	whole, err := os.ReadFile(path)
	require.NoError(t, err)
	b, err := ledger.Read(path)
	require.NoError(t, err)
	facts := b.Facts
	var text strings.Builder
	fmt.Fprintf(&text, "%d bytes: %s\n%s", len(whole), told(path, true), ledgertest.Dump(facts))
	text.WriteString(ledgertest.Dump(struct {
		Messages  [][]ledger.Message
		Commands  []ledger.Command
		Sightings int
	}{b.Messages, b.Commands, len(b.Sightings)}))
	read := func(data []byte, all bool) string {
		broken := filepath.Join(dir, "broken")
		require.NoError(t, os.WriteFile(broken, data, 0o600))
		return strings.ReplaceAll(told(broken, all), broken, "ledger")
	}
	try := func(name string, data []byte) { fmt.Fprintf(&text, "%s: %s\n", name, read(data, true)) }
	for at := 30; at < len(whole); at += 131 {
		flipped := slices.Clone(whole)
		flipped[at] ^= 0x55
		try(fmt.Sprint("flipped at ", at), flipped)
		if at%2 == 0 {
			try(fmt.Sprint("cut at ", at), whole[:at])
			try(fmt.Sprint("without 300 at ", at), slices.Delete(slices.Clone(whole), at, min(len(whole), at+300)))
			try(fmt.Sprint("200 twice at ", at), slices.Insert(slices.Clone(whole), at, whole[max(0, at-200):at]...))
		}
	}
	for from := 100; from < len(whole); from += 500 { // and of more bytes, what it comes to
		h := fnv.New64a()
		for at := from; at < min(from+500, len(whole)); at += 3 {
			flipped := slices.Clone(whole)
			flipped[at] ^= 1 << (at % 8)
			io.WriteString(h, read(flipped, false))
			if at%5 == 0 {
				io.WriteString(h, read(whole[:at], false)+read(slices.Delete(slices.Clone(whole), at, min(len(whole), at+40+at%97)), false))
			}
		}
		fmt.Fprintf(&text, "all from %d: %x\n", from, h.Sum64())
	}
	ledgertest.Pinned(t, "testdata/damage.txt", text.String())
}
