package decimal_test

import (
	"encoding/json"
	"fmt"
	"math/big"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/decimal"
)

func number(t *testing.T, s string) decimal.Number {
	t.Helper()
	n, ok := decimal.Parse(s)
	require.True(t, ok, s)
	return n
}

func TestOnlyNumbersOfJSONAreRead(t *testing.T) {
	for _, s := range []string{"", "-", ".", "+1", "01", "1.", ".5", "1e", "1e+", "1e+-2", "1e1.5", " 1", "1 ", "0x10",
		"1_000", "NaN", "Infinity", "--1", "1e99999999999999999999", "1" + strings.Repeat("1", 3000)} {
		_, ok := decimal.Parse(s)
		assert.False(t, ok, "%q", s)
	}
	for s, want := range map[string]string{"0": "0", "-0": "0", "0.0e5": "0", "0e99999999999999999999": "0",
		"1.50": "1.5", "-1.5e3": "-1500", "1E-2": "0.01", "12e30": "1.2e+31", "0.0000001": "1e-7",
		"123456789012345678901234567890": "1.2345678901234567890123456789e+29", "100": "100"} {
		if n, ok := decimal.Parse(s); assert.True(t, ok, s) {
			assert.Equal(t, want, n.String(), s)
		}
	}
}

func TestTolerancesAreExact(t *testing.T) {
	for _, c := range []struct {
		a, b, limit string
		within      bool
	}{
		{"0.15", "0.2", "0.05", true}, {"0.35", "0.3", "0.05", true}, {"0.15", "0.2", "0.0499999999999999999999", false},
		{"1e15", "1000000000000000.1", "0.1", true}, {"1e15", "1000000000000000.1", "0.09", false},
		{"-0.05", "0", "0.05", true}, {"1", "1", "0", true}, {"1", "1.0000000000000000000001", "0", false},
	} {
		assert.Equal(t, c.within, number(t, c.a).Within(number(t, c.b), number(t, c.limit)), "%+v", c)
	}
}

func TestSharesAreExact(t *testing.T) {
	for _, c := range []struct {
		n, all  int
		percent float64
		met     bool
	}{
		{40959, 41000, 99.9, true}, {40958, 41000, 99.9, false}, {9993, 10000, 99.93, true}, {9992, 10000, 99.93, false},
		{0, 0, 0, false}, {0, 5, 0, true}, {5, 5, 100, true}, {999999999, 1000000000, 100, false},
	} {
		assert.Equal(t, c.met, decimal.AtLeast(c.n, c.all, decimal.Float(c.percent)), "%+v", c)
	}
}

// A time is to the nanosecond what its digits say, whatever its unit.
func TestInstants(t *testing.T) {
	at := time.Date(2026, 11, 30, 12, 5, 22, 14_123_456, time.UTC)
	ns := at.UnixNano()
	for _, s := range []string{fmt.Sprint(ns), fmt.Sprintf("%d.%03d", ns/1e3, ns%1e3),
		fmt.Sprintf("%d.%06d", ns/1e6, ns%1e6), fmt.Sprintf("%d.%09d", ns/1e9, ns%1e9),
		fmt.Sprintf("%d.%09d999", ns/1e9, ns%1e9), fmt.Sprintf("%d.%09de-9", ns, 0)} {
		got, ok := number(t, s).Instant()
		assert.True(t, ok && got.Equal(at), "%s is %s, not %s", s, got, at)
	}
	for _, s := range []string{"0", "-5", "1e30", "9300000000000000000"} {
		_, ok := number(t, s).Instant()
		assert.False(t, ok, s)
	}
}

// Whatever is computed is what math/big computes.
func FuzzNumber(f *testing.F) {
	for _, s := range []string{"0.15 0.2", "1e15 -1000000000000000.1", "99.93 9993", "-0 0.0", "123456789012345678 " +
		"1234567890123456789", "1e-300 5e200", "9223372036854775807 1"} {
		a, b, _ := strings.Cut(s, " ")
		f.Add(a, b)
	}
	f.Fuzz(func(t *testing.T, s, o string) {
		a, okA := decimal.Parse(s)
		b, okB := decimal.Parse(o)
		if okA {
			assert.True(t, json.Valid([]byte(s)), "%q is no number of JSON", s)
			back, ok := decimal.Parse(a.String())
			assert.True(t, ok && back.Cmp(a) == 0, "%q is read back as %s", s, back)
		}
		if !okA || !okB {
			return
		}
		x, readX := new(big.Rat).SetString(s)
		y, readY := new(big.Rat).SetString(o)
		if !readX || !readY { // 0e99999999999 is too much for it
			return
		}
		same := func(n decimal.Number, want *big.Rat) {
			got, ok := new(big.Rat).SetString(n.String())
			assert.True(t, ok && got.Cmp(want) == 0, "%s and %s: %s is not %s", s, o, n, want)
		}
		assert.Equal(t, x.Cmp(y), a.Cmp(b), "%s and %s", s, o)
		assert.Equal(t, x.Sign(), a.Sign(), s)
		same(a.Add(b), new(big.Rat).Add(x, y))
		same(a.Sub(b), new(big.Rat).Sub(x, y))
		same(a.Mul(b), new(big.Rat).Mul(x, y))
		same(a.Abs(), new(big.Rat).Abs(x))
	})
}
