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
	"runcrowd/internal/outcome"
	"sort"
	"strconv"
	"time"
)

// Message is all that the ledger knows of one message.
type Message struct {
	Seq      uint64
	Round    int
	Due      time.Time
	Sent     time.Time // first handed to the network; zero: never
	Attempts int       // how often it was sent
	Outcome  outcome.Outcome
	At       time.Time // of the outcome
	Code     int
	Text     string // what the platform said, or what went wrong
	Carried  []byte // JSON object of its fields
	Hole     bool   // the record that it was due is lost in damage
}

// Round is when a round sent.
type Round struct {
	N          int
	Begin, End time.Time
}

// Gap is a time in which a witness could not hear.
type Gap struct {
	From, To time.Time // To is zero for: to the end
	QoS0     bool      // only messages of QoS 0 can be missing
	Why      string
}

// Witness is a witness and how it was heard.
type Witness struct {
	Name   string
	Proof  string
	Within time.Duration
	Gaps   []Gap
	Heard  map[int]Hearing // by round
}

// Hearing is the end of listening to a witness for a round.
type Hearing struct {
	Complete bool
	Why      string
	session  int // in which it was written
}

// Damage is a part of the file that could not be read, with whole blocks behind it.
type Damage struct {
	At, Bytes int64
}

// Book is a ledger that was read.
type Book struct {
	Run, Crowd  string
	Start       time.Time
	Streams     []Stream
	Messages    [][]Message // by stream, in order of sequence numbers; Messages[i][k].Seq is k+1
	Rounds      []Round
	Witnesses   []Witness
	Sightings   []Sighting
	Links       []LinkEvent
	Commands    []Command // in the order of their numbers
	Ended       bool      // the run came to its own end; false after a kill
	Interrupted bool
	LastWrite   time.Time
	Good        int64 // bytes that could be read
	Torn        int64 // bytes that were not written whole, because their process was killed
	Damage      []Damage

	key     []byte
	session int // how often the file was opened again
	damaged int // the last session that lost a block; -1: none
}

// Sighting is the first one by a witness of a message of a stream; nil without one.
func (b *Book) Sighting(witness, stream int, seq uint64) *Sighting {
	of := &b.Streams[stream]
	for i := range b.Sightings {
		x := &b.Sightings[i]
		if x.Witness == witness && x.Mark.Seq == seq && x.Mark.Device == of.Device && x.Mark.Reading == of.Reading {
			return x
		}
	}
	return nil
}

// Read reads a ledger. A torn end and damage are no errors: they are passed over, and
// told in Torn and Damage. An error means that the file is no ledger, or that what
// defines it was lost.
//
// What a witness saw in a session (from the opening of the file to its closing) that
// lost a block does not count as heard to the end: the block may have held a sighting.
func Read(path string) (*Book, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
		return nil, ErrNotALedger
	}
	data, err := io.ReadAll(f)
	if err != nil {
		return nil, err
	}
	return read(data)
}

func read(data []byte) (*Book, error) {
	if len(data) < headerSize || string(data[:len(header)]) != header || data[headerSize-1] != '\n' {
		return nil, ErrNotALedger
	}
	b := &Book{damaged: -1}
	at := headerSize
	key, err := hex.DecodeString(string(data[len(header) : headerSize-1]))
	if err != nil || frame(data[at:], key) == nil {
		// Perhaps it is the key in the header line that is damaged.
		if first := data[at:min(at+keySize, len(data))]; frame(data[at:], first) != nil {
			key = first
			b.Damage = append(b.Damage, Damage{0, int64(headerSize)})
		} else if err != nil {
			return nil, ErrNotALedger
		}
	}
	b.key = key
	for at < len(data) {
		next, body := at, frame(data[at:], key)
		for body == nil {
			// Passed over, up to the next block that is whole.
			k := bytes.Index(data[next+1:], key)
			if k < 0 {
				break
			}
			next += 1 + k
			body = frame(data[next:], key)
		}
		if body == nil {
			b.Torn += int64(len(data) - at)
			break
		}
		if next > at {
			if body[8] == recReopened { // a process was killed here, and another came later
				b.Torn += int64(next - at)
			} else {
				b.Damage = append(b.Damage, Damage{int64(at), int64(next - at)})
				b.damaged = b.session
			}
		}
		if err := b.block(body[8:]); err != nil {
			if b.Run == "" && len(b.Damage) > 0 {
				return nil, fmt.Errorf("it is damaged at byte %d, where it says what run it is of", b.Damage[0].At)
			}
			return nil, fmt.Errorf("it is damaged at byte %d: %w", next, err)
		}
		b.LastWrite = time.Unix(0, int64(binary.BigEndian.Uint64(body)))
		b.Good += int64(frameSize + len(body))
		at = next + frameSize + len(body)
	}
	b.Good += int64(headerSize)
	if b.Run == "" {
		return nil, ErrNotALedger
	}
	for _, w := range b.Witnesses {
		for n, h := range w.Heard {
			if h.Complete && h.session <= b.damaged {
				w.Heard[n] = Hearing{Why: "a part of the ledger is damaged, which may hold what it saw"}
			}
		}
	}
	sort.Slice(b.Commands, func(i, j int) bool { return b.Commands[i].Number < b.Commands[j].Number })
	return b, nil
}

