package engine

import (
	"bytes"
	"container/heap"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/formula"
	"runcrowd/internal/ledger"
	"runcrowd/internal/link"
	"runcrowd/internal/payload"
	"runcrowd/internal/recording"
)

// replay plays a recording through the devices of one loop: it is read a line at a time, ahead
// by one message.
type replay struct {
	of      *crowd.Recording
	source  recording.Source
	streams map[[2]string]*stream // of the loop, by recorded device, and by reading
	only    map[string]*stream    // by recorded device, where its kind has one reading
	lap     time.Duration         // how long the times before took
	n       int64                 // lines of this time
	line    recording.Line        // that is due next
	to      *stream
}

// replays puts recordings into the plans of the loops.
func (e *Engine) replays(end int64) {
	for _, l := range e.loops {
		l.replaying = l.replaying[:0]
		var list []*replay
		by := map[*crowd.Recording]*replay{}
		for _, i := range l.devices {
			d := &e.devices[i]
			rec := d.Cast.Recording
			if rec == nil || !e.plays(i) {
				continue
			}
			r := by[rec]
			if r == nil {
				r = &replay{of: rec, streams: map[[2]string]*stream{}, only: map[string]*stream{}}
				by[rec] = r
				list = append(list, r)
			}
			name := d.Name
			if v, has := d.Env[crowd.RecordedName]; has {
				name = formula.String(v)
			}
			for _, s := range d.Streams {
				if e.part != nil && !e.part[s.Index] {
					continue
				}
				r.streams[[2]string{name, s.Reading.Name}] = &e.streams[s.Index]
				if len(d.Streams) == 1 {
					r.only[name] = &e.streams[s.Index]
				}
			}
		}
		for _, r := range list {
			var err error
			if r.source, err = r.of.Open(); err != nil {
				e.fail(err)
				continue
			}
			l.replaying = append(l.replaying, r)
			l.advance(len(l.replaying)-1, end)
		}
	}
}

// advance looks for the next line that a device of the loop sends, and puts it into the plan.
func (l *loop) advance(i int, end int64) {
	e := l.engine
	r := l.replaying[i]
	begin := e.begin.UnixNano()
	over := func(err error) {
		if err != nil {
			e.fail(err)
		}
		r.source.Close()
		r.to = nil
	}
	for {
		line, err := r.source.Next()
		switch {
		case err == io.EOF && r.of.Loop && r.n > 0:
			r.source.Close()
			r.lap += max(r.of.Length()+l.pauseOf(r), time.Millisecond)
			r.n = 0
			if r.source, err = r.of.Open(); err != nil {
				e.fail(err)
				return
			}
			continue
		case err == io.EOF:
			over(nil)
			return
		case err != nil:
			over(err)
			return
		}
		if !r.of.In(line.At) {
			continue
		}
		device, reading, ok := r.of.Whose(&line)
		if !ok {
			continue
		}
		after := time.Duration(float64(line.At.Sub(r.of.First)) / r.of.Speed)
		if r.of.Every > 0 {
			after = time.Duration(r.n) * r.of.Every
		}
		r.n++
		at := begin + int64(r.lap+after)
		if at >= end {
			if r.of.Every == 0 && r.n < r.of.Lines { // lines may be out of their order
				continue
			}
			over(nil)
			return
		}
		s := r.streams[[2]string{device, reading}]
		if s == nil {
			if s = r.only[device]; s == nil || reading != "" && reading != s.Reading.Name {
				continue
			}
		}
		r.line, r.to = line, s
		heap.Push(&l.plan, entry{at: max(at, l.at), what: replays, index: i})
		return
	}
}

// pauseOf is the time between the last message and the first of the next time: that of one
// message to the next.
func (l *loop) pauseOf(r *replay) time.Duration {
	if r.of.Every > 0 || r.of.Lines < 2 {
		return 0
	}
	return r.of.Length() / time.Duration(r.of.Lines-1)
}

// again sends the line that is due, and looks for the next.
func (l *loop) again(i int, at, end int64) {
	r := l.replaying[i]
	s := r.to
	if d := &l.engine.devices[s.Device.Index]; d.idle == 0 && d.joined {
		s.line = &r.line
		l.speak(s, at)
		s.line = nil
	}
	l.advance(i, end)
}

