package ledger

import (
	"encoding/binary"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/clock"
	"runcrowd/internal/outcome"
)

// documented are the fields of each type of record.
func documented() map[byte][]string {
	table := map[byte][]string{}
	for rec := range records {
		if records[rec].fields == nil {
			continue
		}
		c := coder{mode: tells}
		records[rec].fields(&c, &entry{Record: Record{Command: &Command{}, Answer: &Answer{}}})
		table[byte(rec)] = c.said
	}
	return table
}

// The package's comment lists the records as they are.
func TestTheCommentListsTheRecords(t *testing.T) {
	var b strings.Builder
	table := documented()
	for rec := recStart; rec < len(records); rec++ {
		fmt.Fprintf(&b, "//\t%2d  %s\n//\t    %s\n", rec, records[rec].says, strings.Join(table[byte(rec)], ", "))
	}
	text, err := os.ReadFile("doc.go")
	require.NoError(t, err)
	head, rest, _ := strings.Cut(string(text), "// The records, by type:\n//\n")
	_, tail, _ := strings.Cut(rest, "//\n// Blocks are written")
	want := head + "// The records, by type:\n//\n" + b.String() + "//\n// Blocks are written" + tail
	if *update {
		require.NoError(t, os.WriteFile("doc.go", []byte(want), 0o644))
	}
	assert.Equal(t, want, string(text), "go test ./internal/ledger -update writes it")
}

var update = flag.Bool("update", false, "write the list of records into the comment")

// consume takes a value of a documented type off the front of a record.
func consume(t *testing.T, b []byte, field string) []byte {
	t.Helper()
	_, typ, _ := strings.Cut(field, " ")
	switch {
	case typ == "uint":
		_, n := binary.Uvarint(b)
		require.Positive(t, n, field)
		return b[n:]
	case typ == "int" || typ == "time":
		_, n := binary.Varint(b)
		require.Positive(t, n, field)
		return b[n:]
	case typ == "byte" || typ == "bool":
		require.NotEmpty(t, b, field)
		require.True(t, typ == "byte" || b[0] < 2, field)
		return b[1:]
	case typ == "text" || typ == "bytes":
		size, n := binary.Uvarint(b)
		require.Positive(t, n, field)
		require.LessOrEqual(t, size, uint64(len(b)-n), field)
		return b[n+int(size):]
	case strings.HasPrefix(typ, "list("):
		count, n := binary.Uvarint(b)
		require.Positive(t, n, field)
		b = b[n:]
		for range count {
			for _, part := range strings.Split(strings.TrimSuffix(strings.TrimPrefix(typ, "list("), ")"), ", ") {
				b = consume(t, b, part)
			}
		}
		return b
	}
	require.Fail(t, "the comment names a type that is none", field)
	return nil
}

