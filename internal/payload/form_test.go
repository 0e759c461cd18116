package payload_test

import (
	"encoding/json"
	"fmt"
	"math"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/fxamacker/cbor/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"google.golang.org/protobuf/proto"
	"google.golang.org/protobuf/types/descriptorpb"
	"pgregory.net/rapid"

	"runcrowd/internal/payload"
	"runcrowd/internal/quantity"
	"runcrowd/internal/signal"
)

var at = time.Date(2030, 6, 1, 12, 0, 0, 250e6, time.UTC)

// fields of the tests: one of every type.
var fields = []payload.Field{{Name: "mark", Type: signal.Text}, {Name: "wave_m", Unit: "m", Type: signal.Float},
	{Name: "n", Type: signal.Int},
	{Name: "ok", Type: signal.Bool}, {Name: "site", Type: signal.Text}, {Name: "place", Type: signal.Place},
	{Name: "hull", Unit: "m/s2", Type: signal.Vector}}

func names() []string {
	var list []string
	for _, f := range fields {
		list = append(list, f.Name)
	}
	return list
}

func sample(mark string, wave float64, n int64, ok bool, site string) payload.Sample {
	return payload.Sample{Time: at, Values: []signal.Value{signal.OfText(mark), signal.OfFloat(wave), signal.OfInt(n),
		signal.OfBool(ok), signal.OfText(site),
		signal.OfPlace(quantity.Position{Lat: 58.02, Lon: -6.41}), signal.OfVector(quantity.Axes{X: 0.5, Y: -1.25, Z: 9.8})}}
}

// forms makes every form that can hold any value.
func forms(t require.TestingT) map[string]payload.Form {
	line, err := payload.NewLineProtocol(fields, "mark", "sea state", []payload.Tag{{Name: "buoy", Value: "b,1"}}, "ms")
	require.NoError(t, err)
	flat, err := payload.NewJSON(names(), "mark", false, false)
	require.NoError(t, err)
	template, err := payload.NewTemplate([]payload.Part{{Literal: `{"id": {"m": "`, Placeholder: -1}, {Placeholder: 0},
		{Literal: `"}, "v": [`, Placeholder: -1}, {Placeholder: 1},
		{Literal: `, `, Placeholder: -1}, {Placeholder: 2}, {Literal: `], "s": "at `, Placeholder: -1}, {Placeholder: 4},
		{Literal: `", "p": `, Placeholder: -1}, {Placeholder: 5},
		{Literal: `}`, Placeholder: -1}}, []string{"mark", "wave_m", "n", "ok", "site", "place"}, 0, false,
		func(s *payload.Sample, i int) (signal.Value, error) { return s.Values[i], nil })
	require.NoError(t, err)
	return map[string]payload.Form{"json": flat, "senml": payload.NewSenML(fields, "mark", "urn:dev:buoy-1:", false),
		"senml-cbor": payload.NewSenML(fields, "mark", "urn:dev:buoy-1:", true),
		"cbor":       payload.NewCBOR(names(), "mark", false), "csv": payload.NewCSV(fields, "mark", ';', true),
		"line-protocol": line, "urlencoded": payload.NewURLEncoded(fields, "mark"),
		"template": template}
}

