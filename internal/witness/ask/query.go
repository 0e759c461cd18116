package ask

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strconv"
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
	"runcrowd/internal/rowfile"
	"runcrowd/internal/strictjson"
	"runcrowd/internal/witness/hearing"
	"runcrowd/internal/witness/match"
)

// query is a source that is asked over HTTP.
type query struct {
	spec              *crowd.Witness
	catalog           *match.Catalog
	rows, next, total *jq.Query
	params            []pageParam
	path              []string // of the rows, where they can be read one by one

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
	err := errors.Join(match.Compile(&q.rows, spec.Rows), match.Compile(&q.next, spec.Next, crowd.PageVariables...),
		match.Compile(&q.total, spec.Total, crowd.PageVariables...))
	for _, p := range spec.Page {
		x := pageParam{name: p.Name}
		err = errors.Join(err, match.Compile(&x.of, p.Of, crowd.PageVariables...))
		q.params = append(q.params, x)
	}
	if spec.FileForm == "" {
		q.streams()
	}
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
	asks, err := q.asks(d, now, now)
	if err != nil {
		return err
	}
	address := asks.address
	_, err = q.page(ctx, asks, func(any) {})
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
		return q.reach(address, err, "check "+q.spec.Place()+": and what the platform answers there")
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

// asking is what is asked: with a body, by POST.
type asking struct{ address, body string }

func (a asking) method() string {
	if a.body != "" {
		return http.MethodPost
	}
	return http.MethodGet
}

// asks is what is asked of a device and a time.
func (q *query) asks(d *fleet.Device, from, to time.Time) (a asking, err error) {
	env := formula.Env{}
	for k, v := range d.Env {
		env[k] = v
	}
	env["from"], env["to"] = from.UTC(), to.UTC()
	m := &formula.Machine{}
	for _, x := range []struct {
		key  string
		text *formula.Text
		into *string
	}{{q.spec.Place(), q.spec.Address(d.Cast), &a.address}, {"query", q.spec.Asked[d.Cast], &a.body}} {
		if x.text == nil {
			continue
		}
		if *x.into, err = x.text.Expand(m, env); err != nil {
			return a, fmt.Errorf("the witness %q: %s: %w", q.spec.Name, x.key, err)
		}
		q.catalog.Fleet.Crowd.Computed(x.text, m, env, d.Cast.Secrets)
	}
	return a, nil
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
	asks, err := q.asks(about.Device, about.From, about.To)
	if err != nil {
		return 0, err
	}
	pages, err = q.pages(ctx, asks, about.Cursor)
	var status *statusError
	if errors.As(err, &status) && status.code == http.StatusNotFound && pages == 0 { // of a later page, it tells nothing
		return pages, unknownDevice{err}
	}
	var ue *url.Error
	if errors.As(err, &ue) && !errors.Is(err, context.Canceled) && !errors.Is(err, context.DeadlineExceeded) {
		what, _ := link.Explain(err, hostOf(ue.URL))
		return pages, fmt.Errorf("%s: %s", ue.URL, what)
	}
	return pages, err
}

// answer is what an answer says beside its rows.
type answer struct {
	beside  any
	headers http.Header
}

// pages asks for all pages from the first on.
func (q *query) pages(ctx hearing.Context, asks asking, on *Cursor) (pages int, err error) {
	asked := map[asking]bool{}
	stale, empty := 0, 0
	var all totals
	for ; ; pages++ {
		switch {
		case asked[asks]:
			return pages, fmt.Errorf("the next page of %s is a page that was asked for already; check next", asks.address)
		case pages == maxPages:
			return pages, fmt.Errorf("the pages after %s are more than %d", q.spec.Get, maxPages)
		}
		asked[asks] = true
		on.Turn()
		rest, err := q.patiently(ctx, asks, on)
		if err != nil {
			return pages, err
		}
		at := pageValues(rest, pages+1, on)
		if err := all.add(q.total, rest.beside, at); err != nil {
			return pages, fmt.Errorf("%s: %w", asks.address, err)
		}
		next, err := q.after(asks, rest, at)
		if err != nil {
			return pages + 1, err
		}
		if next == (asking{}) {
			return pages + 1, all.check(on.all+on.rows, asks.address)
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
				q.spec.Get, asks.address)
		}
		asks = next
	}
}

