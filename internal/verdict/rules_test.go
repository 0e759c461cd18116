package verdict

import (
	"encoding/json"
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"runcrowd/internal/evidence"
	"runcrowd/internal/ledger"
	"runcrowd/internal/outcome"
)

// A message that must not get in, and what is known of it.
func TestWhatIsKeptOut(t *testing.T) {
	refuse, discard := ledger.ToRefuse, ledger.ToDiscard
	for name, c := range map[string]struct {
		meant ledger.Meant
		out   outcome.Outcome
		more  func(*kept)
		want  Verdict
	}{
		"refused":                              {refuse, outcome.Refused, nil, Proven},
		"refused, and nobody looks":            {refuse, outcome.Refused, func(k *kept) { k.sees = 0 }, Proven},
		"refused before it went out":           {refuse, outcome.Refused, func(k *kept) { k.Attempts = 0 }, Proven},
		"refused, yet found":                   {refuse, outcome.Refused, func(k *kept) { k.found = true }, LetIn},
		"refused, and a witness was not heard": {refuse, outcome.Refused, func(k *kept) { k.unheard = true }, Unknown},
		"taken":                                {refuse, outcome.Accepted, nil, LetIn},
		"taken, to be discarded":               {discard, outcome.Accepted, nil, Proven},
		"taken, to be discarded, yet found":    {discard, outcome.Accepted, func(k *kept) { k.found = true }, LetIn},
		"taken, and nobody looks":              {discard, outcome.Accepted, func(k *kept) { k.sees = 0 }, Unknown},
		"QoS 0, to be refused":                 {refuse, outcome.NotAsked, nil, Unknown},
		"QoS 0, to be discarded":               {discard, outcome.NotAsked, nil, Proven},
		"QoS 0, and nobody looks":              {discard, outcome.NotAsked, func(k *kept) { k.sees = 0 }, Unknown},
		"QoS 0, a witness was not heard":       {discard, outcome.NotAsked, func(k *kept) { k.unheard = true }, Unknown},
		"no answer":                            {refuse, outcome.NoAnswer, nil, Unanswered},
		"no answer, to be discarded":           {discard, outcome.NoAnswer, nil, Unanswered},
		"still open":                           {refuse, outcome.Open, nil, Unanswered},
		"still open when it was killed":        {refuse, outcome.Open, func(k *kept) { k.open = true }, Unknown},
		"unsent":                               {refuse, outcome.Unsent, nil, Unsent},
		"never tried":                          {refuse, outcome.NoAnswer, func(k *kept) { k.Attempts = 0 }, Unsent},
		"dropped by the device":                {refuse, outcome.Dropped, nil, Dropped},
	} {
		k := kept{Case: &evidence.Case{Meant: c.meant, Outcome: c.out, Attempts: 1}, sees: 1}
		if c.more != nil {
			c.more(&k)
		}
		assert.Equal(t, c.want.String(), k.verdict().String(), name)
	}
}

