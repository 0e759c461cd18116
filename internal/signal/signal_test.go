package signal_test

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/quantity"
	"runcrowd/internal/signal"
)

var noon = time.Date(2030, 6, 1, 12, 0, 0, 0, time.UTC)

func build(t *testing.T, name string, args signal.Args) signal.Signal {
	t.Helper()
	spec, ok := signal.Find(name)
	require.True(t, ok, name)
	s, err := spec.Make(args)
	require.NoError(t, err, name)
	return s
}

// series is n values, a second apart.
func series(s signal.Signal, key uint64, n int) []float64 {
	list := make([]float64, n)
	for i := range list {
		at := time.Duration(i) * time.Second
		list[i] = s.At(signal.Moment{Key: key, Seq: uint64(i + 1), Time: noon.Add(at), Elapsed: at}).Float()
	}
	return list
}

func stats(v []float64) (mean, sd, low, high float64) {
	low, high = math.Inf(1), math.Inf(-1)
	for _, x := range v {
		mean += x / float64(len(v))
		low, high = min(low, x), max(high, x)
	}
	for _, x := range v {
		sd += (x - mean) * (x - mean) / float64(len(v))
	}
	return mean, math.Sqrt(sd), low, high
}

// Every distribution is what it says, within five standard errors.
func TestDistributions(t *testing.T) {
	const n = 20000
	key := signal.Key(1907, "buoy-001", "state", "x")
	mean, sd, low, high := stats(series(build(t, "uniform", signal.Args{"low": 2.0, "high": 6.0}), key, n))
	assert.InDelta(t, 4, mean, 5*4/math.Sqrt(12*n))
	assert.InDelta(t, 4/math.Sqrt(12), sd, 0.03)
	assert.GreaterOrEqual(t, low, 2.0)
	assert.Less(t, high, 6.0)

	mean, sd, _, _ = stats(series(build(t, "normal", signal.Args{"mean": 10.0, "spread": 3.0}), key, n))
	assert.InDelta(t, 10, mean, 5*3/math.Sqrt(n))
	assert.InDelta(t, 3, sd, 0.08)

	mean, sd, low, high = stats(series(build(t, "swell", signal.Args{"height": 2.0, "period": 9 * time.Second,
		"mean": 1.0}), key, n))
	assert.InDelta(t, 1, mean, 0.02)
	assert.InDelta(t, 0.5, sd, 0.02, "a quarter of the significant height")
	assert.Greater(t, high, 1.5)
	assert.Less(t, low, 0.5)

	choice := build(t, "choice", signal.Args{"of": []signal.Value{signal.OfText("a"), signal.OfText("b"),
		signal.OfText("c")}})
	seen := map[string]int{}
	for i := range n {
		seen[choice.At(signal.Moment{Key: key, Seq: uint64(i)}).Text()]++
	}
	for _, c := range []string{"a", "b", "c"} {
		assert.InDelta(t, n/3, seen[c], 5*math.Sqrt(n*2/9.0))
	}
}

