// Package ask asks a platform for rows: over HTTP, in SQL, in files that it exports, of a program.
// A source moves bytes and knows nothing of what rows mean; an Asker asks it about all devices,
// some at once, and hands the rows to who takes them.
package ask

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"runcrowd/internal/clock"
	"runcrowd/internal/database"
	"runcrowd/internal/fleet"
	"runcrowd/internal/ledger"
	"runcrowd/internal/witness/hearing"
	"runcrowd/internal/witness/match"
)

// askers is how many questions are under way at once.
const askers = 8

// Margin widens the asked time for clocks that disagree.
const Margin = time.Minute

// Source is what is asked for rows.
type Source interface {
	// Start makes ready to ask, and asks once, so that a wrong address or secret is told
	// before the run.
	Start(ctx hearing.Context, d *fleet.Device) error
	// Ask asks one question, and hands each page to the cursor's methods: Turn at its first
	// attempt, Begin at each, and Row for each row. It returns when all pages are read, or with
	// the reason why not; ErrUnknown where the platform does not know the device. Several may be
	// asked at once.
	Ask(ctx hearing.Context, q Question) (pages int, err error)
	// Offset is by how much the platform's clock is ahead of ours, as it tells itself; nil
	// where it does not. Decides: it is held against the times of rows, too.
	Offset() (o *ledger.Offset, decides bool)
	Stop()
}

// Question is what is asked for: what was stored of a device in a time, or of all.
type Question struct {
	Device   *fleet.Device
	Group    []*fleet.Device // about which is asked at once
	From, To time.Time
	Cursor   *Cursor
	Whole    bool // all that is there has to be read, also what was read before
}

// Taker takes the rows of one question, in one goroutine.
type Taker interface {
	// Turn begins a page: the one before was read whole.
	Turn(on *Cursor)
	// Begin begins the page again: an attempt to read it failed.
	Begin(on *Cursor)
	// Row takes a row. It counts those of the run in on.Ours, and those of them that this answer
	// had not brought yet in on.Fresh.
	Row(row any, on *Cursor)
	// End tells that all pages were read, or that no more can be. The error is of rows that could
	// not be taken.
	End(on *Cursor) error
}

// Cursor stands in the pages of one question.
type Cursor struct {
	match.Page
	Device *fleet.Device
	taker  Taker
	rows   int // on this page
	all    int // on the pages before it
	own    int // and those of them that are ours
}

// NewCursor makes the cursor of a question about a device.
func NewCursor(d *fleet.Device, t Taker) *Cursor { return &Cursor{Device: d, taker: t} }

// Turn begins a page.
func (s *Cursor) Turn() {
	s.pageEnds()
	s.taker.Turn(s)
	s.Begin()
}

func (s *Cursor) pageEnds() {
	s.all, s.own = s.all+s.rows, s.own+s.Ours
	s.rows, s.Ours = 0, 0
}

// Begin begins the page again: an attempt to read it failed.
func (s *Cursor) Begin() {
	s.rows = 0
	s.Page.Begin()
	s.taker.Begin(s)
}

// Row takes a row.
func (s *Cursor) Row(v any) {
	s.rows++
	s.taker.Row(v, s)
}

// end ends the last page.
func (s *Cursor) end() error {
	s.pageEnds()
	return s.taker.End(s)
}

// stale tells whether the page brought rows of ours, and each of them not for the first
// time.
func (s *Cursor) stale() bool { return s.Ours > 0 && s.Fresh == 0 }

// Answer is what a question about some devices brought.
type Answer struct {
	Devices   []*fleet.Device
	Rows, Own int // in all, and of this run
}

// Asker asks a source. What it asks for may be changed between two questions.
type Asker struct {
	*hearing.Base
	Source
	Since   time.Time     // from which is asked; zero: from where a round began
	Ahead   ledger.Offset // by which the platform's clock is ahead of ours, when it was asked first
	Further time.Duration // by which more is asked for, before and after

	mu    sync.Mutex
	shown map[*fleet.Device]bool // of which rows of the run were shown
}

// New makes an asker of the source that a file names.
func New(b *hearing.Base) (*Asker, error) {
	a := &Asker{Base: b}
	var err error
	switch spec := b.Spec; {
	case spec.SQL != nil:
		a.Source, err = newStore(spec, b.Catalog)
	case spec.File != "":
		a.Source = newFiles(spec, b.Catalog)
	case len(spec.Program) > 0:
		a.Source = newProgram(spec, b.Catalog)
	default:
		a.Source, err = newQuery(spec, b.Catalog)
	}
	return a, err
}

// Ready makes the source ready, by a question about a device.
func (a *Asker) Ready(ctx hearing.Context, d *fleet.Device) error {
	if err := a.Source.Start(ctx, d); err != nil {
		return err
	}
	if o, _ := a.Source.Offset(); o != nil {
		a.Ahead = *o
	}
	return nil
}

// Devices are those to ask about: one stands for all where one question does.
func (a *Asker) Devices() []*fleet.Device {
	var list []*fleet.Device
	for _, d := range a.Catalog.Fleet.Devices {
		if a.Sees(d) || a.Spec.Hears && !d.Elsewhere {
			list = append(list, d)
			if !a.Spec.PerDevice && !a.Spec.InGroups() {
				break
			}
		}
	}
	return list
}

