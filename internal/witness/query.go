package witness

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"
	"golang.org/x/time/rate"

	"runcrowd/internal/clock"
	"runcrowd/internal/credential"
	"runcrowd/internal/fleet"
	"runcrowd/internal/formula"
	"runcrowd/internal/jq"
	"runcrowd/internal/ledger"
	"runcrowd/internal/link"
)

// askers is how many questions are under way at once.
const askers = 8

// clockMargin widens the asked time for clocks that disagree.
const clockMargin = time.Minute

// Unmarked is how the reason begins of a witness that could ask and found nothing that
// it can tell apart.
const Unmarked = "rows were found, but none carries a mark"

// query is a witness that asks the platform over HTTP.
type query struct {
	*base
	rows, next, device, reading, time, mark, values, body, rowID *jq.Query
	params                                                       []pageParam
	path                                                         []string // of the rows, where they can be read one by one

	client  *http.Client
	headers http.Header
	own     credential.Guest // of the link whose TLS it uses
	pace    *rate.Limiter

	mu       sync.Mutex // guards what follows
	known    rows
	marked   bool // some row carried a mark, of whatever run
	unmarked int
	sample   string
	offset   *ledger.Offset // of the platform's clock
	drifts   bool           // no single offset fits what it says
}

// Start asks once, so that a wrong address or secret is told before the run.
func (q *query) Start(ctx Context) error {
	own, err := q.catalog.Fleet.Credentials.Guest(q.spec.Link, q.spec.Name)
	if err != nil {
		return err
	}
	q.own = own
	t := link.Transport(credential.TLS(q.spec.Link), own.Cert)
	t.MaxIdleConnsPerHost, t.DialContext = askers, q.catalog.Network.Dial
	q.client = &http.Client{Timeout: q.spec.Timeout, Transport: t, CheckRedirect: link.StayOnHost}
	q.pace = rate.NewLimiter(rate.Inf, 1)
	if q.spec.Pace > 0 {
		q.pace = rate.NewLimiter(rate.Limit(q.spec.Pace), 1)
	}
	q.headers = http.Header{}
	env := formula.Env{"crowd": q.catalog.Fleet.Crowd.Name, "env": q.catalog.Fleet.Crowd.Env}
	for _, h := range q.spec.Headers {
		v, err := h.Value.Expand(&formula.Machine{}, env)
		if err != nil {
			return fmt.Errorf("the witness %q: the header %s: %w", q.spec.Name, h.Name, err)
		}
		q.headers.Set(h.Name, v)
	}
	devices := q.devices()
	if len(devices) == 0 {
		return nil
	}
	now := clock.Now()
	address, err := q.address(devices[0], now, now)
	if err != nil {
		return err
	}
	_, err = q.page(ctx, address, func(any) {})
	var status *statusError
	if errors.As(err, &status) {
		if status.code == 401 || status.code == 403 {
			return q.reach(address, err, "check the headers of the witness: the platform refuses them")
		}
		return nil // a device may be unknown before its first message
	}
	var shape *shapeError
	if err == nil || ctx.Err() != nil || errors.As(err, &shape) {
		return nil // there may be no rows before the first message
	}
	var ue *url.Error
	if !errors.As(err, &ue) {
		return q.reach(address, err, "check get: and what the platform answers there")
	}
	what, try := link.Explain(err, hostOf(address))
	return q.reach(address, errors.New(what), try)
}

func (q *query) reach(address string, err error, try string) error {
	what := strings.TrimPrefix(strings.TrimPrefix(err.Error(), address), ": ")
	return &link.ReachError{Witness: q.spec.Name, Address: address, What: strings.TrimSpace(what), Try: try, Err: err}
}

func hostOf(address string) string {
	if u, err := url.Parse(address); err == nil {
		return u.Host
	}
	return address
}

func (q *query) address(d *fleet.Device, from, to time.Time) (string, error) {
	t := q.spec.Address(d.Cast)
	env := formula.Env{}
	for k, v := range d.Env {
		env[k] = v
	}
	env["from"], env["to"] = from.UTC(), to.UTC()
	s, err := t.Expand(&formula.Machine{}, env)
	if err != nil {
		return "", fmt.Errorf("the witness %q: get: %w", q.spec.Name, err)
	}
	return s, nil
}

