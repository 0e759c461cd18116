package payload_test

import (
	"encoding/json"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"runcrowd/internal/payload"
	"runcrowd/internal/quantity"
	"runcrowd/internal/signal"
)

func TestObject(t *testing.T) {
	names := []string{"z", "a", "ok", "n", "text", "place", "none", "big", "tiny", "inf"}
	values := []signal.Value{signal.OfFloat(1.25), signal.OfInt(-3), signal.OfBool(true), signal.OfFloat(12),
		signal.OfText("a \"b\" ü\n"),
		signal.OfPlace(quantity.Position{Lat: 58.02, Lon: -6.41}), {}, signal.OfFloat(1e21), signal.OfFloat(1e-7),
		signal.OfFloat(math.Inf(1))}
	got := string(payload.Object(nil, names, values))
	assert.Equal(t, `{"z":1.25,"a":-3,"ok":true,"n":12,"text":"a \"b\" ü\n","place":{"lat":58.02,"lon":-6.41},"none":null,"big":1e+21,"tiny":1e-07,"inf":null}`, got)
	assert.True(t, json.Valid([]byte(got)))
	assert.Equal(t, `{"mark":"r/d/s/1","a":1}`, string(payload.WithText(nil, []byte(`{"a":1}`), "mark", "r/d/s/1")))
	assert.Equal(t, `{"no":7}`, string(payload.WithNumber(nil, []byte(`{}`), "no", 7)))
}

// Whatever a value is, what is written reads back as the same.
func TestValuesReadBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		f := rapid.Float64().Draw(t, "f")
		s := rapid.String().Draw(t, "s")
		b := payload.Object(nil, []string{s, s + "!"}, []signal.Value{signal.OfFloat(f), signal.OfText(s)})
		var back map[string]any
		require.NoError(t, json.Unmarshal(b, &back), "%s", b)
		require.Equal(t, s, back[s+"!"])
		require.Equal(t, f, back[s])
	})
}

func BenchmarkObject(b *testing.B) {
	names := []string{"wave_m", "water_c", "battery_v", "position"}
	values := []signal.Value{signal.OfFloat(1.25), signal.OfFloat(10.5), signal.OfFloat(12.8),
		signal.OfPlace(quantity.Position{Lat: 58.021234, Lon: -6.412345})}
	var buf []byte
	b.ReportAllocs()
	for b.Loop() {
		buf = payload.Object(buf[:0], names, values)
	}
}
