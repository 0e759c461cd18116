package evidence

import (
	"cmp"
	"fmt"
	"hash/fnv"
	"os"
	"slices"
	"time"

	"runcrowd/internal/foreign"
	"runcrowd/internal/ledger"
	"runcrowd/internal/outcome"
)

// Case is all that a ledger tells of one message. It is valid until the next one.
type Case struct {
	Stream int
	Seq    uint64
	// Known: the ledger tells that it was due. What is not known was sent in the last
	// moment before a process was killed, or is lost in damage.
	Known    bool
	Round    int
	Due      time.Time
	Sent     time.Time // first handed to the network; zero: never
	Attempts int       // how often it was sent
	Anew     int       // how often of that so that the platform may store it once more
	Meant    ledger.Meant
	Calls    uint64 // for alerts, as of ledger.Page.Due
	Copies   int    // how often it went out once more, as the plan says
	Outcome  outcome.Outcome
	At       time.Time // of the outcome
	Code     int
	// Sightings are in the order of the ledger.
	Sightings []Sighting

	text, carried bytesAt
	from          *Evidence
}

// Sighting is one sighting of the message of a case.
type Sighting struct {
	Witness              int
	Seen, Stored         time.Time // Stored is zero where the platform does not tell
	Again, Perhaps       bool
	Unsure               bool // it may be another message that carried the same
	Asked                bool
	Row                  uint64
	Same                 bool // its values are those that were sent
	Device, Reading      string
	FiledDevice, FiledIn string // see ledger.Sighting
	values               bytesAt
	seq                  uint64
	from                 *Evidence
}

// Mark is whose message a stray says that it is, in a run.
func (s *Sighting) Mark(run string) ledger.Mark {
	return ledger.Mark{Run: run, Device: s.Device, Reading: s.Reading, Seq: s.seq}
}

// place is a part of a ledger; of length 0 without one.
type place struct {
	at   int64
	n    int32
	file int32 // which of the ledgers
}

// bytesAt are bytes at a place, which may be in memory.
type bytesAt struct {
	place
	b []byte
}

// Carried is the JSON object that was sent.
func (c *Case) Carried() []byte { return c.from.bytes(c.carried) }

// Text is what the platform said, or what went wrong.
func (c *Case) Text() string { return foreign.Line(string(c.from.bytes(c.text)), 0) }

// Values is what was found.
func (s *Sighting) Values() []byte { return s.from.bytes(s.values) }

// Ledger is the sighting as the ledger has it.
func (s *Sighting) Ledger(c *Case) ledger.Sighting {
	x := ledger.Sighting{Witness: s.Witness, Seen: s.Seen, Stored: s.Stored, Stream: c.Stream, Seq: c.Seq,
		Device: s.Device, Reading: s.Reading,
		FiledDevice: s.FiledDevice, FiledReading: s.FiledIn, Again: s.Again, Perhaps: s.Perhaps, Asked: s.Asked,
		Unsure: s.Unsure, Row: s.Row, Values: s.Values()}
	if c.Stream < 0 {
		x.Seq = s.seq
	}
	return x
}

// Options say how evidence is gathered.
type Options struct {
	// Memory is about how many bytes of memory may be used; 0 is DefaultMemory.
	Memory int64
	// Room is about how many bytes of cases are kept in memory; 0 is a quarter of Memory.
	Room int64
	// Same tells whether what was found is what was sent. It is asked once for each
	// sighting, as soon as both are there.
	Same func(stream, witness int, sent, found []byte) bool
	// Compare makes Same of what the ledger tells beside its messages.
	Compare func(*ledger.Facts) func(stream, witness int, sent, found []byte) bool
	// Temp are the folders tried for a temporary file, in turn.
	Temp []string
}

// DefaultMemory is the limit where none is given.
const DefaultMemory = 512 << 20

