// Package verdict judges a run: from the ledger alone it gives every message
// exactly one verdict, counts them, and says which requirements hold. It is
// pure: the same ledger gives the same result, at any later time.
package verdict

import (
	"bytes"
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"runcrowd/internal/ledger"
)

// Verdict is the one outcome of a message after all witnesses have been heard.
type Verdict uint8

// The verdicts, worst first; a message gets the first that applies.
const (
	Refused        Verdict = iota // the platform said no, and did not keep it
	Lost                          // acknowledged (or QoS 0), and a witness that should have it has not
	Unanswered                    // never acknowledged, and found nowhere
	Unacknowledged                // never acknowledged, yet found
	Altered                       // found with other values
	Misfiled                      // found under another device or reading
	Repeated                      // found more often than it was sent
	Late                          // found, but after the time allowed
	Unsent                        // due, but the device could not send it before the end
	Unknown                       // a witness could not be heard, and nothing worse is known
	Proven                        // every proof that was asked for was found, once, with the values sent
	count
)

var names = [count]string{"refused", "lost", "unanswered", "unacknowledged", "altered", "misfiled", "repeated", "late", "unsent", "unknown", "proven"}

func (v Verdict) String() string { return names[v] }

// All lists the verdicts in their order.
func All() []Verdict {
	list := make([]Verdict, count)
	for i := range list {
		list[i] = Verdict(i)
	}
	return list
}

// Meaning is one line that explains a verdict.
func (v Verdict) Meaning() string {
	return [count]string{
		"the platform said no, and did not keep it",
		"the platform took it, and a witness that should have it has not",
		"never acknowledged, and found nowhere",
		"never acknowledged, yet found",
		"found with other values than were sent",
		"found under another device or reading",
		"found more often than it was sent",
		"found, but after the time allowed",
		"due, but the device could not send it before the end",
		"a witness could not be heard, so nothing is proven",
		"every proof that was asked for was found, once, with the values sent",
	}[v]
}

// Counts is a number of messages for each verdict.
type Counts [count]int

// Due is the number of messages: the sum over all verdicts.
func (c *Counts) Due() int {
	n := 0
	for _, k := range c {
		n += k
	}
	return n
}

// state is what one witness says of one message.
type state uint8

const (
	holds state = iota
	missing
	altered
	misfiled
	repeated
	late
	unheard
)

// Difference is one field that was found otherwise than it was sent.
type Difference struct {
	Field string `json:"field"`
	Sent  string `json:"sent"`
	Found string `json:"found"`
	Note  string `json:"note,omitempty"`
	Unit  string `json:"unit,omitempty"`
}

// Testimony is what one witness says of one message.
type Testimony struct {
	Witness     string       `json:"witness"`
	Says        string       `json:"says"`
	Differences []Difference `json:"differences,omitempty"`
}

// Finding is one message with its verdict.
type Finding struct {
	Device    string        `json:"device"`
	Kind      string        `json:"kind"`
	Reading   string        `json:"reading"`
	Seq       uint64        `json:"seq"`
	Round     int           `json:"round"`
	Verdict   string        `json:"verdict"`
	Due       time.Time     `json:"due"`
	Sent      *time.Time    `json:"sent,omitempty"`
	Attempts  int           `json:"attempts"`
	Outcome   string        `json:"outcome"`
	Said      string        `json:"said,omitempty"`
	Testimony []Testimony   `json:"testimony,omitempty"`
	Carried   string        `json:"carried"`
	stream    int           // for order
	took      time.Duration // sent to outcome
}

// Took is the time from sending to the outcome.
func (f *Finding) Took() time.Duration { return f.took }

// Group is a part of the run with its verdicts.
type Group struct {
	Name   string
	Counts Counts
}

// Proof is how far one proof holds.
type Proof struct {
	Name    string `json:"name"`
	Asked   int    `json:"asked"` // messages for which it was asked
	Holds   int    `json:"holds"`
	Unknown int    `json:"unknown"` // a witness could not be heard
	// NotAsked are messages for which this proof cannot be had: QoS 0 has no
	// acknowledgement, a witness may be told to look at some kinds only.
	NotAsked int `json:"not_asked"`
}

// Delays are percentiles of a time, in order.
type Delays struct {
	N                    int
	P50, P90, P99, Worst time.Duration
}

// WitnessReport is how one witness was heard.
type WitnessReport struct {
	Name      string   `json:"name"`
	Proves    string   `json:"proves"`
	Sightings int      `json:"sightings"`
	Heard     bool     `json:"heard"`
	Why       []string `json:"why,omitempty"`
}

