// Package ask plays the platform's side of a command: it asks a device something,
// over MQTT or as the platform's own API wants it, and times the answer.
package ask

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"runcrowd/internal/credential"
	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/formula"
	"runcrowd/internal/guest"
	"runcrowd/internal/jq"
	"runcrowd/internal/link"
	"runcrowd/internal/link/mqtt"
	"runcrowd/internal/mqttsession"
	"runcrowd/internal/mqttwire"
	"runcrowd/internal/strictjson"
)

// Question is a command to one device.
type Question struct {
	Crowd       *crowd.Crowd
	Credentials *credential.Store
	Device      *fleet.Device
	Command     *fleet.Command
	Values      map[string]any // given by hand
	Link        *crowd.Link    // as whom it is asked over MQTT
	Wait        time.Duration  // for the answer
	Network     link.Network   // how connections are opened; nil is the usual way
}

// Answer is how it went.
type Answer struct {
	Where string // topic, or method and address
	Body  []byte // that was sent

	Took    time.Duration // until the platform had taken it
	Said    string        // by the platform, beside yes
	Refused bool
	Nobody  bool // the broker says that nobody listens

	Wanted   bool // an answer is due
	At       string
	Answered bool
	After    time.Duration
	Told     []byte
	Denied   bool // the answer says that the command was not done
	Matched  bool // by correlation data
}

// maxAnswer is the longest answer that is read, in bytes.
const maxAnswer = 1 << 20

// body is what is sent: what the command is known by, and the values.
func (q *Question) body() map[string]any {
	m := map[string]any{}
	for _, x := range q.Command.Match {
		m[x.Name] = x.Value.Any()
	}
	maps.Copy(m, q.Values)
	return m
}

// asked is a command as it is sent: an object, or, of the value body alone, that as a plain text; as
// crowd.ParseAsk reads them.
func asked(values map[string]any) ([]byte, error) {
	if v, is := values["body"]; is && len(values) == 1 {
		if raw, is := v.(json.RawMessage); is {
			return raw, nil
		}
		return []byte(formula.String(v)), nil
	}
	return json.Marshal(values)
}

// Ask asks, and waits for the answer. The error is a *link.ReachError where the
// platform could not be reached.
func (q *Question) Ask(ctx context.Context) (*Answer, error) {
	body, err := asked(q.body())
	if err != nil {
		return nil, err
	}
	a := &Answer{Body: body, Wanted: q.Command.Answer != nil}
	env := crowd.AskEnv(q.Device.Env)
	env["ask"] = crowd.ParseAsk(body)
	overMQTT := q.Device.Cast.Link.Protocol == crowd.MQTT
	var line *exchange
	if q.Command.Request == nil && !overMQTT {
		return nil, fmt.Errorf("the command %q does not say how the platform is asked to give it; write, for example, "+
			"request: {url: \"http://HOST/asks/${device}\"}", q.Command.Name)
	}
	if overMQTT && (q.Command.Request == nil || a.Wanted) {
		if line, err = q.open(ctx, a, env); err != nil {
			return nil, err
		}
		defer line.close()
	}
	var ear *hearer
	if line == nil && a.Wanted && q.Command.ReadReply != nil {
		if ear, err = q.hearer(ctx, env); err != nil {
			return nil, err
		}
	}
	sent := time.Now()
	if q.Command.Request != nil {
		err = q.request(ctx, a, env)
	} else {
		err = line.publish(ctx, body)
	}
	if a.Took = time.Since(sent); err != nil || a.Refused || !a.Wanted {
		return a, err
	}
	ctx, cancel := context.WithTimeout(ctx, q.Wait)
	defer cancel()
	switch {
	case line != nil:
		err = line.wait(ctx)
	case ear != nil:
		err = ear.wait(ctx, a)
	default:
		a.Wanted = false // there is no way to hear it
	}
	if a.Answered {
		a.After = time.Since(sent)
		a.Denied = denies(q.Command.Answer.Body, a.Told)
	}
	if ctx.Err() != nil {
		err = nil // it was waited for; that there is none is told
	}
	return a, err
}

// exchange is a question on its way over a broker.
type exchange struct {
	q           *Question
	a           *Answer
	line        *mqtt.Line
	granted     mqtt.Granted
	command     mqttwire.Publish
	taken       bool // the broker acknowledged the command, or refused it
	response    string
	correlation []byte
}

