package witness

import (
	"cmp"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"math/big"
	"regexp"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"runcrowd/internal/clock"
	"runcrowd/internal/crowd"
	"runcrowd/internal/database"
	"runcrowd/internal/fleet"
	"runcrowd/internal/jq"
	"runcrowd/internal/ledger"
)

// askers is how many questions are under way at once.
const askers = 8

// clockMargin widens the asked time for clocks that disagree.
const clockMargin = time.Minute

// Unmarked is how the reason begins of a witness that could ask and found nothing that
// it can tell apart.
const Unmarked = "rows were found, but none carries a mark"

// poller is a witness that asks.
type poller struct {
	*base
	source                                           pollSource
	device, reading, time, mark, values, body, rowID *jq.Query
	counter                                          *counter // nil: it is there for messages one by one

	mu       sync.Mutex // guards what follows
	known    rows
	loose    loose // what no mark and no time tells whose it is
	unsures  map[unsureKey]bool
	since    time.Time        // from which is asked, where rows have no mark or are counted
	ahead    ledger.Offset    // by which the platform's clock is ahead of ours, when it was asked first
	further  time.Duration    // by which more is asked for, before and after
	narrow   [2]time.Time     // what was asked for before that
	far      int              // messages of ours in rows that are filed outside it
	near     int              // and within it
	old      map[occasion]int // rows that were there before the run
	olds     bool             // they are being counted
	marked   bool             // some row carried a mark, of whatever run
	unmarked int
	sample   string
	rowsSaid map[uint64]bool // of alerts, by identity
	answers  []answer        // what each question brought, when it was asked last
}

// newPoller makes the core of an asking witness.
func newPoller(b *base) (*poller, error) {
	q, spec := &poller{base: b}, b.spec
	if spec.Counts {
		q.counter = &counter{}
	}
	return q, errors.Join(pick(&q.body, spec.Body), pick(&q.device, spec.Device), pick(&q.reading, spec.Reading),
		pick(&q.time, spec.Time), pick(&q.mark, spec.Mark), pick(&q.values, spec.Values), pick(&q.rowID, spec.Row),
		q.counter.compile(spec.Count))
}

// Start implements Witness.
func (q *poller) Start(ctx Context) error {
	devices := q.devices()
	if len(devices) == 0 {
		return nil
	}
	if err := q.source.start(ctx, devices[0]); err != nil {
		return err
	}
	if o, _ := q.source.offset(); o != nil {
		q.ahead = *o
	}
	if q.counter != nil && q.counter.count != nil { // what is counted in all is there before, too
		q.further = oneDay
	}
	switch {
	case q.spec.Hears:
		return q.askOld(ctx, devices)
	case q.counter != nil && q.counter.before == nil:
		return q.countOld(ctx, devices)
	case q.counter == nil && q.catalog.Index != nil && q.since.IsZero():
		return q.placeOld(ctx, devices)
	}
	return nil
}

// Stop implements Witness.
func (q *poller) Stop() { q.source.stop() }

// cursor takes the rows of one question, page by page.
type cursor struct {
	core   *poller
	device *fleet.Device
	serial uint32            // of this page
	count  map[copyKey]int   // on this page
	nth    map[occasion]int  // the same
	met    map[occasion]bool // on the pages before it
	fresh  int               // rows of ours on this page that this answer had not brought yet
	ours   int               // rows of ours on this page
	rows   int               // rows on this page
	all    int               // rows on the pages before it
	own    int               // and those of them that are ours
	old    bool              // they were there before the run: nothing of them is noted
	tells  [2]map[int]int64  // counts: of this page, and of those before
	err    error             // of a row that cannot be counted
}

// turn begins a page.
func (s *cursor) turn() {
	s.core.mu.Lock()
	defer s.core.mu.Unlock()
	s.core.known.serial++
	s.serial = s.core.known.serial
	s.whole()
	for k := range s.nth {
		if s.met == nil {
			s.met = map[occasion]bool{}
		}
		s.met[k] = true
	}
	s.begin()
}

