package ledger

import (
	"bytes"
	"encoding/binary"
	"errors"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"runcrowd/internal/foreign"
)

// coder goes through the fields of a record, in their order: it writes them, takes them off a
// block, or tells their names and types. So what writes, what reads and what documents a
// record is one function.
type coder struct {
	mode  mode
	buf   []byte // written to, or what is left to read
	at    int64  // of buf in the file, when reading
	start int64  // of the run, in Unix nanoseconds: what times count from
	err   error  // after the first one, all that is read is zero
	said  []string
}

type mode uint8

const (
	writes mode = iota
	reads
	tells
)

var errShort = errors.New("a record ends too early")

func (c *coder) fail() {
	if c.err == nil {
		c.err = errShort
	}
	c.buf = nil
}

func (c *coder) tell(name, typ string) { c.said = append(c.said, name+" "+typ) }

func (c *coder) take(n int) []byte {
	v := c.buf[:n:n]
	c.buf, c.at = c.buf[n:], c.at+int64(n)
	return v
}

func (c *coder) takeUint(most uint64) uint64 {
	v, n := binary.Uvarint(c.buf)
	if n <= 0 {
		c.fail()
		return 0
	}
	c.take(n)
	if v > most {
		c.fail()
		return 0
	}
	return v
}

func (c *coder) takeInt() int64 {
	v, n := binary.Varint(c.buf)
	if n <= 0 {
		c.fail()
		return 0
	}
	c.take(n)
	return v
}

func (c *coder) takeByte() byte {
	if len(c.buf) == 0 {
		c.fail()
		return 0
	}
	return c.take(1)[0]
}

func (c *coder) uint(name string, v *uint64) {
	switch c.mode {
	case writes:
		c.buf = binary.AppendUvarint(c.buf, *v)
	case reads:
		*v = c.takeUint(1<<64 - 1)
	default:
		c.tell(name, "uint")
	}
}

// mostWhole bounds whole numbers: places, rounds, numbers of times. They fit an int, and sums
// of them do, too. A larger one was never written: it is damage, also where the checksum of
// its block is right.
const mostWhole = 1 << 61

func (c *coder) whole(name string, v *int) { c.above(name, v, 0) }

// above is a whole number that may be as little as -by.
func (c *coder) above(name string, v *int, by int) {
	switch c.mode {
	case writes:
		c.buf = binary.AppendUvarint(c.buf, uint64(*v+by))
	case reads:
		*v = int(c.takeUint(mostWhole)) - by
	default:
		c.tell(name, "uint")
	}
}

func (c *coder) int(name string, v *int64) {
	switch c.mode {
	case writes:
		c.buf = binary.AppendVarint(c.buf, *v)
	case reads:
		*v = c.takeInt()
	default:
		c.tell(name, "int")
	}
}

func (c *coder) span(name string, v *time.Duration) { c.int(name, (*int64)(v)) }

// nano is a time in Unix nanoseconds; 0 is none. The start itself is written as 1 ns later,
// because 0 stands for no time.
func (c *coder) nano(name string, v *int64) {
	switch c.mode {
	case writes:
		since := *v - c.start
		switch {
		case *v == 0:
			since = 0
		case since == 0:
			since = 1
		}
		c.buf = binary.AppendVarint(c.buf, since)
	case reads:
		if *v = c.takeInt(); *v != 0 {
			*v += c.start
		}
	default:
		c.tell(name, "time")
	}
}

func (c *coder) time(name string, v *time.Time) {
	n := int64(0)
	if c.mode == writes && !v.IsZero() {
		n = v.UnixNano()
	}
	if c.nano(name, &n); c.mode == reads {
		*v = timeOf(n)
	}
}

func timeOf(nano int64) time.Time {
	if nano == 0 {
		return time.Time{}
	}
	return time.Unix(0, nano)
}

