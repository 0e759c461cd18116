package tally

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"runcrowd/internal/evidence"
	"runcrowd/internal/ledger"
	"runcrowd/internal/outcome"
	"runcrowd/internal/proof"
	"runcrowd/internal/verdict"
)

// A value is clipped beyond two hundred bytes of JSON.
func TestCompact(t *testing.T) {
	assert.Len(t, compact(strings.Repeat("a", 198)), 200)
	assert.True(t, strings.HasSuffix(compact(strings.Repeat("a", 199)), "a…"))
	assert.Empty(t, compact(func() {}))
}

// A device is thrown off where it loses the connection within two seconds of having it, three times,
// and neither the plan nor a message of its own is why.
func TestThrownOff(t *testing.T) {
	at := time.Unix(1000, 0)
	outages := func(up time.Duration, n int) (list []ledger.Outage) {
		for i := range n {
			from := at.Add(time.Duration(i) * (up + time.Second))
			list = append(list, ledger.Outage{From: from, To: from.Add(time.Second)})
		}
		return list
	}
	for name, c := range map[string]struct {
		list   []ledger.Outage
		breaks []ledger.Break
		change func([]ledger.Outage)
		is     bool
	}{
		"three times soon":     {list: outages(time.Second, 4), is: true},
		"twice soon":           {list: outages(time.Second, 3)},
		"just before":          {list: outages(2*time.Second-1, 4), is: true},
		"after two seconds":    {list: outages(2*time.Second, 4)},
		"by a message":         {list: outages(time.Second, 4), change: func(l []ledger.Outage) { l[2].Times = 1 }},
		"it was not back":      {list: outages(time.Second, 4), change: func(l []ledger.Outage) { l[2].To = time.Time{} }},
		"by the plan":          {list: outages(time.Second, 4), breaks: []ledger.Break{{From: at, To: at.Add(time.Minute)}}},
		"by a plan of no end":  {list: outages(time.Second, 4), breaks: []ledger.Break{{From: at}}},
		"a second after it":    {list: outages(time.Second, 4), breaks: []ledger.Break{{From: at, To: at.Add(time.Second)}}},
		"later after it":       {list: outages(time.Second, 5), breaks: []ledger.Break{{From: at, To: at.Add(time.Second - 1)}}, is: true},
		"before it":            {list: outages(time.Second, 4), breaks: []ledger.Break{{From: at.Add(time.Hour)}}, is: true},
		"the plan, just begun": {list: outages(time.Second, 4), breaks: []ledger.Break{{From: at.Add(6 * time.Second)}}},
	} {
		if c.change != nil {
			c.change(c.list)
		}
		assert.Equal(t, c.is, thrownOff(&ledger.DeviceLinks{Outages: c.list}, c.breaks), name)
	}
}

// A late alert may have waited for its witness where that was deaf at any time from the call to when it was heard.
func TestMeanwhile(t *testing.T) {
	at := time.Unix(1000, 0)
	for name, c := range map[string]struct {
		from, to time.Duration // of the gap; to 0: to the end
		is       bool
	}{
		"before the call":     {-5 * time.Second, -1, false},
		"up to the call":      {-5 * time.Second, 0, true},
		"meanwhile":           {time.Second, 2 * time.Second, true},
		"from when it came":   {3 * time.Second, 9 * time.Second, true},
		"after it came":       {3*time.Second + 1, 9 * time.Second, false},
		"from before, open":   {-5 * time.Second, time.Hour, true},
		"after it came, open": {4 * time.Second, time.Hour, false},
	} {
		g := ledger.Gap{From: at.Add(c.from), To: at.Add(c.to), Why: "cut"}
		if c.to == time.Hour {
			g.To = time.Time{}
		}
		q := &call{turn: &turn{from: at.UnixNano()}, heard: &ledger.Said{Seen: at.Add(3 * time.Second)}}
		assert.Equal(t, c.is, meanwhile(&ledger.Witness{Gaps: []ledger.Gap{g}}, q) != "", name)
	}
}

