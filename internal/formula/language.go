package formula

import (
	"crypto/hmac"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"math"
	"net/url"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/expr-lang/expr"
)

// Function is one function of the language.
type Function struct {
	Name string
	Args string // as they are written: "x, width"
	Doc  string
	// Example is a formula that uses it, and Result what that gives, as a text.
	Example, Result string
	// Group is the heading under which it is listed.
	Group string

	call  func(args []any) (any, error)
	types []any // of the function: what the checker knows of its arguments
}

// Operator is one operator, or one sort of value, of the language.
type Operator struct {
	Name            string
	Doc             string
	Example, Result string
}

// Operators lists the operators, the loosest first: 1 + 2 * 3 is 7.
func Operators() []Operator { return operators }

// Functions lists the functions by group.
func Functions() []Function { return functions }

// Values lists the sorts of values.
func Values() []Operator { return values }

// Rules says what holds throughout the language.
func Rules() []string { return rules }

var rules = []string{
	"Whole numbers have 64 bits. A sum, difference or product outside of them is an error, never another number.",
	"Whole and other numbers mix; the result then has decimals. / always gives a number with decimals.",
	"A division by zero, and a result that is not a finite number, is an error: the field is sent as null, and the run " +
		"says so.",
	"A text does not become a number by itself, nor the other way: write number(x) or text(x).",
	"A wrong name or type is found when the file is read, with its column.",
}

var values = []Operator{
	{"whole number", "64 bits; also 0x1F.", "1907", "1907"},
	{"number", "With decimals; 64 bits.", "4.25e3", "4250"},
	{"text", "In single or double quotes.", "'outer'", "outer"},
	{"true, false", "What a comparison gives.", "1 < 2", "true"},
	{"list", "Values of one sort; the first has the number 0.", "[12, 20, 35][1]", "20"},
	{"mapping", "Names and values.", "json({'n': n})", `{"n":7}`},
	{"position", "Its parts are lat and lon.", "mooring.lat", "58.02"},
	{"vector", "Three axes; its parts are x, y and z.", "", ""},
	{"time", "Of the message: time. It has no parts; take hour(time) and the like.", "unix(time)", "1900000000"},
	{"nothing", "What is not there, such as a field of the message before the first. Written nil.", "nil == nil", "true"},
}

var operators = []Operator{
	{"a ? b : c", "b where a holds, else c.", "draught_m > 2 ? 'deep' : 'shallow'", "shallow"},
	{"a ?? b", "a, or b where a is nothing.", "previous.total ?? 0", "0"},
	{"or", "Either holds.", "n > 9 or site == 'outer'", "true"},
	{"and", "Both hold.", "n > 9 and site == 'outer'", "false"},
	{"==  !=", "Equal, not equal.", "site != 'inner'", "true"},
	{"<  <=  >  >=", "Order of numbers, texts or times.", "draught_m <= 1.4", "true"},
	{"in", "Is one of a list.", "site in ['outer', 'bar']", "true"},
	{"contains", "A text holds a part.", "site contains 'ut'", "true"},
	{"matches", "A regular expression (RE2) fits somewhere in a text.", "site matches '^o.*r$'", "true"},
	{"not", "Turns true and false round.", "not (n > 9)", "true"},
	{"+  -", "Sum, difference. + also joins texts.", "level_m - draught_m", "3.2"},
	{"*  /", "Product, quotient.", "n / 2", "3.5"},
	{"%", "Remainder of whole numbers; it has the sign of the first.", "n % 4", "3"},
	{"**", "Power; stronger than a sign: -2 ** 2 is -4.", "2 ** 10", "1024"},
	{"-a", "The opposite.", "-n", "-7"},
	{"a.b  a[b]", "A part of a value, an entry of a list.", "mooring.lon", "-6.41"},
}

// checked gives a result only where it is a number that a message can carry.
func checked(name string, x float64) (any, error) {
	if math.IsNaN(x) || math.IsInf(x, 0) {
		return nil, fmt.Errorf("%s gives no finite number", name)
	}
	return x, nil
}

func float(v any) (float64, bool) {
	switch x := v.(type) {
	case float64:
		return x, true
	case int:
		return float64(x), true
	}
	return 0, false
}

