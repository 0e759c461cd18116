package ledger

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"path/filepath"
	"slices"
	"time"

	"runcrowd/internal/folder"
	"runcrowd/internal/outcome"
)

// RecordType is what a Record tells.
type RecordType uint8

// The records about messages and commands.
const (
	DueRecord      RecordType = recDue
	SentRecord     RecordType = recSent
	SettledRecord  RecordType = recSettled
	SightingRecord RecordType = recSighting
	CommandRecord  RecordType = recCommand
	AnswerRecord   RecordType = recAnswer
	ToldRecord     RecordType = recTold
	CopiedRecord   RecordType = recCopied
)

// Bytes are a part of a ledger.
type Bytes struct {
	B  []byte
	At int64 // where they stand in the file
}

// Record is one record about a message or a command. It is valid until the next one.
type Record struct {
	Type   RecordType
	Stream int
	Seq    uint64 // of a message; the number of a command
	Round  int
	// At is when it was due, sent, settled, seen or told, and Stored when a sighting was
	// stored, in Unix nanoseconds; 0 is no time.
	At, Stored int64
	Carried    Bytes  // of DueRecord
	Meant      Meant  // of DueRecord
	Calls      uint64 // of DueRecord
	Anew       bool   // of SentRecord: after an earlier time, and it may be stored once more
	Outcome    outcome.Outcome
	Code       int
	Text       Bytes // of SettledRecord and ToldRecord
	// Sighting is without its times; its values are in the file at ValuesAt.
	Sighting Sighting
	ValuesAt int64
	Command  *Command
	Answer   *Answer
}

// Scanner reads a ledger from its beginning, in memory that does not grow with the file.
// A ledger that is being written can be scanned again and again: each Scan goes on where
// the one before came to the end.
//
// Damage is no error: it is passed over and told in Facts.Damage, and costs its block
// alone. What a witness that listens heard in a lost block is a gap of it; one that asks
// was not heard to the end. An error means that the file is no ledger, or that what
// defines it was lost.
type Scanner struct {
	Facts Facts

	file    *os.File
	key     []byte
	at      int64 // of the next block
	buf     []byte
	bufAt   int64
	session int       // which is read
	opened  time.Time // when it began
	rounds  bool      // a round was read, which tells how much is defined
	bare    bool      // a block of the first page was lost before that
	given   bool      // what is defined was read at the end
	defined [3]int    // streams, witnesses and alerts that are defined
	hurt    bool      // bytes of the session are damaged
	pages   map[int]*pageState
	current *pageState // whose block is read
	// unheard is, by witness, the last session in which a block of what it saw was lost.
	unheard map[int]int
	coder   coder
	entry   entry
	start   int64 // of the run, in Unix nanoseconds
	played  int64 // when the last message of the last round was due
}

// pageState is how far a page of a session was read.
type pageState struct {
	witness int
	next    uint32
	at      time.Time // of its last block
	read    tallied
	told    map[part]Lost  // of all that it holds
	holes   [][2]time.Time // when blocks that are missing were written
}

// ahead is how much of the file is read at once.
const ahead = 1 << 20

// longest is how long a block may be to be read before it is checked.
const longest = 4 << 20