// What the platform answered, and what witnesses say, to the one verdict.
func TestOneVerdict(t *testing.T) {
	says := func(list ...State) func(*heard) {
		return func(h *heard) {
			for _, s := range list {
				h.says[s] = true
				h.found = h.found || s != NotFound && s != NotHeard
			}
		}
	}
	for name, c := range map[string]struct {
		out    outcome.Outcome
		more   func(*heard)
		want   Verdict
		answer State
	}{
		"acknowledged and found":             {outcome.Accepted, says(Found), Proven, Found},
		"not found by one":                   {outcome.Accepted, says(Found, NotFound), Lost, Found},
		"lost weighs more than altered":      {outcome.Accepted, says(FoundAltered, NotFound), Lost, Found},
		"altered weighs more than misfiled":  {outcome.Accepted, says(FoundAltered, FoundMisfiled), Altered, Found},
		"misfiled weighs more than repeated": {outcome.Accepted, says(FoundMisfiled, FoundRepeated), Misfiled, Found},
		"repeated weighs more than late":     {outcome.Accepted, says(FoundLate, FoundRepeated), Repeated, Found},
		"late weighs more than doubt":        {outcome.Accepted, says(FoundLate, InDoubt, NotHeard), Late, Found},
		"doubt is no proof":                  {outcome.Accepted, says(Found, InDoubt), Unknown, Found},
		"a witness not heard is no proof":    {outcome.Accepted, says(Found, NotHeard), Unknown, Found},
		"QoS 0, nobody looks":                {outcome.NotAsked, func(h *heard) { h.sees = 0 }, Unknown, Unasked},
		"QoS 0, found":                       {outcome.NotAsked, says(Found), Proven, Unasked},
		"acknowledged, nobody looks":         {outcome.Accepted, func(h *heard) { h.sees = 0 }, Proven, Found},
		"open when it was killed": {outcome.Open, func(h *heard) { h.open = true; says(Found)(h) }, Unknown,
			NotHeard},
		"open, and not found": {outcome.Open, func(h *heard) { h.open = true; says(NotFound)(h) }, Unknown,
			NotHeard},
		"open, and altered": {outcome.Open, func(h *heard) { h.open = true; says(FoundAltered)(h) },
			Altered, NotHeard},
		"refused":                      {outcome.Refused, says(NotFound), Refused, NotFound},
		"refused, yet found":           {outcome.Refused, says(Found), Unacknowledged, NotFound},
		"refused, a witness not heard": {outcome.Refused, says(NotHeard), Refused, NotFound},
		"no answer, found altered":     {outcome.NoAnswer, says(FoundAltered), Unacknowledged, NotFound},
		"no answer, nowhere":           {outcome.NoAnswer, says(NotFound), Unanswered, NotFound},
		"no answer, not heard":         {outcome.NoAnswer, says(NotHeard), Unknown, NotFound},
		"unsent":                       {outcome.Unsent, says(NotFound), Unsent, NotFound},
		"unsent, a witness not heard":  {outcome.Unsent, says(NotHeard), Unsent, NotFound},
		"never tried": {outcome.NoAnswer, func(h *heard) { h.Attempts = 0; says(NotFound)(h) },
			Unsent, NotFound},
		"dropped":            {outcome.Dropped, says(NotFound), Dropped, NotFound},
		"dropped, yet found": {outcome.Dropped, says(Found), Unacknowledged, NotFound},
	} {
		h := heard{Case: &evidence.Case{Outcome: c.out, Attempts: 1}, sees: 1}
		c.more(&h)
		assert.Equal(t, c.want.String(), h.verdict().String(), name)
		assert.Equal(t, c.answer, h.answer(false), name)
	}
	h := heard{Case: &evidence.Case{Outcome: outcome.Accepted}}
	assert.Equal(t, Unasked, h.answer(true), "QoS 0 gives no acknowledgement")
}

// Of two witnesses of one proof, the worse tells; what is wrong with what was found weighs
// alike.
func TestWorse(t *testing.T) {
	order := []State{Unasked, Found, InDoubt, NotHeard, FoundLate, NotFound}
	for i, a := range order {
		for k, b := range order {
			assert.Equal(t, i > k, a.Worse(b), "%s and %s", a, b)
		}
	}
	wrong := []State{FoundLate, FoundRepeated, FoundMisfiled, FoundAltered}
	for _, a := range wrong {
		for _, b := range wrong {
			assert.False(t, a.Worse(b), "%s and %s", a, b)
		}
		assert.True(t, a.Worse(NotHeard))
		assert.False(t, a.Worse(NotFound))
		assert.True(t, NotFound.Worse(a))
	}
}

var zero = time.Date(2030, 1, 2, 3, 4, 5, 0, time.UTC)

func after(d time.Duration) time.Time { return zero.Add(d) }

// How long a message took, by two clocks that differ by something between two bounds.
func TestDelays(t *testing.T) {
	const s, ms = time.Second, time.Millisecond
	for name, c := range map[string]struct {
		offset             ledger.Offset
		unit, stored, seen time.Duration // after it was sent; stored 0: it is not told
		took, least, most  time.Duration
	}{
		"heard":                    {ledger.Offset{}, 0, 0, 3 * s, 3 * s, 3 * s, 3 * s},
		"heard before it was sent": {ledger.Offset{}, 0, 0, -3 * s, 0, 0, 0},
		"clocks that agree":        {ledger.Offset{}, 0, s, 3 * s, s, s, s},
		"clocks that may agree": {ledger.Offset{Least: -100 * ms, Most: 100 * ms}, 0, s, 3 * s, s, 900 * ms,
			1100 * ms},
		"a clock ahead":                 {ledger.Offset{Least: 2 * s, Most: 2 * s}, 0, 3 * s, 9 * s, s, s, s},
		"a clock ahead by 1 to 2 s":     {ledger.Offset{Least: s, Most: 2 * s}, 0, 3 * s, 9 * s, 2 * s, s, 2 * s},
		"a clock behind by 1 to 2 s":    {ledger.Offset{Least: -2 * s, Most: -s}, 0, s, 9 * s, 2 * s, 2 * s, 3 * s},
		"never longer than it was seen": {ledger.Offset{Least: -9 * s, Most: 9 * s}, 0, s, 3 * s, s, 0, 3 * s},
		"a time in whole seconds":       {ledger.Offset{}, s, s, 9 * s, s, s, 2 * s},
		"clocks that fit no time":       {ledger.Offset{Least: s, Most: -s}, 0, s, 3 * s, 3 * s, 0, 3 * s},
	} {
		k := Clock{Offset: c.offset, unit: c.unit, timed: 1}
		x := &evidence.Sighting{Seen: after(c.seen)}
		if c.stored != 0 {
			x.Stored = after(c.stored)
		}
		assert.Equal(t, Delay{c.took, c.least, c.most}, k.delay(zero, x), name)
	}
	d := Delay{Took: 2 * s, Least: s, Most: 3 * s}
	assert.Equal(t, []State{Found, InDoubt, InDoubt, FoundLate},
		[]State{d.inTime(3 * s), d.inTime(3*s - 1), d.inTime(s), d.inTime(s - 1)})
}