// pageValues are those of crowd.PageVariables.
func pageValues(a answer, page int, on *Cursor) []any {
	links := map[string]any{}
	for rel, address := range link.Links(a.headers) {
		links[rel] = address
	}
	return []any{page, on.rows, on.all + on.rows, links, link.Headers(a.headers)}
}

// totals are how many rows there are in all, as answers say: rows may come while pages are read.
type totals struct {
	told        bool
	least, most int
}

// add takes what an answer says.
func (t *totals) add(total *jq.Query, beside any, at []any) error {
	if total == nil {
		return nil
	}
	v, err := total.One(beside, at...)
	if err != nil || v == nil {
		return err
	}
	n, wrong := strconv.Atoi(strings.Trim(match.Text(v), `"`))
	if wrong != nil || n < 0 {
		return fmt.Errorf("total is %s, which is no number of rows", match.Clip(match.Text(v)))
	}
	if !t.told {
		t.told, t.least, t.most = true, n, n
	}
	t.least, t.most = min(t.least, n), max(t.most, n)
	return nil
}

// check says what is wrong with so many rows.
func (t *totals) check(rows int, address string) error {
	if !t.told || rows >= t.least && rows <= t.most {
		return nil
	}
	return fmt.Errorf("%s: the platform says that there are %d rows in all, and its pages brought %d; check next, page and "+
		"total", address, t.most, rows)
}

// patiently asks for a page until it is answered.
func (q *query) patiently(ctx hearing.Context, asks asking, on *Cursor) (rest answer, err error) {
	return rest, patiently(ctx, on, func() (bool, time.Duration, error) {
		var err error
		rest, err = q.page(ctx, asks, on.Row)
		var status *statusError
		busy := errors.As(err, &status) && (status.code == http.StatusTooManyRequests || status.code >= 500)
		var ue *url.Error
		if busy {
			return true, status.after, err
		}
		return errors.As(err, &ue), 0, err
	})
}

// request is one that shows who asks, and what of it was computed and is secret.
func (q *query) request(ctx hearing.Context, asks asking) (req *http.Request, secrets []string, err error) {
	req, err = http.NewRequestWithContext(ctx, asks.method(), asks.address, strings.NewReader(asks.body))
	if err != nil {
		return nil, nil, err
	}
	req.Header = q.headers.Clone()
	if req.Header.Get("Accept") == "" {
		req.Header.Set("Accept", acceptable[rowfile.Form(q.spec.FileForm)])
	}
	if asks.body != "" && req.Header.Get("Content-Type") == "" {
		req.Header.Set("Content-Type", "text/plain; charset=utf-8")
		if json.Valid([]byte(asks.body)) {
			req.Header.Set("Content-Type", "application/json")
		}
	}
	req.Header.Set("User-Agent", "runcrowd")
	if len(q.spec.Signing.Headers) > 0 {
		if secrets, err = q.sign(req, asks.body); err != nil {
			return nil, nil, err
		}
	}
	return req, secrets, q.own.Authorize(req)
}

// sign adds the headers that are computed for a question. It tells which values are secret.
func (q *query) sign(req *http.Request, body string) ([]string, error) {
	how := &q.spec.Signing
	c := &crowd.Computing{Machine: &formula.Machine{}, Secret: how.Secret(crowd.Known)}
	env := formula.Env{"crowd": q.catalog.Fleet.Crowd.Name, "env": q.catalog.Fleet.Crowd.Env}
	known, err := how.Known(c, formula.Request{Method: req.Method, Host: req.URL.Host, Path: req.URL.EscapedPath(),
		Query: req.URL.RawQuery, Body: body, Time: time.Now().UTC()}, env)
	if err != nil {
		return nil, fmt.Errorf("signing: %w", err)
	}
	maps.Copy(env, known)
	for i := range how.Headers {
		v, err := c.Expand(&how.Headers[i], env)
		switch {
		case err != nil:
			return nil, fmt.Errorf("the header %w", err)
		case strings.ContainsAny(v, "\r\n\x00"):
			return nil, fmt.Errorf("the header %s holds a line break", how.Headers[i].Name)
		}
		req.Header.Set(how.Headers[i].Name, v)
	}
	return c.Secrets, nil
}