// onNumber is a function from a number to a number.
func onNumber(group, name, doc, example, result string, f func(float64) float64) Function {
	return Function{Group: group, Name: name, Args: "x", Doc: doc, Example: example, Result: result,
		call: func(a []any) (any, error) {
			x, ok := float(a[0])
			if !ok {
				return nil, fmt.Errorf("%s: a number is wanted, not %s", name, typeName(a[0]))
			}
			return checked(name, f(x))
		}, types: []any{new(func(float64) float64), new(func(int) float64)}}
}

// onText is a function from any value, as a text, to a text.
func onText(group, name, doc, example, result string, f func(string) (string, error)) Function {
	return Function{Group: group, Name: name, Args: "x", Doc: doc, Example: example, Result: result,
		call: func(a []any) (any, error) {
			s, err := f(String(a[0]))
			if err != nil {
				return nil, fmt.Errorf("%s: %w", name, err)
			}
			return s, nil
		}, types: []any{new(func(any) string)}}
}

// onTime is a function from a time, in UTC, to a whole number.
func onTime(name, doc, result string, f func(time.Time) int) Function {
	return Function{Group: "time", Name: name, Args: "time", Doc: doc, Example: name + "(time)", Result: result,
		call: func(a []any) (any, error) {
			t, ok := a[0].(time.Time)
			if !ok {
				return nil, fmt.Errorf("%s: a time is wanted, not %s", name, typeName(a[0]))
			}
			return f(t.UTC()), nil
		}, types: []any{new(func(time.Time) int)}}
}

// wholeBy makes a whole number of a number.
func wholeBy(name, doc, example, result string, f func(float64) float64) Function {
	return Function{Group: "numbers", Name: name, Args: "x", Doc: doc, Example: example, Result: result,
		call: func(a []any) (any, error) {
			if i, is := a[0].(int); is {
				return i, nil
			}
			x, ok := float(a[0])
			if !ok {
				return nil, fmt.Errorf("%s: a number is wanted, not %s", name, typeName(a[0]))
			}
			if x = f(x); !(x >= -1<<63 && x < 1<<63) {
				return nil, fmt.Errorf("%s: %v is outside the whole numbers of 64 bits", name, x)
			}
			return int(x), nil
		}, types: []any{new(func(float64) int), new(func(int) int)}}
}

// extreme is the least or the greatest of its arguments.
func extreme(name, doc, example, result string, better func(a, b float64) bool) Function {
	return Function{Group: "numbers", Name: name, Args: "x, y, …", Doc: doc, Example: example, Result: result,
		call: func(a []any) (any, error) {
			if len(a) == 0 {
				return nil, fmt.Errorf("%s: at least one number is wanted", name)
			}
			best := a[0]
			for _, v := range a {
				x, ok := float(v)
				b, ok2 := float(best)
				if !ok || !ok2 {
					return nil, fmt.Errorf("%s: numbers are wanted, not %s", name, typeName(v))
				}
				if better(x, b) {
					best = v
				}
			}
			return best, nil
		}, types: []any{new(func(...int) int), new(func(...float64) float64), new(func(...any) any)}}
}

// onPair is a function of two texts that gives a truth value.
func onPair(name, doc, example, result string, f func(s, part string) bool) Function {
	return Function{Group: "texts", Name: name, Args: "text, part", Doc: doc, Example: example, Result: result,
		call:  func(a []any) (any, error) { return f(String(a[0]), String(a[1])), nil },
		types: []any{new(func(string, string) bool)}}
}

const maxText = 1 << 20 // letters that a function may make

