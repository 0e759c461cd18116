package quantity_test

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"runcrowd/internal/quantity"
)

func TestDurations(t *testing.T) {
	for text, want := range map[string]time.Duration{
		"5s": 5 * time.Second, "250ms": 250 * time.Millisecond, "12h25m": 12*time.Hour + 25*time.Minute, "2d": 48 * time.Hour,
		"1.5h": 90 * time.Minute, "3min": 3 * time.Minute, "7us": 7 * time.Microsecond, "7µs": 7 * time.Microsecond,
		" 5s ": 5 * time.Second,
		"-5s":  -5 * time.Second, "0s": 0, "1h 30m": 90 * time.Minute,
	} {
		got, err := quantity.ParseDuration(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for text, part := range map[string]string{
		"": "empty", "5": "has no unit; write 5s, 5ms or 5m", "5 sec": `unknown unit "sec"`, "soon": "not a duration",
		"1.2.3s":        "not a duration",
		"999999999999h": "longer than 146 years", "s": "not a duration", "5s-3s": "not a duration",
	} {
		_, err := quantity.ParseDuration(text)
		assert.ErrorContains(t, err, part, text)
	}
}

// What is printed parses back to the same value.
func TestDurationRoundTrip(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		d := time.Duration(rapid.Int64Range(-int64(1000*quantity.Day), int64(1000*quantity.Day)).Draw(t, "d"))
		back, err := quantity.ParseDuration(quantity.FormatDuration(d))
		require.NoError(t, err)
		require.InDelta(t, float64(d), float64(back), 16, "%s", quantity.FormatDuration(
			d)) // a float64 holds 104 days to the nanosecond
	})
}

func TestPositionRoundTrip(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		p := quantity.Position{Lat: rapid.Float64Range(-90, 90).Draw(t, "lat"),
			Lon: rapid.Float64Range(-180, 180).Draw(t, "lon")}
		back, err := quantity.ParsePosition(p.String())
		require.NoError(t, err)
		require.Equal(t, p, back)
	})
}

func TestOtherMeasures(t *testing.T) {
	p, err := quantity.ParsePercent("99.9%")
	require.NoError(t, err)
	assert.Equal(t, "99.9%", p.String())
	assert.InDelta(t, 0.999, p.Share(), 1e-12)
	for _, bad := range []string{"10", "-1%", "101%", "x%", "NaN%", ""} {
		_, err := quantity.ParsePercent(bad)
		assert.Error(t, err, bad)
	}
	for text, want := range map[string]float64{"20/s": 20, "60/min": 1, "3600/h": 1, "10/ms": 10000} {
		r, err := quantity.ParseRate(text)
		require.NoError(t, err, text)
		assert.InDelta(t, want, float64(r), 1e-9, text)
	}
	for _, bad := range []string{"20", "0/s", "-1/s", "20/fortnight", "Inf/s", ""} {
		_, err := quantity.ParseRate(bad)
		assert.Error(t, err, bad)
	}
	for text, want := range map[string]float64{"15m": 15, "2km": 2000, "80cm": 0.8, "5mm": 0.005} {
		m, err := quantity.ParseLength(text)
		require.NoError(t, err, text)
		assert.InDelta(t, want, m, 1e-12, text)
	}
	for _, bad := range []string{"15", "15s", "m", "1m2m", ""} {
		_, err := quantity.ParseLength(bad)
		assert.Error(t, err, bad)
	}
	c, err := quantity.ParseClock("06:30:15")
	require.NoError(t, err)
	assert.Equal(t, 6*time.Hour+30*time.Minute+15*time.Second, c)
	for _, bad := range []string{"24:00", "6.30", "noon", ""} {
		_, err := quantity.ParseClock(bad)
		assert.Error(t, err, bad)
	}
	for _, bad := range []string{"58", "91,0", "0,181", "NaN,0", "a,b", "1,2,3"} {
		_, err := quantity.ParsePosition(bad)
		assert.Error(t, err, bad)
	}
}

// A degree of latitude is 111.195 km on the mean sphere; at 60° north a degree
// of longitude is half of that.
func TestOffset(t *testing.T) {
	p := quantity.Position{Lat: 60, Lon: 5}
	q := p.Offset(111195.08, 111195.08/2)
	assert.InDelta(t, 61, q.Lat, 1e-6)
	assert.InDelta(t, 6, q.Lon, 1e-6)
	assert.False(t, math.IsNaN(quantity.Position{Lat: 90}.Offset(0, 10).Lon))
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"5s", "12h25m", "58.02,-6.41", "10%", "20/s", "15m", "15:00", "1e9s", "--1s"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		if d, err := quantity.ParseDuration(s); err == nil {
			_, err := quantity.ParseDuration(quantity.FormatDuration(d))
			require.NoError(t, err)
		}
		if p, err := quantity.ParsePosition(s); err == nil {
			q, err := quantity.ParsePosition(p.String())
			require.NoError(t, err)
			require.Equal(t, p, q)
		}
		quantity.ParsePercent(s)
		quantity.ParseRate(s)
		quantity.ParseLength(s)
		quantity.ParseClock(s)
	})
}