// Known bodies, to the byte: the RFCs' own notation, and what other decoders read.
func TestBodies(t *testing.T) {
	s := sample("m/1", 1.5, -3, true, `n "1"`)
	want := map[string]string{
		"json":  `{"mark":"m/1","wave_m":1.5,"n":-3,"ok":true,"site":"n \"1\"","place":{"lat":58.02,"lon":-6.41},"hull":{"x":0.5,"y":-1.25,"z":9.8}}`,
		"senml": `[{"bn":"urn:dev:buoy-1:","bt":1906545600.25,"n":"mark","vs":"m/1"},{"n":"wave_m","u":"m","v":1.5},{"n":"n","v":-3},{"n":"ok","vb":true},{"n":"site","vs":"n \"1\""},{"n":"place/lat","u":"lat","v":58.02},{"n":"place/lon","u":"lon","v":-6.41},{"n":"hull/x","u":"m/s2","v":0.5},{"n":"hull/y","u":"m/s2","v":-1.25},{"n":"hull/z","u":"m/s2","v":9.8}]`,
		"csv": "mark;wave_m;n;ok;site;place.lat;place.lon;hull.x;hull.y;hull.z\nm/1;1.5;-3;true;\"n " +
			"\"\"1\"\"\";58.02;-6.41;0.5;-1.25;9.8",
		"urlencoded":    `mark=m%2F1&wave_m=1.5&n=-3&ok=true&site=n%20%221%22&place.lat=58.02&place.lon=-6.41&hull.x=0.5&hull.y=-1.25&hull.z=9.8`,
		"line-protocol": `sea\ state,buoy=b\,1 mark="m/1",wave_m=1.5,n=-3i,ok=true,site="n \"1\"",place_lat=58.02,place_lon=-6.41,hull_x=0.5,hull_y=-1.25,hull_z=9.8 1906545600250`,
		"template":      `{"id": {"m": "m/1"}, "v": [1.5, -3], "s": "at n \"1\"", "p": {"lat":58.02,"lon":-6.41}}`,
	}
	for name, f := range forms(t) {
		body, err := f.Append(nil, []payload.Sample{s})
		require.NoError(t, err, name)
		if want[name] != "" {
			assert.Equal(t, want[name], string(body), name)
		}
	}
	body, _ := forms(t)["cbor"].Append(nil, []payload.Sample{s})
	diag, err := cbor.Diagnose(body)
	require.NoError(t, err)
	assert.Equal(t, `{"mark": "m/1", "wave_m": 1.5, "n": -3, "ok": true, "site": "n \"1\"", "place": {"lat": 58.02, "lon": -6.41}, "hull": {"x": 0.5, "y": -1.25, "z": 9.8}}`, diag)
	body, _ = forms(t)["senml-cbor"].Append(nil, []payload.Sample{s})
	diag, err = cbor.Diagnose(body)
	require.NoError(t, err)
	assert.Contains(t, diag, `[{-2: "urn:dev:buoy-1:", -3: 1906545600.25, 0: "mark", 3: "m/1"}, {0: "wave_m", 1: "m", 2: 1.5}, {0: "n", 2: -3}, {0: "ok", 4: true}`)
}

// Floats are the shortest that keep their value, as a library would choose.
func TestShortestFloats(t *testing.T) {
	mode, err := cbor.EncOptions{ShortestFloat: cbor.ShortestFloat16}.EncMode()
	require.NoError(t, err)
	f := payload.NewCBOR([]string{"v"}, "", false)
	rapid.Check(t, func(t *rapid.T) {
		x := rapid.OneOf(rapid.Float64(), rapid.Map(rapid.Float32(), func(x float32) float64 { return float64(x) }),
			rapid.Map(rapid.IntRange(-70000, 70000), func(i int) float64 { return float64(i) / 8 }),
			rapid.Just(math.Copysign(0, -1))).Draw(t, "x")
		if math.IsInf(x, 0) || math.IsNaN(x) || x != 0 && math.Abs(x) < 6.2e-5 {
			return // subnormal halves are left to 32 bits
		}
		want, err := mode.Marshal(map[string]float64{"v": x})
		require.NoError(t, err)
		got, err := f.Append(nil, []payload.Sample{{Values: []signal.Value{signal.OfFloat(x)}}})
		require.NoError(t, err)
		require.Equal(t, want, got, "%g", x)
	})
}

