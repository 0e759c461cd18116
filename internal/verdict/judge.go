package verdict

import (
	"runcrowd/internal/ledger"
	"runcrowd/internal/outcome"
	"slices"
	"time"
)

// Options say how much detail is kept.
type Options struct {
	// PerVerdict is how many findings of each bad verdict are kept; 0 is all.
	PerVerdict int
}

// maxGap bounds how many messages a sighting past the ledger's end may bring in.
const maxGap = 1 << 20

// maxUnmatched is how many unmatched are kept beside their count.
const maxUnmatched = 20

// gapMargin: a message that was on its way this long before a gap of a
// witness may have been meant for it.
const gapMargin = time.Second

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
	clocks   []clockOf // of the witnesses
	heard    []heard   // of the message being judged; reused
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
	j.res = &Result{Run: b.Run, Crowd: b.Crowd, Start: b.Start, Ended: b.Ended, Interrupted: b.Interrupted, Torn: b.Torn, Damage: b.Damage,
		DropReasons: map[string]int{}}
	for i, name := range []string{"acknowledged", "received", "stored"} {
		j.proofs[i].Name = name
	}
	for i, s := range b.Streams {
		j.streams[[2]string{s.Device, s.Reading}] = i
	}
	j.sightings()
	j.measureClocks()
	j.order()
	for i := range b.Streams {
		for k := range b.Messages[i] {
			j.message(i, &b.Messages[i][k], b.Messages[i][k].Hole)
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
		late := known && !j.whole() && s.Mark.Seq > last && s.Mark.Seq <= last+maxGap
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

// whole tells whether the ledger has all that was written: the run came to its own end,
// and nothing is damaged.
func (j *judge) whole() bool { return j.Ended && len(j.Damage) == 0 }

// recover judges messages that are known only from sightings: the run was
// killed before its ledger told of them. Sequence numbers have no holes, so
// those before the last one sighted were due as well.
func (j *judge) recover(stream int) {
	if j.whole() {
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
	var worst [states]bool // that some witness is in
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
		if !asked[p] || st.weight() > proofState[p].weight() {
			proofState[p] = st
		}
		asked[p] = true
	}
	j.heard = witnesses
	v := (&heardOf{stream: s, message: m, open: recovered || m.Outcome == outcome.Open && !j.whole(), states: worst, sees: sees, found: anyFound}).verdict()
	for p := 1; p < 3; p++ {
		switch {
		case !asked[p]:
			j.proofs[p].NotAsked++
			continue
		case proofState[p] == holds:
			j.proofs[p].AsSent++
			j.proofs[p].Seen++
		case proofState[p] == unheard:
			j.proofs[p].Unknown++
		case proofState[p] == open:
			j.proofs[p].Seen++
			j.proofs[p].Open++
		case proofState[p] != missing:
			j.proofs[p].Seen++
		}
		j.proofs[p].Asked++
	}
	switch {
	case m.Outcome == outcome.NotAsked || s.QoS0:
		j.proofs[0].NotAsked++
	default:
		j.proofs[0].Asked++
		if m.Outcome == outcome.Accepted {
			j.proofs[0].AsSent++
			j.proofs[0].Seen++
		} else if recovered || m.Outcome == outcome.Open && !j.whole() {
			j.proofs[0].Unknown++
		}
	}
	if !m.Sent.IsZero() {
		j.delays[3] = append(j.delays[3], int64(m.Sent.Sub(m.Due)))
		if m.Outcome == outcome.Accepted {
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
			if len(j.Damage) > 0 {
				f.Said = "what the ledger tells of it is damaged"
			}
		} else if m.Outcome == outcome.Open && len(j.Damage) > 0 {
			f.Outcome, f.Said = "unknown", "its answer may be in the damaged part of the ledger"
		} else if m.Outcome == outcome.Open && !j.Ended {
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

// heardOf is all that is known of a message: the protocol's answer, and what the
// witnesses say.
type heardOf struct {
	stream  *ledger.Stream
	message *ledger.Message
	open    bool         // the protocol's answer is not known
	states  [states]bool // that some witness found it in
	sees    int          // witnesses that should see it
	found   bool         // by any of them
}

// verdict is where the verdict of a message is decided: the first that applies.
func (h *heardOf) verdict() Verdict {
	m := h.message
	switch {
	case h.open || m.Outcome == outcome.Accepted || m.Outcome == outcome.NotAsked:
	case h.found:
		return Unacknowledged
	case m.Outcome == outcome.Refused:
		return Refused
	case m.Outcome == outcome.Unsent || m.Attempts == 0:
		return Unsent
	case h.states[unheard]:
		return Unknown
	default:
		return Unanswered
	}
	switch {
	case h.states[missing] && !h.open:
		return Lost
	case h.states[altered]:
		return Altered
	case h.states[misfiled]:
		return Misfiled
	case h.states[repeated]:
		return Repeated
	case h.states[late]:
		return Late
	case h.states[unheard] || h.states[open] || h.open:
		return Unknown
	case h.sees == 0 && m.Outcome == outcome.NotAsked:
		return Unknown // QoS 0 and nobody who looks: nothing can prove it
	}
	return Proven
}