// frame is the body of the block at the beginning of data, or nil.
func frame(data, key []byte) []byte {
	if len(data) <= pageHead || !bytes.HasPrefix(data, key) {
		return nil
	}
	n := int64(binary.BigEndian.Uint32(data[keySize:]))
	if n <= 8 || n > int64(len(data)-frameSize) {
		return nil
	}
	body := data[frameSize : frameSize+n]
	if crc32.Checksum(body, castagnoli) != binary.BigEndian.Uint32(data[keySize+4:]) {
		return nil
	}
	return body
}

var errShort = errors.New("a record ends too early")

// decoder takes fields off a block; after the first error all are zero.
type decoder struct {
	b     []byte
	start time.Time
	err   error
}

func (d *decoder) uint() uint64 {
	v, n := binary.Uvarint(d.b)
	if n <= 0 {
		d.fail()
		return 0
	}
	d.b = d.b[n:]
	return v
}

func (d *decoder) int() int64 {
	v, n := binary.Varint(d.b)
	if n <= 0 {
		d.fail()
		return 0
	}
	d.b = d.b[n:]
	return v
}

func (d *decoder) fail() {
	if d.err == nil {
		d.err = errShort
	}
	d.b = nil
}

func (d *decoder) bytes() []byte {
	n := d.uint()
	if n > uint64(len(d.b)) {
		d.fail()
		return nil
	}
	v := d.b[:n:n]
	d.b = d.b[n:]
	return v
}

func (d *decoder) text() string { return string(d.bytes()) }

func (d *decoder) byte() byte {
	if len(d.b) == 0 {
		d.fail()
		return 0
	}
	v := d.b[0]
	d.b = d.b[1:]
	return v
}

func (d *decoder) bool() bool { return d.byte() != 0 }

func (d *decoder) when() time.Time {
	v := d.int()
	if v == 0 {
		return time.Time{}
	}
	return d.start.Add(time.Duration(v))
}

// maxIndex bounds the indexes of streams and witnesses when reading.
const maxIndex = 1 << 24

