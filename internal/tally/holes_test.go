package tally_test

import (
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"runcrowd/internal/evidence"
	"runcrowd/internal/ledger"
	"runcrowd/internal/outcome"
	"runcrowd/internal/tally"
)

// What happened to connections, and where messages in a row are not proven, is told by
// device, time and cause.
func TestHolesAndConnections(t *testing.T) {
	path := filepath.Join(t.TempDir(), "ledger")
	begin := time.Unix(1_900_000_000, 0)
	w, err := ledger.Create(path, "k3f9a2xy", "harbour", begin)
	require.NoError(t, err)
	for i, device := range []string{"buoy-1", "buoy-2", "buoy-3", "buoy-4"} {
		w.Stream(2*i, ledger.Stream{Device: device, Kind: "buoy", Reading: "state"})
		w.Stream(2*i+1, ledger.Stream{Device: device, Kind: "buoy", Reading: "bad"})
	}
	w.Round(ledger.Round{N: 1, Begin: begin, End: begin.Add(20 * time.Second)})
	p := w.Page()
	at := func(s int) time.Time { return begin.Add(time.Duration(s) * time.Second) }
	down := func(stream, s int, why string, early bool, after ledger.Entry, times int) {
		p.Link(&ledger.LinkEvent{Stream: stream, At: at(s), What: ledger.Down, Why: why, Early: early, After: after,
			Times: times})
	}
	p.Link(&ledger.LinkEvent{Stream: 0, At: at(0), What: ledger.Up})
	p.Link(&ledger.LinkEvent{Stream: 0, At: at(0), What: ledger.Remarked, Why: "a remark"})
	// buoy-1 is away from 5 to 9; 4 to 8 are not sent. 12 and 13 are refused.
	for seq := 1; seq <= 15; seq++ {
		p.Due(0, uint64(seq), 1, at(seq).UnixNano(), ledger.ToKeep, 0, []byte(`{}`))
		switch {
		case seq >= 5 && seq <= 9:
			p.Settled(0, uint64(seq), at(20).UnixNano(), outcome.Unsent, 0, "still waiting")
		case seq >= 12 && seq <= 14:
			p.Sent(0, uint64(seq), at(seq).UnixNano(), false)
			p.Settled(0, uint64(seq), at(seq).UnixNano(), outcome.Refused, 0x97, "PUBACK quota exceeded")
		default:
			p.Sent(0, uint64(seq), at(seq).UnixNano(), false)
			p.Settled(0, uint64(seq), at(seq).UnixNano(), outcome.Accepted, 0, "")
		}
	}
	down(0, 5, "the platform cut the connection", false, ledger.Entry{Stream: 1, Seq: 7}, 1)
	down(0, 6, "no answer", true, ledger.Entry{}, 0)
	down(0, 7, "bad user name or password", true, ledger.Entry{}, 0)
	p.Link(&ledger.LinkEvent{Stream: 0, At: at(10), What: ledger.Up})
	down(0, 11, "closed", false, ledger.Entry{Stream: 1, Seq: 7}, 4)
	down(2, 3, "closed", false, ledger.Entry{Stream: 3, Seq: 2}, 2)
	p.Link(&ledger.LinkEvent{Stream: 2, At: at(4), What: ledger.Up})
	down(4, 1, "CONNECT got no answer", true, ledger.Entry{}, 0)
	down(6, 1, "CONNECT got no answer", true, ledger.Entry{}, 0)
	w.Over(1, begin.Add(23*time.Second), time.Time{}, 5)
	w.Left("sea", 3, time.Hour)
	w.End(false)
	require.NoError(t, w.Close())

	e, err := evidence.Open(path, evidence.Options{})
	require.NoError(t, err)
	defer e.Close()
	r, err := tally.Watch(e, tally.Options{}).Judge()
	require.NoError(t, err)
	require.Len(t, r.Holes, 2)
	assert.Equal(t, tally.Hole{Device: "buoy-1", Reading: "state", From: 5, To: 9, Verdict: "unsent", FirstDue: at(5),
		LastDue: at(9),
		Why:     "connection lost: the platform cut the connection; it did not come back 2 times: bad user name or password"},
		utc(r.Holes[0]))
	assert.Equal(t, "connection lost: closed", r.Holes[1].Why)
	assert.Equal(t, uint64(12), r.Holes[1].From)
	assert.Equal(t, []tally.Never{{Devices: 2, Why: "CONNECT got no answer", Examples: []string{"buoy-3", "buoy-4"},
		Crowded: true}}, r.Never)
	assert.Equal(t, []tally.Closing{{Reading: "bad", Times: 6, Devices: 2, Device: "buoy-1", Seq: 7, Most: 4}}, r.Closings)
	assert.Equal(t, []tally.Overtime{{Round: 1, By: 3 * time.Second, Open: 5}}, r.Overtime)
	assert.Equal(t, []ledger.LeftSessions{{Link: "sea", Devices: 3, Kept: time.Hour}}, r.Left)
	assert.Equal(t, map[string]int{"a remark": 1}, r.Links.Remarks)
}

// A client id that another client uses, too, shows in connections that are lost as soon as they
// are there, again and again; not where the plan broke them, or where a message did it.
func TestThrownOff(t *testing.T) {
	for name, c := range map[string]struct {
		lasts, times int // milliseconds that a connection lasts, and how many are lost
		after        int // messages right after which they were
		broken       bool
		thrown       int
	}{
		"again and again":     {200, 6, 0, false, 1},
		"three times":         {200, 4, 0, false, 1},
		"twice":               {200, 3, 0, false, 0},
		"long connections":    {2500, 6, 0, false, 0},
		"a message did it":    {200, 6, 2, false, 0},
		"the plan broke them": {200, 6, 0, true, 0},
	} {
		begin := time.Unix(1_900_000_000, 0)
		path := filepath.Join(t.TempDir(), "ledger")
		w, err := ledger.Create(path, "k3f9a2xy", "harbour", begin)
		require.NoError(t, err)
		w.Stream(0, ledger.Stream{Device: "buoy-1", Kind: "buoy", Reading: "state"})
		w.Round(ledger.Round{N: 1, Begin: begin, End: begin.Add(time.Minute)})
		p, at := w.Page(), begin
		if c.broken {
			p.Done(&ledger.Done{Event: "cut", Action: ledger.Action{Kind: "offline"}, At: begin, Broke: true, Disturbs: true})
		}
		for range c.times {
			p.Link(&ledger.LinkEvent{At: at, What: ledger.Up})
			at = at.Add(time.Duration(c.lasts) * time.Millisecond)
			p.Link(&ledger.LinkEvent{At: at, What: ledger.Down, Why: "closed", Times: c.after})
			at = at.Add(300 * time.Millisecond)
		}
		w.End(false)
		require.NoError(t, w.Close())
		e, err := evidence.Open(path, evidence.Options{})
		require.NoError(t, err)
		r, err := tally.Watch(e, tally.Options{}).Judge()
		require.NoError(t, err)
		require.NoError(t, e.Close())
		assert.Equal(t, c.thrown, r.ThrownOff.Devices, name)
	}
}

func utc(h tally.Hole) tally.Hole {
	h.FirstDue, h.LastDue = h.FirstDue.Local(), h.LastDue.Local()
	return h
}