func (q *Question) open(ctx context.Context, a *Answer, env formula.Env) (*exchange, error) {
	l := q.Link
	own, err := q.Credentials.Guest(l, "ask")
	if err != nil {
		return nil, fmt.Errorf("the credentials of the link %q are those of single devices; say as whom to ask, with a "+
			"link of its own: --link NAME", l.Name)
	}
	n := &exchange{q: q, a: a, correlation: []byte(rand.Text()[:12])}
	if x := q.Command.Answer; x != nil && x.Topic != nil {
		if n.response, err = x.Topic.Expand(&formula.Machine{}, env); err != nil {
			return nil, fmt.Errorf("where the answer comes cannot be told beforehand: %w", err)
		}
	} else if x != nil {
		n.response = "runcrowd/" + q.Device.Name + "/" + strings.ToLower(rand.Text()[:12])
	}
	connect := mqttwire.Connect{Version: byte(l.Version), ClientID: "runcrowd-ask-" + strings.ToLower(rand.Text()[:8]),
		KeepAlive: 60, CleanStart: true}
	broker := guest.Broker(l, &own)
	broker.Network = q.Network
	n.line = mqtt.NewLine(mqttsession.Options{Connect: connect, InFlight: 1, MaxPacket: maxAnswer, Timeout: l.Timeout}, n)
	if err := broker.Open(ctx, n.line, connect); err != nil {
		return nil, mqtt.ReachError(l.Name, l.Scheme, l.Address, "ask", err)
	}
	if n.response != "" {
		asking, cancel := context.WithTimeout(ctx, broker.Timeout)
		defer cancel()
		if err := n.line.Subscribe(asking, n.response, 1, &n.granted); err != nil {
			n.line.Close()
			return nil, mqtt.ReachError(l.Name, l.Scheme, l.Address, "ask", err)
		}
	}
	return n, nil
}

// Fill implements mqttsession.Message: the command.
func (n *exchange) Fill(p *mqttwire.Publish) { *p = n.command }

// Up implements mqttsession.Handler.
func (n *exchange) Up(*mqttwire.Packet) {}

// Sent implements mqttsession.Handler.
func (n *exchange) Sent(mqttsession.Message, mqttsession.Sending) {}

// Settled implements mqttsession.Handler: the broker has the command, or refuses it.
func (n *exchange) Settled(_ mqttsession.Message, r mqttsession.Result) {
	n.taken = true
	n.a.Refused, n.a.Nobody = r.Code >= 0x80 || r.Fate == mqttsession.Unsendable, r.Code == 0x10
	switch {
	case r.Fate == mqttsession.Unsendable:
		n.a.Said = r.Said
	case r.Code != 0:
		n.a.Said = mqttwire.Because(mqttwire.Reason(r.Code), r.Said)
	}
}

// Came implements mqttsession.Handler. The answer may be faster than the acknowledgement.
func (n *exchange) Came(p *mqttwire.Packet) {
	same := bytes.Equal(p.Publish.Correlation, n.correlation)
	if n.a.Answered || p.Publish.Retain || len(p.Publish.Correlation) > 0 && !same {
		return // to somebody else
	}
	n.a.Answered, n.a.Told, n.a.At, n.a.Matched = true, bytes.Clone(p.Publish.Payload), p.Publish.Topic, same
}

// TooLarge implements mqttsession.Handler.
func (n *exchange) TooLarge(string, int) {}

// Subscribed implements mqttsession.Handler.
func (n *exchange) Subscribed(id uint16, p *mqttwire.Packet) { n.granted.Take(id, p) }

// Ponged implements mqttsession.Handler.
func (n *exchange) Ponged(int, time.Duration) {}

// ackMost is how long the broker may take to acknowledge.
const ackMost = 10 * time.Second

// publish sends the command and waits until the broker has it.
func (n *exchange) publish(ctx context.Context, body []byte) error {
	topic := n.q.Command.Filter
	if err := crowd.CheckTopic(topic); err != nil {
		return fmt.Errorf("the command %q: %w; a command for several topics cannot be asked from here", n.q.Command.Name, err)
	}
	n.a.Where = topic
	n.command = mqttwire.Publish{Topic: topic, QoS: 1, ContentType: "application/json", ResponseTopic: n.response,
		Payload: body}
	if n.response != "" {
		n.command.Correlation = n.correlation
	}
	err := n.line.Do(func(s *mqttsession.Session, now time.Time) error { s.Publish(now, n); return nil })
	if err != nil {
		return n.lost(err)
	}
	waiting, cancel := context.WithTimeout(ctx, ackMost)
	defer cancel()
	err = n.line.Until(waiting, func() bool { return n.taken })
	if waiting.Err() != nil && ctx.Err() == nil {
		n.a.Refused, n.a.Said = true, fmt.Sprintf("no acknowledgement within %s", ackMost)
		return nil
	}
	return n.lost(err)
}

func (n *exchange) lost(err error) error {
	if err == nil {
		return nil
	}
	what, try := link.Explain(err, n.q.Link.Address)
	return &link.ReachError{Link: n.q.Link.Name, Address: n.q.Link.URL(), What: what, Try: try, Err: err}
}

// wait waits for the answer.
func (n *exchange) wait(ctx context.Context) error {
	if !n.a.Answered {
		n.a.At = n.response
	}
	err := n.line.Until(ctx, func() bool { return n.a.Answered })
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return n.lost(err)
}

func (n *exchange) close() {
	n.line.Leave(true)
	n.line.Close()
}

// client is the client of the platform's API.
func (q *Question) client() *http.Client {
	return &http.Client{Transport: link.Transport(credential.TLS(q.Link).Elsewhere(), nil, q.Network),
		Timeout: 15 * time.Second, CheckRedirect: link.StayOnHost}
}