// Replay writes a recorded message: with its mark, times moved to when it is due, and other
// values where the file wants them. The rest of its body stays as it is, to the byte.
func (w *BodyWriter) Replay(s *fleet.Stream, seq uint64, due, begin time.Time, l *recording.Line,
	body []byte) (Written, error) {
	out := Written{First: seq}
	r := s.Device.Cast.Recording
	how := s.Device.Cast.Kind.Mark
	mark := ledger.Mark{Run: w.Run, Device: s.Device.Name, Reading: s.Reading.Name, Seq: seq}
	inField := how.Place == crowd.MarkField || how.Place == crowd.MarkSequence
	if how.Place == crowd.MarkUserProperty || how.Place == crowd.MarkHeader {
		out.Mark = link.Header{Name: how.Name, Value: mark.String()}
	}
	c := recording.Change{Shift: due.Sub(l.At), Times: r.Times, All: r.AllTimes, Near: l.At}
	if len(r.Times) == 0 && !r.AllTimes {
		c.Shift = 0
	}
	if inField {
		c.Drop = how.Name
	}
	var failed error
	if len(r.Override) > 0 {
		c.Set, failed = w.overrides(s, seq, due, begin)
	}
	object, is := c.Apply(l.Body)
	if s.Reading.Raw {
		out.Body = append(body, object...)
		found, _ := payload.Raw{}.Read(out.Body)
		carried, err := json.Marshal(found[0].Values)
		out.Carried = [][]byte{carried}
		return out, errors.Join(failed, err)
	}
	if !is {
		return Written{First: seq, Body: append(body, l.Body...), Carried: [][]byte{[]byte("null")},
				Mark: out.Mark}, fmt.Errorf("the "+
				"recorded message of %s at %s is no JSON object", s.Device.Name, l.At.UTC().Format(time.RFC3339Nano))
	}
	w.object = append(w.object[:0], bytes.TrimSpace(object)...)
	at := bytes.Index(object, w.object)
	w.marked(s, &out, mark, append(body, object[:at]...))
	out.Body = append(out.Body, object[at+len(w.object):]...) // white space around it stays
	return out, failed
}

// overrides are the values that the file wants in place of the recorded ones.
func (w *BodyWriter) overrides(s *fleet.Stream, seq uint64, due, begin time.Time) (map[string][]byte, error) {
	env := formula.Env{}
	for k, v := range s.Device.Env {
		env[k] = v
	}
	env["reading"], env["seq"], env["elapsed"], env["time"] = s.Reading.Name, int(seq), due.Sub(begin).Seconds(), due.UTC()
	set := map[string][]byte{}
	var failed error
	for _, o := range s.Device.Cast.Recording.Override {
		var v any
		var err error
		if f := o.Value.Single(); f != nil {
			v, err = f.Any(&w.machine, env)
		} else if v, err = o.Value.Expand(&w.machine, env); err == nil && o.Value.Fixed() &&
			json.Valid([]byte(o.Value.Source())) {
			v = json.RawMessage(o.Value.Source()) // a number, or true
		}
		if t, is := v.(time.Time); is {
			v = formula.String(t)
		}
		var b []byte
		if err == nil {
			b, err = json.Marshal(v)
		}
		if err != nil {
			failed = errors.Join(failed, fmt.Errorf("the field %q of %s: %w", o.Name, s.Device.Name, err))
			b = []byte("null")
		}
		set[o.Name] = b
	}
	return set, failed
}

// beside adds what stood beside a recorded body: properties, headers, whether it was retained.
func beside(m *link.Message, s *fleet.Stream, l *recording.Line) {
	if s.Device.Cast.Recording.Time == "" { // rows of CSV have none
		m.ContentType = l.ContentType
	}
	skip := s.Device.Cast.Kind.Mark.Name
	if s.Device.Cast.Link.Protocol == crowd.MQTT {
		m.MQTT.Retain = m.MQTT.Retain || l.Retained
		m.MQTT.Response, m.MQTT.Correlation, m.MQTT.UTF8 = l.Response, l.Correlation, l.UTF8
		if l.Expiry > 0 {
			m.MQTT.Expiry = l.Expiry
		}
		for _, p := range l.Properties {
			if p[0] != skip {
				m.MQTT.User = append(m.MQTT.User[:len(m.MQTT.User):len(m.MQTT.User)], link.Header{Name: p[0], Value: p[1]})
			}
		}
		return
	}
	for i, p := range l.Headers {
		if p[0] != skip {
			again := slices.ContainsFunc(l.Headers[:i], func(q recording.Pair) bool { return strings.EqualFold(q[0], p[0]) })
			m.HTTP.Headers = append(m.HTTP.Headers, link.Header{Name: p[0], Value: p[1], More: again})
		}
	}
}