// Whatever is written reads back: the mark, and what Carried says it carries. And
// a value that changed on the way is seen.
func TestFormsReadBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		draw := func() payload.Sample {
			wave := rapid.Float64Range(-1e12, 1e12).Draw(t, "wave")
			s := sample(rapid.StringMatching(`[a-z2-7]{8}/b-[0-9]{3}/state/[1-9]`).Draw(t, "mark"), wave,
				rapid.Int64Range(-1<<52, 1<<52).Draw(t, "n"), rapid.Bool().Draw(t, "ok"),
				strings.Map(func(r rune) rune {
					if r < ' ' || r == '\\' {
						return '_' // line protocol has no line breaks, and no escape for a backslash everywhere
					}
					return r
				}, rapid.String().Draw(t, "site")))
			if rapid.IntRange(0, 3).Draw(t, "drop") == 0 {
				s.Values[1] = signal.NoValue()
			}
			if rapid.IntRange(0, 3).Draw(t, "null") == 0 {
				s.Values[2] = signal.Value{}
			}
			return s
		}
		a := draw()
		for name, f := range forms(t) {
			body, err := f.Append([]byte("x"), []payload.Sample{a})
			require.NoError(t, err, name)
			require.Equal(t, byte('x'), body[0], name)
			found, err := f.Read(body[1:])
			require.NoError(t, err, "%s %q", name, body)
			require.Len(t, found, 1, name)
			require.Equal(t, a.Values[0].Text(), found[0].Mark, name)
			carried, err := payload.Carried(f, body[1:], []payload.Sample{a}, names())
			require.NoError(t, err, name)
			if name == "template" {
				continue
			}
			var object map[string]any
			require.NoError(t, json.Unmarshal(carried[0], &object), name)
			require.Equal(t, a.Values[4].Text(), object["site"], name)
			require.Equal(t, map[string]any{"lat": 58.02, "lon": -6.41}, object["place"], name)
			if a.Values[1].Type() == signal.Float {
				require.Equal(t, a.Values[1].Float(), object["wave_m"], name)
			} else {
				require.NotContains(t, object, "wave_m", name)
			}
		}
	})
}

func TestBatches(t *testing.T) {
	a, b := sample("m/1", 1, 1, true, "x"), sample("m/2", 2, 2, false, "y")
	b.Time = at.Add(1500 * time.Millisecond)
	list := []payload.Sample{a, b}
	all := forms(t)
	var err error
	all["json"], err = payload.NewJSON(names(), "mark", false, true)
	require.NoError(t, err)
	all["cbor"] = payload.NewCBOR(names(), "mark", true)
	delete(all, "template")
	delete(all, "urlencoded") // one message each
	for name, f := range all {
		body, err := f.Append(nil, list)
		require.NoError(t, err)
		found, err := f.Read(body)
		require.NoError(t, err, name)
		require.Len(t, found, 2, "%s: %s", name, body)
		assert.Equal(t, []any{"m/1", "m/2"}, []any{found[0].Mark, found[1].Mark}, name)
		assert.Equal(t, json.Number("2"), found[1].Values["n"], name)
	}
	body, _ := all["senml"].Append(nil, list)
	assert.Contains(t, string(body), `{"n":"mark","vs":"m/2","t":1.5}`, "a later sample has its time relative to the base")
}

func TestNested(t *testing.T) {
	f, err := payload.NewJSON([]string{"mark", "sea.wave_m", "axis.0", "sea.water.c", "axis.1", "last"}, "mark", true,
		false)
	require.NoError(t, err)
	v := func(x float64) signal.Value { return signal.OfFloat(x) }
	body, _ := f.Append(nil, []payload.Sample{{Values: []signal.Value{signal.OfText("m"), v(1), v(2), v(3), v(4),
		v(5).WithDigits(2)}}})
	assert.Equal(t, `{"mark":"m","sea":{"wave_m":1,"water":{"c":3}},"axis":[2,4],"last":5.00}`, string(body))
	body, _ = f.Append(nil, []payload.Sample{{Values: []signal.Value{signal.OfText("m"), signal.NoValue(),
		signal.NoValue(), signal.NoValue(), v(4), signal.OfFloat(7).Written("7e0")}}})
	assert.Equal(t, `{"mark":"m","axis":[null,4],"last":7e0}`, string(body), "what is empty is left out, a list keeps "+
		"its places, a number is printed as given")
	for _, bad := range [][]string{{"a", "a.b"}, {"a.b", "a"}, {"a.b", "a.b.c"}, {"a..b"}, {"a.0", "a.b"},
		{"a.1", "a.2"}} {
		_, err := payload.NewJSON(bad, "", true, false)
		if fmt.Sprint(bad) == "[a.1 a.2]" {
			assert.NoError(t, err, "numbers that do not begin at 0 are keys")
			continue
		}
		assert.Error(t, err, "%v", bad)
	}
}

