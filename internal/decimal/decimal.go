// Package decimal has exact numbers, made of the digits as they are written. Verdicts are
// decided by them: a 64-bit floating point number would say that 0.2 is further from 0.15
// than 0.05, and that 40 959 of 41 000 are less than 99.9 %.
package decimal

import (
	"cmp"
	"math/big"
	"strconv"
	"strings"
	"time"
)

// Number is a decimal number: digits times a power of ten. The zero Number is 0. It is a
// small value that is never changed; two that are equal may differ in notation, so that they
// are compared with Cmp and not with ==.
type Number struct {
	small int64    // the digits, with their sign, where big is nil
	big   *big.Int // the digits, with their sign, where they are too many for small
	exp   int32    // of ten
}

// MostDigits and MostExponent bound what Parse reads: within them every sum, difference and
// product is exact and takes little memory.
const (
	MostDigits   = 2000
	MostExponent = 2000
)

// Parse reads a number as JSON writes it (RFC 8259, section 6), without blanks. It is false
// for what is none, and for numbers beyond MostDigits or MostExponent.
func Parse(s string) (Number, bool) {
	digits, exp, ok := split(s)
	if !ok || len(digits) > MostDigits+1 {
		return Number{}, false
	}
	return of(digits, exp)
}

// split takes a number apart: its digits with their sign and without a point, and the power
// of ten that they are multiplied with.
func split(s string) (digits string, exp int, ok bool) {
	rest := strings.TrimPrefix(s, "-")
	whole := len(rest) - len(strings.TrimLeft(rest, "0123456789"))
	if whole == 0 || whole > 1 && rest[0] == '0' {
		return "", 0, false
	}
	digits, rest = s[:len(s)-len(rest)+whole], rest[whole:]
	if strings.HasPrefix(rest, ".") {
		n := len(rest) - 1 - len(strings.TrimLeft(rest[1:], "0123456789"))
		if n == 0 {
			return "", 0, false
		}
		digits, exp, rest = digits+rest[1:1+n], -n, rest[1+n:]
	}
	if rest == "" {
		return digits, exp, true
	}
	if rest[0] != 'e' && rest[0] != 'E' {
		return "", 0, false
	}
	text := strings.TrimPrefix(rest[1:], "+")
	if text == "" || text != rest[1:] && text[0] == '-' || strings.Trim(strings.TrimPrefix(text, "-"),
		"0123456789") != "" {
		return "", 0, false
	}
	if text == "-" {
		return "", 0, false
	}
	if strings.Trim(digits, "-0") == "" { // 0e99999999999999999999 is 0
		return "0", 0, true
	}
	e, err := strconv.ParseInt(text, 10, 32)
	if err != nil {
		return "", 0, false
	}
	return digits, exp + int(e), true
}

// of makes a number of digits with a sign.
func of(digits string, exp int) (Number, bool) {
	cut := strings.TrimRight(digits, "0")
	if strings.Trim(cut, "-") == "" {
		return Number{}, true
	}
	if exp += len(digits) - len(cut); exp > MostExponent || exp < -2*MostExponent {
		return Number{}, false
	}
	n := Number{exp: int32(exp)}
	if len(cut) <= 18 {
		v, err := strconv.ParseInt(cut, 10, 64)
		n.small = v
		return n, err == nil
	}
	v, ok := new(big.Int).SetString(cut, 10)
	n.big = v
	return n, ok
}

// Int is a whole number.
func Int(n int64) Number { return Number{small: n} }

// Float is the number that a 64-bit floating point number is written as: its shortest
// notation, so that the 0.05 of a file is 0.05. Infinities and what is no number are 0.
func Float(f float64) Number {
	n, _ := Parse(strconv.FormatFloat(f, 'e', -1, 64))
	return n
}

// digits are those of a number.
func (n Number) digits() *big.Int {
	if n.big != nil {
		return n.big
	}
	return big.NewInt(n.small)
}

// aligned are the digits of two numbers at the smaller of their powers of ten.
func aligned(a, b Number) (x, y *big.Int, exp int32) {
	x, y, exp = a.digits(), b.digits(), min(a.exp, b.exp)
	return scaled(x, a.exp-exp), scaled(y, b.exp-exp), exp
}

func scaled(x *big.Int, by int32) *big.Int {
	if by == 0 || x.Sign() == 0 {
		return x
	}
	return new(big.Int).Mul(x, new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(by)), nil))
}

