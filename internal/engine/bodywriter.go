package engine

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"math"
	"strings"
	"time"

	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/formula"
	"runcrowd/internal/ledger"
	"runcrowd/internal/link"
	"runcrowd/internal/payload"
	"runcrowd/internal/signal"
)

// BodyWriter writes the bodies of messages. One serves one goroutine, and writes the
// messages of a stream in their order.
type BodyWriter struct {
	// Run and Numbers go into the marks.
	Run     string
	Numbers ledger.Numbers
	// Every is the time from one sample to the next, if not the reading's.
	Every time.Duration
	// Since is how many messages of the stream came before the device last began to count
	// anew, and Clock by how much its own clock is ahead.
	Since uint64
	Clock time.Duration
	// Types gives values another type than theirs.
	Types bool
	// Fixed are values given by hand, by field.
	Fixed map[string]signal.Value

	composer fleet.Composer
	machine  formula.Machine
	samples  []payload.Sample
	values   [][]signal.Value // of the samples, reused
	object   []byte
	carried  [][]byte
	calls    []uint64
	mark     []byte
	zip      bytes.Buffer
	zipper   *gzip.Writer
}

// Written is what one message carries: one or, in a batch, several samples, each
// with a sequence number of its own. It is valid until the next call.
type Written struct {
	First   uint64 // sequence number of the first sample
	Carried [][]byte
	Calls   []uint64 // which alerts each sample calls for, as of fleet.Composer; nil: none
	Body    []byte
	Target  string      // of a request whose address carries the values: Body is empty then; else empty
	Mark    link.Header // rides as a user property or a header; without a name neither
}

// Rounds tells of a field of the message that was written last whose value its body does not
// hold exactly.
func (w *BodyWriter) Rounds(s *fleet.Stream) (field, was, is string, rounds bool) {
	form, slots := s.Form.(*payload.Bytes)
	if !slots || len(w.samples) == 0 {
		return "", "", "", false
	}
	return form.Rounds(&w.samples[0])
}

// Write writes the message of s that is due, whose first sample has the sequence
// number seq; tick counts the messages of the round from 0. Body is where the
// body is appended. The error says which value could not be made; the message is
// whole all the same, with nulls.
func (w *BodyWriter) Write(s *fleet.Stream, seq, tick uint64, due, begin time.Time, body []byte) (Written, error) {
	out := Written{First: seq}
	w.composer.Fixed = w.Fixed
	due = due.UTC() // what formulas make of it must not depend on where this runs
	mark := ledger.Mark{Run: w.Run, Device: s.Device.Name, Reading: s.Reading.Name, Seq: seq}
	how := s.Device.Cast.Kind.Mark
	if how.Place == crowd.MarkUserProperty || how.Place == crowd.MarkHeader {
		out.Mark = link.Header{Name: how.Name, Value: mark.String()}
	}
	var beyond error
	if how.Place == crowd.MarkSequence && seq+uint64(s.Reading.Batch) > ledger.MaxSequence {
		beyond = fmt.Errorf("the reading %q of %s: message %d is one more than marks that are a sequence can tell apart; "+
			"use mark: {field: NAME}", s.Reading.Name, s.Device.Name, seq)
	}
	every := w.Every
	if every == 0 {
		every = s.Reading.Every
	}
	jitter := Jitter(s, seq, every)
	if s.Form == nil {
		values, err := w.composer.Values(s, fleet.Occasion{Seq: seq, Tick: tick, Due: due, Elapsed: due.Sub(begin),
			Jitter: jitter, Every: every, Clock: w.Clock, Since: w.Since})
		if w.Types {
			otherTypes(values)
		}
		w.object = payload.Object(w.object[:0], s.Names, values)
		w.calls = w.calls[:0]
		out.Calls = w.called(s)
		if err == nil {
			err = beyond
		}
		w.marked(s, &out, mark, body)
		return w.pack(s, out, err)
	}
	failed := beyond
	n := s.Reading.Batch
	w.samples, w.calls = w.samples[:0], w.calls[:0]
	for len(w.values) < n {
		w.values = append(w.values, nil)
	}
	marked := how.Place == crowd.MarkField || how.Place == crowd.MarkSequence
	for k := range n {
		at := due.Add(-time.Duration(n-1-k) * every)
		o := fleet.Occasion{Seq: seq + uint64(k), Tick: tick*uint64(n) + uint64(k), Due: at, Elapsed: max(0, at.Sub(begin)),
			Jitter: jitter, Every: every, Clock: w.Clock, Since: w.Since}
		values, err := w.composer.Values(s, o)
		if failed == nil {
			failed = err
		}
		if w.Types {
			otherTypes(values)
		}
		out.Calls = w.called(s)
		list := w.values[k][:0]
		mark.Seq = o.Seq
		switch {
		case how.Place == crowd.MarkField:
			list = append(list, signal.OfText(mark.String()))
		case marked:
			list = append(list, signal.OfInt(int64(w.Numbers.Of(s.Index, o.Seq))))
		}
		w.values[k] = append(list, values...)
		w.samples = append(w.samples, payload.Sample{Values: w.values[k], Time: at.Add(w.Clock), Elapsed: o.Elapsed,
			Seq: o.Seq - min(w.Since, o.Seq)})
	}
	start := len(body)
	written, err := s.Form.Append(body, w.samples)
	if failed == nil && err != nil {
		failed = fmt.Errorf("the reading %q of %s: %w", s.Reading.Name, s.Device.Name, err)
	}
	out.Body = written
	names := s.Names
	if marked {
		names = append([]string{how.Name}, names...)
	}
	flat, exact := s.Form.(*payload.JSON)
	if exact && !s.Reading.Payload.Nested {
		for k := range w.samples {
			from := 0
			if marked {
				from = 1
			}
			out.Carried = append(out.Carried, payload.Object(nil, flat.Names[from:], w.samples[k].Values[from:]))
		}
		return w.pack(s, out, failed)
	}
	carried, err := payload.Carried(s.Form, written[start:], w.samples, names)
	if err != nil {
		if failed == nil {
			failed = fmt.Errorf("the reading %q of %s: its own body cannot be read back: %w", s.Reading.Name, s.Device.Name, err)
		}
		for range n {
			carried = append(carried, []byte("null"))
		}
		carried = carried[:n]
	}
	out.Carried = carried
	return w.pack(s, out, failed)
}