// upTo is one byte that counts something of ours, up to the last of it.
func upTo[T ~uint8](c *coder, name string, v *T, last T) {
	switch c.mode {
	case writes:
		c.buf = append(c.buf, byte(*v))
	case reads:
		if *v = T(c.takeByte()); *v > last {
			*v = 0
			c.fail()
		}
	default:
		c.tell(name, "byte")
	}
}

// flags are up to eight truths in a byte, the first in its lowest bit.
func (c *coder) flags(name string, list ...*bool) {
	b := byte(0)
	switch c.mode {
	case writes:
		for i, v := range list {
			if *v {
				b |= 1 << i
			}
		}
		c.buf = append(c.buf, b)
	case reads:
		b = c.takeByte()
		for i, v := range list {
			*v = b&(1<<i) != 0
		}
	default:
		c.tell(name, "byte")
	}
}

func (c *coder) bool(name string, v *bool) {
	switch c.mode {
	case writes:
		b := byte(0)
		if *v {
			b = 1
		}
		c.buf = append(c.buf, b)
	case reads:
		*v = c.takeByte() != 0
	default:
		c.tell(name, "bool")
	}
}

// part is bytes, as they stand in the file.
func (c *coder) part(name string, v *Bytes) {
	switch c.mode {
	case writes:
		c.buf = binary.AppendUvarint(c.buf, uint64(len(v.B)))
		c.buf = append(c.buf, v.B...)
	case reads:
		n := c.takeUint(1<<64 - 1)
		if n > uint64(len(c.buf)) {
			c.fail()
			*v = Bytes{}
			return
		}
		at := c.at
		*v = Bytes{c.take(int(n)), at}
	default:
		c.tell(name, "bytes")
	}
}

// bytes are bytes of their own.
func (c *coder) bytes(name string, v *[]byte) {
	p := Bytes{B: *v}
	if c.part(name, &p); c.mode == reads {
		*v = bytes.Clone(p.B)
	}
}

func (c *coder) text(name string, v *string) {
	switch c.mode {
	case writes:
		c.buf = binary.AppendUvarint(c.buf, uint64(len(*v)))
		c.buf = append(c.buf, *v...)
	case reads:
		var p Bytes
		c.part(name, &p)
		*v = foreign.Line(string(p.B), 0) // whoever made this ledger
	default:
		c.tell(name, "text")
	}
}

// number is a number that stands as a text.
func (c *coder) number(name string, v *float64) {
	s := ""
	if c.mode == writes {
		s = strconv.FormatFloat(*v, 'g', -1, 64)
	}
	if c.text(name, &s); c.mode != reads {
		return
	}
	var err error
	if *v, err = strconv.ParseFloat(s, 64); err != nil && c.err == nil {
		c.fail()
	}
}

// maxIndex bounds lists when reading.
const maxIndex = 1 << 24

// list goes through each of a list.
func list[T any](c *coder, name string, v *[]T, each func(*T)) {
	switch c.mode {
	case writes:
		c.buf = binary.AppendUvarint(c.buf, uint64(len(*v)))
		for i := range *v {
			each(&(*v)[i])
		}
	case reads:
		*v = nil
		for n := c.takeUint(maxIndex); n > 0 && c.err == nil; n-- {
			var x T
			each(&x)
			*v = append(*v, x)
		}
	default:
		var x T
		of := c.said
		c.said = nil
		each(&x)
		c.said = append(of, name+" list("+strings.Join(c.said, ", ")+")")
	}
}

// mapping goes through each of a mapping, in the order of its names; an empty one is nil.
func mapping[V any](c *coder, name, key string, v *map[string]V, each func(*V)) {
	type pair struct {
		name  string
		value V
	}
	var pairs []pair
	if c.mode == writes {
		for _, k := range slices.Sorted(maps.Keys(*v)) {
			pairs = append(pairs, pair{k, (*v)[k]})
		}
	}
	list(c, name, &pairs, func(p *pair) { c.text(key, &p.name); each(&p.value) })
	if c.mode != reads {
		return
	}
	*v = nil
	for _, p := range pairs {
		if *v == nil {
			*v = map[string]V{}
		}
		(*v)[p.name] = p.value
	}
}