func TestShapes(t *testing.T) {
	at := func(s signal.Signal, d time.Duration, seq uint64) float64 {
		return s.At(signal.Moment{Seq: seq, Time: noon.Add(d), Elapsed: d}).Float()
	}
	daily := build(t, "daily", signal.Args{"low": 8.0, "high": 12.0, "peak": 15 * time.Hour})
	assert.InDelta(t, 12, at(daily, 3*time.Hour, 1), 1e-9)
	assert.InDelta(t, 8, at(daily, 15*time.Hour, 1), 1e-9)
	assert.InDelta(t, at(daily, time.Hour, 1), at(daily, 25*time.Hour, 1), 1e-9)

	tide := build(t, "tide", signal.Args{"range": 4.0, "period": 12 * time.Hour})
	assert.InDelta(t, at(tide, 0, 1), -at(tide, 6*time.Hour, 1), 1e-9)
	_, _, low, high := stats(series(build(t, "tide", signal.Args{"range": 4.0, "period": time.Minute}), 0, 600))
	assert.InDelta(t, -2, low, 0.01)
	assert.InDelta(t, 2, high, 0.01)

	drain := build(t, "drain", signal.Args{"from": 12.8, "per_hour": 0.4, "to": 12.0})
	assert.InDelta(t, 12.8, at(drain, 0, 1), 1e-9)
	assert.InDelta(t, 12.4, at(drain, time.Hour, 1), 1e-9)
	assert.InDelta(t, 12.0, at(drain, 100*time.Hour, 1), 1e-9)

	ramp := build(t, "ramp", signal.Args{"from": 1.0, "to": 3.0, "over": 10 * time.Second})
	assert.InDelta(t, 2, at(ramp, 5*time.Second, 1), 1e-9)
	assert.InDelta(t, 3, at(ramp, time.Hour, 1), 1e-9)

	counter := build(t, "counter", signal.Args{"from": 10.0, "step": -2.0})
	assert.Equal(t, int64(4), counter.At(signal.Moment{Seq: 4}).Int())

	assert.Equal(t, "2030-06-01T12:00:00.000Z", build(t, "clock", nil).At(signal.Moment{Time: noon}).Text())
	assert.Equal(t, noon.UnixMilli(), build(t, "clock", signal.Args{"as": "ms"}).At(signal.Moment{Time: noon}).Int())
}

func TestWanderStaysInItsCircle(t *testing.T) {
	middle := quantity.Position{Lat: 58.04, Lon: -6.38}
	w := build(t, "wander", signal.Args{"around": middle, "radius": 15.0})
	moved := map[quantity.Position]bool{}
	for i := range 5000 {
		p := w.At(signal.Moment{Key: 7, Time: noon.Add(time.Duration(i) * 10 * time.Second)}).Place()
		north := (p.Lat - middle.Lat) * 111195.08
		east := (p.Lon - middle.Lon) * 111195.08 * math.Cos(middle.Lat*math.Pi/180)
		require.LessOrEqual(t, math.Hypot(north, east), 15.2)
		moved[p] = true
	}
	assert.Greater(t, len(moved), 1000)
}

// needed are parameters that have no default.
func needed(name string) signal.Args {
	return map[string]signal.Args{
		"constant": {"value": []signal.Value{signal.OfInt(1)}},
		"choice":   {"of": []signal.Value{signal.OfInt(1), signal.OfInt(2)}},
		"wander":   {"around": quantity.Position{}},
		"steps":    {"levels": []float64{1, 2, 5}},
		"states":   {"of": harbourStates},
		"text":     {"pattern": "[A-Z]{3}-[0-9]+"},
		"route":    {"points": []quantity.Position{{Lat: 58, Lon: -6}, {Lat: 58.01, Lon: -6}, {Lat: 58.01, Lon: -6.02}}},
		"recorded": {"file": &signal.Recording{Values: []signal.Value{signal.OfInt(1), signal.OfInt(2), signal.OfInt(4)}},
			"column": "x"},
		"derived": {"field": "x"},
	}[name]
}

// A value depends on its moment alone: the order of asking changes nothing, and
// another key gives another series.
func TestValuesArePure(t *testing.T) {
	for _, name := range signal.Names() {
		s := build(t, name, needed(name))
		var forward []signal.Value
		for i := range 50 {
			forward = append(forward, s.At(signal.Moment{Key: 5, Seq: uint64(i + 1),
				Time: noon.Add(time.Duration(i) * time.Second)}))
		}
		for i := 49; i >= 0; i-- {
			s.At(signal.Moment{Key: 99, Seq: 3, Time: noon})
			require.Equal(t, forward[i], s.At(signal.Moment{Key: 5, Seq: uint64(i + 1),
				Time: noon.Add(time.Duration(i) * time.Second)}), name)
		}
	}
	assert.NotEqual(t, signal.Key(1, "ab", "c"), signal.Key(1, "a", "bc"))
	assert.NotEqual(t, signal.Key(1, "a"), signal.Key(2, "a"))
}