// Evidence gathers the cases of a ledger. Its methods are called from one goroutine.
type Evidence struct {
	*ledger.Facts
	// Commands is what the platform asked of devices.
	Commands Commands
	// Timed: some witness tells when messages were stored.
	Timed bool

	scans  []*scanned // the ledgers; none: it is of a book
	now    int        // which of them is read
	opt    Options
	room   int64 // of the chunk
	err    error
	chunk  chunk
	runs   *runs
	Sorted int // how often memory was full
}

// Part is the ledger of a part of a run.
type Part struct {
	Path string
	Name string // what it is called
	Run  string // what it has to be of
}

// scanned is one of the ledgers.
type scanned struct {
	*ledger.Scanner
	Part
	same func(stream, witness int, sent, found []byte) bool
}

// Open opens a ledger to gather from it.
func Open(path string, opt Options) (*Evidence, error) { return OpenParts([]Part{{Path: path}}, opt) }

// OpenParts opens the ledgers of one part of a run or several, to gather from them as from one: see ledger.Together.
func OpenParts(parts []Part, opt Options) (*Evidence, error) {
	if opt.Memory == 0 {
		opt.Memory = DefaultMemory
	}
	e := &Evidence{opt: opt, room: cmp.Or(opt.Room, opt.Memory/4)}
	e.Commands.pending = map[uint64]*ledger.Command{}
	size := int64(0)
	for _, p := range parts {
		s, err := ledger.NewScanner(p.Path)
		if err != nil {
			e.Close()
			return nil, p.error(err)
		}
		x := &scanned{s, p, opt.Same}
		if opt.Compare != nil {
			x.same = opt.Compare(&s.Facts)
		}
		s.Facts.Name = p.Name
		e.scans = append(e.scans, x)
		n, _ := s.Size()
		size += n
	}
	if e.Facts = &e.scans[0].Facts; len(parts) > 1 {
		e.Facts = &ledger.Facts{} // they are known at the end
	}
	if e.scans[0].same != nil {
		e.opt.Same = e.same
	}
	if size > 2*e.room { // it will be filled
		e.chunk.arena = make([]byte, 0, e.room*2/5)
		e.chunk.cases, e.chunk.seen = make([]open, 0, e.room/400), make([]seen, 0, e.room/400)
	}
	return e, nil
}

// error says of which part an error is.
func (p *Part) error(err error) error {
	if p.Name == "" || err == nil {
		return err
	}
	return fmt.Errorf("of %s: %w", p.Name, err)
}

// same tells whether what a witness found is what was sent.
func (e *Evidence) same(stream, witness int, sent, found []byte) bool {
	if w := len(e.scans[0].Facts.Witnesses); w > 0 && len(e.scans) > 1 {
		return e.scans[min(witness/w, len(e.scans)-1)].same(stream, witness%w, sent, found)
	}
	return e.scans[0].same(stream, witness, sent, found)
}

// Of is the evidence of a book in memory.
func Of(b *ledger.Book, same func(stream, witness int, sent, found []byte) bool) *Evidence {
	e := &Evidence{Facts: &b.Facts, opt: Options{Same: same}, room: 1 << 62}
	e.Commands.pending = map[uint64]*ledger.Command{}
	if b.Last == nil {
		b.Last = make([]uint64, len(b.Streams))
		for i := range b.Messages {
			b.Last[i] = uint64(len(b.Messages[i]))
		}
	}
	for stream, list := range b.Messages {
		for i := range list {
			m := &list[i]
			x := e.chunk.open(key{uint32(stream), m.Seq})
			x.known, x.round, x.attempts, x.anew, x.outcome, x.code = !m.Hole, int32(m.Round), int32(m.Attempts), int32(
				m.Anew), m.Outcome, int32(m.Code)
			x.meant, x.calls, x.copies = m.Meant, m.Calls, int32(m.Copies)
			x.due, x.sent, x.at = nano(m.Due), nano(m.Sent), nano(m.At)
			x.carriedFrom, x.carriedTo = e.chunk.keep(m.Carried)
			x.textFrom, x.textTo = e.chunk.keep([]byte(m.Text))
		}
	}
	for i := range b.Sightings {
		x := &b.Sightings[i]
		e.sighting(x, nano(x.Seen), nano(x.Stored), 0)
	}
	for i := range b.Commands {
		c := b.Commands[i]
		e.Commands.pending[c.Number] = &c
	}
	return e
}

