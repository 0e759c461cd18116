package ask

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"runcrowd/internal/clock"
	"runcrowd/internal/credential"
	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/formula"
	"runcrowd/internal/jq"
	"runcrowd/internal/ledger"
	"runcrowd/internal/link"
	"runcrowd/internal/quantity"
	"runcrowd/internal/strictjson"
	"runcrowd/internal/witness/hearing"
	"runcrowd/internal/witness/match"
)

// query is a source that is asked over HTTP.
type query struct {
	spec       *crowd.Witness
	catalog    *match.Catalog
	rows, next *jq.Query
	params     []pageParam
	path       []string // of the rows, where they can be read one by one

	client  *http.Client
	headers http.Header
	own     credential.Guest // of the link whose TLS it uses
	pace    *rate.Limiter

	mu     sync.Mutex
	clock  *ledger.Offset // of the platform's clock
	drifts bool           // no single offset fits what it says
}

func newQuery(spec *crowd.Witness, c *match.Catalog) (*query, error) {
	q := &query{spec: spec, catalog: c}
	err := errors.Join(match.Compile(&q.rows, spec.Rows), match.Compile(&q.next, spec.Next))
	for _, p := range spec.Page {
		x := pageParam{name: p.Name}
		err = errors.Join(err, match.Compile(&x.of, p.Of))
		q.params = append(q.params, x)
	}
	q.streams()
	return q, err
}

// Start implements Source.
func (q *query) Start(ctx hearing.Context, d *fleet.Device) error {
	own, err := q.catalog.Fleet.Credentials.Guest(q.spec.Link, q.spec.Name)
	if err != nil {
		return err
	}
	q.own = own
	t := link.Transport(credential.TLS(q.spec.Link), own.Cert, q.catalog.Network)
	t.MaxIdleConnsPerHost = askers
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
		q.catalog.Fleet.Crowd.Computed(h.Value, &formula.Machine{}, env, crowd.Known)
		q.headers.Set(h.Name, v)
	}
	now := clock.Now()
	address, err := q.address(d, now, now)
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
	m := &formula.Machine{}
	s, err := t.Expand(m, env)
	if err != nil {
		return "", fmt.Errorf("the witness %q: get: %w", q.spec.Name, err)
	}
	q.catalog.Fleet.Crowd.Computed(t, m, env, d.Cast.Secrets)
	return s, nil
}

// Bounds of a question.
const (
	maxPages   = 10_000
	staleRows  = 20   // pages in a row that bring only rows that were met before
	emptyPages = 1000 // pages in a row that bring none
	// maxError is how much of an answer that is an error is read.
	maxError = 4 << 10
)

// pageParam is a parameter of the address that the next page is asked with.
type pageParam struct {
	name string
	of   *jq.Query
}

// statusError is an answer with another status than 200.
type statusError struct {
	code  int
	text  string
	after time.Duration // it asks to be asked again then
}

func (e *statusError) Error() string { return e.text }

// unknownDevice is the answer of a platform that does not know a device.
type unknownDevice struct{ error }

func (unknownDevice) Is(target error) bool { return target == ErrUnknown }

// shapeError is an answer without the rows that the file speaks of.
type shapeError struct{ text string }

func (e *shapeError) Error() string { return e.text }

// Ask implements Source.
func (q *query) Ask(ctx hearing.Context, about Question) (pages int, err error) {
	address, err := q.address(about.Device, about.From, about.To)
	if err != nil {
		return 0, err
	}
	pages, err = q.pages(ctx, address, about.Cursor)
	var status *statusError
	if errors.As(err, &status) && status.code == http.StatusNotFound && pages == 0 { // of a later page, it tells nothing
		return pages, unknownDevice{err}
	}
	var ue *url.Error
	if errors.As(err, &ue) && ctx.Err() == nil {
		what, _ := link.Explain(err, hostOf(ue.URL))
		return pages, fmt.Errorf("%s: %s", ue.URL, what)
	}
	return pages, err
}

