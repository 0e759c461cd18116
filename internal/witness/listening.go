package witness

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
	"runcrowd/internal/formula"
	"runcrowd/internal/jq"
	"runcrowd/internal/ledger"
	"runcrowd/internal/strictjson"
)

// listener is a witness that listens.
type listener struct {
	*base
	source                              listenSource
	device, reading, time, mark, values *jq.Query
	hasTopic                            map[*crowd.Cast]bool // groups whose topic is known
	plain                               bool                 // marks ride in one field of the payload, and nothing is picked
	tap                                 func(Overheard)      // in place of sightings
	record                              func(*message)       // in place of looking at it at all

	countMu  sync.Mutex
	unmarked int              // messages without a mark
	sample   string           // the first of them
	foreign  int              // messages of other runs
	nth      map[occasion]int // of those that only their values tell apart
}

// newListener makes the core of a listening witness.
func newListener(b *base) (*listener, error) {
	e := &listener{base: b, hasTopic: map[*crowd.Cast]bool{}}
	spec, c := b.spec, b.catalog
	err := errors.Join(pick(&e.device, spec.Device), pick(&e.reading, spec.Reading), pick(&e.time, spec.Time),
		pick(&e.mark, spec.Mark), pick(&e.values, spec.Values))
	if err != nil {
		return nil, err
	}
	e.plain = e.mark == nil && e.device == nil && e.reading == nil && e.time == nil && e.values == nil &&
		len(c.places) == 1 && c.places[0].Place == crowd.MarkField
	for _, st := range c.Fleet.Streams {
		t := spec.Topic(st.Device.Cast)
		if t != nil {
			st.Device.Env["reading"] = st.Reading.Name
			topic, err := t.Expand(&formula.Machine{}, st.Device.Env)
			delete(st.Device.Env, "reading")
			if err != nil {
				return nil, fmt.Errorf("the witness %q: topic: %w", spec.Name, err)
			}
			c.addTopic(topic, st.Index)
		}
		if t != nil || st.Device.Cast.Link.Protocol == crowd.MQTT && spec.Callback == nil {
			e.hasTopic[st.Device.Cast] = true
		}
	}
	return e, nil
}

// Start implements Witness.
func (e *listener) Start(ctx Context) error { return e.source.start(ctx, e) }

// Stop implements Witness.
func (e *listener) Stop() { e.source.stop() }

// gap notes a time in which the source could not listen.
func (e *listener) gap(g *ledger.Gap) {
	if e.page != nil {
		e.page.Gap(e.index, g)
	}
}

// remark tells something about the platform that its user should know.
func (e *listener) remark(what string) {
	if e.page != nil && len(e.catalog.Fleet.Streams) > 0 {
		e.page.Link(&ledger.LinkEvent{At: clock.Now(), What: ledger.Remarked, Why: what})
	}
	if e.catalog.Tell != nil {
		e.catalog.Tell(what)
	}
}

// take looks for the mark in one message and notes the sighting.
func (e *listener) take(m *message) {
	if e.record != nil {
		e.record(m)
		return
	}
	if e.spec.Hears && e.tap == nil {
		v := decoded(m.body)
		if !m.retained { // it was said before
			e.said(v, m.topic, &ledger.Said{Seen: m.at, Perhaps: m.again || m.perhaps})
		}
		if !e.spec.Sees() || e.isAlert(v, m.topic) {
			return
		}
	}
	filed, known := e.catalog.topics[m.topic]
	if !known {
		filed = -1
	}
	if e.tap != nil {
		for _, part := range e.split(m, filed) {
			e.tap(e.overheard(m, part, filed))
		}
		return
	}
	if e.plain {
		// The usual case without parsing: the body begins with the mark.
		if text, ok := firstText(m.body, e.catalog.places[0].Name); ok {
			if mark, err := ledger.ParseMark(text); err == nil && mark.Run == e.catalog.Run {
				e.sighting(m, e.catalog.whose(mark), filed, known, nil)
				return
			}
		}
	}
	for _, part := range e.split(m, filed) {
		if e.catalog.Index != nil && e.unmarkedOurs(m, &part, filed) {
			continue
		}
		w := e.catalog.markOf(part.mark)
		if w.ours {
			e.sighting(m, w, filed, known, part.values)
			continue
		}
		if !w.marked {
			if w, found := e.catalog.raw(m.body); found {
				e.sighting(m, w, filed, known, nil)
				continue
			}
		}
		e.countMu.Lock()
		if w.marked {
			e.foreign++
		} else if e.unmarked++; e.sample == "" {
			e.sample = clip(fmt.Sprintf("%s %s", m.topic, strings.ToValidUTF8(string(m.body), "?")))
		}
		e.countMu.Unlock()
	}
}

