package evidence

import (
	"bufio"
	"cmp"
	"container/heap"
	"encoding/binary"
	"fmt"
	"io"
	"os"
	"slices"

	"runcrowd/internal/ledger"
	"runcrowd/internal/outcome"
)

// part is what one chunk tells of a case. It is valid until the source's next.
type part struct {
	open
	seen  []seen
	texts []names
	// what of it is in memory
	carriedBytes, textBytes []byte
	chunk                   *chunk
}

// bytes are those of a sighting that are in memory.
func (p *part) bytes(s *seen) []byte {
	if p.chunk == nil || s.valuesTo == s.valuesFrom {
		return nil
	}
	return p.chunk.arena[s.valuesFrom:s.valuesTo]
}

// source gives parts in order; nil at the end.
type source interface{ next() (*part, error) }

// memory is the source of the chunk in memory.
type memory struct {
	e    *Evidence
	at   int
	part part
}

func (m *memory) next() (*part, error) {
	c := &m.e.chunk
	if m.at == len(c.order) {
		return nil, nil
	}
	o := &c.cases[c.order[m.at]]
	m.at++
	m.part.open, m.part.seen, m.part.texts, m.part.chunk = *o, m.part.seen[:0], c.texts, c
	m.part.carriedBytes, m.part.textBytes = c.arena[o.carriedFrom:o.carriedTo], c.arena[o.textFrom:o.textTo]
	if len(m.part.textBytes) == 0 {
		m.part.textBytes = nil // perhaps it is in the file
	}
	for i := o.first; i > 0; i = c.seen[i-1].next {
		m.part.seen = append(m.part.seen, c.seen[i-1])
	}
	return &m.part, nil
}

// runs are sorted chunks in one temporary file.
type runs struct {
	file *os.File
	ends []int64
	buf  []byte
}

func newRuns(folders []string) (*runs, error) {
	f, err := temporary(folders)
	return &runs{file: f}, err
}

func (r *runs) close() {
	name := r.file.Name()
	r.file.Close()
	os.Remove(name)
}

// write appends a chunk that is in order. Each case is its length and its fields.
func (r *runs) write(c *chunk) error {
	at := int64(0)
	if n := len(r.ends); n > 0 {
		at = r.ends[n-1]
	}
	w := bufio.NewWriterSize(io.NewOffsetWriter(r.file, at), 1<<20)
	for _, i := range c.order {
		r.buf = r.buf[:0]
		r.encode(c, &c.cases[i])
		var head [binary.MaxVarintLen64]byte
		n := binary.PutUvarint(head[:], uint64(len(r.buf)))
		w.Write(head[:n]) // the first error stays, and is told by Flush
		w.Write(r.buf)
		at += int64(n + len(r.buf))
	}
	r.ends = append(r.ends, at)
	return w.Flush()
}

func (r *runs) uint(v uint64) { r.buf = binary.AppendUvarint(r.buf, v) }
func (r *runs) int(v int64)   { r.buf = binary.AppendVarint(r.buf, v) }

func (r *runs) place(p place) {
	r.uint(uint64(p.n))
	if p.n > 0 {
		r.uint(uint64(p.file))
		r.uint(uint64(p.at))
	}
}

func (r *runs) encode(c *chunk, o *open) {
	r.uint(uint64(o.stream))
	r.uint(o.seq)
	known := byte(0)
	if o.known {
		known = 1
	}
	r.buf = append(r.buf, known, byte(o.outcome), byte(o.meant))
	r.uint(uint64(o.round))
	r.uint(uint64(o.attempts))
	r.uint(uint64(o.anew))
	r.uint(uint64(o.copies))
	r.uint(uint64(o.code))
	r.uint(o.calls)
	// Times are near each other.
	r.int(o.due)
	r.int(o.sent - o.due)
	r.int(o.at - o.due)
	r.place(o.text)
	r.place(o.carried)
	for i := o.first; i > 0; i = c.seen[i-1].next {
		s := &c.seen[i-1]
		flags := s.flags
		if s.names > 0 {
			flags |= named
		}
		r.buf = append(r.buf, flags)
		r.uint(uint64(s.witness))
		r.int(s.seen - o.due)
		r.int(s.stored - o.due)
		r.uint(s.row)
		r.place(s.values)
		if s.names > 0 {
			x := &c.texts[s.names-1]
			for _, n := range [...]string{x.device, x.reading, x.filedDevice, x.filedReading} {
				r.uint(uint64(len(n)))
				r.buf = append(r.buf, n...)
			}
			r.uint(x.seq)
		}
	}
}

// named is the flag of a sighting with names.
const named = 128

// sources are readers of all runs; room is the memory for their buffers.
func (r *runs) sources(room int64) (list []source, err error) {
	size := int(min(256<<10, max(4<<10, room/int64(len(r.ends)+1))))
	from := int64(0)
	for _, end := range r.ends {
		list = append(list, &stored{r: bufio.NewReaderSize(io.NewSectionReader(r.file, from, end-from), size)})
		from = end
	}
	return list, nil
}

