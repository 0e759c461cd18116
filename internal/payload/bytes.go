package payload

import (
	"fmt"
	"math"
	"strings"

	"runcrowd/internal/signal"
)

// Slot is one place in a raw body: a number or a text of a width in bits, from a
// field or always the same.
type Slot struct {
	Field  string // its name; empty for a fixed value
	Part   string // lat, lon, x, y or z of a field that has parts
	Fixed  int64
	Kind   SlotKind
	Width  int // in bits; of a text a whole number of bytes
	Scale  float64
	Offset float64 // what is written is (value - Offset) / Scale, rounded
	Little bool    // the low byte first; only for whole bytes
}

// SlotKind is how a slot's bits are to be read.
type SlotKind uint8

// The kinds of slots.
const (
	Unsigned SlotKind = iota
	Signed            // two's complement
	Floating          // IEEE 754, 32 or 64 bits
	Letters           // UTF-8, filled up with zero bytes
)

// Bytes is a body of bits and bytes one behind the other, the highest bit first.
// Samples of a batch follow each other.
type Bytes struct {
	fields []Field
	slots  []Slot
	index  []int // of a slot's field
	part   []int
	mark   string
	size   int // bytes of a sample
}

// NewBytes makes the form; the error says which slot is wrong.
func NewBytes(fields []Field, mark string, slots []Slot) (*Bytes, error) {
	r := &Bytes{fields: fields, slots: slots, mark: mark}
	bits := 0
	for i := range slots {
		s := &slots[i]
		if s.Scale == 0 {
			s.Scale = 1
		}
		index, which := -1, -1
		if s.Field != "" {
			var names []string
			for k, f := range fields {
				names = append(names, f.Name)
				if f.Name == s.Field {
					index = k
				}
			}
			if index < 0 {
				return nil, fmt.Errorf("slot %d: the reading has no field %q; it has %s", i+1, s.Field, strings.Join(names, ", "))
			}
			known := parts(fields[index].Type)
			for k, p := range known {
				if p == s.Part {
					which = k
				}
			}
			if (len(known) > 0 || s.Part != "") && which < 0 {
				if len(known) == 0 {
					return nil, fmt.Errorf("slot %d: the field %q has no parts", i+1, s.Field)
				}
				return nil, fmt.Errorf("slot %d: the field %q has parts; say which: %s", i+1, s.Field, strings.Join(known, ", "))
			}
			if t := fields[index].Type; t == signal.Text && s.Kind != Letters {
				return nil, fmt.Errorf("slot %d: the field %q is a text; write as: text, and its width in bytes", i+1, s.Field)
			} else if s.Kind == Letters && t != signal.Text && t != signal.Null {
				return nil, fmt.Errorf("slot %d: the field %q is a %s, not a text", i+1, s.Field, t)
			}
		}
		if bits%8 != 0 && (s.Kind == Letters || s.Kind == Floating || s.Little && s.Width > 8) {
			return nil, fmt.Errorf("slot %d begins %d bits into a byte; a text, a floating-point number and a number of the "+
				"low byte first begin at a whole byte", i+1, bits%8)
		}
		bits += s.Width
		r.index, r.part = append(r.index, index), append(r.part, which)
	}
	if bits%8 != 0 {
		return nil, fmt.Errorf("the slots take %d bits; a body is whole bytes: add a fixed slot of %d bits", bits, 8-bits%8)
	}
	r.size = bits / 8
	if r.size == 0 {
		return nil, fmt.Errorf("the layout is empty")
	}
	return r, nil
}

// ContentType implements Form.
func (r *Bytes) ContentType() string { return "application/octet-stream" }

// fit is v within the bounds of a slot, and whether it fitted.
func (s *Slot) fit(v float64) (uint64, bool) {
	v = math.Round((v - s.Offset) / s.Scale)
	low, high := 0.0, math.Ldexp(1, s.Width)-1
	if s.Kind == Signed {
		low, high = -math.Ldexp(1, s.Width-1), math.Ldexp(1, s.Width-1)-1
	}
	ok := v >= low && v <= high
	v = math.Min(math.Max(v, low), high)
	if s.Kind == Signed {
		if v >= math.MaxInt64 {
			return math.MaxInt64, ok
		}
		return uint64(int64(v)), ok
	}
	if v >= math.MaxUint64 {
		return math.MaxUint64, ok
	}
	return uint64(v), ok
}

// Append implements Form. A value that is missing or null is written as zero; one
// that does not fit is an error, and its slot holds the nearest that does.
func (r *Bytes) Append(dst []byte, samples []Sample) ([]byte, error) {
	var wrong error
	for k := range samples {
		from := len(dst)
		dst = append(dst, make([]byte, r.size)...)
		body, at := dst[from:], 0
		for i := range r.slots {
			s := &r.slots[i]
			v := signal.OfInt(s.Fixed)
			if r.index[i] >= 0 {
				c := scalar{field: r.index[i], part: r.part[i]}
				v = c.of(&samples[k])
			}
			if err := s.write(body, at, v); err != nil && wrong == nil {
				wrong = fmt.Errorf("the field %q: %w", s.Field, err)
			}
			at += s.Width
		}
	}
	return dst, wrong
}