// Unmatched is a sighting of this run that matches no message sent.
type Unmatched struct {
	Witness string `json:"witness"`
	Mark    string `json:"mark"`
	Found   string `json:"found"`
}

// Result is the judgement of a run.
type Result struct {
	Run, Crowd     string
	Start          time.Time
	Total          Counts
	Kinds          []Group
	Rounds         []Group
	Devices        []Group // those with anything not proven, the worst first
	DeviceCount    int
	Proofs         []Proof // acknowledged, received, stored
	Findings       []Finding
	Unmatched      []Unmatched
	UnmatchedCount int
	OutOfOrder     int
	Resent         int // messages sent more than once
	Acknowledged   Delays
	Received       Delays
	Stored         Delays
	Lag            Delays
	Witnesses      []WitnessReport
	Drops          int            // connections lost
	DropReasons    map[string]int // why
	Renewed        int            // connections left and made anew for a new access token
	DeafTo         map[string]int // why devices could not hear commands
	Commands       []Asked
	Mishaps        []Mishap // of commands
	Ended          bool
	Interrupted    bool
	Recovered      int // messages known only from sightings
	Torn           int64
}

// Options say how much detail is kept.
type Options struct {
	// PerVerdict is how many findings of each bad verdict are kept; 0 is all.
	PerVerdict int
}

// maxGap bounds how many messages a sighting past the ledger's end may bring in.
const maxGap = 1 << 20

// maxUnmatched is how many unmatched are kept beside their count.
const maxUnmatched = 20

// deafMargin: a message that was on its way this long before a witness went
// deaf may have been meant for it.
const deafMargin = time.Second

type judge struct {
	*ledger.Book
	opt      Options
	res      *Result
	streams  map[[2]string]int
	seen     map[ref][]int // sightings by stream and sequence number
	findings [count]int
	delays   [4][]int64 // acknowledged, received, stored, lag
	proofs   [3]Proof
	byDevice map[string]*Counts
	byKind   map[string]*Counts
	byRound  map[int]*Counts
	heard    []heard // of the message being judged; reused
}

// heard is what a witness says of a message; nil: it found it as it should be.
type heard struct {
	witness int
	says    *Testimony
}

type ref struct {
	stream int
	seq    uint64
}

// Judge judges a run.
func Judge(b *ledger.Book, opt Options) *Result {
	j := &judge{Book: b, opt: opt, streams: map[[2]string]int{}, seen: map[ref][]int{},
		byDevice: map[string]*Counts{}, byKind: map[string]*Counts{}, byRound: map[int]*Counts{}}
	j.res = &Result{Run: b.Run, Crowd: b.Crowd, Start: b.Start, Ended: b.Ended, Interrupted: b.Interrupted, Torn: b.Torn,
		DropReasons: map[string]int{}}
	for i, name := range []string{"acknowledged", "received", "stored"} {
		j.proofs[i].Name = name
	}
	for i, s := range b.Streams {
		j.streams[[2]string{s.Device, s.Reading}] = i
	}
	j.sightings()
	j.order()
	for i := range b.Streams {
		for k := range b.Messages[i] {
			j.message(i, &b.Messages[i][k], false)
		}
		j.recover(i)
	}
	j.finish()
	return j.res
}

// sightings sorts the sightings to their messages and counts the unmatched.
func (j *judge) sightings() {
	unmatched := map[string]bool{}
	for i := range j.Sightings {
		s := &j.Sightings[i]
		if s.Mark.Run != j.Run || s.Witness < 0 || s.Witness >= len(j.Witnesses) {
			continue
		}
		stream, known := j.streams[[2]string{s.Mark.Device, s.Mark.Reading}]
		last := uint64(0)
		if known {
			last = uint64(len(j.Messages[stream]))
		}
		// What a killed run sent last may be missing from its ledger.
		late := known && !j.Ended && s.Mark.Seq > last && s.Mark.Seq <= last+maxGap
		if known && s.Mark.Seq >= 1 && (s.Mark.Seq <= last || late) {
			r := ref{stream, s.Mark.Seq}
			j.seen[r] = append(j.seen[r], i)
			continue
		}
		text := s.Mark.String()
		if unmatched[text] {
			continue
		}
		unmatched[text] = true
		j.res.UnmatchedCount++
		if len(j.res.Unmatched) < maxUnmatched {
			j.res.Unmatched = append(j.res.Unmatched, Unmatched{j.Witnesses[s.Witness].Name, text, string(s.Values)})
		}
	}
}

