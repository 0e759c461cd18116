package ledger

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/clock"
)

// share is what the k-th of three parts tells of six streams, of which it plays every third.
func share(k int) *Facts {
	at := noon.Add(time.Duration(k) * time.Second)
	f := &Facts{Run: fmt.Sprint("run-", k), Crowd: "harbour", Start: at, Name: fmt.Sprint("part ", k+1), Ended: true, Played: at, LastWrite: at.Add(time.Minute),
		Good: 10, Torn: int64(k), Damage: make([]Damage, k), Still: []Still{{noon.Add(time.Duration(9-k) * time.Second), noon.Add(10 * time.Second)}},
		Turns:    clock.Turns{Looks: 100, Late: [4]int{k, 1, 1, 1}},
		Left:     []LeftSessions{{Link: "sea", Devices: 2, Kept: time.Duration(k) * time.Minute}},
		Retained: []Retained{{Link: "sea", Topics: 3}},
		Witnesses: []Witness{{Name: "ear", Proof: "received", Heard: map[int]Hearing{1: {Complete: true}}, Sightings: k},
			{Name: "store", Proof: "stored", Gaps: make([]Gap, k)}},
		Alerts: []Alert{{Name: "low", Witness: 1, Said: make([]Said, k+1), More: k}},
		Rounds: []Round{{N: 1, Begin: at, End: at.Add(9 * time.Second), Over: at.Add(10 * time.Second), Stopped: at, Open: k}},
		Last:   make([]uint64, 6),
	}
	if k == 1 {
		f.Rounds = append(f.Rounds, Round{N: 2, Begin: at.Add(time.Hour)})
	}
	for i := range 6 {
		s := Stream{Device: fmt.Sprint("buoy-", i), Reading: "state", Elsewhere: i%3 != k}
		if i == 4 {
			s.Unseen = []int{1}
		}
		if s.Elsewhere {
			s.Unseen = []int{0, 1}
		} else {
			f.Last[i] = uint64(10*k + i)
		}
		f.Streams = append(f.Streams, s)
	}
	page := func(e *LinkEvent) { f.Links.add(e) }
	page(&LinkEvent{Stream: k, At: at, What: Up})
	page(&LinkEvent{Stream: k, At: at, What: Down, Why: "cut", Times: 2, After: Entry{k, 7}})
	page(&LinkEvent{Stream: k, At: at, What: Renewed})
	page(&LinkEvent{Stream: k, At: at, What: NotHearing, Place: "x", Why: "no"})
	page(&LinkEvent{Stream: k, At: at, What: Remarked, Why: "slow"})
	done := func(after time.Duration, over bool, why string) {
		f.Actions.add(&Done{Stream: k, Event: "outage", Round: 1, Action: Action{Kind: "offline"}, At: at.Add(after), Over: over, Lasts: !over, Disturbs: true, Why: why})
	}
	done(time.Second, false, "")
	done(2*time.Second, true, "")
	done(time.Duration(20*k+30)*time.Second, false, "") // lasts to the end of the round
	if k == 2 {
		done(100*time.Second, false, "no network")
		f.Actions.add(&Done{Stream: k, Event: "alone", Round: 1, Action: Action{Kind: "send"}, At: at})
	}
	return f
}