// What the package's comment says of the file holds: every sort of record is read by the
// comment alone, and to its last byte.
func TestTheCommentSaysWhatIsWritten(t *testing.T) {
	path := filepath.Join(t.TempDir(), "ledger")
	start := time.Unix(1_900_000_000, 0)
	w, err := Create(path, "k3f9a2xy", "harbour", start)
	require.NoError(t, err)
	w.Stream(0, Stream{Device: "buoy-1", Kind: "buoy", Reading: "state", QoS0: true, Unseen: []int{1, 300},
		Tolerances: map[string]float64{"a": 0.5}, Units: map[string]string{"a": "m"}})
	w.Witness(0, &Witness{Name: "ear", Proof: "received", Within: time.Second,
		Fields: map[string]FieldRule{"at": {Ignored: true}, "wave_m": {As: "h", Factor: 100}}})
	w.Alert(0, &Alert{Name: "low-battery", Within: time.Second, Fields: []string{"battery_v"}})
	w.Round(Round{N: 1, Begin: start, End: start.Add(time.Minute)})
	p := w.WitnessPage(0)
	p.Due(0, 1, 1, start.UnixNano(), ToKeep, 0, []byte(`{"a":1}`))
	p.Sent(0, 1, start.UnixNano()+1, false)
	p.Copied(0, 1, start.UnixNano()+1)
	p.Done(&Done{Event: "outage", Round: 1, Action: Action{"offline", "", "cut"}, At: start, Broke: true, Disturbs: true,
		Why: "no"})
	p.Settled(0, 1, start.UnixNano()+2, 2, 135, "no")
	p.Sighting(&Sighting{Seen: start, Stored: start, Seq: 1, FiledDevice: "x", Again: true, Values: []byte("{}")})
	p.Said(0, &Said{Device: "buoy-1", Seen: start, Text: "{}", Perhaps: true})
	p.Gap(0, &Gap{From: start, Kept: true, Why: "cut"})
	p.Count(0, 0, true, start, 3)
	p.Clock(0, -time.Second, time.Second)
	p.Heard(0, 1, false, "why")
	p.Link(&LinkEvent{At: start, What: NotHearing, Place: "ask", Why: "no"})
	p.Command(&Command{Number: 1, Device: "buoy-1", At: start, Did: []Action{{"set", "a", "1"}, {"send", "state", "2"}}})
	p.Answer(1, &Answer{Due: start, How: Wrong, Body: []byte("x")})
	p.Told(1, 0, start.UnixNano(), 1, 0, "")
	w.Over(1, start, time.Time{}, 3)
	w.Left("sea", 2, time.Minute)
	w.Retained("sea", 3)
	w.Still(start, start.Add(time.Second))
	w.Turns(clock.Turns{Looks: 9, Late: [4]int{3, 2, 1, 0}})
	w.End(true)
	require.NoError(t, w.Close())
	again, err := Reopen(path)
	require.NoError(t, err)
	again.Resumed(Resumed{At: start.Add(time.Hour), Stopped: start, Killed: true})
	again.Skipped(0, 2, 9)
	require.NoError(t, again.Close())

	b, err := os.ReadFile(path)
	require.NoError(t, err)
	require.Equal(t, header, string(b[:len(header)]))
	table, seen := documented(), map[byte]bool{}
	for b = b[headerSize:]; len(b) > 0; {
		size := binary.BigEndian.Uint32(b[keySize:])
		body := b[pageHead : frameSize+size]
		b = b[frameSize+size:]
		for len(body) > 0 {
			fields := table[body[0]]
			require.NotEmpty(t, fields, "a record of type %d is not in the comment", body[0])
			seen[body[0]] = true
			body = body[1:]
			for _, f := range fields {
				body = consume(t, body, f)
			}
		}
	}
	assert.Len(t, seen, len(table), "every sort of record was written")
	assert.Len(t, table, len(records)-1)
}

// A page never waits for the disk: here it takes nothing at all for a while.
func TestPagesDoNotWaitForTheDisk(t *testing.T) {
	r, slow, err := os.Pipe()
	require.NoError(t, err)
	defer r.Close()
	w := &Writer{file: slow, start: time.Unix(0, 0), failed: make(chan struct{}), bell: make(chan struct{}, 1),
		stop: make(chan struct{}), done: make(chan struct{})}
	w.own = w.Page()
	p := w.Page()
	go w.flusher()
	written := make(chan struct{})
	go func() {
		for seq := range uint64(100_000) {
			p.Due(0, seq+1, 1, 1, ToKeep, 0, make([]byte, 100))
		}
		close(written)
	}()
	select {
	case <-written: // ten megabytes, of which the pipe took 64 KB
	case <-time.After(30 * time.Second):
		require.Fail(t, "the page waits for the disk")
	}
	got := make(chan int)
	go func() {
		n, buf := 0, make([]byte, 1<<20)
		for {
			k, err := r.Read(buf)
			n += k
			if err != nil {
				break
			}
		}
		got <- n
	}()
	require.NoError(t, w.Close())
	assert.Greater(t, <-got, 10_000_000, "nothing was left out")
}