// recover judges messages that are known only from sightings: the run was
// killed before its ledger told of them. Sequence numbers have no holes, so
// those before the last one sighted were due as well.
func (j *judge) recover(stream int) {
	if j.Ended {
		return
	}
	last := uint64(len(j.Messages[stream]))
	top := last
	for seq := last + 1; seq <= last+maxGap; seq++ {
		if _, ok := j.seen[ref{stream, seq}]; ok {
			top = seq
		} else if seq > top+1000 {
			break
		}
	}
	for seq := last + 1; seq <= top; seq++ {
		m := ledger.Message{Seq: seq, Carried: []byte("null")}
		if k := len(j.Messages[stream]); k > 0 {
			m.Round = j.Messages[stream][k-1].Round // when it was due is not known
		}
		j.res.Recovered++
		j.message(stream, &m, true)
	}
}

// message judges one message.
func (j *judge) message(stream int, m *ledger.Message, recovered bool) {
	s := &j.Streams[stream]
	found := j.seen[ref{stream, m.Seq}]
	witnesses := j.heard[:0]
	var worst [7]bool // states that some witness is in
	sees, anyFound := 0, false
	var proofState [3]state
	var asked [3]bool
	for w := range j.Witnesses {
		wit := &j.Witnesses[w]
		if slices.Contains(s.Unseen, w) {
			continue
		}
		sees++
		st, t := j.testify(w, s, m, found, recovered)
		if st != missing && st != unheard {
			anyFound = true
		}
		worst[st] = true
		if t != nil || st == holds {
			witnesses = append(witnesses, heard{w, t})
		}
		p := proofIndex(wit.Proof)
		if !asked[p] || st != holds && (proofState[p] == holds || proofState[p] == unheard) {
			proofState[p] = st
		}
		asked[p] = true
	}
	j.heard = witnesses
	v := j.combine(s, m, worst, sees, anyFound, recovered)
	for p := 1; p < 3; p++ {
		switch {
		case !asked[p]:
			j.proofs[p].NotAsked++
			continue
		case proofState[p] == holds:
			j.proofs[p].Holds++
		case proofState[p] == unheard:
			j.proofs[p].Unknown++
		}
		j.proofs[p].Asked++
	}
	switch {
	case m.Outcome == ledger.NotAsked || s.QoS0:
		j.proofs[0].NotAsked++
	default:
		j.proofs[0].Asked++
		if m.Outcome == ledger.Accepted {
			j.proofs[0].Holds++
		} else if recovered || m.Outcome == ledger.Open && !j.Ended {
			j.proofs[0].Unknown++
		}
	}
	if !m.Sent.IsZero() {
		j.delays[3] = append(j.delays[3], int64(m.Sent.Sub(m.Due)))
		if m.Outcome == ledger.Accepted {
			j.delays[0] = append(j.delays[0], int64(m.At.Sub(m.Sent)))
		}
	}
	if m.Attempts > 1 {
		j.res.Resent++
	}
	j.res.Total[v]++
	add(j.byKind, s.Kind, v)
	add(j.byDevice, s.Device, v)
	add(j.byRound, m.Round, v)
	if v != Proven && (j.opt.PerVerdict == 0 || j.findings[v] < j.opt.PerVerdict) {
		j.findings[v]++
		var testimony []Testimony
		for _, h := range witnesses {
			if h.says == nil {
				testimony = append(testimony, j.found(h.witness, m, found, recovered))
			} else {
				testimony = append(testimony, *h.says)
			}
		}
		f := Finding{Device: s.Device, Kind: s.Kind, Reading: s.Reading, Seq: m.Seq, Round: m.Round, Verdict: v.String(), Due: m.Due,
			Attempts: m.Attempts, Outcome: m.Outcome.String(), Said: m.Text, Testimony: testimony, Carried: string(m.Carried), stream: stream}
		if !m.Sent.IsZero() {
			sent := m.Sent
			f.Sent = &sent
			if !m.At.IsZero() {
				f.took = m.At.Sub(m.Sent)
			}
		}
		if recovered {
			f.Outcome, f.Said = "unknown", "sent in the last moment before the run was killed; the ledger does not tell of it"
		} else if m.Outcome == ledger.Open && !j.Ended {
			f.Outcome, f.Said = "unknown", "the run was killed before its answer was written"
		}
		j.res.Findings = append(j.res.Findings, f)
	}
}