// pages asks for all pages from an address on.
func (q *query) pages(ctx hearing.Context, address string, on *Cursor) (pages int, err error) {
	asked := map[string]bool{}
	stale, empty := 0, 0
	for ; ; pages++ {
		switch {
		case asked[address]:
			return pages, fmt.Errorf("the next page of %s is a page that was asked for already; check next", address)
		case pages == maxPages:
			return pages, fmt.Errorf("the pages after %s are more than %d", q.spec.Get, maxPages)
		}
		asked[address] = true
		on.Turn()
		rest, err := q.patiently(ctx, address, on)
		if err != nil {
			return pages, err
		}
		next, err := q.after(address, rest)
		if err != nil || next == "" {
			return pages + 1, err
		}
		stale, empty = stale+1, empty+1
		if !on.stale() {
			stale = 0
		}
		if on.rows > 0 {
			empty = 0
		}
		if stale >= staleRows || empty >= emptyPages {
			return pages, fmt.Errorf("the pages after %s go on without bringing anything new (the last was %s); check next",
				q.spec.Get, address)
		}
		address = next
	}
}

// patiently asks for a page until it is answered.
func (q *query) patiently(ctx hearing.Context, address string, on *Cursor) (rest any, err error) {
	return rest, patiently(ctx, on, func() (bool, time.Duration, error) {
		var err error
		rest, err = q.page(ctx, address, on.Row)
		var status *statusError
		busy := errors.As(err, &status) && (status.code == http.StatusTooManyRequests || status.code >= 500)
		var ue *url.Error
		if busy {
			return true, status.after, err
		}
		return errors.As(err, &ue), 0, err
	})
}

// request is one that shows who asks.
func (q *query) request(ctx hearing.Context, address string) (*http.Request, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, err
	}
	req.Header = q.headers.Clone()
	req.Header.Set("Accept", "application/json")
	req.Header.Set("User-Agent", "runcrowd")
	return req, q.own.Authorize(req)
}

// page asks for one page, once. Each row goes to see; what stands beside the rows is
// given back.
func (q *query) page(ctx hearing.Context, address string, see func(any)) (any, error) {
	if err := q.pace.Wait(ctx); err != nil {
		return nil, context.DeadlineExceeded // there is no room for it before the deadline
	}
	req, err := q.request(ctx, address)
	if err != nil {
		return nil, err
	}
	began := clock.Now()
	resp, err := q.client.Do(req)
	if err == nil && resp.StatusCode == http.StatusUnauthorized && q.own.Tokens != nil {
		// The token may have run out on the way: with a new one it is asked once more.
		again, wrong := q.request(ctx, address)
		if wrong == nil && again.Header.Get("Authorization") != req.Header.Get("Authorization") {
			resp.Body.Close()
			began = clock.Now()
			resp, err = q.client.Do(again)
		}
	}
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, err
	}
	defer resp.Body.Close()
	q.tells(resp, began, clock.Now())
	if resp.StatusCode != http.StatusOK {
		body, _ := io.ReadAll(io.LimitReader(resp.Body, maxError))
		return nil, &statusError{resp.StatusCode, fmt.Sprintf("%s answered with status %s: %s", address, link.Status(resp),
			match.Clip(string(body))), link.RetryAfter(resp, time.Now())}
	}
	limited := &limitedReader{r: resp.Body, left: q.spec.MaxAnswer}
	rest, err := q.read(limited, see)
	var shape *shapeError
	switch {
	case err == nil:
		return rest, nil
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case limited.over:
		return nil, fmt.Errorf("%s: the answer is longer than max_answer, %s; ask for smaller pages, or raise it", address,
			quantity.FormatSize(q.spec.MaxAnswer))
	case errors.As(err, &shape):
		return nil, &shapeError{fmt.Sprintf("the answer of %s does not have the rows the file says (%s)", address,
			shape.text)}
	case limited.err != nil:
		return nil, &url.Error{Op: "Get", URL: address, Err: limited.err}
	}
	return nil, fmt.Errorf("%s: %w", address, err)
}

// limitedReader reads at most so many bytes, and keeps the first ones.
type limitedReader struct {
	r     io.Reader
	left  int64
	over  bool
	err   error // of the connection
	first []byte
}