func TestWrongParameters(t *testing.T) {
	for name, c := range map[string]struct {
		args signal.Args
		says string
	}{
		"uniform":  {signal.Args{"low": 3.0, "high": 2.0}, "low 3 is above high 2"},
		"normal":   {signal.Args{"spread": -1.0}, "spread must not be negative"},
		"swell":    {signal.Args{"period": time.Duration(0)}, "period must be above zero"},
		"drain":    {signal.Args{"from": 1.0, "to": 2.0}, "to 2 is above from 1"},
		"counter":  {signal.Args{"step": 0.5}, "must be whole numbers"},
		"choice":   {signal.Args{"of": []signal.Value{}}, "of is empty"},
		"wander":   {signal.Args{}, `the signal "wander" needs "around"`},
		"constant": {signal.Args{"value": []signal.Value{}}, "value must be one value"},
		"ramp":     {signal.Args{"over": -time.Second}, "over must be above zero"},
		"tide":     {signal.Args{"period": -time.Second}, "period must be above zero"},
	} {
		spec, _ := signal.Find(name)
		_, err := spec.Make(c.args)
		assert.ErrorContains(t, err, c.says, name)
	}
}

func TestFinish(t *testing.T) {
	low, high, two := 1.0, 2.0, 2
	f := signal.Finish{Min: &low, Max: &high, Decimals: &two}
	assert.Equal(t, 1.0, f.Apply(signal.Moment{}, signal.OfFloat(-3)).Float())
	assert.Equal(t, 2.0, f.Apply(signal.Moment{}, signal.OfFloat(3)).Float())
	assert.Equal(t, 1.24, f.Apply(signal.Moment{}, signal.OfFloat(1.235)).Float())
	assert.Equal(t, signal.OfText("x"), f.Apply(signal.Moment{}, signal.OfText("x")))
	noisy := signal.Finish{Noise: 0.5}
	var v []float64
	for i := range 5000 {
		v = append(v, noisy.Apply(signal.Moment{Key: 3, Seq: uint64(i)}, signal.OfFloat(10)).Float())
	}
	mean, sd, _, _ := stats(v)
	assert.InDelta(t, 10, mean, 0.04)
	assert.InDelta(t, 0.5, sd, 0.03)
}

func BenchmarkSwell(b *testing.B) {
	spec, _ := signal.Find("swell")
	s, err := spec.Make(nil)
	if err != nil {
		b.Fatal(err)
	}
	b.ReportAllocs()
	for i := 0; b.Loop(); i++ {
		s.At(signal.Moment{Key: 1, Seq: uint64(i), Time: noon})
	}
}

// What lies between two numbers is what each signal gives that has a range, or nearly all of it.
func TestBetween(t *testing.T) {
	for _, s := range signal.All() {
		args := s.Between(20, 25)
		if args == nil {
			continue
		}
		made, err := s.Make(args)
		require.NoError(t, err, s.Name)
		_, _, low, high := stats(series(made, signal.Key(7, s.Name), 2000))
		assert.True(t, low > 15 && high < 30 && low < high, "%s: %g to %g", s.Name, low, high)
	}
	for name, ours := range map[string]string{"random": "uniform", "Sine": "tide", "enum": "choice", "random_walk": "walk"} {
		s, is := signal.Meant(name)
		require.True(t, is, name)
		assert.Equal(t, ours, s.Name)
	}
	_, is := signal.Meant("swell")
	assert.False(t, is)
	w := build(t, "walk", signal.Args{"low": 30.0, "high": 60.0})
	assert.Equal(t, 45.0, series(w, 1, 1)[0], "it begins in the middle")
	w = build(t, "walk", signal.Args{"low": 30.0})
	assert.Equal(t, 30.0, series(w, 1, 1)[0])
	w = build(t, "walk", signal.Args{"high": -3.0})
	assert.Equal(t, -3.0, series(w, 1, 1)[0])
}
