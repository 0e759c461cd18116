package match_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/jq"
	"runcrowd/internal/ledger"
	"runcrowd/internal/strictjson"
	"runcrowd/internal/witness/match"
	"runcrowd/internal/witness/witnesstest"
)

const harbour = `
crowd: skerry-roads
links: {sea: {mqtt: "mqtt://127.0.0.1:1"}, shore: {http: "http://127.0.0.1:1"}}
kinds:
  buoy:
    link: sea
    readings:
      state: {every: 1s, topic: "harbour/${device}", fields: {a: 1}}
      light: {every: 1s, topic: "harbour/light", fields: {a: 1}}
  gauge:
    link: shore
    mark: {sequence: n}
    readings: {level: {every: 1s, path: /in, batch: 2, fields: {a: 1}}}
  tug: {link: shore, readings: {place: {every: 1s, path: /in, fields: {a: 1}}}}
  pilot:
    link: shore
    mark: {header: X-Mark}
    readings: {log: {every: 1s, path: /in, payload: cbor, fields: {a: 1}}}
devices: [{kind: buoy, count: 2, name: "buoy-${n}"}, {kind: gauge, name: gauge-1}, {kind: pilot, name: pilot-1}]
plan: {for: 10s}
witnesses: {ear: {proves: received, subscribe: "#"}}
`

func value(t *testing.T, text string) any {
	t.Helper()
	v, err := strictjson.Decode([]byte(text))
	require.NoError(t, err, text)
	return v
}

// A mark is one of the run, of another, of no stream, or none at all.
func TestWhoseAMarkIs(t *testing.T) {
	w := witnesstest.New(t, t.TempDir(), harbour)
	number := ledger.NumbersOf(witnesstest.Run, 6).Of(4, 7)
	for name, c := range map[string]struct {
		v            any
		ours, marked bool
		is           string
	}{
		"ours":                   {w.Mark(0, 3), true, true, "0 buoy-1/state/3"},
		"of another run":         {"otherrun/buoy-1/state/3", false, true, "0 buoy-1/state/3"},
		"of no stream":           {witnesstest.Run + "/buoy-9/state/3", true, true, "-1 buoy-9/state/3"},
		"of no reading":          {witnesstest.Run + "/buoy-1/level/3", true, true, "-1 buoy-1/level/3"},
		"no mark":                {"hello", false, false, "-1 //0"},
		"a number of ours":       {json.Number(fmt.Sprint(number)), true, true, "4 gauge-1/level/7"},
		"a number as a text":     {fmt.Sprint(number), true, true, "4 gauge-1/level/7"},
		"a number as a float":    {float64(number), true, true, "4 gauge-1/level/7"},
		"another number":         {json.Number("17"), false, true, "-1 //0"},
		"a number with a nought": {"0" + fmt.Sprint(number), false, false, "-1 //0"},
		"nought":                 {"0", false, true, "-1 //0"},
		"a fraction":             {json.Number("17.5"), false, false, "-1 //0"},
		"nothing":                {nil, false, false, "-1 //0"},
		"an empty text":          {"", false, false, "-1 //0"},
		"a truth":                {true, false, false, "-1 //0"},
	} {
		got := w.Catalog.Mark(c.v)
		assert.Equal(t, c.ours, got.Ours, name)
		assert.Equal(t, c.marked, got.Marked, name)
		assert.Equal(t, c.is, fmt.Sprintf("%d %s/%s/%d", got.Stream, got.Device, got.Reading, got.Seq), name)
	}
}

