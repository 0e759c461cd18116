// Package witnesstest gives tests of witnesses what they stand on: the fleet of a small crowd
// file, a ledger, what is expected of a hearing; and tells in lines what was noted.
package witnesstest

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"runcrowd/internal/clock"
	"runcrowd/internal/credential"
	"runcrowd/internal/crowd/file"
	"runcrowd/internal/fleet"
	"runcrowd/internal/ledger"
	"runcrowd/internal/strictjson"
	"runcrowd/internal/witness/hearing"
	"runcrowd/internal/witness/match"
)

// Run is the id of the run.
const Run = "k3f9a2xy"

// World is a witness's base, and the ledger that it writes into.
type World struct {
	*hearing.Base
	Fleet *fleet.Fleet

	t     testing.TB
	began time.Time
	path  string
	w     *ledger.Writer
	close func() error // the ledger, once
}

// New makes a world of a crowd file, and the base of its first witness. Files that the crowd
// names are looked for in dir.
func New(t testing.TB, dir, text string) *World {
	t.Helper()
	c, err := file.Parse(filepath.Join(dir, "crowd.yaml"), []byte(text), file.Sources{Getenv: os.LookupEnv})
	require.NoError(t, err)
	f, err := fleet.Build(c, credential.New(c))
	require.NoError(t, err)
	w := &World{Fleet: f, t: t, began: clock.Now(), path: filepath.Join(t.TempDir(), "ledger")}
	w.w, err = ledger.Create(w.path, Run, c.Name, w.began)
	require.NoError(t, err)
	w.close = sync.OnceValue(w.w.Close)
	t.Cleanup(func() { w.close() })
	for i, s := range f.Streams {
		w.w.Stream(i, ledger.Stream{Device: s.Device.Name, Kind: s.Device.Cast.Kind.Name, Reading: s.Reading.Name})
	}
	for i, x := range c.Witnesses {
		w.w.Witness(i, &ledger.Witness{Name: x.Name, Proof: string(x.Proves), Listens: x.Listens()})
	}
	for i, a := range c.Alerts {
		w.w.Alert(i, &ledger.Alert{Name: a.Name})
	}
	w.Base, err = hearing.New(c.Witnesses[0], 0, match.NewCatalog(f, Run), w.w.WitnessPage(0))
	require.NoError(t, err)
	w.w.Flush()
	return w
}

// Mark is the mark of a message of a stream.
func (w *World) Mark(stream int, seq uint64) string {
	s := w.Fleet.Streams[stream]
	return ledger.Mark{Run: Run, Device: s.Device.Name, Reading: s.Reading.Name, Seq: seq}.String()
}

// Row is a JSON value, in which «N» stands for the mark of message N of the first stream, and
// «S.N» for that of message N of stream S; «@5s» for the time five seconds after the world began.
func (w *World) Row(text string) any {
	w.t.Helper()
	v, err := strictjson.Decode([]byte(w.Text(text)))
	require.NoError(w.t, err, text)
	return v
}

// Text is a text with the marks that stand in it.
func (w *World) Text(text string) string {
	for {
		before, rest, found := strings.Cut(text, "«")
		if !found {
			return text
		}
		of, after, _ := strings.Cut(rest, "»")
		if d, err := time.ParseDuration(strings.TrimPrefix(of, "@")); err == nil && of[0] == '@' {
			text = before + w.began.Add(d).UTC().Format(time.RFC3339Nano) + after
			continue
		}
		stream, seq := 0, uint64(0)
		if n, _ := fmt.Sscanf(of, "%d.%d", &stream, &seq); n != 2 {
			stream = 0
			fmt.Sscanf(of, "%d", &seq)
		}
		text = before + w.Mark(stream, seq) + after
	}
}

// Noted closes the ledger, and tells what the witness noted, a line each.
func (w *World) Noted() (lines []string) {
	w.t.Helper()
	require.NoError(w.t, w.close())
	b, err := ledger.Read(w.path)
	require.NoError(w.t, err)
	add := func(words ...string) {
		lines = append(lines, strings.Join(slices.DeleteFunc(words, func(s string) bool { return s == "" }), " "))
	}
	say := func(is bool, word string) string {
		if is {
			return word
		}
		return ""
	}
	for _, x := range b.Sightings {
		at := fmt.Sprintf("stray %s/%s", x.Device, x.Reading)
		if x.Stream >= 0 {
			at = b.Streams[x.Stream].Device + "/" + b.Streams[x.Stream].Reading
		}
		filed := x.FiledDevice + "/" + x.FiledReading
		add(fmt.Sprintf("%s/%d", at, x.Seq), say(filed != "/", "at "+filed), say(x.Again, "again"),
			say(x.Perhaps, "perhaps"), say(x.Unsure, "unsure"), say(x.Row != 0, "row"),
			say(!x.Stored.IsZero(), "stored "+w.Since(x.Stored)), string(x.Values))
	}
	for _, a := range b.Alerts {
		for _, s := range a.Said {
			add(a.Name, "of", s.Device, say(s.Stream < 0, "unknown"), say(s.Perhaps, "perhaps"),
				say(!s.Stored.IsZero(), "stored "+w.Since(s.Stored)), s.Text)
		}
	}
	wit := b.Witnesses[0]
	for _, g := range wit.Gaps {
		to := "the end"
		if !g.To.IsZero() {
			to = w.Since(g.To)
		}
		add("gap", w.Since(g.From), "to", to, say(g.Kept, "kept"), say(g.Lag, "lag"), say(g.Whole, "whole"), g.Why)
	}
	for _, why := range slices.Sorted(maps.Keys(b.Links.Remarks)) {
		add("remark", why)
	}
	counts := func(name string, m map[int]int64) {
		for i := -1; i < len(b.Streams); i++ {
			if n, has := m[i]; has {
				add(name, fmt.Sprint(i), fmt.Sprint(n), "from", w.Since(wit.From))
			}
		}
	}
	counts("before", wit.Before)
	counts("now", wit.Now)
	if wit.Clock != nil {
		add("clock", wit.Clock.Least.String(), "to", wit.Clock.Most.String())
	}
	return lines
}

// Since is a time, as what has passed since the world began.
func (w *World) Since(t time.Time) string { return t.Sub(w.began).Round(time.Millisecond).String() }

// Expect is what is expected of a round: of each stream, messages 1 to its number.
type Expect struct {
	Last  map[int]uint64
	First map[int]uint64          // nil: 1
	Out   map[int]map[uint64]bool // excused
	Alarm bool                    // a message may have called for an alert
}

// Messages expects messages 1 to n of the first stream.
func Messages(n uint64) Expect { return Expect{Last: map[int]uint64{0: n}} }

// Range implements hearing.Expect.
func (e Expect) Range(stream int) (from, to uint64) {
	if e.Last[stream] == 0 {
		return 0, 0
	}
	return max(1, e.First[stream]), e.Last[stream] + 1
}

// Excused implements hearing.Expect.
func (e Expect) Excused(stream int, seq uint64) bool { return e.Out[stream][seq] }

// Calls implements hearing.Expect.
func (e Expect) Calls() bool { return e.Alarm }