// A disk that takes nothing for too long ends the run in words.
func TestSlowDisk(t *testing.T) {
	w := &Writer{start: time.Unix(0, 0), failed: make(chan struct{}), bell: make(chan struct{}, 1)}
	p := w.Page()
	for range maxWaiting/pageSize + 1 {
		p.Due(0, 1, 1, 1, ToKeep, 0, make([]byte, pageSize))
	}
	<-w.Failed()
	assert.ErrorIs(t, w.Err(), ErrSlowDisk)
}

// raw writes a ledger with right checksums, in which any bytes stand as records.
func raw(t testing.TB, path string, records []byte) {
	w, err := Create(path, "k3f9a2xy", "harbour", time.Unix(1_900_000_000, 0))
	require.NoError(t, err)
	w.Stream(0, Stream{Device: "buoy-1", Reading: "state"})
	w.Witness(0, &Witness{Name: "ear", Proof: "received"})
	w.Alert(0, &Alert{Name: "low"})
	w.Round(Round{N: 1, Begin: time.Unix(1_900_000_001, 0)})
	w.Flush()
	p := w.Page()
	p.Due(0, 1, 1, 5, ToKeep, 0, []byte(`{"a":1}`))
	p.mu.Lock()
	p.c.buf = append(p.c.buf, records...)
	p.mu.Unlock()
	w.Flush()
	w.End(false)
	require.NoError(t, w.Close())
}

// inBounds holds all places that a ledger names against what it has.
func inBounds(t *testing.T, b *Book) {
	stream := func(i int, least int) { require.True(t, i >= least && i < len(b.Streams), "stream %d", i) }
	for i := range b.Links.Devices {
		stream(i, 0)
	}
	for e := range b.Links.Closings {
		stream(e.Stream, 0)
	}
	for i := range b.Actions.Breaks {
		stream(i, 0)
	}
	for _, s := range b.Sightings {
		stream(s.Stream, -1)
		require.True(t, s.Witness >= 0)
	}
	for _, a := range b.Alerts {
		require.True(t, a.Witness >= 0 && a.Witness < len(b.Witnesses))
		for _, x := range a.Said {
			stream(x.Stream, -1)
		}
	}
	for _, w := range b.Witnesses {
		for _, m := range []map[int]int64{w.Before, w.Now} {
			for i := range m {
				stream(i, -1)
			}
		}
	}
	for _, list := range b.Messages {
		for i := range list {
			require.LessOrEqual(t, list[i].Outcome, outcome.Dropped)
			require.LessOrEqual(t, list[i].Meant, ToKeepOne)
		}
	}
}

// least is a documented value with nothing in it; of a number, another may stand there.
func least(field string, number uint64) []byte {
	switch _, typ, _ := strings.Cut(field, " "); typ {
	case "uint":
		return binary.AppendUvarint(nil, number)
	case "byte":
		return []byte{byte(number)}
	}
	return []byte{0} // no text, no time, false, an empty list
}

// beyond are records of every sort, in which one number after the other is beyond all bounds.
func beyond() (list [][]byte) {
	for kind, fields := range documented() {
		for k := range fields {
			for _, number := range []uint64{1 << 63, 1<<64 - 1, 1 << 62, 200} {
				record := []byte{kind}
				for i, f := range fields {
					n := uint64(0)
					if i == k {
						n = number
					}
					record = append(record, least(f, n)...)
				}
				list = append(list, record)
			}
		}
	}
	return list
}

// Whatever numbers stand in a block with a right checksum, and whatever bytes, they end no program, and
// name no stream, witness or alert that is none.
func FuzzRecords(f *testing.F) {
	for _, record := range beyond() {
		f.Add(record)
	}
	path := filepath.Join(f.TempDir(), "fuzz")
	f.Fuzz(func(t *testing.T, records []byte) {
		os.Remove(path)
		raw(t, path, records)
		if b, err := Read(path); err == nil {
			inBounds(t, b)
		}
	})
}
