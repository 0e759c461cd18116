package tally

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"runcrowd/internal/decimal"
	"runcrowd/internal/evidence"
	"runcrowd/internal/ledger"
	"runcrowd/internal/outcome"
	"runcrowd/internal/proof"
	"runcrowd/internal/verdict"
)

// AlertVerdict is what became of an alert that was called for, or that was heard.
type AlertVerdict string

// The verdicts of alerts.
const (
	Given      AlertVerdict = "given"
	Missing    AlertVerdict = "missing"
	LateOne    AlertVerdict = "late"
	Twice      AlertVerdict = "repeated"
	Unexpected AlertVerdict = "unexpected"
	Unsure     AlertVerdict = "unknown"
)

// AlertCount is how one alert fared. Called is the sum of Given, Missing, Late and those
// Unknown that were called for; those of which that is not known are Unknown, too. Repeated and
// Unexpected are counted beside it.
type AlertCount struct {
	Name       string `json:"name"`
	Witness    string `json:"heard_by"`
	Called     int    `json:"called_for"`
	Given      int    `json:"given"`
	Missing    int    `json:"missing"`
	Late       int    `json:"late"`
	Unknown    int    `json:"unknown"`
	Repeated   int    `json:"repeated"`
	Unexpected int    `json:"unexpected"`
	// Strange are about devices that are none of the run: nobody is blamed for them.
	Strange int       `json:"about_other_devices"`
	Delays  Delays    `json:"-"`
	sure    [2]Delays // between which they are
}

// Exact tells whether each was given once and in time, and no other one came.
func (n *AlertCount) Exact() bool {
	return n.Given == n.Called && n.Repeated+n.Unexpected+n.Unknown == 0
}

// Turn is a message at which it was decided whether an alert is called for.
type Turn struct {
	Seq     uint64    `json:"seq"`
	Sent    time.Time `json:"sent"`
	Carried string    `json:"carried,omitempty"`
}

// AlertFinding is an alert that is not as it should be.
type AlertFinding struct {
	Alert   string       `json:"alert"`
	Verdict AlertVerdict `json:"verdict"`
	Device  string       `json:"device"`
	Reading string       `json:"reading,omitempty"`
	Before  *Turn        `json:"message_before,omitempty"`
	Call    *Turn        `json:"message,omitempty"`     // that called for it
	Armed   *Turn        `json:"armed_since,omitempty"` // of those that nobody called for: since when its values were on the other side
	Heard   time.Time    `json:"heard,omitzero"`
	Said    string       `json:"said,omitempty"`
	Why     string       `json:"why,omitempty"`
}

// about is one alert of one device.
type about struct {
	alert  int
	device string
}

// turn is a message, or several alike in a row, that calls for an alert or arms it again.
type turn struct {
	from, to    int64 // when they reached the platform, as far as we know; Unix nanoseconds
	answered    int64 // when the first was acknowledged; 0: it was not
	first, last uint64
	round       int
	calls, arms bool
	sure        bool // the platform has it, as it was sent
	carried     string
	before      *Turn
}

// history is what the messages of one device say of one alert.
type history struct {
	stream int
	turns  []turn
	prev   Turn // the last message
}

// mostTexts bounds how many messages are kept for people.
const mostTexts = 10_000

// alerts gathers what calls for alerts.
type alerts struct {
	by    map[about]*history
	texts int
}

// add takes a message that was judged.
func (n *alerts) add(f *ledger.Facts, c *evidence.Case, v verdict.Verdict, recovered bool) {
	mask := f.Streams[c.Stream].Calls
	if mask == 0 {
		return
	}
	for i := range f.Alerts {
		if mask&(1<<i) == 0 {
			continue
		}
		n.turn(n.of(i, f.Streams[c.Stream].Device, c.Stream), c, v, f.Alerts[i].Fields, recovered, c.Calls>>(2*i)&1 != 0, c.Calls>>(2*i)&2 != 0)
	}
}

// gap notes that messages of a stream may have been sent of which nothing is known, up to one.
func (n *alerts) gap(f *ledger.Facts, stream int, seq uint64) {
	for i := range f.Alerts {
		if f.Streams[stream].Calls&(1<<i) == 0 {
			continue
		}
		h := n.of(i, f.Streams[stream].Device, stream)
		from := h.prev.Sent
		if from.IsZero() {
			from = f.Start
		}
		to := from
		for _, x := range f.Of(stream).Resumed { // until its run went on
			if x.Killed && x.At.After(from) {
				to = x.At
				break
			}
		}
		h.turns = append(h.turns, turn{from: from.UnixNano(), to: to.UnixNano(), first: seq, last: seq, calls: true, arms: true})
		h.prev = Turn{Sent: to}
	}
}