// row reads one row and notes what it holds.
func (q *query) row(row any, d *fleet.Device, on *onPage) {
	var parts []part
	if q.body == nil { // most rows may be of others: those cost no more than this
		parts = q.split(row, nil, -1)
		if m := q.catalog.markOf(parts[0].mark); !m.ours {
			q.foreign(m, row)
			return
		}
	}
	x := ledger.Sighting{Witness: q.index, Seen: clock.Now(), Asked: true}
	if q.spec.PerDevice {
		x.FiledDevice = d.Name
	}
	fill(&x, row, q.device, q.reading, q.time, q.values)
	if x.Values == nil {
		x.Values, _ = json.Marshal(row)
	}
	if q.rowID != nil {
		if v, err := q.rowID.One(row); err == nil && v != nil {
			h := fnv.New64a()
			h.Write([]byte(text(v)))
			x.Row = max(1, h.Sum64())
		}
	}
	filed := q.catalog.stream(x.FiledDevice, x.FiledReading)
	if filed < 0 && x.FiledReading == "" {
		if of := q.catalog.device(x.FiledDevice); of != nil && len(of.Streams) == 1 {
			filed = of.Streams[0].Index
		}
	}
	if !q.spec.PerDevice {
		d = q.catalog.device(x.FiledDevice) // one question for all: the row tells whose it is
	}
	if parts == nil {
		parts = q.split(row, d, filed)
	}
	for _, p := range parts {
		m := q.catalog.markOf(p.mark)
		if p.values != nil {
			x.Values, _ = json.Marshal(p.values)
		}
		if !m.ours {
			q.foreign(m, row)
			continue
		}
		q.found(x, m, on)
	}
}

// foreign notes a row without a mark of this run.
func (q *query) foreign(m whose, row any) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.marked = q.marked || m.marked; m.marked {
		return
	}
	if q.unmarked++; q.sample == "" {
		q.sample = clip(text(row))
	}
}

// split finds the mark of a row; a row that keeps a whole body may hold several
// messages.
func (q *query) split(row any, d *fleet.Device, filed int) []part {
	if q.body != nil {
		if v, err := q.body.One(row); err == nil {
			if s, is := v.(string); is {
				if parts := q.bodyParts(s, d, filed); len(parts) > 0 {
					return parts
				}
			}
		}
	}
	if q.mark != nil {
		v, err := q.mark.One(row)
		if err != nil {
			v = nil
		}
		return []part{{mark: v}}
	}
	if object, is := row.(map[string]any); is {
		for _, place := range q.catalog.places {
			if v, has := object[place.Name]; has {
				return []part{{mark: v}}
			}
		}
	}
	return []part{{}}
}

// bodyParts takes a body apart that a row keeps in base64 (RFC 4648, section 4)
// or, where it is none, as a text. D is the device whose row it is, or nil.
func (q *query) bodyParts(s string, d *fleet.Device, filed int) []part {
	body, err := base64.StdEncoding.DecodeString(s)
	if err != nil {
		body = []byte(s)
	}
	if filed >= 0 || d == nil {
		return q.catalog.parts(body, filed)
	}
	for _, st := range d.Streams {
		for _, p := range q.catalog.parts(body, st.Index) {
			if p.mark != nil {
				return q.catalog.parts(body, st.Index)
			}
		}
	}
	return nil
}

// found notes a message found in a row, unless the ledger has it from this row already.
func (q *query) found(x ledger.Sighting, m whose, on *onPage) {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.marked = true
	x.Stream, x.Seq, x.Device, x.Reading = m.stream, m.Seq, m.Device, m.Reading
	q.inPlace(&x)
	switch q.known.meet(&x, on) {
	case anotherCopy:
		q.note(&x)
	case changedRow:
		x.Again = true
		q.note(&x)
	}
}

// Knower is a witness that can be told what an earlier hearing found, so that
// it does not note it again.
type Knower interface{ Know(s *ledger.Sighting) }

// Know implements Knower.
func (q *query) Know(x *ledger.Sighting) {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.known.know(x)
	q.remember(x.Stream, x.Seq)
}

