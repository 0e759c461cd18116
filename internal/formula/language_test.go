package formula_test

import (
	"encoding/json"
	"math"
	"math/big"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/formula"
	"runcrowd/internal/quantity"
)

// What the list of functions and operators says of each holds.
func TestLanguage(t *testing.T) {
	env := formula.Env{"n": 7, "site": "outer", "level_m": 4.6, "draught_m": 1.4,
		"mooring": quantity.Position{Lat: 58.02, Lon: -6.41},
		"time":    time.Unix(1900000000, 0), "previous": map[string]any{}}
	try := func(name, example, result string) {
		f, err := formula.Compile(example, env)
		require.NoError(t, err, name)
		v, err := f.Any(&formula.Machine{}, env)
		require.NoError(t, err, name)
		if x, is := v.(float64); is {
			v = math.Round(x*1e6) / 1e6
		}
		assert.Equal(t, result, formula.String(v), "%s: %s", name, example)
	}
	for _, f := range formula.Functions() {
		try(f.Name, f.Example, f.Result)
		assert.Contains(t, f.Example, f.Name+"(")
		assert.NotEmpty(t, f.Doc)
	}
	for _, o := range append(formula.Operators(), formula.Values()...) {
		if o.Example != "" {
			try(o.Name, o.Example, o.Result)
		}
	}
}

// What the library beneath knows and the language does not is refused, with what to
// write in its place.
func TestLanguageIsClosed(t *testing.T) {
	env := formula.Env{"n": 7, "site": "outer", "time": time.Time{}, "tags": []string{"a"}, "mooring": quantity.Position{}}
	for source, says := range map[string]string{
		"time.UTC().Hour()": "there are no methods; a formula calls functions, such as hour(time)",
		"time.Hour":         `a time has no part "Hour"`,
		"n > 1 && n < 3":    `there is no operator "&&"; write and`, "n > 1 || n < 3": "write or", "!(n > 1)": "write not",
		"2 ^ 3": "write **", "n in 1..9": "write the list out",
		"toJSON(n)": `there is no function "toJSON"`, "len(site)": `there is no function "len"`,
		"map([1], # + 1)": `there is no function "map"`, "hours(time)": `did you mean "hour"?`,
		"site startsWith 'o'": "write starts_with(text, part)", "let a = 1; a": "not of the formula language",
		"site[1:2]":             "write part(text, first, count)",
		"if n > 1 {1} else {2}": "there is no if", "site | upper()": "", "mooring.Offset(1, 2)": "there are no methods",
		"$env": "", "previous?.a": "there is no ?.", "now()": `there is no function "now"`,
		"all(tags, true)": "there is no function",
	} {
		_, err := formula.Compile(source, env)
		if says == "" { // the same tree as a call: allowed, or an error in words
			continue
		}
		require.Error(t, err, source)
		assert.ErrorContains(t, err, says, source)
	}
}

// No arithmetic goes wrong without a word.
func TestArithmetic(t *testing.T) {
	env := formula.Env{"big": math.MaxInt, "least": math.MinInt, "n": 7, "zero": 0, "x": 1e308,
		"ask": map[string]any{"a": 3, "b": math.MaxInt, "t": "text", "f": 2.5}}
	run := func(source string) (any, error) {
		f, err := formula.Compile(source, env)
		require.NoError(t, err, source)
		return f.Any(&formula.Machine{}, env)
	}
	for source, want := range map[string]any{"big + 0": math.MaxInt, "least - 0": math.MinInt, "least + big": -1,
		"big - 1": math.MaxInt - 1, "-3 * n": -21, "least * 1": math.MinInt,
		"ask.a + n": 10, "ask.a * ask.f": 7.5, "ask.f + 1": 3.5, "ask.t + 'x'": "textx", "n / 2": 3.5, "(n + 1) * 2 - 3": 13,
		"big + 1.0": float64(1 << 63), "n % 4": 3, "ask.a / ask.f": 1.2} {
		got, err := run(source)
		require.NoError(t, err, source)
		assert.Equal(t, want, got, source)
	}
	const out = "outside the whole numbers of 64 bits"
	for source, says := range map[string]string{"big + 1": out, "least - 1": out, "big * 2": out, "least * -1": out,
		"big - -1": out, "least + -1": out, "ask.b + 1": out, "ask.b * ask.a": out, "abs(least)": out,
		"n / zero": "division by zero", "1 / (1 / zero)": "division by zero", "n / 0": "division by zero",
		"n % zero": "division by zero", "x * 10": "no message can carry", "x / 1e-3": "",
		"sqrt(-n) > 0":  "sqrt gives no finite number",
		"ask.a + ask.t": "a number and a text do not go together", "ask.c + 1": "nothing and a number do not go together",
		"ask.t / 2": "", "whole(x)": out, "1 / ask.t": "/ wants two numbers, not a number and a text"} {
		_, err := run(source)
		require.Error(t, err, source)
		assert.ErrorContains(t, err, says, source)
	}
	// Held against arithmetic of unlimited size in FuzzArithmetic.
}

func FuzzArithmetic(f *testing.F) {
	f.Add(int64(math.MaxInt64), int64(1))
	f.Add(int64(math.MinInt64), int64(-1))
	compiled := map[string]*formula.Formula{}
	for _, op := range []string{"+", "-", "*"} {
		c, err := formula.Compile("a "+op+" b", formula.Env{"a": 1, "b": 1})
		require.NoError(f, err)
		compiled[op] = c
	}
	f.Fuzz(func(t *testing.T, a, b int64) {
		for op, c := range compiled {
			v, err := c.Any(&formula.Machine{}, formula.Env{"a": int(a), "b": int(b)})
			want := exact(a, b, op)
			if want.IsInt64() {
				require.NoError(t, err)
				require.Equal(t, want.Int64(), int64(v.(int)), "%d %s %d", a, op, b)
			} else {
				require.Error(t, err, strconv.FormatInt(a, 10)+op+strconv.FormatInt(b, 10))
			}
		}
	})
}

func exact(a, b int64, op string) *big.Int {
	x, y, z := big.NewInt(a), big.NewInt(b), new(big.Int)
	switch op {
	case "+":
		return z.Add(x, y)
	case "-":
		return z.Sub(x, y)
	}
	return z.Mul(x, y)
}

// What is no plain value stands in a text as JSON, in no notation of ours.
func TestValuesInTexts(t *testing.T) {
	for want, v := range map[string]any{
		"null": nil, `{"a":[1,"x<y"]}`: map[string]any{"a": []any{1, "x<y"}}, `[1.5,null,true]`: []any{1.5, nil, true},
		"1.50": json.Number("1.50"), "{}": map[string]any{}, "x": "x",
	} {
		assert.Equal(t, want, formula.String(v))
	}
}