// A mark is found where it rides, in each form of body.
func TestWhereAMarkIsFound(t *testing.T) {
	w := witnesstest.New(t, t.TempDir(), harbour)
	mark, number := w.Mark(0, 1), json.Number("17")
	cbor := []byte{0xa1, 0x61, 'a', 0x01} // {"a": 1}
	for name, c := range map[string]struct {
		body  string
		filed int
		marks []any
	}{
		"in an object":                         {`{"mark":"` + mark + `","a":1}`, 0, []any{mark}},
		"under the name of another place":      {`{"X-Mark":"` + mark + `","a":1}`, 0, []any{nil}},
		"a number":                             {`{"n":17}`, 4, []any{number}},
		"both: that of the kind counts":        {`{"n":17,"mark":"` + mark + `"}`, 4, []any{number}},
		"both, and the kind is not known":      {`{"n":17,"mark":"` + mark + `"}`, -1, []any{mark}},
		"in a list":                            {`[{"n":17},{"n":17,"a":2}]`, 4, []any{number, number}},
		"in a list, at no place that is known": {`[{"n":17},{"a":2}]`, -1, []any{number, nil}},
		"in no list":                           {`[]`, 4, nil},
		"no mark, at a place that is known":    {`{"a":1}`, 0, []any{nil}},
		"no mark, and no place":                {`{"a":1}`, -1, nil},
		"no object":                            {`7`, 0, []any{nil}},
		"no JSON":                              {`{"mark":"` + mark + `"`, 0, nil},
		"a name twice":                         {`{"mark":"` + mark + `","mark":"x"}`, 0, nil},
		"CBOR, where it is":                    {string(cbor), 5, []any{nil}},
		"CBOR, where it is not known":          {string(cbor), -1, nil},
		"JSON where CBOR is":                   {`{"mark":"` + mark + `"}`, 5, nil},
	} {
		var marks []any
		for _, p := range w.Catalog.Parts([]byte(c.body), c.filed) {
			marks = append(marks, p.Mark)
		}
		assert.Equal(t, c.marks, marks, name)
	}
	several := value(t, `[{"n":17},{"n":18}]`)
	list, is := w.Catalog.Objects(several)
	assert.True(t, is)
	assert.Len(t, list, 2)
	one := witnesstest.New(t, t.TempDir(), strings.ReplaceAll(harbour, "batch: 2", "batch: 1"))
	list, _ = one.Catalog.Objects(several)
	assert.Len(t, list, 1, "no reading is sent in batches: a list is one message")
	m, has := w.Catalog.MarkIn(value(t, `{"X-Mark":"x","q":1}`))
	assert.True(t, has)
	assert.Equal(t, "x", m)
	_, has = w.Catalog.MarkIn(value(t, `{"q":1}`))
	assert.False(t, has)
}

// Topics that are of one stream tell it; those of several tell none.
func TestTopics(t *testing.T) {
	w := witnesstest.New(t, t.TempDir(), harbour)
	c := match.NewCatalog(w.Fleet, witnesstest.Run)
	for topic, is := range map[string]string{"harbour/buoy-1": "0 true", "harbour/light": "-1 true", "harbour/x": "-1 false"} {
		stream, known := c.Topic(topic)
		assert.Equal(t, is, fmt.Sprint(stream, known), topic)
	}
	c.AddTopic("x", 3)
	c.AddTopic("x", 3)
	stream, _ := c.Topic("x")
	assert.Equal(t, 3, stream)
	assert.Equal(t, []int{2, -1, -1}, []int{c.Stream("buoy-2", "state"), c.Stream("buoy-2", "level"), c.Stream("x", "state")})
	assert.Equal(t, "gauge-1", c.Device("gauge-1").Name)
	assert.Nil(t, c.Device("gauge-2"))
	assert.Len(t, c.Places, 3)
}

// The mark of a corrupted message is found in what cannot be read, where it is whole.
func TestMarksInWhatCannotBeRead(t *testing.T) {
	w := witnesstest.New(t, t.TempDir(), harbour)
	c := match.NewCatalog(w.Fleet, witnesstest.Run)
	one := w.Mark(0, 1)
	_, found := c.Raw([]byte(`"` + one + `"`))
	assert.False(t, found, "none was corrupted")
	c.Corrupted = func(stream int, seq uint64) bool { return stream == 0 && seq < 20 }
	for text, seq := range map[string]uint64{
		`{"mark":"` + one + `","a`: 1, `<m>` + one + `</m>`: 1, one: 0, one + "1": 0, one + "1 ": 11,
		`"` + w.Mark(0, 30) + `"`: 0, `"` + w.Mark(2, 1) + `"`: 0, `"` + witnesstest.Run + `/x/state/1"`: 0,
		`"` + witnesstest.Run + `/` + `" "` + one + `"`: 1, witnesstest.Run: 0, `"otherrun/buoy-1/state/1"`: 0,
		`"` + w.Mark(0, 30) + `","` + w.Mark(0, 12) + `"`: 12, "": 0,
	} {
		got, found := c.Raw([]byte(text))
		assert.Equal(t, seq > 0, found, text)
		if found {
			assert.Equal(t, fmt.Sprint(0, seq), fmt.Sprint(got.Stream, got.Seq), text)
		}
	}
}

