package ledger

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"time"

	"github.com/gofrs/flock"

	"runcrowd/internal/clock"
	"runcrowd/internal/outcome"
)

// FlushEvery is how long a record waits at most before it is written.
const FlushEvery = 250 * time.Millisecond

// pageSize is how many bytes a page gathers before it is written early.
const pageSize = 128 << 10

// header begins the header line; the key follows, and a line break.
const header = "runcrowd ledger 9 "

// keySize is how many bytes the key has, headerSize the whole line.
const (
	keySize    = 8
	headerSize = len(header) + 2*keySize + 1
)

// A block begins with key, length and checksum, and its body with the time, the session,
// the page, the number of the block on its page and the witness of the page.
const (
	frameSize = keySize + 8
	bodyHead  = 8 + 4 + 4 + 4 + 4
	pageHead  = frameSize + bodyHead
)

// LockName is the file that whoever writes a ledger holds a lock on.
const LockName = "ledger.lock"

// ErrBusy is the error for a ledger that another process writes.
var ErrBusy = errors.New("another process writes this ledger")

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// The types of records; recordTable says what each holds.
const (
	recStart = iota + 1
	recStream
	recRound
	recWitness
	recDue
	recSent
	recSettled
	recSighting
	recGap
	recHeard
	recLink
	recEnd
	recCommand
	recAnswer
	recTold
	recReopened
	recClock
	recClosed
	recOver
	recLeft
	recCopied
	recDone
	recAlert
	recSaid
	recCount
)

// Stream is one reading of one device: what sequence numbers count in.
type Stream struct {
	Device  string
	Kind    string
	Reading string
	QoS0    bool // no acknowledgement is asked for
	// MayRepeat: the protocol allows one copy for each time that a message was sent anew
	// (MQTT QoS 1).
	MayRepeat bool
	// List: the body of a message is a JSON list; of one object, that is what it carries.
	List bool
	// Unseen are the witnesses that need not find its messages.
	Unseen []int
	// Tolerances maps fields to how far a found number may be off.
	Tolerances map[string]float64
	// Calls has a bit for each alert that its values may call for.
	Calls uint64
	// Units maps fields to what they are measured in.
	Units map[string]string
}

// Sighting is one message found by a witness.
type Sighting struct {
	Witness int
	Seen    time.Time
	Stored  time.Time // by the platform's clock; zero where it does not tell
	// Stream and Seq say whose message it is. Stream is -1 for a mark of this run that is
	// of no stream of it: Device and Reading tell what it says.
	Stream          int
	Seq             uint64
	Device, Reading string
	// FiledDevice and FiledReading say where it was found; empty where that is its own
	// place, or where the witness cannot tell.
	FiledDevice  string
	FiledReading string
	// Again: this may be the same copy once more: a DUP, a retained message after the
	// witness subscribed anew, a row that was met before and has changed.
	Again bool
	// Perhaps: whether this is another copy is not known: the row was met on another
	// page of the same answer, and rows tell no identity.
	Perhaps bool
	// Unsure: it is this message or another one that carried the same; which is not known.
	Unsure bool
	// Asked: found by asking; when it came there is not known but for Stored.
	Asked bool
	// Row is a digest of the identity of the row that it was found in; 0: none is told.
	Row uint64
	// Values is the JSON object that was found.
	Values []byte
}

// Writer writes a ledger. The first error stops all writing; it is told by
// Err, by Failed and by Close.
type Writer struct {
	file  *os.File
	lock  *flock.Flock
	key   []byte
	start time.Time
	// session is how often the file was opened again.
	session            int
	streams, witnesses int // that were defined
	alerts             int // the same

	mu     sync.Mutex // guards what follows; never held while the file is written
	err    error
	pages  []*Page
	full   []block // blocks that wait to be written, in order
	spare  [][]byte
	failed chan struct{}

	flushing sync.Mutex // held while the file is written
	own      *Page
	bell     chan struct{} // rings when a block is full
	stop     chan struct{}
	done     chan struct{}
}

// block is a page's bytes on their way to the file.
type block struct{ buf []byte }

// maxWaiting is how many full blocks wait for the disk at most: 128 MiB. A disk that is
// slower than that for as long ends the run, and it is told.
const maxWaiting = 128 << 20 / pageSize

// ErrSlowDisk is the error for a disk that does not keep up.
var ErrSlowDisk = errors.New("the disk does not keep up with what is recorded")

