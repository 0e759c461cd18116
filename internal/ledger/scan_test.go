//go:build unix

package ledger

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"os"
	"path/filepath"
	"runtime"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/outcome"
)

// blocks is a ledger of a page with a block for each function, and where these blocks stand.
func blocks(t *testing.T, of ...func(p *Page)) (path string, at []int64) {
	path = filepath.Join(t.TempDir(), "ledger")
	w, err := Create(path, "k3f9a2xy", "harbour", noon)
	require.NoError(t, err)
	w.Stream(0, Stream{Device: "buoy-1", Reading: "state"})
	w.Round(Round{N: 1, Begin: noon})
	w.Flush()
	p := w.Page()
	for _, write := range of {
		info, err := os.Stat(path)
		require.NoError(t, err)
		at = append(at, info.Size())
		write(p)
		w.Flush()
	}
	w.End(false)
	require.NoError(t, w.Close())
	return path, at
}

func due(seqs ...uint64) func(p *Page) {
	return func(p *Page) {
		for _, n := range seqs {
			p.Due(0, n, 1, noon.UnixNano(), ToKeep, 0, []byte(`{"a":1}`))
		}
	}
}

// flip breaks a byte of a file.
func flip(t *testing.T, path string, at int64) {
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	data[at] ^= 1
	require.NoError(t, os.WriteFile(path, data, 0o600))
}

// Numbers of messages go on one by one. Where a part of the ledger is damaged, it can have held so many, and
// no more; what is told of a message stands after it.
func TestNumbersGoOn(t *testing.T) {
	sent := func(n uint64) func(p *Page) { return func(p *Page) { p.Sent(0, n, noon.UnixNano(), false) } }
	settled := func(n uint64) func(p *Page) {
		return func(p *Page) { p.Settled(0, n, noon.UnixNano(), outcome.Accepted, 0, "") }
	}
	const hole = 3 + maxHole // the last that can come after the third
	for name, c := range map[string]struct {
		last func(p *Page)
		torn bool // the block between is damaged
		err  string
		n    uint64 // the last message then
	}{
		"the next":                     {due(7), false, "", 7},
		"the same":                     {due(6), false, "message 6 of stream 0 is out of place", 0},
		"one is left out":              {due(8), false, "message 8 of stream 0 is out of place", 0},
		"the next, after damage":       {due(7), true, "", 7},
		"right after damage":           {due(4), true, "", 4},
		"an old one":                   {due(3), true, "message 3 of stream 0 is out of place", 0},
		"as many as can be":            {due(hole), true, "", hole},
		"more than can be":             {due(hole + 1), true, fmt.Sprintf("message %d of stream 0 is out of place", hole+1), 0},
		"sent":                         {sent(6), false, "", 6},
		"sent, before it was due":      {sent(7), false, "a record of message 7 of stream 0 stands before the message", 0},
		"no message":                   {sent(0), false, "a record of message 0 of stream 0 stands before the message", 0},
		"sent, of those that are lost": {sent(6), true, "", 6},
		"settled, as far as can be":    {settled(hole), true, "", hole},
		"settled, further":             {settled(hole + 1), true, fmt.Sprintf("a record of message %d of stream 0 stands before the message", hole+1), 0},
	} {
		path, at := blocks(t, due(1, 2, 3), due(4, 5, 6), c.last)
		if c.torn {
			flip(t, path, at[1]+frameSize+bodyHead+3)
		}
		f, err := Look(path)
		if c.err != "" {
			assert.ErrorContains(t, err, c.err, name)
			continue
		}
		require.NoError(t, err, name)
		assert.Equal(t, []uint64{c.n}, f.Last, name)
		assert.Equal(t, c.torn, f.Lost, name)
		assert.Len(t, f.Damage, map[bool]int{true: 1}[c.torn], name)
	}
}

// A length that is damaged costs no memory, and its own block alone; nor do many small blocks in a row.
func TestADamagedLengthCostsNoMemory(t *testing.T) {
	path, at := blocks(t, due(1), due(2), due(3))
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	for _, length := range []uint32{0, bodyHead, bodyHead + 1, longest, longest + 1, 1<<31 - 1, 1<<32 - 1} {
		binary.BigEndian.PutUint32(data[at[1]+keySize:], length)
		require.NoError(t, os.WriteFile(path, data, 0o600))
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		f, err := Look(path)
		runtime.ReadMemStats(&after)
		require.NoError(t, err, length)
		assert.Equal(t, []uint64{3}, f.Last)
		assert.Equal(t, []Damage{{at[1], at[2] - at[1]}}, f.Damage, length)
		assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(2*longest+8*ahead), length)
	}
}

// When a run ends, and how long it stood still, is told by the last that is told of it.
func TestWhatIsToldOfTime(t *testing.T) {
	path, _ := blocks(t, func(p *Page) {
		p.Due(0, 1, 1, noon.UnixNano(), ToKeep, 0, nil)
		p.Due(0, 2, 1, noon.Add(time.Second).UnixNano(), ToKeep, 0, nil)
		p.Due(0, 3, 1, noon.Add(time.Second/2).UnixNano(), ToKeep, 0, nil) // in another round's order
		p.Due(0, 4, 2, noon.Add(time.Minute).UnixNano(), ToKeep, 0, nil)   // of a round that is none
	})
	f, err := Look(path)
	require.NoError(t, err)
	assert.True(t, f.Played.Equal(noon.Add(time.Second)), f.Played)
}

