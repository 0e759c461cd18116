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
	"strconv"
	"time"

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

	file               *os.File
	key                []byte
	at                 int64 // of the next block
	buf                []byte
	bufAt              int64
	session            int       // which is read
	opened             time.Time // when it began
	rounds             bool      // a round was read, which tells how much is defined
	bare               bool      // a block of the first page was lost before that
	streams, witnesses uint64    // that are defined
	alerts             uint64    // the same
	hurt               bool      // bytes of the session are damaged
	pages              map[int]*pageState
	// unheard is, by witness, the last session in which a block of what it saw was lost.
	unheard map[int]int
	record  Record
	start   int64 // of the run, in Unix nanoseconds
	played  int64 // when the last message of the last round was due
}

// pageState is how far a page of a session was read.
type pageState struct {
	witness int
	next    uint32
	at      time.Time // of its last block
}

// ahead is how much of the file is read at once.
const ahead = 1 << 20

// longest is how long a block may be to be read before it is checked.
const longest = 4 << 20

// NewScanner opens a ledger.
func NewScanner(path string) (*Scanner, error) {
	// What is no regular file is not opened: that may never end.
	if info, err := os.Stat(path); err != nil {
		return nil, err
	} else if !info.Mode().IsRegular() {
		return nil, ErrNotALedger
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	s := &Scanner{file: f, pages: map[int]*pageState{}, unheard: map[int]int{}}
	if err := s.begin(); err != nil {
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
	if len(line) < headerSize || string(line[:len(header)]) != header || line[headerSize-1] != '\n' {
		return ErrNotALedger
	}
	s.at = int64(headerSize)
	key, wrong := hex.DecodeString(string(line[len(header) : headerSize-1]))
	first, err := s.window(s.at, keySize)
	if err != nil {
		return err
	}
	first = bytes.Clone(first)
	for _, k := range [][]byte{key, first} {
		s.key = k
		body, _, err := s.frame(s.at)
		if err != nil {
			return err
		}
		if body != nil {
			if wrong != nil || !bytes.Equal(k, key) { // it is the header line that is damaged
				s.Facts.Damage = append(s.Facts.Damage, Damage{0, int64(headerSize)})
			}
			return nil
		}
	}
	s.key = key
	if wrong != nil {
		return ErrNotALedger
	}
	return nil
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

// find is the place of the first whole block behind a place; -1 if there is none.
func (s *Scanner) find(at int64) (int64, error) {
	for {
		part, err := s.window(at, ahead)
		if err != nil || len(part) < frameSize {
			return -1, err
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
			if next < 0 {
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
	if s.rounds && (s.streams != uint64(len(f.Streams)) || s.witnesses != uint64(len(f.Witnesses)) || s.alerts != uint64(len(f.Alerts))) || !s.rounds && s.bare {
		return nil, s.undefined()
	}
	for i := range f.Witnesses {
		w := &f.Witnesses[i]
		last, lost := s.unheard[i]
		for n, h := range w.Heard {
			if lost && h.Complete && h.session <= last {
				w.Heard[n] = Hearing{Why: "a part of the ledger is damaged, which may hold what it saw"}
			}
		}
	}
	return f, nil
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
		s.Facts.Lost, s.bare = true, s.bare || s.session == 0 && !s.rounds
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
	session, index, n, witness := int(binary.BigEndian.Uint32(body[8:])), int(binary.BigEndian.Uint32(body[12:])), binary.BigEndian.Uint32(body[16:]), int(binary.BigEndian.Uint32(body[20:]))-1
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
	if n > p.next {
		s.lost(witness, p.at, at)
		s.bare = s.bare || index == 0 && session == 0 && !s.rounds
	}
	p.next, p.at = n+1, at
	s.Facts.LastWrite = at
	return true
}

// block reads one block, behind bytes that were passed over.
func (s *Scanner) block(body []byte, from, passed int64, see func(*Record) error) error {
	f := &s.Facts
	records := body[bodyHead:]
	if passed > 0 {
		if records[0] == recReopened && !s.hurt { // a process was killed here, and another came later
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
	d := &decoder{b: records, at: from + bodyHead, start: s.start}
	for len(d.b) > 0 && d.err == nil {
		if err := s.next(d, see); err != nil {
			if f.Run == "" && len(f.Damage) > 0 {
				return fmt.Errorf("it is damaged at byte %d, where it says what run it is of", f.Damage[0].At)
			}
			if s.bare {
				return s.undefined()
			}
			return err
		}
	}
	if d.err != nil && s.bare {
		return s.undefined()
	}
	if d.err != nil {
		return fmt.Errorf("it is damaged at byte %d: %w", d.at, d.err)
	}
	f.Good += frameSize + int64(len(body))
	return nil
}

// next reads one record.
func (s *Scanner) next(d *decoder, see func(*Record) error) error {
	f, r := &s.Facts, &s.record
	rec := d.byte()
	if rec != recStart && f.Run == "" && d.err == nil {
		return fmt.Errorf("a record of type %d stands before the one that says what run it is of", rec)
	}
	switch rec {
	case recStart:
		f.Run, f.Crowd, f.Start = d.text(), d.text(), time.Unix(0, d.int())
		s.start, d.start, s.opened = f.Start.UnixNano(), f.Start.UnixNano(), f.Start
		return nil
	case recStream:
		return s.stream(d)
	case recRound:
		f.Rounds = append(f.Rounds, Round{N: d.whole(), Begin: d.when(), End: d.when(), Clock: d.when(), Speed: d.text()})
		s.rounds, s.streams, s.witnesses, s.alerts = true, d.uint(), d.uint(), d.uint()
		s.played = 0
		return nil
	case recOver:
		n, at, clock, open := d.whole(), d.when(), d.when(), d.whole()
		for i := range f.Rounds {
			if f.Rounds[i].N == n && d.err == nil {
				f.Rounds[i].Over, f.Rounds[i].Stopped, f.Rounds[i].Open = at, clock, open
			}
		}
		return nil
	case recLeft:
		if x := (LeftSessions{d.text(), d.whole(), time.Duration(d.whole())}); d.err == nil {
			f.Left = append(f.Left, x)
		}
		return nil
	case recWitness:
		i := d.uint()
		w := Witness{Name: d.text(), Proof: d.text(), Within: time.Duration(d.int()), WatchCopies: time.Duration(d.int()), Wait: time.Duration(d.int()), Listens: d.bool(), Latest: d.bool(), Types: Types(d.upTo(uint64(TextAlone))), TimeOf: TimeOf(d.upTo(uint64(TimeOfDevice))), Heard: map[int]Hearing{}}
		for n := d.uint(); n > 0 && n < maxIndex && d.err == nil; n-- {
			if w.Fields == nil {
				w.Fields = map[string]FieldRule{}
			}
			name := d.text()
			w.Fields[name] = FieldRule{Ignored: d.bool(), As: d.text(), Tolerance: d.number(), Factor: d.number(), Offset: d.number()}
		}
		if d.err == nil && i != uint64(len(f.Witnesses)) {
			return fmt.Errorf("witness %d comes after %d", i, len(f.Witnesses))
		}
		f.Witnesses = append(f.Witnesses, w)
		return nil
	case recAlert:
		i, n := d.uint(), Alert{Name: d.text(), Witness: d.whole(), Within: time.Duration(d.int())}
		for k := d.uint(); k > 0 && k < maxIndex && d.err == nil; k-- {
			n.Fields = append(n.Fields, d.text())
		}
		if d.err == nil && i != uint64(len(f.Alerts)) {
			return fmt.Errorf("alert %d comes after %d", i, len(f.Alerts))
		}
		if d.err == nil && n.Witness >= len(f.Witnesses) {
			return fmt.Errorf("the alert %q is heard by a witness that is none", n.Name)
		}
		f.Alerts = append(f.Alerts, n)
		return nil
	case recSaid:
		w, x := s.witness(d), Said{d.whole(), d.whole() - 1, d.text(), d.when(), d.when(), d.uint(), d.bool(), d.text()}
		if w == nil || d.err != nil {
			return nil
		}
		if x.Alert >= len(f.Alerts) || x.Stream >= len(f.Streams) {
			return errors.New("what the platform said is of no alert, or of no device")
		}
		w.Sightings++
		if n := &f.Alerts[x.Alert]; len(n.Said) < MostSaid {
			n.Said = append(n.Said, x)
		} else {
			n.More++
		}
		return nil
	case recGap:
		if w, x := s.witness(d), (Gap{d.when(), d.when(), d.bool(), d.bool(), d.bool(), d.text()}); w != nil {
			w.Gaps = append(w.Gaps, x)
		}
		return nil
	case recHeard:
		if w, n, h := s.witness(d), d.whole(), (Hearing{d.bool(), d.text(), s.session}); w != nil {
			w.Heard[n] = h
		}
		return nil
	case recCount:
		w, stream, before, from, n := s.witness(d), d.whole()-1, d.bool(), d.when(), d.int()
		switch {
		case w == nil || d.err != nil:
		case stream >= len(f.Streams):
			return errors.New("a count is of no device")
		case before:
			w.Before, w.From = counted(w.Before, stream, n), from
		default:
			w.Now = counted(w.Now, stream, n)
		}
		return nil
	case recClock:
		if w, x := s.witness(d), (Offset{time.Duration(d.int()), time.Duration(d.int())}); w != nil {
			w.Clock = &x
		}
		return nil
	case recLink:
		e := &LinkEvent{s.index(d), d.when(), LinkChange(d.upTo(uint64(Remarked))), d.text(), d.text(), Entry{d.whole(), d.uint()}, d.whole(), d.bool()}
		if d.err == nil && e.Times > 0 && e.After.Stream >= len(f.Streams) {
			d.fail()
		}
		if d.err == nil {
			f.Links.add(e)
		}
		return nil
	case recDone:
		x := &Done{s.index(d), d.text(), d.whole(), Action{d.text(), d.text(), d.text()}, d.when(), d.bool(), d.bool(), d.bool(), d.text()}
		if d.err == nil {
			f.Actions.add(x)
		}
		return nil
	case recEnd:
		_ = d.when()
		f.Ended, f.Interrupted = true, d.bool()
		return nil
	case recReopened:
		s.opened = d.when()
		return nil
	case recClosed:
		return s.closed(d)
	case recDue:
		r.Type, r.Stream, r.Seq, r.Round, r.At, r.Meant, r.Calls, r.Carried = DueRecord, s.index(d), d.uint(), d.whole(), d.nano(), Meant(d.upTo(uint64(ToKeepOne))), d.uint(), d.part()
		if d.err != nil {
			return nil
		}
		if last := f.Last[r.Stream]; r.Seq <= last || r.Seq > last+1 && !f.torn() || r.Seq > last+maxHole {
			return fmt.Errorf("message %d of stream %d is out of place", r.Seq, r.Stream)
		}
		f.Last[r.Stream] = r.Seq
		if n := len(f.Rounds); n > 0 && f.Rounds[n-1].N == r.Round && r.At > s.played {
			s.played = r.At
		}
	case recSent, recSettled, recCopied:
		r.Type, r.Stream, r.Seq, r.At = RecordType(rec), s.index(d), d.uint(), d.nano()
		if rec == recSent {
			r.Anew = d.bool()
		}
		if rec == recSettled {
			r.Outcome, r.Code, r.Text = outcome.Outcome(d.upTo(uint64(outcome.Dropped))), d.whole(), d.part()
		}
		if d.err != nil {
			return nil
		}
		if last := f.Last[r.Stream]; r.Seq < 1 || r.Seq > last && !f.torn() || r.Seq > last+maxHole {
			return fmt.Errorf("a record of message %d of stream %d stands before the message", r.Seq, r.Stream)
		}
		f.Last[r.Stream] = max(f.Last[r.Stream], r.Seq)
	case recSighting:
		if s.sighting(d, r); d.err != nil || r.Sighting.Witness >= len(f.Witnesses) {
			return nil
		}
		f.Witnesses[r.Sighting.Witness].Sightings++
	case recCommand:
		c := Command{Number: d.uint(), Device: d.text(), Name: d.text(), At: d.when(), Topic: d.text(), Body: d.bytes(), Done: d.bool(), Why: d.text()}
		for n := d.uint(); n > 0 && n < maxIndex && d.err == nil; n-- {
			c.Did = append(c.Did, Action{d.text(), d.text(), d.text()})
		}
		c.Asks = d.bool()
		*r = Record{Type: CommandRecord, Seq: c.Number, Command: &c}
	case recAnswer:
		*r = Record{Type: AnswerRecord, Seq: d.uint(), Answer: &Answer{Due: d.when(), How: How(d.upTo(uint64(Never))), Body: d.bytes()}}
	case recTold:
		*r = Record{Type: ToldRecord, Seq: d.uint(), Answer: &Answer{Sent: d.when(), At: d.when(), Outcome: outcome.Outcome(d.upTo(uint64(outcome.Dropped))), Code: d.whole(), Text: d.text()}}
	default:
		return fmt.Errorf("a record of the unknown type %d", rec)
	}
	if d.err != nil {
		return nil
	}
	return see(r)
}

// torn tells whether records of messages can be missing between others.
func (f *Facts) torn() bool { return f.Lost || len(f.Damage) > 0 }

// maxHole bounds how many messages one damaged place can have held.
const maxHole = 1 << 20

// stream reads the definition of a stream.
func (s *Scanner) stream(d *decoder) error {
	f := &s.Facts
	i := d.uint()
	x := Stream{Device: d.text(), Kind: d.text(), Reading: d.text(), QoS0: d.bool(), MayRepeat: d.bool(), List: d.bool()}
	if n := d.uint(); n > 0 && n < maxIndex {
		x.Tolerances = map[string]float64{}
		for ; n > 0 && d.err == nil; n-- {
			name := d.text()
			x.Tolerances[name] = d.number()
		}
	}
	if n := d.uint(); n > 0 && n < maxIndex {
		x.Units = map[string]string{}
		for ; n > 0 && d.err == nil; n-- {
			name := d.text()
			x.Units[name] = d.text()
		}
	}
	for n := d.uint(); n > 0 && n < maxIndex && d.err == nil; n-- {
		x.Unseen = append(x.Unseen, d.whole())
	}
	x.Calls = d.uint()
	if d.err == nil && i != uint64(len(f.Streams)) {
		return fmt.Errorf("stream %d comes after %d", i, len(f.Streams))
	}
	f.Streams = append(f.Streams, x)
	f.Last = append(f.Last, 0)
	return nil
}

// sighting reads a sighting.
func (s *Scanner) sighting(d *decoder, r *Record) {
	r.Type = SightingRecord
	r.Sighting = Sighting{}
	x := &r.Sighting
	x.Witness, x.Stream, x.Seq, r.At, r.Stored = d.whole(), d.whole()-1, d.uint(), d.nano(), d.nano()
	flags := d.byte()
	x.Again, x.Perhaps, x.Asked, x.Unsure, x.Row = flags&1 != 0, flags&2 != 0, flags&4 != 0, flags&8 != 0, d.uint()
	names := [...]*string{&x.Device, &x.Reading, &x.FiledDevice, &x.FiledReading}
	n := d.uint()
	if n > uint64(len(names)) || x.Stream >= len(s.Facts.Streams) {
		d.fail()
		return
	}
	for _, p := range names[:n] {
		*p = d.text()
	}
	values := d.part()
	x.Values, r.ValuesAt, r.Stream, r.Seq = values.B, values.At, x.Stream, x.Seq
}

// closed holds the number of blocks that each page had against those that were read.
func (s *Scanner) closed(d *decoder) error {
	for i, n := 0, d.uint(); n > 0 && d.err == nil; i, n = i+1, n-1 {
		blocks, witness := uint32(d.whole()), d.whole()-1
		if p := s.pages[i]; p == nil && blocks > 0 {
			s.lost(witness, s.opened, s.Facts.LastWrite)
		} else if p != nil && blocks > p.next {
			s.lost(p.witness, p.at, s.Facts.LastWrite)
		}
	}
	s.hurt = false
	return nil
}

// index reads the index of a stream.
func (s *Scanner) index(d *decoder) int {
	i := d.uint()
	if i >= uint64(len(s.Facts.Streams)) {
		d.fail()
		s.bare = true
		return 0
	}
	return int(i)
}

// witness reads the index of a witness; nil where there is none.
func (s *Scanner) witness(d *decoder) *Witness {
	i := d.uint()
	if d.err != nil || i >= uint64(len(s.Facts.Witnesses)) {
		return nil
	}
	return &s.Facts.Witnesses[i]
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

var errShort = errors.New("a record ends too early")

// decoder takes fields off a block; after the first error all are zero.
type decoder struct {
	b     []byte
	at    int64 // of b in the file
	start int64
	err   error
}

func (d *decoder) take(n int) []byte {
	v := d.b[:n:n]
	d.b, d.at = d.b[n:], d.at+int64(n)
	return v
}

func (d *decoder) uint() uint64 {
	v, n := binary.Uvarint(d.b)
	if n <= 0 {
		d.fail()
		return 0
	}
	d.take(n)
	return v
}

// mostWhole bounds whole numbers: places, rounds, numbers of times, nanoseconds. They fit an
// int, and sums of them do, too.
const mostWhole = 1 << 61

// whole reads a number that is used as one of ours. A larger one was never written: it is
// damage, also where the checksum of its block is right.
func (d *decoder) whole() int { return int(d.upTo(mostWhole)) }

// upTo reads a number with a bound.
func (d *decoder) upTo(most uint64) uint64 {
	v := d.uint()
	if v > most {
		d.fail()
		return 0
	}
	return v
}

func (d *decoder) int() int64 {
	v, n := binary.Varint(d.b)
	if n <= 0 {
		d.fail()
		return 0
	}
	d.take(n)
	return v
}

func (d *decoder) fail() {
	if d.err == nil {
		d.err = errShort
	}
	d.b = nil
}

// part is a text or bytes as they stand in the file.
func (d *decoder) part() Bytes {
	n := d.uint()
	if n > uint64(len(d.b)) {
		d.fail()
		return Bytes{}
	}
	at := d.at
	return Bytes{d.take(int(n)), at}
}

func (d *decoder) bytes() []byte { return bytes.Clone(d.part().B) }
func (d *decoder) text() string  { return string(d.part().B) }

// number reads a number that stands as a text.
func (d *decoder) number() float64 {
	n, err := strconv.ParseFloat(d.text(), 64)
	if err != nil {
		d.fail()
	}
	return n
}

func (d *decoder) byte() byte {
	if len(d.b) == 0 {
		d.fail()
		return 0
	}
	return d.take(1)[0]
}

func (d *decoder) bool() bool { return d.byte() != 0 }

// nano reads a time in Unix nanoseconds; 0 is none.
func (d *decoder) nano() int64 {
	v := d.int()
	if v == 0 {
		return 0
	}
	return d.start + v
}

func (d *decoder) when() time.Time { return timeOf(d.nano()) }

func timeOf(nano int64) time.Time {
	if nano == 0 {
		return time.Time{}
	}
	return time.Unix(0, nano)
}

// maxIndex bounds lists when reading.
const maxIndex = 1 << 24

func counted(m map[int]int64, stream int, n int64) map[int]int64 {
	if m == nil {
		m = map[int]int64{}
	}
	m[stream] = n
	return m
}