func TestRaw(t *testing.T) {
	f := []payload.Field{{Name: "seq", Type: signal.Int}, {Name: "lamp", Type: signal.Bool},
		{Name: "level", Type: signal.Float}, {Name: "wave", Type: signal.Float}, {Name: "name", Type: signal.Text},
		{Name: "place", Type: signal.Place}, {Name: "t", Type: signal.Float}}
	raw, err := payload.NewBytes(f, "seq", []payload.Slot{{Fixed: 0xB7, Width: 8}, {Field: "lamp", Width: 1},
		{Field: "level", Width: 7}, {Field: "seq", Width: 64}, {Field: "wave", Kind: payload.Signed, Width: 16, Scale: 0.01,
			Little: true},
		{Field: "name", Kind: payload.Letters, Width: 32}, {Field: "place", Part: "lat", Kind: payload.Floating, Width: 32},
		{Field: "t", Width: 24, Scale: 0.5, Offset: -40}})
	require.NoError(t, err)
	v := []signal.Value{signal.OfInt(1 << 53), signal.OfBool(true), signal.OfFloat(5), signal.OfFloat(-1.23),
		signal.OfText("ab"), signal.OfPlace(quantity.Position{Lat: 58.5}), signal.OfFloat(21.3)}
	body, err := raw.Append(nil, []payload.Sample{{Values: v}})
	require.NoError(t, err)
	assert.Equal(t, "b785002000000000000085ff61620000426a000000007b", fmt.Sprintf("%x", body))
	found, err := raw.Read(body)
	require.NoError(t, err)
	assert.Equal(t, json.Number("9007199254740992"), found[0].Mark)
	assert.Equal(t, map[string]any{"lamp": true, "level": json.Number("5"), "wave": json.Number("-1.23"), "name": "ab",
		"place": map[string]any{"lat": json.Number("58.5")}, "t": json.Number("21.5")}, found[0].Values)

	for want, change := range map[string]func(){
		`the field "level": 128 does not fit`: func() { v[2] = signal.OfFloat(128) },
		`the field "wave": -400 does not fit`: func() { v[3] = signal.OfFloat(-400) },
		`the text "buoys" has 5 bytes`:        func() { v[4] = signal.OfText("buoys") },
		`the field "place": 1e+308 does not`:  func() { v[5] = signal.OfPlace(quantity.Position{Lat: 1e308}) },
	} {
		keep := append([]signal.Value(nil), v...)
		change()
		full, err := raw.Append(nil, []payload.Sample{{Values: v}})
		assert.ErrorContains(t, err, want)
		assert.Len(t, full, len(body), "the body is whole all the same")
		copy(v, keep)
	}
	two, _ := raw.Append(body, []payload.Sample{{Values: v}})
	found, err = raw.Read(two)
	require.NoError(t, err)
	assert.Len(t, found, 2)
	_, err = raw.Read(body[1:])
	assert.ErrorContains(t, err, "samples of 23 bytes are expected")
}