func add[K comparable](groups map[K]*Counts, key K, v Verdict) {
	c := groups[key]
	if c == nil {
		c = new(Counts)
		groups[key] = c
	}
	c[v]++
}

func proofIndex(name string) int {
	if name == "stored" {
		return 2
	}
	return 1
}

// combine gives the verdict from the protocol's answer and the witnesses' states.
func (j *judge) combine(s *ledger.Stream, m *ledger.Message, worst [7]bool, sees int, anyFound, recovered bool) Verdict {
	open := recovered || m.Outcome == ledger.Open && !j.Ended // the answer is not known
	switch {
	case open || m.Outcome == ledger.Accepted || m.Outcome == ledger.NotAsked:
	case anyFound:
		return Unacknowledged
	case m.Outcome == ledger.Refused:
		return Refused
	case m.Outcome == ledger.Unsent || m.Attempts == 0:
		return Unsent
	case worst[unheard]:
		return Unknown
	default:
		return Unanswered
	}
	switch {
	case worst[missing] && !open:
		return Lost
	case worst[altered]:
		return Altered
	case worst[misfiled]:
		return Misfiled
	case worst[repeated]:
		return Repeated
	case worst[late]:
		return Late
	case worst[unheard] || open:
		return Unknown
	case sees == 0 && m.Outcome == ledger.NotAsked:
		return Unknown // QoS 0 and nobody who looks: nothing can prove it
	}
	return Proven
}

// testify says what one witness knows of a message.
func (j *judge) testify(w int, s *ledger.Stream, m *ledger.Message, found []int, recovered bool) (state, *Testimony) {
	wit := &j.Witnesses[w]
	var copies []*ledger.Sighting
	var again *ledger.Sighting
	for _, i := range found {
		x := &j.Sightings[i]
		switch {
		case x.Witness != w:
		case x.Redelivered:
			again = x
		default:
			copies = append(copies, x)
		}
	}
	if len(copies) == 0 && again != nil {
		copies = append(copies, again)
	}
	say := func(st state, format string, args ...any) (state, *Testimony) {
		return st, &Testimony{Witness: wit.Name, Says: fmt.Sprintf(format, args...)}
	}
	if len(copies) == 0 {
		if m.Outcome == ledger.Unsent || m.Attempts == 0 && !recovered && j.Ended {
			return missing, nil // nobody can find what was never sent
		}
		if why := j.deaf(wit, s, m); why != "" {
			return say(unheard, "not known: %s", why)
		}
		return say(missing, "not found")
	}
	j.delay(wit, m, copies[0])
	if !recovered {
		for _, x := range copies {
			if d := differences(m.Carried, x.Values, s); len(d) > 0 {
				st, t := say(altered, "found with other values")
				t.Differences = d
				return st, t
			}
		}
	}
	for _, x := range copies {
		if x.FiledDevice != "" && x.FiledDevice != s.Device {
			return say(misfiled, "found under %s", x.FiledDevice)
		}
		if x.FiledReading != "" && x.FiledReading != s.Reading {
			return say(misfiled, "found under the reading %s", x.FiledReading)
		}
	}
	allowed := 1
	if s.MayRepeat {
		allowed = max(1, m.Attempts)
	}
	if len(copies) > allowed {
		times := fmt.Sprintf("%d times", len(copies))
		if len(copies) == 2 {
			times = "twice"
		}
		return say(repeated, "found %s", times)
	}
	// A row that does not tell when it was stored cannot be called late: it may
	// have been there long before the witness asked.
	if wit.Within > 0 && !m.Sent.IsZero() && timed(copies[0]) {
		if took := when(copies[0]).Sub(m.Sent); took > wit.Within {
			return say(late, "found %s after it was sent; allowed are %s", Span(took), wit.Within)
		}
	}
	return holds, nil
}

// found says that a witness found a message as it should: told only beside what
// others say of one that is not proven.
func (j *judge) found(w int, m *ledger.Message, found []int, recovered bool) Testimony {
	t := Testimony{Witness: j.Witnesses[w].Name, Says: "found"}
	for _, i := range found {
		x := &j.Sightings[i]
		if x.Witness != w || recovered || m.Sent.IsZero() {
			continue
		}
		t.Says = "found, as it was sent"
		if timed(x) {
			t.Says += ", after " + Span(max(0, when(x).Sub(m.Sent)))
		}
		break
	}
	return t
}

