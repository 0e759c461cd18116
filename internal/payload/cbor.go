package payload

import (
	"encoding/binary"
	"encoding/json"
	"fmt"
	"math"
	"math/big"
	"strconv"

	"github.com/fxamacker/cbor/v2"

	"runcrowd/internal/signal"
)

// CBOR is a map for each sample (RFC 8949), its members in the order of the
// fields; several samples are an array of maps. A number is the shortest float
// that keeps its value (section 4.2.2). Writing is our own, because members keep
// their order; reading is a library's.
type CBOR struct {
	names []string
	mark  string
	batch bool
}

// NewCBOR makes the form.
func NewCBOR(names []string, mark string, batch bool) *CBOR { return &CBOR{names, mark, batch} }

// ContentType implements Form.
func (c *CBOR) ContentType() string { return "application/cbor" }

// cborHead appends the head of a data item (RFC 8949, section 3).
func cborHead(dst []byte, major byte, n uint64) []byte {
	m := major << 5
	switch {
	case n < 24:
		return append(dst, m|byte(n))
	case n <= math.MaxUint8:
		return append(dst, m|24, byte(n))
	case n <= math.MaxUint16:
		return binary.BigEndian.AppendUint16(append(dst, m|25), uint16(n))
	case n <= math.MaxUint32:
		return binary.BigEndian.AppendUint32(append(dst, m|26), uint32(n))
	}
	return binary.BigEndian.AppendUint64(append(dst, m|27), n)
}

func cborText(dst []byte, s string) []byte { return append(cborHead(dst, 3, uint64(len(s))), s...) }

func cborInt(dst []byte, i int64) []byte {
	if i < 0 {
		return cborHead(dst, 1, uint64(-1-i))
	}
	return cborHead(dst, 0, uint64(i))
}

func cborFloat(dst []byte, f float64) []byte {
	if float64(float32(f)) != f {
		return binary.BigEndian.AppendUint64(append(dst, 0xfb), math.Float64bits(f))
	}
	bits := math.Float32bits(float32(f))
	// A half has 10 bits of mantissa and exponents from -14 to 15.
	exp := int(bits>>23&0xff) - 127
	if bits<<1 == 0 || bits&0x1fff == 0 && exp >= -14 && exp <= 15 {
		half := uint16(bits >> 16 & 0x8000)
		if bits<<1 != 0 {
			half |= uint16(exp+15)<<10 | uint16(bits>>13&0x3ff)
		}
		return binary.BigEndian.AppendUint16(append(dst, 0xf9), half)
	}
	return binary.BigEndian.AppendUint32(append(dst, 0xfa), bits)
}

func cborValue(dst []byte, v signal.Value) []byte {
	switch v.Type() {
	case signal.Bool:
		if v.Bool() {
			return append(dst, 0xf5)
		}
		return append(dst, 0xf4)
	case signal.Int:
		return cborInt(dst, v.Int())
	case signal.Float:
		if f := v.Float(); !math.IsNaN(f) && !math.IsInf(f, 0) {
			return cborFloat(dst, f)
		}
	case signal.Text:
		return cborText(dst, v.Text())
	case signal.Place, signal.Vector:
		names := parts(v.Type())
		dst = cborHead(dst, 5, uint64(len(names)))
		for i, n := range names {
			dst = cborFloat(cborText(dst, n), part(v, i))
		}
		return dst
	}
	return append(dst, 0xf6) // null
}

// Append implements Form.
func (c *CBOR) Append(dst []byte, samples []Sample) ([]byte, error) {
	if c.batch {
		dst = cborHead(dst, 4, uint64(len(samples)))
	}
	for i := range samples {
		n := 0
		for _, v := range samples[i].Values {
			if v.Type() != signal.LeftOut {
				n++
			}
		}
		dst = cborHead(dst, 5, uint64(n))
		for k, v := range samples[i].Values {
			if v.Type() != signal.LeftOut {
				dst = cborValue(cborText(dst, c.names[k]), v)
			}
		}
	}
	return dst, nil
}

var cborMode, _ = cbor.DecOptions{MaxNestedLevels: 32, DupMapKey: cbor.DupMapKeyEnforcedAPF}.DecMode()

// Read implements Form.
func (c *CBOR) Read(body []byte) ([]Found, error) {
	var v any
	if err := cborMode.Unmarshal(body, &v); err != nil {
		return nil, fmt.Errorf("not CBOR: %w", err)
	}
	list, is := v.([]any)
	if !is {
		list = []any{v}
	}
	found := make([]Found, 0, len(list))
	for _, x := range list {
		if err := cborNames(x); err != nil {
			return nil, err
		}
		object, is := cborToJSON(x).(map[string]any)
		if !is {
			return nil, fmt.Errorf("not a map of fields")
		}
		found = append(found, split(object, c.mark))
	}
	return found, nil
}

// cborNames checks that every name in a value is a text: 1 and "1" would be the same
// name in JSON.
func cborNames(v any) error {
	switch x := v.(type) {
	case map[any]any:
		for k, v := range x {
			if _, is := k.(string); !is {
				return fmt.Errorf("a name in a map is %v, which is not a text", k)
			}
			if err := cborNames(v); err != nil {
				return err
			}
		}
	case []any:
		for _, v := range x {
			if err := cborNames(v); err != nil {
				return err
			}
		}
	}
	return nil
}

// cborToJSON turns decoded CBOR into what encoding/json would give.
func cborToJSON(v any) any {
	switch x := v.(type) {
	case map[any]any:
		m := make(map[string]any, len(x))
		for k, v := range x {
			m[fmt.Sprint(k)] = cborToJSON(v)
		}
		return m
	case []any:
		for i := range x {
			x[i] = cborToJSON(x[i])
		}
		return x
	case []byte:
		return fmt.Sprintf("%x", x)
	}
	if n := cborNumber(v); n != "" {
		return n
	}
	switch v.(type) {
	case nil, bool, string:
		return v
	}
	return fmt.Sprint(v)
}

// cborNumber is a decoded number; empty for anything else.
func cborNumber(v any) json.Number {
	switch x := v.(type) {
	case uint64:
		return json.Number(strconv.FormatUint(x, 10))
	case int64:
		return json.Number(strconv.FormatInt(x, 10))
	case float64:
		if !math.IsNaN(x) && !math.IsInf(x, 0) {
			return jsonNumber(x)
		}
	case big.Int:
		return json.Number(x.String())
	}
	return ""
}