// Gather reads what the ledger holds and was not read yet. It may be called while the
// ledger is being written.
func (e *Evidence) Gather() error {
	for i, s := range e.scans {
		e.now = i
		if err := s.Scan(e.add); err != nil {
			return s.error(err)
		}
	}
	return nil
}

// Finish reads the rest: the ledger is not written any more, or what is written from now
// on is left out.
func (e *Evidence) Finish() error {
	if err := e.Gather(); err != nil {
		return err
	}
	var all []*ledger.Facts
	for _, s := range e.scans {
		f, err := s.Finish()
		if err == nil && s.Run != "" && f.Run != s.Run {
			err = fmt.Errorf("it is of the run %s, and should be of %s", f.Run, s.Run)
		}
		if err != nil {
			return s.error(err)
		}
		all = append(all, f)
	}
	if len(all) > 1 {
		f, err := ledger.Together(all)
		if err != nil {
			return err
		}
		*e.Facts = *f
	}
	e.Commands.finish()
	return nil
}

// Close frees what was used.
func (e *Evidence) Close() error {
	if e.runs != nil {
		e.runs.close()
	}
	var err error
	for _, s := range e.scans {
		err = cmp.Or(err, s.Close())
	}
	return err
}

// bytes are those at a place; nil after an error, which Cases tells.
func (e *Evidence) bytes(p bytesAt) []byte {
	if p.b != nil || p.n == 0 {
		return p.b
	}
	b, err := e.scans[p.file].Read(p.at, int(p.n))
	if err != nil {
		e.err = cmp.Or(e.err, fmt.Errorf("the ledger cannot be read at byte %d: %w", p.at, err))
	}
	return b
}

// key is what cases are told apart by.
type key struct {
	stream uint32
	seq    uint64
}

// MostSightings is how many sightings of one message are looked at: of more, only the first
// of each witness.
const MostSightings = 1000

// stray is the stream of sightings that are of no stream of the run.
const stray = 1<<32 - 1

// open is a case that is being gathered. Times are Unix nanoseconds, 0 for none.
type open struct {
	key
	known                 bool
	outcome               outcome.Outcome
	round, attempts, anew int32
	code, copies          int32
	meant                 ledger.Meant
	calls                 uint64
	first, last           int32 // of its sightings in the chunk, plus 1
	sightings             int32
	due, sent, at         int64
	text, carried         place
	// where the bytes are in the arena
	carriedFrom, carriedTo, textFrom, textTo int32
}

// seen is a sighting in a chunk.
type seen struct {
	seen, stored int64
	row          uint64
	values       place
	names        int32 // plus 1; of strays and of what is filed elsewhere
	witness      int32
	next         int32 // plus 1
	// where its bytes are in the arena, if it stands before its message, or in no file
	valuesFrom, valuesTo int32
	flags                byte
}

// names are the texts that few sightings have; seq is what a stray's mark says.
type names struct {
	device, reading, filedDevice, filedReading string
	seq                                        uint64
}

const (
	again = 1 << iota
	perhaps
	asked
	unsure
	same
)

// chunk are the cases in memory.
type chunk struct {
	cases []open
	seen  []seen
	arena []byte
	texts []names
	names int64 // bytes of them
	// table finds a case by its key: places in cases, plus 1, by open addressing. Its
	// length is a power of two, and at most half of it is taken.
	table []int32
	order []int32 // the cases by stream and sequence number
}

// size is about how many bytes they take.
func (n *names) size() (sum int64) {
	for _, text := range [...]string{n.device, n.reading, n.filedDevice, n.filedReading} {
		sum += 20 + int64(len(text))
	}
	return sum
}

