package report

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"strconv"
	"time"

	"runcrowd/internal/evidence"
	"runcrowd/internal/foreign"
	"runcrowd/internal/ledger"
	"runcrowd/internal/outcome"
	"runcrowd/internal/tally"
	"runcrowd/internal/verdict"
)

// Message is one message with its verdict, its times, what it carried, and what each witness
// says of it. Times are RFC 3339.
type Message struct {
	Device    string          `json:"device"`
	Kind      string          `json:"kind"`
	Reading   string          `json:"reading"`
	Seq       uint64          `json:"seq"`
	Round     int             `json:"round"`
	Verdict   string          `json:"verdict"`
	Due       *time.Time      `json:"due,omitempty"`
	Sent      *time.Time      `json:"sent,omitempty"`
	Answered  *time.Time      `json:"answered,omitempty"`
	Attempts  int             `json:"attempts"`
	Outcome   string          `json:"outcome"`
	Code      int             `json:"code,omitempty"`
	Said      string          `json:"said,omitempty"`
	Carried   json.RawMessage `json:"carried,omitempty"`
	Witnesses []Testimony     `json:"witnesses"`
}

// Testimony is what one witness says of a message. It has one for each witness of the run, in
// its order.
type Testimony struct {
	Witness string          `json:"witness"`
	State   string          `json:"state"`
	Seen    *time.Time      `json:"seen,omitempty"`
	Stored  *time.Time      `json:"stored,omitempty"` // by the platform's clock
	Times   int             `json:"times"`
	Says    string          `json:"says,omitempty"`
	Found   json.RawMessage `json:"found,omitempty"` // where it differs from what was sent
	// Differences are the fields that differ.
	Differences []verdict.Difference `json:"differences,omitempty"`
}

func instant(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	t = t.UTC()
	return &t
}

// of fills in a message that was ruled on.
func (m *Message) of(f *ledger.Facts, j *verdict.Judge, c *evidence.Case, r *verdict.Ruling, recovered bool) {
	says := j.Finding(c, recovered)
	*m = Message{Device: says.Device, Kind: says.Kind, Reading: says.Reading, Seq: says.Seq, Round: says.Round,
		Verdict: says.Verdict,
		Due:     instant(c.Due), Sent: instant(c.Sent), Attempts: c.Attempts, Outcome: says.Outcome, Code: c.Code,
		Said: says.Said, Witnesses: m.Witnesses[:0]}
	if c.Outcome != outcome.Open {
		m.Answered = instant(c.At)
	}
	if json.Valid([]byte(says.Carried)) && says.Carried != "null" {
		m.Carried = json.RawMessage(says.Carried)
	}
	for w := range f.Witnesses {
		if f.Witnesses[w].Proof == ledger.Counts || f.Witnesses[w].Proof == "alerts" || w != f.Witness(w%f.Own(), c.Stream) {
			continue // or it is that of another part
		}
		t := Testimony{Witness: f.Witnesses[w].Name, State: verdict.Unasked.String()}
		if w < len(r.States) {
			t.State = r.States[w].String()
		}
		for i := range c.Sightings {
			x := &c.Sightings[i]
			if x.Witness != w {
				continue
			}
			if t.Times++; t.Times == 1 {
				t.Seen, t.Stored = instant(x.Seen), instant(x.Stored)
			}
			if found := x.Values(); !x.Same && json.Valid(found) {
				t.Found = found
			}
		}
		for _, s := range says.Testimony {
			if s.Witness == t.Witness {
				t.Says, t.Differences = s.Says, s.Differences
			}
		}
		m.Witnesses = append(m.Witnesses, t)
	}
}

type messagesJSON struct {
	w   io.Writer
	buf bytes.Buffer
	e   *json.Encoder // into buf
}

func newMessagesJSON(w io.Writer) Sink {
	x := &messagesJSON{w: w}
	x.e = json.NewEncoder(&x.buf)
	x.e.SetEscapeHTML(false)
	return x
}