// Page gathers records. Its methods may be called from any goroutine, and never wait for
// the disk: the writer's own goroutine writes what a page has gathered.
type Page struct {
	w       *Writer
	index   int // in the order of their making
	witness int // whose sightings it holds; -1: of none
	mu      sync.Mutex
	buf     []byte
	blocks  uint32 // so far
}

// lock takes the lock of a ledger. A reader that looks whether somebody writes holds it
// for a moment, so it is tried for a second.
func lock(path string) (*flock.Flock, error) {
	l := flock.New(filepath.Join(filepath.Dir(path), LockName))
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	if got, err := l.TryLockContext(ctx, 20*time.Millisecond); !got {
		if err == nil || errors.Is(err, context.DeadlineExceeded) {
			err = ErrBusy
		}
		return nil, err
	}
	return l, nil
}

// Busy tells whether a process writes the ledger now.
func Busy(path string) bool {
	name := filepath.Join(filepath.Dir(path), LockName)
	if _, err := os.Stat(name); err != nil {
		return false // nobody ever did
	}
	l := flock.New(name, flock.SetFlag(os.O_RDONLY))
	got, err := l.TryRLock()
	if got {
		l.Unlock()
	}
	return err == nil && !got
}

// open makes a writer that appends to a file. It closes the file and gives the lock
// back when it is closed.
func open(f *os.File, l *flock.Flock, key []byte, start time.Time) *Writer {
	w := &Writer{file: f, lock: l, key: key, start: start, failed: make(chan struct{}), bell: make(chan struct{}, 1), stop: make(chan struct{}), done: make(chan struct{})}
	w.own = w.Page()
	return w
}

// Create makes the file; it must not exist yet.
func Create(path, run, crowd string, start time.Time) (*Writer, error) {
	l, err := lock(path)
	if err != nil {
		return nil, err
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		l.Unlock()
		return nil, err
	}
	key := make([]byte, keySize)
	rand.Read(key)
	w := open(f, l, key, start)
	if _, err := fmt.Fprintf(f, "%s%x\n", header, key); err != nil {
		f.Close()
		l.Unlock()
		return nil, err
	}
	w.own.begin(recStart)
	w.own.text(run)
	w.own.text(crowd)
	w.own.int(start.UnixNano())
	w.own.end()
	w.Flush()
	if w.err != nil {
		f.Close()
		l.Unlock()
		return nil, w.err
	}
	go w.flusher()
	return w, nil
}

// Page makes a new page for what is told of messages.
func (w *Writer) Page() *Page { return w.page(-1) }

// WitnessPage makes a page for what a witness found and how it was heard.
func (w *Writer) WitnessPage(witness int) *Page { return w.page(witness) }

func (w *Writer) page(witness int) *Page {
	p := &Page{w: w, witness: witness, buf: make([]byte, pageHead, 4096)}
	w.mu.Lock()
	p.index = len(w.pages)
	w.pages = append(w.pages, p)
	w.mu.Unlock()
	return p
}

func (w *Writer) flusher() {
	defer close(w.done)
	t := time.NewTicker(FlushEvery)
	defer t.Stop()
	for {
		select {
		case <-w.stop:
			return
		case <-t.C:
			w.Flush()
		case <-w.bell:
			w.write()
		}
	}
}

// Flush writes all pages now, and returns when they are written.
func (w *Writer) Flush() {
	w.mu.Lock()
	pages := w.pages
	w.mu.Unlock()
	for _, p := range pages {
		p.mu.Lock()
		p.handOver()
		p.mu.Unlock()
	}
	w.write()
}

// handOver gives what the page has gathered to the writer. The caller holds p.mu.
func (p *Page) handOver() {
	if len(p.buf) <= pageHead {
		return
	}
	w := p.w
	at := clock.Nano()
	body := p.buf[frameSize:]
	binary.BigEndian.PutUint64(body, uint64(at))
	binary.BigEndian.PutUint32(body[8:], uint32(w.session))
	binary.BigEndian.PutUint32(body[12:], uint32(p.index))
	binary.BigEndian.PutUint32(body[16:], p.blocks)
	binary.BigEndian.PutUint32(body[20:], uint32(p.witness+1))
	p.blocks++
	w.mu.Lock()
	defer w.mu.Unlock()
	w.full = append(w.full, block{p.buf})
	if len(w.full) > maxWaiting {
		w.fail(ErrSlowDisk)
	}
	if n := len(w.spare); n > 0 {
		p.buf, w.spare = w.spare[n-1][:pageHead], w.spare[:n-1]
	} else {
		p.buf = make([]byte, pageHead, 4096)
	}
}

