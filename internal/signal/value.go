package signal

import (
	"math"

	"runcrowd/internal/quantity"
)

// Type says what a Value holds.
type Type uint8

// The types of values.
const (
	Null Type = iota
	Bool
	Int
	Float
	Text
	Place
	Vector  // three numbers x, y and z
	LeftOut // the field is left out of the message
)

func (t Type) String() string {
	return [...]string{"null", "true or false", "whole number", "number", "text", "position", "vector", "missing"}[t]
}

// Value is one value of a field or property. It is small and passed by value;
// numbers, positions and vectors cost no allocation.
type Value struct {
	typ     Type
	digits  uint8 // of a Float: one more than the decimals it is always printed with
	a, b, c float64
	i       int64
	s       string // of a number: as it was written, where that is to be kept
}

// Of turns a Go value into a Value; ok is false for a type that no field can hold.
func Of(v any) (value Value, ok bool) {
	switch x := v.(type) {
	case nil:
		return Value{}, true
	case bool:
		return OfBool(x), true
	case int:
		return OfInt(int64(x)), true
	case int64:
		return OfInt(x), true
	case uint64:
		return OfInt(int64(x)), x <= math.MaxInt64
	case float64:
		return OfFloat(x), true
	case string:
		return OfText(x), true
	case quantity.Position:
		return OfPlace(x), true
	case Axes:
		return OfVector(x), true
	}
	return Value{}, false
}

// OfBool, OfInt, OfFloat, OfText and OfPlace make a Value of a type.
func OfBool(b bool) Value {
	v := Value{typ: Bool}
	if b {
		v.i = 1
	}
	return v
}

// OfInt makes a whole number.
func OfInt(i int64) Value { return Value{typ: Int, i: i} }

// OfFloat makes a number.
func OfFloat(f float64) Value { return Value{typ: Float, a: f} }

// OfText makes a text.
func OfText(s string) Value { return Value{typ: Text, s: s} }

// OfPlace makes a position.
func OfPlace(p quantity.Position) Value { return Value{typ: Place, a: p.Lat, b: p.Lon} }

// Axes are the three parts of a vector.
type Axes = quantity.Axes

// OfVector makes a vector.
func OfVector(v Axes) Value { return Value{typ: Vector, a: v.X, b: v.Y, c: v.Z} }

// NoValue is the value of a field that is left out of its message.
func NoValue() Value { return Value{typ: LeftOut} }

// Written makes a number that is printed as it was written: 12.50 stays 12.50.
// Text must be a number as in JSON.
func (v Value) Written(text string) Value {
	if v.typ == Int || v.typ == Float {
		v.s = text
	}
	return v
}

// Literal is the text that a number is to be printed as; empty where it is to be
// printed in the usual way.
func (v Value) Literal() string {
	if v.typ == Int || v.typ == Float {
		return v.s
	}
	return ""
}

// Digits is how many decimals a number is always printed with; -1 means as few
// as it needs.
func (v Value) Digits() int { return int(v.digits) - 1 }

// WithDigits rounds a number to so many decimals and prints all of them.
func (v Value) WithDigits(decimals int) Value {
	if v.typ == Int {
		v = OfFloat(float64(v.i))
	}
	if v.typ == Float {
		v = v.Round(decimals)
		v.digits = uint8(decimals + 1)
	}
	return v
}

// Axes is the value of a Vector.
func (v Value) Axes() Axes { return Axes{X: v.a, Y: v.b, Z: v.c} }

// Type is what v holds.
func (v Value) Type() Type { return v.typ }

// Bool is the value of a Bool.
func (v Value) Bool() bool { return v.i != 0 }

// Int is the value of an Int.
func (v Value) Int() int64 { return v.i }

// Float is the value of a Float or an Int.
func (v Value) Float() float64 {
	if v.typ == Int {
		return float64(v.i)
	}
	return v.a
}

// Text is the value of a Text.
func (v Value) Text() string { return v.s }

// Place is the value of a Place.
func (v Value) Place() quantity.Position { return quantity.Position{Lat: v.a, Lon: v.b} }

// Any is v as a plain Go value: nil, bool, int64, float64, string,
// quantity.Position or Axes.
func (v Value) Any() any {
	switch v.typ {
	case Bool:
		return v.Bool()
	case Int:
		return v.i
	case Float:
		return v.a
	case Text:
		return v.s
	case Place:
		return v.Place()
	case Vector:
		return v.Axes()
	}
	return nil
}

// Round rounds a number half away from zero to so many decimals; other values
// come back as they are.
func (v Value) Round(decimals int) Value {
	switch v.typ {
	case Float:
		v.a, v.s = round(v.a, decimals), ""
	case Vector:
		v.a, v.b, v.c = round(v.a, decimals), round(v.b, decimals), round(v.c, decimals)
	}
	return v
}

func round(x float64, decimals int) float64 {
	p := math.Pow(10, float64(decimals))
	if r := math.Round(x*p) / p; !math.IsInf(r, 0) && !math.IsNaN(r) {
		return r
	}
	return x
}
