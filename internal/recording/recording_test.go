package recording_test

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/recording"
)

var at = time.Date(2026, 1, 15, 2, 0, 0, 123456789, time.UTC)

// What is written is read, as text and as bytes; what was there stays, a line that was cut off
// is passed over.
func TestWrittenAndRead(t *testing.T) {
	for _, name := range []string{"w.jsonl", "w.jsonl.gz"} {
		path := filepath.Join(t.TempDir(), name)
		lines := []recording.Line{
			{At: at, Topic: "harbour/buoy-1/state", Body: []byte(`{"a":"<ä>\n"}`), QoS: 1, Retained: true,
				ContentType: "application/json", Properties: []recording.Pair{{"k", "v"}, {"a", "b"}, {"k", "w"}},
				Response: "answers/1", Correlation: []byte{0, 0xff}, Expiry: 60, UTF8: true},
			{At: at.Add(time.Second), Path: "/in/x?y=1", Method: "PUT", Body: []byte{0xff, 0, 1},
				Headers: []recording.Pair{{"X-A", "b"}, {"X-A", "c"}}},
			{At: at, Topic: "t", Body: []byte{}},
		}
		var paths []string
		for _, l := range lines { // opened anew for each
			w, err := recording.Create(path, recording.Options{})
			require.NoError(t, err)
			require.NoError(t, w.Write(&l))
			require.NoError(t, w.Flush())
			require.NoError(t, w.Close())
			paths = append(paths, w.Files...)
		}
		if paths = slices.Compact(paths); name == "w.jsonl.gz" { // each time a new one; the last was cut off
			require.Len(t, paths, 3)
			b, err := os.ReadFile(paths[2])
			require.NoError(t, err)
			cut := filepath.Join(t.TempDir(), "cut.gz")
			require.NoError(t, os.WriteFile(cut, b[:len(b)-9], 0o600))
			r := recording.Open(cut)
			for err = nil; err == nil; {
				_, err = r.Next()
			}
			assert.Equal(t, io.EOF, err)
			assert.NotEmpty(t, r.Torn)
		}
		info, err := os.Stat(path)
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode())
		if name == "w.jsonl" { // killed in the middle of a line, and begun again
			require.NoError(t, appendTo(path, `{"at":"2026-01-15T02:0`))
			r := recording.Open(path)
			for range lines {
				_, err := r.Next()
				require.NoError(t, err)
			}
			_, err := r.Next()
			assert.Equal(t, io.EOF, err)
			assert.Equal(t, "w.jsonl:4", r.Torn)
			require.NoError(t, os.Truncate(path, info.Size()))
		}
		r := recording.Open(append(paths, paths...)...)
		for _, want := range append(lines, lines...) {
			got, err := r.Next()
			require.NoError(t, err)
			if len(want.Body) == 0 {
				want.Body = []byte{}
			}
			assert.Equal(t, want, got)
		}
		_, err = r.Next()
		assert.Equal(t, io.EOF, err)
	}
}

