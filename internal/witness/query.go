package witness

import (
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"runcrowd/internal/credential"
	"runcrowd/internal/fleet"
	"runcrowd/internal/formula"
	"runcrowd/internal/jq"
	"runcrowd/internal/ledger"
	"runcrowd/internal/link"
	"runcrowd/internal/strictjson"
)

// Bounds of a query.
const (
	maxPages  = 10_000
	maxAnswer = 64 << 20 // bytes of one page
	askers    = 8        // questions under way at once
	// clockMargin widens the asked time for clocks that disagree.
	clockMargin = time.Minute
)

// Unmarked is how the reason begins of a witness that could ask and found nothing that
// it can tell apart.
const Unmarked = "rows were found, but none carries a mark"

// query is a witness that asks the platform over HTTP.
type query struct {
	*base
	rows, next, device, reading, time, mark, values, body *jq.Query

	client  *http.Client
	headers http.Header
	own     credential.Guest // of the link whose TLS it uses

	countMu  sync.Mutex
	noted    map[sameRow]int // copies in the ledger
	marked   bool            // some row carried a mark, of whatever run
	unmarked int
	sample   string
}

// sameRow is what copies of one row have in common. Within one answer each copy
// counts; the same row in another answer is not another copy.
type sameRow struct {
	mark  ledger.Mark
	filed string
	hash  uint64
}

// Start asks once, so that a wrong address or secret is told before the run.
func (q *query) Start(ctx Context) error {
	own, err := q.catalog.Fleet.Credentials.Guest(q.spec.Link, q.spec.Name)
	if err != nil {
		return err
	}
	q.own = own
	t := link.Transport(credential.TLS(q.spec.Link), own.Cert)
	t.MaxIdleConnsPerHost = askers
	q.client = &http.Client{Timeout: q.spec.Timeout, Transport: t, CheckRedirect: link.StayOnHost}
	q.noted = map[sameRow]int{}
	q.headers = http.Header{}
	env := formula.Env{"crowd": q.catalog.Fleet.Crowd.Name, "env": q.catalog.Fleet.Crowd.Env}
	for _, h := range q.spec.Headers {
		v, err := h.Value.Expand(&formula.Machine{}, env)
		if err != nil {
			return fmt.Errorf("the witness %q: the header %s: %w", q.spec.Name, h.Name, err)
		}
		q.headers.Set(h.Name, v)
	}
	for _, d := range q.catalog.Fleet.Devices {
		if !q.sees(d) {
			continue
		}
		now := time.Now()
		address, err := q.address(d, now, now)
		if err != nil {
			return err
		}
		_, err = q.page1(ctx, address)
		var status *statusError
		if errors.As(err, &status) {
			if status.code == 401 || status.code == 403 {
				return q.reach(address, err, "check the headers of the witness: the platform refuses them")
			}
			return nil // a device may be unknown before its first message
		}
		if err != nil && ctx.Err() == nil {
			var ue *url.Error
			if !errors.As(err, &ue) {
				return q.reach(address, err, "check get: and what the platform answers there")
			}
			what, try := link.Explain(err, hostOf(address))
			return q.reach(address, errors.New(what), try)
		}
		return nil
	}
	return nil
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

type statusError struct {
	code int
	text string
}

func (e *statusError) Error() string { return e.text }

// page1 asks one address once.
func (q *query) page1(ctx Context, address string) (any, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, err
	}
	req.Header = q.headers.Clone()
	req.Header.Set("Accept", "application/json")
	req.Header.Set("User-Agent", "runcrowd")
	if err := q.own.Authorize(req); err != nil {
		return nil, err
	}
	resp, err := q.client.Do(req)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(io.LimitReader(resp.Body, maxAnswer+1))
	if err != nil {
		return nil, err
	}
	if resp.StatusCode != http.StatusOK {
		return nil, &statusError{resp.StatusCode, fmt.Sprintf("%s answered with status %s: %s", address, resp.Status, clip(strings.TrimSpace(string(body))))}
	}
	if len(body) > maxAnswer {
		return nil, fmt.Errorf("%s: the answer is longer than %d MB; ask for smaller pages", address, maxAnswer>>20)
	}
	v, err := strictjson.Decode(body)
	if err != nil {
		return nil, fmt.Errorf("%s: the answer is not JSON (%w): %s", address, err, clip(string(body)))
	}
	return v, nil
}

// ask asks all pages about one device and notes what is new.
func (q *query) ask(ctx Context, d *fleet.Device, r Round) error {
	address, err := q.address(d, r.Begin.Add(-clockMargin), time.Now().Add(clockMargin))
	if err != nil {
		return err
	}
	counts := map[sameRow]int{}
	seen := map[string]bool{}
	for page := 0; ; page++ {
		if seen[address] {
			return fmt.Errorf("the next page of %s is a page that was asked for already; check next", address)
		}
		if page == maxPages {
			return fmt.Errorf("%s goes on for more than %d pages", address, maxPages)
		}
		seen[address] = true
		answer, err := q.page1(ctx, address)
		if err != nil {
			return err
		}
		rows, err := q.rows.All(answer)
		if err != nil {
			return fmt.Errorf("the answer of %s does not have the rows the file says (%w): %s", address, err, clip(text(answer)))
		}
		for _, row := range rows {
			q.row(row, d, counts)
		}
		if q.next == nil {
			return nil
		}
		next, err := q.next.One(answer)
		if err != nil {
			return fmt.Errorf("the next page of %s: %w", address, err)
		}
		if address, err = link.NextPage(address, next); err != nil || address == "" {
			return err
		}
	}
}

