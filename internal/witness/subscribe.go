package witness

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"strings"
	"sync"
	"time"

	"runcrowd/internal/clock"
	"runcrowd/internal/crowd"
	"runcrowd/internal/formula"
	"runcrowd/internal/jq"
	"runcrowd/internal/ledger"
	"runcrowd/internal/link"
	"runcrowd/internal/link/mqtt"
	"runcrowd/internal/mqttwire"
	"runcrowd/internal/strictjson"
)

// Context is the context of a hearing.
type Context = context.Context

// maxMessage is the largest message a subscription takes, in bytes.
const maxMessage = 16 << 20

// subscriptionExpiry is how long a broker of version 5 keeps the subscription
// of a witness whose connection was lost.
const subscriptionExpiry = 300

// subscription is a witness that subscribes.
type subscription struct {
	*base
	connect                             mqttwire.Connect
	device, reading, time, mark, values *jq.Query
	hasTopic                            map[*crowd.Cast]bool // groups whose topic is known
	plain                               bool                 // marks ride in one field of the payload, and nothing is picked

	writeMu  sync.Mutex
	nc       net.Conn
	broker   *mqtt.Guest
	tap      func(Overheard) // in place of sightings
	renew    time.Time       // when its access token has to be changed; zero: never
	leaving  bool            // for that
	lastRead time.Time
	pings    int       // PINGREQs sent on this connection, less the PINGRESPs that came
	pinged   time.Time // when the first of them was sent
	lagging  time.Time // since when its answers come late; zero: they do not
	stop     context.CancelFunc
	done     chan struct{}
	wg       sync.WaitGroup  // of keepAlive
	pending  map[uint16]bool // QoS 2 packets taken and not released yet

	hearMu    sync.Mutex
	down      time.Time // since when it cannot hear; zero: it can
	why       string
	unmarked  int    // messages without a mark
	sample    string // the first of them
	foreign   int    // messages of other runs
	connected bool
	again     bool // it subscribed anew: retained messages of this run may come once more
}

// New makes the witness of a file; page is where it writes.
func New(spec *crowd.Witness, index int, c *Catalog, page *ledger.Page) (Witness, error) {
	b := &base{spec: spec, index: index, page: page, catalog: c}
	pick := func(into **jq.Query, source string) error {
		p, err := newPicker(source)
		*into = p
		return err
	}
	if spec.Filter == "" {
		q := &query{base: b}
		err := errors.Join(pick(&q.body, spec.Body), pick(&q.rows, spec.Rows), pick(&q.next, spec.Next), pick(&q.device, spec.Device), pick(&q.reading, spec.Reading),
			pick(&q.time, spec.Time), pick(&q.mark, spec.Mark), pick(&q.values, spec.Values), pick(&q.rowID, spec.Row))
		for _, p := range spec.Page {
			x := pageParam{name: p.Name}
			err = errors.Join(err, pick(&x.of, p.Of))
			q.params = append(q.params, x)
		}
		q.streams()
		return q, err
	}
	s := &subscription{base: b, pending: map[uint16]bool{}, hasTopic: map[*crowd.Cast]bool{}}
	err := errors.Join(pick(&s.device, spec.Device), pick(&s.reading, spec.Reading), pick(&s.time, spec.Time),
		pick(&s.mark, spec.Mark), pick(&s.values, spec.Values))
	if err != nil {
		return nil, err
	}
	s.plain = s.mark == nil && s.device == nil && s.reading == nil && s.time == nil && s.values == nil &&
		len(c.places) == 1 && c.places[0].Place == crowd.MarkField
	own, err := c.Fleet.Credentials.Guest(spec.Link, spec.Name)
	if err != nil {
		return nil, err
	}
	s.broker = own.Broker(spec.Link)
	s.broker.Network = c.Network
	s.connect = mqttwire.Connect{Version: byte(spec.Link.Version), ClientID: "runcrowd-" + c.Run + "-" + spec.Name,
		KeepAlive: 30, CleanStart: true}
	if s.connect.Version == mqttwire.V5 {
		s.connect.SessionExpiry = subscriptionExpiry
	}
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
		if t != nil || st.Device.Cast.Link.Protocol == crowd.MQTT {
			s.hasTopic[st.Device.Cast] = true
		}
	}
	return s, nil
}