// AsFrom is the time from which to ask for what was stored since t by our clock.
func (a *Asker) AsFrom(t time.Time) time.Time {
	return t.Add(min(0, a.Ahead.Least) - Margin - a.Further)
}

// ErrUnknown is the error for a device that the platform does not know. It may be one that never
// reached it: that is an error only when every answer is one.
var ErrUnknown = errors.New("the platform does not know it")

// errAllUnknown is the error where every answer was one.
var errAllUnknown = errors.New("every question was answered with 404; check get")

// All asks about devices, some at once; rows go to a taker for each question. Whole: all that is
// there has to be read, also what was read before.
func (a *Asker) All(ctx hearing.Context, devices []*fleet.Device, r hearing.Round, whole bool,
	taker func() Taker) (pages int, answers []Answer, err error) {
	g, inner := errgroup.WithContext(ctx)
	g.SetLimit(askers)
	var mu sync.Mutex
	var unknown error
	unknowns, questions := 0, 0
	size := 1 // of a group that is asked about at once
	if a.Spec.InGroups() {
		size = database.MostDevices
	}
	from := a.AsFrom(r.Begin)
	if !a.Since.IsZero() {
		from = a.Since
	}
	for group := range slices.Chunk(devices, size) {
		questions++
		g.Go(func() error {
			on := NewCursor(group[0], taker())
			n, err := a.Source.Ask(inner, Question{group[0], group, from,
				clock.Now().Add(Margin + max(0, a.Ahead.Most) + a.Further), on, whole})
			if wrong := on.end(); err == nil {
				err = wrong
			}
			mu.Lock()
			defer mu.Unlock()
			pages += n
			known := a.knows(group[0], err == nil && on.own > 0)
			if err == nil {
				answers = append(answers, Answer{group, on.all, on.own})
			}
			if errors.Is(err, ErrUnknown) && known {
				return fmt.Errorf("the platform no longer knows %s, of which it showed messages before: %s", group[0].Name, err)
			}
			if errors.Is(err, ErrUnknown) {
				unknown = err
				unknowns++
				return nil
			}
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return pages, answers, err
	}
	if unknowns == questions && unknowns > 0 {
		return pages, answers, fmt.Errorf("%w: %w", errAllUnknown, unknown)
	}
	return pages, answers, ctx.Err()
}

// Knows notes that rows of the run were shown of a device, in a hearing of another process.
func (a *Asker) Knows(d *fleet.Device) { a.knows(d, true) }

// knows tells whether rows of the run were shown of a device, in this answer or before.
func (a *Asker) knows(d *fleet.Device, now bool) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	if now {
		if a.shown == nil {
			a.shown = map[*fleet.Device]bool{}
		}
		a.shown[d] = true
	}
	return a.shown[d]
}

// Old asks for what is there before the run.
func (a *Asker) Old(ctx hearing.Context, devices []*fleet.Device, n int, taker func() Taker) error {
	asking, cancel := context.WithTimeout(ctx, max(a.Spec.Wait, 10*time.Second))
	defer cancel()
	_, _, err := a.All(asking, devices, hearing.Round{N: n, Begin: clock.Now()}, true, taker)
	if errors.Is(err, ErrUnknown) {
		return nil
	}
	return err
}

// patiently asks for a page until it is answered: one that is busy, or that limits
// questions, is asked again while there is time. Ask tells whether its error passes, and
// after what time, where that is known.
func patiently(ctx hearing.Context, on *Cursor, ask func() (passes bool, after time.Duration, err error)) error {
	pause := 200 * time.Millisecond
	for {
		on.Begin()
		passes, wait, err := ask()
		if err == nil || !passes || ctx.Err() != nil {
			return err
		}
		wait = max(wait, pause)
		pause = min(2*pause, 5*time.Second)
		if deadline, is := ctx.Deadline(); is && time.Until(deadline) < wait {
			hearing.Sleep(ctx, time.Until(deadline))
			return err // it says more than that the time is over
		}
		hearing.Sleep(ctx, wait)
	}
}

// Room is how long a hearing may ask about so many devices.
func (a *Asker) Room(devices int) time.Duration {
	room := a.Spec.Wait
	if a.Spec.Pace > 0 { // asking about each of them takes its time
		room += time.Duration(float64(devices) / float64(a.Spec.Pace) * float64(time.Second))
	}
	return room
}

// Clock notes by how much the platform's clock is ahead of ours, where that decides something.
func (a *Asker) Clock() {
	if o, decides := a.Source.Offset(); o != nil && decides {
		a.Page.Clock(a.Index, o.Least, o.Most)
	}
}

// WhyNot says why a witness was not heard to the end: its last question had an error.
func WhyNot(ctx hearing.Context, err error, room time.Duration, pages int) string {
	switch {
	case ctx.Err() != nil:
		return "the hearing was cut short"
	case errors.Is(err, context.DeadlineExceeded):
		return fmt.Sprintf("it was not read to the end within %s: %d pages had been read; raise wait, or ask for "+
			"larger pages", room.Round(time.Millisecond), pages)
	}
	return err.Error()
}