// What was there long before is read when this process goes on: a delay over a time in which
// it stood still may be shorter by as much.
func TestDelaysOfAProcessThatStoodStill(t *testing.T) {
	const s = time.Second
	still := []ledger.Still{{From: after(10 * s), To: after(12 * s)}, {From: after(20 * s), To: after(25 * s)}}
	for name, c := range map[string]struct{ from, to, least time.Duration }{
		"before":          {1 * s, 9 * s, 8 * s},
		"up to it":        {1 * s, 10 * s, 9 * s},
		"into it":         {9 * s, 11 * s, 1 * s},
		"out of it":       {11 * s, 14 * s, 2 * s},
		"within it":       {21 * s, 23 * s, 0},
		"over it":         {9 * s, 14 * s, 3 * s},
		"over both":       {9 * s, 30 * s, 14 * s},
		"between the two": {12 * s, 20 * s, 8 * s},
	} {
		v := &Survey{facts: &ledger.Facts{Still: still}}
		assert.Equal(t, Delay{c.to - c.from, c.least, c.to - c.from}, v.DelayOf(after(c.from), after(c.to)), name)
	}
}

// A few rows under a wrong time are no other clock: each says so of itself, and of no other.
func TestRowsUnderAWrongTime(t *testing.T) {
	const ms = time.Millisecond
	for name, c := range map[string]struct {
		good, wrong int
		by, unit    time.Duration
		off         int
		tells       bool
	}{
		"none":                     {100, 0, 0, 1, 0, true},
		"an hour later":            {98, 2, time.Hour, 1, 2, true},
		"an hour earlier":          {98, 2, -time.Hour, 1, 2, true},
		"told in milliseconds":     {98, 2, -time.Hour, time.Millisecond, 2, true},
		"told in seconds":          {98, 2, time.Hour, time.Second, 2, true},
		"a clock that was set":     {60, 40, time.Hour, 1, 0, false},
		"earlier than it was sent": {99, 1, -50 * ms, 1, 1, true},
	} {
		clocks := make([]Clock, 1)
		var cases []*evidence.Case
		for i := range c.good + c.wrong {
			sent := after(time.Duration(i) * 137 * ms)
			stored := sent.Add(3 * ms)
			if i%(c.good+c.wrong) < c.wrong { // the first ones: nothing is known yet
				stored = stored.Add(c.by)
			}
			cases = append(cases, &evidence.Case{Known: true, Seq: uint64(i + 1), Sent: sent,
				Sightings: []evidence.Sighting{{Seen: sent.Add(20 * ms), Stored: stored.Truncate(c.unit)}}})
			addClocks(clocks, cases[i])
		}
		// The clock that answers may be another than that which files: it calls no row wrong.
		finishClocks(clocks, &ledger.Facts{Witnesses: []ledger.Witness{{Clock: &ledger.Offset{Least: 4 * ms, Most: time.Second}}}})
		assert.Equal(t, c.tells, clocks[0].tells(), name)
		off := 0
		for i, x := range cases {
			by, is := clocks[0].off(x.Sent, &x.Sightings[0])
			if is {
				off++
				assert.Equal(t, c.by > 0, by > 0, name)
				assert.Equal(t, Delay{20 * ms, 0, 20 * ms}, clocks[0].delay(x.Sent, &x.Sightings[0]), "%s: #%d is known as far "+
					"as it was seen", name, i+1)
			}
		}
		assert.Equal(t, c.off, off, name)
	}
}