// A block may be longer than what is read at once; what is no file of its own is no ledger.
func TestLongBlocks(t *testing.T) {
	long := bytes.Repeat([]byte("x"), longest+1)
	path, _ := blocks(t, due(1), func(p *Page) { p.Due(0, 2, 1, noon.UnixNano(), ToKeep, 0, long) }, due(3))
	b, err := Read(path)
	require.NoError(t, err)
	assert.Empty(t, b.Damage)
	assert.Equal(t, long, b.Messages[0][1].Carried)
	assert.Len(t, b.Messages[0], 3)
	dir := t.TempDir()
	require.NoError(t, os.Symlink(path, filepath.Join(dir, "link")))
	require.NoError(t, syscall.Mkfifo(filepath.Join(dir, "pipe"), 0o600))
	for _, name := range []string{"link", "pipe"} {
		_, err := Read(filepath.Join(dir, name))
		assert.Equal(t, ErrNotALedger, err, name)
	}
	_, err = Read(filepath.Join(dir, "none"))
	assert.ErrorIs(t, err, os.ErrNotExist)
}

// A ledger that begins with another record than that of the run says so.
func TestAnotherBeginning(t *testing.T) {
	path, _ := blocks(t, due(1))
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	body := append(bytes.Clone(data[headerSize+frameSize:headerSize+frameSize+bodyHead]), recEnd, 0)
	frame := append(bytes.Clone(data[headerSize:headerSize+keySize]), make([]byte, 8)...)
	binary.BigEndian.PutUint32(frame[keySize:], uint32(len(body)))
	binary.BigEndian.PutUint32(frame[keySize+4:], crc32.Checksum(body, castagnoli))
	require.NoError(t, os.WriteFile(path, append(append(bytes.Clone(data[:headerSize]), frame...), body...), 0o600))
	_, err = Read(path)
	assert.ErrorContains(t, err, "stands before the one that says what run it is of")
}

// What a ledger is about is taken from its end only where it cannot be read at its beginning; where it stands at
// neither, that is an error.
func TestWhereTheDefinitionsAreRead(t *testing.T) {
	write := func(closed, round bool) (path string, second int64) {
		path = filepath.Join(t.TempDir(), "ledger")
		w, err := Create(path, "k3f9a2xy", "harbour", noon)
		require.NoError(t, err)
		w.Stream(0, Stream{Device: "buoy-1", Reading: "state"})
		w.Flush()
		info, err := os.Stat(path)
		require.NoError(t, err)
		w.Witness(0, &Witness{Name: "ear", Proof: "received"})
		w.Flush()
		if round {
			w.Round(Round{N: 1, Begin: noon})
			w.Flush()
			due(1, 2)(w.Page())
			w.Flush()
		}
		if !closed {
			data, err := os.ReadFile(path)
			require.NoError(t, err)
			defer func() { require.NoError(t, os.WriteFile(path, data, 0o600)) }() // as if the process had been killed
		}
		w.End(false)
		require.NoError(t, w.Close())
		return path, info.Size()
	}
	for _, c := range []struct {
		closed, round bool
		broken        int // 1: the first block, 2: the second
		given         bool
		err           string
	}{
		{closed: true, round: true}, {closed: true}, {round: true}, {},
		{closed: true, round: true, broken: 1, given: true}, {closed: true, round: true, broken: 2, given: true},
		{closed: true, broken: 2, given: true},
		{round: true, broken: 1, err: "where it says what run it is of"},
		{round: true, broken: 2, err: "where it says what devices and witnesses there are"},
	} {
		path, second := write(c.closed, c.round)
		switch c.broken {
		case 1:
			flip(t, path, int64(headerSize+frameSize+bodyHead+2))
		case 2:
			flip(t, path, second+frameSize+bodyHead+2)
		}
		s, err := NewScanner(path)
		require.NoError(t, err)
		assert.Equal(t, c.given, s.given, "%+v", c)
		require.NoError(t, s.Close())
		f, err := Look(path)
		if c.err != "" {
			assert.ErrorContains(t, err, c.err, "%+v", c)
			continue
		}
		require.NoError(t, err, "%+v", c)
		assert.Len(t, f.Streams, 1)
		assert.Len(t, f.Witnesses, 1)
	}
}

// So many times are kept in which a process stood still; the rest is one.
func TestStillIsBounded(t *testing.T) {
	path := filepath.Join(t.TempDir(), "ledger")
	w, err := Create(path, "k3f9a2xy", "harbour", noon)
	require.NoError(t, err)
	for i := range mostStill + 2 {
		at := noon.Add(time.Duration(i) * time.Minute)
		w.Still(at, at.Add(time.Second))
	}
	require.NoError(t, w.Close())
	f, err := Look(path)
	require.NoError(t, err)
	assert.Len(t, f.Still, mostStill)
	assert.True(t, f.Still[mostStill-1].From.Equal(noon.Add((mostStill-1)*time.Minute)))
	assert.True(t, f.Still[mostStill-1].To.Equal(noon.Add((mostStill+1)*time.Minute+time.Second)))
}