// Start connects and subscribes.
func (s *subscription) Start(ctx Context) error {
	rd, err := s.open(ctx)
	if err != nil {
		var refused *mqtt.SubscribeError
		if errors.As(err, &refused) {
			return &link.ReachError{Witness: s.spec.Name, Address: s.spec.Link.URL(), What: err.Error(), Try: "check that this user may subscribe", Err: err}
		}
		return mqtt.ReachError(s.spec.Link.Name, s.spec.Link.Scheme, s.spec.Link.Address, fmt.Sprintf("the witness %q", s.spec.Name), err)
	}
	run, stop := context.WithCancel(context.Background())
	s.stop, s.done = stop, make(chan struct{})
	go s.listen(run, rd)
	s.wg.Go(func() { s.keepAlive(run) })
	return nil
}

// open connects and makes sure that the subscription stands.
func (s *subscription) open(ctx Context) (*mqttwire.Reader, error) {
	line, err := s.broker.Open(ctx, s.connect, mqtt.Sizes{Buffer: 64 << 10, Packet: maxMessage})
	if err != nil {
		return nil, err
	}
	s.writeMu.Lock()
	s.nc, s.lastRead, s.pings, s.renew, s.leaving = line.Conn, clock.Now(), 0, line.Renew, false
	s.writeMu.Unlock()
	kept := line.Ack.SessionPresent && s.connected
	if !kept {
		clear(s.pending)
		s.again = s.connected
		err := line.Subscribe(ctx, s.spec.Filter, s.spec.QoS, s.broker.Timeout, func(p *mqttwire.Packet) error {
			acks, err := s.packet(p, nil)
			if err == nil {
				err = s.acknowledge(line.Conn, acks)
			}
			return err
		})
		if err != nil {
			line.Conn.Close()
			return nil, err
		}
	}
	s.hearMu.Lock()
	if !s.down.IsZero() && s.page != nil {
		s.page.Gap(s.index, &ledger.Gap{From: s.down, To: clock.Now(), QoS0: kept, Why: s.why})
		s.down = time.Time{}
	}
	s.hearMu.Unlock()
	s.connected = true
	s.connect.CleanStart = s.connect.Version == mqttwire.V311
	return line.Reader, nil
}

// listen reads until stopped, and brings a lost connection back: sooner than
// devices do, so as to miss nothing of theirs.
func (s *subscription) listen(ctx Context, rd *mqttwire.Reader) {
	defer close(s.done)
	for {
		err := s.read(rd)
		if ctx.Err() != nil {
			return
		}
		s.hearMu.Lock()
		s.down = s.heardLast()
		s.why, _ = link.Explain(err, s.spec.Link.Address)
		s.writeMu.Lock()
		leaving := s.leaving
		s.writeMu.Unlock()
		if leaving {
			s.why = "it changed its access token for a new one"
		}
		s.hearMu.Unlock()
		for try := 0; ; try++ {
			if leaving && try == 0 {
				if rd, err = s.open(ctx); err == nil {
					break
				}
			}
			select {
			case <-ctx.Done():
				return
			case <-time.After(link.BackOff(20*time.Millisecond, 200*time.Millisecond, try)):
			}
			if rd, err = s.open(ctx); err == nil {
				break
			}
			if ctx.Err() != nil {
				return
			}
		}
	}
}