// Of a few rows, one that is filed too early could be the clock's word, and all others late: it accuses none.
func TestAFewRowsOneOfThemTooEarly(t *testing.T) {
	const ms, s = time.Millisecond, time.Second
	for name, c := range map[string]struct {
		rows  int
		early time.Duration // by which one is filed too early
		late  time.Duration // how late another is
		told  *ledger.Offset
		of    [3]State // the early one, the late one, and one more
	}{
		"none":                     {rows: 6, of: [3]State{InDoubt, InDoubt, InDoubt}},
		"one too early":            {rows: 6, early: 20 * s, of: [3]State{InDoubt, InDoubt, InDoubt}},
		"one late":                 {rows: 6, late: 2 * s, of: [3]State{InDoubt, FoundLate, InDoubt}},
		"one each":                 {rows: 6, early: 20 * s, late: 2 * s, of: [3]State{InDoubt, FoundLate, InDoubt}},
		"one each of many":         {rows: 30, early: 20 * s, late: 2 * s, of: [3]State{InDoubt, FoundLate, InDoubt}},
		"the platform says so":     {rows: 6, late: 2 * s, told: &ledger.Offset{Least: -ms, Most: ms}, of: [3]State{Found, FoundLate, Found}},
		"its clock is behind":      {rows: 3, early: 0, told: &ledger.Offset{Least: -20 * s, Most: -20 * s}, of: [3]State{FoundLate, FoundLate, FoundLate}},
		"and that many rows agree": {rows: 30, told: &ledger.Offset{Least: -ms, Most: ms}, of: [3]State{Found, Found, Found}},
	} {
		clocks := make([]Clock, 1)
		var cases []*evidence.Case
		for i := range c.rows {
			sent := after(time.Duration(i) * 137 * ms)
			stored := sent.Add(3*ms + 1 - map[int]time.Duration{0: c.early, 1: -c.late}[i])
			cases = append(cases, &evidence.Case{Known: true, Seq: uint64(i + 1), Sent: sent,
				Sightings: []evidence.Sighting{{Seen: sent.Add(40 * s), Stored: stored}}}) // they were looked for much later
			addClocks(clocks, cases[i])
		}
		finishClocks(clocks, &ledger.Facts{Witnesses: []ledger.Witness{{Clock: c.told}}})
		for i, want := range c.of {
			assert.Equal(t, want, clocks[0].delay(cases[i].Sent, &cases[i].Sightings[0]).inTime(1500*ms), "%s: row %d", name, i)
		}
	}
}

// What many messages tell of a clock.
func TestWhatClocksTell(t *testing.T) {
	sighting := func(sent, stored, seen time.Duration) *evidence.Case {
		return &evidence.Case{Known: true, Sent: after(sent), Sightings: []evidence.Sighting{{Seen: after(seen),
			Stored: after(stored)}}}
	}
	const s, ms = time.Second, time.Millisecond
	for name, c := range map[string]struct {
		cases []*evidence.Case
		told  *ledger.Offset
		want  ledger.Offset
		unit  time.Duration
	}{
		"one message": {[]*evidence.Case{sighting(0, s+1, 3*s)}, nil,
			ledger.Offset{Least: -2*s + 1, Most: s + 1}, 0},
		"two narrow it": {[]*evidence.Case{sighting(0, s+1, 3*s), sighting(0, ms+1, 9*s),
			sighting(0, 2*s+1, 3*s)}, nil, ledger.Offset{Least: -s + 1, Most: ms + 1}, 0},
		"whole seconds are cut": {[]*evidence.Case{sighting(0, s, 3*s), sighting(0, 2*s, 4*s)}, nil,
			ledger.Offset{Least: -2 * s, Most: 2 * s}, s},
		"whole milliseconds": {[]*evidence.Case{sighting(0, s, 3*s), sighting(0, s+5*ms, 4*s)}, nil,
			ledger.Offset{Least: -2 * s, Most: s + ms}, ms},
		"microseconds are no unit": {[]*evidence.Case{sighting(0, s+time.Microsecond, 3*s)}, nil,
			ledger.Offset{Least: -2*s + time.Microsecond, Most: s + time.Microsecond}, 0},
		"it tells its clock": {[]*evidence.Case{sighting(0, s+1, 3*s)}, &ledger.Offset{Least: -ms, Most: ms},
			ledger.Offset{Least: -ms, Most: ms}, 0},
		"and that narrows less": {[]*evidence.Case{sighting(0, s+1, 3*s)}, &ledger.Offset{Least: -9 * s, Most: 0},
			ledger.Offset{Least: -2*s + 1, Most: 0}, 0},
		"and that fits": {[]*evidence.Case{sighting(0, s+1, 3*s)}, &ledger.Offset{Least: s + 1, Most: 5 * s},
			ledger.Offset{Least: s + 1, Most: s + 1}, 0},
		"and that is another": {[]*evidence.Case{sighting(0, s+1, 3*s)}, &ledger.Offset{Least: 5 * s, Most: 6 * s},
			ledger.Offset{Least: -2*s + 1, Most: s + 1}, 0},
	} {
		f := &ledger.Facts{Witnesses: []ledger.Witness{{Clock: c.told}}}
		clocks := make([]Clock, 1)
		for _, x := range c.cases {
			addClocks(clocks, x)
		}
		// None of these tells anything.
		addClocks(clocks, &evidence.Case{Sent: zero, Sightings: []evidence.Sighting{{Seen: zero,
			Stored: after(9 * time.Hour)}}})
		addClocks(clocks, &evidence.Case{Known: true, Sightings: []evidence.Sighting{{Seen: zero,
			Stored: after(9 * time.Hour)}}})
		addClocks(clocks, &evidence.Case{Known: true, Sent: zero,
			Sightings: []evidence.Sighting{{Seen: zero}, {Witness: 1, Stored: zero}, {Witness: -1, Stored: zero}}})
		finishClocks(clocks, f)
		assert.Equal(t, c.want, clocks[0].Offset, name)
		assert.Equal(t, c.unit, clocks[0].unit, name)
	}
	clocks := make([]Clock, 1)
	for i := range echoLook + 5 { // of many, the first are looked at
		text := fmt.Sprintf(`{"t":%d}`, after(time.Duration(i)*s+1).UnixNano())
		if i >= echoLook {
			text = `{"t":1}`
		}
		b := &ledger.Book{Facts: ledger.Facts{Streams: make([]ledger.Stream, 1), Witnesses: make([]ledger.Witness, 1)},
			Messages:  [][]ledger.Message{{{Seq: 1, Sent: zero, Carried: []byte(text)}}},
			Sightings: []ledger.Sighting{{Seq: 1, Seen: after(time.Hour), Stored: after(time.Duration(i)*s + 1)}}}
		assert.NoError(t, evidence.Of(b, nil).Cases(func(c *evidence.Case) error { addClocks(clocks, c); return nil }))
	}
	assert.Equal(t, echoLook, clocks[0].echoes)
	assert.True(t, clocks[0].echoed())
	var none Clock
	assert.Empty(t, none.says())
	for want, k := range map[string]Clock{
		"its clock is ahead of ours by 1s to 2s": {Offset: ledger.Offset{Least: s, Most: 2 * s},
			timed: 1},
		"its clock is behind ours by 1s to 2s": {Offset: ledger.Offset{Least: -2 * s, Most: -s},
			timed: 1},
		"some are 1s after a message was seen here, others 2s before": {Offset: ledger.Offset{Least: s, Most: -2 * s},
			timed: 1},
	} {
		if says := k.says(); assert.Len(t, says, 1, want) {
			assert.Contains(t, says[0], want)
		}
	}
	for _, k := range []Clock{{Offset: ledger.Offset{Least: 0, Most: s}, timed: 9},
		{Offset: ledger.Offset{Least: -s, Most: 0}, timed: 9}, {timed: 2, looked: 2, echoes: 1}} {
		assert.Empty(t, k.says(), "%+v", k)
	}
}

