package engine

import (
	"container/heap"
	"encoding/json"
	"fmt"
	"maps"
	"time"

	"runcrowd/internal/clock"
	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/formula"
	"runcrowd/internal/jq"
	"runcrowd/internal/ledger"
	"runcrowd/internal/link"
	"runcrowd/internal/outcome"
	"runcrowd/internal/signal"
	"runcrowd/internal/strictjson"
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
	l.ring()
}

// arrived takes what is in the inbox.
func (l *loop) arrived() []incoming {
	l.inboxMu.Lock()
	defer l.inboxMu.Unlock()
	list := l.inbox
	l.inbox = nil
	return list
}

// roomy takes the devices that have room again.
func (l *loop) roomy() []int {
	l.inboxMu.Lock()
	defer l.inboxMu.Unlock()
	list := l.woken
	l.woken = nil
	return list
}

// hear obeys the commands that came. End is when the round ends.
func (l *loop) hear(end int64) {
	for _, f := range l.called() {
		f()
	}
	for _, i := range l.roomy() {
		d := &l.engine.devices[i]
		if len(d.kept) > 0 {
			l.later(0, feeds, i)
		}
		l.unpark(d)
	}
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
	for _, d := range e.addressed(in) {
		for _, k := range d.Commands {
			if k.Filter == in.Path && rows == "" {
				rows = k.Rows // commands at one path may leave it to the first
			}
		}
	}
	answer, err := strictjson.Decode(in.Body)
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
	for _, x := range e.addressed(in) {
		for _, c := range x.Commands {
			if k == nil && (c.Filter == in.Path || in.Path == "" && crowd.TopicMatches(c.Filter, in.Topic)) && c.Is(ask) {
				k, d = c, &e.devices[x.Index]
			}
		}
	}
	number := e.asked.Add(1)
	e.Counts.Commands.Add(1)
	note := ledger.Command{Number: number, Device: d.Name, At: time.Unix(0, in.At),
		Topic: e.fleet.Crowd.Redact(in.Topic + in.Path), Body: e.redactBytes(body)}
	if k == nil {
		note.Why = "no command of the kind matches"
		d.page.Command(&note)
		return
	}
	d.asked++
	note.Name, note.Asks = k.Name, k.Answer != nil
	asked := crowd.AskEnv(d.Env)
	asked["ask"] = ask
	did, err := l.doAll(d, k, asked, end)
	if note.Done = err == nil; err != nil {
		note.Why = e.fleet.Crowd.Redact(err.Error())
	} else {
		e.Counts.Obeyed.Add(1)
	}
	for _, x := range did {
		x.Value = e.fleet.Crowd.Redact(x.Value)
		note.Did = append(note.Did, x)
	}
	d.page.Command(&note)
	if k.Answer == nil {
		return
	}
	env := crowd.AskEnv(d.Env)
	env["ask"], env["done"], env["why"] = ask, note.Done, ""
	if !note.Done {
		env["why"] = note.Why
	}
	l.answer(k, d, in, number, env, end)
}

// doAll does what a command says: all of it, or, with an error, nothing.
func (l *loop) doAll(d *device, k *fleet.Command, env formula.Env, end int64) ([]ledger.Action, error) {
	worked, err := l.workOut(d, k.Do, env, end)
	if err != nil {
		return nil, err
	}
	a := l.newAct(d, nil)
	a.from, a.actions = l.now(), worked
	lasts := k.For
	for i := range k.Do { // a device that is off comes back
		if x := &k.Do[i]; x.Kind == crowd.ActionRestart && lasts == 0 {
			lasts = x.Restart.Off
		}
	}
	if lasts > 0 {
		a.to = a.from + int64(lasts)
	}
	return l.perform(a, a.from, end), nil
}

// now is what the plan's clock shows.
func (l *loop) now() int64 {
	if l.engine.clock.max {
		return l.at
	}
	return l.engine.clock.shows(clock.Nano())
}