func (s *subscription) read(rd *mqttwire.Reader) error {
	s.writeMu.Lock()
	nc := s.nc
	s.writeMu.Unlock()
	defer nc.Close()
	var p mqttwire.Packet
	var acks []byte
	for {
		if err := rd.Read(&p); err != nil {
			return err
		}
		s.writeMu.Lock()
		s.lastRead = clock.Now()
		s.writeMu.Unlock()
		var err error
		if acks, err = s.packet(&p, acks); err != nil {
			return err
		}
		// What came together is acknowledged together.
		if rd.Buffered() == 0 || len(acks) >= mostAcks {
			if err := s.acknowledge(nc, acks); err != nil {
				return err
			}
			acks = acks[:0]
		}
	}
}

// mostAcks is how many bytes of acknowledgements wait for the next packet.
const mostAcks = 1 << 10

// acknowledge writes acknowledgements.
func (s *subscription) acknowledge(nc net.Conn, acks []byte) error {
	if len(acks) == 0 {
		return nil
	}
	s.writeMu.Lock()
	defer s.writeMu.Unlock()
	if s.leaving { // behind DISCONNECT nothing may be sent; the broker asks again
		return nil
	}
	_, err := nc.Write(acks)
	return err
}

// heardLast is when the last packet came. A connection may have been dead since: what
// came out of the platform then was not heard, however late the cut was noticed.
func (s *subscription) heardLast() time.Time {
	s.writeMu.Lock()
	defer s.writeMu.Unlock()
	return s.lastRead
}

// packet handles one packet; its acknowledgement is appended to acks.
func (s *subscription) packet(p *mqttwire.Packet, acks []byte) ([]byte, error) {
	switch p.Type {
	case mqttwire.PUBLISH:
		switch {
		case p.Publish.QoS == 2 && s.pending[p.ID]:
			// The broker sent it again before it saw our PUBREC: not another copy.
		default:
			s.message(p)
		}
		switch p.Publish.QoS {
		case 1:
			acks = mqttwire.AppendAck(acks, mqttwire.PUBACK, p.ID)
		case 2:
			s.pending[p.ID] = true
			acks = mqttwire.AppendAck(acks, mqttwire.PUBREC, p.ID)
		}
	case mqttwire.PUBREL:
		delete(s.pending, p.ID)
		acks = mqttwire.AppendAck(acks, mqttwire.PUBCOMP, p.ID)
	case mqttwire.PINGRESP:
		s.answered()
	case mqttwire.DISCONNECT:
		return acks, fmt.Errorf("the broker disconnected: %s", mqttwire.Reason(p.Reason))
	}
	return acks, nil
}

// slow is how long the broker's answer to a ping may wait behind messages. A broker drops
// messages that wait too long for a subscriber, and tells nobody.
const slow = 2 * time.Second

// answered takes the answer to a ping.
func (s *subscription) answered() {
	s.writeMu.Lock()
	defer s.writeMu.Unlock()
	s.pings = max(0, s.pings-1)
	now := clock.Now()
	switch late := now.Sub(s.pinged) > slow; {
	case late && s.lagging.IsZero():
		s.lagging = s.pinged.Add(-pingEvery)
	case !late && !s.lagging.IsZero():
		s.lagged(now)
		s.lagging = time.Time{}
	}
	s.pinged = now
}

// lagged notes that the witness lagged up to now. The caller holds writeMu.
func (s *subscription) lagged(now time.Time) {
	if s.page != nil {
		s.page.Gap(s.index, &ledger.Gap{From: s.lagging, To: now, Lag: true, Why: fmt.Sprintf("messages waited for it longer than %s, and a broker drops what waits too long", slow)})
	}
}