func text(v any) string {
	b, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(b)
}

// row reads one row and notes what it holds.
func (q *query) row(row any, d *fleet.Device, counts map[sameRow]int) {
	x := ledger.Sighting{Witness: q.index, Seen: time.Now(), Asked: true}
	if q.spec.PerDevice {
		x.FiledDevice = d.Name
	}
	fill(&x, row, q.device, q.reading, q.time, q.values)
	if x.Values == nil {
		x.Values, _ = json.Marshal(row)
	}
	filed := q.catalog.stream(ledger.Mark{Device: x.FiledDevice, Reading: x.FiledReading})
	if filed < 0 && x.FiledReading == "" && len(d.Streams) == 1 && x.FiledDevice == d.Name {
		filed = d.Streams[0].Index
	}
	for _, p := range q.split(row, d, filed) {
		m, ours, marked := q.catalog.markOf(p.mark, filed)
		if p.values != nil {
			x.Values, _ = json.Marshal(p.values)
		}
		q.noteCopy(x, m, ours, marked, row, counts)
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
// or, where it is none, as a text.
func (q *query) bodyParts(s string, d *fleet.Device, filed int) []part {
	body, err := base64.StdEncoding.DecodeString(s)
	if err != nil {
		body = []byte(s)
	}
	if filed >= 0 {
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

// noteCopy notes a message found in a row, unless the ledger has this copy already.
func (q *query) noteCopy(x ledger.Sighting, m ledger.Mark, ours, marked bool, row any, counts map[sameRow]int) {
	q.countMu.Lock()
	defer q.countMu.Unlock()
	if !marked {
		q.unmarked++
		if q.sample == "" {
			q.sample = clip(text(row))
		}
		return
	}
	q.marked = true
	if !ours {
		return
	}
	x.Mark = m
	key := rowKey(&x)
	if counts[key]++; counts[key] > q.noted[key] {
		q.noted[key]++
		q.note(&x)
	}
}

// Knower is a witness that can be told what an earlier hearing found, so that
// it does not note it again.
type Knower interface{ Know(s *ledger.Sighting) }

// Know implements Knower.
func (q *query) Know(x *ledger.Sighting) {
	q.noted[rowKey(x)]++
	q.remember(x)
}

func rowKey(x *ledger.Sighting) sameRow {
	h := fnv.New64a()
	h.Write(x.Values)
	return sameRow{x.Mark, x.FiledDevice + "\x00" + x.FiledReading, h.Sum64()}
}

// Hear asks about all devices, then again about those with something missing,
// and once more about all when the time for repeats is over.
func (q *query) Hear(ctx Context, r Round) (bool, string) {
	deadline := time.Now().Add(q.spec.Wait)
	pause := 100 * time.Millisecond
	all := q.devices()
	if err := q.askAll(ctx, all, r); err != nil && ctx.Err() != nil {
		return false, "the hearing was cut short"
	}
	for time.Now().Before(deadline) && ctx.Err() == nil {
		wanted := map[int]bool{}
		q.missing(r, func(stream int) { wanted[q.catalog.Fleet.Streams[stream].Device.Index] = true })
		if len(wanted) == 0 {
			break
		}
		sleep(ctx, min(pause, time.Until(deadline)))
		pause = min(2*pause, 5*time.Second)
		var some []*fleet.Device
		for _, d := range all {
			if wanted[d.Index] || !q.spec.PerDevice {
				some = append(some, d)
			}
		}
		q.askAll(ctx, some, r) // its error counts only in the last pass
	}
	sleep(ctx, q.spec.Linger)
	if err := q.askAll(ctx, all, r); err != nil {
		if ctx.Err() != nil {
			return false, "the hearing was cut short"
		}
		return false, err.Error()
	}
	q.countMu.Lock()
	defer q.countMu.Unlock()
	if q.unmarked > 0 && !q.marked && len(q.noted) == 0 {
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

// askAll asks about devices, some at once. The platform may not know a device
// that never reached it: a 404 is an error only when every answer is one.
func (q *query) askAll(ctx Context, devices []*fleet.Device, r Round) error {
	g, inner := errgroup.WithContext(ctx)
	g.SetLimit(askers)
	var mu sync.Mutex
	var unknown error
	unknowns := 0
	for _, d := range devices {
		g.Go(func() error {
			err := q.ask(inner, d, r)
			var status *statusError
			if errors.As(err, &status) && status.code == http.StatusNotFound {
				mu.Lock()
				defer mu.Unlock()
				unknown = err
				unknowns++
				return nil
			}
			if err != nil && !errors.As(err, &status) && ctx.Err() == nil {
				var ue *url.Error
				if errors.As(err, &ue) {
					what, _ := link.Explain(err, hostOf(ue.URL))
					return fmt.Errorf("%s: %s", ue.URL, what)
				}
			}
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	if unknowns == len(devices) && unknowns > 0 {
		return fmt.Errorf("every question was answered with 404; check get: %w", unknown)
	}
	return ctx.Err()
}

// Stop frees the connections.
func (q *query) Stop() {
	if q.client != nil {
		q.client.CloseIdleConnections()
	}
}