// Of several witnesses that count, the worst tells: not met before undecided before met.
func TestCountsOfSeveral(t *testing.T) {
	met := Counted{Witness: "a", Heard: true, Theirs: 5, Least: 5, Most: 5}
	deaf, open := Counted{Witness: "b"}, Counted{Witness: "c", Heard: true, Theirs: 5, Least: 4, Most: 6}
	wrong := Counted{Witness: "d", Heard: true, Theirs: 7, Least: 5, Most: 6}
	less := Counted{Witness: "e", Heard: true, Theirs: 4, Least: 5, Most: 6}
	for name, c := range map[string]struct {
		list  []Counted
		state proof.State
		got   string
	}{
		"none":                         {nil, proof.Undecided, "nothing was counted"},
		"met":                          {[]Counted{met}, proof.Met, "5 of 5"},
		"met twice: the last":          {[]Counted{met, {Witness: "f", Heard: true, Theirs: 3, Least: 3, Most: 3}}, proof.Met, "3 of 3"},
		"deaf, then met":               {[]Counted{deaf, met}, proof.Undecided, "b could not be asked"},
		"deaf, then open":              {[]Counted{deaf, open}, proof.Undecided, "b could not be asked"},
		"met, then open":               {[]Counted{met, open}, proof.Undecided, "c counts 5; 4 to 6 may be there: what was not acknowledged may be or not"},
		"open, then wrong":             {[]Counted{open, wrong}, proof.NotMet, "d counts 7, and 5 to 6 went out"},
		"wrong, then open":             {[]Counted{wrong, open}, proof.NotMet, "d counts 7, and 5 to 6 went out"},
		"wrong, then wrong: the first": {[]Counted{wrong, less}, proof.NotMet, "d counts 7, and 5 to 6 went out"},
		"too few":                      {[]Counted{less}, proof.NotMet, "e counts 4, and 5 to 6 went out"},
		"as many as may be":            {[]Counted{{Witness: "g", Heard: true, Theirs: 6, Least: 5, Most: 6}}, proof.Undecided, "g counts 6; 5 to 6 may be there: what was not acknowledged may be or not"},
		"as few as may be":             {[]Counted{{Witness: "g", Heard: true, Theirs: 5, Least: 5, Most: 6}}, proof.Undecided, "g counts 5; 5 to 6 may be there: what was not acknowledged may be or not"},
	} {
		x := (&Result{Counted: c.list}).checkCounted(&proof.Requirement{Exact: true})
		assert.Equal(t, c.state, x.State, name)
		assert.Equal(t, c.got, x.Got, name)
	}
	assert.Equal(t, proof.Met, (&Result{Counted: []Counted{wrong}}).checkCounted(&proof.Requirement{}).State)
}

// A delay that may be within its limit, or not, is undecided, and it is told why.
func TestADelayAtItsLimit(t *testing.T) {
	r := &Result{Ended: true, Acknowledged: Delays{N: 10, P99: 100 * time.Millisecond}}
	q := &proof.Requirement{Key: "acknowledged_p99", Measure: proof.P99, Limit: 100 * time.Millisecond}
	for name, c := range map[string]struct {
		least, most time.Duration
		still       bool
		n, open     int
		state       proof.State
		says        string
	}{
		"within":             {90, 100, false, 10, 0, proof.Met, ""},
		"beyond":             {101, 110, false, 10, 0, proof.NotMet, ""},
		"at it, or beyond":   {100, 101, false, 10, 0, proof.Undecided, "the clocks may not be alike"},
		"it stood still":     {100, 101, true, 10, 0, proof.Undecided, "this process stood still meanwhile"},
		"nothing":            {0, 0, false, 0, 0, proof.NotMet, "nothing to measure"},
		"some are not known": {100, 101, false, 10, 3, proof.Undecided, "how long 3 more took is not known"},
	} {
		x := *r
		x.Acknowledged.N = c.n
		x.sure[0] = [2]Delays{{N: c.n, P99: c.least * time.Millisecond}, {N: c.n, P99: c.most * time.Millisecond}}
		x.without[0] = [2]int{c.open, 0}
		if c.still {
			x.Still = []ledger.Still{{}}
		}
		got := x.Check([]proof.Requirement{*q})
		assert.Equal(t, c.state, got[0].State, name)
		assert.Contains(t, got[0].Got, c.says, name)
	}
}

