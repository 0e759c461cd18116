package ledger

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/decimal"
)

var noon = time.Date(2030, 1, 2, 12, 0, 0, 0, time.UTC)

func after(s int) time.Time { return noon.Add(time.Duration(s) * time.Second) }

// A round's time is that of its messages, on our clock and on the plan's.
func TestTheTimeOfARound(t *testing.T) {
	for name, c := range map[string]struct {
		r        Round
		from, to int // seconds after noon
	}{
		"to its end":                 {Round{Begin: after(1), End: after(5)}, 1, 5},
		"it has no end":              {Round{Begin: after(1)}, 1, 99},
		"its devices had stopped":    {Round{Begin: after(1), Over: after(7)}, 1, 7},
		"they stopped later":         {Round{Begin: after(1), End: after(5), Over: after(7)}, 1, 7},
		"they stopped before":        {Round{Begin: after(1), End: after(5), Over: after(3)}, 1, 5},
		"the plan's clock is before": {Round{Begin: after(1), End: after(5), Clock: after(-50), Stopped: after(-10)}, -50, 5},
		"the plan's clock is later":  {Round{Begin: after(1), End: after(5), Clock: after(50), Stopped: after(60)}, 1, 60},
		"the plan's clock is within": {Round{Begin: after(1), End: after(5), Clock: after(2), Stopped: after(4)}, 1, 5},
	} {
		from, to := c.r.Window(after(99))
		assert.Equal(t, []time.Time{after(c.from), after(c.to)}, []time.Time{from, to}, name)
	}
}

// What a platform does to a number, and how far off it may be.
func TestFieldRules(t *testing.T) {
	for name, c := range map[string]struct {
		rule      FieldRule
		sent      string
		tolerance float64
		want      string
		allowed   string
		changes   bool
	}{
		"nothing":              {FieldRule{}, "12.5", 0, "12.5", "0.0000000125", false},
		"it is ignored":        {FieldRule{Ignored: true}, "1", 0, "1", "0.000000001", false},
		"a factor":             {FieldRule{Factor: 100}, "12.5", 0, "1250", "0.00000125", true},
		"an offset":            {FieldRule{Offset: -273}, "1", 0, "-272", "0.000000273", true},
		"both":                 {FieldRule{Factor: 2, Offset: 1}, "-3", 0, "-5", "0.000000006", true},
		"another name":         {FieldRule{As: "x"}, "0", 0, "0", "0", true},
		"what is allowed":      {FieldRule{}, "12.5", 0.1, "12.5", "0.1", false},
		"less than is lost":    {FieldRule{}, "1000000", 0.0001, "1000000", "0.001", false},
		"exactly what is lost": {FieldRule{}, "1000000", 0.001, "1000000", "0.001", false},
	} {
		sent, ok := decimal.Parse(c.sent)
		require.True(t, ok)
		want, allowed := c.rule.Apply(sent, c.tolerance)
		for got, text := range map[*decimal.Number]string{&want: c.want, &allowed: c.allowed} {
			n, _ := decimal.Parse(text)
			assert.Zero(t, got.Cmp(n), "%s: %s is not %s", name, got, text)
		}
		assert.Equal(t, c.changes, c.rule.Changes(), name)
	}
}

