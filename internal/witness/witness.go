// Package witness looks for messages on the platform's side and notes each
// sighting in the ledger. What the sightings mean is not decided here.
//
// A witness never guesses. A message that carries the mark of another run is
// let pass; a time in which the witness could not listen is noted as a gap;
// an answer that cannot be understood is told, and the witness counts as not
// heard.
package witness

import (
	"bytes"
	"context"
	"encoding/json"
	"net"
	"path/filepath"
	"strconv"
	"sync"
	"time"

	"runcrowd/internal/crowd"
	"runcrowd/internal/fleet"
	"runcrowd/internal/foreign"
	"runcrowd/internal/formula"
	"runcrowd/internal/jq"
	"runcrowd/internal/ledger"
	"runcrowd/internal/link"
	"runcrowd/internal/payload"
	"runcrowd/internal/quantity"
	"runcrowd/internal/strictjson"
)

// Expect says which messages of a round a witness should find. Its methods may be called
// from several goroutines at once, and do not block.
type Expect interface {
	// Range is a stream's sequence numbers in the round: from the first to before the
	// second; the same number twice where it had none.
	Range(stream int) (from, to uint64)
	// Excused tells whether a message need not be found: it was refused or never sent.
	Excused(stream int, seq uint64) bool
	// Calls tells whether a message of the round may have called for an alert.
	Calls() bool
}

// Context is the context of a hearing.
type Context = context.Context

// Round is the round that a witness is heard for.
type Round struct {
	N          int
	Begin, End time.Time
	Expect     Expect
}

// Witness is one place where we look.
//
// Start comes first, once; then Hear, once for each round and never twice at the same
// time; Stop comes last, once, also after an error of Start. Awaited may be called at any
// time between, from any goroutine. A witness writes its sightings through the page that
// it was made with; it owns nothing else of the run.
type Witness interface {
	// Start begins to listen, where that is done before messages are sent, or asks
	// once. It blocks until the witness stands, at most as long as its link takes to
	// connect. The error is why the run cannot begin: a *link.ReachError where the
	// platform could not be reached. Listening goes on when ctx is done, until Stop.
	Start(ctx Context) error
	// Hear blocks until everything expected was found and the time for repeats is
	// over, or until the witness's wait is, or until ctx is done. Complete says that
	// the witness was heard to the end; if not, why says what was in the way.
	Hear(ctx Context, r Round) (complete bool, why string)
	// Awaited is how many messages of the round that is being heard were not found yet.
	// It does not block.
	Awaited() int
	// StayOut is how many of these must not be found. It does not block.
	StayOut() int
	// Seen is how many messages were found so far, or of what it hears, how often. It does
	// not block.
	Seen() int
	// Stop ends listening, and returns when all goroutines of the witness are gone.
	// Nothing is written to its page afterwards.
	Stop()
}

// Base is what every witness has.
type base struct {
	spec    *crowd.Witness
	index   int
	page    *ledger.Page
	catalog *Catalog

	alerts []hearable // that it is there for

	mu      sync.Mutex
	seen    int        // messages that were found, or what was said
	found   [][]uint64 // a bit for each sequence number, by stream
	hearing Expect     // of the round that is being heard
	left    int        // messages of it that were not found yet
	out     int        // of these, those that must not be
}

// Catalog resolves marks, devices and topics of one run.
type Catalog struct {
	Run     string
	Network link.Network // how connections are opened
	// Listen is how callbacks are listened for; nil is net.Listen.
	Listen func(network, address string) (net.Listener, error)
	Folder string // of the crowd file: names of files are looked for from there
	// Tell is told what a user should know; nil: nobody is.
	Tell func(text string)
	// Corrupted tells whether a message was sent so that nothing may be kept of it: its mark is
	// looked for also where it cannot be read. It may be called from any goroutine. Nil: none
	// was.
	Corrupted func(stream int, seq uint64) bool
	// Index knows messages by what they carry, where no mark tells them apart; nil: all have one.
	Index   *Index
	numbers ledger.Numbers
	Fleet   *fleet.Fleet
	streams map[string]int // by device and reading
	devices map[string]*fleet.Device
	topics  map[string]int // by topic; -1 where several streams share it
	places  []crowd.Mark   // where marks ride
	forms   []payload.Form // of bodies that are no flat JSON object, one for each reading
	batches bool           // some bodies hold several messages
}

