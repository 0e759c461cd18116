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
)

// Samples that are no JSON: what is written into the crowd file.
func TestFormatsOfSamples(t *testing.T) {
	for _, c := range []struct{ text, writes, fields, notes string }{
		{"id;temp;lamp;at\nb1;21.5;on;2026-01-01T00:00:00Z\nb2;22.5;off;2026-01-01T00:00:05Z\n", "${device};${temp};${lamp};${at}",
			"temp: {signal: walk, low: 21.5, high: 22.5, step: 0.05, round: 1}|lamp: {signal: choice, of: [\"off\", \"on\"]}|at: {signal: clock}", ""},
		{"T=21.5; H=40\nT=22.5; H=41\n", "T=${T}; H=${H}", "T: {signal: walk, low: 21.5, ", "nothing in it looks like the name of a device"},
		{"1\t2\t3\n2\t2\t9", "${value_1}\t${value_2}\t${value_3}", "value_1: ", "ranges are guessed"},
		{"on\noff", "${value}", "value: {signal: choice, of: [\"off\", \"on\"]}", ""},
		{"temp:4|temp:5\ntemp:5|temp:7", "temp:${temp}|temp:${temp_2}", "temp: ", ""},
		{"it's ${x},1", "it's $${x},${value_2}", "value_2: ", ""},
		{"sea,device=b1,site=north temp=21.5,hum=40i,ok=true 1790000000000\nsea,device=b2,site=north temp=22.5,hum=41i,ok=false 1790000001000\n",
			`{form: line-protocol, series: "sea", tags: {"device": "${device}", "site": "north"}, precision: ms}`,
			`"hum": {signal: whole, low: 40, high: 41}|"ok": {signal: choice, of: [true, false]}|"temp": {signal: walk, low: 21.5, high: 22.5, `, ""},
		{"\xa3bid\x62b1dtemp\xf9\x4d\x40dokay\xf5\xa3bid\x62b2dtemp\xf9\x4d\xc0dokay\xf5", "cbor", "", ""},
	} {
		if c.writes == "cbor" { // as the length of its names says
			c.text = strings.NewReplacer("bid", "\x62id", "dtemp", "\x64temp", "dokay", "\x64okay").Replace(c.text)
			c.fields = `"id": "${device}"|"okay": true|"temp": {signal: walk, low: 21, high: 23, `
		}
		s, err := sketch.Read([]byte(c.text))
		require.NoError(t, err, c.text)
		assert.Equal(t, c.writes, s.Template+s.Payload, c.text)
		assert.True(t, strings.HasPrefix(strings.Join(s.Fields, "|"), c.fields), "%q: %v", c.text, s.Fields)
		assert.Contains(t, strings.Join(s.Notes, "|"), c.notes, c.text)
		assert.Equal(t, s.Payload == "", s.Beside, c.text)
		sent(t, s)
	}
	for text, why := range map[string]string{
		"a;b\n1;2\n3": "its lines are not alike", `1,"a,b"`: "holds values in quotes", "\xff": "neither text nor CBOR", "\x01": "is no map with names",
		"\xa1\x61a\xa0": "a holds more than a value", "\xa1\x61$\x01": "which a field cannot have", "{no": "message 1 is not JSON",
		" \n\t": "there is no message in it", "\xa1\x61a": "message 1 is neither",
	} {
		_, err := sketch.Read([]byte(text))
		assert.ErrorContains(t, err, why, "%q", text)
	}
}

// sent plays the crowd file of a sample, and gives a body.
func sent(t *testing.T, s *sketch.Sample) []byte {
	text, err := sketch.Crowd(sketch.Options{Name: "x", Address: "mqtt://h", Devices: 1, Every: "1s", For: "1s", Sample: s})
	require.NoError(t, err, text)
	c, err := file.Parse("x", []byte(text), file.Sources{})
	require.NoError(t, err, text)
	f, err := fleet.Build(c, credential.New(c))
	require.NoError(t, err, text)
	w := engine.BodyWriter{Run: engine.PreviewRun, Numbers: ledger.NumbersOf(engine.PreviewRun, 1)}
	got, err := w.Write(f.Streams[0], 1, 0, c.Plan.Begin.At, c.Plan.Begin.At, nil)
	require.NoError(t, err, text)
	return got.Body
}

// FuzzRead: whatever a sample is, it is refused, or messages can be made like it.
func FuzzRead(f *testing.F) {
	for _, s := range []string{"a;b\n1;x\n", "T=1;H=2", "sea,device=a t=1,u=2i,s=\"x\" 5", "\xa1\x61a\x01", "\xa1\x61a\xfb\x7f\xf0\x00\x00\x00\x00\x00\x00",
		"on", "${x} 1", "a,b,c", "1,2,1e999", "id:5:6", "x=,", "m mark=1", "{x 1", "a=[,b=1", "'#1: x', 2"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		if len(text) > 4<<10 {
			return
		}
		if s, err := sketch.Read(text); err == nil {
			sent(t, s)
		}
	})
}