// of is what is known of a device and an alert.
func (n *alerts) of(alert int, device string, stream int) *history {
	k := about{alert, device}
	h := n.by[k]
	if h == nil {
		if n.by == nil {
			n.by = map[about]*history{}
		}
		h = &history{stream: stream}
		n.by[k] = h
	}
	return h
}

// reached tells whether the platform has a message as it was sent; or whether it may have it.
func reached(c *evidence.Case, v verdict.Verdict) (sure, perhaps bool) {
	apart := c.Meant == ledger.ToRefuse || c.Meant == ledger.ToDiscard
	switch {
	case c.Sent.IsZero() && v != verdict.Unknown:
		return false, false
	case apart:
		return false, v != verdict.Proven
	case v == verdict.Proven, v == verdict.Repeated, v == verdict.Late, v == verdict.Unacknowledged:
		return true, true
	case v == verdict.Refused, v == verdict.Dropped:
		return false, false
	}
	return false, true
}

func (n *alerts) turn(h *history, c *evidence.Case, v verdict.Verdict, fields []string, recovered, calls, arms bool) {
	sure, perhaps := reached(c, v)
	if recovered { // its values are not known
		calls, arms, sure, perhaps = true, true, false, true
	}
	at := c.Sent
	if c.Attempts > 1 && !c.At.IsZero() {
		at = c.At // it may have been taken any time until then, and hardly before those that were sent with it
	}
	if at.IsZero() {
		at = h.prev.Sent
	}
	before := h.prev
	h.prev = Turn{Seq: c.Seq, Sent: at}
	if n.texts < mostTexts && !recovered {
		h.prev.Carried = only(c.Carried(), fields)
	}
	if !perhaps || !calls && !arms {
		return
	}
	when := at.UnixNano()
	if k := len(h.turns); k > 0 && sure {
		if last := &h.turns[k-1]; last.sure && last.calls == calls && last.arms == arms && !(calls && arms) &&
			when >= last.to {
			last.to, last.last = when, c.Seq
			return
		}
	}
	t := turn{from: when, to: when, first: c.Seq, last: c.Seq, round: c.Round, calls: calls, arms: arms, sure: sure}
	if c.Outcome == outcome.Accepted {
		t.answered = c.At.UnixNano()
	}
	if h.prev.Carried != "" {
		n.texts++
		t.carried = h.prev.Carried
		if calls && before.Seq > 0 {
			t.before = &before
		}
	}
	h.turns = append(h.turns, t)
}

// only is a body with those of its fields that matter; all of it, where it has none of them.
func only(b []byte, fields []string) string {
	var all map[string]json.RawMessage
	json.Unmarshal(b, &all)
	some := map[string]json.RawMessage{}
	for _, name := range fields {
		if v, has := all[name]; has {
			some[name] = v
		}
	}
	if len(some) > 0 {
		b, _ = json.Marshal(some)
	}
	if r := []rune(string(b)); len(r) > 300 {
		return string(r[:300]) + "…"
	}
	return string(b)
}

// call is an alert that is called for.
type call struct {
	*turn
	sure    bool
	first   bool  // it was armed for sure before
	by      int64 // when the platform had a message that calls for it, at the latest
	armed   int64 // when it was armed again for sure; 0: never
	heard   *ledger.Said
	late    bool
	whether bool // whether it was in time is not known
}

// mixes tells whether messages of a turn may have come after some of the next, which says something else.
func (t *turn) mixes(next *turn) bool {
	return t.to > next.from && (t.calls != next.calls || t.arms != next.arms)
}