// Neighbours are one span, from whichever side they come.
func TestNeighboursAreOneSpan(t *testing.T) {
	var s Spans
	for _, n := range []uint64{9, 8, 7, 3, 4, 6, 5, 5} {
		s.Add(n)
	}
	assert.Equal(t, [][2]uint64{{3, 9}}, s.Ranges(9))
	s.Add(1)
	assert.Equal(t, [][2]uint64{{1, 1}, {3, 9}}, s.Ranges(9))
	assert.Equal(t, 8, s.Len())
}

// frames are where the blocks of a ledger stand, and behind the last.
func frames(t *testing.T, path string) (at []int64) {
	s, err := NewScanner(path)
	require.NoError(t, err)
	defer s.Close()
	for pos := int64(headerSize); ; {
		at = append(at, pos)
		body, from, err := s.frame(pos)
		require.NoError(t, err)
		if body == nil {
			return at
		}
		pos = from + int64(len(body))
	}
}

// A block that stands in the file once more is read once, also where the ledger was reopened since.
func TestABlockThatStandsTwice(t *testing.T) {
	path := filepath.Join(t.TempDir(), "ledger")
	w, err := Create(path, "k3f9a2xy", "harbour", noon)
	require.NoError(t, err)
	w.Stream(0, Stream{Device: "buoy-1", Reading: "state"})
	w.Witness(0, &Witness{Name: "ear", Proof: "received", Listens: true})
	w.Round(Round{N: 1, Begin: noon})
	w.Flush()
	due(1, 2, 3)(w.Page())
	ear := w.WitnessPage(0)
	ear.Sighting(&Sighting{Seq: 1, Seen: noon})
	w.Flush()
	ear.Sighting(&Sighting{Seq: 2, Seen: noon})
	w.End(false)
	require.NoError(t, w.Close())
	again, err := Reopen(path)
	require.NoError(t, err)
	again.WitnessPage(0).Sighting(&Sighting{Seq: 3, Seen: noon})
	require.NoError(t, again.Close())
	whole, err := os.ReadFile(path)
	require.NoError(t, err)
	b, err := Read(path)
	require.NoError(t, err)
	require.Len(t, b.Sightings, 3)
	at := frames(t, path)
	for i := range len(at) - 1 { // each of them, at the end
		require.NoError(t, os.WriteFile(path, append(bytes.Clone(whole), whole[at[i]:at[i+1]]...), 0o600))
		b, err := Read(path)
		require.NoError(t, err, i)
		assert.Len(t, b.Sightings, 3, i)
		assert.Len(t, b.Messages[0], 3, i)
		assert.Equal(t, []Damage{{at[len(at)-1], at[i+1] - at[i]}}, b.Damage, i)
	}
}

// Pages of witnesses that are none, and what of them is lost, end no program; what is lost of a page of messages before
// the first round takes no definition with it.
func TestPagesOfNoWitness(t *testing.T) {
	for _, closed := range []bool{true, false} {
		for _, round := range []bool{true, false} {
			path := filepath.Join(t.TempDir(), "ledger")
			w, err := Create(path, "k3f9a2xy", "harbour", noon)
			require.NoError(t, err)
			w.Stream(0, Stream{Device: "buoy-1", Reading: "state"})
			w.Witness(0, &Witness{Name: "ear", Proof: "received", Listens: true})
			if round {
				w.Round(Round{N: 1, Begin: noon})
			}
			w.Flush()
			none, page := w.WitnessPage(5), w.Page()
			for seq := range uint64(3) {
				none.Sighting(&Sighting{Witness: 5, Seq: seq + 1, Seen: noon})
				w.Flush()
				due(seq + 1)(page)
				w.Flush()
			}
			data, err := os.ReadFile(path)
			require.NoError(t, err)
			w.End(false)
			require.NoError(t, w.Close())
			if closed {
				data, err = os.ReadFile(path)
				require.NoError(t, err)
			}
			require.NoError(t, os.WriteFile(path, data, 0o600))
			at := frames(t, path)
			for i := 1; i < 8; i++ {
				require.NoError(t, os.WriteFile(path, data, 0o600))
				flip(t, path, at[i]+frameSize+bodyHead+2)
				f, err := Look(path)
				if !closed && (i == 1 || !round && i < 7) { // it is the block of the definitions, or may be one
					require.ErrorContains(t, err, "where it says what devices and witnesses there are")
					continue
				}
				require.NoError(t, err, "%t %t %d", closed, round, i)
				assert.Len(t, f.Streams, 1)
				assert.Empty(t, f.Witnesses[0].Lost)
				if closed && i > 1 {
					assert.Empty(t, f.Witnesses[0].Gaps, "what is lost is no witness's: block %d", i)
				}
			}
		}
	}
}