// size is about how many bytes the chunk takes.
func (c *chunk) size() int64 {
	return int64(len(c.cases))*(120+3*4) + int64(len(c.seen))*72 + int64(len(c.arena)) + c.names
}

// slot is where a key is in the table, or would be.
func (c *chunk) slot(k key) *int32 {
	h := k.seq*0x9e3779b97f4a7c15 ^ uint64(k.stream)*0xbf58476d1ce4e5b9
	h = (h ^ h>>32) * 0x94d049bb133111eb
	for i := h >> 32; ; i++ {
		p := &c.table[i&uint64(len(c.table)-1)]
		if *p == 0 || c.cases[*p-1].key == k {
			return p
		}
	}
}

func (c *chunk) open(k key) *open {
	if 2*len(c.cases) >= len(c.table) {
		c.table = make([]int32, max(1024, 2*len(c.table)))
		for i := range c.cases {
			*c.slot(c.cases[i].key) = int32(i + 1)
		}
	}
	p := c.slot(k)
	if *p == 0 {
		c.cases = append(c.cases, open{key: k})
		*p = int32(len(c.cases))
	}
	return &c.cases[*p-1]
}

func (c *chunk) clear() {
	clear(c.table)
	clear(c.texts)
	c.cases, c.seen, c.arena, c.texts, c.names = c.cases[:0], c.seen[:0], c.arena[:0], c.texts[:0], 0
}

// keep copies bytes, and tells where they are.
func (c *chunk) keep(b []byte) (from, to int32) {
	from = int32(len(c.arena))
	c.arena = append(c.arena, b...)
	return from, int32(len(c.arena))
}

func nano(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixNano()
}

func when(n int64) time.Time {
	if n == 0 {
		return time.Time{}
	}
	return time.Unix(0, n)
}

// add takes a record to its case.
func (e *Evidence) add(r *ledger.Record) error {
	switch r.Type {
	case ledger.DueRecord:
		x := e.chunk.open(key{uint32(r.Stream), r.Seq})
		x.known, x.round, x.due, x.meant, x.calls = true, int32(r.Round), r.At, r.Meant, r.Calls
		x.carried = place{at: r.Carried.At, n: int32(len(r.Carried.B)), file: int32(e.now)}
		x.carriedFrom, x.carriedTo = e.chunk.keep(r.Carried.B)
		for i := x.first; i > 0 && e.opt.Same != nil; i = e.chunk.seen[i-1].next { // it was seen before this was written
			s := &e.chunk.seen[i-1]
			if e.opt.Same(r.Stream, int(s.witness), r.Carried.B, e.chunk.arena[s.valuesFrom:s.valuesTo]) {
				s.flags |= same
			}
		}
	case ledger.SentRecord:
		x := e.chunk.open(key{uint32(r.Stream), r.Seq})
		if x.sent == 0 {
			x.sent = r.At
		}
		x.attempts++
		if r.Anew {
			x.anew++
		}
	case ledger.CopiedRecord:
		e.chunk.open(key{uint32(r.Stream), r.Seq}).copies++
	case ledger.SettledRecord:
		x := e.chunk.open(key{uint32(r.Stream), r.Seq})
		x.at, x.outcome, x.code, x.text = r.At, r.Outcome, int32(r.Code), place{at: r.Text.At, n: int32(len(r.Text.B)), file: int32(e.now)}
	case ledger.SightingRecord:
		if e.now > 0 { // its witnesses come after those of the parts before
			r.Sighting.Witness += e.now * len(e.scans[0].Facts.Witnesses)
		}
		e.sighting(&r.Sighting, r.At, r.Stored, r.ValuesAt)
	default:
		r.Seq += uint64(e.now) << 40 // each part counts its commands
		if r.Type == ledger.CommandRecord {
			r.Command.Number = r.Seq
		}
		e.Commands.record(r)
		return nil
	}
	if len(e.chunk.arena) > 1<<30 || e.chunk.size() > e.room {
		return e.spill()
	}
	return nil
}