// acceptable are the types of answers, by the form that is asked for (RFC 9110, section 12.5.1).
var acceptable = map[rowfile.Form]string{"": "application/json", rowfile.CSV: "text/csv", rowfile.JSON: "application/x-ndjson, " +
	"application/json;q=0.9", rowfile.SenML: "application/senml+json, application/json;q=0.9", rowfile.LineProtocol: "text/plain"}

// page asks for one page, once. Each row goes to see; what stands beside the rows is
// given back.
func (q *query) page(ctx hearing.Context, asks asking, see func(any)) (none answer, err error) {
	address := asks.address
	if err := q.pace.Wait(ctx); err != nil {
		return none, context.DeadlineExceeded // there is no room for it before the deadline
	}
	req, secrets, err := q.request(ctx, asks)
	if err != nil {
		return none, err
	}
	began := clock.Now()
	resp, err := q.client.Do(req)
	if err == nil && resp.StatusCode == http.StatusUnauthorized && q.own.Tokens != nil {
		// The token may have run out on the way: with a new one it is asked once more.
		again, more, wrong := q.request(ctx, asks)
		secrets = append(secrets, more...)
		if wrong == nil && again.Header.Get("Authorization") != req.Header.Get("Authorization") {
			resp.Body.Close()
			began = clock.Now()
			resp, err = q.client.Do(again)
		}
	}
	if err != nil {
		if ctx.Err() != nil {
			return none, ctx.Err()
		}
		return none, err
	}
	defer resp.Body.Close()
	q.tells(resp, began, clock.Now())
	if resp.StatusCode != http.StatusOK {
		body, _ := io.ReadAll(io.LimitReader(resp.Body, maxError))
		what := string(body)
		for _, s := range secrets {
			what = link.Hide(what, s)
		}
		return none, &statusError{resp.StatusCode, fmt.Sprintf("%s answered with status %s: %s", address, link.Status(resp),
			match.Clip(what)), link.RetryAfter(resp, time.Now())}
	}
	limited := &limitedReader{r: resp.Body, left: q.spec.MaxAnswer}
	// Without a length, an answer that ends may have been cut off.
	rest, err := q.read(limited, resp.ContentLength >= 0 || len(resp.TransferEncoding) > 0 || resp.ProtoMajor > 1 || resp.Uncompressed, see)
	var shape *shapeError
	switch {
	case err == nil:
		return answer{rest, resp.Header}, nil
	case ctx.Err() != nil:
		return none, ctx.Err()
	case limited.over:
		return none, fmt.Errorf("%s: the answer is longer than max_answer, %s; ask for smaller pages, or raise it", address,
			quantity.FormatSize(q.spec.MaxAnswer))
	case errors.As(err, &shape):
		return none, &shapeError{fmt.Sprintf("the answer of %s does not have the rows the file says (%s)", address,
			shape.text)}
	case limited.err != nil:
		return none, &url.Error{Op: "Get", URL: address, Err: limited.err}
	}
	return none, fmt.Errorf("%s: %w", address, err)
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

// ofPage is one that needs nothing of the answer but what is known of its page.
var ofPage = regexp.MustCompile(`^\$\w+(\.[A-Za-z_]\w*|\["[^"]*"\])?( [+-] \d+)?( \| tonumber)?$`)

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
		if source == "" || ofPage.MatchString(source) {
			return true
		}
		if len(path) == 0 || !simpleNext.MatchString(source) {
			return false
		}
		names := strings.Split(strings.TrimPrefix(strings.Fields(source)[0], "."), ".")
		return !slices.Equal(names[:min(len(names), len(path))], path)
	}
	ok := beside(q.spec.Next) && beside(q.spec.Total)
	for _, p := range q.spec.Page {
		ok = ok && beside(p.Of)
	}
	if ok {
		q.path = path
	}
}

