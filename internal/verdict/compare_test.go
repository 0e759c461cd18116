package verdict

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"runcrowd/internal/ledger"
)

// What is found against what was sent, by what the file says of the platform.
func TestWhatCountsAsEqual(t *testing.T) {
	rules := func(r ledger.FieldRule) *ledger.Witness {
		return &ledger.Witness{Fields: map[string]ledger.FieldRule{"x": r}}
	}
	kept := func(types ledger.Types) *ledger.Witness { return &ledger.Witness{Types: types} }
	for _, c := range []struct {
		witness     *ledger.Witness
		sent, found string
		differs     string // the first difference; empty: none
	}{
		{nil, `{"x":1}`, `{"x":1,"y":2}`, ""},
		{nil, `{"x":[1,2]}`, `{"x":[1,2,3]}`, "x: [1,2] [1,2,3] "},
		{nil, `{"x":[1,2,3]}`, `{"x":[1,2]}`, "x: [1,2,3] [1,2] "},
		{nil, `{"x":{"a":1}}`, `{"x":{"a":1,"b":2}}`, ""},
		{nil, `{"x":{"lat":1,"lon":2}}`, `{"x":{"lat":1,"lon":2.5}}`, `x: {"lat":1,"lon":2} {"lat":1,"lon":2.5} lon`},
		{nil, `{"x":{"x":1,"y":2,"z":3}}`, `{"x":{"x":1,"y":2,"z":4}}`, `x: {"x":1,"y":2,"z":3} {"x":1,"y":2,"z":4} z`},
		{nil, `{"x":{"lat":1,"lon":2,"alt":3}}`, `{"x":{"lat":1,"lon":2,"alt":4}}`, "x.alt: 3 4 "},
		{nil, `{"x":null}`, `{"x":null}`, ""}, {nil, `{"x":null}`, `{}`, "x: null  missing"},
		{nil, `{"x":null}`, `{"x":0}`, "x: null 0 "},
		{nil, `{"x":0}`, `{"x":0.0}`, ""}, {nil, `{"x":0}`, `{"x":-0}`, ""}, {nil, `{"x":1}`, `{"x":true}`, "x: 1 true "},
		{nil, `{"x":1e400}`, `{"x":1e400}`, ""}, {nil, `{"x":1e400}`, `{"x":10.0e399}`, ""},
		{nil, `{"x":1e400}`, `{"x":1e401}`, "x: 1e400 1e401 "},
		{nil, `{"x":{"lat":[1,2],"lon":1}}`, `{"x":{"lat":[1,3],"lon":1}}`,
			`x: {"lat":[1,2],"lon":1} {"lat":[1,3],"lon":1} lat`}, {nil, `{"x":{"lat":[1],"lon":1}}`,
			`{"x":{"lat":[1,3],"lon":1}}`, `x: {"lat":[1],"lon":1} {"lat":[1,3],"lon":1} lat`},
		{nil, `{"x":" a"}`, `{"x":"a "}`, `x: " a" "a " blanks changed`}, {nil, `{"x":"a"}`, `{"x":""}`, `x: "a" "" empty`},
		{nil, `{"x":"a"}`, `{"x":"b"}`, `x: "a" "b" `},
		{nil, `{"x":"2030-01-01T00:00:00.1234567Z"}`, `{"x":"2030-01-01T00:00:00.123456Z"}`,
			`x: "2030-01-01T00:00:00.1234567Z" "2030-01-01T00:00:00.123456Z" cut off to microseconds`},
		{nil, `{"x":"2030-01-01T00:00:00.1234567Z"}`, `{"x":"2030-01-01T00:00:00.123Z"}`,
			`x: "2030-01-01T00:00:00.1234567Z" "2030-01-01T00:00:00.123Z" cut off to milliseconds`},
		{nil, `{"x":"2030-01-01T00:00:00Z"}`, `{"x":999999999}`, `x: "2030-01-01T00:00:00Z" 999999999 `},
		{nil, `{"x":"2001-09-09T01:46:40Z"}`, `{"x":1000000000}`, ""},
		{nil, `{"x":"2001-09-09T01:46:40.5Z"}`, `{"x":1000000000.5}`, ""},
		{nil, `{"x":"2030-01-01T00:00:00Z"}`, `{"x":"2030-01-01T20:00:00Z"}`,
			`x: "2030-01-01T00:00:00Z" "2030-01-01T20:00:00Z" another time, 20h0m0s later`},
		{nil, `{"x":0}`, `{"x":5}`, "x: 0 5 "}, {nil, `{"x":5}`, `{"x":0}`, "x: 5 0 "},
		{nil, `{"x":0.25}`, `{"x":0.2500000001}`, "x: 0.25 0.2500000001 "},
		{nil, `null`, `{"x":1}`, "unknown"}, {nil, `{"x":1}`, `7`, "(all): {\"x\":1} 7 not an object of fields"},
		{nil, `{}`, `{}`, ""},

		{rules(ledger.FieldRule{Tolerance: 0.05}), `{"x":0.15}`, `{"x":0.2}`, ""},
		{rules(ledger.FieldRule{Tolerance: 0.05}), `{"x":0.15}`, `{"x":0.1}`, ""},
		{rules(ledger.FieldRule{Tolerance: 0.05}), `{"x":0.15}`, `{"x":0.2000000000000000001}`,
			"x: 0.15 0.2000000000000000001 rounded"},
		{rules(ledger.FieldRule{Tolerance: 0.05}), `{"x":0.15}`, `{"x":0.0999}`, "x: 0.15 0.0999 "},
		{rules(ledger.FieldRule{Factor: 10}), `{"x":1.7}`, `{"x":17}`, ""},
		{rules(ledger.FieldRule{Factor: 10}), `{"x":1.7}`, `{"x":17.00000001}`, ""},
		{rules(ledger.FieldRule{Factor: 10}), `{"x":1.7}`, `{"x":17.00000002}`, "x: 1.7 17.00000002 expected 17"},
		{rules(ledger.FieldRule{Factor: 10}), `{"x":1.7}`, `{"x":1.7}`, "x: 1.7 1.7 expected 17"},
		{rules(ledger.FieldRule{Factor: 1.8, Offset: 32}), `{"x":9.5}`, `{"x":49.1}`, ""},
		{rules(ledger.FieldRule{Offset: 5}), `{"x":-5}`, `{"x":0.000000005}`, ""},
		{rules(ledger.FieldRule{Offset: 5}), `{"x":-5}`, `{"x":0.000000006}`, "x: -5 0.000000006 expected 0"},
		{rules(ledger.FieldRule{Offset: 5, Tolerance: 1}), `{"x":1}`, `{"x":7}`, ""},
		{rules(ledger.FieldRule{Offset: 5, Tolerance: 1}), `{"x":1}`, `{"x":7.1}`, "x: 1 7.1 expected 6"},
		{rules(ledger.FieldRule{Factor: 2}), `{"x":1e2001}`, `{"x":2e2001}`, "x: 1e2001 2e2001 "},
		{rules(ledger.FieldRule{Factor: 2}), `{"x":1}`, `{"x":"2"}`, `x: 1 "2" `},
		{rules(ledger.FieldRule{Factor: 2}), `{"x":"a"}`, `{"x":"a"}`, ""},
		{rules(ledger.FieldRule{As: "y"}), `{"x":1}`, `{"x":2,"y":1}`, ""},
		{rules(ledger.FieldRule{As: "y"}), `{"x":1}`, `{"x":1}`, "x: 1  missing: there is no y"},
		{rules(ledger.FieldRule{As: "y"}), `{"x":1}`, `{"y":2}`, "x: 1 2 "},
		{rules(ledger.FieldRule{As: "a.b"}), `{"x":1}`, `{"a":{"b":1}}`, ""},
		{rules(ledger.FieldRule{As: "a.b"}), `{"x":1}`, `{"a.b":1,"a":{"b":2}}`, ""},
		{rules(ledger.FieldRule{As: "a.b"}), `{"x":1}`, `{"a":1}`, "x: 1  missing: there is no a.b"},
		{rules(ledger.FieldRule{As: "a.b.c"}), `{"x":1}`, `{"a":{"b":{"c":1}}}`, ""},
		{rules(ledger.FieldRule{Ignored: true}), `{"x":1,"y":2}`, `{"y":2}`, ""},
		{rules(ledger.FieldRule{Ignored: true}), `{"x":1,"y":2}`, `{"y":3}`, "y: 2 3 "},

		{kept(ledger.TextAlone), `{"x":1.5,"y":true}`, `{"x":"1.5","y":"TRUE"}`, ""},
		{kept(ledger.TextAlone), `{"y":false}`, `{"y":"f"}`, ""},
		{kept(ledger.TextAlone), `{"y":false}`, `{"y":"t"}`, "y: false true "},
		{kept(ledger.TextAlone), `{"y":true}`, `{"y":"yes"}`, `y: true "yes" `},
		{kept(ledger.TextAlone), `{"x":null}`, `{"x":""}`, ""}, {kept(ledger.TextAlone), `{"x":null}`, `{}`, ""},
		{kept(ledger.TextAlone), `{"x":null}`, `{"x":"0"}`, `x: null "0" `},
		{kept(ledger.TextAlone), `{"x":1}`, `{}`, "x: 1  missing"},
		{kept(ledger.TextAlone), `{"x":{"a":1}}`, `{"x":"{\"a\":1}"}`, ""},
		{kept(ledger.TextAlone), `{"x":"1"}`, `{"x":"1"}`, ""},
		{kept(ledger.TextAlone), `{"x":1}`, `{"x":"true"}`, `x: 1 "true" `},
		{kept(ledger.TextAlone), `{"x":1}`, `{"x":"1 "}`, ""},
		{kept(ledger.NoBooleans), `{"x":true,"y":false}`, `{"x":1,"y":0}`, ""},
		{kept(ledger.NoBooleans), `{"x":true}`, `{"x":0}`, "x: true false "},
		{kept(ledger.NoBooleans), `{"x":true}`, `{"x":2}`, "x: true 2 "},
		{kept(ledger.NoBooleans), `{"x":1.5}`, `{"x":"1.5"}`, `x: 1.5 "1.5" text in place of a number`},
		{nil, `{"x":true}`, `{"x":1}`, "x: true 1 "},
	} {
		w := c.witness
		if w == nil {
			w = &ledger.Witness{}
		}
		diffs, known := newComparer(&ledger.Stream{}, w).differences([]byte(c.sent), []byte(c.found))
		got := ""
		switch {
		case !known:
			got = "unknown"
		case len(diffs) > 0:
			got = fmt.Sprintf("%s: %s %s %s", diffs[0].Field, diffs[0].Sent, diffs[0].Found, diffs[0].Note)
		}
		assert.Equal(t, c.differs, got, "%s found as %s by %+v", c.sent, c.found, w)
		same := Same(&ledger.Facts{Streams: make([]ledger.Stream, 1), Witnesses: []ledger.Witness{*w}})
		assert.Equal(t, c.differs == "", same(0, 0, []byte(c.sent), []byte(c.found)), "%s found as %s", c.sent, c.found)
	}
	list := newComparer(&ledger.Stream{List: true}, &ledger.Witness{})
	diffs, known := list.differences([]byte(`{"0":1,"1":2}`), []byte(`[1,2]`))
	assert.True(t, known && len(diffs) == 0, "a list is an object of its places: %v", diffs)
	diffs, _ = newComparer(&ledger.Stream{}, &ledger.Witness{}).differences([]byte(`{"0":1,"1":2}`), []byte(`[1,2]`))
	assert.Len(t, diffs, 1, "where no list was sent, none is an object")
	grows := &ledger.Facts{Streams: make([]ledger.Stream, 1), Witnesses: make([]ledger.Witness, 1)}
	same := Same(grows)
	assert.True(t, same(0, 0, []byte(`{"a":1}`), []byte(`{"a":1}`)))
	grows.Streams = append(grows.Streams, ledger.Stream{Tolerances: map[string]float64{"a": 1}})
	assert.True(t, same(1, 0, []byte(`{"a":1}`), []byte(`{"a":2}`)), "a stream that came later")
	grows.Witnesses = append(grows.Witnesses, ledger.Witness{Fields: map[string]ledger.FieldRule{"a": {Ignored: true}}})
	assert.True(t, same(0, 1, []byte(`{"a":1}`), []byte(`{"a":9}`)), "a witness that came later")
	same = Same(&ledger.Facts{Streams: make([]ledger.Stream, 1)})
	assert.False(t, same(0, 0, []byte(`{}`), []byte(`{}`)), "of a witness that is not there, nothing is the same")
}

// Each field, with those that are as they were sent.
func TestFields(t *testing.T) {
	fields := func(sent, found string) (list []string) {
		for _, f := range Fields([]byte(sent), []byte(found), &ledger.Stream{Units: map[string]string{"c": "Cel"}},
			&ledger.Witness{}) {
			list = append(list, fmt.Sprintf("%s %s %s %s %v", f.Field, f.Sent, f.Found, f.Unit, f.Same))
		}
		return list
	}
	assert.Equal(t, []string{"c 9 9 Cel true", "p {\"lat\":1,\"lon\":2} {\"lat\":1,\"lon\":2}  true", "n.a 1 1  true",
		"n.b 2 3  false", "l.0 1 1  true", "l.1 2 2  true"},
		fields(`{"c":9,"p":{"lat":1,"lon":2},"n":{"a":1,"b":2},"l":[1,2]}`,
			`{"c":9,"p":{"lat":1,"lon":2},"n":{"a":1,"b":3},"l":[1,2]}`))
	assert.Equal(t, []string{"c 9 7 Cel false", "d 1 7  false"}, fields(`{"c":9,"d":1}`, `7`))
	assert.Empty(t, fields(`null`, `{}`))
}