var functions = []Function{
	{Group: "numbers", Name: "abs", Args: "x", Doc: "Without its sign.", Example: "abs(-3)", Result: "3",
		call: func(a []any) (any, error) {
			switch x := a[0].(type) {
			case int:
				if x == math.MinInt {
					return nil, errRange
				}
				return max(x, -x), nil
			case float64:
				return math.Abs(x), nil
			}
			return nil, fmt.Errorf("abs: a number is wanted, not %s", typeName(a[0]))
		}, types: []any{new(func(int) int), new(func(float64) float64)}},
	wholeBy("floor", "The next whole number below.", "floor(-2.5)", "-3", math.Floor),
	wholeBy("ceil", "The next whole number above.", "ceil(2.1)", "3", math.Ceil),
	wholeBy("whole", "A whole number: the decimals are cut off.", "whole(-2.9)", "-2", math.Trunc),
	{Group: "numbers", Name: "round", Args: "x, decimals", Doc: "Rounded to so many decimals; halves go away from zero. " +
		"decimals may be left out: 0.",
		Example: "round(level_m / 3, 2)", Result: "1.53",
		call: func(a []any) (any, error) {
			x, ok := float(a[0])
			d, ok2 := 0, true
			if len(a) > 1 {
				d, ok2 = a[1].(int)
			}
			if !ok || !ok2 || d < 0 || d > 15 {
				return nil, errors.New("round: a number is wanted, and decimals from 0 to 15")
			}
			if i, is := a[0].(int); is {
				x = float64(i)
			}
			// By way of the text, so that 1.005 is not 1.00499999999999989.
			s := strconv.FormatFloat(x, 'f', -1, 64)
			if _, after, has := strings.Cut(s, "."); !has || len(after) <= d {
				return x, nil
			}
			scale := math.Pow(10, float64(d))
			y := math.Round(x*scale) / scale
			return checked("round", y)
		}, types: []any{new(func(float64) float64), new(func(int) float64), new(func(float64, int) float64),
			new(func(int, int) float64)}},
	extreme("min", "The least.", "min(n, 3)", "3", func(a, b float64) bool { return a < b }),
	extreme("max", "The greatest.", "max(n, 3)", "7", func(a, b float64) bool { return a > b }),
	onNumber("numbers", "sqrt", "Square root.", "sqrt(n + 2)", "3", math.Sqrt),
	onNumber("numbers", "exp", "e to the power of x.", "exp(0)", "1", math.Exp),
	onNumber("numbers", "ln", "Natural logarithm.", "ln(1)", "0", math.Log),
	onNumber("numbers", "log10", "Decimal logarithm.", "log10(1000)", "3", math.Log10),
	onNumber("numbers", "sin", "Sine of an angle in radians.", "sin(0)", "0", math.Sin),
	onNumber("numbers", "cos", "Cosine of an angle in radians.", "cos(0)", "1", math.Cos),
	onNumber("numbers", "tan", "Tangent of an angle in radians.", "tan(0)", "0", math.Tan),
	{Group: "numbers", Name: "number", Args: "text", Doc: "The number that a text holds.", Example: "number('4.6') + 1",
		Result: "5.6",
		call: func(a []any) (any, error) {
			s := strings.TrimSpace(String(a[0]))
			x, err := strconv.ParseFloat(s, 64)
			if err != nil || strings.ContainsAny(s, "_xXpPnNiI") {
				return nil, fmt.Errorf("number: %q is not a number", s)
			}
			return checked("number", x)
		}, types: []any{new(func(any) float64)}},

	onText("texts", "text", "As a text: numbers as short as possible, times in UTC (RFC 3339), positions as lat,lon.",
		"text(n) + ' m'", "7 m", func(s string) (string, error) { return s, nil }),
	{Group: "texts", Name: "pad", Args: "x, width", Doc: "With zeros in front, up to a width from 0 to 64.",
		Example: "pad(n, 3)", Result: "007",
		call: func(a []any) (any, error) {
			width, ok := a[1].(int)
			if !ok || width < 0 || width > 64 {
				return nil, errors.New("pad: the width must be a whole number from 0 to 64")
			}
			s := String(a[0])
			if strings.HasPrefix(s, "-") {
				return "-" + strings.Repeat("0", max(0, width-len(s))) + s[1:], nil
			}
			return strings.Repeat("0", max(0, width-len(s))) + s, nil
		}, types: []any{new(func(any, int) string)}},
	{Group: "texts", Name: "hex", Args: "n, width", Doc: "A whole number in hexadecimal digits, with zeros up to a " +
		"width from 0 to 16.", Example: "hex(255, 4)", Result: "00ff",
		call: func(a []any) (any, error) {
			n, ok := a[0].(int)
			width, ok2 := a[1].(int)
			if !ok || !ok2 || n < 0 || width < 0 || width > 16 {
				return nil, errors.New("hex: a whole number that is not negative is wanted, and a width from 0 to 16")
			}
			return fmt.Sprintf("%0*x", width, n), nil
		}, types: []any{new(func(any, int) string)}},
	onText("texts", "upper", "In capital letters.", "upper(site)", "OUTER",
		func(s string) (string, error) { return strings.ToUpper(s), nil }),
	onText("texts", "lower", "In small letters.", "lower('LB-7')", "lb-7",
		func(s string) (string, error) { return strings.ToLower(s), nil }),
	onText("texts", "trim", "Without spaces at both ends.", "trim('  a ')", "a",
		func(s string) (string, error) { return strings.TrimSpace(s), nil }),
	{Group: "texts", Name: "length", Args: "x", Doc: "Letters of a text, entries of a list.", Example: "length(site)",
		Result: "5",
		call: func(a []any) (any, error) {
			switch x := a[0].(type) {
			case string:
				return utf8.RuneCountInString(x), nil
			case []string:
				return len(x), nil
			case []any:
				return len(x), nil
			}
			return nil, fmt.Errorf("length: a text or a list is wanted, not %s", typeName(a[0]))
		}, types: []any{new(func(any) int)}},
	{Group: "texts", Name: "part", Args: "text, first, count", Doc: "So many letters of a text, from the first on " +
		"(counted from 0).", Example: "part('LB-0042', 3, 4)", Result: "0042",
		call: func(a []any) (any, error) {
			letters := []rune(String(a[0]))
			first, ok := a[1].(int)
			count, ok2 := a[2].(int)
			if !ok || !ok2 || first < 0 || count < 0 {
				return nil, errors.New("part: first and count must be whole numbers that are not negative")
			}
			first = min(first, len(letters))
			return string(letters[first : first+min(count, len(letters)-first)]), nil
		}, types: []any{new(func(any, int, int) string)}},
	{Group: "texts", Name: "replace", Args: "text, old, new", Doc: "With each old part replaced.",
		Example: "replace('a-b', '-', '/')", Result: "a/b",
		call: func(a []any) (any, error) {
			s, old, by := String(a[0]), String(a[1]), String(a[2])
			if (len(s)+1)*max(1, len(by)) > maxText {
				return nil, fmt.Errorf("replace: the text would be longer than %d bytes", maxText)
			}
			return strings.ReplaceAll(s, old, by), nil
		}, types: []any{new(func(any, string, string) string)}},
	{Group: "texts", Name: "lookup", Args: "text, key", Doc: "The value of a key in a connection text, key=value;key=value; " +
		"or user, password, host, port, scheme or path of an address.", Example: "lookup('Host=sea;Key=a1b2', 'Key')",
		Result: "a1b2",
		call:   func(a []any) (any, error) { return lookup(String(a[0]), String(a[1])) },
		types:  []any{new(func(any, string) string)}},
	{Group: "texts", Name: "repeat", Args: "text, count", Doc: "The text so many times.", Example: "repeat('ab', 3)",
		Result: "ababab",
		call: func(a []any) (any, error) {
			s := String(a[0])
			n, ok := a[1].(int)
			if !ok || n < 0 || n > maxText || len(s)*n > maxText {
				return nil, fmt.Errorf("repeat: the count must be a whole number, and the text have at most %d bytes", maxText)
			}
			return strings.Repeat(s, n), nil
		}, types: []any{new(func(any, int) string)}},
	onPair("starts_with", "Whether a text begins with a part.", "starts_with(site, 'out')", "true", strings.HasPrefix),
	onPair("ends_with", "Whether a text ends with a part.", "ends_with(site, 'er')", "true", strings.HasSuffix),
	{Group: "texts", Name: "json", Args: "x", Doc: "A value as JSON.", Example: "json(site)", Result: `"outer"`,
		call: func(a []any) (any, error) {
			if t, is := a[0].(time.Time); is {
				a = []any{String(t)}
			}
			b, err := json.Marshal(a[0])
			if err != nil {
				return nil, fmt.Errorf("json: this cannot be written as JSON")
			}
			return string(b), nil
		}, types: []any{new(func(any) string)}},

	onTime("unix", "Seconds since 1970.", "1900000000", func(t time.Time) int { return int(t.Unix()) }),
	onTime("unix_ms", "Milliseconds since 1970.", "1900000000000", func(t time.Time) int { return int(t.UnixMilli()) }),
	onTime("year", "The year, in UTC.", "2030", time.Time.Year),
	onTime("month", "The month, 1 to 12, in UTC.", "3", func(t time.Time) int { return int(t.Month()) }),
	onTime("day", "The day of the month, in UTC.", "17", time.Time.Day),
	onTime("weekday", "The day of the week, 1 (Monday) to 7, in UTC (ISO 8601).", "7",
		func(t time.Time) int { return (int(t.Weekday())+6)%7 + 1 }),
	onTime("hour", "The hour, 0 to 23, in UTC.", "17", time.Time.Hour),
	onTime("minute", "The minute, in UTC.", "46", time.Time.Minute),
	onTime("second", "The second, in UTC.", "40", time.Time.Second),

	{Group: "time", Name: "date", Args: "time, form", Doc: "The time in UTC. In the form YYYY, MM, DD, hh, mm, ss, sss " +
		"(milliseconds), Mon (Mar) and Day (Sun) are filled in; all else stays.", Example: "date(time, 'YYYYMMDDThhmmssZ')",
		Result: "20300317T174640Z",
		call: func(a []any) (any, error) {
			t, ok := a[0].(time.Time)
			if !ok {
				return nil, fmt.Errorf("date: a time is wanted, not %s", typeName(a[0]))
			}
			return dateForm(t.UTC(), String(a[1])), nil
		}, types: []any{new(func(time.Time, string) string)}},

	checkDigits("luhn", "The check digit of ISO/IEC 7812-1, annex B.", "luhn('7992739871')", "3", luhn),
	checkDigits("gs1", "The check digit of the GS1 General Specifications, section 7.9.", "gs1('629104150021')", "3", gs1),
	checkDigits("mod97", "The two check digits of ISO/IEC 7064, MOD 97-10.", "mod97('WEST12345698765432GB')", "82", mod97),

	{Group: "signing", Name: "hmac", Args: "hash, key, x", Doc: "A keyed digest (RFC 2104), as bytes; hash is md5, " +
		"sha1, sha256, sha384 or sha512.", Example: "bytes_hex(hmac('md5', 'Jefe', 'what do ya want for nothing?'))",
		Result: "750c783e6ab0b503eaa86e310a5db738",
		call: func(a []any) (any, error) {
			make, known := digests[String(a[0])]
			if !known {
				return nil, fmt.Errorf("hmac: %q is not known; it is one of md5, sha1, sha256, sha384, sha512", a[0])
			}
			h := hmac.New(make, []byte(String(a[1])))
			h.Write([]byte(String(a[2])))
			return string(h.Sum(nil)), nil
		}, types: []any{new(func(string, string, any) string)}},
	{Group: "signing", Name: "digest", Args: "hash, x", Doc: "A digest, as bytes; hash as with hmac.",
		Example: "bytes_hex(digest('md5', 'abc'))", Result: "900150983cd24fb0d6963f7d28e17f72",
		call: func(a []any) (any, error) {
			make, known := digests[String(a[0])]
			if !known {
				return nil, fmt.Errorf("digest: %q is not known; it is one of md5, sha1, sha256, sha384, sha512", a[0])
			}
			h := make()
			h.Write([]byte(String(a[1])))
			return string(h.Sum(nil)), nil
		}, types: []any{new(func(string, any) string)}},
	onText("signing", "base64", "In base64 (RFC 4648, section 4).", "base64('fo')", "Zm8=",
		func(s string) (string, error) { return base64.StdEncoding.EncodeToString([]byte(s)), nil }),
	onText("signing", "base64url", "In base64url without padding (RFC 4648, section 5).", "base64url('fo')", "Zm8",
		func(s string) (string, error) { return base64.RawURLEncoding.EncodeToString([]byte(s)), nil }),
	onText("signing", "unbase64", "The bytes that base64 or base64url stands for.", "unbase64('Zm9vYg==')", "foob",
		func(s string) (string, error) {
			b, err := base64.StdEncoding.DecodeString(s)
			if err != nil {
				b, err = base64.RawURLEncoding.DecodeString(strings.TrimRight(s, "="))
			}
			if err != nil {
				return "", errors.New("this is not base64 (RFC 4648)")
			}
			return string(b), nil
		}),
	onText("signing", "url_escape", "For an address: all but letters, digits, - _ . ~ as %XX (RFC 3986, section 2.1).",
		"url_escape('a b/c')", "a%20b%2Fc", func(s string) (string, error) { return URLEscape(s), nil }),
	onText("signing", "bytes_hex", "Bytes in hexadecimal digits.", "bytes_hex('abc')", "616263",
		func(s string) (string, error) { return hex.EncodeToString([]byte(s)), nil }),
}

