package ledger_test

import (
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/ledger"
	"runcrowd/internal/outcome"
)

// small is a ledger of two streams with five messages each, all seen by a witness.
func small(t *testing.T, more func(w *ledger.Writer, page, witness *ledger.Page, start time.Time)) string {
	t.Helper()
	path, start := filepath.Join(t.TempDir(), "ledger"), time.Now()
	w, err := ledger.Create(path, "k3f9a2xy", "harbour", start)
	require.NoError(t, err)
	for i := range 2 {
		w.Stream(i, ledger.Stream{Device: fmt.Sprint("buoy-", i+1), Kind: "buoy", Reading: "state"})
	}
	w.Witness(0, &ledger.Witness{Name: "ear", Proof: "received", Listens: true})
	w.Alert(0, &ledger.Alert{Name: "low"})
	w.Round(ledger.Round{N: 1, Begin: start, End: start.Add(time.Minute)})
	page, witness := w.Page(), w.WitnessPage(0)
	w.Flush()
	for stream := range 2 {
		for seq := range uint64(5) {
			at := start.Add(time.Duration(seq) * time.Second).UnixNano()
			page.Due(stream, seq+1, 1, at, ledger.ToKeep, 0, []byte(`{"a":1}`))
			page.Sent(stream, seq+1, at, false)
			page.Settled(stream, seq+1, at+1000, outcome.Accepted, 0, "")
			witness.Sighting(&ledger.Sighting{Stream: stream, Seq: seq + 1, Seen: start})
		}
	}
	if more != nil {
		more(w, page, witness, start)
	}
	require.NoError(t, w.Close())
	return path
}

// A part of a ledger is read from the first to the last of its messages, both included, of one stream.
func TestReadingAPart(t *testing.T) {
	path := small(t, func(_ *ledger.Writer, page, _ *ledger.Page, start time.Time) {
		page.Command(&ledger.Command{Number: 1, Device: "buoy-2", At: start})
	})
	b, err := ledger.ReadOf(path, 1, 2, 4)
	require.NoError(t, err)
	var got []string
	for stream, list := range b.Messages {
		for _, m := range list {
			if !m.Due.IsZero() {
				got = append(got, fmt.Sprintf("%d.%d", stream, m.Seq))
			}
		}
	}
	assert.Equal(t, []string{"1.2", "1.3", "1.4"}, got)
	got = nil
	for _, s := range b.Sightings {
		got = append(got, fmt.Sprintf("%d.%d", s.Stream, s.Seq))
	}
	assert.Equal(t, []string{"1.2", "1.3", "1.4"}, got)
	assert.Len(t, b.Messages, 2, "a list for each stream")
	assert.Empty(t, b.Commands, "they are of no message")
}

// What is of a stream, a witness or an alert that the ledger does not define, the next after the last,
// is damage or nothing; it ends no program.
func TestWhatIsOfNothing(t *testing.T) {
	for name, more := range map[string]func(w *ledger.Writer, page, witness *ledger.Page, start time.Time){
		"a sighting": func(_ *ledger.Writer, _, witness *ledger.Page, start time.Time) {
			witness.Sighting(&ledger.Sighting{Stream: 2, Seq: 1, Seen: start})
		},
		"a sighting of a witness": func(_ *ledger.Writer, _, witness *ledger.Page, start time.Time) {
			witness.Sighting(&ledger.Sighting{Witness: 1, Stream: 0, Seq: 1, Seen: start})
		},
		"what was said of an alert": func(_ *ledger.Writer, _, witness *ledger.Page, start time.Time) {
			witness.Said(0, &ledger.Said{Alert: 1, Seen: start})
		},
		"what was said of a stream": func(_ *ledger.Writer, _, witness *ledger.Page, start time.Time) {
			witness.Said(0, &ledger.Said{Alert: 0, Stream: 2, Seen: start})
		},
		"a count": func(_ *ledger.Writer, _, witness *ledger.Page, start time.Time) {
			witness.Count(0, 2, true, start, 7)
		},
		"a connection": func(_ *ledger.Writer, page, _ *ledger.Page, start time.Time) {
			page.Link(&ledger.LinkEvent{Stream: 2, At: start, What: ledger.Up})
		},
		"a closing": func(_ *ledger.Writer, page, _ *ledger.Page, start time.Time) {
			page.Link(&ledger.LinkEvent{At: start, What: ledger.Down, Times: 1, After: ledger.Entry{Stream: 2, Seq: 1}})
		},
		"what was done": func(_ *ledger.Writer, page, _ *ledger.Page, start time.Time) {
			page.Done(&ledger.Done{Stream: 2, Event: "outage", At: start})
		},
		"a message": func(_ *ledger.Writer, page, _ *ledger.Page, start time.Time) {
			page.Due(2, 1, 1, start.UnixNano(), ledger.ToKeep, 0, []byte(`{}`))
		},
	} {
		b, err := ledger.Read(small(t, more))
		if name != "a sighting of a witness" {
			assert.Error(t, err, name)
			continue
		}
		require.NoError(t, err, name)
		assert.Equal(t, 5, len(b.Messages[0]), name)
		assert.Equal(t, 10, b.Witnesses[0].Sightings, name)
	}
}

// A ledger that is reopened again and again keeps all that was written each time.
func TestReopenedAgain(t *testing.T) {
	path := small(t, nil)
	for n := range 4 {
		w, err := ledger.Reopen(path)
		require.NoError(t, err)
		w.WitnessPage(0).Sighting(&ledger.Sighting{Stream: 1, Seq: uint64(n + 1), Seen: time.Now()})
		require.NoError(t, w.Close())
		b, err := ledger.Read(path)
		require.NoError(t, err)
		assert.Empty(t, b.Damage)
		assert.Zero(t, b.Torn)
		assert.Len(t, b.Sightings, 10+n+1)
	}
}

// A new connection is one, and one that was renewed is renewed once.
func TestConnectionsAreCounted(t *testing.T) {
	path := small(t, func(_ *ledger.Writer, page, _ *ledger.Page, start time.Time) {
		for _, what := range []ledger.LinkChange{ledger.Up, ledger.Up, ledger.Renewed, ledger.Up} {
			page.Link(&ledger.LinkEvent{At: start, What: what})
		}
	})
	b, err := ledger.Read(path)
	require.NoError(t, err)
	assert.Equal(t, 1, b.Links.Renewed)
	assert.Equal(t, 4, b.Links.Devices[0].Ups)
}

// The digest of a message is SplitMix64's (its first two numbers from the seeds 0 and 1234567, as
// the reference gives them).
func TestDigest(t *testing.T) {
	assert.Equal(t, uint64(0xe220a8397b1dcdaf), ledger.Digest(0, 0))
	assert.Equal(t, uint64(6457827717110365317), ledger.Digest(0, 1234567))
	assert.Equal(t, uint64(3203168211198807973), ledger.Digest(1, 1234567))
}