// timed tells whether it is known when a message came to where it was found: a
// subscription hears it then, a query must be told.
func timed(x *ledger.Sighting) bool { return !x.Asked || !x.Stored.IsZero() }

// when is when a message was found: by the platform's own clock where it tells.
func when(x *ledger.Sighting) time.Time {
	if !x.Stored.IsZero() {
		return x.Stored
	}
	return x.Seen
}

func (j *judge) delay(w *ledger.Witness, m *ledger.Message, x *ledger.Sighting) {
	if m.Sent.IsZero() || !timed(x) {
		return
	}
	p := proofIndex(w.Proof)
	j.delays[p] = append(j.delays[p], int64(max(0, when(x).Sub(m.Sent))))
}

// deaf tells why a witness cannot be blamed for not having a message, or "".
func (j *judge) deaf(w *ledger.Witness, s *ledger.Stream, m *ledger.Message) string {
	h, heard := w.Heard[m.Round]
	switch {
	case !heard, !h.Complete: // why is told once, with the witness
		return "the witness was not heard to the end"
	}
	for _, d := range w.Deaf {
		if d.QoS0 && !s.QoS0 {
			continue
		}
		startsBefore := d.To.IsZero() || !m.Sent.After(d.To)
		endsAfter := m.At.IsZero() || m.Outcome == ledger.NoAnswer || !m.At.Before(d.From.Add(-deafMargin))
		if startsBefore && endsAfter {
			return "the witness could not listen just then: " + d.Why
		}
	}
	return ""
}

// order counts the messages that were found behind a later one of their stream.
func (j *judge) order() {
	type key struct{ witness, stream int }
	top := map[key]uint64{}
	behind := map[ref]bool{}
	list := make([]int, 0, len(j.Sightings))
	for i := range j.Sightings {
		list = append(list, i)
	}
	// By the platform's clock where it tells; a query's answers have no other order.
	sort.SliceStable(list, func(a, b int) bool {
		return when(&j.Sightings[list[a]]).Before(when(&j.Sightings[list[b]]))
	})
	for _, i := range list {
		x := &j.Sightings[i]
		stream, known := j.streams[[2]string{x.Mark.Device, x.Mark.Reading}]
		if !known || x.Mark.Run != j.Run || x.Witness < 0 || x.Witness >= len(j.Witnesses) || x.Redelivered {
			continue
		}
		if !timed(x) {
			continue
		}
		k := key{x.Witness, stream}
		r := ref{stream, x.Mark.Seq}
		if x.Mark.Seq < top[k] {
			if again := j.resentOrRepeated(r); !again {
				behind[r] = true
			}
		}
		top[k] = max(top[k], x.Mark.Seq)
	}
	j.res.OutOfOrder = len(behind)
}

// resentOrRepeated: a copy that comes again is behind by nature.
func (j *judge) resentOrRepeated(r ref) bool {
	if r.seq >= 1 && r.seq <= uint64(len(j.Messages[r.stream])) && j.Messages[r.stream][r.seq-1].Attempts > 1 {
		return true
	}
	per := map[int]int{}
	for _, i := range j.seen[r] {
		per[j.Sightings[i].Witness]++
		if per[j.Sightings[i].Witness] > 1 {
			return true
		}
	}
	return false
}