// expected works out which alerts a device's messages call for.
//
// What the platform knew of the device before the run is not known, nor what became of a
// message that may have been lost: then both are followed, the alert armed and not.
func (h *history) expected() (list []call) {
	slices.SortStableFunc(h.turns, func(a, b turn) int {
		return cmp.Or(cmp.Compare(a.from, b.from), cmp.Compare(a.first, b.first))
	})
	armed, raised := true, true
	open := -1 // the call since which nothing can have armed it again: all that call since then call once
	for i := range h.turns {
		t := &h.turns[i]
		steady := t.sure
		steady = steady && (i == 0 || !h.turns[i-1].mixes(t)) && (i+1 == len(h.turns) || !t.mixes(&h.turns[i+1]))
		switch {
		case !t.calls:
		case open < 0 && armed:
			open = len(list)
			list = append(list, call{turn: t, by: max(t.from, t.answered), sure: steady && !raised && !t.arms,
				first: !raised && !t.arms})
		case open >= 0 && steady && !t.arms && list[open].first && !list[open].sure:
			// Whether the earlier ones were taken is not known: this one was.
			list[open].sure, list[open].by = true, max(t.from, t.answered)
		}
		switch {
		case t.calls && t.arms:
			armed, raised, open = true, true, -1
		case t.calls && steady:
			armed, raised = false, true
		case t.calls:
			raised = true
		case steady:
			armed, raised, open = true, false, -1
			if n := len(list); n > 0 && list[n-1].armed == 0 {
				list[n-1].armed = t.from
			}
		default:
			armed, open = true, -1
		}
	}
	return list
}

// span is when something was said: at least and at most.
type span struct {
	x        *ledger.Said
	from, to int64
}

// early is how much before its message an alert may seem to be heard: both are told by one
// clock, and by different goroutines.
const early = int64(20 * time.Millisecond)

// spans are when things were said, by our clock.
func spans(list []*ledger.Said, w *ledger.Witness) []span {
	out := make([]span, len(list))
	for i, x := range list {
		s := span{x, x.Seen.UnixNano(), x.Seen.UnixNano()}
		if !w.Listens {
			s.from = 0
			if !x.Stored.IsZero() && w.Clock != nil {
				s.from = x.Stored.Add(-w.Clock.Most).UnixNano()
				s.to = min(s.to, x.Stored.Add(-w.Clock.Least).UnixNano())
			}
		}
		out[i] = s
	}
	slices.SortStableFunc(out, func(a, b span) int { return cmp.Compare(a.to, b.to) })
	return out
}

// match gives each call what was said for it, and returns what is left over. What was said in
// time for no call is late for the nearest one before it that has none.
func match(calls []call, said []span, within time.Duration) (over []span) {
	give := func(s span, inTime bool) bool {
		best := -1
		for i := range calls {
			c := &calls[i]
			if c.heard != nil || c.from > s.to+early {
				continue
			}
			limit := c.by + int64(within)
			if inTime && s.to > limit && (s.from > limit || s.from == 0) {
				continue
			}
			if best < 0 || c.sure && !calls[best].sure || !inTime && c.sure == calls[best].sure {
				best = i
			}
		}
		if best < 0 {
			return false
		}
		c := &calls[best]
		limit := c.by + int64(within)
		c.heard, c.late = s.x, s.from > limit
		c.whether = !c.late && s.to > limit
		if c.late && !c.sure { // it may be for another message
			c.late, c.whether = false, true
		}
		return true
	}
	var rest []span
	for _, s := range said {
		if !give(s, true) {
			rest = append(rest, s)
		}
	}
	for _, s := range slices.Backward(rest) { // the last is the nearest to the last
		if !give(s, false) {
			over = append(over, s)
		}
	}
	slices.Reverse(over)
	return over
}