// fail notes the first error. The caller holds w.mu.
func (w *Writer) fail(err error) {
	if w.err == nil {
		w.err = err
		close(w.failed)
	}
}

// write writes the blocks that are full, in their order.
func (w *Writer) write() {
	w.flushing.Lock()
	defer w.flushing.Unlock()
	for {
		w.mu.Lock()
		if len(w.full) == 0 {
			w.mu.Unlock()
			return
		}
		b := w.full[0]
		w.full = w.full[1:]
		broken := w.err != nil
		w.mu.Unlock()
		if !broken {
			body := b.buf[frameSize:]
			copy(b.buf, w.key)
			binary.BigEndian.PutUint32(b.buf[keySize:], uint32(len(body)))
			binary.BigEndian.PutUint32(b.buf[keySize+4:], crc32.Checksum(body, castagnoli))
			if _, err := w.file.Write(b.buf); err != nil {
				w.mu.Lock()
				w.fail(err)
				w.mu.Unlock()
			}
		}
		w.mu.Lock()
		if len(w.spare) < 64 && cap(b.buf) <= 2*pageSize {
			w.spare = append(w.spare, b.buf)
		}
		w.mu.Unlock()
	}
}

// Failed is closed when the ledger could not be written.
func (w *Writer) Failed() <-chan struct{} { return w.failed }

// Err is why the ledger could not be written, or nil.
func (w *Writer) Err() error {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.err
}

// End notes that the run is over: every message has its last record.
func (w *Writer) End(interrupted bool) {
	w.Flush() // whoever reads the end has read all before it
	w.own.begin(recEnd)
	w.own.when(clock.Now())
	w.own.bool(interrupted)
	w.own.end()
}

// Close writes what is left and closes the file.
func (w *Writer) Close() error {
	close(w.stop)
	<-w.done
	w.Flush()
	w.closed()
	w.Flush()
	err := w.file.Close()
	if w.lock != nil {
		w.lock.Unlock()
	}
	if w.err != nil {
		return w.err
	}
	return err
}

// closed notes how many blocks each page has: whoever reads them all has lost none.
func (w *Writer) closed() {
	w.mu.Lock()
	pages := w.pages
	w.mu.Unlock()
	counts := make([]uint32, len(pages))
	for i, p := range pages {
		p.mu.Lock()
		counts[i] = p.blocks
		p.mu.Unlock()
	}
	counts[0]++ // the block that this stands in
	w.own.begin(recClosed)
	w.own.uint(uint64(len(pages)))
	for i, p := range pages {
		w.own.uint(uint64(counts[i]))
		w.own.uint(uint64(p.witness + 1))
	}
	w.own.end()
}

func (p *Page) begin(rec byte)   { p.mu.Lock(); p.buf = append(p.buf, rec) }
func (p *Page) uint(v uint64)    { p.buf = binary.AppendUvarint(p.buf, v) }
func (p *Page) int(v int64)      { p.buf = binary.AppendVarint(p.buf, v) }
func (p *Page) text(s string)    { p.uint(uint64(len(s))); p.buf = append(p.buf, s...) }
func (p *Page) bytes(b []byte)   { p.uint(uint64(len(b))); p.buf = append(p.buf, b...) }
func (p *Page) when(t time.Time) { p.nano(t.UnixNano(), t.IsZero()) }

// nano writes a time since the start; the start itself is written as 1 ns
// later, because 0 stands for no time.
func (p *Page) nano(unix int64, none bool) {
	v := unix - p.w.start.UnixNano()
	switch {
	case none:
		v = 0
	case v == 0:
		v = 1
	}
	p.int(v)
}

func (p *Page) bool(b bool) {
	if b {
		p.buf = append(p.buf, 1)
	} else {
		p.buf = append(p.buf, 0)
	}
}

// end closes a record, and hands the page over when it is full.
func (p *Page) end() {
	if len(p.buf) >= pageSize {
		p.handOver()
		select {
		case p.w.bell <- struct{}{}:
		default:
		}
	}
	p.mu.Unlock()
}

