// Package listen is the witnesses that hear messages as they come: a subscription at a broker,
// and a callback that the platform makes over HTTP. A source moves bytes and knows nothing of
// what they mean; the listener reads marks, and notes sightings and gaps.
package listen

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"runcrowd/internal/clock"
	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/formula"
	"runcrowd/internal/jq"
	"runcrowd/internal/ledger"
	"runcrowd/internal/strictjson"
	"runcrowd/internal/witness/hearing"
	"runcrowd/internal/witness/match"
)

// listener is a witness that listens.
type listener struct {
	*hearing.Base
	source                              source
	device, reading, time, mark, values *jq.Query
	hasTopic                            map[*crowd.Cast]bool // groups whose topic is known
	plain                               bool                 // marks ride in one field of bodies, and nothing is picked
	tap                                 func(Overheard)      // in place of sightings
	record                              func(*message)       // in place of looking at it at all

	unheardMu sync.Mutex
	unheard   Unheard // where no ledger takes it

	countMu  sync.Mutex
	unmarked int                       // messages without a mark
	sample   string                    // the first of them
	foreign  int                       // messages of other runs
	twins    map[match.Occasion]*twins // of one time and the same values
	held     map[int][]held            // of those that only their order tells apart, by stream
	looked   int                       // how many of these there were when they were last compared
	enough   int                       // and how many messages were among them
}

// New makes a listening witness.
func New(b *hearing.Base) (hearing.Witness, error) { return newListener(b) }

func newListener(b *hearing.Base) (*listener, error) {
	e := &listener{Base: b, hasTopic: map[*crowd.Cast]bool{}}
	spec, c := b.Spec, b.Catalog
	err := errors.Join(match.Compile(&e.device, spec.Device), match.Compile(&e.reading, spec.Reading),
		match.Compile(&e.time, spec.Time), match.Compile(&e.mark, spec.Mark), match.Compile(&e.values, spec.Values))
	if err != nil {
		return nil, err
	}
	e.plain = e.mark == nil && e.device == nil && e.reading == nil && e.time == nil && e.values == nil &&
		len(c.Places) == 1 && c.Places[0].Place == crowd.MarkField
	for _, st := range c.Fleet.Streams {
		t := spec.Topic(st.Device.Cast)
		if t != nil {
			st.Device.Env["reading"] = st.Reading.Name
			topic, err := t.Expand(&formula.Machine{}, st.Device.Env)
			delete(st.Device.Env, "reading")
			if err != nil {
				return nil, fmt.Errorf("the witness %q: topic: %w", spec.Name, err)
			}
			c.AddTopic(topic, st.Index)
		}
		if t != nil || st.Device.Cast.Link.Protocol == crowd.MQTT && spec.Callback == nil {
			e.hasTopic[st.Device.Cast] = true
		}
	}
	if spec.Callback != nil {
		e.source, err = newCallback(spec, c)
	} else {
		e.source, err = newSubscription(spec, c)
	}
	return e, err
}

// Start implements Witness.
func (e *listener) Start(ctx hearing.Context) error { return e.source.start(ctx, e) }

// Stop implements Witness.
func (e *listener) Stop() { e.source.stop() }

// gap notes a time in which the source could not listen.
func (e *listener) gap(g *ledger.Gap) {
	if e.Page != nil {
		e.Page.Gap(e.Index, g)
	} else if !g.Lag {
		e.unheardMu.Lock()
		e.unheard.add(g)
		e.unheardMu.Unlock()
	}
}

// remark tells something about the platform that its user should know.
func (e *listener) remark(what string) {
	if e.Page != nil && len(e.Catalog.Fleet.Streams) > 0 {
		e.Page.Link(&ledger.LinkEvent{At: clock.Now(), What: ledger.Remarked, Why: what})
	}
	if e.Catalog.Tell != nil {
		e.Catalog.Tell(what)
	}
}