// Whose time rows tell is found for each reading: of one it may be the device's, and of another
// the platform's, which alone says how the clocks differ.
func TestWhoseTimeOfEachReading(t *testing.T) {
	const s = time.Second
	store := ledger.Witness{Name: "store"}
	f := &ledger.Facts{Witnesses: []ledger.Witness{store}, Streams: []ledger.Stream{{Kind: "buoy", Reading: "state"},
		{Kind: "buoy", Reading: "level"}, {Kind: "mast", Reading: "state"}, {Kind: "buoy", Reading: "state"}}}
	survey := NewSurvey(f)
	row := func(stream, i int, text string, told time.Duration) *evidence.Case {
		b := &ledger.Book{Facts: *f, Messages: make([][]ledger.Message, 4)}
		b.Messages[stream] = []ledger.Message{{Seq: 1, Sent: after(time.Duration(i) * s), Carried: []byte(text)}}
		b.Sightings = []ledger.Sighting{{Stream: stream, Seq: 1, Seen: after(time.Duration(i)*s + 6*s), Stored: after(told)}}
		var found *evidence.Case
		assert.NoError(t, evidence.Of(b, nil).Cases(func(c *evidence.Case) error {
			if c.Known {
				survey.Add(c)
				x := *c
				x.Sightings = slices.Clone(c.Sightings)
				found = &x
			}
			return nil
		}))
		return found
	}
	var own, device *evidence.Case
	for i := range 30 { // a row in three is filed under the time in the message
		at := time.Duration(i) * s
		own = row(0, i, "{}", at+5*s+1)
		row(2, i, "{}", at+5*s+1)
		device = row(1, i, fmt.Sprintf(`{"t":%d}`, after(at+1).UnixNano()), at+1)
	}
	survey.Finish()
	assert.True(t, survey.Clock(0, 0).Own())
	assert.True(t, survey.Clock(0, 3).Own())
	assert.False(t, survey.Clock(0, 1).Own(), "a third of all rows, and all of this reading")
	assert.Equal(t, ledger.Offset{Least: -s + 1, Most: 5*s + 1}, survey.Clock(0, 2).Offset)
	assert.Equal(t, 5*s+1, survey.Clock(0, 0).delay(own.Sent, &own.Sightings[0]).Took)
	assert.Equal(t, Delay{6 * s, 0, 6 * s}, survey.Clock(0, 1).delay(device.Sent, &device.Sightings[0]))
	says := survey.ClockSays(0)
	if assert.Len(t, says, 1) {
		assert.Contains(t, says[0], "of level: the time that it tells is that of the field t, which the device sent")
	}
}