// stored is the source of one run.
type stored struct {
	r    *bufio.Reader
	buf  []byte
	part part
}

func (s *stored) next() (*part, error) {
	n, err := binary.ReadUvarint(s.r)
	if err == io.EOF {
		return nil, nil
	}
	if err == nil {
		s.buf = slices.Grow(s.buf[:0], int(n))[:n]
		_, err = io.ReadFull(s.r, s.buf)
	}
	if err != nil {
		return nil, fmt.Errorf("what was sorted on disk cannot be read: %w", err)
	}
	d := fields{s.buf}
	p := &s.part
	p.seen, p.texts = p.seen[:0], p.texts[:0]
	p.open = open{key: key{uint32(d.uint()), d.uint()}, known: d.byte() == 1, outcome: outcome.Outcome(d.byte()),
		meant: ledger.Meant(d.byte()), round: int32(d.uint()), attempts: int32(d.uint()), anew: int32(d.uint()),
		copies: int32(d.uint()), code: int32(d.uint()), calls: d.uint(),
		due: d.int(), sent: d.int(), at: d.int(), text: d.place(), carried: d.place()}
	p.sent, p.at = p.sent+p.due, p.at+p.due
	for len(d.b) > 0 {
		flags := d.byte()
		x := seen{flags: flags &^ named, witness: int32(d.uint()), seen: d.int() + p.due, stored: d.int() + p.due,
			row: d.uint(), values: d.place()}
		if flags&named != 0 {
			p.texts = append(p.texts, names{d.text(), d.text(), d.text(), d.text(), d.uint()})
			x.names = int32(len(p.texts))
		}
		p.seen = append(p.seen, x)
	}
	return p, nil
}

// fields takes apart what encode wrote.
type fields struct{ b []byte }

func (d *fields) byte() byte {
	v := d.b[0]
	d.b = d.b[1:]
	return v
}

func (d *fields) uint() uint64 {
	v, n := binary.Uvarint(d.b)
	d.b = d.b[n:]
	return v
}

func (d *fields) int() int64 {
	v, n := binary.Varint(d.b)
	d.b = d.b[n:]
	return v
}

func (d *fields) text() string {
	n := d.uint()
	v := string(d.b[:n])
	d.b = d.b[n:]
	return v
}

func (d *fields) place() (p place) {
	if p.n = int32(d.uint()); p.n > 0 {
		p.file, p.at = int32(d.uint()), int64(d.uint())
	}
	return p
}

// merge hands the parts of each case to see, in the order of the sources.
func merge(sources []source, see func([]*part) error) error {
	h := &heads{}
	for i, s := range sources {
		p, err := s.next()
		if err != nil {
			return err
		}
		if p != nil {
			*h = append(*h, head{p, s, i})
		}
	}
	heap.Init(h)
	var parts []*part
	for len(*h) > 0 {
		k := (*h)[0].part.key
		parts = parts[:0]
		for len(*h) > 0 && (*h)[0].part.key == k {
			top := &(*h)[0]
			if len(parts) == 0 && (len(*h) == 1 || !h.shares(k)) { // the usual case: nothing to keep
				parts = append(parts, top.part)
				if err := see(parts); err != nil {
					return err
				}
				parts = nil
			} else {
				parts = append(parts, top.part.clone())
			}
			p, err := top.source.next()
			if err != nil {
				return err
			}
			if p == nil {
				heap.Pop(h)
			} else {
				top.part = p
				heap.Fix(h, 0)
			}
			if parts == nil {
				break
			}
		}
		if len(parts) > 0 {
			if err := see(parts); err != nil {
				return err
			}
		}
	}
	return nil
}

// head is the next part of a source.
type head struct {
	part   *part
	source source
	index  int
}

// heads is a heap of them: by key, then in the order of the sources.
type heads []head

func (h heads) Len() int      { return len(h) }
func (h heads) Swap(i, j int) { h[i], h[j] = h[j], h[i] }
func (h *heads) Push(x any)   { *h = append(*h, x.(head)) }

func (h *heads) Pop() any {
	old := *h
	x := old[len(old)-1]
	*h = old[:len(old)-1]
	return x
}

func (h heads) Less(i, j int) bool {
	a, b := &h[i], &h[j]
	return cmp.Or(cmp.Compare(a.part.stream, b.part.stream), cmp.Compare(a.part.seq, b.part.seq), cmp.Compare(a.index, b.index)) < 0
}

// shares tells whether another source than the first has a part of the case.
func (h heads) shares(k key) bool {
	for i := 1; i < len(h) && i < 3; i++ { // the second smallest is one of these
		if h[i].part.key == k {
			return true
		}
	}
	return false
}