// What a file picks out of a row goes where it belongs.
func TestWhatIsPickedOutOfARow(t *testing.T) {
	var device, reading, at, values *jq.Query
	for _, p := range []struct {
		into   **jq.Query
		source string
	}{{&device, ".d"}, {&reading, ".r"}, {&at, ".t"}, {&values, ".v"}} {
		require.NoError(t, match.Compile(p.into, p.source))
	}
	var none *jq.Query
	require.NoError(t, match.Compile(&none, ""))
	assert.Nil(t, none)
	assert.Error(t, match.Compile(&none, ".["))
	for name, c := range map[string]struct {
		row     string
		columns bool
		is      string
	}{
		"all":                                {`{"d":"x","r":"y","t":1767225600,"v":{"a":1}}`, false, `x y 2026-01-01 {"a":1}`},
		"nothing":                            {`{}`, false, `  0001-01-01 null`},
		"numbers":                            {`{"d":7,"r":1.50,"t":"2026-01-01","v":2}`, false, `7 1.50 0001-01-01 2`},
		"no object":                          {`7`, false, `  0001-01-01 null`},
		"an object in a text":                {`{"v":"{\"a\":1}"}`, false, `  0001-01-01 "{\"a\":1}"`},
		"an object in a column":              {`{"v":"{\"a\":1}"}`, true, `  0001-01-01 {"a":1}`},
		"a number in a column":               {`{"v":"7"}`, true, `  0001-01-01 "7"`},
		"what is no object in a column":      {`{"v":"{\"a\":"}`, true, `  0001-01-01 "{\"a\":"`},
		"what names a key twice in a column": {`{"v":"{\"a\":1,\"a\":1}"}`, true, `  0001-01-01 "{\"a\":1,\"a\":1}"`},
	} {
		x := ledger.Sighting{}
		match.Fill(&x, value(t, c.row), c.columns, device, reading, at, values)
		assert.Equal(t, c.is, fmt.Sprintf("%s %s %s %s", x.FiledDevice, x.FiledReading, x.Stored.UTC().Format("2006-01-02"), x.Values),
			name)
	}
	x := ledger.Sighting{FiledDevice: "own"}
	match.Fill(&x, value(t, `{"d":"x"}`), false, nil, nil, nil, nil)
	assert.Equal(t, ledger.Sighting{FiledDevice: "own"}, x, "nothing is picked")
}

// A time is told in a text or a number, by its size.
func TestTimesOfPlatforms(t *testing.T) {
	at := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	for _, v := range []any{"2026-01-01T00:00:00Z", "2026-01-01T01:00:00+01:00", json.Number("1767225600"), "1767225600000",
		json.Number("1767225600000000"), float64(1767225600), 1767225600} {
		got, ok := match.TimeOf(v)
		assert.True(t, ok, v)
		assert.True(t, at.Equal(got), "%v: %s", v, got)
	}
	for _, v := range []any{nil, true, "noon", json.Number("1e400"), []any{}} {
		_, ok := match.TimeOf(v)
		assert.False(t, ok, v)
	}
}

func TestForeignTextIsClipped(t *testing.T) {
	assert.Equal(t, "“"+strings.Repeat("ä", 160)+"”", match.Clip(strings.Repeat("ä", 160)))
	assert.Equal(t, "“"+strings.Repeat("ä", 160)+"…”", match.Clip(strings.Repeat("ä", 161)))
	assert.Equal(t, `{"a":[1]}`, match.Text(value(t, `{"a": [1]}`)))
	assert.NotEmpty(t, match.Text(make(chan int)), "what is no JSON is told all the same")
}

const timed = `
crowd: skerry-roads
links: {shore: {http: "http://127.0.0.1:1"}}
kinds:
  gauge:
    link: shore
    mark: {time: at}
    readings:
      level: {every: 1s, path: /in, fields: {at: {signal: clock}, a: 1, b: {signal: swell, height: 1, tolerance: 0.1}, c: 3}}
      state: {every: 1s, path: /in, fields: {at: {signal: clock}, a: 1}}
  buoy: {link: shore, readings: {state: {every: 1s, path: /in, fields: {a: 1}}}}
devices: [{kind: gauge, name: gauge-1}, {kind: buoy, name: buoy-1}]
plan: {for: 10s}
witnesses: {store: {proves: stored, get: "http://127.0.0.1:1/rows", rows: ".[]", device: .d, fields: {c: {factor: 10}}}}
`

