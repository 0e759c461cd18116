package signal_test

import (
	"math"
	"regexp"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"runcrowd/internal/quantity"
	"runcrowd/internal/signal"
	"runcrowd/internal/unit"
)

var harbourStates = []signal.State{
	{Name: "free", To: []signal.Transition{{To: "taken", Share: 0.1}}},
	{Name: "taken", To: []signal.Transition{{To: "free", Share: 0.05}, {To: "closed", Share: 0.01}}},
	{Name: "closed", To: []signal.Transition{{To: "free", Share: 0.3}}},
}

// A walk is the process it says: steps of the given size, a spread that settles
// at step/sqrt(1-keep²), neighbours correlated by what is kept, and it is the same
// whichever value is asked for first.
func TestWalk(t *testing.T) {
	const n, keep = 1 << 16, 0.9
	w := build(t, "walk", signal.Args{"start": 10.0, "step": 2.0, "pull": 1 - keep})
	v := series(w, signal.Key(7, "walk"), n)
	assert.Equal(t, 10.0, v[0], "it begins where it is told")
	mean, sd, _, _ := stats(v)
	want := 2 / math.Sqrt(1-keep*keep)
	assert.InDelta(t, 10, mean, 5*want*math.Sqrt(2/(1-keep)/n))
	assert.InDelta(t, want, sd, 0.15)
	products, steps := 0.0, 0.0
	for i := 1; i < n; i++ {
		products += (v[i] - 10) * (v[i-1] - 10) / n
		noise := v[i] - 10 - keep*(v[i-1]-10)
		steps += noise * noise / n
	}
	assert.InDelta(t, keep, products/(sd*sd), 0.01)
	assert.InDelta(t, 2, math.Sqrt(steps), 0.03)

	free := series(build(t, "walk", signal.Args{"step": 1.0, "pull": 0.0}), 3, n)
	steps = 0
	for i := 1; i < n; i++ {
		steps += (free[i] - free[i-1]) * (free[i] - free[i-1]) / n
	}
	assert.InDelta(t, 1, math.Sqrt(steps), 0.02, "without pull, a plain random walk")
	_, _, low, high := stats(series(build(t, "walk", signal.Args{"step": 5.0, "pull": 0.0, "start": 50.0, "low": 0.0,
		"high": 100.0}), 3, n))
	assert.True(t, low >= 0 && low < 1 && high <= 100 && high > 99, "it turns back at its bounds: %g to %g", low, high)
}

// States go where they may, as often as they say, and any one can be found alone.
func TestStates(t *testing.T) {
	const n = 50000
	at := func(s signal.Signal, seq int) string { return s.At(signal.Moment{Key: 5, Seq: uint64(seq)}).Text() }
	s := build(t, "states", signal.Args{"of": harbourStates})
	list := make([]string, n+1)
	counts, from := map[[2]string]float64{}, map[string]float64{}
	for i := 1; i <= n; i++ {
		list[i] = at(s, i)
		if i > 1 {
			counts[[2]string{list[i-1], list[i]}]++
			from[list[i-1]]++
		}
	}
	assert.Equal(t, "free", list[1])
	for _, st := range harbourStates {
		for _, to := range st.To {
			share := counts[[2]string{st.Name, to.To}] / from[st.Name]
			assert.InDelta(t, to.Share, share, 5*math.Sqrt(to.Share/from[st.Name]), "%s to %s", st.Name, to.To)
		}
	}
	assert.Zero(t, counts[[2]string{"free", "closed"}])
	for i := n; i > 1; i -= 997 {
		require.Equal(t, list[i], at(build(t, "states", signal.Args{"of": harbourStates}), i), "message %d alone", i)
	}
	ring := []signal.State{{Name: "a", To: []signal.Transition{{To: "b", Share: 1}}},
		{Name: "b", To: []signal.Transition{{To: "a", Share: 1}}}}
	assert.Equal(t, "b", at(build(t, "states", signal.Args{"of": ring}), 1000), "states that never meet are counted "+
		"from the first message")
}

