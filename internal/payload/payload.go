// Package payload makes message bodies out of values, and reads them back.
//
// A Form makes bodies of one shape: JSON, SenML, CBOR, a CSV line and so on. It
// reads its own bodies back to the same values, so that what a witness finds can
// be held against what was sent whatever shape it has on the wire.
package payload

import (
	"encoding/json"
	"math"
	"strconv"

	"runcrowd/internal/signal"
)

// Object appends the JSON object (RFC 8259) of fields and their values, in the
// order given. Numbers are the shortest that read back to the same value; a
// position is an object of lat and lon. A number that JSON cannot carry is null.
//
// A field whose value is missing is left out.
func Object(dst []byte, names []string, values []signal.Value) []byte {
	dst = append(dst, '{')
	first := true
	for i, name := range names {
		if values[i].Type() == signal.LeftOut {
			continue
		}
		if !first {
			dst = append(dst, ',')
		}
		first = false
		dst = append(Text(dst, name), ':')
		dst = Value(dst, values[i])
	}
	return append(dst, '}')
}

// WithText is the object with one text member put in front; WithNumber the
// same with a whole number.
func WithText(dst, object []byte, name, value string) []byte {
	dst = append(Text(append(dst, '{'), name), ':')
	return tail(Text(dst, value), object)
}

// WithNumber is WithText for a whole number.
func WithNumber(dst, object []byte, name string, value uint64) []byte {
	dst = append(Text(append(dst, '{'), name), ':')
	return tail(strconv.AppendUint(dst, value, 10), object)
}

func tail(dst, object []byte) []byte {
	if len(object) > 2 {
		dst = append(dst, ',')
	}
	return append(dst, object[1:]...)
}

// Value appends one value as JSON.
func Value(dst []byte, v signal.Value) []byte {
	switch v.Type() {
	case signal.Bool:
		return strconv.AppendBool(dst, v.Bool())
	case signal.Int:
		if s := v.Literal(); s != "" {
			return append(dst, s...)
		}
		return strconv.AppendInt(dst, v.Int(), 10)
	case signal.Float:
		if s := v.Literal(); s != "" {
			return append(dst, s...)
		}
		if d := v.Digits(); d >= 0 && math.Abs(v.Float()) < 1e21 {
			return strconv.AppendFloat(dst, v.Float(), 'f', d, 64)
		}
		return number(dst, v.Float())
	case signal.Vector:
		a := v.Axes()
		dst = number(append(dst, `{"x":`...), a.X)
		dst = number(append(dst, `,"y":`...), a.Y)
		dst = number(append(dst, `,"z":`...), a.Z)
		return append(dst, '}')
	case signal.Text:
		return Text(dst, v.Text())
	case signal.Place:
		p := v.Place()
		dst = number(append(dst, `{"lat":`...), p.Lat)
		dst = number(append(dst, `,"lon":`...), p.Lon)
		return append(dst, '}')
	}
	return append(dst, "null"...)
}

func number(dst []byte, f float64) []byte {
	if math.IsNaN(f) || math.IsInf(f, 0) {
		return append(dst, "null"...)
	}
	format := byte('f')
	if abs := math.Abs(f); abs != 0 && (abs < 1e-6 || abs >= 1e21) {
		format = 'e'
	}
	return strconv.AppendFloat(dst, f, format, -1, 64)
}

// Text appends a JSON string.
func Text(dst []byte, s string) []byte {
	for i := 0; i < len(s); i++ {
		if c := s[i]; c < ' ' || c >= 0x7f || c == '"' || c == '\\' {
			quoted, _ := json.Marshal(s) // a string always marshals
			return append(dst, quoted...)
		}
	}
	dst = append(dst, '"')
	dst = append(dst, s...)
	return append(dst, '"')
}
