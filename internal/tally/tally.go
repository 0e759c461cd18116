package tally

import (
	"slices"
	"time"

	"runcrowd/internal/evidence"
	"runcrowd/internal/ledger"
	"runcrowd/internal/verdict"
)

// Options say how much detail is kept.
type Options struct {
	// PerVerdict is how many findings of each bad verdict are kept; 0 is all.
	PerVerdict int
	// Series: the run over time is gathered, too. Rows: each reading of each device.
	Series bool
	Rows   RowDetail
	// Witness is the one whose values rows show; empty: the first that proves that messages
	// are stored, or else received.
	Witness string
	// Each is given every message, in the order of streams and sequence numbers, right after
	// it was judged; its error ends the judging. Nil: nobody is.
	Each Each
	// Feed, if not nil, makes Each of what the ledger tells beside its messages.
	Feed func(f *ledger.Facts) Each
}

// Each takes a message that was judged. Recovered: the ledger does not tell when it was due.
type Each func(j *verdict.Judge, c *evidence.Case, r *verdict.Ruling, recovered bool) error

// maxGap bounds how many messages a sighting past the ledger's end may bring in.
const maxGap = 1 << 20

// tailGap bounds how many of them are missing in a row.
const tailGap = 1000

// maxUnmatched is how many unmatched are kept beside their count.
const maxUnmatched = 20

// Tally counts the cases of a run, which come by stream and sequence number.
type Tally struct {
	facts *ledger.Facts
	opt   Options
	judge *verdict.Judge
	res   Result

	byDevice map[string]*Counts
	byKind   map[string]*Counts
	byRound  map[int]*Counts
	inRound  map[int]*[3]Proof // the proofs of each round
	findings [verdict.Count]int
	delays   [4]*delays // acknowledged, received, stored, lag
	proofs   [3]Proof
	alike    map[likeness]*Alike
	commands commands
	alerts   alerts
	ours     map[string]*ours // by device; nil: none was counted yet
	series   *series          // nil: it is not wanted
	rows     *rows            // the same
	err      error            // of Each
	counts   bool             // some witness tells how many messages there are

	stream int    // whose cases come now; -1: none yet
	prev   uint64 // the last of its messages that was counted
	round  int    // of that
	device *Counts
	kind   *Counts
	order  []order // by witness
	behind ledger.Spans
	hole   hole
	links  map[string]*ledger.DeviceLinks // by device
	away   map[string][]ledger.Break      // the same
}

// New makes an empty tally of a run, whose messages are judged by j.
func New(f *ledger.Facts, j *verdict.Judge, opt Options) *Tally {
	t := &Tally{facts: f, opt: opt, judge: j, byDevice: map[string]*Counts{}, byKind: map[string]*Counts{},
		byRound: map[int]*Counts{}, inRound: map[int]*[3]Proof{},
		alike: map[likeness]*Alike{}, stream: -1, order: make([]order, len(f.Witnesses))}
	t.commands.most = opt.PerVerdict
	if opt.Feed != nil {
		t.opt.Each = opt.Feed(f)
	}
	if opt.Series {
		t.series = newSeries(f)
	}
	if opt.Rows > NoRows {
		t.rows = newRows(f, opt.Witness)
		t.rows.values = opt.Rows == RowValues
	}
	for i, name := range []string{"acknowledged", "received", "stored"} {
		t.proofs[i].Name = name
	}
	for i := range t.delays {
		t.delays[i] = newDelays()
	}
	return t
}

// Watcher gathers the evidence of a run, perhaps while it plays, and judges it.
type Watcher struct {
	evidence *evidence.Evidence
	commands commands
	opt      Options
}

// Watch begins with evidence of which nothing was gathered yet.
func Watch(e *evidence.Evidence, opt Options) *Watcher {
	w := &Watcher{evidence: e, opt: opt, commands: commands{most: opt.PerVerdict}}
	e.Commands.See = w.commands.add
	return w
}