func TestWeightsTextsAndSwitch(t *testing.T) {
	const n = 20000
	c := build(t, "choice", signal.Args{"of": []signal.Value{signal.OfInt(1), signal.OfInt(2), signal.OfInt(3)},
		"weights": []float64{7, 2, 0}})
	seen := map[int64]float64{}
	like := build(t, "text", signal.Args{"pattern": "(buoy|mark)-[A-Z]{2}[^a]?x*"})
	re := regexp.MustCompile("^(buoy|mark)-[A-Z]{2}[^a]?x*$")
	for i := range n {
		m := signal.Moment{Key: 9, Seq: uint64(i)}
		seen[c.At(m).Int()]++
		require.Regexp(t, re, like.At(m).Text())
	}
	assert.InDelta(t, 7.0/9*n, seen[1], 5*math.Sqrt(n*14/81.0))
	assert.Zero(t, seen[3])

	s := build(t, "switch", signal.Args{"on": 20 * time.Second, "off": 40 * time.Second, "vary": 0.5})
	on, edges, stays, length := 0, 0, map[bool][]int{}, 0
	for i := range n {
		m := signal.Moment{Key: 9, Time: noon.Add(time.Duration(i) * time.Second)}
		now := s.At(m).Bool()
		if now {
			on++
		}
		m.Time = m.Time.Add(-time.Second)
		if length++; i > 0 && now != s.At(m).Bool() {
			if edges++; edges > 1 {
				stays[!now] = append(stays[!now], length)
			}
			length = 0
		}
	}
	assert.InDelta(t, n/3, on, n/50)
	assert.InDelta(t, 2*n/60, edges, 3)
	for state, list := range stays {
		for _, l := range list {
			require.InDelta(t, map[bool]int{true: 20, false: 40}[state], l, 11)
		}
	}
}

func TestWavesAndStores(t *testing.T) {
	at := func(s signal.Signal, d time.Duration) float64 {
		return s.At(signal.Moment{Key: 4, Seq: 1 + uint64(d/time.Second), Tick: uint64(d / time.Second), Time: noon.Add(d),
			Elapsed: d, Every: time.Second}).Float()
	}
	saw := build(t, "saw", signal.Args{"low": 2.0, "high": 6.0, "period": 4 * time.Second, "together": true})
	assert.Equal(t, []float64{2, 3, 4, 5, 2}, []float64{at(saw, 0), at(saw, time.Second), at(saw, 2*time.Second),
		at(saw, 3*time.Second), at(saw, 4*time.Second)})
	pulse := build(t, "pulse", signal.Args{"period": 10 * time.Second, "width": 3 * time.Second, "top": 5.0})
	mean, _, low, high := stats(series(pulse, 4, 10000))
	assert.InDelta(t, 1.5, mean, 0.01)
	assert.Equal(t, []float64{0, 5}, []float64{low, high})
	steps := build(t, "steps", signal.Args{"levels": []float64{1, 2, 5}, "every": time.Minute, "again": false})
	assert.Equal(t, []float64{1, 2, 5, 5}, []float64{at(steps, 0), at(steps, 90*time.Second), at(steps, 2*time.Minute),
		at(steps, time.Hour)})
	year := build(t, "yearly", signal.Args{"low": 6.0, "high": 18.0, "peak": 171})
	mid := func(month, day int) float64 {
		return year.At(signal.Moment{Time: time.Date(2031, time.Month(month), day, 12, 0, 0, 0, time.UTC)}).Float()
	}
	assert.InDelta(t, 18, mid(6, 21), 1e-6)
	assert.InDelta(t, 6, mid(12, 20), 0.01)

	charge := build(t, "charge", signal.Args{"from": 0.0, "to": 100.0, "per_hour": 40.0})
	assert.InDelta(t, 40, at(charge, time.Hour), 1e-9)
	assert.InDelta(t, 80, at(charge, 2*time.Hour), 1e-9)
	assert.InDelta(t, 100-20*math.Exp(-2), at(charge, 3*time.Hour), 1e-9, "as a capacitor from four fifths on")

	wrap := build(t, "counter", signal.Args{"from": 0.0, "step": 300.0, "wrap": 1000.0})
	assert.Equal(t, []float64{0, 300, 600, 900, 200}, series(wrap, 1, 5))
	down := build(t, "counter", signal.Args{"from": 0.0, "step": -1.0, "wrap": 3.0})
	assert.Equal(t, []float64{0, 2, 1, 0}, series(down, 1, 4))
	reset := series(build(t, "counter", signal.Args{"from": 1.0, "reset": 0.01}), 6, 20000)
	begun := 0
	for i := 1; i < len(reset); i++ {
		if reset[i] != reset[i-1]+1 {
			require.Equal(t, 1.0, reset[i], "it grows by one or begins anew")
			begun++
		}
	}
	assert.InDelta(t, 200, begun, 5*math.Sqrt(200))
	assert.Equal(t, 3.0, at(build(t, "counter", signal.Args{"each_round": true}), 2*time.Second))

	clock := build(t, "clock", signal.Args{"as": "us", "offset": -2 * time.Second, "drift": 100.0})
	m := signal.Moment{Time: noon.Add(time.Hour), Elapsed: time.Hour}
	assert.Equal(t, noon.Add(time.Hour-2*time.Second+360*time.Millisecond).UnixMicro(), clock.At(m).Int())
}