// begin begins the page again: an attempt to read it failed.
func (s *cursor) begin() {
	s.count, s.fresh, s.ours, s.rows = map[copyKey]int{}, 0, 0, 0
	s.nth = nil
	s.tells[0] = nil
}

// row takes a row.
func (s *cursor) row(v any) {
	s.rows++
	s.core.row(v, s.device, s)
}

// whole ends a page.
func (s *cursor) whole() {
	for k, n := range s.tells[0] {
		if s.tells[1] == nil {
			s.tells[1] = map[int]int64{}
		}
		s.tells[1][k] += n
	}
	s.tells[0] = nil
	s.all, s.own = s.all+s.rows, s.own+s.ours
}

// stale tells whether the page brought rows of ours, and each of them not for the first
// time.
func (s *cursor) stale() bool { return s.ours > 0 && s.fresh == 0 }

// row reads one row and notes what it holds.
func (q *poller) row(row any, d *fleet.Device, on *cursor) {
	if q.spec.Hears {
		q.saidRow(row, on)
		return
	}
	if q.counter != nil {
		q.countRow(row, d, on)
		return
	}
	var parts []part
	if q.body == nil && q.catalog.Index == nil { // most rows may be of others: those cost no more than this
		parts = q.split(row, nil, -1)
		if m := q.catalog.markOf(parts[0].mark); !m.ours {
			if m.marked || !q.corrupted(row, &parts[0]) {
				q.foreign(m, row)
				return
			}
		}
	}
	x := ledger.Sighting{Witness: q.index, Seen: clock.Now(), Asked: true}
	if q.spec.PerDevice {
		x.FiledDevice = d.Name
	}
	fill(&x, row, q.spec.Get == "", q.device, q.reading, q.time, q.values)
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
		if d != nil && q.catalog.Index.tells(d) {
			q.placed(x, &p, d, on)
			continue
		}
		m := q.catalog.markOf(p.mark)
		if !m.marked && q.corrupted(row, &p) {
			m = q.catalog.markOf(p.mark)
		}
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

// corrupted looks for a mark of the run anywhere in a row where none can be read.
func (q *poller) corrupted(row any, p *part) bool {
	b, err := json.Marshal(row)
	if err != nil {
		return false
	}
	m, found := q.catalog.raw(b)
	if !found && q.body != nil {
		if v, err := q.body.One(row); err == nil {
			if s, is := v.(string); is {
				if body, err := base64.StdEncoding.DecodeString(s); err == nil {
					m, found = q.catalog.raw(body)
				}
			}
		}
	}
	if found {
		p.mark = m.Mark.String()
	}
	return found
}

// foreign notes a row without a mark of this run.
func (q *poller) foreign(m whose, row any) {
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
func (q *poller) split(row any, d *fleet.Device, filed int) []part {
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
	if v, has := q.catalog.markIn(row); has {
		return []part{{mark: v}}
	}
	if q.values != nil { // it rides among them
		if values, err := q.values.One(row); err == nil {
			if v, has := q.catalog.markIn(values); has {
				return []part{{mark: v}}
			}
		}
	}
	return []part{{}}
}

// bodyParts takes a body apart that a row keeps in base64 (RFC 4648, section 4)
// or, where it is none, as a text. D is the device whose row it is, or nil.
func (q *poller) bodyParts(s string, d *fleet.Device, filed int) []part {
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
func (q *poller) found(x ledger.Sighting, m whose, on *cursor) {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.marked = true
	if q.further > 0 && !x.Stored.IsZero() {
		if x.Stored.Before(q.narrow[0]) || x.Stored.After(q.narrow[1]) {
			q.far++
		} else {
			q.near++
		}
	}
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
func (q *poller) Know(x *ledger.Sighting) {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.known.know(x)
	q.remember(x.Stream, x.Seq)
}

// Hear asks about all devices, then again about those with something missing,
// and once more about all when the time for repeats is over.
func (q *poller) Hear(ctx Context, r Round) (bool, string) {
	if q.counter != nil {
		return q.hearCount(ctx, r)
	}
	q.begin(r)
	defer q.over()
	all := q.devices()
	room := q.spec.Wait
	if q.spec.Hears && r.Expect.Calls() { // what the last message called for may take its time
		sleep(ctx, q.spec.Wait)
	}
	if q.spec.Pace > 0 { // asking about each of them takes its time
		room += time.Duration(float64(len(all)) / float64(q.spec.Pace) * float64(time.Second))
	}
	deadline := time.Now().Add(room)
	looking, stop := context.WithDeadline(ctx, deadline)
	defer stop()
	pause := 100 * time.Millisecond
	_, read := q.askAll(looking, all, r, false) // its error counts only in the last pass
	for looking.Err() == nil && q.Awaited() > 0 {
		sleep(looking, min(pause, time.Until(deadline)))
		pause = min(2*pause, 5*time.Second)
		if _, err := q.askAll(looking, q.wanted(r, all), r, false); looking.Err() == nil {
			read = err // not one that the end of the time cut off
		}
	}
	if ctx.Err() == nil {
		sleep(ctx, q.spec.WatchCopies)
	}
	q.lookFurther(ctx, r, all, room, read == nil)
	last, cancel := context.WithDeadline(ctx, time.Now().Add(max(room, time.Second)))
	defer cancel()
	pages, err := q.askAll(last, all, r, true)
	q.mu.Lock()
	defer q.mu.Unlock()
	if o, decides := q.source.offset(); o != nil && decides {
		q.page.Clock(q.index, o.Least, o.Most)
	}
	switch {
	case err == nil:
	case ctx.Err() != nil:
		return false, "the hearing was cut short"
	case errors.Is(err, context.DeadlineExceeded):
		return false, fmt.Sprintf("it was not read to the end within %s: %d pages had been read; raise wait, or ask for "+
			"larger pages", room.Round(time.Millisecond), pages)
	default:
		return false, err.Error()
	}
	q.align(r.Expect)
	for _, x := range q.known.moved() {
		x.Witness, x.Seen, x.Asked, x.Perhaps = q.index, clock.Now(), true, true
		q.note(&x)
	}
	switch {
	case q.known.lostTrack():
		return false, fmt.Sprintf("more than %d rows were met on several pages of one answer, and rows tell no identity; "+
			"say what it is with row", mostMoved)
	case q.unnamed() != "":
		return false, q.unnamed()
	case q.capped(r.Expect, pages) != "":
		return false, q.capped(r.Expect, pages)
	case q.unmarked > 0 && !q.marked && !q.any() && q.catalog.Index == nil:
		return false, fmt.Sprintf(Unmarked+" where the file says (mark: %s); a row is %s", orDefault(q.spec.Mark), q.sample)
	}
	return true, ""
}

// answer is what a question about some devices brought.
type answer struct {
	devices   []*fleet.Device
	rows, own int // in all, and of this run
}

// place is where a message stands among those that were asked about, and whether it is missing.
type place struct {
	at      uint64
	missing bool
}

// lacking counts the missing.
func lacking(list []place) (n int) {
	for _, x := range list {
		if x.missing {
			n++
		}
	}
	return n
}

// roundLimits are numbers of rows at which platforms cut answers off.
var roundLimits = []int{10, 20, 25, 50, 100, 200, 250, 500, 1000, 1024, 2000, 2500, 5000, 10_000, 20_000, 50_000, 100_000}

// limitsRows is a query that has a limit of its own.
var limitsRows = regexp.MustCompile(`(?i)\b(limit|top|fetch\s+(first|next))\b`)

// capped tells why answers look as if the platform had cut them off; empty: they do not. One
// has as many rows as the file says that an answer can have; or, where it says nothing, it lacks
// messages, or has copies of some, and as many rows as limits have; or all have the same number,
// and what is missing is the oldest or the newest.
func (q *poller) capped(e Expect, pages int) string {
	spec := q.spec
	if spec.Hears || spec.Latest || !q.marked || pages > len(q.answers) || len(q.answers) == 0 ||
		spec.Limit == crowd.NoLimit || spec.File != "" || spec.SQL != nil && !limitsRows.MatchString(spec.SQL.Query) {
		return ""
	}
	n := slices.MaxFunc(q.answers, func(a, b answer) int { return cmp.Compare(a.rows, b.rows) }).rows
	same := len(q.answers) > 1 && !slices.ContainsFunc(q.answers, func(a answer) bool { return a.rows != n })
	full := slices.Contains(roundLimits, n)
	if spec.Limit > 0 {
		full, same = int64(n) >= spec.Limit, false
	}
	if n < 3 || !full && !same {
		return ""
	}
	q.base.mu.Lock()
	defer q.base.mu.Unlock()
	of := map[*fleet.Device][]int{}
	for i, s := range q.catalog.Fleet.Streams {
		of[s.Device] = append(of[s.Device], i)
	}
	whole, missing, list := true, 0, []place(nil)
	for _, a := range q.answers {
		if a.rows < n && (spec.Limit == 0 || int64(a.rows) < spec.Limit) {
			continue
		}
		list = list[:0]
		if len(q.answers) == 1 { // asked for all of them at once
			a.devices = q.catalog.Fleet.Devices
		}
		for _, d := range a.devices {
			for _, i := range of[d] {
				from, to := q.window(e, i)
				for seq := from; q.sees(d) && seq < to; seq++ {
					if !e.Excused(i, seq) && !q.base.corrupted(i, seq) {
						list = append(list, place{(seq - from) << 20 / (to - from), !q.has(i, seq)})
					}
				}
			}
		}
		slices.SortStableFunc(list, func(a, b place) int { return cmp.Compare(a.at, b.at) })
		lacks := lacking(list)
		switch {
		case full && (spec.Limit > 0 || lacks > 0 || a.own > len(list)):
			whole = false
		case lacks > 1 && cutOff(list, lacks):
			missing += lacks
		}
	}
	if whole && missing < 4 {
		return ""
	}
	return fmt.Sprintf("an answer has %d rows at most: the platform seems to cut its answers off. Ask for more at once (a limit in the address), for less time (${from} and ${to}), or say how the next page is "+
		"asked for (next, page). If it has no limit, write limit: none", n)
}

// cutOff tells whether so many that are missing of a list lie at one end of it that chance does
// not explain it: two standard deviations more than it would put there (of a hypergeometric
// distribution, of which the mean is lacks*lacks/n).
func cutOff(list []place, lacks int) bool {
	n := len(list)
	end := max(lacking(list[:lacks]), lacking(list[n-lacks:]))
	if lacks == 0 || lacks == n {
		return lacks > 0
	}
	above, spread := big.NewInt(int64(end*n-lacks*lacks)), big.NewInt(int64(lacks*(n-lacks)))
	if above.Sign() <= 0 {
		return false
	}
	above.Mul(above, above).Mul(above, big.NewInt(int64(n-1)))
	return above.Cmp(spread.Mul(spread, spread).Mul(spread, big.NewInt(4))) >= 0
}

// oneDay is how far off a platform's clock is looked for.
const oneDay = 24 * time.Hour

// lookFurther asks for a longer time, where messages are missing: the platform may file them by
// a clock that is another, and that it does not tell. Rows without marks could be others'.
func (q *poller) lookFurther(ctx Context, r Round, all []*fleet.Device, room time.Duration, whole bool) {
	missing := q.Awaited()
	if missing == 0 || ctx.Err() != nil || q.spec.Hears || !q.since.IsZero() || q.further > 0 {
		return
	}
	looking, stop := context.WithTimeout(ctx, max(room, time.Second))
	defer stop()
	q.mu.Lock()
	q.narrow = [2]time.Time{q.asFrom(r.Begin), clock.Now().Add(clockMargin + max(0, q.ahead.Most))}
	q.mu.Unlock()
	q.further = oneDay
	q.askAll(looking, q.wanted(r, all), r, false) // what it does not find decides nothing
	if q.Awaited() >= missing {
		q.further = 0
		return
	}
	// More may have been found because it was stored meanwhile, or read to its end now: only
	// times that the rows tell show that it is filed elsewhere.
	q.mu.Lock()
	near := q.near > 0 && q.far == 0
	q.mu.Unlock()
	if near || !whole {
		return
	}
	q.page.Link(&ledger.LinkEvent{At: clock.Now(), What: ledger.Remarked, Why: fmt.Sprintf("the witness %q: the "+
		"platform files messages under times that are more than a minute off: its clock differs from ours, or it "+
		"keeps the time of another zone", q.spec.Name)})
}

func orDefault(s string) string {
	if s == "" {
		return "the field of the row that has the mark's name"
	}
	return s
}

// devices are those to ask about: one stands for all where one question does.
func (q *poller) devices() []*fleet.Device {
	var list []*fleet.Device
	for _, d := range q.catalog.Fleet.Devices {
		if q.sees(d) || q.spec.Hears {
			list = append(list, d)
			if !q.spec.PerDevice && !q.spec.InGroups() {
				break
			}
		}
	}
	return list
}

// wanted are those of which something is missing.
func (q *poller) wanted(r Round, all []*fleet.Device) []*fleet.Device {
	if !q.spec.PerDevice {
		return all
	}
	wanted := map[int]bool{}
	q.base.mu.Lock()
	q.lacks(r.Expect, func(stream int, _ uint64) { wanted[q.catalog.Fleet.Streams[stream].Device.Index] = true })
	q.base.mu.Unlock()
	var some []*fleet.Device
	for _, d := range all {
		if wanted[d.Index] {
			some = append(some, d)
		}
	}
	return some
}

// asFrom is the time from which to ask for what was stored since t by our clock.
func (q *poller) asFrom(t time.Time) time.Time {
	return t.Add(min(0, q.ahead.Least) - clockMargin - q.further)
}

// errUnknownDevice is the error for a device that the platform does not know. It may be
// one that never reached it: that is an error only when every answer is one.
var errUnknownDevice = errors.New("every question was answered with 404; check get")

// askAll asks about devices, some at once. Whole: all that is there has to be read, also what
// was read before.
func (q *poller) askAll(ctx Context, devices []*fleet.Device, r Round, whole bool) (pages int, err error) {
	q.mu.Lock()
	q.known.ask()
	q.loose.begin()
	q.answers = q.answers[:0]
	q.mu.Unlock()
	g, inner := errgroup.WithContext(ctx)
	g.SetLimit(askers)
	var mu sync.Mutex
	var unknown error
	unknowns := 0
	size := 1 // of a group that is asked about at once
	if q.spec.InGroups() {
		size = database.MostDevices
	}
	questions := 0
	for group := range slices.Chunk(devices, size) {
		questions++
		g.Go(func() error {
			d, from := group[0], q.asFrom(r.Begin)
			if !q.since.IsZero() {
				from = q.since
			}
			on := &cursor{core: q, device: d, old: r.N == 0}
			n, err := q.source.ask(inner, question{d, group, from, clock.Now().Add(
				clockMargin + max(0, q.ahead.Most) + q.further), on, whole})
			if on.whole(); err == nil {
				err = on.err
			}
			if err == nil && q.counter != nil {
				q.counter.add(on.tells[1])
			}
			mu.Lock()
			defer mu.Unlock()
			pages += n
			if err == nil {
				q.answers = append(q.answers, answer{group, on.all, on.own})
			}
			if errors.Is(err, errUnknownDevice) {
				unknown = err
				unknowns++
				return nil
			}
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return pages, err
	}
	if unknowns == questions && unknowns > 0 {
		return pages, unknown
	}
	return pages, ctx.Err()
}

// patiently asks for a page until it is answered: one that is busy, or that limits
// questions, is asked again while there is time. Ask tells whether its error passes, and
// after what time, where that is known.
func patiently(ctx Context, on *cursor, ask func() (passes bool, after time.Duration, err error)) error {
	pause := 200 * time.Millisecond
	for {
		on.begin()
		passes, wait, err := ask()
		if err == nil || !passes || ctx.Err() != nil {
			return err
		}
		wait = max(wait, pause)
		pause = min(2*pause, 5*time.Second)
		if deadline, is := ctx.Deadline(); is && time.Until(deadline) < wait {
			sleep(ctx, time.Until(deadline))
			return err // it says more than that the time is over
		}
		sleep(ctx, wait)
	}
}
