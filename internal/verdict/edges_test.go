package verdict

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"runcrowd/internal/evidence"
	"runcrowd/internal/ledger"
)

// What decides at the edge of a comparison.
func TestComparisonsAtTheirEdges(t *testing.T) {
	list := func(text string) any {
		var v any
		d := json.NewDecoder(strings.NewReader(text))
		d.UseNumber()
		assert.NoError(t, d.Decode(&v))
		return v
	}
	for _, c := range []struct {
		sent, found, note string
		tolerance         float64
		same              bool
	}{
		{sent: `[1,2]`, found: `[1,2]`, same: true},
		{sent: `[1,2]`, found: `[1,3]`},
		{sent: `[1,2]`, found: `[2,2]`},
		{sent: `{"a":[true]}`, found: `{"a":[true],"b":1}`, same: true},
		{sent: `{"a":[true]}`, found: `{"a":[false]}`, note: "a"},
		{sent: `1e400`, found: `5`},
		{sent: `5`, found: `1e400`},
		{sent: `1`, found: `1e99999999999999999999`, tolerance: 0.1},
		{sent: `1e99999999999999999999`, found: `1`, tolerance: 0.1},
		{sent: `1`, found: `1.10`, tolerance: 0.1, same: true},
		{sent: `1`, found: `1.11`, tolerance: 0.1},
		{sent: `1`, found: `1.0`, same: true},
		{sent: `0.1234567894`, found: `0.123456789`, note: "rounded"},
		{sent: `0.12345678944`, found: `0.1234567894`},
		{sent: `"2030-06-01T00:00:00Z"`, found: `"2030-06-01T14:00:00Z"`, note: "moved by 14h0m0s: another time zone"},
		{sent: `"2030-06-01T00:00:00Z"`, found: `"2030-06-01T14:15:00Z"`, note: "another time, 14h15m0s later"},
		{sent: `"2030-06-01T14:00:00Z"`, found: `"2030-06-01T00:00:00Z"`, note: "moved by -14h0m0s: another time zone"},
	} {
		note, same := compare(list(c.sent), list(c.found), c.tolerance, "")
		if assert.Equal(t, c.same, same, "%s as %s: %s", c.sent, c.found, note); c.note != "" {
			assert.Equal(t, c.note, note, "%s as %s", c.sent, c.found)
		} else {
			assert.NotContains(t, note, "times as much", "%s as %s", c.sent, c.found)
			assert.NotContains(t, note, "rounded", "%s as %s", c.sent, c.found)
		}
	}
	nested := map[string]any{"a": map[string]any{"b": 1}, "c.d": 2, "e": 3}
	for path, want := range map[string]any{"a.b": 1, "c.d": 2, "e": 3, "a.x": nil, "e.f": nil, "x": nil, "x.y": nil} {
		v, there := at(nested, path)
		assert.Equal(t, want, v, path)
		assert.Equal(t, want != nil, there, path)
	}
	for text, want := range map[string]bool{"lat lon": true, "x y z": true, "lat x": false, "x lon": false, "x y a": false,
		"x a z": false, "a y z": false, "lat lon x": false, "x y": false, "": false} {
		m := map[string]any{}
		for _, name := range strings.Fields(text) {
			m[name] = 1
		}
		assert.Equal(t, want, oneValue(m), text)
	}
	for found, want := range map[string]bool{`{"a":1}`: true, `{"m":"x","a":1}`: true, `{m":"x","a":1}`: false, `{"m":"x" ,"a":1}`: false,
		`{"m":"x"."a":1}`: false, `{"m":1,"a":1}`: false, `{"\u006d":"x","a":1}`: false, `{"m":"x\\","a":1}`: false, `{"a":"x","a":1}`: false} {
		assert.Equal(t, want, untouched([]byte(`{"a":1}`), []byte(found)), found)
	}
	assert.False(t, untouched([]byte(`{"\u0061":1}`), []byte(`{"a":"x","\u0061":1}`)), "the name stands there in another way")
	assert.Equal(t, strings.Repeat("ä", 100), clip(strings.Repeat("ä", 100)))
	assert.Equal(t, strings.Repeat("ä", 100)+"…", clip(strings.Repeat("ä", 101)))
}