// A device on its way keeps its speed; what its sensors show of its rolling agrees.
func TestMotion(t *testing.T) {
	route := build(t, "route", signal.Args{"points": []quantity.Position{{Lat: 58, Lon: -6}, {Lat: 58.01, Lon: -6},
		{Lat: 58.01, Lon: -6.02}}, "speed": 5.0, "ahead": 100.0})
	place := func(s int) quantity.Position {
		return route.At(signal.Moment{Elapsed: time.Duration(s) * time.Second}).Place()
	}
	assert.InDelta(t, 100, place(0).Distance(quantity.Position{Lat: 58, Lon: -6}), 0.2)
	total := 0.0
	for i := range 2000 {
		d := place(i).Distance(place(i + 1))
		require.LessOrEqual(t, d, 5.2)
		total += d
	}
	assert.InDelta(t, 10000, total, 60, "only the corners and the turns are cut")

	still := build(t, "acceleration", signal.Args{"vibration": 0.0, "tilt": 20.0})
	gyro := build(t, "rotation", signal.Args{"tilt": 20.0, "yaw": 0.0})
	for i := range 1000 {
		m := signal.Moment{Key: uint64(i), Body: 12, Time: noon.Add(time.Duration(i) * 37 * time.Millisecond)}
		a := still.At(m).Axes()
		require.InDelta(t, 9.80665, math.Sqrt(a.X*a.X+a.Y*a.Y+a.Z*a.Z), 1e-9, "gravity keeps its size")
		pitch := math.Asin(-a.X / 9.80665)
		require.LessOrEqual(t, math.Abs(pitch), 20*math.Pi/180+1e-9)
		later := m
		later.Time = m.Time.Add(time.Millisecond)
		b := still.At(later).Axes()
		roll := math.Atan2(a.Y, a.Z)
		// The rate about y is that of the pitch, seen from a body that rolls.
		w := gyro.At(m).Axes()
		dPitch := (math.Asin(-b.X/9.80665) - pitch) / 0.001 * 180 / math.Pi
		require.InDelta(t, dPitch, w.Y*math.Cos(roll)-w.Z*math.Sin(roll), 0.1)
	}
}

func TestRecorded(t *testing.T) {
	values := []signal.Value{signal.OfFloat(1), signal.OfFloat(3), signal.NoValue(), signal.OfFloat(7)}
	rows := build(t, "recorded", signal.Args{"file": &signal.Recording{Values: values}, "column": "x",
		"offset": 2 * time.Second})
	at := func(s signal.Signal, k int) signal.Value {
		return s.At(signal.Moment{Seq: uint64(k + 1), Every: time.Second, Elapsed: time.Duration(k) * time.Second})
	}
	assert.Equal(t, signal.LeftOut, at(rows, 0).Type(), "a hole in the recording is a hole in the messages")
	assert.Equal(t, 7.0, at(rows, 1).Float())
	assert.Equal(t, 1.0, at(rows, 2).Float(), "it begins anew")
	timed := &signal.Recording{Values: []signal.Value{signal.OfFloat(0), signal.OfFloat(10), signal.OfFloat(30)},
		Times: []float64{0, 10, 20}}
	line := build(t, "recorded", signal.Args{"file": timed, "column": "x", "between": "line", "again": false,
		"stretch": 2.0})
	for k, want := range map[int]float64{0: 0, 10: 5, 20: 10, 30: 20, 40: 30, 400: 30} {
		assert.InDelta(t, want, at(line, k).Float(), 1e-9, "after %d s", k)
	}
	hold := build(t, "recorded", signal.Args{"file": timed, "column": "x"})
	assert.Equal(t, []float64{0, 10, 30, 0}, []float64{at(hold, 9).Float(), at(hold, 19).Float(), at(hold, 29).Float(),
		at(hold, 30).Float()})
}

func TestFollow(t *testing.T) {
	f := build(t, "derived", signal.Args{"field": "x", "gain": 2.0, "offset": 1.0, "correlation": 0.6,
		"spread": 3.0}).(signal.Follower)
	x, y := make([]float64, 20000), make([]float64, 20000)
	source := build(t, "normal", signal.Args{"spread": 3.0})
	for i := range x {
		m := signal.Moment{Key: 1, Seq: uint64(i)}
		v := source.At(m)
		m.Key = 2
		x[i], y[i] = v.Float(), f.Follow(m, v).Float()
	}
	mx, sx, _, _ := stats(x)
	my, sy, _, _ := stats(y)
	r := 0.0
	for i := range x {
		r += (x[i] - mx) * (y[i] - my) / float64(len(x)) / sx / sy
	}
	assert.InDelta(t, 0.6, r, 0.03)
	assert.InDelta(t, 1+2*mx, my, 0.2)
}