// A time that the message itself carried is known as such, wherever and however precisely.
func TestEchoes(t *testing.T) {
	x := zero.Add(123_456_789)
	due := zero.Add(-time.Hour)
	for _, c := range []struct {
		carried string
		at      time.Time
		field   string // "": none; "due": it was due then
	}{
		{`{"a":1,"t":"2030-01-02T03:04:05.123456789Z"}`, x, "t"}, {`{"t":"2030-01-02T04:04:05.123456789+01:00"}`, x, "t"},
		{`{"t":"2030-01-02T03:04:05.123Z"}`, x, ""},
		{fmt.Sprintf(`{"t":%d}`, x.UnixNano()), x, "t"}, {fmt.Sprintf(`{"t":%d}`, x.UnixMicro()), x, ""},
		{fmt.Sprintf(`{"t":%d}`, x.UnixMicro()), x.Truncate(time.Microsecond), "t"},
		{fmt.Sprintf(`{"t":%d}`, x.UnixNano()), x.Truncate(time.Millisecond), "t"},
		{fmt.Sprintf(`{"t":%d}`, x.UnixNano()), x.Round(time.Microsecond), "t"},
		{fmt.Sprintf(`{"t":%d}`, x.UnixMilli()), x.Truncate(time.Second), "t"},
		{fmt.Sprintf(`{"t":%d}`, x.Unix()), x.Truncate(time.Minute), "t"}, {`{"t":1893553445.123456789}`, x, "t"},
		{`{"t":"1893553445123"}`, x.Truncate(time.Millisecond), "t"},
		{fmt.Sprintf(`{"e":[{"n":"a"},{"deep":{"t":%d}}]}`, x.UnixMilli()), x.Truncate(time.Millisecond), "e.1.deep.t"},
		{fmt.Sprintf(`{"t":%d}`, x.Unix()+1), x, ""}, {`{}`, x, ""}, {`null`, x, ""}, {`{}`, due, "due"},
		{`null`, due.Truncate(time.Minute), "due"},
	} {
		field, is := echo([]byte(c.carried), due, c.at)
		assert.Equal(t, c.field != "", is, "%s %s", c.carried, c.at)
		if c.field != "due" {
			assert.Equal(t, c.field, field, "%s %s", c.carried, c.at)
		}
	}
	_, is := echo([]byte(`{}`), time.Time{}, time.Time{})
	assert.False(t, is, "when it was due is not known")
	for name, c := range map[string]struct {
		k    Clock
		echo bool
	}{
		"none was looked at":            {Clock{}, false},
		"one of one":                    {Clock{looked: 1, echoes: 1}, true},
		"most":                          {Clock{looked: 9, echoes: 5}, true},
		"half":                          {Clock{looked: 10, echoes: 5}, false},
		"the file says: the device's":   {Clock{looked: 10, of: ledger.TimeOfDevice}, true},
		"the file says: the platform's": {Clock{looked: 10, echoes: 10, of: ledger.TimeOfPlatform}, false},
	} {
		assert.Equal(t, c.echo, c.k.echoed(), name)
		assert.Equal(t, !c.echo, c.k.tells(), name)
		assert.Equal(t, !c.echo, c.k.Own(), name)
	}
	assert.False(t, (&Clock{Offset: ledger.Offset{Least: 1}}).tells(), "no clock is ahead by more than by what it is at "+
		"most")
	assert.Empty(t, (&Clock{of: ledger.TimeOfDevice, timed: 5}).says(), "the file said so itself")
}