// digests are the hash functions of hmac (RFC 2104) and digest. The old ones are there
// because platforms want them.
var digests = map[string]func() hash.Hash{"md5": md5.New, "sha1": sha1.New, "sha256": sha256.New,
	"sha384": sha512.New384, "sha512": sha512.New}

// checkDigits is a function from a text to its check digits.
func checkDigits(name, doc, example, result string, f func(string) (string, error)) Function {
	return Function{Group: "check digits", Name: name, Args: "x", Doc: doc + " Spaces and - are left out.",
		Example: example, Result: result,
		call: func(a []any) (any, error) {
			s := strings.NewReplacer(" ", "", "-", "").Replace(String(a[0]))
			d, err := f(s)
			if err != nil || s == "" {
				return nil, fmt.Errorf("%s: digits are wanted, not %q", name, s)
			}
			return d, nil
		}, types: []any{new(func(any) string)}}
}

var errDigits = errors.New("not digits")

// luhn is the check digit of ISO/IEC 7812-1, annex B: from the right, every
// second digit is doubled.
func luhn(s string) (string, error) {
	return weighted(s, func(d, fromRight int) int {
		if fromRight%2 == 0 {
			if d *= 2; d > 9 {
				d -= 9
			}
		}
		return d
	})
}

// gs1 is the check digit of the GS1 General Specifications, section 7.9: weights
// 3 and 1 from the right.
func gs1(s string) (string, error) {
	return weighted(s, func(d, fromRight int) int {
		if fromRight%2 == 0 {
			d *= 3
		}
		return d
	})
}