// Gather takes what has been recorded since the last time.
func (w *Watcher) Gather() error { return w.evidence.Gather() }

// Want says what the judgement is to give, in place of what Watch was told.
func (w *Watcher) Want(opt Options) { w.opt = opt }

// Judge takes the rest and judges the run. It is called once.
func (w *Watcher) Judge() (*Result, error) {
	e := w.evidence
	if err := e.Finish(); err != nil {
		return nil, err
	}
	survey := verdict.NewSurvey(e.Facts)
	if survey.Needed(e.Timed) {
		if err := e.Cases(func(c *evidence.Case) error { survey.Add(c); return nil }); err != nil {
			return nil, err
		}
	}
	survey.Finish()
	t := New(e.Facts, verdict.NewJudge(survey), w.opt)
	t.commands = w.commands
	if err := e.Cases(func(c *evidence.Case) error { t.Add(c); return t.err }); err != nil {
		return nil, err
	}
	return t.Result(survey), nil
}

// Add counts a case.
func (t *Tally) Add(c *evidence.Case) {
	if c.Stream < 0 {
		t.unmatched(c)
		return
	}
	if t.facts.Streams[c.Stream].Elsewhere {
		return // what is found of it is of another part
	}
	if c.Stream != t.stream {
		t.leave()
		t.enter(c.Stream)
	}
	last := t.facts.Last[c.Stream]
	switch {
	case c.Seq == 0:
		t.unmatched(c)
		return
	case c.Seq > last:
		// What a killed run sent last may be missing from its ledger.
		if t.facts.Of(c.Stream).Whole() || c.Seq > last+maxGap || c.Seq > max(t.prev, last)+tailGap {
			t.unmatched(c)
			return
		}
	}
	t.fill(c.Seq)
	t.count(c, !c.Known)
	t.prev = c.Seq
}

// enter begins a stream.
func (t *Tally) enter(stream int) {
	t.stream, t.prev, t.round = stream, 0, 1
	s := &t.facts.Streams[stream]
	t.device, t.kind = counts(t.byDevice, s.Device), counts(t.byKind, s.Kind)
	for i := range t.order {
		t.order[i].begin()
	}
	t.behind = t.behind[:0]
}

// leave ends a stream: what is not there was lost in damage.
func (t *Tally) leave() {
	if t.stream >= 0 {
		t.fill(t.facts.Last[t.stream] + 1)
		t.rowOver()
		t.behindOver()
	}
}

// fill counts the messages of the stream before a sequence number that no record tells of:
// sequence numbers have no holes but those that are known, so they were due.
func (t *Tally) fill(seq uint64) {
	for n := t.prev + 1; n < seq; n++ {
		if end := t.facts.SkippedTo(t.stream, n); end > 0 { // perhaps it was sent, in the last moment before the run was killed
			n = min(end, seq-1)
			t.prev = n
			t.alerts.gap(t.facts, t.stream, n)
			continue
		}
		t.prev = n
		t.count(&evidence.Case{Stream: t.stream, Seq: n}, true)
	}
}

func counts[K comparable](groups map[K]*Counts, key K) *Counts {
	c := groups[key]
	if c == nil {
		c = new(Counts)
		groups[key] = c
	}
	return c
}

// unmatched counts a sighting that is of no message.
func (t *Tally) unmatched(c *evidence.Case) {
	if len(c.Sightings) == 0 {
		return
	}
	x := &c.Sightings[0]
	if x.Witness < 0 || x.Witness >= len(t.facts.Witnesses) {
		return
	}
	t.res.UnmatchedCount++
	if len(t.res.Unmatched) < maxUnmatched {
		m := x.Mark(t.facts.Run)
		if c.Stream >= 0 {
			s := &t.facts.Streams[c.Stream]
			m = ledger.Mark{Run: t.facts.Run, Device: s.Device, Reading: s.Reading, Seq: c.Seq}
		}
		t.res.Unmatched = append(t.res.Unmatched, Unmatched{t.facts.Witnesses[x.Witness].Name, m.String(),
			string(x.Values())})
	}
}