// Hear asks about all devices, then again about those with something missing,
// and once more about all when the time for repeats is over.
func (q *query) Hear(ctx Context, r Round) (bool, string) {
	q.begin(r)
	all := q.devices()
	room := q.spec.Wait
	if q.spec.Pace > 0 { // asking about each of them takes its time
		room += time.Duration(float64(len(all)) / float64(q.spec.Pace) * float64(time.Second))
	}
	deadline := time.Now().Add(room)
	looking, stop := context.WithDeadline(ctx, deadline)
	defer stop()
	pause := 100 * time.Millisecond
	q.askAll(looking, all, r) // its error counts only in the last pass
	for looking.Err() == nil && q.Missing() > 0 {
		sleep(looking, min(pause, time.Until(deadline)))
		pause = min(2*pause, 5*time.Second)
		q.askAll(looking, q.wanted(r, all), r)
	}
	if ctx.Err() == nil {
		sleep(ctx, q.spec.Linger)
	}
	last, cancel := context.WithDeadline(ctx, time.Now().Add(max(room, time.Second)))
	defer cancel()
	pages, err := q.askAll(last, all, r)
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.offset != nil && !q.drifts {
		q.base.page.Clock(q.index, q.offset.Least, q.offset.Most)
	}
	switch {
	case err == nil:
	case ctx.Err() != nil:
		return false, "the hearing was cut short"
	case errors.Is(err, context.DeadlineExceeded):
		return false, fmt.Sprintf("it was not read to the end within %s: %d pages had been read; raise wait, or ask for larger pages", room.Round(time.Millisecond), pages)
	default:
		return false, err.Error()
	}
	for _, x := range q.known.moved() {
		x.Witness, x.Seen, x.Asked, x.Perhaps = q.index, clock.Now(), true, true
		q.note(&x)
	}
	switch {
	case q.known.lostTrack():
		return false, fmt.Sprintf("more than %d rows were met on several pages of one answer, and rows tell no identity; say what it is with row", mostMoved)
	case q.unmarked > 0 && !q.marked && !q.any():
		return false, fmt.Sprintf(Unmarked+" where the file says (mark: %s); a row is %s", orDefault(q.spec.Mark), q.sample)
	}
	return true, ""
}

func orDefault(s string) string {
	if s == "" {
		return "the field of the row that has the mark's name"
	}
	return s
}

// devices are those to ask about: one stands for all where one question does.
func (q *query) devices() []*fleet.Device {
	var list []*fleet.Device
	for _, d := range q.catalog.Fleet.Devices {
		if q.sees(d) {
			list = append(list, d)
			if !q.spec.PerDevice {
				break
			}
		}
	}
	return list
}

// wanted are those of which something is missing.
func (q *query) wanted(r Round, all []*fleet.Device) []*fleet.Device {
	if !q.spec.PerDevice {
		return all
	}
	wanted := map[int]bool{}
	q.base.mu.Lock()
	q.lacks(r.Expect, func(stream int) { wanted[q.catalog.Fleet.Streams[stream].Device.Index] = true })
	q.base.mu.Unlock()
	var some []*fleet.Device
	for _, d := range all {
		if wanted[d.Index] {
			some = append(some, d)
		}
	}
	return some
}

// askAll asks about devices, some at once. The platform may not know a device
// that never reached it: a 404 is an error only when every answer is one.
func (q *query) askAll(ctx Context, devices []*fleet.Device, r Round) (pages int, err error) {
	q.mu.Lock()
	q.known.ask()
	q.mu.Unlock()
	g, inner := errgroup.WithContext(ctx)
	g.SetLimit(askers)
	var mu sync.Mutex
	var unknown error
	unknowns := 0
	for _, d := range devices {
		g.Go(func() error {
			n, err := q.ask(inner, d, r)
			mu.Lock()
			defer mu.Unlock()
			pages += n
			var status *statusError
			if errors.As(err, &status) && status.code == http.StatusNotFound {
				unknown = err
				unknowns++
				return nil
			}
			var ue *url.Error
			if errors.As(err, &ue) && ctx.Err() == nil {
				what, _ := link.Explain(err, hostOf(ue.URL))
				return fmt.Errorf("%s: %s", ue.URL, what)
			}
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return pages, err
	}
	if unknowns == len(devices) && unknowns > 0 {
		return pages, fmt.Errorf("every question was answered with 404; check get: %w", unknown)
	}
	return pages, ctx.Err()
}

// Stop frees the connections.
func (q *query) Stop() {
	if q.client != nil {
		q.client.CloseIdleConnections()
	}
}