func TestProto(t *testing.T) {
	set, err := os.ReadFile("../../examples/small/protobuf/state.binpb")
	require.NoError(t, err)
	d, err := payload.ReadDescriptors(set)
	require.NoError(t, err)
	f := []payload.Field{{Name: "mark", Type: signal.Text}, {Name: "wave_m", Type: signal.Float},
		{Name: "count", Type: signal.Int}, {Name: "lamp", Type: signal.Text}, {Name: "position", Type: signal.Place},
		{Name: "power.battery_v", Type: signal.Float}}
	p, err := payload.NewProto(f, "mark", d, "harbour.State", "")
	require.NoError(t, err)
	s := []payload.Sample{{Values: []signal.Value{signal.OfText("m/1"), signal.OfFloat(1.1), signal.OfInt(7),
		signal.OfText("ON"), signal.OfPlace(quantity.Position{Lat: 58.02, Lon: -6.41}), signal.OfFloat(12.75)}}}
	body, err := p.Append(nil, s)
	require.NoError(t, err)
	// Field 1, a text of 3 bytes; field 2, a float; field 3, a varint; field 4, the enum.
	assert.Equal(t, "0a036d2f3115cdcc8c3f18072001", fmt.Sprintf("%x", body[:14]))
	carried, err := payload.Carried(p, body, s, []string{"mark", "wave_m", "count", "lamp", "position", "power.battery_v"})
	require.NoError(t, err)
	assert.JSONEq(t, `{"wave_m":1.1,"count":7,"lamp":"ON","position":{"lat":58.02,"lon":-6.41},"power.battery_v":12.75}`,
		string(carried[0]))
	s[0].Values[2], s[0].Values[3] = signal.OfInt(-1), signal.OfText("DIM")
	_, err = p.Append(nil, s)
	assert.ErrorContains(t, err, `the field "count": -1 does not fit into a member of the type uint32`)
	s[0].Values[2] = signal.OfFloat(1.5)
	_, err = p.Append(nil, s)
	assert.ErrorContains(t, err,
		`the field "count": 1.5 does not fit into a member of the type uint32, which holds whole numbers; add round: 0`)
	s[0].Values[2] = signal.NoValue()
	s[0].Values[1] = signal.OfFloat(1e308)
	_, err = p.Append(nil, s)
	assert.ErrorContains(t, err, `the field "wave_m": 1e+308 does not fit into a member of the type float`)
	s[0].Values[1] = signal.OfFloat(1)
	_, err = p.Append(nil, s)
	assert.ErrorContains(t, err, `"DIM" is no value of the enum harbour.Lamp`)
}

// What is there twice, or has something behind its end, is not read as if it were whole.
func TestReadIsStrict(t *testing.T) {
	all := forms(t)
	set, err := os.ReadFile("../../examples/small/protobuf/state.binpb")
	require.NoError(t, err)
	d, err := payload.ReadDescriptors(set)
	require.NoError(t, err)
	all["proto"], err = payload.NewProto([]payload.Field{{Name: "mark", Type: signal.Text},
		{Name: "wave_m", Type: signal.Float}}, "mark", d, "harbour.State", "")
	require.NoError(t, err)
	all["csv with a head"] = payload.NewCSV([]payload.Field{{Name: "mark", Type: signal.Text},
		{Name: "n", Type: signal.Int}}, "mark", ',', true)
	for _, c := range []struct{ form, good, bad, says string }{
		{"json", `{"mark":"m/1","n":1}`, `{"mark":"m/1","n":1}}`, "stands after"},
		{"json", `{"mark":"m/1","n":1}`, `{"mark":"m/1","n":2,"n":1}`, "stands twice"},
		{"cbor", "\xa1an\x01", "\xa1an\x01\x02", "extraneous"},
		{"cbor", "\xa1an\x01", "\xa2an\x02an\x01", "duplicate"},
		{"cbor", "\xa1an\x01", "\xa2an\x01\x01\x02", "not a text"},
		{"senml", `[{"n":"n","v":1}]`, `[{"n":"n","v":1}]]`, "stands after"},
		{"senml", `[{"n":"n","v":1}]`, `[{"n":"n","v":2,"v":1}]`, "stands twice"},
		{"senml", `[{"n":"n","v":1}]`, `[{"n":"n","V":2,"v":1}]`, `unknown label "V"`},
		{"senml", `[{"n":"n","v":1}]`, `[{"n":"n","v":2},{"n":"n","v":1}]`, "twice at one time"},
		{"senml", `[{"n":"n","v":1}]`, `[{"n":"n","v":1,"vs":"1"}]`, "has 2 values"},
		{"senml", `[{"n":"n","v":1}]`, `[{"bv":5,"n":"n","v":1}]`, "base value"},
		{"senml-cbor", "\x81\xa2\x00an\x02\x01", "\x81\xa3\x00an\x02\x02\x02\x01", "duplicate"},
		{"senml-cbor", "\x81\xa2\x00an\x02\x01", "\x81\xa3\x00an\x02\x01\x24\x05", "base value"},
		{"line-protocol", "state n=1i 5", "state n=2i,n=1i 5", "stands twice"},
		{"line-protocol", "state n=1i 5", "state n=1i 5 6", "no time"},
		{"line-protocol", `state site="x" 5`, `state site="xy 5`, "no text in quotes"},
		{"line-protocol", `state site="x" 5`, `state site="x"y" 5`, "no text in quotes"},
		{"csv with a head", "mark,n\nm/1,1\n", "mark,m\nm/1,1\n", "does not name the columns"},
		{"csv with a head", "mark,n\nm/1,1\n", "m/1,1\n", "does not name the columns"},
		{"proto", "\x0a\x03m/1\x15\x00\x00\x80\x3f", "\x0a\x03m/1\x15\x00\x00\x00\x3f\x15\x00\x00\x80\x3f",
			"wave_m stands twice"},
	} {
		_, err := all[c.form].Read([]byte(c.good))
		assert.NoError(t, err, "%s: %q", c.form, c.good)
		_, err = all[c.form].Read([]byte(c.bad))
		assert.ErrorContains(t, err, c.says, "%s: %q", c.form, c.bad)
	}
}