// Rows are those of all streams; what a damaged ledger tells of others counts nowhere.
func TestRowsOfStrangers(t *testing.T) {
	lost := func(n int) *ledger.DeviceLinks { return &ledger.DeviceLinks{Outages: make([]ledger.Outage, n)} }
	f := &ledger.Facts{Streams: []ledger.Stream{{Device: "a", Reading: "x"}, {Device: "b", Reading: "x"}}}
	f.Links.Devices = map[int]*ledger.DeviceLinks{-1: lost(5), 0: lost(2), 1: lost(1), 2: lost(7)}
	list := (&rows{facts: f}).result()
	assert.Equal(t, []int{2, 1}, []int{list[0].Disconnects, list[1].Disconnects})
}

// A sighting of a witness that the ledger does not know is none.
func TestUnmatchedOfStrangers(t *testing.T) {
	x := &Tally{facts: &ledger.Facts{Run: "k3f9a2xy", Witnesses: []ledger.Witness{{Name: "ear"}}}}
	x.res.Unmatched = make([]Unmatched, maxUnmatched) // no more are listed
	for _, w := range []int{-1, 0, 1} {
		x.unmatched(&evidence.Case{Sightings: []evidence.Sighting{{Witness: w}}})
	}
	x.unmatched(&evidence.Case{})
	assert.Equal(t, 1, x.res.UnmatchedCount)
	assert.Len(t, x.res.Unmatched, maxUnmatched)
}

// Commands stand in the order in which they first came, whatever came to be known first.
func TestTheOrderOfCommands(t *testing.T) {
	x := &commands{}
	for _, c := range []ledger.Command{{Number: 9, Name: "b"}, {Number: 3, Name: "a"}, {Number: 2, Name: "b"}, {Number: 7, Name: "c"}} {
		x.add(&c)
	}
	list, mishaps := x.result()
	names := ""
	for _, a := range list {
		names += a.Name
	}
	assert.Equal(t, "bac", names)
	last := uint64(0)
	for _, m := range mishaps {
		assert.GreaterOrEqual(t, m.number, last)
		last = m.number
	}
	assert.NotEmpty(t, mishaps)
}

// A requirement that was met and is not any more is worse; the other way it is better; with one that is
// undecided it is unclear. Where both runs say the same, or one says nothing, nothing is said.
func TestHowRequirementsChange(t *testing.T) {
	for pair, want := range map[[2]proof.State]Trend{
		{proof.Met, proof.NotMet}: Worse, {proof.NotMet, proof.Met}: Better,
		{proof.Met, proof.Undecided}: Unclear, {proof.Undecided, proof.NotMet}: Unclear, {proof.Undecided, proof.Met}: Unclear,
		{proof.NotMet, proof.Undecided}: Unclear,
		{proof.Met, proof.Met}:          Same, {proof.NotMet, proof.NotMet}: Same, {proof.Undecided, proof.Undecided}: Same,
	} {
		check := func(s proof.State) []proof.Check { return []proof.Check{{Key: "proven", State: s}} }
		c := Compare(&Result{}, &Result{}, [2][]proof.Check{check(pair[0]), check(pair[1])}, Comparing{})
		assert.Equal(t, want, c.Requirements[0].Trend, "%v", pair)
	}
	c := Compare(&Result{}, &Result{}, [2][]proof.Check{{{Key: "a", State: proof.Met}}, {{Key: "b", State: proof.NotMet}}}, Comparing{})
	for _, q := range c.Requirements {
		assert.Equal(t, Same, q.Trend, "only one of the runs says it")
	}
}