// Which gaps share a moment with a time.
func TestGaps(t *testing.T) {
	const s = time.Second
	list := []ledger.Gap{{From: after(20 * s), To: after(30 * s), Why: "c"},
		{From: after(0), To: after(10 * s), Kept: true, Why: "a"},
		{From: after(2 * s), To: after(3 * s), Lag: true, Why: "b"}, {From: after(50 * s), Why: "for ever"}}
	g := newGaps(list)
	assert.Equal(t, "c", list[0].Why, "what was handed over is as it was")
	for _, c := range []struct {
		from, to   time.Duration // to -1: for ever
		over, deaf string
	}{
		{-5 * s, -1 * s, "", ""}, {-5 * s, 0, "a", ""}, {4 * s, 5 * s, "a", ""}, {2 * s, 3 * s, "b", ""},
		{10 * s, 12 * s, "a", ""}, {11 * s, 19 * s, "", ""},
		{11 * s, 20 * s, "c", "c"}, {30 * s, 31 * s, "c", "c"}, {31 * s, 49 * s, "", ""},
		{31 * s, 50 * s, "for ever", "for ever"}, {90 * s, 91 * s, "for ever", "for ever"},
		{25 * s, -1, "for ever", "for ever"},
	} {
		to := after(c.to)
		if c.to == -1 {
			to = time.Time{}
		}
		why := func(x *ledger.Gap) string {
			if x == nil {
				return ""
			}
			return x.Why
		}
		assert.Equal(t, c.over, why(g.over(after(c.from), to)), "%+v", c)
		if c.over != "for ever" || c.from > 30*s {
			assert.Equal(t, c.deaf, why(g.deaf(after(c.from), to, false)), "%+v", c)
		}
	}
	assert.Equal(t, "a", g.deaf(after(4*s), after(5*s), true).Why, "of QoS 0 a broker keeps nothing")
	assert.Nil(t, g.deaf(after(2*s), after(2500*time.Millisecond), false), "it lagged, and dropped nothing that is known")
	for i := range g.dropped {
		g.dropped[i] = true
	}
	assert.Equal(t, "b", g.deaf(after(2*s), after(2500*time.Millisecond), false).Why)
	assert.Equal(t, "a", g.deaf(after(4*s), after(5*s), false).Why)
	// One without an end before one that has one.
	open := newGaps([]ledger.Gap{{From: after(0), Why: "open"}, {From: after(s), To: after(2 * s)}})
	assert.Equal(t, "open", open.over(after(90*s), after(91*s)).Why)
	assert.Nil(t, (&gaps{}).over(after(0), after(s)))
}

// The cases are looked at before they are judged where they tell of clocks, or of what a
// broker kept or let wait.
func TestSurveyIsNeeded(t *testing.T) {
	for _, c := range []struct {
		gaps  []ledger.Gap
		timed bool
		want  bool
	}{{nil, false, false}, {nil, true, true}, {[]ledger.Gap{{}}, false, false},
		{[]ledger.Gap{{}, {Kept: true}}, false, true}, {[]ledger.Gap{{Lag: true}}, false, true}} {
		s := NewSurvey(&ledger.Facts{Witnesses: []ledger.Witness{{}, {Gaps: c.gaps}}})
		assert.Equal(t, c.want, s.Needed(c.timed), "%+v", c)
	}
}

// Until when a message may come out of the platform.
func TestPatience(t *testing.T) {
	w := &ledger.Witness{Wait: 5 * time.Second}
	assert.Equal(t, after(5*time.Second), patience(w, &evidence.Case{At: zero, Outcome: outcome.Accepted}))
	assert.Equal(t, after(time.Second), patience(&ledger.Witness{}, &evidence.Case{At: zero, Outcome: outcome.NotAsked}))
	assert.Zero(t, patience(w, &evidence.Case{At: zero, Outcome: outcome.NoAnswer}), "without an answer, for ever")
	assert.Zero(t, patience(w, &evidence.Case{Outcome: outcome.Accepted}))
}

// What the plan broke accuses nobody.
func TestBreaks(t *testing.T) {
	const s, never = time.Second, time.Duration(1<<63 - 1)
	b := func(from, to time.Duration, deaf bool) ledger.Break {
		x := ledger.Break{From: after(from), To: after(to), Deaf: deaf}
		if to == never {
			x.To = time.Time{}
		}
		return x
	}
	for name, c := range map[string]struct {
		list                                []ledger.Break
		broken, disturbedNow, disturbedLate bool // sent at 0, seen at 0 or at 5 s
	}{
		"nothing":               {nil, false, false, false},
		"an hour before":        {[]ledger.Break{b(-3600*s, -3590*s, true)}, false, false, false},
		"just over":             {[]ledger.Break{b(-9*s, -mendMargin, true)}, true, true, true},
		"a little longer over":  {[]ledger.Break{b(-9*s, -mendMargin-1, true)}, false, true, true},
		"over for long":         {[]ledger.Break{b(-9*s, -breakMargin-1, true)}, false, false, false},
		"begins soon":           {[]ledger.Break{b(breakMargin, 9*s, true)}, true, false, true},
		"begins later":          {[]ledger.Break{b(breakMargin+1, 9*s, true)}, false, false, true},
		"begins when it is far": {[]ledger.Break{b(5*s+1, 9*s, true)}, false, false, false},
		"without an end":        {[]ledger.Break{b(-9*s, never, true)}, true, true, true},
		"slow, not broken":      {[]ledger.Break{b(-9*s, 9*s, false)}, false, true, true},
	} {
		j := NewJudge(NewSurvey(&ledger.Facts{Streams: []ledger.Stream{{Device: "a"}},
			Actions: ledger.Actions{Breaks: map[int][]ledger.Break{0: c.list, 7: {b(-9*s, 9*s, true)}}}}))
		x := &evidence.Case{Sent: zero, Outcome: outcome.NotAsked}
		assert.Equal(t, c.broken, j.broken(x), name)
		assert.Equal(t, c.broken, j.MayBeGone(x), name)
		assert.Equal(t, c.disturbedNow, j.disturbed(x, zero), name)
		assert.Equal(t, c.disturbedLate, j.disturbed(x, after(5*s)), name)
	}
	j := NewJudge(NewSurvey(&ledger.Facts{Streams: []ledger.Stream{{}}, Lost: true}))
	assert.True(t, j.MayBeGone(&evidence.Case{Sent: zero, Outcome: outcome.NotAsked}), "the ledger is damaged")
	assert.False(t, j.MayBeGone(&evidence.Case{Sent: zero, Outcome: outcome.Accepted}), "it was acknowledged")
	assert.False(t, j.MayBeGone(&evidence.Case{Outcome: outcome.NotAsked}), "it was never sent")
}