// message looks for the mark in one message and notes the sighting.
func (s *subscription) message(p *mqttwire.Packet) {
	now := clock.Now()
	filed, known := s.catalog.topics[p.Publish.Topic]
	if !known {
		filed = -1
	}
	if s.tap != nil {
		for _, part := range s.split(p, filed) {
			s.tap(s.overheard(p, part, filed, now))
		}
		return
	}
	if s.plain {
		// The usual case without parsing: the body begins with the mark.
		if text, ok := firstText(p.Publish.Payload, s.catalog.places[0].Name); ok {
			if m, err := ledger.ParseMark(text); err == nil && m.Run == s.catalog.Run {
				s.sighting(p, s.catalog.whose(m), filed, known, now, nil)
				return
			}
		}
	}
	for _, part := range s.split(p, filed) {
		m := s.catalog.markOf(part.mark)
		if m.ours {
			s.sighting(p, m, filed, known, now, part.values)
			continue
		}
		s.hearMu.Lock()
		if m.marked {
			s.foreign++
		} else if s.unmarked++; s.sample == "" {
			s.sample = clip(fmt.Sprintf("%s %s", p.Publish.Topic, strings.ToValidUTF8(string(p.Publish.Payload), "?")))
		}
		s.hearMu.Unlock()
	}
}