// What happened to connections is told device by device, and summed up by reason.
func TestWhatHappenedToConnections(t *testing.T) {
	l := &Links{}
	for _, e := range []LinkEvent{
		{Stream: 0, What: Up, At: after(1)},
		{Stream: 0, What: Down, At: after(2), Why: "cut", After: Entry{0, 7}, Times: 1},
		{Stream: 0, What: Down, At: after(3), Why: "refused", Early: true},
		{Stream: 0, What: Down, At: after(4), Why: "still refused", Early: true},
		{Stream: 0, What: Up, At: after(5)},
		{Stream: 0, What: Renewed, At: after(6)},
		{Stream: 0, What: Down, At: after(7), Why: "cut", After: Entry{0, 7}, Times: 3},
		{Stream: 0, What: Renewed, At: after(8)},
		{Stream: 3, What: Down, At: after(9), Why: "cut", After: Entry{3, 1}, Times: 2},
		{Stream: 3, What: NotHearing, Place: "a/b", Why: "not allowed"},
		{Stream: 3, What: Remarked, Why: "it is odd"},
		{Stream: 4, What: Remarked, Why: "it is odd"},
	} {
		l.add(&e)
	}
	assert.Equal(t, map[string]int{"cut": 3, "refused": 1, "still refused": 1}, l.Why)
	assert.Equal(t, []int{5, 2}, []int{l.Drops, l.Renewed})
	assert.Equal(t, map[string]int{"a/b: not allowed": 1}, l.NotHearing)
	assert.Equal(t, map[string]int{"it is odd": 2}, l.Remarks)
	assert.Equal(t, map[Entry]int{{0, 7}: 3, {3, 1}: 2}, l.Closings)
	assert.Equal(t, &DeviceLinks{Ups: 4, Fails: 2, Why: "cut", Outages: []Outage{
		{From: after(2), To: after(5), Why: "cut", Fails: 2, Again: "still refused", After: Entry{0, 7}, Times: 1},
		{From: after(7), To: after(8), Why: "cut", After: Entry{0, 7}, Times: 3}}}, l.Devices[0])
	assert.Equal(t, []Outage{{From: after(9), Why: "cut", After: Entry{3, 1}, Times: 2}}, l.Devices[3].Outages)

	// However much happens, memory is bounded.
	l = &Links{}
	for n := range 2000 {
		l.add(&LinkEvent{What: Down, At: after(n), Why: fmt.Sprint("reason ", n), After: Entry{n, 1}, Times: 2})
		l.add(&LinkEvent{What: Up, At: after(n)})
	}
	l.add(&LinkEvent{What: Down, Why: "reason 1", After: Entry{1, 1}, Times: 9})
	assert.Len(t, l.Why, mostReasons+1)
	assert.Equal(t, 1000, l.Why["other reasons"])
	assert.Equal(t, 2, l.Why["reason 1"])
	assert.Len(t, l.Closings, mostReasons)
	assert.Equal(t, 9, l.Closings[Entry{1, 1}])
	assert.Len(t, l.Devices[0].Outages, mostOutages)
}

// What events did is counted by event, action and name; what could not be done is told.
func TestWhatEventsDid(t *testing.T) {
	l := &Actions{}
	set := func(name string) Action { return Action{Kind: "set", Name: name, Value: "1"} }
	for _, x := range []Done{
		{Stream: 1, Event: "e", Round: 1, Action: set("a"), At: after(5), Lasts: true},
		{Stream: 0, Event: "e", Round: 1, Action: set("a"), At: after(3), Lasts: true},
		{Stream: 0, Event: "e", Round: 1, Action: set("a"), At: after(8), Over: true},
		{Stream: 0, Event: "e", Round: 1, Action: set("b"), At: after(4), Why: "it is away"},
		{Stream: 0, Event: "e", Round: 1, Action: set("b"), At: after(6), Why: "never"},
		{Stream: 0, Event: "f", Round: 1, Action: set("a"), At: after(4), Over: true}, // of what never began
		{Stream: 0, Event: "", Round: 1, Action: set("a"), At: after(4)},              // a command did it
		{Stream: 0, Event: "g", Round: 1, Action: Action{Kind: "send"}, At: after(2)},
		{Stream: 0, Event: "g", Round: 1, Action: Action{Kind: "send"}, At: after(9)},
	} {
		l.add(&x)
	}
	var got []string
	for _, e := range l.Done([]Round{{N: 1, Over: after(20)}}, after(30)) {
		text := fmt.Sprintf("%s %s %s: %d by %d, %s to %s", e.Event, e.Kind, e.Name, e.Times, e.Devices, e.First.Sub(noon), e.Last.Sub(noon))
		if e.Failed > 0 {
			text += fmt.Sprintf(", %d failed: %s", e.Failed, e.Why)
		}
		for _, s := range e.Stretches {
			text += fmt.Sprintf(", %s-%s", s.From.Sub(noon), s.To.Sub(noon))
		}
		got = append(got, text)
	}
	assert.Equal(t, []string{"e set a: 2 by 2, 3s to 5s, 3s-20s", "e set b: 0 by 1, 4s to 6s, 2 failed: it is away",
		"g send : 2 by 1, 2s to 9s, 2s-2s, 9s-9s"}, got)
}