func weighted(s string, weight func(d, fromRight int) int) (string, error) {
	sum := 0
	for i := range len(s) {
		c := s[len(s)-1-i]
		if c < '0' || c > '9' {
			return "", errDigits
		}
		sum += weight(int(c-'0'), i)
	}
	return strconv.Itoa((10 - sum%10) % 10), nil
}

// mod97 is the pair of check digits of ISO/IEC 7064, MOD 97-10, behind a text of
// digits and letters, in which A stands for 10 and Z for 35.
func mod97(s string) (string, error) {
	rest := 0
	for _, c := range strings.ToUpper(s) {
		switch {
		case c >= '0' && c <= '9':
			rest = (rest*10 + int(c-'0')) % 97
		case c >= 'A' && c <= 'Z':
			rest = (rest*100 + int(c-'A') + 10) % 97
		default:
			return "", errDigits
		}
	}
	return fmt.Sprintf("%02d", 98-rest*100%97), nil
}

// options are what the expression library is told: its own functions away, ours in.
var options = func() []expr.Option {
	list := []expr.Option{expr.DisableAllBuiltins(), expr.Patch(arithmetic{})}
	for _, f := range functions {
		list = append(list, expr.Function(f.Name, func(a ...any) (any, error) { return f.call(a) }, f.types...))
	}
	for name, f := range strict {
		list = append(list, expr.Function(checkedWhole+name, func(a ...any) (any, error) { return f(a[0], a[1]) },
			new(func(int, int) int)))
		list = append(list, expr.Function(checkedAny+name, func(a ...any) (any, error) { return f(a[0], a[1]) },
			new(func(any, any) any)))
	}
	return append(list, expr.Function(quotient, func(a ...any) (any, error) { return divide(a[0], a[1]) },
		new(func(any, any) float64)))
}()