// split takes a message's body apart, and finds the mark of each part.
func (s *subscription) split(p *mqttwire.Packet, filed int) []part {
	var parts []part
	if s.mark != nil {
		// The file says where the mark is: what comes out is JSON.
		v, err := strictjson.Decode(p.Publish.Payload)
		if err == nil {
			parts, _ = s.catalog.objects(v)
		}
		for i := range parts {
			if parts[i].mark, err = s.mark.One(parts[i].values); err != nil {
				parts[i].mark = nil
			}
		}
	} else {
		parts = s.catalog.parts(p.Publish.Payload, filed)
	}
	if len(parts) == 0 {
		parts = []part{{}}
	}
	for _, place := range s.catalog.places {
		if place.Place != crowd.MarkUserProperty || parts[0].mark != nil {
			continue
		}
		for _, u := range p.UserProp {
			if u.Key == place.Name {
				parts[0].mark = u.Value
			}
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
func (s *subscription) sighting(p *mqttwire.Packet, m whose, filed int, known bool, now time.Time, values any) {
	x := &ledger.Sighting{Witness: s.index, Seen: now, Stream: m.stream, Seq: m.Seq, Device: m.Device, Reading: m.Reading,
		Again: p.Publish.Dup && p.Publish.QoS == 1 || p.Publish.Retain && s.again}
	if values == nil {
		x.Values = append([]byte(nil), p.Publish.Payload...)
	} else {
		x.Values, _ = json.Marshal(values)
	}
	if filed >= 0 {
		x.FiledDevice, x.FiledReading = s.catalog.Fleet.Streams[filed].Device.Name, s.catalog.Fleet.Streams[filed].Reading.Name
	} else if !known && m.stream >= 0 && s.hasTopic[s.catalog.Fleet.Streams[m.stream].Device.Cast] {
		x.FiledDevice = "topic " + s.catalog.Fleet.Crowd.Redact(p.Publish.Topic)
	}
	fill(x, values, s.device, s.reading, s.time, s.values)
	s.note(x)
}

// fill adds to a sighting what the file's jq expressions pick out of a row.
func fill(x *ledger.Sighting, row any, device, reading, at, values *jq.Query) {
	text := func(p *jq.Query, into *string) {
		if p == nil {
			return
		}
		if v, err := p.One(row); err == nil && v != nil {
			if n, is := v.(json.Number); is {
				v = n.String()
			}
			*into = formula.String(v)
		}
	}
	text(device, &x.FiledDevice)
	text(reading, &x.FiledReading)
	if at != nil {
		if v, err := at.One(row); err == nil {
			x.Stored, _ = timeOf(v)
		}
	}
	if values != nil {
		v, err := values.One(row)
		if err != nil {
			v = nil
		}
		x.Values, _ = json.Marshal(v)
	}
}

func clip(s string) string {
	if r := []rune(s); len(r) > 160 {
		return string(r[:160]) + "…"
	}
	return s
}

// pingEvery is how often the broker is asked whether it still answers.
const pingEvery = time.Second

// keepAlive pings and gives up a connection that does not answer.
func (s *subscription) keepAlive(ctx Context) {
	t := time.NewTicker(pingEvery)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
			s.writeMu.Lock()
			switch {
			case s.nc == nil:
			case !s.renew.IsZero() && time.Now().After(s.renew) && !s.leaving:
				// Before the broker cuts it off. The session stays (section 3.14.4).
				s.leaving = true
				s.nc.Write(mqttwire.AppendDisconnect(nil, s.connect.Version, false))
				// What is under way is still read; the broker closes (section 3.14.4.1).
				s.nc.SetReadDeadline(time.Now().Add(time.Second))
			case s.pings == 0 && !s.leaving:
				s.ping()
			case clock.Now().Sub(s.lastRead) > time.Duration(s.connect.KeepAlive)*3*time.Second/2:
				s.nc.Close()
			}
			s.writeMu.Unlock()
		}
	}
}

// ping sends a PINGREQ. The caller holds writeMu.
func (s *subscription) ping() {
	if s.pings++; s.pings == 1 {
		s.pinged = clock.Now()
	}
	s.nc.Write(mqttwire.AppendPing(nil)) // what fails here, fails in read too
}

// fence waits until the broker has answered after now: silence says nothing before.
func (s *subscription) fence(ctx Context) bool {
	deadline := time.Now().Add(s.broker.Timeout)
	s.writeMu.Lock()
	asked := s.nc
	s.ping()
	s.writeMu.Unlock()
	for ctx.Err() == nil && time.Now().Before(deadline) {
		s.hearMu.Lock()
		up := s.down.IsZero()
		s.writeMu.Lock()
		reconnected := s.nc != asked
		if reconnected {
			asked = s.nc
			s.ping()
		}
		answered := up && s.pings == 0
		s.writeMu.Unlock()
		s.hearMu.Unlock()
		if answered {
			return true
		}
		sleep(ctx, 2*time.Millisecond)
	}
	return false
}

// Hear waits for what is missing.
func (s *subscription) Hear(ctx Context, r Round) (bool, string) {
	deadline := time.Now().Add(s.spec.Wait)
	s.begin(r)
	for s.Missing() > 0 && time.Now().Before(deadline) && ctx.Err() == nil {
		sleep(ctx, 50*time.Millisecond)
	}
	if ctx.Err() == nil {
		sleep(ctx, min(s.spec.Linger, max(0, time.Until(deadline))+s.spec.Linger))
	}
	answered := s.fence(ctx)
	s.writeMu.Lock()
	if !s.lagging.IsZero() {
		now := clock.Now()
		s.lagged(now)
		s.lagging = now
	}
	s.writeMu.Unlock()
	s.hearMu.Lock()
	defer s.hearMu.Unlock()
	if !s.down.IsZero() && s.page != nil {
		s.page.Gap(s.index, &ledger.Gap{From: s.down, Why: s.why})
		return false, "the subscription was lost: " + s.why
	}
	if ctx.Err() != nil {
		return false, "the hearing was cut short"
	}
	if last := s.heardLast(); !answered {
		const why = "the broker no longer answers the witness"
		s.page.Gap(s.index, &ledger.Gap{From: last, Why: why})
		return false, fmt.Sprintf("%s; it was heard last at %s", why, last.UTC().Format("15:04:05.000"))
	}
	if s.unmarked > 0 && s.foreign == 0 && !s.any() {
		return false, fmt.Sprintf("messages came (%d), but none carried a mark; the first was %s", s.unmarked, s.sample)
	}
	return true, ""
}

func sleep(ctx Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// Stop disconnects and ends the subscription's session.
func (s *subscription) Stop() {
	if s.stop == nil {
		return
	}
	s.stop()
	s.writeMu.Lock()
	if s.nc != nil {
		s.nc.SetWriteDeadline(time.Now().Add(time.Second))
		s.nc.Write(mqttwire.AppendDisconnect(nil, s.connect.Version, true))
		s.nc.Close()
	}
	s.writeMu.Unlock()
	<-s.done
	s.wg.Wait()
}