// NewCatalog makes the catalog of a run.
func NewCatalog(f *fleet.Fleet, run string) *Catalog {
	c := &Catalog{Run: run, Folder: filepath.Dir(f.Crowd.Path), numbers: ledger.NumbersOf(run, len(f.Streams)), Fleet: f,
		streams: map[string]int{}, devices: map[string]*fleet.Device{}, topics: map[string]int{}}
	known := map[*crowd.Reading]bool{}
	for _, d := range f.Devices {
		c.devices[d.Name] = d
	}
	for _, s := range f.Streams {
		c.streams[streamKey(s.Device.Name, s.Reading.Name)] = s.Index
		if s.Device.Cast.Link.Protocol == crowd.MQTT {
			c.addTopic(s.Target, s.Index)
		}
		c.batches = c.batches || s.Reading.Batch > 1
		if s.Form != nil && !known[s.Reading] {
			known[s.Reading] = true
			c.forms = append(c.forms, s.Form)
		}
	}
	for _, k := range f.Crowd.Kinds {
		if k.Mark.Place == crowd.MarkTime || k.Mark.Place == crowd.MarkNone {
			c.Index = newIndex(f)
			continue
		}
		known := false
		for _, p := range c.places {
			known = known || p == k.Mark
		}
		if !known {
			c.places = append(c.places, k.Mark)
		}
	}
	return c
}

func (c *Catalog) addTopic(topic string, stream int) {
	if old, shared := c.topics[topic]; shared && old != stream {
		stream = -1
	}
	c.topics[topic] = stream
}

func streamKey(device, reading string) string { return device + "\x00" + reading }

// stream finds a stream by its names; -1 if there is none.
func (c *Catalog) stream(device, reading string) int {
	if i, ok := c.streams[streamKey(device, reading)]; ok {
		return i
	}
	return -1
}

// device finds a device by its name; nil if there is none.
func (c *Catalog) device(name string) *fleet.Device { return c.devices[name] }

// sees tells whether the witness should see a device's messages.
func (b *base) sees(d *fleet.Device) bool { return b.catalog.Fleet.Sees(b.index, d) }

// note writes a sighting and remembers that its message was found.
func (b *base) note(x *ledger.Sighting) {
	b.inPlace(x)
	b.page.Sighting(x)
	b.remember(x.Stream, x.Seq)
}

// inPlace leaves out where a sighting was filed, where that is its own place.
func (b *base) inPlace(x *ledger.Sighting) {
	if x.Stream < 0 {
		return
	}
	s := b.catalog.Fleet.Streams[x.Stream]
	if x.FiledDevice == s.Device.Name {
		x.FiledDevice = ""
	}
	if x.FiledReading == s.Reading.Name {
		x.FiledReading = ""
	}
}

// any tells whether anything was found at all.
func (b *base) any() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.found != nil
}

// remember counts a message as found.
func (b *base) remember(stream int, seq uint64) {
	if stream < 0 || seq > maxSeq {
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.found == nil {
		b.found = make([][]uint64, len(b.catalog.Fleet.Streams))
	}
	if b.has(stream, seq) {
		return
	}
	for uint64(len(b.found[stream])) <= seq/64 {
		b.found[stream] = append(b.found[stream], 0)
	}
	b.found[stream][seq/64] |= 1 << (seq % 64)
	b.seen++
	if b.hearing != nil && b.wants(stream, seq) {
		if b.left--; b.corrupted(stream, seq) {
			b.out--
		}
	}
}

// maxSeq bounds what a made-up mark may cost in memory.
const maxSeq = 1 << 26

func (b *base) has(stream int, seq uint64) bool {
	return b.found != nil && seq/64 < uint64(len(b.found[stream])) && b.found[stream][seq/64]&(1<<(seq%64)) != 0
}

// wants tells whether a message should be found in the round that is being heard.
func (b *base) wants(stream int, seq uint64) bool {
	from, to := b.window(b.hearing, stream)
	return seq >= from && seq < to && b.sees(b.catalog.Fleet.Streams[stream].Device) && !b.hearing.Excused(stream, seq)
}

// window is which messages of a stream should be found, from one to before another: of a witness
// that shows the latest alone, the last that went out.
func (b *base) window(e Expect, stream int) (from, to uint64) {
	from, to = e.Range(stream)
	if !b.spec.Latest {
		return from, to
	}
	for ; to > from; to-- {
		if !e.Excused(stream, to-1) {
			return to - 1, to
		}
	}
	return from, from
}

// begin begins to hear a round: what is missing is counted once, and then as it comes.
func (b *base) begin(r Round) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.hearing, b.left = nil, 0
	b.out = 0
	b.lacks(r.Expect, func(stream int, seq uint64) {
		if b.left++; b.corrupted(stream, seq) {
			b.out++
		}
	})
	b.hearing = r.Expect
}