// result judges all alerts.
func (n *alerts) result(f *ledger.Facts, opt Options) (counts []AlertCount, findings []AlertFinding) {
	if len(f.Alerts) == 0 {
		return nil, nil
	}
	said := map[about][]*ledger.Said{}
	counts = make([]AlertCount, len(f.Alerts))
	delay := make([]*delays, len(f.Alerts))
	for i := range f.Alerts {
		x := &f.Alerts[i]
		counts[i].Name, counts[i].Witness, delay[i] = x.Name, f.Witnesses[x.Witness].Name, newDelays()
		for k := range x.Said {
			s := &x.Said[k]
			if s.Stream < 0 {
				counts[i].Strange++
				continue
			}
			key := about{i, f.Streams[s.Stream].Device}
			said[key] = append(said[key], s)
		}
	}
	keys := make([]about, 0, len(n.by)+len(said))
	for k := range n.by {
		keys = append(keys, k)
	}
	for k := range said {
		if n.by[k] == nil {
			keys = append(keys, k)
		}
	}
	slices.SortFunc(keys, func(a, b about) int {
		return cmp.Or(cmp.Compare(a.alert, b.alert), cmp.Compare(a.device, b.device))
	})
	kept := map[AlertVerdict]int{}
	for _, k := range keys {
		h := n.by[k]
		if h == nil {
			h = &history{stream: said[k][0].Stream}
		}
		c, x := &counts[k.alert], &f.Alerts[k.alert]
		w := &f.Witnesses[f.Witness(x.Witness, h.stream)]
		calls := h.expected()
		over := match(calls, spans(said[k], w), x.Within)
		find := func(v AlertVerdict, t *turn, s *ledger.Said, why string) {
			if kept[v]++; opt.PerVerdict > 0 && kept[v] > opt.PerVerdict {
				return
			}
			y := AlertFinding{Alert: x.Name, Verdict: v, Device: k.device, Why: why}
			if t != nil {
				y.Reading = f.Streams[h.stream].Reading
				y.Call, y.Before = &Turn{t.first, time.Unix(0, t.from), t.carried}, t.before
				if v == Unexpected && !t.calls {
					y.Armed, y.Call, y.Before = y.Call, nil, nil
				}
			}
			if s != nil {
				y.Heard, y.Said = s.Seen, s.Text
			}
			findings = append(findings, y)
		}
		for i := range calls {
			q := &calls[i]
			switch {
			case q.heard != nil:
				c.Called++
				if d := time.Duration(q.heard.Seen.UnixNano() - q.from); w.Listens {
					delay[k.alert].Add(max(0, d))
				}
				switch {
				case q.late && meanwhile(w, q) != "":
					c.Unknown++
					find(Unsure, q.turn, q.heard, "whether it was in time is not known: "+meanwhile(w, q))
				case q.late:
					c.Late++
					find(LateOne, q.turn, q.heard, fmt.Sprintf("heard %s after the message was sent; %s is allowed",
						round(time.Duration(q.heard.Seen.UnixNano()-q.from)), x.Within))
				case q.whether:
					c.Unknown++
					find(Unsure, q.turn, q.heard, q.unclear())
				default:
					c.Given++
				}
			case !q.sure:
				c.Unknown++
				find(Unsure, q.turn, nil, h.doubt(q))
			default:
				c.Called++
				if why := unheard(f.Of(h.stream).Lost, w, q, x.Within); why != "" {
					c.Unknown++
					find(Unsure, q.turn, nil, why)
					continue
				}
				c.Missing++
				find(Missing, q.turn, nil, "")
			}
		}
		for _, s := range over {
			if s.x.Perhaps {
				continue
			}
			var last *call
			for i := range calls {
				if calls[i].from <= s.to+early {
					last = &calls[i]
				}
			}
			if last != nil && (last.armed == 0 || s.from < last.armed+int64(x.Within)) {
				c.Repeated++
				find(Twice, last.turn, s.x, "")
				continue
			}
			c.Unexpected++
			var t *turn
			for i := range h.turns {
				if h.turns[i].from <= s.to {
					t = &h.turns[i]
				}
			}
			find(Unexpected, t, s.x, "")
		}
	}
	for i := range counts {
		counts[i].Strange += f.Alerts[i].More
		delay[i].open, delay[i].lost = counts[i].Unknown, counts[i].Missing
		counts[i].Delays, counts[i].sure = delay[i].percentiles(), delay[i].bounds()
	}
	return counts, findings
}

func round(d time.Duration) time.Duration {
	if d < time.Second {
		return d.Round(time.Millisecond)
	}
	return d.Round(10 * time.Millisecond)
}

// doubt tells why it is not known whether an alert was called for.
func (h *history) doubt(q *call) string {
	if !q.turn.sure {
		return "whether the message reached the platform as it was sent is not known"
	}
	for i := range h.turns {
		t := &h.turns[i]
		if t == q.turn {
			break
		}
		if !t.sure {
			return "whether an earlier message reached the platform, which decides about it, is not known"
		}
	}
	if q.calls && q.arms {
		return "its values call for it and arm it again at once"
	}
	return "whether the platform had said so before the run is not known: no message had armed it since"
}

// unclear tells why it is not known whether an alert was in time.
func (q *call) unclear() string {
	if !q.sure {
		return "whether it was called for by this message, and so whether it was in time, is not known"
	}
	return "whether it was in time is not known: the platform's clock and ours do not allow it"
}

