package ledger

import (
	"bytes"
	"cmp"
	"slices"
	"time"

	"runcrowd/internal/outcome"
)

// Message is all that the ledger knows of one message.
type Message struct {
	Seq      uint64
	Round    int
	Due      time.Time
	Sent     time.Time // first handed to the network; zero: never
	Attempts int       // how often it was sent
	Anew     int       // how often of that so that the platform may store it once more
	Outcome  outcome.Outcome
	At       time.Time // of the outcome
	Code     int
	Text     string // what the platform said, or what went wrong
	Carried  []byte // JSON object of its fields
	Meant    Meant
	Calls    uint64 // for alerts, as of Page.Due
	Copies   int    // how often it went out once more, as the plan says
	Hole     bool   // the record that it was due is lost in damage
}

// Book is a whole ledger in memory: for short runs.
type Book struct {
	Facts
	Messages  [][]Message // by stream, in order of sequence numbers; Messages[i][k].Seq is k+1
	Sightings []Sighting
	Commands  []Command // in the order of their numbers
}

// Sighting is the first one by a witness of a message of a stream; nil without one.
func (b *Book) Sighting(witness, stream int, seq uint64) *Sighting {
	for i := range b.Sightings {
		if x := &b.Sightings[i]; x.Witness == witness && x.Stream == stream && x.Seq == seq {
			return x
		}
	}
	return nil
}

// Read reads a whole ledger into memory. Errors are those of a Scanner.
func Read(path string) (*Book, error) {
	return read(path, func(*Record) bool { return true })
}

// ReadOf reads only what a ledger has of some messages of one stream: those with the sequence
// numbers from first to last. Earlier ones are holes. Errors are those of a Scanner.
func ReadOf(path string, stream int, first, last uint64) (*Book, error) {
	return read(path, func(r *Record) bool {
		switch r.Type {
		case DueRecord, SentRecord, CopiedRecord, SettledRecord:
			return r.Stream == stream && first <= r.Seq && r.Seq <= last
		case SightingRecord:
			return r.Sighting.Stream == stream && first <= r.Sighting.Seq && r.Sighting.Seq <= last
		}
		return false
	})
}

func read(path string, wanted func(*Record) bool) (*Book, error) {
	s, err := NewScanner(path)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	b := &Book{}
	if err := s.Scan(func(r *Record) error {
		if wanted(r) {
			b.add(r)
		}
		return nil
	}); err != nil {
		return nil, err
	}
	f, err := s.Finish()
	if err != nil {
		return nil, err
	}
	b.Facts = *f
	for len(b.Messages) < len(b.Streams) {
		b.Messages = append(b.Messages, nil)
	}
	slices.SortStableFunc(b.Commands, func(x, y Command) int { return cmp.Compare(x.Number, y.Number) })
	return b, nil
}

func (b *Book) add(r *Record) {
	switch r.Type {
	case DueRecord:
		m := b.message(r.Stream, r.Seq)
		m.Round, m.Due, m.Meant, m.Calls, m.Carried, m.Hole = r.Round, timeOf(r.At), r.Meant, r.Calls, bytes.Clone(
			r.Carried.B), false
	case SentRecord:
		m := b.message(r.Stream, r.Seq)
		if m.Sent.IsZero() {
			m.Sent = timeOf(r.At)
		}
		m.Attempts++
		if r.Anew {
			m.Anew++
		}
	case CopiedRecord:
		b.message(r.Stream, r.Seq).Copies++
	case SettledRecord:
		m := b.message(r.Stream, r.Seq)
		m.At, m.Outcome, m.Code, m.Text = timeOf(r.At), r.Outcome, r.Code, string(r.Text.B)
	case SightingRecord:
		x := r.Sighting
		x.Seen, x.Stored, x.Values = timeOf(r.At), timeOf(r.Stored), bytes.Clone(x.Values)
		b.Sightings = append(b.Sightings, x)
	case CommandRecord:
		b.Commands = append(b.Commands, *r.Command)
	case AnswerRecord:
		if c := b.command(r.Seq); c != nil {
			c.Answer = r.Answer
		}
	case ToldRecord:
		if c := b.command(r.Seq); c != nil && c.Answer != nil {
			a, told := c.Answer, r.Answer
			a.Sent, a.At, a.Outcome, a.Code, a.Text = told.Sent, told.At, told.Outcome, told.Code, told.Text
		}
	}
}

// message is a message; those before it that are not there are holes.
func (b *Book) message(stream int, seq uint64) *Message {
	for len(b.Messages) <= stream {
		b.Messages = append(b.Messages, nil)
	}
	list := b.Messages[stream]
	for have := uint64(len(list)); have < seq; have++ {
		m := Message{Seq: have + 1, Round: 1, Carried: []byte("null"), Hole: true}
		if have > 0 {
			m.Round = list[have-1].Round
		}
		list = append(list, m)
	}
	b.Messages[stream] = list
	return &list[seq-1]
}

// command finds a command: its record stands before those of its answer, and seldom far.
func (b *Book) command(number uint64) *Command {
	for i := len(b.Commands) - 1; i >= 0; i-- {
		if b.Commands[i].Number == number {
			return &b.Commands[i]
		}
	}
	return nil
}