// take looks for the mark in one message and notes the sighting.
func (e *listener) take(m *message) {
	if e.record != nil {
		e.record(m)
		return
	}
	if e.Spec.Hears && e.tap == nil {
		v := hearing.Decoded(m.body)
		if !m.retained { // it was said before
			e.Said(v, m.topic, &ledger.Said{Seen: m.at, Perhaps: m.again || m.perhaps})
		}
		if !e.Spec.Sees() || e.IsAlert(v, m.topic) {
			return
		}
	}
	filed, known := e.Catalog.Topic(m.topic)
	if e.tap != nil {
		for _, part := range e.split(m, filed) {
			e.tap(e.overheard(m, part, filed))
		}
		return
	}
	if e.plain {
		// The usual case without parsing: the body begins with the mark.
		if text, ok := firstText(m.body, e.Catalog.Places[0].Name); ok {
			if mark, err := ledger.ParseMark(text); err == nil && mark.Run == e.Catalog.Run {
				e.sighting(m, e.Catalog.Whose(mark), filed, known, nil)
				return
			}
		}
	}
	for _, part := range e.split(m, filed) {
		if e.Catalog.Index != nil && e.unmarkedOurs(m, &part, filed) {
			continue
		}
		w := e.Catalog.Mark(part.Mark)
		if w.Ours {
			e.sighting(m, w, filed, known, part.Values)
			continue
		}
		if !w.Marked {
			if w, found := e.Catalog.Raw(m.body); found {
				e.sighting(m, w, filed, known, nil)
				continue
			}
		}
		e.countMu.Lock()
		if w.Marked {
			e.foreign++
		} else if e.unmarked++; e.sample == "" {
			e.sample = match.Clip(fmt.Sprintf("%s %s", m.topic, strings.ToValidUTF8(string(m.body), "?")))
		}
		e.countMu.Unlock()
	}
}

// split takes a message's body apart, and finds the mark of each part.
func (e *listener) split(m *message, filed int) []match.Part {
	var parts []match.Part
	if e.mark != nil {
		// The file says where the mark is: what comes out is JSON.
		v, err := strictjson.Decode(m.body)
		if err == nil {
			parts, _ = e.Catalog.Objects(v)
		}
		for i := range parts {
			if parts[i].Mark, err = e.mark.One(parts[i].Values); err != nil {
				parts[i].Mark = nil
			}
		}
	} else {
		parts = e.Catalog.Parts(m.body, filed)
	}
	if len(parts) == 0 {
		parts = []match.Part{{}}
	}
	for _, place := range e.Catalog.Places {
		if place.Place < crowd.MarkUserProperty || parts[0].Mark != nil { // a property, or a header of a callback
			continue
		}
		if m.beside == nil {
			break
		}
		if mark, ok := m.beside(place.Name); ok {
			parts[0].Mark = mark
		}
	}
	return parts
}

// firstText is the value of a JSON object's first member, where that has the
// name and is a text without escapes.
func firstText(b []byte, name string) (string, bool) {
	rest, ok := bytes.CutPrefix(b, []byte(`{"`))
	if ok {
		rest, ok = bytes.CutPrefix(rest, []byte(name))
	}
	if ok {
		rest, ok = bytes.CutPrefix(rest, []byte(`":"`))
	}
	end := bytes.IndexByte(rest, '"')
	if !ok || end < 0 || bytes.IndexByte(rest[:end], '\\') >= 0 {
		return "", false
	}
	return string(rest[:end]), true
}

// sighting notes a message of this run.
func (e *listener) sighting(m *message, w match.Whose, filed int, known bool, values any) {
	x := &ledger.Sighting{Witness: e.Index, Seen: m.at, Stream: w.Stream, Seq: w.Seq, Device: w.Device,
		Reading: w.Reading, Again: m.again, Perhaps: m.perhaps}
	if values == nil {
		x.Values = bytes.Clone(m.body)
	} else {
		x.Values, _ = json.Marshal(values)
	}
	if filed >= 0 {
		at := e.Catalog.Fleet.Streams[filed]
		x.FiledDevice, x.FiledReading = at.Device.Name, at.Reading.Name
	} else if !known && w.Stream >= 0 && e.hasTopic[e.Catalog.Fleet.Streams[w.Stream].Device.Cast] {
		x.FiledDevice = "topic " + e.Catalog.Fleet.Crowd.Redact(m.topic)
	}
	match.Fill(x, values, false, e.device, e.reading, e.time, e.values)
	e.Note(x)
}