// addressed are the devices for which something may be that came over a connection: its own
// device, and those that are behind it.
func (e *Engine) addressed(in *incoming) []*fleet.Device {
	d := e.fleet.Devices[in.device]
	return append([]*fleet.Device{d}, d.Behind...)
}

func (e *Engine) redactBytes(b []byte) []byte { return []byte(e.fleet.Crowd.Redact(string(b))) }

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
		d.page.Told(number, 0, clock.Nano(), outcome.Unsent, 0, e.fleet.Crowd.Redact(err.Error()))
		return
	case !e.clock.max && due >= e.clock.when(end):
		d.page.Told(number, 0, clock.Nano(), outcome.Unsent, 0, roundOver)
		return
	}
	e.toldMu.Lock()
	t, index := told{command: number, device: d.Index, message: m}, 0
	if n := len(e.free); n > 0 {
		index, e.free = e.free[n-1], e.free[:n-1]
		e.told[index-1] = t
	} else {
		e.told = append(e.told, t)
		index = len(e.told)
	}
	e.toldMu.Unlock()
	heap.Push(&l.timed, entry{at: due, what: answers, index: index})
}

// message is the message of an answer.
func (l *loop) message(a *crowd.Answer, d *device, in *incoming, text *formula.Text,
	env formula.Env) (link.Message, error) {
	m := link.Message{Stream: -1, Count: 1, ContentType: a.ContentType,
		MQTT: link.MQTT{QoS: a.QoS, Correlation: in.Correlation}, HTTP: link.HTTP{Method: a.Method, OKStatus: a.OKStatus}}
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
		m.HTTP.Headers = append(m.HTTP.Headers, link.Header{Name: h.Name, Value: v})
	}
	if d.Cast.Link.Protocol == crowd.HTTP {
		m.HTTP.Signer = l.engine.fleet.Signer(d.Device, a, maps.Clone(env))
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
	if c := l.link(&e.devices[d]); c != nil {
		c.Send(&m)
		return
	}
	e.answerSettled(&m, clock.Nano(), outcome.Unsent, 0, "the device had left")
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
func (e *Engine) answerSettled(m *link.Message, at int64, o outcome.Outcome, code int, text string) {
	t := e.settled(m.Answer)
	if o == outcome.Accepted || o == outcome.NotAsked {
		e.Counts.Answered.Add(1)
	}
	e.devices[t.device].page.Told(t.command, t.sent, at, o, code, text)
}

// settled takes an answer of which nothing more will come.
func (e *Engine) settled(index int) told {
	e.toldMu.Lock()
	defer e.toldMu.Unlock()
	t := e.told[index-1]
	e.told[index-1] = told{}
	e.free = append(e.free, index)
	return t
}

// leftover notes commands that came, and answers that became due, when the round was over.
func (l *loop) leftover() {
	e := l.engine
	for _, in := range l.arrived() {
		d := &e.devices[in.device]
		e.Counts.Commands.Add(1)
		d.page.Command(&ledger.Command{Number: e.asked.Add(1), Device: d.Name, At: time.Unix(0, in.At),
			Topic: e.fleet.Crowd.Redact(in.Topic + in.Path), Body: e.redactBytes(in.Body),
			Why: "it came when the round was over"})
	}
	for i := range l.timed {
		if l.timed[i].what == answers {
			t := e.settled(l.timed[i].index)
			e.devices[t.device].page.Told(t.command, 0, clock.Nano(), outcome.Unsent, 0, roundOver)
		}
	}
}

// restore undoes what was done to devices: the next round plays the same plan.
func (e *Engine) restore() {
	for i := range e.devices {
		d := &e.devices[i]
		for name, v := range d.original {
			e.fleet.SetProperty(d.Device, name, v)
		}
		for _, a := range d.acts { // with the round
			e.loopOf(i).tellOver(a)
		}
		d.original, d.acts = nil, nil
		e.loopOf(i).bodies.composer.Forget()
	}
}