// over ends the hearing of a round: what is expected of the next one changes as it plays.
func (b *base) over() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.hearing = nil
}

// lacks calls f for every expected message that was not found yet. The caller holds mu.
func (b *base) lacks(e Expect, f func(stream int, seq uint64)) {
	for _, s := range b.catalog.Fleet.Streams {
		if !b.sees(s.Device) {
			continue
		}
		from, to := b.window(e, s.Index)
		for seq := from; seq < to; seq++ {
			if !b.has(s.Index, seq) && !e.Excused(s.Index, seq) {
				f(s.Index, seq)
			}
		}
	}
}

// corrupted tells whether a message must not be found.
func (b *base) corrupted(stream int, seq uint64) bool {
	return b.catalog.Corrupted != nil && b.catalog.Corrupted(stream, seq)
}

// Awaited implements Witness.
func (b *base) Awaited() int {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.left
}

// StayOut implements Witness.
func (b *base) StayOut() int {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.out
}

// Seen implements Witness.
func (b *base) Seen() int {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.seen
}

// New makes the witness of a file; page is where it writes.
func New(spec *crowd.Witness, index int, c *Catalog, page *ledger.Page) (Witness, error) {
	b := &base{spec: spec, index: index, page: page, catalog: c}
	if err := b.hears(); err != nil {
		return nil, err
	}
	if spec.Asks() {
		q, err := newPoller(b)
		if err != nil {
			return nil, err
		}
		switch {
		case spec.SQL != nil:
			q.source, err = newStore(spec, c)
		case spec.File != "":
			q.source = newFiles(spec, c)
		case len(spec.Program) > 0:
			q.source = newProgram(spec, c)
		default:
			q.source, err = newQuery(spec, c)
		}
		return q, err
	}
	e, err := newListener(b)
	switch {
	case err != nil:
	case spec.Callback != nil:
		e.source, err = newCallback(spec, c)
	default:
		e.source, err = newSubscription(spec, c)
	}
	return e, err
}

// pick compiles an expression; nil for an empty one.
func pick(into **jq.Query, source string) (err error) {
	if source != "" {
		*into, err = jq.Parse(source)
	}
	return err
}

// fill adds to a sighting what the file's jq expressions pick out of a row; columns says
// that what it picks may be a column of text.
func fill(x *ledger.Sighting, row any, columns bool, device, reading, at, values *jq.Query) {
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
		if s, is := v.(string); is && columns { // a column that holds an object as text
			if object, err := strictjson.Decode([]byte(s)); err == nil {
				if _, is := object.(map[string]any); is {
					v = object
				}
			}
		}
		x.Values, _ = json.Marshal(v)
	}
}

func clip(s string) string {
	if r := []rune(s); len(r) > 160 {
		s = string(r[:160]) + "…"
	}
	return foreign.Quote(s)
}