// count judges one message and counts it.
func (t *Tally) count(c *evidence.Case, recovered bool) {
	s := &t.facts.Streams[c.Stream]
	if recovered {
		if c.Round == 0 { // when it was due is not known
			c.Round = t.round
		}
		if c.Seq > t.facts.Last[c.Stream] {
			t.res.Recovered++
		}
	}
	t.round = c.Round
	r := t.judge.Rule(c, recovered)
	if r.Verdict == verdict.Dropped { // nothing can be asked of what was never sent
		for w := range r.States {
			r.States[w], r.Delays[w] = verdict.Unasked, verdict.Delay{Took: -1}
		}
		r.Answer = verdict.Unasked
	}
	var state [3]verdict.State
	var took [3]verdict.Delay // that of the last witness
	for w, x := range r.States {
		if x == verdict.Unasked {
			continue
		}
		p := proofIndex(t.facts.Witnesses[w].Proof)
		took[p] = later(took[p], r.Delays[w], state[p] == verdict.Unasked)
		if state[p] == verdict.Unasked || x.Worse(state[p]) {
			state[p] = x
		}
	}
	if state[0] = r.Answer; c.Sent.IsZero() || c.At.IsZero() {
		took[0].Took = -1
	} else {
		took[0] = t.judge.DelayOf(c.Sent, c.At)
	}
	in := t.inRound[c.Round]
	if in == nil {
		in = new([3]Proof)
		t.inRound[c.Round] = in
	}
	apart := c.Meant == ledger.ToRefuse || c.Meant == ledger.ToDiscard
	if apart && r.Verdict != verdict.Dropped { // what did not go out shows nothing
		t.res.MustNot++
		switch r.Verdict {
		case verdict.Proven:
			t.res.KeptOut++
		case verdict.Unknown:
			t.res.mayBeIn++
		}
	}
	apart = apart || r.Verdict == verdict.Dropped // no share counts what must not get in
	for p := range t.proofs {
		if apart {
			t.proofs[p].Apart++
			in[p].Apart++
			continue
		}
		t.proofs[p].add(state[p])
		in[p].add(state[p])
		t.delays[p].took(state[p], took[p])
	}
	if !c.Sent.IsZero() && !t.awayAt(s.Device, c.Due) {
		t.delays[3].Add(c.Sent.Sub(c.Due))
	}
	if c.Attempts > 1 {
		t.res.Resent++
	}
	t.ordered(c)
	v := r.Verdict
	t.res.Total[v]++
	t.device[v]++
	t.kind[v]++
	counts(t.byRound, c.Round)[v]++
	t.row(c, v)
	t.alerts.add(t.facts, c, v, recovered)
	t.counting(c, r, recovered)
	if t.series != nil {
		t.series.add(t.facts, c, r)
	}
	if t.rows != nil {
		t.rows.add(c, v, recovered)
	}
	if t.opt.Each != nil && t.err == nil {
		t.err = t.opt.Each(t.judge, c, r, recovered)
	}
	if v == verdict.Altered {
		t.likenesses(c, s)
	}
	if v != verdict.Proven && v != verdict.Dropped && (t.opt.PerVerdict == 0 || t.findings[v] < t.opt.PerVerdict) {
		t.findings[v]++
		t.res.Findings = append(t.res.Findings, t.judge.Finding(c, recovered))
	}
}

func (p *Proof) add(s verdict.State) {
	if s == verdict.Unasked {
		p.NotAsked++
		return
	}
	p.Asked++
	switch s {
	case verdict.Found:
		p.AsSent++
		p.Seen++
	case verdict.NotHeard:
		p.Unknown++
	case verdict.InDoubt:
		p.Open++
		p.Seen++
	case verdict.NotFound:
	default:
		p.Seen++
	}
}