// Message implements Sink.
func (x *messagesJSON) Message(m *Message) error {
	x.buf.Reset()
	if err := x.e.Encode(m); err != nil {
		return err
	}
	_, err := x.w.Write(foreign.JSON(x.buf.Bytes()))
	return err
}

// End implements Sink.
func (x *messagesJSON) End(*Input) error { return nil }

// messagesCSV writes a line a message (RFC 4180). Each witness has columns of its own.
type messagesCSV struct {
	w     *csv.Writer
	began bool
	line  []string
}

func newMessagesCSV(w io.Writer) Sink { return &messagesCSV{w: csv.NewWriter(w)} }

func (x *messagesCSV) head(witnesses []string) error {
	x.began = true
	line := []string{"device", "kind", "reading", "seq", "round", "verdict", "due", "sent", "answered", "attempts",
		"outcome", "code", "said", "carried"}
	for _, name := range witnesses {
		for _, c := range []string{"state", "seen", "stored", "times", "says", "found"} {
			line = append(line, name+" "+c)
		}
	}
	return x.w.Write(line)
}

// Message implements Sink.
func (x *messagesCSV) Message(m *Message) error {
	if !x.began {
		var names []string
		for i := range m.Witnesses {
			names = append(names, m.Witnesses[i].Witness)
		}
		if err := x.head(names); err != nil {
			return err
		}
	}
	x.line = append(x.line[:0], m.Device, m.Kind, m.Reading, strconv.FormatUint(m.Seq, 10), strconv.Itoa(m.Round),
		m.Verdict, cell(m.Due), cell(m.Sent), cell(m.Answered), strconv.Itoa(m.Attempts), m.Outcome, strconv.Itoa(m.Code),
		m.Said, string(foreign.JSON(m.Carried)))
	for i := range m.Witnesses {
		t := &m.Witnesses[i]
		x.line = append(x.line, t.State, cell(t.Seen), cell(t.Stored), strconv.Itoa(t.Times), t.Says, string(foreign.JSON(t.Found)))
	}
	for i := range x.line {
		x.line[i] = foreign.Cell(x.line[i])
	}
	return x.w.Write(x.line)
}

// End implements Sink.
func (x *messagesCSV) End(in *Input) error {
	if !x.began {
		var names []string
		for _, w := range in.Result.Witnesses {
			if w.Proves == "received" || w.Proves == "stored" {
				names = append(names, w.Name)
			}
		}
		if err := x.head(names); err != nil {
			return err
		}
	}
	x.w.Flush()
	return x.w.Error()
}

func cell(t *time.Time) string {
	if t == nil {
		return ""
	}
	return t.Format(time.RFC3339Nano)
}

// deviceRow is a row of devices as it is written.
type deviceRow struct {
	Device      string                `json:"device"`
	Kind        string                `json:"kind"`
	Reading     string                `json:"reading"`
	Due         int                   `json:"due"`
	Proven      int                   `json:"proven"`
	Not         map[string]int        `json:"not_proven"`
	SeqHere     uint64                `json:"last_seq_sent"`
	SeqThere    uint64                `json:"last_seq_found"`
	LastHere    *time.Time            `json:"last_sent,omitempty"`
	LastThere   *time.Time            `json:"last_found,omitempty"`
	Gaps        int                   `json:"gaps"`
	Disconnects int                   `json:"connections_lost"`
	Fields      map[string]fieldOfRow `json:"fields"`
}

type fieldOfRow struct {
	Unit  string `json:"unit,omitempty"`
	Sent  spans  `json:"sent"`
	Found spans  `json:"found"`
}

type spans struct {
	Numbers int             `json:"numbers"`
	Lowest  *float64        `json:"lowest,omitempty"`
	Highest *float64        `json:"highest,omitempty"`
	Mean    *float64        `json:"mean,omitempty"`
	Last    json.RawMessage `json:"last,omitempty"`
}

func spansOf(s *tally.Spans) spans {
	x := spans{Numbers: s.N}
	if s.N > 0 {
		mean := s.Mean()
		x.Lowest, x.Highest, x.Mean = &s.Low, &s.High, &mean
	}
	if json.Valid([]byte(s.Last)) {
		x.Last = json.RawMessage(s.Last)
	}
	return x
}