// What of several states weighs most; those of what was found otherwise weigh alike.
func TestStatesAtTheirEdges(t *testing.T) {
	for _, c := range []struct {
		s, than State
		worse   bool
	}{
		{FoundLate, FoundRepeated, false}, {FoundAltered, FoundLate, false}, {FoundLate, FoundAltered, false},
		{NotFound, FoundLate, true}, {NotFound, FoundAltered, true}, {FoundLate, NotFound, false}, {FoundLate, Found, true},
		{Found, FoundLate, false}, {FoundLate, NotHeard, true}, {NotHeard, FoundLate, false}, {FoundAltered, NotHeard, true},
	} {
		assert.Equal(t, c.worse, c.s.Worse(c.than), "%s than %s", c.s, c.than)
	}
	assert.False(t, Dropped.Counts())
	assert.True(t, Proven.Counts())
	assert.True(t, Lost.Counts())
}

// What a clock says of rows under a wrong time, and how many it names.
func TestWrongTimesAreNamed(t *testing.T) {
	k := Clock{timed: 100}
	assert.Empty(t, k.says())
	k.name("buoy-1", "state", 1, time.Minute)
	assert.Equal(t, []string{"1 row is filed under a wrong time, and when it was stored is not known: buoy-1 state #1 1m0s too late"}, k.says())
	k.name("buoy-1", "state", 2, -time.Minute)
	assert.Equal(t, []string{"2 rows are filed under a wrong time, and when it was stored is not known: buoy-1 state #1 1m0s too late, " +
		"buoy-1 state #2 1m0s too early"}, k.says())
	k.name("buoy-1", "state", 3, 0)
	k.name("buoy-1", "state", 4, 0)
	assert.Len(t, k.examples, mostOff)
	assert.Equal(t, 4, k.Off)
	assert.Contains(t, k.says()[0], "#3 0s too late")

	a, b := Clock{timed: 2, looked: 3, echoes: 1, unit: time.Second}, Clock{timed: 4, looked: 5, echoes: 2}
	a.join(&b)
	assert.Equal(t, []int{6, 8, 3}, []int{a.timed, a.looked, a.echoes})
	assert.Zero(t, a.unit)

	clocks := make([]Clock, 1)
	for i := range echoLook + 5 {
		addClocks(clocks, &evidence.Case{Known: true, Seq: uint64(i + 1), Sent: after(0), Sightings: []evidence.Sighting{{Seen: after(1), Stored: after(1)}}})
	}
	assert.Equal(t, []int{echoLook + 5, echoLook}, []int{clocks[0].timed, clocks[0].looked})
	told := []Clock{{of: ledger.TimeOfPlatform}}
	addClocks(told, &evidence.Case{Known: true, Sent: after(0), Sightings: []evidence.Sighting{{Seen: after(1), Stored: after(1)}}})
	assert.Zero(t, told[0].looked, "whose times they are is said")
}

// A gap ends what it swallowed, and no other; each that may have is told. What a ledger names that is not there
// is nothing.
func TestGapsAtTheirEdges(t *testing.T) {
	f := &ledger.Facts{Streams: []ledger.Stream{{Device: "a", Unseen: []int{-1, 1, 7}}}, Witnesses: []ledger.Witness{{Wait: time.Minute,
		Gaps: []ledger.Gap{{From: after(time.Second), To: after(2 * time.Second)}, {From: after(3 * time.Second), To: after(4 * time.Second)},
			{From: after(time.Hour), To: after(2 * time.Hour)}}}}}
	f.Actions.Breaks = map[int][]ledger.Break{0: {{}}, 1: {{}}, 9: {{}}}
	s := NewSurvey(f)
	s.Add(&evidence.Case{Known: true, Stream: 0, Seq: 1, Sent: after(0), At: after(1), Outcome: 0})
	j := NewJudge(s)
	assert.Equal(t, []bool{false}, j.excluded[0][:1])
	assert.Len(t, j.breaks, 1)
	s.Add(&evidence.Case{Known: true, Stream: 1, Seq: 1})
	assert.NotNil(t, s.Clock(0, 1), "of a stream that is not there")
	g := newGaps(f.Witnesses[0].Gaps)
	var met []int
	assert.False(t, g.each(after(0), after(10*time.Second), func(i int) bool { met = append(met, i); return false }))
	assert.Equal(t, []int{1, 0}, met)
	assert.True(t, g.each(after(0), after(10*time.Second), func(i int) bool { return i == 0 }))
	assert.False(t, g.each(after(5*time.Second), after(10*time.Second), func(int) bool { return true }))
}