// Spells hit the share they say, in runs of the length they say.
func TestFinishSpells(t *testing.T) {
	const n = 60000
	f := signal.Finish{Drop: &signal.Drop{Spell: signal.Spell{Chance: 0.05, For: 6 * time.Second}, As: signal.OfInt(-999)},
		Stuck: &signal.Spell{Chance: 0.1, For: 4 * time.Second}, Spike: &signal.Spike{Spell: signal.Spell{Chance: 0.02},
			By: 50}}
	drops, stuck, up, down := 0, 0, 0, 0
	for i := 1; i <= n; i++ {
		m := signal.Moment{Key: 8, Seq: uint64(i), Every: 2 * time.Second}
		if v, hit := f.Dropped(&m); hit {
			require.Equal(t, int64(-999), v.Int())
			drops++
		}
		if back, is := f.Frozen(&m); is {
			stuck++
			require.Less(t, back, uint64(2))
			if before := (signal.Moment{Key: 8, Seq: uint64(i) - back, Every: m.Every}); back > 0 {
				b, also := f.Frozen(&before)
				require.True(t, also && b == 0, "a spell begins at its first message")
			}
		}
		switch f.Apply(m, signal.OfFloat(0)).Float() {
		case 50:
			up++
		case -50:
			down++
		}
	}
	assert.InDelta(t, 0.05*n, drops, 5*math.Sqrt(0.05*n*3))
	assert.InDelta(t, 0.1*n, stuck, 5*math.Sqrt(0.1*n*2))
	assert.InDelta(t, 0.01*n, up, 5*math.Sqrt(0.01*n))
	assert.InDelta(t, 0.01*n, down, 5*math.Sqrt(0.01*n))

	c, err := unit.ParseConversion("Cel to degF")
	require.NoError(t, err)
	two := 2
	g := signal.Finish{Convert: &c, Resolution: 0.5, Digits: &two}
	v := g.Apply(signal.Moment{}, signal.OfFloat(21.3))
	assert.Equal(t, 70.5, v.Float())
	assert.Equal(t, 2, v.Digits())
	assert.Equal(t, "12.50", (&signal.Finish{}).Apply(signal.Moment{}, signal.OfFloat(12.5).Written("12.50")).Literal())
}

// Any order has every place once, and other keys have other orders.
func TestOrder(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n, key := rapid.Uint64Range(1, 300).Draw(t, "n"), rapid.Uint64().Draw(t, "key")
		seen := map[uint64]bool{}
		for i := range n {
			p := signal.Order(key, i, n)
			require.Less(t, p, n)
			seen[p] = true
		}
		require.Len(t, seen, int(n))
	})
	first := make([]int, 10)
	for key := range uint64(20000) {
		first[signal.Order(key, 3, 10)]++
	}
	for _, k := range first {
		assert.InDelta(t, 2000, k, 5*math.Sqrt(1800))
	}
}

func TestWrongParametersOfTheLibrary(t *testing.T) {
	for _, c := range []struct {
		name string
		args signal.Args
		says string
	}{
		{"walk", signal.Args{"low": 2.0, "high": 1.0}, "low 2 is not below high 1"},
		{"walk", signal.Args{"start": 5.0, "high": 1.0}, "start 5 lies outside the bounds"},
		{"states", signal.Args{"of": []signal.State{{Name: "a", To: []signal.Transition{{To: "b", Share: 0.5}}}}},
			`goes to "b", which is no state`},
		{"states", signal.Args{"of": []signal.State{{Name: "a", To: []signal.Transition{{To: "b", Share: 0.5},
			{To: "b", Share: 0.6}}}, {Name: "b"}}}, "add up to more than 100%"},
		{"text", signal.Args{"pattern": "[a"}, "is not a regular expression: missing closing ]"},
		{"text", signal.Args{"pattern": "[a-z]{1000}[0-9]{9}"}, "may become longer than 1000 letters"},
		{"choice", signal.Args{"of": []signal.Value{signal.OfInt(1)}, "weights": []float64{1, 2}}, "weights must be as " +
			"many as the values: 1, not 2"},
		{"pulse", signal.Args{"period": time.Second, "width": time.Minute}, "width 1m must lie between zero and the period " +
			"of 1s"},
		{"route", signal.Args{"points": []quantity.Position{{Lat: 1}}}, "points must be at least two positions, not 1"},
		{"counter", signal.Args{"wrap": 0.0}, "wrap must be above zero"},
		{"derived", signal.Args{"field": "x", "lag": -time.Second}, "cannot run ahead"},
		{"charge", signal.Args{"from": 3.0, "to": 2.0}, "to 2 is below from 3"},
	} {
		spec, _ := signal.Find(c.name)
		_, err := spec.Make(c.args)
		assert.ErrorContains(t, err, c.says, c.name)
	}
}