func (l *limitedReader) Read(b []byte) (int, error) {
	if l.left <= 0 {
		if n, _ := l.r.Read(b[:1]); n == 0 {
			return 0, io.EOF
		}
		l.over = true
		return 0, errors.New("it is too long")
	}
	n, err := l.r.Read(b[:min(int64(len(b)), l.left)])
	l.left -= int64(n)
	if len(l.first) < 1000 {
		l.first = append(l.first, b[:min(n, 1000)]...)
	}
	if err != nil && err != io.EOF {
		l.err = err
	}
	return n, err
}

// simplePath is an expression that only follows names.
var simplePath = regexp.MustCompile(`^\.([A-Za-z_]\w*(\.[A-Za-z_]\w*)*)?\[\]$`)

// simpleNext is one that needs nothing of the rows.
var simpleNext = regexp.MustCompile(`^\.[A-Za-z_]\w*(\.[A-Za-z_]\w*)*( // (null|empty|""))?$`)

// streams finds out whether rows can be read one by one: where their place is a path, and
// what names the next page is another.
func (q *query) streams() {
	m := simplePath.FindStringSubmatch(q.spec.Rows)
	if m == nil {
		return
	}
	path := []string{}
	if m[1] != "" {
		path = strings.Split(m[1], ".")
	}
	beside := func(source string) bool {
		if source == "" {
			return true
		}
		if len(path) == 0 || !simpleNext.MatchString(source) {
			return false
		}
		names := strings.Split(strings.TrimPrefix(strings.Fields(source)[0], "."), ".")
		return !slices.Equal(names[:min(len(names), len(path))], path)
	}
	ok := beside(q.spec.Next)
	for _, p := range q.spec.Page {
		ok = ok && beside(p.Of)
	}
	if ok {
		q.path = path
	}
}

// read reads an answer: each row goes to see. It gives back what stands beside the rows.
func (q *query) read(r *limitedReader, see func(any)) (any, error) {
	if q.path != nil {
		d := &rowReader{d: json.NewDecoder(r), see: see, most: q.spec.MaxRow}
		rest, err := d.document(q.path)
		var shape *shapeError
		if err != nil && !errors.As(err, &shape) && !d.told {
			err = fmt.Errorf("the answer is not JSON (%w): %s", cause(err, len(r.first) > 0),
				match.Clip(strings.TrimSpace(strings.ToValidUTF8(string(r.first), "?"))))
		}
		return rest, err
	}
	body, err := io.ReadAll(r)
	if err != nil {
		return nil, err
	}
	answer, err := strictjson.Decode(body)
	if err != nil {
		return nil, fmt.Errorf("the answer is not JSON (%w): %s", err, match.Clip(string(body)))
	}
	list, err := q.rows.All(answer)
	if err != nil {
		return nil, &shapeError{fmt.Sprintf("%s): %s", err, match.Clip(match.Text(answer)))}
	}
	for _, row := range list {
		see(row)
	}
	return answer, nil
}

// rowReader reads a JSON document row by row, strictly.
type rowReader struct {
	d    *json.Decoder
	see  func(any)
	most int64
	told bool  // the error is no mistake of JSON
	lack error // there is no list of rows in the document
}

// document reads the whole document; the rows are at a path.
func (r *rowReader) document(path []string) (any, error) {
	r.d.UseNumber()
	rest, err := r.follow(path)
	if err != nil {
		return nil, err
	}
	if _, err := r.d.Token(); err != io.EOF {
		if err == nil {
			err = errors.New("something stands after the JSON value")
		}
		return nil, err
	}
	return rest, r.lack
}