// request asks over the platform's API.
func (q *Question) request(ctx context.Context, a *Answer, env formula.Env) error {
	r := q.Command.Request
	parts := r.For(q.Device.Cast)
	m := &formula.Machine{}
	address, err := parts.URL.Expand(m, env)
	if err != nil {
		return fmt.Errorf("the request of the command %q: %w", q.Command.Name, err)
	}
	q.hide(parts, m, env)
	a.Where = r.Method + " " + address
	if parts.Body != nil {
		s, err := parts.Body.Expand(m, env)
		if err != nil {
			return fmt.Errorf("the request of the command %q: body: %w", q.Command.Name, err)
		}
		a.Body = []byte(s)
	}
	req, err := http.NewRequestWithContext(ctx, r.Method, address, bytes.NewReader(a.Body))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/json")
	if err := setHeaders(req, parts.Headers, m, env); err != nil {
		return err
	}
	status, said, err := q.do(req)
	if err != nil {
		return err
	}
	a.Refused = !slices.Contains(r.OKStatus, status)
	a.Said = fmt.Sprintf("status %d", status)
	if a.Refused {
		a.Said += link.Snippet(said)
	}
	return nil
}

// hide makes secrets of what a request computes from some.
func (q *Question) hide(parts *crowd.RequestParts, m *formula.Machine, env formula.Env) {
	texts := []*formula.Text{parts.URL, parts.Body}
	for _, h := range parts.Headers {
		texts = append(texts, h.Value)
	}
	for _, t := range texts {
		q.Crowd.Computed(t, m, env, q.Device.Cast.Secrets)
	}
}

func setHeaders(req *http.Request, headers []crowd.Header, m *formula.Machine, env formula.Env) error {
	for _, h := range headers {
		v, err := h.Value.Expand(m, env)
		if err != nil {
			return fmt.Errorf("the header %s: %w", h.Name, err)
		}
		req.Header.Set(h.Name, v)
	}
	return nil
}

func (q *Question) do(req *http.Request) (int, []byte, error) {
	resp, err := q.client().Do(req)
	if err != nil {
		what, try := link.Explain(err, req.URL.Host)
		return 0, nil, &link.ReachError{Link: "the platform", Address: (&url.URL{Scheme: req.URL.Scheme,
			Host: req.URL.Host}).String(), What: what, Try: try, Err: err}
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(io.LimitReader(resp.Body, maxAnswer))
	return resp.StatusCode, body, err
}

// lookEvery is how often the platform is asked whether the answer is there.
const lookEvery = 200 * time.Millisecond

// hearer looks for answers where the platform keeps them.
type hearer struct {
	q       *Question
	address string
	headers []crowd.Header
	env     formula.Env
	rows    *jq.Query
	before  map[string]int // answers that were there before, and how often
}

// hearer notes what is there already. It looks twice: where looking takes answers away,
// the second time there is nothing, and whatever comes then is new.
func (q *Question) hearer(ctx context.Context, env formula.Env) (*hearer, error) {
	parts := q.Command.ReadReply.For(q.Device.Cast)
	h := &hearer{q: q, headers: parts.Headers, env: env, before: map[string]int{}}
	var err error
	if h.address, err = parts.URL.Expand(&formula.Machine{}, env); err != nil {
		return nil, fmt.Errorf("hear of the command %q: %w", q.Command.Name, err)
	}
	q.hide(parts, &formula.Machine{}, env)
	if h.rows, err = jq.Parse(q.Command.ReadReply.Rows); err != nil {
		return nil, err
	}
	if _, err = h.look(ctx); err != nil {
		return nil, err
	}
	list, err := h.look(ctx)
	for _, row := range list {
		h.before[row]++
	}
	return h, err
}

// look asks once for all answers.
func (h *hearer) look(ctx context.Context) ([]string, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, h.address, nil)
	if err != nil {
		return nil, err
	}
	if err := setHeaders(req, h.headers, &formula.Machine{}, h.env); err != nil {
		return nil, err
	}
	status, body, err := h.q.do(req)
	if err != nil || status == http.StatusNoContent || status == http.StatusNotFound {
		return nil, err
	}
	if status != http.StatusOK {
		return nil, fmt.Errorf("%s answered with status %d%s", h.address, status, link.Snippet(body))
	}
	v, err := strictjson.Decode(body)
	if err != nil {
		return nil, fmt.Errorf("%s: the answer is not JSON (%w)%s", h.address, err, link.Snippet(body))
	}
	rows, err := h.rows.All(v)
	if err != nil {
		return nil, fmt.Errorf("the answer of %s does not have the rows the file says (%w)%s", h.address, err,
			link.Snippet(body))
	}
	var list []string
	for _, row := range rows {
		if text, err := json.Marshal(row); err == nil && row != nil {
			list = append(list, string(text))
		}
	}
	return list, nil
}

// wait looks for an answer that was not there before.
func (h *hearer) wait(ctx context.Context, a *Answer) error {
	a.At = h.address
	for {
		list, err := h.look(ctx)
		if err != nil {
			return err
		}
		seen := map[string]int{}
		for _, row := range list {
			if seen[row]++; seen[row] > h.before[row] {
				a.Answered, a.Told = true, []byte(row)
				return nil
			}
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(lookEvery):
		}
	}
}