// awayAt tells whether the plan had disturbed a device when a message was due: what is late
// then is late as it is meant to be.
func (t *Tally) awayAt(device string, due time.Time) bool {
	if len(t.facts.Actions.Breaks) == 0 || due.IsZero() {
		return false
	}
	if t.away == nil {
		t.away = map[string][]ledger.Break{}
		for stream, list := range t.facts.Actions.Breaks {
			if stream < len(t.facts.Streams) {
				t.away[t.facts.Streams[stream].Device] = list
			}
		}
	}
	return slices.ContainsFunc(t.away[device], func(b ledger.Break) bool {
		return !due.Before(b.From) && (b.To.IsZero() || !due.After(b.To.Add(time.Second)))
	})
}

func proofIndex(name string) int {
	if name == "stored" {
		return 2
	}
	return 1
}

// orderLook is how many messages of a stream back one is held to be behind.
const orderLook = 1 << 16

// order finds the messages of a stream that a witness found behind a later one.
type order struct {
	// ahead are earlier messages of the stream that were found before all that were looked
	// at since: by when, growing.
	ahead []found
	from  int
}

type found struct {
	when   int64
	seq    uint64
	counts bool
	sent   int64
}

func (o *order) begin() { o.ahead, o.from = o.ahead[:0], 0 }

// add takes the next message of the stream, and adds those that are behind it.
func (o *order) add(x found, behind *ledger.Spans) {
	for len(o.ahead) > o.from && o.ahead[len(o.ahead)-1].when > x.when {
		// What the device itself sent in another order is not out of order.
		if last := &o.ahead[len(o.ahead)-1]; last.counts && last.sent <= x.sent {
			behind.Add(last.seq)
		}
		o.ahead = o.ahead[:len(o.ahead)-1]
	}
	o.ahead = append(o.ahead, x)
	if len(o.ahead)-o.from > orderLook {
		if o.from++; o.from > orderLook {
			o.ahead = append(o.ahead[:0], o.ahead[o.from:]...)
			o.from = 0
		}
	}
}

// ordered counts messages that were found behind a later one of their stream. A copy that
// comes again is behind by nature.
func (t *Tally) ordered(c *evidence.Case) {
	for w := range t.order {
		k := t.judge.Clock(w, c.Stream)
		first, copies, own := (*evidence.Sighting)(nil), 0, k.Own()
		for i := range c.Sightings {
			x := &c.Sightings[i]
			if x.Witness != w || x.Again || x.Unsure || x.Asked && (x.Stored.IsZero() || !own) || k.IsOff(c.Sent, x) {
				continue
			}
			if copies++; first == nil {
				first = x
			}
		}
		if first == nil {
			continue
		}
		at := first.Seen
		if own && !first.Stored.IsZero() && first.Stored.Before(at) {
			at = first.Stored
		}
		t.order[w].add(found{at.UnixNano(), c.Seq, copies == 1 && c.Attempts <= 1 && c.Copies == 0, c.Sent.UnixNano()},
			&t.behind)
	}
}

// likeness is in what alterations are alike.
type likeness struct {
	witness              int
	kind, reading, field string
	note                 string
}

// mostAlike bounds how many ways of altering are told apart.
const mostAlike = 1000

// likenesses counts how a message was altered.
func (t *Tally) likenesses(c *evidence.Case, s *ledger.Stream) {
	t.judge.Differences(func(witness int, d *verdict.Difference) {
		k := likeness{witness, s.Kind, s.Reading, d.Field, d.Note}
		a := t.alike[k]
		if a == nil {
			if len(t.alike) >= mostAlike {
				return
			}
			a = &Alike{Witness: t.facts.Witnesses[witness].Name, Kind: s.Kind, Reading: s.Reading, Field: d.Field, Note: d.Note,
				Sent: d.Sent, Found: d.Found}
			t.alike[k] = a
		}
		a.Messages++
	})
}

func timeOfDay(t time.Time) string { return t.UTC().Format("15:04:05.000") }
