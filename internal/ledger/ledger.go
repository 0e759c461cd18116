package ledger

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/gofrs/flock"

	"runcrowd/internal/clock"
	"runcrowd/internal/folder"
)

// FlushEvery is how long a record waits at most before it is written.
const FlushEvery = 250 * time.Millisecond

// SyncEvery is how often what was written is brought to the disk itself, so that a power cut
// costs no more. Measured: 1 to 5 ms at 5 MB/s, 20 ms at 25 MB/s, which nobody waits for.
const SyncEvery = time.Second

// pageSize is how many bytes a page gathers before it is written early.
const pageSize = 128 << 10

// format is that of ledgers. The header line has it, and the first record: the line may be
// damaged.
const format = 13

// header begins the header line; the key follows, and a line break.
const header = "runcrowd ledger 13 "

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

// Writer writes a ledger. The first error stops all writing; it is told by
// Err, by Failed and by Close.
type Writer struct {
	file  *os.File
	lock  *flock.Flock
	key   []byte
	start time.Time
	// session is how often the file was opened again.
	session int
	stopped time.Time // when the last was written before that
	defined [3]int    // streams, witnesses and alerts

	mu     sync.Mutex // guards what follows; never held while the file is written
	err    error
	pages  []*Page
	full   []block // blocks that wait to be written, in order
	behind int     // how many bytes they are
	spare  [][]byte
	failed chan struct{}

	flushing sync.Mutex  // held while the file is written
	dirty    atomic.Bool // something was written that may not be on the disk itself
	own      *Page
	saveTo   string        // the file is copied there at the end
	defs     [][]byte      // the definitions that were written
	bell     chan struct{} // rings when a block is full
	stop     chan struct{}
	done     chan struct{}
}

// block is a page's bytes on their way to the file.
type block struct{ buf []byte }

// maxWaiting is how many bytes wait for the disk at most. A disk that is slower than that for
// as long ends the run, and it is told.
const maxWaiting = 128 << 20

// ErrSlowDisk is the error for a disk that does not keep up.
var ErrSlowDisk = errors.New("the disk does not keep up with what is recorded")

// Page gathers records. Its methods may be called from any goroutine, and never wait for
// the disk: the writer's own goroutine writes what a page has gathered.
type Page struct {
	w       *Writer
	index   int // in the order of their making
	witness int // whose sightings it holds; -1: of none
	mu      sync.Mutex
	seen    tallied // of a witness's
	c       coder
	x       entry  // what is written just now
	blocks  uint32 // so far
}

// lock takes the lock of a ledger. A reader that looks whether somebody writes holds it
// for a moment, so it is tried for a second.
func lock(path string) (*flock.Flock, error) {
	name := filepath.Join(filepath.Dir(path), LockName)
	if info, err := os.Lstat(name); err == nil && !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s is no regular file", name)
	}
	l := flock.New(name)
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	_, err := l.TryLockContext(ctx, 20*time.Millisecond)
	if errors.Is(err, context.DeadlineExceeded) {
		err = ErrBusy
	}
	return l, err
}