// NewScanner opens a ledger.
func NewScanner(path string) (*Scanner, error) {
	// What is no regular file is not opened: that may never end. A link leads elsewhere.
	f, err := folder.Open(filepath.Dir(path), filepath.Base(path), os.O_RDONLY)
	if errors.Is(err, folder.ErrNotRegular) || errors.Is(err, folder.ErrLink) {
		return nil, ErrNotALedger
	}
	if err != nil {
		return nil, err
	}
	s := &Scanner{file: f, pages: map[int]*pageState{}, unheard: map[int]int{}}
	err = s.begin()
	if err == nil {
		err = s.defineFirst()
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return s, nil
}

// begin reads the header line.
func (s *Scanner) begin() error {
	line, err := s.window(0, headerSize)
	if err != nil {
		return err
	}
	if len(line) < headerSize {
		return ErrNotALedger
	}
	// A line that is damaged is no matter where the first block is as it was, which has the format.
	intact := string(line[:len(header)]) == header && line[headerSize-1] == '\n'
	s.at = int64(headerSize)
	key, wrong := hex.DecodeString(string(line[len(header) : headerSize-1]))
	first, err := s.window(s.at, keySize)
	if err != nil {
		return err
	}
	first = bytes.Clone(first)
	for i, k := range [][]byte{key, first} {
		if s.key = key; i > 0 && wrong == nil { // perhaps it is the first block's own that is damaged
			if at, err := s.find(s.at); err != nil || at > 0 {
				s.key = key
				break
			}
		}
		s.key = k
		body, _, err := s.frame(s.at)
		if err != nil {
			return err
		}
		if body != nil {
			if !intact || wrong != nil || !bytes.Equal(k, key) { // it is the header line that is damaged
				s.Facts.Damage = append(s.Facts.Damage, Damage{0, int64(headerSize)})
			}
			return nil
		}
	}
	s.key = key
	if wrong != nil || !intact {
		return ErrNotALedger
	}
	return nil
}

// defineFirst takes what the ledger is about from its end, where it was closed, if that is
// damaged at its beginning.
func (s *Scanner) defineFirst() error {
	if s.defines() {
		return nil
	}
	at, err := s.find(int64(headerSize))
	for ; err == nil && at > 0; at, err = s.find(at + 1) {
		body, _, err := s.frame(at)
		if err != nil {
			return err
		}
		if len(body) <= bodyHead || body[bodyHead] != recDefinitions {
			continue
		}
		c := &coder{mode: reads, buf: body[bodyHead:]}
		for len(c.buf) > 0 && c.err == nil && c.takeByte() == recDefinitions {
			records[recDefinitions].fields(c, &s.entry)
			if s.takeDefinitions(bytes.Clone(s.entry.again.B)) != nil {
				return nil // it is told what is damaged when it is read
			}
		}
		s.given = s.Facts.Run != ""
	}
	return err
}

// defines tells whether all that stands before the first round can be read.
func (s *Scanner) defines() bool {
	at, next := s.at, uint32(0)
	for {
		body, from, err := s.frame(at)
		if err != nil || body == nil {
			size, wrong := s.Size()
			return err == nil && wrong == nil && at >= size // it ends here
		}
		session, page, n := binary.BigEndian.Uint32(body[8:]), binary.BigEndian.Uint32(body[12:]), binary.BigEndian.Uint32(body[16:])
		if session > 0 || page > 0 || n != next { // these come later
			return false
		}
		next++
		at = from + int64(len(body))
		if s.tellsRound(body[bodyHead:]) {
			return true
		}
	}
}

// tellsRound tells whether a record of a round is among those of a block.
func (s *Scanner) tellsRound(told []byte) bool {
	var x entry
	c := &coder{mode: reads, buf: told}
	for len(c.buf) > 0 && c.err == nil {
		rec := c.takeByte()
		if rec == recRound {
			return true
		}
		if int(rec) >= len(records) || records[rec].fields == nil || rec == recCommand || rec == recAnswer || rec == recTold {
			return false
		}
		records[rec].fields(c, &x)
	}
	return false
}

// takeDefinitions takes definitions.
func (s *Scanner) takeDefinitions(told []byte) error {
	c := &coder{mode: reads, buf: told, start: s.start}
	for len(c.buf) > 0 && c.err == nil {
		if err := s.next(c, func(*Record) error { return nil }); err != nil {
			return err
		}
	}
	return c.err
}

// Close closes the file.
func (s *Scanner) Close() error { return s.file.Close() }

// Size is how many bytes the file has now.
func (s *Scanner) Size() (int64, error) {
	info, err := s.file.Stat()
	if err != nil {
		return 0, err
	}
	return info.Size(), nil
}

// Read reads a part of the file, as a Record told its place.
func (s *Scanner) Read(at int64, n int) ([]byte, error) {
	b := make([]byte, n)
	_, err := s.file.ReadAt(b, at)
	return b, err
}

// window is n bytes of the file; fewer at its end. It is valid until the next call.
func (s *Scanner) window(at int64, n int) ([]byte, error) {
	if from := at - s.bufAt; from >= 0 && from+int64(n) <= int64(len(s.buf)) {
		return s.buf[from : from+int64(n)], nil
	}
	want := max(n, ahead)
	if cap(s.buf) < want {
		s.buf = make([]byte, want)
	}
	s.buf, s.bufAt = s.buf[:want], at
	k, err := s.file.ReadAt(s.buf, at)
	s.buf = s.buf[:k]
	if err != nil && err != io.EOF {
		return nil, err
	}
	return s.buf[:min(n, k)], nil
}

// frame is the body of the block at a place, and its place; nil where no whole block is.
func (s *Scanner) frame(at int64) ([]byte, int64, error) {
	head, err := s.window(at, frameSize)
	if err != nil || len(head) < frameSize || !bytes.Equal(head[:keySize], s.key) {
		return nil, 0, err
	}
	n, sum := int(binary.BigEndian.Uint32(head[keySize:])), binary.BigEndian.Uint32(head[keySize+4:])
	if n <= bodyHead {
		return nil, 0, nil
	}
	from := at + frameSize
	if n > longest { // perhaps it is the length that is damaged
		h := crc32.New(castagnoli)
		if k, err := io.Copy(h, io.NewSectionReader(s.file, from, int64(n))); err != nil || k < int64(n) || h.Sum32() != sum {
			return nil, 0, err
		}
	}
	body, err := s.window(from, n)
	if err != nil || len(body) < n || crc32.Checksum(body, castagnoli) != sum {
		return nil, 0, err
	}
	return body, from, nil
}

// find is the place of the first whole block from a place on; 0 if there is none.
func (s *Scanner) find(at int64) (int64, error) {
	for {
		part, err := s.window(at, ahead)
		if err != nil || len(part) < frameSize {
			return 0, err
		}
		k := bytes.Index(part, s.key)
		if k < 0 {
			at += int64(len(part) - keySize + 1)
			continue
		}
		at += int64(k)
		body, _, err := s.frame(at)
		if err != nil || body != nil {
			return at, err
		}
		at++
	}
}

// Scan reads all whole blocks up to the end of the file, and hands each record about a
// message or a command to see. It stops at the first error of see.
func (s *Scanner) Scan(see func(*Record) error) error {
	for {
		body, from, err := s.frame(s.at)
		if err != nil {
			return err
		}
		passed := int64(0)
		if body == nil {
			next, err := s.find(s.at + 1)
			if err != nil {
				return err
			}
			if next == 0 {
				return nil
			}
			// Perhaps it was being written, and is whole by now: what stands behind it was
			// written later.
			s.buf = s.buf[:0]
			if body, from, err = s.frame(s.at); err != nil {
				return err
			}
			if body == nil {
				passed = next - s.at
				if body, from, err = s.frame(next); err != nil || body == nil {
					return err
				}
			}
		}
		if err := s.block(body, from, passed, see); err != nil {
			return err
		}
		s.at = from + int64(len(body))
	}
}

// Finish ends the scanning, and tells what was found beside the messages. It is called
// once.
func (s *Scanner) Finish() (*Facts, error) {
	f := &s.Facts
	size, err := s.Size()
	if err != nil {
		return nil, err
	}
	if s.played != 0 {
		f.Played = time.Unix(0, s.played)
	}
	f.Torn += max(0, size-s.at)
	f.Good += int64(headerSize)
	if f.Run == "" {
		if len(f.Damage) > 0 {
			return nil, fmt.Errorf("it is damaged at byte %d, where it says what run it is of", f.Damage[0].At)
		}
		return nil, ErrNotALedger
	}
	s.settle(time.Time{})
	if s.rounds && s.defined != [3]int{len(f.Streams), len(f.Witnesses), len(f.Alerts)} || !s.rounds && s.bare {
		return nil, s.undefined()
	}
	for i := range f.Witnesses {
		w := &f.Witnesses[i]
		w.Lost = slices.DeleteFunc(w.Lost, func(x Lost) bool { return w.heardAfter(f.Rounds, x.session) })
		last, lost := s.unheard[i]
		for n, h := range w.Heard {
			if lost && h.Complete && h.session <= last {
				w.Heard[n] = Hearing{Why: "a part of the ledger is damaged, which may hold what it saw"}
			}
		}
	}
	return f, nil
}

// heardAfter tells whether an asking witness was heard to the end of every round in a later session:
// what it saw before is told once more.
func (w *Witness) heardAfter(rounds []Round, session int) bool {
	return !w.Listens && len(rounds) > 0 && !slices.ContainsFunc(rounds, func(r Round) bool {
		h := w.Heard[r.N]
		return !h.Complete || h.session <= session
	})
}

// undefined is the error for a ledger that does not say what it is about.
func (s *Scanner) undefined() error {
	at := int64(0)
	if len(s.Facts.Damage) > 0 {
		at = s.Facts.Damage[0].At
	}
	return fmt.Errorf("it is damaged at byte %d, where it says what devices and witnesses there are", at)
}

// settle ends a session that was not closed: where bytes of it are damaged, each page may
// have lost its last blocks.
func (s *Scanner) settle(until time.Time) {
	if s.hurt {
		s.Facts.Lost, s.bare = true, s.bare || !s.given && s.session == 0 && !s.rounds
		since := make([]time.Time, len(s.Facts.Witnesses))
		for _, p := range s.pages {
			if p.witness >= 0 && p.witness < len(since) {
				since[p.witness] = p.at
			}
		}
		for i, at := range since {
			if at.IsZero() { // its page may be lost as a whole
				at = s.opened
			}
			s.lost(i, at, until)
		}
	}
	s.hurt = false
	for _, p := range s.pages {
		s.fill(p)
	}
}

// fill notes as lost what a page of a witness lacks, where nothing tells what it was.
func (s *Scanner) fill(p *pageState) {
	for _, x := range p.holes {
		s.lost(p.witness, x[0], x[1])
	}
	p.holes = nil
}

// lost notes that blocks of a page are missing, which were written in a time.
func (s *Scanner) lost(witness int, from, to time.Time) {
	switch f := &s.Facts; {
	case witness < 0:
		f.Lost = true
	case witness >= len(f.Witnesses):
	case f.Witnesses[witness].Listens:
		w := &f.Witnesses[witness]
		w.Gaps = append(w.Gaps, Gap{From: from, To: to, Why: "a part of the ledger is damaged"})
	default:
		s.unheard[witness] = s.session
	}
}

// page accounts for a block of a page. It tells false for a block that was read already,
// and stands in the file once more.
func (s *Scanner) page(body []byte) bool {
	at := time.Unix(0, int64(binary.BigEndian.Uint64(body)))
	session, index, n, witness := int(binary.BigEndian.Uint32(body[8:])), int(
		binary.BigEndian.Uint32(body[12:])), binary.BigEndian.Uint32(body[16:]), int(binary.BigEndian.Uint32(body[20:]))-1
	switch {
	case session < s.session:
		return false
	case session > s.session:
		s.settle(at)
		s.session, s.opened = session, s.Facts.LastWrite
		clear(s.pages)
	}
	p := s.pages[index]
	if p == nil {
		p = &pageState{witness: witness, at: s.opened}
		s.pages[index] = p
	}
	if n < p.next {
		return false
	}
	if s.current = p; n > p.next {
		if witness >= 0 { // perhaps what it held is told at the end
			p.holes = append(p.holes, [2]time.Time{p.at, at})
		} else {
			s.lost(witness, p.at, at)
		}
		s.bare = s.bare || !s.given && index == 0 && session == 0 && !s.rounds
	}
	p.next, p.at = n+1, at
	s.Facts.LastWrite = at
	return true
}

// block reads one block, behind bytes that were passed over.
func (s *Scanner) block(body []byte, from, passed int64, see func(*Record) error) error {
	f := &s.Facts
	told := body[bodyHead:]
	if passed > 0 {
		if told[0] == recReopened && !s.hurt { // a process was killed here, and another came later
			f.Torn += passed
		} else {
			f.Damage = append(f.Damage, Damage{from - frameSize - passed, passed})
			s.hurt = true
		}
	}
	if !s.page(body) {
		f.Damage = append(f.Damage, Damage{from - frameSize, frameSize + int64(len(body))})
		s.hurt = true
		return nil
	}
	c := &s.coder
	*c = coder{mode: reads, buf: told, at: from + bodyHead, start: s.start}
	for len(c.buf) > 0 && c.err == nil {
		if err := s.next(c, see); err != nil {
			if f.Run == "" && len(f.Damage) > 0 {
				return fmt.Errorf("it is damaged at byte %d, where it says what run it is of", f.Damage[0].At)
			}
			if s.bare {
				return s.undefined()
			}
			return err
		}
	}
	if c.err != nil && s.bare {
		return s.undefined()
	}
	if c.err != nil {
		return fmt.Errorf("it is damaged at byte %d: %w", c.at, c.err)
	}
	f.Good += frameSize + int64(len(body))
	return nil
}

// next reads one record.
func (s *Scanner) next(c *coder, see func(*Record) error) error {
	f, x := &s.Facts, &s.entry
	rec := c.takeByte()
	switch {
	case c.err != nil:
		return nil
	case rec != recStart && f.Run == "":
		return fmt.Errorf("a record of type %d stands before the one that says what run it is of", rec)
	case int(rec) >= len(records) || records[rec].fields == nil:
		return fmt.Errorf("a record of the unknown type %d", rec)
	case rec == recCommand:
		x.Command = &Command{}
	case rec == recAnswer || rec == recTold:
		x.Answer = &Answer{}
	}
	if records[rec].fields(c, x); c.err != nil {
		return nil
	}
	if s.current != nil {
		s.current.read.others++
	}
	x.Type = RecordType(rec)
	switch rec {
	case recDue, recSent, recSettled, recCopied:
		if err := s.message(c, rec, &x.Record); err != nil || c.err != nil {
			return err
		}
		return see(&x.Record)
	case recSighting:
		return s.sighting(c, see)
	case recCommand:
		x.Seq = x.Command.Number
		return see(&x.Record)
	case recAnswer, recTold:
		return see(&x.Record)
	case recStart, recStream, recWitness, recAlert:
		if s.given && s.session == 0 { // at the end it stands once more
			return nil
		}
		if rec != recStart {
			return s.define(rec)
		}
		if x.format != format {
			return ErrNotALedger
		}
		f.Run, f.Crowd, f.Start = x.run, x.crowd, time.Unix(0, x.begun)
		s.start, c.start, s.opened = x.begun, x.begun, f.Start
	case recRound:
		f.Rounds = append(f.Rounds, x.round)
		s.rounds, s.defined, s.played = true, x.defined, 0
	case recOver:
		for i := range f.Rounds {
			if r := &f.Rounds[i]; r.N == x.round.N {
				r.Over, r.Stopped, r.Open = x.round.Over, x.round.Stopped, x.round.Open
			}
		}
	case recLeft:
		f.Left = append(f.Left, x.left)
	case recLink:
		if s.within(c, x.link.Stream) && (x.link.Times == 0 || s.within(c, x.link.After.Stream)) {
			f.Links.add(&x.link)
		}
	case recDone:
		if s.within(c, x.done.Stream) {
			f.Actions.add(&x.done)
		}
	case recStill:
		if n := len(f.Still); n < mostStill {
			f.Still = append(f.Still, x.still)
		} else { // the rest is one
			f.Still[n-1].To = x.still.To
		}
	case recRetained:
		f.Retained = append(f.Retained, x.retained)
	case recTurns:
		f.Turns = x.turns
	case recEnd:
		f.Ended, f.Interrupted = true, x.interrupted
	case recReopened:
		s.opened = x.at
	case recResumed:
		f.Resumed = append(f.Resumed, x.resumed)
		f.Ended, f.Interrupted = false, false
	case recSkipped:
		if k := x.skipped; s.within(c, k.stream) && k.from > f.Last[k.stream] && k.to >= k.from {
			if f.skipped == nil {
				f.skipped = map[int]Spans{}
			}
			list := f.skipped[k.stream]
			list.AddRange(k.from, k.to)
			f.skipped[k.stream], f.Last[k.stream] = list, k.to
		}
	case recSeen:
		p := s.pages[x.index]
		if p == nil {
			p = &pageState{witness: -1, at: s.opened}
			s.pages[x.index] = p
		}
		if p.told == nil {
			p.told = map[part]Lost{}
		}
		for _, y := range x.told {
			p.told[part{y.Stream, y.Part}] = y
		}
	case recClosed:
		s.closed(x.pages)
	default:
		if x.witness < len(f.Witnesses) { // that of another ledger tells nothing
			return s.testimony(rec, &f.Witnesses[x.witness])
		}
	}
	return nil
}

// within tells whether there is such a stream. Where there is none, what defines it is lost.
func (s *Scanner) within(c *coder, stream int) bool {
	if stream < len(s.Facts.Streams) {
		return true
	}
	c.fail()
	s.bare = !s.given
	return false
}

// define takes what defines a stream, a witness or an alert: each comes once, in order.
func (s *Scanner) define(rec byte) error {
	f, x := &s.Facts, &s.entry
	what, have := "stream", len(f.Streams)
	switch rec {
	case recStream:
		f.Streams, f.Last = append(f.Streams, x.stream), append(f.Last, 0)
	case recWitness:
		what, have = "witness", len(f.Witnesses)
		x.wit.Heard = map[int]Hearing{}
		f.Witnesses = append(f.Witnesses, x.wit)
	case recAlert:
		what, have = "alert", len(f.Alerts)
		if x.alert.Witness >= len(f.Witnesses) {
			return fmt.Errorf("the alert %q is heard by a witness that is none", x.alert.Name)
		}
		f.Alerts = append(f.Alerts, x.alert)
	}
	if x.index != have {
		return fmt.Errorf("%s %d comes after %d", what, x.index, have)
	}
	return nil
}

// message takes a record about a message: the one that makes it due comes first.
func (s *Scanner) message(c *coder, rec byte, r *Record) error {
	f := &s.Facts
	if !s.within(c, r.Stream) {
		return nil
	}
	last := f.Last[r.Stream]
	if rec != recDue {
		if r.Seq < 1 || r.Seq > last && !f.torn() || r.Seq > last+maxHole {
			return fmt.Errorf("a record of message %d of stream %d stands before the message", r.Seq, r.Stream)
		}
		f.Last[r.Stream] = max(last, r.Seq)
		return nil
	}
	if r.Seq <= last || r.Seq > last+1 && !f.torn() || r.Seq > last+maxHole {
		return fmt.Errorf("message %d of stream %d is out of place", r.Seq, r.Stream)
	}
	f.Last[r.Stream] = r.Seq
	if n := len(f.Rounds); n > 0 && f.Rounds[n-1].N == r.Round && r.At > s.played {
		s.played = r.At
	}
	return nil
}

// sighting takes what a witness found.
func (s *Scanner) sighting(c *coder, see func(*Record) error) error {
	r := &s.entry.Record
	x := &r.Sighting
	if !s.within(c, x.Stream) {
		return nil
	}
	if x.Witness >= len(s.Facts.Witnesses) {
		return nil
	}
	s.Facts.Witnesses[x.Witness].Sightings++
	if s.current != nil && x.Stream >= 0 {
		s.current.read.add(x.Stream, x.Seq)
		s.current.read.others-- // it was counted as one
	}
	x.Values, r.ValuesAt, r.Stream, r.Seq = r.Carried.B, r.Carried.At, x.Stream, x.Seq
	return see(r)
}

// testimony takes what is told of a witness.
func (s *Scanner) testimony(rec byte, w *Witness) error {
	f, x := &s.Facts, &s.entry
	switch rec {
	case recGap:
		w.Gaps = append(w.Gaps, x.gap)
	case recHeard:
		x.hearing.session = s.session
		w.Heard[x.Round] = x.hearing
	case recClock:
		offset := x.offset
		w.Clock = &offset
	case recCount:
		k := &x.counted
		switch {
		case k.stream >= len(f.Streams):
			return errors.New("a count is of no device")
		case k.before:
			w.Before, w.From = counted(w.Before, k.stream, k.n), k.from
		default:
			w.Now = counted(w.Now, k.stream, k.n)
		}
	case recSaid:
		said := &x.said
		if said.Alert >= len(f.Alerts) || said.Stream >= len(f.Streams) {
			return errors.New("what the platform said is of no alert, or of no device")
		}
		w.Sightings++
		if n := &f.Alerts[said.Alert]; len(n.Said) < MostSaid {
			n.Said = append(n.Said, *said)
		} else {
			n.More++
		}
	}
	return nil
}

// torn tells whether records of messages can be missing between others.
func (f *Facts) torn() bool { return f.Lost || len(f.Damage) > 0 }

// maxHole bounds how many messages one damaged place can have held.
const maxHole = 1 << 20

// closed holds the number of blocks that each page had against those that were read.
func (s *Scanner) closed(pages []pageBlocks) {
	for i, x := range pages {
		p := s.pages[i]
		if p == nil {
			p = &pageState{witness: x.witness, at: s.opened}
			s.pages[i] = p
		}
		if p.next == 0 {
			p.witness = x.witness
		}
		if x.blocks > uint64(p.next) {
			p.holes = append(p.holes, [2]time.Time{p.at, s.Facts.LastWrite})
		}
		if len(p.holes) == 0 {
			continue
		}
		if w := x.witness; w >= 0 && w == p.witness && w < len(s.Facts.Witnesses) {
			if lost, is := p.read.lacks(p.told, x.others); is {
				for _, x := range lost {
					x.session = s.session
					s.Facts.Witnesses[w].Lost = append(s.Facts.Witnesses[w].Lost, x)
				}
				p.holes = nil
				continue
			}
		}
		s.fill(p)
	}
	s.hurt = false
}

// look reads only what a ledger tells beside its messages.
func look(path string) (*Scanner, *Facts, error) {
	s, err := NewScanner(path)
	if err != nil {
		return nil, nil, err
	}
	defer s.Close()
	if err := s.Scan(func(*Record) error { return nil }); err != nil {
		return nil, nil, err
	}
	f, err := s.Finish()
	return s, f, err
}

// Look reads what a ledger tells beside its messages.
func Look(path string) (*Facts, error) {
	_, f, err := look(path)
	return f, err
}

func counted(m map[int]int64, stream int, n int64) map[int]int64 {
	if m == nil {
		m = map[int]int64{}
	}
	m[stream] = n
	return m
}

func nanoOf(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixNano()
}