// Who was thrown off is counted, and named as far as a few are; what is of no stream is nobody.
func TestWhoIsThrownOff(t *testing.T) {
	at := time.Unix(1000, 0)
	thrown := &ledger.DeviceLinks{}
	for i := range 5 {
		from := at.Add(time.Duration(2*i) * time.Second)
		thrown.Outages = append(thrown.Outages, ledger.Outage{From: from, To: from.Add(time.Second)})
	}
	f := &ledger.Facts{}
	f.Links.Devices = map[int]*ledger.DeviceLinks{5: thrown, 1: {}}
	for i := range 5 {
		f.Streams = append(f.Streams, ledger.Stream{Device: string(rune('a' + i))})
		if i != 1 {
			f.Links.Devices[i] = thrown
		}
	}
	x := &Tally{facts: f}
	x.connections()
	assert.Equal(t, 4, x.res.ThrownOff.Devices)
	assert.Equal(t, []string{"a", "c", "d"}, x.res.ThrownOff.Examples)
}

// A requirement on rounds of which none was played is not met, and ends no program.
func TestNoRound(t *testing.T) {
	c := (&Result{}).checkRounds(&proof.Requirement{Key: "proven", Rounds: proof.Rounds{Name: "each", From: 1}})
	assert.NotEqual(t, proof.Met, c.State)
}

// So many times are kept in which a witness could not listen, and so many ways of altering, and no more.
func TestWhatIsKeptIsBounded(t *testing.T) {
	at := time.Unix(1000, 0)
	w := ledger.Witness{Name: "ear", Proof: "received", Heard: map[int]ledger.Hearing{1: {Complete: true}}}
	for i := range mostDeaf + 2 {
		from := at.Add(time.Duration(i) * time.Minute)
		w.Gaps = append(w.Gaps, ledger.Gap{From: from, To: from.Add(30 * time.Second), Why: "cut"})
	}
	fields := mostAlike + 2
	sent, found := make([]string, fields), make([]string, fields)
	for i := range fields {
		sent[i], found[i] = fmt.Sprintf(`"f%d":1`, i), fmt.Sprintf(`"f%d":2`, i)
	}
	body := func(list []string) []byte { return []byte("{" + strings.Join(list, ",") + "}") }
	sentAt := at.Add(-time.Hour)
	b := &ledger.Book{Facts: ledger.Facts{Run: "k3f9a2xy", Start: sentAt, Ended: true, Rounds: []ledger.Round{{N: 1, Begin: sentAt}},
		Streams: []ledger.Stream{{Device: "buoy-1", Kind: "buoy", Reading: "state"}}, Witnesses: []ledger.Witness{w}},
		Messages:  [][]ledger.Message{{{Seq: 1, Round: 1, Due: sentAt, Sent: sentAt, At: sentAt, Attempts: 1, Outcome: outcome.Accepted, Carried: body(sent)}}},
		Sightings: []ledger.Sighting{{Seq: 1, Seen: sentAt.Add(time.Millisecond), Values: body(found)}}}
	r, err := Watch(evidence.Of(b, verdict.Same(&b.Facts)), Options{}).Judge()
	assert.NoError(t, err)
	assert.Equal(t, 1, r.Total[verdict.Altered])
	assert.Len(t, r.Deaf, mostDeaf)
	assert.Len(t, r.Alike, mostAlike)
}

// The stretches at both ends of a run are left out where enough are left; those in which nothing was sent always.
func TestBlocksOf(t *testing.T) {
	for sent, want := range map[int]int{0: 0, 1: 1, leastBlocks + 2: leastBlocks + 2, leastBlocks + 3: leastBlocks + 1} {
		s := &Series{Step: time.Second, Steps: make([]Step, 2)}
		for range sent {
			s.Steps = append(s.Steps, Step{Sent: 1})
		}
		s.Steps = append(s.Steps, make([]Step, 3)...)
		list, _ := blocksOf(s)
		assert.Len(t, list, want, sent)
	}
}