// Stream defines a stream; its index is its place in the order of definition.
func (w *Writer) Stream(index int, s Stream) {
	p := w.own
	w.streams++
	p.begin(recStream)
	p.uint(uint64(index))
	p.text(s.Device)
	p.text(s.Kind)
	p.text(s.Reading)
	p.bool(s.QoS0)
	p.bool(s.MayRepeat)
	p.bool(s.List)
	p.uint(uint64(len(s.Tolerances)))
	for name, t := range s.Tolerances {
		p.text(name)
		p.text(fmt.Sprint(t))
	}
	p.uint(uint64(len(s.Units)))
	for name, u := range s.Units {
		p.text(name)
		p.text(u)
	}
	p.uint(uint64(len(s.Unseen)))
	for _, w := range s.Unseen {
		p.uint(uint64(w))
	}
	p.uint(s.Calls)
	p.end()
}

// Witness defines a witness by its place in the file.
func (w *Writer) Witness(index int, x *Witness) {
	p := w.own
	w.witnesses++
	p.begin(recWitness)
	p.uint(uint64(index))
	p.text(x.Name)
	p.text(x.Proof)
	p.int(int64(x.Within))
	p.int(int64(x.WatchCopies))
	p.int(int64(x.Wait))
	p.bool(x.Listens)
	p.bool(x.Latest)
	p.uint(uint64(x.Types))
	p.uint(uint64(x.TimeOf))
	p.uint(uint64(len(x.Fields)))
	for _, name := range slices.Sorted(maps.Keys(x.Fields)) {
		r := x.Fields[name]
		p.text(name)
		p.bool(r.Ignored)
		p.text(r.As)
		for _, n := range [...]float64{r.Tolerance, r.Factor, r.Offset} {
			p.text(strconv.FormatFloat(n, 'g', -1, 64))
		}
	}
	p.end()
}

// Alert defines an alert by its place in the file.
func (w *Writer) Alert(index int, x *Alert) {
	p := w.own
	w.alerts++
	p.begin(recAlert)
	p.uint(uint64(index))
	p.text(x.Name)
	p.uint(uint64(x.Witness))
	p.int(int64(x.Within))
	p.uint(uint64(len(x.Fields)))
	for _, name := range x.Fields {
		p.text(name)
	}
	p.end()
}

// Round notes when a round sent. All streams, witnesses and alerts are defined before the first.
func (w *Writer) Round(r Round) {
	p := w.own
	p.begin(recRound)
	p.uint(uint64(r.N))
	p.when(r.Begin)
	p.when(r.End)
	p.when(r.Clock)
	p.text(r.Speed)
	p.uint(uint64(w.streams))
	p.uint(uint64(w.witnesses))
	p.uint(uint64(w.alerts))
	p.end()
}

// Over notes that the devices had stopped, what the plan's clock showed then, and how many messages were still under way when
// the time of the plan was over.
func (w *Writer) Over(round int, at, clock time.Time, open int) {
	p := w.own
	p.begin(recOver)
	p.uint(uint64(round))
	p.when(at)
	p.when(clock)
	p.uint(uint64(open))
	p.end()
}

// Left notes that devices left sessions on the broker of a link, and how long it keeps
// them; 0 is without end.
func (w *Writer) Left(link string, devices int, kept time.Duration) {
	p := w.own
	p.begin(recLeft)
	p.text(link)
	p.uint(uint64(devices))
	p.uint(uint64(kept))
	p.end()
}

// Due notes a message, what the platform has to do with it, and which alerts its values call
// for: two bits for each, the lower one if they call for it, the higher one if they arm it
// again. Carried is the JSON object of its fields; it is copied.
func (p *Page) Due(stream int, seq uint64, round int, due int64, meant Meant, calls uint64, carried []byte) {
	p.begin(recDue)
	p.uint(uint64(stream))
	p.uint(seq)
	p.uint(uint64(round))
	p.nano(due, false)
	p.buf = append(p.buf, byte(meant))
	p.uint(calls)
	p.bytes(carried)
	p.end()
}

// Sent notes that a message was handed to the network, in Unix nanoseconds. Anew: after
// an earlier time, and so that the platform may store it once more.
func (p *Page) Sent(stream int, seq uint64, at int64, anew bool) {
	p.begin(recSent)
	p.uint(uint64(stream))
	p.uint(seq)
	p.nano(at, false)
	p.bool(anew)
	p.end()
}

// Copied notes that a message was handed to the network once more, as the plan says.
func (p *Page) Copied(stream int, seq uint64, at int64) {
	p.begin(recCopied)
	p.uint(uint64(stream))
	p.uint(seq)
	p.nano(at, false)
	p.end()
}

// Settled notes the outcome of a message, with the protocol's code and text.
func (p *Page) Settled(stream int, seq uint64, at int64, o outcome.Outcome, code int, text string) {
	p.begin(recSettled)
	p.uint(uint64(stream))
	p.uint(seq)
	p.nano(at, false)
	p.buf = append(p.buf, byte(o))
	p.uint(uint64(code))
	p.text(text)
	p.end()
}

