package tally

import (
	"encoding/json"
	"time"

	"runcrowd/internal/evidence"
	"runcrowd/internal/ledger"
	"runcrowd/internal/strictjson"
	"runcrowd/internal/verdict"
)

// RowDetail is how much is gathered of each reading of each device.
type RowDetail uint8

// The details.
const (
	NoRows    RowDetail = iota
	RowCounts           // verdicts, sequence numbers, times
	RowValues           // and the values of its fields
)

// Row is one reading of one device, here and there: what was sent, and what a witness has.
type Row struct {
	Device  string
	Kind    string
	Reading string
	Counts  Counts
	// SeqHere and SeqThere are the last sequence numbers that went out and that were found.
	SeqHere, SeqThere uint64
	LastHere          time.Time // when it went out
	LastThere         time.Time // when it came there, as far as that is known
	Fields            []RowField
	Gaps              int // rows of messages one after the other that are missing
	Disconnects       int // of the device's connection
	stream            int
}

// RowField is one field of a row.
type RowField struct {
	Name        string
	Unit        string
	Here, There Spans
}

// Spans are the values of a field.
type Spans struct {
	N         int // numbers
	Low, High float64
	sum       float64
	Last      string // as JSON; also of what is no number
}

// Mean is that of the numbers.
func (s *Spans) Mean() float64 { return s.sum / float64(s.N) }

func (s *Spans) add(v any) {
	s.Last = compact(v)
	n, is := v.(json.Number)
	x, err := n.Float64()
	if !is || err != nil {
		return
	}
	if s.N == 0 || x < s.Low {
		s.Low = x
	}
	if s.N == 0 || x > s.High {
		s.High = x
	}
	s.N++
	s.sum += x
}

// merge adds the numbers of other rows; there is no last of several.
func (s *Spans) merge(o *Spans) {
	if o.N == 0 {
		return
	}
	if s.N == 0 || o.Low < s.Low {
		s.Low = o.Low
	}
	if s.N == 0 || o.High > s.High {
		s.High = o.High
	}
	s.N += o.N
	s.sum += o.sum
}

// Merge adds another row. The last of a group is that of the device that sent, or was found,
// last; sequence numbers are no group's.
func (r *Row) Merge(o *Row) {
	sent, found := !o.LastHere.Before(r.LastHere), !o.LastThere.Before(r.LastThere)
	for v, n := range o.Counts {
		r.Counts[v] += n
	}
	r.Gaps, r.Disconnects = r.Gaps+o.Gaps, r.Disconnects+o.Disconnects
	for _, f := range o.Fields {
		x := r.field(f.Name)
		if x.Unit = f.Unit; sent {
			x.Here.Last = f.Here.Last
		}
		if found {
			x.There.Last = f.There.Last
		}
		x.Here.merge(&f.Here)
		x.There.merge(&f.There)
	}
	for _, at := range []struct{ mine, theirs *time.Time }{{&r.LastHere, &o.LastHere}, {&r.LastThere, &o.LastThere}} {
		if at.theirs.After(*at.mine) {
			*at.mine = *at.theirs
		}
	}
}

// field finds a field, or makes it.
func (r *Row) field(name string) *RowField {
	for i := range r.Fields {
		if r.Fields[i].Name == name {
			return &r.Fields[i]
		}
	}
	r.Fields = append(r.Fields, RowField{Name: name})
	return &r.Fields[len(r.Fields)-1]
}

func compact(v any) string {
	b, err := json.Marshal(v)
	if err != nil {
		return ""
	}
	if len(b) > 200 {
		return string(b[:200]) + "…"
	}
	return string(b)
}

// rows gathers rows. The witness is that whose values are shown: the first that proves that
// messages are stored, else received.
type rows struct {
	facts   *ledger.Facts
	witness int // -1: there is none
	list    []Row
	values  bool
	holes   bool
}

func newRows(f *ledger.Facts, witness string) *rows {
	r := &rows{facts: f, witness: -1}
	for w := range f.Own() {
		if witness != "" && f.Witnesses[w].Name == witness {
			r.witness = w
			return r
		}
	}
	for w := range f.Own() {
		switch proof := f.Witnesses[w].Proof; {
		case proof == "stored" && (r.witness < 0 || f.Witnesses[r.witness].Proof != "stored"), proof == "received" &&
			r.witness < 0:
			r.witness = w
		}
	}
	return r
}

// add counts a message; those of a stream come together.
func (r *rows) add(c *evidence.Case, v verdict.Verdict, recovered bool) {
	n := len(r.list)
	if n == 0 || r.list[n-1].stream != c.Stream {
		s := &r.facts.Streams[c.Stream]
		r.list = append(r.list, Row{Device: s.Device, Kind: s.Kind, Reading: s.Reading, stream: c.Stream})
		r.holes = false
		n++
	}
	x := &r.list[n-1]
	x.Counts[v]++
	missing := v == verdict.Lost || v == verdict.Unanswered || v == verdict.Unsent || v == verdict.Refused
	if missing && !r.holes {
		x.Gaps++
	}
	r.holes = missing
	units := r.facts.Streams[c.Stream].Units
	var here []strictjson.Member
	if !recovered && !c.Sent.IsZero() {
		x.SeqHere, x.LastHere = c.Seq, c.Sent
		if r.values {
			here, _ = strictjson.Members(c.Carried())
		}
		for _, m := range here {
			f := x.field(m.Name)
			f.Unit = units[m.Name]
			f.Here.add(m.Value)
		}
	}
	if r.witness < 0 {
		return
	}
	var found *evidence.Sighting
	for i := range c.Sightings {
		if s := &c.Sightings[i]; s.Witness == r.facts.Witness(r.witness, c.Stream) && !s.Unsure {
			found = s // the last is what it holds
		}
	}
	if found == nil || v == verdict.LetIn {
		return
	}
	x.SeqThere = c.Seq
	if !found.Asked || !found.Stored.IsZero() {
		if x.LastThere = found.Seen; !found.Stored.IsZero() {
			x.LastThere = found.Stored
		}
	}
	if !r.values {
		return
	}
	rules := r.facts.Witnesses[r.witness].Fields
	if found.Same && len(rules) == 0 && !recovered { // the same values: no need to read them again
		for _, m := range here {
			x.field(m.Name).There.add(m.Value)
		}
		return
	}
	v2, err := strictjson.Decode(found.Values())
	there, is := v2.(map[string]any)
	if err != nil || !is {
		return
	}
	for i := range x.Fields {
		f := &x.Fields[i]
		name := f.Name
		if rule, ruled := rules[name]; ruled && rule.As != "" {
			name = rule.As
		}
		if v, has := there[name]; has {
			f.There.add(v)
		}
	}
}

// result is all rows, also those of streams of which nothing was due.
func (r *rows) result() []Row {
	lost := map[string]int{}
	for stream, d := range r.facts.Links.Devices {
		if stream >= 0 && stream < len(r.facts.Streams) {
			lost[r.facts.Streams[stream].Device] = len(d.Outages)
		}
	}
	at := make(map[int]int, len(r.list))
	for i := range r.list {
		at[r.list[i].stream] = i
	}
	list := make([]Row, 0, len(r.facts.Streams))
	for stream := range r.facts.Streams {
		s := &r.facts.Streams[stream]
		if s.Elsewhere {
			continue
		}
		row := Row{Device: s.Device, Kind: s.Kind, Reading: s.Reading, stream: stream}
		if i, any := at[stream]; any {
			row = r.list[i]
		}
		row.Disconnects = lost[s.Device]
		list = append(list, row)
	}
	return list
}