// sighting takes a sighting to its case.
func (e *Evidence) sighting(s *ledger.Sighting, at, stored, values int64) {
	c := &e.chunk
	k := key{uint32(s.Stream), s.Seq}
	x := seen{witness: int32(s.Witness), seen: at, stored: stored, row: s.Row,
		values: place{at: values, n: int32(len(s.Values)), file: int32(e.now)}}
	if s.Stream < 0 {
		k.stream = stray
	}
	if s.Stream < 0 || s.FiledDevice != "" || s.FiledReading != "" {
		n := names{s.Device, s.Reading, s.FiledDevice, s.FiledReading, s.Seq}
		c.texts = append(c.texts, n)
		x.names = int32(len(c.texts))
		c.names += n.size()
		if s.Stream < 0 { // one case for each mark
			h := fnv.New64a()
			fmt.Fprintf(h, "%s\x00%s\x00%d", s.Device, s.Reading, s.Seq)
			k.seq = h.Sum64()
		}
	}
	e.Timed = e.Timed || stored != 0
	for i, set := range [...]bool{s.Again, s.Perhaps, s.Asked, s.Unsure} {
		if set {
			x.flags |= 1 << i
		}
	}
	o := c.open(k)
	if o.sightings++; o.sightings > MostSightings && c.saw(o, x.witness) {
		return
	}
	if o.known && e.opt.Same != nil && e.opt.Same(s.Stream, s.Witness, c.arena[o.carriedFrom:o.carriedTo], s.Values) {
		x.flags |= same
	}
	if len(e.scans) == 0 || !o.known {
		x.valuesFrom, x.valuesTo = c.keep(s.Values)
	}
	c.seen = append(c.seen, x)
	n := int32(len(c.seen))
	if o.last > 0 {
		c.seen[o.last-1].next = n
	} else {
		o.first = n
	}
	o.last = n
}

// saw tells whether a witness has sighted the message of a case.
func (c *chunk) saw(o *open, witness int32) bool {
	for i := o.first; i > 0; i = c.seen[i-1].next {
		if c.seen[i-1].witness == witness {
			return true
		}
	}
	return false
}

// sort finds the order of the chunk's cases. They came nearly in the order of their
// sequence numbers, so that sorting them into their streams is nearly all.
func (c *chunk) sort() {
	last := 0 // the last stream
	for i := range c.cases {
		if s := c.cases[i].stream; s != stray {
			last = max(last, int(s))
		}
	}
	bucket := func(o *open) int {
		if o.stream == stray {
			return last + 1
		}
		return int(o.stream)
	}
	ends := make([]int32, last+3) // ends[i+1] is behind bucket i
	for i := range c.cases {
		ends[bucket(&c.cases[i])+1]++
	}
	for i := range ends[1:] {
		ends[i+1] += ends[i]
	}
	c.order = slices.Grow(c.order[:0], len(c.cases))[:len(c.cases)]
	at := slices.Clone(ends)
	for i := range c.cases {
		b := bucket(&c.cases[i])
		c.order[at[b]] = int32(i)
		at[b]++
	}
	bySeq := func(i, j int32) int { return cmp.Compare(c.cases[i].seq, c.cases[j].seq) }
	for b := range ends[1:] {
		if part := c.order[ends[b]:ends[b+1]]; !slices.IsSortedFunc(part, bySeq) {
			slices.SortFunc(part, bySeq)
		}
	}
}

// spill writes the chunk's cases to disk, in order.
func (e *Evidence) spill() error {
	if e.runs == nil {
		r, err := newRuns(e.opt.Temp)
		if err != nil {
			return fmt.Errorf("the evidence does not fit in %d MiB of memory, and cannot be sorted on disk: %w; give it more "+
				"with --memory", e.opt.Memory>>20, err)
		}
		e.runs = r
	}
	e.chunk.sort()
	if err := e.runs.write(&e.chunk); err != nil {
		return fmt.Errorf("the evidence cannot be sorted on disk: %w; make room, set TMPDIR to another place, or give it "+
			"more memory with --memory", err)
	}
	e.chunk.clear()
	e.Sorted++
	return nil
}