// marked makes a body of the object that was written, with its mark where that goes inside.
func (w *BodyWriter) marked(s *fleet.Stream, out *Written, mark ledger.Mark, body []byte) {
	w.carried = append(w.carried[:0], w.object)
	out.Carried = w.carried
	switch how := s.Device.Cast.Kind.Mark; how.Place {
	case crowd.MarkField:
		w.mark = mark.Append(w.mark[:0])
		out.Body = payload.WithText(body, w.object, how.Name, string(w.mark))
	case crowd.MarkSequence:
		out.Body = payload.WithNumber(body, w.object, how.Name, w.Numbers.Of(s.Index, mark.Seq))
	default:
		out.Body = append(body, w.object...)
	}
}

// called adds what the sample that was made last calls for.
func (w *BodyWriter) called(s *fleet.Stream) []uint64 {
	if len(s.Calls) == 0 {
		return nil
	}
	w.calls = append(w.calls, w.composer.Calls(s))
	return w.calls
}

// pack puts the body where the reading wants it, or compresses it.
func (w *BodyWriter) pack(s *fleet.Stream, out Written, err error) (Written, error) {
	switch s.Reading.Payload.In {
	case "query":
		sep := "?"
		if strings.Contains(s.Target, "?") {
			sep = "&"
		}
		out.Target, out.Body = s.Target+sep+string(out.Body), out.Body[:0]
	case "path":
		out.Target, out.Body = s.Target+string(out.Body), out.Body[:0]
	}
	if out.Target != "" && err == nil {
		err = crowd.CheckPath(out.Target)
	}
	if !s.Reading.Gzip {
		return out, err
	}
	w.zip.Reset()
	if w.zipper == nil {
		w.zipper = gzip.NewWriter(&w.zip)
	} else {
		w.zipper.Reset(&w.zip)
	}
	w.zipper.Write(out.Body) // writing to memory does not fail
	w.zipper.Close()
	out.Body = append(out.Body[:0], w.zip.Bytes()...)
	return out, err
}

// ContentType is the media type of a stream's bodies; empty where none is sent.
func ContentType(s *fleet.Stream) string {
	p := &s.Reading.Payload
	switch {
	case p.Unlabelled || p.In != "": // there is no body
		return ""
	case p.ContentType != "":
		return p.ContentType
	case s.Form != nil:
		return s.Form.ContentType()
	}
	return "application/json"
}

// Jitter is how much a message is early or late on its schedule, with an interval
// from sample to sample.
func Jitter(s *fleet.Stream, seq uint64, every time.Duration) time.Duration {
	most := s.Reading.Jitter * float64(every) * float64(s.Reading.Batch)
	if s.Reading.Shake > 0 { // a command may have made the interval shorter than it
		most = min(float64(s.Reading.Shake), float64(every)*float64(s.Reading.Batch)/2)
	}
	if most == 0 {
		return 0
	}
	return time.Duration(most * (2*signal.Uniform(s.Key, seq, 5) - 1))
}

// interval is the time from one message to the next.
func interval(s *fleet.Stream) time.Duration {
	return s.Reading.Every * time.Duration(s.Reading.Batch)
}

// Due is when the message with the sequence number seq is due, in Unix
// nanoseconds, and at which tick of its reading, from tick on. Begin is when the
// round began, join when the device joined.
//
// Staggered streams count ticks from when the device joined, on a schedule of
// their own. The others count them from the beginning of the round, so that the
// ticks of all devices are the same, and pass over those at which it is not their
// turn.
func Due(s *fleet.Stream, begin, join int64, seq, tick uint64) (due int64, at uint64) {
	every := float64(interval(s))
	jitter := int64(Jitter(s, seq, s.Reading.Every))
	// The first sample of a batch is not taken before the device has joined.
	lead := int64(s.Reading.Every) * int64(s.Reading.Batch-1)
	speak := &s.Reading.Turns
	if speak.How == crowd.Staggered {
		return join + lead + max(0, int64((s.Phase+float64(tick))*every)+jitter), tick
	}
	if join > begin {
		tick = max(tick, uint64(math.Ceil(float64(join-begin)/every)))
	}
	switch speak.How {
	case crowd.InOrder:
		tick += (s.Rank + s.Peers - tick%s.Peers) % s.Peers
	case crowd.AtRandom:
		some := uint64(speak.Some)
		if speak.Share > 0 {
			some = max(1, uint64(math.Round(speak.Share*float64(s.Peers))))
		}
		for signal.Order(s.Turn+tick, s.Rank, s.Peers) >= some {
			tick++
		}
	}
	return begin + lead + max(0, int64(float64(tick)*every)+jitter), tick
}

// otherTypes gives values another type: numbers become texts, all else a number.
func otherTypes(values []signal.Value) {
	for i, v := range values {
		switch v.Type() {
		case signal.Int, signal.Float:
			values[i] = signal.OfText(formula.String(v.Any()))
		default:
			values[i] = signal.OfInt(int64(i))
		}
	}
}