func (b *Book) block(body []byte) error {
	d := &decoder{b: body, start: b.Start}
	for len(d.b) > 0 && d.err == nil {
		rec := d.byte()
		switch rec {
		case recStart:
			b.Run, b.Crowd, b.Start = d.text(), d.text(), time.Unix(0, d.int())
			d.start = b.Start
		case recStream:
			i := d.uint()
			s := Stream{Device: d.text(), Kind: d.text(), Reading: d.text(), QoS0: d.bool(), MayRepeat: d.bool()}
			if n := d.uint(); n > 0 && n < maxIndex {
				s.Tolerances = map[string]float64{}
				for ; n > 0 && d.err == nil; n-- {
					name := d.text()
					s.Tolerances[name], _ = strconv.ParseFloat(d.text(), 64)
				}
			}
			if n := d.uint(); n > 0 && n < maxIndex {
				s.Units = map[string]string{}
				for ; n > 0 && d.err == nil; n-- {
					name := d.text()
					s.Units[name] = d.text()
				}
			}
			for n := d.uint(); n > 0 && n < maxIndex && d.err == nil; n-- {
				s.Unseen = append(s.Unseen, int(d.uint()))
			}
			if d.err == nil && i != uint64(len(b.Streams)) {
				return fmt.Errorf("stream %d comes after %d", i, len(b.Streams))
			}
			b.Streams = append(b.Streams, s)
			b.Messages = append(b.Messages, nil)
		case recRound:
			b.Rounds = append(b.Rounds, Round{int(d.uint()), d.when(), d.when()})
		case recWitness:
			i := d.uint()
			w := Witness{Name: d.text(), Proof: d.text(), Within: time.Duration(d.int()), Heard: map[int]Hearing{}}
			if d.err == nil && i != uint64(len(b.Witnesses)) {
				return fmt.Errorf("witness %d comes after %d", i, len(b.Witnesses))
			}
			b.Witnesses = append(b.Witnesses, w)
		case recDue:
			stream, seq := d.uint(), d.uint()
			m := Message{Seq: seq, Round: int(d.uint()), Due: d.when(), Carried: d.bytes()}
			if d.err != nil {
				break
			}
			if stream >= uint64(len(b.Streams)) || seq <= uint64(len(b.Messages[stream])) || !b.fill(stream, seq-1) {
				return fmt.Errorf("message %d of stream %d is out of place", seq, stream)
			}
			b.Messages[stream] = append(b.Messages[stream], m)
		case recSent:
			m, at := b.message(d), d.when()
			if m != nil {
				if m.Sent.IsZero() {
					m.Sent = at
				}
				m.Attempts++
			}
		case recSettled:
			m, at := b.message(d), d.when()
			o, code, text := outcome.Outcome(d.byte()), int(d.uint()), d.text()
			if m != nil {
				m.At, m.Outcome, m.Code, m.Text = at, o, code, text
			}
		case recSighting:
			s := Sighting{Witness: int(d.uint()), Seen: d.when(), Stored: d.when(),
				Mark:        Mark{d.text(), d.text(), d.text(), d.uint()},
				FiledDevice: d.text(), FiledReading: d.text(), Redelivered: d.bool(), Asked: d.bool(), Values: d.bytes()}
			b.Sightings = append(b.Sightings, s)
		case recGap:
			w, x := d.uint(), Gap{d.when(), d.when(), d.bool(), d.text()}
			if w < uint64(len(b.Witnesses)) {
				b.Witnesses[w].Gaps = append(b.Witnesses[w].Gaps, x)
			}
		case recHeard:
			w, round, h := d.uint(), int(d.uint()), Hearing{d.bool(), d.text(), b.session}
			if w < uint64(len(b.Witnesses)) {
				b.Witnesses[w].Heard[round] = h
			}
		case recLink:
			b.Links = append(b.Links, LinkEvent{int(d.uint()), d.when(), LinkChange(d.byte()), d.text(), d.text()})
		case recCommand:
			c := Command{Number: d.uint(), Device: d.text(), Name: d.text(), At: d.when(), Topic: d.text(), Body: d.bytes(), Done: d.bool(), Why: d.text()}
			for n := d.uint(); n > 0 && n < maxIndex && d.err == nil; n-- {
				c.Did = append(c.Did, Deed{d.text(), d.text(), d.text()})
			}
			b.Commands = append(b.Commands, c)
		case recAnswer:
			c, a := b.command(d), &Answer{Due: d.when(), How: How(d.byte()), Body: d.bytes()}
			if c != nil {
				c.Answer = a
			}
		case recTold:
			c, sent, at := b.command(d), d.when(), d.when()
			o, code, text := outcome.Outcome(d.byte()), int(d.uint()), d.text()
			if c != nil && c.Answer != nil {
				a := c.Answer
				a.Sent, a.At, a.Outcome, a.Code, a.Text = sent, at, o, code, text
			}
		case recEnd:
			_ = d.when()
			b.Ended, b.Interrupted = true, d.bool()
		case recReopened:
			_ = d.when()
			b.session++
		default:
			return fmt.Errorf("a record of the unknown type %d", rec)
		}
	}
	return d.err
}

// command finds the command that a record is about: it stands before the record, and
// seldom far. Nil without one.
func (b *Book) command(d *decoder) *Command {
	number := d.uint()
	for i := len(b.Commands) - 1; i >= 0; i-- {
		if b.Commands[i].Number == number {
			return &b.Commands[i]
		}
	}
	return nil
}

// message finds the message that a record is about; nil after an error.
func (b *Book) message(d *decoder) *Message {
	stream, seq := d.uint(), d.uint()
	if d.err == nil && (stream >= uint64(len(b.Messages)) || seq < 1 || !b.fill(stream, seq)) {
		d.err = fmt.Errorf("a record of message %d of stream %d stands before the message", seq, stream)
	}
	if d.err != nil {
		return nil
	}
	return &b.Messages[stream][seq-1]
}

// maxHole bounds how many messages one damaged place can have held.
const maxHole = 1 << 20

// fill makes sure that a stream has messages up to seq. Where they are missing, their
// records are lost; without damage nothing can be missing.
func (b *Book) fill(stream, seq uint64) bool {
	have := uint64(len(b.Messages[stream]))
	if seq > have && (len(b.Damage) == 0 || seq-have > maxHole) {
		return false
	}
	for ; have < seq; have++ {
		m := Message{Seq: have + 1, Carried: []byte("null"), Hole: true}
		if have > 0 {
			m.Round = b.Messages[stream][have-1].Round
		} else {
			m.Round = 1
		}
		b.Messages[stream] = append(b.Messages[stream], m)
	}
	return true
}
