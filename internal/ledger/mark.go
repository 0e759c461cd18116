package ledger

import (
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"strconv"
	"strings"
)

// Mark identifies one message wherever it turns up. Its text is
// "RUN/DEVICE/READING/SEQ"; run and reading hold no slash, a device may.
type Mark struct {
	Run     string
	Device  string
	Reading string
	Seq     uint64 // from 1, without holes for each device and reading
}

// String is the text that ParseMark reads back.
func (m Mark) String() string { return string(m.Append(nil)) }

// Append appends the text of m to dst.
func (m Mark) Append(dst []byte) []byte {
	dst = append(dst, m.Run...)
	dst = append(dst, '/')
	dst = append(dst, m.Device...)
	dst = append(dst, '/')
	dst = append(dst, m.Reading...)
	dst = append(dst, '/')
	return strconv.AppendUint(dst, m.Seq, 10)
}

// ParseMark reads the text of a mark.
func ParseMark(text string) (Mark, error) {
	first := strings.IndexByte(text, '/')
	last := strings.LastIndexByte(text, '/')
	if first <= 0 || last <= first {
		return Mark{}, fmt.Errorf("%q is not a mark", text)
	}
	middle := strings.LastIndexByte(text[:last], '/')
	if middle <= first+1 || middle == last-1 {
		return Mark{}, fmt.Errorf("%q is not a mark", text)
	}
	digits := text[last+1:]
	seq, err := strconv.ParseUint(digits, 10, 64)
	if err != nil || seq == 0 || digits[0] == '0' || digits[0] == '+' {
		return Mark{}, fmt.Errorf("%q is not a mark: it does not end in a sequence number", text)
	}
	return Mark{text[:first], text[first+1 : middle], text[middle+1 : last], seq}, nil
}

// MaxSequence is how many messages of one stream can be told apart in a run by marks that
// are whole numbers.
const MaxSequence = 1<<24 - 1

// Numbers are marks as whole numbers, for platforms that keep only numbers: each names the
// stream and the sequence number of a message of a run. They stay below 2^53, so that no
// bit is lost in a 64-bit floating point number.
//
// A run begins at a place of its own, which its identity gives. The numbers of its streams
// are interleaved: one after the other counts through the streams, then through the
// sequence. Two runs of S streams share a number with a probability of S / 2^28; for a
// thousand streams that is one in 268 000.
type Numbers struct{ base, streams uint64 }

// NumbersOf are the numbers of a run with so many streams.
func NumbersOf(run string, streams int) Numbers {
	n := Numbers{streams: uint64(max(1, streams))}
	sum := sha256.Sum256([]byte(run))
	span := n.streams * (MaxSequence + 1)
	n.base = 1 + binary.BigEndian.Uint64(sum[:])%(1<<53-1-span)
	return n
}

// Of is the number of a message; 0 where the sequence number is too large.
func (n Numbers) Of(stream int, seq uint64) uint64 {
	if seq == 0 || seq > MaxSequence {
		return 0
	}
	return n.base + (seq-1)*n.streams + uint64(stream)
}

// Message is the message that has a number; false where it is none of the run.
func (n Numbers) Message(number uint64) (stream int, seq uint64, ok bool) {
	if number < n.base || number-n.base >= n.streams*MaxSequence {
		return 0, 0, false
	}
	k := number - n.base
	return int(k % n.streams), 1 + k/n.streams, true
}