// meanwhile tells why an alert that was heard late may have waited for its witness; empty: it
// did not.
func meanwhile(w *ledger.Witness, q *call) string {
	for i := range w.Gaps {
		g := &w.Gaps[i]
		if !g.From.After(q.heard.Seen) && (g.To.IsZero() || g.To.UnixNano() >= q.from) {
			return "its witness could not listen, or heard late: " + g.Why
		}
	}
	return ""
}

// unheard tells why it is not known whether an alert was given; empty: it was not.
func unheard(lost bool, w *ledger.Witness, q *call, within time.Duration) string {
	until := q.by + int64(within)
	for i := range w.Gaps {
		g := &w.Gaps[i]
		if !g.Kept && !g.Whole && g.From.UnixNano() <= until && (g.To.IsZero() || g.To.UnixNano() >= q.from) ||
			g.Kept && g.To.IsZero() {
			return "its witness could not listen just then: " + g.Why
		}
	}
	h, ok := w.Heard[q.round]
	switch {
	case !ok:
		return "its witness was not heard to the end of the round"
	case !h.Complete:
		return "its witness was not heard to the end of the round: " + h.Why
	case lost:
		return "the ledger is damaged"
	}
	return ""
}

// checkAlerts holds a requirement on alerts against a run.
func (r *Result) checkAlerts(q *proof.Requirement) proof.Check {
	c := proof.Check{Key: q.Key, Want: q.Text, State: proof.NotMet}
	var all AlertCount
	var sure [][2]Delays
	var got time.Duration
	heard := len(r.Rounds) > 0 // what was not played shows nothing
	for i := range r.Alerts {
		n := &r.Alerts[i]
		if q.Alert != "" && n.Name != q.Alert {
			continue
		}
		all.Called, all.Given, all.Missing, all.Late = all.Called+n.Called, all.Given+n.Given, all.Missing+
			n.Missing, all.Late+n.Late
		all.Unknown, all.Repeated, all.Unexpected = all.Unknown+n.Unknown, all.Repeated+n.Repeated, all.Unexpected+
			n.Unexpected
		sure, got = append(sure, n.sure), max(got, n.Delays.of(q.Delay))
		for _, w := range r.Witnesses {
			heard = heard && (w.Name != n.Witness || w.Heard)
		}
	}
	if q.Delay != "" {
		var least, most time.Duration
		some := false
		for _, d := range sure {
			if d[1].N > 0 {
				some = true
				least, most = max(least, d[0].of(q.Delay)), max(most, d[1].of(q.Delay))
			}
		}
		without := ""
		if all.Missing > 0 {
			without = fmt.Sprintf(" of those that came; %d did not, and count as later than all", all.Missing)
		}
		if c.Got = "nothing to measure"; some {
			c.Got = verdict.Span(got) + without
			switch {
			case most <= q.Limit:
				c.State = proof.Met
			case least <= q.Limit: // they are many, and known to 1/4096
				c.State = proof.Undecided
			}
		}
		return c
	}
	c.Got = ShareText(all.Given, all.Called)
	if all.Called == 0 {
		c.Got = "none was called for"
	}
	for _, x := range []struct {
		n    int
		what string
	}{{all.Missing, "missing"}, {all.Late, "late"}, {all.Repeated, "repeated"}, {all.Unexpected, "unexpected"},
		{all.Unknown, "unknown"}} {
		if x.n > 0 && (q.Exact || x.what == "unknown") {
			c.Got += fmt.Sprintf(", %d %s", x.n, x.what)
		}
	}
	bad, percent := all.Missing+all.Late, decimal.Float(q.Percent)
	switch {
	case q.Exact && bad == 0 && all.Repeated+all.Unexpected > 0 && r.cut:
		c.State = proof.Undecided
		c.Got += "; the run was killed, and what it sent last is not known"
	case q.Exact && bad+all.Repeated+all.Unexpected > 0:
	case q.Exact && all.Unknown == 0 && heard:
		c.State = proof.Met
	case q.Exact:
		c.State = proof.Undecided
		if all.Unknown == 0 {
			c.Got += ", but not heard to the end"
		}
	case all.Called == 0 && all.Unknown == 0: // nothing was tested
	case decimal.AtLeast(all.Given, all.Called, percent) && (all.Unknown == 0 ||
		decimal.AtLeast(all.Given, all.Called+all.Unknown, percent)):
		c.State = proof.Met
	case decimal.AtLeast(all.Given+all.Unknown, all.Called+all.Unknown, percent), all.Called == 0:
		c.State = proof.Undecided
	}
	return c
}