// However many events a ledger tells of, memory is bounded.
func TestManyEvents(t *testing.T) {
	l := &Actions{}
	for n := range mostReasons + 3 {
		l.add(&Done{Event: fmt.Sprint("event-", n), Action: set("a"), At: after(n)})
	}
	l.add(&Done{Event: "event-1", Action: set("a"), At: after(5)})
	assert.Len(t, l.Events, mostReasons)
	assert.Equal(t, 2, l.Events[1].Times)
}

// A time in which the plan disturbed a device ends when its own event is over.
func TestWhenDevicesWereDisturbed(t *testing.T) {
	l := &Actions{}
	off, net := Action{Kind: "offline"}, Action{Kind: "network"}
	for _, x := range []Done{
		{Stream: 0, Event: "a", Action: off, At: after(1), Disturbs: true, Broke: true},
		{Stream: 0, Event: "b", Action: net, At: after(2), Disturbs: true},
		{Stream: 0, Event: "a", Action: net, At: after(3), Disturbs: true, Over: true}, // of none
		{Stream: 0, Event: "b", Action: net, At: after(4), Disturbs: true, Over: true},
		{Stream: 0, Event: "a", Action: off, At: after(5), Disturbs: true, Over: true},
		{Stream: 1, Event: "a", Action: off, At: after(6), Disturbs: true, Over: true},
		{Stream: 2, Event: "a", Action: set("x"), At: after(7)},
	} {
		l.add(&x)
	}
	assert.Equal(t, []Break{{From: after(1), To: after(5), Deaf: true, event: "a", action: "offline"},
		{From: after(2), To: after(4), event: "b", action: "network"}}, l.Breaks[0])
	assert.Empty(t, l.Breaks[1])
	assert.Empty(t, l.Breaks[2])
	l = &Actions{}
	for n := range mostBreaks + 5 {
		l.add(&Done{Event: "a", Action: net, At: after(n), Disturbs: true})
		l.add(&Done{Event: "a", Action: net, At: after(n), Disturbs: true, Over: true})
	}
	require.Len(t, l.Breaks[0], mostBreaks)
	assert.Equal(t, Break{From: after(mostBreaks - 1), Deaf: true, event: "a"}, l.Breaks[0][mostBreaks-1], "the rest is one, without end")
	assert.False(t, l.Breaks[0][mostBreaks-2].To.IsZero())
}

func set(name string) Action { return Action{Kind: "set", Name: name} }

// What a page of a witness holds is told by parts; what was not read is what of these is missing.
func TestWhatAPageLacks(t *testing.T) {
	whole := tallied{}
	for _, seq := range []uint64{1, 2, 63, 64, 65, 200} {
		whole.add(0, seq)
	}
	whole.add(1, 1)
	whole.others = 3
	told := map[part]Lost{}
	for _, x := range whole.list() {
		told[part{x.Stream, x.Part}] = x
	}
	assert.Len(t, told, 4)
	read := func(seqs ...uint64) *tallied {
		x := &tallied{others: 3}
		for _, n := range seqs {
			x.add(0, n)
		}
		return x
	}
	for name, c := range map[string]struct {
		read *tallied
		is   string
	}{
		"a block of two":     {read(1, 2, 63, 200), "0/1: 2, 1/0: 1"},
		"all but one":        {read(1, 2, 63, 64, 200), "0/1: 1, 1/0: 1"},
		"others are missing": {&tallied{others: 2}, "no"},
		"more than was told": {read(1, 2, 63, 3), "no"},
		"what was not told":  {read(500), "no"},
		"another of as many": {read(1, 2, 62), "no"},
		"nothing":            {&tallied{others: 3}, "0/0: 3, 0/1: 2, 0/3: 1, 1/0: 1"},
	} {
		list, is := c.read.lacks(told, whole.others)
		text := "no"
		if is {
			x := tallied{parts: map[part]Lost{}}
			for _, l := range list {
				x.parts[part{l.Stream, l.Part}] = l
			}
			var words []string
			for _, l := range x.list() {
				words = append(words, fmt.Sprintf("%d/%d: %d", l.Stream, l.Part, l.N))
			}
			text = strings.Join(words, ", ")
		}
		assert.Equal(t, c.is, text, name)
	}
	list, is := read(1, 2, 63, 64, 200).lacks(told, 3)
	require.True(t, is)
	for _, l := range list {
		if l.Stream == 0 {
			assert.Equal(t, Digest(0, 65), l.Sum, "its sum tells which")
		}
	}
	assert.NotEqual(t, Digest(0, 1), Digest(1, 1))
}