// The ledgers of the parts of a run tell together what the ledger of one run would.
func TestTogether(t *testing.T) {
	parts := []*Facts{share(0), share(1), share(2)}
	f, err := Together(parts)
	require.NoError(t, err)
	at := func(s int) time.Time { return noon.Add(time.Duration(s) * time.Second) }
	assert.Equal(t, []any{"run-0", "harbour", noon, true, false, false}, []any{f.Run, f.Crowd, f.Start, f.Ended, f.Interrupted, f.Lost})
	assert.Equal(t, []time.Time{at(2), at(62)}, []time.Time{f.Played, f.LastWrite})
	assert.Equal(t, []int64{30, 3}, []int64{f.Good, f.Torn})
	assert.Len(t, f.Damage, 3)
	assert.Equal(t, []Still{{at(7), at(10)}, {at(8), at(10)}, {at(9), at(10)}}, f.Still)
	assert.Equal(t, clock.Turns{Looks: 300, Late: [4]int{3, 3, 3, 3}}, f.Turns)
	assert.Equal(t, []LeftSessions{{"sea", 6, 2 * time.Minute}}, f.Left)
	assert.Equal(t, []Retained{{"sea", 9}}, f.Retained)
	assert.Equal(t, []uint64{0, 11, 22, 3, 14, 25}, f.Last)
	var names []string
	for i, w := range f.Witnesses {
		names = append(names, fmt.Sprintf("%s of %s", w.Name, f.PartName(w.Part)))
		assert.Equal(t, i/2, w.Part)
	}
	assert.Equal(t, []string{"ear of part 1", "store of part 1", "ear of part 2", "store of part 2", "ear of part 3", "store of part 3"}, names)
	assert.Equal(t, 2, f.Own())
	for i := range f.Streams {
		assert.False(t, f.Streams[i].Elsewhere)
		assert.Same(t, parts[i%3], f.Of(i))
		assert.Equal(t, 2*(i%3)+1, f.Witness(1, i))
		for w := range f.Witnesses {
			assert.Equal(t, 2*(i%3)+w%2, f.WitnessOf(w, i))
		}
	}
	assert.Equal(t, []int{2, 3, 4, 5}, f.Streams[0].Unseen)
	assert.Equal(t, []int{0, 1, 3, 4, 5}, f.Streams[4].Unseen, "its own part's second witness does not see it either")
	assert.Equal(t, []int{0, 1, 2, 3}, f.Streams[5].Unseen)
	assert.Same(t, f, f.Of(-1))
	assert.Same(t, f, f.Of(6))
	assert.Equal(t, []int{1, 1, 3}, []int{f.Witness(1, -1), f.Witness(1, 6), f.WitnessOf(3, -1)})
	require.Len(t, f.Alerts, 1)
	assert.Len(t, f.Alerts[0].Said, 6)
	assert.Equal(t, 3, f.Alerts[0].More)
	require.Len(t, f.Rounds, 2)
	assert.Equal(t, Round{N: 1, Begin: noon, End: at(11), Over: at(12), Stopped: at(2), Open: 3}, f.Rounds[0])
	assert.Equal(t, 2, f.Rounds[1].N)
	assert.Equal(t, []int{3, 3}, []int{f.Links.Drops, f.Links.Renewed})
	assert.Equal(t, map[string]int{"cut": 3}, f.Links.Why)
	assert.Equal(t, map[string]int{"x: no": 3}, f.Links.NotHearing)
	assert.Equal(t, map[string]int{"slow": 3}, f.Links.Remarks)
	assert.Equal(t, map[Entry]int{{0, 7}: 2, {1, 7}: 2, {2, 7}: 2}, f.Links.Closings)
	assert.Len(t, f.Links.Devices, 3)
	assert.Len(t, f.Actions.Breaks, 3)
	require.Len(t, f.Actions.Events, 2)
	e := f.Actions.Events[0]
	assert.Equal(t, []any{"outage", 6, 3, 1, "no network", at(1), at(102)}, []any{e.Event, e.Times, e.Devices, e.Failed, e.Why, e.First, e.Last})
	assert.Equal(t, []Stretch{{at(1), at(4)}}, e.Stretches, "those that touch are one")
	list := f.Actions.Done(f.Rounds, f.LastWrite)
	assert.Equal(t, []Stretch{{at(1), at(4)}, {at(30), at(30)}}, list[0].Stretches, "the first that lasts, to the end of the round")
	assert.Equal(t, "alone", f.Actions.Events[1].Event)
	assert.Equal(t, []Stretch{{at(1), at(2)}}, parts[0].Actions.Events[0].Stretches, "the parts stay as they are")

	// One of them was killed, and one is missing.
	killed := share(1)
	killed.Ended, killed.Interrupted, killed.Lost, killed.Rounds[0].Over = false, true, true, time.Time{}
	f, err = Together([]*Facts{share(0), killed})
	require.NoError(t, err)
	assert.Equal(t, []bool{false, true, true}, []bool{f.Ended, f.Interrupted, f.Lost})
	assert.True(t, f.Rounds[0].Over.IsZero())
	assert.Equal(t, []bool{false, false, true, false, false, true}, []bool{f.Streams[0].Elsewhere, f.Streams[1].Elsewhere, f.Streams[2].Elsewhere,
		f.Streams[3].Elsewhere, f.Streams[4].Elsewhere, f.Streams[5].Elsewhere})
	assert.True(t, f.Of(0).Whole())
	assert.False(t, f.Of(1).Whole())
	assert.Equal(t, "a", (&Facts{Name: "a"}).PartName(0))
	single := share(0)
	assert.Equal(t, []int{2, 1, 1}, []int{single.Own(), single.Witness(1, 0), single.WitnessOf(1, 0)})
}

func TestWhatIsNotTogether(t *testing.T) {
	for why, change := range map[string]func(f *Facts){
		`one is of the crowd "harbour", another of "port"`:           func(f *Facts) { f.Crowd = "port" },
		"one knows 6 readings of devices, another 5":                 func(f *Facts) { f.Streams = f.Streams[:5] },
		"one has 2 witnesses, another 1":                             func(f *Facts) { f.Witnesses = f.Witnesses[:1] },
		"one knows 1 alerts, another 0":                              func(f *Facts) { f.Alerts = nil },
		"where one has state of buoy-4, another has state of buoy-x": func(f *Facts) { f.Streams[4].Device = "buoy-x" },
		"where one has state of buoy-4, another has level of buoy-4": func(f *Facts) { f.Streams[4].Reading = "level" },
		`where one has the witness "store", another has "shop"`:      func(f *Facts) { f.Witnesses[1].Name = "shop" },
		`where one has the witness "store", another has "store"`:     func(f *Facts) { f.Witnesses[1].Proof = "received" },
		`where one has the alert "low", another has "high"`:          func(f *Facts) { f.Alerts[0].Name = "high" },
		"two of them play buoy-0":                                    func(f *Facts) { f.Streams[0].Elsewhere = false },
	} {
		other := share(1)
		change(other)
		_, err := Together([]*Facts{share(0), other, share(2)})
		assert.EqualError(t, err, "they are not parts of one run: "+why)
	}
}