// Hear waits for what is missing.
func (e *listener) Hear(ctx hearing.Context, r hearing.Round) (bool, string) {
	if e.Spec.Hears && r.Expect.Calls() { // what the last message called for may take its time
		hearing.Sleep(ctx, e.Spec.Wait)
	}
	deadline := time.Now().Add(e.Spec.Wait)
	e.Begin(r)
	defer e.Over()
	for e.Awaited() > e.waiting(r) && time.Now().Before(deadline) && ctx.Err() == nil {
		hearing.Sleep(ctx, 50*time.Millisecond)
	}
	hearing.Sleep(ctx, e.Spec.WatchCopies)
	answered := e.source.fence(ctx)
	e.place(r)
	e.separate(r)
	last, down, why := e.source.state()
	switch {
	case !down.IsZero():
		e.gap(&ledger.Gap{From: down, Why: why})
		return false, e.source.lost() + why
	case ctx.Err() != nil:
		return false, "the hearing was cut short"
	case !answered:
		const why = "the platform no longer answers the witness"
		e.gap(&ledger.Gap{From: last, Why: why})
		return false, fmt.Sprintf("%s; it was heard last at %s", why, last.UTC().Format("15:04:05.000"))
	}
	if why := e.Unnamed(); why != "" {
		return false, why
	}
	if e.Awaited() > 0 && e.Spec.Shared() {
		return false, "a shared subscription ($share) hears only its share, and nothing where the broker does not know it " +
			"(MQTT 3.1.1 has none); subscribe without $share"
	}
	e.countMu.Lock()
	defer e.countMu.Unlock()
	if e.unmarked > 0 && e.foreign == 0 && !e.Any() {
		return false, fmt.Sprintf("messages came (%d), but none carried a mark; the first was %s", e.unmarked, e.sample)
	}
	return true, ""
}

// unmarkedOurs notes a message that was heard and has no mark, where what it carries tells
// which it is. It is false where that is not how it is known.
func (e *listener) unmarkedOurs(m *message, p *match.Part, filed int) bool {
	values, is := strictjson.Object(p.Values)
	var d *fleet.Device
	x := ledger.Sighting{}
	match.Fill(&x, p.Values, false, e.device, e.reading, nil, nil)
	if filed >= 0 {
		d = e.Catalog.Fleet.Streams[filed].Device
	} else if x.FiledDevice != "" {
		d = e.Catalog.Device(x.FiledDevice)
	}
	if is && d != nil && d.Cast.Kind.Mark.Place == crowd.MarkNone && e.Sees(d) {
		e.hold(m, values, d, filed, x.FiledReading)
		return true
	}
	if !is || d == nil || d.Cast.Kind.Mark.Place != crowd.MarkTime {
		return d != nil && e.Catalog.Index.Tells(d)
	}
	streams := match.StreamsOf(d, x.FiledReading)
	if filed >= 0 && x.FiledReading == "" {
		streams = []*fleet.Stream{e.Catalog.Fleet.Streams[filed]}
	}
	t, ok := match.TimeOf(e.Catalog.Index.Stamp(streams, p, values, e.mark != nil))
	if !ok {
		return true
	}
	list := e.Catalog.Index.At(streams, t, e.Spec.Shift, e.Spec.Cut)
	if len(list) == 0 {
		return true
	}
	digests := func(stream int) uint64 { return match.DigestOf(values, e.Catalog.Index.Names[stream]) }
	alike := match.Alike(list, digests)
	if len(alike) > 1 {
		e.twin(m, match.Occasion{Device: d.Index, Stamp: t.UnixNano(), Digest: digests(list[0].Stream)}, alike, filed, p.Values)
		return true
	}
	if len(alike) == 0 {
		for _, c := range list {
			y := ledger.Sighting{Witness: e.Index, Seen: m.at, Stream: c.Stream, Seq: c.Seq, Unsure: true}
			y.Values, _ = json.Marshal(values)
			if !e.Elsewhere(c.Stream) {
				e.Page.Sighting(&y) // it is waited for all the same: it may still come as it was sent
			}
		}
		return true
	}
	e.sighting(m, e.whose(alike[0].Stream, alike[0].Seq), filed, true, p.Values) // its place told whose it is
	return true
}

// whose says that something is a message of a stream.
func (e *listener) whose(stream int, seq uint64) match.Whose {
	s := e.Catalog.Fleet.Streams[stream]
	return match.Whose{Mark: ledger.Mark{Run: e.Catalog.Run, Device: s.Device.Name, Reading: s.Reading.Name, Seq: seq},
		Stream: stream, Ours: true}
}