// Messages are known by the time that they carry, however a platform moves and cuts it.
func TestMessagesByTheirTime(t *testing.T) {
	w := witnesstest.New(t, t.TempDir(), timed)
	x, d := w.Catalog.Index, w.Fleet.Devices[0]
	require.NotNil(t, x)
	assert.True(t, x.Tells(d))
	assert.False(t, x.Tells(w.Fleet.Devices[1]))
	assert.False(t, (*match.Index)(nil).Tells(d))
	assert.Equal(t, []string{"a"}, x.Names[0], "neither the time, nor what has a tolerance or is kept otherwise")
	began := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	add := func(stream int, seq uint64, after string, a int) {
		text := fmt.Sprintf(`{"a":%d}`, a)
		if after != "" {
			d, _ := time.ParseDuration(after)
			text = fmt.Sprintf(`{"at":"%s","a":%d}`, began.Add(d).Format(time.RFC3339Nano), a)
		}
		x.Add(stream, seq, []byte(text))
	}
	add(0, 1, "1s", 1)
	add(0, 2, "2s", 2)
	add(0, 3, "1.5s", 3) // a clock that went back
	add(0, 5, "2s", 5)   // one before it was not sent
	add(0, 6, "", 6)
	add(0, 0, "1s", 1)
	add(0, match.MaxSeq+1, "1s", 1)
	add(1, 1, "2s", 1)
	add(2, 1, "2s", 1) // has a mark
	for name, c := range map[string]struct {
		at         string
		shift, cut time.Duration
		is         string
	}{
		"one":                    {"1s", 0, 0, "0/1"},
		"three":                  {"2s", 0, 0, "0/2 0/5 1/1"},
		"none":                   {"1.2s", 0, 0, ""},
		"before all":             {"0.9s", 0, 0, ""},
		"moved":                  {"3601s", time.Hour, 0, "0/1"},
		"cut to seconds":         {"1s", 0, time.Second, "0/1 0/3"},
		"cut, and told by parts": {"1.7s", 0, time.Second, "0/1 0/3"},
		"cut, the next":          {"2s", 0, time.Second, "0/2 0/5 1/1"},
		"moved and cut":          {"3601s", time.Hour, time.Second, "0/1 0/3"},
		"moved back":             {"-3599s", -time.Hour, 0, "0/1"},
	} {
		at, _ := time.ParseDuration(c.at)
		var list []string
		for _, e := range x.At(d.Streams, began.Add(at), c.shift, c.cut) {
			list = append(list, fmt.Sprintf("%d/%d", e.Stream, e.Seq))
		}
		assert.Equal(t, c.is, strings.Join(list, " "), name)
	}
	valued := x.Valued(0, match.DigestOf(map[string]any{"a": json.Number("2.0")}, x.Names[0]))
	require.Len(t, valued, 1)
	assert.Equal(t, uint64(2), valued[0].Seq)

	assert.Equal(t, valued[0].Digest, x.Digest(0, 2))
	assert.Zero(t, x.Digest(0, 0))
	assert.Zero(t, x.Digest(0, x.Upto(0)+1))
	assert.NotZero(t, x.Digest(0, x.Upto(0)))
	digest := func(n string) uint64 { return match.DigestOf(map[string]any{"a": json.Number(n)}, x.Names[0]) }
	assert.Equal(t, digest("0.1"), digest("0.1000000000000000055511151231257827"), "one 64-bit number")
	assert.Equal(t, digest("0.10"), match.DigestOf(map[string]any{"a": "0.1"}, x.Names[0]))
	assert.NotEqual(t, digest("9007199254740992"), digest("9007199254740993"), "two whole numbers")
	assert.NotEqual(t, digest("-9007199254740992"), digest("-9007199254740993"))

	assert.Len(t, match.StreamsOf(d, ""), 2)
	assert.Len(t, match.StreamsOf(d, "other"), 2)
	assert.Equal(t, 1, match.StreamsOf(d, "state")[0].Index)

	values := map[string]any{"at": "then", "x": "now"}
	assert.Equal(t, "then", x.Stamp(d.Streams, &match.Part{}, values, false))
	assert.Equal(t, "picked", x.Stamp(d.Streams, &match.Part{Mark: "picked"}, values, false))
	assert.Nil(t, x.Stamp(d.Streams, &match.Part{}, values, true), "where it was looked for, it is not")
	assert.Nil(t, x.Stamp(nil, &match.Part{}, values, false))
}

// Among messages of one time, a row is one of those with its values; of one alone, whatever it holds.
func TestWhichMessageARowIs(t *testing.T) {
	list := []match.Entry{{Seq: 1, Digest: 10}, {Seq: 2, Digest: 20}, {Seq: 3, Digest: 20}}
	for name, c := range map[string]struct {
		list   []match.Entry
		digest uint64
		are    []match.Entry
	}{
		"one alone, whatever it holds": {list[:1], 99, list[:1]},
		"by its values":                {list, 10, list[:1]},
		"one of two":                   {list, 20, list[1:]},
		"values of none":               {list, 99, list[:0]},
		"none":                         {nil, 10, list[:0]},
	} {
		assert.Equal(t, c.are, append([]match.Entry{}, match.Alike(c.list, func(int) uint64 { return c.digest })...), name)
	}
}
