package engine

import (
	"container/heap"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"strings"
	"time"

	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/formula"
	"runcrowd/internal/jq"
	"runcrowd/internal/ledger"
	"runcrowd/internal/link"
	"runcrowd/internal/payload"
	"runcrowd/internal/quantity"
	"runcrowd/internal/signal"
)

// MostWaiting is how many commands may wait for one of the timing loops.
const MostWaiting = 100_000

// incoming is what a device was sent, on its way to the device's loop: there the
// device can be changed without a lock.
type incoming struct {
	device int
	*link.Incoming
}

// told is an answer of a device.
type told struct {
	command uint64 // its number in the ledger
	device  int
	sent    int64
	message link.Message // as it will be sent
}

// Came implements link.Sink.
func (e *Engine) Came(i int, in *link.Incoming) {
	l := e.loopOf(i)
	l.inboxMu.Lock()
	if len(l.inbox) < MostWaiting {
		l.inbox = append(l.inbox, incoming{i, in})
	} else {
		e.Counts.Overheard.Add(1)
	}
	l.inboxMu.Unlock()
	select {
	case l.bell <- struct{}{}:
	default:
	}
}

// arrived takes what is in the inbox.
func (l *loop) arrived() []incoming {
	l.inboxMu.Lock()
	defer l.inboxMu.Unlock()
	list := l.inbox
	l.inbox = nil
	return list
}

// hear obeys the commands that came. End is when the round ends.
func (l *loop) hear(end int64) {
	for _, in := range l.arrived() {
		for _, body := range l.engine.split(&in) {
			l.obey(&in, body, end)
		}
	}
}

// split takes an answer apart that may hold several commands.
func (e *Engine) split(in *incoming) [][]byte {
	if in.Path == "" {
		return [][]byte{in.Body}
	}
	rows := ""
	for _, k := range e.devices[in.device].Commands {
		if k.Filter == in.Path && rows == "" {
			rows = k.Rows // commands at one path may leave it to the first
		}
	}
	answer, err := payload.DecodeJSON(in.Body)
	if err != nil || rows == "" {
		return [][]byte{in.Body}
	}
	query, err := jq.Parse(rows)
	if err != nil {
		return nil // it was checked when the file was read
	}
	found, err := query.All(answer)
	if err != nil {
		return [][]byte{in.Body} // not as the file says: it is told as a command that is none
	}
	var list [][]byte
	for _, v := range found {
		if b, err := json.Marshal(v); err == nil && v != nil {
			list = append(list, b)
		}
	}
	return list
}

// obey finds out which command a message is, does it, and makes the answer due.
func (l *loop) obey(in *incoming, body []byte, end int64) {
	e := l.engine
	d := &e.devices[in.device]
	ask := crowd.ParseAsk(body)
	var k *fleet.Command
	for _, c := range d.Commands {
		if (c.Filter == in.Path || in.Path == "" && crowd.TopicMatches(c.Filter, in.Topic)) && c.Is(ask) {
			k = c
			break
		}
	}
	number := e.asked.Add(1)
	e.Counts.Commands.Add(1)
	note := ledger.Command{Number: number, Device: d.Name, At: time.Unix(0, in.At), Topic: e.fleet.Crowd.Redact(in.Topic + in.Path), Body: e.redactBytes(body)}
	if k == nil {
		note.Says = "no command of the kind matches"
		d.page.Command(&note)
		return
	}
	d.asked++
	note.Name = k.Name
	says, err := l.carryOut(k, d, ask, end)
	if note.Done = err == nil; err != nil {
		says = err.Error()
	} else {
		e.Counts.Obeyed.Add(1)
	}
	note.Says = e.fleet.Crowd.Redact(says)
	d.page.Command(&note)
	if k.Answer == nil {
		return
	}
	env := crowd.AskEnv(d.Env)
	env["ask"], env["done"], env["why"] = ask, note.Done, ""
	if !note.Done {
		env["why"] = note.Says
	}
	l.answer(k, d, in, number, env, end)
}

func (e *Engine) redactBytes(b []byte) []byte { return []byte(e.fleet.Crowd.Redact(string(b))) }