// No decoder stumbles over what a platform may send.
func FuzzRead(f *testing.F) {
	set, err := os.ReadFile("../../examples/small/protobuf/state.binpb")
	if err != nil {
		f.Fatal(err)
	}
	all := forms(f)
	for _, x := range all {
		body, _ := x.Append(nil, []payload.Sample{sample("m/1", 1.5, 3, true, "x")})
		f.Add(body)
	}
	d, _ := payload.ReadDescriptors(set)
	if all["proto"], err = payload.NewProto([]payload.Field{{Name: "mark"}, {Name: "wave_m"}}, "mark", d, "harbour.State",
		""); err != nil {
		f.Fatal(err)
	}
	if all["bytes"], err = payload.NewBytes(fields, "mark", []payload.Slot{{Field: "n", Width: 3},
		{Field: "ok", Width: 5}, {Field: "site", Kind: payload.Letters, Width: 16},
		{Field: "wave_m", Kind: payload.Floating, Width: 64}}); err != nil {
		f.Fatal(err)
	}
	f.Add(set)
	f.Add([]byte(`[{"bn":"a","n":"b","v":1e999}]`))
	f.Fuzz(func(t *testing.T, body []byte) {
		for name, form := range all {
			found, err := form.Read(body)
			if err != nil {
				require.NotEmpty(t, err.Error())
				continue
			}
			for _, x := range found {
				_, err := json.Marshal(x.Values)
				require.NoError(t, err, name)
			}
		}
		payload.ReadDescriptors(body)
	})
}

func BenchmarkForms(b *testing.B) {
	s := []payload.Sample{sample("abcdefgh/buoy-001/state/1", 1.25, 3, true, "outer")}
	for _, name := range []string{"json", "senml", "senml-cbor", "cbor", "csv", "line-protocol", "template"} {
		f := forms(b)[name]
		b.Run(name, func(b *testing.B) {
			b.ReportAllocs()
			var buf []byte
			for b.Loop() {
				buf, _ = f.Append(buf[:0], s)
			}
			b.ReportMetric(float64(len(buf)), "bytes")
		})
	}
}