func deviceRowOf(r *tally.Row) deviceRow {
	x := deviceRow{Device: r.Device, Kind: r.Kind, Reading: r.Reading, Due: r.Counts.Due(),
		Proven: r.Counts[verdict.Proven], Not: map[string]int{}, SeqHere: r.SeqHere, SeqThere: r.SeqThere,
		LastHere: instant(r.LastHere), LastThere: instant(r.LastThere), Gaps: r.Gaps, Disconnects: r.Disconnects,
		Fields: map[string]fieldOfRow{}}
	for _, v := range verdict.All() {
		if v != verdict.Proven && r.Counts[v] > 0 {
			x.Not[v.String()] = r.Counts[v]
		}
	}
	for i := range r.Fields {
		f := &r.Fields[i]
		x.Fields[f.Name] = fieldOfRow{f.Unit, spansOf(&f.Here), spansOf(&f.There)}
	}
	return x
}

// DevicesJSON makes a line of JSON for each reading of each device.
func DevicesJSON(in *Input) ([]byte, error) {
	var out []byte
	for i := range in.Result.Rows {
		b, err := json.Marshal(deviceRowOf(&in.Result.Rows[i]))
		if err != nil {
			return nil, err
		}
		out = append(append(out, foreign.JSON(b)...), '\n')
	}
	return out, nil
}

// DevicesCSV makes a line of CSV for each field of each reading of each device. What is of the
// whole reading stands in its first line.
func DevicesCSV(in *Input) ([]byte, error) {
	var out writer
	w := csv.NewWriter(&out)
	head := []string{"device", "kind", "reading", "due", "proven"}
	for _, v := range verdict.All() {
		if v != verdict.Proven {
			head = append(head, v.String())
		}
	}
	head = append(head, "last seq sent", "last seq found", "last sent", "last found", "gaps", "connections lost", "field",
		"unit",
		"sent lowest", "sent highest", "sent mean", "sent last", "found lowest", "found highest", "found mean", "found last")
	w.Write(head)
	number := func(n int, x float64) string {
		if n == 0 {
			return ""
		}
		return strconv.FormatFloat(x, 'g', -1, 64)
	}
	for i := range in.Result.Rows {
		r := &in.Result.Rows[i]
		line := []string{r.Device, r.Kind, r.Reading, fmt.Sprint(r.Counts.Due()), fmt.Sprint(r.Counts[verdict.Proven])}
		for _, v := range verdict.All() {
			if v != verdict.Proven {
				line = append(line, fmt.Sprint(r.Counts[v]))
			}
		}
		line = append(line, sequence(r.SeqHere), sequence(r.SeqThere), cell(instant(r.LastHere)), cell(instant(r.LastThere)),
			fmt.Sprint(r.Gaps), fmt.Sprint(r.Disconnects))
		fields := r.Fields
		if len(fields) == 0 {
			fields = []tally.RowField{{}}
		}
		for k := range fields {
			f := &fields[k]
			full := append(append([]string(nil), line...), f.Name, f.Unit)
			for c := 3; k > 0 && c < len(line); c++ {
				full[c] = "" // told in the first line, so that a sum of the column is right
			}
			for _, s := range []*tally.Spans{&f.Here, &f.There} {
				mean := 0.0
				if s.N > 0 {
					mean = s.Mean()
				}
				full = append(full, number(s.N, s.Low), number(s.N, s.High), number(s.N, mean), s.Last)
			}
			for c := range full {
				full[c] = foreign.Cell(full[c])
			}
			w.Write(full)
		}
	}
	w.Flush()
	return out.b, w.Error()
}

// writer gathers bytes.
type writer struct{ b []byte }

// Write implements io.Writer.
func (w *writer) Write(b []byte) (int, error) { w.b = append(w.b, b...); return len(b), nil }

// sequence is a sequence number, if there is one: a group has none.
func sequence(n uint64) string {
	if n == 0 {
		return ""
	}
	return strconv.FormatUint(n, 10)
}