func TestSpan(t *testing.T) {
	for d, want := range map[time.Duration]string{1234: "1µs", 1_234_567: "1.23ms", 12_345_678: "12.3ms",
		1_234_567_890: "1.23s", 123_456_789_012: "2m3s", -1_234_567: "-1.23ms", time.Millisecond: "1ms",
		10 * time.Millisecond: "10ms", time.Second: "1s", 100 * time.Second: "1m40s", 999_600: "1ms",
		99_999_999_999: "1m40s"} {
		assert.Equal(t, want, Span(d))
	}
}

// The quick look says yes only where what was found is what was sent, with a mark in front.
func TestUntouched(t *testing.T) {
	sent := []byte(`{"a":1,"b":"x"}`)
	for found, want := range map[string]bool{
		`{"a":1,"b":"x"}`: true, `{"mark":"r/d/s/1","a":1,"b":"x"}`: true, `{"mark":"","a":1,"b":"x"}`: true,
		`{"mark":1,"a":1,"b":"x"}`: false, `{"mark":"x" ,"a":1,"b":"x"}`: false, `{"a":"x","a":1,"b":"x"}`: false,
		`{"mark":"a\"","a":1,"b":"x"}`: false, "{\"mark\":\"a\x01\",\"a\":1,\"b\":\"x\"}": false,
		`{"mark":"x"$"a":1,"b":"x"}`: false, `{"b":"x","a":1,"b":"x"}`: false, `["mark":"x","a":1,"b":"x"}`: false,
		`{"a":1,"b":"y"}`: false, `{"ma\u0072k":"x","a":1,"b":"x"}`: false, `"a":1,"b":"x"}`: false,
		`{"mark":"é","a":1,"b":"x"}`: false, ``: false,
	} {
		assert.Equal(t, want, untouched(sent, []byte(found)), found)
	}
	assert.False(t, untouched([]byte(`{}`), []byte(`{}`)), "an empty object is compared the slow way")
	assert.False(t, untouched([]byte(`[1,2]`), []byte(`[1,2]`)))
	assert.False(t, untouched([]byte(`{"a":"\\"}`), []byte(`{"mark":"x","a":"\\"}`)), "with an escape, any name may "+
		"stand in it")
	assert.True(t, untouched([]byte(`{"a":"\\"}`), []byte(`{"a":"\\"}`)))
}

// Of many times the greatest are kept, and no more than so many.
func TestTheGreatestAreKept(t *testing.T) {
	var g greatest
	for i := range mostKept + 100 { // each once, in an order that is none
		g.add(time.Duration((i * 7919) % (mostKept + 100)))
	}
	assert.Len(t, g, mostKept)
	assert.Equal(t, time.Duration(100), slices.Min(g))
	assert.Equal(t, time.Duration(mostKept+99), slices.Max(g))
}

// Texts that stand for themselves are those of plain letters, a blank among them.
func TestSimple(t *testing.T) {
	for s, want := range map[string]bool{"a b~": true, "": true, "a\"": false, `a\`: false, "a\x1f": false, "a\x7f": false, "é": false} {
		assert.Equal(t, want, simple([]byte(s)), "%q", s)
	}
}

// A number is a time where it tells one of our days, in any unit; it is never one as a text is.
func TestInstants(t *testing.T) {
	for _, c := range []struct {
		v        any
		text, ok bool
	}{{"2026-01-01T00:00:00Z", true, true}, {"noon", true, false}, {json.Number("1796044322.014"), false, true}, {json.Number("1000000000"), false, true},
		{json.Number("999999999"), false, false}, {json.Number("1e400"), false, false}, {true, false, false}, {nil, false, false}} {
		_, text, ok := instant(c.v)
		assert.Equal(t, c.ok, ok, "%v", c.v)
		assert.Equal(t, c.text, text, "%v", c.v)
	}
}