// What a line cannot hold is a mistake; what a text has that it cannot hold is told, and
// the line is whole all the same.
func TestLinesThatCannotBe(t *testing.T) {
	fields := []payload.Field{{Name: "note", Type: signal.Text}}
	for says, tag := range map[string]payload.Tag{
		"the tag dir (\"C:\\\\\") ends in a backslash": {Name: "dir", Value: `C:\`},
		"the tag site (\"a\\nb\") holds a line break":  {Name: "site", Value: "a\nb"},
		"the tag (\"odd\\\\\") ends in a backslash":    {Name: `odd\`, Value: "x"},
	} {
		_, err := payload.NewLineProtocol(fields, "", "s", []payload.Tag{tag}, "ns")
		assert.ErrorContains(t, err, says)
	}
	_, err := payload.NewLineProtocol(fields, "", `s\`, nil, "ns")
	assert.ErrorContains(t, err, "the series")
	l, err := payload.NewLineProtocol(fields, "", "s", nil, "ns")
	require.NoError(t, err)
	body, err := l.Append(nil, []payload.Sample{{Values: []signal.Value{signal.OfText("two\nlines")}}})
	assert.ErrorContains(t, err, `the field "note" holds a line break`)
	assert.NotContains(t, string(body), "\n")
}

// A batch of Protocol Buffers is a list of messages.
func TestProtoBatch(t *testing.T) {
	str, num, rep, opt := descriptorpb.FieldDescriptorProto_TYPE_STRING, descriptorpb.FieldDescriptorProto_TYPE_DOUBLE, descriptorpb.FieldDescriptorProto_LABEL_REPEATED, descriptorpb.FieldDescriptorProto_LABEL_OPTIONAL
	msg := descriptorpb.FieldDescriptorProto_TYPE_MESSAGE
	set, err := proto.Marshal(
		&descriptorpb.FileDescriptorSet{File: []*descriptorpb.FileDescriptorProto{{Name: proto.String("b.proto"),
			Syntax: proto.String("proto3"),
			MessageType: []*descriptorpb.DescriptorProto{
				{Name: proto.String("Sample"), Field: []*descriptorpb.FieldDescriptorProto{{Name: proto.String("mark"),
					Number: proto.Int32(1), Type: &str, Label: &opt}, {Name: proto.String("wave_m"), Number: proto.Int32(2),
					Type: &num, Label: &opt}}},
				{Name: proto.String("Batch"), Field: []*descriptorpb.FieldDescriptorProto{{Name: proto.String("samples"),
					Number: proto.Int32(1), Type: &msg, TypeName: proto.String(".Sample"), Label: &rep},
					{Name: proto.String("name"), Number: proto.Int32(2), Type: &str, Label: &opt}}},
			}}}})
	require.NoError(t, err)
	d, err := payload.ReadDescriptors(set)
	require.NoError(t, err)
	fields := []payload.Field{{Name: "mark", Type: signal.Text}, {Name: "wave_m", Type: signal.Float}}
	p, err := payload.NewProto(fields, "mark", d, "Batch", "samples")
	require.NoError(t, err)
	sample := func(mark string, wave float64) payload.Sample {
		return payload.Sample{Values: []signal.Value{signal.OfText(mark), signal.OfFloat(wave)}}
	}
	body, err := p.Append(nil, []payload.Sample{sample("m/1", 1.5), sample("m/2", 2.5)})
	require.NoError(t, err)
	assert.Equal(t, "0a0e0a036d2f3111000000000000f83f0a0e0a036d2f32110000000000000440",
		fmt.Sprintf("%x", body))
	found, err := p.Read(body)
	require.NoError(t, err)
	assert.Equal(t, []payload.Found{{Mark: "m/1", Values: map[string]any{"wave_m": json.Number("1.5")}},
		{Mark: "m/2", Values: map[string]any{"wave_m": json.Number("2.5")}}}, found)
	_, err = p.Read(append(body, 0x0a, 4, 0x0a, 0, 0x0a, 0))
	assert.ErrorContains(t, err, "the member mark stands twice")
	for says, name := range map[string]string{"has no member": "waves", "is no list of messages": "name"} {
		_, err = payload.NewProto(fields, "mark", d, "Batch", name)
		assert.ErrorContains(t, err, says)
	}
}

// A template that is a list is one message: of one object, that is what it carries; of
// several items, each has its number for a name.
func TestTemplatesThatAreLists(t *testing.T) {
	fill := func(s *payload.Sample, i int) (signal.Value, error) { return s.Values[i], nil }
	for text, want := range map[string]string{
		`[{"id": "|", "w": |}]`:                  `{"w":1.5}`,
		`[{"id": "|"}, {"n": "w", "v": |}, "x"]`: `{"0":{},"1":{"n":"w","v":1.5},"2":"x"}`,
	} {
		var parts []payload.Part
		for i, literal := range strings.Split(text, "|") {
			if i > 0 {
				parts = append(parts, payload.Part{Placeholder: i - 1})
			}
			parts = append(parts, payload.Part{Literal: literal, Placeholder: -1})
		}
		f, err := payload.NewTemplate(parts, []string{"mark", "wave_m"}, 0, false, fill)
		require.NoError(t, err)
		assert.True(t, f.List())
		s := sample("m/1", 1.5, -3, true, "n")
		body, err := f.Append(nil, []payload.Sample{s})
		require.NoError(t, err)
		assert.Equal(t, strings.NewReplacer(`"|"`, `"m/1"`, "|", "1.5").Replace(text), string(body))
		found, err := f.Read(body)
		require.NoError(t, err)
		require.Len(t, found, 1)
		assert.Equal(t, "m/1", found[0].Mark)
		carried, err := payload.Carried(f, body, []payload.Sample{s}, names())
		require.NoError(t, err)
		assert.JSONEq(t, want, string(carried[0]))
		_, err = payload.NewTemplate(parts, []string{"mark", "wave_m"}, 0, true, fill)
		assert.ErrorContains(t, err, "a template that is a list holds one message; leave out batch")
	}
}

// A slot that does not hold a value exactly says so.
func TestSlotsThatRound(t *testing.T) {
	for name, c := range map[string]struct {
		slot  payload.Slot
		value signal.Value
		is    string // empty: it holds the value
	}{
		"u16, a whole number":       {payload.Slot{Width: 16}, signal.OfFloat(300), ""},
		"u16, with decimals":        {payload.Slot{Width: 16}, signal.OfFloat(300.7), "301"},
		"hundredths":                {payload.Slot{Width: 16, Kind: payload.Signed, Scale: 0.01}, signal.OfFloat(1.23), ""},
		"hundredths, of thousands":  {payload.Slot{Width: 16, Kind: payload.Signed, Scale: 0.01}, signal.OfFloat(1.234), "1.23"},
		"hundredths with an offset": {payload.Slot{Width: 16, Scale: 0.01, Offset: -50}, signal.OfFloat(12.34), ""},
		"f32":                       {payload.Slot{Width: 32, Kind: payload.Floating}, signal.OfFloat(47.8), ""},
		"f32, too many digits":      {payload.Slot{Width: 32, Kind: payload.Floating}, signal.OfFloat(47.80000001), "47.8"},
		"f32, beyond 2^24":          {payload.Slot{Width: 32, Kind: payload.Floating}, signal.OfInt(16777217), "1.6777216e+07"},
		"f32, 2^24":                 {payload.Slot{Width: 32, Kind: payload.Floating}, signal.OfInt(16777216), ""},
		"f64":                       {payload.Slot{Width: 64, Kind: payload.Floating}, signal.OfFloat(0.1), ""},
		"u8, a truth":               {payload.Slot{Width: 8}, signal.OfBool(true), ""},
	} {
		c.slot.Field = "x"
		if c.slot.Scale == 0 {
			c.slot.Scale = 1
		}
		f, err := payload.NewBytes([]payload.Field{{Name: "x", Type: c.value.Type()}}, "", []payload.Slot{c.slot})
		require.NoError(t, err, name)
		field, _, is, rounds := f.Rounds(&payload.Sample{Values: []signal.Value{c.value}})
		assert.Equal(t, c.is != "", rounds, name)
		assert.Equal(t, c.is, is, name)
		assert.Equal(t, rounds, field == "x", name)
	}
}