// split takes a message's body apart, and finds the mark of each part.
func (e *listener) split(m *message, filed int) []part {
	var parts []part
	if e.mark != nil {
		// The file says where the mark is: what comes out is JSON.
		v, err := strictjson.Decode(m.body)
		if err == nil {
			parts, _ = e.catalog.objects(v)
		}
		for i := range parts {
			if parts[i].mark, err = e.mark.One(parts[i].values); err != nil {
				parts[i].mark = nil
			}
		}
	} else {
		parts = e.catalog.parts(m.body, filed)
	}
	if len(parts) == 0 {
		parts = []part{{}}
	}
	for _, place := range e.catalog.places {
		if place.Place != crowd.MarkUserProperty || parts[0].mark != nil {
			continue
		}
		if m.beside == nil {
			break
		}
		if mark, ok := m.beside(place.Name); ok {
			parts[0].mark = mark
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
func (e *listener) sighting(m *message, w whose, filed int, known bool, values any) {
	x := &ledger.Sighting{Witness: e.index, Seen: m.at, Stream: w.stream, Seq: w.Seq, Device: w.Device,
		Reading: w.Reading, Again: m.again, Perhaps: m.perhaps}
	if values == nil {
		x.Values = bytes.Clone(m.body)
	} else {
		x.Values, _ = json.Marshal(values)
	}
	if filed >= 0 {
		x.FiledDevice, x.FiledReading = e.catalog.Fleet.Streams[filed].Device.Name, e.catalog.Fleet.Streams[filed].Reading.Name
	} else if !known && w.stream >= 0 && e.hasTopic[e.catalog.Fleet.Streams[w.stream].Device.Cast] {
		x.FiledDevice = "topic " + e.catalog.Fleet.Crowd.Redact(m.topic)
	}
	fill(x, values, false, e.device, e.reading, e.time, e.values)
	e.note(x)
}

// Hear waits for what is missing.
func (e *listener) Hear(ctx Context, r Round) (bool, string) {
	if e.spec.Hears && r.Expect.Calls() { // what the last message called for may take its time
		sleep(ctx, e.spec.Wait)
	}
	deadline := time.Now().Add(e.spec.Wait)
	e.begin(r)
	defer e.over()
	for e.Awaited() > 0 && time.Now().Before(deadline) && ctx.Err() == nil {
		sleep(ctx, 50*time.Millisecond)
	}
	sleep(ctx, e.spec.WatchCopies)
	answered := e.source.fence(ctx)
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
	if why := e.unnamed(); why != "" {
		return false, why
	}
	if e.Awaited() > 0 && strings.HasPrefix(e.spec.Filter, "$share/") {
		return false, "a shared subscription ($share) hears only its share, and nothing where the broker does not know it " +
			"(MQTT 3.1.1 has none); subscribe without $share"
	}
	e.countMu.Lock()
	defer e.countMu.Unlock()
	if e.unmarked > 0 && e.foreign == 0 && !e.any() {
		return false, fmt.Sprintf("messages came (%d), but none carried a mark; the first was %s", e.unmarked, e.sample)
	}
	return true, ""
}