func made(digits *big.Int, exp int32) Number {
	if digits.IsInt64() {
		return Number{small: digits.Int64(), exp: exp}
	}
	return Number{big: digits, exp: exp}
}

// Sign is -1, 0 or 1.
func (n Number) Sign() int {
	if n.big != nil {
		return n.big.Sign()
	}
	return cmp.Compare(n.small, 0)
}

// Cmp is -1, 0 or 1 where n is less than, equal to or greater than o.
func (n Number) Cmp(o Number) int {
	if n.big == nil && o.big == nil && n.exp == o.exp {
		return cmp.Compare(n.small, o.small)
	}
	x, y, _ := aligned(n, o)
	return x.Cmp(y)
}

// Add is n + o.
func (n Number) Add(o Number) Number {
	x, y, exp := aligned(n, o)
	return made(new(big.Int).Add(x, y), exp)
}

// Sub is n - o.
func (n Number) Sub(o Number) Number {
	x, y, exp := aligned(n, o)
	return made(new(big.Int).Sub(x, y), exp)
}

// Mul is n times o.
func (n Number) Mul(o Number) Number {
	return made(new(big.Int).Mul(n.digits(), o.digits()), n.exp+o.exp)
}

// Abs is n without its sign.
func (n Number) Abs() Number {
	if n.Sign() >= 0 {
		return n
	}
	return made(new(big.Int).Neg(n.digits()), n.exp)
}

// Within tells whether n is at most limit away from o.
func (n Number) Within(o, limit Number) bool { return n.Sub(o).Abs().Cmp(limit) <= 0 }

// String is the number with all of its digits, and with an exponent where it would be long:
// "0.15", "-1200", "1e+30". Parse reads it back.
func (n Number) String() string {
	s := n.digits().String()
	sign := ""
	if strings.HasPrefix(s, "-") {
		sign, s = "-", s[1:]
	}
	if s == "0" {
		return "0"
	}
	trimmed := strings.TrimRight(s, "0")
	exp := int(n.exp) + len(s) - len(trimmed)
	point := len(trimmed) + exp // digits before the point
	switch {
	case point > 21 || point < -5:
		text := trimmed[:1]
		if len(trimmed) > 1 {
			text += "." + trimmed[1:]
		}
		if point--; point >= 0 {
			return sign + text + "e+" + strconv.Itoa(point)
		}
		return sign + text + "e" + strconv.Itoa(point)
	case exp >= 0:
		return sign + trimmed + strings.Repeat("0", exp)
	case point > 0:
		return sign + trimmed[:point] + "." + trimmed[point:]
	}
	return sign + "0." + strings.Repeat("0", -point) + trimmed
}

// floor is the whole number at or below n times a power of ten; false where it does not fit.
func (n Number) floor(exp int32) (int64, bool) {
	x, e := n.digits(), n.exp+exp
	if e >= 0 {
		if e > 40 && x.Sign() != 0 {
			return 0, false
		}
		x = scaled(x, e)
	} else {
		x = new(big.Int).Div(x, scaled(big.NewInt(1), -e)) // towards minus infinity: the divisor is positive
	}
	return x.Int64(), x.IsInt64()
}

// The sizes at which a number since 1970 is taken for milliseconds, microseconds and
// nanoseconds: seconds reach the year 5138 below the first of them.
var (
	millis = Int(1e11)
	micros = Int(1e14)
	nanos  = Int(1e17)
)

// Instant is the time of a number since 1970 in seconds, milliseconds, microseconds or
// nanoseconds, with or without a fraction, told apart by its size. It is exact to the
// nanosecond; what is below that is cut off. It is false for numbers that are not positive,
// and beyond the year 2262.
func (n Number) Instant() (time.Time, bool) {
	exp := int32(0)
	switch {
	case n.Sign() <= 0:
		return time.Time{}, false
	case n.Cmp(millis) < 0:
		exp = 9
	case n.Cmp(micros) < 0:
		exp = 6
	case n.Cmp(nanos) < 0:
		exp = 3
	}
	ns, ok := n.floor(exp)
	if !ok {
		return time.Time{}, false
	}
	return time.Unix(0, ns), true
}

// AtLeast tells whether so many of all are at least a percentage of them. It is false where
// there are none.
func AtLeast(n, all int, percent Number) bool {
	return all > 0 && Int(int64(n)).Mul(Int(100)).Cmp(percent.Mul(Int(int64(all)))) >= 0
}