// finish sorts and sums up.
func (j *judge) finish() {
	r := j.res
	r.Proofs = j.proofs[:]
	for name, c := range j.byKind {
		r.Kinds = append(r.Kinds, Group{name, *c})
	}
	sort.Slice(r.Kinds, func(a, b int) bool { return r.Kinds[a].Name < r.Kinds[b].Name })
	rounds := make([]int, 0, len(j.byRound))
	for n := range j.byRound {
		rounds = append(rounds, n)
	}
	sort.Ints(rounds)
	for _, n := range rounds {
		r.Rounds = append(r.Rounds, Group{fmt.Sprint(n), *j.byRound[n]})
	}
	for name, c := range j.byDevice {
		if c[Proven] < c.Due() {
			r.Devices = append(r.Devices, Group{name, *c})
		}
	}
	sort.Slice(r.Devices, func(a, b int) bool {
		x, y := &r.Devices[a], &r.Devices[b]
		if bx, by := x.Counts.Due()-x.Counts[Proven], y.Counts.Due()-y.Counts[Proven]; bx != by {
			return bx > by
		}
		return x.Name < y.Name
	})
	devices := map[string]bool{}
	for i := range j.Streams {
		devices[j.Streams[i].Device] = true
	}
	r.DeviceCount = len(devices)
	rank := map[string]int{}
	for i, n := range names {
		rank[n] = i
	}
	sort.SliceStable(r.Findings, func(a, b int) bool {
		x, y := &r.Findings[a], &r.Findings[b]
		if rank[x.Verdict] != rank[y.Verdict] {
			return rank[x.Verdict] < rank[y.Verdict]
		}
		if x.stream != y.stream {
			return x.stream < y.stream
		}
		return x.Seq < y.Seq
	})
	for i, d := range []*Delays{&r.Acknowledged, &r.Received, &r.Stored, &r.Lag} {
		*d = percentiles(j.delays[i])
	}
	sightings := make([]int, len(j.Witnesses))
	for i := range j.Sightings {
		if w := j.Sightings[i].Witness; w >= 0 && w < len(sightings) && j.Sightings[i].Mark.Run == j.Run {
			sightings[w]++
		}
	}
	for i := range j.Witnesses {
		w := &j.Witnesses[i]
		report := WitnessReport{Name: w.Name, Proves: w.Proof, Sightings: sightings[i], Heard: true}
		for _, n := range rounds {
			h, ok := w.Heard[n]
			if !ok {
				h.Why = "not heard to the end of the round"
			}
			if !h.Complete {
				report.Heard = false
				why := h.Why
				if len(rounds) > 1 {
					why = fmt.Sprintf("round %d: %s", n, why)
				}
				report.Why = append(report.Why, why)
			}
		}
		report.Why = append(report.Why, deafness(w.Deaf)...)
		r.Witnesses = append(r.Witnesses, report)
	}
	for _, l := range j.Links {
		switch why, deaf := strings.CutPrefix(l.Text, ledger.DeafTo); {
		case !l.Up:
			r.Drops++
			r.DropReasons[l.Text]++
		case l.Text == ledger.Renewed:
			r.Renewed++
		case deaf:
			if r.DeafTo == nil {
				r.DeafTo = map[string]int{}
			}
			r.DeafTo[why]++
		}
	}
	j.commands(r)
}

// manyTimes is from how many times on a witness's deafness of one sort is summed up.
const manyTimes = 4

// deafness tells when a witness could not listen: in order, and what happened again and
// again in one line.
func deafness(list []ledger.Deafness) []string {
	type sort struct {
		kept bool
		why  string
	}
	kind := func(d *ledger.Deafness) sort { return sort{d.QoS0, d.Why} }
	times, total := map[sort]int{}, map[sort]time.Duration{}
	for i := range list {
		if d := &list[i]; !d.To.IsZero() {
			times[kind(d)]++
			total[kind(d)] += d.To.Sub(d.From)
		}
	}
	var lines []string
	for i := range list {
		d := &list[i]
		k := kind(d)
		text := "could not listen from " + clock(d.From)
		switch {
		case d.To.IsZero():
		case times[k] == 0: // summed up already
			continue
		case times[k] >= manyTimes:
			text = fmt.Sprintf("could not listen %d times, from %s on, for %s in all", times[k], clock(d.From), total[k].Round(time.Millisecond))
			times[k] = 0
		default:
			text += fmt.Sprintf(" for %s", d.To.Sub(d.From).Round(time.Millisecond))
		}
		if d.QoS0 {
			text += " (the broker kept all but QoS 0)"
		}
		lines = append(lines, text+": "+d.Why)
	}
	return lines
}

func clock(t time.Time) string { return t.UTC().Format("15:04:05.000") }

// percentiles are those of the nearest rank.
func percentiles(v []int64) Delays {
	d := Delays{N: len(v)}
	if len(v) == 0 {
		return d
	}
	sort.Slice(v, func(a, b int) bool { return v[a] < v[b] })
	at := func(p int) time.Duration { return time.Duration(v[min(len(v)-1, (len(v)*p+99)/100-1)]) }
	d.P50, d.P90, d.P99, d.Worst = at(50), at(90), at(99), time.Duration(v[len(v)-1])
	return d
}

// differences compares the JSON object that was sent with what was found. A
// field the platform added is no difference.
func differences(sent, found []byte, s *ledger.Stream) []Difference {
	// The usual case without parsing: the body's own fields stand at its end.
	if len(sent) > 2 && bytes.HasSuffix(found, sent[1:]) {
		return nil
	}
	return compareObjects(sent, found, s)
}