// Cases hands all cases to see, by stream and sequence number: those of strays last, each
// with Stream -1. It may be called again. It stops at the first error of see.
func (e *Evidence) Cases(see func(*Case) error) error {
	e.chunk.sort()
	sources := []source{&memory{e: e}}
	if e.runs != nil {
		list, err := e.runs.sources(e.opt.Memory / 8)
		if err != nil {
			return err
		}
		sources = append(list, sources...)
	}
	c := &Case{from: e}
	if err := merge(sources, func(parts []*part) error {
		e.join(c, parts)
		if err := see(c); err != nil {
			return err
		}
		return e.err
	}); err != nil {
		return err
	}
	return e.err
}

// join makes one case of what several chunks tell of it, in their order.
func (e *Evidence) join(c *Case, parts []*part) {
	list := c.Sightings[:0]
	*c = Case{Stream: int(parts[0].stream), Seq: parts[0].seq, from: e}
	if parts[0].stream == stray {
		c.Stream = -1
	}
	for _, p := range parts {
		if p.known {
			c.Known, c.Round, c.Due, c.Meant, c.Calls, c.carried = true, int(p.round), when(
				p.due), p.meant, p.calls, bytesAt{p.carried, p.carriedBytes}
		}
		if c.Sent.IsZero() {
			c.Sent = when(p.sent)
		}
		c.Attempts += int(p.attempts)
		c.Anew += int(p.anew)
		c.Copies += int(p.copies)
		if p.at != 0 || p.outcome != outcome.Open {
			c.At, c.Outcome, c.Code, c.text = when(p.at), p.outcome, int(p.code), bytesAt{p.text, p.textBytes}
		}
		for i := range p.seen {
			s := &p.seen[i]
			if len(list) >= MostSightings && slices.ContainsFunc(list,
				func(x Sighting) bool { return x.Witness == e.Facts.WitnessOf(int(s.witness), c.Stream) }) {
				continue
			}
			x := Sighting{Witness: e.Facts.WitnessOf(int(s.witness), c.Stream), Seen: when(s.seen), Stored: when(s.stored), Row: s.row,
				values: bytesAt{s.values, p.bytes(s)}, from: e,
				Again: s.flags&again != 0, Perhaps: s.flags&perhaps != 0, Asked: s.flags&asked != 0, Unsure: s.flags&unsure != 0,
				Same: s.flags&same != 0}
			if s.names > 0 {
				n := &p.texts[s.names-1]
				x.Device, x.Reading, x.FiledDevice, x.FiledIn, x.seq = n.device, n.reading, n.filedDevice, n.filedReading, n.seq
			}
			list = append(list, x)
		}
	}
	c.Sightings = list
	if len(parts) == 1 || !c.Known || e.opt.Same == nil {
		return
	}
	var carried []byte
	for i := range list {
		if s := &list[i]; !s.Same && s.values.n > 0 {
			if carried == nil {
				carried = c.Carried()
			}
			s.values.b = s.Values()
			s.Same = e.opt.Same(c.Stream, s.Witness, carried, s.values.b)
		}
	}
	if carried != nil {
		c.carried.b = carried
	}
}

// clone keeps what a part points at beyond the next one.
func (p *part) clone() *part {
	q := *p
	q.seen, q.texts = slices.Clone(p.seen), slices.Clone(p.texts)
	return &q
}

// temporary makes a file without a name in the first of the folders that takes one.
func temporary(folders []string) (f *os.File, err error) {
	for _, dir := range append(slices.Clone(folders), os.TempDir()) {
		if f, err = os.CreateTemp(dir, ".runcrowd-sort-*"); err == nil {
			os.Remove(f.Name()) // on systems that allow it; else when it is closed
			return f, nil
		}
	}
	return nil, err
}
