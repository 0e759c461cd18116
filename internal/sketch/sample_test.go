package sketch_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/credential"
	"runcrowd/internal/crowd/file"
	"runcrowd/internal/engine"
	"runcrowd/internal/fleet"
	"runcrowd/internal/ledger"
	"runcrowd/internal/sketch"
	"runcrowd/internal/strictjson"
)

// What is learnt of messages: their shape, and what each field is.
func TestWhatIsLearnt(t *testing.T) {
	for text, c := range map[string]struct{ template, fields, notes string }{
		`{"deviceId":"tg-7","temp":21.5}`: {`{"deviceId": "${device}", "temp": ${temp}, "mark": "${mark}"}`,
			"temp: {signal: walk, low: 19.35, high: 23.65, step: 0.215, round: 1}", "ranges are guessed, as there is one value alone: temp (21.5)"},
		`{"id":7,"a":{"b":[1,{"c":2}]}}`: {`{"id": ${n}, "a": {"b": [${a_b_0}, {"c": ${a_b_1_c}}]}, "mark": "${mark}"}`,
			"a_b_0: {signal: walk, low: 0, high: 2, step: 0.1, round: 0}|a_b_1_c: {signal: walk, low: 1, high: 3, step: 0.1, round: 0}", "guessed"},
		`{"ts":1767225600,"d":"x"} {"ts":1767225605,"d":"y"} {"ts":1767225611,"d":"x"}`: {`{"ts": ${ts}, "d": "${d}", "mark": "${mark}"}`,
			`ts: {signal: clock, as: s}|d: {signal: choice, of: ["x", "y"]}`, "nothing in it looks like the name of a device"},
		`{"at":"2026-01-01T00:00:00.5Z","ms":1767225600123,"us_time":1767225600123456}`: {`{"at": "${at}", "ms": ${ms}, "us_time": ${us_time}, "mark": "${mark}"}`,
			"at: {signal: clock}|ms: {signal: walk", "nothing in it looks like"},
		`{"seq":4} {"seq":6} {"seq":8}`:            {`{"seq": ${seq_}, "mark": "${mark}"}`, "seq_: {signal: counter, from: 4, step: 2}", ""},
		`{"t":-2.25} {"t":3}`:                      {`{"t": ${t}, "mark": "${mark}"}`, "t: {signal: walk, low: -2.25, high: 3, step: 0.263, round: 2}", ""},
		`{"on":true} {"on":false}`:                 {`{"on": ${on}, "mark": "${mark}"}`, "on: {signal: choice, of: [true, false]}", ""},
		`{"on":true,"x":null}`:                     {`{"on": true, "x": null, "mark": "${mark}"}`, "", ""},
		`{"a b":1,"a-b":1,"é":1,"1":1,"true":1}`:   {`{"a b": ${a_b}, "a-b": ${a_b_2}, "é": ${value}, "1": ${value_1}, "true": ${true_}, "mark": "${mark}"}`, "a_b: ", ""},
		`{"x":"it's ${y}"}`:                        {`{"x": "it's $${y}", "mark": "${mark}"}`, "", ""},
		`{"mark":1}`:                               {`{"mark": ${mark_2}, "mark_2": "${mark}"}`, "", ""},
		`{"mark":true,"mark_2":{"mark_3":null}}`:   {`{"mark": true, "mark_2": {"mark_3": null}, "mark_3": "${mark}"}`, "", ""},
		`{"a\n  b: 1":1,"c":"\u202e\u0000\u009f"}`: {`{"a\n  b: 1": ${a_b_1}, "c": "\u202e\u0000\u009f", "mark": "${mark}"}`, "", `a\n  b: 1 (1)`},
		`{"big":123456789012345678,"inf":1e999}`:   {`{"big": 123456789012345678, "inf": 1e999, "mark": "${mark}"}`, "", "big is always 123456789012345678 now"},
		`{}`:                                       {`{"mark": "${mark}"}`, "", ""},
		`[1]`:                                      {`[${value_0}]`, "value_0: ", ""},
	} {
		list, err := sketch.Samples([]byte(text))
		require.NoError(t, err, text)
		s, err := sketch.Learn(list)
		require.NoError(t, err, text)
		assert.Equal(t, c.template, s.Template, text)
		assert.True(t, strings.HasPrefix(strings.Join(s.Fields, "|"), c.fields), "%s: %v", text, s.Fields)
		assert.Contains(t, strings.Join(s.Notes, "|"), c.notes, text)
		assert.Equal(t, text[0] == '[', s.Beside, text)
	}
	for _, text := range []string{"", "  ", "{", "no", `{"a":1,"a":2}`, `{"a":1} x`} {
		_, err := sketch.Samples([]byte(text))
		assert.Error(t, err, text)
	}
	var many strings.Builder
	for i := range 30 {
		many.WriteString(`{"word":"w` + strings.Repeat("x", i) + `"}`)
	}
	list, err := sketch.Samples([]byte(many.String()))
	require.NoError(t, err)
	s, err := sketch.Learn(list)
	require.NoError(t, err)
	assert.Contains(t, s.Notes[0], `word had 30 different texts, and is always "w" now`)
}

// shape is a JSON value without its leaves.
func shape(v any) any {
	switch x := v.(type) {
	case map[string]any:
		m := map[string]any{}
		for k, y := range x {
			m[k] = shape(y)
		}
		return m
	case []any:
		list := make([]any, len(x))
		for i := range x {
			list[i] = shape(x[i])
		}
		return list
	}
	return nil
}

// FuzzLearn: whatever a message is, what is learnt of it makes messages of the same shape.
func FuzzLearn(f *testing.F) {
	for _, s := range []string{`{"deviceId":"tg-7","ts":1767225600123,"data":{"temp":21.5,"ok":true,"list":[1,2.5,{"x":"a"}]}}`, `[1,"$${x}"]`,
		`{"a":"\u0000\"'","b":1e300,"c":-0.0}`, `{"":{"":[]}}`} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		list, err := sketch.Samples([]byte(text))
		if err != nil || len(list) != 1 || text[0] != '{' && text[0] != '[' {
			return
		}
		sample, err := sketch.Learn(list)
		require.NoError(t, err)
		crowd, err := sketch.Crowd(sketch.Options{Name: "x", Address: "mqtt://h", Devices: 1, Every: "1s", For: "1s", Sample: sample})
		require.NoError(t, err, crowd)
		c, err := file.Parse("x", []byte(crowd), file.Sources{})
		require.NoError(t, err, crowd)
		fl, err := fleet.Build(c, credential.New(c))
		require.NoError(t, err, crowd)
		w := engine.BodyWriter{Run: engine.PreviewRun, Numbers: ledger.NumbersOf(engine.PreviewRun, 1)}
		got, err := w.Write(fl.Streams[0], 1, 0, c.Plan.Begin.At, c.Plan.Begin.At, nil)
		require.NoError(t, err, crowd)
		sent, err := strictjson.Decode(got.Body)
		require.NoError(t, err, "%s\n%s", crowd, got.Body)
		was, err := strictjson.Decode(list[0])
		require.NoError(t, err)
		if m, is := sent.(map[string]any); is && !sample.Beside {
			delete(m, sample.Mark)
		}
		require.Equal(t, shape(was), shape(sent), crowd)
	})
}