// Sighting notes what a witness found.
func (p *Page) Sighting(s *Sighting) {
	flags := byte(0)
	for i, set := range [...]bool{s.Again, s.Perhaps, s.Asked, s.Unsure} {
		if set {
			flags |= 1 << i
		}
	}
	p.begin(recSighting)
	p.uint(uint64(s.Witness))
	p.uint(uint64(s.Stream + 1))
	p.uint(s.Seq)
	p.when(s.Seen)
	p.when(s.Stored)
	p.buf = append(p.buf, flags)
	p.uint(s.Row)
	names := [...]string{s.Device, s.Reading, s.FiledDevice, s.FiledReading}
	if s.Stream >= 0 {
		names[0], names[1] = "", ""
	}
	n := len(names)
	for n > 0 && names[n-1] == "" {
		n--
	}
	p.uint(uint64(n))
	for _, name := range names[:n] {
		p.text(name)
	}
	p.bytes(s.Values)
	p.end()
}

// Said notes what the platform said by itself.
func (p *Page) Said(witness int, x *Said) {
	p.begin(recSaid)
	p.uint(uint64(witness))
	p.uint(uint64(x.Alert))
	p.uint(uint64(x.Stream + 1))
	p.text(x.Device)
	p.when(x.Seen)
	p.when(x.Stored)
	p.uint(x.Row)
	p.bool(x.Perhaps)
	p.text(x.Text)
	p.end()
}

// Count notes how many messages the platform says that it has of a stream's device, or in all
// where stream is -1: before the run, or now. From is the time that it was asked from.
func (p *Page) Count(witness, stream int, before bool, from time.Time, n int64) {
	p.begin(recCount)
	p.uint(uint64(witness))
	p.uint(uint64(stream + 1))
	p.bool(before)
	p.when(from)
	p.int(n)
	p.end()
}

// Clock notes by how much the clock of a witness's platform is ahead of ours: at least
// and at most, as it tells itself.
func (p *Page) Clock(witness int, least, most time.Duration) {
	p.begin(recClock)
	p.uint(uint64(witness))
	p.int(int64(least))
	p.int(int64(most))
	p.end()
}

// Gap notes a time in which a witness could not hear.
func (p *Page) Gap(witness int, g *Gap) {
	p.begin(recGap)
	p.uint(uint64(witness))
	p.when(g.From)
	p.when(g.To)
	p.bool(g.Kept)
	p.bool(g.Lag)
	p.bool(g.Whole)
	p.text(g.Why)
	p.end()
}

// Heard notes that a witness was heard to the end for a round, or why not.
func (p *Page) Heard(witness, round int, complete bool, why string) {
	p.begin(recHeard)
	p.uint(uint64(witness))
	p.uint(uint64(round))
	p.bool(complete)
	p.text(why)
	p.end()
}

// LinkChange is what happened to a device's connection.
type LinkChange uint8

// The changes of a connection.
const (
	Up         LinkChange = iota + 1 // it is there
	Renewed                          // it was made anew, for a new access token
	Down                             // it was lost
	NotHearing                       // the platform does not let it hear commands
	Remarked                         // the platform did something that its user should know
)

// LinkEvent is a change of a device's connection.
type LinkEvent struct {
	Stream int // the first of the device
	At     time.Time
	What   LinkChange
	Place  string // topic filter or path, of NotHearing
	Why    string // of Down, NotHearing and Remarked
	// Of Down: the message right after which the platform closed the connection, and how
	// often that was so; with Times 0, none is known.
	After Entry
	Times int
	// Early, of Down: the platform had not accepted the connection yet.
	Early bool
}

// Entry names a message: a stream, and its sequence number in it.
type Entry struct {
	Stream int
	Seq    uint64
}

// Link notes a change of a connection.
func (p *Page) Link(e *LinkEvent) {
	p.begin(recLink)
	p.uint(uint64(e.Stream))
	p.when(e.At)
	p.buf = append(p.buf, byte(e.What))
	p.text(e.Place)
	p.text(e.Why)
	p.uint(uint64(e.After.Stream))
	p.uint(e.After.Seq)
	p.uint(uint64(e.Times))
	p.bool(e.Early)
	p.end()
}

// Meant is what the platform has to do with a message. Its numbers stand in ledgers.
type Meant uint8