// Rounds tells of a field whose value its slot does not hold exactly: what is sent, and found, is
// another. The differences of numbers with a scale are those beyond 1e-9 of a step.
func (r *Bytes) Rounds(sample *Sample) (field, was, is string, rounds bool) {
	body, at := make([]byte, r.size), 0
	for i := range r.slots {
		s := &r.slots[i]
		if r.index[i] < 0 || s.Kind == Letters {
			at += s.Width
			continue
		}
		c := scalar{field: r.index[i], part: r.part[i]}
		v := c.of(sample)
		if v.Type() == signal.Float && s.write(body, at, v) == nil {
			raw := (v.Float() - s.Offset) / s.Scale
			near := math.Round(raw)
			switch {
			case s.Kind == Floating && s.Width == 32 && s.Scale == 1 && s.Offset == 0:
				rounds = short(float64(float32(raw)), 32) != jsonNumber(v.Float())
			case s.Kind == Floating && s.Width == 32:
				rounds = math.Abs(float64(float32(raw))-raw) > 1e-6*math.Abs(raw)
			case s.Kind != Floating:
				rounds = math.Abs(raw-near) > 1e-9*max(1, math.Abs(raw))
			}
		}
		if v.Type() == signal.Int && s.Kind == Floating && s.Width == 32 && s.Scale == 1 && s.Offset == 0 {
			rounds = s.write(body, at, v) == nil && float64(float32(v.Int())) != float64(v.Int())
		}
		if rounds {
			return s.Field, string(Value(nil, v)), fmt.Sprint(s.read(body, at, v.Type())), true
		}
		at += s.Width
	}
	return "", "", "", false
}

func (s *Slot) write(body []byte, at int, v signal.Value) error {
	if s.Kind == Letters {
		room := body[at/8 : (at+s.Width)/8]
		if n := copy(room, v.Text()); n < len(v.Text()) {
			return fmt.Errorf("the text %q has %d bytes, its slot %d", v.Text(), len(v.Text()), len(room))
		}
		return nil
	}
	x := numeric(v)
	switch v.Type() {
	case signal.Bool, signal.Int, signal.Float:
	case signal.Null, signal.LeftOut:
		x = s.Offset
	default:
		return fmt.Errorf("a %s cannot stand in a slot for a number", v.Type())
	}
	var bits uint64
	ok := true
	switch {
	case s.Kind == Floating && s.Width == 32:
		raw := (x - s.Offset) / s.Scale
		bits, ok = uint64(math.Float32bits(float32(raw))), math.Abs(raw) <= math.MaxFloat32
	case s.Kind == Floating:
		bits = math.Float64bits((x - s.Offset) / s.Scale)
	case v.Type() == signal.Int && s.Scale == 1 && s.Offset == 0:
		// Whole numbers of 64 bits would lose digits on the way over a float.
		bits = uint64(v.Int())
		if s.Kind == Signed {
			ok = s.Width == 64 || v.Int()>>(s.Width-1) == 0 || v.Int()>>(s.Width-1) == -1
		} else {
			ok = v.Int() >= 0 && (s.Width == 64 || bits>>s.Width == 0)
		}
		if !ok {
			bits, _ = s.fit(x)
		}
	default:
		bits, ok = s.fit(x)
	}
	put(body, at, s.Width, bits, s.Little)
	if !ok {
		return fmt.Errorf("%s does not fit into its slot", string(Value(nil, v)))
	}
	return nil
}

// put writes the low bits of v at a bit position.
func put(body []byte, at, width int, v uint64, little bool) {
	if little && width > 8 {
		for i := 0; i < width; i += 8 {
			body[(at+i)/8] = byte(v >> i)
		}
		return
	}
	for i := width - 1; i >= 0; i-- {
		if v>>i&1 != 0 {
			body[at/8] |= 0x80 >> (at % 8)
		}
		at++
	}
}

func take(body []byte, at, width int, little bool) uint64 {
	var v uint64
	if little && width > 8 {
		for i := 0; i < width; i += 8 {
			v |= uint64(body[(at+i)/8]) << i
		}
		return v
	}
	for range width {
		v = v<<1 | uint64(body[at/8]>>(7-at%8)&1)
		at++
	}
	return v
}

// Read implements Form.
func (r *Bytes) Read(body []byte) ([]Found, error) {
	if len(body) == 0 || len(body)%r.size != 0 {
		return nil, fmt.Errorf("the body has %d bytes; samples of %d bytes are expected", len(body), r.size)
	}
	var found []Found
	for ; len(body) > 0; body = body[r.size:] {
		values, at := map[string]any{}, 0
		for i := range r.slots {
			s := &r.slots[i]
			if r.index[i] >= 0 {
				c := scalar{field: r.index[i], part: r.part[i]}
				c.put(r.fields, values, s.read(body, at, r.fields[r.index[i]].Type))
			}
			at += s.Width
		}
		found = append(found, split(values, r.mark))
	}
	return found, nil
}

func (s *Slot) read(body []byte, at int, t signal.Type) any {
	if s.Kind == Letters {
		return strings.ToValidUTF8(strings.TrimRight(string(body[at/8:(at+s.Width)/8]), "\x00"), "?")
	}
	bits := take(body, at, s.Width, s.Little)
	if t == signal.Bool {
		return bits != 0
	}
	var x float64
	switch {
	case s.Kind == Floating && s.Width == 32:
		f := math.Float32frombits(uint32(bits))
		if s.Scale == 1 && s.Offset == 0 {
			return short(float64(f), 32)
		}
		x = float64(f)
	case s.Kind == Floating:
		x = math.Float64frombits(bits)
	case s.Kind == Signed:
		signed := int64(bits<<(64-s.Width)) >> (64 - s.Width)
		if s.Scale == 1 && s.Offset == 0 {
			return whole(signed)
		}
		x = float64(signed)
	default:
		if s.Scale == 1 && s.Offset == 0 {
			return unsigned(bits)
		}
		x = float64(bits)
	}
	// 123 * 0.01 is to be 1.23 again.
	return jsonNumber(signal.OfFloat(x*s.Scale + s.Offset).Round(12).Float())
}