func sleep(ctx Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// part is one message found in a body or row: its mark, as it stands there, and
// its values as JSON has them.
type part struct {
	mark   any
	values any
}

// parts takes a body apart into its messages. Filed is the stream under which it
// was found, or -1; forms are tried in turn where it is not known.
func (c *Catalog) parts(body []byte, filed int) []part {
	forms := c.forms
	json := true
	if filed >= 0 {
		forms, json = nil, c.Fleet.Streams[filed].Form == nil
		if !json {
			forms = []payload.Form{c.Fleet.Streams[filed].Form}
		}
	}
	if json {
		if v, err := strictjson.Decode(body); err == nil {
			if parts, marked := c.objects(v); marked || len(forms) == 0 {
				return parts
			}
		}
	}
	for _, f := range forms {
		found, err := f.Read(body)
		if err != nil {
			continue
		}
		var parts []part
		marked := false
		for _, x := range found {
			parts = append(parts, part{x.Mark, x.Values})
			marked = marked || x.Mark != nil
		}
		if marked || filed >= 0 {
			return parts
		}
	}
	return nil
}

// objects are the messages of a JSON value: of an object, or of a list of them
// where messages are sent in batches.
func (c *Catalog) objects(v any) (parts []part, marked bool) {
	list := []any{v}
	if several, is := v.([]any); is && c.batches {
		list = several
	}
	for _, x := range list {
		p := part{values: x}
		if object, is := x.(map[string]any); is {
			for _, place := range c.places {
				if m, has := strictjson.At(object, place.Name); has && p.mark == nil && place.Place <= crowd.MarkSequence {
					p.mark, marked = m, true
				}
			}
		}
		parts = append(parts, p)
	}
	return parts, marked
}

// markIn is what stands in a value under the name of a mark: a store may keep a property or a
// header in a column.
func (c *Catalog) markIn(v any) (any, bool) {
	for _, place := range c.places {
		if m, has := strictjson.At(v, place.Name); has {
			return m, true
		}
	}
	return nil, false
}

// whose is what a mark says.
type whose struct {
	ledger.Mark
	stream int  // -1: none of the run
	ours   bool // the mark is of this run
	marked bool // it is a mark at all
}

// markOf reads a mark as it rides at one place.
func (c *Catalog) markOf(v any) (w whose) {
	w.stream = -1
	text := ""
	switch x := v.(type) {
	case string:
		if m, err := ledger.ParseMark(x); err == nil {
			return c.whose(m)
		}
		text = x
	case json.Number:
		text = x.String()
	case float64, int:
		text = formula.String(x)
	default:
		return w
	}
	n, err := strconv.ParseUint(text, 10, 64)
	if err != nil || text[0] == '0' && len(text) > 1 {
		return w
	}
	w.marked = true
	if i, seq, ok := c.numbers.Message(n); ok && i < len(c.Fleet.Streams) {
		s := c.Fleet.Streams[i]
		w.Mark, w.stream, w.ours = ledger.Mark{Run: c.Run, Device: s.Device.Name, Reading: s.Reading.Name, Seq: seq}, i, true
	}
	return w
}

// raw finds the mark of a corrupted message that stands anywhere in bytes that cannot be read.
func (c *Catalog) raw(b []byte) (w whose, found bool) {
	w.stream = -1
	if c.Corrupted == nil {
		return w, false
	}
	run := []byte(c.Run + "/")
	for {
		i := bytes.Index(b, run)
		if i < 0 {
			return w, false
		}
		b = b[i:]
		end := bytes.IndexAny(b, "\"'\\<>&,; \t\r\n\x00")
		if end < 0 {
			return w, false // its number may be cut off
		}
		if m, err := ledger.ParseMark(string(b[:end])); err == nil {
			if w = c.whose(m); w.stream >= 0 && c.Corrupted(w.stream, m.Seq) {
				return w, true
			}
		}
		b = b[len(run):]
	}
}

// whose is what a mark that is a text says.
func (c *Catalog) whose(m ledger.Mark) whose {
	return whose{Mark: m, stream: c.stream(m.Device, m.Reading), ours: m.Run == c.Run, marked: true}
}

// timeOf reads a time as platforms tell it: RFC 3339, or a number since 1970 in
// seconds, milliseconds, microseconds or nanoseconds, told apart by its size, with or
// without a fraction.
func timeOf(v any) (time.Time, bool) {
	switch x := v.(type) {
	case string:
		if t, ok := quantity.ParseInstant(x); ok {
			return t, true
		}
		return quantity.ParseUnix(x)
	case json.Number:
		return quantity.ParseUnix(x.String())
	case float64, int:
		return quantity.ParseUnix(formula.String(x))
	}
	return time.Time{}, false
}