// follow reads a value in which the rows are at a path.
func (r *rowReader) follow(path []string) (any, error) {
	if len(path) == 0 {
		return nil, r.list()
	}
	t, err := r.d.Token()
	if err != nil {
		return nil, err
	}
	if t != json.Delim('{') {
		return nil, &shapeError{fmt.Sprintf("there is no .%s in what is no object", path[0])}
	}
	object, found := map[string]any{}, false
	for r.d.More() {
		t, err := r.d.Token()
		if err != nil {
			return nil, err
		}
		name, _ := t.(string)
		if _, twice := object[name]; twice {
			return nil, fmt.Errorf("the name %q stands twice in an object", name)
		}
		if name == path[0] {
			found = true
			object[name], err = r.follow(path[1:])
		} else {
			object[name], err = r.value()
		}
		if err != nil {
			return nil, err
		}
	}
	if _, err := r.d.Token(); err != nil {
		return nil, err
	}
	if !found {
		r.lack = &shapeError{fmt.Sprintf("there is no .%s", path[0])}
	}
	return object, nil
}

// list reads the rows.
func (r *rowReader) list() error {
	t, err := r.d.Token()
	switch {
	case err != nil:
		return err
	case t != json.Delim('['):
		return &shapeError{"it is no list there"}
	}
	for r.d.More() {
		row, err := r.value()
		if err != nil {
			return err
		}
		r.see(row)
	}
	_, err = r.d.Token()
	return err
}

// value reads one value.
func (r *rowReader) value() (any, error) {
	var raw json.RawMessage
	if err := r.d.Decode(&raw); err != nil {
		return nil, err
	}
	if int64(len(raw)) > r.most {
		r.told = true
		return nil, fmt.Errorf("a row is longer than max_row, %s; raise it", quantity.FormatSize(r.most))
	}
	return strictjson.Decode(raw)
}

// cause says in words why something is no JSON.
func cause(err error, some bool) error {
	switch {
	case errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, io.EOF) && some:
		return errors.New("it ends in the middle")
	case errors.Is(err, io.EOF):
		return errors.New("it is empty")
	}
	return err
}

// after is the address of the page after an answer; empty at the end.
func (q *query) after(address string, rest any) (string, error) {
	if q.next != nil {
		next, err := q.next.One(rest)
		if err != nil {
			return "", fmt.Errorf("the next page of %s: %w", address, err)
		}
		return link.NextPage(address, next)
	}
	if len(q.params) == 0 {
		return "", nil
	}
	u, err := url.Parse(address)
	if err != nil {
		return "", err
	}
	query := u.Query()
	for _, p := range q.params {
		v, err := p.of.One(rest)
		if err != nil {
			return "", fmt.Errorf("the next page of %s: page: %s: %w", address, p.name, err)
		}
		switch x := v.(type) {
		case nil:
			return "", nil
		case bool:
			if !x {
				return "", nil
			}
			return "", fmt.Errorf("the next page of %s: page: %s is true, which is no value of a parameter", address, p.name)
		case string:
			if x == "" {
				return "", nil
			}
			query.Set(p.name, x)
		case map[string]any, []any:
			return "", fmt.Errorf("the next page of %s: page: %s is %s, which is no value of a parameter", address, p.name,
				match.Clip(match.Text(v)))
		default:
			query.Set(p.name, strings.Trim(match.Text(v), `"`))
		}
	}
	u.RawQuery = query.Encode()
	return u.String(), nil
}

// tells takes what an answer says of the platform's clock (RFC 9110, section 6.6.1): a
// time in whole seconds, between the question and the answer. What a cache kept is old.
func (q *query) tells(resp *http.Response, asked, answered time.Time) {
	at, err := http.ParseTime(resp.Header.Get("Date"))
	if err != nil || resp.Header.Get("Age") != "" {
		return
	}
	q.mu.Lock()
	defer q.mu.Unlock()
	least, most := at.Sub(answered), at.Add(time.Second).Sub(asked)
	if q.clock == nil {
		q.clock = &ledger.Offset{Least: least, Most: most}
	}
	o := q.clock
	o.Least, o.Most = max(o.Least, least), min(o.Most, most)
	q.drifts = q.drifts || o.Least > o.Most
}

// Offset implements Source.
func (q *query) Offset() (*ledger.Offset, bool) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.drifts {
		return nil, false
	}
	return q.clock, true
}

// Stop frees the connections.
func (q *query) Stop() {
	if q.client != nil {
		q.client.CloseIdleConnections()
	}
}