// Busy tells whether a process writes the ledger now.
func Busy(path string) bool {
	name := filepath.Join(filepath.Dir(path), LockName)
	if info, err := os.Lstat(name); err != nil || !info.Mode().IsRegular() {
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
	w := &Writer{file: f, lock: l, key: key, start: start, failed: make(chan struct{}), bell: make(chan struct{}, 1),
		stop: make(chan struct{}), done: make(chan struct{})}
	w.own = w.Page()
	return w
}

// Create makes the file; it must not exist yet.
func Create(path, run, crowd string, start time.Time) (*Writer, error) {
	l, err := lock(path)
	if err != nil {
		return nil, err
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_APPEND|os.O_RDWR, 0o600)
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
	w.own.mu.Lock()
	w.own.x.run, w.own.x.crowd, w.own.x.begun, w.own.x.format = run, crowd, start.UnixNano(), format
	w.own.write(recStart)
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
	p := &Page{w: w, witness: witness, c: coder{buf: make([]byte, pageHead, 4096), start: w.start.UnixNano()}}
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
	synced := time.Now()
	for {
		select {
		case <-w.stop:
			return
		case <-t.C:
			w.Flush()
			if time.Since(synced) >= SyncEvery && w.dirty.Swap(false) {
				w.file.Sync() // if that fails, writing will
				synced = time.Now()
			}
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

// handOver gives what the page has gathered to the writer, and tells how many bytes wait there.
// The caller holds p.mu.
func (p *Page) handOver() (waiting int) {
	if len(p.c.buf) <= pageHead {
		return 0
	}
	w := p.w
	at := clock.Nano()
	body := p.c.buf[frameSize:]
	binary.BigEndian.PutUint64(body, uint64(at))
	binary.BigEndian.PutUint32(body[8:], uint32(w.session))
	binary.BigEndian.PutUint32(body[12:], uint32(p.index))
	binary.BigEndian.PutUint32(body[16:], p.blocks)
	binary.BigEndian.PutUint32(body[20:], uint32(p.witness+1))
	p.blocks++
	w.mu.Lock()
	defer w.mu.Unlock()
	w.full = append(w.full, block{p.c.buf})
	if w.behind += cap(p.c.buf); w.behind > maxWaiting {
		w.fail(ErrSlowDisk)
	}
	if n := len(w.spare); n > 0 {
		p.c.buf, w.spare = w.spare[n-1][:pageHead], w.spare[:n-1]
	} else {
		p.c.buf = make([]byte, pageHead, 4096)
	}
	return w.behind
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
			w.dirty.Store(true)
			if _, err := w.file.Write(b.buf); err != nil {
				w.mu.Lock()
				w.fail(err)
				w.mu.Unlock()
			}
		}
		w.mu.Lock()
		w.behind -= cap(b.buf)
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
	w.own.mu.Lock()
	w.own.x.at, w.own.x.interrupted = clock.Now(), interrupted
	w.own.write(recEnd)
}

// SaveTo has Close copy the file to another place: its own name was removed.
func (w *Writer) SaveTo(path string) { w.saveTo = path }

func (w *Writer) save() error {
	info, err := w.file.Stat()
	if err != nil {
		return err
	}
	to, err := os.OpenFile(w.saveTo, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(to, io.NewSectionReader(w.file, 0, info.Size()))
	return errors.Join(err, to.Sync(), to.Close())
}

// Close writes what is left and closes the file.
func (w *Writer) Close() error {
	close(w.stop)
	<-w.done
	w.Flush()
	w.closed()
	w.Flush()
	w.file.Sync()
	if w.saveTo != "" {
		if err := w.save(); err != nil {
			w.mu.Lock()
			w.fail(err)
			w.mu.Unlock()
		}
	}
	err := w.file.Close()
	if w.lock != nil {
		w.lock.Unlock()
	}
	if w.err != nil {
		return w.err
	}
	return err
}

// definitions are the records that say what a ledger is about.
var definitions = []byte{recStart, recStream, recWitness, recAlert}

// mostDefined is about how many bytes of definitions stand in one record.
const mostDefined = 64 << 10

// define keeps a definition, to be written once more at the end. The caller holds the lock of the
// writer's own page.
func (w *Writer) define(record []byte) {
	n := len(w.defs)
	if n == 0 || len(w.defs[n-1]) > mostDefined {
		w.defs, n = append(w.defs, nil), n+1
	}
	w.defs[n-1] = append(w.defs[n-1], record...)
}

// defineAgain writes all definitions once more, from the beginning of a block.
func (w *Writer) defineAgain() {
	w.own.mu.Lock()
	w.own.handOver()
	w.own.mu.Unlock()
	for _, b := range w.defs {
		w.own.mu.Lock()
		w.own.x.again = Bytes{B: b}
		w.own.write(recDefinitions)
	}
}

// closed notes how many blocks each page has: whoever reads them all has lost none.
func (w *Writer) closed() {
	w.mu.Lock()
	pages := w.pages
	w.mu.Unlock()
	w.defineAgain()
	counts := make([]pageBlocks, len(pages))
	for i, p := range pages {
		p.mu.Lock()
		counts[i] = pageBlocks{uint64(p.blocks), p.witness, p.seen.others}
		seen := p.seen
		p.mu.Unlock()
		if p.witness >= 0 {
			w.tell(p.index, &seen)
		}
	}
	w.own.mu.Lock()
	counts[0].blocks = uint64(w.own.blocks) + 1 // with the block that this stands in
	w.own.x.pages = counts
	w.own.write(recClosed)
}

// witnessPage is pageSize for what witnesses found: a block that is damaged costs what is in it.
const witnessPage = 8 << 10

// most is how many bytes the page gathers.
func (p *Page) most() int {
	if p.witness >= 0 {
		return witnessPage
	}
	return pageSize
}

// write adds a record of what the page's entry says, hands the page over when it is full, and
// lets go of it: the caller holds p.mu.
func (p *Page) write(rec byte) {
	if p.witness >= 0 {
		if x := &p.x.Record; rec == recSighting && x.Sighting.Stream >= 0 {
			p.seen.add(x.Sighting.Stream, x.Sighting.Seq)
		} else {
			p.seen.others++
		}
	}
	from := len(p.c.buf)
	p.c.buf = append(p.c.buf, rec)
	records[rec].fields(&p.c, &p.x)
	if p == p.w.own && slices.Contains(definitions, rec) {
		p.w.define(p.c.buf[from:])
	}
	// What a witness found is written with the messages that it found, but for much of it.
	if len(p.c.buf) >= p.most() && p.handOver() >= pageSize {
		select {
		case p.w.bell <- struct{}{}:
		default:
		}
	}
	p.mu.Unlock()
}

// Reopen opens a ledger to append to it: a witness is heard again later, or the run goes on. ErrBusy:
// another process writes it.
func Reopen(path string) (*Writer, error) {
	l, err := lock(path)
	if err != nil {
		return nil, err
	}
	s, facts, err := look(path)
	var f *os.File
	if err == nil {
		f, err = folder.Open(filepath.Dir(path), filepath.Base(path), os.O_APPEND|os.O_RDWR)
	}
	if err != nil {
		l.Unlock()
		return nil, err
	}
	w := open(f, l, s.key, facts.Start)
	w.session, w.stopped = s.session+1, facts.LastWrite
	w.defined = [3]int{len(facts.Streams), len(facts.Witnesses), len(facts.Alerts)}
	w.own.mu.Lock()
	w.own.x.at = clock.Now()
	w.own.write(recReopened)
	w.Flush() // it stands in front of all that is added
	go w.flusher()
	return w, nil
}

// Stopped is when the last was written before the file was opened again.
func (w *Writer) Stopped() time.Time { return w.stopped }

// ErrNotALedger is the error for a file that is none.
var ErrNotALedger = errors.New("this is not a ledger")