// carryOut does what a command says: all of it, or, with an error, nothing.
func (l *loop) carryOut(k *fleet.Command, d *device, ask map[string]any, end int64) (says string, err error) {
	env := crowd.AskEnv(d.Env)
	env["ask"] = ask
	every := make([]time.Duration, len(k.Rates))
	for i, r := range k.Rates {
		s, err := r.Every.Expand(&l.machine, env)
		if err == nil {
			every[i], err = crowd.ParseInterval(s)
		}
		if err != nil {
			return "", fmt.Errorf("every: %w", err)
		}
	}
	values := make([]any, len(k.Set))
	for i, s := range k.Set {
		if values[i], err = l.property(&s, env); err != nil {
			return "", fmt.Errorf("set: %s: %w", s.Property, err)
		}
	}
	now := time.Now().UnixNano()
	if len(k.Send) > 0 && now >= end {
		return "", fmt.Errorf("send: the round is over")
	}
	var did []string
	if len(k.Set) > 0 && d.before == nil {
		d.before = maps.Clone(d.Env)
	}
	for i, s := range k.Set {
		d.Env[s.Property] = values[i]
		did = append(did, fmt.Sprintf("%s = %s", s.Property, formula.String(values[i])))
	}
	if len(k.Set) > 0 {
		l.scribe.composer.Forget()
	}
	for i, r := range k.Rates {
		for _, s := range d.Streams {
			if r.Reading == "" || s.Reading.Name == r.Reading {
				l.pace(&l.engine.streams[s.Index], every[i], now, end)
			}
		}
		name := r.Reading
		if name == "" {
			name = "all readings"
		}
		did = append(did, name+" every "+quantity.FormatDuration(every[i]))
	}
	for _, name := range k.Send {
		for _, s := range d.Streams {
			if s.Reading.Name == name {
				st := &l.engine.streams[s.Index]
				l.speak(st, now)
				st.slot-- // its schedule goes on as it was
				did = append(did, fmt.Sprintf("sent %s #%d", name, st.seq))
			}
		}
	}
	return strings.Join(did, ", "), nil
}

// property works out the new value of a property, of the property's type.
func (l *loop) property(s *crowd.Set, env formula.Env) (any, error) {
	var v any
	var err error
	if f := s.Value.Single(); f != nil {
		v, err = f.Any(&l.machine, env)
	} else {
		v, err = s.Value.Expand(&l.machine, env)
	}
	if err != nil {
		return nil, err
	}
	if v == nil {
		return nil, fmt.Errorf("the command does not give it")
	}
	text := formula.String(v)
	number, isNumber := crowd.Number(text)
	switch s.Sample.(type) {
	case string:
		return text, nil
	case bool:
		if text == "true" || text == "false" {
			return text == "true", nil
		}
		return nil, fmt.Errorf("it is true or false, not %q", text)
	case float64:
		if isNumber {
			return number.Float(), nil
		}
	case int:
		if isNumber && number.Float() == math.Trunc(number.Float()) && math.Abs(number.Float()) < 1<<53 {
			return int(number.Float()), nil
		}
		if isNumber {
			return nil, fmt.Errorf("it is a whole number, not %s", text)
		}
	case quantity.Position:
		return quantity.ParsePosition(text)
	default:
		return v, nil
	}
	return nil, fmt.Errorf("it is a number, not %q", text)
}

// pace gives a stream another interval from now on.
func (l *loop) pace(s *stream, every time.Duration, now, end int64) {
	s.every, s.base = every, now
	due := s.due(l.engine.begin.UnixNano())
	for i := range l.entries {
		if x := &l.entries[i]; x.what == speaks && x.index == s.Index {
			if x.at = due; due >= end {
				heap.Remove(&l.entries, i)
			} else {
				heap.Fix(&l.entries, i)
			}
			return
		}
	}
	if due < end {
		heap.Push(&l.entries, entry{at: due, what: speaks, index: s.Index})
	}
}

// roundOver is why an answer was never sent.
const roundOver = "the round ended before it was due"

// answer makes the answer to a command due.
func (l *loop) answer(k *fleet.Command, d *device, in *incoming, number uint64, env formula.Env, end int64) {
	e, a := l.engine, k.Answer
	n := d.asked
	note := ledger.Answer{How: ledger.Right}
	text := a.Body
	switch {
	case signal.Uniform(k.Key, n, 12) < a.Never:
		note.How = ledger.Never
	case signal.Uniform(k.Key, n, 13) < a.Wrong:
		note.How, text = ledger.Wrong, a.WrongBody
	}
	if note.How == ledger.Never {
		d.page.Answer(number, &note)
		return
	}
	delay := a.After[0] + time.Duration(signal.Uniform(k.Key, n, 11)*float64(a.After[1]-a.After[0]))
	due := in.At + int64(delay)
	note.Due = time.Unix(0, due)
	m, err := l.message(a, d, in, text, env)
	note.Body = e.redactBytes(m.Body)
	d.page.Answer(number, &note)
	switch {
	case err != nil:
		d.page.Told(number, 0, time.Now().UnixNano(), ledger.Unsent, 0, e.fleet.Crowd.Redact(err.Error()))
		return
	case due >= end:
		d.page.Told(number, 0, time.Now().UnixNano(), ledger.Unsent, 0, roundOver)
		return
	}
	e.toldMu.Lock()
	e.told = append(e.told, told{command: number, device: d.Index, message: m})
	index := len(e.told)
	e.toldMu.Unlock()
	heap.Push(&l.entries, entry{at: due, what: answers, index: index})
}