// Who writes a ledger holds its lock; its folder may go meanwhile.
func TestOneWriter(t *testing.T) {
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) { oneWriter(t, dir) }) // a lock is waited for
}

func oneWriter(t *testing.T, dir string) {
	path := filepath.Join(dir, "ledger")
	assert.False(t, Busy(path), "nobody ever did")
	w, err := Create(path, "k3f9a2xy", "skerry-roads", noon)
	require.NoError(t, err)
	assert.True(t, Busy(path))
	_, err = Create(path, "k3f9a2xy", "skerry-roads", noon)
	assert.ErrorIs(t, err, ErrBusy)
	_, err = Reopen(path)
	assert.ErrorIs(t, err, ErrBusy)
	w.Stream(0, Stream{Device: "buoy-1", Kind: "buoy", Reading: "state"})
	w.End(false)
	saved := filepath.Join(dir, "saved")
	w.SaveTo(saved)
	require.NoError(t, os.Remove(path))
	require.NoError(t, w.Close())
	assert.False(t, Busy(path))
	f, err := Look(saved)
	require.NoError(t, err)
	assert.True(t, f.Ended)
	assert.Equal(t, "buoy-1", f.Streams[0].Device)

	w, err = Create(path, "k3f9a2xy", "skerry-roads", noon)
	require.NoError(t, err)
	w.SaveTo(saved) // it is there already
	assert.ErrorIs(t, w.Close(), os.ErrExist)
	_, err = Create(path, "k3f9a2xy", "skerry-roads", noon)
	assert.ErrorIs(t, err, os.ErrExist)
	assert.False(t, Busy(path), "and its lock is given back")
	_, err = Reopen(filepath.Join(dir, "none"))
	assert.ErrorIs(t, err, os.ErrNotExist)
	assert.False(t, Busy(path))

	other := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(other, LockName), 0o700))
	assert.False(t, Busy(filepath.Join(other, "ledger")))
	_, err = Create(filepath.Join(other, "ledger"), "k3f9a2xy", "skerry-roads", noon)
	assert.ErrorContains(t, err, "is no regular file")
}

// A book finds the first sighting by a witness, and tells of commands what came of them.
func TestBooks(t *testing.T) {
	b := &Book{Sightings: []Sighting{{Witness: 0, Stream: 1, Seq: 5}, {Witness: 1, Stream: 1, Seq: 5, Row: 7}, {Witness: 1, Stream: 1, Seq: 5, Row: 8}}}
	assert.Equal(t, uint64(7), b.Sighting(1, 1, 5).Row)
	assert.Nil(t, b.Sighting(1, 1, 6))
	assert.Nil(t, b.Sighting(1, 0, 5))
	assert.Nil(t, b.Sighting(2, 1, 5))
	assert.Equal(t, []string{"right", "wrong", "never", "never"}, []string{Right.String(), Wrong.String(), Never.String(), How(9).String()})
	assert.True(t, (&Facts{Ended: true}).Whole())
	assert.False(t, (&Facts{Ended: true, Lost: true}).Whole())
	assert.False(t, (&Facts{}).Whole())
}