// What the platform may have to do.
const (
	ToKeep    Meant = iota // as of every message
	ToRefuse               // to say no, and keep nothing
	ToDiscard              // to keep nothing
	ToKeepOne              // to keep it once, though it goes out more than once
)

// Done is that something was done to a device, or undone.
type Done struct {
	Stream int    // the first of the device
	Event  string // of the plan; empty: a command did it
	Round  int
	Action Action
	At     time.Time
	Over   bool // it was undone
	Broke  bool // it breaks connections: what was just sent without an acknowledgement may be lost
	// Disturbs: messages may be late, or leave their device later, because of it.
	Disturbs bool
	Why      string // it could not be done
}

// Done notes it.
func (p *Page) Done(x *Done) {
	p.begin(recDone)
	p.uint(uint64(x.Stream))
	p.text(x.Event)
	p.uint(uint64(x.Round))
	p.text(x.Action.Kind)
	p.text(x.Action.Name)
	p.text(x.Action.Value)
	p.when(x.At)
	p.bool(x.Over)
	p.bool(x.Broke)
	p.bool(x.Disturbs)
	p.text(x.Why)
	p.end()
}

// Action is something that was done to a device: told as data, for whoever prints it.
type Action struct {
	Kind  string `json:"action"`          // as the crowd file names it
	Name  string `json:"name,omitempty"`  // the reading, property or field; empty: all readings
	Value string `json:"value,omitempty"` // the new interval or value; of send, the number of the message
}

// Command is something that the platform asked of a device.
type Command struct {
	Number uint64 // from 1, in a run
	Device string
	Name   string // empty: it is none that the device knows
	At     time.Time
	Topic  string // or path
	Body   []byte
	Done   bool
	Why    string   // it was not obeyed
	Did    []Action // what was done
	Asks   bool     // an answer is due, and is noted behind
	Answer *Answer  // nil: none was noted
}

// Answer is what a device said to a command.
type Answer struct {
	Due     time.Time
	How     How
	Body    []byte
	Sent    time.Time // zero: never
	At      time.Time // of the outcome
	Outcome outcome.Outcome
	Code    int
	Text    string
}

// How is how a device answers.
type How uint8

// The ways of answering.
const (
	Right How = iota
	Wrong     // on purpose
	Never     // on purpose
)

func (h How) String() string { return [...]string{"right", "wrong", "never"}[min(h, Never)] }

// Command notes a command, without its answer.
func (p *Page) Command(c *Command) {
	p.begin(recCommand)
	p.uint(c.Number)
	p.text(c.Device)
	p.text(c.Name)
	p.when(c.At)
	p.text(c.Topic)
	p.bytes(c.Body)
	p.bool(c.Done)
	p.text(c.Why)
	p.uint(uint64(len(c.Did)))
	for _, d := range c.Did {
		p.text(d.Kind)
		p.text(d.Name)
		p.text(d.Value)
	}
	p.bool(c.Asks)
	p.end()
}

// Answer notes that a command will be answered, or on purpose not.
func (p *Page) Answer(command uint64, a *Answer) {
	p.begin(recAnswer)
	p.uint(command)
	p.when(a.Due)
	p.buf = append(p.buf, byte(a.How))
	p.bytes(a.Body)
	p.end()
}

// Told notes what became of an answer, in Unix nanoseconds; sent may be 0.
func (p *Page) Told(command uint64, sent, at int64, o outcome.Outcome, code int, text string) {
	p.begin(recTold)
	p.uint(command)
	p.nano(sent, sent == 0)
	p.nano(at, false)
	p.buf = append(p.buf, byte(o))
	p.uint(uint64(code))
	p.text(text)
	p.end()
}

// Reopen opens a ledger to append evidence to it, a witness heard again later. ErrBusy:
// another process writes it.
func Reopen(path string) (*Writer, error) {
	l, err := lock(path)
	if err != nil {
		return nil, err
	}
	s, facts, err := look(path)
	var f *os.File
	if err == nil {
		f, err = os.OpenFile(path, os.O_APPEND|os.O_WRONLY, 0)
	}
	if err != nil {
		l.Unlock()
		return nil, err
	}
	w := open(f, l, s.key, facts.Start)
	w.session = s.session + 1
	w.own.begin(recReopened)
	w.own.when(clock.Now())
	w.own.end()
	w.Flush() // it stands in front of all that is added
	go w.flusher()
	return w, nil
}

// ErrNotALedger is the error for a file that is none.
var ErrNotALedger = errors.New("this is not a ledger")