// message is the message of an answer.
func (l *loop) message(a *crowd.Answer, d *device, in *incoming, text *formula.Text, env formula.Env) (link.Message, error) {
	m := link.Message{Stream: -1, Count: 1, QoS: a.QoS, Method: a.Method, Accept: a.OKStatus, ContentType: a.ContentType, Correlation: in.Correlation}
	body, err := text.Expand(&l.machine, env)
	if err != nil {
		return m, fmt.Errorf("the answer cannot be made: %w", err)
	}
	m.Body = []byte(body)
	// An access token is put in where the answer is sent.
	env[crowd.TokenName] = link.TokenPlace
	where := a.Topic
	if d.Cast.Link.Protocol == crowd.HTTP {
		where = a.Path
	}
	switch {
	case in.Response != "":
		m.Target = in.Response
	case where == nil:
		return m, fmt.Errorf("the command does not say where it wants its answer (response topic), and the file does not")
	default:
		m.Target, err = where.Expand(&l.machine, env)
	}
	switch {
	case err != nil:
	case in.Path == "":
		err = crowd.CheckTopic(m.Target)
	default:
		err = crowd.CheckPath(m.Target)
	}
	if err != nil {
		return m, fmt.Errorf("the answer cannot be sent: %w", err)
	}
	for _, h := range a.Headers {
		v, err := h.Value.Expand(&l.machine, env)
		if err != nil {
			return m, fmt.Errorf("the answer cannot be sent: the header %s: %w", h.Name, err)
		}
		m.Headers = append(m.Headers, link.Header{Name: h.Name, Value: v})
	}
	return m, nil
}

// tell sends an answer that is due.
func (l *loop) tell(index int) {
	e := l.engine
	e.toldMu.Lock()
	t := &e.told[index-1]
	m, d := t.message, t.device
	t.message = link.Message{}
	e.toldMu.Unlock()
	m.Answer = index
	e.devices[d].conn.Send(&m)
}

// answerSent notes that an answer left.
func (e *Engine) answerSent(m *link.Message, at int64) {
	e.toldMu.Lock()
	defer e.toldMu.Unlock()
	if t := &e.told[m.Answer-1]; t.sent == 0 {
		t.sent = at
	}
}

// answerSettled notes what became of an answer.
func (e *Engine) answerSettled(m *link.Message, at int64, o link.Outcome, code int, text string) {
	e.toldMu.Lock()
	t := e.told[m.Answer-1]
	e.toldMu.Unlock()
	if o == link.Accepted || o == link.NotAsked {
		e.Counts.Answered.Add(1)
	}
	e.devices[t.device].page.Told(t.command, t.sent, at, outcomes[o], code, text)
}

// leftover notes commands that came, and answers that became due, when the round was over.
func (l *loop) leftover() {
	e := l.engine
	for _, in := range l.arrived() {
		d := &e.devices[in.device]
		e.Counts.Commands.Add(1)
		d.page.Command(&ledger.Command{Number: e.asked.Add(1), Device: d.Name, At: time.Unix(0, in.At), Topic: e.fleet.Crowd.Redact(in.Topic + in.Path), Body: e.redactBytes(in.Body),
			Says: "it came when the round was over"})
	}
	for i := range l.entries {
		if l.entries[i].what == answers {
			e.toldMu.Lock()
			t := e.told[l.entries[i].index-1]
			e.toldMu.Unlock()
			e.devices[t.device].page.Told(t.command, 0, time.Now().UnixNano(), ledger.Unsent, 0, roundOver)
		}
	}
}

// restore takes back what commands have changed: the next round plays the same plan.
func (e *Engine) restore() {
	for i := range e.devices {
		if d := &e.devices[i]; d.before != nil {
			clear(d.Env)
			maps.Copy(d.Env, d.before)
			d.before = nil
			e.loopOf(i).scribe.composer.Forget()
		}
	}
	for i := range e.streams {
		e.streams[i].every = 0
	}
}