func appendTo(path, s string) error {
	f, err := os.OpenFile(path, os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = f.WriteString(s)
	return err
}

// New files begin at a size, none is written over.
func TestCut(t *testing.T) {
	dir := t.TempDir()
	w, err := recording.Create(filepath.Join(dir, "w.jsonl"), recording.Options{MaxSize: 200})
	require.NoError(t, err)
	for i := range 20 {
		require.NoError(t, w.Write(&recording.Line{At: at, Topic: "t", Body: fmt.Append(nil, i)}))
	}
	require.NoError(t, w.Close())
	assert.Greater(t, len(w.Files), 3)
	r, n := recording.Open(w.Files...), 0
	for {
		l, err := r.Next()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		assert.Equal(t, fmt.Sprint(n), string(l.Body))
		n++
	}
	assert.Equal(t, 20, n)
}

func TestBadLines(t *testing.T) {
	for text, says := range map[string]string{
		`{"topic":"t"}`:                 `w.jsonl:1: it has no time ("at")`,
		`{"at":"2026-01-15T02:00:00Z"}`: `it has neither a "topic" nor a "path"`,
		`{"at":"2026-01-15T02:00:00Z","topic":"t","body":"a","body_base64":"YQ=="}`: "it has both",
		`{"at":"2026-01-15T02:00:00Z","topic":"t","qos":3}`:                         "there is no QoS 3",
		"\n\nnonsense": "w.jsonl:3: it is no recorded message",
	} {
		path := filepath.Join(t.TempDir(), "w.jsonl")
		require.NoError(t, os.WriteFile(path, []byte(text+"\n"), 0o600))
		_, err := recording.Open(path).Next()
		assert.ErrorContains(t, err, says)
	}
}

func TestPatterns(t *testing.T) {
	for _, c := range []struct{ pattern, topic, device, reading string }{
		{"", "a/b/buoy-1/state", "buoy-1", "state"},
		{"harbour/+/${device}/${reading}", "harbour/outer/buoy-1/state", "buoy-1", "state"},
		{"harbour/${device}/#", "harbour/buoy-1/x/y", "buoy-1", ""},
		{"h/dev-${device}.json", "h/dev-7.json", "7", ""},
		{"harbour/${device}", "harbour/a/b", "", ""},
	} {
		re, err := recording.Pattern(c.pattern)
		require.NoError(t, err)
		p := recording.Places{Topic: re}
		device, reading, ok := p.Whose(&recording.Line{Topic: c.topic})
		assert.Equal(t, c.device != "", ok, c.pattern)
		assert.Equal(t, c.device+" "+c.reading, device+" "+reading, c.pattern)
	}
	_, err := recording.Pattern("harbour/+/state")
	assert.ErrorContains(t, err, "does not say where the device stands")
}

func TestChanges(t *testing.T) {
	near := time.Date(2026, 1, 15, 2, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		change     recording.Change
		body, want string
	}{
		{recording.Change{}, ` {"a" : 1.0 , "b":[1,2]} `, ` {"a" : 1.0 , "b":[1,2]} `},
		{recording.Change{Drop: "mark"}, `{"mark":"x","a":1}`, `{"a":1}`},
		{recording.Change{Drop: "mark"}, `{ "mark" : "x" , "a":1}`, `{ "a":1}`},
		{recording.Change{Drop: "mark"}, `{"a":1,"mark":"x"}`, `{"a":1}`},
		{recording.Change{Drop: "mark"}, `{"a":1,"mark":"x","b":2}`, `{"a":1,"b":2}`},
		{recording.Change{Drop: "mark"}, `{"mark":"x"}`, `{}`},
		{recording.Change{Set: map[string][]byte{"a": []byte("9")}}, `{"a":1,"b":2}`, `{"a":9,"b":2}`},
		{recording.Change{Set: map[string][]byte{"c": []byte(`"x"`)}}, `{"a":1}`, `{"a":1,"c":"x"}`},
		{recording.Change{Set: map[string][]byte{"c": []byte("1")}}, `{}`, `{"c":1}`},
		{recording.Change{Drop: "mark", Set: map[string][]byte{"c": []byte("1")}}, `{"mark":1}`, `{"c":1}`},
		{recording.Change{Shift: time.Hour, Times: []string{"at"}},
			`{"at":"2026-01-15T02:00:00.250Z","b":"2026-01-15T02:00:00Z"}`,
			`{"at":"2026-01-15T03:00:00.250Z","b":"2026-01-15T02:00:00Z"}`},
		{recording.Change{Shift: time.Hour, All: true, Near: near},
			`{"at":1768442400,"ms":1768442400123,"s":1768442400.50,"n":17684424,"in":{"x":["2026-01-15T04:00:00+02:00"]}}`,
			`{"at":1768446000,"ms":1768446000123,"s":1768446000.50,"n":17684424,"in":{"x":["2026-01-15T05:00:00+02:00"]}}`},
		{recording.Change{Shift: time.Hour, All: true, Near: near}, `{"old":"2020-01-15T02:00:00Z"}`,
			`{"old":"2020-01-15T02:00:00Z"}`},
	} {
		got, ok := c.change.Apply([]byte(c.body))
		assert.True(t, ok, c.body)
		assert.Equal(t, c.want, string(got))
	}
	for _, body := range []string{"", "[1]", "1", `{"a":1} x`, `{"a":`, "\xff"} {
		_, ok := (&recording.Change{}).Apply([]byte(body))
		assert.False(t, ok, body)
	}
}

// Secrets are not written down.
func TestMask(t *testing.T) {
	m := recording.Mask{Names: []string{"token"}, Hide: func(s string) string {
		return strings.ReplaceAll(s, "sesame",
			"***")
	}}
	l := recording.Line{Topic: "t/sesame", Body: []byte(`{"Token":"abc","in":[{"token":1,"a":"sesame"}],"n":1.50}`),
		Headers: []recording.Pair{{"Token", "abc"}, {"X", "sesame"}}, Response: "to/sesame"}
	m.Apply(&l)
	assert.Equal(t, `{"Token":"***","in":[{"token":"***","a":"***"}],"n":1.50}`, string(l.Body))
	assert.Equal(t, []recording.Pair{{"Token", "***"}, {"X", "***"}}, l.Headers)
	assert.Equal(t, "to/***", l.Response)
	assert.Equal(t, "t/***", l.Topic)
	l = recording.Line{Path: "/in?n=1&to%6ben=abc&TOKEN=abc&token"}
	m.Apply(&l)
	assert.Equal(t, "/in?n=1&to%6ben=***&TOKEN=***&token=***", l.Path)
	for _, body := range []string{"token=abc&n=1", `{"token":"abc","n":`, "{\"n\":1}\n{\"token\":\"abc\"}",
		"\xff\x00Token abc"} {
		l = recording.Line{Body: []byte(body)}
		m.Apply(&l)
		assert.Equal(t, "***", string(l.Body), "no JSON: where the value ends cannot be told")
	}
	l = recording.Line{Body: []byte("\xff\x00sesame")}
	m.Apply(&l)
	assert.Equal(t, "\xff\x00***", string(l.Body))
	for _, body := range []string{"n=1", "", "\xff\x00"} {
		l = recording.Line{Body: []byte(body)}
		m.Apply(&l)
		assert.Equal(t, body, string(l.Body))
	}
}

func TestRows(t *testing.T) {
	p := &recording.Places{Time: "at", Device: "buoy"}
	r, err := recording.RowsOf(io.NopCloser(strings.NewReader(
		"at,buoy,wave_m,site,note\n2026-01-15T02:00:00Z,b1,0.50,outer,\n1768442401,b2,-1,\"a "+
			"\"\"b\"\"\",true\n")), "w.csv", p)
	require.NoError(t, err)
	l, err := r.Next()
	require.NoError(t, err)
	assert.Equal(t, "b1 {\"wave_m\":0.50,\"site\":\"outer\"}", l.Device+" "+string(l.Body))
	l, err = r.Next()
	require.NoError(t, err)
	assert.Equal(t, `b2 {"wave_m":-1,"site":"a \"b\"","note":true}`, l.Device+" "+string(l.Body))
	assert.Equal(t, int64(1768442401), l.At.Unix())
	_, err = recording.RowsOf(io.NopCloser(strings.NewReader("a,b\n")), "w.csv", p)
	assert.ErrorContains(t, err, `w.csv has no column "at"; its columns are a, b`)
}

// Whatever stands in a line, it is read or refused; and what is read is written as it was.
func FuzzParse(f *testing.F) {
	f.Add([]byte(`{"at":"2026-01-15T02:00:00Z","topic":"t","body":"a"}`))
	f.Add([]byte(`{"at":"2026-01-15T02:00:00Z","path":"/p","body_base64":"/w=="}`))
	f.Fuzz(func(t *testing.T, b []byte) {
		l, err := recording.Parse(b)
		if err != nil {
			return
		}
		out, err := l.Append(nil)
		require.NoError(t, err)
		again, err := recording.Parse(out)
		require.NoError(t, err)
		assert.Equal(t, string(l.Body), string(again.Body))
		(&recording.Change{Drop: "a", Shift: time.Hour, All: true, Near: l.At,
			Set: map[string][]byte{"x": []byte("1")}}).Apply(l.Body)
	})
}
