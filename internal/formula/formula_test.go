package formula_test

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/formula"
	"runcrowd/internal/quantity"
)

func names() formula.Env {
	return formula.Env{"n": 7, "water_c": 10.5, "site": "outer", "on": true,
		"mooring": quantity.Position{Lat: 58.02, Lon: -6.41},
		"time":    time.Unix(1900000000, 0), "env": formula.Secrets{"PASS": "x-1"}, "level_m": 4.6, "draught_m": 1.4}
}

func TestFormulas(t *testing.T) {
	for source, want := range map[string]any{
		"water_c * 2 + 3": 24.0, "n + 1": 8, "n / 2": 3.5, "pad(n, 3)": "007", "pad(-n, 4)": "-007", "upper(site)": "OUTER",
		"mooring.lat": 58.02, "on ? 1 : 2": 1, "unix(time)": 1900000000, "site + '-' + text(n)": "outer-7",
		"sqrt(n + 2)": 3.0,
		"n % 4":       3, "env.PASS": "x-1", "round(water_c)": 11.0, "max(n, 3)": 7,
		// The examples of ISO/IEC 7812-1, of the GS1 General Specifications and of
		// ISO 13616 (a bank account of the United Kingdom).
		"luhn('7992739871')": "3", "luhn(7992739871)": "3", "luhn('0')": "0", "gs1('629104150021')": "3",
		"gs1('0614141 12345')": "2", "mod97('WEST12345698765432GB')": "82",
		"hex(255, 4)": "00ff", "hex(4096, 2)": "1000", "hex(0, 0)": "0",
	} {
		f, err := formula.Compile(source, names())
		require.NoError(t, err, source)
		got, err := f.Any(&formula.Machine{}, names())
		require.NoError(t, err, source)
		assert.Equal(t, want, got, source)
	}
	f, err := formula.Compile("n + length(env.PASS) + mooring.lon", names())
	require.NoError(t, err)
	assert.Equal(t, []string{"env", "mooring", "n"}, f.Names())
	assert.Equal(t, []string{"PASS"}, f.EnvNames())
}

func TestWrongFormulas(t *testing.T) {
	for source, want := range map[string]formula.Error{
		"":             {Column: 0, Text: "the formula is empty"},
		"watr_c + 1":   {Column: 0, Text: `"watr_c" is not known here; did you mean "water_c"?`},
		"1 + site":     {Column: 2, Text: "+ does not go with a number and a text"},
		"(1 + 2":       {Column: 5, Text: "the formula ends too early: a bracket is not closed, or a value is missing"},
		"mooring.east": {Column: 8, Text: `a position has no part "east"; its parts are lat and lon`},
		"now()":        {Column: 0, Text: `there is no function "now"; see runcrowd formulas`},
	} {
		_, err := formula.Compile(source, names())
		var fe *formula.Error
		require.ErrorAs(t, err, &fe, source)
		assert.Equal(t, want, *fe, source)
	}
	for source, says := range map[string]string{"n / 0": "division by zero", "n % 0": "division by zero",
		"pad(n, 99)": "width must be"} {
		f, err := formula.Compile(source, names())
		if err == nil {
			_, err = f.Any(&formula.Machine{}, names())
		}
		assert.ErrorContains(t, err, says, source)
	}
}

func TestTexts(t *testing.T) {
	for source, want := range map[string]string{
		"harbour/${site}/buoy-${pad(n, 3)}/state": "harbour/outer/buoy-007/state",
		"plain": "plain", "": "", "${n}": "7", "a $${n} b": "a ${n} b", `${"}"}`: "}", "$n $": "$n $",
		"${time}": "2030-03-17T17:46:40Z", "${mooring}": "58.02,-6.41", "${water_c}": "10.5",
	} {
		x, err := formula.ParseText(source, names())
		require.NoError(t, err, source)
		got, err := x.Expand(&formula.Machine{}, names())
		require.NoError(t, err, source)
		assert.Equal(t, want, got, source)
		assert.Equal(t, source, x.Source())
		j, err := formula.ParseText(x.JSON(), names())
		require.NoError(t, err, x.JSON())
		out, err := j.Expand(&formula.Machine{}, names())
		require.NoError(t, err, x.JSON())
		if x.Single() == nil {
			var back string
			require.NoError(t, json.Unmarshal([]byte(out), &back), out)
			assert.Equal(t, want, back)
		} else {
			assert.True(t, json.Valid([]byte(out)), out)
		}
		whole, err := x.Formula(names())
		if source != "" {
			require.NoError(t, err, source)
			v, err := whole.Any(&formula.Machine{}, names())
			require.NoError(t, err)
			assert.Equal(t, want, v)
		}
	}
	for source, column := range map[string]int{"ab${n": 2, "ab${nope}": 4, "${n} ${}": 7} {
		_, err := formula.ParseText(source, names())
		var fe *formula.Error
		require.ErrorAs(t, err, &fe, source)
		assert.Equal(t, column, fe.Column, source)
	}
}

func TestNearest(t *testing.T) {
	known := []string{"every", "topic", "fields", "qos"}
	for name, want := range map[string]string{"evry": "every", "tpoic": "topic", "Topic": "topic", "field": "fields",
		"interval": "", "q": ""} {
		assert.Equal(t, want, formula.Nearest(name, known), name)
	}
}

