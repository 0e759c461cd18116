package ledger

import (
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

// RunSpan is how far the bases of two runs are apart at least. A mark may ride as
// a whole number beside the device's name, for platforms that keep only numbers:
// the run's base plus the sequence number, so that runs do not overlap and no bit
// is lost in a 64-bit floating point number.
const RunSpan = 1_000_000

// SequenceBase is the base of a run that began at a time in Unix seconds. Runs
// that begin in different seconds and send fewer than a million messages from
// one device and reading do not overlap; the base stays below 2^53 until the
// year 2245.
func SequenceBase(unixSeconds int64) uint64 {
	const since2020 = 1577836800
	return uint64(max(0, unixSeconds-since2020)) * RunSpan
}