var functionNames = func() []string {
	var list []string
	for _, f := range functions {
		list = append(list, f.Name)
	}
	return list
}()

// Forms are what the functions make of a text alone, from which it can be read again: escaped, in
// hexadecimal digits, in other letters.
func Forms(s string) (list []string) {
	for i := range functions {
		f := &functions[i]
		if len(f.types) != 1 {
			continue
		}
		if _, is := f.types[0].(*func(any) string); !is {
			continue
		}
		if v, err := f.call([]any{s}); err == nil {
			if text, is := v.(string); is && text != "" {
				list = append(list, text)
			}
		}
	}
	return list
}

// dateParts are those of the function date, the longer first.
var dateParts = []struct{ name, layout string }{{"YYYY", "2006"}, {"Mon", "Jan"}, {"Day", "Mon"}, {"sss", "000"}, {"MM", "01"},
	{"DD", "02"}, {"hh", "15"}, {"mm", "04"}, {"ss", "05"}}

// dateForm is a time in a form.
func dateForm(t time.Time, form string) string {
	var b strings.Builder
next:
	for form != "" {
		for _, p := range dateParts {
			if strings.HasPrefix(form, p.name) {
				if p.name == "sss" {
					fmt.Fprintf(&b, "%03d", t.Nanosecond()/1e6)
				} else {
					b.WriteString(t.Format(p.layout))
				}
				form = form[len(p.name):]
				continue next
			}
		}
		b.WriteByte(form[0])
		form = form[1:]
	}
	return b.String()
}

// URLEscape writes a text as a part of an address (RFC 3986, section 2.1).
func URLEscape(s string) string { return strings.ReplaceAll(url.QueryEscape(s), "+", "%20") }