func FuzzText(f *testing.F) {
	for _, s := range []string{"${n}", "$${", "${site + '}'}", "${{}}", "${env.PASS}", "a${", "${n}${n}", "${min(1, n)}"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		if len(s) > 200 {
			return
		}
		x, err := formula.ParseText(s, formula.Env{"n": 1, "site": "a"})
		if err != nil {
			var fe *formula.Error
			require.ErrorAs(t, err, &fe)
			require.GreaterOrEqual(t, fe.Column, 0)
			return
		}
		if x.Fixed() {
			_, err := x.Expand(&formula.Machine{}, nil)
			require.NoError(t, err)
		}
	})
}

func BenchmarkNumber(b *testing.B) {
	f, err := formula.Compile("level_m - draught_m", names())
	if err != nil {
		b.Fatal(err)
	}
	m, env := &formula.Machine{}, names()
	b.ReportAllocs()
	for b.Loop() {
		f.Number(m, env)
	}
}

// What signed tokens are composed of, held against the examples of the standards.
func TestSigning(t *testing.T) {
	for source, want := range map[string]string{
		// RFC 4231, section 4.3, and RFC 2202, section 3: "what do ya want for nothing?".
		`bytes_hex(hmac("sha256", "Jefe", "what do ya want for nothing?"))`: "5bdcc146bf60754e6a042426089575c75a003f089d2739839dec58b964ec3843",
		`bytes_hex(hmac("sha1", "Jefe", "what do ya want for nothing?"))`:   "effcdf6ae5eb2fa2d27416d5f184df9c259a7c79",
		`bytes_hex(hmac("md5", "Jefe", "what do ya want for nothing?"))`:    "750c783e6ab0b503eaa86e310a5db738",
		// FIPS 180-4 and RFC 1321, appendix A.5.
		`bytes_hex(digest("sha256", "abc"))`: "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad",
		`bytes_hex(digest("md5", "abc"))`:    "900150983cd24fb0d6963f7d28e17f72",
		// RFC 4648, section 10; RFC 3986, section 2.1.
		`base64("foobar")`: "Zm9vYmFy", `base64("fo")`: "Zm8=", `base64url("fo")`: "Zm8",
		`base64url(unbase64("-_8="))`: "-_8",
		`unbase64("Zm9vYg==")`:        "foob", `unbase64("Zm9vYg")`: "foob", `unbase64(base64(n))`: "7",
		`url_escape("a b/c+d=e&f")`: "a%20b%2Fc%2Bd%3De%26f",
	} {
		f, err := formula.Compile(source, names())
		require.NoError(t, err, source)
		got, err := f.Any(&formula.Machine{}, names())
		require.NoError(t, err, source)
		assert.Equal(t, want, got, source)
	}
	for source, says := range map[string]string{`hmac("md4", "k", "x")`: `hmac: "md4" is not known; it is one of md5, sha1`, `digest("crc", "x")`: `digest: "crc" is not known`, `unbase64("?")`: "unbase64: " +
		"this is not base64 (RFC 4648)"} {
		f, err := formula.Compile(source, names())
		require.NoError(t, err, source)
		_, err = f.Any(&formula.Machine{}, names())
		assert.ErrorContains(t, err, says)
	}
}

// What is deep ends no program: it is refused, or read.
func TestDeepFormulas(t *testing.T) {
	for _, c := range []string{"-", "(", "not ", "[", "1 ? 1 : ", "{'a':", "1+(", "2 ** "} {
		_, err := formula.Compile(strings.Repeat(c, 1_000_000)+"1", formula.Env{})
		require.ErrorContains(t, err, "a formula has at most 10000 characters")
		formula.Compile(strings.Repeat(c, formula.MostFormula/len(c)-1)+"1", formula.Env{})
	}
}

// A signature base of RFC 9421, section 2.5, and its HMAC (section 3.3.3) as another implementation
// computed it.
func TestSigningARequest(t *testing.T) {
	env := formula.Env{"request": formula.Request{}, "env": formula.Secrets{}, "parameters": "", "base": ""}
	known := formula.Env{"env": formula.Secrets{"KEY": "uzvJfB4u3N0Jy4T7NZ75MDVcr8zSTInedJtkgcu46YW4XByzNJjxBdtjUkdJPBtbmHhIDi6pcl8jsasjlTMtDA=="},
		"request": formula.Request{Method: "POST", Host: "example.com", Path: "/foo", Query: "param=Value&Pet=dog", Body: `{"hello": "world"}`,
			Time: time.Unix(1618884473, 0)}}
	m := &formula.Machine{}
	for _, step := range [][2]string{
		{"parameters", `("date" "@authority" "content-type");created=${unix(request.time)};keyid="test-shared-secret"`},
		{"base", "\"date\": ${date(request.time, 'Day, DD Mon YYYY')} 02:07:55 GMT\n\"@authority\": ${request.host}\n" +
			"\"content-type\": application/json\n\"@signature-params\": ${parameters}"},
		{"signature", "sig-b25=:${base64(hmac('sha256', unbase64(env.KEY), base))}:"},
	} {
		text, err := formula.ParseText(step[1], env)
		require.NoError(t, err)
		known[step[0]], err = text.Expand(m, known)
		require.NoError(t, err)
	}
	assert.Equal(t, "sig-b25=:9Ozzz/LbAvp2gawiSKzWLvXXQNXGozaG6FuKlGU/Czs=:", known["signature"])
	_, err := formula.ParseText("${request.length}", env)
	assert.EqualError(t, err, `a request has no part "length"; its parts are method, host, path, query, body and time`)
	_, err = formula.ParseText("${'a\nb'}", env)
	assert.ErrorContains(t, err, `is written \n`)
}