// read reads an answer: each row goes to see. It gives back what stands beside the rows. Whole: where it
// ends, it is whole.
func (q *query) read(r *limitedReader, whole bool, see func(any)) (any, error) {
	if q.spec.FileForm != "" {
		return nil, q.lines(r, whole, see)
	}
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

// lines reads an answer that is rows alone.
func (q *query) lines(in io.Reader, whole bool, see func(any)) error {
	r, err := rowfile.Read("the answer", in, rowfile.Options{Form: rowfile.Form(q.spec.FileForm), MaxRow: q.spec.MaxRow})
	for err == nil {
		var row any
		row, err = r.Next()
		var half *rowfile.HalfError
		if errors.As(err, &half) && whole && half.Row != nil { // its last line has no end
			row, err = half.Row, nil
		}
		if err != nil {
			break
		}
		list := []any{row}
		if q.rows != nil {
			var wrong error
			if list, wrong = q.rows.All(row); wrong != nil {
				return &shapeError{fmt.Sprintf("%s): %s", wrong, match.Clip(match.Text(row)))}
			}
		}
		for _, x := range list {
			see(x)
		}
	}
	switch {
	case err != io.EOF:
		return err
	case !whole && q.total == nil:
		return errors.New("the answer ends with its connection, and may have been cut off there; where it says how many rows " +
			"there are, write total")
	}
	return nil
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

// after is what the page after an answer is asked with; nothing at the end.
func (q *query) after(asks asking, rest answer, at []any) (next asking, err error) {
	if q.next != nil {
		named, err := q.next.One(rest.beside, at...)
		if err != nil {
			return next, fmt.Errorf("the next page of %s: %w", asks.address, err)
		}
		address, err := link.NextPage(asks.address, named)
		if err != nil || address == "" {
			return next, err
		}
		return asking{address, asks.body}, nil
	}
	values := map[string]any{}
	for _, p := range q.params {
		v, err := p.of.One(rest.beside, at...)
		if err != nil {
			return next, fmt.Errorf("the next page of %s: page: %s: %w", asks.address, p.name, err)
		}
		switch x := v.(type) {
		case nil:
			return next, nil
		case bool:
			if !x {
				return next, nil
			}
			return next, fmt.Errorf("the next page of %s: page: %s is true, which is no value of a parameter", asks.address, p.name)
		case string:
			if x == "" {
				return next, nil
			}
		case map[string]any, []any:
			return next, fmt.Errorf("the next page of %s: page: %s is %s, which is no value of a parameter", asks.address, p.name,
				match.Clip(match.Text(v)))
		}
		values[p.name] = v
	}
	switch {
	case len(values) == 0:
		return next, nil
	case asks.body != "":
		return asks.with(values, q.headers.Get("Content-Type"))
	}
	u, err := url.Parse(asks.address)
	if err != nil {
		return next, err
	}
	u.RawQuery = withValues(u.Query(), values)
	return asking{u.String(), ""}, nil
}

func withValues(query url.Values, values map[string]any) string {
	for name, v := range values {
		query.Set(name, strings.Trim(match.Text(v), `"`))
	}
	return query.Encode()
}

// with puts values into the body: fields of JSON, or of a form.
func (a asking) with(values map[string]any, kind string) (asking, error) {
	if strings.HasPrefix(kind, "application/x-www-form-urlencoded") {
		query, err := url.ParseQuery(a.body)
		return asking{a.address, withValues(query, values)}, err
	}
	v, err := strictjson.Decode([]byte(a.body))
	body, is := v.(map[string]any)
	if err != nil || !is {
		return a, errors.New("page has no place: query is no JSON object")
	}
	for name, v := range values {
		at, path := body, strings.Split(name, ".")
		for _, step := range path[:len(path)-1] {
			inner, is := at[step].(map[string]any)
			if !is {
				inner = map[string]any{}
				at[step] = inner
			}
			at = inner
		}
		at[path[len(path)-1]] = v
	}
	text, err := json.Marshal(body)
	return asking{a.address, string(text)}, err
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
