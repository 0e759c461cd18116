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
)

func (t Type) String() string {
	return [...]string{"null", "true or false", "whole number", "number", "text", "position"}[t]
}

// Value is one value of a field or property. It is small and passed by value;
// numbers and positions cost no allocation.
type Value struct {
	typ  Type
	a, b float64
	i    int64
	s    string
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

// Any is v as a plain Go value: nil, bool, int64, float64, string or quantity.Position.
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
	}
	return nil
}

// Round rounds a number half away from zero to so many decimals; other values
// come back as they are.
func (v Value) Round(decimals int) Value {
	if v.typ != Float {
		return v
	}
	p := math.Pow(10, float64(decimals))
	if r := math.Round(v.a*p) / p; !math.IsInf(r, 0) && !math.IsNaN(r) {
		v.a = r
	}
	return v
}