// Of the messages after which the platform closed connections as often, the first by device and number is named.
func TestClosingsAlike(t *testing.T) {
	for range 20 { // a map has no order
		x := &Tally{facts: &ledger.Facts{Streams: []ledger.Stream{{Device: "b", Reading: "state"}, {Device: "a", Reading: "state"}}}}
		x.facts.Links.Closings = map[ledger.Entry]int{{Stream: 0, Seq: 1}: 3, {Stream: 1, Seq: 9}: 3, {Stream: 1, Seq: 4}: 3, {Stream: 1, Seq: 2}: 2,
			{Stream: 2, Seq: 1}: 9, {Stream: -1, Seq: 1}: 9}
		x.connections()
		assert.Equal(t, []Closing{{Reading: "state", Times: 11, Devices: 2, Device: "a", Seq: 4, Most: 3}}, x.res.Closings)
	}
}

// A process stood still for long where it is more than a twentieth of the run.
func TestHowLongItStoodStill(t *testing.T) {
	r := &Result{Still: []ledger.Still{{To: time.Time{}.Add(time.Second)}, {To: time.Time{}.Add(time.Second)}}}
	assert.Empty(t, late(r, 2*lateShare*time.Second))
	assert.Equal(t, "it stood still for 2s", late(r, 2*lateShare*time.Second-1))
}

// A platform is crowded where it accepts some devices, and cuts several off before it accepts them.
func TestCrowded(t *testing.T) {
	for _, c := range []struct {
		refused, up int
		early, is   bool
	}{{2, 1, true, true}, {2, 0, true, false}, {1, 1, true, false}, {2, 1, false, false}} {
		x := &Tally{facts: &ledger.Facts{}}
		x.facts.Links.Devices = map[int]*ledger.DeviceLinks{}
		for i := range c.refused + c.up {
			x.facts.Streams = append(x.facts.Streams, ledger.Stream{Device: string(rune('a' + i))})
			d := &ledger.DeviceLinks{Fails: 1, Why: "closed", Early: c.early}
			if i >= c.refused {
				d = &ledger.DeviceLinks{Ups: 1}
			}
			x.facts.Links.Devices[i] = d
		}
		x.connections()
		assert.Len(t, x.res.Never, 1)
		assert.Equal(t, c.is, x.res.Never[0].Crowded, "%+v", c)
		assert.Equal(t, c.refused, x.res.Never[0].Devices)
	}
}

// Delays are compared only where both runs have some.
func TestDelaysOfOneRunAlone(t *testing.T) {
	some, none := &Result{Acknowledged: Delays{N: 1}}, &Result{}
	for _, pair := range [][2]*Result{{some, none}, {none, some}, {none, none}} {
		assert.Empty(t, Compare(pair[0], pair[1], [2][]proof.Check{}, Comparing{}).Delays)
	}
	assert.NotEmpty(t, Compare(some, some, [2][]proof.Check{}, Comparing{}).Delays)
}

// Alerts are in time, not, or perhaps, up to the limit.
func TestAlertsAtTheirLimit(t *testing.T) {
	for _, c := range []struct {
		least, most time.Duration
		n           int
		state       proof.State
		got         string
	}{{90, 100, 5, proof.Met, "95ms"}, {100, 101, 5, proof.Undecided, "95ms"}, {101, 102, 5, proof.NotMet, "95ms"},
		{0, 0, 0, proof.NotMet, "nothing to measure"}} {
		a := AlertCount{Name: "low", Delays: Delays{N: c.n, P99: 95 * time.Millisecond}}
		a.sure = [2]Delays{{N: c.n, P99: c.least * time.Millisecond}, {N: c.n, P99: c.most * time.Millisecond}}
		got := (&Result{Rounds: []Group{{}}, Alerts: []AlertCount{a}}).checkAlerts(&proof.Requirement{Delay: "p99", Limit: 100 * time.Millisecond})
		assert.Equal(t, []any{c.state, c.got}, []any{got.State, got.Got}, "%+v", c)
	}
}
